//! Every question to the server's own catalogues, in one place. Questions to tables are spelled where rows are read.

/// The settings that checks ask about, as a new session of this account finds them: the session of keen itself has
/// pinned some of them.
pub(super) const SETTINGS: &str = "SELECT name, reset_val FROM pg_settings WHERE name IN ('wal_level', 'max_wal_senders', \
    'max_replication_slots', 'max_active_replication_origins', 'max_worker_processes', \
    'max_logical_replication_workers', 'track_commit_timestamp', 'max_slot_wal_keep_size', 'wal_keep_size', \
    'default_transaction_read_only', 'server_encoding', 'TimeZone', 'port', 'recovery_min_apply_delay', \
    'hot_standby_feedback', 'data_directory', 'wal_retrieve_retry_interval', 'idle_replication_slot_timeout')";

/// The server process, the database, and the address. A copy of a data folder keeps the system's number: when the
/// server started tells the two apart.
pub(super) const IDENTITY: &str = "SELECT (SELECT system_identifier FROM pg_control_system())::text || '/' || \
    (extract(epoch FROM pg_postmaster_start_time()) * 1000000)::int8::text, current_database()::text, \
    host(inet_server_addr())";

/// Whether the account may read a table.
pub(super) const MAY_READ: &str = "SELECT has_schema_privilege(n.oid, 'USAGE') AND (has_table_privilege(c.oid, 'SELECT') OR \
    (SELECT bool_and(has_column_privilege(c.oid, a.attnum, 'SELECT')) FROM pg_attribute a \
    WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped)) \
    FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = $1::text::regclass";

/// Whether no row of a table is hidden from the account.
pub(super) const SEES_ALL_ROWS: &str = "SELECT NOT row_security_active($1::text::regclass)";

/// Whether the account may write a table.
pub(super) const MAY_WRITE: &str = "SELECT has_table_privilege($1::text, 'INSERT') AND has_table_privilege($1::text, 'UPDATE') AND has_table_privilege($1::text, 'DELETE')";

/// Whether the account may write without triggers; before PostgreSQL 15 only a superuser may.
pub(super) const MAY_SET_ROLE: &str =
    "SELECT has_parameter_privilege('session_replication_role', 'SET')";

/// The functions by which writes are kept out of replication.
pub(super) const ORIGIN_FUNCTIONS: &str = "pg_replication_origin_create(text), pg_replication_origin_session_setup(text), \
    pg_replication_origin_xact_setup(pg_lsn, timestamptz), pg_replication_origin_progress(text, boolean)";

/// Whether the account may use them.
pub(super) const MAY_USE_ORIGINS: &str = "SELECT bool_and(has_function_privilege(f, 'EXECUTE')) FROM unnest(ARRAY[ \
    'pg_replication_origin_create(text)', 'pg_replication_origin_session_setup(text)', \
    'pg_replication_origin_xact_setup(pg_lsn, timestamptz)', 'pg_replication_origin_progress(text, boolean)']) AS f";

/// Whether the account may see what other sessions do.
pub(super) const MAY_MONITOR: &str = "SELECT pg_has_role('pg_monitor', 'USAGE')";

/// Whether the account may read a log.
pub(super) const MAY_REPLICATE: &str =
    "SELECT rolreplication OR rolsuper FROM pg_roles WHERE rolname = current_user";

/// Rights of the account that no command needs.
pub(super) const FAR_MORE: &str = "SELECT rolsuper, rolcreaterole, rolcreatedb, pg_has_role('pg_write_all_data', 'USAGE') AND NOT rolsuper, \
    pg_has_role('pg_execute_server_program', 'USAGE') AND NOT rolsuper FROM pg_roles WHERE rolname = current_user";

/// Schema and name of a table as the topology file names it.
pub(super) const TABLE_NAMED: &str = "SELECT n.nspname::text, c.relname::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
    WHERE c.relkind IN ('r', 'p') AND (c.relname = $1 AND (pg_table_is_visible(c.oid) OR n.nspname = 'public') \
    OR n.nspname || '.' || c.relname = $1) ORDER BY pg_table_is_visible(c.oid) DESC LIMIT 1";

/// The clock, in microseconds since 1970.
pub(super) const CLOCK: &str = "SELECT (extract(epoch FROM clock_timestamp()) * 1000000)::int8";

