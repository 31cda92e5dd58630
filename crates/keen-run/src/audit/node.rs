//! The threads of one node: open it, say what its tables look like, read them.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::thread::Scope;
use std::time::{Duration, Instant, SystemTime};

use crossbeam_channel::{Receiver, Sender};
use keen_core::fault::ReadFault;
use keen_core::ports::{ReadRows, TableRequest};
use keen_core::row::batch::{Batch, Row, RowFault, RowWriter};
use keen_core::row::buckets::{Buckets, Mismatched};
use keen_core::row::schema::TableShape;
use keen_core::row::selection::RowSelection;
use keen_core::topology::NodeId;

use super::{NodeOutcome, Rate};
use crate::opener::OpenRows;
use crate::spool::row_sort::{Sorted, Sorter};

/// A node's answer when it was opened.
pub(super) struct OpenedNode {
    pub(super) node: NodeOutcome,
    /// Of each wanted table its shape, or why not.
    pub(super) shapes: Vec<Option<Result<TableShape, ReadFault>>>,
    pub(super) estimates: Vec<Option<u64>>,
    /// Of each wanted table the bounds of its key, where it can be read in stretches.
    pub(super) bounds: Vec<Option<(i64, i64)>>,
    /// How many sessions read it side by side.
    pub(super) lanes: usize,
}

impl OpenedNode {
    pub(super) fn failed(fault: ReadFault) -> Self {
        let node = NodeOutcome {
            about: String::new(),
            read_at: None,
            fault: Some(fault),
            in_no_set: None,
        };
        Self { node, shapes: Vec::new(), estimates: Vec::new(), bounds: Vec::new(), lanes: 0 }
    }
}

pub(super) enum NodeMessage {
    Rows(Batch),
    End,
    Fault(ReadFault),
}

/// One table, or a stretch of one, to be read.
pub(super) struct Job {
    pub(super) request: TableRequest,
    pub(super) writer: RowWriter,
    pub(super) messages: Sender<NodeMessage>,
    pub(super) spent: Receiver<Batch>,
    pub(super) manner: Manner,
}

/// In which order a node delivers the rows of a job.
pub(super) enum Manner {
    /// As the engine orders them.
    InOrder,
    /// The balances of its buckets first; then the rows of the chosen ones, sorted here.
    ByBucket(ByBucket),
    /// Those of some keys, a few at a time, sorted here.
    ByKeys,
}

/// Everything that a node needs to read a table by buckets: first their balances, then the chosen ones.
pub(super) struct ByBucket {
    pub(super) node: NodeId,
    pub(super) counted: Sender<(NodeId, ScanEnd)>,
    pub(super) chosen: Receiver<Option<Arc<Mismatched>>>,
}

pub(super) enum ScanEnd {
    Rows(u64),
    All(Box<Buckets>),
    Fault(ReadFault),
}

/// Keeps one session's reading to its share of the node's rate.
#[derive(Clone)]
pub(super) struct Pace<'a> {
    pub(super) rate: Option<Rate>,
    pub(super) stop: &'a (dyn Fn() -> bool + Sync),
    began: Instant,
    taken: u64,
    sharing: u64,
}

impl<'a> Pace<'a> {
    pub(super) fn new(rate: Option<Rate>, stop: &'a (dyn Fn() -> bool + Sync)) -> Self {
        Self { rate, began: Instant::now(), taken: 0, sharing: 1, stop }
    }

    fn shared_by(mut self, sessions: usize) -> Self {
        self.sharing = sessions.max(1) as u64;
        self
    }

    /// Waits until what was taken so far is no more than the rate allows; at most a tenth of a
    /// second at a time, so that it can be stopped.
    fn keep(&mut self, batch: &Batch) {
        let Some(rate) = self.rate else { return };
        let (amount, a_second) = match rate {
            Rate::Rows(rows) => (batch.len(), rows),
            Rate::Bytes(bytes) => (batch.bytes(), bytes),
        };
        self.taken += amount as u64 * self.sharing;
        #[expect(clippy::cast_precision_loss, reason = "a waiting time")]
        let due = Duration::from_secs_f64(self.taken as f64 / a_second as f64);
        let early = |due: Duration| due.checked_sub(self.began.elapsed()).filter(|e| !e.is_zero());
        while let Some(early) = early(due) {
            if (self.stop)() {
                return;
            }
            std::thread::sleep(early.min(Duration::from_millis(100)));
        }
    }
}

