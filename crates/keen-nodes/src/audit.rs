//! The audit: every table of every set, over all nodes at once.
//!
//! One thread per node opens it, fixes the moment, looks at the shapes of its
//! tables and then reads them one after the other. The calling thread agrees
//! on what to compare, merges the streams and hands findings to the
//! [`AuditSink`]. Batches travel through bounded channels and come back to be
//! filled again, so memory does not depend on the size of the tables.
//!
//! Where the nodes do not share an order of keys, each sums up its folios first
//! (see [`keen_core::folio`]), and only folios that disagree are read again,
//! within the same moment, and sorted here.

use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::sync::Arc;
use std::thread::ScopedJoinHandle;
use std::time::{Duration, Instant, SystemTime};

use crossbeam_channel::{Receiver, Sender, bounded, unbounded};
use keen_core::balance::Balance;
use keen_core::compare::{self, DivergentRow, Findings, RowStream, Tally};
use keen_core::digest::DigestFunction;
use keen_core::expectation::{Expectation, Nodes, bit, members};
use keen_core::folio::{Chosen, Folios};
use keen_core::ports::{ReadFault, ReadRows, TableRequest};
use keen_core::rows::{Batch, Layout, RowFault, RowWriter};
use keen_core::shape::{self, TableShape, Terms};
use keen_core::topology::{NodeId, SetId, Topology};

use crate::sorted::Sorter;

/// Opens a node. Called once per node, on the thread that will read it.
pub type Opener<'a> = dyn Fn(NodeId) -> Result<Box<dyn ReadRows>, ReadFault> + Sync + 'a;

/// How fast a node may be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rate {
    /// So many rows a second.
    Rows(u64),
    /// So many bytes of rows a second, as they are compared.
    Bytes(u64),
}

/// Keeps one node's reading to its rate.
struct Pace<'a> {
    rate: Option<Rate>,
    began: Instant,
    taken: u64,
    stop: &'a (dyn Fn() -> bool + Sync),
}

impl<'a> Pace<'a> {
    fn new(rate: Option<Rate>, stop: &'a (dyn Fn() -> bool + Sync)) -> Self {
        Self { rate, began: Instant::now(), taken: 0, stop }
    }

    /// Waits until what was taken so far is no more than the rate allows; at most a tenth of a
    /// second at a time, so that it can be stopped.
    fn keep(&mut self, batch: &Batch) {
        let Some(rate) = self.rate else { return };
        let (amount, a_second) = match rate {
            Rate::Rows(rows) => (batch.len(), rows),
            Rate::Bytes(bytes) => (batch.bytes(), bytes),
        };
        self.taken += amount as u64;
        #[expect(clippy::cast_precision_loss, reason = "a waiting time")]
        let due = Duration::from_secs_f64(self.taken as f64 / a_second as f64);
        while let Some(early) =
            due.checked_sub(self.began.elapsed()).filter(|early| !early.is_zero())
        {
            if (self.stop)() {
                return;
            }
            std::thread::sleep(early.min(Duration::from_millis(100)));
        }
    }
}

/// What is to be audited.
pub struct AuditRequest<'a> {
    /// The topology.
    pub topology: &'a Topology,
    /// Only these nodes are read.
    pub nodes: Nodes,
    /// Only these tables, by the names the sets use; empty means all.
    pub tables: &'a [String],
    /// The digest both sides of every comparison use.
    pub function: DigestFunction,
    /// No node is read faster than this.
    pub rate: Option<Rate>,
    /// How nodes are opened.
    pub open: &'a Opener<'a>,
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
    /// What is compared; none if nothing can be.
    pub layout: Option<&'a Layout>,
    /// Who should hold what.
    pub expectation: &'a Expectation,
    /// The shapes found, by node.
    pub shapes: &'a BTreeMap<NodeId, TableShape>,
    /// What each node calls the columns of the layout.
    pub local_columns: &'a BTreeMap<NodeId, Vec<String>>,
    /// Worth a word, though it kept nobody from comparing.
    pub notes: &'a [String],
    /// Why the rows are compared by folios of key hashes rather than merged in key order, if so.
    pub unordered: Option<&'a str>,
}

