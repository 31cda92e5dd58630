//! Carrying one node's transactions over one link: what of them travels, and how they are applied.

use keen_core::topology::{ColumnChoice, TableSet};
use rusqlite::types::Value as Cell;
use rusqlite::{Connection, params_from_iter};

use crate::journal::{ChangeKind, JournalRow, Recorded};

/// Quotes a name for SQLite.
pub(crate) fn quoted(name: &str) -> String {
    keen_core::topology::Engine::Sqlite.dialect().quoted(name)
}

/// The change as a set lets it through: filtered, and cut down to the set's columns.
pub(crate) fn through_set(
    source: &Connection,
    set: &TableSet,
    key: &[String],
    change: &Recorded,
) -> rusqlite::Result<Option<Recorded>> {
    let inside =
        |row: &Option<JournalRow>| row.as_ref().map_or(Ok(false), |row| passes(source, set, row));
    let (before_in, after_in) = (inside(&change.before)?, inside(&change.after)?);
    let kind = match (before_in, after_in) {
        (false, false) => return Ok(None),
        (false, true) => ChangeKind::Insert,
        (true, true) => ChangeKind::Update,
        (true, false) => ChangeKind::Delete,
    };
    let kept = |name: &String| match &set.columns {
        ColumnChoice::All => true,
        ColumnChoice::Only(list) => list.contains(name) || key.contains(name),
        ColumnChoice::Without(list) => !list.contains(name),
    };
    let cut = |row: &Option<JournalRow>| -> Option<JournalRow> {
        row.as_ref().map(|row| row.iter().filter(|(name, _)| kept(name)).cloned().collect())
    };
    Ok(Some(Recorded {
        number: change.number,
        table: change.table.clone(),
        kind,
        before: cut(&change.before),
        after: cut(&change.after).filter(|_| after_in),
    }))
}

fn passes(source: &Connection, set: &TableSet, row: &JournalRow) -> rusqlite::Result<bool> {
    let Some(filter) = &set.filter else {
        return Ok(true);
    };
    let columns: Vec<String> = row
        .iter()
        .enumerate()
        .map(|(i, (name, _))| format!("?{} AS {}", i + 1, quoted(name)))
        .collect();
    let sql = format!("SELECT (\n{filter}\n) IS TRUE FROM (SELECT {})", columns.join(", "));
    source
        .prepare_cached(&sql)?
        .query_row(params_from_iter(row.iter().map(|(_, cell)| cell)), |row| row.get(0))
}

/// Applies a change the way a plain replicator does: by key, without looking at
/// what was there. An insert replaces, an update or delete of a row that is not
/// there does nothing. Returns the row that was there before.
pub(crate) fn apply(
    connection: &Connection,
    table: &str,
    key: &[String],
    change: &Recorded,
) -> rusqlite::Result<Option<JournalRow>> {
    let identity = change.before.as_ref().or(change.after.as_ref());
    let before = match identity {
        Some(row) if change.kind != ChangeKind::Insert || !key.is_empty() => {
            find(connection, table, key, row)?
        }
        _ => None,
    };
    match (change.kind, &change.after) {
        (ChangeKind::Insert, Some(after)) => insert(connection, table, after)?,
        (ChangeKind::Update, Some(after)) => {
            if let Some(identity) = identity {
                update(connection, table, key, identity, after)?;
            }
        }
        _ => {
            if let Some(identity) = identity {
                delete(connection, table, key, identity)?;
            }
        }
    }
    Ok(before)
}

/// The condition that picks a row: its key, or all of it where there is no key.
fn condition(key: &[String], row: &JournalRow, first: usize) -> (String, Vec<Cell>) {
    let of_key = |name: &String| key.is_empty() || key.contains(name);
    let cells: Vec<&(String, Cell)> = row.iter().filter(|(name, _)| of_key(name)).collect();
    let terms: Vec<String> = cells
        .iter()
        .enumerate()
        .map(|(i, (name, _))| format!("{} IS ?{}", quoted(name), i + first))
        .collect();
    (terms.join(" AND "), cells.into_iter().map(|(_, cell)| cell.clone()).collect())
}

pub(crate) fn find(
    connection: &Connection,
    table: &str,
    key: &[String],
    row: &JournalRow,
) -> rusqlite::Result<Option<JournalRow>> {
    let (condition, cells) = condition(key, row, 1);
    let mut statement = connection
        .prepare_cached(&format!("SELECT * FROM {} WHERE {condition} LIMIT 1", quoted(table)))?;
    let names: Vec<String> = statement.column_names().map(str::to_owned).collect();
    let mut rows = statement.query(params_from_iter(cells))?;
    rows.next()?
        .map(|row| {
            names.iter().enumerate().map(|(i, name)| Ok((name.clone(), row.get(i)?))).collect()
        })
        .transpose()
}

pub(crate) fn insert(
    connection: &Connection,
    table: &str,
    row: &JournalRow,
) -> rusqlite::Result<()> {
    let names: Vec<String> = row.iter().map(|(name, _)| quoted(name)).collect();
    let places: Vec<String> = (1..=row.len()).map(|i| format!("?{i}")).collect();
    let sql = format!(
        "INSERT OR REPLACE INTO {} ({}) VALUES ({})",
        quoted(table),
        names.join(", "),
        places.join(", ")
    );
    connection.prepare_cached(&sql)?.execute(params_from_iter(row.iter().map(|(_, cell)| cell)))?;
    Ok(())
}

pub(crate) fn update(
    connection: &Connection,
    table: &str,
    key: &[String],
    old: &JournalRow,
    new: &JournalRow,
) -> rusqlite::Result<()> {
    let sets: Vec<String> = new
        .iter()
        .enumerate()
        .map(|(i, (name, _))| format!("{} = ?{}", quoted(name), i + 1))
        .collect();
    let (condition, cells) = condition(key, old, new.len() + 1);
    let sql = format!("UPDATE {} SET {} WHERE {condition}", quoted(table), sets.join(", "));
    let values = new.iter().map(|(_, cell)| cell.clone()).chain(cells);
    connection.prepare_cached(&sql)?.execute(params_from_iter(values))?;
    Ok(())
}

pub(crate) fn delete(
    connection: &Connection,
    table: &str,
    key: &[String],
    row: &JournalRow,
) -> rusqlite::Result<()> {
    let (condition, cells) = condition(key, row, 1);
    let table = quoted(table);
    // Of equal rows without a key only one goes.
    let sql = if key.is_empty() {
        format!(
            "DELETE FROM {table} WHERE rowid IN (SELECT rowid FROM {table} WHERE {condition} LIMIT 1)"
        )
    } else {
        format!("DELETE FROM {table} WHERE {condition}")
    };
    connection.prepare_cached(&sql)?.execute(params_from_iter(cells))?;
    Ok(())
}
