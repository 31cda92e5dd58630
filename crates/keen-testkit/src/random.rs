//! Random rows that every engine can hold.

#![allow(missing_docs, clippy::unwrap_used, reason = "helpers of tests")]

use keen_core::value::Value;
use keen_core::value::calendar::{DAY, parse_timestamp};
use keen_core::value::decimal::Decimal;
use keen_core::value::json;
use proptest::prelude::*;

use super::typed::ColumnKind;

fn moment(text: &str) -> i64 {
    parse_timestamp(text).unwrap().0
}

/// Text that every engine can hold: PostgreSQL knows no zero byte.
fn text() -> impl Strategy<Value = String> {
    prop_oneof![
        "[ -~]{0,12}",
        "[a-cA-C éÉß]{0,4}",
        any::<String>().prop_map(|text| text.replace('\0', "")),
        Just("\u{1f3d4}\u{fe0f} O''Ridge\\n\"quoted\"\t\r\n\u{202e}".to_owned()),
        Just("NULL".to_owned()),
        Just(String::new()),
    ]
}

fn json_text() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        Just("null".to_owned()),
        any::<bool>().prop_map(|v| v.to_string()),
        any::<i32>().prop_map(|v| v.to_string()),
        (-1000i32..1000).prop_map(|v| format!("{v}.25")),
        "[a-z é\u{1f3d4}]{0,6}".prop_map(|v| format!("\"{v}\"")),
    ];
    let tree = leaf.prop_recursive(2, 8, 3, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..3).prop_map(|v| format!("[{}]", v.join(", "))),
            prop::collection::btree_map("[a-c]{1,2}", inner, 0..3).prop_map(|map| {
                let members: Vec<String> =
                    map.iter().rev().map(|(k, v)| format!("\"{k}\" : {v}")).collect();
                format!("{{{}}}", members.join(","))
            }),
        ]
    });
    tree.prop_map(|text| Value::Json(json::canonical(&text).unwrap()))
}

/// A value that all engines can hold.
pub fn value(kind: ColumnKind) -> BoxedStrategy<Value> {
    let span = |from: &str, to: &str| moment(from)..moment(to);
    match kind {
        ColumnKind::Bool => any::<bool>().prop_map(Value::Bool).boxed(),
        ColumnKind::Int => {
            prop_oneof![any::<i64>(), -3i64..4, Just(i64::MIN), Just(i64::MAX), Just((1 << 53) + 1)]
                .prop_map(|v| Value::Int(v.into()))
                .boxed()
        }
        ColumnKind::Decimal => prop_oneof![
            (any::<i64>(), 0u32..7).prop_map(|(v, scale)| format!("{v}e-{scale}")),
            Just("999999999999999999999999.999999".to_owned()),
            Just("0.1".to_owned()),
            Just("-0.000001".to_owned()),
        ]
        .prop_map(|text| Value::Decimal(Decimal::parse(&text).unwrap()))
        .boxed(),
        ColumnKind::Double => prop_oneof![
            any::<f64>().prop_filter("not everywhere", |v| v.is_finite()),
            Just(0.1),
            Just(-0.0),
            Just(f64::MAX),
            Just(1e15),
            Just(5e-324),
        ]
        .prop_map(Value::Float)
        .boxed(),
        ColumnKind::Text => text().prop_map(|v| Value::text(&v)).boxed(),
        ColumnKind::Bytes => {
            prop::collection::vec(any::<u8>(), 0..20).prop_map(Value::Bytes).boxed()
        }
        ColumnKind::Date => {
            (span("1000-01-01", "9999-12-31")).prop_map(|v| Value::Date(v / DAY)).boxed()
        }
        ColumnKind::Time => (0..DAY).prop_map(Value::Time).boxed(),
        ColumnKind::Local => {
            span("1000-01-01", "9999-12-31").prop_map(Value::LocalTimestamp).boxed()
        }
        ColumnKind::Moment => span("1970-01-02", "2038-01-01").prop_map(Value::Timestamp).boxed(),
        // MariaDB takes no others than RFC 9562 describes: version 4 here.
        ColumnKind::Uuid => any::<[u8; 16]>()
            .prop_map(|mut bytes| {
                bytes[6] = bytes[6] & 0x0f | 0x40;
                bytes[8] = bytes[8] & 0x3f | 0x80;
                Value::Uuid(bytes)
            })
            .boxed(),
        ColumnKind::Json => json_text().boxed(),
    }
}

fn nullable(kind: ColumnKind) -> BoxedStrategy<Value> {
    prop_oneof![1 => Just(Value::Null), 6 => value(kind)].boxed()
}

/// Rows of two key columns and one column of every kind.
pub fn rows() -> impl Strategy<Value = Vec<Vec<Value>>> {
    let cells: Vec<BoxedStrategy<Value>> = [value(ColumnKind::Int), value(ColumnKind::Text)]
        .into_iter()
        .chain(ColumnKind::ALL.into_iter().map(nullable))
        .collect();
    prop::collection::vec(cells, 1..40)
}

/// Under a collation that pads, spaces at the end of a key do not make it another.
pub fn distinct_keys(rows: Vec<Vec<Value>>, keys: &[usize], padded: bool) -> Vec<Vec<Value>> {
    let mut seen = std::collections::BTreeSet::new();
    let token = |row: &Vec<Value>| {
        let mut token = Vec::new();
        for i in keys {
            let cell = match &row[*i] {
                Value::Text(text) if padded => {
                    let end = text.iter().rposition(|b| *b != b' ').map_or(0, |at| at + 1);
                    Value::Text(text[..end].to_vec())
                }
                cell => cell.clone(),
            };
            keen_core::row::key_order::put_key(&mut token, cell.as_ref());
        }
        token
    };
    rows.into_iter().filter(|row| keys.is_empty() || seen.insert(token(row))).collect()
}

pub const NAMES: [&str; 14] = [
    "id",
    "Name \"x\"",
    "order",
    "n",
    "d",
    "f",
    "a text",
    "b",
    "day",
    "at",
    "local",
    "moment",
    "u",
    "j",
];
