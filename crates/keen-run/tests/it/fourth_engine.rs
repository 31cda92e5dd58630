//! A stranger's engine that can only be read and inspected, through public types alone: an adapter with two ports.
//! Whatever else is asked of it says that it is not supported there.

use keen_core::topology::node_set::NodeSet;
use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use keen_adapters::adapter::{Adapter, Site};
use keen_adapters::memory::MemoryNode;
use keen_core::audit::merge::DivergentRow;
use keen_core::fault::{FaultKind, ReadFault};
use keen_core::observe::log_reach::LogReach;
use keen_core::observe::node::{Identity, NodeFacts, Observed, TableLook, TableState};
use keen_core::ports::{InspectionRequest, LookAtNode, ReadRows};
use keen_core::preflight::{self, PreflightScope};
use keen_core::row::digest::DigestFunction;
use keen_core::topology::{Address, Engine, NodeId, Topology};
use keen_core::value::Value;
use keen_run::audit::{
    self, AuditRequest, AuditSink, TableHead, TableOutcome, Verdict, WantedKeys,
};
use keen_run::links::{NodeConnections, Watched};
use keen_testkit::tables::{UntypedTable, topology};

/// Tables in memory, one list of rows for each node.
struct Cabinet {
    rows: BTreeMap<String, Vec<Vec<Value>>>,
}

impl Cabinet {
    fn drawer(&self, site: &Site<'_>) -> Drawer {
        let rows = self.rows[&site.node.name].clone();
        Drawer(UntypedTable::new(&["id", "hut"], &["id"], rows).in_memory())
    }
}

impl Adapter for Cabinet {
    fn engine(&self) -> Engine {
        Engine::Sqlite // its values are spelled like this
    }

    fn rows(&self, site: &Site<'_>) -> Result<Box<dyn ReadRows>, ReadFault> {
        Ok(Box::new(self.drawer(site).0))
    }

    fn inspect(&self, site: &Site<'_>) -> Result<Box<dyn LookAtNode>, ReadFault> {
        Ok(Box::new(self.drawer(site)))
    }
}

/// One node of it.
struct Drawer(MemoryNode);

impl LookAtNode for Drawer {
    fn look(&mut self, asked: &InspectionRequest) -> NodeFacts {
        let unknown = || ReadFault::not_told("a drawer keeps no account of it");
        let table = |(name, local): &(String, String)| {
            let state = self.0.shape(local).map(|shape| {
                TableState::There(Box::new(TableLook {
                    shape,
                    any_rows: Ok(true),
                    named_by: None,
                    partitioned: false,
                    replica_triggers: Ok(Vec::new()),
                    counters: Vec::new(),
                    checks: Ok(Vec::new()),
                }))
            });
            (name.clone(), state.or_else(TableState::undescribed))
        };
        NodeFacts {
            engine: Engine::Sqlite,
            about: "a drawer".to_owned(),
            major: 0,
            standby: false,
            identity: Identity::default(),
            rights: Vec::new(),
            excess: Ok(Vec::new()),
            settings: Ok(BTreeMap::new()),
            incoming: Err(unknown()),
            slots: Ok(Vec::new()),
            publications: Ok(Vec::new()),
            clock: Ok(None),
            tables: asked.tables.iter().map(table).collect(),
            all_tables: Ok(Vec::new()),
            users: Ok(Vec::new()),
        }
    }

    fn log_reach(&mut self, _: Option<&str>) -> Observed<LogReach> {
        Err(ReadFault::not_told("a drawer keeps no log"))
    }
}

fn at<T>(
    topology: &Topology,
    node: NodeId,
    open: impl Fn(&Site<'_>) -> Result<T, ReadFault>,
) -> Result<T, ReadFault> {
    let node = &topology.nodes[node];
    open(&Site {
        node,
        address: &node.at,
        base: Path::new(""),
        user: None,
        password: &|| Ok(None),
        wait: Duration::from_secs(1),
        silence: Duration::from_secs(1),
        cache_kib: 128,
        reader: 0,
        heartbeat: None,
        receives: true,
        stop: Arc::default(),
    })
}

#[derive(Default)]
struct Found {
    keys: Vec<Vec<Value>>,
    verdict: Option<Verdict>,
}

impl AuditSink for Found {
    fn table(&mut self, _: &TableHead<'_>) -> ControlFlow<()> {
        ControlFlow::Continue(())
    }
    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        self.keys.push(row.key);
        ControlFlow::Continue(())
    }
    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        self.verdict = Some(outcome.verdict);
        ControlFlow::Continue(())
    }
}

#[test]
fn an_engine_that_is_only_read_and_inspected_is_audited_looked_at_and_says_what_it_lacks() {
    let topology = topology(&[("a", true), ("b", true)], &[(0, 1), (1, 0)]);
    let row = |id: i64, hut: &str| vec![Value::Int(id.into()), Value::text(hut)];
    let cabinet = Cabinet {
        rows: BTreeMap::from([
            ("a".to_owned(), vec![row(1, "Saddle"), row(2, "Ridge")]),
            ("b".to_owned(), vec![row(1, "Saddle"), row(2, "Valley")]),
        ]),
    };

    let mut found = Found::default();
    let request = AuditRequest {
        topology: &topology,
        nodes: NodeSet::ALL,
        tables: &[],
        only: &WantedKeys::new(),
        function: DigestFunction::Xxh3,
        rate: None,
        threads: 1,
        open: &|node| at(&topology, node, |site| cabinet.rows(site)),
        stop: &|| false,
    };
    audit::run(&request, &mut found);
    assert_eq!(found.keys, [[Value::Int(2)]]);
    assert_eq!(found.verdict, Some(Verdict::Diverges));

    let open = |node: NodeId, _: &Address| at(&topology, node, |site| cabinet.inspect(site));
    let looks = keen_run::preflight::look(&keen_run::preflight::InspectRequest {
        topology: &topology,
        nodes: NodeSet::ALL,
        tables: &[],
        open: &open,
        wait: Duration::from_secs(1),
    });
    let report = preflight::examine(
        &topology,
        &looks,
        PreflightScope { shape: true, only_shape: true },
        &[],
    );
    assert_eq!(report.findings.len(), 0, "{:?}", report.findings);
    assert!(looks.values().all(|look| look.facts.is_some()), "{looks:?}");

    // A port that it lacks is the fault of that node, with a reason and what to do.
    let watch = |node: NodeId| -> Result<Watched, ReadFault> {
        at(&topology, node, |site| cabinet.links(site))
    };
    let (_, observations) = NodeConnections::begin(&topology, NodeSet::ALL, &watch);
    let fault = observations[&0].snapshot.as_ref().unwrap_err();
    assert_eq!(fault.kind, FaultKind::NotSupported);
    assert!(fault.what.contains("is not supported here") && !fault.advice.is_empty(), "{fault}");
    let lacking = [
        at(&topology, 0, |site| cabinet.journal(site, &[])).err(),
        at(&topology, 0, |site| cabinet.probe(site, "t")).err(),
        at(&topology, 0, |site| cabinet.last_writes(site)).err(),
    ];
    let kinds = lacking.map(|fault| fault.unwrap().kind);
    assert_eq!(kinds, [FaultKind::NotSupported; 3]);
}
