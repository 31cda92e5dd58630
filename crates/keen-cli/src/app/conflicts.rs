//! Running a search for conflicts for the commands that need one.

use keen_core::topology::node_set::NodeSet;
use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use keen_core::conflict::{Conflict, ConflictKind, ConflictStanding, Thing, Written};
use keen_core::history::journal::{Id, Stream};
use keen_core::observe::links::Micros;
use keen_core::observe::position::Position;
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;
use keen_core::value::text::text_of;
use keen_run::conflicts::{self, ConflictsRequest, Found, RowHistory};
use keen_run::ledger::{Accepted, Proof, Raced, conflict_id};
use keen_run::tables::SetTable;

use crate::app::open_node::NodeOpener;
use crate::app::proven::{self, Proven};
use crate::app::run_log::EarlierConflicts;
use crate::app::stop::Stop;
use crate::app::topology_file::Loaded;
use crate::args::Moment;
use crate::exit::Exit;

/// A request for a search, checked against the topology.
#[derive(Debug, Clone, Default)]
pub(crate) struct SearchRequest {
    pub(crate) nodes: NodeSet,
    pub(crate) left_out: Vec<String>,
    pub(crate) tables: Vec<String>,
    /// The key of a row whose whole life is wanted.
    pub(crate) key: Option<Vec<String>>,
    /// Rows that differ, by table and key.
    pub(crate) differing: Vec<(String, Vec<Value>)>,
    pub(crate) kinds: Vec<ConflictKind>,
    pub(crate) lost_only: bool,
    pub(crate) since: Option<Moment>,
    pub(crate) until: Option<Moment>,
    pub(crate) wait: Duration,
    pub(crate) silence: Duration,
    /// The number to read binary logs as.
    pub(crate) reader: u32,
    /// Rows are not asked for their last writes.
    pub(crate) journals_only: bool,
    /// Only those that no earlier run found.
    pub(crate) only_new: bool,
}

/// The result of a run.
pub(crate) struct SearchOutcome {
    pub(crate) started: Timestamp,
    pub(crate) took: Duration,
    pub(crate) found: Found,
    pub(crate) left_out: Vec<String>,
    /// Conflicts that were found and not asked for.
    pub(crate) hidden: usize,
    /// When the run was from which this one went on, if it did.
    pub(crate) went_on_from: Option<Micros>,
    /// The names of those that earlier runs had found; none if nobody had looked before.
    pub(crate) known: Option<BTreeSet<String>>,
    /// Accepted conflicts, by name.
    accepted: BTreeMap<String, Accepted>,
    /// Conflicts that earlier runs proved and this one does not tell whole.
    pub(crate) proven: Proven,
}

impl SearchOutcome {
    /// Why a conflict is accepted, if it is, and nothing came of it since.
    pub(crate) fn accepted(&self, conflict: &Conflict) -> Option<&Accepted> {
        let accepted = self.accepted.get(self.name(conflict).as_ref())?;
        let as_then = conflict.standing.name() == accepted.standing
            && self.lost_of(conflict) as u64 <= accepted.lost;
        as_then.then_some(accepted)
    }

    /// The number by which people name a conflict.
    pub(crate) fn id(&self, conflict: &Conflict) -> String {
        conflict_id(&self.name(conflict))
    }

