//! The scripts of a plan, run on the servers they are for, whatever the types of the rows.

use keen_core::topology::node_set::NodeSet;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::ControlFlow;
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use keen_core::audit::merge::DivergentRow;
use keen_core::links::onward::Onward;
use keen_core::plan::evidence::Evidence;
use keen_core::plan::sql::script::{self, Direction};
use keen_core::plan::{self, AuditedTable, FoundRows, LocalTable, Question, WrittenTimes};
use keen_core::row::digest::DigestFunction;
use keen_core::topology::{
    Address, Authority, AuthorityRule, ColumnChoice, Engine, Limits, Link, Node, ServerAddress,
    TableSet, Tls, Topology,
};
use keen_run::audit::{self, AuditRequest, AuditSink, TableHead, TableOutcome};
use keen_run::spool::rows_aside::RowsAside;
use keen_testkit::random::{NAMES, distinct_keys, rows};
use keen_testkit::typed::{ColumnKind, Host, Typed, server};
use mysql::prelude::Queryable;
use proptest::prelude::*;

const HOSTS: [Host; 3] = [
    Host::Server(keen_testkit::ServerKind::Postgres15),
    Host::Server(keen_testkit::ServerKind::Postgres18),
    Host::Server(keen_testkit::ServerKind::MariaDb),
];

/// No link carries a repair on.
fn evidence(topology: &Topology) -> Evidence {
    let mut evidence = Evidence::default();
    evidence.onward = Onward::own_writes_only(topology);
    evidence
}

fn topology(table: &str) -> Topology {
    let node = |i: usize| Node {
        name: format!("n{i}"),
        at: Address::Server(ServerAddress {
            engine: if i == 2 { Engine::MariaDb } else { Engine::Postgres },
            user: String::new(),
            host: String::new(),
            port: 0,
            database: String::new(),
            text: String::new(),
        }),
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
    Topology {
        name: "plans".to_owned(),
        nodes: (0..3).map(node).collect(),
        sets: vec![TableSet {
            name: "s".to_owned(),
            tables: vec![table.to_owned()],
            filter: None,
            columns: ColumnChoice::All,
        }],
        links: [(0, 1), (0, 2), (1, 0), (1, 2), (2, 0), (2, 1)]
            .map(|(from, to)| Link { from, to, carries: vec![0], delay: None })
            .into(),
        limits: Limits::default(),
        authority: Authority { default: AuthorityRule::Node(0), ..Authority::default() },
        compare: BTreeMap::new(),
        unique: BTreeMap::new(),
        not_judged: Vec::new(),
        heartbeat: None,
        zone: None,
    }
}

#[derive(Default)]
struct Found(Vec<AuditedTable>, RowsAside);

impl AuditSink for Found {
    fn table(&mut self, head: &TableHead<'_>) -> ControlFlow<()> {
        let nodes = head.local_columns.iter().map(|(node, columns)| {
            let local = LocalTable {
                shared: plan::SharedColumns::default(),
                engine: head.topology.nodes[*node].at.engine(),
                name: head.local_name(*node).to_owned(),
                columns: columns.clone(),
                shape: head.shapes[node].clone(),
            };
            (*node, std::sync::Arc::new(local))
        });
        self.0.push(AuditedTable {
            set: head.set,
            table: head.table.to_owned(),
            layout: std::sync::Arc::new(
                head.layout.unwrap_or_else(|| panic!("nothing to compare")).clone(),
            ),
            nodes: nodes.collect(),
            unread: NodeSet::EMPTY,
            divergent: FoundRows::default(),
            written: WrittenTimes::default(),
            unsettled: Vec::new(),
        });
        ControlFlow::Continue(())
    }
    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        self.1.push(&row).unwrap();
        ControlFlow::Continue(())
    }
    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        assert!(outcome.unread.is_empty(), "{:?}", outcome.unread);
        let rows = std::mem::take(&mut self.1).into_rows().unwrap();
        self.0.last_mut().unwrap().divergent = rows;
        ControlFlow::Continue(())
    }
}

