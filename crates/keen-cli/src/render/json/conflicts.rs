//! Conflicts, for programs.

use anyhow::Result;
use jiff::Timestamp;
use keen_core::conflict::{Conflict, CurrentRow, Doubt, Fate, RowNow, Thing, Written};
use keen_core::observe::links::Micros;
use keen_core::topology::node_set::NodeSet;
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;
use keen_run::conflicts::NodeRead;
use keen_run::ledger::{Proof, conflict_id};
use keen_run::tables::SetTable;
use keen_wire::conflicts::{
    AcceptedDocument, ConflictDocument, ConflictsDocument, ConflictsLine, ConflictsStart,
    ConflictsSummary, DoubtDocument, HealingDocument, JournalNode, KindCounts, NowDocument,
    PastTheLogDocument, ProvenDocument, RowNowDocument, ThingDocument, WrittenDocument,
};
use keen_wire::{Cells, Ending, Envelope, LinkRows};

use super::pretty;
use crate::app::conflicts::SearchOutcome;

/// One document.
pub(crate) fn document(
    topology: &Topology,
    outcome: &SearchOutcome,
    show: usize,
) -> Result<String> {
    let shown = outcome.found.conflicts.iter().take(show);
    pretty(&ConflictsDocument {
        start: start(topology, outcome),
        conflicts: shown.map(|conflict| one(topology, outcome, conflict)).collect(),
        proven_before: outcome.proven.untold.iter().map(|p| proven(outcome, p)).collect(),
        summary: summary(outcome),
    })
}

/// One object per line: what was read, each conflict, the summary.
pub(crate) fn lines(topology: &Topology, outcome: &SearchOutcome, show: usize) -> Result<String> {
    let mut out = String::new();
    let mut line = |line: ConflictsLine| -> Result<()> {
        out.push_str(&serde_json::to_string(&line)?);
        out.push('\n');
        Ok(())
    };
    line(ConflictsLine::Start(Box::new(start(topology, outcome))))?;
    for conflict in outcome.found.conflicts.iter().take(show) {
        let conflict = Box::new(one(topology, outcome, conflict));
        line(ConflictsLine::Conflict { conflict })?;
    }
    for proof in &outcome.proven.untold {
        line(ConflictsLine::ProvenBefore { proven_before: proven(outcome, proof) })?;
    }
    line(ConflictsLine::Summary { summary: summary(outcome) })?;
    Ok(out)
}

fn start(topology: &Topology, outcome: &SearchOutcome) -> ConflictsStart {
    let name = |node: &NodeId| topology.nodes[*node].name.clone();
    let found = &outcome.found;
    let nodes = found.nodes.iter().map(|(node, report)| journal(name(node), report)).collect();
    let past = outcome.past_the_log();
    let past = past.iter().map(|(node, columns)| {
        let table = found.life.as_ref().map(|life| &found.tables[life.table]);
        let names = columns.iter().filter_map(|at| Some(&table?.layout.columns[*at].name));
        PastTheLogDocument { node: name(node), columns: names.cloned().collect() }
    });
    ConflictsStart {
        envelope: Envelope::new("conflicts", &topology.name, &outcome.started, nodes)
            .without(&outcome.left_out),
        ending: Ending::new(outcome.took, outcome.complete()),
        went_on_from: time(outcome.went_on_from),
        interrupted: found.stopped,
        tables_not_judged: found.left.iter().map(|(t, why)| (t.clone(), why.clone())).collect(),
        past_the_log: past.collect(),
        reused: found.reused.iter().map(ToString::to_string).collect(),
    }
}

fn journal(node: String, report: &NodeRead) -> JournalNode {
    JournalNode {
        node,
        journal: report.about.clone(),
        identity: report.identity.as_deref().map(str::to_owned),
        read: report.read,
        complete: report.complete,
        transactions: report.transactions,
        transactions_before: report.earlier,
        writes: report.writes,
        from: report.times.and_then(|(from, _)| time(Some(from))),
        to: report.times.and_then(|(_, to)| time(Some(to))),
        fault: keen_wire::fault(report.fault.as_ref()),
        rows_fault: keen_wire::fault(report.rows_fault.as_ref()),
        notes: report.notes.clone(),
    }
}

fn summary(outcome: &SearchOutcome) -> ConflictsSummary {
    let by = crate::app::conflicts::counts(&outcome.found).into_iter();
    let by = by.map(|((table, kind), counts)| {
        let standings = counts.standings.iter();
        KindCounts {
            table: outcome.found.tables[table].name.clone(),
            kind: kind.name().to_owned(),
            standings: standings.map(|(s, count)| (s.name().to_owned(), *count)).collect(),
            writes_lost: counts.lost,
            possible_only: counts.possible,
        }
    });
    ConflictsSummary {
        conflicts: outcome.found.conflicts.len() as u64,
        writes_lost: outcome.lost() as u64,
        proven_before: outcome.proven.untold.len() as u64,
        not_asked_for: outcome.hidden as u64,
        not_judged: outcome.found.more,
        by_table_and_kind: by.collect(),
    }
}

/// A proof of an earlier run, as it told it.
fn proven(outcome: &SearchOutcome, proof: &Proof) -> ProvenDocument {
    ProvenDocument {
        id: conflict_id(&proof.name),
        by_run_of: time(Some(proof.seen)),
        accepted: outcome.is_accepted(proof),
        conflict: serde_json::from_str(&proof.document).ok(),
    }
}

