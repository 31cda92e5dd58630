//! From what a preflight found to steps that mend it: settings, tables, links.
//!
//! Every change that a finding wants becomes a step, in the order of mending: settings, then tables, then links. What
//! only a person can do (a configuration file, a restart) comes together in one step for each node, with what the
//! server will read when it is done. The last step is the proof: the same look, without those findings.

use std::collections::BTreeMap;
use std::time::Duration;

use super::copy::{CopiedLink, TableCopy};
use crate::fault::ReadFault;
use crate::preflight::legend::Area;
use crate::preflight::{Finding, Report, Severity, WantedChange};
use crate::setup::column::ColumnDefinition;
use crate::setup::{
    OFF, ON, Reach, SetupChange, SetupCondition, SetupKind, Subject, YES, same_state, told, undone,
};
use crate::topology::node_set::NodeSet;
use crate::topology::{NodeId, Topology};

/// A step of a plan that is not about a row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SetupStep {
    /// Where.
    pub node: NodeId,
    /// Its purpose, in a sentence.
    pub purpose: String,
    /// The check that found it, and what it found.
    pub evidence: Option<(String, String)>,
    /// The loss; none if nothing is lost.
    pub loses: Option<String>,
    /// The steps that have to be done before it.
    pub depends_on: Vec<u64>,
    /// What also has to be read before it is made, on this node or another; only of a change.
    pub also: Vec<SetupCondition>,
    /// It has no way back, because something that has none rests on it; only of a change.
    pub for_good: bool,
    /// The act.
    pub act: SetupAct,
}

/// What a step does that is not about a row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SetupAct {
    /// A value of the set-up is changed.
    Change(SetupChange),
    /// A person does something.
    ByHand {
        /// The task, in a sentence.
        what: String,
        /// The values that the node reads once it is done; empty if no connection can tell.
        done: Vec<SetupCondition>,
    },
    /// What the source of a link had written is waited for.
    Wait {
        /// The source.
        from: NodeId,
        /// No longer than this.
        at_most: Duration,
    },
    /// Tables are copied from another node.
    Copy(TableCopy),
    /// The proof: what the plan mends is looked at once more.
    Check {
        /// The checks of the preflight that have to find nothing.
        findings: Vec<String>,
        /// The node whose tables those of this one have to equal.
        same_as: Option<NodeId>,
    },
}

impl SetupStep {
    /// A step that rests on no finding, loses nothing and waits for none.
    #[must_use]
    pub fn of(node: NodeId, purpose: impl Into<String>, act: SetupAct) -> Self {
        Self {
            node,
            purpose: purpose.into(),
            evidence: None,
            loses: None,
            depends_on: Vec::new(),
            also: Vec::new(),
            for_good: false,
            act,
        }
    }

    /// What has to be read before it is made.
    #[must_use]
    pub fn guard(&self) -> Vec<SetupCondition> {
        let node = self.node;
        let change = match &self.act {
            SetupAct::Change(change) => change,
            SetupAct::Copy(copy) => {
                let switch = |link: &CopiedLink| {
                    let subject = Subject::LinkSwitch { link: link.link.clone() };
                    SetupCondition { node, subject, is: Some(link.is.clone()) }
                };
                return copy.links.iter().map(switch).collect();
            }
            _ => return Vec::new(),
        };
        let mut guard = vec![SetupCondition {
            node,
            subject: change.subject.clone(),
            is: change.before.clone(),
        }];
        guard.extend(pauses(node, change));
        match &change.subject {
            // A table whose rows nothing names takes no update any more once it is published.
            Subject::PublishedTable { table, .. } if change.after.is_some() => {
                let subject = Subject::NamedRows { table: table.clone() };
                guard.push(SetupCondition { node, subject, is: Some(YES.to_owned()) });
            }
            // What somebody wrote into it would be lost.
            Subject::Column { table, column, .. } if change.after.is_none() => {
                let (table, column) = (table.clone(), column.clone());
                let subject = Subject::FilledColumn { table, column };
                guard.push(SetupCondition { node, subject, is: None });
            }
            // A copy fails on rows that are there, or doubles them.
            Subject::SubscribedTable { table, copy: true, .. } if change.after.is_some() => {
                let subject = Subject::TableRows { table: table.clone() };
                guard.push(SetupCondition { node, subject, is: None });
            }
            _ => {}
        }
        guard.extend(self.also.iter().cloned());
        guard
    }

