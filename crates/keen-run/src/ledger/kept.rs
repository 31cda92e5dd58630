//! The contents of a ledger, as they are read back.

use std::collections::BTreeSet;

use keen_core::observe::links::Micros;
use keen_core::observe::position::Position;
use keen_core::row::digest::DigestFunction;

/// A run, as it was kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RunThen {
    /// Its number.
    pub id: i64,
    /// The command.
    pub command: String,
    /// When it began.
    pub started: Micros,
    /// How long it took, in milliseconds.
    pub took_ms: i64,
    /// Its exit code.
    pub exit: u8,
    /// The result of a run.
    pub summary: String,
}

/// A link at an earlier run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinkThen {
    /// When the run began.
    pub at: Micros,
    /// The node's name of it.
    pub name: Option<String>,
    /// How it was.
    pub state: String,
    /// Why.
    pub reason: String,
    /// The part that it lacked, in `unit`.
    pub gap: Option<u64>,
    /// The unit that is counted.
    pub unit: Option<String>,
    /// How late it was, in milliseconds.
    pub late_ms: Option<i64>,
}

/// A table at an earlier audit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TableThen {
    /// When the run began.
    pub at: Micros,
    /// Its set.
    pub set: String,
    /// The result of a run.
    pub verdict: String,
    /// Rows read on all nodes.
    pub rows: u64,
    /// Rows that differed.
    pub divergent: u64,
    /// Rows on their way.
    pub in_flight: u64,
    /// Rows that were being written to.
    pub moving: u64,
    /// Rows that were equal at a second look.
    pub healed: u64,
}

/// The conflicts of one table whose last write was made on one day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DayThen {
    /// The day, in UTC, like `2026-09-25`; none for those whose time nobody told.
    pub day: Option<String>,
    /// How many there were.
    pub conflicts: u64,
    /// Of these so many whose standing was apart or against the rules when they were last seen.
    pub apart: u64,
    /// Writes that were lost in them.
    pub lost: u64,
}

/// A look at a node at an earlier run, as far as it tells how its log moved.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NodeThen {
    /// When it was looked at.
    pub at: Micros,
    /// How far its log had come.
    pub position: Option<Position>,
    /// It was a standby.
    pub standby: bool,
}

/// A slot at an earlier run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SlotThen {
    /// The node it was on.
    pub node: String,
    /// Its name.
    pub slot: String,
    /// Up to where its reader had everything.
    pub confirmed: Position,
    /// How many transactions had been prepared for it.
    pub prepared: Option<u64>,
    /// Since when the server had counted them.
    pub counted_since: Option<String>,
    /// When the run began.
    pub at: Micros,
}

/// Why a conflict is accepted, and as what.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Accepted {
    /// The conflict, as the ledger names it.
    pub name: String,
    /// Its table.
    pub table: String,
    /// The reason given.
    pub because: String,
    /// When.
    pub at: Micros,
    /// Its standing then: what came later is not accepted.
    pub standing: String,
    /// How many of its writes were lost then.
    pub lost: u64,
}

/// The short name of a conflict, by which people name it.
#[must_use]
pub fn conflict_id(name: &str) -> String {
    // Among as many conflicts as keen judges two share one once in a million times.
    format!("{:012x}", DigestFunction::Xxh3.digest(name.as_bytes()).0 & 0xffff_ffff_ffff)
}

/// A conflict as a run proved it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proof {
    /// The conflict, as the ledger names it.
    pub name: String,
    /// Its table.
    pub table: String,
    /// Its kind.
    pub kind: String,
    /// Its subject, the key of a row for one.
    pub thing: String,
    /// Its transactions.
    pub ids: BTreeSet<String>,
    /// When the first and the last of them were made.
    pub made: Option<(Micros, Micros)>,
    /// When the run began that proved it; it says so itself.
    pub seen: Micros,
    /// Its standing.
    pub standing: String,
    /// How many of its writes were lost.
    pub lost: u64,
    /// It in words.
    pub told: String,
    /// It as JSON.
    pub document: String,
}
