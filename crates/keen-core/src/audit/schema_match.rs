//! Which part of a table can be compared over nodes that shape it differently.

use std::collections::{BTreeMap, BTreeSet};

use crate::row::batch::{Column, Layout};
use crate::row::conversion::{self, CommonKind, Conversion, NoCommonKind, Normalization};
use crate::row::schema::{ColumnShape, Family, TableShape};
use crate::topology::{ColumnChoice, Engine, NodeId, SetId, Topology};
use crate::value::zone::Zone;

/// The columns and the key to compare by, and the nodes that can be compared.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ComparisonSchema {
    /// The compared columns; none if no two nodes can be compared.
    pub layout: Option<Layout>,
    /// Per node, what it calls the columns of the layout, in canonical order.
    pub local_columns: BTreeMap<NodeId, Vec<String>>,
    /// Nodes whose table cannot be compared with the others', and why.
    pub refused: BTreeMap<NodeId, String>,
    /// Why the rows cannot be merged in key order, if so.
    pub unordered: Option<String>,
    /// Things worth a word, which keep nobody from comparing.
    pub notes: Vec<String>,
}

/// The topology's rules for comparing one table.
pub struct Terms<'a> {
    /// Which columns belong to the set.
    pub choice: &'a ColumnChoice,
    /// The engineer's wishes, by column.
    pub treatments: &'a BTreeMap<String, Normalization>,
    /// The zone of times that have none, where they stand beside times that have one.
    pub zone: Option<&'a Zone>,
    /// Columns that nodes call otherwise than the others: by node, from the common name.
    pub aliases: &'a BTreeMap<NodeId, BTreeMap<String, String>>,
    /// The names of the nodes.
    pub names: &'a dyn NodeNames,
    /// The engine of each node. Nodes of one are held to its own text of a value.
    pub engines: &'a dyn Fn(NodeId) -> Engine,
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
pub fn agree(shapes: &BTreeMap<NodeId, TableShape>, terms: &Terms<'_>) -> ComparisonSchema {
    let mut agreement = ComparisonSchema::default();
    let common = in_common_names(shapes, terms.aliases, &mut agreement);
    let mut shapes: BTreeMap<NodeId, &TableShape> =
        common.iter().map(|(node, shape)| (*node, shape)).collect();
    let (names, folding) = (terms.names, Folding::new(shapes.values().copied()));

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

    let choice = terms.without_ignored();
    let wanted = match wanted_columns(&mut shapes, &mut agreement, &choice, &folding, names) {
        Some(wanted) if shapes.len() > 1 => wanted,
        _ => return agreement,
    };
    for (name, _) in terms.treatments.iter().filter(|(_, treatment)| !treatment.ignore) {
        if !wanted.columns.contains(&folding.fold(name)) {
            let note = format!("[compare] names column {name}, which is not compared here");
            agreement.notes.push(note);
        }
    }
    let mut columns = Vec::new();
    for name in &wanted.columns {
        match paired(name, &shapes, &folding, terms) {
            Ok((column, note)) => {
                agreement.notes.extend(note);
                columns.push(column);
            }
            Err(reason) => {
                refuse(&mut shapes, &mut agreement, |_| Some(reason.clone()));
                return agreement;
            }
        }
    }
    let reference = shapes[&wanted.reference];
    columns.sort_by(|a, b| a.name.as_bytes().cmp(b.name.as_bytes()));
    let position = |name: &String| {
        columns.iter().position(|column| folding.fold(&column.name) == folding.fold(name))
    };
    let layout = Layout {
        key: reference.key.iter().filter_map(position).collect(),
        shown: reference.columns.iter().filter_map(|column| position(&column.name)).collect(),
        columns: columns.clone(),
    };
    agreement.unordered = unordered(&layout, &shapes, names);
    for (node, shape) in &shapes {
        let local = columns.iter().map(|column| {
            let folded = folding.fold(&column.name);
            let other = shape.columns.iter().find(|other| folding.fold(&other.name) == folded);
            let name = other.map_or_else(|| column.name.clone(), |other| other.name.clone());
            terms.local_name(*node, &name)
        });
        agreement.local_columns.insert(*node, local.collect());
    }
    agreement.layout = Some(layout);
    agreement
}

