//! The outcome of concurrent writes: from their contents and the rows that nodes hold now.

use crate::topology::node_set::NodeSet;
use std::collections::BTreeMap;

use super::{
    Conflict, ConflictKind, ConflictStanding, CurrentRow, Doubt, Fate, RowNow, Thing, WinningRule,
    Written,
};
use crate::history::happened_before::{Chain, Deed, Heard, History, Saw, Write};
use crate::history::journal::{Id, Stream};
use crate::topology::NodeId;
use crate::topology::placement::Expectation;
use crate::value::Value;

/// A row as a write found it and as it left it, by column; a cell that the journal does not tell is none.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Content {
    /// Before; none if there was no row, or the journal does not tell.
    pub before: Option<Vec<Option<Value>>>,
    /// After; none if there was none, or the journal does not tell.
    pub after: Option<Vec<Option<Value>>>,
}

/// Concurrent writes of one thing, with all that is known of them.
#[derive(Debug)]
pub struct Case<'a> {
    /// The journals.
    pub history: &'a History,
    /// All writes of the thing.
    pub writes: &'a [Write],
    /// Those of them that were concurrent.
    pub chain: &'a Chain,
    /// By write of the chain its transaction, what it wrote, and to which of the rows.
    pub told: Vec<(Id, Content, usize)>,
    /// Number of the table.
    pub table: usize,
    /// The thing.
    pub thing: Thing,
    /// The number of columns of the conflict's table, and which of them are the key.
    pub columns: (usize, &'a [usize]),
    /// The rows it is about, and what nodes hold of them.
    pub rows: Vec<RowNow>,
    /// Who should hold what.
    pub expectation: &'a Expectation,
    /// The names of nodes as origins, for rules that go by it.
    pub identities: &'a BTreeMap<NodeId, String>,
}

/// Pairs are looked at one by one among so many writes; of a longer chain among the first.
const PAIRS_AMONG: usize = 64;
/// Writes that are kept of one conflict.
const WRITES_KEPT: usize = 40;

/// Judges concurrent writes of one thing.
#[must_use]
pub fn judge(case: Case<'_>) -> Conflict {
    let outcome = Outcome { case };
    let pairs = outcome.pairs();
    let kind = outcome.kind(&pairs);
    let standing = outcome.standing(kind);
    let counted_alike = outcome.counted_alike(&pairs);
    let held = outcome.held();
    let rules = outcome.rules(&held);
    let Outcome { case } = &outcome;
    let (history, chain) = (case.history, case.chain);
    let writes: Vec<Written> = (0..chain.writes.len().min(WRITES_KEPT))
        .map(|number| {
            let write = outcome.write(number);
            let (id, content, row) = &case.told[number];
            let nodes = |wanted: &dyn Fn(NodeId) -> bool| {
                case.expectation.carriers().iter().filter(|n| wanted(*n)).collect::<NodeSet>()
            };
            Written {
                id: id.clone(),
                node: history.node_of(write),
                made: write.made,
                deed: write.deed,
                applied: nodes(&|node| write.order_at(node).is_some()),
                skipped: nodes(&|node| {
                    outcome.should_get(node, write) && history.skipped(node, write)
                }),
                proven: chain.proven[number],
                content: content.clone(),
                row: *row,
                fate: outcome.fate(number, kind, standing),
                statement: None,
            }
        })
        .collect();
    let healer = chain.healed_by.map(|at| &case.writes[at]);
    let proven = chain.is_proven();
    Conflict {
        kind,
        table: case.table,
        thing: case.thing.clone(),
        proven,
        doubt: (!proven).then(|| outcome.doubt()),
        count: chain.writes.len(),
        unseen: pairs.into_iter().filter(|(a, b)| *a < writes.len() && *b < writes.len()).collect(),
        writes,
        standing,
        healed_by: healer.map(|write| (outcome.id_of(write), history.node_of(write))),
        held,
        rules,
        counted: false,
        counted_alike,
        breaks: Vec::new(),
        rows: outcome.case.rows,
    }
}

struct Outcome<'a> {
    case: Case<'a>,
}

