//! The pattern that several links make together: circles, relays that starve what is behind them, slots that nobody
//! reads, and who leads.

use super::{CheckContext, Finding, ResolvedInflow, Severity, declared_as};
use crate::fault::ReadFault;
use crate::history::journal::is_journal_slot;
use crate::observe::node::{ReplicationKind, Slot};
use crate::preflight::legend::{
    Area, LEADER_ELSEWHERE, LINK_LOOP, LOG_HELD_BACK, RELAY_STARVED, SLOT_UNREAD, VOTERS,
};
use crate::setup::{Reach, SetupChange, Subject};
use crate::topology::{Address, Engine, NodeId};
use crate::units::size;

/// Circles in which every link passes on what its source was sent.
pub(super) fn loops(checks: &mut CheckContext<'_>, known: &[ResolvedInflow<'_>]) {
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
        let mut names: Vec<&str> = circle.iter().map(|node| checks.name(*node)).collect();
        names.push(names[0]);
        let links: Vec<(NodeId, NodeId)> =
            (0..circle.len()).map(|i| (circle[i], circle[(i + 1) % circle.len()])).collect();
        let mut finding = Finding::new(
            &LINK_LOOP,
            Severity::Stop,
            circle.clone(),
            format!("changes go round: {}", names.join(" -> ")),
        )
        .needs("links that carry only their source's own writes, and one from every writer to every node")
        .on_links(links.clone());
        // Over more than two nodes each one's writes reach some of the others by way of the rest only.
        if circle.len() > 2 {
            checks.find(finding.advise(
                None,
                "first link every node with every other, then set origin = none on all of these subscriptions: if it is set at once, each node no longer gets the writes of nodes further round the circle",
            ));
            continue;
        }
        for (from, to) in links {
            let name = edges.iter().find(|(f, t, _)| (*f, *t) == (from, to)).map_or("", |e| e.2);
            let major = checks.facts(to).map_or(0, |facts| facts.major);
            finding = if major >= 16 {
                let subject = Subject::LinkOrigin { link: name.to_owned() };
                let change = SetupChange::to(subject, "none");
                finding.want(to, Engine::Postgres, Reach::Kept, change)
            } else {
                finding.advise(Some(to), format!("PostgreSQL {major} cannot tell where a change came from: drop subscription {name}, or upgrade both servers to 16 or newer"))
            };
        }
        checks.find(finding);
    }
}

/// Links that leave out what their source was sent, though somebody further down needs it.
pub(super) fn starved(checks: &mut CheckContext<'_>, known: &[ResolvedInflow<'_>]) {
    for link in known.iter().filter(|k| k.link.own_writes_only) {
        let Some(from) = link.from else { continue };
        let topology = checks.topology;
        let direct = checks.sources(link.to);
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
            "{} receives only {}'s own writes: nothing that {} sends to {} arrives there",
            checks.name(link.to),
            checks.name(from),
            checks.names(&behind),
            checks.name(from)
        );
        let subject = Subject::LinkOrigin { link: link.link.name.clone() };
        let change = SetupChange::to(subject, "any");
        let finding = Finding::new(&RELAY_STARVED, Severity::Stop, [from, link.to], found)
            .on_links(vec![(from, link.to)]);
        checks.find(if link.link.means != ReplicationKind::Subscription {
            finding
        } else if checks.sends_to(link.to, from) {
            finding.advise(
                Some(link.to),
                "link it with each of them directly: if this link carried their writes, it would also bring its own writes back",
            )
        } else {
            finding
                .want(link.to, Engine::Postgres, Reach::Kept, change)
                .advise(None, "what did not arrive until then stays missing: keen audit shows it")
        });
    }
}

