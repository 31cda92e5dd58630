//! Writing the steps of a plan to a MariaDB server, each batch in one transaction that stays out of its binary log.
//!
//! The mark of a batch is a row of a table that is made and written out of the log, too, and commits with the batch.

use keen_core::engine::service_tables::MARKS;
use keen_core::fault::ReadFault;
use keen_core::plan::Step;
use keen_core::plan::port::{BatchMark, WriteFault, WriteSteps};
use mysql::prelude::Queryable;

use super::connect::{MariaDbSession, failed};
use super::quoted;
use crate::server::Access;

/// A MariaDB server to which steps are written.
pub struct MariaDbWriter {
    pub(super) session: MariaDbSession,
    /// The table of marks is there.
    marks: bool,
}

impl std::fmt::Debug for MariaDbWriter {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("MariaDbWriter").finish_non_exhaustive()
    }
}

/// No such table, no such database.
const NOT_THERE: [u16; 2] = [1146, 1049];
/// A lock that was waited for too long, a deadlock.
const LOCKED: [u16; 2] = [1205, 1213];
/// A right that is lacking, a server that is read-only or stopping: no other write would fare better.
const FOR_NOBODY: [u16; 9] = [1044, 1142, 1143, 1227, 1290, 1792, 1836, 1053, 1927];

impl MariaDbWriter {
    /// Logs in; nothing of the session goes to the binary log from then on.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be reached in time, or refuses, or is a member of a cluster, in which nothing keeps
    /// a write on its node.
    pub fn open(access: &Access) -> Result<Self, ReadFault> {
        let mut session = MariaDbSession::open_to_write(access)?;
        if session.in_a_cluster() {
            return Err(ReadFault::new(
                format!(
                    "{} is a member of a synchronous cluster: nothing keeps a write on its node",
                    access.shown()
                ),
                "leave the node out with --node",
            ));
        }
        let mut writer = Self { session, marks: false };
        let user = access.server.user.clone();
        writer
            .session
            .run("keep its writes out of the binary log", "SET SESSION sql_log_bin = 0")
            .map_err(|fault| ReadFault { advice: format!("grant {user} BINLOG ADMIN"), ..fault })?;
        writer.session.run("prepare the session", SETTINGS)?;
        Ok(writer)
    }

    fn marks_are_there(&mut self) -> Result<bool, ReadFault> {
        let sql = "SELECT count(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ?";
        let found: Vec<u64> = self.session.rows("look for the marks of batches", sql, (MARKS,))?;
        Ok(found.first().is_some_and(|count| *count > 0))
    }
}

/// As scripts pin them, and steps are spelled for.
const SETTINGS: &str = "SET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_AUTO_VALUE_ON_ZERO,ANSI_QUOTES,PIPES_AS_CONCAT,NO_BACKSLASH_ESCAPES', \
    SESSION time_zone = '+00:00', SESSION foreign_key_checks = 0, SESSION wait_timeout = 86400";

impl WriteSteps for MariaDbWriter {
    fn about(&self) -> String {
        let access = self.session.access();
        format!("as {}@{}, out of the binary log", access.server.user, access.shown())
    }

    fn begin(&mut self, mark: Option<BatchMark>) -> Result<(), ReadFault> {
        let marks = quoted(MARKS);
        if mark.is_some() && !self.marks {
            // Not in the transaction: it would end it.
            if !self.marks_are_there()? {
                self.session.run(
                    "create the table of marks",
                    &format!("CREATE TABLE IF NOT EXISTS {marks} (run INT UNSIGNED NOT NULL, plan BIGINT NOT NULL, batch INT UNSIGNED NOT NULL, PRIMARY KEY (run, plan, batch)) ENGINE = InnoDB"),
                )?;
            }
            self.marks = true;
        }
        self.session.run("begin a transaction", "START TRANSACTION")?;
        match mark {
            None => Ok(()),
            Some(mark) => self.session.run(
                "keep the mark of a batch",
                &format!(
                    "INSERT INTO {marks} (run, plan, batch) VALUES ({}, {}, {})",
                    mark.run, mark.plan, mark.batch
                ),
            ),
        }
    }

    fn write(&mut self, step: &Step) -> Result<u64, WriteFault> {
        self.session.usable().map_err(WriteFault::Lost)?;
        let (write, _) = step.write_and_undo();
        let access = self.session.access().clone();
        match self.session.connection.query_drop(write.statement.literal()) {
            Ok(()) => Ok(self.session.connection.affected_rows()),
            Err(error) => {
                let code = match &error {
                    mysql::Error::MySqlError(said) => Some(said.code),
                    _ => None,
                };
                let fault = failed(&access, &mut self.session.given_up, "write a row", &error);
                Err(match code {
                    None => WriteFault::Lost(fault),
                    Some(code) if LOCKED.contains(&code) => WriteFault::Locked(fault),
                    Some(code) if FOR_NOBODY.contains(&code) => {
                        let user = &access.server.user;
                        let advice = format!(
                            "grant {user} INSERT, UPDATE and DELETE on the table, and let it write here"
                        );
                        WriteFault::Lost(ReadFault { advice, ..fault })
                    }
                    Some(_) => WriteFault::Refused(fault),
                })
            }
        }
    }

    fn dangling(&mut self, steps: &[&Step]) -> Result<Vec<(usize, String)>, ReadFault> {
        let mut found = Vec::new();
        for (at, step) in steps.iter().enumerate() {
            for (query, say) in step.references() {
                self.session.usable()?;
                let access = self.session.access().clone();
                let count: Result<Option<u64>, _> =
                    self.session.connection.query_first(query.literal());
                let count = count.map_err(|error| {
                    failed(&access, &mut self.session.given_up, "look at its references", &error)
                })?;
                if count.is_some_and(|count| count > 0) {
                    found.push((at, say));
                    break;
                }
            }
        }
        Ok(found)
    }

    fn commit(&mut self) -> Result<(), ReadFault> {
        self.session.run("keep a batch", "COMMIT")
    }

    fn roll_back(&mut self) -> Result<(), ReadFault> {
        self.session.run("roll a batch back", "ROLLBACK")
    }

    /// A batch that another session is still keeping is waited for: its mark is locked.
    fn was_kept(
        &mut self,
        mark: BatchMark,
        _transaction: Option<&str>,
    ) -> Result<Option<bool>, ReadFault> {
        let sql = format!(
            "SELECT count(*) FROM {} WHERE run = ? AND plan = ? AND batch = ? FOR UPDATE",
            quoted(MARKS)
        );
        self.session.usable()?;
        let access = self.session.access().clone();
        let found: Result<Option<u64>, _> =
            self.session.connection.exec_first(sql, (mark.run, mark.plan, mark.batch));
        match found {
            Ok(count) => Ok(Some(count.is_some_and(|count| count > 0))),
            Err(mysql::Error::MySqlError(said)) if NOT_THERE.contains(&said.code) => {
                Ok(Some(false))
            }
            Err(error) => {
                let doing = "ask for the mark of a batch";
                Err(failed(&access, &mut self.session.given_up, doing, &error))
            }
        }
    }

    fn forget(&mut self, mark: BatchMark) -> Result<(), ReadFault> {
        if !self.marks_are_there()? {
            return Ok(());
        }
        let sql = format!("DELETE FROM {} WHERE plan = {}", quoted(MARKS), mark.plan);
        self.session.run("forget the marks of batches", &sql)
    }
}
