//! One look at a node's links, as far as its account may see.
//!
//! Adapters fill this in and judge nothing. A later look is held against the few numbers of an earlier
//! one that are in [`Baseline`], which can be kept and read back.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use crate::fault::ReadFault;
use crate::observe::node::{Incoming, Observed, ReplicationKind, Slot};
use crate::observe::position::Position;
use crate::topology::{Engine, NodeId};

/// A moment, in microseconds since 1970 began, by our own clock.
pub type Micros = i64;

/// One look at one node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Observation {
    /// When it was taken.
    pub at: Micros,
    /// The findings, or why there are none.
    pub snapshot: Result<Box<LinkSnapshot>, ReadFault>,
}

/// Looks at nodes, at about one moment.
pub type Observations = BTreeMap<NodeId, Observation>;

/// A node's account of its links.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinkSnapshot {
    /// The engine that holds it.
    pub engine: Engine,
    /// Kind, version and the like in a few words.
    pub about: String,
    /// It replays what a primary writes and can take no writes of its own.
    pub standby: bool,
    /// A setting makes it refuse writes; by the name of the setting.
    pub closed: Option<String>,
    /// It is a member of a synchronous cluster, whose ways are not judged here.
    pub cluster: bool,
    /// MariaDB: the id by which others know it.
    pub server_id: Option<String>,
    /// MariaDB: the domain in which it numbers its own writes.
    pub domain: Option<u32>,
    /// The database, where slots belong to one.
    pub database: Option<String>,
    /// How far its log has come: everything it has written itself or applied, and passes on.
    pub position: Observed<Position>,
    /// Where it keeps no log: something that is another whenever anything was written.
    pub stamp: Option<String>,
    /// Up to where its log is safe on its disk, where nothing beyond that is sent to anybody.
    pub flushed: Option<Position>,
    /// The longest for which a commit can be seen and not be safe on its disk yet.
    pub unsafe_for: Micros,
    /// By origin, how far it has applied what each wrote, where the engine keeps that apart.
    pub origins: Option<Position>,
    /// The writes of applications here.
    pub own: Option<Own>,
    /// Writes to the tables of the sets, by the sets' names: a number that moves with each.
    pub touched: BTreeMap<String, Touched>,
    /// The links that bring changes here.
    pub inflows: Observed<Vec<Inflow>>,
    /// The slots that wait here to be read by others.
    pub outlets: Observed<Vec<Outlet>>,
    /// Its offers to subscribers: publication, then schema and table.
    pub published: Observed<Vec<(String, String)>>,
    /// The last sign of life from each node, where somebody keeps a table of them: by name, when.
    pub beats: BTreeMap<String, Micros>,
    /// Statements that the look took.
    pub asked: u32,
}

/// A measure of what applications wrote at a node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Own {
    /// So many transactions so far.
    Count(u64),
    /// The last transaction of all, which is another after each write, and whether it was made here.
    Last {
        /// Its name.
        mark: String,
        /// No replication brought it.
        here: bool,
    },
}

/// How a table was last written to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Touched {
    /// Writes so far, in some measure.
    pub count: u64,
    /// When the last one was, if the engine tells.
    pub at: Option<Micros>,
    /// Whether it holds any row, where that was looked at: never by an engine's estimate, which forgets.
    pub holds: Option<bool>,
}

/// Something that brings changes to a node, as the receiver tells it at one moment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Inflow {
    /// The link and which halves of it run.
    pub link: Incoming,
    /// How far it has fetched.
    pub received: Option<Position>,
    /// How far it has applied; none where only the source knows.
    pub applied: Option<Position>,
    /// How late it is by the engine's own account.
    pub late: Option<Duration>,
    /// How long it still waits on purpose before it applies the next change.
    pub waits_on_purpose: Option<Duration>,
    /// The work of the applier, in the engine's words.
    pub doing: Option<String>,
    /// It was seen at work on a change, waiting for nobody.
    pub busy: bool,
    /// A number that moves while it works, also within one transaction.
    pub progress: u64,
    /// How often the first copy of a table failed, if the server counts that.
    pub copy_failures: Option<u64>,
    /// The lock that it waits for.
    pub wait: Option<Wait>,
    /// The error that it stopped at or complains of.
    pub trouble: Option<ReceiverError>,
    /// A number that moves with each sign of life from the source.
    pub heartbeats: u64,
    /// When the last message of the source came.
    pub heard_at: Option<Micros>,
    /// When it tries again, if the server tells: every so long.
    pub retries_every: Option<Duration>,
}

