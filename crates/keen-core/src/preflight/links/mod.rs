//! Links: what the file declares against what the nodes know of.
//!
//! Here each known link is put to its source and held against the file; [`carried`] looks at what
//! travels over it, [`routes`] at what several links make together.

mod carried;
mod routes;

use crate::fault::ReadFault;
use std::collections::BTreeMap;

use super::legend::{
    Area, DELAY_DIFFERS, LINK_ABSENT, LINK_DOWN, LINK_ONE_WAY, LINK_STRAY, SOURCE_UNREACHED,
};
use super::{Finding, Reaches, Severity};
use crate::links::state::stopped_at_a_row;
use crate::observe::node::{Incoming, ReplicationKind, WorkerState};
use crate::observe::source::{self, SourceHints};
use crate::preflight::CheckContext;
use crate::setup::spell::printed;
use crate::setup::{ON, Reach, SetupChange, Subject};
use crate::topology::{Address, Engine, Link, NodeId, Topology};

/// A link that a node knows of, and where it comes from.
pub(crate) struct ResolvedInflow<'a> {
    to: NodeId,
    from: Option<NodeId>,
    link: &'a Incoming,
}

pub(super) fn examine(checks: &mut CheckContext<'_>) {
    let mut known = Vec::new();
    for (node, facts) in checks.nodes() {
        let what = "what brings changes to it";
        if let Some(incoming) = checks.seen(Area::Links, node, what, &facts.incoming) {
            for link in incoming {
                let from = source_of(checks, node, link);
                known.push(ResolvedInflow { to: node, from, link });
            }
        }
    }
    declared(checks, &known);
    for link in &known {
        running(checks, link);
        undeclared(checks, link);
        carried::carried(checks, link);
        delayed(checks, link);
    }
    routes::loops(checks, &known);
    routes::starved(checks, &known);
    routes::slots(checks, &known);
    routes::leader(checks, &known);
}

/// The node of the topology that a link comes from.
pub(super) fn source_of(checks: &CheckContext<'_>, to: NodeId, link: &Incoming) -> Option<NodeId> {
    let published: BTreeMap<NodeId, Vec<String>> = checks
        .nodes()
        .into_iter()
        .filter_map(|(node, facts)| {
            let publications = facts.publications.as_ref().ok()?;
            Some((node, publications.iter().map(|p| p.name.clone()).collect()))
        })
        .collect();
    source::source_of(checks.topology, to, link, &|node| {
        let facts = checks.facts(node)?;
        Some(SourceHints {
            server_id: facts.identity.ids.get("server_id").map(String::as_str),
            slots: facts.slots.as_deref().unwrap_or_default(),
            publications: published.get(&node).map(Vec::as_slice),
        })
    })
}

/// The links that nodes know of, as (receiver, its account of it, where it comes from).
pub(crate) fn known<'a>(checks: &CheckContext<'a>) -> Vec<(NodeId, &'a Incoming, Option<NodeId>)> {
    let mut found = Vec::new();
    for (to, facts) in checks.nodes() {
        for link in facts.incoming.iter().flatten() {
            found.push((to, link, source_of(checks, to, link)));
        }
    }
    found
}

/// Whether the state of links that lead to a node can be seen at all.
fn tells(checks: &CheckContext<'_>, node: NodeId) -> bool {
    checks.facts(node).is_some_and(|facts| facts.incoming.is_ok())
}

