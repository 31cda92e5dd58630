//! Tables, table by table over all nodes that carry them.
//!
//! Each property (a column's type, its place, the key, …) groups the nodes by what they have. More
//! than one group is a finding; what it will do follows from the links that lead from one group to
//! another, and from how changes travel there: by position (MariaDB's log) or by name.

mod columns;
mod mending;
mod rules;

use std::collections::BTreeMap;

use crate::observe::node::{TableLook, TableState};
use crate::preflight::CheckContext;
use crate::preflight::legend::{Area, Check, TABLE_MISSING, TABLE_SURPLUS};
use crate::preflight::{Finding, Severity};
use crate::row::schema::{ColumnShape, TableShape};
use crate::setup::column::ColumnDefinition;
use crate::topology::{ColumnChoice, Engine, NodeId};

pub(super) fn examine(checks: &mut CheckContext<'_>) {
    let topology = checks.topology;
    for (set, content) in topology.sets.iter().enumerate() {
        for table in &content.tables {
            let carriers = topology.carriers(set);
            let links: Vec<(NodeId, NodeId)> = topology.edges(set).collect();
            TableChecks::new(checks, table, &carriers, links, &content.columns).examine();
        }
    }
    // A table of two sets is looked at once for each; what both find is one thing.
    let mut known: Vec<Finding> = Vec::new();
    for finding in std::mem::take(&mut checks.report.findings) {
        if !known.contains(&finding) {
            known.push(finding);
        }
    }
    checks.report.findings = known;
    surplus(checks);
}

/// One table of one set, as the nodes have it.
struct TableChecks<'d, 'a> {
    checks: &'d mut CheckContext<'a>,
    table: &'d str,
    looks: BTreeMap<NodeId, (Engine, TableLook)>,
    links: Vec<(NodeId, NodeId)>,
    choice: &'d ColumnChoice,
    /// By node and column, in lower case, how a column is declared once what was found so far is mended.
    redeclared: BTreeMap<(NodeId, String), ColumnDefinition>,
}

/// Values that nodes have, and which nodes have them.
type Groups<T> = Vec<(T, Vec<NodeId>)>;

fn grouped<T: PartialEq>(values: impl Iterator<Item = (NodeId, T)>) -> Groups<T> {
    let mut groups: Groups<T> = Vec::new();
    for (node, value) in values {
        match groups.iter_mut().find(|(known, _)| *known == value) {
            Some((_, nodes)) => nodes.push(node),
            None => groups.push((value, vec![node])),
        }
    }
    groups
}

impl<'d, 'a> TableChecks<'d, 'a> {
    fn new(
        checks: &'d mut CheckContext<'a>,
        table: &'d str,
        carriers: &[NodeId],
        links: Vec<(NodeId, NodeId)>,
        choice: &'d ColumnChoice,
    ) -> Self {
        let mut looks = BTreeMap::new();
        for node in carriers {
            let Some(facts) = checks.facts(*node) else { continue };
            let what = format!("table {table}");
            match facts.tables.get(table) {
                None => {} // not asked for
                Some(Err(fault)) => checks.could_not_look(Area::Shape, *node, &what, fault),
                Some(Ok(TableState::There(look))) => {
                    let mut look = (**look).clone();
                    in_common_names(checks, *node, table, &mut look);
                    looks.insert(*node, (facts.engine, look));
                }
                Some(Ok(TableState::Missing(found, advice))) => {
                    let broken: Vec<_> =
                        links.iter().copied().filter(|(_, to)| to == node).collect();
                    let mut finding =
                        Finding::new(&TABLE_MISSING, Severity::Stop, [*node], found.clone())
                            .of_table(table)
                            .on_links(broken.clone())
                            .advise(Some(*node), advice.clone());
                    if !broken.is_empty() {
                        finding = finding.will("the first change that arrives stops the link");
                    }
                    checks.find(finding);
                }
            }
        }
        Self { checks, table, looks, links, choice, redeclared: BTreeMap::new() }
    }

    fn examine(mut self) {
        if !self.looks.is_empty() {
            self.checks.looked(Area::Shape);
        }
        self.columns();
        self.order();
        self.each_column();
        self.key();
        self.rules();
        self.checks();
        self.storage();
        self.alone();
    }

    fn names(&self, nodes: &[NodeId]) -> String {
        self.checks.names(nodes)
    }

    fn finding(
        &self,
        check: &'static Check,
        level: Severity,
        nodes: &[NodeId],
        found: String,
    ) -> Finding {
        Finding::new(check, level, nodes, found).of_table(self.table)
    }

    /// "bigint on a and b, integer on c".
    fn spread(&self, groups: &Groups<String>) -> String {
        let parts: Vec<String> = groups
            .iter()
            .map(|(value, nodes)| format!("{value} on {}", self.names(nodes)))
            .collect();
        parts.join(", ")
    }

