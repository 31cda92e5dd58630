//! Conflicts: the document, its lines, and one conflict.

use indexmap::IndexMap;
use serde::{Deserialize, Serialize};

use crate::envelope::{ByNode, Ending, Envelope, FaultDocument, LinkRows};
use crate::value::Cells;

/// Conflicts as one document.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ConflictsDocument {
    /// Its beginning.
    #[serde(flatten)]
    pub start: ConflictsStart,
    /// The conflicts, the worst first.
    pub conflicts: Vec<ConflictDocument>,
    /// Proofs of earlier runs that the journals do not reach back to any more.
    pub proven_before: Vec<ProvenDocument>,
    /// Counts.
    pub summary: ConflictsSummary,
}

/// A line of conflicts.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum ConflictsLine {
    /// The first line.
    Start(Box<ConflictsStart>),
    /// A conflict.
    Conflict {
        /// It.
        conflict: Box<ConflictDocument>,
    },
    /// A proof of an earlier run.
    ProvenBefore {
        /// It.
        proven_before: ProvenDocument,
    },
    /// The last line. A stream without it is not whole.
    Summary {
        /// Counts.
        summary: ConflictsSummary,
    },
}

/// The beginning, before the conflicts.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ConflictsStart {
    /// The ending that every document has.
    #[serde(flatten)]
    pub envelope: Envelope<JournalNode>,
    /// The ending that every document has. It is complete if every journal and every
    /// wanted row was read, and no table and no conflict was left unjudged.
    #[serde(flatten)]
    pub ending: Ending,
    /// When the run was from which this one read on, UTC; null if the journals were read from their beginning.
    pub went_on_from: Option<String>,
    /// It was stopped before its end.
    pub interrupted: bool,
    /// By table, why it was not judged.
    pub tables_not_judged: IndexMap<String, String>,
    /// Nodes that hold of the row what no journal wrote.
    pub past_the_log: Vec<PastTheLogDocument>,
    /// Transactions that journals tell differently: their numbers were given out twice.
    pub reused: Vec<String>,
}

/// A node whose journal was to be read.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct JournalNode {
    /// Its name.
    pub node: String,
    /// The kind of journal.
    pub journal: String,
    /// Its own name as an origin.
    pub identity: Option<String>,
    /// It was read to its end.
    pub read: bool,
    /// It begins where the node did, or tells what was there before.
    pub complete: bool,
    /// Transactions that this run read.
    pub transactions: u64,
    /// Transactions that the runs read from which this one went on.
    pub transactions_before: u64,
    /// Writes to tables of the sets.
    pub writes: u64,
    /// When the first transaction was committed, UTC.
    pub from: Option<String>,
    /// When the last transaction was committed, UTC.
    pub to: Option<String>,
    /// Why the journal could not be read.
    pub fault: Option<FaultDocument>,
    /// Why the rows could not be read.
    pub rows_fault: Option<FaultDocument>,
    /// Notes.
    pub notes: Vec<String>,
}

/// A node that holds of a row what no journal wrote.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PastTheLogDocument {
    /// The node.
    pub node: String,
    /// The columns; none where the row itself is there or gone.
    pub columns: Vec<String>,
}

/// Counts of conflicts.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ConflictsSummary {
    /// How many there are.
    pub conflicts: u64,
    /// How many writes are lost.
    pub writes_lost: u64,
    /// How many only earlier runs tell.
    pub proven_before: u64,
    /// How many were found and not asked for.
    pub not_asked_for: u64,
    /// How many were not judged, because there are so many.
    pub not_judged: u64,
    /// By table and kind.
    pub by_table_and_kind: Vec<KindCounts>,
}

/// Counts of the conflicts of one kind in one table.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct KindCounts {
    /// The table.
    pub table: String,
    /// The kind.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::conflict_kind"))]
    pub kind: String,
    /// How many have which standing.
    pub standings: IndexMap<String, u64>,
    /// How many writes are lost.
    pub writes_lost: u64,
    /// How many are not proven.
    pub possible_only: u64,
}

/// A proof of an earlier run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ProvenDocument {
    /// The number by which people name the conflict.
    pub id: String,
    /// When that run began, UTC.
    pub by_run_of: Option<String>,
    /// It is accepted.
    pub accepted: bool,
    /// As that run told it; null where that cannot be read any more.
    pub conflict: Option<Box<ConflictDocument>>,
}

