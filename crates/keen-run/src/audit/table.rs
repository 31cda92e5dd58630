//! One table over all nodes: agree on what to compare, hand out the work, settle.

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::topology::node_set::NodeSet;
use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, bounded};
use keen_core::audit::merge::{self, DivergentRow, Findings, RowStream, Tally};
use keen_core::audit::schema_match::{self, ComparisonSchema};
use keen_core::ports::TableRequest;
use keen_core::row::balance::Balance;
use keen_core::row::batch::{Batch, Layout, RowWriter};
use keen_core::row::buckets::{Buckets, Mismatched};
use keen_core::row::schema::TableShape;
use keen_core::row::selection::{RowKeys, RowSelection, Segment};
use keen_core::topology::placement::Expectation;
use keen_core::topology::{NodeId, SetId};
use keen_core::value::Value;

use super::node::{ByBucket, Job, Manner, NodeMessage, OpenedNode, ScanEnd};
use super::{AuditRequest, AuditSink, QUEUE, TableHead, TableOutcome, Verdict, fallen_over};

/// Why a table counts as unread on a node that could be read.
const NOBODY_ELSE: &str = "no other node's table could be compared with it";

/// Why a table was not read to its end.
const STOPPED: &str = "stopped before the end";

/// A table of a set that is to be compared.
pub(super) struct InScope<'a> {
    pub(super) set: SetId,
    pub(super) table: &'a str,
    pub(super) expectation: Expectation,
}

/// The rows of one segment of a table, from every node that has them.
type SegmentRows = Vec<(NodeId, Box<dyn RowStream + Send>)>;

pub(super) struct Comparison<'a> {
    table: InScope<'a>,
    shapes: BTreeMap<NodeId, TableShape>,
    agreement: ComparisonSchema,
    parts: Vec<SegmentRows>,
    buckets: Option<BucketsOfNodes>,
    unread: BTreeMap<NodeId, ReadFault>,
}

/// The other end of what the nodes read by buckets.
struct BucketsOfNodes {
    counted: Receiver<(NodeId, ScanEnd)>,
    chosen: BTreeMap<NodeId, Sender<Option<Arc<Mismatched>>>>,
}

/// Keys that span less than this are not worth several sessions.
const WORTH_SPLITTING: u64 = 10_000;

