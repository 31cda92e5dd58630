//! A plan as a list: of each step and question the row that it is made from. What it holds is made again from that
//! row whenever it is wanted.

use crate::history::journal::RowOp;
use crate::topology::node_set::NodeSet;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::sync::Arc;

use super::answer::Answers;
use super::evidence::Evidence;
use super::hold_back::Cause;
use super::judge::{Judge, Treatment};
use super::step::UpdatePart;
use super::{AuditedTable, LocalTable, Question, Step, key_cells};
use crate::audit::merge::DivergentRow;
use crate::fault::ReadFault;
use crate::topology::placement::Expectation;
use crate::topology::{NodeId, Topology};

/// The basis that a plan is made from.
#[derive(Debug)]
pub(super) struct Basis {
    pub(super) topology: Topology,
    pub(super) tables: Vec<AuditedTable>,
    /// Of each table who should hold what.
    pub(super) expectations: Vec<Expectation>,
    pub(super) evidence: Evidence,
    /// What persons decided.
    pub(super) answers: Answers,
}

impl Basis {
    pub(super) fn judge(&self) -> Judge<'_> {
        Judge { topology: &self.topology, evidence: &self.evidence, answers: &self.answers }
    }

    /// A divergent row, with the version that an answer made.
    pub(super) fn row(&self, at: RowAt) -> Result<DivergentRow, ReadFault> {
        let mut row = self.tables[at.table as usize].divergent.get(at.row as usize)?;
        self.answers.complete(at, &mut row);
        Ok(row)
    }
}

/// A table by its number, and a divergent row of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct RowAt {
    pub(super) table: u32,
    pub(super) row: u32,
}

/// Where a step or a question comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum StepSource {
    /// A step of this row.
    Row(RowAt),
    /// One of the few that are kept whole.
    Whole(u32),
}

/// A step.
#[derive(Debug, Clone, Copy)]
pub(super) struct ListedStep {
    pub(super) from: StepSource,
    pub(super) node: u8,
    pub(super) op: RowOp,
    pub(super) part: UpdatePart,
    /// It can be made in two.
    pub(super) in_two: bool,
    /// It puts a unique value there.
    pub(super) takes: bool,
}

/// A question.
#[derive(Debug, Clone, Copy)]
pub(super) enum Asked {
    /// It is what is said of a row, or kept whole.
    Of(StepSource),
    /// A step on this node that is not made.
    Instead(RowAt, u8, Unmade),
}

/// Why a step is not made.
#[derive(Debug, Clone, Copy)]
pub(super) enum Unmade {
    HeldBack(Cause),
    /// There is no order for it.
    Stuck,
}

impl Unmade {
    pub(super) fn words(self, topology: &Topology, step: &Step) -> String {
        let node = &topology.nodes[step.node].name;
        match self {
            Self::HeldBack(cause) => format!("{} on {node}: {}", step.op.name(), cause.words()),
            Self::Stuck => "rows exchange a unique value, and taking one out would lose columns that the set does not carry".to_owned(),
        }
    }
}

/// A plan.
#[derive(Debug)]
pub struct Plan {
    pub(super) basis: Basis,
    pub(super) steps: Vec<ListedStep>,
    pub(super) asked: Vec<Asked>,
    pub(super) whole_steps: Vec<Step>,
    pub(super) whole_questions: Vec<Question>,
    /// Notes to know before carrying it out.
    pub notes: Vec<String>,
    /// So many of them are of its own making.
    pub(super) made_notes: usize,
}

impl Plan {
    /// How many steps it has.
    #[must_use]
    pub fn step_count(&self) -> usize {
        self.steps.len()
    }

    /// How many questions it has.
    #[must_use]
    pub fn question_count(&self) -> usize {
        self.asked.len()
    }

