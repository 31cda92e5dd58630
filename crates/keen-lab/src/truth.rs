//! The truth of what the network did wrong, for tests and benchmarks to compare with.

use serde::{Deserialize, Serialize};

/// One thing that went wrong on purpose.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlantedFault {
    /// The step at which it happened.
    pub step: u64,
    /// The kind of write.
    pub what: LabFault,
    /// The node where it shows.
    pub node: String,
    /// Which transaction, as `origin/position`, or which statement.
    pub of: String,
}

/// A fault that can be made on purpose.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum LabFault {
    /// A transaction never arrived.
    Lost,
    /// A transaction was applied twice.
    Doubled,
    /// A transaction was overtaken by later ones.
    Overtaken,
    /// Two or more nodes wrote the same row before they heard of each other.
    Raced,
    /// Somebody changed the node's file past the application.
    Tampered,
    /// A link was switched off on purpose.
    Paused,
    /// A link could not reach its source.
    Cut,
    /// A link was made late on purpose.
    Delayed,
    /// A link says that it runs and carries nothing.
    Stuck,
    /// A link carries little at a time.
    Slowed,
    /// A node's clock was set wrong.
    Misset,
    /// A receiver was taken off a link that the file still has.
    Detached,
}
