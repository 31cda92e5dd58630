//! The plan that takes links apart: receivers first, then their sources, then what is left.
//!
//! What a link still carries is waited for before it goes, so that nothing stays on the way; what cannot be waited for
//! is told as lost. A source that is away is not needed: its receiver is cut from it, and what waits there for a
//! reader stays an open step. What may belong to somebody else is left alone unless it is asked for by its name.

mod left;

use std::collections::{BTreeMap, BTreeSet};

use super::setup_steps::{ARRIVES_WITHIN, ReadState, SetupAct, SetupPlan, SetupStep};
use crate::fault::ReadFault;
use crate::observe::node::{NodeFacts, NodeInspection, ReplicationKind, WorkerState};
use crate::observe::position;
use crate::preflight::legend::{LINK_STRAY, SLOT_UNREAD};
use crate::seed::steps::{FoundLink, found_links, shell_word};
use crate::setup::{SetupChange, SetupCondition, Subject, YES};
use crate::topology::{NodeId, Topology};

/// What is taken apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Apart {
    /// What brings changes from a node to another.
    Link(NodeId, NodeId),
    /// A link of a node, by the name that the node gives it.
    Named(NodeId, String),
    /// All links that lead to a node or come from it.
    Node(NodeId),
    /// All links between nodes of the file.
    All,
}

/// What is left when links are gone, and goes with them only if it is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Leftover {
    /// A slot that nobody reads and that belongs to no known link, by its name.
    Slot(String),
    /// Publications that nobody takes any more.
    Publications,
    /// The replication origin under which keen writes.
    Origins,
    /// Tables of keen's own.
    ServiceTables,
}

/// Links that are taken apart, and what was observed of all nodes.
#[derive(Debug)]
pub struct ApartRequest<'a> {
    /// The topology.
    pub topology: &'a Topology,
    /// The looks at all nodes.
    pub looks: &'a BTreeMap<NodeId, NodeInspection>,
    /// The links.
    pub apart: &'a [Apart],
    /// What goes with them.
    pub removes: &'a [Leftover],
    /// How many steps the plan has already.
    pub before: u64,
}

impl ApartRequest<'_> {
    /// The plan.
    ///
    /// # Errors
    /// Why there is none: a receiver that could not be looked at, or a link that is not there.
    pub fn plan(&self, read: &mut ReadState<'_>) -> Result<SetupPlan, String> {
        let found = found_links(self.topology, self.looks);
        let mut taking = Taking {
            request: self,
            found: &found,
            chosen: Vec::new(),
            read,
            gone: BTreeMap::new(),
            plan: SetupPlan::default(),
        };
        taking.choose()?;
        taking.links();
        taking.slots();
        taking.slots_not_found();
        taking.publications();
        taking.of_keen();
        taking.file();
        taking.proof();
        taking.notes();
        Ok(taking.plan)
    }
}

/// A place in the list of links that were found.
type FoundAt = usize;

struct Taking<'a, 'r> {
    request: &'a ApartRequest<'a>,
    found: &'a [FoundLink],
    /// The links that go, in order.
    chosen: Vec<FoundAt>,
    read: &'a mut ReadState<'r>,
    /// The numbers of the steps that take links away.
    gone: BTreeMap<FoundAt, u64>,
    plan: SetupPlan,
}

