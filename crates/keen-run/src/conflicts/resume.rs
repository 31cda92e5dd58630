//! The state that one run hands on to the next, so that journals are read on from where they were.
//!
//! A write that every node has applied can race with nothing that is written later. So of what was read only
//! little is still needed: writes that had not arrived everywhere, and all writes of the things that raced,
//! to tell again what came of them. They are handed on as they were read, with their places in the
//! journals; and of each journal, where it ended and what had been applied by then. A run that goes on
//! finds what one would that reads everything again. Where so much had not arrived that it cannot be kept,
//! nothing is handed on, and an earlier place stays the one to go on from.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::sync::Arc;

use keen_core::history::happened_before::{
    Arrivals, Besides, Heard, History, Start, Write, WriterId,
};
use keen_core::history::journal::{Head, JournalPosition, Since, Stream, Writer};
use keen_core::row::digest::DigestFunction;
use keen_core::topology::{NodeId, Topology};
use serde::{Deserialize, Serialize};

use super::detect::Reshaping;
use super::record_sort::{Contents, NO_CONTENT, RECORD_SIZE, WriteRecord};
use super::scan_journal::{Read, Reshaped, Seen};
use crate::tables::SetTable;

/// Changes whenever what is handed on does, or how it is judged.
const FORM: u32 = 3;

/// Records that are handed on; of more, none are.
pub(super) const MOST_RECORDS: usize = 200_000;
/// Bytes of contents that are handed on.
const MOST_CONTENTS: usize = 64 << 20;

/// The state that a run hands on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Carried {
    about: About,
    records: Vec<WriteRecord>,
    /// The contents of the records, one after the other.
    contents: Vec<u8>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct About {
    form: u32,
    /// A token of the topology and the tables then.
    fits: String,
    writers: Vec<(String, Numbering)>,
    nodes: BTreeMap<NodeId, JournalProgress>,
    shapes: Vec<Reshaped>,
    /// By change of shape the rows that were written elsewhere meanwhile, so far as they are not handed on.
    rows: Vec<(usize, WriterId, u64, BTreeMap<NodeId, u64>)>,
    reused: Vec<(WriterId, u64)>,
}

/// A [`Stream`], as it is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
enum Numbering {
    Count,
    Domain(u32),
    Lsn,
    Repair,
}

/// How far a node's journal was read.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub(super) struct JournalProgress {
    order: u64,
    at: String,
    identity: Option<String>,
    pub(super) transactions: u64,
    pub(super) writes: u64,
    pub(super) times: Option<(i64, i64)>,
    /// Writes whose row cannot be told, by table.
    pub(super) unknown_rows: BTreeMap<usize, u64>,
    spans: BTreeMap<WriterId, OfWriter>,
}

/// The part of a writer's transactions that a journal had.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
struct OfWriter {
    /// Everything up to here had been applied, but for what is missing.
    up_to: u64,
    last: Option<u64>,
    /// Of those above, and of those handed on, where they stand.
    arrivals: Vec<(u64, u64)>,
    missing: BTreeSet<u64>,
    unclear: BTreeSet<u64>,
}

/// Of one run, what it is to hand on.
#[derive(Debug, Default)]
pub(super) struct HandingOn {
    pub(super) records: Vec<WriteRecord>,
    /// There is more of it than can be handed on.
    pub(super) over: bool,
}

impl HandingOn {
    /// Takes the records of one thing.
    pub(super) fn take(&mut self, records: &[WriteRecord]) {
        self.over |= self.records.len() + records.len() > MOST_RECORDS;
        if self.over {
            self.records = Vec::new();
        } else {
            self.records.extend(records);
        }
    }
}

/// A token of the topology and the tables: a run goes on only from one for which it was the same.
pub(super) fn fits(topology: &Topology, tables: &[SetTable]) -> String {
    let all = format!("{FORM} {topology:?} {tables:?}");
    format!("{:032x}", DigestFunction::Xxh3.digest(all.as_bytes()).0)
}

