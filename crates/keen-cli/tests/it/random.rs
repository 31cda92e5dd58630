//! Random topologies of SQLite files through the built program: the exit code
//! is right, every divergence is found, the plan mends them, its undo brings
//! them back.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;

use crate::common::{Folder, node_name};
use keen_lab::{Change, Lab};
use proptest::prelude::*;
use rusqlite::Connection;
use serde_json::Value as Json;

/// The rows of one node: key -> (text, unique number or none).
type Content = BTreeMap<i64, (String, Option<i64>)>;

const FILES: [&str; 4] = ["a.db", "b.db", "c.db", "d.db"];

fn content() -> impl Strategy<Value = Content> {
    let text = prop::sample::select(vec![
        "",
        "x",
        "it's",
        "é😀",
        "line\nbreak",
        "\u{1b}[0m",
        "9007199254740993",
    ]);
    // Few unique numbers over few keys, so that they are exchanged between rows often.
    prop::collection::vec((0i64..6, text, prop::option::of(0i64..5)), 0..8).prop_map(|drawn| {
        let mut taken = BTreeSet::new();
        let mut content = Content::new();
        for (key, text, unique) in drawn {
            content
                .entry(key)
                .or_insert_with(|| (text.to_owned(), unique.filter(|u| taken.insert(*u))));
        }
        content
    })
}

fn contents(nodes: usize) -> impl Strategy<Value = Vec<Content>> {
    (content(), prop::collection::vec((any::<bool>(), content()), nodes)).prop_map(
        |(first, others)| {
            others.into_iter().map(|(copy, own)| if copy { first.clone() } else { own }).collect()
        },
    )
}

fn make(folder: &Folder, contents: &[Content]) {
    for (file, content) in FILES.iter().zip(contents) {
        folder.sql(
            file,
            "CREATE TABLE bunk (id INTEGER PRIMARY KEY, txt TEXT NOT NULL, place INTEGER UNIQUE)",
        );
        let connection = Connection::open(folder.path(file)).unwrap();
        for (key, (text, unique)) in content {
            connection
                .execute(
                    "INSERT INTO bunk VALUES (?1, ?2, ?3)",
                    rusqlite::params![key, text, unique],
                )
                .unwrap();
        }
    }
}

fn read(folder: &Folder, nodes: usize) -> Vec<Content> {
    let read = |file: &&str| {
        let connection = Connection::open(folder.path(file)).unwrap();
        let mut statement = connection.prepare("SELECT id, txt, place FROM bunk").unwrap();
        let rows =
            statement.query_map([], |row| Ok((row.get(0)?, (row.get(1)?, row.get(2)?)))).unwrap();
        rows.map(Result::unwrap).collect()
    };
    FILES.iter().take(nodes).map(read).collect()
}

/// In a mesh a key is divergent exactly when two nodes hold it differently; the
/// versions are the groups of nodes that hold the same.
fn expected(contents: &[Content]) -> BTreeMap<i64, BTreeSet<Vec<String>>> {
    let keys: BTreeSet<i64> = contents.iter().flat_map(|c| c.keys().copied()).collect();
    let mut found = BTreeMap::new();
    for key in keys {
        let mut groups: BTreeMap<Option<&(String, Option<i64>)>, Vec<String>> = BTreeMap::new();
        for (node, content) in contents.iter().enumerate() {
            groups.entry(content.get(&key)).or_default().push(node_name(node));
        }
        if groups.len() > 1 {
            found.insert(key, groups.into_values().collect());
        }
    }
    found
}

