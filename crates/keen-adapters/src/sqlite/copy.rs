//! Copying tables between SQLite files: one read transaction at the source, one write transaction at the receiver.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use keen_core::fault::ReadFault;
use keen_core::plan::copy::{CopyMoment, DeliverRows, GiveCopy, RowChunk, TakeCopy};
use keen_core::plan::port::{BatchMark, WriteSteps};
use rusqlite::types::{Value, ValueRef};

use super::write::SqliteWriter;
use super::{Options, SqliteNode, fault, quoted};
use crate::cells::{self, CellKind, Cells};

/// A SQLite file whose tables are copied.
#[derive(Debug)]
pub struct SqliteGiver {
    path: PathBuf,
    options: Options,
    /// Its snapshot, once the moment is fixed.
    node: Option<SqliteNode>,
}

impl SqliteGiver {
    /// Remembers where; it opens the file when the moment is fixed.
    #[must_use]
    pub fn new(path: &Path, options: Options) -> Self {
        Self { path: path.to_owned(), options, node: None }
    }
}

impl GiveCopy for SqliteGiver {
    fn moment(&mut self, _tables: &[String]) -> Result<CopyMoment, ReadFault> {
        self.node = Some(SqliteNode::open(&self.path, &self.options)?);
        Ok(CopyMoment { own: String::new(), others: BTreeMap::new() })
    }

    fn give(
        &mut self,
        table: &str,
        columns: &[String],
        deliver: &mut DeliverRows<'_>,
    ) -> Result<(), ReadFault> {
        let node = self.node.as_ref().ok_or_else(ReadFault::interrupted)?;
        let names: Vec<String> = columns.iter().map(|name| quoted(name)).collect();
        let sql = format!("SELECT {} FROM {}", names.join(", "), quoted(table));
        let explain = |error: rusqlite::Error| {
            fault::explain(&self.path, &format!("copy table {table}"), &error)
        };
        let mut statement = node.connection.prepare(&sql).map_err(explain)?;
        let mut rows = statement.query([]).map_err(explain)?;
        let mut chunk = RowChunk::default();
        while let Some(row) = rows.next().map_err(explain)? {
            for i in 0..columns.len() {
                put(&mut chunk.bytes, row.get_ref(i).map_err(explain)?);
            }
            chunk.rows += 1;
            if chunk.bytes.len() >= cells::CHUNK {
                deliver(std::mem::take(&mut chunk))?;
            }
        }
        if let Some(watch) = &node.watch {
            watch.unchanged()?;
        }
        match chunk.rows {
            0 => Ok(()),
            _ => deliver(chunk),
        }
    }
}

/// Numbers go as their bytes: an integer in eight, a float in eight and one more.
fn put(out: &mut Vec<u8>, cell: ValueRef<'_>) {
    match cell {
        ValueRef::Null => cells::put(out, CellKind::Null, b""),
        ValueRef::Integer(value) => cells::put(out, CellKind::Number, &value.to_le_bytes()),
        ValueRef::Real(value) => {
            let mut bytes = value.to_le_bytes().to_vec();
            bytes.push(0);
            cells::put(out, CellKind::Number, &bytes);
        }
        ValueRef::Text(text) => cells::put(out, CellKind::Text, text),
        ValueRef::Blob(bytes) => cells::put(out, CellKind::Bytes, bytes),
    }
}

fn taken((kind, cell): (CellKind, &[u8])) -> Result<Value, String> {
    Ok(match (kind, cell) {
        (CellKind::Null, _) => Value::Null,
        (CellKind::Number, [float @ .., _]) if float.len() == 8 => {
            Value::Real(f64::from_le_bytes(float.try_into().unwrap_or_default()))
        }
        (CellKind::Number, whole) => {
            Value::Integer(i64::from_le_bytes(whole.try_into().unwrap_or_default()))
        }
        (CellKind::Text, text) => {
            let text = std::str::from_utf8(text).map_err(|_| "a text is broken".to_owned())?;
            Value::Text(text.to_owned())
        }
        (CellKind::Bytes, bytes) => Value::Blob(bytes.to_vec()),
    })
}

/// A SQLite file that takes tables of another over.
#[derive(Debug)]
pub struct SqliteTaker {
    writer: SqliteWriter,
    /// References that led nowhere before the copy.
    dangled: i64,
}

impl SqliteTaker {
    /// Opens a file for writing.
    ///
    /// # Errors
    /// As [`SqliteWriter::open`].
    pub fn open(path: &Path, options: &Options) -> Result<Self, ReadFault> {
        Ok(Self { writer: SqliteWriter::open(path, options)?, dangled: 0 })
    }

    /// How many references of the file lead nowhere.
    fn dangling(&self) -> Result<i64, ReadFault> {
        let sql = "SELECT count(*) FROM pragma_foreign_key_check";
        let count = self.writer.connection.query_row(sql, [], |row| row.get(0));
        count.map_err(|error| self.writer.explain("look at its references", &error))
    }
}

impl TakeCopy for SqliteTaker {
    fn batch(&mut self) -> &mut dyn WriteSteps {
        &mut self.writer
    }

    fn begin(&mut self, mark: BatchMark, tables: &[String]) -> Result<bool, ReadFault> {
        self.writer.begin(Some(mark))?; // it locks the whole file
        self.dangled = self.dangling()?;
        let any: Vec<String> =
            tables.iter().map(|name| format!("EXISTS (SELECT 1 FROM {})", quoted(name))).collect();
        let sql = format!("SELECT {}", any.join(" OR "));
        let any = self.writer.connection.query_row(&sql, [], |row| row.get(0));
        any.map_err(|error| self.writer.explain("look into its tables", &error))
    }

    fn empty(&mut self, table: &str) -> Result<(), ReadFault> {
        self.writer.execute("empty a table", &format!("DELETE FROM {}", quoted(table)))
    }

    fn take(&mut self, table: &str, columns: &[String], rows: &RowChunk) -> Result<(), ReadFault> {
        let names: Vec<String> = columns.iter().map(|name| quoted(name)).collect();
        let places = vec!["?"; columns.len()].join(", ");
        let sql = format!("INSERT INTO {} ({}) VALUES ({places})", quoted(table), names.join(", "));
        let doing = "put rows into a table";
        let explain = |error: rusqlite::Error| self.writer.explain(doing, &error);
        let mut insert = self.writer.connection.prepare_cached(&sql).map_err(explain)?;
        let mut cells = Cells::of(rows);
        for _ in 0..rows.rows {
            let row: Result<Vec<Value>, String> =
                cells.by_ref().take(columns.len()).map(taken).collect();
            let row = row.map_err(|why| {
                ReadFault::new(format!("a row of {table} cannot be copied: {why}"), "mend it first")
            })?;
            insert.execute(rusqlite::params_from_iter(row)).map_err(explain)?;
        }
        Ok(())
    }

    /// The file does that itself when a row names its number.
    fn raise_counters(&mut self, _table: &str) -> Result<(), ReadFault> {
        Ok(())
    }

    /// Which tables refer to one that is copied no look at that table tells: so all references of the file are looked
    /// at.
    fn finish(&mut self) -> Result<(), ReadFault> {
        if self.dangling()? > self.dangled {
            return Err(ReadFault::new(
                "rows of other tables would refer to rows that are not in the copy".to_owned(),
                "add the tables that refer to it to the set",
            ));
        }
        Ok(())
    }
}
