//! Tables, table by table over all nodes that carry them.
//!
//! Each property (a column's type, its place, the key, …) groups the nodes by what they have. More
//! than one group is a finding; what it will do follows from the links that lead from one group to
//! another, and from how changes travel there: by position (MariaDB's log) or by name.

use std::collections::BTreeMap;

use super::legend::{
    Area, CHECKS_DIFFER, COLUMN_COLLATION, COLUMN_DEFAULT, COLUMN_GENERATED, COLUMN_MISSING,
    COLUMN_NULL, COLUMN_ORDER, COLUMN_SURPLUS, COLUMN_TYPE, Check, KEY_DIFFERS, KEY_MISSING,
    REFERENCE_DIFFERS, ROLLS_NOTHING_BACK, ROW_IDENTITY, TABLE_MISSING, TABLE_SURPLUS,
    TRIGGER_AGAIN, UNIQUE_DIFFERS,
};
use super::{Finding, Level};
use crate::engine::dialect::quoted;
use crate::engine::types;
use crate::observe::node::{TableLook, TableState};
use crate::preflight::CheckContext;
use crate::row::conversion::{self, CommonKind};
use crate::row::schema::{ColumnShape, TableShape};
use crate::topology::{ColumnChoice, Engine, NodeId};

pub(super) fn examine(desk: &mut CheckContext<'_>) {
    let topology = desk.topology;
    for (set, content) in topology.sets.iter().enumerate() {
        for table in &content.tables {
            let carriers = topology.carriers(set);
            let links: Vec<(NodeId, NodeId)> = topology.edges(set).collect();
            Bench::lay(desk, table, &carriers, links, &content.columns).examine();
        }
    }
    // A table of two sets is looked at once for each; what both find is one thing.
    let mut known: Vec<Finding> = Vec::new();
    for finding in std::mem::take(&mut desk.report.findings) {
        if !known.contains(&finding) {
            known.push(finding);
        }
    }
    desk.report.findings = known;
    surplus(desk);
}

/// One table of one set, as the nodes have it.
struct Bench<'d, 'a> {
    desk: &'d mut CheckContext<'a>,
    table: &'d str,
    looks: BTreeMap<NodeId, (Engine, TableLook)>,
    links: Vec<(NodeId, NodeId)>,
    choice: &'d ColumnChoice,
}

/// What nodes have, and which nodes have it.
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

impl<'d, 'a> Bench<'d, 'a> {
    fn lay(
        desk: &'d mut CheckContext<'a>,
        table: &'d str,
        carriers: &[NodeId],
        links: Vec<(NodeId, NodeId)>,
        choice: &'d ColumnChoice,
    ) -> Self {
        let mut looks = BTreeMap::new();
        for node in carriers {
            let Some(facts) = desk.facts(*node) else { continue };
            let what = format!("table {table}");
            match facts.tables.get(table) {
                None => {} // not asked for
                Some(Err(reason)) => desk.could_not_look(Area::Shape, *node, &what, reason),
                Some(Ok(TableState::There(look))) => {
                    let mut look = (**look).clone();
                    in_common_names(desk, *node, table, &mut look);
                    looks.insert(*node, (facts.engine, look));
                }
                Some(Ok(TableState::Missing(found, advice))) => {
                    let broken: Vec<_> =
                        links.iter().copied().filter(|(_, to)| to == node).collect();
                    let mut finding =
                        Finding::new(&TABLE_MISSING, Level::Stop, [*node], found.clone())
                            .of_table(table)
                            .on_links(broken.clone())
                            .advise(Some(*node), advice.clone());
                    if !broken.is_empty() {
                        finding = finding.will("the first change that arrives stops the link");
                    }
                    desk.find(finding);
                }
            }
        }
        Self { desk, table, looks, links, choice }
    }

