//! The shape of a table, from PostgreSQL's catalogue.

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::row::schema::{self, ColumnShape, Reference, TableShape, Trigger};

use super::connect::Session;
use super::types::{Codec, Types};
use super::{own_types, quoted};

/// What reading a table takes, beyond its shape.
#[derive(Debug)]
pub(super) struct Local {
    oid: u32,
    /// Schema and name, quoted, as a query reads from it: the rows of tables that inherit from it are not its.
    pub(super) name: String,
    pub(super) key: Vec<String>,
    pub(super) columns: Vec<LocalColumn>,
}

#[derive(Debug)]
pub(super) struct LocalColumn {
    pub(super) name: String,
    pub(super) codec: Codec,
    pub(super) is_money: bool,
}

const FIND: &str = "SELECT c.oid, n.nspname::text, c.relname::text, c.relkind::text, c.relhassubclass, \
    has_schema_privilege(n.oid, 'USAGE'), has_table_privilege(c.oid, 'SELECT') OR has_any_column_privilege(c.oid, 'SELECT') \
    FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f', 'S')";

const COLUMNS: &str = "SELECT a.attname::text, a.atttypid, format_type(a.atttypid, a.atttypmod), a.attnotnull, \
    a.atthasdef OR a.attidentity <> '', a.attgenerated <> '', \
    coalesce(CASE WHEN l.collname = 'default' THEN (SELECT CASE d.datlocprovider WHEN 'c' THEN d.datcollate WHEN 'b' THEN 'C' ELSE 'a locale' END \
        FROM pg_database d WHERE d.datname = current_database()) \
        WHEN l.collprovider = 'b' THEN 'C' WHEN l.collprovider = 'c' THEN l.collcollate ELSE 'collation ' || l.collname END, ''), \
    CASE WHEN b.typname IN ('time', 'timestamp', 'timestamptz') AND a.atttypmod >= 0 THEN a.atttypmod::int2 END, \
    has_column_privilege(a.attrelid, a.attnum, 'SELECT'), a.attnum, \
    (SELECT pg_get_expr(f.adbin, f.adrelid) FROM pg_attrdef f WHERE f.adrelid = a.attrelid AND f.adnum = a.attnum), \
    CASE WHEN a.attcollation <> t.typcollation THEN l.collname::text END, a.attidentity <> '', \
    (SELECT array_agg(e.enumlabel::text ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = t.oid), \
    CASE WHEN a.attcollation <> t.typcollation THEN a.attcollation END \
    FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid \
    JOIN pg_type b ON b.oid = CASE WHEN t.typbasetype <> 0 THEN t.typbasetype ELSE t.oid END \
    LEFT JOIN pg_collation l ON l.oid = a.attcollation \
    WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum";

const KEYS: &str = "SELECT i.indisprimary, i.indpred IS NOT NULL, \
    (SELECT array_agg(coalesce(a.attname::text, '') ORDER BY k.place) FROM unnest(i.indkey::int2[]) WITH ORDINALITY AS k (number, place) \
     LEFT JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.number AND k.number > 0 WHERE k.place <= i.indnkeyatts) \
    FROM pg_index i WHERE i.indrelid = $1 AND i.indisunique AND i.indisvalid AND i.indimmediate ORDER BY i.indexrelid";

const REFERENCES: &str = "SELECT p.relname::text, p.oid::regclass::text, \
    (SELECT array_agg(a.attname::text ORDER BY k.place) FROM unnest(f.conkey) WITH ORDINALITY AS k (number, place) \
     JOIN pg_attribute a ON a.attrelid = f.conrelid AND a.attnum = k.number), \
    (SELECT array_agg(a.attname::text ORDER BY k.place) FROM unnest(f.confkey) WITH ORDINALITY AS k (number, place) \
     JOIN pg_attribute a ON a.attrelid = f.confrelid AND a.attnum = k.number) \
    FROM pg_constraint f JOIN pg_class p ON p.oid = f.confrelid WHERE f.conrelid = $1 AND f.contype = 'f' ORDER BY f.oid";

