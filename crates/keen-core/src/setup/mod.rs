//! How a node is set up, as values that can be read, held against what is expected, and changed.
//!
//! A [`Subject`] names one such value: a setting, whether a link runs, whether a table is published. A
//! [`SetupChange`] takes it from one value to another, so its guard is that it reads the one, its check that it reads
//! the other, and its way back the same change turned round. [`spell`] says how an engine does that.

pub mod column;
pub mod column_order;
pub mod port;
pub mod spell;

use std::collections::BTreeMap;
use std::fmt;

use crate::observe::position::{self, Position};
use crate::topology::NodeId;

/// A value of a node's set-up.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Subject {
    /// A setting of the running server, or of a node of the stand-in. MariaDB forgets a change of it at the next restart.
    Setting {
        /// Its name.
        name: String,
    },
    /// A setting as the server itself keeps it for its next start or reload (PostgreSQL); none if it keeps none.
    KeptSetting {
        /// Its name.
        name: String,
        /// It is taken up at once, by a reload; else at the next start.
        reload: bool,
    },
    /// A setting of a database, for all who connect to it (PostgreSQL); none if it has none of its own.
    DatabaseSetting {
        /// The database.
        database: String,
        /// Its name.
        name: String,
    },
    /// Whether a link that leads to the node is switched on: [`ON`] or [`OFF`].
    LinkSwitch {
        /// The link, as the node calls it.
        link: String,
    },
    /// By how many seconds a MariaDB connection is delayed on purpose.
    LinkDelay {
        /// The connection.
        link: String,
    },
    /// Whether a subscription is past a commit of its source: [`YES`], or none. It comes there by passing over it.
    PassedCommit {
        /// The subscription.
        link: String,
        /// Where the commit stands in the source's log.
        commit: String,
        /// The subscription is switched on for it.
        enable: bool,
    },
    /// What a MariaDB server has applied last of a domain, as all of its connections have it in common.
    AppliedOfDomain {
        /// The domain.
        domain: u32,
        /// Connections that stopped there: they are switched off for a change of it, and on again.
        stops: Vec<String>,
    },
    /// What a MariaDB server has applied last of all domains. It is only set with a copy.
    AppliedPosition {
        /// Connections that go on from there. All of the server's are off for it.
        links: Vec<String>,
    },
    /// Up to where a slot has delivered (PostgreSQL); none if it is not there, or its log is lost. It is only set with
    /// a copy.
    SlotPlace {
        /// The slot.
        slot: String,
    },
    /// The link itself: where it comes from and what it takes, as the node tells it. It is only taken away.
    Link {
        /// The link, as the node calls it.
        link: String,
    },
    /// A link that is made, switched off. Taking it away again is for a plan of its own.
    NewLink(Box<NewLink>),
    /// Up to where a MariaDB connection has fetched, while it has not applied all of that: its position, or [`YES`] where
    /// it has none. It is only read.
    FetchedChanges {
        /// The connection.
        link: String,
    },
    /// How far the log of a server has come; none if nothing is in it, or if it only replays one. It is only read.
    LoggedPosition,
    /// Whether a MariaDB server has all of a position: [`YES`], or none. It is only read.
    HeldPosition {
        /// The position.
        position: String,
    },
    /// How far a link has applied of its source: what a MariaDB server has applied of all domains, or the last commit of
    /// a subscription. It is only read.
    Taken {
        /// The link, as the node calls it.
        link: String,
    },
    /// The last transactions that a MariaDB server or a node of the stand-in wrote itself; none if there are none. It is
    /// only read.
    OwnWrites,
    /// Whether the log of such a node has all transactions of a state: [`YES`], or none. It is only read.
    HeldState {
        /// The state.
        state: String,
    },
    /// Whether what a MariaDB server wrote itself counts as applied, so that a connection goes on behind it: [`YES`], or
    /// none.
    OwnPosition {
        /// The connection that goes on from there; it is off for it.
        link: String,
    },
    /// Sessions on a database that began before it was closed to writes, or that hold prepared transactions: how many, or
    /// none (PostgreSQL). It is only read.
    OldSessions {
        /// The database.
        database: String,
    },
    /// Whether somebody answers for it that the node takes no writes any more: [`YES`], or none. It is only read, and of a
    /// node that does not answer.
    FencedOff,
    /// Whether a node lets keen in: [`YES`], or none. It is only read.
    Answers,
    /// Whether a server replays what a primary writes (PostgreSQL): [`YES`], or none. It is only promoted.
    Standby,
    /// Whether a standby has replayed the end of a log that was ended cleanly, and nothing after it (PostgreSQL): [`YES`],
    /// or none. It is only read.
    CleanEnd {
        /// The log had come so far before: an end that stands before that is one of an earlier stop.
        beyond: String,
    },
    /// Where a standby receives from, while it does (PostgreSQL). It is only read.
    StandbyOf,
    /// Who writes and which links there are by the topology file, as [`Topology::outline`] says it. It is only read, and
    /// of no node.
    ///
    /// [`Topology::outline`]: crate::topology::Topology::outline
    TopologyFile,
    /// Whether the next number that is handed out for a column is beyond all that are there (PostgreSQL): [`YES`], or none.
    Counter {
        /// Its schema and its name, or its name.
        table: Vec<String>,
        /// The column.
        column: String,
    },
    /// Whether somebody reads a slot (PostgreSQL): [`READ`], or [`IDLE`] and how far it has come. It is only taken away.
    Slot {
        /// The slot.
        slot: String,
    },
    /// What a publication offers: its tables, and the kinds of writes. It is only made without tables.
    Publication {
        /// The publication.
        publication: String,
    },
    /// Whether there is a replication origin of this name (PostgreSQL): [`YES`], or none.
    Origin {
        /// The origin.
        origin: String,
    },
    /// Whether a table of keen's own holds rows: [`EMPTY`], or [`FILLED`]. It is only taken away, and empty.
    ServiceTable {
        /// By its schema and its name, or its name.
        table: Vec<String>,
    },
    /// Which writes a subscription asks for: `none` for those made on its source itself, or `any`.
    LinkOrigin {
        /// The subscription.
        link: String,
    },
    /// Whether a publication has a table: [`YES`], or none.
    PublishedTable {
        /// The publication.
        publication: String,
        /// Its schema and its name, or its name.
        table: Vec<String>,
    },
    /// The kinds of writes that a publication sends, in the order of the engine, with commas.
    PublishedKinds {
        /// The publication.
        publication: String,
    },
    /// Whether a subscription takes a table of a publication: [`YES`], or none.
    SubscribedTable {
        /// The subscription.
        link: String,
        /// Its schema and its name on the receiver, or its name.
        table: Vec<String>,
        /// The rows that are there already are copied.
        copy: bool,
    },
    /// How a column is declared, as [`column::ColumnDefinition`] says it; none if there is no such column.
    Column {
        /// Its table, by its schema or database and its name, or its name.
        table: Vec<String>,
        /// Its name.
        column: String,
        /// The column that it comes after where it is added (MariaDB, whose links go by the order); none for the end.
        after: Option<String>,
    },
    /// The order of a table's columns, as [`column_order::told`] says it (MariaDB, whose links go by it).
    ColumnOrder {
        /// Its table, by its database and its name, or its name.
        table: Vec<String>,
        /// The columns that are moved for a change of it, and how each is declared, as
        /// [`column::ColumnDefinition`] says it.
        moved: BTreeMap<String, String>,
    },
    /// Whether a column holds anything but its default: [`YES`], or none. It is only read.
    FilledColumn {
        /// Its table, by its schema or database and its name, or its name.
        table: Vec<String>,
        /// Its name.
        column: String,
    },
    /// Whether a table has rows: [`YES`], or none. It is only read.
    TableRows {
        /// Its schema and its name, or its name.
        table: Vec<String>,
    },
    /// Whether something names the rows of a table to subscribers (PostgreSQL): [`YES`], or none. It is only read.
    NamedRows {
        /// Its schema and its name, or its name.
        table: Vec<String>,
    },
    /// By what rows of a table are named to subscribers (PostgreSQL): `default` for the key, `full` for the whole row,
    /// `nothing`, or `index` and its name.
    RowNames {
        /// Its schema and its name, or its name.
        table: Vec<String>,
    },
}

