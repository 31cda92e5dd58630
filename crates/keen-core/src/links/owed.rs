//! The debt of a link that stands still: the writes in the source's journal behind the place up to which the receiver
//! has applied it.
//!
//! Behind such a link nothing is on its way any more than it was. A row that differs and stands in no owed
//! write differs for another reason, and waiting will not mend it. The first owed transaction is the one at
//! which the link stopped.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use crate::history::journal::{Begin, Entry, Head, Id, RowChange, RowOp, Since, Stream};
use crate::links::FirstOwed;
use crate::observe::links::Micros;
use crate::observe::position::Position;
use crate::row::batch::Layout;
use crate::row::digest::DigestFunction;
use crate::row::encoding;
use crate::value::Value;
use crate::value::text::text_of;

/// More keys than this are not remembered; which rows are owed is not known then.
const MOST_KEYS: usize = 1_000_000;
/// Rows of the first transaction that are kept with their contents.
const MOST_ROWS: usize = 100;
/// Rows of one transaction that are put aside until its place is known.
const MOST_UNDECIDED: usize = 100_000;

/// A table whose owed writes are wanted.
#[derive(Debug, Clone)]
pub struct OwedTable {
    /// As the sets name it.
    pub name: String,
    /// Its columns and its key, as they are compared.
    pub layout: Layout,
    /// The source's names of the layout's columns.
    pub columns: Vec<String>,
}

/// The writes that a receiver lacks.
#[derive(Debug, Clone)]
pub struct OwedWrites {
    applied: Position,
    /// The domain that the receiver writes itself: what it made is not brought back to it.
    own: Option<u32>,
    source: String,
    /// The link brings only what the source made itself.
    own_only: bool,
    keys: BTreeMap<String, HashSet<u64>>,
    /// Tables of which any row may be owed.
    whole: BTreeSet<String>,
    /// Whether the receiver lacks the transaction at hand; none if that is known only at its end.
    owing: Option<bool>,
    at: Option<Begin>,
    /// Its writes, until it is known whether they count.
    undecided: Vec<OwedRow>,
    /// The first of them that writes to a wanted table.
    pub first: Option<OwedTransaction>,
    /// Rows of wanted tables that are owed, each write counted.
    pub writes: u64,
}

/// A transaction that a receiver lacks.
#[derive(Debug, Clone, PartialEq)]
pub struct OwedTransaction {
    /// Its name.
    pub id: Id,
    /// When it was committed where it was made.
    pub committed_at: Option<Micros>,
    /// Where its commit stands in the source's log, as PostgreSQL's subscribers know it; none elsewhere.
    pub commit: Option<u64>,
    /// Its writes to wanted tables; of very many the first.
    pub rows: Vec<OwedRow>,
    /// How many there are.
    pub count: u64,
}

/// A write that a receiver lacks. Cells stand in the order of the layout; one that the journal does not tell
/// is none.
#[derive(Debug, Clone, PartialEq)]
pub struct OwedRow {
    /// The table, as the sets name it.
    pub table: String,
    /// Its key, column by column; nothing where the table has none, or the journal does not tell it.
    pub key: Vec<(String, Value)>,
    /// The kind of write.
    pub act: RowOp,
    /// The row before.
    pub before: Option<Vec<Option<Value>>>,
    /// The row after.
    pub after: Option<Vec<Option<Value>>>,
    /// Tokens of the keys that it has or had.
    tokens: Vec<u64>,
}

impl OwedWrites {
    /// Nothing read yet of what a receiver lacks that has applied its source's log up to `applied`.
    #[must_use]
    pub fn behind(applied: Position, own: Option<u32>, source: &str, own_only: bool) -> Self {
        Self {
            applied,
            own,
            source: source.to_owned(),
            own_only,
            keys: BTreeMap::new(),
            whole: BTreeSet::new(),
            owing: Some(false),
            at: None,
            undecided: Vec::new(),
            first: None,
            writes: 0,
        }
    }

    /// Whether a journal reaches back to where the receiver has come, so that it tells everything it lacks.
    #[must_use]
    pub fn is_told_by(&self, head: &Head) -> bool {
        match (&head.since, &self.applied) {
            (Since::After(before), _) => before.iter().all(|(writer, place)| {
                self.has(&Id { writer: writer.clone(), place: *place }) != Some(false)
            }),
            (Since::Unclear(from), Position::Lsn(applied)) => from <= applied,
            (Since::Unclear(_), _) => false,
        }
    }

    /// Whether the receiver has a transaction; none if its position does not tell.
    fn has(&self, id: &Id) -> Option<bool> {
        let own = *id.writer.origin == *self.source;
        match (&self.applied, id.writer.stream) {
            (Position::Gtid(domains), Stream::Domain(domain)) => Some(
                self.own == Some(domain)
                    || domains.get(&domain).is_some_and(|(_, number)| *number >= id.place),
            ),
            (Position::Lsn(at), Stream::Lsn) if own => Some(id.place <= *at),
            (Position::Origins(origins), Stream::Count) => {
                Some(origins.get(&*id.writer.origin).is_some_and(|number| *number >= id.place))
            }
            _ => None,
        }
    }

