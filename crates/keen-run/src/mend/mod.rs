//! Carrying out a plan: batch by batch, each with its guards read before it, in a transaction that stays out of
//! replication, and looked at again behind a fence after it.
//!
//! A batch goes through these steps. Its rows are read again on every node that was read for the plan; a step of which
//! anything moved is left out. The rest is written in one transaction, each write meeting only the row that the plan
//! names; what it does not meet, or what the node refuses, is left out and the batch is made again without it. Before
//! the batch is kept, the undo file says which steps it has; its mark commits with it. So whatever ends the run, the
//! next one knows what was made. After it, behind a fence, a row whose source has changed meanwhile is taken back if
//! it is still what was written.

mod aside;
mod batch;
pub mod copy;
mod guard;
mod patience;
pub mod plan_file;
pub mod setup;
pub mod step_numbers;
pub mod undo_file;

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::Path;
use std::time::{Duration, Instant};

use keen_core::fault::ReadFault;
use keen_core::plan::Step;
use keen_core::plan::port::{BatchMark, WriteSteps};
use keen_core::plan::setup_steps::{SetupAct, SetupStep};
use keen_core::plan::sql::script::Direction;
use keen_core::row::digest::DigestFunction;
use keen_core::topology::node_set::NodeSet;
use keen_core::topology::{NodeId, Topology};

use self::batch::Batch;
use self::copy::{CopiedRows, OpenGiver, OpenTaker};
use self::guard::{RowName, RowsNow, Standing, name_of};
use self::patience::LinkWatch;
use self::plan_file::{NumberedStep, PlanFile};
use self::setup::{
    FindAgain, FoundAgain, HandWork, LinkPasswords, OpenSetup, SetupProgress, SetupTally,
};
use self::undo_file::UndoFile;
use crate::audit::recheck::{self, Fencing};
use crate::audit::{self, AuditRequest, WantedKeys};
use crate::opener::OpenRows;

/// Opens a node to write steps to it.
pub type OpenWriter<'a> = dyn Fn(NodeId) -> Result<Box<dyn WriteSteps>, ReadFault> + 'a;

/// Steps that are looked at again together, once they were made.
const LOOKED_AT_TOGETHER: usize = 2000;
/// Left-out steps that are kept with their reasons; more are only counted.
const MOST_LEFT_OUT: usize = 10_000;
/// Bytes of rows in one batch, at about.
const BATCH_BYTES: usize = 4 << 20;
/// Why half a write is not made: alone it would lose the row.
const HALF_IS_LACKING: &str = "the other half of the write is not made with it";
/// Rows that are compared together in the end.
const PROVEN_TOGETHER: usize = 5_000;

/// A request to carry a plan out.
pub struct MendRequest<'a> {
    /// The topology.
    pub topology: &'a Topology,
    /// The nodes that were read for the plan.
    pub nodes: NodeSet,
    /// Which steps, by number and node.
    pub chosen: &'a dyn Fn(u64, NodeId) -> bool,
    /// Whether the plan is carried out or taken back.
    pub direction: Direction,
    /// Nothing is kept.
    pub dry_run: bool,
    /// So many steps in a batch, at most.
    pub batch: usize,
    /// So many rows a second, at most.
    pub rate: Option<u64>,
    /// How nodes are opened to be read.
    pub open: &'a OpenRows<'a>,
    /// How nodes are opened to be written to.
    pub write: &'a OpenWriter<'a>,
    /// How nodes are opened to change their set-up.
    pub setup: &'a OpenSetup<'a>,
    /// By what password others follow a node.
    pub link_password: &'a LinkPasswords<'a>,
    /// How nodes are opened to copy tables from them.
    pub give: &'a OpenGiver<'a>,
    /// How nodes are opened to copy tables to them.
    pub take: &'a OpenTaker<'a>,
    /// The file for what only the receiver of a copy held.
    pub aside: &'a Path,
    /// The text of the topology file, in a digest.
    pub topology_digest: &'a str,
    /// The nodes that take no writes any more, for which somebody answers.
    pub fenced: NodeSet,
    /// How what was found is looked for once more.
    pub find_again: &'a FindAgain<'a>,
    /// How what was written is looked at again.
    pub fencing: &'a Fencing<'a>,
    /// Asked now and then; true ends the run after the batch at hand.
    pub stop: &'a (dyn Fn() -> bool + Sync),
}