/// The oldest position that the log reaches back to. The names of its files tell where they begin: timeline, then
/// the position in two parts.
pub(super) const OLDEST_LOG: &str = "SELECT ('0/0'::pg_lsn + min(('x' || substr(name, 9, 8))::bit(32)::int8 * 4294967296 \
    + ('x' || substr(name, 17, 8))::bit(32)::int8 * pg_size_bytes(current_setting('wal_segment_size')))::numeric)::text \
    FROM pg_ls_waldir() WHERE name ~ '^[0-9A-F]{24}$'";

/// How many bytes of log lie between two positions.
pub(super) const LOG_BETWEEN: &str =
    "SELECT pg_wal_lsn_diff($1::text::pg_lsn, $2::text::pg_lsn)::int8";

/// Whether the server has the extension pglogical.
pub(super) const HAS_PGLOGICAL: &str =
    "SELECT EXISTS (SELECT 1 FROM pg_extension WHERE extname = 'pglogical')";

/// Publications and the kinds of writes that they carry.
pub(super) const PUBLICATIONS: &str = "SELECT pubname::text, pubinsert, pubupdate, pubdelete, pubtruncate FROM pg_publication ORDER BY 1";

/// By what rows of a table are named to subscribers, the weakest first: of a partitioned table each partition says for
/// itself. And whether it is partitioned.
pub(super) const ROW_NAMING: &str = "SELECT CASE WHEN c.relreplident = 'f' THEN 'the whole row' WHEN c.relreplident = 'i' THEN 'an index' \
    WHEN c.relreplident = 'd' AND EXISTS (SELECT 1 FROM pg_index WHERE indrelid = c.oid AND indisprimary) THEN 'the key' \
    ELSE 'nothing' END, c.oid <> $1::text::regclass FROM (SELECT relid::oid AS oid FROM pg_partition_tree($1::text::regclass) WHERE isleaf UNION SELECT oid FROM pg_class WHERE oid = $1::text::regclass AND relkind <> 'p') t JOIN pg_class c ON c.oid = t.oid \
    ORDER BY CASE WHEN c.relreplident = 'f' THEN 3 WHEN c.relreplident = 'n' \
    OR c.relreplident = 'd' AND NOT EXISTS (SELECT 1 FROM pg_index WHERE indrelid = c.oid AND indisprimary) THEN 0 \
    WHEN c.relreplident = 'd' THEN 1 ELSE 2 END";

/// Triggers of a table that fire on what replication applies.
pub(super) const REPLICA_TRIGGERS: &str = "SELECT tgname::text FROM pg_trigger WHERE tgrelid = $1::text::regclass AND NOT tgisinternal AND tgenabled IN ('A', 'R') ORDER BY 1";

/// Where the numbers of a table's counting columns come from.
pub(super) const COUNTERS: &str = "SELECT a.attname::text, s.seqincrement, mod(coalesce(CASE WHEN has_sequence_privilege(s.seqrelid, 'SELECT') \
    THEN pg_sequence_last_value(s.seqrelid) END, s.seqstart), abs(s.seqincrement)) \
    FROM pg_depend d JOIN pg_sequence s ON s.seqrelid = d.objid \
    JOIN pg_attribute a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid \
    WHERE d.refobjid = $1::text::regclass AND d.classid = 'pg_class'::regclass AND d.deptype IN ('a', 'i') ORDER BY 1";

/// The conditions that rows of a table have to fulfil.
pub(super) const CHECKS: &str = "SELECT pg_get_constraintdef(oid) FROM pg_constraint WHERE conrelid = $1::text::regclass AND contype = 'c' ORDER BY 1";

/// Every table, with its schema where that is not the usual one.
pub(super) const ALL_TABLES: &str = "SELECT CASE WHEN n.nspname = 'public' THEN '' ELSE n.nspname || '.' END || c.relname \
    FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p') AND NOT c.relispartition \
    AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\\_%' ORDER BY 1";

/// Accounts that can log in.
pub(super) const ACCOUNTS: &str =
    "SELECT rolname::text FROM pg_roles WHERE rolcanlogin AND rolname <> 'postgres' ORDER BY 1";

