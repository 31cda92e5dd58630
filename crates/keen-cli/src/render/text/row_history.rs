//! The life of one row over all nodes, drawn as a timeline with a lane for each.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use keen_core::conflict::CurrentRow;
use keen_core::history::happened_before::Deed;
use keen_core::topology::{NodeId, Topology};
use keen_run::conflicts::{Found, RowEvent, RowHistory};
use keen_run::tables::SetTable;

use super::conflicts::{cells, changes, moment};
use super::style::{self, BAD, HEADING, QUIET, hanging, styled};
use crate::app::conflicts::writer;
use crate::numbers::counted;
use crate::safe;

/// Something that happened to the row at a node.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct HistoryLine {
    node: NodeId,
    /// Number of the write.
    write: usize,
    /// It was made there; otherwise it was applied there.
    made: bool,
}

/// Draws it.
pub(crate) fn write(
    topology: &Topology,
    found: &Found,
    (table, key): (&str, &[String]),
    width: Option<usize>,
) -> String {
    let Some(life) = &found.life else {
        return format!(
            "No journal has a row of {} with the key {}.\n",
            safe::text(table),
            safe::text(&key.join(", "))
        );
    };
    let about = &found.tables[life.table];
    let mut out = String::new();
    let title = format!(
        "The life of {} {}",
        safe::text(&about.name),
        cells(about, &about.layout.key, &life.row.key)
    );
    let _ = writeln!(
        out,
        "{}: {}",
        styled(HEADING, &title),
        counted(life.count as u64, "write", "writes")
    );
    if life.count > life.writes.len() {
        let _ = writeln!(out, "The last {} are drawn.", life.writes.len());
    }
    let lanes = lanes(life);
    let names: Vec<&str> = lanes.iter().map(|node| &topology.nodes[*node].name[..]).collect();
    out.push('\n');
    let heads: Vec<String> = names.iter().map(|name| styled(HEADING, name)).collect();
    let _ = writeln!(out, "  {}", heads.join("  "));
    out.push_str(&timeline(about, life, &lanes, &names, width));
    for lived in life.writes.iter().filter(|lived| lived.node.is_none()) {
        let _ = writeln!(out, "  {}: {}", writer(topology, None, &lived.id), did(about, lived));
    }
    out.push('\n');
    out.push_str(&held_now(topology, about, life, width));
    for (node, columns) in life.past_the_log() {
        let holds =
            past_the_log(&topology.nodes[node].name, about, life.row.now.get(&node), &columns);
        let lead = format!("  {} ", styled(BAD, "past the log:"));
        let text = format!("{holds}: it was changed past the log, or since the journals were read");
        out.push_str(&hanging(&lead, &text, width));
    }
    let _ = writeln!(out, "\n  {}", styled(QUIET, "\u{25cf} made there   \u{25cb} applied there"));
    out
}

/// A line for each time that the row was written at a node, or a write of it applied there.
fn timeline(
    about: &SetTable,
    life: &RowHistory,
    lanes: &[NodeId],
    names: &[&str],
    width: Option<usize>,
) -> String {
    let mut out = String::new();
    let events = in_one_order(life, lanes);
    let mut before: Vec<usize> = Vec::new();
    for event in &events {
        let mut line = String::from("  ");
        for (lane, name) in lanes.iter().zip(names) {
            let mark = match (*lane == event.node, event.made) {
                (true, true) => styled(HEADING, "\u{25cf}"),
                (true, false) => "\u{25cb}".to_owned(),
                _ => styled(QUIET, "\u{2502}"),
            };
            let middle = safe::width(name) / 2;
            let rest = safe::width(name) - middle - 1;
            let _ = write!(line, "{}{mark}{}  ", " ".repeat(middle), " ".repeat(rest));
        }
        let lived = &life.writes[event.write];
        let text = if event.made {
            let unseen = before.iter().filter(|other| is_unseen(life, **other, event.write));
            let unseen: Vec<String> =
                unseen.map(|other| safe::text(&life.writes[*other].id.to_string())).collect();
            let not = match unseen.is_empty() {
                true => String::new(),
                false => format!("; {} {}", styled(BAD, "had not seen"), unseen.join(", ")),
            };
            format!(
                "{}  {}: {}{not}",
                moment(lived.write.made),
                safe::text(&lived.id.to_string()),
                did(about, lived)
            )
        } else {
            styled(QUIET, &format!("applied {}", safe::text(&lived.id.to_string())))
        };
        out.push_str(&hanging(&line, &text, width));
        if event.made {
            before.push(event.write);
        }
    }
    out
}

