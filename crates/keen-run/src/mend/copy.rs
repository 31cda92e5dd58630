//! Filling a node from another: its links off, its tables locked, the source's moment, what only it held put aside, the
//! rows, and its links on again from that moment.
//!
//! The rows and the mark that they are there commit together. So a run that ends anywhere leaves the node as it was, or
//! as its source was at the moment; the place where its links go on is kept on disk before the commit, and the next run
//! finds out which of the two it is, and does the rest.

use std::path::PathBuf;
use std::sync::mpsc;
use std::time::{Duration, Instant};

use keen_core::fault::ReadFault;
use keen_core::observe::position::Position;
use keen_core::plan::copy::{
    CopyMoment, GiveCopy, RowChunk, SourceFollows, TableCopy, TakeCopy, copied_columns, place_after,
};
use keen_core::plan::port::BatchMark;
use keen_core::plan::setup_steps::SetupStep;
use keen_core::setup::{OFF, ON, SetupChange, Subject, holds};
use keen_core::topology::{Engine, NodeId};
use keen_wire::plan::{BatchDocument, BatchState, MomentDocument};

use super::Mender;
use super::aside;
use super::setup::Reads;

/// Opens a node to copy its tables from it.
pub type OpenGiver<'a> = dyn Fn(NodeId) -> Result<Box<dyn GiveCopy + Send>, ReadFault> + 'a;

/// Opens a node to copy tables to it.
pub type OpenTaker<'a> = dyn Fn(NodeId) -> Result<Box<dyn TakeCopy>, ReadFault> + 'a;

/// Tables that were copied.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CopiedRows {
    /// The number of the step.
    pub number: u64,
    /// The node that took them.
    pub node: NodeId,
    /// The source.
    pub from: NodeId,
    /// How many tables.
    pub tables: u64,
    /// How many rows.
    pub rows: u64,
    /// Rows that only the node held, or held otherwise, and the file that keeps them; none if there were none.
    pub aside: Option<(u64, PathBuf)>,
}

/// Chunks of rows that are under way between the two nodes.
const CHUNKS: usize = 4;
/// How long a link may take to let go, and a slot to be free.
const LETS_GO_WITHIN: Duration = Duration::from_secs(20);
/// From one try to the next.
const BETWEEN_TRIES: Duration = Duration::from_millis(200);
/// How long is waited until others have what a node wrote.
const ARRIVES_WITHIN: Duration = Duration::from_secs(60);

/// Tables that were filled and not kept yet.
struct Filled {
    moment: MomentDocument,
    rows: u64,
    aside: Option<(u64, PathBuf)>,
}

/// Why a copy did not come to its end.
enum CopyFault {
    /// Nothing of it is there.
    NotMade(String),
    /// It is there, or nobody knows, and something is left to be done.
    Unfinished(ReadFault),
}

impl From<ReadFault> for CopyFault {
    fn from(fault: ReadFault) -> Self {
        Self::NotMade(fault.to_string())
    }
}

impl Mender<'_, '_> {
    /// Carries out a copy.
    pub(super) fn copy(
        &mut self,
        number: u64,
        step: &SetupStep,
        copy: &TableCopy,
    ) -> Result<(), ReadFault> {
        let node = step.node;
        match self.may_copy(step, copy) {
            Ok(None) => {}
            Ok(Some(why)) => {
                self.leave_setup_out(number, step, why);
                return Ok(());
            }
            Err(fault) => {
                self.give_up(node, fault);
                return Ok(());
            }
        }
        if self.request.dry_run {
            self.setup_tally(node).made += 1;
            self.setup_is_done(number);
            return Ok(());
        }
        let batch = self.batch_of(number, node, BatchState::Ready);
        if let Some(undo) = &mut self.undo {
            undo.keep(batch.clone())?;
        }
        match self.try_copy(number, step, copy, &batch) {
            Ok(copied) => {
                self.copy_is_kept(copy, &batch, node)?;
                self.result.copies.push(copied);
                self.setup_tally(node).made += 1;
                self.setup_is_done(number);
                Ok(())
            }
            Err(CopyFault::NotMade(why)) => {
                self.copy_is_dropped(node, copy, batch)?;
                self.leave_setup_out(number, step, why);
                if (self.request.stop)() { Err(ReadFault::interrupted()) } else { Ok(()) }
            }
            Err(CopyFault::Unfinished(fault)) => Err(fault),
        }
    }

