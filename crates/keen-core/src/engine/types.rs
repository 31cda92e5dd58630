//! Types as they carry over from one engine to another, and what they lose on the way.
//!
//! A declared type becomes a [`Type`], whatever engine's words it is in. [`loss`] says what of one does
//! not fit the other; [`Dialect::declare`](super::dialect::Dialect::declare) finds the faithful words of
//! another engine, or the nearest and what they cost.

use crate::row::schema::{ColumnShape, MadeOf};
use crate::topology::Engine;

/// A type, whichever engine declares it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Type {
    /// True or false.
    Bool,
    /// Whole numbers of so many bytes.
    Int {
        /// So many.
        bytes: u8,
        /// None of them below zero.
        unsigned: bool,
    },
    /// Exact numbers: all digits, and those after the point; none if without a limit.
    Decimal(Option<(u32, u32)>),
    /// Floats of four bytes.
    Single,
    /// Floats of eight bytes.
    Double,
    /// Text of at most so many characters.
    Text(Option<u64>),
    /// Text filled up with spaces to so many characters.
    Padded(u64),
    /// One of these texts.
    Enum(Vec<String>),
    /// Any of these texts, together.
    Set(Vec<String>),
    /// At most so many bytes.
    Bytes(Option<u64>),
    /// So many bits.
    Bits {
        /// At most so many.
        most: u64,
        /// Fewer are kept as they are.
        varying: bool,
    },
    /// Dates.
    Date,
    /// Times of day, with so many digits of a second.
    Time {
        /// Digits of a second.
        digits: u8,
        /// With a zone.
        zone: bool,
    },
    /// MariaDB's times, which also mean spans of up to 838 hours.
    Span {
        /// Digits of a second.
        digits: u8,
    },
    /// Timestamps; with a zone they are moments.
    Stamp {
        /// Digits of a second.
        digits: u8,
        /// With a zone.
        zone: bool,
        /// Only from 1970 to 2038.
        short: bool,
    },
    /// Years.
    Year,
    /// UUIDs.
    Uuid,
    /// JSON.
    Json,
    /// Amounts of money.
    Money,
    /// Spans of time.
    Interval,
    /// Network addresses.
    Network,
    /// XML.
    Xml,
    /// Whatever comes.
    Any,
    /// Something of the engine's own.
    Own(String),
}

/// The part in parentheses.
pub(super) fn arguments(declared: &str) -> Vec<String> {
    let Some((open, close)) = declared.find('(').zip(declared.rfind(')')).filter(|(o, c)| o < c)
    else {
        return Vec::new();
    };
    let (mut list, mut part, mut quoted) = (Vec::new(), String::new(), false);
    let mut chars = declared[open + 1..close].chars().peekable();
    while let Some(c) = chars.next() {
        match c {
            '\'' if quoted && chars.peek() == Some(&'\'') => {
                part.push('\'');
                chars.next();
            }
            '\'' => quoted = !quoted,
            ',' if !quoted => list.push(std::mem::take(&mut part)),
            other => part.push(other),
        }
    }
    list.push(part);
    list
}

pub(super) fn numbers(declared: &str) -> Vec<u64> {
    arguments(declared).iter().filter_map(|part| part.trim().parse().ok()).collect()
}

/// The labels of an enumeration, also of a domain over one.
pub(super) fn labels_of(column: &ColumnShape) -> &[String] {
    let own = column.own_types.iter().find(|own| own.name == column.based_on());
    match own.map(|own| &own.made_of) {
        Some(MadeOf::Enum(labels)) => labels,
        _ => &column.labels,
    }
}

pub(super) fn digits(declared: &str, otherwise: u8) -> u8 {
    numbers(declared).first().and_then(|n| u8::try_from(*n).ok()).unwrap_or(otherwise)
}

