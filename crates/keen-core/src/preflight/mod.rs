//! Is this topology fit to replicate: facts that nodes told, held against the file and each other.
//!
//! [`look`] holds the facts, [`legend`] names and explains every check, and
//! [`examine`] judges. It is pure: the same looks give the same report. What a
//! node would not show becomes [`Unseen`], never a silent pass.

mod clocks;
mod counters;
mod identity;
pub mod legend;
pub(crate) mod links;
mod reach;
mod rights;
pub mod settings;
mod shape;

use crate::fault::ReadFault;
use std::collections::BTreeMap;

use crate::observe::node::{NodeFacts, NodeInspection, Observed, TableLook};
use crate::setup::spell::printed;
use crate::setup::{FULL, Reach, SetupChange, Subject, told};
use crate::topology::{Engine, NodeId, Topology};
use legend::{Area, Check};

/// How bad it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// Replication does not work, or will break or lose data.
    Stop,
    /// It works, and will hurt one day.
    Warn,
    /// Good to know.
    Note,
}

impl Severity {
    /// Its name in results.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Stop => "stop",
            Self::Warn => "warn",
            Self::Note => "note",
        }
    }
}

/// Something that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding {
    /// Which check found it.
    pub check: &'static Check,
    /// How bad it is here.
    pub level: Severity,
    /// The nodes it is about.
    pub nodes: Vec<NodeId>,
    /// The links that it breaks, as (from, to).
    pub links: Vec<(NodeId, NodeId)>,
    /// The table it is about, as the sets name it.
    pub table: Option<String>,
    /// The finding in a sentence.
    pub found: String,
    /// The value that is needed instead, where there is one.
    pub needed: Option<String>,
    /// The effect that it will have here, where that depends.
    pub effect: Option<String>,
    /// The tasks: a node and a statement or a sentence.
    pub todo: Vec<Todo>,
    /// The changes of the set-up that would mend it.
    pub wants: Vec<WantedChange>,
}

/// A change of a node's set-up that would mend a finding.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WantedChange {
    /// Where.
    pub node: NodeId,
    /// The change; what the value is before is still to be read.
    pub change: SetupChange,
    /// How far it reaches.
    pub reach: Reach,
}

/// What a person has to add to a setting that the server does not keep.
const KEEP_IT: &str = "and the same in its configuration file, or it is lost at the next restart";

/// Something to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Todo {
    /// Where; empty if it is not done on a node.
    pub nodes: Vec<NodeId>,
    /// A statement or a command, or else a sentence.
    pub what: String,
    /// It can be run as it stands.
    pub is_statement: bool,
}

impl Finding {
    pub(crate) fn new(
        check: &'static Check,
        level: Severity,
        nodes: impl Into<Vec<NodeId>>,
        found: impl Into<String>,
    ) -> Self {
        Self {
            check,
            level,
            nodes: nodes.into(),
            links: Vec::new(),
            table: None,
            found: found.into(),
            needed: None,
            effect: None,
            todo: Vec::new(),
            wants: Vec::new(),
        }
    }

    pub(crate) fn needs(mut self, needed: impl Into<String>) -> Self {
        self.needed = Some(needed.into());
        self
    }

    pub(crate) fn will(mut self, effect: impl Into<String>) -> Self {
        self.effect = Some(effect.into());
        self
    }

    pub(crate) fn run(mut self, node: NodeId, statement: impl Into<String>) -> Self {
        self.todo.push(Todo { nodes: vec![node], what: statement.into(), is_statement: true });
        self
    }

    /// A change that mends it: its statements, and what a person has to add.
    pub(crate) fn want(
        mut self,
        node: NodeId,
        engine: Engine,
        reach: Reach,
        change: SetupChange,
    ) -> Self {
        let advice = match reach {
            Reach::Kept => None,
            Reach::UntilRestart => Some(KEEP_IT.to_owned()),
            Reach::AfterRestart => Some("then restart it".to_owned()),
            Reach::ByHand => Some(format!(
                "set {} = {} under [mariadbd] in its configuration file, and restart it",
                change.subject,
                told(change.after.as_deref())
            )),
        };
        // Several changes have one advice, after all of them.
        let known = |todo: &Todo| todo.nodes == [node] && Some(&todo.what) == advice.as_ref();
        let advised = self.todo.iter().position(known).map(|at| self.todo.remove(at));
        if reach != Reach::ByHand {
            for statement in printed(engine, &change).unwrap_or_default() {
                self = self.run(node, statement);
            }
        }
        match (advised, advice) {
            (Some(todo), _) => self.todo.push(todo),
            (None, Some(advice)) => self = self.advise(Some(node), advice),
            (None, None) => {}
        }
        self.wants.push(WantedChange { node, change, reach });
        self
    }

