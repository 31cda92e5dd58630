//! A preflight, for programs.

use anyhow::Result;
use keen_core::observe::node::{Attempt, NodeInspection, Observed};
use keen_core::preflight::{Finding, Level, Reaches};
use keen_core::seed::join::Joining;
use keen_core::seed::steps::StepKind;
use keen_core::topology::{NodeId, Topology};
use serde::Serialize;
use serde_json::{Value as Json, json};

use crate::app::preflight::Outcome;
use jiff::Timestamp;
use keen_wire::{Envelope, VERSION};

#[derive(Serialize)]
struct Document {
    keen: &'static str,
    version: u32,
    topology: String,
    started: String,
    seconds: f64,
    complete: bool,
    nodes: Vec<Json>,
    left_out: Vec<String>,
    reaches: Vec<Json>,
    findings: Vec<Json>,
    could_not_look: Vec<Json>,
    looked_at: Json,
    stops: usize,
    warnings: usize,
    notes: usize,
}

/// Writes the whole result.
pub(crate) fn write(topology: &Topology, outcome: &Outcome) -> Result<String> {
    let report = &outcome.report;
    let name = |node: &NodeId| topology.nodes[*node].name.clone();
    let reaches = report.reaches.iter().map(|((to, from), reaches)| {
        let word = match reaches {
            Reaches::Yes => "yes",
            Reaches::No => "no",
            Reaches::Stopped => "stopped",
            Reaches::Untold => "untold",
        };
        json!({"node": name(to), "source": name(from), "reaches": word})
    });
    let unseen = report.unseen.iter().map(|unseen| {
        json!({"node": name(&unseen.node), "area": unseen.area.name(), "what": unseen.what, "reason": unseen.reason})
    });
    let looked: serde_json::Map<String, Json> = report
        .looked_at
        .iter()
        .map(|(area, count)| (area.name().to_owned(), Json::from(*count)))
        .collect();
    let document = Document {
        keen: "preflight",
        version: VERSION,
        topology: topology.name.clone(),
        started: outcome.started.to_string(),
        seconds: keen_wire::seconds(outcome.took),
        complete: report.unseen.is_empty() && outcome.looks.values().all(|l| l.facts.is_some()),
        nodes: outcome.looks.iter().map(|(id, look)| node(topology, *id, look)).collect(),
        left_out: outcome.left_out.clone(),
        reaches: reaches.collect(),
        findings: report.findings.iter().map(|finding| one(topology, finding)).collect(),
        could_not_look: unseen.collect(),
        looked_at: Json::Object(looked),
        stops: report.count(Level::Stop),
        warnings: report.count(Level::Warn),
        notes: report.count(Level::Note),
    };
    Ok(serde_json::to_string_pretty(&document)? + "\n")
}

fn node(topology: &Topology, id: NodeId, look: &NodeInspection) -> Json {
    let attempts: Vec<Json> = look.attempts.iter().map(attempt).collect();
    let mut node = json!({
        "node": topology.nodes[id].name,
        "role": topology.role(id).name(),
        "writes": topology.nodes[id].writes,
        "answered": look.facts.is_some(),
        "attempts": attempts,
    });
    if let Some(facts) = &look.facts {
        node["engine"] = json!(facts.engine.name());
        node["about"] = json!(facts.about);
        node["standby"] = json!(facts.standby);
        if let Ok(Some(clock)) = &facts.clock {
            node["clock"] = json!({"ahead_us": clock.ahead, "uncertain_us": clock.uncertain});
        }
    }
    node
}

fn attempt(attempt: &Attempt) -> Json {
    let steps: serde_json::Map<String, Json> = attempt
        .steps
        .iter()
        .map(|(step, took)| {
            (
                step.name().to_owned(),
                json!({"took_us": u64::try_from(took.as_micros()).unwrap_or(u64::MAX)}),
            )
        })
        .collect();
    let mut json = json!({"address": attempt.address, "passed": steps});
    if let Some(fault) = &attempt.fault {
        json["fault"] = keen_wire::fault(Some(fault));
    }
    json
}

fn one(topology: &Topology, finding: &Finding) -> Json {
    let name = |node: NodeId| &topology.nodes[node].name;
    let nodes: Vec<&String> = finding.nodes.iter().map(|node| name(*node)).collect();
    let links: Vec<Json> = finding
        .links
        .iter()
        .map(|(from, to)| json!({"from": name(*from), "to": name(*to)}))
        .collect();
    let todo: Vec<Json> = finding
        .todo
        .iter()
        .map(|todo| {
            let key = if todo.is_statement { "run" } else { "advice" };
            let nodes: Vec<&String> = todo.nodes.iter().map(|node| name(*node)).collect();
            json!({"nodes": nodes, key: todo.what})
        })
        .collect();
    json!({
        "check": finding.check.name,
        "area": finding.check.area.name(),
        "level": finding.level.name(),
        "nodes": nodes,
        "table": finding.table,
        "found": finding.found,
        "needed": finding.needed,
        "effect": finding.effect,
        "breaks": links,
        "why": finding.check.why,
        "todo": todo,
    })
}

/// Writes what a node that is to join holds, and how to seed it.
pub(crate) fn join(topology: &Topology, joining: &Joining) -> Result<String> {
    let name = |id: NodeId| &topology.nodes[id].name;
    let list = |seen: &Observed<Vec<String>>| seen.as_ref().map_or(Json::Null, |list| json!(list));
    let rows: Vec<Json> = joining
        .rows
        .iter()
        .filter_map(|(table, held)| {
            let held = held.as_ref().ok()?;
            Some(json!({"table": table, "only_joining": held.only_here, "otherwise": held.otherwise, "only_source": held.only_there}))
        })
        .collect();
    let log = joining.log.as_ref().ok().map(|log| {
        let enough = log.enough.as_ref().and_then(|enough| enough.as_ref().ok());
        json!({"now": log.now, "oldest": log.oldest.as_ref().ok(), "moved": log.moved, "enough": enough})
    });
    let unseen: Vec<Json> = joining
        .unseen()
        .into_iter()
        .map(|(what, reason)| json!({"what": what, "reason": reason}))
        .collect();
    let steps: Vec<Json> = joining
        .steps
        .iter()
        .map(|step| {
            let key = match step.kind {
                StepKind::Words => "advice",
                StepKind::Sql => "run",
                StepKind::Shell => "shell",
            };
            json!({"node": step.node.map(name), key: step.what})
        })
        .collect();
    let document = Envelope::new("join", &topology.name, &Timestamp::now()).with(json!({
        "node": name(joining.node),
        "from": name(joining.from),
        "loses": joining.loses(),
        "complete": joining.unseen().is_empty(),
        "rows": rows,
        "tables": list(&joining.tables),
        "accounts": list(&joining.users),
        "log": log,
        "could_not_look": unseen,
        "steps": steps,
    }));
    Ok(serde_json::to_string_pretty(&document)? + "\n")
}
