//! Comparing a table over all nodes: the schema that all share, the merge of their rows, and divergence.

pub mod merge;
pub mod schema_match;