/// Agrees on what to compare of a table and hands the nodes their work.
pub(super) fn prepare<'a>(
    request: &AuditRequest<'a>,
    table: InScope<'a>,
    at: usize,
    reports: &BTreeMap<NodeId, OpenedNode>,
    lanes: &BTreeMap<NodeId, Vec<Sender<Job>>>,
    batch_bytes: usize,
) -> Comparison<'a> {
    let topology = request.topology;
    let mut shapes = BTreeMap::new();
    let mut unread = BTreeMap::new();
    for node in (table.expectation.carriers() & request.nodes).iter() {
        let report = &reports[&node];
        match (&report.node.fault, report.shapes.get(at)) {
            (Some(fault), _) => drop(unread.insert(node, fault.clone())),
            (None, Some(Some(Ok(shape)))) => drop(shapes.insert(node, shape.clone())),
            (None, Some(Some(Err(fault)))) => drop(unread.insert(node, fault.clone())),
            (None, _) => drop(unread.insert(node, fallen_over())),
        }
    }
    let agreement = schema_match::agree_on(topology, table.set, table.table, &shapes);
    let unlike = |why: &String| ReadFault::new(why, "").of(FaultKind::Unlike);
    unread.extend(agreement.refused.iter().map(|(node, why)| (*node, unlike(why))));
    let Some(layout) = agreement.layout.clone() else {
        for node in shapes.keys().filter(|node| !unread.contains_key(node)).collect::<Vec<_>>() {
            let alone = ReadFault::new(NOBODY_ELSE, "").of(FaultKind::Alone);
            unread.insert(*node, alone);
        }
        return Comparison { table, shapes, agreement, parts: Vec::new(), buckets: None, unread };
    };
    let wanted = request.only.get(&(table.set, table.table.to_owned()));
    let wanted = wanted.and_then(|keys| by_keys(&agreement, &layout, &shapes, keys));
    let segments = match wanted {
        Some(_) => vec![RowSelection::All],
        None => segments(request, &agreement, at, reports),
    };
    say_how(table.table, &agreement, segments.len(), wanted.is_some());
    let (say, counted) = bounded(agreement.local_columns.len() * QUEUE);
    let by_bucket = agreement.unordered.is_some() && wanted.is_none();
    let mut buckets = by_bucket.then(|| BucketsOfNodes { counted, chosen: BTreeMap::new() });
    let mut parts: Vec<SegmentRows> = Vec::new();
    for (part, segment) in segments.iter().enumerate() {
        let mut streams: SegmentRows = Vec::new();
        for (node, columns) in &agreement.local_columns {
            let (messages, incoming) = bounded(QUEUE);
            let (give_back, spent) = bounded(QUEUE);
            let keys = wanted.as_ref().and_then(|wanted| wanted.get(node)).cloned();
            let manner = match (&keys, &mut buckets) {
                (Some(_), _) => Manner::ByKeys,
                (None, None) => Manner::InOrder,
                (None, Some(buckets)) => {
                    let (choose, chosen) = bounded(1);
                    buckets.chosen.insert(*node, choose);
                    Manner::ByBucket(ByBucket { node: *node, counted: say.clone(), chosen })
                }
            };
            let job = Job {
                request: TableRequest {
                    table: topology.nodes[*node].name_of(table.table).to_owned(),
                    columns: columns.clone(),
                    filter: topology.sets[table.set].filter.clone(),
                    ordered: matches!(manner, Manner::InOrder),
                    rows: keys.map_or_else(|| segment.clone(), RowSelection::Keys),
                },
                writer: RowWriter::new(layout.clone(), request.function, batch_bytes),
                messages,
                spent,
                manner,
            };
            let open = reports[node].lanes.max(1);
            if let Some(lane) = lanes.get(node).and_then(|lanes| lanes.get(part % open)) {
                drop(lane.send(job));
            }
            streams.push((*node, Box::new(ChannelStream { incoming, give_back })));
        }
        parts.push(streams);
    }
    Comparison { table, shapes, agreement, parts, buckets, unread }
}

/// The wanted keys as each node keeps them; none if some node could miss one that is asked for by its values.
fn by_keys(
    agreement: &ComparisonSchema,
    layout: &Layout,
    shapes: &BTreeMap<NodeId, TableShape>,
    keys: &Arc<[Vec<Value>]>,
) -> Option<BTreeMap<NodeId, Arc<RowKeys>>> {
    let of_node = |(node, columns): (&NodeId, &Vec<String>)| {
        let keys = RowKeys::of(layout, shapes.get(node)?, columns, Arc::clone(keys))?;
        Some((*node, Arc::new(keys)))
    };
    agreement.local_columns.iter().map(of_node).collect()
}

/// The segments of a table that are read side by side; one of everything where it is not split.
fn segments(
    request: &AuditRequest<'_>,
    agreement: &ComparisonSchema,
    at: usize,
    reports: &BTreeMap<NodeId, OpenedNode>,
) -> Vec<RowSelection> {
    let bounds = |node: &NodeId| reports[node].bounds.get(at).copied().flatten();
    let known: Vec<(i64, i64)> = agreement.local_columns.keys().filter_map(bounds).collect();
    let least = known.iter().map(|(least, _)| *least).min();
    let greatest = known.iter().map(|(_, greatest)| *greatest).max();
    match (least, greatest) {
        (Some(least), Some(greatest))
            if request.threads > 1
                && agreement.unordered.is_none()
                && known.len() == agreement.local_columns.len()
                && greatest.abs_diff(least) >= WORTH_SPLITTING =>
        {
            let segments = Segment::split(least, greatest, request.threads);
            segments.into_iter().map(RowSelection::Segment).collect()
        }
        _ => vec![RowSelection::All],
    }
}

