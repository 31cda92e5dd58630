//! Steps of a plan that are not about a row: documents, and how they become steps again.

use std::time::Duration;

use keen_core::plan::copy::{CopiedLink, CopiedSlot, CopiedTable, SourceFollows, TableCopy};
use keen_core::plan::setup_steps::{SetupAct, SetupStep, way_back};
use keen_core::setup::{
    LinkLogin, LinkWay, NewLink, OFF, ON, SetupChange, SetupCondition, SetupKind, Subject,
    same_state, spell,
};
use keen_core::topology::{Address, Engine, NodeId, Topology};
use serde::{Deserialize, Serialize};

use crate::Unusable;
use crate::plan::StepDocument;
use crate::setup_subject::SubjectDocument;

/// A value of a node's set-up that is changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SetupStepDocument {
    /// Its number, from 1.
    pub step: u64,
    /// Where.
    pub node: String,
    /// Its purpose, in a sentence.
    pub purpose: String,
    /// The finding that it rests on.
    pub evidence: Option<FindingEvidence>,
    /// The numbers of the steps that have to be done before it.
    pub depends_on: Vec<u64>,
    /// The value that is changed.
    pub subject: SubjectDocument,
    /// Its state before; null where there is none.
    pub before: Option<String>,
    /// Its state after; null where there will be none.
    pub after: Option<String>,
    /// Links of the node that are switched off while it is made, and on again.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub pauses: Vec<String>,
    /// The condition under which it may be made: what nodes have to read, the value itself among them.
    pub guard: Vec<ConditionDocument>,
    /// The loss; null if nothing is lost.
    pub loses: Option<String>,
    /// Whether other nodes take it over, in a sentence.
    pub replicates_onward: String,
    /// The way back, in a sentence.
    pub undo: String,
    /// It has no way back, because something that has none rests on it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub for_good: bool,
    /// The values that are read once it is done.
    pub done: Vec<ConditionDocument>,
    /// Its statements, for people: they are spelled anew when it is carried out.
    pub statements: Vec<String>,
}

/// Something that a person does.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct HandStepDocument {
    /// Its number, from 1.
    pub step: u64,
    /// Where.
    pub node: String,
    /// Its purpose, in a sentence.
    pub purpose: String,
    /// The numbers of the steps that have to be done before it.
    pub depends_on: Vec<u64>,
    /// The task, in a sentence.
    pub what: String,
    /// The values that are read once it is done; empty if no connection can tell.
    pub done: Vec<ConditionDocument>,
}

/// What the source of a link had written is waited for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct WaitStepDocument {
    /// Its number, from 1.
    pub step: u64,
    /// Where it has to arrive.
    pub node: String,
    /// Its purpose, in a sentence.
    pub purpose: String,
    /// The numbers of the steps that have to be done before it.
    pub depends_on: Vec<u64>,
    /// The source.
    pub from: String,
    /// No longer than this, in seconds.
    pub at_most_seconds: u64,
}

/// Tables that are copied from another node.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct CopyStepDocument {
    /// Its number, from 1.
    pub step: u64,
    /// The node that takes them.
    pub node: String,
    /// Its purpose, in a sentence.
    pub purpose: String,
    /// The numbers of the steps that have to be done before it.
    pub depends_on: Vec<u64>,
    /// The source.
    pub from: String,
    /// The tables.
    pub tables: Vec<CopiedTableDocument>,
    /// The links that lead to the node: they are off meanwhile, and go on from the moment of the copy.
    pub links: Vec<CopiedLinkDocument>,
    /// Nobody follows the node yet: what it wrote before is not waited for.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub new_writer: bool,
    /// The condition under which it may be made: what the switches of those links have to read.
    pub guard: Vec<ConditionDocument>,
    /// The loss; null if nothing is lost.
    pub loses: Option<String>,
    /// Whether other nodes take it over, in a sentence.
    pub replicates_onward: String,
    /// The way back, in a sentence.
    pub undo: String,
}

/// A table that is copied.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct CopiedTableDocument {
    /// Its name, as the sets call it.
    pub table: String,
    /// The columns that are copied: all that the engine does not compute itself.
    pub columns: Vec<String>,
}

