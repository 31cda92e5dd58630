//! Settings of MariaDB servers (and others that speak its protocol).

use std::collections::BTreeMap;

use crate::observe::filter::{domain_left_out, left_out};
use crate::observe::node::{Incoming, NodeFacts, ReplicationKind, WorkerState, skip_nothing};
use crate::preflight::legend::{
    Area, CARRIED_OTHERWISE, Check, DUPLICATES, ERRORS_SKIPPED, EVENTS_RUN, LOG_FORMAT, LOG_IMAGES,
    LOG_KEPT, LOG_METADATA, LOG_OFF, LOSSY_CONVERSION, MODES_DIFFER, NOT_READ_ONLY,
    RECEIVED_NOT_LOGGED, REFERENCES_OFF, SILENCE_NOTICED_LATE, TABLE_NOT_CARRIED, TEXTS_DIFFER,
    WRITER_CLOSED, ZONES_DIFFER,
};
use crate::preflight::{CheckContext, Finding, Severity};
use crate::setup::{Reach, SetupChange, Subject};
use crate::topology::{Address, ColumnChoice, Engine, NodeId};

/// A server that keeps its log for less than this has none left after a weekend's outage.
const LOG_KEPT_AT_LEAST: f64 = 86_400.0;
/// A receiver that waits for longer before it asks whether its source is still there.
const SILENCE_AT_MOST: u64 = 30;

/// A value that a setting has to have, and how bad it is if it has not.
struct SettingRule<'a> {
    check: &'static Check,
    level: Severity,
    setting: &'a str,
    wanted: &'a str,
    /// It cannot be changed while the server runs.
    restart: bool,
    effect: &'a str,
}

pub(crate) fn examine(checks: &mut CheckContext<'_>, node: NodeId, facts: &NodeFacts) {
    let Some(settings) = checks.seen(Area::Settings, node, "its settings", &facts.settings) else {
        return;
    };
    let (sources, receivers) = (checks.sources(node), checks.receivers(node));
    // Whoever it sends to that is not its own source gets what it was sent only from its log.
    let passes_on = sources.iter().any(|source| receivers.iter().any(|to| to != source));
    let by_several_paths = sources.len() > 1;
    if !receivers.is_empty() {
        log(checks, node, settings);
    }
    if !sources.is_empty() && (!receivers.is_empty() || checks.topology.nodes[node].writes) {
        let (level, effect) = if passes_on && !by_several_paths {
            (Severity::Stop, "received changes go no further")
        } else {
            (Severity::Warn, "its journal does not show what it applied")
        };
        let rule = SettingRule {
            check: &RECEIVED_NOT_LOGGED,
            level,
            setting: "log_slave_updates",
            wanted: "ON",
            restart: true,
            effect,
        };
        require(checks, node, settings, &rule);
    }
    if by_several_paths && is(settings, "log_slave_updates", "ON") {
        let rule = SettingRule {
            check: &DUPLICATES,
            level: Severity::Stop,
            setting: "gtid_ignore_duplicates",
            wanted: "ON",
            restart: false,
            effect: "it will stop on a duplicate key that is not real",
        };
        require(checks, node, settings, &rule);
    }
    if !sources.is_empty() {
        receiving(checks, node, settings);
    }
    plain_rules(checks, node, settings, !sources.is_empty());
    if !checks.topology.nodes[node].writes {
        checks.looked(Area::Settings);
        if !facts.standby && !is(settings, "read_only", "ON") {
            checks.find(
                Finding::new(
                    &NOT_READ_ONLY,
                    Severity::Warn,
                    [node],
                    "read_only is OFF, but the topology says that no application writes here",
                )
                .needs("read_only = ON")
                .want(
                    node,
                    Engine::MariaDb,
                    Reach::UntilRestart,
                    set("read_only", "ON"),
                ),
            );
        }
    }
}

/// Rules for any server that takes part.
fn plain_rules(
    checks: &mut CheckContext<'_>,
    node: NodeId,
    settings: &BTreeMap<String, String>,
    receives: bool,
) {
    checks.looked(Area::Settings);
    if checks.topology.nodes[node].writes && is(settings, "read_only", "ON") {
        checks.find(
            Finding::new(
                &WRITER_CLOSED,
                Severity::Stop,
                [node],
                "read_only is ON, but the topology says that applications write here",
            )
            .needs("read_only = OFF, or writes = false in the file")
            .advise(
                Some(node),
                "find out who set it, and why: a node that is behind, or was a copy, must not be opened to writes",
            ),
        );
    }
    if is(settings, "foreign_key_checks", "OFF") {
        checks.find(
            Finding::new(
                &REFERENCES_OFF,
                Severity::Warn,
                [node],
                "foreign_key_checks is OFF for all sessions: rows without parents are accepted",
            )
            .needs("foreign_key_checks = ON")
            .want(node, Engine::MariaDb, Reach::UntilRestart, set("foreign_key_checks", "ON"))
            .advise(Some(node), "connected sessions keep the old value until they reconnect"),
        );
    }
    let conversions = settings.get("slave_type_conversions").filter(|_| receives);
    if let Some(conversions) =
        conversions.filter(|v| v.to_ascii_uppercase().split(',').any(|v| v == "ALL_LOSSY"))
    {
        checks.find(
            Finding::new(
                &LOSSY_CONVERSION,
                Severity::Warn,
                [node],
                format!("slave_type_conversions is {conversions}: values that do not fit are truncated"),
            )
            .needs("no ALL_LOSSY in slave_type_conversions")
            .advise(
                Some(node),
                "make the columns the same first (keen preflight --shape): a link that truncated values stops once it may not",
            ),
        );
    }
}