/// Memory of one node for sorting what it reads out of order; more goes to a file.
const SORT_MEMORY: usize = 8 << 20;

/// The task of a node's thread.
pub(super) struct Duty<'a> {
    pub(super) node: NodeId,
    pub(super) open: &'a OpenRows<'a>,
    /// Its names of the tables that it carries; none for the others.
    pub(super) wanted: Vec<Option<String>>,
    /// Its names of the tables of all sets.
    pub(super) named: Vec<String>,
    pub(super) report: Sender<OpenedNode>,
    /// One queue of work per session; it may have fewer sessions than queues.
    pub(super) lanes: Vec<Receiver<Job>>,
    pub(super) pace: Pace<'a>,
}

/// The thread of one node. Starts one more for each further session.
pub(super) fn serve<'scope, 'env>(scope: &'scope Scope<'scope, 'env>, duty: Duty<'env>) {
    let Duty { node, open, wanted, named, report, lanes, pace } = duty;
    let mut reader = match open(node) {
        Ok(reader) => reader,
        Err(fault) => {
            tracing::debug!(node, %fault, "could not open");
            drop(report.send(OpenedNode::failed(fault)));
            return;
        }
    };
    let read_at = Some(SystemTime::now());
    let twins = if lanes.len() > 1 { reader.twins(lanes.len() - 1) } else { Vec::new() };
    let of_each = |what: &mut dyn FnMut(&String) -> Option<(i64, i64)>| {
        wanted.iter().map(|table| table.as_ref().and_then(&mut *what)).collect::<Vec<_>>()
    };
    let shapes =
        wanted.iter().map(|table| table.as_ref().map(|table| reader.shape(table))).collect();
    let bounds = match twins.len() {
        0 => vec![None; wanted.len()],
        _ => of_each(&mut |table| reader.key_bounds(table)),
    };
    let estimates = wanted
        .iter()
        .map(|table| table.as_ref().and_then(|table| reader.estimate(table)))
        .collect();
    let in_no_set = reader.other_tables(&named).unwrap_or_else(|fault| {
        tracing::debug!(node, %fault, "which of its tables are in no set is not known");
        None
    });
    let outcome = NodeOutcome { about: reader.about(), read_at, fault: None, in_no_set };
    let sessions = 1 + twins.len();
    if report
        .send(OpenedNode { node: outcome, shapes, estimates, bounds, lanes: sessions })
        .is_err()
    {
        return;
    }
    let mut lanes = lanes.into_iter();
    let first = lanes.next();
    let pace = pace.shared_by(sessions);
    for (mut twin, lane) in twins.into_iter().zip(lanes) {
        let pace = pace.clone();
        scope.spawn(move || {
            drop(catch_unwind(AssertUnwindSafe(|| work(&mut *twin, &lane, pace))));
        });
    }
    if let Some(lane) = first {
        work(&mut *reader, &lane, pace);
    }
}

fn work(reader: &mut dyn ReadRows, lane: &Receiver<Job>, mut pace: Pace<'_>) {
    for job in lane {
        let done = match &job.manner {
            Manner::InOrder => {
                let mut deliver = |batch: Batch| {
                    pace.keep(&batch);
                    job.messages.send(NodeMessage::Rows(batch)).ok()?;
                    Some(job.spent.try_recv().unwrap_or_default())
                };
                reader.read(&job.request, job.writer.clone(), &mut deliver)
            }
            Manner::ByBucket(by_bucket) => read_by_bucket(reader, &job, by_bucket, &mut pace),
            Manner::ByKeys => read_by_keys(reader, &job, &mut pace),
        };
        // Nobody listens any more when the comparison was stopped.
        drop(job.messages.send(done.map_or_else(NodeMessage::Fault, |()| NodeMessage::End)));
    }
}

