//! The same rows in every engine are found equal, and one changed cell is found, whatever the types.

use keen_core::topology::node_set::NodeSet;
use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::path::Path;

use keen_core::audit::merge::DivergentRow;
use keen_core::row::digest::DigestFunction;
use keen_core::topology::{
    Address, Authority, ColumnChoice, Engine, Limits, Link, Node, NodeId, TableSet, Tls, Topology,
};
use keen_core::value::Value;
use keen_core::value::zone::Zone;
use keen_run::audit::{self, AuditRequest, AuditSink, TableHead, TableOutcome, WantedKeys};
use keen_testkit::random::{NAMES, distinct_keys, rows};
use keen_testkit::typed::{ColumnKind, Host, Typed};
use proptest::prelude::*;
use tempfile::TempDir;

fn topology(table: &str) -> Topology {
    let node = |i: usize| Node {
        name: format!("{:?}", Host::ALL[i]).replace(['(', ')'], "-"),
        at: Address::Sqlite(format!("n{i}.db")),
        password: None,
        mend: None,
        replication: None,
        tls: Tls::default(),
        writes: true,
        names: BTreeMap::new(),
        journal: None,
        column_names: BTreeMap::new(),
        also_at: Vec::new(),
    };
    let count = Host::ALL.len();
    Topology {
        name: "engines".to_owned(),
        nodes: (0..count).map(node).collect(),
        sets: vec![TableSet {
            name: "s".to_owned(),
            tables: vec![table.to_owned()],
            filter: None,
            columns: ColumnChoice::All,
        }],
        links: (0..count)
            .flat_map(|a| (0..count).filter(move |b| *b != a).map(move |b| (a, b)))
            .map(|(from, to)| Link { from, to, carries: vec![0], delay: None })
            .collect(),
        limits: Limits::default(),
        authority: Authority::default(),
        compare: BTreeMap::new(),
        unique: BTreeMap::new(),
        not_judged: Vec::new(),
        heartbeat: None,
        // SQLite has no type for a moment: what it holds is local time, here that of UTC.
        zone: Zone::named("UTC"),
    }
}

#[derive(Default)]
struct Seen {
    rows: Vec<(DivergentRow, Vec<String>)>,
    columns: Vec<String>,
    unread: BTreeMap<NodeId, String>,
    counts: BTreeMap<NodeId, u64>,
    ordered: bool,
}

impl AuditSink for Seen {
    fn table(&mut self, head: &TableHead<'_>) -> ControlFlow<()> {
        let layout = head.layout.unwrap_or_else(|| panic!("nothing to compare: {:?}", head.notes));
        self.columns = layout.columns.iter().map(|c| c.name.clone()).collect();
        self.ordered = head.unordered.is_none();
        ControlFlow::Continue(())
    }
    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        let differing = row.differing.iter().map(|i| self.columns[*i].clone()).collect();
        self.rows.push((row, differing));
        ControlFlow::Continue(())
    }
    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        self.unread =
            outcome.unread.iter().map(|(node, fault)| (*node, fault.to_string())).collect();
        self.counts =
            outcome.tally.balances.iter().map(|(node, balance)| (*node, balance.rows)).collect();
        ControlFlow::Continue(())
    }
}

fn audit(table: &Typed, folder: &Path) -> Seen {
    audit_only(table, folder, &WantedKeys::new())
}

