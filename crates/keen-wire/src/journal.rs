//! A journal that was exported to a file (`docs/journal.md`).

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::value::Cells;

/// A line of a journal.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(untagged)]
pub enum JournalLine {
    /// The first.
    Header(JournalHeader),
    /// Each after it.
    Transaction(JournalTransaction),
}

/// The first line of a journal.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct JournalHeader {
    /// `"journal"`.
    pub keen: String,
    /// The version of the format: 2.
    pub version: u32,
    /// The node's own name as an origin.
    pub node: String,
    /// By origin, up to which number everything had been applied before the file begins; left out if that is not
    /// known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<BTreeMap<String, u64>>,
    /// Shapes of tables that no node tells, by the names that the sets use.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tables: BTreeMap<String, JournalTable>,
}

/// A table whose shape no node tells.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct JournalTable {
    /// Its columns.
    pub columns: Vec<String>,
    /// The columns of its key.
    pub key: Vec<String>,
    /// The columns of each unique constraint.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unique: Vec<Vec<String>>,
}

/// A transaction, in the order in which the node applied it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct JournalTransaction {
    /// Who first made it.
    pub origin: String,
    /// Its number there. Numbers ascend in the order in which the origin made them.
    pub number: u64,
    /// When it was committed at its origin, by that node's clock, with a zone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time: Option<String>,
    /// Its writes to tables of the sets.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub changes: Vec<JournalChange>,
}

/// A change of a transaction.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct JournalChange {
    /// The table, as the sets name it.
    pub table: String,
    /// The kind of write.
    pub op: JournalOp,
    /// The row before; cells that are not known are left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<Cells>,
    /// The row after; cells that are not known are left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Cells>,
    /// Of a change of shape, the statement, or what is known of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub statement: Option<String>,
}

/// The kind of a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum JournalOp {
    /// It adds a row.
    Insert,
    /// It changes cells of a row.
    Update,
    /// It takes a row out.
    Delete,
    /// It changes the shape of the table.
    Shape,
}
