//! Buckets: a table in buckets of key hashes, each with its balance.
//!
//! Where rows do not come in an order that all nodes share (text under
//! collations, keys of unlike types, no key at all), one pass in any order sums
//! each bucket up. Buckets whose balances agree hold the same rows; only the
//! others are read again and sorted. A bucket is named by its number, which is
//! the top bits of the XXH3 hash of the key's order bytes.

use crate::row::balance::Balance;
use crate::row::batch::{Batch, Row};

/// How many buckets a table has. A million rows put sixty into each, so that a
/// hundred scattered divergent rows make less than one percent be read again.
pub const FOLIOS: usize = 1 << 14;

/// The balances of one table on one node: half a megabyte, whatever its size.
#[derive(Debug, Clone)]
pub struct Buckets(Vec<Balance>);

impl Default for Buckets {
    fn default() -> Self {
        Self(vec![Balance::default(); FOLIOS])
    }
}

/// The bucket of a key.
#[must_use]
#[inline]
pub fn bucket_of(key: &[u8]) -> usize {
    (xxhash_rust::xxh3::xxh3_64(key) >> (64 - FOLIOS.trailing_zeros())) as usize
}

impl Buckets {
    /// Posts the rows of a batch. Rows outside the filter are no part of the set: one that is inside
    /// on another node makes the balances differ by itself.
    pub fn post(&mut self, batch: &Batch) {
        for row in (0..batch.len()).filter_map(|at| batch.get(at)) {
            if !row.outside {
                self.0[bucket_of(row.key)].credit(row.digest);
            }
        }
    }

    /// All of it.
    #[must_use]
    pub fn total(&self) -> Balance {
        let mut total = Balance::default();
        for bucket in &self.0 {
            total.rows = total.rows.wrapping_add(bucket.rows);
            total.sum = total.sum.wrapping_add(bucket.sum);
        }
        total
    }
}

/// Buckets that have to be read row by row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mismatched(Vec<bool>);

impl Mismatched {
    /// Those in which not all nodes hold the same.
    #[must_use]
    pub fn unlike(nodes: &[&Buckets]) -> Self {
        let alike = |i: usize| nodes.windows(2).all(|pair| pair[0].0[i] == pair[1].0[i]);
        Self((0..FOLIOS).map(|i| !alike(i)).collect())
    }

    /// All of them.
    #[must_use]
    pub fn all() -> Self {
        Self(vec![true; FOLIOS])
    }

    /// Whether there are any.
    #[must_use]
    pub fn any(&self) -> bool {
        self.0.contains(&true)
    }

    /// How many there are.
    #[must_use]
    pub fn count(&self) -> usize {
        self.0.iter().filter(|chosen| **chosen).count()
    }

    /// Whether a row belongs to one of them.
    #[must_use]
    #[inline]
    pub fn has(&self, row: &Row<'_>) -> bool {
        self.0[bucket_of(row.key)]
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::row::batch::{Column, Layout, RowFault, RowWriter};
    use crate::row::conversion::Conversion;
    use crate::row::digest::DigestFunction;
    use crate::value::Value;

    fn batch(rows: &[(i64, i64)]) -> Batch {
        let column = |name: &str| Column { name: name.to_owned(), reading: Conversion::default() };
        let layout =
            Layout { columns: vec![column("k"), column("v")], key: vec![0], shown: vec![0, 1] };
        let mut writer = RowWriter::new(layout, DigestFunction::Xxh3, 1 << 20).in_any_order();
        for (k, v) in rows {
            let cells = [Value::Int((*k).into()), Value::Int((*v).into())];
            writer.push(false, |i| Ok::<_, RowFault>(cells[i].as_ref())).unwrap();
        }
        writer.take()
    }

    fn buckets(rows: &[(i64, i64)]) -> Buckets {
        let mut buckets = Buckets::default();
        buckets.post(&batch(rows));
        buckets
    }

    proptest! {
        #[test]
        fn exactly_the_buckets_of_differing_rows_are_chosen(
            rows in prop::collection::btree_map(any::<i64>(), any::<i64>(), 1..60),
            changed in prop::collection::vec(any::<prop::sample::Index>(), 0..4),
        ) {
            let mine: Vec<(i64, i64)> = rows.into_iter().collect();
            let mut theirs: Vec<(i64, i64)> = mine.iter().rev().copied().collect();
            let mut keys = std::collections::BTreeSet::new();
            for index in changed {
                let at = index.index(theirs.len());
                if keys.insert(theirs[at].0) {
                    theirs[at].1 = theirs[at].1.wrapping_add(1);
                }
            }
            let (a, b) = (buckets(&mine), buckets(&theirs));
            let chosen = Mismatched::unlike(&[&a, &b]);
            prop_assert_eq!(chosen.any(), !keys.is_empty());
            let all = batch(&mine);
            let seen: usize = (0..all.len()).filter(|at| chosen.has(&all.get(*at).unwrap())).count();
            prop_assert!(seen >= keys.len());
            prop_assert_eq!(a.total().rows, mine.len() as u64);
        }
    }
}
