//! Numbers for new keys that two writers might both hand out.

use std::collections::BTreeMap;

use super::legend::{Area, COUNTERS_COLLIDE};
use super::{Finding, Severity};
use crate::observe::node::{Counter, NodeFacts, TableState};
use crate::preflight::CheckContext;
use crate::setup::{Reach, SetupChange, Subject};
use crate::topology::{Engine, NodeId};

pub(super) fn examine(checks: &mut CheckContext<'_>) {
    // By table and column, who hands out numbers for it, and how.
    let mut counting: BTreeMap<(String, String), Vec<(NodeId, Counter)>> = BTreeMap::new();
    for (node, facts) in checks.nodes() {
        if !checks.topology.nodes[node].writes {
            continue;
        }
        for (table, look) in &facts.tables {
            let Ok(Some(look)) = look.as_ref().map(TableState::there) else { continue };
            for counter in &look.counters {
                let place = (table.clone(), counter.column.clone());
                counting.entry(place).or_default().push((node, counter.clone()));
            }
        }
    }
    let mut found: BTreeMap<(Vec<NodeId>, String), Vec<String>> = BTreeMap::new();
    for ((table, column), counters) in counting {
        checks.looked(Area::Settings);
        let mut colliding: Vec<&(NodeId, Counter)> = Vec::new();
        for (at, one) in counters.iter().enumerate() {
            let group = checks.group(one.0);
            for two in &counters[..at] {
                if group.contains(&two.0) && collide(&one.1, &two.1) {
                    for it in [two, one] {
                        if !colliding.contains(&it) {
                            colliding.push(it);
                        }
                    }
                }
            }
        }
        if colliding.is_empty() {
            continue;
        }
        colliding.sort_by_key(|(node, _)| *node);
        let how: Vec<String> = colliding
            .iter()
            .map(|(node, c)| format!("{} every {} from {}", checks.name(*node), c.step, c.offset))
            .collect();
        let nodes: Vec<NodeId> = colliding.iter().map(|(node, _)| *node).collect();
        found.entry((nodes, how.join(", "))).or_default().push(format!("{table}.{column}"));
    }
    for ((nodes, how), columns) in found {
        let writers = nodes.len();
        let mut finding = Finding::new(
            &COUNTERS_COLLIDE,
            Severity::Stop,
            nodes.clone(),
            format!("new numbers for {} will collide: {how}", columns.join(", ")),
        )
        .needs(format!("an increment of at least {writers}, and a different offset on each"));
        for (at, node) in nodes.iter().enumerate() {
            let Some(facts) = checks.facts(*node) else { continue };
            finding = remedy(finding, (*node, facts), &columns, (writers, at + 1));
        }
        checks.find(finding);
    }
}

/// Whether two arithmetic sequences share a number: they do exactly when the difference of their
/// offsets is a multiple of the greatest common divisor of their steps.
fn collide(one: &Counter, two: &Counter) -> bool {
    let step = gcd(one.step.unsigned_abs(), two.step.unsigned_abs()).max(1);
    one.offset.abs_diff(two.offset).is_multiple_of(step)
}

fn gcd(a: u64, b: u64) -> u64 {
    if b == 0 { a } else { gcd(b, a % b) }
}

fn remedy(
    finding: Finding,
    (node, facts): (NodeId, &NodeFacts),
    columns: &[String],
    (writers, offset): (usize, usize),
) -> Finding {
    match facts.engine {
        Engine::MariaDb => {
            let setting = |finding: Finding, (name, value): (&str, usize)| {
                let subject = Subject::Setting { name: name.to_owned() };
                let change = SetupChange::to(subject, &value.to_string());
                finding.want(node, Engine::MariaDb, Reach::UntilRestart, change)
            };
            [("auto_increment_increment", writers), ("auto_increment_offset", offset)]
                .into_iter()
                .fold(finding, setting)
                .advise(Some(node), "connected sessions keep their old values until they reconnect")
        }
        Engine::Postgres => columns.iter().fold(finding, |finding, column| {
            finding.advise(Some(node), format!(
                "ALTER SEQUENCE of {column}: INCREMENT {writers}, and RESTART at a number whose remainder by {writers} is {}",
                offset % writers
            ))
        }),
        Engine::Sqlite => finding.advise(
            Some(node),
            "SQLite always counts by one: have the application choose the keys, or use random ones",
        ),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn sequences_collide_exactly_when_they_meet(a in 1i64..7, b in 1i64..7, x in 0i64..7, y in 0i64..7) {
            let counter = |step, offset| Counter { column: String::new(), step, offset };
            let meet = (0..200).any(|i| {
                let number = x + i * a;
                number >= y && (number - y) % b == 0
            });
            prop_assert_eq!(collide(&counter(a, x), &counter(b, y)), meet);
        }
    }
}
