//! Which version is right, by the authority rules; or why they do not say.

use super::AuditedTable;
use super::evidence::OfRow;
use crate::topology::node_set::NodeSet;
use std::fmt;

use crate::audit::merge::DivergentRow;
use crate::topology::placement::Expectation;
use crate::topology::{AuthorityRule, NodeId, Topology};
use crate::value::Value;
use crate::value::calendar::{parse_timestamp, timestamp_text};
use crate::value::text::text_of;

/// The decision of the rules on one divergent row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Decision {
    /// This version (by index) is right.
    Right {
        /// Its index in the row's versions.
        version: usize,
        /// Why, in words.
        reason: String,
        /// Nodes that rows can come from were counted; nobody said who is right.
        counted: bool,
    },
    /// The rules do not say, for this reason.
    Open(String),
}

/// Applies the rule of the row's table.
#[must_use]
pub fn decide(
    topology: &Topology,
    table: &AuditedTable,
    expectation: &Expectation,
    row: &DivergentRow,
    of_row: Option<&OfRow>,
) -> Decision {
    let held = |version: usize| nodes(&row.versions[version].nodes);
    match topology.authority.rule(&table.table) {
        AuthorityRule::Ask => Decision::Open("the authority for this table is \"ask\"".to_owned()),
        AuthorityRule::Latest => match topology.authority.written_column(&table.table) {
            Some(column) => latest_by(column, table, row),
            None => latest(row, of_row),
        },
        AuthorityRule::Home => Decision::Open(
            "the authority for this table is \"home\", and keen cannot tell yet where a row was first made".to_owned(),
        ),
        AuthorityRule::Node(node) => match (0..row.versions.len()).find(|i| held(*i).contains(node)) {
            Some(version) => by_node(topology, expectation, row, version, node),
            None if table.unread.contains(node) => {
                Decision::Open(format!("{} is right by rule, but it was not read", topology.nodes[node].name))
            }
            None => Decision::Open(format!("{} is right by rule, but it does not carry this row", topology.nodes[node].name)),
        },
        AuthorityRule::Majority => majority(topology, table, expectation, row),
    }
}

/// The version whose column says that it was written last.
fn latest_by(column: &str, table: &AuditedTable, row: &DivergentRow) -> Decision {
    let open = |why: &str| {
        Decision::Open(format!(
            "the authority for this table is the latest \"{column}\", and {why}"
        ))
    };
    let columns = &table.layout.columns;
    let at = columns.iter().position(|known| known.name.eq_ignore_ascii_case(column));
    let Some(at) = at else { return open("that column is not compared") };
    let mut said = Vec::new();
    for (version, held) in row.versions.iter().enumerate() {
        let Some(cells) = &held.row else {
            return open("a deleted row does not say when it was deleted");
        };
        let Some(when) = When::of(&cells[at]) else {
            return open("not every version has a time or a number there");
        };
        said.push((when, version));
    }
    let one_sort = |pair: &[(When, usize)]| {
        std::mem::discriminant(&pair[0].0) == std::mem::discriminant(&pair[1].0)
    };
    if !said.windows(2).all(one_sort) {
        return open("times cannot be compared with numbers");
    }
    said.sort_unstable();
    match &said[..] {
        [.., (before, _), (last, _)] if before == last => {
            open("several versions have the same value there")
        }
        [.., (last, version)] => Decision::Right {
            version: *version,
            reason: format!("its \"{column}\" is the latest, {last}"),
            counted: false,
        },
        [] => open("there is no version"),
    }
}

/// The time at which a row was written, as a column tells it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum When {
    /// In microseconds since 1970.
    Time(i64),
    /// As a number that grows.
    Number(i128),
}

impl When {
    fn of(value: &Value) -> Option<Self> {
        Some(match value {
            Value::Timestamp(at) | Value::LocalTimestamp(at) => Self::Time(*at),
            Value::Date(days) => Self::Time(days.saturating_mul(86_400_000_000)),
            Value::Int(number) => Self::Number(*number),
            // SQLite has no times of its own.
            Value::Text(_) => Self::Time(parse_timestamp(&text_of(value.as_ref()))?.0),
            _ => return None,
        })
    }
}

impl fmt::Display for When {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Time(at) => f.write_str(&timestamp_text(*at)),
            Self::Number(number) => write!(f, "{number}"),
        }
    }
}

