//! A probe, and waiting for a node.

use serde::{Deserialize, Serialize};

use crate::envelope::{Ending, Envelope, FaultDocument, NamedNode};

/// A probe as one document.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ProbeDocument {
    /// The envelope. Its nodes are the writers.
    #[serde(flatten)]
    pub envelope: Envelope<ProbedNode>,
    /// The ending that every document has.
    #[serde(flatten)]
    pub ending: Ending,
    /// The table through which it was sent.
    pub table: String,
    /// How many writes arrived.
    pub arrived: u64,
    /// How many did not.
    pub missing: u64,
    /// Rows of other runs.
    pub left_behind: Vec<LeftBehindDocument>,
}

/// A writer and where its writes went.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ProbedNode {
    /// Its name.
    pub node: String,
    /// Why it could not write.
    pub fault: Option<FaultDocument>,
    /// The fate of each write at each other node.
    pub arrived: Vec<ArrivedDocument>,
    /// Nodes that could not be looked at.
    pub could_not_look: Vec<UnseenNode>,
    /// Nodes that its row is still on.
    pub left_over: Vec<String>,
}

/// The fate of a write at a node.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ArrivedDocument {
    /// The node.
    pub node: String,
    /// The write.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::row_op"))]
    pub stage: String,
    /// How long it took to be there, in seconds; null if it never was seen.
    pub seconds: Option<f64>,
}

/// A node that could not be looked at.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct UnseenNode {
    /// The node.
    pub node: String,
    /// Why not.
    pub fault: FaultDocument,
}

/// A row that another run left behind.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LeftBehindDocument {
    /// The row.
    pub id: String,
    /// The nodes that it is on.
    pub nodes: Vec<String>,
    /// This run took it away.
    pub taken_away: bool,
}

/// Waiting for a node as one document.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FenceDocument {
    /// The envelope. Its nodes are the one that is waited for and its sources.
    #[serde(flatten)]
    pub envelope: Envelope<NamedNode>,
    /// The ending that every document has. It is complete if of every link it could be told.
    #[serde(flatten)]
    pub ending: Ending,
    /// The node that is waited for.
    pub at: String,
    /// Its links.
    pub links: Vec<FencedLink>,
}

/// A link and how far it has come.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FencedLink {
    /// Where it comes from.
    pub from: String,
    /// The position that is waited for.
    pub position: Option<String>,
    /// The receiver has passed it.
    pub passed: bool,
    /// The part that it lacks, in `unit`.
    pub lacks: Option<u64>,
    /// The unit that is counted.
    pub unit: Option<String>,
    /// Why that could not be told.
    pub fault: Option<FaultDocument>,
    /// How the link is.
    pub state: Option<String>,
    /// Why it is so.
    pub reason: Option<String>,
}
