//! The set-up of a MariaDB server, as far as an account may see it that may only look.

use super::queries;
use super::replication::{LinkStatus, connection};
use std::collections::BTreeMap;

use keen_core::engine::service_tables;
use keen_core::fault::{FaultKind, ReadFault};
use keen_core::observe::clock::better_clock_sample;
use keen_core::observe::log_reach::LogReach;
use keen_core::observe::node::{
    Clock, Counter, Identity, Incoming, Need, NodeFacts, Observed, Right, TableLook, TableState,
};
use keen_core::ports::{InspectionRequest, LookAtNode, ReadRows as _};
use keen_core::seed::join::gtid_between;
use keen_core::topology::Engine;
use mysql::Row;

use super::{MariaDbNode, quoted};

/// The settings that checks ask about.
const SETTINGS: &[&str] = &[
    "auto_increment_increment",
    "auto_increment_offset",
    "binlog_expire_logs_seconds",
    "binlog_format",
    "binlog_row_image",
    "binlog_row_metadata",
    "character_set_server",
    "datadir",
    "event_scheduler",
    "expire_logs_days",
    "foreign_key_checks",
    "gtid_domain_id",
    "gtid_ignore_duplicates",
    "gtid_strict_mode",
    "hostname",
    "log_bin",
    "log_slave_updates",
    "port",
    "read_only",
    "server_id",
    "slave_exec_mode",
    "slave_net_timeout",
    "slave_run_triggers_for_rbr",
    "slave_skip_errors",
    "slave_type_conversions",
    "sql_mode",
    "system_time_zone",
    "time_zone",
    "wsrep_on",
];

/// Privileges on everything that go far beyond looking.
const FAR_MORE: &[&str] = &[
    "ALL PRIVILEGES",
    "SUPER",
    "CREATE USER",
    "DROP",
    "DELETE",
    "FILE",
    "SHUTDOWN",
    "GRANT OPTION",
];

/// The best of so many round trips says most about a clock.
const ROUND_TRIPS: usize = 3;

impl LookAtNode for MariaDbNode {
    fn look(&mut self, asked: &InspectionRequest) -> NodeFacts {
        let settings = self.settings();
        let grants = self.grants();
        let incoming = self.incoming();
        NodeFacts {
            engine: Engine::MariaDb,
            about: self.about(),
            major: 0,
            standby: false,
            identity: self.identity(&settings),
            rights: self.rights(asked, &grants, &incoming),
            excess: grants.as_ref().map_err(Clone::clone).map(|grants| far_more(grants)),
            incoming,
            slots: Ok(Vec::new()),
            publications: Ok(Vec::new()),
            clock: self.clock().map(Some),
            tables: asked
                .tables
                .iter()
                .map(|(table, local)| (table.clone(), self.table(local, &settings, &grants)))
                .collect(),
            all_tables: self.all_tables(),
            users: self.users(),
            settings,
        }
    }

    fn log_reach(&mut self, since: Option<&str>) -> Observed<LogReach> {
        let one = |rows: Result<Vec<String>, ReadFault>| -> Observed<String> {
            let rows = rows?;
            rows.into_iter().next().ok_or_else(no_log)
        };
        let doing = "inspect its binary log";
        let now = one(self.session.rows(doing, queries::LOG_POSITION, ()))?;
        let oldest: Observed<String> = (|| {
            let logs: Vec<Row> = self.session.rows(doing, queries::LOG_FILES, ())?;
            let first: String = logs.first().and_then(|row| row.get(0)).ok_or_else(no_log)?;
            // Where the positions of all domains stood when the oldest file began.
            one(self.session.rows(doing, queries::LOG_BEGINS, (first,)))
        })();
        let between = since.map(|since| match &oldest {
            Ok(oldest) => gtid_between(since, &now, oldest).ok_or_else(|| {
                let what = format!("{since} is not a position like 0-1-100");
                ReadFault::new(what, "give it as the server prints it").of(FaultKind::Position)
            }),
            Err(fault) => Err(fault.clone()),
        });
        if let Some(Err(fault)) = between.as_ref().filter(|_| oldest.is_ok()) {
            return Err(fault.clone());
        }
        Ok(LogReach {
            moved: between.as_ref().and_then(|between| {
                let (moved, _) = between.as_ref().ok()?;
                Some(format!("{moved} transaction{}", if *moved == 1 { "" } else { "s" }))
            }),
            enough: between.map(|between| between.map(|(_, enough)| enough)),
            now,
            oldest,
        })
    }
}

/// One line of SHOW GRANTS.
pub(super) struct Grant {
    privileges: Vec<String>,
    /// Database and table, `*` for all.
    on: (String, String),
}