/// A link of the receiver of a copy.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct CopiedLinkDocument {
    /// Its name on the receiver.
    pub link: String,
    /// Its source.
    pub from: String,
    /// Its switch before the copy, "on" or "off"; one that stopped at something is on.
    pub is: String,
    /// The slot at its source; null where the engine has none.
    pub slot: Option<CopiedSlotDocument>,
}

/// The slot of a link.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct CopiedSlotDocument {
    /// Its name.
    pub name: String,
    /// It still has the log that it needs. One that has not is made anew.
    pub usable: bool,
    /// Where the link does not come from the source of the copy: how that source itself follows the same node.
    pub through: Option<FollowsDocument>,
}

/// How the source of a copy follows another node.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FollowsDocument {
    /// Its link.
    pub link: String,
    /// The slot of that link at the other node.
    pub slot: String,
}

/// The proof: the same look once more.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct CheckStepDocument {
    /// Its number, from 1.
    pub step: u64,
    /// The node of the first step, or the one that was filled.
    pub node: String,
    /// Its purpose, in a sentence.
    pub purpose: String,
    /// The numbers of the steps that have to be done before it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub depends_on: Vec<u64>,
    /// The checks of the preflight that have to find nothing.
    pub findings: Vec<String>,
    /// The node whose tables those of this one have to equal.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub same_as: Option<String>,
}

/// A finding that a step rests on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FindingEvidence {
    /// The check.
    pub check: String,
    /// The finding.
    pub found: String,
}

/// What a node has to read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ConditionDocument {
    /// The node.
    pub node: String,
    /// The value.
    pub subject: SubjectDocument,
    /// Its state; null where there has to be none.
    pub is: Option<String>,
}

/// A step as its document.
#[must_use]
pub fn setup_document(topology: &Topology, number: u64, step: &SetupStep) -> StepDocument {
    let node = topology.nodes[step.node].name.clone();
    let SetupStep { purpose, depends_on, .. } = step.clone();
    match &step.act {
        SetupAct::Change(change) => {
            let engine = topology.nodes[step.node].at.engine();
            let kind = change.subject.kind();
            let document = SetupStepDocument {
                step: number,
                node,
                purpose,
                evidence: step
                    .evidence
                    .clone()
                    .map(|(check, found)| FindingEvidence { check, found }),
                depends_on,
                subject: (&change.subject).into(),
                before: change.before.clone(),
                after: change.after.clone(),
                pauses: change.pauses.clone(),
                guard: conditions(topology, &step.guard()),
                loses: step.loses.clone(),
                replicates_onward: ONWARD.to_owned(),
                undo: way_back(step),
                for_good: step.for_good,
                done: conditions(topology, &step.done()),
                statements: spell::printed(engine, change).unwrap_or_default(),
            };
            match kind {
                SetupKind::Setting => StepDocument::Setting(document),
                SetupKind::Shape => StepDocument::Shape(document),
                SetupKind::Link => StepDocument::Link(document),
            }
        }
        SetupAct::ByHand { what, done } => StepDocument::ByHand(HandStepDocument {
            step: number,
            node,
            purpose,
            depends_on,
            what: what.clone(),
            done: conditions(topology, done),
        }),
        SetupAct::Wait { from, at_most } => StepDocument::Wait(WaitStepDocument {
            step: number,
            node,
            purpose,
            depends_on,
            from: topology.nodes[*from].name.clone(),
            at_most_seconds: at_most.as_secs(),
        }),
        SetupAct::Copy(copy) => StepDocument::Copy(CopyStepDocument {
            step: number,
            node,
            purpose,
            depends_on,
            from: topology.nodes[copy.from].name.clone(),
            tables: copy.tables.iter().map(copied_table_document).collect(),
            links: copy.links.iter().map(|link| copied_link_document(topology, link)).collect(),
            new_writer: copy.new_writer,
            guard: conditions(topology, &step.guard()),
            loses: step.loses.clone(),
            replicates_onward: COPY_ONWARD.to_owned(),
            undo: way_back(step),
        }),
        SetupAct::Check { findings, same_as } => StepDocument::Check(CheckStepDocument {
            step: number,
            node,
            purpose,
            depends_on,
            findings: findings.clone(),
            same_as: same_as.map(|other| topology.nodes[other].name.clone()),
        }),
    }
}

fn copied_table_document(copied: &CopiedTable) -> CopiedTableDocument {
    let CopiedTable { table, columns } = copied.clone();
    CopiedTableDocument { table, columns }
}

