//! Positions: how far a log has come, or how much of it has been applied.
//!
//! Engines count differently. MariaDB numbers transactions within domains, PostgreSQL counts bytes
//! of log, the stand-in numbers the entries of a journal; and what a node has applied of several
//! origins is one number for each of them. They have in common that two positions of one kind can be
//! put in order, or are found to have parted, and that one can be taken from the other. Positions
//! over several origins are vectors, ordered part by part (Fidge 1988, Mattern 1989).

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

/// A place in a log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Position {
    /// MariaDB: by domain the last transaction, as the server that wrote it and its number. A domain that is
    /// not named is at nothing.
    Gtid(BTreeMap<u32, (u32, u64)>),
    /// PostgreSQL: bytes of log since the beginning of its time.
    Lsn(u64),
    /// The number of the last entry of a journal.
    Count(u64),
    /// By origin the number of the last entry of its journal. An origin that is not named is at nothing.
    Origins(BTreeMap<String, u64>),
}

/// How one position stands to another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PositionOrder {
    /// Both have the same.
    Equal,
    /// The other has everything that it has, and more.
    Behind,
    /// It has everything that the other has, and more.
    Ahead,
    /// Each has something that the other lacks.
    Diverged,
}

impl PositionOrder {
    fn and(self, other: Self) -> Self {
        match (self, other) {
            (one, Self::Equal) => one,
            (Self::Equal, other) => other,
            (one, other) if one == other => one,
            _ => Self::Diverged,
        }
    }
}

/// How much lies between two positions, in the measure of the engine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Gap {
    /// So many transactions.
    Transactions(u64),
    /// So many bytes of log.
    Bytes(u64),
}

impl Gap {
    /// The number alone.
    #[must_use]
    pub fn size(self) -> u64 {
        match self {
            Self::Transactions(size) | Self::Bytes(size) => size,
        }
    }

    /// The unit that is counted.
    #[must_use]
    pub fn unit(self) -> &'static str {
        match self {
            Self::Transactions(_) => "transactions",
            Self::Bytes(_) => "bytes",
        }
    }
}

impl Position {
    /// How it stands to another; none if they are of different kinds.
    ///
    /// Two transactions of one domain with one number but of different servers have parted: neither
    /// log holds the other's.
    #[must_use]
    pub fn compare(&self, other: &Self) -> Option<PositionOrder> {
        let number = |one: u64, other: u64| match one.cmp(&other) {
            std::cmp::Ordering::Less => PositionOrder::Behind,
            std::cmp::Ordering::Equal => PositionOrder::Equal,
            std::cmp::Ordering::Greater => PositionOrder::Ahead,
        };
        match (self, other) {
            (Self::Lsn(one), Self::Lsn(other)) | (Self::Count(one), Self::Count(other)) => {
                Some(number(*one, *other))
            }
            (Self::Gtid(one), Self::Gtid(other)) => Some(parts(one, other, |one, other| {
                let ((server, at), (other_server, other_at)) = (one, other);
                if at == other_at && at > 0 && server != other_server {
                    PositionOrder::Diverged
                } else {
                    number(at, other_at)
                }
            })),
            (Self::Origins(one), Self::Origins(other)) => Some(parts(one, other, number)),
            _ => None,
        }
    }

    /// Whether it has everything that the other has.
    #[must_use]
    pub fn has(&self, other: &Self) -> bool {
        matches!(self.compare(other), Some(PositionOrder::Equal | PositionOrder::Ahead))
    }

    /// The part of the other that it lacks, where that can be counted: nothing for positions of different kinds, and
    /// for those over journals, whose numbers leave gaps.
    #[must_use]
    pub fn lacks(&self, other: &Self) -> Option<Gap> {
        match (self, other) {
            (Self::Lsn(one), Self::Lsn(other)) => Some(Gap::Bytes(other.saturating_sub(*one))),
            (Self::Count(one), Self::Count(other)) => {
                Some(Gap::Transactions(other.saturating_sub(*one)))
            }
            (Self::Gtid(one), Self::Gtid(other)) => {
                let at = |domain: &u32| one.get(domain).map_or(0, |(_, at)| *at);
                let lacking = other.iter().map(|(domain, (_, seq))| seq.saturating_sub(at(domain)));
                Some(Gap::Transactions(lacking.fold(0, u64::saturating_add)))
            }
            _ => None,
        }
    }

