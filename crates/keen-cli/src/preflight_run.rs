//! Running a preflight for the commands that need one.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use anyhow::Result;
use jiff::Timestamp;
use keen_core::expectation::Nodes;
use keen_core::preflight::look::Look;
use keen_core::preflight::{self, Level, Report, Scope};
use keen_core::topology::NodeId;
use keen_nodes::preflight as looking;

use crate::audit_run::{Doors, Stop};
use crate::exit::Exit;
use crate::load::Loaded;

/// What a preflight was asked for, checked against the topology.
#[derive(Debug, Clone)]
pub(crate) struct Asked {
    pub(crate) nodes: Nodes,
    pub(crate) left_out: Vec<String>,
    pub(crate) tables: Vec<String>,
    pub(crate) wait: Duration,
    pub(crate) scope: Scope,
}

/// What it came to.
pub(crate) struct Outcome {
    pub(crate) started: Timestamp,
    pub(crate) took: Duration,
    pub(crate) looks: BTreeMap<NodeId, Look>,
    pub(crate) report: Report,
    pub(crate) left_out: Vec<String>,
}

impl Outcome {
    /// The exit code: notes are no findings.
    pub(crate) fn exit(&self) -> Exit {
        match self.report.worst() {
            Some(Level::Stop | Level::Warn) => Exit::Found,
            _ if !self.report.unseen.is_empty() => Exit::Incomplete,
            _ => Exit::Agree,
        }
    }
}

/// Looks at the nodes and judges.
pub(crate) fn run(loaded: &Loaded, asked: &Asked, stop: &Stop) -> Result<Outcome> {
    let started = Timestamp::now();
    let clock = Instant::now();
    let doors = Doors::new(loaded, asked.wait, asked.wait, stop);
    let open = |node: NodeId, address: &_| doors.look_in(node, address);
    let looks = looking::look(&looking::Request {
        topology: &loaded.topology,
        nodes: asked.nodes,
        tables: &asked.tables,
        open: &open,
        wait: asked.wait,
    });
    let report = preflight::examine(&loaded.topology, &looks, asked.scope);
    Ok(Outcome { started, took: clock.elapsed(), looks, report, left_out: asked.left_out.clone() })
}