/// A link that is to be made, as its receiver makes it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct NewLink {
    /// Its name there.
    pub link: String,
    /// Its source, by the name that the topology file gives it.
    pub from: String,
    /// How it reaches its source, and what it takes.
    pub way: LinkWay,
}

/// The way by which a new link takes what its source writes.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum LinkWay {
    /// A MariaDB connection.
    Connection(LinkLogin),
    /// A PostgreSQL subscription.
    Subscription(LinkLogin, NewSubscription),
    /// A link of the stand-in network.
    StandIn {
        /// The sets that it carries.
        carries: Vec<String>,
    },
}

/// Where a receiver logs in to follow a source.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct LinkLogin {
    /// The source's host, as the receiver knows it.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// Who logs in there.
    pub user: String,
    /// The line between them is encrypted.
    pub tls: bool,
}

/// The part of a link that only a PostgreSQL subscription has.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct NewSubscription {
    /// The database of the source.
    pub database: String,
    /// The publication that it takes.
    pub publication: String,
    /// The slot that it reads, which is made with the copy.
    pub slot: String,
    /// Which writes it asks for, `none` or `any`; none before PostgreSQL 16.
    pub origin: Option<String>,
}

impl NewLink {
    /// It as a link that is there.
    #[must_use]
    pub fn there(&self) -> Subject {
        Subject::Link { link: self.link.clone() }
    }

