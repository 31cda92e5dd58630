//! What a PostgreSQL server tells of its subscriptions, of a standby's receiver, and of its slots.
//!
//! One session without a transaction, kept from look to look. A look is six statements; one more for
//! each worker that waits for a lock, to find who holds it.

use std::collections::BTreeMap;
use std::time::Duration;

use keen_core::fault::ReadFault;
use keen_core::observe::links::{Holder, Inflow, LinkSnapshot, Outlet, Own, Touched, Wait};
use keen_core::observe::node::{
    Incoming, Observed, ReplicationKind, Slot, Source, SubscribedTable, WorkerState,
};
use keen_core::observe::position::Position;
use keen_core::ports::LookAtLinks;
use keen_core::topology::Engine;
use tokio_postgres::Row;
use tokio_postgres::types::ToSql;

use super::connect::Session;
use super::quoted;
use crate::server::Access;

/// A PostgreSQL server whose links are looked at.
pub struct PostgresLinks {
    session: Session,
    beats: Option<String>,
}

impl std::fmt::Debug for PostgresLinks {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PostgresLinks").finish_non_exhaustive()
    }
}

/// What it asks of the server itself. Of commits only the last is told, and only if the server keeps times.
const SERVER: &str = "SELECT current_setting('server_version'), current_setting('server_version_num')::int / 10000, \
    pg_is_in_recovery(), (SELECT reset_val FROM pg_settings WHERE name = 'default_transaction_read_only'), \
    CASE WHEN pg_is_in_recovery() THEN pg_last_wal_replay_lsn() ELSE pg_current_wal_insert_lsn() END::text, \
    CASE WHEN pg_is_in_recovery() THEN pg_last_wal_receive_lsn() ELSE pg_current_wal_flush_lsn() END::text, \
    CASE WHEN NOT pg_is_in_recovery() AND current_setting('track_commit_timestamp')::bool \
         THEN (SELECT xid::text || '/' || roident::text FROM pg_last_committed_xact()) END, \
    current_database()::text, EXISTS (SELECT 1 FROM pg_extension WHERE extname = 'pglogical'), \
    (SELECT setting::int8 * 3000 FROM pg_settings WHERE name = 'wal_writer_delay')";

const SLOTS: &str = "SELECT s.slot_name::text, s.database::text, s.active, \
    pg_wal_lsn_diff(CASE WHEN pg_is_in_recovery() THEN pg_last_wal_receive_lsn() ELSE pg_current_wal_lsn() END, s.restart_lsn)::int8, \
    s.wal_status, coalesce(s.confirmed_flush_lsn, s.restart_lsn)::text, r.sent_lsn::text, \
    (extract(epoch FROM r.reply_time) * 1000000)::int8, t.total_txns, \
    coalesce(t.stats_reset::text, '') || '/' || pg_postmaster_start_time()::text \
    FROM pg_replication_slots s LEFT JOIN pg_stat_replication r ON r.pid = s.active_pid \
    LEFT JOIN pg_stat_replication_slots t ON t.slot_name = s.slot_name \
    WHERE NOT s.temporary AND s.slot_name !~ '^pg_[0-9]+_sync_[0-9]+_' ORDER BY 1";

/// Subscriptions of pglogical. The address can hold a password: no more than host and port leaves the server.
pub(super) const PGLOGICAL: &str = "SELECT s.sub_name::text, s.sub_enabled, s.sub_slot_name::text, s.sub_forward_origins = '{}', t.status, \
             substring(t.provider_dsn FROM '(?:^| )host *= *''?([^ '']+)'), \
             substring(t.provider_dsn FROM '(?:^| )port *= *''?([0-9]+)')::int, a.pid, a.wait_event_type, a.wait_event \
             FROM pglogical.subscription s LEFT JOIN pglogical.show_subscription_status() t ON t.subscription_name = s.sub_name \
             LEFT JOIN pg_stat_activity a ON a.application_name = 'pglogical apply ' || \
                 (SELECT oid FROM pg_database WHERE datname = current_database()) || ':' || s.sub_id ORDER BY 1";

