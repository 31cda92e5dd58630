//! Cells as row events hold them: the forms in which the server keeps values, not those in which it sends them.
//!
//! They become what the binary protocol would have delivered, and go through the same decoding from there
//! on, so that a row in the log equals the row in the table.

use std::fmt::Write as _;
use std::net::{Ipv4Addr, Ipv6Addr};

use encoding_rs::Encoding;
use keen_core::value::Value;
use keen_core::value::text::uuid_text;
use mysql::Value as Cell;

use super::bytes::{BadEvent, BytesResult, EventBytes};
use super::compressed;
use super::table::{Logged, kind};
use crate::mariadb::decode::{self, Take};

/// How the cells of a column are decoded.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct ColumnDecoder {
    pub(super) name: String,
    pub(super) logged: Logged,
    pub(super) take: Take,
    pub(super) form: Form,
}

/// How the bytes of a column are to be read.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Form {
    /// Bytes, or text in UTF-8.
    Plain,
    /// Bytes, so many of them: the log leaves out zeros at the end.
    Fixed(usize),
    /// Text in this encoding.
    Encoded(&'static Encoding),
    /// Text of four bytes for each character, the greatest first.
    Wide,
    Uuid,
    Inet4,
    Inet6,
    /// The engine computes it: the log may or may not tell it.
    Generated,
}

/// The encoding of a character set of the server; none for those that nothing here can read.
pub(super) fn form_of(charset: &str) -> Option<Form> {
    Some(match charset {
        "utf8" | "utf8mb3" | "utf8mb4" | "ascii" | "binary" => Form::Plain,
        "utf32" => Form::Wide,
        other => Form::Encoded(match other {
            // The server's latin1 is what everybody else calls windows-1252.
            "latin1" | "cp1252" => encoding_rs::WINDOWS_1252,
            "latin2" => encoding_rs::ISO_8859_2,
            "latin5" => encoding_rs::WINDOWS_1254,
            "latin7" => encoding_rs::ISO_8859_13,
            "greek" => encoding_rs::ISO_8859_7,
            "hebrew" => encoding_rs::ISO_8859_8,
            "cp1250" => encoding_rs::WINDOWS_1250,
            "cp1251" => encoding_rs::WINDOWS_1251,
            "cp1256" => encoding_rs::WINDOWS_1256,
            "cp1257" => encoding_rs::WINDOWS_1257,
            "cp866" => encoding_rs::IBM866,
            "koi8r" => encoding_rs::KOI8_R,
            "koi8u" => encoding_rs::KOI8_U,
            "tis620" => encoding_rs::WINDOWS_874,
            "macroman" => encoding_rs::MACINTOSH,
            "ucs2" | "utf16" => encoding_rs::UTF_16BE,
            "utf16le" => encoding_rs::UTF_16LE,
            "gbk" | "gb2312" => encoding_rs::GBK,
            "big5" => encoding_rs::BIG5,
            "sjis" | "cp932" => encoding_rs::SHIFT_JIS,
            "ujis" | "eucjpms" => encoding_rs::EUC_JP,
            "euckr" => encoding_rs::EUC_KR,
            _ => return None,
        }),
    })
}

/// Takes one cell off the front.
pub(super) fn take(
    column: &ColumnDecoder,
    from: &mut EventBytes<'_>,
) -> BytesResult<Option<Value>> {
    let cell = cell(column, from)?;
    if column.form == Form::Generated {
        return Ok(None);
    }
    let value = match decode::borrowed(column.take, &cell) {
        Some(value) => value.to_value(),
        None => decode::owned(column.take, &cell),
    };
    Ok(Some(value))
}

