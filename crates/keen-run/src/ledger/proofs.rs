//! Conflicts that were proven, with what proved them: journals are purged, and then tell less.

use std::collections::BTreeSet;

use keen_core::observe::links::Micros;
use rusqlite::params;

use super::{Ledger, LedgerFault, Record};

/// A conflict as a run proved it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proof {
    /// The conflict, as the ledger names it.
    pub name: String,
    /// Its table.
    pub table: String,
    /// Its kind.
    pub kind: String,
    /// What it is about, the key of a row for one.
    pub thing: String,
    /// Its transactions.
    pub ids: BTreeSet<String>,
    /// When the first and the last of them were made.
    pub made: Option<(Micros, Micros)>,
    /// When the run began that proved it; it says so itself.
    pub seen: Micros,
    /// What had come of it.
    pub standing: String,
    /// How many of its writes were lost.
    pub lost: u64,
    /// It in words.
    pub told: String,
    /// It as JSON.
    pub document: String,
}

impl Record<'_> {
    /// Keeps what was proven; what is kept already stays where it says more.
    ///
    /// # Errors
    /// [`LedgerFault`] when it cannot be written.
    pub fn proofs(&self, topology: &str, proofs: &[Proof]) -> Result<(), LedgerFault> {
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
                topology,
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

/// Of so many conflicts at most it is looked up what earlier runs proved.
const MOST: i64 = 20_000;

impl Ledger {
    /// What earlier runs proved of writes that were made since a moment, the latest first.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    pub fn proofs(&self, topology: &str, since: Micros) -> Result<Vec<Proof>, LedgerFault> {
        if !self.has("proof")? {
            return Ok(Vec::new());
        }
        let mut kept = self.connection.prepare(
            "SELECT name, table_name, kind, thing, ids, first_made, last_made, seen, standing, lost, told, document \
             FROM proof WHERE topology = ?1 AND coalesce(last_made, seen) >= ?2 ORDER BY last_made DESC LIMIT ?3",
        )?;
        let rows = kept.query_map(params![topology, since, MOST], |row| {
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
}
