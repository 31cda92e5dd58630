//! The outcome of writes that collide: their contents are read again, and the rows that nodes hold now.

use keen_core::topology::node_set::NodeSet;
use std::collections::BTreeMap;
use std::io;

use keen_core::conflict::{
    Case, Conflict, ConflictKind, ConflictStanding, Content, CurrentRow, Fate, RowNow, Thing,
    Written, judge,
};
use keen_core::fault::ReadFault;
use keen_core::history::happened_before::{Chain, Deed, History, Saw, Write, WriterId, chains};
use keen_core::history::journal::Stream;
use keen_core::history::journal::Writer;
use keen_core::topology::NodeId;
use keen_core::value::Value;

use super::detect::{Candidate, Reshaping};
use super::open::READING;
use super::read_rows::{self, WantedRows};
use super::record_sort::{Contents, NO_CONTENT};
use super::{PastTheLog, id};
use crate::conflicts::ConflictsRequest;
use crate::conflicts::RowEvent;
use crate::conflicts::RowHistory;
use crate::conflicts::read_rows::CurrentRows;
use crate::fan_out::fan_out;
use crate::tables::{self, SetTable};

/// Turns candidates into conflicts: reads what was written again, and what the nodes hold now.
pub(super) struct Settle<'a> {
    pub(super) request: &'a ConflictsRequest<'a>,
    pub(super) tables: &'a [SetTable],
    pub(super) history: &'a History,
    pub(super) writers: &'a [Writer],
    pub(super) identities: BTreeMap<NodeId, String>,
    /// Statements that emptied a table, by its number, writer and place.
    pub(super) emptied: BTreeMap<(usize, WriterId, u64), String>,
}

fn past_the_log(life: &RowHistory) -> Option<PastTheLog> {
    let nodes = life.past_the_log();
    let cells = |(node, columns): (NodeId, Vec<usize>)| {
        let held = |at: usize| match life.row.now.get(&node) {
            Some(CurrentRow::Row(cells)) => Some((at, cells.get(at)?.clone())),
            _ => None,
        };
        (node, columns.into_iter().filter_map(held).collect())
    };
    (!nodes.is_empty()).then(|| PastTheLog {
        table: life.table,
        key: life.row.key.clone(),
        nodes: nodes.into_iter().map(cells).collect(),
    })
}

/// A candidate with the rows that it is about.
pub(super) struct ConflictDetail {
    pub(super) candidate: Candidate,
    pub(super) contents: Vec<Content>,
    /// The rows it is about: number of the table, what stands for the row, its key.
    pub(super) rows: Vec<(usize, u128, Vec<Value>)>,
    /// By write of the chain, which of the rows it wrote.
    pub(super) row_of: Vec<usize>,
    pub(super) thing: Thing,
}

/// The outcome of all candidates.
#[derive(Default)]
pub(super) struct Settled {
    pub(super) conflicts: Vec<Conflict>,
    /// The life of the row that was asked for.
    pub(super) life: Option<RowHistory>,
    pub(super) past_the_log: Vec<PastTheLog>,
    /// Why rows of nodes could not be read.
    pub(super) unread: BTreeMap<NodeId, ReadFault>,
}

