//! Rows on their way from an adapter to the comparison.
//!
//! An adapter pushes each row once into a [`RowWriter`], which encodes it
//! straight into a [`Batch`]: order bytes of the key, then the canonical row,
//! then one digest over the latter. Batches travel to the comparison and come
//! back to be filled again, so memory is a few batches per node whatever the
//! size of the table.

use crate::row::balance::Balance;
use crate::row::conversion::{Conversion, Converted};
use crate::row::digest::{Digest, DigestFunction};
use crate::row::encoding;
use crate::row::key_order;
use crate::value::ValueRef;

/// One compared column.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Column {
    /// Its name as most nodes have it.
    pub name: String,
    /// How its cells are taken.
    pub reading: Conversion,
}

/// The compared part of a table, the same on every node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Layout {
    /// The columns in canonical order: ascending by the bytes of their names.
    pub columns: Vec<Column>,
    /// Indexes of the key columns, in key order. Empty: the row is its own key.
    pub key: Vec<usize>,
    /// Indexes of all columns in the order in which an engineer declared them.
    pub shown: Vec<usize>,
}

/// A run of encoded rows in key order.
#[derive(Debug, Clone, Default)]
pub struct Batch {
    bytes: Vec<u8>,
    entries: Vec<RowBounds>,
    stretches: Vec<BatchPart>,
    /// The sum since the last stretch ended.
    open: Balance,
    /// A row of it does not count by its digest alone.
    open_mixed: bool,
}

/// Some rows of a batch that follow each other, with their balance.
///
/// Where one ends depends on the rows alone (see [`Batch::push`]), so that nodes which hold the same rows
/// cut them alike, wherever their batches end and whatever differs before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BatchPart {
    /// The number of its first row.
    pub start: usize,
    /// The number of the row after its last.
    pub end: usize,
    /// The balance of its rows; none if one of them is outside the filter, or is its own key: then the sum does not
    /// say what is held.
    pub balance: Option<Balance>,
}

/// One row in so many ends a stretch, by its digest.
const ROWS_PER_STRETCH: u128 = 64;

#[derive(Debug, Clone, Copy)]
struct RowBounds {
    start: usize,
    row: usize,
    end: usize,
    digest: Digest,
    outside: bool,
    identified: bool,
}

/// One encoded row of a batch.
#[derive(Debug, Clone, Copy)]
pub struct Row<'a> {
    /// Bytes that compare like the key.
    pub key: &'a [u8],
    /// The canonical row.
    pub row: &'a [u8],
    /// Its digest.
    pub digest: Digest,
    /// The row is there, and the set's row filter leaves it out.
    pub outside: bool,
    /// The key names one row. Otherwise (no key, or NULL in it) the whole
    /// content stands in the key bytes, and equal rows are counted.
    pub identified: bool,
}

impl Batch {
    /// How many rows it holds.
    #[must_use]
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether it holds none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// Row number `at`, if there are so many.
    #[must_use]
    #[inline]
    pub fn get(&self, at: usize) -> Option<Row<'_>> {
        let entry = self.entries.get(at)?;
        Some(Row {
            key: &self.bytes[entry.start..entry.row],
            row: &self.bytes[entry.row..entry.end],
            digest: entry.digest,
            outside: entry.outside,
            identified: entry.identified,
        })
    }

    /// How many bytes its rows take.
    #[must_use]
    pub fn bytes(&self) -> usize {
        self.bytes.len()
    }

    /// Adds a row that was encoded before. Its digest says whether it is the last of its stretch.
    pub fn push(&mut self, row: &Row<'_>) {
        let start = self.bytes.len();
        self.bytes.extend_from_slice(row.key);
        let middle = self.bytes.len();
        self.bytes.extend_from_slice(row.row);
        let (end, digest) = (self.bytes.len(), row.digest);
        let (outside, identified) = (row.outside, row.identified);
        self.add(RowBounds { start, row: middle, end, digest, outside, identified });
    }

    #[inline]
    fn add(&mut self, entry: RowBounds) {
        self.entries.push(entry);
        self.count(entry, self.entries.len());
    }

    /// Counts the row before number `end` to its stretch.
    #[inline]
    fn count(&mut self, entry: RowBounds, end: usize) {
        self.open.credit(entry.digest);
        self.open_mixed |= entry.outside || !entry.identified;
        if entry.digest.0.is_multiple_of(ROWS_PER_STRETCH) {
            self.end_stretch(end);
        }
    }

    fn end_stretch(&mut self, end: usize) {
        let start = self.stretches.last().map_or(0, |stretch| stretch.end);
        if end > start {
            let balance = (!self.open_mixed).then_some(self.open);
            self.stretches.push(BatchPart { start, end, balance });
        }
        (self.open, self.open_mixed) = (Balance::default(), false);
    }

    /// Stretch number `at`, if there are so many. Rows at the end may be in none.
    #[must_use]
    #[inline]
    pub fn stretch(&self, at: usize) -> Option<&BatchPart> {
        self.stretches.get(at)
    }

    /// Puts its rows into key order; rows that share a key, into the order of their digests.
    pub fn sort(&mut self) {
        let bytes = &self.bytes;
        self.entries.sort_unstable_by(|a, b| {
            bytes[a.start..a.row].cmp(&bytes[b.start..b.row]).then(a.digest.cmp(&b.digest))
        });
        self.stretches.clear();
        (self.open, self.open_mixed) = (Balance::default(), false);
        for at in 0..self.entries.len() {
            self.count(self.entries[at], at + 1);
        }
    }

    /// Takes its rows out and keeps its memory.
    pub fn clear(&mut self) {
        self.bytes.clear();
        self.entries.clear();
        self.stretches.clear();
        (self.open, self.open_mixed) = (Balance::default(), false);
    }
}

