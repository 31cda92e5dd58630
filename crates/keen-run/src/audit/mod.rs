//! The audit: every table of every set, over all nodes at once.
//!
//! One thread per node opens it, fixes the moment, looks at the shapes of its
//! tables and then reads them one after the other. The calling thread agrees
//! on what to compare, merges the streams and hands findings to the
//! [`AuditSink`]. Batches travel through bounded channels and come back to be
//! filled again, so memory does not depend on the size of the tables.
//!
//! Where the nodes do not share an order of keys, each sums up its buckets first
//! (see [`keen_core::row::buckets`]), and only buckets that disagree are read again,
//! within the same moment, and sorted here.

mod looks;
mod node;
pub mod recheck;
mod row_marks;
mod table;

use crate::opener::OpenRows;
use keen_core::topology::node_set::NodeSet;
use keen_core::value::Value;
use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::time::SystemTime;

use crossbeam_channel::{Sender, bounded, unbounded};
use keen_core::audit::merge::{DivergentRow, RowStanding, Tally};
use keen_core::fault::ReadFault;

use keen_core::row::batch::Layout;
use keen_core::row::digest::DigestFunction;
use keen_core::row::schema::TableShape;
use keen_core::topology::placement::Expectation;
use keen_core::topology::{NodeId, SetId, Topology};

use node::{Duty, Job, OpenedNode, Pace};
use table::{Comparison, InScope};

/// By set and table, the keys of the wanted rows.
pub type WantedKeys = BTreeMap<(SetId, String), Arc<[Vec<Value>]>>;

/// How fast a node may be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rate {
    /// So many rows a second.
    Rows(u64),
    /// So many bytes of rows a second, as they are compared.
    Bytes(u64),
}

/// A request for an audit.
pub struct AuditRequest<'a> {
    /// The topology.
    pub topology: &'a Topology,
    /// Only these nodes are read.
    pub nodes: NodeSet,
    /// Only these tables, by the names the sets use; empty means all.
    pub tables: &'a [String],
    /// Of some tables only the rows with these keys, and perhaps some more.
    pub only: &'a WantedKeys,
    /// The digest both sides of every comparison use.
    pub function: DigestFunction,
    /// No node is read faster than this.
    pub rate: Option<Rate>,
    /// Up to so many sessions read stretches of one table side by side, on each node that can
    /// promise that they see the same moment.
    pub threads: usize,
    /// How nodes are opened.
    pub open: &'a OpenRows<'a>,
    /// Asked now and then; true ends the audit early.
    pub stop: &'a (dyn Fn() -> bool + Sync),
}

/// One table of one set, about to be compared.
pub struct TableHead<'a> {
    /// The topology.
    pub topology: &'a Topology,
    /// The set.
    pub set: SetId,
    /// Its name in the set.
    pub table: &'a str,
    /// The compared columns; none if nothing can be compared.
    pub layout: Option<&'a Layout>,
    /// Who should hold what.
    pub expectation: &'a Expectation,
    /// The shapes found, by node.
    pub shapes: &'a BTreeMap<NodeId, TableShape>,
    /// Each node's names of the layout's columns.
    pub local_columns: &'a BTreeMap<NodeId, Vec<String>>,
    /// Worth a word, though it kept nobody from comparing.
    pub notes: &'a [String],
    /// Why the rows are compared by buckets of key hashes rather than merged in key order, if so.
    pub unordered: Option<&'a str>,
}

impl TableHead<'_> {
    /// A node's name of this table.
    #[must_use]
    pub fn local_name(&self, node: NodeId) -> &str {
        self.topology.nodes[node].name_of(self.table)
    }
}

/// The result of one table.
#[derive(Debug, Clone)]
pub struct TableOutcome {
    /// Counts and sums.
    pub tally: Tally,
    /// The nodes that should have been compared and were not (or not to the end), and why.
    pub unread: BTreeMap<NodeId, ReadFault>,
    /// The conclusion.
    pub verdict: Verdict,
    /// The standings of rows that differed at the first look.
    pub standings: Standings,
}