impl<'a> MendRequest<'a> {
    /// A look at some rows of some tables on all nodes that were read for the plan; at all of both, unless they are
    /// named.
    fn look<'r>(&'r self, keys: &'r WantedKeys, tables: &'r [String]) -> AuditRequest<'r> {
        AuditRequest {
            topology: self.topology,
            nodes: self.nodes,
            tables,
            only: keys,
            function: DigestFunction::default(),
            rate: None,
            threads: 1,
            open: self.open,
            stop: self.stop,
        }
    }
}

/// The result of carrying a plan out.
#[derive(Debug, Default)]
pub struct Mended {
    /// By node.
    pub nodes: BTreeMap<NodeId, NodeTally>,
    /// By node, what is not about rows.
    pub setup: BTreeMap<NodeId, SetupTally>,
    /// Tables that were copied.
    pub copies: Vec<CopiedRows>,
    /// Things that a person has to do.
    pub by_hand: Vec<HandWork>,
    /// What the preflight still finds of what the plan mends; none if it was not looked for.
    pub findings_left: Option<Result<FoundAgain, ReadFault>>,
    /// Steps that were not made, the first of very many.
    pub left_out: Vec<LeftOut>,
    /// Nodes that could not be written to any more, and why.
    pub faults: BTreeMap<NodeId, ReadFault>,
    /// Why the run could not go on.
    pub broken: Option<ReadFault>,
    /// It was stopped before its end.
    pub stopped: bool,
    /// The rows that were written, compared once more on the nodes that were read for the plan.
    pub proof: Option<Proof>,
    /// All tables of two nodes, compared: the one that was filled, and the other.
    pub alike: Vec<(NodeId, NodeId, Proof)>,
}

/// What became of the steps of a node.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NodeTally {
    /// Steps that were made; in a dry run those that would be.
    pub made: u64,
    /// Steps that an earlier run had made.
    pub made_before: u64,
    /// Rows that were as they should be without a write.
    pub already: u64,
    /// Steps that were not made.
    pub left_out: u64,
    /// Of the steps that were made, those that were taken back because their source had changed.
    pub taken_back: u64,
}

/// A step that was not made.
#[derive(Debug, Clone, PartialEq)]
pub struct LeftOut {
    /// Its number.
    pub number: u64,
    /// Its node.
    pub node: NodeId,
    /// The row or the value that it is about.
    pub of: LeftOutOf,
    /// Why it was not made.
    pub why: String,
    /// It was made and then taken back.
    pub taken_back: bool,
}

/// What a step that was not made is about.
#[derive(Debug, Clone, PartialEq)]
pub enum LeftOutOf {
    /// A row.
    Row {
        /// Its table.
        table: String,
        /// Its key.
        key: Vec<(String, keen_core::value::Value)>,
    },
    /// A value of the set-up.
    Setup(String),
}

/// The rows of a plan, compared once more.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Proof {
    /// How many.
    pub rows: u64,
    /// Rows that still differ, and nothing is on its way.
    pub divergent: u64,
    /// Rows that differ and are not settled.
    pub unsettled: u64,
    /// Every node was read.
    pub complete: bool,
}

impl Mended {
    /// How many steps were made.
    #[must_use]
    pub fn made(&self) -> u64 {
        self.nodes.values().map(|tally| tally.made).sum()
    }

    /// How many were not, or were taken back.
    #[must_use]
    pub fn left(&self) -> u64 {
        let rows: u64 = self.nodes.values().map(|tally| tally.left_out + tally.taken_back).sum();
        rows + self.setup.values().map(|tally| tally.left_out).sum::<u64>()
    }

