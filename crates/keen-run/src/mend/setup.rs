//! Steps that are not about rows: one at a time, each with its guard read before it and its effect read after it.
//!
//! Nothing here is in a transaction, and need not be: a change takes a value from one state to another, and which of
//! the two a node is in can be read. So a run that ends in the middle of a change leaves behind only the question which
//! it is, and the next one asks it.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::ControlFlow;
use std::time::{Duration, Instant};

use keen_core::audit::merge::{DivergentRow, RowStanding};
use keen_core::fault::ReadFault;
use keen_core::links::fence::{Fence, GoingOn, Waiting};
use keen_core::plan::setup_steps::{SetupAct, SetupStep};
use keen_core::setup::port::{ChangeSetup, LinkPassword};
use keen_core::setup::{ON, SetupChange, SetupCondition, Subject, YES, holds, same_state, told};
use keen_core::topology::node_set::NodeSet;
use keen_core::topology::{Link, NodeId};
use keen_wire::plan::{BatchDocument, BatchState};

use super::plan_file::PlanFile;
use super::{LeftOut, LeftOutOf, MOST_LEFT_OUT, Mender, Proof};
use crate::audit::recheck;
use crate::audit::{AuditRequest, AuditSink, TableHead, TableOutcome, WantedKeys};
use crate::links::{NodeConnections, wait_until};

/// Opens a node to read and change its set-up.
pub type OpenSetup<'a> = dyn Fn(NodeId) -> Result<Box<dyn ChangeSetup>, ReadFault> + 'a;

/// Finds the password by which others follow a node.
pub type LinkPasswords<'a> = dyn Fn(NodeId) -> Result<Option<LinkPassword>, ReadFault> + 'a;

/// Looks at the nodes once more for what these checks find.
pub type FindAgain<'a> = dyn Fn(&[String]) -> Result<FoundAgain, ReadFault> + 'a;

/// The findings of a second look.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FoundAgain {
    /// In sentences.
    pub findings: Vec<String>,
    /// The look saw everything.
    pub saw_all: bool,
}

/// A change is seen to hold within this time, or it does not hold.
const HOLDS_WITHIN: Duration = Duration::from_secs(10);
/// From one look at a link to the next.
const BETWEEN_LOOKS: Duration = Duration::from_millis(500);
/// From one reading to the next.
const BETWEEN_READINGS: Duration = Duration::from_millis(200);

/// What became of the changes of a node's set-up.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct SetupTally {
    /// Changes that were made; in a dry run those that would be.
    pub made: u64,
    /// Changes that an earlier run had made.
    pub made_before: u64,
    /// Values that were as they should be already.
    pub already: u64,
    /// Changes that were not made.
    pub left_out: u64,
    /// Of those that were made: changes that have no way back.
    pub for_good: u64,
}

/// Something that a person has to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HandWork {
    /// The number of the step.
    pub number: u64,
    /// Where.
    pub node: NodeId,
    /// The task, in a sentence.
    pub what: String,
    /// Whether it is done; none if no connection can tell.
    pub is_done: Option<bool>,
    /// What is read instead, while it is not done.
    pub reads: Option<String>,
}

/// What has been settled of the steps that are not about rows.
#[derive(Default)]
pub(super) struct SetupProgress {
    /// The node at hand.
    open: Option<(NodeId, Box<dyn ChangeSetup>)>,
    /// Steps that are done, by whomever.
    done: BTreeSet<u64>,
    /// What would read otherwise by now, in a dry run.
    would: BTreeMap<(NodeId, Subject), Option<String>>,
    /// By the number of a step, the changes and the waits that have to wait for it.
    pub(super) waiting: BTreeMap<u64, Vec<(u64, SetupStep)>>,
}

/// Whether a value reads as it should.
pub(super) enum Reads {
    AsItShould,
    /// The value, and what it reads.
    Otherwise(Subject, Option<String>),
}

impl Reads {
    /// Why a step is not made of which a value reads otherwise.
    pub(super) fn expected(step: &SetupStep, subject: &Subject, state: Option<&str>) -> String {
        let expected = step.guard().into_iter().find(|one| one.subject == *subject);
        let expected = expected.and_then(|condition| condition.is);
        format!(
            "{subject} is {}, and the plan expects {}: plan again",
            told(state),
            told(expected.as_deref())
        )
    }
}

