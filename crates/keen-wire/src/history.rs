//! The ledger's notes on runs, a link or a table.

use serde::{Deserialize, Serialize};

use crate::envelope::{Ending, Envelope, NamedNode};

/// History as one document.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct HistoryDocument {
    /// The envelope. Its nodes are the ends of the link, if it is of one.
    #[serde(flatten)]
    pub envelope: Envelope<NamedNode>,
    /// The ending that every document has.
    #[serde(flatten)]
    pub ending: Ending,
    /// Its subject.
    #[serde(flatten)]
    pub history: HistoryOf,
}

/// The subject of history, the latest first.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "of", rename_all = "snake_case")]
pub enum HistoryOf {
    /// Runs.
    Runs {
        /// Nothing.
        name: Option<String>,
        /// They.
        history: Vec<RunEntry>,
    },
    /// A link.
    Link {
        /// Its ends.
        name: String,
        /// How it was found.
        history: Vec<LinkEntry>,
    },
    /// A table.
    Table {
        /// Its name in the sets.
        name: String,
        /// The results of audits.
        history: Vec<TableEntry>,
        /// Its conflicts by the day of their last write.
        conflicts_by_day: Vec<DayEntry>,
        /// Its conflicts that were accepted.
        accepted_conflicts: Vec<AcceptedEntry>,
    },
}

/// A run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct RunEntry {
    /// Its number.
    pub run: i64,
    /// When it began, UTC.
    pub at: Option<String>,
    /// The command.
    pub command: String,
    /// How long it took, in seconds.
    pub seconds: f64,
    /// Its exit code.
    pub exit: u8,
    /// The result of a run.
    pub summary: String,
}

/// A link as a run found it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LinkEntry {
    /// When the run began, UTC.
    pub at: Option<String>,
    /// The node's name of it.
    pub name: Option<String>,
    /// How it was.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::link_state"))]
    pub state: String,
    /// Why.
    pub reason: String,
    /// The part that it lacked, in `unit`.
    pub behind: Option<u64>,
    /// The unit that is counted.
    pub unit: Option<String>,
    /// How late it was, in seconds.
    pub late_seconds: Option<f64>,
}

/// The result of an audit of a table.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct TableEntry {
    /// When the run began, UTC.
    pub at: Option<String>,
    /// The set.
    pub set: String,
    /// The result of a run.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::verdict"))]
    pub verdict: String,
    /// Rows that were read, on all nodes together.
    pub rows: u64,
    /// Divergent rows that were settled.
    pub divergent: u64,
    /// Rows on their way.
    pub in_flight: u64,
    /// Rows that were being written to.
    pub moving: u64,
    /// Rows that were equal when they were read again.
    pub healed: u64,
}

/// The conflicts of a table whose last write was made on one day.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct DayEntry {
    /// The day, UTC; null for those whose time nobody told.
    pub day: Option<String>,
    /// How many.
    pub conflicts: u64,
    /// Of these, how many had not come together when they were last seen.
    pub apart: u64,
    /// Writes that were lost in them.
    pub writes_lost: u64,
}

/// A conflict that was accepted.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct AcceptedEntry {
    /// The number by which people name it.
    pub id: String,
    /// It, as the ledger names it.
    pub conflict: String,
    /// The reason given.
    pub because: String,
    /// When, UTC.
    pub at: Option<String>,
    /// Its standing then.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::conflict_standing"))]
    pub standing: String,
    /// How many of its writes were lost then.
    pub writes_lost: u64,
}
