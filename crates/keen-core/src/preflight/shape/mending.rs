//! Changes of a node's columns that make them what the others have.

use std::collections::BTreeMap;

use super::TableChecks;
use crate::preflight::Finding;
use crate::row::schema::ColumnShape;
use crate::setup::column::{ColumnDefinition, widens};
use crate::setup::{Reach, SetupChange, Subject, column_order};
use crate::topology::{Engine, NodeId};

impl TableChecks<'_, '_> {
    /// Nodes in an order in which none sends to one that comes later, as far as there is one.
    pub(super) fn receivers_first(&self, nodes: &[NodeId]) -> Vec<NodeId> {
        let mut left = nodes.to_vec();
        let mut ordered = Vec::new();
        while !left.is_empty() {
            let sends = |node: &NodeId| {
                self.links.iter().any(|(from, to)| from == node && to != node && left.contains(to))
            };
            let at = left.iter().position(|node| !sends(node)).unwrap_or(0);
            ordered.push(left.remove(at));
        }
        ordered
    }

    /// A column that a node lacks, declared as on the nodes of its engine that have it, if they agree and rows need no
    /// value of somebody's choice.
    pub(super) fn added(&self, node: NodeId, name: &str, with: &[NodeId]) -> Option<SetupChange> {
        let engine = self.looks[&node].0;
        let of_engine = |other: &&NodeId| self.looks[other].0 == engine;
        let mut definitions = with
            .iter()
            .filter(of_engine)
            .map(|other| self.column(*other, name).and_then(ColumnDefinition::of));
        let definition = definitions.next()??;
        if !definition.is_optional() || definitions.any(|other| other.as_ref() != Some(&definition))
        {
            return None;
        }
        // Where links go by the order of columns, it has to come where the others have it.
        let source = with.iter().find(|other| self.looks[other].0 == engine)?;
        let columns = &self.looks[source].1.shape.columns;
        let at = columns.iter().position(|column| column.name.eq_ignore_ascii_case(name))?;
        let before = at.checked_sub(1).and_then(|at| columns.get(at));
        let after = match (engine, before) {
            (Engine::MariaDb, None) => return None,
            (Engine::MariaDb, Some(before)) => {
                self.column(node, &before.name)?;
                Some(self.local_name(node, &before.name).to_owned())
            }
            (Engine::Postgres | Engine::Sqlite, _) => None,
        };
        let subject = Subject::Column {
            table: self.named(node),
            column: self.local_name(node, name).to_owned(),
            after,
        };
        Some(SetupChange::to(subject, &definition.to_string()))
    }

    /// A table as a node calls it, in parts.
    fn named(&self, node: NodeId) -> Vec<String> {
        let name = self.checks.topology.nodes[node].name_of(self.table);
        name.split('.').map(str::to_owned).collect()
    }

    /// A column as a node calls it.
    fn local_name<'n>(&'n self, node: NodeId, name: &'n str) -> &'n str {
        let aliases = self.checks.topology.nodes[node].column_names.get(self.table);
        aliases.and_then(|aliases| aliases.get(name)).map_or(name, String::as_str)
    }

    /// What puts a MariaDB node's columns into an order.
    pub(super) fn reordered(&self, finding: Finding, node: NodeId, order: &[String]) -> Finding {
        let columns = &self.looks[&node].1.shape.columns;
        let lower = |name: &String| name.to_ascii_lowercase();
        let own: Vec<String> = columns.iter().map(|column| lower(&column.name)).collect();
        let (after, moved) = column_order::arranged(&own, order);
        let local = |name: &String| {
            let column = columns.iter().find(|column| column.name.eq_ignore_ascii_case(name))?;
            Some((self.local_name(node, &column.name), column))
        };
        let declared: Option<BTreeMap<String, String>> = moved
            .iter()
            .map(|name| {
                let (name, column) = local(name)?;
                Some((name.to_owned(), ColumnDefinition::of(column)?.to_string()))
            })
            .collect();
        let Some(moved) = declared else {
            let place = |name: &String| {
                let at = after.iter().position(|known| known == name)?;
                let behind = at.checked_sub(1).and_then(|at| local(&after[at]));
                let behind =
                    behind.map_or("first".to_owned(), |(name, _)| format!("behind {name}"));
                Some(format!("{} {behind}", local(name)?.0))
            };
            let places: Vec<String> = moved.iter().filter_map(place).collect();
            return finding.advise(
                Some(node),
                format!(
                    "by hand, as keen cannot say all of how these columns are declared (SHOW CREATE TABLE does): move {}",
                    places.join(", ")
                ),
            );
        };
        let told = |order: &[String]| {
            let names: Vec<&str> = order.iter().filter_map(|name| Some(local(name)?.0)).collect();
            column_order::told(&names)
        };
        let subject = Subject::ColumnOrder { table: self.named(node), moved };
        let change = SetupChange::to(subject, &told(&after));
        let change = SetupChange { before: Some(told(&own)), ..change };
        finding.want(node, Engine::MariaDb, Reach::Kept, change)
    }

