//! The plan that hands the lead over: a node that only follows is written to from then on, and the others follow it.
//!
//! While the lead is there nothing is lost. It is closed to writes, everybody has what it wrote before anything of it is
//! taken apart, and only then is the other node opened. If the lead is away, the plan says what is known of its last
//! writes and what nobody can know; it goes on only when somebody answers for it that the lead takes no writes any more,
//! or accepts the loss by its name.

mod checks;
mod standby;
mod unplanned;

use std::collections::{BTreeMap, BTreeSet};

use super::linking::LinkingRequest;
use super::seeding::SeedRequest;
use super::setup_steps::{ARRIVES_WITHIN, ReadState, SetupAct, SetupPlan, SetupStep};
use crate::history::journal::is_journal_slot;
use crate::observe::node::{NodeFacts, NodeInspection, ReplicationKind};
use crate::preflight::legend::{LEADER_ELSEWHERE, LINK_ABSENT, LINK_STRAY};
use crate::seed::steps::{FoundLink, found_links};
use crate::setup::{IDLE, NewLink, OFF, ON, SetupChange, SetupCondition, Subject, YES};
use crate::topology::{Address, AuthorityRule, Engine, NodeId, Topology};

/// By this a PostgreSQL database is closed to applications.
const READ_ONLY_SESSIONS: &str = "default_transaction_read_only";

/// The node that leads another.
///
/// # Errors
/// Why there is no such one.
pub fn lead_of(topology: &Topology, node: NodeId) -> Result<NodeId, String> {
    let name = |node: NodeId| &topology.nodes[node].name;
    if topology.nodes[node].writes {
        return Err(format!("applications write to {} already", name(node)));
    }
    let sources: BTreeSet<NodeId> =
        topology.links.iter().filter(|link| link.to == node).map(|link| link.from).collect();
    let names = || sources.iter().map(|source| &name(*source)[..]).collect::<Vec<_>>().join(", ");
    let lead = match sources.len() {
        1 => sources.first().copied(),
        _ => None,
    };
    let Some(lead) = lead else {
        return Err(match sources.is_empty() {
            true => format!("{} follows nobody", name(node)),
            false => format!(
                "{} follows {}: which of them hands over its lead is for a person to say",
                name(node),
                names()
            ),
        });
    };
    if !topology.nodes[lead].writes {
        return Err(format!(
            "{} follows {}, to which no application writes: only the lead of applications is handed over",
            name(node),
            name(lead)
        ));
    }
    if let Some(link) = topology.links.iter().find(|link| link.to == lead) {
        return Err(format!(
            "{} follows {} itself, so it is no lead that one node takes over: keen plan --take-apart and --link change such links one by one",
            name(lead),
            name(link.from)
        ));
    }
    Ok(lead)
}

/// What was known of a node that is away.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LastSeen {
    /// When, in words.
    pub at: String,
    /// How far its log had come.
    pub position: String,
}

/// A lead that is handed over, and what was observed of all nodes.
#[derive(Debug)]
pub struct PromotionRequest<'a> {
    /// The topology as the file has it.
    pub topology: &'a Topology,
    /// The topology as the file has to have it then.
    pub after: &'a Topology,
    /// The looks at all nodes.
    pub looks: &'a BTreeMap<NodeId, NodeInspection>,
    /// The node that leads now.
    pub lead: NodeId,
    /// The node that is to lead.
    pub node: NodeId,
    /// Whatever the lead still takes is given up, and nobody has to answer for it.
    pub accepts_loss: bool,
    /// What the ledger knows of the lead, if it is away.
    pub last_seen: Option<LastSeen>,
    /// How many steps the plan has already.
    pub before: u64,
}

