//! The roles of nodes, and who is written to.

use std::collections::BTreeMap;

use super::{Changed, LinkFlow, LinkState, Looks, NodeFlow, WriterRemark, Wrote};
use crate::history::journal::is_journal_slot;
use crate::observe::links::{LinkSnapshot, Micros, Own};
use crate::observe::node::ReplicationKind;
use crate::observe::position::{Gap, Position};
use crate::topology::{Link, NodeId, Role, Topology};

pub(super) fn nodes(
    topology: &Topology,
    looks: Looks<'_>,
    links: &[LinkFlow],
) -> (BTreeMap<NodeId, NodeFlow>, Vec<WriterRemark>) {
    let mut nodes = BTreeMap::new();
    for (node, observation) in looks.now {
        let snapshot = observation.snapshot();
        nodes.insert(
            *node,
            NodeFlow {
                at: observation.at,
                role: role(topology, looks, *node, links),
                about: snapshot.map(|snapshot| snapshot.about.clone()),
                fault: observation.snapshot.as_ref().err().cloned(),
                position: snapshot.and_then(|snapshot| snapshot.position.clone().ok()),
                wrote: snapshot
                    .map_or(Wrote::Unseen, |snapshot| wrote(topology, looks, *node, snapshot)),
                changed: snapshot.map(|h| changed(topology, looks, *node, h)).unwrap_or_default(),
                arrivals: BTreeMap::new(),
                beat: beat(topology, looks, *node),
                asked: snapshot.map_or(0, |snapshot| snapshot.asked),
                origins: snapshot.and_then(|snapshot| snapshot.origins.clone()),
                journal_slot: snapshot.and_then(|snapshot| {
                    let slots = snapshot.outlets.as_ref().ok()?.iter().map(|outlet| &outlet.slot);
                    let slot = slots.into_iter().find(|slot| {
                        is_journal_slot(&slot.name) && slot.database == snapshot.database
                    })?;
                    Some(slot.held_back.unwrap_or(0).max(0).unsigned_abs())
                }),
            },
        );
    }
    for hub in 0..topology.nodes.len() {
        let arrived = arrivals(topology, looks, hub, &nodes, links);
        if let Some(flow) = nodes.get_mut(&hub) {
            flow.arrivals = arrived;
        }
    }
    let writing = writing(topology, looks, &nodes, links);
    (nodes, writing)
}

/// The role that the file gives a node, and what it is otherwise.
fn role(topology: &Topology, looks: Looks<'_>, node: NodeId, links: &[LinkFlow]) -> String {
    let declared = topology.role(node).name();
    let Some(snapshot) = looks.now.get(&node).and_then(|observation| observation.snapshot()) else {
        return format!("{declared} by the file");
    };
    let name = |node: NodeId| &topology.nodes[node].name;
    if snapshot.standby {
        let source = links.iter().find(|l| l.to == Some(node) && l.state != LinkState::Stray);
        let of = source.and_then(|link| link.from).map(|from| format!(" of {}", name(from)));
        let closed = if topology.nodes[node].writes { ", takes no writes" } else { "" };
        return format!("standby{}{closed}", of.unwrap_or_default());
    }
    let mut parts = vec![declared.to_owned()];
    let receives = topology.links.iter().any(|link| link.to == node);
    let follows_nobody = matches!(&snapshot.inflows, Ok(inflows) if inflows.is_empty());
    if looks.memory.standbys.contains(&node) {
        parts = vec!["promoted, was a standby".to_owned()];
    } else if receives && follows_nobody {
        parts = vec![if topology.role(node) == Role::Peer {
            "detached: follows nobody".to_owned()
        } else {
            format!("detached {declared}: follows nobody")
        }];
    }
    if let Some(setting) = &snapshot.closed {
        let fell = if topology.nodes[node].writes { "fell back to read-only" } else { "read-only" };
        parts.push(format!("{fell} ({setting})"));
    }
    parts.join(", ")
}

/// The writes of applications at a node. Where the engine only tells which transaction was the last, the tables have
/// to have changed too, and the sources not: maintenance commits transactions as well.
fn wrote(topology: &Topology, looks: Looks<'_>, node: NodeId, snapshot: &LinkSnapshot) -> Wrote {
    let before = looks.before.get(&node);
    let touched = |node: NodeId| {
        let (Some(mark), Some(snapshot)) = (
            looks.before.get(&node),
            looks.now.get(&node).and_then(|observation| observation.snapshot()),
        ) else {
            return false;
        };
        snapshot.touched.iter().any(|(table, now)| mark.touched.get(table) != Some(&now.count))
    };
    match (before.and_then(|mark| mark.own.as_ref()), snapshot.own.as_ref()) {
        (Some(before), Some(now)) if before == now => Wrote::Nothing,
        // What carries rows between unlike servers writes like any application.
        _ if topology.links.iter().any(|link| link.to == node && unlike(topology, link)) => {
            Wrote::Unseen
        }
        (Some(Own::Count(before)), Some(Own::Count(now))) => {
            Wrote::Transactions(now.saturating_sub(*before))
        }
        (Some(Own::Last { .. }), Some(Own::Last { here, .. })) => {
            let mut sources = topology.links.iter().filter(|link| link.to == node);
            let others = sources.any(|link| touched(link.from));
            match (touched(node), here) {
                (false, _) => Wrote::Nothing,
                (true, true) if !others || topology.nodes[node].writes => Wrote::Something,
                _ => Wrote::Unseen,
            }
        }
        _ => Wrote::Unseen,
    }
}

