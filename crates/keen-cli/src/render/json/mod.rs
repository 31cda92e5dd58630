//! Results as JSON: the messages of `keen-wire`, made from what a command came to.

use anyhow::Result;
use serde::Serialize;

pub(crate) mod audit;
pub(crate) mod conflicts;
pub(crate) mod history;
pub(crate) mod links;
pub(crate) mod mend;
pub(crate) mod plan;
pub(crate) mod preflight;
pub(crate) mod probe;

/// A document for programs and people.
fn pretty(document: &impl Serialize) -> Result<String> {
    Ok(serde_json::to_string_pretty(document)? + "\n")
}
