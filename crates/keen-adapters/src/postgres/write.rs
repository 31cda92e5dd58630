//! Writing the steps of a plan to a PostgreSQL server, each batch in one transaction under keen's replication origin.
//!
//! The mark of a batch is the progress of that origin: run and batch as a position, which commits with the batch. No
//! table is needed, which a subscription to all tables would stumble over. Progress only rises; a later run has a
//! greater number. One session at a time can have the origin: whoever has it knows that no other is still writing. A
//! transaction that is rolled back moves the origin on as well, so the number of the batch's transaction is asked for
//! besides, and what became of it.

use keen_core::fault::ReadFault;
use keen_core::history::journal::REPAIR_ORIGIN;
use keen_core::plan::Step;
use keen_core::plan::port::{BatchMark, WriteFault, WriteSteps};
use tokio_postgres::SimpleQueryMessage;
use tokio_postgres::error::SqlState;

use super::connect::PostgresSession;
use super::queries;
use crate::server::Access;

/// A PostgreSQL server to which steps are written.
pub struct PostgresWriter {
    pub(super) session: PostgresSession,
    user: String,
    /// The session has the origin.
    origin: bool,
    /// The origin has room for this run.
    has_room: bool,
    /// The mark of the batch at hand.
    mark: Option<BatchMark>,
}

impl std::fmt::Debug for PostgresWriter {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PostgresWriter").finish_non_exhaustive()
    }
}

/// As scripts pin them, and steps are spelled for; and no trigger, no cascade.
const SETTINGS: &str = "BEGIN; SET LOCAL standard_conforming_strings = on; SET LOCAL TimeZone = 'UTC'; \
    SET LOCAL DateStyle = 'ISO, YMD'; SET LOCAL IntervalStyle = 'iso_8601'; SET LOCAL extra_float_digits = 3; \
    SET LOCAL bytea_output = 'hex'; SET LOCAL xmloption = 'content'; SET LOCAL row_security = off; \
    SET LOCAL session_replication_role = replica";

/// A lock that was waited for too long, a deadlock.
const LOCKED: [SqlState; 3] = [
    SqlState::LOCK_NOT_AVAILABLE,
    SqlState::T_R_DEADLOCK_DETECTED,
    SqlState::T_R_SERIALIZATION_FAILURE,
];

/// Whether others hold a lock that was waited for.
pub(super) fn is_lock(error: &tokio_postgres::Error) -> bool {
    error.as_db_error().is_some_and(|said| LOCKED.contains(said.code()))
}

fn position(mark: BatchMark) -> String {
    format!("{:X}/{:X}", mark.run, mark.batch)
}

impl PostgresWriter {
    /// Logs in.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be reached in time, or refuses, or is a standby, or the account lacks rights.
    pub fn open(access: &Access) -> Result<Self, ReadFault> {
        let user = access.server.user.clone();
        let session = PostgresSession::open_to_mend(access)?;
        if session.one("SELECT pg_is_in_recovery()")?.get(0) {
            return Err(ReadFault::new(
                format!("{} is a standby: it holds what its primary holds", access.shown()),
                "mend the primary",
            ));
        }
        if !session.one(queries::MAY_USE_ORIGINS)?.get::<_, bool>(0) {
            return Err(ReadFault::new(
                format!("{user} may not use replication origins on {}", access.shown()),
                format!(
                    "mend with a superuser, or grant {user} EXECUTE on pg_replication_origin_create, _session_setup, _xact_setup and _progress"
                ),
            ));
        }
        Ok(Self { session, user, origin: false, has_room: false, mark: None })
    }

    fn run(&self, doing: &str, sql: &str) -> Result<u64, WriteFault> {
        let done = self.session.simple(doing, sql).map_err(WriteFault::Lost)?;
        let messages = done.map_err(|error| {
            let code = error.as_db_error().map(|said| said.code().clone());
            let fault = self.session.failed(doing, &error);
            match code {
                None => WriteFault::Lost(fault),
                Some(code) => self.sorted(&code, fault),
            }
        })?;
        let rows = messages.iter().rev().find_map(|message| match message {
            SimpleQueryMessage::CommandComplete(rows) => Some(*rows),
            _ => None,
        });
        Ok(rows.unwrap_or(0))
    }

    fn sorted(&self, code: &SqlState, fault: ReadFault) -> WriteFault {
        if LOCKED.contains(code) {
            return WriteFault::Locked(fault);
        }
        if *code == SqlState::INSUFFICIENT_PRIVILEGE {
            let user = &self.user;
            let advice = format!(
                "grant {user} INSERT, UPDATE and DELETE on the table and SET ON PARAMETER session_replication_role (from PostgreSQL 15 on), or mend with a superuser"
            );
            return WriteFault::Lost(ReadFault { advice, ..fault });
        }
        // Classes: the server is stopping, has no room, is read-only, or broke.
        let for_nobody = ["57", "53", "25", "58", "XX", "08"];
        if for_nobody.iter().any(|class| code.code().starts_with(class)) {
            return WriteFault::Lost(fault);
        }
        WriteFault::Refused(fault)
    }

