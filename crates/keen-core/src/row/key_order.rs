//! Key order: bytes that compare like keys do.
//!
//! Every adapter delivers a table in this order and the comparison merges by
//! it, so the order must not depend on an engine's collation or encoding:
//! nothing < numbers by value < text by UTF-8 bytes < bytes. An integer and a
//! float of the same value are the same key, as they are to SQLite; the rows
//! behind them still differ if the kinds do.
//!
//! The encoding of a number is the largest double not above it (eight bytes
//! whose unsigned order is the order of doubles) and how far the number lies
//! above that double (two bytes): exact for all 64-bit integers beside all
//! doubles, which a conversion to double would not be.

use crate::row::encoding::key_bits;
use crate::value::ValueRef;

mod rank {
    pub(crate) const NULL: u8 = 0x01;
    pub(crate) const BOOL: u8 = 0x08;
    pub(crate) const NUMBER: u8 = 0x10;
    pub(crate) const WIDE_NEGATIVE: u8 = 0x0f;
    pub(crate) const WIDE_POSITIVE: u8 = 0x11;
    pub(crate) const DECIMAL: u8 = 0x18;
    pub(crate) const DATE: u8 = 0x20;
    pub(crate) const TIME: u8 = 0x21;
    pub(crate) const TIMESTAMP: u8 = 0x22;
    pub(crate) const LOCAL_TIMESTAMP: u8 = 0x23;
    pub(crate) const UUID: u8 = 0x24;
    pub(crate) const TEXT: u8 = 0x30;
    pub(crate) const JSON: u8 = 0x31;
    pub(crate) const BYTES: u8 = 0x40;
}

/// Appends the order bytes of one key cell. They end themselves: no cell's
/// bytes are a prefix of another's, so a composite key is their concatenation.
#[inline]
pub fn put_key(out: &mut Vec<u8>, value: ValueRef<'_>) {
    match value {
        ValueRef::Null => out.push(rank::NULL),
        ValueRef::Bool(v) => out.extend_from_slice(&[rank::BOOL, u8::from(v)]),
        ValueRef::Int(v) => put_whole(out, v),
        ValueRef::Float(v) => put_number(out, v, 0),
        ValueRef::Text(v) => put_escaped(out, rank::TEXT, v),
        ValueRef::Bytes(v) => put_escaped(out, rank::BYTES, v),
        ValueRef::Decimal(v) => put_decimal(out, v.as_str()),
        ValueRef::Date(v) => put_signed(out, rank::DATE, v),
        ValueRef::Time(v) => put_signed(out, rank::TIME, v),
        ValueRef::Timestamp(v) => put_signed(out, rank::TIMESTAMP, v),
        ValueRef::LocalTimestamp(v) => put_signed(out, rank::LOCAL_TIMESTAMP, v),
        ValueRef::Uuid(v) => {
            out.push(rank::UUID);
            out.extend_from_slice(&v);
        }
        ValueRef::Json(v) => put_escaped(out, rank::JSON, v.as_bytes()),
    }
}

fn put_signed(out: &mut Vec<u8>, rank: u8, v: i64) {
    out.push(rank);
    out.extend_from_slice(&(v.cast_unsigned() ^ (1 << 63)).to_be_bytes());
}

#[inline]
fn put_whole(out: &mut Vec<u8>, v: i128) {
    let Ok(v) = i64::try_from(v) else {
        // Beyond 64 bits no engine here mixes integers with doubles in one key.
        out.push(if v < 0 { rank::WIDE_NEGATIVE } else { rank::WIDE_POSITIVE });
        out.extend_from_slice(&(v.cast_unsigned() ^ (1 << 127)).to_be_bytes());
        return;
    };
    #[expect(clippy::cast_precision_loss, reason = "the loss is measured and kept as the rest")]
    let mut double = v as f64;
    if v.unsigned_abs() <= 1 << 53 {
        return put_number(out, double, 0); // every whole number up to there is a double
    }
    #[expect(
        clippy::cast_possible_truncation,
        reason = "a double made from an i64 fits in an i128"
    )]
    let mut rest = i128::from(v) - double as i128;
    if rest < 0 {
        double = double.next_down();
        #[expect(clippy::cast_possible_truncation, reason = "as above")]
        {
            rest = i128::from(v) - double as i128;
        }
    }
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "neighbouring doubles below 2^63 lie at most 1024 apart"
    )]
    put_number(out, double, rest as u16);
}

#[inline]
fn put_number(out: &mut Vec<u8>, double: f64, rest: u16) {
    let bits = key_bits(double);
    let ordered = if bits >> 63 == 1 { !bits } else { bits | (1 << 63) };
    let mut key = [rank::NUMBER; 11];
    key[1..9].copy_from_slice(&ordered.to_be_bytes());
    key[9..].copy_from_slice(&rest.to_be_bytes());
    out.extend_from_slice(&key);
}