pub(super) fn decimal(declared: &str) -> Type {
    let numbers: Vec<i64> =
        arguments(declared).iter().filter_map(|part| part.trim().parse().ok()).collect();
    let Some(precision) = numbers.first().and_then(|n| u32::try_from(*n).ok()) else {
        return Type::Decimal(None);
    };
    let scale = numbers.get(1).copied().unwrap_or(0);
    let places = u32::try_from(scale.unsigned_abs()).unwrap_or(u32::MAX);
    Type::Decimal(Some(match scale {
        // Rounded to hundreds, say: the digits stand that much further to the left.
        ..0 => (precision.saturating_add(places), 0),
        // More places than digits: zeros follow the point first.
        _ => (precision.max(places), places),
    }))
}

/// The values of one column that the other refuses or changes, in words; none if it takes all of them.
#[must_use]
pub fn loss(from: Engine, a: &ColumnShape, to: Engine, b: &ColumnShape) -> Option<String> {
    between(&from.dialect().type_of(a), from, &to.dialect().type_of(b), to)
}

fn whole_range(bytes: u8, unsigned: bool) -> (i128, i128) {
    let bits = u32::from(bytes) * 8;
    if unsigned { (0, (1 << bits) - 1) } else { (-(1 << (bits - 1)), (1 << (bits - 1)) - 1) }
}

