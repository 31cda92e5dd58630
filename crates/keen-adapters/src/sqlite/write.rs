//! Writing the steps of a plan to a SQLite file, each batch in one transaction.
//!
//! Foreign keys are not enforced meanwhile: nothing cascades. References of the rows that a batch touches are looked
//! at before it is kept. The mark of a batch stands in a table of the file, which goes with the run.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use keen_core::engine::service_tables::MARKS;
use keen_core::fault::ReadFault;
use keen_core::plan::port::{BatchMark, WriteFault, WriteSteps};
use keen_core::plan::{LocalTable, Step};
use keen_core::row::schema::Reference;
use rusqlite::{Connection, ErrorCode, OpenFlags, params};

use super::{Options, fault, quoted, shape};

/// A SQLite file to which steps are written.
#[derive(Debug)]
pub struct SqliteWriter {
    pub(super) connection: Connection,
    path: PathBuf,
    /// Tables with the references of the file, by name.
    tables: HashMap<String, Arc<LocalTable>>,
    /// Of each table what it refers to, once somebody asked.
    references: Option<Vec<(String, Reference)>>,
}

impl SqliteWriter {
    /// Opens a file for writing.
    ///
    /// # Errors
    /// [`ReadFault`] when it is not there or cannot be written.
    pub fn open(path: &Path, options: &Options) -> Result<Self, ReadFault> {
        let open = || {
            let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
            let connection = Connection::open_with_flags(path, flags)?;
            connection.busy_timeout(options.lock_wait)?;
            connection.pragma_update(None, "trusted_schema", false)?;
            connection.pragma_update(None, "foreign_keys", false)?;
            connection.query_row("SELECT count(*) FROM sqlite_schema", [], |_| Ok(()))?;
            Ok(connection)
        };
        let connection = open().map_err(|error| fault::explain(path, "open the file", &error))?;
        if connection.is_readonly("main").unwrap_or(false) {
            return Err(ReadFault::new(
                format!("{} can only be read", path.display()),
                "let this account write the file and its folder",
            ));
        }
        Ok(Self { connection, path: path.to_owned(), tables: HashMap::new(), references: None })
    }

    pub(super) fn explain(&self, doing: &str, error: &rusqlite::Error) -> ReadFault {
        fault::explain(&self.path, doing, error)
    }

    pub(super) fn execute(&self, doing: &str, sql: &str) -> Result<(), ReadFault> {
        self.connection.execute_batch(sql).map_err(|error| self.explain(doing, &error))
    }

    /// Of each table what it refers to.
    fn references(&mut self) -> rusqlite::Result<&[(String, Reference)]> {
        if self.references.is_none() {
            let sql = "SELECT name FROM sqlite_schema WHERE type = 'table'";
            let mut tables = self.connection.prepare(sql)?;
            let tables = tables.query_map([], |row| row.get(0))?;
            let tables = tables.collect::<rusqlite::Result<Vec<String>>>()?;
            let mut found = Vec::new();
            for table in tables {
                for reference in shape::references(&self.connection, &table)? {
                    found.push((table.clone(), reference));
                }
            }
            self.references = Some(found);
        }
        Ok(self.references.as_deref().unwrap_or_default())
    }

    /// The same step on its table with all the references of the file.
    fn with_references(&mut self, step: &Step) -> rusqlite::Result<Step> {
        let local = step.local();
        if !self.tables.contains_key(&local.name) {
            let name = local.name.clone();
            let is = |other: &str| other.eq_ignore_ascii_case(&name);
            let mut table = LocalTable::clone(local);
            let all = self.references()?;
            let of = all.iter().filter(|(child, _)| is(child)).map(|(_, reference)| Reference {
                place: quoted(&reference.table),
                ..reference.clone()
            });
            table.shape.references = of.collect();
            let to = all.iter().filter(|(_, reference)| is(&reference.table));
            table.shape.referred_by = to
                .map(|(child, reference)| Reference {
                    table: child.clone(),
                    place: quoted(child),
                    ..reference.clone()
                })
                .collect();
            self.tables.insert(name, Arc::new(table));
        }
        Ok(step.clone().on(&self.tables[&local.name]))
    }
}

impl WriteSteps for SqliteWriter {
    fn about(&self) -> String {
        String::new()
    }

