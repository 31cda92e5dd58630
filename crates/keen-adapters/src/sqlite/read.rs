//! One ordered pass over one table.
//!
//! Rows come in the order of [`keen_core::row::key_order`]: NULL, numbers, text by its
//! UTF-8 bytes, bytes. That is SQLite's own order under the BINARY collation
//! as long as the file stores text as UTF-8, and then an index on the key
//! serves. Otherwise rows are wanted in whatever order is cheapest, and come in
//! that of the table. In a UTF-16 file SQLite compares the UTF-16 bytes, so the order is
//! made by a function there and SQLite sorts, on disk where need be.

use keen_core::engine::selection::condition;
use keen_core::topology::Engine;
use std::path::Path;

use keen_core::fault::ReadFault;
use keen_core::ports::TableRequest;
use keen_core::row::batch::{Batch, RowWriter};
use keen_core::value::{Value, ValueRef};
use rusqlite::types::ValueRef as Cell;
use rusqlite::{Connection, Row};

use super::inside::{self, BatchFiller, TAKE_FUNCTION};
use super::open::UnchangingFile;
use super::shape::{Encoding, SqliteLayout};
use super::utf16::{self, CELLS_PER_CALL, ORDER_FUNCTION};
use super::{fault, quoted};

/// One table of one open file, to be read.
pub(super) struct SqliteTableRead<'a> {
    pub(super) connection: &'a Connection,
    pub(super) path: &'a Path,
    pub(super) encoding: Encoding,
    pub(super) local: &'a SqliteLayout,
    pub(super) watch: Option<&'a UnchangingFile>,
    pub(super) request: &'a TableRequest,
}

impl SqliteTableRead<'_> {
    /// Reads the table into `writer`, batch by batch.
    pub(super) fn run(
        &self,
        mut writer: RowWriter,
        deliver: &mut dyn FnMut(Batch) -> Option<Batch>,
    ) -> Result<(), ReadFault> {
        let explain = |error| self.explain(&error);
        if !self.request.ordered {
            writer = writer.in_any_order();
        }
        let columns = self.request.columns.len();
        let translated = self.encoding != Encoding::Utf8;
        let select = Select::of(self).map_err(explain)?;
        if !translated && inside::fits(self.connection, columns) {
            let taking = BatchFiller::register(
                self.connection,
                writer.clone(),
                self.request.filter.is_some(),
            )
            .map_err(explain)?;
            let sql = select.inside();
            let sorts = inside::sorts(self.connection, &sql).map_err(|e| self.refused(&e))?;
            if !sorts {
                return self.run_inside(&taking, &sql, deliver);
            }
        }
        let sql = select.fetched();
        let outside_at = if translated { columns * 2 } else { columns };
        let filtered = self.request.filter.is_some();

        let mut statement = self.connection.prepare(&sql).map_err(|error| self.refused(&error))?;
        let mut rows = statement.query([]).map_err(explain)?;
        let mut values: Vec<Value> = Vec::new();
        while let Some(row) = rows.next().map_err(explain)? {
            let outside = filtered && row.get::<_, bool>(outside_at).map_err(explain)?;
            let full = if translated {
                self.translate(row, &mut values).map_err(explain)?;
                writer.push::<ReadFault>(outside, |i| {
                    Ok(values.get(i).map_or(ValueRef::Null, Value::as_ref))
                })?
            } else {
                writer.push::<ReadFault>(outside, |i| row.get_ref(i).map(value).map_err(explain))?
            };
            if full {
                self.unchanged()?;
                let Some(spent) = deliver(writer.take()) else {
                    return Ok(());
                };
                writer.reuse(spent);
            }
        }
        self.unchanged()?;
        deliver(writer.take());
        Ok(())
    }

    /// Reads the table without fetching its cells one by one.
    fn run_inside(
        &self,
        taking: &BatchFiller,
        sql: &str,
        deliver: &mut dyn FnMut(Batch) -> Option<Batch>,
    ) -> Result<(), ReadFault> {
        let mut statement = self.connection.prepare(sql).map_err(|error| self.refused(&error))?;
        let mut full = statement.query([]).map_err(|error| self.explain(&error))?;
        while full.next().map_err(|error| self.explain(&error))?.is_some() {
            let batch = taking.batch()?;
            self.unchanged()?;
            let Some(spent) = deliver(batch) else {
                return Ok(());
            };
            taking.reuse(spent);
        }
        drop(full);
        let rest = format!("SELECT {TAKE_FUNCTION}()");
        self.connection.query_row(&rest, [], |_| Ok(())).map_err(|error| self.explain(&error))?;
        let rest = taking.batch()?;
        self.unchanged()?;
        deliver(rest);
        Ok(())
    }

    /// Takes a row of a UTF-16 file, where each column comes as two.
    fn translate(&self, row: &Row<'_>, values: &mut Vec<Value>) -> rusqlite::Result<()> {
        values.clear();
        for i in 0..self.request.columns.len() {
            let is_text = row.get::<_, bool>(i * 2 + 1)?;
            let cell = row.get_ref(i * 2)?;
            values.push(utf16::cell(cell, is_text, self.encoding.big_end_first()));
        }
        Ok(())
    }

    fn unchanged(&self) -> Result<(), ReadFault> {
        self.watch.map_or(Ok(()), UnchangingFile::unchanged)
    }

    fn explain(&self, error: &rusqlite::Error) -> ReadFault {
        fault::explain(self.path, &format!("read table {}", self.local.name), error)
    }

    /// The query itself was refused: most often it is the set's filter.
    fn refused(&self, error: &rusqlite::Error) -> ReadFault {
        let Some(filter) = &self.request.filter else {
            return self.explain(error);
        };
        let tried = format!("read table {} where {}", self.local.name, filter.trim());
        let mut fault = fault::explain(self.path, &tried, error);
        if !fault.is_interrupted() {
            fault.advice = "correct the set's row filter, or the node's columns".to_owned();
        }
        fault
    }
}

