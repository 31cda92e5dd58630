//! Text from databases and files, made safe for a terminal.

use std::path::Path;

use keen_core::value::Value;
use keen_core::value::text::text_of;
use unicode_width::UnicodeWidthChar;

/// Characters that a terminal would act on, or that would reorder what follows.
fn acts(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}')
}

/// The text with everything spelled out that a terminal would act on.
pub(crate) fn text(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if acts(c) {
            out.extend(c.escape_unicode());
        } else {
            out.push(c);
        }
    }
    out
}

/// As [`text`], keeping the line breaks of messages.
pub(crate) fn lines(message: &str) -> String {
    message.split('\n').map(text).collect::<Vec<_>>().join("\n")
}

/// How many columns of a terminal a text takes.
pub(crate) fn width(text: &str) -> usize {
    text.chars().map(|c| c.width().unwrap_or(0)).sum()
}

/// Columns of the terminal that one value may take.
const LONGEST: usize = 60;
/// How much is shown of what values have in common before they differ.
const LEAD: usize = 12;

/// A value for a terminal, at most about sixty columns wide.
pub(crate) fn value(value: &Value) -> String {
    match raw(value) {
        Some(_) => window(value, 0),
        None => shortened(&whole(value), 0),
    }
}

/// Values that differ, shown so that they can be told apart: long ones from
/// shortly before the place where they part.
pub(crate) fn values_apart(values: &[&Value]) -> Vec<String> {
    if values.iter().any(|value| raw(value).is_some()) {
        let skip = parting(values).map_or(0, |at| at.saturating_sub(LEAD));
        return values.iter().map(|value| window(value, skip)).collect();
    }
    let shown: Vec<String> = values.iter().map(|v| whole(v)).collect();
    let any_long = shown.iter().any(|text| width(text) > LONGEST);
    let common = shown.iter().skip(1).fold(usize::MAX, |common, text| {
        let shared = shown[0].chars().zip(text.chars()).take_while(|(a, b)| a == b).count();
        common.min(shared)
    });
    let skip = if any_long && common != usize::MAX { common.saturating_sub(LEAD) } else { 0 };
    shown.iter().map(|text| shortened(text, skip)).collect()
}

/// Longer values are never spelled out, only the part of them that is shown.
const LONG: usize = 1024;

/// The bytes of a long value.
fn raw(value: &Value) -> Option<&[u8]> {
    bytes_of(value).filter(|bytes| bytes.len() > LONG)
}

fn bytes_of(value: &Value) -> Option<&[u8]> {
    match value {
        Value::Text(bytes) | Value::Bytes(bytes) => Some(bytes),
        Value::Json(text) => Some(text.as_bytes()),
        _ => None,
    }
}

/// Up to which byte values of one kind are the same.
fn parting(values: &[&Value]) -> Option<usize> {
    let first = bytes_of(values.first()?)?;
    let kind = std::mem::discriminant(values[0]);
    let mut shared = first.len();
    for value in &values[1..] {
        let bytes = bytes_of(value).filter(|_| std::mem::discriminant(*value) == kind)?;
        shared = first.iter().zip(bytes).take(shared).take_while(|(a, b)| a == b).count();
    }
    Some(shared)
}

/// A part of a value that is perhaps long, from one of its bytes on.
fn window(value: &Value, skip: usize) -> String {
    let Some(bytes) = bytes_of(value) else { return shortened(&whole(value), 0) };
    let lead = if skip > 0 { "…" } else { "" };
    let text_in = match value {
        Value::Bytes(_) => None,
        _ => std::str::from_utf8(bytes).ok(),
    };
    let Some(whole) = text_in else {
        let from = skip.min(bytes.len());
        let some = &bytes[from..bytes.len().min(from + LONGEST / 2)];
        let kind = if matches!(value, Value::Text(_)) { "text x'" } else { "x'" };
        let kind = if skip > 0 { "" } else { kind };
        let end = match from + some.len() == bytes.len() {
            true => "'".to_owned(),
            false => format!("… ({} bytes)", bytes.len()),
        };
        return format!("{lead}{kind}{}{end}", hex(some));
    };
    let quote = if matches!(value, Value::Json(_)) { "" } else { "'" };
    let from = boundary(whole, skip);
    let until = boundary(whole, from.saturating_add(LONG));
    let mut out = format!("{lead}{}", if skip > 0 { "" } else { quote });
    let mut taken = 0;
    for c in text(&whole[from..until]).chars() {
        taken += c.width().unwrap_or(0);
        if taken > LONGEST {
            out.push_str(&format!("… ({} characters)", whole.chars().count()));
            return out;
        }
        out.push(c);
    }
    out + quote
}