    fn examine(mut self) {
        if !self.looks.is_empty() {
            self.desk.looked(Area::Shape);
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
        self.desk.names(nodes)
    }

    fn finding(
        &self,
        check: &'static Check,
        level: Level,
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

    fn columns(&mut self) {
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
                    Level::Stop,
                    "values travel by position: what stands behind it lands in the wrong column",
                    shifted,
                )
            } else if !demanding.is_empty() {
                (
                    Level::Stop,
                    "rows that arrive there lack a value it refuses to be without: the next insert stops the link",
                    demanding,
                )
            } else if out.iter().any(|link| !self.by_position(*link)) {
                (Level::Stop, "the next change that names it stops the link", out)
            } else if !out.is_empty() {
                (Level::Warn, "its values do not arrive", out)
            } else {
                (Level::Note, "rows that arrive leave it empty or at its default", into)
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
            let finding = self.finding(check, level, &nodes, found).on_links(links).will(effect);
            self.desk.find(finding);
        }
    }

    fn is_last(&self, name: &str, with: &[NodeId]) -> bool {
        with.iter().all(|node| {
            let last = self.looks[node].1.shape.columns.last();
            last.is_some_and(|column| column.name.eq_ignore_ascii_case(name))
        })
    }

    fn order(&mut self) {
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
        let mut found = format!("the same columns stand in another order: {}", shown.join("; "));
        if tail {
            found.push_str("; as it is after peers each added a column at the same time");
        }
        let nodes: Vec<NodeId> = groups.iter().flat_map(|(_, nodes)| nodes.clone()).collect();
        let finding = if wrong.is_empty() {
            self.finding(&COLUMN_ORDER, Level::Note, &nodes, found).will(
                "nothing where changes travel by name; inserts without a list of columns differ",
            )
        } else {
            self.finding(&COLUMN_ORDER, Level::Stop, &nodes, found)
                .will("values travel by position: they land in the wrong column, or the link stops where a type does not fit")
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
        self.desk.find(finding);
    }

    /// The statements that put a MariaDB node's columns into an order.
    fn reordered(
        &self,
        mut finding: Finding,
        node: NodeId,
        order: &[String],
        theirs: &[String],
    ) -> Finding {
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
        finding.advise(
            Some(node),
            "while nothing is written, and with SHOW CREATE TABLE beside it: comments, checks and ON UPDATE of these columns are not known here",
        )
    }

    /// A table as a MariaDB node calls it, quoted.
    fn local_table(&self, node: NodeId) -> String {
        let name = self.desk.topology.nodes[node].name_of(self.table);
        let parts: Vec<String> =
            name.split('.').map(|part| quoted(Engine::MariaDb, part)).collect();
        parts.join(".")
    }

    /// A column as a MariaDB node calls it, quoted.
    fn local_column(&self, node: NodeId, name: &str) -> String {
        let aliases = self.desk.topology.nodes[node].column_names.get(self.table);
        let local = aliases.and_then(|aliases| aliases.get(name)).map_or(name, String::as_str);
        quoted(Engine::MariaDb, local)
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

    fn each_column(&mut self) {
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
                let level = if of_key { Level::Warn } else { Level::Note };
                self.property(engine, &name, &COLUMN_COLLATION, level, "collation", |c| {
                    c.collation.clone()
                });
                self.property(engine, &name, &COLUMN_DEFAULT, Level::Note, "default", |c| {
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
        level: Level,
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
            let links = if level == Level::Warn { self.apart(&groups) } else { Vec::new() };
            let finding = self.finding(check, level, &nodes, found).on_links(links);
            self.desk.find(finding);
        }
    }

    fn types(&mut self, name: &str) {
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
        let treated = self.desk.topology.compare.get(self.table).is_some_and(|columns| {
            columns.iter().any(|(c, t)| c.eq_ignore_ascii_case(name) && (t.ignore || t.as_text))
        });
        let kind = conversion::narrowest(&families, self.desk.topology.zone.as_ref());
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
                    format!("from {} to {} {loss}", self.desk.name(from), self.desk.name(to));
                if lossy.len() < 3 {
                    lossy.push(loss);
                }
            }
        }
        let (level, effect) = match &kind {
            Err(_) if !treated => {
                (Level::Stop, "values cannot be compared, and hardly carried".to_owned())
            }
            _ if !narrower.is_empty() => (Level::Warn, lossy.join("; ")),
            Ok(kind) if *kind != CommonKind::AsStored => (Level::Note, kind.to_string()),
            _ if mixed => return, // the same thing in two engines' words
            _ => (Level::Note, "nothing as long as values fit both".to_owned()),
        };
        let finding =
            self.finding(&COLUMN_TYPE, level, &nodes, found).on_links(narrower).will(effect);
        self.desk.find(finding);
    }

    fn nulls(&mut self, name: &str) {
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
            self.finding(&COLUMN_NULL, Level::Note, &nodes, found)
                .will("nothing: no link leads from where NULL is allowed to where it is not")
        } else {
            self.finding(&COLUMN_NULL, Level::Warn, &nodes, found)
                .on_links(links)
                .will("the first NULL that travels stops the link")
        };
        self.desk.find(finding);
    }

