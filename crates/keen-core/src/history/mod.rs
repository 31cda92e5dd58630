//! Writes of nodes, their order, and which writes had seen which.

pub(crate) mod arrivals;
pub(crate) mod chain;
pub mod happened_before;
pub mod journal;
