//! The journal of a node: what it applied, in which order, from which origin.
//!
//! `docs/stand-in.md` describes the tables for those who read them.

use rusqlite::types::Value as Cell;
use rusqlite::{Connection, OptionalExtension, params};
use serde_json::{Map, Value as Json};

/// The tables that every node of the network keeps beside its own.
pub const TABLES: &str = "
CREATE TABLE keen_lab_transaction (
    position        INTEGER PRIMARY KEY,
    origin          TEXT NOT NULL,
    origin_position INTEGER NOT NULL,
    made_step       INTEGER NOT NULL,
    applied_step    INTEGER NOT NULL,
    made_at         INTEGER NOT NULL
);
CREATE INDEX keen_lab_by_origin ON keen_lab_transaction (origin, origin_position);
CREATE TABLE keen_lab_change (
    position        INTEGER NOT NULL REFERENCES keen_lab_transaction,
    number          INTEGER NOT NULL,
    table_name      TEXT NOT NULL,
    kind            TEXT NOT NULL CHECK (kind IN ('insert', 'update', 'delete')),
    before          TEXT,
    after           TEXT,
    PRIMARY KEY (position, number)
) WITHOUT ROWID;
CREATE TABLE keen_lab_link (
    link            INTEGER PRIMARY KEY,
    source          TEXT NOT NULL,
    carries         TEXT NOT NULL,
    read_to         INTEGER NOT NULL,
    state           TEXT NOT NULL CHECK (state IN ('running', 'paused', 'cut')),
    since_step      INTEGER NOT NULL
);
CREATE TABLE keen_lab_setting (
    name            TEXT NOT NULL PRIMARY KEY,
    value           TEXT NOT NULL
);
INSERT INTO keen_lab_setting VALUES ('read_only', 'OFF');
";

/// A row as the journal keeps it: cells by column, in the table's order.
pub type JournalRow = Vec<(String, Cell)>;

/// The kind of a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ChangeKind {
    /// A row was added.
    Insert,
    /// A row was changed.
    Update,
    /// A row was taken out.
    Delete,
}

impl ChangeKind {
    fn name(self) -> &'static str {
        match self {
            Self::Insert => "insert",
            Self::Update => "update",
            Self::Delete => "delete",
        }
    }
}

/// One transaction of a journal.
#[derive(Debug, Clone, PartialEq)]
pub struct LabTransaction {
    /// Its place in this journal.
    pub position: i64,
    /// The node where it was first made.
    pub origin: String,
    /// Its place in that node's journal.
    pub origin_position: i64,
    /// The step at which it was made there.
    pub made_step: i64,
    /// When it was made there, by that node's clock: microseconds since 1970.
    pub made_at: i64,
    /// Its changes.
    pub changes: Vec<Recorded>,
}

/// One change of a transaction.
#[derive(Debug, Clone, PartialEq)]
pub struct Recorded {
    /// Its number in the transaction as it was first made.
    pub number: i64,
    /// The table, as the sets name it.
    pub table: String,
    /// The kind of write.
    pub kind: ChangeKind,
    /// The row before, as this node held it.
    pub before: Option<JournalRow>,
    /// The row after.
    pub after: Option<JournalRow>,
}

/// Enters a transaction and returns its position.
pub(crate) fn enter(
    connection: &Connection,
    origin: Option<(&str, i64)>,
    own_name: &str,
    (made_step, made_at): (i64, i64),
    applied_step: i64,
) -> rusqlite::Result<i64> {
    let next: i64 = connection.query_row(
        "SELECT coalesce(max(position), 0) + 1 FROM keen_lab_transaction",
        [],
        |row| row.get(0),
    )?;
    let (origin, origin_position) = origin.unwrap_or((own_name, next));
    connection
        .prepare_cached("INSERT INTO keen_lab_transaction VALUES (?1, ?2, ?3, ?4, ?5, ?6)")?
        .execute(params![next, origin, origin_position, made_step, applied_step, made_at])?;
    Ok(next)
}

/// Enters one change of the transaction at `position`.
pub(crate) fn enter_change(
    connection: &Connection,
    position: i64,
    change: &Recorded,
) -> rusqlite::Result<()> {
    let text = |row: &Option<JournalRow>| row.as_ref().map(|row| to_json(row).to_string());
    connection
        .prepare_cached("INSERT OR REPLACE INTO keen_lab_change VALUES (?1, ?2, ?3, ?4, ?5, ?6)")?
        .execute(params![
            position,
            change.number,
            change.table,
            change.kind.name(),
            text(&change.before),
            text(&change.after)
        ])?;
    Ok(())
}

