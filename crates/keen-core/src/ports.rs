//! The ports: what the computation needs from a node, whatever engine it is.

use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::sync::Arc;

use crate::engine::service_tables::Stage;
use crate::fault::ReadFault;
use crate::history::journal::{Entry, Head, Mark};
use crate::observe::links::Heard;
use crate::observe::log_reach::LogReach;
use crate::observe::node::{Facts, Seen};
use crate::row::batch::{Batch, RowWriter};
use crate::row::schema::TableShape;

/// One table to be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TableRequest {
    /// Its name on this node.
    pub table: String,
    /// What this node calls the columns of the layout, in canonical order.
    pub columns: Vec<String>,
    /// The row filter of the set, SQL as this node understands it.
    pub filter: Option<String>,
    /// Rows are wanted in the key order of [`crate::row::key_order`]; otherwise in
    /// whichever order costs least.
    pub ordered: bool,
    /// Only this stretch of the table.
    pub range: Option<KeyRange>,
    /// Only rows whose key begins with one of these numbers.
    pub only: Option<Arc<[i64]>>,
    /// Only rows that meet this condition, SQL as the engine understands it. Asked only of tables with a key.
    pub condition: Option<String>,
}

impl TableRequest {
    /// What it asks of the first column of the key, quoted, as a condition; none if nothing.
    #[must_use]
    pub fn stretch(&self, column: &str, nullable: bool) -> Option<String> {
        let range = self.range.and_then(|range| range.condition(column, nullable));
        let only = self.only.as_ref().map(|numbers| {
            let numbers: Vec<String> = numbers.iter().map(i64::to_string).collect();
            format!("{column} IN ({})", numbers.join(", "))
        });
        let condition = self.condition.as_ref().map(|condition| format!("({condition})"));
        let parts: Vec<String> = [range.map(|range| format!("({range})")), only, condition]
            .into_iter()
            .flatten()
            .collect();
        (!parts.is_empty()).then(|| parts.join(" AND "))
    }
}

/// A stretch of a table by the first column of its key, which is a whole number. What is no number
/// belongs to the first stretch if nothing, else to the last.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct KeyRange {
    /// From here on; from the beginning if none.
    pub from: Option<i64>,
    /// Up to here and not including it; to the end if none.
    pub before: Option<i64>,
}

impl KeyRange {
    /// Stretches of equal width that together are everything.
    #[must_use]
    pub fn split(least: i64, greatest: i64, parts: usize) -> Vec<Self> {
        let (low, span) = (i128::from(least), i128::from(greatest) - i128::from(least));
        let parts = parts.max(1);
        let bound = |part: usize| i64::try_from(low + span * part as i128 / parts as i128).ok();
        (0..parts)
            .map(|part| Self {
                from: if part == 0 { None } else { bound(part) },
                before: if part + 1 == parts { None } else { bound(part + 1) },
            })
            .collect()
    }

    /// As a condition on a quoted column; none if it is everything. Where the column can hold NULL
    /// the first stretch has to ask for it, which keeps some servers from using an index.
    #[must_use]
    pub fn condition(&self, column: &str, nullable: bool) -> Option<String> {
        match (self.from, self.before) {
            (None, None) => None,
            (Some(from), None) => Some(format!("{column} >= {from}")),
            (None, Some(before)) if nullable => {
                Some(format!("({column} < {before} OR {column} IS NULL)"))
            }
            (None, Some(before)) => Some(format!("{column} < {before}")),
            (Some(from), Some(before)) => {
                Some(format!("{column} >= {from} AND {column} < {before}"))
            }
        }
    }
}

/// A node that can be read as of one moment.
///
/// The moment is fixed by the first call; everything read through one value
/// belongs to it.
pub trait ReadRows {
    /// What kind of node this is, in a few words.
    fn about(&self) -> String;

    /// What the node calls itself in the journals of others, if it has a name of its own for that.
    fn calls_itself(&mut self) -> Option<String> {
        None
    }

