//! Chains: the writes of one thing that were concurrent, each with at least one other.
//!
//! Two writes are joined where neither had seen the other; what hangs together is one chain. A thing
//! that was written n times can have n² such pairs, so they are not looked at one by one.
//!
//! The writes of one node are a sequence. Of a write `b` made elsewhere they fall into two parts: those
//! made before `b` had arrived there, and those made after. `unseen(b)` is the length of the first part.
//! Then `a` and `b` were concurrent exactly if `rank(a) < unseen(b)` and `rank(b) < unseen(a)`. For two
//! nodes the pairs are found in one sweep: the `a` come in ascending order of `unseen(a)`, and each `b`
//! enters a heap, by its `unseen(b)`, once `rank(b) < unseen(a)`. An `a` joins all in the heap whose
//! `unseen(b) > rank(a)`. Those are one chain from then on, so only the one with the greatest `unseen(b)`
//! goes back into the heap: whoever would join another of them joins that one. Each write is taken out
//! for good at most once, so n writes over k nodes cost O(k · n log n), and memory for n.

use std::collections::{BTreeMap, BinaryHeap};

use super::happened_before::{Deed, Heard, History, Saw, Write, WriterId};
use crate::topology::NodeId;

/// Writes that were concurrent, one with the next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Chain {
    /// Which of the writes, ascending.
    pub writes: Vec<usize>,
    /// Of each of them, whether it was certainly concurrent with another.
    pub proven: Vec<bool>,
    /// The first later write that had seen all of them, if there is one.
    pub healed_by: Option<usize>,
    /// Of each of them, whether a later write of the same thing had certainly seen it.
    pub seen_later: Vec<bool>,
}

