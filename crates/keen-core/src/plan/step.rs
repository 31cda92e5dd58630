//! One write of a plan, with its guard and its way back.
//!
//! A step keeps the row before and after; its statements are made when they are wanted.

use crate::audit::merge::Version;
use crate::history::journal::RowOp;
use crate::topology::node_set::NodeSet;
use std::sync::Arc;

use super::alike::GroupsOfNode;
use super::judge::{Task, loses};
use super::order::{self, Ties};
use super::sql::statement::{Statement, TableSql};
use super::{LocalTable, key_cells};
use crate::row::batch::Layout;
use crate::topology::{NodeId, SetId};
use crate::value::Value;

/// A column, its cell before and its cell after; none where there is no row.
pub type CellChange<'s> = (&'s str, Option<&'s Value>, Option<&'s Value>);

/// One write on one node.
#[derive(Debug, Clone, PartialEq)]
pub struct Step {
    /// Where.
    pub node: NodeId,
    /// For which set.
    pub set: SetId,
    /// The table, as the set names it.
    pub table: String,
    /// Which row: its key, or the whole row where that is its key.
    pub key: Vec<(String, Value)>,
    /// The kind of write.
    pub op: RowOp,
    /// For a row that is its own key: how often it is there before and after.
    pub copies: Option<(u64, u64)>,
    /// Why this is right.
    pub reason: String,
    /// The loss of the node; none if nothing is lost.
    pub loses: Option<String>,
    /// Whether it would replicate onward.
    pub onward: String,
    /// The table and what keeps it, if that rolls nothing back.
    pub kept_by: Option<String>,
    /// The versions that the decision rests on, and who holds each. A node of which the row is not expected is in
    /// none.
    pub(super) versions: Vec<Version>,
    /// The parts that its statements are made from, when they are wanted.
    pub(super) made_from: MadeFrom,
    /// The nodes that come right by it without a step of their own.
    pub(super) arrives: NodeSet,
}

/// A step as a document tells it: data alone.
#[derive(Debug, Clone, PartialEq)]
pub struct StepParts {
    /// Where.
    pub node: NodeId,
    /// For which set.
    pub set: SetId,
    /// The table, as the set names it.
    pub table: String,
    /// For a row that is its own key: how often it is there before and after.
    pub copies: Option<(u64, u64)>,
    /// Why this is right.
    pub reason: String,
    /// The loss of the node; none if nothing is lost.
    pub loses: Option<String>,
    /// Whether it would replicate onward.
    pub onward: String,
    /// The row before it; none if there is none.
    pub before: Option<Arc<Vec<Value>>>,
    /// The row after it; none if there is none.
    pub after: Option<Arc<Vec<Value>>>,
    /// The versions that it rests on.
    pub versions: Vec<Version>,
}

/// The parts that the statements of a step are made from.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct MadeFrom {
    local: Arc<LocalTable>,
    layout: Arc<Layout>,
    before: Option<Arc<Vec<Value>>>,
    after: Option<Arc<Vec<Value>>>,
    part: UpdatePart,
}

/// How much of an update a step makes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum UpdatePart {
    Whole,
    /// It takes the row out, and another puts it back changed.
    Out,
    /// It puts it back.
    Back,
}

impl Step {
    /// Its ties to others.
    pub(super) fn ties(&self, alike: &GroupsOfNode) -> Ties {
        let MadeFrom { local, before, after, .. } = &self.made_from;
        let sides = (before.as_deref(), after.as_deref());
        order::ties(self.node, local, sides, self.copies.is_some(), alike)
    }

    /// The part of it that is made.
    pub(super) fn part(mut self, part: UpdatePart) -> Self {
        let word = match part {
            UpdatePart::Whole => return self,
            UpdatePart::Out => "taken out first",
            UpdatePart::Back => "put back changed",
        };
        self.op = if part == UpdatePart::Out { RowOp::Delete } else { RowOp::Insert };
        self.reason = format!("{}; {word}, because rows exchange a unique value", self.reason);
        self.made_from.part = part;
        self
    }
}

impl Step {
    /// The write, which does nothing unless its guard holds, and the way back.
    #[must_use]
    pub fn write_and_undo(&self) -> (Guarded<'_>, Guarded<'_>) {
        let MadeFrom { local, layout, before, after, part } = &self.made_from;
        let sql = TableSql { local, layout };
        let (before, after) =
            (before.as_deref().map(Vec::as_slice), after.as_deref().map(Vec::as_slice));
        if let (Some((had, wanted)), Some(row)) = (self.copies, after.or(before)) {
            return match wanted.checked_sub(had) {
                Some(more) => (sql.add_copies(row, had, more), sql.drop_copies(row, wanted, more)),
                None => {
                    let less = had - wanted;
                    (sql.drop_copies(row, had, less), sql.add_copies(row, wanted, less))
                }
            };
        }
        let (write, mut undo) = match (before, after, part) {
            (Some(before), None, _) | (Some(before), Some(_), UpdatePart::Out) => {
                return (sql.delete(before), sql.insert(before));
            }
            (Some(_), Some(after), UpdatePart::Back) => {
                return (sql.insert(after), sql.delete(after));
            }
            (Some(before), Some(after), UpdatePart::Whole) => {
                (sql.update(before, after), sql.update(after, before))
            }
            (None, Some(after), _) => (sql.insert(after), sql.delete(after)),
            (None, None, _) => unreachable!("a step is made from a row"),
        };
        undo.condition = "the row still reads as this step left it".to_owned();
        (write, undo)
    }

