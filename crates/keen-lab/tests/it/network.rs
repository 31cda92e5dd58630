//! The stand-in network: healthy it converges, and every fault does what its record says.

use std::collections::BTreeMap;
use std::path::Path;

use keen_lab::journal::{self, ChangeKind};
use keen_lab::network::Chances;
use keen_lab::truth::LabFault;
use keen_lab::{Change, Lab};
use proptest::prelude::*;
use rusqlite::Connection;
use rusqlite::types::Value as Cell;
use tempfile::TempDir;

const SCHEMA: &str =
    "CREATE TABLE t (id INTEGER PRIMARY KEY, v, shown INTEGER, secret); CREATE TABLE log (line);";

const MESH: &str = r#"name = "mesh"
[node.a]
at = "sqlite:a.db"
writes = true
[node.b]
at = "sqlite:b.db"
writes = true
[node.c]
at = "sqlite:c.db"
writes = true
[node.board]
at = "sqlite:board.db"
[set.all]
tables = ["t", "log"]
[set.shown]
tables = ["t"]
where = "shown = 1"
without = ["secret"]
[[link]]
mesh = ["a", "b", "c"]
carries = ["all"]
[[link]]
from = "b"
to = "board"
carries = ["shown"]
"#;

fn lab(folder: &Path, topology: &str, seed: u64) -> Lab {
    let schema = |node: &str| {
        if node == "board" {
            "CREATE TABLE t (id INTEGER PRIMARY KEY, v, shown INTEGER);".to_owned()
        } else {
            SCHEMA.to_owned()
        }
    };
    Lab::create(folder, topology, schema, seed).unwrap()
}

fn insert(id: i64, v: &str) -> Change {
    let cells = [
        ("id", id.into()),
        ("v", v.to_owned().into()),
        ("shown", (id % 2).into()),
        ("secret", Cell::Null),
    ];
    Change::Insert("t", cells.map(|(name, cell)| (name.to_owned(), cell)).into())
}

fn set(id: i64, v: &str) -> Change {
    Change::Update("t", vec![("id".into(), id.into())], vec![("v".into(), v.to_owned().into())])
}

fn delete(id: i64) -> Change {
    Change::Delete("t", vec![("id".into(), id.into())])
}

fn line(text: &str) -> Change {
    Change::Insert("log", vec![("line".into(), text.to_owned().into())])
}

fn held(folder: &Path, node: &str) -> BTreeMap<i64, String> {
    let connection = Connection::open(folder.join(format!("{node}.db"))).unwrap();
    let mut statement = connection.prepare("SELECT id, v FROM t").unwrap();
    let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?))).unwrap();
    rows.map(Result::unwrap).collect()
}

fn lines(folder: &Path, node: &str) -> i64 {
    let connection = Connection::open(folder.join(format!("{node}.db"))).unwrap();
    connection.query_row("SELECT count(*) FROM log", [], |row| row.get(0)).unwrap()
}

fn origins(folder: &Path, node: &str) -> Vec<String> {
    let connection = Connection::open(folder.join(format!("{node}.db"))).unwrap();
    let entries = journal::read(&connection, 0, i64::MAX, i64::MAX).unwrap();
    entries.iter().map(|e| format!("{}{}", e.origin, e.origin_position)).collect()
}

#[test]
fn a_healthy_network_converges_through_filters_and_columns() {
    let folder = TempDir::new().unwrap();
    let mut lab = lab(folder.path(), MESH, 1);
    lab.write("a", &[insert(1, "x"), insert(2, "y"), line("l")]).unwrap();
    lab.write("c", &[insert(3, "z"), line("l")]).unwrap();
    lab.settle(20).unwrap();
    lab.write("b", &[set(1, "changed"), delete(3)]).unwrap();
    // A row that comes into the filter, and one that leaves it.
    let shown = |id: i64, v: i64| {
        Change::Update("t", vec![("id".into(), id.into())], vec![("shown".into(), v.into())])
    };
    lab.write("c", &[shown(2, 1)]).unwrap();
    lab.settle(20).unwrap();
    for node in ["a", "b", "c"] {
        assert_eq!(
            held(folder.path(), node),
            BTreeMap::from([(1, "changed".into()), (2, "y".into())]),
            "{node}"
        );
        assert_eq!(lines(folder.path(), node), 2);
    }
    assert_eq!(
        held(folder.path(), "board"),
        BTreeMap::from([(1, "changed".into()), (2, "y".into())])
    );
    lab.write("a", &[shown(1, 0)]).unwrap();
    lab.settle(20).unwrap();
    assert_eq!(held(folder.path(), "board").len(), 1);
    assert!(lab.truth().is_empty());
}

