//! Wrong input of every kind: a clear error that names the thing and what to
//! do, the rest still checked, nothing that panics.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;

use crate::common::{Folder, Run, table};
use rusqlite::Connection;
use serde_json::json;

const TWO_TABLES: &str = "CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT);
    CREATE TABLE bed (id INTEGER PRIMARY KEY); INSERT INTO guest VALUES (1, 'x');";

fn three() -> Folder {
    let folder = Folder::mesh(3, &["guest", "bed"], "");
    folder.sql_all(&["a.db", "b.db", "c.db"], TWO_TABLES);
    folder
}

/// The run names the node's trouble, says it is incomplete, and compared the others.
fn others_were_compared(folder: &Folder, words: &[&str]) -> Run {
    let (code, json) = folder.audit_json();
    assert_eq!(code, 3, "{json}");
    assert_eq!((&json["complete"], &table(&json, 0)["verdict"]), (&json!(false), &json!("unread")));
    assert_eq!(table(&json, 0)["rows"], json!({"a": 1, "b": 1}), "{json}");
    let run = folder.keen(&["audit", "--connect-timeout", "100ms"]);
    assert_eq!(run.code, 3, "{run:?}");
    assert!(run.out.contains("Incomplete:") && !run.out.contains("All agree"), "{}", run.out);
    for word in words {
        assert!(run.out.contains(word), "{word} in {}", run.out);
    }
    // What is found beside it still counts.
    folder.sql("b.db", "UPDATE guest SET name = 'y'");
    assert_eq!(folder.audit_json().0, 1);
    run
}

#[test]
fn a_missing_file() {
    let folder = three();
    fs::remove_file(folder.path("c.db")).unwrap();
    others_were_compared(&folder, &["c.db does not exist", "correct the node's address"]);
    assert!(!folder.path("c.db").exists(), "and none was made");
}

#[test]
fn a_folder_instead_of_a_file() {
    let folder = three();
    fs::remove_file(folder.path("c.db")).unwrap();
    fs::create_dir(folder.path("c.db")).unwrap();
    others_were_compared(&folder, &["c.db is a folder"]);
}

#[test]
fn not_a_database() {
    let folder = three();
    fs::write(folder.path("c.db"), "bed,guest\n1,2\n".repeat(500)).unwrap();
    others_were_compared(&folder, &["c.db", "not a SQLite database"]);
}

#[test]
fn an_empty_file_has_no_tables() {
    let folder = three();
    fs::write(folder.path("c.db"), "").unwrap();
    others_were_compared(&folder, &["has no table guest", "has no table bed"]);
}

#[test]
fn a_damaged_file() {
    let folder = three();
    let fill = "WITH RECURSIVE n (i) AS (SELECT 2 UNION ALL SELECT i + 1 FROM n WHERE i < 5000) INSERT INTO guest SELECT i, hex(randomblob(40)) FROM n";
    folder.sql("c.db", fill);
    fs::copy(folder.path("c.db"), folder.path("b.db")).unwrap();
    let mut bytes = fs::read(folder.path("c.db")).unwrap();
    let middle = bytes.len() / 2 / 4096 * 4096;
    bytes[middle..middle + 40_960].fill(0xA5);
    fs::write(folder.path("c.db"), bytes).unwrap();
    let run = folder.keen(&["audit", "--node", "b,c"]);
    assert!(run.code == 3 || run.code == 1, "{run:?}");
    assert!(run.out.contains("malformed") && run.out.contains("integrity_check"), "{}", run.out);
    assert!(run.out.contains("Incomplete:"), "{}", run.out);
    // Rows read before the damage are the same: nothing is called divergent for want of the rest.
    assert_eq!(run.code, 3, "{}", run.out);
}

#[test]
fn a_locked_file() {
    let folder = three();
    let writer = Connection::open(folder.path("c.db")).unwrap();
    writer.execute_batch("BEGIN EXCLUSIVE").unwrap();
    let run = folder.keen(&["audit", "--connect-timeout", "100ms"]);
    assert_eq!(run.code, 3, "{run:?}");
    assert!(run.out.contains("locked") && run.out.contains("--connect-timeout"), "{}", run.out);
    assert!(run.out.contains("1 on a, b"), "{}", run.out);
    writer.execute_batch("COMMIT").unwrap();
    assert_eq!(folder.keen(&["audit"]).code, 0);
}

