//! Settings of PostgreSQL servers.

use std::collections::BTreeMap;

use super::mariadb::alike;
use crate::engine::dialect::quoted;
use crate::observe::node::{NodeFacts, ReplicationKind};
use crate::preflight::legend::{
    Area, COMMIT_TIMES, LOG_KEPT, LOG_LEVEL, NOT_READ_ONLY, ROOM_FOR_LINKS, SLOT_TIMES_OUT,
    TEXTS_DIFFER, ZONES_DIFFER,
};
use crate::preflight::{CheckContext, Finding, Level};
use crate::topology::{Address, Engine, NodeId, Rule};

pub(crate) fn examine(desk: &mut CheckContext<'_>, node: NodeId, facts: &NodeFacts) {
    let Some(settings) = desk.seen(Area::Settings, node, "its settings", &facts.settings) else {
        return;
    };
    let of_engine = |nodes: Vec<NodeId>| -> Vec<NodeId> {
        nodes
            .into_iter()
            .filter(|n| desk.topology.nodes[*n].at.engine() == Engine::Postgres)
            .collect()
    };
    let (receivers, sources) = (of_engine(desk.receivers(node)), of_engine(desk.sources(node)));
    let (mut standbys, mut subscribers) = (Vec::new(), Vec::new());
    for receiver in receivers {
        let standby = desk.facts(receiver).is_some_and(|facts| facts.standby);
        if standby { &mut standbys } else { &mut subscribers }.push(receiver);
    }
    if !facts.standby {
        sending(desk, node, settings, standbys.len(), subscribers.len());
        receiving(desk, node, facts, settings, sources.len());
    }
    writers(desk, node, facts, settings);
}

fn number(settings: &BTreeMap<String, String>, name: &str) -> Option<i64> {
    settings.get(name)?.parse().ok()
}

fn set(finding: Finding, node: NodeId, setting: &str, value: &str) -> Finding {
    finding
        .needs(format!("{setting} = {value}"))
        .run(node, format!("ALTER SYSTEM SET {setting} = {value}"))
        .advise(Some(node), "then restart it")
}

fn sending(
    desk: &mut CheckContext<'_>,
    node: NodeId,
    settings: &BTreeMap<String, String>,
    standbys: usize,
    subscribers: usize,
) {
    if standbys + subscribers == 0 {
        return;
    }
    let level = settings.get("wal_level").map(String::as_str);
    desk.looked(Area::Settings);
    let wanted = if subscribers > 0 { "logical" } else { "replica" };
    if level.is_some_and(|level| level == "minimal" || (subscribers > 0 && level != "logical")) {
        let found = format!(
            "wal_level is {}: the log does not hold what {} to be sent",
            level.unwrap_or_default(),
            if subscribers > 0 { "subscribers need" } else { "standbys need" }
        );
        desk.find(set(
            Finding::new(&LOG_LEVEL, Level::Stop, [node], found),
            node,
            "wal_level",
            wanted,
        ));
    }
    // Each subscriber has a slot and a sender; a first copy takes one more of each for a while.
    let needs = i64::try_from(standbys + subscribers).unwrap_or(i64::MAX);
    for (setting, needed) in [
        ("max_wal_senders", needs),
        ("max_replication_slots", i64::try_from(subscribers).unwrap_or(i64::MAX)),
    ] {
        room(desk, node, settings, setting, needed, "links lead away from it");
    }
    timing_out(desk, node, settings);
    desk.looked(Area::Settings);
    // In megabytes; -1 means for as long as a slot needs it.
    if let Some(kept) =
        number(settings, "max_slot_wal_keep_size").filter(|kept| (0..1024).contains(kept))
    {
        desk.find(
            Finding::new(
                &LOG_KEPT,
                Level::Warn,
                [node],
                format!("log that a slot needs is thrown away beyond {kept} MB"),
            )
            .needs("max_slot_wal_keep_size = -1, or several times what is written during an outage")
            .run(node, "ALTER SYSTEM SET max_slot_wal_keep_size = '20GB'")
            .run(node, "SELECT pg_reload_conf()"),
        );
    }
}

