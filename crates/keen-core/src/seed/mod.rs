//! Making a copy: tables declared anew for another engine, and nodes that join or are seeded.

pub mod join;
pub mod steps;
pub mod translate_ddl;
