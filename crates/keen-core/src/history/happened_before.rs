//! Which writes had seen which, and which were concurrent. No clock decides it.
//!
//! Each node's journal gives the order in which *it* applied writes. A write made at a node had seen
//! exactly what that node had applied before it. So of two writes of different nodes the later one is
//! that whose node had applied the other before; where neither had, they were concurrent: the
//! happened-before relation (L. Lamport, "Time, Clocks, and the Ordering of Events in a Distributed
//! System", CACM 21(7), 1978), read off journals instead of messages. It is asked of each write by
//! itself and not of a highest number, so it stays right where transactions of one origin were applied
//! out of order, or skipped at a node.
//!
//! A journal may not reach back far enough, or may not be readable. Then a question has no certain
//! answer; times within a window say what is *possible*, and nothing is *proven*.

use std::collections::BTreeMap;

pub use crate::history::arrivals::Arrivals;
pub use crate::history::chain::{Chain, chains};

use crate::observe::links::Micros;
use crate::topology::NodeId;

/// A numbering of transactions: one per node, or several where a node numbers in several streams.
pub type WriterId = u16;

/// The journals of a topology, as far as they are known.
#[derive(Debug, Clone, Default)]
pub struct History {
    /// By writer the node at which it writes; none for one that is no node of the topology.
    pub writers: Vec<Option<NodeId>>,
    /// How far each journal that was read reaches.
    pub journals: BTreeMap<NodeId, Reach>,
    /// Where nothing is certain: a write made so long after another, by their own clocks, is taken to have
    /// seen it. In microseconds.
    pub window: Micros,
}

/// How far a journal reaches.
#[derive(Debug, Clone, Default)]
pub struct Reach {
    /// By writer what the journal holds of it.
    pub spans: BTreeMap<WriterId, Span>,
    /// It begins where the node did, or it is known what had been applied before it begins: a writer
    /// without a span had written nothing then that arrived here.
    pub complete: bool,
}

/// The transactions of one writer in a journal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Span {
    /// The transactions that had been applied before the journal begins.
    pub start: Start,
    /// The highest place that the journal holds; none if it holds nothing of this writer.
    pub last: Option<u64>,
    /// Up to which place the node says that it has applied; after the journal was read, if it says so.
    pub applied: Option<u64>,
    /// Up to which place the node was done with what came before its journal was read, skipped writes included;
    /// nothing where it does not say.
    pub done: Option<u64>,
    /// Which of them stand in it, and where: also those whose write of a thing changed nothing there, and so
    /// is told by no journal.
    pub arrivals: Arrivals,
    /// Of what was made before the journal begins, that of which more is known than `start` says.
    pub besides: BTreeMap<u64, Besides>,
}

/// The status of a transaction that was made before a journal begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Besides {
    /// It had not been applied, though later ones of its writer had.
    Missing,
    /// Whether it had been applied is not known.
    Unclear,
}

/// The part of a writer's transactions that a node had applied before its journal begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Start {
    /// Everything up to and including this place, and nothing after.
    UpTo(u64),
    /// That is not known; but whatever was made from this place on would stand in the journal.
    Unclear(u64),
}

/// A write of one thing: a row, a unique value, a reference to a row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Write {
    /// Who numbered its transaction.
    pub writer: WriterId,
    /// Its transaction's number there.
    pub place: u64,
    /// When its transaction was committed there, by that node's clock.
    pub made: Option<Micros>,
    /// By node its place in the order in which that node applied it, ascending by node.
    pub orders: Vec<(NodeId, u64)>,
    /// The kind of write.
    pub deed: Deed,
}

/// The kind of a write to a thing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Deed {
    /// Put the row there.
    Insert,
    /// Changed it.
    Update,
    /// Took it away.
    Delete,
    /// Gave a value that must be unique to a row.
    Take,
    /// Made another row refer to it.
    Refer,
}

impl Deed {
    /// Its name in results.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Insert => "insert",
            Self::Update => "update",
            Self::Delete => "delete",
            Self::Take => "take",
            Self::Refer => "refer",
        }
    }

    /// Whether two of them get in each other's way when neither had seen the other.
    #[must_use]
    pub fn clashes_with(self, other: Self) -> bool {
        match (self, other) {
            (Self::Refer, Self::Refer) => false,
            (Self::Refer, other) | (other, Self::Refer) => other == Self::Delete,
            _ => true,
        }
    }
}

/// An answer about two writes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Saw {
    /// The later one's node had applied the other before.
    Yes,
    /// It had not.
    No,
    /// The journals do not tell.
    Unclear,
}

/// Where a write stands in the journal of a node.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Heard {
    /// At this place.
    At(u64),
    /// It was applied before the journal begins.
    Before,
    /// It was never applied, as far as the journal goes.
    Never,
    /// The journal does not tell.
    Unclear,
}

impl Write {
    /// Its place in the order of a node's journal.
    #[must_use]
    pub fn order_at(&self, node: NodeId) -> Option<u64> {
        self.orders.iter().find(|(at, _)| *at == node).map(|(_, order)| *order)
    }

    /// Whether both are the same transaction's.
    #[must_use]
    pub fn same_transaction(&self, other: &Self) -> bool {
        (self.writer, self.place) == (other.writer, other.place)
    }
}

