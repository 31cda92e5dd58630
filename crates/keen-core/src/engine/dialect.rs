//! How an engine spells names, values and exact comparisons, and what its types hold: one [`Dialect`] per engine.
//!
//! A literal means the same value whatever the settings of the session are
//! that a script pins, and holds no character that a terminal or a client would
//! act on. A comparison is by kind and bytes, not by an engine's own idea of
//! equality: case, padding and the like count.

use std::fmt::{self, Debug};

use super::types::{Declared, Type};
use super::{mariadb, postgres, sqlite};
use crate::row::schema::ColumnShape;
use crate::topology::Engine;
use crate::value::Value;
use crate::value::calendar::{INFINITY, MINUS_INFINITY};

/// The SQL of one engine, for adapters and scripts alike.
pub trait Dialect: Debug + Sync {
    /// A name in quotes, the quotes inside doubled.
    fn quoted(&self, name: &str) -> String {
        format!("\"{}\"", name.replace('"', "\"\""))
    }

    /// A value as a literal for a column.
    fn literal(&self, value: &Value, column: Option<&ColumnShape>) -> String;

    /// Writes a value as a literal for a column; of long bytes never all of it is spelled out at once.
    ///
    /// # Errors
    /// Those of the writer.
    fn write_literal(
        &self,
        out: &mut dyn fmt::Write,
        value: &Value,
        column: Option<&ColumnShape>,
    ) -> fmt::Result {
        const AT_ONCE: usize = 64 << 10;
        let Value::Bytes(bytes) = value else {
            return out.write_str(&self.literal(value, column));
        };
        // What stands before and after the digits is the same for no bytes at all.
        let empty = self.literal(&Value::Bytes(Vec::new()), column);
        let (before, after) = empty.split_at(empty.rfind('\'').unwrap_or(empty.len()));
        out.write_str(before)?;
        for bytes in bytes.chunks(AT_ONCE) {
            out.write_str(&digits(bytes))?;
        }
        out.write_str(after)
    }

    /// Placeholder number `n`, counted from 1, for a value to be bound.
    fn placeholder(&self, n: usize, value: &Value, column: Option<&ColumnShape>) -> String;

    /// `column = value`, given the quoted column and the value (no NULL) as it is to be written: `exact`ly as the
    /// engine keeps it, or by value where that is how it was compared.
    fn matches(&self, column: &str, shape: &ColumnShape, written: &str, exact: bool) -> String;

    /// Whether the engine compares a column with a value like this at all, and does not refuse.
    fn compares(&self, _column: &ColumnShape, _value: &Value) -> bool {
        true
    }

    /// Why a column would not keep a value as it is, if so.
    fn cannot_hold(&self, column: &ColumnShape, value: &Value) -> Option<&'static str>;

    /// Whether this is a value that no strict session can write: the empty text that MariaDB keeps in an enumeration
    /// which declares none.
    fn is_error_value(&self, _column: &ColumnShape, _value: &Value) -> bool {
        false
    }

    /// The type that a column is declared with.
    fn type_of(&self, column: &ColumnShape) -> Type;

    /// The type of a column of `from` in this engine's words. `room`: it has to fit into an index that has room for so
    /// many characters.
    fn declare(&self, from: Engine, column: &ColumnShape, room: Option<u64>) -> Declared;

    /// The type of short texts that may be a key.
    fn key_text(&self) -> &'static str {
        "text"
    }

    /// The type of the time of a heartbeat, with all that is declared beside it.
    fn heartbeat_time(&self) -> &'static str;
}

impl Engine {
    /// The SQL of this engine.
    #[must_use]
    pub fn dialect(self) -> &'static dyn Dialect {
        match self {
            Self::Sqlite => &sqlite::SqliteDialect,
            Self::Postgres => &postgres::PostgresDialect,
            Self::MariaDb => &mariadb::MariaDbDialect,
        }
    }
}

/// A decimal with more digits after its point than the column keeps, or a time with more digits of a second.
pub(super) fn too_fine(column: &ColumnShape, value: &Value) -> Option<&'static str> {
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

