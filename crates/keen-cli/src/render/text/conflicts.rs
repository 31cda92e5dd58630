//! Conflicts, for people.

use std::fmt::Write as _;

use comfy_table::{Cell, CellAlignment};
use jiff::Timestamp;
use keen_core::conflict::{
    Conflict, ConflictKind, ConflictStanding, CurrentRow, Doubt, Fate, Thing, WinningRule, Written,
};
use keen_core::history::happened_before::Deed;
use keen_core::history::journal::Stream;
use keen_core::observe::links::Micros;
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;
use keen_run::conflicts::NodeRead;
use keen_run::tables::SetTable;

use super::links::duration;
use super::style::{self, BAD, GOOD, HEADING, QUIET, UNKNOWN, hanging, styled};
use crate::app::conflicts::{SearchOutcome, SearchRequest, counts, writer};
use crate::numbers::{counted, grouped};
use crate::safe;

/// Writes the whole result.
pub(crate) fn write(
    topology: &Topology,
    asked: &SearchRequest,
    outcome: &SearchOutcome,
    show: usize,
    columns: Option<usize>,
) -> String {
    let found = &outcome.found;
    let mut out = String::new();
    let read = found.nodes.values().filter(|node| node.read).count() as u64;
    let transactions: u64 = found.nodes.values().map(|node| node.transactions).sum();
    let journals = match read {
        0 => ", no journal could be read,".to_owned(),
        1 => format!(
            " in the journal of 1 node, {} read",
            counted(transactions, "transaction", "transactions")
        ),
        read => format!(
            " in the journals of {} nodes, {} read",
            grouped(read),
            counted(transactions, "transaction", "transactions")
        ),
    };
    let _ = writeln!(
        out,
        "{}: {}{journals} in {}, {}",
        styled(HEADING, &safe::text(&topology.name)),
        counted(found.conflicts.len() as u64, "conflict", "conflicts"),
        duration(outcome.took),
        outcome.started.strftime("%Y-%m-%d %H:%M:%S UTC"),
    );
    if let Some(at) = outcome.went_on_from {
        let earlier: u64 = found.nodes.values().map(|node| node.earlier).sum();
        let text = format!(
            "Read on from where the run of {} UTC ended; up to there earlier runs read {}. --whole reads everything again.",
            moment(Some(at)),
            counted(earlier, "transaction", "transactions"),
        );
        out.push_str(&hanging("", &text, columns));
    }
    if !outcome.left_out.is_empty() {
        let _ = writeln!(out, "Left out on request: {}", outcome.left_out.join(", "));
    }
    if !found.conflicts.is_empty() {
        out.push('\n');
        out.push_str(&overview(topology, outcome, columns));
    }
    write_unread(&mut out, topology, outcome, columns);
    if let Some(key) = &asked.key {
        let table = asked.tables.first().map_or("", String::as_str);
        let shown = super::row_history::write(topology, found, (table, key), columns);
        let _ = write!(out, "\n{shown}");
    }
    for (number, conflict) in found.conflicts.iter().take(show).enumerate() {
        out.push('\n');
        write_conflict(&mut out, topology, outcome, (number + 1, conflict), columns);
    }
    write_untold(&mut out, outcome, show, columns);
    out.push('\n');
    conclude(&mut out, outcome, show, columns);
    out
}

fn overview(topology: &Topology, outcome: &SearchOutcome, columns: Option<usize>) -> String {
    let heading = ["table", "kind", "apart", "open", "alike", "healed", "writes lost", "between"];
    let mut table = style::table(columns, &heading);
    for ((number, kind), counts) in counts(&outcome.found) {
        let of = |standings: &[ConflictStanding]| -> u64 {
            standings.iter().filter_map(|standing| counts.standings.get(standing)).sum()
        };
        let number_of = |count: u64, bad: bool| {
            let text = match (count, bad) {
                (0, _) => styled(QUIET, "0"),
                (_, true) => styled(BAD, &grouped(count)),
                _ => grouped(count),
            };
            Cell::new(text).set_alignment(CellAlignment::Right)
        };
        let pairs: Vec<String> = (counts.pairs.iter())
            .map(|((a, b), count)| {
                format!(
                    "{}, {}: {}",
                    topology.nodes[*a].name,
                    topology.nodes[*b].name,
                    grouped(*count)
                )
            })
            .collect();
        table.add_row(vec![
            Cell::new(safe::text(&outcome.found.tables[number].name)),
            Cell::new(kind.name()),
            number_of(of(&[ConflictStanding::Apart, ConflictStanding::Broken]), true),
            number_of(of(&[ConflictStanding::InFlight, ConflictStanding::Unread]), false),
            number_of(of(&[ConflictStanding::Alike]), false),
            number_of(of(&[ConflictStanding::Healed]), false),
            number_of(counts.lost, true),
            Cell::new(pairs.join("; ")),
        ]);
    }
    style::finished(&table)
}

