//! Plans carried out on files: what is refused before anything is done, what is left out, what is taken back.

use std::collections::BTreeMap;
use std::fs;

use crate::common::Folder;
use crate::common::mending::on_a_small_disk;
use rusqlite::Connection;
use serde_json::{Value as Json, json};

const RIGHT: &str = "[authority]\ndefault = \"b\"\n";

/// Three peers with b right: c lacks row 1, has another row 2, and a row 3 too many.
fn huts() -> Folder {
    let folder = Folder::mesh(3, &["guest"], RIGHT);
    folder.sql_all(
        &["a.db", "b.db", "c.db"],
        "CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT, seen INTEGER); INSERT INTO guest VALUES (1, 'Ida', 1), (2, 'O''Ridge', 2)",
    );
    folder.sql(
        "c.db",
        "DELETE FROM guest WHERE id = 1; UPDATE guest SET name = 'x' WHERE id = 2; INSERT INTO guest VALUES (3, 'Żleb', NULL)",
    );
    let plan = folder.keen(&["plan", "--save", "repair.plan"]);
    assert_eq!(plan.code, 1, "{plan:?}");
    folder
}

fn rows(folder: &Folder, file: &str, sql: &str) -> Vec<Vec<String>> {
    let connection = Connection::open(folder.path(file)).unwrap();
    let mut statement = connection.prepare(sql).unwrap();
    let columns = statement.column_count();
    let cell = |row: &rusqlite::Row<'_>, at: usize| format!("{:?}", row.get_ref(at).unwrap());
    let rows = statement.query_map([], |row| Ok((0..columns).map(|at| cell(row, at)).collect()));
    rows.unwrap().collect::<Result<_, _>>().unwrap()
}

fn guests(folder: &Folder, file: &str) -> Vec<Vec<String>> {
    rows(folder, file, "SELECT * FROM guest ORDER BY id")
}

/// What is not made, by step, and why.
fn left_out(json: &Json) -> BTreeMap<u64, String> {
    let steps = json["not_made"].as_array().unwrap().iter();
    steps.map(|l| (l["step"].as_u64().unwrap(), l["why"].as_str().unwrap().to_owned())).collect()
}