fn say_how(table: &str, agreement: &ComparisonSchema, parts: usize, by_keys: bool) {
    match &agreement.unordered {
        _ if by_keys => tracing::info!("table {table}: some rows, by their keys"),
        Some(reason) => {
            tracing::info!("table {table}: compared by buckets of key hashes: {reason}");
        }
        None if parts > 1 => {
            tracing::info!("table {table}: merged in key order, {parts} segments side by side");
        }
        None => tracing::info!("table {table}: merged in key order"),
    }
}

/// Compares what the nodes deliver, and concludes.
pub(super) fn settle(
    request: &AuditRequest<'_>,
    comparison: Comparison<'_>,
    sink: &mut dyn AuditSink,
) -> ControlFlow<()> {
    let Comparison { table, shapes, agreement, parts, buckets, mut unread } = comparison;
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
    let totals = buckets.map(|buckets| choose(request, &table, &buckets, sink)).unwrap_or_default();
    let mut tally = agreement.layout.as_ref().map_or_else(Tally::default, |layout| {
        side_by_side(request, layout, &table.expectation, parts, sink)
    });
    tally.balances.extend(totals);
    unread.extend(tally.lost.iter().map(|(node, fault)| (*node, fault.clone())));
    if tally.stopped {
        for node in tally.balances.keys() {
            let stopped = || ReadFault { what: STOPPED.to_owned(), ..ReadFault::interrupted() };
            unread.entry(*node).or_insert_with(stopped);
        }
    }
    let verdict = match (tally.divergent, unread.is_empty()) {
        (0, true) => Verdict::Agrees,
        (0, false) => Verdict::Unread,
        _ => Verdict::Diverges,
    };
    let stopped = tally.stopped;
    let flow = sink.table_done(&TableOutcome::new(tally, unread, verdict));
    if stopped { ControlFlow::Break(()) } else { flow }
}

/// Merges each part; findings come out in the order of the parts, so in key order.
fn side_by_side(
    request: &AuditRequest<'_>,
    layout: &Layout,
    expectation: &Expectation,
    mut parts: Vec<SegmentRows>,
    sink: &mut dyn AuditSink,
) -> Tally {
    if parts.len() == 1 {
        let streams = plain(parts.remove(0));
        return merge::compare(layout, expectation, streams, &mut Forward(sink), &request.stop);
    }
    let enough = AtomicBool::new(false);
    let keys = AtomicU64::new(0);
    let stop = || enough.load(Ordering::Relaxed) || (request.stop)();
    std::thread::scope(|scope| {
        let (stop, keys) = (&stop, &keys);
        let merges: Vec<_> = parts
            .into_iter()
            .map(|streams| {
                let (found, findings) = bounded(FINDINGS_KEPT);
                let merge = scope.spawn(move || {
                    let mut found = ToChannel { found, keys };
                    merge::compare(layout, expectation, plain(streams), &mut found, stop)
                });
                (findings, merge)
            })
            .collect();
        let mut whole = Tally::default();
        for (findings, merge) in merges {
            loop {
                let flow = match findings.recv_timeout(Duration::from_millis(100)) {
                    Ok(row) => sink.divergent(row),
                    Err(RecvTimeoutError::Timeout) => ControlFlow::Continue(()),
                    Err(RecvTimeoutError::Disconnected) => break,
                };
                sink.advanced(keys.swap(0, Ordering::Relaxed));
                if flow.is_break() {
                    enough.store(true, Ordering::Relaxed);
                    break;
                }
            }
            drop(findings);
            match merge.join() {
                Ok(tally) => add(&mut whole, tally),
                Err(_) => whole.stopped = true,
            }
        }
        sink.advanced(keys.swap(0, Ordering::Relaxed));
        whole.stopped |= enough.load(Ordering::Relaxed);
        whole
    })
}

