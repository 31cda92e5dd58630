//! Settings of PostgreSQL servers.

use std::collections::BTreeMap;

use super::mariadb::alike;
use crate::observe::node::{NodeFacts, ReplicationKind};
use crate::preflight::legend::{
    Area, COMMIT_TIMES, LOG_KEPT, LOG_LEVEL, NOT_READ_ONLY, ROOM_FOR_LINKS, SLOT_TIMES_OUT,
    TEXTS_DIFFER, ZONES_DIFFER,
};
use crate::preflight::{CheckContext, Finding, Severity};
use crate::setup::{Reach, SetupChange, Subject};
use crate::topology::{Address, AuthorityRule, Engine, NodeId};

pub(crate) fn examine(checks: &mut CheckContext<'_>, node: NodeId, facts: &NodeFacts) {
    let Some(settings) = checks.seen(Area::Settings, node, "its settings", &facts.settings) else {
        return;
    };
    let of_engine = |nodes: Vec<NodeId>| -> Vec<NodeId> {
        nodes
            .into_iter()
            .filter(|n| checks.topology.nodes[*n].at.engine() == Engine::Postgres)
            .collect()
    };
    let (receivers, sources) = (of_engine(checks.receivers(node)), of_engine(checks.sources(node)));
    let (mut standbys, mut subscribers) = (Vec::new(), Vec::new());
    for receiver in receivers {
        let standby = checks.facts(receiver).is_some_and(|facts| facts.standby);
        if standby { &mut standbys } else { &mut subscribers }.push(receiver);
    }
    if !facts.standby {
        sending(checks, node, settings, standbys.len(), subscribers.len());
        receiving(checks, node, facts, settings, sources.len());
    }
    writers(checks, node, facts, settings);
}

fn number(settings: &BTreeMap<String, String>, name: &str) -> Option<i64> {
    settings.get(name)?.parse().ok()
}

/// From the next restart on.
fn set(finding: Finding, node: NodeId, setting: &str, value: &str) -> Finding {
    finding.needs(format!("{setting} = {value}")).want(
        node,
        Engine::Postgres,
        Reach::AfterRestart,
        kept_as(setting, false, value),
    )
}

fn kept_as(setting: &str, reload: bool, value: &str) -> SetupChange {
    let name = setting.to_owned();
    SetupChange::to(Subject::KeptSetting { name, reload }, value)
}

