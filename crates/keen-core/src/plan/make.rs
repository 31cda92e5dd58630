//! Makes a plan: each row that was found is read and judged once, and nothing of it is kept but where it is and
//! what ties its steps to others.

use crate::history::journal::RowOp;
use crate::topology::node_set::NodeSet;
use std::collections::{BTreeMap, BTreeSet, HashSet};

use super::answer::Answers;
use super::evidence::Evidence;
use super::hold_back::AllTies;
use super::judge::{Judge, PutRight, Treatment};
use super::listed::{Asked, Basis, ListedStep, Plan, RowAt, StepSource, Unmade};
use super::order::{self, StepFacts};
use super::step::{self, UpdatePart};
use super::{AuditedTable, Question, Step, key_token};
use crate::audit::merge::DivergentRow;
use crate::fault::ReadFault;
use crate::row::digest::{Digest, DigestFunction};
use crate::topology::placement::Expectation;
use crate::topology::{NodeId, Topology};

/// Makes a plan from what an audit found and what else is known.
///
/// # Errors
/// [`ReadFault`] when a row that was found cannot be read back.
pub fn make(
    topology: &Topology,
    tables: Vec<AuditedTable>,
    evidence: Evidence,
) -> Result<Plan, ReadFault> {
    let expectations = tables.iter().map(|t| Expectation::of_set(topology, t.set)).collect();
    let answers = Answers::default();
    remake(Basis { topology: topology.clone(), tables, expectations, evidence, answers })
}

/// Makes it from all that it rests on.
pub(super) fn remake(basis: Basis) -> Result<Plan, ReadFault> {
    let mut maker = Maker::new(&basis);
    maker.stopped(&basis.tables);
    for table in 0..basis.tables.len() {
        maker.table(table)?;
    }
    for table in 0..basis.tables.len() {
        maker.rows_that_stay(table)?;
    }
    let Maker { steps, asked, whole_steps, whole_questions, notes, ties, arriving, later, .. } =
        maker;
    let plan = Plan { basis, steps, asked, whole_steps, whole_questions, notes, made_notes: 0 };
    let mut plan = finish(plan, ties, arriving, &later)?;
    plan.made_notes = plan.notes.len();
    Ok(plan)
}

/// How many rows of a node come right by what another writes.
type Arriving = BTreeMap<(NodeId, NodeId), u64>;

pub(super) struct Maker<'a> {
    basis: &'a Basis,
    pub(super) judge: Judge<'a>,
    steps: Vec<ListedStep>,
    asked: Vec<Asked>,
    pub(super) whole_steps: Vec<Step>,
    pub(super) whole_questions: Vec<Question>,
    pub(super) notes: Vec<String>,
    ties: AllTies,
    arriving: Arriving,
    /// Tables on nodes that several sets carry.
    in_several_sets: BTreeSet<(NodeId, String)>,
    /// Rows of those that have a step.
    taken: HashSet<Digest>,
    /// Rows that make way for a write at which a link stopped.
    making_way: HashSet<Digest>,
    /// Rows put off, by table, because another set's step changes their source first.
    later: BTreeMap<String, u64>,
}

impl<'a> Maker<'a> {
    fn new(basis: &'a Basis) -> Self {
        let mut known = BTreeSet::new();
        let places = basis.tables.iter().flat_map(|table| &table.nodes);
        let places = places.map(|(node, local)| (*node, local.name.clone()));
        let in_several_sets = places.filter(|place| !known.insert(place.clone())).collect();
        Self {
            basis,
            judge: basis.judge(),
            steps: Vec::new(),
            asked: Vec::new(),
            whole_steps: Vec::new(),
            whole_questions: Vec::new(),
            notes: Vec::new(),
            ties: AllTies::default(),
            arriving: Arriving::new(),
            in_several_sets,
            taken: HashSet::new(),
            making_way: HashSet::new(),
            later: BTreeMap::new(),
        }
    }

