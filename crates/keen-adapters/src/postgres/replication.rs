//! How a PostgreSQL server replicates: its subscriptions, a standby's receiver, its slots.
//!
//! One look for all who ask: flow and preflight. A part that the account may not see costs that part.

use super::queries;
use std::time::Duration;

use keen_core::fault::ReadFault;
use keen_core::observe::links::{Holder, Inflow, Outlet, Wait};
use keen_core::observe::node::{
    ChangeSource, Incoming, Observed, ReplicationKind, Slot, SubscribedTable, WorkerState,
};
use keen_core::observe::position::Position;
use tokio_postgres::Row;
use tokio_postgres::types::ToSql;

use super::connect::PostgresSession;

/// A subscription of pglogical, as [`queries::PGLOGICAL`] tells it.
fn pglogical_link(row: &Row) -> Incoming {
    let (enabled, status): (bool, Option<&str>) = (row.get(1), row.get(4));
    let half = match (enabled, status) {
        (false, _) => WorkerState::Stopped,
        (true, Some("down")) => WorkerState::Tries,
        _ => WorkerState::Runs,
    };
    let (host, port): (Option<String>, Option<i32>) = (row.get(5), row.get(6));
    let port = port.unwrap_or(5432);
    Incoming {
        name: row.get(0),
        means: ReplicationKind::Pglogical,
        source: ChangeSource {
            address: host.zip(u16::try_from(port).ok()),
            id: None,
            slot: row.get(2),
        },
        receiving: half,
        applying: half,
        error: None,
        error_number: None,
        failures: None,
        delay: None,
        filters: Vec::new(),
        own_writes_only: row.get::<_, Option<bool>>(3).unwrap_or(false),
        skips: None,
        publications: Vec::new(),
        tables: None,
    }
}

/// The links that bring changes to a server, and the slots that wait there to be read.
pub(super) struct ReplicationFacts {
    /// Its subscriptions, or a standby's receiver.
    pub(super) inflows: Observed<Vec<Inflow>>,
    /// Its slots.
    pub(super) outlets: Observed<Vec<Outlet>>,
}

/// Looks at a server.
pub(super) struct ReplicationLook<'s> {
    pub(super) session: &'s PostgresSession,
    pub(super) major: u32,
    /// It replays what a primary writes.
    pub(super) standby: bool,
    /// It has the extension pglogical.
    pub(super) pglogical: bool,
    /// Who holds the locks that appliers wait for is asked, too.
    pub(super) locks: bool,
    /// Statements that were sent.
    pub(super) asked: u32,
}

impl ReplicationLook<'_> {
    /// Looks once. `at` is how far a standby has replayed.
    ///
    /// # Errors
    /// [`ReadFault`] when the session was given up.
    pub(super) fn facts(&mut self, at: Option<&Position>) -> Result<ReplicationFacts, ReadFault> {
        let inflows = if self.standby {
            self.streaming(at.cloned())?.map(|inflow| vec![inflow])
        } else {
            let mut inflows = self.subscriptions()?;
            if self.pglogical {
                let more = self.pglogical()?;
                inflows = inflows.and_then(|inflows| more.map(|more| [inflows, more].concat()));
            }
            inflows
        };
        let outlets = self.seen("inspect its slots", queries::SLOTS, &[])?;
        let outlets = outlets.map(|rows| rows.iter().map(outlet).collect());
        Ok(ReplicationFacts { inflows, outlets })
    }

    /// Statements that fail because the account may not cost that answer, nothing else.
    fn seen(
        &mut self,
        doing: &str,
        sql: &str,
        values: &[&(dyn ToSql + Sync)],
    ) -> Result<Observed<Vec<Row>>, ReadFault> {
        self.asked += 1;
        seen(self.session, doing, sql, values)
    }
}

/// Statements that fail because the account may not cost that answer, nothing else.
pub(super) fn seen(
    session: &PostgresSession,
    doing: &str,
    sql: &str,
    values: &[&(dyn ToSql + Sync)],
) -> Result<Observed<Vec<Row>>, ReadFault> {
    match session.rows(doing, sql, values) {
        Ok(rows) => Ok(Ok(rows)),
        Err(fault) if session.is_given_up() || fault.is_interrupted() => Err(fault),
        Err(fault) => Ok(Err(fault)),
    }
}

