//! Writing a run.

use keen_core::observe::links::Micros;
use keen_core::observe::position::Position;
use rusqlite::{Transaction, TransactionBehavior, params};

use super::{SqliteLedger, own_text, signed};
use crate::ledger::{
    Accepted, Audited, JournalsRead, KeptFinding, KeptLink, KeptLook, LedgerFault, LedgerRun,
    Proof, Raced, RunRecord, conflict_id,
};

impl SqliteLedger {
    pub(super) fn write(
        &mut self,
        run: &LedgerRun<'_>,
        record: &RunRecord,
    ) -> Result<(), LedgerFault> {
        let transaction =
            self.connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
        transaction.execute(
            "INSERT INTO run (command, topology, started, took_ms, exit, summary) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            params![
                run.command,
                run.topology,
                run.started,
                i64::try_from(run.took.as_millis()).unwrap_or(i64::MAX),
                run.exit,
                run.summary
            ],
        )?;
        let id = transaction.last_insert_rowid();
        let kept = RunWriter { transaction: &transaction, run: id, of: run };
        record.looks.iter().try_for_each(|look| kept.look(look))?;
        kept.links(&record.links)?;
        kept.audited(&record.audited)?;
        kept.findings(&record.findings)?;
        kept.conflicts(&record.conflicts)?;
        kept.proofs(&record.proofs)?;
        record.journals_read.iter().try_for_each(|read| kept.journals_read(read))?;
        transaction.execute(
            "DELETE FROM run WHERE id IN (SELECT id FROM run WHERE topology = ?1 ORDER BY started DESC, id DESC LIMIT -1 OFFSET ?2)",
            params![run.topology, self.runs_kept],
        )?;
        transaction.commit()?;
        Ok(())
    }

    pub(super) fn write_accepted(
        &mut self,
        topology: &str,
        id: &str,
        because: &str,
        at: Micros,
    ) -> Result<Option<Accepted>, LedgerFault> {
        type KeptCells = (String, String, String, i64);
        let sql = "SELECT name, table_name, standing, lost FROM conflict WHERE topology = ?1";
        let found: Option<KeptCells> = {
            let mut known = self.connection.prepare(sql)?;
            let rows = known.query_map([topology], |row| {
                Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?))
            })?;
            let all: Vec<KeptCells> = rows.collect::<rusqlite::Result<_>>()?;
            all.into_iter().find(|(name, ..)| conflict_id(name) == id)
        };
        let Some((name, table, standing, lost)) = found else { return Ok(None) };
        self.connection.execute(
            "INSERT OR REPLACE INTO accepted VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            params![topology, name, because, at, standing, lost],
        )?;
        let (because, lost) = (because.to_owned(), lost.unsigned_abs());
        Ok(Some(Accepted { name, table, because, at, standing, lost }))
    }
}

/// A run that is being written.
struct RunWriter<'a> {
    transaction: &'a Transaction<'a>,
    /// Its number.
    run: i64,
    of: &'a LedgerRun<'a>,
}

