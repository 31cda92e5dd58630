//! Results for people.

pub(crate) mod audit;
pub(crate) mod conflicts;
pub(crate) mod history;
pub(crate) mod links;
pub(crate) mod mend;
pub(crate) mod plan;
mod plan_setup;
pub(crate) mod preflight;
pub(crate) mod probe;
pub(crate) mod row_history;
pub(crate) mod style;