impl Carried {
    /// As it is kept.
    ///
    /// # Errors
    /// When it cannot be written down, which is a defect.
    pub fn to_bytes(&self) -> serde_json::Result<Vec<u8>> {
        let mut bytes = serde_json::to_vec(&self.about)?;
        bytes.push(b'\n');
        bytes.extend(u64::try_from(self.records.len()).unwrap_or(u64::MAX).to_be_bytes());
        bytes.extend(self.records.iter().flat_map(|record| record.to_bytes()));
        bytes.extend(&self.contents);
        Ok(bytes)
    }

    /// From what was kept; none if it is not of this form.
    #[must_use]
    pub fn from_bytes(bytes: &[u8]) -> Option<Self> {
        let end = bytes.iter().position(|byte| *byte == b'\n')?;
        let about: About = serde_json::from_slice(&bytes[..end]).ok()?;
        let (count, rest) = bytes[end + 1..].split_at_checked(8)?;
        let count = usize::try_from(u64::from_be_bytes(count.try_into().ok()?)).ok()?;
        let (records, contents) = rest.split_at_checked(count.checked_mul(RECORD_SIZE)?)?;
        let records = records.chunks_exact(RECORD_SIZE);
        let records = records
            .filter_map(|bytes| Some(WriteRecord::from_bytes(bytes.try_into().ok()?)))
            .collect();
        (about.form == FORM).then(|| Self { about, records, contents: contents.to_vec() })
    }

    /// Whether a run can go on from it: nothing that it rests on has changed.
    pub(super) fn suits(&self, fits: &str, heads: &BTreeMap<NodeId, Head>) -> bool {
        let identity = |head: &Head| head.identity.as_ref().map(ToString::to_string);
        self.about.fits == fits
            && self.about.nodes.len() == heads.len()
            && (self.about.nodes.iter())
                .all(|(node, kept)| heads.get(node).map(identity) == Some(kept.identity.clone()))
    }

    /// Where the reading of a node's journal ended, in words of that journal.
    #[must_use]
    pub fn ended_at(&self, node: NodeId) -> Option<&str> {
        self.about.nodes.get(&node).map(|kept| &kept.at[..])
    }

    /// Where a node's journal was read to.
    pub(super) fn mark(&self, node: NodeId) -> Option<JournalPosition> {
        self.about
            .nodes
            .get(&node)
            .map(|kept| JournalPosition { order: kept.order, at: kept.at.clone() })
    }

    pub(super) fn writers(&self) -> Vec<Writer> {
        let writer = |(origin, stream): &(String, Numbering)| Writer {
            origin: Arc::from(&origin[..]),
            stream: match stream {
                Numbering::Count => Stream::Count,
                Numbering::Domain(domain) => Stream::Domain(*domain),
                Numbering::Lsn => Stream::Lsn,
                Numbering::Repair => Stream::Repair,
            },
        };
        self.about.writers.iter().map(writer).collect()
    }

    pub(super) fn reused(&self) -> Vec<(WriterId, u64)> {
        self.about.reused.clone()
    }

    /// The head of a journal, as of where it is read on.
    pub(super) fn head(&self, node: NodeId, head: &Head) -> Head {
        let Some(kept) = self.about.nodes.get(&node) else { return head.clone() };
        let writers = self.writers();
        let up_to = (kept.spans.iter())
            .filter_map(|(writer, of)| Some((writers.get(usize::from(*writer))?.clone(), of.up_to)))
            .collect();
        Head { since: Since::After(up_to), ..head.clone() }
    }