    /// The position that has everything that both have: of each part the greater.
    #[must_use]
    pub fn with(&self, other: &Self) -> Option<Self> {
        match (self, other) {
            (Self::Lsn(one), Self::Lsn(other)) => Some(Self::Lsn(*one.max(other))),
            (Self::Count(one), Self::Count(other)) => Some(Self::Count(*one.max(other))),
            (Self::Gtid(one), Self::Gtid(other)) => {
                Some(Self::Gtid(greatest(one, other, |(_, at)| *at)))
            }
            (Self::Origins(one), Self::Origins(other)) => {
                Some(Self::Origins(greatest(one, other, |at| *at)))
            }
            _ => None,
        }
    }

    /// Without what one MariaDB domain holds: a node needs to be sent nothing of its own.
    #[must_use]
    pub fn without_domain(mut self, domain: u32) -> Self {
        if let Self::Gtid(parts) = &mut self {
            parts.remove(&domain);
        }
        self
    }
}

/// Whether one position, as its engine writes it, has all of another.
#[must_use]
pub fn has_all(one: &str, other: &str) -> bool {
    let read = |text: &str| text.parse::<Position>().ok().or_else(|| gtids(text).ok());
    read(one).zip(read(other)).is_some_and(|(one, other)| one.has(&other))
}

/// Part by part; a part that only one has is compared with nothing.
fn parts<K: Ord, V: Copy + Default>(
    one: &BTreeMap<K, V>,
    other: &BTreeMap<K, V>,
    compare: impl Fn(V, V) -> PositionOrder,
) -> PositionOrder {
    let mine =
        one.iter().map(|(key, at)| compare(*at, other.get(key).copied().unwrap_or_default()));
    let theirs = other.iter().filter(|(key, _)| !one.contains_key(key));
    let theirs = theirs.map(|(_, at)| compare(V::default(), *at));
    mine.chain(theirs).fold(PositionOrder::Equal, PositionOrder::and)
}

fn greatest<K: Ord + Clone, V: Copy>(
    one: &BTreeMap<K, V>,
    other: &BTreeMap<K, V>,
    at: impl Fn(&V) -> u64,
) -> BTreeMap<K, V> {
    let mut all = one.clone();
    for (key, value) in other {
        let known = all.entry(key.clone()).or_insert(*value);
        if at(value) > at(known) {
            *known = *value;
        }
    }
    all
}

impl fmt::Display for Position {
    /// As the engine itself writes it; a list without any part has one that is at nothing.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Gtid(parts) if parts.is_empty() => write!(f, "0-0-0"),
            Self::Gtid(parts) => {
                let texts =
                    parts.iter().map(|(domain, (server, at))| format!("{domain}-{server}-{at}"));
                write!(f, "{}", texts.collect::<Vec<_>>().join(","))
            }
            Self::Lsn(at) => write!(f, "{:X}/{:X}", at >> 32, at & 0xffff_ffff),
            Self::Count(at) => write!(f, "{at}"),
            Self::Origins(parts) if parts.is_empty() => write!(f, ":0"),
            Self::Origins(parts) => {
                let texts = parts.iter().map(|(origin, at)| format!("{origin}:{at}"));
                write!(f, "{}", texts.collect::<Vec<_>>().join(","))
            }
        }
    }
}

/// A text that is no position of any engine.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0} is not a position like 0-1-100, 0/16B3748, 100 or valley:100")]
pub struct NoPosition(String);

impl FromStr for Position {
    type Err = NoPosition;

