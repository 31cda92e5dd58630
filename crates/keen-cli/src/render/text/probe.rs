//! A probe, and waiting for a node, for people.

use crate::exit::Exit;
use std::fmt::Write as _;
use std::time::Duration;

use comfy_table::presets::NOTHING;
use comfy_table::{Cell, ContentArrangement, Table};
use jiff::Timestamp;
use keen_core::engine::service_tables::{Stage, reached, read_id};
use keen_core::topology::{NodeId, Topology};
use keen_run::probe::{Journey, LeftBehind};

use super::links::{duration, gap};
use super::style::{self, BAD, GOOD, HEADING, QUIET, UNKNOWN, hanging, styled};
use crate::app::probe::{ProbeOutcome, Waited};
use crate::numbers::counted;
use crate::safe;

fn ms(time: Duration) -> String {
    match time.as_millis() {
        0 => "<1".to_owned(),
        ms => ms.to_string(),
    }
}

/// Writes it for people.
pub(crate) fn text(topology: &Topology, outcome: &ProbeOutcome, columns: Option<usize>) -> String {
    let mut out = format!(
        "{}: a row of {} from {}, {}, {}\n\n",
        styled(HEADING, &safe::text(&topology.name)),
        safe::text(&outcome.table),
        counted(outcome.writers.len() as u64, "writer", "writers"),
        duration(outcome.took),
        outcome.started.strftime("%Y-%m-%d %H:%M:%S UTC"),
    );
    out.push_str(&times(topology, outcome));
    out.push_str(" Until it was seen there: inserted / updated / deleted.\n");
    for (writer, journey) in &outcome.journeys {
        out.push_str(&troubles(topology, *writer, journey, columns));
    }
    for row in &outcome.left_behind {
        let text = left_behind(topology, &outcome.table, row);
        let lead = format!("\n{} ", styled(QUIET, "note"));
        out.push_str(&hanging(&lead, &safe::text(&text), columns));
    }
    out.push('\n');
    let head = match outcome.exit() {
        Exit::Agree => styled(GOOD, "Every write arrived everywhere"),
        Exit::Incomplete => styled(UNKNOWN, "All writes that could be looked for arrived"),
        Exit::Interrupted => styled(UNKNOWN, "Stopped, and cleaned up"),
        _ => styled(BAD, "Not every write arrived"),
    };
    let more =
        if outcome.missing() > 0 { " `keen flow` says which link does not carry." } else { "" };
    let _ = writeln!(out, "{head}: {}.{more}", outcome.summary());
    out
}

