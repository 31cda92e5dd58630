//! Values in PostgreSQL's binary form (the `*_send` functions of its source), and in its text.
//!
//! A value whose kind the core has becomes that, and loses nothing by it: a decimal keeps its scale, a JSON text its
//! spelling. Everything else (arrays, ranges, composites, intervals, addresses) is the text that the server itself
//! gives of it, and would take in again.

use std::fmt::Write as _;

use keen_core::engine::postgres::postgres_date;
use keen_core::value::calendar::{self, INFINITY, MINUS_INFINITY};
use keen_core::value::decimal::Decimal;
use keen_core::value::text::parse_uuid;
use keen_core::value::{Value, ValueRef};

use super::types::Codec;

/// Days from 1970-01-01 to 2000-01-01, where PostgreSQL counts from.
const EPOCH_DAYS: i64 = 10_957;
const EPOCH: i64 = EPOCH_DAYS * calendar::DAY;
/// Later moments than this, in the year 294247, do not fit into microseconds since 1970.
const LAST: i64 = i64::MAX - 1 - EPOCH;

/// A value did not hold what its type says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Malformed;

type Decoded<T> = Result<T, Malformed>;

/// Takes numbers off the front of bytes.
struct BinaryReader<'a>(&'a [u8]);

impl<'a> BinaryReader<'a> {
    fn take(&mut self, count: usize) -> Decoded<&'a [u8]> {
        let (front, rest) = self.0.split_at_checked(count).ok_or(Malformed)?;
        self.0 = rest;
        Ok(front)
    }

    fn array<const N: usize>(&mut self) -> Decoded<[u8; N]> {
        self.take(N)?.try_into().map_err(|_| Malformed)
    }

    fn u8(&mut self) -> Decoded<u8> {
        Ok(self.array::<1>()?[0])
    }

    fn u16(&mut self) -> Decoded<u16> {
        self.array().map(u16::from_be_bytes)
    }

    fn i16(&mut self) -> Decoded<i16> {
        self.array().map(i16::from_be_bytes)
    }

    fn u32(&mut self) -> Decoded<u32> {
        self.array().map(u32::from_be_bytes)
    }

    fn i32(&mut self) -> Decoded<i32> {
        self.array().map(i32::from_be_bytes)
    }

    fn i64(&mut self) -> Decoded<i64> {
        self.array().map(i64::from_be_bytes)
    }
}

/// A value that needs no memory of its own, if it is of such a kind.
#[inline]
pub(super) fn borrowed<'a>(codec: &Codec, bytes: &'a [u8]) -> Decoded<Option<ValueRef<'a>>> {
    let mut from = BinaryReader(bytes);
    Ok(Some(match codec {
        Codec::Bool => ValueRef::Bool(from.u8()? != 0),
        Codec::Int(2) => ValueRef::Int(from.i16()?.into()),
        Codec::Int(4) => ValueRef::Int(from.i32()?.into()),
        Codec::Int(_) => ValueRef::Int(from.i64()?.into()),
        Codec::Oid => ValueRef::Int(from.u32()?.into()),
        Codec::Float4 => ValueRef::Float(f32::from_bits(from.u32()?).into()),
        Codec::Float8 => ValueRef::Float(f64::from_bits(from.i64()?.cast_unsigned())),
        Codec::Text | Codec::ServerText | Codec::Inet => ValueRef::Text(bytes),
        Codec::Padded => ValueRef::Text(bytes.trim_ascii_end_spaces()),
        Codec::Bytea => ValueRef::Bytes(bytes),
        Codec::Date => ValueRef::Date(date(from.i32()?)),
        Codec::Time => ValueRef::Time(from.i64()?),
        Codec::Timestamp => match timestamp(from.i64()?) {
            Some(micros) => ValueRef::LocalTimestamp(micros),
            None => return Ok(None),
        },
        Codec::TimestampTz => match timestamp(from.i64()?) {
            Some(micros) => ValueRef::Timestamp(micros),
            None => return Ok(None),
        },
        Codec::Uuid => ValueRef::Uuid(from.array()?),
        _ => return Ok(None),
    }))
}

