//! What several links make together: circles, relays that starve what is behind them, slots that
//! nobody reads, and who leads.

use super::{CheckContext, Finding, Known, Level, declared_as};
use crate::history::journal::is_journal_slot;
use crate::observe::node::{ReplicationKind, Slot};
use crate::preflight::legend::{
    Area, LEADER_ELSEWHERE, LINK_LOOP, LOG_HELD_BACK, RELAY_STARVED, SLOT_UNREAD, VOTERS,
};
use crate::topology::{Address, NodeId};
use crate::units::size;

/// Circles in which every link passes on what its source was sent.
pub(super) fn loops(desk: &mut CheckContext<'_>, known: &[Known<'_>]) {
    let edges: Vec<(NodeId, NodeId, &str)> = known
        .iter()
        .filter(|k| k.link.means == ReplicationKind::Subscription && !k.link.own_writes_only)
        .filter_map(|k| Some((k.from?, k.to, &k.link.name[..])))
        .collect();
    let mut found: Vec<Vec<NodeId>> = Vec::new();
    for (start, next, _) in &edges {
        // The shortest way back from the end of this link to its start.
        let mut paths = vec![vec![*start, *next]];
        let mut at = 0;
        while let Some(path) = paths.get(at).cloned() {
            at += 1;
            let last = path[path.len() - 1];
            if last == *start {
                let mut circle: Vec<NodeId> = path[..path.len() - 1].to_vec();
                let least =
                    circle.iter().enumerate().min_by_key(|(_, n)| **n).map_or(0, |(i, _)| i);
                circle.rotate_left(least);
                if !found.contains(&circle) {
                    found.push(circle);
                }
                break;
            }
            for (_, to, _) in edges.iter().filter(|(from, _, _)| *from == last) {
                if *to == *start || !paths.iter().any(|known| known.contains(to)) {
                    let mut longer = path.clone();
                    longer.push(*to);
                    paths.push(longer);
                }
            }
        }
    }
    for circle in found {
        let mut names: Vec<&str> = circle.iter().map(|node| desk.name(*node)).collect();
        names.push(names[0]);
        let links: Vec<(NodeId, NodeId)> =
            (0..circle.len()).map(|i| (circle[i], circle[(i + 1) % circle.len()])).collect();
        let mut finding = Finding::new(
            &LINK_LOOP,
            Level::Stop,
            circle.clone(),
            format!("changes go round: {}", names.join(" -> ")),
        )
        .needs("links that carry only what their source itself wrote, and one from every writer to every node")
        .on_links(links.clone());
        // Over more than two nodes each one's writes reach some of the others by way of the rest only.
        if circle.len() > 2 {
            desk.find(finding.advise(
                None,
                "link every node with every other first, then set origin = none on all of these subscriptions: set at once, it would leave each node without what the ones further round write",
            ));
            continue;
        }
        for (from, to) in links {
            let name = edges.iter().find(|(f, t, _)| (*f, *t) == (from, to)).map_or("", |e| e.2);
            let major = desk.facts(to).map_or(0, |facts| facts.major);
            finding = if major >= 16 {
                finding.run(
                    to,
                    format!(
                        "ALTER SUBSCRIPTION \"{}\" SET (origin = none)",
                        name.replace('"', "\"\"")
                    ),
                )
            } else {
                finding.advise(Some(to), format!("PostgreSQL {major} cannot tell where a change came from: drop subscription {name}, or move both to 16 or newer"))
            };
        }
        desk.find(finding);
    }
}

/// Links that leave out what their source was sent, though somebody further down needs it.
pub(super) fn starved(desk: &mut CheckContext<'_>, known: &[Known<'_>]) {
    for link in known.iter().filter(|k| k.link.own_writes_only) {
        let Some(from) = link.from else { continue };
        let topology = desk.topology;
        let direct = desk.sources(link.to);
        let sets: Vec<usize> =
            declared_as(topology, link).flat_map(|l| l.carries.iter().copied()).collect();
        let behind: Vec<NodeId> = topology
            .links
            .iter()
            .filter(|l| l.to == from && l.from != link.to)
            .filter(|l| l.carries.iter().any(|set| sets.contains(set)))
            .map(|l| l.from)
            .filter(|origin| !direct.contains(origin))
            .collect();
        if behind.is_empty() {
            continue;
        }
        let found = format!(
            "{} gets only what {} itself writes: nothing that {} sends to {} gets there",
            desk.name(link.to),
            desk.name(from),
            desk.names(&behind),
            desk.name(from)
        );
        let name = link.link.name.replace('"', "\"\"");
        let finding = Finding::new(&RELAY_STARVED, Level::Stop, [from, link.to], found)
            .on_links(vec![(from, link.to)]);
        desk.find(if link.link.means != ReplicationKind::Subscription {
            finding
        } else if desk.sends_to(link.to, from) {
            finding.advise(
                Some(link.to),
                "link it with each of them directly: over this link their writes cannot come, because its own would come back with them",
            )
        } else {
            finding
                .run(link.to, format!("ALTER SUBSCRIPTION \"{name}\" SET (origin = any)"))
                .advise(None, "what did not come until then stays missing: keen audit shows it")
        });
    }
}

