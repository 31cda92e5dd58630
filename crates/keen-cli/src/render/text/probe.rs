//! What became of a probe, for people and for programs.

use crate::exit::Exit;
use std::fmt::Write as _;
use std::time::Duration;

use anyhow::Result;
use comfy_table::presets::NOTHING;
use comfy_table::{Cell, ContentArrangement, Table};
use jiff::Timestamp;
use keen_core::engine::service_tables::{Stage, reached, read_id};
use keen_core::links::LinkFlow;
use keen_core::links::fence::{Fence, Passing};
use keen_core::topology::{NodeId, Topology};
use serde_json::{Value as Json, json};

use super::links::{duration, gap};
use super::style::{self, BAD, GOOD, HEADING, QUIET, UNKNOWN, hanging, styled};
use crate::app::probe::Outcome;
use crate::numbers::counted;
use crate::safe;
use keen_wire::Envelope;

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

/// Writes it for programs.
pub(crate) fn json(topology: &Topology, outcome: &Outcome) -> Result<String> {
    let name = |node: NodeId| topology.nodes[node].name.clone();
    let micros = |time: Duration| u64::try_from(time.as_micros()).unwrap_or(u64::MAX);
    let journeys: Vec<Json> = outcome
        .journeys
        .iter()
        .map(|(writer, journey)| {
            let arrived: Vec<Json> = journey
                .arrived
                .iter()
                .map(|((node, stage), time)| {
                    json!({"node": name(*node), "stage": stage.name(), "took_us": time.map(micros)})
                })
                .collect();
            let unseen: Vec<Json> = journey
                .unseen
                .iter()
                .map(|(node, reason)| json!({"node": name(*node), "reason": reason}))
                .collect();
            json!({
                "from": name(*writer),
                "fault": keen_wire::fault(journey.fault.as_ref()),
                "arrived": arrived,
                "could_not_look": unseen,
                "left_over": journey.left_over.iter().map(|node| name(*node)).collect::<Vec<_>>(),
            })
        })
        .collect();
    let document = Envelope::new("probe", &topology.name, &outcome.started).with(json!({
        "seconds": keen_wire::seconds(outcome.took),
        "table": outcome.table,
        "complete": outcome.unseen() == 0 && !outcome.stopped,
        "arrived": outcome.arrived(),
        "missing": outcome.missing(),
        "writers": journeys,
        "left_behind": outcome.left_behind.iter().map(|row| json!({"id": row.id, "nodes": row.on.iter().map(|node| name(*node)).collect::<Vec<_>>(), "taken_away": row.taken_away})).collect::<Vec<_>>(),
    }));
    Ok(serde_json::to_string_pretty(&document)? + "\n")
}

/// What came of waiting for a node.
pub(crate) struct Waited<'a> {
    pub(crate) started: Timestamp,
    pub(crate) at: NodeId,
    pub(crate) sources: &'a [NodeId],
    pub(crate) fence: &'a Fence,
    pub(crate) passing: &'a Passing,
    pub(crate) links: &'a [LinkFlow],
    pub(crate) took: Duration,
    pub(crate) stopped: bool,
}

impl Waited<'_> {
    /// Writes it for people.
    pub(crate) fn text(&self, topology: &Topology) -> String {
        let name = |node: NodeId| &topology.nodes[node].name[..];
        let mut out = String::new();
        for source in self.sources {
            let link = (*source, self.at);
            let mark = self.fence.of(*source).map(ToString::to_string).unwrap_or_default();
            let (from, at, took) = (name(*source), name(self.at), duration(self.took));
            let how = self.links.iter().find(|l| l.from == Some(*source));
            let how = how.map(|l| format!("the link is {}: {}", l.state.name(), l.reason));
            let how = how.unwrap_or_default();
            let text = if self.passing.passed.contains(&link) {
                format!(
                    "{}: {at} has applied what {from} had written at {mark}, {took}",
                    styled(GOOD, "passed")
                )
            } else if let Some(waiting) = self.passing.waiting.get(&link) {
                let lacks = waiting.lacks.map(|lacks| format!(" and lacks {}", gap(lacks)));
                format!(
                    "{}: {at} has not applied what {from} had written at {mark} after {took}{}; {how}",
                    styled(BAD, "waiting"),
                    lacks.unwrap_or_default()
                )
            } else if let Some(reason) = self.passing.untold.get(&link) {
                format!("{}: of {from} -> {at}: {reason}", styled(UNKNOWN, "untold"))
            } else {
                format!("{}: {at} does not follow {from}; {how}", styled(BAD, "absent"))
            };
            let _ = writeln!(out, "{}", safe_but_styled(&text));
        }
        if self.stopped {
            let _ = writeln!(out, "{}", styled(UNKNOWN, "Stopped."));
        }
        out
    }

    /// Writes it for programs.
    pub(crate) fn json(&self, topology: &Topology) -> Result<String> {
        let name = |node: NodeId| topology.nodes[node].name.clone();
        let links: Vec<Json> = self
            .sources
            .iter()
            .map(|source| {
                let link = (*source, self.at);
                let how = self.links.iter().find(|l| l.from == Some(*source));
                let waiting = self.passing.waiting.get(&link);
                json!({
                    "from": name(*source),
                    "position": self.fence.of(*source).map(ToString::to_string),
                    "passed": self.passing.passed.contains(&link),
                    "lacks": waiting.and_then(|w| w.lacks).map(keen_core::observe::position::Gap::size),
                    "unit": waiting.and_then(|w| w.lacks).map(keen_core::observe::position::Gap::unit),
                    "could_not_tell": self.passing.untold.get(&link),
                    "state": how.map(|l| l.state.name()),
                    "reason": how.map(|l| l.reason.clone()),
                })
            })
            .collect();
        let document = Envelope::new("fence", &topology.name, &self.started).with(json!({
            "seconds": keen_wire::seconds(self.took),
            "at": name(self.at),
            "links": links,
        }));
        Ok(serde_json::to_string_pretty(&document)? + "\n")
    }
}

/// Our own styles stay; what came from servers is made safe around them.
fn safe_but_styled(text: &str) -> String {
    match text.split_once(": ") {
        Some((head, rest)) => format!("{head}: {}", safe::text(rest)),
        None => safe::text(text),
    }
}
