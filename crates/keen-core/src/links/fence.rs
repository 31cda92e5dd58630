//! Fences: how far every origin had written at one moment, and who has passed that.
//!
//! A fence holds, for each link, where the source's log stood. Over vectors (MariaDB's domains, the
//! stand-in's origins) passing it means to have everything that any origin had written. Where a link
//! only counts its own log (PostgreSQL), what a relay passes on stands in the relay's log at a place
//! of its own: then one fence per step of the longest way is needed, each taken once the one before
//! has been passed ([`rounds`]).

use crate::fault::ReadFault;
use crate::topology::node_set::NodeSet;
use std::collections::{BTreeMap, BTreeSet};

use super::match_links;
use crate::observe::links::{Inflow, LinkSnapshot, Observations, Outlet};
use crate::observe::node::{ReplicationKind, WorkerState};
use crate::observe::position::{Gap, Position};
use crate::topology::{NodeId, Topology};

/// A mark of how far every source had written.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Fence {
    marks: BTreeMap<NodeId, Position>,
}

/// The links on either side of a fence.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Passing {
    /// Links whose receivers have passed it.
    pub passed: BTreeSet<(NodeId, NodeId)>,
    /// Links whose receivers have not, and what they lack.
    pub waiting: BTreeMap<(NodeId, NodeId), Waiting>,
    /// Links that the file declares and the nodes know nothing of: nothing will come over them.
    pub absent: BTreeSet<(NodeId, NodeId)>,
    /// Links with an end that does not answer: waiting for them tells nothing.
    pub dark: BTreeSet<(NodeId, NodeId)>,
    /// Links of which that cannot be told, and why.
    pub untold: BTreeMap<(NodeId, NodeId), ReadFault>,
}

/// The part of a fence that a receiver still lacks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Waiting {
    /// How much, in the engine's measure.
    pub lacks: Option<Gap>,
    /// The link stands still until somebody does something.
    pub stopped: bool,
    /// How far the receiver has applied the source's log.
    pub applied: Position,
    /// MariaDB: the domain that the receiver writes itself.
    pub own: Option<u32>,
    /// The receiver's own account of it.
    pub inflow: Box<Inflow>,
}

/// The way in which a link goes on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum GoingOn {
    /// This statement, on the receiver.
    By(String),
    /// Nothing: it keeps trying.
    Itself,
}

impl Waiting {
    /// The engine's number for what it stopped at.
    #[must_use]
    pub fn error(&self) -> Option<u64> {
        self.inflow.trouble.as_ref().and_then(|trouble| trouble.code)
    }

    /// The way in which the link goes on, if it stopped at a write that it could not apply.
    #[must_use]
    pub fn stopped_at_a_write(&self) -> Option<GoingOn> {
        let link = &self.inflow.link;
        let quoted = |quote: char| {
            let doubled = link.name.replace(quote, &format!("{quote}{quote}"));
            format!("{quote}{doubled}{quote}")
        };
        match link.means {
            ReplicationKind::BinaryLog => {
                let at_a_row = link.applying == WorkerState::Stopped
                    && matches!(self.error(), Some(1062 | 1032));
                at_a_row.then(|| GoingOn::By(link.starting().join("; ")))
            }
            ReplicationKind::Subscription if link.failures.unwrap_or(0) > 0 => match link.receiving
            {
                WorkerState::Stopped if link.error.is_some() => {
                    Some(GoingOn::By(format!("ALTER SUBSCRIPTION {} ENABLE", quoted('"'))))
                }
                WorkerState::Tries => Some(GoingOn::Itself),
                _ => None,
            },
            _ => None,
        }
    }
}

impl Passing {
    /// The nodes that may still lack something which others wrote before the fence: no way of passed
    /// links leads to them from every origin whose writes are to come to them. Links of which nothing
    /// can be told count as passed if `time_is_up`.
    #[must_use]
    pub fn lagging(&self, topology: &Topology, time_is_up: bool) -> NodeSet {
        self.lagging_beside(topology, time_is_up, &BTreeSet::new())
    }

    /// The same, links left out of which it is known row by row what they still owe.
    #[must_use]
    pub fn lagging_beside(
        &self,
        topology: &Topology,
        time_is_up: bool,
        known: &BTreeSet<(NodeId, NodeId)>,
    ) -> NodeSet {
        let carried = |link: &(NodeId, NodeId)| {
            self.passed.contains(link) || (time_is_up && self.untold.contains_key(link))
        };
        let to_come = |link: &(NodeId, NodeId)| {
            !self.absent.contains(link) && !self.dark.contains(link) && !known.contains(link)
        };
        let mut lagging = NodeSet::EMPTY;
        for origin in 0..topology.nodes.len() {
            let wanted = reached(topology, origin, to_come);
            let came = reached(topology, origin, carried);
            lagging |= wanted & !came;
        }
        lagging
    }

    /// Whether waiting longer can bring anything.
    #[must_use]
    pub fn worth_waiting(&self) -> bool {
        self.waiting.values().any(|waiting| !waiting.stopped)
    }
}

/// Where the writes of a node get to over some of the links.
fn reached(
    topology: &Topology,
    origin: NodeId,
    over: impl Fn(&(NodeId, NodeId)) -> bool,
) -> NodeSet {
    let mut reached = NodeSet::of(origin);
    loop {
        let before = reached;
        for link in &topology.links {
            if reached.contains(link.from) && over(&(link.from, link.to)) {
                reached.insert(link.to);
            }
        }
        if reached == before {
            return reached;
        }
    }
}

