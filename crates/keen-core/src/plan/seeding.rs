//! The plan that fills a node from another: its tables are copied as of one moment, and every link that leads to it goes
//! on from there.
//!
//! Nobody has to stop writing. What the node itself wrote has reached the source before the moment, and its tables are
//! locked until it is as its source was; what the source and others write afterwards comes over the links. Where the
//! topology leaves a case in which that is not enough, there is no plan, and the reason is told.

use std::collections::BTreeMap;

use super::copy::{CopiedLink, CopiedSlot, CopiedTable, SourceFollows, TableCopy, copied_columns};
use super::setup_steps::{ARRIVES_WITHIN, SetupAct, SetupPlan, SetupStep};
use crate::engine::service_tables;
use crate::observe::node::{Incoming, NodeFacts, NodeInspection, Observed, ReplicationKind, Slot};
use crate::observe::node::{TableLook, WorkerState};
use crate::row::schema::TableShape;
use crate::seed::join::JoinComparison;
use crate::seed::steps::{FoundLink, hazard_of_copy};
use crate::setup::{OFF, ON};
use crate::topology::{Engine, NodeId, Topology};

/// Rows of each table of a receiver against its source's.
pub type ComparedTables = [(String, Observed<JoinComparison>)];

/// A node that is filled from another, and what was observed of all nodes.
#[derive(Debug)]
pub struct SeedRequest<'a> {
    /// The topology.
    pub topology: &'a Topology,
    /// The looks at all nodes.
    pub looks: &'a BTreeMap<NodeId, NodeInspection>,
    /// The source.
    pub from: NodeId,
    /// The node that is filled.
    pub node: NodeId,
    /// Links to it that are made before it is filled, by their sources.
    pub new: &'a [(NodeId, Incoming)],
    /// Nobody follows it yet, so what it wrote before is not waited for.
    pub new_writer: bool,
    /// What it holds otherwise than its source.
    pub compared: &'a ComparedTables,
    /// How many steps the plan has already.
    pub before: u64,
}