    fn from_str(text: &str) -> Result<Self, NoPosition> {
        let text = text.trim();
        let read = || {
            if let Some((high, low)) = text.split_once('/') {
                let part = |part: &str| {
                    let digits = (1..=8).contains(&part.len())
                        && part.bytes().all(|byte| byte.is_ascii_hexdigit());
                    digits.then(|| u64::from_str_radix(part, 16).ok()).flatten()
                };
                return Some(Self::Lsn(part(high)? << 32 | part(low)?));
            }
            if text.contains(':') {
                let mut found = BTreeMap::new();
                for part in text.split(',') {
                    let (origin, at) = part.trim().rsplit_once(':')?;
                    keep(&mut found, origin.to_owned(), number(at)?, |at| *at);
                }
                return Some(Self::Origins(found));
            }
            if text.contains('-') {
                let mut found = BTreeMap::new();
                for part in text.split(',') {
                    let mut numbers = part.trim().split('-');
                    let domain = u32::try_from(number(numbers.next()?)?).ok()?;
                    let server = u32::try_from(number(numbers.next()?)?).ok()?;
                    let at = number(numbers.next()?)?;
                    if numbers.next().is_some() {
                        return None;
                    }
                    keep(&mut found, domain, (server, at), |(_, at)| *at);
                }
                return Some(Self::Gtid(found));
            }
            number(text).map(Self::Count)
        };
        read().ok_or_else(|| NoPosition(text.to_owned()))
    }
}

/// Digits and nothing else: the usual way would take a sign.
fn number(text: &str) -> Option<u64> {
    let digits = !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    digits.then(|| text.parse().ok()).flatten()
}

/// The furthest of each part; what is at nothing is not kept.
fn keep<K: Ord, V>(found: &mut BTreeMap<K, V>, key: K, value: V, at: impl Fn(&V) -> u64) {
    let known = found.get(&key).map_or(0, &at);
    if at(&value) > known {
        found.insert(key, value);
    }
}

/// Reads what MariaDB says of a position, which is empty where there is none.
///
/// # Errors
/// [`NoPosition`] when it is something else.
pub fn gtids(text: &str) -> Result<Position, NoPosition> {
    if text.trim().is_empty() {
        return Ok(Position::Gtid(BTreeMap::new()));
    }
    match text.parse()? {
        Position::Gtid(parts) => Ok(Position::Gtid(parts)),
        _ => Err(NoPosition(text.to_owned())),
    }
}

