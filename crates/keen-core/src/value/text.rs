//! The one text of a value, the same whichever engine holds it.

use crate::value::ValueRef;
use crate::value::calendar;

/// The one text that a value has, whatever engine holds it.
#[must_use]
pub fn text_of(value: ValueRef<'_>) -> String {
    match value {
        ValueRef::Null => String::new(),
        ValueRef::Bool(v) => v.to_string(),
        ValueRef::Int(v) => v.to_string(),
        ValueRef::Decimal(v) => v.to_string(),
        ValueRef::Float(v) => v.to_string(),
        ValueRef::Text(v) => String::from_utf8_lossy(v).into_owned(),
        ValueRef::Bytes(v) => v.iter().map(|b| format!("{b:02x}")).collect(),
        ValueRef::Date(v) => calendar::date_text(v),
        ValueRef::Time(v) => calendar::time_text(v),
        ValueRef::Timestamp(v) => match v {
            calendar::INFINITY | calendar::MINUS_INFINITY => calendar::timestamp_text(v),
            v => format!("{}Z", calendar::timestamp_text(v)),
        },
        ValueRef::LocalTimestamp(v) => calendar::timestamp_text(v),
        ValueRef::Uuid(v) => uuid_text(&v),
        ValueRef::Json(v) => v.to_owned(),
    }
}

/// `8-4-4-4-12` hexadecimal digits, lower case.
#[must_use]
pub fn uuid_text(bytes: &[u8; 16]) -> String {
    let mut out = String::with_capacity(36);
    for (i, byte) in bytes.iter().enumerate() {
        if matches!(i, 4 | 6 | 8 | 10) {
            out.push('-');
        }
        out.push_str(&format!("{byte:02x}"));
    }
    out
}

/// Reads a UUID of 32 hexadecimal digits in either case, with hyphens or without.
#[must_use]
pub fn parse_uuid(text: &str) -> Option<[u8; 16]> {
    let hyphens_in_place =
        text.len() == 36 && [8, 13, 18, 23].iter().all(|i| text.as_bytes()[*i] == b'-');
    if !(text.len() == 32 || hyphens_in_place) {
        return None;
    }
    let digits: Vec<u8> = text.bytes().filter(|b| *b != b'-').collect();
    if digits.len() != 32 || !digits.iter().all(u8::is_ascii_hexdigit) {
        return None;
    }
    let digit = |b: u8| (b as char).to_digit(16).map_or(0, |d| d as u8);
    let mut bytes = [0; 16];
    for (byte, pair) in bytes.iter_mut().zip(digits.chunks(2)) {
        *byte = digit(pair[0]) << 4 | digit(pair[1]);
    }
    Some(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn uuids_have_one_text_and_are_read_in_several() {
        let bytes = *b"\x01\x23\x45\x67\x89\xab\xcd\xef\x01\x23\x45\x67\x89\xab\xcd\xef";
        let text = "01234567-89ab-cdef-0123-456789abcdef";
        assert_eq!(uuid_text(&bytes), text);
        for given in [text, &text.to_uppercase(), &text.replace('-', "")] {
            assert_eq!(parse_uuid(given), Some(bytes), "{given}");
        }
        for wrong in
            ["", "0123", &text.replace('f', "g"), &format!("{text}-"), &text.replacen('-', "0", 1)]
        {
            assert_eq!(parse_uuid(wrong), None, "{wrong}");
        }
    }

    #[test]
    fn floats_have_no_exponent() {
        assert_eq!(text_of(ValueRef::Float(-0.0)), "-0");
        assert_eq!(text_of(ValueRef::Float(1e21)), "1000000000000000000000");
        assert_eq!(text_of(ValueRef::Timestamp(0)), "1970-01-01 00:00:00Z");
    }
}
