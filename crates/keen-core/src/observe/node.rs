//! One look at a node: facts, as far as its account may see them.
//!
//! Adapters fill these in and judge nothing. What could not be looked at is
//! kept as the reason why, so that nothing unseen can pass for fine.

use std::collections::BTreeMap;
use std::time::Duration;

use crate::fault::{FaultKind, ReadFault};
use crate::row::schema::TableShape;
use crate::topology::Engine;

/// A fact that was observed, or why it could not be.
pub type Observed<T> = Result<T, ReadFault>;

/// One look at one node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NodeInspection {
    /// The addresses that were tried, in the order of the file; the last one is the one that let keen in, if any did.
    pub attempts: Vec<Attempt>,
    /// The facts inside; none if no address let keen in.
    pub facts: Option<Box<NodeFacts>>,
}

/// One address that was tried.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attempt {
    /// The address as the file has it.
    pub address: String,
    /// How long each step took that was passed.
    pub steps: Vec<(AccessStep, Duration)>,
    /// The answer of the step after those; none if it was let in.
    pub fault: Option<ReadFault>,
}

/// The steps to a node, in order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum AccessStep {
    /// The host's name became a number, or the file was found.
    Name,
    /// The port took the connection.
    Port,
    /// The server let the account in: handshake, TLS, password and database.
    Login,
}

impl AccessStep {
    /// Its name in results.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Name => "name",
            Self::Port => "port",
            Self::Login => "login",
        }
    }
}

/// A node's own account of itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NodeFacts {
    /// The engine that holds it.
    pub engine: Engine,
    /// Kind, version and the like in a few words.
    pub about: String,
    /// The major version of the server; 0 where that means nothing.
    pub major: u32,
    /// It replays what a primary writes and can take no writes of its own.
    pub standby: bool,
    /// By what the node can be told from every other.
    pub identity: Identity,
    /// The rights of the account, by what keen needs them for.
    pub rights: Vec<Right>,
    /// Rights of the account that no command of keen needs.
    pub excess: Observed<Vec<String>>,
    /// Settings by the names the engine gives them.
    pub settings: Observed<BTreeMap<String, String>>,
    /// The links that bring changes here.
    pub incoming: Observed<Vec<Incoming>>,
    /// The slots that wait here to be read by others.
    pub slots: Observed<Vec<Slot>>,
    /// Publications that are offered here to subscribers.
    pub publications: Observed<Vec<Publication>>,
    /// Its clock against ours; none where the clock is ours.
    pub clock: Observed<Option<Clock>>,
    /// The tables of the sets, by the name the sets give them.
    pub tables: BTreeMap<String, Observed<TableState>>,
    /// Every table there is, with its schema where that is not the usual one.
    pub all_tables: Observed<Vec<String>>,
    /// Accounts that can log in.
    pub users: Observed<Vec<String>>,
}

/// By what a node can be told from others.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Identity {
    /// Equal only for two ways to one and the same database.
    pub database: Option<String>,
    /// Equal for what runs on one machine.
    pub machine: Option<String>,
    /// Equal for one and the same server process.
    pub server: Option<String>,
    /// The port that the server itself says it listens on.
    pub port: Option<u16>,
    /// Names that the engine's replication knows it by, such as a server id, by the name of the setting.
    pub ids: BTreeMap<String, String>,
}

/// The use of a right for a command of keen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Need {
    /// Reading the tables: audit, plan, conflicts.
    Tables,
    /// Reading the state of links: flow, preflight.
    Links,
    /// Reading journals: conflicts.
    Journals,
    /// Writing repairs: mend, probe.
    Repairs,
}

impl Need {
    /// The need in a few words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Tables => "read the tables",
            Self::Links => "read the state of links",
            Self::Journals => "read journals",
            Self::Repairs => "write repairs",
        }
    }

    /// The commands that have it.
    #[must_use]
    pub fn commands(self) -> &'static str {
        match self {
            Self::Tables => "audit and plan",
            Self::Links => "preflight",
            Self::Journals => "looking into journals",
            Self::Repairs => "carrying out a plan as this account",
        }
    }
}

/// One right that the account has or lacks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Right {
    /// The use that it has.
    pub need: Need,
    /// The right, as the engine names it, and on what.
    pub what: String,
    /// Whether the account has it.
    pub held: Observed<bool>,
    /// The statement that grants it.
    pub grant: String,
}

