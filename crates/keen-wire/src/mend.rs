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
    /// Tables that were copied from another node.
    pub copies: Vec<CopiedRowsDocument>,
    /// Things that a person has to do, or has done.
    pub by_hand: Vec<HandWorkDocument>,
    /// What a preflight still finds of what the plan mends; null if it was not looked for, or could not be told.
    pub findings_left: Option<Vec<String>>,
    /// The rows that were written, compared once more on the nodes that were read for the plan; null if that was not done.
    pub proof: Option<ProofDocument>,
    /// All tables of nodes that were filled, compared with those of their source.
    pub alike: Vec<AlikeDocument>,
}

/// All tables of two nodes, compared.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct AlikeDocument {
    /// The node that was filled.
    pub node: String,
    /// Its source.
    pub other: String,
    /// The rows.
    #[serde(flatten)]
    pub proof: ProofDocument,
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
    /// Changes of its set-up: settings, tables, links. A copy of tables counts as one.
    pub changes: ChangeCounts,
    /// Why it could not be written to, or no further.
    pub fault: Option<FaultDocument>,
}

/// What became of the changes of a node's set-up.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ChangeCounts {
    /// Changes that were made.
    pub made: u64,
    /// Changes that an earlier run of the same plan had made.
    pub made_before: u64,
    /// Values that were as they should be already.
    pub already: u64,
    /// Changes that were not made.
    pub not_made: u64,
    /// Of those that were made: changes that have no way back.
    #[serde(default)]
    pub for_good: u64,
}

/// Tables that were copied from another node.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct CopiedRowsDocument {
    /// The number of the step.
    pub step: u64,
    /// The node that took them.
    pub node: String,
    /// The source.
    pub from: String,
    /// How many tables.
    pub tables: u64,
    /// How many rows.
    pub rows: u64,
    /// How many rows only the receiver held, or held otherwise.
    pub kept_rows: u64,
    /// The plan that puts those back; null if there are none.
    pub kept_file: Option<String>,
}

/// Something that a person does.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct HandWorkDocument {
    /// The number of the step.
    pub step: u64,
    /// Where.
    pub node: String,
    /// The task, in a sentence.
    pub what: String,
    /// Whether it is done; null if no connection can tell.
    pub done: Option<bool>,
    /// What is read instead, while it is not done; null if there is nothing to say of that.
    #[serde(default)]
    pub reads: Option<String>,
}

/// A step that was not made.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LeftOutDocument {
    /// Its number in the plan.
    pub step: u64,
    /// Its node.
    pub node: String,
    /// Of a row, its table as the set names it.
    pub table: Option<String>,
    /// Of a row, its key.
    pub key: Option<Cells>,
    /// Of anything else, what it changes.
    pub subject: Option<String>,
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