impl TableHead<'_> {
    /// What a node calls this table.
    #[must_use]
    pub fn local_name(&self, node: NodeId) -> &str {
        self.topology.nodes[node].name_of(self.table)
    }
}

/// What came of one table.
#[derive(Debug, Clone)]
pub struct TableOutcome {
    /// Counts and sums.
    pub tally: Tally,
    /// The nodes that should have been compared and were not (or not to the end), and why.
    pub unread: BTreeMap<NodeId, String>,
    /// The conclusion.
    pub verdict: Verdict,
}

/// What can be said of one table of one set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// Everything was read and every node holds what it should.
    Agrees,
    /// At least one divergent row was found.
    Diverges,
    /// Nothing was found, in what could be read; not everything could.
    Unread,
}

/// What became of a node.
#[derive(Debug, Clone)]
pub struct NodeOutcome {
    /// What kind of node it turned out to be; empty if it could not be opened.
    pub about: String,
    /// The moment as of which it was read.
    pub read_at: Option<SystemTime>,
    /// Why it could not be opened.
    pub fault: Option<ReadFault>,
}

/// What an audit comes to, besides the findings handed out on the way.
#[derive(Debug, Clone, Default)]
pub struct AuditOutcome {
    /// By node, for every node that was to be read.
    pub nodes: BTreeMap<NodeId, NodeOutcome>,
    /// It was stopped before its end.
    pub stopped: bool,
}

/// Takes what an audit finds.
pub trait AuditSink {
    /// All nodes were opened (or not); about so many keys are to be compared.
    fn opened(&mut self, _nodes: &BTreeMap<NodeId, NodeOutcome>, _estimated_keys: u64) {}
    /// A table begins.
    fn table(&mut self, head: &TableHead<'_>) -> ControlFlow<()>;
    /// A divergent row of that table.
    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()>;
    /// Some keys of that table were compared.
    fn advanced(&mut self, _keys: u64) {}
    /// The table ended.
    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()>;
}

/// All batches of all nodes together stay near this many bytes, rows larger than a batch aside.
const BATCH_MEMORY: usize = 12 << 20;
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
    let to_read: Nodes = tables
        .iter()
        .fold(0, |nodes, table| nodes | (table.expectation.carriers() & request.nodes));
    let nodes_read = to_read.count_ones().max(1) as usize;
    let batch_bytes = (BATCH_MEMORY / nodes_read / BATCHES_PER_NODE).clamp(16 << 10, 256 << 10);
    let batch_bytes = if request.rate.is_some() { PACED_BATCH } else { batch_bytes };

    std::thread::scope(|scope| {
        let mut workers = BTreeMap::new();
        for node in members(to_read) {
            let wanted: Vec<Option<String>> = tables
                .iter()
                .map(|t| {
                    (t.expectation.carriers() & bit(node) != 0)
                        .then(|| topology.nodes[node].name_of(t.table).to_owned())
                })
                .collect();
            let (report, opened) = bounded(1);
            let (jobs, work) = unbounded();
            let open = request.open;
            let pace = Pace::new(request.rate, request.stop);
            let thread = scope.spawn(move || serve(node, open, &wanted, &report, &work, pace));
            workers.insert(node, Worker { jobs: Some(jobs), opened, thread });
        }
        let mut outcome = AuditOutcome::default();
        let mut reports: BTreeMap<NodeId, Opened> = BTreeMap::new();
        for (node, worker) in &workers {
            let report = worker.opened.recv().unwrap_or_else(|_| Opened::failed(fallen_over()));
            outcome.nodes.insert(*node, report.node.clone());
            reports.insert(*node, report);
        }
        let estimated = (0..tables.len()).map(|i| estimate(&reports, i)).sum();
        sink.opened(&outcome.nodes, estimated);

        // Every node is given all its work at once and goes on with its next
        // table while slower ones finish this one, as far as the channels let it.
        let comparisons: Vec<Comparison<'_>> = tables
            .into_iter()
            .enumerate()
            .map(|(i, table)| prepare(request, table, i, &reports, &workers, batch_bytes))
            .collect();
        workers.values_mut().for_each(|worker| worker.jobs = None);
        for comparison in comparisons {
            if (request.stop)() || settle(request, comparison, sink).is_break() {
                outcome.stopped = true;
                break;
            }
        }
        outcome.stopped |= (request.stop)();
        for worker in workers.into_values() {
            // A thread that fell over was noticed as a stream that ended without saying so.
            drop(worker.thread.join());
        }
        outcome
    })
}