#[expect(clippy::too_many_lines, reason = "a table of pairs of types, read from top to bottom")]
fn between(a: &Type, from: Engine, b: &Type, to: Engine) -> Option<String> {
    use Type as T;
    let says = |text: &str| Some(text.to_owned());
    if to == Engine::Sqlite {
        // SQLite keeps what it is given, but for numbers, which it turns into its own.
        return match (a, b) {
            (T::Decimal(Some((precision, _))), T::Decimal(_) | T::Double) if *precision > 15 => {
                says("numbers of more than 15 digits are rounded")
            }
            (T::Decimal(None), T::Decimal(_) | T::Double) if from == Engine::Postgres => {
                says("numbers of more than 15 digits are rounded")
            }
            (T::Int { bytes: 8, unsigned: true }, _) => {
                says("numbers above 9223372036854775807 become floats")
            }
            _ => None,
        };
    }
    if a == b && (from == to || !matches!(a, T::Own(_))) {
        return infinite(a, from, to);
    }
    match (a, b) {
        (_, T::Any) => None,
        (T::Int { bytes, unsigned }, T::Int { bytes: narrow, unsigned: other }) => {
            let (low, high) = whole_range(*bytes, *unsigned);
            let (least, greatest) = whole_range(*narrow, *other);
            (low < least || high > greatest)
                .then(|| format!("numbers below {least} or above {greatest} are refused"))
        }
        (T::Bool, T::Int { .. } | T::Double | T::Decimal(_)) | (T::Year, T::Int { .. }) => None,
        (T::Int { .. }, T::Bool) => says("numbers other than 0 and 1 become true, or are refused"),
        (T::Int { bytes, unsigned }, T::Decimal(room)) => {
            let most = whole_range(*bytes, *unsigned).1.to_string().len();
            let room = room.map(|(precision, scale)| precision - scale.min(precision));
            let tight = room.is_some_and(|room| (room as usize) < most);
            tight.then(|| format!("numbers of more than {} digits are refused", room.unwrap_or(0)))
        }
        (T::Int { bytes, .. }, T::Double) => {
            (*bytes > 6).then(|| "whole numbers beyond 9007199254740992 are rounded".to_owned())
        }
        (T::Int { .. } | T::Double, T::Single) => says("numbers are rounded to about 7 digits"),
        (T::Single, T::Double) => None,
        (T::Decimal(_), T::Double | T::Single) => {
            says("numbers of more than 15 digits are rounded")
        }
        (T::Double | T::Single, T::Decimal(_)) => {
            says("numbers are rounded to its digits, and infinities refused")
        }
        (T::Decimal(_), T::Int { .. }) => says("digits after the point are lost"),
        (T::Decimal(wide), T::Decimal(narrow)) => {
            let narrow = (*narrow)?;
            let whole = |(precision, scale): (u32, u32)| precision - scale.min(precision);
            match wide {
                None => Some(format!(
                    "numbers of more than {} digits before the point are refused, those of more than {} behind it rounded",
                    whole(narrow),
                    narrow.1
                )),
                Some(wide) if whole(*wide) > whole(narrow) => Some(format!(
                    "numbers of more than {} digits before the point are refused",
                    whole(narrow)
                )),
                Some(wide) if wide.1 > narrow.1 => {
                    Some(format!("numbers are rounded to {} digits behind the point", narrow.1))
                }
                Some(_) => None,
            }
        }
        (T::Text(wide), T::Text(Some(narrow))) => wide
            .is_none_or(|wide| wide > *narrow)
            .then(|| format!("texts of more than {narrow} characters are refused")),
        (T::Text(_), T::Padded(narrow)) => Some(format!(
            "texts of more than {narrow} characters are refused, and spaces at the end do not count"
        )),
        (T::Padded(wide), T::Text(room)) => room
            .filter(|room| room < wide)
            .map(|room| format!("texts of more than {room} characters are refused")),
        (T::Padded(wide), T::Padded(narrow)) => {
            (wide > narrow).then(|| format!("texts of more than {narrow} characters are refused"))
        }
        (T::Enum(ours), T::Enum(theirs)) | (T::Set(ours), T::Set(theirs)) => {
            let refused: Vec<&str> =
                ours.iter().filter(|label| !theirs.contains(label)).map(String::as_str).collect();
            (!refused.is_empty()).then(|| format!("{} is refused", refused.join(", ")))
        }
        (T::Bytes(_), T::Bytes(None)) => None,
        (T::Bytes(wide), T::Bytes(Some(narrow))) => wide
            .is_none_or(|wide| wide > *narrow)
            .then(|| format!("more than {narrow} bytes are refused")),
        (T::Stamp { digits, zone, .. }, T::Stamp { digits: fewer, zone: zoned, short }) => {
            let mut said = Vec::new();
            if zone != zoned {
                said.push(if *zone {
                    "the zone is lost".to_owned()
                } else {
                    "a zone is assumed".to_owned()
                });
            }
            if fewer < digits {
                said.push(format!("seconds are cut to {fewer} digits"));
            }
            if *short && !matches!(a, T::Stamp { short: true, .. }) {
                said.push("times before 1970 or after 2038 are refused".to_owned());
            } else if to == Engine::MariaDb && from == Engine::Postgres {
                said.push("infinities and years before 1 or after 9999 are refused".to_owned());
            }
            (!said.is_empty()).then(|| said.join(", "))
        }
        (T::Time { digits, zone }, T::Span { digits: fewer }) => {
            let mut said = Vec::new();
            if *zone {
                said.push("the zone is lost".to_owned());
            }
            if fewer < digits {
                said.push(format!("seconds are cut to {fewer} digits"));
            }
            (!said.is_empty()).then(|| said.join(", "))
        }
        (T::Span { .. }, T::Time { .. }) => says("times below 0 or above 24 hours are refused"),
        (T::Span { digits }, T::Span { digits: fewer })
        | (T::Time { digits, .. }, T::Time { digits: fewer, .. }) => {
            (fewer < digits).then(|| format!("seconds are cut to {fewer} digits"))
        }
        (T::Date, T::Stamp { .. })
        | (T::Json | T::Uuid | T::Network | T::Xml | T::Enum(_), T::Text(_)) => None,
        (T::Stamp { .. }, T::Date) => says("the time of day is lost"),
        (T::Text(_), T::Enum(_)) => says("texts other than its own are refused"),
        (T::Text(_), T::Json | T::Uuid | T::Date | T::Stamp { .. } | T::Network | T::Xml) => {
            says("texts that are none are refused")
        }
        (_, T::Text(_)) => says("values become their text"),
        (T::Own(one), T::Own(two)) if one == two => None,
        _ => says("values do not carry over as they are"),
    }
}

/// The values of a type that only one engine has though both have the type.
fn infinite(kind: &Type, from: Engine, to: Engine) -> Option<String> {
    if from != Engine::Postgres || to != Engine::MariaDb {
        return None;
    }
    match kind {
        Type::Single | Type::Double => Some("infinities and NaN are refused".to_owned()),
        Type::Date => Some("infinities and years before 1 or after 9999 are refused".to_owned()),
        Type::Decimal(None) => {
            Some("NaN, infinities and numbers of more than 65 digits are refused".to_owned())
        }
        _ => None,
    }
}