/// The state of the server itself. Of commits only the last is told, and only if the server keeps times.
pub(super) const SERVER: &str = "SELECT current_setting('server_version'), current_setting('server_version_num')::int / 10000, \
    pg_is_in_recovery(), (SELECT reset_val FROM pg_settings WHERE name = 'default_transaction_read_only'), \
    CASE WHEN pg_is_in_recovery() THEN pg_last_wal_replay_lsn() ELSE pg_current_wal_insert_lsn() END::text, \
    CASE WHEN pg_is_in_recovery() THEN pg_last_wal_receive_lsn() ELSE pg_current_wal_flush_lsn() END::text, \
    CASE WHEN NOT pg_is_in_recovery() AND current_setting('track_commit_timestamp')::bool \
    THEN (SELECT xid::text || '/' || roident::text FROM pg_last_committed_xact()) END, \
    current_database()::text, EXISTS (SELECT 1 FROM pg_extension WHERE extname = 'pglogical'), \
    (SELECT setting::int8 * 3000 FROM pg_settings WHERE name = 'wal_writer_delay')";

/// How many rows of tables were written, and the quoted name of each that is not locked against being looked into.
pub(super) const WRITTEN_ROWS: &str = "SELECT schemaname || '.' || relname, relname::text, n_tup_ins + n_tup_upd + n_tup_del, \
    CASE WHEN has_table_privilege(relid, 'SELECT') AND NOT EXISTS (SELECT 1 FROM pg_locks l \
    WHERE l.relation = relid AND l.mode = 'AccessExclusiveLock') \
    THEN quote_ident(schemaname) || '.' || quote_ident(relname) END FROM pg_stat_user_tables \
    WHERE relname = ANY($1) OR schemaname || '.' || relname = ANY($1) ORDER BY schemaname = 'public' DESC";

/// Slots, but for those of a first copy, and who reads them.
pub(super) const SLOTS: &str = "SELECT s.slot_name::text, s.database::text, s.active, \
    pg_wal_lsn_diff(CASE WHEN pg_is_in_recovery() THEN pg_last_wal_receive_lsn() ELSE pg_current_wal_lsn() END, s.restart_lsn)::int8, \
    s.wal_status, s.safe_wal_size, coalesce(s.confirmed_flush_lsn, s.restart_lsn)::text, r.sent_lsn::text, \
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

/// The lock that a process waits for, and who holds it.
pub(super) const LOCK_HOLDERS: &str = "SELECT (SELECT l.locktype FROM pg_locks l WHERE l.pid = $1 AND NOT l.granted LIMIT 1), \
    (SELECT c.relname::text FROM pg_locks l JOIN pg_class c ON c.oid = l.relation WHERE l.pid = $1 AND c.relkind IN ('r', 'p') \
    ORDER BY l.granted, l.locktype = 'tuple' DESC LIMIT 1), \
    a.pid, coalesce(a.usename::text, a.backend_type), a.application_name, a.state, \
    extract(epoch FROM clock_timestamp() - coalesce(a.state_change, a.backend_start))::int8 \
    FROM unnest(pg_blocking_pids($1)) AS b(pid) JOIN pg_stat_activity a ON a.pid = b.pid ORDER BY a.xact_start LIMIT 3";

/// The receiver of a standby and its replay. While nothing is received only its settings tell the source. Of those,
/// which can hold a password, no more than host and port leaves the server.
pub(super) const RECEIVER: &str = "SELECT w.status, coalesce(w.sender_host, substring(c.setting FROM '(?:^| )host *= *''?([^ '']+)')), \
    coalesce(w.sender_port, substring(c.setting FROM '(?:^| )port *= *''?([0-9]+)')::int, 5432), \
    coalesce(w.slot_name, nullif(s.setting, '')), pg_is_wal_replay_paused(), pg_last_wal_receive_lsn()::text, \
    (extract(epoch FROM w.last_msg_receipt_time) * 1000000)::int8, d.setting::int8, \
    greatest(0, extract(epoch FROM clock_timestamp() - pg_last_xact_replay_timestamp()))::float8, \
    a.wait_event_type, a.wait_event FROM (SELECT 1) AS one \
    LEFT JOIN pg_stat_wal_receiver w ON true LEFT JOIN pg_settings c ON c.name = 'primary_conninfo' \
    LEFT JOIN pg_settings s ON s.name = 'primary_slot_name' LEFT JOIN pg_settings d ON d.name = 'recovery_min_apply_delay' \
    LEFT JOIN pg_stat_activity a ON a.backend_type = 'startup'";