impl PromotionRequest<'_> {
    /// The plan.
    ///
    /// # Errors
    /// Why there is none.
    pub fn plan(&self, read: &mut ReadState<'_>) -> Result<SetupPlan, String> {
        let mut handing = Handing {
            request: self,
            found: found_links(self.topology, self.looks),
            read,
            receivers: Vec::new(),
            plan: SetupPlan::default(),
        };
        handing.look()?;
        match (handing.is_of_standbys(), handing.facts(self.lead)) {
            (true, Some(_)) => handing.planned_standby()?,
            (true, None) => handing.unplanned_standby()?,
            (false, Some(_)) => handing.planned()?,
            (false, None) => handing.unplanned()?,
        }
        handing.notes();
        Ok(handing.plan)
    }
}

/// A place in the list of links that were found.
type LinkAt = usize;

struct Handing<'a, 'r> {
    request: &'a PromotionRequest<'a>,
    found: Vec<FoundLink>,
    read: &'a mut ReadState<'r>,
    /// The nodes that follow the lead, with their links; the one that is to lead comes first.
    receivers: Vec<(NodeId, LinkAt)>,
    plan: SetupPlan,
}

/// The steps that give the receivers their new links, by receiver.
#[derive(Default)]
struct NewLinks {
    made: BTreeMap<NodeId, (u64, NewLink)>,
    published: Vec<u64>,
}

