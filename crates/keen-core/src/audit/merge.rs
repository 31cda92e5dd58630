//! The comparison: N ordered streams of encoded rows, merged once.
//!
//! At every step the smallest key among the heads of the streams is settled:
//! who holds it, with which digest, and whom that concerns (see
//! [`crate::topology::placement`]). Keys that all nodes hold alike take a short path of
//! one comparison per node, and whole stretches of rows that add up to the same balance on every node
//! are passed over without looking at a row: whoever read them added them up while they were at hand.
//! Cost: one pass, `O(rows × nodes)`; memory: the heads of the streams and one divergent row.

use crate::fault::ReadFault;
use crate::topology::node_set::NodeSet;
use std::collections::{BTreeMap, HashMap};
use std::ops::ControlFlow;
use std::sync::Arc;

use crate::row::balance::Balance;
use crate::row::batch::{Batch, Layout, Row};
use crate::row::digest::Digest;
use crate::row::encoding::{self, Unreadable};
use crate::topology::NodeId;
use crate::topology::placement::Expectation;
use crate::value::Value;

/// Where the rows of one table on one node come from.
pub trait RowStream {
    /// The next batch in key order, none at the end. `spent` is the batch
    /// before, for its memory.
    ///
    /// # Errors
    /// Why the node can no longer be read. The comparison goes on without it.
    fn next_batch(&mut self, spent: Batch) -> Result<Option<Batch>, ReadFault>;
}

/// Takes what a comparison finds, as it finds it.
pub trait Findings {
    /// A divergent row. Break to stop the comparison.
    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()>;

    /// Some more keys were settled.
    fn advanced(&mut self, _keys: u64) {}
}

/// Collects every divergent row.
#[derive(Debug, Default)]
pub struct Collect(
    /// The rows that were found, in key order.
    pub Vec<DivergentRow>,
);

impl Findings for Collect {
    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        self.0.push(row);
        ControlFlow::Continue(())
    }
}

/// A key with more than one version among the nodes it concerns.
#[derive(Debug, Clone, PartialEq)]
pub struct DivergentRow {
    /// The key, cell by cell; empty if the row is its own key.
    pub key: Vec<Value>,
    /// Indexes of the columns in which the versions that are rows differ.
    pub differing: Vec<usize>,
    /// The versions; those held by most nodes first, "no row" last among equals.
    pub versions: Vec<Version>,
    /// Rows with this key that the set's filter leaves out, by node. These nodes
    /// count as holding no row.
    pub outside: Vec<(NodeId, Arc<Vec<Value>>)>,
}

/// The standing of a row that differed when it was first looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum RowStanding {
    /// Every node had passed the fence, nothing changed, and it still differs.
    Settled,
    /// A node had not passed the fence.
    InFlight,
    /// It is still being written.
    Moving,
    /// It was equal at the second look.
    Healed,
}

impl RowStanding {
    /// Its name in results.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Settled => "settled",
            Self::InFlight => "in_flight",
            Self::Moving => "moving",
            Self::Healed => "healed",
        }
    }
}

impl DivergentRow {
    /// A row as two nodes hold it, alike or not.
    #[must_use]
    pub fn between(
        key: Vec<Value>,
        nodes: (NodeId, NodeId),
        held: (Option<Vec<Value>>, Option<Vec<Value>>),
    ) -> Self {
        let differing = match &held {
            (Some(one), Some(other)) => {
                let cells = one.iter().zip(other).enumerate();
                cells.filter(|(_, (a, b))| !a.same_as(b)).map(|(at, _)| at).collect()
            }
            _ => Vec::new(),
        };
        let version = |nodes: Vec<NodeId>, row: Option<Vec<Value>>| Version {
            nodes,
            count: u64::from(row.is_some()),
            row: row.map(Arc::new),
        };
        let versions = match held {
            (Some(one), Some(_)) if differing.is_empty() => {
                vec![version(vec![nodes.0, nodes.1], Some(one))]
            }
            (one, other) => vec![version(vec![nodes.0], one), version(vec![nodes.1], other)],
        };
        Self { key, differing, versions, outside: Vec::new() }
    }