    /// Columns of an engine's nodes that are narrower than the widest of them, made as wide; none where no type holds
    /// all that the others hold.
    pub(super) fn widened(&mut self, name: &str, engine: Engine) -> Vec<(NodeId, SetupChange)> {
        let of_engine = self.looks.iter().filter(|(_, (of, _))| *of == engine);
        let have: BTreeMap<NodeId, &ColumnShape> = of_engine
            .filter_map(|(node, (_, look))| Some((*node, look.shape.column(name)?)))
            .collect();
        let differs = |one: &ColumnShape, other: &ColumnShape| {
            !one.declared.eq_ignore_ascii_case(&other.declared)
        };
        let widest = have.values().find(|wide| {
            have.values().all(|other| !differs(wide, other) || widens(engine, other, wide))
        });
        let Some(wide) = widest.and_then(|wide| ColumnDefinition::of(wide)) else {
            return Vec::new();
        };
        let narrow: Vec<NodeId> = have
            .iter()
            .filter(|(_, column)| !column.declared.eq_ignore_ascii_case(wide.declared()))
            .map(|(node, _)| *node)
            .collect();
        self.all_redeclared(&narrow, name, &|own| own.typed_as(&wide))
    }

    /// A column that refuses NULL on some nodes, as most of them have it; where as many allow it, all do: that is
    /// never refused.
    pub(super) fn refusing_alike(
        &mut self,
        name: &str,
        (strict, lenient): (&[NodeId], &[NodeId]),
    ) -> Vec<(NodeId, SetupChange)> {
        let not_null = strict.len() > lenient.len();
        let others: Vec<NodeId> = if not_null { lenient } else { strict }
            .iter()
            .copied()
            .filter(|node| self.looks[node].0 != Engine::Sqlite)
            .collect();
        let of_key = |node: &NodeId| {
            self.looks[node].1.shape.key.iter().any(|column| column.eq_ignore_ascii_case(name))
        };
        if others.iter().any(of_key) {
            return Vec::new();
        }
        self.all_redeclared(&others, name, &|own| own.refusing_null(not_null))
    }

    /// A column of an engine's nodes with what most of them have of it; none if no value is on most.
    pub(super) fn as_most(
        &mut self,
        name: &str,
        groups: &[(String, Vec<NodeId>)],
        taken: &dyn Fn(&ColumnDefinition, &ColumnDefinition) -> Option<ColumnDefinition>,
    ) -> Vec<(NodeId, SetupChange)> {
        let all: usize = groups.iter().map(|(_, nodes)| nodes.len()).sum();
        let most = groups.iter().find(|(_, nodes)| nodes.len() * 2 > all);
        let right = most.and_then(|(_, nodes)| {
            Some((nodes, self.column(*nodes.first()?, name).and_then(ColumnDefinition::of)?))
        });
        let Some((right_nodes, right)) = right else { return Vec::new() };
        let is_right = |node: &NodeId| right_nodes.contains(node);
        let others: Vec<NodeId> = groups
            .iter()
            .flat_map(|(_, nodes)| nodes)
            .copied()
            .filter(|node| !is_right(node) && self.looks[node].0 != Engine::Sqlite)
            .collect();
        let fits = |node: &NodeId| {
            let own = self.column(*node, name).and_then(ColumnDefinition::of);
            own.is_some_and(|own| taken(&own, &right).is_some())
        };
        if !others.iter().all(fits) {
            return Vec::new();
        }
        self.all_redeclared(&others, name, &|own| taken(own, &right).unwrap_or_else(|| own.clone()))
    }

    /// A finding about a column with the changes that mend it; or why there are none, if that is to be seen.
    pub(super) fn mended_by(
        &self,
        mut finding: Finding,
        name: &str,
        changes: Vec<(NodeId, SetupChange)>,
    ) -> Finding {
        if changes.is_empty() {
            let says_more = |node: &NodeId| self.column(*node, name).is_some_and(|c| c.says_more.0);
            let nodes: Vec<NodeId> = self.looks.keys().copied().filter(says_more).collect();
            if !nodes.is_empty() {
                finding = finding.advise(
                    None,
                    format!(
                        "declare it by hand: on {} column {name} has a comment, a rule or a property that a change would drop, or that it has none cannot be seen (SHOW CREATE TABLE shows it)",
                        self.names(&nodes)
                    ),
                );
            }
        }
        for (node, change) in changes {
            let engine = self.looks[&node].0;
            finding = finding.want(node, engine, Reach::Kept, change);
        }
        finding
    }

    /// A column declared anew on nodes; none at all where one of them has it as more than can be said.
    fn all_redeclared(
        &mut self,
        nodes: &[NodeId],
        name: &str,
        edit: &dyn Fn(&ColumnDefinition) -> ColumnDefinition,
    ) -> Vec<(NodeId, SetupChange)> {
        let change = |node: NodeId| {
            let column = self.local_name(node, name).to_owned();
            // What another finding changes of it comes first, and stays.
            let before = match self.redeclared.get(&(node, name.to_ascii_lowercase())) {
                Some(before) => before.clone(),
                None => ColumnDefinition::of(self.column(node, name)?)?,
            };
            let after = edit(&before);
            let subject = Subject::Column { table: self.named(node), column, after: None };
            let change = SetupChange::to(subject, &after.to_string());
            Some((node, SetupChange { before: Some(before.to_string()), ..change }, after))
        };
        let changes: Option<Vec<_>> = self.receivers_first(nodes).into_iter().map(change).collect();
        let changes = changes.unwrap_or_default();
        let mut all = Vec::new();
        for (node, change, after) in changes {
            self.redeclared.insert((node, name.to_ascii_lowercase()), after);
            all.push((node, change));
        }
        all
    }
}
