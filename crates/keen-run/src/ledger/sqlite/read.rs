//! Answers from the file.

use std::collections::{BTreeMap, BTreeSet};

use keen_core::observe::links::{Baseline, InflowMark, Micros};
use keen_core::observe::position::Position;
use rusqlite::{OptionalExtension as _, params};

use super::{SqliteLedger, own_of};
use crate::ledger::{
    Accepted, DayThen, EndNames, KeptFinding, Ledger, LedgerFault, LedgerRun, LinkThen,
    MOST_PROOFS, NodeThen, Proof, RunRecord, RunThen, SlotThen, TableThen,
};

fn position(text: Option<String>) -> Option<Position> {
    text.and_then(|text| text.parse().ok())
}

impl SqliteLedger {
    /// A ledger that no newer keen has written to yet lacks the newer tables.
    fn has(&self, table: &str) -> Result<bool, LedgerFault> {
        let there = "SELECT EXISTS (SELECT 1 FROM sqlite_schema WHERE name = ?1)";
        Ok(self.connection.query_row(there, [table], |row| row.get(0))?)
    }
}

impl Ledger for SqliteLedger {
    fn keep(&mut self, run: &LedgerRun<'_>, record: &RunRecord) -> Result<(), LedgerFault> {
        self.write(run, record)
    }

    fn accept(
        &mut self,
        topology: &str,
        id: &str,
        because: &str,
        at: Micros,
    ) -> Result<Option<Accepted>, LedgerFault> {
        self.write_accepted(topology, id, because, at)
    }

