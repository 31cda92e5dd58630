//! What the ledger holds, for people, programs and spreadsheets.

use std::fmt::Write as _;
use std::time::Duration;

use anyhow::{Context as _, Result};
use comfy_table::presets::NOTHING;
use comfy_table::{Cell, CellAlignment, ContentArrangement, Table};
use jiff::Timestamp;
use keen_core::links::State;
use keen_core::observe::links::Micros;
use keen_core::observe::position::Gap;
use keen_run::ledger::{Accepted, DayThen, Kept, LinkThen, TableThen, conflict_id};
use serde_json::{Value as Json, json};

use super::links::{color, duration, gap};
use super::style::{HEADING, QUIET, hanging, styled};
use crate::app::history::Found;
use crate::numbers::{counted, grouped};
use crate::safe;
use keen_wire::Envelope;

/// Columns of the longest bar.
const BAR: u64 = 24;
/// Columns of tables where there is no terminal to fit them to.
const WIDTH_ELSEWHERE: u16 = 140;

/// Writes it for people: the latest last, where the eye is.
pub(crate) fn text(topology: &str, found: Found, columns: Option<usize>) -> String {
    let width = columns.and_then(|columns| u16::try_from(columns).ok()).unwrap_or(WIDTH_ELSEWHERE);
    let mut table = Table::new();
    table.load_style(NOTHING).set_content_arrangement(ContentArrangement::Dynamic).set_width(width);
    let heading = |names: &[&str], table: &mut Table| {
        table.set_header(names.iter().map(|text| Cell::new(styled(QUIET, text))));
    };
    let (mut days, mut accepted) = (Vec::new(), Vec::new());
    let (title, count) = match found {
        Found::Runs(runs) => {
            heading(&["run", "when", "command", "took", "exit", "what it came to"], &mut table);
            for run in runs.iter().rev() {
                table.add_row(vec![
                    Cell::new(run.id),
                    Cell::new(moment(run.started)),
                    Cell::new(&run.command),
                    Cell::new(took(run)),
                    Cell::new(run.exit).set_alignment(CellAlignment::Right),
                    Cell::new(safe::text(&run.summary)),
                ]);
            }
            ("runs".to_owned(), runs.len())
        }
        Found::Link(name, then) => {
            heading(&["when", "state", "behind", "", "late", "why"], &mut table);
            let most = then.iter().filter_map(|look| look.gap).max().unwrap_or(0);
            for look in then.iter().rev() {
                let state = match State::named(&look.state) {
                    Some(state) => styled(color(state), state.name()),
                    None => safe::text(&look.state),
                };
                let late =
                    look.late_ms.map(|ms| duration(Duration::from_millis(ms.unsigned_abs())));
                table.add_row(vec![
                    Cell::new(moment(look.at)),
                    Cell::new(state),
                    Cell::new(behind(look)),
                    Cell::new(bar(look.gap.unwrap_or(0), most)),
                    Cell::new(late.unwrap_or_default()),
                    Cell::new(safe::text(&look.reason)),
                ]);
            }
            (name, then.len())
        }
        Found::Table(name, then, of_days, of_accepted) => {
            accepted = of_accepted;
            days = of_days;
            heading(
                &[
                    "when",
                    "set",
                    "verdict",
                    "rows",
                    "divergent",
                    "",
                    "in flight",
                    "moving",
                    "healed",
                ],
                &mut table,
            );
            let most = then.iter().map(|audit| audit.divergent).max().unwrap_or(0);
            for audit in then.iter().rev() {
                let number =
                    |count: u64| Cell::new(grouped(count)).set_alignment(CellAlignment::Right);
                table.add_row(vec![
                    Cell::new(moment(audit.at)),
                    Cell::new(safe::text(&audit.set)),
                    Cell::new(safe::text(&audit.verdict)),
                    number(audit.rows),
                    number(audit.divergent),
                    Cell::new(bar(audit.divergent, most)),
                    number(audit.in_flight),
                    number(audit.moving),
                    number(audit.healed),
                ]);
            }
            (name, then.len())
        }
    };
    let mut out = format!("{}: {}\n\n", styled(HEADING, &safe::text(topology)), safe::text(&title));
    if count == 0 && days.is_empty() {
        out.push_str("The ledger holds nothing of it yet.\n");
        return out;
    }
    if count > 0 {
        for line in table.lines() {
            let _ = writeln!(out, "{}", line.trim_end());
        }
    }
    if !days.is_empty() {
        let gap = if count > 0 { "\n" } else { "" };
        let _ = writeln!(
            out,
            "{gap}{}",
            styled(HEADING, "Conflicts, by the day of their last write (UTC)")
        );
        out.push_str(&by_day(&days, columns));
    }
    if !accepted.is_empty() {
        let _ = writeln!(out, "\n{}", styled(HEADING, "Conflicts that were accepted as they are"));
    }
    for one in &accepted {
        let lead = format!("  {} {}  ", conflict_id(&one.name), moment(one.at));
        let text = format!(
            "{}: {} ({}, {} lost)",
            safe::text(&one.name),
            safe::text(&one.because),
            one.standing,
            counted(one.lost, "write", "writes")
        );
        out.push_str(&hanging(&lead, &text, columns));
    }
    out
}