    /// Takes what the journal tells. What cannot be put to a place counts as owed.
    pub fn take(&mut self, entry: &Entry, tables: &[OwedTable]) {
        match entry {
            Entry::Begin(begin) => {
                self.finish();
                let Begin { id, order, .. } = begin;
                let repair = id.writer.stream == Stream::Repair;
                let own = *id.writer.origin == *self.source && !repair;
                self.owing = match &self.applied {
                    _ if self.own_only && !own => Some(false),
                    // Counted are the entries of the source's journal, whoever made them.
                    Position::Count(at) => Some(order > at),
                    _ => self.has(id).map(|has| !has),
                };
                self.at = Some(begin.clone());
            }
            // What others made and the source passes on has a place in its own log, too; it comes last.
            Entry::PassedOn(number) => {
                if let Position::Lsn(at) | Position::Count(at) = self.applied
                    && *number <= at
                {
                    self.undecided.clear();
                }
            }
            Entry::Shape(change) if self.owing != Some(false) => {
                self.whole.insert(change.table.to_string());
            }
            Entry::Row(change) if self.owing != Some(false) => {
                let Some(table) = tables.iter().find(|table| table.name == *change.table) else {
                    return;
                };
                let row = owed_row(change, table);
                match self.owing {
                    Some(_) => self.owe(row),
                    None if self.undecided.len() < MOST_UNDECIDED => self.undecided.push(row),
                    None => drop(self.whole.insert(row.table)),
                }
            }
            Entry::Shape(_) | Entry::Row(_) => {}
        }
    }

    /// Whether the transaction at hand follows the first owed one.
    #[must_use]
    pub fn is_past_the_first(&self) -> bool {
        let at = self.at.as_ref().map(|at| &at.id);
        self.first.as_ref().is_some_and(|first| Some(&first.id) != at)
    }

    /// The journal has ended.
    pub fn finish(&mut self) {
        for row in std::mem::take(&mut self.undecided) {
            self.owe(row);
        }
    }

    fn owe(&mut self, row: OwedRow) {
        self.writes += 1;
        let keys = self.keys.entry(row.table.clone()).or_default();
        keys.extend(row.tokens.iter().copied());
        if row.tokens.is_empty() || self.keys.values().map(HashSet::len).sum::<usize>() > MOST_KEYS
        {
            self.keys.remove(&row.table);
            self.whole.insert(row.table.clone());
        }
        let Some(Begin { id, made, commit, .. }) = &self.at else { return };
        // What others made may have come another way, where entries are only counted.
        if matches!(self.applied, Position::Count(_)) && *id.writer.origin != *self.source {
            return;
        }
        let first = self.first.get_or_insert_with(|| OwedTransaction {
            id: id.clone(),
            committed_at: *made,
            commit: *commit,
            rows: Vec::new(),
            count: 0,
        });
        if first.id == *id {
            first.count += 1;
            if first.rows.len() < MOST_ROWS {
                first.rows.push(row);
            }
        }
    }

    /// Whether a row may yet be brought or changed by what is owed; an empty key stands for any row.
    #[must_use]
    pub fn may_write(&self, table: &str, key: &[Value]) -> bool {
        let written = || self.keys.get(table);
        self.whole.contains(table)
            || match key.is_empty() {
                true => written().is_some_and(|keys| !keys.is_empty()),
                false => written().is_some_and(|keys| keys.contains(&token(key))),
            }
    }
}

impl OwedTransaction {
    /// In words, for showing it.
    #[must_use]
    pub fn told(&self) -> FirstOwed {
        let write = |row: &OwedRow| {
            let act = match row.act {
                RowOp::Insert => "insert into",
                RowOp::Update => "update of",
                RowOp::Delete => "delete from",
            };
            let key: Vec<String> = (row.key.iter())
                .map(|(name, value)| format!("{name} {}", text_of(value.as_ref())))
                .collect();
            let key =
                if key.is_empty() { "a row without a key".to_owned() } else { key.join(", ") };
            format!("{act} {} {key}", row.table)
        };
        FirstOwed {
            transaction: self.id.to_string(),
            committed_at: self.committed_at,
            writes: self.rows.iter().map(write).collect(),
            count: self.count,
        }
    }
}

fn key_of(layout: &Layout, cells: &[Option<Value>]) -> Option<Vec<Value>> {
    let key: Option<Vec<Value>> =
        layout.key.iter().map(|at| cells.get(*at).cloned().flatten()).collect();
    key.filter(|key| !key.is_empty())
}

/// Half of a digest tells a million keys apart; two that share one make a row wait, and lose nothing.
fn token(key: &[Value]) -> u64 {
    let digest = DigestFunction::default().digest(&encoding::row_bytes(key)).0;
    (digest >> 64) as u64 ^ digest as u64
}

fn owed_row(change: &RowChange, table: &OwedTable) -> OwedRow {
    let places: Vec<Option<usize>> = (table.columns.iter())
        .map(|name| {
            let exact = change.columns.iter().position(|column| column == name);
            exact.or_else(|| change.columns.iter().position(|c| c.eq_ignore_ascii_case(name)))
        })
        .collect();
    let side = |cells: &Option<Vec<Option<Value>>>| {
        cells.as_ref().map(|cells| {
            let columns = table.layout.columns.iter().zip(&places);
            columns
                .map(|(column, at)| {
                    let cell = cells.get((*at)?)?.as_ref()?;
                    Some(column.reading.take(cell.as_ref()).as_ref().to_value())
                })
                .collect::<Vec<Option<Value>>>()
        })
    };
    let (before, after) = (side(&change.before), side(&change.after));
    let keys: Vec<Vec<Value>> = [&before, &after]
        .into_iter()
        .flatten()
        .filter_map(|side| key_of(&table.layout, side))
        .collect();
    let tokens = keys.iter().map(|key| token(key)).collect();
    let names = table.layout.key.iter().map(|at| table.layout.columns[*at].name.clone());
    let key = names.zip(keys.into_iter().next().unwrap_or_default()).collect();
    OwedRow { table: table.name.clone(), key, act: change.act, before, after, tokens }
}
