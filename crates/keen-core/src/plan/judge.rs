//! The treatment of one divergent row: steps, or a question.

use crate::row::conversion::is_whole;
use crate::topology::node_set::NodeSet;
use std::borrow::Cow;
use std::sync::Arc;

use super::answer::Answers;
use super::decide::{self, Decision};
use super::evidence::{Evidence, OfRow};
use super::listed::RowAt;
use super::sql::statement;
use super::{
    AuditedTable, Choice, ChoiceContent, LocalTable, Question, Step, key_cells, named, step,
};
use crate::audit::merge::{DivergentRow, Version};
use crate::row::batch::Column;
use crate::row::conversion::CommonKind;
use crate::row::schema::{ColumnShape, Family, Trigger};
use crate::topology::placement::Expectation;
use crate::topology::{Engine, NodeId, Topology};
use crate::value::Value;

/// The row of one node now, and as it is to be.
pub(super) struct Task<'a> {
    pub(super) table: &'a AuditedTable,
    pub(super) row: &'a DivergentRow,
    pub(super) node: NodeId,
    pub(super) before: Option<(&'a Arc<Vec<Value>>, u64)>,
    pub(super) after: Option<(&'a Arc<Vec<Value>>, u64)>,
    /// The nodes that hold it already.
    pub(super) holders: &'a [NodeId],
}

/// The treatment of a row. The same comes out whenever it is asked.
pub(super) enum Treatment<'a> {
    /// Only a person can decide, for this reason.
    Open(String),
    /// Nodes are put right.
    Right(PutRight<'a>),
}

/// How nodes are put right.
pub(super) struct PutRight<'a> {
    pub(super) reason: String,
    pub(super) tasks: Vec<Task<'a>>,
    /// The nodes that come right, also those that need no step of their own.
    pub(super) moved: NodeSet,
    /// From where to where a step goes on and puts right, too.
    pub(super) arriving: Vec<(NodeId, NodeId)>,
}

/// Judges rows by what is known.
#[derive(Debug, Clone, Copy)]
pub(super) struct Judge<'a> {
    pub(super) topology: &'a Topology,
    pub(super) evidence: &'a Evidence,
    pub(super) answers: &'a Answers,
}