#[test]
fn writes_that_race_end_swapped_and_the_journals_tell_the_order() {
    let folder = TempDir::new().unwrap();
    let two = MESH
        .replace("mesh = [\"a\", \"b\", \"c\"]", "mesh = [\"a\", \"b\"]")
        .replace("[node.c]\nat = \"sqlite:c.db\"\nwrites = true\n", "");
    let mut lab = lab(folder.path(), &two, 1);
    lab.write("a", &[insert(2, "before")]).unwrap();
    lab.settle(10).unwrap();
    lab.race(&[("a", set(2, "from a")), ("b", set(2, "from b"))]).unwrap();
    lab.settle(10).unwrap();
    assert_eq!(
        (&held(folder.path(), "a")[&2][..], &held(folder.path(), "b")[&2][..]),
        ("from b", "from a")
    );
    assert_eq!(lab.truth().iter().filter(|deed| deed.what == LabFault::Raced).count(), 2);
    assert_eq!(origins(folder.path(), "a"), ["a1", "a2", "b2"]);
    assert_eq!(origins(folder.path(), "b"), ["a1", "b2", "a2"]);
    // Each journal holds the row as its own node had it before.
    let connection = Connection::open(folder.path().join("a.db")).unwrap();
    let last = journal::read(&connection, 2, i64::MAX, 1).unwrap().remove(0);
    assert_eq!(last.changes[0].kind, ChangeKind::Update);
    assert_eq!(last.changes[0].before.as_ref().unwrap()[1].1, Cell::Text("from a".into()));
}

#[test]
fn lost_and_doubled_transactions_are_lost_and_doubled_at_their_node_alone() {
    let folder = TempDir::new().unwrap();
    let mut lab = lab(folder.path(), MESH, 1);
    let lost = lab.write("a", &[insert(1, "x")]).unwrap();
    lab.lose(&lost, "c").unwrap();
    let doubled = lab.write("a", &[line("l")]).unwrap();
    lab.double(&doubled, "b").unwrap();
    lab.settle(20).unwrap();
    assert_eq!(["a", "b", "c", "board"].map(|node| held(folder.path(), node).len()), [1, 1, 0, 1]);
    assert_eq!(["a", "b", "c"].map(|node| lines(folder.path(), node)), [1, 2, 1]);
    assert_eq!(origins(folder.path(), "c"), ["a2"], "what was lost never enters the journal");
    let deeds: Vec<(LabFault, &str)> = lab.truth().iter().map(|d| (d.what, &d.node[..])).collect();
    assert_eq!(deeds, [(LabFault::Lost, "c"), (LabFault::Doubled, "b")]);
}

#[test]
fn an_overtaken_transaction_is_applied_after_later_ones() {
    let folder = TempDir::new().unwrap();
    let mut lab = lab(folder.path(), MESH, 1);
    lab.write("a", &[insert(1, "first")]).unwrap();
    lab.settle(10).unwrap();
    let held_back = lab.write("a", &[set(1, "older")]).unwrap();
    lab.overtake(&held_back, "b").unwrap();
    lab.write("a", &[set(1, "newer")]).unwrap();
    lab.settle(20).unwrap();
    assert_eq!(origins(folder.path(), "b"), ["a1", "a3", "a2"]);
    assert_eq!(["a", "b"].map(|node| held(folder.path(), node)[&1].clone()), ["newer", "older"]);
    assert_eq!(lab.truth()[0].what, LabFault::Overtaken);
}

#[test]
fn links_can_be_paused_cut_and_delayed() {
    let folder = TempDir::new().unwrap();
    let mut lab = lab(folder.path(), MESH, 1);
    lab.pause("b", "board").unwrap();
    lab.write("b", &[insert(1, "x")]).unwrap();
    lab.settle(10).unwrap();
    assert_eq!(held(folder.path(), "board").len(), 0);
    let state = |node: &str| -> Vec<String> {
        let connection = Connection::open(folder.path().join(format!("{node}.db"))).unwrap();
        let mut statement = connection.prepare("SELECT state FROM keen_lab_link").unwrap();
        let rows = statement.query_map([], |row| row.get(0)).unwrap();
        rows.map(Result::unwrap).collect()
    };
    assert_eq!(state("board"), ["paused"]);
    lab.resume("b", "board").unwrap();
    lab.step().unwrap();
    assert_eq!(held(folder.path(), "board").len(), 1);

    for from in ["a", "b"] {
        lab.cut(from, "c").unwrap();
    }
    lab.write("a", &[insert(3, "y")]).unwrap();
    lab.settle(10).unwrap();
    assert_eq!(["b", "c"].map(|node| held(folder.path(), node).len()), [2, 1]);
    lab.resume("a", "c").unwrap();
    lab.settle(10).unwrap();
    assert_eq!(held(folder.path(), "c").len(), 2);

    lab.delay("b", "board", 3).unwrap();
    lab.write("b", &[insert(5, "z")]).unwrap();
    let mut seen = Vec::new();
    for _ in 0..5 {
        lab.step().unwrap();
        seen.push(held(folder.path(), "board").len());
    }
    assert_eq!(seen, [2, 2, 3, 3, 3]);
    assert!(lab.pause("board", "b").is_err(), "no link leads that way");
}

