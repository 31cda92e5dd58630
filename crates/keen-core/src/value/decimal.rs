//! Exact decimal numbers, by value or as an engine keeps them.
//!
//! Engines print the same decimal in several ways (`1.50`, `1.5`, `+1.5`,
//! `15e-1`). By value a decimal has one text: an optional minus sign, the whole
//! part without leading zeros, and a fraction only when it is not zero, without
//! trailing zeros. Zero has no sign. As an engine keeps it, the zeros at the end of its
//! fraction stay: they are its scale, which the engine keeps and shows.

use std::fmt;

/// A decimal number. Any number of digits.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Decimal(String);

/// The text was not a decimal number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("not a decimal number")]
pub struct NotADecimal;

/// Exponents beyond this would spell out more digits than any engine stores.
const LARGEST_EXPONENT: i64 = 100_000;

impl Decimal {
    /// Reads a decimal in any usual spelling, with or without an exponent.
    ///
    /// # Errors
    /// [`NotADecimal`] when the text has anything but a sign, digits, one point
    /// and one exponent, or an exponent beyond ±100 000.
    pub fn parse(text: &str) -> Result<Self, NotADecimal> {
        let (negative, rest) = match text.as_bytes().first() {
            Some(b'-') => (true, &text[1..]),
            Some(b'+') => (false, &text[1..]),
            _ => (false, text),
        };
        let (mantissa, exponent) = match rest.find(['e', 'E']) {
            Some(at) => (&rest[..at], rest[at + 1..].parse::<i64>().map_err(|_| NotADecimal)?),
            None => (rest, 0),
        };
        if exponent.abs() > LARGEST_EXPONENT {
            return Err(NotADecimal);
        }
        let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
        if whole.is_empty() && fraction.is_empty() {
            return Err(NotADecimal);
        }
        if !whole.bytes().chain(fraction.bytes()).all(|b| b.is_ascii_digit()) {
            return Err(NotADecimal);
        }
        let digits = format!("{whole}{fraction}");
        let point = i64::try_from(whole.len()).map_err(|_| NotADecimal)? + exponent;
        Ok(Self(spell(negative, &digits, point)))
    }

    /// Keeps a decimal as an engine wrote it, its scale included.
    ///
    /// # Errors
    /// [`NotADecimal`] when the text has anything but a sign, digits and one point.
    pub fn written(text: &str) -> Result<Self, NotADecimal> {
        let value = Self::parse(text)?;
        let Some((_, fraction)) = text.split_once('.') else {
            return if text.contains(['e', 'E']) { Err(NotADecimal) } else { Ok(value) };
        };
        if !fraction.bytes().all(|b| b.is_ascii_digit()) {
            return Err(NotADecimal);
        }
        let kept = value.0.split_once('.').map_or(0, |(_, fraction)| fraction.len());
        let mut spelled = value.0;
        if kept == 0 && !fraction.is_empty() {
            spelled.push('.');
        }
        spelled.push_str(&"0".repeat(fraction.len() - kept));
        Ok(Self(spelled))
    }

    /// The same number without its scale.
    #[must_use]
    pub fn normal(&self) -> Self {
        Self(match self.0.contains('.') {
            true => self.0.trim_end_matches('0').trim_end_matches('.').to_owned(),
            false => self.0.clone(),
        })
    }

    /// Its spelling, ASCII.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// Spells `digits` with the point before the digit at `point`.
fn spell(negative: bool, digits: &str, point: i64) -> String {
    let digits_before = usize::try_from(point).unwrap_or(0);
    let zeros_after_point = usize::try_from(-point).unwrap_or(0);
    let (whole, fraction) = if digits_before >= digits.len() {
        let padding = "0".repeat(digits_before - digits.len());
        (format!("{digits}{padding}"), String::new())
    } else {
        let padding = "0".repeat(zeros_after_point);
        (digits[..digits_before].to_owned(), format!("{padding}{}", &digits[digits_before..]))
    };
    let whole = whole.trim_start_matches('0');
    let fraction = fraction.trim_end_matches('0');
    let mut out = String::with_capacity(whole.len() + fraction.len() + 3);
    if negative && !(whole.is_empty() && fraction.is_empty()) {
        out.push('-');
    }
    out.push_str(if whole.is_empty() { "0" } else { whole });
    if !fraction.is_empty() {
        out.push('.');
        out.push_str(fraction);
    }
    out
}

impl fmt::Display for Decimal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_spelling_of_a_number_becomes_one() {
        for (spellings, expected) in [
            (vec!["1.50", "+1.5", "15e-1", "0.15E1", "001.500"], "1.5"),
            (vec!["0", "-0", "0.000", "-0e5", ".0"], "0"),
            (vec!["1200", "1.2e3", "12e2"], "1200"),
            (vec!["-.5", "-0.50", "-5e-1"], "-0.5"),
            (vec!["0.001", "1e-3"], "0.001"),
        ] {
            for spelling in spellings {
                assert_eq!(Decimal::parse(spelling).unwrap().as_str(), expected, "{spelling}");
            }
        }
    }

    #[test]
    fn what_an_engine_wrote_keeps_its_scale() {
        for (text, kept, value) in [
            ("1.50", "1.50", "1.5"),
            ("-000.500", "-0.500", "-0.5"),
            ("0.00", "0.00", "0"),
            ("-0.00", "0.00", "0"),
            ("7", "7", "7"),
            ("100", "100", "100"),
            (".5", "0.5", "0.5"),
        ] {
            let written = Decimal::written(text).unwrap();
            assert_eq!((written.as_str(), written.normal().as_str()), (kept, value), "{text}");
            assert_eq!(Decimal::written(kept), Ok(written));
        }
        assert_eq!(Decimal::written("1e3"), Err(NotADecimal));
    }

    #[test]
    fn what_is_no_number_is_refused() {
        for text in ["", "-", ".", "1.2.3", "1e", "e5", "NaN", "1 ", "0x1", "1e999999999"] {
            assert_eq!(Decimal::parse(text), Err(NotADecimal), "{text:?}");
        }
    }
}
