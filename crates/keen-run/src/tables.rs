//! The tables whose writes are judged: what their rows are known by, and what must be unique.

use keen_core::topology::node_set::NodeSet;
use std::collections::BTreeMap;

use keen_core::audit::schema_match::{self, ComparisonSchema};
use keen_core::row::batch::Layout;
use keen_core::row::digest::DigestFunction;
use keen_core::row::encoding;
use keen_core::row::schema::TableShape;
use keen_core::topology::placement::Expectation;
use keen_core::topology::{NodeId, SetId, Topology};
use keen_core::value::Value;

/// A table of the sets, over all nodes that could be asked for its shape.
#[derive(Debug, Clone)]
pub struct SetTable {
    /// Its name in the sets.
    pub name: String,
    /// The set it belongs to.
    pub set: SetId,
    /// Its columns, the same on every node.
    pub layout: Layout,
    /// Each node's names of the layout's columns.
    pub local_columns: BTreeMap<NodeId, Vec<String>>,
    /// The shapes found.
    pub shapes: BTreeMap<NodeId, TableShape>,
    /// Who should hold what.
    pub expectation: Expectation,
    /// Columns whose values together must be unique, the key left out.
    pub unique: Vec<Vec<usize>>,
    /// How its rows refer to those of others.
    pub refers: Vec<Refers>,
    /// The key is counted up by the nodes.
    pub counted: bool,
    /// The set has no row filter: every write should arrive.
    pub whole: bool,
}

/// How rows of a table refer to those of another.
#[derive(Debug, Clone)]
pub struct Refers {
    /// The number of the other table.
    pub parent: usize,
    /// The columns that do, in the order of that table's key.
    pub columns: Vec<usize>,
    /// The engine changes or deletes them with the rows referred to, and tells it in no log.
    pub unlogged: bool,
}

impl SetTable {
    /// The names of its columns, in the order in which cells are kept.
    #[must_use]
    pub fn columns(&self) -> Vec<&str> {
        self.layout.columns.iter().map(|column| &column.name[..]).collect()
    }

    /// Where columns of these names stand; none if one is missing.
    fn places(&self, names: &[String]) -> Option<Vec<usize>> {
        let place = |name: &String| {
            self.layout.columns.iter().position(|column| column.name.eq_ignore_ascii_case(name))
        };
        names.iter().map(place).collect()
    }
}

/// A table that cannot be judged, and why.
pub type Left = (String, String);

/// Brings together what the nodes say of the tables; those that cannot be judged come back with the reason.
#[must_use]
pub(crate) fn tables(
    topology: &Topology,
    wanted: &[String],
    shapes: &BTreeMap<NodeId, BTreeMap<String, TableShape>>,
) -> (Vec<SetTable>, Vec<Left>) {
    let (mut tables, mut left) = (Vec::new(), Vec::new());
    for (set, content) in topology.sets.iter().enumerate() {
        for name in &content.tables {
            let known = tables.iter().any(|table: &SetTable| table.name == *name);
            if known || !(wanted.is_empty() || wanted.contains(name)) {
                continue;
            }
            match table(topology, set, name, shapes) {
                Ok(table) => tables.push(table),
                Err(reason) => left.push((name.clone(), reason)),
            }
        }
    }
    for at in 0..tables.len() {
        tables[at].refers = refers(&tables, at);
    }
    (tables, left)
}