    /// A change that mends it, besides statements that are told otherwise.
    pub(crate) fn want_quietly(mut self, node: NodeId, change: SetupChange) -> Self {
        self.wants.push(WantedChange { node, change, reach: Reach::Kept });
        self
    }

    pub(crate) fn advise(mut self, node: Option<NodeId>, sentence: impl Into<String>) -> Self {
        let nodes = node.into_iter().collect();
        self.todo.push(Todo { nodes, what: sentence.into(), is_statement: false });
        self
    }

    pub(crate) fn of_table(mut self, table: &str) -> Self {
        self.table = Some(table.to_owned());
        self
    }

    pub(crate) fn on_links(mut self, links: Vec<(NodeId, NodeId)>) -> Self {
        self.links = links;
        self
    }
}

/// Has rows of a PostgreSQL table named whole to subscribers.
pub(crate) fn names_rows_whole(finding: Finding, node: NodeId, look: &TableLook) -> Finding {
    let table = look.shape.qualified.clone();
    if look.partitioned {
        let quoted = table.iter().map(|part| Engine::Postgres.dialect().quoted(part));
        let name = quoted.collect::<Vec<_>>().join(".");
        return finding.run(node, TableLook::name_rows_of_parts_whole(&name));
    }
    let change = SetupChange::to(Subject::RowNames { table }, FULL);
    finding.want(node, Engine::Postgres, Reach::Kept, change)
}

/// Something that could not be looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unseen {
    /// Its area.
    pub area: Area,
    /// Where.
    pub node: NodeId,
    /// The part that could not be seen.
    pub what: String,
    /// Why not.
    pub fault: ReadFault,
}

/// Whether one node reaches another, as far as the nodes' own links tell.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reaches {
    /// A link over which it fetches runs.
    Yes,
    /// It tries and does not get through.
    No,
    /// It has a link that does not run, so nothing can be told.
    Stopped,
    /// It has a link and does not tell how that fares.
    Untold,
}

/// The request of a preflight.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct PreflightScope {
    /// Tables are looked at too.
    pub shape: bool,
    /// Nothing but the tables is looked at.
    pub only_shape: bool,
}

/// All that came of it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Report {
    /// The findings, in the order of mending.
    pub findings: Vec<Finding>,
    /// The parts that could not be looked at.
    pub unseen: Vec<Unseen>,
    /// By (node that fetches, node it fetches from).
    pub reaches: BTreeMap<(NodeId, NodeId), Reaches>,
    /// How many things were held against what they should be, by area.
    pub looked_at: BTreeMap<Area, u64>,
}

impl Report {
    /// The worst level found, if anything was.
    #[must_use]
    pub fn worst(&self) -> Option<Severity> {
        self.findings.iter().map(|finding| finding.level).min()
    }

    /// How many findings of a level there are.
    #[must_use]
    pub fn count(&self, level: Severity) -> usize {
        self.findings.iter().filter(|finding| finding.level == level).count()
    }
}

/// Holds what the nodes told against the topology file and against each other. `exposed` are the nodes whose
/// password file others can read.
#[must_use]
pub fn examine(
    topology: &Topology,
    looks: &BTreeMap<NodeId, NodeInspection>,
    scope: PreflightScope,
    exposed: &[NodeId],
) -> Report {
    let mut checks = CheckContext { topology, looks, report: Report::default() };
    reach::examine(&mut checks);
    if !scope.only_shape {
        rights::examine(&mut checks);
        rights::secrets(&mut checks, exposed);
        identity::examine(&mut checks);
        for (node, facts) in checks.nodes() {
            match facts.engine {
                Engine::MariaDb => {
                    settings::mariadb::examine(&mut checks, node, facts);
                }
                Engine::Postgres => {
                    settings::postgres::examine(&mut checks, node, facts);
                }
                Engine::Sqlite => {
                    settings::sqlite::examine(&mut checks, node, facts);
                }
            }
        }
        settings::mariadb::together(&mut checks);
        settings::postgres::together(&mut checks);
        counters::examine(&mut checks);
        clocks::examine(&mut checks);
    }
    if scope.shape {
        shape::examine(&mut checks);
    }
    if !scope.only_shape {
        links::examine(&mut checks);
    }
    let mut report = checks.report;
    report.findings = merged(report.findings);
    // Stable: the worst first, among those in the order of mending, then as they were found.
    report.findings.sort_by_key(|finding| (finding.level, finding.check.area));
    report.unseen.sort_by_key(|unseen| (unseen.area, unseen.node));
    report.unseen.dedup();
    report
}