    /// About how many rows a table has, if that costs next to nothing to know.
    fn estimate(&mut self, _table: &str) -> Option<u64> {
        None
    }

    /// The least and the greatest value of the first column of a table's key, if that is a whole
    /// number and costs next to nothing to know.
    fn key_bounds(&mut self, _table: &str) -> Option<(i64, i64)> {
        None
    }

    /// Up to `count` more readers of the same node, fixed at the same moment; fewer where the node
    /// cannot promise that.
    fn twins(&mut self, _count: usize) -> Vec<Box<dyn ReadRows + Send>> {
        Vec::new()
    }

    /// The shape of a table.
    ///
    /// # Errors
    /// [`ReadFault`] when there is no such table, or it cannot be read.
    fn shape(&mut self, table: &str) -> Result<TableShape, ReadFault>;

    /// The tables that the node keeps and that none of these names means, as the node calls them, sorted; neither
    /// the server's own nor those of keen, nor what is a part of one of them. None if the engine is not asked.
    ///
    /// # Errors
    /// [`ReadFault`] when the node refuses.
    fn other_tables(&mut self, _named: &[String]) -> Result<Option<Vec<String>>, ReadFault> {
        Ok(None)
    }

    /// Of each of these texts the number of its group: a unique index over the column takes those of one group
    /// for one value. None if the engine is not asked.
    ///
    /// # Errors
    /// [`ReadFault`] when the node refuses, or there is no such column.
    fn alike(
        &mut self,
        _table: &str,
        _column: &str,
        _texts: &[String],
    ) -> Result<Option<Vec<u64>>, ReadFault> {
        Ok(None)
    }

    /// Of the rows that meet each of these conditions a mark that is another one after every write of them; none
    /// where the engine keeps nothing of the kind.
    ///
    /// # Errors
    /// [`ReadFault`] when the node refuses.
    fn row_marks(
        &mut self,
        _table: &[String],
        conditions: &[&str],
    ) -> Result<Vec<Option<u64>>, ReadFault> {
        Ok(vec![None; conditions.len()])
    }

    /// Reads a table once into `writer`, in key order if the request says so.
    /// Full batches go to `deliver`, which returns an empty one to fill next,
    /// or nothing when the reader of the rows has gone.
    ///
    /// # Errors
    /// [`ReadFault`] when the table cannot be read to its end.
    fn read(
        &mut self,
        request: &TableRequest,
        writer: RowWriter,
        deliver: &mut dyn FnMut(Batch) -> Option<Batch>,
    ) -> Result<(), ReadFault>;
}

/// A node whose journal can be read.
pub trait ReadJournal {
    /// What the journal tells of itself.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be read at all.
    fn head(&mut self) -> Result<Head, ReadFault>;

    /// Tells it who the nodes are whose slots it follows, by slot; before it is read.
    fn resolve(&mut self, _sources: &BTreeMap<String, Arc<str>>) {}

    /// By origin up to which number the node has applied its transactions, as it says after the journal was
    /// read; nothing where it does not say.
    fn applied(&mut self) -> BTreeMap<Arc<str>, u64> {
        BTreeMap::new()
    }

    /// Makes the next reading begin at a mark that an earlier one ended at. False where the journal does not
    /// have that place any more: then it is of no use until it is opened again.
    ///
    /// # Errors
    /// [`ReadFault`] when the journal cannot be read at all.
    fn go_on(&mut self, _from: &Mark) -> Result<bool, ReadFault> {
        Ok(false)
    }

    /// Where the reading ended; nothing if it did not get there, or the journal cannot go on.
    fn ended(&self) -> Option<Mark> {
        None
    }

    /// Reads it from its beginning to where it ends now, in order. `each` ends it early by breaking.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be read to its end; what was handed out until then holds.
    fn read(&mut self, each: &mut dyn FnMut(Entry) -> ControlFlow<()>) -> Result<(), ReadFault>;
}