fn write_unread(
    out: &mut String,
    topology: &Topology,
    outcome: &SearchOutcome,
    columns: Option<usize>,
) {
    let found = &outcome.found;
    let mut lines = String::new();
    // What is alike on several nodes is said once.
    let mut notes: Vec<(&String, Vec<NodeId>)> = Vec::new();
    for (node, report) in &found.nodes {
        let name = &topology.nodes[*node].name;
        if let Some(fault) = &report.fault {
            let what = if report.read { "journal not read to its end" } else { "journal not read" };
            let lead = format!("{} {name}: ", styled(UNKNOWN, what));
            lines.push_str(&hanging(&lead, &safe::text(&fault.to_string()), columns));
        }
        if let Some(fault) = &report.rows_fault {
            let lead = format!("{} {name}: ", styled(UNKNOWN, "rows not read"));
            lines.push_str(&hanging(&lead, &safe::text(&fault.to_string()), columns));
        }
        for note in &report.notes {
            match notes.iter_mut().find(|(known, _)| *known == note) {
                Some((_, nodes)) => nodes.push(*node),
                None => notes.push((note, vec![*node])),
            }
        }
    }
    for (note, nodes) in notes {
        let lead = format!("{} {}: ", styled(QUIET, "note"), style::nodes(topology, &nodes));
        lines.push_str(&hanging(&lead, &safe::text(note), columns));
    }
    for (table, reason) in &found.left {
        let lead = format!("{} {}: ", styled(UNKNOWN, "not judged"), safe::text(table));
        lines.push_str(&hanging(&lead, &safe::text(reason), columns));
    }
    for id in &found.reused {
        let text = format!(
            "{id} is not the same transaction in every journal: its number was given out twice"
        );
        lines.push_str(&hanging(
            &format!("{} ", styled(UNKNOWN, "reused")),
            &safe::text(&text),
            columns,
        ));
    }
    if !lines.is_empty() {
        let _ = write!(out, "\n{lines}");
    }
}

/// Proofs of earlier runs that no journal tells any more.
fn write_untold(out: &mut String, outcome: &SearchOutcome, show: usize, columns: Option<usize>) {
    let untold = &outcome.proven.untold;
    if untold.is_empty() {
        return;
    }
    let count = counted(untold.len() as u64, "conflict", "conflicts");
    let text = format!(
        "{count} that earlier runs proved and that lie before the journals read now; as reported then:"
    );
    let _ = write!(out, "\n{}", hanging("", &text, columns));
    for proof in untold.iter().take(show) {
        let accepted = if outcome.is_accepted(proof) { ", accepted" } else { "" };
        let seen = moment(Some(proof.seen));
        let _ =
            writeln!(out, "\n{}", styled(QUIET, &format!("by the run of {seen} UTC{accepted}")));
        out.push_str(&safe::lines(&proof.told));
    }
    if untold.len() > show {
        let _ = writeln!(out, "… and {} more", grouped((untold.len() - show) as u64));
    }
}

/// A conflict in words, as the ledger keeps it.
pub(crate) fn told(topology: &Topology, outcome: &SearchOutcome, conflict: &Conflict) -> String {
    let mut out = String::new();
    let (word, _) = standing(conflict);
    let table = &outcome.found.tables[conflict.table];
    let id = outcome.id(conflict);
    let title = title(table, conflict);
    let _ = writeln!(out, "{title}: {}; {word} [{id}]", conflict.kind.words());
    write_evidence(&mut out, topology, outcome, conflict, None);
    // Whoever reads it later must not take it for what is so then.
    anstream::adapter::strip_str(&out).to_string().replace("\n   now   ", "\n   then  ")
}

