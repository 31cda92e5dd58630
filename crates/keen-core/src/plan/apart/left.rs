//! What links leave behind when they go: slots, publications, and what keen itself keeps on a node.

use std::collections::BTreeSet;

use super::{FoundAt, Leftover, Taking};
use crate::engine::service_tables;
use crate::history::journal::REPAIR_ORIGIN;
use crate::observe::node::{Publication, ReplicationKind, Slot};
use crate::plan::setup_steps::{SetupAct, SetupStep};
use crate::setup::{EMPTY, IDLE, SetupChange, Subject};
use crate::topology::{Address, Engine, NodeId};

impl<'a> Taking<'a, '_> {
    /// The slots that the subscriptions read which are gone.
    pub(super) fn slots_of_links(&mut self) {
        for (at, number) in self.gone.clone() {
            let (to, from, link) = &self.found[at];
            let Some(slot) = link.source.slot.clone() else { continue };
            if link.means != ReplicationKind::Subscription {
                continue;
            }
            let away: BTreeSet<NodeId> = self
                .topology()
                .links
                .iter()
                .filter(|l| l.to == *to && self.facts(l.from).is_none())
                .map(|l| l.from)
                .collect();
            // A slot of that name may be somebody else's: it is only dropped where there is no other choice.
            let unplaced = self.found.iter().filter(|(at, of, _)| at == to && of.is_none());
            let source = from.or(match (away.len(), unplaced.count()) {
                (1, 1) => away.first().copied(),
                _ => None,
            });
            let purpose = "nobody reads it any more, and it would hold back log".to_owned();
            let step = match source {
                Some(source) => self.slot_step(source, slot, IDLE.to_owned(), purpose),
                None => {
                    let what = format!(
                        "where subscription {} came from: drop slot {slot}, if nobody reads it",
                        link.name
                    );
                    let act = SetupAct::ByHand { what, done: Vec::new() };
                    SetupStep::of(*to, purpose, act)
                }
            };
            self.plan.steps.push(SetupStep { depends_on: vec![number], ..step });
        }
    }

    fn slot_step(&self, node: NodeId, slot: String, state: String, purpose: String) -> SetupStep {
        let subject = Subject::Slot { slot };
        let change = SetupChange { subject, before: Some(state), after: None, pauses: Vec::new() };
        SetupStep::of(node, purpose, SetupAct::Change(change))
    }

    /// The nodes at which something may be left: ends of links that go, and nodes that go.
    fn concerned(&self) -> BTreeSet<NodeId> {
        let mut nodes = self.whole_nodes();
        let links = &self.topology().links;
        let feeds: Vec<NodeId> =
            links.iter().filter(|l| nodes.contains(&l.to)).map(|l| l.from).collect();
        nodes.extend(feeds);
        nodes.extend(self.gone.keys().filter_map(|at| self.found[*at].1));
        nodes
    }

    /// The slots of a node that belong to no link that is known, and whether somebody reads them.
    pub(super) fn slots_of_nobody(&self, node: NodeId) -> Vec<&'a Slot> {
        let Some(Ok(slots)) = self.facts(node).map(|facts| &facts.slots) else { return Vec::new() };
        let Address::Server(server) = &self.topology().nodes[node].at else { return Vec::new() };
        let of_link = |slot: &Slot| {
            self.found.iter().any(|(_, from, link)| {
                *from == Some(node) && link.source.slot.as_deref() == Some(&slot.name)
            })
        };
        let ours = |slot: &&Slot| slot.database.as_ref() == Some(&server.database);
        slots.iter().filter(ours).filter(|slot| !of_link(slot)).collect()
    }

    pub(super) fn slots(&mut self) {
        for node in self.concerned() {
            for slot in self.slots_of_nobody(node) {
                if slot.active || self.takes_away(&Subject::Slot { slot: slot.name.clone() }, node)
                {
                    continue;
                }
                let name = self.name(node);
                if !self.request.removes.contains(&Leftover::Slot(slot.name.clone())) {
                    self.note(format!(
                        "slot {0} on {name} stays: nobody reads it now, and who does is not known (--remove slot:{0} takes it away)",
                        slot.name
                    ));
                    continue;
                }
                let subject = Subject::Slot { slot: slot.name.clone() };
                match (self.read)(node, &subject) {
                    Ok(Some(state)) if state.starts_with(IDLE) => {
                        let purpose = "it was asked for by its name".to_owned();
                        let step = self.slot_step(node, slot.name.clone(), state, purpose);
                        let loses = format!(
                            "the log that it keeps for its reader{}: whoever reads it has to be filled anew before it follows {name} again",
                            self.may_be_of(node)
                        );
                        self.plan.steps.push(SetupStep { loses: Some(loses), ..step });
                    }
                    Ok(_) => {}
                    Err(fault) => self.unseen(&format!("slot {}", slot.name), node, &fault),
                }
            }
        }
    }

    /// Slots that were asked for by a name that no step drops.
    pub(super) fn slots_not_found(&mut self) {
        for leftover in self.request.removes {
            let Leftover::Slot(name) = leftover else { continue };
            let subject = Subject::Slot { slot: name.clone() };
            let drops = |step: &SetupStep| matches!(&step.act, SetupAct::Change(change) if change.subject == subject);
            if !self.plan.steps.iter().any(drops) {
                self.stays(format!(
                    "no slot {name} is dropped: none of that name was found beside these links that nobody reads"
                ));
            }
        }
    }

    /// Receivers that could not be asked whether a slot is theirs.
    fn may_be_of(&self, node: NodeId) -> String {
        let links = self.topology().links.iter();
        let hidden: BTreeSet<&str> = links
            .filter(|l| l.from == node && self.facts(l.to).is_none())
            .map(|l| self.name(l.to))
            .collect();
        match hidden.is_empty() {
            true => String::new(),
            false => {
                format!(", which may be {}", hidden.into_iter().collect::<Vec<_>>().join(" or "))
            }
        }
    }

    /// A step takes it away already.
    pub(super) fn takes_away(&self, subject: &Subject, node: NodeId) -> bool {
        self.plan.steps.iter().any(|step| {
            step.node == node
                && matches!(&step.act, SetupAct::Change(change) if change.subject == *subject)
        })
    }

    pub(super) fn publications(&mut self) {
        let asked = self.request.removes.contains(&Leftover::Publications);
        for node in self.concerned() {
            let Some(Ok(publications)) = self.facts(node).map(|facts| &facts.publications) else {
                continue;
            };
            for publication in publications {
                let takers: Vec<FoundAt> = (0..self.found.len())
                    .filter(|at| {
                        let (_, from, link) = &self.found[*at];
                        from.is_none_or(|from| from == node)
                            && link.publications.contains(&publication.name)
                    })
                    .collect();
                let stays = takers.iter().any(|at| !self.gone.contains_key(at));
                let is_ours = !takers.is_empty() || self.is_of_sets(node, publication);
                if stays || !is_ours {
                    continue;
                }
                self.publication(node, publication, &takers, asked);
            }
        }
    }

    /// All that it offers is in the sets.
    fn is_of_sets(&self, node: NodeId, publication: &Publication) -> bool {
        let node = &self.topology().nodes[node];
        let last = |name: &str| name.rsplit('.').next().unwrap_or(name).to_owned();
        let sets = &self.topology().sets;
        let tables: Vec<String> = sets
            .iter()
            .flat_map(|set| &set.tables)
            .map(|table| last(node.name_of(table)))
            .collect();
        !publication.tables.is_empty()
            && publication.tables.iter().all(|published| tables.contains(&last(&published.table)))
    }

    fn publication(
        &mut self,
        node: NodeId,
        publication: &Publication,
        takers: &[FoundAt],
        asked: bool,
    ) {
        let (name, node_name) = (&publication.name, self.name(node));
        let readers: Vec<&str> =
            self.slots_of_nobody(node).into_iter().map(|slot| &slot.name[..]).collect();
        if !readers.is_empty() {
            let readers = readers.join(", ");
            return self.note(format!(
                "publication {name} on {node_name} stays: whoever reads slot {readers} there may take it"
            ));
        }
        if !asked {
            return self.note(format!(
                "publication {name} on {node_name} stays (--remove publication takes it away)"
            ));
        }
        let subject = Subject::Publication { publication: name.clone() };
        match (self.read)(node, &subject) {
            Ok(Some(state)) => {
                let change =
                    SetupChange { subject, before: Some(state), after: None, pauses: Vec::new() };
                let depends_on =
                    takers.iter().filter_map(|at| self.gone.get(at)).copied().collect();
                let step =
                    SetupStep::of(node, "nobody takes it any more", SetupAct::Change(change));
                self.plan.steps.push(SetupStep { depends_on, ..step });
            }
            Ok(None) => {}
            Err(fault) => self.unseen(&format!("publication {name}"), node, &fault),
        }
    }

    /// What keen itself left on the nodes that go.
    pub(super) fn of_keen(&mut self) {
        for node in self.whole_nodes() {
            let Some(facts) = self.facts(node) else { continue };
            if facts.standby {
                continue;
            }
            let marks = || Subject::ServiceTable { table: vec![service_tables::MARKS.to_owned()] };
            let (subject, leftover, option) = match facts.engine {
                Engine::Postgres => {
                    let origin = Subject::Origin { origin: REPAIR_ORIGIN.to_owned() };
                    (origin, Leftover::Origins, "origin")
                }
                Engine::MariaDb => (marks(), Leftover::ServiceTables, "service-table"),
                Engine::Sqlite => continue,
            };
            let name = self.name(node);
            let state = match (self.read)(node, &subject) {
                Ok(Some(state)) => state,
                Ok(None) => continue,
                Err(fault) => {
                    self.unseen(&subject.to_string(), node, &fault);
                    continue;
                }
            };
            if !self.request.removes.contains(&leftover) {
                self.note(format!("{subject} on {name} stays (--remove {option} takes it away)"));
                continue;
            }
            let is_table = matches!(subject, Subject::ServiceTable { .. });
            if is_table && state != EMPTY {
                self.note(format!("{subject} on {name} stays: a plan is under way there"));
                continue;
            }
            let change =
                SetupChange { subject, before: Some(state), after: None, pauses: Vec::new() };
            // The number of an origin is given to another, and old log names origins by their numbers.
            let loses = (!is_table).then(|| {
                "the marks of batches: a plan that was not carried out to its end here can no longer tell which of its rows are written; and repairs in the log as it is now may be read as the writes of whoever gets the origin's number next"
                    .to_owned()
            });
            let step = SetupStep::of(node, "keen keeps its marks there", SetupAct::Change(change));
            // Where a link stays, keen may still have to mend.
            let depends_on = self.gone.values().copied().collect();
            self.plan.steps.push(SetupStep { loses, depends_on, ..step });
        }
    }
}