    /// The state with which a node's reading begins.
    pub(super) fn begin(&self, node: NodeId, own: &dyn Fn(WriterId) -> bool) -> ResumeState<'_> {
        let nothing = JournalProgress::default();
        let kept = self.about.nodes.get(&node).unwrap_or(&nothing);
        let mut last_own = BTreeMap::new();
        let spans = kept.spans.iter().map(|(writer, of)| {
            let mut arrivals = Arrivals::default();
            for (place, order) in &of.arrivals {
                arrivals.push(*place, *order);
            }
            let last = of.last.unwrap_or(of.up_to);
            if own(*writer) {
                last_own.insert(*writer, last);
            }
            (*writer, Seen { first: last, last, arrivals, besides: of.besides() })
        });
        let spans = spans.collect();
        let records = self.records.iter().filter(|record| usize::from(record.node) == node);
        let records = records.map(|record| {
            let content = (record.content != NO_CONTENT)
                .then(|| usize::try_from(record.content).ok())
                .flatten();
            (*record, content.and_then(|at| self.contents.get(at..)))
        });
        ResumeState {
            spans,
            last_own,
            times: kept.times,
            unknown_rows: kept.unknown_rows.clone(),
            shapes: self.about.shapes.iter().filter(|of| of.node == node).cloned().collect(),
            records: records.collect(),
            transactions: kept.transactions,
        }
    }

    /// Rows that were written elsewhere while a shape was changed, found earlier.
    pub(super) fn rows_of(
        &self,
        table: usize,
        writer: WriterId,
        place: u64,
    ) -> BTreeMap<NodeId, u64> {
        let found = self.about.rows.iter().find(|of| (of.0, of.1, of.2) == (table, writer, place));
        found.map(|of| of.3.clone()).unwrap_or_default()
    }
}

impl OfWriter {
    fn besides(&self) -> BTreeMap<u64, Besides> {
        let missing = self.missing.iter().map(|place| (*place, Besides::Missing));
        missing.chain(self.unclear.iter().map(|place| (*place, Besides::Unclear))).collect()
    }
}

/// The state with which the reading of a journal begins when it goes on.
#[derive(Debug, Default)]
pub(super) struct ResumeState<'a> {
    pub(super) spans: BTreeMap<WriterId, Seen>,
    pub(super) last_own: BTreeMap<WriterId, u64>,
    pub(super) times: Option<(i64, i64)>,
    pub(super) unknown_rows: BTreeMap<usize, u64>,
    pub(super) shapes: Vec<Reshaped>,
    /// Writes that were handed on, each with the bytes that begin with what it wrote.
    pub(super) records: Vec<(WriteRecord, Option<&'a [u8]>)>,
    /// Transactions that were read earlier.
    pub(super) transactions: u64,
}

/// The part of a journal's reading that is kept before its records are put into order.
pub(super) fn of_node(read: &Read, head: &Head) -> Option<JournalProgress> {
    let mark = read.ended.clone()?;
    Some(JournalProgress {
        order: mark.order,
        at: mark.at,
        identity: head.identity.as_ref().map(ToString::to_string),
        transactions: read.earlier + read.transactions,
        writes: read.writes,
        times: read.times,
        unknown_rows: read.unknown_rows.clone(),
        spans: BTreeMap::new(),
    })
}

/// Whether nothing that is written from now on can race with a write.
pub(super) fn is_settled(history: &History, table: &SetTable, write: &Write, latest: i64) -> bool {
    let own = history.node_of(write);
    history.journals.keys().all(|node| {
        if Some(*node) == own || !table.expectation.carriers().contains(*node) {
            return true;
        }
        match history.heard(*node, write) {
            Heard::At(_) | Heard::Before => true,
            // A row filter may keep it away for good: then what was made after it says that it has passed.
            Heard::Never => !table.whole && history.skipped(*node, write),
            Heard::Unclear => {
                let until = write.made.map(|made| made.saturating_add(2 * history.window));
                until.is_some_and(|until| until < latest)
            }
        }
    })
}

/// State is forgotten when no journal has it any more and it is so old, in microseconds.
const FORGOTTEN_AFTER: i64 = 30 * 24 * 3_600_000_000;

/// The records that the journals still have, if they are read from their beginnings.
pub(super) struct StoredRecords<'a> {
    pub(super) heads: &'a BTreeMap<NodeId, Head>,
    pub(super) writers: &'a [Writer],
    /// The nodes of the writers.
    pub(super) of: &'a [Option<NodeId>],
    /// The time of the last write of all.
    pub(super) latest: i64,
}