/// Sessions on a standby that read what replay is to remove.
pub(super) const READERS: &str = "SELECT pid, coalesce(usename::text, backend_type), application_name, state, \
    extract(epoch FROM clock_timestamp() - coalesce(state_change, backend_start))::int8 \
    FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND backend_type = 'client backend' \
    AND xact_start IS NOT NULL ORDER BY xact_start LIMIT 3";

/// Publication, schema and table, columns, and the condition on rows, with a partitioned table in the place of its
/// partitions where all of them are there: a publication that does not say otherwise publishes them one by one, and a
/// subscription takes them up so; what a set names is the table.
pub(super) const PUBLISHED: &str = "SELECT * FROM (WITH entry AS (SELECT t.pubname, t.schemaname, t.tablename, t.attnames, t.rowfilter, \
    CASE WHEN c.relispartition THEN pg_partition_root(c.oid)::oid END AS root FROM pg_publication_tables t \
    JOIN pg_namespace n ON n.nspname = t.schemaname JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = t.tablename), \
    whole AS (SELECT pubname, root, (array_agg(attnames::text ORDER BY cardinality(attnames)))[1]::text[] AS attnames, max(rowfilter) AS rowfilter \
    FROM entry WHERE root IS NOT NULL GROUP BY pubname, root \
    HAVING count(*) = (SELECT count(*) FROM pg_partition_tree(root) WHERE isleaf)) \
    SELECT pubname::text, schemaname || '.' || tablename, attnames::text[], rowfilter FROM entry e \
    WHERE NOT EXISTS (SELECT 1 FROM whole w WHERE w.pubname = e.pubname AND w.root = e.root) \
    UNION ALL SELECT w.pubname::text, n.nspname || '.' || c.relname, w.attnames, w.rowfilter FROM whole w \
    JOIN pg_class c ON c.oid = w.root JOIN pg_namespace n ON n.oid = c.relnamespace) q ORDER BY 1, 2";

/// Subscription, schema and table, whether it follows now, and whether its rows were copied first.
pub(super) const TAKEN: &str = "SELECT * FROM (WITH entry AS (SELECT r.srsubid, r.srrelid, r.srsubstate::text IN ('r', 's') AS ready, \
    r.srsublsn IS NOT NULL AS copied, CASE WHEN c.relispartition THEN pg_partition_root(c.oid)::oid END AS root \
    FROM pg_subscription_rel r JOIN pg_class c ON c.oid = r.srrelid), \
    whole AS (SELECT srsubid, root, bool_and(ready) AS ready, bool_and(copied) AS copied \
    FROM entry WHERE root IS NOT NULL GROUP BY srsubid, root \
    HAVING count(*) = (SELECT count(*) FROM pg_partition_tree(root) WHERE isleaf)), \
    found AS (SELECT srsubid, srrelid, ready, copied FROM entry e \
    WHERE NOT EXISTS (SELECT 1 FROM whole w WHERE w.srsubid = e.srsubid AND w.root = e.root) \
    UNION ALL SELECT srsubid, root, ready, copied FROM whole) \
    SELECT f.srsubid, n.nspname || '.' || c.relname, f.ready, f.copied FROM found f \
    JOIN pg_class c ON c.oid = f.srrelid JOIN pg_namespace n ON n.oid = c.relnamespace) q ORDER BY 1, 2";

/// The logical slots but for one.
pub(super) const LOGICAL_SLOTS_BUT: &str = "SELECT slot_name::text FROM pg_replication_slots WHERE slot_type = 'logical' AND slot_name <> $1";

/// By the name of a subscription's origin its slot at the source.
pub(super) const ORIGINS: &str = "SELECT 'pg_' || oid::text, coalesce(subslotname::text, subname::text) FROM pg_subscription \
    WHERE subdbid = (SELECT oid FROM pg_database WHERE datname = current_database())";

/// A row where the server has the extension pglogical.
pub(super) const PGLOGICAL_IS_THERE: &str =
    "SELECT 1 FROM pg_extension WHERE extname = 'pglogical'";

/// The slots at their sources that subscriptions of pglogical read.
pub(super) const PGLOGICAL_SLOTS: &str = "SELECT sub_slot_name::text FROM pglogical.subscription";

