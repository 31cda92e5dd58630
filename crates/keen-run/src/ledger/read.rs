//! What earlier runs kept, read back.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use keen_core::links::Memory;
use keen_core::observe::links::{Baseline, InflowMark, Marks, Micros, SlotAnew};
use keen_core::observe::position::Position;
use keen_core::topology::{NodeId, Topology};
use rusqlite::{OptionalExtension as _, params};

use super::{Ledger, LedgerFault, own_of};

/// Earlier looks at a source that are remembered: enough for a day of looks every minute.
const LOOKS_REMEMBERED: i64 = 1500;
/// Times at which a site was seen to arrive that its pauses are told from.
const ARRIVALS: i64 = 200;

/// A run, as it was kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Kept {
    /// Its number.
    pub id: i64,
    /// The command.
    pub command: String,
    /// When it began.
    pub started: Micros,
    /// How long it took, in milliseconds.
    pub took_ms: i64,
    /// Its exit code.
    pub exit: u8,
    /// What it came to.
    pub summary: String,
}

/// A link at an earlier run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinkThen {
    /// When the run began.
    pub at: Micros,
    /// What the node called it.
    pub name: Option<String>,
    /// How it was.
    pub state: String,
    /// Why.
    pub reason: String,
    /// What it lacked, in `unit`.
    pub gap: Option<u64>,
    /// What is counted.
    pub unit: Option<String>,
    /// How late it was, in milliseconds.
    pub late_ms: Option<i64>,
}

/// A table at an earlier audit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TableThen {
    /// When the run began.
    pub at: Micros,
    /// Its set.
    pub set: String,
    /// What it came to.
    pub verdict: String,
    /// Rows read on all nodes.
    pub rows: u64,
    /// Rows that differed.
    pub divergent: u64,
    /// Rows on their way.
    pub in_flight: u64,
    /// Rows that were being written to.
    pub moving: u64,
    /// Rows that were equal at a second look.
    pub healed: u64,
}

/// The conflicts of one table whose last write was made on one day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DayThen {
    /// The day, in UTC, like `2026-09-25`; none for those whose time nobody told.
    pub day: Option<String>,
    /// How many there were.
    pub conflicts: u64,
    /// Of these so many whose standing was apart or against the rules when they were last seen.
    pub apart: u64,
    /// Writes that were lost in them.
    pub lost: u64,
}

fn position(text: Option<String>) -> Option<Position> {
    text.and_then(|text| text.parse().ok())
}

