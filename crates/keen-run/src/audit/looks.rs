//! The findings of a fenced audit's looks: the first, which holds back tables in which rows differ, and those after
//! it.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::io;
use std::ops::ControlFlow;

use keen_core::audit::merge::{DivergentRow, RowStanding};
use keen_core::row::batch::Layout;
use keen_core::row::schema::TableShape;
use keen_core::topology::placement::Expectation;
use keen_core::topology::{NodeId, SetId, Topology};

use super::row_marks::RowMarks;
use super::{AuditSink, NodeOutcome, Standings, TableHead, TableOutcome, Verdict};
use crate::spool::pending_rows::{self, PendingRows, Trace};

/// A table whose end is held back until its rows are looked at again.
pub(super) struct HeldTable {
    pub(super) set: SetId,
    pub(super) table: String,
    pub(super) layout: Option<Layout>,
    pub(super) expectation: Expectation,
    pub(super) shapes: BTreeMap<NodeId, TableShape>,
    pub(super) local_columns: BTreeMap<NodeId, Vec<String>>,
    pub(super) notes: Vec<String>,
    pub(super) unordered: Option<String>,
    pub(super) outcome: Option<TableOutcome>,
    /// Rows of which it is not known yet what they are.
    pub(super) rows: PendingRows,
    /// Rows that are settled, by the looks that found them so.
    pub(super) settled: Vec<PendingRows>,
    /// How many of those were handed out before the table was.
    pub(super) handed_out: usize,
    /// The standing of the pending rows if nothing more becomes known.
    pub(super) standing: HashMap<u64, RowStanding>,
    /// How often a pending row was found as it is.
    pub(super) times: HashMap<u64, Times>,
    /// The marks of the pending rows, as their holders told them at the last look.
    pub(super) marks: RowMarks,
    pub(super) looked_again: bool,
    pub(super) healed: u64,
    pub(super) waiting: Vec<String>,
}

/// How often in a row a pending row was found as it is.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Times {
    pub(super) same: u8,
    /// Of those, behind how many fences nobody had written it.
    pub(super) unwritten: u8,
}

/// Holds back tables, with the rows that differ. To whoever takes tables in any order those that agree are handed
/// out at once.
pub(super) struct FirstLook<'a> {
    pub(super) topology: &'a Topology,
    pub(super) sink: &'a mut dyn AuditSink,
    pub(super) held: Vec<HeldTable>,
    pub(super) broken: Option<io::Error>,
}

impl AuditSink for FirstLook<'_> {
    fn opened(&mut self, nodes: &BTreeMap<NodeId, NodeOutcome>, estimated_keys: u64) {
        self.sink.opened(nodes, estimated_keys);
    }

    fn table(&mut self, head: &TableHead<'_>) -> ControlFlow<()> {
        self.held.push(HeldTable {
            set: head.set,
            table: head.table.to_owned(),
            layout: head.layout.cloned(),
            expectation: head.expectation.clone(),
            shapes: head.shapes.clone(),
            local_columns: head.local_columns.clone(),
            notes: head.notes.to_vec(),
            unordered: head.unordered.map(str::to_owned),
            outcome: None,
            rows: PendingRows::new(),
            settled: Vec::new(),
            handed_out: 0,
            standing: HashMap::new(),
            times: HashMap::new(),
            marks: RowMarks::new(),
            looked_again: false,
            healed: 0,
            waiting: Vec::new(),
        });
        ControlFlow::Continue(())
    }

    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        let Some(table) = self.held.last_mut() else { return ControlFlow::Continue(()) };
        match table.rows.push(&row) {
            Ok(()) => ControlFlow::Continue(()),
            Err(error) => {
                self.broken = Some(error);
                ControlFlow::Break(())
            }
        }
    }

    fn advanced(&mut self, keys: u64) {
        self.sink.advanced(keys);
    }

    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        let Some(table) = self.held.last_mut() else { return ControlFlow::Continue(()) };
        table.outcome = Some(outcome.clone());
        if !self.sink.in_any_order() {
            return ControlFlow::Continue(());
        }
        match table.rows.count() {
            0 => self.held.pop().map_or(ControlFlow::Continue(()), |table| {
                table.hand_out(self.topology, self.sink)
            }),
            rows => self.sink.waiting(&table.head(self.topology), rows),
        }
    }
}

impl HeldTable {
    fn head<'a>(&'a self, topology: &'a Topology) -> TableHead<'a> {
        TableHead {
            topology,
            set: self.set,
            table: &self.table,
            layout: self.layout.as_ref(),
            expectation: &self.expectation,
            shapes: &self.shapes,
            local_columns: &self.local_columns,
            notes: &self.notes,
            unordered: self.unordered.as_deref(),
        }
    }

