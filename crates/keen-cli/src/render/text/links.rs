//! A look at the links, for people.

use std::fmt::Write as _;
use std::time::Duration;

use anstyle::Style;
use comfy_table::Cell;
use jiff::Timestamp;
use keen_core::links::{Changed, Lateness, LinkFlow, LinkState, Trend, Wrote};
use keen_core::observe::links::Micros;
use keen_core::observe::node::WorkerState;
use keen_core::observe::position::Gap;
use keen_core::topology::{NodeId, Topology};
use keen_core::units::size;

use super::style;
use super::style::{BAD, GOOD, HEADING, QUIET, UNKNOWN, finished, hanging, styled, table};
use crate::app::links::FlowOutcome;
use crate::app::selection::Shown;
use crate::numbers::counted;
use crate::safe;

/// Writes the whole result.
pub(crate) fn write(topology: &Topology, outcome: &FlowOutcome, columns: Option<usize>) -> String {
    let mut out = head(topology, outcome);
    out.push_str(&links(topology, outcome, columns));
    out.push('\n');
    out.push_str(&nodes(topology, outcome, columns));
    out.push_str(&matrix(topology, outcome));
    let mut unwell: Vec<&LinkFlow> =
        outcome.flow.links.iter().filter(|link| !link.state.is_well()).collect();
    unwell.sort_by_key(|link| link.state);
    for link in unwell {
        out.push('\n');
        let _ = writeln!(out, "{}  {}", word(link.state), ends(topology, link));
        out.push_str(&why(topology, link, columns));
    }
    for (node, flow) in &outcome.flow.nodes {
        if let Some(held) = flow.journal_slot {
            let lead = format!("{} {}: ", styled(QUIET, "note"), topology.nodes[*node].name);
            let text = format!(
                "the slot through which keen reads what was written holds back {} of log",
                size(held)
            );
            out.push_str(&hanging(&lead, &text, columns));
        }
    }
    for writing in &outcome.flow.writing {
        let lead = format!("\n{}  ", styled(UNKNOWN, "writes"));
        out.push_str(&hanging(&lead, &safe::text(&writing.found), columns));
    }
    out.push('\n');
    out.push_str(&conclusion(outcome));
    out
}

fn head(topology: &Topology, outcome: &FlowOutcome) -> String {
    let looked = match outcome.between {
        Some(between) => format!("looked at twice, {} apart", duration(between)),
        None if outcome.before.is_empty() => {
            "looked at once, with no earlier look on record".to_owned()
        }
        None => "looked at once, compared with the last look on record".to_owned(),
    };
    let mut out = format!(
        "{}: {} over {}, {looked}, {}\n",
        styled(HEADING, &safe::text(&topology.name)),
        counted(outcome.flow.links.len() as u64, "link", "links"),
        counted(outcome.observations.len() as u64, "node", "nodes"),
        outcome.started.strftime("%Y-%m-%d %H:%M:%S UTC"),
    );
    if !outcome.left_out.is_empty() {
        let _ = writeln!(out, "Left out on request: {}", outcome.left_out.join(", "));
    }
    out.push('\n');
    out
}

pub(crate) fn color(state: LinkState) -> Style {
    match state {
        LinkState::Flowing | LinkState::Idle => GOOD,
        LinkState::Broken | LinkState::Stalled | LinkState::Cut | LinkState::Absent => BAD,
        LinkState::Trailing | LinkState::Paused | LinkState::Stray | LinkState::Dark => UNKNOWN,
    }
}

fn word(state: LinkState) -> String {
    styled(color(state), state.name())
}

/// "valley -> saddle", and what the node calls it where a pair has several.
fn ends(topology: &Topology, link: &LinkFlow) -> String {
    let name = |node: NodeId| topology.nodes[node].name.clone();
    let mut text = match (link.from, link.to) {
        (Some(from), Some(to)) => format!("{} -> {}", name(from), name(to)),
        (Some(from), None) => format!("{} -> ?", name(from)),
        (None, Some(to)) => format!("? -> {}", name(to)),
        (None, None) => "?".to_owned(),
    };
    if !link.tables.is_empty() {
        let _ = write!(text, ", {}", safe::text(&link.tables.join(", ")));
    }
    text
}

