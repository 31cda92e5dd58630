//! The shape of a table, from SQLite's own catalogue.

use super::queries;
use std::path::Path;

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::row::schema::{
    self, Beside, ColumnShape, Family, Reference, StoredTable, TableShape, Trigger,
};
use rusqlite::{Connection, OptionalExtension as _};

use super::{fault, quoted};

/// How a file stores text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Encoding {
    /// As UTF-8.
    Utf8,
    /// As UTF-16, little end first.
    Utf16Le,
    /// As UTF-16, big end first.
    Utf16Be,
}

impl Encoding {
    pub(super) fn from_name(name: &str) -> Self {
        match name {
            "UTF-16le" => Self::Utf16Le,
            "UTF-16be" => Self::Utf16Be,
            _ => Self::Utf8,
        }
    }

    /// The name SQLite gives it.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Utf8 => "UTF-8",
            Self::Utf16Le => "UTF-16le",
            Self::Utf16Be => "UTF-16be",
        }
    }
}

/// Details for reading a table, beyond its shape.
#[derive(Debug)]
pub(super) struct SqliteLayout {
    /// The name as the schema spells it.
    pub(super) name: String,
    /// Key columns in key order.
    pub(super) key: Vec<String>,
    /// Key columns that may hold NULL, in which case the key identifies nothing.
    pub(super) nullable_key: Vec<String>,
    /// A name by which the rowid can be had.
    rowid: Option<&'static str>,
}

/// The names of the rowid, for a table in which no column took them all.
pub(super) const ROWID_NAMES: [&str; 3] = ["_rowid_", "rowid", "oid"];

/// The tables of the file that none of these names means.
pub(super) fn others(
    connection: &Connection,
    path: &Path,
    named: &[String],
) -> Result<Vec<String>, ReadFault> {
    let explain = |error| fault::explain(path, "list its tables", &error);
    let sql = queries::TABLES;
    let mut tables = connection.prepare(sql).map_err(explain)?;
    let tables = tables.query_map([], |row| row.get::<_, String>(0)).map_err(explain)?;
    let tables = tables.collect::<rusqlite::Result<Vec<String>>>().map_err(explain)?;
    let other = |table: &String| !named.iter().any(|name| name.eq_ignore_ascii_case(table));
    Ok(tables.into_iter().filter(other).collect())
}

pub(super) fn look(
    connection: &Connection,
    path: &Path,
    table: &str,
    encoding: Encoding,
) -> Result<(TableShape, SqliteLayout), ReadFault> {
    let shown = path.display();
    let explain = |error| fault::explain(path, &format!("inspect table {table}"), &error);
    let found =
        connection
            .query_row(queries::TABLE, [table], |row| {
                Ok((
                    row.get::<_, String>(0)?,
                    row.get::<_, String>(1)?,
                    row.get::<_, bool>(2)?,
                    row.get::<_, bool>(3)?,
                ))
            })
            .map(Some)
            .or_else(|error| {
                if error == rusqlite::Error::QueryReturnedNoRows { Ok(None) } else { Err(error) }
            })
            .map_err(explain)?;
    let Some((name, kind, without_rowid, strict)) = found else {
        return Err(ReadFault::new(
            format!("{shown} has no table {table}"),
            "create it, correct the set, or give its name there under [node.NAME.names]",
        )
        .of(FaultKind::NoTable));
    };
    match kind.as_str() {
        "table" => {}
        "view" => {
            return Err(ReadFault::new(
                format!("{name} in {shown} is a view"),
                "name the tables it reads from; a view holds no rows of its own",
            )
            .of(FaultKind::NoTable));
        }
        other => {
            return Err(ReadFault::new(
                format!("{name} in {shown} is a {other} table"),
                "name an ordinary table; its module decides what such a table holds",
            )
            .of(FaultKind::NoTable));
        }
    }
    describe(connection, name, without_rowid, strict, encoding).map_err(explain)
}