    /// The links that have not brought their receiver to what their source holds.
    pub fn unsatisfied<'a>(
        &'a self,
        expectation: &'a Expectation,
    ) -> impl Iterator<Item = (NodeId, NodeId)> + 'a {
        let version = |node: NodeId| self.versions.iter().position(|v| v.nodes.contains(&node));
        expectation.edges().iter().copied().filter(move |(from, to)| {
            match (version(*from), version(*to)) {
                (Some(from), Some(to)) => from != to && self.versions[from].row.is_some(),
                _ => false,
            }
        })
    }

    /// Whether it still differs when these nodes are left out.
    #[must_use]
    pub fn differs_without(&self, nodes: NodeSet) -> bool {
        let held = |version: &&Version| version.nodes.iter().any(|node| !nodes.contains(*node));
        self.versions.iter().filter(held).count() > 1
    }
}

/// One of the contents that nodes hold for a key.
#[derive(Debug, Clone, PartialEq)]
pub struct Version {
    /// Who holds it, ascending.
    pub nodes: Vec<NodeId>,
    /// The row, cell by cell in the order of the layout; none for "no row".
    pub row: Option<Arc<Vec<Value>>>,
    /// How many equal rows; 0 for "no row", more than 1 only where the row is its own key.
    pub count: u64,
}

/// The counts of one comparison.
#[derive(Debug, Clone, Default)]
pub struct Tally {
    /// Rows and digest sums by node, rows outside the filter left out.
    pub balances: BTreeMap<NodeId, Balance>,
    /// How many divergent rows there are.
    pub divergent: u64,
    /// How often a link had not brought its receiver to what its source holds.
    pub unsatisfied: BTreeMap<(NodeId, NodeId), u64>,
    /// Nodes lost on the way, and why.
    pub lost: BTreeMap<NodeId, ReadFault>,
    /// The comparison was stopped before the end.
    pub stopped: bool,
}

/// Compares one table over all nodes that could be opened.
///
/// `left_out` are carriers that are known not to be read: nothing is concluded
/// from their silence. `stop` is asked now and then.
pub fn compare(
    layout: &Layout,
    expectation: &Expectation,
    streams: Vec<(NodeId, Box<dyn RowStream + '_>)>,
    findings: &mut dyn Findings,
    stop: &dyn Fn() -> bool,
) -> Tally {
    let mut merge = Merge {
        layout,
        expectation,
        cursors: Vec::with_capacity(streams.len()),
        readable: NodeSet::EMPTY,
        tally: Tally::default(),
        agreeable: HashMap::new(),
    };
    for (node, stream) in streams {
        merge.readable.insert(node);
        merge.tally.balances.insert(node, Balance::default());
        merge.cursors.push(Cursor {
            node,
            stream,
            batch: Batch::default(),
            at: 0,
            stretch: 0,
            done: false,
            balance: Balance::default(),
        });
    }
    for i in 0..merge.cursors.len() {
        merge.refill(i);
    }
    merge.run(findings, stop);
    for cursor in &merge.cursors {
        merge.tally.balances.insert(cursor.node, cursor.balance);
    }
    merge.tally
}

struct Cursor<'s> {
    node: NodeId,
    stream: Box<dyn RowStream + 's>,
    batch: Batch,
    at: usize,
    /// No stretch before this one begins at the head or after it.
    stretch: usize,
    done: bool,
    balance: Balance,
}

impl Cursor<'_> {
    #[inline]
    fn head(&self) -> Option<Row<'_>> {
        self.batch.get(self.at)
    }

    /// The balance of the rows from the head to the end of its stretch, and where that is; none if the head is not the
    /// first row of a stretch, or its sum does not tell.
    #[inline]
    fn balance_ahead(&mut self) -> Option<(Balance, usize)> {
        loop {
            let stretch = self.batch.stretch(self.stretch)?;
            if stretch.start >= self.at {
                let balance = stretch.balance.filter(|_| stretch.start == self.at)?;
                return Some((balance, stretch.end));
            }
            self.stretch += 1;
        }
    }
}

/// The row in question on one node.
#[derive(Clone, Copy, PartialEq)]
struct NodeRow {
    node: NodeId,
    digest: Digest,
    count: u64,
    /// Where its canonical bytes are kept while the row is settled.
    row: usize,
}

struct Merge<'a, 's> {
    layout: &'a Layout,
    expectation: &'a Expectation,
    cursors: Vec<Cursor<'s>>,
    readable: NodeSet,
    tally: Tally,
    /// Whether a row that exactly these nodes hold alike leaves nothing to wish for.
    agreeable: HashMap<NodeSet, bool>,
}

