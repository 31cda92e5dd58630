//! A ledger in memory: for runs that are kept nowhere, and the plain reading of what every ledger must do.

use std::collections::{BTreeMap, BTreeSet};

use keen_core::observe::links::{Baseline, Micros};
use keen_core::value::Value;
use keen_core::value::text::text_of;

use super::{
    Accepted, DayThen, EndNames, KeptFinding, KeptLink, KeptLook, Ledger, LedgerFault, LedgerRun,
    LinkThen, MOST_PROOFS, NodeThen, Proof, RUNS_KEPT, Raced, RunRecord, RunThen, SlotThen,
    TableThen, conflict_id,
};

/// The runs of all topologies.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MemoryLedger {
    /// The runs, in the order in which they were kept.
    runs: Vec<KeptRun>,
    last_id: i64,
    runs_kept: u32,
    topologies: BTreeMap<String, OfTopology>,
}

/// A run and what it saw.
#[derive(Debug, Clone, PartialEq, Eq)]
struct KeptRun {
    topology: String,
    run: RunThen,
    record: RunRecord,
}

/// The notes that outlive the runs of one topology.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct OfTopology {
    conflicts: BTreeMap<String, Raced>,
    accepted: BTreeMap<String, Accepted>,
    proofs: BTreeMap<String, Proof>,
    /// By scope.
    journals_read: BTreeMap<String, (Micros, Vec<u8>)>,
}

impl Default for MemoryLedger {
    fn default() -> Self {
        Self { runs: Vec::new(), last_id: 0, runs_kept: RUNS_KEPT, topologies: BTreeMap::new() }
    }
}

impl MemoryLedger {
    /// Keeps no more than so many runs of a topology.
    #[must_use]
    pub fn keeping(self, runs_kept: u32) -> Self {
        Self { runs_kept, ..self }
    }

    /// The runs of a topology, the latest first.
    fn latest(&self, topology: &str) -> Vec<&KeptRun> {
        let mut runs: Vec<&KeptRun> =
            self.runs.iter().filter(|kept| kept.topology == topology).collect();
        runs.sort_by_key(|kept| std::cmp::Reverse((kept.run.started, kept.run.id)));
        runs
    }

    /// The runs of a topology, in the order in which they were kept.
    fn in_order(&self, topology: &str) -> impl DoubleEndedIterator<Item = &KeptRun> {
        self.runs.iter().filter(move |kept| kept.topology == topology)
    }

    /// Looks at a node that told anything, the latest first.
    fn told(&self, topology: &str, node: &str) -> Vec<&KeptLook> {
        let looks = self.in_order(topology).flat_map(|kept| {
            let looks = kept.record.looks.iter();
            looks.map(move |look| (kept.run.id, look))
        });
        let told = looks.filter(|(_, look)| look.node == node && look.fault.is_none());
        let mut told: Vec<(i64, &KeptLook)> = told.collect();
        told.sort_by_key(|(run, look)| std::cmp::Reverse((look.at, *run)));
        told.into_iter().map(|(_, look)| look).collect()
    }

    /// A link at each run, the last one kept first.
    fn link_looks(
        &self,
        topology: &str,
        (from, to): EndNames<'_>,
    ) -> impl Iterator<Item = (&RunThen, &KeptLink)> {
        let runs = self.in_order(topology).rev();
        runs.flat_map(|kept| kept.record.links.iter().map(move |link| (&kept.run, link))).filter(
            move |(_, link)| {
                link.source.as_deref() == Some(from) && link.receiver.as_deref() == Some(to)
            },
        )
    }

    fn of(&self, topology: &str) -> Option<&OfTopology> {
        self.topologies.get(topology)
    }
}

impl OfTopology {
    fn conflict(&mut self, conflict: &Raced) {
        let read = conflict.standing != "not all read";
        match self.conflicts.get_mut(&conflict.name) {
            None => drop(self.conflicts.insert(conflict.name.clone(), conflict.clone())),
            Some(kept) if read => {
                *kept = Raced {
                    proven: conflict.proven,
                    standing: conflict.standing.clone(),
                    lost: conflict.lost,
                    at: conflict.at,
                    ..kept.clone()
                };
            }
            Some(_) => {}
        }
    }

    fn proof(&mut self, proof: &Proof) {
        let length = |ids: &BTreeSet<String>| ids.iter().map(|id| id.chars().count() + 1).sum();
        let Some(kept) = self.proofs.get_mut(&proof.name) else {
            self.proofs.insert(proof.name.clone(), proof.clone());
            return;
        };
        let (then, now): (usize, usize) = (length(&kept.ids), length(&proof.ids));
        let otherwise = proof.standing != kept.standing || proof.lost != kept.lost;
        let says_more = now > then || (proof.ids == kept.ids && otherwise);
        if proof.standing != "not all read" && says_more {
            let (table, kind, thing) = (kept.table.clone(), kept.kind.clone(), kept.thing.clone());
            *kept = Proof { table, kind, thing, ..proof.clone() };
        }
    }
}

