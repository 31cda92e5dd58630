//! Questions of a plan, answered: by a node's name, by cells, with what was lost, or with what each side changed.

use std::fs;
use std::io::Write as _;
use std::process::{Command, Stdio};

use crate::common::Folder;
use keen_lab::{Change, Lab};
use rusqlite::Connection;
use serde_json::{Value as Json, json};

/// Three peers of which each holds another name for guest 1, and c alone has guest 2.
fn asked() -> Folder {
    let folder = Folder::mesh(3, &["guest"], "");
    folder.sql_all(
        &["a.db", "b.db", "c.db"],
        "CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT, price REAL)",
    );
    for file in ["a", "b", "c"] {
        let row = format!("INSERT INTO guest VALUES (1, '{file}', 4.5)");
        folder.sql(&format!("{file}.db"), &row);
    }
    folder.sql("c.db", "INSERT INTO guest VALUES (2, 'only here', NULL)");
    folder
}

fn plan(folder: &Folder, more: &[&str]) -> Json {
    let run = folder.keen(&[&["plan", "--format", "json"], more].concat());
    assert_eq!(run.code, 1, "{more:?}: {run:?}");
    run.json()
}

fn questions(plan: &Json) -> &Vec<Json> {
    plan["questions"].as_array().unwrap()
}

fn names(folder: &Folder) -> Vec<Vec<String>> {
    let of = |file: &str| {
        let connection = Connection::open(folder.path(file)).unwrap();
        let mut rows = connection.prepare("SELECT name FROM guest ORDER BY id").unwrap();
        rows.query_map([], |row| row.get(0)).unwrap().map(Result::unwrap).collect()
    };
    ["a.db", "b.db", "c.db"].into_iter().map(of).collect()
}

#[test]
fn an_answer_holds_for_the_versions_that_it_was_given_for() {
    let folder = asked();
    let open = plan(&folder, &[]);
    let ids: Vec<&str> = questions(&open).iter().map(|q| q["id"].as_str().unwrap()).collect();
    assert_eq!(ids.len(), 2);
    assert_eq!(open["steps"], json!([]));
    // The same question has the same name, whoever asks when, also from a saved audit.
    assert_eq!(questions(&plan(&folder, &[])), questions(&open));
    folder.keen(&["audit", "--format", "json", "--output", "audit.json"]);
    assert_eq!(questions(&plan(&folder, &["--audit", "audit.json"])), questions(&open));

    let first = format!("{}=b", ids[0]);
    let answered = plan(&folder, &["--answer", &first, "--save", "r.plan"]);
    assert_eq!(questions(&answered).len(), 1);
    let steps = answered["steps"].as_array().unwrap();
    assert_eq!(steps.len(), 2);
    assert!(steps.iter().all(|step| step["after"]["name"] == "b"));
    assert_eq!(steps[0]["reason"], "decided by hand");
    // All three versions are what the answer rests on.
    assert_eq!(
        steps[0]["guard"],
        json!([
            {"nodes": ["b"], "row": "after"},
            {"nodes": ["c"], "row": {"id": 1, "name": "c", "price": 4.5}},
            {"nodes": ["a"], "row": "before"},
        ])
    );
    let text = folder.keen(&["plan"]).out;
    assert!(text.contains(&format!("? {} guest (s), id 1", ids[0])), "{text}");

    // One version changes: that is another question, and the plan does not stand any more.
    folder.sql("c.db", "UPDATE guest SET name = 'd' WHERE id = 1");
    let run = folder.keen(&["plan", "--answer", &first]);
    assert_eq!((run.code, &run.out[..]), (2, ""), "{run:?}");
    assert!(run.err.contains(&format!("there is no question {}", ids[0])), "{run:?}");
    let run = folder.keen(&["mend", "r.plan", "--yes", "--format", "json"]);
    assert_eq!((run.code, run.json()["nodes"][0]["made"].as_u64()), (1, Some(0)), "{run:?}");
    folder.sql("c.db", "UPDATE guest SET name = 'c' WHERE id = 1");
    assert_eq!(folder.keen(&["mend", "r.plan", "--yes"]).code, 0);
    assert!(names(&folder).iter().all(|names| names[0] == "b"));
}

#[test]
fn an_answer_to_all_says_what_it_decides_and_loses_no_last_copy() {
    let folder = asked();
    for all in ["all=a", "guest=a"] {
        let answered = plan(&folder, &["--answer", all, "--save", "r.plan"]);
        assert_eq!(questions(&answered).len(), 1, "{answered:#}");
        assert_eq!(questions(&answered)[0]["key"]["id"], 2);
        let notes = answered["notes"].to_string();
        assert!(notes.contains("decides 1 row; lost: name on b, c (1 row); 1 is left open, because the only copy would be lost"), "{notes}");
    }
    // By itself it can be answered so, and the narrower answer counts.
    let id = questions(&plan(&folder, &[]))[1]["id"].as_str().unwrap().to_owned();
    let own = format!("{id}=a");
    let answered = plan(&folder, &["--answer", "all=c", "--answer", &own, "--save", "r.plan"]);
    assert_eq!(questions(&answered).len(), 0);
    assert_eq!(folder.keen(&["mend", "r.plan", "--yes"]).code, 0);
    assert_eq!(names(&folder), vec![vec!["c".to_owned()]; 3]);
    assert_eq!(folder.keen(&["audit"]).code, 0);
}