/// Who refers to a table, and by what.
const REFERRED_BY: &str = "SELECT p.relname::text, p.oid::regclass::text, \
    (SELECT array_agg(a.attname::text ORDER BY k.place) FROM unnest(f.conkey) WITH ORDINALITY AS k (number, place) \
     JOIN pg_attribute a ON a.attrelid = f.conrelid AND a.attnum = k.number), \
    (SELECT array_agg(a.attname::text ORDER BY k.place) FROM unnest(f.confkey) WITH ORDINALITY AS k (number, place) \
     JOIN pg_attribute a ON a.attrelid = f.confrelid AND a.attnum = k.number) \
    FROM pg_constraint f JOIN pg_class p ON p.oid = f.conrelid WHERE f.confrelid = $1 AND f.contype = 'f' AND f.conparentid = 0 ORDER BY f.oid";

/// Tables of all that is not the server's, an extension's or a session's own: none of which a name means, and that are
/// no part of one that a name means.
const OTHERS: &str = "SELECT * FROM (WITH RECURSIVE own AS ( \
    SELECT c.oid, n.nspname, c.relname, pg_table_is_visible(c.oid) AS visible FROM pg_class c \
    JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p') AND c.relpersistence <> 't' \
    AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\\_toast%' \
    AND c.relname <> 'keen_probe' AND c.relname NOT LIKE 'keen\\_lab\\_%' \
    AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.deptype = 'e')), \
    meant AS (SELECT oid FROM own WHERE (visible AND relname = ANY ($1)) OR nspname || '.' || relname = ANY ($1) \
    UNION SELECT i.inhrelid FROM pg_inherits i JOIN meant m ON m.oid = i.inhparent JOIN pg_class c ON c.oid = i.inhrelid WHERE c.relispartition) \
    SELECT CASE WHEN o.visible THEN o.relname::text ELSE o.nspname || '.' || o.relname END FROM own o \
    WHERE o.oid NOT IN (SELECT oid FROM meant) AND NOT EXISTS (SELECT 1 FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid \
    WHERE i.inhrelid = o.oid AND c.relispartition)) q ORDER BY 1";

/// The tables that none of these names means.
pub(super) fn others(session: &Session, named: &[String]) -> Result<Vec<String>, ReadFault> {
    let rows = session.rows("list its tables", OTHERS, &[&named])?;
    Ok(rows.iter().map(|row| row.get(0)).collect())
}