/// Who holds what of the row now, a line for nodes that hold the same.
fn held_now(
    topology: &Topology,
    about: &SetTable,
    life: &RowHistory,
    width: Option<usize>,
) -> String {
    let mut out = String::new();
    let mut groups: Vec<(&CurrentRow, Vec<NodeId>)> = Vec::new();
    for (node, now) in &life.row.now {
        match groups.iter_mut().find(|(known, _)| *known == now) {
            Some((_, nodes)) => nodes.push(*node),
            None => groups.push((now, vec![*node])),
        }
    }
    for (now, nodes) in groups {
        let what = match now {
            CurrentRow::Row(values) => {
                let shown: Vec<usize> = about.layout.shown.clone();
                let values: Vec<_> = shown.iter().map(|at| values[*at].clone()).collect();
                cells(about, &shown, &values)
            }
            CurrentRow::NoRow => "no row".to_owned(),
            CurrentRow::Unread(fault) => format!("not read: {}", safe::text(&fault.to_string())),
        };
        out.push_str(&hanging(
            &format!("  now at {}: ", style::nodes(topology, &nodes)),
            &what,
            width,
        ));
    }
    out
}

/// The contents of a node that no journal wrote.
fn past_the_log(
    name: &str,
    about: &SetTable,
    now: Option<&CurrentRow>,
    columns: &[usize],
) -> String {
    match now {
        Some(CurrentRow::Row(values)) if !columns.is_empty() => {
            let values: Vec<_> = columns.iter().map(|at| values[*at].clone()).collect();
            format!("{name} holds {}, which no journal wrote", cells(about, columns, &values))
        }
        Some(CurrentRow::Row(_)) => {
            format!("{name} holds the row, which its journal says it deleted")
        }
        _ => format!("{name} holds no such row, but no journal deleted it there"),
    }
}

fn is_unseen(life: &RowHistory, a: usize, b: usize) -> bool {
    life.unseen.contains(&(a.min(b), a.max(b)))
}

fn did(table: &SetTable, lived: &RowEvent) -> String {
    match lived.write.deed {
        Deed::Insert => {
            let cells: Vec<String> = (table.layout.shown.iter())
                .filter(|at| !table.layout.key.contains(at))
                .filter_map(|at| {
                    let value = lived.content.after.as_ref()?.get(*at)?.as_ref()?;
                    Some(format!(
                        "{} {}",
                        safe::text(&table.layout.columns[*at].name),
                        safe::value(value)
                    ))
                })
                .collect();
            format!("inserted, {}", cells.join(", "))
        }
        Deed::Delete => "deleted".to_owned(),
        _ => changes(table, &lived.content),
    }
}

/// The nodes to which anything happened or that hold the row, in the order of the topology.
fn lanes(life: &RowHistory) -> Vec<NodeId> {
    let applied =
        life.writes.iter().flat_map(|lived| lived.write.orders.iter().map(|(node, _)| *node));
    // Also of a node to which nothing happened, and which may differ for that.
    let read = life.row.now.iter().filter(|(_, now)| !matches!(now, CurrentRow::Unread(_)));
    let mut lanes: Vec<NodeId> = applied
        .chain(life.writes.iter().filter_map(|lived| lived.node))
        .chain(read.map(|(node, _)| *node))
        .collect();
    lanes.sort_unstable();
    lanes.dedup();
    lanes
}

/// One order of all events that keeps the order of every journal, and each write before it is applied
/// elsewhere; where that leaves a choice, by the clocks.
fn in_one_order(life: &RowHistory, lanes: &[NodeId]) -> Vec<HistoryLine> {
    let mut queues: BTreeMap<NodeId, Vec<(u64, usize)>> = BTreeMap::new();
    for (number, lived) in life.writes.iter().enumerate() {
        for (node, order) in &lived.write.orders {
            queues.entry(*node).or_default().push((*order, number));
        }
    }
    queues.values_mut().for_each(|queue| queue.sort_unstable_by(|a, b| b.cmp(a)));
    let mut made = vec![false; life.writes.len()];
    // What was made at a node whose journal does not have it comes without a beginning.
    for (number, lived) in life.writes.iter().enumerate() {
        made[number] = lived.node.is_none_or(|node| lived.write.order_at(node).is_none());
    }
    let mut events = Vec::new();
    loop {
        let next = lanes.iter().filter_map(|node| {
            let (_, number) = *queues.get(node)?.last()?;
            let own = life.writes[number].node == Some(*node);
            (own || made[number]).then_some((life.writes[number].write.made, !own, *node, number))
        });
        let Some((_, elsewhere, node, number)) = next.min() else { break };
        queues.entry(node).or_default().pop();
        made[number] |= !elsewhere;
        events.push(HistoryLine { node, write: number, made: !elsewhere });
    }
    events
}