fn cell(column: &ColumnDecoder, from: &mut EventBytes<'_>) -> BytesResult<Cell> {
    let Logged { kind, meta, unsigned, labels, .. } = &column.logged;
    let whole = |number: u64, bits: u32| match unsigned {
        true => Cell::UInt(number),
        false => Cell::Int((number << (64 - bits)).cast_signed() >> (64 - bits)),
    };
    Ok(match *kind {
        kind::TINY => whole(from.little(1)?, 8),
        kind::SHORT => whole(from.little(2)?, 16),
        kind::INT24 => whole(from.little(3)?, 24),
        kind::LONG => whole(from.little(4)?, 32),
        kind::LONGLONG => whole(from.little(8)?, 64),
        kind::YEAR => match from.u8()? {
            0 => Cell::UInt(0),
            year => Cell::UInt(1900 + u64::from(year)),
        },
        kind::FLOAT => Cell::Float(f32::from_bits(from.little(4)? as u32)),
        kind::DOUBLE => Cell::Double(f64::from_bits(from.little(8)?)),
        kind::NEWDECIMAL => Cell::Bytes(decimal(*meta, from)?.into_bytes()),
        kind::DATE => {
            let packed = from.little(3)?;
            Cell::Date(
                (packed >> 9) as u16,
                (packed >> 5 & 15) as u8,
                (packed & 31) as u8,
                0,
                0,
                0,
                0,
            )
        }
        kind::TIME2 => time(*meta, from)?,
        kind::DATETIME2 => datetime(*meta, from)?,
        kind::TIMESTAMP2 => {
            let seconds = from.big(4)?;
            moment(seconds, fraction(*meta, from)?)
        }
        kind::TIMESTAMP => moment(from.little(4)?, 0),
        kind::DATETIME => {
            let digits = from.little(8)?;
            let (date, time) = (digits / 1_000_000, digits % 1_000_000);
            let two = |number: u64, unit: u64| (number / unit % 100) as u8;
            let (year, month, day) = ((date / 10_000) as u16, two(date, 100), two(date, 1));
            Cell::Date(year, month, day, two(time, 10_000), two(time, 100), two(time, 1), 0)
        }
        kind::TIME => {
            let packed = from.little(3)?;
            let signed = (packed << 40).cast_signed() >> 40;
            let digits = signed.unsigned_abs();
            clock(signed < 0, digits / 10_000, digits / 100 % 100, digits % 100, 0)
        }
        kind::BIT => {
            let bits = usize::from(meta & 0xff) + usize::from(meta >> 8) * 8;
            Cell::Bytes(from.take(bits.div_ceil(8))?.to_vec())
        }
        kind::ENUM => {
            let number = from.little(if *meta == 2 { 2 } else { 1 })?;
            let at = usize::try_from(number).map_err(|_| BadEvent)?;
            // Number nothing is the empty text, which stands for what was no label.
            match at.checked_sub(1) {
                None => Cell::Bytes(Vec::new()),
                Some(at) => Cell::Bytes(labels.get(at).ok_or(BadEvent)?.clone().into_bytes()),
            }
        }
        kind::SET => {
            let bits = from.little(usize::from(*meta))?;
            let chosen = labels.iter().enumerate().filter(|(at, _)| bits >> at & 1 != 0);
            let names: Vec<&str> = chosen.map(|(_, label)| &label[..]).collect();
            Cell::Bytes(names.join(",").into_bytes())
        }
        kind::VARCHAR | kind::VAR_STRING => {
            text(column, from.counted(if *meta > 255 { 2 } else { 1 })?)?
        }
        kind::STRING => text(column, from.counted(if *meta > 255 { 2 } else { 1 })?)?,
        kind::VARCHAR_COMPRESSED => {
            let kept = from.counted(if *meta > 255 { 2 } else { 1 })?;
            text(column, &compressed::cell(kept)?)?
        }
        kind::BLOB_COMPRESSED => {
            text(column, &compressed::cell(from.counted(usize::from(*meta))?)?)?
        }
        kind::BLOB | kind::GEOMETRY => text(column, from.counted(usize::from(*meta))?)?,
        _ => return Err(BadEvent),
    })
}

fn text(column: &ColumnDecoder, bytes: &[u8]) -> BytesResult<Cell> {
    let padded = |length: usize| {
        let mut whole = bytes.to_vec();
        whole.resize(whole.len().max(length), 0);
        whole
    };
    let array = |length: usize| -> BytesResult<Vec<u8>> {
        let whole = padded(length);
        if whole.len() == length { Ok(whole) } else { Err(BadEvent) }
    };
    Ok(Cell::Bytes(match column.form {
        Form::Plain | Form::Generated => bytes.to_vec(),
        Form::Fixed(length) => padded(length),
        Form::Encoded(encoding) => {
            encoding.decode_without_bom_handling(bytes).0.into_owned().into_bytes()
        }
        Form::Wide => {
            let characters = bytes.chunks(4).map(|four| {
                let number = four.iter().fold(0u32, |number, byte| number << 8 | u32::from(*byte));
                char::from_u32(number).unwrap_or(char::REPLACEMENT_CHARACTER)
            });
            characters.collect::<String>().into_bytes()
        }
        Form::Uuid => {
            let kept: [u8; 16] = array(16)?.try_into().map_err(|_| BadEvent)?;
            uuid_text(&kept).into_bytes()
        }
        Form::Inet4 => {
            let kept: [u8; 4] = array(4)?.try_into().map_err(|_| BadEvent)?;
            Ipv4Addr::from(kept).to_string().into_bytes()
        }
        Form::Inet6 => {
            let kept: [u8; 16] = array(16)?.try_into().map_err(|_| BadEvent)?;
            Ipv6Addr::from(kept).to_string().into_bytes()
        }
    }))
}