impl ReplicationLook<'_> {
    fn subscriptions(&mut self) -> Result<Observed<Vec<Inflow>>, ReadFault> {
        let sql = queries::subscriptions(self.major);
        let rows = self.seen("inspect its subscriptions", &sql, &[])?;
        let rows = match rows {
            Ok(rows) => rows,
            Err(fault) => return Ok(Err(fault)),
        };
        let tables = self.seen("inspect the tables of its subscriptions", queries::TAKEN, &[])?;
        let tables = match tables {
            Ok(tables) => tables,
            Err(fault) => return Ok(Err(fault)),
        };
        let mut found = Vec::new();
        for row in &rows {
            let (oid, enabled): (u32, bool) = (row.get(0), row.get(2));
            let worker: Option<i32> = row.get(7);
            let failures: Option<i64> = row.get(8);
            let copy_failures: Option<i64> = row.get(16);
            let failed = failures.unwrap_or(0) + copy_failures.unwrap_or(0) > 0;
            let stopped_itself = !enabled && row.get::<_, bool>(6) && failed;
            let half = match (enabled, worker.is_some()) {
                (false, _) => WorkerState::Stopped,
                (true, true) => WorkerState::Runs,
                (true, false) => WorkerState::Tries,
            };
            let taken = tables.iter().filter(|table| table.get::<_, u32>(0) == oid);
            let taken = taken.map(|t| SubscribedTable {
                table: t.get(1),
                ready: t.get(2),
                copied: t.get(3),
            });
            let link = Incoming {
                name: row.get(1),
                means: ReplicationKind::Subscription,
                source: ChangeSource { slot: row.get(3), ..ChangeSource::default() },
                receiving: half,
                applying: half,
                error_number: None,
                error: stopped_itself.then(|| {
                    "it disabled itself on an error, which is in the server's log".to_owned()
                }),
                failures: failures.and_then(|count| u64::try_from(count).ok()),
                delay: None,
                filters: Vec::new(),
                own_writes_only: row.get::<_, &str>(5) == "none",
                skips: None,
                publications: row.get(4),
                tables: Some(taken.collect()),
            };
            let (kind, event): (Option<&str>, Option<&str>) = (row.get(9), row.get(10));
            let waiting: Option<i32> = row.get(14);
            let wait = match waiting {
                Some(worker) => self.lock_of(worker)?,
                None => None,
            };
            found.push(Inflow {
                received: lsn(row.get(11)),
                busy: worker.is_some()
                    && !matches!(kind, Some("Activity" | "Lock" | "Client"))
                    && row.get::<_, Option<&str>>(15).is_some(),
                doing: event.map(std::borrow::ToOwned::to_owned),
                copy_failures: copy_failures.and_then(|count| u64::try_from(count).ok()),
                heartbeats: row.get::<_, Option<i64>>(13).unwrap_or(0).unsigned_abs(),
                heard_at: row.get(12),
                wait,
                ..Inflow::of(link)
            });
        }
        Ok(Ok(found))
    }

    /// The subscriptions of the extension pglogical. Of failures it keeps no count.
    fn pglogical(&mut self) -> Result<Observed<Vec<Inflow>>, ReadFault> {
        let rows = self.seen("inspect its pglogical subscriptions", queries::PGLOGICAL, &[])?;
        let rows = match rows {
            Ok(rows) => rows,
            Err(fault) => return Ok(Err(fault)),
        };
        let mut found = Vec::new();
        for row in &rows {
            let link = pglogical_link(row);
            let wait = match (row.get::<_, Option<i32>>(7), row.get::<_, Option<&str>>(8)) {
                (Some(worker), Some("Lock")) => self.lock_of(worker)?,
                _ => None,
            };
            let event: Option<&str> = row.get(9);
            found.push(Inflow { doing: event.map(str::to_owned), wait, ..Inflow::of(link) });
        }
        Ok(Ok(found))
    }

    /// The lock that a process waits for, and who holds it.
    fn lock_of(&mut self, process: i32) -> Result<Option<Wait>, ReadFault> {
        if !self.locks {
            return Ok(None);
        }
        let rows = self.seen("inspect who holds a lock", queries::LOCK_HOLDERS, &[&process])?;
        let rows = match rows {
            Ok(rows) => rows,
            Err(fault) => {
                return Ok(Some(Wait { what: "a lock".to_owned(), holders: Err(fault) }));
            }
        };
        let Some(first) = rows.first() else { return Ok(None) }; // it was just let go
        let (kind, table): (Option<&str>, Option<&str>) = (first.get(0), first.get(1));
        let what = match (kind, table) {
            (Some("relation"), Some(table)) => format!("a table lock on {table}"),
            (Some("relation"), None) => "a table lock".to_owned(),
            (Some("transactionid" | "tuple"), Some(table)) => format!("a row of {table}"),
            _ => "a lock".to_owned(),
        };
        Ok(Some(Wait { what, holders: Ok(rows.iter().map(|row| holder(row, 2)).collect()) }))
    }

    /// The receiver of a standby and its replay.
    fn streaming(&mut self, applied: Option<Position>) -> Result<Observed<Inflow>, ReadFault> {
        let rows = self.seen(
            "inspect its receiver",
            // While nothing is received only its settings tell the source. Of those, which can hold a
            // password, no more than host and port leaves the server.
            queries::RECEIVER,
            &[],
        )?;
        let rows = match rows {
            Ok(rows) => rows,
            Err(fault) => return Ok(Err(fault)),
        };
        let Some(row) = rows.first() else {
            return Ok(Err(ReadFault::not_told("it did not tell")));
        };
        let (host, port): (Option<String>, Option<i32>) = (row.get(1), row.get(2));
        let paused: bool = row.get(4);
        let delay: Option<i64> = row.get(7);
        let delay = delay.filter(|ms| *ms > 0).map(|ms| Duration::from_millis(ms.unsigned_abs()));
        let event: Option<&str> = row.get(10);
        let link = Incoming {
            name: row.get::<_, Option<String>>(3).unwrap_or_else(|| "walreceiver".to_owned()),
            means: ReplicationKind::Streaming,
            source: ChangeSource {
                address: host.zip(port.and_then(|port| u16::try_from(port).ok())),
                id: None,
                slot: row.get(3),
            },
            receiving: if row.get::<_, Option<&str>>(0) == Some("streaming") {
                WorkerState::Runs
            } else {
                WorkerState::Tries
            },
            applying: if paused { WorkerState::Stopped } else { WorkerState::Runs },
            error_number: None,
            error: paused.then(|| "replay is paused".to_owned()),
            failures: None,
            delay,
            filters: Vec::new(),
            own_writes_only: false,
            skips: None,
            publications: Vec::new(),
            tables: None,
        };
        let conflict = event.is_some_and(|event| event.starts_with("RecoveryConflict"))
            || row.get::<_, Option<&str>>(9) == Some("Lock");
        let received = lsn(row.get(5));
        let late: Option<f64> = row.get(8);
        let behind = received.as_ref().zip(applied.as_ref()).is_some_and(|(r, a)| !a.has(r));
        Ok(Ok(Inflow {
            received,
            applied,
            late: late.filter(|_| behind).map(Duration::from_secs_f64),
            // Of the change that waits it does not tell the age.
            waits_on_purpose: (event == Some("RecoveryApplyDelay")).then_some(Duration::ZERO),
            busy: row.get::<_, Option<&str>>(9).is_none() && event.is_none() && behind,
            doing: event.map(str::to_owned),
            heard_at: row.get(6),
            heartbeats: row.get::<_, Option<i64>>(6).unwrap_or(0).unsigned_abs(),
            wait: if conflict && self.locks { self.readers_in_the_way()? } else { None },
            ..Inflow::of(link)
        }))
    }

    /// Sessions on a standby that read what replay is to remove.
    fn readers_in_the_way(&mut self) -> Result<Option<Wait>, ReadFault> {
        let rows = self.seen("inspect who is in the way of replay", queries::READERS, &[])?;
        let holders = rows.map(|rows| rows.iter().map(|row| holder(row, 0)).collect());
        Ok(Some(Wait { what: "readers of what it is to remove or lock".to_owned(), holders }))
    }
}

