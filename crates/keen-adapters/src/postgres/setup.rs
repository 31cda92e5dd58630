//! Reading and changing values of a PostgreSQL server's set-up.

use keen_core::fault::ReadFault;
use keen_core::ports::ReadRows as _;
use keen_core::setup::column::ColumnDefinition;
use keen_core::setup::port::{ChangeSetup, LinkPassword};
use keen_core::setup::{IDLE, INDEX, READ, SetupChange, Subject, spell};
use keen_core::topology::Engine;
use tokio_postgres::error::SqlState;
use tokio_postgres::types::ToSql;

use super::connect::PostgresSession;
use super::{PostgresNode, queries, quoted};
use crate::server::{Access, column_state, made};

/// A PostgreSQL server whose set-up is changed.
pub struct PostgresSetup {
    session: PostgresSession,
    user: String,
}

impl std::fmt::Debug for PostgresSetup {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PostgresSetup").finish_non_exhaustive()
    }
}

/// The file that `ALTER SYSTEM` writes has the last word.
const KEPT: &str = "SELECT setting FROM pg_file_settings WHERE lower(name) = lower($1) \
    AND sourcefile LIKE '%postgresql.auto.conf' ORDER BY seqno DESC LIMIT 1";
const OF_DATABASE: &str = "SELECT substr(c, length($2) + 2) FROM pg_db_role_setting s JOIN pg_database d ON d.oid = s.setdatabase, \
    unnest(s.setconfig) AS c WHERE s.setrole = 0 AND d.datname = $1 AND lower(split_part(c, '=', 1)) = lower($2)";
const ENABLED: &str = "SELECT CASE WHEN subenabled THEN 'on' ELSE 'off' END FROM pg_subscription \
    WHERE subname = $1 AND subdbid = (SELECT oid FROM pg_database WHERE datname = current_database())";
const PASSED: &str = "SELECT 'yes' FROM pg_subscription s JOIN pg_replication_origin_status o ON o.external_id = 'pg_' || s.oid \
    WHERE s.subname = $1 AND s.subdbid = (SELECT oid FROM pg_database WHERE datname = current_database()) AND o.remote_lsn >= $2::text::pg_lsn";
const ORIGIN: &str = "SELECT suborigin FROM pg_subscription \
    WHERE subname = $1 AND subdbid = (SELECT oid FROM pg_database WHERE datname = current_database())";
const PUBLISHES: &str = "SELECT 'yes' FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid \
    WHERE p.pubname = $1 AND r.prrelid = to_regclass($2)";
const KINDS: &str = "SELECT concat_ws(', ', CASE WHEN pubinsert THEN 'insert' END, CASE WHEN pubupdate THEN 'update' END, \
    CASE WHEN pubdelete THEN 'delete' END, CASE WHEN pubtruncate THEN 'truncate' END) FROM pg_publication WHERE pubname = $1";
const TAKES: &str = "SELECT 'yes' FROM pg_subscription_rel r JOIN pg_subscription s ON s.oid = r.srsubid \
    WHERE s.subname = $1 AND s.subdbid = (SELECT oid FROM pg_database WHERE datname = current_database()) AND r.srrelid = to_regclass($2)";
const SLOT: &str = "SELECT confirmed_flush_lsn::text FROM pg_replication_slots \
    WHERE slot_name = $1 AND database = current_database() AND wal_status IS DISTINCT FROM 'lost'";
/// A subscription that is still busy reads otherwise than when it was planned, and so is left alone.
const SUBSCRIBES: &str = "SELECT 'slot ' || coalesce(subslotname, 'none') || ' of ' || \
    (SELECT string_agg(p, ', ' ORDER BY p) FROM unnest(subpublications) AS p) \
    || coalesce((SELECT ', and copies ' || string_agg(srrelid::regclass::text, ', ' ORDER BY srrelid::regclass::text) \
        FROM pg_subscription_rel WHERE srsubid = s.oid AND srsubstate <> 'r'), '') \
    || coalesce((SELECT ', and has prepared transactions' FROM pg_prepared_xacts WHERE gid LIKE 'pg\\_gid\\_' || s.oid || '\\_%' LIMIT 1), '') \
    FROM pg_subscription s WHERE subname = $1 AND subdbid = (SELECT oid FROM pg_database WHERE datname = current_database())";
const SLOT_USE: &str = "SELECT CASE WHEN active THEN $2 ELSE $3 || ' at ' || coalesce(confirmed_flush_lsn::text, 'none') END \
    FROM pg_replication_slots WHERE slot_name = $1 AND database = current_database()";
