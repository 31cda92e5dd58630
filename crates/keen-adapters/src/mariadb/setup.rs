//! Reading and changing values of a MariaDB server's set-up.

use keen_core::fault::ReadFault;
use keen_core::observe::position;
use keen_core::ports::ReadRows as _;
use keen_core::setup::column_order;
use keen_core::setup::port::{ChangeSetup, LinkPassword};
use keen_core::setup::{EMPTY, FILLED, SetupChange, Subject, YES, spell, switch_state};
use keen_core::topology::Engine;

use super::connect::MariaDbSession;
use super::replication::cell;
use super::{MariaDbNode, queries, quoted};
use crate::server::{Access, column_state, made};

/// A MariaDB server whose set-up is changed.
pub struct MariaDbSetup {
    session: MariaDbSession,
}

impl std::fmt::Debug for MariaDbSetup {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("MariaDbSetup").finish_non_exhaustive()
    }
}

/// As statements are spelled for.
const SETTINGS: &str = "SET SESSION sql_mode = 'STRICT_ALL_TABLES,ANSI_QUOTES,PIPES_AS_CONCAT,NO_BACKSLASH_ESCAPES', \
    SESSION wait_timeout = 86400";

impl MariaDbSetup {
    /// Logs in.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be reached in time, or refuses.
    pub fn open(access: &Access) -> Result<Self, ReadFault> {
        let mut session = Self { session: MariaDbSession::open_to_write(access)? };
        session.session.run("prepare the session", SETTINGS)?;
        Ok(session)
    }

    /// Whether a column has a comment, a rule for its values, or a property (`INVISIBLE`) that a change would drop.
    fn says_more(&mut self, table: &[String], column: &str) -> Result<bool, ReadFault> {
        let [database, table] = table else { return Ok(true) };
        let sql = "SELECT COLUMN_COMMENT <> '' OR EXTRA <> '' OR EXISTS (SELECT 1 FROM information_schema.CHECK_CONSTRAINTS AS r \
            WHERE r.CONSTRAINT_SCHEMA = c.TABLE_SCHEMA AND r.TABLE_NAME = c.TABLE_NAME AND r.LEVEL = 'Column' AND r.CONSTRAINT_NAME = c.COLUMN_NAME) \
            FROM information_schema.COLUMNS AS c WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND COLUMN_NAME = ?";
        let found: Vec<bool> =
            self.session.rows("look at a column", sql, (database, table, column))?;
        Ok(found.first().is_some_and(|more| *more))
    }

    /// A position that the server keeps; none if it is at nothing.
    fn global(&mut self, name: &str) -> Result<Option<String>, ReadFault> {
        let sql = format!("SELECT @@GLOBAL.{name}");
        let found: Vec<String> = self.session.rows("read its position", &sql, ())?;
        Ok(found.into_iter().next().filter(|position| !position.is_empty()))
    }

    /// What the server tells of a connection; none if there is none of that name.
    fn connection(&mut self, link: &str) -> Result<Option<mysql::Row>, ReadFault> {
        let rows: Vec<mysql::Row> =
            self.session.rows("look at its connections", "SHOW ALL SLAVES STATUS", ())?;
        let named = |row: &mysql::Row| {
            let name: Option<String> = row.get("Connection_name");
            name.is_some_and(|name| name.eq_ignore_ascii_case(link))
        };
        Ok(rows.into_iter().find(named))
    }
}

impl ChangeSetup for MariaDbSetup {
    fn about(&self) -> String {
        let access = self.session.access();
        format!("as {}@{}", access.server.user, access.shown())
    }