fn write_conflict(
    out: &mut String,
    topology: &Topology,
    outcome: &SearchOutcome,
    (number, conflict): (usize, &Conflict),
    columns: Option<usize>,
) {
    let tables = &outcome.found.tables;
    let table = &tables[conflict.table];
    let proof = if conflict.proven { "" } else { ", possible only" };
    let new = if outcome.is_new(conflict) == Some(true) { "new, " } else { "" };
    let title = styled(HEADING, &title(table, conflict));
    let (word, color) = standing(conflict);
    out.push_str(&hanging(
        &format!("{number}. "),
        &format!(
            "{title}: {new}{}{proof}; {} {}",
            conflict.kind.words(),
            styled(color, &word),
            styled(QUIET, &format!("[{}]", outcome.id(conflict)))
        ),
        columns,
    ));
    if let Some(accepted) = outcome.accepted(conflict) {
        let at = jiff::Timestamp::from_microsecond(accepted.at).unwrap_or_default();
        let lead =
            format!("   {} ", styled(QUIET, &format!("accepted {}:", at.strftime("%Y-%m-%d"))));
        out.push_str(&hanging(&lead, &safe::text(&accepted.because), columns));
    }
    write_evidence(out, topology, outcome, conflict, columns);
    if let Some(proof) = outcome.proof(conflict) {
        let text = format!(
            "by the run of {} UTC, when journals told more: {}",
            moment(Some(proof.seen)),
            proof.told.lines().next().unwrap_or_default()
        );
        out.push_str(&hanging("   proven ", &safe::text(&text), columns));
        if proof.ids != crate::app::proven::ids_of(conflict) {
            for line in proof.told.lines().skip(1) {
                out.push_str(&hanging("       ", &safe::text(line), columns));
            }
        }
    }
}

fn write_evidence(
    out: &mut String,
    topology: &Topology,
    outcome: &SearchOutcome,
    conflict: &Conflict,
    columns: Option<usize>,
) {
    let tables = &outcome.found.tables;
    for write in &conflict.writes {
        let lead = format!("   {}  ", who(topology, conflict, write));
        out.push_str(&hanging(&lead, &did(topology, tables, conflict, write), columns));
    }
    if conflict.count > conflict.writes.len() {
        let _ = writeln!(
            out,
            "   … and {} more writes",
            grouped((conflict.count - conflict.writes.len()) as u64)
        );
    }
    for line in unseen(topology, conflict) {
        out.push_str(&hanging("   ", &line, columns));
    }
    for line in now(topology, tables, conflict) {
        out.push_str(&hanging("   now   ", &line, columns));
    }
    if let Some(line) = won(topology, conflict) {
        out.push_str(&hanging("   won   ", &line, columns));
    }
    for write in conflict.writes.iter().filter(|write| write.fate.is_lost()) {
        let lead = format!("   {}  ", styled(BAD, "lost"));
        out.push_str(&hanging(&lead, &lost(topology, tables, conflict, write), columns));
    }
    if conflict.counted {
        out.push_str(&hanging(
            "   ",
            "The nodes number these keys themselves: both used the same number.",
            columns,
        ));
    }
    if !conflict.counted_alike.is_empty() {
        let names: Vec<String> = (conflict.counted_alike.iter())
            .map(|at| safe::text(&tables[conflict.table].layout.columns[*at].name))
            .collect();
        let text = format!(
            "both changed {} from the same number to the same new one: if it is a counter ({} = {} + 1), one of the two is lost",
            names.join(", "),
            names[0],
            names[0]
        );
        out.push_str(&hanging(&format!("   {} ", styled(BAD, "lost?")), &text, columns));
    }
    for (from, to, rows) in &conflict.breaks {
        let text = format!(
            "{} written at {} meanwhile travel to {} in the other shape",
            counted(*rows, "row", "rows"),
            topology.nodes[*from].name,
            topology.nodes[*to].name
        );
        out.push_str(&hanging("   ", &text, columns));
    }
    if let Some((id, node)) = &conflict.healed_by {
        let text = format!(
            "{} of {}, which had seen every side",
            safe::text(&id.to_string()),
            writer(topology, *node, id)
        );
        out.push_str(&hanging("   healed by ", &text, columns));
    }
    if let Some(doubt) = conflict.doubt {
        let name = |node: NodeId| &topology.nodes[node].name;
        let why = match doubt {
            Doubt::Outsider => "one of them was made by a writer outside the topology, and no journal shows what that one had seen".to_owned(),
            Doubt::NoJournal(node) => format!("the journal of {} could not be read, and times alone prove nothing", name(node)),
            Doubt::LastOnly => "without a journal only the last write of each row is known, and times alone prove nothing".to_owned(),
            Doubt::TooShort(node) => format!("the journal of {} does not reach back far enough, and times alone prove nothing", name(node)),
        };
        out.push_str(&hanging(&format!("   {} ", styled(UNKNOWN, "not proven:")), &why, columns));
    }
}