    /// Why it may not be made, if so.
    fn may_copy(
        &mut self,
        step: &SetupStep,
        copy: &TableCopy,
    ) -> Result<Option<String>, ReadFault> {
        for condition in step.guard() {
            // A link that stopped at something tries now and then: what counts is whether somebody switched it off.
            let state = self.setup_of(condition.node)?.state(&condition.subject)?;
            let is_off = |state: Option<&str>| state.map(|state| state == OFF);
            // A dry run does not make the links that the plan makes before.
            if state.is_none() && self.request.dry_run && !step.depends_on.is_empty() {
                continue;
            }
            if is_off(state.as_deref()) != is_off(condition.is.as_deref()) {
                let why = Reads::expected(step, &condition.subject, state.as_deref());
                return Ok(Some(why));
            }
        }
        for (link, slot) in copy.links.iter().filter_map(|link| Some((link, link.slot.as_ref()?))) {
            let subject = Subject::SlotPlace { slot: slot.name.clone() };
            let there = self.setup_of(link.from)?.state(&subject)?.is_some();
            if there != slot.usable {
                let is = if there { "is there again" } else { "is no longer usable" };
                return Ok(Some(format!("slot {} {is}: plan again", slot.name)));
            }
        }
        if let Some(lacks) = self.lacks(step.node, copy)? {
            return Ok(Some(lacks));
        }
        let early = self.request.dry_run && !step.depends_on.is_empty();
        if let Some(subject) = self.applied_position(step.node, copy).filter(|_| !early)
            && let Err(fault) = self.setup_of(step.node)?.state(&subject)
        {
            return Ok(Some(fault.to_string()));
        }
        let topology = self.request.topology;
        let mut shapes = Vec::new();
        for node in [copy.from, step.node] {
            let mut open = (self.request.open)(node)?;
            let name = |table: &str| topology.nodes[node].name_of(table).to_owned();
            let of_node: Result<Vec<_>, _> =
                copy.tables.iter().map(|copied| open.shape(&name(&copied.table))).collect();
            shapes.push(of_node?);
        }
        for (at, copied) in copy.tables.iter().enumerate() {
            let columns = copied_columns(&shapes[0][at], &shapes[1][at]);
            if columns.as_ref() != Ok(&copied.columns) {
                let why = columns.err().unwrap_or_else(|| "it has other columns".to_owned());
                return Ok(Some(format!(
                    "{} is no longer as the plan has it ({why}): plan again",
                    copied.table
                )));
            }
        }
        Ok(None)
    }

    /// A right that would be lacking once the rows are there, if one is known.
    fn lacks(&mut self, node: NodeId, copy: &TableCopy) -> Result<Option<String>, ReadFault> {
        let mut needed: Vec<(NodeId, Subject)> = Vec::new();
        for link in &copy.links {
            needed.push((node, Subject::LinkSwitch { link: link.link.clone() }));
            match &link.slot {
                Some(slot) => {
                    needed.push((link.from, Subject::SlotPlace { slot: slot.name.clone() }));
                }
                None => needed.push((node, Subject::AppliedPosition { links: Vec::new() })),
            }
        }
        for (at, subject) in needed {
            if let Some(right) = self.setup_of(at)?.lacks(&subject)? {
                let node = &self.request.topology.nodes[at].name;
                return Ok(Some(format!(
                    "the account that carries plans out on {node} lacks a right for {subject}: {right}"
                )));
            }
        }
        Ok(None)
    }