fn found(json: &Json) -> BTreeMap<i64, BTreeSet<Vec<String>>> {
    let rows = json["tables"][0]["divergent"].as_array().unwrap();
    let names = |version: &Json| {
        version["nodes"]
            .as_array()
            .unwrap()
            .iter()
            .map(|n| n.as_str().unwrap().to_owned())
            .collect()
    };
    rows.iter()
        .map(|row| {
            (
                row["key"]["id"].as_i64().unwrap(),
                row["versions"].as_array().unwrap().iter().map(names).collect(),
            )
        })
        .collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, max_shrink_iters: 60, ..ProptestConfig::default() })]

    #[test]
    fn every_divergence_is_found_exactly_grouped_and_the_exit_code_is_right(contents in (2usize..5).prop_flat_map(contents)) {
        let folder = Folder::mesh(contents.len(), &["bunk"], "");
        make(&folder, &contents);
        let expected = expected(&contents);
        let (code, json) = folder.audit_json();
        prop_assert_eq!(found(&json), expected.clone());
        prop_assert_eq!(code, i32::from(!expected.is_empty()));
        prop_assert_eq!(folder.keen(&["audit"]).code, code);
    }

    #[test]
    fn the_plan_mends_what_it_decides_and_its_undo_brings_it_back(contents in (2usize..5).prop_flat_map(contents), by_node in any::<bool>()) {
        let rule = if by_node { "a" } else { "majority" };
        let folder = Folder::mesh(contents.len(), &["bunk"], &format!("[authority]\ndefault = \"{rule}\""));
        make(&folder, &contents);
        let before = expected(&contents);
        let plan = folder.keen(&["plan", "--format", "json"]).json();
        let asked: BTreeSet<i64> = plan["questions"].as_array().unwrap().iter().map(|q| q["key"]["id"].as_i64().unwrap()).collect();
        prop_assert!(!by_node || asked.is_empty(), "a node decides everything: {plan}");
        folder.keen(&["plan", "--format", "sql", "--output", "out"]);
        let script = |node: usize, kind: &str| fs::read_to_string(folder.path(&format!("out/{}.{kind}.sql", node_name(node)))).ok();
        // What is asked about can stand in the way of what is decided (a unique value it holds);
        // then that node's script stops whole. Without questions nothing may stop it.
        let mut stopped = false;
        let mut carried_out = Vec::new();
        for (node, file) in FILES.iter().enumerate().take(contents.len()) {
            if let Some(text) = script(node, "repair") {
                let connection = Connection::open(folder.path(file)).unwrap();
                match connection.execute_batch(&text) {
                    Ok(()) => carried_out.push(node),
                    Err(error) => {
                        prop_assert!(!asked.is_empty(), "{error}\n{text}");
                        stopped = true;
                    }
                }
            }
        }
        if !stopped {
            let (_, json) = folder.audit_json();
            let left: BTreeSet<i64> = found(&json).into_keys().collect();
            prop_assert_eq!(&left, &asked, "only what is asked about is left of {:?}", before);
        }
        for node in carried_out {
            folder.sql(FILES[node], &script(node, "undo").unwrap());
        }
        prop_assert_eq!(read(&folder, contents.len()), contents);
    }

    #[test]
    fn what_is_mended_agrees_but_for_what_is_asked_and_taken_back_it_is_as_it_was(
        contents in (2usize..5).prop_flat_map(contents),
        by_node in any::<bool>(),
        first in 0u64..6,
        batch in 1u16..4,
    ) {
        let rule = if by_node { "a" } else { "majority" };
        let folder = Folder::mesh(contents.len(), &["bunk"], &format!("[authority]\ndefault = \"{rule}\""));
        make(&folder, &contents);
        let plan = folder.keen(&["plan", "--format", "json", "--save", "r.plan"]).json();
        let key = |of: &Json| of["key"]["id"].as_i64().unwrap();
        let asked: BTreeSet<i64> = plan["questions"].as_array().unwrap().iter().map(key).collect();
        // In two runs, the first with some of the steps.
        let (batch, first) = (batch.to_string(), format!("..{}", first.max(1)));
        folder.keen(&["mend", "r.plan", "--yes", "--batch", &batch, "--step", &first]);
        let run = folder.keen(&["mend", "r.plan", "--yes", "--batch", &batch, "--format", "json"]);
        let json = run.json();
        let mut open: BTreeSet<i64> = json["not_made"].as_array().unwrap().iter().map(key).collect();
        prop_assert!(!by_node || open.is_empty(), "{json}");
        prop_assert_eq!(run.code, i32::from(!open.is_empty()), "{}", json);
        open.extend(asked);
        let left: BTreeSet<i64> = found(&folder.audit_json().1).into_keys().collect();
        prop_assert!(left.is_subset(&open), "{left:?} of {open:?}");
        let run = folder.keen(&["mend", "--undo", "r.plan.undo", "--yes", "--batch", &batch]);
        prop_assert_eq!(run.code, 0, "{:?}", run);
        prop_assert_eq!(read(&folder, contents.len()), contents);
    }
}

/// A topology of up to five nodes: its links, and which nodes are written to.
fn shapes() -> impl Strategy<Value = (String, Vec<usize>, usize)> {
    let list = |nodes: std::ops::Range<usize>| {
        let names: Vec<String> = nodes.map(|n| format!("{:?}", node_name(n))).collect();
        format!("[{}]", names.join(", "))
    };
    let link = |joins: String| format!("[[link]]\n{joins}\ncarries = [\"s\"]\n");
    (2usize..6, 0usize..6).prop_map(move |(n, shape)| match shape {
        0 => (link(format!("mesh = {}", list(0..n))), (0..n).collect(), n),
        1 => (link(format!("ring = {}", list(0..n))), (0..n).collect(), n),
        2 => (link(format!("from = \"a\"\nto = {}", list(1..n))), vec![0], n),
        3 => (link(format!("from = {}\nto = \"a\"", list(1..n))), (1..n).collect(), n),
        4 => {
            let hop = |i| link(format!("from = {:?}\nto = {:?}", node_name(i - 1), node_name(i)));
            ((1..n).map(hop).collect(), vec![0], n)
        }
        // Two peers, and receivers behind the second.
        _ => {
            let n = n.max(3);
            let peers = link("both = [\"a\", \"b\"]".to_owned());
            (peers + &link(format!("from = \"b\"\nto = {}", list(2..n))), vec![0, 1], n)
        }
    })
}

