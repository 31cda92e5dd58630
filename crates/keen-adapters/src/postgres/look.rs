//! What a PostgreSQL server tells of itself to an account that may only look.

use std::collections::BTreeMap;
use std::time::{Duration, SystemTime};

use keen_core::observe::clock::better_clock_sample;
use keen_core::observe::log_reach::LogReach;
use keen_core::observe::node::{
    Clock, Counter, Identity, Incoming, Need, NodeFacts, Observed, Publication, Published,
    ReplicationKind, Right, Slot, Source, SubscribedTable, TableLook, TableState, WorkerState,
};
use keen_core::ports::{InspectionRequest, LookAtNode, ReadRows as _};
use keen_core::topology::Engine;
use tokio_postgres::Row;
use tokio_postgres::types::ToSql;

use super::{PostgresNode, quoted};

/// The settings that checks ask about, as a new session of this account finds them: the session of
/// keen itself has pinned some of them.
const SETTINGS: &str = "SELECT name, reset_val FROM pg_settings WHERE name IN ('wal_level', 'max_wal_senders', \
    'max_replication_slots', 'max_active_replication_origins', 'max_worker_processes', \
    'max_logical_replication_workers', 'track_commit_timestamp', 'max_slot_wal_keep_size', 'wal_keep_size', \
    'default_transaction_read_only', 'server_encoding', 'TimeZone', 'port', 'recovery_min_apply_delay', \
    'hot_standby_feedback', 'data_directory', 'wal_retrieve_retry_interval', 'idle_replication_slot_timeout')";

/// The best of so many round trips says most about a clock.
const ROUND_TRIPS: usize = 3;

/// A subscription whose applier is not there may just be starting: it is looked at again for so long.
const STARTING: Duration = Duration::from_millis(700);

/// By what rows of a table are named to subscribers, the weakest first: of a partitioned table each partition says for
/// itself. And whether it is partitioned.
const IDENTITIES: &str = "SELECT CASE WHEN c.relreplident = 'f' THEN 'the whole row' WHEN c.relreplident = 'i' THEN 'an index' \
    WHEN c.relreplident = 'd' AND EXISTS (SELECT 1 FROM pg_index WHERE indrelid = c.oid AND indisprimary) THEN 'the key' \
    ELSE 'nothing' END, c.oid <> $1::text::regclass FROM (SELECT relid::oid AS oid FROM pg_partition_tree($1::text::regclass) WHERE isleaf UNION SELECT oid FROM pg_class WHERE oid = $1::text::regclass AND relkind <> 'p') t JOIN pg_class c ON c.oid = t.oid \
    ORDER BY CASE WHEN c.relreplident = 'f' THEN 3 WHEN c.relreplident = 'n' \
    OR c.relreplident = 'd' AND NOT EXISTS (SELECT 1 FROM pg_index WHERE indrelid = c.oid AND indisprimary) THEN 0 \
    WHEN c.relreplident = 'd' THEN 1 ELSE 2 END";