impl Chain {
    /// Whether at least two of its writes were certainly concurrent.
    #[must_use]
    pub fn is_proven(&self) -> bool {
        self.proven.contains(&true)
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum WritePlace {
    Node(NodeId),
    Outsider(WriterId),
}

/// The writes of one place, in the order in which they were made there.
#[derive(Debug, Default)]
struct Lane {
    writes: Vec<usize>,
    /// Of these so many were made before the place's journal begins.
    before: usize,
    /// The earliest time of each and all that follow.
    earliest: Vec<i64>,
}

/// How the unclear is taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Mode {
    /// As seen: what is found is certain.
    Proven,
    /// As not seen, where times allow it: nothing is missed.
    Possible,
}

/// Finds the chains among the writes of one thing; a write that is in none was concurrent with no other.
#[must_use]
pub fn chains(history: &History, writes: &[Write]) -> Vec<Chain> {
    let lanes = lanes(history, writes, |deed| deed != Deed::Refer);
    let children = lanes_of_children(history, writes);
    if lanes.len() + children.len() < 2 {
        return Vec::new();
    }
    let mut proven = Joined::new(writes.len());
    sweep_all(history, writes, (&lanes, &children), Mode::Proven, &mut proven);
    let mut joined = Joined::new(writes.len());
    sweep_all(history, writes, (&lanes, &children), Mode::Possible, &mut joined);

    let mut found: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
    for write in 0..writes.len() {
        if joined.touched[write] {
            found.entry(joined.root(write)).or_default().push(write);
        }
    }
    let mut ranks = vec![0; writes.len()];
    for (rank, at) in lanes.values().flat_map(|lane| lane.writes.iter().enumerate()) {
        ranks[*at] = rank;
    }
    let of = Lanes { history, writes, lanes: &lanes, ranks };
    let mut chains: Vec<Chain> = found
        .into_values()
        .map(|members| Chain {
            proven: members.iter().map(|write| proven.touched[*write]).collect(),
            healed_by: of.healed_by(&members),
            seen_later: members.iter().map(|write| of.seen_later(*write)).collect(),
            writes: members,
        })
        .collect();
    chains.sort_by_key(|chain| chain.writes[0]);
    chains
}

fn lanes(
    history: &History,
    writes: &[Write],
    wanted: impl Fn(Deed) -> bool,
) -> BTreeMap<WritePlace, Lane> {
    let mut lanes: BTreeMap<WritePlace, Lane> = BTreeMap::new();
    for (at, write) in writes.iter().enumerate() {
        if !wanted(write.deed) {
            continue;
        }
        let place = match history.node_of(write) {
            Some(node) => WritePlace::Node(node),
            None => WritePlace::Outsider(write.writer),
        };
        lanes.entry(place).or_default().writes.push(at);
    }
    for (place, lane) in &mut lanes {
        let own = |at: &usize| match place {
            WritePlace::Node(node) => writes[*at].order_at(*node),
            WritePlace::Outsider(_) => None,
        };
        // What has no place in the journal of its own node was made before that begins.
        lane.writes.sort_by_key(|at| (own(at), writes[*at].place, writes[*at].writer));
        lane.before = lane.writes.partition_point(|at| own(at).is_none());
        lane.earliest = vec![i64::MAX; lane.writes.len()];
        let mut earliest = i64::MAX;
        for (rank, at) in lane.writes.iter().enumerate().rev() {
            earliest = earliest.min(writes[*at].made.unwrap_or(i64::MIN));
            lane.earliest[rank] = earliest;
        }
    }
    lanes
}

/// Rows that refer to this one, where it was deleted at all.
fn lanes_of_children(history: &History, writes: &[Write]) -> BTreeMap<WritePlace, Lane> {
    if writes.iter().any(|write| write.deed == Deed::Delete) {
        lanes(history, writes, |deed| deed == Deed::Refer)
    } else {
        BTreeMap::new()
    }
}

/// How many of a lane's writes were made without having seen a write from elsewhere.
fn unseen(
    history: &History,
    (place, lane): (WritePlace, &Lane),
    writes: &[Write],
    write: usize,
    mode: Mode,
) -> usize {
    let other = &writes[write];
    // By the clocks: those made within the window after it, and whatever came before them.
    let by_time = |limit: usize| {
        let until = other.made.map_or(i64::MAX, |made| made.saturating_add(history.window));
        lane.earliest[..limit].partition_point(|earliest| *earliest <= until)
    };
    let unclear = |limit: usize| match mode {
        Mode::Proven => 0,
        Mode::Possible => by_time(limit),
    };
    let WritePlace::Node(node) = place else { return unclear(lane.writes.len()) };
    match history.heard(node, other) {
        Heard::At(order) if history.journals.contains_key(&node) => lane
            .writes
            .partition_point(|at| writes[*at].order_at(node).is_none_or(|own| own < order)),
        Heard::Never => lane.writes.len(),
        Heard::Before => unclear(lane.before),
        Heard::At(_) | Heard::Unclear => unclear(lane.writes.len()),
    }
}

fn sweep_all(
    history: &History,
    writes: &[Write],
    (lanes, children): (&BTreeMap<WritePlace, Lane>, &BTreeMap<WritePlace, Lane>),
    mode: Mode,
    joined: &mut Joined,
) {
    let places: Vec<WritePlace> = lanes.keys().copied().collect();
    for (i, one) in places.iter().enumerate() {
        for other in &places[i + 1..] {
            sweep(history, writes, (*one, &lanes[one]), (*other, &lanes[other]), mode, joined);
        }
        let mut deletes = Lane { before: lanes[one].before, ..Lane::default() };
        for (child, lane) in children.iter().filter(|(child, _)| *child != one) {
            if deletes.writes.is_empty() {
                let found = lanes[one].writes.iter().filter(|at| writes[**at].deed == Deed::Delete);
                deletes.writes = found.copied().collect();
                if deletes.writes.is_empty() {
                    break;
                }
                let before = |at: &usize| match one {
                    WritePlace::Node(node) => writes[*at].order_at(*node).is_none(),
                    WritePlace::Outsider(_) => true,
                };
                deletes.before = deletes.writes.partition_point(before);
                let all = &lanes[one];
                deletes.earliest = (all.writes.iter().zip(&all.earliest))
                    .filter(|(at, _)| writes[**at].deed == Deed::Delete)
                    .map(|(_, earliest)| *earliest)
                    .collect();
            }
            sweep(history, writes, (*one, &deletes), (*child, lane), mode, joined);
        }
    }
}

/// Joins the concurrent writes of two places.
fn sweep(
    history: &History,
    writes: &[Write],
    one: (WritePlace, &Lane),
    other: (WritePlace, &Lane),
    mode: Mode,
    joined: &mut Joined,
) {
    let mut arriving: Vec<(usize, usize, usize)> = (one.1.writes.iter().enumerate())
        .map(|(rank, at)| (unseen(history, other, writes, *at, mode), rank, *at))
        .collect();
    arriving.sort_unstable();
    let mut entered = other.1.writes.iter().enumerate().peekable();
    let mut heap: BinaryHeap<(usize, usize)> = BinaryHeap::new();
    for (not_seen_by, rank, at) in arriving {
        while let Some((_, b)) = entered.next_if(|(rank, _)| *rank < not_seen_by) {
            heap.push((unseen(history, one, writes, *b, mode), *b));
        }
        let mut greatest = None;
        while let Some(top) = heap.peek().copied().filter(|(unseen, _)| *unseen > rank) {
            heap.pop();
            greatest.get_or_insert(top);
            // One transaction cannot be concurrent with itself; it has one place, so it never meets itself here.
            joined.join(at, top.1);
        }
        heap.extend(greatest);
    }
}

struct Lanes<'a> {
    history: &'a History,
    writes: &'a [Write],
    lanes: &'a BTreeMap<WritePlace, Lane>,
    /// By write its rank in its lane.
    ranks: Vec<usize>,
}