fn unlike(topology: &Topology, link: &Link) -> bool {
    topology.nodes[link.from].at.engine() != topology.nodes[link.to].at.engine()
}

/// By table set, when it last changed on a node.
fn changed(
    topology: &Topology,
    looks: Looks<'_>,
    node: NodeId,
    snapshot: &LinkSnapshot,
) -> BTreeMap<usize, Changed> {
    let before = looks.before.get(&node);
    let mut sets = BTreeMap::new();
    for (set, content) in topology.sets.iter().enumerate() {
        let mut last: Option<Changed> = None;
        for table in &content.tables {
            let Some(touched) = snapshot.touched.get(table) else { continue };
            let then = before.and_then(|mark| mark.touched.get(table));
            let remembered = looks.memory.changed.get(&(node, table.clone())).copied();
            let found = match then {
                Some(then) if *then != touched.count => Changed::Now,
                _ => touched.at.max(remembered).map_or(Changed::Before, Changed::At),
            };
            last = Some(last.map_or(found, |last| later(last, found)));
        }
        sets.extend(last.map(|last| (set, last)));
    }
    sets
}

fn later(one: Changed, other: Changed) -> Changed {
    match (one, other) {
        (Changed::Now, _) | (_, Changed::Now) => Changed::Now,
        (Changed::At(one), Changed::At(other)) => Changed::At(one.max(other)),
        (Changed::At(at), Changed::Before) | (Changed::Before, Changed::At(at)) => Changed::At(at),
        (Changed::Before, Changed::Before) => Changed::Before,
    }
}

/// At a hub, by site and set, when the last change that arrived was made at the site: where the link has
/// brought everything, that is the site's last change; else what earlier runs saw arrive.
fn arrivals(
    topology: &Topology,
    looks: Looks<'_>,
    hub: NodeId,
    nodes: &BTreeMap<NodeId, NodeFlow>,
    links: &[LinkFlow],
) -> BTreeMap<(NodeId, usize), Changed> {
    let mut found = BTreeMap::new();
    if topology.role(hub) != Role::Hub {
        return found;
    }
    for declared in topology.links.iter().filter(|link| link.to == hub) {
        let site = declared.from;
        let ends = (Some(site), Some(hub));
        let mut carrying = links.iter().filter(|link| (link.from, link.to) == ends).peekable();
        let well = carrying.peek().is_some() && carrying.all(|link| link.state.is_well());
        let remembered = looks.memory.arrivals.get(&(site, hub));
        let remembered = remembered.map_or(Changed::Before, |(at, _)| Changed::At(*at));
        for set in &declared.carries {
            let made = nodes.get(&site).and_then(|flow| flow.changed.get(set)).copied();
            let some = links.iter().any(|link| brought(link, site, hub));
            let arrived = match (well, some) {
                (true, _) => made.unwrap_or(Changed::Before),
                (false, true) => Changed::Now, // some of what the site wrote
                (false, false) => remembered,
            };
            found.insert((site, *set), arrived);
        }
    }
    found
}

/// Whether a link brought anything of a site between the looks.
fn brought(link: &LinkFlow, from: NodeId, to: NodeId) -> bool {
    (link.from, link.to) == (Some(from), Some(to))
        && link.moved
        && matches!(link.state, LinkState::Flowing | LinkState::Trailing)
}

/// The latest sign of life of a node in any copy of the table of them.
fn beat(topology: &Topology, looks: Looks<'_>, node: NodeId) -> Option<Micros> {
    let name = &topology.nodes[node].name;
    looks.now.values().filter_map(|s| s.snapshot()?.beats.get(name).copied()).max()
}