/// A conflict.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ConflictDocument {
    /// The number by which people name it.
    pub id: String,
    /// Why it is accepted; null if it is not.
    pub accepted: Option<AcceptedDocument>,
    /// Its kind.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::conflict_kind"))]
    pub kind: String,
    /// Its table.
    pub table: String,
    /// The set.
    pub set: String,
    /// Its area.
    pub of: ThingDocument,
    /// No earlier run that the ledger knows had found it; null where none had looked.
    pub new: Option<bool>,
    /// Its writes were certainly concurrent.
    pub proven: bool,
    /// Why that is not certain.
    pub doubt: Option<DoubtDocument>,
    /// The proof of an earlier run, where the journals tell less of it now.
    pub proven_before: Option<ProvenDocument>,
    /// Its standing.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::conflict_standing"))]
    pub standing: String,
    /// Every side wrote the same.
    pub harmless: bool,
    /// How many of its writes are lost.
    pub writes_lost: u64,
    /// Its writes, of very many the first.
    pub writes: Vec<WrittenDocument>,
    /// How many writes there are.
    pub writes_in_all: u64,
    /// Pairs of them, by index, of which neither had seen the other.
    pub unseen: Vec<(u64, u64)>,
    /// The rows that it is about, and what nodes hold of them now.
    pub rows: Vec<RowNowDocument>,
    /// By node, the index of the write that it holds.
    pub holds: ByNode<u64>,
    /// The rules that explain which write won.
    pub won_by: Vec<String>,
    /// The later transaction that healed it.
    pub healed_by: Option<HealingDocument>,
    /// Its key is a number that nodes count up.
    pub counted_key: bool,
    /// Columns in which both sides turned one number into the same other one.
    pub counted_alike: Vec<String>,
    /// Links that it breaks.
    pub breaks: Vec<LinkRows>,
}

/// Somebody's word on a conflict.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct AcceptedDocument {
    /// The reason given.
    pub because: String,
    /// When, UTC.
    pub at: Option<String>,
}

/// The subject of a conflict.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum ThingDocument {
    /// A row, by its key.
    Row(Cells),
    /// Values that must be unique together.
    Unique(Cells),
    /// The shape of a table.
    Shape(String),
}

/// Why it is not certain that writes were concurrent.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct DoubtDocument {
    /// The reason.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::doubt"))]
    pub why: String,
    /// The node that it is about.
    pub node: Option<String>,
}

/// The transaction that healed a conflict.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct HealingDocument {
    /// It.
    pub transaction: String,
    /// Where it was made; null if that is no node of the topology.
    pub node: Option<String>,
}

/// A write of a conflict.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct WrittenDocument {
    /// Its transaction.
    pub transaction: String,
    /// Where it was made; null if that is no node of the topology.
    pub node: Option<String>,
    /// When, UTC, by that node's clock.
    pub time: Option<String>,
    /// The kind of write: `take` of a unique value and `refer` to a row are no writes of the row itself.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::deed"))]
    pub op: String,
    /// Its table.
    pub table: String,
    /// Which of the conflict's rows, by index.
    pub row: u64,
    /// Of a change of shape, the statement.
    pub statement: Option<String>,
    /// The cells as it found them, as far as the journal tells.
    pub before: Option<Cells>,
    /// The cells as it left them, as far as the journal tells.
    pub after: Option<Cells>,
    /// The nodes that have applied it.
    pub applied_at: Vec<String>,
    /// Nodes that applied later writes of the same origin, and never this one.
    pub skipped_at: Vec<String>,
    /// It was certainly concurrent with another.
    pub proven: bool,
    /// Its fate.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::fate"))]
    pub fate: String,
    /// Of a lost write, the columns that are lost; null if it is not lost.
    pub lost_columns: Option<Vec<String>>,
}

/// A row and what nodes hold of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct RowNowDocument {
    /// Its table.
    pub table: String,
    /// Its key.
    pub key: Cells,
    /// By node, what it holds.
    pub now: ByNode<NowDocument>,
}

/// The state of a row on a node.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum NowDocument {
    /// This; null if it is not there.
    Row(Option<Cells>),
    /// It could not be read.
    Unread(FaultDocument),
}
