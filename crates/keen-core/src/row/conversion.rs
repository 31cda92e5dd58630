//! How cells of a column are taken before they are encoded.
//!
//! Where every node holds a column in the same kind, cells are taken as they
//! are. Where they do not, [`narrowest`] finds the kind that all of them can
//! say: what is compared is then what survives in it, and the result says so.
//! The engineer can also ask for less: trimmed, folded, rounded, or as text.

use std::collections::BTreeSet;
use std::fmt;

use crate::row::schema::Family;
use crate::value::calendar;
use crate::value::decimal::Decimal;
use crate::value::json;
use crate::value::text::{parse_uuid, text_of};
use crate::value::zone::Zone;
use crate::value::{Value, ValueRef, whole};

/// How the cells of a column are taken.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Conversion {
    /// The kind in which they are compared.
    pub kind: CommonKind,
    /// Digits of a second that every node keeps; more are cut off.
    pub fraction: Option<u8>,
    /// The engineer's wishes besides.
    pub treatment: Normalization,
}

/// The engineer's wishes, column by column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Normalization {
    /// The column is not compared.
    pub ignore: bool,
    /// Nodes of one engine are compared by value, too, and not by the engine's own text.
    pub by_value: bool,
    /// Everything is compared by its text.
    pub as_text: bool,
    /// White space at both ends of a text does not count.
    pub trim: bool,
    /// Upper and lower case do not count.
    pub fold: bool,
    /// Numbers are rounded to so many decimal places, times to so many digits of a second.
    pub round: Option<u8>,
}

impl Normalization {
    /// The words for it, as `keen.toml` spells them.
    #[must_use]
    pub fn words(&self) -> Vec<String> {
        let mut words = Vec::new();
        let mut say = |is: bool, word: &str| {
            if is {
                words.push(word.to_owned());
            }
        };
        say(self.ignore, "ignore");
        say(self.by_value, "value");
        say(self.as_text, "text");
        say(self.trim, "trim");
        say(self.fold, "fold");
        if let Some(places) = self.round {
            words.push(format!("round {places}"));
        }
        words
    }

    /// Adds what a word of `keen.toml` asks for; false if it is none.
    #[must_use]
    pub fn add(&mut self, word: &str) -> bool {
        match word {
            "ignore" => self.ignore = true,
            "value" => self.by_value = true,
            "text" => self.as_text = true,
            "trim" => self.trim = true,
            "fold" => self.fold = true,
            _ => {
                let places = word.strip_prefix("round ").and_then(|n| n.trim().parse().ok());
                match places {
                    Some(places) if places <= 30 => self.round = Some(places),
                    _ => return false,
                }
            }
        }
        true
    }
}

/// A kind in which values of several declared types can be told equal.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum CommonKind {
    /// As each node holds them: equal only if the engine's own text is.
    #[default]
    AsStored,
    /// By value: the scale of a decimal, the sign of a zero and the spelling of a JSON text do not count.
    ByValue,
    /// Whole numbers and decimals by their exact value; true is 1.
    Exact,
    /// Numbers as doubles, whole ones exactly.
    Number,
    /// Numbers as 4-byte floats.
    Single,
    /// By the one text that each value has.
    Text,
    /// Texts by the bytes of their UTF-8.
    Bytes,
    /// Dates; texts that are one count as it.
    Date,
    /// Times of day, likewise.
    Time,
    /// Timestamps without a zone; those with one by what the clock in this zone showed.
    Local(Option<Zone>),
    /// UUIDs, also as text and as sixteen bytes.
    Uuid,
    /// JSON by value, also as text.
    Json,
}

impl CommonKind {
    /// The word by which results name it.
    #[must_use]
    pub fn name(&self) -> &'static str {
        match self {
            Self::AsStored => "as_stored",
            Self::ByValue => "by_value",
            Self::Exact => "as_exact_number",
            Self::Number => "as_number",
            Self::Single => "as_single_float",
            Self::Text => "as_text",
            Self::Bytes => "as_bytes",
            Self::Date => "as_date",
            Self::Time => "as_time",
            Self::Local(_) => "as_local_timestamp",
            Self::Uuid => "as_uuid",
            Self::Json => "as_json",
        }
    }
}

