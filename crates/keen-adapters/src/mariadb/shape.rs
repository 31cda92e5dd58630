//! The shape of a table, from MariaDB's information schema.

use super::queries;
use std::collections::BTreeMap;

use keen_core::engine::service_tables;
use keen_core::fault::{FaultKind, ReadFault};
use keen_core::row::schema::{
    self, Beside, ColumnShape, Family, Reference, StoredCollation, StoredTable, TableShape, Trigger,
};
use mysql::Row;

use super::connect::MariaDbSession;
use super::decode::Take;
use super::quoted;

/// Details for reading a table, beyond its shape.
#[derive(Debug)]
pub(super) struct MariaDbLayout {
    /// Database and name, quoted.
    pub(super) name: String,
    pub(super) key: Vec<String>,
    pub(super) columns: Vec<(String, Take)>,
    pub(super) estimate: Option<u64>,
}

/// Database, name, kind, estimate of rows, storage engine, and whether that has transactions.
type FoundTable = (String, String, String, Option<u64>, Option<String>, Option<String>);

fn find(
    session: &mut MariaDbSession,
    doing: &str,
    schema: &str,
    name: &str,
) -> Result<Option<FoundTable>, ReadFault> {
    let found: Vec<FoundTable> = session.rows(doing, queries::TABLE, (schema, name))?;
    // The information schema does not mind the case of names; servers on most systems do.
    let exact = found.iter().position(|(_, found, ..)| found == name);
    Ok(exact.or((found.len() == 1).then_some(0)).map(|at| found[at].clone()))
}

/// The tables of the session's database that none of these names means.
pub(super) fn others(
    session: &mut MariaDbSession,
    named: &[String],
) -> Result<Vec<String>, ReadFault> {
    let database = session.access().server.database.clone();
    let found: Vec<(String, bool)> =
        session.rows("list its tables", queries::OTHER_TABLES, (&database,))?;
    let means = |named: &str, table: &str, exact: bool| {
        let own = named.split_once('.').filter(|(schema, _)| *schema == database);
        [Some(named), own.map(|(_, name)| name)].into_iter().flatten().any(|name| match exact {
            true => name == table,
            false => name.eq_ignore_ascii_case(table),
        })
    };
    let other = |(table, exact): &(String, bool)| {
        ![service_tables::TABLE, service_tables::MARKS].contains(&&table[..])
            && !table.starts_with("keen_lab_")
            && !named.iter().any(|name| means(name, table, *exact))
    };
    Ok(found.into_iter().filter(other).map(|(table, _)| table).collect())
}

pub(super) fn look(
    session: &mut MariaDbSession,
    table: &str,
) -> Result<(TableShape, MariaDbLayout), ReadFault> {
    let doing = format!("inspect table {table}");
    let access = session.access().clone();
    let (shown, user) = (access.shown(), &access.server.user);
    let mut found = find(session, &doing, &access.server.database, table)?;
    if found.is_none()
        && let Some((schema, name)) = table.split_once('.')
    {
        found = find(session, &doing, schema, name)?;
    }
    let Some((schema, name, kind, estimate, storage, transactions)) = found else {
        return Err(ReadFault::new(
            format!(
                "{shown} has no table {table} in {} that {user} may see",
                access.server.database
            ),
            format!(
                "create it, grant {user} SELECT on it (keen preflight prints the statement), correct the set, or give its name there under [node.NAME.names]"
            ),
        )
        .of(FaultKind::NoTable));
    };
    holds_rows(&kind, &name, &shown)?;
    let place = (schema.as_str(), name.as_str());
    let DeclaredColumns { columns, conversions, sorting, collations } =
        declared_columns(session, &doing, place, table)?;
    let stored = StoredTable { parts: parts(session, place), collations };
    let KeyColumns { key, key_prefixes, unique, unique_in_part, clustered } =
        keys(session, &doing, place, &columns)?;
    let unordered = if clustered {
        key.iter().find_map(|name| sorting.get(name).cloned())
    } else {
        Some("the key is not the primary key, by which rows are stored".to_owned())
    };
    let firing = triggers(session, &doing, place)?;
    let shape = TableShape {
        stored: Beside(stored),
        referred_by: referred_by(session, &doing, place)?,
        references: references(session, &doing, place)?,
        triggers: firing.iter().map(|trigger| trigger.name.clone()).collect(),
        firing_unseen: match session.may("TRIGGER", &schema, &name) {
            true => None,
            false => Some("the account lacks TRIGGER, without which none are shown".to_owned()),
        },
        firing,
        not_transactional: storage.filter(|_| transactions.as_deref() == Some("NO")),
        untouchable: session.in_a_cluster().then(|| {
            "is a member of a synchronous cluster (wsrep_on = ON), where no write can be kept on its node: keen plans nothing there yet".to_owned()
        }),
        columns,
        key: key.clone(),
        key_prefixes,
        unique,
        unique_in_part,
        unordered,
        qualified: vec![schema.clone(), name.clone()],
        heirs: Vec::new(),
    };
    let name = format!("{}.{}", quoted(&schema), quoted(&name));
    Ok((shape, MariaDbLayout { name, key, columns: conversions, estimate }))
}