const PUBLICATION: &str = "SELECT concat_ws('; ', CASE WHEN puballtables THEN 'all tables' END, \
    (SELECT string_agg(prrelid::regclass::text \
        || coalesce(' (' || (SELECT string_agg(attname, ', ' ORDER BY attnum) FROM pg_attribute WHERE attrelid = prrelid AND attnum = ANY (prattrs)) || ')', '') \
        || coalesce(' where ' || pg_get_expr(prqual, prrelid), ''), ', ' ORDER BY prrelid::regclass::text) FROM pg_publication_rel WHERE prpubid = p.oid), \
    (SELECT 'all of ' || string_agg(pnnspid::regnamespace::text, ', ' ORDER BY pnnspid::regnamespace::text) FROM pg_publication_namespace WHERE pnpubid = p.oid), \
    concat_ws(', ', CASE WHEN pubinsert THEN 'insert' END, CASE WHEN pubupdate THEN 'update' END, CASE WHEN pubdelete THEN 'delete' END, CASE WHEN pubtruncate THEN 'truncate' END), \
    CASE WHEN pubviaroot THEN 'by their root' END) FROM pg_publication p WHERE pubname = $1";
const HAS_ORIGIN: &str = "SELECT 'yes' FROM pg_replication_origin WHERE roname = $1";
const TAKEN: &str = "SELECT o.remote_lsn::text FROM pg_subscription s JOIN pg_replication_origin_status o ON o.external_id = 'pg_' || s.oid \
    WHERE s.subname = $1 AND s.subdbid = (SELECT oid FROM pg_database WHERE datname = current_database())";
/// Of a session that the account may not see nobody knows when it began. When the setting was made is told only where commits
/// have times; else all sessions are from before.
const OLD_SESSIONS: &str = "WITH closed AS (SELECT max(CASE WHEN current_setting('track_commit_timestamp') = 'on' \
        AND s.xmin::text::int8 > 2 THEN pg_xact_commit_timestamp(s.xmin) END) AS at \
        FROM pg_db_role_setting s JOIN pg_database d ON d.oid = s.setdatabase WHERE d.datname = $1 AND s.setrole = 0), \
    old AS (SELECT coalesce(usename, 'somebody')::text AS who FROM pg_stat_activity, closed \
        WHERE datname = $1 AND pid <> pg_backend_pid() AND coalesce(backend_type, '') NOT IN ('walsender', 'autovacuum worker', 'parallel worker', 'slotsync worker') \
        AND coalesce(backend_type, '') NOT LIKE 'logical replication %' \
        AND NOT (application_name = 'keen' AND usename = current_user) AND coalesce(backend_start < closed.at, true) \
        UNION ALL SELECT 'a prepared transaction' FROM pg_prepared_xacts WHERE database = $1) \
    SELECT nullif(count(*), 0) || ': ' || string_agg(DISTINCT who, ', ') FROM old";
const RECEIVED: &str = "SELECT greatest(pg_last_wal_receive_lsn(), pg_last_wal_replay_lsn())::text";
const STANDBY_OF: &str = "SELECT 'from ' || sender_host || ':' || sender_port FROM pg_stat_wal_receiver \
    WHERE status = 'streaming' AND pg_is_in_recovery()";
/// The checkpoint of a clean stop begins with itself, any other before itself; and nothing stands behind it but its own record,
/// of at most so many bytes: with them there is no room for a row. What the log had come to before tells it from an earlier
/// stop, behind which the standby got nothing.
const CLEAN_END: &str = "SELECT CASE WHEN redo_lsn = checkpoint_lsn AND pg_is_in_recovery() \
    AND checkpoint_lsn >= $1::text::pg_lsn AND pg_last_wal_replay_lsn() - checkpoint_lsn BETWEEN 0 AND 160 THEN 'yes' END FROM pg_control_checkpoint()";
const PROMOTES: &str = "SELECT 'EXECUTE ON FUNCTION pg_promote' WHERE NOT has_function_privilege('pg_promote(boolean, integer)', 'EXECUTE')";
const OWNS: &str = "SELECT format('to own subscription %s', subname) FROM pg_subscription \
    WHERE subname = $1 AND subdbid = (SELECT oid FROM pg_database WHERE datname = current_database()) AND NOT pg_has_role(subowner, 'USAGE')";
const SUBSCRIBER: &str = "SELECT CASE WHEN has_database_privilege(current_database(), 'CREATE') THEN 'to be a member of pg_create_subscription (a superuser before PostgreSQL 16)' \
    ELSE 'CREATE on the database' END FROM pg_roles WHERE rolname = current_user AND NOT rolsuper \
    AND NOT (coalesce(pg_has_role(to_regrole('pg_create_subscription'), 'USAGE'), false) AND has_database_privilege(current_database(), 'CREATE'))";
const OWNS_PUBLICATION: &str = "SELECT format('to own publication %s', pubname) FROM pg_publication \
    WHERE pubname = $1 AND NOT pg_has_role(pubowner, 'USAGE')";