trait TrimSpaces {
    fn trim_ascii_end_spaces(&self) -> &[u8];
}

impl TrimSpaces for [u8] {
    /// Only spaces: other white space in a padded text counts.
    fn trim_ascii_end_spaces(&self) -> &[u8] {
        let end = self.iter().rposition(|b| *b != b' ').map_or(0, |at| at + 1);
        &self[..end]
    }
}

/// A value of any kind.
pub(super) fn owned(codec: &Codec, bytes: &[u8]) -> Decoded<Value> {
    if let Some(value) = borrowed(codec, bytes)? {
        return Ok(value.to_value());
    }
    let mut from = BinaryReader(bytes);
    Ok(match codec {
        Codec::Numeric => numeric(bytes)?,
        Codec::Bit => Value::text(&bits(bytes)?),
        Codec::BitNumber => {
            let text = bits(bytes)?;
            i128::from_str_radix(&text, 2).map_or_else(|_| Value::text(&text), Value::Int)
        }
        Codec::Json | Codec::Jsonb => Value::Json(json_text(codec, bytes)?.to_owned()),
        Codec::Timestamp => Value::text(&beyond(from.i64()?, "")),
        Codec::TimestampTz => Value::text(&beyond(from.i64()?, "+00")),
        _ => return Err(Malformed),
    })
}

/// A value from the text that the server gives of it; none where that text depends on the server's settings.
pub(super) fn from_text(codec: &Codec, text: &str) -> Option<Value> {
    let number = |text: &str| text.parse().ok().map(Value::Int);
    let moment = |text: &str| {
        let (body, before_christ) = text.strip_suffix(" BC").map_or((text, false), |t| (t, true));
        let (year, rest) = body.split_once('-')?;
        let body = match before_christ {
            // Year 1 BC is year 0.
            true => {
                let year = 1 - year.parse::<i64>().ok()?;
                format!("{}{:04}-{rest}", if year < 0 { "-" } else { "" }, year.abs())
            }
            false => body.to_owned(),
        };
        calendar::parse_timestamp(&body)
    };
    Some(match codec {
        Codec::Bool => Value::Bool(text == "t"),
        Codec::Int(_) | Codec::Oid => number(text)?,
        Codec::Float4 => Value::Float(text.parse::<f32>().ok()?.into()),
        Codec::Float8 => Value::Float(text.parse().ok()?),
        Codec::Numeric => match Decimal::written(text) {
            Ok(decimal) => Value::Decimal(decimal),
            Err(_) => Value::Float(text.parse().ok()?),
        },
        Codec::Text | Codec::ServerText | Codec::Inet | Codec::Bit => Value::text(text),
        Codec::Padded => Value::Text(text.as_bytes().trim_ascii_end_spaces().to_vec()),
        Codec::Bytea => {
            let digits = text.strip_prefix("\\x")?.as_bytes();
            let digit = |byte: &u8| char::from(*byte).to_digit(16).map(|digit| digit as u8);
            let pairs = digits.chunks(2).map(|pair| match pair {
                [high, low] => Some(digit(high)? << 4 | digit(low)?),
                _ => None,
            });
            Value::Bytes(pairs.collect::<Option<Vec<u8>>>()?)
        }
        Codec::BitNumber => Value::Int(i128::from_str_radix(text, 2).ok()?),
        Codec::Date => match calendar::parse_date(text) {
            Some(days) => Value::Date(days),
            None => Value::Date(moment(text)?.0.div_euclid(calendar::DAY)),
        },
        Codec::Time => Value::Time(calendar::parse_time(text)?),
        Codec::Timestamp if matches!(text, "infinity" | "-infinity") => {
            Value::LocalTimestamp(calendar::parse_timestamp(text)?.0)
        }
        Codec::TimestampTz if matches!(text, "infinity" | "-infinity") => {
            Value::Timestamp(calendar::parse_timestamp(text)?.0)
        }
        // What does not fit is its text, as it is where it was read from the table.
        Codec::Timestamp => match moment(text) {
            Some((micros, _)) => Value::LocalTimestamp(micros),
            None => Value::text(text),
        },
        Codec::TimestampTz => match moment(text) {
            Some((micros, offset)) => Value::Timestamp(micros.checked_sub(offset.unwrap_or(0))?),
            None => Value::text(text),
        },
        Codec::Uuid => Value::Uuid(parse_uuid(text)?),
        Codec::Json | Codec::Jsonb => Value::Json(text.to_owned()),
    })
}

