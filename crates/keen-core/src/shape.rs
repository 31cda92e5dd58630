//! Table shapes, and what of a table can be compared over nodes that shape it differently.

use std::collections::{BTreeMap, BTreeSet};

use crate::rows::{Column, Layout, Reading};
use crate::topology::{ColumnChoice, NodeId};

/// The shape of one table on one node.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct TableShape {
    /// Its columns in declared order.
    pub columns: Vec<ColumnShape>,
    /// The names of the key columns in key order; empty without a key.
    pub key: Vec<String>,
    /// Column lists that must be unique, the key left out.
    pub unique: Vec<Vec<String>>,
    /// Foreign keys.
    pub references: Vec<Reference>,
    /// Names of triggers that fire on writes to it.
    pub triggers: Vec<String>,
}

/// One column on one node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ColumnShape {
    /// Its name there.
    pub name: String,
    /// Its type as declared; can be empty in SQLite.
    pub declared: String,
    /// What the engine turns written values into.
    pub family: Family,
    /// It refuses NULL.
    pub not_null: bool,
    /// A row can be inserted without naming it.
    pub optional: bool,
    /// The engine computes it.
    pub generated: bool,
}

/// What a column turns the values written to it into.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Family {
    /// Stores values as they come.
    Any,
    /// Whole numbers; others where they do not fit.
    Integer,
    /// Whole numbers where nothing is lost, else floats.
    Numeric,
    /// Floats.
    Real,
    /// Text; numbers become their text.
    Text,
}

/// A foreign key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reference {
    /// The referring columns.
    pub columns: Vec<String>,
    /// The table referred to.
    pub table: String,
    /// The columns referred to.
    pub to: Vec<String>,
}

impl TableShape {
    /// The column of that name, found as engines find it: exactly, else without regard to ASCII case.
    #[must_use]
    pub fn column(&self, name: &str) -> Option<&ColumnShape> {
        self.columns
            .iter()
            .find(|column| column.name == name)
            .or_else(|| self.columns.iter().find(|column| column.name.eq_ignore_ascii_case(name)))
    }
}

/// What is compared, and with whom.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Agreement {
    /// What is compared; none if no two nodes can be.
    pub layout: Option<Layout>,
    /// Per node, what it calls the columns of the layout, in canonical order.
    pub local_columns: BTreeMap<NodeId, Vec<String>>,
    /// Nodes whose table cannot be compared with the others', and why.
    pub refused: BTreeMap<NodeId, String>,
    /// Things worth a word, which keep nobody from comparing.
    pub notes: Vec<String>,
}

/// Names nodes for messages.
pub trait NodeNames {
    /// The name of a node.
    fn name(&self, node: NodeId) -> &str;
}

impl NodeNames for crate::topology::Topology {
    fn name(&self, node: NodeId) -> &str {
        &self.nodes[node].name
    }
}