pub(super) fn text_literal(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

pub(super) fn hex(before: &str, bytes: &[u8]) -> String {
    format!("{before}{}'", digits(bytes))
}

pub(super) fn digits(bytes: &[u8]) -> String {
    let digit = |half: u8| char::from(b"0123456789abcdef"[usize::from(half)]);
    bytes.iter().flat_map(|byte| [digit(byte >> 4), digit(byte & 15)]).collect()
}

/// A text literal in which characters that something would act on are spelled out by `codes`, and
/// the parts put together by `join`.
pub(super) fn spelled(
    text: &str,
    codes: impl Fn(&[char]) -> String,
    join: impl Fn(&[String]) -> String,
) -> String {
    let mut parts: Vec<String> = Vec::new();
    let characters: Vec<char> = text.chars().collect();
    for run in characters.chunk_by(|a, b| acts(*a) == acts(*b)) {
        parts.push(if acts(run[0]) {
            codes(run)
        } else {
            text_literal(&run.iter().collect::<String>())
        });
    }
    match parts.len() {
        0 => "''".to_owned(),
        1 => parts.remove(0),
        _ => join(&parts),
    }
}

/// Control characters, and those that change the direction or the line of what follows.
pub(super) fn acts(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}')
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::row::schema::Family;

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
        let literal = |value: &Value| Engine::Sqlite.dialect().literal(value, None);
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
        assert_eq!(Engine::Sqlite.dialect().quoted("a\"b"), "\"a\"\"b\"");
    }

    #[test]
    fn postgres_literals_say_their_type_and_cut_nothing() {
        let text = column(Family::Text, "character varying(3)");
        let literal = |value: &Value, column: &ColumnShape| {
            Engine::Postgres.dialect().literal(value, Some(column))
        };
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
        assert_eq!(Engine::Postgres.dialect().quoted("a\"b"), "\"a\"\"b\"");
    }

    #[test]
    fn mariadb_literals_do_not_depend_on_backslashes() {
        let text = column(Family::Text, "varchar(10)");
        let literal = |value: &Value, column: &ColumnShape| {
            Engine::MariaDb.dialect().literal(value, Some(column))
        };
        assert_eq!(literal(&Value::text("it's \\"), &text), "'it''s \\'");
        assert_eq!(
            literal(&Value::text("a\n"), &text),
            "CONCAT('a', CONVERT(x'0a' USING utf8mb4))"
        );
        assert_eq!(literal(&Value::Float(0.1), &column(Family::Real, "double")), "1e-1");
        assert_eq!(literal(&Value::text("0101"), &column(Family::Bits, "bit(4)")), "b'0101'");
        assert_eq!(Engine::MariaDb.dialect().quoted("a`b"), "`a``b`");
    }

    #[test]
    fn what_a_column_would_change_is_noticed() {
        let price = column(Family::Decimal, "numeric(8,2)");
        let fine = Value::Decimal(crate::value::decimal::Decimal::parse("1.005").unwrap());
        assert!(Engine::Postgres.dialect().cannot_hold(&price, &fine).is_some());
        let text = column(Family::Text, "text");
        assert!(Engine::Postgres.dialect().cannot_hold(&text, &Value::text("a\0")).is_some());
        assert!(
            Engine::MariaDb
                .dialect()
                .cannot_hold(&column(Family::Real, "double"), &Value::Float(f64::NAN))
                .is_some()
        );
        assert!(Engine::Sqlite.dialect().cannot_hold(&text, &Value::Int(1)).is_some());
        let seconds =
            ColumnShape { fraction: Some(0), ..column(Family::LocalTimestamp, "datetime") };
        assert!(
            Engine::MariaDb.dialect().cannot_hold(&seconds, &Value::LocalTimestamp(1)).is_some()
        );
        assert_eq!(
            Engine::MariaDb.dialect().cannot_hold(&seconds, &Value::LocalTimestamp(1_000_000)),
            None
        );
    }
}
