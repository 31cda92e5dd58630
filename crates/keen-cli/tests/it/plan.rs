//! `keen plan`, as built: its scripts are carried out by hand here, and taken back.

use std::fs;

use crate::common::{Folder, table};
use rusqlite::Connection;
use serde_json::{Value as Json, json};

/// Runs a script as the SQLite shell does without `-bail`: statement by
/// statement, going on after an error.
fn run_without_bail(folder: &Folder, file: &str, script: &str) -> Vec<String> {
    let connection = Connection::open(folder.path(file)).unwrap();
    let mut errors = Vec::new();
    let mut statement = String::new();
    for line in script.lines().filter(|line| !line.starts_with("--")) {
        statement.push_str(line);
        statement.push('\n');
        if line.ends_with(';') || line.contains("; --") {
            if let Err(error) = connection.execute_batch(&statement) {
                errors.push(error.to_string());
            }
            statement.clear();
        }
    }
    errors
}

fn script(folder: &Folder, node: &str, kind: &str) -> Option<String> {
    fs::read_to_string(folder.path(&format!("out/{node}.{kind}.sql"))).ok()
}

/// Writes the scripts and carries out those of one kind on every node that has one.
fn carry_out(folder: &Folder, nodes: &[&str], kind: &str) {
    for node in nodes {
        if let Some(script) = script(folder, node, kind) {
            folder.sql(&format!("{node}.db"), &script);
        }
    }
}

fn dump(folder: &Folder, files: &[&str], sql: &str) -> Vec<Vec<String>> {
    let rows = |file: &&str| {
        let connection = Connection::open(folder.path(file)).unwrap();
        let mut statement = connection.prepare(sql).unwrap();
        let columns = statement.column_count();
        let rows = statement.query_map([], |row| {
            Ok((0..columns)
                .map(|i| format!("{:?}", row.get_ref(i).unwrap()))
                .collect::<Vec<_>>()
                .join("|"))
        });
        rows.unwrap().map(Result::unwrap).collect()
    };
    files.iter().map(rows).collect()
}

const RIGHT: &str = "[authority]\ndefault = \"b\"";

#[test]
fn repair_makes_nodes_equal_and_undo_brings_them_back() {
    let folder = Folder::mesh(3, &["guest", "stay", "line"], RIGHT);
    let files = ["a.db", "b.db", "c.db"];
    folder.sql_all(
        &files,
        "CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT, card BLOB, score REAL);
         CREATE TABLE stay (id INTEGER PRIMARY KEY, guest INTEGER NOT NULL REFERENCES guest ON DELETE CASCADE, note);
         CREATE TABLE line (txt);
         INSERT INTO guest VALUES (1, 'Aina', x'00ff', 0.1), (2, 'Bero', NULL, 9e999), (3, 'it''s', x'', -0.5);
         INSERT INTO stay VALUES (1, 1, 'a'), (2, 2, ''), (3, 3, NULL);
         INSERT INTO line VALUES ('x'), ('x');",
    );
    folder.sql("a.db", "UPDATE guest SET name = 'Ai' || char(10) || 'na', score = 1e-7 WHERE id = 1; DELETE FROM stay WHERE id = 3; DELETE FROM guest WHERE id = 3");
    folder.sql("b.db", "INSERT INTO guest VALUES (9, 'surplus', x'01', 3.0); INSERT INTO stay VALUES (9, 9, CAST(x'ff' AS TEXT))");
    folder.sql("c.db", "UPDATE stay SET note = NULL WHERE id = 2; DELETE FROM line");
    let all = "SELECT 'g', id, name, card, score FROM guest UNION ALL SELECT 's', id, guest, note, NULL FROM stay UNION ALL SELECT 'l', txt, NULL, NULL, NULL FROM line ORDER BY 1, 2";
    let before = dump(&folder, &files, all);
    assert_eq!(folder.audit_json().0, 1);
    let untouched = folder.snapshot();

    let run = folder.keen(&["plan", "--format", "sql", "--output", "out"]);
    assert_eq!(run.code, 1, "{run:?}");
    for file in files {
        assert_eq!(
            fs::read(folder.path(file)).unwrap(),
            untouched[&folder.path(file)],
            "plan executes nothing"
        );
    }
    // FKs are on in this connection, with cascades: the script must not be hurt by them.
    carry_out(&folder, &["a", "b", "c"], "repair");
    let (code, json) = folder.audit_json();
    assert_eq!(code, 0, "{json}");
    carry_out(&folder, &["a", "b", "c"], "undo");
    assert_eq!(dump(&folder, &files, all), before);
}

