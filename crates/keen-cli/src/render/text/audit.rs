//! An audit, for people.

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::topology::node_set::NodeSet;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::ops::ControlFlow;
use std::time::Duration;

use comfy_table::presets::NOTHING;
use comfy_table::{Cell, CellAlignment, ContentArrangement, Table};
use keen_core::audit::merge::{DivergentRow, Version};
use keen_core::row::batch::Layout;
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;
use keen_run::audit::{AuditSink, TableHead, TableOutcome, Verdict};

use super::style::{self, BAD, HEADING, QUIET, UNKNOWN, hanging, styled};
use crate::app::audit::Totals;
use crate::numbers::{counted, grouped};
use crate::safe;

/// Gathers what the text will show: of each table its outcome and the first rows.
pub(crate) struct TextSink {
    limit: u64,
    tables: Vec<TableText>,
}

struct TableText {
    set: usize,
    table: String,
    layout: Option<Layout>,
    notes: Vec<String>,
    /// Nodes at which rows of the set may be made.
    makers: NodeSet,
    rows: Vec<DivergentRow>,
    outcome: Option<TableOutcome>,
}

impl TextSink {
    pub(crate) fn new(limit: u64) -> Self {
        Self { limit, tables: Vec::new() }
    }
}

impl AuditSink for TextSink {
    fn table(&mut self, head: &TableHead<'_>) -> ControlFlow<()> {
        self.tables.push(TableText {
            set: head.set,
            table: head.table.to_owned(),
            layout: head.layout.cloned(),
            notes: head.notes.to_vec(),
            makers: head.expectation.makers(),
            rows: Vec::new(),
            outcome: None,
        });
        ControlFlow::Continue(())
    }

    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        if let Some(table) = self.tables.last_mut()
            && (table.rows.len() as u64) < self.limit
        {
            table.rows.push(row);
        }
        ControlFlow::Continue(())
    }

    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        if let Some(table) = self.tables.last_mut() {
            table.outcome = Some(outcome.clone());
        }
        ControlFlow::Continue(())
    }
}

/// Writes the whole result.
pub(crate) fn write(
    topology: &Topology,
    sink: &TextSink,
    totals: &Totals,
    columns: Option<usize>,
) -> String {
    let mut out = String::new();
    let read = totals.nodes.values().filter(|node| node.fault.is_none()).count() as u64;
    let _ = writeln!(
        out,
        "{}: {} of {} on {}, {} rows read in {}, {}",
        styled(HEADING, &safe::text(&topology.name)),
        counted(totals.tables(), "table", "tables"),
        counted(sets(sink), "set", "sets"),
        counted(read, "node", "nodes"),
        grouped(totals.rows),
        took(totals.took),
        totals.started.strftime("%Y-%m-%d %H:%M:%S UTC"),
    );
    if !totals.left_out.is_empty() {
        let _ = writeln!(out, "Left out on request: {}", totals.left_out.join(", "));
    }
    out.push('\n');
    out.push_str(&overview(topology, sink, totals, columns));
    for (id, node) in &totals.nodes {
        if let Some(fault) = &node.fault {
            let _ = write!(
                out,
                "\n{} {}: {}\n",
                styled(UNKNOWN, "not read"),
                topology.nodes[*id].name,
                safe::text(&fault.to_string())
            );
        }
    }
    for table in &sink.tables {
        write_table(&mut out, topology, table, totals, columns);
    }
    out.push('\n');
    let shown: usize = sink.tables.iter().map(|table| table.rows.len()).sum();
    out.push_str(&conclusion(topology, totals, totals.divergent - shown as u64));
    out
}

fn sets(sink: &TextSink) -> u64 {
    let mut sets: Vec<usize> = sink.tables.iter().map(|table| table.set).collect();
    sets.dedup();
    sets.len() as u64
}

fn took(took: Duration) -> String {
    if took < Duration::from_secs(1) {
        format!("{} ms", took.as_millis())
    } else {
        format!("{:.1} s", took.as_secs_f64())
    }
}

/// Columns of the overview where there is no terminal to fit it to.
const WIDTH_ELSEWHERE: u16 = 120;

/// Tables that were not read for one cause are shown one by one up to this many.
const UNREAD_SHOWN: usize = 3;

/// Whether nothing is known of a table because no two of its nodes could be opened at all.
fn went_unread(row: &TableText, totals: &Totals) -> bool {
    let closed = |node: &NodeId| totals.nodes.get(node).is_some_and(|node| node.fault.is_some());
    row.notes.is_empty()
        && row.outcome.as_ref().is_some_and(|outcome| {
            let beside = |fault: &ReadFault| fault.kind == FaultKind::Alone;
            outcome.verdict == Verdict::Unread
                && outcome.unread.iter().all(|(node, fault)| closed(node) || beside(fault))
        })
}