impl Judge<'_> {
    /// Judges a divergent row of this place.
    pub(super) fn row<'r>(
        &self,
        table: &'r AuditedTable,
        expectation: &Expectation,
        place: RowAt,
        row: &'r DivergentRow,
    ) -> Treatment<'r> {
        let concern: NodeSet = row.versions.iter().flat_map(|v| &v.nodes).collect::<NodeSet>();
        let of_row = self.of_row(table, place.row as usize, row);
        let of_row = of_row.as_deref();
        let known = |text: String| match of_row {
            Some(OfRow { words: Some(words), .. }) => format!("{text}; {words}"),
            _ => text,
        };
        let decision = match self.answers.version(place, row) {
            Some(version) => match homeless(expectation, row, version) {
                Some(why) => Decision::Open(why),
                None => {
                    let reason = "decided by hand".to_owned();
                    Decision::Right { version, reason, counted: false }
                }
            },
            None => decide::decide(self.topology, table, expectation, row, of_row),
        };
        let (version, reason, counted) = match decision {
            Decision::Right { version, reason, counted } => (version, known(reason), counted),
            Decision::Open(why) => return Treatment::Open(known(why)),
        };
        let right = &row.versions[version];
        let after = right.row.as_ref().map(|cells| (cells, right.count));
        let holders = &right.nodes[..];
        let mut tasks: Vec<Task<'r>> = Vec::new();
        for held in row.versions.iter().filter(|held| !std::ptr::eq(*held, right)) {
            for node in &held.nodes {
                let beyond = row
                    .outside
                    .iter()
                    .find(|(other, _)| other == node)
                    .map(|(_, cells)| (cells, 1));
                let before = held.row.as_ref().map(|cells| (cells, held.count)).or(beyond);
                tasks.push(Task { table, row, node: *node, before, after, holders });
            }
        }
        if after.is_some() {
            // Whoever those nodes feed should hold the row too, and held none until now.
            let fed = concern
                .iter()
                .fold(NodeSet::EMPTY, |nodes, node| nodes | expectation.reached_from(node));
            for node in (fed & !concern & !table.unread).iter() {
                tasks.push(Task { table, row, node, before: None, after, holders });
            }
        }
        tasks.retain(|task| {
            !(task.after.is_none() && row.outside.iter().any(|(node, _)| *node == task.node))
        });
        // Most of them holding something else is no reason to take away what nobody else has.
        if counted && let Some(task) = tasks.iter().find(|task| loses(task).is_some()) {
            let lost = loses(task).unwrap_or_default();
            return Treatment::Open(format!(
                "{reason}; but {lost} on {} would be lost, which none of them has",
                self.topology.nodes[task.node].name
            ));
        }
        if let Some(why) = tasks.iter().find_map(|task| self.obstacle(task)) {
            return Treatment::Open(why);
        }
        let moved = tasks.iter().map(|task| task.node).collect::<NodeSet>();
        match self.spare_what_arrives(&mut tasks, concern) {
            Ok(arriving) => Treatment::Right(PutRight { reason, tasks, moved, arriving }),
            Err(why) => Treatment::Open(format!("{reason}; but {why}")),
        }
    }

    /// The evidence of conflicts on a row, and when nodes say that it was written.
    fn of_row(
        &self,
        table: &AuditedTable,
        at: usize,
        row: &DivergentRow,
    ) -> Option<Cow<'_, OfRow>> {
        let known = self.evidence.of(&table.table, &row.key);
        let mut told = table.written.of(at).peekable();
        if told.peek().is_none() {
            return known.map(Cow::Borrowed);
        }
        let mut of_row = known.cloned().unwrap_or_default();
        of_row.written.extend(told);
        Some(Cow::Owned(of_row))
    }

    /// The question to a person about a row.
    pub(super) fn question(
        &self,
        table: &AuditedTable,
        row: &DivergentRow,
        why: String,
    ) -> Question {
        // A version that only an answer made is none that somebody holds.
        let held = row.versions.iter().filter(|version| !version.nodes.is_empty());
        let merged = self.merged(table, row);
        let choices =
            merged.into_iter().chain(held.map(|version| self.choice(table, row, version)));
        let choices = choices.collect();
        let key = key_cells(table, row);
        Question { set: table.set, table: table.table.clone(), key, why, choices }
    }

    fn choice(&self, table: &AuditedTable, row: &DivergentRow, kept: &Version) -> Choice {
        let columns: Vec<&str> = table
            .layout
            .shown
            .iter()
            .filter(|i| row.differing.contains(i))
            .map(|i| &table.layout.columns[*i].name[..])
            .collect();
        let mut losses: Vec<(String, Vec<NodeId>)> = Vec::new();
        for other in row.versions.iter().filter(|other| !std::ptr::eq(*other, kept)) {
            let what = match (&other.row, &kept.row) {
                (Some(_), None) => "the row".to_owned(),
                (Some(_), Some(_)) if columns.is_empty() => "the number of equal rows".to_owned(),
                (Some(_), Some(_)) => columns.join(", "),
                // Whether it was ever there, rows do not tell.
                (None, _) => "the deletion, if it was one,".to_owned(),
            };
            match losses.iter_mut().find(|(known, _)| *known == what) {
                Some((_, nodes)) => nodes.extend(&other.nodes),
                None => losses.push((what, other.nodes.clone())),
            }
        }
        let losses: Vec<String> = (losses.iter())
            .map(|(what, nodes)| format!("{what} on {}", self.names(nodes)))
            .collect();
        Choice {
            content: ChoiceContent::Held,
            nodes: kept.nodes.clone(),
            copies: row.key.is_empty().then_some(kept.count),
            row: kept.row.as_ref().map(|cells| named(&table.layout, cells)),
            loses: if losses.is_empty() { "nothing".to_owned() } else { losses.join("; ") },
        }
    }

    /// What each side changed, put together, where journals prove that each changed other columns and nodes hold nothing
    /// later.
    fn merged(&self, table: &AuditedTable, row: &DivergentRow) -> Option<Choice> {
        let changed = self.evidence.of(&table.table, &row.key)?.changed.as_ref()?;
        let mut merged: Vec<Value> = row.versions.iter().find_map(|v| v.row.as_deref())?.clone();
        for (at, cell) in changed {
            // What is neither is of a later write.
            let known = |value: &Value| value.same_as(&cell.before) || value.same_as(&cell.after);
            let mut rows = row.versions.iter().filter_map(|version| version.row.as_ref());
            if !rows.all(|row| row.get(*at).is_some_and(known)) {
                return None;
            }
            *merged.get_mut(*at)? = cell.after.clone();
        }
        // Nothing else differs.
        let open = row.differing.iter().any(|at| !changed.contains_key(at));
        if open || row.versions.iter().any(|version| version.row.is_none()) {
            return None;
        }
        Some(Choice {
            content: ChoiceContent::Merged,
            nodes: Vec::new(),
            row: Some(named(&table.layout, &merged)),
            copies: None,
            loses: "nothing".to_owned(),
        })
    }

    /// Why a node cannot be given what it should hold without losing something, if so.
    pub(super) fn obstacle(&self, task: &Task<'_>) -> Option<String> {
        let node = &self.topology.nodes[task.node].name;
        let Some(local) = task.table.nodes.get(&task.node) else {
            return Some(format!("{node} was not read, and this row belongs there too"));
        };
        if let Some(why) = &local.shape.untouchable {
            return Some(format!("{node} {why}"));
        }
        let obstacle = firing_trigger(task, local, node)
            .or_else(|| columns_beyond(task, local, node))
            .or_else(|| unpickable(task, local, node))
            .or_else(|| error_value_lost(task, local, node));
        if obstacle.is_some() {
            return obstacle;
        }
        let multiset = task.row.key.is_empty();
        let (after, _) = task.after?;
        let before = task.before.filter(|_| !multiset).map(|(cells, _)| cells);
        let columns = task.table.layout.columns.iter().zip(&local.columns).zip(after.iter());
        columns.enumerate().find_map(|(i, ((common, name), value))| {
            let column = local.shape.column(name)?;
            let written = !column.generated && before.is_none_or(|cells| !cells[i].same_as(value));
            if written { self.unwritable(task, local, (common, column), value) } else { None }
        })
    }

    /// Why a node cannot be given a value, if so.
    fn unwritable(
        &self,
        task: &Task<'_>,
        local: &LocalTable,
        (common, column): (&Column, &ColumnShape),
        value: &Value,
    ) -> Option<String> {
        let node = &self.topology.nodes[task.node].name;
        if let Some(why) = local.engine.dialect().cannot_hold(column, value) {
            return Some(format!(
                "{node} declares {} as {} and {why}: it would not store {} unchanged",
                column.name,
                column.declared,
                value.kind()
            ));
        }
        if *value == Value::Null {
            return None;
        }
        // Compared by value, a JSON text has lost its spelling, which is what engines tell rows by.
        let alike = |holder: &NodeId| {
            task.table.nodes.get(holder).is_some_and(|other| other.engine == local.engine)
        };
        if common.reading.kind == CommonKind::ByValue
            && column.family == Family::Json
            && let Some(holder) = task.holders.iter().find(|holder| alike(holder))
        {
            return Some(format!(
                "{} is compared by value, and {node} would get it in another spelling than the one on {}: copy it from there",
                common.name, self.topology.nodes[*holder].name
            ));
        }
        (!is_whole(&common.reading, column.family)).then(|| {
            format!(
                "{} is compared in part only ({}), so keen does not know all that {node} should hold",
                common.name,
                common.reading.in_words()
            )
        })
    }

    /// The step that a task comes to.
    pub(super) fn step(
        &self,
        local: &Arc<LocalTable>,
        task: &Task<'_>,
        reason: &str,
        arriving: &[(NodeId, NodeId)],
    ) -> Step {
        let onward = self.onward(local, task.table.set, task.node);
        let mut step = step::of(local, task, reason, onward);
        let own = arriving.iter().filter(|(from, _)| *from == task.node);
        step.arrives = own.map(|(_, to)| *to).collect::<NodeSet>();
        step
    }

    pub(super) fn names(&self, nodes: &[NodeId]) -> String {
        nodes.iter().map(|node| &self.topology.nodes[*node].name[..]).collect::<Vec<_>>().join(", ")
    }
}