/// The last boundary between characters that is not after a byte.
fn boundary(text: &str, at: usize) -> usize {
    let mut at = at.min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}

fn shortened(text: &str, skip: usize) -> String {
    let mut out = String::new();
    let mut taken = 0;
    if skip > 0 {
        out.push('…');
    }
    for c in text.chars().skip(skip) {
        taken += c.width().unwrap_or(0);
        if taken > LONGEST {
            out.push_str(&format!("… ({} characters)", text.chars().count()));
            break;
        }
        out.push(c);
    }
    out
}

/// A value in full, on one line, kinds told apart: text in quotes, bytes in hexadecimal.
fn whole(value: &Value) -> String {
    match value {
        Value::Null => "NULL".to_owned(),
        Value::Bool(v) => v.to_string(),
        Value::Int(v) => v.to_string(),
        Value::Float(v) => format!("{v:?}"),
        Value::Text(bytes) => match std::str::from_utf8(bytes) {
            Ok(valid) => format!("'{}'", text(valid)),
            Err(_) => format!("text x'{}'", hex(bytes)),
        },
        Value::Bytes(bytes) => format!("x'{}'", hex(bytes)),
        Value::Json(v) => text(v),
        Value::Decimal(_)
        | Value::Date(_)
        | Value::Time(_)
        | Value::Timestamp(_)
        | Value::LocalTimestamp(_)
        | Value::Uuid(_) => text_of(value.as_ref()),
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

/// The argument that a command needs besides to go on with the same topology file.
pub(crate) fn with_topology(path: &Path) -> String {
    let usual = path.as_os_str() == "keen.toml";
    if usual { String::new() } else { format!(" --topology {}", typed(path)) }
}

/// A path as one types it into a shell.
pub(crate) fn typed(path: &Path) -> String {
    let path = text(&path.display().to_string());
    if path.chars().all(|c| c.is_alphanumeric() || "/._-".contains(c)) {
        path
    } else {
        format!("'{}'", path.replace('\'', "'\\''"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_reaches_the_terminal_that_it_would_act_on() {
        assert_eq!(text("a\u{1b}[2J\u{202e}b\r"), "a\\u{1b}[2J\\u{202e}b\\u{d}");
        assert_eq!(value(&Value::text("tab\there")), "'tab\\u{9}here'");
        assert_eq!(value(&Value::Text(vec![0x61, 0xff])), "text x'61ff'");
    }

    #[test]
    fn kinds_can_be_told_apart() {
        let shown: Vec<String> = [
            Value::Null,
            Value::text("NULL"),
            Value::Int(1),
            Value::Float(1.0),
            Value::text("1"),
            Value::Bytes(vec![0x31]),
        ]
        .iter()
        .map(value)
        .collect();
        assert_eq!(shown, ["NULL", "'NULL'", "1", "1.0", "'1'", "x'31'"]);
    }

    #[test]
    fn long_values_are_shown_where_they_part() {
        let a = Value::text(&format!("{}left", "x".repeat(500)));
        let b = Value::text(&format!("{}right", "x".repeat(500)));
        let shown = values_apart(&[&a, &b]);
        assert!(shown[0].contains("left") && shown[1].contains("right"), "{shown:?}");
        assert!(value(&a).ends_with("(506 characters)"));
        // Of very long ones only what is shown is spelled out.
        for skip in [0, 7, 40_000] {
            let long = |end: &str| format!("{}{end}", "ä".repeat(skip + LONG));
            let (a, b) = (Value::text(&long("left")), Value::text(&long("right")));
            let shown = values_apart(&[&a, &b]);
            assert!(shown[0].ends_with("left'") && shown[1].ends_with("right'"), "{shown:?}");
            let (a, b) = (long("left").into_bytes(), long("right").into_bytes());
            let shown = values_apart(&[&Value::Bytes(a.clone()), &Value::Bytes(b)]);
            assert!(shown[0].contains("6c656674") && shown[1].contains("7269676874"), "{shown:?}");
            let count = format!("({} bytes)", a.len());
            assert!(value(&Value::Bytes(a)).ends_with(&count));
        }
        let text = Value::text(&"ä".repeat(2000));
        assert!(value(&text).ends_with("(2000 characters)"), "{}", value(&text));
        assert_eq!(values_apart(&[&text, &Value::Null])[1], "NULL");
    }
}