#[test]
fn a_crashed_writer_left_a_journal() {
    let folder = three();
    // The journal of a write that never ended, put back as a crash would leave it.
    let writer = Connection::open(folder.path("c.db")).unwrap();
    writer.execute_batch("PRAGMA cache_size = 1; BEGIN; INSERT INTO guest SELECT value + 10, hex(randomblob(500)) FROM json_each('[1,2,3,4,5,6,7,8,9,10,11,12,13,14,15,16,17,18,19,20]')").unwrap();
    let journal = fs::read(folder.path("c.db-journal")).unwrap();
    let half = fs::read(folder.path("c.db")).unwrap();
    drop(writer);
    fs::write(folder.path("c.db"), &half).unwrap();
    fs::write(folder.path("c.db-journal"), &journal).unwrap();
    let before = folder.snapshot();
    let run = folder.keen(&["audit"]);
    assert_eq!(run.code, 3, "{run:?}");
    assert!(run.out.contains("crashed"), "{}", run.out);
    assert_eq!(folder.snapshot(), before, "the journal is left for its owner");
}

#[test]
fn a_table_is_missing_on_one_node() {
    let folder = three();
    folder.sql("c.db", "DROP TABLE guest");
    let (code, json) = folder.audit_json();
    assert_eq!(code, 3);
    assert_eq!(
        (&table(&json, 0)["verdict"], &table(&json, 1)["verdict"]),
        (&json!("unread"), &json!("agrees"))
    );
    let unread = &table(&json, 0)["unread"]["c"];
    assert!(crate::common::told(unread).contains("no table guest"));
    assert_eq!(unread["kind"], "no_table");
}

#[test]
fn a_column_is_missing_on_one_node() {
    let folder = three();
    folder.sql("c.db", "ALTER TABLE guest DROP COLUMN name");
    others_were_compared(&folder, &["lacks column name, which a has", "without"]);
}

#[test]
fn a_node_has_another_key() {
    let folder = three();
    folder.sql("c.db", "DROP TABLE guest; CREATE TABLE guest (id INTEGER, name TEXT PRIMARY KEY)");
    others_were_compared(&folder, &["its key is (name), on a it is (id)"]);
    folder.sql("c.db", "DROP TABLE guest; CREATE TABLE guest (id INTEGER, name TEXT)");
    assert!(folder.keen(&["audit"]).out.contains("its key is none"));
}

#[test]
fn two_nodes_that_shape_a_table_differently_leave_nothing_to_compare() {
    let folder = Folder::mesh(2, &["guest"], "");
    folder
        .sql("a.db", "CREATE TABLE guest (id INTEGER PRIMARY KEY, name)")
        .sql("b.db", "CREATE TABLE guest (id INTEGER PRIMARY KEY)");
    let (code, json) = folder.audit_json();
    assert_eq!((code, &table(&json, 0)["verdict"]), (3, &json!("unread")));
    assert_eq!(table(&json, 0)["unread"].as_object().unwrap().len(), 2);
}

#[test]
fn views_and_virtual_tables_are_refused_with_a_reason() {
    let folder = three();
    folder.sql("c.db", "DROP TABLE guest; CREATE VIEW guest AS SELECT 1 AS id, 'x' AS name");
    others_were_compared(&folder, &["is a view"]);
}

#[test]
fn a_filter_that_cannot_be_evaluated() {
    let text = crate::common::mesh_text(3, &["guest"], "")
        .replace("tables = [\"guest\"]", "tables = [\"guest\"]\nwhere = \"marmots > 1\"");
    let folder = Folder::new(&text);
    folder.sql_all(&["a.db", "b.db", "c.db"], TWO_TABLES);
    let run = folder.keen(&["audit"]);
    assert_eq!(run.code, 3);
    assert!(run.out.contains("marmots") && run.out.contains("row filter"), "{}", run.out);
}

#[test]
fn a_misspelled_column_in_quotes_is_no_text_that_never_matches() {
    let text = crate::common::mesh_text(2, &["guest"], "")
        .replace("tables = [\"guest\"]", "tables = [\"guest\"]\nwhere = '\"nmae\" = 1'");
    let folder = Folder::new(&text);
    folder.sql_all(&["a.db", "b.db"], TWO_TABLES);
    let run = folder.keen(&["audit"]);
    assert_eq!(run.code, 3, "{run:?}");
    assert!(run.out.contains("nmae"), "{}", run.out);
}

#[test]
fn a_file_that_may_not_be_read() {
    let folder = three();
    fs::set_permissions(folder.path("c.db"), fs::Permissions::from_mode(0o000)).unwrap();
    if fs::File::open(folder.path("c.db")).is_ok() {
        // An administrator may read anything; then the audit simply works.
        assert_eq!(folder.keen(&["audit"]).code, 0);
    } else {
        others_were_compared(&folder, &["let this account read"]);
    }
}