fn overview(
    topology: &Topology,
    sink: &TextSink,
    totals: &Totals,
    columns: Option<usize>,
) -> String {
    let mut table = Table::new();
    table.load_style(NOTHING).set_content_arrangement(ContentArrangement::Dynamic).set_width(
        columns.and_then(|columns| u16::try_from(columns).ok()).unwrap_or(WIDTH_ELSEWHERE),
    );
    let heading = |text: &str| Cell::new(styled(QUIET, text));
    table.set_header(vec![
        heading("set"),
        heading("table"),
        heading("verdict"),
        heading("rows"),
        heading("divergent"),
    ]);
    let unread = sink.tables.iter().filter(|row| went_unread(row, totals)).count();
    let mut unread_shown = 0;
    for row in &sink.tables {
        let Some(outcome) = &row.outcome else {
            continue;
        };
        if unread > UNREAD_SHOWN && went_unread(row, totals) {
            unread_shown += 1;
            if unread_shown >= UNREAD_SHOWN {
                continue;
            }
        }
        let (word, color) = style::verdict(outcome.verdict);
        table.add_row(vec![
            Cell::new(safe::text(&topology.sets[row.set].name)),
            Cell::new(safe::text(&row.table)),
            Cell::new(styled(color, word)),
            Cell::new(row_counts(topology, outcome)),
            Cell::new(grouped(outcome.tally.divergent)).set_alignment(CellAlignment::Right),
        ]);
    }
    let mut out = String::new();
    for line in table.lines() {
        let _ = writeln!(out, "{}", line.trim_end());
    }
    if unread > UNREAD_SHOWN {
        let more = unread + 1 - UNREAD_SHOWN;
        let _ = writeln!(
            out,
            " {} {} like the last one: see below which nodes were not read",
            styled(UNKNOWN, "unread"),
            counted(more as u64, "more table", "more tables")
        );
    }
    out
}

/// "1500 on valley, cirque; 1499 on saddle".
fn row_counts(topology: &Topology, outcome: &TableOutcome) -> String {
    let tally = &outcome.tally;
    let mut by_count: Vec<(u64, Vec<NodeId>)> = Vec::new();
    for (node, balance) in tally.balances.iter().filter(|(node, _)| !tally.lost.contains_key(node))
    {
        match by_count.iter_mut().find(|(count, _)| *count == balance.rows) {
            Some((_, nodes)) => nodes.push(*node),
            None => by_count.push((balance.rows, vec![*node])),
        }
    }
    by_count.sort_by_key(|(_, nodes)| std::cmp::Reverse(nodes.len()));
    let mut parts: Vec<String> = by_count
        .iter()
        .map(|(count, nodes)| format!("{} on {}", grouped(*count), style::nodes(topology, nodes)))
        .collect();
    if !outcome.unread.is_empty() {
        let unread: Vec<NodeId> = outcome.unread.keys().copied().collect();
        parts.push(format!("not read on {}", style::nodes(topology, &unread)));
    }
    parts.join("; ")
}

fn write_table(
    out: &mut String,
    topology: &Topology,
    table: &TableText,
    totals: &Totals,
    columns: Option<usize>,
) {
    let Some(outcome) = &table.outcome else {
        return;
    };
    if went_unread(table, totals) {
        return;
    }
    // A node that could not be opened was named once for all its tables.
    let unread: Vec<_> = outcome
        .unread
        .iter()
        .filter(|(node, _)| totals.nodes.get(node).is_some_and(|node| node.fault.is_none()))
        .collect();
    let standings = &outcome.standings;
    let open = standings.in_flight + standings.moving;
    if outcome.verdict != Verdict::Diverges
        && unread.is_empty()
        && table.notes.is_empty()
        && open == 0
    {
        return;
    }
    let title =
        format!("{} ({})", safe::text(&table.table), safe::text(&topology.sets[table.set].name));
    let _ = write!(out, "\n{}", styled(HEADING, &title));
    if outcome.tally.divergent > 0 {
        let _ = write!(
            out,
            ": {}",
            counted(outcome.tally.divergent, "divergent row", "divergent rows")
        );
    }
    out.push('\n');
    for note in &table.notes {
        let _ = writeln!(out, "  {} {}", styled(QUIET, "note"), safe::text(note));
    }
    for (node, fault) in unread {
        let _ = writeln!(
            out,
            "  {} on {}: {}",
            styled(UNKNOWN, "not read"),
            topology.nodes[*node].name,
            safe::text(&fault.to_string())
        );
    }
    if open > 0 {
        let counts: Vec<String> = [
            (standings.in_flight, "in flight"),
            (standings.moving, "moving"),
            (standings.healed, "healed"),
        ]
        .into_iter()
        .filter(|(count, _)| *count > 0)
        .map(|(count, standing)| format!("{} {standing}", grouped(count)))
        .collect();
        let _ = writeln!(out, "  {} {}", styled(UNKNOWN, "not settled:"), counts.join(", "));
        for reason in &standings.waiting {
            out.push_str(&hanging("      ", &safe::text(reason), columns));
        }
    }
    if let Some(layout) = &table.layout {
        for row in &table.rows {
            write_row(out, topology, (layout, table.makers), row, columns);
        }
    }
    let more = outcome.tally.divergent - table.rows.len() as u64;
    if more > 0 {
        let _ = writeln!(out, "  … and {} more", grouped(more));
    }
}