struct InScope<'a> {
    set: SetId,
    table: &'a str,
    expectation: Expectation,
}

fn tables_in_scope<'a>(request: &AuditRequest<'a>) -> Vec<InScope<'a>> {
    let mut tables = Vec::new();
    for (id, set) in request.topology.sets.iter().enumerate() {
        let expectation = Expectation::of_set(request.topology, id);
        if (expectation.carriers() & request.nodes).count_ones() < 2 {
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

struct Worker<'scope> {
    jobs: Option<Sender<Job>>,
    opened: Receiver<Opened>,
    thread: ScopedJoinHandle<'scope, ()>,
}

/// What a node said when it was opened: of each table its shape, or why not.
struct Opened {
    node: NodeOutcome,
    shapes: Vec<Option<Result<TableShape, ReadFault>>>,
    estimates: Vec<Option<u64>>,
}

impl Opened {
    fn failed(fault: ReadFault) -> Self {
        let node = NodeOutcome { about: String::new(), read_at: None, fault: Some(fault) };
        Self { node, shapes: Vec::new(), estimates: Vec::new() }
    }
}

enum Message {
    Rows(Batch),
    End,
    Fault(ReadFault),
}

struct Job {
    request: TableRequest,
    writer: RowWriter,
    messages: Sender<Message>,
    spent: Receiver<Batch>,
    folios: Option<ByFolio>,
}

/// What a node needs to read a table by folios: first their balances, then the chosen ones.
struct ByFolio {
    node: NodeId,
    counted: Sender<(NodeId, Counted)>,
    chosen: Receiver<Option<Arc<Chosen>>>,
}

enum Counted {
    Rows(u64),
    All(Box<Folios>),
    Fault(ReadFault),
}

/// Memory of one node for sorting what it reads out of order; more goes to a file.
const SORT_MEMORY: usize = 8 << 20;

fn fallen_over() -> ReadFault {
    ReadFault::new(
        "reading the node failed inside keen",
        "this is a defect of keen: please report it",
    )
}

/// The thread of one node.
fn serve(
    node: NodeId,
    open: &Opener<'_>,
    wanted: &[Option<String>],
    report: &Sender<Opened>,
    work: &Receiver<Job>,
    mut pace: Pace<'_>,
) {
    let mut reader = match open(node) {
        Ok(reader) => reader,
        Err(fault) => {
            tracing::debug!(node, %fault, "could not open");
            drop(report.send(Opened::failed(fault)));
            return;
        }
    };
    let read_at = Some(SystemTime::now());
    let shapes: Vec<_> =
        wanted.iter().map(|table| table.as_ref().map(|table| reader.shape(table))).collect();
    let estimates = wanted
        .iter()
        .map(|table| table.as_ref().and_then(|table| reader.estimate(table)))
        .collect();
    let outcome = NodeOutcome { about: reader.about(), read_at, fault: None };
    if report.send(Opened { node: outcome, shapes, estimates }).is_err() {
        return;
    }
    for job in work {
        let done = match &job.folios {
            None => {
                let mut deliver = |batch: Batch| {
                    pace.keep(&batch);
                    job.messages.send(Message::Rows(batch)).ok()?;
                    Some(job.spent.try_recv().unwrap_or_default())
                };
                reader.read(&job.request, job.writer.clone(), &mut deliver)
            }
            Some(by_folio) => read_by_folio(&mut *reader, &job, by_folio, &mut pace),
        };
        // Nobody listens any more when the comparison was stopped.
        drop(job.messages.send(done.map_or_else(Message::Fault, |()| Message::End)));
    }
}

/// Sums up the folios of a table, then delivers the rows of those that were chosen, in key order.
fn read_by_folio(
    reader: &mut dyn ReadRows,
    job: &Job,
    by_folio: &ByFolio,
    pace: &mut Pace<'_>,
) -> Result<(), ReadFault> {
    let say = |counted| by_folio.counted.send((by_folio.node, counted)).ok();
    let mut folios = Box::<Folios>::default();
    let counted = reader.read(&job.request, job.writer.clone(), &mut |batch| {
        pace.keep(&batch);
        folios.post(&batch);
        say(Counted::Rows(batch.len() as u64))?;
        Some(batch)
    });
    match counted {
        Ok(()) => say(Counted::All(folios)).unwrap_or_default(),
        Err(fault) => {
            say(Counted::Fault(fault.clone()));
            return Err(fault);
        }
    }
    let Ok(Some(chosen)) = by_folio.chosen.recv() else {
        return Ok(());
    };
    let mut sorter = Sorter::new(SORT_MEMORY);
    let mut failed = None;
    reader.read(&job.request, job.writer.clone(), &mut |batch| {
        pace.keep(&batch);
        let rows = (0..batch.len()).filter_map(|at| batch.get(at)).filter(|row| chosen.has(row));
        for row in rows {
            if let Err(error) = sorter.add(&row) {
                failed = Some(error);
                return None;
            }
        }
        Some(batch)
    })?;
    match failed.map_or_else(|| sorter.finish(), Err) {
        Ok(sorted) => deliver_sorted(sorted, job),
        Err(error) => Err(no_room(&error)),
    }
}

fn no_room(error: &std::io::Error) -> ReadFault {
    ReadFault::new(
        format!("could not sort rows in a temporary file: {error}"),
        "make room in the folder for temporary files, or name another in TMPDIR",
    )
}

fn deliver_sorted(mut sorted: crate::sorted::Sorted, job: &Job) -> Result<(), ReadFault> {
    let mut batch = Batch::default();
    let mut last: Option<Vec<u8>> = None;
    let mut twice = false;
    loop {
        let more = sorted
            .next(&mut |row| {
                twice |= row.identified && last.as_deref() == Some(row.key);
                let last = last.get_or_insert_default();
                last.clear();
                last.extend_from_slice(row.key);
                batch.push(row);
            })
            .map_err(|error| no_room(&error))?;
        if twice {
            return Err(RowFault::KeyTwice.into());
        }
        if !more || batch.bytes() >= job.writer.batch_bytes() {
            if job.messages.send(Message::Rows(std::mem::take(&mut batch))).is_err() || !more {
                return Ok(());
            }
            batch = job.spent.try_recv().unwrap_or_default();
            batch.clear();
        }
    }
}

fn estimate(reports: &BTreeMap<NodeId, Opened>, table: usize) -> u64 {
    reports
        .values()
        .filter_map(|report| report.estimates.get(table).copied().flatten())
        .max()
        .unwrap_or(0)
}

struct Comparison<'a> {
    table: InScope<'a>,
    shapes: BTreeMap<NodeId, TableShape>,
    agreement: shape::Agreement,
    streams: Vec<(NodeId, Box<dyn RowStream>)>,
    folios: Option<FoliosOfNodes>,
    unread: BTreeMap<NodeId, String>,
}