#[test]
fn one_file_under_two_names() {
    let folder = three();
    fs::remove_file(folder.path("c.db")).unwrap();
    std::os::unix::fs::symlink(folder.path("a.db"), folder.path("c.db")).unwrap();
    others_were_compared(&folder, &["is the same file as that of node a"]);
}

#[test]
fn a_server_that_is_not_there() {
    // Nothing listens on port 9, which is set aside for throwing away what is sent to it.
    let text = crate::common::mesh_text(3, &["guest"], "")
        .replace("sqlite:c.db", "postgres://keen@127.0.0.1:9/huts");
    let folder = Folder::new(&text);
    folder.sql_all(&["a.db", "b.db"], TWO_TABLES);
    others_were_compared(&folder, &["could not connect to 127.0.0.1:9", "no server listens there"]);
}

#[test]
fn an_output_that_cannot_be_written() {
    let folder = three();
    fs::create_dir(folder.path("taken")).unwrap();
    for output in ["nowhere/audit.json", "taken", "/proc/audit.json"] {
        for command in ["audit", "plan"] {
            let run = folder.keen(&[command, "--format", "json", "--output", output]);
            assert_eq!(run.code, 2, "{run:?}");
            assert!(run.err.contains(output.trim_end_matches("/audit.json")), "{}", run.err);
        }
    }
    assert!(fs::read_dir(folder.path("taken")).unwrap().next().is_none());
}

#[test]
fn an_output_is_replaced_whole_or_not_at_all() {
    let folder = three();
    fs::write(folder.path("audit.json"), "before").unwrap();
    assert_eq!(
        folder
            .keen(&["audit", "--format", "json", "--output", "audit.json", "--table", "marmot"])
            .code,
        2
    );
    assert_eq!(fs::read_to_string(folder.path("audit.json")).unwrap(), "before");
    assert_eq!(folder.keen(&["audit", "--format", "json", "--output", "audit.json"]).code, 0);
    assert!(
        fs::read_to_string(folder.path("audit.json"))
            .unwrap()
            .starts_with("{\n\"keen\": \"audit\"")
    );
    let left: Vec<_> =
        folder.snapshot().into_keys().filter(|p| p.to_string_lossy().contains(".keen-")).collect();
    assert!(left.is_empty(), "{left:?}");
}

#[test]
fn a_reader_that_went_away_is_no_error() {
    let folder = three();
    folder.sql("a.db", "WITH RECURSIVE n (i) AS (SELECT 10 UNION ALL SELECT i + 1 FROM n WHERE i < 20000) INSERT INTO guest SELECT i, hex(zeroblob(50)) FROM n");
    let command = format!("{} audit --format ndjson | head -n 1", env!("CARGO_BIN_EXE_keen"));
    let output = std::process::Command::new("sh")
        .args(["-c", &command])
        .current_dir(folder.root())
        .output()
        .unwrap();
    assert_eq!(String::from_utf8_lossy(&output.stderr), "");
    assert_eq!(output.stdout.iter().filter(|b| **b == b'\n').count(), 1);
    for arguments in [
        "audit",
        "plan",
        "init ring --output new.toml",
        "completions bash",
        "demo --dir demo",
        "--help",
    ] {
        let _ = fs::remove_dir_all(folder.path("demo"));
        let _ = fs::remove_file(folder.path("new.toml"));
        for end in ["| true", ">&-", ">/dev/full", "2>&-"] {
            let command = format!("{} {arguments} {end}", env!("CARGO_BIN_EXE_keen"));
            let output = std::process::Command::new("sh")
                .args(["-c", &command])
                .current_dir(folder.root())
                .output()
                .unwrap();
            let said = String::from_utf8_lossy(&output.stderr);
            assert!(!said.contains("panicked"), "{command}: {said}");
        }
    }
}

#[test]
fn wrong_arguments() {
    let folder = three();
    for (args, words) in [
        (&["audit", "--topology", "nowhere.toml"][..], "keen init"),
        (&["audit", "--topology", "."], "."),
        (&["audit", "--format", "yaml"], "yaml"),
        (&["audit", "--show", "many"], "many"),
        (&["audit", "--connect-timeout", "soon"], "500ms"),
        (&["marmot"], "marmot"),
        (&[], "Usage"),
    ] {
        let run = folder.keen(args);
        assert_eq!(run.code, 2, "{args:?}: {run:?}");
        assert!(run.err.contains(words), "{args:?}: {}", run.err);
    }
}