fn copied_link_document(topology: &Topology, copied: &CopiedLink) -> CopiedLinkDocument {
    let CopiedLink { link, from, is, slot } = copied.clone();
    let slot = slot.map(|CopiedSlot { name, usable, through }| {
        let through = through.map(|SourceFollows { link, slot }| FollowsDocument { link, slot });
        CopiedSlotDocument { name, usable, through }
    });
    CopiedLinkDocument { link, from: topology.nodes[from].name.clone(), is, slot }
}

/// What is said of a copy.
pub const COPY_ONWARD: &str = "no: it is kept out of replication, as rows that are repaired are";

/// What is said of all other of these steps.
pub const ONWARD: &str = "no: it is made on this node alone, and engines do not pass it on";

fn conditions(topology: &Topology, conditions: &[SetupCondition]) -> Vec<ConditionDocument> {
    let document = |condition: &SetupCondition| ConditionDocument {
        node: topology.nodes[condition.node].name.clone(),
        subject: (&condition.subject).into(),
        is: condition.is.clone(),
    };
    conditions.iter().map(document).collect()
}

/// A step of a plan that is not about a row, and its number.
///
/// # Errors
/// The reason why it cannot be used: a node that there is not, a change that changes nothing or that its engine cannot
/// make, no guard, a guard or a proof that is not that of the change.
pub fn setup_step(
    topology: &Topology,
    document: StepDocument,
) -> Result<(u64, SetupStep), Unusable> {
    let read = SetupReader { topology };
    match document {
        StepDocument::Row(row) => Err(format!("step {} writes a row", row.step)),
        StepDocument::Setting(document) => read.change(document, SetupKind::Setting),
        StepDocument::Shape(document) => read.change(document, SetupKind::Shape),
        StepDocument::Link(document) => read.change(document, SetupKind::Link),
        StepDocument::ByHand(document) => {
            let (what, done) = (document.what, read.conditions(document.done)?);
            let (node, act) = (read.node(&document.node)?, SetupAct::ByHand { what, done });
            let step = SetupStep::of(node, document.purpose, act);
            Ok((document.step, SetupStep { depends_on: document.depends_on, ..step }))
        }
        StepDocument::Wait(document) => {
            let from = read.node(&document.from)?;
            let at_most = Duration::from_secs(document.at_most_seconds);
            let (node, act) = (read.node(&document.node)?, SetupAct::Wait { from, at_most });
            let step = SetupStep::of(node, document.purpose, act);
            Ok((document.step, SetupStep { depends_on: document.depends_on, ..step }))
        }
        StepDocument::Copy(document) => read.copy(document),
        StepDocument::Check(document) => {
            let same_as = document.same_as.map(|other| read.node(&other)).transpose()?;
            let act = SetupAct::Check { findings: document.findings, same_as };
            let step = SetupStep::of(read.node(&document.node)?, document.purpose, act);
            Ok((document.step, SetupStep { depends_on: document.depends_on, ..step }))
        }
    }
}

/// Why a step may not be made with this guard, though it is that of its change.
fn unguarded(topology: &Topology, step: &SetupStep) -> Option<String> {
    let SetupAct::Change(SetupChange { subject, .. }) = &step.act else { return None };
    if *subject == Subject::Standby {
        let tells = |one: &SetupCondition| match one.subject {
            Subject::CleanEnd { .. } => one.node == step.node && one.is.is_some(),
            Subject::Taken { .. } => one.node == step.node,
            _ => false,
        };
        return (!step.also.iter().any(tells))
            .then(|| "its guard does not say how far its log has to have come".to_owned());
    }
    let Subject::Link { link } = subject else { return None };
    let fetched = Subject::FetchedChanges { link: link.clone() };
    let is_kept = |one: &SetupCondition| {
        one.node != step.node || (one.subject == fetched && one.is.is_none())
    };
    let keeps = topology.nodes[step.node].at.engine() == Engine::MariaDb;
    (keeps && !step.also.iter().any(is_kept)).then(|| {
        format!(
            "its guard does not say that what link {link} has fetched is applied, or that its source is there"
        )
    })
}

struct SetupReader<'a> {
    topology: &'a Topology,
}

