//! Every question to a file's own catalogue, and to the stand-in's tables in it, in one place. Questions to other
//! tables are spelled where rows are read.

/// Every table but SQLite's own and the stand-in's.
pub(super) const ALL_TABLES: &str = "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' \
    AND name NOT LIKE 'keen\\_lab\\_%' ESCAPE '\\' ORDER BY name";

/// How far the stand-in's journal has come.
pub(super) const LAB_POSITION: &str = "SELECT coalesce(max(position), 0) FROM keen_lab_transaction";

/// By origin, how far the stand-in's journal has come.
pub(super) const LAB_ORIGINS: &str = "WITH RECURSIVE origins (origin) AS (SELECT min(origin) FROM keen_lab_transaction UNION ALL \
    SELECT (SELECT min(origin) FROM keen_lab_transaction WHERE origin > origins.origin) FROM origins WHERE origin IS NOT NULL) \
    SELECT origin, (SELECT max(origin_position) FROM keen_lab_transaction t WHERE t.origin = origins.origin) \
    FROM origins WHERE origin IS NOT NULL";

/// How many transactions of an origin the stand-in's journal has.
pub(super) const LAB_OWN_WRITES: &str =
    "SELECT count(*) FROM keen_lab_transaction WHERE origin = ?1";

/// When tables last changed, by the stand-in's journal.
pub(super) const LAB_LAST_CHANGES: &str = "SELECT c.table_name, max(c.position) FROM keen_lab_change c \
    WHERE c.position > (SELECT max(position) FROM keen_lab_transaction) - 1000 GROUP BY c.table_name";

/// How far a link of the stand-in has read its source.
pub(super) const LAB_READ_TO: &str = "SELECT read_to FROM keen_lab_link WHERE link = ?1";

/// Whether the file belongs to a stand-in network whose set-up can be changed.
pub(super) const LAB_IS_THERE: &str = "SELECT count(*) = 3 FROM sqlite_schema WHERE type = 'table' \
    AND name IN ('keen_lab_transaction', 'keen_lab_link', 'keen_lab_setting')";

/// A setting of a node of the stand-in.
pub(super) const LAB_SETTING: &str = "SELECT value FROM keen_lab_setting WHERE name = ?1";

/// Whether a link of the stand-in runs.
pub(super) const LAB_LINK_STATE: &str =
    "SELECT state FROM keen_lab_link WHERE link = CAST(?1 AS INTEGER)";

/// The node that a link of the stand-in comes from.
pub(super) const LAB_LINK_SOURCE: &str =
    "SELECT source FROM keen_lab_link WHERE link = CAST(?1 AS INTEGER)";

/// Where a node of the stand-in made its last write itself.
pub(super) const LAB_LAST_OWN_WRITE: &str =
    "SELECT CAST(max(origin_position) AS TEXT) FROM keen_lab_transaction WHERE origin = ?1";

/// Whether a node of the stand-in has a write of another.
pub(super) const LAB_HAS_WRITE: &str = "SELECT 'yes' FROM keen_lab_transaction WHERE origin = ?1 AND origin_position = CAST(?2 AS INTEGER) LIMIT 1";

/// Tables of the file.
pub(super) const TABLES: &str = "SELECT name FROM pragma_table_list WHERE schema = 'main' AND type = 'table' \
    AND name NOT LIKE 'sqlite!_%' ESCAPE '!' AND name NOT IN ('keen_probe', 'keen_mended') AND name NOT LIKE 'keen!_lab!_%' ESCAPE '!' ORDER BY name";

/// The table of a name, and what it is.
pub(super) const TABLE: &str =
    "SELECT name, type, wr, strict FROM pragma_table_list(?1) WHERE schema = 'main'";

/// The version of the file's schema and the first page of a table.
pub(super) const PARTS: &str = "SELECT (SELECT schema_version FROM pragma_schema_version) || '/' || rootpage FROM sqlite_schema WHERE type = 'table' AND name = ?1";

/// The columns of a table.
pub(super) const COLUMNS: &str = "SELECT name, type, \"notnull\", dflt_value, pk, hidden FROM pragma_table_xinfo(?1) ORDER BY cid";

/// How a table was declared.
pub(super) const DECLARED: &str =
    "SELECT sql FROM sqlite_schema WHERE type = 'table' AND name = ?1";

/// The unique indexes of a table.
pub(super) const UNIQUE: &str = "SELECT name, partial FROM pragma_index_list(?1) WHERE \"unique\" AND origin <> 'pk' ORDER BY name";

/// The columns of an index.
pub(super) const INDEX_COLUMNS: &str = "SELECT name FROM pragma_index_info(?1) ORDER BY seqno";

/// The indexes of a table by their columns, and collations that are not BINARY.
pub(super) const INDEXES: &str = "SELECT i.name, group_concat(x.name, char(0)), max(CASE WHEN x.coll <> 'BINARY' THEN x.coll END) \
    FROM (SELECT name FROM pragma_index_list(?1) WHERE \"unique\" AND NOT partial) AS i, \
    pragma_index_xinfo(i.name) AS x WHERE x.key GROUP BY i.name";

/// The foreign keys of a table.
pub(super) const REFERENCES: &str =
    "SELECT id, \"table\", \"from\", \"to\" FROM pragma_foreign_key_list(?1) ORDER BY id, seq";

/// The columns of a table's key, in order.
pub(super) const KEY: &str = "SELECT name FROM pragma_table_info(?1) WHERE pk > 0 ORDER BY pk";

/// Triggers of a table, and how they were declared.
pub(super) const TRIGGERS: &str = "SELECT name, coalesce(sql, '') FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ?1 COLLATE NOCASE ORDER BY name";

/// How many tables of the stand-in's journal there are.
pub(super) const LAB_JOURNAL_IS_THERE: &str = "SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name IN ('keen_lab_transaction', 'keen_lab_change')";

/// The transaction at a place of the stand-in's journal.
pub(super) const LAB_AT: &str =
    "SELECT origin || ' ' || origin_position FROM keen_lab_transaction WHERE position = ?1";

/// The stand-in's journal from a place on.
pub(super) const LAB_JOURNAL: &str = "SELECT t.position, t.origin, t.origin_position, t.made_at, c.number, c.table_name, c.kind, c.before, c.after \
    FROM keen_lab_transaction t LEFT JOIN keen_lab_change c USING (position) WHERE t.position > ?1 ORDER BY t.position, c.number";