impl StoredRecords<'_> {
    /// Whether a write was long ago and is in no journal any more.
    pub(super) fn is_forgotten(&self, writer: WriterId, place: u64, made: Option<i64>) -> bool {
        let number = usize::from(writer);
        let Some(writer) = self.writers.get(number) else { return true };
        if made.is_some_and(|made| made.saturating_add(FORGOTTEN_AFTER) >= self.latest) {
            return false;
        }
        let gone_from = |head: &Head| match &head.since {
            Since::After(up_to) => Some(up_to.get(writer).is_some_and(|up_to| place <= *up_to)),
            Since::Unclear(_) => None,
        };
        let own = self.of.get(number).copied().flatten().and_then(|node| self.heads.get(&node));
        let own_gone = own.is_none_or(|head| match head.since {
            Since::Unclear(from) => place < from,
            Since::After(_) => gone_from(head).unwrap_or(false),
        });
        own_gone && self.heads.values().all(|head| gone_from(head).unwrap_or(own_gone))
    }
}

/// The rest of the state, besides what the journals hold.
pub(super) struct Rest<'a> {
    pub(super) fits: String,
    pub(super) writers: &'a [Writer],
    pub(super) shapes: Vec<Reshaped>,
    pub(super) reshapings: &'a [Reshaping],
    pub(super) reused: Vec<(WriterId, u64)>,
}

/// Puts together what is handed on; none if it is too much.
pub(super) fn hand_on(
    history: &History,
    handing_on: HandingOn,
    mut nodes: BTreeMap<NodeId, JournalProgress>,
    contents: &mut BTreeMap<NodeId, Contents>,
    rest: Rest<'_>,
) -> io::Result<Option<Carried>> {
    let HandingOn { mut records, over } = handing_on;
    if over {
        return Ok(None);
    }
    let mut kept = Vec::new();
    // In the order in which they stand in the files.
    records.sort_unstable_by_key(|record| (record.node, record.content));
    let mut last: Option<(u8, u64, u64)> = None;
    for record in &mut records {
        if record.content == NO_CONTENT {
            continue;
        }
        let was = (record.node, record.content);
        record.content = match last {
            Some((node, at, put)) if (node, at) == was => put,
            _ => {
                let at = kept.len() as u64;
                let Some(contents) = contents.get_mut(&NodeId::from(record.node)) else { continue };
                contents.copy(was.1, &mut kept)?;
                at
            }
        };
        last = Some((was.0, was.1, record.content));
        if kept.len() > MOST_CONTENTS {
            return Ok(None);
        }
    }
    let writes = writes_of(&records, &rest.shapes);
    for (node, of_node) in &mut nodes {
        of_node.spans = spans(history, *node, &writes);
    }
    let numbering = |stream: Stream| match stream {
        Stream::Count => Numbering::Count,
        Stream::Domain(domain) => Numbering::Domain(domain),
        Stream::Lsn | Stream::Time => Numbering::Lsn,
        Stream::Repair => Numbering::Repair,
    };
    let rows = rest.reshapings.iter().filter(|reshaping| !reshaping.settled_rows.is_empty());
    let about = About {
        form: FORM,
        fits: rest.fits,
        writers: (rest.writers.iter())
            .map(|writer| (writer.origin.to_string(), numbering(writer.stream)))
            .collect(),
        nodes,
        shapes: rest.shapes,
        rows: rows
            .map(|of| (of.table, of.write.writer, of.write.place, of.settled_rows.clone()))
            .collect(),
        reused: rest.reused,
    };
    Ok(Some(Carried { about, records, contents: kept }))
}

/// The transactions that are handed on, each with its places in the journals.
fn writes_of(
    records: &[WriteRecord],
    shapes: &[Reshaped],
) -> BTreeMap<(WriterId, u64), Vec<(NodeId, u64)>> {
    let mut writes: BTreeMap<(WriterId, u64), Vec<(NodeId, u64)>> = BTreeMap::new();
    let of_records = records.iter().map(|r| ((r.writer, r.place), (NodeId::from(r.node), r.order)));
    let of_shapes = shapes.iter().map(|s| ((s.writer, s.place), (s.node, s.order)));
    for (id, place) in of_records.chain(of_shapes) {
        let orders = writes.entry(id).or_default();
        if !orders.contains(&place) {
            orders.push(place);
        }
    }
    writes
}

