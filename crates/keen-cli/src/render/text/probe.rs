//! A probe, and waiting for a node, for people.

use crate::exit::Exit;
use std::fmt::Write as _;
use std::time::Duration;

use comfy_table::presets::NOTHING;
use comfy_table::{Cell, ContentArrangement, Table};
use jiff::Timestamp;
use keen_core::engine::service_tables::{Stage, reached, read_id};
use keen_core::topology::{NodeId, Topology};

use super::links::{duration, gap};
use super::style::{self, BAD, GOOD, HEADING, QUIET, UNKNOWN, hanging, styled};
use crate::app::probe::{Outcome, Waited};
use crate::numbers::counted;
use crate::safe;

fn ms(time: Duration) -> String {
    match time.as_millis() {
        0 => "<1".to_owned(),
        ms => ms.to_string(),
    }
}

/// Writes it for people.
pub(crate) fn text(topology: &Topology, outcome: &Outcome, columns: Option<usize>) -> String {
    let name = |node: NodeId| &topology.nodes[node].name[..];
    let mut out = format!(
        "{}: a row of {} from {}, {}, {}\n\n",
        styled(HEADING, &safe::text(&topology.name)),
        safe::text(&outcome.table),
        counted(outcome.writers.len() as u64, "writer", "writers"),
        duration(outcome.took),
        outcome.started.strftime("%Y-%m-%d %H:%M:%S UTC"),
    );
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
            let stages: Vec<Option<&Option<Duration>>> =
                Stage::ALL.iter().map(|s| journey?.arrived.get(&(*node, *s))).collect();
            row.push(Cell::new(match (node == writer, &stages[..]) {
                (true, _) => styled(QUIET, "-"),
                (_, [Some(Some(a)), Some(Some(b)), Some(Some(c))]) => {
                    styled(GOOD, &format!("{} / {} / {} ms", ms(*a), ms(*b), ms(*c)))
                }
                (_, stages) if stages.iter().all(Option::is_none) => {
                    if journey.is_some_and(|j| j.unseen.contains_key(node)) {
                        styled(UNKNOWN, "not seen")
                    } else {
                        String::new()
                    }
                }
                (_, stages) => {
                    let one = |stage: &Option<&Option<Duration>>| match stage {
                        Some(Some(time)) => ms(*time),
                        Some(None) => "never".to_owned(),
                        None => "-".to_owned(),
                    };
                    let times: Vec<String> = stages.iter().map(one).collect();
                    styled(BAD, &times.join(" / "))
                }
            }));
        }
        table.add_row(row);
    }
    for line in table.lines() {
        let _ = writeln!(out, "{}", line.trim_end());
    }
    out.push_str(" Until it was seen there: inserted / updated / deleted.\n");
    for (writer, journey) in &outcome.journeys {
        let mut say = |lead: &str, text: &str| {
            out.push_str(&hanging(&format!("\n{lead} "), &safe::text(text), columns));
        };
        if let Some(fault) = &journey.fault {
            say(&styled(BAD, "not written"), &format!("on {}: {fault}", name(*writer)));
        }
        for (node, reason) in &journey.unseen {
            say(&styled(UNKNOWN, "not seen"), &format!("on {}: {reason}", name(*node)));
        }
        if !journey.left_over.is_empty() {
            say(
                &styled(BAD, "left over"),
                &format!(
                    "the row of {} is still on {}: that it was deleted has not come there, and keen flow says what keeps it. If it is deleted there by hand, the deletion that comes finds no row, and some links stop at that",
                    name(*writer),
                    style::nodes(topology, &journey.left_over)
                ),
            );
        }
    }
    for row in &outcome.left_behind {
        let began = Timestamp::from_microsecond(row.began).unwrap_or_default();
        let began = began.strftime("%Y-%m-%d %H:%M:%S UTC");
        let on = style::nodes(topology, &row.on);
        let text = match row.taken_away {
            true => {
                format!("the run of {began} was killed and left its row on {on}: it is taken away")
            }
            // Deleted where it was made it goes from everywhere; elsewhere the deletion meets nodes that lack the row.
            false => match read_id(&row.id).and_then(|(_, made_by)| topology.node(made_by)) {
                Some(made_by) if row.on.contains(&made_by) => format!(
                    "a row of the run of {began} is on {on}, and is left alone: that run may be at work. Later, on {}: DELETE FROM {} WHERE id = '{}'",
                    name(made_by),
                    topology.nodes[made_by].name_of(&outcome.table),
                    row.id.replace('\'', "''")
                ),
                _ => format!(
                    "a row of the run of {began} is on {on}, and not where it was made: it is left alone. A deletion there would go to nodes that lack the row, and some links stop at that"
                ),
            },
        };
        out.push_str(&hanging(
            &format!("\n{} ", styled(QUIET, "note")),
            &safe::text(&text),
            columns,
        ));
    }
    out.push('\n');
    let head = match outcome.exit() {
        Exit::Agree => styled(GOOD, "Every write arrived everywhere"),
        Exit::Incomplete => styled(UNKNOWN, "What was looked for arrived"),
        Exit::Interrupted => styled(UNKNOWN, "Stopped, and cleaned up"),
        _ => styled(BAD, "Not every write arrived"),
    };
    let more =
        if outcome.missing() > 0 { " `keen flow` says which link does not carry." } else { "" };
    let _ = writeln!(out, "{head}: {}.{more}", outcome.summary());
    out
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
        } else if let Some(reason) = waited.passing.untold.get(&link) {
            format!("{}: of {from} -> {at}: {reason}", styled(UNKNOWN, "untold"))
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