    fn is_in_several_sets(&self, table: &AuditedTable) -> bool {
        !self.in_several_sets.is_empty()
            && table
                .nodes
                .iter()
                .any(|(node, local)| self.in_several_sets.contains(&(*node, local.name.clone())))
    }

    /// Judges all rows of a table.
    fn table(&mut self, number: usize) -> Result<(), ReadFault> {
        let basis = self.basis;
        let table = &basis.tables[number];
        let in_several_sets = self.is_in_several_sets(table);
        for at in 0..table.divergent.len() {
            let place = RowAt { table: small(number), row: small(at) };
            let row = basis.row(place)?;
            let concern = row.versions.iter().flat_map(|v| &v.nodes).collect::<NodeSet>();
            if in_several_sets && self.any_is_taken(table, &row, concern) {
                *self.later.entry(table.table.clone()).or_default() += 1;
                continue;
            }
            let moved = match self.judge.row(table, &basis.expectations[number], place, &row) {
                Treatment::Open(_) => {
                    self.asked.push(Asked::Of(StepSource::Row(place)));
                    NodeSet::EMPTY
                }
                Treatment::Right(right) => self.put_right(table, &row, place, &right),
            };
            if in_several_sets {
                for node in moved.iter() {
                    self.taken.extend(row_at(table, node, &row));
                }
            } else {
                self.stays(table, &row, moved);
            }
        }
        Ok(())
    }

    fn any_is_taken(&self, table: &AuditedTable, row: &DivergentRow, nodes: NodeSet) -> bool {
        nodes
            .iter()
            .any(|node| row_at(table, node, row).is_some_and(|row| self.taken.contains(&row)))
    }

    /// Lists the steps that put a row right. The nodes that come right.
    fn put_right(
        &mut self,
        table: &AuditedTable,
        row: &DivergentRow,
        place: RowAt,
        right: &PutRight<'_>,
    ) -> NodeSet {
        for task in &right.tasks {
            let Some(local) = table.nodes.get(&task.node) else { continue };
            let sides = (task.before.map(|(c, _)| &**c), task.after.map(|(c, _)| &**c));
            let alike = self.judge.evidence.alike.of(task.node);
            let ties = order::ties(task.node, local, sides, row.key.is_empty(), alike);
            self.ties.step(small(self.steps.len()), &ties);
            self.steps.push(ListedStep {
                from: StepSource::Row(place),
                node: node_number(task.node),
                op: step::op(task),
                part: UpdatePart::Whole,
                in_two: ties.in_two,
                takes: !ties.come.is_empty(),
            });
        }
        for ends in &right.arriving {
            *self.arriving.entry(*ends).or_default() += 1;
        }
        right.moved
    }

    /// Takes note of what stays as it is, of a row that nodes hold otherwise.
    fn stays(&mut self, table: &AuditedTable, row: &DivergentRow, moved: NodeSet) {
        let multiset = row.key.is_empty();
        for version in &row.versions {
            for node in version.nodes.iter().filter(|node| !moved.contains(**node)) {
                let Some(local) = table.nodes.get(node) else { continue };
                let makes_way = !self.making_way.is_empty()
                    && row_at(table, *node, row).is_some_and(|row| self.making_way.contains(&row));
                if makes_way {
                    continue;
                }
                let alike = self.judge.evidence.alike.of(*node);
                let ties = |cells| order::ties(*node, local, (None, Some(cells)), multiset, alike);
                match &version.row {
                    Some(cells) => self.ties.row_that_stays(&ties(cells)),
                    None => {
                        for cells in row.versions.iter().filter_map(|v| v.row.as_ref()) {
                            self.ties.row_that_is_missing(&ties(cells));
                        }
                    }
                }
            }
        }
    }

    /// The same for tables that several sets carry, once all steps are known.
    fn rows_that_stay(&mut self, number: usize) -> Result<(), ReadFault> {
        let basis = self.basis;
        let table = &basis.tables[number];
        if !self.is_in_several_sets(table) {
            return Ok(());
        }
        for row in table.divergent.iter() {
            let row = row?;
            let nodes = row.versions.iter().flat_map(|version| version.nodes.iter().copied());
            let moved = nodes.filter(|node| {
                row_at(table, *node, &row).is_some_and(|row| self.taken.contains(&row))
            });
            let moved = moved.collect::<NodeSet>();
            self.stays(table, &row, moved);
        }
        Ok(())
    }