impl SeedRequest<'_> {
    fn name(&self, node: NodeId) -> &str {
        &self.topology.nodes[node].name
    }

    fn facts(&self, node: NodeId) -> Option<&NodeFacts> {
        self.looks.get(&node)?.facts.as_deref()
    }

    /// The plan.
    ///
    /// # Errors
    /// Why there is none: what the copy would lose or break, or what could not be seen.
    pub fn plan(&self) -> Result<SetupPlan, String> {
        let (node, from) = (self.node, self.from);
        let (name, source_name) = (self.name(node), self.name(from));
        let unseen = |of: NodeId| format!("{} could not be looked at", self.name(of));
        let there = self.facts(node).ok_or_else(|| unseen(node))?;
        let source = self.facts(from).ok_or_else(|| unseen(from))?;
        if there.engine != source.engine {
            return Err(format!(
                "{name} and {source_name} are of different engines: keen plan repairs the differences row by row"
            ));
        }
        if there.standby {
            return Err(format!(
                "{name} is a standby, which holds what its primary holds: keen preflight --join says how it is made anew"
            ));
        }
        if source.standby {
            return Err(format!(
                "{source_name} is a standby, of which no position can be had that links go on from: seed from its primary"
            ));
        }
        let (hazard, mut links) =
            hazard_of_copy(self.topology, self.looks, (node, there), (from, source));
        links.extend(self.new.iter().map(|(from, link)| (node, Some(*from), link.clone())));
        if let Some(hazard) = hazard {
            return Err(hazard);
        }
        let tables = self.tables(there, source)?;
        let copied = self.links(&links, &tables, there)?;
        let delivers = self.topology.links.iter().any(|l| (l.from, l.to) == (node, from));
        if self.topology.nodes[node].writes && !delivers {
            return Err(format!(
                "what {name} writes has no link of its own to {source_name}, so nothing can tell that all of it is there: keen plan repairs the differences row by row"
            ));
        }
        Ok(self.made(tables, copied))
    }

    /// The tables of all sets that both carry, and what is copied of each.
    fn tables(&self, there: &NodeFacts, source: &NodeFacts) -> Result<Vec<CopiedTable>, String> {
        let (node, from) = (self.node, self.from);
        let topology = self.topology;
        let sets = (0..topology.sets.len()).filter(|set| {
            let carriers = topology.carriers(*set);
            carriers.contains(&node) && carriers.contains(&from)
        });
        let mut names: Vec<&String> = sets.flat_map(|set| &topology.sets[set].tables).collect();
        names.sort();
        names.dedup();
        let look = |facts: &'_ NodeFacts, table: &String| -> Option<TableShape> {
            let look: &TableLook = facts.tables.get(table)?.as_ref().ok()?.there()?;
            Some(look.shape.clone())
        };
        let mut tables = Vec::new();
        for table in names {
            let (Some(here), Some(at_source)) = (look(there, table), look(source, table)) else {
                return Err(format!("{table} could not be read on both: keen preflight says why"));
            };
            for (of, shape) in [(node, &here), (from, &at_source)] {
                if let Some(storage) = &shape.not_transactional {
                    return Err(format!(
                        "{table} on {} is kept by {storage}, which rolls nothing back and has no moment",
                        self.name(of)
                    ));
                }
            }
            if let Some(why) = here.untouchable.as_ref().or(here.firing_unseen.as_ref()) {
                return Err(format!("{table} on {}: {why}", self.name(node)));
            }
            if let Some(trigger) = here.firing.first() {
                return Err(format!(
                    "trigger {} of {table} on {} would fire for every row that is copied",
                    trigger.name,
                    self.name(node)
                ));
            }
            let columns = copied_columns(&at_source, &here).map_err(|why| {
                format!("{table}: {why}; keen plan --kind shape says what makes them alike")
            })?;
            tables.push(CopiedTable { table: table.clone(), columns });
        }
        self.references(there, &tables)?;
        if there.engine == Engine::MariaDb {
            self.carried_besides(there, source, &tables)?;
        }
        Ok(tables)
    }

    /// A reference into or out of what is copied would lead nowhere, for all that anybody knows.
    fn references(&self, there: &NodeFacts, tables: &[CopiedTable]) -> Result<(), String> {
        let node = &self.topology.nodes[self.node];
        let last = |name: &str| name.rsplit('.').next().unwrap_or(name).to_owned();
        let names: Vec<String> =
            tables.iter().map(|copied| last(node.name_of(&copied.table))).collect();
        for copied in tables {
            let look = there.tables.get(&copied.table).and_then(|look| look.as_ref().ok()?.there());
            let Some(TableLook { shape, .. }) = look else { continue };
            let others = shape.references.iter().map(|to| (&copied.table, &to.table));
            let others =
                others.chain(shape.referred_by.iter().map(|by| (&by.table, &copied.table)));
            for (from, to) in others {
                if !names.contains(&last(node.name_of(from)))
                    || !names.contains(&last(node.name_of(to)))
                {
                    return Err(format!(
                        "on {} {from} refers to {to}, and only one of them is in the sets: references could lead nowhere; add the other",
                        node.name
                    ));
                }
            }
        }
        Ok(())
    }

    /// A MariaDB position stands for everything that is written on a server, not for some tables.
    fn carried_besides(
        &self,
        there: &NodeFacts,
        source: &NodeFacts,
        tables: &[CopiedTable],
    ) -> Result<(), String> {
        // The receiver may hold nothing that is not copied; its source also what belongs to other nodes.
        let copied: Vec<&String> = tables.iter().map(|copied| &copied.table).collect();
        let in_a_set: Vec<&String> =
            self.topology.sets.iter().flat_map(|set| &set.tables).collect();
        for (node, facts, known) in [(self.node, there, &copied), (self.from, source, &in_a_set)] {
            let name = self.name(node);
            let all = facts.all_tables.as_ref().map_err(|fault| {
                format!("it could not be seen which tables {name} has: {}", fault.what)
            })?;
            let heartbeat = self.topology.heartbeat.as_ref();
            let is_known = |table: &&String| {
                let last = table.rsplit('.').next().unwrap_or(table);
                let is = |known: &&String| {
                    let local = self.topology.nodes[node].name_of(known);
                    local.eq_ignore_ascii_case(table)
                        || local.rsplit('.').next().is_some_and(|l| l.eq_ignore_ascii_case(last))
                };
                known.iter().any(is)
                    || heartbeat.iter().any(is)
                    || [service_tables::TABLE, service_tables::MARKS].contains(&last)
            };
            if let Some(other) = all.iter().find(|table| !is_known(table)) {
                return Err(format!(
                    "{name} also has table {other}, which is not copied: what was written to it meanwhile could be passed over; add it to a set that both carry"
                ));
            }
        }
        Ok(())
    }

    /// The links that lead to the node, as they go on after the copy.
    fn links(
        &self,
        known: &[FoundLink],
        tables: &[CopiedTable],
        there: &NodeFacts,
    ) -> Result<Vec<CopiedLink>, String> {
        let name = self.name(self.node);
        if there.engine == Engine::Postgres
            && let Some((to, _, link)) = known
                .iter()
                .find(|(_, from, link)| *from == Some(self.node) && !link.own_writes_only)
        {
            return Err(format!(
                "subscription {} of {} takes over whatever happens on {name}, and the copy would travel on: set its origin to none (PostgreSQL 16 and newer), or follow the steps of keen preflight --join",
                link.name,
                self.name(*to)
            ));
        }
        let own = known.iter().filter(|(to, ..)| *to == self.node);
        own.map(|(_, from, link)| self.link(known, *from, link, tables)).collect()
    }

    fn link(
        &self,
        known: &[FoundLink],
        from: Option<NodeId>,
        link: &Incoming,
        tables: &[CopiedTable],
    ) -> Result<CopiedLink, String> {
        let name = self.name(self.node);
        let Some(from) = from else {
            return Err(format!(
                "the source of link {} of {name} is not a node in the file: where it would have to go on is not known",
                link.name
            ));
        };
        let copied =
            |is: &str, slot| CopiedLink { link: link.name.clone(), from, is: is.to_owned(), slot };
        match link.means {
            ReplicationKind::BinaryLog => {
                // One that stopped at something is switched on all the same.
                let stopped = [link.receiving, link.applying] == [WorkerState::Stopped; 2];
                Ok(copied(if stopped { OFF } else { ON }, None))
            }
            ReplicationKind::Subscription => {
                let is = if link.receiving == WorkerState::Stopped { OFF } else { ON };
                Ok(copied(is, Some(self.slot(known, from, link, tables)?)))
            }
            ReplicationKind::Pglogical | ReplicationKind::Streaming | ReplicationKind::StandIn => {
                Err(format!(
                    "keen cannot say where the {} {} of {name} would go on: keen plan repairs the differences row by row",
                    link.means.words(),
                    link.name
                ))
            }
        }
    }

    fn slot(
        &self,
        known: &[FoundLink],
        from: NodeId,
        link: &Incoming,
        tables: &[CopiedTable],
    ) -> Result<CopiedSlot, String> {
        let Some(name) = link.source.slot.clone() else {
            return Err(format!("subscription {} has no slot: make it anew by hand", link.name));
        };
        let Some(Ok(slots)) = self.facts(from).map(|facts| &facts.slots) else {
            return Err(format!("the slots of {} could not be read", self.name(from)));
        };
        let taken = link.tables.as_deref().unwrap_or_default();
        if let Some(table) = taken.iter().find(|table| !table.ready) {
            return Err(format!(
                "{} still copies {} itself: wait until it is done",
                link.name, table.table
            ));
        }
        let is_copied = |other: &str| {
            let last = other.rsplit('.').next().unwrap_or(other);
            let of_node = |table: &CopiedTable| {
                self.topology.nodes[self.node].name_of(&table.table).to_owned()
            };
            tables.iter().map(of_node).any(|table| table == other || table == last)
        };
        if let Some(table) = taken.iter().find(|table| !is_copied(&table.table)) {
            return Err(format!(
                "{} also brings {}, which is not copied: what was written to it meanwhile would be passed over; add it to a set",
                link.name, table.table
            ));
        }
        let usable =
            |slot: &Slot| slot.name == name && slot.log.as_deref().is_none_or(|log| log != "lost");
        let through = match from == self.from {
            true => None,
            false => {
                let follows = known
                    .iter()
                    .find(|(to, of, _)| *to == self.from && *of == Some(from))
                    .and_then(|(_, _, link)| {
                        let slot = link.source.slot.clone()?;
                        Some(SourceFollows { link: link.name.clone(), slot })
                    });
                Some(follows.ok_or_else(|| {
                    format!(
                        "{} follows {}, and {} does not follow it itself: how much of it the copy would have is not known",
                        self.name(self.node),
                        self.name(from),
                        self.name(self.from)
                    )
                })?)
            }
        };
        Ok(CopiedSlot { usable: slots.iter().any(usable), name, through })
    }

    fn made(&self, tables: Vec<CopiedTable>, links: Vec<CopiedLink>) -> SetupPlan {
        let (node, from) = (self.node, self.from);
        let (name, source) = (self.name(node), self.name(from));
        let mut plan = SetupPlan::default();
        let copy = self.before + 1;
        let step = |purpose: String, depends_on, act| SetupStep {
            depends_on,
            ..SetupStep::of(node, purpose, act)
        };
        let sources: Vec<NodeId> = links.iter().map(|link| link.from).collect();
        let act = SetupAct::Copy(TableCopy { from, tables, links, new_writer: self.new_writer });
        let purpose =
            format!("{name} holds what {source} held at one moment, and goes on from there");
        plan.steps.push(SetupStep { loses: self.loses(), ..step(purpose, Vec::new(), act) });
        for from in sources {
            let act = SetupAct::Wait { from, at_most: ARRIVES_WITHIN };
            plan.steps.push(step("changes arrive again".to_owned(), vec![copy], act));
        }
        let act = SetupAct::Check { findings: Vec::new(), same_as: Some(from) };
        plan.steps.push(step(format!("{name} holds what {source} holds"), vec![copy], act));
        plan.notes.push(format!(
            "only rows of the tables above are copied: accounts, views and whatever else {name} lacks are not"
        ));
        if self.new_writer {
            plan.notes.push(format!(
                "let applications write to {name} only when all is done: what they write there before the copy is kept in a file and overwritten"
            ));
        } else if self.topology.nodes[node].writes {
            plan.notes.push(format!(
                "applications that write to these tables on {name} wait while it is copied, and may give up; what they wrote before has reached {source} by then, or nothing is copied"
            ));
        }
        if self.facts(from).is_some_and(|facts| facts.engine == Engine::Postgres) {
            plan.notes.push(format!(
                "to begin the copy these tables on {source} are locked for an instant: who writes to them waits, and so does the copy for who is writing, at most as --lock-timeout says, up to five times"
            ));
        }
        if self.facts(node).is_some_and(|facts| facts.incoming.is_err()) {
            plan.notes.push(format!(
                "what brings changes to {name} is not known: stop it before the copy, and let it go on from there"
            ));
        }
        for (table, compared) in self.compared {
            if let Err(fault) = compared {
                plan.incomplete = true;
                plan.notes.push(format!("{table} could not be compared: {fault}"));
            }
        }
        plan
    }

    /// The rows that the node would lose, as far as they were compared.
    fn loses(&self) -> Option<String> {
        let held =
            self.compared.iter().filter_map(|(table, held)| Some((table, held.as_ref().ok()?)));
        let told = |held: &JoinComparison| {
            let parts = [
                (held.only_here, "only there"),
                (held.otherwise, "otherwise"),
                (held.unsettled, "that differ while something is on its way"),
            ];
            let parts = parts.iter().filter(|(count, _)| *count > 0);
            parts.map(|(count, what)| format!("{count} {what}")).collect::<Vec<_>>().join(", ")
        };
        let lost: Vec<String> = held
            .filter(|(_, held)| held.only_here + held.otherwise + held.unsettled > 0)
            .map(|(table, held)| format!("of {table} {}", told(held)))
            .collect();
        let (name, source) = (self.name(self.node), self.name(self.from));
        (!lost.is_empty()).then(|| {
            format!(
                "what {name} holds and {source} does not ({}); it is kept in a file first",
                lost.join("; ")
            )
        })
    }
}