impl Inflow {
    /// Something that brings changes and of which no more is known yet.
    #[must_use]
    pub fn of(link: Incoming) -> Self {
        Self {
            link,
            received: None,
            applied: None,
            late: None,
            waits_on_purpose: None,
            doing: None,
            busy: false,
            progress: 0,
            copy_failures: None,
            wait: None,
            trouble: None,
            heartbeats: 0,
            heard_at: None,
            retries_every: None,
        }
    }

    /// The link itself. Its failures are those of first copies, too.
    #[must_use]
    pub fn known(self) -> Incoming {
        let copies = self.copy_failures.unwrap_or(0);
        let failures = self.link.failures.map(|failures| failures.saturating_add(copies));
        Incoming { failures, ..self.link }
    }
}

/// A lock that an applier waits for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wait {
    /// The lock, such as "a table lock" or "a row of stay".
    pub what: String,
    /// Who holds it, or why that could not be seen.
    pub holders: Observed<Vec<Holder>>,
}

/// A session that holds a lock.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holder {
    /// The number by which the server ends it.
    pub session: u64,
    /// Account, and what it does or did, as the server shows it.
    pub about: String,
}

/// The error that a receiver stopped at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReceiverError {
    /// The engine's number for it.
    pub code: Option<u64>,
    /// The engine's own message.
    pub message: String,
    /// The write it stopped at: a position, or a place in a log.
    pub at: Option<String>,
}

/// A slot that waits at a node to be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Outlet {
    /// The slot.
    pub slot: Slot,
    /// Up to where its reader has everything; it moves on over log that does not concern the reader.
    pub confirmed: Option<Position>,
    /// Up to where it was sent.
    pub sent: Option<Position>,
    /// When its reader last answered.
    pub answered_at: Option<Micros>,
    /// Transactions that were prepared for sending so far: those that concern the reader.
    pub prepared: Option<u64>,
    /// Since when the server counts them: another whenever it may have begun from nothing.
    pub counted_since: Option<String>,
}

impl Outlet {
    /// Whether its reader has confirmed every whole record of the log up to `flushed`. While a
    /// transaction is open the server writes its log to disk page by page, so what is safe there ends in
    /// the middle of a record. No sender can send that part, and a commit in it would not be safe yet: a
    /// commit is written to its end, which is no end of a page but by chance.
    #[must_use]
    pub fn rests_in_a_record(&self, flushed: &Position) -> bool {
        /// `XLOG_BLCKSZ` as every package builds it; with another size the rule does not hold, and is
        /// then not used.
        const PAGE: u64 = 8192;
        match (&self.confirmed, flushed) {
            (Some(Position::Lsn(confirmed)), Position::Lsn(flushed)) => {
                self.sent == self.confirmed
                    && flushed % PAGE == 0
                    && (1..PAGE).contains(&flushed.saturating_sub(*confirmed))
            }
            _ => false,
        }
    }
}

/// The part of a look that a later one is held against.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Baseline {
    /// When the look was taken.
    pub at: Micros,
    /// How far the node's log had come.
    pub position: Option<Position>,
    /// How far it had applied each origin's writes.
    pub origins: Option<Position>,
    /// The writes of applications there.
    pub own: Option<Own>,
    /// It was a standby.
    pub standby: bool,
    /// By table, the count of writes.
    pub touched: BTreeMap<String, u64>,
    /// The tables that were seen to hold rows.
    pub filled: BTreeSet<String>,
    /// By node, the last sign of life that had arrived there.
    pub beats: BTreeMap<String, Micros>,
    /// By the names of what brings changes there.
    pub inflows: BTreeMap<String, InflowMark>,
    /// By slot, up to where its reader had everything, and how many transactions had been prepared for it.
    pub outlets: BTreeMap<String, (Position, Option<u64>)>,
    /// By slot, up to where its reader had been sent the log.
    pub sent: BTreeMap<String, Position>,
    /// By slot, since when the server counted what was prepared for it.
    pub counted_since: BTreeMap<String, String>,
}

/// A slot that is another than the one of that name that was there before.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SlotAnew {
    /// Up to where the reader of the one before had everything.
    pub before: Position,
    /// When that one was last seen.
    pub seen: Micros,
    /// When the new one was first seen.
    pub found: Micros,
    /// Its counters fell while the server counted on; else they may have begun from nothing for another reason.
    pub certain: bool,
}

