//! The SQL of PostgreSQL.

use std::fmt::Write as _;

use super::dialect::{Dialect, acts, hex, text_literal, too_fine};
use super::types::{Declared, Type, decimal, digits, labels_of, noted_if, numbers};
use crate::row::schema::{ColumnShape, Family};
use crate::topology::Engine;
use crate::value::Value;
use crate::value::calendar::{self, INFINITY, MINUS_INFINITY};
use crate::value::text::{text_of, uuid_text};

#[derive(Debug)]
pub(super) struct PostgresDialect;

/// The kinds whose own equality is that of their values.
const EQUAL_BY_VALUE: [Family; 8] = [
    Family::Boolean,
    Family::Integer,
    Family::Bytes,
    Family::Date,
    Family::Time,
    Family::Timestamp,
    Family::LocalTimestamp,
    Family::Uuid,
];

impl Dialect for PostgresDialect {
    fn literal(&self, value: &Value, column: Option<&ColumnShape>) -> String {
        literal(value, column)
    }

    fn placeholder(&self, n: usize, value: &Value, column: Option<&ColumnShape>) -> String {
        match cast(value, column) {
            Some(cast) => format!("CAST(${n} AS {cast})"),
            None => format!("${n}"),
        }
    }

    fn matches(&self, column: &str, shape: &ColumnShape, written: &str, exact: bool) -> String {
        match shape.family {
            // A cast to text would drop the blanks at its end.
            Family::Text if shape.declared == "bpchar" => {
                format!("concat({column}) COLLATE \"C\" = {written}")
            }
            Family::Text if is_text(&shape.declared) => {
                format!("{column}::text COLLATE \"C\" = {written}")
            }
            Family::Json if !exact => format!("{column}::jsonb = {written}::jsonb"),
            // Interval, box and others call unlike values equal, numbers whatever their scale, and some types
            // have no equality at all: their text tells.
            family if !EQUAL_BY_VALUE.contains(&family) && (exact || family == Family::Text) => {
                let declared = without_modifier(&shape.declared);
                format!("{column}::text COLLATE \"C\" = {written}::{declared}::text")
            }
            _ => format!("{column} = {written}"),
        }
    }

    fn compares(&self, column: &ColumnShape, value: &Value) -> bool {
        match column.family {
            Family::Boolean => matches!(value, Value::Bool(_) | Value::Int(0 | 1)),
            Family::Integer => matches!(value, Value::Bool(_) | Value::Int(_)),
            Family::Decimal => matches!(value, Value::Int(_) | Value::Decimal(_)),
            Family::Real => matches!(value, Value::Int(_) | Value::Float(_) | Value::Decimal(_)),
            Family::Text => match value {
                Value::Text(text) => !text.contains(&0) && std::str::from_utf8(text).is_ok(),
                _ => false,
            },
            Family::Bytes => matches!(value, Value::Bytes(_)),
            Family::Date => matches!(value, Value::Date(_)),
            Family::Time => matches!(value, Value::Time(_)),
            Family::Timestamp => matches!(value, Value::Timestamp(_)),
            Family::LocalTimestamp => matches!(value, Value::LocalTimestamp(_)),
            Family::Uuid => matches!(value, Value::Uuid(_)),
            _ => true,
        }
    }

    fn cannot_hold(&self, column: &ColumnShape, value: &Value) -> Option<&'static str> {
        match value {
            _ if column.family == Family::Opaque => Some("keen has only the bytes of such values"),
            Value::Text(text) if text.contains(&0) => Some("cannot hold a zero byte in a text"),
            Value::Text(text) if std::str::from_utf8(text).is_err() => {
                Some("holds only valid UTF-8")
            }
            _ => too_fine(column, value),
        }
    }

    fn type_of(&self, column: &ColumnShape) -> Type {
        type_of(&column.based_on().trim().to_ascii_lowercase(), labels_of(column))
    }

    fn declare(&self, from: Engine, column: &ColumnShape, _room: Option<u64>) -> Declared {
        if from == Engine::Postgres {
            return Declared::as_it_is(column);
        }
        declare(column, &from.dialect().type_of(column))
    }

    fn heartbeat_time(&self) -> &'static str {
        "timestamp with time zone NOT NULL"
    }
}

/// Whether a declared type is one that holds text itself, rather than being shown as text.
fn is_text(declared: &str) -> bool {
    let base = declared.split('(').next().unwrap_or(declared);
    matches!(base, "text" | "character varying" | "character" | "name" | "citext" | "bpchar")
}