fn some<T>(all: impl Iterator<Item = T>, most: u32) -> Vec<T> {
    all.take(most as usize).collect()
}

impl Ledger for MemoryLedger {
    fn keep(&mut self, run: &LedgerRun<'_>, record: &RunRecord) -> Result<(), LedgerFault> {
        self.last_id += 1;
        let of = self.topologies.entry(run.topology.to_owned()).or_default();
        record.conflicts.iter().for_each(|conflict| of.conflict(conflict));
        record.proofs.iter().for_each(|proof| of.proof(proof));
        if let Some(read) = &record.journals_read {
            of.journals_read.insert(read.scope.clone(), (run.started, read.handed_on.clone()));
        }
        let kept = RunThen {
            id: self.last_id,
            command: run.command.to_owned(),
            started: run.started,
            took_ms: i64::try_from(run.took.as_millis()).unwrap_or(i64::MAX),
            exit: run.exit,
            summary: run.summary.to_owned(),
        };
        let topology = run.topology.to_owned();
        self.runs.push(KeptRun { topology, run: kept, record: record.clone() });
        let old = self.latest(run.topology).into_iter().skip(self.runs_kept as usize);
        let old: BTreeSet<i64> = old.map(|kept| kept.run.id).collect();
        self.runs.retain(|kept| !old.contains(&kept.run.id));
        Ok(())
    }

    fn accept(
        &mut self,
        topology: &str,
        id: &str,
        because: &str,
        at: Micros,
    ) -> Result<Option<Accepted>, LedgerFault> {
        let Some(of) = self.topologies.get_mut(topology) else { return Ok(None) };
        let mut conflicts = of.conflicts.values();
        let Some(conflict) = conflicts.find(|conflict| conflict_id(&conflict.name) == id) else {
            return Ok(None);
        };
        let accepted = Accepted {
            name: conflict.name.clone(),
            table: conflict.table.clone(),
            because: because.to_owned(),
            at,
            standing: conflict.standing.clone(),
            lost: conflict.lost as u64,
        };
        of.accepted.insert(conflict.name.clone(), accepted.clone());
        Ok(Some(accepted))
    }

    fn runs(&self, topology: &str, most: u32) -> Result<Vec<RunThen>, LedgerFault> {
        Ok(some(self.latest(topology).into_iter().map(|kept| kept.run.clone()), most))
    }

    fn findings_of(&self, run: i64) -> Result<Vec<KeptFinding>, LedgerFault> {
        let found = self.runs.iter().find(|kept| kept.run.id == run);
        Ok(found.map(|kept| kept.record.findings.clone()).unwrap_or_default())
    }

    fn link(
        &self,
        topology: &str,
        (from, to): EndNames<'_>,
        most: u32,
    ) -> Result<Vec<LinkThen>, LedgerFault> {
        let then = self.latest(topology).into_iter().flat_map(|kept| {
            let links = kept.record.links.iter().filter(|link| {
                link.source.as_deref() == Some(from) && link.receiver.as_deref() == Some(to)
            });
            links.map(|link| LinkThen {
                at: kept.run.started,
                name: link.name.clone(),
                state: link.state.clone(),
                reason: link.reason.clone(),
                gap: link.gap,
                unit: link.unit.clone(),
                late_ms: link.late_ms,
            })
        });
        Ok(some(then, most))
    }

    fn table(&self, topology: &str, table: &str, most: u32) -> Result<Vec<TableThen>, LedgerFault> {
        let then = self.latest(topology).into_iter().flat_map(|kept| {
            let audited = kept.record.audited.iter().filter(|audited| audited.table == table);
            audited.map(|audited| TableThen {
                at: kept.run.started,
                set: audited.set.clone(),
                verdict: audited.verdict.clone(),
                rows: audited.rows,
                divergent: audited.divergent,
                in_flight: audited.in_flight,
                moving: audited.moving,
                healed: audited.healed,
            })
        });
        Ok(some(then, most))
    }

    fn conflicts_by_day(
        &self,
        topology: &str,
        table: &str,
        most: u32,
    ) -> Result<Vec<DayThen>, LedgerFault> {
        const DAY: i64 = 86_400_000_000;
        let mut days: BTreeMap<Option<i64>, DayThen> = BTreeMap::new();
        let conflicts = self.of(topology).into_iter().flat_map(|of| of.conflicts.values());
        for conflict in conflicts.filter(|conflict| conflict.table == table) {
            let day = conflict.at.map(|at| at.div_euclid(DAY));
            let name = |day: i64| text_of(Value::Date(day).as_ref());
            let of = days.entry(day).or_insert_with(|| DayThen {
                day: day.map(name),
                conflicts: 0,
                apart: 0,
                lost: 0,
            });
            of.conflicts += 1;
            let apart = ["settled apart", "settled against the rules"];
            of.apart += u64::from(apart.contains(&&conflict.standing[..]));
            of.lost += conflict.lost as u64;
        }
        Ok(some(days.into_values().rev(), most))
    }

    fn journals_read(
        &self,
        topology: &str,
        scope: &str,
    ) -> Result<Option<(Micros, Vec<u8>)>, LedgerFault> {
        Ok(self.of(topology).and_then(|of| of.journals_read.get(scope)).cloned())
    }