fn title(table: &SetTable, conflict: &Conflict) -> String {
    let name = safe::text(&table.name);
    match &conflict.thing {
        Thing::Row(key) => format!("{name} {}", cells(table, &table.layout.key, key)),
        Thing::Unique(places, values) => format!("{name} {}", cells(table, places, values)),
        Thing::Shape => format!("shape of {name}"),
    }
}

/// "hut 'valley', bed 3"
pub(crate) fn cells(table: &SetTable, places: &[usize], values: &[Value]) -> String {
    let one = |(at, value): (&usize, &Value)| {
        format!("{} {}", safe::text(&table.layout.columns[*at].name), safe::value(value))
    };
    places.iter().zip(values).map(one).collect::<Vec<_>>().join(", ")
}

fn standing(conflict: &Conflict) -> (String, anstyle::Style) {
    let color = match conflict.standing {
        ConflictStanding::Apart | ConflictStanding::Broken => BAD,
        ConflictStanding::InFlight | ConflictStanding::Unread => UNKNOWN,
        ConflictStanding::Alike | ConflictStanding::Healed if conflict.lost() == 0 => GOOD,
        ConflictStanding::Alike | ConflictStanding::Healed => BAD,
    };
    let lost = match conflict.lost() {
        0 => String::new(),
        1 => ", 1 write lost".to_owned(),
        lost => format!(", {lost} writes lost"),
    };
    (format!("{}{lost}", conflict.standing.name()), color)
}

pub(crate) fn moment(made: Option<Micros>) -> String {
    let at = made.and_then(|made| Timestamp::from_microsecond(made).ok());
    at.map_or("at an unknown time".to_owned(), |at| {
        let pattern =
            if at.subsec_nanosecond() == 0 { "%Y-%m-%d %H:%M:%S" } else { "%Y-%m-%d %H:%M:%S%.3f" };
        at.strftime(pattern).to_string()
    })
}

fn who(topology: &Topology, conflict: &Conflict, write: &Written) -> String {
    let name = writer(topology, write.node, &write.id);
    let widest = topology.nodes.iter().filter(|node| node.writes).map(|node| node.name.len()).max();
    let width = widest.unwrap_or(0);
    if write.id.writer.stream == Stream::Time {
        return format!("{name:width$}  {}", moment(write.made));
    }
    let ids = conflict.writes.iter().map(|write| write.id.to_string().len()).max().unwrap_or(0);
    let id = styled(QUIET, &format!("{:ids$}", safe::text(&write.id.to_string())));
    format!("{name:width$}  {}  {id}", moment(write.made))
}

/// A write in a few words.
fn did(topology: &Topology, tables: &[SetTable], conflict: &Conflict, write: &Written) -> String {
    let row = conflict.rows.get(write.row);
    let table = &tables[row.map_or(conflict.table, |row| row.table)];
    let mut text = match (&write.statement, write.deed) {
        (Some(statement), _) => safe::text(statement),
        (None, Deed::Delete) => "deleted it".to_owned(),
        (None, Deed::Update) => changes(table, &write.content),
        (None, Deed::Insert) => format!("inserted it: {}", after(table, write, &[])),
        (None, Deed::Take | Deed::Refer) => {
            let key = row.map(|row| cells(table, &table.layout.key, &row.key)).unwrap_or_default();
            format!("{} {key}: {}", safe::text(&table.name), after(table, write, &table.layout.key))
        }
    };
    if !write.skipped.is_empty() {
        let at: Vec<NodeId> = write.skipped.iter().collect();
        let _ = write!(text, "; never applied at {}", style::nodes(topology, &at));
    }
    text
}

