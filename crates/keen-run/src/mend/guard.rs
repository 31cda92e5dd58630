//! Whether what a step rests on still holds: the rows of a batch, read again on every node that was read for the plan.

use std::collections::{BTreeMap, HashMap};
use std::ops::ControlFlow;
use std::sync::Arc;

use keen_core::audit::merge::DivergentRow;
use keen_core::plan::{LocalTable, SharedColumns, Step, same_row};
use keen_core::row::batch::Layout;
use keen_core::row::key_order::put_key;
use keen_core::row::schema::TableShape;
use keen_core::topology::node_set::NodeSet;
use keen_core::topology::{NodeId, SetId, Topology};
use keen_core::value::Value;

use crate::audit::{AuditSink, TableHead, TableOutcome, WantedKeys};

/// The name of a row among all of a plan: its set, its table, and its key, or all of it where that is its key.
pub(super) type RowName = (SetId, String, Vec<u8>);

/// A row that a step writes.
pub(super) fn name_of(step: &Step) -> RowName {
    let layout = step.layout();
    let row = step.before().or(step.after());
    let own_key = step.copies.is_some();
    let mut token = vec![u8::from(own_key)];
    let cells = row.map_or(&[][..], |row| &row[..]);
    if own_key {
        cells.iter().for_each(|cell| put_key(&mut token, cell.as_ref()));
    } else {
        let key = layout.key.iter().filter_map(|at| cells.get(*at));
        key.for_each(|cell| put_key(&mut token, cell.as_ref()));
    }
    (step.set, step.table.clone(), token)
}

pub(super) fn name_of_found(set: SetId, table: &str, row: &DivergentRow) -> RowName {
    let own_key = row.key.is_empty();
    let mut token = vec![u8::from(own_key)];
    let put = |token: &mut Vec<u8>, cells: &[Value]| {
        cells.iter().for_each(|cell| put_key(token, cell.as_ref()));
    };
    if own_key {
        let whole = row.versions.iter().find_map(|version| version.row.as_ref());
        put(&mut token, whole.map_or(&[][..], |cells| &cells[..]));
    } else {
        put(&mut token, &row.key);
    }
    (set, table.to_owned(), token)
}

/// The keys of the rows of some steps, by table; a table of which a row is its own key is read whole.
pub(super) fn keys<'s>(steps: impl Iterator<Item = &'s Step>) -> WantedKeys {
    let mut keys: BTreeMap<(SetId, String), Option<Vec<Vec<Value>>>> = BTreeMap::new();
    for step in steps {
        let of_table =
            keys.entry((step.set, step.table.clone())).or_insert_with(|| Some(Vec::new()));
        if step.copies.is_some() {
            *of_table = None;
        } else if let (Some(keys), Some(row)) = (of_table, step.before().or(step.after())) {
            keys.push(step.layout().key.iter().filter_map(|at| row.get(*at).cloned()).collect());
        }
    }
    keys.into_iter().filter_map(|(table, keys)| Some((table, keys?.into()))).collect()
}

/// A table as nodes have it now.
#[derive(Debug)]
struct TableNow {
    layout: Option<Layout>,
    shapes: BTreeMap<NodeId, TableShape>,
    columns: BTreeMap<NodeId, Vec<String>>,
    /// Nodes on which it was not read, and why.
    unread: BTreeMap<NodeId, String>,
}

/// The rows of a batch that differ between nodes now. Those of them that are not there are alike everywhere.
#[derive(Debug, Default)]
pub(super) struct RowsNow {
    rows: HashMap<RowName, DivergentRow>,
    tables: BTreeMap<(SetId, String), TableNow>,
    locals: BTreeMap<(SetId, String, NodeId), Arc<LocalTable>>,
    at: Option<(SetId, String)>,
}