fn write_row(
    out: &mut String,
    topology: &Topology,
    (layout, makers): (&Layout, NodeSet),
    row: &DivergentRow,
    columns: Option<usize>,
) {
    let title = styled(HEADING, &row_title(layout, row));
    out.push_str(&hanging(
        "  ",
        &format!("{title}: {}", difference(topology, layout, makers, row)),
        columns,
    ));
    let names: Vec<String> =
        row.versions.iter().map(|version| style::nodes(topology, &version.nodes)).collect();
    let widest = names.iter().map(|name| safe::width(name)).max().unwrap_or(0);
    let contents = version_texts(layout, row);
    for ((name, content), version) in names.iter().zip(contents).zip(&row.versions) {
        let padding = " ".repeat(widest.saturating_sub(safe::width(name)));
        let content = if version.row.is_none() { styled(BAD, &content) } else { content };
        out.push_str(&hanging(&format!("      {name}{padding}  "), &content, columns));
    }
    for (node, cells) in &row.outside {
        let name = &topology.nodes[*node].name;
        let beside_key: Vec<usize> =
            layout.shown.iter().copied().filter(|i| !layout.key.contains(i)).collect();
        let cells = cells_text(layout, cells, &beside_key);
        out.push_str(&hanging("      ", &format!("{name}, outside the filter: {cells}"), columns));
    }
}

/// The row by its key; a row that is its own key is told by its content below.
fn row_title(layout: &Layout, row: &DivergentRow) -> String {
    if row.key.is_empty() {
        return "a row without a key".to_owned();
    }
    let cells = layout.key.iter().zip(&row.key).map(|(i, value)| {
        format!("{} {}", safe::text(&layout.columns[*i].name), safe::value(value))
    });
    cells.collect::<Vec<_>>().join(", ")
}

fn difference(topology: &Topology, layout: &Layout, makers: NodeSet, row: &DivergentRow) -> String {
    let mut parts = Vec::new();
    if !row.differing.is_empty() {
        let columns: Vec<String> = layout
            .shown
            .iter()
            .filter(|i| row.differing.contains(i))
            .map(|i| safe::text(&layout.columns[*i].name))
            .collect();
        parts.push(format!(
            "{} differ{}",
            columns.join(", "),
            if columns.len() == 1 { "s" } else { "" }
        ));
    }
    let held: Vec<&Version> = row.versions.iter().filter(|version| version.row.is_some()).collect();
    if row.key.is_empty() && held.len() > 1 {
        parts.push("held a different number of times".to_owned());
    }
    if let Some(missing) = row.versions.iter().find(|version| version.row.is_none()) {
        let holders: Vec<NodeId> = held.iter().flat_map(|version| version.nodes.clone()).collect();
        // A row that only receivers hold came from nowhere; then the holders are the odd ones.
        let surplus = holders.iter().all(|node| !makers.contains(*node));
        let few = holders.len() < missing.nodes.len() && held.len() == 1;
        let beyond = |node: &NodeId| row.outside.iter().any(|(other, _)| other == node);
        parts.push(if missing.nodes.iter().all(beyond) {
            format!("outside the set's filter on {}", style::nodes(topology, &missing.nodes))
        } else if surplus || few {
            format!("only on {}", style::nodes(topology, &holders))
        } else {
            format!("not on {}", style::nodes(topology, &missing.nodes))
        });
    }
    parts.join("; ")
}