/// "bed 4 -> 7, note NULL -> 'late'"
pub(crate) fn changes(table: &SetTable, content: &keen_core::conflict::Content) -> String {
    let Some(after) = &content.after else { return "changed it".to_owned() };
    let mut parts = Vec::new();
    // MariaDB's log leaves out what was not written, where it leaves out anything.
    let shown = || table.layout.shown.iter().filter(|at| !table.layout.key.contains(at));
    let partly = shown().any(|at| after.get(*at).is_none_or(Option::is_none));
    let mut unknown = 0;
    for at in &table.layout.shown {
        let name = safe::text(&table.layout.columns[*at].name);
        let before = content.before.as_ref().map(|before| before.get(*at).and_then(Option::as_ref));
        match (before, after.get(*at).and_then(Option::as_ref)) {
            (Some(Some(before)), Some(after)) if !before.same_as(after) => {
                let shown = safe::values_apart(&[before, after]);
                parts.push(format!("{name} {} \u{2192} {}", shown[0], shown[1]));
            }
            (None | Some(None), Some(after)) if !table.layout.key.contains(at) => {
                unknown += 1;
                parts.push(format!("{name} to {}", safe::value(after)));
            }
            _ => {}
        }
    }
    if unknown > 1 && !partly {
        parts.push("the log does not show which of these it changed".to_owned());
    }
    if parts.is_empty() { "changed nothing in it".to_owned() } else { parts.join(", ") }
}

fn after(table: &SetTable, write: &Written, without: &[usize]) -> String {
    let Some(after) = &write.content.after else { return String::new() };
    let shown = table.layout.shown.iter().filter(|at| !without.contains(at));
    let cell = |at: &usize| {
        let value = after.get(*at)?.as_ref()?;
        Some(format!("{} {}", safe::text(&table.layout.columns[*at].name), safe::value(value)))
    };
    shown.filter_map(cell).collect::<Vec<_>>().join(", ")
}

/// Who had not seen whose writes.
fn unseen(topology: &Topology, conflict: &Conflict) -> Vec<String> {
    let of = |at: usize| &conflict.writes[at];
    let name = |at: usize| writer(topology, of(at).node, &of(at).id);
    if conflict.kind == ConflictKind::Skipped || conflict.unseen.is_empty() {
        return Vec::new();
    }
    if conflict.writes.len() == 2 {
        return vec![styled(
            QUIET,
            &format!("Neither {} nor {} had seen the other's.", name(0), name(1)),
        )];
    }
    let mut pairs: Vec<(String, String)> =
        conflict.unseen.iter().map(|(a, b)| (name(*a), name(*b))).collect();
    pairs.sort();
    pairs.dedup();
    let texts: Vec<String> = pairs.iter().map(|(a, b)| format!("{a} and {b}")).collect();
    vec![styled(QUIET, &format!("Had not seen each other's writes: {}.", texts.join("; ")))]
}

/// The versions that nodes hold now, those that hold the same together.
fn now(topology: &Topology, tables: &[SetTable], conflict: &Conflict) -> Vec<String> {
    let mut lines = Vec::new();
    for row in &conflict.rows {
        let table = &tables[row.table];
        let mut groups: Vec<(&CurrentRow, Vec<NodeId>)> = Vec::new();
        for (node, now) in &row.now {
            match groups.iter_mut().find(|(known, _)| *known == now) {
                Some((_, nodes)) => nodes.push(*node),
                None => groups.push((now, vec![*node])),
            }
        }
        let shown = disputed(table, conflict, &groups);
        let texts: Vec<String> = groups
            .iter()
            .map(|(now, nodes)| {
                let what = match now {
                    CurrentRow::Row(cells) => {
                        let cell = |at: &usize| {
                            Some(format!(
                                "{} {}",
                                safe::text(&table.layout.columns[*at].name),
                                safe::value(cells.get(*at)?)
                            ))
                        };
                        let texts: Vec<String> = shown.iter().filter_map(cell).collect();
                        if texts.is_empty() { "the row".to_owned() } else { texts.join(", ") }
                    }
                    CurrentRow::NoRow => "no row".to_owned(),
                    CurrentRow::Unread(_) => "not read".to_owned(),
                };
                format!("{}: {what}", style::nodes(topology, nodes))
            })
            .collect();
        let lead = match conflict.rows.len() {
            1 => String::new(),
            _ => format!(
                "{} {}: ",
                safe::text(&table.name),
                cells(table, &table.layout.key, &row.key)
            ),
        };
        lines.push(format!("{lead}{}", texts.join(" | ")));
    }
    lines
}

