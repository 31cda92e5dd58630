//! Numbers of steps, kept as ranges: most plans are carried out in their order, and then there is one.

use std::collections::BTreeMap;

/// A set of numbers, as ranges from the first to the last.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct StepNumbers(BTreeMap<u64, u64>);

impl StepNumbers {
    /// Whether it has a number.
    #[must_use]
    pub fn contains(&self, number: u64) -> bool {
        self.0.range(..=number).next_back().is_some_and(|(_, last)| *last >= number)
    }

    /// How many there are.
    #[must_use]
    pub fn count(&self) -> u64 {
        self.0.iter().map(|(first, last)| last - first + 1).sum()
    }

    /// Adds a number; false if it was there.
    pub fn insert(&mut self, number: u64) -> bool {
        let before = self.0.range(..=number).next_back().map(|(first, last)| (*first, *last));
        if before.is_some_and(|(_, last)| last >= number) {
            return false;
        }
        let first =
            before.filter(|(_, last)| last + 1 == number).map_or(number, |(first, _)| first);
        let last = number.checked_add(1).and_then(|next| self.0.remove(&next)).unwrap_or(number);
        self.0.insert(first, last);
        true
    }

    /// Takes a number out.
    pub fn remove(&mut self, number: u64) {
        let of = self.0.range(..=number).next_back().map(|(first, last)| (*first, *last));
        let Some((first, last)) = of.filter(|(_, last)| *last >= number) else { return };
        self.0.remove(&first);
        if first < number {
            self.0.insert(first, number - 1);
        }
        if number < last {
            self.0.insert(number + 1, last);
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn it_holds_what_a_plain_set_holds(changes in prop::collection::vec((any::<bool>(), 0u64..24), 0..80)) {
            let (mut ranges, mut plain) = (StepNumbers::default(), BTreeSet::new());
            for (put, number) in changes {
                if put {
                    prop_assert_eq!(ranges.insert(number), plain.insert(number));
                } else {
                    ranges.remove(number);
                    plain.remove(&number);
                }
                prop_assert_eq!(ranges.count(), plain.len() as u64);
            }
            for number in 0..26 {
                prop_assert_eq!(ranges.contains(number), plain.contains(&number));
            }
        }
    }
}