impl Grant {
    pub(super) fn read(line: &str) -> Option<Self> {
        let rest = line.strip_prefix("GRANT ")?;
        let (privileges, rest) = rest.split_once(" ON ")?;
        let (object, _) = rest.split_once(" TO ")?;
        let (database, table) = split_name(object)?;
        let mut privileges: Vec<String> =
            privileges.split(", ").map(|word| word.trim().to_ascii_uppercase()).collect();
        if line.ends_with("WITH GRANT OPTION") {
            privileges.push("GRANT OPTION".to_owned());
        }
        Some(Self { privileges, on: (database, table) })
    }

    pub(super) fn gives(&self, privilege: &str, database: &str, table: &str) -> bool {
        let covers =
            |pattern: &str, name: &str| pattern == "*" || pattern.replace('\\', "") == name;
        self.privileges.iter().any(|p| p == privilege || p == "ALL PRIVILEGES")
            && covers(&self.on.0, database)
            && covers(&self.on.1, table)
    }

    fn is_global(&self) -> bool {
        self.on.0 == "*" && self.on.1 == "*"
    }
}

/// Database and table of `` `a`.`b` `` or `"a".*`.
fn split_name(object: &str) -> Option<(String, String)> {
    let mut parts = Vec::new();
    let mut rest = object.trim();
    loop {
        let quote = rest.chars().next()?;
        let (part, tail) = if quote == '`' || quote == '"' {
            let end = rest[1..].find(quote)? + 1;
            (&rest[1..end], &rest[end + 1..])
        } else {
            let end = rest.find('.').unwrap_or(rest.len());
            (&rest[..end], &rest[end..])
        };
        parts.push(part.to_owned());
        match tail.strip_prefix('.') {
            Some(tail) => rest = tail,
            None => break,
        }
    }
    let table = parts.pop()?;
    Some((parts.pop()?, table))
}

fn sees_triggers(grants: &[Grant], place: &[String]) -> bool {
    let [database, table] = place else { return false };
    grants.iter().any(|grant| grant.gives("TRIGGER", database, table))
}

fn far_more(grants: &[Grant]) -> Vec<String> {
    let global = grants.iter().filter(|grant| grant.is_global());
    let mut found: Vec<String> = global
        .flat_map(|grant| &grant.privileges)
        .filter(|privilege| FAR_MORE.contains(&privilege.as_str()))
        .map(|privilege| format!("{privilege} on everything"))
        .collect();
    found.sort();
    found.dedup();
    found
}

/// Why a server without a binary log cannot be asked where it stands.
fn no_log() -> ReadFault {
    ReadFault::not_told("it keeps no binary log")
}

impl MariaDbNode {
    fn settings(&mut self) -> Observed<BTreeMap<String, String>> {
        let names: Vec<String> = SETTINGS.iter().map(|name| format!("'{name}'")).collect();
        let sql = format!("SHOW GLOBAL VARIABLES WHERE Variable_name IN ({})", names.join(", "));
        let rows: Result<Vec<(String, String)>, _> =
            self.session.rows("inspect its settings", &sql, ());
        let mut settings: BTreeMap<String, String> = rows?.into_iter().collect();
        let zone = match settings.get("time_zone").map(String::as_str) {
            Some("SYSTEM") => settings.get("system_time_zone").cloned(),
            other => other.map(str::to_owned),
        };
        settings.insert("zone".to_owned(), zone.unwrap_or_default());
        let database: Result<Vec<String>, _> =
            self.session.rows("inspect the database", queries::DATABASE_CHARSET, ());
        let events: Result<Vec<u64>, _> =
            self.session.rows("look for events", queries::ENABLED_EVENTS, ());
        if let Some(count) = events.ok().and_then(|found| found.into_iter().next()) {
            settings.insert("enabled_events".to_owned(), count.to_string());
        }
        if let Some(charset) = database.ok().and_then(|found| found.into_iter().next()) {
            settings.insert("character_set_database".to_owned(), charset);
        }
        Ok(settings)
    }

    fn identity(&self, settings: &Observed<BTreeMap<String, String>>) -> Identity {
        let Ok(settings) = settings else { return Identity::default() };
        let server = &self.session.access().server;
        let get = |name: &str| settings.get(name).cloned().unwrap_or_default();
        let process = format!("{}:{}:{}", get("hostname"), get("port"), get("datadir"));
        let ids = ["server_id", "gtid_domain_id"];
        Identity {
            database: Some(format!("{process}:{}", server.database)),
            machine: Some(if server.is_loopback() {
                "loopback".to_owned()
            } else {
                get("hostname")
            }),
            server: Some(process),
            port: get("port").parse().ok(),
            ids: ids
                .into_iter()
                .filter_map(|id| Some((id.to_owned(), settings.get(id)?.clone())))
                .collect(),
        }
    }

