//! Conflicts: concurrent writes of the same thing, how they ended, and whose write is lost.

mod by_rows;
mod legend;
mod outcome;

use crate::fault::ReadFault;
use crate::topology::node_set::NodeSet;
use std::collections::BTreeMap;

pub use by_rows::{ByRows, LastWrite, by_rows};
pub use outcome::{Case, Content, judge};

use crate::history::happened_before::Deed;
use crate::history::journal::Id;
use crate::observe::links::Micros;
use crate::topology::NodeId;
use crate::value::Value;

/// In which way writes get in each other's way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ConflictKind {
    /// Two inserts of one key.
    InsertInsert,
    /// One node wrote a row that another node deleted.
    UpdateDelete,
    /// One value that must be unique, under two keys.
    Unique,
    /// One node made a row refer to another row that a second node deleted.
    ParentGone,
    /// Two updates of a row that have a column in common.
    UpdateUpdate,
    /// Two updates of a row in different columns.
    OtherColumns,
    /// Two changes of the shape of one table.
    ShapeShape,
    /// A change of the shape of a table whose rows were written elsewhere.
    ShapeRows,
    /// Nodes hold different writes as the last ones of a row, which is all that is known.
    LastWrites,
    /// No node wrote against it, but a node never applied it.
    Skipped,
    /// Two deletes of a row.
    DeleteDelete,
}

impl ConflictKind {
    /// Every kind, in the order in which they are shown.
    pub const ALL: [Self; 11] = [
        Self::InsertInsert,
        Self::UpdateDelete,
        Self::Unique,
        Self::ParentGone,
        Self::UpdateUpdate,
        Self::OtherColumns,
        Self::ShapeShape,
        Self::ShapeRows,
        Self::LastWrites,
        Self::Skipped,
        Self::DeleteDelete,
    ];

    /// Its name in arguments and results.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::InsertInsert => "insert-insert",
            Self::UpdateDelete => "update-delete",
            Self::Unique => "unique-value",
            Self::ParentGone => "parent-gone",
            Self::UpdateUpdate => "update-update",
            Self::OtherColumns => "other-columns",
            Self::ShapeShape => "shape-shape",
            Self::ShapeRows => "shape-rows",
            Self::LastWrites => "last-writes",
            Self::Skipped => "skipped",
            Self::DeleteDelete => "delete-delete",
        }
    }

    /// It in a few words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::InsertInsert => "inserted on both sides",
            Self::UpdateDelete => "written on one side, deleted on the other",
            Self::Unique => "one value that must be unique, given to two rows",
            Self::ParentGone => "referred to on one side, deleted on the other",
            Self::UpdateUpdate => "the same cells changed on both sides",
            Self::OtherColumns => "different columns changed on both sides",
            Self::ShapeShape => "the table's shape changed on both sides",
            Self::ShapeRows => "rows written elsewhere while the table's shape changed",
            Self::LastWrites => "last written on different sides, by what the rows show",
            Self::Skipped => "written on one side, never applied on another",
            Self::DeleteDelete => "deleted on both sides",
        }
    }
}

/// The standing of a conflict, by the rows that nodes hold now.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ConflictStanding {
    /// Nodes that should hold the same rows do not.
    Apart,
    /// All nodes hold the same, but it breaks a rule: a unique value twice, or a row without its parent.
    Broken,
    /// Some of the writes are still on their way.
    InFlight,
    /// Not every node could be read; those that could hold the same.
    Unread,
    /// All nodes hold the same.
    Alike,
    /// All nodes hold the same, through a later write that had seen every side.
    Healed,
}

impl ConflictStanding {
    /// Every standing, the worst first.
    pub const ALL: [Self; 6] =
        [Self::Apart, Self::Broken, Self::InFlight, Self::Unread, Self::Alike, Self::Healed];

    /// Its name in results.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Apart => "settled apart",
            Self::Broken => "settled against the rules",
            Self::InFlight => "in flight",
            Self::Unread => "not all read",
            Self::Alike => "settled alike",
            Self::Healed => "healed",
        }
    }
}

/// Why it is not certain that writes were concurrent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Doubt {
    /// A writer is no node of the topology, so nobody knows what it had seen.
    Outsider,
    /// The journal of this node could not be read.
    NoJournal(NodeId),
    /// The journal of this node does not reach back far enough.
    TooShort(NodeId),
    /// Only the last write of each row is known.
    LastOnly,
}

/// A thing that writes can collide over.
#[derive(Debug, Clone, PartialEq)]
pub enum Thing {
    /// A row, by the values of its key.
    Row(Vec<Value>),
    /// Values of these columns, by number, which must be unique together.
    Unique(Vec<usize>, Vec<Value>),
    /// The shape of the table.
    Shape,
}

/// A write of a conflict.
#[derive(Debug, Clone, PartialEq)]
pub struct Written {
    /// Its transaction.
    pub id: Id,
    /// Where it was made; none if that is no node of the topology.
    pub node: Option<NodeId>,
    /// When, by that node's clock.
    pub made: Option<Micros>,
    /// The kind of write.
    pub deed: Deed,
    /// The nodes that have applied it, as far as journals tell.
    pub applied: NodeSet,
    /// Nodes that applied later writes of the same origin, and never this one.
    pub skipped: NodeSet,
    /// It was certainly concurrent with another.
    pub proven: bool,
    /// The row as it found it and as it left it; cells by column, none where the journal does not tell.
    pub content: Content,
    /// Of a write to another row than the conflict's own: which of the rows.
    pub row: usize,
    /// Its fate.
    pub fate: Fate,
    /// Of a change of shape: the statement.
    pub statement: Option<String>,
}