/// How many keys pass between two looks at the stop flag.
const KEYS_PER_LOOK: u64 = 4096;
/// Patterns of holders remembered; more than these are worked out anew.
const PATTERNS_KEPT: usize = 4096;

impl Merge<'_, '_> {
    fn run(&mut self, findings: &mut dyn Findings, stop: &dyn Fn() -> bool) {
        let mut keys = 0;
        loop {
            if keys >= KEYS_PER_LOOK {
                findings.advanced(std::mem::take(&mut keys));
                if stop() {
                    self.tally.stopped = true;
                    return;
                }
            }
            if let Some(passed) = self.pass_over() {
                keys += passed;
                continue;
            }
            let Some((first, at_key)) = self.smallest() else { break };
            keys += 1;
            let identified = self.cursors[first].head().is_some_and(|head| head.identified);
            let flow = if identified {
                self.settle_keyed(first, at_key, findings)
            } else {
                self.settle_multiset(first, at_key, findings)
            };
            if flow.is_break() {
                self.tally.stopped = true;
                return;
            }
        }
        findings.advanced(keys);
        self.tally.stopped |= stop();
    }

    /// Passes over a stretch that every node which has rows left holds alike, if that leaves nothing to wish
    /// for; how many rows it has.
    #[inline]
    fn pass_over(&mut self) -> Option<u64> {
        let mut holders: NodeSet = NodeSet::EMPTY;
        let mut same = None;
        for cursor in self.cursors.iter_mut().filter(|cursor| !cursor.done) {
            let (balance, _) = cursor.balance_ahead()?;
            if *same.get_or_insert(balance) != balance {
                return None;
            }
            holders.insert(cursor.node);
        }
        let balance = same.filter(|_| self.is_agreeable(holders))?;
        for i in 0..self.cursors.len() {
            let cursor = &mut self.cursors[i];
            if cursor.done {
                continue;
            }
            let Some((_, end)) = cursor.balance_ahead() else { continue };
            cursor.balance += balance;
            self.go_to(i, end);
        }
        Some(balance.rows)
    }

    /// The cursor with the smallest head, and all cursors (by index) that share its key.
    #[inline]
    fn smallest(&self) -> Option<(usize, u64)> {
        let mut best: Option<(usize, &[u8])> = None;
        let mut sharing = 0u64;
        for (i, cursor) in self.cursors.iter().enumerate() {
            let Some(head) = cursor.head() else { continue };
            let order = best.map_or(std::cmp::Ordering::Less, |(_, key)| head.key.cmp(key));
            match order {
                std::cmp::Ordering::Less => {
                    best = Some((i, head.key));
                    sharing = 1 << i;
                }
                std::cmp::Ordering::Equal => sharing |= 1 << i,
                std::cmp::Ordering::Greater => {}
            }
        }
        best.map(|(i, _)| (i, sharing))
    }

    #[inline]
    fn settle_keyed(
        &mut self,
        first: usize,
        at_key: u64,
        findings: &mut dyn Findings,
    ) -> ControlFlow<()> {
        let mut holders: NodeSet = NodeSet::EMPTY;
        let mut outside: NodeSet = NodeSet::EMPTY;
        let mut alike = true;
        let mut digest = None;
        for i in bits(at_key) {
            let cursor = &mut self.cursors[i];
            let Some(head) = cursor.batch.get(cursor.at) else {
                continue;
            };
            if head.outside {
                outside.insert(cursor.node);
                continue;
            }
            holders.insert(cursor.node);
            cursor.balance.credit(head.digest);
            alike &= *digest.get_or_insert(head.digest) == head.digest;
        }
        let mut flow = ControlFlow::Continue(());
        if !(holders.is_empty() || alike && self.is_agreeable(holders)) {
            flow = self.report_keyed(first, at_key, holders, outside, findings);
        }
        for i in bits(at_key) {
            self.advance(i);
        }
        flow
    }

    /// Whether everyone concerned holds a row that exactly `holders` hold, all alike.
    #[inline]
    fn is_agreeable(&mut self, holders: NodeSet) -> bool {
        if holders == self.expectation.carriers() {
            return true;
        }
        if let Some(known) = self.agreeable.get(&holders) {
            return *known;
        }
        let concerns = self.expectation.concerns(holders, self.readable);
        let agreeable = concerns.iter().all(|concern| concern.is_within(holders));
        if self.agreeable.len() >= PATTERNS_KEPT {
            self.agreeable.clear();
        }
        self.agreeable.insert(holders, agreeable);
        agreeable
    }