    /// What reads otherwise once it is done; empty if no connection can tell.
    #[must_use]
    pub fn done(&self) -> Vec<SetupCondition> {
        match &self.act {
            SetupAct::Change(change) => {
                let mut done = vec![condition(self.node, change.subject.clone(), change)];
                done.extend(pauses(self.node, change));
                done
            }
            SetupAct::ByHand { done, .. } => done.clone(),
            SetupAct::Copy(_) | SetupAct::Wait { .. } | SetupAct::Check { .. } => Vec::new(),
        }
    }

    /// The way back; none of what a machine did not do.
    #[must_use]
    pub fn reversed(&self) -> Option<Self> {
        let SetupAct::Change(change) = &self.act else { return None };
        if self.for_good {
            return None;
        }
        match (&change.subject, &change.before) {
            // Nobody wants a link to stop again.
            (Subject::LinkSwitch { .. }, Some(before)) if ![ON, OFF].contains(&&before[..]) => {
                return None;
            }
            // Nothing brings again what was passed over, or taken away.
            (
                Subject::PassedCommit { .. }
                | Subject::AppliedOfDomain { .. }
                | Subject::Link { .. }
                | Subject::NewLink(_)
                | Subject::Slot { .. }
                | Subject::OwnPosition { .. }
                | Subject::Counter { .. }
                | Subject::ServiceTable { .. },
                _,
            )
            | (Subject::Publication { .. }, Some(_)) => return None,
            _ => {}
        }
        let act = SetupAct::Change(change.reversed());
        let purpose = "it was changed by keen mend".to_owned();
        // A lead that was closed is opened again only while it still leads.
        let also = match change.subject.kind() {
            SetupKind::Setting => self.also.clone(),
            _ => Vec::new(),
        };
        Some(Self { act, purpose, depends_on: Vec::new(), also, ..self.clone() })
    }
}

/// The way back of a step in a few words, and under which condition; or why there is none.
#[must_use]
pub fn way_back(step: &SetupStep) -> String {
    match (&step.act, step.reversed()) {
        (SetupAct::Change(change), Some(_)) => {
            format!("{}, if it still reads as this step left it", undone(change))
        }
        (SetupAct::Change(change), None) => match change.subject {
            Subject::LinkSwitch { .. } if !step.for_good => {
                "none: the link would stop again".to_owned()
            }
            Subject::Link { .. } => {
                "none: it would have to be set up anew, from a copy of the tables".to_owned()
            }
            Subject::NewLink(_) => "none: keen plan --take-apart takes it apart again".to_owned(),
            Subject::LinkSwitch { .. } if step.for_good => {
                "none: keen plan --take-apart takes the link apart again".to_owned()
            }
            Subject::Setting { .. } | Subject::DatabaseSetting { .. } => {
                "none: applications write there; keen plan --promote hands the lead back".to_owned()
            }
            Subject::LinkOrigin { .. } => {
                "none: with any, writes would go round and round".to_owned()
            }
            Subject::Standby => {
                "none: a server that was promoted becomes a standby again only by hand".to_owned()
            }
            Subject::OwnPosition { .. } => "none: it has no effect but on its links".to_owned(),
            Subject::Counter { .. } => "none: numbers that are left out hurt nobody".to_owned(),
            Subject::Slot { .. } if change.after.is_some() => {
                "none: it goes when keen plan --take-apart takes its link apart".to_owned()
            }
            _ if step.for_good => {
                "none: the link rests on it; keen plan --take-apart --remove publication takes both away"
                    .to_owned()
            }
            Subject::Slot { .. } => "none: the log that it kept is given up".to_owned(),
            Subject::Publication { .. } => "none: it would have to be made anew".to_owned(),
            Subject::ServiceTable { .. } => "none: keen makes it anew when it needs it".to_owned(),
            _ => "none: nothing brings the transaction again".to_owned(),
        },
        (SetupAct::Copy(_), _) => {
            "none; what only the receiver held is kept, and can be put back row by row".to_owned()
        }
        _ => "none: it changes nothing by itself".to_owned(),
    }
}