    fn generated(&mut self, name: &str) {
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
            (Level::Note, "the stored copy gets a value only if the source sends computed columns")
        } else {
            (Level::Stop, "the next insert that brings a value for it stops the link")
        };
        let finding =
            self.finding(&COLUMN_GENERATED, level, &nodes, found).on_links(links).will(effect);
        self.desk.find(finding);
    }

    fn key(&mut self) {
        let groups = grouped(self.looks.iter().map(|(node, (_, look))| {
            (*node, look.shape.key.iter().map(|name| name.to_ascii_lowercase()).collect::<Vec<_>>())
        }));
        let keyless: Vec<NodeId> =
            groups.iter().filter(|(key, _)| key.is_empty()).flat_map(|(_, n)| n.clone()).collect();
        if groups.len() > 1 {
            let spelled: Groups<String> = groups
                .iter()
                .map(|(key, nodes)| {
                    let key = if key.is_empty() {
                        "no key".to_owned()
                    } else {
                        format!("({})", key.join(", "))
                    };
                    (key, nodes.clone())
                })
                .collect();
            let nodes: Vec<NodeId> = groups.iter().flat_map(|(_, nodes)| nodes.clone()).collect();
            let found = format!("the key is {}", self.spread(&spelled));
            let finding = self
                .finding(&KEY_DIFFERS, Level::Stop, &nodes, found)
                .on_links(self.apart(&groups))
                .will("a change finds its row by the key: it will change another row, several, or none");
            self.desk.find(finding);
        } else if !keyless.is_empty() {
            let found = format!("there is no key on {}", self.names(&keyless));
            let finding = self
                .finding(&KEY_MISSING, Level::Warn, &keyless, found)
                .will("each change searches the whole table for its row; equal rows are told apart by their number only");
            self.desk.find(finding);
        }
        for (node, (engine, look)) in &self.looks.clone() {
            let sends = self.links.iter().any(|(from, _)| from == node);
            if *engine != Engine::Postgres || !sends {
                continue;
            }
            let named = look.named_by.as_deref();
            let no_primary = named == Some("nothing");
            if no_primary && !self.desk.facts(*node).is_some_and(|facts| facts.standby) {
                let name = self.desk.topology.nodes[*node].name_of(self.table);
                let place = look.shape.qualified.iter().map(|part| quoted(Engine::Postgres, part));
                let place: Vec<String> = place.collect();
                let rows = if look.partitioned { "rows of partitions" } else { "rows" };
                let finding = self
                    .finding(
                        &ROW_IDENTITY,
                        Level::Stop,
                        &[*node],
                        format!("{rows} of {name} on {} have no identity for subscribers", self.desk.name(*node)),
                    )
                    .will("as soon as it is published, every update and delete of it is refused there")
                    .run(*node, look.name_rows_whole(&place.join(".")))
                    .advise(Some(*node), "or better, give it a primary key, with the same values on every node: counted up by each for itself they differ");
                self.desk.find(finding);
            }
        }
    }

    fn rules(&mut self) {
        let lower = |list: &[String]| -> Vec<String> {
            let mut list: Vec<String> = list.iter().map(|name| name.to_ascii_lowercase()).collect();
            list.sort();
            list
        };
        let mut unique: Vec<Vec<String>> = Vec::new();
        let mut references: Vec<(Vec<String>, String, Vec<String>)> = Vec::new();
        for (_, look) in self.looks.values() {
            let key = lower(&look.shape.key);
            let implied = |list: &Vec<String>| {
                !key.is_empty() && key.iter().all(|column| lower(list).contains(column))
            };
            for list in look.shape.unique.iter().filter(|list| !implied(list)) {
                if !unique.contains(&lower(list)) && list.iter().all(|c| self.in_set(c)) {
                    unique.push(lower(list));
                }
            }
            for reference in &look.shape.references {
                let entry =
                    (lower(&reference.columns), reference.table.clone(), reference.to.clone());
                if !references
                    .iter()
                    .any(|(columns, table, _)| *columns == entry.0 && *table == entry.1)
                {
                    references.push(entry);
                }
            }
        }
        for list in unique {
            let has = |look: &TableLook| {
                look.shape.unique.iter().chain([&look.shape.key]).any(|other| lower(other) == list)
            };
            let (with, without) = self.split(has);
            let links = self.between(|n| without.contains(&n), |n| with.contains(&n));
            if !without.is_empty() {
                let found = format!(
                    "({}) must be unique on {}, not on {}",
                    list.join(", "),
                    self.names(&with),
                    self.names(&without)
                );
                let nodes: Vec<NodeId> = with.iter().chain(&without).copied().collect();
                let (level, effect) = if links.is_empty() {
                    (Level::Note, "nothing: no link leads to where it must be unique")
                } else {
                    (Level::Warn, "a second row with the same values stops the link")
                };
                let finding = self
                    .finding(&UNIQUE_DIFFERS, level, &nodes, found)
                    .on_links(links)
                    .will(effect);
                self.desk.find(finding);
            }
        }
        for (columns, table, to) in references {
            let has = |look: &TableLook| {
                look.shape
                    .references
                    .iter()
                    .any(|r| lower(&r.columns) == columns && r.table == table)
            };
            let (with, without) = self.split(has);
            if !without.is_empty() {
                let found = format!(
                    "({}) refers to {table} ({}) on {}, not on {}",
                    columns.join(", "),
                    to.join(", "),
                    self.names(&with),
                    self.names(&without)
                );
                let nodes: Vec<NodeId> = with.iter().chain(&without).copied().collect();
                let finding = self
                    .finding(&REFERENCE_DIFFERS, Level::Note, &nodes, found)
                    .will("a parent deleted where nothing refers to it leaves children behind that the others refuse");
                self.desk.find(finding);
            }
        }
    }

    /// Rules for values, between nodes of one engine, which prints them alike.
    fn checks(&mut self) {
        for engine in [Engine::MariaDb, Engine::Postgres] {
            let told = self.looks.iter().filter(|(_, (of, _))| *of == engine);
            let told =
                told.filter_map(|(node, (_, look))| Some((*node, look.checks.as_ref().ok()?)));
            let groups = grouped(told.map(|(node, checks)| (node, checks.clone())));
            if groups.len() < 2 {
                continue;
            }
            let said = |checks: &Vec<String>| match checks.is_empty() {
                true => "no rule for values".to_owned(),
                false => checks.iter().map(|check| shortened(check)).collect::<Vec<_>>().join(", "),
            };
            let parts: Vec<String> = groups
                .iter()
                .map(|(checks, nodes)| format!("{} on {}", said(checks), self.names(nodes)))
                .collect();
            let nodes: Vec<NodeId> = groups.iter().flat_map(|(_, nodes)| nodes.clone()).collect();
            let links = self.apart(&groups);
            let finding = self
                .finding(&CHECKS_DIFFER, Level::Warn, &nodes, parts.join("; "))
                .on_links(links)
                .will("a row that one takes and the other refuses stops the link");
            self.desk.find(finding);
        }
    }

    /// Engines within the server that roll nothing back.
    fn storage(&mut self) {
        let kept: Vec<(NodeId, String)> = (self.looks.iter())
            .filter_map(|(node, (_, look))| Some((*node, look.shape.not_transactional.clone()?)))
            .collect();
        let groups = grouped(kept.into_iter());
        for (storage, nodes) in &groups {
            let alone = nodes.len() < self.looks.len();
            let found = format!(
                "it is kept by {storage} on {}, which rolls nothing back{}",
                self.names(nodes),
                if alone { "; elsewhere it is not" } else { "" }
            );
            let finding = self
                .finding(&ROLLS_NOTHING_BACK, Level::Warn, nodes, found)
                .will("a change that fails midway stays half done");
            self.desk.find(finding);
        }
    }

    fn split(&self, has: impl Fn(&TableLook) -> bool) -> (Vec<NodeId>, Vec<NodeId>) {
        self.looks.keys().partition(|node| has(&self.looks[*node].1))
    }

    /// What matters on a node whatever the others have.
    fn alone(&mut self) {
        for (node, (_, look)) in &self.looks.clone() {
            let into: Vec<_> = self.links.iter().copied().filter(|(_, to)| to == node).collect();
            if into.is_empty() {
                continue;
            }
            let triggers = match &look.replica_triggers {
                Ok(triggers) => triggers,
                Err(reason) => {
                    let what = format!("triggers of {}", self.table);
                    self.desk.could_not_look(Area::Shape, *node, &what, reason);
                    continue;
                }
            };
            if triggers.is_empty() {
                continue;
            }
            let who = match &triggers[..] {
                [one] => format!("trigger {one}"),
                all => format!("each of the triggers {}", all.join(", ")),
            };
            let found = format!(
                "{who} on {} fires on rows that replication applies",
                self.desk.name(*node)
            );
            let there = |(from, _): &(NodeId, NodeId)| {
                self.looks.get(from).is_some_and(|(_, source)| !source.shape.triggers.is_empty())
            };
            let effect = if into.iter().any(there) {
                "what it writes is written a second time, for every row that arrives"
            } else {
                "for every row that arrives it writes what no other node has"
            };
            let finding = self
                .finding(&TRIGGER_AGAIN, Level::Warn, &[*node], found)
                .on_links(into)
                .will(effect);
            self.desk.find(finding);
        }
    }
}

/// Calls columns by the names that the sets use.
fn in_common_names(desk: &CheckContext<'_>, node: NodeId, table: &str, look: &mut TableLook) {
    let Some(aliases) = desk.topology.nodes[node].column_names.get(table) else { return };
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
fn surplus(desk: &mut CheckContext<'_>) {
    let topology = desk.topology;
    let nodes = desk.nodes();
    let mut held: BTreeMap<String, Vec<NodeId>> = BTreeMap::new();
    let mut told = Vec::new();
    for (node, facts) in &nodes {
        let what = "which tables there are";
        let Some(tables) = desk.seen(Area::Shape, *node, what, &facts.all_tables) else { continue };
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
            desk.names(&nodes),
            if nodes.len() == 1 { "has" } else { "have" }
        );
        desk.find(Finding::new(&TABLE_SURPLUS, Level::Note, nodes, found));
    }
}

/// A rule as it reads in a sentence, cut where it gets long.
fn shortened(rule: &str) -> String {
    let kept: String = rule.chars().take(60).collect();
    if kept.len() < rule.len() { format!("{kept}...") } else { kept }
}
