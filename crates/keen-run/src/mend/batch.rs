//! A batch: steps of one node that are written in one transaction.

use std::collections::HashSet;
use std::ops::ControlFlow;

use keen_core::audit::merge::{DivergentRow, RowStanding};
use keen_core::fault::ReadFault;
use keen_core::plan::Step;
use keen_core::plan::port::WriteFault;
use keen_core::topology::{NodeId, SetId};
use keen_core::value::Value;
use keen_wire::plan::{BatchDocument, BatchState};

use super::Mender;
use super::guard::RowName;
use super::plan_file::NumberedStep;
use crate::audit::{AuditSink, TableHead, TableOutcome};

/// How often a batch is tried again when somebody else holds a lock.
const LOCK_TRIES: u32 = 3;

/// Steps of one node that are to be written together.
#[derive(Debug, Default)]
pub(super) struct Batch {
    steps: Vec<NumberedStep>,
    bytes: usize,
    /// Halves whose other half has not come yet.
    open: HashSet<u64>,
}

/// A step of a batch.
pub(super) struct BatchStep {
    pub(super) step: NumberedStep,
    /// Of a write that is made in two, the half that puts the row back.
    back: Option<NumberedStep>,
    /// It is that half.
    pub(super) is_back: bool,
    /// The other half is not in the batch.
    pub(super) is_half: bool,
}

impl BatchStep {
    /// The step that tells what is left in the end.
    pub(super) fn leaves(&self) -> &NumberedStep {
        self.back.as_ref().unwrap_or(&self.step)
    }
}

fn bytes_of(row: &[Value]) -> usize {
    let cell = |value: &Value| match value {
        Value::Text(bytes) | Value::Bytes(bytes) => bytes.len(),
        Value::Json(text) => text.len(),
        _ => 0,
    };
    row.iter().map(|value| 32 + cell(value)).sum()
}

impl Batch {
    pub(super) fn node(&self) -> Option<NodeId> {
        self.steps.first().map(|step| step.step.node)
    }

    /// It takes no more. Halves of one write are kept together, whatever that takes.
    pub(super) fn is_full(&self, steps: usize, bytes: usize) -> bool {
        self.open.is_empty() && (self.steps.len() >= steps.max(1) || self.bytes >= bytes)
    }

    /// A step does not go with it: it is of another node, or one of them is written to what rolls nothing back.
    pub(super) fn is_of_another(&self, step: &NumberedStep) -> bool {
        let alone = |step: &NumberedStep| step.step.kept_by.is_some();
        self.steps
            .last()
            .is_some_and(|last| last.step.node != step.step.node || alone(last) || alone(step))
    }

    pub(super) fn push(&mut self, step: NumberedStep) {
        if let Some(half) = step.half_of
            && !self.open.remove(&step.number)
        {
            self.open.insert(half);
        }
        let rows = [step.step.before(), step.step.after()];
        self.bytes += rows.into_iter().flatten().map(|row| bytes_of(row)).sum::<usize>();
        self.steps.push(step);
    }

    pub(super) fn steps(&self) -> impl Iterator<Item = &Step> {
        self.steps.iter().map(|step| &step.step)
    }

    pub(super) fn tables(&self) -> Vec<String> {
        super::tables_of(self.steps())
    }

    pub(super) fn into_steps(self) -> Vec<BatchStep> {
        let place = |number: u64| self.steps.iter().position(|step| step.number == number);
        let half = |at: usize, step: &NumberedStep| {
            let half = step.half_of?;
            let other = place(half).filter(|other| self.steps[*other].half_of == Some(step.number));
            Some(other.map(|other| (other > at).then(|| self.steps[other].clone())))
        };
        let halves: Vec<_> =
            self.steps.iter().enumerate().map(|(at, step)| half(at, step)).collect();
        let steps = self.steps.into_iter().zip(halves);
        let told = |(step, half): (NumberedStep, Option<Option<Option<NumberedStep>>>)| match half {
            None => BatchStep { step, back: None, is_back: false, is_half: false },
            Some(None) => BatchStep { step, back: None, is_back: false, is_half: true },
            Some(Some(back)) => {
                let is_back = back.is_none();
                BatchStep { step, back, is_back, is_half: false }
            }
        };
        steps.map(told).collect()
    }
}

