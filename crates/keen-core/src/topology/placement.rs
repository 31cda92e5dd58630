//! Who should hold what.
//!
//! A set travels over a directed graph of links. Nodes that reach each other
//! should hold the same rows. A node that only receives should hold exactly
//! the union of what its sources hold, plus rows of its own if it is written
//! to. [`Expectation`] turns that into one question per key: given the nodes
//! that hold a row, which nodes does that row concern?
//!
//! - A row concerns every node that its holder reaches: they should hold it too.
//! - A row without a source (nobody who feeds the holder has it, and the
//!   holder may not have rows of its own) concerns every node it could have
//!   come from: they are the evidence that it should not be there.
//! - Concerns that overlap are one: two sites that feed one hub meet there.
//!
//! The nodes of one concern should all hold the same; a node in none is not
//! expected to hold the row and has no say about it.
//!
//! Sets of nodes are bits of a word. Reachability is the transitive closure
//! by Warshall's algorithm (S. Warshall, "A theorem on Boolean matrices",
//! JACM 9, 1962), once per set: n² word operations for n ≤ 64 nodes.

use crate::topology::node_set::NodeSet;
use crate::topology::{MOST_NODES, NodeId, SetId, Topology};

/// The rules of one table set, ready to be asked about keys.
#[derive(Debug, Clone)]
pub struct Expectation {
    carriers: NodeSet,
    edges: Vec<(NodeId, NodeId)>,
    /// Per node: itself and everything its writes reach.
    down: Vec<NodeSet>,
    /// Per node: itself and everything whose writes reach it.
    up: Vec<NodeSet>,
    /// Per node: the nodes outside its own group of peers that feed that group directly.
    feeders: Vec<NodeSet>,
    /// Nodes at which a row may be made: written to, or peers of one that is,
    /// or fed by nobody.
    makers: NodeSet,
}

impl Expectation {
    /// The rules that the links of a topology make for one of its sets.
    #[must_use]
    pub fn of_set(topology: &Topology, set: SetId) -> Self {
        let writers = topology.nodes.iter().enumerate().filter(|(_, node)| node.writes);
        let writers = writers.map(|(id, _)| id).collect::<NodeSet>();
        Self::new(topology.edges(set), writers)
    }

    /// The rules of a graph of directed links, with the nodes that applications write to.
    #[must_use]
    pub fn new(edges: impl IntoIterator<Item = (NodeId, NodeId)>, writers: NodeSet) -> Self {
        let mut edges: Vec<_> = edges.into_iter().collect();
        edges.sort_unstable();
        edges.dedup();
        let carriers = edges.iter().flat_map(|(from, to)| [*from, *to]).collect::<NodeSet>();
        let mut down: Vec<NodeSet> = (0..MOST_NODES).map(NodeSet::of).collect();
        for (from, to) in &edges {
            down[*from] |= NodeSet::of(*to);
        }
        for via in carriers.iter() {
            let beyond = down[via];
            for node in carriers.iter() {
                if down[node].contains(via) {
                    down[node] |= beyond;
                }
            }
        }
        let up: Vec<NodeSet> = (0..MOST_NODES)
            .map(|node| {
                (carriers | NodeSet::of(node))
                    .iter()
                    .filter(|n| down[*n].contains(node))
                    .collect::<NodeSet>()
            })
            .collect();
        let group = |node: NodeId| down[node] & up[node];
        let mut feeders = vec![NodeSet::EMPTY; MOST_NODES];
        let mut makers = NodeSet::EMPTY;
        for node in carriers.iter() {
            let peers = group(node);
            feeders[node] = edges
                .iter()
                .filter(|(from, to)| peers.contains(*to) && !peers.contains(*from))
                .map(|(from, _)| *from)
                .collect::<NodeSet>();
            if peers.meets(writers) || feeders[node].is_empty() {
                makers.insert(node);
            }
        }
        Self { carriers, edges, down, up, feeders, makers }
    }

    /// The nodes that carry the set.
    #[must_use]
    pub fn carriers(&self) -> NodeSet {
        self.carriers
    }

    /// The nodes at which a row of this set may be made. The others only repeat what they received.
    #[must_use]
    pub fn makers(&self) -> NodeSet {
        self.makers
    }

    /// The direct links.
    #[must_use]
    pub fn edges(&self) -> &[(NodeId, NodeId)] {
        &self.edges
    }

    /// The nodes that `node` feeds, directly or through others, and itself.
    #[must_use]
    pub fn reached_from(&self, node: NodeId) -> NodeSet {
        self.down[node]
    }

