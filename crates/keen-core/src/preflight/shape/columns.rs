//! Columns: which there are, in which order, and how each is declared.

use std::collections::BTreeMap;

use super::{Groups, TableChecks, grouped};
use crate::engine::types;
use crate::observe::node::TableLook;
use crate::preflight::legend::{
    COLUMN_COLLATION, COLUMN_DEFAULT, COLUMN_GENERATED, COLUMN_MISSING, COLUMN_NULL, COLUMN_ORDER,
    COLUMN_SURPLUS, COLUMN_TYPE, Check,
};
use crate::preflight::{Finding, Severity};
use crate::row::conversion::{self, CommonKind};
use crate::row::schema::ColumnShape;
use crate::setup::Reach;
use crate::setup::column::ColumnDefinition;
use crate::topology::{Engine, NodeId};

/// Something of a column that servers of one kind should have alike.
struct Property<'p> {
    check: &'static Check,
    level: Severity,
    what: &'static str,
    of: &'p dyn Fn(&ColumnShape) -> Option<String>,
    /// A declaration with this of another; none where that takes a person.
    taken: &'p dyn Fn(&ColumnDefinition, &ColumnDefinition) -> Option<ColumnDefinition>,
}

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
        self.checks.find(self.put_in_order(finding, &groups));
    }

    /// What gives MariaDB's nodes the order that most nodes have, the first of those that as many have.
    fn put_in_order(&self, mut finding: Finding, groups: &Groups<Vec<String>>) -> Finding {
        let most = groups.iter().map(|(_, nodes)| nodes.len()).max();
        let Some((order, right)) = groups.iter().find(|(_, nodes)| Some(nodes.len()) == most)
        else {
            return finding;
        };
        let others: Vec<NodeId> = groups
            .iter()
            .flat_map(|(_, nodes)| nodes)
            .copied()
            .filter(|node| !right.contains(node) && self.looks[node].0 == Engine::MariaDb)
            .collect();
        for node in &others {
            finding = self.reordered(finding, *node, order);
        }
        if !finding.wants.is_empty() {
            finding = finding.advise(
                None,
                format!(
                    "values that were written before may stand in the wrong column, and those that are on their way meanwhile: then keen audit --table {}",
                    self.table
                ),
            );
        }
        finding
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
                let collation = Property {
                    check: &COLUMN_COLLATION,
                    level,
                    what: "collation",
                    of: &|c| c.collation.clone(),
                    // Another character set is more than another order: values may have no place in it. PostgreSQL has one
                    // for the whole database.
                    taken: &|own, right| {
                        let fits = engine != Engine::MariaDb
                            || own.character_set() == right.character_set();
                        fits.then(|| own.collated_as(right))
                    },
                };
                self.property(engine, &name, &collation);
                let default = Property {
                    check: &COLUMN_DEFAULT,
                    level: Severity::Note,
                    what: "default",
                    of: &|c| {
                        (!c.counted).then(|| c.default.clone().unwrap_or_else(|| "none".to_owned()))
                    },
                    taken: &|own, right| Some(own.defaulting_as(right)),
                };
                self.property(engine, &name, &default);
            }
        }
    }

    fn property(&mut self, engine: Engine, name: &str, property: &Property<'_>) {
        let values =
            self.looks.iter().filter(|(_, (e, _))| *e == engine).filter_map(|(node, (_, look))| {
                Some((*node, (property.of)(look.shape.column(name)?)?))
            });
        let groups = grouped(values);
        if groups.len() > 1 {
            let nodes: Vec<NodeId> = groups.iter().flat_map(|(_, nodes)| nodes.clone()).collect();
            let found = format!("column {name} has {} {}", property.what, self.spread(&groups));
            let links =
                if property.level == Severity::Warn { self.apart(&groups) } else { Vec::new() };
            let finding =
                self.finding(property.check, property.level, &nodes, found).on_links(links);
            let changes = self.as_most(name, &groups, property.taken);
            self.checks.find(self.mended_by(finding, name, changes));
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
        let finding =
            self.finding(&COLUMN_TYPE, level, &nodes, found).on_links(narrower).will(effect);
        let mut changes = self.widened(name, Engine::Postgres);
        changes.extend(self.widened(name, Engine::MariaDb));
        self.checks.find(self.mended_by(finding, name, changes));
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
        let (strict, lenient): (Vec<NodeId>, Vec<NodeId>) =
            nodes.into_iter().partition(|node| refuses(*node));
        // Where none of them is in the other's way, as many as not are no reason to change anything.
        let changes = match finding.links.is_empty() && strict.len() == lenient.len() {
            true => Vec::new(),
            false => self.refusing_alike(name, (&strict, &lenient)),
        };
        self.checks.find(self.mended_by(finding, name, changes));
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
