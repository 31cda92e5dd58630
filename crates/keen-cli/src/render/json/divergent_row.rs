//! Rows and their cells as JSON, written from where they are: a long cell is not held a second time.

use std::fmt::Display;

use base64::display::Base64Display;
use base64::engine::general_purpose::STANDARD as BASE64;
use keen_core::audit::merge::DivergentRow;
use keen_core::row::batch::Layout;
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;
use serde::ser::{Serialize, SerializeMap, Serializer};

/// A cell.
pub(crate) struct CellJson<'a>(pub(crate) &'a Value);

impl Serialize for CellJson<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let named = |to: S, name: &str, bytes: &[u8]| {
            let mut map = to.serialize_map(Some(1))?;
            map.serialize_entry(name, &Shown(Base64Display::new(bytes, &BASE64)))?;
            map.end()
        };
        match self.0 {
            Value::Bytes(bytes) => named(to, "bytes", bytes),
            Value::Text(bytes) => match std::str::from_utf8(bytes) {
                Ok(text) => to.serialize_str(text),
                Err(_) => named(to, "text_bytes", bytes),
            },
            Value::Json(text) => {
                let mut map = to.serialize_map(Some(1))?;
                map.serialize_entry("json", text)?;
                map.end()
            }
            short => keen_wire::value(short).0.serialize(to),
        }
    }
}

/// Something as a string, as it is displayed.
struct Shown<T>(T);

impl<T: Display> Serialize for Shown<T> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_str(&self.0)
    }
}

/// Cells by the names of their columns.
pub(crate) struct RowJson<'a>(pub(crate) Vec<(&'a str, &'a Value)>);

impl<'a> RowJson<'a> {
    fn of(layout: &'a Layout, cells: &'a [Value]) -> Self {
        let shown = layout.shown.iter();
        Self(shown.filter_map(|i| Some((&layout.columns[*i].name[..], cells.get(*i)?))).collect())
    }

    /// The names of those whose string is a whole number.
    pub(crate) fn whole_numbers(&self) -> Vec<&'a str> {
        let whole = self
            .0
            .iter()
            .filter(|(_, cell)| matches!(cell, Value::Int(_)) && keen_wire::value(cell).1);
        whole.map(|(name, _)| *name).collect()
    }
}

impl Serialize for RowJson<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_map(self.0.iter().map(|(name, cell)| (name, CellJson(cell))))
    }
}

/// A divergent row, as [`wire::DivergentDocument`] reads it.
pub(crate) struct DivergentJson<'a> {
    pub(crate) topology: &'a Topology,
    pub(crate) layout: &'a Layout,
    pub(crate) row: &'a DivergentRow,
    /// What stands before the rest, name by name.
    pub(crate) lead: Vec<(&'a str, &'a str)>,
}

impl Serialize for DivergentJson<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let Self { layout, row, .. } = self;
        let row_is_key = row.key.is_empty();
        let key = match row_is_key {
            true => {
                let whole = row.versions.iter().find_map(|version| version.row.as_ref());
                whole.map_or(RowJson(Vec::new()), |cells| RowJson::of(layout, cells))
            }
            false => {
                let names = layout.key.iter().map(|i| &layout.columns[*i].name[..]);
                RowJson(names.zip(&row.key).collect())
            }
        };
        let mut map = to.serialize_map(None)?;
        for (name, text) in &self.lead {
            map.serialize_entry(name, text)?;
        }
        map.serialize_entry("key", &key)?;
        let whole = key.whole_numbers();
        if !whole.is_empty() {
            map.serialize_entry("key_whole_numbers", &whole)?;
        }
        if row_is_key {
            map.serialize_entry("row_is_key", &true)?;
        }
        let columns: Vec<&str> =
            row.differing.iter().map(|i| &layout.columns[*i].name[..]).collect();
        map.serialize_entry("columns", &columns)?;
        let version = |nodes, cells, count| VersionJson { of: self, nodes, cells, count };
        let versions = row.versions.iter().map(|v| {
            version(
                &v.nodes[..],
                v.row.as_deref().map(Vec::as_slice),
                row_is_key.then_some(v.count),
            )
        });
        map.serialize_entry("versions", &Each::new(versions))?;
        if !row.outside.is_empty() {
            let outside = row
                .outside
                .iter()
                .map(|(node, cells)| version(std::slice::from_ref(node), Some(&cells[..]), None));
            map.serialize_entry("outside_filter", &Each::new(outside))?;
        }
        map.end()
    }
}

/// What an iterator yields, one after the other, as a list.
pub(crate) struct Each<I>(I);

impl<I: Iterator + Clone> Each<I> {
    pub(crate) fn new(each: I) -> Self {
        Self(each)
    }
}

impl<I: Iterator<Item: Serialize> + Clone> Serialize for Each<I> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_seq(self.0.clone())
    }
}

/// One version of a row and who holds it.
struct VersionJson<'a> {
    of: &'a DivergentJson<'a>,
    nodes: &'a [NodeId],
    cells: Option<&'a [Value]>,
    count: Option<u64>,
}

impl Serialize for VersionJson<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let nodes: Vec<&str> =
            self.nodes.iter().map(|node| &self.of.topology.nodes[*node].name[..]).collect();
        let row = self.cells.map(|cells| RowJson::of(self.of.layout, cells));
        let mut map = to.serialize_map(None)?;
        map.serialize_entry("nodes", &nodes)?;
        map.serialize_entry("row", &row)?;
        let whole = row.as_ref().map(RowJson::whole_numbers).unwrap_or_default();
        if !whole.is_empty() {
            map.serialize_entry("whole_numbers", &whole)?;
        }
        if let Some(count) = self.count {
            map.serialize_entry("count", &count)?;
        }
        map.end()
    }
}
