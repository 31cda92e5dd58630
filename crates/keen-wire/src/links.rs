//! The state of links and nodes.

use serde::{Deserialize, Serialize};

use crate::envelope::{ByNode, Ending, Envelope, FaultDocument};

/// A look at the links as one document.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FlowDocument {
    /// The ending that every document has.
    #[serde(flatten)]
    pub envelope: Envelope<FlowNode>,
    /// The ending that every document has. It is complete if no link is dark.
    #[serde(flatten)]
    pub ending: Ending,
    /// From the first look to the second, in seconds; null if the first was that of an earlier run.
    pub between_seconds: Option<f64>,
    /// The links in the order of the file, then what the file does not declare.
    pub links: Vec<LinkDocument>,
    /// Who lacks how much of whose writes.
    pub applied: Vec<AppliedDocument>,
    /// Findings about who writes.
    pub writing: Vec<WritingDocument>,
}

/// A node.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FlowNode {
    /// Its name.
    pub node: String,
    /// When it was looked at, UTC.
    pub at: Option<String>,
    /// It answered.
    pub answered: bool,
    /// Why it did not.
    pub fault: Option<FaultDocument>,
    /// Its role as the file gives it, and what is otherwise.
    pub role: String,
    /// Kind and version in a few words; null if it did not answer.
    pub about: Option<String>,
    /// How far its log had come.
    pub position: Option<String>,
    /// The writes of applications there between the looks.
    pub wrote: WroteDocument,
    /// By table set, when the last change to it was seen there.
    pub changed: ByNode<ChangedDocument>,
    /// At a hub, when what arrived last was made at its site.
    pub arrived_from: Vec<ArrivalDocument>,
    /// The last sign of life that its own row tells, UTC.
    pub heartbeat: Option<String>,
    /// How many statements one look took.
    pub statements: u64,
    /// Bytes of log that keen's own slot holds back; null if there is none.
    pub journal_slot_holds_back: Option<u64>,
}

/// The writes of applications between two looks.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct WroteDocument {
    /// It can be seen.
    pub seen: bool,
    /// How many transactions; null if the engine does not count them.
    pub transactions: Option<u64>,
}

/// When a table set last changed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ChangedDocument {
    /// Between the looks.
    pub between_looks: bool,
    /// At this moment, UTC; null if nobody looked then.
    pub at: Option<String>,
}

/// When what arrived last from a site was made there.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ArrivalDocument {
    /// The site.
    pub site: String,
    /// The table set.
    pub set: String,
    /// When.
    #[serde(flatten)]
    pub changed: ChangedDocument,
}

/// How much of a node's writes another lacks.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct AppliedDocument {
    /// Who lacks it.
    pub node: String,
    /// Who wrote it.
    pub origin: String,
    /// How much.
    pub lacks: u64,
    /// The unit that is counted.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::unit"))]
    pub unit: String,
}

/// Something about who writes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct WritingDocument {
    /// Where.
    pub node: String,
    /// The finding.
    pub found: String,
}

/// A link.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LinkDocument {
    /// Where it comes from; null if that could not be told.
    pub from: Option<String>,
    /// Where it leads; null for a slot that nobody reads.
    pub to: Option<String>,
    /// Its name on the node.
    pub name: Option<String>,
    /// By what means it works.
    pub means: Option<String>,
    /// Only these tables are meant; none means all that it carries.
    pub tables: Vec<String>,
    /// How it is.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::link_state"))]
    pub state: String,
    /// Why it is so.
    pub reason: String,
    /// The part that the receiver lacks, in `unit`.
    pub behind: Option<u64>,
    /// The unit that is counted.
    pub unit: Option<String>,
    /// How late the receiver is, in seconds, a delay on purpose not counted.
    pub late_seconds: Option<f64>,
    /// It may be later than that.
    pub late_at_least: bool,
    /// How late it is on purpose, in seconds.
    pub delay_seconds: Option<f64>,
    /// Whither the backlog goes.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::backlog"))]
    pub backlog: Option<String>,
    /// When the backlog will be gone at this rate, in seconds.
    pub done_in_seconds: Option<f64>,
    /// When both ends were last looked at, UTC.
    pub seen: Option<String>,
    /// How far the source's log had come.
    pub written: Option<String>,
    /// How far the receiver had fetched it.
    pub received: Option<String>,
    /// How far the receiver had applied it.
    pub applied: Option<String>,
    /// Something of it was applied between the looks.
    pub moved: bool,
    /// A sign of life came between the looks.
    pub sign_of_life: bool,
    /// When the receiver last heard of its source, UTC.
    pub last_message: Option<String>,
    /// The applier's own words on its work.
    pub applier_says: Option<String>,
    /// The lock that the applier waits for.
    pub waits_for: Option<WaitDocument>,
    /// The transaction that it stopped at.
    pub error: Option<LinkError>,
    /// How often it failed, as the server counts.
    pub failures: Option<u64>,
    /// The first transaction that the receiver lacks, by the source's journal.
    pub lacks_first: Option<FirstLacking>,
    /// Why that could not be read.
    pub lacks_first_fault: Option<FaultDocument>,
    /// The command.
    pub next: Option<NextDocument>,
}

/// A lock that an applier waits for.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct WaitDocument {
    /// The lock.
    pub what: String,
    /// Who holds it; null if that could not be seen.
    pub holders: Option<Vec<HolderDocument>>,
    /// Why that could not be seen.
    pub fault: Option<FaultDocument>,
}

/// A session that holds a lock.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct HolderDocument {
    /// The number by which the server ends it.
    pub session: u64,
    /// Account, and what it does, as the server shows it.
    pub about: String,
}

/// The error that a receiver stopped at.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LinkError {
    /// The engine's number for it.
    pub code: Option<u64>,
    /// The engine's own message.
    pub message: String,
    /// The write that it stopped at.
    pub at: Option<String>,
}

/// The first transaction that a receiver lacks.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FirstLacking {
    /// Its name.
    pub transaction: String,
    /// When it was committed where it was made, UTC, by that node's clock.
    pub committed_at: Option<String>,
    /// Its writes to tables of the sets; of very many the first.
    pub writes: Vec<String>,
    /// How many there are.
    pub write_count: u64,
}

/// The next thing to do about a link.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct NextDocument {
    /// Where; null if on no one node.
    pub node: Option<String>,
    /// The advice itself.
    pub what: String,
}