/// Steps to write, each with the one that tells what is left in the end.
type Todo = Vec<(NumberedStep, NumberedStep)>;

/// What came of one try.
enum Tried {
    /// These were made.
    Made(Vec<u64>),
    /// These are to be left out, and the batch tried again without them.
    Without(Vec<(u64, String)>),
    /// Somebody else holds a lock, at this step.
    Locked(u64, ReadFault),
}

impl Mender<'_, '_> {
    /// Writes steps of a node in one transaction. Those that were made.
    pub(super) fn write(&mut self, node: NodeId, todo: Todo) -> Result<Todo, ReadFault> {
        let state = if self.repairs() { BatchState::Ready } else { BatchState::Undoing };
        let made = self.write_as(node, todo, state)?;
        self.tally(node).made += made.len() as u64;
        Ok(made)
    }

    /// Takes steps back that this run has made. The numbers of those that were taken back.
    pub(super) fn take_back(
        &mut self,
        node: NodeId,
        todo: Todo,
    ) -> Result<HashSet<u64>, ReadFault> {
        let before = (self.result.left_out.len(), self.tally(node).left_out);
        let made = self.write_as(node, todo, BatchState::Undoing)?;
        // A row that somebody wrote since is nothing to tell: it is compared in the end.
        self.result.left_out.truncate(before.0);
        self.tally(node).left_out = before.1;
        Ok(made.into_iter().map(|(step, _)| step.number).collect())
    }

    fn write_as(
        &mut self,
        node: NodeId,
        mut todo: Todo,
        state: BatchState,
    ) -> Result<Todo, ReadFault> {
        let mut tries = 0;
        while !todo.is_empty() {
            let number = self.undo.as_ref().map_or(1, |undo| u64::from(undo.last_batch) + 1);
            let tried = match self.try_batch(node, &todo, (number, state)) {
                Ok(tried) => tried,
                Err(fault) if fault.is_interrupted() => return Err(fault),
                Err(fault) => {
                    // The rest of the node has to wait; others go on.
                    self.writer = None;
                    if let Some(undo) = &self.undo
                        && (undo.unsure.is_some() || undo.broken)
                    {
                        return Err(fault); // nothing may be written until it is known what was kept
                    }
                    self.result.faults.insert(node, fault);
                    return Ok(Vec::new());
                }
            };
            match tried {
                Tried::Made(numbers) => {
                    let made: HashSet<u64> = numbers.into_iter().collect();
                    todo.retain(|(step, _)| made.contains(&step.number));
                    return Ok(todo);
                }
                Tried::Without(steps) => self.drop_from(&mut todo, steps),
                Tried::Locked(..) if tries < LOCK_TRIES => tries += 1,
                Tried::Locked(number, fault) => {
                    self.drop_from(&mut todo, vec![(number, fault.to_string())]);
                }
            }
        }
        Ok(todo)
    }

    /// Leaves steps out of a batch, and with each the other half of its write.
    fn drop_from(&mut self, todo: &mut Todo, steps: Vec<(u64, String)>) {
        for (number, why) in steps {
            let Some(at) = todo.iter().position(|(step, _)| step.number == number) else {
                continue;
            };
            let (step, _) = todo.remove(at);
            if let Some(half) = step.half_of
                && let Some(at) = todo.iter().position(|(other, _)| other.number == half)
            {
                let (other, _) = todo.remove(at);
                self.leave_out(&other, "the other half of the write is left out".to_owned());
            }
            self.leave_out(&step, why);
        }
    }