/// Agrees on one table of a set, by what the topology says about comparing it.
#[must_use]
pub fn agree_on(
    topology: &Topology,
    set: SetId,
    table: &str,
    shapes: &BTreeMap<NodeId, TableShape>,
) -> ComparisonSchema {
    let aliases = topology.nodes.iter().enumerate();
    let aliases =
        aliases.filter_map(|(id, node)| Some((id, node.column_names.get(table)?.clone())));
    let as_they_are = BTreeMap::new();
    let terms = Terms {
        choice: &topology.sets[set].columns,
        treatments: topology.compare.get(table).unwrap_or(&as_they_are),
        zone: topology.zone.as_ref(),
        aliases: &aliases.collect(),
        names: topology,
        engines: &|node| topology.nodes[node].at.engine(),
    };
    let mut agreement = agree(shapes, &terms);
    let in_a_set = |node: NodeId, local: &String| {
        let node = &topology.nodes[node];
        let mut tables = topology.sets.iter().flat_map(|set| &set.tables);
        tables.any(|table| {
            node.name_of(table) == local || node.name_of(table).ends_with(&format!(".{local}"))
        })
    };
    let mut left: Vec<&String> = shapes
        .iter()
        .flat_map(|(node, shape)| shape.heirs.iter().filter(|heir| !in_a_set(*node, heir)))
        .collect();
    left.sort();
    left.dedup();
    if !left.is_empty() {
        let names: Vec<&str> = left.iter().map(|name| &name[..]).collect();
        agreement.notes.push(format!(
            "only its own rows are compared: {} inherit from it, and no set names them",
            names.join(", ")
        ));
    }
    agreement
}

impl Terms<'_> {
    fn without_ignored(&self) -> ColumnChoice {
        let ignored: Vec<String> = self
            .treatments
            .iter()
            .filter(|(_, t)| t.ignore)
            .map(|(name, _)| name.clone())
            .collect();
        match self.choice {
            choice if ignored.is_empty() => choice.clone(),
            ColumnChoice::All => ColumnChoice::Without(ignored),
            ColumnChoice::Without(list) => {
                ColumnChoice::Without(list.iter().cloned().chain(ignored).collect())
            }
            ColumnChoice::Only(list) => ColumnChoice::Only(
                list.iter()
                    .filter(|name| !ignored.iter().any(|other| other.eq_ignore_ascii_case(name)))
                    .cloned()
                    .collect(),
            ),
        }
    }

    fn treatment(&self, column: &str, folding: &Folding) -> Normalization {
        let found =
            self.treatments.iter().find(|(name, _)| folding.fold(name) == folding.fold(column));
        found.map_or_else(Normalization::default, |(_, treatment)| *treatment)
    }

    /// A node's own name of a column.
    fn local_name(&self, node: NodeId, name: &str) -> String {
        let aliases = self.aliases.get(&node);
        aliases.and_then(|aliases| aliases.get(name)).map_or_else(|| name.to_owned(), Clone::clone)
    }
}

/// The shapes with the columns called as most nodes call them.
fn in_common_names(
    shapes: &BTreeMap<NodeId, TableShape>,
    aliases: &BTreeMap<NodeId, BTreeMap<String, String>>,
    agreement: &mut ComparisonSchema,
) -> BTreeMap<NodeId, TableShape> {
    let mut shapes = shapes.clone();
    for (node, aliases) in aliases {
        let Some(shape) = shapes.get_mut(node) else { continue };
        if let Some(missing) = aliases.values().find(|local| shape.column(local).is_none()) {
            let reason = format!(
                "has no column {missing}, which its names in keen.toml mention: correct them"
            );
            agreement.refused.insert(*node, reason);
            shapes.remove(node);
            continue;
        }
        let is_renamed = |name: &str| aliases.values().any(|l| l.eq_ignore_ascii_case(name));
        let taken = aliases
            .keys()
            .find(|common| shape.column(common).is_some_and(|column| !is_renamed(&column.name)));
        if let Some(taken) = taken {
            let reason = format!(
                "has a column {taken}, and its names in keen.toml give that name to another one: correct them"
            );
            agreement.refused.insert(*node, reason);
            shapes.remove(node);
            continue;
        }
        let rename = |name: &mut String| {
            let common = aliases.iter().find(|(_, local)| local.eq_ignore_ascii_case(name));
            if let Some((common, _)) = common {
                name.clone_from(common);
            }
        };
        shape.columns.iter_mut().for_each(|column| rename(&mut column.name));
        shape.key.iter_mut().for_each(rename);
    }
    shapes
}

