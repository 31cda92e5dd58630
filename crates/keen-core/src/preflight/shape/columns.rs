//! Columns: which there are, in which order, and how each is declared.

use std::collections::BTreeMap;

use super::{TableChecks, grouped};
use crate::engine::types;
use crate::observe::node::TableLook;
use crate::preflight::legend::{
    COLUMN_COLLATION, COLUMN_DEFAULT, COLUMN_GENERATED, COLUMN_MISSING, COLUMN_NULL, COLUMN_ORDER,
    COLUMN_SURPLUS, COLUMN_TYPE, Check,
};
use crate::preflight::{Finding, Severity};
use crate::row::conversion::{self, CommonKind};
use crate::row::schema::ColumnShape;
use crate::setup::column::{ColumnDefinition, widens};
use crate::setup::{Reach, SetupChange, Subject};
use crate::topology::{Engine, NodeId};

impl TableChecks<'_, '_> {
    pub(super) fn columns(&mut self) {
        for name in self.all_columns() {
            let (with, without): (Vec<NodeId>, Vec<NodeId>) =
                self.looks.keys().partition(|node| self.column(**node, &name).is_some());
            if without.is_empty() {
                continue;
            }
            let out = self.between(|n| with.contains(&n), |n| without.contains(&n));
            let into = self.between(|n| without.contains(&n), |n| with.contains(&n));
            let demanding: Vec<_> = into
                .iter()
                .copied()
                .filter(|(_, to)| self.column(*to, &name).is_some_and(|c| !c.optional))
                .collect();
            let shifted: Vec<_> = out
                .iter()
                .chain(&into)
                .copied()
                .filter(|link| self.by_position(*link) && !self.is_last(&name, &with))
                .collect();
            let (level, effect, links) = if !shifted.is_empty() {
                (
                    Severity::Stop,
                    "values are applied by position: those after it end up in the wrong column",
                    shifted,
                )
            } else if !demanding.is_empty() {
                (
                    Severity::Stop,
                    "rows that arrive have no value for it, and it requires one: the next insert stops the link",
                    demanding,
                )
            } else if out.iter().any(|link| !self.by_position(*link)) {
                (Severity::Stop, "the next change that names it stops the link", out)
            } else if !out.is_empty() {
                (Severity::Warn, "its values do not arrive", out)
            } else {
                (Severity::Note, "rows that arrive leave it NULL or at its default", into)
            };
            let (check, nodes, found) = if with.len() >= without.len() {
                (
                    &COLUMN_MISSING,
                    without.clone(),
                    format!("column {name} is missing on {}", self.names(&without)),
                )
            } else {
                (
                    &COLUMN_SURPLUS,
                    with.clone(),
                    format!("only {} has column {name}", self.names(&with)),
                )
            };
            let found = found
                .replace("has column", if with.len() > 1 { "have column" } else { "has column" });
            let mut finding =
                self.finding(check, level, &nodes, found).on_links(links).will(effect);
            if check == &COLUMN_MISSING {
                for node in self.receivers_first(&without) {
                    if let Some(change) = self.added(node, &name, &with) {
                        finding = finding.want(node, self.looks[&node].0, Reach::Kept, change);
                    }
                }
                if !finding.wants.is_empty() {
                    finding = finding.advise(
                        None,
                        format!("then keen audit --table {} shows the values that are still missing, and keen plan what would repair them", self.table),
                    );
                }
            }
            self.checks.find(finding);
        }
    }

