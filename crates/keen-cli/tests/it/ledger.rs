//! The ledger: kept beside the topology file, shared by runs, never needed for an answer.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;

use crate::common::Folder;
use keen_lab::Lab;
use rusqlite::Connection;

fn folder() -> Folder {
    let folder = Folder::mesh(2, &["t"], "");
    folder.sql_all(
        &["a.db", "b.db"],
        "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'x'), (2, 'y')",
    );
    folder
}

#[test]
fn runs_are_kept_and_shown_as_text_json_and_csv() {
    let folder = folder();
    assert_eq!(folder.keen(&["audit"]).code, 0);
    folder.sql("b.db", "UPDATE t SET v = 'z' WHERE id = 2");
    assert_eq!(folder.keen(&["audit"]).code, 1);
    assert_eq!(folder.keen(&["flow", "--interval", "0s"]).code, 3, "files tell nothing of links");
    folder.keen(&["preflight"]);
    let runs = folder.keen(&["history", "--format", "json"]).json();
    let commands: Vec<&str> = runs["history"]
        .as_array()
        .unwrap()
        .iter()
        .map(|run| run["command"].as_str().unwrap())
        .collect();
    assert_eq!(commands, ["preflight", "flow", "audit", "audit"]);
    assert_eq!(runs["history"][2]["exit"], 1);
    assert_eq!(runs["history"][2]["summary"], "0 of 1 tables agree, 1 divergent");
    let table = folder.keen(&["history", "t", "--format", "csv"]);
    let lines: Vec<&str> = table.out.lines().collect();
    assert_eq!(lines[0], "at,set,verdict,rows,divergent,in_flight,moving,healed");
    assert!(
        lines[1].ends_with(",s,diverges,4,1,0,0,0") && lines[2].ends_with(",s,agrees,4,0,0,0,0"),
        "{lines:?}"
    );
    let text = folder.keen(&["history", "t"]);
    assert!(text.out.contains("diverges") && text.out.contains("\u{25a0}"), "{}", text.out);
    let link = folder.keen(&["history", "a:b"]);
    assert!(link.out.contains("a -> b") && link.out.contains("dark"), "{}", link.out);
    // For this account only: messages of servers may name keys of rows.
    let mode = fs::metadata(folder.path("keen.ledger")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o600);
    // Elsewhere, or nowhere.
    assert_eq!(folder.keen(&["audit", "--ledger", "other.ledger"]).code, 1);
    assert!(folder.path("other.ledger").is_file());
    folder.keen(&["audit", "--no-ledger"]);
    let count = |runs: &serde_json::Value| runs["history"].as_array().unwrap().len();
    assert_eq!(count(&folder.keen(&["history", "--format", "json"]).json()), 4);
    assert_eq!(count(&folder.keen(&["history", "--last", "2", "--format", "json"]).json()), 2);
    for (args, said) in [
        (vec!["history", "z"], "no link and no table z"),
        (vec!["history", "a"], "name one of its links: a:b, b:a"),
        (vec!["history", "--ledger", "none.ledger"], "there is no ledger none.ledger"),
    ] {
        let run = folder.keen(&args);
        assert_eq!(run.code, 2);
        assert!(run.err.contains(said), "{}", run.err);
    }
}

