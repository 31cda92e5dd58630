//! Cells and rows.

use std::fmt::Display;

use base64::Engine as _;
use base64::display::Base64Display;
use base64::engine::general_purpose::STANDARD as BASE64;
use keen_core::row::batch::Layout;
use keen_core::value::Value;
use keen_core::value::calendar;
use keen_core::value::decimal::Decimal;
use keen_core::value::text::{parse_uuid, text_of};
use serde::Deserialize;
use serde::ser::{Serialize, SerializeMap, Serializer};
use serde_json::{Map, Value as Json, json};

/// Whole numbers up to this are exact as a double, and so in most readers of JSON.
const LARGEST_EXACT: u128 = 1 << 53;

/// A row, or a part of one: column to cell, in the order of the table.
#[derive(Debug, Clone, Default, PartialEq, serde::Serialize, Deserialize)]
#[serde(transparent)]
pub struct Cells(pub Map<String, Json>);

/// Some cells by the names of their columns.
pub fn cells<'a>(cells: impl IntoIterator<Item = (&'a str, &'a Value)>) -> Cells {
    Cells(cells.into_iter().map(|(name, cell)| (name.to_owned(), value(cell))).collect())
}

/// A value (`docs/json.md`).
#[must_use]
pub fn value(value: &Value) -> Json {
    match value {
        Value::Null => Json::Null,
        Value::Bool(v) => Json::from(*v),
        Value::Int(v) => match i64::try_from(*v) {
            Ok(small) if v.unsigned_abs() <= LARGEST_EXACT => Json::from(small),
            _ => json!({"int": v.to_string()}),
        },
        Value::Float(v) if v.is_finite() => Json::from(*v),
        Value::Float(v) if v.is_nan() => json!({"float": "NaN"}),
        Value::Float(v) => json!({"float": if *v > 0.0 { "Infinity" } else { "-Infinity" }}),
        Value::Text(bytes) => match std::str::from_utf8(bytes) {
            Ok(text) => Json::from(text),
            Err(_) => json!({"text_bytes": BASE64.encode(bytes)}),
        },
        Value::Bytes(bytes) => json!({"bytes": BASE64.encode(bytes)}),
        Value::Decimal(v) => json!({"decimal": v.as_str()}),
        Value::Date(_) => json!({"date": text_of(value.as_ref())}),
        Value::Time(_) => json!({"time": text_of(value.as_ref())}),
        Value::Timestamp(_) => json!({"timestamp": text_of(value.as_ref())}),
        Value::LocalTimestamp(_) => json!({"local_timestamp": text_of(value.as_ref())}),
        Value::Uuid(_) => json!({"uuid": text_of(value.as_ref())}),
        Value::Json(v) => json!({"json": v}),
    }
}

/// Reads a value (`docs/json.md`); none if keen writes no such thing.
#[must_use]
pub fn parse_value(json: &Json) -> Option<Value> {
    let decode = |text: &Json| BASE64.decode(text.as_str()?).ok();
    Some(match json {
        Json::Null => Value::Null,
        Json::Bool(v) => Value::Bool(*v),
        Json::String(text) => Value::text(text),
        Json::Number(n) => match n.as_i64() {
            Some(v) => Value::Int(v.into()),
            None => Value::Float(n.as_f64()?),
        },
        Json::Object(map) => {
            let (name, inner) = map.iter().next().filter(|_| map.len() == 1)?;
            match name.as_str() {
                "int" => Value::Int(inner.as_str()?.parse().ok()?),
                "bytes" => Value::Bytes(decode(inner)?),
                "text_bytes" => Value::Text(decode(inner)?),
                "uuid" => Value::Uuid(parse_uuid(inner.as_str()?)?),
                "float" => Value::Float(match inner.as_str()? {
                    "Infinity" => f64::INFINITY,
                    "-Infinity" => f64::NEG_INFINITY,
                    "NaN" => f64::NAN,
                    _ => return None,
                }),
                "decimal" => Value::Decimal(
                    Decimal::written(inner.as_str()?)
                        .or_else(|_| Decimal::parse(inner.as_str().unwrap_or_default()))
                        .ok()?,
                ),
                "date" => Value::Date(calendar::parse_date(inner.as_str()?)?),
                "time" => Value::Time(calendar::parse_time(inner.as_str()?)?),
                "timestamp" => Value::Timestamp(calendar::parse_timestamp(inner.as_str()?)?.0),
                "local_timestamp" => {
                    Value::LocalTimestamp(calendar::parse_timestamp(inner.as_str()?)?.0)
                }
                "json" => Value::Json(inner.as_str()?.to_owned()),
                _ => return None,
            }
        }
        Json::Array(_) => return None,
    })
}