    /// How many changes of a set-up were made.
    #[must_use]
    pub fn changed(&self) -> u64 {
        self.setup.values().map(|tally| tally.made).sum()
    }
}

/// Carries a plan out, or takes it back. Without an undo file nothing is kept.
pub fn run(request: &MendRequest<'_>, plan: &mut PlanFile, undo: Option<&mut UndoFile>) -> Mended {
    let mut mender = Mender {
        request,
        undo,
        result: Mended::default(),
        writer: None,
        window: Vec::new(),
        perhaps_made: BTreeSet::new(),
        links: None,
        setup: SetupProgress::default(),
    };
    mender.setup.waiting = waiting(plan);
    match mender.settle_unsure(plan).and_then(|()| mender.all(plan)) {
        Ok(()) => {}
        Err(fault) if fault.is_interrupted() => mender.result.stopped = true,
        Err(fault) => mender.result.broken = Some(fault),
    }
    mender.finish();
    mender.result
}

/// By the number of a step, the changes and the waits that have to wait for it.
fn waiting(plan: &PlanFile) -> BTreeMap<u64, Vec<(u64, SetupStep)>> {
    let mut waiting: BTreeMap<u64, Vec<(u64, SetupStep)>> = BTreeMap::new();
    for at in 0..plan.len() {
        let (Some((number, _)), Some(step)) = (plan.place(at), plan.setup(at)) else { continue };
        if matches!(step.act, SetupAct::Change(_) | SetupAct::Wait { .. }) {
            for before in &step.depends_on {
                waiting.entry(*before).or_default().push((number, step.clone()));
            }
        }
    }
    waiting
}

struct Mender<'a, 'u> {
    request: &'a MendRequest<'a>,
    undo: Option<&'u mut UndoFile>,
    result: Mended,
    /// The node at hand.
    writer: Option<(NodeId, Box<dyn WriteSteps>)>,
    /// Steps that were made and not looked at again, each with what both of its halves leave.
    window: Vec<(NumberedStep, NumberedStep)>,
    /// Steps that a killed run may have made, which the node cannot tell.
    perhaps_made: BTreeSet<u64>,
    /// The links, once the first batch was made.
    links: Option<LinkWatch<'a>>,
    /// What is not about rows.
    setup: SetupProgress,
}

impl Mender<'_, '_> {
    fn repairs(&self) -> bool {
        self.request.direction == Direction::Repair
    }

    fn writer(&mut self, node: NodeId) -> Result<&mut dyn WriteSteps, ReadFault> {
        let there = self.writer.as_ref().is_some_and(|(of, _)| *of == node);
        if !there {
            self.writer = None; // one node at a time
            self.writer = Some((node, (self.request.write)(node)?));
        }
        match &mut self.writer {
            Some((_, writer)) => Ok(&mut **writer),
            None => Err(ReadFault::interrupted()),
        }
    }

    fn tally(&mut self, node: NodeId) -> &mut NodeTally {
        self.result.nodes.entry(node).or_default()
    }

    fn leave_out(&mut self, step: &NumberedStep, why: String) {
        self.tally(step.step.node).left_out += 1;
        self.note_left_out(step, why, false);
    }

    fn note_left_out(&mut self, step: &NumberedStep, why: String, taken_back: bool) {
        if self.result.left_out.len() < MOST_LEFT_OUT {
            let NumberedStep { number, step, .. } = step;
            let (node, table, key) = (step.node, step.table.clone(), step.key.clone());
            let number = *number;
            let of = LeftOutOf::Row { table, key };
            self.result.left_out.push(LeftOut { number, node, of, why, taken_back });
        }
    }

