//! Conflicts that somebody looked at and accepted as they are.

use std::collections::BTreeMap;

use keen_core::observe::links::Micros;
use keen_core::row::digest::DigestFunction;
use rusqlite::params;

use super::{Ledger, LedgerFault};

/// Why a conflict is accepted, and as what.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Accepted {
    /// The conflict, as the ledger names it.
    pub name: String,
    /// Its table.
    pub table: String,
    /// What was said.
    pub because: String,
    /// When.
    pub at: Micros,
    /// What had come of it then: what came later is not accepted.
    pub standing: String,
    /// How many of its writes were lost then.
    pub lost: u64,
}

/// The short name of a conflict, by which people name it.
#[must_use]
pub fn conflict_id(name: &str) -> String {
    // Among as many conflicts as keen judges two share one once in a million times.
    format!("{:012x}", DigestFunction::Xxh3.digest(name.as_bytes()).0 & 0xffff_ffff_ffff)
}

impl Ledger {
    /// Accepts the conflict of that short name as it was found last; nothing if none has it.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read or written.
    pub fn accept(
        &mut self,
        topology: &str,
        id: &str,
        because: &str,
        at: Micros,
    ) -> Result<Option<Accepted>, LedgerFault> {
        type Kept = (String, String, String, i64);
        let sql = "SELECT name, table_name, standing, lost FROM conflict WHERE topology = ?1";
        let found: Option<Kept> = {
            let mut known = self.connection.prepare(sql)?;
            let rows = known.query_map([topology], |row| {
                Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?))
            })?;
            let all: Vec<Kept> = rows.collect::<rusqlite::Result<_>>()?;
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

    /// What was accepted, by the names of the conflicts.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    pub fn accepted(&self, topology: &str) -> Result<BTreeMap<String, Accepted>, LedgerFault> {
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
}
