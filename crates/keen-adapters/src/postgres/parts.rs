//! What is published and taken up, with a partitioned table in the place of its partitions where all of them are.
//!
//! A publication that does not say otherwise publishes the partitions of a table one by one, and a subscription
//! takes them up so; what a set names is the table.

/// Publication, schema and table, columns, and the condition on rows.
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