pub(super) fn slots(desk: &mut CheckContext<'_>, known: &[Known<'_>]) {
    for (node, facts) in desk.nodes() {
        let Some(slots) = desk.seen(Area::Links, node, "its slots", &facts.slots) else { continue };
        for slot in slots {
            let ours = match &desk.topology.nodes[node].at {
                Address::Server(server) => Some(&server.database),
                Address::Sqlite(_) => None,
            };
            // Who reads a slot of another database is for whoever looks after that to know.
            if slot.database.is_some() && slot.database.as_ref() != ours {
                continue;
            }
            desk.looked(Area::Links);
            let reader = known.iter().find(|k| {
                k.from == Some(node) && k.link.source.slot.as_deref() == Some(&slot.name)
            });
            let lost = slot.log.as_deref().filter(|log| matches!(*log, "unreserved" | "lost"));
            let is_ours = is_journal_slot(&slot.name);
            // Of a slot that nobody reads the other finding says how much it holds back.
            if (slot.active || reader.is_some() || is_ours)
                && lost != Some("lost")
                && holding_back(desk, node, slot)
                && (is_ours || lost.is_none())
            {
                continue;
            }
            if slot.active || (reader.is_some() && lost.is_none()) {
                continue;
            }
            let hidden: Vec<NodeId> = desk
                .receivers(node)
                .into_iter()
                .filter(|receiver| desk.facts(*receiver).is_none())
                .collect();
            if reader.is_none() && lost.is_none() && !is_ours && !hidden.is_empty() {
                let what = format!("who reads slot {}", slot.name);
                let reason =
                    format!("it may be {}, which could not be looked at", desk.names(&hidden));
                desk.could_not_look(Area::Links, node, &what, &reason);
                continue;
            }
            let held = slot
                .held_back
                .filter(|_| lost != Some("lost"))
                .map(|bytes| format!(", holding back {}", size(bytes.max(0).unsigned_abs())))
                .unwrap_or_default();
            let (level, found) = match (lost, reader) {
                (Some(log), Some(reader)) => (
                    Level::Stop,
                    format!(
                        "the log that slot {} keeps for {} is {log}",
                        slot.name,
                        desk.name(reader.to)
                    ),
                ),
                (Some(log), None) => {
                    (Level::Warn, format!("slot {}, which nobody reads, has {log} log", slot.name))
                }
                (None, _) if is_journal_slot(&slot.name) => (
                    Level::Note,
                    format!(
                        "slot {}, through which keen reads what was written, is there{held}",
                        slot.name
                    ),
                ),
                (None, _) => (Level::Warn, format!("nobody reads slot {}{held}", slot.name)),
            };
            let name = slot.name.replace('\'', "''");
            desk.find(Finding::new(&SLOT_UNREAD, level, [node], found).advise(
                Some(node),
                format!(
                    "when nobody comes back for it, as whoever does would lose what it has not fetched: SELECT pg_drop_replication_slot('{name}')"
                ),
            ));
        }
    }
}

/// A slot for which the server keeps more log than the file's limit, or more than half of what it keeps at most;
/// whether it is so.
fn holding_back(desk: &mut CheckContext<'_>, node: NodeId, slot: &Slot) -> bool {
    let held = slot.held_back.and_then(|bytes| u64::try_from(bytes).ok());
    let Some(held) = held else { return false };
    let limit = desk.topology.limits.held_back;
    let room = slot.room.map(|bytes| bytes.max(0).unsigned_abs());
    let short = room.is_some_and(|room| held > room);
    if held < limit && !short {
        return false;
    }
    let at_most = room.map(|room| {
        format!(
            "; after {} more the server gives it up, and who reads it has to be copied anew",
            size(room)
        )
    });
    let found = format!(
        "slot {} holds back {} of log{}",
        slot.name,
        size(held),
        at_most.unwrap_or_default()
    );
    let needed = match held < limit {
        true => {
            "less than half of what the server keeps at most (max_slot_wal_keep_size)".to_owned()
        }
        false => format!("less than {} (held_back under [limits])", size(limit)),
    };
    let finding = Finding::new(&LOG_HELD_BACK, Level::Warn, [node], found).needs(needed);
    desk.find(match is_journal_slot(&slot.name) {
        true => finding.advise(
            Some(node),
            "when keen conflicts has read what it holds, keen conflicts --ddl prints the statement that lets it go of that",
        ),
        false => finding.advise(Some(node), "keen flow says whether its reader gets on, and what keeps it"),
    });
    true
}