fn describe(
    connection: &Connection,
    name: String,
    without_rowid: bool,
    strict: bool,
    encoding: Encoding,
) -> rusqlite::Result<(TableShape, SqliteLayout)> {
    let name_of_table = &name;
    let mut statement = connection.prepare(queries::COLUMNS)?;
    let mut key: Vec<(i64, String)> = Vec::new();
    let mut columns = Vec::new();
    let mut rows = statement.query([&name])?;
    while let Some(row) = rows.next()? {
        let declared: String = row.get(1)?;
        let not_null: bool = row.get(2)?;
        let generated = row.get::<_, i64>(5)? >= 2;
        let column = ColumnShape {
            name: row.get(0)?,
            family: family(&declared, strict),
            declared,
            not_null,
            optional: !not_null || generated || row.get_ref(3)? != rusqlite::types::ValueRef::Null,
            generated,
            default: row.get(3)?,
            ..ColumnShape::default()
        };
        let place: i64 = row.get(4)?;
        if place > 0 {
            key.push((place, column.name.clone()));
        }
        columns.push(column);
    }
    key.sort();
    let mut key: Vec<String> = key.into_iter().map(|(_, name)| name).collect();
    let unique = unique_keys(connection, name_of_table)?;
    if key.is_empty() {
        let strict = |list: &Vec<String>| {
            list.iter().all(|name| columns.iter().any(|c| c.name == *name && c.not_null))
        };
        let whole = unique.iter().filter(|(_, partial)| !partial).map(|(list, _)| list);
        key = schema::unique_as_key(whole.filter(|list| strict(list)));
    }
    let unordered = other_collation(connection, name_of_table, &key)?;
    let taken = |name: &str| columns.iter().any(|c| c.name.eq_ignore_ascii_case(name));
    let rowid = ROWID_NAMES.into_iter().find(|name| !without_rowid && !taken(name));
    let is_rowid = |column: &ColumnShape| {
        !without_rowid
            && key.len() == 1
            && column.name == key[0]
            && column.declared.eq_ignore_ascii_case("INTEGER")
    };
    let sql: String = connection.query_row(queries::DECLARED, [name_of_table], |row| row.get(0))?;
    let counts = sql.to_ascii_uppercase().contains("AUTOINCREMENT");
    for column in &mut columns {
        if is_rowid(column) {
            column.optional = true;
            column.counted = counts;
        }
    }
    let rowid_key = columns.iter().any(is_rowid);
    let nullable_key = columns
        .iter()
        .filter(|c| key.contains(&c.name) && !c.not_null && !without_rowid && !is_rowid(c))
        .map(|c| c.name.clone())
        .collect();
    let firing = triggers(connection, &name)?;
    let parts = connection.query_row(queries::PARTS, [&name], |row| row.get(0)).optional()?;
    let shape = TableShape {
        stored: Beside(StoredTable { parts, ..StoredTable::default() }),
        heirs: Vec::new(),
        // Its own check of references knows them.
        referred_by: Vec::new(),
        unique_in_part: unique
            .iter()
            .filter(|(_, part)| *part)
            .map(|(list, _)| list.clone())
            .collect(),
        unique: unique.into_iter().map(|(list, _)| list).filter(|list| *list != key).collect(),
        references: references(connection, &name)?,
        triggers: firing.iter().map(|trigger| trigger.name.clone()).collect(),
        firing,
        firing_unseen: None,
        not_transactional: None,
        untouchable: None,
        columns,
        key: key.clone(),
        key_prefixes: std::collections::BTreeMap::new(),
        qualified: Vec::new(),
        unordered: unordered.or_else(|| {
            let otherwise = encoding != Encoding::Utf8 && !rowid_key;
            otherwise.then(|| format!("text is stored as {} and sorts by it", encoding.name()))
        }),
    };
    Ok((shape, SqliteLayout { name, key, nullable_key, rowid }))
}

/// The family that SQLite turns written values into: its affinity, by the rules of "Datatypes In SQLite", section 3.1.
#[must_use]
pub fn family(declared: &str, strict: bool) -> Family {
    let declared = declared.to_ascii_uppercase();
    let has = |parts: &[&str]| parts.iter().any(|part| declared.contains(part));
    if strict && declared == "ANY" {
        Family::Any
    } else if has(&["INT"]) {
        Family::Integer
    } else if has(&["CHAR", "CLOB", "TEXT"]) {
        Family::Text
    } else if declared.is_empty() || has(&["BLOB"]) {
        Family::Any
    } else if has(&["REAL", "FLOA", "DOUB"]) {
        Family::Real
    } else {
        Family::Numeric
    }
}