impl fmt::Display for CommonKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::AsStored => "values are compared as stored",
            Self::ByValue => "compared by value",
            Self::Exact => "numbers are compared by exact value",
            Self::Number => "numbers are compared by value",
            Self::Single => "numbers are compared as 4-byte floats",
            Self::Text => "values are compared by their text",
            Self::Bytes => "texts are compared by their bytes",
            Self::Date => "values are compared as dates",
            Self::Time => "values are compared as times of day",
            Self::Local(None) => "values are compared as timestamps without a zone",
            Self::Local(Some(zone)) => {
                return write!(f, "values are compared as local time in {}", zone.name());
            }
            Self::Uuid => "values are compared as UUIDs",
            Self::Json => "values are compared as JSON",
        })
    }
}

/// Why no common kind was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NoCommonKind {
    /// Some have a zone, some have none, and nobody said which zone is meant.
    ZoneNeeded,
    /// Nothing sensible holds them all.
    Unlike,
}

/// The narrowest kind that holds the values of all these families.
///
/// # Errors
/// [`NoCommonKind`] when there is none.
pub fn narrowest(
    families: &BTreeSet<Family>,
    zone: Option<&Zone>,
) -> Result<CommonKind, NoCommonKind> {
    use Family as F;
    let mut set = families.clone();
    set.remove(&F::Any);
    let numeric = [F::Boolean, F::Integer, F::Numeric, F::Real, F::Single, F::Decimal, F::Bits];
    if !set.iter().all(|family| numeric.contains(family)) {
        // Columns that SQLite gives numeric affinity hold dates, UUIDs and the like as text.
        set.remove(&F::Numeric);
    }
    let has = |family: F| set.contains(&family);
    let has_any = |families: &[F]| families.iter().any(|family| set.contains(family));
    let only = |allowed: &[F]| set.iter().all(|family| allowed.contains(family));
    if set.len() <= 1 {
        return Ok(match set.first() {
            // One type, and columns that take anything: those may hold its text.
            Some(F::Date) if families.len() > 1 => CommonKind::Date,
            Some(F::Time) if families.len() > 1 => CommonKind::Time,
            Some(F::LocalTimestamp) if families.len() > 1 => CommonKind::Local(None),
            Some(F::Timestamp) if families.len() > 1 => zoned(zone)?,
            Some(F::Uuid) if families.len() > 1 => CommonKind::Uuid,
            Some(F::Json) if families.len() > 1 => CommonKind::Json,
            Some(F::Boolean | F::Decimal) if families.len() > 1 => CommonKind::Number,
            Some(F::Single) if families.len() > 1 => CommonKind::Single,
            _ => CommonKind::AsStored,
        });
    }
    if only(&[F::Boolean, F::Integer, F::Decimal, F::Bits]) {
        return Ok(CommonKind::Exact);
    }
    if only(&numeric) {
        return Ok(if has(F::Single) { CommonKind::Single } else { CommonKind::Number });
    }
    if only(&[F::Date, F::LocalTimestamp, F::Timestamp, F::Text]) {
        let kind = match (has(F::Timestamp), has(F::LocalTimestamp)) {
            (true, _) => zoned(zone)?,
            (false, true) => CommonKind::Local(zone.cloned()),
            (false, false) => CommonKind::Date,
        };
        return Ok(kind);
    }
    let with_text = |family: F| only(&[family, F::Text]);
    if with_text(F::Time) {
        return Ok(CommonKind::Time);
    }
    if only(&[F::Uuid, F::Text, F::Bytes]) && has(F::Uuid) {
        return Ok(CommonKind::Uuid);
    }
    if with_text(F::Json) {
        return Ok(CommonKind::Json);
    }
    if with_text(F::Bytes) {
        return Ok(CommonKind::Bytes);
    }
    if has(F::Text) && !has_any(&[F::Opaque, F::Bytes]) {
        return Ok(CommonKind::Text);
    }
    Err(NoCommonKind::Unlike)
}

fn zoned(zone: Option<&Zone>) -> Result<CommonKind, NoCommonKind> {
    zone.map(|zone| CommonKind::Local(Some(zone.clone()))).ok_or(NoCommonKind::ZoneNeeded)
}

/// A cell as it is compared: the node's own, or made from it.
#[derive(Debug)]
pub enum Converted<'a> {
    /// As the node holds it.
    Same(ValueRef<'a>),
    /// In the common kind.
    Other(Value),
}

impl Converted<'_> {
    /// The value.
    #[must_use]
    pub fn as_ref(&self) -> ValueRef<'_> {
        match self {
            Self::Same(value) => *value,
            Self::Other(value) => value.as_ref(),
        }
    }
}

