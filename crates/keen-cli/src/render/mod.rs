//! How results are written.

pub(crate) mod json;
pub(crate) mod text;
