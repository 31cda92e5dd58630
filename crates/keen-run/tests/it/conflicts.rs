//! Conflicts in random histories of the stand-in network, held against what every write really knew.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use keen_adapters::sqlite::{Options, SqliteJournal, SqliteNode};
use keen_core::conflict::{ConflictKind, ConflictStanding};
use keen_core::ports::ReadRows;
use keen_core::topology::node_set::NodeSet;
use keen_core::topology::{Address, Topology};
use keen_lab::journal::JournalRow;
use keen_lab::network::{Change, Lab};
use keen_run::conflicts::{self, Carried, ConflictsRequest, Found};
use keen_run::opener::Journal;
use proptest::prelude::*;
use rusqlite::Connection;
use rusqlite::types::Value as Cell;

#[derive(Debug, Clone)]
enum Event {
    /// A node writes a row: the node, the row, what.
    Write(usize, i64, Deed),
    /// Everything that may travel does, by one link.
    Step,
    /// A link is cut, or mended.
    Cut(usize),
    Mend(usize),
    /// A link is late by so many steps.
    Delay(usize, u32),
    /// The last write never arrives at a node.
    Lose(usize),
    /// The last write is overtaken at a node by later ones.
    Overtake(usize),
    /// Somebody looks for conflicts, and the next look goes on from there.
    Look,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Deed {
    Insert,
    SetA,
    SetB,
    Delete,
}

/// A write as it happened.
#[derive(Debug)]
struct Made {
    id: (String, i64),
    row: i64,
    deed: Deed,
    /// The value that it gave, which no other write gives.
    value: i64,
    /// What its node had applied.
    saw: BTreeSet<(String, i64)>,
}

fn event() -> impl Strategy<Value = Event> {
    let deed = prop_oneof![
        1 => Just(Deed::Insert), 4 => Just(Deed::SetA), 2 => Just(Deed::SetB), 1 => Just(Deed::Delete),
    ];
    prop_oneof![
        8 => (0usize..6, 1i64..4, deed).prop_map(|(node, row, deed)| Event::Write(node, row, deed)),
        6 => Just(Event::Step),
        1 => (0usize..30).prop_map(Event::Cut),
        2 => (0usize..30).prop_map(Event::Mend),
        1 => (0usize..30, 1u32..4).prop_map(|(link, steps)| Event::Delay(link, steps)),
        1 => (0usize..6).prop_map(Event::Lose),
        1 => (0usize..6).prop_map(Event::Overtake),
        2 => Just(Event::Look),
    ]
}

fn topology(nodes: usize, shape: u8) -> String {
    let mut text = String::from("name = \"huts\"\n[set.all]\ntables = [\"stay\"]\n");
    let names: Vec<String> = (0..nodes).map(|n| format!("n{n}")).collect();
    for name in &names {
        text.push_str(&format!("[node.{name}]\nat = \"sqlite:{name}.db\"\nwrites = true\n"));
    }
    let list =
        |names: &[String]| names.iter().map(|n| format!("\"{n}\"")).collect::<Vec<_>>().join(", ");
    match shape {
        0 => text.push_str(&format!("[[link]]\nmesh = [{}]\ncarries = [\"all\"]\n", list(&names))),
        1 => text.push_str(&format!("[[link]]\nring = [{}]\ncarries = [\"all\"]\n", list(&names))),
        // Each passes on to the next and back: all but the ends are relays.
        _ => names.windows(2).for_each(|pair| {
            text.push_str(&format!("[[link]]\nboth = [{}]\ncarries = [\"all\"]\n", list(pair)));
        }),
    }
    text
}

const SCHEMA: &str = "CREATE TABLE stay (id INTEGER PRIMARY KEY, a INTEGER, b INTEGER);";

fn cells(cells: &[(&str, i64)]) -> JournalRow {
    cells.iter().map(|(name, value)| ((*name).to_owned(), Cell::Integer(*value))).collect()
}

/// Lets it happen, and keeps what every write knew, and what the last look handed on.
fn happen(
    folder: &Path,
    nodes: usize,
    shape: u8,
    events: &[Event],
    settle: bool,
) -> (Vec<Made>, Option<Carried>) {
    let mut lab = Lab::create(folder, &topology(nodes, shape), |_| SCHEMA.to_owned(), 1).unwrap();
    for row in 1..3 {
        lab.write("n0", &[Change::Insert("stay", cells(&[("id", row), ("a", -row), ("b", -row)]))])
            .unwrap();
    }
    lab.settle(50).unwrap();
    // No two clocks agree: by them, most writes were made before those that they had seen.
    for node in 0..nodes {
        let hours = [0, 1, -1, 5, -7, 24][node];
        lab.set_clock(&format!("n{node}"), hours * 3600).unwrap();
    }
    let beside: Vec<Connection> =
        (0..nodes).map(|n| Connection::open(folder.join(format!("n{n}.db"))).unwrap()).collect();
    let links: Vec<(String, String)> = {
        let topology = lab.topology();
        let name = |node: usize| topology.nodes[node].name.clone();
        topology.links.iter().map(|link| (name(link.from), name(link.to))).collect()
    };
    let mut made: Vec<Made> = Vec::new();
    let mut handed_on: Option<Carried> = None;
    for event in events {
        match event {
            Event::Write(node, row, deed) => {
                let node = node % nodes;
                let sql = "SELECT origin, origin_position FROM keen_lab_transaction";
                let saw: BTreeSet<(String, i64)> = (beside[node].prepare(sql).unwrap())
                    .query_map([], |row| Ok((row.get(0)?, row.get(1)?)))
                    .unwrap()
                    .map(Result::unwrap)
                    .collect();
                let value = 1000 + i64::try_from(made.len()).unwrap();
                let id = cells(&[("id", *row)]);
                let there: bool = beside[node]
                    .query_row("SELECT EXISTS (SELECT 1 FROM stay WHERE id = ?1)", [row], |row| {
                        row.get(0)
                    })
                    .unwrap();
                let change = match deed {
                    Deed::Insert if !there => {
                        Change::Insert("stay", cells(&[("id", *row), ("a", value), ("b", value)]))
                    }
                    Deed::SetA if there => Change::Update("stay", id, cells(&[("a", value)])),
                    Deed::SetB if there => Change::Update("stay", id, cells(&[("b", value)])),
                    Deed::Delete if there => Change::Delete("stay", id),
                    _ => continue,
                };
                let tx = lab.write(&format!("n{node}"), &[change]).unwrap();
                made.push(Made {
                    id: (tx.origin, tx.position),
                    row: *row,
                    deed: *deed,
                    value,
                    saw,
                });
            }
            Event::Look => {
                let going_on = handed_on.is_some();
                let found = judge(folder, handed_on.take());
                assert_eq!(found.went_on, going_on);
                // As the ledger keeps it.
                let kept = found.handed_on.unwrap().to_bytes().unwrap();
                handed_on = Some(Carried::from_bytes(&kept).unwrap());
            }
            Event::Step => drop(lab.step().unwrap()),
            Event::Cut(link) => {
                let (from, to) = &links[link % links.len()];
                lab.cut(from, to).unwrap();
            }
            Event::Mend(link) => {
                let (from, to) = &links[link % links.len()];
                lab.resume(from, to).unwrap();
            }
            Event::Delay(link, steps) => {
                let (from, to) = &links[link % links.len()];
                lab.delay(from, to, *steps).unwrap();
            }
            Event::Lose(node) | Event::Overtake(node) => {
                let Some(last) = made.last() else { continue };
                let tx = keen_lab::network::Tx { origin: last.id.0.clone(), position: last.id.1 };
                let node = format!("n{}", node % nodes);
                match event {
                    Event::Lose(_) => lab.lose(&tx, &node).unwrap(),
                    _ => lab.overtake(&tx, &node).unwrap(),
                }
            }
        }
    }
    if settle {
        for (from, to) in &links {
            lab.resume(from, to).unwrap();
        }
        lab.settle(200).unwrap();
    }
    drop(beside);
    lab.close().unwrap();
    (made, handed_on)
}

fn judge(folder: &Path, earlier: Option<Carried>) -> Found {
    let text = std::fs::read_to_string(folder.join("keen.toml")).unwrap();
    let topology: Topology = keen_core::topology::read(&text).0.unwrap();
    let path = |node: usize| match &topology.nodes[node].at {
        Address::Sqlite(path) => folder.join(path),
        Address::Server(_) => unreachable!("files only"),
    };
    let options = Options::default();
    conflicts::run(&ConflictsRequest {
        topology: &topology,
        nodes: NodeSet::ALL,
        tables: &[],
        life: None,
        differing: &[],
        open: &|node| Ok(Box::new(SqliteNode::open(&path(node), &options)?) as Box<dyn ReadRows>),
        journal: &|node, tables| {
            let names = tables.iter().map(|(name, _)| name.clone());
            let journal =
                SqliteJournal::open(&path(node), &topology.nodes[node].name, names, &options)?;
            Ok(Box::new(journal) as Journal)
        },
        last_writes: None,
        exported: &|_| BTreeMap::new(),
        earlier,
        hand_on: true,
        stop: &|| false,
    })
}

/// The chains of writes that did not know of each other, row by row, by looking at every pair.
fn truth(made: &[Made]) -> BTreeSet<BTreeSet<(String, i64)>> {
    let mut chain: Vec<usize> = (0..made.len()).collect();
    for i in 0..made.len() {
        for j in 0..i {
            let (a, b) = (&made[i], &made[j]);
            if a.row == b.row && !a.saw.contains(&b.id) && !b.saw.contains(&a.id) {
                let (one, other) = (chain[i], chain[j]);
                chain.iter_mut().filter(|of| **of == one).for_each(|of| *of = other);
            }
        }
    }
    let mut chains: BTreeMap<usize, BTreeSet<(String, i64)>> = BTreeMap::new();
    for (number, chain) in chain.into_iter().enumerate() {
        chains.entry(chain).or_default().insert(made[number].id.clone());
    }
    chains.into_values().filter(|chain| chain.len() > 1).collect()
}

/// Whether a write is held nowhere, all or in part, and nobody who wrote the row later had seen it.
fn is_lost(folder: &Path, nodes: usize, made: &[Made], write: &Made) -> bool {
    if made.iter().any(|later| later.row == write.row && later.saw.contains(&write.id)) {
        return false;
    }
    let rows: Vec<Option<(i64, i64)>> = (0..nodes)
        .map(|n| {
            let node = Connection::open(folder.join(format!("n{n}.db"))).unwrap();
            let found = node.query_row("SELECT a, b FROM stay WHERE id = ?1", [write.row], |row| {
                Ok((row.get(0)?, row.get(1)?))
            });
            found.ok()
        })
        .collect();
    let a = rows.iter().flatten().any(|(a, _)| *a == write.value);
    let b = rows.iter().flatten().any(|(_, b)| *b == write.value);
    match write.deed {
        Deed::Insert => !(a && b),
        Deed::SetA => !a,
        Deed::SetB => !b,
        Deed::Delete => rows.iter().all(Option::is_some),
    }
}

fn check(nodes: usize, shape: u8, events: &[Event], settle: bool) -> Result<(), TestCaseError> {
    let folder = tempfile::tempdir().unwrap();
    let (made, handed_on) = happen(folder.path(), nodes, shape, events, settle);
    let found = judge(folder.path(), None);
    prop_assert!(found.broken.is_none());
    prop_assert!(found.nodes.values().all(|node| node.fault.is_none()));
    if handed_on.is_some() {
        let gone_on = judge(folder.path(), handed_on);
        prop_assert!(gone_on.went_on);
        let shown = |found: &Found| -> Vec<String> {
            found.conflicts.iter().map(|conflict| format!("{conflict:#?}")).collect()
        };
        prop_assert_eq!(shown(&gone_on), shown(&found), "{:?}", made);
        for (node, whole) in &found.nodes {
            let read = &gone_on.nodes[node];
            prop_assert_eq!(read.earlier + read.transactions, whole.transactions);
            // What was there before the first look is not read again.
            prop_assert!(read.earlier >= 2);
        }
    }
    let of = |id: &keen_core::history::journal::Id| {
        (id.writer.origin.to_string(), i64::try_from(id.place).unwrap())
    };
    let conflicts =
        found.conflicts.iter().filter(|conflict| conflict.kind != ConflictKind::Skipped);
    let chains: BTreeSet<BTreeSet<(String, i64)>> = conflicts
        .clone()
        .map(|conflict| conflict.writes.iter().map(|write| of(&write.id)).collect())
        .collect();
    prop_assert_eq!(chains, truth(&made), "{:?}", made);
    for conflict in conflicts {
        prop_assert!(conflict.proven && conflict.doubt.is_none());
        if conflict.standing == ConflictStanding::InFlight {
            continue;
        }
        for write in &conflict.writes {
            let real = made.iter().find(|made| made.id == of(&write.id)).unwrap();
            let lost = is_lost(folder.path(), nodes, &made, real);
            prop_assert_eq!(write.fate.is_lost(), lost, "{:?} in {:?}", real, conflict);
        }
    }
    Ok(())
}

fn history() -> impl Strategy<Value = (usize, Vec<Event>, bool)> {
    (3usize..=6, prop::collection::vec(event(), 5..40), any::<bool>())
}

// Side by side, for it takes a while.
proptest! {
    #![proptest_config(ProptestConfig::with_cases(keen_testkit::rounds(100, 1000)))]

    #[test]
    fn every_race_in_a_mesh_is_found_and_none_invented((nodes, events, settle) in history()) {
        check(nodes, 0, &events, settle)?;
    }

    #[test]
    fn every_race_in_a_ring_is_found_and_none_invented((nodes, events, settle) in history()) {
        check(nodes, 1, &events, settle)?;
    }

    #[test]
    fn every_race_over_relays_is_found_and_none_invented((nodes, events, settle) in history()) {
        check(nodes, 2, &events, settle)?;
    }
}

/// What was handed on once went wrong here: a write that is lost at one node, and overtaken by later ones.
#[test]
fn a_ring_that_loses_writes_between_two_looks() {
    use Deed::{Insert, SetA, SetB};
    use Event::{Cut, Look, Lose, Mend, Step, Write};
    let events = [
        Mend(12),
        Write(4, 1, SetB),
        Write(2, 1, SetA),
        Write(4, 2, SetA),
        Cut(4),
        Write(1, 1, SetB),
        Write(5, 2, SetB),
        Step,
        Step,
        Step,
        Look,
        Write(3, 1, SetA),
        Mend(24),
        Step,
        Write(4, 2, SetA),
        Write(0, 3, SetB),
        Step,
        Step,
        Look,
        Lose(4),
        Step,
        Write(4, 1, Insert),
        Lose(5),
        Write(2, 2, SetA),
    ];
    check(5, 1, &events, false).unwrap();
}
