//! Values as nodes hold them, before they become canonical bytes.
//!
//! [`ValueRef`] borrows from an engine's row buffer and lives for one cell;
//! [`Value`] owns what a finding or a plan has to keep. Both have the same
//! kinds; `docs/digest.md` lists them.

pub mod calendar;
pub mod decimal;
pub mod json;
pub mod text;
pub mod zone;

use crate::value::decimal::Decimal;

/// One cell, borrowed from the engine that read it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum ValueRef<'a> {
    /// No value.
    Null,
    /// True or false.
    Bool(bool),
    /// A whole number of any width an engine has.
    Int(i128),
    /// An exact decimal number.
    Decimal(&'a Decimal),
    /// A binary floating point number.
    Float(f64),
    /// Text as stored: UTF-8 unless the engine let something else in.
    Text(&'a [u8]),
    /// Bytes that claim no encoding.
    Bytes(&'a [u8]),
    /// Days since 1970-01-01.
    Date(i64),
    /// Microseconds since midnight.
    Time(i64),
    /// Microseconds since 1970-01-01T00:00:00Z.
    Timestamp(i64),
    /// Microseconds since 1970-01-01T00:00:00 in a zone nobody wrote down.
    LocalTimestamp(i64),
    /// A UUID, as its sixteen bytes.
    Uuid([u8; 16]),
    /// A JSON text, as the engine keeps it or in its canonical form (see [`crate::value::json`]).
    Json(&'a str),
}

/// One cell, owned.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// No value.
    Null,
    /// True or false.
    Bool(bool),
    /// A whole number.
    Int(i128),
    /// An exact decimal number.
    Decimal(Decimal),
    /// A binary floating point number.
    Float(f64),
    /// Text as stored; not always valid UTF-8.
    Text(Vec<u8>),
    /// Bytes that claim no encoding.
    Bytes(Vec<u8>),
    /// Days since 1970-01-01.
    Date(i64),
    /// Microseconds since midnight.
    Time(i64),
    /// Microseconds since 1970-01-01T00:00:00Z.
    Timestamp(i64),
    /// Microseconds since 1970-01-01T00:00:00, zone unknown.
    LocalTimestamp(i64),
    /// A UUID, as its sixteen bytes.
    Uuid([u8; 16]),
    /// A JSON text, as the engine keeps it or in its canonical form.
    Json(String),
}

impl Value {
    /// Borrows this value in the form that the encoder takes.
    #[must_use]
    pub fn as_ref(&self) -> ValueRef<'_> {
        match self {
            Self::Null => ValueRef::Null,
            Self::Bool(v) => ValueRef::Bool(*v),
            Self::Int(v) => ValueRef::Int(*v),
            Self::Decimal(v) => ValueRef::Decimal(v),
            Self::Float(v) => ValueRef::Float(*v),
            Self::Text(v) => ValueRef::Text(v),
            Self::Bytes(v) => ValueRef::Bytes(v),
            Self::Date(v) => ValueRef::Date(*v),
            Self::Time(v) => ValueRef::Time(*v),
            Self::Timestamp(v) => ValueRef::Timestamp(*v),
            Self::LocalTimestamp(v) => ValueRef::LocalTimestamp(*v),
            Self::Uuid(v) => ValueRef::Uuid(*v),
            Self::Json(v) => ValueRef::Json(v),
        }
    }

    /// Whether both are the same to a comparison of rows: every NaN is one NaN, and zero has a sign.
    #[must_use]
    pub fn same_as(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Float(a), Self::Float(b)) => {
                a.to_bits() == b.to_bits() || a.is_nan() && b.is_nan()
            }
            (a, b) => a == b,
        }
    }

    /// Text from a Rust string.
    #[must_use]
    pub fn text(text: &str) -> Self {
        Self::Text(text.as_bytes().to_vec())
    }

    /// An engineer's word for this kind of value, for messages.
    #[must_use]
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Null => "null",
            Self::Bool(_) => "boolean",
            Self::Int(_) => "integer",
            Self::Decimal(_) => "decimal",
            Self::Float(_) => "float",
            Self::Text(_) => "text",
            Self::Bytes(_) => "bytes",
            Self::Date(_) => "date",
            Self::Time(_) => "time",
            Self::Timestamp(_) => "timestamp",
            Self::LocalTimestamp(_) => "local timestamp",
            Self::Uuid(_) => "uuid",
            Self::Json(_) => "json",
        }
    }
}

impl ValueRef<'_> {
    /// An owned copy.
    #[must_use]
    pub fn to_value(self) -> Value {
        match self {
            Self::Null => Value::Null,
            Self::Bool(v) => Value::Bool(v),
            Self::Int(v) => Value::Int(v),
            Self::Decimal(v) => Value::Decimal(v.clone()),
            Self::Float(v) => Value::Float(v),
            Self::Text(v) => Value::Text(v.to_vec()),
            Self::Bytes(v) => Value::Bytes(v.to_vec()),
            Self::Date(v) => Value::Date(v),
            Self::Time(v) => Value::Time(v),
            Self::Timestamp(v) => Value::Timestamp(v),
            Self::LocalTimestamp(v) => Value::LocalTimestamp(v),
            Self::Uuid(v) => Value::Uuid(v),
            Self::Json(v) => Value::Json(v.to_owned()),
        }
    }
}

/// The whole number that `v` equals exactly, if it has no fraction and its
/// magnitude is one an `i64` column could hold.
#[must_use]
pub fn whole(v: f64) -> Option<i128> {
    let fits = v.is_finite() && v.fract() == 0.0 && v.abs() < 9_223_372_036_854_775_808.0;
    #[expect(clippy::cast_possible_truncation, reason = "the range was checked on the line above")]
    fits.then_some(v as i128)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_float_is_whole_only_when_nothing_is_lost() {
        assert_eq!(whole(-0.0), Some(0));
        assert_eq!(whole(5.0), Some(5));
        assert_eq!(whole(5.5), None);
        assert_eq!(whole(f64::INFINITY), None);
        assert_eq!(whole(f64::NAN), None);
        assert_eq!(whole(9_223_372_036_854_775_808.0), None);
    }
}
