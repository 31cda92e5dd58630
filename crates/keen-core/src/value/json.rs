//! JSON by value: the canonical text of RFC 8785, with numbers exact and all members kept.
//!
//! RFC 8785 sorts members by UTF-16 code units, drops white space and spells
//! strings in one way. Its numbers are those of doubles, and of members with one name it
//! knows none: engines keep and return what a double would round, and texts with a name
//! twice. Here a number is its exact decimal value, and every member counts, those of one
//! name in their order, so that no divergence hides behind a rounding or a parser.

use crate::value::decimal::Decimal;

/// Why a text is not JSON, with the byte offset where that showed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("not JSON at byte {at}: expected {expected}")]
pub struct NotJson {
    /// Offset in bytes from the start of the text.
    pub at: usize,
    /// The thing that would have been right there.
    pub expected: &'static str,
}

/// Nesting deeper than this is refused, so that a hostile value cannot exhaust the stack.
const DEEPEST: usize = 128;

/// The canonical text of a JSON text. Members with one name are all kept, in their order.
///
/// # Errors
/// [`NotJson`] with the place and what was expected there.
pub fn canonical(text: &str) -> Result<String, NotJson> {
    let mut reader = JsonReader { text, at: 0 };
    let value = reader.value(0)?;
    reader.space();
    if reader.at < text.len() {
        return Err(reader.expected("the end of the text"));
    }
    let mut out = String::with_capacity(text.len());
    value.write(&mut out);
    Ok(out)
}

enum Json {
    Word(&'static str),
    Number(String),
    Text(String),
    Array(Vec<Json>),
    Object(Vec<(String, Json)>),
}

impl Json {
    fn write(&self, out: &mut String) {
        match self {
            Self::Word(word) => out.push_str(word),
            Self::Number(number) => out.push_str(number),
            Self::Text(text) => write_text(text, out),
            Self::Array(items) => {
                out.push('[');
                for (i, item) in items.iter().enumerate() {
                    if i > 0 {
                        out.push(',');
                    }
                    item.write(out);
                }
                out.push(']');
            }
            Self::Object(members) => {
                out.push('{');
                for (i, (name, value)) in members.iter().enumerate() {
                    if i > 0 {
                        out.push(',');
                    }
                    write_text(name, out);
                    out.push(':');
                    value.write(out);
                }
                out.push('}');
            }
        }
    }
}

fn write_text(text: &str, out: &mut String) {
    out.push('"');
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\u{8}' => out.push_str("\\b"),
            '\t' => out.push_str("\\t"),
            '\n' => out.push_str("\\n"),
            '\u{c}' => out.push_str("\\f"),
            '\r' => out.push_str("\\r"),
            c if c < ' ' => out.push_str(&format!("\\u{:04x}", u32::from(c))),
            c => out.push(c),
        }
    }
    out.push('"');
}

/// Numbers of more digits than this are spelled with an exponent.
const SPELLED_OUT: i64 = 40;

/// The one spelling of a number's exact value: plain digits, or one digit before the point and an exponent
/// where that would take more than [`SPELLED_OUT`] of them. Its cost is that of the text, whatever the exponent.
fn canonical_number(token: &str) -> Option<String> {
    let (negative, rest) = token.strip_prefix('-').map_or((false, token), |rest| (true, rest));
    let (mantissa, exponent) = match rest.find(['e', 'E']) {
        Some(at) => (&rest[..at], Some(&rest[at + 1..])),
        None => (rest, None),
    };
    let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let digits = format!("{whole}{fraction}");
    let significant = digits.trim_start_matches('0');
    if significant.is_empty() {
        return Some("0".to_owned());
    }
    let sign = if negative { "-" } else { "" };
    // An exponent beyond 64 bits belongs to a number that no engine computes with: as it is written.
    let exponent: i64 = match exponent.map(str::parse) {
        None => 0,
        Some(Ok(exponent)) => exponent,
        Some(Err(_)) => return Some(token.to_ascii_lowercase()),
    };
    let leading = i64::try_from(digits.len() - significant.len()).ok()?;
    // How many digits stand before the point.
    let point = i64::try_from(whole.len()).ok()?.checked_add(exponent)?.checked_sub(leading)?;
    let significant = significant.trim_end_matches('0');
    let count = i64::try_from(significant.len()).ok()?;
    let plain = point.max(count).saturating_add(point.min(0).saturating_abs());
    if plain <= SPELLED_OUT.max(count)
        && let Ok(number) = Decimal::parse(&format!("{sign}{significant}e{}", point - count))
    {
        return Some(number.as_str().to_owned());
    }
    let (first, more) = significant.split_at(1);
    let point_and_more = if more.is_empty() { String::new() } else { format!(".{more}") };
    Some(format!("{sign}{first}{point_and_more}e{}", point - 1))
}