impl SetupReader<'_> {
    fn node(&self, name: &str) -> Result<NodeId, Unusable> {
        let node = self.topology.node(name);
        node.ok_or_else(|| format!("node {name} is not in the topology file"))
    }

    fn conditions(
        &self,
        documents: Vec<ConditionDocument>,
    ) -> Result<Vec<SetupCondition>, Unusable> {
        let condition = |document: ConditionDocument| {
            let node = self.node(&document.node)?;
            Ok(SetupCondition { node, subject: document.subject.into(), is: document.is })
        };
        documents.into_iter().map(condition).collect()
    }

    /// A link leads where the topology file says, and nowhere else: it is given a password of that file.
    fn is_of_the_file(&self, new: &NewLink) -> Result<(), Unusable> {
        let source = &self.topology.nodes[self.node(&new.from)?];
        let Some(LinkLogin { user, host, port, .. }) = new.login() else {
            return self.is_of_the_stand_in(new);
        };
        let database = match &source.at {
            Address::Server(server) => Some(&server.database),
            Address::Sqlite(_) => None,
        };
        let is_there = source.replication.as_ref().is_some_and(|account| {
            (&account.user, &account.host, account.port) == (user, host, *port)
        });
        let is_in_it = new.subscription().is_none_or(|of| Some(&of.database) == database);
        (is_there && is_in_it).then_some(()).ok_or_else(|| {
            format!("link {} does not lead where [node.{}.replication] says", new.link, new.from)
        })
    }

    fn is_of_the_stand_in(&self, new: &NewLink) -> Result<(), Unusable> {
        let LinkWay::StandIn { carries } = &new.way else { return Ok(()) };
        let known = |set: &&String| !self.topology.sets.iter().any(|known| known.name == **set);
        match carries.iter().find(known) {
            Some(set) => Err(format!("set {set} is not in the topology file")),
            None => Ok(()),
        }
    }

    fn copy(&self, document: CopyStepDocument) -> Result<(u64, SetupStep), Unusable> {
        let (node, from) = (self.node(&document.node)?, self.node(&document.from)?);
        if node == from {
            return Err("it copies a node to itself".to_owned());
        }
        let mut tables: Vec<CopiedTable> = Vec::new();
        for CopiedTableDocument { table, columns } in document.tables {
            let carried = self.topology.sets.iter().any(|set| set.tables.contains(&table));
            if !carried {
                return Err(format!("{table} is in no set"));
            }
            if columns.is_empty() || tables.iter().any(|known| known.table == table) {
                return Err(format!("{table} is copied twice, or nothing of it is"));
            }
            tables.push(CopiedTable { table, columns });
        }
        if tables.is_empty() {
            return Err("it copies no table".to_owned());
        }
        let link = |document: CopiedLinkDocument| -> Result<CopiedLink, Unusable> {
            let CopiedLinkDocument { link, from, is, slot } = document;
            if ![ON, OFF].contains(&&is[..]) {
                return Err(format!("link {link} is neither on nor off"));
            }
            let slot = slot.map(|CopiedSlotDocument { name, usable, through }| {
                let through =
                    through.map(|FollowsDocument { link, slot }| SourceFollows { link, slot });
                CopiedSlot { name, usable, through }
            });
            Ok(CopiedLink { link, from: self.node(&from)?, is, slot })
        };
        let links = document.links.into_iter().map(link).collect::<Result<Vec<_>, _>>()?;
        let new_writer = document.new_writer;
        let act = SetupAct::Copy(TableCopy { from, tables, links, new_writer });
        let step = SetupStep {
            loses: document.loses,
            depends_on: document.depends_on,
            ..SetupStep::of(node, document.purpose, act)
        };
        if self.conditions(document.guard)? != step.guard() {
            return Err("its guard is not that of its links".to_owned());
        }
        Ok((document.step, step))
    }

    fn change(
        &self,
        document: SetupStepDocument,
        kind: SetupKind,
    ) -> Result<(u64, SetupStep), Unusable> {
        let node = self.node(&document.node)?;
        let SetupStepDocument { before, after, pauses, .. } = document;
        let subject: Subject = document.subject.into();
        if subject.kind() != kind {
            return Err(format!("{subject} is no {}", kind.name()));
        }
        if matches!(subject, Subject::AppliedPosition { .. } | Subject::SlotPlace { .. }) {
            return Err(format!("{subject} is only set with a copy"));
        }
        if same_state(before.as_deref(), after.as_deref()) {
            return Err("it changes nothing".to_owned());
        }
        if let Subject::NewLink(new) = &subject {
            self.is_of_the_file(new)?;
        }
        let change = SetupChange { subject, before, after, pauses };
        spell::statements(self.topology.nodes[node].at.engine(), &change)?;
        let mut step = SetupStep {
            evidence: document.evidence.map(|evidence| (evidence.check, evidence.found)),
            loses: document.loses,
            depends_on: document.depends_on,
            for_good: document.for_good,
            ..SetupStep::of(node, document.purpose, SetupAct::Change(change))
        };
        // More may be asked for, and is looked at, too.
        let mut guard = self.conditions(document.guard)?;
        let own = step.guard();
        if guard.len() < own.len() || guard[..own.len()] != own[..] {
            return Err("its guard is not that of its change".to_owned());
        }
        step.also = guard.split_off(own.len());
        if let Some(why) = unguarded(self.topology, &step) {
            return Err(why);
        }
        if self.conditions(document.done)? != step.done() {
            return Err("what is read once it is done is not what it changes".to_owned());
        }
        Ok((document.step, step))
    }
}

