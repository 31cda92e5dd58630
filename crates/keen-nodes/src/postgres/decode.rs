//! Values in PostgreSQL's binary form (the `*_send` functions of its source).
//!
//! What has a kind of its own in the core becomes that. Everything else (arrays,
//! ranges, composites, intervals, addresses) becomes the text by which
//! PostgreSQL itself would take it in again, with numbers and times inside in
//! their one spelling, so that equal values have equal text.

use std::fmt::Write as _;
use std::net::{Ipv4Addr, Ipv6Addr};

use keen_core::calendar::{self, INFINITY, MINUS_INFINITY};
use keen_core::decimal::Decimal;
use keen_core::json;
use keen_core::plan::dialect::{postgres_date, postgres_timestamp};
use keen_core::spelling::{text_of, uuid_text};
use keen_core::value::{Value, ValueRef};

use super::types::{Codec, Types};

/// Days from 1970-01-01 to 2000-01-01, where PostgreSQL counts from.
const EPOCH_DAYS: i64 = 10_957;
const EPOCH: i64 = EPOCH_DAYS * calendar::DAY;

/// A value did not hold what its type says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Malformed;

type Decoded<T> = Result<T, Malformed>;

/// Takes numbers off the front of bytes.
struct Bytes<'a>(&'a [u8]);

impl<'a> Bytes<'a> {
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

    /// A length and so many bytes; none for NULL.
    fn field(&mut self) -> Decoded<Option<&'a [u8]>> {
        match self.i32()? {
            -1 => Ok(None),
            length => self.take(usize::try_from(length).map_err(|_| Malformed)?).map(Some),
        }
    }
}

