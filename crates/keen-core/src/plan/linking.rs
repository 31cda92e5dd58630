//! The plan that makes links which the topology file declares: each is made switched off, its receiver is filled from the
//! first of the sources as of one moment, and the links go on from there.
//!
//! So nothing of a source is missing at the receiver, and nothing comes twice. What the receiver held is kept in a file,
//! as for any node that is filled.

use std::collections::BTreeSet;

use super::seeding::SeedRequest;
use super::setup_steps::{SetupAct, SetupPlan, SetupStep};
use crate::observe::node::{
    ChangeSource, Incoming, NodeFacts, Publication, ReplicationKind, WorkerState,
};
use crate::seed::steps::found_links;
use crate::setup::spell::ALL_KINDS;
use crate::setup::{NewLink, NewSubscription, SetupChange, Subject, YES};
use crate::topology::{Engine, LinkAccount, NodeId, Topology};

/// Links that are made to one node, and how that node is filled.
#[derive(Debug)]
pub struct LinkingRequest<'a> {
    /// How it is filled, from the source of the first link.
    pub seed: SeedRequest<'a>,
    /// The sources of its new links.
    pub sources: &'a [NodeId],
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
    pub fn plan(&self) -> Result<SetupPlan, String> {
        let node = self.seed.node;
        let mut steps: Vec<SetupStep> = Vec::new();
        let mut new: Vec<(NodeId, Incoming)> = Vec::new();
        let mut made: Vec<u64> = Vec::new();
        for from in self.sources {
            self.may_be_made(*from)?;
            let link = match self.facts(node)?.engine {
                Engine::Postgres => self.subscription(*from, &mut steps)?,
                _ => self.connection(*from, &new)?,
            };
            let after = Some(link.state());
            let depends_on = self.publishing(&steps, &link);
            new.push((*from, incoming(&link)));
            let purpose = format!("{} follows {}", self.name(node), self.name(*from));
            let change = SetupChange {
                subject: Subject::NewLink(Box::new(link)),
                before: None,
                after,
                pauses: Vec::new(),
            };
            made.push(self.seed.before + steps.len() as u64 + 1);
            let step = SetupStep::of(node, purpose, SetupAct::Change(change));
            steps.push(SetupStep { depends_on, ..step });
        }
        let before = self.seed.before + steps.len() as u64;
        let mut filled = SeedRequest { before, new: &new, ..self.seed }.plan()?;
        if let Some(copy) = filled.steps.first_mut() {
            copy.depends_on = made;
        }
        steps.append(&mut filled.steps);
        filled.notes.push(
            "passwords are not in this plan: keen mend takes them from where the topology file says they are".to_owned(),
        );
        Ok(SetupPlan { steps, ..filled })
    }

    /// The steps that publish what a link takes.
    fn publishing(&self, steps: &[SetupStep], link: &NewLink) -> Vec<u64> {
        let Some(subscription) = &link.subscription else { return Vec::new() };
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

    fn may_be_made(&self, from: NodeId) -> Result<(), String> {
        let (topology, node) = (self.topology(), self.seed.node);
        let (name, source) = (self.name(node), self.name(from));
        if !topology.links.iter().any(|l| (l.from, l.to) == (from, node)) {
            return Err(format!("the topology file declares no link from {source} to {name}"));
        }
        let found = found_links(topology, self.seed.looks);
        if let Some((.., link)) = found.iter().find(|(to, of, _)| *to == node && *of == Some(from))
        {
            return Err(format!("{name} follows {source} already, by {}", link.name));
        }
        // Of what it wrote itself before, nobody else has anything.
        if topology.nodes[node].writes
            && !found.iter().any(|(to, of, _)| *to == from && *of == Some(node))
        {
            return Err(format!(
                "{name} is written to, and {source} does not follow it: where that link would have to begin is not known; keen preflight --join says how people set it up"
            ));
        }
        Ok(())
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

    fn link(
        &self,
        from: NodeId,
        link: String,
        subscription: Option<NewSubscription>,
    ) -> Result<NewLink, String> {
        let LinkAccount { user, host, port, .. } = self.account(from)?.clone();
        let tls = self.topology().nodes[from].tls.on == Some(true);
        let from = self.name(from).to_owned();
        Ok(NewLink { link, from, host, port, user, tls, subscription })
    }

    fn connection(&self, from: NodeId, new: &[(NodeId, Incoming)]) -> Result<NewLink, String> {
        let incoming = self.facts(self.seed.node)?.incoming.as_deref();
        let mut taken: Vec<&str> =
            incoming.unwrap_or_default().iter().map(|link| &link.name[..]).collect();
        taken.extend(new.iter().map(|(_, link)| &link.name[..]));
        self.link(from, free(self.name(from), &taken), None)
    }

    fn subscription(&self, from: NodeId, steps: &mut Vec<SetupStep>) -> Result<NewLink, String> {
        let (topology, node) = (self.topology(), self.seed.node);
        let (there, source) = (self.facts(node)?, self.facts(from)?);
        let (name, source_name) = (self.name(node), self.name(from));
        let comes_back = reached(topology, node, None).contains(&from);
        let relays = self.relays(from);
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
        let publication = self.publication(from, source, steps)?;
        let incoming = there.incoming.as_deref().unwrap_or_default();
        let mut taken: Vec<&str> = incoming.iter().map(|link| &link.name[..]).collect();
        let slots = source
            .slots
            .as_deref()
            .map_err(|fault| format!("the slots of {source_name} could not be read: {fault}"))?;
        taken.extend(slots.iter().map(|slot| &slot.name[..]));
        let link = free(&plain(&format!("{name}_from_{source_name}")), &taken);
        let Some(database) = database(topology, from) else {
            return Err(format!("{source_name} is no server"));
        };
        let subscription = NewSubscription { database, publication, slot: link.clone(), origin };
        self.link(from, link, Some(subscription))
    }

    /// Writers whose writes come to the node only by way of this source.
    fn relays(&self, from: NodeId) -> Vec<&str> {
        let (topology, node) = (self.topology(), self.seed.node);
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
        from: NodeId,
        source: &NodeFacts,
        steps: &mut Vec<SetupStep>,
    ) -> Result<String, String> {
        let (topology, node) = (self.topology(), self.seed.node);
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
        let taken: Vec<&str> = publications.iter().map(|known| &known.name[..]).collect();
        let planned = steps.iter().filter_map(|step| match &step.act {
            SetupAct::Change(SetupChange {
                subject: Subject::Publication { publication }, ..
            }) => Some(&publication[..]),
            _ => None,
        });
        let taken: Vec<&str> = taken.into_iter().chain(planned).collect();
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

fn database(topology: &Topology, node: NodeId) -> Option<String> {
    match &topology.nodes[node].at {
        crate::topology::Address::Server(server) => Some(server.database.clone()),
        crate::topology::Address::Sqlite(_) => None,
    }
}

/// A link that is to be made, as its receiver will tell of it.
fn incoming(new: &NewLink) -> Incoming {
    let means = match new.subscription {
        Some(_) => ReplicationKind::Subscription,
        None => ReplicationKind::BinaryLog,
    };
    let subscription = new.subscription.as_ref();
    Incoming {
        name: new.link.clone(),
        source: ChangeSource {
            address: Some((new.host.clone(), new.port)),
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
