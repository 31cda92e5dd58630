//! Every JSON that keen writes or reads: types of their own, apart from the core's, with a version.
//!
//! `docs/json.md` tells what they mean, `docs/schema/` has a JSON Schema of each. What an audit writes,
//! `plan --audit` reads.

pub mod audit;
mod audit_reader;
pub mod conflicts;
mod divergent_row;
mod envelope;
pub mod history;
pub mod journal;
pub mod links;
pub mod mend;
pub mod plan;
mod plan_reader;
pub mod preflight;
pub mod probe;
#[cfg(feature = "schema")]
pub mod schema;
pub mod setup;
pub mod setup_subject;
mod shape;
mod value;

pub use audit_reader::{AuditHead, TakeAudit, read_audit};
pub use divergent_row::{
    DivergentDocument, DivergentWriter, ListedRow, UnsettledDocument, VersionDocument,
    divergent_row,
};
pub use envelope::{
    ByNode, Ending, Envelope, FaultDocument, LinkEnds, LinkRows, NamedNode, VERSION, exact_seconds,
    fault, seconds,
};
pub use plan_reader::{plan_step, plan_table, plan_tables};
pub use setup::{setup_document, setup_step};
pub use shape::{
    ColumnDocument, ShapeColumn, ShapeDocument, ShapeReference, TriggerDocument, columns, key,
    layout, shapes,
};
pub use value::{Cells, cells, parse_value, value};

/// Why a document cannot be used, in words that name the place.
pub type Unusable = String;