    fn grants(&mut self) -> Observed<Vec<Grant>> {
        let lines: Result<Vec<String>, _> =
            self.session.rows("inspect its rights", queries::GRANTS, ());
        let lines = lines?;
        Ok(lines.iter().filter_map(|line| Grant::read(line)).collect())
    }

    fn rights(
        &mut self,
        asked: &InspectionRequest,
        grants: &Observed<Vec<Grant>>,
        incoming: &Observed<Vec<Incoming>>,
    ) -> Vec<Right> {
        let access = self.session.access().clone();
        let account = self.session.account().unwrap_or_else(|_| "ACCOUNT".to_owned());
        let held = |privilege: &str, database: &str, table: &str| match grants {
            Ok(grants) => Ok(grants.iter().any(|grant| grant.gives(privilege, database, table))),
            Err(reason) => Err(reason.clone()),
        };
        // Out of the log: where it is behind already, it need not carry this, too.
        let local = |grant: &str| {
            format!("SET SESSION sql_log_bin = 0; {grant}; SET SESSION sql_log_bin = 1")
        };
        // One line for a database, however many tables it has.
        let of_all = |database: &str, full: &str, rights: &str| {
            let on = if asked.tables.len() > 3 {
                format!("{}.*", tick(database))
            } else {
                full.to_owned()
            };
            local(&format!("GRANT {rights} ON {on} TO {account}"))
        };
        let mut rights = Vec::new();
        for (_, table) in &asked.tables {
            let (database, name) =
                table.split_once('.').unwrap_or((&access.server.database, table));
            let full = format!("{}.{}", tick(database), tick(name));
            let sql = format!("SELECT 1 FROM {}.{} LIMIT 0", quoted(database), quoted(name));
            let read: Result<Vec<Row>, ReadFault> = self.session.rows("read a table", &sql, ());
            let may_read = match read {
                Ok(_) => Ok(true),
                Err(fault) if fault.kind == FaultKind::NotAllowed => Ok(false),
                Err(fault) if fault.kind == FaultKind::NoTable => continue,
                Err(fault) => Err(fault),
            };
            rights.push(Right {
                need: Need::Tables,
                what: format!("SELECT on {name}"),
                held: may_read,
                grant: of_all(database, &full, "SELECT"),
            });
            let writes: Observed<Vec<bool>> =
                ["INSERT", "UPDATE", "DELETE"].iter().map(|p| held(p, database, name)).collect();
            rights.push(Right {
                need: Need::Repairs,
                what: format!("INSERT, UPDATE, DELETE on {name}"),
                held: writes.map(|held| held.into_iter().all(|held| held)),
                grant: of_all(database, &full, "INSERT, UPDATE, DELETE"),
            });
        }
        if asked.mends {
            let (database, marks) = (&access.server.database, service_tables::MARKS);
            let all = ["CREATE", "SELECT", "INSERT", "DELETE"];
            let may: Observed<Vec<bool>> =
                all.iter().map(|privilege| held(privilege, database, marks)).collect();
            let full = format!("{}.{}", tick(database), tick(marks));
            rights.push(Right {
                need: Need::Repairs,
                what: format!("{} on {marks}", all.join(", ")),
                held: may.map(|held| held.into_iter().all(|held| held)),
                grant: local(&format!(
                    "GRANT CREATE, SELECT, INSERT, DELETE ON {full} TO {account}"
                )),
            });
        }
        rights.push(Right {
            need: Need::Repairs,
            what: "BINLOG ADMIN".to_owned(),
            held: held("BINLOG ADMIN", "*", "*"),
            grant: local(&format!("GRANT BINLOG ADMIN ON *.* TO {account}")),
        });
        rights.push(Right {
            need: Need::Links,
            what: "REPLICA MONITOR".to_owned(),
            held: match incoming {
                Ok(_) => Ok(true),
                // What it did not tell for another reason says nothing of the right.
                Err(fault)
                    if !self.about.starts_with("mariadb") || fault.kind == FaultKind::NoAnswer =>
                {
                    Err(fault.clone())
                }
                Err(_) => Ok(held("REPLICA MONITOR", "*", "*").unwrap_or(false)),
            },
            grant: local(&format!("GRANT REPLICA MONITOR ON *.* TO {account}")),
        });
        for privilege in ["BINLOG MONITOR", "REPLICATION SLAVE"] {
            rights.push(Right {
                need: Need::Journals,
                what: privilege.to_owned(),
                held: held(privilege, "*", "*"),
                grant: local(&format!("GRANT {privilege} ON *.* TO {account}")),
            });
        }
        rights
    }

