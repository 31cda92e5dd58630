//! The set-up of a PostgreSQL server, as far as an account may see it that may only look.

use super::queries;
use keen_core::fault::{FaultKind, ReadFault};
use std::collections::BTreeMap;
use std::time::{Duration, SystemTime};

use keen_core::observe::clock::better_clock_sample;
use keen_core::observe::links::Inflow;
use keen_core::observe::log_reach::LogReach;
use keen_core::observe::node::{
    Clock, Counter, Identity, Need, NodeFacts, Observed, Publication, Published, ReplicationKind,
    Right, TableLook, TableState, WorkerState,
};
use keen_core::ports::{InspectionRequest, LookAtNode, ReadRows as _};
use keen_core::topology::Engine;
use tokio_postgres::Row;
use tokio_postgres::types::ToSql;

use super::replication::{ReplicationFacts, ReplicationLook};
use super::{PostgresNode, quoted};

/// The best of so many round trips says most about a clock.
const ROUND_TRIPS: usize = 3;

/// A subscription whose applier is not there may just be starting: it is looked at again for so long.
const STARTING: Duration = Duration::from_millis(700);

impl LookAtNode for PostgresNode {
    fn look(&mut self, asked: &InspectionRequest) -> NodeFacts {
        let settings = self.settings();
        let (incoming, slots) = match self.replication() {
            Ok(ReplicationFacts { inflows, outlets }) => (
                inflows.map(|links| links.into_iter().map(Inflow::known).collect()),
                outlets.map(|outlets| outlets.into_iter().map(|outlet| outlet.slot).collect()),
            ),
            Err(fault) => (Err(fault.clone()), Err(fault)),
        };
        NodeFacts {
            engine: Engine::Postgres,
            about: self.about(),
            major: self.major,
            standby: self.session.is_standby(),
            identity: self.identity(&settings),
            rights: self.rights(asked),
            excess: self.excess(),
            incoming,
            slots,
            publications: self.publications(),
            clock: self.clock().map(Some),
            tables: asked
                .tables
                .iter()
                .map(|(table, local)| (table.clone(), self.table(local)))
                .collect(),
            all_tables: self.all_tables(),
            users: self.users(),
            settings,
        }
    }

    fn log_reach(&mut self, since: Option<&str>) -> Observed<LogReach> {
        let now = if self.session.is_standby() {
            "pg_last_wal_replay_lsn()"
        } else {
            "pg_current_wal_lsn()"
        };
        let row = self.asked("inspect its log", &format!("SELECT {now}::text"))?;
        let now: String = row
            .first()
            .and_then(|row| row.get(0))
            .ok_or_else(|| ReadFault::not_told("it told no position"))?;
        // The names of the files tell where they begin: timeline, then the position in two parts.
        let oldest = self.asked("inspect the files of its log", queries::OLDEST_LOG);
        let oldest = oldest.and_then(|rows| {
            rows.first()
                .and_then(|row| row.get::<_, Option<String>>(0))
                .ok_or_else(|| ReadFault::not_told("it told no file"))
        });
        let Some(since) = since else {
            return Ok(LogReach { now, oldest, moved: None, enough: None });
        };
        let part = |part: &str| {
            !part.is_empty() && part.len() <= 8 && part.bytes().all(|b| b.is_ascii_hexdigit())
        };
        if !since.split_once('/').is_some_and(|(high, low)| part(high) && part(low)) {
            return Err(ReadFault::new(
                format!("{since} is not a position like 0/16B3748"),
                "give it as the server prints it",
            )
            .of(FaultKind::Position));
        }
        let differ = |from: &str, to: &str| -> Observed<i64> {
            let rows = self.session.rows("compare positions", queries::LOG_BETWEEN, &[&from, &to]);
            let rows = rows?;
            rows.first().map(|row| row.get(0)).ok_or_else(|| ReadFault::not_told("it did not tell"))
        };
        let moved = differ(&now, since)?;
        let enough = match &oldest {
            Ok(oldest) => differ(since, oldest).map(|ahead| ahead >= 0),
            Err(fault) => Err(fault.clone()),
        };
        Ok(LogReach {
            now,
            oldest,
            moved: Some(format!("{moved} bytes of log")),
            enough: Some(enough),
        })
    }
}

impl PostgresNode {
    fn asked(&self, doing: &str, sql: &str) -> Observed<Vec<Row>> {
        self.session.rows(doing, sql, &[])
    }

    fn settings(&self) -> Observed<BTreeMap<String, String>> {
        let rows = self.asked("inspect its settings", queries::SETTINGS)?;
        let value = |row: &Row| row.get::<_, Option<String>>(1).unwrap_or_default();
        Ok(rows.iter().map(|row| (row.get(0), value(row))).collect())
    }

