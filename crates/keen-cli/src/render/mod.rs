//! How results are written.

pub(crate) mod audit_json;
pub(crate) mod audit_text;
pub(crate) mod conflicts_json;
pub(crate) mod conflicts_text;
pub(crate) mod flow_json;
pub(crate) mod flow_text;
pub(crate) mod history;
pub(crate) mod life;
pub(crate) mod plan_json;
pub(crate) mod plan_text;
pub(crate) mod preflight_json;
pub(crate) mod preflight_text;
pub(crate) mod probe;
pub(crate) mod style;