impl Settle<'_> {
    /// Judges candidates, and tells the life of the row that was asked for, which is `asked_for` among the lives.
    ///
    /// # Errors
    /// When the contents that were kept cannot be read again.
    pub(super) fn all(
        &self,
        candidates: Vec<Candidate>,
        (lives, asked_for): (Vec<(u128, Candidate)>, Option<u128>),
        mut kept: BTreeMap<NodeId, Contents>,
    ) -> io::Result<Settled> {
        let mut wanted = WantedRows::new();
        let mut all = Vec::new();
        for candidate in candidates {
            let Some(told) = self.told(candidate, &mut kept)? else { continue };
            for (table, row, key) in &told.rows {
                wanted.entry(*table).or_default().insert(*row, key.clone());
            }
            all.push(told);
        }
        let mut told_lives = Vec::new();
        for (thing, life) in lives {
            let Some(told) = self.told(life, &mut kept)? else { continue };
            if let Some((table, row, key)) = told.rows.first() {
                wanted.entry(*table).or_default().insert(*row, key.clone());
            }
            told_lives.push((thing, told));
        }
        let (held, unread) = self.held(&wanted);
        let mut settled = Settled { unread, ..Settled::default() };
        for (thing, told) in told_lives {
            let life = self.lived(told, &held);
            if asked_for == Some(thing) {
                settled.life = Some(life);
            } else {
                settled.past_the_log.extend(past_the_log(&life));
            }
        }
        for told in all {
            let conflict = self.judged(told, &held);
            // A write that a node skipped is of interest only where that can still be seen, and one that changes
            // nothing takes nothing away from another.
            let skipped = conflict.kind == ConflictKind::Skipped
                && conflict.standing == ConflictStanding::Alike;
            if !skipped && !conflict.is_void() {
                settled.conflicts.push(conflict);
            }
        }
        Ok(settled)
    }

    /// Reads again what the writes of a chain wrote; none if the journals do not tell which row it was.
    pub(super) fn told(
        &self,
        candidate: Candidate,
        kept: &mut BTreeMap<NodeId, Contents>,
    ) -> io::Result<Option<ConflictDetail>> {
        let table = &self.tables[candidate.table];
        let mut contents = Vec::new();
        let mut rows: Vec<(usize, u128, Vec<Value>)> = Vec::new();
        let mut row_of = Vec::new();
        let mut thing = None;
        for (at, place) in candidate.chain.writes.iter().zip(&candidate.kept) {
            let deed = candidate.writes[*at].deed;
            let of = if deed == Deed::Refer { place.table } else { candidate.table };
            let columns = self.tables[of].layout.columns.len();
            let mut read = |at: u64| match kept.get_mut(&place.node) {
                Some(contents) if at != NO_CONTENT => contents.read(at, columns),
                _ => Ok(Content::default()),
            };
            let (first, last) = (read(place.first)?, read(place.last)?);
            let mut content = Content { before: first.before, after: last.after };
            match deed {
                // A row that was given a new key is gone under the old one, and new under the new one.
                Deed::Delete => content.after = None,
                Deed::Insert => content.before = None,
                _ => {}
            }
            let side = content.after.as_ref().or(content.before.as_ref());
            let pick = |places: &[usize]| -> Option<Vec<Value>> {
                places.iter().map(|at| side?.get(*at)?.clone()).collect()
            };
            let key = pick(&self.tables[of].layout.key);
            if thing.is_none() {
                thing = match candidate.unique {
                    0 if deed == Deed::Refer => None,
                    0 => key.clone().map(Thing::Row),
                    unique => {
                        let columns = &table.unique[unique - 1];
                        pick(columns).map(|values| Thing::Unique(columns.clone(), values))
                    }
                };
            }
            let Some(key) = key else {
                row_of.push(0);
                contents.push(content);
                continue;
            };
            let row = tables::thing(of, None, &key);
            let known = rows.iter().position(|(_, known, _)| *known == row);
            row_of.push(known.unwrap_or(rows.len()));
            if known.is_none() {
                rows.push((of, row, key));
            }
            contents.push(content);
        }
        self.fill(&candidate, &mut contents);
        let Some(thing) = thing else { return Ok(None) };
        // The row that gives the conflict its name comes first.
        if let Some(first) = rows.iter().position(|(of, _, _)| *of == candidate.table) {
            rows.swap(0, first);
            for row in &mut row_of {
                *row = match *row {
                    0 => first,
                    row if row == first => 0,
                    row => row,
                };
            }
        }
        Ok(Some(ConflictDetail { candidate, contents, rows, row_of, thing }))
    }

    /// Where PostgreSQL's log does not tell what a row was before: that is what the write before it on the same
    /// node left, if the log has all of them.
    fn fill(&self, candidate: &Candidate, contents: &mut [Content]) {
        if candidate.repaired || candidate.unique != 0 {
            return;
        }
        let lsn = |write: &Write| {
            let writer = self.writers.get(usize::from(write.writer));
            writer.is_some_and(|writer| writer.stream == Stream::Lsn)
        };
        for number in 0..contents.len() {
            let write = &candidate.writes[candidate.chain.writes[number]];
            let node = self.history.node_of(write);
            let (Some(node), true, true) = (node, lsn(write), write.deed == Deed::Update) else {
                continue;
            };
            let Some(own) = write.order_at(node) else { continue };
            let before = |other: &&(usize, &Write)| {
                other.1.deed != Deed::Refer && other.1.order_at(node).is_some_and(|at| at < own)
            };
            let writes = candidate.writes.iter().enumerate();
            let last = writes.filter(|other| before(&other)).max_by_key(|(_, w)| w.order_at(node));
            let Some((last, _)) = last else { continue };
            let Some(last) = candidate.chain.writes.iter().position(|at| *at == last) else {
                continue;
            };
            let Some(left) = contents[last].after.clone() else { continue };
            let told = contents[number].before.get_or_insert_with(|| vec![None; left.len()]);
            for (cell, left) in told.iter_mut().zip(left) {
                if cell.is_none() {
                    *cell = left;
                }
            }
        }
    }

    /// The wanted rows of every node, and why those of a node could not be read.
    pub(super) fn held(
        &self,
        wanted: &WantedRows,
    ) -> (BTreeMap<NodeId, CurrentRows>, BTreeMap<NodeId, ReadFault>) {
        let topology = self.request.topology;
        let carriers = wanted.keys().fold(NodeSet::EMPTY, |nodes, table| {
            nodes | self.tables[*table].expectation.carriers()
        });
        let read = |node: NodeId, ()| -> Result<CurrentRows, ReadFault> {
            let mut reader = (self.request.open)(node)?;
            Ok(read_rows::read(topology, self.tables, node, reader.as_mut(), wanted))
        };
        let nodes = (carriers & self.request.nodes).iter().map(|node| (node, ()));
        let (mut held, mut unread) = (BTreeMap::new(), BTreeMap::new());
        for (node, read) in fan_out(nodes, READING, read) {
            let of_node = read.flatten().unwrap_or_else(|fault| {
                let nothing = CurrentRows::nothing(wanted, &fault);
                unread.insert(node, fault);
                nothing
            });
            held.insert(node, of_node);
        }
        (held, unread)
    }

    pub(super) fn lived(
        &self,
        told: ConflictDetail,
        held: &BTreeMap<NodeId, CurrentRows>,
    ) -> RowHistory {
        let ConflictDetail { candidate, contents, rows, .. } = told;
        let writes: Vec<RowEvent> = (candidate.chain.writes.iter().zip(contents))
            .map(|(at, content)| {
                let write = candidate.writes[*at].clone();
                let node = self.history.node_of(&write);
                RowEvent { id: id(self.writers, write.writer, write.place), node, write, content }
            })
            .collect();
        let mut unseen = Vec::new();
        for b in 0..writes.len() {
            for a in 0..b {
                if self.history.concurrent(&writes[a].write, &writes[b].write) == Saw::Yes {
                    unseen.push((a, b));
                }
            }
        }
        let count = candidate.writes.iter().filter(|write| write.deed != Deed::Refer).count();
        let row = rows.into_iter().next().map(|row| self.row_now(row, held)).unwrap_or_default();
        RowHistory { table: candidate.table, row, writes, count, unseen }
    }

    pub(super) fn row_now(
        &self,
        (number, row, key): (usize, u128, Vec<Value>),
        held: &BTreeMap<NodeId, CurrentRows>,
    ) -> RowNow {
        let carriers = self.tables[number].expectation.carriers();
        let now = carriers.iter().map(|node| {
            let left_out = || CurrentRow::Unread(ReadFault::not_told("it was left out"));
            (node, held.get(&node).map_or_else(left_out, |held| held.now(number, row)))
        });
        RowNow { table: number, key, now: now.collect() }
    }

    pub(super) fn judged(
        &self,
        told: ConflictDetail,
        held: &BTreeMap<NodeId, CurrentRows>,
    ) -> Conflict {
        let ConflictDetail { candidate, contents, rows, row_of, thing } = told;
        let table = &self.tables[candidate.table];
        let rows: Vec<RowNow> = rows.into_iter().map(|row| self.row_now(row, held)).collect();
        let ids = candidate.chain.writes.iter().map(|at| {
            let write = &candidate.writes[*at];
            id(self.writers, write.writer, write.place)
        });
        let told = ids.zip(contents).zip(row_of).map(|((id, content), row)| (id, content, row));
        let inserts = |conflict: &Conflict| matches!(conflict.kind, ConflictKind::InsertInsert);
        let mut conflict = judge(Case {
            history: self.history,
            writes: &candidate.writes,
            chain: &candidate.chain,
            told: told.collect(),
            table: candidate.table,
            thing,
            columns: (table.layout.columns.len(), &table.layout.key),
            rows,
            expectation: &table.expectation,
            identities: &self.identities,
        });
        conflict.counted = table.counted && inserts(&conflict);
        for (at, written) in candidate.chain.writes.iter().zip(&mut conflict.writes) {
            let write = &candidate.writes[*at];
            let by = self.emptied.get(&(candidate.table, write.writer, write.place));
            written.statement = by.filter(|_| write.deed == Deed::Delete).cloned();
        }
        if candidate.skipped {
            conflict.kind = ConflictKind::Skipped;
        }
        conflict
    }

    /// Changes of shape against each other, and against rows that were written meanwhile.
    pub(super) fn shapes(&self, reshapings: &[Reshaping]) -> Vec<Conflict> {
        let mut conflicts = Vec::new();
        for table in 0..self.tables.len() {
            let of_table: Vec<&Reshaping> =
                reshapings.iter().filter(|reshaping| reshaping.table == table).collect();
            let writes: Vec<Write> =
                of_table.iter().map(|reshaping| reshaping.write.clone()).collect();
            let found_chains = chains(self.history, &writes);
            for chain in &found_chains {
                let list: Vec<&Reshaping> = chain.writes.iter().map(|at| of_table[*at]).collect();
                conflicts.push(self.shape_conflict(ConflictKind::ShapeShape, table, &list, chain));
            }
            for (at, reshaping) in of_table.iter().enumerate().filter(|(_, r)| !r.rows.is_empty()) {
                // Every row that was written meanwhile is a conflict of its own.
                if reshaping.empties()
                    || found_chains.iter().any(|chain| chain.writes.contains(&at))
                {
                    continue;
                }
                let chain = Chain {
                    writes: vec![at],
                    proven: vec![reshaping.proven],
                    healed_by: None,
                    seen_later: vec![true],
                };
                conflicts.push(self.shape_conflict(
                    ConflictKind::ShapeRows,
                    table,
                    &[reshaping],
                    &chain,
                ));
            }
        }
        conflicts
    }

    pub(super) fn shape_conflict(
        &self,
        kind: ConflictKind,
        table: usize,
        list: &[&Reshaping],
        chain: &Chain,
    ) -> Conflict {
        let about = &self.tables[table];
        let shapes: Vec<_> = about
            .shapes
            .values()
            .map(|shape| shape.columns.iter().map(|c| (&c.name, &c.declared)).collect::<Vec<_>>())
            .collect();
        let alike = shapes.windows(2).all(|pair| pair[0] == pair[1]);
        let writes: Vec<Written> = list
            .iter()
            .zip(&chain.proven)
            .map(|(reshaping, proven)| {
                let carriers = about.expectation.carriers();
                let of = |wanted: &dyn Fn(NodeId) -> bool| {
                    carriers.iter().filter(|n| wanted(*n)).collect::<NodeSet>()
                };
                Written {
                    id: id(self.writers, reshaping.write.writer, reshaping.write.place),
                    node: self.history.node_of(&reshaping.write),
                    made: reshaping.write.made,
                    deed: Deed::Update,
                    applied: of(&|node| reshaping.write.order_at(node).is_some()),
                    skipped: of(&|node| self.history.skipped(node, &reshaping.write)),
                    proven: *proven,
                    content: Content::default(),
                    row: 0,
                    fate: Fate::Kept,
                    statement: Some(reshaping.what.clone()),
                }
            })
            .collect();
        let mut breaks: BTreeMap<(NodeId, NodeId), u64> = BTreeMap::new();
        for reshaping in list {
            let at = self.history.node_of(&reshaping.write);
            for (from, rows) in &reshaping.rows {
                for (source, receiver) in about.expectation.edges() {
                    if source == from && Some(*receiver) == at {
                        *breaks.entry((*source, *receiver)).or_insert(0) += rows;
                    }
                }
            }
        }
        let missing = about.shapes.len() < about.expectation.carriers().iter().count();
        Conflict {
            kind,
            table,
            thing: Thing::Shape,
            proven: chain.is_proven(),
            doubt: None,
            count: writes.len(),
            unseen: Vec::new(),
            writes,
            rows: Vec::new(),
            standing: match (alike, missing) {
                (false, _) => ConflictStanding::Apart,
                (true, true) => ConflictStanding::Unread,
                (true, false) => ConflictStanding::Alike,
            },
            healed_by: None,
            held: BTreeMap::new(),
            rules: Vec::new(),
            counted: false,
            counted_alike: Vec::new(),
            breaks: breaks.into_iter().map(|((from, to), rows)| (from, to, rows)).collect(),
        }
    }
}