    /// Its state once it is there, as [`Subject::Link`] reads it.
    #[must_use]
    pub fn state(&self) -> String {
        match &self.way {
            LinkWay::Connection(LinkLogin { host, port, .. }) => format!("from {host}:{port}"),
            LinkWay::Subscription(_, NewSubscription { publication, slot, .. }) => {
                format!("slot {slot} of {publication}")
            }
            LinkWay::StandIn { .. } => format!("from {}", self.from),
        }
    }

    /// Where it logs in; none of a link of the stand-in.
    #[must_use]
    pub fn login(&self) -> Option<&LinkLogin> {
        match &self.way {
            LinkWay::Connection(login) | LinkWay::Subscription(login, _) => Some(login),
            LinkWay::StandIn { .. } => None,
        }
    }

    /// What only a subscription has.
    #[must_use]
    pub fn subscription(&self) -> Option<&NewSubscription> {
        match &self.way {
            LinkWay::Subscription(_, subscription) => Some(subscription),
            LinkWay::Connection(_) | LinkWay::StandIn { .. } => None,
        }
    }
}

/// What a subject reads that is there.
pub const YES: &str = "yes";
/// What a slot reads that somebody reads.
pub const READ: &str = "read";
/// What a slot reads that nobody reads, before how far it has come.
pub const IDLE: &str = "idle";
/// What a table reads that has no rows.
pub const EMPTY: &str = "empty";
/// What a table reads that has rows.
pub const FILLED: &str = "filled";
/// What a link reads that is switched on.
pub const ON: &str = "on";
/// What a link reads that is switched off.
pub const OFF: &str = "off";
/// What a link reads that neither fetches nor applies, or one of the two, or both.
#[must_use]
pub fn switch_state(fetches: bool, applies: bool) -> &'static str {
    match (fetches, applies) {
        (true, true) => ON,
        (false, false) => OFF,
        (false, true) => "on, but does not fetch",
        (true, false) => "on, but does not apply",
    }
}

