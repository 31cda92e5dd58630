//! Canonical bytes: equal exactly when the values are equal.
//!
//! `docs/digest.md` is the specification of this encoding and holds its test
//! vectors. A row is one version byte followed by its cells in the order of
//! the compared columns; a cell is a tag, the length of its payload (unsigned
//! LEB128) and the payload. The encoding can be read back, so a stream of
//! canonical rows is also the only copy of the rows that a comparison needs.

use crate::value::decimal::Decimal;
use crate::value::{Value, ValueRef};

/// The version of the encoding, and the first byte of every canonical row.
pub const VERSION: u8 = 2;

mod tag {
    pub(crate) const NULL: u8 = 0x00;
    pub(crate) const BOOL: u8 = 0x01;
    pub(crate) const INT: u8 = 0x02;
    pub(crate) const DECIMAL: u8 = 0x03;
    pub(crate) const FLOAT: u8 = 0x04;
    pub(crate) const TEXT: u8 = 0x05;
    pub(crate) const BYTES: u8 = 0x06;
    pub(crate) const DATE: u8 = 0x07;
    pub(crate) const TIME: u8 = 0x08;
    pub(crate) const TIMESTAMP: u8 = 0x09;
    pub(crate) const LOCAL_TIMESTAMP: u8 = 0x0a;
    pub(crate) const UUID: u8 = 0x0b;
    pub(crate) const JSON: u8 = 0x0c;
}

const CANONICAL_NAN: u64 = 0x7ff8_0000_0000_0000;

/// The bits that stand for a float: one NaN; zeros keep their sign.
fn float_bits(v: f64) -> u64 {
    if v.is_nan() { CANONICAL_NAN } else { v.to_bits() }
}

/// The bits by which a float is a key: one zero, one NaN.
pub(crate) fn key_bits(v: f64) -> u64 {
    if v == 0.0 { 0 } else { float_bits(v) }
}

/// Starts a canonical row in `out`.
#[inline]
pub fn begin_row(out: &mut Vec<u8>) {
    out.push(VERSION);
}

/// Appends one cell to the canonical row in `out`.
#[inline(always)] // measured: a call per cell is a tenth of reading a table
pub fn put_cell(out: &mut Vec<u8>, value: ValueRef<'_>) {
    match value {
        ValueRef::Null => out.extend_from_slice(&[tag::NULL, 0]),
        ValueRef::Int(v) => put_int(out, v),
        ValueRef::Text(v) => put_bytes(out, tag::TEXT, v),
        ValueRef::Bytes(v) => put_bytes(out, tag::BYTES, v),
        ValueRef::Float(v) => put_eight(out, tag::FLOAT, float_bits(v).to_be_bytes()),
        ValueRef::Bool(v) => out.extend_from_slice(&[tag::BOOL, 1, u8::from(v)]),
        ValueRef::Decimal(v) => put_bytes(out, tag::DECIMAL, v.as_str().as_bytes()),
        ValueRef::Date(v) => put_eight(out, tag::DATE, v.to_be_bytes()),
        ValueRef::Time(v) => put_eight(out, tag::TIME, v.to_be_bytes()),
        ValueRef::Timestamp(v) => put_eight(out, tag::TIMESTAMP, v.to_be_bytes()),
        ValueRef::LocalTimestamp(v) => put_eight(out, tag::LOCAL_TIMESTAMP, v.to_be_bytes()),
        ValueRef::Uuid(v) => put_bytes(out, tag::UUID, &v),
        ValueRef::Json(v) => put_bytes(out, tag::JSON, v.as_bytes()),
    }
}

#[inline(always)]
fn put_bytes(out: &mut Vec<u8>, tag: u8, payload: &[u8]) {
    if payload.len() < 0x80 {
        out.extend_from_slice(&[tag, payload.len() as u8]);
    } else {
        out.push(tag);
        put_length(out, payload.len());
    }
    out.extend_from_slice(payload);
}

