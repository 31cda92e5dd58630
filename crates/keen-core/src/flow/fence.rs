//! Fences: how far every origin had written at one moment, and who has passed that.
//!
//! A fence holds, for each link, where the source's log stood. Over vectors (MariaDB's domains, the
//! stand-in's origins) passing it means to have everything that any origin had written. Where a link
//! only counts its own log (PostgreSQL), what a relay passes on stands in the relay's log at a place
//! of its own: then one fence per step of the longest way is needed, each taken once the one before
//! has been passed ([`rounds`]).

use std::collections::{BTreeMap, BTreeSet};

use super::look::Sights;
use super::pair;
use crate::position::Position;
use crate::topology::{NodeId, Topology};

/// A mark of how far every source had written.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Fence {
    marks: BTreeMap<NodeId, Position>,
}

/// What stands between a fence and those who are to pass it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Passing {
    /// Links whose receivers have passed it.
    pub passed: BTreeSet<(NodeId, NodeId)>,
    /// Links whose receivers have not, and why.
    pub waiting: BTreeMap<(NodeId, NodeId), String>,
    /// Links of which that cannot be told, and why.
    pub untold: BTreeMap<(NodeId, NodeId), String>,
}

impl Fence {
    /// Where every source's log stands in these looks.
    #[must_use]
    pub fn at(sights: &Sights) -> Self {
        let marks = sights.iter().filter_map(|(node, sight)| {
            Some((*node, sight.heard()?.position.as_ref().ok()?.clone()))
        });
        Self { marks: marks.collect() }
    }

    /// Where one source's log stood.
    #[must_use]
    pub fn of(&self, node: NodeId) -> Option<&Position> {
        self.marks.get(&node)
    }

    /// Whether nothing was written between this fence and a later one.
    #[must_use]
    pub fn stands_as(&self, later: &Self) -> bool {
        self.marks == later.marks
    }

    /// Who has passed it, as later looks tell.
    #[must_use]
    pub fn passing(&self, topology: &Topology, sights: &Sights) -> Passing {
        let mut passing = Passing::default();
        let applied = pair::applied(topology, sights);
        let pairs: BTreeSet<(NodeId, NodeId)> =
            topology.links.iter().map(|link| (link.from, link.to)).collect();
        for ends in pairs
            .into_iter()
            .filter(|(from, to)| sights.contains_key(from) && sights.contains_key(to))
        {
            match (self.marks.get(&ends.0), applied.get(&ends)) {
                (Some(mark), Some(Ok((position, receiver_domain)))) => {
                    let flushed = sights[&ends.0].heard().and_then(|heard| heard.flushed.as_ref());
                    let needed = match (receiver_domain, flushed) {
                        (Some(own), _) => mark.clone().without_domain(*own),
                        // What is not safe on the source's disk by now was no commit.
                        (None, Some(flushed)) if mark.has(flushed) => flushed.clone(),
                        (None, _) => mark.clone(),
                    };
                    if position.has(&needed) {
                        passing.passed.insert(ends);
                    } else {
                        let missing = position.lacks(&needed);
                        let missing = missing
                            .map(|gap| format!("{} {} behind it", gap.size(), gap.unit()))
                            .unwrap_or_else(|| "behind it".to_owned());
                        passing.waiting.insert(ends, missing);
                    }
                }
                (None, _) => {
                    let name = &topology.nodes[ends.0].name;
                    passing
                        .untold
                        .insert(ends, format!("{name} does not tell how far it has written"));
                }
                (_, Some(Err(reason))) => drop(passing.untold.insert(ends, reason.clone())),
                (_, None) => {
                    let name = &topology.nodes[ends.1].name;
                    passing.untold.insert(ends, format!("{name} knows of no such link"));
                }
            }
        }
        passing
    }
}

/// How many fences have to be passed one after the other until everything that was written before the
/// first has come everywhere: the longest of the shortest ways between two nodes.
#[must_use]
pub fn rounds(topology: &Topology) -> usize {
    let mut longest = 1;
    for start in 0..topology.nodes.len() {
        let mut reached: BTreeMap<NodeId, usize> = BTreeMap::from([(start, 0)]);
        let mut edge = vec![start];
        while let Some(node) = edge.pop() {
            let steps = reached[&node] + 1;
            for link in topology.links.iter().filter(|link| link.from == node) {
                if reached.get(&link.to).is_none_or(|known| *known > steps) {
                    reached.insert(link.to, steps);
                    edge.insert(0, link.to);
                }
            }
        }
        longest = longest.max(reached.values().copied().max().unwrap_or(0));
    }
    longest
}
