//! The plan that makes links which the topology file declares: each is made switched off, its receiver is filled from the
//! first of the sources as of one moment, and the links go on from there.
//!
//! So nothing of a source is missing at the receiver, and nothing comes twice. What the receiver held is kept in a file,
//! as for any node that is filled. Links that lead on from that node are made before the copy, which they leave out, and
//! begin after it.

use std::collections::{BTreeMap, BTreeSet};

use super::seeding::SeedRequest;
use super::setup_steps::{ARRIVES_WITHIN, ReadState, SetupAct, SetupPlan, SetupStep};
use crate::fault::ReadFault;
use crate::observe::node::{
    ChangeSource, Incoming, NodeFacts, Publication, ReplicationKind, WorkerState,
};
use crate::preflight::legend::LINK_ABSENT;
use crate::seed::steps::found_links;
use crate::setup::spell::ALL_KINDS;
use crate::setup::{
    IDLE, LinkLogin, LinkWay, NewLink, NewSubscription, OFF, ON, SetupChange, SetupCondition,
    Subject, YES,
};
use crate::topology::{Address, Engine, LinkAccount, NodeId, Topology};

/// Links that are made to one node, and how that node is filled.
#[derive(Debug)]
pub struct LinkingRequest<'a> {
    /// How it is filled, from the source of the first link.
    pub seed: SeedRequest<'a>,
    /// The sources of its new links.
    pub sources: &'a [NodeId],
    /// The nodes that are to follow it, by links that are new, too.
    pub receivers: &'a [NodeId],
}