fn audit(topology: &Topology, table: &Typed) -> Vec<AuditedTable> {
    let mut found = Found::default();
    let request = AuditRequest {
        only: &std::collections::BTreeMap::new(),
        topology,
        nodes: NodeSet::ALL,
        tables: &[],
        function: DigestFunction::Xxh3,
        rate: None,
        threads: 1,
        open: &|node| Ok(table.open(HOSTS[node], Path::new(""))),
        stop: &|| false,
    };
    audit::run(&request, &mut found);
    found.0
}

/// Runs a script as its server's administrator, statement by statement as a client would.
fn run(host: Host, script: &str) {
    // A replication origin is the server's, not one database's, and at one session at a time; the
    // tests of this file run side by side on the same servers.
    static ORIGIN: Mutex<()> = Mutex::new(());
    let Host::Server(engine) = host else { return };
    if engine.is_postgres() {
        let _alone = ORIGIN.lock().unwrap_or_else(PoisonError::into_inner);
        let mut client = server(engine).postgres().unwrap();
        client.batch_execute(script).unwrap_or_else(|e| panic!("{e:?}: {script}"));
        return;
    }
    let mut client = server(engine).mariadb().unwrap();
    for statement in script.split(";\n").filter(|statement| !statement.trim().is_empty()) {
        client.query_drop(statement).unwrap_or_else(|e| panic!("{e}: {statement} in {script}"));
    }
}

fn write(topology: &Topology, plan: &plan::Plan, direction: Direction) {
    for steps in plan.nodes() {
        let mut text = String::new();
        script::write(topology, &steps, "a test", direction, &mut text).unwrap();
        run(HOSTS[steps.node], &text);
    }
}

fn shown(tables: &[AuditedTable]) -> BTreeSet<String> {
    // As text, because no NaN is equal to itself.
    tables[0].divergent.iter().map(|row| format!("{:?}", row.unwrap())).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 30, max_shrink_iters: 30, ..ProptestConfig::default() })]

    #[test]
    fn scripts_make_all_nodes_equal_and_their_undo_takes_it_back(
        base in rows(),
        other in rows(),
        keyed in 0usize..3,
        changes in prop::collection::vec((1usize..3, any::<prop::sample::Index>(), any::<prop::sample::Index>(), 0usize..16), 1..12),
    ) {
        let key: &[usize] = [&[0][..], &[1, 0], &[]][keyed];
        let kinds: Vec<ColumnKind> = [ColumnKind::Int, ColumnKind::Text].into_iter().chain(ColumnKind::ALL).collect();
        let columns: Vec<(&str, ColumnKind)> = NAMES.into_iter().zip(kinds).collect();
        let names: Vec<&str> = key.iter().map(|i| NAMES[*i]).collect();
        let base = distinct_keys(base, key, false);
        let mut of_node = vec![base.clone(), base.clone(), base];
        for (node, at, from, what) in changes {
            let rows = &mut of_node[node];
            let source = &other[from.index(other.len())];
            match what {
                0 => rows.push(source.clone()),
                _ if rows.is_empty() => {}
                1 => drop(rows.remove(at.index(rows.len()))),
                column => {
                    let row = at.index(rows.len());
                    rows[row][column - 2].clone_from(&source[column - 2]);
                }
            }
        }
        let mut table = Typed::new(&columns, &names, vec![]);
        for (host, rows) in HOSTS.into_iter().zip(of_node) {
            table.rows = distinct_keys(rows, key, false);
            table.make(host, Path::new(""));
        }

        let topology = topology(&table.name);
        let before = audit(&topology, &table);
        let plan = plan::make(&topology, before.clone(), evidence(&topology)).unwrap();
        // JSON is compared by value here, and a server of the same kind tells rows by its spelling: such
        // a row is asked about, and nothing else is.
        let questions: Vec<Question> = plan.questions().map(Result::unwrap).collect();
        prop_assert!(questions.iter().all(|q| q.why.contains("another spelling")), "{:?}", questions);
        write(&topology, &plan, Direction::Repair);
        let after = audit(&topology, &table);
        prop_assert_eq!(after[0].divergent.len(), questions.len(), "{:?}", shown(&after));
        write(&topology, &plan, Direction::Undo);
        let again = audit(&topology, &table);
        prop_assert_eq!(shown(&again), shown(&before));
        for host in HOSTS {
            table.run(host, Path::new(""), &format!("DROP TABLE {}", table.name));
        }
    }
}

