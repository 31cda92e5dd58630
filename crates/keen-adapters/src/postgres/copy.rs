//! Copying tables between PostgreSQL servers: the text form of COPY goes through as it is.
//!
//! The moment is fixed while a lock keeps all writers out of the tables, for as long as it takes to begin a snapshot: so
//! no write of these tables is half on either side of the position that is read then.

use std::collections::BTreeMap;
use std::io::Cursor;

use futures_util::{SinkExt, StreamExt};
use keen_core::fault::ReadFault;
use keen_core::plan::copy::{CopyMoment, DeliverRows, GiveCopy, RowChunk, TakeCopy};
use keen_core::plan::port::{BatchMark, WriteSteps};
use keen_core::ports::ReadRows as _;

use super::connect::{self, PostgresSession};
use super::write::PostgresWriter;
use super::{PostgresNode, queries, quoted};
use crate::cells::CHUNK;
use crate::server::Access;

/// A PostgreSQL server whose tables are copied.
pub struct PostgresGiver {
    access: Access,
    /// Its snapshot, once the moment is fixed.
    node: Option<PostgresNode>,
}

impl std::fmt::Debug for PostgresGiver {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PostgresGiver").finish_non_exhaustive()
    }
}

/// How often a lock is tried that others hold.
const TRIES: usize = 5;

impl PostgresGiver {
    /// Remembers where; it logs in when the moment is fixed.
    #[must_use]
    pub fn new(access: Access) -> Self {
        Self { access, node: None }
    }

    /// A session that keeps all writers out of these tables until it ends.
    fn locked(&self, tables: &[String]) -> Result<PostgresSession, ReadFault> {
        let mut look = PostgresNode::open(&self.access)?;
        let names = names(&mut look, tables)?;
        drop(look);
        let session = PostgresSession::open_to_mend(&self.access)?;
        let doing = "keep writers out of its tables for a moment";
        let mut tries = 0;
        loop {
            let sql = format!("BEGIN; LOCK TABLE {} IN SHARE MODE", names.join(", "));
            match session.simple(doing, &sql)? {
                Ok(_) => return Ok(session),
                Err(error) => {
                    let fault = session.failed(doing, &error);
                    drop(session.simple("end a transaction", "ROLLBACK")?);
                    tries += 1;
                    if tries >= TRIES || !super::write::is_lock(&error) {
                        let advice = "the account that carries plans out needs UPDATE or DELETE on the tables of the source, too (or MAINTAIN, from PostgreSQL 17 on); a lock that others hold is waited for as --lock-timeout says";
                        return Err(ReadFault { advice: advice.to_owned(), ..fault });
                    }
                }
            }
        }
    }
}

/// The names of tables as statements read from them.
fn names(node: &mut PostgresNode, tables: &[String]) -> Result<Vec<String>, ReadFault> {
    let name = |table: &String| {
        node.shape(table)?;
        Ok(node.tables.get(table).map(|local| local.name.clone()).unwrap_or_default())
    };
    tables.iter().map(name).collect()
}

impl GiveCopy for PostgresGiver {
    fn moment(&mut self, tables: &[String]) -> Result<CopyMoment, ReadFault> {
        let lock = self.locked(tables)?;
        // Only now: a snapshot that is older would lack what was written while the lock was waited for.
        let node = PostgresNode::open(&self.access)?;
        node.session.rows("let it take its time", queries::NO_TIME_LIMITS, &[])?;
        let own: String = lock.one(queries::INSERTED)?.get(0);
        let rows =
            lock.rows("read how far it has applied", queries::APPLIED_BY_SUBSCRIPTION, &[])?;
        let others: BTreeMap<String, String> = rows
            .iter()
            .filter_map(|row| Some((row.get::<_, String>(0), row.get::<_, Option<String>>(1)?)))
            .collect();
        drop(lock.simple("let writers go on", "ROLLBACK")?);
        self.node = Some(node);
        Ok(CopyMoment { own, others })
    }

    fn give(
        &mut self,
        table: &str,
        columns: &[String],
        deliver: &mut DeliverRows<'_>,
    ) -> Result<(), ReadFault> {
        let node = self.node.as_mut().ok_or_else(ReadFault::interrupted)?;
        let from = names(node, &[table.to_owned()])?.concat();
        let columns: Vec<String> = columns.iter().map(|name| quoted(name)).collect();
        let sql = format!("COPY (SELECT {} FROM {from}) TO STDOUT", columns.join(", "));
        let doing = format!("copy table {table}");
        let session = &node.session;
        let access = session.access();
        let mut stream = Box::pin(session.copy_out(&doing, &sql)?);
        let mut chunk = RowChunk::default();
        loop {
            let next =
                session.block_on(connect::waited(access, access.silence, &doing, stream.next()));
            match next.map_err(|fault| session.give_up(fault))? {
                None => break,
                Some(Err(error)) => return Err(session.failed(&doing, &error)),
                Some(Ok(message)) => chunk.bytes.extend(&message[..]),
            }
            if chunk.bytes.len() >= CHUNK {
                deliver(whole(std::mem::take(&mut chunk)))?;
            }
        }
        match chunk.bytes.is_empty() {
            true => Ok(()),
            false => deliver(whole(chunk)),
        }
    }
}