/// The columns of a table.
#[derive(Default)]
struct DeclaredColumns {
    columns: Vec<ColumnShape>,
    /// By name how their values are read.
    conversions: Vec<(String, Take)>,
    /// Why the server sorts a column in another order than keen does.
    sorting: BTreeMap<String, String>,
    collations: BTreeMap<String, StoredCollation>,
}

fn declared_columns(
    session: &mut MariaDbSession,
    doing: &str,
    place: (&str, &str),
    table: &str,
) -> Result<DeclaredColumns, ReadFault> {
    let as_json = json_columns(session, doing, place)?;
    let ruled: Result<Vec<String>, ReadFault> = session.rows(doing, queries::NAMED_CHECKS, place);
    let mut declared = DeclaredColumns::default();
    for row in columns_of(session, doing, place)? {
        let json = as_json.contains(&row.name);
        let Some((family, take)) = kind_of(&row, json) else {
            return Err(ReadFault::new(
                format!(
                    "column {} of table {table} on {} is of type {}, which keen does not know",
                    row.name,
                    session.access().shown(),
                    row.column_type
                ),
                "leave the column out of the set with without = [...]",
            ));
        };
        if let Some(reason) = sorts_otherwise(&row, family, take) {
            declared.sorting.insert(row.name.clone(), reason);
        }
        let ruled = ruled.as_ref().map_or(true, |ruled| ruled.contains(&row.name));
        let says_more = ruled || row.says_more();
        let generated = row.extra.contains("GENERATED");
        let not_null = row.nullable == "NO";
        declared.columns.push(ColumnShape {
            name: row.name.clone(),
            declared: if json { "json".to_owned() } else { row.column_type.clone() },
            family,
            not_null,
            optional: !not_null
                || generated
                || row.default.is_some()
                || row.extra.contains("auto_increment"),
            generated,
            fraction: row.precision.and_then(|digits| u8::try_from(digits).ok()),
            default: row.default.filter(|default| default != "NULL"),
            collation: row.collation.clone().filter(|_| family == Family::Text),
            counted: row.extra.contains("auto_increment"),
            expression: row.expression.filter(|text| !text.is_empty()),
            labels: Vec::new(),
            own_types: Vec::new(),
            bumped: row.extra.to_ascii_lowercase().contains("on update"),
            says_more: Beside(says_more),
        });
        if let Some(collation) = row.collation {
            let collation = StoredCollation { name: collation, version: None };
            declared.collations.insert(row.name.clone(), collation);
        }
        declared.conversions.push((row.name, take));
    }
    Ok(declared)
}

/// Refuses what holds no rows that replicate.
fn holds_rows(kind: &str, name: &str, shown: &str) -> Result<(), ReadFault> {
    match kind {
        "BASE TABLE" | "SYSTEM VERSIONED" => Ok(()),
        "VIEW" | "SYSTEM VIEW" => Err(ReadFault::new(
            format!("{name} on {shown} is a view"),
            "name the tables it reads from; a view holds no rows that replicate",
        )
        .of(FaultKind::NoTable)),
        other => Err(ReadFault::new(
            format!("{name} on {shown} is a {}", other.to_lowercase()),
            "name an ordinary table",
        )
        .of(FaultKind::NoTable)),
    }
}