/// Why a row that is to be held has no place among sources that hold other rows each, if so.
fn homeless(expectation: &Expectation, row: &DivergentRow, right: usize) -> Option<String> {
    row.versions[right].row.as_ref()?;
    let makers = expectation.makers();
    let of = |version: &Version| version.nodes.iter().copied().collect::<NodeSet>();
    let holders = row.versions.iter().filter(|version| version.row.is_some()).map(of);
    let held = holders.fold(NodeSet::EMPTY, |all, nodes| all | nodes);
    let concern = row.versions.iter().map(of).fold(NodeSet::EMPTY, |all, nodes| all | nodes);
    let sources = concern & makers & !held;
    let one_group = sources.iter().all(|a| sources.is_within(expectation.reached_from(a)));
    (!held.meets(makers) && !one_group)
        .then(|| "it is not known to which of its sources this row belongs".to_owned())
}

/// The loss of a node by a task, in a few words; none if nothing is lost.
pub(super) fn loses(task: &Task<'_>) -> Option<String> {
    let layout = &task.table.layout;
    match (task.before, task.after) {
        (None, _) => None,
        (Some(_), None) => Some("the row".to_owned()),
        (Some((_, had)), Some((_, wanted))) if task.row.key.is_empty() => {
            match had.checked_sub(wanted) {
                None | Some(0) => None,
                Some(1) => Some("one of equal rows".to_owned()),
                Some(copies) => Some(format!("{copies} of equal rows")),
            }
        }
        (Some((before, _)), Some((after, _))) => {
            // Where there was nothing, nothing is lost.
            let replaced = layout
                .shown
                .iter()
                .filter(|i| before[**i] != Value::Null && !before[**i].same_as(&after[**i]));
            let names: Vec<&str> = replaced.map(|i| &layout.columns[*i].name[..]).collect();
            (!names.is_empty()).then(|| names.join(", "))
        }
    }
}