#[test]
fn a_plan_is_carried_out_and_taken_back() {
    let folder = huts();
    let before = guests(&folder, "c.db");
    let run = folder.keen(&["mend", "repair.plan", "--yes"]);
    assert_eq!(run.code, 0, "{run:?}");
    for part in [
        "  c: insert 1 row, update 1 row, delete 1 row\n",
        "    loses of guest: name (1 row), the row (1 row)\n",
    ] {
        assert!(run.err.contains(part), "{part} in {run:?}");
    }
    assert!(run.out.contains("Proof: 3 rows that were written, compared on every node that was read for the plan: they agree."));
    assert_eq!(guests(&folder, "c.db"), guests(&folder, "b.db"));
    assert_eq!(folder.keen(&["audit"]).code, 0);
    // Nothing of keen stays in the file.
    assert_eq!(rows(&folder, "c.db", "SELECT name FROM sqlite_schema").len(), 1);
    let again = folder.keen(&["mend", "repair.plan", "--yes"]);
    assert_eq!(again.code, 0, "{again:?}");
    assert!(again.out.contains("0 rows written, 3 written by an earlier run"), "{again:?}");
    let history = folder.keen(&["history"]).out;
    assert!(history.contains("wrote 3 rows on c; undo file repair.plan.undo"), "{history}");

    let run = folder.keen(&["mend", "--undo", "repair.plan.undo", "--yes"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert_eq!(guests(&folder, "c.db"), before);
    // Twice is not once more.
    let run = folder.keen(&["mend", "--undo", "repair.plan.undo", "--yes"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert!(run.err.contains("no step is left to be taken back"), "{run:?}");
    assert_eq!(guests(&folder, "c.db"), before);
}

#[test]
fn a_dry_run_keeps_nothing_and_nobody_is_asked_where_nobody_is() {
    let folder = huts();
    let before = folder.snapshot();
    let run = folder.keen(&["mend", "repair.plan", "--dry-run"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert!(run.out.contains("3 rows could be written"), "{run:?}");
    let run = folder.keen(&["mend", "repair.plan"]);
    assert_eq!((run.code, &run.out[..]), (2, ""), "{run:?}");
    assert!(run.err.contains("--yes"), "{run:?}");
    assert_eq!(folder.snapshot(), before);
}

#[test]
fn what_is_no_whole_plan_of_this_topology_is_refused() {
    let folder = huts();
    let text = fs::read_to_string(folder.path("repair.plan")).unwrap();
    let lines: Vec<&str> = text.lines().collect();
    assert_eq!(lines.len(), 5);
    let change = |at: usize, change: &dyn Fn(&mut Json)| -> String {
        let mut lines: Vec<String> = lines.iter().map(|line| (*line).to_owned()).collect();
        let mut json: Json = serde_json::from_str(&lines[at]).unwrap();
        change(&mut json);
        lines[at] = json.to_string();
        lines.join("\n") + "\n"
    };
    let all = |lines: &[&str]| lines.join("\n") + "\n";
    let wrong: Vec<(String, &str)> = vec![
        (all(&lines[..4]), "its end is missing: it was cut short"),
        (text[..text.len() - 20].to_owned(), "line 5"),
        (all(&lines[1..]), "line 1: a plan begins with a line of kind"),
        (all(&[lines[0], lines[1], lines[1], lines[4]]), "a second step 1"),
        (all(&[lines[0], lines[1], lines[4], lines[2]]), "line 4: it goes on after its end"),
        (all(&[lines[0], lines[0], lines[4]]), "line 2: a second beginning"),
        (change(1, &|step| step["guard"] = json!([])), "step 1: it has no guard for its own node"),
        (
            change(1, &|step| step["node"] = json!("d")),
            "step 1: node d is not in the topology file",
        ),
        (
            change(1, &|step| step["node"] = json!("a")),
            "step 1: its guard and its row before are not the same",
        ),
        (
            change(1, &|step| step["act"] = json!("sweep")),
            "it is of the kind \"sweep\", which this keen does not know",
        ),
        (
            change(1, &|step| {
                *step = json!({"kind": "step", "act": "by_hand", "step": 1, "node": "c", "purpose": "x",
                    "depends_on": [9], "what": "x", "done": []});
            }),
            "step 1: it depends on step 9, which does not come before it",
        ),
        (
            change(1, &|step| {
                *step = json!({"kind": "step", "act": "setting", "step": 1, "node": "c", "purpose": "x",
                    "evidence": null, "depends_on": [], "subject": {"of": "setting", "name": "x"},
                    "before": "1", "after": "2", "guard": [], "loses": null, "replicates_onward": "no",
                    "undo": "", "done": [], "statements": ["DROP TABLE guest"]});
            }),
            "step 1: x cannot be changed on sqlite",
        ),
        (
            change(1, &|step| step["table"] = json!("hut")),
            "step 1: table hut of set s is not among the tables of the plan",
        ),
        (
            change(2, &|step| step["after"]["id"] = json!(7)),
            "step 2: it would change the key of the row",
        ),
        (
            change(2, &|step| step["after"]["more"] = json!(7)),
            "step 2: a row has a column more that was not compared",
        ),
        (
            change(2, &|step| step["after"]["name"] = json!({"word": 7})),
            "step 2: column name holds no value that keen writes",
        ),
        (change(2, &|step| step["key"]["id"] = json!(7)), "step 2: its key is not that of its row"),
        (
            change(2, &|step| step["op"] = json!("delete")),
            "step 2: it says delete, and its rows say update",
        ),
        (
            change(2, &|step| step["half_of"] = json!(9)),
            "step 2 is one half of a write whose other half, step 9, is missing",
        ),
        (
            change(0, &|start| start["topology"] = json!("other")),
            "the plan is of \"other\", but the topology file is for \"test\"",
        ),
        (change(0, &|start| start["keen"] = json!("audit")), "this is a keen audit, not a plan"),
        (change(0, &|start| start["version"] = json!(9)), "the plan has version 9"),
        (
            change(0, &|start| start["started"] = json!("2026-01-01T00:00:00Z")),
            "minutes old, and the limit is 1h",
        ),
        (
            change(0, &|start| start["audited"] = json!("2026-01-01T00:00:00Z")),
            "minutes old, and the limit is 1h",
        ),
        (
            change(0, &|start| start["topology_digest"] = json!("0")),
            "the topology file was changed since the plan was made",
        ),
        ("{\n  \"keen\": \"plan\"\n}\n".to_owned(), "is no plan that can be carried out"),
        ("[\n".to_owned(), "is no plan that can be carried out"),
    ];
    let before = folder.snapshot();
    for (plan, why) in wrong {
        fs::write(folder.path("wrong.plan"), &plan).unwrap();
        let run = folder.keen(&["mend", "wrong.plan", "--yes"]);
        assert_eq!((run.code, &run.out[..]), (2, ""), "{why}: {run:?}");
        assert!(run.err.contains(why), "{why} in {}", run.err);
        fs::remove_file(folder.path("wrong.plan")).unwrap();
        assert_eq!(folder.snapshot(), before, "{why}");
    }
    // What is shown does not take the place of the plan.
    let run = folder.keen(&["plan", "--save", "same", "--output", "same"]);
    assert_eq!((run.code, &run.out[..]), (2, ""), "{run:?}");
    assert_eq!(folder.snapshot(), before);
    // A person may take steps out.
    fs::write(folder.path("part.plan"), all(&[lines[0], lines[2], lines[4]])).unwrap();
    let run = folder.keen(&["mend", "part.plan", "--yes", "--format", "json"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert_eq!(run.json()["nodes"][0]["made"], 1);
    // What takes back is no plan, and a plan takes nothing back.
    let run = folder.keen(&["mend", "part.plan.undo", "--yes"]);
    assert_eq!(run.code, 2, "{run:?}");
    assert!(run.err.contains("keen mend --undo part.plan.undo"), "{run:?}");
    let run = folder.keen(&["mend", "--undo", "part.plan", "--yes"]);
    assert_eq!(run.code, 2, "{run:?}");
    assert!(run.err.contains("is a plan, not the way back of one"), "{run:?}");
    // Another plan does not take the place of what takes the first one back.
    let run = folder.keen(&["mend", "repair.plan", "--undo-file", "part.plan.undo", "--yes"]);
    assert_eq!(run.code, 2, "{run:?}");
    assert!(run.err.contains("takes another plan back"), "{run:?}");
    // Nor does it take the place of a node.
    let run = folder.keen(&["mend", "repair.plan", "--undo-file", "a.db", "--yes"]);
    assert_eq!(run.code, 2, "{run:?}");
}

#[test]
fn an_old_plan_or_one_of_another_file_is_carried_out_only_on_request_and_never_without_guards() {
    let folder = huts();
    let toml = fs::read_to_string(folder.path("keen.toml")).unwrap();
    fs::write(folder.path("keen.toml"), toml + "[limits]\nplan = \"0s\"\n").unwrap();
    folder.sql("a.db", "UPDATE guest SET name = 'Ida Marmot' WHERE id = 1");
    let run = folder.keen(&["mend", "repair.plan", "--yes"]);
    assert_eq!(run.code, 2, "{run:?}");
    let run = folder.keen(&["mend", "repair.plan", "--yes", "--even-if-stale", "--format", "json"]);
    assert_eq!(run.code, 1, "{run:?}");
    let why = left_out(&run.json());
    assert_eq!(why.len(), 1, "{why:?}");
    assert!(
        why.values().all(|why| why.contains("no longer on a as it was when the plan was made")),
        "{why:?}"
    );
}

#[test]
fn what_moved_is_left_out_and_the_rest_goes_on() {
    let moves = [
        ("c.db", "UPDATE guest SET seen = 5 WHERE id = 2", "no longer on c as the plan has it"),
        (
            "b.db",
            "DELETE FROM guest WHERE id = 2",
            "no longer on b as it was when the plan was made",
        ),
        ("a.db", "UPDATE guest SET name = 'y' WHERE id = 2", "no longer on a as it was when"),
        ("a.db", "INSERT INTO guest VALUES (3, 'y', 1)", "no longer on a as it was when"),
        ("c.db", "ALTER TABLE guest ADD COLUMN more", "c could not be read: has column more"),
    ];
    for (file, sql, why) in moves {
        let folder = huts();
        folder.sql(file, sql);
        let then = guests(&folder, "c.db");
        let run = folder.keen(&["mend", "repair.plan", "--yes", "--format", "json"]);
        assert_eq!(run.code, 1, "{sql}: {run:?}");
        let left = left_out(&run.json());
        assert!(!left.is_empty() && left.values().all(|is| is.contains(why)), "{sql}: {left:?}");
        let made = run.json()["nodes"][0]["made"].as_u64().unwrap();
        assert_eq!(made + left.len() as u64, 3, "{sql}: {run:?}");
        let back = folder.keen(&["mend", "--undo", "repair.plan.undo", "--yes"]);
        assert_eq!(back.code, 0, "{sql}: {back:?}");
        assert_eq!(guests(&folder, "c.db"), then, "{sql}");
    }
    // What is right by now needs no write, and what somebody else wrote is not taken back.
    let folder = huts();
    folder.sql("c.db", "DELETE FROM guest WHERE id = 3");
    let run = folder.keen(&["mend", "repair.plan", "--yes", "--format", "json"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert_eq!(run.json()["nodes"][0]["already"], 1);
    folder.sql("c.db", "UPDATE guest SET name = 'later' WHERE id = 2");
    let run = folder.keen(&["mend", "--undo", "repair.plan.undo", "--yes", "--format", "json"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert!(
        left_out(&run.json()).values().all(|why| why.contains("no longer on c as it was left"))
    );
    assert_eq!(guests(&folder, "c.db").len(), 1);
}

#[test]
fn some_steps_first_and_the_others_later() {
    let folder = huts();
    let run = folder.keen(&["mend", "repair.plan", "--yes", "--step", "2..2", "--format", "json"]);
    assert_eq!(run.json()["nodes"][0]["made"], 1, "{run:?}");
    let run = folder.keen(&["mend", "repair.plan", "--yes", "--node", "a"]);
    assert!(run.err.contains("no step is left to be made"), "{run:?}");
    let run = folder.keen(&["mend", "repair.plan", "--yes", "--format", "json"]);
    assert_eq!((run.code, &run.json()["nodes"][0]["made"]), (0, &json!(2)), "{run:?}");
    assert_eq!(run.json()["nodes"][0]["made_before"], 1, "{run:?}");
    assert_eq!(folder.keen(&["audit"]).code, 0);
    for wrong in ["x", "3..1", ""] {
        assert_eq!(folder.keen(&["mend", "repair.plan", "--step", wrong]).code, 2);
    }
}

#[test]
fn a_file_that_can_only_be_read_is_not_begun_with() {
    use std::os::unix::fs::PermissionsExt as _;
    let folder = huts();
    // The superuser may write what is read-only: it has to be another thing that cannot be written.
    fs::remove_file(folder.path("c.db")).unwrap();
    fs::create_dir(folder.path("c.db")).unwrap();
    let run = folder.keen(&["mend", "repair.plan", "--yes"]);
    assert_eq!((run.code, &run.out[..]), (3, ""), "{run:?}");
    assert!(run.err.contains("c cannot be written to"), "{run:?}");
    assert!(!folder.path("repair.plan.undo").exists());
    // What was overwritten is nobody else's to read.
    let folder = huts();
    folder.keen(&["mend", "repair.plan", "--yes"]);
    for file in ["repair.plan", "repair.plan.undo"] {
        let mode = folder.path(file).metadata().unwrap().permissions().mode();
        assert_eq!(mode & 0o077, 0, "{file}");
    }
}

#[test]
fn on_a_full_disk_nothing_is_half_done() {
    let folder = huts();
    fs::remove_file(folder.path("repair.plan")).unwrap();
    let run = on_a_small_disk(folder.root(), 1, &["plan", "--save", "repair.plan"]);
    assert_eq!((run.code, &run.out[..]), (2, ""), "{run:?}");
    assert!(run.err.contains("cannot save the plan"), "{run:?}");
    assert!(!folder.path("repair.plan").exists());
    let told = [
        "cannot write repair.plan.undo: File too large",
        "not to its end on c: could not keep the mark of a batch",
        "not to its end on c: could not write a row",
        "whether the last batch, of 3 rows on c, was written is not known",
        // It was asked again, and is not written.
        "not to its end on c: could not keep a batch",
    ];
    let mut met = [false; 5];
    for blocks in (0..160).step_by(8) {
        let folder = huts();
        // The table stands where the disk ends, behind what keen itself keeps.
        folder.sql(
            "c.db",
            "ALTER TABLE guest RENAME TO before; CREATE TABLE other (photo BLOB); INSERT INTO other VALUES (randomblob(50000)); CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT, seen INTEGER); INSERT INTO guest SELECT * FROM before; DROP TABLE before",
        );
        let before = guests(&folder, "c.db");
        let run = on_a_small_disk(folder.root(), blocks, &["mend", "repair.plan", "--yes"]);
        let now = guests(&folder, "c.db");
        if run.code == 0 {
            assert_eq!(now, guests(&folder, "b.db"), "{run:?}");
        } else {
            let says = |words: &&str| run.err.contains(words) || run.out.contains(words);
            let at = told.iter().position(says);
            met[at.unwrap_or_else(|| panic!("{blocks}: {run:?}"))] = true;
            assert!(now == before || now == guests(&folder, "b.db"), "{blocks}: {run:?}");
        }
        // With room it goes on, and what was overwritten is there.
        let run = folder.keen(&["mend", "repair.plan", "--yes"]);
        assert_eq!((run.code, guests(&folder, "c.db")), (0, guests(&folder, "b.db")), "{run:?}");
        let run = folder.keen(&["mend", "--undo", "repair.plan.undo", "--yes"]);
        assert_eq!((run.code, guests(&folder, "c.db")), (0, before), "{run:?}");
    }
    assert_eq!(met, [true; 5]);
}

#[test]
fn rows_without_a_key_are_counted_and_values_that_are_exchanged_go_in_pairs() {
    let folder = Folder::mesh(2, &["log", "bunk"], RIGHT);
    folder.sql_all(
        &["a.db", "b.db"],
        "CREATE TABLE log (line TEXT, n); CREATE TABLE bunk (id INTEGER PRIMARY KEY, bed INTEGER UNIQUE); \
         INSERT INTO log VALUES ('x', 1), ('x', 1), ('y', NULL); INSERT INTO bunk VALUES (1, 10), (2, 20), (3, 30)",
    );
    folder.sql(
        "a.db",
        "INSERT INTO log VALUES ('x', 1), ('x', 1); DELETE FROM log WHERE line = 'y'; INSERT INTO log VALUES ('z', x'00'); \
         UPDATE bunk SET bed = -1 WHERE id = 1; UPDATE bunk SET bed = 10 WHERE id = 2; UPDATE bunk SET bed = 20 WHERE id = 1",
    );
    let all = |file: &str| {
        (
            rows(&folder, file, "SELECT * FROM log ORDER BY 1, 2"),
            rows(&folder, file, "SELECT * FROM bunk"),
        )
    };
    let before = all("a.db");
    assert_eq!(folder.keen(&["plan", "--save", "r.plan"]).code, 1);
    let text = fs::read_to_string(folder.path("r.plan")).unwrap();
    assert_eq!(text.matches("half_of").count(), 2, "{text}");
    // Chosen alone, neither half is made.
    for line in text.lines().filter(|line| line.contains("half_of")) {
        let step: Json = serde_json::from_str(line).unwrap();
        let number = step["step"].to_string();
        let run = folder.keen(&["mend", "r.plan", "--yes", "--step", &number, "--format", "json"]);
        assert_eq!(run.code, 1, "{run:?}");
        let why = left_out(&run.json());
        assert!(why.values().all(|why| why.contains("other half")) && why.len() == 1, "{why:?}");
        assert_eq!(all("a.db"), before);
    }
    let run = folder.keen(&["mend", "r.plan", "--yes", "--batch", "1"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert_eq!(all("a.db"), all("b.db"));
    let run = folder.keen(&["mend", "--undo", "r.plan.undo", "--yes", "--batch", "1"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert_eq!(all("a.db"), before);

    // One half alone would lose the row.
    let lines: Vec<&str> = text.lines().collect();
    let half = lines.iter().position(|line| line.contains("half_of")).unwrap();
    let cut: Vec<&str> =
        lines.iter().enumerate().filter(|(at, _)| *at != half).map(|(_, line)| *line).collect();
    fs::write(folder.path("cut.plan"), cut.join("\n") + "\n").unwrap();
    let run = folder.keen(&["mend", "cut.plan", "--yes"]);
    assert_eq!(run.code, 2, "{run:?}");
    // Nor are steps of two rows the halves of one write.
    let pair = |number: u64, other: u64| {
        let line = lines.iter().find(|line| line.contains(&format!("\"step\":{number},"))).unwrap();
        let mut step: Json = serde_json::from_str(line).unwrap();
        step["half_of"] = json!(other);
        step.to_string()
    };
    let paired = [lines[0], &pair(1, 2), &pair(2, 1), lines[lines.len() - 1]].join("\n") + "\n";
    fs::write(folder.path("cut.plan"), paired).unwrap();
    let run = folder.keen(&["mend", "cut.plan", "--yes"]);
    assert_eq!(run.code, 2, "{run:?}");
    assert!(run.err.contains("are not the two halves of one write"), "{run:?}");
    // And if something is in the way of the second, the first is not made either.
    folder.sql(
        "a.db",
        "CREATE TRIGGER full BEFORE INSERT ON bunk BEGIN SELECT RAISE(ABORT, 'full'); END",
    );
    let run =
        folder.keen(&["mend", "r.plan", "--undo-file", "third.undo", "--yes", "--format", "json"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert_eq!(rows(&folder, "a.db", "SELECT id FROM bunk").len(), 3);
}

#[test]
fn a_reference_that_would_lead_nowhere_is_left_out_with_its_reason() {
    let folder = Folder::mesh(2, &["hut", "bed"], RIGHT);
    folder.sql_all(
        &["a.db", "b.db"],
        "CREATE TABLE hut (id INTEGER PRIMARY KEY, name TEXT); \
         CREATE TABLE bed (id INTEGER PRIMARY KEY, hut INTEGER REFERENCES hut ON DELETE CASCADE); \
         INSERT INTO hut VALUES (1, 'Col'), (2, 'Cirque'); INSERT INTO bed VALUES (1, 1)",
    );
    // On a the hut 3 is too much; on b the bed 9 stands in hut 2.
    folder.sql("a.db", "INSERT INTO hut VALUES (3, 'Bothy')");
    folder.sql("b.db", "INSERT INTO bed VALUES (9, 2)");
    assert_eq!(folder.keen(&["plan", "--save", "r.plan"]).code, 1);
    // Meanwhile somebody moves into 3, and 2 is torn down on both.
    folder.sql("a.db", "INSERT INTO bed VALUES (5, 3)");
    folder.sql_all(&["a.db", "b.db"], "PRAGMA foreign_keys = OFF; DELETE FROM hut WHERE id = 2");
    let run = folder.keen(&["mend", "r.plan", "--yes", "--format", "json"]);
    assert_eq!(run.code, 1, "{run:?}");
    let why: Vec<String> = left_out(&run.json()).into_values().collect();
    assert_eq!(
        why,
        ["what it refers to in hut is not there", "rows of bed refer to it"],
        "{run:?}"
    );
    assert_eq!(rows(&folder, "a.db", "SELECT id FROM bed ORDER BY id").len(), 2);
}

#[test]
fn what_is_to_be_planned_has_to_fit_together() {
    let folder = huts();
    for (args, why) in [
        (&["--finding", "log-format"][..], "name one with --kind"),
        (&["--kind", "link", "--finding", "log-fromat"], "did you mean log-format?"),
        (&["--kind", "link", "--format", "sql", "--output", "scripts"], "scripts write rows"),
        (&["--kind", "weather"], "invalid value 'weather'"),
        (&["--pass-over", "a"], "name a link as FROM:TO"),
        (&["--pass-over", "a:z"], "there is no node z"),
        (&["--pass-over", "a:b"], "a -> b did not stop at a write"),
    ] {
        let run = folder.keen(&[&["plan"], args].concat());
        assert_eq!((run.code, &run.out[..]), (2, ""), "{args:?}: {run:?}");
        assert!(run.err.contains(why), "{why}: {}", run.err);
    }
    // Files have nothing of it: what is found there is for a person.
    let run = folder.keen(&["plan", "--kind", "setting,shape,link"]);
    assert!(run.out.contains("from the preflight of"), "{run:?}");
    assert!(!run.out.contains("Set-up"), "{run:?}");
}