    pub(super) fn plain(&self, doing: &str, sql: &str) -> Result<(), ReadFault> {
        match self.run(doing, sql) {
            Ok(_) => Ok(()),
            Err(
                WriteFault::Lost(fault) | WriteFault::Refused(fault) | WriteFault::Locked(fault),
            ) => Err(fault),
        }
    }

    /// Whether the origin has come to a mark, or beyond.
    fn has_come_to(&self, mark: BatchMark) -> Result<bool, ReadFault> {
        let sql = format!(
            "SELECT coalesce(pg_replication_origin_progress('{REPAIR_ORIGIN}', true) >= '{}'::pg_lsn, false)",
            position(mark)
        );
        Ok(self.session.one(&sql)?.get(0))
    }

    /// Takes the origin, making it where it is not there. A session that is still about to end keeps it a moment longer.
    fn take_origin(&mut self) -> Result<(), ReadFault> {
        if self.origin {
            return Ok(());
        }
        let doing = "take keen's replication origin";
        self.plain(
            doing,
            &format!("SELECT pg_replication_origin_create('{REPAIR_ORIGIN}') WHERE NOT EXISTS (SELECT 1 FROM pg_replication_origin WHERE roname = '{REPAIR_ORIGIN}')"),
        )?;
        let began = std::time::Instant::now();
        loop {
            let sql = format!("SELECT pg_replication_origin_session_setup('{REPAIR_ORIGIN}')");
            match self.plain(doing, &sql) {
                Ok(()) => break,
                Err(fault) if began.elapsed() >= self.session.access().wait => {
                    return Err(ReadFault {
                        advice: "another keen mend, or a repair script, is writing to this node: wait until it is done".to_owned(),
                        ..fault
                    });
                }
                Err(_) if self.session.access().stopped() => return Err(ReadFault::interrupted()),
                Err(fault) if self.session.is_given_up() => return Err(fault),
                Err(_) => std::thread::sleep(std::time::Duration::from_millis(100)),
            }
        }
        self.origin = true;
        Ok(())
    }
}

impl WriteSteps for PostgresWriter {
    fn about(&self) -> String {
        let at = self.session.access().shown();
        format!("as {}@{at}, under the replication origin {REPAIR_ORIGIN}", self.user)
    }

    fn begin(&mut self, mark: Option<BatchMark>) -> Result<(), ReadFault> {
        if let Some(mark) = mark
            && !self.has_room
        {
            self.take_origin()?;
            // Progress only rises: a mark below it could not be told from one that was kept.
            if self.has_come_to(mark)? {
                return Err(ReadFault::new(
                    format!(
                        "keen's replication origin on {} has come further than this run may go: the clock of this machine is behind that of an earlier run, or that began in the same second",
                        self.session.access().shown()
                    ),
                    "set the clock right, plan again and mend that",
                ));
            }
            self.has_room = true;
        }
        self.mark = mark;
        self.plain("begin a transaction", SETTINGS)
    }

    fn write(&mut self, step: &Step) -> Result<u64, WriteFault> {
        let (write, _) = step.write_and_undo();
        self.run("write a row", &write.statement.literal())
    }

    fn dangling(&mut self, steps: &[&Step]) -> Result<Vec<(usize, String)>, ReadFault> {
        let mut found = Vec::new();
        for (at, step) in steps.iter().enumerate() {
            for (query, say) in step.references() {
                if self.session.one(&query.literal())?.get::<_, i64>(0) > 0 {
                    found.push((at, say));
                    break;
                }
            }
        }
        Ok(found)
    }

    fn transaction(&mut self) -> Result<Option<String>, ReadFault> {
        let xid = self.session.one("SELECT pg_current_xact_id()::text")?;
        Ok(Some(xid.get(0)))
    }

    /// The position of the origin is set at the very end: a transaction that is rolled back takes it along, too.
    fn commit(&mut self) -> Result<(), ReadFault> {
        let set = self.mark.map(|mark| {
            let position = position(mark);
            format!("SELECT pg_replication_origin_xact_setup('{position}', clock_timestamp()); ")
        });
        self.plain("keep a batch", &format!("{}COMMIT", set.unwrap_or_default()))
    }

    fn roll_back(&mut self) -> Result<(), ReadFault> {
        self.plain("roll a batch back", "ROLLBACK")
    }

    fn was_kept(
        &mut self,
        mark: BatchMark,
        transaction: Option<&str>,
    ) -> Result<Option<bool>, ReadFault> {
        // Whoever has the origin knows that the session which wrote the batch is gone.
        self.take_origin()?;
        if !self.has_come_to(mark)? {
            return Ok(Some(false));
        }
        // A session that was ended in its COMMIT, and a later run, have moved the position on, too.
        let Some(transaction) = transaction.and_then(|text| text.parse::<u64>().ok()) else {
            return Ok(None);
        };
        let sql = format!("SELECT pg_xact_status('{transaction}'::xid8)");
        let status: Option<String> = self.session.one(&sql)?.get(0);
        Ok(status.map(|status| status == "committed"))
    }

    /// The origin is kept, and its progress with it: a later run goes beyond it.
    fn forget(&mut self, _mark: BatchMark) -> Result<(), ReadFault> {
        Ok(())
    }
}