/// A zero byte becomes `00 ff`, the end is `00 00`: shorter sorts first.
fn put_escaped(out: &mut Vec<u8>, rank: u8, bytes: &[u8]) {
    out.push(rank);
    if !bytes.contains(&0) {
        out.extend_from_slice(bytes); // nearly always
        return out.extend_from_slice(&[0x00, 0x00]);
    }
    let mut rest = bytes;
    while let Some(at) = rest.iter().position(|b| *b == 0) {
        out.extend_from_slice(&rest[..at]);
        out.extend_from_slice(&[0x00, 0xff]);
        rest = &rest[at + 1..];
    }
    out.extend_from_slice(rest);
    out.extend_from_slice(&[0x00, 0x00]);
}

/// Sign, number of digits before the point, digits; complemented when negative.
fn put_decimal(out: &mut Vec<u8>, text: &str) {
    out.push(rank::DECIMAL);
    let (negative, magnitude) = text.strip_prefix('-').map_or((false, text), |m| (true, m));
    let (whole, fraction) = magnitude.split_once('.').unwrap_or((magnitude, ""));
    let (whole, fraction) = (whole.trim_start_matches('0'), fraction.trim_end_matches('0'));
    let start = out.len() + 1;
    out.push(1);
    #[expect(
        clippy::cast_possible_truncation,
        reason = "a decimal has at most 100 000 digits before its point"
    )]
    out.extend_from_slice(&(whole.len() as u32).to_be_bytes());
    out.extend_from_slice(whole.as_bytes());
    out.extend_from_slice(fraction.as_bytes());
    out.push(0);
    if negative {
        out[start - 1] = 0;
        out[start..].iter_mut().for_each(|b| *b = !*b);
    }
}

#[cfg(test)]
mod tests {
    use std::cmp::Ordering;

    use proptest::prelude::*;

    use super::*;
    use crate::value::Value;
    use crate::value::decimal::Decimal;

    fn key(v: &Value) -> Vec<u8> {
        let mut out = Vec::new();
        put_key(&mut out, v.as_ref());
        out
    }

    /// Exact comparison of an integer with a double, the slow way.
    fn compare(a: &Value, b: &Value) -> Ordering {
        match (a, b) {
            (Value::Int(a), Value::Int(b)) => a.cmp(b),
            (Value::Float(a), Value::Float(b)) => a.partial_cmp(b).unwrap(),
            (Value::Int(_), Value::Float(_)) => compare(b, a).reverse(),
            (Value::Float(a), Value::Int(b)) => {
                if *a >= 9.3e18 {
                    Ordering::Greater
                } else if *a <= -9.3e18 {
                    Ordering::Less
                } else {
                    (a.floor() as i128).cmp(b).then(if a.fract() == 0.0 {
                        Ordering::Equal
                    } else {
                        Ordering::Greater
                    })
                }
            }
            _ => unreachable!(),
        }
    }

    fn number() -> impl Strategy<Value = Value> {
        let near =
            prop::sample::select(vec![0i64, 1 << 53, -(1 << 53), i64::MAX, i64::MIN, 1 << 62]);
        prop_oneof![
            any::<i64>().prop_map(|v| Value::Int(v.into())),
            (near.clone(), -3i64..4).prop_map(|(n, d)| Value::Int(n.saturating_add(d).into())),
            (near, -3.0..4.0f64).prop_map(|(n, d)| Value::Float(n as f64 + d)),
            any::<f64>().prop_filter("NaN is no key", |v| !v.is_nan()).prop_map(Value::Float),
        ]
    }

    proptest! {
        #[test]
        fn numbers_sort_by_exact_value(a in number(), b in number()) {
            prop_assert_eq!(key(&a).cmp(&key(&b)), compare(&a, &b));
        }

        #[test]
        fn composite_text_keys_sort_cell_by_cell(
            a in prop::collection::vec(prop::collection::vec(0u8..3, 0..4), 2),
            b in prop::collection::vec(prop::collection::vec(0u8..3, 0..4), 2),
        ) {
            let join = |cells: &[Vec<u8>]| cells.iter().flat_map(|c| key(&Value::Text(c.clone()))).collect::<Vec<_>>();
            prop_assert_eq!(join(&a).cmp(&join(&b)), a.cmp(&b));
        }

        #[test]
        fn decimals_sort_by_value(a in -100_000i64..100_000, b in -100_000i64..100_000) {
            let decimal = |v: i64| Value::Decimal(Decimal::parse(&format!("{v}e-3")).unwrap());
            prop_assert_eq!(key(&decimal(a)).cmp(&key(&decimal(b))), a.cmp(&b));
        }
    }

    #[test]
    fn kinds_sort_as_sqlite_sorts_them() {
        let keys = [
            Value::Null,
            Value::Float(f64::NEG_INFINITY),
            Value::Int(0),
            Value::Float(f64::INFINITY),
            Value::text(""),
            Value::text("é"),
            Value::Bytes(vec![]),
        ];
        assert!(keys.windows(2).all(|pair| key(&pair[0]) < key(&pair[1])));
        assert_eq!(key(&Value::Int(1)), key(&Value::Float(1.0)));
    }
}
