//! The SQL of MariaDB.

use super::dialect::{Dialect, hex, spelled, text_literal, too_fine};
use super::types::{Declared, Type, arguments, decimal, digits, noted_if, numbers};
use crate::row::schema::{ColumnShape, Family, labels_of};
use crate::topology::Engine;
use crate::value::Value;
use crate::value::calendar::{self, INFINITY, MINUS_INFINITY};
use crate::value::text::text_of;

#[derive(Debug)]
pub(super) struct MariaDbDialect;

impl Dialect for MariaDbDialect {
    fn quoted(&self, name: &str) -> String {
        format!("`{}`", name.replace('`', "``"))
    }

    fn literal(&self, value: &Value, column: Option<&ColumnShape>) -> String {
        literal(value, column)
    }

    fn placeholder(&self, _n: usize, _value: &Value, _column: Option<&ColumnShape>) -> String {
        "?".to_owned()
    }

    fn matches(&self, column: &str, shape: &ColumnShape, written: &str, exact: bool) -> String {
        match shape.family {
            // Of a NULL, JSON_EQUALS says NULL, and MariaDB 10.11 takes that for true in a WHERE.
            Family::Json if !exact => {
                format!(
                    "CASE WHEN {column} IS NULL THEN FALSE ELSE JSON_EQUALS({column}, {written}) END"
                )
            }
            Family::Json | Family::Text => {
                format!("CONVERT({column} USING utf8mb4) COLLATE utf8mb4_nopad_bin = {written}")
            }
            Family::Bytes => format!("HEX({column}) = HEX({written})"),
            _ => format!("{column} = {written}"),
        }
    }

    fn cannot_hold(&self, column: &ColumnShape, value: &Value) -> Option<&'static str> {
        match value {
            _ if column.family == Family::Opaque => Some("keen has only the bytes of such values"),
            Value::Float(v) if !v.is_finite() => Some("has no infinity and no NaN"),
            Value::Date(INFINITY | MINUS_INFINITY)
            | Value::Timestamp(INFINITY | MINUS_INFINITY)
            | Value::LocalTimestamp(INFINITY | MINUS_INFINITY) => Some("has no infinite dates"),
            Value::Text(text) if std::str::from_utf8(text).is_err() => {
                Some("holds only valid text")
            }
            _ if self.is_error_value(column, value) => {
                Some("has no such label: it is the error value of a write that was not strict")
            }
            _ => too_fine(column, value),
        }
    }

    fn is_error_value(&self, column: &ColumnShape, value: &Value) -> bool {
        column.declared.starts_with("enum(")
            && matches!(value, Value::Text(text) if text.is_empty())
            && !labels_of(&column.declared).iter().any(String::is_empty)
    }

    fn type_of(&self, column: &ColumnShape) -> Type {
        type_of(&column.based_on().trim().to_ascii_lowercase(), &column.declared)
    }

    fn declare(&self, from: Engine, column: &ColumnShape, room: Option<u64>) -> Declared {
        if from == Engine::MariaDb {
            return Declared::as_it_is(column);
        }
        let kind = from.dialect().type_of(column);
        room.and_then(|room| declare_key(&kind, room)).unwrap_or_else(|| declare(&kind))
    }

    fn key_text(&self) -> &'static str {
        "varchar(100)"
    }

    fn heartbeat_time(&self) -> &'static str {
        "timestamp(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6)"
    }
}

fn literal(value: &Value, column: Option<&ColumnShape>) -> String {
    let family = column.map(|column| column.family);
    match value {
        Value::Null => "NULL".to_owned(),
        Value::Bool(v) => i32::from(*v).to_string(),
        Value::Int(v) => v.to_string(),
        Value::Float(v) if v.is_finite() => format!("{v:e}"),
        Value::Decimal(v) => v.to_string(),
        Value::Text(bytes) if family == Some(Family::Bits) => {
            format!("b'{}'", String::from_utf8_lossy(bytes).replace('\'', ""))
        }
        Value::Text(bytes) => match std::str::from_utf8(bytes) {
            Ok(text) => spelled(
                text,
                |run| {
                    let run: String = run.iter().collect();
                    format!("CONVERT({} USING utf8mb4)", hex("x'", run.as_bytes()))
                },
                |parts| format!("CONCAT({})", parts.join(", ")),
            ),
            Err(_) => hex("x'", bytes),
        },
        Value::Bytes(bytes) => hex("x'", bytes),
        Value::Timestamp(v) => text_literal(&calendar::timestamp_text(*v)),
        _ => text_literal(&text_of(value.as_ref())),
    }
}