    fn identity(&self, settings: &Observed<BTreeMap<String, String>>) -> Identity {
        let server = &self.session.access().server;
        // A copy of a data folder keeps the system's number: when the server started tells the two apart.
        let row = self.asked("tell it from others", queries::IDENTITY);
        let Some(row) = row.ok().and_then(|rows| rows.into_iter().next()) else {
            return Identity::default();
        };
        let (process, database): (String, String) = (row.get(0), row.get(1));
        let machine: Option<String> = row.get(2);
        let port = settings.as_ref().ok().and_then(|settings| settings.get("port")?.parse().ok());
        Identity {
            database: Some(format!("{process}/{database}")),
            machine: if server.is_loopback() { Some("loopback".to_owned()) } else { machine },
            server: Some(process),
            port,
            ids: BTreeMap::new(),
        }
    }

    fn rights(&self, asked: &InspectionRequest) -> Vec<Right> {
        let user = &self.session.access().server.user;
        let role = quoted(user);
        let bool_of = |sql: &str, values: &[&(dyn ToSql + Sync)]| -> Observed<bool> {
            let rows = self.session.rows("inspect its rights", sql, values)?;
            rows.first()
                .and_then(|row| row.get::<_, Option<bool>>(0))
                .ok_or_else(|| ReadFault::not_told("it did not tell"))
        };
        let mut rights: Vec<Right> = Vec::new();
        let mut places: Vec<(usize, String, String)> = Vec::new();
        for (_, local) in &asked.tables {
            let Some((schema, name)) = self.find(local) else { continue };
            let full = format!("{schema}.{name}");
            let readable = queries::MAY_READ;
            places.push((rights.len(), schema.clone(), full.clone()));
            rights.push(Right {
                need: Need::Tables,
                what: format!("SELECT on {local}"),
                held: bool_of(readable, &[&full]),
                grant: String::new(),
            });
            let row_security = queries::SEES_ALL_ROWS;
            rights.push(Right {
                need: Need::Tables,
                what: format!("seeing every row of {local} (row security hides some)"),
                held: bool_of(row_security, &[&full]),
                grant: format!("ALTER ROLE {role} BYPASSRLS"),
            });
            places.push((rights.len(), schema, full.clone()));
            rights.push(Right {
                need: Need::Repairs,
                what: format!("INSERT, UPDATE, DELETE on {local}"),
                held: bool_of(queries::MAY_WRITE, &[&full]),
                grant: String::new(),
            });
        }
        // One statement for all tables of a schema that the account may not use so.
        for (at, schema, _) in &places {
            let need = rights[*at].need;
            let lacking = places.iter().filter(|(other, of, _)| {
                of == schema && rights[*other].need == need && rights[*other].held == Ok(false)
            });
            let tables: Vec<&str> = lacking.map(|(_, _, full)| &full[..]).collect();
            let tables = tables.join(", ");
            rights[*at].grant = match need {
                Need::Repairs => format!("GRANT INSERT, UPDATE, DELETE ON {tables} TO {role}"),
                _ => format!(
                    "GRANT USAGE ON SCHEMA {schema} TO {role}; GRANT SELECT ON {tables} TO {role}"
                ),
            };
        }
        if asked.mends {
            let (setting, functions) = ("session_replication_role", queries::ORIGIN_FUNCTIONS);
            rights.push(Right {
                need: Need::Repairs,
                what: format!("SET {setting}"),
                held: bool_of(queries::MAY_SET_ROLE, &[]),
                grant: format!("GRANT SET ON PARAMETER {setting} TO {role}"),
            });
            rights.push(Right {
                need: Need::Repairs,
                what: "the functions of replication origins".to_owned(),
                held: bool_of(queries::MAY_USE_ORIGINS, &[]),
                grant: format!("GRANT EXECUTE ON FUNCTION {functions} TO {role}"),
            });
        }
        rights.push(Right {
            need: Need::Links,
            what: "pg_monitor".to_owned(),
            held: bool_of(queries::MAY_MONITOR, &[]),
            grant: format!("GRANT pg_monitor TO {role}"),
        });
        rights.push(Right {
            need: Need::Journals,
            what: "REPLICATION".to_owned(),
            held: bool_of(queries::MAY_REPLICATE, &[]),
            grant: format!("ALTER ROLE {role} REPLICATION"),
        });
        rights
    }

    /// Schema and name, each quoted, of a table as this node names it.
    fn find(&self, local: &str) -> Option<(String, String)> {
        let found = self.session.rows("look for a table", queries::TABLE_NAMED, &[&local]);
        let rows = found.ok()?;
        let row = rows.first()?;
        Some((quoted(row.get(0)), quoted(row.get(1))))
    }

    fn excess(&self) -> Observed<Vec<String>> {
        let rows = self.asked("inspect its rights", queries::FAR_MORE)?;
        let Some(row) = rows.first() else { return Ok(Vec::new()) };
        let names = [
            "SUPERUSER",
            "CREATEROLE",
            "CREATEDB",
            "pg_write_all_data",
            "pg_execute_server_program",
        ];
        Ok((0..)
            .zip(names)
            .filter(|(i, _)| row.get::<usize, bool>(*i))
            .map(|(_, n)| n.to_owned())
            .collect())
    }

