//! The ports: what the computation needs from a node, whatever engine it is.

use crate::rows::{Batch, RowFault, RowWriter};
use crate::shape::TableShape;

/// Why a node, or one table of it, could not be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{what}: {advice}")]
pub struct ReadFault {
    /// What was tried and what came back. No row contents, no secrets.
    pub what: String,
    /// What to do about it.
    pub advice: String,
    /// It ended because it was told to, not because something is wrong.
    pub interrupted: bool,
}

impl ReadFault {
    /// Something is wrong.
    #[must_use]
    pub fn new(what: impl Into<String>, advice: impl Into<String>) -> Self {
        Self { what: what.into(), advice: advice.into(), interrupted: false }
    }

    /// It was told to stop.
    #[must_use]
    pub fn interrupted() -> Self {
        Self {
            what: "interrupted".to_owned(),
            advice: "run it again".to_owned(),
            interrupted: true,
        }
    }
}

impl From<RowFault> for ReadFault {
    fn from(fault: RowFault) -> Self {
        Self::new(fault.to_string(), "check the node's own integrity before anything else")
    }
}

/// One table to be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TableRequest {
    /// Its name on this node.
    pub table: String,
    /// What this node calls the columns of the layout, in canonical order.
    pub columns: Vec<String>,
    /// The row filter of the set, SQL as this node understands it.
    pub filter: Option<String>,
    /// Rows are wanted in the key order of [`crate::order`]; otherwise in
    /// whichever order costs least.
    pub ordered: bool,
}

/// A node that can be read as of one moment.
///
/// The moment is fixed by the first call; everything read through one value
/// belongs to it.
pub trait ReadRows {
    /// What kind of node this is, in a few words.
    fn about(&self) -> String;

    /// About how many rows a table has, if that costs next to nothing to know.
    fn estimate(&mut self, _table: &str) -> Option<u64> {
        None
    }

    /// The shape of a table.
    ///
    /// # Errors
    /// [`ReadFault`] when there is no such table, or it cannot be read.
    fn shape(&mut self, table: &str) -> Result<TableShape, ReadFault>;

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