/// Counts the rows that two nodes do not have alike, whatever others have.
struct PairProof {
    node: NodeId,
    other: NodeId,
    proof: Proof,
}

impl PairProof {
    fn is_alike(&self, row: &DivergentRow) -> bool {
        let both = |nodes: &[NodeId]| nodes.contains(&self.node) && nodes.contains(&self.other);
        row.versions.iter().any(|version| both(&version.nodes))
    }
}

impl AuditSink for PairProof {
    fn table(&mut self, _: &TableHead<'_>) -> ControlFlow<()> {
        ControlFlow::Continue(())
    }

    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        self.proof.divergent += u64::from(!self.is_alike(&row));
        ControlFlow::Continue(())
    }

    fn unsettled(&mut self, row: DivergentRow, _: RowStanding) -> ControlFlow<()> {
        self.proof.unsettled += u64::from(!self.is_alike(&row));
        ControlFlow::Continue(())
    }

    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        let ends = [self.node, self.other];
        let rows = ends.iter().filter_map(|node| outcome.tally.balances.get(node));
        self.proof.rows += rows.map(|balance| balance.rows).max().unwrap_or(0);
        self.proof.complete &= !ends.iter().any(|node| outcome.unread.contains_key(node));
        ControlFlow::Continue(())
    }
}

impl Mender<'_, '_> {
    pub(super) fn setup_of(&mut self, node: NodeId) -> Result<&mut dyn ChangeSetup, ReadFault> {
        let there = self.setup.open.as_ref().is_some_and(|(of, _)| *of == node);
        if !there {
            self.setup.open = None;
            self.setup.open = Some((node, (self.request.setup)(node)?));
        }
        match &mut self.setup.open {
            Some((_, open)) => Ok(&mut **open),
            None => Err(ReadFault::interrupted()),
        }
    }

    /// A row is as a step would leave it: what depends on that step may go on.
    pub(super) fn row_is_done(&mut self, number: u64) {
        self.setup.done.insert(number);
    }

    pub(super) fn setup_tally(&mut self, node: NodeId) -> &mut SetupTally {
        self.result.setup.entry(node).or_default()
    }

    /// A step is done, by whomever.
    pub(super) fn setup_is_done(&mut self, number: u64) {
        self.setup.done.insert(number);
    }

    pub(super) fn leave_setup_out(&mut self, number: u64, step: &SetupStep, why: String) {
        self.setup_tally(step.node).left_out += 1;
        if self.result.left_out.len() < MOST_LEFT_OUT {
            let of = match &step.act {
                SetupAct::Change(change) => change.subject.to_string(),
                SetupAct::ByHand { what, .. } => what.clone(),
                SetupAct::Copy(copy) => {
                    format!("copy from {}", self.request.topology.nodes[copy.from].name)
                }
                SetupAct::Wait { .. } | SetupAct::Check { .. } => step.purpose.clone(),
            };
            let of = LeftOutOf::Setup(of);
            self.result.left_out.push(LeftOut {
                number,
                node: step.node,
                of,
                why,
                taken_back: false,
            });
        }
    }

    pub(super) fn read(&mut self, conditions: &[SetupCondition]) -> Result<Reads, ReadFault> {
        for condition in conditions {
            let would = self.setup.would.get(&(condition.node, condition.subject.clone()));
            let state = match condition.subject {
                _ if would.is_some() => would.cloned().flatten(),
                Subject::TopologyFile => Some(self.request.topology.outline()),
                Subject::FencedOff => self.is_fenced(condition.node),
                Subject::Answers => self.answers(condition.node).then(|| YES.to_owned()),
                _ => self.setup_of(condition.node)?.state(&condition.subject)?,
            };
            if !holds(&condition.subject, state.as_deref(), condition.is.as_deref()) {
                return Ok(Reads::Otherwise(condition.subject.clone(), state));
            }
        }
        Ok(Reads::AsItShould)
    }

