//! How results are written.

pub(crate) mod csv;
pub(crate) mod json;
pub(crate) mod text;