fn triggers(
    session: &mut MariaDbSession,
    doing: &str,
    place: (&str, &str),
) -> Result<Vec<Trigger>, ReadFault> {
    let triggers: Vec<(String, String, String)> = session.rows(doing, queries::TRIGGERS, place)?;
    let firing = |(name, on, text): (String, String, String)| Trigger {
        name,
        on: vec![on.to_lowercase()],
        text,
    };
    Ok(triggers.into_iter().map(firing).collect())
}

/// The number of a table in InnoDB, where the account may see it. When it was made tells nothing: a table that is
/// emptied keeps that.
fn parts(session: &mut MariaDbSession, place: (&str, &str)) -> Option<String> {
    if !session.may("PROCESS", "*", "*") {
        return None;
    }
    let found: Vec<String> = session.rows("inspect a table", queries::TABLE_ID, place).ok()?;
    found.into_iter().next()
}

/// One row of the list of columns.
struct ColumnRow {
    name: String,
    data_type: String,
    column_type: String,
    nullable: String,
    default: Option<String>,
    extra: String,
    collation: Option<String>,
    precision: Option<u64>,
    expression: Option<String>,
    commented: bool,
}

impl ColumnRow {
    /// It has a comment, or a property that no other column of this list tells.
    fn says_more(&self) -> bool {
        let extra = self.extra.to_ascii_lowercase();
        let told = ["auto_increment", "on update", "generated"].iter().any(|p| extra.contains(p));
        // Declared so again, an older server gives it a default of its own.
        let moment =
            self.data_type == "timestamp" && self.nullable == "NO" && self.default.is_none();
        self.commented || moment || (!told && !extra.trim().is_empty())
    }
}

fn columns_of(
    session: &mut MariaDbSession,
    doing: &str,
    place: (&str, &str),
) -> Result<Vec<ColumnRow>, ReadFault> {
    let rows: Vec<Row> = session.rows(doing, queries::COLUMNS, place)?;
    let text = |row: &Row, i: usize| row.get::<Option<String>, _>(i).flatten();
    let described = rows.iter().map(|row| ColumnRow {
        name: text(row, 0).unwrap_or_default(),
        data_type: text(row, 1).unwrap_or_default().to_ascii_lowercase(),
        column_type: text(row, 2).unwrap_or_default(),
        nullable: text(row, 3).unwrap_or_default(),
        default: text(row, 4),
        extra: text(row, 5).unwrap_or_default(),
        collation: text(row, 6),
        precision: row.get::<Option<u64>, _>(7).flatten(),
        expression: text(row, 8),
        commented: text(row, 9).is_some_and(|comment| !comment.is_empty()),
    });
    Ok(described.collect())
}

fn kind_of(column: &ColumnRow, json: bool) -> Option<(Family, Take)> {
    Some(match column.data_type.as_str() {
        _ if json => (Family::Json, Take::Json),
        "tinyint" | "smallint" | "mediumint" | "int" | "bigint" | "year" => {
            (Family::Integer, Take::Number)
        }
        "decimal" => (Family::Decimal, Take::Decimal),
        "float" => (Family::Single, Take::Number),
        "double" => (Family::Real, Take::Number),
        "bit" => {
            let width = column.column_type.trim_start_matches("bit(").trim_end_matches(')');
            (Family::Bits, Take::Bits(width.parse().ok()?))
        }
        "char" | "varchar" | "tinytext" | "text" | "mediumtext" | "longtext" | "enum" | "set"
        | "inet4" | "inet6" => (Family::Text, Take::Text),
        "binary" | "varbinary" | "tinyblob" | "blob" | "mediumblob" | "longblob" | "vector" => {
            (Family::Bytes, Take::Bytes)
        }
        "geometry" | "point" | "linestring" | "polygon" | "multipoint" | "multilinestring"
        | "multipolygon" | "geometrycollection" | "geomcollection" => (Family::Bytes, Take::Bytes),
        "json" => (Family::Json, Take::Json),
        "uuid" => (Family::Uuid, Take::Uuid),
        "date" => (Family::Date, Take::Date),
        "datetime" => (Family::LocalTimestamp, Take::Local),
        "timestamp" => (Family::Timestamp, Take::Moment),
        "time" => (Family::Time, Take::Time),
        _ => return None,
    })
}

