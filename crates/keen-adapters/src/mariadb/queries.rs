//! Every question to the server's own catalogues, in one place. Questions to tables are spelled where rows are read.

/// The state of the server itself.
pub(super) const SERVER: &str = "SELECT version(), @@global.server_id, @@global.gtid_domain_id, @@global.read_only, \
    @@global.log_bin, @@global.gtid_binlog_pos, @@global.gtid_slave_pos, @@global.gtid_binlog_state, \
    (SELECT VARIABLE_VALUE FROM information_schema.GLOBAL_VARIABLES WHERE VARIABLE_NAME = 'WSREP_ON')";

/// Who holds a row lock that an applier waits for.
pub(super) const ROW_LOCK_HOLDERS: &str = "SELECT DISTINCT p.ID, p.USER, p.HOST, p.COMMAND, p.TIME, l.lock_table FROM information_schema.INNODB_LOCK_WAITS w \
    LEFT JOIN information_schema.INNODB_LOCKS l ON l.lock_id = w.requested_lock_id \
    JOIN information_schema.INNODB_TRX waits ON waits.trx_id = w.requesting_trx_id \
    JOIN information_schema.INNODB_TRX holds ON holds.trx_id = w.blocking_trx_id \
    JOIN information_schema.PROCESSLIST p ON p.ID = holds.trx_mysql_thread_id \
    WHERE waits.trx_mysql_thread_id IN (SELECT ID FROM information_schema.PROCESSLIST WHERE COMMAND LIKE 'Slave%') \
    ORDER BY p.TIME DESC LIMIT 3";

/// Who holds a table lock. That only a plugin tells, which few servers have.
pub(super) const TABLE_LOCK_HOLDERS: &str = "SELECT DISTINCT p.ID, p.USER, p.HOST, p.COMMAND, p.TIME, NULL FROM information_schema.METADATA_LOCK_INFO m \
    JOIN information_schema.PROCESSLIST p ON p.ID = m.THREAD_ID \
    WHERE p.COMMAND NOT LIKE 'Slave%' AND p.ID <> CONNECTION_ID() ORDER BY p.TIME DESC LIMIT 3";

/// How many of the server's own workers the account sees: they are shown to those alone who may see all sessions.
pub(super) const SEEN_WORKERS: &str =
    "SELECT count(*) FROM information_schema.PROCESSLIST WHERE COMMAND LIKE 'Slave%'";

/// A line for each connection over which the server follows another.
pub(super) const LINKS: &str = "SHOW ALL SLAVES STATUS";

/// Who follows the server.
pub(super) const FOLLOWERS: &str = "SHOW SLAVE HOSTS";

/// The number of the server.
pub(super) const SERVER_ID: &str = "SELECT @@global.server_id";

/// The settings of the server's binary log.
pub(super) const BINARY_LOG: &str = "SELECT version(), @@global.log_bin, @@global.binlog_format, @@global.log_slave_updates, @@global.server_id, @@global.gtid_slave_pos";

/// The rights of the account.
pub(super) const GRANTS: &str = "SHOW GRANTS";

/// Version, and whether it takes writes.
pub(super) const ABOUT: &str = "SELECT version(), @@global.read_only";

/// Whether it is a member of a synchronous cluster.
pub(super) const IN_CLUSTER: &str = "SELECT VARIABLE_VALUE FROM information_schema.GLOBAL_VARIABLES WHERE VARIABLE_NAME = 'WSREP_ON'";

/// The account as the server knows it.
pub(super) const ACCOUNT: &str = "SELECT CURRENT_USER()";

/// The place in the binary log that belongs to the moment of the transaction.
pub(super) const SNAPSHOT_POSITION: &str = "SHOW STATUS LIKE 'binlog_snapshot_%'";

/// How far the binary log has come.
pub(super) const LOG_POSITION: &str = "SELECT @@global.gtid_binlog_pos";

/// The files of the binary log.
pub(super) const LOG_FILES: &str = "SHOW BINARY LOGS";

/// Where the positions of all domains stood when a file began.
pub(super) const LOG_BEGINS: &str = "SELECT BINLOG_GTID_POS(?, 4)";

/// The character set of the database.
pub(super) const DATABASE_CHARSET: &str = "SELECT DEFAULT_CHARACTER_SET_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = DATABASE()";

/// How many events of the database are enabled.
pub(super) const ENABLED_EVENTS: &str = "SELECT COUNT(*) FROM information_schema.EVENTS WHERE EVENT_SCHEMA = DATABASE() AND STATUS = 'ENABLED'";

/// The clock, in microseconds since 1970. Not the time of the statement, which a session can set.
pub(super) const CLOCK: &str = "SELECT CAST(ROUND(UNIX_TIMESTAMP(SYSDATE(6)) * 1000000) AS CHAR)";

/// The conditions that rows of a table have to fulfil.
pub(super) const CHECKS: &str = "SELECT CHECK_CLAUSE FROM information_schema.CHECK_CONSTRAINTS WHERE CONSTRAINT_SCHEMA = ? AND TABLE_NAME = ? ORDER BY 1";

