//! One audit is enough: rows that differ are looked at again behind a fence.
//!
//! Before the first look and after it every node tells how far it has written and applied. If nothing
//! was under way and nothing was written meanwhile, what differs is settled. Otherwise a fence is taken
//! after the look: where each origin's log stands. Once every node has passed it, everything that the
//! first look can have missed has arrived, and the rows are read again, on all nodes, at a new moment.
//! Equal ones have healed. One that is as it was is settled, while something is written only if it is
//! found the same twice. One that changed is moving, and is looked at again behind the next fence, for
//! as long as patience allows. A row that differs only because a node has not passed is in flight.

use keen_core::topology::node_set::NodeSet;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::io;
use std::ops::ControlFlow;
use std::time::{Duration, Instant};

use keen_core::audit::merge::{DivergentRow, RowStanding};
use keen_core::fault::FaultKind;
use keen_core::links::fence::{self, Fence, Passing, Stillness};
use keen_core::links::owed::{OwedTable, OwedWrites};
use keen_core::observe::links::Observations;
use keen_core::observe::position::Gap;
use keen_core::topology::NodeId;

use super::looks::{FirstLook, FoundAgain, HeldTable, SecondLook, Times};
use super::row_marks::{self, MarkedTable, RowMarks};
use super::{AuditOutcome, AuditRequest, AuditSink, TableOutcome, WantedKeys};
use crate::links::{self, NodeConnections};
use crate::opener::OpenJournal;
use crate::owed;
use crate::spool::pending_rows::{PendingRows, Trace};

/// How rows that differ are looked at again.
pub struct Fencing<'a> {
    /// How nodes are opened to look at their links.
    pub watch: &'a links::OpenInspection<'a>,
    /// For how long, after the first look, rows are looked at again.
    pub patience: Duration,
    /// How late a link may be of which nothing can be told; none if the file does not say.
    pub settle: Option<Duration>,
    /// How journals are opened, to read what links still owe that stand still.
    pub journal: &'a OpenJournal<'a>,
}

/// From one look at how far nodes have come to the next.
const BETWEEN_LOOKS: Duration = Duration::from_millis(100);
/// While something is written a row has to be found the same so often behind fences, if all who hold it tell
/// that nobody has written it meanwhile.
const TWICE: u8 = 2;
/// So often where that is not told: a row can have been changed and changed back between two looks.
const OFTEN: u8 = 4;

/// To find a row by its key costs about as much as to read so many on the way.
const KEY_COSTS: u64 = 4;
/// Keys that are kept in memory to be asked for; of more rows the table is read whole again.
const MOST_KEYS: u64 = 100_000;

/// Runs an audit and hands out only what is settled as divergent.
pub fn run(
    request: &AuditRequest<'_>,
    fencing: &Fencing<'_>,
    sink: &mut dyn AuditSink,
) -> AuditOutcome {
    let before = NodeConnections::begin(request.topology, request.nodes, fencing.watch).1;
    // Whoever did not answer is not waited for once more.
    let silent = |node: NodeId| match before.get(&node).map(|observation| &observation.snapshot) {
        Some(Err(fault)) if fault.kind == FaultKind::NoAnswer => Err(fault.clone()),
        _ => Ok(()),
    };
    let open = |node: NodeId| silent(node).and_then(|()| (request.open)(node));
    let watch = |node: NodeId| silent(node).and_then(|()| (fencing.watch)(node));
    let request = &AuditRequest { open: &open, ..*request };
    let fencing = &Fencing { watch: &watch, ..*fencing };
    let mut first = FirstLook { topology: request.topology, sink, held: Vec::new(), broken: None };
    let mut outcome = super::run(request, &mut first);
    let passing = Fence::at(&before).passing(request.topology, &before);
    let stopped =
        passing.waiting.iter().filter(|(_, waiting)| waiting.stopped).map(|(link, _)| *link);
    outcome.standing_still = stopped.chain(passing.absent.iter().copied()).collect();
    let FirstLook { sink, mut held, broken, .. } = first;
    if let Some(error) = broken {
        outcome.broken = Some(error.to_string());
        return outcome;
    }
    let pending: u64 = held.iter().map(|table| table.rows.count()).sum();
    if pending > 0 && !outcome.stopped {
        let looking = Looking { request, fencing, began: Instant::now() };
        match looking.again(&before, &mut held, sink) {
            Ok(ControlFlow::Continue(())) => {}
            Ok(ControlFlow::Break(())) => {
                outcome.stopped = true;
                return outcome;
            }
            Err(error) => {
                outcome.broken = Some(error.to_string());
                return outcome;
            }
        }
    }
    for table in held {
        if table.hand_out(request.topology, sink).is_break() {
            outcome.stopped = true;
            break;
        }
    }
    outcome
}