#[test]
fn texts_of_very_many_lines_are_written_and_taken_back() {
    let folder = Folder::mesh(2, &["notice"], "[authority]\ndefault = \"a\"");
    let files = ["a.db", "b.db"];
    folder.sql_all(&files, "CREATE TABLE notice (id INTEGER PRIMARY KEY, txt TEXT)");
    // SQLite takes expressions up to 1000 levels deep, and may be built to take no more than 127 arguments.
    let lines = |one: &str| {
        format!(
            "WITH RECURSIVE n (i, t) AS (SELECT 1, '' UNION ALL SELECT i + 1, t || i || {one} FROM n WHERE i < 3000) \
             SELECT t FROM n ORDER BY i DESC LIMIT 1"
        )
    };
    let (breaks, blank) = (lines("char(10)"), "replace(printf('%3000s', ''), ' ', char(13, 10))");
    folder
        .sql("a.db", &format!("INSERT INTO notice VALUES (1, ({breaks})), (2, {blank}), (3, 'x')"));
    folder.sql(
        "b.db",
        &format!("INSERT INTO notice VALUES (2, ({breaks})), (3, {blank}), (4, {blank})"),
    );
    let all = "SELECT * FROM notice ORDER BY 1";
    let before = dump(&folder, &files, all);
    assert_eq!(folder.keen(&["plan", "--format", "sql", "--output", "out"]).code, 1);
    carry_out(&folder, &["b"], "repair");
    let now = dump(&folder, &files, all);
    assert_eq!((&now[0], &now[1]), (&before[0], &before[0]));
    carry_out(&folder, &["b"], "undo");
    assert_eq!(dump(&folder, &files, all), before);
}

#[test]
fn parents_come_before_children_and_go_after_them() {
    let folder = Folder::mesh(3, &["stay", "guest"], RIGHT);
    folder.sql_all(&["a.db", "b.db", "c.db"], "CREATE TABLE guest (id INTEGER PRIMARY KEY); CREATE TABLE stay (id INTEGER PRIMARY KEY, guest INTEGER REFERENCES guest)");
    folder
        .sql_all(&["b.db", "c.db"], "INSERT INTO guest VALUES (1); INSERT INTO stay VALUES (1, 1)");
    folder.sql("a.db", "INSERT INTO guest VALUES (7); INSERT INTO stay VALUES (7, 7)");
    let plan = folder.keen(&["plan", "--format", "json"]).json();
    let steps: Vec<String> = plan["steps"]
        .as_array()
        .unwrap()
        .iter()
        .map(|s| format!("{} {}", s["op"].as_str().unwrap(), s["table"].as_str().unwrap()))
        .collect();
    assert_eq!(steps, ["insert guest", "insert stay", "delete stay", "delete guest"]);
}

#[test]
fn unique_values_that_are_exchanged_do_not_stop_the_repair() {
    let folder = Folder::mesh(3, &["bunk"], RIGHT);
    let files = ["a.db", "b.db", "c.db"];
    folder.sql_all(
        &files,
        "CREATE TABLE bunk (id INTEGER PRIMARY KEY, place TEXT UNIQUE COLLATE NOCASE, n INTEGER)",
    );
    folder.sql_all(&["b.db", "c.db"], "INSERT INTO bunk VALUES (1, 'window', 1), (2, 'door', 1), (3, 'stove', 1), (4, 'attic', 1)");
    // A ring of three, a row in the way of an insert, and a chain.
    folder.sql("a.db", "INSERT INTO bunk VALUES (1, 'DOOR', 1), (2, 'stove', 1), (3, 'window', 1), (8, 'Attic', 5)");
    let run = folder.keen(&["plan", "--format", "sql", "--output", "out"]);
    assert_eq!(run.code, 1, "{run:?}");
    let before = dump(&folder, &files, "SELECT * FROM bunk ORDER BY id");
    carry_out(&folder, &["a"], "repair");
    assert_eq!(folder.audit_json().0, 0);
    carry_out(&folder, &["a"], "undo");
    assert_eq!(dump(&folder, &files, "SELECT * FROM bunk ORDER BY id"), before);
}