/// Divergent rows of later parts that wait for those of earlier ones.
const FINDINGS_KEPT: usize = 256;

fn plain<'s>(part: SegmentRows) -> Vec<(NodeId, Box<dyn RowStream + 's>)> {
    part.into_iter().map(|(node, stream)| (node, stream as Box<dyn RowStream>)).collect()
}

fn add(whole: &mut Tally, part: Tally) {
    for (node, balance) in part.balances {
        let total = whole.balances.entry(node).or_default();
        total.rows = total.rows.wrapping_add(balance.rows);
        total.sum = total.sum.wrapping_add(balance.sum);
    }
    whole.divergent += part.divergent;
    for (link, count) in part.unsatisfied {
        *whole.unsatisfied.entry(link).or_default() += count;
    }
    whole.lost.extend(part.lost);
    whole.stopped |= part.stopped;
}

/// Waits for the balances of all buckets and tells the nodes which of them to read; returns what
/// each node holds in all.
fn choose(
    request: &AuditRequest<'_>,
    table: &InScope<'_>,
    nodes: &BucketsOfNodes,
    sink: &mut dyn AuditSink,
) -> BTreeMap<NodeId, Balance> {
    let mut found: BTreeMap<NodeId, Box<Buckets>> = BTreeMap::new();
    let mut waiting: NodeSet = nodes.chosen.keys().collect::<NodeSet>();
    let shown = nodes.chosen.keys().next().copied();
    while !waiting.is_empty() {
        match nodes.counted.recv() {
            Ok((node, ScanEnd::Rows(rows))) if Some(node) == shown => sink.advanced(rows),
            Ok((_, ScanEnd::Rows(_))) => {}
            Ok((node, ScanEnd::All(buckets))) => {
                waiting.remove(node);
                found.insert(node, buckets);
            }
            Ok((node, ScanEnd::Fault(fault))) => {
                tracing::debug!(node, %fault, "lost while its buckets were summed up");
                waiting.remove(node);
            }
            Err(_) => break, // a thread fell over; its stream says so
        }
    }
    let read = found.keys().collect::<NodeSet>();
    let chosen = if table.expectation.all_alike(read) {
        Mismatched::unlike(&found.values().map(|buckets| &**buckets).collect::<Vec<_>>())
    } else {
        // Nodes that hold different rows by design: nothing can be told from their sums.
        Mismatched::all()
    };
    tracing::debug!(table = table.table, buckets = chosen.count(), "buckets to read row by row");
    let chosen = (chosen.any() && !(request.stop)()).then(|| Arc::new(chosen));
    for choose in nodes.chosen.values() {
        drop(choose.send(chosen.clone()));
    }
    found.iter().map(|(node, buckets)| (*node, buckets.total())).collect()
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

struct ToChannel<'a> {
    found: Sender<DivergentRow>,
    keys: &'a AtomicU64,
}

impl Findings for ToChannel<'_> {
    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        match self.found.send(row) {
            Ok(()) => ControlFlow::Continue(()),
            Err(_) => ControlFlow::Break(()),
        }
    }

    fn advanced(&mut self, keys: u64) {
        self.keys.fetch_add(keys, Ordering::Relaxed);
    }
}

struct ChannelStream {
    incoming: Receiver<NodeMessage>,
    give_back: Sender<Batch>,
}

impl RowStream for ChannelStream {
    fn next_batch(&mut self, spent: Batch) -> Result<Option<Batch>, ReadFault> {
        // A full channel means the reader has memory enough.
        drop(self.give_back.try_send(spent));
        match self.incoming.recv() {
            Ok(NodeMessage::Rows(batch)) => Ok(Some(batch)),
            Ok(NodeMessage::End) => Ok(None),
            Ok(NodeMessage::Fault(fault)) => Err(fault),
            Err(_) => Err(fallen_over()),
        }
    }
}