/// Agrees on the columns and the key to compare one table by.
///
/// Where nodes differ, the shape that most nodes have counts (among equals the
/// one with more columns, then the one found first), and the others are
/// refused with a reason rather than compared in part.
#[must_use]
pub fn agree(
    shapes: &BTreeMap<NodeId, TableShape>,
    choice: &ColumnChoice,
    names: &dyn NodeNames,
) -> Agreement {
    let mut agreement = Agreement::default();
    let mut shapes: BTreeMap<NodeId, &TableShape> =
        shapes.iter().map(|(node, shape)| (*node, shape)).collect();
    let folding = Folding::new(shapes.values().copied());

    if let Some(reference) =
        most_common(&shapes, |shape| folding.list(&shape.key), |key| usize::from(!key.is_empty()))
    {
        let key = folding.list(&shapes[&reference].key);
        refuse(&mut shapes, &mut agreement, |shape| {
            (folding.list(&shape.key) != key).then(|| {
                format!(
                    "its key is {}, on {} it is {}: make the keys alike",
                    spelled(&shape.key),
                    names.name(reference),
                    spelled(&key)
                )
            })
        });
    }

    let wanted = match wanted_columns(&mut shapes, &mut agreement, choice, &folding, names) {
        Some(wanted) if shapes.len() > 1 => wanted,
        _ => return agreement,
    };
    let reference_node = wanted.reference;
    let reference = shapes[&reference_node];
    let mut shown: Vec<&ColumnShape> = reference
        .columns
        .iter()
        .filter(|column| wanted.columns.contains(&folding.fold(&column.name)))
        .collect();
    let declared: Vec<String> = shown.iter().map(|column| column.name.clone()).collect();
    shown.sort_by(|a, b| a.name.as_bytes().cmp(b.name.as_bytes()));

    let position = |name: &str| {
        shown.iter().position(|column| folding.fold(&column.name) == folding.fold(name))
    };
    let columns = shown
        .iter()
        .map(|column| {
            let folded = folding.fold(&column.name);
            let found = |shape: &TableShape| {
                shape
                    .columns
                    .iter()
                    .find(|other| folding.fold(&other.name) == folded)
                    .map(|other| other.family)
            };
            let families: BTreeSet<Family> =
                shapes.values().filter_map(|shape| found(shape)).collect();
            let numeric = [Family::Integer, Family::Numeric, Family::Real]
                .iter()
                .any(|f| families.contains(f));
            let reading =
                if families.len() > 1 && numeric { Reading::Number } else { Reading::AsStored };
            if families.len() > 1 {
                agreement.notes.push(declared_differently(
                    &column.name,
                    &shapes,
                    &folding,
                    reading,
                    names,
                ));
            }
            Column { name: column.name.clone(), reading }
        })
        .collect();
    agreement.layout = Some(Layout {
        columns,
        key: reference.key.iter().filter_map(|name| position(name)).collect(),
        shown: declared.iter().filter_map(|name| position(name)).collect(),
    });
    for (node, shape) in &shapes {
        let local = shown.iter().map(|column| {
            let folded = folding.fold(&column.name);
            let other = shape.columns.iter().find(|other| folding.fold(&other.name) == folded);
            other.map_or_else(|| column.name.clone(), |other| other.name.clone())
        });
        agreement.local_columns.insert(*node, local.collect());
    }
    agreement
}

struct Wanted {
    columns: BTreeSet<String>,
    reference: NodeId,
}

fn wanted_columns(
    shapes: &mut BTreeMap<NodeId, &TableShape>,
    agreement: &mut Agreement,
    choice: &ColumnChoice,
    folding: &Folding,
    names: &dyn NodeNames,
) -> Option<Wanted> {
    let all: BTreeSet<String> =
        shapes.values().flat_map(|s| s.columns.iter().map(|c| folding.fold(&c.name))).collect();
    let listed: &[String] = match choice {
        ColumnChoice::All => &[],
        ColumnChoice::Only(list) | ColumnChoice::Without(list) => list,
    };
    let listed: BTreeSet<String> = listed.iter().map(|name| folding.fold(name)).collect();
    let key: BTreeSet<String> =
        shapes.values().flat_map(|s| s.key.iter().map(|name| folding.fold(name))).collect();

    if matches!(choice, ColumnChoice::Without(_)) {
        if let Some(column) = listed.intersection(&key).next() {
            let reason = format!(
                "column {column} is part of the key and cannot be left out: take it out of without"
            );
            refuse(shapes, agreement, |_| Some(reason.clone()));
            return None;
        }
        for column in listed.difference(&all) {
            agreement.notes.push(format!("without names column {column}, which no node has here"));
        }
    }
    let of_interest = |shape: &TableShape| -> BTreeSet<String> {
        let columns = shape.columns.iter().map(|column| folding.fold(&column.name));
        match choice {
            ColumnChoice::All => columns.collect(),
            ColumnChoice::Only(_) => {
                columns.filter(|c| listed.contains(c) || key.contains(c)).collect()
            }
            ColumnChoice::Without(_) => columns.filter(|c| !listed.contains(c)).collect(),
        }
    };
    let reference = match choice {
        ColumnChoice::Only(_) => {
            refuse(shapes, agreement, |shape| lacks(&listed, &of_interest(shape), None));
            *shapes.keys().next()?
        }
        _ => {
            let reference = most_common(shapes, |shape| of_interest(shape), BTreeSet::len)?;
            let columns = of_interest(shapes[&reference]);
            let other = names.name(reference);
            refuse(shapes, agreement, |shape| {
                let here = of_interest(shape);
                lacks(&columns, &here, Some(other))
                    .or_else(|| lacks(&here, &columns, None).map(|_| more(&here, &columns, other)))
            });
            reference
        }
    };
    let columns = of_interest(shapes.get(&reference)?);
    Some(Wanted { columns, reference })
}

