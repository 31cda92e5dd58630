//! A SQLite file as a ledger.
//!
//! Each run is written in one transaction, so that a run which dies leaves all of a record or nothing, and two runs at
//! once wait for each other for a moment. The version of the tables is in the file; an older file is brought up step
//! by step, a newer one is left alone.

mod migrations;
mod read;
mod write;

use std::path::Path;
use std::time::Duration;

use keen_core::observe::links::Own;
use rusqlite::{Connection, OpenFlags, TransactionBehavior};

use super::{LedgerFault, RUNS_KEPT};
use migrations::MIGRATIONS;

/// How long a run waits for another that is writing.
const WAIT: Duration = Duration::from_secs(5);

/// Marks the file as ours: "keen" in its header.
const APPLICATION: i64 = 0x6b65_656e;

/// An open file.
#[derive(Debug)]
pub struct SqliteLedger {
    connection: Connection,
    runs_kept: u32,
}

impl SqliteLedger {
    /// Opens a ledger, making it if it is not there, and brings its tables up to date.
    ///
    /// # Errors
    /// [`LedgerFault`] when it cannot be made, read or written, or is newer than this keen.
    pub fn open(path: &Path) -> Result<Self, LedgerFault> {
        if !path.exists() {
            make(path)?;
        }
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let mut connection = Connection::open_with_flags(path, flags)?;
        connection.busy_timeout(WAIT)?;
        connection.pragma_update(None, "foreign_keys", true)?;
        connection.pragma_update(None, "trusted_schema", false)?;
        connection.pragma_update(None, "synchronous", "normal")?;
        let known = i64::try_from(MIGRATIONS.len()).unwrap_or(i64::MAX);
        if version(&connection)? != known || application(&connection)? != APPLICATION {
            migrate(&mut connection)?;
        }
        Ok(Self { connection, runs_kept: RUNS_KEPT })
    }

    /// Opens a ledger only to read it; nothing is made or changed.
    ///
    /// # Errors
    /// [`LedgerFault`] when it is not there, not ours, or of another version.
    pub fn open_to_read(path: &Path) -> Result<Self, LedgerFault> {
        let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let connection = Connection::open_with_flags(path, flags)?;
        connection.busy_timeout(WAIT)?;
        if application(&connection)? != APPLICATION {
            return Err(LedgerFault::NotOurs);
        }
        let found = version(&connection)?;
        if found > i64::try_from(MIGRATIONS.len()).unwrap_or(i64::MAX) {
            return Err(newer(found));
        }
        Ok(Self { connection, runs_kept: RUNS_KEPT })
    }

    /// Keeps no more than so many runs of a topology.
    #[must_use]
    pub fn keeping(self, runs_kept: u32) -> Self {
        Self { runs_kept, ..self }
    }
}

fn newer(found: i64) -> LedgerFault {
    LedgerFault::Newer { found, known: i64::try_from(MIGRATIONS.len()).unwrap_or(i64::MAX) }
}

/// SQLite's numbers have a sign; what is beyond that has wrapped around, and comes back as it was.
fn signed(number: u64) -> i64 {
    number.cast_signed()
}

fn own_text(own: &Own) -> String {
    match own {
        Own::Count(count) => format!("count {count}"),
        Own::Last { mark, here } => format!("{} {mark}", if *here { "here" } else { "elsewhere" }),
    }
}

fn own_of(text: &str) -> Option<Own> {
    match text.split_once(' ')? {
        ("count", count) => count.parse().ok().map(Own::Count),
        (place, mark) => Some(Own::Last { mark: mark.to_owned(), here: place == "here" }),
    }
}

/// Makes the file, for this account only: messages of servers may name keys of rows.
fn make(path: &Path) -> Result<(), LedgerFault> {
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        options.mode(0o600);
    }
    match options.open(path) {
        Ok(_) => Ok(()),
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => Ok(()),
        Err(error) => Err(error.into()),
    }
}

fn version(connection: &Connection) -> rusqlite::Result<i64> {
    connection.pragma_query_value(None, "user_version", |row| row.get(0))
}

fn application(connection: &Connection) -> rusqlite::Result<i64> {
    connection.pragma_query_value(None, "application_id", |row| row.get(0))
}

/// Brings the tables up to date, step by step, all in one transaction.
fn migrate(connection: &mut Connection) -> Result<(), LedgerFault> {
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    let found = version(&transaction)?; // another run may have been here first
    let tables: i64 =
        transaction.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get(0))?;
    if application(&transaction)? != APPLICATION && tables > 0 {
        return Err(LedgerFault::NotOurs);
    }
    let done = usize::try_from(found).unwrap_or(usize::MAX);
    if done > MIGRATIONS.len() {
        return Err(newer(found));
    }
    for step in &MIGRATIONS[done..] {
        transaction.execute_batch(step)?;
    }
    transaction.pragma_update(None, "application_id", APPLICATION)?;
    transaction.pragma_update(
        None,
        "user_version",
        i64::try_from(MIGRATIONS.len()).unwrap_or(i64::MAX),
    )?;
    transaction.commit()?;
    Ok(())
}
