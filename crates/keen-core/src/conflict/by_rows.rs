//! Races that rows alone tell of: of each row, by whom and when it was last written.
//!
//! A node that holds `w` as the last write of a row applied it after every other write of that row that it
//! has, its own among them. So where the maker of `v` holds `w`, `w` came there after `v`: `v` had not seen
//! `w`. If it is so the other way round, too, the two were concurrent, and no clock was asked. That is the
//! pattern of swapped values. Anything else that differs is possible only.

use std::collections::BTreeMap;

use crate::observe::links::Micros;
use crate::topology::NodeId;

/// The last write of a row, as the node that holds the row tells.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct LastWrite {
    /// Where it was made; none if that is no node that is known.
    pub by: Option<NodeId>,
    /// When it was committed there, by that node's clock. Together they name it.
    pub made: Micros,
}

/// Last writes of one row that differ from node to node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ByRows {
    /// The writes, in order.
    pub writes: Vec<LastWrite>,
    /// By node the one that it holds, by number.
    pub held: BTreeMap<NodeId, usize>,
    /// Pairs of them of which neither had seen the other, or may not have.
    pub unseen: Vec<(usize, usize)>,
    /// Of each write, whether it was certainly concurrent with another.
    pub proven: Vec<bool>,
}

/// The race that the last writes of one row tell of; none if nobody can have raced. All nodes are looked at as of one
/// moment. Writes further apart than `window`, by their clocks, are taken to have seen each other unless the order
/// proves the contrary.
#[must_use]
pub fn by_rows(last: &BTreeMap<NodeId, LastWrite>, window: Micros) -> Option<ByRows> {
    let mut writes: Vec<LastWrite> = last.values().copied().collect();
    writes.sort_unstable();
    writes.dedup();
    let held: BTreeMap<NodeId, usize> = last
        .iter()
        .filter_map(|(node, write)| Some((*node, writes.binary_search(write).ok()?)))
        .collect();
    let holds = |maker: Option<NodeId>, write: usize| {
        maker.is_some_and(|maker| held.get(&maker) == Some(&write))
    };
    let (mut unseen, mut proven) = (Vec::new(), vec![false; writes.len()]);
    for b in 0..writes.len() {
        for a in 0..b {
            let (one, other) = (writes[a], writes[b]);
            // Of one maker they are in order, and the later one has not arrived somewhere.
            if one.by == other.by {
                continue;
            }
            let swapped = holds(one.by, b) && holds(other.by, a);
            if swapped {
                (proven[a], proven[b]) = (true, true);
            }
            if swapped || one.made.abs_diff(other.made) <= window.unsigned_abs() {
                unseen.push((a, b));
            }
        }
    }
    (!unseen.is_empty()).then_some(ByRows { writes, held, unseen, proven })
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;

    #[derive(Debug, Clone)]
    enum Step {
        Write(NodeId),
        /// A node applies a write that it does not have, whichever.
        Apply(NodeId, prop::sample::Index),
    }

    fn step() -> impl Strategy<Value = Step> {
        prop_oneof![
            (0usize..4).prop_map(Step::Write),
            (0usize..4, any::<prop::sample::Index>())
                .prop_map(|(node, which)| Step::Apply(node, which)),
        ]
    }

    proptest! {
        #[test]
        fn what_rows_prove_is_true_and_what_is_true_is_at_least_possible(
            steps in prop::collection::vec(step(), 1..30),
        ) {
            // By write: who made it, and which it had seen; by node what it applied, in order.
            let mut made: Vec<(NodeId, BTreeSet<usize>)> = Vec::new();
            let mut applied: [Vec<usize>; 4] = Default::default();
            for step in &steps {
                match step {
                    Step::Write(node) => {
                        made.push((*node, applied[*node].iter().copied().collect()));
                        applied[*node].push(made.len() - 1);
                    }
                    Step::Apply(node, which) => {
                        let missing: Vec<usize> =
                            (0..made.len()).filter(|w| !applied[*node].contains(w)).collect();
                        if !missing.is_empty() {
                            applied[*node].push(missing[which.index(missing.len())]);
                        }
                    }
                }
            }
            let last: BTreeMap<NodeId, LastWrite> = (0..4)
                .filter_map(|node| {
                    let write = *applied[node].last()?;
                    let made = i64::try_from(write).ok()?;
                    Some((node, LastWrite { by: Some(node).map(|_| made_by(write, &steps)), made }))
                })
                .collect();
            fn made_by(write: usize, steps: &[Step]) -> NodeId {
                let writes = steps.iter().filter_map(|step| match step {
                    Step::Write(node) => Some(*node),
                    Step::Apply(..) => None,
                });
                writes.into_iter().nth(write).unwrap_or_default()
            }
            let concurrent = |a: usize, b: usize| !made[a].1.contains(&b) && !made[b].1.contains(&a);
            let number = |write: &LastWrite| usize::try_from(write.made).unwrap_or_default();
            let found = by_rows(&last, i64::MAX);
            if let Some(found) = &found {
                for (at, write) in found.writes.iter().enumerate().filter(|(at, _)| found.proven[*at]) {
                    let of = found.unseen.iter().filter(|(a, b)| *a == at || *b == at);
                    let truly = of.into_iter().any(|(a, b)| {
                        concurrent(number(&found.writes[*a]), number(&found.writes[*b]))
                    });
                    prop_assert!(truly, "{write:?} in {found:?}");
                }
            }
            let finals: BTreeSet<usize> = last.values().map(number).collect();
            for a in &finals {
                for b in finals.range(..a) {
                    if made[*a].0 != made[*b].0 && concurrent(*a, *b) {
                        let told = found.as_ref().is_some_and(|found| {
                            found.unseen.iter().any(|(x, y)| {
                                let pair = [number(&found.writes[*x]), number(&found.writes[*y])];
                                pair.contains(a) && pair.contains(b)
                            })
                        });
                        prop_assert!(told, "{a} and {b} in {found:?}");
                    }
                }
            }
        }
    }

    #[test]
    fn values_that_were_swapped_are_proven_and_the_rest_is_possible_by_time() {
        let write = |by: NodeId, made: Micros| LastWrite { by: Some(by), made };
        let swapped = [(0, write(1, 900)), (1, write(0, 5))].into();
        let found = by_rows(&swapped, 10).expect("a race");
        assert_eq!((&found.unseen[..], &found.proven[..]), (&[(0, 1)][..], &[true, true][..]));
        let own = |at: Micros| [(0, write(0, 5)), (1, write(1, at))].into();
        let found = by_rows(&own(12), 10).expect("perhaps a race");
        assert_eq!(found.proven, [false, false]);
        assert_eq!(by_rows(&own(16), 10), None, "too far apart");
        let late = [(0, write(0, 5)), (1, write(0, 4))].into();
        assert_eq!(by_rows(&late, 10), None, "of one maker the later has not arrived yet");
        let alike = [(0, write(0, 5)), (1, write(0, 5))].into();
        assert_eq!(by_rows(&alike, 10), None);
    }
}
