//! What nodes hold now of the rows that were written to at once.

use crate::rows_by_key::{each_row, of_key};
use std::collections::{BTreeMap, HashMap};

use keen_core::conflict::Now;
use keen_core::fault::ReadFault;
use keen_core::ports::{ReadRows, TableRequest};
use keen_core::topology::{Engine, NodeId, Topology};
use keen_core::value::Value;

use crate::tables::{Table, thing};

/// Rows wanted of each table, by number: their keys, by what stands for the row.
pub(super) type Wanted = BTreeMap<usize, HashMap<u128, Vec<Value>>>;

/// What one node holds: of each wanted row its cells, or why a table could not be read.
#[derive(Default)]
pub(super) struct Held {
    rows: HashMap<u128, Vec<Value>>,
    unread: BTreeMap<usize, String>,
}

impl Held {
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
) -> Held {
    let mut held = Held::default();
    for (number, rows) in wanted {
        let table = &tables[*number];
        let local = topology.nodes[node].name_of(&table.name);
        let Some(columns) = table.local_columns.get(&node) else {
            held.unread.insert(*number, "its table is not shaped as the others' are".to_owned());
            continue;
        };
        let engine = topology.nodes[node].at.engine();
        let keys: Vec<&Vec<Value>> = rows.values().collect();
        // The shape of the table is asked for again: this is another session than the first.
        let mut done = reader.shape(local).map(drop);
        for keys in keys.chunks(AT_ONCE) {
            if done.is_ok() {
                let request = TableRequest {
                    table: local.to_owned(),
                    columns: columns.clone(),
                    filter: topology.sets[table.set].filter.clone(),
                    ordered: false,
                    range: None,
                    only: None,
                    condition: Some(condition(engine, table, node, columns, keys)),
                };
                done = read_some(reader, &request, *number, table, &mut held.rows);
            }
        }
        if let Err(fault) = done {
            held.unread.insert(*number, fault.to_string());
        }
    }
    held
}

/// A condition that these rows meet, and perhaps some more.
fn condition(
    engine: Engine,
    table: &Table,
    node: NodeId,
    columns: &[String],
    keys: &[&Vec<Value>],
) -> String {
    let shape = table.shapes.get(&node);
    let one = |key: &&Vec<Value>| of_key(engine, &table.layout, shape, columns, key);
    keys.iter().map(one).collect::<Vec<_>>().join(" OR ")
}

fn read_some(
    reader: &mut dyn ReadRows,
    request: &TableRequest,
    number: usize,
    table: &Table,
    rows: &mut HashMap<u128, Vec<Value>>,
) -> Result<(), ReadFault> {
    each_row(reader, request, &table.layout, &mut |cells| {
        let key: Vec<Value> =
            table.layout.key.iter().filter_map(|at| cells.get(*at).cloned()).collect();
        rows.insert(thing(number, None, &key), cells);
    })
}