impl Conversion {
    /// Whether cells are taken as they are.
    #[must_use]
    #[inline]
    pub fn is_plain(&self) -> bool {
        self.kind == CommonKind::AsStored
            && self.fraction.is_none()
            && self.treatment == Normalization::default()
    }

    /// How cells are taken, for messages.
    #[must_use]
    pub fn in_words(&self) -> String {
        let mut words = self.treatment.words();
        words.extend(self.fraction.map(|digits| format!("{digits} digits of a second")));
        if words.is_empty() { self.kind.to_string() } else { words.join(", ") }
    }

    /// Whether taking cells so keeps the order of the keys that an engine sorts by.
    #[must_use]
    pub fn keeps_order(&self) -> bool {
        let treatment = Normalization { by_value: false, ..self.treatment };
        matches!(self.kind, CommonKind::AsStored | CommonKind::ByValue | CommonKind::Number)
            && self.fraction.is_none()
            && treatment == Normalization::default()
    }

    /// Takes one cell.
    #[must_use]
    pub fn take<'a>(&self, value: ValueRef<'a>) -> Converted<'a> {
        if value == ValueRef::Null {
            return Converted::Same(value);
        }
        let mut taken = self.common(value).map_or(Converted::Same(value), Converted::Other);
        if let Some(digits) = self.fraction
            && let Some(cut) = cut(taken.as_ref(), digits)
        {
            taken = Converted::Other(cut);
        }
        if let Some(places) = self.treatment.round
            && let Some(rounded) = rounded(taken.as_ref(), places)
        {
            taken = Converted::Other(rounded);
        }
        if self.treatment.as_text && !matches!(taken.as_ref(), ValueRef::Text(_)) {
            taken = Converted::Other(Value::Text(text_by_value(taken.as_ref()).into_bytes()));
        }
        if (self.treatment.trim || self.treatment.fold)
            && let ValueRef::Text(bytes) = taken.as_ref()
            && let Ok(text) = std::str::from_utf8(bytes)
        {
            let text = if self.treatment.trim { text.trim() } else { text };
            let folded = self.treatment.fold.then(|| text.to_lowercase());
            taken = Converted::Other(Value::text(folded.as_deref().unwrap_or(text)));
        }
        taken
    }

    /// The value in the common kind, if that is another value.
    fn common(&self, value: ValueRef<'_>) -> Option<Value> {
        let text = || match value {
            ValueRef::Text(bytes) => std::str::from_utf8(bytes).ok(),
            _ => None,
        };
        match &self.kind {
            CommonKind::AsStored => None,
            CommonKind::ByValue => by_value(value),
            CommonKind::Exact => match value {
                ValueRef::Bool(v) => Some(Value::Int(v.into())),
                ValueRef::Decimal(v) => {
                    let normal = v.normal();
                    Some(normal.as_str().parse().map_or(Value::Decimal(normal), Value::Int))
                }
                ValueRef::Float(v) => whole(v).map(Value::Int),
                _ => None,
            },
            CommonKind::Number => match value {
                ValueRef::Bool(v) => Some(Value::Int(v.into())),
                ValueRef::Float(v) => whole(v).map(Value::Int),
                ValueRef::Decimal(v) => Some(number(v.normal().as_str())),
                #[expect(
                    clippy::cast_precision_loss,
                    reason = "beyond 64 bits others hold doubles"
                )]
                ValueRef::Int(v) if i64::try_from(v).is_err() => Some(Value::Float(v as f64)),
                _ => None,
            },
            CommonKind::Single => single(value).map(|v| Value::Float(v.into())),
            CommonKind::Text => {
                let is_text = matches!(value, ValueRef::Text(_));
                (!is_text).then(|| Value::Text(text_by_value(value).into_bytes()))
            }
            CommonKind::Bytes => match value {
                ValueRef::Text(v) => Some(Value::Bytes(v.to_vec())),
                _ => None,
            },
            CommonKind::Date => text().and_then(calendar::parse_date).map(Value::Date),
            CommonKind::Time => text().and_then(calendar::parse_time).map(Value::Time),
            CommonKind::Local(zone) => match value {
                ValueRef::Date(calendar::INFINITY | calendar::MINUS_INFINITY) => None,
                ValueRef::Date(v) => v.checked_mul(calendar::DAY).map(Value::LocalTimestamp),
                ValueRef::Timestamp(v) => {
                    zone.as_ref().map(|zone| Value::LocalTimestamp(zone.local(v)))
                }
                _ => local(text()?, zone.as_ref()),
            },
            CommonKind::Uuid => match value {
                ValueRef::Bytes(v) => v.try_into().ok().map(Value::Uuid),
                _ => text().and_then(parse_uuid).map(Value::Uuid),
            },
            CommonKind::Json => match value {
                // A column that takes numbers made one of a text that was one.
                ValueRef::Int(_) | ValueRef::Float(_) => json::canonical(&text_of(value)).ok(),
                ValueRef::Json(text) => json::canonical(text).ok(),
                _ => text().and_then(|text| json::canonical(text).ok()),
            }
            .map(Value::Json),
        }
    }
}

