//! The same typed table in every engine: in memory, as a SQLite file, and on real servers.

#![allow(missing_docs, clippy::unwrap_used, reason = "helpers of tests")]

use std::path::{Path, PathBuf};
use std::sync::LazyLock;
use std::sync::atomic::{AtomicUsize, Ordering};

use crate::{Server, ServerLab};
use keen_adapters::mariadb::MariaDbNode;
use keen_adapters::memory::{MemoryNode, MemoryTable};
use keen_adapters::postgres::PostgresNode;
use keen_adapters::server::Access;
use keen_core::ports::ReadRows;
use keen_core::row::schema::{ColumnShape, Family, TableShape};
use keen_core::topology::{Engine, ServerAddress};
use keen_core::value::Value;
use mysql::prelude::Queryable;
use rusqlite::Connection;

/// The kind of values in a column, in all engines.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ColumnKind {
    Bool,
    Int,
    Decimal,
    Double,
    Text,
    Bytes,
    Date,
    Time,
    Local,
    Moment,
    Uuid,
    Json,
}

impl ColumnKind {
    pub const ALL: [Self; 12] = [
        Self::Bool,
        Self::Int,
        Self::Decimal,
        Self::Double,
        Self::Text,
        Self::Bytes,
        Self::Date,
        Self::Time,
        Self::Local,
        Self::Moment,
        Self::Uuid,
        Self::Json,
    ];

    /// The engines' names for it; for a key, where some types are too long.
    fn declared(self, engine: Engine, in_key: bool) -> &'static str {
        let (sqlite, postgres, mariadb) = match self {
            Self::Bool => ("BOOLEAN", "boolean", "tinyint(1)"),
            Self::Int => ("INTEGER", "bigint", "bigint"),
            Self::Decimal => ("NUMERIC", "numeric(30,6)", "decimal(30,6)"),
            Self::Double => ("REAL", "double precision", "double"),
            Self::Text if in_key => ("TEXT", "text", "varchar(100)"),
            Self::Text => ("TEXT", "text", "longtext"),
            Self::Bytes if in_key => ("BLOB", "bytea", "varbinary(100)"),
            Self::Bytes => ("BLOB", "bytea", "longblob"),
            Self::Date => ("DATE", "date", "date"),
            Self::Time => ("TIME", "time without time zone", "time(6)"),
            Self::Local => ("DATETIME", "timestamp without time zone", "datetime(6)"),
            Self::Moment => ("TIMESTAMP", "timestamp with time zone", "timestamp(6)"),
            Self::Uuid => ("UUID", "uuid", "uuid"),
            Self::Json => ("JSON", "jsonb", "json"),
        };
        match engine {
            Engine::Sqlite => sqlite,
            Engine::Postgres => postgres,
            Engine::MariaDb => mariadb,
        }
    }

    fn family(self) -> Family {
        match self {
            Self::Bool => Family::Boolean,
            Self::Int => Family::Integer,
            Self::Decimal => Family::Decimal,
            Self::Double => Family::Real,
            Self::Text => Family::Text,
            Self::Bytes => Family::Bytes,
            Self::Date => Family::Date,
            Self::Time => Family::Time,
            Self::Local => Family::LocalTimestamp,
            Self::Moment => Family::Timestamp,
            Self::Uuid => Family::Uuid,
            Self::Json => Family::Json,
        }
    }
}

/// Where a table can be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Host {
    Memory,
    Sqlite,
    Server(crate::ServerKind),
}

impl Host {
    pub const ALL: [Self; 5] = [
        Self::Memory,
        Self::Sqlite,
        Self::Server(crate::ServerKind::Postgres15),
        Self::Server(crate::ServerKind::Postgres18),
        Self::Server(crate::ServerKind::MariaDb),
    ];

    fn engine(self) -> Engine {
        match self {
            Self::Memory | Self::Sqlite => Engine::Sqlite,
            Self::Server(engine) if engine.is_postgres() => Engine::Postgres,
            Self::Server(_) => Engine::MariaDb,
        }
    }
}

struct Servers {
    _lab: ServerLab,
    all: Vec<Server>,
}

/// One server of each kind for all tests of a program; the lab's watcher ends them when it ends.
static SERVERS: LazyLock<Servers> = LazyLock::new(|| {
    let lab = ServerLab::new().unwrap();
    let wanted: Vec<_> = crate::ServerKind::ALL.into_iter().map(|e| (e.name(), e)).collect();
    let all = lab.start_all(&wanted).unwrap();
    Servers { _lab: lab, all }
});

pub fn server(engine: crate::ServerKind) -> &'static Server {
    SERVERS.all.iter().find(|server| server.engine() == engine).unwrap()
}

pub fn access(server: &Server) -> Access {
    let engine = if server.engine().is_postgres() { Engine::Postgres } else { Engine::MariaDb };
    let place = ServerAddress {
        engine,
        user: crate::CHECKER.0.to_owned(),
        host: "127.0.0.1".to_owned(),
        port: server.port(),
        database: crate::DATABASE.to_owned(),
        text: server.address(),
    };
    Access::plain(place, Some(crate::CHECKER.1))
}

pub fn connect(server: &Server) -> Box<dyn ReadRows> {
    if server.engine().is_postgres() {
        Box::new(PostgresNode::open(&access(server)).unwrap())
    } else {
        Box::new(MariaDbNode::open(&access(server)).unwrap())
    }
}

static NUMBER: AtomicUsize = AtomicUsize::new(0);

