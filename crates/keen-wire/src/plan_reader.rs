//! Reads the steps of a plan: each is checked against the topology and the tables that the plan names.

use std::sync::Arc;

use keen_core::audit::merge::Version;
use keen_core::plan::{AuditedTable, FoundRows, Step, StepParts};
use keen_core::row::batch::Layout;
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;

use crate::Unusable;
use crate::audit::{TableStart, audited_table};
use crate::envelope::ByNode;
use crate::plan::{GuardDocument, GuardRow, PlanStart, RowStepDocument, Side};
use crate::shape::{columns, key, layout, shapes};
use crate::value::{Cells, parse_value};

/// A row of a plan: none where there is none.
type PlanRow = Option<Arc<Vec<Value>>>;

/// A table of a plan, for its head.
#[must_use]
pub fn plan_table(topology: &Topology, table: &AuditedTable) -> TableStart {
    let shapes_of = table.nodes.iter().map(|(node, local)| (*node, local.shape.clone())).collect();
    let columns_of = table.nodes.iter().map(|(node, local)| (*node, local.columns.clone()));
    TableStart {
        table: table.table.clone(),
        set: topology.sets[table.set].name.clone(),
        columns: columns(&table.layout),
        key: key(&table.layout),
        notes: Vec::new(),
        shapes: shapes(topology, &table.table, &shapes_of, &columns_of.collect()),
    }
}

/// The tables of a plan, without rows.
///
/// # Errors
/// The reason why they cannot be used.
pub fn plan_tables(topology: &Topology, start: &PlanStart) -> Result<Vec<AuditedTable>, Unusable> {
    let table = |table: &TableStart| {
        let place = format!("table {} of set {}", table.table, table.set);
        let layout = layout(&table.columns, &table.key).map_err(|why| format!("{place}: {why}"))?;
        audited_table(topology, table.clone(), &ByNode::new(), layout, FoundRows::default())
    };
    start.tables.iter().map(table).collect()
}

/// A step, with the table that it writes to as the plan has it.
///
/// # Errors
/// The reason why it cannot be used: a node, a table or a column that is not in
/// the plan, cells that are no values, no guard.
pub fn plan_step(
    topology: &Topology,
    tables: &[AuditedTable],
    document: RowStepDocument,
) -> Result<Step, Unusable> {
    let node = node_of(topology, &document.node)?;
    let table = tables.iter().find(|table| {
        table.table == document.table && topology.sets[table.set].name == document.set
    });
    let table = table.ok_or_else(|| {
        format!(
            "table {} of set {} is not among the tables of the plan",
            document.table, document.set
        )
    })?;
    let local = table.nodes.get(&node).ok_or_else(|| {
        format!("the plan does not tell how {} looks on {}", document.table, document.node)
    })?;
    let layout = &table.layout;
    let before = document.before.map(|row| cells(layout, row)).transpose()?.map(Arc::new);
    let after = document.after.map(|row| cells(layout, row)).transpose()?.map(Arc::new);
    let read = GuardReader { topology, layout, node, before: &before, after: &after };
    let versions = read.versions(document.guard, document.copies.map(|copies| copies.before))?;
    let copies = document.copies.map(|copies| (copies.before, copies.after));
    let parts = StepParts {
        node,
        set: table.set,
        table: document.table,
        copies,
        reason: document.reason,
        loses: document.loses,
        onward: document.replicates_onward,
        before,
        after,
        versions,
    };
    let step = Step::told(parts, Arc::clone(local), Arc::clone(layout))?;
    if step.op.name() != document.op {
        return Err(format!("it says {}, and its rows say {}", document.op, step.op.name()));
    }
    let key: Result<Vec<(String, Value)>, Unusable> =
        document.key.0.iter().map(|(name, json)| Ok((name.clone(), value(name, json)?))).collect();
    let key = key?;
    let told = |(name, cell): &(String, Value)| {
        key.iter().any(|(other, value)| other == name && value.same_as(cell))
    };
    if key.len() != step.key.len() || !step.key.iter().all(told) {
        return Err("its key is not that of its row".to_owned());
    }
    Ok(step)
}

fn node_of(topology: &Topology, name: &str) -> Result<NodeId, Unusable> {
    topology.node(name).ok_or_else(|| format!("node {name} is not in the topology file"))
}

fn value(name: &str, json: &serde_json::Value) -> Result<Value, Unusable> {
    parse_value(json).ok_or_else(|| format!("column {name} holds no value that keen writes"))
}

/// The cells of a row in canonical order.
fn cells(layout: &Layout, Cells(mut row): Cells) -> Result<Vec<Value>, Unusable> {
    let cell = |column: &keen_core::row::batch::Column| {
        let json = row.remove(&column.name);
        value(&column.name, &json.ok_or_else(|| format!("a row lacks column {}", column.name))?)
    };
    let cells = layout.columns.iter().map(cell).collect::<Result<Vec<Value>, Unusable>>()?;
    match row.keys().next() {
        Some(other) => Err(format!("a row has a column {other} that was not compared")),
        None => Ok(cells),
    }
}

/// Reads the guard of a step.
struct GuardReader<'a> {
    topology: &'a Topology,
    layout: &'a Layout,
    node: NodeId,
    before: &'a PlanRow,
    after: &'a PlanRow,
}

impl GuardReader<'_> {
    fn versions(
        &self,
        guard: Vec<GuardDocument>,
        copies: Option<u64>,
    ) -> Result<Vec<Version>, Unusable> {
        let mut versions: Vec<Version> = Vec::new();
        for held in guard {
            let row = match held.row {
                None => None,
                Some(GuardRow::Side(Side::Before)) => self.side(self.before, "before")?,
                Some(GuardRow::Side(Side::After)) => self.side(self.after, "after")?,
                Some(GuardRow::Cells(row)) => Some(Arc::new(cells(self.layout, row)?)),
            };
            let nodes = held.nodes.iter().map(|name| node_of(self.topology, name));
            let nodes = nodes.collect::<Result<Vec<NodeId>, Unusable>>()?;
            let twice = |node: &NodeId| versions.iter().any(|known| known.nodes.contains(node));
            if let Some(node) = nodes.iter().find(|node| twice(node)) {
                let name = &self.topology.nodes[*node].name;
                return Err(format!("its guard names {name} twice"));
            }
            let count = held.count.unwrap_or(u64::from(row.is_some()));
            versions.push(Version { nodes, row, count });
        }
        let own = versions.iter().find(|version| version.nodes.contains(&self.node));
        let own = own.ok_or("it has no guard for its own node")?;
        let expected = copies.unwrap_or(u64::from(self.before.is_some()));
        let same = keen_core::plan::same_row(own.row.as_deref(), self.before.as_deref());
        if !same || own.count != expected {
            return Err("its guard and its row before are not the same".to_owned());
        }
        Ok(versions)
    }

    fn side(&self, row: &PlanRow, name: &str) -> Result<PlanRow, Unusable> {
        match row {
            Some(_) => Ok(row.clone()),
            None => Err(format!("its guard names the row {name} it, and there is none")),
        }
    }
}