#[test]
fn a_row_that_changed_since_stops_the_whole_script_however_it_is_run() {
    for bail in [true, false] {
        let folder = Folder::mesh(3, &["guest"], RIGHT);
        let files = ["a.db", "b.db", "c.db"];
        folder.sql_all(&files, "CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO guest VALUES (1, 'x'), (2, 'x'), (3, 'x')");
        folder.sql("a.db", "UPDATE guest SET name = 'wrong'");
        folder.keen(&["plan", "--format", "sql", "--output", "out"]);
        folder.sql("a.db", "UPDATE guest SET name = 'meanwhile' WHERE id = 2");
        let script = script(&folder, "a", "repair").unwrap();
        if bail {
            let error = Connection::open(folder.path("a.db"))
                .unwrap()
                .execute_batch(&script)
                .unwrap_err()
                .to_string();
            assert!(error.contains("no longer what the audit saw"), "{error}");
        } else {
            assert!(run_without_bail(&folder, "a.db", &script).len() > 2);
        }
        let rows = dump(&folder, &["a.db"], "SELECT name FROM guest ORDER BY id");
        assert_eq!(
            rows[0],
            [
                "Text([119, 114, 111, 110, 103])",
                "Text([109, 101, 97, 110, 119, 104, 105, 108, 101])",
                "Text([119, 114, 111, 110, 103])"
            ]
        );
    }
}

#[test]
fn a_write_that_is_refused_outright_stops_the_whole_script_too() {
    let folder = Folder::mesh(3, &["guest"], RIGHT);
    let files = ["a.db", "b.db", "c.db"];
    folder.sql_all(&files, "CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO guest VALUES (1, 'x'), (2, 'x')");
    folder.sql("a.db", "UPDATE guest SET name = 'wrong'");
    folder.keen(&["plan", "--format", "sql", "--output", "out"]);
    folder.sql("a.db", "CREATE TRIGGER no BEFORE UPDATE ON guest WHEN old.id = 2 BEGIN SELECT RAISE(ABORT, 'no'); END");
    let errors = run_without_bail(&folder, "a.db", &script(&folder, "a", "repair").unwrap());
    assert!(!errors.is_empty());
    assert_eq!(
        dump(&folder, &["a.db"], "SELECT count(*) FROM guest WHERE name = 'wrong'")[0],
        ["Integer(2)"]
    );
}

#[test]
fn a_write_that_cannot_even_be_prepared_stops_it_as_well() {
    let folder = Folder::mesh(3, &["bed", "guest"], RIGHT);
    let files = ["a.db", "b.db", "c.db"];
    folder.sql_all(&files, "CREATE TABLE bed (id INTEGER PRIMARY KEY, kind TEXT); INSERT INTO bed VALUES (1, 'x'); CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO guest VALUES (1, 'x')");
    folder.sql("a.db", "UPDATE bed SET kind = 'wrong'; UPDATE guest SET name = 'wrong'");
    folder.keen(&["plan", "--format", "sql", "--output", "out"]);
    folder.sql("a.db", "ALTER TABLE guest RENAME COLUMN name TO called");
    let errors = run_without_bail(&folder, "a.db", &script(&folder, "a", "repair").unwrap());
    assert!(errors[0].contains("no such column"), "{errors:?}");
    assert_eq!(
        dump(&folder, &["a.db"], "SELECT count(*) FROM bed WHERE kind = 'wrong'")[0],
        ["Integer(1)"]
    );
}

#[test]
fn a_value_that_only_changed_its_kind_is_a_change() {
    for (before, after) in [("1", "1.0"), ("'1'", "x'31'"), ("'a'", "'A'")] {
        let folder = Folder::mesh(3, &["t"], RIGHT);
        folder.sql_all(&["a.db", "b.db", "c.db"], "CREATE TABLE t (id INTEGER PRIMARY KEY, v COLLATE NOCASE, w); INSERT INTO t VALUES (1, NULL, 'right')");
        folder.sql("a.db", &format!("UPDATE t SET v = {before}, w = 'wrong'"));
        folder.keen(&["plan", "--format", "sql", "--output", "out"]);
        folder.sql("a.db", &format!("UPDATE t SET v = {after}"));
        let error = Connection::open(folder.path("a.db"))
            .unwrap()
            .execute_batch(&script(&folder, "a", "repair").unwrap());
        assert!(
            error.unwrap_err().to_string().contains("no longer what the audit saw"),
            "{before} became {after}"
        );
    }
}