const REPLICATES: &str = "SELECT 'REPLICATION' FROM pg_roles WHERE rolname = current_user AND NOT (rolreplication OR rolsuper)";
const NAMES: &str = "SELECT CASE c.relreplident WHEN 'd' THEN 'default' WHEN 'f' THEN 'full' WHEN 'n' THEN 'nothing' \
    ELSE $2 || ' ' || (SELECT i.relname FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid WHERE x.indrelid = c.oid AND x.indisreplident) END \
    FROM pg_class c WHERE c.oid = to_regclass($1)";

impl PostgresSetup {
    /// Logs in.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be reached in time, or refuses.
    pub fn open(access: &Access) -> Result<Self, ReadFault> {
        let user = access.server.user.clone();
        Ok(Self { session: PostgresSession::open_to_mend(access)?, user })
    }

    fn first(
        &self,
        doing: &str,
        sql: &str,
        values: &[&(dyn ToSql + Sync)],
    ) -> Result<Option<String>, ReadFault> {
        let rows = self.session.rows(doing, sql, values)?;
        Ok(rows.first().and_then(|row| row.get(0)))
    }
}

fn named(table: &[String]) -> String {
    table.iter().map(|part| quoted(part)).collect::<Vec<_>>().join(".")
}

impl ChangeSetup for PostgresSetup {
    fn about(&self) -> String {
        format!("as {}@{}", self.user, self.session.access().shown())
    }

    fn state(&mut self, subject: &Subject) -> Result<Option<String>, ReadFault> {
        match subject {
            Subject::NewLink(new) => self.state(&new.there()),
            Subject::Setting { name } => {
                let sql = "SELECT setting FROM pg_settings WHERE lower(name) = lower($1)";
                self.first("read a setting", sql, &[name])
            }
            Subject::KeptSetting { name, .. } => {
                self.first("read what the server keeps of a setting", KEPT, &[name]).map_err(|fault| {
                    let user = &self.user;
                    ReadFault {
                        advice: format!("grant {user} ALTER SYSTEM ON PARAMETER {name}, SELECT on pg_file_settings and EXECUTE on pg_show_all_file_settings() and pg_reload_conf(), or use a superuser"),
                        ..fault
                    }
                })
            }
            Subject::DatabaseSetting { database, name } => {
                self.first("read a setting of the database", OF_DATABASE, &[database, name])
            }
            Subject::LinkSwitch { link } => self.first("look at its subscriptions", ENABLED, &[link]),
            Subject::PassedCommit { link, commit, .. } => {
                self.first("look at its subscriptions", PASSED, &[link, commit])
            }
            Subject::LinkOrigin { link } => self.first("look at its subscriptions", ORIGIN, &[link]),
            Subject::PublishedTable { publication, table } => {
                self.first("look at its publications", PUBLISHES, &[publication, &named(table)])
            }
            Subject::PublishedKinds { publication } => {
                self.first("look at its publications", KINDS, &[publication])
            }
            Subject::SubscribedTable { link, table, .. } => {
                self.first("look at its subscriptions", TAKES, &[link, &named(table)])
            }
            Subject::RowNames { table } => {
                self.first("look how rows are named", NAMES, &[&named(table), &INDEX])
            }
            Subject::Column { table, column, .. } => {
                let shape = PostgresNode::open(self.session.access())?.shape(&table.join("."))?;
                column_state(&shape, column)
            }
            Subject::FilledColumn { table, column } => {
                let shape = PostgresNode::open(self.session.access())?.shape(&table.join("."))?;
                let found = shape.column(column).and_then(ColumnDefinition::of);
                let default = found.as_ref().and_then(ColumnDefinition::default).unwrap_or("NULL");
                let (table, column) = (named(table), quoted(column));
                let sql = format!("SELECT 'yes' FROM {table} WHERE {column} IS DISTINCT FROM {default} LIMIT 1");
                self.first("look into a column", &sql, &[])
            }
            Subject::TableRows { table } => {
                let sql = format!("SELECT 'yes' WHERE EXISTS (SELECT 1 FROM {})", named(table));
                self.first("look into a table", &sql, &[])
            }
            Subject::NamedRows { table } => {
                let sql = format!("SELECT CASE WHEN named THEN 'yes' END FROM ({}) AS of (named, published)", queries::IS_IDENTIFIED);
                self.first("look how rows are named", &sql, &[&named(table), &""])
            }
            Subject::Link { link } => {
                self.first("look at its subscriptions", SUBSCRIBES, &[link])
            }
            Subject::Slot { slot } => {
                self.first("look at its slots", SLOT_USE, &[slot, &READ, &IDLE])
            }
            Subject::Publication { publication } => {
                self.first("look at its publications", PUBLICATION, &[publication])
            }
            Subject::Taken { link } => match self.state(&Subject::Standby)? {
                Some(_) => self.first("look how far it has come", RECEIVED, &[]),
                None => self.first("look at its subscriptions", TAKEN, &[link]),
            },
            Subject::Standby => {
                let sql = "SELECT CASE WHEN pg_is_in_recovery() THEN 'yes' END";
                self.first("look whether it is a standby", sql, &[])
            }
            Subject::StandbyOf => self.first("inspect its receiver", STANDBY_OF, &[]),
            Subject::LoggedPosition => {
                let sql = "SELECT CASE WHEN NOT pg_is_in_recovery() THEN pg_current_wal_insert_lsn()::text END";
                self.first("look how far its log has come", sql, &[])
            }
            Subject::CleanEnd { beyond } => {
                let doing = "look for the end of its primary's log";
                // On a standby that takes up where the last checkpoint of its primary stands, and writes nothing.
                self.session.simple(doing, "CHECKPOINT")?.map_err(|error| ReadFault {
                    advice: format!("{} has to be a member of pg_checkpoint, or a superuser", self.user),
                    ..self.session.failed(doing, &error)
                })?;
                self.first(doing, CLEAN_END, &[beyond])
            }
            Subject::OldSessions { database } => {
                self.first("look for sessions from before", OLD_SESSIONS, &[database])
            }
            Subject::Counter { table, column } => {
                let table = named(table);
                let sql = format!(
                    "SELECT CASE WHEN coalesce(m.most < coalesce(pg_sequence_last_value(s.seqrelid) + s.seqincrement, s.seqstart), true) THEN 'yes' END \
                     FROM pg_sequence AS s, (SELECT max({})::int8 AS most FROM {table}) AS m \
                     WHERE s.seqrelid = pg_get_serial_sequence($1, $2)::regclass AND s.seqincrement > 0",
                    quoted(column)
                );
                self.first("look what counts its columns up", &sql, &[&table, column])
            }
            Subject::Origin { origin } => self.first("look at its origins", HAS_ORIGIN, &[origin]),
            Subject::SlotPlace { slot } => self.first("look at its slots", SLOT, &[slot]),
            Subject::LinkDelay { .. }
            | Subject::ColumnOrder { .. }
            | Subject::FetchedChanges { .. }
            | Subject::HeldPosition { .. }
            | Subject::ServiceTable { .. }
            | Subject::OwnWrites
            | Subject::HeldState { .. }
            | Subject::OwnPosition { .. }
            | Subject::FencedOff
            | Subject::Answers
            | Subject::TopologyFile
            | Subject::AppliedOfDomain { .. }
            | Subject::AppliedPosition { .. } => {
                Err(ReadFault::not_told(format!("PostgreSQL has no such thing as {subject}")))
            }
        }
    }