    /// Asks the node of a batch that a killed run may have kept.
    fn settle_unsure(&mut self, plan: &mut PlanFile) -> Result<(), ReadFault> {
        let Some(unsure) = self.undo.as_ref().and_then(|undo| undo.unsure.clone()) else {
            return Ok(());
        };
        if self.request.dry_run {
            return Ok(());
        }
        if self.settle_setup(plan, &unsure)? {
            return Ok(());
        }
        let topology = self.request.topology;
        let node = topology.node(&unsure.node).ok_or_else(|| {
            ReadFault::new(
                format!("node {} is no longer in the topology file", unsure.node),
                "carry the plan out with the file that it was made with",
            )
        })?;
        let mark = BatchMark { run: unsure.run, ..self.mark(unsure.batch) };
        let kept = self.writer(node)?.was_kept(mark, unsure.transaction.as_deref())?;
        if kept != Some(true) {
            for at in 0..plan.len() {
                let chosen = plan.place(at).is_some_and(|(n, _)| unsure.steps.contains(&n));
                // Of a table without transactions a write may stand although its batch was not kept.
                if chosen && (kept.is_none() || plan.step(topology, at)?.step.kept_by.is_some()) {
                    self.perhaps_made.extend(plan.place(at).map(|(number, _)| number));
                }
            }
        }
        self.keep_outcome(unsure, kept == Some(true))
    }

    fn mark(&self, batch: u64) -> BatchMark {
        BatchMark {
            run: self.undo.as_ref().map_or(0, |undo| undo.run),
            plan: self.undo.as_ref().map_or(0, |undo| undo.plan),
            batch: u32::try_from(batch).unwrap_or(u32::MAX),
        }
    }

    /// All steps, batch by batch.
    fn all(&mut self, plan: &mut PlanFile) -> Result<(), ReadFault> {
        let topology = self.request.topology;
        let mut batch = Batch::default();
        for at in 0..plan.len() {
            let Some((number, node)) = plan.place(at) else { continue };
            if !(self.request.chosen)(number, node) || self.result.faults.contains_key(&node) {
                continue;
            }
            let made = self.undo.as_ref().is_some_and(|undo| undo.made.contains(number));
            if made == self.repairs() {
                // Made already, or taken back already.
                match plan.setup(at) {
                    _ if !self.repairs() => {}
                    Some(_) => self.setup_tally(node).made_before += 1,
                    None => self.tally(node).made_before += 1,
                }
                continue;
            }
            if let Some(step) = plan.setup(at).cloned() {
                self.make(std::mem::take(&mut batch))?;
                // What it lets go on is what these rows wait for: before it nothing more is seen of them.
                let waits = |row: &NumberedStep| step.depends_on.contains(&row.number);
                if !matches!(step.act, SetupAct::Wait { .. })
                    && !self.window.iter().any(|(row, _)| waits(row))
                {
                    self.look_again()?;
                }
                if (self.request.stop)() {
                    self.result.stopped = true;
                    break;
                }
                // A node that failed at its rows is left alone.
                if !self.result.faults.contains_key(&node) {
                    self.set_up(number, &step)?;
                }
                continue;
            }
            let step = plan.step(topology, at)?;
            if step.half_of.is_some_and(|half| !(self.request.chosen)(half, node)) {
                self.leave_out(&step, HALF_IS_LACKING.to_owned());
                continue;
            }
            if batch.is_full(self.request.batch, BATCH_BYTES) || batch.is_of_another(&step) {
                self.make(std::mem::take(&mut batch))?;
            }
            if (self.request.stop)() {
                self.result.stopped = true;
                break;
            }
            batch.push(step);
        }
        if !self.result.stopped {
            self.make(batch)?;
        }
        self.look_again()?;
        self.prove(plan)
    }

    /// Looks at the rows of some steps on all nodes, as they are now.
    fn rows_now(&self, keys: &WantedKeys, tables: &[String], fenced: bool) -> RowsNow {
        let request = self.request.look(keys, tables);
        let mut now = RowsNow::default();
        if fenced {
            recheck::run(&request, self.request.fencing, &mut now);
        } else {
            audit::run(&request, &mut now);
        }
        now
    }