fn declared(checks: &mut CheckContext<'_>, known: &[ResolvedInflow<'_>]) {
    let topology = checks.topology;
    let mut pairs: Vec<(NodeId, NodeId)> = topology.links.iter().map(|l| (l.from, l.to)).collect();
    pairs.dedup();
    let is_known =
        |from: NodeId, to: NodeId| known.iter().any(|k| k.to == to && k.from == Some(from));
    for (from, to) in pairs {
        if !tells(checks, to) {
            continue; // that it cannot be seen is said already
        }
        checks.looked(Area::Links);
        if is_known(from, to) {
            continue;
        }
        if topology.nodes[from].at.engine() != topology.nodes[to].at.engine() {
            // Something beside the servers carries it, and leaves no account in them.
            let what = format!("the link from {}", checks.name(from));
            let reason =
                "servers of different kinds know nothing of what carries rows between them";
            checks.could_not_look(Area::Links, to, &what, &ReadFault::not_told(reason));
            continue;
        }
        let in_a_cluster = |node: &NodeId| {
            let settings = checks.facts(*node).and_then(|facts| facts.settings.as_ref().ok());
            settings.and_then(|s| s.get("wsrep_on")).is_some_and(|on| on.eq_ignore_ascii_case("on"))
        };
        if let Some(member) = [from, to].into_iter().find(in_a_cluster) {
            let what = format!("the link from {}", checks.name(from));
            let reason = format!(
                "{} is a member of a synchronous cluster, which keen does not check yet",
                checks.name(member)
            );
            checks.could_not_look(Area::Links, to, &what, &ReadFault::not_told(reason));
            continue;
        }
        let unplaced = known.iter().find(|k| k.to == to && k.from.is_none());
        if let (None, Some(unplaced)) = (checks.facts(from), unplaced) {
            // Whose slot it reads only the source could tell.
            let what = format!("the link from {}", checks.name(from));
            let reason = format!(
                "{} {} may be it, but {} could not be read",
                unplaced.link.means.words(),
                unplaced.link.name,
                checks.name(from)
            );
            checks.could_not_look(Area::Links, to, &what, &ReadFault::not_told(reason));
            continue;
        }
        let back = topology.links.iter().any(|l| l.from == to && l.to == from);
        let one_way = back && is_known(to, from);
        let (source, receiver) = (checks.name(from), checks.name(to));
        let (check, found) = if one_way {
            (
                &LINK_ONE_WAY,
                format!("{source} receives from {receiver}, but not the other way round"),
            )
        } else {
            (&LINK_ABSENT, format!("{receiver} knows of no link from {source}"))
        };
        let mut finding = Finding::new(check, Severity::Stop, [from, to], found)
            .on_links(vec![(from, to)])
            .advise(Some(to), how_to_link(checks, from, to));
        let is_server = matches!(topology.nodes[from].at, Address::Server(_));
        if is_server && !checks.facts(to).is_some_and(|facts| facts.standby) {
            finding = finding.advise(
                None,
                format!("keen plan --link {source}:{receiver} plans the link and the copy, and keen mend makes them"),
            );
        }
        if let Some(unplaced) = unplaced {
            finding = finding.will(format!(
                "unless it is {} {} there, whose source is unknown",
                unplaced.link.means.words(),
                unplaced.link.name
            ));
        }
        checks.find(finding);
    }
}