impl AuditSink for RowsNow {
    fn table(&mut self, head: &TableHead<'_>) -> ControlFlow<()> {
        let name = (head.set, head.table.to_owned());
        let table = TableNow {
            layout: head.layout.cloned(),
            shapes: head.shapes.clone(),
            columns: head.local_columns.clone(),
            unread: BTreeMap::new(),
        };
        self.tables.insert(name.clone(), table);
        self.at = Some(name);
        ControlFlow::Continue(())
    }

    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        if let Some((set, table)) = &self.at {
            self.rows.insert(name_of_found(*set, table, &row), row);
        }
        ControlFlow::Continue(())
    }

    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        if let Some(table) = self.at.as_ref().and_then(|name| self.tables.get_mut(name)) {
            let unread = outcome.unread.iter();
            table.unread = unread.map(|(node, fault)| (*node, fault.what.clone())).collect();
        }
        ControlFlow::Continue(())
    }
}

/// Whether a step may be made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Standing {
    /// Everything is as the plan has it.
    AsPlanned,
    /// Its node holds already what it should.
    Already,
    /// Something moved, or could not be looked at.
    Not(String),
}

/// The row of a node, and how often it is there.
type HeldRow<'r> = (Option<&'r Vec<Value>>, u64);

fn held_by(row: &DivergentRow, node: NodeId) -> HeldRow<'_> {
    if let Some((_, cells)) = row.outside.iter().find(|(other, _)| *other == node) {
        return (Some(cells), 1);
    }
    let version = row.versions.iter().find(|version| version.nodes.contains(&node));
    version.map_or((None, 0), |version| (version.row.as_deref(), version.count))
}

fn same(one: HeldRow<'_>, other: HeldRow<'_>) -> bool {
    one.1 == other.1 && same_row(one.0, other.0)
}

/// The row that a step leaves, and how often it is there.
fn after_of(step: &Step) -> HeldRow<'_> {
    let row = step.after().map(|row| &**row);
    let count = step.copies.map_or(u64::from(row.is_some()), |(_, wanted)| wanted);
    (row.filter(|_| count > 0), count)
}

fn before_of(step: &Step) -> HeldRow<'_> {
    let row = step.before().map(|row| &**row);
    let count = step.copies.map_or(u64::from(row.is_some()), |(had, _)| had);
    (row.filter(|_| count > 0), count)
}

impl RowsNow {
    fn table_of(&self, step: &Step) -> Option<&TableNow> {
        self.tables.get(&(step.set, step.table.clone()))
    }

    /// The table of a step as its node has it now.
    ///
    /// # Errors
    /// Why a step of the plan does not fit it.
    pub(super) fn local(
        &mut self,
        topology: &Topology,
        step: &Step,
    ) -> Result<Arc<LocalTable>, String> {
        let node = &topology.nodes[step.node].name;
        let place = (step.set, step.table.clone(), step.node);
        if let Some(known) = self.locals.get(&place) {
            return Ok(Arc::clone(known));
        }
        let table = self.table_of(step).ok_or_else(|| format!("{} was not read", step.table))?;
        if let Some(why) = table.unread.get(&step.node) {
            return Err(format!("{} of {node} could not be read: {why}", step.table));
        }
        let changed =
            || format!("the shape of {} on {node} is no longer that of the plan", step.table);
        if table.layout.as_ref() != Some(&**step.layout()) {
            return Err(changed());
        }
        let (shape, columns) = (table.shapes.get(&step.node), table.columns.get(&step.node));
        let (Some(shape), Some(columns)) = (shape, columns) else {
            return Err(format!("{} of {node} was not read", step.table));
        };
        let then = step.local();
        if *columns != then.columns || !looks_alike(shape, &then.shape) {
            return Err(changed());
        }
        let local = Arc::new(LocalTable {
            engine: then.engine,
            name: then.name.clone(),
            columns: columns.clone(),
            shape: shape.clone(),
            shared: SharedColumns::default(),
        });
        self.locals.insert(place, Arc::clone(&local));
        Ok(local)
    }

