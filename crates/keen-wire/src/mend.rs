//! What became of a plan that was carried out, or taken back.

use serde::{Deserialize, Serialize};

use crate::envelope::{Ending, Envelope, FaultDocument};
use crate::value::Cells;

/// The result as one document.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct MendDocument {
    /// The envelope. Its nodes are those that steps write to.
    #[serde(flatten)]
    pub envelope: Envelope<MendedNode>,
    /// The ending that every document has. It is complete if every step was tried and every node was read again.
    #[serde(flatten)]
    pub ending: Ending,
    /// Nothing was kept: it was only tried.
    pub dry_run: bool,
    /// A plan was taken back.
    pub undo: bool,
    /// It was stopped before its end.
    pub interrupted: bool,
    /// Why it could not go on.
    pub broken: Option<FaultDocument>,
    /// The file that takes it back; null if nothing was kept.
    pub undo_file: Option<String>,
    /// Steps that were not made, or were taken back, the first of very many.
    pub not_made: Vec<LeftOutDocument>,
    /// The rows that were written, compared once more on the nodes that were read for the plan; null if that was not done.
    pub proof: Option<ProofDocument>,
}

/// What became of the steps of a node.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct MendedNode {
    /// Its name.
    pub node: String,
    /// The account that wrote, and how that was kept out of replication.
    pub wrote: String,
    /// Steps that were made.
    pub made: u64,
    /// Steps that an earlier run of the same plan had made.
    pub made_before: u64,
    /// Steps that needed no write any more: the row was alike on the nodes of the plan, or as the step would leave it.
    pub already: u64,
    /// Steps that were not made.
    pub not_made: u64,
    /// Steps that were made and taken back, because their source changed meanwhile.
    pub taken_back: u64,
    /// Why it could not be written to, or no further.
    pub fault: Option<FaultDocument>,
}

/// A step that was not made.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LeftOutDocument {
    /// Its number in the plan.
    pub step: u64,
    /// Its node.
    pub node: String,
    /// Its table, as the set names it.
    pub table: String,
    /// The key of its row.
    pub key: Cells,
    /// Why.
    pub why: String,
    /// It was made and then taken back.
    pub taken_back: bool,
}

/// The rows of a plan, compared once more.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ProofDocument {
    /// How many rows.
    pub rows: u64,
    /// Those that differ, and nothing is on its way.
    pub divergent: u64,
    /// Those that differ and are not settled.
    pub unsettled: u64,
    /// Every node was read.
    pub complete: bool,
}
