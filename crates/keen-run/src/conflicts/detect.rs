//! From the records of one thing to writes that collide, before their outcome is known.

use std::collections::{BTreeMap, BTreeSet};

use keen_core::history::happened_before::{Chain, Deed, History, Saw, Write, WriterId, chains};
use keen_core::history::journal::{Writer, empties};
use keen_core::topology::NodeId;

use super::record_sort::{NO_CONTENT, NO_TIME, WriteRecord};
use super::resume::{self, Carried, HandingOn, StoredRecords};
use super::scan_journal::Reshaped;
use super::{MOST_JUDGED, MOST_LIVED, MOST_WRITES};
use crate::conflicts::ConflictsRequest;
use crate::tables::{self, SetTable};

/// Writes of one thing that collide, before its outcome is known.
pub(super) struct Candidate {
    pub(super) table: usize,
    /// Which list of unique columns, from 1; 0 for a row.
    pub(super) unique: usize,
    pub(super) skipped: bool,
    pub(super) writes: Vec<Write>,
    pub(super) chain: Chain,
    /// By write of the chain where its content is kept: from the first change of it to the last.
    pub(super) kept: Vec<WriteSource>,
    /// Repairs of keen's changed it, too.
    pub(super) repaired: bool,
}

/// Where what a write wrote is kept.
#[derive(Debug, Clone, Copy)]
pub(super) struct WriteSource {
    pub(super) node: NodeId,
    pub(super) first: u64,
    pub(super) last: u64,
    /// The table of what was written, if it is another than the thing's.
    pub(super) table: usize,
}

/// A change of a table's shape, over all journals.
pub(super) struct Reshaping {
    pub(super) table: usize,
    pub(super) write: Write,
    pub(super) what: String,
    /// Rows written elsewhere meanwhile, by node.
    pub(super) rows: BTreeMap<NodeId, u64>,
    /// Those of them that are not handed on to the next run.
    pub(super) settled_rows: BTreeMap<NodeId, u64>,
    pub(super) proven: bool,
}

impl Reshaping {
    /// Whether it takes out every row that was there.
    pub(super) fn empties(&self) -> bool {
        empties(&self.what)
    }
}

pub(super) fn reshaping(
    history: &History,
    writers: &[Writer],
    changes: &[Reshaped],
    earlier: Option<&Carried>,
) -> Vec<Reshaping> {
    debug_assert!(changes.iter().all(|change| usize::from(change.writer) < writers.len()));
    let rows = |change: &Reshaped| {
        let earlier = earlier.map(|e| e.rows_of(change.table, change.writer, change.place));
        earlier.unwrap_or_default()
    };
    let mut all: BTreeMap<(usize, WriterId, u64), Reshaping> = BTreeMap::new();
    for change in changes {
        let known =
            all.entry((change.table, change.writer, change.place)).or_insert_with(|| Reshaping {
                table: change.table,
                write: Write {
                    writer: change.writer,
                    place: change.place,
                    made: change.made,
                    orders: Vec::new(),
                    deed: Deed::Update,
                },
                what: change.what.clone(),
                rows: rows(change),
                settled_rows: rows(change),
                proven: true,
            });
        if known.write.order_at(change.node).is_none() {
            known.write.orders.push((change.node, change.order));
        }
    }
    let mut all: Vec<Reshaping> = all.into_values().collect();
    all.retain(|reshaping| !history.is_later(&reshaping.write));
    all
}