/// The other end of what the nodes read by folios.
struct FoliosOfNodes {
    counted: Receiver<(NodeId, Counted)>,
    chosen: BTreeMap<NodeId, Sender<Option<Arc<Chosen>>>>,
}

/// Agrees on what to compare of a table and hands the nodes their work.
fn prepare<'a>(
    request: &AuditRequest<'a>,
    table: InScope<'a>,
    at: usize,
    reports: &BTreeMap<NodeId, Opened>,
    workers: &BTreeMap<NodeId, Worker<'_>>,
    batch_bytes: usize,
) -> Comparison<'a> {
    let mut shapes = BTreeMap::new();
    let mut unread = BTreeMap::new();
    for node in members(table.expectation.carriers() & request.nodes) {
        let report = &reports[&node];
        match (&report.node.fault, report.shapes.get(at)) {
            (Some(fault), _) => drop(unread.insert(node, fault.to_string())),
            (None, Some(Some(Ok(shape)))) => drop(shapes.insert(node, shape.clone())),
            (None, Some(Some(Err(fault)))) => drop(unread.insert(node, fault.to_string())),
            (None, _) => drop(unread.insert(node, fallen_over().to_string())),
        }
    }
    let set = &request.topology.sets[table.set];
    let topology = request.topology;
    let aliases = topology.nodes.iter().enumerate();
    let aliases =
        aliases.filter_map(|(id, node)| Some((id, node.column_names.get(table.table)?.clone())));
    let as_they_are = BTreeMap::new();
    let terms = Terms {
        choice: &set.columns,
        treatments: topology.compare.get(table.table).unwrap_or(&as_they_are),
        zone: topology.zone.as_ref(),
        aliases: &aliases.collect(),
        names: topology,
    };
    let mut agreement = shape::agree(&shapes, &terms);
    match &agreement.unordered {
        Some(reason) => {
            tracing::info!("table {}: compared by folios of key hashes: {reason}", table.table)
        }
        None => tracing::info!("table {}: merged in key order", table.table),
    }
    unread.append(&mut agreement.refused);
    let mut streams: Vec<(NodeId, Box<dyn RowStream>)> = Vec::new();
    let mut folios = None;
    if let Some(layout) = &agreement.layout {
        let (say, counted) = bounded(agreement.local_columns.len() * QUEUE);
        if agreement.unordered.is_some() {
            folios = Some(FoliosOfNodes { counted, chosen: BTreeMap::new() });
        }
        for (node, columns) in &agreement.local_columns {
            let (messages, incoming) = bounded(QUEUE);
            let (give_back, spent) = bounded(QUEUE);
            let job = Job {
                request: TableRequest {
                    table: request.topology.nodes[*node].name_of(table.table).to_owned(),
                    columns: columns.clone(),
                    filter: set.filter.clone(),
                    ordered: folios.is_none(),
                },
                writer: RowWriter::new(layout.clone(), request.function, batch_bytes),
                messages,
                spent,
                folios: folios.as_mut().map(|folios| {
                    let (choose, chosen) = bounded(1);
                    folios.chosen.insert(*node, choose);
                    ByFolio { node: *node, counted: say.clone(), chosen }
                }),
            };
            if let Some(jobs) = workers.get(node).and_then(|worker| worker.jobs.as_ref()) {
                drop(jobs.send(job));
            }
            streams.push((*node, Box::new(ChannelStream { incoming, give_back })));
        }
    } else {
        for node in
            shapes.keys().filter(|node| !unread.contains_key(node)).copied().collect::<Vec<_>>()
        {
            unread.insert(node, "no other node's table could be compared with it".to_owned());
        }
    }
    Comparison { table, shapes, agreement, streams, folios, unread }
}