impl Lanes<'_> {
    /// From which rank on the writes of a lane have certainly seen a write.
    fn seen_from(&self, place: WritePlace, lane: &Lane, write: usize) -> usize {
        let own = match self.history.node_of(&self.writes[write]) {
            Some(node) => WritePlace::Node(node),
            None => WritePlace::Outsider(self.writes[write].writer),
        };
        if own == place {
            let saw =
                |at: &usize| self.history.saw(&self.writes[*at], &self.writes[write]) == Saw::Yes;
            return match self.writes[write].deed {
                Deed::Refer => lane.writes.partition_point(|at| !saw(at)),
                _ => self.ranks[write] + 1,
            };
        }
        // Within the window nothing is certain, and beyond it only the clocks say so: neither counts.
        match (place, self.writes[write].deed) {
            (WritePlace::Node(node), _) => match self.history.heard(node, &self.writes[write]) {
                Heard::At(_) | Heard::Never if self.history.journals.contains_key(&node) => {
                    unseen(self.history, (place, lane), self.writes, write, Mode::Possible)
                }
                Heard::Before => lane.before,
                _ => lane.writes.len(),
            },
            _ => lane.writes.len(),
        }
    }

    fn healed_by(&self, members: &[usize]) -> Option<usize> {
        let later = self.lanes.iter().filter_map(|(place, lane)| {
            let from = members.iter().map(|write| self.seen_from(*place, lane, *write)).max()?;
            lane.writes.get(from).copied()
        });
        let later: Vec<usize> = later.filter(|at| members.binary_search(at).is_err()).collect();
        // The first of them: one that had seen no other.
        let saw = |one: usize, other: usize| {
            self.history.saw(&self.writes[one], &self.writes[other]) == Saw::Yes
        };
        let is_first = |one: &usize| !later.iter().any(|other| other != one && saw(*one, *other));
        later.iter().find(|one| is_first(one)).or(later.first()).copied()
    }

    fn seen_later(&self, write: usize) -> bool {
        let seen = |(place, lane): (&WritePlace, &Lane)| {
            self.seen_from(*place, lane, write) < lane.writes.len()
        };
        self.lanes.iter().any(seen)
    }
}

/// Disjoint sets with halved paths (R. E. Tarjan, J. van Leeuwen, "Worst-case analysis of
/// set union algorithms", JACM 31(2), 1984).
struct Joined {
    parent: Vec<usize>,
    touched: Vec<bool>,
}

impl Joined {
    fn new(count: usize) -> Self {
        Self { parent: (0..count).collect(), touched: vec![false; count] }
    }

    fn root(&mut self, mut at: usize) -> usize {
        while self.parent[at] != at {
            self.parent[at] = self.parent[self.parent[at]];
            at = self.parent[at];
        }
        at
    }

    fn join(&mut self, one: usize, other: usize) {
        (self.touched[one], self.touched[other]) = (true, true);
        let (one, other) = (self.root(one), self.root(other));
        let (low, high) = (one.min(other), one.max(other));
        self.parent[high] = low;
    }
}
