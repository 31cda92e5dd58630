//! Sets of nodes.

use std::ops::{BitAnd, BitOr, BitOrAssign, Not};

use super::{MOST_NODES, NodeId};

/// A set of nodes of one topology, which has at most 64: bit n stands for node n.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct NodeSet(u64);

impl NodeSet {
    /// No node.
    pub const EMPTY: Self = Self(0);
    /// Every node.
    pub const ALL: Self = Self(!0);

    /// One node alone.
    #[must_use]
    pub fn of(node: NodeId) -> Self {
        Self(1 << node)
    }

    /// The set of these bits, as [`NodeSet::bits`] tells them.
    #[must_use]
    pub fn from_bits(bits: u64) -> Self {
        Self(bits)
    }

    /// Its bits.
    #[must_use]
    pub fn bits(self) -> u64 {
        self.0
    }

    /// Whether a node is in it.
    #[must_use]
    pub fn contains(self, node: NodeId) -> bool {
        self.0 & (1 << node) != 0
    }

    /// Whether it has a node in common with another set.
    #[must_use]
    pub fn meets(self, other: Self) -> bool {
        self.0 & other.0 != 0
    }

    /// Whether all of its nodes are in another set.
    #[must_use]
    pub fn is_within(self, other: Self) -> bool {
        self.0 & !other.0 == 0
    }

    /// Adds a node.
    pub fn insert(&mut self, node: NodeId) {
        self.0 |= 1 << node;
    }

    /// Takes a node out.
    pub fn remove(&mut self, node: NodeId) {
        self.0 &= !(1 << node);
    }

    /// How many nodes are in it.
    #[must_use]
    pub fn len(self) -> usize {
        self.0.count_ones() as usize
    }

    /// Whether no node is in it.
    #[must_use]
    pub fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// Its nodes, ascending.
    pub fn iter(self) -> impl Iterator<Item = NodeId> {
        (0..MOST_NODES).filter(move |node| self.contains(*node))
    }
}

impl FromIterator<NodeId> for NodeSet {
    fn from_iter<I: IntoIterator<Item = NodeId>>(nodes: I) -> Self {
        nodes.into_iter().fold(Self::EMPTY, |set, node| set | Self::of(node))
    }
}

impl<'a> FromIterator<&'a NodeId> for NodeSet {
    fn from_iter<I: IntoIterator<Item = &'a NodeId>>(nodes: I) -> Self {
        nodes.into_iter().copied().collect()
    }
}

impl BitOr for NodeSet {
    type Output = Self;

    fn bitor(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }
}

impl BitOrAssign for NodeSet {
    fn bitor_assign(&mut self, other: Self) {
        self.0 |= other.0;
    }
}

impl BitAnd for NodeSet {
    type Output = Self;

    fn bitand(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }
}

impl Not for NodeSet {
    type Output = Self;

    fn not(self) -> Self {
        Self(!self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sets_hold_what_was_put_into_them() {
        let mut set: NodeSet = [3, 0, 63].into_iter().collect();
        assert_eq!(set.iter().collect::<Vec<_>>(), [0, 3, 63]);
        set.insert(5);
        set.insert(7);
        set.remove(7);
        assert!(set.contains(5) && !set.contains(4) && set.len() == 4);
        assert_eq!((set & NodeSet::of(5)).bits(), 1 << 5);
        assert!(NodeSet::of(5).is_within(set) && !set.is_within(NodeSet::of(5)));
        assert!(set.meets(NodeSet::ALL) && !set.meets(!set) && NodeSet::EMPTY.is_empty());
        assert_eq!(set | !set, NodeSet::ALL);
    }
}