/// Who lacks how much of whose writes: by the engines' own account of origins where they keep one, else
/// by the direct links.
pub(super) fn applied(
    topology: &Topology,
    looks: Looks<'_>,
    links: &[LinkFlow],
) -> BTreeMap<(NodeId, NodeId), Gap> {
    let mut found = BTreeMap::new();
    let snapshot =
        |node: NodeId| looks.now.get(&node).and_then(|observation| observation.snapshot());
    let all = 0..topology.nodes.len();
    for origin in all.clone().filter(|origin| topology.nodes[*origin].writes) {
        // One domain of several servers says nothing of any one of them.
        let Some(domain) = snapshot(origin).and_then(|snapshot| snapshot.domain) else { continue };
        let shared = |other: NodeId| snapshot(other).and_then(|h| h.domain) == Some(domain);
        if all.clone().any(|other| other != origin && shared(other)) {
            continue;
        }
        let at = |node: NodeId| match snapshot(node)?.origins.as_ref()? {
            Position::Gtid(parts) => Some(parts.get(&domain).map_or(0, |(_, at)| *at)),
            _ => None,
        };
        let Some(written) = at(origin) else { continue };
        for node in all.clone().filter(|node| *node != origin && carries(topology, origin, *node)) {
            if let Some(applied) = at(node) {
                let lacks = written.saturating_sub(applied);
                found.insert((node, origin), Gap::Transactions(lacks));
            }
        }
    }
    for link in links.iter().filter(|link| link.tables.is_empty()) {
        if let (Some(from), Some(to), Some(gap)) = (link.from, link.to, link.gap)
            && link.means != Some(ReplicationKind::BinaryLog)
        {
            let known = found.entry((to, from)).or_insert(gap);
            *known = gap.max(*known);
        }
    }
    found
}

/// Whether what one node writes is to come to the other, over however many links.
fn carries(topology: &Topology, from: NodeId, to: NodeId) -> bool {
    let mut reached = vec![from];
    let mut at = 0;
    while let Some(node) = reached.get(at).copied() {
        at += 1;
        for link in topology.links.iter().filter(|link| link.from == node) {
            if !reached.contains(&link.to) {
                reached.push(link.to);
            }
        }
    }
    reached.contains(&to)
}

fn writing(
    topology: &Topology,
    looks: Looks<'_>,
    nodes: &BTreeMap<NodeId, NodeFlow>,
    links: &[LinkFlow],
) -> Vec<WriterRemark> {
    let mut found = Vec::new();
    let name = |node: NodeId| &topology.nodes[node].name[..];
    let writes =
        |flow: &NodeFlow| matches!(flow.wrote, Wrote::Transactions(1..) | Wrote::Something);
    let writers: Vec<NodeId> =
        nodes.iter().filter(|(_, flow)| writes(flow)).map(|(node, _)| *node).collect();
    for node in writers.iter().copied().filter(|node| !topology.nodes[*node].writes) {
        let how = match nodes[&node].wrote {
            Wrote::Transactions(count) => {
                format!("{count} transaction{}", if count == 1 { "" } else { "s" })
            }
            _ => "something".to_owned(),
        };
        found.push(WriterRemark {
            node,
            found: format!(
                "{} was written to between the looks ({how}), but the file says that applications do not write there",
                name(node)
            ),
        });
    }
    let declared: Vec<NodeId> =
        (0..topology.nodes.len()).filter(|node| topology.nodes[*node].writes).collect();
    let mut before = looks.memory.writers.clone();
    before.sort_unstable();
    let one = |list: &[NodeId]| (list.len() == 1).then(|| list[0]);
    if let (Some(then), Some(now)) = (one(&before), one(&writers))
        && then != now
        && declared != [now]
    // the lead was handed over, and the file says so
    {
        found.push(WriterRemark {
            node: now,
            found: format!(
                "the writer changed: {} was written to before, {} is now",
                name(then),
                name(now)
            ),
        });
    }
    if declared.len() == 1 && writers.len() > 1 {
        let names: Vec<&str> = writers.iter().map(|node| name(*node)).collect();
        found.push(WriterRemark {
            node: writers[0],
            found: format!(
                "two nodes are written to where only one should be: {}",
                names.join(" and ")
            ),
        });
    }
    // A site of a hub that has been quiet for longer than ever before.
    for ((site, hub), (last, pause)) in &looks.memory.arrivals {
        let Some(now) = nodes.get(hub).map(|flow| flow.at) else { continue };
        let quiet = now.saturating_sub(*last);
        let usual = i64::try_from(pause.as_micros()).unwrap_or(i64::MAX);
        let carried = links.iter().any(|link| brought(link, *site, *hub));
        if !carried && quiet > usual.saturating_mul(3) && usual > 0 {
            found.push(WriterRemark {
                node: *site,
                found: format!(
                    "nothing from {} has arrived at {} for {}; it was never silent for longer than {} before",
                    name(*site),
                    name(*hub),
                    long(quiet),
                    long(usual)
                ),
            });
        }
    }
    found
}

/// Microseconds in a unit that reads well.
fn long(micros: Micros) -> String {
    let seconds = micros / 1_000_000;
    match seconds {
        0..=119 => format!("{seconds} s"),
        120..=7199 => format!("{} min", seconds / 60),
        7200..=172_799 => format!("{} h", seconds / 3600),
        _ => format!("{} days", seconds / 86400),
    }
}
