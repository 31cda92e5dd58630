//! The audit against a naive oracle: random link graphs, random rows, every
//! divergent row found, none invented, exactly grouped.

use keen_core::topology::node_set::NodeSet;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::ControlFlow;

use keen_core::audit::merge::DivergentRow;
use keen_core::ports::ReadRows;
use keen_core::row::digest::DigestFunction;
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;
use keen_run::audit::{self, AuditRequest, AuditSink, TableHead, TableOutcome, Verdict};
use keen_testkit::tables::{UntypedTable, open};
use proptest::prelude::*;
use tempfile::TempDir;

const NODES: usize = 5;

fn topology(edges: &[(NodeId, NodeId)], writers: u8) -> Topology {
    let names: Vec<String> = (0..NODES).map(|i| format!("n{i}")).collect();
    let nodes: Vec<(&str, bool)> =
        names.iter().enumerate().map(|(i, name)| (&name[..], writers & (1 << i) != 0)).collect();
    keen_testkit::tables::topology(&nodes, edges)
}

#[derive(Default)]
struct Seen {
    rows: Vec<DivergentRow>,
    verdict: Option<Verdict>,
    counts: BTreeMap<NodeId, u64>,
    total: u64,
}

impl AuditSink for Seen {
    fn table(&mut self, _: &TableHead<'_>) -> ControlFlow<()> {
        ControlFlow::Continue(())
    }
    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        self.rows.push(row);
        ControlFlow::Continue(())
    }
    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        self.verdict = Some(outcome.verdict);
        self.total = outcome.tally.divergent;
        self.counts =
            outcome.tally.balances.iter().map(|(node, balance)| (*node, balance.rows)).collect();
        ControlFlow::Continue(())
    }
}

fn audit(
    topology: &Topology,
    open: &keen_run::opener::OpenRows<'_>,
    function: DigestFunction,
) -> Seen {
    let mut seen = Seen::default();
    let request = AuditRequest {
        only: &std::collections::BTreeMap::new(),
        topology,
        nodes: NodeSet::ALL,
        tables: &[],
        function,
        rate: None,
        threads: 1,
        open,
        stop: &|| false,
    };
    audit::run(&request, &mut seen);
    seen
}

/// A finding as text that does not depend on order.
type Finding = (String, BTreeSet<(Vec<NodeId>, String)>);

fn finding(row: &DivergentRow) -> Finding {
    let versions = row
        .versions
        .iter()
        .map(|v| (v.nodes.clone(), format!("{} x {:?}", v.count, v.row)))
        .collect();
    let identity = if row.key.is_empty() {
        format!("{:?}", row.versions.iter().find_map(|v| v.row.as_ref()).unwrap())
    } else {
        format!("{:?}", row.key)
    };
    (identity, versions)
}

// ---- the oracle: sets, walks and loops, straight from the rules ----

fn reached(edges: &[(NodeId, NodeId)], start: NodeId) -> BTreeSet<NodeId> {
    let mut seen = BTreeSet::from([start]);
    loop {
        let more: Vec<NodeId> = edges
            .iter()
            .filter(|(a, b)| seen.contains(a) && !seen.contains(b))
            .map(|e| e.1)
            .collect();
        if more.is_empty() {
            return seen;
        }
        seen.extend(more);
    }
}

/// The groups of nodes that a row held by `holders` concerns.
fn concerned(
    edges: &[(NodeId, NodeId)],
    writers: u8,
    holders: &BTreeSet<NodeId>,
) -> Vec<BTreeSet<NodeId>> {
    let peers = |n: NodeId| -> BTreeSet<NodeId> {
        (0..NODES)
            .filter(|m| reached(edges, n).contains(m) && reached(edges, *m).contains(&n))
            .collect()
    };
    let mut groups: Vec<BTreeSet<NodeId>> = Vec::new();
    for holder in holders {
        let own = peers(*holder);
        let feeders: BTreeSet<NodeId> = edges
            .iter()
            .filter(|(a, b)| own.contains(b) && !own.contains(a))
            .map(|e| e.0)
            .collect();
        let written_to = own.iter().any(|n| writers & (1 << n) != 0);
        let mut group = reached(edges, *holder);
        if !written_to && !feeders.is_empty() && feeders.is_disjoint(holders) {
            group.extend((0..NODES).filter(|n| reached(edges, *n).contains(holder)));
        }
        groups.push(group);
    }
    loop {
        let overlap = (0..groups.len())
            .flat_map(|i| (0..i).map(move |j| (j, i)))
            .find(|(j, i)| !groups[*j].is_disjoint(&groups[*i]));
        let Some((j, i)) = overlap else { return groups };
        let other = groups.remove(i);
        groups[j].extend(other);
    }
}

fn expected(
    edges: &[(NodeId, NodeId)],
    writers: u8,
    tables: &[UntypedTable],
    keyed: bool,
) -> BTreeSet<Finding> {
    let carriers: BTreeSet<NodeId> = edges.iter().flat_map(|(a, b)| [*a, *b]).collect();
    // Identity -> node -> (row, count). A row with a key is known by its first column.
    let mut held: BTreeMap<String, BTreeMap<NodeId, (Vec<Value>, u64)>> = BTreeMap::new();
    for node in &carriers {
        for row in &tables[*node].rows {
            let row = in_canonical_order(row);
            let identity = if keyed { format!("{:?}", [&row[1]]) } else { format!("{row:?}") };
            held.entry(identity).or_default().entry(*node).or_insert((row, 0)).1 += 1;
        }
    }
    let mut findings = BTreeSet::new();
    for (identity, at) in held {
        let holders: BTreeSet<NodeId> = at.keys().copied().collect();
        for group in concerned(edges, writers, &holders) {
            let mut versions: BTreeMap<String, Vec<NodeId>> = BTreeMap::new();
            for node in &group {
                let content = at.get(node).map_or_else(
                    || "0 x None".to_owned(),
                    |(row, n)| format!("{n} x {:?}", Some(row)),
                );
                versions.entry(content).or_default().push(*node);
            }
            if versions.len() > 1 {
                findings.insert((
                    identity.clone(),
                    versions.into_iter().map(|(content, nodes)| (nodes, content)).collect(),
                ));
            }
        }
    }
    findings
}

