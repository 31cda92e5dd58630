//! What nodes hold now of the rows that were written to at once.

use crate::rows_by_key::each_row;
use keen_core::row::selection::{RowKeys, RowSelection};
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use keen_core::conflict::Now;
use keen_core::fault::ReadFault;
use keen_core::ports::{ReadRows, TableRequest};
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;

use crate::tables::{Table, thing};

/// Rows wanted of each table, by number: their keys, by what stands for the row.
pub(super) type Wanted = BTreeMap<usize, HashMap<u128, Vec<Value>>>;

/// What one node holds: of each wanted row its cells, or why a table could not be read.
#[derive(Default)]
pub(super) struct CurrentRows {
    rows: HashMap<u128, Vec<Value>>,
    unread: BTreeMap<usize, String>,
}

impl CurrentRows {
    /// Nothing could be read.
    pub(super) fn nothing(wanted: &Wanted, fault: &ReadFault) -> Self {
        let unread = wanted.keys().map(|table| (*table, fault.to_string())).collect();
        Self { rows: HashMap::new(), unread }
    }

    pub(super) fn now(&self, table: usize, row: u128) -> Now {
        match (self.rows.get(&row), self.unread.get(&table)) {
            (Some(cells), _) => Now::Row(cells.clone()),
            (None, Some(reason)) => Now::Unread(reason.clone()),
            (None, None) => Now::NoRow,
        }
    }
}

/// So many rows are asked for at once.
const AT_ONCE: usize = 200;

/// Reads the wanted rows of a node.
pub(super) fn read(
    topology: &Topology,
    tables: &[Table],
    node: NodeId,
    reader: &mut dyn ReadRows,
    wanted: &Wanted,
) -> CurrentRows {
    let mut held = CurrentRows::default();
    for (number, rows) in wanted {
        let table = &tables[*number];
        let local = topology.nodes[node].name_of(&table.name);
        let Some(columns) = table.local_columns.get(&node) else {
            held.unread.insert(*number, "its table is not shaped as the others' are".to_owned());
            continue;
        };
        let keys: Vec<Vec<Value>> = rows.values().cloned().collect();
        // The shape of the table is asked for again: this is another session than the first.
        let mut done = reader.shape(local).map(drop);
        let shape = table.shapes.get(&node);
        let keys = shape.and_then(|shape| RowKeys::of(&table.layout, shape, columns, keys));
        let selections = match keys {
            Some(keys) => {
                keys.in_pieces(AT_ONCE).map(|keys| RowSelection::Keys(Arc::new(keys))).collect()
            }
            // What cannot be asked for is looked for among all.
            None => vec![RowSelection::All],
        };
        for selection in selections {
            if done.is_ok() {
                let request = TableRequest {
                    table: local.to_owned(),
                    columns: columns.clone(),
                    filter: topology.sets[table.set].filter.clone(),
                    ordered: false,
                    rows: selection,
                };
                done = read_some(reader, &request, *number, table, rows, &mut held.rows);
            }
        }
        if let Err(fault) = done {
            held.unread.insert(*number, fault.to_string());
        }
    }
    held
}

fn read_some(
    reader: &mut dyn ReadRows,
    request: &TableRequest,
    number: usize,
    table: &Table,
    wanted: &HashMap<u128, Vec<Value>>,
    rows: &mut HashMap<u128, Vec<Value>>,
) -> Result<(), ReadFault> {
    each_row(reader, request, &table.layout, &mut |cells| {
        let key: Vec<Value> =
            table.layout.key.iter().filter_map(|at| cells.get(*at).cloned()).collect();
        let row = thing(number, None, &key);
        if wanted.contains_key(&row) {
            rows.insert(row, cells);
        }
    })
}