/// The versions of a row as text: the cells that differ, or the row, or its count.
fn version_texts(layout: &Layout, row: &DivergentRow) -> Vec<String> {
    let rows: Vec<&Vec<Value>> =
        row.versions.iter().filter_map(|version| version.row.as_deref()).collect();
    let shown: Vec<usize> = if row.differing.is_empty() {
        layout.shown.iter().copied().filter(|i| !layout.key.contains(i)).collect()
    } else {
        layout.shown.iter().copied().filter(|i| row.differing.contains(i)).collect()
    };
    let mut apart: BTreeMap<usize, Vec<String>> = BTreeMap::new();
    for i in &shown {
        let values: Vec<&Value> = rows.iter().map(|cells| &cells[*i]).collect();
        apart.insert(*i, safe::values_apart(&values));
    }
    let mut at = 0;
    row.versions
        .iter()
        .map(|version| {
            let Some(cells) = &version.row else {
                return "(no row)".to_owned();
            };
            let texts: Vec<String> = shown
                .iter()
                .map(|i| format!("{} = {}", safe::text(&layout.columns[*i].name), apart[i][at]))
                .collect();
            at += 1;
            let times = if row.key.is_empty() {
                format!("{}: ", counted(version.count, "time", "times"))
            } else {
                String::new()
            };
            let content = if row.key.is_empty() {
                cells_text(layout, cells, &layout.shown)
            } else {
                texts.join(", ")
            };
            format!(
                "{times}{}",
                if content.is_empty() { "(the key is the whole row)" } else { &content }
            )
        })
        .collect()
}

fn cells_text(layout: &Layout, cells: &[Value], shown: &[usize]) -> String {
    let text = |i: &usize| {
        Some(format!("{} = {}", safe::text(&layout.columns[*i].name), safe::value(cells.get(*i)?)))
    };
    shown.iter().filter_map(text).collect::<Vec<_>>().join(", ")
}

fn conclusion(topology: &Topology, totals: &Totals, hidden: u64) -> String {
    let mut out = String::new();
    if let Some(links) = totals.standing_still(topology) {
        let _ = writeln!(out, "{} {}", styled(UNKNOWN, "Links:"), safe::text(&links));
    }
    if totals.diverge == 0 && totals.complete() {
        let _ = writeln!(
            out,
            "{} Every node holds what it should of {} in the sets.",
            styled(style::GOOD, "All agree."),
            match totals.tables() {
                1 => "the one table".to_owned(),
                tables => format!("the {} tables", grouped(tables)),
            }
        );
    } else if totals.diverge > 0 {
        let _ = writeln!(
            out,
            "{} in {} of {}; {} {}. keen plan shows what would repair them.",
            styled(BAD, &counted(totals.divergent, "divergent row", "divergent rows")),
            totals.diverge,
            counted(totals.tables(), "table", "tables"),
            totals.agree,
            if totals.agree == 1 { "agrees" } else { "agree" },
        );
    }
    if hidden > 0 {
        let are = if hidden == 1 { "is" } else { "are" };
        let _ = writeln!(
            out,
            "{} of them {are} not shown: --show N shows more, --format json has all.",
            grouped(hidden)
        );
    }
    if let Some(others) = totals.in_no_set(topology) {
        let _ = writeln!(out, "{}", safe::text(&others));
    }
    if totals.healed > 0 {
        let _ = writeln!(
            out,
            "{} differed at first and {} equal when read again: {} in transit.",
            counted(totals.healed, "row", "rows"),
            if totals.healed == 1 { "was" } else { "were" },
            if totals.healed == 1 { "it was" } else { "they were" },
        );
    }
    let open = totals.in_flight + totals.moving;
    if open > 0 {
        let _ = writeln!(
            out,
            "{} {} {} and {} not settled: {} in flight, {} moving. `keen flow` says what holds them up; --patience waits longer, --patience 0s shows them as they are now.",
            styled(UNKNOWN, "Unsettled:"),
            counted(open, "row", "rows"),
            if open == 1 { "differs" } else { "differ" },
            if open == 1 { "is" } else { "are" },
            grouped(totals.in_flight),
            grouped(totals.moving),
        );
    }
    if let Some(why) = &totals.broken {
        let _ = writeln!(
            out,
            "{} {}. --patience 0s counts what differs at the first look.",
            styled(UNKNOWN, "Incomplete:"),
            safe::text(why)
        );
    } else if totals.stopped || totals.incomplete > 0 {
        let what = if totals.stopped {
            "it was stopped before the end".to_owned()
        } else {
            format!(
                "{} not read on every node that carries it",
                counted(totals.incomplete, "table was", "tables were")
            )
            .replace(
                "tables were not read on every node that carries it",
                "tables were not read on every node that carries them",
            )
        };
        let found =
            if totals.diverge == 0 { " No difference was found in what was read." } else { "" };
        let _ = writeln!(out, "{} {what}.{found}", styled(UNKNOWN, "Incomplete:"));
    }
    out
}