/// A value that needs no memory of its own, if it is of such a kind.
#[inline]
pub(super) fn borrowed<'a>(codec: &Codec, bytes: &'a [u8]) -> Decoded<Option<ValueRef<'a>>> {
    let mut from = Bytes(bytes);
    Ok(Some(match codec {
        Codec::Bool => ValueRef::Bool(from.u8()? != 0),
        Codec::Int(2) => ValueRef::Int(from.i16()?.into()),
        Codec::Int(4) => ValueRef::Int(from.i32()?.into()),
        Codec::Int(_) => ValueRef::Int(from.i64()?.into()),
        Codec::Oid => ValueRef::Int(from.u32()?.into()),
        Codec::Float4 => ValueRef::Float(f32::from_bits(from.u32()?).into()),
        Codec::Float8 => ValueRef::Float(f64::from_bits(from.i64()?.cast_unsigned())),
        Codec::Text | Codec::ServerText => ValueRef::Text(bytes),
        Codec::Padded => ValueRef::Text(bytes.trim_ascii_end_spaces()),
        Codec::Bytea | Codec::Raw => ValueRef::Bytes(bytes),
        Codec::Date => ValueRef::Date(date(from.i32()?)),
        Codec::Time => ValueRef::Time(from.i64()?),
        Codec::Timestamp => ValueRef::LocalTimestamp(timestamp(from.i64()?)),
        Codec::TimestampTz => ValueRef::Timestamp(timestamp(from.i64()?)),
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
pub(super) fn owned(types: &Types, codec: &Codec, bytes: &[u8]) -> Decoded<Value> {
    if let Some(value) = borrowed(codec, bytes)? {
        return Ok(value.to_value());
    }
    Ok(match codec {
        Codec::Numeric => numeric(bytes)?,
        Codec::BitNumber => {
            let text = owned(types, &Codec::Bit, bytes)?;
            let number = i128::from_str_radix(&text_of(text.as_ref()), 2);
            number.map_or(text, Value::Int)
        }
        Codec::Json | Codec::Jsonb => {
            let text = json_text(codec, bytes)?;
            match json::canonical(text) {
                Ok(canonical) => Value::Json(canonical),
                Err(_) => Value::text(text),
            }
        }
        _ => {
            let mut text = String::new();
            put_text(types, codec, bytes, &mut text)?;
            Value::text(&text)
        }
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

fn timestamp(micros: i64) -> i64 {
    match micros {
        INFINITY | MINUS_INFINITY => micros,
        micros => micros.saturating_add(EPOCH),
    }
}

/// Groups of four digits, the first of weight 10000^weight.
fn numeric(bytes: &[u8]) -> Decoded<Value> {
    let mut from = Bytes(bytes);
    let (count, weight, sign) = (from.u16()?, i32::from(from.i16()?), from.u16()?);
    from.u16()?; // digits after the point that are shown: trailing zeros mean nothing
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
    Decimal::parse(&digits).map(Value::Decimal).map_err(|_| Malformed)
}

/// The text by which PostgreSQL would take the value in again.
fn put_text(types: &Types, codec: &Codec, bytes: &[u8], out: &mut String) -> Decoded<()> {
    let mut from = Bytes(bytes);
    match codec {
        Codec::TimeTz => {
            let (time, west) = (from.i64()?, from.i32()?);
            out.push_str(&calendar::time_text(time));
            put_offset(-west, out);
        }
        Codec::Interval => {
            let (micros, days, months) = (from.i64()?, from.i32()?, from.i32()?);
            put_interval(months, days, micros, out);
        }
        Codec::Inet { is_cidr } => put_address(&mut from, *is_cidr, out)?,
        Codec::Mac => {
            let parts: Vec<String> = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
            out.push_str(&parts.join(":"));
        }
        Codec::Bit => {
            let length = usize::try_from(from.i32()?).map_err(|_| Malformed)?;
            if length > from.0.len() * 8 {
                return Err(Malformed);
            }
            let bit = |i: usize| if from.0[i / 8] & (0x80 >> (i % 8)) == 0 { '0' } else { '1' };
            out.extend((0..length).map(bit));
        }
        Codec::Array(_) => put_array(types, &mut from, out)?,
        Codec::Range(sub) => put_range(types, *sub, &mut from, out)?,
        Codec::Multirange(range) => {
            let Codec::Range(sub) = types.codec(*range) else {
                return Err(Malformed);
            };
            out.push('{');
            for i in 0..from.i32()? {
                out.push_str(if i > 0 { "," } else { "" });
                let bytes = from.field()?.ok_or(Malformed)?;
                put_range(types, *sub, &mut Bytes(bytes), out)?;
            }
            out.push('}');
        }
        Codec::Composite => put_composite(types, &mut from, out)?,
        Codec::Bool => out.push(if from.u8()? == 0 { 'f' } else { 't' }),
        Codec::Bytea => {
            out.push_str("\\x");
            out.push_str(&text_of(ValueRef::Bytes(bytes)));
        }
        Codec::Date => out.push_str(&postgres_date(date(from.i32()?), "")),
        Codec::Timestamp => out.push_str(&postgres_timestamp(timestamp(from.i64()?), "")),
        Codec::TimestampTz => out.push_str(&postgres_timestamp(timestamp(from.i64()?), "+00")),
        Codec::Uuid => out.push_str(&uuid_text(&from.array()?)),
        Codec::Json | Codec::Jsonb => {
            let text = json_text(codec, bytes)?;
            out.push_str(&json::canonical(text).unwrap_or_else(|_| text.to_owned()));
        }
        Codec::Raw | Codec::ServerText => return Err(Malformed),
        _ => match owned_number_or_text(codec, bytes)? {
            Value::Float(v) if v.is_infinite() => {
                out.push_str(if v > 0.0 { "Infinity" } else { "-Infinity" });
            }
            value => out.push_str(&text_of(value.as_ref())),
        },
    }
    Ok(())
}

fn owned_number_or_text(codec: &Codec, bytes: &[u8]) -> Decoded<Value> {
    if *codec == Codec::Numeric {
        return numeric(bytes);
    }
    borrowed(codec, bytes)?.map(ValueRef::to_value).ok_or(Malformed)
}

fn put_offset(seconds: i32, out: &mut String) {
    let magnitude = seconds.unsigned_abs();
    let _ = write!(out, "{}{:02}", if seconds < 0 { '-' } else { '+' }, magnitude / 3600);
    let (minutes, seconds) = (magnitude / 60 % 60, magnitude % 60);
    if minutes != 0 || seconds != 0 {
        let _ = write!(out, ":{minutes:02}");
    }
    if seconds != 0 {
        let _ = write!(out, ":{seconds:02}");
    }
}

/// ISO 8601, months, days and microseconds each for themselves: a month is no number of days.
fn put_interval(months: i32, days: i32, micros: i64, out: &mut String) {
    match (months, days, micros) {
        (i32::MAX, i32::MAX, i64::MAX) => return out.push_str("infinity"),
        (i32::MIN, i32::MIN, i64::MIN) => return out.push_str("-infinity"),
        _ => {}
    }
    out.push('P');
    if months != 0 {
        let _ = write!(out, "{months}M");
    }
    if days != 0 {
        let _ = write!(out, "{days}D");
    }
    if micros != 0 || (months == 0 && days == 0) {
        let magnitude = micros.unsigned_abs();
        let sign = if micros < 0 { "-" } else { "" };
        let seconds = format!("{}.{:06}", magnitude / 1_000_000, magnitude % 1_000_000);
        let _ = write!(out, "T{sign}{}S", seconds.trim_end_matches('0').trim_end_matches('.'));
    }
}

fn put_address(from: &mut Bytes<'_>, is_cidr: bool, out: &mut String) -> Decoded<()> {
    let (_family, bits, _flag, length) = (from.u8()?, from.u8()?, from.u8()?, from.u8()?);
    let full = match length {
        4 => {
            let _ = write!(out, "{}", Ipv4Addr::from(from.array::<4>()?));
            32
        }
        16 => {
            let _ = write!(out, "{}", Ipv6Addr::from(from.array::<16>()?));
            128
        }
        _ => return Err(Malformed),
    };
    if is_cidr || bits != full {
        let _ = write!(out, "/{bits}");
    }
    Ok(())
}

fn put_array(types: &Types, from: &mut Bytes<'_>, out: &mut String) -> Decoded<()> {
    let (dimensions, _nulls, element) = (from.i32()?, from.i32()?, from.u32()?);
    if dimensions == 0 {
        out.push_str("{}");
        return Ok(());
    }
    let mut lengths = Vec::new();
    let mut bounds = String::new();
    let mut from_one = true;
    for _ in 0..dimensions {
        let (length, lower) = (from.i32()?, from.i32()?);
        from_one &= lower == 1;
        let _ = write!(bounds, "[{lower}:{}]", i64::from(lower) + i64::from(length) - 1);
        lengths.push(length);
    }
    if !from_one {
        let _ = write!(out, "{bounds}=");
    }
    put_dimension(types, element, &lengths, from, out)
}

fn put_dimension(
    types: &Types,
    element: u32,
    lengths: &[i32],
    from: &mut Bytes<'_>,
    out: &mut String,
) -> Decoded<()> {
    let Some((length, inner)) = lengths.split_first() else {
        return match from.field()? {
            None => {
                out.push_str("NULL");
                Ok(())
            }
            Some(bytes) => {
                let mut text = String::new();
                put_text(types, types.codec(element), bytes, &mut text)?;
                let plain = !text.is_empty()
                    && !text.eq_ignore_ascii_case("null")
                    && !text.contains(|c: char| {
                        c.is_ascii_whitespace()
                            || matches!(c, '{' | '}' | '"' | '\\' | ',' | '\u{b}')
                    });
                if plain {
                    out.push_str(&text);
                } else {
                    put_quoted(&text, out);
                }
                Ok(())
            }
        };
    };
    out.push('{');
    for i in 0..*length {
        out.push_str(if i > 0 { "," } else { "" });
        put_dimension(types, element, inner, from, out)?;
    }
    out.push('}');
    Ok(())
}

fn put_quoted(text: &str, out: &mut String) {
    out.push('"');
    for c in text.chars() {
        if matches!(c, '"' | '\\') {
            out.push('\\');
        }
        out.push(c);
    }
    out.push('"');
}

fn put_inside(text: &str, out: &mut String) {
    let plain = !text.is_empty()
        && !text.contains(|c: char| {
            c.is_ascii_whitespace()
                || matches!(c, '(' | ')' | '[' | ']' | '"' | '\\' | ',' | '\u{b}')
        });
    if plain { out.push_str(text) } else { put_quoted(text, out) }
}

fn put_range(types: &Types, sub: u32, from: &mut Bytes<'_>, out: &mut String) -> Decoded<()> {
    const EMPTY: u8 = 0x01;
    const LOWER_IN: u8 = 0x02;
    const UPPER_IN: u8 = 0x04;
    const NO_LOWER: u8 = 0x08;
    const NO_UPPER: u8 = 0x10;
    let flags = from.u8()?;
    if flags & EMPTY != 0 {
        out.push_str("empty");
        return Ok(());
    }
    let mut bound = |missing: u8, out: &mut String| -> Decoded<()> {
        if flags & missing == 0 {
            let mut text = String::new();
            put_text(types, types.codec(sub), from.field()?.ok_or(Malformed)?, &mut text)?;
            put_inside(&text, out);
        }
        Ok(())
    };
    out.push(if flags & LOWER_IN == 0 { '(' } else { '[' });
    bound(NO_LOWER, out)?;
    out.push(',');
    bound(NO_UPPER, out)?;
    out.push(if flags & UPPER_IN == 0 { ')' } else { ']' });
    Ok(())
}

fn put_composite(types: &Types, from: &mut Bytes<'_>, out: &mut String) -> Decoded<()> {
    out.push('(');
    for i in 0..from.i32()? {
        out.push_str(if i > 0 { "," } else { "" });
        let oid = from.u32()?;
        if let Some(bytes) = from.field()? {
            let mut text = String::new();
            put_text(types, types.codec(oid), bytes, &mut text)?;
            put_inside(&text, out);
        }
    }
    out.push(')');
    Ok(())
}