impl TableOutcome {
    /// The result of one look: every row that differs counts as it was found.
    #[must_use]
    pub fn new(tally: Tally, unread: BTreeMap<NodeId, ReadFault>, verdict: Verdict) -> Self {
        let standings = Standings { settled: tally.divergent, ..Standings::default() };
        Self { tally, unread, verdict, standings }
    }
}

/// How many of the rows that differed at the first look have which standing.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Standings {
    /// They still differ, and nothing is on its way: divergent.
    pub settled: u64,
    /// Something may still be on its way.
    pub in_flight: u64,
    /// They are being written to.
    pub moving: u64,
    /// They were equal when looked at again.
    pub healed: u64,
    /// Why rows are in flight: links that have not passed the fence, and what they lack.
    pub waiting: Vec<String>,
}

/// The verdict on one table of one set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// Everything was read and every node holds what it should.
    Agrees,
    /// At least one divergent row was found.
    Diverges,
    /// Nothing was found, in what could be read; not everything could.
    Unread,
    /// Nothing that differs is settled; something is on its way or being written.
    Unsettled,
}

impl Verdict {
    /// Its name in results.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Agrees => "agrees",
            Self::Diverges => "diverges",
            Self::Unread => "unread",
            Self::Unsettled => "unsettled",
        }
    }
}

/// The result of a node.
#[derive(Debug, Clone)]
pub struct NodeOutcome {
    /// The kind of node that it turned out to be; empty if it could not be opened.
    pub about: String,
    /// The moment as of which it was read.
    pub read_at: Option<SystemTime>,
    /// Why it could not be opened.
    pub fault: Option<ReadFault>,
    /// Its tables that are in no set; none if that is not known.
    pub in_no_set: Option<Vec<String>>,
}

/// The result of an audit, besides the findings handed out on the way.
#[derive(Debug, Clone, Default)]
pub struct AuditOutcome {
    /// By node, for every node that was to be read.
    pub nodes: BTreeMap<NodeId, NodeOutcome>,
    /// It was stopped before its end.
    pub stopped: bool,
    /// Why it could not keep what it found until it is known what it is.
    pub broken: Option<String>,
    /// Links that stood still when it began, as (from, to): what is written at their sources does not arrive.
    pub standing_still: Vec<(NodeId, NodeId)>,
}

