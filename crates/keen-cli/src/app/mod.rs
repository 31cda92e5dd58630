//! The commands: request, run, outcome, exit code; nothing here knows how it is shown.

pub(crate) mod answers;
pub(crate) mod audit;
pub(crate) mod audit_document;
pub(crate) mod conflicts;
pub(crate) mod history;
pub(crate) mod links;
pub(crate) mod mend;
pub(crate) mod open_node;
pub(crate) mod output;
pub(crate) mod plan;
pub(crate) mod plan_links;
pub(crate) mod plan_setup;
pub(crate) mod preflight;
pub(crate) mod probe;
pub(crate) mod proven;
pub(crate) mod run_log;
pub(crate) mod scope;
pub(crate) mod selection;
pub(crate) mod stop;
pub(crate) mod topology_edit;
pub(crate) mod topology_file;