/// Nodes that exchange changes and run events, each of which writes on every one of them.
fn events(checks: &mut CheckContext<'_>) {
    let mut running: Vec<(NodeId, u64)> = Vec::new();
    for (node, facts) in checks.nodes() {
        let Ok(settings) = &facts.settings else { continue };
        let count = settings.get("enabled_events").and_then(|v| v.parse::<u64>().ok()).unwrap_or(0);
        if facts.engine == Engine::MariaDb && count > 0 && is(settings, "event_scheduler", "ON") {
            running.push((node, count));
        }
    }
    let Some((first, _)) = running.first().copied() else { return };
    let group = checks.group(first);
    running.retain(|(node, _)| group.contains(node));
    checks.looked(Area::Settings);
    if running.len() > 1 {
        let nodes: Vec<NodeId> = running.iter().map(|(node, _)| *node).collect();
        let found =
            format!("event_scheduler is ON with enabled events on {}", checks.names(&nodes));
        checks.find(
            Finding::new(&EVENTS_RUN, Severity::Warn, nodes, found)
                .needs("events on one of them")
                .advise(None, "on all but one: SET GLOBAL event_scheduler = OFF, and the same in its settings file; ALTER EVENT itself replicates, and would end them on the last one, too"),
        );
    }
}

fn log(checks: &mut CheckContext<'_>, node: NodeId, settings: &BTreeMap<String, String>) {
    let rule = |check, level, setting, wanted, restart, effect| SettingRule {
        check,
        level,
        setting,
        wanted,
        restart,
        effect,
    };
    let on = rule(&LOG_OFF, Severity::Stop, "log_bin", "ON", true, "nothing it writes leaves it");
    if !require(checks, node, settings, &on) {
        return; // the others say how something is done that is not done at all
    }
    let statements = is(settings, "binlog_format", "STATEMENT");
    let level = if statements { Severity::Stop } else { Severity::Warn };
    let effect = if statements {
        "statements run again on other servers, and rows diverge"
    } else {
        "some changes travel as statements"
    };
    for rule in [
        rule(&LOG_FORMAT, level, "binlog_format", "ROW", false, effect),
        rule(
            &LOG_IMAGES,
            Severity::Warn,
            "binlog_row_image",
            "FULL",
            false,
            "what a change replaced is only partly known",
        ),
        rule(
            &LOG_METADATA,
            Severity::Warn,
            "binlog_row_metadata",
            "FULL",
            false,
            "columns of logged rows have no names",
        ),
    ] {
        require(checks, node, settings, &rule);
    }
    checks.looked(Area::Settings);
    let seconds = settings.get("binlog_expire_logs_seconds").and_then(|v| v.parse::<f64>().ok());
    let days = settings.get("expire_logs_days").and_then(|v| v.parse::<f64>().ok());
    let kept =
        seconds.filter(|s| *s > 0.0).or(days.filter(|d| *d > 0.0).map(|days| days * 86_400.0));
    if let Some(kept) = kept.filter(|kept| *kept < LOG_KEPT_AT_LEAST) {
        checks.find(
            Finding::new(
                &LOG_KEPT,
                Severity::Warn,
                [node],
                format!("the binary log is thrown away after {:.1} hours", kept / 3600.0),
            )
            .needs("at least a day")
            .want(
                node,
                Engine::MariaDb,
                Reach::UntilRestart,
                set("binlog_expire_logs_seconds", "864000"),
            ),
        );
    }
}

