//! The last writes of rows, as a PostgreSQL server keeps them: the time of each transaction where
//! `track_commit_timestamp` is on, and of each row the transaction.

use super::queries;
use keen_core::engine::selection::{any_of, each_key};
use keen_core::row::selection::RowKeys;
use keen_core::topology::Engine;
use std::collections::HashMap;

use keen_core::fault::ReadFault;
use keen_core::history::journal::JOURNAL_SLOT;
use keen_core::ports::{LastWritten, TellLastWrites, WriteOrigin};

use super::connect::PostgresSession;
use super::{origins, quoted};
use crate::server::Access;

/// A session that asks rows for their last writes.
pub struct PostgresLastWrites {
    session: PostgresSession,
    slots: Vec<String>,
    /// By the name of a replication origin the slot that it reads.
    receives: HashMap<String, String>,
}

impl std::fmt::Debug for PostgresLastWrites {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PostgresLastWrites").field("slots", &self.slots).finish_non_exhaustive()
    }
}

impl PostgresLastWrites {
    /// Logs in.
    ///
    /// # Errors
    /// [`ReadFault`] when the server cannot be reached, or does not keep commit times.
    pub fn open(access: &Access) -> Result<Self, ReadFault> {
        let session = PostgresSession::open_to_look(access)?;
        let row = session.one(queries::KEEPS_COMMIT_TIMES)?;
        if !row.get::<_, bool>(0) {
            return Err(ReadFault::new(
                format!("{} does not record when rows were written", access.shown()),
                "set track_commit_timestamp = on and restart it: rows written later will show it",
            ));
        }
        let slots = origins::slots_but(&session, JOURNAL_SLOT)?;
        let (receives, _) = origins::receives(&session)?;
        Ok(Self { session, slots, receives })
    }
}

impl TellLastWrites for PostgresLastWrites {
    fn slots(&self) -> Vec<String> {
        self.slots.clone()
    }

    fn follows(&self) -> Vec<String> {
        self.receives.values().cloned().collect()
    }

    fn last_writes(
        &mut self,
        table: &[String],
        rows: &RowKeys,
    ) -> Result<Vec<Option<LastWritten>>, ReadFault> {
        let conditions = each_key(Engine::Postgres, rows);
        if conditions.is_empty() {
            return Ok(Vec::new());
        }
        let name: Vec<String> = table.iter().map(|part| quoted(part)).collect();
        let sql = format!(
            "SELECT q.number::int8, (extract(epoch FROM w.timestamp) * 1000000)::int8, \
                    (extract(epoch FROM clock_timestamp() - w.timestamp) * 1000000)::int8, w.roident::int8, o.roname::text \
             FROM (SELECT {} AS number, r.xmin AS writer FROM {} r WHERE {}) q \
             CROSS JOIN LATERAL pg_xact_commit_timestamp_origin(q.writer) w \
             LEFT JOIN pg_replication_origin o ON o.roident = w.roident WHERE w.timestamp IS NOT NULL",
            which(&conditions),
            name.join("."),
            any_of(&conditions)
        );
        let rows = self.session.rows("ask rows for their last writes", &sql, &[])?;
        let mut found = vec![None; conditions.len()];
        for row in rows {
            let number = usize::try_from(row.get::<_, i64>(0)).unwrap_or(usize::MAX);
            let came = match (row.get::<_, i64>(3), row.get::<_, Option<String>>(4)) {
                (0, _) => WriteOrigin::MadeHere,
                (_, Some(origin)) => {
                    WriteOrigin::Through(self.receives.get(&origin).cloned().unwrap_or(origin))
                }
                // The origin was dropped since.
                (_, None) => WriteOrigin::Unknown,
            };
            if let Some(place) = found.get_mut(number) {
                *place = Some(LastWritten { made: row.get(1), age: row.get(2), came });
            }
        }
        Ok(found)
    }
}

/// An expression that yields which of these conditions a row meets, counted from 0.
pub(super) fn which(conditions: &[String]) -> String {
    let arms = conditions.iter().enumerate();
    let arms = arms.map(|(at, condition)| format!("WHEN {condition} THEN {at}"));
    format!("CASE {} END", arms.collect::<Vec<_>>().join(" "))
}