    /// As the ledger names it: as it was proven, where this run tells less of it.
    fn name(&self, conflict: &Conflict) -> Cow<'_, str> {
        let name = name_of(&self.found.tables, conflict);
        match self.proven.of(&name) {
            Some(proof) => Cow::Borrowed(&proof.name),
            None => Cow::Owned(name),
        }
    }

    /// As an earlier run proved it, where this one tells less of it.
    pub(crate) fn proof(&self, conflict: &Conflict) -> Option<&Proof> {
        self.proven.of(&name_of(&self.found.tables, conflict))
    }

    /// How many of its writes are lost, also those that only an earlier run tells of.
    fn lost_of(&self, conflict: &Conflict) -> usize {
        let before = self.proof(conflict).map_or(0, |proof| proof.lost);
        conflict.lost().max(usize::try_from(before).unwrap_or(usize::MAX))
    }

    /// Whether what an earlier run proved, and no journal tells any more, was accepted.
    pub(crate) fn is_accepted(&self, proof: &Proof) -> bool {
        let accepted = self.accepted.get(&proof.name);
        accepted.is_some_and(|a| a.standing == proof.standing && proof.lost <= a.lost)
    }

    /// Whether it is for somebody to look at.
    fn is_open(&self, conflict: &Conflict) -> bool {
        let harmless = conflict.is_harmless() && self.lost_of(conflict) == 0;
        !harmless && self.accepted(conflict).is_none()
    }

    /// Whether every journal and every node was read.
    pub(crate) fn complete(&self) -> bool {
        let found = &self.found;
        !found.stopped
            && found.broken.is_none()
            && found.more == 0
            && found.left.is_empty()
            && found.nodes.values().all(|node| node.fault.is_none() && node.rows_fault.is_none())
    }

    /// The exit code.
    pub(crate) fn exit(&self) -> Exit {
        if self.found.stopped {
            Exit::Interrupted
        } else if self.found.conflicts.iter().any(|conflict| self.is_open(conflict))
            || !self.past_the_log().is_empty()
            || self.untold_open().next().is_some()
        {
            Exit::Found
        } else if self.complete() {
            Exit::Agree
        } else {
            Exit::Incomplete
        }
    }

    /// Whether no earlier run had found a conflict; none where no run had looked before.
    pub(crate) fn is_new(&self, conflict: &Conflict) -> Option<bool> {
        is_new(self.known.as_ref(), &self.name(conflict))
    }

    /// Nodes that hold of the row whose life was asked for what no journal wrote, and in which columns.
    pub(crate) fn past_the_log(&self) -> Vec<(NodeId, Vec<usize>)> {
        self.found.life.as_ref().map(RowHistory::past_the_log).unwrap_or_default()
    }

    /// Those that earlier runs proved, that journals no longer tell, and that are for somebody to look at.
    fn untold_open(&self) -> impl Iterator<Item = &Proof> {
        let open = |proof: &&Proof| !proven::is_harmless(proof) && !self.is_accepted(proof);
        self.proven.untold.iter().filter(open)
    }

    /// How many writes are lost.
    pub(crate) fn lost(&self) -> usize {
        self.found.conflicts.iter().map(|conflict| self.lost_of(conflict)).sum()
    }

    /// The result in a few words.
    pub(crate) fn summary(&self) -> String {
        let conflicts = &self.found.conflicts;
        let of = |standing| conflicts.iter().filter(|c| c.standing == standing).count();
        let mut parts = vec![match conflicts.len() {
            0 if self.complete() => "no conflicts".to_owned(),
            0 => "no conflicts in what was judged".to_owned(),
            1 => "1 conflict".to_owned(),
            count => format!("{count} conflicts"),
        }];
        let standings = ConflictStanding::ALL.into_iter().filter(|standing| of(*standing) > 0);
        parts.extend(standings.map(|standing| format!("{} {}", of(standing), standing.name())));
        match self.lost() {
            0 => {}
            1 => parts.push("1 write lost".to_owned()),
            lost => parts.push(format!("{lost} writes lost")),
        }
        match self.past_the_log().len() {
            0 => {}
            1 => parts.push("1 node holds what no journal wrote".to_owned()),
            nodes => parts.push(format!("{nodes} nodes hold what no journal wrote")),
        }
        match self.proven.untold.len() {
            0 => {}
            count => parts.push(format!("{count} more proven by earlier runs")),
        }
        match conflicts.iter().filter(|conflict| self.accepted(conflict).is_some()).count() {
            0 => {}
            accepted => parts.push(format!("{accepted} accepted")),
        }
        parts.join(", ")
    }
}

/// Reads the journals and judges what they hold; where earlier runs handed something on, from there.
pub(crate) fn run(
    loaded: &Loaded,
    asked: &SearchRequest,
    judged: EarlierConflicts,
    hand_on: bool,
    stop: &Stop,
) -> SearchOutcome {
    let topology = &loaded.topology;
    let started = Timestamp::now();
    let clock = Instant::now();
    let opener = NodeOpener::new(loaded, asked.wait, asked.silence, stop).reading_as(asked.reader);
    let nodes = (0..topology.nodes.len()).collect::<NodeSet>() & asked.nodes;
    let life = asked.key.as_ref().and_then(|key| Some((&asked.tables.first()?[..], &key[..])));
    let mut found = conflicts::run(&ConflictsRequest {
        topology,
        nodes,
        tables: &asked.tables,
        life,
        differing: &asked.differing,
        open: &|node| opener.open(node),
        journal: &|node, tables| opener.journal(node, tables),
        last_writes: (!asked.journals_only).then_some(&|node| opener.last_writes(node)),
        exported: &|node| opener.exported_shapes(node),
        earlier: judged.handed_on,
        hand_on,
        stop: &|| stop.raised(),
    });
    let mut proven = Proven::held_against(&mut found, judged.proofs);
    proven.keep_asked(asked);
    let known = judged.known;
    let before = found.conflicts.len();
    let tables = std::mem::take(&mut found.tables);
    let is_new = |c: &Conflict| {
        let name = name_of(&tables, c);
        let name = proven.of(&name).map_or(&name, |proof| &proof.name);
        // What no earlier run can have found is shown, too.
        is_new(known.as_ref(), name) != Some(false)
    };
    found
        .conflicts
        .retain(|conflict| asked.wants(conflict) && (!asked.only_new || is_new(conflict)));
    found.tables = tables;
    let hidden = before - found.conflicts.len();
    SearchOutcome {
        started,
        took: clock.elapsed(),
        left_out: asked.left_out.clone(),
        hidden,
        went_on_from: judged.at.filter(|_| found.went_on),
        known,
        accepted: judged.accepted,
        proven,
        found,
    }
}

/// Whether none of the conflicts that earlier runs found has this name; none where no run had looked before.
fn is_new(known: Option<&BTreeSet<String>>, name: &str) -> Option<bool> {
    known.map(|known| !known.contains(name))
}

