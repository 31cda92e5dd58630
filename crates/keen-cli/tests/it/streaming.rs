//! Lines leave while an audit goes on: what is known at once, and what waits for the rest.

use std::io::{BufRead as _, BufReader};
use std::process::{Command, Stdio};

use crate::common::{Folder, mesh_text};
use keen_lab::{Change, Lab};
use rusqlite::types::Value as Cell;
use serde_json::{Value as Json, json};

fn insert(table: &'static str, id: i64) -> Change {
    Change::Insert(table, vec![("id".to_owned(), Cell::from(id)), ("v".to_owned(), Cell::Null)])
}

#[test]
fn tables_that_agree_do_not_wait_for_rows_that_are_on_their_way() {
    let text = mesh_text(2, &["wait", "differ", "agree"], "");
    let folder = Folder::new(&text);
    let schema = |_: &str| {
        ["wait", "differ", "agree"]
            .map(|table| format!("CREATE TABLE {table} (id INTEGER PRIMARY KEY, v);"))
            .concat()
    };
    let mut lab = Lab::create(folder.root(), &text, schema, 1).unwrap();
    lab.write("a", &[insert("wait", 1), insert("differ", 1), insert("agree", 1)]).unwrap();
    lab.settle(10).unwrap();
    // One row was changed past the replication; another is on its way until the lab takes a step, so nothing is
    // settled before.
    lab.tamper("b", "UPDATE differ SET v = 'changed'").unwrap();
    lab.write("a", &[insert("wait", 2)]).unwrap();

    let mut keen = Command::new(env!("CARGO_BIN_EXE_keen"))
        .args(["audit", "--format", "ndjson", "--patience", "300s"])
        .current_dir(folder.root())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(keen.stdout.take().unwrap()).lines().map(|line| {
        let line: Json = serde_json::from_str(&line.unwrap()).unwrap();
        (line["kind"].as_str().unwrap().to_owned(), line["table"].as_str().map(str::to_owned), line)
    });
    let mut seen = Vec::new();
    while !seen.contains(&("table".to_owned(), Some("agree".to_owned()))) {
        let (kind, table, line) = lines.next().expect("the run ended before its lines were read");
        if kind == "waiting" {
            assert_eq!(line["rows"], json!(1), "{line}");
        }
        seen.push((kind, table));
    }
    let told = |kind: &str, table: &str| seen.contains(&(kind.to_owned(), Some(table.to_owned())));
    assert_eq!(seen[0].0, "start");
    assert!(told("waiting", "wait") && told("waiting", "differ"), "{seen:?}");
    assert!(!told("table", "wait") && !told("table", "differ"), "{seen:?}");
    assert!(keen.try_wait().unwrap().is_none(), "it did not wait for what is on its way");

    lab.settle(10).unwrap();
    let rest: Vec<(String, Option<String>, Json)> = lines.collect();
    let table = |name: &str| {
        let named = |(kind, table, _): &&(String, Option<String>, Json)| {
            kind == "table" && table.as_deref() == Some(name)
        };
        rest.iter().find(named).map(|(_, _, line)| line.clone()).unwrap()
    };
    assert_eq!(table("wait")["verdict"], json!("agrees"));
    assert_eq!(table("wait")["standings"]["healed"], json!(1));
    let differ = table("differ");
    assert_eq!(
        (&differ["divergent_total"], &differ["divergent_listed"], &differ["verdict"]),
        (&json!(1), &json!(1), &json!("diverges"))
    );
    assert_eq!(rest.last().unwrap().2["summary"]["healed_rows"], json!(1));
    assert_eq!(keen.wait().unwrap().code(), Some(1));
}