    /// Whether a step of a plan may be made. Of a write that is made in two, `leaves` is what both halves leave.
    pub(super) fn stands(&self, topology: &Topology, step: &Step, leaves: &Step) -> Standing {
        let name = |node: NodeId| &topology.nodes[node].name[..];
        let guard = step.guard();
        let Some(table) = self.table_of(step) else {
            return Standing::Not(format!("{} could not be read", step.table));
        };
        let mut nodes = guard.iter().flat_map(|version| &version.nodes);
        if let Some(node) = nodes.find(|node| table.unread.contains_key(node)) {
            let why = &table.unread[node];
            return Standing::Not(format!("{} could not be read: {why}", name(*node)));
        }
        let Some(row) = self.rows.get(&name_of(step)) else {
            // Alike everywhere. If that is what the plan found, the write itself meets only the row that it names.
            let was_alike = guard.len() == 1;
            return if was_alike { Standing::AsPlanned } else { Standing::Already };
        };
        let after = after_of(leaves);
        let own = held_by(row, step.node);
        if same(own, after) {
            return Standing::Already;
        }
        if !same(own, before_of(step)) {
            let node = name(step.node);
            return Standing::Not(format!("the row is no longer on {node} as the plan has it"));
        }
        for version in &guard {
            let then = (version.row.as_deref().filter(|_| version.count > 0), version.count);
            for node in version.nodes.iter().filter(|node| **node != step.node) {
                let now = held_by(row, *node);
                if !same(now, then) && !same(now, after) {
                    let node = name(*node);
                    return Standing::Not(format!(
                        "the row is no longer on {node} as it was when the plan was made"
                    ));
                }
            }
        }
        let guarded: NodeSet =
            guard.iter().flat_map(|version| version.nodes.iter().copied()).collect();
        let others = row.versions.iter().filter(|version| version.row.is_some());
        let others = others.flat_map(|version| version.nodes.iter().copied());
        let unknown = others.filter(|node| !guarded.contains(*node));
        match unknown.into_iter().find(|node| !same(held_by(row, *node), after)) {
            Some(node) => Standing::Not(format!(
                "{} holds the row, too, of which the plan did not know",
                name(node)
            )),
            None => Standing::AsPlanned,
        }
    }

    /// Whether a way back may be made: the row is still as it was left.
    pub(super) fn stands_back(&self, topology: &Topology, step: &Step) -> Standing {
        let Some(row) = self.rows.get(&name_of(step)) else { return Standing::AsPlanned };
        if same(held_by(row, step.node), before_of(step)) {
            return Standing::AsPlanned;
        }
        let node = &topology.nodes[step.node].name;
        Standing::Not(format!("the row is no longer on {node} as it was left"))
    }

    /// Of a step that was made, the node that held what it wrote and no longer does, if its own node still does.
    pub(super) fn source_moved(&self, step: &Step, leaves: &Step) -> Option<NodeId> {
        let row = self.rows.get(&name_of(step))?;
        let after = after_of(leaves);
        if !same(held_by(row, step.node), after) {
            return None;
        }
        let guard = step.guard();
        let sources = guard.iter().filter(|version| {
            same((version.row.as_deref().filter(|_| version.count > 0), version.count), after)
        });
        let mut sources = sources.flat_map(|version| version.nodes.iter().copied());
        sources.find(|node| *node != step.node && !same(held_by(row, *node), after))
    }
}

/// Whether two shapes take the same writes in the same way. A document keeps less of a shape than a node tells.
fn looks_alike(now: &TableShape, then: &TableShape) -> bool {
    let columns = |shape: &TableShape| -> Vec<(String, String, bool)> {
        shape.columns.iter().map(|c| (c.name.clone(), c.declared.clone(), c.generated)).collect()
    };
    let firing = |shape: &TableShape| -> Vec<(String, Vec<String>)> {
        shape.firing.iter().map(|t| (t.name.clone(), t.on.clone())).collect()
    };
    columns(now) == columns(then)
        && now.key == then.key
        && firing(now) == firing(then)
        && now.not_transactional == then.not_transactional
        && now.untouchable == then.untouchable
}