fn json_text<'a>(codec: &Codec, bytes: &'a [u8]) -> Decoded<&'a str> {
    let text = match (codec, bytes.split_first()) {
        (Codec::Jsonb, Some((1, text))) => text,
        (Codec::Jsonb, _) => return Err(Malformed),
        _ => bytes,
    };
    std::str::from_utf8(text).map_err(|_| Malformed)
}

fn date(days: i32) -> i64 {
    match days {
        i32::MAX => INFINITY,
        i32::MIN => MINUS_INFINITY,
        days => i64::from(days) + EPOCH_DAYS,
    }
}

/// None beyond what microseconds since 1970 can say.
fn timestamp(micros: i64) -> Option<i64> {
    match micros {
        INFINITY | MINUS_INFINITY => Some(micros),
        micros if micros > LAST => None,
        micros => Some(micros + EPOCH),
    }
}

/// A moment of the last years that PostgreSQL has, as it prints it.
fn beyond(micros: i64, zone: &str) -> String {
    let time = calendar::time_text(micros.rem_euclid(calendar::DAY));
    postgres_date(micros.div_euclid(calendar::DAY) + EPOCH_DAYS, &format!(" {time}{zone}"))
}

fn bits(bytes: &[u8]) -> Decoded<String> {
    let mut from = BinaryReader(bytes);
    let length = usize::try_from(from.i32()?).map_err(|_| Malformed)?;
    if length > from.0.len() * 8 {
        return Err(Malformed);
    }
    let bit = |i: usize| if from.0[i / 8] & (0x80 >> (i % 8)) == 0 { '0' } else { '1' };
    Ok((0..length).map(bit).collect())
}

/// Groups of four digits, the first of weight 10000^weight.
fn numeric(bytes: &[u8]) -> Decoded<Value> {
    let mut from = BinaryReader(bytes);
    let (count, weight, sign) = (from.u16()?, i32::from(from.i16()?), from.u16()?);
    let scale = usize::from(from.u16()? & 0x3fff); // digits after the point that are shown
    let negative = match sign {
        0x0000 => false,
        0x4000 => true,
        0xc000 => return Ok(Value::Float(f64::NAN)),
        0xd000 => return Ok(Value::Float(f64::INFINITY)),
        0xf000 => return Ok(Value::Float(f64::NEG_INFINITY)),
        _ => return Err(Malformed),
    };
    let mut digits = String::with_capacity(usize::from(count) * 4 + 8);
    if negative {
        digits.push('-');
    }
    if weight < 0 {
        digits.push_str("0.");
        (weight + 1..0).for_each(|_| digits.push_str("0000"));
    }
    for i in 0..i32::from(count) {
        if i == weight + 1 && weight >= 0 {
            digits.push('.');
        }
        let _ = write!(digits, "{:04}", from.u16()?);
    }
    for _ in i32::from(count)..=weight {
        digits.push_str("0000");
    }
    // Groups of four can say more digits than are shown, or fewer: those are zeros.
    let mut text = Decimal::parse(&digits).map_err(|_| Malformed)?.as_str().to_owned();
    let shown = text.split_once('.').map_or(0, |(_, fraction)| fraction.len());
    if scale > shown {
        text.push_str(if shown == 0 { "." } else { "" });
        text.push_str(&"0".repeat(scale - shown));
    }
    Decimal::written(&text).map(Value::Decimal).map_err(|_| Malformed)
}