#[test]
fn rows_that_refer_to_rows_of_their_own_table_come_after_them() {
    let folder = Folder::mesh(3, &["guest"], RIGHT);
    let files = ["a.db", "b.db", "c.db"];
    folder.sql_all(
        &files,
        "CREATE TABLE guest (id INTEGER PRIMARY KEY, invited_by INTEGER REFERENCES guest)",
    );
    folder.sql_all(&files[1..], "INSERT INTO guest VALUES (1, 9), (5, 1), (9, NULL)");
    folder.sql("a.db", "INSERT INTO guest VALUES (2, NULL), (3, 2), (4, 3)");
    let plan = folder.keen(&["plan", "--format", "json"]).json();
    let steps: Vec<String> = plan["steps"]
        .as_array()
        .unwrap()
        .iter()
        .map(|s| format!("{} {}", s["op"].as_str().unwrap(), s["key"]["id"]))
        .collect();
    assert_eq!(steps, ["insert 9", "insert 1", "insert 5", "delete 4", "delete 3", "delete 2"]);
}

#[test]
fn the_document_has_everything_a_reviewer_needs() {
    let folder = Folder::mesh(3, &["guest"], RIGHT);
    folder.sql_all(&["a.db", "b.db", "c.db"], "CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT, n INTEGER); INSERT INTO guest VALUES (9007199254740993, 'x', 1)");
    folder.sql(
        "c.db",
        "UPDATE guest SET name = 'y'; CREATE TRIGGER log AFTER INSERT ON guest BEGIN SELECT 1; END",
    );
    let plan = folder.keen(&["plan", "--format", "json"]).json();
    assert_eq!(
        (&plan["keen"], &plan["version"], &plan["complete"]),
        (&json!("plan"), &json!(2), &json!(true))
    );
    let step = &plan["steps"][0];
    assert_eq!((&step["node"], &step["op"]), (&json!("c"), &json!("update")));
    let id = json!({"int": "9007199254740993"});
    assert_eq!(step["before"], json!({"id": id, "name": "y", "n": 1}));
    assert_eq!(step["after"], json!({"id": id, "name": "x", "n": 1}));
    assert_eq!(step["key"], json!({"id": id}));
    assert_eq!(step["reason"], "b is right by rule");
    assert_eq!(step["loses"], "name");
    assert_eq!(
        step["guard"],
        json!([{"nodes": ["a", "b"], "row": "after"}, {"nodes": ["c"], "row": "before"}])
    );
}

#[test]
fn an_audit_kept_as_a_file_gives_the_same_plan() {
    let folder = Folder::mesh(3, &["guest", "line"], RIGHT);
    folder.sql_all(&["a.db", "b.db", "c.db"], "CREATE TABLE guest (id PRIMARY KEY, v); CREATE TABLE line (txt); INSERT INTO guest VALUES (1, 9007199254740993), (2.5, 1.0), ('3', x'00'), (NULL, 1)");
    folder.sql("b.db", "UPDATE guest SET v = CAST(x'ff' AS TEXT); INSERT INTO line VALUES ('9007199254740993'), (9007199254740993), (9e999)");
    folder.keen(&["audit", "--format", "json", "--output", "audit.json"]);
    let strip = |mut plan: Json| {
        plan["started"] = Json::Null;
        plan["seconds"] = Json::Null;
        plan["audited"] = Json::Null;
        plan
    };
    let now = strip(folder.keen(&["plan", "--format", "json"]).json());
    let kept = strip(folder.keen(&["plan", "--format", "json", "--audit", "audit.json"]).json());
    assert_eq!(now, kept);
    // Also where somebody's tool put its members in another order, and up to a limit.
    let mut other: Json =
        serde_json::from_str(&std::fs::read_to_string(folder.path("audit.json")).unwrap()).unwrap();
    for table in other["tables"].as_array_mut().unwrap() {
        let table = table.as_object_mut().unwrap();
        let rows = table.shift_remove("divergent").unwrap();
        table.shift_insert(0, "divergent".to_owned(), rows);
    }
    std::fs::write(folder.path("other.json"), other.to_string()).unwrap();
    let from = |file: &str, more: &[&str]| {
        let args = [&["plan", "--format", "json", "--audit", file], more].concat();
        strip(folder.keen(&args).json())
    };
    assert_eq!(from("other.json", &[]), now);
    let few = from("audit.json", &["--limit", "3"]);
    assert_eq!(few, from("other.json", &["--limit", "3"]));
    assert_eq!(few, strip(folder.keen(&["plan", "--format", "json", "--limit", "3"]).json()));
    assert!(few["notes"].to_string().contains("not in this plan (--limit 3)"), "{few:#}");
    assert!(now["steps"].as_array().unwrap().len() >= 7, "{now}");
    // From a kept audit one node alone can be planned for.
    let steps = |node: &str| {
        let run =
            folder.keen(&["plan", "--format", "json", "--audit", "audit.json", "--node", node]);
        run.json()["steps"].as_array().unwrap().len()
    };
    assert_eq!(steps("b"), 0, "it is right");
    assert_eq!(steps("a") + steps("c"), now["steps"].as_array().unwrap().len());
}