impl Outcome<'_> {
    fn write(&self, number: usize) -> &Write {
        &self.case.writes[self.case.chain.writes[number]]
    }

    /// The name of a write that may not be among those told: its number, as its writer counts.
    fn id_of(&self, write: &Write) -> Id {
        let like = self.case.told.iter().enumerate();
        let mut like = like.filter(|(number, _)| self.write(*number).writer == write.writer);
        let writer = match like.next() {
            Some((_, (id, _, _))) => id.writer.clone(),
            None => crate::history::journal::Writer {
                origin: (self.case.history.node_of(write))
                    .and_then(|node| self.case.identities.get(&node))
                    .map_or("?", String::as_str)
                    .into(),
                stream: self.case.told[0].0.writer.stream,
            },
        };
        Id { writer, place: write.place }
    }

    /// Pairs of writes of the chain, by number, of which neither had seen the other.
    fn pairs(&self) -> Vec<(usize, usize)> {
        let count = self.case.chain.writes.len().min(PAIRS_AMONG);
        let mut pairs = Vec::new();
        for b in 0..count {
            for a in 0..b {
                let (one, other) = (self.write(a), self.write(b));
                if one.deed.clashes_with(other.deed)
                    && !self.changes_nothing(a)
                    && !self.changes_nothing(b)
                    && self.case.history.concurrent(one, other) != Saw::No
                {
                    pairs.push((a, b));
                }
            }
        }
        pairs
    }

    fn kind(&self, pairs: &[(usize, usize)]) -> ConflictKind {
        if matches!(self.case.thing, Thing::Unique(..)) {
            return ConflictKind::Unique;
        }
        let of = |(a, b): &(usize, usize)| {
            let mut deeds = [self.write(*a).deed, self.write(*b).deed];
            deeds.sort_unstable();
            match deeds {
                [Deed::Insert, Deed::Insert] => ConflictKind::InsertInsert,
                [Deed::Delete, Deed::Delete] => ConflictKind::DeleteDelete,
                [Deed::Delete, Deed::Refer] => ConflictKind::ParentGone,
                [_, Deed::Delete] => ConflictKind::UpdateDelete,
                [Deed::Update, Deed::Update] if self.in_other_columns(*a, *b) => {
                    ConflictKind::OtherColumns
                }
                _ => ConflictKind::UpdateUpdate,
            }
        };
        pairs.iter().map(of).min().unwrap_or(ConflictKind::UpdateUpdate)
    }

    /// The columns that an update changed; none if the journal does not tell.
    fn changed(&self, number: usize) -> Option<Vec<usize>> {
        let content = &self.case.told[number].1;
        let (before, after) = (content.before.as_ref()?, content.after.as_ref()?);
        let mut changed = Vec::new();
        for (column, (before, after)) in before.iter().zip(after).enumerate() {
            match (before, after) {
                (Some(before), Some(after)) if !before.same_as(after) => changed.push(column),
                (None, Some(_)) => return None,
                _ => {}
            }
        }
        Some(changed)
    }

    /// An update that left every cell as it was takes nothing away from anybody.
    fn changes_nothing(&self, number: usize) -> bool {
        self.write(number).deed == Deed::Update
            && self.changed(number).is_some_and(|changed| changed.is_empty())
            && self.tells_all(number)
    }

    /// Whether the journal tells every cell before and after.
    fn tells_all(&self, number: usize) -> bool {
        let content = &self.case.told[number].1;
        let (count, _) = self.case.columns;
        [&content.before, &content.after].into_iter().all(|side| {
            side.as_ref()
                .is_some_and(|cells| cells.len() == count && cells.iter().all(Option::is_some))
        })
    }

    /// The columns that an update can have changed: MariaDB's log leaves out of what a row became the cells that
    /// were not written, where it leaves out anything.
    fn can_have_changed(&self, number: usize) -> Option<Vec<usize>> {
        let (id, content, _) = &self.case.told[number];
        let partly = matches!(id.writer.stream, Stream::Domain(_))
            && content.after.as_ref().is_some_and(|after| after.contains(&None));
        let after = content.after.as_ref().filter(|_| partly);
        let (count, key) = self.case.columns;
        let told = |after: &Vec<Option<Value>>| {
            let told = |column: &usize| after.get(*column).is_some_and(Option::is_some);
            (0..count).filter(|column| told(column) && !key.contains(column)).collect()
        };
        self.changed(number).or_else(|| after.map(told))
    }

    /// Columns in which two updates, of which neither had seen the other, each turned one number into the same
    /// other one: if they counted (`c = c + 1`), one of the two is lost, though nothing looks like it.
    fn counted_alike(&self, pairs: &[(usize, usize)]) -> Vec<usize> {
        let number =
            |value: &Value| matches!(value, Value::Int(_) | Value::Decimal(_) | Value::Float(_));
        let mut found = std::collections::BTreeSet::new();
        for (a, b) in pairs {
            let updates = [*a, *b].iter().all(|at| self.write(*at).deed == Deed::Update);
            let corrected = [*a, *b].iter().all(|at| self.case.chain.seen_later[*at]);
            if !updates || corrected {
                continue;
            }
            let (one, other) = (&self.case.told[*a].1, &self.case.told[*b].1);
            let cell = |side: &Option<Vec<Option<Value>>>, column: usize| {
                side.as_ref()?.get(column)?.clone().filter(number)
            };
            found.extend(self.changed(*a).unwrap_or_default().into_iter().filter(|column| {
                let same = |of: &dyn Fn(&Content) -> Option<Value>| {
                    of(one).zip(of(other)).is_some_and(|(one, other)| one.same_as(&other))
                };
                same(&|content| cell(&content.before, *column))
                    && same(&|content| cell(&content.after, *column))
            }));
        }
        found.into_iter().collect()
    }

    fn in_other_columns(&self, a: usize, b: usize) -> bool {
        match (self.can_have_changed(a), self.can_have_changed(b)) {
            (Some(a), Some(b)) => {
                !a.is_empty() && !b.is_empty() && !a.iter().any(|column| b.contains(column))
            }
            _ => false,
        }
    }

    fn should_get(&self, node: NodeId, write: &Write) -> bool {
        let from = self.case.history.node_of(write);
        from.is_some_and(|from| self.case.expectation.reached_from(from).contains(node))
    }

    /// Whether any write of the thing may yet arrive somewhere: also a later one explains why nodes differ.
    fn on_its_way(&self) -> bool {
        self.case.writes.iter().any(|write| {
            self.case.expectation.carriers().iter().any(|node| {
                self.should_get(node, write) && self.case.history.may_yet_arrive(node, write)
            })
        })
    }

    fn standing(&self, kind: ConflictKind) -> ConflictStanding {
        let apart = self.case.rows.iter().any(|row| is_apart(self.case.expectation, &row.now));
        if apart {
            return if self.on_its_way() {
                ConflictStanding::InFlight
            } else {
                ConflictStanding::Apart
            };
        }
        if self.is_broken(kind) {
            return if self.on_its_way() {
                ConflictStanding::InFlight
            } else {
                ConflictStanding::Broken
            };
        }
        let unread =
            |row: &RowNow| row.now.values().any(|now| matches!(now, CurrentRow::Unread(_)));
        if self.case.rows.is_empty() || self.case.rows.iter().any(unread) {
            return ConflictStanding::Unread;
        }
        match self.case.chain.healed_by {
            Some(_) => ConflictStanding::Healed,
            None if self.on_its_way() => ConflictStanding::InFlight,
            None => ConflictStanding::Alike,
        }
    }

    /// Whether a node holds what the rules forbid.
    fn is_broken(&self, kind: ConflictKind) -> bool {
        let there =
            |row: &RowNow, node: &NodeId| matches!(row.now.get(node), Some(CurrentRow::Row(_)));
        let rows = &self.case.rows;
        let Some(first) = rows.first() else { return false };
        match kind {
            ConflictKind::Unique => {
                let takes =
                    |row: &RowNow, node: &NodeId| match (&self.case.thing, row.now.get(node)) {
                        (Thing::Unique(columns, values), Some(CurrentRow::Row(cells))) => {
                            let mut pairs = columns.iter().zip(values);
                            pairs.all(|(at, value)| {
                                cells.get(*at).is_some_and(|cell| cell.same_as(value))
                            })
                        }
                        _ => false,
                    };
                first.now.keys().any(|node| rows.iter().filter(|row| takes(row, node)).count() > 1)
            }
            ConflictKind::ParentGone => first.now.iter().any(|(node, now)| {
                *now == CurrentRow::NoRow && rows[1..].iter().any(|row| there(row, node))
            }),
            _ => false,
        }
    }

    fn readable(&self) -> impl Iterator<Item = (&NodeId, &CurrentRow)> {
        self.case.rows.first().into_iter().flat_map(|row| &row.now)
    }

    fn fate(&self, number: usize, kind: ConflictKind, standing: ConflictStanding) -> Fate {
        let write = self.write(number);
        if write.deed == Deed::Refer || self.case.chain.seen_later[number] {
            return Fate::Kept;
        }
        let Some(row) = self.case.rows.get(self.case.told[number].2) else { return Fate::Unknown };
        let content = &self.case.told[number].1;
        let held: Vec<&Vec<Value>> = row
            .now
            .values()
            .filter_map(|now| if let CurrentRow::Row(cells) = now { Some(cells) } else { None })
            .collect();
        let nowhere = row.now.values().any(|now| *now == CurrentRow::NoRow);
        let (count, key) = self.case.columns;
        let lost = match (write.deed, &content.after) {
            (Deed::Delete, _) => (!nowhere && !held.is_empty()).then(Vec::new),
            (_, Some(after)) => {
                let is_lost = |column: &usize| match after.get(*column) {
                    Some(Some(value)) => !held
                        .iter()
                        .any(|row| row.get(*column).is_some_and(|now| now.same_as(value))),
                    _ => false,
                };
                let candidates = match write.deed {
                    Deed::Insert | Deed::Take => {
                        (0..count).filter(|c| held.is_empty() || !key.contains(c)).collect()
                    }
                    _ => self.can_have_changed(number).unwrap_or_else(|| self.disputed(number)),
                };
                let lost: Vec<usize> = candidates.into_iter().filter(is_lost).collect();
                (!lost.is_empty()).then_some(lost)
            }
            _ => return Fate::Unknown,
        };
        let all_read = !row.now.is_empty()
            && !row.now.values().any(|now| matches!(now, CurrentRow::Unread(_)));
        match lost {
            None => Fate::Kept,
            Some(_) if !all_read || standing == ConflictStanding::InFlight => Fate::Unknown,
            Some(_) if kind == ConflictKind::DeleteDelete => Fate::Kept,
            Some(cells) => Fate::Lost(cells),
        }
    }

    /// Where a journal does not tell what an update changed: the columns in which another write differs.
    fn disputed(&self, number: usize) -> Vec<usize> {
        let (count, key) = self.case.columns;
        let Some(after) = &self.case.told[number].1.after else { return Vec::new() };
        let others = || self.case.told.iter().enumerate().filter(|(other, _)| *other != number);
        if others().any(|(other, _)| self.write(other).deed == Deed::Delete) {
            return (0..count).filter(|column| !key.contains(column)).collect();
        }
        let differs = |column: &usize| {
            others().any(|(_, (_, content, _))| {
                let theirs =
                    content.after.as_ref().and_then(|cells| cells.get(*column)).cloned().flatten();
                let mine = after.get(*column).cloned().flatten();
                matches!((mine, theirs), (Some(mine), Some(theirs)) if !mine.same_as(&theirs))
            })
        };
        (0..count).filter(differs).collect()
    }

    /// By node the write of the chain whose content it holds; of several the one it applied last.
    fn held(&self) -> BTreeMap<NodeId, usize> {
        let mut held = BTreeMap::new();
        if self.case.rows.len() != 1 {
            return held;
        }
        for (node, now) in self.readable() {
            let matching = (0..self.case.chain.writes.len()).filter(|number| {
                let content = &self.case.told[*number].1;
                match (self.write(*number).deed, now) {
                    (Deed::Delete, CurrentRow::NoRow) => true,
                    (Deed::Delete | Deed::Refer, _)
                    | (_, CurrentRow::NoRow | CurrentRow::Unread(_)) => false,
                    (_, CurrentRow::Row(cells)) => content.after.as_ref().is_some_and(|after| {
                        after.iter().zip(cells).all(|(written, now)| {
                            written.as_ref().is_none_or(|written| written.same_as(now))
                        })
                    }),
                }
            });
            let last = matching.max_by_key(|number| self.write(*number).order_at(*node));
            held.extend(last.map(|number| (*node, number)));
        }
        held
    }

    fn rules(&self, held: &BTreeMap<NodeId, usize>) -> Vec<WinningRule> {
        let nodes: Vec<NodeId> = self.readable().map(|(node, _)| *node).collect();
        if nodes.is_empty() || nodes.iter().any(|node| !held.contains_key(node)) {
            return Vec::new();
        }
        let numbers = || 0..self.case.chain.writes.len();
        // Of the writes of one node only the last can win.
        let last_of_node = |number: usize| {
            let write = self.write(number);
            !numbers().any(|other| {
                other != number && self.case.history.saw(self.write(other), write) == Saw::Yes
            })
        };
        let finals: Vec<usize> = numbers().filter(|number| last_of_node(*number)).collect();
        let won = |beats: &dyn Fn(NodeId, &Write, &Write) -> bool| {
            held.iter().all(|(node, number)| {
                finals
                    .iter()
                    .filter(|other| *other != number)
                    .all(|other| beats(*node, self.write(*number), self.write(*other)))
            })
        };
        let identity = |write: &Write| {
            let node = self.case.history.node_of(write)?;
            self.case.identities.get(&node).map(|text| (text.parse::<u64>().ok(), text.clone()))
        };
        let by_order = |node: NodeId, one: &Write, other: &Write, first: bool| {
            match (one.order_at(node), other.order_at(node)) {
                (Some(one), Some(other)) => (one < other) == first,
                // What never came there did not lose by when it came.
                _ => false,
            }
        };
        let mut rules = Vec::new();
        if won(&|_, one, other| matches!((one.made, other.made), (Some(a), Some(b)) if a > b)) {
            rules.push(WinningRule::LaterTime);
        }
        if won(
            &|_, one, other| matches!((identity(one), identity(other)), (Some(a), Some(b)) if a > b),
        ) {
            rules.push(WinningRule::HigherNode);
        }
        if won(&|node, one, other| by_order(node, one, other, true)) {
            rules.push(WinningRule::FirstCome);
        }
        if won(&|node, one, other| by_order(node, one, other, false)) {
            rules.push(WinningRule::LastCome);
        }
        rules
    }

    /// Why nothing is proven.
    fn doubt(&self) -> Doubt {
        let (history, count) = (self.case.history, self.case.chain.writes.len().min(PAIRS_AMONG));
        let nodes = || (0..count).map(|number| history.node_of(self.write(number)));
        let unread = |node: &NodeId| !history.journals.contains_key(node);
        if nodes().any(|node| node.is_none()) {
            return Doubt::Outsider;
        }
        if let Some(node) = nodes().flatten().find(unread) {
            return Doubt::NoJournal(node);
        }
        let short = |node: &NodeId| {
            (0..count).any(|number| history.heard(*node, self.write(number)) == Heard::Unclear)
        };
        let node = nodes().flatten().find(short).or_else(|| nodes().flatten().next());
        node.map_or(Doubt::Outsider, Doubt::TooShort)
    }
}

/// Whether nodes that should hold the same do not.
fn is_apart(expectation: &Expectation, now: &BTreeMap<NodeId, CurrentRow>) -> bool {
    let of = |wanted: &dyn Fn(&CurrentRow) -> bool| -> NodeSet {
        now.iter().filter(|(_, now)| wanted(now)).map(|(node, _)| *node).collect::<NodeSet>()
    };
    let readable = of(&|now| !matches!(now, CurrentRow::Unread(_)));
    let holders = of(&|now| matches!(now, CurrentRow::Row(_)));
    expectation.concerns(holders, readable).into_iter().any(|concern| {
        let mut held = concern.iter().filter_map(|node| now.get(&node));
        let Some(first) = held.next() else { return false };
        held.any(|other| match (first, other) {
            (CurrentRow::Row(a), CurrentRow::Row(b)) => !a.iter().zip(b).all(|(a, b)| a.same_as(b)),
            (one, other) => one != other,
        })
    })
}