    /// A step that makes way for a write at which a link stopped.
    pub(super) fn make_way_by(&mut self, step: Step, table: &AuditedTable, row: &DivergentRow) {
        self.making_way.extend(row_at(table, step.node, row));
        self.whole_steps.push(step);
    }
}

/// A row on a node, by what it is.
fn row_at(table: &AuditedTable, node: NodeId, row: &DivergentRow) -> Option<Digest> {
    let local = table.nodes.get(&node)?;
    let mut bytes = (node as u64).to_be_bytes().to_vec();
    bytes.extend((local.name.len() as u64).to_be_bytes());
    bytes.extend(local.name.as_bytes());
    bytes.extend(key_token(table, row));
    Some(DigestFunction::Xxh3.digest(&bytes))
}

/// Finds what cannot stand, and an order for the rest.
fn finish(
    mut plan: Plan,
    mut ties: AllTies,
    mut arriving: Arriving,
    later: &BTreeMap<String, u64>,
) -> Result<Plan, ReadFault> {
    for (at, step) in plan.whole_steps.iter().enumerate() {
        let of_step = step.ties(plan.basis.evidence.alike.of(step.node));
        ties.step(small(plan.steps.len()), &of_step);
        plan.steps.push(ListedStep {
            from: StepSource::Whole(small(at)),
            node: node_number(step.node),
            op: step.op,
            part: UpdatePart::Whole,
            in_two: of_step.in_two,
            takes: !of_step.come.is_empty(),
        });
    }
    let whole = 0..plan.whole_questions.len();
    plan.asked.extend(whole.map(|at| Asked::Of(StepSource::Whole(small(at)))));

    ties.sort();
    let mut is_made = vec![true; plan.steps.len()];
    for (number, cause) in ties.held_back() {
        is_made[number as usize] = false;
        let step = plan.made(&plan.steps[number as usize])?;
        for to in step.arrives.iter() {
            arriving.entry((step.node, to)).and_modify(|rows| *rows -= 1);
        }
        ask_instead(&mut plan, number, &step, Unmade::HeldBack(cause));
    }
    arriving.retain(|_, rows| *rows > 0);
    note(&mut plan, &is_made, &arriving, later);

    let depths = order::depths(&plan.basis.tables);
    let depth_of = |listed: &ListedStep| {
        let table = match listed.from {
            StepSource::Row(at) => &plan.basis.tables[at.table as usize].table,
            StepSource::Whole(at) => &plan.whole_steps[at as usize].table,
        };
        order::depth(&depths, table)
    };
    let placed: Vec<Option<StepFacts>> = plan
        .steps
        .iter()
        .zip(&is_made)
        .map(|(step, is_made)| {
            is_made.then(|| StepFacts {
                node: step.node,
                op: step.op,
                depth: depth_of(step),
                in_two: step.in_two,
                takes: step.takes,
            })
        })
        .collect();
    let edges = ties.edges(small(plan.steps.len()), |step| is_made[step as usize]);
    drop(ties);
    let (order, stuck) = order::arrange(&placed, edges);
    drop(placed);
    for number in stuck {
        let step = plan.made(&plan.steps[number as usize])?;
        ask_instead(&mut plan, number, &step, Unmade::Stuck);
    }
    let lost = plan.basis.evidence.lost.clone();
    let tables = &plan.basis.tables;
    let chosen = |question: &Question| tables.iter().any(|table| table.table == question.table);
    for question in lost.into_iter().filter(chosen) {
        plan.asked.push(Asked::Of(StepSource::Whole(small(plan.whole_questions.len()))));
        plan.whole_questions.push(question);
    }
    let listed = |(number, part): (u32, UpdatePart)| {
        let step = plan.steps[number as usize];
        let op = match part {
            UpdatePart::Whole => step.op,
            UpdatePart::Out => RowOp::Delete,
            UpdatePart::Back => RowOp::Insert,
        };
        ListedStep { op, part, ..step }
    };
    plan.steps = order.into_iter().map(listed).collect();
    Ok(plan)
}