    /// The links to this node and its slots, as flow sees them.
    fn replication(&self) -> Observed<ReplicationFacts> {
        let extended = self.asked("inspect its extensions", queries::HAS_PGLOGICAL);
        let mut look = ReplicationLook {
            session: &self.session,
            major: self.major,
            standby: self.session.is_standby(),
            pglogical: extended?.first().is_some_and(|row| row.get(0)),
            locks: false,
            asked: 0,
        };
        let began = SystemTime::now();
        loop {
            let facts = look.facts(None)?;
            let links = facts.inflows.as_deref().unwrap_or_default();
            // A standby's receiver is no worker that is started anew.
            let starting = links.iter().any(|inflow| {
                inflow.link.receiving == WorkerState::Tries
                    && inflow.link.means != ReplicationKind::Streaming
            });
            if !starting || began.elapsed().is_ok_and(|took| took > STARTING) {
                return Ok(facts);
            }
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    fn publications(&self) -> Observed<Vec<Publication>> {
        let rows = self.asked("inspect its publications", queries::PUBLICATIONS)?;
        let tables = self.asked("inspect what it publishes", queries::PUBLISHED)?;
        let of = |name: &str| {
            tables
                .iter()
                .filter(|row| row.get::<_, &str>(0) == name)
                .map(|row| Published { table: row.get(1), columns: row.get(2), filter: row.get(3) })
                .collect()
        };
        let writes = ["insert", "update", "delete"];
        Ok(rows
            .iter()
            .map(|row| Publication {
                name: row.get(0),
                leaves_out: (1..)
                    .zip(writes)
                    .filter(|(i, _)| !row.get::<usize, bool>(*i))
                    .map(|(_, write)| write.to_owned())
                    .collect(),
                truncates: row.get(4),
                tables: of(row.get(0)),
            })
            .collect())
    }

    /// How far the server's clock is ahead of ours: of a few round trips the shortest says most.
    fn clock(&self) -> Observed<Clock> {
        let mut best = None;
        for _ in 0..ROUND_TRIPS {
            let before = crate::server::now();
            let rows = self.asked("inspect its clock", queries::CLOCK)?;
            let after = crate::server::now();
            let there: i64 =
                rows.first().ok_or_else(|| ReadFault::not_told("it told no time"))?.get(0);
            best = better_clock_sample(best, before, there, after);
        }
        best.ok_or_else(|| ReadFault::not_told("this machine's clock was set meanwhile"))
    }

    fn table(&mut self, local: &str) -> Observed<TableState> {
        let shape = match self.shape(local) {
            Ok(shape) => shape,
            Err(fault) => return TableState::undescribed(fault),
        };
        let name: Vec<String> = shape.qualified.iter().map(|part| quoted(part)).collect();
        let name = name.join(".");
        let only = if shape.heirs.is_empty() { "" } else { "ONLY " };
        let any =
            self.asked("look into a table", &format!("SELECT EXISTS (SELECT 1 FROM {only}{name})"));
        let identities =
            self.session.rows("look how rows are named", queries::ROW_NAMING, &[&name])?;
        let named_by = |row: &tokio_postgres::Row| row.get::<_, String>(0);
        // The weakest comes first.
        let identity = identities.first().map(named_by);
        let partitioned = identities.first().is_some_and(|row| row.get(1));
        let triggers =
            self.session.rows("inspect its triggers", queries::REPLICA_TRIGGERS, &[&name]);
        let counters = self.session.rows("inspect its sequences", queries::COUNTERS, &[&name]);
        let checks = self.session.rows("inspect its rules for values", queries::CHECKS, &[&name]);
        Ok(TableState::There(Box::new(TableLook {
            checks: checks.map(|rows| rows.iter().map(|row| row.get(0)).collect()),
            any_rows: any.map(|rows| rows.first().is_some_and(|row| row.get(0))),
            named_by: identity,
            partitioned,
            replica_triggers: triggers.map(|rows| rows.iter().map(|row| row.get(0)).collect()),
            counters: counters?
                .iter()
                .map(|row| Counter { column: row.get(0), step: row.get(1), offset: row.get(2) })
                .collect(),
            shape,
        })))
    }

    fn all_tables(&self) -> Observed<Vec<String>> {
        let rows = self.asked("list its tables", queries::ALL_TABLES)?;
        Ok(rows.iter().map(|row| row.get(0)).collect())
    }

    fn users(&self) -> Observed<Vec<String>> {
        let rows = self.asked("list its accounts", queries::ACCOUNTS)?;
        Ok(rows.iter().map(|row| row.get(0)).collect())
    }
}