/// Sums up the buckets of a table, then delivers the rows of those that were chosen, in key order.
fn read_by_bucket(
    reader: &mut dyn ReadRows,
    job: &Job,
    by_bucket: &ByBucket,
    pace: &mut Pace<'_>,
) -> Result<(), ReadFault> {
    let say = |counted| by_bucket.counted.send((by_bucket.node, counted)).ok();
    let mut buckets = Box::<Buckets>::default();
    let counted = reader.read(&job.request, job.writer.clone(), &mut |batch| {
        pace.keep(&batch);
        buckets.post(&batch);
        say(ScanEnd::Rows(batch.len() as u64))?;
        Some(batch)
    });
    match counted {
        Ok(()) => say(ScanEnd::All(buckets)).unwrap_or_default(),
        Err(fault) => {
            say(ScanEnd::Fault(fault.clone()));
            return Err(fault);
        }
    }
    let Ok(Some(chosen)) = by_bucket.chosen.recv() else {
        return Ok(());
    };
    let mut sorter = Sorter::new(SORT_MEMORY);
    sort(reader, job, &job.request, &mut sorter, pace, &|row| chosen.has(row))?;
    let sorted = sorter.finish().map_err(|error| no_room(&error))?;
    deliver_sorted(sorted, job, false)
}

/// Rows that one statement asks for by their keys.
const KEYS_AT_ONCE: usize = 200;

/// Delivers the rows of some keys in key order. Keys that the engine takes for one come twice, and count once.
fn read_by_keys(
    reader: &mut dyn ReadRows,
    job: &Job,
    pace: &mut Pace<'_>,
) -> Result<(), ReadFault> {
    let RowSelection::Keys(keys) = &job.request.rows else { return Ok(()) };
    let mut sorter = Sorter::new(SORT_MEMORY);
    for keys in keys.in_pieces(KEYS_AT_ONCE) {
        if (pace.stop)() {
            return Err(ReadFault::interrupted());
        }
        let rows = RowSelection::Keys(Arc::new(keys));
        let request = TableRequest { rows, ..job.request.clone() };
        sort(reader, job, &request, &mut sorter, pace, &|_| true)?;
    }
    let sorted = sorter.finish().map_err(|error| no_room(&error))?;
    deliver_sorted(sorted, job, true)
}

/// Puts the wanted ones of the rows that a request asks for into a sorter.
fn sort(
    reader: &mut dyn ReadRows,
    job: &Job,
    request: &TableRequest,
    sorter: &mut Sorter,
    pace: &mut Pace<'_>,
    wanted: &dyn Fn(&Row<'_>) -> bool,
) -> Result<(), ReadFault> {
    let mut failed = None;
    reader.read(request, job.writer.clone(), &mut |batch| {
        pace.keep(&batch);
        for row in (0..batch.len()).filter_map(|at| batch.get(at)).filter(wanted) {
            if let Err(error) = sorter.add(&row) {
                failed = Some(error);
                return None;
            }
        }
        Some(batch)
    })?;
    failed.map_or(Ok(()), |error| Err(no_room(&error)))
}

fn no_room(error: &std::io::Error) -> ReadFault {
    ReadFault::new(
        format!("could not sort rows in a temporary file: {error}"),
        "make room in the folder for temporary files, or name another in TMPDIR",
    )
}

fn deliver_sorted(mut sorted: Sorted, job: &Job, once: bool) -> Result<(), ReadFault> {
    let mut batch = Batch::default();
    let mut last: Option<Vec<u8>> = None;
    let mut twice = false;
    loop {
        let more = sorted
            .next(&mut |row| {
                let again = row.identified && last.as_deref() == Some(row.key);
                if again && once {
                    return;
                }
                twice |= again;
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
            if job.messages.send(NodeMessage::Rows(std::mem::take(&mut batch))).is_err() || !more {
                return Ok(());
            }
            batch = job.spent.try_recv().unwrap_or_default();
            batch.clear();
        }
    }
}
