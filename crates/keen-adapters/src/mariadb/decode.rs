//! Values as the binary protocol delivers them.

use keen_core::value::calendar;
use keen_core::value::decimal::Decimal;
use keen_core::value::text::parse_uuid;
use keen_core::value::{Value, ValueRef};
use mysql::Value as Cell;

/// How the values of a column are taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Take {
    /// Whole numbers and floats: the protocol says which.
    Number,
    Decimal,
    Text,
    Bytes,
    Json,
    Uuid,
    Date,
    /// A timestamp without a zone.
    Local,
    /// A timestamp in UTC.
    Moment,
    Time,
    /// So many bits, as a text of zeros and ones.
    Bits(u32),
    /// Bits as a number.
    BitsNumber,
}

/// A value that needs no memory of its own, if it is of such a kind.
#[inline]
pub(super) fn borrowed<'a>(take: Take, cell: &'a Cell) -> Option<ValueRef<'a>> {
    Some(match (take, cell) {
        (_, Cell::NULL) => ValueRef::Null,
        (Take::Number, Cell::Int(v)) => ValueRef::Int((*v).into()),
        (Take::Number, Cell::UInt(v)) => ValueRef::Int((*v).into()),
        (Take::Number, Cell::Float(v)) => ValueRef::Float((*v).into()),
        (Take::Number, Cell::Double(v)) => ValueRef::Float(*v),
        (Take::Text, Cell::Bytes(v)) => ValueRef::Text(v),
        (Take::Bytes, Cell::Bytes(v)) => ValueRef::Bytes(v),
        (Take::Date, Cell::Date(y, m, d, ..)) => ValueRef::Date(days(*y, *m, *d)?),
        (Take::Local, Cell::Date(..)) => ValueRef::LocalTimestamp(micros(cell)?),
        (Take::Moment, Cell::Date(..)) => ValueRef::Timestamp(micros(cell)?),
        (Take::Time, Cell::Time(negative, days, hours, minutes, seconds, micros)) => {
            let hours = i64::from(*days) * 24 + i64::from(*hours);
            let seconds = (hours * 60 + i64::from(*minutes)) * 60 + i64::from(*seconds);
            let micros = seconds * 1_000_000 + i64::from(*micros);
            ValueRef::Time(if *negative { -micros } else { micros })
        }
        _ => return None,
    })
}

/// A value of any kind; what fits no other is the text of it.
pub(super) fn owned(take: Take, cell: &Cell) -> Value {
    match (take, cell) {
        (Take::Bits(width), Cell::Bytes(v)) => {
            let number = bits(v);
            let bit = |i: u32| if number >> i & 1 == 0 { '0' } else { '1' };
            Value::text(&(0..width).rev().map(bit).collect::<String>())
        }
        (Take::BitsNumber, Cell::Bytes(v)) => Value::Int(bits(v).into()),
        (Take::Date, Cell::Date(y, m, d, ..)) => Value::text(&format!("{y:04}-{m:02}-{d:02}")),
        (Take::Local | Take::Moment, Cell::Date(y, mo, d, h, mi, s, us)) => {
            let time = ((i64::from(*h) * 60 + i64::from(*mi)) * 60 + i64::from(*s)) * 1_000_000;
            let time = calendar::time_text(time + i64::from(*us));
            Value::text(&format!("{y:04}-{mo:02}-{d:02} {time}"))
        }
        (take, Cell::Bytes(v)) => {
            let text = std::str::from_utf8(v).ok();
            let made = text.and_then(|text| match take {
                Take::Decimal => Decimal::written(text).ok().map(Value::Decimal),
                Take::Json => Some(Value::Json(text.to_owned())),
                Take::Uuid => parse_uuid(text).map(Value::Uuid),
                _ => None,
            });
            made.unwrap_or_else(|| Value::Text(v.clone()))
        }
        (_, other) => Value::text(&format!("{other:?}")),
    }
}

fn bits(bytes: &[u8]) -> u64 {
    bytes.iter().fold(0, |number, byte| number << 8 | u64::from(*byte))
}

/// None for dates with zeros in them, which are no days.
fn days(year: u16, month: u8, day: u8) -> Option<i64> {
    (month > 0 && day > 0).then(|| calendar::days(year.into(), month.into(), day.into()))
}

fn micros(cell: &Cell) -> Option<i64> {
    let Cell::Date(y, mo, d, h, mi, s, us) = cell else {
        return None;
    };
    let seconds = (i64::from(*h) * 60 + i64::from(*mi)) * 60 + i64::from(*s);
    Some(days(*y, *mo, *d)? * calendar::DAY + seconds * 1_000_000 + i64::from(*us))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_day_is_told_by_its_text() {
        let zero = Cell::Date(0, 0, 0, 0, 0, 0, 0);
        assert_eq!(borrowed(Take::Date, &zero), None);
        assert_eq!(owned(Take::Date, &zero), Value::text("0000-00-00"));
        assert_eq!(owned(Take::Local, &zero), Value::text("0000-00-00 00:00:00"));
        assert_eq!(
            owned(Take::Date, &Cell::Date(2026, 0, 15, 0, 0, 0, 0)),
            Value::text("2026-00-15")
        );
    }

    #[test]
    fn times_pass_midnight_both_ways() {
        let time = Cell::Time(true, 34, 22, 59, 59, 500_000);
        assert_eq!(
            borrowed(Take::Time, &time),
            Some(ValueRef::Time(-(838 * 3600 + 3599) * 1_000_000 - 500_000))
        );
    }

    #[test]
    fn bits_keep_their_width() {
        let cell = Cell::Bytes(vec![0x02, 0x01]);
        assert_eq!(owned(Take::Bits(10), &cell), Value::text("1000000001"));
        assert_eq!(owned(Take::BitsNumber, &cell), Value::Int(513));
    }
}