/// Something that brings changes to a node, as the receiver tells it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Incoming {
    /// Its name on the node.
    pub name: String,
    /// By what means it works.
    pub means: ReplicationKind,
    /// Where it comes from, as far as the receiver tells.
    pub source: ChangeSource,
    /// Fetching from the source.
    pub receiving: WorkerState,
    /// Applying what was fetched.
    pub applying: WorkerState,
    /// The error that it stopped at or complains of.
    pub error: Option<String>,
    /// The engine's number for that, where it tells one.
    pub error_number: Option<u64>,
    /// How often it failed since the server last counted from nothing.
    pub failures: Option<u64>,
    /// How late it is on purpose.
    pub delay: Option<Duration>,
    /// The changes that it leaves out, by the receiver's own settings.
    pub filters: Vec<Filter>,
    /// It only takes what its source itself wrote, not what the source was sent.
    pub own_writes_only: bool,
    /// The publications it takes.
    pub publications: Vec<String>,
    /// The tables it takes, where the receiver keeps a list.
    pub tables: Option<Vec<SubscribedTable>>,
    /// MariaDB: so many transactions it leaves out when it is started.
    pub skips: Option<u64>,
}

impl Incoming {
    /// One of which no more is known than by what means it works.
    #[must_use]
    pub fn unknown(means: ReplicationKind) -> Self {
        Self {
            name: String::new(),
            means,
            source: ChangeSource::default(),
            receiving: WorkerState::Untold,
            applying: WorkerState::Untold,
            error: None,
            error_number: None,
            failures: None,
            delay: None,
            filters: Vec::new(),
            own_writes_only: false,
            publications: Vec::new(),
            tables: None,
            skips: None,
        }
    }

    /// The statements that make a MariaDB connection go on that is switched off.
    #[must_use]
    pub fn starting(&self) -> Vec<String> {
        let mut statements = vec![format!("START SLAVE {}", in_quotes(&self.name))];
        if self.applying == WorkerState::Stopped && self.skips != Some(0) {
            statements.insert(0, skip_nothing(&self.name));
        }
        statements
    }
}

/// Makes a MariaDB connection that is switched off leave out nothing when it is started. `STOP SLAVE` in the
/// middle of a transaction that is passed over as a duplicate (`gtid_ignore_duplicates`) leaves `Skip_Counter` at 1:
/// started again, it would leave out the first transaction that it gets, record it as applied, and say nothing.
/// It is found in 10.11.19 and holds for whatever position the connection starts at.
#[must_use]
pub fn skip_nothing(connection: &str) -> String {
    format!(
        "SET SESSION default_master_connection = {}, GLOBAL sql_slave_skip_counter = 0",
        in_quotes(connection)
    )
}

/// A connection's name as a text of a statement.
pub(crate) fn in_quotes(name: &str) -> String {
    format!("'{}'", name.replace('\'', "''"))
}

/// A rule by which a receiver leaves changes out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Filter {
    /// The rule, as the engine names it.
    pub rule: String,
    /// The names in it.
    pub of: Vec<String>,
}

/// A table that a receiver takes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SubscribedTable {
    /// Schema and name.
    pub table: String,
    /// The first copy is done, or was not wanted.
    pub ready: bool,
    /// The rows that were there before were copied.
    pub copied: bool,
}

/// By what means changes come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReplicationKind {
    /// A MariaDB connection that follows a binary log.
    BinaryLog,
    /// A PostgreSQL subscription.
    Subscription,
    /// A subscription of PostgreSQL's extension pglogical.
    Pglogical,
    /// A PostgreSQL standby that replays the log of its primary.
    Streaming,
    /// The replicator of the stand-in network.
    StandIn,
}

impl ReplicationKind {
    /// The trade's word for it.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::BinaryLog => "connection",
            Self::Subscription => "subscription",
            Self::Pglogical => "pglogical subscription",
            Self::Streaming => "standby's receiver",
            Self::StandIn => "stand-in link",
        }
    }
}

/// Where changes come from, as a receiver tells it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ChangeSource {
    /// Host and port.
    pub address: Option<(String, u16)>,
    /// The source's own name.
    pub id: Option<String>,
    /// The slot at the source that keeps log for it.
    pub slot: Option<String>,
}