/// Looking again at what differed.
struct Looking<'a> {
    request: &'a AuditRequest<'a>,
    fencing: &'a Fencing<'a>,
    began: Instant,
}

/// The state of a fence.
struct Behind {
    /// Nodes that may still lack something.
    lagging: NodeSet,
    /// Where the logs stood when the first fence was taken.
    fence: Fence,
    /// Nothing was written from the first fence until after the look behind it.
    quiet: bool,
    /// The links that have not passed, in words.
    waiting: Vec<String>,
    /// Of the last round, who has passed.
    passing: Passing,
    /// The debts of the links that have not passed, where they were read.
    owed: Vec<OwedWrites>,
    /// Nodes that may lack something that stands in none of those.
    lagging_beside: NodeSet,
}

impl Behind {
    /// Whether a row differs whatever is still to come.
    fn differs(&self, table: &str, row: &DivergentRow) -> bool {
        let owed = || self.owed.iter().any(|owed| owed.may_write(table, &row.key));
        row.differs_without(self.lagging)
            || (!self.owed.is_empty() && row.differs_without(self.lagging_beside) && !owed())
    }
}

impl Looking<'_> {
    fn again(
        &self,
        before: &Observations,
        held: &mut Vec<HeldTable>,
        sink: &mut dyn AuditSink,
    ) -> io::Result<ControlFlow<()>> {
        let (mut watch, after) =
            NodeConnections::begin(self.request.topology, self.request.nodes, self.fencing.watch);
        if self.nothing_moved(before, &after) {
            tracing::info!("nothing was written or in transit: what differs is settled");
            return Ok(ControlFlow::Continue(()));
        }
        self.ask_marks(held)?;
        let mut first = true;
        while first || self.may_go_on() {
            let pending: u64 = held.iter().map(|table| table.rows.count()).sum();
            if pending == 0 || (self.request.stop)() {
                break;
            }
            let mut behind = self.pass(&mut watch);
            tracing::info!(
                "{pending} rows differ; reading them again after {:.1} s{}",
                self.began.elapsed().as_secs_f64(),
                if behind.waiting.is_empty() {
                    ""
                } else {
                    ", not all nodes have passed the fence"
                }
            );
            let mut second = self.look(held)?;
            behind.quiet = behind.fence.stands_as(&Fence::at(&watch.again()));
            let before = self.ask_marks(held)?;
            for (table, marks) in held.iter_mut().zip(&before).filter(|(t, _)| t.rows.count() > 0) {
                let found = second.tables.remove(&(table.set, table.table.clone()));
                self.settle(table, found, &behind, marks)?;
            }
            if self.hand_out_settled(held, sink)?.is_break() {
                return Ok(ControlFlow::Break(()));
            }
            first = false;
            // Where only a link that stands still keeps rows back, waiting brings nothing.
            let moving =
                held.iter().any(|t| t.standing.values().any(|s| *s == RowStanding::Moving));
            if !moving && !behind.lagging.is_empty() {
                let observations = watch.again();
                let fence = Fence::at(&observations);
                if !fence.passing(self.request.topology, &observations).worth_waiting() {
                    break;
                }
            }
        }
        self.beside_what_is_owed(&mut watch, held)?;
        Ok(ControlFlow::Continue(()))
    }

    /// To whoever takes them in any order, hands out the rows that a look has settled, and tables of which no row
    /// waits any more.
    fn hand_out_settled(
        &self,
        held: &mut Vec<HeldTable>,
        sink: &mut dyn AuditSink,
    ) -> io::Result<ControlFlow<()>> {
        if !sink.in_any_order() {
            return Ok(ControlFlow::Continue(()));
        }
        let topology = self.request.topology;
        for mut table in std::mem::take(held) {
            let flow = if table.rows.count() == 0 {
                table.hand_out(topology, sink)
            } else {
                let flow = table.hand_out_settled(topology, sink)?;
                held.push(table);
                flow
            };
            if flow.is_break() {
                return Ok(flow);
            }
        }
        Ok(ControlFlow::Continue(()))
    }

    /// Rows that links hold back are settled if no write that those still owe can mend them.
    fn beside_what_is_owed(
        &self,
        watch: &mut NodeConnections<'_>,
        held: &mut [HeldTable],
    ) -> io::Result<()> {
        for _ in 0..OFTEN {
            let held_back =
                held.iter().any(|t| t.standing.values().any(|s| *s == RowStanding::InFlight));
            if !held_back || (self.request.stop)() {
                break;
            }
            let mut behind = self.pass(watch);
            if behind.passing.waiting.is_empty() {
                break;
            }
            let mut second = self.look(held)?;
            behind.quiet = behind.fence.stands_as(&Fence::at(&watch.again()));
            self.read_owed(held, &mut behind);
            let before = self.ask_marks(held)?;
            for (table, marks) in held.iter_mut().zip(&before).filter(|(t, _)| t.rows.count() > 0) {
                let found = second.tables.remove(&(table.set, table.table.clone()));
                table.waiting.clear();
                self.settle(table, found, &behind, marks)?;
            }
            if behind.owed.is_empty() || behind.quiet {
                break;
            }
        }
        Ok(())
    }

    /// Asks who wrote the rows that are pending; hands back by table what was told before.
    fn ask_marks(&self, held: &mut [HeldTable]) -> io::Result<Vec<RowMarks>> {
        let mut tables = Vec::new();
        let mut places = Vec::new();
        for (place, table) in held.iter_mut().enumerate().filter(|(_, t)| t.rows.count() > 0) {
            let mut rows = Vec::new();
            table.rows.each(|row| {
                rows.push((Trace::of(&row).key, row));
                row_marks::few(rows.len())
            })?;
            let Some(layout) = &table.layout else { continue };
            let (shapes, local_columns) = (&table.shapes, &table.local_columns);
            tables.push(MarkedTable { layout, shapes, local_columns, rows });
            places.push(place);
        }
        let told = row_marks::ask(self.request.open, &tables);
        drop(tables);
        let mut before: Vec<RowMarks> = held.iter().map(|_| RowMarks::new()).collect();
        for (place, marks) in places.into_iter().zip(told) {
            before[place] = std::mem::replace(&mut held[place].marks, marks);
        }
        Ok(before)
    }

    fn may_go_on(&self) -> bool {
        self.began.elapsed() < self.fencing.patience
    }

    /// Whether nothing was under way before the first look, and nothing was written until after it.
    fn nothing_moved(&self, before: &Observations, after: &Observations) -> bool {
        let still = |node: &NodeId| {
            let snapshot = |observations: &Observations| {
                let snapshot = observations.get(node)?.snapshot()?;
                Some((snapshot.position.clone().ok(), snapshot.stamp.clone()))
            };
            match (snapshot(before), snapshot(after)) {
                (Some(then), Some(now)) => then == now && then != (None, None),
                _ => false,
            }
        };
        let passing = Fence::at(before).passing(self.request.topology, before);
        let untold = !passing.untold.is_empty() && self.fencing.settle.is_some();
        before.keys().all(still) && passing.waiting.is_empty() && !untold
    }

    /// Takes a fence and waits until everybody has passed it, or patience is over; as often as writes
    /// are passed on from node to node.
    fn pass(&self, watch: &mut NodeConnections<'_>) -> Behind {
        let topology = self.request.topology;
        let rounds = fence::rounds(topology);
        let mut observations = watch.again();
        let mut behind = Behind {
            lagging: NodeSet::EMPTY,
            fence: Fence::at(&observations),
            quiet: false,
            waiting: Vec::new(),
            passing: Passing::default(),
            owed: Vec::new(),
            lagging_beside: NodeSet::EMPTY,
        };
        let mut stillness = Stillness::default();
        let taken = Instant::now();
        for _ in 0..rounds {
            let fence = Fence::at(&observations);
            let mut pause = BETWEEN_LOOKS;
            let passing = loop {
                stillness.see(&observations);
                let passing = fence.passing_since(topology, &observations, &stillness);
                let settled = passing.untold.is_empty() || self.time_is_up(taken);
                let done = (!passing.worth_waiting() && settled) || !self.may_go_on();
                if done || (self.request.stop)() {
                    break passing;
                }
                links::wait_until(Instant::now(), pause, self.request.stop);
                pause = (pause * 2).min(Duration::from_secs(1));
                observations = watch.again();
            };
            behind.lagging |= passing.lagging(topology, self.time_is_up(taken));
            self.say(&passing, taken, &mut behind.waiting);
            behind.passing = passing;
        }
        behind
    }

    /// Reads what the links owe that have not passed. Only what is read after the rows were holds for them.
    fn read_owed(&self, held: &[HeldTable], behind: &mut Behind) {
        let topology = self.request.topology;
        let began = Instant::now();
        let mut known = BTreeSet::new();
        let mut unread: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for ((from, to), waiting) in &behind.passing.waiting {
            let ends = format!("{} -> {}", topology.nodes[*from].name, topology.nodes[*to].name);
            let carried = |table: &&HeldTable| {
                table.rows.count() > 0 && table.expectation.carriers().contains(*from)
            };
            let unlike = held.iter().filter(carried).find(|t| !t.local_columns.contains_key(from));
            if let Some(table) = unlike {
                let why = format!("{} of {} was not read", table.table, topology.nodes[*from].name);
                unread.entry(why).or_default().push(ends);
                continue;
            }
            let tables: Vec<OwedTable> = (held.iter())
                .filter(carried)
                .filter_map(|table| {
                    Some(OwedTable {
                        name: table.table.clone(),
                        layout: table.layout.clone()?,
                        columns: table.local_columns.get(from)?.clone(),
                    })
                })
                .collect();
            // A long log is not read to its end for the sake of a few rows.
            let over = || (self.request.stop)() || began.elapsed() > self.fencing.patience;
            let journal = self.fencing.journal;
            match owed::read(topology, *from, waiting, &tables, journal, &over) {
                Ok(owed) => {
                    known.insert((*from, *to));
                    behind.owed.push(owed);
                }
                Err(_) if began.elapsed() > self.fencing.patience => unread
                    .entry("reading the journal takes longer than --patience".to_owned())
                    .or_default()
                    .push(ends),
                Err(why) => unread.entry(why.what).or_default().push(ends),
            }
        }
        for (why, ends) in unread {
            behind.waiting.push(format!(
                "which rows {} still owe{} is not known ({why}; where a right or a slot is lacking, keen conflicts --ddl prints it): --patience 0s compares what is there",
                ends.join(", "),
                if ends.len() == 1 { "s" } else { "" }
            ));
        }
        behind.lagging_beside =
            behind.passing.lagging_beside(topology, self.fencing.settle.is_none(), &known);
    }

    /// Whether links of which nothing can be told have had the time that they may take.
    fn time_is_up(&self, since: Instant) -> bool {
        self.fencing.settle.is_none_or(|settle| since.elapsed() >= settle)
    }

    fn say(&self, passing: &Passing, taken: Instant, waiting: &mut Vec<String>) {
        let topology = self.request.topology;
        let name = |node: NodeId| &topology.nodes[node].name;
        let mut add = |text: String| {
            if !waiting.contains(&text) {
                waiting.push(text);
            }
        };
        for ((from, to), lacks) in &passing.waiting {
            let lacks_text = match lacks.lacks {
                Some(Gap::Transactions(1)) => "1 transaction".to_owned(),
                Some(gap) => format!("{} {}", gap.size(), gap.unit()),
                None => "something".to_owned(),
            };
            let stands = if lacks.stopped { ", and stands still" } else { "" };
            add(format!(
                "{} -> {} has not passed the fence: it lacks {lacks_text}{stands}",
                name(*from),
                name(*to)
            ));
        }
        if !self.time_is_up(taken) {
            for ((from, to), fault) in &passing.untold {
                add(format!(
                    "{} -> {} may need more time than there was: {fault}",
                    name(*from),
                    name(*to)
                ));
            }
        }
    }

    /// Reads the pending rows of all tables again.
    fn look(&self, held: &mut [HeldTable]) -> io::Result<SecondLook> {
        let mut pending: Vec<&mut HeldTable> =
            held.iter_mut().filter(|t| t.rows.count() > 0).collect();
        let tables: Vec<String> = pending.iter().map(|table| table.table.clone()).collect();
        let mut only = WantedKeys::new();
        for table in &mut pending {
            let rows = (table.outcome.iter())
                .flat_map(|outcome| outcome.tally.balances.values().map(|balance| balance.rows));
            let worth = (rows.max().unwrap_or(0) / KEY_COSTS).min(MOST_KEYS);
            if let Some(keys) = table.rows.keys(worth)? {
                only.insert((table.set, table.table.clone()), keys.into());
            }
        }
        let request = AuditRequest {
            topology: self.request.topology,
            nodes: self.request.nodes,
            tables: &tables,
            only: &only,
            function: self.request.function,
            rate: self.request.rate,
            threads: 1,
            open: self.request.open,
            stop: self.request.stop,
        };
        let mut second =
            SecondLook { wanted: BTreeMap::new(), tables: BTreeMap::new(), at: None, broken: None };
        for table in pending {
            let keys = table.times.keys().copied().collect();
            second.wanted.insert((table.set, table.table.clone()), keys);
        }
        let outcome = super::run(&request, &mut second);
        if let Some(error) = second.broken.take() {
            return Err(error);
        }
        if outcome.stopped {
            second.tables.clear(); // half a look says nothing
        }
        Ok(second)
    }

    /// Sorts the pending rows of a table by what the second look found.
    fn settle(
        &self,
        table: &mut HeldTable,
        found: Option<FoundAgain>,
        behind: &Behind,
        marks: &RowMarks,
    ) -> io::Result<()> {
        let before = table.rows.traces()?;
        if !table.looked_again {
            table.looked_again = true;
            let first = Times { same: 1, unwritten: 0 };
            table.times = before.keys().map(|key| (*key, first)).collect();
        }
        for reason in &behind.waiting {
            if !table.waiting.contains(reason) {
                table.waiting.push(reason.clone());
            }
        }
        let unread = |outcome: &TableOutcome| outcome.unread.keys().copied().collect::<Vec<_>>();
        let first_unread = table.outcome.as_ref().map(unread);
        let Some((mut found, _)) = found.filter(|(_, unread)| *unread == first_unread) else {
            // It was not read again on the same nodes: nothing new is known.
            table.standing = before.keys().map(|key| (*key, RowStanding::InFlight)).collect();
            table.waiting.push("the rows could not be read again on every node".to_owned());
            return Ok(());
        };
        let name = table.table.clone();
        let (mut pending, mut settled_now) = (PendingRows::new(), PendingRows::new());
        let mut standing = HashMap::new();
        let mut times = HashMap::new();
        let mut fault = None;
        let now = found.traces()?;
        let still = before.keys().filter(|key| now.contains_key(key)).count() as u64;
        found.each(|row| {
            let trace = Trace::of(&row);
            let Some(then) = before.get(&trace.key) else {
                return ControlFlow::Continue(()); // equal at the first look
            };
            let same = now.get(&trace.key) == Some(then);
            let mut seen = table.times.get(&trace.key).copied().unwrap_or_default();
            match row_marks::written(&row, trace.key, marks, &table.marks) {
                written if !same || written == Some(true) => seen = Times::default(),
                Some(_) => seen.unwritten += 1,
                None => seen.unwritten = 0,
            }
            let differs = behind.differs(&name, &row);
            let sure = behind.quiet || seen.unwritten >= TWICE || seen.same >= OFTEN;
            let settled = seen.same > 0 && sure && differs;
            let kept = if settled {
                settled_now.push(&row)
            } else {
                let is = if differs { RowStanding::Moving } else { RowStanding::InFlight };
                standing.insert(trace.key, is);
                times.insert(trace.key, Times { same: seen.same + 1, ..seen });
                pending.push(&row)
            };
            match kept {
                Ok(()) => ControlFlow::Continue(()),
                Err(error) => {
                    fault = Some(error);
                    ControlFlow::Break(())
                }
            }
        })?;
        if let Some(error) = fault {
            return Err(error);
        }
        table.healed += before.len() as u64 - still;
        table.rows = pending;
        if settled_now.count() > 0 {
            table.settled.push(settled_now);
        }
        table.standing = standing;
        table.times = times;
        if table.rows.count() == 0 {
            table.waiting.clear();
        }
        Ok(())
    }
}