impl RunWriter<'_> {
    fn journals_read(&self, read: &JournalsRead) -> Result<(), LedgerFault> {
        self.transaction.execute(
            "INSERT OR REPLACE INTO journals_read VALUES (?1, ?2, ?3, ?4)",
            params![self.of.topology, read.scope, self.of.started, read.handed_on],
        )?;
        Ok(())
    }

    fn conflicts(&self, conflicts: &[Raced]) -> Result<(), LedgerFault> {
        let mut keep = self.transaction.prepare(
            "INSERT INTO conflict VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9) \
             ON CONFLICT (topology, name) DO UPDATE SET proven = excluded.proven, standing = excluded.standing, \
             lost = excluded.lost, at = excluded.at \
             WHERE excluded.standing <> 'not all read'",
        )?;
        for conflict in conflicts {
            keep.execute(params![
                self.of.topology,
                conflict.name,
                conflict.table,
                conflict.kind,
                conflict.proven,
                conflict.standing,
                i64::try_from(conflict.lost).unwrap_or(i64::MAX),
                conflict.at,
                self.of.started
            ])?;
        }
        Ok(())
    }

    fn look(&self, look: &KeptLook) -> Result<(), LedgerFault> {
        let text = |position: Option<&Position>| position.map(ToString::to_string);
        let mark = look.baseline.as_ref();
        self.transaction.execute(
            "INSERT INTO look VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
            params![
                self.run,
                look.node,
                look.at,
                look.fault,
                mark.and_then(|mark| text(mark.position.as_ref())),
                mark.is_some_and(|mark| mark.standby),
                mark.and_then(|mark| mark.own.as_ref()).map(own_text),
                look.wrote
            ],
        )?;
        let Some(mark) = mark else { return Ok(()) };
        for (inflow, m) in &mark.inflows {
            self.transaction.execute(
                "INSERT OR REPLACE INTO inflow VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
                params![
                    self.run,
                    look.node,
                    inflow,
                    text(m.applied.as_ref()),
                    text(m.received.as_ref()),
                    m.failures.map(signed),
                    signed(m.progress),
                    signed(m.heartbeats)
                ],
            )?;
        }
        for (slot, (confirmed, prepared)) in &mark.outlets {
            self.transaction.execute(
                "INSERT OR REPLACE INTO outlet VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
                params![
                    self.run,
                    look.node,
                    slot,
                    confirmed.to_string(),
                    prepared.map(signed),
                    mark.counted_since.get(slot)
                ],
            )?;
        }
        for (table, count) in &mark.touched {
            self.transaction.execute(
                "INSERT OR REPLACE INTO touched VALUES (?1, ?2, ?3, ?4, ?5)",
                params![self.run, look.node, table, signed(*count), look.changed.get(table)],
            )?;
        }
        Ok(())
    }

    fn links(&self, links: &[KeptLink]) -> Result<(), LedgerFault> {
        for (number, link) in (0i64..).zip(links) {
            self.transaction.execute(
                "INSERT INTO link VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15)",
                params![
                    self.run,
                    number,
                    link.source,
                    link.receiver,
                    link.name,
                    link.tables.join(", "),
                    link.state,
                    link.reason,
                    link.gap.map(signed),
                    link.unit,
                    link.late_ms,
                    link.trend,
                    link.done_ms,
                    link.moved,
                    link.seen
                ],
            )?;
        }
        Ok(())
    }

    fn audited(&self, tables: &[Audited]) -> Result<(), LedgerFault> {
        for (number, table) in (0i64..).zip(tables) {
            self.transaction.execute(
                "INSERT INTO audited VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)",
                params![
                    self.run,
                    number,
                    table.set,
                    table.table,
                    table.verdict,
                    signed(table.rows),
                    signed(table.divergent),
                    signed(table.in_flight),
                    signed(table.moving),
                    signed(table.healed)
                ],
            )?;
        }
        Ok(())
    }

    fn findings(&self, findings: &[KeptFinding]) -> Result<(), LedgerFault> {
        for (number, finding) in (0i64..).zip(findings) {
            self.transaction.execute(
                "INSERT INTO finding VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
                params![
                    self.run,
                    number,
                    finding.level,
                    finding.name,
                    finding.nodes,
                    finding.found
                ],
            )?;
        }
        Ok(())
    }

    fn proofs(&self, proofs: &[Proof]) -> Result<(), LedgerFault> {
        let mut keep = self.transaction.prepare(
            "INSERT INTO proof VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13) \
             ON CONFLICT (topology, name) DO UPDATE SET ids = excluded.ids, first_made = excluded.first_made, \
             last_made = excluded.last_made, seen = excluded.seen, standing = excluded.standing, lost = excluded.lost, \
             told = excluded.told, document = excluded.document \
             WHERE excluded.standing <> 'not all read' AND (length(excluded.ids) > length(ids) \
             OR (excluded.ids = ids AND (excluded.standing <> standing OR excluded.lost <> lost)))",
        )?;
        for proof in proofs {
            let ids: Vec<&str> = proof.ids.iter().map(String::as_str).collect();
            keep.execute(params![
                self.of.topology,
                proof.name,
                proof.table,
                proof.kind,
                proof.thing,
                ids.join("\n"),
                proof.made.map(|(first, _)| first),
                proof.made.map(|(_, last)| last),
                proof.seen,
                proof.standing,
                i64::try_from(proof.lost).unwrap_or(i64::MAX),
                proof.told,
                proof.document,
            ])?;
        }
        Ok(())
    }
}