struct JsonReader<'a> {
    text: &'a str,
    at: usize,
}

impl JsonReader<'_> {
    fn expected(&self, expected: &'static str) -> NotJson {
        NotJson { at: self.at, expected }
    }

    fn peek(&self) -> Option<u8> {
        self.text.as_bytes().get(self.at).copied()
    }

    fn space(&mut self) {
        while matches!(self.peek(), Some(b' ' | b'\t' | b'\n' | b'\r')) {
            self.at += 1;
        }
    }

    fn take(&mut self, byte: u8, expected: &'static str) -> Result<(), NotJson> {
        if self.peek() == Some(byte) {
            self.at += 1;
            Ok(())
        } else {
            Err(self.expected(expected))
        }
    }

    fn value(&mut self, depth: usize) -> Result<Json, NotJson> {
        if depth > DEEPEST {
            return Err(self.expected("less nesting (128 levels at most)"));
        }
        self.space();
        match self.peek() {
            Some(b'{') => self.object(depth),
            Some(b'[') => self.array(depth),
            Some(b'"') => Ok(Json::Text(self.string()?)),
            Some(b'-' | b'0'..=b'9') => self.number(),
            _ => ["null", "true", "false"]
                .into_iter()
                .find(|word| self.text[self.at..].starts_with(word))
                .map(|word| {
                    self.at += word.len();
                    Json::Word(word)
                })
                .ok_or_else(|| self.expected("a value")),
        }
    }

    fn array(&mut self, depth: usize) -> Result<Json, NotJson> {
        self.at += 1;
        let mut items = Vec::new();
        self.space();
        if self.peek() == Some(b']') {
            self.at += 1;
            return Ok(Json::Array(items));
        }
        loop {
            items.push(self.value(depth + 1)?);
            self.space();
            if self.peek() == Some(b',') {
                self.at += 1;
            } else {
                self.take(b']', "',' or ']'")?;
                return Ok(Json::Array(items));
            }
        }
    }

    fn object(&mut self, depth: usize) -> Result<Json, NotJson> {
        self.at += 1;
        let mut members: Vec<(String, Json)> = Vec::new();
        self.space();
        if self.peek() == Some(b'}') {
            self.at += 1;
            return Ok(Json::Object(members));
        }
        loop {
            self.space();
            let name = self.string()?;
            self.space();
            self.take(b':', "':'")?;
            let value = self.value(depth + 1)?;
            members.push((name, value));
            self.space();
            if self.peek() == Some(b',') {
                self.at += 1;
            } else {
                self.take(b'}', "',' or '}'")?;
                break;
            }
        }
        // Stable: members of one name stay in their order.
        members.sort_by(|(a, _), (b, _)| a.encode_utf16().cmp(b.encode_utf16()));
        Ok(Json::Object(members))
    }

    fn number(&mut self) -> Result<Json, NotJson> {
        let start = self.at;
        if self.peek() == Some(b'-') {
            self.at += 1;
        }
        let leading_zero = self.peek() == Some(b'0');
        let whole = self.digits();
        let mut sound = whole > 0 && !(leading_zero && whole > 1);
        if self.peek() == Some(b'.') {
            self.at += 1;
            sound &= self.digits() > 0;
        }
        if matches!(self.peek(), Some(b'e' | b'E')) {
            self.at += 1;
            if matches!(self.peek(), Some(b'+' | b'-')) {
                self.at += 1;
            }
            sound &= self.digits() > 0;
        }
        let token = &self.text[start..self.at];
        sound
            .then(|| canonical_number(token))
            .flatten()
            .map(Json::Number)
            .ok_or_else(|| self.expected("a number"))
    }

    fn digits(&mut self) -> usize {
        let start = self.at;
        while matches!(self.peek(), Some(b'0'..=b'9')) {
            self.at += 1;
        }
        self.at - start
    }

    fn string(&mut self) -> Result<String, NotJson> {
        self.take(b'"', "a string")?;
        let mut out = String::new();
        loop {
            let rest = &self.text[self.at..];
            let Some(c) = rest.chars().next() else {
                return Err(self.expected("'\"'"));
            };
            match c {
                '"' => {
                    self.at += 1;
                    return Ok(out);
                }
                '\\' => {
                    self.at += 1;
                    out.push(self.escape()?);
                }
                c if c < ' ' => return Err(self.expected("an escaped control character")),
                c => {
                    self.at += c.len_utf8();
                    out.push(c);
                }
            }
        }
    }

    fn escape(&mut self) -> Result<char, NotJson> {
        let kind = self.peek();
        self.at += 1;
        Ok(match kind {
            Some(b'"') => '"',
            Some(b'\\') => '\\',
            Some(b'/') => '/',
            Some(b'b') => '\u{8}',
            Some(b'f') => '\u{c}',
            Some(b'n') => '\n',
            Some(b'r') => '\r',
            Some(b't') => '\t',
            Some(b'u') => return self.unicode_escape(),
            _ => {
                self.at -= 1;
                return Err(self.expected("an escape"));
            }
        })
    }

    fn unicode_escape(&mut self) -> Result<char, NotJson> {
        let high = self.hex4()?;
        if !(0xD800..0xDC00).contains(&high) {
            return char::from_u32(high).ok_or_else(|| self.expected("a paired surrogate"));
        }
        self.take(b'\\', "a paired surrogate")?;
        self.take(b'u', "a paired surrogate")?;
        let low = self.hex4()?;
        if !(0xDC00..0xE000).contains(&low) {
            return Err(self.expected("a paired surrogate"));
        }
        char::from_u32(0x10000 + ((high - 0xD800) << 10) + (low - 0xDC00))
            .ok_or_else(|| self.expected("a character"))
    }

    fn hex4(&mut self) -> Result<u32, NotJson> {
        let digits = self
            .text
            .as_bytes()
            .get(self.at..self.at + 4)
            .filter(|d| d.iter().all(u8::is_ascii_hexdigit))
            .and_then(|d| std::str::from_utf8(d).ok())
            .ok_or_else(|| self.expected("four hexadecimal digits"))?;
        self.at += 4;
        u32::from_str_radix(digits, 16).map_err(|_| self.expected("four hexadecimal digits"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn follows_rfc_8785_in_its_domain() {
        // The example of RFC 8785, section 3.2.2 and 3.2.3.
        let input = r#"{
            "numbers": [333333333.33333329, 1E30, 4.50, 2e-3, 0.000000000000000000000000001],
            "string": "\u20ac$\u000F\u000aA'\u0042\u0022\u005c\\\"\/",
            "literals": [null, true, false]
        }"#;
        let expected = concat!(
            r#"{"literals":[null,true,false],"numbers":[333333333.33333329,1000000000000000000000000000000,4.5,0.002,0.000000000000000000000000001],"#,
            r#""string":"€$\u000f\nA'B\"\\\\\"/"}"#
        );
        assert_eq!(canonical(input).unwrap(), expected);
    }

    #[test]
    fn members_sort_by_utf16_and_those_of_one_name_are_all_kept() {
        let text =
            r#"{"\u20ac":1,"\r":2,"\ufb33":3,"1":4,"\ud83d\ude00":5,"\u0080":6,"\u00f6":7,"1":8}"#;
        let expected =
            "{\"\\r\":2,\"1\":4,\"1\":8,\"\u{80}\":6,\"ö\":7,\"€\":1,\"😀\":5,\"\u{fb33}\":3}";
        assert_eq!(canonical(text).unwrap(), expected);
    }

    #[test]
    fn numbers_have_one_spelling_and_are_never_rounded() {
        for (text, expected) in [
            ("1.0", "1"),
            ("-0", "0"),
            ("1e2", "100"),
            ("9007199254740993", "9007199254740993"),
            ("9007199254740992", "9007199254740992"),
            ("100000000000000000000000", "100000000000000000000000"),
            ("1.1", "1.1"),
            ("1.10000000000000000000", "1.1"),
            ("1.10000000000000000001", "1.10000000000000000001"),
            ("123456789.123456789012345", "123456789.123456789012345"),
            ("0.0000015e3", "0.0015"),
            ("12e50", "1.2e51"),
            ("1200e48", "1.2e51"),
            ("1e-50", "1e-50"),
            ("1e999999999999999999999", "1e999999999999999999999"),
            ("100000000000000000000001", "100000000000000000000001"),
        ] {
            assert_eq!(canonical(text).unwrap(), expected, "{text}");
        }
        assert_ne!(canonical("1e400").unwrap(), canonical("1e401").unwrap());
    }

    #[test]
    fn what_is_not_json_says_where() {
        for (text, at) in
            [("", 0), ("{", 1), ("[1,]", 3), ("01", 2), ("\"a", 2), ("1 2", 2), ("nul", 0)]
        {
            assert_eq!(canonical(text).unwrap_err().at, at, "{text:?}");
        }
        let deep = "[".repeat(5000);
        assert!(canonical(&deep).unwrap_err().expected.contains("nesting"));
    }
}