/// The fate of a write.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Fate {
    /// A node holds it, or a later write had seen it.
    #[default]
    Kept,
    /// No node holds it, and no later write had seen it. The cells, by number of the column; none if it
    /// was a delete.
    Lost(Vec<usize>),
    /// That cannot be told: a node could not be read, or something is on its way.
    Unknown,
}

impl Fate {
    /// Whether it is lost, all or in part.
    #[must_use]
    pub fn is_lost(&self) -> bool {
        matches!(self, Self::Lost(_))
    }
}

/// The state of a row on a node.
#[derive(Debug, Clone, PartialEq)]
pub enum CurrentRow {
    /// This, by column.
    Row(Vec<Value>),
    /// Nothing.
    NoRow,
    /// It could not be read, and why.
    Unread(ReadFault),
}

/// A row that a conflict is about, and what every node that should have a say holds of it.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct RowNow {
    /// Number of its table.
    pub table: usize,
    /// Its key.
    pub key: Vec<Value>,
    /// The state of the row, by node.
    pub now: BTreeMap<NodeId, CurrentRow>,
}

/// A rule that explains which write won.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WinningRule {
    /// The one with the later time.
    LaterTime,
    /// The one of the node with the higher name or number.
    HigherNode,
    /// Whichever came first, at each node.
    FirstCome,
    /// Whichever came last, at each node.
    LastCome,
}

impl WinningRule {
    /// In words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::LaterTime => "the one with the later time",
            Self::HigherNode => "the one of the higher node",
            Self::FirstCome => "the one that came first",
            Self::LastCome => "the one that came last",
        }
    }

    /// Its name in results.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::LaterTime => "later-time",
            Self::HigherNode => "higher-node",
            Self::FirstCome => "first-come",
            Self::LastCome => "last-come",
        }
    }
}

/// Concurrent writes of one thing.
#[derive(Debug, Clone, PartialEq)]
pub struct Conflict {
    /// In which way they collide.
    pub kind: ConflictKind,
    /// Number of the table.
    pub table: usize,
    /// The thing they collide over.
    pub thing: Thing,
    /// The order of journals proves that neither side had seen the other.
    pub proven: bool,
    /// Why that is possible only, if so.
    pub doubt: Option<Doubt>,
    /// The writes, by node in the order in which they were made; of very many the first.
    pub writes: Vec<Written>,
    /// How many writes there are in all.
    pub count: usize,
    /// Pairs of them, by number, of which neither had seen the other.
    pub unseen: Vec<(usize, usize)>,
    /// The rows it is about: first the one that gave it its name.
    pub rows: Vec<RowNow>,
    /// Its standing.
    pub standing: ConflictStanding,
    /// The later write that had seen every side.
    pub healed_by: Option<(Id, Option<NodeId>)>,
    /// By node the write whose content it holds, by number.
    pub held: BTreeMap<NodeId, usize>,
    /// The rules that would explain what won; none if no visible one does.
    pub rules: Vec<WinningRule>,
    /// The key was counted up by the nodes: both gave out the same number.
    pub counted: bool,
    /// Columns in which both sides turned one number into the same other one: counting, one of them is lost.
    pub counted_alike: Vec<usize>,
    /// Of a change of shape: links that bring rows of the other shape, and how many were written.
    pub breaks: Vec<(NodeId, NodeId, u64)>,
}

/// Keeps of the rules that would explain what won those that more than one conflict of a run shows. That of
/// whatever comes last needs no more: it is how appliers work that ask nothing.
pub fn keep_shown_rules(conflicts: &mut [Conflict]) {
    let shown = |rule: WinningRule, conflicts: &[Conflict]| {
        conflicts.iter().filter(|conflict| conflict.rules.contains(&rule)).count()
    };
    let kept: Vec<WinningRule> =
        [WinningRule::LaterTime, WinningRule::HigherNode, WinningRule::FirstCome]
            .into_iter()
            .filter(|rule| shown(*rule, conflicts) > 1)
            .collect();
    for conflict in conflicts {
        conflict.rules.retain(|rule| *rule == WinningRule::LastCome || kept.contains(rule));
    }
}

impl Conflict {
    /// How many of its writes are lost.
    #[must_use]
    pub fn lost(&self) -> usize {
        self.writes.iter().filter(|write| write.fate.is_lost()).count()
    }

    /// Whether no two of its writes got in each other's way once it is known what they changed.
    #[must_use]
    pub fn is_void(&self) -> bool {
        let told = self.writes.len() == self.count;
        told && self.unseen.is_empty()
            && matches!(self.thing, Thing::Row(_))
            && !matches!(self.kind, ConflictKind::Skipped | ConflictKind::LastWrites)
    }

    /// Whether it leaves nothing to do: nothing lost, all alike.
    #[must_use]
    pub fn is_harmless(&self) -> bool {
        self.lost() == 0
            && self.counted_alike.is_empty()
            && matches!(self.standing, ConflictStanding::Alike | ConflictStanding::Healed)
    }

    /// The worst first: apart before alike, lost before harmless, proven before possible, then the latest.
    #[must_use]
    pub fn rank(
        &self,
    ) -> (ConflictStanding, bool, bool, ConflictKind, std::cmp::Reverse<Option<Micros>>) {
        let latest = self.writes.iter().filter_map(|write| write.made).max();
        (self.standing, self.lost() == 0, !self.proven, self.kind, std::cmp::Reverse(latest))
    }
}