    /// Whether all of these nodes should hold the same rows: wherever one is made, it reaches all.
    #[must_use]
    pub fn all_alike(&self, nodes: NodeSet) -> bool {
        (self.makers() & nodes).iter().all(|maker| nodes.is_within(self.reached_from(maker)))
    }

    /// The concerns of a key that `holders` hold a row for: disjoint sets of
    /// nodes, each of which should hold the same. Only nodes in `readable` are
    /// in the answer, and nothing is called surplus for want of a source that
    /// could not be read.
    #[must_use]
    pub fn concerns(&self, holders: NodeSet, readable: NodeSet) -> Vec<NodeSet> {
        let mut concerns: Vec<NodeSet> = Vec::new();
        for holder in (holders & self.carriers).iter() {
            let mut concern = self.down[holder];
            if self.is_surplus(holder, holders, readable) {
                concern |= self.up[holder];
            }
            concerns.retain(|other| {
                let meets = other.meets(concern);
                if meets {
                    concern |= *other;
                }
                !meets
            });
            concerns.push(concern);
        }
        concerns.iter_mut().for_each(|concern| *concern = *concern & readable);
        concerns.sort_by_key(|concern| concern.iter().next().unwrap_or(MOST_NODES));
        concerns
    }

    fn is_surplus(&self, holder: NodeId, holders: NodeSet, readable: NodeSet) -> bool {
        let may_have_come_from = holders | !readable;
        !self.makers.contains(holder) && !self.feeders[holder].meets(may_have_come_from)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const ALL: NodeSet = NodeSet::ALL;

    fn concerns(
        edges: &[(NodeId, NodeId)],
        writers: &[NodeId],
        holders: &[NodeId],
    ) -> Vec<Vec<NodeId>> {
        let mask = |nodes: &[NodeId]| nodes.iter().collect::<NodeSet>();
        Expectation::new(edges.iter().copied(), mask(writers))
            .concerns(mask(holders), ALL)
            .into_iter()
            .map(|nodes| nodes.iter().collect())
            .collect()
    }

    #[test]
    fn a_hub_is_held_against_each_site_on_that_sites_rows() {
        let edges = [(0, 3), (1, 3), (2, 3)];
        assert_eq!(
            concerns(&edges, &[0, 1, 2], &[0, 3]),
            [[0, 3]],
            "site 1 and 2 have no part in a row of site 0"
        );
        assert_eq!(concerns(&edges, &[0, 1, 2], &[0]), [[0, 3]], "the hub lacks it");
        assert_eq!(
            concerns(&edges, &[0, 1, 2], &[0, 1, 3]),
            [[0, 1, 3]],
            "two sites meet at the hub"
        );
        assert_eq!(
            concerns(&edges, &[0, 1, 2], &[3]),
            [[0, 1, 2, 3]],
            "surplus: it came from nowhere"
        );
        assert_eq!(
            concerns(&edges, &[0, 1, 2, 3], &[3]),
            [[3]],
            "a hub that is written to has rows of its own"
        );
    }

    #[test]
    fn writers_that_never_meet_do_not_contradict_each_other() {
        // 0 feeds 1 and 2, which both have rows of their own.
        assert_eq!(concerns(&[(0, 1), (0, 2)], &[0, 1, 2], &[1, 2]), [[1], [2]]);
    }

    #[test]
    fn a_relay_passes_on_what_it_received() {
        let chain = [(0, 1), (1, 2)];
        assert_eq!(concerns(&chain, &[0], &[0]), [[0, 1, 2]]);
        assert_eq!(
            concerns(&chain, &[0], &[2]),
            [[0, 1, 2]],
            "surplus at the end concerns all it could come from"
        );
        assert_eq!(
            concerns(&chain, &[0, 1], &[1, 2]),
            [[1, 2]],
            "a row that the relay made itself"
        );
    }

    #[test]
    fn an_unread_source_is_no_evidence() {
        let expectation = Expectation::new([(0, 2), (1, 2)], NodeSet::of(0) | NodeSet::of(1));
        let readable = NodeSet::of(1) | NodeSet::of(2);
        assert_eq!(expectation.concerns(NodeSet::of(2), readable), [NodeSet::of(2)]);
        assert_eq!(
            expectation.concerns(NodeSet::of(1), readable),
            [NodeSet::of(1) | NodeSet::of(2)]
        );
    }

    /// A graph of up to six nodes, who is written to, and what each holds of one key.
    fn case() -> impl Strategy<Value = (Vec<(NodeId, NodeId)>, NodeSet, [Option<u8>; 6])> {
        let shape = prop_oneof![
            prop::collection::vec((0usize..6, 0usize..6), 1..12),
            (2usize..6).prop_map(|n| (0..n).map(|i| (i, (i + 1) % n)).collect()), // ring
            (2usize..6).prop_map(|n| (1..n).map(|i| (i - 1, i)).collect()),       // chain
            (2usize..6).prop_map(|n| (1..n).map(|i| (i, 0)).collect()),           // hub
            (2usize..6).prop_map(|n| (0..n).flat_map(|i| (0..n).map(move |j| (i, j))).collect()), // mesh
        ];
        let extra = prop::collection::vec((0usize..6, 0usize..6), 0..3);
        (shape, extra, 0u64..64, prop::array::uniform6(prop::option::weighted(0.7, 0u8..2)))
            .prop_map(|(mut edges, extra, writers, holds)| {
                edges.extend(extra);
                edges.retain(|(from, to)| from != to);
                (edges, NodeSet::from_bits(writers), holds)
            })
    }

    /// Which nodes can be reached, by walking.
    fn walk(edges: &[(NodeId, NodeId)], start: NodeId) -> Vec<NodeId> {
        let mut seen = vec![start];
        let mut at = 0;
        while at < seen.len() {
            for (from, to) in edges {
                if *from == seen[at] && !seen.contains(to) {
                    seen.push(*to);
                }
            }
            at += 1;
        }
        seen
    }

    /// Replicates by brute force: rows start where they may be made and spread
    /// over the links; sound holdings are those that this would leave as they are.
    fn sound(edges: &[(NodeId, NodeId)], writers: NodeSet, holds: &[Option<u8>; 6]) -> bool {
        let peers =
            |a: NodeId, b: NodeId| walk(edges, a).contains(&b) && walk(edges, b).contains(&a);
        let may_make = |node: NodeId| {
            (0..6).any(|other| peers(node, other) && writers.contains(other))
                || !edges.iter().any(|(from, to)| peers(*to, node) && !peers(*from, node))
        };
        let mut spread: Vec<Option<u8>> =
            (0..6).map(|node| holds[node].filter(|_| may_make(node))).collect();
        loop {
            let mut changed = false;
            for (from, to) in edges {
                match (spread[*from], spread[*to]) {
                    (Some(row), None) => {
                        spread[*to] = Some(row);
                        changed = true;
                    }
                    (Some(row), Some(other)) if row != other => return false,
                    _ => {}
                }
            }
            if !changed {
                break;
            }
        }
        let carries = |node: NodeId| edges.iter().any(|(from, to)| *from == node || *to == node);
        (0..6).all(|node| !carries(node) || spread[node] == holds[node])
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]

        #[test]
        fn concerns_disagree_exactly_when_replication_would_change_something((edges, writers, holds) in case()) {
            let holders = (0..6).filter(|n| holds[*n].is_some()).collect::<NodeSet>();
            let concerns = Expectation::new(edges.iter().copied(), writers).concerns(holders, ALL & NodeSet::from_bits(0x3f));
            let agreed = concerns.iter().all(|nodes| {
                let mut contents = (*nodes).iter().map(|n| holds[n]);
                let first = contents.next().flatten();
                contents.all(|other| other == first)
            });
            prop_assert_eq!(agreed, sound(&edges, writers, &holds));
        }

        #[test]
        fn nobody_is_drawn_into_a_row_it_is_no_part_of((edges, writers, holds) in case()) {
            let holders = (0..6).filter(|n| holds[*n].is_some()).collect::<NodeSet>();
            let concerns = Expectation::new(edges.iter().copied(), writers).concerns(holders, ALL & NodeSet::from_bits(0x3f));
            prop_assert_eq!(concerns.iter().fold(NodeSet::EMPTY, |all, c| { assert!(!all.meets(*c), "disjoint"); all | *c }) & holders,
                holders & edges.iter().flat_map(|(a, b)| [*a, *b]).collect::<NodeSet>(), "every holder is in one");
            for node in concerns.iter().flat_map(|nodes| (*nodes).iter()) {
                let held_upstream = (0..6).any(|h| holds[h].is_some() && walk(&edges, h).contains(&node));
                let feeds_a_holder = walk(&edges, node).iter().any(|n| holds[*n].is_some());
                prop_assert!(held_upstream || feeds_a_holder, "node {} in {:?}", node, concerns);
            }
        }
    }
}
