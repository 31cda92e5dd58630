//! Time zones: what the clock on the wall showed at a moment.
//!
//! Only this direction is needed. It has one answer for every moment; the way
//! back has two in the hour that autumn repeats.

use std::fmt;

use jiff::Timestamp;
use jiff::tz::{TimeZone, TimeZoneDatabase};

use crate::value::calendar::{INFINITY, MINUS_INFINITY};

/// A zone by its name in the IANA database, which is built in.
#[derive(Clone, PartialEq, Eq)]
pub struct Zone {
    name: String,
    rules: TimeZone,
}

impl fmt::Debug for Zone {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Zone({})", self.name)
    }
}

impl Zone {
    /// The zone of that name, such as `Europe/Vienna` or `UTC`.
    #[must_use]
    pub fn named(name: &str) -> Option<Self> {
        let rules = TimeZoneDatabase::bundled().get(name).ok()?;
        Some(Self { name: rules.iana_name().unwrap_or(name).to_owned(), rules })
    }

    /// Its name.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The local time, in microseconds since 1970-01-01T00:00:00 there, of a
    /// moment in microseconds since then in UTC. Infinities stay what they are.
    #[must_use]
    pub fn local(&self, micros: i64) -> i64 {
        if matches!(micros, INFINITY | MINUS_INFINITY) {
            return micros;
        }
        let within = |micros: i64| Timestamp::from_microsecond(micros).ok();
        // Beyond the years that the rules know, their last offset goes on.
        let known =
            within(micros).unwrap_or(if micros < 0 { Timestamp::MIN } else { Timestamp::MAX });
        let offset = self.rules.to_offset(known).seconds();
        micros.saturating_add(i64::from(offset) * 1_000_000)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::calendar::{parse_timestamp, timestamp_text};

    #[test]
    fn summer_and_winter_differ() {
        let zone = Zone::named("Europe/Vienna").unwrap();
        let local = |text: &str| timestamp_text(zone.local(parse_timestamp(text).unwrap().0));
        assert_eq!(local("2026-07-01 10:00:00.5"), "2026-07-01 12:00:00.5");
        assert_eq!(local("2026-01-01 10:00:00"), "2026-01-01 11:00:00");
        // The repeated hour: two moments, one time on the wall.
        assert_eq!(local("2026-10-25 00:30:00"), local("2026-10-25 01:30:00"));
        assert_eq!(zone.local(INFINITY), INFINITY);
        assert!(Zone::named("Refuge/Saddle").is_none());
    }
}