fn settle(
    request: &AuditRequest<'_>,
    comparison: Comparison<'_>,
    sink: &mut dyn AuditSink,
) -> ControlFlow<()> {
    let Comparison { table, shapes, agreement, streams, folios, mut unread } = comparison;
    sink.table(&TableHead {
        topology: request.topology,
        set: table.set,
        table: table.table,
        layout: agreement.layout.as_ref(),
        expectation: &table.expectation,
        shapes: &shapes,
        local_columns: &agreement.local_columns,
        notes: &agreement.notes,
        unordered: agreement.unordered.as_deref(),
    })?;
    let totals = folios.map(|folios| choose(request, &table, folios, sink)).unwrap_or_default();
    let mut tally = agreement.layout.as_ref().map_or_else(Tally::default, |layout| {
        compare::compare(layout, &table.expectation, streams, &mut Forward(sink), &request.stop)
    });
    tally.balances.extend(totals);
    unread.extend(tally.lost.iter().map(|(node, reason)| (*node, reason.clone())));
    if tally.stopped {
        for node in tally.balances.keys() {
            unread.entry(*node).or_insert_with(|| "stopped before the end".to_owned());
        }
    }
    let verdict = match (tally.divergent, unread.is_empty()) {
        (0, true) => Verdict::Agrees,
        (0, false) => Verdict::Unread,
        _ => Verdict::Diverges,
    };
    let stopped = tally.stopped;
    let flow = sink.table_done(&TableOutcome { tally, unread, verdict });
    if stopped { ControlFlow::Break(()) } else { flow }
}

