//! A probe, and waiting for a node, for programs.

use std::time::Duration;

use anyhow::Result;
use keen_core::topology::{NodeId, Topology};
use keen_wire::Envelope;
use serde_json::{Value as Json, json};

use crate::app::probe::{Outcome, Waited};

/// Writes it for programs.
pub(crate) fn write(topology: &Topology, outcome: &Outcome) -> Result<String> {
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

/// Writes it for programs.
pub(crate) fn waited(topology: &Topology, waited: &Waited<'_>) -> Result<String> {
    let name = |node: NodeId| topology.nodes[node].name.clone();
    let links: Vec<Json> = waited
        .sources
        .iter()
        .map(|source| {
            let link = (*source, waited.at);
            let how = waited.links.iter().find(|l| l.from == Some(*source));
            let waiting = waited.passing.waiting.get(&link);
            json!({
                "from": name(*source),
                "position": waited.fence.of(*source).map(ToString::to_string),
                "passed": waited.passing.passed.contains(&link),
                "lacks": waiting.and_then(|w| w.lacks).map(keen_core::observe::position::Gap::size),
                "unit": waiting.and_then(|w| w.lacks).map(keen_core::observe::position::Gap::unit),
                "could_not_tell": waited.passing.untold.get(&link),
                "state": how.map(|l| l.state.name()),
                "reason": how.map(|l| l.reason.clone()),
            })
        })
        .collect();
    let document = Envelope::new("fence", &topology.name, &waited.started).with(json!({
        "seconds": keen_wire::seconds(waited.took),
        "at": name(waited.at),
        "links": links,
    }));
    Ok(serde_json::to_string_pretty(&document)? + "\n")
}