/// A table with a name that no other test uses.
#[derive(Debug, Clone)]
pub struct Typed {
    pub name: String,
    pub columns: Vec<(String, ColumnKind)>,
    pub key: Vec<String>,
    /// The key is only unique, not primary.
    pub only_unique: bool,
    /// MariaDB's, one that tells texts apart by their bytes; not every one also sorts by them.
    pub collation: &'static str,
    pub rows: Vec<Vec<Value>>,
}

impl Typed {
    pub fn new(columns: &[(&str, ColumnKind)], key: &[&str], rows: Vec<Vec<Value>>) -> Self {
        let number = NUMBER.fetch_add(1, Ordering::Relaxed);
        Self {
            name: format!("t{number}"),
            columns: columns.iter().map(|(name, kind)| ((*name).to_owned(), *kind)).collect(),
            key: key.iter().map(|name| (*name).to_owned()).collect(),
            only_unique: false,
            collation: "utf8mb4_nopad_bin",
            rows,
        }
    }

    pub fn shapes(&self, engine: Engine) -> Vec<ColumnShape> {
        let shape = |(name, kind): &(String, ColumnKind)| ColumnShape {
            name: name.clone(),
            declared: kind.declared(engine, self.key.contains(name)).to_owned(),
            family: kind.family(),
            not_null: self.key.contains(name),
            optional: true,
            generated: false,
            fraction: None,
            ..ColumnShape::default()
        };
        self.columns.iter().map(shape).collect()
    }

    fn create(&self, engine: Engine) -> String {
        let quoted = |name: &str| engine.dialect().quoted(name);
        let mut parts: Vec<String> = self
            .shapes(engine)
            .iter()
            .map(|c| {
                let null = match (c.not_null, engine) {
                    (true, _) => " NOT NULL",
                    (false, Engine::MariaDb) => " NULL DEFAULT NULL",
                    (false, _) => "",
                };
                format!("{} {}{null}", quoted(&c.name), c.declared)
            })
            .collect();
        if !self.key.is_empty() {
            let key: Vec<String> = self.key.iter().map(|name| quoted(name)).collect();
            let word = if self.only_unique { "UNIQUE" } else { "PRIMARY KEY" };
            parts.push(format!("{word} ({})", key.join(", ")));
        }
        let end = match engine {
            Engine::MariaDb => format!(" COLLATE {}", self.collation),
            _ => String::new(),
        };
        format!("CREATE TABLE {} ({}){end}", quoted(&self.name), parts.join(", "))
    }

    fn inserts(&self, engine: Engine) -> Vec<String> {
        let shapes = self.shapes(engine);
        let row = |row: &Vec<Value>| {
            let cells: Vec<String> = row
                .iter()
                .zip(&shapes)
                .map(|(value, column)| engine.dialect().literal(value, Some(column)))
                .collect();
            format!("({})", cells.join(", "))
        };
        let table = engine.dialect().quoted(&self.name);
        self.rows
            .chunks(50)
            .map(|rows| {
                let rows: Vec<String> = rows.iter().map(row).collect();
                format!("INSERT INTO {table} VALUES {}", rows.join(", "))
            })
            .collect()
    }

    /// Makes the table there and opens the node.
    pub fn put(&self, host: Host, folder: &Path) -> Box<dyn ReadRows> {
        self.make(host, folder);
        self.open(host, folder)
    }

    fn file(&self, folder: &Path) -> PathBuf {
        folder.join(format!("{}.db", self.name.replace('/', "_")))
    }

    pub fn make(&self, host: Host, folder: &Path) {
        self.run(host, folder, &self.create(host.engine()));
        for insert in self.inserts(host.engine()) {
            self.run(host, folder, &insert);
        }
    }

    pub fn open(&self, host: Host, folder: &Path) -> Box<dyn ReadRows> {
        match host {
            Host::Memory => Box::new(self.in_memory()),
            Host::Sqlite => Box::new(crate::tables::open(&self.file(folder))),
            Host::Server(engine) => connect(server(engine)),
        }
    }

    /// Runs one statement where the table is; in memory nothing is run.
    pub fn run(&self, host: Host, folder: &Path, sql: &str) {
        let shown = || sql.chars().take(400).collect::<String>();
        match host {
            Host::Memory => {}
            Host::Sqlite => {
                let connection = Connection::open(self.file(folder)).unwrap();
                connection.execute_batch(sql).unwrap_or_else(|e| panic!("{e}: {}", shown()));
            }
            Host::Server(engine) if engine.is_postgres() => {
                let mut client = server(engine).postgres().unwrap();
                client.batch_execute(sql).unwrap_or_else(|e| panic!("{e:?}: {}", shown()));
            }
            Host::Server(engine) => {
                let mut client = server(engine).mariadb().unwrap();
                client
                    .query_drop("SET SESSION sql_mode = 'STRICT_ALL_TABLES,ANSI_QUOTES,NO_BACKSLASH_ESCAPES', time_zone = '+00:00'")
                    .unwrap();
                client.query_drop(sql).unwrap_or_else(|e| panic!("{e}: {}", shown()));
            }
        }
    }

    pub fn in_memory(&self) -> MemoryNode {
        let shape = TableShape {
            columns: self.shapes(Engine::Postgres),
            key: self.key.clone(),
            ..TableShape::default()
        };
        let table = MemoryTable { shape, rows: self.rows.clone() };
        MemoryNode { tables: [(self.name.clone(), table)].into() }
    }

    pub fn drop_everywhere(&self) {
        for host in Host::ALL {
            if let Host::Server(_) = host {
                let sql = format!("DROP TABLE {}", host.engine().dialect().quoted(&self.name));
                self.run(host, Path::new(""), &sql);
            }
        }
    }
}