/// Where the last write of a row came from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Came {
    /// It was made here.
    MadeHere,
    /// Through this slot of another node, or under this name.
    Through(String),
    /// Nobody knows any more.
    Unknown,
}

/// The last write of a row, as the node that holds it tells.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LastWritten {
    /// When it was committed where it was made, by that node's clock, in microseconds since 1970.
    pub made: i64,
    /// How long ago that was by this node's clock, in microseconds.
    pub age: i64,
    /// Where it came from.
    pub came: Came,
}

/// A node whose rows tell when and where they were last written.
pub trait TellLastWrites {
    /// The slots through which others read this node's log.
    fn slots(&self) -> Vec<String>;

    /// The slots of other nodes through which this one receives.
    fn follows(&self) -> Vec<String>;

    /// The last writes of the rows that meet each of these conditions, SQL as the engine understands it; none
    /// where there is no such row, or it does not tell. `table` is its name, part by part.
    ///
    /// # Errors
    /// [`ReadFault`] when the rows cannot be asked.
    fn last_writes(
        &mut self,
        table: &[String],
        conditions: &[String],
    ) -> Result<Vec<Option<LastWritten>>, ReadFault>;
}

/// What a look at a node is to find.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Asked {
    /// The tables of the sets that travel over this node: as the sets name them, and as it does itself.
    pub tables: Vec<(String, String)>,
    /// Whether applications write here.
    pub writes: bool,
    /// Whether links lead here.
    pub receives: bool,
}

/// A node that tells how it is set up, as far as its account may see.
pub trait LookAtNode {
    /// Looks around. What cannot be seen becomes the reason why.
    fn look(&mut self, asked: &Asked) -> Facts;

    /// How far its log has come, and whether it still holds everything since a position.
    ///
    /// # Errors
    /// Why that cannot be told.
    fn log_reach(&mut self, since: Option<&str>) -> Seen<LogReach>;
}

/// A node that tells how its links are doing, again and again over one connection.
pub trait LookAtLinks {
    /// Looks at what brings changes here and at what is fetched from here, with a few light statements.
    /// `tables` are those of the sets: as the sets name them, and as the node does.
    ///
    /// # Errors
    /// [`ReadFault`] when the node no longer answers.
    fn look_at_links(&mut self, tables: &[(String, String)]) -> Result<Heard, ReadFault>;
}

/// A node to which a probe's row is written, and in which it is looked for.
pub trait WriteProbe {
    /// Runs the statement that creates the table.
    ///
    /// # Errors
    /// [`ReadFault`] when the node refuses it.
    fn create(&mut self, statement: &str) -> Result<(), ReadFault>;

    /// Inserts, updates or deletes the row with this id, as the application of `node`.
    ///
    /// # Errors
    /// [`ReadFault`] when the node refuses it; nothing of it is kept then.
    fn write(&mut self, id: &str, node: &str, stage: Stage) -> Result<(), ReadFault>;

    /// Sets the node's row in the table of heartbeats to now.
    ///
    /// # Errors
    /// [`ReadFault`] when the node refuses it.
    fn beat(&mut self, node: &str) -> Result<(), ReadFault>;

    /// The ids of all its rows, or of the first of very many.
    ///
    /// # Errors
    /// [`ReadFault`] when the table cannot be read.
    fn ids(&mut self) -> Result<Vec<String>, ReadFault>;

    /// The stage that the row with this id is in; none if there is no such row.
    ///
    /// # Errors
    /// [`ReadFault`] when the table cannot be read.
    fn find(&mut self, id: &str) -> Result<Option<String>, ReadFault>;
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn every_key_is_in_exactly_one_stretch(
            a in any::<i64>(), b in any::<i64>(), parts in 1usize..9, key in any::<i64>(),
        ) {
            let ranges = KeyRange::split(a.min(b), a.max(b), parts);
            let has = |range: &&KeyRange| {
                range.from.is_none_or(|from| key >= from) && range.before.is_none_or(|before| key < before)
            };
            prop_assert_eq!(ranges.iter().filter(has).count(), 1);
        }
    }
}
