//! Links: what the file declares against what the nodes know of.
//!
//! Here each known link is put to its source and held against the file; [`carried`] looks at what
//! travels over it, [`routes`] at what several links make together.

mod carried;
mod routes;

use std::collections::BTreeMap;

use super::legend::{
    Area, DELAY_DIFFERS, LINK_ABSENT, LINK_DOWN, LINK_ONE_WAY, LINK_STRAY, SOURCE_UNREACHED,
};
use super::{Finding, Level, Reaches};
use crate::links::state::stopped_at_a_row;
use crate::observe::node::{Incoming, ReplicationKind, WorkerState, skip_nothing};
use crate::observe::source::{self, Told};
use crate::preflight::CheckContext;
use crate::topology::{Address, Link, NodeId, Topology};

/// A link that a node knows of, and where it comes from.
pub(crate) struct Known<'a> {
    to: NodeId,
    from: Option<NodeId>,
    link: &'a Incoming,
}

pub(super) fn examine(desk: &mut CheckContext<'_>) {
    let mut known = Vec::new();
    for (node, facts) in desk.nodes() {
        let what = "what brings changes to it";
        if let Some(incoming) = desk.seen(Area::Links, node, what, &facts.incoming) {
            for link in incoming {
                let from = source_of(desk, node, link);
                known.push(Known { to: node, from, link });
            }
        }
    }
    declared(desk, &known);
    for link in &known {
        running(desk, link);
        undeclared(desk, link);
        carried::carried(desk, link);
        delayed(desk, link);
    }
    routes::loops(desk, &known);
    routes::starved(desk, &known);
    routes::slots(desk, &known);
    routes::leader(desk, &known);
}

/// The node of the topology that a link comes from.
pub(super) fn source_of(desk: &CheckContext<'_>, to: NodeId, link: &Incoming) -> Option<NodeId> {
    let published: BTreeMap<NodeId, Vec<String>> = desk
        .nodes()
        .into_iter()
        .filter_map(|(node, facts)| {
            let publications = facts.publications.as_ref().ok()?;
            Some((node, publications.iter().map(|p| p.name.clone()).collect()))
        })
        .collect();
    source::source_of(desk.topology, to, link, &|node| {
        let facts = desk.facts(node)?;
        Some(Told {
            server_id: facts.identity.ids.get("server_id").map(String::as_str),
            slots: facts.slots.as_deref().unwrap_or_default(),
            publications: published.get(&node).map(Vec::as_slice),
        })
    })
}

/// What nodes know of that brings changes, as (receiver, what it knows of, where that comes from).
pub(crate) fn known<'a>(desk: &CheckContext<'a>) -> Vec<(NodeId, &'a Incoming, Option<NodeId>)> {
    let mut found = Vec::new();
    for (to, facts) in desk.nodes() {
        for link in facts.incoming.iter().flatten() {
            found.push((to, link, source_of(desk, to, link)));
        }
    }
    found
}

/// Whether the state of links that lead to a node can be seen at all.
fn tells(desk: &CheckContext<'_>, node: NodeId) -> bool {
    desk.facts(node).is_some_and(|facts| facts.incoming.is_ok())
}

