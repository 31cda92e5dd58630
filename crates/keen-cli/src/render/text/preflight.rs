//! A preflight, for people.

use std::fmt::Write as _;
use std::time::Duration;

use comfy_table::{Cell, CellAlignment};
use keen_core::observe::node::NodeInspection;
use keen_core::preflight::{Finding, Reaches, Report, Severity, Todo};
use keen_core::seed::join::Joining;
use keen_core::setup::SetupKind;
use keen_core::topology::{NodeId, Topology};
use keen_core::units::few;

use super::style;
use super::style::{BAD, GOOD, HEADING, QUIET, UNKNOWN, finished, hanging, styled, table};
use crate::app::preflight::PreflightOutcome;
use crate::numbers::{counted, grouped};
use crate::safe;

/// Writes the whole result.
pub(crate) fn write(
    topology: &Topology,
    outcome: &PreflightOutcome,
    (all, with): (bool, &str),
    columns: Option<usize>,
) -> String {
    let mut out = String::new();
    let report = &outcome.report;
    let answered = outcome.looks.values().filter(|look| look.facts.is_some()).count() as u64;
    let _ = writeln!(
        out,
        "{}: {answered} of {} answered, {} ms, {}",
        styled(HEADING, &safe::text(&topology.name)),
        counted(outcome.looks.len() as u64, "node", "nodes"),
        outcome.took.as_millis(),
        outcome.started.strftime("%Y-%m-%d %H:%M:%S UTC"),
    );
    if !outcome.left_out.is_empty() {
        let _ = writeln!(out, "Left out on request: {}", outcome.left_out.join(", "));
    }
    out.push('\n');
    out.push_str(&nodes(topology, outcome, columns));
    out.push_str(&matrix(topology, report));
    for (finding, others) in groups(&report.findings, all) {
        out.push('\n');
        write_finding(&mut out, topology, finding, columns);
        if !others.is_empty() {
            let text = format!("{} (--all shows each)", safe::text(&few(&others)));
            out.push_str(&hanging("      The same of ", &text, columns));
        }
    }
    if !report.unseen.is_empty() {
        let _ = writeln!(out, "\n{}", styled(UNKNOWN, "Could not look:"));
        for unseen in &report.unseen {
            let lead = format!("  {}: ", topology.nodes[unseen.node].name);
            let text = format!("{} ({})", safe::text(&unseen.what), safe::text(&unseen.fault.what));
            out.push_str(&hanging(&lead, &text, columns));
        }
    }
    out.push('\n');
    out.push_str(&conclusion(outcome));
    let mut kinds: Vec<SetupKind> = (report.findings.iter())
        .flat_map(|finding| &finding.wants)
        .map(|wanted| wanted.change.subject.kind())
        .collect();
    kinds.sort_unstable();
    kinds.dedup();
    if !kinds.is_empty() {
        let kinds: Vec<&str> = kinds.iter().map(|kind| kind.name()).collect();
        let how = format!(
            "keen plan --kind {} --save FILE{with}, then keen mend FILE{with}",
            kinds.join(",")
        );
        let lead = format!("{} ", styled(QUIET, "What can be mended step by step:"));
        out.push_str(&hanging(&lead, &how, columns));
    }
    out
}

fn nodes(topology: &Topology, outcome: &PreflightOutcome, columns: Option<usize>) -> String {
    let mut table = table(columns, &["node", "role", "answered", "clock", "what it is"]);
    for (id, look) in &outcome.looks {
        let writes = if topology.nodes[*id].writes { ", written to" } else { "" };
        let (answered, clock, about) = match &look.facts {
            Some(facts) => {
                let clock = match &facts.clock {
                    Ok(Some(clock)) => {
                        format!("{} \u{b1} {}", ms(clock.ahead, true), ms(clock.uncertain, false))
                    }
                    Ok(None) => "ours".to_owned(),
                    Err(_) => "unseen".to_owned(),
                };
                (took(look), clock, facts.about.clone())
            }
            None => (styled(BAD, "no"), String::new(), String::new()),
        };
        table.add_row(vec![
            Cell::new(&topology.nodes[*id].name),
            Cell::new(format!("{}{writes}", topology.role(*id).name())),
            Cell::new(answered).set_alignment(CellAlignment::Right),
            Cell::new(clock).set_alignment(CellAlignment::Right),
            Cell::new(safe::text(&about)),
        ]);
    }
    finished(&table)
}

/// Microseconds as milliseconds.
fn ms(micros: i64, signed: bool) -> String {
    #[expect(clippy::cast_precision_loss, reason = "for reading")]
    let ms = micros as f64 / 1e3;
    if signed { format!("{ms:+.1} ms") } else { format!("{ms:.1} ms") }
}

fn took(look: &NodeInspection) -> String {
    let steps = look.attempts.last().map(|attempt| &attempt.steps[..]).unwrap_or_default();
    let all: std::time::Duration = steps.iter().map(|(_, took)| *took).sum();
    format!("{:.0} ms", all.as_secs_f64() * 1e3)
}