/// Slots that the server itself gives up.
fn timing_out(desk: &mut CheckContext<'_>, node: NodeId, settings: &BTreeMap<String, String>) {
    // In seconds; 0 means never.
    let Some(idle) = number(settings, "idle_replication_slot_timeout") else { return };
    desk.looked(Area::Settings);
    if idle > 0 {
        desk.find(
            Finding::new(
                &SLOT_TIMES_OUT,
                Level::Warn,
                [node],
                format!("a slot that nobody reads for {idle} s is given up by the server"),
            )
            .needs("idle_replication_slot_timeout = 0, or more than your longest outage")
            .run(node, "ALTER SYSTEM SET idle_replication_slot_timeout = 0")
            .run(node, "SELECT pg_reload_conf()"),
        );
    }
}

fn receiving(
    desk: &mut CheckContext<'_>,
    node: NodeId,
    facts: &NodeFacts,
    settings: &BTreeMap<String, String>,
    sources: usize,
) {
    if sources == 0 {
        return;
    }
    let there = facts.incoming.as_ref().map_or(0, |incoming| {
        incoming.iter().filter(|link| link.means == ReplicationKind::Subscription).count()
    });
    let needed = i64::try_from(sources.max(there)).unwrap_or(i64::MAX);
    let what = "links lead to it";
    room(desk, node, settings, "max_logical_replication_workers", needed, what);
    // The launcher takes one beside the appliers.
    room(desk, node, settings, "max_worker_processes", needed + 1, what);
    let origins =
        if facts.major >= 18 { "max_active_replication_origins" } else { "max_replication_slots" };
    room(desk, node, settings, origins, needed, what);
}

fn room(
    desk: &mut CheckContext<'_>,
    node: NodeId,
    settings: &BTreeMap<String, String>,
    setting: &str,
    needed: i64,
    what: &str,
) {
    desk.looked(Area::Settings);
    if let Some(found) = number(settings, setting).filter(|found| *found < needed) {
        let enough = needed + 2;
        let found = format!("{setting} is {found}, and {needed} are needed: {what}");
        let finding = Finding::new(&ROOM_FOR_LINKS, Level::Stop, [node], found);
        desk.find(set(finding, node, setting, &enough.to_string()));
    }
}

fn writers(
    desk: &mut CheckContext<'_>,
    node: NodeId,
    facts: &NodeFacts,
    settings: &BTreeMap<String, String>,
) {
    let topology = desk.topology;
    let writers = desk.group(node).into_iter().filter(|n| topology.nodes[*n].writes).count();
    let sources = desk.sources(node);
    if topology.nodes[node].writes && writers > 1 && !sources.is_empty() {
        desk.looked(Area::Settings);
        if settings.get("track_commit_timestamp").is_some_and(|v| v == "off") {
            let latest = topology.authority.default == Rule::Latest
                || topology.authority.tables.values().any(|rule| *rule == Rule::Latest);
            let found = if latest {
                "track_commit_timestamp is off, and the topology says that the latest write is right"
            } else {
                "track_commit_timestamp is off, and several nodes are written to"
            };
            let finding = Finding::new(&COMMIT_TIMES, Level::Warn, [node], found);
            desk.find(set(finding, node, "track_commit_timestamp", "on"));
        }
    }
    if !topology.nodes[node].writes && !facts.standby && !sources.is_empty() {
        desk.looked(Area::Settings);
        if settings.get("default_transaction_read_only").is_some_and(|v| v == "off") {
            let database = match &topology.nodes[node].at {
                Address::Server(server) => quoted(Engine::Postgres, &server.database),
                Address::Sqlite(_) => return,
            };
            // Nothing in PostgreSQL closes a subscriber to everyone but its own appliers.
            desk.find(
                Finding::new(
                    &NOT_READ_ONLY,
                    Level::Note,
                    [node],
                    "default_transaction_read_only is off, and the topology says that no application writes here",
                )
                .needs("default_transaction_read_only = on, and no right to write for applications")
                // For this database alone: others of the server may be written to.
                .run(node, format!("ALTER DATABASE {database} SET default_transaction_read_only = on"))
                .advise(Some(node), "sessions that are connected go on as before until they connect anew"),
            );
        }
    }
}

/// What has to be alike on servers that exchange changes.
pub(crate) fn together(desk: &mut CheckContext<'_>) {
    alike(desk, Engine::Postgres, "server_encoding", &TEXTS_DIFFER);
    alike(desk, Engine::Postgres, "TimeZone", &ZONES_DIFFER);
}