fn declared(desk: &mut CheckContext<'_>, known: &[Known<'_>]) {
    let topology = desk.topology;
    let mut pairs: Vec<(NodeId, NodeId)> = topology.links.iter().map(|l| (l.from, l.to)).collect();
    pairs.dedup();
    let is_known =
        |from: NodeId, to: NodeId| known.iter().any(|k| k.to == to && k.from == Some(from));
    for (from, to) in pairs {
        if !tells(desk, to) {
            continue; // that it cannot be seen is said already
        }
        desk.looked(Area::Links);
        if is_known(from, to) {
            continue;
        }
        if topology.nodes[from].at.engine() != topology.nodes[to].at.engine() {
            // Something beside the servers carries it, and leaves no account in them.
            let what = format!("the link from {}", desk.name(from));
            let reason =
                "nothing in servers of unlike kinds tells of what carries rows between them";
            desk.could_not_look(Area::Links, to, &what, reason);
            continue;
        }
        let in_a_cluster = |node: &NodeId| {
            let settings = desk.facts(*node).and_then(|facts| facts.settings.as_ref().ok());
            settings.and_then(|s| s.get("wsrep_on")).is_some_and(|on| on.eq_ignore_ascii_case("on"))
        };
        if let Some(member) = [from, to].into_iter().find(in_a_cluster) {
            let what = format!("the link from {}", desk.name(from));
            let reason = format!(
                "{} is a member of a synchronous cluster: not judged yet",
                desk.name(member)
            );
            desk.could_not_look(Area::Links, to, &what, &reason);
            continue;
        }
        let unplaced = known.iter().find(|k| k.to == to && k.from.is_none());
        if let (None, Some(unplaced)) = (desk.facts(from), unplaced) {
            // Whose slot it reads only the source could tell.
            let what = format!("the link from {}", desk.name(from));
            let reason = format!(
                "{} {} may be it, and {} could not be looked at",
                unplaced.link.means.words(),
                unplaced.link.name,
                desk.name(from)
            );
            desk.could_not_look(Area::Links, to, &what, &reason);
            continue;
        }
        let back = topology.links.iter().any(|l| l.from == to && l.to == from);
        let one_way = back && is_known(to, from);
        let (source, receiver) = (desk.name(from), desk.name(to));
        let (check, found) = if one_way {
            (
                &LINK_ONE_WAY,
                format!("{source} receives from {receiver}, and {receiver} does not from {source}"),
            )
        } else {
            (&LINK_ABSENT, format!("{receiver} knows of no link from {source}"))
        };
        let mut finding = Finding::new(check, Level::Stop, [from, to], found)
            .on_links(vec![(from, to)])
            .advise(Some(to), how_to_link(desk, from, to));
        if let Some(unplaced) = unplaced {
            finding = finding.will(format!(
                "unless {} {} there, whose source could not be told, is it",
                unplaced.link.means.words(),
                unplaced.link.name
            ));
        }
        desk.find(finding);
    }
}

fn how_to_link(desk: &CheckContext<'_>, from: NodeId, to: NodeId) -> String {
    let (source, receiver) = (&desk.topology.nodes[from], &desk.topology.nodes[to]);
    let Address::Server(server) = &source.at else {
        return "start what carries rows between these files".to_owned();
    };
    match (source.at.engine(), receiver.at.engine()) {
        (crate::topology::Engine::MariaDb, crate::topology::Engine::MariaDb) => format!(
            "after copying the tables: CHANGE MASTER '{}' TO MASTER_HOST = '{}', MASTER_PORT = {}, MASTER_USE_GTID = slave_pos, \
             MASTER_USER = ..., MASTER_PASSWORD = ...; START SLAVE '{}'",
            source.name, server.host, server.port, source.name
        ),
        (crate::topology::Engine::Postgres, crate::topology::Engine::Postgres)
            if desk.facts(to).is_some_and(|facts| facts.standby) =>
        {
            format!(
                "a standby follows one server alone, and cannot subscribe: set primary_conninfo to host={} port={} if it is to be the standby of {}, else correct the file",
                server.host, server.port, source.name
            )
        }
        (crate::topology::Engine::Postgres, crate::topology::Engine::Postgres) => format!(
            "keen preflight --join {} --from {} says how to copy the tables and set it up",
            receiver.name, source.name
        ),
        _ => "set up what carries rows between these two engines".to_owned(),
    }
}