    /// There is nothing to do and nothing to decide.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.steps.is_empty() && self.asked.is_empty()
    }

    /// The steps in order, node by node.
    pub fn steps(&self) -> impl Iterator<Item = Result<Step, ReadFault>> + Clone + '_ {
        self.steps.iter().map(|step| self.made(step))
    }

    /// The questions that only a person can decide.
    pub fn questions(&self) -> impl Iterator<Item = Result<Question, ReadFault>> + Clone + '_ {
        self.asked.iter().map(|asked| self.question(*asked))
    }

    /// Steps that are one write made in two, by their numbers from 1: each with the other half.
    #[must_use]
    pub fn halves(&self) -> BTreeMap<u64, u64> {
        let mut out: BTreeMap<(u32, u32, u8), u64> = BTreeMap::new();
        let mut halves = BTreeMap::new();
        for (step, number) in self.steps.iter().zip(1..) {
            let place = match step.from {
                StepSource::Row(at) => (at.table, at.row, step.node),
                StepSource::Whole(at) => (u32::MAX, at, step.node),
            };
            match step.part {
                UpdatePart::Whole => {}
                UpdatePart::Out => drop(out.insert(place, number)),
                UpdatePart::Back => {
                    if let Some(first) = out.remove(&place) {
                        halves.insert(first, number);
                        halves.insert(number, first);
                    }
                }
            }
        }
        halves
    }

    /// The tables that steps write to, and on which nodes.
    pub fn written(&self) -> impl Iterator<Item = (&AuditedTable, NodeSet)> {
        let mut written: BTreeMap<usize, NodeSet> = BTreeMap::new();
        for step in &self.steps {
            let table = match step.from {
                StepSource::Row(at) => Some(at.table as usize),
                StepSource::Whole(at) => {
                    let whole = &self.whole_steps[at as usize];
                    let is = |t: &AuditedTable| t.set == whole.set && t.table == whole.table;
                    self.basis.tables.iter().position(is)
                }
            };
            if let Some(table) = table {
                written.entry(table).or_default().insert(step.node.into());
            }
        }
        written.into_iter().map(|(table, nodes)| (&self.basis.tables[table], nodes))
    }

    /// The nodes that have steps, in order, and their steps.
    pub fn nodes(&self) -> impl Iterator<Item = NodeSteps<'_>> {
        let mut from = 0;
        self.steps.chunk_by(|one, next| one.node == next.node).map(move |steps| {
            let places = from..from + steps.len();
            from = places.end;
            NodeSteps { plan: self, node: steps[0].node.into(), places }
        })
    }

    /// Takes out the steps of other nodes.
    pub fn keep_nodes(&mut self, nodes: NodeSet) {
        self.steps.retain(|step| nodes.contains(step.node.into()));
    }

    /// Whether what steps write would replicate onward: all that is to be said of it.
    #[must_use]
    pub fn onward(&self) -> BTreeSet<String> {
        let judge = self.basis.judge();
        let whole = self.steps.iter().filter_map(|step| match step.from {
            StepSource::Whole(at) => Some(self.whole_steps[at as usize].onward.clone()),
            StepSource::Row(_) => None,
        });
        let mut said: BTreeSet<String> = whole.collect();
        for ((table, node), local) in self.places(&self.steps) {
            let set = self.basis.tables[table as usize].set;
            said.insert(judge.onward(local, set, node));
        }
        said
    }

    /// The tables on nodes that these steps write to, but for those that are kept whole.
    fn places(&self, steps: &[ListedStep]) -> BTreeMap<(u32, NodeId), &Arc<LocalTable>> {
        let mut places = BTreeMap::new();
        for step in steps {
            let (StepSource::Row(at), node) = (step.from, NodeId::from(step.node)) else {
                continue;
            };
            if let Some(local) = self.basis.tables[at.table as usize].nodes.get(&node) {
                places.entry((at.table, node)).or_insert(local);
            }
        }
        places
    }

    pub(super) fn made(&self, listed: &ListedStep) -> Result<Step, ReadFault> {
        let step = match listed.from {
            StepSource::Whole(at) => self.whole_steps[at as usize].clone(),
            StepSource::Row(at) => self.step_of(at, listed.node.into())?,
        };
        Ok(step.part(listed.part))
    }

    fn step_of(&self, at: RowAt, node: NodeId) -> Result<Step, ReadFault> {
        let table = &self.basis.tables[at.table as usize];
        let expectation = &self.basis.expectations[at.table as usize];
        let row = self.basis.row(at)?;
        let judge = self.basis.judge();
        let judged = judge.row(table, expectation, at, &row);
        let (Treatment::Right(right), Some(local)) = (judged, table.nodes.get(&node)) else {
            return Err(changed());
        };
        let task = right.tasks.iter().find(|task| task.node == node).ok_or_else(changed)?;
        Ok(judge.step(local, task, &right.reason, &right.arriving))
    }

    pub(super) fn question(&self, asked: Asked) -> Result<Question, ReadFault> {
        match asked {
            Asked::Of(StepSource::Whole(at)) => Ok(self.whole_questions[at as usize].clone()),
            Asked::Of(StepSource::Row(at)) => {
                let table = &self.basis.tables[at.table as usize];
                let expectation = &self.basis.expectations[at.table as usize];
                let row = self.basis.row(at)?;
                let judge = self.basis.judge();
                match judge.row(table, expectation, at, &row) {
                    Treatment::Open(why) => Ok(judge.question(table, &row, why)),
                    Treatment::Right(_) => Err(changed()),
                }
            }
            Asked::Instead(at, node, unmade) => {
                let step = self.step_of(at, node.into())?;
                let table = &self.basis.tables[at.table as usize];
                Ok(Question {
                    why: unmade.words(&self.basis.topology, &step),
                    set: table.set,
                    table: table.table.clone(),
                    key: key_cells(table, &table.divergent.get(at.row as usize)?),
                    choices: Vec::new(),
                })
            }
        }
    }
}