    /// Hands out the rows that the looks so far have settled and that were not handed out yet.
    pub(super) fn hand_out_settled(
        &mut self,
        topology: &Topology,
        sink: &mut dyn AuditSink,
    ) -> io::Result<ControlFlow<()>> {
        let mut settled = self.settled.split_off(self.handed_out);
        let mut flow = ControlFlow::Continue(());
        let handed = pending_rows::each_of_all(&mut settled, |row| {
            flow = sink.settled(&self.head(topology), row);
            flow
        });
        self.settled.append(&mut settled);
        self.handed_out = self.settled.len();
        handed.map(|()| flow)
    }

    pub(super) fn hand_out(
        mut self,
        topology: &Topology,
        sink: &mut dyn AuditSink,
    ) -> ControlFlow<()> {
        sink.table(&self.head(topology))?;
        let Some(mut outcome) = self.outcome.take() else { return ControlFlow::Continue(()) };
        let mut unsatisfied = BTreeMap::new();
        let mut flow = ControlFlow::Continue(());
        // Without a second look everything counts as it was found.
        let (before, settled) = match self.looked_again {
            true => self.settled.split_at_mut(self.handed_out),
            false => (&mut [][..], std::slice::from_mut(&mut self.rows)),
        };
        let mut count_links = |row: &DivergentRow| {
            for link in row.unsatisfied(&self.expectation) {
                *unsatisfied.entry(link).or_default() += 1;
            }
        };
        let mut handed = pending_rows::each_of_all(before, |row| {
            count_links(&row);
            ControlFlow::Continue(())
        });
        if handed.is_ok() {
            handed = pending_rows::each_of_all(settled, |row| {
                count_links(&row);
                flow = sink.divergent(row);
                flow
            });
        }
        flow?;
        if let Err(error) = handed {
            tracing::warn!("divergent rows of {} cannot be read back: {error}", self.table);
        }
        if self.looked_again {
            let mut standings = Standings {
                settled: self.settled.iter().map(PendingRows::count).sum(),
                healed: self.healed,
                waiting: self.waiting,
                ..Standings::default()
            };
            let standing = self.standing;
            let handed = self.rows.each(|row| {
                let key = Trace::of(&row).key;
                let standing = standing.get(&key).copied().unwrap_or(RowStanding::Moving);
                match standing {
                    RowStanding::InFlight => standings.in_flight += 1,
                    _ => standings.moving += 1,
                }
                flow = sink.unsettled(row, standing);
                flow
            });
            flow?;
            if let Err(error) = handed {
                tracing::warn!("rows of {} cannot be read back: {error}", self.table);
            }
            outcome.tally.divergent = standings.settled;
            outcome.tally.unsatisfied = unsatisfied;
            outcome.verdict = match (standings.settled, outcome.unread.is_empty()) {
                (1.., _) => Verdict::Diverges,
                (0, false) => Verdict::Unread,
                (0, true) if standings.in_flight + standings.moving > 0 => Verdict::Unsettled,
                (0, true) => Verdict::Agrees,
            };
            outcome.standings = standings;
        }
        sink.table_done(&outcome)
    }
}

/// Rows of a table that differ at a second look; once it was read to its end, where it was not read.
pub(super) type FoundAgain = (PendingRows, Option<Vec<NodeId>>);

/// Collects of a second look the rows that are still pending; of each table that was read to its end
/// where it was not read.
pub(super) struct SecondLook {
    pub(super) wanted: BTreeMap<(SetId, String), HashSet<u64>>,
    pub(super) tables: BTreeMap<(SetId, String), FoundAgain>,
    pub(super) at: Option<(SetId, String)>,
    pub(super) broken: Option<io::Error>,
}

impl AuditSink for SecondLook {
    fn table(&mut self, head: &TableHead<'_>) -> ControlFlow<()> {
        let name = (head.set, head.table.to_owned());
        self.tables.insert(name.clone(), (PendingRows::new(), None));
        self.at = Some(name);
        ControlFlow::Continue(())
    }

    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        let Some(name) = &self.at else { return ControlFlow::Continue(()) };
        // Rows that were equal at the first look are the next audit's business.
        let wanted = self.wanted.get(name);
        let known = wanted.is_none_or(|w| w.is_empty() || w.contains(&Trace::of(&row).key));
        let Some((held, _)) = self.tables.get_mut(name).filter(|_| known) else {
            return ControlFlow::Continue(());
        };
        match held.push(&row) {
            Ok(()) => ControlFlow::Continue(()),
            Err(error) => {
                self.broken = Some(error);
                ControlFlow::Break(())
            }
        }
    }

    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        if let Some((_, unread)) = self.at.as_ref().and_then(|name| self.tables.get_mut(name))
            && !outcome.tally.stopped
        {
            *unread = Some(outcome.unread.keys().copied().collect());
        }
        ControlFlow::Continue(())
    }
}