#[test]
fn what_only_one_node_has_is_never_outvoted() {
    let folder = Folder::mesh(3, &["guest"], "[authority]\ndefault = \"majority\"");
    folder.sql_all(&["a.db", "b.db", "c.db"], "CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT, address TEXT); INSERT INTO guest VALUES (1, 'Ida', 'old'), (2, 'Bero', NULL), (4, 'Dora', 'x')");
    folder.sql("a.db", "UPDATE guest SET address = 'new' WHERE id = 1; INSERT INTO guest VALUES (3, 'Only here', NULL); DELETE FROM guest WHERE id = 4");
    folder.sql_all(&["b.db", "c.db"], "UPDATE guest SET address = 'known' WHERE id = 2");
    let plan = folder.keen(&["plan", "--format", "json"]).json();
    // What is missing is filled in; a new address and a person whom two have not heard of are asked about.
    let of = |list: &str| -> Vec<i64> {
        plan[list].as_array().unwrap().iter().map(|s| s["key"]["id"].as_i64().unwrap()).collect()
    };
    assert_eq!(of("questions"), [1, 3], "{plan:#}");
    let mut steps = of("steps");
    steps.sort_unstable();
    assert_eq!(steps, [2, 4]);
    assert!(plan["steps"].as_array().unwrap().iter().all(|step| step["loses"].is_null()));
    let why = plan["questions"][0]["why"].as_str().unwrap();
    assert!(why.contains("address on a would be lost, which none of them has"), "{why}");
}

#[test]
fn what_the_rules_cannot_decide_is_a_question() {
    for (authority, nodes, words) in [
        ("[authority]\ndefault = \"majority\"", 2, "more than half"),
        ("[authority]\nguest = \"ask\"", 3, "\"ask\""),
        ("[authority]\nguest = \"latest\"", 3, "it is not known when this row was written"),
        ("[authority]\nguest = \"home\"", 3, "cannot tell yet"),
        ("", 3, "\"ask\""),
    ] {
        let folder = Folder::mesh(nodes, &["guest"], authority);
        folder.sql_all(&["a.db", "b.db", "c.db"][..nodes], "CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT, n INTEGER); INSERT INTO guest VALUES (1, 'x', 1)");
        folder.sql("b.db", "UPDATE guest SET name = 'y'");
        let run = folder.keen(&["plan", "--format", "json"]);
        let plan = run.json();
        assert_eq!(
            (run.code, &plan["summary"]),
            (1, &json!({"steps": 0, "questions": 1})),
            "{authority}"
        );
        let question = &plan["questions"][0];
        assert!(question["why"].as_str().unwrap().contains(words), "{question}");
        assert_eq!(question["choices"].as_array().unwrap().len(), 2);
        assert!(
            question["choices"][0]["loses"].as_str().unwrap().contains("name on"),
            "{question}"
        );
        assert!(folder.keen(&["plan"]).out.contains("keep"));
    }
}

#[test]
fn a_node_can_be_right_by_rule() {
    let folder = Folder::mesh(3, &["guest"], "[authority]\nguest = \"b\"");
    folder.sql_all(
        &["a.db", "b.db", "c.db"],
        "CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO guest VALUES (1, 'x')",
    );
    folder.sql("b.db", "UPDATE guest SET name = 'y'; INSERT INTO guest VALUES (2, 'z')");
    folder.keen(&["plan", "--format", "sql", "--output", "out"]);
    carry_out(&folder, &["a", "b", "c"], "repair");
    assert!(script(&folder, "b", "repair").is_none());
    assert_eq!(dump(&folder, &["a.db"], "SELECT id, name FROM guest")[0].len(), 2);
    assert_eq!(folder.audit_json().0, 0);
}