/// One half of a link.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WorkerState {
    /// It runs.
    Runs,
    /// It keeps trying.
    Tries,
    /// It stopped, or was stopped.
    Stopped,
    /// The node does not tell.
    Untold,
}

/// A replication slot.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Slot {
    /// Its name.
    pub name: String,
    /// The database it belongs to; none for a whole server.
    pub database: Option<String>,
    /// Somebody reads it now.
    pub active: bool,
    /// How many bytes of log it holds back.
    pub held_back: Option<i64>,
    /// How many more bytes can be written before the server gives it up; none if it never does, or does not tell.
    pub room: Option<i64>,
    /// The server's word for the log it needs: reserved, extended, unreserved or lost.
    pub log: Option<String>,
}

/// A publication.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Publication {
    /// Its name.
    pub name: String,
    /// Kinds of writes that it leaves out.
    pub leaves_out: Vec<String>,
    /// It carries that a table was emptied, too.
    pub truncates: bool,
    /// Its tables.
    pub tables: Vec<Published>,
}

impl Publication {
    /// The kinds of writes that it has to publish so that no write of a row is left out; that tables are emptied only
    /// if it does so now.
    #[must_use]
    pub fn publishing_all(&self) -> Vec<&'static str> {
        let mut kinds = vec!["insert", "update", "delete"];
        kinds.extend(self.truncates.then_some("truncate"));
        kinds
    }
}

/// A table of a publication.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Published {
    /// Schema and name.
    pub table: String,
    /// The columns that travel.
    pub columns: Vec<String>,
    /// The rows that travel, as the server prints the condition.
    pub filter: Option<String>,
}

/// A clock against ours.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Clock {
    /// How far it is ahead of ours, in microseconds; negative if behind.
    pub ahead: i64,
    /// By how much that may be wrong: half of the round trip, in microseconds.
    pub uncertain: i64,
}

/// Whether a table of a set is there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TableState {
    /// It is.
    There(Box<TableLook>),
    /// It is not, or is something else: what was found, and what to do.
    Missing(String, String),
}

impl TableState {
    /// The state of a table that could not be described: missing, or not to be seen.
    ///
    /// # Errors
    /// The fault, if it was anything but that there is no such table.
    pub fn undescribed(fault: ReadFault) -> Observed<Self> {
        match fault.kind {
            FaultKind::NoTable => Ok(Self::Missing(fault.what, fault.advice)),
            _ => Err(fault),
        }
    }

    /// The table, if it is there.
    #[must_use]
    pub fn there(&self) -> Option<&TableLook> {
        match self {
            Self::There(look) => Some(look),
            Self::Missing(..) => None,
        }
    }
}

/// A table of a set on one node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TableLook {
    /// Its shape.
    pub shape: TableShape,
    /// Whether it holds any row.
    pub any_rows: Observed<bool>,
    /// By what the engine names rows to others, where that is not the key: nothing, the whole row, or an index.
    pub named_by: Option<String>,
    /// Its partitions say for themselves how their rows are named; what is said here is that of the weakest.
    pub partitioned: bool,
    /// Triggers that fire on rows that replication applies.
    pub replica_triggers: Observed<Vec<String>>,
    /// Where the numbers of counting columns come from.
    pub counters: Vec<Counter>,
    /// The conditions that rows have to fulfil, as the engine prints them.
    pub checks: Observed<Vec<String>>,
}

impl TableLook {
    /// The statement that names rows of a partitioned table whole to subscribers, given the table's name, quoted.
    #[must_use]
    pub fn name_rows_of_parts_whole(name: &str) -> String {
        // Whatever the name is, it must not end the block.
        let mark = (0..).map(|n| format!("$part{n}$")).find(|mark| !name.contains(&**mark));
        let mark = mark.unwrap_or_default();
        format!(
            "DO {mark} DECLARE part regclass; BEGIN FOR part IN SELECT relid FROM pg_partition_tree('{}') WHERE isleaf LOOP \
             EXECUTE format('ALTER TABLE %s REPLICA IDENTITY FULL', part); END LOOP; END {mark}",
            name.replace('\'', "''")
        )
    }
}

/// Where the numbers of a counting column come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Counter {
    /// The column.
    pub column: String,
    /// From one number to the next.
    pub step: i64,
    /// The remainder of its numbers by the step.
    pub offset: i64,
}