fn lacks(
    wanted: &BTreeSet<String>,
    here: &BTreeSet<String>,
    has_it: Option<&str>,
) -> Option<String> {
    let missing: Vec<&str> = wanted.difference(here).map(String::as_str).collect();
    let owner = has_it.map(|name| format!(", which {name} has")).unwrap_or_default();
    let advice = if has_it.is_some() {
        "add it here, or leave it out of the set with without = [...]"
    } else {
        "add it here, or take it out of the set's columns"
    };
    (!missing.is_empty()).then(|| format!("lacks column {}{owner}: {advice}", missing.join(", ")))
}

fn more(here: &BTreeSet<String>, columns: &BTreeSet<String>, other: &str) -> String {
    let extra: Vec<&str> = here.difference(columns).map(String::as_str).collect();
    format!(
        "has column {}, which {other} lacks: add it there, or leave it out of the set with without = [...]",
        extra.join(", ")
    )
}

fn declared_differently(
    column: &str,
    shapes: &BTreeMap<NodeId, &TableShape>,
    folding: &Folding,
    reading: Reading,
    names: &dyn NodeNames,
) -> String {
    let mut by_type: BTreeMap<String, Vec<&str>> = BTreeMap::new();
    for (node, shape) in shapes {
        let here =
            shape.columns.iter().find(|other| folding.fold(&other.name) == folding.fold(column));
        let declared =
            here.map_or("", |c| if c.declared.is_empty() { "no type" } else { &c.declared });
        by_type.entry(declared.to_owned()).or_default().push(names.name(*node));
    }
    let types: Vec<String> =
        by_type.iter().map(|(t, nodes)| format!("{t} on {}", nodes.join(", "))).collect();
    let how = match reading {
        Reading::Number => "numbers are compared by value",
        Reading::AsStored => "values are compared as stored",
    };
    format!("column {column} is declared {}: {how}", types.join("; "))
}

/// Takes the shapes for which `reason` gives one out of the comparison.
fn refuse(
    shapes: &mut BTreeMap<NodeId, &TableShape>,
    agreement: &mut Agreement,
    reason: impl Fn(&TableShape) -> Option<String>,
) {
    shapes.retain(|node, shape| match reason(shape) {
        Some(reason) => {
            agreement.refused.insert(*node, reason);
            false
        }
        None => true,
    });
}

/// The node whose property is shared by most; among equals the weightier property, then the first node.
fn most_common<T: Ord>(
    shapes: &BTreeMap<NodeId, &TableShape>,
    property: impl Fn(&TableShape) -> T,
    weight: impl Fn(&T) -> usize,
) -> Option<NodeId> {
    let mut counts: BTreeMap<T, (usize, NodeId)> = BTreeMap::new();
    for (node, shape) in shapes {
        counts.entry(property(shape)).or_insert((0, *node)).0 += 1;
    }
    counts
        .into_iter()
        .max_by_key(|(property, (count, node))| {
            (*count, weight(property), std::cmp::Reverse(*node))
        })
        .map(|(_, (_, node))| node)
}

fn spelled(key: &[String]) -> String {
    if key.is_empty() { "none".to_owned() } else { format!("({})", key.join(", ")) }
}

/// Column names pair without regard to ASCII case, unless some table tells names apart by it.
struct Folding {
    exact: bool,
}