    fn try_copy(
        &mut self,
        number: u64,
        step: &SetupStep,
        copy: &TableCopy,
        batch: &BatchDocument,
    ) -> Result<CopiedRows, CopyFault> {
        let (node, topology) = (step.node, self.request.topology);
        for link in &copy.links {
            self.switch(node, &link.link, OFF)?;
        }
        self.make_slots(copy)?;
        let names_on = |node: NodeId| -> Vec<String> {
            let name = |table: &str| topology.nodes[node].name_of(table).to_owned();
            copy.tables.iter().map(|copied| name(&copied.table)).collect()
        };
        let mark = self.copy_mark(batch);
        self.try_places(node, copy)?;
        let mut taker = (self.request.take)(node)?;
        let holds_rows = taker.begin(mark, &names_on(node))?;
        let names = (&names_on(node)[..], &names_on(copy.from)[..]);
        let made = self.fill(step, copy, &mut *taker, names, holds_rows);
        let Filled { moment, rows, aside } = match made {
            Ok(made) => made,
            Err(fault) => {
                drop(taker.batch().roll_back());
                return Err(fault);
            }
        };
        let whole = taker.finish().and_then(|()| taker.batch().transaction());
        let ready = whole.and_then(|transaction| {
            let ready = BatchDocument { transaction, moment: Some(moment), ..batch.clone() };
            match &mut self.undo {
                Some(undo) => undo.keep(ready.clone()).map(|()| ready),
                None => Ok(ready),
            }
        });
        let ready = match ready {
            Ok(ready) => ready,
            Err(fault) => {
                drop(taker.batch().roll_back());
                return Err(fault.into());
            }
        };
        let committed = taker.batch().commit();
        drop(taker);
        if let Err(fault) = committed {
            tracing::warn!(%fault, "it is not known whether a copy was kept: asking");
            let kept =
                self.writer(node).and_then(|w| w.was_kept(mark, ready.transaction.as_deref()));
            self.writer = None;
            match kept {
                Ok(Some(true)) => {}
                Ok(Some(false)) => return Err(fault.into()),
                Ok(None) | Err(_) => {
                    return Err(CopyFault::Unfinished(ReadFault {
                        advice: "nobody knows yet whether the rows are there, and the links are off: leave them off; the same command asks again"
                            .to_owned(),
                        ..fault
                    }));
                }
            }
        }
        self.go_on_from(node, copy, &ready).map_err(CopyFault::Unfinished)?;
        let tables = copy.tables.len() as u64;
        Ok(CopiedRows { number, node, from: copy.from, tables, rows, aside })
    }

    /// Fills the locked tables of a node.
    fn fill(
        &mut self,
        step: &SetupStep,
        copy: &TableCopy,
        taker: &mut dyn TakeCopy,
        (here, there): (&[String], &[String]),
        holds_rows: bool,
    ) -> Result<Filled, CopyFault> {
        let (node, from) = (step.node, copy.from);
        // What the node wrote itself has to be in the copy, and what its links had brought it.
        let mut senders: Vec<NodeId> = Vec::new();
        let waited_for = self.request.topology.nodes[node].writes && !copy.new_writer;
        senders.extend(waited_for.then_some(node));
        let follows = |of: NodeId| {
            self.request.topology.links.iter().any(|link| (link.from, link.to) == (of, from))
        };
        let besides = copy.links.iter().map(|link| link.from).filter(|of| *of != from);
        senders.extend(besides.filter(|of| follows(*of)));
        for sender in senders {
            self.arrival((sender, from), ARRIVES_WITHIN, false).map_err(CopyFault::NotMade)?;
        }
        // Read before the moment: what the source had confirmed by then is in the copy. How far it has applied says
        // nothing of a node that has written nothing since the source began to follow it.
        let confirmed = self.confirmed(copy)?;
        let mut giver = (self.request.give)(from)?;
        let CopyMoment { own, mut others } = giver.moment(there)?;
        for (link, place) in confirmed {
            let known = others.get(&link).and_then(|place| place.parse::<Position>().ok());
            let further = place
                .parse::<Position>()
                .is_ok_and(|place| known.is_none_or(|known| place.has(&known)));
            if further {
                others.insert(link, place);
            }
        }
        let moment = MomentDocument { own, others, is_set: false };
        self.places(node, copy, &moment)?; // it can be gone on from there
        let aside = match holds_rows {
            true => aside::keep(self.request, node, from, copy)?,
            false => None,
        };
        let mut rows = 0;
        for (at, copied) in copy.tables.iter().enumerate() {
            taker.empty(&here[at])?;
            let of_table =
                self.stream(&mut *giver, taker, (&there[at], &here[at]), &copied.columns)?;
            taker.raise_counters(&here[at])?;
            tracing::info!(table = copied.table, rows = of_table, "copied");
            rows += of_table;
        }
        Ok(Filled { moment, rows, aside })
    }

