//! What the ledger holds, for programs.

use std::time::Duration;

use anyhow::Result;
use jiff::Timestamp;
use keen_core::observe::links::Micros;
use keen_run::ledger::{Accepted, DayThen, Kept, LinkThen, TableThen, conflict_id};
use keen_wire::Envelope;
use serde_json::{Value as Json, json};

use crate::app::history::Found;

/// Writes it for programs: the latest first.
pub(crate) fn write(topology: &str, found: Found) -> Result<String> {
    let (mut days, mut accepted) = (None, None);
    let (of, name, list): (&str, Option<String>, Vec<Json>) = match found {
        Found::Runs(runs) => {
            let run = |run: &Kept| {
                json!({"run": run.id, "at": time(run.started), "command": run.command, "seconds": run_seconds(run.took_ms),
                       "exit": run.exit, "summary": run.summary})
            };
            ("runs", None, runs.iter().map(run).collect())
        }
        Found::Link(name, then) => {
            let look = |l: &LinkThen| {
                json!({"at": time(l.at), "name": l.name, "state": l.state, "reason": l.reason, "behind": l.gap,
                       "unit": l.unit, "late_ms": l.late_ms})
            };
            ("link", Some(name), then.iter().map(look).collect())
        }
        Found::Table(name, then, of_days, of_accepted) => {
            let one = |a: &Accepted| json!({"id": conflict_id(&a.name), "conflict": a.name, "because": a.because, "at": time(a.at), "standing": a.standing, "writes_lost": a.lost});
            accepted = Some(of_accepted.iter().map(one).collect::<Vec<_>>());
            let day = |d: &DayThen| json!({"day": d.day, "conflicts": d.conflicts, "apart": d.apart, "writes_lost": d.lost});
            days = Some(of_days.iter().map(day).collect::<Vec<_>>());
            let audit = |a: &TableThen| {
                json!({"at": time(a.at), "set": a.set, "verdict": a.verdict, "rows": a.rows, "divergent": a.divergent,
                       "in_flight": a.in_flight, "moving": a.moving, "healed": a.healed})
            };
            ("table", Some(name), then.iter().map(audit).collect())
        }
    };
    let rest = json!({"of": of, "name": name, "history": list});
    let mut document = Envelope::new("history", topology, &Timestamp::now()).with(rest);
    if let Some(days) = days {
        document["conflicts_by_day"] = Json::Array(days);
    }
    if let Some(accepted) = accepted {
        document["accepted_conflicts"] = Json::Array(accepted);
    }
    Ok(serde_json::to_string_pretty(&document)? + "\n")
}

pub(crate) fn time(at: Micros) -> Option<String> {
    Timestamp::from_microsecond(at).ok().map(|at| at.to_string())
}

/// How long a run took, in seconds.
pub(crate) fn run_seconds(took_ms: i64) -> f64 {
    keen_wire::seconds(Duration::from_millis(took_ms.unsigned_abs()))
}
