//! The ledger: a SQLite file in which runs keep what they saw.
//!
//! It is never needed for an answer. Each run writes what it has to keep in one transaction, so that a
//! run which dies leaves all of a record or nothing, and two runs at once wait for each other for a
//! moment. The version of the tables is in the file; an older file is brought up step by step, a newer
//! one is left alone.

mod accepted;
mod proofs;
mod read;

use std::path::Path;
use std::time::Duration;

use keen_core::links::{Flow, Trend};
use keen_core::observe::links::{Baseline, Micros, Observations, Own};
use keen_core::observe::position::Position;
use keen_core::topology::{NodeId, Topology};
use rusqlite::{Connection, OpenFlags, Transaction, TransactionBehavior, params};

pub use accepted::{Accepted, conflict_id};
pub use proofs::Proof;
pub use read::{DayThen, Kept, LinkThen, TableThen};

/// What each version adds to the one before. Never changed once released; new ones are appended.
const MIGRATIONS: &[&str] = &[
    "
CREATE TABLE run (
    id       INTEGER PRIMARY KEY,
    command  TEXT NOT NULL,
    topology TEXT NOT NULL,
    started  INTEGER NOT NULL,
    took_ms  INTEGER NOT NULL,
    exit     INTEGER NOT NULL,
    summary  TEXT NOT NULL
);
CREATE INDEX run_by_time ON run (topology, started);
CREATE TABLE look (
    run      INTEGER NOT NULL REFERENCES run ON DELETE CASCADE,
    node     TEXT NOT NULL,
    at       INTEGER NOT NULL,
    fault    TEXT,
    position TEXT,
    standby  INTEGER NOT NULL,
    own      TEXT,
    wrote    INTEGER NOT NULL,
    PRIMARY KEY (node, at, run)
) WITHOUT ROWID;
CREATE TABLE inflow (
    run        INTEGER NOT NULL REFERENCES run ON DELETE CASCADE,
    node       TEXT NOT NULL,
    name       TEXT NOT NULL,
    applied    TEXT,
    received   TEXT,
    failures   INTEGER,
    progress   INTEGER NOT NULL,
    heartbeats INTEGER NOT NULL,
    PRIMARY KEY (run, node, name)
) WITHOUT ROWID;
CREATE TABLE outlet (
    run       INTEGER NOT NULL REFERENCES run ON DELETE CASCADE,
    node      TEXT NOT NULL,
    slot      TEXT NOT NULL,
    confirmed TEXT NOT NULL,
    prepared  INTEGER,
    PRIMARY KEY (run, node, slot)
) WITHOUT ROWID;
CREATE TABLE touched (
    run        INTEGER NOT NULL REFERENCES run ON DELETE CASCADE,
    node       TEXT NOT NULL,
    table_name TEXT NOT NULL,
    count      INTEGER NOT NULL,
    changed    INTEGER,
    PRIMARY KEY (run, node, table_name)
) WITHOUT ROWID;
CREATE INDEX touched_by_table ON touched (node, table_name, changed);
CREATE TABLE link (
    run      INTEGER NOT NULL REFERENCES run ON DELETE CASCADE,
    number   INTEGER NOT NULL,
    source   TEXT,
    receiver TEXT,
    name     TEXT,
    tables   TEXT NOT NULL,
    state    TEXT NOT NULL,
    reason   TEXT NOT NULL,
    gap      INTEGER,
    unit     TEXT,
    late_ms  INTEGER,
    trend    TEXT,
    done_ms  INTEGER,
    moved    INTEGER NOT NULL,
    seen     INTEGER,
    PRIMARY KEY (run, number)
) WITHOUT ROWID;
CREATE INDEX link_by_ends ON link (source, receiver, run);
CREATE TABLE audited (
    run        INTEGER NOT NULL REFERENCES run ON DELETE CASCADE,
    number     INTEGER NOT NULL,
    set_name   TEXT NOT NULL,
    table_name TEXT NOT NULL,
    verdict    TEXT NOT NULL,
    rows       INTEGER NOT NULL,
    divergent  INTEGER NOT NULL,
    in_flight  INTEGER NOT NULL,
    moving     INTEGER NOT NULL,
    healed     INTEGER NOT NULL,
    PRIMARY KEY (run, number)
) WITHOUT ROWID;
CREATE INDEX audited_by_table ON audited (table_name, run);
CREATE TABLE finding (
    run    INTEGER NOT NULL REFERENCES run ON DELETE CASCADE,
    number INTEGER NOT NULL,
    level  TEXT NOT NULL,
    name   TEXT NOT NULL,
    nodes  TEXT NOT NULL,
    found  TEXT NOT NULL,
    PRIMARY KEY (run, number)
) WITHOUT ROWID;
",
    "
CREATE TABLE conflict (
    topology   TEXT NOT NULL,
    name       TEXT NOT NULL,
    table_name TEXT NOT NULL,
    kind       TEXT NOT NULL,
    proven     INTEGER NOT NULL,
    standing   TEXT NOT NULL,
    lost       INTEGER NOT NULL,
    at         INTEGER,
    seen       INTEGER NOT NULL,
    PRIMARY KEY (topology, name)
) WITHOUT ROWID;
CREATE INDEX conflict_by_table ON conflict (topology, table_name, at);
",
    "
CREATE TABLE journals_read (
    topology  TEXT NOT NULL,
    scope     TEXT NOT NULL,
    at        INTEGER NOT NULL,
    handed_on BLOB NOT NULL,
    PRIMARY KEY (topology, scope)
) WITHOUT ROWID;
",
    "
CREATE TABLE accepted (
    topology TEXT NOT NULL,
    name     TEXT NOT NULL,
    because  TEXT NOT NULL,
    at       INTEGER NOT NULL,
    standing TEXT NOT NULL,
    lost     INTEGER NOT NULL,
    PRIMARY KEY (topology, name)
) WITHOUT ROWID;
ALTER TABLE outlet ADD COLUMN counted_since TEXT;
",
    "
CREATE TABLE proof (
    topology   TEXT NOT NULL,
    name       TEXT NOT NULL,
    table_name TEXT NOT NULL,
    kind       TEXT NOT NULL,
    thing      TEXT NOT NULL,
    ids        TEXT NOT NULL,
    first_made INTEGER,
    last_made  INTEGER,
    seen       INTEGER NOT NULL,
    standing   TEXT NOT NULL,
    lost       INTEGER NOT NULL,
    told       TEXT NOT NULL,
    document   TEXT NOT NULL,
    PRIMARY KEY (topology, name)
) WITHOUT ROWID;
CREATE INDEX proof_by_time ON proof (topology, last_made);
",
];

