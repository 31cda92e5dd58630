//! Whether somebody wrote a row between two looks that found it the same.

use std::collections::{BTreeMap, HashMap};
use std::ops::ControlFlow;

use keen_core::audit::merge::DivergentRow;
use keen_core::fault::ReadFault;
use keen_core::row::batch::Layout;
use keen_core::row::schema::TableShape;
use keen_core::row::selection::RowKeys;
use keen_core::topology::NodeId;
use keen_core::value::Value;

use crate::opener::OpenRows;

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
pub(super) fn ask(open: &OpenRows<'_>, tables: &[MarkedTable<'_>]) -> Vec<RowMarks> {
    let mut marks: Vec<RowMarks> = tables.iter().map(|_| RowMarks::new()).collect();
    if tables.iter().map(|table| table.rows.len()).sum::<usize>() > MOST_ROWS {
        return marks;
    }
    let holders = |row: &DivergentRow| -> Vec<NodeId> {
        let held = row.versions.iter().filter(|version| version.row.is_some());
        held.flat_map(|version| version.nodes.iter().copied()).collect()
    };
    let mut wanted: BTreeMap<NodeId, Vec<(usize, u64, Vec<Value>)>> = BTreeMap::new();
    for (at, table) in tables.iter().enumerate().filter(|(_, t)| !t.layout.key.is_empty()) {
        for (trace, row) in &table.rows {
            for node in holders(row).into_iter().filter(|node| table.shapes.contains_key(node)) {
                wanted.entry(node).or_default().push((at, *trace, row.key.clone()));
            }
        }
    }
    for (node, rows) in wanted {
        let told = of_node(node, open, &rows, tables);
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

fn of_node(
    node: NodeId,
    open: &OpenRows<'_>,
    rows: &[(usize, u64, Vec<Value>)],
    tables: &[MarkedTable<'_>],
) -> Result<Vec<Option<u64>>, ReadFault> {
    let mut reader = open(node)?;
    let mut told = Vec::with_capacity(rows.len());
    for of_table in rows.chunk_by(|one, next| one.0 == next.0) {
        let table = &tables[of_table[0].0];
        let (shape, columns) = (&table.shapes[&node], table.local_columns.get(&node));
        for some in of_table.chunks(AT_ONCE) {
            let keys: Vec<Vec<Value>> = some.iter().map(|(_, _, key)| key.clone()).collect();
            match columns.and_then(|columns| RowKeys::of(table.layout, shape, columns, keys)) {
                Some(keys) => told.extend(reader.row_marks(&shape.qualified, &keys)?),
                None => told.extend(some.iter().map(|_| None)),
            }
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
