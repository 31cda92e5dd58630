//! The shape of a table, from PostgreSQL's catalogue.

use std::collections::BTreeMap;
use tokio_postgres::Row;

use super::queries;
use keen_core::fault::{FaultKind, ReadFault};
use keen_core::row::schema::{
    self, Beside, ColumnShape, Reference, StoredCollation, StoredTable, TableShape, Trigger,
};

use super::connect::PostgresSession;
use super::types::{Codec, Types};
use super::{own_types, quoted};

/// Details for reading a table, beyond its shape.
#[derive(Debug)]
pub(super) struct PostgresLayout {
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

/// The tables that none of these names means.
pub(super) fn others(
    session: &PostgresSession,
    named: &[String],
) -> Result<Vec<String>, ReadFault> {
    let rows = session.rows("list its tables", queries::OTHER_TABLES, &[&named])?;
    Ok(rows.iter().map(|row| row.get(0)).collect())
}

pub(super) fn look(
    session: &PostgresSession,
    types: &Types,
    table: &str,
) -> Result<(TableShape, PostgresLayout), ReadFault> {
    let doing = format!("inspect table {table}");
    let row = find(session, &doing, table)?;
    readable(session, &row)?;
    let (oid, schema, name, kind): (u32, &str, &str, &str) =
        (row.get(0), row.get(1), row.get(2), row.get(3));
    let full = format!("{}.{}", quoted(schema), quoted(name));
    let described = columns(session, types, (oid, table, &full))?;
    let ReadColumns { columns, local, collations, stored } = described;
    let (key, unique, unique_in_part) = keys(session, &doing, oid, &columns)?;
    let references = session.rows(&doing, queries::REFERENCES, &[&oid])?;
    let referred_by = session.rows(&doing, queries::REFERRED_BY, &[&oid])?;
    let triggers = session.rows(&doing, queries::TRIGGERS, &[&oid])?;
    let unordered = key.iter().find_map(|name| {
        let at = columns.iter().position(|column| column.name == *name)?;
        sorts_otherwise(&local[at].codec, &collations[at], name)
    });
    // Partitions are the table; heirs are tables of their own, whose rows a plain name would bring along.
    let heirs = match kind == "r" && row.get(4) {
        true => session.rows(&doing, queries::HEIRS, &[&oid])?,
        false => Vec::new(),
    };
    let shape = TableShape {
        stored: Beside(StoredTable { parts: row.get(7), collations: stored }),
        columns,
        key: key.clone(),
        unique,
        unique_in_part,
        referred_by: referred_by.iter().map(reference).collect(),
        references: references.iter().map(reference).collect(),
        triggers: triggers.iter().map(|row| row.get(0)).collect(),
        // Scripts write as replication does: what fires then, fires for them.
        firing: triggers.iter().filter(|row| row.get(1)).map(trigger).collect(),
        unordered,
        qualified: vec![schema.to_owned(), name.to_owned()],
        heirs: heirs.iter().map(|row| row.get(0)).collect(),
        ..TableShape::default()
    };
    let full = if kind == "r" { format!("ONLY {full}") } else { full };
    Ok((shape, PostgresLayout { oid, name: full, key, columns: local }))
}

/// The table, or whatever else has its name.
fn find(session: &PostgresSession, doing: &str, table: &str) -> Result<Row, ReadFault> {
    let mut found = session.rows(
        doing,
        &format!("{} AND c.relname = $1 AND pg_table_is_visible(c.oid)", queries::TABLE),
        &[&table],
    )?;
    if found.is_empty()
        && let Some((schema, name)) = table.split_once('.')
    {
        let sql = format!("{} AND n.nspname = $1 AND c.relname = $2", queries::TABLE);
        found = session.rows(doing, &sql, &[&schema, &name])?;
    }
    found.into_iter().next().ok_or_else(|| {
        let access = session.access();
        ReadFault::new(
            format!("{} has no table {table} in {}", access.shown(), access.server.database),
            "create it, correct the set, or give its name there under [node.NAME.names], with its schema",
        )
        .of(FaultKind::NoTable)
    })
}

/// Refuses what holds no rows that replicate, and what the account may not read.
fn readable(session: &PostgresSession, row: &Row) -> Result<(), ReadFault> {
    let (schema, name, kind): (&str, &str, &str) = (row.get(1), row.get(2), row.get(3));
    let shown = session.access().shown();
    let user = &session.access().server.user;
    let full = format!("{}.{}", quoted(schema), quoted(name));
    let (what, advice) = match kind {
        "r" | "p" => {
            return match (row.get(5), row.get(6)) {
                (true, true) => Ok(()),
                (false, _) => Err(ReadFault::new(
                    format!("{user} may not use schema {schema} on {shown}"),
                    format!("GRANT USAGE ON SCHEMA {} TO {}", quoted(schema), quoted(user)),
                )
                .of(FaultKind::NotAllowed)),
                (true, false) => Err(ReadFault::new(
                    format!("{user} may not read table {name} on {shown}"),
                    format!("GRANT SELECT ON {full} TO {}", quoted(user)),
                )
                .of(FaultKind::NotAllowed)),
            };
        }
        "S" => {
            ("sequence", "remove it from the set: a sequence holds no rows and does not replicate")
        }
        "v" => ("view", "name the tables it reads from; a view holds no rows that replicate"),
        "m" => (
            "materialized view",
            "name the tables it reads from; a view holds no rows that replicate",
        ),
        _ => ("foreign table", "name the table on the server that holds its rows"),
    };
    Err(ReadFault::new(format!("{name} on {shown} is a {what}"), advice).of(FaultKind::NoTable))
}

/// The columns of a table: their shapes, how they are read, and how they sort.
struct ReadColumns {
    columns: Vec<ColumnShape>,
    local: Vec<LocalColumn>,
    /// Column by column, as far as it says whether the server sorts by bytes.
    collations: Vec<String>,
    stored: BTreeMap<String, StoredCollation>,
}

fn columns(
    session: &PostgresSession,
    types: &Types,
    (oid, table, full): (u32, &str, &str),
) -> Result<ReadColumns, ReadFault> {
    let shown = session.access().shown();
    let user = &session.access().server.user;
    let mut described = ReadColumns {
        columns: Vec::new(),
        local: Vec::new(),
        collations: Vec::new(),
        stored: BTreeMap::new(),
    };
    for row in session.rows(&format!("inspect table {table}"), queries::COLUMNS, &[&oid])? {
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
        described.columns.push(ColumnShape {
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
            says_more: Beside(false),
            labels: row.get::<_, Option<Vec<String>>>(13).unwrap_or_default(),
            own_types,
        });
        described.collations.push(row.get(6));
        if let Some(collation) = row.get::<_, Option<String>>(15) {
            let collation = StoredCollation { name: collation, version: row.get(16) };
            described.stored.insert(name.clone(), collation);
        }
        described.local.push(LocalColumn { name, codec, is_money });
    }
    Ok(described)
}

fn reference(row: &Row) -> Reference {
    Reference {
        table: row.get(0),
        place: row.get(1),
        columns: row.get(2),
        to: row.get(3),
        unlogged: false,
    }
}

fn trigger(row: &Row) -> Trigger {
    let on = [(2, "insert"), (3, "update"), (4, "delete")];
    let on = on.into_iter().filter(|(at, _)| row.get::<usize, bool>(*at));
    Trigger { name: row.get(0), on: on.map(|(_, on)| on.to_owned()).collect(), text: row.get(5) }
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
type TableKeys = (Vec<String>, Vec<Vec<String>>, Vec<Vec<String>>);

fn keys(
    session: &PostgresSession,
    doing: &str,
    oid: u32,
    columns: &[ColumnShape],
) -> Result<TableKeys, ReadFault> {
    let mut key = Vec::new();
    let mut unique: Vec<(Vec<String>, bool)> = Vec::new();
    for row in session.rows(doing, queries::UNIQUE, &[&oid])? {
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
pub(super) fn estimate(session: &PostgresSession, local: &PostgresLayout) -> Option<u64> {
    let sql = queries::ESTIMATE;
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
pub(super) fn bounds(session: &PostgresSession, local: &PostgresLayout) -> Option<(i64, i64)> {
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