/// What names rows to subscribers by an index, before its name.
pub const INDEX: &str = "index";
/// What names rows whole to subscribers.
pub const FULL: &str = "full";

/// The kind of a step that is not about a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum SetupKind {
    /// A setting of a server.
    Setting,
    /// A table.
    Shape,
    /// A link, or what its source publishes.
    Link,
}

impl SetupKind {
    /// Its name in plans.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Setting => "setting",
            Self::Shape => "shape",
            Self::Link => "link",
        }
    }
}

impl Subject {
    /// Its place among changes of its kind: nothing stands before what it needs. What a link asks for comes before it
    /// is switched on, and that before it takes up tables.
    #[must_use]
    pub fn rank(&self) -> u8 {
        match self {
            // A column is declared anew where it stands by then.
            Self::LinkOrigin { .. } | Self::LinkDelay { .. } | Self::Column { .. } => 1,
            Self::LinkSwitch { .. } => 2,
            Self::PublishedKinds { .. } => 3,
            Self::PublishedTable { .. } => 4,
            Self::SubscribedTable { .. } => 5,
            Self::Link { .. } | Self::NewLink(_) => 6,
            Self::Slot { .. } => 7,
            Self::Publication { .. } => 8,
            Self::Origin { .. } | Self::ServiceTable { .. } => 9,
            _ => 0,
        }
    }

    /// The kind of step that changes it.
    #[must_use]
    pub fn kind(&self) -> SetupKind {
        match self {
            Self::Setting { .. }
            | Self::KeptSetting { .. }
            | Self::DatabaseSetting { .. }
            | Self::OldSessions { .. }
            | Self::FencedOff
            | Self::Answers
            | Self::TopologyFile => SetupKind::Setting,
            Self::RowNames { .. }
            | Self::Column { .. }
            | Self::ColumnOrder { .. }
            | Self::FilledColumn { .. }
            | Self::TableRows { .. }
            | Self::ServiceTable { .. }
            | Self::Counter { .. }
            | Self::NamedRows { .. } => SetupKind::Shape,
            Self::LinkSwitch { .. }
            | Self::LinkDelay { .. }
            | Self::LinkOrigin { .. }
            | Self::PassedCommit { .. }
            | Self::AppliedOfDomain { .. }
            | Self::AppliedPosition { .. }
            | Self::SlotPlace { .. }
            | Self::Link { .. }
            | Self::NewLink(_)
            | Self::FetchedChanges { .. }
            | Self::LoggedPosition
            | Self::HeldPosition { .. }
            | Self::Taken { .. }
            | Self::OwnWrites
            | Self::HeldState { .. }
            | Self::OwnPosition { .. }
            | Self::Standby
            | Self::CleanEnd { .. }
            | Self::StandbyOf
            | Self::Slot { .. }
            | Self::Publication { .. }
            | Self::Origin { .. }
            | Self::PublishedTable { .. }
            | Self::PublishedKinds { .. }
            | Self::SubscribedTable { .. } => SetupKind::Link,
        }
    }
}