impl History {
    /// The node at which a write was made, if it is one of the topology.
    #[must_use]
    pub fn node_of(&self, write: &Write) -> Option<NodeId> {
        self.writers.get(usize::from(write.writer)).copied().flatten()
    }

    /// Where a write stands in the journal of a node.
    #[must_use]
    pub fn heard(&self, node: NodeId, write: &Write) -> Heard {
        if let Some(order) = write.order_at(node) {
            return Heard::At(order);
        }
        let Some(reach) = self.journals.get(&node) else { return Heard::Unclear };
        let span = reach.spans.get(&write.writer);
        if let Some(order) = span.and_then(|span| span.arrivals.get(write.place)) {
            return Heard::At(order);
        }
        if span.and_then(|span| span.applied).is_some_and(|applied| write.place > applied) {
            return Heard::Never;
        }
        match span.and_then(|span| span.besides.get(&write.place)) {
            Some(Besides::Missing) => return Heard::Never,
            Some(Besides::Unclear) => return Heard::Unclear,
            None => {}
        }
        match span.map(|span| span.start) {
            Some(Start::UpTo(start)) if write.place <= start => Heard::Before,
            Some(Start::Unclear(from)) if write.place < from => Heard::Unclear,
            None if !reach.complete => Heard::Unclear,
            _ => Heard::Never,
        }
    }

    /// Whether a node's journal has what a writer made with this number, as far as it reaches.
    #[must_use]
    pub fn tells_of(&self, node: NodeId, writer: WriterId, place: u64) -> bool {
        let span = self.journals.get(&node).and_then(|reach| reach.spans.get(&writer));
        span.is_some_and(|span| {
            let begins = match span.start {
                Start::UpTo(start) => start.saturating_add(1),
                Start::Unclear(from) => from,
            };
            place >= begins && span.last.is_some_and(|last| place <= last)
        })
    }

    /// Whether the write was made after its own node's journal was read: it belongs to a later look.
    #[must_use]
    pub fn is_later(&self, write: &Write) -> bool {
        let Some(node) = self.node_of(write) else { return false };
        let Some(reach) = self.journals.get(&node) else { return false };
        if write.order_at(node).is_some() {
            return false;
        }
        let span = reach.spans.get(&write.writer);
        let begins = match span.map(|span| span.start) {
            Some(Start::UpTo(start)) => start.saturating_add(1),
            Some(Start::Unclear(from)) => from,
            None => 0,
        };
        let last = span.and_then(|span| span.last);
        write.place >= begins && last.is_none_or(|last| write.place > last)
    }

    /// Whether a node skipped the write: it applied later ones of the same origin, or is done with it, and never
    /// applied this one.
    #[must_use]
    pub fn skipped(&self, node: NodeId, write: &Write) -> bool {
        let span = self.journals.get(&node).and_then(|reach| reach.spans.get(&write.writer));
        let is_past = |span: &Span| {
            span.last.is_some_and(|last| last > write.place)
                || span.done.is_some_and(|done| done >= write.place)
        };
        self.heard(node, write) == Heard::Never && span.is_some_and(is_past)
    }

    /// Whether the write may yet arrive at a node: nothing later of its origin was applied there.
    #[must_use]
    pub fn may_yet_arrive(&self, node: NodeId, write: &Write) -> bool {
        self.journals.contains_key(&node)
            && self.heard(node, write) == Heard::Never
            && !self.skipped(node, write)
    }

    /// Whether `later` was made with `earlier` already applied where it was made.
    #[must_use]
    pub fn saw(&self, later: &Write, earlier: &Write) -> Saw {
        let yes = |yes: bool| if yes { Saw::Yes } else { Saw::No };
        let Some(node) = self.node_of(later) else {
            return match later.writer == earlier.writer {
                true => yes(earlier.place < later.place),
                false => Saw::Unclear,
            };
        };
        let own = later.order_at(node);
        if self.node_of(earlier) == Some(node) {
            return match (earlier.order_at(node), own) {
                (Some(earlier), Some(later)) => yes(earlier < later),
                // What stands in the journal comes after what was made before it begins.
                (None, Some(_)) => Saw::Yes,
                (Some(_), None) => Saw::No,
                (None, None) if earlier.writer == later.writer => yes(earlier.place < later.place),
                (None, None) => Saw::Unclear,
            };
        }
        match (self.heard(node, earlier), own) {
            (Heard::At(heard), Some(own)) => yes(heard < own),
            (Heard::At(_), None) if self.journals.contains_key(&node) => Saw::No,
            (Heard::Never, _) => Saw::No,
            (Heard::Before, Some(_)) => Saw::Yes,
            _ => Saw::Unclear,
        }
    }

    /// Whether neither had seen the other: certainly, certainly not, or that is unclear.
    #[must_use]
    pub fn concurrent(&self, one: &Write, other: &Write) -> Saw {
        if one.same_transaction(other) {
            return Saw::No;
        }
        match (self.saw(one, other), self.saw(other, one)) {
            (Saw::Yes, _) | (_, Saw::Yes) => Saw::No,
            (Saw::No, Saw::No) => Saw::Yes,
            _ => Saw::Unclear,
        }
    }
}
