//! Rows taken where SQLite has them, instead of one by one through its interface.
//!
//! Fetching each cell of a result costs SQLite's interface about as much as
//! finding it. A condition that calls a function of ours sees the same cells
//! for less: the function encodes the row and says no, so that SQLite goes on
//! by itself, until the batch is full. That holds only as long as SQLite visits the rows in
//! the order asked for; where it would sort them first, the condition would see
//! them unsorted, and the rows are fetched in the usual way.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use keen_core::rows::{RowFault, RowWriter};
use rusqlite::functions::FunctionFlags;
use rusqlite::limits::Limit;
use rusqlite::{Connection, Statement};

use super::read::value;

/// The SQL function that takes a row; true means: stop here and hand over.
pub(super) const TAKE_FUNCTION: &str = "keen_take";

/// The writer while SQLite fills it.
pub(super) struct Taking {
    state: Arc<Mutex<State>>,
}

struct State {
    writer: RowWriter,
    fault: Option<RowFault>,
}

impl Taking {
    /// Lets queries of `connection` fill `writer`. The last argument of a call says, where
    /// `filtered`, whether the row lies outside the set's filter.
    pub(super) fn register(
        connection: &Connection,
        writer: RowWriter,
        filtered: bool,
    ) -> rusqlite::Result<Self> {
        let state = Arc::new(Mutex::new(State { writer, fault: None }));
        let shared = Arc::clone(&state);
        let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DIRECTONLY;
        connection.create_scalar_function(TAKE_FUNCTION, -1, flags, move |context| {
            let state = &mut *lock(&shared);
            let outside = filtered && context.get::<bool>(context.len() - 1)?;
            match state.writer.push(outside, |i| Ok(value(context.get_raw(i)))) {
                Ok(full) => Ok(full),
                Err(fault) => {
                    state.fault = Some(fault);
                    Ok(true)
                }
            }
        })?;
        Ok(Self { state })
    }

    /// Works on the writer between two steps of the query.
    ///
    /// # Errors
    /// The fault of a row that was not taken.
    pub(super) fn with<T>(&self, work: impl FnOnce(&mut RowWriter) -> T) -> Result<T, RowFault> {
        let mut state = lock(&self.state);
        match state.fault.take() {
            Some(fault) => Err(fault),
            None => Ok(work(&mut state.writer)),
        }
    }
}

fn lock(state: &Mutex<State>) -> MutexGuard<'_, State> {
    state.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Whether a call can carry this many cells and the filter's verdict.
pub(super) fn fits(connection: &Connection, columns: usize) -> bool {
    let most = connection.limit(Limit::SQLITE_LIMIT_FUNCTION_ARG).unwrap_or(0);
    usize::try_from(most).is_ok_and(|most| columns < most)
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