fn ask_instead(plan: &mut Plan, number: u32, step: &Step, unmade: Unmade) {
    let listed = plan.steps[number as usize];
    plan.asked.push(match listed.from {
        StepSource::Row(at) => Asked::Instead(at, listed.node, unmade),
        StepSource::Whole(_) => {
            plan.whole_questions.push(Question {
                why: unmade.words(&plan.basis.topology, step),
                set: step.set,
                table: step.table.clone(),
                key: step.key.clone(),
                choices: Vec::new(),
            });
            Asked::Of(StepSource::Whole(small(plan.whole_questions.len() - 1)))
        }
    });
}

fn note(plan: &mut Plan, is_made: &[bool], arriving: &Arriving, later: &BTreeMap<String, u64>) {
    let Basis { topology, tables, .. } = &plan.basis;
    let mut notes = BTreeSet::new();
    let made = plan.steps.iter().zip(is_made).filter(|(_, is_made)| **is_made);
    let written: BTreeSet<(NodeId, usize, &str)> = made
        .map(|(step, _)| match step.from {
            StepSource::Row(at) => {
                let table = &tables[at.table as usize];
                (step.node.into(), table.set, &table.table[..])
            }
            StepSource::Whole(at) => {
                let whole = &plan.whole_steps[at as usize];
                (whole.node, whole.set, &whole.table[..])
            }
        })
        .collect();
    for (node, of_set, table) in &written {
        for (id, set) in topology.sets.iter().enumerate() {
            let passes_on = topology.edges(id).any(|(from, _)| from == *node);
            if id != *of_set && set.tables.iter().any(|known| known == table) && passes_on {
                notes.insert(format!(
                    "{table} is also carried by set {}: when these steps are done, audit and plan again for the nodes that get it from {}",
                    set.name, topology.nodes[*node].name
                ));
            }
        }
    }
    let s = |count: u64| if count == 1 { "" } else { "s" };
    for ((from, to), rows) in arriving {
        let (from, to) = (&topology.nodes[*from].name, &topology.nodes[*to].name);
        notes.insert(format!(
            "{rows} row{} of {to} will be repaired by what the steps of {from} write, which replicates to {to}: there is no step for them. Carry out {from}'s steps before {to}'s",
            s(*rows)
        ));
    }
    for (table, rows) in later {
        notes.insert(format!(
            "{rows} divergent row{} of {table} in another set wait until these steps are done: audit and plan again then",
            s(*rows)
        ));
    }
    for table in tables.iter().filter(|table| !table.unread.is_empty()) {
        let nodes: Vec<NodeId> = table.unread.iter().collect();
        notes.insert(format!(
            "{} was not read completely on {}: what is there had no influence on this plan",
            table.table,
            plan.basis.judge().names(&nodes)
        ));
    }
    for table in tables {
        for (node, local) in &table.nodes {
            if !written.iter().any(|(at, _, name)| at == node && *name == table.table) {
                continue;
            }
            let name = &topology.nodes[*node].name;
            if let Some(reason) = &local.shape.firing_unseen {
                notes.insert(format!(
                    "whether a trigger of {} on {name} fires on these steps is not known: {reason}",
                    local.name
                ));
            }
            if let Some(storage) = &local.shape.not_transactional {
                notes.insert(format!(
                    "{} on {name} is stored in {storage}, which has no transactions: its steps stay done when a later one fails",
                    local.name
                ));
            }
        }
    }
    plan.notes.extend(notes);
}

/// Numbers of tables, rows and steps; nobody plans for four thousand million of them.
pub(super) fn small(number: usize) -> u32 {
    u32::try_from(number).unwrap_or(u32::MAX - 1)
}

fn node_number(node: NodeId) -> u8 {
    u8::try_from(node).unwrap_or(u8::MAX)
}