/// The steps that mend findings.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct SetupPlan {
    /// In order.
    pub steps: Vec<SetupStep>,
    /// Notes to know before it is carried out.
    pub notes: Vec<String>,
    /// A person has to decide about something that was found, and that is no mere note.
    pub undecided: bool,
    /// Something that was asked for could not be read.
    pub incomplete: bool,
}

/// A choice of what is planned.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct SetupChoice {
    /// These kinds of steps.
    pub kinds: Vec<SetupKind>,
    /// Only what these checks found; all if none.
    pub checks: Vec<String>,
    /// Only on these nodes.
    pub nodes: NodeSet,
}

impl SetupChoice {
    fn has(&self, finding: &Finding) -> bool {
        self.checks.is_empty() || self.checks.iter().any(|name| name == finding.check.name)
    }

    /// A finding whose mending would be of a kind that is asked for.
    fn is_of(&self, finding: &Finding) -> bool {
        let kind = match finding.check.area {
            Area::Shape => SetupKind::Shape,
            Area::Links | Area::Reach => SetupKind::Link,
            Area::Rights | Area::Identity | Area::Settings | Area::Clocks => SetupKind::Setting,
        };
        self.kinds.contains(&kind)
    }
}

/// How long is waited for what arrives over a link that was switched on.
pub(super) const ARRIVES_WITHIN: Duration = Duration::from_secs(60);

/// Reads the state of a value on a node.
pub type ReadState<'a> = dyn FnMut(NodeId, &Subject) -> Result<Option<String>, ReadFault> + 'a;

/// Makes the steps. Numbers start after `before`, the steps that the plan has already.
pub fn from_findings(
    topology: &Topology,
    report: &Report,
    choice: &SetupChoice,
    before: u64,
    read: &mut ReadState<'_>,
) -> SetupPlan {
    let mut making = Making {
        topology,
        choice,
        before,
        plan: SetupPlan::default(),
        by_hand: BTreeMap::new(),
        sources: BTreeMap::new(),
    };
    let findings: Vec<&Finding> = report.findings.iter().filter(|f| choice.has(f)).collect();
    let mut wanted: Vec<(&Finding, &WantedChange)> =
        findings.iter().flat_map(|f| f.wants.iter().map(move |wanted| (*f, wanted))).collect();
    // Stable: what is found first is mended first.
    wanted.sort_by_key(|(_, wanted)| (wanted.change.subject.kind(), wanted.change.subject.rank()));
    let mut mended: Vec<String> = Vec::new();
    for (finding, wanted) in wanted {
        let name = finding.check.name;
        if making.wanted(finding, wanted, read) && !mended.iter().any(|known| known == name) {
            mended.push(name.to_owned());
        }
    }
    let mut undecided: Vec<&str> = Vec::new();
    for finding in findings {
        let name = finding.check.name;
        if finding.wants.is_empty() && choice.is_of(finding) && !undecided.contains(&name) {
            undecided.push(name);
            making.plan.undecided |= finding.level != Severity::Note;
        }
    }
    making.arrivals();
    making.hands();
    if !mended.is_empty()
        && let Some(node) = making.plan.steps.first().map(|step| step.node)
    {
        let act = SetupAct::Check { findings: mended, same_as: None };
        making.plan.steps.push(SetupStep::of(node, "what was found is gone", act));
    }
    if !undecided.is_empty() {
        making.plan.notes.push(format!(
            "found, and not in this plan, because a person has to decide: {} (keen preflight says more)",
            undecided.join(", ")
        ));
    }
    making.plan
}

