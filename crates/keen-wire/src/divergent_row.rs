//! Rows that differ between nodes: as they are read, and how they are written from where they are.

use std::sync::Arc;

use keen_core::audit::merge::{DivergentRow, Version};
use keen_core::row::batch::Layout;
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;
use serde::ser::{SerializeMap, Serializer};
use serde::{Deserialize, Serialize};

use crate::Unusable;
use crate::value::{Cells, CellsWriter, WriteEach, parse_value};

/// A row that differs.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct DivergentDocument {
    /// The cells of its key; the whole row where it is its own key.
    pub key: Cells,
    /// It is its own key: the table has none, or there is NULL in it. Equal rows are then counted.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub row_is_key: bool,
    /// The columns in which the versions that are rows differ.
    pub columns: Vec<String>,
    /// Its versions. A node of which the row is not expected is in none.
    pub versions: Vec<VersionDocument>,
    /// Rows with this key that the set's filter leaves out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub outside_filter: Vec<VersionDocument>,
}

/// A row that differs and is not settled.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct UnsettledDocument {
    /// Its standing.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::unsettled"))]
    pub standing: String,
    /// The row.
    #[serde(flatten)]
    pub row: DivergentDocument,
}

/// A row on a line of its own.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ListedRow<R> {
    /// The table, by its name in the set.
    pub table: String,
    /// The set.
    pub set: String,
    /// The row.
    #[serde(flatten)]
    pub row: R,
}

/// One version of a row and who holds it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct VersionDocument {
    /// The nodes that hold it.
    pub nodes: Vec<String>,
    /// The row; null where it is not there.
    pub row: Option<Cells>,
    /// How often a row that is its own key is there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub count: Option<u64>,
}

/// Writes a divergent row, as [`DivergentDocument`] reads it, from where it is.
pub struct DivergentWriter<'a> {
    /// The topology.
    pub topology: &'a Topology,
    /// The layout of the row.
    pub layout: &'a Layout,
    /// The row.
    pub row: &'a DivergentRow,
    /// Members that stand before the others.
    pub lead: Vec<(&'a str, &'a str)>,
}

impl Serialize for DivergentWriter<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let Self { layout, row, .. } = self;
        let row_is_key = row.key.is_empty();
        let key = match row_is_key {
            true => {
                let whole = row.versions.iter().find_map(|version| version.row.as_ref());
                whole.map_or(CellsWriter(Vec::new()), |cells| CellsWriter::row(layout, cells))
            }
            false => {
                let names = layout.key.iter().map(|i| &layout.columns[*i].name[..]);
                CellsWriter(names.zip(&row.key).collect())
            }
        };
        let mut map = to.serialize_map(None)?;
        for (name, text) in &self.lead {
            map.serialize_entry(name, text)?;
        }
        map.serialize_entry("key", &key)?;
        if row_is_key {
            map.serialize_entry("row_is_key", &true)?;
        }
        let columns: Vec<&str> =
            row.differing.iter().map(|i| &layout.columns[*i].name[..]).collect();
        map.serialize_entry("columns", &columns)?;
        let version = |nodes, cells, count| VersionWriter { of: self, nodes, cells, count };
        let versions = row.versions.iter().map(|v| {
            version(
                &v.nodes[..],
                v.row.as_deref().map(Vec::as_slice),
                row_is_key.then_some(v.count),
            )
        });
        map.serialize_entry("versions", &WriteEach(versions))?;
        if !row.outside.is_empty() {
            let outside = row
                .outside
                .iter()
                .map(|(node, cells)| version(std::slice::from_ref(node), Some(&cells[..]), None));
            map.serialize_entry("outside_filter", &WriteEach(outside))?;
        }
        map.end()
    }
}

/// Writes one version of a row and who holds it.
struct VersionWriter<'a> {
    of: &'a DivergentWriter<'a>,
    nodes: &'a [NodeId],
    cells: Option<&'a [Value]>,
    count: Option<u64>,
}

