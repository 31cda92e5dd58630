//! Journals: the writes of a node in the order in which it applied them, each with its origin.
//!
//! Engines keep them in their own ways: MariaDB as a binary log, PostgreSQL as a log that a slot decodes,
//! the stand-in as tables, others as a file that was exported. Readers turn them into [`Entry`]s.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;

use crate::observe::links::Micros;
use crate::value::Value;

/// One thing that a journal tells. What follows a beginning belongs to that transaction, up to the next.
#[derive(Debug, Clone, PartialEq)]
pub enum Entry {
    /// A transaction begins.
    Begin(Begin),
    /// It wrote a row.
    Row(RowChange),
    /// It changed the shape of a table.
    Shape(ShapeChange),
    /// It came from elsewhere, and this node passes it on as its own transaction with this number.
    PassedOn(u64),
}

/// The beginning of a transaction.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Begin {
    /// Its place in the order in which this node applied transactions; ascending.
    pub order: u64,
    /// Who made it, and its number there.
    pub id: Id,
    /// When it was committed where it was made, by that node's clock.
    pub made: Option<Micros>,
    /// Where its commit stands in this node's log, as PostgreSQL's subscribers know it; none elsewhere.
    pub commit: Option<u64>,
}

/// A transaction's name, the same in every journal.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Id {
    /// Who numbers.
    pub writer: Writer,
    /// The number: ascending in the order in which the writer made its transactions.
    pub place: u64,
}

/// Who numbers transactions: a node, or one of several streams in which it does.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Writer {
    /// The name of the node where its transactions are numbered.
    pub origin: Arc<str>,
    /// How it numbers.
    pub stream: Stream,
}

/// In which way transactions are numbered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Stream {
    /// By counting them.
    Count,
    /// In this domain of a MariaDB server.
    Domain(u32),
    /// By the end of their commit in PostgreSQL's log.
    Lsn,
    /// Repairs that keen's scripts made on a PostgreSQL server, by their commit in its log.
    Repair,
    /// Not at all: it is known only when they were committed, in microseconds since 1970.
    Time,
}

impl fmt::Display for Id {
    /// As the engine itself writes it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (origin, place) = (&self.writer.origin, self.place);
        match self.writer.stream {
            Stream::Count => write!(f, "{origin}/{place}"),
            Stream::Domain(domain) => write!(f, "{domain}-{origin}-{place}"),
            Stream::Time => {
                let made = i64::try_from(place).unwrap_or(i64::MAX);
                write!(f, "{origin} {}Z", crate::value::calendar::timestamp_text(made))
            }
            Stream::Lsn => write!(f, "{origin} {:X}/{:X}", place >> 32, place & 0xffff_ffff),
            Stream::Repair => {
                write!(f, "{origin} {:X}/{:X} (a repair)", place >> 32, place & 0xffff_ffff)
            }
        }
    }
}

/// A row that was written. Cells stand in the order of the columns; one that the journal does not tell is none.
#[derive(Debug, Clone, PartialEq)]
pub struct RowChange {
    /// The table, as the sets name it.
    pub table: Arc<str>,
    /// The names of the columns on the node.
    pub columns: Arc<[String]>,
    /// The row before; none if it was not there, or the journal does not tell.
    pub before: Option<Vec<Option<Value>>>,
    /// The row after; none if it was deleted.
    pub after: Option<Vec<Option<Value>>>,
    /// The kind of write.
    pub act: RowOp,
}

/// The kind of a write to a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum RowOp {
    /// It was put there.
    Insert,
    /// It was changed.
    Update,
    /// It was taken away.
    Delete,
}

impl RowOp {
    /// Its name in results.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Insert => "insert",
            Self::Update => "update",
            Self::Delete => "delete",
        }
    }
}

/// A table whose shape was changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ShapeChange {
    /// The table, as the sets name it.
    pub table: Arc<str>,
    /// The statement, or what is known of it.
    pub what: String,
}

/// Whether a change of a table's shape takes out every row that was there.
#[must_use]
pub fn empties(what: &str) -> bool {
    let mut rest = what.trim_start();
    while let Some(comment) = rest.strip_prefix("/*") {
        rest = comment.split_once("*/").map_or("", |(_, rest)| rest).trim_start();
    }
    rest.get(..8).is_some_and(|word| word.eq_ignore_ascii_case("TRUNCATE"))
        && !rest[8..].starts_with(|c: char| c.is_alphanumeric() || c == '_')
        && !rest.contains(" of partition ")
}

/// The head of a journal, known before it is read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Head {
    /// The kind of journal, in a few words.
    pub about: String,
    /// The name of its node as an origin.
    pub identity: Option<Arc<str>>,
    /// The transactions that had been applied before it begins.
    pub since: Since,
    /// It holds the node's own writes alone, and does not tell what arrived from others.
    pub own_only: bool,
    /// The slots through which others read this node's log.
    pub slots: Vec<String>,
    /// The slots of other nodes through which this one receives.
    pub follows: Vec<String>,
    /// By slot of this node up to where its reader had everything, before any journal was read.
    pub confirmed: BTreeMap<String, u64>,
    /// By origin up to which number this node was done with what came from there, before its journal was read:
    /// what changed nothing here, or was passed over, stands in no journal of it.
    pub done: BTreeMap<Arc<str>, u64>,
    /// Reasons why it does not tell everything.
    pub notes: Vec<String>,
}

impl Head {
    /// Of a journal of which nothing is known but what it is and whose.
    #[must_use]
    pub fn nothing_known(about: String, identity: Option<Arc<str>>) -> Self {
        Self {
            about,
            identity,
            since: Since::Unclear(u64::MAX),
            own_only: false,
            slots: Vec::new(),
            follows: Vec::new(),
            confirmed: BTreeMap::new(),
            done: BTreeMap::new(),
            notes: Vec::new(),
        }
    }
}

/// The publication of what keen reads in PostgreSQL's log. The slot that it peeks through is called so, too,
/// and then the number of its database: slots of all databases share their names.
pub const JOURNAL_SLOT: &str = "keen_journal";

/// The replication origin under which keen's scripts write on PostgreSQL. It is never dropped: its number would
/// be given to another origin, and what the log holds under it be read as that one's.
pub const REPAIR_ORIGIN: &str = "keen_repair";

/// Whether a slot is one that keen peeks through, in whichever database.
#[must_use]
pub fn is_journal_slot(name: &str) -> bool {
    let Some(rest) = name.strip_prefix(JOURNAL_SLOT) else { return false };
    // Slots once had no number.
    let number = rest.strip_prefix('_').unwrap_or_default();
    rest.is_empty() || (!number.is_empty() && number.bytes().all(|b| b.is_ascii_digit()))
}

/// The transactions that had been applied at a node before its journal begins.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Since {
    /// Nothing, or by writer everything up to a number: what is not named had not written.
    After(BTreeMap<Writer, u64>),
    /// That is not known. Of the node's own transactions it holds those from this number on.
    Unclear(u64),
}

impl Since {
    /// It begins where the node did.
    #[must_use]
    pub fn beginning() -> Self {
        Self::After(BTreeMap::new())
    }
}

/// A place in a journal, between two transactions.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct JournalPosition {
    /// The place of the last transaction before it in the order of this journal; 0 if there is none.
    pub order: u64,
    /// By what the journal finds it again, in words of its own.
    pub at: String,
}
