//! The divergent rows of a table, as a plan reads them: one by one, from wherever they are kept.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;

use crate::audit::merge::DivergentRow;
use crate::fault::ReadFault;
use crate::observe::links::Micros;
use crate::topology::NodeId;

/// Keeps divergent rows, in the order in which they were found.
pub trait KeepRows: fmt::Debug + Send + Sync {
    /// How many there are.
    fn count(&self) -> usize;

    /// One of them, from 0.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be read back.
    fn row(&self, at: usize) -> Result<DivergentRow, ReadFault>;
}

impl KeepRows for Vec<DivergentRow> {
    fn count(&self) -> usize {
        self.len()
    }

    fn row(&self, at: usize) -> Result<DivergentRow, ReadFault> {
        self.get(at).cloned().ok_or_else(|| lost(at))
    }
}

/// The fault of whoever has no such row.
fn lost(at: usize) -> ReadFault {
    ReadFault::new(format!("row {at} that was found no longer exists"), "run it again")
}

/// The divergent rows of a table.
#[derive(Debug, Clone)]
pub struct FoundRows(Arc<dyn KeepRows>);

impl FoundRows {
    /// Rows that are kept somewhere.
    #[must_use]
    pub fn kept(rows: Arc<dyn KeepRows>) -> Self {
        Self(rows)
    }

    /// The same rows, and more after them.
    #[must_use]
    pub fn and_more(rows: &Self, more: Vec<DivergentRow>) -> Self {
        Self(Arc::new(RowsAndMore { rows: rows.clone(), more }))
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.0.count()
    }

    /// There are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// One of them, from 0.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be read back.
    pub fn get(&self, at: usize) -> Result<DivergentRow, ReadFault> {
        self.0.row(at)
    }

    /// All of them, one after the other.
    pub fn iter(&self) -> impl Iterator<Item = Result<DivergentRow, ReadFault>> + '_ {
        (0..self.len()).map(|at| self.get(at))
    }
}

/// Rows that are kept somewhere, and a few more.
#[derive(Debug)]
struct RowsAndMore {
    rows: FoundRows,
    more: Vec<DivergentRow>,
}

impl KeepRows for RowsAndMore {
    fn count(&self) -> usize {
        self.rows.len() + self.more.len()
    }

    fn row(&self, at: usize) -> Result<DivergentRow, ReadFault> {
        match at.checked_sub(self.rows.len()) {
            None => self.rows.get(at),
            Some(at) => self.more.row(at),
        }
    }
}

impl Default for FoundRows {
    fn default() -> Self {
        Self::from(Vec::new())
    }
}

impl From<Vec<DivergentRow>> for FoundRows {
    fn from(rows: Vec<DivergentRow>) -> Self {
        Self(Arc::new(rows))
    }
}

/// When what nodes hold of the rows of a table was written, by the clocks of those who wrote: by node, row by row.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct WrittenTimes(BTreeMap<NodeId, Vec<Micros>>);

impl WrittenTimes {
    /// Stands for a time that is not known.
    const UNTOLD: Micros = Micros::MIN;

    /// Adds what a node tells of a row.
    pub fn add(&mut self, node: NodeId, row: usize, written: Micros) {
        let of_node = self.0.entry(node).or_default();
        if of_node.len() <= row {
            of_node.resize(row + 1, Self::UNTOLD);
        }
        of_node[row] = written;
    }

    /// The evidence on a row, by node.
    pub fn of(&self, row: usize) -> impl Iterator<Item = (NodeId, Micros)> + '_ {
        let told = self.0.iter().map(move |(node, rows)| (*node, rows.get(row).copied()));
        told.filter_map(|(node, at)| Some((node, at.filter(|at| *at != Self::UNTOLD)?)))
    }
}