    fn begin(&mut self, mark: Option<BatchMark>) -> Result<(), ReadFault> {
        self.execute("begin a transaction", "BEGIN IMMEDIATE")?;
        let Some(mark) = mark else { return Ok(()) };
        let marks = quoted(MARKS);
        let kept = self
            .connection
            .execute_batch(&format!(
                "CREATE TABLE IF NOT EXISTS {marks} (run INTEGER NOT NULL, plan INTEGER NOT NULL, batch INTEGER NOT NULL, PRIMARY KEY (run, plan, batch))"
            ))
            .and_then(|()| {
                self.connection.execute(
                    &format!("INSERT INTO {marks} VALUES (?1, ?2, ?3)"),
                    params![mark.run, mark.plan, mark.batch],
                )
            });
        kept.map(drop).map_err(|error| {
            let fault = self.explain("keep the mark of a batch", &error);
            drop(self.connection.execute_batch("ROLLBACK"));
            fault
        })
    }

    fn write(&mut self, step: &Step) -> Result<u64, WriteFault> {
        let (write, _) = step.write_and_undo();
        let done = self.connection.execute(&write.statement.literal(), []);
        done.map(|rows| rows as u64).map_err(|error| {
            let fault = self.explain("write a row", &error);
            match error.sqlite_error_code() {
                Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
                    WriteFault::Locked(fault)
                }
                Some(
                    ErrorCode::ConstraintViolation | ErrorCode::TypeMismatch | ErrorCode::TooBig,
                ) => WriteFault::Refused(fault),
                // A trigger or a misfit of the statement itself.
                Some(ErrorCode::Unknown) => WriteFault::Refused(fault),
                _ => WriteFault::Lost(fault),
            }
        })
    }

    fn dangling(&mut self, steps: &[&Step]) -> Result<Vec<(usize, String)>, ReadFault> {
        let mut found = Vec::new();
        for (at, step) in steps.iter().enumerate() {
            let step = self.with_references(step);
            let step = step.map_err(|error| self.explain("look at its references", &error))?;
            for (query, say) in step.references() {
                let count = self.connection.query_row(&query.literal(), [], |row| row.get(0));
                let count: i64 = count.map_err(|e| self.explain("look at its references", &e))?;
                if count > 0 {
                    found.push((at, say));
                    break;
                }
            }
        }
        Ok(found)
    }

    fn commit(&mut self) -> Result<(), ReadFault> {
        self.execute("keep a batch", "COMMIT")
    }

    fn roll_back(&mut self) -> Result<(), ReadFault> {
        if self.connection.is_autocommit() {
            return Ok(()); // an error has done it
        }
        self.execute("roll a batch back", "ROLLBACK")
    }

    fn was_kept(
        &mut self,
        mark: BatchMark,
        _transaction: Option<&str>,
    ) -> Result<Option<bool>, ReadFault> {
        let there = "SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name = ?1";
        let sql = format!(
            "SELECT count(*) FROM {} WHERE run = ?1 AND plan = ?2 AND batch = ?3",
            quoted(MARKS)
        );
        let asked = || -> rusqlite::Result<Option<bool>> {
            let tables: i64 = self.connection.query_row(there, [MARKS], |row| row.get(0))?;
            if tables == 0 {
                return Ok(Some(false));
            }
            let marks: i64 = self.connection.query_row(
                &sql,
                params![mark.run, mark.plan, mark.batch],
                |row| row.get(0),
            )?;
            Ok(Some(marks > 0))
        };
        asked().map_err(|error| self.explain("ask for the mark of a batch", &error))
    }

    fn forget(&mut self, mark: BatchMark) -> Result<(), ReadFault> {
        let marks = quoted(MARKS);
        let there = "SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name = ?1";
        let forget = || -> rusqlite::Result<()> {
            let tables: i64 = self.connection.query_row(there, [MARKS], |row| row.get(0))?;
            if tables == 0 {
                return Ok(());
            }
            self.connection
                .execute(&format!("DELETE FROM {marks} WHERE plan = ?1"), [mark.plan])?;
            let left: i64 =
                self.connection
                    .query_row(&format!("SELECT count(*) FROM {marks}"), [], |row| row.get(0))?;
            if left == 0 {
                self.connection.execute_batch(&format!("DROP TABLE {marks}"))?;
            }
            Ok(())
        };
        forget().map_err(|error| self.explain("forget the marks of batches", &error))
    }
}