#[cfg(test)]
mod tests {
    use keen_core::setup::NewSubscription;

    use super::*;

    fn topology() -> Topology {
        let text = "name = \"huts\"\n\
            [node.a]\nat = \"mariadb://keen@127.0.0.1/huts\"\nwrites = true\nreplication = { user = \"carrier\", at = \"h:7\" }\n\
            [node.b]\nat = \"postgres://keen@127.0.0.1/huts\"\nreplication = { user = \"carrier\", at = \"h:7\" }\n\
            [set.all]\ntables = [\"stay\"]\n[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"all\"]\n";
        let (topology, problems) = keen_core::topology::read(text);
        topology.unwrap_or_else(|| panic!("{problems:?}"))
    }

    fn step(node: NodeId, change: SetupChange) -> SetupStep {
        let subject = Subject::Setting { name: "server_id".to_owned() };
        let source = SetupCondition { node: 1 - node, subject, is: Some("1".to_owned()) };
        SetupStep {
            evidence: Some(("link-down".to_owned(), "it is off".to_owned())),
            loses: Some("a row".to_owned()),
            depends_on: vec![1],
            also: vec![source],
            ..SetupStep::of(node, "changes arrive", SetupAct::Change(change))
        }
    }

    fn setting(name: &str, before: &str, after: &str) -> SetupChange {
        let subject = Subject::Setting { name: name.to_owned() };
        SetupChange { before: Some(before.to_owned()), ..SetupChange::to(subject, after) }
    }

    fn away(subject: Subject, state: &str) -> SetupChange {
        SetupChange { before: Some(state.to_owned()), after: None, subject, pauses: Vec::new() }
    }

    fn link_of(origin: Option<&str>) -> NewLink {
        let subscription = origin.map(|origin| NewSubscription {
            database: "huts".to_owned(),
            publication: "p".to_owned(),
            slot: "s".to_owned(),
            origin: Some(origin.to_owned()),
        });
        let from = if origin.is_some() { "b" } else { "a" }.to_owned();
        let (link, host, user) = ("l \"1".to_owned(), "h".to_owned(), "carrier".to_owned());
        let login = LinkLogin { host, port: 7, user, tls: true };
        let way = match subscription {
            None => LinkWay::Connection(login),
            Some(of) => LinkWay::Subscription(login, of),
        };
        NewLink { link, from, way }
    }

    fn made(link: NewLink) -> SetupChange {
        let after = Some(link.state());
        SetupChange {
            before: None,
            after,
            subject: Subject::NewLink(Box::new(link)),
            pauses: Vec::new(),
        }
    }

    /// A link is given a password of the file: it must not lead elsewhere.
    #[test]
    fn a_link_that_was_edited_leads_nowhere_else() {
        let topology = topology();
        for (node, link) in [(0, link_of(None)), (1, link_of(Some("any")))] {
            let right = setup_document(&topology, 1, &step(node, made(link)));
            let json = serde_json::to_value(right).unwrap();
            assert!(json["statements"].to_string().contains("..."), "{json}");
            for (place, value) in
                [("host", "evil".into()), ("port", serde_json::json!(8)), ("user", "root".into())]
            {
                let mut json = json.clone();
                json["subject"][place] = value;
                let why = setup_step(&topology, serde_json::from_value(json).unwrap()).unwrap_err();
                assert!(why.contains("does not lead where [node."), "{place}: {why}");
            }
        }
    }