/// A cell as the core takes it.
#[inline]
pub(super) fn value(cell: Cell<'_>) -> ValueRef<'_> {
    match cell {
        Cell::Null => ValueRef::Null,
        Cell::Integer(v) => ValueRef::Int(v.into()),
        // Its own text knows one zero.
        Cell::Real(v) => ValueRef::Float(if v == 0.0 { 0.0 } else { v }),
        Cell::Text(v) => ValueRef::Text(v),
        Cell::Blob(v) => ValueRef::Bytes(v),
    }
}

/// The parts of the query.
struct Select {
    columns: Vec<String>,
    /// Whether a row lies outside the set's filter.
    outside: Option<String>,
    table: String,
    wanted: Option<String>,
    order: Vec<String>,
}

impl Select {
    fn of(read: &SqliteTableRead<'_>) -> rusqlite::Result<Self> {
        let SqliteTableRead { connection, encoding, local, request, .. } = read;
        let columns: Vec<String> = request.columns.iter().map(|name| quoted(name)).collect();
        let mut ordered: Vec<String> = local.key.iter().map(|name| quoted(name)).collect();
        if !request.ordered {
            ordered.clear();
        } else if ordered.is_empty() || has_null_keys(connection, local)? {
            ordered.extend(columns.iter().cloned());
        }
        let (columns, order) = if *encoding == Encoding::Utf8 {
            (columns, ordered.iter().map(|column| format!("{column} COLLATE BINARY")).collect())
        } else {
            let end = i32::from(encoding.big_end_first());
            let calls = ordered.chunks(CELLS_PER_CALL).map(|cells| {
                let cells: Vec<String> =
                    cells.iter().map(|column| with_text_as_bytes(column)).collect();
                format!("{ORDER_FUNCTION}({end}, {})", cells.join(", "))
            });
            (columns.iter().map(|column| with_text_as_bytes(column)).collect(), calls.collect())
        };
        Ok(Self {
            columns,
            // On lines of its own, so that a comment in the filter ends where the filter ends.
            outside: request.filter.as_ref().map(|filter| format!("((\n{filter}\n) IS NOT TRUE)")),
            table: quoted(&local.name),
            wanted: condition(
                Engine::Sqlite,
                &request.rows,
                local.key.first().map(String::as_str),
                !local.nullable_key.is_empty(),
            ),
            order,
        })
    }

    fn cells(&self) -> String {
        let cells: Vec<&str> =
            self.columns.iter().chain(&self.outside).map(String::as_str).collect();
        cells.join(", ")
    }

    /// A row of the result for each row of the table.
    fn fetched(&self) -> String {
        let wanted = self.wanted.iter().map(|wanted| format!(" WHERE {wanted}"));
        self.from(&self.cells(), &wanted.collect::<String>())
    }

    /// A row of the result for each full batch.
    fn inside(&self) -> String {
        let take = format!("{TAKE_FUNCTION}({})", self.cells());
        let conditions = match &self.wanted {
            Some(wanted) => format!(" WHERE ({wanted}) AND {take}"),
            None => format!(" WHERE {take}"),
        };
        self.from("1", &conditions)
    }

    fn from(&self, selected: &str, conditions: &str) -> String {
        let mut sql = format!("SELECT {selected} FROM {}{conditions}", self.table);
        if !self.order.is_empty() {
            sql.push_str(" ORDER BY ");
            sql.push_str(&self.order.join(", "));
        }
        sql
    }
}

fn with_text_as_bytes(column: &str) -> String {
    format!(
        "CASE typeof({column}) WHEN 'text' THEN CAST({column} AS BLOB) ELSE {column} END, typeof({column}) = 'text'"
    )
}

/// SQLite lets NULL into most keys, any number of times.
fn has_null_keys(connection: &Connection, local: &SqliteLayout) -> rusqlite::Result<bool> {
    if local.nullable_key.is_empty() {
        return Ok(false);
    }
    let conditions: Vec<String> =
        local.nullable_key.iter().map(|name| format!("{} IS NULL", quoted(name))).collect();
    let sql = format!(
        "SELECT EXISTS (SELECT 1 FROM {} WHERE {})",
        quoted(&local.name),
        conditions.join(" OR ")
    );
    connection.query_row(&sql, [], |row| row.get(0))
}