/// The columns worth showing: those in which writes or nodes differ.
fn disputed(
    table: &SetTable,
    conflict: &Conflict,
    groups: &[(&CurrentRow, Vec<NodeId>)],
) -> Vec<usize> {
    let written = |at: &usize| {
        conflict.writes.iter().any(|write| {
            let cell = |side: &Option<Vec<Option<Value>>>| {
                side.as_ref().and_then(|cells| cells.get(*at)).cloned().flatten()
            };
            let content = &write.content;
            match (write.deed, cell(&content.before), cell(&content.after)) {
                (Deed::Update, Some(before), Some(after)) => !before.same_as(&after),
                _ => false,
            }
        })
    };
    let rows: Vec<&Vec<Value>> = groups
        .iter()
        .filter_map(|(now, _)| if let CurrentRow::Row(cells) = now { Some(cells) } else { None })
        .collect();
    let differs = |at: &usize| rows.windows(2).any(|pair| !pair[0][*at].same_as(&pair[1][*at]));
    let inserted = conflict.writes.iter().filter(|write| write.deed == Deed::Insert).count() > 1;
    let parts = |at: &usize| {
        let values: Vec<&Value> = conflict
            .writes
            .iter()
            .filter_map(|write| write.content.after.as_ref()?.get(*at)?.as_ref())
            .collect();
        inserted && values.windows(2).any(|pair| !pair[0].same_as(pair[1]))
    };
    let mut shown: Vec<usize> = (table.layout.shown.iter().copied())
        .filter(|at| written(at) || differs(at) || parts(at))
        .collect();
    if let Thing::Unique(places, _) = &conflict.thing {
        shown.extend(places.iter().filter(|at| !shown.contains(at)).copied().collect::<Vec<_>>());
    }
    shown
}

fn won(topology: &Topology, conflict: &Conflict) -> Option<String> {
    if conflict.held.is_empty()
        || conflict.standing == ConflictStanding::InFlight
        || conflict.kind == ConflictKind::Skipped
    {
        return None;
    }
    let mut by_write: Vec<(usize, Vec<NodeId>)> = Vec::new();
    for (node, number) in &conflict.held {
        match by_write.iter_mut().find(|(known, _)| known == number) {
            Some((_, nodes)) => nodes.push(*node),
            None => by_write.push((*number, vec![*node])),
        }
    }
    let texts: Vec<String> = by_write
        .iter()
        .filter_map(|(number, nodes)| {
            let write = conflict.writes.get(*number)?;
            let whose = format!("{}'s", writer(topology, write.node, &write.id));
            Some(match by_write.len() {
                1 => whose,
                _ => format!("{whose} at {}", style::nodes(topology, nodes)),
            })
        })
        .collect();
    let rules: Vec<&str> = conflict.rules.iter().map(|rule: &WinningRule| rule.words()).collect();
    let why = match rules.is_empty() {
        true => String::new(),
        false => format!(" ({})", rules.join(", and ")),
    };
    Some(texts.join("; ") + &why)
}

