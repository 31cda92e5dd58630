//! How each engine spells names, values and exact comparisons.
//!
//! A literal means the same value whatever the settings of the session are
//! that a script pins, and holds no character that a terminal or a client would
//! act on. A comparison is by kind and bytes, not by an engine's own idea of
//! equality: case, padding and the like count.

use std::fmt::Write as _;

use crate::row::schema::{ColumnShape, Family, labels_of};
use crate::topology::Engine;
use crate::value::Value;
use crate::value::calendar::{self, INFINITY, MINUS_INFINITY};
use crate::value::text::{text_of, uuid_text};

/// Quotes a name, doubling the quotes inside.
#[must_use]
pub fn quoted(engine: Engine, name: &str) -> String {
    match engine {
        Engine::MariaDb => format!("`{}`", name.replace('`', "``")),
        Engine::Sqlite | Engine::Postgres => format!("\"{}\"", name.replace('"', "\"\"")),
    }
}

/// A value as a literal for a column.
#[must_use]
pub fn literal(engine: Engine, value: &Value, column: Option<&ColumnShape>) -> String {
    match engine {
        Engine::Sqlite => sqlite(value),
        Engine::Postgres => postgres(value, column),
        Engine::MariaDb => mariadb(value, column),
    }
}

/// Writes a value as a literal for a column; of long bytes never all of it is spelled out at once.
///
/// # Errors
/// Those of the writer.
pub fn write_literal(
    out: &mut dyn std::fmt::Write,
    engine: Engine,
    value: &Value,
    column: Option<&ColumnShape>,
) -> std::fmt::Result {
    const AT_ONCE: usize = 64 << 10;
    let Value::Bytes(bytes) = value else {
        return out.write_str(&literal(engine, value, column));
    };
    // What stands before and after the digits is the same for no bytes at all.
    let empty = literal(engine, &Value::Bytes(Vec::new()), column);
    let (before, after) = empty.split_at(empty.rfind('\'').unwrap_or(empty.len()));
    out.write_str(before)?;
    for bytes in bytes.chunks(AT_ONCE) {
        out.write_str(&digits(bytes))?;
    }
    out.write_str(after)
}

/// Place number `n` for a value to be bound.
#[must_use]
pub fn place(engine: Engine, n: usize, value: &Value, column: Option<&ColumnShape>) -> String {
    match engine {
        Engine::Sqlite => format!("?{n}"),
        Engine::MariaDb => "?".to_owned(),
        Engine::Postgres => match cast(value, column) {
            Some(cast) => format!("CAST(${n} AS {cast})"),
            None => format!("${n}"),
        },
    }
}

/// Why a column of that engine would not keep a value as it is, if so.
#[must_use]
pub fn cannot_hold(engine: Engine, column: &ColumnShape, value: &Value) -> Option<&'static str> {
    match engine {
        Engine::Sqlite => changed_by_affinity(column.family, value)
            .then_some("would make another kind of value of it"),
        _ if column.family == Family::Opaque => Some("keen has only the bytes of such values"),
        Engine::Postgres => match value {
            Value::Text(text) if text.contains(&0) => Some("cannot hold a zero byte in a text"),
            Value::Text(text) if std::str::from_utf8(text).is_err() => {
                Some("holds only valid UTF-8")
            }
            _ => too_fine(column, value),
        },
        Engine::MariaDb => match value {
            Value::Float(v) if !v.is_finite() => Some("has no infinity and no NaN"),
            Value::Date(INFINITY | MINUS_INFINITY)
            | Value::Timestamp(INFINITY | MINUS_INFINITY)
            | Value::LocalTimestamp(INFINITY | MINUS_INFINITY) => Some("has no infinite dates"),
            Value::Text(text) if std::str::from_utf8(text).is_err() => {
                Some("holds only valid text")
            }
            _ if is_error_value(engine, column, value) => {
                Some("has no such label: it is the error value of a write that was not strict")
            }
            _ => too_fine(column, value),
        },
    }
}

/// The empty text that MariaDB keeps in an enumeration that declares none, and that no strict session can write.
#[must_use]
pub fn is_error_value(engine: Engine, column: &ColumnShape, value: &Value) -> bool {
    engine == Engine::MariaDb
        && column.declared.starts_with("enum(")
        && matches!(value, Value::Text(text) if text.is_empty())
        && !labels_of(&column.declared).iter().any(String::is_empty)
}

/// A decimal with more digits after its point than the column keeps, or a time with more digits of a second.
fn too_fine(column: &ColumnShape, value: &Value) -> Option<&'static str> {
    let micros = match value {
        Value::Decimal(decimal) => {
            let scale =
                column.declared.split_once(',')?.1.trim_end_matches(')').trim().parse::<usize>();
            let digits = decimal.as_str().split_once('.').map_or(0, |(_, fraction)| fraction.len());
            return (digits > scale.ok()?).then_some("keeps fewer digits after the point");
        }
        Value::Time(v) | Value::Timestamp(v) | Value::LocalTimestamp(v) => *v,
        _ => return None,
    };
    let step = 10_i64.pow(6 - u32::from(column.fraction?.min(6)));
    let infinite = matches!(micros, INFINITY | MINUS_INFINITY);
    (!infinite && micros % step != 0).then_some("keeps fewer digits of a second")
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

