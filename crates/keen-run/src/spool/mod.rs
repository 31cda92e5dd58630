//! Rows put aside on disk.

pub(crate) mod pending_rows;
pub(crate) mod row_sort;
pub mod rows_aside;