pub(super) struct Judging<'a> {
    pub(super) request: &'a ConflictsRequest<'a>,
    pub(super) tables: &'a [SetTable],
    pub(super) history: &'a History,
    /// Tokens of the rows whose life is wanted.
    pub(super) wanted: BTreeSet<u128>,
    pub(super) lives: Vec<(u128, Candidate)>,
    pub(super) shapes: Vec<Reshaping>,
    pub(super) candidates: Vec<Candidate>,
    pub(super) more: u64,
    pub(super) reused: Vec<(WriterId, u64)>,
    /// The state for the next run, where that is wanted.
    pub(super) handing_on: Option<HandingOn>,
    /// Those under whom keen's repairs are numbered: a repair is nobody's write, and races with none.
    pub(super) repairs: BTreeSet<WriterId>,
    /// Those who number their transactions in a domain of MariaDB.
    pub(super) domains: BTreeSet<WriterId>,
    /// Of the thing at hand some write was a repair.
    pub(super) repaired: bool,
    /// The records that the journals still have.
    pub(super) held: StoredRecords<'a>,
}

fn leave_out<T>(list: &mut Vec<T>, marked: &[bool]) {
    let mut marks = marked.iter();
    list.retain(|_| marks.next() != Some(&true));
}

impl Judging<'_> {
    /// The records of one thing, over all journals.
    pub(super) fn group(&mut self, records: &[WriteRecord]) {
        let table = usize::from(records[0].table);
        let (mut writes, mut kept) = (Vec::new(), Vec::new());
        let mut rows = Vec::new();
        // Made after their own journals were read: they belong to a later look.
        let mut later: Vec<WriteRecord> = Vec::new();
        for of_write in records.chunk_by(|a, b| (a.writer, a.place) == (b.writer, b.place)) {
            if writes.len() == MOST_WRITES {
                // What comes after may have raced too: that is counted, and the result is not complete.
                self.more += 1;
                break;
            }
            if self.is_replacement(of_write) {
                continue;
            }
            if self.history.is_later(&bare(of_write)) {
                later.extend(of_write);
            } else if let Some((write, place)) = self.write(of_write) {
                rows.push(of_write[0].row);
                writes.push(write);
                kept.push(place);
            }
        }
        let unique = match records[0].deed() {
            Deed::Take => usize::from(records[0].unique),
            _ => 0,
        };
        if unique == 0 && writes.iter().any(|write| write.deed != Deed::Refer) {
            for reshaping in self.shapes.iter().filter(|r| r.table == table && r.empties()) {
                let node = self.history.node_of(&reshaping.write).unwrap_or(0);
                writes.push(Write { deed: Deed::Delete, ..reshaping.write.clone() });
                rows.push(records[0].row);
                kept.push(WriteSource { node, first: NO_CONTENT, last: NO_CONTENT, table });
            }
        }
        if unique == 0 && self.wanted.contains(&records[0].thing) {
            self.lives.push((records[0].thing, life(table, &writes, &kept)));
        }
        let repairs: Vec<bool> =
            writes.iter().map(|write| self.repairs.contains(&write.writer)).collect();
        self.repaired = repairs.contains(&true);
        leave_out(&mut writes, &repairs);
        leave_out(&mut rows, &repairs);
        leave_out(&mut kept, &repairs);
        let found = chains(self.history, &writes);
        let raced = !found.is_empty()
            || writes.iter().any(|w| {
                !resume::is_settled(self.history, &self.tables[table], w, self.held.latest)
            });
        let goes_on =
            raced && writes.iter().any(|w| !self.held.is_forgotten(w.writer, w.place, w.made));
        match &mut self.handing_on {
            Some(handing_on) if goes_on => handing_on.take(records),
            Some(handing_on) => handing_on.take(&later),
            None => {}
        }
        if unique == 0 {
            self.against_shapes(table, &writes, goes_on);
        }
        let in_chain: Vec<usize> = found.iter().flat_map(|chain| chain.writes.clone()).collect();
        for chain in found {
            let mut of_rows: Vec<u64> = chain.writes.iter().map(|at| rows[*at]).collect();
            of_rows.sort_unstable();
            of_rows.dedup();
            // One row that is written twice with one value is no matter of that value.
            if unique == 0 || of_rows.len() > 1 {
                self.keep(table, unique, false, &writes, &chain, &kept);
            }
        }
        if unique == 0 {
            let skipped: Vec<usize> = (0..writes.len())
                .filter(|at| !in_chain.contains(at) && self.is_skipped(table, &writes[*at]))
                .collect();
            if !skipped.is_empty() {
                let count = skipped.len();
                let chain = Chain {
                    writes: skipped,
                    proven: vec![true; count],
                    healed_by: None,
                    seen_later: vec![true; count],
                };
                self.keep(table, 0, true, &writes, &chain, &kept);
            }
        }
    }

    /// Whether a transaction did not write the thing where it was made, as that node's log tells: an applier that
    /// replaces what stands in its way logs that under the transaction it applies.
    fn is_replacement(&self, records: &[WriteRecord]) -> bool {
        let writer = records[0].writer;
        let Some(own) = self.history.writers.get(usize::from(writer)).copied().flatten() else {
            return false;
        };
        // What is replaced goes: whatever else no log of its maker tells, that log did not tell whole.
        let goes = records.iter().all(|record| record.deed() == Deed::Delete);
        goes && self.domains.contains(&writer)
            && records.iter().all(|record| NodeId::from(record.node) != own)
            && self.history.tells_of(own, writer, records[0].place)
    }

    pub(super) fn keep(
        &mut self,
        table: usize,
        unique: usize,
        skipped: bool,
        writes: &[Write],
        chain: &Chain,
        kept: &[WriteSource],
    ) {
        if self.candidates.len() == MOST_JUDGED {
            self.more += 1;
            return;
        }
        // By node, and there in the order in which they were made.
        let mut order: Vec<usize> = (0..chain.writes.len()).collect();
        order.sort_by_key(|number| {
            let write = &writes[chain.writes[*number]];
            let node = self.history.node_of(write);
            let own = node.and_then(|node| write.order_at(node));
            (node.is_none(), node, own, write.place)
        });
        let chain = Chain {
            writes: order.iter().map(|number| chain.writes[*number]).collect(),
            proven: order.iter().map(|number| chain.proven[*number]).collect(),
            seen_later: order.iter().map(|number| chain.seen_later[*number]).collect(),
            healed_by: chain.healed_by,
        };
        let kept = chain.writes.iter().map(|at| kept[*at]).collect();
        let (writes, repaired) = (writes.to_vec(), self.repaired);
        let candidate = Candidate { table, unique, skipped, writes, chain, kept, repaired };
        self.candidates.push(candidate);
    }

    /// One transaction's write of the thing, from what all journals have of it.
    pub(super) fn write(&mut self, records: &[WriteRecord]) -> Option<(Write, WriteSource)> {
        let first = &records[0];
        let Write { orders, .. } = bare(records);
        let times = records.iter().map(|record| record.made).filter(|made| *made != NO_TIME);
        let earliest = times.min();
        if differ(records)
            && !self.reused.contains(&(first.writer, first.place))
            && self.reused.len() < 100
        {
            self.reused.push((first.writer, first.place));
        }
        let own = self.history.writers.get(usize::from(first.writer)).copied().flatten();
        let told = |record: &&WriteRecord| record.content != NO_CONTENT;
        let from = records
            .iter()
            .find(|record| told(record) && Some(NodeId::from(record.node)) == own)
            .or_else(|| records.iter().find(told))
            .unwrap_or(first);
        // All that this journal has of the transaction's doings with the thing, in order.
        let doings: Vec<&WriteRecord> = records
            .iter()
            .filter(|record| record.node == from.node && record.order == from.order)
            .collect();
        let mut own_doings = doings.iter().filter(|record| record.deed() != Deed::Refer);
        let (Some(begun), Some(ended)) = (own_doings.clone().next(), own_doings.next_back()) else {
            let kept = WriteSource {
                node: NodeId::from(from.node),
                first: from.content,
                last: from.content,
                table: usize::from(from.unique),
            };
            let write = Write {
                writer: first.writer,
                place: first.place,
                made: earliest,
                orders,
                deed: Deed::Refer,
            };
            return Some((write, kept));
        };
        let deed = match (begun.deed(), ended.deed()) {
            // A row that came and went within one transaction was never there.
            (Deed::Insert, Deed::Delete) => return None,
            (Deed::Insert, Deed::Insert | Deed::Update) => Deed::Insert,
            (_, Deed::Delete) => Deed::Delete,
            (Deed::Take, _) => Deed::Take,
            _ => Deed::Update,
        };
        let write =
            Write { writer: first.writer, place: first.place, made: earliest, orders, deed };
        let kept = WriteSource {
            node: NodeId::from(from.node),
            first: begun.content,
            last: ended.content,
            table: usize::from(from.table),
        };
        Some((write, kept))
    }

    pub(super) fn is_skipped(&self, table: usize, write: &Write) -> bool {
        if write.deed == Deed::Refer {
            return false;
        }
        let Some(from) = self.history.node_of(write) else { return false };
        (tables::reaches(&self.tables[table], from) & self.request.nodes)
            .iter()
            .any(|node| self.history.skipped(node, write))
    }

    /// Counts rows that were written while the shape of their table was changed elsewhere.
    pub(super) fn against_shapes(&mut self, table: usize, writes: &[Write], goes_on: bool) {
        for reshaping in self.shapes.iter_mut().filter(|reshaping| reshaping.table == table) {
            let at = self.history.node_of(&reshaping.write);
            for write in writes.iter().filter(|write| write.deed != Deed::Refer) {
                let Some(node) = self.history.node_of(write).filter(|node| Some(*node) != at)
                else {
                    continue;
                };
                if self.history.concurrent(&reshaping.write, write) == Saw::Yes {
                    *reshaping.rows.entry(node).or_insert(0) += 1;
                    if !goes_on {
                        *reshaping.settled_rows.entry(node).or_insert(0) += 1;
                    }
                }
            }
        }
    }
}