impl<'a> Taking<'a, '_> {
    fn topology(&self) -> &'a Topology {
        self.request.topology
    }

    fn name(&self, node: NodeId) -> &'a str {
        &self.topology().nodes[node].name
    }

    fn facts(&self, node: NodeId) -> Option<&'a NodeFacts> {
        self.request.looks.get(&node)?.facts.as_deref()
    }

    fn has_all(&self) -> bool {
        self.request.apart.contains(&Apart::All)
    }

    /// Nodes of which everything goes.
    fn whole_nodes(&self) -> BTreeSet<NodeId> {
        if self.has_all() {
            return (0..self.topology().nodes.len()).collect();
        }
        let nodes = self.request.apart.iter().filter_map(|apart| match apart {
            Apart::Node(node) => Some(*node),
            _ => None,
        });
        nodes.collect()
    }

    fn note(&mut self, note: String) {
        if !self.plan.notes.contains(&note) {
            self.plan.notes.push(note);
        }
    }

    /// Something that was asked for does not go.
    fn stays(&mut self, note: String) {
        self.plan.undecided = true;
        self.note(note);
    }

    fn unseen(&mut self, what: &str, node: NodeId, fault: &ReadFault) {
        self.plan.incomplete = true;
        let name = self.name(node);
        self.note(format!(
            "{what} on {name} could not be looked at, and is not in this plan: {fault}"
        ));
    }

    /// The number of the next step.
    fn next(&self) -> u64 {
        self.request.before + self.plan.steps.len() as u64 + 1
    }

    fn label(&self, at: FoundAt) -> String {
        let (to, _, link) = &self.found[at];
        let to = self.name(*to);
        match link.name.is_empty() {
            true => format!("the unnamed {} of {to}", link.means.words()),
            false => format!("{} {} of {to}", link.means.words(), link.name),
        }
    }

    fn choose(&mut self) -> Result<(), String> {
        // What leads to a node goes before what leads on from it: so that arrives which the node had passed on.
        let mut chosen: Vec<(u8, FoundAt)> = Vec::new();
        for apart in self.request.apart {
            let of_it: Vec<(u8, FoundAt)> = match apart {
                Apart::Link(from, to) => {
                    self.can_be_seen(*to)?;
                    let of_it = self.those(|(at, source, _)| at == to && *source == Some(*from), 0);
                    if of_it.is_empty() {
                        return Err(self.not_there(*from, *to));
                    }
                    of_it
                }
                Apart::Named(node, name) => {
                    self.can_be_seen(*node)?;
                    let of_it = self.those(|(at, _, link)| at == node && link.name == *name, 0);
                    if of_it.is_empty() {
                        return Err(format!("{} has no link {name}", self.name(*node)));
                    }
                    of_it
                }
                Apart::Node(node) => {
                    let into = self.those(|(to, from, _)| to == node && from.is_some(), 0);
                    let out = self.those(|(_, from, _)| *from == Some(*node), 1);
                    [into, out].concat()
                }
                Apart::All => self.those(|(_, from, _)| from.is_some(), 0),
            };
            chosen.extend(of_it);
        }
        chosen.sort_unstable();
        for (_, at) in chosen {
            if !self.chosen.contains(&at) {
                self.chosen.push(at);
            }
        }
        self.left_alone();
        Ok(())
    }

    fn those(&self, is: impl Fn(&FoundLink) -> bool, phase: u8) -> Vec<(u8, FoundAt)> {
        (0..self.found.len()).filter(|at| is(&self.found[*at])).map(|at| (phase, at)).collect()
    }

    fn can_be_seen(&self, node: NodeId) -> Result<(), String> {
        let name = self.name(node);
        match self.facts(node).map(|facts| &facts.incoming) {
            Some(Ok(_)) => Ok(()),
            Some(Err(fault)) => Err(format!("the links of {name} could not be seen: {fault}")),
            None => Err(format!(
                "{name} could not be looked at, and its links are taken apart there: come back when it can be read"
            )),
        }
    }

    fn not_there(&self, from: NodeId, to: NodeId) -> String {
        let (source, name) = (self.name(from), self.name(to));
        let unplaced: Vec<String> = self
            .found
            .iter()
            .filter(|(at, of, _)| *at == to && of.is_none())
            .map(|(.., link)| link.name.clone())
            .collect();
        match &unplaced[..] {
            [] => format!("{name} knows of no link from {source}"),
            names => format!(
                "nobody can tell which link of {name} comes from {source}: of {} the source is not known; --take-apart {} takes that one apart",
                names.join(", "),
                shell_word(&format!("{name}/{}", names[0]))
            ),
        }
    }

    /// Links of the nodes that are concerned and that stay.
    fn left_alone(&mut self) {
        let whole = self.whole_nodes();
        for node in &whole {
            match self.facts(*node).map(|facts| &facts.incoming) {
                Some(Ok(_)) => {}
                Some(Err(fault)) => self.unseen("what leads to it", *node, &fault.clone()),
                None => {
                    self.plan.incomplete = true;
                    let name = self.name(*node);
                    self.note(format!(
                        "{name} could not be looked at: what leads to it is not in this plan, and has to be taken apart there before it runs again"
                    ));
                }
            }
        }
        for at in 0..self.found.len() {
            let (to, from, link) = &self.found[at];
            if from.is_some() || self.chosen.contains(&at) {
                continue;
            }
            let may_be = || {
                let away = |source: &NodeId| self.facts(*source).is_none();
                self.topology()
                    .links
                    .iter()
                    .any(|l| l.to == *to && away(&l.from) && whole.contains(&l.from))
            };
            if whole.contains(to) || may_be() {
                let named = shell_word(&format!("{}/{}", self.name(*to), link.name));
                let label = self.label(at);
                self.stays(format!(
                    "{label} stays: its source is not known; --take-apart {named} takes it apart"
                ));
            }
        }
        let mut stay: BTreeMap<&str, Vec<String>> = BTreeMap::new();
        for at in std::mem::take(&mut self.chosen) {
            match self.why_it_stays(at) {
                Some(why) => stay.entry(why).or_default().push(self.label(at)),
                None => self.chosen.push(at),
            }
        }
        for (why, labels) in stay {
            self.stays(format!("{}: {why}", labels.join(", ")));
        }
    }

    /// Why keen does not take a link apart.
    fn why_it_stays(&self, at: FoundAt) -> Option<&'static str> {
        match self.found[at].2.means {
            ReplicationKind::BinaryLog
            | ReplicationKind::Subscription
            | ReplicationKind::StandIn => None,
            ReplicationKind::Streaming => Some("keen takes no standby from its primary"),
            ReplicationKind::Pglogical => Some("keen takes nothing of pglogical apart"),
        }
    }

    fn links(&mut self) {
        let (chosen, all) = (self.chosen.clone(), self.has_all());
        let mut waits: BTreeMap<FoundAt, u64> = BTreeMap::new();
        if all {
            for at in &chosen {
                waits.extend(self.wait(*at).map(|number| (*at, number)));
            }
        }
        for at in chosen {
            if !all {
                waits.extend(self.wait(at).map(|number| (at, number)));
            }
            self.link(at, waits.get(&at).copied());
        }
        self.slots_of_links();
    }

    /// It brings what its source writes.
    fn delivers(&self, at: FoundAt) -> bool {
        let (_, from, link) = &self.found[at];
        let runs = |state| matches!(state, WorkerState::Runs | WorkerState::Tries);
        from.is_some_and(|from| self.facts(from).is_some())
            && runs(link.receiving)
            && runs(link.applying)
    }

    fn wait(&mut self, at: FoundAt) -> Option<u64> {
        let (to, from, _) = &self.found[at];
        let from = (*from).filter(|_| self.delivers(at))?;
        let number = self.next();
        let purpose = format!("what {} wrote is there before its link goes", self.name(from));
        let act = SetupAct::Wait { from, at_most: ARRIVES_WITHIN };
        self.plan.steps.push(SetupStep::of(*to, purpose, act));
        Some(number)
    }

    fn link(&mut self, at: FoundAt, wait: Option<u64>) {
        let (to, from, link) = &self.found[at];
        let subject = Subject::Link { link: link.name.clone() };
        let state = match (self.read)(*to, &subject) {
            Ok(Some(state)) => state,
            Ok(None) => return, // it is gone already
            Err(fault) => {
                let label = self.label(at);
                return self.unseen(&label, *to, &fault);
            }
        };
        // Slots of its copies, or what they prepared, would stay behind.
        if let Some((_, busy)) = state.split_once(", and ") {
            let (label, busy) = (self.label(at), busy.to_owned());
            return self
                .stays(format!("{label} stays, as it {busy}: when that is over, plan again"));
        }
        let mut also = Vec::new();
        if link.means == ReplicationKind::BinaryLog {
            match self.kept_elsewhere(at) {
                Ok(conditions) => also = conditions,
                Err(fault) => {
                    let label = self.label(at);
                    return self.unseen(&label, *to, &fault);
                }
            }
        }
        let number = self.next();
        let change = SetupChange { subject, before: Some(state), after: None, pauses: Vec::new() };
        let (name, source) = (self.name(*to), from.map(|from| self.name(from)));
        let purpose = match source {
            Some(source) => format!("{name} no longer follows {source}"),
            None => format!("{name} no longer follows whatever it is"),
        };
        let step = SetupStep {
            loses: self.lost(at),
            depends_on: wait.into_iter().collect(),
            also,
            ..SetupStep::of(*to, purpose, SetupAct::Change(change))
        };
        self.plan.steps.push(step);
        self.gone.insert(at, number);
    }

    /// A connection takes its relay log with it: what is to be read so that nothing in it is nowhere else.
    fn kept_elsewhere(&mut self, at: FoundAt) -> Result<Vec<SetupCondition>, ReadFault> {
        let (to, from, link) = &self.found[at];
        let source = from.and_then(|from| Some((from, self.facts(from)?)));
        if let Some((node, facts)) = source
            && self.delivers(at)
            && let Some(id) = facts.identity.ids.get("server_id")
        {
            // What it fetches now is what its source writes now.
            let subject = Subject::Setting { name: "server_id".to_owned() };
            return Ok(vec![SetupCondition { node, subject, is: Some(id.clone()) }]);
        }
        let fetched = Subject::FetchedChanges { link: link.name.clone() };
        let position = (self.read)(*to, &fetched)?;
        let held = source.zip(position.clone()).and_then(|((node, _), position)| {
            position::gtids(&position).ok()?;
            let subject = Subject::HeldPosition { position };
            Some(SetupCondition { node, subject, is: Some(YES.to_owned()) })
        });
        Ok(match held {
            Some(held) => vec![SetupCondition { node: *to, subject: fetched, is: position }, held],
            None => vec![SetupCondition { node: *to, subject: fetched, is: None }],
        })
    }

    fn lost(&self, at: FoundAt) -> Option<String> {
        let (to, from, _) = &self.found[at];
        let name = self.name(*to);
        match from {
            None => Some(format!(
                "what its source wrote and {name} has not applied: nobody can tell what that is"
            )),
            Some(from) if self.facts(*from).is_none() => Some(format!(
                "what {0} wrote and had not sent to {name}: nobody can tell while {0} is away",
                self.name(*from)
            )),
            Some(from) if !self.delivers(at) => Some(format!(
                "what {0} wrote and {name} has not applied, as the link is stopped: it stays on {0} alone, and keen audit shows it",
                self.name(*from)
            )),
            Some(_) => None,
        }
    }

    /// The ends of the links that go, as far as both are known.
    fn pairs(&self) -> BTreeSet<(NodeId, NodeId)> {
        let ends = |at: &FoundAt| Some((self.found[*at].1?, self.found[*at].0));
        self.gone.keys().filter_map(ends).collect()
    }

    fn file(&mut self) {
        if self.has_all() {
            return; // nothing of it is left to be looked at
        }
        let pairs = self.pairs();
        let declared: BTreeSet<(NodeId, NodeId)> =
            self.topology().links.iter().map(|l| (l.from, l.to)).collect();
        let declared: Vec<&(NodeId, NodeId)> = pairs.intersection(&declared).collect();
        let Some((_, node)) = declared.first() else { return };
        let links: Vec<String> = declared
            .iter()
            .map(|(from, to)| format!("{} -> {}", self.name(*from), self.name(*to)))
            .collect();
        let what = format!("take {} out of the topology file", links.join(", "));
        let purpose = "what the file declares and is not there is told as absent";
        let act = SetupAct::ByHand { what, done: Vec::new() };
        self.plan.steps.push(SetupStep::of(*node, purpose, act));
    }

    fn proof(&mut self) {
        let Some(node) = self.plan.steps.first().map(|step| step.node) else { return };
        let declared = |(to, from, _): &FoundLink| {
            self.topology().links.iter().any(|l| l.to == *to && Some(l.from) == *from)
        };
        let links = || (0..self.found.len()).filter(|at| !declared(&self.found[*at]));
        let mut findings = Vec::new();
        if links().count() > 0 && links().all(|at| self.gone.contains_key(&at)) {
            findings.push(LINK_STRAY.name.to_owned());
        }
        let mut slots = self.topology().nodes.iter().enumerate().flat_map(|(node, _)| {
            self.slots_of_nobody(node).into_iter().map(move |slot| (node, slot))
        });
        let takes_slots = self.plan.steps.iter().any(|step| {
            matches!(&step.act, SetupAct::Change(change) if matches!(change.subject, Subject::Slot { .. }))
        });
        let none_left = slots.all(|(node, slot)| {
            slot.active || self.takes_away(&Subject::Slot { slot: slot.name.clone() }, node)
        });
        if takes_slots && none_left {
            findings.push(SLOT_UNREAD.name.to_owned());
        }
        if !findings.is_empty() {
            let act = SetupAct::Check { findings, same_as: None };
            let step = SetupStep::of(node, "nothing of it is left behind", act);
            // What was not made would not be found, either.
            let depends_on = self.gone.values().copied().collect();
            self.plan.steps.push(SetupStep { depends_on, ..step });
        }
    }

    fn notes(&mut self) {
        if self.gone.is_empty() {
            return;
        }
        let pairs = self.pairs();
        let waits = self.plan.steps.iter().any(|step| matches!(step.act, SetupAct::Wait { .. }));
        let whole = self.whole_nodes();
        let stops: BTreeSet<&str> = match whole.is_empty() {
            true => pairs.iter().map(|(from, _)| self.name(*from)).collect(),
            false => whole
                .into_iter()
                .filter(|node| self.topology().nodes[*node].writes && self.facts(*node).is_some())
                .map(|node| self.name(node))
                .collect(),
        };
        if !stops.is_empty() {
            let stops = stops.into_iter().collect::<Vec<_>>().join(", ");
            let after = if waits { " after it was waited for" } else { "" };
            self.note(format!(
                "stop first what writes to {stops}: what is written there{after} does not get over these links any more"
            ));
        }
        if !self.has_all() {
            let cut = self.cut(&pairs);
            if !cut.is_empty() {
                self.note(format!(
                    "between nodes that stay, no link brings any more what one writes to the other: {}",
                    cut.join(", ")
                ));
            }
        }
        if waits {
            self.note(
                "a link stays if what it brings does not arrive: switch it off, and plan again; the plan then says what is lost"
                    .to_owned(),
            );
        }
        let logs_in = |at: &FoundAt| self.found[*at].2.means != ReplicationKind::StandIn;
        let kept = match self.gone.keys().any(logs_in) {
            true => "the rows that were copied stay, and the accounts that the links used, too",
            false => "the rows that were copied stay",
        };
        self.note(format!("{kept}: whether anybody needs them is for you to decide"));
    }

    /// The ways from a writer to another node that end with these links, but for the links themselves and the nodes
    /// that are taken out.
    fn cut(&self, pairs: &BTreeSet<(NodeId, NodeId)>) -> Vec<String> {
        let whole = self.whole_nodes();
        let nodes = 0..self.topology().nodes.len();
        let all: BTreeSet<(NodeId, NodeId)> =
            self.topology().links.iter().map(|l| (l.from, l.to)).collect();
        let left: BTreeSet<(NodeId, NodeId)> = all.difference(pairs).copied().collect();
        let writers = nodes.clone().filter(|node| self.topology().nodes[*node].writes);
        let stays = |node: &NodeId| !whole.contains(node);
        let mut cut = Vec::new();
        for writer in writers.filter(stays) {
            let (before, after) = (reached(&all, writer), reached(&left, writer));
            let lost = before.difference(&after).filter(|node| stays(node));
            cut.extend(lost.map(|node| format!("{} -> {}", self.name(writer), self.name(*node))));
        }
        cut
    }
}

/// The nodes that can be reached from one.
fn reached(links: &BTreeSet<(NodeId, NodeId)>, from: NodeId) -> BTreeSet<NodeId> {
    let mut reached = BTreeSet::new();
    let mut open = vec![from];
    while let Some(node) = open.pop() {
        for (_, to) in links.iter().filter(|(at, _)| *at == node) {
            if *to != from && reached.insert(*to) {
                open.push(*to);
            }
        }
    }
    reached
}