    fn state(&mut self, subject: &Subject) -> Result<Option<String>, ReadFault> {
        match subject {
            Subject::NewLink(new) => self.state(&new.there()),
            Subject::Setting { name } => {
                let sql = "SELECT VARIABLE_VALUE FROM information_schema.GLOBAL_VARIABLES WHERE VARIABLE_NAME = ?";
                let found: Vec<String> = self.session.rows("read a setting", sql, (name,))?;
                Ok(found.into_iter().next())
            }
            Subject::LinkSwitch { link } => {
                let Some(row) = self.connection(link)? else { return Ok(None) };
                let off = |column: &str| row.get::<String, _>(column).is_none_or(|s| s == "No");
                let (fetches, applies) = (!off("Slave_IO_Running"), !off("Slave_SQL_Running"));
                Ok(Some(switch_state(fetches, applies).to_owned()))
            }
            Subject::AppliedOfDomain { domain, .. } => {
                let sql = "SELECT @@GLOBAL.gtid_slave_pos";
                let found: Vec<String> = self.session.rows("read its position", sql, ())?;
                let domain = format!("{domain}-");
                let places = found.iter().flat_map(|all| all.split(',')).map(str::trim);
                Ok(places.into_iter().find(|gtid| gtid.starts_with(&domain)).map(str::to_owned))
            }
            Subject::AppliedPosition { links } => {
                for link in links {
                    let by =
                        self.connection(link)?.and_then(|row| row.get::<String, _>("Using_Gtid"));
                    if by.as_deref().is_none_or(|by| by == "No") {
                        return Err(ReadFault::new(
                            format!("link {link} goes by file and place, not by GTID"),
                            "CHANGE MASTER ... TO MASTER_USE_GTID = slave_pos first",
                        ));
                    }
                }
                let doing = "look for other databases";
                let others: Vec<String> = self.session.rows(doing, queries::OTHER_DATABASES, ())?;
                if let Some(other) = others.first() {
                    return Err(ReadFault::new(
                        format!(
                            "the server also has database {other}, and a position stands for all of it: what links brought there meanwhile could be passed over"
                        ),
                        "repair row by row with keen plan, or fill it by its own tools",
                    ));
                }
                let sql = "SELECT @@GLOBAL.gtid_slave_pos";
                let found: Vec<String> = self.session.rows("read its position", sql, ())?;
                Ok(found.into_iter().next())
            }
            Subject::Link { link } => {
                let Some(row) = self.connection(link)? else { return Ok(None) };
                let part = |column: &str| cell(&row, column).unwrap_or_default();
                Ok(Some(format!("from {}:{}", part("Master_Host"), part("Master_Port"))))
            }
            Subject::FetchedChanges { link } => {
                let Some(row) = self.connection(link)? else { return Ok(None) };
                let place = |file: &str, at: &str| (cell(&row, file), cell(&row, at));
                let fetched = place("Master_Log_File", "Read_Master_Log_Pos");
                let applied = place("Relay_Master_Log_File", "Exec_Master_Log_Pos");
                // Of a connection that never got anything the server tells a place, and no file.
                if fetched == applied || fetched.0.as_deref().is_none_or(str::is_empty) {
                    return Ok(None);
                }
                let position = cell(&row, "Gtid_IO_Pos").filter(|position| !position.is_empty());
                Ok(Some(position.unwrap_or_else(|| YES.to_owned())))
            }
            Subject::LoggedPosition => self.global("gtid_binlog_pos"),
            Subject::HeldPosition { position } => {
                let sql = "SELECT @@GLOBAL.gtid_binlog_pos, @@GLOBAL.gtid_slave_pos";
                let doing = "read its position";
                let found: Vec<(String, String)> = self.session.rows(doing, sql, ())?;
                let (Some((logged, applied)), Ok(wanted)) =
                    (found.first(), position::gtids(position))
                else {
                    return Ok(None);
                };
                let held = position::gtids(logged).ok().zip(position::gtids(applied).ok());
                let held = held.and_then(|(logged, applied)| logged.with(&applied));
                Ok(held.filter(|held| held.has(&wanted)).map(|_| YES.to_owned()))
            }
            Subject::Taken { .. } => self.global("gtid_slave_pos"),
            Subject::OwnWrites => {
                let sql = "SELECT @@GLOBAL.gtid_binlog_state, @@GLOBAL.server_id";
                let found: Vec<(String, u64)> = self.session.rows("read its position", sql, ())?;
                let Some((state, own)) = found.into_iter().next() else { return Ok(None) };
                let own = own.to_string();
                let is_own = |gtid: &&str| gtid.split('-').nth(1) == Some(&own);
                let wrote: Vec<&str> = state.split(',').map(str::trim).filter(is_own).collect();
                Ok((!wrote.is_empty()).then(|| wrote.join(",")))
            }
            Subject::HeldState { state } => {
                let held = self.global("gtid_binlog_state")?.unwrap_or_default();
                Ok(position::log_has_all(&held, state).filter(|has| *has).map(|_| YES.to_owned()))
            }
            Subject::OwnPosition { .. } => {
                let sql = "SELECT @@GLOBAL.gtid_binlog_pos, @@GLOBAL.gtid_slave_pos, VERSION()";
                let doing = "read its position";
                let found: Vec<(String, String, String)> = self.session.rows(doing, sql, ())?;
                let Some((logged, applied, version)) = found.into_iter().next() else {
                    return Ok(None);
                };
                let mut numbers =
                    version.split(['.', '-']).map_while(|part| part.parse::<u32>().ok());
                let version = (numbers.next().unwrap_or(0), numbers.next().unwrap_or(0));
                if version < (10, 10) {
                    return Err(ReadFault::new(
                        "MariaDB before 10.10 cannot count its own writes as applied",
                        "turn this server round by hand, or upgrade it",
                    ));
                }
                let both = position::gtids(&logged).ok().zip(position::gtids(&applied).ok());
                Ok(both.filter(|(logged, applied)| applied.has(logged)).map(|_| YES.to_owned()))
            }
            Subject::ServiceTable { table } => {
                let [.., name] = &table[..] else { return Ok(None) };
                let doing = "look for a table of keen's own";
                let sql = "SELECT TABLE_NAME FROM information_schema.TABLES \
                    WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ? AND TABLE_TYPE = 'BASE TABLE'";
                let found: Vec<String> = self.session.rows(doing, sql, (name,))?;
                if found.is_empty() {
                    return Ok(None);
                }
                let sql = format!("SELECT EXISTS (SELECT 1 FROM {})", quoted(name));
                let filled: Vec<bool> = self.session.rows(doing, &sql, ())?;
                let filled = filled.first().is_some_and(|filled| *filled);
                Ok(Some(if filled { FILLED } else { EMPTY }.to_owned()))
            }
            Subject::LinkDelay { link } => {
                let Some(row) = self.connection(link)? else { return Ok(None) };
                Ok(cell(&row, "SQL_Delay"))
            }
            Subject::Column { table, column, .. } => {
                let shape = MariaDbNode::open(self.session.access())?.shape(&table.join("."))?;
                if self.says_more(&shape.qualified, column)? {
                    return Err(ReadFault::new(
                        format!(
                            "column {column} has a comment, a rule or a property that a change would drop"
                        ),
                        "change it by hand",
                    ));
                }
                column_state(&shape, column)
            }
            Subject::ColumnOrder { table, moved } => {
                let shape = MariaDbNode::open(self.session.access())?.shape(&table.join("."))?;
                for (column, declared) in moved {
                    if column_state(&shape, column)?.as_ref() != Some(declared) {
                        return Err(ReadFault::new(
                            format!(
                                "column {column} is declared otherwise than when it was planned"
                            ),
                            "plan again",
                        ));
                    }
                }
                let order: Vec<&str> = shape.columns.iter().map(|c| c.name.as_str()).collect();
                Ok(Some(column_order::told(&order)))
            }
            Subject::FilledColumn { table, column } => {
                let named: Vec<String> = table.iter().map(|part| quoted(part)).collect();
                let column = quoted(column);
                let sql = format!(
                    "SELECT 'yes' FROM {} WHERE NOT ({column} <=> DEFAULT({column})) LIMIT 1",
                    named.join(".")
                );
                let found: Vec<String> = self.session.rows("look into a column", &sql, ())?;
                Ok(found.into_iter().next())
            }
            other => Err(ReadFault::not_told(format!("MariaDB has no such thing as {other}"))),
        }
    }

