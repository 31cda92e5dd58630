//! The ports: what the computation needs from a node, whatever engine it is.

use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::sync::Arc;

use crate::engine::service_tables::Stage;
use crate::fault::ReadFault;
use crate::history::journal::{Entry, Head, JournalPosition};
use crate::observe::links::LinkSnapshot;
use crate::observe::log_reach::LogReach;
use crate::observe::node::{NodeFacts, Observed};
use crate::row::batch::{Batch, RowWriter};
use crate::row::schema::TableShape;
use crate::row::selection::{RowKeys, RowSelection};

/// One table to be read.
#[derive(Debug, Clone, PartialEq)]
pub struct TableRequest {
    /// Its name on this node.
    pub table: String,
    /// The columns of the layout by their names on this node, in canonical order.
    pub columns: Vec<String>,
    /// The row filter of the set, SQL as this node understands it.
    pub filter: Option<String>,
    /// Rows are wanted in the key order of [`crate::row::key_order`]; otherwise in
    /// whichever order costs least.
    pub ordered: bool,
    /// Which of its rows.
    pub rows: RowSelection,
}

/// A node that can be read as of one moment.
///
/// The moment is fixed by the first call; everything read through one value
/// belongs to it.
pub trait ReadRows {
    /// The kind of node, in a few words.
    fn about(&self) -> String;

    /// The node's own name in the journals of others, if it has one for that.
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

    /// Of the row with each of these keys a mark that is another one after every write of it; none where the engine
    /// keeps nothing of the kind. `table` is its name, part by part.
    ///
    /// # Errors
    /// [`ReadFault`] when the node refuses.
    fn row_marks(
        &mut self,
        _table: &[String],
        rows: &RowKeys,
    ) -> Result<Vec<Option<u64>>, ReadFault> {
        Ok(vec![None; rows.keys.len()])
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
    /// The head of the journal.
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
    fn go_on(&mut self, _from: &JournalPosition) -> Result<bool, ReadFault> {
        Ok(false)
    }

    /// Where the reading ended; nothing if it did not get there, or the journal cannot go on.
    fn ended(&self) -> Option<JournalPosition> {
        None
    }

    /// Reads it from its beginning to where it ends now, in order. `each` ends it early by breaking.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be read to its end; what was handed out until then holds.
    fn read(&mut self, each: &mut dyn FnMut(Entry) -> ControlFlow<()>) -> Result<(), ReadFault>;
}

/// The things that a node lacks before its journal can be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum JournalNeeds {
    /// Nothing: it is read as it is.
    Nothing,
    /// Rights on the whole server, by their names.
    Rights {
        /// The account that needs them, as the engine's statements name it.
        account: String,
        /// Those that it lacks.
        lacking: Vec<&'static str>,
    },
    /// A slot and a publication.
    Slot(JournalSetup),
}

/// The set-up that is there of all that keen needs to read a node's log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct JournalSetup {
    /// The account that logged in.
    pub account: String,
    /// The slot that is there, if one is.
    pub slot: Option<String>,
    /// The name that the slot is to have where there is none.
    pub slot_name: String,
    /// The log that the slot should hold is gone.
    pub lost: bool,
    /// Whether the publication is there.
    pub published: bool,
    /// It tells writes of partitions as writes of their table.
    pub via_root: bool,
    /// The account may read a log.
    pub may_read: bool,
    /// The account may see how far the node has applied what others wrote.
    pub may_see_origins: bool,
    /// The tables.
    pub tables: Vec<PublishableTable>,
}

/// A table that keen's publication is to carry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublishableTable {
    /// Its name, part by part.
    pub name: Vec<String>,
    /// PostgreSQL would go on taking updates and deletes of it: something identifies its rows.
    pub identified: bool,
    /// The publication has it.
    pub published: bool,
}

/// Where the last write of a row came from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WriteOrigin {
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
    pub came: WriteOrigin,
}

/// A node whose rows tell when and where they were last written.
pub trait TellLastWrites {
    /// The slots through which others read this node's log.
    fn slots(&self) -> Vec<String>;

    /// The slots of other nodes through which this one receives.
    fn follows(&self) -> Vec<String>;

    /// The last write of the row with each of these keys; none where there is no such row, or it does not tell.
    /// `table` is its name, part by part.
    ///
    /// # Errors
    /// [`ReadFault`] when the rows cannot be asked.
    fn last_writes(
        &mut self,
        table: &[String],
        rows: &RowKeys,
    ) -> Result<Vec<Option<LastWritten>>, ReadFault>;
}

/// The subject of a look at a node.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct InspectionRequest {
    /// The tables of the sets that travel over this node: as the sets name them, and as it does itself.
    pub tables: Vec<(String, String)>,
    /// Whether applications write here.
    pub writes: bool,
    /// Whether links lead here.
    pub receives: bool,
    /// Whether the account carries plans out: then it needs more.
    pub mends: bool,
}

/// A node that tells how it is set up, as far as its account may see.
pub trait LookAtNode {
    /// Looks around. What cannot be seen becomes the reason why.
    fn look(&mut self, asked: &InspectionRequest) -> NodeFacts;

    /// How far its log has come, and whether it still holds everything since a position.
    ///
    /// # Errors
    /// Why that cannot be told.
    fn log_reach(&mut self, since: Option<&str>) -> Observed<LogReach>;
}

/// A node that tells how its links are doing, again and again over one connection.
pub trait LookAtLinks {
    /// Looks at what brings changes here and at what is fetched from here, with a few light statements.
    /// `tables` are those of the sets: as the sets name them, and as the node does.
    ///
    /// # Errors
    /// [`ReadFault`] when the node no longer answers.
    fn look_at_links(&mut self, tables: &[(String, String)]) -> Result<LinkSnapshot, ReadFault>;
}

/// A node to which a probe's row is written, and in which it is looked for.
pub trait WriteProbe {
    /// Creates the table, as [`crate::engine::service_tables::create`] spells it.
    ///
    /// # Errors
    /// [`ReadFault`] when the node refuses it.
    fn create(&mut self) -> Result<(), ReadFault>;

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
