//! The ledger's notes, for programs.

use std::time::Duration;

use anyhow::Result;
use jiff::Timestamp;
use keen_core::observe::links::Micros;
use keen_run::ledger::conflict_id;
use keen_wire::history::{
    AcceptedEntry, DayEntry, HistoryDocument, HistoryOf, LinkEntry, RunEntry, TableEntry,
};
use keen_wire::{Ending, Envelope, NamedNode};

use super::pretty;
use crate::app::history::HistoryAnswer;

/// Writes it for programs: the latest first.
pub(crate) fn write(topology: &str, found: HistoryAnswer, started: Timestamp) -> Result<String> {
    let mut nodes = Vec::new();
    let history = match found {
        HistoryAnswer::Runs(runs) => {
            let run = |run: keen_run::ledger::RunThen| RunEntry {
                run: run.id,
                at: time(run.started),
                command: run.command,
                seconds: run_seconds(run.took_ms),
                exit: run.exit,
                summary: run.summary,
            };
            HistoryOf::Runs { name: None, history: runs.into_iter().map(run).collect() }
        }
        HistoryAnswer::Link(ends, then) => {
            let look = |l: keen_run::ledger::LinkThen| LinkEntry {
                at: time(l.at),
                name: l.name,
                state: l.state,
                reason: l.reason,
                behind: l.gap,
                unit: l.unit,
                late_seconds: l.late_ms.map(run_seconds),
            };
            nodes.extend([&ends.0, &ends.1].map(|node| NamedNode { node: node.clone() }));
            HistoryOf::Link {
                name: format!("{} -> {}", ends.0, ends.1),
                history: then.into_iter().map(look).collect(),
            }
        }
        HistoryAnswer::Table(name, then, days, accepted) => {
            let audit = |a: keen_run::ledger::TableThen| TableEntry {
                at: time(a.at),
                set: a.set,
                verdict: a.verdict,
                rows: a.rows,
                divergent: a.divergent,
                in_flight: a.in_flight,
                moving: a.moving,
                healed: a.healed,
            };
            let day = |d: keen_run::ledger::DayThen| DayEntry {
                day: d.day,
                conflicts: d.conflicts,
                apart: d.apart,
                writes_lost: d.lost,
            };
            let accept = |a: keen_run::ledger::Accepted| AcceptedEntry {
                id: conflict_id(&a.name),
                conflict: a.name,
                because: a.because,
                at: time(a.at),
                standing: a.standing,
                writes_lost: a.lost,
            };
            HistoryOf::Table {
                name,
                history: then.into_iter().map(audit).collect(),
                conflicts_by_day: days.into_iter().map(day).collect(),
                accepted_conflicts: accepted.into_iter().map(accept).collect(),
            }
        }
    };
    let took = Timestamp::now().duration_since(started).unsigned_abs();
    let ending = Ending::new(took, true);
    let envelope = Envelope::new("history", topology, &started, nodes);
    pretty(&HistoryDocument { envelope, ending, history })
}

pub(crate) fn time(at: Micros) -> Option<String> {
    Timestamp::from_microsecond(at).ok().map(|at| at.to_string())
}

/// Milliseconds, as the ledger keeps them, in seconds.
pub(crate) fn run_seconds(ms: i64) -> f64 {
    keen_wire::seconds(Duration::from_millis(ms.unsigned_abs()))
}
