//! Writing a probe's row to a SQLite file, and looking for it. In a file of the stand-in network the write
//! is journalled as that of any application, so that the replicator carries it.

use std::path::{Path, PathBuf};

use keen_core::engine::service_tables::{Stage, create};
use keen_core::fault::ReadFault;
use keen_core::ports::WriteProbe;
use keen_core::topology::Engine;
use rusqlite::{Connection, OpenFlags, OptionalExtension as _, Transaction, params};

use super::{Options, fault, quoted};

/// A SQLite file at which a probe is written.
#[derive(Debug)]
pub struct SqliteProbe {
    connection: Connection,
    path: PathBuf,
    /// The name of the table in this file.
    local: String,
    /// The name of the table in the sets.
    table: String,
    /// The name of the node in the topology.
    name: String,
}

impl SqliteProbe {
    /// Opens a file for writing; `table` is what the sets call it, `local` what the file does.
    ///
    /// # Errors
    /// [`ReadFault`] when it is not there or cannot be used.
    pub fn open(
        path: &Path,
        name: &str,
        (table, local): (&str, &str),
        options: &Options,
    ) -> Result<Self, ReadFault> {
        let open = || {
            let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
            let connection = Connection::open_with_flags(path, flags)?;
            connection.busy_timeout(options.lock_wait)?;
            connection.pragma_update(None, "trusted_schema", false)?;
            Ok(connection)
        };
        let connection = open().map_err(|error| fault::explain(path, "open the file", &error))?;
        Ok(Self {
            connection,
            path: path.to_owned(),
            local: local.to_owned(),
            table: table.to_owned(),
            name: name.to_owned(),
        })
    }
}

/// A row of the probe as the stand-in's journal has it.
fn journalled(id: &str, node: &str, stage: &str) -> String {
    let text = |text: &str| format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""));
    format!("[[\"id\",{}],[\"node\",{}],[\"stage\",{}]]", text(id), text(node), text(stage))
}

fn journal(
    transaction: &Transaction<'_>,
    origin: &str,
    (table, kind): (&str, Stage),
    (before, after): (Option<String>, Option<String>),
) -> rusqlite::Result<()> {
    let there: Option<i64> = transaction
        .query_row("SELECT 1 FROM sqlite_schema WHERE name = 'keen_lab_transaction'", [], |row| {
            row.get(0)
        })
        .optional()?;
    if there.is_none() {
        return Ok(()); // no file of the stand-in network
    }
    let (next, step): (i64, i64) = transaction.query_row(
        "SELECT coalesce(max(position), 0) + 1, coalesce(max(applied_step), 0) FROM keen_lab_transaction",
        [],
        |row| Ok((row.get(0)?, row.get(1)?)),
    )?;
    transaction.execute(
        "INSERT INTO keen_lab_transaction VALUES (?1, ?2, ?1, ?3, ?3, ?4)",
        params![next, origin, step, crate::server::now()],
    )?;
    transaction.execute(
        "INSERT INTO keen_lab_change VALUES (?1, 0, ?2, ?3, ?4, ?5)",
        params![next, table, kind.name(), before, after],
    )?;
    Ok(())
}

impl WriteProbe for SqliteProbe {
    fn create(&mut self) -> Result<(), ReadFault> {
        self.connection
            .execute_batch(&create(Engine::Sqlite, &self.local))
            .map_err(|error| fault::explain(&self.path, "create the probe table", &error))
    }

    fn write(&mut self, id: &str, node: &str, stage: Stage) -> Result<(), ReadFault> {
        let local = quoted(&self.local);
        let row = |stage: Stage| stage.mark().map(|mark| journalled(id, node, mark));
        let mut done = || {
            let transaction = self.connection.transaction()?;
            let mark = stage.mark().unwrap_or_default();
            let rows = match stage {
                Stage::Insert => transaction.execute(
                    &format!("INSERT INTO {local} (id, node, stage) VALUES (?1, ?2, ?3)"),
                    params![id, node, mark],
                )?,
                Stage::Update => transaction.execute(
                    &format!("UPDATE {local} SET stage = ?2 WHERE id = ?1"),
                    params![id, mark],
                )?,
                Stage::Delete => {
                    transaction.execute(&format!("DELETE FROM {local} WHERE id = ?1"), [id])?
                }
            };
            if rows > 0 {
                let before = match stage {
                    Stage::Insert => None,
                    Stage::Update => row(Stage::Insert),
                    Stage::Delete => row(Stage::Update),
                };
                let change = (before, row(stage));
                journal(&transaction, &self.name, (&self.table, stage), change)?;
            }
            transaction.commit()
        };
        done().map_err(|error| fault::explain(&self.path, "write the probe's row", &error))
    }

    fn beat(&mut self, node: &str) -> Result<(), ReadFault> {
        let now = crate::server::now();
        let sql = format!(
            "INSERT INTO {} (node, beat) VALUES (?1, ?2) ON CONFLICT (node) DO UPDATE SET beat = excluded.beat",
            quoted(&self.local)
        );
        let mut done = || {
            let transaction = self.connection.transaction()?;
            transaction.execute(&sql, params![node, now])?;
            let name = node.replace('\\', "\\\\").replace('"', "\\\"");
            let after = format!("[[\"node\",\"{name}\"],[\"beat\",{now}]]");
            // To those who receive it an insert replaces what was there.
            journal(&transaction, &self.name, (&self.table, Stage::Insert), (None, Some(after)))?;
            transaction.commit()
        };
        done().map_err(|error| fault::explain(&self.path, "write the heartbeat", &error))
    }

    fn ids(&mut self) -> Result<Vec<String>, ReadFault> {
        let sql = format!("SELECT id FROM {} LIMIT 1000", quoted(&self.local));
        let read = || {
            let mut statement = self.connection.prepare(&sql)?;
            let ids = statement.query_map([], |row| row.get(0))?;
            ids.collect::<rusqlite::Result<Vec<String>>>()
        };
        read().map_err(|error| fault::explain(&self.path, "look for rows of other runs", &error))
    }

    fn find(&mut self, id: &str) -> Result<Option<String>, ReadFault> {
        let sql = format!("SELECT stage FROM {} WHERE id = ?1", quoted(&self.local));
        self.connection
            .query_row(&sql, [id], |row| row.get(0))
            .optional()
            .map_err(|error| fault::explain(&self.path, "look for the probe's row", &error))
    }
}