#[test]
fn cells_by_hand_fill_in_what_versions_differ_in() {
    let folder = asked();
    folder.sql("a.db", "UPDATE guest SET price = 5 WHERE id = 1");
    let id = questions(&plan(&folder, &[]))[0]["id"].as_str().unwrap().to_owned();
    let wrong = [
        (format!("{id}={{\"name\": \"Ida\"}}"), "versions differ in price: say that, too"),
        (
            format!("{id}={{\"name\": \"Ida\", \"price\": 1, \"id\": 2}}"),
            "id is part of the key and cannot change",
        ),
        (format!("{id}={{\"more\": 1}}"), "guest has no compared column more"),
        (format!("{id}={{\"name\": [1]}}"), "column name holds no value that keen writes"),
        (format!("{id}={{"), "the cells are no JSON"),
        (format!("{id}=d"), "d is neither a node nor lost, merge, or cells"),
        (format!("{id}=lost"), "nothing of it is lost"),
        (format!("{id}=merge"), "it is not proven that each side changed other columns"),
        ("guest={\"name\": \"x\", \"price\": 1}".to_owned(), "cells are for one question"),
        (id.clone(), "write QUESTION=CHOICE"),
    ];
    for (answer, why) in wrong {
        let run = folder.keen(&["plan", "--answer", &answer]);
        assert_eq!((run.code, &run.out[..]), (2, ""), "{answer}: {run:?}");
        assert!(run.err.contains(why), "{why} in {}", run.err);
    }
    let cells = format!("{id}={{\"name\": \"Ida\", \"price\": 7}}");
    let answered = plan(&folder, &["--answer", &cells, "--save", "r.plan"]);
    assert_eq!(answered["steps"].as_array().unwrap().len(), 3, "{answered:#}");
    assert_eq!(folder.keen(&["mend", "r.plan", "--yes"]).code, 0);
    assert!(names(&folder).iter().all(|names| names[0] == "Ida"));
    let sql = "SELECT typeof(price) || price FROM guest WHERE id = 1";
    let price: String =
        Connection::open(folder.path("b.db")).unwrap().query_row(sql, [], |r| r.get(0)).unwrap();
    assert_eq!(price, "real7.0");
    assert_eq!(folder.keen(&["mend", "--undo", "r.plan.undo", "--yes"]).code, 0);
    assert_eq!(names(&folder)[0], ["a"]);
}

#[test]
fn answers_can_be_written_into_a_saved_plan_or_typed() {
    let folder = asked();
    folder.keen(&["plan", "--save", "open.plan"]);
    let run = folder.keen(&["plan", "--answers", "open.plan"]);
    assert_eq!(run.code, 2, "{run:?}");
    assert!(run.err.contains("has no answers"), "{run:?}");
    let text = fs::read_to_string(folder.path("open.plan")).unwrap();
    let fill = |line: &str| {
        let mut json: Json = serde_json::from_str(line).unwrap();
        match (json["kind"].as_str(), json["key"]["id"].as_i64()) {
            (Some("question"), Some(1)) => json["answer"] = json!({"name": "Łucja"}),
            (Some("question"), _) => json["answer"] = json!("c"),
            _ => {}
        }
        json.to_string() + "\n"
    };
    let filled: String = text.lines().map(fill).collect();
    fs::write(folder.path("filled.plan"), filled).unwrap();
    let answered = plan(&folder, &["--answers", "filled.plan", "--save", "r.plan"]);
    assert_eq!((questions(&answered).len(), answered["steps"].as_array().unwrap().len()), (0, 5));
    assert_eq!(folder.keen(&["mend", "r.plan", "--yes"]).code, 0);
    assert_eq!(names(&folder), vec![vec!["Łucja".to_owned(), "only here".to_owned()]; 3]);

    // On a terminal: the second choice of the first question, and the other one is left open.
    let folder = asked();
    let run = folder.keen(&["plan", "--ask"]);
    assert_eq!((run.code, &run.out[..]), (2, ""), "{run:?}");
    let typed = format!("{} plan --ask --save r.plan", env!("CARGO_BIN_EXE_keen"));
    let mut terminal = Command::new("script")
        .args(["-qec", &typed, "/dev/null"])
        .current_dir(folder.root())
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    terminal.stdin.take().unwrap().write_all(b"9\n2\n\n").unwrap();
    let output = terminal.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(said.contains("Which? (a number; empty leaves it open, q ends)"), "{said}");
    assert_eq!(folder.keen(&["mend", "r.plan", "--yes"]).code, 0, "{said}");
    assert!(names(&folder).iter().all(|names| names[0] == "b"), "{said}");
    assert_eq!(names(&folder)[0].len(), 1);
}