/// The same thing found on several nodes is one finding.
fn merged(findings: Vec<Finding>) -> Vec<Finding> {
    let mut kept: Vec<Finding> = Vec::new();
    for finding in findings {
        let alone =
            |f: &Finding| f.nodes.len() == 1 || f.todo.iter().all(|todo| todo.nodes.len() != 1);
        let same = |other: &&mut Finding| {
            let alike = |a: &Todo, b: &Todo| a.what == b.what && a.is_statement == b.is_statement;
            other.check == finding.check
                && other.level == finding.level
                && (&other.found, &other.needed, &other.effect, &other.table)
                    == (&finding.found, &finding.needed, &finding.effect, &finding.table)
                && finding.nodes.len() == 1
                && alone(other)
                && other.todo.len() == finding.todo.len()
                && other.todo.iter().zip(&finding.todo).all(|(a, b)| alike(a, b))
        };
        match kept.iter_mut().find(same) {
            Some(other) => {
                other.nodes.extend(&finding.nodes);
                other.links.extend(&finding.links);
                other.wants.extend(finding.wants.iter().cloned());
                for (todo, more) in other.todo.iter_mut().zip(&finding.todo) {
                    todo.nodes.extend(&more.nodes);
                }
            }
            None => kept.push(finding),
        }
    }
    kept
}

/// Where a report is put together.
pub(crate) struct CheckContext<'a> {
    pub(crate) topology: &'a Topology,
    pub(crate) looks: &'a BTreeMap<NodeId, NodeInspection>,
    pub(crate) report: Report,
}

impl<'a> CheckContext<'a> {
    /// The nodes that let keen in.
    pub(crate) fn nodes(&self) -> Vec<(NodeId, &'a NodeFacts)> {
        let looks = self.looks;
        looks.iter().filter_map(|(node, look)| Some((*node, &**look.facts.as_ref()?))).collect()
    }

    pub(crate) fn facts(&self, node: NodeId) -> Option<&'a NodeFacts> {
        self.looks.get(&node).and_then(|look| look.facts.as_deref())
    }

    pub(crate) fn name(&self, node: NodeId) -> &'a str {
        &self.topology.nodes[node].name
    }

    pub(crate) fn names(&self, nodes: &[NodeId]) -> String {
        let names: Vec<&str> = nodes.iter().map(|node| self.name(*node)).collect();
        match &names[..] {
            [] => String::new(),
            [one] => (*one).to_owned(),
            [first @ .., last] => format!("{} and {last}", first.join(", ")),
        }
    }

    pub(crate) fn find(&mut self, finding: Finding) {
        self.report.findings.push(finding);
    }

    /// Counts something that was held against what it should be.
    pub(crate) fn looked(&mut self, area: Area) {
        *self.report.looked_at.entry(area).or_default() += 1;
    }

    pub(crate) fn could_not_look(
        &mut self,
        area: Area,
        node: NodeId,
        what: &str,
        fault: &ReadFault,
    ) {
        let unseen = Unseen { area, node, what: what.to_owned(), fault: fault.clone() };
        if !self.report.unseen.contains(&unseen) {
            self.report.unseen.push(unseen);
        }
    }

    /// The value, if it was seen; that it was not is noted.
    pub(crate) fn seen<'s, T>(
        &mut self,
        area: Area,
        node: NodeId,
        what: &str,
        seen: &'s Observed<T>,
    ) -> Option<&'s T> {
        match seen {
            Ok(value) => {
                self.looked(area);
                Some(value)
            }
            Err(fault) => {
                self.could_not_look(area, node, what, fault);
                None
            }
        }
    }

    /// The nodes that a node's writes reach, or whose writes reach it, over any number of links, itself too.
    pub(crate) fn group(&self, node: NodeId) -> Vec<NodeId> {
        let mut group = vec![node];
        let mut at = 0;
        while let Some(node) = group.get(at).copied() {
            for link in &self.topology.links {
                for (a, b) in [(link.from, link.to), (link.to, link.from)] {
                    if a == node && !group.contains(&b) {
                        group.push(b);
                    }
                }
            }
            at += 1;
        }
        group.sort_unstable();
        group
    }

    /// Whether writes of one node reach another, by the file, over any number of links.
    pub(crate) fn sends_to(&self, from: NodeId, to: NodeId) -> bool {
        let mut reached = vec![from];
        let mut at = 0;
        while let Some(node) = reached.get(at).copied() {
            for next in self.receivers(node) {
                if !reached.contains(&next) {
                    reached.push(next);
                }
            }
            at += 1;
        }
        from != to && reached.contains(&to)
    }

    /// Who sends to a node, by the file.
    pub(crate) fn sources(&self, node: NodeId) -> Vec<NodeId> {
        self.ends(|link| (link.to == node).then_some(link.from))
    }

    /// Whom a node sends to, by the file.
    pub(crate) fn receivers(&self, node: NodeId) -> Vec<NodeId> {
        self.ends(|link| (link.from == node).then_some(link.to))
    }

    fn ends(&self, end: impl Fn(&crate::topology::Link) -> Option<NodeId>) -> Vec<NodeId> {
        let mut ends: Vec<NodeId> = self.topology.links.iter().filter_map(end).collect();
        ends.sort_unstable();
        ends.dedup();
        ends
    }
}