    /// A standby is not promoted without a word on what it has.
    #[test]
    fn a_standby_is_not_promoted_unguarded() {
        let topology = topology();
        let promoted = step(1, away(Subject::Standby, "yes"));
        let read = |step: &SetupStep| setup_step(&topology, setup_document(&topology, 1, step));
        let why = read(&promoted).unwrap_err();
        assert!(why.contains("how far its log has to have come"), "{why}");
        let end = || Subject::CleanEnd { beyond: "0/1".to_owned() };
        for (subject, is, node, stands) in [
            (end(), Some("yes"), 1, true),
            (end(), Some("yes"), 0, false),
            (end(), None, 1, false),
            (Subject::Taken { link: "l".to_owned() }, Some("0/1"), 1, true),
            (Subject::Answers, None, 0, false),
        ] {
            let also = vec![SetupCondition { node, subject, is: is.map(str::to_owned) }];
            let guarded = SetupStep { also, ..promoted.clone() };
            assert_eq!(read(&guarded).is_ok(), stands, "{guarded:?}");
        }
        // It is no standby of an engine that has none.
        let elsewhere = step(0, away(Subject::Standby, "yes"));
        assert!(read(&elsewhere).is_err());
    }

    /// What is taken away goes under a condition, and is not put back by a plan.
    #[test]
    fn what_is_taken_away_is_not_taken_away_otherwise() {
        let topology = topology();
        let link = || Subject::Link { link: "l".to_owned() };
        let refused = |step: SetupStep| {
            setup_step(&topology, setup_document(&topology, 1, &step)).unwrap_err()
        };
        // What it has fetched goes with it: that is either applied, or its source has it.
        let bare = SetupStep { also: Vec::new(), ..step(0, away(link(), "from h:1")) };
        let why = refused(bare.clone());
        assert!(why.contains("its guard does not say that what link l has fetched"), "{why}");
        let elsewhere = SetupCondition {
            node: 0,
            subject: Subject::Setting { name: "server_id".to_owned() },
            is: Some("1".to_owned()),
        };
        let why = refused(SetupStep { also: vec![elsewhere], ..bare.clone() });
        assert!(why.contains("its guard does not say that what link l has fetched"), "{why}");
        let fetched = Subject::FetchedChanges { link: "l".to_owned() };
        for (is, stands) in [(Some("yes".to_owned()), false), (None, true)] {
            let applied = SetupCondition { node: 0, subject: fetched.clone(), is };
            let step = SetupStep { also: vec![applied], ..bare.clone() };
            let read = setup_step(&topology, setup_document(&topology, 1, &step));
            assert_eq!(read.is_ok(), stands, "{read:?}");
        }
        let slot = || Subject::Slot { slot: "s".to_owned() };
        let table = || Subject::ServiceTable { table: vec!["t".to_owned()] };
        for (node, change) in [
            (1, away(slot(), "read")),
            (1, away(slot(), "idle at 0/1").reversed()),
            (0, away(table(), "filled")),
            (0, away(table(), "empty").reversed()),
            (0, away(link(), "from h:1").reversed()),
            (1, away(link(), "slot s of p").reversed()),
            (1, SetupChange { after: Some("x".to_owned()), ..away(link(), "slot s of p") }),
        ] {
            let why = refused(step(node, change.clone()));
            assert!(why.contains("cannot be changed on"), "{change:?}: {why}");
        }
    }

