//! How far back a log reaches.

use crate::observe::node::Observed;

/// Where a source is, against a position that a snapshot was taken at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LogReach {
    /// Its position now.
    pub now: String,
    /// The oldest position that its log still reaches back to.
    pub oldest: Observed<String>,
    /// How far it has moved since the position that was given, in its own measure.
    pub moved: Option<String>,
    /// Whether its log still has everything since that position.
    pub enough: Option<Observed<bool>>,
}