/// Why a key with this column is not stored in the order of [`keen_core::row::key_order`], if so.
fn sorts_otherwise(column: &ColumnRow, family: Family, take: Take) -> Option<String> {
    let name = &column.name;
    match family {
        Family::Integer | Family::Decimal | Family::Single | Family::Real | Family::Time => None,
        Family::Bytes if column.data_type.contains("bin") || column.data_type.contains("blob") => {
            None
        }
        Family::Text if take == Take::Text => match column.collation.as_deref() {
            Some("utf8mb4_nopad_bin" | "utf8mb3_nopad_bin" | "ascii_nopad_bin")
                if !matches!(column.data_type.as_str(), "enum" | "set") =>
            {
                None
            }
            Some(collation) if !matches!(column.data_type.as_str(), "enum" | "set") => {
                Some(format!("key column {name} sorts by {collation}"))
            }
            _ => Some(format!("key column {name} has an order of its own")),
        },
        Family::Date | Family::LocalTimestamp | Family::Timestamp => {
            Some(format!("key column {name} may hold dates of zeros, which do not sort as dates"))
        }
        _ => Some(format!("key column {name} has an order of its own")),
    }
}

/// Columns declared JSON: text with a check that it is.
fn json_columns(
    session: &mut MariaDbSession,
    doing: &str,
    place: (&str, &str),
) -> Result<Vec<String>, ReadFault> {
    let checks: Vec<String> = session.rows(doing, queries::CHECKS, place).unwrap_or_default(); // servers without such a table have a JSON type
    let column = |clause: &String| {
        // In this session's mode names are printed in double quotes.
        let name = clause.strip_prefix("json_valid(\"")?.strip_suffix("\")")?;
        Some(name.replace("\"\"", "\""))
    };
    Ok(checks.iter().filter_map(column).collect())
}

/// The columns that identify a row.
struct KeyColumns {
    key: Vec<String>,
    /// Of columns of the primary key how many characters count, where that is not all.
    key_prefixes: BTreeMap<String, u64>,
    unique: Vec<Vec<String>>,
    /// Those that hold for a part of the value only.
    unique_in_part: Vec<Vec<String>>,
    /// Rows are stored by the key.
    clustered: bool,
}

fn keys(
    session: &mut MariaDbSession,
    doing: &str,
    place: (&str, &str),
    columns: &[ColumnShape],
) -> Result<KeyColumns, ReadFault> {
    let rows: Vec<(String, Option<String>, Option<u64>)> =
        session.rows(doing, queries::UNIQUE, place)?;
    let mut indexes: BTreeMap<String, (Vec<String>, bool)> = BTreeMap::new();
    let mut key_prefixes = BTreeMap::new();
    for (index, column, prefix) in rows {
        if let (true, Some(column), Some(prefix)) = (index == "PRIMARY", &column, prefix) {
            key_prefixes.insert(column.clone(), prefix);
        }
        let entry = indexes.entry(index).or_default();
        entry.1 |= prefix.is_some() || column.is_none();
        entry.0.extend(column);
    }
    let mut clustered = false;
    let mut key = Vec::new();
    if let Some((columns, partial)) = indexes.remove("PRIMARY") {
        (key, clustered) = (columns, !partial);
    }
    if key.is_empty() {
        let not_null = |name: &String| columns.iter().any(|c| c.name == *name && c.not_null);
        let strict =
            indexes.values().filter(|(list, partial)| !partial && list.iter().all(not_null));
        key = schema::unique_as_key(strict.map(|(list, _)| list));
    }
    let unique_in_part =
        indexes.values().filter(|(_, part)| *part).map(|(list, _)| list.clone()).collect();
    let unique = indexes.into_values().map(|(list, _)| list).filter(|list| *list != key).collect();
    Ok(KeyColumns { key, key_prefixes, unique, unique_in_part, clustered })
}