/// Writes a cell from where it is: a long one is not held a second time.
pub(crate) struct CellWriter<'a>(pub(crate) &'a Value);

impl Serialize for CellWriter<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let named = |to: S, name: &str, bytes: &[u8]| {
            let mut map = to.serialize_map(Some(1))?;
            map.serialize_entry(name, &Displayed(Base64Display::new(bytes, &BASE64)))?;
            map.end()
        };
        match self.0 {
            Value::Bytes(bytes) => named(to, "bytes", bytes),
            Value::Text(bytes) => match std::str::from_utf8(bytes) {
                Ok(text) => to.serialize_str(text),
                Err(_) => named(to, "text_bytes", bytes),
            },
            Value::Json(text) => {
                let mut map = to.serialize_map(Some(1))?;
                map.serialize_entry("json", text)?;
                map.end()
            }
            short => value(short).serialize(to),
        }
    }
}

/// Writes something as a string, as it is displayed.
struct Displayed<T>(T);

impl<T: Display> Serialize for Displayed<T> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_str(&self.0)
    }
}

/// Writes cells by the names of their columns, from where they are.
pub(crate) struct CellsWriter<'a>(pub(crate) Vec<(&'a str, &'a Value)>);

impl<'a> CellsWriter<'a> {
    /// The cells of a row, in the order of its table.
    pub(crate) fn row(layout: &'a Layout, cells: &'a [Value]) -> Self {
        let shown = layout.shown.iter();
        Self(shown.filter_map(|i| Some((&layout.columns[*i].name[..], cells.get(*i)?))).collect())
    }

    /// Cells that have names already.
    pub(crate) fn named(cells: &'a [(String, Value)]) -> Self {
        Self(cells.iter().map(|(name, value)| (&name[..], value)).collect())
    }
}

impl Serialize for CellsWriter<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_map(self.0.iter().map(|(name, cell)| (name, CellWriter(cell))))
    }
}

/// Writes what an iterator yields, one after the other, as a list.
pub(crate) struct WriteEach<I>(pub(crate) I);

impl<I: Iterator<Item: Serialize> + Clone> Serialize for WriteEach<I> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_seq(self.0.clone())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn values_survive_the_document(v in prop_oneof![
            Just(Value::Null),
            any::<i128>().prop_map(Value::Int),
            any::<f64>().prop_filter("NaN is not equal to itself", |v| !v.is_nan()).prop_map(Value::Float),
            any::<String>().prop_map(|v| Value::text(&v)),
            any::<Vec<u8>>().prop_map(Value::Text),
            any::<Vec<u8>>().prop_map(Value::Bytes),
            any::<[u8; 16]>().prop_map(Value::Uuid),
            (-4_000_000i64..4_000_000).prop_map(Value::Date),
            (-3_000_000_000_000i64..3_000_000_000_000).prop_map(Value::Time),
            (-9_000_000_000_000_000i64..90_000_000_000_000_000).prop_map(Value::Timestamp),
            (-9_000_000_000_000_000i64..90_000_000_000_000_000).prop_map(Value::LocalTimestamp),
            Just(Value::LocalTimestamp(i64::MAX)),
            "[0-9]{1,20}".prop_map(|v| Value::text(&v)),
        ]) {
            let json = value(&v);
            let text = serde_json::to_string(&json).unwrap();
            let back = parse_value(&serde_json::from_str(&text).unwrap()).unwrap();
            prop_assert_eq!(back, v);
        }
    }
}
