//! Rows at which a link stopped: what has to be put in order so that the waiting write applies.
//!
//! A write that inserts a row needs the row's place empty; one that changes or deletes a row needs it to be
//! there. That a transaction is passed over instead is told beside it with all that is lacking then: nobody
//! brings it again.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

use super::decide::{self, Decision};
use super::judge::Task;
use super::make::Maker;
use super::setup_steps::{SetupAct, SetupStep};
use super::{AuditedTable, Plan, Question};
use crate::audit::merge::DivergentRow;
use crate::fault::ReadFault;
use crate::history::journal::RowOp;
use crate::links::fence::GoingOn;
use crate::links::owed::{OwedRow, OwedTransaction};
use crate::links::passing_over::PassingOver;
use crate::setup::{ON, SetupChange, Subject, YES};
use crate::topology::placement::Expectation;
use crate::topology::{NodeId, Topology};
use crate::value::Value;

/// The cells of a row, in the order of the layout.
type OrderedCells = Arc<Vec<Value>>;

/// A link that stopped at a transaction.
#[derive(Debug, Clone, PartialEq)]
pub struct StoppedLink {
    /// Where it comes from.
    pub from: NodeId,
    /// Where it stopped.
    pub to: NodeId,
    /// Its name there.
    pub name: String,
    /// What it reads as there: on, off, or half of either.
    pub switch: &'static str,
    /// The transaction that it stopped at.
    pub at: OwedTransaction,
    /// The way in which it goes on once the row is in order.
    pub going_on: GoingOn,
    /// Its applier stops where a row that it is to change or delete is not there.
    pub needs_rows: bool,
    /// That is what it says it stopped at.
    pub row_is_missing: bool,
    /// How that transaction is passed over, and nothing else; none if that cannot be made sure of.
    pub passing_over: Option<PassingOver>,
}

impl StoppedLink {
    /// Whether its applier says that a row is not there, and its transaction writes one alone.
    fn lacks_its_row(&self) -> bool {
        self.row_is_missing && self.at.count == 1
    }
}

/// How long a link is waited for, once it goes on.
const GOES_ON_WITHIN: Duration = Duration::from_secs(60);

/// The steps by which links go on behind the rows that a plan puts in order: each is switched on, where that needs
/// somebody, and waited for; and those by which receivers do without the transactions of `passed`. None for a link of which something is still asked, or of whose rows the plan has nothing.
///
/// # Errors
/// [`ReadFault`] when the steps of the plan cannot be read back.
pub fn going_on(
    plan: &Plan,
    topology: &Topology,
    stopped: &[StoppedLink],
    passed: &[StoppedLink],
) -> Result<Vec<SetupStep>, ReadFault> {
    let mut steps = passed_steps(topology, passed, plan.step_count());
    if stopped.is_empty() {
        return Ok(steps);
    }
    let writes = |link: &StoppedLink, table: &str, key: &[(String, Value)]| {
        link.at.rows.iter().any(|write| write.table == table && write.key == key)
    };
    let mut needs: Vec<Vec<u64>> = vec![Vec::new(); stopped.len()];
    for (step, number) in plan.steps().zip(1..) {
        let step = step?;
        for (link, needs) in stopped.iter().zip(&mut needs) {
            if link.to == step.node && writes(link, &step.table, &step.key) {
                needs.push(number);
            }
        }
    }
    let mut asked = vec![false; stopped.len()];
    for question in plan.questions() {
        let question = question?;
        for (link, asked) in stopped.iter().zip(&mut asked) {
            *asked |= writes(link, &question.table, &question.key);
        }
    }
    for ((link, needs), asked) in stopped.iter().zip(needs).zip(asked) {
        if asked || needs.is_empty() {
            continue;
        }
        let mut step = |purpose: &str, depends_on, act| {
            let (node, purpose) = (link.to, purpose.to_owned());
            steps.push(SetupStep { depends_on, ..SetupStep::of(node, purpose, act) });
            (plan.step_count() + steps.len()) as u64
        };
        let before = match link.going_on {
            GoingOn::Itself => needs,
            GoingOn::By(_) => {
                let subject = Subject::LinkSwitch { link: link.name.clone() };
                let change = SetupChange::to(subject, ON);
                let change = SetupChange { before: Some(link.switch.to_owned()), ..change };
                let purpose = "the link goes on once the row that it stopped at is in order";
                vec![step(purpose, needs, SetupAct::Change(change))]
            }
        };
        let wait = SetupAct::Wait { from: link.from, at_most: GOES_ON_WITHIN };
        step("what waited behind that row has arrived", before, wait);
    }
    Ok(steps)
}

