//! Whether somebody wrote a row between two looks that found it the same.

use std::collections::{BTreeMap, HashMap};
use std::ops::ControlFlow;

use keen_core::audit::merge::DivergentRow;
use keen_core::fault::ReadFault;
use keen_core::row::batch::Layout;
use keen_core::row::schema::TableShape;
use keen_core::topology::{NodeId, Topology};

use crate::opener::OpenRows;
use crate::rows_by_key::of_key;

/// Of more rows it is not asked: then they are looked at more often instead.
const MOST_ROWS: usize = 1000;
/// Rows that one statement asks for.
const AT_ONCE: usize = 200;

/// Whether so many rows are few enough to be asked for.
pub(super) fn few(rows: usize) -> ControlFlow<()> {
    if rows > MOST_ROWS { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
}

/// A table whose rows are asked for their marks.
pub(super) struct MarkedTable<'a> {
    pub(super) layout: &'a Layout,
    pub(super) shapes: &'a BTreeMap<NodeId, TableShape>,
    pub(super) local_columns: &'a BTreeMap<NodeId, Vec<String>>,
    /// The rows that are pending, by the key of their trace.
    pub(super) rows: Vec<(u64, DivergentRow)>,
}

/// By the key of a row's trace the marks that those who hold it keep of its last write.
pub(super) type RowMarks = HashMap<u64, BTreeMap<NodeId, u64>>;

/// Asks those who hold the rows. What cannot be asked is left out.
pub(super) fn ask(
    topology: &Topology,
    open: &OpenRows<'_>,
    tables: &[MarkedTable<'_>],
) -> Vec<RowMarks> {
    let mut marks: Vec<RowMarks> = tables.iter().map(|_| RowMarks::new()).collect();
    if tables.iter().map(|table| table.rows.len()).sum::<usize>() > MOST_ROWS {
        return marks;
    }
    let holders = |row: &DivergentRow| -> Vec<NodeId> {
        let held = row.versions.iter().filter(|version| version.row.is_some());
        held.flat_map(|version| version.nodes.iter().copied()).collect()
    };
    let mut wanted: BTreeMap<NodeId, Vec<(usize, u64, String)>> = BTreeMap::new();
    for (at, table) in tables.iter().enumerate().filter(|(_, t)| !t.layout.key.is_empty()) {
        for (trace, row) in &table.rows {
            for node in holders(row) {
                let (Some(shape), Some(columns)) =
                    (table.shapes.get(&node), table.local_columns.get(&node))
                else {
                    continue;
                };
                let engine = topology.nodes[node].at.engine();
                let condition = of_key(engine, table.layout, Some(shape), columns, &row.key);
                wanted.entry(node).or_default().push((at, *trace, condition));
            }
        }
    }
    for (node, rows) in wanted {
        let told = of_node(node, open, &rows, |at| &tables[at].shapes[&node].qualified);
        match told {
            Ok(told) => {
                for ((at, trace, _), mark) in rows.iter().zip(told) {
                    if let Some(mark) = mark {
                        marks[*at].entry(*trace).or_default().insert(node, mark);
                    }
                }
            }
            Err(fault) => tracing::debug!(node, %fault, "rows do not tell who wrote them"),
        }
    }
    marks
}

fn of_node<'t>(
    node: NodeId,
    open: &OpenRows<'_>,
    rows: &[(usize, u64, String)],
    qualified: impl Fn(usize) -> &'t [String],
) -> Result<Vec<Option<u64>>, ReadFault> {
    let mut reader = open(node)?;
    let mut told = Vec::with_capacity(rows.len());
    for of_table in rows.chunk_by(|one, next| one.0 == next.0) {
        for some in of_table.chunks(AT_ONCE) {
            let conditions: Vec<&str> = some.iter().map(|(_, _, condition)| &**condition).collect();
            told.extend(reader.row_marks(qualified(some[0].0), &conditions)?);
        }
    }
    Ok(told)
}

/// Whether a row was written between two times of asking; none if not all who hold it tell.
pub(super) fn written(
    row: &DivergentRow,
    trace: u64,
    then: &RowMarks,
    now: &RowMarks,
) -> Option<bool> {
    let mark = |marks: &RowMarks, node: &NodeId| marks.get(&trace)?.get(node).copied();
    let held = row.versions.iter().filter(|version| version.row.is_some());
    let mut untold = false;
    for node in held.flat_map(|version| &version.nodes) {
        match (mark(then, node), mark(now, node)) {
            (Some(then), Some(now)) if then != now => return Some(true),
            (Some(_), Some(_)) => {}
            _ => untold = true,
        }
    }
    (!untold).then_some(false)
}
