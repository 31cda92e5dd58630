//! Dates and times as text and back, in the proleptic Gregorian calendar.
//!
//! Days and microseconds are what values hold; text is ISO 8601, years as
//! astronomers count them (year 0 is 1 BC). The conversions between days and
//! civil dates are those of H. Hinnant, "chrono-Compatible Low-Level Date
//! Algorithms". The largest and smallest numbers stand for the infinities that
//! PostgreSQL has.

/// Later than every date and timestamp.
pub const INFINITY: i64 = i64::MAX;
/// Earlier than every date and timestamp.
pub const MINUS_INFINITY: i64 = i64::MIN;

/// Microseconds of a day.
pub const DAY: i64 = 86_400_000_000;
const SECOND: i64 = 1_000_000;

/// Days since 1970-01-01 of a civil date; the month and day are not checked.
#[must_use]
pub fn days(year: i64, month: i64, day: i64) -> i64 {
    let year = if month <= 2 { year - 1 } else { year };
    let era = year.div_euclid(400);
    let of_era = year - era * 400;
    let of_year = (153 * (if month > 2 { month - 3 } else { month + 9 }) + 2) / 5 + day - 1;
    era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719_468
}

/// Year, month and day of a number of days since 1970-01-01.
#[must_use]
pub fn civil(days: i64) -> (i64, i64, i64) {
    let days = days.saturating_add(719_468);
    let era = days.div_euclid(146_097);
    let of_era = days - era * 146_097;
    let year = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year + year / 4 - year / 100);
    let month = (5 * of_year + 2) / 153;
    let day = of_year - (153 * month + 2) / 5 + 1;
    let month = if month < 10 { month + 3 } else { month - 9 };
    (year + era * 400 + i64::from(month <= 2), month, day)
}

fn infinite(v: i64) -> Option<&'static str> {
    match v {
        INFINITY => Some("infinity"),
        MINUS_INFINITY => Some("-infinity"),
        _ => None,
    }
}

/// `2026-07-01`.
#[must_use]
pub fn date_text(days: i64) -> String {
    if let Some(word) = infinite(days) {
        return word.to_owned();
    }
    let (year, month, day) = civil(days);
    let sign = if year < 0 { "-" } else { "" };
    format!("{sign}{:04}-{month:02}-{day:02}", year.abs())
}

/// `07:31:00`, with a fraction if there is one; hours may pass 24 and the whole may be negative.
#[must_use]
pub fn time_text(micros: i64) -> String {
    let magnitude = micros.unsigned_abs();
    let (seconds, fraction) = (magnitude / 1_000_000, magnitude % 1_000_000);
    let sign = if micros < 0 { "-" } else { "" };
    let (hours, minutes, seconds) = (seconds / 3600, seconds / 60 % 60, seconds % 60);
    let mut text = format!("{sign}{hours:02}:{minutes:02}:{seconds:02}");
    if fraction > 0 {
        text.push_str(format!(".{fraction:06}").trim_end_matches('0'));
    }
    text
}

/// `2026-05-02 07:31:00`, with a fraction if there is one.
#[must_use]
pub fn timestamp_text(micros: i64) -> String {
    if let Some(word) = infinite(micros) {
        return word.to_owned();
    }
    let (day, rest) = (micros.div_euclid(DAY), micros.rem_euclid(DAY));
    format!("{} {}", date_text(day), time_text(rest))
}

/// Reads `2026-07-01` as days.
#[must_use]
pub fn parse_date(text: &str) -> Option<i64> {
    match text {
        "infinity" => return Some(INFINITY),
        "-infinity" => return Some(MINUS_INFINITY),
        _ => {}
    }
    let (negative, rest) = text.strip_prefix('-').map_or((false, text), |rest| (true, rest));
    let mut parts = rest.split('-');
    let (year, month, day) = (parts.next()?, parts.next()?, parts.next()?);
    if parts.next().is_some() || year.len() < 4 || year.len() > 9 {
        return None;
    }
    let year = if negative { -digits(year)? } else { digits(year)? };
    let (month, day) = (two(month)?, two(day)?);
    let days = days(year, month, day);
    (civil(days) == (year, month, day)).then_some(days)
}

