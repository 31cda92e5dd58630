//! Values of a node's set-up, as documents.

use std::collections::BTreeMap;

use keen_core::setup::{LinkLogin, LinkWay, NewLink, NewSubscription, Subject};
use serde::{Deserialize, Serialize};

/// A value of a node's set-up.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "of", rename_all = "snake_case", deny_unknown_fields)]
pub enum SubjectDocument {
    /// A setting of the running server.
    Setting {
        /// Its name.
        name: String,
    },
    /// A setting as the server itself keeps it.
    KeptSetting {
        /// Its name.
        name: String,
        /// It is taken up at once; else at the next start.
        reload: bool,
    },
    /// A setting of a database.
    DatabaseSetting {
        /// The database.
        database: String,
        /// Its name.
        name: String,
    },
    /// Whether a link is on or off.
    LinkSwitch {
        /// The link, as the receiver calls it.
        link: String,
    },
    /// By how many seconds a link is delayed on purpose.
    LinkDelay {
        /// The link.
        link: String,
    },
    /// Whether a subscription is past a commit of its source.
    PassedCommit {
        /// The subscription.
        link: String,
        /// Where the commit stands in the source's log.
        commit: String,
        /// The subscription is switched on for it.
        enable: bool,
    },
    /// What a MariaDB server has applied last of a domain.
    AppliedOfDomain {
        /// The domain.
        domain: u32,
        /// Connections that stopped there: they are switched off for a change of it, and on again.
        stops: Vec<String>,
    },
    /// What a MariaDB server has applied last of all domains; only set with a copy.
    AppliedPosition {
        /// Connections that go on from there.
        links: Vec<String>,
    },
    /// Up to where a slot has delivered; only set with a copy.
    SlotPlace {
        /// The slot.
        slot: String,
    },
    /// The link itself; only taken away.
    Link {
        /// The link, as the receiver calls it.
        link: String,
    },
    /// A link that is made, switched off.
    NewLink {
        /// Its name on the receiver.
        link: String,
        /// Its source, by the name that the topology file gives it.
        from: String,
        /// The source's host, as the receiver knows it.
        host: String,
        /// Its port.
        port: u16,
        /// Who logs in there. The password is bound when it is made, from where the topology file says it is.
        user: String,
        /// The line between them is encrypted.
        tls: bool,
        /// How a subscription takes it; null of a MariaDB connection.
        subscription: Option<NewSubscriptionDocument>,
    },
    /// A link of the stand-in network that is made, switched off.
    NewStandInLink {
        /// Its number on the receiver.
        link: String,
        /// Its source, by the name that the topology file gives it.
        from: String,
        /// The sets that it carries.
        carries: Vec<String>,
    },
    /// Up to where a MariaDB connection has fetched, while it has not applied all of that; only read.
    FetchedChanges {
        /// The connection.
        link: String,
    },
    /// How far the log of a server has come; only read.
    LoggedPosition {},
    /// Whether a MariaDB server has all of a position; only read.
    HeldPosition {
        /// The position.
        position: String,
    },
    /// How far a link has applied of its source; only read.
    Taken {
        /// The link, as the receiver calls it.
        link: String,
    },
    /// The last transactions that a MariaDB server wrote itself; only read.
    OwnWrites {},
    /// Whether the log of a MariaDB server has all transactions of a state; only read.
    HeldState {
        /// The state.
        state: String,
    },
    /// Whether what a MariaDB server wrote itself counts as applied.
    OwnPosition {
        /// The connection that goes on from there.
        link: String,
    },
    /// Sessions on a database that began before it was closed to writes, or that hold prepared transactions; only read.
    OldSessions {
        /// The database.
        database: String,
    },
    /// Whether somebody answers for it that the node takes no writes any more; only read.
    FencedOff {},
    /// Whether a node lets keen in; only read.
    Answers {},
    /// Whether a server replays what a primary writes; only promoted.
    Standby {},
    /// Whether a standby has replayed the end of a log that was ended cleanly; only read.
    CleanEnd {
        /// The log had come so far before.
        beyond: String,
    },
    /// Where a standby receives from; only read.
    StandbyOf {},
    /// Who writes and which links there are by the topology file; only read, and of no node.
    TopologyFile {},
    /// Whether the next number that is handed out for a column is beyond all that are there.
    Counter {
        /// Its schema and its name, or its name.
        table: Vec<String>,
        /// The column.
        column: String,
    },
    /// Whether somebody reads a slot, or how far it has come; only taken away.
    Slot {
        /// The slot.
        slot: String,
    },
    /// What a publication offers; only taken away.
    Publication {
        /// The publication.
        publication: String,
    },
    /// Whether there is a replication origin of this name.
    Origin {
        /// The origin.
        origin: String,
    },
    /// Whether a table of keen's own holds rows; only taken away, and empty.
    ServiceTable {
        /// By its schema and its name, or its name.
        table: Vec<String>,
    },
    /// Which writes a subscription asks for.
    LinkOrigin {
        /// The subscription.
        link: String,
    },
    /// Whether a publication has a table.
    PublishedTable {
        /// The publication.
        publication: String,
        /// Its schema and its name, or its name.
        table: Vec<String>,
    },
    /// The kinds of writes that a publication sends.
    PublishedKinds {
        /// The publication.
        publication: String,
    },
    /// Whether a subscription takes a table.
    SubscribedTable {
        /// The subscription.
        link: String,
        /// Its schema and its name, or its name.
        table: Vec<String>,
        /// The rows that are there already are copied.
        copy: bool,
    },
    /// How a column is declared.
    Column {
        /// Its table, by its schema or database and its name, or its name.
        table: Vec<String>,
        /// Its name.
        column: String,
        /// The column that it comes after where it is added; null for the end.
        after: Option<String>,
    },
    /// The order of a table's columns.
    ColumnOrder {
        /// Its table, by its database and its name, or its name.
        table: Vec<String>,
        /// The columns that are moved for a change of it, and how each is declared.
        moved: BTreeMap<String, String>,
    },
    /// Whether a column holds anything but its default; only read.
    FilledColumn {
        /// Its table, by its schema or database and its name, or its name.
        table: Vec<String>,
        /// Its name.
        column: String,
    },
    /// Whether a table has rows; only read.
    TableRows {
        /// Its schema and its name, or its name.
        table: Vec<String>,
    },
    /// Whether something names the rows of a table to subscribers; only read.
    NamedRows {
        /// Its schema and its name, or its name.
        table: Vec<String>,
    },
    /// By what rows of a table are named to subscribers.
    RowNames {
        /// Its schema and its name, or its name.
        table: Vec<String>,
    },
}

