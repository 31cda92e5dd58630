//! The same rows in every engine are found equal, and one changed cell is found, whatever the types.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod common;

use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::path::Path;

use common::typed::{Host, Kind, Typed};
use keen_core::calendar::{DAY, parse_timestamp};
use keen_core::compare::DivergentRow;
use keen_core::decimal::Decimal;
use keen_core::digest::DigestFunction;
use keen_core::json;
use keen_core::plan::dialect;
use keen_core::topology::{
    Address, Authority, ColumnChoice, Engine, Limits, Link, Node, NodeId, TableSet, Tls, Topology,
};
use keen_core::value::Value;
use keen_core::zone::Zone;
use keen_nodes::audit::{self, AuditRequest, AuditSink, TableHead, TableOutcome};
use proptest::prelude::*;
use tempfile::TempDir;

fn topology(table: &str) -> Topology {
    let node = |i: usize| Node {
        name: format!("{:?}", Host::ALL[i]).replace(['(', ')'], "-"),
        at: Address::Sqlite(format!("n{i}.db")),
        password: None,
        tls: Tls::default(),
        writes: true,
        names: BTreeMap::new(),
        column_names: BTreeMap::new(),
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
        self.unread = outcome.unread.clone();
        self.counts =
            outcome.tally.balances.iter().map(|(node, balance)| (*node, balance.rows)).collect();
        ControlFlow::Continue(())
    }
}

fn audit(table: &Typed, folder: &Path) -> Seen {
    let topology = topology(&table.name);
    let mut seen = Seen::default();
    let request = AuditRequest {
        topology: &topology,
        nodes: !0,
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

fn moment(text: &str) -> i64 {
    parse_timestamp(text).unwrap().0
}

/// Text that every engine can hold: PostgreSQL knows no zero byte.
fn text() -> impl Strategy<Value = String> {
    prop_oneof![
        "[ -~]{0,12}",
        "[a-cA-C éÉß]{0,4}",
        any::<String>().prop_map(|text| text.replace('\0', "")),
        Just("\u{1f3d4}\u{fe0f} O''Ridge\\n\"quoted\"\t\r\n\u{202e}".to_owned()),
        Just("NULL".to_owned()),
        Just(String::new()),
    ]
}

fn json_text() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        Just("null".to_owned()),
        any::<bool>().prop_map(|v| v.to_string()),
        any::<i32>().prop_map(|v| v.to_string()),
        (-1000i32..1000).prop_map(|v| format!("{v}.25")),
        "[a-z é\u{1f3d4}]{0,6}".prop_map(|v| format!("\"{v}\"")),
    ];
    let tree = leaf.prop_recursive(2, 8, 3, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..3).prop_map(|v| format!("[{}]", v.join(", "))),
            prop::collection::btree_map("[a-c]{1,2}", inner, 0..3).prop_map(|map| {
                let members: Vec<String> =
                    map.iter().rev().map(|(k, v)| format!("\"{k}\" : {v}")).collect();
                format!("{{{}}}", members.join(","))
            }),
        ]
    });
    tree.prop_map(|text| Value::Json(json::canonical(&text).unwrap()))
}