/// The cells that a lost write had, beside what is there instead.
fn lost(topology: &Topology, tables: &[SetTable], conflict: &Conflict, write: &Written) -> String {
    let who = writer(topology, write.node, &write.id);
    let table = &tables[conflict.rows.get(write.row).map_or(conflict.table, |row| row.table)];
    let Fate::Lost(columns) = &write.fate else { return who };
    if columns.is_empty() {
        return format!("{who}'s delete: the row is there again");
    }
    let rows: Vec<&Vec<Value>> = conflict
        .rows
        .get(write.row)
        .into_iter()
        .flat_map(|row| row.now.values())
        .filter_map(|now| if let CurrentRow::Row(cells) = now { Some(cells) } else { None })
        .collect();
    let texts: Vec<String> = (table.layout.shown.iter().filter(|at| columns.contains(at)))
        .filter_map(|at| {
            let mine = write.content.after.as_ref()?.get(*at)?.as_ref()?;
            let mut there: Vec<String> =
                rows.iter().map(|cells| safe::value(&cells[*at])).collect();
            there.sort();
            there.dedup();
            let name = safe::text(&table.layout.columns[*at].name);
            Some(match there.is_empty() {
                true => format!("{name} {}", safe::value(mine)),
                false => format!("{name} {} (there is {})", safe::value(mine), there.join(", ")),
            })
        })
        .collect();
    format!("{who}'s {}", texts.join(", "))
}

fn conclude(out: &mut String, outcome: &SearchOutcome, show: usize, columns: Option<usize>) {
    let found = &outcome.found;
    let count = found.conflicts.len();
    let past = outcome.past_the_log().len() as u64;
    if count == 0 && past > 0 {
        let _ = writeln!(
            out,
            "No conflicts; {}.",
            styled(
                BAD,
                &format!("{} what no journal wrote", counted(past, "node holds", "nodes hold"))
            )
        );
    } else if count == 0 && !outcome.proven.untold.is_empty() {
        let _ = writeln!(out, "No conflicts in what the journals hold now; {}.", outcome.summary());
    } else if count == 0 && outcome.complete() && outcome.hidden == 0 {
        let unlogged: Vec<String> = (found.tables.iter())
            .filter(|table| table.refers.iter().any(|refers| refers.unlogged))
            .map(|table| safe::text(&table.name))
            .collect();
        let seen = match unlogged.is_empty() {
            true => "Every write had seen what it replaced.".to_owned(),
            false => format!(
                "Every logged write had seen what it replaced; rows of {} also change together with those they refer to, which no log shows.",
                unlogged.join(", ")
            ),
        };
        let _ = writeln!(out, "{} {seen}", styled(GOOD, "No conflicts."));
    } else if count == 0 {
        let _ = writeln!(
            out,
            "No conflicts{}{}.",
            if outcome.hidden > 0 { " of those asked for" } else { "" },
            if outcome.complete() { "" } else { " in what was judged" }
        );
    } else {
        let color = if outcome.exit() == crate::exit::Exit::Found { BAD } else { GOOD };
        let _ = writeln!(out, "{}.", styled(color, &outcome.summary()));
    }
    if outcome.hidden > 0 {
        let _ = writeln!(
            out,
            "{} also found, which you did not ask for.",
            counted(outcome.hidden as u64, "conflict was", "conflicts were")
        );
    }
    if count > show {
        let _ = writeln!(
            out,
            "{} not shown: --show N shows more, --format json has all.",
            counted((count - show) as u64, "of them is", "of them are")
        );
    }
    if found.more > 0 {
        let _ = writeln!(
            out,
            "{} {} not judged: more conflicts, or more writes of one row, than keen keeps at once. Name fewer tables with --table.",
            styled(UNKNOWN, "Incomplete:"),
            counted(found.more, "case was", "cases were")
        );
    }
    if let Some(broken) = &found.broken {
        let _ = writeln!(
            out,
            "{} what was read could not be sorted: {}.",
            styled(UNKNOWN, "Incomplete:"),
            safe::text(broken)
        );
    }
    if found.stopped {
        let _ = writeln!(out, "{} it was stopped before the end.", styled(UNKNOWN, "Incomplete:"));
    } else if !outcome.complete() && found.more == 0 && found.broken.is_none() {
        let read = |node: &NodeRead| node.fault.is_none() && node.rows_fault.is_none();
        // Journals that are read another time may tell more; a table without a key stays as it is.
        let text = match found.nodes.values().all(read) {
            true => {
                "nothing is known about the tables that were not judged; to leave them out for good, list them under exclude in [conflicts]."
            }
            false => {
                "not everything could be read: what is reported above holds, but there may be more."
            }
        };
        out.push_str(&hanging(&format!("{} ", styled(UNKNOWN, "Incomplete:")), text, columns));
    }
}