impl<'a> Handing<'a, '_> {
    fn topology(&self) -> &'a Topology {
        self.request.topology
    }

    fn name(&self, node: NodeId) -> &'a str {
        &self.topology().nodes[node].name
    }

    fn facts(&self, node: NodeId) -> Option<&'a NodeFacts> {
        self.request.looks.get(&node)?.facts.as_deref()
    }

    fn engine(&self) -> Engine {
        self.topology().nodes[self.request.node].at.engine()
    }

    /// Adds a step; its number.
    fn push(&mut self, mut step: SetupStep) -> u64 {
        step.depends_on.sort_unstable();
        step.depends_on.dedup();
        self.plan.steps.push(step);
        self.request.before + self.plan.steps.len() as u64
    }

    fn change(
        &mut self,
        node: NodeId,
        purpose: String,
        change: SetupChange,
        (depends_on, also): (Vec<u64>, Vec<SetupCondition>),
    ) -> u64 {
        let step = SetupStep::of(node, purpose, SetupAct::Change(change));
        self.push(SetupStep { depends_on, also, ..step })
    }

    fn wait(&mut self, to: NodeId, from: NodeId, purpose: String, depends_on: Vec<u64>) -> u64 {
        let act = SetupAct::Wait { from, at_most: ARRIVES_WITHIN };
        self.push(SetupStep { depends_on, ..SetupStep::of(to, purpose, act) })
    }

    /// Links from the node that is to lead, switched off, and what they take.
    fn new_links(&mut self, receivers: &[NodeId], depends_on: &[u64]) -> Result<NewLinks, String> {
        let PromotionRequest { node, after, looks, before, .. } = *self.request;
        let mut new = NewLinks::default();
        for to in receivers {
            let seed = SeedRequest {
                topology: after,
                looks,
                from: node,
                node: *to,
                new: &[],
                new_writer: false,
                compared: &[],
                before,
            };
            let linking = LinkingRequest { seed, sources: &[], receivers: &[] };
            let had = self.plan.steps.len();
            let link = linking.link(node, *to, &mut self.plan.steps, &[])?;
            for at in had..self.plan.steps.len() {
                self.plan.steps[at].depends_on.extend(depends_on);
                new.published.push(before + at as u64 + 1);
            }
            let change = SetupChange {
                before: None,
                after: Some(link.state()),
                subject: Subject::NewLink(Box::new(link.clone())),
                pauses: Vec::new(),
            };
            let needed = [&new.published[..], depends_on].concat();
            let purpose = format!("{} is to follow {}", self.name(*to), self.name(node));
            let number = self.change(*to, purpose, change, (needed, Vec::new()));
            new.made.insert(*to, (number, link));
        }
        Ok(new)
    }

    /// The change that closes a node to writes or opens it; none if it is so already.
    fn closing(&mut self, node: NodeId, closes: bool) -> Result<Option<SetupChange>, String> {
        let (subject, words) = match &self.topology().nodes[node].at {
            Address::Server(server) if server.engine == Engine::Postgres => {
                let (database, name) = (server.database.clone(), READ_ONLY_SESSIONS.to_owned());
                (Subject::DatabaseSetting { database, name }, ["off", "on"])
            }
            _ => (Subject::Setting { name: "read_only".to_owned() }, ["OFF", "ON"]),
        };
        let to = words[usize::from(closes)];
        let before = (self.read)(node, &subject).map_err(|fault| {
            format!("{subject} on {} could not be read: {fault}", self.name(node))
        })?;
        let is =
            |word: &str| before.as_deref().is_some_and(|state| state.eq_ignore_ascii_case(word));
        let settings = self.facts(node).and_then(|facts| facts.settings.as_ref().ok());
        let by_server = settings.and_then(|settings| settings.get(READ_ONLY_SESSIONS));
        let is_closed = by_server.is_some_and(|state| state == "on");
        // A database without a setting of its own goes by the server's.
        if is(to) || (!closes && before.is_none() && !is_closed) {
            return Ok(None);
        }
        Ok(Some(SetupChange { before, ..SetupChange::to(subject, to) }))
    }

    /// While the lead is there.
    fn planned(&mut self) -> Result<(), String> {
        let PromotionRequest { lead, node, .. } = *self.request;
        let (name, lead_name) = (self.name(node), self.name(lead));
        if self.engine() != Engine::Postgres {
            self.nothing_of_its_own()?;
        }
        if self.engine() == Engine::MariaDb {
            let own = Subject::OwnPosition { link: String::new() };
            (self.read)(lead, &own).map_err(|fault| format!("{own} on {lead_name}: {fault}"))?;
        }
        let receivers = self.receivers.clone();
        let near: Vec<u64> = receivers
            .iter()
            .map(|(to, _)| {
                let purpose = format!("{} keeps up before {lead_name} is closed", self.name(*to));
                self.wait(*to, lead, purpose, Vec::new())
            })
            .collect();
        let to_turn: Vec<NodeId> =
            receivers.iter().skip(1).map(|(to, _)| *to).chain([lead]).collect();
        let new = self.new_links(&to_turn, &near)?;
        let (closed, lead_closed) = self.close(&near, &new)?;
        let all: BTreeMap<NodeId, u64> = receivers
            .iter()
            .map(|(to, _)| {
                let purpose = format!("{} has all that {lead_name} wrote", self.name(*to));
                (*to, self.wait(*to, lead, purpose, closed.clone()))
            })
            .collect();
        let waited: Vec<u64> = all.values().copied().collect();
        let guard = vec![lead_closed.clone()];
        let mut ready = self.slots(&new, &waited, &guard);
        if self.engine() == Engine::MariaDb {
            let link = new.made.get(&lead).map(|(_, link)| link.link.clone()).unwrap_or_default();
            let change = SetupChange::to(Subject::OwnPosition { link }, YES);
            let purpose = format!("{lead_name} goes on behind what it wrote itself");
            let made = new.made.get(&lead).map(|(number, _)| *number);
            let needs = waited.iter().copied().chain(made).collect();
            ready.insert(lead, self.change(lead, purpose, change, (needs, guard.clone())));
        }
        let gone = self.take_away(&waited, &guard)?;
        let counted = self.counters(&waited);
        let all_gone: Vec<u64> = gone.values().copied().collect();
        let opens: Vec<u64> =
            ready.values().chain(gone.get(&node)).chain(&counted).copied().collect();
        let opened = self.open(&opens, &guard)?;
        self.turn(&new, &ready, &gone);
        self.hand_over(opened.into_iter().chain(all_gone).chain(opens).collect());
        self.plan.notes.push(format!(
            "applications cannot write from the moment {lead_name} is closed until {name} is opened; if it stops in between, keen mend goes on, and keen mend --undo opens {lead_name} again while {name} still follows it"
        ));
        Ok(())
    }

    /// Steps that close the lead, and what it reads then.
    fn close(
        &mut self,
        near: &[u64],
        new: &NewLinks,
    ) -> Result<(Vec<u64>, SetupCondition), String> {
        let PromotionRequest { lead, node, .. } = *self.request;
        let (name, lead_name) = (self.name(node), self.name(lead));
        let change = self.closing(lead, true)?;
        let Some(change) = change else {
            return Err(format!(
                "{lead_name} is closed to writes already, though the file says that applications write there: keen preflight says more"
            ));
        };
        let closed = SetupCondition {
            node: lead,
            subject: change.subject.clone(),
            is: change.after.clone(),
        };
        let needs: Vec<u64> =
            near.iter().copied().chain(new.made.values().map(|(number, _)| *number)).collect();
        // Taken back it opens again, and that only while the other node still follows.
        let at = self.receivers[0].1;
        let link = Subject::Link { link: self.found[at].2.name.clone() };
        let state =
            (self.read)(node, &link).map_err(|fault| format!("{link} on {name}: {fault}"))?;
        let follows = vec![SetupCondition { node, subject: link, is: state }];
        let number = self.change(
            lead,
            format!("{lead_name} takes no writes any more"),
            change,
            (needs, follows),
        );
        let mut steps = vec![number];
        if let Address::Server(server) = &self.topology().nodes[lead].at
            && server.engine == Engine::Postgres
        {
            let subject = Subject::OldSessions { database: server.database.clone() };
            let done = vec![SetupCondition { node: lead, subject, is: None }];
            let what = format!(
                "end the sessions of applications on {lead_name} that began before it was closed"
            );
            let purpose = "what was open before may still write".to_owned();
            let step = SetupStep::of(lead, purpose, SetupAct::ByHand { what, done });
            steps.push(self.push(SetupStep { depends_on: vec![number], ..step }));
        }
        Ok((steps, closed))
    }

    /// The slots of new subscriptions, from which on they take what is written. By receiver.
    fn slots(
        &mut self,
        new: &NewLinks,
        waited: &[u64],
        guard: &[SetupCondition],
    ) -> BTreeMap<NodeId, u64> {
        let node = self.request.node;
        let mut slots = BTreeMap::new();
        for (to, (number, link)) in &new.made {
            let Some(of) = link.subscription() else { continue };
            let change = SetupChange::to(Subject::Slot { slot: of.slot.clone() }, IDLE);
            let purpose = format!("what {} writes is kept for {}", self.name(node), self.name(*to));
            let needs = waited.iter().copied().chain([*number]).collect();
            let step = SetupStep::of(node, purpose, SetupAct::Change(change));
            let step =
                SetupStep { depends_on: needs, also: guard.to_vec(), for_good: true, ..step };
            slots.insert(*to, self.push(step));
        }
        slots
    }

    /// Takes the links from the lead away, and their slots there.
    fn take_away(
        &mut self,
        needs: &[u64],
        guard: &[SetupCondition],
    ) -> Result<BTreeMap<NodeId, u64>, String> {
        let lead = self.request.lead;
        let mut gone = BTreeMap::new();
        let mut slots = Vec::new();
        for (to, at) in self.receivers.clone() {
            let link = self.found[at].2.clone();
            let subject = Subject::Link { link: link.name.clone() };
            let receiver = self.name(to);
            let unread = |fault| format!("{subject} on {receiver} could not be read: {fault}");
            let state = (self.read)(to, &subject).map_err(unread)?;
            let Some(state) = state else {
                return Err(format!("{subject} on {} is gone: plan again", self.name(to)));
            };
            if let Some((_, busy)) = state.split_once(", and ") {
                return Err(format!(
                    "{subject} of {} {busy}: when that is over, plan again",
                    self.name(to)
                ));
            }
            let mut also = guard.to_vec();
            if self.facts(lead).is_none() {
                // What it applies from now on is not what was held against the others.
                also.push(self.taken(to, at)?);
            }
            if link.means == ReplicationKind::BinaryLog {
                also.push(match self.server_id(lead) {
                    Some(source) => source,
                    None => SetupCondition {
                        node: to,
                        subject: Subject::FetchedChanges { link: link.name.clone() },
                        is: None,
                    },
                });
            }
            let change =
                SetupChange { subject, before: Some(state), after: None, pauses: Vec::new() };
            let purpose = format!("{} no longer follows {}", self.name(to), self.name(lead));
            // As long as the first still follows, the lead can be opened again: so all others have to follow it, too.
            let needs = needs.iter().copied().chain(gone.get(&self.request.node).copied());
            let number = self.change(to, purpose, change, (needs.collect(), also));
            gone.insert(to, number);
            slots.extend(link.source.slot.clone().map(|slot| (number, slot)));
        }
        if self.facts(lead).is_some() {
            for (number, slot) in slots {
                let change = SetupChange {
                    before: Some(IDLE.to_owned()),
                    after: None,
                    subject: Subject::Slot { slot },
                    pauses: Vec::new(),
                };
                let purpose = "nobody reads it any more, and it would hold back log".to_owned();
                self.change(lead, purpose, change, (vec![number], Vec::new()));
            }
        }
        Ok(gone)
    }

    /// The server that is read is the one that wrote.
    fn server_id(&self, node: NodeId) -> Option<SetupCondition> {
        let id = self.facts(node)?.identity.ids.get("server_id")?;
        let subject = Subject::Setting { name: "server_id".to_owned() };
        Some(SetupCondition { node, subject, is: Some(id.clone()) })
    }

    /// What counts columns up goes on behind every number that was handed out.
    fn counters(&mut self, needs: &[u64]) -> Vec<u64> {
        let node = self.request.node;
        let mut steps = Vec::new();
        if self.engine() != Engine::Postgres {
            return steps; // the others raise them with every row that they apply
        }
        let Some(facts) = self.facts(node) else { return steps };
        for look in facts.tables.values() {
            let Some(look) = look.as_ref().ok().and_then(|look| look.there()) else { continue };
            for counter in &look.counters {
                let subject = Subject::Counter {
                    table: look.shape.qualified.clone(),
                    column: counter.column.clone(),
                };
                let purpose = "numbers that were handed out are not handed out again".to_owned();
                let change = SetupChange::to(subject, YES);
                let step = SetupStep::of(node, purpose, SetupAct::Change(change));
                let needs = needs.to_vec();
                steps.push(self.push(SetupStep { depends_on: needs, for_good: true, ..step }));
            }
        }
        steps
    }

    /// The step that lets applications write, if something keeps them from it.
    fn open(&mut self, needs: &[u64], guard: &[SetupCondition]) -> Result<Option<u64>, String> {
        let node = self.request.node;
        let Some(change) = self.closing(node, false)? else { return Ok(None) };
        let purpose = format!("{} takes writes", self.name(node));
        let step = SetupStep::of(node, purpose, SetupAct::Change(change));
        let (depends_on, also) = (needs.to_vec(), guard.to_vec());
        Ok(Some(self.push(SetupStep { depends_on, also, for_good: true, ..step })))
    }

    /// Switches the new links on.
    fn turn(
        &mut self,
        new: &NewLinks,
        ready: &BTreeMap<NodeId, u64>,
        gone: &BTreeMap<NodeId, u64>,
    ) {
        let node = self.request.node;
        for (to, (made, link)) in &new.made {
            let change = SetupChange {
                before: Some(OFF.to_owned()),
                ..SetupChange::to(Subject::LinkSwitch { link: link.link.clone() }, ON)
            };
            let purpose = format!("{} takes what {} writes", self.name(*to), self.name(node));
            let needs = [Some(*made), ready.get(to).copied(), gone.get(to).copied()];
            // Nobody follows it before it has stopped to follow.
            let needs = needs.into_iter().chain([gone.get(&node).copied()]).flatten().collect();
            let step = SetupStep::of(*to, purpose.clone(), SetupAct::Change(change));
            let number = self.push(SetupStep { depends_on: needs, for_good: true, ..step });
            self.wait(*to, node, purpose, vec![number]);
        }
    }

    /// The topology file, and the proof.
    fn hand_over(&mut self, needs: Vec<u64>) {
        let PromotionRequest { lead, node, after, .. } = *self.request;
        let (name, lead_name) = (self.name(node), self.name(lead));
        let done = vec![SetupCondition {
            node,
            subject: Subject::TopologyFile,
            is: Some(after.outline()),
        }];
        let what = format!(
            "let applications write to {name} instead of {lead_name}, and say so in the topology file: the plan has it as it has to read, under topology_after"
        );
        let purpose = format!("everybody knows that {name} leads");
        let step = SetupStep::of(node, purpose, SetupAct::ByHand { what, done });
        let filed = self.push(SetupStep { depends_on: needs, ..step });
        let is_there = self.facts(lead).is_some();
        let survivor = self.receivers.get(1).map(|(to, _)| *to);
        let findings = match is_there {
            true => vec![&LEADER_ELSEWHERE, &LINK_ABSENT, &LINK_STRAY],
            false => Vec::new(), // of a node that is away nothing comes out clean
        };
        let findings: Vec<String> =
            findings.into_iter().map(|check| check.name.to_owned()).collect();
        let same_as = if is_there { Some(lead) } else { survivor };
        if findings.is_empty() && same_as.is_none() {
            return;
        }
        let purpose = format!("all follow {name}, and have what it has");
        let step = SetupStep::of(node, purpose, SetupAct::Check { findings, same_as });
        self.push(SetupStep { depends_on: vec![filed], ..step });
    }

    /// Slots of the lead that are not those of its receivers.
    fn slots_of_others(&self) -> Vec<&'a str> {
        if self.is_of_standbys() {
            return Vec::new(); // the node lacks them, and that is said
        }
        let lead = self.facts(self.request.lead);
        let slots = lead.and_then(|facts| facts.slots.as_ref().ok()).into_iter().flatten();
        let is_known = |slot: &&str| {
            self.receivers
                .iter()
                .any(|(_, at)| self.found[*at].2.source.slot.as_deref() == Some(*slot))
        };
        let names = slots.map(|slot| &slot.name[..]);
        names.filter(|slot| !is_known(slot) && !is_journal_slot(slot)).collect()
    }

    fn notes(&mut self) {
        let PromotionRequest { lead, node, .. } = *self.request;
        let (name, lead_name) = (self.name(node), self.name(lead));
        let mut notes = Vec::new();
        match self.engine() {
            Engine::MariaDb => {
                notes.push("a setting holds until the next restart: write read_only into the configuration files of both".to_owned());
                notes.push(format!(
                    "read_only does not stop accounts with READ_ONLY ADMIN or SUPER: see to it that no application on {lead_name} has them"
                ));
                let runs_events = |facts: &NodeFacts| {
                    let on = facts.settings.as_ref().ok()?.get("event_scheduler")?;
                    Some(on.eq_ignore_ascii_case("on"))
                };
                if self.facts(lead).and_then(runs_events) == Some(true) {
                    notes.push(format!(
                        "events of {lead_name} are disabled on {name}: switch over by hand which server runs them"
                    ));
                }
            }
            Engine::Sqlite => {}
            Engine::Postgres if self.is_of_standbys() => {}
            Engine::Postgres => notes.push(format!(
                "sessions that set default_transaction_read_only themselves can still write on {lead_name}"
            )),
        }
        let unknown = self.slots_of_others();
        if !unknown.is_empty() {
            notes.push(format!(
                "who reads slots {} of {lead_name} is not known: from then on they get nothing of what {name} takes",
                unknown.join(", ")
            ));
        }
        let rules = &self.topology().authority;
        let names_it = |rule: &AuthorityRule| *rule == AuthorityRule::Node(lead);
        if names_it(&rules.default) || rules.tables.values().any(names_it) {
            notes.push(format!("[authority] of the topology file still names {lead_name}"));
        }
        if !self.is_of_standbys() && self.engine() != Engine::Sqlite {
            notes.push(
            "passwords are not in this plan: keen mend takes them from where the topology file says they are".to_owned(),
        );
        }
        self.plan.notes.extend(notes);
    }
}
