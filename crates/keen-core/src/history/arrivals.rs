//! Which transactions of one writer stand in a journal, and where: packed, for there can be tens of millions.
//!
//! Numbers mostly ascend together, so entries are kept in blocks, of each block the first whole and of the
//! others how much they add (LEB128): two to four bytes a transaction. What came out of order is kept apart.

use std::collections::BTreeMap;

/// Entries of one block.
const BLOCK: usize = 128;

/// The transactions of one writer in one journal.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Arrivals {
    blocks: Vec<Block>,
    /// Transactions that came after one with a higher number.
    late: BTreeMap<u64, u64>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
struct Block {
    place: u64,
    order: u64,
    last_place: u64,
    last_order: u64,
    count: usize,
    /// By how much place and order grow, entry by entry.
    steps: Vec<u8>,
}

impl Arrivals {
    /// A transaction with this number stands at this place of the journal. Orders ascend.
    pub fn push(&mut self, place: u64, order: u64) {
        match self.blocks.last_mut() {
            Some(last) if place <= last.last_place => {
                // The first time counts.
                if place < last.last_place && self.get(place).is_none() {
                    self.late.insert(place, order);
                }
            }
            Some(last) if last.count < BLOCK => {
                put(&mut last.steps, place - last.last_place);
                put(&mut last.steps, order.saturating_sub(last.last_order));
                (last.last_place, last.last_order) = (place, order);
                last.count += 1;
            }
            _ => {
                if let Some(full) = self.blocks.last_mut() {
                    full.steps.shrink_to_fit();
                }
                let (last_place, last_order) = (place, order);
                self.blocks.push(Block {
                    place,
                    order,
                    last_place,
                    last_order,
                    count: 1,
                    steps: Vec::new(),
                });
            }
        }
    }

    /// Where the transaction with this number stands; none if it does not.
    #[must_use]
    pub fn get(&self, place: u64) -> Option<u64> {
        let at = self.blocks.partition_point(|block| block.place <= place).checked_sub(1);
        let found = at.and_then(|at| self.blocks[at].get(place));
        found.or_else(|| self.late.get(&place).copied())
    }
}

impl Arrivals {
    /// Those with numbers above one, each with where it stands; in the order in which they stand there.
    #[must_use]
    pub fn above(&self, place: u64) -> Vec<(u64, u64)> {
        let from = self.blocks.partition_point(|block| block.last_place <= place);
        let mut found: Vec<(u64, u64)> =
            self.blocks[from..].iter().flat_map(Block::entries).collect();
        found.extend(self.late.iter().map(|(place, order)| (*place, *order)));
        found.retain(|(of, _)| *of > place);
        found.sort_unstable_by_key(|(_, order)| *order);
        found
    }
}

impl Block {
    fn entries(&self) -> Vec<(u64, u64)> {
        let (mut place, mut order) = (self.place, self.order);
        let mut entries = vec![(place, order)];
        let mut steps = &self.steps[..];
        while !steps.is_empty() {
            place += take(&mut steps);
            order += take(&mut steps);
            entries.push((place, order));
        }
        entries
    }

    fn get(&self, wanted: u64) -> Option<u64> {
        let (mut place, mut order) = (self.place, self.order);
        let mut steps = &self.steps[..];
        while place < wanted && !steps.is_empty() {
            place += take(&mut steps);
            order += take(&mut steps);
        }
        (place == wanted).then_some(order)
    }
}

fn put(bytes: &mut Vec<u8>, mut number: u64) {
    while number >= 0x80 {
        bytes.push(number as u8 | 0x80);
        number >>= 7;
    }
    bytes.push(number as u8);
}

fn take(bytes: &mut &[u8]) -> u64 {
    let (mut number, mut shift) = (0, 0);
    while let Some((byte, rest)) = bytes.split_first() {
        *bytes = rest;
        number |= u64::from(byte & 0x7f) << shift;
        shift += 7;
        if byte & 0x80 == 0 {
            break;
        }
    }
    number
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn it_is_a_map_whose_first_entries_count(
            entries in prop::collection::vec((0u64..2000, 0u64..400), 0..600), wide in any::<u32>(),
        ) {
            let (mut arrivals, mut plain, mut order) = (Arrivals::default(), BTreeMap::new(), 0);
            for (place, gap) in entries {
                order += gap + 1;
                let place = place * (u64::from(wide) + 1);
                arrivals.push(place, order);
                plain.entry(place).or_insert(order);
            }
            for place in 0..2000 {
                let place = place * (u64::from(wide) + 1);
                prop_assert_eq!(arrivals.get(place), plain.get(&place).copied());
            }
            for above in [0, 700 * (u64::from(wide) + 1), u64::MAX] {
                let mut wanted: Vec<(u64, u64)> = plain.range(above..).map(|(p, o)| (*p, *o)).collect();
                wanted.retain(|(place, _)| *place > above);
                wanted.sort_unstable_by_key(|(_, order)| *order);
                prop_assert_eq!(arrivals.above(above), wanted);
            }
        }
    }
}
