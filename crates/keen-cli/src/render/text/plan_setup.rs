//! Steps of a plan that are not about rows, for people.

use std::fmt::Write as _;

use keen_core::plan::copy::CopiedLink;
use keen_core::plan::setup_steps::{SetupAct, SetupStep, way_back};
use keen_core::setup::{SetupCondition, Subject, spell, told};
use keen_core::topology::{NodeId, Topology};

use super::style::{HEADING, hanging, styled};
use crate::app::plan::Planned;
use crate::numbers::counted;
use crate::safe;

/// Writes the steps, at most so many.
pub(super) fn write(
    out: &mut String,
    topology: &Topology,
    planned: &Planned,
    show: usize,
    columns: Option<usize>,
) {
    let steps = &planned.setup.steps;
    if steps.is_empty() {
        return;
    }
    let first = planned.plan.step_count() + 1;
    let _ = writeln!(out, "\n{}", styled(HEADING, "Set-up"));
    for (step, number) in steps.iter().zip(first..).take(show) {
        write_step(out, topology, number, step, columns);
    }
    if steps.len() > show {
        let more = counted((steps.len() - show) as u64, "more step", "more steps");
        let _ = writeln!(out, "… and {more} (--show N shows more, --format json has all)");
    }
}

/// What becomes of a link of the receiver of a copy.
fn copied_link(topology: &Topology, link: &CopiedLink, source: NodeId, is_new: bool) -> String {
    let name = |node: NodeId| &topology.nodes[node].name;
    let (from, name_of_source) = (name(link.from), name(source));
    let mut text = match link.link.is_empty() {
        true => format!("the unnamed one from {from}, which is {}", link.is),
        false => format!("{} from {from}, which is {}", link.link, link.is),
    };
    text.push_str(&match link.from == source {
        true => "; it is off meanwhile, and goes on from the moment of the copy".to_owned(),
        false => format!(
            "; it is off meanwhile, and goes on from where {name_of_source} had come with {from}"
        ),
    });
    if let Some(slot) = link.slot.as_ref().filter(|slot| !slot.usable) {
        let made = if is_new { "is made" } else { "is lost, and is made anew" };
        text.push_str(&format!("; slot {} on {from} {made}", slot.name));
    }
    text
}

fn write_step(
    out: &mut String,
    topology: &Topology,
    number: usize,
    step: &SetupStep,
    columns: Option<usize>,
) {
    let node = &topology.nodes[step.node].name;
    let field = |out: &mut String, name: &str, text: &str| {
        super::plan::field(out, name, &safe::text(text), columns);
    };
    let lead = format!("  {number}. ");
    match &step.act {
        SetupAct::Change(change) => {
            let kind = change.subject.kind().name();
            let what = format!("{kind} on {node}: {}", safe::text(&change.to_string()));
            out.push_str(&hanging(&lead, &what, columns));
            if let Some((check, found)) = &step.evidence {
                field(out, "found", &format!("{check}: {found}"));
            }
            field(out, "why", &step.purpose);
            if let Some(loss) = &step.loses {
                field(out, "loses", loss);
            }
            if !step.depends_on.is_empty() {
                field(out, "after", &steps(&step.depends_on));
            }
            for also in &step.also {
                let on = &topology.nodes[also.node].name;
                let is = told(also.is.as_deref());
                let guard = match also.subject {
                    Subject::Answers | Subject::CleanEnd { .. } | Subject::FencedOff => {
                        reads(topology, also)
                    }
                    _ => format!("{} on {on} is {is}", also.subject),
                };
                field(out, "guard", &guard);
            }
            for link in &change.pauses {
                field(out, "pauses", &format!("link {link}, which goes on after it"));
            }
            let engine = topology.nodes[step.node].at.engine();
            for statement in spell::printed(engine, change).unwrap_or_default() {
                field(out, "sql", &statement);
            }
            field(out, "undo", &way_back(step));
        }
        SetupAct::ByHand { what, done } => {
            out.push_str(&hanging(&lead, &format!("by hand: {}", safe::text(what)), columns));
            field(out, "why", &step.purpose);
            if !step.depends_on.is_empty() {
                field(out, "after", &steps(&step.depends_on));
            }
            let read: Vec<String> = done.iter().map(|one| reads(topology, one)).collect();
            let done = match read.is_empty() {
                true => "no connection can tell; keen mend only reminds of it".to_owned(),
                false => format!("when {}", read.join(", ")),
            };
            field(out, "done", &done);
        }
        SetupAct::Wait { from, at_most } => {
            let from = &topology.nodes[*from].name;
            let what = format!(
                "wait until {node} has what {from} had written, at most {} s",
                at_most.as_secs()
            );
            out.push_str(&hanging(&lead, &what, columns));
            field(out, "why", &step.purpose);
            if !step.depends_on.is_empty() {
                field(out, "after", &steps(&step.depends_on));
            }
        }
        SetupAct::Copy(copy) => {
            let from = &topology.nodes[copy.from].name;
            let tables: Vec<&str> = copy.tables.iter().map(|copied| &copied.table[..]).collect();
            let what = format!("fill {node} from {from}: {}", safe::text(&tables.join(", ")));
            out.push_str(&hanging(&lead, &what, columns));
            field(out, "why", &step.purpose);
            if let Some(loss) = &step.loses {
                field(out, "loses", loss);
            }
            if !step.depends_on.is_empty() {
                field(out, "after", &steps(&step.depends_on));
            }
            for link in &copy.links {
                field(
                    out,
                    "link",
                    &copied_link(topology, link, copy.from, !step.depends_on.is_empty()),
                );
            }
            field(out, "undo", &way_back(step));
        }
        SetupAct::Check { findings, same_as } => {
            let mut checks = Vec::new();
            if !findings.is_empty() {
                checks.push(format!("a preflight no longer finds {}", findings.join(", ")));
            }
            if let Some(other) = same_as {
                let other = &topology.nodes[*other].name;
                checks.push(format!("all tables of {node} and {other} agree"));
            }
            out.push_str(&hanging(&lead, &format!("check: {}", checks.join("; ")), columns));
        }
    }
}

/// What reads otherwise once something is done by hand, in words.
fn reads(topology: &Topology, done: &SetupCondition) -> String {
    let node = &topology.nodes[done.node].name;
    let is = done.is.as_deref().unwrap_or("nothing");
    match &done.subject {
        Subject::TopologyFile => format!("the topology file says: {is}"),
        Subject::FencedOff => {
            format!("keen mend --fenced {node} says so, and {node} does not answer")
        }
        Subject::Answers => format!("{node} does not answer"),
        Subject::CleanEnd { beyond } => {
            format!("{node} has the clean end of its log, beyond {beyond}")
        }
        Subject::StandbyOf => format!("{node} receives {is}"),
        Subject::OldSessions { .. } => format!("{node} has none of them any more"),
        subject => format!("{node} reads {subject} = {is}"),
    }
}

/// The steps that come before, by their numbers.
fn steps(numbers: &[u64]) -> String {
    let listed: Vec<String> = numbers.iter().map(u64::to_string).collect();
    format!("{} {}", if numbers.len() == 1 { "step" } else { "steps" }, listed.join(", "))
}