/// The table of a name: what it is, and what the account may do with it.
pub(super) const TABLE: &str = "SELECT c.oid, n.nspname::text, c.relname::text, c.relkind::text, c.relhassubclass, \
    has_schema_privilege(n.oid, 'USAGE'), has_table_privilege(c.oid, 'SELECT') OR has_any_column_privilege(c.oid, 'SELECT'), \
    coalesce((SELECT string_agg(p.oid::text || '/' || p.relfilenode::text, ' ' ORDER BY p.oid) FROM pg_partition_tree(c.oid) t JOIN pg_class p ON p.oid = t.relid), \
        c.oid::text || '/' || c.relfilenode::text) \
    FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f', 'S')";

/// The columns of a table.
pub(super) const COLUMNS: &str = "SELECT a.attname::text, a.atttypid, format_type(a.atttypid, a.atttypmod), a.attnotnull, \
    a.atthasdef OR a.attidentity <> '', a.attgenerated <> '', \
    coalesce(CASE WHEN l.collname = 'default' THEN (SELECT CASE d.datlocprovider WHEN 'c' THEN d.datcollate WHEN 'b' THEN 'C' ELSE 'a locale' END \
    FROM pg_database d WHERE d.datname = current_database()) \
    WHEN l.collprovider = 'b' THEN 'C' WHEN l.collprovider = 'c' THEN l.collcollate ELSE 'collation ' || l.collname END, ''), \
    CASE WHEN b.typname IN ('time', 'timestamp', 'timestamptz') AND a.atttypmod >= 0 THEN a.atttypmod::int2 END, \
    has_column_privilege(a.attrelid, a.attnum, 'SELECT'), a.attnum, \
    (SELECT pg_get_expr(f.adbin, f.adrelid) FROM pg_attrdef f WHERE f.adrelid = a.attrelid AND f.adnum = a.attnum), \
    CASE WHEN a.attcollation <> t.typcollation THEN l.collname::text END, a.attidentity <> '', \
    (SELECT array_agg(e.enumlabel::text ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = t.oid), \
    CASE WHEN a.attcollation <> t.typcollation THEN a.attcollation END, \
    CASE WHEN l.collname = 'default' THEN (SELECT d.datlocprovider::text || ':' || d.datcollate FROM pg_database d WHERE d.datname = current_database()) \
        ELSE l.collprovider::text || ':' || l.collname END, \
    CASE WHEN l.collname = 'default' THEN (SELECT pg_database_collation_actual_version(d.oid) FROM pg_database d WHERE d.datname = current_database()) \
        ELSE pg_collation_actual_version(l.oid) END \
    FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid \
    JOIN pg_type b ON b.oid = CASE WHEN t.typbasetype <> 0 THEN t.typbasetype ELSE t.oid END \
    LEFT JOIN pg_collation l ON l.oid = a.attcollation \
    WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum";

/// The key and the unique constraints of a table.
pub(super) const UNIQUE: &str = "SELECT i.indisprimary, i.indpred IS NOT NULL, \
    (SELECT array_agg(coalesce(a.attname::text, '') ORDER BY k.place) FROM unnest(i.indkey::int2[]) WITH ORDINALITY AS k (number, place) \
    LEFT JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.number AND k.number > 0 WHERE k.place <= i.indnkeyatts) \
    FROM pg_index i WHERE i.indrelid = $1 AND i.indisunique AND i.indisvalid AND i.indimmediate ORDER BY i.indexrelid";

/// The foreign keys of a table.
pub(super) const REFERENCES: &str = "SELECT p.relname::text, p.oid::regclass::text, \
    (SELECT array_agg(a.attname::text ORDER BY k.place) FROM unnest(f.conkey) WITH ORDINALITY AS k (number, place) \
    JOIN pg_attribute a ON a.attrelid = f.conrelid AND a.attnum = k.number), \
    (SELECT array_agg(a.attname::text ORDER BY k.place) FROM unnest(f.confkey) WITH ORDINALITY AS k (number, place) \
    JOIN pg_attribute a ON a.attrelid = f.confrelid AND a.attnum = k.number) \
    FROM pg_constraint f JOIN pg_class p ON p.oid = f.confrelid WHERE f.conrelid = $1 AND f.contype = 'f' ORDER BY f.oid";

