//! A preflight, and what a node that is to join holds.

use indexmap::IndexMap;
use serde::{Deserialize, Serialize};

use crate::envelope::{Ending, Envelope, FaultDocument, LinkEnds, NamedNode};

/// A preflight as one document.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PreflightDocument {
    /// The envelope. Its nodes are those that were to be looked at.
    #[serde(flatten)]
    pub envelope: Envelope<InspectedNode>,
    /// The ending that every document has. It is complete if every node answered and everything could be looked at.
    #[serde(flatten)]
    pub ending: Ending,
    /// Who reaches whom, as far as the nodes' own links tell.
    pub reaches: Vec<ReachDocument>,
    /// The findings, in the order of mending.
    pub findings: Vec<FindingDocument>,
    /// The parts that could not be looked at.
    pub could_not_look: Vec<UnseenDocument>,
    /// By area, how many things were held against what they should be.
    pub looked_at: IndexMap<String, u64>,
    /// How many findings stop replication.
    pub stops: u64,
    /// How many are warnings.
    pub warnings: u64,
    /// How many are notes.
    pub notes: u64,
}

/// A node that was to be looked at.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct InspectedNode {
    /// Its name.
    pub node: String,
    /// Its role in the topology.
    pub role: String,
    /// Whether applications write there.
    pub writes: bool,
    /// An address let keen in.
    pub answered: bool,
    /// The addresses that were tried, in the order of the file.
    pub attempts: Vec<AttemptDocument>,
    /// The engine that holds it, if it answered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub engine: Option<String>,
    /// Kind and version in a few words, if it answered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub about: Option<String>,
    /// It replays what a primary writes, if it answered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub standby: Option<bool>,
    /// Its clock against the one here; not there where they are the same.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clock: Option<ClockDocument>,
}

/// An address that was tried.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct AttemptDocument {
    /// The address as the file has it.
    pub address: String,
    /// The steps that were passed: `name`, `port`, `login`.
    pub passed: IndexMap<String, PassedStep>,
    /// Why it went no further.
    pub fault: Option<FaultDocument>,
}

/// A step to a node that was passed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PassedStep {
    /// How long it took, in seconds, to the microsecond.
    pub seconds: f64,
}

/// A clock against the one here.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ClockDocument {
    /// How far it is ahead, in seconds.
    pub ahead_seconds: f64,
    /// How wrong that may be, in seconds.
    pub uncertain_seconds: f64,
}

/// Whether one node reaches another.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ReachDocument {
    /// The node that fetches.
    pub node: String,
    /// The node that it fetches from.
    pub source: String,
    /// Whether it reaches it.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::reaches"))]
    pub reaches: String,
}

/// A finding.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FindingDocument {
    /// The stable name of the check.
    pub check: String,
    /// Its area.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::area"))]
    pub area: String,
    /// How bad it is.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::level"))]
    pub level: String,
    /// The nodes that it is about.
    pub nodes: Vec<String>,
    /// The table that it is about.
    pub table: Option<String>,
    /// The finding.
    pub found: String,
    /// The value that is needed, where one is.
    pub needed: Option<String>,
    /// The effect that it will have here.
    pub effect: Option<String>,
    /// Links that it breaks.
    pub breaks: Vec<LinkEnds>,
    /// Why it matters.
    pub why: String,
    /// The command.
    pub todo: Vec<TodoDocument>,
}

/// Something to do: a statement or command as it stands, or advice in words.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct TodoDocument {
    /// Where.
    pub nodes: Vec<String>,
    /// The statement or command.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<String>,
    /// The advice.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub advice: Option<String>,
}

/// Something that could not be looked at.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct UnseenDocument {
    /// Where.
    pub node: String,
    /// Its area.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::area"))]
    pub area: String,
    /// The part that could not be seen.
    pub what: String,
    /// Why not.
    pub fault: FaultDocument,
}

/// A node that is to join: what it holds, and how to seed it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct JoinDocument {
    /// The envelope. Its nodes are the joining one and its source.
    #[serde(flatten)]
    pub envelope: Envelope<NamedNode>,
    /// The ending that every document has.
    #[serde(flatten)]
    pub ending: Ending,
    /// The node that joins.
    pub node: String,
    /// Where it is to be seeded from.
    pub from: String,
    /// Overwriting it would lose something that is known of.
    pub loses: bool,
    /// By table, what it holds otherwise than its source.
    pub rows: Vec<JoiningRows>,
    /// Tables that only it has; null if that could not be seen.
    pub tables: Option<Vec<String>>,
    /// Accounts that only it has; null if that could not be seen.
    pub accounts: Option<Vec<String>>,
    /// How far the source's log reaches; null if that could not be seen.
    pub log: Option<LogDocument>,
    /// The parts that could not be looked at.
    pub could_not_look: Vec<UnseenPart>,
    /// The steps, in order.
    pub steps: Vec<SeedStepDocument>,
}

/// The rows of one table on a node that is to join.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct JoiningRows {
    /// The table.
    pub table: String,
    /// Rows that only the joining node holds.
    pub only_joining: u64,
    /// Rows that both hold, with other contents.
    pub otherwise: u64,
    /// Rows that only the source holds.
    pub only_source: u64,
}

/// How far a log reaches.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LogDocument {
    /// Its position now.
    pub now: String,
    /// The oldest position that it reaches back to; null if that could not be seen.
    pub oldest: Option<String>,
    /// How far it has moved since the position that was given.
    pub moved: Option<String>,
    /// Whether it still has everything since that position; null if none was given.
    pub enough: Option<bool>,
}

/// A part that could not be looked at.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct UnseenPart {
    /// The part that could not be seen.
    pub what: String,
    /// Why not.
    pub fault: FaultDocument,
}

/// One thing to do: a statement for the node's own client, a command for a shell, or advice in words.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SeedStepDocument {
    /// Where; null if it is done elsewhere.
    pub node: Option<String>,
    /// The statement.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<String>,
    /// The command.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shell: Option<String>,
    /// The advice.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub advice: Option<String>,
}