/// Who reaches whom, as far as the nodes' own links tell.
fn matrix(topology: &Topology, report: &Report) -> String {
    if report.reaches.is_empty() {
        return String::new();
    }
    let mut ends: Vec<NodeId> = report.reaches.keys().flat_map(|(to, from)| [*to, *from]).collect();
    ends.sort_unstable();
    ends.dedup();
    let mut heading = vec!["reaches"];
    heading.extend(ends.iter().map(|node| &topology.nodes[*node].name[..]));
    let mut table = table(None, &heading);
    for to in &ends {
        if !ends.iter().any(|from| report.reaches.contains_key(&(*to, *from))) {
            continue;
        }
        let mut row = vec![Cell::new(&topology.nodes[*to].name)];
        for from in &ends {
            row.push(Cell::new(match report.reaches.get(&(*to, *from)) {
                _ if to == from => styled(QUIET, "-"),
                Some(Reaches::Yes) => styled(GOOD, "yes"),
                Some(Reaches::No) => styled(BAD, "no"),
                Some(Reaches::Stopped) => styled(UNKNOWN, "stopped"),
                Some(Reaches::Untold) => styled(UNKNOWN, "untold"),
                None => String::new(),
            }));
        }
        table.add_row(row);
    }
    format!("\n{}", finished(&table))
}

/// Tables of which the same is found are shown one by one up to this many.
const ALIKE_SHOWN: usize = 3;

/// Findings in their order, with the names of other tables of which very many times the same is found.
fn groups(findings: &[Finding], all: bool) -> Vec<(&Finding, Vec<&str>)> {
    let alike = |a: &Finding, b: &Finding| {
        fn place(f: &Finding) -> impl PartialEq + '_ {
            (f.level, &f.nodes, &f.links, &f.needed, &f.effect, f.todo.len())
        }
        let said = |f: &Finding| f.found.replace(f.table.as_deref().unwrap_or_default(), "");
        a.check == b.check && b.table.is_some() && place(a) == place(b) && said(a) == said(b)
    };
    let mut groups: Vec<(&Finding, Vec<&Finding>)> = Vec::new();
    for finding in findings {
        match groups.iter_mut().find(|(first, _)| !all && alike(first, finding)) {
            Some((_, others)) => others.push(finding),
            None => groups.push((finding, Vec::new())),
        }
    }
    let mut shown = Vec::new();
    for (first, others) in groups {
        if others.len() < ALIKE_SHOWN {
            shown.push((first, Vec::new()));
            shown.extend(others.into_iter().map(|other| (other, Vec::new())));
        } else {
            let names = others.iter().filter_map(|other| other.table.as_deref());
            let mut names: Vec<&str> = names.collect();
            names.dedup();
            shown.push((first, names));
        }
    }
    shown
}

fn write_finding(out: &mut String, topology: &Topology, finding: &Finding, columns: Option<usize>) {
    let style = match finding.level {
        Severity::Stop => BAD,
        Severity::Warn => UNKNOWN,
        Severity::Note => QUIET,
    };
    let nodes: Vec<&str> =
        finding.nodes.iter().map(|node| &topology.nodes[*node].name[..]).collect();
    let mut place = nodes.join(", ");
    if let Some(table) = &finding.table {
        place = format!("{} on {place}", safe::text(table));
    }
    let _ = writeln!(
        out,
        "{}  {}  {place}",
        styled(style, &format!("{:4}", finding.level.name())),
        styled(HEADING, finding.check.name)
    );
    let mut line = |lead: &str, text: &str| {
        out.push_str(&hanging(&format!("      {lead}"), &safe::text(text), columns));
    };
    let mut found = style::capital(topology, &finding.found);
    if let Some(needed) = &finding.needed {
        found.push_str(&format!(". Needed: {needed}"));
    }
    line("", &found);
    if let Some(effect) = &finding.effect {
        let links: Vec<String> = finding
            .links
            .iter()
            .map(|(from, to)| {
                format!("{} -> {}", topology.nodes[*from].name, topology.nodes[*to].name)
            })
            .collect();
        let on = if links.is_empty() { String::new() } else { format!(" ({})", links.join(", ")) };
        line("Then: ", &format!("{effect}{on}"));
    } else if finding.level != Severity::Note {
        line("Why:  ", finding.check.why);
    }
    for text in tasks(topology, &finding.todo) {
        line("Do:   ", &text);
    }
    if finding.todo.is_empty() && finding.level != Severity::Note {
        line("Do:   ", finding.check.remedy);
    }
}

/// Tasks, a line each; of many, those that are to be run in one place after each other in one line.
fn tasks(topology: &Topology, todo: &[Todo]) -> Vec<String> {
    const LINES: usize = 3;
    if todo.len() <= LINES {
        return todo.iter().map(|todo| task(topology, todo)).collect();
    }
    let together = |a: &Todo, b: &Todo| a.is_statement && b.is_statement && a.nodes == b.nodes;
    let joined = todo.chunk_by(together).map(|run| {
        let rest: Vec<&str> = run[1..].iter().map(|todo| &todo.what[..]).collect();
        let first = task(topology, &run[0]);
        [&[&first[..]], &rest[..]].concat().join("; ")
    });
    joined.collect()
}