    /// Makes a batch: of its steps those that still stand.
    fn make(&mut self, batch: Batch) -> Result<(), ReadFault> {
        let Some(node) = batch.node() else { return Ok(()) };
        if self.result.faults.contains_key(&node) {
            return Ok(());
        }
        self.wait_for_links(node);
        let topology = self.request.topology;
        let (keys, tables) = (guard::keys(batch.steps()), batch.tables());
        let mut now = self.rows_now(&keys, &tables, false);
        if (self.request.stop)() {
            return Err(ReadFault::interrupted());
        }
        let mut todo = Vec::new();
        let mut out: HashSet<u64> = HashSet::new();
        for numbered in batch.into_steps() {
            let leaves = numbered.leaves().clone();
            let is_half = numbered.is_half;
            let mut step = numbered.step;
            if is_half {
                out.insert(step.number);
                self.leave_out(&step, HALF_IS_LACKING.to_owned());
                continue;
            }
            if step.half_of.is_some_and(|half| out.contains(&half)) {
                out.insert(step.number);
                self.leave_out(&step, "the other half of the write is left out".to_owned());
                continue;
            }
            let standing = match numbered.is_back {
                // Its first half was looked at.
                true => Standing::AsPlanned,
                false if self.repairs() => now.stands(topology, &step.step, &leaves.step),
                false => now.stands_back(topology, &step.step),
            };
            match standing {
                Standing::Already => {
                    out.insert(step.number);
                    self.row_is_done(step.number);
                    if self.perhaps_made.contains(&step.number) {
                        self.keep_made(&step)?;
                    } else {
                        self.tally(node).already += 1;
                    }
                }
                Standing::Not(why) => {
                    out.insert(step.number);
                    self.leave_out(&step, why);
                }
                Standing::AsPlanned => match now.local(topology, &step.step) {
                    Ok(local) => {
                        step.step = step.step.on(&local);
                        todo.push((step, leaves));
                    }
                    Err(why) => {
                        out.insert(step.number);
                        self.leave_out(&step, why);
                    }
                },
            }
        }
        let made = self.write(node, todo)?;
        self.pace(made.len() as u64);
        if self.repairs() && !self.request.dry_run {
            self.window.extend(made);
            if self.window.len() >= LOOKED_AT_TOGETHER {
                self.look_again()?;
            }
        }
        Ok(())
    }

    /// Waits while a link of the node trails. A batch or two never has to.
    fn wait_for_links(&mut self, node: NodeId) {
        let request = self.request;
        if request.dry_run {
            return;
        }
        match &mut self.links {
            None => self.links = Some(LinkWatch::begin(request.topology, request.fencing.watch)),
            Some(links) => {
                links.wait_for(node, request.stop);
            }
        }
    }

    /// Keeps to the rate.
    fn pace(&self, rows: u64) {
        let Some(rate) = self.request.rate.filter(|_| !self.request.dry_run) else { return };
        #[expect(clippy::cast_precision_loss, reason = "a rate")]
        let until = Instant::now() + Duration::from_secs_f64(rows as f64 / rate.max(1) as f64);
        while Instant::now() < until && !(self.request.stop)() {
            std::thread::sleep(Duration::from_millis(20).min(until - Instant::now()));
        }
    }

    /// Behind a fence, takes back what was written while its source changed.
    fn look_again(&mut self) -> Result<(), ReadFault> {
        let window = std::mem::take(&mut self.window);
        if window.is_empty() {
            return Ok(());
        }
        let steps = || window.iter().map(|(step, _)| &step.step);
        let mut now = self.rows_now(&guard::keys(steps()), &tables_of(steps()), true);
        let topology = self.request.topology;
        let mut back: Vec<(NumberedStep, NodeId)> = Vec::new();
        for (step, leaves) in &window {
            if let Some(source) = now.source_moved(&step.step, &leaves.step)
                && let Ok(local) = now.local(topology, &step.step)
            {
                let mut reversed = step.clone();
                reversed.step = step.step.reversed().on(&local);
                back.push((reversed, source));
            }
        }
        // The last write first, node by node.
        back.reverse();
        let nodes: BTreeSet<NodeId> = back.iter().map(|(step, _)| step.step.node).collect();
        for node in nodes {
            let steps: Vec<_> = back.iter().filter(|(step, _)| step.step.node == node).collect();
            let todo = steps.iter().map(|(step, _)| (step.clone(), step.clone())).collect();
            let taken = self.take_back(node, todo)?;
            for (step, source) in steps.iter().filter(|(step, _)| taken.contains(&step.number)) {
                let tally = self.tally(node);
                tally.made -= 1;
                tally.taken_back += 1;
                let why = format!(
                    "the row changed on {} while it was written, and was put back as it was: plan again",
                    topology.nodes[*source].name
                );
                self.note_left_out(step, why, true);
            }
        }
        Ok(())
    }