fn changed() -> ReadFault {
    ReadFault::new("a row that was found reads otherwise now", "run it again")
}

/// The steps of one node, in order.
#[derive(Debug, Clone)]
pub struct NodeSteps<'a> {
    plan: &'a Plan,
    /// The node.
    pub node: NodeId,
    places: Range<usize>,
}

impl<'a> NodeSteps<'a> {
    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.places.len()
    }

    /// There are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.places.is_empty()
    }

    fn listed(&self) -> &'a [ListedStep] {
        &self.plan.steps[self.places.clone()]
    }

    /// The steps by their numbers from 1, from either end.
    pub fn numbered(
        &self,
    ) -> impl DoubleEndedIterator<Item = (usize, Result<Step, ReadFault>)> + 'a {
        let plan = self.plan;
        self.listed().iter().enumerate().map(move |(at, step)| (at + 1, plan.made(step)))
    }

    /// The steps by their numbers in the whole plan, from 1.
    pub fn numbered_in_plan(&self) -> impl Iterator<Item = (usize, Result<Step, ReadFault>)> + 'a {
        let before = self.places.start;
        self.numbered().map(move |(number, step)| (before + number, step))
    }

    /// Where it is kept, of those tables that steps write to and that roll nothing back.
    #[must_use]
    pub fn not_rolled_back(&self) -> BTreeSet<String> {
        let steps = self.listed();
        let whole = steps.iter().filter_map(|step| match step.from {
            StepSource::Whole(at) => self.plan.whole_steps[at as usize].kept_by.clone(),
            StepSource::Row(_) => None,
        });
        let places = self.plan.places(steps);
        whole.chain(places.into_values().filter_map(|local| local.kept_by())).collect()
    }

    /// The steps by their numbers that write to tables with references.
    pub fn with_references(&self) -> impl Iterator<Item = (usize, Result<Step, ReadFault>)> + 'a {
        let plan = self.plan;
        let places = plan.places(self.listed());
        let refer: BTreeSet<u32> = (places.into_iter())
            .filter(|(_, l)| !l.shape.references.is_empty() || !l.shape.referred_by.is_empty())
            .map(|((table, _), _)| table)
            .collect();
        let concerned = move |step: &ListedStep| match step.from {
            StepSource::Row(at) => refer.contains(&at.table),
            StepSource::Whole(_) => true,
        };
        let steps = (1..).zip(self.listed()).filter(move |(_, step)| concerned(step));
        steps.map(move |(at, step)| (at, plan.made(step)))
    }
}
