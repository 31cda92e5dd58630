//! The result of a probe, or of waiting for a node.

use std::collections::BTreeMap;
use std::time::Duration;

use jiff::Timestamp;
use keen_core::links::LinkFlow;
use keen_core::links::fence::{Fence, Passing};
use keen_core::topology::NodeId;
use keen_run::probe::{Journey, LeftBehind};

use crate::exit::Exit;

/// The result of a probe.
pub(crate) struct ProbeOutcome {
    pub(crate) started: Timestamp,
    pub(crate) took: Duration,
    pub(crate) table: String,
    pub(crate) writers: Vec<NodeId>,
    pub(crate) journeys: BTreeMap<NodeId, Journey>,
    /// Rows that earlier runs left behind.
    pub(crate) left_behind: Vec<LeftBehind>,
    pub(crate) stopped: bool,
}

impl ProbeOutcome {
    pub(crate) fn missing(&self) -> usize {
        let journeys = self.journeys.values();
        journeys.map(|j| j.arrived.values().filter(|time| time.is_none()).count()).sum()
    }

    pub(crate) fn arrived(&self) -> usize {
        let journeys = self.journeys.values();
        journeys.map(|j| j.arrived.values().filter(|time| time.is_some()).count()).sum()
    }

    pub(crate) fn unseen(&self) -> usize {
        let journeys = self.journeys.values();
        journeys.map(|j| j.unseen.len() + usize::from(j.fault.is_some())).sum()
    }

    pub(crate) fn left_over(&self) -> usize {
        self.journeys.values().map(|journey| journey.left_over.len()).sum()
    }

    /// The exit code.
    pub(crate) fn exit(&self) -> Exit {
        if self.stopped {
            Exit::Interrupted
        } else if self.missing() + self.left_over() > 0 {
            Exit::Found
        } else if self.unseen() > 0 {
            Exit::Incomplete
        } else {
            Exit::Agree
        }
    }

    /// The result in a sentence.
    pub(crate) fn summary(&self) -> String {
        let unseen = match self.unseen() {
            0 => String::new(),
            count => format!(", {count} not looked for"),
        };
        let all = self.arrived() + self.missing();
        format!("{} of {all} writes arrived{unseen}", self.arrived())
    }
}

/// The result of waiting for a node.
pub(crate) struct Waited<'a> {
    pub(crate) started: Timestamp,
    pub(crate) at: NodeId,
    pub(crate) sources: &'a [NodeId],
    pub(crate) fence: &'a Fence,
    pub(crate) passing: &'a Passing,
    pub(crate) links: &'a [LinkFlow],
    pub(crate) took: Duration,
    pub(crate) stopped: bool,
}
