//! An audit: the document, its lines, and what a plan takes from it.
//!
//! A document can hold any number of divergent rows, so it is written and read piece by piece: its members up to
//! the tables ([`AuditStart`]), of each table what comes before its rows ([`TableStart`]), the rows, what comes
//! after them ([`TableEnd`]), and the end ([`AuditEnd`]).

use std::collections::BTreeMap;
use std::sync::Arc;

use keen_core::plan::{AuditedTable, FoundRows, WrittenTimes};
use keen_core::row::batch::Layout;
use keen_core::topology::Topology;
use serde::{Deserialize, Serialize};

use crate::Unusable;
use crate::divergent_row::{DivergentDocument, ListedRow, UnsettledDocument};
use crate::envelope::{ByNode, Ending, Envelope, FaultDocument, LinkEnds, LinkRows};
use crate::shape::{ColumnDocument, ShapeDocument, local_table};

/// An audit as one document.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct AuditDocument {
    /// Its beginning.
    #[serde(flatten)]
    pub start: AuditStart,
    /// One entry for each table of each set.
    pub tables: Vec<TableDocument>,
    /// Its end.
    #[serde(flatten)]
    pub end: AuditEnd,
}

/// A line of an audit.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum AuditLine {
    /// The first line.
    Start(AuditStart),
    /// Rows of a table differ and are read again; its line comes later.
    Waiting(WaitingTable),
    /// A divergent row that is settled.
    Divergent(ListedRow<DivergentDocument>),
    /// A row that differs and is not settled.
    Unsettled(ListedRow<UnsettledDocument>),
    /// A table, after its rows.
    Table(Box<TableLine>),
    /// The last line. A stream without it is not whole.
    Summary(AuditEnd),
}

/// The beginning, before the tables.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct AuditStart {
    /// The envelope. Its nodes are those that were to be read.
    #[serde(flatten)]
    pub envelope: Envelope<AuditedNode>,
    /// The function by which rows were compared.
    pub digest: String,
}

/// A node that was to be read.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct AuditedNode {
    /// Its name.
    pub node: String,
    /// Its role in the topology.
    pub role: String,
    /// The kind of node that it turned out to be; empty if it could not be opened.
    pub about: String,
    /// The moment as of which it was read, UTC.
    pub read_at: Option<String>,
    /// Its tables that are in no set; null if that is not known.
    pub in_no_set: Option<Vec<String>>,
    /// Why it could not be opened.
    pub fault: Option<FaultDocument>,
}

/// A table of which rows are read again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct WaitingTable {
    /// Its name in the set.
    pub table: String,
    /// The set.
    pub set: String,
    /// How many rows.
    pub rows: u64,
}

/// A table of a set, with its rows.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct TableDocument {
    /// Its beginning, before its rows.
    #[serde(flatten)]
    pub start: TableStart,
    /// The divergent rows that are settled, in key order, as many as were to be listed.
    pub divergent: Vec<DivergentDocument>,
    /// Rows that differ and are not settled.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unsettled: Vec<UnsettledDocument>,
    /// Its end, after its rows.
    #[serde(flatten)]
    pub end: TableEnd,
}

/// A table of a set on a line, after its rows.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct TableLine {
    /// The members that stand before the rows in a document.
    #[serde(flatten)]
    pub start: TableStart,
    /// The members that stand after the rows in a document.
    #[serde(flatten)]
    pub end: TableEnd,
}

/// The beginning of a table, before its rows.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct TableStart {
    /// Its name in the set.
    pub table: String,
    /// The set.
    pub set: String,
    /// The columns that were compared.
    pub columns: Vec<ColumnDocument>,
    /// The columns of its key; none if it has no key.
    pub key: Vec<String>,
    /// Notes that kept nobody from comparing.
    pub notes: Vec<String>,
    /// Its shapes, each with the nodes that have it.
    pub shapes: Vec<ShapeDocument>,
}