/// A type in another engine's words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Declared {
    /// The words.
    pub sql: String,
    /// The difference, if the type is not quite the same.
    pub note: Option<String>,
}

impl Declared {
    /// As the column itself is declared.
    pub(super) fn as_it_is(column: &ColumnShape) -> Self {
        Self { sql: column.declared.clone(), note: None }
    }
}

pub(super) fn noted_if(is: bool, sql: &str, note: &str) -> Declared {
    Declared { sql: sql.to_owned(), note: is.then(|| note.to_owned()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    const POSTGRES: &[&str] = &[
        "boolean",
        "smallint",
        "integer",
        "bigint",
        "numeric",
        "numeric(8,2)",
        "numeric(30,4)",
        "real",
        "double precision",
        "money",
        "text",
        "character varying(40)",
        "character(3)",
        "bytea",
        "bit(5)",
        "bit varying(9)",
        "date",
        "time without time zone",
        "time(3) with time zone",
        "timestamp without time zone",
        "timestamp(3) with time zone",
        "interval",
        "uuid",
        "jsonb",
        "inet",
        "xml",
        "integer[]",
        "int4range",
        "point",
    ];
    const MARIADB: &[&str] = &[
        "tinyint(1)",
        "tinyint(3) unsigned",
        "smallint(6)",
        "mediumint(9)",
        "int(10) unsigned",
        "bigint(20)",
        "bigint(20) unsigned",
        "decimal(10,2)",
        "float",
        "double",
        "bit(8)",
        "char(4)",
        "varchar(200)",
        "text",
        "longtext",
        "enum('a','it''s')",
        "set('x','y')",
        "varbinary(16)",
        "longblob",
        "json",
        "uuid",
        "inet6",
        "date",
        "time(2)",
        "datetime",
        "timestamp(6)",
        "year(4)",
        "geometry",
    ];
    const SQLITE: &[&str] = &[
        "INTEGER",
        "TEXT",
        "REAL",
        "BLOB",
        "",
        "BOOLEAN",
        "DECIMAL(8,2)",
        "NUMERIC",
        "DATE",
        "UUID",
    ];

    fn all() -> Vec<(Engine, ColumnShape)> {
        [(Engine::Postgres, POSTGRES), (Engine::MariaDb, MARIADB), (Engine::Sqlite, SQLITE)]
            .into_iter()
            .flat_map(|(engine, types)| {
                types.iter().map(move |declared| (engine, column(declared)))
            })
            .collect()
    }

    fn column(declared: &str) -> ColumnShape {
        ColumnShape {
            name: "v".to_owned(),
            declared: declared.to_owned(),
            ..ColumnShape::default()
        }
    }

    #[test]
    fn nothing_is_lost_to_the_same_type() {
        for (engine, column) in all() {
            assert_eq!(loss(engine, &column, engine, &column), None, "{engine:?} {column:?}");
        }
    }

    #[test]
    fn what_is_declared_without_a_word_loses_nothing() {
        let mut wrong = Vec::new();
        for (from, column_there) in all() {
            for to in [Engine::Sqlite, Engine::Postgres, Engine::MariaDb] {
                let declared = to.dialect().declare(from, &column_there, None);
                // A check beside the type is for the server to keep.
                if declared.note.is_none() && !declared.sql.contains("CHECK") {
                    let here = column(&declared.sql);
                    let lost = loss(from, &column_there, to, &here);
                    wrong.extend(lost.map(|lost| {
                        let there = &column_there.declared;
                        format!("{from:?} {there} to {to:?} {}: {lost}", declared.sql)
                    }));
                }
            }
        }
        assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    }

    #[test]
    fn labels_with_quotes_and_commas_are_read_whole() {
        let Type::Enum(labels) =
            Engine::MariaDb.dialect().type_of(&column("enum('a','it''s','x,y')"))
        else {
            panic!("an enumeration");
        };
        assert_eq!(labels, ["a", "it's", "x,y"]);
    }
}