/// What a person has to do on a node.
#[derive(Debug, Default)]
struct NodeHands {
    /// Settings for the configuration file that hold already.
    keep: Vec<String>,
    /// Settings for the configuration file that hold from the restart on.
    write: Vec<String>,
    /// The values that are read after the restart.
    done: Vec<SetupCondition>,
    /// The steps that have to be done before the restart.
    after: Vec<u64>,
}

struct Making<'a> {
    topology: &'a Topology,
    choice: &'a SetupChoice,
    before: u64,
    plan: SetupPlan,
    by_hand: BTreeMap<NodeId, NodeHands>,
    /// Where links that are switched on come from.
    sources: BTreeMap<(NodeId, String), NodeId>,
}

impl Making<'_> {
    /// Plans a change. False if it is not asked for, or could not be planned.
    fn wanted(
        &mut self,
        finding: &Finding,
        WantedChange { node, change, reach }: &WantedChange,
        read: &mut ReadState<'_>,
    ) -> bool {
        let kind = change.subject.kind();
        if !self.choice.kinds.contains(&kind) || !self.choice.nodes.contains(*node) {
            return false;
        }
        if *reach == Reach::ByHand {
            let hands = self.by_hand.entry(*node).or_default();
            hands.write.push(line(change));
            hands.done.push(condition(*node, change.subject.clone(), change));
            return true;
        }
        if let Some(number) = self.number_of(*node, &change.subject) {
            let at = number.saturating_sub(self.before + 1) as usize;
            if let Some(SetupAct::Change(planned)) =
                self.plan.steps.get_mut(at).map(|step| &mut step.act)
                && let Some(both) = redeclared(change, planned.after.as_deref())
            {
                planned.after = Some(both);
            }
            return true; // a second finding wants the same, or says so in the next plan
        }
        let state = match read(*node, &change.subject) {
            Ok(state) => state,
            Err(fault) => {
                self.plan.incomplete = true;
                self.plan.notes.push(format!(
                    "{} on {} is not in this plan: {fault}",
                    finding.check.name, self.topology.nodes[*node].name
                ));
                return false;
            }
        };
        if let Subject::LinkSwitch { link } = &change.subject
            && let [(from, to)] = &finding.links[..]
            && to == node
        {
            self.sources.insert((*node, link.clone()), *from);
        }
        let number = self.before + self.plan.steps.len() as u64 + 1;
        let mut change = change.clone();
        if let Some(after) = redeclared(&change, state.as_deref()) {
            change.after = Some(after);
        }
        let there = same_state(state.as_deref(), change.after.as_deref());
        if !there {
            let act = SetupAct::Change(SetupChange { before: state, ..change.clone() });
            self.plan.steps.push(SetupStep {
                evidence: Some((finding.check.name.to_owned(), finding.found.clone())),
                depends_on: self.needs(finding, &change),
                ..SetupStep::of(*node, finding.check.why, act)
            });
        }
        // What holds only from then on: what came before is for another command.
        let later = matches!(
            change.subject,
            Subject::SubscribedTable { .. }
                | Subject::PublishedKinds { .. }
                | Subject::LinkOrigin { .. }
                | Subject::ColumnOrder { .. }
        );
        let advice = finding.todo.iter().filter(|todo| later && !there && todo.nodes.is_empty());
        for todo in advice.filter(|todo| !todo.is_statement) {
            if !self.plan.notes.contains(&todo.what) {
                self.plan.notes.push(todo.what.clone());
            }
        }
        let hands = self.by_hand.entry(*node).or_default();
        match reach {
            Reach::UntilRestart => hands.keep.push(line(&change)),
            Reach::AfterRestart => {
                if let Subject::KeptSetting { name, .. } = &change.subject {
                    let subject = Subject::Setting { name: name.clone() };
                    hands.done.push(condition(*node, subject, &change));
                }
                hands.after.extend((!there).then_some(number));
            }
            Reach::Kept | Reach::ByHand => {}
        }
        true
    }

    /// The step that changes a value.
    fn number_of(&self, node: NodeId, subject: &Subject) -> Option<u64> {
        let changes = |step: &SetupStep| {
            step.node == node && matches!(&step.act, SetupAct::Change(c) if c.subject == *subject)
        };
        let at = self.plan.steps.iter().position(changes)?;
        Some(self.before + at as u64 + 1)
    }

    /// A table is taken up once it is published: what publishes it, of the same finding.
    fn needs(&self, finding: &Finding, change: &SetupChange) -> Vec<u64> {
        if !matches!(change.subject, Subject::SubscribedTable { .. }) {
            return Vec::new();
        }
        let publishes = finding
            .wants
            .iter()
            .filter(|wanted| matches!(wanted.change.subject, Subject::PublishedTable { .. }));
        publishes.filter_map(|wanted| self.number_of(wanted.node, &wanted.change.subject)).collect()
    }

    /// Whoever switches a link on wants to know that something arrives.
    fn arrivals(&mut self) {
        let steps = self.plan.steps.iter().zip(self.before + 1..);
        let switches = steps.filter_map(|(step, number)| {
            let SetupAct::Change(change) = &step.act else { return None };
            let Subject::LinkSwitch { link } = &change.subject else { return None };
            let from = self.sources.get(&(step.node, link.clone()))?;
            Some((step.node, *from, number))
        });
        for (node, from, number) in switches.collect::<Vec<_>>() {
            let act = SetupAct::Wait { from, at_most: ARRIVES_WITHIN };
            self.plan.steps.push(SetupStep {
                depends_on: vec![number],
                ..SetupStep::of(node, "what waited for the link has arrived", act)
            });
        }
    }

    /// One step for each thing that a person has to do on a node.
    fn hands(&mut self) {
        for (node, hands) in std::mem::take(&mut self.by_hand) {
            let name = &self.topology.nodes[node].name;
            let mut step = |what: String, purpose: &str, done, depends_on| {
                let act = SetupAct::ByHand { what, done };
                self.plan.steps.push(SetupStep { depends_on, ..SetupStep::of(node, purpose, act) });
            };
            if !hands.done.is_empty() {
                let what = match hands.write.is_empty() {
                    true => format!("restart {name}"),
                    false => format!(
                        "under [mariadbd] in the configuration file of {name}: {}; then restart it",
                        hands.write.join(", ")
                    ),
                };
                step(what, "these settings hold from a restart on", hands.done, hands.after);
            }
            if !hands.keep.is_empty() {
                let what = format!(
                    "under [mariadbd] in the configuration file of {name}: {}",
                    hands.keep.join(", ")
                );
                step(what, "the server forgets them at its next restart", Vec::new(), Vec::new());
            }
        }
    }
}

/// A column that is declared otherwise, with what a change changes of it and nothing else; none of any other change.
fn redeclared(change: &SetupChange, from: Option<&str>) -> Option<String> {
    let Subject::Column { .. } = change.subject else { return None };
    let parsed = |state: Option<&str>| state.and_then(ColumnDefinition::parse);
    let before = parsed(change.before.as_deref())?;
    let after = parsed(change.after.as_deref())?;
    Some(parsed(from)?.changed_like(&before, &after).to_string())
}

/// The links that are switched off for a change are on before it and after it.
fn pauses(node: NodeId, change: &SetupChange) -> impl Iterator<Item = SetupCondition> + '_ {
    change.pauses.iter().map(move |link| SetupCondition {
        node,
        subject: Subject::LinkSwitch { link: link.clone() },
        is: Some(ON.to_owned()),
    })
}

fn condition(node: NodeId, subject: Subject, change: &SetupChange) -> SetupCondition {
    SetupCondition { node, subject, is: change.after.clone() }
}

/// A setting as it stands in a configuration file.
fn line(change: &SetupChange) -> String {
    format!("{} = {}", change.subject, told(change.after.as_deref()))
}
