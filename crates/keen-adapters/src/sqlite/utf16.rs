//! Text of UTF-16 files, translated without loss.
//!
//! SQLite's own translation makes unpaired surrogates into other characters,
//! so two different texts could become equal. Here an unpaired surrogate keeps
//! its own three bytes (generalised UTF-8), which is no valid UTF-8 and
//! therefore equal to nothing else.

use keen_core::row::key_order;
use keen_core::value::Value;
use rusqlite::Connection;
use rusqlite::functions::FunctionFlags;
use rusqlite::types::ValueRef as Cell;

use super::Encoding;

/// The SQL function that makes order bytes of key cells; its first argument says which
/// end of UTF-16 comes first, then each cell as two: its value, text as bytes, and
/// whether it is text.
pub(super) const ORDER_FUNCTION: &str = "keen_order";

/// Cells per call: SQLite's default limit on arguments is 127.
pub(super) const CELLS_PER_CALL: usize = 60;

pub(super) fn register_order_function(connection: &Connection) -> rusqlite::Result<()> {
    let flags = FunctionFlags::SQLITE_UTF8
        | FunctionFlags::SQLITE_DETERMINISTIC
        | FunctionFlags::SQLITE_DIRECTONLY;
    connection.create_scalar_function(ORDER_FUNCTION, -1, flags, |context| {
        let big_end_first = context.get::<bool>(0)?;
        let mut out = Vec::new();
        for i in (1..context.len()).step_by(2) {
            let is_text = context.get::<bool>(i + 1)?;
            let value = cell(context.get_raw(i), is_text, big_end_first);
            key_order::put_key(&mut out, value.as_ref());
        }
        Ok(out)
    })
}

impl Encoding {
    pub(super) fn big_end_first(self) -> bool {
        self == Self::Utf16Be
    }
}

/// A cell that came as (value, is it text), the text as its bytes in the file.
pub(super) fn cell(cell: Cell<'_>, is_text: bool, big_end_first: bool) -> Value {
    match cell {
        Cell::Blob(bytes) if is_text => Value::Text(from_utf16(bytes, big_end_first)),
        other => super::read::value(other).to_value(),
    }
}

/// UTF-16 bytes to generalised UTF-8. A trailing odd byte is dropped, as SQLite drops it.
pub(super) fn from_utf16(bytes: &[u8], big_end_first: bool) -> Vec<u8> {
    let units = bytes.chunks_exact(2).map(|pair| {
        let pair = [pair[0], pair[1]];
        if big_end_first { u16::from_be_bytes(pair) } else { u16::from_le_bytes(pair) }
    });
    let mut out = Vec::with_capacity(bytes.len());
    for unit in char::decode_utf16(units) {
        match unit {
            Ok(c) => out.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes()),
            Err(lone) => {
                let unit = lone.unpaired_surrogate();
                let [high, low] = unit.to_be_bytes();
                out.extend_from_slice(&[
                    0xE0 | (high >> 4),
                    0x80 | ((high & 0x0F) << 2) | (low >> 6),
                    0x80 | (low & 0x3F),
                ]);
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::from_utf16;

    #[test]
    fn pairs_become_characters_and_lone_surrogates_stay_themselves() {
        let bytes = |units: &[u16]| units.iter().flat_map(|u| u.to_be_bytes()).collect::<Vec<_>>();
        assert_eq!(from_utf16(&bytes(&[0x41, 0xD83D, 0xDE00]), true), "A😀".as_bytes());
        let lone = |unit| from_utf16(&bytes(&[unit]), true);
        assert_eq!(lone(0xD800), [0xED, 0xA0, 0x80]);
        assert_eq!(lone(0xDFFF), [0xED, 0xBF, 0xBF]);
        assert!(std::str::from_utf8(&lone(0xD800)).is_err());
    }
}