/// A subscription of pglogical, as [`PGLOGICAL`] tells it.
pub(super) fn pglogical_link(row: &Row) -> Incoming {
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
        source: Source { address: host.zip(u16::try_from(port).ok()), id: None, slot: row.get(2) },
        receiving: half,
        applying: half,
        error: None,
        failures: None,
        delay: None,
        filters: Vec::new(),
        own_writes_only: row.get::<_, Option<bool>>(3).unwrap_or(false),
        skips: None,
        publications: Vec::new(),
        tables: None,
    }
}

impl PostgresLinks {
    /// Logs in. `beats` is the table of signs of life, if there is to be one.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be reached in time, or refuses.
    pub fn open(access: &Access, beats: Option<&str>) -> Result<Self, ReadFault> {
        Ok(Self { session: Session::open_to_look(access)?, beats: beats.map(str::to_owned) })
    }

    /// Statements that fail because the account may not cost that answer, nothing else.
    fn seen(
        &self,
        doing: &str,
        sql: &str,
        values: &[&(dyn ToSql + Sync)],
    ) -> Result<Observed<Vec<Row>>, ReadFault> {
        match self.session.rows(doing, sql, values) {
            Ok(rows) => Ok(Ok(rows)),
            Err(fault) if self.session.is_given_up() || fault.interrupted => Err(fault),
            Err(fault) => Ok(Err(fault.what)),
        }
    }
}

fn lsn(text: Option<&str>) -> Option<Position> {
    text.and_then(|text| text.parse().ok())
}

impl LookAtLinks for PostgresLinks {
    fn look_at_links(&mut self, tables: &[(String, String)]) -> Result<LinkSnapshot, ReadFault> {
        let rows = self.session.rows("look at its log", SERVER, &[])?;
        let server = rows.first().ok_or_else(|| {
            ReadFault::new("the server told nothing of its log", "look at the server's log")
        })?;
        let version: &str = server.get(0);
        let version = version.split_whitespace().next().unwrap_or(version).to_owned();
        let (major, standby): (i32, bool) = (server.get(1), server.get(2));
        let at = lsn(server.get(4));
        let mut asked = 1;
        let inflows = if standby {
            asked += 2;
            self.streaming(at.clone())?.map(|inflow| vec![inflow])
        } else {
            asked += 2;
            let mut inflows = self.subscriptions(major, &mut asked)?;
            if server.get(8) {
                asked += 1;
                let more = self.pglogical(&mut asked)?;
                inflows = inflows.and_then(|inflows| more.map(|more| [inflows, more].concat()));
            }
            inflows
        };
        let outlets = self.seen("look at its slots", SLOTS, &[])?;
        let published = self.seen("look at what it publishes", super::parts::PUBLISHED, &[])?;
        asked += 2;
        let closed: Option<&str> = server.get(3);
        let last: Option<String> = server.get(6);
        let mut touched = self.touched(tables)?;
        asked += u32::from(!tables.is_empty()) + u32::from(self.beats.is_some());
        // Only where a subscription took up tables without their rows does anybody ask whether there are any.
        let uncopied = |inflow: &Inflow| {
            let tables = inflow.link.tables.as_deref().unwrap_or_default();
            tables.iter().any(|taken| taken.ready && !taken.copied)
        };
        let takes = inflows.as_ref().is_ok_and(|inflows| inflows.iter().any(uncopied));
        let sends = outlets.as_ref().is_ok_and(|rows| !rows.is_empty());
        if takes || sends {
            asked += 1;
            self.look_for_rows(&mut touched)?;
        }
        let touched = touched.into_iter().map(|(table, (touched, _))| (table, touched)).collect();
        Ok(LinkSnapshot {
            engine: Engine::Postgres,
            about: format!("postgresql {version}"),
            standby,
            closed: (closed == Some("on")).then(|| "default_transaction_read_only = on".to_owned()),
            cluster: false,
            server_id: None,
            domain: None,
            database: server.get(7),
            position: at.ok_or_else(|| "it told no position".to_owned()),
            stamp: None,
            flushed: lsn(server.get(5)),
            // A commit that does not wait for the disk is written there within three of the writer's rounds.
            unsafe_for: server.get::<_, Option<i64>>(9).unwrap_or(600_000),
            origins: None,
            own: last.map(|last| Own::Last { here: last.ends_with("/0"), mark: last }),
            touched,
            inflows,
            outlets: outlets.map(|rows| rows.iter().map(outlet).collect()),
            published: published
                .map(|rows| rows.iter().map(|row| (row.get(0), row.get(1))).collect()),
            beats: self.beats()?,
            asked,
        })
    }
}