/// The spans of each writer in a journal by now, as far as the next run can ask for them.
fn spans(
    history: &History,
    node: NodeId,
    writes: &BTreeMap<(WriterId, u64), Vec<(NodeId, u64)>>,
) -> BTreeMap<WriterId, OfWriter> {
    let Some(reach) = history.journals.get(&node) else { return BTreeMap::new() };
    let mut spans = BTreeMap::new();
    for (writer, span) in &reach.spans {
        let before = match span.start {
            Start::UpTo(up_to) => up_to,
            Start::Unclear(_) => 0,
        };
        let own = history.writers.get(usize::from(*writer)).copied().flatten() == Some(node);
        let last = span.last.unwrap_or(0).max(before);
        let up_to = match own {
            true => last,
            false => before.max(last.min(known_of(history, *writer))),
        };
        let mut of = OfWriter { up_to, last: span.last, ..OfWriter::default() };
        if !own {
            of.arrivals = span.arrivals.above(up_to);
            for ((_, place), orders) in writes.range((*writer, 0)..=(*writer, up_to)) {
                let write = Write {
                    writer: *writer,
                    place: *place,
                    made: None,
                    orders: orders.clone(),
                    deed: keen_core::history::happened_before::Deed::Update,
                };
                match history.heard(node, &write) {
                    Heard::At(order) => of.arrivals.push((*place, order)),
                    Heard::Before => {}
                    Heard::Never => drop(of.missing.insert(*place)),
                    Heard::Unclear => drop(of.unclear.insert(*place)),
                }
            }
            of.arrivals.sort_unstable_by_key(|(_, order)| *order);
        }
        spans.insert(*writer, of);
    }
    spans
}

/// Up to which number a writer's transactions are known one by one: to its own journal, or to all that know of it.
fn known_of(history: &History, writer: WriterId) -> u64 {
    let up_to = |node: &NodeId| {
        let span = history.journals.get(node)?.spans.get(&writer)?;
        let before = match span.start {
            Start::UpTo(up_to) => up_to,
            Start::Unclear(_) => 0,
        };
        let last = span.last.unwrap_or(0).max(before);
        (last > 0).then_some(last)
    };
    match history.writers.get(usize::from(writer)).copied().flatten() {
        Some(own) if history.journals.contains_key(&own) => up_to(&own).unwrap_or(0),
        _ => history.journals.keys().filter_map(up_to).min().unwrap_or(0),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const DAY: i64 = 24 * 3_600_000_000;

    #[test]
    fn what_is_old_and_in_no_journal_is_forgotten() {
        let writer = Writer { origin: Arc::from("1"), stream: Stream::Domain(0) };
        let head = |since: Since| Head {
            since,
            ..Head::nothing_known(String::new(), Some(Arc::from("1")))
        };
        let after = |place: u64| head(Since::After([(writer.clone(), place)].into()));
        let forgotten = |heads: Vec<Head>, made: Option<i64>| {
            let heads: BTreeMap<NodeId, Head> = heads.into_iter().enumerate().collect();
            let (writers, of) = ([writer.clone()], [Some(0)]);
            let held =
                StoredRecords { heads: &heads, writers: &writers, of: &of, latest: 100 * DAY };
            held.is_forgotten(0, 7, made)
        };
        let long_ago = Some(69 * DAY);
        assert!(forgotten(vec![after(7), after(9)], long_ago));
        assert!(forgotten(vec![after(7), after(9)], None));
        assert!(!forgotten(vec![after(7), after(9)], Some(71 * DAY)), "not old enough");
        assert!(!forgotten(vec![after(6), after(9)], long_ago), "its own node has it");
        assert!(!forgotten(vec![after(7), after(6)], long_ago), "another has it");
        assert!(forgotten(vec![head(Since::Unclear(8)), head(Since::Unclear(1))], long_ago));
        assert!(!forgotten(vec![head(Since::Unclear(7)), head(Since::Unclear(1))], long_ago));
    }

    #[test]
    fn bytes_that_are_no_state_are_refused() {
        for bytes in [&b""[..], b"{}\n", b"{\"form\":1}\n", b"\xff\n\0\0\0\0\0\0\0\x09"] {
            assert_eq!(Carried::from_bytes(bytes), None);
        }
    }
}