/// Conflicts day by day, the latest last.
fn by_day(days: &[DayThen], columns: Option<usize>) -> String {
    let mut table = super::style::table(columns, &["day", "conflicts", "", "apart", "writes lost"]);
    let most = days.iter().map(|day| day.conflicts).max().unwrap_or(0);
    for day in days.iter().rev() {
        let number = |count: u64| Cell::new(grouped(count)).set_alignment(CellAlignment::Right);
        table.add_row(vec![
            Cell::new(day.day.as_deref().unwrap_or("unknown")),
            number(day.conflicts),
            Cell::new(bar(day.conflicts, most)),
            number(day.apart),
            number(day.lost),
        ]);
    }
    super::style::finished(&table)
}

fn took(run: &Kept) -> String {
    duration(Duration::from_millis(run.took_ms.unsigned_abs()))
}

fn moment(at: Micros) -> String {
    let at = Timestamp::from_microsecond(at).ok();
    at.map_or("?".to_owned(), |at| at.strftime("%Y-%m-%d %H:%M:%S").to_string())
}

fn behind(look: &LinkThen) -> String {
    let size = look.gap.filter(|size| *size > 0);
    let size = size.map(|size| match look.unit.as_deref() {
        Some("bytes") => gap(Gap::Bytes(size)),
        _ => gap(Gap::Transactions(size)),
    });
    size.unwrap_or_default()
}

/// A bar as long as its number is large among the others; never none for what is more than nothing.
fn bar(number: u64, most: u64) -> String {
    if number == 0 || most == 0 {
        return String::new();
    }
    let length = u128::from(number) * u128::from(BAR) / u128::from(most);
    "\u{25a0}".repeat(usize::try_from(length.max(1)).unwrap_or(1))
}

fn time(at: Micros) -> Option<String> {
    Timestamp::from_microsecond(at).ok().map(|at| at.to_string())
}

fn run_seconds(took_ms: i64) -> f64 {
    keen_wire::seconds(Duration::from_millis(took_ms.unsigned_abs()))
}

/// Writes it for programs: the latest first.
pub(crate) fn json(topology: &str, found: Found) -> Result<String> {
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

/// Writes it for spreadsheets: the latest first.
pub(crate) fn csv(found: Found) -> Result<String> {
    let mut csv = csv::Writer::from_writer(Vec::new());
    let number = |number: Option<u64>| number.map(|n| n.to_string()).unwrap_or_default();
    match found {
        Found::Runs(runs) => {
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
        Found::Link(_, then) => {
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
        Found::Table(_, then, ..) => {
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