#[test]
fn what_cannot_be_done_is_refused() {
    let folder = TempDir::new().unwrap();
    let mut lab = lab(folder.path(), MESH, 1);
    assert!(lab.write("nobody", &[insert(1, "x")]).unwrap_err().to_string().contains("nobody"));
    assert!(lab.write("board", &[line("l")]).is_err());
    assert!(Lab::create(folder.path(), "name = 1", |_| String::new(), 1).is_err());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn without_accidents_nodes_agree_and_with_them_the_truth_says_why(
        writes in prop::collection::vec((0usize..3, 0i64..6, 0u8..3), 1..25),
        seed in any::<u64>(),
        accidents in any::<bool>(),
    ) {
        let runs: Vec<_> = (0..2).map(|_| {
            let folder = TempDir::new().unwrap();
            let mut lab = lab(folder.path(), MESH, seed);
            if accidents {
                lab.set_chances(Chances { lose: 0.1, double: 0.1, overtake: 0.2 });
            }
            for (i, (node, id, kind)) in writes.iter().enumerate() {
                let change = match kind { 0 => insert(*id, &format!("{i}")), 1 => set(*id, &format!("{i}")), _ => delete(*id) };
                lab.write(["a", "b", "c"][*node], &[change, line("l")]).unwrap();
                lab.settle(20).unwrap();
            }
            lab.settle(30).unwrap();
            let truth = lab.truth().to_vec();
            let state: Vec<_> = ["a", "b", "c"].iter().map(|n| (held(folder.path(), n), lines(folder.path(), n), origins(folder.path(), n))).collect();
            drop(lab.close().unwrap());
            (state, truth)
        }).collect();
        prop_assert_eq!(&runs[0], &runs[1], "the same seed gives the same network");
        let (state, truth) = &runs[0];
        if truth.is_empty() {
            prop_assert!(state.iter().all(|s| (&s.0, s.1) == (&state[0].0, state[0].1)), "nothing went wrong, so all agree: {:?}", state);
        }
        // Every lost transaction is missing from that node's journal; every other one is there.
        let lost: Vec<(String, String)> = truth.iter().filter(|d| d.what == LabFault::Lost).map(|d| (d.node.clone(), d.of.replace('/', ""))).collect();
        for (node, (_, _, journal)) in ["a", "b", "c"].iter().zip(state) {
            for (origin, (_, _, own)) in ["a", "b", "c"].iter().zip(state) {
                for tx in own.iter().filter(|tx| tx.starts_with(origin)) {
                    let was_lost = lost.contains(&((*node).to_owned(), tx.clone()));
                    prop_assert_eq!(journal.contains(tx), !was_lost, "{} at {}", tx, node);
                }
            }
        }
    }
}

/// Somebody beside the network changes the links in the files.
#[test]
fn links_that_are_made_switched_and_taken_away_at_the_receiver_are_taken_up() {
    let folder = TempDir::new().unwrap();
    let mut lab = lab(folder.path(), MESH, 1);
    let at = |node: &str, sql: &str| {
        let connection = Connection::open(folder.path().join(format!("{node}.db"))).unwrap();
        connection.execute_batch(sql).unwrap();
    };
    lab.write("b", &[insert(1, "x")]).unwrap();
    lab.settle(10).unwrap();
    // The board is to follow c instead: what it has already does not come once more.
    at("board", "UPDATE keen_lab_link SET state = 'paused'");
    lab.write("b", &[insert(3, "y"), set(1, "x2")]).unwrap();
    lab.settle(10).unwrap();
    assert_eq!(held(folder.path(), "board"), BTreeMap::from([(1, "x".to_owned())]));
    at(
        "board",
        "DELETE FROM keen_lab_link; INSERT INTO keen_lab_link VALUES (0, 'c', '[\"shown\"]', 0, 'paused', 0)",
    );
    lab.settle(10).unwrap();
    assert_eq!(held(folder.path(), "board").len(), 1);
    at("board", "UPDATE keen_lab_link SET state = 'running'");
    lab.settle(10).unwrap();
    let all = BTreeMap::from([(1, "x2".to_owned()), (3, "y".to_owned())]);
    assert_eq!(held(folder.path(), "board"), all);
    assert_eq!(origins(folder.path(), "board"), ["b1", "b2"]);
    at("board", "INSERT INTO keen_lab_link VALUES (1, 'nobody', '[]', 0, 'running', 0)");
    assert_eq!(lab.step().unwrap_err().to_string(), "there is no node nobody");
}

#[test]
fn a_node_that_is_closed_takes_no_writes_but_what_arrives() {
    let folder = TempDir::new().unwrap();
    let mut lab = lab(folder.path(), MESH, 1);
    lab.set_closed("a", true).unwrap();
    let refused = lab.write("a", &[insert(1, "x")]).unwrap_err();
    assert_eq!(refused.to_string(), "a takes no writes of applications");
    lab.write("b", &[insert(3, "y")]).unwrap();
    lab.settle(10).unwrap();
    assert_eq!(held(folder.path(), "a").into_keys().collect::<Vec<_>>(), [3]);
    lab.set_closed("a", false).unwrap();
    lab.write("a", &[insert(1, "x")]).unwrap();
    lab.settle(10).unwrap();
    assert_eq!(held(folder.path(), "c").len(), 2);
}