    fn subjects() -> Vec<(NodeId, SetupChange)> {
        let (link, table) = ("l \"1".to_owned(), vec!["s".to_owned(), "stay".to_owned()]);
        let publication = "p".to_owned();
        let place = Subject::AppliedOfDomain { domain: 1, stops: vec![link.clone()] };
        let place =
            SetupChange { before: Some("1-1-6".to_owned()), ..SetupChange::to(place, "1-2-7") };
        let commit = "0/1A2B".to_owned();
        let commit = Subject::PassedCommit { link: link.clone(), commit, enable: true };
        let mut paused = setting("gtid_ignore_duplicates", "OFF", "ON");
        paused.pauses = vec![link.clone()];
        let on = |subject| SetupChange {
            before: Some("off".to_owned()),
            ..SetupChange::to(subject, ON)
        };
        vec![
            (0, paused),
            (0, place),
            (1, SetupChange::to(commit, "yes")),
            (0, on(Subject::LinkSwitch { link: link.clone() })),
            (0, SetupChange::to(Subject::LinkDelay { link: link.clone() }, "60")),
            (
                1,
                SetupChange::to(
                    Subject::KeptSetting { name: "wal_level".to_owned(), reload: false },
                    "logical",
                ),
            ),
            (
                1,
                SetupChange::to(
                    Subject::DatabaseSetting { database: "h".to_owned(), name: "a.b".to_owned() },
                    "on",
                )
                .reversed(),
            ),
            (1, on(Subject::LinkSwitch { link: link.clone() })),
            (1, SetupChange::to(Subject::LinkOrigin { link: link.clone() }, "none")),
            (
                1,
                SetupChange::to(
                    Subject::PublishedTable {
                        publication: publication.clone(),
                        table: table.clone(),
                    },
                    "yes",
                ),
            ),
            (1, SetupChange::to(Subject::PublishedKinds { publication }, "insert, update")),
            (
                1,
                SetupChange::to(
                    Subject::SubscribedTable { link, table: table.clone(), copy: true },
                    "yes",
                ),
            ),
            (
                0,
                SetupChange::to(
                    Subject::Column {
                        table: table.clone(),
                        column: "phone".to_owned(),
                        after: Some("x".to_owned()),
                    },
                    "varchar(20), null",
                ),
            ),
            (
                1,
                SetupChange::to(
                    Subject::Column {
                        table: table.clone(),
                        column: "phone".to_owned(),
                        after: None,
                    },
                    "text, not null, default ''::text",
                ),
            ),
            (1, SetupChange::to(Subject::RowNames { table: table.clone() }, "index by name")),
            (
                0,
                SetupChange {
                    before: Some("id, dogs, `warden's note`".to_owned()),
                    ..SetupChange::to(
                        Subject::ColumnOrder {
                            table: table.clone(),
                            moved: [("warden's note".to_owned(), "text, null".to_owned())].into(),
                        },
                        "id, `warden's note`, dogs",
                    )
                },
            ),
            (0, away(Subject::Link { link: "l \"1".to_owned() }, "from h:3306")),
            (1, away(Subject::Link { link: "l \"1".to_owned() }, "slot s of p")),
            (1, away(Subject::Slot { slot: "s".to_owned() }, "idle at 0/1")),
            (1, away(Subject::Publication { publication: "p".to_owned() }, "s.stay; insert")),
            (1, away(Subject::Origin { origin: "o".to_owned() }, "yes")),
            (0, made(link_of(None))),
            (1, made(link_of(Some("none")))),
            (0, away(Subject::ServiceTable { table }, "empty")),
        ]
    }

    #[test]
    fn a_step_comes_back_from_its_document_as_it_was() {
        let topology = topology();
        for (node, change) in subjects() {
            for change in [change.clone(), change.reversed()] {
                // What has no way back is none of a plan.
                if spell::statements(topology.nodes[node].at.engine(), &change).is_err() {
                    continue;
                }
                let step = step(node, change);
                let json = serde_json::to_string(&setup_document(&topology, 7, &step)).unwrap();
                let read = setup_step(&topology, serde_json::from_str(&json).unwrap());
                assert_eq!(read, Ok((7, step)), "{json}");
            }
        }
    }

    fn copy() -> SetupStep {
        let slot = CopiedSlot {
            name: "b".to_owned(),
            usable: false,
            through: Some(SourceFollows { link: "x".to_owned(), slot: "y".to_owned() }),
        };
        let link =
            CopiedLink { link: "from_a".to_owned(), from: 0, is: ON.to_owned(), slot: Some(slot) };
        let table = CopiedTable { table: "stay".to_owned(), columns: vec!["id".to_owned()] };
        let act = TableCopy { from: 0, tables: vec![table], links: vec![link], new_writer: true };
        let act = SetupAct::Copy(act);
        SetupStep { act, evidence: None, also: Vec::new(), ..step(1, setting("x", "1", "2")) }
    }

    #[test]
    fn a_copy_comes_back_from_its_document_as_it_was() {
        let topology = topology();
        let check = SetupAct::Check { findings: Vec::new(), same_as: Some(0) };
        let check = SetupStep { act: check, evidence: None, loses: None, ..copy() };
        for step in [copy(), check] {
            let json = serde_json::to_string(&setup_document(&topology, 7, &step)).unwrap();
            let read = setup_step(&topology, serde_json::from_str(&json).unwrap());
            assert_eq!(read, Ok((7, step)), "{json}");
        }
    }

