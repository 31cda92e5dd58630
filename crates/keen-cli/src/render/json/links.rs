//! A look at the links, for programs.

use std::time::Duration;

use anyhow::Result;
use jiff::Timestamp;
use keen_core::links::{Changed, LinkFlow, Trend, Wrote};
use keen_core::observe::links::{Holder, Micros};
use keen_core::observe::position::{Gap, Position};
use keen_core::topology::{NodeId, Topology};
use serde_json::{Value as Json, json};

use crate::app::links::Outcome;
use keen_wire::Envelope;

/// Writes the whole result.
pub(crate) fn write(topology: &Topology, outcome: &Outcome) -> Result<String> {
    let name = |node: NodeId| topology.nodes[node].name.clone();
    let flow = &outcome.flow;
    let links: Vec<Json> = flow.links.iter().map(|one| link(topology, one)).collect();
    let nodes = flow.nodes.iter().map(|(id, node)| {
        let wrote = match node.wrote {
            Wrote::Nothing => json!({"seen": true, "transactions": 0}),
            Wrote::Transactions(count) => json!({"seen": true, "transactions": count}),
            Wrote::Something => json!({"seen": true, "transactions": null}),
            Wrote::Unseen => json!({"seen": false, "transactions": null}),
        };
        let when = |changed: &Changed| match changed {
            Changed::Now => json!({"between_looks": true, "at": null}),
            Changed::At(at) => json!({"between_looks": false, "at": time(Some(*at))}),
            Changed::Before => json!({"between_looks": false, "at": null}),
        };
        let changed: serde_json::Map<String, Json> = node
            .changed
            .iter()
            .map(|(set, changed)| (topology.sets[*set].name.clone(), when(changed)))
            .collect();
        let arrivals: Vec<Json> = node
            .arrivals
            .iter()
            .map(|((site, set), changed)| {
                let mut arrived = json!({"site": name(*site), "set": topology.sets[*set].name});
                if let (Some(all), Json::Object(when)) = (arrived.as_object_mut(), when(changed)) {
                    all.extend(when);
                }
                arrived
            })
            .collect();
        json!({
            "node": name(*id),
            "at": time(Some(node.at)),
            "answered": node.fault.is_none(),
            "fault": keen_wire::fault(node.fault.as_ref()),
            "role": node.role,
            "about": node.about,
            "position": text(node.position.as_ref()),
            "wrote": wrote,
            "changed": changed,
            "arrived_from": arrivals,
            "heartbeat": time(node.beat),
            "statements": node.asked,
            "journal_slot_holds_back": node.journal_slot,
        })
    });
    let applied = flow.applied.iter().map(|((node, origin), lacks)| {
        json!({"node": name(*node), "origin": name(*origin), "lacks": lacks.size(), "unit": lacks.unit()})
    });
    let writing = flow.writing.iter().map(|w| json!({"node": name(w.node), "found": w.found}));
    let document = Envelope::new("flow", &topology.name, &outcome.started).with(json!({
        "seconds": keen_wire::seconds(outcome.took),
        "between_ms": outcome.between.map(ms),
        "complete": outcome.complete(),
        "left_out": outcome.left_out,
        "links": links,
        "nodes": nodes.collect::<Vec<_>>(),
        "applied": applied.collect::<Vec<_>>(),
        "writing": writing.collect::<Vec<_>>(),
    }));
    Ok(serde_json::to_string_pretty(&document)? + "\n")
}

fn link(topology: &Topology, link: &LinkFlow) -> Json {
    let name = |node: NodeId| topology.nodes[node].name.clone();
    let inflow = link.inflow.as_deref();
    let wait = inflow.and_then(|inflow| inflow.wait.as_ref()).map(|wait| {
        let holders = wait.holders.as_ref().ok().map(|holders| {
            let holder = |h: &Holder| json!({"session": h.session, "about": h.about});
            holders.iter().map(holder).collect::<Vec<_>>()
        });
        json!({"what": wait.what, "holders": holders, "unseen": wait.holders.as_ref().err()})
    });
    let trouble = inflow.and_then(|inflow| inflow.trouble.as_ref());
    let error = trouble.map(|t| json!({"code": t.code, "message": t.message, "at": t.at}));
    let done = match link.trend {
        Some(Trend::Draining(time)) => Some(ms(time)),
        _ => None,
    };
    json!({
        "from": link.from.map(name),
        "to": link.to.map(name),
        "name": link.name,
        "means": link.means.map(keen_core::observe::node::ReplicationKind::words),
        "tables": link.tables,
        "state": link.state.name(),
        "reason": link.reason,
        "behind": link.gap.map(Gap::size),
        "unit": link.gap.map(Gap::unit),
        "late_ms": link.late.map(|late| ms(late.by)),
        "late_at_least": link.late.is_some_and(|late| late.at_least),
        "delay_ms": link.delay.map(ms),
        "backlog": link.trend.map(Trend::name),
        "done_in_ms": done,
        "seen": time(link.seen),
        "written": text(link.written.as_ref()),
        "received": inflow.and_then(|inflow| text(inflow.received.as_ref())),
        "applied": text(link.applied.as_ref()),
        "moved": link.moved,
        "sign_of_life": link.heartbeat,
        "last_message": inflow.and_then(|inflow| time(inflow.heard_at)),
        "applier_says": inflow.and_then(|inflow| inflow.doing.clone()),
        "waits_for": wait,
        "error": error,
        "failures": inflow.and_then(|inflow| inflow.link.failures),
        "lacks_first": link.first_owed.as_ref().map(|first| json!({
            "transaction": first.transaction,
            "committed_at": time(first.committed_at),
            "writes": first.writes,
            "write_count": first.count,
        })),
        "lacks_first_unread": link.first_unread,
        "next": link.next.as_ref().map(|(node, what)| json!({"node": node.map(name), "what": what})),
    })
}

fn ms(time: Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}

fn text(position: Option<&Position>) -> Option<String> {
    position.map(ToString::to_string)
}

fn time(at: Option<Micros>) -> Option<String> {
    Timestamp::from_microsecond(at?).ok().map(|at| at.to_string())
}