/// Digits in groups of nine, each in four bytes; fewer digits in fewer bytes (the server's `decimal2bin`).
fn decimal(meta: u16, from: &mut EventBytes<'_>) -> BytesResult<String> {
    const BYTES: [usize; 10] = [0, 1, 1, 2, 2, 3, 3, 4, 4, 4];
    let (precision, scale) = (usize::from(meta >> 8), usize::from(meta & 0xff));
    let whole = precision.checked_sub(scale).ok_or(BadEvent)?;
    let lengths = |digits: usize| digits / 9 * 4 + BYTES[digits % 9];
    let mut bytes = from.take(lengths(whole) + lengths(scale))?.to_vec();
    let first = bytes.first_mut().ok_or(BadEvent)?;
    let negative = *first & 0x80 == 0;
    *first ^= 0x80;
    if negative {
        bytes.iter_mut().for_each(|byte| *byte = !*byte);
    }
    let mut digits = EventBytes(&bytes);
    let mut out = String::from(if negative { "-" } else { "" });
    let mut put = |count: usize, out: &mut String| -> BytesResult<()> {
        let number = digits.big(BYTES[count])?;
        let _ = write!(out, "{number:0count$}");
        Ok(())
    };
    if whole == 0 {
        out.push('0');
    } else if whole % 9 > 0 {
        put(whole % 9, &mut out)?;
    }
    for _ in 0..whole / 9 {
        put(9, &mut out)?;
    }
    if scale > 0 {
        out.push('.');
        for _ in 0..scale / 9 {
            put(9, &mut out)?;
        }
        if scale % 9 > 0 {
            put(scale % 9, &mut out)?;
        }
    }
    Ok(out)
}

/// Microseconds of a fraction with so many digits, which takes a byte for two of them.
fn fraction(digits: u16, from: &mut EventBytes<'_>) -> BytesResult<u32> {
    let bytes = usize::from(digits.div_ceil(2));
    let number = from.big(bytes)? as u32;
    Ok(number * 100_u32.pow(3 - bytes as u32))
}

fn time(digits: u16, from: &mut EventBytes<'_>) -> BytesResult<Cell> {
    // Time and fraction are one number above the middle of its range, so that it sorts as it is.
    let bytes = usize::from(digits.div_ceil(2));
    let (bits, middle) = (bytes * 8, 1_i64 << (23 + bytes * 8));
    let packed = from.big(3 + bytes)?.cast_signed() - middle;
    let (negative, size) = (packed < 0, packed.unsigned_abs());
    let part = (size & ((1 << bits) - 1)) as u32 * 100_u32.pow(3 - bytes as u32);
    let whole = size >> bits;
    Ok(clock(negative, whole >> 12 & 1023, whole >> 6 & 63, whole & 63, part))
}

fn clock(negative: bool, hours: u64, minutes: u64, seconds: u64, micros: u32) -> Cell {
    Cell::Time(
        negative,
        (hours / 24) as u32,
        (hours % 24) as u8,
        minutes as u8,
        seconds as u8,
        micros,
    )
}

fn datetime(digits: u16, from: &mut EventBytes<'_>) -> BytesResult<Cell> {
    let packed = from.big(5)? & 0x7f_ffff_ffff;
    let micros = fraction(digits, from)?;
    let (date, time) = (packed >> 17, packed & 0x1_ffff);
    let (months, day) = (date >> 5, (date & 31) as u8);
    Ok(Cell::Date(
        (months / 13) as u16,
        (months % 13) as u8,
        day,
        (time >> 12) as u8,
        (time >> 6 & 63) as u8,
        (time & 63) as u8,
        micros,
    ))
}

/// A moment in UTC. Nothing at all is the date of zeros.
fn moment(seconds: u64, micros: u32) -> Cell {
    if seconds == 0 && micros == 0 {
        return Cell::Date(0, 0, 0, 0, 0, 0, 0);
    }
    let (days, rest) = (seconds.cast_signed() / 86_400, seconds % 86_400);
    let (year, month, day) = keen_core::value::calendar::civil(days);
    let year = u16::try_from(year).unwrap_or(0);
    let (hour, minute, second) = ((rest / 3600) as u8, (rest / 60 % 60) as u8, (rest % 60) as u8);
    Cell::Date(year, month as u8, day as u8, hour, minute, second, micros)
}
