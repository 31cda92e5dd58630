//! A look at the links, for programs.

use anyhow::Result;
use jiff::Timestamp;
use keen_core::links::{Changed, LinkFlow, Trend, Wrote};
use keen_core::observe::links::{Micros, Wait};
use keen_core::observe::node::ReplicationKind;
use keen_core::observe::position::{Gap, Position};
use keen_core::topology::{NodeId, Topology};
use keen_wire::links::{
    AppliedDocument, ArrivalDocument, ChangedDocument, FirstLacking, FlowDocument, FlowNode,
    HolderDocument, LinkDocument, LinkError, NextDocument, WaitDocument, WritingDocument,
    WroteDocument,
};
use keen_wire::{Ending, Envelope, seconds};

use super::pretty;
use crate::app::links::FlowOutcome;

/// Writes the whole result.
pub(crate) fn write(topology: &Topology, outcome: &FlowOutcome) -> Result<String> {
    let name = |node: NodeId| topology.nodes[node].name.clone();
    let flow = &outcome.flow;
    let nodes = flow.nodes.iter().map(|(id, of)| node(topology, *id, of)).collect();
    let applied = flow.applied.iter().map(|((node, origin), lacks)| AppliedDocument {
        node: name(*node),
        origin: name(*origin),
        lacks: lacks.size(),
        unit: lacks.unit().to_owned(),
    });
    let writing = flow.writing.iter();
    let writing = writing.map(|w| WritingDocument { node: name(w.node), found: w.found.clone() });
    pretty(&FlowDocument {
        envelope: Envelope::new("flow", &topology.name, &outcome.started, nodes)
            .without(&outcome.left_out),
        ending: Ending::new(outcome.took, outcome.complete()),
        between_seconds: outcome.between.map(seconds),
        links: flow.links.iter().map(|one| link(topology, one)).collect(),
        applied: applied.collect(),
        writing: writing.collect(),
    })
}

fn node(topology: &Topology, id: NodeId, node: &keen_core::links::NodeFlow) -> FlowNode {
    let name = |node: NodeId| topology.nodes[node].name.clone();
    let set = |set: usize| topology.sets[set].name.clone();
    let (seen, transactions) = match node.wrote {
        Wrote::Nothing => (true, Some(0)),
        Wrote::Transactions(count) => (true, Some(count)),
        Wrote::Something => (true, None),
        Wrote::Unseen => (false, None),
    };
    let when = |changed: &Changed| match changed {
        Changed::Now => ChangedDocument { between_looks: true, at: None },
        Changed::At(at) => ChangedDocument { between_looks: false, at: time(Some(*at)) },
        Changed::Before => ChangedDocument { between_looks: false, at: None },
    };
    let arrivals = node.arrivals.iter().map(|((site, of), changed)| ArrivalDocument {
        site: name(*site),
        set: set(*of),
        changed: when(changed),
    });
    FlowNode {
        node: name(id),
        at: time(Some(node.at)),
        answered: node.fault.is_none(),
        fault: keen_wire::fault(node.fault.as_ref()),
        role: node.role.clone(),
        about: node.about.clone(),
        position: text(node.position.as_ref()),
        wrote: WroteDocument { seen, transactions },
        changed: node.changed.iter().map(|(of, changed)| (set(*of), when(changed))).collect(),
        arrived_from: arrivals.collect(),
        heartbeat: time(node.beat),
        statements: node.asked.into(),
        journal_slot_holds_back: node.journal_slot,
    }
}

fn link(topology: &Topology, link: &LinkFlow) -> LinkDocument {
    let name = |node: NodeId| topology.nodes[node].name.clone();
    let inflow = link.inflow.as_deref();
    let error = inflow.and_then(|inflow| inflow.trouble.as_ref()).map(|trouble| LinkError {
        code: trouble.code,
        message: trouble.message.clone(),
        at: trouble.at.clone(),
    });
    let first = link.first_owed.as_ref().map(|first| FirstLacking {
        transaction: first.transaction.clone(),
        committed_at: time(first.committed_at),
        writes: first.writes.clone(),
        write_count: first.count,
    });
    let next = link.next.as_ref();
    LinkDocument {
        from: link.from.map(name),
        to: link.to.map(name),
        name: link.name.clone(),
        means: link.means.map(|means| ReplicationKind::words(means).to_owned()),
        tables: link.tables.clone(),
        state: link.state.name().to_owned(),
        reason: link.reason.clone(),
        behind: link.gap.map(Gap::size),
        unit: link.gap.map(|gap| Gap::unit(gap).to_owned()),
        late_seconds: link.late.map(|late| seconds(late.by)),
        late_at_least: link.late.is_some_and(|late| late.at_least),
        delay_seconds: link.delay.map(seconds),
        backlog: link.trend.map(|trend| Trend::name(trend).to_owned()),
        done_in_seconds: match link.trend {
            Some(Trend::Draining(time)) => Some(seconds(time)),
            _ => None,
        },
        seen: time(link.seen),
        written: text(link.written.as_ref()),
        received: inflow.and_then(|inflow| text(inflow.received.as_ref())),
        applied: text(link.applied.as_ref()),
        moved: link.moved,
        sign_of_life: link.heartbeat,
        last_message: inflow.and_then(|inflow| time(inflow.heard_at)),
        applier_says: inflow.and_then(|inflow| inflow.doing.clone()),
        waits_for: inflow.and_then(|inflow| inflow.wait.as_ref()).map(wait),
        error,
        failures: inflow.and_then(|inflow| inflow.link.failures),
        lacks_first: first,
        lacks_first_fault: keen_wire::fault(link.first_unread.as_ref()),
        next: next.map(|(node, what)| NextDocument { node: node.map(name), what: what.clone() }),
    }
}

fn wait(wait: &Wait) -> WaitDocument {
    let holders = wait.holders.as_ref().ok().map(|holders| {
        let each = holders.iter();
        each.map(|h| HolderDocument { session: h.session, about: h.about.clone() }).collect()
    });
    WaitDocument {
        what: wait.what.clone(),
        holders,
        fault: keen_wire::fault(wait.holders.as_ref().err()),
    }
}

fn text(position: Option<&Position>) -> Option<String> {
    position.map(ToString::to_string)
}

fn time(at: Option<Micros>) -> Option<String> {
    Timestamp::from_microsecond(at?).ok().map(|at| at.to_string())
}
