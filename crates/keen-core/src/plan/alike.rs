//! Which texts a node takes for one value where a value must be unique: that is for its collations to say, so
//! the node itself is asked.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::AuditedTable;
use crate::fault::ReadFault;
use crate::topology::{Engine, NodeId};
use crate::value::Value;

/// A table and a column of it, as the node names them.
pub type NamedColumn = (String, String);

/// By place, of each text the number of its group: texts of one group are one value there.
pub type GroupsOfNode = BTreeMap<NamedColumn, HashMap<Vec<u8>, u64>>;

/// Nodes' answers on texts that plans take out or put in.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Alike(BTreeMap<NodeId, GroupsOfNode>);

impl Alike {
    /// Adds what a node said: the group of each of these texts.
    pub fn add(&mut self, node: NodeId, place: NamedColumn, texts: Vec<String>, groups: Vec<u64>) {
        let of_node = self.0.entry(node).or_default();
        of_node.insert(place, texts.into_iter().map(String::into_bytes).zip(groups).collect());
    }

    pub(super) fn of(&self, node: NodeId) -> &GroupsOfNode {
        static NOTHING: GroupsOfNode = GroupsOfNode::new();
        self.0.get(&node).unwrap_or(&NOTHING)
    }
}

/// The texts that a node is to be asked about, where several stand in a column whose values must be unique. Of a
/// column that holds more than `most` bytes of them nothing is asked.
///
/// # Errors
/// [`ReadFault`] when a row that was found cannot be read back.
pub fn to_ask(
    tables: &[AuditedTable],
    most: usize,
) -> Result<BTreeMap<NodeId, BTreeMap<NamedColumn, Vec<String>>>, ReadFault> {
    let mut found: BTreeMap<NodeId, BTreeMap<NamedColumn, Texts>> = BTreeMap::new();
    for table in tables {
        let mut wanted: Vec<(NodeId, usize, NamedColumn)> = Vec::new();
        // SQLite knows no collation that the rule of thumb does not cover.
        for (node, local) in table.nodes.iter().filter(|(_, l)| l.engine != Engine::Sqlite) {
            let shape = &local.shape;
            let at = |column: &String| {
                local.columns.iter().position(|known| known.eq_ignore_ascii_case(column))
            };
            let own = shape.unique.iter().chain([&shape.key]).flatten();
            wanted.extend(own.filter_map(|column| {
                Some((*node, at(column)?, (local.name.clone(), column.clone())))
            }));
            for reference in &shape.references {
                let pairs = reference.columns.iter().zip(&reference.to);
                wanted.extend(pairs.filter_map(|(column, to)| {
                    Some((*node, at(column)?, (reference.table.clone(), to.clone())))
                }));
            }
        }
        for row in table.divergent.iter().filter(|_| !wanted.is_empty()) {
            let row = row?;
            for cells in row.versions.iter().filter_map(|version| version.row.as_ref()) {
                for (node, at, place) in &wanted {
                    if let Some(Value::Text(text)) = cells.get(*at)
                        && let Ok(text) = std::str::from_utf8(text)
                    {
                        let of_node = found.entry(*node).or_default();
                        of_node.entry(place.clone()).or_default().add(text, most);
                    }
                }
            }
        }
    }
    let several = |texts: Texts| {
        let several = texts.0.filter(|texts| texts.len() > 1);
        several.map(|texts| texts.into_iter().collect())
    };
    let asked = found.into_iter().map(|(node, places)| {
        let places = places.into_iter();
        (node, places.filter_map(|(p, texts)| Some((p, several(texts)?))).collect())
    });
    Ok(asked.filter(|(_, places): &(_, BTreeMap<_, _>)| !places.is_empty()).collect())
}

/// The texts of a place and how many bytes they are; none once they are too many.
struct Texts(Option<BTreeSet<String>>, usize);

impl Default for Texts {
    fn default() -> Self {
        Self(Some(BTreeSet::new()), 0)
    }
}

impl Texts {
    fn add(&mut self, text: &str, most: usize) {
        let Some(texts) = &mut self.0 else { return };
        if !texts.contains(text) {
            texts.insert(text.to_owned());
            self.1 += text.len();
            if self.1 > most {
                self.0 = None;
            }
        }
    }
}