impl LookAtNode for PostgresNode {
    fn look(&mut self, asked: &InspectionRequest) -> NodeFacts {
        let settings = self.settings();
        NodeFacts {
            engine: Engine::Postgres,
            about: self.about(),
            major: self.major,
            standby: self.session.is_standby(),
            identity: self.identity(&settings),
            rights: self.rights(asked),
            excess: self.excess(),
            incoming: self.incoming(&settings),
            slots: self.slots(),
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
        let row = self.asked("look at its log", &format!("SELECT {now}::text"))?;
        let now: String = row.first().and_then(|row| row.get(0)).ok_or("it told no position")?;
        // The names of the files tell where they begin: timeline, then the position in two parts.
        let oldest = self.asked(
            "look at the files of its log",
            "SELECT ('0/0'::pg_lsn + min(('x' || substr(name, 9, 8))::bit(32)::int8 * 4294967296 \
             + ('x' || substr(name, 17, 8))::bit(32)::int8 * pg_size_bytes(current_setting('wal_segment_size')))::numeric)::text \
             FROM pg_ls_waldir() WHERE name ~ '^[0-9A-F]{24}$'",
        );
        let oldest = oldest.and_then(|rows| {
            rows.first()
                .and_then(|row| row.get::<_, Option<String>>(0))
                .ok_or_else(|| "it told no file".to_owned())
        });
        let Some(since) = since else {
            return Ok(LogReach { now, oldest, moved: None, enough: None });
        };
        let part = |part: &str| {
            !part.is_empty() && part.len() <= 8 && part.bytes().all(|b| b.is_ascii_hexdigit())
        };
        if !since.split_once('/').is_some_and(|(high, low)| part(high) && part(low)) {
            return Err(format!("{since} is no position like 0/16B3748"));
        }
        let differ = |from: &str, to: &str| -> Observed<i64> {
            let rows = self.session.rows(
                "compare positions",
                "SELECT pg_wal_lsn_diff($1::text::pg_lsn, $2::text::pg_lsn)::int8",
                &[&from, &to],
            );
            let rows = rows.map_err(|fault| fault.what)?;
            rows.first().map(|row| row.get(0)).ok_or_else(|| "it did not tell".to_owned())
        };
        let moved = differ(&now, since)?;
        let enough = match &oldest {
            Ok(oldest) => differ(since, oldest).map(|ahead| ahead >= 0),
            Err(reason) => Err(reason.clone()),
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
        self.session.rows(doing, sql, &[]).map_err(|fault| fault.what)
    }

    fn settings(&self) -> Observed<BTreeMap<String, String>> {
        let rows = self.asked("look at its settings", SETTINGS)?;
        let value = |row: &Row| row.get::<_, Option<String>>(1).unwrap_or_default();
        Ok(rows.iter().map(|row| (row.get(0), value(row))).collect())
    }

    fn identity(&self, settings: &Observed<BTreeMap<String, String>>) -> Identity {
        let server = &self.session.access().server;
        // A copy of a data folder keeps the system's number: when the server started tells the two apart.
        let row = self.asked(
            "tell it from others",
            "SELECT (SELECT system_identifier FROM pg_control_system())::text || '/' || \
             (extract(epoch FROM pg_postmaster_start_time()) * 1000000)::int8::text, current_database()::text, \
             host(inet_server_addr())",
        );
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
            let rows = self.session.rows("look at its rights", sql, values).map_err(|f| f.what)?;
            rows.first()
                .and_then(|row| row.get::<_, Option<bool>>(0))
                .ok_or_else(|| "it did not tell".to_owned())
        };
        let mut rights: Vec<Right> = Vec::new();
        let mut places: Vec<(usize, String, String)> = Vec::new();
        for (_, local) in &asked.tables {
            let Some((schema, name)) = self.find(local) else { continue };
            let full = format!("{schema}.{name}");
            let readable = "SELECT has_schema_privilege(n.oid, 'USAGE') AND (has_table_privilege(c.oid, 'SELECT') OR \
                (SELECT bool_and(has_column_privilege(c.oid, a.attnum, 'SELECT')) FROM pg_attribute a \
                 WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped)) \
                FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = $1::text::regclass";
            places.push((rights.len(), schema.clone(), full.clone()));
            rights.push(Right {
                need: Need::Tables,
                what: format!("SELECT on {local}"),
                held: bool_of(readable, &[&full]),
                grant: String::new(),
            });
            let row_security = "SELECT NOT row_security_active($1::text::regclass)";
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
                held: bool_of(
                    "SELECT has_table_privilege($1::text, 'INSERT') AND has_table_privilege($1::text, 'UPDATE') AND has_table_privilege($1::text, 'DELETE')",
                    &[&full],
                ),
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
        rights.push(Right {
            need: Need::Links,
            what: "pg_monitor".to_owned(),
            held: bool_of("SELECT pg_has_role('pg_monitor', 'USAGE')", &[]),
            grant: format!("GRANT pg_monitor TO {role}"),
        });
        rights.push(Right {
            need: Need::Journals,
            what: "REPLICATION".to_owned(),
            held: bool_of(
                "SELECT rolreplication OR rolsuper FROM pg_roles WHERE rolname = current_user",
                &[],
            ),
            grant: format!("ALTER ROLE {role} REPLICATION"),
        });
        rights
    }

    /// Schema and name, each quoted, of a table as this node names it.
    fn find(&self, local: &str) -> Option<(String, String)> {
        let found = self.session.rows(
            "look for a table",
            "SELECT n.nspname::text, c.relname::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
             WHERE c.relkind IN ('r', 'p') AND (c.relname = $1 AND (pg_table_is_visible(c.oid) OR n.nspname = 'public') \
             OR n.nspname || '.' || c.relname = $1) ORDER BY pg_table_is_visible(c.oid) DESC LIMIT 1",
            &[&local],
        );
        let rows = found.ok()?;
        let row = rows.first()?;
        Some((quoted(row.get(0)), quoted(row.get(1))))
    }

    fn excess(&self) -> Observed<Vec<String>> {
        let rows = self.asked(
            "look at its rights",
            "SELECT rolsuper, rolcreaterole, rolcreatedb, pg_has_role('pg_write_all_data', 'USAGE') AND NOT rolsuper, \
             pg_has_role('pg_execute_server_program', 'USAGE') AND NOT rolsuper FROM pg_roles WHERE rolname = current_user",
        )?;
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

    fn incoming(&self, settings: &Observed<BTreeMap<String, String>>) -> Observed<Vec<Incoming>> {
        if self.session.is_standby() {
            return self.streaming(settings).map(|link| vec![link]);
        }
        let began = SystemTime::now();
        loop {
            let found = self.subscriptions()?;
            let starting = found.iter().any(|link| link.receiving == WorkerState::Tries);
            if !starting || began.elapsed().is_ok_and(|took| took > STARTING) {
                return Ok(found);
            }
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    fn subscriptions(&self) -> Observed<Vec<Incoming>> {
        let origin = if self.major >= 16 { "s.suborigin" } else { "'any'" };
        let rows = self.asked(
            "look at its subscriptions",
            &format!(
                "SELECT s.subname::text, s.subenabled, s.subslotname::text, s.subpublications, {origin}, s.subdisableonerr, \
                 EXISTS (SELECT 1 FROM pg_stat_subscription a WHERE a.subid = s.oid AND a.pid IS NOT NULL AND a.relid IS NULL), \
                 e.apply_error_count + e.sync_error_count, s.oid \
                 FROM pg_subscription s LEFT JOIN pg_stat_subscription_stats e ON e.subid = s.oid \
                 WHERE s.subdbid = (SELECT oid FROM pg_database WHERE datname = current_database()) ORDER BY s.subname"
            ),
        )?;
        let taken = self.asked("look at the tables of its subscriptions", super::parts::TAKEN);
        let mut found = Vec::new();
        for row in &rows {
            let (enabled, runs): (bool, bool) = (row.get(1), row.get(6));
            let failures: Option<i64> = row.get(7);
            let stopped_itself = !enabled && row.get::<_, bool>(5) && failures.unwrap_or(0) > 0;
            let state = match (enabled, runs) {
                (false, _) => WorkerState::Stopped,
                (true, true) => WorkerState::Runs,
                (true, false) => WorkerState::Tries,
            };
            let tables = taken.as_ref().map_err(Clone::clone)?;
            let own = tables.iter().filter(|of| of.get::<_, u32>(0) == row.get::<_, u32>(8));
            found.push(Incoming {
                name: row.get(0),
                means: ReplicationKind::Subscription,
                source: Source { slot: row.get(2), ..Source::default() },
                receiving: state,
                applying: state,
                error: stopped_itself.then(|| {
                    "it switched itself off at an error, which the server's log has".to_owned()
                }),
                failures: failures.and_then(|count| u64::try_from(count).ok()),
                delay: None,
                filters: Vec::new(),
                own_writes_only: row.get::<_, &str>(4) == "none",
                skips: None,
                publications: row.get(3),
                tables: Some(
                    own.map(|row| SubscribedTable {
                        table: row.get(1),
                        ready: row.get(2),
                        copied: row.get(3),
                    })
                    .collect(),
                ),
            });
        }
        let extended = self.asked(
            "look at its extensions",
            "SELECT EXISTS (SELECT 1 FROM pg_extension WHERE extname = 'pglogical')",
        )?;
        if extended.first().is_some_and(|row| row.get(0)) {
            let rows =
                self.asked("look at its pglogical subscriptions", super::links::PGLOGICAL)?;
            found.extend(rows.iter().map(super::links::pglogical_link));
        }
        Ok(found)
    }

    /// What a standby replays.
    fn streaming(&self, settings: &Observed<BTreeMap<String, String>>) -> Observed<Incoming> {
        let rows = self.asked(
            "look at its receiver",
            // While nothing is received only its settings tell the source. Of those, which can hold a
            // password, no more than host and port leaves the server.
            "SELECT status, coalesce(sender_host, substring(c.setting FROM '(?:^| )host *= *''?([^ '']+)')), \
             coalesce(sender_port, substring(c.setting FROM '(?:^| )port *= *''?([0-9]+)')::int, 5432), \
             coalesce(slot_name, nullif(s.setting, '')), pg_is_wal_replay_paused() FROM (SELECT 1) AS one \
             LEFT JOIN pg_stat_wal_receiver ON true \
             LEFT JOIN pg_settings c ON c.name = 'primary_conninfo' LEFT JOIN pg_settings s ON s.name = 'primary_slot_name'",
        )?;
        let row = rows.first().ok_or("it did not tell")?;
        let (host, port): (Option<String>, Option<i32>) = (row.get(1), row.get(2));
        let receiving = match row.get::<_, Option<&str>>(0) {
            Some("streaming") => WorkerState::Runs,
            _ => WorkerState::Tries,
        };
        let delay =
            settings.as_ref().ok().and_then(|s| s.get("recovery_min_apply_delay")?.parse().ok());
        Ok(Incoming {
            name: row.get::<_, Option<String>>(3).unwrap_or_else(|| "walreceiver".to_owned()),
            means: ReplicationKind::Streaming,
            source: Source {
                address: host.zip(port.and_then(|port| u16::try_from(port).ok())),
                id: None,
                slot: row.get(3),
            },
            receiving,
            applying: if row.get(4) { WorkerState::Stopped } else { WorkerState::Runs },
            error: row.get::<_, bool>(4).then(|| "replay is paused".to_owned()),
            failures: None,
            delay: delay.filter(|ms| *ms > 0).map(Duration::from_millis),
            filters: Vec::new(),
            own_writes_only: false,
            skips: None,
            publications: Vec::new(),
            tables: None,
        })
    }

    fn slots(&self) -> Observed<Vec<Slot>> {
        let now = if self.session.is_standby() {
            "pg_last_wal_receive_lsn()"
        } else {
            "pg_current_wal_lsn()"
        };
        let rows = self.asked(
            "look at its slots",
            &format!(
                "SELECT slot_name::text, database::text, active, pg_wal_lsn_diff({now}, restart_lsn)::int8, wal_status, safe_wal_size \
                 FROM pg_replication_slots WHERE NOT temporary AND slot_name !~ '^pg_[0-9]+_sync_[0-9]+_' ORDER BY 1"
            ),
        )?;
        Ok(rows
            .iter()
            .map(|row| Slot {
                name: row.get(0),
                database: row.get(1),
                active: row.get(2),
                held_back: row.get(3),
                room: row.get(5),
                log: row.get(4),
            })
            .collect())
    }

    fn publications(&self) -> Observed<Vec<Publication>> {
        let rows = self.asked(
            "look at its publications",
            "SELECT pubname::text, pubinsert, pubupdate, pubdelete, pubtruncate FROM pg_publication ORDER BY 1",
        )?;
        let tables = self.asked("look at what it publishes", super::parts::PUBLISHED)?;
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
            let rows = self.asked(
                "look at its clock",
                "SELECT (extract(epoch FROM clock_timestamp()) * 1000000)::int8",
            )?;
            let after = crate::server::now();
            let there: i64 = rows.first().ok_or("it told no time")?.get(0);
            best = better_clock_sample(best, before, there, after);
        }
        best.ok_or_else(|| "our own clock was set meanwhile".to_owned())
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
        let identities = self
            .session
            .rows("look how rows are named", IDENTITIES, &[&name])
            .map_err(|fault| fault.what)?;
        let named_by = |row: &tokio_postgres::Row| row.get::<_, String>(0);
        // The weakest comes first.
        let identity = identities.first().map(named_by);
        let partitioned = identities.first().is_some_and(|row| row.get(1));
        let triggers = self.session.rows(
            "look at its triggers",
            "SELECT tgname::text FROM pg_trigger WHERE tgrelid = $1::text::regclass AND NOT tgisinternal AND tgenabled IN ('A', 'R') ORDER BY 1",
            &[&name],
        );
        let counters = self.session.rows(
            "look at its sequences",
            "SELECT a.attname::text, s.seqincrement, mod(coalesce(CASE WHEN has_sequence_privilege(s.seqrelid, 'SELECT') \
             THEN pg_sequence_last_value(s.seqrelid) END, s.seqstart), abs(s.seqincrement)) \
             FROM pg_depend d JOIN pg_sequence s ON s.seqrelid = d.objid \
             JOIN pg_attribute a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid \
             WHERE d.refobjid = $1::text::regclass AND d.classid = 'pg_class'::regclass AND d.deptype IN ('a', 'i') ORDER BY 1",
            &[&name],
        );
        let checks = self.session.rows(
            "look at its rules for values",
            "SELECT pg_get_constraintdef(oid) FROM pg_constraint WHERE conrelid = $1::text::regclass AND contype = 'c' ORDER BY 1",
            &[&name],
        );
        Ok(TableState::There(Box::new(TableLook {
            checks: checks
                .map_err(|fault| fault.what)
                .map(|rows| rows.iter().map(|row| row.get(0)).collect()),
            any_rows: any.map(|rows| rows.first().is_some_and(|row| row.get(0))),
            named_by: identity,
            partitioned,
            replica_triggers: triggers
                .map_err(|fault| fault.what)
                .map(|rows| rows.iter().map(|row| row.get(0)).collect()),
            counters: counters
                .map_err(|fault| fault.what)?
                .iter()
                .map(|row| Counter { column: row.get(0), step: row.get(1), offset: row.get(2) })
                .collect(),
            shape,
        })))
    }

    fn all_tables(&self) -> Observed<Vec<String>> {
        let rows = self.asked(
            "list its tables",
            "SELECT CASE WHEN n.nspname = 'public' THEN '' ELSE n.nspname || '.' END || c.relname \
             FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p') AND NOT c.relispartition \
             AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\\_%' ORDER BY 1",
        )?;
        Ok(rows.iter().map(|row| row.get(0)).collect())
    }

    fn users(&self) -> Observed<Vec<String>> {
        let rows = self.asked(
            "list its accounts",
            "SELECT rolname::text FROM pg_roles WHERE rolcanlogin AND rolname <> 'postgres' ORDER BY 1",
        )?;
        Ok(rows.iter().map(|row| row.get(0)).collect())
    }
}