pub(super) fn lsn(text: Option<&str>) -> Option<Position> {
    text.and_then(|text| text.parse().ok())
}

fn outlet(row: &Row) -> Outlet {
    Outlet {
        slot: Slot {
            name: row.get(0),
            database: row.get(1),
            active: row.get(2),
            held_back: row.get(3),
            room: row.get(5),
            log: row.get(4),
        },
        confirmed: lsn(row.get(6)),
        sent: lsn(row.get(7)),
        answered_at: row.get(8),
        prepared: row.get::<_, Option<i64>>(9).map(i64::unsigned_abs),
        counted_since: row.get(10),
    }
}

/// A session from its number on: who, from what program, in which state for how long.
fn holder(row: &Row, at: usize) -> Holder {
    let session: i32 = row.get(at);
    let who: Option<&str> = row.get(at + 1);
    let program: Option<&str> = row.get(at + 2);
    let state: Option<&str> = row.get(at + 3);
    let seconds: Option<i64> = row.get(at + 4);
    let program = program.filter(|p| !p.is_empty()).map(|p| format!(" by {p}")).unwrap_or_default();
    Holder {
        session: u64::from(session.unsigned_abs()),
        about: format!(
            "{}{program}, {} for {} s",
            who.unwrap_or("somebody"),
            state.unwrap_or("working"),
            seconds.unwrap_or(0)
        ),
    }
}
