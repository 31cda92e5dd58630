//! Rows taken where SQLite has them, instead of one by one through its interface.
//!
//! Fetching each cell of a result costs SQLite's interface about as much as
//! finding it. A condition that calls a function of ours sees the same cells
//! for less: the function encodes the row and says no, so that SQLite goes on
//! by itself, until the batch is full. That holds only as long as SQLite visits the rows in
//! the order asked for; where it would sort them first, the condition would see
//! them unsorted, and the rows are fetched in the usual way.

use std::cell::RefCell;

use crossbeam_channel::{Receiver, Sender, unbounded};
use keen_core::row::batch::{Batch, RowFault, RowWriter};
use rusqlite::functions::FunctionFlags;
use rusqlite::limits::Limit;
use rusqlite::{Connection, Statement};

use super::read::value;

/// The SQL function that takes a row; true means: stop here, there is a batch. Called with nothing, it hands
/// over what it has.
pub(super) const TAKE_FUNCTION: &str = "keen_take";

/// The other end of a function that fills batches while SQLite runs a query.
///
/// The function owns the writer, and whole batches travel: a lock that is taken and let go with each row costs
/// a fourteenth of reading a table.
pub(super) struct BatchFiller {
    full: Receiver<Result<Batch, RowFault>>,
    spent: Sender<Batch>,
}

/// The state of the function that fills a batch.
struct Filling {
    writer: RowWriter,
    full: Sender<Result<Batch, RowFault>>,
    spent: Receiver<Batch>,
    /// A batch was handed over, and none taken back yet.
    is_new: bool,
}

impl Filling {
    /// Hands over what there is.
    fn hand_over(&mut self) {
        // Nobody listens any more when the reading was stopped.
        drop(self.full.send(Ok(self.writer.take())));
        self.is_new = true;
    }
}

impl BatchFiller {
    /// Lets queries of `connection` fill `writer`. The last argument of a call says, where
    /// `filtered`, whether the row lies outside the set's filter.
    pub(super) fn register(
        connection: &Connection,
        writer: RowWriter,
        filtered: bool,
    ) -> rusqlite::Result<Self> {
        let (say_full, full) = unbounded();
        let (give_back, spent) = unbounded();
        let filling = RefCell::new(Filling { writer, full: say_full, spent, is_new: false });
        let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DIRECTONLY;
        // A whole number for a truth: measured, one byte that is written and read back as eight costs the
        // processor a twentieth of the row.
        connection.create_scalar_function(TAKE_FUNCTION, -1, flags, move |context| {
            let filling = &mut *filling.borrow_mut();
            if context.is_empty() {
                filling.hand_over();
                return Ok(1i64);
            }
            if filling.is_new {
                filling.is_new = false;
                if let Ok(spent) = filling.spent.try_recv() {
                    filling.writer.reuse(spent);
                }
            }
            let outside = filtered && context.get::<bool>(context.len() - 1)?;
            match filling.writer.push(outside, |i| Ok(value(context.get_raw(i)))) {
                Ok(full) => {
                    if full {
                        filling.hand_over();
                    }
                    Ok(i64::from(full))
                }
                Err(fault) => {
                    drop(filling.full.send(Err(fault)));
                    Ok(1)
                }
            }
        })?;
        Ok(Self { full, spent: give_back })
    }

    /// The batch that was handed over.
    ///
    /// # Errors
    /// The fault of a row that was not taken.
    pub(super) fn batch(&self) -> Result<Batch, RowFault> {
        self.full.try_recv().unwrap_or_else(|_| Ok(Batch::default()))
    }

    /// Its rows were looked at, and its memory can be used again.
    pub(super) fn reuse(&self, spent: Batch) {
        drop(self.spent.send(spent));
    }
}

/// Whether a call can carry this many cells and the filter's verdict. One without cells means something else.
pub(super) fn fits(connection: &Connection, columns: usize) -> bool {
    let most = connection.limit(Limit::SQLITE_LIMIT_FUNCTION_ARG).unwrap_or(0);
    usize::try_from(most).is_ok_and(|most| (1..most).contains(&columns))
}

/// Whether SQLite would sort what the query finds.
pub(super) fn sorts(connection: &Connection, sql: &str) -> rusqlite::Result<bool> {
    let mut plan: Statement<'_> = connection.prepare(&format!("EXPLAIN QUERY PLAN {sql}"))?;
    let mut steps = plan.query([])?;
    while let Some(step) = steps.next()? {
        if step.get::<_, String>("detail")?.contains("TEMP B-TREE") {
            return Ok(true);
        }
    }
    Ok(false)
}
