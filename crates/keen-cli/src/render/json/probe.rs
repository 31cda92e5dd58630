//! A probe, and waiting for a node, for programs.

use anyhow::Result;
use keen_core::observe::position::Gap;
use keen_core::topology::{NodeId, Topology};
use keen_run::probe::Journey;
use keen_wire::probe::{
    ArrivedDocument, FenceDocument, FencedLink, LeftBehindDocument, ProbeDocument, ProbedNode,
    UnseenNode,
};
use keen_wire::{Ending, Envelope, NamedNode, exact_seconds};

use super::pretty;
use crate::app::probe::{ProbeOutcome, Waited};

/// Writes it for programs.
pub(crate) fn write(topology: &Topology, outcome: &ProbeOutcome) -> Result<String> {
    let name = |node: &NodeId| topology.nodes[*node].name.clone();
    let journeys = outcome.journeys.iter();
    let writers = journeys.map(|(writer, journey)| probed(topology, *writer, journey)).collect();
    let left_behind = outcome.left_behind.iter().map(|row| LeftBehindDocument {
        id: row.id.clone(),
        nodes: row.on.iter().map(name).collect(),
        taken_away: row.taken_away,
    });
    pretty(&ProbeDocument {
        envelope: Envelope::new("probe", &topology.name, &outcome.started, writers),
        ending: Ending::new(outcome.took, outcome.unseen() == 0 && !outcome.stopped),
        table: outcome.table.clone(),
        arrived: outcome.arrived() as u64,
        missing: outcome.missing() as u64,
        left_behind: left_behind.collect(),
    })
}

fn probed(topology: &Topology, writer: NodeId, journey: &Journey) -> ProbedNode {
    let name = |node: &NodeId| topology.nodes[*node].name.clone();
    let arrived = journey.arrived.iter().map(|((node, stage), time)| ArrivedDocument {
        node: name(node),
        stage: stage.name().to_owned(),
        seconds: time.map(exact_seconds),
    });
    let unseen = journey.unseen.iter();
    ProbedNode {
        node: name(&writer),
        fault: keen_wire::fault(journey.fault.as_ref()),
        arrived: arrived.collect(),
        could_not_look: unseen
            .map(|(node, fault)| UnseenNode { node: name(node), fault: fault.into() })
            .collect(),
        left_over: journey.left_over.iter().map(name).collect(),
    }
}

/// Writes it for programs.
pub(crate) fn waited(topology: &Topology, waited: &Waited<'_>) -> Result<String> {
    let name = |node: NodeId| topology.nodes[node].name.clone();
    let link = |source: &NodeId| {
        let link = (*source, waited.at);
        let how = waited.links.iter().find(|l| l.from == Some(*source));
        let lacks = waited.passing.waiting.get(&link).and_then(|waiting| waiting.lacks);
        FencedLink {
            from: name(*source),
            position: waited.fence.of(*source).map(ToString::to_string),
            passed: waited.passing.passed.contains(&link),
            lacks: lacks.map(Gap::size),
            unit: lacks.map(|gap| Gap::unit(gap).to_owned()),
            fault: keen_wire::fault(waited.passing.untold.get(&link)),
            state: how.map(|link| link.state.name().to_owned()),
            reason: how.map(|link| link.reason.clone()),
        }
    };
    let nodes = std::iter::once(waited.at).chain(waited.sources.iter().copied());
    let nodes = nodes.map(|node| NamedNode { node: name(node) }).collect();
    let complete = waited.passing.untold.is_empty() && !waited.stopped;
    pretty(&FenceDocument {
        envelope: Envelope::new("fence", &topology.name, &waited.started, nodes),
        ending: Ending::new(waited.took, complete),
        at: name(waited.at),
        links: waited.sources.iter().map(link).collect(),
    })
}