impl fmt::Display for Subject {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Setting { name } => f.write_str(name),
            Self::KeptSetting { name, .. } => write!(f, "{name}, as the server keeps it"),
            Self::DatabaseSetting { database, name } => write!(f, "{name} of database {database}"),
            Self::LinkSwitch { link } | Self::Link { link } if link.is_empty() => {
                f.write_str("the unnamed link")
            }
            Self::LinkSwitch { link } | Self::Link { link } => write!(f, "link {link}"),
            Self::NewLink(new) => write!(f, "link {} from {}", new.link, new.from),
            Self::FetchedChanges { link } => {
                write!(f, "what link {link} has fetched and not applied")
            }
            Self::LoggedPosition => f.write_str("the position of the log"),
            Self::Taken { link } => write!(f, "what link {link} has applied"),
            Self::OwnWrites => f.write_str("what the server wrote itself"),
            Self::HeldState { state } => write!(f, "having all of {state}"),
            Self::OwnPosition { .. } => f.write_str("what it wrote itself counting as applied"),
            Self::OldSessions { database } => {
                write!(f, "sessions on {database} from before it was closed")
            }
            Self::FencedOff => f.write_str("somebody answering for it that it takes no writes"),
            Self::TopologyFile => f.write_str("the topology file"),
            Self::Answers => f.write_str("an answer"),
            Self::Standby => f.write_str("being a standby"),
            Self::CleanEnd { .. } => f.write_str("the clean end of its primary's log"),
            Self::StandbyOf => f.write_str("where its log comes from"),
            Self::Counter { table, column } => {
                write!(f, "the next number of {column} of {} being new", table.join("."))
            }
            Self::HeldPosition { position } => write!(f, "having all of {position}"),
            Self::Slot { slot } => write!(f, "slot {slot}"),
            Self::Publication { publication } => write!(f, "publication {publication}"),
            Self::Origin { origin } => write!(f, "replication origin {origin}"),
            Self::ServiceTable { table } => write!(f, "table {}", table.join(".")),
            Self::LinkDelay { link } => write!(f, "the delay of link {link}"),
            Self::PassedCommit { link, commit, .. } => {
                write!(f, "{link} being past the commit at {commit}")
            }
            Self::AppliedOfDomain { domain, .. } => {
                write!(f, "what was applied of domain {domain}")
            }
            Self::AppliedPosition { .. } => f.write_str("what was applied of all domains"),
            Self::SlotPlace { slot } => write!(f, "how far slot {slot} has come"),
            Self::LinkOrigin { link } => write!(f, "the origin that {link} asks for"),
            Self::PublishedTable { publication, table } => {
                write!(f, "{} in publication {publication}", table.join("."))
            }
            Self::PublishedKinds { publication } => {
                write!(f, "the kinds of writes of publication {publication}")
            }
            Self::SubscribedTable { link, table, .. } => {
                write!(f, "{} in subscription {link}", table.join("."))
            }
            Self::Column { table, column, .. } => {
                write!(f, "column {column} of {}", table.join("."))
            }
            Self::ColumnOrder { table, .. } => {
                write!(f, "the order of columns of {}", table.join("."))
            }
            Self::FilledColumn { table, column } => {
                write!(f, "values in column {column} of {}", table.join("."))
            }
            Self::TableRows { table } => write!(f, "having rows in {}", table.join(".")),
            Self::NamedRows { table } => write!(f, "rows of {} being named", table.join(".")),
            Self::RowNames { table } => write!(f, "what names rows of {}", table.join(".")),
        }
    }
}

/// A value of a node's set-up that is taken from one state to another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SetupChange {
    /// The value.
    pub subject: Subject,
    /// Its state before; none where there is none.
    pub before: Option<String>,
    /// Its state after; none where there will be none.
    pub after: Option<String>,
    /// Links of the node that are switched off while it is made, and on again.
    pub pauses: Vec<String>,
}

impl SetupChange {
    /// A change to a state; what it is before is still to be read.
    #[must_use]
    pub fn to(subject: Subject, after: &str) -> Self {
        Self { subject, before: None, after: Some(after.to_owned()), pauses: Vec::new() }
    }

    /// The way back.
    #[must_use]
    pub fn reversed(&self) -> Self {
        let (before, after) = (self.after.clone(), self.before.clone());
        Self { before, after, ..self.clone() }
    }
}

/// Whether two states of a subject are the same: engines print words in either case.
#[must_use]
pub fn same_state(one: Option<&str>, other: Option<&str>) -> bool {
    match (one, other) {
        (None, None) => true,
        (Some(one), Some(other)) => one.eq_ignore_ascii_case(other),
        _ => false,
    }
}