/// The links that stopped at the transaction that a link from one node to another stopped at, which is to be passed
/// over, taken out of all that stopped: several links to one node bring it.
///
/// # Errors
/// Why it cannot be passed over.
pub fn to_pass_over(
    topology: &Topology,
    stopped: &mut Vec<StoppedLink>,
    (from, to): (NodeId, NodeId),
) -> Result<Vec<StoppedLink>, String> {
    let (from_name, to_name) = (&topology.nodes[from].name, &topology.nodes[to].name);
    let link = stopped.iter().find(|link| (link.from, link.to) == (from, to));
    let link = link.ok_or_else(|| {
        format!("{from_name} -> {to_name} did not stop at a write that can be read: keen flow says where it stands")
    })?;
    if link.passing_over.is_none() || lacking(link).is_none() {
        return Err(format!(
            "it cannot be made sure of that {to_name} passes over the transaction at which {from_name} -> {to_name} stopped, and over nothing else, or not all that it would lack is known"
        ));
    }
    let id = link.at.id.clone();
    Ok(stopped.extract_if(.., |link| link.to == to && link.at.id == id).collect())
}

/// The steps by which receivers do without a transaction, and go on.
fn passed_steps(topology: &Topology, passed: &[StoppedLink], rows: usize) -> Vec<SetupStep> {
    let mut steps: Vec<SetupStep> = Vec::new();
    let mut known: BTreeSet<(NodeId, String)> = BTreeSet::new();
    for link in passed {
        let (node, told) = (link.to, link.at.told());
        let Some(passing_over) = &link.passing_over else { continue };
        if !known.insert((node, told.transaction.clone())) {
            continue; // another link brings the same one
        }
        let beside = || passed.iter().filter(|other| other.to == node && other.at.id == link.at.id);
        let mut step = |purpose: &str, loses, depends_on, act| {
            let purpose = purpose.to_owned();
            steps.push(SetupStep { loses, depends_on, ..SetupStep::of(node, purpose, act) });
            (rows + steps.len()) as u64
        };
        let loses = lacking(link).map(|writes| {
            format!(
                "{writes}, and whatever else transaction {} wrote to tables in no set",
                told.transaction
            )
        });
        let purpose = format!(
            "{} does without the transaction at which {} -> {} stopped",
            topology.nodes[node].name, topology.nodes[link.from].name, topology.nodes[node].name
        );
        let change = match passing_over {
            PassingOver::Commit { link, commit, enable } => {
                let (link, commit) = (link.clone(), commit.clone());
                SetupChange::to(Subject::PassedCommit { link, commit, enable: *enable }, YES)
            }
            PassingOver::Place { domain, before, after, links } => {
                let stops: Vec<String> = beside().map(|link| link.name.clone()).collect();
                let pauses = links.iter().filter(|link| !stops.contains(link)).cloned().collect();
                let subject = Subject::AppliedOfDomain { domain: *domain, stops };
                let change = SetupChange::to(subject, after);
                SetupChange { before: Some(before.clone()), pauses, ..change }
            }
        };
        let passes = step(&purpose, loses, Vec::new(), SetupAct::Change(change));
        for link in beside() {
            let wait = SetupAct::Wait { from: link.from, at_most: GOES_ON_WITHIN };
            step("what waited behind that transaction has arrived", None, vec![passes], wait);
        }
    }
    steps
}

