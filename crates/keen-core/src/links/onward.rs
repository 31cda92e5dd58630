//! Where a write goes on to that a repair makes: what links pass on of it.
//!
//! MariaDB's repairs stay out of the binary log, and SQLite carries nothing. PostgreSQL's stand in the log of
//! their node under a replication origin of keen's own: a subscription that takes only what its source itself
//! wrote (`origin = none` from 16 on, an empty `forward_origins` of pglogical) leaves them out, every other
//! takes them.

use crate::topology::node_set::NodeSet;
use std::collections::{BTreeMap, BTreeSet};

use super::{Looks, Memory, match_links};
use crate::observe;
use crate::observe::links::Observations;
use crate::observe::node::ReplicationKind;
use crate::topology::{Engine, NodeId, SetId, Topology};

/// The links onward, as receivers tell of them.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Onward {
    told: BTreeMap<(NodeId, NodeId), Vec<LinkTakes>>,
    /// Receivers that told of all their links.
    answered: BTreeSet<NodeId>,
}

/// The tables and writes that one link takes.
#[derive(Debug, Clone, PartialEq, Eq)]
struct LinkTakes {
    own_writes_only: bool,
    /// As the receiver names them, with their schema; none if it keeps no list.
    tables: Option<Vec<String>>,
}

/// The nodes that a write comes to, besides the one where it is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Reached {
    /// Those that certainly get it.
    pub surely: NodeSet,
    /// Those that may: their links could not be looked at.
    pub perhaps: NodeSet,
}

impl Onward {
    /// From looks at the links.
    #[must_use]
    pub fn told(topology: &Topology, observations: &Observations) -> Self {
        let (before, memory) = (observe::links::Marks::new(), Memory::default());
        let looks = Looks { before: &before, now: observations, memory: &memory };
        let mut onward = Self::default();
        for (node, observation) in observations {
            if observation.snapshot().is_some_and(|snapshot| snapshot.inflows.is_ok()) {
                onward.answered.insert(*node);
            }
        }
        for (ends, link) in match_links::incoming(topology, looks) {
            let tables = link.tables.as_ref();
            let taking = LinkTakes {
                // A standby gets all that its primary writes.
                own_writes_only: link.own_writes_only && link.means != ReplicationKind::Streaming,
                tables: tables.map(|tables| tables.iter().map(|t| t.table.clone()).collect()),
            };
            match ends {
                (Some(from), to) => onward.told.entry((from, to)).or_default().push(taking),
                // It may come from anybody.
                (None, to) if !taking.own_writes_only => drop(onward.answered.remove(&to)),
                (None, _) => {}
            }
        }
        onward
    }

    /// That every link takes what its source itself wrote, and no more.
    #[must_use]
    pub fn own_writes_only(topology: &Topology) -> Self {
        Self { told: BTreeMap::new(), answered: (0..topology.nodes.len()).collect() }
    }

    /// Whether a link brings a repair of this table, named with its schema, from its source; none if that
    /// could not be seen.
    fn brings(&self, topology: &Topology, link: (NodeId, NodeId), table: &str) -> Option<bool> {
        let engine = |node: NodeId| topology.nodes[node].at.engine();
        if engine(link.0) != Engine::Postgres || engine(link.1) != Engine::Postgres {
            return Some(false);
        }
        let takes = |taking: &LinkTakes| {
            let lists = |tables: &Vec<String>| tables.iter().any(|listed| listed == table);
            !taking.own_writes_only && taking.tables.as_ref().is_none_or(lists)
        };
        match self.told.get(&link) {
            Some(takings) => Some(takings.iter().any(takes)),
            None => self.answered.contains(&link.1).then_some(false),
        }
    }

    /// Where a repair of a table at a node goes on to, over however many links.
    #[must_use]
    pub fn reached(
        &self,
        topology: &Topology,
        set: SetId,
        node: NodeId,
        table: &[String],
    ) -> Reached {
        let table = table.join(".");
        let mut links: BTreeSet<(NodeId, NodeId)> = topology.edges(set).collect();
        links.extend(self.told.keys());
        let (mut surely, mut all) = (NodeSet::of(node), NodeSet::of(node));
        loop {
            let before = (surely, all);
            for (from, to) in &links {
                let brings = self.brings(topology, (*from, *to), &table);
                if surely.contains(*from) && brings == Some(true) {
                    surely.insert(*to);
                }
                if all.contains(*from) && brings != Some(false) {
                    all.insert(*to);
                }
            }
            if (surely, all) == before {
                break;
            }
        }
        Reached { surely: surely & !NodeSet::of(node), perhaps: all & !surely }
    }
}

impl Reached {
    /// Whether nobody gets it.
    #[must_use]
    pub fn is_nobody(&self) -> bool {
        self.surely.is_empty() && self.perhaps.is_empty()
    }

    /// Those who get it, and those who may.
    pub fn nodes(&self) -> impl Iterator<Item = NodeId> {
        (self.surely | self.perhaps).iter()
    }
}