/// Runs that are kept of one topology; older ones go.
const RUNS_KEPT: i64 = 20_000;

/// How long a run waits for another that is writing.
const WAIT: Duration = Duration::from_secs(5);

/// Why the ledger cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum LedgerFault {
    /// The file or what is in it.
    #[error("{0}")]
    Sqlite(#[from] rusqlite::Error),
    /// A newer keen wrote it.
    #[error("its tables are of version {0}, and this keen knows versions up to {known}", known = MIGRATIONS.len())]
    Newer(i64),
    /// It is a database of somebody else.
    #[error("it is a database, and no ledger of keen")]
    NotOurs,
    /// It could not be made.
    #[error("{0}")]
    File(#[from] std::io::Error),
}

/// Marks the file as ours: "keen" in its header.
const APPLICATION: i64 = 0x6b65_656e;

/// An open ledger.
#[derive(Debug)]
pub struct Ledger {
    connection: Connection,
}

/// What a run keeps of itself.
#[derive(Debug, Clone)]
pub struct Run<'a> {
    /// The command.
    pub command: &'a str,
    /// The name of the topology.
    pub topology: &'a str,
    /// When it began.
    pub started: Micros,
    /// How long it took.
    pub took: Duration,
    /// Its exit code.
    pub exit: u8,
    /// What it came to, in a sentence.
    pub summary: &'a str,
}

/// A table of an audit, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Audited {
    /// The set.
    pub set: String,
    /// The table.
    pub table: String,
    /// What it came to.
    pub verdict: String,
    /// Rows read on all nodes.
    pub rows: u64,
    /// Rows that are settled and differ.
    pub divergent: u64,
    /// Rows that were still on their way.
    pub in_flight: u64,
    /// Rows that were being written to.
    pub moving: u64,
    /// Rows that were equal at a second look.
    pub healed: u64,
}