/// Who refers to a table, and by what.
pub(super) const REFERRED_BY: &str = "SELECT p.relname::text, p.oid::regclass::text, \
    (SELECT array_agg(a.attname::text ORDER BY k.place) FROM unnest(f.conkey) WITH ORDINALITY AS k (number, place) \
    JOIN pg_attribute a ON a.attrelid = f.conrelid AND a.attnum = k.number), \
    (SELECT array_agg(a.attname::text ORDER BY k.place) FROM unnest(f.confkey) WITH ORDINALITY AS k (number, place) \
    JOIN pg_attribute a ON a.attrelid = f.confrelid AND a.attnum = k.number) \
    FROM pg_constraint f JOIN pg_class p ON p.oid = f.conrelid WHERE f.confrelid = $1 AND f.contype = 'f' AND f.conparentid = 0 ORDER BY f.oid";

/// Tables of all that is not the server's, an extension's or a session's own: none of which a name means, and that are
/// no part of one that a name means.
pub(super) const OTHER_TABLES: &str = "SELECT * FROM (WITH RECURSIVE own AS ( \
    SELECT c.oid, n.nspname, c.relname, pg_table_is_visible(c.oid) AS visible FROM pg_class c \
    JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p') AND c.relpersistence <> 't' \
    AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\\_toast%' \
    AND c.relname NOT IN ('keen_probe', 'keen_mended') AND c.relname NOT LIKE 'keen\\_lab\\_%' \
    AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.deptype = 'e')), \
    meant AS (SELECT oid FROM own WHERE (visible AND relname = ANY ($1)) OR nspname || '.' || relname = ANY ($1) \
    UNION SELECT i.inhrelid FROM pg_inherits i JOIN meant m ON m.oid = i.inhparent JOIN pg_class c ON c.oid = i.inhrelid WHERE c.relispartition) \
    SELECT CASE WHEN o.visible THEN o.relname::text ELSE o.nspname || '.' || o.relname END FROM own o \
    WHERE o.oid NOT IN (SELECT oid FROM meant) AND NOT EXISTS (SELECT 1 FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid \
    WHERE i.inhrelid = o.oid AND c.relispartition)) q ORDER BY 1";

/// Triggers of a table: when they fire, on what, and how the server prints them.
pub(super) const TRIGGERS: &str = "SELECT tgname::text, tgenabled::text IN ('A', 'R'), tgtype & 4 > 0, tgtype & 16 > 0, tgtype & 8 > 0, pg_get_triggerdef(oid) \
    FROM pg_trigger WHERE tgrelid = $1 AND NOT tgisinternal AND tgenabled <> 'D' ORDER BY 1";

/// Tables that inherit from a table.
pub(super) const HEIRS: &str = "SELECT c.oid::regclass::text FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid WHERE i.inhparent = $1 ORDER BY 1";

/// About how many rows a table has.
pub(super) const ESTIMATE: &str = "SELECT sum(greatest(c.reltuples, 0))::float8 FROM pg_class c WHERE c.oid = $1 \
    OR c.oid IN (SELECT relid FROM pg_partition_tree($1) WHERE isleaf)";

/// A type by its number.
pub(super) const TYPE: &str = "SELECT format_type(t.oid, NULL), t.typtype::text, t.typelem, t.typbasetype, \
    format_type(t.typbasetype, t.typtypmod), t.typnotnull, t.typdefault, e.extname::text, \
    CASE WHEN t.typtype = 'd' AND t.typcollation <> b.typcollation THEN t.typcollation END, \
    (SELECT coalesce(array_agg(pg_get_constraintdef(c.oid) ORDER BY c.conname), '{}') FROM pg_constraint c WHERE c.contypid = t.oid AND c.contype = 'c'), \
    (SELECT coalesce(array_agg(v.enumlabel::text ORDER BY v.enumsortorder), '{}') FROM pg_enum v WHERE v.enumtypid = t.oid), t.typrelid \
    FROM pg_type t LEFT JOIN pg_type b ON b.oid = t.typbasetype \
    LEFT JOIN pg_depend d ON d.classid = 'pg_type'::regclass AND d.objid = t.oid AND d.deptype = 'e' \
    LEFT JOIN pg_extension e ON e.oid = d.refobjid WHERE t.oid = $1";

/// The fields of a composite type.
pub(super) const FIELDS: &str = "SELECT quote_ident(a.attname), a.atttypid, format_type(a.atttypid, a.atttypmod) FROM pg_attribute a \
    WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum";

