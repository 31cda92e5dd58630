//! Going gently: while a link of a node trails beyond its limit, or stalls, nothing more is written there.

use std::time::{Duration, Instant};

use keen_core::links::{self, LinkFlow, LinkState, Looks, Memory};
use keen_core::observe::links::{Marks, marks};
use keen_core::topology::node_set::NodeSet;
use keen_core::topology::{NodeId, Topology};

use crate::links::{NodeConnections, OpenInspection, wait_until};

/// From one look at the links to the next.
const BETWEEN_LOOKS: Duration = Duration::from_secs(1);

/// The links of all nodes, looked at now and then.
pub(super) struct LinkWatch<'a> {
    topology: &'a Topology,
    connections: NodeConnections<'a>,
    before: Marks,
    looked: Instant,
}

impl<'a> LinkWatch<'a> {
    pub(super) fn begin(topology: &'a Topology, open: &OpenInspection<'_>) -> Self {
        let (connections, observations) = NodeConnections::begin(topology, NodeSet::ALL, open);
        Self { topology, connections, before: marks(&observations), looked: Instant::now() }
    }

    /// Waits as long as a link from or to a node trails or stalls. True if it had to.
    pub(super) fn wait_for(&mut self, node: NodeId, stop: &(dyn Fn() -> bool + Sync)) -> bool {
        let mut waited = false;
        while self.looked.elapsed() >= BETWEEN_LOOKS && !stop() {
            let now = self.connections.again();
            let looks = Looks { before: &self.before, now: &now, memory: &Memory::default() };
            let flow = links::judge(self.topology, looks);
            let concerns = |link: &&LinkFlow| {
                matches!(link.state, LinkState::Trailing | LinkState::Stalled)
                    && [link.from, link.to].contains(&Some(node))
            };
            let trailing = flow.links.iter().find(concerns).cloned();
            self.before = marks(&now);
            self.looked = Instant::now();
            let Some(link) = trailing else { break };
            if !waited {
                let state = link.state.name();
                tracing::warn!("{} is {state}: waiting until it is not", self.name(&link));
            }
            waited = true;
            wait_until(self.looked, BETWEEN_LOOKS, stop);
        }
        waited
    }

    fn name(&self, link: &LinkFlow) -> String {
        let name = |node: Option<NodeId>| node.map_or("?", |node| &self.topology.nodes[node].name);
        format!("{} -> {}", name(link.from), name(link.to))
    }
}