    fn lacks(&mut self, subject: &Subject) -> Result<Option<String>, ReadFault> {
        // Before a connection is started, the counter of what it skips is set to nothing: that takes SUPER.
        let needed: &[&str] = match subject {
            Subject::LinkSwitch { .. } => &["REPLICATION SLAVE ADMIN", "SUPER"],
            Subject::Link { .. } => &["REPLICATION SLAVE ADMIN", "RELOAD"],
            Subject::NewLink(_) | Subject::OwnPosition { .. } => &["REPLICATION SLAVE ADMIN"],
            Subject::Setting { name } if name.eq_ignore_ascii_case("read_only") => {
                &["READ_ONLY ADMIN"]
            }
            // Without the second nobody sees what else the server holds.
            Subject::AppliedPosition { .. } => &["REPLICATION SLAVE ADMIN", "SHOW DATABASES"],
            _ => &[],
        };
        let lacking = needed.iter().find(|right| !self.session.may(right, "*", "*"));
        Ok(lacking.map(|right| format!("{right} ON *.*")))
    }

    fn change(&mut self, change: &SetupChange) -> Result<(), ReadFault> {
        let statements = spell::statements(Engine::MariaDb, change)
            .map_err(|why| ReadFault::new(why, "plan again"))?;
        for statement in statements {
            self.session.run("change its set-up", &statement)?;
        }
        Ok(())
    }

    fn make_link(
        &mut self,
        change: &SetupChange,
        password: Option<&LinkPassword>,
    ) -> Result<(), ReadFault> {
        let statement = made(Engine::MariaDb, change, password)?;
        self.session.run("make a link", &statement)
    }
}