/// `column = value`, given the quoted column and the value (no NULL) as it is to be written: `exact`ly as the
/// engine keeps it, or by value where that is how it was compared.
#[must_use]
pub fn matches(
    engine: Engine,
    column: &str,
    shape: &ColumnShape,
    written: &str,
    exact: bool,
) -> String {
    // By kinds whose own equality is that of their values.
    let by_itself = [
        Family::Boolean,
        Family::Integer,
        Family::Bytes,
        Family::Date,
        Family::Time,
        Family::Timestamp,
        Family::LocalTimestamp,
        Family::Uuid,
    ];
    match (engine, shape.family) {
        (Engine::Sqlite, _) => format!("{column} COLLATE BINARY = {written}"),
        // A cast to text would drop the blanks at its end.
        (Engine::Postgres, Family::Text) if shape.declared == "bpchar" => {
            format!("concat({column}) COLLATE \"C\" = {written}")
        }
        (Engine::Postgres, Family::Text) if is_text(&shape.declared) => {
            format!("{column}::text COLLATE \"C\" = {written}")
        }
        (Engine::Postgres, Family::Json) if !exact => {
            format!("{column}::jsonb = {written}::jsonb")
        }
        // Interval, box and others call unlike values equal, numbers whatever their scale, and some types
        // have no equality at all: their text tells.
        (Engine::Postgres, family)
            if !by_itself.contains(&family) && (exact || family == Family::Text) =>
        {
            let declared = without_modifier(&shape.declared);
            format!("{column}::text COLLATE \"C\" = {written}::{declared}::text")
        }
        (Engine::MariaDb, Family::Json) if exact => {
            format!("CONVERT({column} USING utf8mb4) COLLATE utf8mb4_nopad_bin = {written}")
        }
        // Of a NULL, JSON_EQUALS says NULL, and MariaDB 10.11 takes that for true in a WHERE.
        (Engine::MariaDb, Family::Json) => {
            format!(
                "CASE WHEN {column} IS NULL THEN FALSE ELSE JSON_EQUALS({column}, {written}) END"
            )
        }
        (Engine::MariaDb, Family::Text) => {
            format!("CONVERT({column} USING utf8mb4) COLLATE utf8mb4_nopad_bin = {written}")
        }
        (Engine::MariaDb, Family::Bytes) => format!("HEX({column}) = HEX({written})"),
        _ => format!("{column} = {written}"),
    }
}

// ---- SQLite ----

fn sqlite(value: &Value) -> String {
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
        _ => plain(&text_of(value.as_ref())),
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

fn plain(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

fn hex(before: &str, bytes: &[u8]) -> String {
    format!("{before}{}'", digits(bytes))
}

fn digits(bytes: &[u8]) -> String {
    let digit = |half: u8| char::from(b"0123456789abcdef"[usize::from(half)]);
    bytes.iter().flat_map(|byte| [digit(byte >> 4), digit(byte & 15)]).collect()
}

/// A text literal in which characters that something would act on are spelled out by `codes`, and
/// the parts put together by `join`.
fn spelled(
    text: &str,
    codes: impl Fn(&[char]) -> String,
    join: impl Fn(&[String]) -> String,
) -> String {
    let mut parts: Vec<String> = Vec::new();
    let characters: Vec<char> = text.chars().collect();
    for run in characters.chunk_by(|a, b| acts(*a) == acts(*b)) {
        parts.push(if acts(run[0]) { codes(run) } else { plain(&run.iter().collect::<String>()) });
    }
    match parts.len() {
        0 => "''".to_owned(),
        1 => parts.remove(0),
        _ => join(&parts),
    }
}

/// Control characters, and those that change the direction or the line of what follows.
fn acts(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}')
}

// ---- PostgreSQL ----

/// Whether a declared type is one that holds text itself, rather than being shown as text.
fn is_text(declared: &str) -> bool {
    let base = declared.split('(').next().unwrap_or(declared);
    matches!(base, "text" | "character varying" | "character" | "name" | "citext" | "bpchar")
}

/// What a literal has to be cast to. Lengths and scales are left away: casting to them would cut
/// silently, where assigning is an error.
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

fn postgres(value: &Value, column: Option<&ColumnShape>) -> String {
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
        Value::Date(v) => plain(&postgres_date(*v, "")),
        Value::LocalTimestamp(v) => plain(&postgres_timestamp(*v, "")),
        Value::Timestamp(v) => plain(&postgres_timestamp(*v, "+00")),
        Value::Uuid(v) => plain(&uuid_text(v)),
        Value::Json(v) => escaped(v),
        Value::Int(_) | Value::Decimal(_) | Value::Time(_) => plain(&text_of(value.as_ref())),
    };
    match cast(value, column) {
        Some(cast) => format!("{text}::{cast}"),
        None => text,
    }
}