/// A value that all engines can hold.
fn value(kind: Kind) -> BoxedStrategy<Value> {
    let span = |from: &str, to: &str| moment(from)..moment(to);
    match kind {
        Kind::Bool => any::<bool>().prop_map(Value::Bool).boxed(),
        Kind::Int => {
            prop_oneof![any::<i64>(), -3i64..4, Just(i64::MIN), Just(i64::MAX), Just((1 << 53) + 1)]
                .prop_map(|v| Value::Int(v.into()))
                .boxed()
        }
        Kind::Decimal => prop_oneof![
            (any::<i64>(), 0u32..7).prop_map(|(v, scale)| format!("{v}e-{scale}")),
            Just("999999999999999999999999.999999".to_owned()),
            Just("0.1".to_owned()),
            Just("-0.000001".to_owned()),
        ]
        .prop_map(|text| Value::Decimal(Decimal::parse(&text).unwrap()))
        .boxed(),
        Kind::Double => prop_oneof![
            any::<f64>().prop_filter("not everywhere", |v| v.is_finite()),
            Just(0.1),
            Just(-0.0),
            Just(f64::MAX),
            Just(1e15),
            Just(5e-324),
        ]
        .prop_map(Value::Float)
        .boxed(),
        Kind::Text => text().prop_map(|v| Value::text(&v)).boxed(),
        Kind::Bytes => prop::collection::vec(any::<u8>(), 0..20).prop_map(Value::Bytes).boxed(),
        Kind::Date => (span("1000-01-01", "9999-12-31")).prop_map(|v| Value::Date(v / DAY)).boxed(),
        Kind::Time => (0..DAY).prop_map(Value::Time).boxed(),
        Kind::Local => span("1000-01-01", "9999-12-31").prop_map(Value::LocalTimestamp).boxed(),
        Kind::Moment => span("1970-01-02", "2038-01-01").prop_map(Value::Timestamp).boxed(),
        // MariaDB takes no others than RFC 9562 describes: version 4 here.
        Kind::Uuid => any::<[u8; 16]>()
            .prop_map(|mut bytes| {
                bytes[6] = bytes[6] & 0x0f | 0x40;
                bytes[8] = bytes[8] & 0x3f | 0x80;
                Value::Uuid(bytes)
            })
            .boxed(),
        Kind::Json => json_text().boxed(),
    }
}

fn nullable(kind: Kind) -> BoxedStrategy<Value> {
    prop_oneof![1 => Just(Value::Null), 6 => value(kind)].boxed()
}

/// Rows of two key columns and one column of every kind.
fn rows() -> impl Strategy<Value = Vec<Vec<Value>>> {
    let cells: Vec<BoxedStrategy<Value>> = [value(Kind::Int), value(Kind::Text)]
        .into_iter()
        .chain(Kind::ALL.into_iter().map(nullable))
        .collect();
    prop::collection::vec(cells, 1..40)
}

/// Under a collation that pads, spaces at the end of a key do not make it another.
fn distinct_keys(rows: Vec<Vec<Value>>, keys: &[usize], padded: bool) -> Vec<Vec<Value>> {
    let mut seen = std::collections::BTreeSet::new();
    let token = |row: &Vec<Value>| {
        let mut token = Vec::new();
        for i in keys {
            let cell = match &row[*i] {
                Value::Text(text) if padded => {
                    let end = text.iter().rposition(|b| *b != b' ').map_or(0, |at| at + 1);
                    Value::Text(text[..end].to_vec())
                }
                cell => cell.clone(),
            };
            keen_core::order::put_key(&mut token, cell.as_ref());
        }
        token
    };
    rows.into_iter().filter(|row| keys.is_empty() || seen.insert(token(row))).collect()
}

const NAMES: [&str; 14] = [
    "id",
    "Name \"x\"",
    "order",
    "n",
    "d",
    "f",
    "a text",
    "b",
    "day",
    "at",
    "local",
    "moment",
    "u",
    "j",
];

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
        let kinds: Vec<Kind> = [Kind::Int, Kind::Text].into_iter().chain(Kind::ALL).collect();
        let columns: Vec<(&str, Kind)> = NAMES.into_iter().zip(kinds).collect();
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
                    let literal = dialect::literal(engine, &row[*i], Some(&shapes[*i]));
                    format!("{} = {literal}", dialect::quoted(engine, NAMES[*i]))
                })
                .collect();
            table.run(host, folder.path(), &format!(
                "UPDATE {} SET {} = {} WHERE {}",
                dialect::quoted(engine, &table.name),
                dialect::quoted(engine, NAMES[column]),
                dialect::literal(engine, new, Some(&shapes[column])),
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
            }
        }
        table.drop_everywhere();
    }
}
