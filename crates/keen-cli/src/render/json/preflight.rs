//! A preflight, for programs.

use std::time::Duration;

use anyhow::Result;
use jiff::Timestamp;
use keen_core::observe::node::{Attempt, Clock, NodeInspection};
use keen_core::preflight::{Finding, Reaches, Severity, Todo};
use keen_core::seed::join::Joining;
use keen_core::seed::steps::{SeedStep, StepKind};
use keen_core::topology::{NodeId, Topology};
use keen_wire::preflight::{
    AttemptDocument, ClockDocument, FindingDocument, InspectedNode, JoinDocument, JoiningRows,
    LogDocument, PassedStep, PreflightDocument, ReachDocument, SeedStepDocument, TodoDocument,
    UnseenDocument, UnseenPart,
};
use keen_wire::{Ending, Envelope, LinkEnds, NamedNode, exact_seconds};

use super::pretty;
use crate::app::preflight::PreflightOutcome;

/// Writes the whole result.
pub(crate) fn write(topology: &Topology, outcome: &PreflightOutcome) -> Result<String> {
    let report = &outcome.report;
    let name = |node: &NodeId| topology.nodes[*node].name.clone();
    let reaches = report.reaches.iter().map(|((to, from), reaches)| ReachDocument {
        node: name(to),
        source: name(from),
        reaches: match reaches {
            Reaches::Yes => "yes",
            Reaches::No => "no",
            Reaches::Stopped => "stopped",
            Reaches::Untold => "untold",
        }
        .to_owned(),
    });
    let unseen = report.unseen.iter().map(|unseen| UnseenDocument {
        node: name(&unseen.node),
        area: unseen.area.name().to_owned(),
        what: unseen.what.clone(),
        fault: (&unseen.fault).into(),
    });
    let looked = report.looked_at.iter();
    let complete = report.unseen.is_empty() && outcome.looks.values().all(|l| l.facts.is_some());
    let nodes = outcome.looks.iter().map(|(id, look)| node(topology, *id, look)).collect();
    pretty(&PreflightDocument {
        envelope: Envelope::new("preflight", &topology.name, &outcome.started, nodes)
            .without(&outcome.left_out),
        ending: Ending::new(outcome.took, complete),
        reaches: reaches.collect(),
        findings: report.findings.iter().map(|one| finding(topology, one)).collect(),
        could_not_look: unseen.collect(),
        looked_at: looked.map(|(area, count)| (area.name().to_owned(), *count)).collect(),
        stops: report.count(Severity::Stop) as u64,
        warnings: report.count(Severity::Warn) as u64,
        notes: report.count(Severity::Note) as u64,
    })
}

fn node(topology: &Topology, id: NodeId, look: &NodeInspection) -> InspectedNode {
    let facts = look.facts.as_ref();
    let clock = |clock: &Clock| ClockDocument {
        ahead_seconds: clock.ahead as f64 / 1e6,
        uncertain_seconds: clock.uncertain as f64 / 1e6,
    };
    InspectedNode {
        node: topology.nodes[id].name.clone(),
        role: topology.role(id).name().to_owned(),
        writes: topology.nodes[id].writes,
        answered: facts.is_some(),
        attempts: look.attempts.iter().map(attempt).collect(),
        engine: facts.map(|facts| facts.engine.name().to_owned()),
        about: facts.map(|facts| facts.about.clone()),
        standby: facts.map(|facts| facts.standby),
        clock: facts.and_then(|facts| facts.clock.as_ref().ok()?.as_ref()).map(clock),
    }
}

fn attempt(attempt: &Attempt) -> AttemptDocument {
    let passed = attempt
        .steps
        .iter()
        .map(|(step, took)| (step.name().to_owned(), PassedStep { seconds: exact_seconds(*took) }));
    AttemptDocument {
        address: attempt.address.clone(),
        passed: passed.collect(),
        fault: keen_wire::fault(attempt.fault.as_ref()),
    }
}

fn finding(topology: &Topology, finding: &Finding) -> FindingDocument {
    let name = |node: &NodeId| topology.nodes[*node].name.clone();
    let todo = |todo: &Todo| TodoDocument {
        nodes: todo.nodes.iter().map(name).collect(),
        run: todo.is_statement.then(|| todo.what.clone()),
        advice: (!todo.is_statement).then(|| todo.what.clone()),
    };
    let links = finding.links.iter();
    FindingDocument {
        check: finding.check.name.to_owned(),
        area: finding.check.area.name().to_owned(),
        level: finding.level.name().to_owned(),
        nodes: finding.nodes.iter().map(name).collect(),
        table: finding.table.clone(),
        found: finding.found.clone(),
        needed: finding.needed.clone(),
        effect: finding.effect.clone(),
        breaks: links.map(|(from, to)| LinkEnds { from: name(from), to: name(to) }).collect(),
        why: finding.check.why.to_owned(),
        todo: finding.todo.iter().map(todo).collect(),
    }
}

/// Writes what a node that is to join holds, and how to seed it.
pub(crate) fn join(
    topology: &Topology,
    joining: &Joining,
    (started, took): (Timestamp, Duration),
) -> Result<String> {
    let name = |id: NodeId| topology.nodes[id].name.clone();
    let rows = joining.rows.iter().filter_map(|(table, held)| {
        let held = held.as_ref().ok()?;
        Some(JoiningRows {
            table: table.clone(),
            only_joining: held.only_here,
            otherwise: held.otherwise,
            only_source: held.only_there,
        })
    });
    let log = joining.log.as_ref().ok().map(|log| LogDocument {
        now: log.now.clone(),
        oldest: log.oldest.as_ref().ok().cloned(),
        moved: log.moved.clone(),
        enough: log.enough.as_ref().and_then(|enough| enough.as_ref().ok()).copied(),
    });
    let unseen = joining.unseen();
    let step = |step: &SeedStep| {
        let of = |kind: StepKind| (step.kind == kind).then(|| step.what.clone());
        SeedStepDocument {
            node: step.node.map(name),
            run: of(StepKind::Sql),
            shell: of(StepKind::Shell),
            advice: of(StepKind::Words),
        }
    };
    let nodes = [joining.node, joining.from].map(|node| NamedNode { node: name(node) });
    pretty(&JoinDocument {
        envelope: Envelope::new("join", &topology.name, &started, nodes.to_vec()),
        ending: Ending::new(took, unseen.is_empty()),
        node: name(joining.node),
        from: name(joining.from),
        loses: joining.loses(),
        rows: rows.collect(),
        tables: joining.tables.as_ref().ok().cloned(),
        accounts: joining.users.as_ref().ok().cloned(),
        log,
        could_not_look: unseen
            .iter()
            .map(|(what, fault)| UnseenPart { what: what.clone(), fault: fault.into() })
            .collect(),
        steps: joining.steps.iter().map(step).collect(),
    })
}