    /// By link of the source of a copy how far it has confirmed the nodes that the receiver follows, too.
    fn confirmed(&mut self, copy: &TableCopy) -> Result<Vec<(String, String)>, ReadFault> {
        let mut confirmed = Vec::new();
        for link in &copy.links {
            let through = link.slot.as_ref().and_then(|slot| slot.through.as_ref());
            let Some(SourceFollows { link: through, slot }) = through else { continue };
            let subject = Subject::SlotPlace { slot: slot.clone() };
            let place = self.setup_of(link.from)?.state(&subject)?;
            confirmed.extend(place.map(|place| (through.clone(), place)));
        }
        Ok(confirmed)
    }

    /// Copies the rows of one table: they are read while others are written.
    fn stream(
        &self,
        giver: &mut (dyn GiveCopy + Send),
        taker: &mut dyn TakeCopy,
        (there, here): (&str, &str),
        columns: &[String],
    ) -> Result<u64, ReadFault> {
        std::thread::scope(|scope| {
            let (send, received) = mpsc::sync_channel::<RowChunk>(CHUNKS);
            let reading = scope.spawn(move || {
                let mut deliver =
                    |chunk: RowChunk| send.send(chunk).map_err(|_| ReadFault::interrupted());
                giver.give(there, columns, &mut deliver)
            });
            let mut rows = 0;
            let mut taken = Ok(());
            for chunk in received {
                if (self.request.stop)() {
                    taken = Err(ReadFault::interrupted());
                    break;
                }
                taken = taker.take(here, columns, &chunk);
                if taken.is_err() {
                    break;
                }
                rows += chunk.rows;
                self.pace(chunk.rows);
            }
            let read = reading.join().unwrap_or_else(|_| Err(ReadFault::interrupted()));
            // A reader whose rows nobody takes any more ends, too: the first fault is the one that counts.
            taken.and(read).map(|()| rows)
        })
    }

    /// Switches a link of a node, if it is not so already, and waits until it reads so.
    fn switch(&mut self, node: NodeId, link: &str, to: &str) -> Result<(), ReadFault> {
        let subject = Subject::LinkSwitch { link: link.to_owned() };
        let open = self.setup_of(node)?;
        if open.state(&subject)?.as_deref() == Some(to) {
            return Ok(());
        }
        open.change(&SetupChange::to(subject.clone(), to))?;
        let began = Instant::now();
        loop {
            let state = self.setup_of(node)?.state(&subject)?;
            if state.as_deref() == Some(to) {
                return Ok(());
            }
            if began.elapsed() >= LETS_GO_WITHIN {
                return Err(ReadFault::new(
                    format!("link {link} does not read {to}"),
                    "keen flow says where it stands",
                ));
            }
            std::thread::sleep(BETWEEN_TRIES);
        }
    }

    /// Makes slots anew whose log is gone: they have to be there before the moment.
    fn make_slots(&mut self, copy: &TableCopy) -> Result<(), ReadFault> {
        for (link, slot) in copy.links.iter().filter_map(|link| Some((link, link.slot.as_ref()?))) {
            if !slot.usable {
                let subject = Subject::SlotPlace { slot: slot.name.clone() };
                self.set(link.from, SetupChange::to(subject, "0/0"))?;
            }
        }
        Ok(())
    }

