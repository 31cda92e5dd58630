//! Which texts a node takes for one value where a value must be unique: that is for its collations to say, so
//! the node itself is asked.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::AuditedTable;
use crate::topology::NodeId;
use crate::value::Value;

/// A table and a column of it, as the node names them.
pub type Place = (String, String);

/// By place, of each text the number of its group: texts of one group are one value there.
pub type OfNode = BTreeMap<Place, HashMap<Vec<u8>, u64>>;

/// What nodes said of texts that plans take out or put in.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Alike(BTreeMap<NodeId, OfNode>);

impl Alike {
    /// Adds what a node said: the group of each of these texts.
    pub fn add(&mut self, node: NodeId, place: Place, texts: Vec<String>, groups: Vec<u64>) {
        let of_node = self.0.entry(node).or_default();
        of_node.insert(place, texts.into_iter().map(String::into_bytes).zip(groups).collect());
    }

    pub(super) fn of(&self, node: NodeId) -> &OfNode {
        static NOTHING: OfNode = OfNode::new();
        self.0.get(&node).unwrap_or(&NOTHING)
    }
}

/// The texts that a node is to be asked about, where several stand in a column whose values must be unique.
#[must_use]
pub fn to_ask(tables: &[AuditedTable]) -> BTreeMap<NodeId, BTreeMap<Place, Vec<String>>> {
    let mut found: BTreeMap<NodeId, BTreeMap<Place, BTreeSet<String>>> = BTreeMap::new();
    for table in tables {
        let rows = || table.divergent.iter().flat_map(|row| &row.versions);
        for (node, local) in &table.nodes {
            let shape = &local.shape;
            let at = |column: &String| {
                local.columns.iter().position(|known| known.eq_ignore_ascii_case(column))
            };
            let own = shape.unique.iter().chain([&shape.key]).flatten();
            let mut wanted: Vec<(usize, Place)> = own
                .filter_map(|column| Some((at(column)?, (local.name.clone(), column.clone()))))
                .collect();
            for reference in &shape.references {
                let pairs = reference.columns.iter().zip(&reference.to);
                wanted.extend(pairs.filter_map(|(column, to)| {
                    Some((at(column)?, (reference.table.clone(), to.clone())))
                }));
            }
            for (at, place) in wanted {
                let of_node = found.entry(*node).or_default();
                let texts = of_node.entry(place).or_default();
                for cells in rows().filter_map(|version| version.row.as_ref()) {
                    if let Some(Value::Text(text)) = cells.get(at)
                        && let Ok(text) = std::str::from_utf8(text)
                    {
                        texts.insert(text.to_owned());
                    }
                }
            }
        }
    }
    let several = |texts: BTreeSet<String>| (texts.len() > 1).then(|| texts.into_iter().collect());
    found
        .into_iter()
        .map(|(node, places)| {
            let places = places.into_iter();
            (node, places.filter_map(|(p, texts)| Some((p, several(texts)?))).collect())
        })
        .filter(|(_, places): &(_, BTreeMap<_, _>)| !places.is_empty())
        .collect()
}