/// Counts the rows of a chunk: a message holds whole rows, and a line break within one is escaped.
fn whole(chunk: RowChunk) -> RowChunk {
    let rows = chunk.bytes.iter().filter(|byte| **byte == b'\n').count() as u64;
    RowChunk { rows, ..chunk }
}

/// A PostgreSQL server that takes tables of another over.
#[derive(Debug)]
pub struct PostgresTaker {
    writer: PostgresWriter,
    /// By table its name as it is read from, and as it is copied to.
    tables: BTreeMap<String, (String, String)>,
}

impl PostgresTaker {
    /// Logs in.
    ///
    /// # Errors
    /// As [`PostgresWriter::open`].
    pub fn open(access: &Access) -> Result<Self, ReadFault> {
        Ok(Self { writer: PostgresWriter::open(access)?, tables: BTreeMap::new() })
    }

    fn named(&self, table: &str) -> Result<&(String, String), ReadFault> {
        self.tables.get(table).ok_or_else(ReadFault::interrupted)
    }
}

impl TakeCopy for PostgresTaker {
    fn batch(&mut self) -> &mut dyn WriteSteps {
        &mut self.writer
    }

    fn begin(&mut self, mark: BatchMark, tables: &[String]) -> Result<bool, ReadFault> {
        let mut look = PostgresNode::open(self.writer.session.access())?;
        for table in tables {
            let shape = look.shape(table)?;
            let read = names(&mut look, std::slice::from_ref(table))?.concat();
            let parts: Vec<String> = shape.qualified.iter().map(|part| quoted(part)).collect();
            self.tables.insert(table.clone(), (read, parts.join(".")));
        }
        drop(look);
        self.writer.begin(Some(mark))?;
        self.writer.plain("let it take its time", queries::NO_TIME_LIMITS)?;
        let names: Vec<&str> = self.tables.values().map(|(read, _)| &read[..]).collect();
        // Readers go on; whoever writes waits, and so does another copy.
        let sql = format!("LOCK TABLE {} IN EXCLUSIVE MODE", names.join(", "));
        self.writer.plain("lock its tables", &sql)?;
        let any: Vec<String> =
            names.iter().map(|name| format!("EXISTS (SELECT 1 FROM {name})")).collect();
        Ok(self.writer.session.one(&format!("SELECT {}", any.join(" OR ")))?.get(0))
    }

    fn empty(&mut self, table: &str) -> Result<(), ReadFault> {
        let sql = format!("DELETE FROM {}", self.named(table)?.0);
        self.writer.plain("empty a table", &sql)
    }

    fn take(&mut self, table: &str, columns: &[String], rows: &RowChunk) -> Result<(), ReadFault> {
        let names: Vec<String> = columns.iter().map(|name| quoted(name)).collect();
        let sql = format!("COPY {} ({}) FROM STDIN", self.named(table)?.1, names.join(", "));
        self.writer.session.copy_in("put rows into a table", &sql, rows.bytes.clone())
    }

    fn raise_counters(&mut self, table: &str) -> Result<(), ReadFault> {
        let (read, to) = self.named(table)?.clone();
        let doing = "look what counts its columns up";
        let found = self.writer.session.rows(doing, queries::SEQUENCES_OF_TABLE, &[&to])?;
        for row in found {
            let (sequence, column): (String, String) = (row.get(0), row.get(1));
            let text = sequence.replace('\'', "''");
            // Its step is kept: where nodes share the numbers out, each stays with its own.
            let sql = format!(
                "SELECT setval('{text}'::regclass, l.at + (m.most - l.at) / s.seqincrement * s.seqincrement, true) \
                 FROM (SELECT last_value AS at FROM {sequence}) l, (SELECT max({})::int8 AS most FROM {read}) m, pg_sequence s \
                 WHERE s.seqrelid = '{text}'::regclass AND s.seqincrement > 0 AND m.most >= l.at",
                quoted(&column)
            );
            self.writer.plain("raise what counts a column up", &sql)?;
        }
        Ok(())
    }
}

impl PostgresSession {
    /// Sends rows as COPY takes them.
    pub(super) fn copy_in(&self, doing: &str, sql: &str, rows: Vec<u8>) -> Result<(), ReadFault> {
        let copied = self.within(doing, async {
            let sink = self.client.copy_in(sql).await?;
            let mut sink = std::pin::pin!(sink);
            sink.send(Cursor::new(rows)).await?;
            sink.finish().await
        })?;
        copied.map(drop).map_err(|error| self.failed(doing, &error))
    }
}
