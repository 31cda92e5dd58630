//! The rows that were written to at once, as nodes hold them now.

use crate::rows_by_key::each_row;
use keen_core::row::selection::{RowKeys, RowSelection};
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use keen_core::conflict::CurrentRow;
use keen_core::fault::{FaultKind, ReadFault};
use keen_core::ports::{ReadRows, TableRequest};
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;

use crate::tables::{SetTable, thing};

/// Rows wanted of each table, by number: their keys, by what stands for the row.
pub(super) type WantedRows = BTreeMap<usize, HashMap<u128, Vec<Value>>>;

/// The wanted rows of one node, or why a table could not be read.
#[derive(Default)]
pub(super) struct CurrentRows {
    rows: HashMap<u128, Vec<Value>>,
    unread: BTreeMap<usize, ReadFault>,
}

impl CurrentRows {
    /// Nothing could be read.
    pub(super) fn nothing(wanted: &WantedRows, fault: &ReadFault) -> Self {
        let unread = wanted.keys().map(|table| (*table, fault.clone())).collect();
        Self { rows: HashMap::new(), unread }
    }

    pub(super) fn now(&self, table: usize, row: u128) -> CurrentRow {
        match (self.rows.get(&row), self.unread.get(&table)) {
            (Some(cells), _) => CurrentRow::Row(cells.clone()),
            (None, Some(fault)) => CurrentRow::Unread(fault.clone()),
            (None, None) => CurrentRow::NoRow,
        }
    }
}

/// So many rows are asked for at once.
const AT_ONCE: usize = 200;

/// Reads the wanted rows of a node.
pub(super) fn read(
    topology: &Topology,
    tables: &[SetTable],
    node: NodeId,
    reader: &mut dyn ReadRows,
    wanted: &WantedRows,
) -> CurrentRows {
    let mut held = CurrentRows::default();
    for (number, rows) in wanted {
        let table = &tables[*number];
        let local = topology.nodes[node].name_of(&table.name);
        let Some(columns) = table.local_columns.get(&node) else {
            let what = "its table does not have the shape of the others";
            held.unread.insert(*number, ReadFault::new(what, "").of(FaultKind::Unlike));
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
            held.unread.insert(*number, fault);
        }
    }
    held
}

fn read_some(
    reader: &mut dyn ReadRows,
    request: &TableRequest,
    number: usize,
    table: &SetTable,
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
