//! Tables for tests, in memory and as SQLite files.

#![allow(missing_docs, clippy::unwrap_used, reason = "helpers of tests")]

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use keen_adapters::memory::{MemoryNode, MemoryTable};
use keen_adapters::sqlite::{Options, SqliteNode, quoted};
use keen_core::row::schema::{ColumnShape, Family, TableShape};
use keen_core::topology::{
    Address, Authority, ColumnChoice, Limits, Link, Node, NodeId, TableSet, Tls, Topology,
};
use keen_core::value::Value;
use rusqlite::Connection;
use rusqlite::types::Value as Cell;

/// A table called `t`: untyped columns, so that SQLite keeps every value as it is.
#[derive(Debug, Clone)]
pub struct UntypedTable {
    pub columns: Vec<String>,
    pub key: Vec<String>,
    pub without_rowid: bool,
    pub rows: Vec<Vec<Value>>,
}

impl UntypedTable {
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

/// Nodes by these names, each with whether it is written to, links between them, and a set `s` of the table `t`.
pub fn topology(nodes: &[(&str, bool)], edges: &[(NodeId, NodeId)]) -> Topology {
    let node = |(name, writes): &(&str, bool)| Node {
        name: (*name).to_owned(),
        at: Address::Sqlite(format!("{name}.db")),
        password: None,
        mend: None,
        replication: None,
        tls: Tls::default(),
        journal: None,
        column_names: BTreeMap::new(),
        also_at: Vec::new(),
        writes: *writes,
        names: BTreeMap::new(),
    };
    let set = TableSet {
        name: "s".to_owned(),
        tables: vec!["t".to_owned()],
        filter: None,
        columns: ColumnChoice::All,
    };
    Topology {
        name: "a test".to_owned(),
        nodes: nodes.iter().map(node).collect(),
        sets: vec![set],
        links: edges
            .iter()
            .map(|(from, to)| Link { from: *from, to: *to, carries: vec![0], delay: None })
            .collect(),
        limits: Limits::default(),
        authority: Authority::default(),
        compare: BTreeMap::new(),
        unique: BTreeMap::new(),
        not_judged: Vec::new(),
        zone: None,
        heartbeat: None,
    }
}