/// A collation by its number. What it is called where the locale stands differs between versions.
pub(super) const COLLATION: &str = "SELECT l.oid::regcollation::text, l.collprovider::text, l.collisdeterministic, \
    coalesce(to_jsonb(l) ->> 'colllocale', to_jsonb(l) ->> 'colliculocale', l.collcollate::text), e.extname::text \
    FROM pg_collation l LEFT JOIN pg_depend d ON d.classid = 'pg_collation'::regclass AND d.objid = l.oid AND d.deptype = 'e' \
    LEFT JOIN pg_extension e ON e.oid = d.refobjid WHERE l.oid = $1";

/// The name of a collation.
pub(super) const COLLATION_NAME: &str = "SELECT $1::oid::regcollation::text";

/// Types by number.
pub(super) const TYPES: &str = "SELECT t.oid, t.typname::text, t.typtype::text, t.typbasetype, n.nspname = 'pg_catalog' \
    FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace";

/// Whether the server keeps when transactions were committed.
pub(super) const KEEPS_COMMIT_TIMES: &str =
    "SELECT current_setting('track_commit_timestamp') = 'on'";

/// Version and encoding.
pub(super) const ABOUT: &str = "SELECT current_setting('server_version'), current_setting('server_encoding'), \
    current_setting('server_version_num')::int / 10000";

/// The account, the database, and whether it may read a log.
pub(super) const JOURNAL_ACCOUNT: &str = "SELECT current_user::text, (SELECT oid::text FROM pg_database WHERE datname = current_database()), \
    (SELECT rolreplication OR rolsuper FROM pg_roles WHERE rolname = current_user), \
    has_function_privilege('pg_show_replication_origin_status()', 'EXECUTE')";

/// keen's slot, and whether its log is gone.
pub(super) const JOURNAL_SLOT: &str = "SELECT slot_name::text, coalesce(wal_status, '') = 'lost' FROM pg_replication_slots \
    WHERE slot_type = 'logical' AND database = current_database() ORDER BY length(slot_name)";

/// Whether a publication tells writes of partitions as writes of their table.
pub(super) const VIA_ROOT: &str = "SELECT pubviaroot FROM pg_publication WHERE pubname = $1";

/// Whether something identifies the rows of a table, and of each of its partitions.
pub(super) const IS_IDENTIFIED: &str = "SELECT NOT EXISTS (SELECT 1 FROM (SELECT relid::oid AS oid FROM pg_partition_tree($1::text::regclass) WHERE isleaf UNION SELECT oid FROM pg_class WHERE oid = $1::text::regclass AND relkind <> 'p') t \
    JOIN pg_class c ON c.oid = t.oid WHERE NOT (c.relreplident = 'f' OR EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = c.oid \
    AND (i.indisprimary AND c.relreplident = 'd' OR i.indisreplident AND c.relreplident = 'i')))), \
    EXISTS (SELECT 1 FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid \
    WHERE p.pubname = $2 AND r.prrelid = $1::text::regclass) \
    OR EXISTS (SELECT 1 FROM pg_publication p WHERE p.pubname = $2 AND p.puballtables)";

/// The kind of a slot, and how far its reader has come.
pub(super) const SLOT_STATE: &str = "SELECT slot_name::text, plugin::text, database = current_database(), coalesce(wal_status, ''), \
    coalesce(confirmed_flush_lsn, restart_lsn)::text, current_setting('server_version') \
    FROM pg_replication_slots WHERE slot_type = 'logical' ORDER BY length(slot_name)";

/// Partitions and their tables.
pub(super) const PARTITIONS: &str = "SELECT n.nspname::text, c.relname::text, rn.nspname::text, r.relname::text FROM pg_class c \
    JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_class r ON r.oid = pg_partition_root(c.oid) \
    JOIN pg_namespace rn ON rn.oid = r.relnamespace WHERE c.relispartition AND c.relkind IN ('r', 'p')";

/// The tables of a publication.
pub(super) const PUBLISHED_TABLES: &str =
    "SELECT schemaname::text, tablename::text FROM pg_publication_tables WHERE pubname = $1";

