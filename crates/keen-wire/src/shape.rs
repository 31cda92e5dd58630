//! The shape of a table, and how its columns are compared.

use std::collections::BTreeMap;

use keen_core::plan::{LocalTable, SharedColumns};
use keen_core::row::batch::{Column, Layout};
use keen_core::row::conversion::{CommonKind, Conversion, Normalization};
use keen_core::row::schema::{Beside, ColumnShape, Family, Reference, TableShape, Trigger};
use keen_core::topology::{Engine, NodeId, Topology};
use keen_core::value::zone::Zone;
use serde::{Deserialize, Serialize};

use crate::Unusable;

/// A compared column.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ColumnDocument {
    /// Its name in the set.
    pub name: String,
    /// The name of the kind in which its values were compared.
    pub compared: String,
    /// The zone in which moments became local times.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// Digits of a second beyond which nothing was compared.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fraction: Option<u8>,
    /// The wishes of the topology file besides, in its words.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub treatment: Vec<String>,
}

impl ColumnDocument {
    fn new(column: &Column) -> Self {
        let reading = &column.reading;
        Self {
            name: column.name.clone(),
            compared: reading.kind.name().to_owned(),
            zone: match &reading.kind {
                CommonKind::Local(Some(zone)) => Some(zone.name().to_owned()),
                _ => None,
            },
            fraction: reading.fraction,
            treatment: reading.treatment.words(),
        }
    }

    fn reading(&self) -> Option<Conversion> {
        let zone = self.zone.as_deref().map(|name| Zone::named(name).ok_or(())).transpose().ok()?;
        let kinds = [
            CommonKind::AsStored,
            CommonKind::Exact,
            CommonKind::Number,
            CommonKind::Single,
            CommonKind::Text,
            CommonKind::Bytes,
            CommonKind::Date,
            CommonKind::Time,
            CommonKind::Local(zone),
            CommonKind::Uuid,
            CommonKind::Json,
            CommonKind::ByValue,
        ];
        let kind = kinds.into_iter().find(|kind| kind.name() == self.compared)?;
        let mut treatment = Normalization::default();
        let understood = self.treatment.iter().all(|word| treatment.add(word));
        understood.then_some(Conversion { kind, fraction: self.fraction, treatment })
    }
}

/// The shape of a table on the nodes that have it alike.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ShapeDocument {
    /// The nodes.
    pub nodes: Vec<String>,
    /// Its name there.
    pub name: String,
    /// The names there of the columns that were compared, in their order.
    pub compared_columns: Vec<String>,
    /// All columns there.
    pub columns: Vec<ShapeColumn>,
    /// The columns of its key.
    pub key: Vec<String>,
    /// The columns of each unique constraint.
    pub unique: Vec<Vec<String>>,
    /// Its foreign keys.
    pub references: Vec<ShapeReference>,
    /// The names of its triggers.
    pub triggers: Vec<String>,
    /// Foreign keys that refer to it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub referred_by: Vec<ShapeReference>,
    /// Schema and name, where the node has schemas.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub qualified: Vec<String>,
    /// Triggers that fire on what a script writes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub firing: Vec<TriggerDocument>,
    /// Why it is not known whether there are any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub firing_unseen: Option<String>,
    /// The storage engine, if it rolls nothing back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub not_transactional: Option<String>,
    /// Why nothing is written there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub untouchable: Option<String>,
    /// Tables that inherit from it, whose rows are not its.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub heirs: Vec<String>,
}

/// A trigger that fires on what a script writes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct TriggerDocument {
    /// Its name.
    pub name: String,
    /// The writes that it fires on: insert, update, delete.
    pub on: Vec<String>,
    /// How the server prints it.
    pub text: String,
}

/// A column of a shape.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ShapeColumn {
    /// Its name.
    pub name: String,
    /// Its type as the node declares it.
    pub declared: String,
    /// The family of that type.
    pub family: String,
    /// It takes no NULL.
    pub not_null: bool,
    /// An insert may leave it out.
    pub optional: bool,
    /// The node computes it from other columns.
    pub generated: bool,
    /// The node sets it at every update.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub bumped: bool,
}

/// A foreign key.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ShapeReference {
    /// The columns that refer.
    pub columns: Vec<String>,
    /// The table at the other end.
    pub table: String,
    /// Its schema, where that is another.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub place: String,
    /// The columns that are referred to.
    pub to: Vec<String>,
}

/// The columns that were compared, in declared order.
pub fn columns(layout: &Layout) -> Vec<ColumnDocument> {
    let shown = layout.shown.iter().map(|i| &layout.columns[*i]);
    shown.map(ColumnDocument::new).collect()
}

/// The names of the key columns.
pub fn key(layout: &Layout) -> Vec<String> {
    layout.key.iter().map(|i| layout.columns[*i].name.clone()).collect()
}

