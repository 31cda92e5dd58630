//! What nodes tell of themselves: their settings, their links, positions in logs.

pub mod clock;
pub mod links;
pub mod node;
pub mod position;
pub(crate) mod source;
