//! SQLite files as nodes.
//!
//! A file is opened read-only and read in one transaction, so it is seen as of
//! one moment. In WAL mode a writer is not held up by that; in the rollback
//! journal modes SQLite itself makes a writer wait for readers when it commits.
//!
//! SQLite is dynamically typed, so cells are taken by what they are, not by
//! what their column declares. Text is taken as the bytes in the file. A file
//! whose text is UTF-16 has its text translated here rather than by SQLite,
//! which would make unpaired surrogates into something else.

mod adapter;
mod copy;
mod fault;
mod inside;
mod journal;
mod links;
mod look;
mod open;
mod probe;
mod queries;
mod read;
mod setup;
mod shape;
mod utf16;
mod write;

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use keen_core::fault::ReadFault;
use keen_core::ports::{ReadRows, TableRequest};
use keen_core::row::batch::{Batch, RowWriter};
use keen_core::row::schema::TableShape;
use rusqlite::Connection;
use rusqlite::config::DbConfig;

pub use adapter::SqliteAdapter;
pub use copy::{SqliteGiver, SqliteTaker};
pub use journal::SqliteJournal;
pub use links::SqliteLinks;
pub use probe::SqliteProbe;
pub use setup::SqliteSetup;
pub use shape::{Encoding, family};
pub use write::SqliteWriter;

/// How a file is to be opened.
#[derive(Debug, Clone)]
pub struct Options {
    /// How long to wait for a lock that somebody else holds.
    pub lock_wait: Duration,
    /// Page cache in KiB; an ordered scan gains nothing from more.
    pub cache_kib: u32,
    /// Raised to stop whatever is being read.
    pub stop: Arc<AtomicBool>,
}

impl Default for Options {
    fn default() -> Self {
        Self { lock_wait: Duration::from_secs(5), cache_kib: 1024, stop: Arc::default() }
    }
}

/// Virtual machine steps between two looks at the stop flag.
const STEPS_PER_LOOK: i32 = 20_000;

/// An open SQLite file, fixed at one moment.
#[derive(Debug)]
pub struct SqliteNode {
    connection: Connection,
    path: PathBuf,
    encoding: Encoding,
    journal_mode: String,
    /// Over a file that is taken as unchanging.
    watch: Option<open::UnchangingFile>,
    options: Options,
    /// The tables that `shape` looked at, as `read` has to know them.
    tables: HashMap<String, shape::SqliteLayout>,
}

impl SqliteNode {
    /// Opens a file and fixes the moment as of which it is read.
    ///
    /// # Errors
    /// [`ReadFault`] when it is not there, not a database, locked, damaged or not readable.
    pub fn open(path: &Path, options: &Options) -> Result<Self, ReadFault> {
        let shown = path.display();
        match std::fs::metadata(path) {
            Ok(found) if found.is_dir() => {
                return Err(ReadFault::new(
                    format!("{shown} is a folder"),
                    "name the database file inside it",
                ));
            }
            Ok(_) => {}
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                return Err(ReadFault::new(
                    format!("{shown} does not exist"),
                    "correct the node's address; a relative path is relative to the folder of the topology file",
                ));
            }
            Err(error) => {
                return Err(ReadFault::new(
                    format!("{shown}: {error}"),
                    "let this account read the file and its folder",
                ));
            }
        }
        Self::connect(path, options).map_err(|error| fault::explain(path, "open the file", &error))
    }

    fn connect(path: &Path, options: &Options) -> rusqlite::Result<Self> {
        let (mut connection, watch) = open::read_only(path)?;
        connection.busy_timeout(options.lock_wait)?;
        let stop = Arc::clone(&options.stop);
        connection.progress_handler(STEPS_PER_LOOK, Some(move || stop.load(Ordering::Relaxed)))?;
        // "a misspelled column" in a filter is an error, not a text that never matches.
        connection.set_db_config(DbConfig::SQLITE_DBCONFIG_DQS_DML, false)?;
        connection.pragma_update(None, "query_only", true)?;
        // A schema can carry functions of its maker's choice; nothing here needs them.
        connection.pragma_update(None, "trusted_schema", false)?;
        connection.pragma_update(None, "cell_size_check", true)?;
        connection.pragma_update(None, "cache_size", -i64::from(options.cache_kib))?;
        utf16::register_order_function(&connection)?;
        connection.execute_batch("BEGIN")?;
        // The first read takes the snapshot, and is the first to notice a file that is no database.
        connection.query_row("SELECT count(*) FROM sqlite_schema", [], |_| Ok(()))?;
        let encoding: String = connection.pragma_query_value(None, "encoding", |row| row.get(0))?;
        let journal_mode = match &watch {
            // SQLite itself sees no journal beside a file that it was told does not change.
            Some(_) => "wal".to_owned(),
            None => connection.pragma_query_value(None, "journal_mode", |row| row.get(0))?,
        };
        Ok(Self {
            connection,
            path: path.to_owned(),
            encoding: Encoding::from_name(&encoding),
            journal_mode,
            watch,
            options: options.clone(),
            tables: HashMap::new(),
        })
    }

    /// How the file stores text.
    #[must_use]
    pub fn encoding(&self) -> Encoding {
        self.encoding
    }
}

impl ReadRows for SqliteNode {
    fn about(&self) -> String {
        format!("sqlite, {}, {} journal", self.encoding.name(), self.journal_mode)
    }

    fn shape(&mut self, table: &str) -> Result<TableShape, ReadFault> {
        let (shape, local) = shape::look(&self.connection, &self.path, table, self.encoding)?;
        self.tables.insert(table.to_owned(), local);
        Ok(shape)
    }

    fn estimate(&mut self, table: &str) -> Option<u64> {
        let local = self.tables.get(table)?;
        shape::estimate(&self.connection, local)
    }

    fn key_bounds(&mut self, table: &str) -> Option<(i64, i64)> {
        shape::bounds(&self.connection, self.tables.get(table)?)
    }

    fn other_tables(&mut self, named: &[String]) -> Result<Option<Vec<String>>, ReadFault> {
        shape::others(&self.connection, &self.path, named).map(Some)
    }

    /// Only over a file that is taken as unchanging: two connections to one that is written to
    /// could begin at different moments.
    fn twins(&mut self, count: usize) -> Vec<Box<dyn ReadRows + Send>> {
        let mut twins: Vec<Box<dyn ReadRows + Send>> = Vec::new();
        let same = |twin: &Self| match (&self.watch, &twin.watch) {
            (Some(ours), Some(theirs)) => ours.sees_the_same_as(theirs),
            _ => false,
        };
        while self.watch.is_some() && twins.len() < count {
            match Self::open(&self.path, &self.options) {
                Ok(twin) if same(&twin) => twins.push(Box::new(twin)),
                _ => break,
            }
        }
        twins
    }

    fn read(
        &mut self,
        request: &TableRequest,
        writer: RowWriter,
        deliver: &mut dyn FnMut(Batch) -> Option<Batch>,
    ) -> Result<(), ReadFault> {
        if !self.tables.contains_key(&request.table) {
            self.shape(&request.table)?;
        }
        let table = read::SqliteTableRead {
            connection: &self.connection,
            path: &self.path,
            encoding: self.encoding,
            local: &self.tables[&request.table],
            watch: self.watch.as_ref(),
            request,
        };
        table.run(writer, deliver)
    }
}

/// Quotes a name for SQLite.
#[must_use]
pub fn quoted(name: &str) -> String {
    keen_core::topology::Engine::Sqlite.dialect().quoted(name)
}