#[inline]
fn put_eight(out: &mut Vec<u8>, tag: u8, payload: [u8; 8]) {
    let mut cell = [tag, 8, 0, 0, 0, 0, 0, 0, 0, 0];
    cell[2..].copy_from_slice(&payload);
    out.extend_from_slice(&cell);
}

/// The shortest two's complement, big endian: zero is one byte `00`.
#[inline(always)]
fn put_int(out: &mut Vec<u8>, v: i128) {
    match i64::try_from(v) {
        Ok(v) => put_small_int(out, v),
        Err(_) => put_large_int(out, v),
    }
}

#[inline(always)]
fn put_small_int(out: &mut Vec<u8>, v: i64) {
    // A leading byte may go when the sign bit of the next one says the same.
    let bits = 64 - (if v < 0 { !v } else { v }).leading_zeros();
    let size = bits / 8 + 1;
    let mut cell = [tag::INT, size as u8, 0, 0, 0, 0, 0, 0, 0, 0];
    cell[2..].copy_from_slice(&(v << (64 - 8 * size)).to_be_bytes());
    // All of it at once, then back to the size: no call to copy a few bytes.
    out.extend_from_slice(&cell);
    out.truncate(out.len() - (8 - size as usize));
}

#[cold]
fn put_large_int(out: &mut Vec<u8>, v: i128) {
    let bits = 128 - (if v < 0 { !v } else { v }).leading_zeros() as usize;
    put_bytes(out, tag::INT, &v.to_be_bytes()[15 - bits / 8..]);
}

fn put_length(out: &mut Vec<u8>, mut length: usize) {
    while length >= 0x80 {
        out.push((length & 0x7f) as u8 | 0x80);
        length >>= 7;
    }
    out.push(length as u8);
}

/// Canonical bytes could not be read back: they are torn, or of another version.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Unreadable {
    /// The first byte names a version this code does not know.
    #[error("canonical row of version {0}, expected {VERSION}")]
    Version(u8),
    /// The bytes end inside a cell.
    #[error("canonical row ends inside a cell")]
    Torn,
    /// A tag or a payload that the encoder never writes.
    #[error("canonical cell with tag {0:#04x} does not hold what the tag says")]
    Malformed(u8),
}

/// Splits a canonical row into the encoded cells, in order.
///
/// # Errors
/// [`Unreadable`] when the bytes are not a canonical row.
pub fn cells(row: &[u8]) -> Result<Vec<&[u8]>, Unreadable> {
    let mut rest = check_version(row)?;
    let mut cells = Vec::new();
    while !rest.is_empty() {
        let (_, _, after) = split_cell(rest)?;
        let (cell, tail) = rest.split_at(rest.len() - after.len());
        cells.push(cell);
        rest = tail;
    }
    Ok(cells)
}

/// Reads a whole canonical row back into values.
///
/// # Errors
/// [`Unreadable`] when the bytes are not a canonical row.
pub fn read_row(row: &[u8]) -> Result<Vec<Value>, Unreadable> {
    let mut rest = check_version(row)?;
    let mut values = Vec::new();
    while !rest.is_empty() {
        let (tag, payload, after) = split_cell(rest)?;
        values.push(read_payload(tag, payload)?);
        rest = after;
    }
    Ok(values)
}

/// Reads some cells of a canonical row, by their places, in the order asked for.
///
/// # Errors
/// [`Unreadable`] when the bytes are not a canonical row, or have no such cell.
pub fn read_some(row: &[u8], places: &[usize]) -> Result<Vec<Value>, Unreadable> {
    let cells = cells(row)?;
    let cell = |place: &usize| {
        let (tag, payload, _) = split_cell(cells.get(*place).ok_or(Unreadable::Torn)?)?;
        read_payload(tag, payload)
    };
    places.iter().map(cell).collect()
}