/// A planted row: at a node, for a key.
#[derive(Debug, Clone, Copy)]
enum Planted {
    Changed,
    Missing,
    Surplus,
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 30, max_shrink_iters: 40, ..ProptestConfig::default() })]

    #[test]
    fn in_any_network_exactly_what_was_planted_is_found(
        (links, writers, nodes) in shapes(),
        planted in prop::collection::vec((any::<prop::sample::Index>(), prop::sample::select(vec![Planted::Changed, Planted::Missing, Planted::Surplus])), 0..6),
        seed in any::<u64>(),
    ) {
        let mut text = String::from("name = \"planted\"\n");
        for n in 0..nodes {
            let writes = writers.contains(&n);
            text.push_str(&format!("[node.{0}]\nat = \"sqlite:{0}.db\"\nwrites = {writes}\n", node_name(n)));
        }
        text.push_str("[set.s]\ntables = [\"t\"]\n");
        text.push_str(&links);
        let folder = Folder::new(&text);
        let mut lab = Lab::create(folder.root(), &text, |_| "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT);".to_owned(), seed).unwrap();
        // Each writer makes rows of its own, so that sites never collide by themselves.
        let made: Vec<(i64, usize)> = writers.iter().flat_map(|w| (0..6).map(move |i| (*w as i64 * 100 + i, *w))).collect();
        for (id, writer) in &made {
            let row = vec![("id".to_owned(), (*id).into()), ("v".to_owned(), format!("from {writer}").into())];
            lab.write(&node_name(*writer), &[Change::Insert("t", row)]).unwrap();
        }
        lab.settle(60).unwrap();
        let topology = lab.topology().clone();
        drop(lab.close().unwrap());
        let (code, json) = folder.audit_json();
        prop_assert_eq!(code, 0, "a healthy network agrees: {}", json);

        let reach = |from: usize| {
            let mut seen = BTreeSet::from([from]);
            while let Some(link) = topology.links.iter().find(|l| seen.contains(&l.from) && !seen.contains(&l.to)) {
                seen.insert(link.to);
            }
            seen
        };
        let names = |nodes: &BTreeSet<usize>| nodes.iter().map(|n| node_name(*n)).collect::<Vec<_>>();
        let mut expected: BTreeMap<i64, BTreeSet<Vec<String>>> = BTreeMap::new();
        for (i, (at, kind)) in planted.into_iter().enumerate() {
            let (mut id, origin) = made[(i * 5 + 2) % made.len()];
            let holders = reach(origin);
            let receivers: Vec<usize> = (0..nodes).filter(|n| !writers.contains(n) && !reach(*n).iter().any(|m| writers.contains(m))).collect();
            let (node, versions, sql) = match kind {
                Planted::Changed => {
                    let node = *holders.iter().nth(at.index(holders.len())).unwrap();
                    let others: BTreeSet<usize> = holders.iter().copied().filter(|n| *n != node).collect();
                    (node, [names(&BTreeSet::from([node])), names(&others)], format!("UPDATE t SET v = 'planted' WHERE id = {id}"))
                }
                Planted::Missing => {
                    let held: Vec<usize> = receivers.iter().copied().filter(|n| holders.contains(n)).collect();
                    if held.is_empty() {
                        continue;
                    }
                    let node = held[at.index(held.len())];
                    let below = reach(node);
                    if below.len() > 1 {
                        continue; // a relay: those behind it still hold the row
                    }
                    let others: BTreeSet<usize> = holders.iter().copied().filter(|n| *n != node).collect();
                    (node, [names(&BTreeSet::from([node])), names(&others)], format!("DELETE FROM t WHERE id = {id}"))
                }
                Planted::Surplus => {
                    let ends: Vec<usize> = receivers.iter().copied().filter(|n| reach(*n).len() == 1).collect();
                    if ends.is_empty() {
                        continue;
                    }
                    id = 10_000 + i as i64;
                    let node = ends[at.index(ends.len())];
                    let sources: BTreeSet<usize> = (0..nodes).filter(|n| *n != node && reach(*n).contains(&node)).collect();
                    (node, [names(&BTreeSet::from([node])), names(&sources)], format!("INSERT INTO t VALUES ({id}, 'planted')"))
                }
            };
            if expected.contains_key(&id) {
                continue;
            }
            folder.sql(&format!("{}.db", node_name(node)), &sql);
            expected.insert(id, versions.into());
        }
        let (code, json) = folder.audit_json();
        prop_assert_eq!(found(&json), expected.clone(), "{}", text);
        prop_assert_eq!(code, i32::from(!expected.is_empty()));
        // Planned and mended, what is left is what was asked about.
        let plan = folder.keen(&["plan", "--format", "json", "--save", "r.plan"]).json();
        let key = |of: &Json| of["key"]["id"].as_i64().unwrap();
        let asked: BTreeSet<i64> = plan["questions"].as_array().unwrap().iter().map(key).collect();
        let run = folder.keen(&["mend", "r.plan", "--yes", "--format", "json"]);
        prop_assert_eq!(run.code, 0, "{:?}", run);
        let left: BTreeSet<i64> = found(&folder.audit_json().1).into_keys().collect();
        prop_assert_eq!(left, asked);
    }
}
