//! The shape of a table, from MariaDB's information schema.

use std::collections::BTreeMap;

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::row::schema::{self, ColumnShape, Family, Reference, TableShape, Trigger};
use mysql::Row;

use super::connect::Session;
use super::decode::Take;
use super::quoted;

/// What reading a table takes, beyond its shape.
#[derive(Debug)]
pub(super) struct Local {
    /// Database and name, quoted.
    pub(super) name: String,
    pub(super) key: Vec<String>,
    pub(super) columns: Vec<(String, Take)>,
    pub(super) estimate: Option<u64>,
}

/// Database, name, kind, estimate of rows, what stores it, and whether that has transactions.
type Found = (String, String, String, Option<u64>, Option<String>, Option<String>);

fn find(
    session: &mut Session,
    doing: &str,
    schema: &str,
    name: &str,
) -> Result<Option<Found>, ReadFault> {
    let found: Vec<Found> = session.rows(
        doing,
        "SELECT t.TABLE_SCHEMA, t.TABLE_NAME, t.TABLE_TYPE, t.TABLE_ROWS, t.ENGINE, e.TRANSACTIONS FROM information_schema.TABLES t \
         LEFT JOIN information_schema.ENGINES e ON e.ENGINE = t.ENGINE WHERE t.TABLE_SCHEMA = ? AND t.TABLE_NAME = ?",
        (schema, name),
    )?;
    // The information schema does not mind the case of names; servers on most systems do.
    let exact = found.iter().position(|(_, found, ..)| found == name);
    Ok(exact.or((found.len() == 1).then_some(0)).map(|at| found[at].clone()))
}

/// The tables of the session's database that none of these names means.
pub(super) fn others(session: &mut Session, named: &[String]) -> Result<Vec<String>, ReadFault> {
    let database = session.access().server.database.clone();
    let found: Vec<(String, bool)> = session.rows(
        "list its tables",
        "SELECT t.TABLE_NAME, @@lower_case_table_names = 0 FROM information_schema.TABLES t \
         WHERE t.TABLE_SCHEMA = ? AND t.TABLE_TYPE IN ('BASE TABLE', 'SYSTEM VERSIONED') ORDER BY t.TABLE_NAME",
        (&database,),
    )?;
    let means = |named: &str, table: &str, exact: bool| {
        let own = named.split_once('.').filter(|(schema, _)| *schema == database);
        [Some(named), own.map(|(_, name)| name)].into_iter().flatten().any(|name| match exact {
            true => name == table,
            false => name.eq_ignore_ascii_case(table),
        })
    };
    let other = |(table, exact): &(String, bool)| {
        table != keen_core::engine::service_tables::TABLE
            && !table.starts_with("keen_lab_")
            && !named.iter().any(|name| means(name, table, *exact))
    };
    Ok(found.into_iter().filter(other).map(|(table, _)| table).collect())
}

pub(super) fn look(session: &mut Session, table: &str) -> Result<(TableShape, Local), ReadFault> {
    let doing = format!("look at table {table}");
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
                "create it, grant {user} SELECT on it (keen preflight prints the statement), correct the set, or say under [node.NAME.names] what it is called there"
            ),
        )
        .of(FaultKind::NoTable));
    };
    match kind.as_str() {
        "BASE TABLE" | "SYSTEM VERSIONED" => {}
        "VIEW" | "SYSTEM VIEW" => {
            return Err(ReadFault::new(
                format!("{name} on {shown} is a view"),
                "name the tables it reads from; a view holds no rows that replicate",
            )
            .of(FaultKind::NoTable));
        }
        other => {
            return Err(ReadFault::new(
                format!("{name} on {shown} is a {}", other.to_lowercase()),
                "name an ordinary table",
            )
            .of(FaultKind::NoTable));
        }
    }
    let place = (schema.as_str(), name.as_str());
    let as_json = json_columns(session, &doing, place)?;
    let mut columns = Vec::new();
    let mut local = Vec::new();
    let mut sorting = BTreeMap::new();
    for row in columns_of(session, &doing, place)? {
        let json = as_json.contains(&row.name);
        let Some((family, take)) = kind_of(&row, json) else {
            return Err(ReadFault::new(
                format!(
                    "column {} of table {table} on {shown} is of type {}, which keen does not know",
                    row.name, row.column_type
                ),
                "leave the column out of the set with without = [...]",
            ));
        };
        if let Some(reason) = sorts_otherwise(&row, family, take) {
            sorting.insert(row.name.clone(), reason);
        }
        let generated = row.extra.contains("GENERATED");
        let not_null = row.nullable == "NO";
        columns.push(ColumnShape {
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
            collation: row.collation.filter(|_| family == Family::Text),
            counted: row.extra.contains("auto_increment"),
            expression: row.expression.filter(|text| !text.is_empty()),
            labels: Vec::new(),
            own_types: Vec::new(),
            bumped: row.extra.to_ascii_lowercase().contains("on update"),
        });
        local.push((row.name, take));
    }
    let Keys { key, key_prefixes, unique, unique_in_part, clustered } =
        keys(session, &doing, place, &columns)?;
    let unordered = if clustered {
        key.iter().find_map(|name| sorting.get(name).cloned())
    } else {
        Some("the key is not the primary one, which rows are stored by".to_owned())
    };
    let triggers: Vec<(String, String, String)> = session.rows(
        &doing,
        "SELECT TRIGGER_NAME, EVENT_MANIPULATION, CONCAT(ACTION_TIMING, ' ', EVENT_MANIPULATION, ' ', ACTION_STATEMENT) \
         FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = ? AND EVENT_OBJECT_TABLE = ? ORDER BY 1",
        place,
    )?;
    let firing: Vec<Trigger> = triggers
        .into_iter()
        .map(|(name, on, text)| Trigger { name, on: vec![on.to_lowercase()], text })
        .collect();
    let shape = TableShape {
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
            "is a member of a synchronous cluster (wsrep_on = ON), where nothing keeps a write on its node: keen plans nothing there yet".to_owned()
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
    Ok((shape, Local { name, key, columns: local, estimate }))
}