/// With `E''` and numbered characters where some would be acted on.
fn escaped(text: &str) -> String {
    if !text.contains(|c: char| acts(c)) {
        return plain(text);
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

// ---- MariaDB ----

fn mariadb(value: &Value, column: Option<&ColumnShape>) -> String {
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
        Value::Timestamp(v) => plain(&calendar::timestamp_text(*v)),
        _ => plain(&text_of(value.as_ref())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn column(family: Family, declared: &str) -> ColumnShape {
        ColumnShape {
            name: "c".to_owned(),
            declared: declared.to_owned(),
            family,
            not_null: false,
            optional: true,
            generated: false,
            fraction: None,
            ..ColumnShape::default()
        }
    }

    #[test]
    fn sqlite_literals_are_safe_whatever_the_text_holds() {
        let literal = |value: &Value| literal(Engine::Sqlite, value, None);
        assert_eq!(literal(&Value::text("it's")), "'it''s'");
        assert_eq!(
            literal(&Value::text("a\0b\n\u{1b}[2J")),
            "(('a' || char(0)) || ('b' || (char(10, 27) || '[2J')))"
        );
        assert_eq!(literal(&Value::text("")), "''");
        assert_eq!(literal(&Value::text("\u{202e}")), "char(8238)");
        assert_eq!(literal(&Value::Text(vec![0xff])), "CAST(x'ff' AS TEXT)");
        assert_eq!(literal(&Value::Int(i64::MIN.into())), "(-9223372036854775807 - 1)");
        assert_eq!(literal(&Value::Float(f64::NEG_INFINITY)), "-9e999");
        assert_eq!(literal(&Value::Float(2.0)), "2.0");
        assert_eq!(quoted(Engine::Sqlite, "a\"b"), "\"a\"\"b\"");
    }

    #[test]
    fn postgres_literals_say_their_type_and_cut_nothing() {
        let text = column(Family::Text, "character varying(3)");
        let literal =
            |value: &Value, column: &ColumnShape| literal(Engine::Postgres, value, Some(column));
        assert_eq!(literal(&Value::text("it's \\"), &text), "'it''s \\'");
        assert_eq!(literal(&Value::text("a\n'\\"), &text), "E'a\\U0000000a''\\\\'");
        assert_eq!(literal(&Value::Int(1), &column(Family::Boolean, "boolean")), "true");
        assert_eq!(literal(&Value::Int(-5), &column(Family::Integer, "bigint")), "(-5)");
        let price = column(Family::Decimal, "numeric(8,2)");
        assert_eq!(
            literal(
                &Value::Decimal(crate::value::decimal::Decimal::parse("84.5").unwrap()),
                &price
            ),
            "'84.5'::numeric"
        );
        let stamp = column(Family::Timestamp, "timestamp(3) with time zone");
        assert_eq!(
            literal(&Value::Timestamp(0), &stamp),
            "'1970-01-01 00:00:00+00'::timestamp with time zone"
        );
        assert_eq!(
            literal(&Value::Date(-719_529), &column(Family::Date, "date")),
            "'0002-12-31 BC'::date"
        );
        assert_eq!(
            literal(&Value::Bytes(vec![0]), &column(Family::Bytes, "bytea")),
            "'\\x00'::bytea"
        );
        assert_eq!(quoted(Engine::Postgres, "a\"b"), "\"a\"\"b\"");
    }

    #[test]
    fn mariadb_literals_do_not_depend_on_backslashes() {
        let text = column(Family::Text, "varchar(10)");
        let literal =
            |value: &Value, column: &ColumnShape| literal(Engine::MariaDb, value, Some(column));
        assert_eq!(literal(&Value::text("it's \\"), &text), "'it''s \\'");
        assert_eq!(
            literal(&Value::text("a\n"), &text),
            "CONCAT('a', CONVERT(x'0a' USING utf8mb4))"
        );
        assert_eq!(literal(&Value::Float(0.1), &column(Family::Real, "double")), "1e-1");
        assert_eq!(literal(&Value::text("0101"), &column(Family::Bits, "bit(4)")), "b'0101'");
        assert_eq!(quoted(Engine::MariaDb, "a`b"), "`a``b`");
    }

    #[test]
    fn what_a_column_would_change_is_noticed() {
        let price = column(Family::Decimal, "numeric(8,2)");
        let fine = Value::Decimal(crate::value::decimal::Decimal::parse("1.005").unwrap());
        assert!(cannot_hold(Engine::Postgres, &price, &fine).is_some());
        let text = column(Family::Text, "text");
        assert!(cannot_hold(Engine::Postgres, &text, &Value::text("a\0")).is_some());
        assert!(
            cannot_hold(Engine::MariaDb, &column(Family::Real, "double"), &Value::Float(f64::NAN))
                .is_some()
        );
        assert!(cannot_hold(Engine::Sqlite, &text, &Value::Int(1)).is_some());
        let seconds =
            ColumnShape { fraction: Some(0), ..column(Family::LocalTimestamp, "datetime") };
        assert!(cannot_hold(Engine::MariaDb, &seconds, &Value::LocalTimestamp(1)).is_some());
        assert_eq!(cannot_hold(Engine::MariaDb, &seconds, &Value::LocalTimestamp(1_000_000)), None);
    }
}