fn type_of(declared: &str, as_written: &str) -> Type {
    let base = declared.split(['(', ' ']).next().unwrap_or_default();
    let unsigned = declared.contains("unsigned");
    let first = numbers(declared).first().copied();
    let int = |bytes| Type::Int { bytes, unsigned };
    match base {
        "boolean" | "bool" => Type::Bool,
        "tinyint" if first == Some(1) && !unsigned => Type::Bool,
        "tinyint" => int(1),
        "smallint" => int(2),
        "mediumint" => int(3),
        "int" => int(4),
        "bigint" => int(8),
        "year" => Type::Year,
        "decimal" => decimal(declared),
        "float" => Type::Single,
        "double" => Type::Double,
        "bit" => Type::Bits { most: first.unwrap_or(1), varying: false },
        "char" => Type::Padded(first.unwrap_or(1)),
        "varchar" => Type::Text(first),
        "tinytext" => Type::Text(Some(63)),
        "text" => Type::Text(Some(16_383)),
        "mediumtext" => Type::Text(Some(4_194_303)),
        "longtext" => Type::Text(None),
        "enum" => Type::Enum(arguments(as_written)),
        "set" => Type::Set(arguments(as_written)),
        "binary" | "varbinary" => Type::Bytes(first),
        "tinyblob" => Type::Bytes(Some(255)),
        "blob" => Type::Bytes(Some(65_535)),
        "mediumblob" => Type::Bytes(Some(16_777_215)),
        "longblob" => Type::Bytes(None),
        "json" => Type::Json,
        "uuid" => Type::Uuid,
        "inet4" | "inet6" => Type::Network,
        "date" => Type::Date,
        "time" => Type::Span { digits: digits(declared, 0) },
        "datetime" => Type::Stamp { digits: digits(declared, 0), zone: false, short: false },
        "timestamp" => Type::Stamp { digits: digits(declared, 0), zone: true, short: true },
        _ => Type::Own(declared.to_owned()),
    }
}

/// The room in an index of MariaDB's, in characters: 3072 bytes, of four each.
pub(crate) const ROOM_OF_KEY: u64 = 768;

/// How many characters of room a type takes in an index of MariaDB's whatever is done; none if it takes what it gets.
pub(crate) fn room_taken(kind: &Type) -> Option<u64> {
    match kind {
        Type::Text(_)
        | Type::Padded(_)
        | Type::Bytes(_)
        | Type::Json
        | Type::Xml
        | Type::Any
        | Type::Own(_)
        | Type::Interval
        | Type::Network => None,
        _ => Some(8),
    }
}

/// A type that would not fit into an index as it is, in words that do.
fn declare_key(kind: &Type, room: u64) -> Option<Declared> {
    let noted = |sql: String, note: String| Some(Declared { sql, note: Some(note) });
    let most = room.min(255);
    match kind {
        Type::Text(None) => noted(
            format!("varchar({most})"),
            format!(
                "a key cannot hold text without a limit here: longer than {most} characters is refused"
            ),
        ),
        Type::Text(Some(long)) | Type::Padded(long) if *long > room => noted(
            format!("varchar({room})"),
            format!("a key has room for {room} characters of it here: longer is refused"),
        ),
        Type::Bytes(None) => noted(
            format!("varbinary({})", room.min(767)),
            format!(
                "a key cannot hold bytes without a limit here: more than {} are refused",
                room.min(767)
            ),
        ),
        Type::Bytes(Some(long)) if *long > room * 4 => noted(
            format!("varbinary({})", room * 4),
            format!("a key has room for {} bytes of it here: more are refused", room * 4),
        ),
        Type::Json => noted(
            format!("varchar({room})"),
            format!(
                "JSON cannot be a key here: kept as text, longer than {room} characters is refused"
            ),
        ),
        Type::Xml | Type::Any | Type::Own(_) => noted(
            format!("varchar({room})"),
            format!(
                "kept as text, unchecked; a key has room for {room} characters of it here: longer is refused"
            ),
        ),
        Type::Interval | Type::Network if room < 64 => noted(
            format!("varchar({room})"),
            format!(
                "kept as text; a key has room for {room} characters of it here: longer is refused"
            ),
        ),
        _ => None,
    }
}