/// One row of the list of columns.
struct Described {
    name: String,
    data_type: String,
    column_type: String,
    nullable: String,
    default: Option<String>,
    extra: String,
    collation: Option<String>,
    precision: Option<u64>,
    expression: Option<String>,
}

fn columns_of(
    session: &mut Session,
    doing: &str,
    place: (&str, &str),
) -> Result<Vec<Described>, ReadFault> {
    let rows: Vec<Row> = session.rows(
        doing,
        "SELECT COLUMN_NAME, DATA_TYPE, COLUMN_TYPE, IS_NULLABLE, COLUMN_DEFAULT, EXTRA, COLLATION_NAME, DATETIME_PRECISION, GENERATION_EXPRESSION \
         FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? ORDER BY ORDINAL_POSITION",
        place,
    )?;
    let text = |row: &Row, i: usize| row.get::<Option<String>, _>(i).flatten();
    let described = rows.iter().map(|row| Described {
        name: text(row, 0).unwrap_or_default(),
        data_type: text(row, 1).unwrap_or_default().to_ascii_lowercase(),
        column_type: text(row, 2).unwrap_or_default(),
        nullable: text(row, 3).unwrap_or_default(),
        default: text(row, 4),
        extra: text(row, 5).unwrap_or_default(),
        collation: text(row, 6),
        precision: row.get::<Option<u64>, _>(7).flatten(),
        expression: text(row, 8),
    });
    Ok(described.collect())
}

fn kind_of(column: &Described, json: bool) -> Option<(Family, Take)> {
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
fn sorts_otherwise(column: &Described, family: Family, take: Take) -> Option<String> {
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
        Family::Date | Family::LocalTimestamp | Family::Timestamp => Some(format!(
            "key column {name} may hold dates of zeros, which sort where no date does"
        )),
        _ => Some(format!("key column {name} has an order of its own")),
    }
}

/// Columns declared JSON: text with a check that it is.
fn json_columns(
    session: &mut Session,
    doing: &str,
    place: (&str, &str),
) -> Result<Vec<String>, ReadFault> {
    let checks: Vec<String> = session
        .rows(
            doing,
            "SELECT CHECK_CLAUSE FROM information_schema.CHECK_CONSTRAINTS WHERE CONSTRAINT_SCHEMA = ? AND TABLE_NAME = ?",
            place,
        )
        .unwrap_or_default(); // servers without such a table have a JSON type
    let column = |clause: &String| {
        // In this session's mode names are printed in double quotes.
        let name = clause.strip_prefix("json_valid(\"")?.strip_suffix("\")")?;
        Some(name.replace("\"\"", "\""))
    };
    Ok(checks.iter().filter_map(column).collect())
}

/// What identifies a row.
struct Keys {
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
    session: &mut Session,
    doing: &str,
    place: (&str, &str),
    columns: &[ColumnShape],
) -> Result<Keys, ReadFault> {
    let rows: Vec<(String, Option<String>, Option<u64>)> = session.rows(
        doing,
        "SELECT INDEX_NAME, COLUMN_NAME, SUB_PART FROM information_schema.STATISTICS \
         WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND NON_UNIQUE = 0 ORDER BY INDEX_NAME, SEQ_IN_INDEX",
        place,
    )?;
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
    Ok(Keys { key, key_prefixes, unique, unique_in_part, clustered })
}

/// Who refers to a table, and by what.
fn referred_by(
    session: &mut Session,
    doing: &str,
    place: (&str, &str),
) -> Result<Vec<Reference>, ReadFault> {
    let rows: Vec<(String, String, String, String, String)> = session.rows(
        doing,
        "SELECT CONSTRAINT_NAME, TABLE_SCHEMA, TABLE_NAME, COLUMN_NAME, REFERENCED_COLUMN_NAME \
         FROM information_schema.KEY_COLUMN_USAGE WHERE REFERENCED_TABLE_SCHEMA = ? AND REFERENCED_TABLE_NAME = ? \
         ORDER BY TABLE_SCHEMA, TABLE_NAME, CONSTRAINT_NAME, ORDINAL_POSITION",
        place,
    )?;
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
    session: &mut Session,
    doing: &str,
    place: (&str, &str),
) -> Result<Vec<Reference>, ReadFault> {
    let rows: Vec<(String, String, String, String, String)> = session.rows(
        doing,
        "SELECT CONSTRAINT_NAME, COLUMN_NAME, REFERENCED_TABLE_NAME, REFERENCED_COLUMN_NAME, REFERENCED_TABLE_SCHEMA \
         FROM information_schema.KEY_COLUMN_USAGE WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? \
         AND REFERENCED_TABLE_NAME IS NOT NULL ORDER BY CONSTRAINT_NAME, ORDINAL_POSITION",
        place,
    )?;
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
pub(super) fn bounds(session: &mut Session, local: &Local) -> Option<(i64, i64)> {
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