/// Whether one state of a MariaDB log, which names the last transaction of every server in every domain, has all of
/// another; none if one of them is no such state.
#[must_use]
pub fn log_has_all(one: &str, other: &str) -> Option<bool> {
    let last = |text: &str| -> Option<BTreeMap<(u32, u32), u64>> {
        let parts = text.split(',').map(str::trim).filter(|part| !part.is_empty());
        let read = |part: &str| {
            let mut numbers = part.splitn(3, '-');
            let (domain, server, at) = (numbers.next()?, numbers.next()?, numbers.next()?);
            Some(((domain.parse().ok()?, server.parse().ok()?), at.parse().ok()?))
        };
        parts.map(read).collect()
    };
    let (one, other) = (last(one)?, last(other)?);
    Some(other.iter().all(|(of, at)| one.get(of).is_some_and(|has| has >= at)))
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;

    /// Of two servers of one domain each is told apart: a position would tell only the last.
    #[test]
    fn a_log_has_what_each_server_wrote() {
        for (one, other, has) in [
            ("", "", Some(true)),
            ("1-1-7", "", Some(true)),
            ("", "1-1-7", Some(false)),
            ("1-1-7, 1-2-5,2-2-1", "1-2-5,1-1-6", Some(true)),
            ("1-1-7", "1-2-5", Some(false)),
            ("1-1-7", "1-1-8", Some(false)),
            ("1-1-7", "2-1-7", Some(false)),
            ("1-1", "1-1-7", None),
            ("1-1-7", "yes", None),
        ] {
            assert_eq!(log_has_all(one, other), has, "{one} and {other}");
        }
    }

    fn gtid() -> impl Strategy<Value = BTreeMap<u32, (u32, u64)>> {
        // One server per domain, as a healthy topology has it.
        prop::collection::btree_map(0u32..4, 1u64..6, 0..4)
            .prop_map(|parts| parts.into_iter().map(|(d, at)| (d, (d + 1, at))).collect())
    }

    fn any_position() -> impl Strategy<Value = Position> {
        prop_oneof![
            gtid().prop_map(Position::Gtid),
            any::<u64>().prop_map(Position::Lsn),
            any::<u64>().prop_map(Position::Count),
            prop::collection::btree_map("[a-z][a-z0-9._-]{0,5}", 1u64.., 0..4)
                .prop_map(Position::Origins),
        ]
    }

    /// The transactions that a position stands for, one by one.
    fn transactions(position: &Position) -> BTreeSet<(u32, u64)> {
        match position {
            Position::Gtid(parts) => {
                parts.iter().flat_map(|(d, (_, at))| (1..=*at).map(|seq| (*d, seq))).collect()
            }
            _ => BTreeSet::new(),
        }
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_back(position in any_position()) {
            prop_assert_eq!(position.to_string().parse::<Position>(), Ok(position));
        }

        #[test]
        fn positions_stand_as_the_sets_of_their_transactions(one in gtid(), other in gtid()) {
            let (one, other) = (Position::Gtid(one), Position::Gtid(other));
            let (a, b) = (transactions(&one), transactions(&other));
            let standing = match (a.is_subset(&b), b.is_subset(&a)) {
                (true, true) => PositionOrder::Equal,
                (true, false) => PositionOrder::Behind,
                (false, true) => PositionOrder::Ahead,
                (false, false) => PositionOrder::Diverged,
            };
            prop_assert_eq!(one.compare(&other), Some(standing));
            prop_assert_eq!(one.has(&other), b.is_subset(&a));
            let lacking = b.difference(&a).count() as u64;
            prop_assert_eq!(one.lacks(&other), Some(Gap::Transactions(lacking)));
            let both = one.with(&other).unwrap();
            prop_assert_eq!(transactions(&both), a.union(&b).copied().collect::<BTreeSet<_>>());
            prop_assert!(both.has(&one) && both.has(&other));
        }

        #[test]
        fn one_stands_to_the_other_as_the_other_does_not_to_it(one in any_position(), other in any_position()) {
            let turned = other.compare(&one).map(|standing| match standing {
                PositionOrder::Behind => PositionOrder::Ahead,
                PositionOrder::Ahead => PositionOrder::Behind,
                same => same,
            });
            prop_assert_eq!(one.compare(&other), turned);
        }

        #[test]
        fn bytes_of_log_are_counted(a in any::<u64>(), b in any::<u64>()) {
            let (one, other) = (Position::Lsn(a), Position::Lsn(b));
            prop_assert_eq!(one.lacks(&other), Some(Gap::Bytes(b.saturating_sub(a))));
            prop_assert_eq!(one.has(&other), a >= b);
        }
    }

    #[test]
    fn one_number_of_two_servers_means_that_they_parted() {
        let (one, other): (Position, Position) =
            ("0-1-5".parse().unwrap(), "0-2-5".parse().unwrap());
        assert_eq!(one.compare(&other), Some(PositionOrder::Diverged));
        assert!(!one.has(&other));
    }

    #[test]
    fn what_is_no_position_is_refused() {
        for text in [
            "",
            "x",
            "0-1",
            "0-1-2-3",
            "-1",
            "+1",
            "0/",
            "0/G",
            "a:b",
            "1/2/3",
            "0-1-x",
            "123456789/0",
        ] {
            assert!(text.parse::<Position>().is_err(), "{text}");
        }
        assert!(gtids("0/1").is_err());
        assert_eq!(gtids(""), Ok(Position::Gtid(BTreeMap::new())));
        assert_eq!(gtids("0-1-5").unwrap().compare(&Position::Lsn(5)), None);
    }
}