pub(super) fn look(
    session: &Session,
    types: &Types,
    table: &str,
) -> Result<(TableShape, Local), ReadFault> {
    let doing = format!("look at table {table}");
    let shown = session.access().shown();
    let user = &session.access().server.user;
    let mut found = session.rows(
        &doing,
        &format!("{FIND} AND c.relname = $1 AND pg_table_is_visible(c.oid)"),
        &[&table],
    )?;
    if found.is_empty()
        && let Some((schema, name)) = table.split_once('.')
    {
        let sql = format!("{FIND} AND n.nspname = $1 AND c.relname = $2");
        found = session.rows(&doing, &sql, &[&schema, &name])?;
    }
    let Some(row) = found.first() else {
        return Err(ReadFault::new(
            format!("{shown} has no table {table} in {}", session.access().server.database),
            "create it, correct the set, or say under [node.NAME.names] what it is called there, with its schema",
        )
        .of(FaultKind::NoTable));
    };
    let (oid, schema, name, kind): (u32, &str, &str, &str) =
        (row.get(0), row.get(1), row.get(2), row.get(3));
    let has_children: bool = row.get(4);
    let full = format!("{}.{}", quoted(schema), quoted(name));
    match kind {
        "r" | "p" => {}
        "S" => {
            return Err(ReadFault::new(
                format!("{name} on {shown} is a sequence"),
                "take it out of the set: a sequence holds no rows, and does not replicate",
            )
            .of(FaultKind::NoTable));
        }
        "v" | "m" => {
            let what = if kind == "v" { "view" } else { "materialized view" };
            return Err(ReadFault::new(
                format!("{name} on {shown} is a {what}"),
                "name the tables it reads from; a view holds no rows that replicate",
            )
            .of(FaultKind::NoTable));
        }
        _ => {
            return Err(ReadFault::new(
                format!("{name} on {shown} is a foreign table"),
                "name the table on the server that holds its rows",
            )
            .of(FaultKind::NoTable));
        }
    }
    if !row.get::<_, bool>(5) {
        return Err(ReadFault::new(
            format!("{user} may not use schema {schema} on {shown}"),
            format!("GRANT USAGE ON SCHEMA {} TO {}", quoted(schema), quoted(user)),
        )
        .of(FaultKind::NotAllowed));
    }
    if !row.get::<_, bool>(6) {
        return Err(ReadFault::new(
            format!("{user} may not read table {name} on {shown}"),
            format!("GRANT SELECT ON {full} TO {}", quoted(user)),
        )
        .of(FaultKind::NotAllowed));
    }

    let rows = session.rows(&doing, COLUMNS, &[&oid])?;
    let mut columns = Vec::new();
    let mut local = Vec::new();
    let mut collations: Vec<String> = Vec::new();
    for row in &rows {
        let (name, type_oid, declared): (String, u32, String) =
            (row.get(0), row.get(1), row.get(2));
        if !row.get::<_, bool>(8) {
            return Err(ReadFault::new(
                format!("{user} may not read column {name} of table {table} on {shown}"),
                format!(
                    "GRANT SELECT ON {full} TO {}, or leave the column out of the set",
                    quoted(user)
                ),
            ));
        }
        let codec = match types.codec(type_oid) {
            // Without a length the blanks at its end are kept, and shown.
            Codec::Padded if declared == "bpchar" => Codec::Text,
            codec => codec,
        };
        let own_types = own_types::needed(session, type_oid, row.get(14))?;
        let is_money = declared == "money";
        let expression: Option<String> = row.get(10);
        let (not_null, has_default, generated): (bool, bool, bool) =
            (row.get(3), row.get(4), row.get(5));
        columns.push(ColumnShape {
            name: name.clone(),
            family: codec.family(is_money),
            declared,
            not_null,
            optional: !not_null || has_default || generated,
            generated,
            fraction: row.get::<_, Option<i16>>(7).and_then(|digits| u8::try_from(digits).ok()),
            counted: row.get::<_, bool>(12)
                || expression.as_ref().is_some_and(|text| text.starts_with("nextval(")),
            default: expression.clone().filter(|_| !generated),
            expression: expression.filter(|_| generated),
            collation: row.get(11),
            bumped: false,
            labels: row.get::<_, Option<Vec<String>>>(13).unwrap_or_default(),
            own_types,
        });
        collations.push(row.get(6));
        local.push(LocalColumn { name, codec, is_money });
    }

    let (key, unique, unique_in_part) = keys(session, &doing, oid, &columns)?;
    let references = session.rows(&doing, REFERENCES, &[&oid])?;
    let referred_by = session.rows(&doing, REFERRED_BY, &[&oid])?;
    let triggers = session.rows(
        &doing,
        "SELECT tgname::text, tgenabled::text IN ('A', 'R'), tgtype & 4 > 0, tgtype & 16 > 0, tgtype & 8 > 0, pg_get_triggerdef(oid) \
         FROM pg_trigger WHERE tgrelid = $1 AND NOT tgisinternal AND tgenabled <> 'D' ORDER BY 1",
        &[&oid],
    )?;
    // Scripts write as replication does: what fires then, fires for them.
    let firing = triggers.iter().filter(|row| row.get(1)).map(|row| {
        let on = [(2, "insert"), (3, "update"), (4, "delete")];
        let on = on.into_iter().filter(|(at, _)| row.get::<usize, bool>(*at));
        Trigger {
            name: row.get(0),
            on: on.map(|(_, on)| on.to_owned()).collect(),
            text: row.get(5),
        }
    });
    let firing = firing.collect();
    let unordered = key.iter().find_map(|name| {
        let at = columns.iter().position(|column| column.name == *name)?;
        sorts_otherwise(&local[at].codec, &collations[at], name)
    });
    // Partitions are the table; heirs are tables of their own, whose rows a plain name would bring along.
    let heirs = match kind == "r" && has_children {
        true => session.rows(
            &doing,
            "SELECT c.oid::regclass::text FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid WHERE i.inhparent = $1 ORDER BY 1",
            &[&oid],
        )?,
        false => Vec::new(),
    };
    let shape = TableShape {
        columns,
        key: key.clone(),
        key_prefixes: std::collections::BTreeMap::new(),
        unique,
        unique_in_part,
        referred_by: referred_by
            .iter()
            .map(|row| Reference {
                table: row.get(0),
                place: row.get(1),
                columns: row.get(2),
                to: row.get(3),
                unlogged: false,
            })
            .collect(),
        references: references
            .iter()
            .map(|row| Reference {
                table: row.get(0),
                place: row.get(1),
                columns: row.get(2),
                to: row.get(3),
                unlogged: false,
            })
            .collect(),
        triggers: triggers.iter().map(|row| row.get(0)).collect(),
        firing,
        firing_unseen: None,
        not_transactional: None,
        untouchable: None,
        unordered,
        qualified: vec![schema.to_owned(), name.to_owned()],
        heirs: heirs.iter().map(|row| row.get(0)).collect(),
    };
    let full = if kind == "r" { format!("ONLY {full}") } else { full };
    Ok((shape, Local { oid, name: full, key, columns: local }))
}