/// Who refers to a table, and by what.
fn referred_by(
    session: &mut MariaDbSession,
    doing: &str,
    place: (&str, &str),
) -> Result<Vec<Reference>, ReadFault> {
    let rows: Vec<(String, String, String, String, String)> =
        session.rows(doing, queries::REFERRED_BY, place)?;
    let mut found: Vec<((String, String), Reference)> = Vec::new();
    for (constraint, schema, table, column, to) in rows {
        let place = format!("{}.{}", quoted(&schema), quoted(&table));
        let name = (constraint, place.clone());
        if found.last().is_none_or(|(last, _)| *last != name) {
            found.push((name, Reference { table, place, ..Reference::default() }));
        }
        if let Some((_, reference)) = found.last_mut() {
            reference.columns.push(column);
            reference.to.push(to);
        }
    }
    Ok(found.into_iter().map(|(_, reference)| reference).collect())
}

fn references(
    session: &mut MariaDbSession,
    doing: &str,
    place: (&str, &str),
) -> Result<Vec<Reference>, ReadFault> {
    let rows: Vec<(String, String, String, String, String)> =
        session.rows(doing, queries::REFERENCES, place)?;
    if rows.is_empty() {
        return Ok(Vec::new());
    }
    // What these do, InnoDB does by itself, below the log. The catalog shows their rules to nobody who may only
    // read; the table's declaration does.
    let shown: Vec<(String, String)> = session.rows(
        doing,
        &format!("SHOW CREATE TABLE {}.{}", quoted(place.0), quoted(place.1)),
        (),
    )?;
    let declared = shown.into_iter().next().map(|(_, declared)| declared).unwrap_or_default();
    let unlogged = |name: &str| {
        let begins = [
            format!("CONSTRAINT `{}` FOREIGN KEY", name.replace('`', "``")),
            format!("CONSTRAINT \"{}\" FOREIGN KEY", name.replace('"', "\"\"")),
        ];
        let own = |line: &&str| begins.iter().any(|begin| line.trim_start().starts_with(begin));
        let acts = ["DELETE CASCADE", "DELETE SET NULL", "UPDATE CASCADE", "UPDATE SET NULL"];
        declared
            .lines()
            .filter(own)
            .any(|line| acts.iter().any(|act| line.contains(&format!(" ON {act}"))))
    };
    let mut references: Vec<(String, Reference)> = Vec::new();
    for (name, column, table, to, schema) in rows {
        if references.last().is_none_or(|(last, _)| *last != name) {
            let place = format!("{}.{}", quoted(&schema), quoted(&table));
            let unlogged = unlogged(&name);
            references.push((name, Reference { table, place, unlogged, ..Reference::default() }));
        }
        if let Some((_, reference)) = references.last_mut() {
            reference.columns.push(column);
            reference.to.push(to);
        }
    }
    Ok(references.into_iter().map(|(_, reference)| reference).collect())
}

/// The least and the greatest key, if the first column of it is a whole number that fits.
pub(super) fn bounds(session: &mut MariaDbSession, local: &MariaDbLayout) -> Option<(i64, i64)> {
    let first = local.key.first()?;
    let (_, take) = local.columns.iter().find(|(name, _)| name == first)?;
    if *take != Take::Number {
        return None;
    }
    let column = quoted(first);
    let sql = format!("SELECT min({column}), max({column}) FROM {}", local.name);
    let rows: Vec<(mysql::Value, mysql::Value)> =
        session.rows("find the bounds of a key", &sql, ()).ok()?;
    let number = |value: &mysql::Value| match value {
        mysql::Value::Int(v) => Some(*v),
        mysql::Value::UInt(v) => i64::try_from(*v).ok(),
        _ => None,
    };
    let (least, greatest) = rows.first()?;
    number(least).zip(number(greatest))
}