impl SlotAnew {
    /// Whether a slot's counters tell that it was made anew: what was prepared never grows less.
    #[must_use]
    pub fn told(
        (before, then, then_since): (&Position, Option<u64>, Option<&str>),
        (now, since): (Option<u64>, Option<&str>),
        (seen, found): (Micros, Micros),
    ) -> Option<Self> {
        let fell = then.zip(now).is_some_and(|(then, now)| now < then);
        let certain = then_since.is_some() && then_since == since;
        fell.then(|| Self { before: before.clone(), seen, found, certain })
    }
}

/// The slots that were made anew between earlier looks and these, by node and name.
#[must_use]
pub fn slots_anew(before: &Marks, now: &Observations) -> BTreeMap<(NodeId, String), SlotAnew> {
    let mut anew = BTreeMap::new();
    for (node, observation) in now {
        let (Some(mark), Some(snapshot)) = (before.get(node), observation.snapshot()) else {
            continue;
        };
        for outlet in snapshot.outlets.as_deref().unwrap_or_default() {
            let name = &outlet.slot.name;
            let Some((position, prepared)) = mark.outlets.get(name) else { continue };
            let since = mark.counted_since.get(name).map(String::as_str);
            let told = SlotAnew::told(
                (position, *prepared, since),
                (outlet.prepared, outlet.counted_since.as_deref()),
                (mark.at, observation.at),
            );
            anew.extend(told.map(|told| ((*node, name.clone()), told)));
        }
    }
    anew
}

/// The part of an inflow that a later look is held against.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct InflowMark {
    /// How far it had applied.
    pub applied: Option<Position>,
    /// How far it had fetched.
    pub received: Option<Position>,
    /// How often it had failed.
    pub failures: Option<u64>,
    /// Its number for progress.
    pub progress: u64,
    /// Its number for signs of life.
    pub heartbeats: u64,
}

/// Earlier looks.
pub type Marks = BTreeMap<NodeId, Baseline>;

impl Observation {
    /// The part that a later look is held against; none if nothing was found.
    #[must_use]
    pub fn mark(&self) -> Option<Baseline> {
        let snapshot = self.snapshot.as_ref().ok()?;
        let inflows = snapshot.inflows.as_deref().unwrap_or_default();
        let outlets = snapshot.outlets.as_deref().unwrap_or_default();
        Some(Baseline {
            at: self.at,
            position: snapshot.position.as_ref().ok().cloned(),
            origins: snapshot.origins.clone(),
            own: snapshot.own.clone(),
            standby: snapshot.standby,
            beats: snapshot.beats.clone(),
            touched: snapshot.touched.iter().map(|(table, t)| (table.clone(), t.count)).collect(),
            filled: (snapshot.touched.iter())
                .filter(|(_, touched)| touched.holds == Some(true))
                .map(|(table, _)| table.clone())
                .collect(),
            inflows: inflows
                .iter()
                .map(|inflow| {
                    let mark = InflowMark {
                        applied: inflow.applied.clone(),
                        received: inflow.received.clone(),
                        failures: inflow.link.failures,
                        progress: inflow.progress,
                        heartbeats: inflow.heartbeats,
                    };
                    (inflow.link.name.clone(), mark)
                })
                .collect(),
            counted_since: outlets
                .iter()
                .filter_map(|o| Some((o.slot.name.clone(), o.counted_since.clone()?)))
                .collect(),
            sent: outlets
                .iter()
                .filter_map(|o| Some((o.slot.name.clone(), o.sent.clone()?)))
                .collect(),
            outlets: outlets
                .iter()
                .filter_map(|o| Some((o.slot.name.clone(), (o.confirmed.clone()?, o.prepared))))
                .collect(),
        })
    }

    /// The findings, if there are any.
    #[must_use]
    pub fn snapshot(&self) -> Option<&LinkSnapshot> {
        self.snapshot.as_deref().ok()
    }
}

/// The parts of looks that later ones are held against.
#[must_use]
pub fn marks(observations: &Observations) -> Marks {
    observations
        .iter()
        .filter_map(|(node, observation)| Some((*node, observation.mark()?)))
        .collect()
}

impl ReplicationKind {
    /// Whether only the source knows how far the receiver has come.
    #[must_use]
    pub fn source_counts(self) -> bool {
        matches!(self, Self::Subscription | Self::Pglogical)
    }
}
