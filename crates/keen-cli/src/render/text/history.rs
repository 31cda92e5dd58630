//! The ledger's notes, for people, programs and spreadsheets.

use std::fmt::Write as _;
use std::time::Duration;

use comfy_table::presets::NOTHING;
use comfy_table::{Cell, CellAlignment, ContentArrangement, Table};
use jiff::Timestamp;
use keen_core::links::LinkState;
use keen_core::observe::links::Micros;
use keen_core::observe::position::Gap;
use keen_run::ledger::{DayThen, LinkThen, RunThen, TableThen, conflict_id};

use super::links::{color, duration, gap};
use super::style::{HEADING, QUIET, hanging, styled};
use crate::app::history::HistoryAnswer;
use crate::numbers::{counted, grouped};
use crate::safe;

/// Columns of the longest bar.
const BAR: u64 = 24;
/// Columns of tables where there is no terminal to fit them to.
const WIDTH_ELSEWHERE: u16 = 140;

/// Writes it for people: the latest last, where the eye is.
pub(crate) fn text(topology: &str, found: HistoryAnswer, columns: Option<usize>) -> String {
    let (mut days, mut accepted) = (Vec::new(), Vec::new());
    let (title, table, count) = match found {
        HistoryAnswer::Runs(runs) => ("runs".to_owned(), of_runs(&runs, columns), runs.len()),
        HistoryAnswer::Link((from, to), then) => {
            (format!("{from} -> {to}"), of_link(&then, columns), then.len())
        }
        HistoryAnswer::Table(name, then, of_days, of_accepted) => {
            (days, accepted) = (of_days, of_accepted);
            (name, of_table(&then, columns), then.len())
        }
    };
    let mut out = format!("{}: {}\n\n", styled(HEADING, &safe::text(topology)), safe::text(&title));
    if count == 0 && days.is_empty() {
        out.push_str("The ledger has no record of it yet.\n");
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

/// An empty table with these headings.
fn headed(names: &[&str], columns: Option<usize>) -> Table {
    let width = columns.and_then(|columns| u16::try_from(columns).ok()).unwrap_or(WIDTH_ELSEWHERE);
    let mut table = Table::new();
    table.load_style(NOTHING).set_content_arrangement(ContentArrangement::Dynamic).set_width(width);
    table.set_header(names.iter().map(|text| Cell::new(styled(QUIET, text))));
    table
}

/// A count, to the right.
fn number(count: u64) -> Cell {
    Cell::new(grouped(count)).set_alignment(CellAlignment::Right)
}

/// Runs, the latest last.
fn of_runs(runs: &[RunThen], columns: Option<usize>) -> Table {
    let mut table = headed(&["run", "when", "command", "took", "exit", "result"], columns);
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
    table
}

/// The states of a link, the latest last.
fn of_link(then: &[LinkThen], columns: Option<usize>) -> Table {
    let mut table = headed(&["when", "state", "behind", "", "late", "why"], columns);
    let most = then.iter().filter_map(|look| look.gap).max().unwrap_or(0);
    for look in then.iter().rev() {
        let state = match LinkState::named(&look.state) {
            Some(state) => styled(color(state), state.name()),
            None => safe::text(&look.state),
        };
        let late = look.late_ms.map(|ms| duration(Duration::from_millis(ms.unsigned_abs())));
        table.add_row(vec![
            Cell::new(moment(look.at)),
            Cell::new(state),
            Cell::new(behind(look)),
            Cell::new(bar(look.gap.unwrap_or(0), most)),
            Cell::new(late.unwrap_or_default()),
            Cell::new(safe::text(&look.reason)),
        ]);
    }
    table
}

/// The audits of a table, the latest last.
fn of_table(then: &[TableThen], columns: Option<usize>) -> Table {
    let names =
        ["when", "set", "verdict", "rows", "divergent", "", "in flight", "moving", "healed"];
    let mut table = headed(&names, columns);
    let most = then.iter().map(|audit| audit.divergent).max().unwrap_or(0);
    for audit in then.iter().rev() {
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
    table
}

/// Conflicts day by day, the latest last.
fn by_day(days: &[DayThen], columns: Option<usize>) -> String {
    let mut table = super::style::table(columns, &["day", "conflicts", "", "apart", "writes lost"]);
    let most = days.iter().map(|day| day.conflicts).max().unwrap_or(0);
    for day in days.iter().rev() {
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

fn took(run: &RunThen) -> String {
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