fn running(desk: &mut CheckContext<'_>, known: &Known<'_>) {
    let Known { to, from, link } = known;
    let reaches = match link.receiving {
        WorkerState::Runs => Reaches::Yes,
        WorkerState::Tries => Reaches::No,
        WorkerState::Stopped => Reaches::Stopped,
        WorkerState::Untold => Reaches::Untold,
    };
    if let Some(from) = from {
        let best = desk.report.reaches.entry((*to, *from)).or_insert(reaches);
        if reaches == Reaches::Yes {
            *best = reaches;
        }
    }
    desk.looked(Area::Links);
    let links: Vec<_> = from.iter().map(|from| (*from, *to)).collect();
    let nodes: Vec<NodeId> = from.iter().copied().chain([*to]).collect();
    let (means, name, receiver) = (link.means.words(), &link.name, desk.name(*to));
    let source = from.map_or_else(|| "its source".to_owned(), |from| desk.name(from).to_owned());
    let said = link.error.as_ref().map(|error| format!(": {error}")).unwrap_or_default();
    // A subscription tells no more than that its applier is gone again and again. If it has failed and
    // its source is there, it is the rows that it stumbles over.
    let failures = link.failures.unwrap_or(0);
    let there = from.is_some_and(|from| desk.facts(from).is_some());
    if link.means == ReplicationKind::Subscription
        && link.receiving == WorkerState::Tries
        && there
        && failures > 0
    {
        if let Some(from) = from {
            desk.report.reaches.insert((*to, *from), Reaches::Untold);
        }
        let found = format!(
            "{means} {name} on {receiver}, from {source}, stops at an error again and again ({failures} times so far)"
        );
        desk.find(
            Finding::new(&LINK_DOWN, Level::Stop, nodes, found)
                .on_links(links)
                .advise(Some(*to), "the server's log has the error and the row it stopped at"),
        );
        return;
    }
    if link.receiving == WorkerState::Tries {
        let found = format!("{receiver} does not reach {source} ({means} {name}){said}");
        desk.find(
            Finding::new(&SOURCE_UNREACHED, Level::Stop, nodes, found).on_links(links).advise(
                Some(*to),
                "try the source's address from that machine with the account that replicates",
            ),
        );
        return;
    }
    let stopped = match (link.receiving, link.applying) {
        (WorkerState::Stopped, WorkerState::Stopped) => "is stopped",
        (WorkerState::Stopped, _) => "does not fetch",
        (_, WorkerState::Stopped) => "fetches and does not apply",
        (_, WorkerState::Tries) => "stops at an error again and again",
        _ => return,
    };
    let found = format!("{means} {name} on {receiver}, from {source}, {stopped}{said}");
    let finding = Finding::new(&LINK_DOWN, Level::Stop, nodes, found).on_links(links);
    desk.find(match link.means {
        // Started without more it would only stop at the same row again.
        ReplicationKind::BinaryLog if link.error.is_some() && link.applying == WorkerState::Stopped => {
            let code = link.error.as_deref().and_then(error_number);
            let start = link.starting().join("; ");
            finding.advise(Some(*to), stopped_at_a_row(code, receiver, &start))
        }
        ReplicationKind::Subscription if link.error.is_some() => finding.advise(
            Some(*to),
            "keen plan shows the row and what makes way for the waiting write, where it can read the source's journal; else read the message in its server's log. Enabled without more it stops there again; skipping the transaction loses all that it holds",
        ),
        ReplicationKind::BinaryLog => link.starting().into_iter().fold(finding, |f, start| f.run(*to, start)),
        ReplicationKind::Subscription => {
            finding.run(*to, format!("ALTER SUBSCRIPTION \"{}\" ENABLE", name.replace('"', "\"\"")))
        }
        ReplicationKind::Pglogical | ReplicationKind::Streaming | ReplicationKind::StandIn => finding,
    });
}

/// The number that the server's own message has: "... Error_code: 1062; ..." or "Duplicate entry".
fn error_number(message: &str) -> Option<u64> {
    let (_, rest) = message.split_once("Error_code: ")?;
    rest.chars().take_while(char::is_ascii_digit).collect::<String>().parse().ok()
}