/// The shapes of a table, those that are alike together.
pub fn shapes(
    topology: &Topology,
    table: &str,
    shapes: &BTreeMap<NodeId, TableShape>,
    local_columns: &BTreeMap<NodeId, Vec<String>>,
) -> Vec<ShapeDocument> {
    let mut documents: Vec<ShapeDocument> = Vec::new();
    for (id, shape) in shapes {
        let node = &topology.nodes[*id];
        let document = ShapeDocument {
            nodes: Vec::new(),
            name: node.name_of(table).to_owned(),
            compared_columns: local_columns.get(id).cloned().unwrap_or_default(),
            columns: shape.columns.iter().map(shape_column).collect(),
            key: shape.key.clone(),
            unique: shape.unique.clone(),
            references: shape.references.iter().map(ShapeReference::from).collect(),
            triggers: shape.triggers.clone(),
            referred_by: shape.referred_by.iter().map(ShapeReference::from).collect(),
            qualified: shape.qualified.clone(),
            heirs: shape.heirs.clone(),
            firing: (shape.firing.iter())
                .map(|t| TriggerDocument {
                    name: t.name.clone(),
                    on: t.on.clone(),
                    text: t.text.clone(),
                })
                .collect(),
            firing_unseen: shape.firing_unseen.clone(),
            not_transactional: shape.not_transactional.clone(),
            untouchable: shape.untouchable.clone(),
        };
        let same = |other: &&mut ShapeDocument| {
            ShapeDocument { nodes: Vec::new(), ..(**other).clone() } == document
        };
        match documents.iter_mut().find(same) {
            Some(known) => known.nodes.push(node.name.clone()),
            None => documents.push(ShapeDocument { nodes: vec![node.name.clone()], ..document }),
        }
    }
    documents
}

impl From<&Reference> for ShapeReference {
    fn from(reference: &Reference) -> Self {
        Self {
            columns: reference.columns.clone(),
            table: reference.table.clone(),
            place: reference.place.clone(),
            to: reference.to.clone(),
        }
    }
}

impl From<ShapeReference> for Reference {
    fn from(document: ShapeReference) -> Self {
        let ShapeReference { columns, table, place, to } = document;
        Self { columns, table, place, to, unlogged: false }
    }
}

fn shape_column(column: &ColumnShape) -> ShapeColumn {
    ShapeColumn {
        name: column.name.clone(),
        declared: column.declared.clone(),
        family: family_name(column.family).to_owned(),
        not_null: column.not_null,
        optional: column.optional,
        generated: column.generated,
        bumped: column.bumped,
    }
}

const FAMILIES: [(Family, &str); 17] = [
    (Family::Any, "any"),
    (Family::Integer, "integer"),
    (Family::Numeric, "numeric"),
    (Family::Real, "real"),
    (Family::Text, "text"),
    (Family::Boolean, "boolean"),
    (Family::Single, "single"),
    (Family::Decimal, "decimal"),
    (Family::Bits, "bits"),
    (Family::Bytes, "bytes"),
    (Family::Date, "date"),
    (Family::Time, "time"),
    (Family::Timestamp, "timestamp"),
    (Family::LocalTimestamp, "local_timestamp"),
    (Family::Uuid, "uuid"),
    (Family::Json, "json"),
    (Family::Opaque, "opaque"),
];

fn family_name(family: Family) -> &'static str {
    FAMILIES.iter().find(|(known, _)| *known == family).map_or("any", |(_, name)| name)
}

/// The layout that rows of a table are read by.
pub fn layout(columns: &[ColumnDocument], key: &[String]) -> Result<Layout, Unusable> {
    let column = |c: &ColumnDocument| {
        let reading = c.reading();
        let reading =
            reading.ok_or_else(|| format!("column {} is compared in no way keen knows", c.name))?;
        Ok(Column { name: c.name.clone(), reading })
    };
    let declared = columns;
    let mut columns = declared.iter().map(column).collect::<Result<Vec<_>, Unusable>>()?;
    columns.sort_by(|a, b| a.name.as_bytes().cmp(b.name.as_bytes()));
    let index = |name: &String| {
        let found = columns.iter().position(|c| c.name == *name);
        found.ok_or_else(|| format!("{name} is no compared column"))
    };
    Ok(Layout {
        key: key.iter().map(index).collect::<Result<_, _>>()?,
        shown: declared.iter().map(|c| index(&c.name)).collect::<Result<_, _>>()?,
        columns: columns.clone(),
    })
}

/// The table as a node has it.
pub(crate) fn local_table(engine: Engine, shape: &ShapeDocument) -> LocalTable {
    LocalTable {
        engine,
        shared: SharedColumns::default(),
        name: shape.name.clone(),
        columns: shape.compared_columns.clone(),
        shape: TableShape {
            columns: shape
                .columns
                .iter()
                .map(|c| ColumnShape {
                    name: c.name.clone(),
                    declared: c.declared.clone(),
                    family: FAMILIES
                        .iter()
                        .find(|(_, name)| *name == c.family)
                        .map_or(Family::Any, |(f, _)| *f),
                    not_null: c.not_null,
                    optional: c.optional,
                    generated: c.generated,
                    bumped: c.bumped,
                    fraction: None,
                    ..ColumnShape::default()
                })
                .collect(),
            unordered: None,
            key_prefixes: BTreeMap::new(),
            unique_in_part: Vec::new(),
            qualified: shape.qualified.clone(),
            heirs: shape.heirs.clone(),
            stored: Beside::default(),
            firing: (shape.firing.iter())
                .map(|t| Trigger { name: t.name.clone(), on: t.on.clone(), text: t.text.clone() })
                .collect(),
            firing_unseen: shape.firing_unseen.clone(),
            not_transactional: shape.not_transactional.clone(),
            untouchable: shape.untouchable.clone(),
            key: shape.key.clone(),
            unique: shape.unique.clone(),
            references: shape.references.iter().cloned().map(Reference::from).collect(),
            triggers: shape.triggers.clone(),
            referred_by: shape.referred_by.iter().cloned().map(Reference::from).collect(),
        },
    }
}