/// A conflict, as it is kept: once, however often it is found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Raced {
    /// What tells it from others: its kind, what it is about, and its first transaction.
    pub name: String,
    /// Its table.
    pub table: String,
    /// Its kind.
    pub kind: &'static str,
    /// Whether it is proven.
    pub proven: bool,
    /// What came of it when it was last seen.
    pub standing: &'static str,
    /// Writes that are lost.
    pub lost: usize,
    /// When its last write was made.
    pub at: Option<Micros>,
}

/// A finding of a run, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// How bad it is.
    pub level: String,
    /// The check.
    pub name: String,
    /// The nodes, separated by commas.
    pub nodes: String,
    /// What was found.
    pub found: String,
}

impl Ledger {
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
        Ok(Self { connection })
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
            return Err(LedgerFault::Newer(found));
        }
        Ok(Self { connection })
    }

    /// Keeps a run and what `keep` adds to it: all of it or nothing.
    ///
    /// # Errors
    /// [`LedgerFault`] when it cannot be written.
    pub fn keep(
        &mut self,
        run: &Run<'_>,
        keep: impl FnOnce(&Record<'_>) -> Result<(), LedgerFault>,
    ) -> Result<(), LedgerFault> {
        let transaction =
            self.connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
        transaction.execute(
            "INSERT INTO run (command, topology, started, took_ms, exit, summary) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            params![
                run.command,
                run.topology,
                run.started,
                i64::try_from(run.took.as_millis()).unwrap_or(i64::MAX),
                run.exit,
                run.summary
            ],
        )?;
        let id = transaction.last_insert_rowid();
        keep(&Record { transaction: &transaction, run: id })?;
        transaction.execute(
            "DELETE FROM run WHERE id IN (SELECT id FROM run WHERE topology = ?1 ORDER BY started DESC LIMIT -1 OFFSET ?2)",
            params![run.topology, RUNS_KEPT],
        )?;
        transaction.commit()?;
        Ok(())
    }
}

/// A run that is being kept.
#[derive(Debug)]
pub struct Record<'a> {
    transaction: &'a Transaction<'a>,
    run: i64,
}