impl Fence {
    /// Where every source's log stands in these looks.
    #[must_use]
    pub fn at(observations: &Observations) -> Self {
        let marks = observations.iter().filter_map(|(node, observation)| {
            Some((*node, observation.snapshot()?.position.as_ref().ok()?.clone()))
        });
        Self { marks: marks.collect() }
    }

    /// A mark at these places.
    #[must_use]
    pub fn with(marks: BTreeMap<NodeId, Position>) -> Self {
        Self { marks }
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

    /// Who has passed it, as a later look tells.
    #[must_use]
    pub fn passing(&self, topology: &Topology, observations: &Observations) -> Passing {
        self.passing_since(topology, observations, &Stillness::default())
    }

    /// Who has passed it, as a later look tells and those before it.
    #[must_use]
    pub fn passing_since(
        &self,
        topology: &Topology,
        observations: &Observations,
        stillness: &Stillness,
    ) -> Passing {
        let mut passing = Passing::default();
        let applied = match_links::applied(topology, observations, stillness);
        let pairs: BTreeSet<(NodeId, NodeId)> =
            topology.links.iter().map(|link| (link.from, link.to)).collect();
        for ends in pairs
            .into_iter()
            .filter(|(from, to)| observations.contains_key(from) && observations.contains_key(to))
        {
            if [ends.0, ends.1].iter().any(|node| observations[node].snapshot().is_none()) {
                passing.dark.insert(ends);
                continue;
            }
            match (self.marks.get(&ends.0), applied.get(&ends)) {
                (Some(mark), Some(Ok(applied))) => {
                    let match_links::Applied { position, own, stopped, inflow } = applied;
                    let needed = match (own, stillness.all_commits(ends.0, observations)) {
                        (Some(own), _) => mark.clone().without_domain(*own),
                        (None, Some(all)) if mark.has(all) => all.clone(),
                        (None, _) => mark.clone(),
                    };
                    if position.has(&needed) {
                        passing.passed.insert(ends);
                    } else {
                        let waiting = Waiting {
                            lacks: position.lacks(&needed),
                            stopped: *stopped,
                            applied: position.clone(),
                            own: *own,
                            inflow: inflow.clone(),
                        };
                        passing.waiting.insert(ends, waiting);
                    }
                }
                (None, _) => {
                    let name = &topology.nodes[ends.0].name;
                    let what = format!("{name} does not report how far it has written");
                    passing.untold.insert(ends, ReadFault::not_told(what));
                }
                (_, Some(Err(fault))) => drop(passing.untold.insert(ends, fault.clone())),
                (_, None) if unlike(topology, ends) => {
                    let what = "servers of different kinds know nothing of it";
                    passing.untold.insert(ends, ReadFault::not_told(what));
                }
                (_, None) => drop(passing.absent.insert(ends)),
            }
        }
        passing
    }
}

/// Looks one after the other at logs that did not move: they tell together what none of them does alone.
#[derive(Debug, Clone, Default)]
pub struct Stillness {
    /// Of each node the first look since which as much of its log is safe on its disk.
    since: Observations,
}

impl Stillness {
    /// Takes note of one more look.
    pub fn see(&mut self, observations: &Observations) {
        for (node, observation) in observations {
            let flushed =
                |observations: &Observations| observations.get(node)?.snapshot()?.flushed.clone();
            if flushed(observations).is_none() || flushed(&self.since) != flushed(observations) {
                self.since.insert(*node, observation.clone());
            }
        }
    }

    fn before(&self, node: NodeId, now: &LinkSnapshot) -> Option<&LinkSnapshot> {
        self.since.get(&node)?.snapshot().filter(|then| then.flushed == now.flushed)
    }

    /// Up to where every commit of a node stands that can be seen: what is not safe on its disk after the
    /// longest that a commit may take for that was none.
    fn all_commits<'s>(
        &self,
        node: NodeId,
        observations: &'s Observations,
    ) -> Option<&'s Position> {
        let observation = observations.get(&node)?;
        let now = observation.snapshot()?;
        self.before(node, now)?;
        let still_for = observation.at - self.since.get(&node)?.at;
        now.flushed.as_ref().filter(|_| still_for > now.unsafe_for)
    }

    /// Whether a sender has nothing to send up to where the log is safe: that ends in the middle of a record, and
    /// the sender has looked at it since without finding a whole one. It has once its reader's answer was taken
    /// in, which it does before it looks; a sender that was not awake yet takes in none.
    pub(super) fn sender_rests(&self, node: NodeId, now: &LinkSnapshot, outlet: &Outlet) -> bool {
        let Some(flushed) = &now.flushed else { return false };
        let then = self.before(node, now).and_then(|then| then.outlets.as_ref().ok());
        let then = then.into_iter().flatten().find(|then| then.slot.name == outlet.slot.name);
        outlet.rests_in_a_record(flushed)
            && then.is_some_and(|then| {
                (&then.sent, &then.confirmed) == (&outlet.sent, &outlet.confirmed)
                    && then.answered_at.is_some()
                    && then.answered_at != outlet.answered_at
            })
    }
}

fn unlike(topology: &Topology, (from, to): (NodeId, NodeId)) -> bool {
    topology.nodes[from].at.engine() != topology.nodes[to].at.engine()
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
