//! A node's clock against ours.

use super::links::Micros;
use super::node::Clock;

/// Of two measurements of a clock the one that can be wrong by less; the second was `there` when ours was between
/// `before` and `after`.
#[must_use]
pub fn better_clock_sample(
    best: Option<Clock>,
    before: Micros,
    there: Micros,
    after: Micros,
) -> Option<Clock> {
    if after < before {
        return best; // our own clock was set back meanwhile
    }
    let uncertain = (after - before) / 2 + 1;
    let clock = Clock { ahead: there - (before + uncertain), uncertain };
    match best {
        Some(best) if best.uncertain <= clock.uncertain => Some(best),
        _ => Some(clock),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clock_is_known_to_half_of_the_round_trip() {
        let slow = better_clock_sample(None, 1_000_000, 1_600_000, 1_200_000).unwrap();
        assert_eq!((slow.ahead + 1, slow.uncertain), (500_000, 100_001));
        let quick = better_clock_sample(Some(slow), 2_000_000, 2_501_000, 2_002_000).unwrap();
        assert_eq!((quick.ahead + 1, quick.uncertain), (500_000, 1_001));
        assert_eq!(better_clock_sample(Some(quick), 3_000_000, 0, 3_100_000), Some(quick));
        assert_eq!(better_clock_sample(Some(quick), 3_000_000, 0, 2_999_000), Some(quick));
    }
}