/// The end of a table, after its rows.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct TableEnd {
    /// How many settled divergent rows there are.
    pub divergent_total: u64,
    /// How many of them are listed.
    pub divergent_listed: u64,
    /// The conclusion.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::verdict"))]
    pub verdict: String,
    /// The standings of the rows that differed at the first look.
    pub standings: StandingCounts,
    /// By node, how many rows of the set it has.
    pub rows: ByNode<u64>,
    /// By node, the sum of the row digests, 32 hexadecimal digits.
    pub balances: ByNode<String>,
    /// By node, why it was not compared, or not to the end.
    pub unread: ByNode<FaultDocument>,
    /// Links whose receivers do not hold all rows of their sources.
    pub unsatisfied_links: Vec<LinkRows>,
}

/// How many rows that differed at the first look have which standing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct StandingCounts {
    /// They still differ, and nothing is on its way.
    pub settled: u64,
    /// Something may still be on its way.
    pub in_flight: u64,
    /// They are being written to.
    pub moving: u64,
    /// They were equal when they were read again.
    pub healed: u64,
    /// Links that have not passed the fence, in words.
    pub waiting_for: Vec<String>,
}

/// The end, after the tables.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct AuditEnd {
    /// The ending that every document has.
    #[serde(flatten)]
    pub ending: Ending,
    /// It was stopped before its end.
    pub interrupted: bool,
    /// Why it could not be brought to its end. Then no table is told.
    pub broken: Option<String>,
    /// Links over which nothing arrives until somebody does something, where that was looked at.
    pub links_standing_still: Vec<LinkEnds>,
    /// Counts over all tables.
    pub summary: AuditSummary,
}

/// Counts over all tables of an audit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct AuditSummary {
    /// How many tables.
    pub tables: u64,
    /// Tables that agree.
    pub agree: u64,
    /// Tables with divergent rows.
    pub diverge: u64,
    /// Tables without divergent rows that could not be read on every node.
    pub unread: u64,
    /// Tables whose differing rows are all unsettled.
    pub unsettled: u64,
    /// Tables that were not read on every node.
    pub incomplete_tables: u64,
    /// Rows that were read, on all nodes together.
    pub rows: u64,
    /// Divergent rows that are settled.
    pub divergent_rows: u64,
    /// Rows that something may still be on its way to.
    pub in_flight_rows: u64,
    /// Rows that are being written to.
    pub moving_rows: u64,
    /// Rows that were equal when they were read again.
    pub healed_rows: u64,
}

/// A table of a document, as `plan` needs it.
pub fn audited_table(
    topology: &Topology,
    document: TableStart,
    unread: &ByNode<FaultDocument>,
    layout: Layout,
    divergent: FoundRows,
) -> Result<AuditedTable, Unusable> {
    let place = format!("table {} of set {}", document.table, document.set);
    let set = topology
        .sets
        .iter()
        .position(|set| set.name == document.set && set.tables.contains(&document.table));
    let set = set.ok_or_else(|| {
        format!("{place} is not in the topology file: it was changed since the audit")
    })?;
    let node = |name: &String| {
        topology.node(name).ok_or_else(|| format!("node {name} is not in the topology file"))
    };
    let columns = layout.columns.len();
    let mut nodes = BTreeMap::new();
    for shape in document.shapes {
        for name in &shape.nodes {
            if unread.contains_key(name) && shape.compared_columns.is_empty() {
                continue;
            }
            let id = node(name)?;
            if shape.compared_columns.len() != columns {
                return Err(format!(
                    "{place}: {name} has {} compared columns, not {}",
                    shape.compared_columns.len(),
                    columns
                ));
            }
            let local = local_table(topology.nodes[id].at.engine(), &shape);
            nodes.insert(id, Arc::new(local));
        }
    }
    let unread = unread.keys().map(node).collect::<Result<Vec<_>, _>>()?;
    Ok(AuditedTable {
        set,
        table: document.table,
        divergent,
        written: WrittenTimes::default(),
        unsettled: Vec::new(),
        layout: Arc::new(layout),
        nodes,
        unread: unread.into_iter().collect(),
    })
}