    /// The links that lead from nodes of which one thing is true to nodes of which another is.
    fn between(
        &self,
        from: impl Fn(NodeId) -> bool,
        to: impl Fn(NodeId) -> bool,
    ) -> Vec<(NodeId, NodeId)> {
        self.links.iter().copied().filter(|(a, b)| from(*a) && to(*b)).collect()
    }

    fn apart<T>(&self, groups: &Groups<T>) -> Vec<(NodeId, NodeId)> {
        let group = |node: NodeId| groups.iter().position(|(_, nodes)| nodes.contains(&node));
        self.links
            .iter()
            .copied()
            .filter(|(a, b)| matches!((group(*a), group(*b)), (Some(x), Some(y)) if x != y))
            .collect()
    }

    /// Changes travel by position, not by name.
    fn by_position(&self, (from, to): (NodeId, NodeId)) -> bool {
        let engine = |node| self.looks.get(&node).map(|(engine, _)| *engine);
        engine(from) == Some(Engine::MariaDb) && engine(to) == Some(Engine::MariaDb)
    }

    fn in_set(&self, column: &str) -> bool {
        let is = |name: &String| name.eq_ignore_ascii_case(column);
        match self.choice {
            ColumnChoice::All => true,
            ColumnChoice::Only(list) => {
                list.iter().any(is) || self.looks.values().any(|(_, l)| l.shape.key.iter().any(is))
            }
            ColumnChoice::Without(list) => !list.iter().any(is),
        }
    }

    /// Every column of the set that any node has, in the order in which they are first met.
    fn all_columns(&self) -> Vec<String> {
        let mut names: Vec<String> = Vec::new();
        for (_, look) in self.looks.values() {
            for column in &look.shape.columns {
                let known = names.iter().any(|name| name.eq_ignore_ascii_case(&column.name));
                if !known && self.in_set(&column.name) {
                    names.push(column.name.clone());
                }
            }
        }
        names
    }

    fn column(&self, node: NodeId, name: &str) -> Option<&ColumnShape> {
        self.looks.get(&node).and_then(|(_, look)| look.shape.column(name))
    }

    fn split(&self, has: impl Fn(&TableLook) -> bool) -> (Vec<NodeId>, Vec<NodeId>) {
        self.looks.keys().partition(|node| has(&self.looks[*node].1))
    }
}

/// Calls columns by the names that the sets use.
fn in_common_names(checks: &CheckContext<'_>, node: NodeId, table: &str, look: &mut TableLook) {
    let Some(aliases) = checks.topology.nodes[node].column_names.get(table) else { return };
    let rename = |name: &mut String| {
        if let Some((common, _)) =
            aliases.iter().find(|(_, local)| local.eq_ignore_ascii_case(name))
        {
            name.clone_from(common);
        }
    };
    let TableShape { columns, key, unique, .. } = &mut look.shape;
    columns.iter_mut().for_each(|column| rename(&mut column.name));
    key.iter_mut().for_each(rename);
    unique.iter_mut().flatten().for_each(rename);
}

/// Tables that no set names and that not every node has.
fn surplus(checks: &mut CheckContext<'_>) {
    let topology = checks.topology;
    let nodes = checks.nodes();
    let mut held: BTreeMap<String, Vec<NodeId>> = BTreeMap::new();
    let mut told = Vec::new();
    for (node, facts) in &nodes {
        let what = "which tables there are";
        let Some(tables) = checks.seen(Area::Shape, *node, what, &facts.all_tables) else {
            continue;
        };
        told.push(*node);
        let of_set = |table: &String| {
            topology.sets.iter().flat_map(|set| &set.tables).any(|named| {
                let local = topology.nodes[*node].name_of(named);
                table.eq_ignore_ascii_case(local) || table.eq_ignore_ascii_case(named)
            })
        };
        for table in tables.iter().filter(|table| !of_set(table)) {
            held.entry(table.clone()).or_default().push(*node);
        }
    }
    let mut by_nodes: BTreeMap<Vec<NodeId>, Vec<String>> = BTreeMap::new();
    for (table, nodes) in held.into_iter().filter(|(_, nodes)| nodes.len() < told.len()) {
        by_nodes.entry(nodes).or_default().push(table);
    }
    const SHOWN: usize = 6;
    for (nodes, tables) in by_nodes {
        let more = tables.len().saturating_sub(SHOWN);
        let mut list = tables[..tables.len() - more].join(", ");
        if more > 0 {
            list.push_str(&format!(" and {more} more"));
        }
        let found = format!(
            "only {} {} {list}",
            checks.names(&nodes),
            if nodes.len() == 1 { "has" } else { "have" }
        );
        checks.find(Finding::new(&TABLE_SURPLUS, Severity::Note, nodes, found));
    }
}

/// A rule as it reads in a sentence, cut where it gets long.
fn shortened(rule: &str) -> String {
    let kept: String = rule.chars().take(60).collect();
    if kept.len() < rule.len() { format!("{kept}...") } else { kept }
}