    /// None if all reads as it should; else what is read instead, if there is more to say of that.
    #[expect(
        clippy::option_option,
        reason = "it reads otherwise, and there is nothing to say of it"
    )]
    fn read_one_by_one(
        &mut self,
        node: NodeId,
        done: &[SetupCondition],
    ) -> Result<Option<Option<String>>, ReadFault> {
        for one in done {
            let name = &self.request.topology.nodes[one.node].name;
            let (subject, state) = match self.read(std::slice::from_ref(one)) {
                Ok(Reads::AsItShould) => continue,
                Ok(Reads::Otherwise(subject, state)) => (subject, state),
                // It is somewhere else that something is to be done.
                Err(fault) if one.node != node && !fault.is_interrupted() => {
                    return Ok(Some(Some(fault.to_string())));
                }
                Err(fault) => return Err(fault),
            };
            return Ok(Some(match subject {
                Subject::Answers => Some(format!("{name} answers")),
                Subject::CleanEnd { .. } => Some(format!(
                    "{name} does not have that end; if it has stopped, start it again, let {name} catch up, and plan again"
                )),
                Subject::StandbyOf => {
                    state.or_else(|| Some(format!("{name} receives from nobody")))
                }
                _ => state,
            }));
        }
        Ok(None)
    }

    /// Somebody answers for it that a node takes no writes any more, and it does not answer itself.
    fn is_fenced(&mut self, node: NodeId) -> Option<String> {
        if !self.request.fenced.contains(node) {
            return None;
        }
        match self.answers(node) {
            true => Some("no: it answers".to_owned()),
            false => Some(YES.to_owned()),
        }
    }

    /// Somebody is there, whether keen is let in or not.
    fn answers(&mut self, node: NodeId) -> bool {
        self.setup.open = None; // what was open may have gone since
        !matches!((self.request.setup)(node), Err(fault) if fault.kind.is_silence())
    }

    /// Carries out a step that is not about a row.
    pub(super) fn set_up(&mut self, number: u64, step: &SetupStep) -> Result<(), ReadFault> {
        let waits_for = step.depends_on.iter().find(|other| !self.is_done(**other)).copied();
        match &step.act {
            SetupAct::Check { .. } if self.request.dry_run || !self.repairs() => {}
            SetupAct::Check { findings, same_as } => {
                if !findings.is_empty() && waits_for.is_none() {
                    self.result.findings_left = Some((self.request.find_again)(findings));
                }
                if let Some(other) = same_as
                    && waits_for.is_none()
                {
                    self.compare_all(step.node, *other);
                }
            }
            SetupAct::ByHand { what, done } => {
                let mut reads = None;
                let is_done = match (waits_for, done.is_empty()) {
                    (Some(_), _) => Some(false),
                    (None, true) => None,
                    // What was seen then need not be so any more, as a primary that was stopped and came back.
                    (None, false)
                        if self.was_waited_for(number) || self.is_waited_for_no_more(number) =>
                    {
                        Some(true)
                    }
                    (None, false) => match self.read_one_by_one(step.node, done) {
                        Ok(None) => Some(true),
                        Ok(Some(now)) => {
                            reads = now;
                            Some(false)
                        }
                        Err(fault) => {
                            self.give_up(step.node, fault);
                            return Ok(());
                        }
                    },
                };
                if is_done == Some(true) {
                    self.setup.done.insert(number);
                }
                if self.request.dry_run {
                    // What comes after it is looked at as it is then.
                    let done = done.iter().cloned();
                    self.setup.would.extend(done.map(|one| ((one.node, one.subject), one.is)));
                }
                let (node, what) = (step.node, what.clone());
                self.result.by_hand.push(HandWork { number, node, what, is_done, reads });
            }
            SetupAct::Change(_) | SetupAct::Copy(_) | SetupAct::Wait { .. }
                if waits_for.is_some() =>
            {
                let other = waits_for.unwrap_or_default();
                let why = format!("step {other}, which has to be done before it, is not");
                self.leave_setup_out(number, step, why);
            }
            SetupAct::Change(change) => self.change(number, step, change)?,
            SetupAct::Copy(copy) => self.copy(number, step, copy)?,
            SetupAct::Wait { from, at_most } => {
                let arrived = match self.request.dry_run || self.is_waited_for_no_more(number) {
                    true => Ok(()),
                    false => {
                        let may_be_gone = self.was_waited_for(number);
                        self.arrival((*from, step.node), *at_most, may_be_gone)
                    }
                };
                match arrived {
                    Ok(()) => drop(self.setup.done.insert(number)),
                    Err(why) => self.leave_setup_out(number, step, why),
                }
            }
        }
        Ok(())
    }

    /// Some of what had to wait for it, by way of other waits, too, was made by an earlier run: so it was done then.
    fn was_waited_for(&self, number: u64) -> bool {
        let Some(undo) = &self.undo else { return false };
        let mut waiting = self.setup.waiting.get(&number).into_iter().flatten();
        waiting.any(|(other, step)| match step.act {
            SetupAct::Wait { .. } => self.was_waited_for(*other),
            _ => undo.made.contains(*other),
        })
    }

    /// All that had to wait for it is done already, as a link that is taken away after it has delivered.
    fn is_waited_for_no_more(&mut self, number: u64) -> bool {
        let waiting = self.setup.waiting.get(&number).cloned().unwrap_or_default();
        let changes = |(_, step): &(u64, SetupStep)| matches!(step.act, SetupAct::Change(_));
        let waiting: Vec<(u64, SetupStep)> = waiting.into_iter().filter(changes).collect();
        let is_done = |(other, step): (u64, SetupStep)| {
            self.is_done(other) || matches!(self.read(&step.done()), Ok(Reads::AsItShould))
        };
        !waiting.is_empty() && waiting.into_iter().all(is_done)
    }

    /// Compares all tables of two nodes.
    fn compare_all(&mut self, node: NodeId, other: NodeId) {
        let request = self.request;
        let keys = WantedKeys::new();
        // What others have not passed on yet can be told only if they are looked at, too.
        let audit = AuditRequest { nodes: NodeSet::ALL, ..request.look(&keys, &[]) };
        let proof = Proof { complete: true, ..Proof::default() };
        let mut pair = PairProof { node, other, proof };
        let outcome = recheck::run(&audit, request.fencing, &mut pair);
        let mut proof = pair.proof;
        proof.complete &= !outcome.stopped && outcome.broken.is_none();
        self.result.alike.push((node, other, proof));
    }

    fn is_done(&self, number: u64) -> bool {
        if self.request.dry_run {
            // Nothing is kept: what was not left out would be done by now.
            return !self.result.left_out.iter().any(|left| left.number == number);
        }
        let made = self.undo.as_ref().is_some_and(|undo| undo.made.contains(number));
        made || self.setup.done.contains(&number)
    }

    /// Waits until a node has what another had written by now. Where that was waited for before, the link may be gone.
    ///
    /// # Errors
    /// Why it has not.
    pub(super) fn arrival(
        &self,
        (from, to): (NodeId, NodeId),
        at_most: Duration,
        may_be_gone: bool,
    ) -> Result<(), String> {
        let mut topology = self.request.topology.clone();
        if !topology.links.iter().any(|link| (link.from, link.to) == (from, to)) {
            // One that the plan makes and the file is still to declare, or that it takes away and nobody declared.
            let carries = (0..topology.sets.len()).collect();
            topology.links.push(Link { from, to, carries, delay: None });
        }
        let topology = &topology;
        let name = |node: NodeId| &topology.nodes[node].name;
        // Of what leads to a node it is not always seen from where it comes: the others' slots tell.
        let (mut connections, first) =
            NodeConnections::begin(topology, NodeSet::ALL, self.request.fencing.watch);
        let fence = Fence::at(&first);
        let failures = |waiting: &Waiting| waiting.inflow.link.failures.unwrap_or(0);
        let mut failed_before: Option<u64> = None;
        let began = Instant::now();
        loop {
            wait_until(Instant::now(), BETWEEN_LOOKS, self.request.stop);
            let passing = fence.passing(topology, &connections.again());
            if passing.passed.contains(&(from, to)) {
                return Ok(());
            }
            if let Some(waiting) = passing.waiting.get(&(from, to)) {
                let before = *failed_before.get_or_insert(failures(waiting));
                let again = match waiting.stopped_at_a_write() {
                    Some(GoingOn::By(_)) => true,
                    // It was about to try when it was looked at first.
                    Some(GoingOn::Itself) => failures(waiting) > before + 1,
                    None => false,
                };
                if again {
                    let (from, to) = (name(from), name(to));
                    return Err(format!(
                        "{from} -> {to} stopped once more, at another write: plan again"
                    ));
                }
            }
            if passing.absent.contains(&(from, to)) && may_be_gone {
                return Ok(());
            }
            if passing.absent.contains(&(from, to)) && began.elapsed() >= HOLDS_WITHIN {
                let (from, to) = (name(from), name(to));
                return Err(format!("{to} knows of no link from {from}"));
            }
            if began.elapsed() >= at_most || (self.request.stop)() {
                let why = match passing.untold.get(&(from, to)) {
                    Some(fault) => Some(fault.to_string()),
                    None if passing.dark.contains(&(from, to)) => {
                        Some("one of them does not answer".to_owned())
                    }
                    None => None,
                };
                let (from, to, seconds) = (name(from), name(to), began.elapsed().as_secs());
                let stands = format!("keen flow says where {from} -> {to} stands");
                return Err(match why {
                    Some(why) => {
                        format!(
                            "whether {to} has it is not known after {seconds} s: {why}; {stands}"
                        )
                    }
                    None => format!("{to} does not have it after {seconds} s: {stands}"),
                });
            }
        }
    }

    /// The next batch, of one step that is not about a row.
    pub(super) fn batch_of(&self, number: u64, node: NodeId, state: BatchState) -> BatchDocument {
        BatchDocument {
            run: self.mark(0).run,
            batch: self.undo.as_ref().map_or(1, |undo| u64::from(undo.last_batch) + 1),
            node: self.request.topology.nodes[node].name.clone(),
            state,
            steps: vec![number],
            transaction: None,
            moment: None,
        }
    }

    /// The rest of the node has to wait; others go on.
    pub(super) fn give_up(&mut self, node: NodeId, fault: ReadFault) {
        self.setup.open = None;
        self.result.faults.insert(node, fault);
    }

    fn make_change(&mut self, node: NodeId, change: &SetupChange) -> Result<(), ReadFault> {
        let Subject::NewLink(new) = &change.subject else {
            return self.setup_of(node)?.change(change);
        };
        let unknown = || ReadFault::new(format!("there is no node {}", new.from), "plan again");
        let from = self.request.topology.node(&new.from).ok_or_else(unknown)?;
        let password = match new.login() {
            Some(_) => (self.request.link_password)(from)?,
            None => None,
        };
        self.setup_of(node)?.make_link(change, password.as_ref())
    }

    /// Reads whether a change may be made.
    fn read_guard(&mut self, step: &SetupStep, change: &SetupChange) -> Result<Reads, ReadFault> {
        let is_slot = matches!(change.subject, Subject::Slot { .. });
        let is_switch = matches!(change.subject, Subject::LinkSwitch { .. });
        let began = Instant::now();
        loop {
            let reads = self.read(&step.guard())?;
            let waits = is_slot || is_switch && self.request.dry_run;
            if !waits || matches!(reads, Reads::AsItShould) {
                return Ok(reads);
            }
            // Its reader goes, or it is made, with a step before, which a dry run does not make.
            if self.request.dry_run && !step.depends_on.is_empty() {
                return Ok(Reads::AsItShould);
            }
            // A sender notices a little later that its reader is gone.
            if began.elapsed() >= HOLDS_WITHIN {
                return Ok(reads);
            }
            std::thread::sleep(BETWEEN_READINGS);
        }
    }

    fn change(
        &mut self,
        number: u64,
        step: &SetupStep,
        change: &SetupChange,
    ) -> Result<(), ReadFault> {
        let node = step.node;
        let looked = match self.read(&step.done()) {
            Ok(Reads::AsItShould) => {
                self.setup_tally(node).already += 1;
                self.setup.done.insert(number);
                return Ok(());
            }
            Ok(Reads::Otherwise(..)) => self.read_guard(step, change),
            Err(fault) => Err(fault),
        };
        match looked {
            Ok(Reads::AsItShould) => {}
            Ok(Reads::Otherwise(subject, state)) => {
                let why = Reads::expected(step, &subject, state.as_deref());
                self.leave_setup_out(number, step, why);
                return Ok(());
            }
            Err(fault) => {
                self.give_up(node, fault);
                return Ok(());
            }
        }
        if self.request.dry_run {
            match self.setup_of(node).and_then(|open| open.lacks(&change.subject)) {
                Ok(None) => {
                    self.setup_tally(node).made += 1;
                    self.setup.done.insert(number);
                    let of = (node, change.subject.clone());
                    self.setup.would.insert(of, change.after.clone());
                }
                Ok(Some(right)) => {
                    let name = &self.request.topology.nodes[node].name;
                    let why = format!("the account on {name} lacks {right}");
                    self.leave_setup_out(number, step, why);
                }
                Err(fault) => self.give_up(node, fault),
            }
            return Ok(());
        }
        let state = if self.repairs() { BatchState::Ready } else { BatchState::Undoing };
        let batch = self.batch_of(number, node, state);
        if let Some(undo) = &mut self.undo {
            undo.keep(batch.clone())?;
        }
        let tried = self.make_change(node, change);
        if tried.is_err() {
            self.setup.open = None; // whatever state the session is in
        }
        let holds = self.settle(step, change, tried.is_ok()).map_err(|fault| ReadFault {
            advice: match change.pauses.is_empty() {
                true => fault.advice.clone(),
                false => format!(
                    "links {} may be switched off: the same command switches them on",
                    change.pauses.join(", ")
                ),
            },
            ..fault
        })?;
        self.keep_outcome(batch, holds)?;
        if holds {
            let for_good = u64::from(step.reversed().is_none());
            let tally = self.setup_tally(node);
            tally.made += 1;
            tally.for_good += for_good;
            self.setup.done.insert(number);
        } else {
            let why = match tried {
                Err(fault) => fault.to_string(),
                Ok(()) => format!(
                    "it was made, and {} does not hold it",
                    self.request.topology.nodes[node].name
                ),
            };
            self.leave_setup_out(number, step, why);
        }
        Ok(())
    }

    /// Waits until a change that was tried holds. Links that were switched off for it are switched on again whatever
    /// came of it.
    fn settle(
        &mut self,
        step: &SetupStep,
        change: &SetupChange,
        was_taken: bool,
    ) -> Result<bool, ReadFault> {
        let passes_over = matches!(change.subject, Subject::PassedCommit { .. });
        // A subscription that keeps trying does so every five seconds.
        let slow = passes_over && was_taken;
        let within = if slow { 2 * HOLDS_WITHIN } else { HOLDS_WITHIN };
        let began = Instant::now();
        let holds = loop {
            let state = self.setup_of(step.node)?.state(&change.subject)?;
            let holds = holds(&change.subject, state.as_deref(), change.after.as_deref());
            // What reads as before was refused; of anything else nobody knows yet.
            let refused = same_state(state.as_deref(), change.before.as_deref()) && !slow;
            if holds || refused && began.elapsed() >= BETWEEN_READINGS {
                break holds;
            }
            if began.elapsed() >= within {
                break false;
            }
            std::thread::sleep(BETWEEN_READINGS);
        };
        if passes_over && !holds {
            // Else it would pass over the transaction later, when nobody expects it any more.
            self.setup_of(step.node)?.change(&change.reversed())?;
        }
        let mut off: Vec<&String> = change.pauses.iter().collect();
        if let Subject::AppliedOfDomain { stops, .. } = &change.subject {
            off.extend(stops); // whatever came of it, they fetch as before
        }
        for link in off {
            let subject = Subject::LinkSwitch { link: link.clone() };
            let open = self.setup_of(step.node)?;
            if open.state(&subject)?.as_deref() != Some(ON) {
                open.change(&SetupChange::to(subject, ON))?;
            }
        }
        Ok(holds)
    }

    /// Reads what became of a change that a run was about to make when it ended. False if it is about rows.
    pub(super) fn settle_setup(
        &mut self,
        plan: &PlanFile,
        unsure: &BatchDocument,
    ) -> Result<bool, ReadFault> {
        let at = (0..plan.len())
            .find(|at| plan.place(*at).is_some_and(|(number, _)| unsure.steps.contains(&number)));
        let Some(step) = at.and_then(|at| plan.setup(at)).cloned() else { return Ok(false) };
        if let SetupAct::Copy(copy) = &step.act {
            self.settle_copy(&step, copy, unsure)?;
        }
        if let SetupAct::Change(change) = &step.act {
            // In the file that takes a plan back, its steps stand turned round.
            let undoes = plan.start.undoes.is_some();
            let was_undone = unsure.state == BatchState::Undoing;
            let tried = if undoes == was_undone { change.clone() } else { change.reversed() };
            // A connection that was stopped for it delivers nothing any more: whoever waited for that waits in vain.
            if matches!(tried.subject, Subject::Link { .. })
                && matches!(self.read(&step.guard())?, Reads::AsItShould)
            {
                self.setup_of(step.node)?.change(&tried)?;
            }
            let holds = self.settle(&step, &tried, true)?;
            self.keep_outcome(unsure.clone(), holds)?;
        }
        Ok(true)
    }
}