fn sending(
    checks: &mut CheckContext<'_>,
    node: NodeId,
    settings: &BTreeMap<String, String>,
    standbys: usize,
    subscribers: usize,
) {
    if standbys + subscribers == 0 {
        return;
    }
    let level = settings.get("wal_level").map(String::as_str);
    checks.looked(Area::Settings);
    let wanted = if subscribers > 0 { "logical" } else { "replica" };
    if level.is_some_and(|level| level == "minimal" || (subscribers > 0 && level != "logical")) {
        let found = format!(
            "wal_level is {}: the log does not hold what {} to be sent",
            level.unwrap_or_default(),
            if subscribers > 0 { "subscribers need" } else { "standbys need" }
        );
        checks.find(set(
            Finding::new(&LOG_LEVEL, Severity::Stop, [node], found),
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
        room(checks, node, settings, setting, needed, "links lead away from it");
    }
    timing_out(checks, node, settings);
    checks.looked(Area::Settings);
    // In megabytes; -1 means for as long as a slot needs it.
    if let Some(kept) =
        number(settings, "max_slot_wal_keep_size").filter(|kept| (0..1024).contains(kept))
    {
        checks.find(
            Finding::new(
                &LOG_KEPT,
                Severity::Warn,
                [node],
                format!("log that a slot needs is discarded beyond {kept} MB"),
            )
            .needs("max_slot_wal_keep_size = -1, or several times the log written during an outage")
            .want(
                node,
                Engine::Postgres,
                Reach::Kept,
                kept_as("max_slot_wal_keep_size", true, "20GB"),
            ),
        );
    }
}

/// Slots that the server itself gives up.
fn timing_out(checks: &mut CheckContext<'_>, node: NodeId, settings: &BTreeMap<String, String>) {
    // In seconds; 0 means never.
    let Some(idle) = number(settings, "idle_replication_slot_timeout") else { return };
    checks.looked(Area::Settings);
    if idle > 0 {
        checks.find(
            Finding::new(
                &SLOT_TIMES_OUT,
                Severity::Warn,
                [node],
                format!("the server invalidates a slot that nobody reads for {idle} s"),
            )
            .needs("idle_replication_slot_timeout = 0, or more than your longest outage")
            .want(
                node,
                Engine::Postgres,
                Reach::Kept,
                kept_as("idle_replication_slot_timeout", true, "0"),
            ),
        );
    }
}

fn receiving(
    checks: &mut CheckContext<'_>,
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
    room(checks, node, settings, "max_logical_replication_workers", needed, what);
    // The launcher takes one beside the appliers.
    room(checks, node, settings, "max_worker_processes", needed + 1, what);
    let origins =
        if facts.major >= 18 { "max_active_replication_origins" } else { "max_replication_slots" };
    room(checks, node, settings, origins, needed, what);
}

fn room(
    checks: &mut CheckContext<'_>,
    node: NodeId,
    settings: &BTreeMap<String, String>,
    setting: &str,
    needed: i64,
    what: &str,
) {
    checks.looked(Area::Settings);
    if let Some(found) = number(settings, setting).filter(|found| *found < needed) {
        let enough = needed + 2;
        let found = format!("{setting} is {found}, and {needed} are needed: {what}");
        let finding = Finding::new(&ROOM_FOR_LINKS, Severity::Stop, [node], found);
        checks.find(set(finding, node, setting, &enough.to_string()));
    }
}

fn writers(
    checks: &mut CheckContext<'_>,
    node: NodeId,
    facts: &NodeFacts,
    settings: &BTreeMap<String, String>,
) {
    let topology = checks.topology;
    let writers = checks.group(node).into_iter().filter(|n| topology.nodes[*n].writes).count();
    let sources = checks.sources(node);
    if topology.nodes[node].writes && writers > 1 && !sources.is_empty() {
        checks.looked(Area::Settings);
        if settings.get("track_commit_timestamp").is_some_and(|v| v == "off") {
            let latest = topology.authority.default == AuthorityRule::Latest
                || topology.authority.tables.values().any(|rule| *rule == AuthorityRule::Latest);
            let found = if latest {
                "track_commit_timestamp is off, but the topology says that the latest write is right"
            } else {
                "track_commit_timestamp is off, and several nodes are written to"
            };
            let finding = Finding::new(&COMMIT_TIMES, Severity::Warn, [node], found);
            checks.find(set(finding, node, "track_commit_timestamp", "on"));
        }
    }
    if !topology.nodes[node].writes && !facts.standby && !sources.is_empty() {
        checks.looked(Area::Settings);
        if settings.get("default_transaction_read_only").is_some_and(|v| v == "off") {
            let database = match &topology.nodes[node].at {
                Address::Server(server) => server.database.clone(),
                Address::Sqlite(_) => return,
            };
            // Nothing in PostgreSQL closes a subscriber to everyone but its own appliers.
            checks.find(
                Finding::new(
                    &NOT_READ_ONLY,
                    Severity::Note,
                    [node],
                    "default_transaction_read_only is off, but the topology says that no application writes here",
                )
                .needs("default_transaction_read_only = on, and no write privileges for applications")
                // For this database alone: others of the server may be written to.
                .want(node, Engine::Postgres, Reach::Kept, SetupChange::to(Subject::DatabaseSetting { database, name: "default_transaction_read_only".to_owned() }, "on"))
                .advise(Some(node), "connected sessions keep the old value until they reconnect"),
            );
        }
    }
}

/// Rules that hold among servers that exchange changes.
pub(crate) fn together(checks: &mut CheckContext<'_>) {
    alike(checks, Engine::Postgres, "server_encoding", &TEXTS_DIFFER);
    alike(checks, Engine::Postgres, "TimeZone", &ZONES_DIFFER);
}