/// One compared column, and what to say about it; or why it cannot be compared.
fn paired(
    name: &str,
    shapes: &BTreeMap<NodeId, &TableShape>,
    folding: &Folding,
    terms: &Terms<'_>,
) -> Result<(Column, Option<String>), String> {
    let found: BTreeMap<NodeId, &ColumnShape> = shapes
        .iter()
        .filter_map(|(node, shape)| {
            Some((*node, shape.columns.iter().find(|c| folding.fold(&c.name) == name)?))
        })
        .collect();
    let families: BTreeSet<Family> = found.values().map(|column| column.family).collect();
    let treatment = terms.treatment(name, folding);
    let declared = || declared_as(&found, terms.names);
    let opaque_apart = families.contains(&Family::Opaque)
        && found.values().any(|c| c.declared != found.values().next().map_or("", |f| &f.declared));
    let kind = match conversion::narrowest(&families, terms.zone) {
        _ if opaque_apart => Err(NoCommonKind::Unlike),
        Err(NoCommonKind::Unlike) if treatment.as_text => Ok(conversion::CommonKind::Text),
        other => other,
    };
    let kind = match kind {
        Ok(kind) => kind,
        Err(NoCommonKind::ZoneNeeded) => {
            return Err(format!(
                "column {name} is {}: name the zone of times without one in keen.toml, like zone = \"Europe/Vienna\"",
                declared()
            ));
        }
        Err(NoCommonKind::Unlike) => {
            return Err(format!(
                "column {name} is {}, which cannot be compared: leave it out of the set with without = [...]{}",
                declared(),
                if opaque_apart { "" } else { ", or compare it as \"text\"" }
            ));
        }
    };
    let engines: BTreeSet<&str> = found.keys().map(|node| (terms.engines)(*node).name()).collect();
    let unlike_engines = engines.len() > 1;
    let declared_apart =
        found.values().any(|c| c.declared != found.values().next().map_or("", |f| &f.declared));
    let spelled_several_ways = [Family::Decimal, Family::Real, Family::Single, Family::Json];
    let by_value = unlike_engines || declared_apart || treatment.by_value;
    let kind = match kind {
        CommonKind::AsStored
            if by_value && families.iter().any(|family| spelled_several_ways.contains(family)) =>
        {
            CommonKind::ByValue
        }
        kind => kind,
    };
    let timely = [Family::Time, Family::Timestamp, Family::LocalTimestamp];
    let digits =
        || found.values().filter(|c| timely.contains(&c.family)).map(|c| c.fraction.unwrap_or(6));
    let fraction = digits().min().filter(|least| digits().any(|other| other != *least));
    let reading = Conversion { kind, fraction, treatment };
    let mut said = Vec::new();
    let unlike = families.len() > 1 && families != [Family::Any, Family::Text].into();
    if unlike {
        said.push(format!("is declared {}: {}", declared(), reading.kind));
    } else if reading.kind == CommonKind::ByValue && !treatment.by_value {
        let why = if unlike_engines {
            "the nodes run different engines"
        } else {
            "it is declared differently"
        };
        said.push(format!("is compared by value, because {why}"));
    }
    if let Some(digits) = fraction {
        said.push(format!(
            "keeps {digits} digits of a second on some nodes: the rest is not compared"
        ));
    }
    let words = treatment.words();
    if !words.is_empty() {
        said.push(format!("is compared with {} (keen.toml)", words.join(", ")));
    }
    let note = (!said.is_empty()).then(|| format!("column {name} {}", said.join("; ")));
    let spelled = most_spelled(&found);
    Ok((Column { name: spelled, reading }, note))
}

