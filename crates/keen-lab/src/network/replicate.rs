//! The replicator: one step at a time, every running link carries what its receiver has not seen.

use keen_core::topology::NodeId;
use rand::RngExt;

use super::{Chances, Lab, LabError, LinkRun, StandInState, Tx, begin, links, sqlite};
use crate::carry;
use crate::journal::{self, LabTransaction, Recorded};
use crate::truth::LabFault;

/// Steps for which an overtaken transaction is held back.
const OVERTAKEN_FOR: i64 = 2;

impl Lab {
    /// One step: every running link carries what its receiver has not seen.
    /// Returns how many changes were applied.
    ///
    /// # Errors
    /// [`LabError`] when a node fails.
    pub fn step(&mut self) -> Result<u64, LabError> {
        self.step += 1;
        self.take_up_links()?;
        let mut applied = 0;
        for link in 0..self.links.len() {
            let run = &self.links[link];
            if run.state == StandInState::Running && !run.stuck && !run.detached {
                applied += self.carry(link)?;
            }
        }
        Ok(applied)
    }

    /// Steps until nothing moves any more; at most `limit` steps.
    ///
    /// # Errors
    /// [`LabError`] when a node fails.
    pub fn settle(&mut self, limit: u32) -> Result<(), LabError> {
        for _ in 0..limit {
            let held = self.links.iter().any(|link| !link.held.is_empty());
            if self.step()? == 0 && !held {
                break;
            }
        }
        Ok(())
    }

    fn carry(&mut self, link: usize) -> Result<u64, LabError> {
        let run = &self.links[link];
        let (from, to) = (run.from, run.to);
        let (began_at, held_before) = (run.read_to, run.held.clone());
        let entries = journal::read(
            &self.connections[from],
            run.read_to,
            self.step - run.delay_steps,
            run.per_step,
        )
        .map_err(|error| sqlite(&self.topology.nodes[from].name, error))?;
        if let Some(last) = entries.last() {
            self.links[link].read_to = last.position;
        }
        let due = |(step, _): &(i64, LabTransaction)| *step <= self.step;
        let (mut arriving, held): (Vec<_>, Vec<_>) =
            std::mem::take(&mut self.links[link].held).into_iter().partition(due);
        self.links[link].held = held;
        if entries.is_empty() && arriving.is_empty() {
            return Ok(0);
        }
        for entry in entries {
            let tx = Tx { origin: entry.origin.clone(), position: entry.origin_position };
            if self.decide(to, &tx) {
                self.links[link].held.push((self.step + OVERTAKEN_FOR, entry));
            } else {
                arriving.push((self.step, entry));
            }
        }
        let arriving = arriving.into_iter().map(|(_, entry)| entry).collect();
        let applied = self.apply_all(link, from, to, arriving)?;
        if applied.is_none() {
            // Somebody switched it off, or took it away: whoever switches it on again gets all of it.
            let run = &mut self.links[link];
            (run.read_to, run.held) = (began_at, held_before);
        }
        Ok(applied.unwrap_or(0))
    }

    /// Draws the fate of a transaction at a node, once; true means it is overtaken.
    fn decide(&mut self, to: NodeId, tx: &Tx) -> bool {
        if self.to_overtake.contains(&(to, tx.clone())) {
            return true;
        }
        let Chances { lose, double, overtake } = self.chances;
        let name = self.topology.nodes[to].name.clone();
        if (lose, double, overtake) == (0.0, 0.0, 0.0)
            || tx.origin == name
            || !self.decided.insert((to, tx.clone()))
        {
            return false;
        }
        if self.rng.random_bool(lose) {
            self.to_lose.insert((to, tx.clone()));
            self.record(LabFault::Lost, &name, tx.to_string());
        } else if self.rng.random_bool(double) {
            self.to_double.insert((to, tx.clone()));
            self.record(LabFault::Doubled, &name, tx.to_string());
        } else if self.rng.random_bool(overtake) {
            self.record(LabFault::Overtaken, &name, tx.to_string());
            return true;
        }
        false
    }

    /// How many changes were applied; none if the link does not run any more.
    fn apply_all(
        &mut self,
        link: usize,
        from: NodeId,
        to: NodeId,
        entries: Vec<LabTransaction>,
    ) -> Result<Option<u64>, LabError> {
        let receiver = self.topology.nodes[to].name.clone();
        let fail = |error| sqlite(&receiver, error);
        let [source, target] = self
            .connections
            .get_disjoint_mut([from, to])
            .map_err(|_| LabError::Unknown(receiver.clone()))?;
        let transaction = begin(target).map_err(fail)?;
        let LinkRun { number, read_to, .. } = self.links[link];
        if !links::still_runs(&transaction, number, read_to).map_err(fail)? {
            return Ok(None);
        }
        let mut applied = 0;
        for entry in entries {
            let tx = Tx { origin: entry.origin.clone(), position: entry.origin_position };
            if entry.origin == receiver || self.to_lose.contains(&(to, tx.clone())) {
                continue;
            }
            let mut position = None;
            for change in &entry.changes {
                let sets = self.links[link].carries.iter().map(|set| &self.topology.sets[*set]);
                let Some(set) = sets.into_iter().find(|set| set.tables.contains(&change.table))
                else {
                    continue;
                };
                let key = self.keys.get(&change.table).map_or(&[][..], Vec::as_slice);
                let through = carry::through_set(source, set, key, change).map_err(fail)?;
                let seen = journal::has_seen(
                    &transaction,
                    &entry.origin,
                    entry.origin_position,
                    change.number,
                )
                .map_err(fail)?;
                let Some(change) = through.filter(|_| !seen) else {
                    continue;
                };
                let local = self.topology.nodes[to].name_of(&change.table).to_owned();
                let times = if self.to_double.contains(&(to, tx.clone())) { 2 } else { 1 };
                for _ in 0..times {
                    let before = carry::apply(&transaction, &local, key, &change).map_err(fail)?;
                    let at = match position {
                        Some(at) => at,
                        None => journal::enter(
                            &transaction,
                            Some((&entry.origin, entry.origin_position)),
                            &receiver,
                            (entry.made_step, entry.made_at),
                            self.step,
                        )
                        .map_err(fail)?,
                    };
                    position = Some(at);
                    journal::enter_change(&transaction, at, &Recorded { before, ..change.clone() })
                        .map_err(fail)?;
                    applied += 1;
                }
            }
        }
        transaction.commit().map_err(fail)?;
        Ok(Some(applied))
    }
}
