//! The journal of a node of the stand-in network.

use super::queries;
use std::collections::HashMap;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use keen_core::fault::ReadFault;
use keen_core::history::journal::{
    Begin, Entry, Head, Id, JournalPosition, RowChange, RowOp, Since, Stream, Writer,
};
use keen_core::ports::ReadJournal;
use keen_core::value::Value;
use rusqlite::{Connection, OptionalExtension};
use serde_json::Value as Json;

use super::{Options, SqliteNode, fault};

/// The journal tables in a SQLite file, read as of one moment.
pub struct SqliteJournal {
    node: SqliteNode,
    path: PathBuf,
    /// The name of the node in the topology, which is its name as an origin.
    name: Arc<str>,
    tables: Vec<Arc<str>>,
    /// The position after which it is read.
    after: i64,
    ended: Option<JournalPosition>,
}

impl std::fmt::Debug for SqliteJournal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SqliteJournal").field("path", &self.path).finish_non_exhaustive()
    }
}

impl SqliteJournal {
    /// Opens a file; `tables` are the names by which the sets know the tables that are wanted.
    ///
    /// # Errors
    /// [`ReadFault`] when there is no such file, or it keeps no journal.
    pub fn open(
        path: &Path,
        name: &str,
        tables: impl IntoIterator<Item = String>,
        options: &Options,
    ) -> Result<Self, ReadFault> {
        let node = SqliteNode::open(path, options)?;
        let sql = queries::LAB_JOURNAL_IS_THERE;
        let found: i64 = (node.connection.query_row(sql, [], |row| row.get(0)))
            .map_err(|error| fault::explain(path, "look for a journal", &error))?;
        if found < 2 {
            return Err(ReadFault::new(
                format!("{} keeps no journal: SQLite has none of its own", path.display()),
                "export what was written to a file of the format in docs/journal.md, and name it as the node's journal",
            ));
        }
        Ok(Self {
            node,
            path: path.to_owned(),
            name: Arc::from(name),
            tables: tables.into_iter().map(Arc::from).collect(),
            after: 0,
            ended: None,
        })
    }
}

impl ReadJournal for SqliteJournal {
    fn head(&mut self) -> Result<Head, ReadFault> {
        let head = Head::nothing_known("stand-in journal".to_owned(), Some(Arc::clone(&self.name)));
        Ok(Head { since: Since::beginning(), ..head })
    }

    fn go_on(&mut self, from: &JournalPosition) -> Result<bool, ReadFault> {
        self.after = i64::try_from(from.order).unwrap_or(i64::MAX);
        self.ended = Some(from.clone());
        if from.order == 0 {
            return Ok(true);
        }
        let sql = queries::LAB_AT;
        let found: Result<Option<String>, _> =
            self.node.connection.query_row(sql, [self.after], |row| row.get(0)).optional();
        let found =
            found.map_err(|error| fault::explain(&self.path, "look into its journal", &error))?;
        Ok(found.as_deref() == Some(&from.at))
    }

    fn ended(&self) -> Option<JournalPosition> {
        self.ended.clone()
    }

    fn read(&mut self, each: &mut dyn FnMut(Entry) -> ControlFlow<()>) -> Result<(), ReadFault> {
        let (mut order, mut at) = (self.after.unsigned_abs(), None);
        let mut broken = false;
        let mut each = |entry: Entry| {
            if let Entry::Begin(begin) = &entry {
                (order, at) = (begin.order, Some((begin.id.writer.origin.clone(), begin.id.place)));
            }
            let flow = each(entry);
            broken |= flow.is_break();
            flow
        };
        let done = read(&self.node.connection, &self.tables, self.after, &mut each);
        done.map_err(|error| fault::explain(&self.path, "read its journal", &error))?;
        let before = self.ended.take().map_or(String::new(), |mark| mark.at);
        if broken {
            return Ok(());
        }
        let at = at.map_or(before, |(origin, place)| format!("{origin} {place}"));
        self.ended = Some(JournalPosition { order, at });
        Ok(())
    }
}