#[test]
fn copies_outvote_nobody_they_only_received_from() {
    let folder = Folder::new(
        "name = \"star\"\n[node.office]\nat = \"sqlite:a.db\"\nwrites = true\n[node.east]\nat = \"sqlite:b.db\"\n[node.west]\nat = \"sqlite:c.db\"
        [set.s]\ntables = [\"t\"]\n[[link]]\nfrom = \"office\"\nto = [\"east\", \"west\"]\ncarries = [\"s\"]\n[authority]\ndefault = \"majority\"",
    );
    folder.sql_all(&["a.db", "b.db", "c.db"], "CREATE TABLE t (id INTEGER PRIMARY KEY, v)");
    folder.sql_all(&["b.db", "c.db"], "INSERT INTO t VALUES (1, 'on both boards')");
    folder.sql("b.db", "INSERT INTO t VALUES (2, 'on one board')");
    let plan = folder.keen(&["plan", "--format", "json"]).json();
    assert_eq!(plan["steps"].as_array().unwrap().len(), 1, "{plan}");
    assert_eq!(
        (&plan["steps"][0]["op"], &plan["steps"][0]["node"]),
        (&json!("delete"), &json!("east"))
    );
    assert!(
        plan["questions"][0]["why"].as_str().unwrap().contains("most copies"),
        "a source that lost a row is asked about: {plan}"
    );
}

#[test]
fn a_deletion_that_would_lose_what_the_set_does_not_carry_is_asked_about() {
    let folder = Folder::new(
        "name = \"star\"\n[node.a]\nat = \"sqlite:a.db\"\nwrites = true\n[node.b]\nat = \"sqlite:b.db\"
        [set.s]\ntables = [\"t\"]\ncolumns = [\"v\"]\n[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"s\"]\n[authority]\ndefault = \"a\"",
    );
    folder
        .sql("a.db", "CREATE TABLE t (id INTEGER PRIMARY KEY, v); INSERT INTO t VALUES (2, 'new')");
    folder.sql("b.db", "CREATE TABLE t (id INTEGER PRIMARY KEY, v, remark, must TEXT NOT NULL); INSERT INTO t VALUES (1, 'x', 'precious', '')");
    let plan = folder.keen(&["plan", "--format", "json"]).json();
    assert_eq!(plan["summary"], json!({"steps": 0, "questions": 2}));
    assert!(
        plan["questions"][0]["why"].as_str().unwrap().contains("would lose remark, must"),
        "{plan}"
    );
    assert!(
        plan["questions"][1]["why"].as_str().unwrap().contains("needs a value for must"),
        "{plan}"
    );
}

#[test]
fn a_plan_from_part_of_an_audit_says_so() {
    let folder = Folder::mesh(3, &["guest"], RIGHT);
    folder.sql_all(&["a.db", "b.db", "c.db"], "CREATE TABLE guest (id INTEGER PRIMARY KEY)");
    folder.sql("a.db", "INSERT INTO guest VALUES (1), (2), (3)");
    folder.keen(&["audit", "--format", "json", "--show", "2", "--output", "audit.json"]);
    let plan = folder.keen(&["plan", "--audit", "audit.json", "--format", "json"]).json();
    assert_eq!((&plan["complete"], &plan["summary"]["steps"]), (&json!(false), &json!(2)));
    let plan = folder.keen(&["plan", "--limit", "1", "--format", "json"]).json();
    assert_eq!((&plan["complete"], &plan["summary"]["steps"]), (&json!(false), &json!(1)));
    assert!(plan["notes"][0].as_str().unwrap().contains("2 more divergent rows"), "{plan}");
}

#[test]
fn nothing_to_do_is_said() {
    let folder = Folder::mesh(2, &["guest"], RIGHT);
    folder.sql_all(&["a.db", "b.db"], "CREATE TABLE guest (id INTEGER PRIMARY KEY)");
    let run = folder.keen(&["plan"]);
    assert_eq!(run.code, 0);
    assert!(run.out.contains("nothing to do"), "{}", run.out);
    let (_, json) = folder.audit_json();
    assert_eq!(table(&json, 0)["verdict"], json!("agrees"));
}

#[test]
fn what_is_no_audit_is_refused() {
    let folder = Folder::mesh(2, &["guest"], RIGHT);
    folder.sql_all(
        &["a.db", "b.db"],
        "CREATE TABLE guest (id INTEGER PRIMARY KEY); INSERT INTO guest VALUES (1)",
    );
    folder.sql("b.db", "DELETE FROM guest");
    folder.keen(&["audit", "--format", "json", "--output", "audit.json"]);
    let good = fs::read_to_string(folder.path("audit.json")).unwrap();
    let cases = [
        (good[..good.len() / 2].to_owned(), "not a complete audit"),
        ("[]".to_owned(), "not a complete audit"),
        (good.replace("\"version\": 2", "\"version\": 99"), "version 99"),
        (good.replace("\"keen\": \"audit\"", "\"keen\": \"plan\""), "not an audit"),
        (good.replace("\"topology\": \"test\"", "\"topology\": \"other\""), "\"other\""),
        (good.replace("\"nodes\":[\"a\"]", "\"nodes\":[\"zz\"]"), "zz"),
        (good.replace("\"row\":{\"id\":1}", "\"row\":{}"), "lacks column id"),
        (
            good.replace("\"row\":{\"id\":1}", "\"row\":{\"id\":{\"marmot\":1}}"),
            "no value keen writes",
        ),
    ];
    for (text, words) in cases {
        fs::write(folder.path("bad.json"), &text).unwrap();
        let run = folder.keen(&["plan", "--audit", "bad.json"]);
        assert_eq!(run.code, 2, "{words}: {run:?}");
        assert!(run.err.contains(words), "{words}: {}", run.err);
    }
    assert_eq!(folder.keen(&["plan", "--audit", "nowhere.json"]).code, 2);
    let run = folder.keen(&["plan", "--format", "sql"]);
    assert!(run.code == 2 && run.err.contains("--output"), "{run:?}");
}

#[test]
fn a_table_in_two_sets_is_mended_in_two_rounds_and_the_first_says_so() {
    let folder = Folder::new(
        "name = \"two-sets\"
        [node.a]\nat = \"sqlite:a.db\"\nwrites = true
        [node.b]\nat = \"sqlite:b.db\"\nwrites = true
        [node.c]\nat = \"sqlite:c.db\"\nwrites = true
        [node.board]\nat = \"sqlite:d.db\"
        [set.whole]\ntables = [\"notice\"]
        [set.shown]\ntables = [\"notice\"]\nwhere = \"published\"\nwithout = [\"draft\"]
        [[link]]\nmesh = [\"a\", \"b\", \"c\"]\ncarries = [\"whole\"]
        [[link]]\nfrom = \"a\"\nto = \"board\"\ncarries = [\"shown\"]
        [authority]\ndefault = \"majority\"",
    );
    let files = ["a.db", "b.db", "c.db", "d.db"];
    folder.sql_all(&files[..3], "CREATE TABLE notice (id INTEGER PRIMARY KEY, txt, published, draft); INSERT INTO notice VALUES (1, 'open', 1, 'd'), (2, 'open', 1, 'd')");
    folder.sql("d.db", "CREATE TABLE notice (id INTEGER PRIMARY KEY, txt, published); INSERT INTO notice VALUES (1, NULL, 1), (2, 'wrong', 1)");
    // The board has what a wrongly holds of one row, and something else of the other.
    folder.sql("a.db", "UPDATE notice SET txt = NULL");
    let mut rounds = 0;
    let mut notes = Vec::new();
    while folder.audit_json().0 == 1 {
        rounds += 1;
        assert!(rounds < 4, "it ends");
        let plan = folder.keen(&["plan", "--format", "json"]).json();
        assert_eq!(plan["questions"], json!([]));
        notes.push(plan["notes"].to_string());
        fs::remove_dir_all(folder.path("out")).unwrap_or_default();
        folder.keen(&["plan", "--format", "sql", "--output", "out"]);
        for (node, file) in ["a", "b", "c", "board"].iter().zip(files) {
            if let Some(script) = script(&folder, node, "repair") {
                folder.sql(file, &script);
            }
        }
    }
    assert_eq!(rounds, 2);
    assert!(
        notes[0].contains("also carried by set shown")
            && notes[0].contains("1 divergent row of notice"),
        "{notes:?}"
    );
    assert_eq!(notes[1], "[]");
    assert_eq!(dump(&folder, &["d.db"], "SELECT txt FROM notice WHERE txt = 'open'")[0].len(), 2);
}