    fn incoming(&mut self) -> Observed<Vec<Incoming>> {
        if !self.about.starts_with("mariadb") {
            return Err(ReadFault::not_told("keen can read the state of links from MariaDB only"));
        }
        let rows = LinkStatus::of(self.session.access()).rows()?;
        Ok(rows.iter().map(connection).collect())
    }

    /// How far the server's clock is ahead of ours: of a few round trips the shortest says most.
    fn clock(&mut self) -> Observed<Clock> {
        let mut best: Option<Clock> = None;
        for _ in 0..ROUND_TRIPS {
            let before = crate::server::now();
            let rows: Result<Vec<String>, ReadFault> = self.session.rows(
                "inspect its clock",
                // Not the time of the statement, which a session can set.
                queries::CLOCK,
                (),
            );
            let after = crate::server::now();
            let there = rows?;
            let there: i64 = there
                .first()
                .and_then(|text| text.parse().ok())
                .ok_or_else(|| ReadFault::not_told("it told no time"))?;
            best = better_clock_sample(best, before, there, after);
        }
        best.ok_or_else(|| ReadFault::not_told("this machine's clock was set meanwhile"))
    }

    fn table(
        &mut self,
        local: &str,
        settings: &Observed<BTreeMap<String, String>>,
        grants: &Observed<Vec<Grant>>,
    ) -> Observed<TableState> {
        let shape = match self.shape(local) {
            Ok(shape) => shape,
            Err(fault) => return TableState::undescribed(fault),
        };
        let name: Vec<String> = shape.qualified.iter().map(|part| quoted(part)).collect();
        let sql = format!("SELECT EXISTS (SELECT 1 FROM {})", name.join("."));
        let any: Result<Vec<bool>, ReadFault> = self.session.rows("look into a table", &sql, ());
        let setting = |name: &str| settings.as_ref().ok().and_then(|settings| settings.get(name));
        let number = |name: &str| setting(name).and_then(|v| v.parse::<i64>().ok()).unwrap_or(1);
        let (step, offset) = (number("auto_increment_increment"), number("auto_increment_offset"));
        let counters = shape.columns.iter().filter(|column| column.counted).map(|column| Counter {
            column: column.name.clone(),
            step,
            // The server ignores an offset beyond the step.
            offset: if offset > step { 1 } else { offset },
        });
        let checks: Result<Vec<String>, ReadFault> = self.session.rows(
            "inspect its rules for values",
            queries::CHECKS,
            (shape.qualified.first(), shape.qualified.get(1)),
        );
        let fires =
            setting("slave_run_triggers_for_rbr").is_some_and(|v| !v.eq_ignore_ascii_case("no"));
        Ok(TableState::There(Box::new(TableLook {
            any_rows: any.map(|rows| rows.first().copied().unwrap_or(false)),
            named_by: None,
            partitioned: false,
            replica_triggers: match grants {
                _ if !fires => Ok(Vec::new()),
                // Without that right the server shows none, whether there are any or not.
                Ok(grants) if !sees_triggers(grants, &shape.qualified) => {
                    let what = "the account lacks TRIGGER, without which none are shown";
                    Err(ReadFault::not_told(what).of(FaultKind::NotAllowed))
                }
                _ => Ok(shape.triggers.clone()),
            },
            counters: counters.collect(),
            checks,
            shape,
        })))
    }

    fn all_tables(&mut self) -> Observed<Vec<String>> {
        let tables: Result<Vec<String>, ReadFault> =
            self.session.rows("list its tables", queries::ALL_TABLES, ());
        tables
    }

    fn users(&mut self) -> Observed<Vec<String>> {
        let users: Result<Vec<String>, ReadFault> =
            self.session.rows("list its accounts", queries::ACCOUNTS, ());
        users
    }
}

/// A name as GRANT wants it in every mode.
fn tick(name: &str) -> String {
    format!("`{}`", name.replace('`', "``"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn grants_are_read_in_every_quoting() {
        let grant = Grant::read("GRANT SELECT, INSERT ON `refuge\\_huts`.* TO `keen`@`%`").unwrap();
        assert!(grant.gives("INSERT", "refuge_huts", "stay"));
        assert!(!grant.gives("DELETE", "refuge_huts", "stay"));
        assert!(!grant.gives("SELECT", "other", "stay"));
        let grant =
            Grant::read("GRANT ALL PRIVILEGES ON *.* TO \"root\"@\"%\" WITH GRANT OPTION").unwrap();
        assert!(grant.gives("DELETE", "any", "table"));
        assert_eq!(
            far_more(&[grant]),
            ["ALL PRIVILEGES on everything", "GRANT OPTION on everything"]
        );
        assert!(Grant::read("GRANT `reader` TO `keen`@`%`").is_none());
    }
}