/// The names of a table's rules for values: one that goes with the declaration of a column has the column's. Whether it
/// is such a rule or one of the table only newer servers tell.
pub(super) const NAMED_CHECKS: &str = "SELECT CONSTRAINT_NAME FROM information_schema.CHECK_CONSTRAINTS WHERE CONSTRAINT_SCHEMA = ? AND TABLE_NAME = ?";

/// Every table of the database.
pub(super) const ALL_TABLES: &str = "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE = 'BASE TABLE' ORDER BY 1";

/// Accounts that can log in.
pub(super) const ACCOUNTS: &str = "SELECT CONCAT(User, '@', Host) FROM mysql.user WHERE User <> '' AND User NOT IN ('root', 'mariadb.sys', 'mysql') ORDER BY 1";

/// The table of a name: what it is, and what stores it.
pub(super) const TABLE: &str = "SELECT t.TABLE_SCHEMA, t.TABLE_NAME, t.TABLE_TYPE, t.TABLE_ROWS, t.ENGINE, e.TRANSACTIONS FROM information_schema.TABLES t \
    LEFT JOIN information_schema.ENGINES e ON e.ENGINE = t.ENGINE WHERE t.TABLE_SCHEMA = ? AND t.TABLE_NAME = ?";

/// The number under which InnoDB stores a table. It is told to those who may see all sessions.
pub(super) const TABLE_ID: &str = "SELECT CAST(TABLE_ID AS CHAR) FROM information_schema.INNODB_SYS_TABLES \
    WHERE NAME = CONVERT(CONCAT(CONVERT(? USING filename), '/', CONVERT(? USING filename)) USING utf8mb3)";

/// Tables of the database, and whether case tells names apart.
pub(super) const OTHER_TABLES: &str = "SELECT t.TABLE_NAME, @@lower_case_table_names = 0 FROM information_schema.TABLES t \
    WHERE t.TABLE_SCHEMA = ? AND t.TABLE_TYPE IN ('BASE TABLE', 'SYSTEM VERSIONED') ORDER BY t.TABLE_NAME";

/// Triggers of a table, and how the server prints them.
pub(super) const TRIGGERS: &str = "SELECT TRIGGER_NAME, EVENT_MANIPULATION, CONCAT(ACTION_TIMING, ' ', EVENT_MANIPULATION, ' ', ACTION_STATEMENT) \
    FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = ? AND EVENT_OBJECT_TABLE = ? ORDER BY 1";

/// The columns of a table.
pub(super) const COLUMNS: &str = "SELECT COLUMN_NAME, DATA_TYPE, COLUMN_TYPE, IS_NULLABLE, COLUMN_DEFAULT, EXTRA, COLLATION_NAME, DATETIME_PRECISION, GENERATION_EXPRESSION, COLUMN_COMMENT \
    FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? ORDER BY ORDINAL_POSITION";

/// The key and the unique indexes of a table.
pub(super) const UNIQUE: &str = "SELECT INDEX_NAME, COLUMN_NAME, SUB_PART FROM information_schema.STATISTICS \
    WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND NON_UNIQUE = 0 ORDER BY INDEX_NAME, SEQ_IN_INDEX";

/// Who refers to a table, and by what.
pub(super) const REFERRED_BY: &str = "SELECT CONSTRAINT_NAME, TABLE_SCHEMA, TABLE_NAME, COLUMN_NAME, REFERENCED_COLUMN_NAME \
    FROM information_schema.KEY_COLUMN_USAGE WHERE REFERENCED_TABLE_SCHEMA = ? AND REFERENCED_TABLE_NAME = ? \
    ORDER BY TABLE_SCHEMA, TABLE_NAME, CONSTRAINT_NAME, ORDINAL_POSITION";

/// The foreign keys of a table.
pub(super) const REFERENCES: &str = "SELECT CONSTRAINT_NAME, COLUMN_NAME, REFERENCED_TABLE_NAME, REFERENCED_COLUMN_NAME, REFERENCED_TABLE_SCHEMA \
    FROM information_schema.KEY_COLUMN_USAGE WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? \
    AND REFERENCED_TABLE_NAME IS NOT NULL ORDER BY CONSTRAINT_NAME, ORDINAL_POSITION";

/// What was applied last of each domain, as of the snapshot of the session.
pub(super) const APPLIED_AT_SNAPSHOT: &str = "SELECT domain_id, server_id, seq_no FROM mysql.gtid_slave_pos AS p \
    WHERE sub_id = (SELECT MAX(q.sub_id) FROM mysql.gtid_slave_pos AS q WHERE q.domain_id = p.domain_id)";

/// The storage engines of the tables that keep what was applied.
pub(super) const POSITION_ENGINES: &str = "SELECT DISTINCT ENGINE FROM information_schema.TABLES \
    WHERE TABLE_SCHEMA = 'mysql' AND (TABLE_NAME = 'gtid_slave_pos' OR TABLE_NAME LIKE 'gtid\\_slave\\_pos\\_%')";

/// Databases beside that of the session and the server's own.
pub(super) const OTHER_DATABASES: &str = "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME <> DATABASE() \
    AND SCHEMA_NAME NOT IN ('mysql', 'information_schema', 'performance_schema', 'sys') ORDER BY 1";