    /// Sets a place, as soon as nobody uses it any more.
    fn set(&mut self, node: NodeId, change: SetupChange) -> Result<(), ReadFault> {
        let began = Instant::now();
        loop {
            let before = self.setup_of(node)?.state(&change.subject)?;
            let there = before.is_some();
            if holds(&change.subject, before.as_deref(), change.after.as_deref()) {
                return Ok(());
            }
            let open = self.setup_of(node)?;
            let tried = open.change(&SetupChange { before, ..change.clone() });
            let now = self.setup_of(node)?.state(&change.subject)?;
            if holds(&change.subject, now.as_deref(), change.after.as_deref()) {
                return Ok(());
            }
            if began.elapsed() >= LETS_GO_WITHIN {
                return Err(tried.err().unwrap_or_else(|| {
                    ReadFault::new(
                        format!(
                            "{} does not read {}",
                            change.subject,
                            change.after.unwrap_or_default()
                        ),
                        if there { "plan again" } else { "it is not there any more: plan again" },
                    )
                }));
            }
            std::thread::sleep(BETWEEN_TRIES);
        }
    }

    /// The one place of all links of a MariaDB server; none where each has its own, or there are no links.
    fn applied_position(&self, node: NodeId, copy: &TableCopy) -> Option<Subject> {
        let engine = self.request.topology.nodes[node].at.engine();
        let links: Vec<String> = copy.links.iter().map(|link| link.link.clone()).collect();
        (engine == Engine::MariaDb && !links.is_empty())
            .then_some(Subject::AppliedPosition { links })
    }

    /// Sets the place of the links to what it is: what would keep it from being set once the rows are there (a right,
    /// a link that nobody planned for) does so now.
    fn try_places(&mut self, node: NodeId, copy: &TableCopy) -> Result<(), ReadFault> {
        let Some(subject) = self.applied_position(node, copy) else { return Ok(()) };
        let open = self.setup_of(node)?;
        let now = open.state(&subject)?.unwrap_or_default();
        open.change(&SetupChange { before: Some(now.clone()), ..SetupChange::to(subject, &now) })
    }

    /// Where the links of a node go on, as changes of what is kept of them.
    fn places(
        &mut self,
        node: NodeId,
        copy: &TableCopy,
        moment: &MomentDocument,
    ) -> Result<Vec<(NodeId, SetupChange)>, ReadFault> {
        let unknown = |what: &str| {
            ReadFault::new(format!("it is not known where {what} would go on"), "plan again")
        };
        if copy.links.is_empty() {
            return Ok(Vec::new());
        }
        if let Some(subject) = self.applied_position(node, copy) {
            let now = self.setup_of(node)?.state(&subject)?.unwrap_or_default();
            let after = place_after(&now, &moment.own).ok_or_else(|| unknown("its links"))?;
            let positions = (now.parse::<Position>(), after.parse::<Position>());
            if let (Ok(now), Ok(after)) = positions
                && !after.has(&now)
            {
                let nodes = &self.request.topology.nodes;
                return Err(ReadFault::new(
                    format!(
                        "{} has applied more than {} has ({now} and {}): what lies between would come twice",
                        nodes[node].name, nodes[copy.from].name, moment.own
                    ),
                    "wait until it has, and try again",
                ));
            }
            return Ok(vec![(node, SetupChange::to(subject, &after))]);
        }
        let mut places = Vec::new();
        for (link, slot) in copy.links.iter().filter_map(|link| Some((link, link.slot.as_ref()?))) {
            let place = match &slot.through {
                None => Some(&moment.own),
                Some(through) => moment.others.get(&through.link),
            };
            let place = place.ok_or_else(|| unknown(&link.link))?;
            let subject = Subject::SlotPlace { slot: slot.name.clone() };
            let now = self.setup_of(link.from)?.state(&subject)?;
            // A slot cannot go back.
            if holds(&subject, now.as_deref(), Some(place)) && now.as_deref() != Some(place) {
                let nodes = &self.request.topology.nodes;
                return Err(ReadFault::new(
                    format!(
                        "{} has received more of {} than {} has: what lies between would be missing",
                        nodes[node].name, nodes[link.from].name, nodes[copy.from].name
                    ),
                    "wait until it has, and try again",
                ));
            }
            places.push((link.from, SetupChange::to(subject, place)));
        }
        Ok(places)
    }

