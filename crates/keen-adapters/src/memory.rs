//! Tables in memory.

use keen_core::row::selection::RowSelection;
use std::cmp::Ordering;
use std::collections::BTreeMap;

use keen_core::fault::ReadFault;
use keen_core::ports::{ReadRows, TableRequest};
use keen_core::row::batch::{Batch, RowWriter};
use keen_core::row::key_order;
use keen_core::row::schema::TableShape;
use keen_core::value::{Value, ValueRef};

/// A table in memory: its shape, and its rows in any order, cells in the order of the shape's columns.
#[derive(Debug, Clone, Default)]
pub struct MemoryTable {
    /// Its shape.
    pub shape: TableShape,
    /// Its rows.
    pub rows: Vec<Vec<Value>>,
}

/// A node whose tables are in memory.
#[derive(Debug, Clone, Default)]
pub struct MemoryNode {
    /// Its tables by name.
    pub tables: BTreeMap<String, MemoryTable>,
}

impl MemoryNode {
    fn table(&self, name: &str) -> Result<&MemoryTable, ReadFault> {
        self.tables
            .get(name)
            .ok_or_else(|| ReadFault::new(format!("there is no table {name}"), "correct the set"))
    }
}

/// Equality as an engine would have it: a truth value is a number to it.
fn equals(cell: &Value, value: &Value) -> bool {
    match (cell, value) {
        (Value::Bool(truth), Value::Int(number)) => i128::from(*truth) == *number,
        _ => cell.same_as(value),
    }
}

impl ReadRows for MemoryNode {
    fn about(&self) -> String {
        "memory".to_owned()
    }

    fn shape(&mut self, table: &str) -> Result<TableShape, ReadFault> {
        Ok(self.table(table)?.shape.clone())
    }

    fn other_tables(&mut self, named: &[String]) -> Result<Option<Vec<String>>, ReadFault> {
        Ok(Some(self.tables.keys().filter(|table| !named.contains(table)).cloned().collect()))
    }

    fn read(
        &mut self,
        request: &TableRequest,
        mut writer: RowWriter,
        deliver: &mut dyn FnMut(Batch) -> Option<Batch>,
    ) -> Result<(), ReadFault> {
        if request.filter.is_some() {
            return Err(ReadFault::new(
                "a table in memory has no SQL to filter by",
                "remove the filter",
            ));
        }
        let table = self.table(&request.table)?;
        let at = |name: &String| {
            let found = table.shape.columns.iter().position(|column| column.name == *name);
            found.ok_or_else(|| {
                ReadFault::new(format!("{} has no column {name}", request.table), "correct the set")
            })
        };
        let places = request.columns.iter().map(at).collect::<Result<Vec<_>, _>>()?;
        let key_places = table.shape.key.iter().map(at).collect::<Result<Vec<_>, _>>()?;
        let sort_key = |row: &Vec<Value>| {
            let mut bytes = Vec::new();
            let identified =
                !key_places.is_empty() && key_places.iter().all(|i| row[*i] != Value::Null);
            key_places.iter().for_each(|i| key_order::put_key(&mut bytes, row[*i].as_ref()));
            if !identified {
                places.iter().for_each(|i| key_order::put_key(&mut bytes, row[*i].as_ref()));
            }
            bytes
        };
        let wanted = |row: &&Vec<Value>| match &request.rows {
            RowSelection::All => true,
            RowSelection::Segment(segment) => {
                key_places.first().is_none_or(|at| segment.has(&row[*at]))
            }
            RowSelection::Keys(keys) => {
                let place = |name: &str| table.shape.columns.iter().position(|c| c.name == name);
                let cells: Vec<Option<&Value>> =
                    keys.columns.iter().map(|c| place(&c.name).map(|at| &row[at])).collect();
                let is = |key: &Vec<Value>| {
                    cells
                        .iter()
                        .zip(key)
                        .all(|(cell, value)| cell.is_some_and(|c| equals(c, value)))
                };
                keys.keys.iter().any(is)
            }
        };
        let mut rows: Vec<(Vec<u8>, &Vec<Value>)> =
            table.rows.iter().filter(wanted).map(|row| (sort_key(row), row)).collect();
        if request.ordered {
            rows.sort_by(|(a, _), (b, _)| a.cmp(b).then(Ordering::Equal));
        } else {
            writer = writer.in_any_order();
        }
        for (_, row) in rows {
            let cell = |i: usize| {
                Ok::<_, ReadFault>(places.get(i).map_or(ValueRef::Null, |at| row[*at].as_ref()))
            };
            if writer.push(false, cell)? {
                let Some(spent) = deliver(writer.take()) else {
                    return Ok(());
                };
                writer.reuse(spent);
            }
        }
        deliver(writer.take());
        Ok(())
    }
}