/// The part of a link that only a PostgreSQL subscription has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct NewSubscriptionDocument {
    /// The database of the source.
    pub database: String,
    /// The publication that it takes.
    pub publication: String,
    /// The slot that it reads, which is made with the copy.
    pub slot: String,
    /// Which writes it asks for, "none" or "any"; null before PostgreSQL 16.
    pub origin: Option<String>,
}

/// Exchanges a subject and its document, variant by variant.
macro_rules! exchanged {
    ($($variant:ident { $($field:ident),* }),* $(,)?) => {
        impl From<&Subject> for SubjectDocument {
            fn from(subject: &Subject) -> Self {
                match subject.clone() {
                    Subject::NewLink(new) => {
                        let NewLink { link, from, way } = *new;
                        let (login, subscription) = match way {
                            LinkWay::Connection(login) => (login, None),
                            LinkWay::Subscription(login, of) => (login, Some(of)),
                            LinkWay::StandIn { carries } => {
                                return Self::NewStandInLink { link, from, carries };
                            }
                        };
                        let LinkLogin { host, port, user, tls } = login;
                        let subscription = subscription.map(|of| {
                            let NewSubscription { database, publication, slot, origin } = of;
                            NewSubscriptionDocument { database, publication, slot, origin }
                        });
                        Self::NewLink { link, from, host, port, user, tls, subscription }
                    }
                    $(Subject::$variant { $($field),* } => Self::$variant { $($field),* },)*
                }
            }
        }

        impl From<SubjectDocument> for Subject {
            fn from(document: SubjectDocument) -> Self {
                match document {
                    SubjectDocument::NewLink { link, from, host, port, user, tls, subscription } => {
                        let subscription = subscription.map(|of| {
                            let NewSubscriptionDocument { database, publication, slot, origin } = of;
                            NewSubscription { database, publication, slot, origin }
                        });
                        let login = LinkLogin { host, port, user, tls };
                        let way = match subscription {
                            None => LinkWay::Connection(login),
                            Some(of) => LinkWay::Subscription(login, of),
                        };
                        Self::NewLink(Box::new(NewLink { link, from, way }))
                    }
                    SubjectDocument::NewStandInLink { link, from, carries } => {
                        let way = LinkWay::StandIn { carries };
                        Self::NewLink(Box::new(NewLink { link, from, way }))
                    }
                    $(SubjectDocument::$variant { $($field),* } => Self::$variant { $($field),* },)*
                }
            }
        }
    };
}

exchanged! {
    Setting { name },
    KeptSetting { name, reload },
    DatabaseSetting { database, name },
    LinkSwitch { link },
    LinkDelay { link },
    LinkOrigin { link },
    PassedCommit { link, commit, enable },
    AppliedOfDomain { domain, stops },
    AppliedPosition { links },
    SlotPlace { slot },
    Link { link },
    FetchedChanges { link },
    LoggedPosition {},
    HeldPosition { position },
    Taken { link },
    OwnWrites {},
    HeldState { state },
    OwnPosition { link },
    OldSessions { database },
    FencedOff {},
    Answers {},
    Standby {},
    CleanEnd { beyond },
    StandbyOf {},
    TopologyFile {},
    Counter { table, column },
    Slot { slot },
    Publication { publication },
    Origin { origin },
    ServiceTable { table },
    PublishedTable { publication, table },
    PublishedKinds { publication },
    SubscribedTable { link, table, copy },
    RowNames { table },
    TableRows { table },
    Column { table, column, after },
    ColumnOrder { table, moved },
    FilledColumn { table, column },
    NamedRows { table },
}