fn how_to_link(checks: &CheckContext<'_>, from: NodeId, to: NodeId) -> String {
    let (source, receiver) = (&checks.topology.nodes[from], &checks.topology.nodes[to]);
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
            if checks.facts(to).is_some_and(|facts| facts.standby) =>
        {
            format!(
                "a standby follows one server only, and cannot subscribe: to make it the standby of {2}, set primary_conninfo to host={0} port={1}; if it should not be, correct the file",
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

fn running(checks: &mut CheckContext<'_>, known: &ResolvedInflow<'_>) {
    let ResolvedInflow { to, from, link } = known;
    let reaches = match link.receiving {
        WorkerState::Runs => Reaches::Yes,
        WorkerState::Tries => Reaches::No,
        WorkerState::Stopped => Reaches::Stopped,
        WorkerState::Untold => Reaches::Untold,
    };
    if let Some(from) = from {
        let best = checks.report.reaches.entry((*to, *from)).or_insert(reaches);
        if reaches == Reaches::Yes {
            *best = reaches;
        }
    }
    checks.looked(Area::Links);
    let links: Vec<_> = from.iter().map(|from| (*from, *to)).collect();
    let nodes: Vec<NodeId> = from.iter().copied().chain([*to]).collect();
    let (means, name, receiver) = (link.means.words(), &link.name, checks.name(*to));
    let source = from.map_or_else(|| "its source".to_owned(), |from| checks.name(from).to_owned());
    let said = link.error.as_ref().map(|error| format!(": {error}")).unwrap_or_default();
    // A subscription tells no more than that its applier is gone again and again. If it has failed and
    // its source is there, it is the rows that it stumbles over.
    let failures = link.failures.unwrap_or(0);
    let there = from.is_some_and(|from| checks.facts(from).is_some());
    if link.means == ReplicationKind::Subscription
        && link.receiving == WorkerState::Tries
        && there
        && failures > 0
    {
        if let Some(from) = from {
            checks.report.reaches.insert((*to, *from), Reaches::Untold);
        }
        let found = format!(
            "{means} {name} on {receiver}, from {source}, keeps stopping on an error ({failures} times so far)"
        );
        checks.find(
            Finding::new(&LINK_DOWN, Severity::Stop, nodes, found)
                .on_links(links)
                .advise(Some(*to), "the server's log has the error and the row it stopped at"),
        );
        return;
    }
    if link.receiving == WorkerState::Tries {
        // A standby that is turned away by its source looks the same as one that does not get there.
        let (does_not, advice) = match link.means {
            ReplicationKind::Streaming if there => (
                "does not reach, or is refused by,",
                "its server's log says why: the path to the source, its account there, or log that the source has removed already",
            ),
            _ => (
                "does not reach",
                "try the source's address from that machine with the replication account",
            ),
        };
        let found = format!("{receiver} {does_not} {source} ({means} {name}){said}");
        checks.find(
            Finding::new(&SOURCE_UNREACHED, Severity::Stop, nodes, found)
                .on_links(links)
                .advise(Some(*to), advice),
        );
        return;
    }
    let stopped = match (link.receiving, link.applying) {
        (WorkerState::Stopped, WorkerState::Stopped) => "is stopped",
        (WorkerState::Stopped, _) => "does not fetch",
        (_, WorkerState::Stopped) => "receives but does not apply",
        (_, WorkerState::Tries) => "keeps stopping on an error",
        _ => return,
    };
    let found = format!("{means} {name} on {receiver}, from {source}, {stopped}{said}");
    let at_tables = checks.report.findings.iter().any(|finding| {
        let mended = finding.wants.iter().any(|wanted| wanted.node == *to);
        finding.check.area == Area::Shape
            && mended
            && finding.links.iter().any(|l| links.contains(l))
    });
    let finding = Finding::new(&LINK_DOWN, Severity::Stop, nodes, found).on_links(links);
    checks.find(match link.means {
        // Started without more it would only stop at the same row again.
        ReplicationKind::BinaryLog if link.error.is_some() && link.applying == WorkerState::Stopped => {
            let code = link.error_number;
            let start = link.starting().join("; ");
            let finding = finding.advise(Some(*to), stopped_at_a_row(code, receiver, &start));
            match code {
                // Once the tables are as they should be it goes on; before that it stops there again, and no worse.
                Some(code) if OF_TABLES.contains(&code) => finding.want_quietly(*to, switch_on(link)),
                _ => finding,
            }
        }
        // Once its tables are as they should be it goes on; before that it stops there again, and no worse.
        ReplicationKind::Subscription if link.error.is_some() && at_tables => {
            let change = switch_on(link);
            let enable = printed(Engine::Postgres, &change).unwrap_or_default().join("; ");
            finding
                .advise(
                    Some(*to),
                    format!("once what is found of its tables is mended, {enable}; if it stops there again, keen plan shows the row"),
                )
                .want_quietly(*to, change)
        }
        ReplicationKind::Subscription if link.error.is_some() => finding.advise(
            Some(*to),
            "keen plan shows the row and what makes way for the waiting write, if it can read the source's journal; if not, read the message in its server's log. If it is just enabled, it stops there again; skipping the transaction loses everything in it",
        ),
        ReplicationKind::BinaryLog => {
            let finding = link.starting().into_iter().fold(finding, |f, start| f.run(*to, start));
            finding.want_quietly(*to, switch_on(link))
        }
        ReplicationKind::Subscription => {
            finding.want(*to, Engine::Postgres, Reach::Kept, switch_on(link))
        }
        ReplicationKind::Pglogical | ReplicationKind::Streaming | ReplicationKind::StandIn => finding,
    });
}

/// MariaDB's errors at a table that is missing or lacks a column, or whose columns do not take what comes.
const OF_TABLES: [u64; 5] = [1054, 1146, 1406, 1535, 1677];

fn switch_on(link: &Incoming) -> SetupChange {
    SetupChange::to(Subject::LinkSwitch { link: link.name.clone() }, ON)
}

fn undeclared(checks: &mut CheckContext<'_>, known: &ResolvedInflow<'_>) {
    let declared = known.from.is_some_and(|from| {
        checks.topology.links.iter().any(|l| l.from == from && l.to == known.to)
    });
    if declared {
        return;
    }
    let ResolvedInflow { to, from, link } = known;
    // A source that could not be looked at may be the one: said where the link that it would be is missed.
    let hidden = |l: &Link| l.to == *to && checks.facts(l.from).is_none();
    if from.is_none() && checks.topology.links.iter().any(hidden) {
        return;
    }
    let missed = |l: &Link| l.to == *to && !checks.report.reaches.contains_key(&(*to, l.from));
    let unplaced = checks.topology.links.iter().any(missed);
    let address = link.source.address.as_ref().map(|(host, port)| format!("{host}:{port}"));
    let means = link.means.words();
    let found = match (from, address) {
        (Some(from), _) => format!(
            "{} receives from {} over {means} {}, but the file declares no such link",
            checks.name(*to),
            checks.name(*from),
            link.name
        ),
        (None, Some(address)) => format!(
            "{} receives from {address} over {means} {}, but no node in the file has that address",
            checks.name(*to),
            link.name
        ),
        (None, None) => format!(
            "{} receives over {means} {}, whose source is unknown",
            checks.name(*to),
            link.name
        ),
    };
    let nodes: Vec<NodeId> = from.iter().copied().chain([*to]).collect();
    let level = if from.is_none() && unplaced { Severity::Note } else { Severity::Warn };
    checks.find(Finding::new(&LINK_STRAY, level, nodes, found));
}

/// The declared links that a known one stands for.
fn declared_as<'a>(
    topology: &'a Topology,
    known: &ResolvedInflow<'_>,
) -> impl Iterator<Item = &'a Link> {
    let (from, to) = (known.from, known.to);
    topology.links.iter().filter(move |link| Some(link.from) == from && link.to == to)
}

fn delayed(checks: &mut CheckContext<'_>, known: &ResolvedInflow<'_>) {
    if known.link.means == ReplicationKind::StandIn {
        return; // the file is where the stand-in has its delays from
    }
    let topology = checks.topology;
    let Some(wanted) = declared_as(topology, known).map(|link| link.delay).max() else { return };
    checks.looked(Area::Links);
    let (wanted, found) = (wanted.unwrap_or_default(), known.link.delay.unwrap_or_default());
    if wanted == found {
        return;
    }
    let from = known.from.unwrap_or(known.to);
    let said = |delay: std::time::Duration| {
        if delay.is_zero() { "without a delay".to_owned() } else { format!("late by {delay:?}") }
    };
    let finding = Finding::new(
        &DELAY_DIFFERS,
        Severity::Warn,
        [from, known.to],
        format!(
            "the link from {} to {} is {}",
            checks.name(from),
            checks.name(known.to),
            said(found)
        ),
    )
    .on_links(vec![(from, known.to)])
    .needs(said(wanted));
    let (name, seconds) = (known.link.name.clone(), wanted.as_secs());
    checks.find(match known.link.means {
        ReplicationKind::BinaryLog => {
            let subject = Subject::LinkDelay { link: name.clone() };
            let mut change = SetupChange::to(subject, &seconds.to_string());
            change.pauses = vec![name];
            finding.want(known.to, Engine::MariaDb, Reach::Kept, change)
        }
        ReplicationKind::Streaming => {
            let setting = "recovery_min_apply_delay".to_owned();
            let subject = Subject::KeptSetting { name: setting, reload: true };
            let change = SetupChange::to(subject, &format!("{seconds}s"));
            finding.want(known.to, Engine::Postgres, Reach::Kept, change)
        }
        ReplicationKind::Subscription | ReplicationKind::Pglogical | ReplicationKind::StandIn => finding.advise(
            Some(known.to),
            "a subscription cannot be delayed: remove delay from the file, or make it a standby",
        ),
    });
}