    /// The step that a document tells, on the table as the node has it.
    ///
    /// # Errors
    /// Why it is no step.
    pub fn told(
        parts: StepParts,
        local: Arc<LocalTable>,
        layout: Arc<Layout>,
    ) -> Result<Self, String> {
        let StepParts { node, set, table, copies, reason, loses, onward, before, after, versions } =
            parts;
        let op = match (&before, &after, copies) {
            (None, None, _) => return Err("it has no row, neither before nor after".to_owned()),
            (_, _, Some((had, wanted))) if had == wanted => {
                return Err("it changes nothing".to_owned());
            }
            (_, _, Some((had, wanted))) if had < wanted => RowOp::Insert,
            (_, _, Some(_)) | (Some(_), None, _) => RowOp::Delete,
            (None, Some(_), _) => RowOp::Insert,
            (Some(before), Some(after), _) => {
                let key = |row: &Vec<Value>| -> Vec<Value> {
                    layout.key.iter().filter_map(|at| row.get(*at).cloned()).collect()
                };
                if layout.key.is_empty() || key(before) != key(after) {
                    return Err("it would change the key of the row".to_owned());
                }
                RowOp::Update
            }
        };
        let of = before.as_ref().or(after.as_ref());
        let cell = |at: &usize| Some((layout.columns[*at].name.clone(), of?.get(*at)?.clone()));
        let own_key = copies.is_some() || layout.key.is_empty();
        let key = if own_key { &layout.shown } else { &layout.key };
        let key = key.iter().filter_map(cell).collect();
        let kept_by = local.kept_by();
        let part = UpdatePart::Whole;
        let made_from = MadeFrom { local, layout, before, after, part };
        let arrives = NodeSet::EMPTY;
        Ok(Self {
            node,
            set,
            table,
            key,
            op,
            copies,
            reason,
            loses,
            onward,
            kept_by,
            versions,
            made_from,
            arrives,
        })
    }

    /// The same on the table as the node has it now.
    #[must_use]
    pub fn on(mut self, local: &Arc<LocalTable>) -> Self {
        self.kept_by = local.kept_by();
        self.made_from.local = Arc::clone(local);
        self
    }

    /// The table as the node has it.
    #[must_use]
    pub fn local(&self) -> &Arc<LocalTable> {
        &self.made_from.local
    }

    /// The layout that its rows are by.
    #[must_use]
    pub fn layout(&self) -> &Arc<Layout> {
        &self.made_from.layout
    }

    /// The row before it; none if there is none.
    #[must_use]
    pub fn before(&self) -> Option<&Arc<Vec<Value>>> {
        self.made_from.before.as_ref().filter(|_| self.made_from.part != UpdatePart::Back)
    }

    /// The row after it; none if there is none.
    #[must_use]
    pub fn after(&self) -> Option<&Arc<Vec<Value>>> {
        self.made_from.after.as_ref().filter(|_| self.made_from.part != UpdatePart::Out)
    }

    /// What each node has to hold for the step to be right: the versions that the decision rests on. Its own node
    /// holds the row before it.
    #[must_use]
    pub fn guard(&self) -> Vec<Version> {
        let mut versions = self.versions.clone();
        for version in &mut versions {
            version.nodes.retain(|node| *node != self.node);
        }
        versions.retain(|version| !version.nodes.is_empty());
        let row = self.before().cloned();
        let count = self.copies.map_or(u64::from(row.is_some()), |(had, _)| had);
        let alike = |version: &&mut Version| {
            version.count == count && same_row(version.row.as_deref(), row.as_deref())
        };
        match versions.iter_mut().find(alike) {
            Some(version) => version.nodes.push(self.node),
            None => versions.push(Version { nodes: vec![self.node], row, count }),
        }
        versions
    }

    /// The way back: the same step with before and after exchanged. It rests on nothing but what this one wrote.
    #[must_use]
    pub fn reversed(&self) -> Self {
        let (before, after) = (self.after().cloned(), self.before().cloned());
        let op = match self.op {
            RowOp::Insert => RowOp::Delete,
            RowOp::Update => RowOp::Update,
            RowOp::Delete => RowOp::Insert,
        };
        Self {
            op,
            copies: self.copies.map(|(had, wanted)| (wanted, had)),
            reason: "it was written by keen mend".to_owned(),
            loses: None,
            versions: Vec::new(),
            made_from: MadeFrom {
                before,
                after,
                part: UpdatePart::Whole,
                ..self.made_from.clone()
            },
            ..self.clone()
        }
    }

