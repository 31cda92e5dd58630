//! Some rows of an audited table, read from a node as they are now.

use keen_core::fault::ReadFault;
use keen_core::plan::AuditedTable;
use keen_core::ports::{ReadRows, TableRequest};
use keen_core::row::batch::{Batch, Layout, RowWriter};
use keen_core::row::digest::DigestFunction;
use keen_core::row::encoding;
use keen_core::row::selection::{RowKeys, RowSelection};
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;
use std::sync::Arc;

/// So many rows are asked for at once.
const AT_ONCE: usize = 200;

/// Reads the rows with these keys; none where there is no such row.
///
/// # Errors
/// [`ReadFault`] when the table cannot be read there.
pub fn read(
    topology: &Topology,
    table: &AuditedTable,
    node: NodeId,
    reader: &mut dyn ReadRows,
    keys: &[Vec<Value>],
) -> Result<Vec<Option<Vec<Value>>>, ReadFault> {
    let missing = || {
        let node = &topology.nodes[node].name;
        ReadFault::new(format!("{} of {node} was not read", table.table), "audit it")
    };
    let local = table.nodes.get(&node).ok_or_else(missing)?;
    reader.shape(&local.name)?; // it is another session than that of the audit
    let mut found = vec![None; keys.len()];
    for (first, some) in (0..).step_by(AT_ONCE).zip(keys.chunks(AT_ONCE)) {
        let keys = RowKeys::of(&table.layout, &local.shape, &local.columns, some.to_vec());
        let rows = keys.map_or(RowSelection::All, |keys| RowSelection::Keys(Arc::new(keys)));
        let request = TableRequest {
            table: local.name.clone(),
            columns: local.columns.clone(),
            filter: topology.sets[table.set].filter.clone(),
            ordered: false,
            rows,
        };
        each_row(reader, &request, &table.layout, &mut |cells| {
            let is = |key: &Vec<Value>| {
                table.layout.key.iter().zip(key).all(|(at, value)| cells[*at].same_as(value))
            };
            if let Some(at) = some.iter().position(is) {
                found[first + at] = Some(cells);
            }
        })?;
    }
    Ok(found)
}

/// Reads rows of a set, cell by cell.
pub(crate) fn each_row(
    reader: &mut dyn ReadRows,
    request: &TableRequest,
    layout: &Layout,
    each: &mut dyn FnMut(Vec<Value>),
) -> Result<(), ReadFault> {
    let writer =
        RowWriter::new(layout.clone(), DigestFunction::default(), 256 << 10).in_any_order();
    let mut trouble = None;
    reader.read(request, writer, &mut |batch: Batch| {
        for at in 0..batch.len() {
            let Some(row) = batch.get(at).filter(|row| !row.outside) else { continue };
            match encoding::read_row(row.row) {
                Ok(cells) => each(cells),
                Err(error) => trouble = Some(error.to_string()),
            }
        }
        let mut batch = batch;
        batch.clear();
        Some(batch)
    })?;
    trouble.map_or(Ok(()), |what| {
        Err(ReadFault::new(what, "this is a defect of keen: please report it"))
    })
}
