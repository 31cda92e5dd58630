//! The ledger's notes, for spreadsheets (RFC 4180).

use anyhow::{Context as _, Result};

use super::json::history::{run_seconds, time};
use crate::app::history::HistoryAnswer;
use crate::safe;

/// Writes it for spreadsheets: the latest first.
pub(crate) fn history(found: HistoryAnswer) -> Result<String> {
    let mut csv = csv::Writer::from_writer(Vec::new());
    let number = |number: Option<u64>| number.map(|n| n.to_string()).unwrap_or_default();
    match found {
        HistoryAnswer::Runs(runs) => {
            csv.write_record(["run", "at", "command", "seconds", "exit", "summary"])?;
            for run in runs {
                csv.write_record([
                    run.id.to_string(),
                    time(run.started).unwrap_or_default(),
                    run.command,
                    run_seconds(run.took_ms).to_string(),
                    run.exit.to_string(),
                    plain(&run.summary),
                ])?;
            }
        }
        HistoryAnswer::Link(_, then) => {
            csv.write_record(["at", "name", "state", "behind", "unit", "late_ms", "reason"])?;
            for look in then {
                csv.write_record([
                    time(look.at).unwrap_or_default(),
                    plain(&look.name.unwrap_or_default()),
                    look.state,
                    number(look.gap),
                    look.unit.unwrap_or_default(),
                    look.late_ms.map(|ms| ms.to_string()).unwrap_or_default(),
                    plain(&look.reason),
                ])?;
            }
        }
        HistoryAnswer::Table(_, then, ..) => {
            csv.write_record([
                "at",
                "set",
                "verdict",
                "rows",
                "divergent",
                "in_flight",
                "moving",
                "healed",
            ])?;
            for audit in then {
                let counts =
                    [audit.rows, audit.divergent, audit.in_flight, audit.moving, audit.healed];
                let mut record =
                    vec![time(audit.at).unwrap_or_default(), plain(&audit.set), audit.verdict];
                record.extend(counts.map(|count| count.to_string()));
                csv.write_record(record)?;
            }
        }
    }
    let bytes = csv.into_inner().context("the values cannot be written")?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

/// Text from a server that no spreadsheet takes for a formula.
fn plain(text: &str) -> String {
    let text = safe::text(text);
    if text.starts_with(['=', '+', '-', '@']) { format!("'{text}") } else { text }
}