fn links(topology: &Topology, outcome: &FlowOutcome, columns: Option<usize>) -> String {
    let mut rows = table(columns, &["state", "link", "behind", "late", "backlog", "heard", "seen"]);
    let several = |link: &LinkFlow| {
        let same = |other: &&LinkFlow| (other.from, other.to) == (link.from, link.to);
        outcome.flow.links.iter().filter(|other| other.tables.is_empty()).filter(same).count() > 1
    };
    for link in &outcome.flow.links {
        let mut ends = ends(topology, link);
        if let (true, Some(name)) = (several(link), &link.name) {
            let _ = write!(ends, " ({})", safe::text(name));
        }
        rows.add_row(vec![
            Cell::new(word(link.state)),
            Cell::new(ends),
            Cell::new(link.gap.filter(|gap| gap.size() > 0).map(gap).unwrap_or_default()),
            Cell::new(late(link)),
            Cell::new(link.trend.map(trend).unwrap_or_default()),
            Cell::new(heard(link)),
            Cell::new(link.seen.map_or("never".to_owned(), clock_time)),
        ]);
    }
    finished(&rows)
}

fn nodes(topology: &Topology, outcome: &FlowOutcome, columns: Option<usize>) -> String {
    let mut rows = table(columns, &["node", "role", "written to", "changes arrived or made"]);
    let all: u64 = outcome
        .flow
        .nodes
        .values()
        .map(|node| if let Wrote::Transactions(count) = node.wrote { count } else { 0 })
        .sum();
    for (id, node) in &outcome.flow.nodes {
        let wrote = match node.wrote {
            Wrote::Nothing => "no".to_owned(),
            Wrote::Transactions(count) => {
                let share =
                    if all > count { format!(", {} %", count * 100 / all) } else { String::new() };
                format!("{}{share}", counted(count, "transaction", "transactions"))
            }
            Wrote::Something => "yes".to_owned(),
            Wrote::Unseen => "not seen".to_owned(),
        };
        let role = match &node.fault {
            Some(_) => format!("{} ({})", styled(UNKNOWN, "did not answer"), node.role),
            None => node.role.clone(),
        };
        rows.add_row(vec![
            Cell::new(&topology.nodes[*id].name),
            Cell::new(role),
            Cell::new(wrote),
            Cell::new(safe::text(&changes(topology, node))),
        ]);
    }
    finished(&rows)
}

/// "bookings just now; trails 12:04:11".
fn changes(topology: &Topology, node: &keen_core::links::NodeFlow) -> String {
    let when = |changed: &Changed| match changed {
        Changed::Now => "just now".to_owned(),
        Changed::At(at) => clock_time(*at),
        Changed::Before => "quiet".to_owned(),
    };
    let mut groups: Vec<(String, Vec<&str>)> = Vec::new();
    for (set, changed) in &node.changed {
        let when = when(changed);
        match groups.iter_mut().find(|(known, _)| *known == when) {
            Some((_, sets)) => sets.push(&topology.sets[*set].name),
            None => groups.push((when, vec![&topology.sets[*set].name])),
        }
    }
    let mut parts: Vec<String> =
        groups.iter().map(|(when, sets)| format!("{}: {when}", sets.join(", "))).collect();
    let sites: Vec<String> = node
        .arrivals
        .iter()
        .map(|((site, set), changed)| {
            let (site, set) = (&topology.nodes[*site].name, &topology.sets[*set].name);
            format!("{set} of {site} {}", when(changed))
        })
        .collect();
    if !sites.is_empty() {
        parts.push(format!("arrived: {}", sites.join(", ")));
    }
    parts.extend(node.beat.map(|at| format!("heartbeat {}", clock_time(at))));
    parts.join("; ")
}

/// Who has applied how much of whose writes.
fn matrix(topology: &Topology, outcome: &FlowOutcome) -> String {
    let applied = &outcome.flow.applied;
    let mut origins: Vec<NodeId> = applied.keys().map(|(_, origin)| *origin).collect();
    origins.sort_unstable();
    origins.dedup();
    if origins.len() < 2 {
        return String::new();
    }
    let mut heading = vec!["lacks of"];
    heading.extend(origins.iter().map(|node| &topology.nodes[*node].name[..]));
    let mut rows = table(None, &heading);
    let mut receivers: Vec<NodeId> = applied.keys().map(|(node, _)| *node).collect();
    receivers.dedup();
    for node in receivers {
        let mut row = vec![Cell::new(&topology.nodes[node].name)];
        for origin in &origins {
            row.push(Cell::new(match applied.get(&(node, *origin)) {
                _ if node == *origin => styled(QUIET, "-"),
                Some(lacks) if lacks.size() == 0 => styled(GOOD, "nothing"),
                Some(lacks) => styled(UNKNOWN, &gap(*lacks)),
                None => String::new(),
            }));
        }
        rows.add_row(row);
    }
    format!("\n{}", finished(&rows))
}