/// The version that was written last, by the clocks of those who wrote.
fn latest(row: &DivergentRow, of_row: Option<&OfRow>) -> Decision {
    let Some(of_row) = of_row else {
        return Decision::Open(
            "the authority for this table is \"latest\", but it is not known when this row was written: not from its nodes (PostgreSQL knows, with track_commit_timestamp), not from a column that the file names, and not from journals (--conflicts reads them)".to_owned(),
        );
    };
    let times: Option<Vec<_>> = (row.versions.iter())
        .map(|version| {
            version.nodes.iter().filter_map(|node| of_row.written.get(node)).max().copied()
        })
        .collect();
    let Some(times) = times else {
        return Decision::Open(
            "the authority for this table is \"latest\", but it is not known when each version was written".to_owned(),
        );
    };
    let last = times.iter().max().copied().unwrap_or_default();
    let mut of_last = (0..times.len()).filter(|version| times[*version] == last);
    match (of_last.next(), of_last.next()) {
        (Some(version), None) => Decision::Right {
            version,
            reason: format!("it was written last, at {}Z", timestamp_text(last)),
            counted: false,
        },
        _ => Decision::Open(format!(
            "the authority for this table is \"latest\", and several versions were written at {}Z",
            timestamp_text(last)
        )),
    }
}

fn nodes(list: &[NodeId]) -> NodeSet {
    list.iter().collect::<NodeSet>()
}

fn by_node(
    topology: &Topology,
    expectation: &Expectation,
    row: &DivergentRow,
    version: usize,
    node: NodeId,
) -> Decision {
    let reason = format!("{} is right by rule", topology.nodes[node].name);
    let held = nodes(&row.versions[version].nodes);
    let concern = row.versions.iter().flat_map(|version| &version.nodes).collect::<NodeSet>();
    let sources = concern & expectation.makers() & !held;
    let one_group = sources.iter().all(|a| sources.is_within(expectation.reached_from(a)));
    if row.versions[version].row.is_some() && !held.meets(expectation.makers()) && !one_group {
        return Decision::Open(format!(
            "{reason}, but it is not known which of its sources this row belongs to"
        ));
    }
    Decision::Right { version, reason, counted: false }
}

/// Most of the nodes that rows can come from. Nodes that only receive repeat
/// what they were sent: they follow, and they are heard only as an objection.
fn majority(
    topology: &Topology,
    table: &AuditedTable,
    expectation: &Expectation,
    row: &DivergentRow,
) -> Decision {
    let concern = row.versions.iter().flat_map(|version| &version.nodes).collect::<NodeSet>();
    let related = concern.iter().fold(NodeSet::EMPTY, |all, n| all | expectation.reached_from(n))
        | table
            .unread
            .iter()
            .filter(|n| expectation.reached_from(*n).meets(concern))
            .collect::<NodeSet>();
    let voters = expectation.makers() & (concern | (table.unread & related));
    let count = |nodes: NodeSet| nodes.len();
    let name =
        |of: NodeSet| of.iter().map(|n| &topology.nodes[n].name[..]).collect::<Vec<_>>().join(", ");
    let winner = (0..row.versions.len())
        .find(|i| count(nodes(&row.versions[*i].nodes) & voters) * 2 > count(voters));
    let Some(version) = winner else {
        return Decision::Open(if table.unread.meets(voters) {
            format!(
                "no version has a majority as long as {} cannot be read",
                name(table.unread & voters)
            )
        } else {
            format!("no version is held by more than half of {}", name(voters))
        });
    };
    let held = nodes(&row.versions[version].nodes);
    let what =
        if row.versions[version].row.is_some() { "hold this row" } else { "hold no such row" };
    let reason = if count(voters) == 1 {
        format!(
            "{} {}, and the others only receive",
            name(voters),
            what.replacen("hold", "holds", 1)
        )
    } else {
        format!("{} of {} {what}: {}", count(held & voters), count(voters), name(held & voters))
    };
    let objection = (0..row.versions.len())
        .find(|i| count(nodes(&row.versions[*i].nodes)) * 2 > count(concern));
    match objection {
        Some(other) if other != version => Decision::Open(format!(
            "{reason}; but most copies ({}) differ from it",
            name(nodes(&row.versions[other].nodes))
        )),
        _ => Decision::Right { version, reason, counted: count(voters) > 1 },
    }
}