/// Why a row was not taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum RowFault {
    /// The key came before the one delivered last.
    #[error("rows did not arrive in key order; an index may be damaged")]
    OutOfOrder,
    /// The key was delivered before.
    #[error("two rows have the same key; an index may be damaged")]
    KeyTwice,
}

/// A cell on its way into a batch: as the node holds it, or taken in the common kind.
trait BatchCell {
    fn value(&self) -> ValueRef<'_>;
}

impl BatchCell for ValueRef<'_> {
    #[inline]
    fn value(&self) -> ValueRef<'_> {
        *self
    }
}

impl BatchCell for Converted<'_> {
    #[inline]
    fn value(&self) -> ValueRef<'_> {
        self.as_ref()
    }
}

/// Encodes rows into batches of about the size asked for.
#[derive(Debug, Clone)]
pub struct RowWriter {
    layout: Layout,
    function: DigestFunction,
    /// A batch is handed over once it holds this many bytes.
    batch_bytes: usize,
    batch: Batch,
    /// Rows come in key order, and that is checked.
    ordered: bool,
    /// The last key of the batch before, to check the order across batches.
    last_key: Vec<u8>,
    any_before: bool,
    /// Every cell is taken as it is.
    plain: bool,
}

impl RowWriter {
    /// A writer for one table of one node.
    #[must_use]
    pub fn new(layout: Layout, function: DigestFunction, batch_bytes: usize) -> Self {
        Self {
            plain: layout.columns.iter().all(|column| column.reading.is_plain()),
            layout,
            function,
            batch_bytes,
            batch: Batch::default(),
            ordered: true,
            last_key: Vec::new(),
            any_before: false,
        }
    }

    /// Takes rows in whatever order they come.
    #[must_use]
    pub fn in_any_order(mut self) -> Self {
        self.ordered = false;
        self
    }

    /// How many bytes make a batch full.
    #[must_use]
    pub fn batch_bytes(&self) -> usize {
        self.batch_bytes
    }

    /// The compared columns.
    #[must_use]
    pub fn layout(&self) -> &Layout {
        &self.layout
    }

    /// Takes one row; `cell(i)` yields the value of `layout.columns[i]`. An
    /// `outside` row is one that the set's filter leaves out.
    ///
    /// Returns true when the batch is full and should be taken.
    ///
    /// # Errors
    /// The fault that `cell` returns, or a [`RowFault`].
    #[inline]
    pub fn push<'a, E: From<RowFault>>(
        &mut self,
        outside: bool,
        cell: impl Fn(usize) -> Result<ValueRef<'a>, E>,
    ) -> Result<bool, E> {
        if self.plain {
            self.encode(outside, |_, i| cell(i))
        } else {
            self.encode(outside, |reading, i| cell(i).map(|value| reading.take(value)))
        }
    }

    #[inline]
    fn encode<V: BatchCell, E: From<RowFault>>(
        &mut self,
        outside: bool,
        cell: impl Fn(&Conversion, usize) -> Result<V, E>,
    ) -> Result<bool, E> {
        let cell = |i: usize| cell(&self.layout.columns[i].reading, i);
        let bytes = &mut self.batch.bytes;
        let start = bytes.len();
        let mut identified = !self.layout.key.is_empty();
        // Of most tables the key is one cell: it is asked for once, and stands in both places.
        let mut at_hand = None;
        for i in &self.layout.key {
            let value = cell(*i)?;
            identified &= value.value() != ValueRef::Null;
            key_order::put_key(bytes, value.value());
            at_hand = Some((*i, value));
        }
        if !identified {
            if outside {
                bytes.truncate(start); // such a row has no key by which it could be missed
                return Ok(false);
            }
            for i in 0..self.layout.columns.len() {
                key_order::put_key(bytes, cell(i)?.value());
            }
        }
        let row = bytes.len();
        encoding::begin_row(bytes);
        for i in 0..self.layout.columns.len() {
            match &at_hand {
                Some((at, value)) if *at == i => encoding::put_cell(bytes, value.value()),
                _ => encoding::put_cell(bytes, cell(i)?.value()),
            }
        }
        let end = bytes.len();
        if self.ordered {
            self.check_order(start, row, identified)?;
        }
        let digest = self.function.digest(&self.batch.bytes[row..end]);
        self.batch.add(RowBounds { start, row, end, digest, outside, identified });
        Ok(end >= self.batch_bytes)
    }

    #[inline]
    fn check_order(&self, start: usize, row: usize, identified: bool) -> Result<(), RowFault> {
        let before = match self.batch.entries.last() {
            Some(entry) => &self.batch.bytes[entry.start..entry.row],
            None if self.any_before => &self.last_key[..],
            None => return Ok(()),
        };
        match self.batch.bytes[start..row].cmp(before) {
            std::cmp::Ordering::Greater => Ok(()),
            std::cmp::Ordering::Equal if !identified => Ok(()),
            std::cmp::Ordering::Equal => Err(RowFault::KeyTwice),
            std::cmp::Ordering::Less => Err(RowFault::OutOfOrder),
        }
    }

    /// Takes the rows gathered so far.
    pub fn take(&mut self) -> Batch {
        if let Some(last) = self.batch.entries.last() {
            self.last_key.clear();
            self.last_key.extend_from_slice(&self.batch.bytes[last.start..last.row]);
            self.any_before = true;
        }
        self.batch.end_stretch(self.batch.entries.len());
        std::mem::take(&mut self.batch)
    }

    /// Fills the memory of a spent batch next.
    pub fn reuse(&mut self, mut spent: Batch) {
        spent.clear();
        // One huge row must not keep its memory for the rest of the table.
        spent.bytes.shrink_to(self.batch_bytes * 2);
        self.batch = spent;
    }
}