fn why(topology: &Topology, link: &LinkFlow, columns: Option<usize>) -> String {
    let mut out = hanging("      ", &safe::text(&style::capital(topology, &link.reason)), columns);
    if let Some(first) = &link.first_owed {
        let what =
            if link.state == LinkState::Broken { "It stopped at:" } else { "It lacks first:" };
        out.push_str(&hanging(&format!("      {what} "), &safe::text(&first.words()), columns));
    }
    if let (Some(why), LinkState::Broken) = (&link.first_unread, link.state) {
        let text = format!(
            "{} (if a right or a slot is missing, keen conflicts --ddl prints it)",
            why.what
        );
        out.push_str(&hanging(
            "      Which write that is cannot be read: ",
            &safe::text(&text),
            columns,
        ));
    }
    if let Some((node, next)) = &link.next {
        let on = node.map(|node| format!("on {}: ", topology.nodes[node].name));
        let text = format!("{}{next}", on.unwrap_or_default());
        out.push_str(&hanging("      Do: ", &safe::text(&text), columns));
    }
    out
}

fn conclusion(outcome: &FlowOutcome) -> String {
    let links = &outcome.flow.links;
    let well = links.iter().filter(|link| link.state.is_well()).count();
    let dark = outcome.count(LinkState::Dark);
    let bad = links.len() - well - dark;
    let mut text = match (bad, dark) {
        (0, 0) if links.is_empty() => styled(UNKNOWN, "There was no link to check"),
        (0, 0) if outcome.stopped => styled(UNKNOWN, "The first look found nothing"),
        (0, 0) => styled(GOOD, "Every link carries"),
        (0, _) => styled(UNKNOWN, &format!("{dark} of {} could not be read", links.len())),
        _ => styled(
            BAD,
            &format!("{bad} of {} need attention", counted(links.len() as u64, "link", "links")),
        ),
    };
    if !links.is_empty() {
        let _ = write!(text, ": {}", outcome.summary());
    }
    text.push('.');
    if bad + dark > 0 {
        text.push_str(
            " `keen flow FROM:TO` shows one in full, `keen explain STATE` says what a state means.",
        );
    }
    text + "\n"
}

pub(crate) fn gap(gap: Gap) -> String {
    match gap {
        Gap::Transactions(count) => counted(count, "transaction", "transactions"),
        Gap::Bytes(bytes) => size(bytes),
    }
}

fn late(link: &LinkFlow) -> String {
    let late = link.late.map(|Lateness { by, at_least }| {
        format!("{}{}", if at_least { "at least " } else { "" }, duration(by))
    });
    let delay = link.delay.map(|delay| format!("{} on purpose", duration(delay)));
    match (late, delay) {
        (Some(late), Some(delay)) => format!("{late} beyond {delay}"),
        (late, delay) => late.or(delay).unwrap_or_default(),
    }
}

/// When the receiver last had a sign of life from its source.
fn heard(link: &LinkFlow) -> String {
    match link.inflow.as_ref().and_then(|inflow| inflow.heard_at) {
        Some(at) => clock_time(at),
        None if link.heartbeat => "just now".to_owned(),
        None => String::new(),
    }
}

fn trend(trend: Trend) -> String {
    match trend {
        Trend::Draining(time) => format!("draining, {} left", duration(time)),
        other => other.name().to_owned(),
    }
}

/// A time in at most two units.
pub(crate) fn duration(time: Duration) -> String {
    let seconds = time.as_secs();
    match seconds {
        0 => format!("{} ms", time.as_millis()),
        1..=9 => format!("{:.1} s", time.as_secs_f64()),
        10..=119 => format!("{seconds} s"),
        120..=7199 => format!("{} min {} s", seconds / 60, seconds % 60),
        7200..=172_799 => format!("{} h {} min", seconds / 3600, seconds / 60 % 60),
        _ => format!("{} days", seconds / 86400),
    }
}

/// The time of day, and the day if it is not today's.
pub(crate) fn clock_time(at: Micros) -> String {
    let Ok(at) = Timestamp::from_microsecond(at) else { return "?".to_owned() };
    let now = Timestamp::now();
    let day = |time: Timestamp| time.strftime("%Y-%m-%d").to_string();
    if day(at) == day(now) {
        at.strftime("%H:%M:%S").to_string()
    } else {
        at.strftime("%Y-%m-%d %H:%M:%S").to_string()
    }
}