/// The spelling of a name that most nodes have.
fn most_spelled(found: &BTreeMap<NodeId, &ColumnShape>) -> String {
    let mut counts: BTreeMap<&str, (usize, std::cmp::Reverse<NodeId>)> = BTreeMap::new();
    for (node, column) in found {
        counts.entry(&column.name).or_insert((0, std::cmp::Reverse(*node))).0 += 1;
    }
    counts.into_iter().max_by_key(|(_, weight)| *weight).map_or("", |(name, _)| name).to_owned()
}

/// Why rows cannot be merged in key order.
fn unordered(
    layout: &Layout,
    shapes: &BTreeMap<NodeId, &TableShape>,
    names: &dyn NodeNames,
) -> Option<String> {
    if layout.key.is_empty() {
        return Some("there is no key".to_owned());
    }
    if let Some(column) =
        layout.key.iter().map(|i| &layout.columns[*i]).find(|column| !column.reading.keeps_order())
    {
        return Some(format!("nodes order key column {} differently", column.name));
    }
    let found = shapes.iter().find_map(|(node, shape)| Some((node, shape.unordered.as_ref()?)));
    found.map(|(node, reason)| format!("on {} {reason}", names.name(*node)))
}

struct WantedColumns {
    columns: BTreeSet<String>,
    reference: NodeId,
}