impl LinkingRequest<'_> {
    fn topology(&self) -> &Topology {
        self.seed.topology
    }

    fn name(&self, node: NodeId) -> &str {
        &self.topology().nodes[node].name
    }

    fn facts(&self, node: NodeId) -> Result<&NodeFacts, String> {
        let facts = self.seed.looks.get(&node).and_then(|look| look.facts.as_deref());
        facts.ok_or_else(|| format!("{} could not be looked at", self.name(node)))
    }

    /// The plan.
    ///
    /// # Errors
    /// Why there is none.
    pub fn plan(&self, read: &mut ReadState<'_>) -> Result<SetupPlan, String> {
        self.can_be_told_apart()?;
        let node = self.seed.node;
        if let ([from], []) = (self.sources, self.receivers)
            && let Some(there) = self.follows(*from, node)
        {
            return self.turned_back(*from, &there, read);
        }
        let mut steps: Vec<SetupStep> = Vec::new();
        let mut new: Vec<(NodeId, Incoming)> = Vec::new();
        let mut made: Vec<u64> = Vec::new();
        for from in self.sources {
            self.may_be_made(*from, node)?;
            let link = self.link(*from, node, &mut steps, &new)?;
            new.push((*from, incoming(&link)));
            made.push(self.make(node, link, Vec::new(), &mut steps));
        }
        let mut out: Vec<(NodeId, String, u64)> = Vec::new();
        for to in self.receivers {
            self.may_be_made(node, *to)?;
            let link = self.link(node, *to, &mut steps, &[])?;
            let (name, subscription) = (link.link.clone(), link.subscription().cloned());
            let also = match &subscription {
                None => {
                    let held = |position| Subject::HeldPosition { position };
                    self.nothing_before((node, *to), &Subject::LoggedPosition, held, read)?
                }
                Some(of) if of.origin.as_deref() == Some("none") => Vec::new(),
                Some(_) => {
                    return Err(format!(
                        "{} is to pass on to {} what others write, and the copy would travel on with it: make that link when {} is filled",
                        self.name(node),
                        self.name(*to),
                        self.name(node)
                    ));
                }
            };
            let number = self.make(*to, link, also, &mut steps);
            made.push(number);
            if let Some(NewSubscription { slot, .. }) = subscription {
                // Before the copy, which the link leaves out: so nothing that is written from then on is missing.
                let change = SetupChange::to(Subject::Slot { slot }, IDLE);
                let purpose =
                    format!("what {} writes is kept for {}", self.name(node), self.name(*to));
                let step = SetupStep::of(node, purpose, SetupAct::Change(change));
                steps.push(SetupStep { depends_on: vec![number], for_good: true, ..step });
                made.push(self.seed.before + steps.len() as u64);
            }
            out.push((*to, name, number));
        }
        let before = self.seed.before + steps.len() as u64;
        let new_writer =
            self.topology().nodes[node].writes && self.receivers.contains(&self.seed.from);
        let mut filled = SeedRequest { before, new: &new, new_writer, ..self.seed }.plan()?;
        if let Some(copy) = filled.steps.first_mut() {
            copy.depends_on = made;
        }
        let copy = before + 1;
        let proof = filled.steps.pop();
        steps.append(&mut filled.steps);
        for (to, link, _) in out {
            let number = self.seed.before + steps.len() as u64 + 1;
            let change = SetupChange {
                before: Some(OFF.to_owned()),
                ..SetupChange::to(Subject::LinkSwitch { link }, ON)
            };
            let purpose = format!("{} takes what {} writes", self.name(to), self.name(node));
            let step = SetupStep::of(to, purpose.clone(), SetupAct::Change(change));
            steps.push(SetupStep { depends_on: vec![copy], for_good: true, ..step });
            let act = SetupAct::Wait { from: node, at_most: ARRIVES_WITHIN };
            let step = SetupStep::of(to, purpose, act);
            steps.push(SetupStep { depends_on: vec![number], ..step });
        }
        steps.extend(proof);
        filled.notes.push(
            "passwords are not in this plan: keen mend takes them from where the topology file says they are".to_owned(),
        );
        if new_writer {
            filled.notes.push(format!(
                "whether {} hands out numbers that others hand out, too, keen preflight says: look before applications write there",
                self.name(node)
            ));
        }
        Ok(SetupPlan { steps, ..filled })
    }

    /// The way back of a link that is there: its source is to follow its receiver. Nothing is copied, as the receiver has
    /// nothing that its source lacks.
    fn turned_back(
        &self,
        from: NodeId,
        there: &Incoming,
        read: &mut ReadState<'_>,
    ) -> Result<SetupPlan, String> {
        let node = self.seed.node;
        let (name, source) = (self.name(node), self.name(from));
        self.may_be_made(from, node)?;
        for (table, held) in self.seed.compared {
            let held = held.as_ref().map_err(|fault| {
                format!("{table} of {name} and {source} could not be compared: {fault}")
            })?;
            if held.only_here + held.only_there + held.otherwise > 0 {
                return Err(format!(
                    "{source} follows {name}, and {table} is not the same on both, which no link would bring: keen plan repairs that first"
                ));
            }
        }
        let mut steps: Vec<SetupStep> = Vec::new();
        let mut needs = Vec::new();
        let means = there.means;
        if means == ReplicationKind::Subscription && !there.own_writes_only {
            let change = SetupChange {
                before: Some("any".to_owned()),
                ..SetupChange::to(Subject::LinkOrigin { link: there.name.clone() }, "none")
            };
            let purpose = format!("what {source} writes does not come back to it");
            let step = SetupStep::of(from, purpose, SetupAct::Change(change));
            steps.push(SetupStep { for_good: true, ..step });
            needs.push(self.seed.before + 1);
        }
        let link = self.link(from, node, &mut steps, &[])?;
        let subscription = link.subscription().cloned();
        let name_of_link = link.link.clone();
        let also = match subscription {
            Some(_) => Vec::new(),
            None => {
                let held = |state| Subject::HeldState { state };
                self.nothing_before((from, node), &Subject::OwnWrites, held, read)?
            }
        };
        needs.push(self.make(node, link, also, &mut steps));
        // A MariaDB server leaves out by itself what comes back to it.
        if let Some(NewSubscription { slot, .. }) = subscription {
            let change = SetupChange::to(Subject::Slot { slot }, IDLE);
            let purpose = format!("what {source} writes is kept for {name}");
            let step = SetupStep::of(from, purpose, SetupAct::Change(change));
            steps.push(SetupStep { depends_on: needs, for_good: true, ..step });
        }
        let ready = self.seed.before + steps.len() as u64;
        let change = SetupChange {
            before: Some(OFF.to_owned()),
            ..SetupChange::to(Subject::LinkSwitch { link: name_of_link }, ON)
        };
        let purpose = format!("{name} takes what {source} writes");
        let step = SetupStep::of(node, purpose.clone(), SetupAct::Change(change));
        steps.push(SetupStep { depends_on: vec![ready], for_good: true, ..step });
        let act = SetupAct::Wait { from, at_most: ARRIVES_WITHIN };
        let step = SetupStep::of(node, purpose, act);
        steps.push(SetupStep { depends_on: vec![ready + 1], ..step });
        let act =
            SetupAct::Check { findings: vec![LINK_ABSENT.name.to_owned()], same_as: Some(from) };
        let step = SetupStep::of(node, "each has what the other has", act);
        steps.push(SetupStep { depends_on: vec![ready + 2], ..step });
        let notes = vec![
            format!(
                "nothing is copied: {source} follows {name}, and has nothing that {name} lacks; let nobody write to {source} before this is carried out"
            ),
            format!(
                "whether {source} hands out numbers that {name} hands out, too, keen preflight says: look before applications write there"
            ),
            "passwords are not in this plan: keen mend takes them from where the topology file says they are".to_owned(),
        ];
        Ok(SetupPlan { steps, notes, ..SetupPlan::default() })
    }

    /// A MariaDB server leaves out what a server of its own number wrote.
    fn can_be_told_apart(&self) -> Result<(), String> {
        let mut known: BTreeMap<&str, NodeId> = BTreeMap::new();
        for node in 0..self.topology().nodes.len() {
            let facts = self.seed.looks.get(&node).and_then(|look| look.facts.as_deref());
            let Some(facts) = facts.filter(|facts| facts.engine == Engine::MariaDb) else {
                continue;
            };
            let Some(id) = facts.identity.ids.get("server_id") else { continue };
            if let Some(other) = known.insert(id, node) {
                return Err(format!(
                    "{} and {} both have server_id {id}, and each leaves out what the other writes: keen preflight says how to change that",
                    self.name(other),
                    self.name(node)
                ));
            }
        }
        Ok(())
    }

    /// Adds the step that makes a link; its number.
    fn make(
        &self,
        to: NodeId,
        link: NewLink,
        also: Vec<SetupCondition>,
        steps: &mut Vec<SetupStep>,
    ) -> u64 {
        let after = Some(link.state());
        let depends_on = self.publishing(steps, &link);
        let purpose = format!("{} follows {}", self.name(to), link.from);
        let subject = Subject::NewLink(Box::new(link));
        let change = SetupChange { subject, before: None, after, pauses: Vec::new() };
        let step = SetupStep::of(to, purpose, SetupAct::Change(change));
        steps.push(SetupStep { depends_on, also, ..step });
        self.seed.before + steps.len() as u64
    }

    /// A connection begins with all that its receiver lacks: of what its source has, or wrote itself where it follows the
    /// receiver already, that has to be nothing, and to stay so.
    fn nothing_before(
        &self,
        (from, to): (NodeId, NodeId),
        has: &Subject,
        held: impl Fn(String) -> Subject,
        read: &mut ReadState<'_>,
    ) -> Result<Vec<SetupCondition>, String> {
        let (name, receiver) = (self.name(from), self.name(to));
        let unread = |fault: ReadFault| {
            format!("how far {name} and {receiver} are could not be read: {fault}")
        };
        let is = read(from, has).map_err(unread)?;
        let mut also = vec![SetupCondition { node: from, subject: has.clone(), is: is.clone() }];
        if let Some(position) = is {
            let subject = held(position);
            if read(to, &subject).map_err(unread)?.is_none() {
                return Err(format!(
                    "the log of {name} has writes that {receiver} lacks, and the link would bring them: if nobody wants them, empty that log first (RESET MASTER on {name}), as long as nobody follows {name}"
                ));
            }
            also.push(SetupCondition { node: to, subject, is: Some(YES.to_owned()) });
        }
        Ok(also)
    }

    /// The steps that publish what a link takes.
    fn publishing(&self, steps: &[SetupStep], link: &NewLink) -> Vec<u64> {
        let Some(subscription) = link.subscription() else { return Vec::new() };
        let publishes = |step: &SetupStep| match &step.act {
            SetupAct::Change(change) => match &change.subject {
                Subject::Publication { publication }
                | Subject::PublishedTable { publication, .. } => {
                    *publication == subscription.publication && self.name(step.node) == link.from
                }
                _ => false,
            },
            _ => false,
        };
        let numbered = steps.iter().zip(self.seed.before + 1..);
        numbered.filter(|(step, _)| publishes(step)).map(|(_, number)| number).collect()
    }

    fn may_be_made(&self, from: NodeId, to: NodeId) -> Result<(), String> {
        let (topology, node) = (self.topology(), self.seed.node);
        let (name, source) = (self.name(to), self.name(from));
        if !topology.links.iter().any(|l| (l.from, l.to) == (from, to)) {
            return Err(format!("the topology file declares no link from {source} to {name}"));
        }
        let engines = [from, to].map(|end| topology.nodes[end].at.engine());
        if let Some(at) = engines.iter().position(|engine| *engine == Engine::Sqlite) {
            return Err(format!(
                "{} is a file, and keen makes no new links between files",
                [source, name][at]
            ));
        }
        if engines[0] != engines[1] {
            return Err(format!(
                "{source} ({}) and {name} ({}) are not servers of one kind: something beside them carries rows between them",
                engines[0].name(),
                engines[1].name()
            ));
        }
        if let Some(link) = self.follows(to, from) {
            return Err(format!("{name} follows {source} already, by {}", link.name));
        }
        // Of what it wrote itself before, nobody else has anything.
        if to == node
            && topology.nodes[node].writes
            && self.follows(from, node).is_none()
            && !self.receivers.contains(&from)
        {
            return Err(format!(
                "{name} is written to, and {source} does not follow it: make both links together, --link {source}:{name} --link {name}:{source}"
            ));
        }
        Ok(())
    }

    /// The link by which a node follows another.
    fn follows(&self, to: NodeId, from: NodeId) -> Option<Incoming> {
        let mut found = found_links(self.topology(), self.seed.looks).into_iter();
        found.find(|(at, of, _)| *at == to && *of == Some(from)).map(|(.., link)| link)
    }

    fn account(&self, from: NodeId) -> Result<&LinkAccount, String> {
        let account = self.topology().nodes[from].replication.as_ref();
        account.ok_or_else(|| {
            let source = self.name(from);
            format!(
                "by which account others follow {source} is not known: write [node.{source}.replication] with user and password into the topology file"
            )
        })
    }

    pub(super) fn link(
        &self,
        from: NodeId,
        to: NodeId,
        steps: &mut Vec<SetupStep>,
        new: &[(NodeId, Incoming)],
    ) -> Result<NewLink, String> {
        let incoming = self.facts(to)?.incoming.as_deref().unwrap_or_default();
        let taken = incoming.iter().chain(new.iter().map(|(_, link)| link));
        let taken: Vec<&str> = taken.map(|link| &link.name[..]).collect();
        let (link, way) = match self.facts(to)?.engine {
            Engine::Postgres => {
                let (login, subscription) =
                    (self.login(from)?, self.subscription(from, to, steps)?);
                (subscription.slot.clone(), LinkWay::Subscription(login, subscription))
            }
            Engine::MariaDb => {
                (free(self.name(from), &taken), LinkWay::Connection(self.login(from)?))
            }
            Engine::Sqlite => {
                let number = (0_u32..).find(|number| !taken.contains(&&number.to_string()[..]));
                let carries = self.carried(from, to);
                (number.unwrap_or_default().to_string(), LinkWay::StandIn { carries })
            }
        };
        Ok(NewLink { link, from: self.name(from).to_owned(), way })
    }

    fn login(&self, from: NodeId) -> Result<LinkLogin, String> {
        let LinkAccount { user, host, port, .. } = self.account(from)?.clone();
        let tls = self.topology().nodes[from].tls.on == Some(true);
        Ok(LinkLogin { host, port, user, tls })
    }

    /// The sets that travel from a node to another.
    fn carried(&self, from: NodeId, to: NodeId) -> Vec<String> {
        let topology = self.topology();
        let links = topology.links.iter().filter(|link| (link.from, link.to) == (from, to));
        let sets: BTreeSet<usize> = links.flat_map(|link| link.carries.iter().copied()).collect();
        sets.into_iter().map(|set| topology.sets[set].name.clone()).collect()
    }

    fn subscription(
        &self,
        from: NodeId,
        to: NodeId,
        steps: &mut Vec<SetupStep>,
    ) -> Result<NewSubscription, String> {
        let topology = self.topology();
        let (there, source) = (self.facts(to)?, self.facts(from)?);
        let (name, source_name) = (self.name(to), self.name(from));
        let comes_back = reached(topology, to, None).contains(&from);
        let relays = self.relays(from, to);
        let origin = match (there.major.min(source.major) >= 16, relays.is_empty()) {
            (false, _) if comes_back => {
                return Err(format!(
                    "what {name} sends comes to {source_name} again, and only subscriptions of PostgreSQL 16 and newer can leave that out (origin = none): two subscriptions would send every write round and round; upgrade, or use pglogical"
                ));
            }
            (_, false) if comes_back => {
                return Err(format!(
                    "what {} writes comes to {name} only by way of {source_name}, and what {name} sends comes back to {source_name}: it would go round and round; link {name} with each of them directly",
                    relays.join(", ")
                ));
            }
            (false, _) => None,
            (true, true) => Some("none".to_owned()),
            (true, false) => Some("any".to_owned()),
        };
        let publication = self.publication((from, to), source, steps)?;
        let incoming = there.incoming.as_deref().unwrap_or_default();
        let mut taken: Vec<&str> = incoming.iter().map(|link| &link.name[..]).collect();
        let slots = source
            .slots
            .as_deref()
            .map_err(|fault| format!("the slots of {source_name} could not be read: {fault}"))?;
        taken.extend(slots.iter().map(|slot| &slot.name[..]));
        let slot = free(&plain(&format!("{name}_from_{source_name}")), &taken);
        let Address::Server(server) = &topology.nodes[from].at else {
            return Err(format!("{source_name} is no server"));
        };
        Ok(NewSubscription { database: server.database.clone(), publication, slot, origin })
    }

    /// Writers whose writes come to the node only by way of this source.
    fn relays(&self, from: NodeId, node: NodeId) -> Vec<&str> {
        let topology = self.topology();
        let direct =
            |writer: NodeId| topology.links.iter().any(|l| (l.from, l.to) == (writer, node));
        (0..topology.nodes.len())
            .filter(|writer| ![from, node].contains(writer) && topology.nodes[*writer].writes)
            .filter(|writer| {
                !direct(*writer)
                    && reached(topology, *writer, Some(node)).contains(&from)
                    && !reached(topology, *writer, Some(from)).contains(&node)
            })
            .map(|writer| self.name(writer))
            .collect()
    }

    /// A publication of the source that carries all that the link is to carry; if there is none it is made.
    fn publication(
        &self,
        (from, node): (NodeId, NodeId),
        source: &NodeFacts,
        steps: &mut Vec<SetupStep>,
    ) -> Result<String, String> {
        let topology = self.topology();
        let source_name = self.name(from);
        let links = topology.links.iter().filter(|l| (l.from, l.to) == (from, node));
        let sets: BTreeSet<usize> = links.flat_map(|link| link.carries.iter().copied()).collect();
        let tables: BTreeSet<&String> =
            sets.iter().flat_map(|set| &topology.sets[*set].tables).collect();
        let mut qualified: Vec<Vec<String>> = Vec::new();
        for table in tables {
            let look = source.tables.get(table).and_then(|look| look.as_ref().ok()?.there());
            let look = look.ok_or_else(|| {
                format!("{table} on {source_name} could not be looked at: keen preflight says why")
            })?;
            if look.partitioned {
                return Err(format!(
                    "{table} on {source_name} is partitioned: whether it is published by its parts or as a whole is for a person to say"
                ));
            }
            let named_by = look.named_by.as_deref();
            if named_by == Some("nothing") || (named_by.is_none() && look.shape.key.is_empty()) {
                return Err(format!(
                    "nothing names the rows of {table} on {source_name} to subscribers: keen plan --kind shape mends that"
                ));
            }
            qualified.push(look.shape.qualified.clone());
        }
        let publications = source.publications.as_deref().map_err(|fault| {
            format!("the publications of {source_name} could not be read: {fault}")
        })?;
        let carries = |publication: &&Publication| {
            publication.leaves_out.is_empty()
                && publication.tables.len() == qualified.len()
                && qualified.iter().all(|table| {
                    publication.tables.iter().any(|published| {
                        published.table == table.join(".") && published.filter.is_none()
                    })
                })
        };
        if let Some(publication) = publications.iter().find(carries) {
            return Ok(publication.name.clone());
        }
        let changed = |step: &SetupStep| match &step.act {
            SetupAct::Change(change) if step.node == from => Some(change.subject.clone()),
            _ => None,
        };
        let planned: Vec<Subject> = steps.iter().filter_map(changed).collect();
        let named = planned.iter().filter_map(|subject| match subject {
            Subject::Publication { publication } => Some(publication),
            _ => None,
        });
        let named: Vec<&String> = named.collect();
        let tables_of = |name: &String| -> Vec<Vec<String>> {
            let mut tables = Vec::new();
            for subject in &planned {
                if let Subject::PublishedTable { publication, table } = subject
                    && publication == name
                {
                    tables.push(table.clone());
                }
            }
            tables
        };
        let does = |name: &&&String| tables_of(name) == qualified;
        if let Some(publication) = named.iter().find(does) {
            return Ok((*publication).clone());
        }
        let taken = publications.iter().map(|known| &known.name).chain(named);
        let taken: Vec<&str> = taken.map(String::as_str).collect();
        let publication = free(&plain(&format!("from_{source_name}")), &taken);
        let made =
            SetupChange::to(Subject::Publication { publication: publication.clone() }, ALL_KINDS);
        let number = self.seed.before + steps.len() as u64 + 1;
        let purpose = format!("{source_name} offers what {} is to take", self.name(node));
        let step = SetupStep::of(from, purpose.clone(), SetupAct::Change(made));
        steps.push(SetupStep { for_good: true, ..step });
        for table in qualified {
            let publication = publication.clone();
            let added = SetupChange::to(Subject::PublishedTable { publication, table }, YES);
            let step = SetupStep::of(from, purpose.clone(), SetupAct::Change(added));
            steps.push(SetupStep { depends_on: vec![number], for_good: true, ..step });
        }
        Ok(publication)
    }
}