fn receiving(checks: &mut CheckContext<'_>, node: NodeId, settings: &BTreeMap<String, String>) {
    for (setting, wanted, value) in [
        ("slave_exec_mode", "STRICT", settings.get("slave_exec_mode")),
        ("slave_skip_errors", "OFF", settings.get("slave_skip_errors")),
    ] {
        checks.looked(Area::Settings);
        if let Some(value) = value.filter(|v| !v.eq_ignore_ascii_case(wanted) && !v.is_empty()) {
            let finding = Finding::new(
                &ERRORS_SKIPPED,
                Severity::Warn,
                [node],
                format!("{setting} is {value}: rows that are missing or already there are skipped"),
            )
            .needs(format!("{setting} = {wanted}"));
            checks.find(if setting == "slave_exec_mode" {
                finding.want(node, Engine::MariaDb, Reach::UntilRestart, set(setting, wanted))
            } else {
                finding.advise(
                    Some(node),
                    "remove slave_skip_errors from its configuration file, and restart it",
                )
            });
        }
    }
    checks.looked(Area::Settings);
    let late = settings.get("slave_net_timeout").and_then(|v| v.parse::<u64>().ok());
    if let Some(late) = late.filter(|late| *late > SILENCE_AT_MOST) {
        checks.find(
            Finding::new(
                &SILENCE_NOTICED_LATE,
                Severity::Note,
                [node],
                format!("a source that goes silent is noticed only after {late} s"),
            )
            .needs(format!("slave_net_timeout of at most {SILENCE_AT_MOST}"))
            .want(node, Engine::MariaDb, Reach::UntilRestart, set("slave_net_timeout", "10"))
            .advise(Some(node), "links that run keep the old value until they are started again"),
        );
    }
}

fn is(settings: &BTreeMap<String, String>, setting: &str, wanted: &str) -> bool {
    settings.get(setting).is_some_and(|value| same(value, wanted))
}

fn same(value: &str, wanted: &str) -> bool {
    let spelled = match value {
        "1" => "ON",
        "0" => "OFF",
        other => other,
    };
    spelled.eq_ignore_ascii_case(wanted)
}

/// Whether it is as it has to be. A server that does not know the setting does not need it.
fn require(
    checks: &mut CheckContext<'_>,
    node: NodeId,
    settings: &BTreeMap<String, String>,
    rule: &SettingRule<'_>,
) -> bool {
    let SettingRule { check, level, setting, wanted, restart, effect } = rule;
    let Some(value) = settings.get(*setting) else { return true };
    checks.looked(Area::Settings);
    if same(value, wanted) {
        return true;
    }
    let value = match &value[..] {
        "1" => "ON",
        "0" => "OFF",
        other => other,
    };
    let finding = Finding::new(check, *level, [node], format!("{setting} is {value}: {effect}"))
        .needs(format!("{setting} = {wanted}"));
    let mut change = set(setting, wanted);
    if *setting == "gtid_ignore_duplicates" {
        // It is refused while a connection runs.
        change.pauses = running(checks, node);
    }
    let reach = if *restart { Reach::ByHand } else { Reach::UntilRestart };
    checks.find(finding.want(node, Engine::MariaDb, reach, change));
    false
}

/// A setting of the running server, set to a value.
fn set(setting: &str, value: &str) -> SetupChange {
    SetupChange::to(Subject::Setting { name: setting.to_owned() }, value)
}

/// The connections of a server that are not switched off.
fn running(checks: &CheckContext<'_>, node: NodeId) -> Vec<String> {
    let links = checks.facts(node).and_then(|facts| facts.incoming.as_ref().ok());
    let links = links.into_iter().flatten().filter(|link| link.means == ReplicationKind::BinaryLog);
    links
        .filter(|link| {
            (link.receiving, link.applying) != (WorkerState::Stopped, WorkerState::Stopped)
        })
        .map(|link| link.name.clone())
        .collect()
}

/// Rules that hold among servers that exchange changes.
pub(crate) fn together(checks: &mut CheckContext<'_>) {
    alike(checks, Engine::MariaDb, "character_set_database", &TEXTS_DIFFER);
    alike(checks, Engine::MariaDb, "zone", &ZONES_DIFFER);
    alike(checks, Engine::MariaDb, "sql_mode", &MODES_DIFFER);
    events(checks);
}

/// Whether two values of a setting mean the same: some zones have several names.
fn is_same(setting: &str, one: &str, other: &str) -> bool {
    const UTC: [&str; 8] = ["utc", "etc/utc", "+00:00", "gmt", "etc/gmt", "uct", "etc/uct", "zulu"];
    let is_utc = |value: &str| UTC.contains(&&value.to_ascii_lowercase()[..]);
    let zone = matches!(setting, "zone" | "TimeZone");
    one.eq_ignore_ascii_case(other) || (zone && is_utc(one) && is_utc(other))
}

