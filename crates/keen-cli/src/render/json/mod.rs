//! Results as JSON.

pub(crate) mod audit;
pub(crate) mod conflicts;
pub(crate) mod divergent_row;
pub(crate) mod history;
pub(crate) mod links;
pub(crate) mod plan;
pub(crate) mod preflight;
pub(crate) mod probe;