impl Maker<'_> {
    /// Steps and questions for the rows at which links stopped.
    pub(super) fn stopped(&mut self, tables: &[AuditedTable]) {
        let evidence = self.judge.evidence;
        // Several links to one node stop at one transaction, which each of them brings.
        let mut handled: BTreeMap<(NodeId, String, Vec<u8>), (usize, usize)> = BTreeMap::new();
        for link in &evidence.stopped {
            let mut first: BTreeSet<(NodeId, String, Vec<u8>)> = BTreeSet::new();
            let (mut steps, mut asked) = (0, 0);
            for write in &link.at.rows {
                let table = tables.iter().find(|table| table.table == write.table);
                let Some(table) = table else { continue };
                let key: Vec<Value> = write.key.iter().map(|(_, value)| value.clone()).collect();
                let row = (link.to, write.table.clone(), crate::row::encoding::row_bytes(&key));
                // Of several writes of one row the first is the one that waits.
                if !first.insert(row.clone()) {
                    continue;
                }
                if !handled.contains_key(&row) {
                    let before = (self.whole_steps.len(), self.whole_questions.len());
                    self.stopped_at(link, table, write, &key);
                    let now = (self.whole_steps.len(), self.whole_questions.len());
                    handled.insert(row.clone(), (now.0 - before.0, now.1 - before.1));
                }
                steps += handled[&row].0;
                asked += handled[&row].1;
            }
            let node = |node: NodeId| self.judge.topology.nodes[node].name.clone();
            let (from, to) = (node(link.from), node(link.to));
            if (steps, asked) == (0, 0) {
                asked = self.nothing_in_the_way(link, tables);
            }
            let stopped = format!("{from} -> {to} stopped at: {}", link.at.told().words());
            self.notes.push(match asked {
                0 => {
                    let start = match &link.going_on {
                        GoingOn::By(statement) => format!("on {to}, {statement}"),
                        GoingOn::Itself => "it continues on its own within seconds".to_owned(),
                    };
                    format!(
                        "{stopped}. Once {to}'s steps are done: {start}. Then plan again: what {to} still lacks was not judged"
                    )
                }
                _ => format!("{stopped}. It continues only once that is decided, and what {to} still lacks was not judged"),
            });
            self.notes.extend(passed_over(link, &from, &to));
        }
    }

    /// Asks about a link at whose transaction no row was found that stands in its way; how often that was.
    fn nothing_in_the_way(&mut self, link: &StoppedLink, tables: &[AuditedTable]) -> usize {
        let node = |node: NodeId| self.judge.topology.nodes[node].name.clone();
        let (from, to) = (node(link.from), node(link.to));
        let first = link.at.rows.iter().find_map(|write| {
            Some((tables.iter().find(|table| table.table == write.table)?, write))
        });
        let Some((table, write)) = first else { return 0 };
        let why = format!(
            "{from} -> {to} stopped at the transaction that writes it, and no row that differs was found in its way: {to} may have the same row as {from}, or one of its unique values in another row; the message of {to} says which. Save whatever you move out of the way"
        );
        let asked = |question: &Question| question.why == why && question.key == write.key;
        if !self.whole_questions.iter().any(asked) {
            self.asked_without_choices(table, write, why);
        }
        1
    }

    fn stopped_at(
        &mut self,
        link: &StoppedLink,
        table: &AuditedTable,
        write: &OwedRow,
        key: &[Value],
    ) {
        let name = |node: NodeId| &self.judge.topology.nodes[node].name;
        let (from, to) = (name(link.from).clone(), name(link.to).clone());
        if key.is_empty() {
            return;
        }
        let found = table.unsettled.iter().find(|row| row.key == key);
        let held = |row: &DivergentRow, node: NodeId| {
            let version = row.versions.iter().find(|version| version.nodes.contains(&node))?;
            version.row.clone()
        };
        let here = found.and_then(|row| held(row, link.to));
        let there = found.and_then(|row| held(row, link.from));
        let read = found
            .is_some_and(|row| row.versions.iter().any(|version| version.nodes.contains(&link.to)));
        match (write.act, here) {
            (RowOp::Insert, Some(cells)) => {
                let Some(row) = found else { return };
                let alike = write.after.as_ref().is_some_and(|after| told_same(after, &cells));
                let reason = format!(
                    "{from} -> {to} waits to insert this row, but the existing row is in its way"
                );
                if alike {
                    let reason =
                        format!("{reason}: it is the same row, and will be inserted again");
                    let local = table.nodes.get(&link.to);
                    if local.is_some_and(|local| !local.shape.referred_by.is_empty()) {
                        let why = format!(
                            "{reason}; but rows of {to} may refer to it, and would lack it until then"
                        );
                        return self.ask(table, row, why);
                    }
                    return self.make_way(
                        link,
                        (table, row),
                        (Some(&cells), None),
                        (&reason, None),
                    );
                }
                let expectation = Expectation::of_set(self.judge.topology, table.set);
                let of_row = self.judge.evidence.of(&table.table, &row.key);
                let right =
                    match decide::decide(self.judge.topology, table, &expectation, row, of_row) {
                        Decision::Right { version, counted: false, reason } => {
                            row.versions[version].nodes.contains(&link.from).then_some(reason)
                        }
                        _ => None,
                    };
                let Some(rule) = right else {
                    let why = format!("{reason}. Both may be real: two things under one key");
                    return self.ask(table, row, why);
                };
                let reason = format!("{reason}; {rule}");
                let lost = Some("the row".to_owned());
                self.make_way(link, (table, row), (Some(&cells), None), (&reason, lost));
            }
            // A subscription passes over rows that are not there. Of one that is as it is elsewhere the audit tells
            // nothing: it is lacking only if that is what the applier says, of the one row that it was to change.
            (RowOp::Update | RowOp::Delete, None)
                if link.needs_rows && (read || (found.is_none() && link.lacks_its_row())) =>
            {
                let content =
                    write.before.as_ref().and_then(|cells| as_it_was(cells, there.as_deref()));
                let act = if write.act == RowOp::Update { "change" } else { "delete" };
                let reason = format!(
                    "{from} -> {to} waits to {act} this row, and for that {to} must have it"
                );
                let Some(content) = content else {
                    let why =
                        format!("{reason}; {from}'s log does not show all of its earlier contents");
                    return self.asked_without_choices(table, write, why);
                };
                let missing = DivergentRow {
                    key: key.to_vec(),
                    versions: Vec::new(),
                    differing: Vec::new(),
                    outside: Vec::new(),
                };
                let row = found.unwrap_or(&missing);
                let lost = Some("the deletion, if it was one,".to_owned());
                self.make_way(
                    link,
                    (table, row),
                    (None, Some(&Arc::new(content))),
                    (&reason, lost),
                );
            }
            // The other rows of its transaction are in nobody's way.
            _ => {}
        }
    }

    /// A step at the receiver, unless something forbids it.
    fn make_way(
        &mut self,
        link: &StoppedLink,
        (table, row): (&AuditedTable, &DivergentRow),
        (before, after): (Option<&OrderedCells>, Option<&OrderedCells>),
        (reason, lost): (&str, Option<String>),
    ) {
        let holders = [link.from];
        let task = Task {
            table,
            row,
            node: link.to,
            before: before.map(|cells| (cells, 1)),
            after: after.map(|cells| (cells, 1)),
            holders: &holders,
        };
        let Some(local) = table.nodes.get(&link.to) else { return };
        if let Some(why) = self.judge.obstacle(&task) {
            return self.ask(table, row, format!("{reason}; {why}"));
        }
        if let Some(node) = self.judge.reached(&task).nodes().next() {
            let (here, there) =
                (&self.judge.topology.nodes[link.to].name, &self.judge.topology.nodes[node].name);
            let why = format!(
                "{there} receives, or may receive, what is written on {here}, and would lose it, too"
            );
            return self.ask(table, row, format!("{reason}; {why}"));
        }
        let mut step = self.judge.step(local, &task, reason, &[]);
        step.loses = lost;
        self.make_way_by(step, table, row);
    }

    fn ask(&mut self, table: &AuditedTable, row: &DivergentRow, why: String) {
        let question = self.judge.question(table, row, why);
        self.whole_questions.push(question);
    }

    fn asked_without_choices(&mut self, table: &AuditedTable, write: &OwedRow, why: String) {
        self.whole_questions.push(Question {
            set: table.set,
            table: table.table.clone(),
            key: write.key.clone(),
            why,
            choices: Vec::new(),
        });
    }
}