    #[cold]
    fn report_keyed(
        &mut self,
        first: usize,
        at_key: u64,
        holders: NodeSet,
        outside: NodeSet,
        findings: &mut dyn Findings,
    ) -> ControlFlow<()> {
        let mut held = Vec::new();
        // Borrowed from the batches: a row can be as large as an engine lets it.
        let mut rows: Vec<&[u8]> = Vec::new();
        let mut beyond: Vec<(NodeId, &[u8])> = Vec::new();
        for i in bits(at_key) {
            let cursor = &self.cursors[i];
            let Some(head) = cursor.head() else { continue };
            if head.outside {
                beyond.push((cursor.node, head.row));
            } else {
                held.push(NodeRow {
                    node: cursor.node,
                    digest: head.digest,
                    count: 1,
                    row: rows.len(),
                });
                rows.push(head.row);
            }
        }
        debug_assert_eq!(held.iter().map(|h| h.node).collect::<NodeSet>(), holders);
        debug_assert_eq!(beyond.iter().map(|(n, _)| *n).collect::<NodeSet>(), outside);
        let key =
            self.cursors[first].head().map(|head| encoding::read_some(head.row, &self.layout.key));
        let key = key.and_then(Result::ok).unwrap_or_default();
        let found = self.found(&key, &held, &rows, &beyond);
        self.hand_on(found, &held, findings)
    }

    /// Rows that are their own key: every distinct content at this place is settled by its count.
    fn settle_multiset(
        &mut self,
        first: usize,
        at_key: u64,
        findings: &mut dyn Findings,
    ) -> ControlFlow<()> {
        let key = self.cursors[first].head().map(|head| head.key.to_vec()).unwrap_or_default();
        let mut contents: Vec<(Digest, Vec<u8>, Vec<NodeRow>)> = Vec::new();
        for i in bits(at_key) {
            let node = self.cursors[i].node;
            while let Some(head) = self.cursors[i].head() {
                if head.key != key {
                    break;
                }
                let digest = head.digest;
                let known = contents.iter().position(|(other, _, _)| *other == digest);
                let at = known.unwrap_or_else(|| {
                    contents.push((digest, head.row.to_vec(), Vec::new()));
                    contents.len() - 1
                });
                let holders = &mut contents[at].2;
                match holders.last_mut() {
                    Some(held) if held.node == node => held.count += 1,
                    _ => holders.push(NodeRow { node, digest, count: 1, row: 0 }),
                }
                self.cursors[i].balance.credit(digest);
                self.advance(i);
            }
        }
        for (_, row, held) in contents {
            let holders = held.iter().map(|h| h.node).collect::<NodeSet>();
            let alike = held.windows(2).all(|pair| pair[0].count == pair[1].count);
            if !(alike && self.is_agreeable(holders)) {
                let found = self.found(&[], &held, &[&row], &[]);
                self.hand_on(found, &held, findings)?;
            }
        }
        ControlFlow::Continue(())
    }

    /// Groups one row's holdings into versions, concern by concern: the divergent ones.
    fn found(
        &self,
        key: &[Value],
        held: &[NodeRow],
        rows: &[&[u8]],
        beyond: &[(NodeId, &[u8])],
    ) -> Vec<(NodeSet, DivergentRow)> {
        let holders = held.iter().map(|h| h.node).collect::<NodeSet>();
        let mut found = Vec::new();
        for concern in self.expectation.concerns(holders, self.readable) {
            let groups = group(concern, held);
            if groups.len() < 2 {
                continue;
            }
            match self.divergent_row(key, &groups, rows, concern, beyond) {
                Ok(row) => found.push((concern, row)),
                Err(fault) => unreachable!("rows in a batch come from the encoder: {fault}"),
            }
        }
        found
    }

    fn hand_on(
        &mut self,
        found: Vec<(NodeSet, DivergentRow)>,
        held: &[NodeRow],
        findings: &mut dyn Findings,
    ) -> ControlFlow<()> {
        for (concern, row) in found {
            self.count_unsatisfied(concern, held);
            self.tally.divergent += 1;
            findings.divergent(row)?;
        }
        ControlFlow::Continue(())
    }

