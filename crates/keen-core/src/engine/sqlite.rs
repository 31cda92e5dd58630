//! The SQL of SQLite.

use super::dialect::{Dialect, hex, spelled, text_literal};
use super::types::{Declared, Type, arguments, decimal};
use crate::row::schema::{ColumnShape, Family};
use crate::topology::Engine;
use crate::value::Value;
use crate::value::text::text_of;

#[derive(Debug)]
pub(super) struct SqliteDialect;

impl Dialect for SqliteDialect {
    fn literal(&self, value: &Value, _column: Option<&ColumnShape>) -> String {
        literal(value)
    }

    fn placeholder(&self, n: usize, _value: &Value, _column: Option<&ColumnShape>) -> String {
        format!("?{n}")
    }

    fn matches(&self, column: &str, _shape: &ColumnShape, written: &str, _exact: bool) -> String {
        format!("{column} COLLATE BINARY = {written}")
    }

    fn cannot_hold(&self, column: &ColumnShape, value: &Value) -> Option<&'static str> {
        changed_by_affinity(column.family, value)
            .then_some("would make another kind of value of it")
    }

    fn type_of(&self, column: &ColumnShape) -> Type {
        type_of(&column.based_on().trim().to_ascii_lowercase())
    }

    fn declare(&self, from: Engine, column: &ColumnShape, _room: Option<u64>) -> Declared {
        declare(from, column, &from.dialect().type_of(column))
    }

    // Microseconds since 1970 began.
    fn heartbeat_time(&self) -> &'static str {
        "INTEGER NOT NULL"
    }
}

fn literal(value: &Value) -> String {
    match value {
        Value::Null => "NULL".to_owned(),
        Value::Bool(v) => i32::from(*v).to_string(),
        Value::Int(v) => int_literal(*v),
        Value::Float(v) if v.is_nan() => "NULL".to_owned(), // what SQLite itself makes of it
        Value::Float(v) if v.is_infinite() => if *v > 0.0 { "9e999" } else { "-9e999" }.to_owned(),
        Value::Float(v) => format!("{v:?}"),
        Value::Decimal(v) => v.to_string(),
        Value::Text(bytes) => match std::str::from_utf8(bytes) {
            Ok(text) => spelled(
                text,
                |codes| {
                    let codes: Vec<String> =
                        codes.iter().map(|c| u32::from(*c).to_string()).collect();
                    let calls = codes.chunks(MOST_ARGUMENTS);
                    let calls = calls.map(|codes| format!("char({})", codes.join(", ")));
                    balanced(&calls.collect::<Vec<_>>())
                },
                balanced,
            ),
            Err(_) => format!("CAST({} AS TEXT)", hex("x'", bytes)),
        },
        Value::Bytes(bytes) => hex("x'", bytes),
        _ => text_literal(&text_of(value.as_ref())),
    }
}

/// SQLite may be built to take no more arguments of a function than this.
const MOST_ARGUMENTS: usize = 100;

/// Texts put together in pairs, and those in pairs: SQLite takes no expression that is very many levels deep.
fn balanced(parts: &[String]) -> String {
    match parts {
        [] => "''".to_owned(),
        [part] => part.clone(),
        _ => {
            let (left, right) = parts.split_at(parts.len() / 2);
            format!("({} || {})", balanced(left), balanced(right))
        }
    }
}

/// The smallest integer has no literal of its own: its digits without the sign are too large for one.
fn int_literal(v: i128) -> String {
    if v == i128::from(i64::MIN) { format!("({} - 1)", v + 1) } else { v.to_string() }
}

/// SQLite turns some values into others as they are stored.
fn changed_by_affinity(family: Family, value: &Value) -> bool {
    let looks_numeric = |text: &[u8]| {
        std::str::from_utf8(text).is_ok_and(|text| {
            text.trim_matches(|c: char| c.is_ascii_whitespace()).parse::<f64>().is_ok()
        })
    };
    match (family, value) {
        (Family::Integer | Family::Numeric | Family::Real, Value::Text(text)) => {
            looks_numeric(text)
        }
        (Family::Text, Value::Int(_) | Value::Float(_)) => true,
        _ => false,
    }
}

/// By the rules of affinity, and by the words that people use for what SQLite stores as text.
fn type_of(declared: &str) -> Type {
    let base = declared.split('(').next().unwrap_or_default().trim();
    let has = |part: &str| declared.contains(part);
    match base {
        "boolean" | "bool" => Type::Bool,
        "date" => Type::Date,
        "time" => Type::Time { digits: 6, zone: false },
        "datetime" | "timestamp" => Type::Stamp { digits: 6, zone: false, short: false },
        "timestamptz" => Type::Stamp { digits: 6, zone: true, short: false },
        "uuid" => Type::Uuid,
        "json" => Type::Json,
        "decimal" | "numeric" if !arguments(declared).is_empty() => decimal(declared),
        _ if has("int") => Type::Int { bytes: 8, unsigned: false },
        _ if has("char") || has("clob") || has("text") => Type::Text(None),
        "" | "any" => Type::Any,
        _ if has("blob") => Type::Bytes(None),
        _ if has("real") || has("floa") || has("doub") => Type::Double,
        _ => Type::Decimal(None),
    }
}

fn declare(from: Engine, column: &ColumnShape, kind: &Type) -> Declared {
    use Type as T;
    let plain = |sql: &str| Declared { sql: sql.to_owned(), note: None };
    let noted =
        |sql: &str, note: &str| Declared { sql: sql.to_owned(), note: Some(note.to_owned()) };
    if from == Engine::Sqlite {
        return plain(&column.declared);
    }
    match kind {
        T::Bool => plain("BOOLEAN"),
        T::Int { bytes: 8, unsigned: true } => noted(
            "TEXT",
            "numbers above 9223372036854775807 do not fit an integer here: kept as text",
        ),
        T::Int { .. } | T::Year => plain("INTEGER"),
        T::Decimal(Some((precision, scale))) if *precision <= 15 => {
            plain(&format!("DECIMAL({precision},{scale})"))
        }
        T::Decimal(_) => {
            noted("TEXT", "exact numbers of more than 15 digits would be rounded: kept as text")
        }
        T::Single | T::Double => plain("REAL"),
        T::Date => noted("TEXT", "a date, kept as text like 2026-07-01"),
        T::Time { .. } | T::Span { .. } => noted("TEXT", "a time, kept as text like 12:00:00"),
        T::Stamp { zone: true, .. } => noted(
            "TEXT",
            "a moment, kept as text in UTC like 2026-07-01T12:00:00Z; comparing it needs zone = \"UTC\" in keen.toml",
        ),
        T::Stamp { .. } => noted("TEXT", "a timestamp, kept as text like 2026-07-01T12:00:00"),
        T::Uuid => noted("TEXT", "a UUID, kept as text"),
        T::Json => noted("TEXT", "JSON, kept as text"),
        T::Bytes(_) => plain("BLOB"),
        T::Text(_) | T::Padded(_) => plain("TEXT"),
        T::Enum(_) | T::Set(_) => noted("TEXT", "any text is taken, not only the labels"),
        T::Network | T::Xml => noted("TEXT", "kept as text, unchecked"),
        T::Any => plain(""),
        T::Money | T::Bits { .. } | T::Interval | T::Own(_) => {
            noted("TEXT", &format!("{} has no counterpart: kept as text", column.declared))
        }
    }
}