    /// Tries to write a batch. On an error the node cannot be written to.
    fn try_batch(
        &mut self,
        node: NodeId,
        todo: &Todo,
        (number, state): (u64, BatchState),
    ) -> Result<Tried, ReadFault> {
        let dry_run = self.request.dry_run;
        let mark = (!dry_run).then(|| self.mark(number));
        let name = self.request.topology.nodes[node].name.clone();
        let run = self.mark(number).run;
        let batch = |state, steps| BatchDocument {
            run,
            batch: number,
            node: name.clone(),
            state,
            steps,
            transaction: None,
            moment: None,
        };
        // What rolls nothing back is told before it is written.
        let alone = todo.iter().any(|(step, _)| step.step.kept_by.is_some());
        if alone && dry_run {
            return Ok(Tried::Made(todo.iter().map(|(step, _)| step.number).collect()));
        }
        if alone && let Some(undo) = &mut self.undo {
            undo.keep(batch(state, todo.iter().map(|(step, _)| step.number).collect()))?;
        }
        let begun = self.writer(node)?.begin(mark);
        if let Err(fault) = begun {
            if alone {
                self.drop_batch(&batch, todo)?;
            }
            return Err(fault);
        }
        let mut made: Vec<u64> = Vec::new();
        let mut out: Vec<(u64, String)> = Vec::new();
        for (step, _) in todo {
            let expected = step.step.write_and_undo().0.changes;
            match self.writer(node)?.write(&step.step) {
                Ok(rows) if rows == expected => made.push(step.number),
                Ok(0) => out.push((
                    step.number,
                    "the row changed at the moment it was to be written".to_owned(),
                )),
                Ok(rows) => {
                    let why = format!("the write would change {rows} rows, not {expected}");
                    out.push((step.number, why));
                    self.writer(node)?.roll_back()?;
                    return self.dropped(&batch, alone, todo, Tried::Without(out));
                }
                Err(fault) => {
                    drop(self.writer(node)?.roll_back());
                    return match fault {
                        WriteFault::Refused(fault) => {
                            out.push((step.number, fault.to_string()));
                            self.dropped(&batch, alone, todo, Tried::Without(out))
                        }
                        WriteFault::Locked(fault) => {
                            let locked = Tried::Locked(step.number, fault);
                            self.dropped(&batch, alone, todo, locked)
                        }
                        WriteFault::Lost(fault) => {
                            if alone {
                                self.drop_batch(&batch, todo)?;
                            }
                            Err(fault)
                        }
                    };
                }
            }
        }
        let written: Vec<&(NumberedStep, NumberedStep)> =
            todo.iter().filter(|(step, _)| made.contains(&step.number)).collect();
        let steps: Vec<&Step> = written.iter().map(|(step, _)| &step.step).collect();
        let dangling = self.writer(node)?.dangling(&steps)?;
        out.extend(dangling.into_iter().map(|(at, say)| (written[at].0.number, say)));
        let halved = out.iter().any(|(number, _)| {
            todo.iter().any(|(step, _)| step.number == *number && step.half_of.is_some())
        });
        let undone = out.iter().any(|(number, _)| made.contains(number));
        if undone || halved || made.is_empty() {
            self.writer(node)?.roll_back()?;
            return self.dropped(&batch, alone, todo, Tried::Without(out));
        }
        if dry_run {
            self.writer(node)?.roll_back()?;
            if !out.is_empty() {
                return Ok(Tried::Without(out));
            }
            return Ok(Tried::Made(made));
        }
        let transaction = self.writer(node)?.transaction()?;
        if let Some(undo) = &mut self.undo
            && !alone
        {
            let ready = batch(state, made.clone());
            undo.keep(BatchDocument { transaction: transaction.clone(), ..ready })?;
        }
        for (number, why) in out {
            if let Some((step, _)) = todo.iter().find(|(step, _)| step.number == number) {
                self.leave_out(step, why);
            }
        }
        if let Err(fault) = self.writer(node)?.commit() {
            // Whether it was kept, another session can tell.
            tracing::warn!(%fault, "it is not known whether a batch was kept: asking again");
            self.writer = None;
            let mark = self.mark(number);
            let told = self
                .writer(node)
                .and_then(|writer| writer.was_kept(mark, transaction.as_deref()))
                .map_err(|fault| {
                    unsure(fault, &self.request.topology.nodes[node].name, made.len())
                })?;
            let kept = told == Some(true);
            self.keep_outcome(batch(state, made.clone()), kept)?;
            return if kept { Ok(Tried::Made(made)) } else { Err(fault) };
        }
        self.keep_outcome(batch(state, made.clone()), true)?;
        Ok(Tried::Made(made))
    }