impl Serialize for VersionWriter<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let nodes: Vec<&str> =
            self.nodes.iter().map(|node| &self.of.topology.nodes[*node].name[..]).collect();
        let row = self.cells.map(|cells| CellsWriter::row(self.of.layout, cells));
        let mut map = to.serialize_map(None)?;
        map.serialize_entry("nodes", &nodes)?;
        map.serialize_entry("row", &row)?;
        if let Some(count) = self.count {
            map.serialize_entry("count", &count)?;
        }
        map.end()
    }
}

/// Reads a divergent row.
///
/// # Errors
/// The reason why it cannot be used.
pub fn divergent_row(
    topology: &Topology,
    layout: &Layout,
    row: DivergentDocument,
) -> Result<DivergentRow, Unusable> {
    let ids = |names: &[String]| -> Result<Vec<NodeId>, Unusable> {
        names
            .iter()
            .map(|n| {
                topology.node(n).ok_or_else(|| format!("node {n} is not in the topology file"))
            })
            .collect()
    };
    // Each cell goes as soon as it is read: it can be long.
    let cells = |Cells(mut row): Cells| -> Result<Vec<Value>, Unusable> {
        layout
            .columns
            .iter()
            .map(|c| {
                let json =
                    row.remove(&c.name).ok_or_else(|| format!("a row lacks column {}", c.name))?;
                parse_value(&json)
                    .ok_or_else(|| format!("column {} holds no value keen writes", c.name))
            })
            .collect()
    };
    let mut versions = Vec::new();
    for version in row.versions {
        let cells = version.row.map(cells).transpose()?;
        let count = version.count.unwrap_or(u64::from(cells.is_some()));
        versions.push(Version { nodes: ids(&version.nodes)?, row: cells.map(Arc::new), count });
    }
    if versions.len() < 2 || versions.iter().any(|version| version.nodes.is_empty()) {
        return Err("a divergent row needs two versions with nodes".to_owned());
    }
    let mut holders: Vec<NodeId> = versions.iter().flat_map(|v| v.nodes.iter().copied()).collect();
    let count = holders.len();
    holders.sort_unstable();
    holders.dedup();
    if holders.len() < count {
        return Err("a node holds two versions of one row".to_owned());
    }
    if versions.iter().filter(|version| version.row.is_none()).count() > 1 {
        return Err("a row is missing in two versions".to_owned());
    }
    if versions.iter().any(|version| version.row.is_some() != (version.count > 0)) {
        return Err(
            "a version says that its row is there, and how often it is says otherwise".to_owned()
        );
    }
    // In a table with a key a row can still be its own one, where its key is none.
    if !row.row_is_key && layout.key.is_empty() {
        return Err("a row is told from others otherwise than its table says".to_owned());
    }
    let mut rows = versions.iter().filter_map(|version| version.row.as_ref());
    if let (true, Some(first)) = (row.row_is_key, rows.next())
        && rows.any(|other| !first.iter().zip(other.iter()).all(|(a, b)| a.same_as(b)))
    {
        return Err("versions of a row that is its own key differ".to_owned());
    }
    let mut outside = Vec::new();
    for version in row.outside_filter {
        if let (Some(row), [node]) = (version.row, &ids(&version.nodes)?[..]) {
            outside.push((*node, Arc::new(cells(row)?)));
        }
    }
    let key_cell = |i: &usize| {
        let name = &layout.columns[*i].name;
        let json = row.key.0.get(name).ok_or_else(|| format!("a key lacks column {name}"))?;
        parse_value(json).ok_or_else(|| format!("key column {name} holds no value keen writes"))
    };
    Ok(DivergentRow {
        key: if row.row_is_key {
            Vec::new()
        } else {
            layout.key.iter().map(key_cell).collect::<Result<_, _>>()?
        },
        differing: row
            .columns
            .iter()
            .filter_map(|n| layout.columns.iter().position(|c| c.name == *n))
            .collect(),
        versions,
        outside,
    })
}