impl Ledger {
    /// The last looks that were kept, node by node, as what a new look is held against.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    pub fn marks(&self, topology: &Topology) -> Result<Marks, LedgerFault> {
        let mut marks = Marks::new();
        for (node, named) in topology.nodes.iter().enumerate() {
            let last = self
                .connection
                .query_row(
                    "SELECT l.run, l.at, l.position, l.standby, l.own FROM look l JOIN run r ON r.id = l.run \
                     WHERE l.node = ?1 AND r.topology = ?2 AND l.fault IS NULL ORDER BY l.at DESC LIMIT 1",
                    params![named.name, topology.name],
                    |row| {
                        Ok((
                            row.get::<_, i64>(0)?,
                            Baseline {
                                at: row.get(1)?,
                                position: position(row.get(2)?),
                                standby: row.get(3)?,
                                own: row.get::<_, Option<String>>(4)?.as_deref().and_then(own_of),
                                ..Baseline::default()
                            },
                        ))
                    },
                )
                .optional()?;
            let Some((run, mut mark)) = last else { continue };
            let mut inflows = self.connection.prepare_cached(
                "SELECT name, applied, received, failures, progress, heartbeats FROM inflow WHERE run = ?1 AND node = ?2",
            )?;
            let number = |number: i64| number.cast_unsigned();
            mark.inflows = inflows
                .query_map(params![run, named.name], |row| {
                    let mark = InflowMark {
                        applied: position(row.get(1)?),
                        received: position(row.get(2)?),
                        failures: row.get::<_, Option<i64>>(3)?.map(number),
                        progress: number(row.get(4)?),
                        heartbeats: number(row.get(5)?),
                    };
                    Ok((row.get(0)?, mark))
                })?
                .collect::<rusqlite::Result<_>>()?;
            let since = if self.has("accepted")? { "counted_since" } else { "NULL" };
            let mut outlets = self.connection.prepare_cached(&format!(
                "SELECT slot, confirmed, prepared, {since} FROM outlet WHERE run = ?1 AND node = ?2"
            ))?;
            type Kept = (String, Option<Position>, Option<u64>, Option<String>);
            let outlets: Vec<Kept> = outlets
                .query_map(params![run, named.name], |row| {
                    let prepared = row.get::<_, Option<i64>>(2)?.map(number);
                    Ok((row.get(0)?, position(row.get(1)?), prepared, row.get(3)?))
                })?
                .collect::<rusqlite::Result<_>>()?;
            for (slot, at, prepared, since) in outlets {
                mark.counted_since.extend(since.map(|since| (slot.clone(), since)));
                mark.outlets.extend(at.map(|at| (slot, (at, prepared))));
            }
            let mut touched = self.connection.prepare_cached(
                "SELECT table_name, count FROM touched WHERE run = ?1 AND node = ?2",
            )?;
            mark.touched = touched
                .query_map(params![run, named.name], |row| Ok((row.get(0)?, number(row.get(1)?))))?
                .collect::<rusqlite::Result<_>>()?;
            marks.insert(node, mark);
        }
        Ok(marks)
    }

    /// The slots that were made anew since an audit of everything last found that all agree.
    fn slots_anew(
        &self,
        topology: &Topology,
    ) -> Result<BTreeMap<(NodeId, String), SlotAnew>, LedgerFault> {
        /// Further back nobody asks.
        const RUNS_LOOKED_AT: i64 = 2000;
        let mut anew = BTreeMap::new();
        if !self.has("accepted")? {
            return Ok(anew);
        }
        let tables: BTreeSet<(usize, &String)> = (topology.sets.iter().enumerate())
            .flat_map(|(set, content)| content.tables.iter().map(move |table| (set, table)))
            .collect();
        let agreed: Option<i64> = self.connection.query_row(
            "SELECT max(id) FROM run r WHERE topology = ?1 AND command = 'audit' AND exit = 0 \
             AND (SELECT count(*) FROM audited a WHERE a.run = r.id) >= ?2",
            params![topology.name, i64::try_from(tables.len()).unwrap_or(i64::MAX)],
            |row| row.get(0),
        )?;
        let mut kept = self.connection.prepare(
            "SELECT o.node, o.slot, o.confirmed, o.prepared, o.counted_since, r.started FROM outlet o JOIN run r ON r.id = o.run \
             WHERE r.topology = ?1 AND r.id > (SELECT max(id) FROM run) - ?2 ORDER BY o.node, o.slot, r.id",
        )?;
        let mut rows = kept.query(params![topology.name, RUNS_LOOKED_AT])?;
        type Last = (String, String, Position, Option<u64>, Option<String>, Micros);
        let mut last: Option<Last> = None;
        while let Some(row) = rows.next()? {
            let Some(confirmed) = position(row.get(2)?) else { continue };
            let prepared = row.get::<_, Option<i64>>(3)?.map(i64::cast_unsigned);
            let now: Last =
                (row.get(0)?, row.get(1)?, confirmed, prepared, row.get(4)?, row.get(5)?);
            if let (Some(then), Some(node)) = (&last, topology.node(&now.0))
                && (&then.0, &then.1) == (&now.0, &now.1)
            {
                let told = SlotAnew::told(
                    (&then.2, then.3, then.4.as_deref()),
                    (now.3, now.4.as_deref()),
                    (then.5, now.5),
                );
                anew.extend(told.map(|told| ((node, now.1.clone()), told)));
            }
            last = Some(now);
        }
        if let Some(agreed) = agreed {
            let at: Micros = self.connection.query_row(
                "SELECT started FROM run WHERE id = ?1",
                [agreed],
                |row| row.get(0),
            )?;
            anew.retain(|_, told: &mut SlotAnew| told.found > at);
        }
        Ok(anew)
    }

    /// What earlier runs saw that tells more than two looks can.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    pub fn memory(&self, topology: &Topology) -> Result<Memory, LedgerFault> {
        let mut memory = Memory::default();
        let name = |node: NodeId| &topology.nodes[node].name;
        for node in 0..topology.nodes.len() {
            let mut looks = self.connection.prepare_cached(
                "SELECT l.at, l.position, l.standby FROM look l JOIN run r ON r.id = l.run \
                 WHERE l.node = ?1 AND r.topology = ?2 AND l.fault IS NULL ORDER BY l.at DESC LIMIT ?3",
            )?;
            let looks: Vec<(Micros, Option<Position>, bool)> = looks
                .query_map(params![name(node), topology.name, LOOKS_REMEMBERED], |row| {
                    Ok((row.get(0)?, position(row.get(1)?), row.get(2)?))
                })?
                .collect::<rusqlite::Result<_>>()?;
            if looks.first().is_some_and(|(_, _, standby)| *standby) {
                memory.standbys.push(node);
            }
            let positions =
                looks.into_iter().rev().filter_map(|(at, at_position, _)| Some((at, at_position?)));
            memory.positions.insert(node, positions.collect());
            let mut changed = self.connection.prepare_cached(
                "SELECT t.table_name, max(t.changed) FROM touched t JOIN run r ON r.id = t.run \
                 WHERE t.node = ?1 AND r.topology = ?2 AND t.changed IS NOT NULL GROUP BY t.table_name",
            )?;
            let changed: Vec<(String, Micros)> = changed
                .query_map(params![name(node), topology.name], |row| {
                    Ok((row.get(0)?, row.get(1)?))
                })?
                .collect::<rusqlite::Result<_>>()?;
            memory.changed.extend(changed.into_iter().map(|(table, at)| ((node, table), at)));
        }
        for link in &topology.links {
            let ends = (link.from, link.to);
            let seen: Option<Micros> = self.connection.query_row(
                "SELECT max(l.seen) FROM link l JOIN run r ON r.id = l.run \
                 WHERE l.source = ?1 AND l.receiver = ?2 AND r.topology = ?3 AND l.state <> 'dark'",
                params![name(link.from), name(link.to), topology.name],
                |row| row.get(0),
            )?;
            memory.seen.extend(seen.map(|seen| (ends, seen)));
            if topology.role(link.to) == keen_core::topology::Role::Hub {
                memory.arrivals.extend(self.arrivals(topology, ends)?.map(|found| (ends, found)));
            }
        }
        memory.anew = self.slots_anew(topology)?;
        let mut writers = self.connection.prepare_cached(
            "SELECT node FROM look WHERE wrote AND run = (SELECT max(l.run) FROM look l JOIN run r ON r.id = l.run \
             WHERE l.wrote AND r.topology = ?1)",
        )?;
        let writers: Vec<String> = writers
            .query_map([&topology.name], |row| row.get(0))?
            .collect::<rusqlite::Result<_>>()?;
        memory.writers = writers.iter().filter_map(|name| topology.node(name)).collect();
        Ok(memory)
    }

    /// When a link was last seen to bring anything, and the longest pause between two such times.
    fn arrivals(
        &self,
        topology: &Topology,
        (from, to): (NodeId, NodeId),
    ) -> Result<Option<(Micros, Duration)>, LedgerFault> {
        let mut arrivals = self.connection.prepare_cached(
            "SELECT l.seen FROM link l JOIN run r ON r.id = l.run WHERE l.source = ?1 AND l.receiver = ?2 \
             AND r.topology = ?3 AND l.moved AND l.state IN ('flowing', 'trailing') AND l.seen IS NOT NULL ORDER BY l.run DESC LIMIT ?4",
        )?;
        let names = (&topology.nodes[from].name, &topology.nodes[to].name);
        let seen: Vec<Micros> = arrivals
            .query_map(params![names.0, names.1, topology.name, ARRIVALS], |row| row.get(0))?
            .collect::<rusqlite::Result<_>>()?;
        let longest = seen.windows(2).map(|pair| pair[0] - pair[1]).max();
        let pause = Duration::from_micros(longest.unwrap_or(0).max(0).unsigned_abs());
        Ok(seen.first().map(|last| (*last, pause)))
    }

    /// The last runs, the latest first.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    pub fn runs(&self, topology: &str, most: u32) -> Result<Vec<Kept>, LedgerFault> {
        let mut runs = self.connection.prepare(
            "SELECT id, command, started, took_ms, exit, summary FROM run WHERE topology = ?1 ORDER BY started DESC, id DESC LIMIT ?2",
        )?;
        let runs = runs.query_map(params![topology, most], |row| {
            Ok(Kept {
                id: row.get(0)?,
                command: row.get(1)?,
                started: row.get(2)?,
                took_ms: row.get(3)?,
                exit: row.get(4)?,
                summary: row.get(5)?,
            })
        })?;
        Ok(runs.collect::<rusqlite::Result<_>>()?)
    }

    /// How a link went, the latest first.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    pub fn link(
        &self,
        topology: &str,
        (from, to): (&str, &str),
        most: u32,
    ) -> Result<Vec<LinkThen>, LedgerFault> {
        let mut looks = self.connection.prepare(
            "SELECT r.started, l.name, l.state, l.reason, l.gap, l.unit, l.late_ms FROM link l JOIN run r ON r.id = l.run \
             WHERE l.source = ?1 AND l.receiver = ?2 AND r.topology = ?3 ORDER BY r.started DESC, l.number LIMIT ?4",
        )?;
        let looks = looks.query_map(params![from, to, topology, most], |row| {
            Ok(LinkThen {
                at: row.get(0)?,
                name: row.get(1)?,
                state: row.get(2)?,
                reason: row.get(3)?,
                gap: row.get::<_, Option<i64>>(4)?.map(i64::cast_unsigned),
                unit: row.get(5)?,
                late_ms: row.get(6)?,
            })
        })?;
        Ok(looks.collect::<rusqlite::Result<_>>()?)
    }

    /// How a table went, the latest first.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    pub fn table(
        &self,
        topology: &str,
        table: &str,
        most: u32,
    ) -> Result<Vec<TableThen>, LedgerFault> {
        let mut audits = self.connection.prepare(
            "SELECT r.started, a.set_name, a.verdict, a.rows, a.divergent, a.in_flight, a.moving, a.healed FROM audited a \
             JOIN run r ON r.id = a.run WHERE a.table_name = ?1 AND r.topology = ?2 ORDER BY r.started DESC, a.number LIMIT ?3",
        )?;
        let audits = audits.query_map(params![table, topology, most], |row| {
            let number = |at: usize| row.get::<_, i64>(at).map(i64::cast_unsigned);
            Ok(TableThen {
                at: row.get(0)?,
                set: row.get(1)?,
                verdict: row.get(2)?,
                rows: number(3)?,
                divergent: number(4)?,
                in_flight: number(5)?,
                moving: number(6)?,
                healed: number(7)?,
            })
        })?;
        Ok(audits.collect::<rusqlite::Result<_>>()?)
    }

    /// The conflicts of a table, day by day, the latest first.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    pub fn conflicts_by_day(
        &self,
        topology: &str,
        table: &str,
        most: u32,
    ) -> Result<Vec<DayThen>, LedgerFault> {
        if !self.has("conflict")? {
            return Ok(Vec::new());
        }
        let mut days = self.connection.prepare(
            "SELECT date(at / 1000000, 'unixepoch') AS day, count(*), sum(standing IN ('settled apart', 'settled against the rules')), sum(lost) \
             FROM conflict WHERE topology = ?1 AND table_name = ?2 GROUP BY day ORDER BY day DESC LIMIT ?3",
        )?;
        let days = days.query_map(params![topology, table, most], |row| {
            let number = |at: usize| row.get::<_, i64>(at).map(i64::cast_unsigned);
            Ok(DayThen {
                day: row.get(0)?,
                conflicts: number(1)?,
                apart: number(2)?,
                lost: number(3)?,
            })
        })?;
        Ok(days.collect::<rusqlite::Result<_>>()?)
    }

    /// How far journals were read by runs over certain nodes and tables, and when; nothing if none kept that.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    pub fn journals_read(
        &self,
        topology: &str,
        scope: &str,
    ) -> Result<Option<(Micros, Vec<u8>)>, LedgerFault> {
        if !self.has("journals_read")? {
            return Ok(None);
        }
        let sql = "SELECT at, handed_on FROM journals_read WHERE topology = ?1 AND scope = ?2";
        let found =
            self.connection.query_row(sql, [topology, scope], |row| Ok((row.get(0)?, row.get(1)?)));
        Ok(found.optional()?)
    }

    /// The names of all conflicts that were ever kept; none at all if nobody has looked for any.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    pub fn raced(&self, topology: &str) -> Result<Option<BTreeSet<String>>, LedgerFault> {
        let looked =
            "SELECT EXISTS (SELECT 1 FROM run WHERE topology = ?1 AND command = 'conflicts')";
        if !self.has("conflict")?
            || !self.connection.query_row(looked, [topology], |row| row.get(0))?
        {
            return Ok(None);
        }
        let mut names = self.connection.prepare("SELECT name FROM conflict WHERE topology = ?1")?;
        let names = names.query_map([topology], |row| row.get(0))?;
        Ok(Some(names.collect::<rusqlite::Result<_>>()?))
    }

    /// A ledger that no newer keen has written to yet lacks the newer tables.
    pub(super) fn has(&self, table: &str) -> Result<bool, LedgerFault> {
        let there = "SELECT EXISTS (SELECT 1 FROM sqlite_schema WHERE name = ?1)";
        Ok(self.connection.query_row(there, [table], |row| row.get(0))?)
    }

    /// The findings of a run.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    pub fn findings_of(&self, run: i64) -> Result<Vec<super::Found>, LedgerFault> {
        let mut findings = self.connection.prepare(
            "SELECT level, name, nodes, found FROM finding WHERE run = ?1 ORDER BY number",
        )?;
        let findings = findings.query_map([run], |row| {
            Ok(super::Found {
                level: row.get(0)?,
                name: row.get(1)?,
                nodes: row.get(2)?,
                found: row.get(3)?,
            })
        })?;
        Ok(findings.collect::<rusqlite::Result<_>>()?)
    }
}