impl SearchRequest {
    fn wants(&self, conflict: &Conflict) -> bool {
        let after =
            |write: &Written| self.since.as_ref().is_none_or(|since| is_after(write, since));
        let before = |write: &Written| {
            self.until.as_ref().is_none_or(|until| match until {
                Moment::Time(until) => write.made.is_none_or(|made| made <= *until),
                Moment::Position(_) => !is_after(write, until),
            })
        };
        (self.kinds.is_empty() || self.kinds.contains(&conflict.kind))
            && (!self.lost_only || conflict.lost() > 0)
            && conflict.writes.iter().any(after)
            && conflict.writes.iter().any(before)
            && self.key.as_ref().is_none_or(|key| is_about(conflict, key))
    }
}

/// Whether a write was made at or after a time, or after a position. One that has no such number counts.
fn is_after(write: &Written, moment: &Moment) -> bool {
    match moment {
        Moment::Time(since) => write.made.is_none_or(|made| made >= *since),
        Moment::Position(position) => {
            number_in(position, &write.id).is_none_or(|n| write.id.place > n)
        }
    }
}

/// The number in a position that a transaction is to be held against.
fn number_in(position: &Position, id: &Id) -> Option<u64> {
    match (position, id.writer.stream) {
        (Position::Gtid(parts), Stream::Domain(domain)) => parts.get(&domain).map(|(_, at)| *at),
        (Position::Lsn(at), Stream::Lsn | Stream::Repair) => Some(*at),
        (Position::Origins(parts), _) => parts.get(&*id.writer.origin).copied(),
        (Position::Count(at), Stream::Count) => Some(*at),
        _ => None,
    }
}

fn is_about(conflict: &Conflict, key: &[String]) -> bool {
    let same = |values: &[Value]| {
        let texts = values.iter().map(|value| text_of(value.as_ref()));
        texts.eq(key.iter().cloned())
    };
    let of_thing = matches!(&conflict.thing, Thing::Row(values) if same(values));
    of_thing || conflict.rows.iter().any(|row| row.table == conflict.table && same(&row.key))
}

/// How many conflicts there are of each kind and table, how they ended, and between whom.
#[derive(Debug, Default)]
pub(crate) struct Counts {
    pub(crate) standings: BTreeMap<ConflictStanding, u64>,
    pub(crate) lost: u64,
    pub(crate) possible: u64,
    pub(crate) pairs: BTreeMap<(NodeId, NodeId), u64>,
}

/// Counts conflicts by table and kind.
pub(crate) fn counts(found: &Found) -> BTreeMap<(usize, ConflictKind), Counts> {
    let mut counts: BTreeMap<(usize, ConflictKind), Counts> = BTreeMap::new();
    for conflict in &found.conflicts {
        let count = counts.entry((conflict.table, conflict.kind)).or_default();
        *count.standings.entry(conflict.standing).or_insert(0) += 1;
        count.lost += conflict.lost() as u64;
        count.possible += u64::from(!conflict.proven);
        let mut pairs: Vec<(NodeId, NodeId)> = conflict
            .unseen
            .iter()
            .filter_map(|(a, b)| Some((conflict.writes[*a].node?, conflict.writes[*b].node?)))
            .map(|(a, b)| (a.min(b), a.max(b)))
            .collect();
        pairs.sort_unstable();
        pairs.dedup();
        for pair in pairs {
            *count.pairs.entry(pair).or_insert(0) += 1;
        }
    }
    counts
}

/// The name of whoever made a write.
pub(crate) fn writer(topology: &Topology, node: Option<NodeId>, id: &Id) -> String {
    match node {
        Some(node) => topology.nodes[node].name.clone(),
        None => format!("{} (not a node of the topology)", id.writer.origin),
    }
}

/// The name that tells a conflict from others: its kind, its subject, and its first transaction.
pub(crate) fn name_of(tables: &[SetTable], conflict: &Conflict) -> String {
    let table = &tables[conflict.table].name;
    let about = thing_of(conflict);
    let first = conflict.writes.iter().map(|write| &write.id).min();
    let first = first.map(ToString::to_string).unwrap_or_default();
    format!("{} {table} {about} {first}", conflict.kind.name())
}

/// The subject of a conflict, in its table.
pub(crate) fn thing_of(conflict: &Conflict) -> String {
    match &conflict.thing {
        Thing::Row(key) | Thing::Unique(_, key) => {
            key.iter().map(|value| text_of(value.as_ref())).collect::<Vec<_>>().join(",")
        }
        Thing::Shape => String::new(),
    }
}

/// The conflicts as the ledger keeps them.
pub(crate) fn to_keep(outcome: &SearchOutcome) -> Vec<Raced> {
    let found = &outcome.found;
    let raced = |conflict: &Conflict| -> Raced {
        Raced {
            name: outcome.name(conflict).into_owned(),
            table: found.tables[conflict.table].name.clone(),
            kind: conflict.kind.name().to_owned(),
            proven: conflict.proven,
            standing: conflict.standing.name().to_owned(),
            lost: outcome.lost_of(conflict),
            at: conflict.writes.iter().filter_map(|write| write.made).max(),
        }
    };
    found.conflicts.iter().map(raced).collect()
}
