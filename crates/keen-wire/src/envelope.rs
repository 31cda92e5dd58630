//! How every document begins and ends, and what faults, links and nodes look like in it.

use std::time::Duration;

use indexmap::IndexMap;
use keen_core::fault::ReadFault;
use serde::{Deserialize, Serialize};

/// The version of every document here. It rises when a reader of the old one would be wrong.
pub const VERSION: u32 = 2;

/// Something for each node, by its name, in the order of the topology file.
pub type ByNode<T> = IndexMap<String, T>;

/// The members with which every document begins.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Envelope<N> {
    /// The kind of document.
    pub keen: String,
    /// The version of the format: 2.
    pub version: u32,
    /// The name of the topology, as its file gives it.
    pub topology: String,
    /// When the run began, UTC, as RFC 3339 has it.
    pub started: String,
    /// The nodes of which the document tells.
    pub nodes: Vec<N>,
    /// Nodes that were left out, and tables as "table NAME".
    pub left_out: Vec<String>,
}

impl<N> Envelope<N> {
    /// That of a document of this kind, which leaves nothing out.
    #[must_use]
    pub fn new(keen: &str, topology: &str, started: &impl ToString, nodes: Vec<N>) -> Self {
        Self {
            keen: keen.to_owned(),
            version: VERSION,
            topology: topology.to_owned(),
            started: started.to_string(),
            nodes,
            left_out: Vec::new(),
        }
    }

    /// With what was left out.
    #[must_use]
    pub fn without(mut self, left_out: &[String]) -> Self {
        self.left_out = left_out.to_vec();
        self
    }
}

/// The facts of a run that are known at its end.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Ending {
    /// How long it took, in seconds, to the millisecond.
    pub seconds: f64,
    /// Everything that was asked for could be looked at.
    pub complete: bool,
}

impl Ending {
    /// That of a run which took so long.
    #[must_use]
    pub fn new(took: Duration, complete: bool) -> Self {
        Self { seconds: seconds(took), complete }
    }
}

/// A node of which nothing more is told.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct NamedNode {
    /// Its name.
    pub node: String,
}

/// The two ends of a link.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LinkEnds {
    /// Where it comes from.
    pub from: String,
    /// Where it leads.
    pub to: String,
}

/// Rows that a link's receiver does not hold as its source does.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LinkRows {
    /// Where the link comes from.
    pub from: String,
    /// Where it leads.
    pub to: String,
    /// How many rows.
    pub rows: u64,
}

/// Why a node, or a part of it, could not be looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FaultDocument {
    /// The kind of fault.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::fault_kind"))]
    pub kind: String,
    /// The attempt and what came back.
    pub what: String,
    /// The remedy; empty where nothing helps.
    pub advice: String,
}

impl From<&ReadFault> for FaultDocument {
    fn from(fault: &ReadFault) -> Self {
        Self {
            kind: fault.kind.name().to_owned(),
            what: fault.what.clone(),
            advice: fault.advice.clone(),
        }
    }
}

/// A fault, if there is one.
#[must_use]
pub fn fault(fault: Option<&ReadFault>) -> Option<FaultDocument> {
    fault.map(FaultDocument::from)
}

/// How long something took, in seconds, to the millisecond.
#[must_use]
pub fn seconds(took: Duration) -> f64 {
    (took.as_secs_f64() * 1e3).round() / 1e3
}

/// How long something took, in seconds, to the microsecond.
#[must_use]
pub fn exact_seconds(took: Duration) -> f64 {
    (took.as_secs_f64() * 1e6).round() / 1e6
}