/// Whether one transaction left a thing in different ways, as journals tell. Only what it left counts: an applier
/// that replaces a row logs more than its origin did, and the second of a commit may differ between their logs.
fn differ(records: &[WriteRecord]) -> bool {
    let left: Vec<(u64, u64)> = records
        .chunk_by(|a, b| a.node == b.node)
        .filter_map(|of_node| of_node.last())
        .map(|record| (record.gist >> 32, record.gist & 0xffff_ffff))
        .collect();
    left.windows(2).any(|pair| pair[0].0 == pair[1].0 && pair[0].1 != pair[1].1)
}

/// A transaction, and where the journals have it.
fn bare(records: &[WriteRecord]) -> Write {
    let mut orders: Vec<(NodeId, u64)> = Vec::new();
    for record in records {
        let node = NodeId::from(record.node);
        match orders.last_mut() {
            Some((last, order)) if *last == node => *order = (*order).min(record.order),
            _ => orders.push((node, record.order)),
        }
    }
    let (writer, place) = (records[0].writer, records[0].place);
    Write { writer, place, made: None, orders, deed: Deed::Update }
}

/// The writes of a row that are told, as one candidate.
pub(super) fn life(table: usize, writes: &[Write], kept: &[WriteSource]) -> Candidate {
    let mut told: Vec<usize> =
        (0..writes.len()).filter(|at| writes[*at].deed != Deed::Refer).collect();
    let count = told.len();
    // As far as there is one order: by what most journals say, else by the clocks.
    told.sort_by_key(|at| (writes[*at].made, writes[*at].writer, writes[*at].place));
    told.drain(..count.saturating_sub(MOST_LIVED));
    Candidate {
        table,
        unique: 0,
        skipped: false,
        kept: told.iter().map(|at| kept[*at]).collect(),
        chain: Chain {
            proven: vec![false; told.len()],
            seen_later: vec![false; told.len()],
            healed_by: None,
            writes: told,
        },
        writes: writes.to_vec(),
        // Repairs are among its writes.
        repaired: false,
    }
}