/// A link that is to be made, as its receiver will tell of it.
fn incoming(new: &NewLink) -> Incoming {
    let means = match new.way {
        LinkWay::Connection(_) => ReplicationKind::BinaryLog,
        LinkWay::Subscription(..) => ReplicationKind::Subscription,
        LinkWay::StandIn { .. } => ReplicationKind::StandIn,
    };
    let subscription = new.subscription();
    let address = new.login().map(|login| (login.host.clone(), login.port));
    Incoming {
        name: new.link.clone(),
        source: ChangeSource {
            address,
            slot: subscription.map(|of| of.slot.clone()),
            ..ChangeSource::default()
        },
        receiving: WorkerState::Stopped,
        applying: WorkerState::Stopped,
        own_writes_only: subscription.is_some_and(|of| of.origin.as_deref() == Some("none")),
        publications: subscription.map(|of| of.publication.clone()).into_iter().collect(),
        ..Incoming::unknown(means)
    }
}

/// The name, or the first that is not taken yet with a number behind it.
fn free(name: &str, taken: &[&str]) -> String {
    let is_free = |name: &String| !taken.iter().any(|taken| taken.eq_ignore_ascii_case(name));
    let numbered = (2..).map(|number| format!("{name}_{number}"));
    std::iter::once(name.to_owned()).chain(numbered).find(is_free).unwrap_or_default()
}

/// A name that does for a slot: small letters, digits and underscores, and not too long.
fn plain(name: &str) -> String {
    /// `NAMEDATALEN` allows 63; the rest is for a number.
    const LONGEST: usize = 58;
    let fits = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '_' };
    name.chars().map(fits).take(LONGEST).collect()
}

/// The nodes to which what a node sends comes, without going through one of them.
fn reached(topology: &Topology, from: NodeId, without: Option<NodeId>) -> BTreeSet<NodeId> {
    let mut reached = BTreeSet::new();
    let mut open = vec![from];
    while let Some(at) = open.pop() {
        for link in topology.links.iter().filter(|link| link.from == at) {
            if Some(link.to) != without && reached.insert(link.to) {
                open.push(link.to);
            }
        }
    }
    reached
}
