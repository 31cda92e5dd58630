//! One pass over one table, by the binary protocol.

use keen_core::engine::selection::condition;
use keen_core::fault::ReadFault;
use keen_core::ports::TableRequest;
use keen_core::row::batch::{Batch, RowWriter};
use keen_core::row::conversion::CommonKind;
use keen_core::topology::Engine;
use keen_core::value::{Value, ValueRef};
use mysql::prelude::Queryable;
use mysql::{Row, Value as Cell};

use super::connect::{MariaDbSession, failed};
use super::decode::{self, Take};
use super::quoted;
use super::shape::MariaDbLayout;

pub(super) fn run(
    session: &mut MariaDbSession,
    local: &MariaDbLayout,
    request: &TableRequest,
    mut writer: RowWriter,
    deliver: &mut dyn FnMut(Batch) -> Option<Batch>,
) -> Result<(), ReadFault> {
    session.usable()?;
    if !request.ordered {
        writer = writer.in_any_order();
    }
    let access = session.access().clone();
    let doing = match &request.filter {
        None => format!("read table {}", request.table),
        Some(filter) => format!("read table {} where {}", request.table, filter.trim()),
    };
    let takes = takes(local, request, &writer)?;
    let filtered = request.filter.is_some();
    let mut made: Vec<Option<Value>> = vec![None; takes.len()];
    let mut rows = match session.connection.exec_iter(select(local, request), ()) {
        Ok(rows) => rows,
        Err(error) => return Err(failed(&access, &mut session.given_up, &doing, &error)),
    };
    let mut gone = false;
    let mut ended = None;
    for row in rows.by_ref() {
        let row = match row {
            Ok(row) => row,
            Err(error) => {
                ended = Some(error);
                break;
            }
        };
        for (i, take) in takes.iter().enumerate() {
            let cell = row.as_ref(i).unwrap_or(&Cell::NULL);
            made[i] = match decode::borrowed(*take, cell) {
                Some(_) => None,
                None => Some(decode::owned(*take, cell)),
            };
        }
        let outside = filtered && is_outside(&row, takes.len());
        let full = writer.push::<ReadFault>(outside, |i| {
            Ok(match &made[i] {
                Some(value) => value.as_ref(),
                None => row
                    .as_ref(i)
                    .and_then(|cell| decode::borrowed(takes[i], cell))
                    .unwrap_or(ValueRef::Null),
            })
        })?;
        if full {
            gone = access.stopped();
            match deliver(writer.take()) {
                Some(spent) if !gone => writer.reuse(spent),
                _ => {
                    gone = true;
                    break;
                }
            }
        }
    }
    if let Some(error) = ended {
        match error {
            mysql::Error::MySqlError(_) => drop(rows),
            // Dropping it would wait for the rest once more.
            _ => std::mem::forget(rows),
        }
        return Err(failed(&access, &mut session.given_up, &doing, &error));
    }
    if gone {
        // Dropping the result would read all the rest of it first.
        std::mem::forget(rows);
        session.given_up = Some(ReadFault::interrupted());
        return if access.stopped() { Err(ReadFault::interrupted()) } else { Ok(()) };
    }
    drop(rows);
    deliver(writer.take());
    Ok(())
}

/// Whether the filter, which comes after the columns, leaves the row out.
fn is_outside(row: &Row, at: usize) -> bool {
    matches!(row.as_ref(at), Some(Cell::Int(1) | Cell::UInt(1)))
}

fn takes(
    local: &MariaDbLayout,
    request: &TableRequest,
    writer: &RowWriter,
) -> Result<Vec<Take>, ReadFault> {
    let layout = &writer.layout().columns;
    let take = |(i, name): (usize, &String)| {
        let found = local.columns.iter().find(|(column, _)| column == name);
        let (_, take) = found.ok_or_else(|| {
            ReadFault::new(format!("{} has no column {name}", request.table), "correct the set")
        })?;
        let by_number = layout.get(i).is_some_and(|column| {
            matches!(
                column.reading.kind,
                CommonKind::Exact | CommonKind::Number | CommonKind::Single
            )
        });
        Ok(match take {
            Take::Bits(_) if by_number => Take::BitsNumber,
            take => *take,
        })
    };
    request.columns.iter().enumerate().map(take).collect()
}

fn select(local: &MariaDbLayout, request: &TableRequest) -> String {
    let mut selected: Vec<String> = request.columns.iter().map(|name| quoted(name)).collect();
    if let Some(filter) = &request.filter {
        // On lines of its own, so that a comment in the filter ends where the filter ends.
        selected.push(format!("((\n{filter}\n) IS NOT TRUE)"));
    }
    let mut sql = format!("SELECT {} FROM {}", selected.join(", "), local.name);
    let ordered = request.ordered && !local.key.is_empty();
    if ordered {
        sql.push_str(" FORCE INDEX (PRIMARY)");
    }
    let first = local.key.first().map(String::as_str);
    if let Some(condition) = condition(Engine::MariaDb, &request.rows, first, false) {
        sql.push_str(&format!(" WHERE {condition}"));
    }
    if ordered {
        let key: Vec<String> = local.key.iter().map(|name| quoted(name)).collect();
        sql.push_str(&format!(" ORDER BY {}", key.join(", ")));
    }
    sql
}