    fn divergent_row(
        &self,
        key: &[Value],
        groups: &[(Option<NodeRow>, Vec<NodeId>)],
        rows: &[&[u8]],
        concern: NodeSet,
        beyond: &[(NodeId, &[u8])],
    ) -> Result<DivergentRow, Unreadable> {
        let mut versions = Vec::with_capacity(groups.len());
        for (held, nodes) in groups {
            versions.push(Version {
                nodes: nodes.clone(),
                row: held.map(|h| encoding::read_row(rows[h.row]).map(Arc::new)).transpose()?,
                count: held.map_or(0, |h| h.count),
            });
        }
        let canonical_rows: Vec<&[u8]> =
            groups.iter().filter_map(|(h, _)| h.map(|h| rows[h.row])).collect();
        Ok(DivergentRow {
            key: key.to_vec(),
            differing: differing_cells(&canonical_rows)?,
            versions,
            outside: beyond
                .iter()
                .filter(|(node, _)| concern.contains(*node))
                .map(|(node, row)| Ok((*node, Arc::new(encoding::read_row(row)?))))
                .collect::<Result<_, Unreadable>>()?,
        })
    }

    fn count_unsatisfied(&mut self, concern: NodeSet, held: &[NodeRow]) {
        let content =
            |node: NodeId| held.iter().find(|h| h.node == node).map(|h| (h.digest, h.count));
        for (from, to) in self.expectation.edges() {
            let both = NodeSet::of(*from) | NodeSet::of(*to);
            if concern & both == both && content(*from).is_some() && content(*from) != content(*to)
            {
                *self.tally.unsatisfied.entry((*from, *to)).or_default() += 1;
            }
        }
    }

    #[inline]
    fn advance(&mut self, i: usize) {
        self.go_to(i, self.cursors[i].at + 1);
    }

    #[inline]
    fn go_to(&mut self, i: usize, at: usize) {
        let cursor = &mut self.cursors[i];
        cursor.at = at;
        if at >= cursor.batch.len() {
            self.refill(i);
        }
    }

    fn refill(&mut self, i: usize) {
        let cursor = &mut self.cursors[i];
        (cursor.at, cursor.stretch) = (0, 0);
        while !cursor.done {
            let spent = std::mem::take(&mut cursor.batch);
            match cursor.stream.next_batch(spent) {
                Ok(Some(batch)) if batch.is_empty() => cursor.batch = batch,
                Ok(Some(batch)) => {
                    cursor.batch = batch;
                    return;
                }
                Ok(None) => cursor.done = true,
                Err(reason) => {
                    cursor.done = true;
                    self.readable.remove(cursor.node);
                    self.agreeable.clear();
                    self.tally.lost.insert(cursor.node, reason);
                }
            }
        }
        self.cursors[i].batch = Batch::default();
    }
}

/// The nodes of a concern by what they hold: most nodes first, rows before "no row", then file order.
fn group(concern: NodeSet, held: &[NodeRow]) -> Vec<(Option<NodeRow>, Vec<NodeId>)> {
    let mut groups: Vec<(Option<NodeRow>, Vec<NodeId>)> = Vec::new();
    for node in concern.iter() {
        let content = held.iter().find(|h| h.node == node).copied();
        let same = |other: &Option<NodeRow>| {
            other.map(|h| (h.digest, h.count)) == content.map(|h| (h.digest, h.count))
        };
        match groups.iter_mut().find(|(other, _)| same(other)) {
            Some((_, nodes)) => nodes.push(node),
            None => groups.push((content, vec![node])),
        }
    }
    groups.sort_by_key(|(content, nodes)| {
        (std::cmp::Reverse(nodes.len()), content.is_none(), nodes[0])
    });
    groups
}

/// The columns in which canonical rows of one layout differ.
fn differing_cells(rows: &[&[u8]]) -> Result<Vec<usize>, Unreadable> {
    let cells = rows.iter().map(|row| encoding::cells(row)).collect::<Result<Vec<_>, _>>()?;
    let Some((first, others)) = cells.split_first() else {
        return Ok(Vec::new());
    };
    Ok((0..first.len()).filter(|i| others.iter().any(|row| row.get(*i) != first.get(*i))).collect())
}

fn bits(mut mask: u64) -> impl Iterator<Item = usize> {
    std::iter::from_fn(move || {
        (mask != 0).then(|| {
            let at = mask.trailing_zeros() as usize;
            mask &= mask - 1;
            at
        })
    })
}
