//! Rows put aside on disk.

pub(crate) mod row_sort;
pub mod rows_aside;