/// The one value that stands for all spellings of it, if that is another.
fn by_value(value: ValueRef<'_>) -> Option<Value> {
    match value {
        ValueRef::Decimal(v) => Some(Value::Decimal(v.normal())),
        ValueRef::Float(v) => (v == 0.0).then_some(Value::Float(0.0)),
        ValueRef::Json(text) => json::canonical(text).ok().map(Value::Json),
        _ => None,
    }
}

fn text_by_value(value: ValueRef<'_>) -> String {
    by_value(value).map_or_else(|| text_of(value), |value| text_of(value.as_ref()))
}

fn local(text: &str, zone: Option<&Zone>) -> Option<Value> {
    match (calendar::parse_timestamp(text)?, zone) {
        ((micros, None), _) => Some(Value::LocalTimestamp(micros)),
        ((micros, Some(offset)), Some(zone)) => {
            Some(Value::LocalTimestamp(zone.local(micros.checked_sub(offset)?)))
        }
        ((_, Some(_)), None) => None,
    }
}

/// A decimal as the nodes that hold doubles could: whole numbers exactly.
fn number(decimal: &str) -> Value {
    match decimal.parse::<i64>() {
        Ok(v) => Value::Int(v.into()),
        Err(_) => {
            let double = decimal.parse().unwrap_or(f64::NAN);
            whole(double).map_or(Value::Float(double), Value::Int)
        }
    }
}

fn double(value: ValueRef<'_>) -> Option<f64> {
    match value {
        ValueRef::Bool(v) => Some(f64::from(u8::from(v))),
        #[expect(clippy::cast_precision_loss, reason = "doubles are what is compared")]
        ValueRef::Int(v) => Some(v as f64),
        ValueRef::Decimal(v) => v.as_str().parse().ok(),
        ValueRef::Float(v) => Some(v),
        _ => None,
    }
}

#[expect(clippy::cast_possible_truncation, reason = "4-byte floats are what is compared")]
fn single(value: ValueRef<'_>) -> Option<f32> {
    match value {
        // Straight from its digits: by way of a double it could be rounded twice.
        ValueRef::Decimal(v) => v.as_str().parse().ok(),
        other => double(other).map(|v| v as f32),
    }
}

fn cut(value: ValueRef<'_>, digits: u8) -> Option<Value> {
    let step = 10_i64.pow(6 - u32::from(digits.min(6)));
    let cut = |v: i64| {
        let infinite = matches!(v, calendar::INFINITY | calendar::MINUS_INFINITY);
        if infinite { v } else { v - v.rem_euclid(step) }
    };
    match value {
        ValueRef::Time(v) => Some(Value::Time(cut(v))),
        ValueRef::Timestamp(v) => Some(Value::Timestamp(cut(v))),
        ValueRef::LocalTimestamp(v) => Some(Value::LocalTimestamp(cut(v))),
        _ => None,
    }
}

fn rounded(value: ValueRef<'_>, places: u8) -> Option<Value> {
    if let ValueRef::Time(_) | ValueRef::Timestamp(_) | ValueRef::LocalTimestamp(_) = value {
        let half = 5 * 10_i64.pow(6 - u32::from(places.min(6))) / 10;
        let up = match value {
            ValueRef::Time(v) => ValueRef::Time(v.saturating_add(half)),
            ValueRef::Timestamp(v) => ValueRef::Timestamp(v.saturating_add(half)),
            ValueRef::LocalTimestamp(v) => ValueRef::LocalTimestamp(v.saturating_add(half)),
            other => other,
        };
        return cut(up, places);
    }
    // All by way of a double and its shortest text, so that 2.345 rounds alike whoever holds it.
    let double = double(value).filter(|v| v.is_finite())?;
    half_away(&double.to_string(), usize::from(places)).map(Value::Decimal)
}