    /// Lets the links of a node go on from the moment of a copy that is there.
    fn go_on_from(
        &mut self,
        node: NodeId,
        copy: &TableCopy,
        ready: &BatchDocument,
    ) -> Result<(), ReadFault> {
        let advice = |fault: ReadFault| {
            ReadFault {
            advice: "the rows are copied and the links are off: leave them off; the same command sets where they go on, and switches them on".to_owned(),
            ..fault
        }
        };
        // Once a link was on it is further on than that.
        if let Some(moment) = ready.moment.as_ref().filter(|moment| !moment.is_set) {
            for (at, change) in self.places(node, copy, moment).map_err(advice)? {
                self.set(at, change).map_err(advice)?;
            }
            let moment = Some(MomentDocument { is_set: true, ..moment.clone() });
            if let Some(undo) = &mut self.undo {
                undo.keep(BatchDocument { moment, ..ready.clone() })?;
            }
        }
        for link in &copy.links {
            let Err(fault) = self.switch(node, &link.link, ON) else { continue };
            let subject = Subject::LinkSwitch { link: link.link.clone() };
            let state =
                self.setup_of(node).and_then(|open| open.state(&subject)).map_err(advice)?;
            if state.as_deref() == Some(OFF) {
                return Err(advice(fault));
            }
            // It is on and stops at something of its own: what waits for it says so.
            tracing::warn!(%fault, "a link does not carry");
        }
        Ok(())
    }

    fn copy_mark(&self, batch: &BatchDocument) -> BatchMark {
        BatchMark { run: batch.run, ..self.mark(batch.batch) }
    }

    /// It is there, and the links go on: its mark is no longer needed.
    fn copy_is_kept(
        &mut self,
        copy: &TableCopy,
        batch: &BatchDocument,
        node: NodeId,
    ) -> Result<(), ReadFault> {
        self.keep_outcome(batch.clone(), true)?;
        let mark = self.copy_mark(batch);
        if let Err(fault) = self.writer(node).and_then(|writer| writer.forget(mark)) {
            tracing::warn!(%fault, tables = copy.tables.len(), "the mark of the copy stays there");
        }
        Ok(())
    }

    /// Nothing of it is there: slots and links are as they were.
    fn copy_is_dropped(
        &mut self,
        node: NodeId,
        copy: &TableCopy,
        batch: BatchDocument,
    ) -> Result<(), ReadFault> {
        // A slot that was made anew begins too late: over it a link would go on with a gap.
        for (link, slot) in copy.links.iter().filter_map(|link| Some((link, link.slot.as_ref()?))) {
            let subject = Subject::SlotPlace { slot: slot.name.clone() };
            if !slot.usable
                && let Some(place) = self.setup_of(link.from)?.state(&subject)?
            {
                let before = Some(place);
                let gone = SetupChange { subject, before, after: None, pauses: Vec::new() };
                self.setup_of(link.from)?.change(&gone)?;
            }
        }
        for link in copy.links.iter().filter(|link| link.is != OFF) {
            let subject = Subject::LinkSwitch { link: link.link.clone() };
            let open = self.setup_of(node)?;
            if open.state(&subject)?.as_deref() == Some(OFF) {
                open.change(&SetupChange::to(subject, ON))?;
            }
        }
        self.keep_outcome(BatchDocument { moment: None, ..batch }, false)
    }

    /// Finds out what became of a copy that a run was about to make when it ended, and does what was left to be done.
    pub(super) fn settle_copy(
        &mut self,
        step: &SetupStep,
        copy: &TableCopy,
        unsure: &BatchDocument,
    ) -> Result<(), ReadFault> {
        let node = step.node;
        let mark = self.copy_mark(unsure);
        let kept = match &unsure.moment {
            None => Some(false), // it had not come to its end
            Some(_) => self.writer(node)?.was_kept(mark, unsure.transaction.as_deref())?,
        };
        self.writer = None;
        match kept {
            Some(true) => {
                self.go_on_from(node, copy, unsure)?;
                self.copy_is_kept(copy, unsure, node)
            }
            Some(false) => self.copy_is_dropped(node, copy, unsure.clone()),
            None => Err(ReadFault::new(
                format!(
                    "nobody knows whether the copy to {} was kept: its links stay off",
                    self.request.topology.nodes[node].name
                ),
                "plan again",
            )),
        }
    }
}