/// Reads `07:31`, `07:31:00` or `07:31:00.25` as microseconds, rounding nothing:
/// more than six digits of a fraction are no time here.
#[must_use]
pub fn parse_time(text: &str) -> Option<i64> {
    let (negative, rest) = text.strip_prefix('-').map_or((false, text), |rest| (true, rest));
    let (whole, fraction) = rest.split_once('.').unwrap_or((rest, "0"));
    let mut parts = whole.split(':');
    let (hours, minutes) = (parts.next()?, two(parts.next()?)?);
    let seconds = parts.next().map_or(Some(0), two)?;
    let fits = (2..=3).contains(&hours.len()) && minutes < 60 && seconds < 60;
    if parts.next().is_some() || !fits || fraction.len() > 6 {
        return None;
    }
    let fraction = digits(&format!("{fraction:0<6}"))?;
    let micros = ((digits(hours)? * 60 + minutes) * 60 + seconds) * SECOND + fraction;
    Some(if negative { -micros } else { micros })
}

/// Reads `2026-05-02 07:31:00` or with a `T`, and with or without `Z` or an
/// offset such as `+02`, `+02:00` or `+0200`: the microseconds as written, and
/// the offset in microseconds where there is one.
#[must_use]
pub fn parse_timestamp(text: &str) -> Option<(i64, Option<i64>)> {
    match text {
        "infinity" => return Some((INFINITY, None)),
        "-infinity" => return Some((MINUS_INFINITY, None)),
        _ => {}
    }
    let at = text.char_indices().skip(8).find(|(_, c)| matches!(c, ' ' | 'T'));
    let Some((at, _)) = at else {
        return Some((parse_date(text)?.checked_mul(DAY)?, None));
    };
    let (date, time) = (&text[..at], &text[at + 1..]);
    let (time, offset) = if let Some(time) = time.strip_suffix('Z') {
        (time, Some(0))
    } else if let Some(sign) = time.rfind(['+', '-']) {
        let offset = parse_offset(&time[sign + 1..])?;
        (
            time[..sign].trim_end(),
            Some(if time[sign..].starts_with('-') { -offset } else { offset }),
        )
    } else {
        (time, None)
    };
    let (date, time) = (parse_date(date)?, parse_time(time)?);
    let within = (0..=DAY).contains(&time);
    within
        .then(|| date.checked_mul(DAY)?.checked_add(time))
        .flatten()
        .map(|micros| (micros, offset))
}

fn parse_offset(text: &str) -> Option<i64> {
    let (hours, minutes) = match text.len() {
        2 => (text, "00"),
        4 => text.split_at(2),
        5 => text.split_once(':')?,
        _ => return None,
    };
    Some((two(hours)? * 60 + two(minutes)?) * 60 * SECOND)
}

fn two(text: &str) -> Option<i64> {
    if text.len() == 2 { digits(text) } else { None }
}

fn digits(text: &str) -> Option<i64> {
    let all = !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit());
    if all { text.parse().ok() } else { None }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn every_day_has_one_text(day in -4_000_000i64..4_000_000) {
            prop_assert_eq!(parse_date(&date_text(day)), Some(day));
            let (year, month, date) = civil(day);
            prop_assert_eq!(days(year, month, date), day);
            prop_assert_ne!(civil(day + 1), civil(day));
        }

        #[test]
        fn every_moment_has_one_text(micros in -200_000_000_000_000_000i64..300_000_000_000_000_000) {
            prop_assert_eq!(parse_timestamp(&timestamp_text(micros)), Some((micros, None)));
        }

        #[test]
        fn every_time_has_one_text(micros in -838 * 3_600_000_000i64..839 * 3_600_000_000) {
            prop_assert_eq!(parse_time(&time_text(micros)), Some(micros));
        }
    }

    #[test]
    fn known_days() {
        assert_eq!(date_text(0), "1970-01-01");
        assert_eq!(date_text(-719_529), "-0001-12-31");
        assert_eq!(parse_date("2000-02-29"), Some(11_016));
        assert_eq!(parse_date("1900-02-29"), None);
        assert_eq!(parse_date("2026-7-1"), None);
    }

    #[test]
    fn offsets_are_kept_apart() {
        let noon = 12 * 3600 * SECOND;
        for (text, offset) in [
            ("1970-01-01T12:00:00Z", Some(0)),
            ("1970-01-01 12:00+02", Some(7200 * SECOND)),
            ("1970-01-01 12:00:00.000-0230", Some(-9000 * SECOND)),
            ("1970-01-01 12:00:00 +05:45", Some(20_700 * SECOND)),
            ("1970-01-01 12:00", None),
        ] {
            assert_eq!(parse_timestamp(text), Some((noon, offset)), "{text}");
        }
        assert_eq!(parse_timestamp("1970-01-01 noon"), None);
        assert_eq!(parse_timestamp("yesterday"), None);
    }
}
