//! Contents that the server compressed: whole events (`log_bin_compress`) and the cells of compressed columns. Both
//! are zlib's format behind a header of the server's own (`binlog_buf_uncompress` in its `log_event.cc`,
//! `Field_longstr::uncompress` in its `field.cc`).

use std::io::Read as _;

use flate2::read::{DeflateDecoder, ZlibDecoder};

use super::bytes::{BadEvent, BytesResult, EventBytes};

/// The longest value that a server holds.
const LONGEST: u64 = 1 << 30;

/// The bytes of a compressed event's end as they were.
pub(super) fn event(data: &[u8]) -> BytesResult<Vec<u8>> {
    let mut from = EventBytes(data);
    let header = from.u8()?;
    // The highest bit says that it is compressed, the three after it how: 0 is zlib.
    if header & 0xf0 != 0x80 {
        return Err(BadEvent);
    }
    let length = from.big(usize::from(header & 0x07))?;
    inflated(ZlibDecoder::new(from.0), length)
}

/// A row event as it would be without compression; `twice` for updates, which tell columns before and after.
pub(super) fn rows(data: &[u8], twice: bool) -> BytesResult<Vec<u8>> {
    let mut from = EventBytes(data);
    from.take(8)?;
    let count = from.length()?;
    from.take(count.div_ceil(8) * if twice { 2 } else { 1 })?;
    let head = data.len() - from.0.len();
    let mut whole = data[..head].to_vec();
    whole.extend(event(from.0)?);
    Ok(whole)
}

/// A statement event as it would be without compression.
pub(super) fn query(data: &[u8]) -> BytesResult<Vec<u8>> {
    let mut from = EventBytes(data);
    from.take(8)?;
    let schema = usize::from(from.u8()?);
    from.take(2)?;
    let variables = usize::try_from(from.little(2)?).map_err(|_| BadEvent)?;
    from.take(variables + schema + 1)?;
    let head = data.len() - from.0.len();
    let mut whole = data[..head].to_vec();
    whole.extend(event(from.0)?);
    Ok(whole)
}

/// A cell of a compressed column. The empty value has no header.
pub(super) fn cell(data: &[u8]) -> BytesResult<Vec<u8>> {
    let mut from = EventBytes(data);
    if data.is_empty() {
        return Ok(Vec::new());
    }
    let header = from.u8()?;
    match header {
        0 => Ok(from.0.to_vec()),
        // Zlib, with its own frame or without.
        0x80.. => {
            let length = from.big(usize::from(header & 0x07))?;
            match header & 0x08 {
                0 => inflated(ZlibDecoder::new(from.0), length),
                _ => inflated(DeflateDecoder::new(from.0), length),
            }
        }
        _ => Err(BadEvent),
    }
}

fn inflated(from: impl std::io::Read, length: u64) -> BytesResult<Vec<u8>> {
    if length > LONGEST {
        return Err(BadEvent);
    }
    let mut out = Vec::new();
    from.take(length + 1).read_to_end(&mut out).map_err(|_| BadEvent)?;
    if out.len() as u64 == length { Ok(out) } else { Err(BadEvent) }
}