    /// Nodes in an order in which none sends to one that comes later, as far as there is one.
    fn receivers_first(&self, nodes: &[NodeId]) -> Vec<NodeId> {
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
    fn added(&self, node: NodeId, name: &str, with: &[NodeId]) -> Option<SetupChange> {
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

    fn is_last(&self, name: &str, with: &[NodeId]) -> bool {
        with.iter().all(|node| {
            let last = self.looks[node].1.shape.columns.last();
            last.is_some_and(|column| column.name.eq_ignore_ascii_case(name))
        })
    }

    pub(super) fn order(&mut self) {
        let shared: Vec<String> = self
            .all_columns()
            .into_iter()
            .filter(|name| self.looks.keys().all(|node| self.column(*node, name).is_some()))
            .collect();
        let order = |look: &TableLook| -> Vec<String> {
            let columns = look.shape.columns.iter().map(|column| column.name.to_ascii_lowercase());
            columns.filter(|name| shared.iter().any(|s| s.eq_ignore_ascii_case(name))).collect()
        };
        let groups = grouped(self.looks.iter().map(|(node, (_, look))| (*node, order(look))));
        if groups.len() < 2 {
            return;
        }
        let wrong: Vec<_> =
            self.apart(&groups).into_iter().filter(|link| self.by_position(*link)).collect();
        let first = &groups[0].0;
        let alike = groups
            .iter()
            .map(|(order, _)| order.iter().zip(first).take_while(|(a, b)| a == b).count())
            .min()
            .unwrap_or(0);
        let tail = alike >= 1 && first.len() - alike <= 1 + groups.len();
        let shown: Vec<String> = groups
            .iter()
            .map(|(order, nodes)| {
                let lead = if alike > 0 { "…, " } else { "" };
                format!("{lead}{} on {}", order[alike..].join(", "), self.names(nodes))
            })
            .collect();
        let mut found = format!("the same columns are in a different order: {}", shown.join("; "));
        if tail {
            found.push_str(", which happens when two peers each add a column at the same time");
        }
        let nodes: Vec<NodeId> = groups.iter().flat_map(|(_, nodes)| nodes.clone()).collect();
        let finding = if wrong.is_empty() {
            self.finding(&COLUMN_ORDER, Severity::Note, &nodes, found).will(
                "nothing where changes are applied by name; inserts without a column list differ",
            )
        } else {
            self.finding(&COLUMN_ORDER, Severity::Stop, &nodes, found)
                .will("values are applied by position: they end up in the wrong column, or the link stops where a type does not fit")
                .on_links(wrong)
        };
        let finding = match groups
            .iter()
            .find(|(_, nodes)| nodes.iter().all(|node| self.looks[node].0 == Engine::MariaDb))
        {
            Some(_) => {
                let (order, _) = &groups[0];
                let mut finding = finding;
                for (theirs, nodes) in &groups[1..] {
                    for node in nodes.iter().filter(|node| self.looks[node].0 == Engine::MariaDb) {
                        finding = self.reordered(finding, *node, order, theirs);
                    }
                }
                finding
            }
            None => finding,
        };
        self.checks.find(finding);
    }

    /// The statements that put a MariaDB node's columns into an order.
    fn reordered(
        &self,
        finding: Finding,
        node: NodeId,
        order: &[String],
        theirs: &[String],
    ) -> Finding {
        let mut finding = finding.advise(
            Some(node),
            "do this while nothing is written, and compare with SHOW CREATE TABLE first: keen does not know comments, checks and ON UPDATE of these columns",
        );
        let shape = &self.looks[&node].1.shape;
        let from = order.iter().zip(theirs).position(|(a, b)| a != b).unwrap_or(0);
        for at in from.max(1)..order.len() {
            let (Some(column), Some(before)) =
                (shape.column(&order[at]), shape.column(&order[at - 1]))
            else {
                continue;
            };
            if column.generated {
                finding = finding.advise(
                    Some(node),
                    format!("move the computed column {} by hand", column.name),
                );
                continue;
            }
            finding = finding.run(
                node,
                format!(
                    "SET SESSION sql_log_bin = 0; ALTER TABLE {} MODIFY {} AFTER {}; SET SESSION sql_log_bin = 1",
                    self.local_table(node),
                    self.definition(node, column),
                    self.local_column(node, &before.name)
                ),
            );
        }
        finding
    }

    /// A table as a MariaDB node calls it, quoted.
    fn local_table(&self, node: NodeId) -> String {
        let name = self.checks.topology.nodes[node].name_of(self.table);
        let parts: Vec<String> =
            name.split('.').map(|part| Engine::MariaDb.dialect().quoted(part)).collect();
        parts.join(".")
    }

    /// A column as a MariaDB node calls it, quoted.
    fn local_column(&self, node: NodeId, name: &str) -> String {
        Engine::MariaDb.dialect().quoted(self.local_name(node, name))
    }

    /// All that has to be said of a MariaDB column so that it stays as it is.
    fn definition(&self, node: NodeId, column: &ColumnShape) -> String {
        let mut text = format!("{} {}", self.local_column(node, &column.name), column.declared);
        if let Some(collation) = &column.collation {
            text.push_str(&format!(" COLLATE {collation}"));
        }
        text.push_str(if column.not_null { " NOT NULL" } else { " NULL" });
        if let Some(default) = &column.default {
            text.push_str(&format!(" DEFAULT {default}"));
        }
        if column.counted {
            text.push_str(" AUTO_INCREMENT");
        }
        text
    }

    pub(super) fn each_column(&mut self) {
        for name in self.all_columns() {
            self.types(&name);
            self.nulls(&name);
            self.generated(&name);
            let of_key = self.looks.values().any(|(_, look)| {
                let lists = look.shape.unique.iter().chain([&look.shape.key]);
                lists.flatten().any(|column| column.eq_ignore_ascii_case(&name))
            });
            // A server's defaults and collations only mean the same to servers of its kind.
            for engine in [Engine::Sqlite, Engine::Postgres, Engine::MariaDb] {
                let level = if of_key { Severity::Warn } else { Severity::Note };
                self.property(engine, &name, &COLUMN_COLLATION, level, "collation", |c| {
                    c.collation.clone()
                });
                self.property(engine, &name, &COLUMN_DEFAULT, Severity::Note, "default", |c| {
                    (!c.counted).then(|| c.default.clone().unwrap_or_else(|| "none".to_owned()))
                });
            }
        }
    }

    fn property(
        &mut self,
        engine: Engine,
        name: &str,
        check: &'static Check,
        level: Severity,
        what: &str,
        of: impl Fn(&ColumnShape) -> Option<String>,
    ) {
        let values = self
            .looks
            .iter()
            .filter(|(_, (e, _))| *e == engine)
            .filter_map(|(node, (_, look))| Some((*node, of(look.shape.column(name)?)?)));
        let groups = grouped(values);
        if groups.len() > 1 {
            let nodes: Vec<NodeId> = groups.iter().flat_map(|(_, nodes)| nodes.clone()).collect();
            let found = format!("column {name} has {what} {}", self.spread(&groups));
            let links = if level == Severity::Warn { self.apart(&groups) } else { Vec::new() };
            let finding = self.finding(check, level, &nodes, found).on_links(links);
            self.checks.find(finding);
        }
    }

    pub(super) fn types(&mut self, name: &str) {
        let have: BTreeMap<NodeId, (Engine, ColumnShape)> = self
            .looks
            .iter()
            .filter_map(|(node, (engine, look))| {
                Some((*node, (*engine, look.shape.column(name)?.clone())))
            })
            .collect();
        let groups =
            grouped(have.iter().map(|(node, (_, c))| (*node, c.declared.to_ascii_lowercase())));
        if groups.len() < 2 {
            return;
        }
        let families = have.values().map(|(_, c)| c.family).collect();
        let treated = self.checks.topology.compare.get(self.table).is_some_and(|columns| {
            columns.iter().any(|(c, t)| c.eq_ignore_ascii_case(name) && (t.ignore || t.as_text))
        });
        let kind = conversion::narrowest(&families, self.checks.topology.zone.as_ref());
        let nodes: Vec<NodeId> = have.keys().copied().collect();
        let found = format!("column {name} is {}", self.spread(&groups));
        let mixed = grouped(have.iter().map(|(node, (engine, _))| (*node, *engine))).len() > 1;
        let mut lossy: Vec<String> = Vec::new();
        let mut narrower: Vec<(NodeId, NodeId)> = Vec::new();
        for (from, to) in self.apart(&groups) {
            let ((source, a), (target, b)) = (&have[&from], &have[&to]);
            if let Some(loss) = types::loss(*source, a, *target, b) {
                narrower.push((from, to));
                let loss =
                    format!("from {} to {} {loss}", self.checks.name(from), self.checks.name(to));
                if lossy.len() < 3 {
                    lossy.push(loss);
                }
            }
        }
        let (level, effect) = match &kind {
            Err(_) if !treated => {
                (Severity::Stop, "values cannot be compared, and hardly replicated".to_owned())
            }
            _ if !narrower.is_empty() => (Severity::Warn, lossy.join("; ")),
            Ok(kind) if *kind != CommonKind::AsStored => (Severity::Note, kind.to_string()),
            _ if mixed => return, // the same thing in two engines' words
            _ => (Severity::Note, "nothing as long as values fit both".to_owned()),
        };
        let mut finding =
            self.finding(&COLUMN_TYPE, level, &nodes, found).on_links(narrower).will(effect);
        for engine in [Engine::Postgres, Engine::MariaDb] {
            for (node, change) in self.widened(name, engine) {
                finding = finding.want(node, engine, Reach::Kept, change);
            }
        }
        self.checks.find(finding);
    }

    /// Columns of an engine's nodes that are narrower than the widest of them, made as wide; none where no type holds
    /// all that the others hold.
    fn widened(&self, name: &str, engine: Engine) -> Vec<(NodeId, SetupChange)> {
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
        let change = |node: NodeId| {
            let subject = Subject::Column {
                table: self.named(node),
                column: self.local_name(node, name).to_owned(),
                after: None,
            };
            let own = ColumnDefinition::of(have[&node])?;
            let change = SetupChange::to(subject, &own.typed_as(&wide).to_string());
            Some((node, SetupChange { before: Some(own.to_string()), ..change }))
        };
        // One that cannot be said in full stays as it is, and so do the others.
        let changes: Option<Vec<_>> =
            self.receivers_first(&narrow).into_iter().map(change).collect();
        changes.unwrap_or_default()
    }

    pub(super) fn nulls(&mut self, name: &str) {
        let groups = grouped(self.looks.keys().filter_map(|node| {
            let column = self.column(*node, name)?;
            // What SQLite lets into a key it does not declare.
            let strict = column.not_null
                || self.looks[node].1.shape.key.iter().any(|k| k.eq_ignore_ascii_case(name));
            Some((*node, if strict { "NOT NULL" } else { "NULL allowed" }.to_owned()))
        }));
        if groups.len() < 2 {
            return;
        }
        let refuses = |node: NodeId| {
            groups.iter().any(|(value, nodes)| value == "NOT NULL" && nodes.contains(&node))
        };
        let links = self.between(|n| !refuses(n), refuses);
        let nodes: Vec<NodeId> = groups.iter().flat_map(|(_, nodes)| nodes.clone()).collect();
        let found = format!("column {name} is {}", self.spread(&groups));
        let finding = if links.is_empty() {
            self.finding(&COLUMN_NULL, Severity::Note, &nodes, found)
                .will("nothing: no link leads from a node that allows NULL to one that does not")
        } else {
            self.finding(&COLUMN_NULL, Severity::Warn, &nodes, found)
                .on_links(links)
                .will("the first NULL that travels stops the link")
        };
        self.checks.find(finding);
    }

    pub(super) fn generated(&mut self, name: &str) {
        let groups = grouped(self.looks.keys().filter_map(|node| {
            let column = self.column(*node, name)?;
            Some((*node, if column.generated { "computed" } else { "stored" }.to_owned()))
        }));
        if groups.len() < 2 {
            return;
        }
        let is =
            |word: &str, node: NodeId| groups.iter().any(|(v, n)| v == word && n.contains(&node));
        let links = self.between(|n| is("stored", n), |n| is("computed", n));
        let nodes: Vec<NodeId> = groups.iter().flat_map(|(_, nodes)| nodes.clone()).collect();
        let found = format!("column {name} is {}", self.spread(&groups));
        let (level, effect) = if links.is_empty() {
            (
                Severity::Note,
                "the stored copy gets a value only if the source sends computed columns",
            )
        } else {
            (Severity::Stop, "the next insert that brings a value for it stops the link")
        };
        let finding =
            self.finding(&COLUMN_GENERATED, level, &nodes, found).on_links(links).will(effect);
        self.checks.find(finding);
    }
}