    #[test]
    fn a_copy_that_was_edited_wrongly_is_refused() {
        let topology = topology();
        let right = serde_json::to_value(setup_document(&topology, 1, &copy())).unwrap();
        let edits: [(&str, &str, serde_json::Value); 9] = [
            ("/from", "it copies a node to itself", "b".into()),
            ("/from", "node c is not in the topology file", "c".into()),
            ("/tables", "it copies no table", serde_json::json!([])),
            ("/tables/0/table", "hut is in no set", "hut".into()),
            ("/tables/0/columns", "copied twice, or nothing of it is", serde_json::json!([])),
            ("/guard", "its guard is not that of its links", serde_json::json!([])),
            ("/links/0/is", "its guard is not that of its links", "off".into()),
            ("/links/0/is", "link from_a is neither on nor off", "x".into()),
            ("/links/0/from", "node c is not in the topology file", "c".into()),
        ];
        for (place, said, value) in edits {
            let mut json = right.clone();
            *json.pointer_mut(place).unwrap() = value;
            let why = setup_step(&topology, serde_json::from_value(json).unwrap()).unwrap_err();
            assert!(why.contains(said), "{place}: {why}");
        }
        // Where links go on is set with a copy, and never by itself.
        let places = [
            (0, Subject::AppliedPosition { links: Vec::new() }, "0-1-5"),
            (1, Subject::SlotPlace { slot: "b".to_owned() }, "0/16B3748"),
        ];
        for (node, subject, place) in places {
            let document =
                setup_document(&topology, 1, &step(node, SetupChange::to(subject, place)));
            let why = setup_step(&topology, document).unwrap_err();
            assert!(why.contains("is only set with a copy"), "{why}");
        }
    }

    #[test]
    fn a_place_that_is_none_is_not_spelled() {
        let place = |after: &str| {
            let subject = Subject::AppliedOfDomain { domain: 1, stops: Vec::new() };
            let change = SetupChange::to(subject, after);
            let change = SetupChange { before: Some("1-1-6".to_owned()), ..change };
            spell::statements(keen_core::topology::Engine::MariaDb, &change)
        };
        assert!(place("1-2-7").is_ok());
        for wrong in ["2-2-7", "1-2", "1-2-7'", "1-2-7,2-1-1", ""] {
            assert!(place(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn a_step_that_was_edited_wrongly_is_refused() {
        let topology = topology();
        let step = step(0, setting("binlog_format", "MIXED", "ROW"));
        let right = serde_json::to_value(setup_document(&topology, 1, &step)).unwrap();
        let wrong = |edit: &dyn Fn(&mut serde_json::Value)| {
            let mut json = right.clone();
            edit(&mut json);
            match serde_json::from_value(json) {
                Ok(document) => setup_step(&topology, document).unwrap_err(),
                Err(error) => error.to_string(),
            }
        };
        for (edit, said) in [
            (
                &(|j: &mut serde_json::Value| j["guard"] = serde_json::json!([]))
                    as &dyn Fn(&mut serde_json::Value),
                "its guard is not that",
            ),
            (&|j| j["guard"][0]["is"] = "ROW".into(), "its guard is not that"),
            (&|j| j["done"][0]["is"] = "MIXED".into(), "what is read once it is done"),
            (&|j| j["node"] = "c".into(), "node c is not in the topology file"),
            (&|j| j["guard"][0]["node"] = "c".into(), "node c is not in the topology file"),
            (&|j| j["act"] = "shape".into(), "binlog_format is no shape"),
            (&|j| j["node"] = "b".into(), "cannot be changed on postgresql"),
            (&|j| j["subject"]["name"] = "x = 1; DROP".into(), "cannot be changed on mariadb"),
            (&|j| j["subject"]["of"] = "weather".into(), "unknown variant `weather`"),
            (&|j| j["after"] = "mixed".into(), "it changes nothing"),
            (
                &|j| {
                    j.as_object_mut().unwrap().remove("guard");
                },
                "missing field `guard`",
            ),
        ] {
            let why = wrong(edit);
            assert!(why.contains(said), "{said}: {why}");
        }
    }
}