fn read(
    connection: &Connection,
    tables: &[Arc<str>],
    after: i64,
    each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
) -> rusqlite::Result<()> {
    let mut statement = connection.prepare(queries::LAB_JOURNAL)?;
    let mut rows = statement.query([after])?;
    let mut columns: HashMap<Vec<String>, Arc<[String]>> = HashMap::new();
    let mut origins: HashMap<String, Arc<str>> = HashMap::new();
    let mut last = None;
    while let Some(row) = rows.next()? {
        let position: i64 = row.get(0)?;
        if last != Some(position) {
            last = Some(position);
            let origin: String = row.get(1)?;
            let origin = origins.entry(origin).or_insert_with_key(|name| Arc::from(&name[..]));
            let begin = Begin {
                order: position.unsigned_abs(),
                id: Id {
                    writer: Writer { origin: Arc::clone(origin), stream: Stream::Count },
                    place: row.get::<_, i64>(2)?.unsigned_abs(),
                },
                made: row.get(3)?,
                commit: None,
            };
            if each(Entry::Begin(begin)).is_break() {
                return Ok(());
            }
        }
        let table: Option<String> = row.get(5)?;
        let Some(table) = table.and_then(|name| tables.iter().find(|table| ***table == *name))
        else {
            continue;
        };
        let side = |text: Option<String>| text.map(|text| cells(&text));
        let (before, after) = (side(row.get(7)?), side(row.get(8)?));
        let names: Vec<String> = before
            .iter()
            .chain(&after)
            .next()
            .map(|cells| cells.iter().map(|(name, _)| name.clone()).collect())
            .unwrap_or_default();
        let names = columns.entry(names).or_insert_with_key(|names| Arc::from(&names[..]));
        let in_order = |side: Option<Vec<(String, Value)>>| {
            side.map(|cells| {
                let cell = |name: &String| {
                    let found = cells.iter().find(|(other, _)| other == name);
                    found.map(|(_, value)| value.clone())
                };
                names.iter().map(cell).collect::<Vec<_>>()
            })
        };
        let kind: String = row.get(6)?;
        let change = RowChange {
            table: Arc::clone(table),
            columns: Arc::clone(names),
            act: match (&kind[..], before.is_some(), after.is_some()) {
                // It met a row of that key, and replaced it.
                ("insert", true, _) | ("update", ..) => RowOp::Update,
                ("delete", ..) => RowOp::Delete,
                _ => RowOp::Insert,
            },
            before: in_order(before),
            after: in_order(after),
        };
        if each(Entry::Row(change)).is_break() {
            return Ok(());
        }
    }
    Ok(())
}

/// A row of the journal: a JSON list of columns and cells.
fn cells(text: &str) -> Vec<(String, Value)> {
    let Ok(Json::Array(pairs)) = serde_json::from_str(text) else { return Vec::new() };
    let pair = |pair: &Json| Some((pair.get(0)?.as_str()?.to_owned(), cell(pair.get(1)?)));
    pairs.iter().filter_map(pair).collect()
}

fn cell(json: &Json) -> Value {
    match json {
        Json::Number(number) => match number.as_i64() {
            Some(whole) => Value::Int(whole.into()),
            None => Value::Float(number.as_f64().unwrap_or(f64::NAN)),
        },
        Json::String(text) => Value::text(text),
        Json::Object(map) => match (map.get("float"), map.get("bytes")) {
            (Some(Json::String(text)), _) => Value::Float(text.parse().unwrap_or(f64::NAN)),
            (_, Some(Json::String(text))) => Value::Bytes(from_hex(text)),
            _ => Value::Null,
        },
        _ => Value::Null,
    }
}

fn from_hex(text: &str) -> Vec<u8> {
    let byte = |i: usize| u8::from_str_radix(text.get(i * 2..i * 2 + 2)?, 16).ok();
    (0..text.len() / 2).filter_map(byte).collect()
}
