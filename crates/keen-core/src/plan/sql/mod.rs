//! Steps as SQL: the statements, and the script of a node.

pub mod script;
pub mod statement;