    fn runs(&self, topology: &str, most: u32) -> Result<Vec<RunThen>, LedgerFault> {
        let mut runs = self.connection.prepare(
            "SELECT id, command, started, took_ms, exit, summary FROM run WHERE topology = ?1 ORDER BY started DESC, id DESC LIMIT ?2",
        )?;
        let runs = runs.query_map(params![topology, most], |row| {
            Ok(RunThen {
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

    fn link(
        &self,
        topology: &str,
        (from, to): EndNames<'_>,
        most: u32,
    ) -> Result<Vec<LinkThen>, LedgerFault> {
        let mut looks = self.connection.prepare(
            "SELECT r.started, l.name, l.state, l.reason, l.gap, l.unit, l.late_ms FROM link l JOIN run r ON r.id = l.run \
             WHERE l.source = ?1 AND l.receiver = ?2 AND r.topology = ?3 ORDER BY r.started DESC, r.id DESC, l.number LIMIT ?4",
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

    fn table(&self, topology: &str, table: &str, most: u32) -> Result<Vec<TableThen>, LedgerFault> {
        let mut audits = self.connection.prepare(
            "SELECT r.started, a.set_name, a.verdict, a.rows, a.divergent, a.in_flight, a.moving, a.healed FROM audited a \
             JOIN run r ON r.id = a.run WHERE a.table_name = ?1 AND r.topology = ?2 ORDER BY r.started DESC, r.id DESC, a.number LIMIT ?3",
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

    fn conflicts_by_day(
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

    fn journals_read(
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

    fn raced(&self, topology: &str) -> Result<Option<BTreeSet<String>>, LedgerFault> {
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

    fn findings_of(&self, run: i64) -> Result<Vec<KeptFinding>, LedgerFault> {
        let mut findings = self.connection.prepare(
            "SELECT level, name, nodes, found FROM finding WHERE run = ?1 ORDER BY number",
        )?;
        let findings = findings.query_map([run], |row| {
            Ok(KeptFinding {
                level: row.get(0)?,
                name: row.get(1)?,
                nodes: row.get(2)?,
                found: row.get(3)?,
            })
        })?;
        Ok(findings.collect::<rusqlite::Result<_>>()?)
    }

    fn accepted(&self, topology: &str) -> Result<BTreeMap<String, Accepted>, LedgerFault> {
        if !self.has("accepted")? {
            return Ok(BTreeMap::new());
        }
        let mut kept = self.connection.prepare(
            "SELECT a.name, c.table_name, a.because, a.at, a.standing, a.lost FROM accepted a \
             JOIN conflict c ON c.topology = a.topology AND c.name = a.name WHERE a.topology = ?1",
        )?;
        let rows = kept.query_map([topology], |row| {
            Ok(Accepted {
                name: row.get(0)?,
                table: row.get(1)?,
                because: row.get(2)?,
                at: row.get(3)?,
                standing: row.get(4)?,
                lost: row.get::<_, i64>(5)?.unsigned_abs(),
            })
        })?;
        rows.map(|row| Ok(row.map(|accepted| (accepted.name.clone(), accepted))?)).collect()
    }

    fn proofs(&self, topology: &str, since: Micros) -> Result<Vec<Proof>, LedgerFault> {
        if !self.has("proof")? {
            return Ok(Vec::new());
        }
        let mut kept = self.connection.prepare(
            "SELECT name, table_name, kind, thing, ids, first_made, last_made, seen, standing, lost, told, document \
             FROM proof WHERE topology = ?1 AND coalesce(last_made, seen) >= ?2 ORDER BY last_made DESC, name LIMIT ?3",
        )?;
        let rows = kept.query_map(params![topology, since, MOST_PROOFS], |row| {
            let (first, last): (Option<i64>, Option<i64>) = (row.get(5)?, row.get(6)?);
            Ok(Proof {
                name: row.get(0)?,
                table: row.get(1)?,
                kind: row.get(2)?,
                thing: row.get(3)?,
                ids: row.get::<_, String>(4)?.lines().map(str::to_owned).collect(),
                made: first.zip(last),
                seen: row.get(7)?,
                standing: row.get(8)?,
                lost: row.get::<_, i64>(9)?.unsigned_abs(),
                told: row.get(10)?,
                document: row.get(11)?,
            })
        })?;
        Ok(rows.collect::<rusqlite::Result<_>>()?)
    }

    fn last_look(&self, topology: &str, node: &str) -> Result<Option<Baseline>, LedgerFault> {
        let last = self
            .connection
            .query_row(
                "SELECT l.run, l.at, l.position, l.standby, l.own FROM look l JOIN run r ON r.id = l.run \
                 WHERE l.node = ?1 AND r.topology = ?2 AND l.fault IS NULL ORDER BY l.at DESC, l.run DESC LIMIT 1",
                params![node, topology],
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
        let Some((run, mut mark)) = last else { return Ok(None) };
        let mut inflows = self.connection.prepare_cached(
            "SELECT name, applied, received, failures, progress, heartbeats FROM inflow WHERE run = ?1 AND node = ?2",
        )?;
        let number = |number: i64| number.cast_unsigned();
        mark.inflows = inflows
            .query_map(params![run, node], |row| {
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
        type KeptCells = (String, Option<Position>, Option<u64>, Option<String>);
        let outlets: Vec<KeptCells> = outlets
            .query_map(params![run, node], |row| {
                let prepared = row.get::<_, Option<i64>>(2)?.map(number);
                Ok((row.get(0)?, position(row.get(1)?), prepared, row.get(3)?))
            })?
            .collect::<rusqlite::Result<_>>()?;
        for (slot, at, prepared, since) in outlets {
            mark.counted_since.extend(since.map(|since| (slot.clone(), since)));
            mark.outlets.extend(at.map(|at| (slot, (at, prepared))));
        }
        let mut touched = self
            .connection
            .prepare_cached("SELECT table_name, count FROM touched WHERE run = ?1 AND node = ?2")?;
        mark.touched = touched
            .query_map(params![run, node], |row| Ok((row.get(0)?, number(row.get(1)?))))?
            .collect::<rusqlite::Result<_>>()?;
        Ok(Some(mark))
    }

    fn looks(&self, topology: &str, node: &str, most: u32) -> Result<Vec<NodeThen>, LedgerFault> {
        let mut looks = self.connection.prepare_cached(
            "SELECT l.at, l.position, l.standby FROM look l JOIN run r ON r.id = l.run \
             WHERE l.node = ?1 AND r.topology = ?2 AND l.fault IS NULL ORDER BY l.at DESC, l.run DESC LIMIT ?3",
        )?;
        let looks = looks.query_map(params![node, topology, most], |row| {
            Ok(NodeThen { at: row.get(0)?, position: position(row.get(1)?), standby: row.get(2)? })
        })?;
        Ok(looks.collect::<rusqlite::Result<_>>()?)
    }

    fn last_changes(
        &self,
        topology: &str,
        node: &str,
    ) -> Result<BTreeMap<String, Micros>, LedgerFault> {
        let mut changed = self.connection.prepare_cached(
            "SELECT t.table_name, max(t.changed) FROM touched t JOIN run r ON r.id = t.run \
             WHERE t.node = ?1 AND r.topology = ?2 AND t.changed IS NOT NULL GROUP BY t.table_name",
        )?;
        let changed =
            changed.query_map(params![node, topology], |row| Ok((row.get(0)?, row.get(1)?)))?;
        Ok(changed.collect::<rusqlite::Result<_>>()?)
    }

    fn last_seen(
        &self,
        topology: &str,
        (from, to): EndNames<'_>,
    ) -> Result<Option<Micros>, LedgerFault> {
        Ok(self.connection.query_row(
            "SELECT max(l.seen) FROM link l JOIN run r ON r.id = l.run \
             WHERE l.source = ?1 AND l.receiver = ?2 AND r.topology = ?3 AND l.state <> 'dark'",
            params![from, to, topology],
            |row| row.get(0),
        )?)
    }

    fn arrivals(
        &self,
        topology: &str,
        (from, to): EndNames<'_>,
        most: u32,
    ) -> Result<Vec<Micros>, LedgerFault> {
        let mut arrivals = self.connection.prepare_cached(
            "SELECT l.seen FROM link l JOIN run r ON r.id = l.run WHERE l.source = ?1 AND l.receiver = ?2 \
             AND r.topology = ?3 AND l.moved AND l.state IN ('flowing', 'trailing') AND l.seen IS NOT NULL \
             ORDER BY l.run DESC, l.number LIMIT ?4",
        )?;
        let seen = arrivals.query_map(params![from, to, topology, most], |row| row.get(0))?;
        Ok(seen.collect::<rusqlite::Result<_>>()?)
    }

    fn slots(&self, topology: &str, runs: u32) -> Result<Vec<SlotThen>, LedgerFault> {
        if !self.has("accepted")? {
            return Ok(Vec::new()); // since when they count is kept from then on
        }
        let mut kept = self.connection.prepare(
            "SELECT o.node, o.slot, o.confirmed, o.prepared, o.counted_since, r.started FROM outlet o JOIN run r ON r.id = o.run \
             WHERE r.topology = ?1 AND r.id > (SELECT max(id) FROM run) - ?2 ORDER BY o.node, o.slot, r.id",
        )?;
        let mut rows = kept.query(params![topology, runs])?;
        let mut slots = Vec::new();
        while let Some(row) = rows.next()? {
            let Some(confirmed) = position(row.get(2)?) else { continue };
            slots.push(SlotThen {
                node: row.get(0)?,
                slot: row.get(1)?,
                confirmed,
                prepared: row.get::<_, Option<i64>>(3)?.map(i64::cast_unsigned),
                counted_since: row.get(4)?,
                at: row.get(5)?,
            });
        }
        Ok(slots)
    }

    fn last_agreement(&self, topology: &str, tables: u64) -> Result<Option<Micros>, LedgerFault> {
        let sql = "SELECT started FROM run r WHERE topology = ?1 AND command = 'audit' AND exit = 0 \
             AND (SELECT count(*) FROM audited a WHERE a.run = r.id) >= ?2 ORDER BY id DESC LIMIT 1";
        let tables = i64::try_from(tables).unwrap_or(i64::MAX);
        Ok(self
            .connection
            .query_row(sql, params![topology, tables], |row| row.get(0))
            .optional()?)
    }

    fn last_writers(&self, topology: &str) -> Result<Vec<String>, LedgerFault> {
        let mut writers = self.connection.prepare_cached(
            "SELECT node FROM look WHERE wrote AND run = (SELECT max(l.run) FROM look l JOIN run r ON r.id = l.run \
             WHERE l.wrote AND r.topology = ?1) ORDER BY node",
        )?;
        let writers = writers.query_map([topology], |row| row.get(0))?;
        Ok(writers.collect::<rusqlite::Result<_>>()?)
    }
}