/// Writes one node's links, or one link, with everything that is known of it.
pub(crate) fn in_full(
    topology: &Topology,
    outcome: &FlowOutcome,
    shown: Shown,
    columns: Option<usize>,
) -> String {
    let mut out = head(topology, outcome);
    let wanted = |link: &&LinkFlow| match shown {
        Shown::Node(node) => link.from == Some(node) || link.to == Some(node),
        Shown::Link(from, to) => (link.from, link.to) == (Some(from), Some(to)),
    };
    let links: Vec<&LinkFlow> = outcome.flow.links.iter().filter(wanted).collect();
    for link in &links {
        out.push_str(&link_in_full(topology, link, columns));
    }
    let ids: Vec<NodeId> = match shown {
        Shown::Node(node) => vec![node],
        Shown::Link(from, to) => vec![from, to],
    };
    if links.is_empty() {
        let names: Vec<&str> = ids.iter().map(|node| &topology.nodes[*node].name[..]).collect();
        let _ = writeln!(
            out,
            "No link leads {} {}.\n",
            if ids.len() == 1 { "to or from" } else { "from one to the other of" },
            names.join(", ")
        );
    }
    for id in ids {
        let Some(node) = outcome.flow.nodes.get(&id) else { continue };
        let _ = writeln!(out, "{}  {}", styled(HEADING, &topology.nodes[id].name), node.role);
        let position = node.position.as_ref().map(ToString::to_string);
        let asked = (node.asked > 0).then(|| counted(node.asked.into(), "statement", "statements"));
        line(&mut out, "is", node.about.clone());
        line(&mut out, "not seen", node.fault.as_ref().map(|fault| fault.what.clone()));
        line(&mut out, "position", position);
        line(&mut out, "last changes", Some(changes(topology, node)));
        line(&mut out, "one look took", asked);
    }
    out
}

/// A line of a detail; none where there is nothing to say.
fn line(out: &mut String, lead: &str, text: Option<String>) {
    if let Some(text) = text.filter(|text| !text.is_empty()) {
        let lead = format!("      {}", styled(QUIET, &format!("{lead:<14}")));
        let _ = writeln!(out, "{lead}{}", safe::text(&text));
    }
}

/// Everything that is known of a link.
fn link_in_full(topology: &Topology, link: &LinkFlow, columns: Option<usize>) -> String {
    let mut out = String::new();
    let _ = writeln!(out, "{}  {}", word(link.state), ends(topology, link));
    out.push_str(&why(topology, link, columns));
    let mut line = |lead: &str, text: Option<String>| line(&mut out, lead, text);
    let means = link.means.zip(link.name.as_ref());
    line("by", means.map(|(means, name)| format!("{} {name}", means.words())));
    line("written", link.written.as_ref().map(ToString::to_string));
    let inflow = link.inflow.as_deref();
    line("received", inflow.and_then(|i| i.received.as_ref()).map(ToString::to_string));
    line("applied", link.applied.as_ref().map(ToString::to_string));
    line("behind", link.gap.map(gap));
    line("late", Some(late(link)));
    line("backlog", link.trend.map(trend));
    let halves = inflow.map(|inflow| {
        format!(
            "{}, {}",
            half("receiver", inflow.link.receiving),
            half("applier", inflow.link.applying)
        )
    });
    line("status", halves);
    line("applier says", inflow.and_then(|inflow| inflow.doing.clone()));
    let trouble = inflow.and_then(|inflow| inflow.trouble.as_ref());
    line(
        "error",
        trouble.map(|t| {
            let code = t.code.map(|code| format!("{code}: ")).unwrap_or_default();
            format!("{code}{}", t.message)
        }),
    );
    line("stopped at", trouble.and_then(|trouble| trouble.at.clone()));
    let wait = inflow.and_then(|inflow| inflow.wait.as_ref());
    line("waits for", wait.map(|wait| wait.what.clone()));
    for holder in wait.and_then(|wait| wait.holders.as_ref().ok()).into_iter().flatten() {
        line("held by", Some(format!("session {} ({})", holder.session, holder.about)));
    }
    line("failures", inflow.and_then(|inflow| inflow.link.failures).map(|count| count.to_string()));
    let tries = inflow.filter(|i| i.link.receiving == WorkerState::Tries);
    line(
        "tries again",
        tries.and_then(|i| i.retries_every).map(|e| format!("every {}", duration(e))),
    );
    line("last message", inflow.and_then(|inflow| inflow.heard_at).map(clock_time));
    line(
        "sign of life",
        Some(
            if link.heartbeat { "between the looks" } else { "none between the looks" }.to_owned(),
        )
        .filter(|_| inflow.is_some()),
    );
    line("seen", link.seen.map(clock_time));
    out.push('\n');
    out
}

fn half(name: &str, half: WorkerState) -> String {
    let how = match half {
        WorkerState::Runs => "runs",
        WorkerState::Tries => "keeps trying",
        WorkerState::Stopped => "stands still",
        WorkerState::Untold => "is not told",
    };
    format!("{name} {how}")
}