/// Takes what an audit finds.
pub trait AuditSink {
    /// All nodes were opened (or not); about so many keys are to be compared.
    fn opened(&mut self, _nodes: &BTreeMap<NodeId, NodeOutcome>, _estimated_keys: u64) {}
    /// Whether tables may come in any order, and their rows before them: each as soon as it is known.
    fn in_any_order(&self) -> bool {
        false
    }
    /// Rows of a table differ and are looked at again before it is known what they are; if tables may come in any
    /// order.
    fn waiting(&mut self, _head: &TableHead<'_>, _rows: u64) -> ControlFlow<()> {
        ControlFlow::Continue(())
    }
    /// A divergent row of a table that has not begun yet; if tables may come in any order.
    fn settled(&mut self, _head: &TableHead<'_>, _row: DivergentRow) -> ControlFlow<()> {
        ControlFlow::Continue(())
    }
    /// A table begins.
    fn table(&mut self, head: &TableHead<'_>) -> ControlFlow<()>;
    /// A divergent row of that table.
    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()>;
    /// A row of that table that differs and is not settled; after the divergent ones.
    fn unsettled(&mut self, _row: DivergentRow, _standing: RowStanding) -> ControlFlow<()> {
        ControlFlow::Continue(())
    }
    /// Some keys of that table were compared.
    fn advanced(&mut self, _keys: u64) {}
    /// The table ended.
    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()>;
}

/// All batches of all nodes together stay near this many bytes, rows larger than a batch aside.
const BATCH_MEMORY: usize = 12 << 20;
/// Batches that fit into a processor's own cache while they travel.
const LARGEST_BATCH: usize = 64 << 10;
/// Batches of one node under way at once: being filled, queued, being merged, on the way back.
const BATCHES_PER_NODE: usize = 5;
/// Small batches make for a steady flow where a rate is to be kept.
const PACED_BATCH: usize = 8 << 10;
/// Queued batches of one table of one node.
const QUEUE: usize = 2;

/// Runs an audit.
pub fn run(request: &AuditRequest<'_>, sink: &mut dyn AuditSink) -> AuditOutcome {
    let topology = request.topology;
    let tables = tables_in_scope(request);
    let to_read: NodeSet = tables.iter().fold(NodeSet::EMPTY, |nodes, table| {
        nodes | (table.expectation.carriers() & request.nodes)
    });
    let threads = request.threads.max(1);
    let sessions = to_read.len().max(1) * threads;
    let batch_bytes = match request.rate {
        Some(_) => PACED_BATCH,
        None => (BATCH_MEMORY / sessions / BATCHES_PER_NODE).clamp(16 << 10, LARGEST_BATCH),
    };

    std::thread::scope(|scope| {
        let mut lanes: BTreeMap<NodeId, Vec<Sender<Job>>> = BTreeMap::new();
        let mut opened = BTreeMap::new();
        for node in to_read.iter() {
            let wanted = tables
                .iter()
                .map(|t| {
                    (t.expectation.carriers().contains(node))
                        .then(|| topology.nodes[node].name_of(t.table).to_owned())
                })
                .collect();
            let (report, answer) = bounded(1);
            let (jobs, work): (Vec<_>, Vec<_>) = (0..threads).map(|_| unbounded()).unzip();
            let pace = Pace::new(request.rate, request.stop);
            let named = topology.sets.iter().flat_map(|set| &set.tables);
            let named = named.map(|table| topology.nodes[node].name_of(table).to_owned()).collect();
            let duty = Duty { node, open: request.open, wanted, named, report, lanes: work, pace };
            // A thread that falls over takes its node with it, and nothing else.
            scope.spawn(move || drop(catch_unwind(AssertUnwindSafe(|| node::serve(scope, duty)))));
            lanes.insert(node, jobs);
            opened.insert(node, answer);
        }
        let mut outcome = AuditOutcome::default();
        let mut reports: BTreeMap<NodeId, OpenedNode> = BTreeMap::new();
        for (node, answer) in opened {
            let report = answer.recv().unwrap_or_else(|_| OpenedNode::failed(fallen_over()));
            outcome.nodes.insert(node, report.node.clone());
            reports.insert(node, report);
        }
        let estimated = (0..tables.len()).map(|i| estimate(&reports, i)).sum();
        sink.opened(&outcome.nodes, estimated);

        // Every node is given all its work at once and goes on with its next
        // table while slower ones finish this one, as far as the channels let it.
        let comparisons: Vec<Comparison<'_>> = tables
            .into_iter()
            .enumerate()
            .map(|(i, table)| table::prepare(request, table, i, &reports, &lanes, batch_bytes))
            .collect();
        drop(lanes); // the threads end when their work does
        for comparison in comparisons {
            if (request.stop)() || table::settle(request, comparison, sink).is_break() {
                outcome.stopped = true;
                break;
            }
        }
        outcome.stopped |= (request.stop)();
        outcome
    })
}

/// Whether any of the wanted tables is carried by two of the wanted nodes.
#[must_use]
pub fn compares_anything(request: &AuditRequest<'_>) -> bool {
    !tables_in_scope(request).is_empty()
}

fn tables_in_scope<'a>(request: &AuditRequest<'a>) -> Vec<InScope<'a>> {
    let mut tables = Vec::new();
    for (id, set) in request.topology.sets.iter().enumerate() {
        let expectation = Expectation::of_set(request.topology, id);
        if (expectation.carriers() & request.nodes).len() < 2 {
            continue;
        }
        for table in &set.tables {
            if request.tables.is_empty() || request.tables.contains(table) {
                tables.push(InScope { set: id, table, expectation: expectation.clone() });
            }
        }
    }
    tables
}

fn fallen_over() -> ReadFault {
    crate::fan_out::fell_over("reading the node")
}

fn estimate(reports: &BTreeMap<NodeId, OpenedNode>, table: usize) -> u64 {
    reports
        .values()
        .filter_map(|report| report.estimates.get(table).copied().flatten())
        .max()
        .unwrap_or(0)
}