    fn dropped(
        &mut self,
        batch: &dyn Fn(BatchState, Vec<u64>) -> BatchDocument,
        alone: bool,
        todo: &Todo,
        tried: Tried,
    ) -> Result<Tried, ReadFault> {
        if alone {
            self.drop_batch(batch, todo)?;
        }
        Ok(tried)
    }

    fn drop_batch(
        &mut self,
        batch: &dyn Fn(BatchState, Vec<u64>) -> BatchDocument,
        todo: &Todo,
    ) -> Result<(), ReadFault> {
        let steps = todo.iter().map(|(step, _)| step.number).collect();
        self.keep_outcome(batch(BatchState::Ready, steps), false)
    }

    /// Keeps what became of a batch.
    pub(super) fn keep_outcome(
        &mut self,
        batch: BatchDocument,
        kept: bool,
    ) -> Result<(), ReadFault> {
        let state = match (kept, batch.state) {
            (false, _) => BatchState::Dropped,
            (true, BatchState::Undoing) => BatchState::Undone,
            (true, _) => BatchState::Done,
        };
        match &mut self.undo {
            Some(undo) => undo.keep(BatchDocument { state, ..batch }),
            None => Ok(()),
        }
    }

    /// Keeps that a step was made by a run that was killed before it could say so.
    pub(super) fn keep_made(&mut self, step: &NumberedStep) -> Result<(), ReadFault> {
        let node = step.step.node;
        self.tally(node).made_before += 1;
        let name = self.request.topology.nodes[node].name.clone();
        let number = self.undo.as_ref().map_or(1, |undo| u64::from(undo.last_batch) + 1);
        let steps = vec![step.number];
        let state = BatchState::Ready;
        let run = self.mark(number).run;
        self.keep_outcome(
            BatchDocument {
                run,
                batch: number,
                node: name,
                state,
                steps,
                transaction: None,
                moment: None,
            },
            true,
        )
    }
}

/// Counts, of some rows, those that differ.
pub(super) struct Differences<'a> {
    pub(super) names: &'a HashSet<RowName>,
    pub(super) divergent: u64,
    pub(super) unsettled: u64,
    pub(super) complete: bool,
    at: Option<(SetId, String)>,
}

impl<'a> Differences<'a> {
    pub(super) fn of(names: &'a HashSet<RowName>) -> Self {
        Self { names, divergent: 0, unsettled: 0, complete: true, at: None }
    }

    fn is_meant(&self, row: &DivergentRow) -> bool {
        self.at.as_ref().is_some_and(|(set, table)| {
            self.names.contains(&super::guard::name_of_found(*set, table, row))
        })
    }
}

impl AuditSink for Differences<'_> {
    fn table(&mut self, head: &TableHead<'_>) -> ControlFlow<()> {
        self.at = Some((head.set, head.table.to_owned()));
        ControlFlow::Continue(())
    }

    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        self.divergent += u64::from(self.is_meant(&row));
        ControlFlow::Continue(())
    }

    fn unsettled(&mut self, row: DivergentRow, _: RowStanding) -> ControlFlow<()> {
        self.unsettled += u64::from(self.is_meant(&row));
        ControlFlow::Continue(())
    }

    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        self.complete &= outcome.unread.is_empty();
        ControlFlow::Continue(())
    }
}

/// The fault where a server no longer tells what became of a batch.
fn unsure(fault: ReadFault, node: &str, rows: usize) -> ReadFault {
    let rows = if rows == 1 { "1 row".to_owned() } else { format!("{rows} rows") };
    let what = format!(
        "whether the last batch, of {rows} on {node}, was written is not known: {}",
        fault.what
    );
    ReadFault { what, ..fault }
}