fn outlet(row: &Row) -> Outlet {
    Outlet {
        slot: Slot {
            name: row.get(0),
            database: row.get(1),
            active: row.get(2),
            held_back: row.get(3),
            room: None,
            log: row.get(4),
        },
        confirmed: lsn(row.get(5)),
        sent: lsn(row.get(6)),
        answered_at: row.get(7),
        prepared: row.get::<_, Option<i64>>(8).map(i64::unsigned_abs),
        counted_since: row.get(9),
    }
}

impl PostgresLinks {
    fn subscriptions(
        &self,
        major: i32,
        asked: &mut u32,
    ) -> Result<Observed<Vec<Inflow>>, ReadFault> {
        let origin = if major >= 16 { "s.suborigin" } else { "'any'" };
        let rows = self.seen(
            "look at its subscriptions",
            &format!(
                "SELECT s.oid, s.subname::text, s.subenabled, s.subslotname::text, s.subpublications, {origin}, s.subdisableonerr, \
                 w.pid, e.apply_error_count, a.wait_event_type, a.wait_event, w.latest_end_lsn::text, \
                 (extract(epoch FROM w.last_msg_receipt_time) * 1000000)::int8, \
                 (extract(epoch FROM w.last_msg_send_time) * 1000000)::int8, b.pid, a.state, e.sync_error_count \
                 FROM pg_subscription s LEFT JOIN pg_stat_subscription_stats e ON e.subid = s.oid \
                 LEFT JOIN LATERAL (SELECT * FROM pg_stat_subscription w WHERE w.subid = s.oid AND w.relid IS NULL \
                     ORDER BY w.received_lsn DESC NULLS LAST LIMIT 1) w ON true \
                 LEFT JOIN pg_stat_activity a ON a.pid = w.pid \
                 LEFT JOIN LATERAL (SELECT p.pid FROM pg_stat_subscription p JOIN pg_stat_activity x ON x.pid = p.pid \
                     WHERE p.subid = s.oid AND x.wait_event_type = 'Lock' LIMIT 1) b ON true \
                 WHERE s.subdbid = (SELECT oid FROM pg_database WHERE datname = current_database()) ORDER BY s.subname"
            ),
            &[],
        )?;
        let rows = match rows {
            Ok(rows) => rows,
            Err(reason) => return Ok(Err(reason)),
        };
        let tables =
            self.seen("look at the tables of its subscriptions", super::parts::TAKEN, &[])?;
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
            let taken = tables.as_ref().ok().map(|rows| {
                let own = rows.iter().filter(|table| table.get::<_, u32>(0) == oid);
                own.map(|t| SubscribedTable { table: t.get(1), ready: t.get(2), copied: t.get(3) })
                    .collect()
            });
            let link = Incoming {
                name: row.get(1),
                means: ReplicationKind::Subscription,
                source: Source { slot: row.get(3), ..Source::default() },
                receiving: half,
                applying: half,
                error: stopped_itself.then(|| "it switched itself off at an error".to_owned()),
                failures: failures.and_then(|count| u64::try_from(count).ok()),
                delay: None,
                filters: Vec::new(),
                own_writes_only: row.get::<_, &str>(5) == "none",
                skips: None,
                publications: row.get(4),
                tables: taken,
            };
            let (kind, event): (Option<&str>, Option<&str>) = (row.get(9), row.get(10));
            let waiting: Option<i32> = row.get(14);
            let wait = match waiting {
                Some(worker) => {
                    *asked += 1;
                    self.lock_of(worker)?
                }
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
    fn pglogical(&self, asked: &mut u32) -> Result<Observed<Vec<Inflow>>, ReadFault> {
        let rows = self.seen("look at its pglogical subscriptions", PGLOGICAL, &[])?;
        let rows = match rows {
            Ok(rows) => rows,
            Err(reason) => return Ok(Err(reason)),
        };
        let mut found = Vec::new();
        for row in &rows {
            let link = pglogical_link(row);
            let wait = match (row.get::<_, Option<i32>>(7), row.get::<_, Option<&str>>(8)) {
                (Some(worker), Some("Lock")) => {
                    *asked += 1;
                    self.lock_of(worker)?
                }
                _ => None,
            };
            let event: Option<&str> = row.get(9);
            found.push(Inflow { doing: event.map(str::to_owned), wait, ..Inflow::of(link) });
        }
        Ok(Ok(found))
    }

    /// What a process waits for, and who holds it.
    fn lock_of(&self, process: i32) -> Result<Option<Wait>, ReadFault> {
        let rows = self.seen(
            "look at who holds a lock",
            "SELECT (SELECT l.locktype FROM pg_locks l WHERE l.pid = $1 AND NOT l.granted LIMIT 1), \
             (SELECT c.relname::text FROM pg_locks l JOIN pg_class c ON c.oid = l.relation WHERE l.pid = $1 AND c.relkind IN ('r', 'p') \
                 ORDER BY l.granted, l.locktype = 'tuple' DESC LIMIT 1), \
             a.pid, coalesce(a.usename::text, a.backend_type), a.application_name, a.state, \
             extract(epoch FROM clock_timestamp() - coalesce(a.state_change, a.backend_start))::int8 \
             FROM unnest(pg_blocking_pids($1)) AS b(pid) JOIN pg_stat_activity a ON a.pid = b.pid ORDER BY a.xact_start LIMIT 3",
            &[&process],
        )?;
        let rows = match rows {
            Ok(rows) => rows,
            Err(reason) => {
                return Ok(Some(Wait { what: "a lock".to_owned(), holders: Err(reason) }));
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

    /// What a standby receives and replays.
    fn streaming(&self, applied: Option<Position>) -> Result<Observed<Inflow>, ReadFault> {
        let rows = self.seen(
            "look at its receiver",
            // While nothing is received only its settings tell the source. Of those, which can hold a
            // password, no more than host and port leaves the server.
            "SELECT w.status, coalesce(w.sender_host, substring(c.setting FROM '(?:^| )host *= *''?([^ '']+)')), \
             coalesce(w.sender_port, substring(c.setting FROM '(?:^| )port *= *''?([0-9]+)')::int, 5432), \
             coalesce(w.slot_name, nullif(s.setting, '')), pg_is_wal_replay_paused(), pg_last_wal_receive_lsn()::text, \
             (extract(epoch FROM w.last_msg_receipt_time) * 1000000)::int8, d.setting::int8, \
             greatest(0, extract(epoch FROM clock_timestamp() - pg_last_xact_replay_timestamp()))::float8, \
             a.wait_event_type, a.wait_event FROM (SELECT 1) AS one \
             LEFT JOIN pg_stat_wal_receiver w ON true LEFT JOIN pg_settings c ON c.name = 'primary_conninfo' \
             LEFT JOIN pg_settings s ON s.name = 'primary_slot_name' LEFT JOIN pg_settings d ON d.name = 'recovery_min_apply_delay' \
             LEFT JOIN pg_stat_activity a ON a.backend_type = 'startup'",
            &[],
        )?;
        let rows = match rows {
            Ok(rows) => rows,
            Err(reason) => return Ok(Err(reason)),
        };
        let Some(row) = rows.first() else { return Ok(Err("it did not tell".to_owned())) };
        let (host, port): (Option<String>, Option<i32>) = (row.get(1), row.get(2));
        let paused: bool = row.get(4);
        let delay: Option<i64> = row.get(7);
        let delay = delay.filter(|ms| *ms > 0).map(|ms| Duration::from_millis(ms.unsigned_abs()));
        let event: Option<&str> = row.get(10);
        let link = Incoming {
            name: row.get::<_, Option<String>>(3).unwrap_or_else(|| "walreceiver".to_owned()),
            means: ReplicationKind::Streaming,
            source: Source {
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
            error: None,
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
            wait: if conflict { self.readers_in_the_way()? } else { None },
            ..Inflow::of(link)
        }))
    }

    /// Sessions on a standby that read what replay is to remove.
    fn readers_in_the_way(&self) -> Result<Option<Wait>, ReadFault> {
        let rows = self.seen(
            "look at who is in the way of replay",
            "SELECT pid, coalesce(usename::text, backend_type), application_name, state, \
             extract(epoch FROM clock_timestamp() - coalesce(state_change, backend_start))::int8 \
             FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND backend_type = 'client backend' \
             AND xact_start IS NOT NULL ORDER BY xact_start LIMIT 3",
            &[],
        )?;
        let holders = rows.map(|rows| rows.iter().map(|row| holder(row, 0)).collect());
        Ok(Some(Wait { what: "readers of what it is to remove or lock".to_owned(), holders }))
    }

    /// How often the tables were written to, by applications and by replication.
    /// With each comes its quoted name, unless it is locked against being looked into.
    fn touched(
        &self,
        tables: &[(String, String)],
    ) -> Result<BTreeMap<String, (Touched, Option<String>)>, ReadFault> {
        if tables.is_empty() {
            return Ok(BTreeMap::new());
        }
        let names: Vec<&String> = tables.iter().map(|(_, local)| local).collect();
        let rows = self.seen(
            "look whether tables changed",
            "SELECT schemaname || '.' || relname, relname::text, n_tup_ins + n_tup_upd + n_tup_del, \
             CASE WHEN has_table_privilege(relid, 'SELECT') AND NOT EXISTS (SELECT 1 FROM pg_locks l \
                 WHERE l.relation = relid AND l.mode = 'AccessExclusiveLock') \
             THEN quote_ident(schemaname) || '.' || quote_ident(relname) END FROM pg_stat_user_tables \
             WHERE relname = ANY($1) OR schemaname || '.' || relname = ANY($1) ORDER BY schemaname = 'public' DESC",
            &[&names],
        )?;
        let rows = rows.unwrap_or_default();
        let mut touched = BTreeMap::new();
        for (table, local) in tables {
            let found = rows
                .iter()
                .find(|row| row.get::<_, &str>(0) == local || row.get::<_, &str>(1) == local);
            if let Some(row) = found {
                let count = row.get::<_, Option<i64>>(2).unwrap_or(0).unsigned_abs();
                let touch = Touched { count, at: None, holds: None };
                touched.insert(table.clone(), (touch, row.get(3)));
            }
        }
        Ok(touched)
    }

    /// Looks whether tables hold any row. What cannot be answered stays unknown.
    fn look_for_rows(
        &self,
        touched: &mut BTreeMap<String, (Touched, Option<String>)>,
    ) -> Result<(), ReadFault> {
        let open: Vec<(&mut Touched, &String)> =
            touched.values_mut().filter_map(|(t, name)| Some((t, name.as_ref()?))).collect();
        if open.is_empty() {
            return Ok(());
        }
        let parts: Vec<String> =
            open.iter().map(|(_, name)| format!("EXISTS (SELECT 1 FROM {name})")).collect();
        let sql = format!("SELECT ARRAY[{}]", parts.join(", "));
        let rows = self.seen("look whether tables hold rows", &sql, &[])?;
        let found: Vec<bool> =
            rows.ok().and_then(|rows| Some(rows.first()?.get(0))).unwrap_or_default();
        for ((touched, _), holds) in open.into_iter().zip(found) {
            touched.holds = Some(holds);
        }
        Ok(())
    }

    /// The table of signs of life.
    fn beats(&self) -> Result<BTreeMap<String, i64>, ReadFault> {
        let Some(table) = &self.beats else { return Ok(BTreeMap::new()) };
        let table: Vec<String> = table.split('.').map(quoted).collect();
        let sql = format!(
            "SELECT node::text, (extract(epoch FROM beat) * 1000000)::int8 FROM {}",
            table.join(".")
        );
        let rows = self.seen("read the heartbeats", &sql, &[])?;
        Ok(rows.unwrap_or_default().iter().map(|row| (row.get(0), row.get(1))).collect())
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