/// By origin, how far the server has applied what came from there.
pub(super) const APPLIED: &str = "SELECT o.external_id, greatest(o.remote_lsn, (SELECT max(r.srsublsn) FROM pg_subscription s \
    JOIN pg_subscription_rel r ON r.srsubid = s.oid WHERE o.external_id = 'pg_' || s.oid::text))::text \
    FROM pg_replication_origin_status o WHERE o.remote_lsn IS NOT NULL";

/// Tables of the publication that came later than the oldest row of the catalogue that the slot keeps, the latest
/// first; when, if the server keeps that. Other slots keep such rows, too: so it is no proof yet.
pub(super) const ADDED_TABLES: &str = "SELECT t.schemaname::text, t.tablename::text, t.added::text, \
    (extract(epoch FROM CASE WHEN current_setting('track_commit_timestamp')::bool THEN pg_xact_commit_timestamp(t.added) END) * 1000000)::int8 \
    FROM (SELECT n.nspname AS schemaname, c.relname AS tablename, r.xmin AS added FROM pg_publication p \
    JOIN pg_publication_rel r ON r.prpubid = p.oid JOIN pg_class c ON c.oid = r.prrelid \
    JOIN pg_namespace n ON n.oid = c.relnamespace WHERE p.pubname = $1 \
    UNION ALL SELECT n.nspname, c.relname, p.xmin FROM pg_publication p, pg_class c \
    JOIN pg_namespace n ON n.oid = c.relnamespace WHERE p.pubname = $1 AND p.puballtables AND c.relkind IN ('r', 'p') \
    UNION ALL SELECT n.nspname, c.relname, s.xmin FROM pg_publication p \
    JOIN pg_publication_namespace s ON s.pnpubid = p.oid JOIN pg_class c ON c.relnamespace = s.pnnspid \
    JOIN pg_namespace n ON n.oid = c.relnamespace WHERE p.pubname = $1 AND c.relkind IN ('r', 'p')) t \
    WHERE age(t.added) < (SELECT age(catalog_xmin) FROM pg_replication_slots WHERE slot_name = $2) \
    ORDER BY age(t.added)";

/// Whether a transaction is later than another.
pub(super) const IS_LATER: &str = "SELECT age($1::text::xid) < age($2::text::xid)";

/// Subscriptions, their workers, and what those wait for. Older servers do not tell of origins.
pub(super) fn subscriptions(major: u32) -> String {
    let origin = if major >= 16 { "s.suborigin" } else { "'any'" };
    format!(
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
    )
}

/// How far its log has come: nothing that is in it now is beyond.
pub(super) const INSERTED: &str = "SELECT pg_current_wal_insert_lsn()::text";

/// By subscription how far it has applied, in the log of the source.
pub(super) const APPLIED_BY_SUBSCRIPTION: &str = "SELECT s.subname, pg_replication_origin_progress('pg_' || s.oid, false)::text \
    FROM pg_subscription s JOIN pg_replication_origin o ON o.roname = 'pg_' || s.oid \
    WHERE s.subdbid = (SELECT oid FROM pg_database WHERE datname = current_database())";

/// The sequences that count up columns of a table, and which: those that belong to it, and those of its defaults.
pub(super) const SEQUENCES_OF_TABLE: &str = "SELECT q.oid::regclass::text, a.attname FROM pg_class q \
    JOIN pg_depend d ON d.classid = 'pg_class'::regclass AND d.objid = q.oid AND d.refclassid = 'pg_class'::regclass AND d.deptype IN ('a', 'i') \
    JOIN pg_attribute a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid \
    WHERE q.relkind = 'S' AND d.refobjid = to_regclass($1) \
    UNION SELECT q.oid::regclass::text, a.attname FROM pg_attrdef f \
    JOIN pg_depend d ON d.classid = 'pg_attrdef'::regclass AND d.objid = f.oid AND d.refclassid = 'pg_class'::regclass \
    JOIN pg_class q ON q.oid = d.refobjid AND q.relkind = 'S' \
    JOIN pg_attribute a ON a.attrelid = f.adrelid AND a.attnum = f.adnum WHERE f.adrelid = to_regclass($1)";

/// Lets a transaction last as long as it takes, whatever the account is allowed.
pub(super) const NO_TIME_LIMITS: &str = "SELECT set_config(name, '0', true) FROM pg_settings \
    WHERE name IN ('statement_timeout', 'idle_in_transaction_session_timeout', 'transaction_timeout')";