fn table(
    topology: &Topology,
    set: SetId,
    name: &str,
    shapes: &BTreeMap<NodeId, BTreeMap<String, TableShape>>,
) -> Result<SetTable, String> {
    let expectation = Expectation::of_set(topology, set);
    let found: BTreeMap<NodeId, TableShape> = shapes
        .iter()
        .filter(|(node, _)| expectation.carriers().contains(**node))
        .filter_map(|(node, shapes)| Some((*node, shapes.get(name)?.clone())))
        .collect();
    if found.is_empty() {
        return Err("no node reported its shape".to_owned());
    }
    let mut agreement = agreed(topology, set, name, &found);
    if !agreement.refused.is_empty() || agreement.layout.is_none() {
        // Shapes that differ are what may have to be judged: by the columns that all nodes have.
        let common = in_common(&found);
        let over_common = agreed(topology, set, name, &common);
        if over_common.layout.is_some() && over_common.refused.len() <= agreement.refused.len() {
            agreement = over_common;
        }
    }
    let Some(layout) = agreement.layout else {
        let reasons: Vec<&str> = agreement.refused.values().map(String::as_str).collect();
        return Err(reasons
            .first()
            .map_or("its shapes do not agree".to_owned(), |r| (*r).to_owned()));
    };
    if layout.key.is_empty() {
        return Err(
            "it has no key, so writes of one row cannot be told from those of another".to_owned()
        );
    }
    let mut table = SetTable {
        name: name.to_owned(),
        set,
        layout,
        local_columns: agreement.local_columns,
        expectation,
        unique: Vec::new(),
        refers: Vec::new(),
        counted: found.values().any(|shape| {
            shape.key.len() == 1 && shape.column(&shape.key[0]).is_some_and(|column| column.counted)
        }),
        whole: topology.sets[set].filter.is_none(),
        shapes: found,
    };
    let declared = table
        .shapes
        .values()
        .flat_map(|shape| shape.unique.iter().filter(|list| !shape.unique_in_part.contains(list)));
    let held_to = topology.unique.get(name).into_iter().flatten();
    let mut unique: Vec<Vec<usize>> =
        held_to.chain(declared).filter_map(|names| table.places(names)).collect();
    let mut seen = Vec::new();
    unique.retain(|list| {
        let mut sorted = list.clone();
        sorted.sort_unstable();
        let new = !seen.contains(&sorted);
        seen.push(sorted);
        new
    });
    table.unique = unique;
    Ok(table)
}

fn agreed(
    topology: &Topology,
    set: SetId,
    name: &str,
    shapes: &BTreeMap<NodeId, TableShape>,
) -> ComparisonSchema {
    let [(node, shape)] = &shapes.iter().collect::<Vec<_>>()[..] else {
        return schema_match::agree_on(topology, set, name, shapes);
    };
    // Nobody to agree with: as if there were two of it.
    let other = usize::from(**node == 0);
    let twice = [(**node, (*shape).clone()), (other, (*shape).clone())].into();
    let mut agreement = schema_match::agree_on(topology, set, name, &twice);
    agreement.local_columns.remove(&other);
    agreement
}

/// The shapes without the columns that some node lacks.
fn in_common(shapes: &BTreeMap<NodeId, TableShape>) -> BTreeMap<NodeId, TableShape> {
    let everywhere = |name: &String| shapes.values().all(|shape| shape.column(name).is_some());
    let mut common = shapes.clone();
    for shape in common.values_mut() {
        shape.columns.retain(|column| everywhere(&column.name));
    }
    common
}

/// The tables that rows of one refer to, where that is by their key.
fn refers(tables: &[SetTable], at: usize) -> Vec<Refers> {
    let table = &tables[at];
    let Some(shape) = table.shapes.values().next() else { return Vec::new() };
    let mut refers = Vec::new();
    for reference in &shape.references {
        let Some(parent) =
            tables.iter().position(|t| t.name.eq_ignore_ascii_case(&reference.table))
        else {
            continue;
        };
        let key: Vec<&str> = tables[parent]
            .layout
            .key
            .iter()
            .map(|i| &tables[parent].layout.columns[*i].name[..])
            .collect();
        // Where no columns are named, the key is meant.
        let to: Vec<&str> = match reference.to.is_empty() {
            true => key.clone(),
            false => reference.to.iter().map(String::as_str).collect(),
        };
        let in_key_order = key.iter().map(|name| {
            let at = to.iter().position(|other| other.eq_ignore_ascii_case(name))?;
            reference.columns.get(at).cloned()
        });
        let names: Option<Vec<String>> = in_key_order.collect();
        if to.len() == key.len()
            && let Some(places) = names.and_then(|names| table.places(&names))
        {
            refers.push(Refers { parent, columns: places, unlogged: reference.unlogged });
        }
    }
    refers
}

/// A token of a row, or of a value that must be unique, among all things that are written.
#[must_use]
pub(crate) fn thing(table: usize, unique: Option<usize>, values: &[Value]) -> u128 {
    let mut bytes = encoding::row_bytes(values);
    bytes.extend(table.to_be_bytes());
    bytes.extend(unique.map_or(0, |at| at + 1).to_be_bytes());
    DigestFunction::Xxh3.digest(&bytes).0
}

/// The nodes that should have a write of the table made at a node.
#[must_use]
pub(crate) fn reaches(table: &SetTable, from: NodeId) -> NodeSet {
    if table.whole { table.expectation.reached_from(from) } else { NodeSet::EMPTY }
}