/// A decimal in digits, rounded half away from zero, as people do and SQL does.
fn half_away(text: &str, places: usize) -> Option<Decimal> {
    let (whole, fraction) = text.split_once('.').unwrap_or((text, ""));
    if fraction.len() <= places {
        return Decimal::parse(text).ok();
    }
    let (kept, rest) = fraction.split_at(places);
    let mut digits: Vec<u8> = whole.bytes().chain(kept.bytes()).collect();
    if rest.as_bytes()[0] >= b'5' {
        let last_not_nine = digits.iter().rposition(|d| *d != b'9');
        let start = last_not_nine.map_or(0, |at| at + 1);
        digits[start..].fill(b'0');
        match last_not_nine {
            Some(at) if digits[at] != b'-' => digits[at] += 1,
            _ => digits.insert(start, b'1'),
        }
    }
    let text = String::from_utf8(digits).ok()?;
    Decimal::parse(&format!("{text}e-{places}")).ok()
}

/// Whether what was compared is all that a node holds of a cell, so that it can be written and matched.
#[must_use]
pub fn is_whole(reading: &Conversion, family: Family) -> bool {
    let as_it_is = match &reading.kind {
        _ if family == Family::Opaque => false,
        CommonKind::Single => family == Family::Single,
        // As doubles, decimals lose digits.
        CommonKind::Number => family != Family::Decimal,
        CommonKind::Local(Some(_)) => family != Family::Timestamp,
        _ => true,
    };
    as_it_is && reading.fraction.is_none() && reading.treatment == Normalization::default()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn decimal(text: &str) -> Value {
        Value::Decimal(Decimal::parse(text).unwrap())
    }

    fn taken(reading: &Conversion, value: &Value) -> Value {
        reading.take(value.as_ref()).as_ref().to_value()
    }

    fn kind(kind: CommonKind) -> Conversion {
        Conversion { kind, ..Conversion::default() }
    }

    fn common(families: &[Family]) -> Result<CommonKind, NoCommonKind> {
        narrowest(&families.iter().copied().collect(), None)
    }

    #[test]
    fn the_narrowest_kind_holds_all() {
        use Family as F;
        for (families, expected) in [
            (&[F::Text][..], CommonKind::AsStored),
            (&[F::Integer, F::Any], CommonKind::AsStored),
            (&[F::Boolean, F::Integer], CommonKind::Exact),
            (&[F::Decimal, F::Integer], CommonKind::Exact),
            (&[F::Decimal, F::Numeric], CommonKind::Number),
            (&[F::Boolean, F::Numeric], CommonKind::Number),
            (&[F::Decimal, F::Real], CommonKind::Number),
            (&[F::Single, F::Real], CommonKind::Single),
            (&[F::Date, F::Numeric], CommonKind::Date),
            (&[F::Date, F::Text], CommonKind::Date),
            (&[F::Date, F::LocalTimestamp], CommonKind::Local(None)),
            (&[F::LocalTimestamp, F::Text, F::Any], CommonKind::Local(None)),
            (&[F::Uuid, F::Text], CommonKind::Uuid),
            (&[F::Uuid, F::Bytes], CommonKind::Uuid),
            (&[F::Json, F::Text], CommonKind::Json),
            (&[F::Bytes, F::Text], CommonKind::Bytes),
            (&[F::Decimal, F::Text], CommonKind::Text),
        ] {
            assert_eq!(common(families), Ok(expected), "{families:?}");
        }
        assert_eq!(common(&[F::Timestamp, F::LocalTimestamp]), Err(NoCommonKind::ZoneNeeded));
        assert_eq!(common(&[F::Timestamp, F::Integer]), Err(NoCommonKind::Unlike));
        assert_eq!(common(&[F::Opaque, F::Text]), Err(NoCommonKind::Unlike));
        let zone = Zone::named("Europe/Vienna").unwrap();
        let both = [F::Timestamp, F::LocalTimestamp].into();
        assert_eq!(narrowest(&both, Some(&zone)), Ok(CommonKind::Local(Some(zone))));
    }

    #[test]
    fn equal_values_of_unlike_types_become_equal() {
        let wide = Value::Int(18_446_744_073_709_551_615);
        for (reading, a, b) in [
            (CommonKind::Exact, Value::Bool(true), Value::Int(1)),
            (CommonKind::Exact, wide.clone(), decimal("18446744073709551615.0")),
            (CommonKind::Number, decimal("84.00"), Value::Float(84.0)),
            (CommonKind::Number, decimal("42.50"), Value::Float(42.5)),
            (CommonKind::Number, decimal("9007199254740993"), Value::Int(9_007_199_254_740_993)),
            (CommonKind::Number, decimal("1e20"), Value::Float(1e20)),
            (CommonKind::Number, wide, Value::Float(18_446_744_073_709_551_615.0)),
            (CommonKind::Single, Value::Float(0.1f32.into()), Value::Float(0.1)),
            (CommonKind::Single, decimal("0.1"), Value::Float(0.1f32.into())),
            (CommonKind::Date, Value::Date(20_635), Value::text("2026-07-01")),
            (CommonKind::Local(None), Value::Date(1), Value::text("1970-01-02T00:00")),
            (CommonKind::Uuid, Value::Uuid([0xab; 16]), Value::text(&"AB".repeat(16))),
            (CommonKind::Uuid, Value::Uuid([7; 16]), Value::Bytes(vec![7; 16])),
            (CommonKind::Json, Value::Json("{\"a\":1}".into()), Value::text("{ \"a\": 1.0 }")),
            (CommonKind::Json, Value::Json("12.5".into()), Value::Float(12.5)),
            (CommonKind::Text, decimal("1.50"), Value::text("1.5")),
            (CommonKind::Bytes, Value::text("é"), Value::Bytes("é".into())),
        ] {
            let reading = kind(reading);
            assert_eq!(taken(&reading, &a), taken(&reading, &b), "{reading:?} {a:?}");
        }
    }

    #[test]
    fn what_differs_in_the_common_kind_stays_different() {
        for (reading, a, b) in [
            (CommonKind::Exact, decimal("1.5"), Value::Int(1)),
            (
                CommonKind::Number,
                Value::Int(9_007_199_254_740_993),
                Value::Float(9_007_199_254_740_992.0),
            ),
            (CommonKind::Date, Value::Date(20_635), Value::text("1.7.2026")),
            (CommonKind::Uuid, Value::Uuid([7; 16]), Value::text("07")),
        ] {
            let reading = kind(reading);
            assert_ne!(taken(&reading, &a), taken(&reading, &b), "{reading:?} {a:?}");
        }
    }

    #[test]
    fn zones_turn_moments_into_local_time() {
        let reading = kind(CommonKind::Local(Zone::named("Europe/Vienna")));
        let local =
            Value::LocalTimestamp(calendar::parse_timestamp("2026-07-01 12:00:00").unwrap().0);
        let moment = calendar::parse_timestamp("2026-07-01 10:00:00").unwrap().0;
        assert_eq!(taken(&reading, &Value::Timestamp(moment)), local);
        assert_eq!(taken(&reading, &Value::text("2026-07-01 11:00:00+01")), local);
        assert_eq!(taken(&reading, &Value::text("2026-07-01 12:00:00")), local);
    }

    #[test]
    fn treatments_do_what_they_say() {
        let mut treatment = Normalization::default();
        assert!(treatment.add("trim") && treatment.add("fold") && !treatment.add("round off"));
        let reading = Conversion { treatment, ..Conversion::default() };
        assert_eq!(taken(&reading, &Value::text(" Łódź\t")), Value::text("łódź"));
        let mut treatment = Normalization::default();
        assert!(treatment.add("round 2"));
        let reading = Conversion { treatment, ..Conversion::default() };
        assert_eq!(taken(&reading, &Value::Float(1.005)), taken(&reading, &decimal("1.005")));
        assert_eq!(taken(&reading, &Value::Int(3)), decimal("3"));
        for (given, rounded) in [
            (1.005, "1.01"),
            (-84.125, "-84.13"),
            (9.999, "10"),
            (-99.995, "-100"),
            (0.004, "0"),
            (-0.005, "-0.01"),
            (1e22, "1e22"),
        ] {
            assert_eq!(taken(&reading, &Value::Float(given)), decimal(rounded), "{given}");
        }
        assert_eq!(taken(&reading, &Value::Time(1_239_999)), Value::Time(1_240_000));
        assert_eq!(treatment.words(), ["round 2"]);
        let seconds = Conversion { fraction: Some(0), ..Conversion::default() };
        assert_eq!(taken(&seconds, &Value::Timestamp(-1)), Value::Timestamp(-1_000_000));
        let text = Conversion {
            treatment: Normalization { as_text: true, ..Normalization::default() },
            ..Conversion::default()
        };
        assert_eq!(taken(&text, &Value::Int(5)), Value::text("5"));
    }
}