/// Columns are declared k, v, a_note; the canonical order is by name.
fn in_canonical_order(row: &[Value]) -> Vec<Value> {
    vec![row[2].clone(), row[0].clone(), row[1].clone()]
}

fn edges() -> impl Strategy<Value = Vec<(NodeId, NodeId)>> {
    let n = 2..=NODES;
    let shape = prop_oneof![
        prop::collection::vec((0..NODES, 0..NODES), 1..8),
        n.clone().prop_map(|n| (0..n).map(|i| (i, (i + 1) % n)).collect()),
        n.clone().prop_map(|n| (1..n).map(|i| (i - 1, i)).collect()),
        n.clone().prop_map(|n| (1..n).map(|i| (i, 0)).collect()),
        n.clone().prop_map(|n| (1..n).map(|i| (0, i)).collect()),
        n.prop_map(|n| (0..n).flat_map(|i| (0..n).map(move |j| (i, j))).collect()),
    ];
    (shape, prop::collection::vec((0..NODES, 0..NODES), 0..3)).prop_map(|(mut edges, extra)| {
        edges.extend(extra);
        edges.retain(|(a, b)| a != b);
        edges.sort_unstable();
        edges.dedup();
        edges
    })
}

fn rows(keyed: bool) -> impl Strategy<Value = Vec<Vec<Value>>> {
    // Few keys and few contents, so that nodes often agree, differ and lack.
    let note = prop_oneof![4 => Just(Value::Null), 1 => Just(Value::text("")), 1 => Just(Value::Bytes(vec![]))];
    let row = (0i64..8, 0i64..2, note);
    prop::collection::vec(row, 0..12).prop_map(move |drawn| {
        let mut seen = BTreeSet::new();
        drawn
            .into_iter()
            .filter(|(k, _, _)| !keyed || seen.insert(*k))
            .map(|(k, v, note)| vec![Value::Int(k.into()), Value::Int(v.into()), note])
            .collect()
    })
}

/// Links, who is written to, whether the table has a key, and each node's rows.
type Case = (Vec<(NodeId, NodeId)>, u8, bool, Vec<Vec<Vec<Value>>>);

fn case() -> impl Strategy<Value = Case> {
    (edges(), any::<u8>(), any::<bool>()).prop_flat_map(|(edges, writers, keyed)| {
        // Half of the nodes start as copies of the first, so that agreement is common too.
        let all = (rows(keyed), prop::collection::vec((any::<bool>(), rows(keyed)), NODES))
            .prop_map(|(first, others)| {
                others
                    .into_iter()
                    .map(|(copy, own)| if copy { first.clone() } else { own })
                    .collect()
            });
        (Just(edges), Just(writers), Just(keyed), all)
    })
}

fn tables(keyed: bool, contents: Vec<Vec<Vec<Value>>>) -> Vec<UntypedTable> {
    let key: &[&str] = if keyed { &["k"] } else { &[] };
    contents.into_iter().map(|rows| UntypedTable::new(&["k", "v", "a_note"], key, rows)).collect()
}

fn check(
    edges: &[(NodeId, NodeId)],
    writers: u8,
    keyed: bool,
    tables: &[UntypedTable],
    seen: &Seen,
) -> Result<(), TestCaseError> {
    let expected = expected(edges, writers, tables, keyed);
    let found: BTreeSet<Finding> = seen.rows.iter().map(finding).collect();
    prop_assert_eq!(&found, &expected);
    prop_assert_eq!(seen.rows.len(), expected.len(), "no finding twice");
    prop_assert_eq!(seen.total, expected.len() as u64);
    let verdict = if expected.is_empty() { Verdict::Agrees } else { Verdict::Diverges };
    prop_assert_eq!(seen.verdict, Some(verdict));
    for (node, count) in &seen.counts {
        prop_assert_eq!(*count, tables[*node].rows.len() as u64);
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(keen_testkit::rounds(100, 400)))]

    #[test]
    fn in_memory_every_divergence_is_found_and_none_invented((edges, writers, keyed, contents) in case()) {
        prop_assume!(!edges.is_empty());
        let tables = tables(keyed, contents);
        let topology = topology(&edges, writers);
        let open = |node: NodeId| Ok(Box::new(tables[node].in_memory()) as Box<dyn ReadRows>);
        for function in DigestFunction::ALL {
            check(&edges, writers, keyed, &tables, &audit(&topology, &open, function))?;
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(keen_testkit::rounds(15, 40)))]

    #[test]
    fn in_files_too((edges, writers, keyed, contents) in case()) {
        prop_assume!(!edges.is_empty());
        let folder = TempDir::new().unwrap();
        let tables = tables(keyed, contents);
        let encodings = ["UTF-8", "UTF-16le", "UTF-16be"];
        for (i, table) in tables.iter().enumerate() {
            table.to_sqlite(&folder.path().join(format!("{i}.db")), encodings[i % 3]);
        }
        let topology = topology(&edges, writers);
        let open = |node: NodeId| Ok(Box::new(open(&folder.path().join(format!("{node}.db")))) as Box<dyn ReadRows>);
        check(&edges, writers, keyed, &tables, &audit(&topology, &open, DigestFunction::Xxh3))?;
    }
}
