//! Tables that came into the publication after the log begins that the slot holds. What was written to them before
//! is left out without a word: the log is decoded as of the moment when it was written.

use super::super::queries;
use keen_core::fault::ReadFault;
use keen_core::history::journal::JOURNAL_SLOT;
use keen_core::observe::links::Micros;
use keen_core::units::few;
use keen_core::value::calendar::timestamp_text;

use super::PostgresJournal;
use crate::postgres::connect::PostgresSession;

impl PostgresJournal {
    /// Says of which tables the log does not tell everything that it tells of others.
    pub(super) fn came_later(&mut self) -> Result<(), ReadFault> {
        let doing = "look since when tables are in its publication";
        let rows = match self.session.rows(
            doing,
            queries::ADDED_TABLES,
            &[&JOURNAL_SLOT, &self.slot],
        ) {
            Ok(rows) => rows,
            Err(fault) if self.session.is_given_up() || fault.is_interrupted() => {
                return Err(fault);
            }
            Err(fault) => {
                tracing::debug!(%fault, "since when tables are in the publication is not known");
                return Ok(());
            }
        };
        if rows.is_empty() {
            return Ok(());
        }
        let Some(first) = first_transaction(&self.session, &self.slot)? else { return Ok(()) };
        let mut late: Vec<(usize, Option<Micros>)> = Vec::new();
        for row in &rows {
            let place = (row.get(0), row.get(1));
            let Some(known) = self.known(&place) else { continue };
            let sql = queries::IS_LATER;
            let after = self.session.rows(doing, sql, &[&row.get::<_, &str>(2), &first])?;
            if after.first().is_some_and(|row| row.get(0)) {
                late.push((known, row.get(3)));
            }
        }
        let names: Vec<&str> = late.iter().map(|(known, _)| &*self.tables[*known].name).collect();
        if let Some((_, last)) = late.first() {
            let when = last.map(|at| format!(", at {}Z", timestamp_text(at))).unwrap_or_default();
            let (they, last) = match names.len() {
                1 => ("it", ""),
                _ => ("they", ", the last of them"),
            };
            let last = if when.is_empty() { "" } else { last };
            self.head.notes.push(format!(
                "its log shows nothing of {} from before {they} came into the publication {JOURNAL_SLOT}{last}{when}: earlier races are not known",
                few(&names)
            ));
        }
        Ok(())
    }
}

/// The number of the first transaction that the slot holds; none if there is none, or it cannot be read.
fn first_transaction(session: &PostgresSession, slot: &str) -> Result<Option<String>, ReadFault> {
    // The message of a beginning: a letter, where its commit stands, when it was, its number.
    let sql = format!(
        "SELECT (get_byte(b, 17)::int8 << 24 | get_byte(b, 18) << 16 | get_byte(b, 19) << 8 | get_byte(b, 20))::text FROM \
         (SELECT data AS b FROM pg_logical_slot_peek_binary_changes('{slot}', NULL, 1, \
          'proto_version', '1', 'publication_names', '{JOURNAL_SLOT}') LIMIT 1) q WHERE get_byte(b, 0) = 66"
    );
    match session.rows("read the beginning of its log", &sql, &[]) {
        Ok(rows) => Ok(rows.first().map(|row| row.get(0))),
        Err(fault) if session.is_given_up() || fault.is_interrupted() => Err(fault),
        // Why, is told when it is read.
        Err(_) => Ok(None),
    }
}
