//! Nodes' own accounts: their settings, their links, positions in logs.

pub mod clock;
pub(crate) mod filter;
pub mod links;
pub mod log_reach;
pub mod node;
pub mod position;
pub(crate) mod source;