    /// Compares the rows that were written once more, on all nodes, behind a fence: also those that an earlier run of
    /// the same plan wrote.
    fn prove(&mut self, plan: &mut PlanFile) -> Result<(), ReadFault> {
        if !self.repairs() || self.request.dry_run {
            return Ok(());
        }
        let Some(made) = self.undo.as_ref().map(|undo| undo.made.clone()) else { return Ok(()) };
        if (0..plan.len()).all(|at| plan.setup(at).is_some()) {
            return Ok(());
        }
        let mut proof = Proof { complete: !self.result.stopped, ..Proof::default() };
        let mut known: HashSet<u64> = HashSet::new();
        let mut steps: Vec<Step> = Vec::new();
        for at in 0..plan.len() {
            if self.result.stopped || (self.request.stop)() {
                proof.complete = false;
                break;
            }
            if plan.setup(at).is_some()
                || !plan.place(at).is_some_and(|(number, _)| made.contains(number))
            {
                continue;
            }
            let step = plan.step(self.request.topology, at)?.step;
            let (set, table, key) = name_of(&step);
            let name = format!("{set} {table} {key:?}");
            #[expect(clippy::cast_possible_truncation, reason = "half of it is enough")]
            if known.insert(DigestFunction::Xxh3.digest(name.as_bytes()).0 as u64) {
                steps.push(step);
            }
            if steps.len() >= PROVEN_TOGETHER {
                self.compare(&std::mem::take(&mut steps), &mut proof);
            }
        }
        self.compare(&steps, &mut proof);
        self.result.proof = Some(proof);
        Ok(())
    }

    fn compare(&self, steps: &[Step], proof: &mut Proof) {
        if steps.is_empty() {
            return;
        }
        let names: HashSet<RowName> = steps.iter().map(name_of).collect();
        let mut counts = batch::Differences::of(&names);
        let (keys, tables) = (guard::keys(steps.iter()), tables_of(steps.iter()));
        let request = self.request.look(&keys, &tables);
        let outcome = recheck::run(&request, self.request.fencing, &mut counts);
        proof.rows += names.len() as u64;
        proof.divergent += counts.divergent;
        proof.unsettled += counts.unsettled;
        proof.complete &= counts.complete && !outcome.stopped && outcome.broken.is_none();
    }

    /// Takes leave of the node at hand.
    fn finish(&mut self) {
        let whole = self.result.faults.is_empty() && self.result.broken.is_none();
        if self.request.dry_run || !whole || self.result.stopped {
            return; // the marks are needed to go on
        }
        if self.undo.is_none() {
            return;
        }
        let mark = self.mark(0);
        let nodes: Vec<NodeId> = self.result.nodes.keys().copied().collect();
        for node in nodes {
            let forgotten = self.writer(node).and_then(|writer| writer.forget(mark));
            if let Err(fault) = forgotten {
                tracing::warn!(%fault, "the marks of the batches stay there");
            }
        }
    }
}

/// The tables of some steps, as the sets name them.
fn tables_of<'s>(steps: impl Iterator<Item = &'s Step>) -> Vec<String> {
    let tables: BTreeSet<&String> = steps.map(|step| &step.table).collect();
    tables.into_iter().cloned().collect()
}