/// Waits for the balances of all folios and tells the nodes which of them to read; returns what
/// each node holds in all.
fn choose(
    request: &AuditRequest<'_>,
    table: &InScope<'_>,
    nodes: FoliosOfNodes,
    sink: &mut dyn AuditSink,
) -> BTreeMap<NodeId, Balance> {
    let mut found: BTreeMap<NodeId, Box<Folios>> = BTreeMap::new();
    let mut waiting: Nodes = nodes.chosen.keys().fold(0, |all, node| all | bit(*node));
    let shown = nodes.chosen.keys().next().copied();
    while waiting != 0 {
        match nodes.counted.recv() {
            Ok((node, Counted::Rows(rows))) if Some(node) == shown => sink.advanced(rows),
            Ok((_, Counted::Rows(_))) => {}
            Ok((node, Counted::All(folios))) => {
                waiting &= !bit(node);
                found.insert(node, folios);
            }
            Ok((node, Counted::Fault(fault))) => {
                tracing::debug!(node, %fault, "lost while its folios were summed up");
                waiting &= !bit(node);
            }
            Err(_) => break, // a thread fell over; its stream says so
        }
    }
    let read = found.keys().fold(0, |all, node| all | bit(*node));
    let chosen = if table.expectation.all_alike(read) {
        Chosen::unlike(&found.values().map(|folios| &**folios).collect::<Vec<_>>())
    } else {
        // Nodes that hold different rows by design: nothing can be told from their sums.
        Chosen::all()
    };
    tracing::debug!(table = table.table, folios = chosen.count(), "folios to read row by row");
    let chosen = (chosen.any() && !(request.stop)()).then(|| Arc::new(chosen));
    for choose in nodes.chosen.values() {
        drop(choose.send(chosen.clone()));
    }
    found.iter().map(|(node, folios)| (*node, folios.total())).collect()
}

struct Forward<'a>(&'a mut dyn AuditSink);

impl Findings for Forward<'_> {
    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        self.0.divergent(row)
    }

    fn advanced(&mut self, keys: u64) {
        self.0.advanced(keys);
    }
}

struct ChannelStream {
    incoming: Receiver<Message>,
    give_back: Sender<Batch>,
}

impl RowStream for ChannelStream {
    fn next_batch(&mut self, spent: Batch) -> Result<Option<Batch>, String> {
        // A full channel means the reader has memory enough.
        drop(self.give_back.try_send(spent));
        match self.incoming.recv() {
            Ok(Message::Rows(batch)) => Ok(Some(batch)),
            Ok(Message::End) => Ok(None),
            Ok(Message::Fault(fault)) => Err(fault.to_string()),
            Err(_) => Err(fallen_over().to_string()),
        }
    }
}