    fn raced(&self, topology: &str) -> Result<Option<BTreeSet<String>>, LedgerFault> {
        let looked = self.in_order(topology).any(|kept| kept.run.command == "conflicts");
        let names = self.of(topology).map(|of| of.conflicts.keys().cloned().collect());
        Ok(names.filter(|_| looked))
    }

    fn accepted(&self, topology: &str) -> Result<BTreeMap<String, Accepted>, LedgerFault> {
        Ok(self.of(topology).map(|of| of.accepted.clone()).unwrap_or_default())
    }

    fn proofs(&self, topology: &str, since: Micros) -> Result<Vec<Proof>, LedgerFault> {
        let last = |proof: &Proof| proof.made.map(|(_, last)| last);
        let proofs = self.of(topology).into_iter().flat_map(|of| of.proofs.values());
        let late = proofs.filter(|proof| last(proof).unwrap_or(proof.seen) >= since);
        let mut late: Vec<&Proof> = late.collect();
        late.sort_by_key(|proof| std::cmp::Reverse(last(proof)));
        Ok(some(late.into_iter().cloned(), MOST_PROOFS))
    }

    fn last_look(&self, topology: &str, node: &str) -> Result<Option<Baseline>, LedgerFault> {
        let last = self.told(topology, node).into_iter().next();
        Ok(last.and_then(|look| look.baseline.clone()))
    }

    fn looks(&self, topology: &str, node: &str, most: u32) -> Result<Vec<NodeThen>, LedgerFault> {
        let looks = self.told(topology, node).into_iter().map(|look| NodeThen {
            at: look.at,
            position: look.baseline.as_ref().and_then(|look| look.position.clone()),
            standby: look.baseline.as_ref().is_some_and(|look| look.standby),
        });
        Ok(some(looks, most))
    }

    fn last_changes(
        &self,
        topology: &str,
        node: &str,
    ) -> Result<BTreeMap<String, Micros>, LedgerFault> {
        let mut last = BTreeMap::new();
        let looks = self.in_order(topology).flat_map(|kept| &kept.record.looks);
        for (table, at) in looks.filter(|look| look.node == node).flat_map(|look| &look.changed) {
            let last = last.entry(table.clone()).or_insert(*at);
            *last = (*last).max(*at);
        }
        Ok(last)
    }

    fn last_seen(&self, topology: &str, ends: EndNames<'_>) -> Result<Option<Micros>, LedgerFault> {
        let looks = self.link_looks(topology, ends).filter(|(_, link)| link.state != "dark");
        Ok(looks.filter_map(|(_, link)| link.seen).max())
    }

    fn arrivals(
        &self,
        topology: &str,
        ends: EndNames<'_>,
        most: u32,
    ) -> Result<Vec<Micros>, LedgerFault> {
        let brought =
            |link: &KeptLink| link.moved && ["flowing", "trailing"].contains(&&link.state[..]);
        let looks = self.link_looks(topology, ends).filter(|(_, link)| brought(link));
        Ok(some(looks.filter_map(|(_, link)| link.seen), most))
    }

    fn slots(&self, topology: &str, runs: u32) -> Result<Vec<SlotThen>, LedgerFault> {
        let newest = self.runs.iter().map(|kept| kept.run.id).max().unwrap_or(0);
        let late = self.in_order(topology).filter(|kept| kept.run.id > newest - i64::from(runs));
        let mut slots: Vec<SlotThen> = Vec::new();
        for kept in late {
            for look in &kept.record.looks {
                let Some(mark) = &look.baseline else { continue };
                slots.extend(mark.outlets.iter().map(|(slot, (confirmed, prepared))| SlotThen {
                    node: look.node.clone(),
                    slot: slot.clone(),
                    confirmed: confirmed.clone(),
                    prepared: *prepared,
                    counted_since: mark.counted_since.get(slot).cloned(),
                    at: kept.run.started,
                }));
            }
        }
        slots.sort_by(|one, other| (&one.node, &one.slot).cmp(&(&other.node, &other.slot)));
        Ok(slots)
    }

    fn last_agreement(&self, topology: &str, tables: u64) -> Result<Option<Micros>, LedgerFault> {
        let mut audits = self.in_order(topology).rev().filter(|kept| {
            let audited = kept.record.audited.len() as u64;
            kept.run.command == "audit" && kept.run.exit == 0 && audited >= tables
        });
        Ok(audits.next().map(|kept| kept.run.started))
    }

    fn last_writers(&self, topology: &str) -> Result<Vec<String>, LedgerFault> {
        let wrote = |kept: &KeptRun| {
            let wrote = kept.record.looks.iter().filter(|look| look.wrote);
            let mut nodes: Vec<String> = wrote.map(|look| look.node.clone()).collect();
            nodes.sort();
            nodes
        };
        let mut runs = self.in_order(topology).rev().map(wrote);
        Ok(runs.find(|nodes| !nodes.is_empty()).unwrap_or_default())
    }
}
