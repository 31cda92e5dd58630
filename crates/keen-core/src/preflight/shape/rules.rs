//! Demands of a table on its rows: keys, unique values, references, constraints, triggers, the storage engine.

use super::{Groups, TableChecks, grouped, shortened};
use crate::observe::node::TableLook;
use crate::preflight::Severity;
use crate::preflight::legend::{
    Area, CHECKS_DIFFER, KEY_DIFFERS, KEY_MISSING, REFERENCE_DIFFERS, ROLLS_NOTHING_BACK,
    ROW_IDENTITY, TRIGGER_AGAIN, UNIQUE_DIFFERS,
};
use crate::preflight::names_rows_whole;
use crate::topology::{Engine, NodeId};

impl TableChecks<'_, '_> {
    pub(super) fn key(&mut self) {
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
                .finding(&KEY_DIFFERS, Severity::Stop, &nodes, found)
                .on_links(self.apart(&groups))
                .will("a change finds its row by the key: it will change a different row, several, or none");
            self.checks.find(finding);
        } else if !keyless.is_empty() {
            let found = format!("there is no key on {}", self.names(&keyless));
            let finding = self.finding(&KEY_MISSING, Severity::Warn, &keyless, found).will(
                "each change searches the whole table for its row; equal rows can only be counted",
            );
            self.checks.find(finding);
        }
        for (node, (engine, look)) in &self.looks.clone() {
            let sends = self.links.iter().any(|(from, _)| from == node);
            if *engine != Engine::Postgres || !sends {
                continue;
            }
            let named = look.named_by.as_deref();
            let no_primary = named == Some("nothing");
            if no_primary && !self.checks.facts(*node).is_some_and(|facts| facts.standby) {
                let name = self.checks.topology.nodes[*node].name_of(self.table);
                let rows = if look.partitioned { "rows of partitions" } else { "rows" };
                let finding = self
                    .finding(
                        &ROW_IDENTITY,
                        Severity::Stop,
                        &[*node],
                        format!("{rows} of {name} on {} do not identify their rows to subscribers", self.checks.name(*node)),
                    )
                    .will("as soon as it is published, every update and delete on it is refused there");
                let finding = names_rows_whole(finding, *node, look)
                    .advise(Some(*node), "or better, give it a primary key with the same values on every node: if each node numbers its rows itself, they differ");
                self.checks.find(finding);
            }
        }
    }

    pub(super) fn rules(&mut self) {
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
                    (Severity::Note, "nothing: no link leads to where it must be unique")
                } else {
                    (Severity::Warn, "a second row with the same values stops the link")
                };
                let finding = self
                    .finding(&UNIQUE_DIFFERS, level, &nodes, found)
                    .on_links(links)
                    .will(effect);
                self.checks.find(finding);
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
                    .finding(&REFERENCE_DIFFERS, Severity::Note, &nodes, found)
                    .will("a parent deleted where nothing refers to it leaves children that the others refuse");
                self.checks.find(finding);
            }
        }
    }

    /// Rules for values, between nodes of one engine, which prints them alike.
    pub(super) fn checks(&mut self) {
        for engine in [Engine::MariaDb, Engine::Postgres] {
            let told = self.looks.iter().filter(|(_, (of, _))| *of == engine);
            let told =
                told.filter_map(|(node, (_, look))| Some((*node, look.checks.as_ref().ok()?)));
            let groups = grouped(told.map(|(node, checks)| (node, checks.clone())));
            if groups.len() < 2 {
                continue;
            }
            let said = |checks: &Vec<String>| match checks.is_empty() {
                true => "no check constraint".to_owned(),
                false => checks.iter().map(|check| shortened(check)).collect::<Vec<_>>().join(", "),
            };
            let parts: Vec<String> = groups
                .iter()
                .map(|(checks, nodes)| format!("{} on {}", said(checks), self.names(nodes)))
                .collect();
            let nodes: Vec<NodeId> = groups.iter().flat_map(|(_, nodes)| nodes.clone()).collect();
            let links = self.apart(&groups);
            let finding = self
                .finding(&CHECKS_DIFFER, Severity::Warn, &nodes, parts.join("; "))
                .on_links(links)
                .will("a row that one node accepts and the other refuses stops the link");
            self.checks.find(finding);
        }
    }

    /// Engines within the server that roll nothing back.
    pub(super) fn storage(&mut self) {
        let kept: Vec<(NodeId, String)> = (self.looks.iter())
            .filter_map(|(node, (_, look))| Some((*node, look.shape.not_transactional.clone()?)))
            .collect();
        let groups = grouped(kept.into_iter());
        for (storage, nodes) in &groups {
            let alone = nodes.len() < self.looks.len();
            let found = format!(
                "its storage engine on {} is {storage}, which has no transactions{}",
                self.names(nodes),
                if alone { "; other nodes use one that has" } else { "" }
            );
            let finding = self
                .finding(&ROLLS_NOTHING_BACK, Severity::Warn, nodes, found)
                .will("a change that fails midway stays half done");
            self.checks.find(finding);
        }
    }

    /// Checks that matter on a node whatever the others have.
    pub(super) fn alone(&mut self) {
        for (node, (_, look)) in &self.looks.clone() {
            let into: Vec<_> = self.links.iter().copied().filter(|(_, to)| to == node).collect();
            if into.is_empty() {
                continue;
            }
            let triggers = match &look.replica_triggers {
                Ok(triggers) => triggers,
                Err(fault) => {
                    let what = format!("triggers of {}", self.table);
                    self.checks.could_not_look(Area::Shape, *node, &what, fault);
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
                self.checks.name(*node)
            );
            let there = |(from, _): &(NodeId, NodeId)| {
                self.looks.get(from).is_some_and(|(_, source)| !source.shape.triggers.is_empty())
            };
            let effect = if into.iter().any(there) {
                "what it writes is written a second time, for every row that arrives"
            } else {
                "for every row that arrives it writes something that no other node has"
            };
            let finding = self
                .finding(&TRIGGER_AGAIN, Severity::Warn, &[*node], found)
                .on_links(into)
                .will(effect);
            self.checks.find(finding);
        }
    }
}
