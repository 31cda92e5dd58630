//! Balances: what a stretch of a table holds, in 24 bytes.
//!
//! A balance is a row count and the sum of the row digests modulo 2^128. Sums
//! do not depend on order, split and merge by adding, and follow a change by
//! one debit and one credit. Addition rather than exclusive-or, so that two
//! equal surplus rows do not cancel.

use crate::row::digest::Digest;

/// The rows of one node in one stretch of a table, summed up.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Balance {
    /// How many rows.
    pub rows: u64,
    /// The sum of their digests modulo 2^128.
    pub sum: u128,
}

impl Balance {
    /// Enters one row.
    #[inline]
    pub fn credit(&mut self, row: Digest) {
        self.rows = self.rows.wrapping_add(1);
        self.sum = self.sum.wrapping_add(row.0);
    }

    /// Takes one row out.
    #[inline]
    pub fn debit(&mut self, row: Digest) {
        self.rows = self.rows.wrapping_sub(1);
        self.sum = self.sum.wrapping_sub(row.0);
    }

    /// Posts a change: an insert has no `before`, a delete no `after`.
    pub fn post(&mut self, before: Option<Digest>, after: Option<Digest>) {
        if let Some(before) = before {
            self.debit(before);
        }
        if let Some(after) = after {
            self.credit(after);
        }
    }
}

impl std::ops::AddAssign for Balance {
    fn add_assign(&mut self, other: Self) {
        self.rows = self.rows.wrapping_add(other.rows);
        self.sum = self.sum.wrapping_add(other.sum);
    }
}

impl std::ops::Add for Balance {
    type Output = Self;

    fn add(mut self, other: Self) -> Self {
        self += other;
        self
    }
}

impl std::iter::Sum for Balance {
    fn sum<I: Iterator<Item = Self>>(balances: I) -> Self {
        balances.fold(Self::default(), |total, next| total + next)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn of(rows: &[u128]) -> Balance {
        let mut balance = Balance::default();
        rows.iter().for_each(|row| balance.credit(Digest(*row)));
        balance
    }

    #[test]
    fn equal_surplus_rows_do_not_cancel() {
        assert_ne!(of(&[7, 9, 9]), of(&[7]));
    }

    proptest! {
        #[test]
        fn order_and_splits_do_not_matter(mut rows in prop::collection::vec(any::<u128>(), 0..40), cut in 0usize..40) {
            let whole = of(&rows);
            let (left, right) = rows.split_at(cut.min(rows.len()));
            prop_assert_eq!(of(left) + of(right), whole);
            rows.reverse();
            prop_assert_eq!(of(&rows), whole);
        }

        #[test]
        fn a_posted_journal_keeps_the_balance_of_the_table(
            changes in prop::collection::vec((0usize..8, any::<Option<u128>>()), 0..60)
        ) {
            let mut table = [None; 8];
            let mut kept = Balance::default();
            for (key, after) in changes {
                kept.post(table[key].map(Digest), after.map(Digest));
                table[key] = after;
            }
            let held: Vec<u128> = table.into_iter().flatten().collect();
            prop_assert_eq!(kept, of(&held));
        }
    }
}