/// Types that only PostgreSQL has: as literals of an insert, and in the guards of an update and of
/// its undo.
#[test]
fn scripts_write_and_guard_every_type_of_postgresql() {
    let columns = [
        ("interval", "'1 mon -3 days 04:05:06.7'"),
        ("timetz", "'12:30:00.5+05:45'"),
        ("integer[]", "'[0:1]={7,NULL}'"),
        ("text[]", "ARRAY['a b', 'q\"\\', NULL]"),
        ("numrange", "'[1.50,)'"),
        ("int4multirange", "'{[1,2),[5,7)}'"),
        ("plan_mood", "'storm \"x\"'"),
        ("plan_place", "ROW('Col, east'::text, 2500)"),
        ("inet", "'10.1.2.3/8'"),
        ("macaddr8", "'08:00:2b:01:02:03:04:05'"),
        ("bit(3)", "B'101'"),
        ("bit varying", "B'01'"),
        ("xml", "'<a>b</a>'"),
        ("point", "'(1.5,2)'"),
        ("tsvector", "'snow ice'"),
        ("json", "'{\"b\" : 1.0, \"a\":[]}'"),
        ("money", "'-1234.50'"),
        ("char(5)", "'a'"),
        ("numeric", "'NaN'"),
        ("real", "0.1"),
        ("double precision", "'-Infinity'"),
        ("date", "'0044-03-15 BC'"),
        ("timestamp", "'infinity'"),
        ("timestamptz", "'0044-03-15 12:00+00 BC'"),
        ("oid", "4294967295"),
    ];
    let declared: Vec<String> =
        columns.iter().enumerate().map(|(i, (kind, _))| format!("c{i} {kind}")).collect();
    let values: Vec<String> =
        columns.iter().map(|(kind, value)| format!("({value})::{kind}")).collect();
    let table = Typed::new(&[("id", ColumnKind::Int)], &["id"], vec![]);
    let name = table.name.clone();
    for (i, host) in HOSTS.into_iter().take(2).enumerate() {
        let Host::Server(engine) = host else { continue };
        let rows = if i == 0 {
            "(1, 'same'), (2, 'here'), (3, 'left')"
        } else {
            "(1, 'same'), (3, 'right')"
        };
        server(engine)
            .run(&format!(
                "CREATE TYPE plan_mood AS ENUM ('calm', 'storm \"x\"');\n\
                 CREATE TYPE plan_place AS (name text, height integer);\n\
                 CREATE TABLE {name} (id bigint PRIMARY KEY, note text, {});\n\
                 INSERT INTO {name} SELECT id, note, {} FROM (VALUES {rows}) AS v (id, note)",
                declared.join(", "),
                values.join(", ")
            ))
            .unwrap();
    }
    let mut topology = topology(&name);
    topology.nodes.truncate(2);
    topology.links.retain(|link| link.from < 2 && link.to < 2);
    let before = audit(&topology, &table);
    assert_eq!(before[0].divergent.len(), 2);
    let plan = plan::make(&topology, before.clone(), evidence(&topology)).unwrap();
    assert_eq!((plan.step_count(), plan.question_count()), (2, 0));
    write(&topology, &plan, Direction::Repair);
    assert_eq!(shown(&audit(&topology, &table)), BTreeSet::new());
    write(&topology, &plan, Direction::Undo);
    assert_eq!(shown(&audit(&topology, &table)), shown(&before));
}
