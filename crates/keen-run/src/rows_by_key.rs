//! Some rows of an audited table, read from a node as they are now.

use keen_core::plan::AuditedTable;
use keen_core::ports::{ReadFault, ReadRows, TableRequest};
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;

use crate::conflicts::{each_row, of_key};

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
        let shape = Some(&local.shape);
        let one =
            |key: &Vec<Value>| of_key(local.engine, &table.layout, shape, &local.columns, key);
        let request = TableRequest {
            table: local.name.clone(),
            columns: local.columns.clone(),
            filter: topology.sets[table.set].filter.clone(),
            ordered: false,
            range: None,
            only: None,
            condition: Some(some.iter().map(one).collect::<Vec<_>>().join(" OR ")),
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