/// Hands out the bytes of a canonical row piece by piece: long cells as they are, without another copy of them.
pub fn row_pieces<E>(
    values: &[Value],
    mut each: impl FnMut(&[u8]) -> Result<(), E>,
) -> Result<(), E> {
    let mut piece = Vec::new();
    begin_row(&mut piece);
    for value in values {
        let long = match value {
            Value::Text(bytes) => Some((tag::TEXT, &bytes[..])),
            Value::Bytes(bytes) => Some((tag::BYTES, &bytes[..])),
            Value::Json(text) => Some((tag::JSON, text.as_bytes())),
            _ => None,
        };
        match long.filter(|(_, bytes)| bytes.len() > LONG) {
            Some((tag, bytes)) => {
                piece.push(tag);
                put_length(&mut piece, bytes.len());
                each(&piece)?;
                piece.clear();
                each(bytes)?;
            }
            None => put_cell(&mut piece, value.as_ref()),
        }
    }
    each(&piece)
}

/// How long a cell is that is handed out as it is, in bytes.
const LONG: usize = 64 << 10;

fn check_version(row: &[u8]) -> Result<&[u8], Unreadable> {
    match row.split_first() {
        Some((&VERSION, cells)) => Ok(cells),
        Some((&other, _)) => Err(Unreadable::Version(other)),
        None => Err(Unreadable::Torn),
    }
}

/// The tag and payload of the first cell, and what follows it.
fn split_cell(bytes: &[u8]) -> Result<(u8, &[u8], &[u8]), Unreadable> {
    let (&tag, mut rest) = bytes.split_first().ok_or(Unreadable::Torn)?;
    let mut length = 0usize;
    let mut shift = 0;
    loop {
        let (&byte, tail) = rest.split_first().ok_or(Unreadable::Torn)?;
        rest = tail;
        if shift >= usize::BITS {
            return Err(Unreadable::Malformed(tag));
        }
        length |= usize::from(byte & 0x7f) << shift;
        shift += 7;
        if byte & 0x80 == 0 {
            break;
        }
    }
    let (payload, after) = rest.split_at_checked(length).ok_or(Unreadable::Torn)?;
    Ok((tag, payload, after))
}

fn read_payload(tag: u8, payload: &[u8]) -> Result<Value, Unreadable> {
    let malformed = || Unreadable::Malformed(tag);
    let eight = || <[u8; 8]>::try_from(payload).map_err(|_| malformed());
    let utf8 = || std::str::from_utf8(payload).map_err(|_| malformed());
    Ok(match tag {
        tag::NULL if payload.is_empty() => Value::Null,
        tag::BOOL if payload == [0] => Value::Bool(false),
        tag::BOOL if payload == [1] => Value::Bool(true),
        tag::INT => Value::Int(read_int(payload).ok_or_else(malformed)?),
        tag::DECIMAL => Value::Decimal(Decimal::written(utf8()?).map_err(|_| malformed())?),
        tag::FLOAT => Value::Float(f64::from_bits(u64::from_be_bytes(eight()?))),
        tag::TEXT => Value::Text(payload.to_vec()),
        tag::BYTES => Value::Bytes(payload.to_vec()),
        tag::DATE => Value::Date(i64::from_be_bytes(eight()?)),
        tag::TIME => Value::Time(i64::from_be_bytes(eight()?)),
        tag::TIMESTAMP => Value::Timestamp(i64::from_be_bytes(eight()?)),
        tag::LOCAL_TIMESTAMP => Value::LocalTimestamp(i64::from_be_bytes(eight()?)),
        tag::UUID => Value::Uuid(payload.try_into().map_err(|_| malformed())?),
        tag::JSON => Value::Json(utf8()?.to_owned()),
        _ => return Err(malformed()),
    })
}

fn read_int(payload: &[u8]) -> Option<i128> {
    let first = *payload.first()?;
    let mut bytes = [if first & 0x80 == 0 { 0 } else { 0xff }; 16];
    bytes.get_mut(16usize.checked_sub(payload.len())?..)?.copy_from_slice(payload);
    Some(i128::from_be_bytes(bytes))
}

/// Encodes a whole row at once; streaming readers encode cell by cell instead.
#[must_use]
pub fn row_bytes(values: &[Value]) -> Vec<u8> {
    let mut out = Vec::new();
    begin_row(&mut out);
    for value in values {
        put_cell(&mut out, value.as_ref());
    }
    out
}