/// The type that a literal has to be cast to. Lengths and scales are left away: casting to them would cut silently,
/// where assigning is an error.
fn cast(value: &Value, column: Option<&ColumnShape>) -> Option<String> {
    let column = column?;
    let plain = match value {
        Value::Null => return None,
        Value::Bool(_) => column.family == Family::Boolean,
        Value::Int(_) => matches!(column.family, Family::Integer | Family::Boolean),
        Value::Float(v) => column.family == Family::Real && v.is_finite(),
        Value::Text(_) => is_text(&column.declared),
        _ => false,
    };
    (!plain).then(|| without_modifier(&column.declared))
}

/// `numeric(8,2)` to `numeric`, `timestamp(3) with time zone` to `timestamp with time zone`.
fn without_modifier(declared: &str) -> String {
    let Some((before, rest)) = declared.split_once('(') else {
        return declared.to_owned();
    };
    let after = rest.split_once(')').map_or("", |(_, after)| after);
    match before {
        // Without a length, these would mean one.
        "character" => "bpchar".to_owned() + after,
        "bit" => "varbit".to_owned() + after,
        _ => format!("{before}{after}"),
    }
}

fn literal(value: &Value, column: Option<&ColumnShape>) -> String {
    let truth = |v: bool| if v { "true" } else { "false" }.to_owned();
    let family = column.map(|column| column.family);
    let text = match value {
        Value::Null => return "NULL".to_owned(),
        Value::Bool(v) if family == Some(Family::Integer) => return i32::from(*v).to_string(),
        Value::Bool(v) => return truth(*v),
        Value::Int(v @ (0 | 1)) if family == Some(Family::Boolean) => return truth(*v == 1),
        Value::Int(v) if matches!(family, Some(Family::Integer) | None) => {
            return if *v < 0 { format!("({v})") } else { v.to_string() };
        }
        Value::Float(v) if v.is_nan() => "'NaN'".to_owned(),
        Value::Float(v) if v.is_infinite() => {
            if *v > 0.0 { "'Infinity'" } else { "'-Infinity'" }.to_owned()
        }
        Value::Float(v) => format!("'{v:?}'"),
        Value::Text(bytes) => match std::str::from_utf8(bytes) {
            Ok(text) => escaped(text),
            Err(_) => format!("convert_from({}, 'SQL_ASCII')", hex("'\\x", bytes)),
        },
        Value::Bytes(bytes) => hex("'\\x", bytes),
        Value::Date(v) => text_literal(&postgres_date(*v, "")),
        Value::LocalTimestamp(v) => text_literal(&postgres_timestamp(*v, "")),
        Value::Timestamp(v) => text_literal(&postgres_timestamp(*v, "+00")),
        Value::Uuid(v) => text_literal(&uuid_text(v)),
        Value::Json(v) => escaped(v),
        Value::Int(_) | Value::Decimal(_) | Value::Time(_) => {
            text_literal(&text_of(value.as_ref()))
        }
    };
    match cast(value, column) {
        Some(cast) => format!("{text}::{cast}"),
        None => text,
    }
}

/// With `E''` and numbered characters where some would be acted on.
fn escaped(text: &str) -> String {
    if !text.contains(|c: char| acts(c)) {
        return text_literal(text);
    }
    let mut out = String::from("E'");
    for c in text.chars() {
        match c {
            '\'' => out.push_str("''"),
            '\\' => out.push_str("\\\\"),
            c if acts(c) => drop(write!(out, "\\U{:08x}", u32::from(c))),
            c => out.push(c),
        }
    }
    out.push('\'');
    out
}

/// A date as PostgreSQL takes it in, years before the first being BC, with `rest` after the day.
#[must_use]
pub fn postgres_date(days: i64, rest: &str) -> String {
    let (year, month, day) = calendar::civil(days);
    if matches!(days, INFINITY | MINUS_INFINITY) || year > 0 {
        return format!("{}{rest}", calendar::date_text(days));
    }
    format!("{:04}-{month:02}-{day:02}{rest} BC", 1 - year)
}

/// A timestamp as PostgreSQL takes it in, with `zone` after the time.
#[must_use]
pub fn postgres_timestamp(micros: i64, zone: &str) -> String {
    if matches!(micros, INFINITY | MINUS_INFINITY) {
        return calendar::timestamp_text(micros);
    }
    let time = calendar::time_text(micros.rem_euclid(calendar::DAY));
    postgres_date(micros.div_euclid(calendar::DAY), &format!(" {time}{zone}"))
}