const OFFICES: &str = "name = \"offices\"\n[node.a]\nat = \"sqlite:a.db\"\nwrites = true\n[node.b]\nat = \"sqlite:b.db\"\nwrites = true\n\
    [set.s]\ntables = [\"guest\"]\n[[link]]\nboth = [\"a\", \"b\"]\ncarries = [\"s\"]\n";

/// Two offices that change other columns of one row before they hear of each other.
fn raced(other: &[(&str, &str)]) -> Folder {
    let folder = Folder::new(OFFICES);
    let table = "CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT, phone TEXT, note TEXT);";
    let mut lab = Lab::create(folder.root(), OFFICES, |_| table.to_owned(), 1).unwrap();
    let key = || vec![("id".to_owned(), 1.into())];
    let mut row = key();
    for (name, value) in [("name", "Ida"), ("phone", "1"), ("note", "x")] {
        row.push((name.to_owned(), value.to_owned().into()));
    }
    lab.write("a", &[Change::Insert("guest", row)]).unwrap();
    lab.settle(60).unwrap();
    let change = |cells: &[(&str, &str)]| {
        let cells =
            cells.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned().into()));
        Change::Update("guest", key(), cells.collect())
    };
    lab.race(&[("a", change(&[("phone", "2")])), ("b", change(other))]).unwrap();
    lab.settle(60).unwrap();
    drop(lab.close().unwrap());
    folder
}

#[test]
fn what_each_side_changed_is_offered_put_together_first() {
    let folder = raced(&[("note", "y")]);
    let open = plan(&folder, &["--conflicts"]);
    let question = &questions(&open)[0];
    let merged = &question["choices"][0];
    assert_eq!(merged["content"], "merged", "{open:#}");
    assert_eq!(merged["row"], json!({"id": 1, "name": "Ida", "phone": "2", "note": "y"}));
    assert_eq!(merged["loses"], "nothing");
    // The question is the same one without it; only the journals prove it.
    assert_eq!(questions(&plan(&folder, &[]))[0]["id"], question["id"]);
    let merge = format!("{}=merge", question["id"].as_str().unwrap());
    plan(&folder, &["--conflicts", "--answer", &merge, "--save", "r.plan"]);
    assert_eq!(folder.keen(&["mend", "r.plan", "--yes"]).code, 0);
    assert_eq!(folder.keen(&["audit"]).code, 0);
    let sql = "SELECT phone || note FROM guest";
    let both: String =
        Connection::open(folder.path("b.db")).unwrap().query_row(sql, [], |r| r.get(0)).unwrap();
    assert_eq!(both, "2y");

    // Where both changed one column, nothing is merged.
    let folder = raced(&[("note", "y"), ("phone", "3")]);
    let open = plan(&folder, &["--conflicts"]);
    assert!(
        questions(&open)[0]["choices"].as_array().unwrap().iter().all(|c| c["content"] == "held")
    );
}

#[test]
fn what_was_lost_is_brought_back() {
    let folder = Folder::new("");
    let run = folder.keen(&["demo", "--dir", "huts"]);
    assert_eq!(run.code, 0, "{run:?}");
    let of = ["plan", "--topology", "huts/keen.toml", "--conflicts", "--format", "json"];
    let open = folder.keen(&of).json();
    let lost = |question: &&Json| {
        question["choices"].as_array().unwrap().iter().any(|c| c["content"] == "lost")
    };
    let question = questions(&open).iter().find(lost).unwrap();
    let id = question["key"]["id"].as_i64().unwrap();
    let answer = format!("{}=lost", question["id"].as_str().unwrap());
    let answered =
        folder.keen(&[&of[..], &["--answer", &answer, "--save", "r.plan"]].concat()).json();
    assert_eq!(questions(&answered).len() + 1, questions(&open).len());
    let steps: Vec<&Json> =
        answered["steps"].as_array().unwrap().iter().filter(|s| s["key"]["id"] == id).collect();
    assert_eq!(steps.len(), 3, "{answered:#}");
    let restored =
        question["choices"].as_array().unwrap().iter().find(|c| c["content"] == "lost").unwrap();
    assert!(steps.iter().all(|step| step["after"] == restored["row"]), "{steps:#?}");
    let run = folder.keen(&["mend", "r.plan", "--topology", "huts/keen.toml", "--yes"]);
    assert_eq!(run.code, 0, "{run:?}");
    for hut in ["valley", "saddle", "cirque"] {
        let path = folder.path(&format!("huts/{hut}.db"));
        let sql = format!("SELECT bed FROM stay WHERE id = {id}");
        let bed: i64 =
            Connection::open(path).unwrap().query_row(&sql, [], |row| row.get(0)).unwrap();
        assert_eq!(json!(bed), restored["row"]["bed"]);
    }
    // Kept as it is, the question is settled for this plan and nothing is written.
    let question = questions(&answered).len();
    assert!(question > 0);
}