pub(crate) fn one(
    topology: &Topology,
    outcome: &SearchOutcome,
    conflict: &Conflict,
) -> ConflictDocument {
    let tables = &outcome.found.tables;
    let table = &tables[conflict.table];
    let name = |node: &NodeId| topology.nodes[*node].name.clone();
    let accepted = outcome.accepted(conflict).map(|accepted| AcceptedDocument {
        because: accepted.because.clone(),
        at: time(Some(accepted.at)),
    });
    let healed_by = conflict.healed_by.as_ref().map(|(id, node)| HealingDocument {
        transaction: id.to_string(),
        node: node.as_ref().map(name),
    });
    let breaks = conflict.breaks.iter();
    let alike = conflict.counted_alike.iter();
    let writes = conflict.writes.iter();
    let rows = conflict.rows.iter();
    let held = conflict.held.iter();
    let unseen = conflict.unseen.iter();
    ConflictDocument {
        id: outcome.id(conflict),
        accepted,
        kind: conflict.kind.name().to_owned(),
        table: table.name.clone(),
        set: topology.sets[table.set].name.clone(),
        of: thing(table, &conflict.thing),
        new: outcome.is_new(conflict),
        proven: conflict.proven,
        doubt: conflict.doubt.map(|doubt| self::doubt(topology, doubt)),
        proven_before: outcome.proof(conflict).map(|proof| proven(outcome, proof)),
        standing: conflict.standing.name().to_owned(),
        harmless: conflict.is_harmless(),
        writes_lost: conflict.lost() as u64,
        writes: writes.map(|write| written(topology, tables, conflict, write)).collect(),
        writes_in_all: conflict.count as u64,
        unseen: unseen.map(|(one, other)| (*one as u64, *other as u64)).collect(),
        rows: rows.map(|row| row_now(topology, &tables[row.table], row)).collect(),
        holds: held.map(|(node, write)| (name(node), *write as u64)).collect(),
        won_by: conflict.rules.iter().map(|rule| rule.name().to_owned()).collect(),
        healed_by,
        counted_key: conflict.counted,
        counted_alike: alike.map(|at| table.layout.columns[*at].name.clone()).collect(),
        breaks: breaks
            .map(|(from, to, rows)| LinkRows { from: name(from), to: name(to), rows: *rows })
            .collect(),
    }
}

fn thing(table: &SetTable, thing: &Thing) -> ThingDocument {
    match thing {
        Thing::Row(key) => ThingDocument::Row(key_cells(table, key)),
        Thing::Unique(places, values) => {
            ThingDocument::Unique(cells(table, places.iter().copied().zip(values)))
        }
        Thing::Shape => ThingDocument::Shape(table.name.clone()),
    }
}

fn doubt(topology: &Topology, doubt: Doubt) -> DoubtDocument {
    let (why, node) = match doubt {
        Doubt::Outsider => ("writer_outside", None),
        Doubt::NoJournal(node) => ("journal_not_read", Some(node)),
        Doubt::LastOnly => ("last_writes_only", None),
        Doubt::TooShort(node) => ("journal_too_short", Some(node)),
    };
    let node = node.map(|node| topology.nodes[node].name.clone());
    DoubtDocument { why: why.to_owned(), node }
}

fn written(
    topology: &Topology,
    tables: &[SetTable],
    conflict: &Conflict,
    write: &Written,
) -> WrittenDocument {
    let table = &tables[conflict.rows.get(write.row).map_or(conflict.table, |row| row.table)];
    let side = |side: &Option<Vec<Option<Value>>>| {
        side.as_ref().map(|values| {
            let known = values.iter().enumerate();
            cells(table, known.filter_map(|(at, value)| Some((at, value.as_ref()?))))
        })
    };
    let nodes =
        |nodes: NodeSet| nodes.iter().map(|n| topology.nodes[n].name.clone()).collect::<Vec<_>>();
    let (fate, lost_columns) = match &write.fate {
        Fate::Kept => ("kept", None),
        Fate::Unknown => ("unknown", None),
        Fate::Lost(columns) => {
            let names = columns.iter().map(|at| table.layout.columns[*at].name.clone());
            ("lost", Some(names.collect()))
        }
    };
    WrittenDocument {
        transaction: write.id.to_string(),
        node: write.node.map(|node| topology.nodes[node].name.clone()),
        time: time(write.made),
        op: write.deed.name().to_owned(),
        table: table.name.clone(),
        row: write.row as u64,
        statement: write.statement.clone(),
        before: side(&write.content.before),
        after: side(&write.content.after),
        applied_at: nodes(write.applied),
        skipped_at: nodes(write.skipped),
        proven: write.proven,
        fate: fate.to_owned(),
        lost_columns,
    }
}

fn row_now(topology: &Topology, table: &SetTable, row: &RowNow) -> RowNowDocument {
    let now = row.now.iter().map(|(node, now)| {
        let held = match now {
            CurrentRow::Row(values) => {
                NowDocument::Row(Some(cells(table, values.iter().enumerate())))
            }
            CurrentRow::NoRow => NowDocument::Row(None),
            CurrentRow::Unread(fault) => NowDocument::Unread(fault.into()),
        };
        (topology.nodes[*node].name.clone(), held)
    });
    RowNowDocument {
        table: table.name.clone(),
        key: key_cells(table, &row.key),
        now: now.collect(),
    }
}

fn key_cells(table: &SetTable, key: &[Value]) -> Cells {
    cells(table, table.layout.key.iter().copied().zip(key))
}

fn cells<'a>(table: &SetTable, values: impl Iterator<Item = (usize, &'a Value)>) -> Cells {
    let named =
        values.filter_map(|(at, value)| Some((&table.layout.columns.get(at)?.name[..], value)));
    keen_wire::cells(named)
}

fn time(at: Option<Micros>) -> Option<String> {
    Timestamp::from_microsecond(at?).ok().map(|at| at.to_string())
}