fn type_of(declared: &str, labels: &[String]) -> Type {
    if declared.ends_with("[]") {
        return Type::Own(declared.to_owned());
    }
    if !labels.is_empty() {
        return Type::Enum(labels.to_vec());
    }
    let base = declared.split('(').next().unwrap_or_default().trim();
    let zone = declared.ends_with("with time zone");
    let first = numbers(declared).first().copied();
    match base {
        "boolean" => Type::Bool,
        "smallint" => Type::Int { bytes: 2, unsigned: false },
        "integer" => Type::Int { bytes: 4, unsigned: false },
        "bigint" => Type::Int { bytes: 8, unsigned: false },
        "oid" | "xid" => Type::Int { bytes: 4, unsigned: true },
        "numeric" => decimal(declared),
        "real" => Type::Single,
        "double precision" => Type::Double,
        "money" => Type::Money,
        "text" | "name" | "citext" => Type::Text(None),
        "character varying" | "varchar" => Type::Text(first),
        "character" | "char" | "\"char\"" => Type::Padded(first.unwrap_or(1)),
        "bytea" => Type::Bytes(None),
        "bit" => Type::Bits { most: first.unwrap_or(1), varying: false },
        "bit varying" => Type::Bits { most: first.unwrap_or(64), varying: true },
        "date" => Type::Date,
        _ if base.starts_with("timestamp") => {
            Type::Stamp { digits: digits(declared, 6), zone, short: false }
        }
        _ if base.starts_with("time") => Type::Time { digits: digits(declared, 6), zone },
        _ if base.starts_with("interval") => Type::Interval,
        "uuid" => Type::Uuid,
        "json" | "jsonb" => Type::Json,
        "inet" | "cidr" | "macaddr" | "macaddr8" => Type::Network,
        "xml" => Type::Xml,
        _ => Type::Own(declared.to_owned()),
    }
}

fn declare(column: &ColumnShape, kind: &Type) -> Declared {
    use Type as T;
    let plain = |sql: &str| Declared { sql: sql.to_owned(), note: None };
    let noted =
        |sql: &str, note: &str| Declared { sql: sql.to_owned(), note: Some(note.to_owned()) };
    let seconds = |word: &str, digits: u8, rest: &str| {
        if digits == 6 { format!("{word}{rest}") } else { format!("{word}({digits}){rest}") }
    };
    match kind {
        T::Bool => plain("boolean"),
        T::Int { bytes: 1, .. } | T::Int { bytes: 2, unsigned: false } | T::Year => {
            plain("smallint")
        }
        T::Int { bytes: 2 | 3, .. } | T::Int { bytes: 4, unsigned: false } => plain("integer"),
        T::Int { bytes: 8, unsigned: true } => {
            noted("numeric(20)", "no unsigned 8-byte numbers here: exact numbers instead")
        }
        T::Int { .. } => plain("bigint"),
        T::Decimal(None) => plain("numeric"),
        T::Decimal(Some((precision, scale))) => plain(&format!("numeric({precision},{scale})")),
        T::Single => plain("real"),
        T::Double => plain("double precision"),
        T::Text(Some(most)) if *most <= 10_485_760 => plain(&format!("varchar({most})")),
        T::Text(_) => plain("text"),
        T::Padded(width) => plain(&format!("char({width})")),
        T::Enum(labels) => {
            let labels: Vec<String> = labels.iter().map(|label| text_literal(label)).collect();
            let name = PostgresDialect.quoted(&column.name);
            plain(&format!("text CHECK ({name} IN ({}))", labels.join(", ")))
        }
        T::Set(_) => noted("text", "kept as a list with commas, unchecked"),
        T::Bytes(_) => plain("bytea"),
        T::Bits { most, varying: true } => plain(&format!("bit varying({most})")),
        T::Bits { most, .. } => plain(&format!("bit({most})")),
        T::Date => {
            noted_if(from_zero(column), "date", "dates of zeros, like 0000-00-00, are refused")
        }
        T::Time { digits, zone } => {
            plain(&seconds("time", *digits, if *zone { " with time zone" } else { "" }))
        }
        T::Span { digits } => noted(
            &seconds("time", *digits, ""),
            "times below 0 or above 24 hours are refused; they would need an interval",
        ),
        T::Stamp { digits, zone, .. } => {
            let words = seconds("timestamp", *digits, if *zone { " with time zone" } else { "" });
            noted_if(from_zero(column), &words, "dates of zeros, like 0000-00-00, are refused")
        }
        T::Uuid => plain("uuid"),
        T::Json => plain("jsonb"),
        T::Money => plain("money"),
        T::Interval => plain("interval"),
        T::Network => plain("inet"),
        T::Xml => plain("xml"),
        T::Any => noted("text", "any kind of value is kept there: here it becomes text"),
        T::Own(name) => noted("bytea", &format!("{name} has no counterpart: kept as bytes")),
    }
}

/// Only MariaDB has dates of zeros.
fn from_zero(column: &ColumnShape) -> bool {
    column.declared.starts_with("datetime")
        || column.declared == "timestamp"
        || column.declared.starts_with("timestamp(")
}