    fn lacks(&mut self, subject: &Subject) -> Result<Option<String>, ReadFault> {
        let doing = "look at its rights";
        match subject {
            Subject::LinkSwitch { link } | Subject::Link { link } => {
                self.first(doing, OWNS, &[link])
            }
            Subject::NewLink(_) => self.first(doing, SUBSCRIBER, &[]),
            Subject::Standby => self.first(doing, PROMOTES, &[]),
            Subject::Publication { publication } => {
                self.first(doing, OWNS_PUBLICATION, &[publication])
            }
            Subject::SlotPlace { .. } | Subject::Slot { .. } => self.first(doing, REPLICATES, &[]),
            _ => Ok(None),
        }
    }

    fn make_link(
        &mut self,
        change: &SetupChange,
        password: Option<&LinkPassword>,
    ) -> Result<(), ReadFault> {
        let (doing, statement) = ("make a link", made(Engine::Postgres, change, password)?);
        let done = self.session.simple(doing, &statement)?;
        // It holds a password: whatever is said of it, it is not told.
        done.map(drop).map_err(|error| self.session.failed(doing, &error))
    }

    fn change(&mut self, change: &SetupChange) -> Result<(), ReadFault> {
        let statements = spell::statements(Engine::Postgres, change)
            .map_err(|why| ReadFault::new(why, "plan again"))?;
        for statement in statements {
            let doing = "change its set-up";
            let done = self.session.simple(doing, &statement)?;
            done.map_err(|error| {
                let fault = self.session.failed(doing, &error);
                let code = error.as_db_error().map(|said| said.code().clone());
                if code == Some(SqlState::INSUFFICIENT_PRIVILEGE) {
                    let advice = format!("{} lacks a right for: {statement}", self.user);
                    return ReadFault { advice, ..fault };
                }
                fault
            })?;
        }
        Ok(())
    }
}
