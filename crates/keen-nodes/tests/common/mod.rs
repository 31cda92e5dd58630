//! Tables for tests, in memory and as SQLite files.

#![allow(
    dead_code,
    unreachable_pub,
    missing_docs,
    clippy::unwrap_used,
    reason = "each test uses its part"
)]

pub mod random;
pub mod typed;

use std::path::{Path, PathBuf};

use keen_core::shape::{ColumnShape, Family, TableShape};
use keen_core::value::Value;
use keen_nodes::memory::{MemoryNode, MemoryTable};
use keen_nodes::sqlite::{Options, SqliteNode, quoted};
use rusqlite::Connection;
use rusqlite::types::Value as Cell;

/// A table called `t`: untyped columns, so that SQLite keeps every value as it is.
#[derive(Debug, Clone)]
pub struct Table {
    pub columns: Vec<String>,
    pub key: Vec<String>,
    pub without_rowid: bool,
    pub rows: Vec<Vec<Value>>,
}

impl Table {
    pub fn new(columns: &[&str], key: &[&str], rows: Vec<Vec<Value>>) -> Self {
        let owned = |names: &[&str]| names.iter().map(|n| (*n).to_owned()).collect();
        Self { columns: owned(columns), key: owned(key), without_rowid: false, rows }
    }

    pub fn in_memory(&self) -> MemoryNode {
        let column = |name: &String| ColumnShape {
            name: name.clone(),
            declared: String::new(),
            family: Family::Any,
            not_null: false,
            optional: true,
            generated: false,
            fraction: None,
            ..ColumnShape::default()
        };
        let shape = TableShape {
            columns: self.columns.iter().map(column).collect(),
            key: self.key.clone(),
            ..TableShape::default()
        };
        MemoryNode {
            tables: [("t".to_owned(), MemoryTable { shape, rows: self.rows.clone() })].into(),
        }
    }

    /// Writes the table into a new SQLite file with that text encoding.
    pub fn to_sqlite(&self, path: &Path, encoding: &str) -> PathBuf {
        let connection = Connection::open(path).unwrap();
        let mut parts: Vec<String> = self.columns.iter().map(|name| quoted(name)).collect();
        if !self.key.is_empty() {
            let key: Vec<String> = self.key.iter().map(|name| quoted(name)).collect();
            parts.push(format!("PRIMARY KEY ({})", key.join(", ")));
        }
        let end = if self.without_rowid { " WITHOUT ROWID" } else { "" };
        connection
            .execute_batch(&format!(
                "PRAGMA encoding = '{encoding}'; PRAGMA synchronous = OFF; CREATE TABLE t ({}){end};",
                parts.join(", ")
            ))
            .unwrap();
        let places: Vec<String> = (1..=self.columns.len()).map(|i| format!("?{i}")).collect();
        connection.execute_batch("BEGIN").unwrap();
        {
            let mut insert = connection
                .prepare(&format!("INSERT INTO t VALUES ({})", places.join(", ")))
                .unwrap();
            for row in &self.rows {
                insert.execute(rusqlite::params_from_iter(row.iter().map(cell))).unwrap();
            }
        }
        connection.execute_batch("COMMIT").unwrap();
        path.to_owned()
    }
}

pub fn cell(value: &Value) -> Cell {
    match value {
        Value::Null => Cell::Null,
        Value::Int(v) => Cell::Integer((*v).try_into().unwrap()),
        Value::Float(v) => Cell::Real(*v),
        Value::Text(v) => Cell::Text(String::from_utf8(v.clone()).unwrap()),
        Value::Bytes(v) => Cell::Blob(v.clone()),
        other => panic!("SQLite has no {other:?}"),
    }
}

pub fn open(path: &Path) -> SqliteNode {
    SqliteNode::open(path, &Options::default()).unwrap()
}
