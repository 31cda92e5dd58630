//! Telling nodes apart.

use super::legend::{Area, PORT_CLAIMED, SAME_DATABASE, SAME_DOMAIN, SAME_SERVER_ID, SLOT_SHARED};
use super::{Finding, Severity};
use crate::observe::node::{NodeFacts, ReplicationKind};
use crate::preflight::CheckContext;
use crate::setup::{Reach, SetupChange, Subject};
use crate::topology::{Engine, NodeId};

pub(super) fn examine(checks: &mut CheckContext<'_>) {
    let nodes = checks.nodes();
    for (at, (node, facts)) in nodes.iter().enumerate() {
        checks.looked(Area::Identity);
        for (other, others) in &nodes[..at] {
            pair(checks, (*other, others), (*node, facts));
        }
    }
    numbered(checks, &nodes);
    slots(checks, &nodes);
}

fn pair(
    checks: &mut CheckContext<'_>,
    (a, first): (NodeId, &NodeFacts),
    (b, second): (NodeId, &NodeFacts),
) {
    let (one, two) = (&first.identity, &second.identity);
    let known = |one: &Option<String>, two: &Option<String>| one.is_some() && one == two;
    if known(&one.database, &two.database) {
        let found = format!("{} are the same database under two addresses", checks.names(&[a, b]));
        checks.find(Finding::new(&SAME_DATABASE, Severity::Stop, [a, b], found));
    } else if known(&one.machine, &two.machine)
        && one.port.is_some()
        && one.port == two.port
        && !known(&one.server, &two.server)
    {
        let found = format!(
            "{} run on the same machine and both say that they listen on port {}",
            checks.names(&[a, b]),
            one.port.unwrap_or_default()
        );
        checks.find(Finding::new(&PORT_CLAIMED, Severity::Warn, [a, b], found));
    }
}

/// Names that must be a node's own among all servers of its engine that are linked.
fn numbered(checks: &mut CheckContext<'_>, nodes: &[(NodeId, &NodeFacts)]) {
    for (setting, check, level) in [
        ("server_id", &SAME_SERVER_ID, Severity::Stop),
        ("gtid_domain_id", &SAME_DOMAIN, Severity::Stop),
    ] {
        let mut seen: Vec<(&str, Vec<NodeId>)> = Vec::new();
        for (node, facts) in nodes {
            let Some(value) = facts.identity.ids.get(setting) else { continue };
            if setting == "gtid_domain_id" && !checks.topology.nodes[*node].writes {
                continue; // who only receives keeps the domains of what it was sent
            }
            let same = |other: &NodeId| {
                // Two ways to one server have its names in common, and that is said already.
                checks.facts(*other).is_none_or(|o| o.identity.server != facts.identity.server)
                    && checks.group(*node).contains(other)
            };
            match seen.iter_mut().find(|(known, nodes)| known == value && nodes.iter().all(same)) {
                Some((_, nodes)) => nodes.push(*node),
                None => seen.push((value, vec![*node])),
            }
        }
        for (value, nodes) in seen.into_iter().filter(|(_, nodes)| nodes.len() > 1) {
            let found = format!("{} all have {setting} = {value}", checks.names(&nodes));
            let found =
                if nodes.len() == 2 { found.replace(" all have ", " both have ") } else { found };
            let mut finding =
                Finding::new(check, level, nodes.clone(), found).needs("a different one on each");
            for (free, node) in (free_number(checks, setting)..).zip(&nodes[1..]) {
                let subject = Subject::Setting { name: setting.to_owned() };
                let change = SetupChange::to(subject, &free.to_string());
                finding = finding.want(*node, Engine::MariaDb, Reach::UntilRestart, change);
            }
            checks.find(finding);
        }
    }
}

/// The first number above all that nodes have.
fn free_number(checks: &CheckContext<'_>, setting: &str) -> u64 {
    let taken =
        checks.nodes().into_iter().filter_map(|(_, f)| f.identity.ids.get(setting)?.parse().ok());
    taken.max().unwrap_or(0u64) + 1
}

/// Two receivers that take from one slot of one source.
fn slots(checks: &mut CheckContext<'_>, nodes: &[(NodeId, &NodeFacts)]) {
    let mut users: Vec<(String, &str, NodeId, &str)> = Vec::new();
    for (node, facts) in nodes {
        let Ok(incoming) = &facts.incoming else { continue };
        for link in incoming.iter().filter(|link| link.means == ReplicationKind::Subscription) {
            let Some(slot) = &link.source.slot else { continue };
            let Some(source) = super::links::source_of(checks, *node, link) else { continue };
            let server = checks.facts(source).and_then(|f| f.identity.server.clone());
            let server = server.unwrap_or_else(|| checks.name(source).to_owned());
            if let Some((_, _, other, name)) =
                users.iter().find(|(s, taken, _, _)| *s == server && taken == slot)
            {
                let found = format!(
                    "subscriptions {name} on {} and {} on {} both read slot {slot} of {}",
                    checks.name(*other),
                    link.name,
                    checks.name(*node),
                    checks.name(source)
                );
                let nodes = vec![*other, *node];
                checks.find(
                    Finding::new(&SLOT_SHARED, Severity::Stop, nodes, found)
                        .on_links(vec![(source, *other), (source, *node)]),
                );
            } else {
                users.push((server, slot, *node, &link.name));
            }
        }
    }
}