/// The writes of the transaction at which a link stopped, if all that it wrote to tables of the sets can be told.
fn lacking(link: &StoppedLink) -> Option<String> {
    const MOST_TOLD: usize = 20;
    let told = link.at.told();
    let whole = told.writes.len() as u64 == told.count && told.writes.len() <= MOST_TOLD;
    (whole && !told.writes.is_empty()).then(|| told.writes.join("; "))
}

/// The other way on: the receiver does without the whole transaction. Told only where all that it wrote to tables of
/// the sets can be told with it.
fn passed_over(link: &StoppedLink, from: &str, to: &str) -> Option<String> {
    let statements = link.passing_over.as_ref()?.statements();
    Some(format!(
        "or {to} skips all of {from}'s transaction {}: then it lacks {}, and whatever else that transaction wrote to tables in no set; nothing brings it back. \
         On {to}: {}. Then audit",
        link.at.told().transaction,
        lacking(link)?,
        statements.join("; ")
    ))
}

/// A row as it was before the waiting write, which has to change it: a write that changes nothing stands in no
/// log of the receiver, and whoever reads there would lack it. What did not change since is as the source holds
/// it now, for a log may spell values in another way.
fn as_it_was(before: &[Option<Value>], now: Option<&Vec<Value>>) -> Option<Vec<Value>> {
    let cell = |(at, cell): (usize, &Option<Value>)| {
        let cell = cell.as_ref()?;
        let now = now.and_then(|now| now.get(at)).filter(|now| now.same_as(cell));
        Some(now.unwrap_or(cell).clone())
    };
    before.iter().enumerate().map(cell).collect()
}

/// Whether a log tells all cells of a row, and they are these.
fn told_same(told: &[Option<Value>], cells: &[Value]) -> bool {
    told.len() == cells.len()
        && told.iter().zip(cells).all(|(told, cell)| told.as_ref().is_some_and(|t| t.same_as(cell)))
}