fn declare(kind: &Type) -> Declared {
    use Type as T;
    let plain = |sql: &str| Declared { sql: sql.to_owned(), note: None };
    let noted =
        |sql: &str, note: &str| Declared { sql: sql.to_owned(), note: Some(note.to_owned()) };
    match kind {
        T::Bool => plain("boolean"),
        T::Int { bytes, unsigned } => {
            let word = match bytes {
                1 => "tinyint",
                2 => "smallint",
                3 => "mediumint",
                4 => "int",
                _ => "bigint",
            };
            plain(&format!("{word}{}", if *unsigned { " unsigned" } else { "" }))
        }
        T::Year => plain("year"),
        T::Decimal(Some((precision, scale))) if *precision <= 65 && *scale <= 38 => {
            plain(&format!("decimal({precision},{scale})"))
        }
        T::Decimal(_) => noted(
            "decimal(65,30)",
            "more than 35 digits before the point are refused, more than 30 behind it rounded; so are NaN and infinities",
        ),
        T::Single => noted("float", "infinities and NaN are refused"),
        T::Double => noted("double", "infinities and NaN are refused"),
        T::Money => noted("decimal(19,2)", "no money type: two decimal places, no currency"),
        T::Text(Some(most)) if *most <= 16_000 => plain(&format!("varchar({most})")),
        T::Text(_) => plain("longtext"),
        T::Padded(width) if *width <= 255 => plain(&format!("char({width})")),
        T::Padded(width) => {
            noted(&format!("varchar({width})"), "char holds at most 255 characters here")
        }
        T::Enum(labels) => {
            let labels: Vec<String> = labels.iter().map(|label| text_literal(label)).collect();
            plain(&format!("enum({})", labels.join(",")))
        }
        T::Set(labels) => {
            let labels: Vec<String> = labels.iter().map(|label| text_literal(label)).collect();
            plain(&format!("set({})", labels.join(",")))
        }
        T::Bytes(Some(most)) if *most <= 65_000 => plain(&format!("varbinary({most})")),
        T::Bytes(_) => plain("longblob"),
        T::Bits { most, varying: false } if *most <= 64 => plain(&format!("bit({most})")),
        T::Bits { .. } => {
            noted("longtext", "more than 64 bits, or a varying number: kept as text of 0 and 1")
        }
        T::Date => noted("date", "infinities and years before 1 or after 9999 are refused"),
        T::Time { digits, zone } => noted_if(*zone, &format!("time({digits})"), "the zone is lost"),
        T::Span { digits } => plain(&format!("time({digits})")),
        T::Stamp { digits, zone: true, .. } => noted(
            &format!("timestamp({digits})"),
            "times before 1970 or after 2038, and infinities, are refused",
        ),
        T::Stamp { digits, .. } => noted(
            &format!("datetime({digits})"),
            "infinities and years before 1 or after 9999 are refused",
        ),
        T::Uuid => plain("uuid"),
        T::Json => plain("json"),
        T::Network => {
            noted("varchar(43)", "an address of any kind with its prefix needs text here")
        }
        T::Interval => noted("varchar(64)", "no such spans here: kept as ISO 8601 text"),
        T::Xml => noted("longtext", "kept as text, unchecked"),
        T::Any => noted("longblob", "any kind of value is kept there: here it becomes bytes"),
        T::Own(name) => noted("longtext", &format!("{name} has no counterpart: kept as text")),
    }
}