    /// Cells that change, as (column, before, after); for an insert or delete the whole row.
    #[must_use]
    pub fn changes(&self) -> Vec<CellChange<'_>> {
        let MadeFrom { layout, before, after, part, .. } = &self.made_from;
        let (before, after) = (before.as_deref(), after.as_deref());
        let updates = self.op == RowOp::Update || *part != UpdatePart::Whole;
        let changes = layout.shown.iter().map(|i| {
            (
                &layout.columns[*i].name[..],
                before.and_then(|row| row.get(*i)),
                after.and_then(|row| row.get(*i)),
            )
        });
        let changes = changes.filter(|(_, before, after)| {
            let same = before.zip(*after).is_some_and(|(b, a)| b.same_as(a));
            !updates || !same
        });
        changes.collect()
    }

    /// Queries that count nothing once the node's steps are done, unless a reference would lead nowhere; each with
    /// what is said then.
    #[must_use]
    pub fn references(&self) -> Vec<(Statement<'_>, String)> {
        let MadeFrom { local, layout, before, after, .. } = &self.made_from;
        let (before, after) = (before.as_deref(), after.as_deref());
        TableSql { local, layout }.orphans(before.map(Vec::as_slice), after.map(Vec::as_slice))
    }
}

/// A write with the condition under which it may run.
#[derive(Debug, Clone, PartialEq)]
pub struct Guarded<'v> {
    /// The write.
    pub statement: Statement<'v>,
    /// How many rows it must change.
    pub changes: u64,
    /// Counts rows; yields `expected` exactly when the row is as the audit saw it.
    pub guard: Statement<'v>,
    /// The number that the guard must yield.
    pub expected: u64,
    /// The guard in words.
    pub condition: String,
}

/// The step that a task comes to.
pub(super) fn of(local: &Arc<LocalTable>, task: &Task<'_>, reason: &str, onward: String) -> Step {
    let layout = &task.table.layout;
    let multiset = task.row.key.is_empty();
    let op = op(task);
    let mut reason = reason.to_owned();
    if task.row.outside.iter().any(|(node, _)| *node == task.node) {
        reason.push_str("; the row is there, outside the set's filter");
    }
    let cells = |row: Option<(&Arc<Vec<Value>>, u64)>| row.map(|(cells, _)| Arc::clone(cells));
    Step {
        node: task.node,
        set: task.table.set,
        table: task.table.table.clone(),
        key: key_cells(task.table, task.row),
        op,
        copies: multiset.then(|| (task.before.map_or(0, |b| b.1), task.after.map_or(0, |a| a.1))),
        reason,
        loses: loses(task),
        onward,
        kept_by: local.kept_by(),
        versions: versions(task),
        made_from: MadeFrom {
            local: Arc::clone(local),
            layout: Arc::clone(layout),
            before: cells(task.before),
            after: cells(task.after),
            part: UpdatePart::Whole,
        },
        arrives: NodeSet::EMPTY,
    }
}

/// The versions that a task rests on. A row that a filter leaves out is there all the same.
fn versions(task: &Task<'_>) -> Vec<Version> {
    let mut versions = task.row.versions.clone();
    for (node, cells) in &task.row.outside {
        for version in &mut versions {
            version.nodes.retain(|other| other != node);
        }
        versions.push(Version { nodes: vec![*node], row: Some(Arc::clone(cells)), count: 1 });
    }
    versions.retain(|version| !version.nodes.is_empty());
    versions
}

/// Whether two rows, or the lack of them, are the same.
#[must_use]
pub fn same_row(one: Option<&Vec<Value>>, other: Option<&Vec<Value>>) -> bool {
    match (one, other) {
        (None, None) => true,
        (Some(one), Some(other)) => {
            one.len() == other.len() && one.iter().zip(other).all(|(a, b)| a.same_as(b))
        }
        _ => false,
    }
}

/// The effect of a task on the row of its node.
pub(super) fn op(task: &Task<'_>) -> RowOp {
    let multiset = task.row.key.is_empty();
    match (task.before, task.after) {
        (Some((_, had)), Some((_, wanted))) if multiset && wanted > had => RowOp::Insert,
        (Some(_), Some(_)) if multiset => RowOp::Delete,
        (Some(_), Some(_)) => RowOp::Update,
        (None, Some(_)) => RowOp::Insert,
        (Some(_), None) => RowOp::Delete,
        (None, None) => unreachable!("a node that holds no row and should hold none has no task"),
    }
}