/// The unique keys beside the primary one, and whether each covers only some of the rows.
fn unique_keys(connection: &Connection, table: &str) -> rusqlite::Result<Vec<(Vec<String>, bool)>> {
    let mut statement = connection.prepare(queries::UNIQUE)?;
    let indexes: Vec<(String, bool)> = statement
        .query_map([table], |row| Ok((row.get(0)?, row.get(1)?)))?
        .collect::<Result<_, _>>()?;
    let mut columns = connection.prepare(queries::INDEX_COLUMNS)?;
    let mut keys = Vec::new();
    for (index, partial) in indexes {
        let names: Vec<Option<String>> =
            columns.query_map([&index], |row| row.get(0))?.collect::<Result<_, _>>()?;
        // An index over an expression has a column without a name.
        if let Some(names) = names.into_iter().collect::<Option<Vec<_>>>() {
            keys.push((names, partial));
        }
    }
    Ok(keys)
}

/// The collation that an index on the key sorts by, where that is not by bytes.
fn other_collation(
    connection: &Connection,
    table: &str,
    key: &[String],
) -> rusqlite::Result<Option<String>> {
    let mut statement = connection.prepare(queries::INDEXES)?;
    let mut rows = statement.query([table])?;
    while let Some(row) = rows.next()? {
        let columns: Option<String> = row.get(1)?;
        let collation: Option<String> = row.get(2)?;
        if columns.is_some_and(|columns| columns == key.join("\0"))
            && let Some(collation) = collation
        {
            return Ok(Some(format!("its index sorts by collation {collation}")));
        }
    }
    Ok(None)
}

pub(super) fn references(connection: &Connection, table: &str) -> rusqlite::Result<Vec<Reference>> {
    let mut statement = connection.prepare(queries::REFERENCES)?;
    let mut rows = statement.query([table])?;
    let mut found: Vec<(i64, Reference)> = Vec::new();
    while let Some(row) = rows.next()? {
        let id: i64 = row.get(0)?;
        if found.last().is_none_or(|(last, _)| *last != id) {
            found.push((id, Reference { table: row.get(1)?, ..Reference::default() }));
        }
        if let Some((_, reference)) = found.last_mut() {
            reference.columns.push(row.get(2)?);
            reference.to.extend(row.get::<_, Option<String>>(3)?);
        }
    }
    let mut references: Vec<Reference> =
        found.into_iter().map(|(_, reference)| reference).collect();
    let mut key = connection.prepare(queries::KEY)?;
    for reference in references.iter_mut().filter(|reference| reference.to.is_empty()) {
        // Without named columns the parent's key is meant.
        reference.to =
            key.query_map([&reference.table], |row| row.get(0))?.collect::<Result<_, _>>()?;
    }
    Ok(references)
}

fn triggers(connection: &Connection, table: &str) -> rusqlite::Result<Vec<Trigger>> {
    let mut statement = connection.prepare(queries::TRIGGERS)?;
    let trigger = |row: &rusqlite::Row<'_>| {
        let (name, text): (String, String) = (row.get(0)?, row.get(1)?);
        // What it fires on stands before what it does; a name that is such a word only adds to it.
        let upper = text.to_ascii_uppercase();
        let head = upper.split_once("BEGIN").map_or(&upper[..], |(head, _)| head);
        let on = ["insert", "update", "delete"].into_iter();
        let on = on.filter(|on| head.contains(&on.to_ascii_uppercase()));
        Ok(Trigger { name, on: on.map(str::to_owned).collect(), text })
    };
    statement.query_map([table], trigger)?.collect()
}

/// About how many rows, without counting them.
pub(super) fn estimate(connection: &Connection, local: &SqliteLayout) -> Option<u64> {
    let rowid = local.rowid?;
    let table = quoted(&local.name);
    let span: Option<i64> = connection
        .query_row(
            &format!(
                "SELECT (SELECT max({rowid}) FROM {table}) - (SELECT min({rowid}) FROM {table}) + 1"
            ),
            [],
            |row| row.get(0),
        )
        .ok()?;
    u64::try_from(span.unwrap_or(0)).ok()
}

/// The least and the greatest key, if both are whole numbers.
pub(super) fn bounds(connection: &Connection, local: &SqliteLayout) -> Option<(i64, i64)> {
    let (table, column) = (quoted(&local.name), quoted(local.key.first()?));
    let sql =
        format!("SELECT (SELECT min({column}) FROM {table}), (SELECT max({column}) FROM {table})");
    connection.query_row(&sql, [], |row| Ok((row.get(0)?, row.get(1)?))).ok()
}