fn undeclared(desk: &mut CheckContext<'_>, known: &Known<'_>) {
    let declared = known
        .from
        .is_some_and(|from| desk.topology.links.iter().any(|l| l.from == from && l.to == known.to));
    if declared {
        return;
    }
    let Known { to, from, link } = known;
    // A source that could not be looked at may be the one: said where the link that it would be is missed.
    let hidden = |l: &Link| l.to == *to && desk.facts(l.from).is_none();
    if from.is_none() && desk.topology.links.iter().any(hidden) {
        return;
    }
    let missed = |l: &Link| l.to == *to && !desk.report.reaches.contains_key(&(*to, l.from));
    let unplaced = desk.topology.links.iter().any(missed);
    let address = link.source.address.as_ref().map(|(host, port)| format!("{host}:{port}"));
    let means = link.means.words();
    let found = match (from, address) {
        (Some(from), _) => format!(
            "{} receives from {} over {means} {}, and the file declares no such link",
            desk.name(*to),
            desk.name(*from),
            link.name
        ),
        (None, Some(address)) => format!(
            "{} receives from {address} over {means} {}, and no node of the file is there",
            desk.name(*to),
            link.name
        ),
        (None, None) => format!(
            "{} receives over {means} {}, and where from cannot be told",
            desk.name(*to),
            link.name
        ),
    };
    let nodes: Vec<NodeId> = from.iter().copied().chain([*to]).collect();
    let level = if from.is_none() && unplaced { Level::Note } else { Level::Warn };
    desk.find(Finding::new(&LINK_STRAY, level, nodes, found));
}

/// The declared links that a known one stands for.
fn declared_as<'a>(topology: &'a Topology, known: &Known<'_>) -> impl Iterator<Item = &'a Link> {
    let (from, to) = (known.from, known.to);
    topology.links.iter().filter(move |link| Some(link.from) == from && link.to == to)
}

fn delayed(desk: &mut CheckContext<'_>, known: &Known<'_>) {
    if known.link.means == ReplicationKind::StandIn {
        return; // the file is where the stand-in has its delays from
    }
    let topology = desk.topology;
    let Some(wanted) = declared_as(topology, known).map(|link| link.delay).max() else { return };
    desk.looked(Area::Links);
    let (wanted, found) = (wanted.unwrap_or_default(), known.link.delay.unwrap_or_default());
    if wanted == found {
        return;
    }
    let from = known.from.unwrap_or(known.to);
    let said = |delay: std::time::Duration| {
        if delay.is_zero() {
            "not late on purpose".to_owned()
        } else {
            format!("late by {delay:?}")
        }
    };
    let finding = Finding::new(
        &DELAY_DIFFERS,
        Level::Warn,
        [from, known.to],
        format!("the link from {} to {} is {}", desk.name(from), desk.name(known.to), said(found)),
    )
    .on_links(vec![(from, known.to)])
    .needs(said(wanted));
    let (name, seconds) = (known.link.name.replace('\'', "''"), wanted.as_secs());
    desk.find(match known.link.means {
        ReplicationKind::BinaryLog => finding
            .run(known.to, format!("STOP SLAVE '{name}'"))
            .run(known.to, format!("CHANGE MASTER '{name}' TO MASTER_DELAY = {seconds}"))
            .run(known.to, skip_nothing(&known.link.name))
            .run(known.to, format!("START SLAVE '{name}'")),
        ReplicationKind::Streaming => finding
            .run(known.to, format!("ALTER SYSTEM SET recovery_min_apply_delay = '{seconds}s'"))
            .run(known.to, "SELECT pg_reload_conf()"),
        ReplicationKind::Subscription | ReplicationKind::Pglogical | ReplicationKind::StandIn => finding.advise(
            Some(known.to),
            "a subscription cannot be late on purpose: take delay out of the file, or make it a standby",
        ),
    });
}