fn task(topology: &Topology, todo: &Todo) -> String {
    let nodes: Vec<&str> = todo.nodes.iter().map(|node| &topology.nodes[*node].name[..]).collect();
    if nodes.is_empty() {
        todo.what.clone()
    } else {
        format!("on {}: {}", nodes.join(", "), todo.what)
    }
}

fn conclusion(outcome: &PreflightOutcome) -> String {
    let report = &outcome.report;
    let looked: u64 = report.looked_at.values().sum();
    let found: Vec<String> = [
        (Severity::Stop, "stop", "stops"),
        (Severity::Warn, "warning", "warnings"),
        (Severity::Note, "note", "notes"),
    ]
    .into_iter()
    .filter(|(level, _, _)| report.count(*level) > 0)
    .map(|(level, one, many)| counted(report.count(level) as u64, one, many))
    .collect();
    let found = if found.is_empty() { "nothing found".to_owned() } else { found.join(", ") };
    let unseen = if report.unseen.is_empty() {
        String::new()
    } else {
        format!(", {} could not be made", report.unseen.len())
    };
    let style = match report.worst() {
        Some(Severity::Stop) => BAD,
        Some(Severity::Warn) => UNKNOWN,
        _ if !report.unseen.is_empty() => UNKNOWN,
        _ => GOOD,
    };
    let more = if report.findings.is_empty() { "" } else { " `keen explain CHECK` says more." };
    format!(
        "{}: {looked} checks made{unseen}.{more}\n",
        styled(style, &style::capital_first(&found))
    )
}

/// Writes what a node that is to join holds, and how to seed it.
pub(crate) fn join(
    topology: &Topology,
    joining: &Joining,
    took: Duration,
    with: &str,
    columns: Option<usize>,
) -> String {
    let name = |id: NodeId| &topology.nodes[id].name[..];
    let (node, from) = (name(joining.node), name(joining.from));
    let mut out = format!(
        "{}: {node} is to be seeded from {from}, {} ms\n\n",
        styled(HEADING, &safe::text(&topology.name)),
        took.as_millis()
    );
    let only_here = format!("only {node}");
    let only_there = format!("only {from}");
    let mut rows = table(columns, &["rows of", &only_here, "both, unlike", &only_there]);
    for (table, held) in joining.rows.iter().filter_map(|(t, h)| Some((t, h.as_ref().ok()?))) {
        let number = |count: u64| Cell::new(grouped(count)).set_alignment(CellAlignment::Right);
        rows.add_row(vec![
            Cell::new(safe::text(table)),
            number(held.only_here),
            number(held.otherwise),
            number(held.only_there),
        ]);
    }
    out.push_str(&finished(&rows));
    let mut said = String::new();
    let mut line =
        |lead: &str, text: &str| said.push_str(&hanging(lead, &safe::text(text), columns));
    for (what, held) in [("Tables", &joining.tables), ("Accounts", &joining.users)] {
        if let Ok(list) = held
            && !list.is_empty()
        {
            line(&format!("{what} that only {node} has: "), &list.join(", "));
        }
    }
    if let Ok(log) = &joining.log {
        line("", &format!("{from} is at {}", log.now));
        if let Ok(oldest) = &log.oldest {
            line(
                "",
                &format!(
                    "Its log reaches back to {}",
                    if oldest.is_empty() { "its beginning" } else { oldest }
                ),
            );
        }
        if let Some(moved) = &log.moved {
            let enough = match &log.enough {
                Some(Ok(true)) => ", and its log still has all of that",
                Some(Ok(false)) => ", and its log no longer has all of that: take a new snapshot",
                _ => "",
            };
            line("", &format!("It has moved by {moved} since the position given{enough}"));
        }
    }
    if !said.is_empty() {
        out.push('\n');
        out.push_str(&said);
    }
    let unseen = joining.unseen();
    if !unseen.is_empty() {
        let _ = writeln!(out, "\n{}", styled(UNKNOWN, "Could not look:"));
        for (what, fault) in unseen {
            out.push_str(&hanging("  ", &safe::text(&format!("{what} ({fault})")), columns));
        }
    }
    let verdict = if joining.loses() {
        styled(
            BAD,
            &format!(
                "\nOverwriting {node} loses what only it holds. Nothing was done. In this order:"
            ),
        )
    } else {
        styled(HEADING, "\nNothing was done. In this order:")
    };
    let _ = writeln!(out, "{verdict}");
    for (at, step) in joining.steps.iter().enumerate() {
        let place = step.node.map(|id| format!("on {}: ", name(id))).unwrap_or_default();
        out.push_str(&hanging(
            &format!("{:3}. ", at + 1),
            &safe::text(&format!("{place}{}", step.what)),
            columns,
        ));
    }
    let (from, to) = (name(joining.from), name(joining.node));
    let hint = format!("keen plan --seed {from}:{to}{with} says whether keen can do that itself");
    out.push_str(&hanging("", &styled(QUIET, &hint), columns));
    out
}
