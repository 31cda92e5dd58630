//! What types carry over from one engine to another, and what they lose on the way.
//!
//! A declared type becomes a [`Type`], whatever engine's words it is in. [`loss`] says what of one does
//! not fit the other; [`declare`] finds the faithful words of another engine, or the nearest and what
//! they cost.

use crate::row::schema::{ColumnShape, MadeOf};
use crate::topology::Engine;

/// A type, whichever engine declares it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Type {
    /// True or false.
    Bool,
    /// Whole numbers of so many bytes.
    Int { bytes: u8, unsigned: bool },
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
    Bits { most: u64, varying: bool },
    /// Dates.
    Date,
    /// Times of day, with so many digits of a second.
    Time { digits: u8, zone: bool },
    /// MariaDB's times, which also mean spans of up to 838 hours.
    Span { digits: u8 },
    /// Timestamps; with a zone they are moments.
    Stamp { digits: u8, zone: bool, short: bool },
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
fn arguments(declared: &str) -> Vec<String> {
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

fn numbers(declared: &str) -> Vec<u64> {
    arguments(declared).iter().filter_map(|part| part.trim().parse().ok()).collect()
}

/// The type that a column is declared with.
pub(crate) fn type_of(engine: Engine, column: &ColumnShape) -> Type {
    let declared = column.based_on().trim().to_ascii_lowercase();
    match engine {
        Engine::Postgres => postgres(&declared, labels_of(column)),
        Engine::MariaDb => mariadb(&declared, &column.declared),
        Engine::Sqlite => sqlite(&declared),
    }
}

/// The labels of an enumeration, also of a domain over one.
fn labels_of(column: &ColumnShape) -> &[String] {
    let own = column.own_types.iter().find(|own| own.name == column.based_on());
    match own.map(|own| &own.made_of) {
        Some(MadeOf::Enum(labels)) => labels,
        _ => &column.labels,
    }
}

fn digits(declared: &str, otherwise: u8) -> u8 {
    numbers(declared).first().and_then(|n| u8::try_from(*n).ok()).unwrap_or(otherwise)
}

fn postgres(declared: &str, labels: &[String]) -> Type {
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

fn decimal(declared: &str) -> Type {
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

fn mariadb(declared: &str, as_written: &str) -> Type {
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

/// By the rules of affinity, and by the words that people use for what SQLite stores as text.
fn sqlite(declared: &str) -> Type {
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

/// What of the values of one column the other refuses or changes; none if it takes all of them.
#[must_use]
pub fn loss(from: Engine, a: &ColumnShape, to: Engine, b: &ColumnShape) -> Option<String> {
    between(&type_of(from, a), from, &type_of(to, b), to)
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

/// What only one engine can say of a type that both have.
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
    /// What they cannot say, if it is not quite the same.
    pub note: Option<String>,
}

/// A column's type in an engine's words. `room`: it has to fit into an index that has room for so many characters.
#[must_use]
pub fn declare(from: Engine, column: &ColumnShape, to: Engine, room: Option<u64>) -> Declared {
    let kind = type_of(from, column);
    let plain = |sql: &str| Declared { sql: sql.to_owned(), note: None };
    if from == to && to != Engine::Sqlite {
        return plain(&column.declared);
    }
    match to {
        Engine::Sqlite => for_sqlite(from, column, &kind),
        Engine::Postgres => for_postgres(column, &kind),
        Engine::MariaDb => {
            room.and_then(|room| for_mariadb_key(&kind, room)).unwrap_or_else(|| for_mariadb(&kind))
        }
    }
}

/// The room in an index of MariaDB's, in characters: 3072 bytes, of four each.
pub(crate) const ROOM_OF_KEY: u64 = 768;

/// How many characters of room a type takes in an index of MariaDB's whatever is done; none if it takes what it gets.
pub(crate) fn takes(kind: &Type) -> Option<u64> {
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
fn for_mariadb_key(kind: &Type, room: u64) -> Option<Declared> {
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

fn for_sqlite(from: Engine, column: &ColumnShape, kind: &Type) -> Declared {
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

fn for_postgres(column: &ColumnShape, kind: &Type) -> Declared {
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
            let name = super::dialect::quoted(Engine::Postgres, &column.name);
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

fn noted_if(is: bool, sql: &str, note: &str) -> Declared {
    Declared { sql: sql.to_owned(), note: is.then(|| note.to_owned()) }
}

fn text_literal(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

fn for_mariadb(kind: &Type) -> Declared {
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
                let declared = declare(from, &column_there, to, None);
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
        let Type::Enum(labels) = type_of(Engine::MariaDb, &column("enum('a','it''s','x,y')"))
        else {
            panic!("an enumeration");
        };
        assert_eq!(labels, ["a", "it's", "x,y"]);
    }
}