/// A text on one line, cut where it gets long.
fn shortened(text: &str) -> String {
    let line = text.split_whitespace().collect::<Vec<_>>().join(" ");
    let kept: String = line.chars().take(120).collect();
    if kept.len() < line.len() { format!("{kept}...") } else { kept }
}

/// A trigger that would write more than the repair.
fn firing_trigger(task: &Task<'_>, local: &LocalTable, node: &str) -> Option<String> {
    let op = step::op(task);
    let fires = |trigger: &&Trigger| trigger.on.iter().any(|on| on == op.name());
    let trigger = local.shape.firing.iter().find(fires)?;
    Some(format!(
        "{} on {node} has a trigger that fires on this {} and would write more than the repair ({}: {}); no session can switch it off",
        local.name,
        op.name(),
        trigger.name,
        shortened(&trigger.text)
    ))
}

/// Columns that the set does not carry: a deletion would lose them, and a new row may need them.
fn columns_beyond(task: &Task<'_>, local: &LocalTable, node: &str) -> Option<String> {
    let carried =
        |column: &&ColumnShape| local.columns.iter().any(|c| c.eq_ignore_ascii_case(&column.name));
    let beyond: Vec<&ColumnShape> =
        local.shape.columns.iter().filter(|column| !carried(column)).collect();
    if task.after.is_none() && task.before.is_some() && !beyond.is_empty() {
        let names: Vec<&str> = beyond.iter().map(|column| &column.name[..]).collect();
        return Some(format!(
            "deleting the row on {node} would lose {}, which the set does not carry and an undo could not bring back",
            names.join(", ")
        ));
    }
    let needed = beyond.iter().find(|column| !column.optional).filter(|_| task.before.is_none())?;
    Some(format!(
        "{node} needs a value for {} to hold the row, and the set does not carry that column",
        needed.name
    ))
}

/// One of several equal rows that nothing tells from the others.
fn unpickable(task: &Task<'_>, local: &LocalTable, node: &str) -> Option<String> {
    let fewer = task.after.map_or(0, |a| a.1) < task.before.map_or(0, |b| b.1);
    let hidden = local.engine == Engine::Sqlite && statement::rowid_name(&local.shape).is_none();
    (task.row.key.is_empty() && fewer && hidden).then(|| {
        format!(
            "columns of {} on {node} hide the rowid, so one of several equal rows cannot be picked",
            local.name
        )
    })
}

/// A value that the node holds and that no undo could write again.
fn error_value_lost(task: &Task<'_>, local: &LocalTable, node: &str) -> Option<String> {
    let (cells, _) = task.before.filter(|_| !task.row.key.is_empty())?;
    let goes = |i: usize| task.after.is_none_or(|(after, _)| !after[i].same_as(&cells[i]));
    let (_, name) = local.columns.iter().enumerate().find(|(i, name)| {
        let column = local.shape.column(name);
        column.is_some_and(|c| local.engine.dialect().is_error_value(c, &cells[*i])) && goes(*i)
    })?;
    Some(format!(
        "{name} on {node} holds the error value of an enumeration, which an undo could not write again"
    ))
}