/// Reads nothing but the rows with these keys, where they can be asked for.
fn audit_only(table: &Typed, folder: &Path, only: &WantedKeys) -> Seen {
    let topology = topology(&table.name);
    let mut seen = Seen::default();
    let request = AuditRequest {
        only,
        topology: &topology,
        nodes: NodeSet::ALL,
        tables: &[],
        function: DigestFunction::Xxh3,
        rate: None,
        threads: 1,
        open: &|node| Ok(table.open(Host::ALL[node], folder)),
        stop: &|| false,
    };
    audit::run(&request, &mut seen);
    assert_eq!(seen.unread, BTreeMap::new());
    seen
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, max_shrink_iters: 40, ..ProptestConfig::default() })]

    #[test]
    fn the_same_rows_are_equal_everywhere_and_one_changed_cell_is_found(
        rows in rows(),
        by in 0usize..5,
        at in any::<prop::sample::Index>(),
        host in 1usize..5,
        column in 2usize..14,
        new in any::<prop::sample::Index>(),
    ) {
        let key: &[usize] = [&[0][..], &[1], &[1, 0], &[], &[1]][by];
        let padded = by == 4;
        let rows = distinct_keys(rows, key, padded);
        let kinds: Vec<ColumnKind> = [ColumnKind::Int, ColumnKind::Text].into_iter().chain(ColumnKind::ALL).collect();
        let columns: Vec<(&str, ColumnKind)> = NAMES.into_iter().zip(kinds).collect();
        let names: Vec<&str> = key.iter().map(|i| NAMES[*i]).collect();
        let mut table = Typed::new(&columns, &names, rows.clone());
        if padded {
            table.collation = "utf8mb4_bin";
        }
        let folder = TempDir::new().unwrap();
        Host::ALL.iter().for_each(|host| table.make(*host, folder.path()));

        let seen = audit(&table, folder.path());
        prop_assert_eq!(seen.rows, vec![]);
        prop_assert!(seen.counts.values().all(|count| *count == rows.len() as u64), "{:?}", seen.counts);
        prop_assert_eq!(seen.ordered, by < 3);

        if !key.is_empty() {
            let row = &rows[at.index(rows.len())];
            let other: Vec<&Value> = rows.iter().map(|r| &r[column]).filter(|v| **v != row[column]).collect();
            let new = if other.is_empty() { &Value::Null } else { other[new.index(other.len())] };
            let host = Host::ALL[host];
            let engine = match host {
                Host::Server(engine) if engine.is_postgres() => Engine::Postgres,
                Host::Server(_) => Engine::MariaDb,
                _ => Engine::Sqlite,
            };
            let shapes = table.shapes(engine);
            let conditions: Vec<String> = key
                .iter()
                .map(|i| {
                    let literal = engine.dialect().literal(&row[*i], Some(&shapes[*i]));
                    format!("{} = {literal}", engine.dialect().quoted(NAMES[*i]))
                })
                .collect();
            table.run(host, folder.path(), &format!(
                "UPDATE {} SET {} = {} WHERE {}",
                engine.dialect().quoted(&table.name),
                engine.dialect().quoted(NAMES[column]),
                engine.dialect().literal(new, Some(&shapes[column])),
                conditions.join(" AND ")
            ));
            let seen = audit(&table, folder.path());
            // Doubles hold one zero only, and SQLite keeps decimals as doubles.
            let same = |a: &Value, b: &Value| match (a, b) {
                (Value::Float(a), Value::Float(b)) => a == b,
                (Value::Decimal(a), Value::Decimal(b)) => {
                    a.as_str().parse::<f64>().unwrap() == b.as_str().parse::<f64>().unwrap()
                }
                _ => a == b,
            };
            if same(new, &row[column]) {
                prop_assert_eq!(seen.rows, vec![]);
            } else {
                prop_assert_eq!(seen.rows.len(), 1);
                let (found, differing) = &seen.rows[0];
                prop_assert_eq!(differing, &vec![NAMES[column].to_owned()]);
                let alone = found.versions.iter().find(|v| v.nodes.len() == 1).unwrap();
                prop_assert_eq!(Host::ALL[alone.nodes[0]], host);
                // The same row is found when it is asked for by its key, with another that agrees.
                let agreeing = rows.iter().find(|other| key.iter().any(|i| other[*i] != row[*i]));
                let of = |row: &Vec<Value>| key.iter().map(|i| row[*i].clone()).collect::<Vec<_>>();
                let keys = [Some(found.key.clone()), agreeing.map(of)];
                let wanted = [((0, table.name.clone()), keys.into_iter().flatten().collect::<Vec<_>>().into())];
                let again = audit_only(&table, folder.path(), &wanted.into());
                prop_assert_eq!(&again.rows, &seen.rows);
                prop_assert!(again.counts.values().all(|count| (1..=2).contains(count)), "{:?}", again.counts);
            }
        }
        table.drop_everywhere();
    }
}