/// Whether a subscription fetches through the slot through which the node's source in the file fetches, too: a
/// standby that is promoted has the subscriptions of its primary.
fn inherited(desk: &CheckContext<'_>, known: &[Known<'_>], of: &Known<'_>) -> bool {
    let sources = desk.sources(of.to);
    let same = |other: &&Known<'_>| {
        sources.contains(&other.to)
            && other.from == of.from
            && other.link.means == ReplicationKind::Subscription
            && (&other.link.name, &other.link.source.slot) == (&of.link.name, &of.link.source.slot)
    };
    of.from.is_some() && of.link.source.slot.is_some() && known.iter().any(|other| same(&other))
}

/// Who leads, where one leads and the others stand by.
pub(super) fn leader(desk: &mut CheckContext<'_>, known: &[Known<'_>]) {
    let topology = desk.topology;
    for (node, facts) in desk.nodes() {
        if topology.nodes[node].writes && facts.standby {
            let leads =
                known.iter().find(|k| k.to == node && k.link.means == ReplicationKind::Streaming);
            let leads = leads.and_then(|k| k.from).map(|n| format!(": {} leads", desk.name(n)));
            let found = format!(
                "the file says that applications write to {}, and it is a standby{}",
                desk.name(node),
                leads.unwrap_or_default()
            );
            desk.find(Finding::new(&LEADER_ELSEWHERE, Level::Stop, [node], found).advise(
                None,
                "if the lead was handed over, correct the file; if not, hand it back as whoever runs these servers does it. Two that both take writes part at once, so nothing is promoted here while the other may still run",
            ));
        }
    }
    for (node, facts) in desk.nodes() {
        let of_node =
            |k: &&Known<'_>| k.to == node && k.link.means == ReplicationKind::Subscription;
        let inherits =
            !facts.standby && known.iter().filter(of_node).any(|k| inherited(desk, known, k));
        if inherits {
            let found = format!(
                "{} fetches through the slots of {}, which the file has it follow, and takes writes of its own, as a standby does that was promoted",
                desk.name(node),
                desk.names(&desk.sources(node))
            );
            desk.find(Finding::new(&LEADER_ELSEWHERE, Level::Stop, [node], found).advise(
                Some(node),
                "if it leads now, stop the other first and correct the file; if not, disable its subscriptions (they take what the other is to get) and build it anew as a standby",
            ));
        }
    }
    if !desk.nodes().iter().any(|(_, facts)| facts.standby) {
        return;
    }
    // Whoever exchanges nothing but the leader's log can take over from it.
    let mut members: Vec<NodeId> = Vec::new();
    for (node, _) in desk.nodes().into_iter().filter(|(_, facts)| facts.standby) {
        members.push(node);
        members.extend(desk.sources(node));
    }
    for (node, facts) in desk.nodes() {
        let follows = desk.sources(node).iter().any(|source| members.contains(source));
        if follows
            && !facts.standby
            && !topology.nodes[node].writes
            && facts.incoming.as_ref().is_ok_and(|incoming| {
                incoming.iter().all(|l| l.means == ReplicationKind::Streaming)
            })
        {
            members.push(node);
            let found = format!(
                "{} takes writes of its own, and the file has it follow {}: it was promoted, or never was a standby",
                desk.name(node),
                desk.names(&desk.sources(node))
            );
            desk.find(Finding::new(&LEADER_ELSEWHERE, Level::Stop, [node], found));
        }
    }
    let mut declared: Vec<NodeId> = members
        .iter()
        .flat_map(|n| {
            let mut all = desk.receivers(*n);
            all.push(*n);
            all
        })
        .collect();
    declared.sort_unstable();
    declared.dedup();
    // A primary and its one standby decide nothing among themselves: a person does.
    if declared.len() <= 2 {
        return;
    }
    desk.looked(Area::Links);
    let there = declared.iter().filter(|node| desk.facts(**node).is_some()).count();
    let gone: Vec<NodeId> =
        declared.iter().copied().filter(|node| desk.facts(*node).is_none()).collect();
    let (level, found) = if there * 2 <= declared.len() {
        (
            Level::Stop,
            format!("only {there} of {} that could lead are there: no majority", declared.len()),
        )
    } else if there.is_multiple_of(2) && !gone.is_empty() {
        (
            Level::Warn,
            format!(
                "without {}, {there} remain that could lead: an even number",
                desk.names(&gone)
            ),
        )
    } else if there.is_multiple_of(2) {
        (Level::Note, format!("{there} nodes could lead: an even number"))
    } else {
        return;
    };
    desk.find(
        Finding::new(&VOTERS, level, declared, found).needs("an odd number, and more than half"),
    );
}