fn wanted_columns(
    shapes: &mut BTreeMap<NodeId, &TableShape>,
    agreement: &mut ComparisonSchema,
    choice: &ColumnChoice,
    folding: &Folding,
    names: &dyn NodeNames,
) -> Option<WantedColumns> {
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
                "column {column} is part of the key and cannot be left out: remove it from without = [...], or from [compare.TABLE]"
            );
            refuse(shapes, agreement, |_| Some(reason.clone()));
            return None;
        }
        for column in listed.difference(&all) {
            agreement.notes.push(format!("without names column {column}, which no node has"));
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
    Some(WantedColumns { columns, reference })
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
        "add it here, or remove it from the set's columns"
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

fn declared_as(found: &BTreeMap<NodeId, &ColumnShape>, names: &dyn NodeNames) -> String {
    let mut by_type: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for (node, column) in found {
        let declared = if column.declared.is_empty() { "no type" } else { &column.declared };
        by_type.entry(declared).or_default().push(names.name(*node));
    }
    let types: Vec<String> =
        by_type.iter().map(|(t, nodes)| format!("{t} on {}", nodes.join(", "))).collect();
    types.join("; ")
}

/// Takes the shapes for which `reason` gives one out of the comparison.
fn refuse(
    shapes: &mut BTreeMap<NodeId, &TableShape>,
    agreement: &mut ComparisonSchema,
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
                    fraction: None,
                    ..ColumnShape::default()
                })
                .collect(),
            key: key.iter().map(|k| (*k).to_owned()).collect(),
            ..TableShape::default()
        }
    }

    fn agreed(shapes: Vec<TableShape>, choice: &ColumnChoice) -> ComparisonSchema {
        agreed_on(shapes, choice, &[], &BTreeMap::new())
    }

    fn agreed_on(
        shapes: Vec<TableShape>,
        choice: &ColumnChoice,
        treatments: &[(&str, &str)],
        aliases: &BTreeMap<NodeId, BTreeMap<String, String>>,
    ) -> ComparisonSchema {
        let mut asked: BTreeMap<String, Normalization> = BTreeMap::new();
        for (column, word) in treatments {
            assert!(asked.entry((*column).to_owned()).or_default().add(word));
        }
        let terms = Terms {
            choice,
            treatments: &asked,
            zone: None,
            aliases,
            names: &Abc,
            engines: &|_| Engine::Sqlite,
        };
        agree(&shapes.into_iter().enumerate().collect(), &terms)
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
        let column = &found.layout.unwrap().columns[1];
        assert_eq!(column.reading.kind, conversion::CommonKind::Number);
        assert_eq!(found.notes.len(), 1);
    }

    #[test]
    fn columns_by_other_names_are_paired_and_asked_for_by_their_own() {
        let a = shape(&[("id", INT), ("guest", INT)], &["id"]);
        let b = shape(&[("number", INT), ("guest_id", INT)], &["number"]);
        let name = |common: &str, local: &str| (common.to_owned(), local.to_owned());
        let of_b: BTreeMap<_, _> = [name("id", "number"), name("guest", "guest_id")].into();
        let found =
            agreed_on(vec![a.clone(), b.clone()], &ColumnChoice::All, &[], &[(1, of_b)].into());
        assert_eq!(found.local_columns[&1], ["guest_id", "number"]);
        assert_eq!(found.layout.unwrap().key, [1]);
        // Two that exchange their names are no clash; one name for two columns is.
        let turned: BTreeMap<_, _> =
            [name("number", "guest_id"), name("guest_id", "number")].into();
        let c = shape(&[("guest_id", INT), ("number", INT)], &["guest_id"]);
        let found = agreed_on(vec![c, b.clone()], &ColumnChoice::All, &[], &[(1, turned)].into());
        assert_eq!(found.local_columns[&1], ["number", "guest_id"]);
        let clash: BTreeMap<_, _> = [name("number", "guest_id")].into();
        let found =
            agreed_on(vec![a.clone(), b.clone()], &ColumnChoice::All, &[], &[(1, clash)].into());
        assert!(found.refused[&1].contains("a column number, and its names"), "{found:?}");
        let wrong: BTreeMap<_, _> = [name("id", "nr")].into();
        let found = agreed_on(vec![a, b], &ColumnChoice::All, &[], &[(1, wrong)].into());
        assert!(found.refused[&1].contains("no column nr"));
    }

    #[test]
    fn what_the_engineer_asks_for_is_done_and_said() {
        let table = || shape(&[("id", INT), ("v", Family::Text), ("w", INT)], &["id"]);
        let asked = [("v", "trim"), ("v", "fold"), ("w", "ignore")];
        let found = agreed_on(vec![table(), table()], &ColumnChoice::All, &asked, &BTreeMap::new());
        let layout = found.layout.unwrap();
        assert_eq!(layout.columns.len(), 2);
        assert!(layout.columns[1].reading.treatment.fold);
        assert_eq!(found.notes, ["column v is compared with trim, fold (keen.toml)"]);
        assert_eq!(found.unordered, None);
        let typo = [("vv", "trim")];
        let found = agreed_on(vec![table(), table()], &ColumnChoice::All, &typo, &BTreeMap::new());
        assert!(found.notes[0].contains("column vv, which is not compared"), "{found:?}");
        let key = agreed_on(
            vec![table(), table()],
            &ColumnChoice::All,
            &[("id", "round 1")],
            &BTreeMap::new(),
        );
        assert!(key.unordered.unwrap().contains("key column id"));
    }

    #[test]
    fn types_that_nothing_holds_are_refused_by_name() {
        let a = || shape(&[("id", INT), ("v", Family::Timestamp)], &["id"]);
        let b = || shape(&[("id", INT), ("v", Family::LocalTimestamp)], &["id"]);
        let c = || shape(&[("id", INT), ("v", Family::Integer)], &["id"]);
        let found = agreed(vec![a(), b()], &ColumnChoice::All);
        assert!(found.layout.is_none() && found.refused[&0].contains("zone = "), "{found:?}");
        let found = agreed(vec![a(), c()], &ColumnChoice::All);
        assert!(found.refused[&1].contains("cannot be compared"), "{found:?}");
        let text =
            agreed_on(vec![a(), c()], &ColumnChoice::All, &[("v", "text")], &BTreeMap::new());
        assert!(text.layout.is_some());
    }
}