/// A table of how long each stage of each writer's row took to each node.
fn times(topology: &Topology, outcome: &ProbeOutcome) -> String {
    let name = |node: NodeId| &topology.nodes[node].name[..];
    let mut ends: Vec<NodeId> = outcome.writers.clone();
    for writer in &outcome.writers {
        ends.extend(reached(topology, &outcome.table, *writer));
    }
    ends.sort_unstable();
    ends.dedup();
    let mut table = Table::new();
    table.load_style(NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    let mut heading = vec!["from / at".to_owned()];
    heading.extend(ends.iter().map(|node| name(*node).to_owned()));
    table.set_header(heading.iter().map(|text| Cell::new(styled(QUIET, text))));
    for writer in &outcome.writers {
        let mut row = vec![Cell::new(name(*writer))];
        let journey = outcome.journeys.get(writer);
        for node in &ends {
            let stages = match journey {
                Some(journey) if node != writer => stages(journey, *node),
                _ if node == writer => styled(QUIET, "-"),
                _ => String::new(),
            };
            row.push(Cell::new(stages));
        }
        table.add_row(row);
    }
    let lines = table.lines().map(|line| line.trim_end().to_owned() + "\n");
    lines.collect()
}

/// How long the stages of a row took to a node.
fn stages(journey: &Journey, node: NodeId) -> String {
    let stages: Vec<Option<&Option<Duration>>> =
        Stage::ALL.iter().map(|stage| journey.arrived.get(&(node, *stage))).collect();
    match &stages[..] {
        [Some(Some(a)), Some(Some(b)), Some(Some(c))] => {
            styled(GOOD, &format!("{} / {} / {} ms", ms(*a), ms(*b), ms(*c)))
        }
        stages if stages.iter().all(Option::is_none) => match journey.unseen.contains_key(&node) {
            true => styled(UNKNOWN, "not seen"),
            false => String::new(),
        },
        stages => {
            let one = |stage: &Option<&Option<Duration>>| match stage {
                Some(Some(time)) => ms(*time),
                Some(None) => "never".to_owned(),
                None => "-".to_owned(),
            };
            let times: Vec<String> = stages.iter().map(one).collect();
            styled(BAD, &times.join(" / "))
        }
    }
}

/// Reasons why a writer's row was not written, seen or deleted.
fn troubles(
    topology: &Topology,
    writer: NodeId,
    journey: &Journey,
    columns: Option<usize>,
) -> String {
    let name = |node: NodeId| &topology.nodes[node].name[..];
    let mut out = String::new();
    let mut say = |lead: &str, text: &str| {
        out.push_str(&hanging(&format!("\n{lead} "), &safe::text(text), columns));
    };
    if let Some(fault) = &journey.fault {
        say(&styled(BAD, "not written"), &format!("on {}: {fault}", name(writer)));
    }
    for (node, fault) in &journey.unseen {
        say(&styled(UNKNOWN, "not seen"), &format!("on {}: {}", name(*node), fault.what));
    }
    if !journey.left_over.is_empty() {
        say(
            &styled(BAD, "left over"),
            &format!(
                "the row of {} is still on {}: its deletion has not arrived there, and keen flow says why. If the row is deleted there by hand, the deletion that arrives later finds no row, and some links stop at that",
                name(writer),
                style::nodes(topology, &journey.left_over)
            ),
        );
    }
    out
}

/// A row that an earlier run left, and what became of it.
fn left_behind(topology: &Topology, table: &str, row: &LeftBehind) -> String {
    let began = Timestamp::from_microsecond(row.began).unwrap_or_default();
    let began = began.strftime("%Y-%m-%d %H:%M:%S UTC");
    let on = style::nodes(topology, &row.on);
    if row.taken_away {
        return format!(
            "the run of {began} was killed and left its row on {on}: it is deleted now"
        );
    }
    // Deleted where it was made it goes from everywhere; elsewhere the deletion meets nodes that lack the row.
    match read_id(&row.id).and_then(|(_, made_by)| topology.node(made_by)) {
        Some(made_by) if row.on.contains(&made_by) => format!(
            "a row of the run of {began} is on {on}, and is left alone: that run may be at work. Later, on {}: DELETE FROM {} WHERE id = '{}'",
            topology.nodes[made_by].name,
            topology.nodes[made_by].name_of(table),
            row.id.replace('\'', "''")
        ),
        _ => format!(
            "a row of the run of {began} is on {on}, and not where it was made: it is left alone. A deletion there would go to nodes that lack the row, and some links stop at that"
        ),
    }
}

/// Writes it for people.
pub(crate) fn waited(topology: &Topology, waited: &Waited<'_>) -> String {
    let name = |node: NodeId| &topology.nodes[node].name[..];
    let mut out = String::new();
    for source in waited.sources {
        let link = (*source, waited.at);
        let mark = waited.fence.of(*source).map(ToString::to_string).unwrap_or_default();
        let (from, at, took) = (name(*source), name(waited.at), duration(waited.took));
        let how = waited.links.iter().find(|l| l.from == Some(*source));
        let how = how.map(|l| format!("the link is {}: {}", l.state.name(), l.reason));
        let how = how.unwrap_or_default();
        let text = if waited.passing.passed.contains(&link) {
            format!(
                "{}: {at} has applied what {from} had written at {mark}, {took}",
                styled(GOOD, "passed")
            )
        } else if let Some(waiting) = waited.passing.waiting.get(&link) {
            let lacks = waiting.lacks.map(|lacks| format!(" and lacks {}", gap(lacks)));
            format!(
                "{}: {at} has not applied what {from} had written at {mark} after {took}{}; {how}",
                styled(BAD, "waiting"),
                lacks.unwrap_or_default()
            )
        } else if let Some(fault) = waited.passing.untold.get(&link) {
            format!("{}: of {from} -> {at}: {}", styled(UNKNOWN, "untold"), fault.what)
        } else {
            format!("{}: {at} does not follow {from}; {how}", styled(BAD, "absent"))
        };
        let _ = writeln!(out, "{}", safe_but_styled(&text));
    }
    if waited.stopped {
        let _ = writeln!(out, "{}", styled(UNKNOWN, "Stopped."));
    }
    out
}

/// Our own styles stay; what came from servers is made safe around them.
fn safe_but_styled(text: &str) -> String {
    match text.split_once(": ") {
        Some((head, rest)) => format!("{head}: {}", safe::text(rest)),
        None => safe::text(text),
    }
}