fn sorts_otherwise(codec: &Codec, collation: &str, column: &str) -> Option<String> {
    if codec.sorts_alike() {
        return None;
    }
    match codec {
        Codec::Text | Codec::Padded if matches!(collation, "C" | "POSIX") => None,
        Codec::Text | Codec::Padded if !collation.is_empty() => {
            Some(format!("key column {column} sorts by {collation}"))
        }
        _ => Some(format!("key column {column} has an order of its own")),
    }
}

/// The key, the other unique column lists, and which of those hold for some rows only.
type Keys = (Vec<String>, Vec<Vec<String>>, Vec<Vec<String>>);

fn keys(
    session: &Session,
    doing: &str,
    oid: u32,
    columns: &[ColumnShape],
) -> Result<Keys, ReadFault> {
    let mut key = Vec::new();
    let mut unique: Vec<(Vec<String>, bool)> = Vec::new();
    for row in session.rows(doing, KEYS, &[&oid])? {
        let (primary, partial, names): (bool, bool, Vec<String>) =
            (row.get(0), row.get(1), row.get(2));
        if names.iter().any(String::is_empty) {
            continue; // over an expression
        }
        if primary {
            key = names;
        } else {
            unique.push((names, partial));
        }
    }
    if key.is_empty() {
        let not_null = |name: &String| columns.iter().any(|c| c.name == *name && c.not_null);
        let strict = unique.iter().filter(|(list, partial)| !partial && list.iter().all(not_null));
        key = schema::unique_as_key(strict.map(|(list, _)| list));
    }
    let partial =
        unique.iter().filter(|(_, partial)| *partial).map(|(list, _)| list.clone()).collect();
    let unique = unique.into_iter().map(|(list, _)| list).filter(|list| *list != key).collect();
    Ok((key, unique, partial))
}

/// About how many rows, as the server last counted, partitions together.
pub(super) fn estimate(session: &Session, local: &Local) -> Option<u64> {
    let sql = "SELECT sum(greatest(c.reltuples, 0))::float8 FROM pg_class c WHERE c.oid = $1 \
               OR c.oid IN (SELECT relid FROM pg_partition_tree($1) WHERE isleaf)";
    let rows = session.rows("estimate the size of a table", sql, &[&local.oid]).ok()?;
    let estimate: Option<f64> = rows.first()?.get(0);
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "an estimate, never negative"
    )]
    estimate.map(|rows| rows as u64)
}

/// The least and the greatest key, if the first column of it is a whole number.
pub(super) fn bounds(session: &Session, local: &Local) -> Option<(i64, i64)> {
    let first = local.key.first()?;
    let column = local.columns.iter().find(|column| column.name == *first)?;
    if !matches!(column.codec, Codec::Int(_)) {
        return None;
    }
    let column = quoted(first);
    let sql = format!("SELECT min({column})::int8, max({column})::int8 FROM {}", local.name);
    let rows = session.rows("find the bounds of a key", &sql, &[]).ok()?;
    let row = rows.first()?;
    row.get::<_, Option<i64>>(0).zip(row.get::<_, Option<i64>>(1))
}