impl Record<'_> {
    /// Keeps how far journals were read, in place of what an earlier run over the same nodes and tables kept.
    ///
    /// # Errors
    /// [`LedgerFault`] when it cannot be written.
    pub fn journals_read(
        &self,
        topology: &str,
        scope: &str,
        handed_on: &[u8],
    ) -> Result<(), LedgerFault> {
        self.transaction.execute(
            "INSERT OR REPLACE INTO journals_read VALUES (?1, ?2, (SELECT started FROM run WHERE id = ?3), ?4)",
            params![topology, scope, self.run, handed_on],
        )?;
        Ok(())
    }

    /// Keeps conflicts, each once: one that was found before is brought up to date, unless this run could not
    /// read what came of it.
    ///
    /// # Errors
    /// [`LedgerFault`] when it cannot be written.
    pub fn raced(&self, topology: &str, conflicts: &[Raced]) -> Result<(), LedgerFault> {
        let mut keep = self.transaction.prepare(
            "INSERT INTO conflict VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, (SELECT started FROM run WHERE id = ?9)) \
             ON CONFLICT (topology, name) DO UPDATE SET proven = excluded.proven, standing = excluded.standing, \
             lost = excluded.lost, at = excluded.at \
             WHERE excluded.standing <> 'not all read'",
        )?;
        for conflict in conflicts {
            keep.execute(params![
                topology,
                conflict.name,
                conflict.table,
                conflict.kind,
                conflict.proven,
                conflict.standing,
                i64::try_from(conflict.lost).unwrap_or(i64::MAX),
                conflict.at,
                self.run
            ])?;
        }
        Ok(())
    }

    /// Keeps a look at the links and what it came to.
    ///
    /// # Errors
    /// [`LedgerFault`] when it cannot be written.
    pub fn flow(
        &self,
        topology: &Topology,
        before: &keen_core::observe::links::Marks,
        sights: &Observations,
        flow: &Flow,
    ) -> Result<(), LedgerFault> {
        let name = |node: NodeId| &topology.nodes[node].name;
        for (node, sight) in sights {
            let mark = sight.mark();
            let fault = sight.heard.as_ref().err().map(|fault| &fault.what);
            let wrote = flow.nodes.get(node).is_some_and(|flow| {
                use keen_core::links::Wrote::{Something, Transactions};
                matches!(flow.wrote, Transactions(1..) | Something)
            });
            let text = |position: Option<&Position>| position.map(ToString::to_string);
            let of =
                |mark: &Option<Baseline>| mark.as_ref().and_then(|m| text(m.position.as_ref()));
            self.transaction.execute(
                "INSERT INTO look VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
                params![
                    self.run,
                    name(*node),
                    sight.at,
                    fault,
                    of(&mark),
                    mark.as_ref().is_some_and(|mark| mark.standby),
                    mark.as_ref().and_then(|mark| mark.own.as_ref()).map(own_text),
                    wrote
                ],
            )?;
            let Some(mark) = mark else { continue };
            for (inflow, m) in &mark.inflows {
                self.transaction.execute(
                    "INSERT OR REPLACE INTO inflow VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
                    params![
                        self.run,
                        name(*node),
                        inflow,
                        text(m.applied.as_ref()),
                        text(m.received.as_ref()),
                        m.failures.map(signed),
                        signed(m.progress),
                        signed(m.heartbeats)
                    ],
                )?;
            }
            for (slot, (confirmed, prepared)) in &mark.outlets {
                self.transaction.execute(
                    "INSERT OR REPLACE INTO outlet VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
                    params![
                        self.run,
                        name(*node),
                        slot,
                        confirmed.to_string(),
                        prepared.map(signed),
                        mark.counted_since.get(slot)
                    ],
                )?;
            }
            for (table, count) in &mark.touched {
                let then = before.get(node).and_then(|mark| mark.touched.get(table));
                let moved = then.is_some_and(|then| then != count);
                let told = sight.heard().and_then(|heard| heard.touched.get(table)?.at);
                self.transaction.execute(
                    "INSERT OR REPLACE INTO touched VALUES (?1, ?2, ?3, ?4, ?5)",
                    params![
                        self.run,
                        name(*node),
                        table,
                        signed(*count),
                        told.or(moved.then_some(sight.at))
                    ],
                )?;
            }
        }
        for (number, link) in (0i64..).zip(&flow.links) {
            let ms = |time: Duration| i64::try_from(time.as_millis()).unwrap_or(i64::MAX);
            let done = match link.trend {
                Some(Trend::Draining(time)) => Some(ms(time)),
                _ => None,
            };
            self.transaction.execute(
                "INSERT INTO link VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15)",
                params![
                    self.run,
                    number,
                    link.from.map(name),
                    link.to.map(name),
                    link.name,
                    link.tables.join(", "),
                    link.state.name(),
                    link.reason,
                    link.gap.map(|gap| signed(gap.size())),
                    link.gap.map(keen_core::observe::position::Gap::unit),
                    link.late.map(|late| ms(late.by)),
                    link.trend.map(Trend::name),
                    done,
                    link.moved,
                    link.seen
                ],
            )?;
        }
        Ok(())
    }

    /// Keeps what an audit came to, table by table.
    ///
    /// # Errors
    /// [`LedgerFault`] when it cannot be written.
    pub fn audited(&self, tables: &[Audited]) -> Result<(), LedgerFault> {
        for (number, table) in (0i64..).zip(tables) {
            self.transaction.execute(
                "INSERT INTO audited VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)",
                params![
                    self.run,
                    number,
                    table.set,
                    table.table,
                    table.verdict,
                    signed(table.rows),
                    signed(table.divergent),
                    signed(table.in_flight),
                    signed(table.moving),
                    signed(table.healed)
                ],
            )?;
        }
        Ok(())
    }

    /// Keeps findings.
    ///
    /// # Errors
    /// [`LedgerFault`] when they cannot be written.
    pub fn findings(&self, findings: &[Found]) -> Result<(), LedgerFault> {
        for (number, finding) in (0i64..).zip(findings) {
            self.transaction.execute(
                "INSERT INTO finding VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
                params![
                    self.run,
                    number,
                    finding.level,
                    finding.name,
                    finding.nodes,
                    finding.found
                ],
            )?;
        }
        Ok(())
    }
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
        return Err(LedgerFault::Newer(found));
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
