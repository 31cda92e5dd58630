//! Files as nodes.

pub mod journal;