/// Finds linked servers of one engine that have a setting otherwise.
pub(crate) fn alike(
    checks: &mut CheckContext<'_>,
    engine: Engine,
    setting: &str,
    check: &'static Check,
) {
    let mut values: Vec<(String, Vec<NodeId>)> = Vec::new();
    for (node, facts) in checks.nodes().into_iter().filter(|(_, facts)| facts.engine == engine) {
        let Ok(settings) = &facts.settings else { continue };
        let Some(value) = settings.get(setting) else { continue };
        checks.looked(Area::Settings);
        match values.iter_mut().find(|(known, _)| is_same(setting, known, value)) {
            Some((_, nodes)) => nodes.push(node),
            None => values.push((value.clone(), vec![node])),
        }
    }
    let linked = |checks: &CheckContext<'_>| {
        let group = values.first().and_then(|(_, n)| n.first()).map(|n| checks.group(*n));
        group.is_some_and(|group| values.iter().flat_map(|(_, n)| n).all(|n| group.contains(n)))
    };
    if values.len() > 1 && linked(checks) {
        let who: Vec<String> = values
            .iter()
            .map(|(value, nodes)| {
                let value = if value.is_empty() { "empty" } else { value };
                format!("{value} on {}", checks.names(nodes))
            })
            .collect();
        let nodes: Vec<NodeId> = values.iter().flat_map(|(_, nodes)| nodes.clone()).collect();
        let shown = if setting == "zone" { "the time zone" } else { setting };
        let found = format!("{shown} is {}", who.join(", "));
        checks.find(
            Finding::new(check, Severity::Warn, nodes, found).needs("the same on all of them"),
        );
    }
}

/// The load of a connection against the sets: it carries all rows and columns of every table that its filters let
/// through.
pub(crate) fn carried(
    checks: &mut CheckContext<'_>,
    to: NodeId,
    from: NodeId,
    beside: &[&Incoming],
) {
    let topology = checks.topology;
    let Address::Server(server) = &topology.nodes[from].at else { return };
    let pair = (from, to);
    domains(checks, pair, beside);
    let mut partly: Vec<&str> = Vec::new();
    for link in topology.links.iter().filter(|link| (link.from, link.to) == pair) {
        for set in link.carries.iter().map(|set| &topology.sets[*set]) {
            if set.filter.is_some() || set.columns != ColumnChoice::All {
                partly.push(&set.name);
            }
            for table in &set.tables {
                checks.looked(Area::Links);
                let named = topology.nodes[from].name_of(table);
                let (database, name) = named.split_once('.').unwrap_or((&server.database, named));
                let against = |link: &&Incoming| left_out(&link.filters, database, name);
                let reasons: Vec<String> = beside.iter().filter_map(against).collect();
                if reasons.len() < beside.len() || reasons.is_empty() {
                    continue;
                }
                let connection = beside.first().map_or("", |link| &link.name);
                checks.find(
                    Finding::new(
                        &TABLE_NOT_CARRIED,
                        Severity::Stop,
                        [from, to],
                        format!("{} leaves {database}.{name} out: {}", topology.nodes[to].name, reasons.join(", ")),
                    )
                    .of_table(table)
                    .on_links(vec![pair])
                    .advise(Some(to), format!("STOP SLAVE '{connection}', take {table} out of that filter, {}, START SLAVE '{connection}'; then audit it", skip_nothing(connection))),
                );
            }
        }
    }
    partly.sort_unstable();
    partly.dedup();
    if !partly.is_empty() {
        let found = format!(
            "a MariaDB connection carries whole tables, but set {} has a filter or leaves columns out",
            partly.join(", ")
        );
        checks.find(
            Finding::new(&CARRIED_OTHERWISE, Severity::Warn, [from, to], found)
                .on_links(vec![pair])
                .will(format!("{} holds more than the file says", topology.nodes[to].name)),
        );
    }
}

/// Whether what a source writes is left out by its domain.
fn domains(checks: &mut CheckContext<'_>, (from, to): (NodeId, NodeId), beside: &[&Incoming]) {
    let settings = checks.facts(from).map(|facts| &facts.settings);
    let Some(Ok(settings)) = settings else { return };
    let Some(domain) = settings.get("gtid_domain_id").cloned() else { return };
    checks.looked(Area::Links);
    let against = |link: &&Incoming| domain_left_out(&link.filters, &domain);
    let reasons: Vec<String> = beside.iter().filter_map(against).collect();
    if reasons.len() < beside.len() || reasons.is_empty() {
        return;
    }
    let connection = beside.first().map_or("", |link| &link.name);
    checks.find(
        Finding::new(
            &TABLE_NOT_CARRIED,
            Severity::Stop,
            [from, to],
            format!(
                "{} leaves out all that {} writes, which is in domain {domain}: {}",
                checks.name(to),
                checks.name(from),
                reasons.join(", ")
            ),
        )
        .on_links(vec![(from, to)])
        .advise(
            Some(to),
            format!("what was skipped does not come again: audit, then STOP SLAVE '{connection}', CHANGE MASTER '{connection}' TO IGNORE_DOMAIN_IDS = (...) or DO_DOMAIN_IDS = (...) as it should be, {}, START SLAVE '{connection}'", skip_nothing(connection)),
        ),
    );
}