/// Whether a value reads as it should. What was applied of a domain goes on by itself: any later place will do. The
/// order of domains in a position means nothing.
#[must_use]
pub fn holds(subject: &Subject, state: Option<&str>, wanted: Option<&str>) -> bool {
    let place = |state: Option<&str>| state?.rsplit('-').next()?.parse::<u64>().ok();
    match subject {
        Subject::AppliedOfDomain { .. } => {
            place(state).zip(place(wanted)).is_some_and(|(now, wanted)| now >= wanted)
        }
        Subject::AppliedPosition { .. } | Subject::FetchedChanges { .. } if wanted.is_some() => {
            let parts = |text: Option<&str>| position::gtids(text?).ok();
            parts(state).is_some_and(|now| Some(now) == parts(wanted))
        }
        // Of a slot whose reader was taken away it does not matter how far it came.
        Subject::Slot { .. } if wanted == Some(IDLE) => {
            state.is_some_and(|state| state.split(' ').next() == Some(IDLE))
        }
        Subject::SlotPlace { .. } => {
            let place = |text: Option<&str>| text?.parse::<Position>().ok();
            place(state).zip(place(wanted)).is_some_and(|(now, wanted)| now.has(&wanted))
        }
        _ => same_state(state, wanted),
    }
}

/// A state as it is told.
#[must_use]
pub fn told(state: Option<&str>) -> &str {
    match state {
        None => "not there",
        Some("") => "empty",
        Some(state) => state,
    }
}

impl fmt::Display for SetupChange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let subject = &self.subject;
        match (self.before.as_deref(), self.after.as_deref()) {
            (None, Some(YES)) => match subject {
                Subject::Counter { table, column } => write!(
                    f,
                    "raise the next number of {column} of {} beyond all that are there",
                    table.join(".")
                ),
                Subject::OwnPosition { .. } => f.write_str("count what it wrote itself as applied"),
                _ => write!(f, "add {subject}"),
            },
            (Some(YES), None) if *subject == Subject::Standby => f.write_str("promote it"),
            (Some(YES), None) => write!(f, "take away {subject}"),
            (None, Some(_)) if matches!(subject, Subject::NewLink(_)) => {
                write!(f, "make {subject}, switched off")
            }
            (None, Some(IDLE)) => write!(f, "make {subject}"),
            (None, Some(after)) if matches!(subject, Subject::Publication { .. }) => {
                write!(f, "make {subject}: {after}")
            }
            (None, Some(after)) if matches!(subject, Subject::Column { .. }) => {
                write!(f, "add {subject}: {after}")
            }
            (Some(_), None)
                if matches!(
                    subject,
                    Subject::Column { .. }
                        | Subject::Link { .. }
                        | Subject::Slot { .. }
                        | Subject::Publication { .. }
                        | Subject::ServiceTable { .. }
                ) =>
            {
                write!(f, "take away {subject}")
            }
            (before, after) => write!(f, "{subject}: {} -> {}", told(before), told(after)),
        }
    }
}

/// The way back of a change, in a few words.
#[must_use]
pub fn undone(change: &SetupChange) -> String {
    match change.before.as_deref() {
        None => "taken away again".to_owned(),
        Some(before) => format!("back to {}", told(Some(before))),
    }
}

/// What a node's set-up has to read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SetupCondition {
    /// The node.
    pub node: NodeId,
    /// The value.
    pub subject: Subject,
    /// Its state; none where there has to be none.
    pub is: Option<String>,
}

/// How far a change of a setting reaches, and what a person has to add.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reach {
    /// The server keeps it by itself.
    Kept,
    /// It is lost at the next restart unless a person writes it to the configuration file.
    UntilRestart,
    /// The server keeps it, and it holds from the next restart on.
    AfterRestart,
    /// Only a person can make it, in the configuration file, and restart the server.
    ByHand,
}