#[test]
fn a_table_longer_than_any_batch_and_rows_larger_than_one() {
    let folder = Folder::mesh(2, &["t"], "");
    folder.sql_all(&["a.db", "b.db"], "CREATE TABLE t (id INTEGER PRIMARY KEY, v); INSERT INTO t VALUES (1, zeroblob(3000000)), (2, zeroblob(10)), (3, zeroblob(5000000))");
    assert_eq!(folder.audit_json().0, 0);
    folder.sql("b.db", "UPDATE t SET v = CAST(zeroblob(4999999) || 'x' AS BLOB) WHERE id = 3");
    let run = folder.keen(&["audit"]);
    assert_eq!(run.code, 1);
    assert!(run.out.len() < 5000, "a huge value is not printed whole");
}

#[test]
fn rows_that_cannot_be_kept_make_it_incomplete_and_no_plan() {
    let folder = Folder::mesh(2, &["reading"], "");
    for (file, note) in [("a.db", "x"), ("b.db", "y")] {
        folder.sql(
            file,
            &format!(
                "CREATE TABLE reading (id INTEGER PRIMARY KEY, note TEXT); \
                 WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20000) \
                 INSERT INTO reading SELECT i, printf('%0100d{note}', i) FROM n"
            ),
        );
    }
    let without_room = |args: &[&str]| {
        let output = folder.command(args).env("TMPDIR", "/nonexistent").output().unwrap();
        let text = |bytes| String::from_utf8(bytes).unwrap();
        (output.status.code().unwrap(), text(output.stdout), text(output.stderr))
    };
    for format in ["text", "json", "ndjson"] {
        let (code, out, _) = without_room(&["audit", "--no-ledger", "--format", format]);
        assert_eq!(code, 3, "{out}");
        assert!(out.contains("the folder that TMPDIR names"), "{out}");
        assert!(!out.contains("All agree") && !out.contains("Nothing was found"), "{out}");
        let (code, out, err) = without_room(&["plan", "--format", format]);
        assert_eq!((code, &out[..]), (2, ""), "{err}");
        assert!(err.contains("the folder that TMPDIR names"), "{err}");
    }
    // What is printed helps.
    let args = ["audit", "--no-ledger", "--patience", "0s"];
    assert_eq!(without_room(&args).0, 1);
}

/// Whatever ends with 2 has written nothing that a reader could take for a result, or for a part of one.
#[test]
fn where_there_is_no_result_nothing_is_written() {
    let folder = three();
    let text = fs::read_to_string(folder.path("keen.toml")).unwrap();
    // a and c carry nothing that both have.
    let (nodes, _) = text.split_once("[set.s]").unwrap();
    let sets = "[set.s]\ntables = [\"guest\"]\n[set.t]\ntables = [\"bed\"]\n\
                [[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"s\"]\n[[link]]\nfrom = \"b\"\nto = \"c\"\ncarries = [\"t\"]\n";
    fs::write(folder.path("keen.toml"), format!("{nodes}{sets}")).unwrap();
    for command in ["audit", "plan"] {
        for format in ["text", "json", "ndjson"] {
            let run = folder.keen(&[command, "--node", "a,c", "--format", format]);
            assert_eq!((run.code, &run.out[..]), (2, ""), "{command} {format}: {run:?}");
            assert!(run.err.contains("nothing to compare"), "{run:?}");
        }
    }
    for wrong in [
        &["audit", "--node", "d"][..],
        &["audit", "--table", "hut"],
        &["audit", "--exclude", "guest,bed"],
        &["audit", "--node", "a"],
        &["plan", "--node", "d"],
        &["plan", "--audit", "no.json"],
        &["plan", "--audit", "keen.toml"],
        &["conflicts", "--node", "d"],
        &["conflicts", "--table", "guest", "--key", "x,y,z"],
        &["flow", "--node", "d"],
        &["preflight", "--node", "d"],
        &["preflight", "--join", "d", "--from", "a"],
        &["probe", "--at", "d"],
        &["history", "hut"],
        &["explain", "no such word"],
    ] {
        for format in ["text", "json", "ndjson"] {
            let args = [wrong, &["--format", format]].concat();
            let run = folder.keen(&args);
            assert_eq!((run.code, &run.out[..]), (2, ""), "{args:?}: {run:?}");
            assert!(!run.err.is_empty(), "{args:?}");
        }
    }
}