pub(super) fn slots(checks: &mut CheckContext<'_>, known: &[ResolvedInflow<'_>]) {
    for (node, facts) in checks.nodes() {
        let Some(slots) = checks.seen(Area::Links, node, "its slots", &facts.slots) else {
            continue;
        };
        for slot in slots {
            let ours = match &checks.topology.nodes[node].at {
                Address::Server(server) => Some(&server.database),
                Address::Sqlite(_) => None,
            };
            // Who reads a slot of another database is for whoever looks after that to know.
            if slot.database.is_some() && slot.database.as_ref() != ours {
                continue;
            }
            checks.looked(Area::Links);
            let reader = known.iter().find(|k| {
                k.from == Some(node) && k.link.source.slot.as_deref() == Some(&slot.name)
            });
            let lost = slot.log.as_deref().filter(|log| matches!(*log, "unreserved" | "lost"));
            let is_ours = is_journal_slot(&slot.name);
            // Of a slot that nobody reads the other finding says how much it holds back.
            if (slot.active || reader.is_some() || is_ours)
                && lost != Some("lost")
                && holding_back(checks, node, slot)
                && (is_ours || lost.is_none())
            {
                continue;
            }
            if slot.active || (reader.is_some() && lost.is_none()) {
                continue;
            }
            let hidden: Vec<NodeId> = checks
                .receivers(node)
                .into_iter()
                .filter(|receiver| checks.facts(*receiver).is_none())
                .collect();
            if reader.is_none() && lost.is_none() && !is_ours && !hidden.is_empty() {
                let what = format!("who reads slot {}", slot.name);
                let reason =
                    format!("it may be {}, which could not be read", checks.names(&hidden));
                checks.could_not_look(Area::Links, node, &what, &ReadFault::not_told(reason));
                continue;
            }
            let held = slot
                .held_back
                .filter(|_| lost != Some("lost"))
                .map(|bytes| format!(", holding back {}", size(bytes.max(0).unsigned_abs())))
                .unwrap_or_default();
            let (level, found) = match (lost, reader) {
                (Some(log), Some(reader)) => (
                    Severity::Stop,
                    format!(
                        "the log that slot {} keeps for {} is {log}",
                        slot.name,
                        checks.name(reader.to)
                    ),
                ),
                (Some(log), None) => (
                    Severity::Warn,
                    format!("slot {}, which nobody reads, has {log} log", slot.name),
                ),
                (None, _) if is_journal_slot(&slot.name) => (
                    Severity::Note,
                    format!(
                        "slot {}, through which keen reads what was written, is there{held}",
                        slot.name
                    ),
                ),
                (None, _) => (Severity::Warn, format!("nobody reads slot {}{held}", slot.name)),
            };
            let name = slot.name.replace('\'', "''");
            checks.find(Finding::new(&SLOT_UNREAD, level, [node], found).advise(
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
fn holding_back(checks: &mut CheckContext<'_>, node: NodeId, slot: &Slot) -> bool {
    let held = slot.held_back.and_then(|bytes| u64::try_from(bytes).ok());
    let Some(held) = held else { return false };
    let limit = checks.topology.limits.held_back;
    let room = slot.room.map(|bytes| bytes.max(0).unsigned_abs());
    let short = room.is_some_and(|room| held > room);
    if held < limit && !short {
        return false;
    }
    let at_most = room.map(|room| {
        format!(
            "; after {} more the server invalidates it, and its reader must be copied again",
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
    let finding = Finding::new(&LOG_HELD_BACK, Severity::Warn, [node], found).needs(needed);
    checks.find(match is_journal_slot(&slot.name) {
        true => finding.advise(
            Some(node),
            "once keen conflicts has read it, keen conflicts --ddl prints the statement that releases the log",
        ),
        false => finding.advise(Some(node), "keen flow says whether its reader advances, and what holds it up"),
    });
    true
}

/// Whether a subscription fetches through the slot through which the node's source in the file fetches, too: a
/// standby that is promoted has the subscriptions of its primary.
fn inherited(
    checks: &CheckContext<'_>,
    known: &[ResolvedInflow<'_>],
    of: &ResolvedInflow<'_>,
) -> bool {
    let sources = checks.sources(of.to);
    let same = |other: &&ResolvedInflow<'_>| {
        sources.contains(&other.to)
            && other.from == of.from
            && other.link.means == ReplicationKind::Subscription
            && (&other.link.name, &other.link.source.slot) == (&of.link.name, &of.link.source.slot)
    };
    of.from.is_some() && of.link.source.slot.is_some() && known.iter().any(|other| same(&other))
}

/// Who leads, where one leads and the others stand by.
pub(super) fn leader(checks: &mut CheckContext<'_>, known: &[ResolvedInflow<'_>]) {
    written_standby(checks, known);
    promoted_subscriber(checks, known);
    if checks.nodes().iter().any(|(_, facts)| facts.standby) {
        let members = promoted_followers(checks);
        voters(checks, &members);
    }
}

/// Standbys that the file says applications write to.
fn written_standby(checks: &mut CheckContext<'_>, known: &[ResolvedInflow<'_>]) {
    let topology = checks.topology;
    for (node, facts) in checks.nodes() {
        if topology.nodes[node].writes && facts.standby {
            let leads =
                known.iter().find(|k| k.to == node && k.link.means == ReplicationKind::Streaming);
            let leads = leads.and_then(|k| k.from).map(|n| format!(": {} leads", checks.name(n)));
            let found = format!(
                "the file says that applications write to {}, but it is a standby{}",
                checks.name(node),
                leads.unwrap_or_default()
            );
            checks.find(Finding::new(&LEADER_ELSEWHERE, Severity::Stop, [node], found).advise(
                None,
                "if the lead was handed over, correct the file; if not, hand it back by the usual procedure for these servers. Two servers that both accept writes diverge at once: promote nothing while the other may still be running",
            ));
        }
    }
}

/// Nodes that go on with the subscriptions of the primary that they stood by.
fn promoted_subscriber(checks: &mut CheckContext<'_>, known: &[ResolvedInflow<'_>]) {
    for (node, facts) in checks.nodes() {
        let of_node =
            |k: &&ResolvedInflow<'_>| k.to == node && k.link.means == ReplicationKind::Subscription;
        let inherits =
            !facts.standby && known.iter().filter(of_node).any(|k| inherited(checks, known, k));
        if inherits {
            let found = format!(
                "{} receives through the slots of {}, which it follows by the file, and accepts writes of its own, like a promoted standby",
                checks.name(node),
                checks.names(&checks.sources(node))
            );
            checks.find(Finding::new(&LEADER_ELSEWHERE, Severity::Stop, [node], found).advise(
                Some(node),
                "if it leads now, stop the other first and correct the file; if not, disable its subscriptions (they consume what the other should get) and rebuild it as a standby",
            ));
        }
    }
}

/// Finds nodes that take writes though the file has them follow a log. Answers who could take over from the leader:
/// those who exchange nothing but its log.
fn promoted_followers(checks: &mut CheckContext<'_>) -> Vec<NodeId> {
    let topology = checks.topology;
    let mut members: Vec<NodeId> = Vec::new();
    for (node, _) in checks.nodes().into_iter().filter(|(_, facts)| facts.standby) {
        members.push(node);
        members.extend(checks.sources(node));
    }
    for (node, facts) in checks.nodes() {
        let follows = checks.sources(node).iter().any(|source| members.contains(source));
        if follows
            && !facts.standby
            && !topology.nodes[node].writes
            && facts.incoming.as_ref().is_ok_and(|incoming| {
                incoming.iter().all(|l| l.means == ReplicationKind::Streaming)
            })
        {
            members.push(node);
            let found = format!(
                "{} accepts writes of its own, but by the file it follows {}: it was promoted, or never was a standby",
                checks.name(node),
                checks.names(&checks.sources(node))
            );
            checks.find(Finding::new(&LEADER_ELSEWHERE, Severity::Stop, [node], found));
        }
    }
    members
}

/// Whether enough of those that could lead are there for a majority, and whether they are an odd number.
fn voters(checks: &mut CheckContext<'_>, members: &[NodeId]) {
    let mut declared: Vec<NodeId> = members
        .iter()
        .flat_map(|n| {
            let mut all = checks.receivers(*n);
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
    checks.looked(Area::Links);
    let there = declared.iter().filter(|node| checks.facts(**node).is_some()).count();
    let gone: Vec<NodeId> =
        declared.iter().copied().filter(|node| checks.facts(*node).is_none()).collect();
    let (level, found) = if there * 2 <= declared.len() {
        (
            Severity::Stop,
            format!(
                "only {there} of the {} nodes that could lead answer: no majority",
                declared.len()
            ),
        )
    } else if there.is_multiple_of(2) && !gone.is_empty() {
        (
            Severity::Warn,
            format!(
                "without {}, {there} nodes remain that could lead: an even number",
                checks.names(&gone)
            ),
        )
    } else if there.is_multiple_of(2) {
        (Severity::Note, format!("{there} nodes could lead: an even number"))
    } else {
        return;
    };
    checks.find(
        Finding::new(&VOTERS, level, declared, found).needs("an odd number, and more than half"),
    );
}