#[test]
fn a_ledger_that_cannot_be_used_costs_no_answer() {
    let folder = folder();
    // Something else under its name is left as it is.
    for content in ["no database at all", ""] {
        fs::write(folder.path("keen.ledger"), content).unwrap();
        let run = folder.keen(&["audit"]);
        assert_eq!(run.code, 0, "{run:?}");
        if content.is_empty() {
            continue; // an empty file is a new ledger
        }
        assert!(run.err.contains("this run is not recorded"), "{}", run.err);
        assert_eq!(fs::read_to_string(folder.path("keen.ledger")).unwrap(), content);
    }
    // Somebody else's database.
    fs::remove_file(folder.path("keen.ledger")).unwrap();
    folder.sql("keen.ledger", "CREATE TABLE mine (x)");
    let run = folder.keen(&["audit"]);
    assert_eq!(run.code, 0);
    assert!(run.err.contains("not a ledger of keen"), "{}", run.err);
    assert_eq!(folder.keen(&["history"]).code, 2);
    // One of a newer keen.
    fs::remove_file(folder.path("keen.ledger")).unwrap();
    folder.keen(&["audit"]);
    folder.sql("keen.ledger", "PRAGMA user_version = 99");
    let run = folder.keen(&["audit"]);
    assert_eq!(run.code, 0);
    assert!(run.err.contains("have version 99"), "{}", run.err);
    // Locked for good by somebody.
    fs::remove_file(folder.path("keen.ledger")).unwrap();
    folder.keen(&["audit"]);
    let holder = Connection::open(folder.path("keen.ledger")).unwrap();
    holder.execute_batch("BEGIN EXCLUSIVE").unwrap();
    let run = folder.keen(&["audit"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert!(run.err.contains("this run is not recorded"), "{}", run.err);
}

#[test]
fn many_runs_at_once_and_killed_ones_leave_a_whole_ledger() {
    let folder = folder();
    let start = || {
        std::process::Command::new(env!("CARGO_BIN_EXE_keen"))
            .args(["audit"])
            .current_dir(folder.root())
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::piped())
            .spawn()
            .unwrap()
    };
    // Side by side from the first moment, when there is no ledger yet.
    let runs: Vec<_> = (0..8).map(|_| start()).collect();
    for run in runs {
        let output = run.wait_with_output().unwrap();
        assert_eq!(
            (output.status.code(), String::from_utf8_lossy(&output.stderr).as_ref()),
            (Some(0), "")
        );
    }
    let count = || {
        let run = folder.keen(&["history", "--last", "1000", "--format", "json"]);
        run.json()["history"].as_array().unwrap().len()
    };
    assert_eq!(count(), 8);
    for wait in 0..24 {
        let mut run = start();
        std::thread::sleep(std::time::Duration::from_millis(wait * 2));
        run.kill().unwrap();
        run.wait().unwrap();
    }
    let ledger = Connection::open(folder.path("keen.ledger")).unwrap();
    let whole: String = ledger.query_row("PRAGMA integrity_check", [], |row| row.get(0)).unwrap();
    assert_eq!(whole, "ok");
    // Each run has what it came to, or is not there at all.
    let half: i64 = ledger
        .query_row(
            "SELECT count(*) FROM run WHERE id NOT IN (SELECT run FROM audited)",
            [],
            |row| row.get(0),
        )
        .unwrap();
    assert_eq!(half, 0);
    drop(ledger);
    let before = count();
    assert_eq!(folder.keen(&["audit"]).code, 0);
    assert_eq!(count(), before + 1);
}

#[test]
fn one_look_is_held_against_the_last_that_was_kept() {
    let text = crate::common::mesh_text(2, &["t"], "[limits]\ntrailing = \"1s\"");
    let folder = Folder::new("");
    let schema = |_: &str| "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT);".to_owned();
    let mut lab = Lab::create(&folder.path("net"), &text, schema, 1).unwrap();
    let once = |folder: &Folder| {
        folder
            .keen(&["flow", "--interval", "0s", "--topology", "net/keen.toml", "--format", "json"])
            .json()
    };
    let first = once(&folder);
    assert_eq!(first["complete"], false, "there was no look before: {first:#}");
    lab.stick("a", "b").unwrap();
    let cells = vec![("id".to_owned(), rusqlite::types::Value::Integer(1))];
    lab.write("a", &[keen_lab::Change::Insert("t", cells)]).unwrap();
    lab.step().unwrap();
    let second = once(&folder);
    assert_eq!(
        crate::common::flow::states(&second),
        ["idle a>b", "idle b>a"].map(|s| s.replace("idle a>b", "flowing a>b")),
        "{second:#}"
    );
    std::thread::sleep(std::time::Duration::from_millis(1200));
    let third = once(&folder);
    let stuck = crate::common::flow::link(&third, "a", "b");
    assert_eq!(
        (stuck["state"].as_str(), stuck["behind"].as_u64()),
        (Some("stalled"), Some(1)),
        "{third:#}"
    );
    // How late it is, earlier looks tell.
    assert!(stuck["late_seconds"].as_f64().unwrap() >= 1.2, "{stuck:#}");
    lab.resume("a", "b").unwrap();
    lab.settle(10).unwrap();
    assert_eq!(crate::common::flow::link(&once(&folder), "a", "b")["behind"], 0);
}