/// Whether this node applied that change before.
pub(crate) fn has_seen(
    connection: &Connection,
    origin: &str,
    origin_position: i64,
    number: i64,
) -> rusqlite::Result<bool> {
    connection
        .prepare_cached(
            "SELECT 1 FROM keen_lab_transaction t JOIN keen_lab_change c USING (position)
             WHERE t.origin = ?1 AND t.origin_position = ?2 AND c.number = ?3",
        )?
        .query_row(params![origin, origin_position, number], |_| Ok(()))
        .optional()
        .map(|found| found.is_some())
}

/// Reads up to `limit` transactions after `position` that were applied by `step`.
///
/// # Errors
/// An error of SQLite, or a journal entry that cannot be read back.
pub fn read(
    connection: &Connection,
    position: i64,
    step: i64,
    limit: i64,
) -> rusqlite::Result<Vec<LabTransaction>> {
    let mut entries = connection.prepare_cached(
        "SELECT position, origin, origin_position, made_step, made_at FROM keen_lab_transaction
         WHERE position > ?1 AND applied_step <= ?2 ORDER BY position LIMIT ?3",
    )?;
    let mut changes = connection.prepare_cached(
        "SELECT number, table_name, kind, before, after FROM keen_lab_change WHERE position = ?1 ORDER BY number",
    )?;
    let mut found = entries
        .query_map(params![position, step, limit], |row| {
            Ok(LabTransaction {
                position: row.get(0)?,
                origin: row.get(1)?,
                origin_position: row.get(2)?,
                made_step: row.get(3)?,
                made_at: row.get(4)?,
                changes: Vec::new(),
            })
        })?
        .collect::<Result<Vec<_>, _>>()?;
    for entry in &mut found {
        entry.changes = changes
            .query_map([entry.position], |row| {
                let kind: String = row.get(2)?;
                Ok(Recorded {
                    number: row.get(0)?,
                    table: row.get(1)?,
                    kind: match kind.as_str() {
                        "insert" => ChangeKind::Insert,
                        "update" => ChangeKind::Update,
                        _ => ChangeKind::Delete,
                    },
                    before: row.get::<_, Option<String>>(3)?.map(|text| from_json(&text)),
                    after: row.get::<_, Option<String>>(4)?.map(|text| from_json(&text)),
                })
            })?
            .collect::<Result<_, _>>()?;
    }
    Ok(found)
}

fn to_json(row: &JournalRow) -> Json {
    let cell = |cell: &Cell| match cell {
        Cell::Null => Json::Null,
        Cell::Integer(v) => Json::from(*v),
        Cell::Real(v) if v.is_finite() => Json::from(*v),
        Cell::Real(v) => wrapped("float", &v.to_string()),
        Cell::Text(v) => Json::from(v.as_str()),
        Cell::Blob(v) => {
            wrapped("bytes", &v.iter().map(|b| format!("{b:02x}")).collect::<String>())
        }
    };
    Json::Array(
        row.iter()
            .map(|(name, value)| Json::Array(vec![Json::from(name.as_str()), cell(value)]))
            .collect(),
    )
}

fn wrapped(name: &str, text: &str) -> Json {
    Json::Object(Map::from_iter([(name.to_owned(), Json::from(text))]))
}

fn from_json(text: &str) -> JournalRow {
    let cell = |json: &Json| match json {
        Json::Number(n) => {
            n.as_i64().map_or_else(|| Cell::Real(n.as_f64().unwrap_or_default()), Cell::Integer)
        }
        Json::String(text) => Cell::Text(text.clone()),
        Json::Object(map) => match (map.get("float"), map.get("bytes")) {
            (Some(Json::String(text)), _) => Cell::Real(text.parse().unwrap_or_default()),
            (_, Some(Json::String(text))) => Cell::Blob(from_hex(text)),
            _ => Cell::Null,
        },
        _ => Cell::Null,
    };
    let Ok(Json::Array(pairs)) = serde_json::from_str(text) else {
        return JournalRow::new();
    };
    pairs
        .iter()
        .filter_map(|pair| Some((pair.get(0)?.as_str()?.to_owned(), cell(pair.get(1)?))))
        .collect()
}

fn from_hex(text: &str) -> Vec<u8> {
    (0..text.len() / 2)
        .filter_map(|i| u8::from_str_radix(text.get(i * 2..i * 2 + 2)?, 16).ok())
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_survive_the_journal() {
        let row: JournalRow = vec![
            ("id".into(), Cell::Integer(i64::MIN)),
            ("a \"b\"".into(), Cell::Text("é\u{1}'".into())),
            ("c".into(), Cell::Blob(vec![0, 255])),
            ("d".into(), Cell::Real(f64::INFINITY)),
            ("e".into(), Cell::Real(0.1)),
            ("f".into(), Cell::Real(2.0)),
            ("g".into(), Cell::Null),
        ];
        assert_eq!(from_json(&to_json(&row).to_string()), row);
    }
}