impl Folding {
    fn new<'a>(shapes: impl Iterator<Item = &'a TableShape>) -> Self {
        let mut exact = false;
        for shape in shapes {
            let folded: BTreeSet<String> =
                shape.columns.iter().map(|c| c.name.to_ascii_lowercase()).collect();
            exact |= folded.len() < shape.columns.len();
        }
        Self { exact }
    }

    fn fold(&self, name: &str) -> String {
        if self.exact { name.to_owned() } else { name.to_ascii_lowercase() }
    }

    fn list(&self, names: &[String]) -> Vec<String> {
        names.iter().map(|name| self.fold(name)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Abc;
    impl NodeNames for Abc {
        fn name(&self, node: NodeId) -> &str {
            ["ada", "bea", "cis"][node]
        }
    }

    fn shape(columns: &[(&str, Family)], key: &[&str]) -> TableShape {
        TableShape {
            columns: columns
                .iter()
                .map(|(name, family)| ColumnShape {
                    name: (*name).to_owned(),
                    declared: String::new(),
                    family: *family,
                    not_null: false,
                    optional: true,
                    generated: false,
                })
                .collect(),
            key: key.iter().map(|k| (*k).to_owned()).collect(),
            ..TableShape::default()
        }
    }

    fn agreed(shapes: Vec<TableShape>, choice: &ColumnChoice) -> Agreement {
        agree(&shapes.into_iter().enumerate().collect(), choice, &Abc)
    }

    const INT: Family = Family::Integer;

    #[test]
    fn columns_pair_by_name_whatever_their_order_and_case() {
        let a = shape(&[("id", INT), ("Name", Family::Text)], &["id"]);
        let b = shape(&[("NAME", Family::Text), ("ID", INT)], &["ID"]);
        let found = agreed(vec![a, b], &ColumnChoice::All);
        let layout = found.layout.unwrap();
        assert_eq!(layout.columns.iter().map(|c| &c.name[..]).collect::<Vec<_>>(), ["Name", "id"]);
        assert_eq!((layout.key, layout.shown), (vec![1], vec![1, 0]));
        assert_eq!(found.local_columns[&1], ["NAME", "ID"]);
    }

    #[test]
    fn the_odd_one_out_is_refused_and_told_why() {
        let plain = || shape(&[("id", INT), ("v", INT)], &["id"]);
        let other_key = shape(&[("id", INT), ("v", INT)], &["id", "v"]);
        let found = agreed(vec![plain(), other_key, plain()], &ColumnChoice::All);
        assert!(found.layout.is_some());
        assert_eq!(found.refused[&1], "its key is (id, v), on ada it is (id): make the keys alike");

        let short = shape(&[("id", INT)], &["id"]);
        let found = agreed(vec![plain(), short, plain()], &ColumnChoice::All);
        assert!(found.refused[&1].starts_with("lacks column v, which ada has"));
        assert!(found.layout.is_some());
    }

    #[test]
    fn two_nodes_that_cannot_be_compared_leave_nothing_to_compare() {
        let found = agreed(
            vec![shape(&[("id", INT), ("v", INT)], &["id"]), shape(&[("id", INT)], &["id"])],
            &ColumnChoice::All,
        );
        assert!(found.layout.is_none());
        assert!(found.refused[&1].contains("lacks column v"));
    }

    #[test]
    fn a_column_list_keeps_the_key_and_a_leaving_out_cannot_drop_it() {
        let wide = || shape(&[("id", INT), ("v", INT), ("w", INT)], &["id"]);
        let narrow = shape(&[("id", INT), ("v", INT)], &["id"]);
        let only = ColumnChoice::Only(vec!["v".to_owned()]);
        let layout = agreed(vec![wide(), narrow.clone()], &only).layout.unwrap();
        assert_eq!(layout.columns.len(), 2);
        let without = ColumnChoice::Without(vec!["w".to_owned()]);
        assert_eq!(agreed(vec![wide(), narrow], &without).layout.unwrap().columns.len(), 2);
        let without_key = ColumnChoice::Without(vec!["id".to_owned()]);
        assert!(agreed(vec![wide(), wide()], &without_key).refused[&0].contains("part of the key"));
    }

    #[test]
    fn numbers_declared_differently_are_compared_by_value() {
        let found = agreed(
            vec![
                shape(&[("id", INT), ("t", Family::Real)], &["id"]),
                shape(&[("id", INT), ("t", Family::Numeric)], &["id"]),
            ],
            &ColumnChoice::All,
        );
        assert_eq!(found.layout.unwrap().columns[1].reading, Reading::Number);
        assert_eq!(found.notes.len(), 1);
    }
}
