//! The JSON of results: types of their own, apart from the core's, with a version.
//!
//! `docs/json.md` documents them. What an audit writes, `plan --audit` reads.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use keen_core::audit::merge::{DivergentRow, Version};
use keen_core::fault::ReadFault;
use keen_core::plan::{AuditedTable, FoundRows, LocalTable, SharedColumns, WrittenTimes};
use keen_core::row::batch::{Column, Layout};
use keen_core::row::conversion::{CommonKind, Conversion, Normalization};
use keen_core::row::schema::{ColumnShape, Family, Reference, TableShape, Trigger};
use keen_core::topology::{Engine, NodeId, Topology};
use keen_core::value::Value;
use keen_core::value::calendar;
use keen_core::value::decimal::Decimal;
use keen_core::value::text::{parse_uuid, text_of};
use keen_core::value::zone::Zone;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json, json};

/// The version of every document here. It rises when a reader of the old one would be wrong.
pub const VERSION: u32 = 2;

/// The members with which every document begins.
#[derive(Debug, Clone, Serialize)]
pub struct Envelope<'a> {
    /// The kind of document.
    pub keen: &'a str,
    /// The version of the format.
    pub version: u32,
    /// The name of the topology.
    pub topology: &'a str,
    /// When the run began, UTC.
    pub started: String,
}

impl<'a> Envelope<'a> {
    /// That of a document of this kind.
    #[must_use]
    pub fn new(keen: &'a str, topology: &'a str, started: &impl ToString) -> Self {
        Self { keen, version: VERSION, topology, started: started.to_string() }
    }

    /// The document: these members and then those of `rest`.
    #[must_use]
    pub fn with(&self, rest: Json) -> Json {
        let mut document = Map::new();
        document.insert("keen".to_owned(), Json::from(self.keen));
        document.insert("version".to_owned(), Json::from(self.version));
        document.insert("topology".to_owned(), Json::from(self.topology));
        document.insert("started".to_owned(), Json::from(&self.started[..]));
        if let Json::Object(rest) = rest {
            document.extend(rest);
        }
        Json::Object(document)
    }
}

/// Why a node, or a part of it, could not be looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FaultDocument {
    /// The kind: `no_answer`, `not_allowed` and the like.
    pub kind: String,
    /// What was tried and what came back.
    pub what: String,
    /// What to do about it.
    pub advice: String,
}

impl From<&ReadFault> for FaultDocument {
    fn from(fault: &ReadFault) -> Self {
        Self {
            kind: fault.kind.name().to_owned(),
            what: fault.what.clone(),
            advice: fault.advice.clone(),
        }
    }
}

/// A fault, or null.
#[must_use]
pub fn fault(fault: Option<&ReadFault>) -> Json {
    let document = fault.map(FaultDocument::from);
    json!(document)
}

/// How long something took, in seconds, to the millisecond.
#[must_use]
pub fn seconds(took: Duration) -> f64 {
    (took.as_secs_f64() * 1000.0).round() / 1000.0
}

/// One table of one set, but for its rows.
#[derive(Debug)]
pub struct TableDocument {
    /// Its name in the set.
    pub table: String,
    /// The set.
    pub set: String,
    /// The columns that were compared.
    pub columns: Vec<ColumnDocument>,
    /// The columns of its key.
    pub key: Vec<String>,
    /// Its shapes, each with the nodes that have it.
    pub shapes: Vec<ShapeDocument>,
    /// The nodes that were not read, and why.
    pub unread: BTreeMap<String, String>,
}

/// A compared column.
#[derive(Debug, Clone, Serialize, Deserialize)]
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
    /// What the topology file asks for besides, in its words.
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
    /// What stores it, if that rolls nothing back.
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
pub struct TriggerDocument {
    name: String,
    on: Vec<String>,
    text: String,
}

/// A column of a shape.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ShapeColumn {
    name: String,
    declared: String,
    family: String,
    not_null: bool,
    optional: bool,
    generated: bool,
    #[serde(default, skip_serializing_if = "is_false")]
    bumped: bool,
}

/// A foreign key.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ShapeReference {
    columns: Vec<String>,
    table: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    place: String,
    to: Vec<String>,
}

/// A divergent row.
#[derive(Debug, Deserialize)]
pub struct DivergentDocument {
    /// Column to value; the whole row where it is its own key.
    pub key: Map<String, Json>,
    /// Columns of the key whose text spells a whole number.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub key_whole_numbers: Vec<String>,
    /// The row is its own key.
    #[serde(default, skip_serializing_if = "is_false")]
    pub row_is_key: bool,
    /// The columns in which versions differ.
    pub columns: Vec<String>,
    /// Its versions.
    pub versions: Vec<VersionDocument>,
    /// Rows with this key that the set's filter leaves out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub outside_filter: Vec<VersionDocument>,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks for a reference")]
fn is_false(v: &bool) -> bool {
    !v
}

/// One version of a row and who holds it.
#[derive(Debug, Deserialize)]
pub struct VersionDocument {
    /// Who holds it.
    pub nodes: Vec<String>,
    /// The row; none where it is not there.
    pub row: Option<Map<String, Json>>,
    /// Columns whose text spells a whole number.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub whole_numbers: Vec<String>,
    /// How often a row that is its own key is there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub count: Option<u64>,
}

// ---- writing ----

/// A value. Whole numbers that a double cannot hold become strings; the second
/// part of the result then says that the string is a number.
pub fn value(value: &Value) -> (Json, bool) {
    const LARGEST_EXACT: i128 = 1 << 53;
    let plain = match value {
        Value::Null => Json::Null,
        Value::Bool(v) => Json::from(*v),
        Value::Int(v) if v.abs() > LARGEST_EXACT => return (Json::from(v.to_string()), true),
        Value::Int(v) => i64::try_from(*v).map_or(Json::Null, Json::from),
        Value::Float(v) if v.is_finite() => Json::from(*v),
        Value::Float(v) if v.is_nan() => json!({"float": "NaN"}),
        Value::Float(v) => json!({"float": if *v > 0.0 { "Infinity" } else { "-Infinity" }}),
        Value::Text(bytes) => match std::str::from_utf8(bytes) {
            Ok(text) => Json::from(text),
            Err(_) => json!({"text_bytes": BASE64.encode(bytes)}),
        },
        Value::Bytes(bytes) => json!({"bytes": BASE64.encode(bytes)}),
        Value::Decimal(v) => json!({"decimal": v.as_str()}),
        Value::Date(_) => json!({"date": text_of(value.as_ref())}),
        Value::Time(_) => json!({"time": text_of(value.as_ref())}),
        Value::Timestamp(_) => json!({"timestamp": text_of(value.as_ref())}),
        Value::LocalTimestamp(_) => json!({"local_timestamp": text_of(value.as_ref())}),
        Value::Uuid(_) => json!({"uuid": text_of(value.as_ref())}),
        Value::Json(v) => json!({"json": v}),
    };
    (plain, false)
}

/// Cells as an object, and the names of those whose string is a whole number.
pub fn record<'a>(
    cells: impl IntoIterator<Item = (&'a str, &'a Value)>,
) -> (Map<String, Json>, Vec<String>) {
    let mut map = Map::new();
    let mut whole = Vec::new();
    for (name, cell) in cells {
        let (json, is_whole) = value(cell);
        if is_whole {
            whole.push(name.to_owned());
        }
        map.insert(name.to_owned(), json);
    }
    (map, whole)
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
            references: shape
                .references
                .iter()
                .map(|r| ShapeReference {
                    columns: r.columns.clone(),
                    table: r.table.clone(),
                    place: r.place.clone(),
                    to: r.to.clone(),
                })
                .collect(),
            triggers: shape.triggers.clone(),
            referred_by: (shape.referred_by.iter())
                .map(|r| ShapeReference {
                    columns: r.columns.clone(),
                    table: r.table.clone(),
                    place: r.place.clone(),
                    to: r.to.clone(),
                })
                .collect(),
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

// ---- reading back ----

/// Why a document cannot be used, in words that name the place.
type Unusable = String;

/// What rows of a table are read by.
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

/// What `plan` needs of a table in a document.
pub fn audited_table(
    topology: &Topology,
    document: TableDocument,
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
            if document.unread.contains_key(name) && shape.compared_columns.is_empty() {
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
            nodes.insert(id, std::sync::Arc::new(local));
        }
    }
    let unread = document.unread.keys().map(node).collect::<Result<Vec<_>, _>>()?;
    Ok(AuditedTable {
        set,
        table: document.table,
        divergent,
        written: WrittenTimes::default(),
        unsettled: Vec::new(),
        layout: std::sync::Arc::new(layout),
        nodes,
        unread: unread.into_iter().fold(0, |all, id| all | keen_core::topology::placement::bit(id)),
    })
}

fn local_table(engine: Engine, shape: &ShapeDocument) -> LocalTable {
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
            firing: (shape.firing.iter())
                .map(|t| Trigger { name: t.name.clone(), on: t.on.clone(), text: t.text.clone() })
                .collect(),
            firing_unseen: shape.firing_unseen.clone(),
            not_transactional: shape.not_transactional.clone(),
            untouchable: shape.untouchable.clone(),
            key: shape.key.clone(),
            unique: shape.unique.clone(),
            references: shape
                .references
                .iter()
                .map(|r| Reference {
                    columns: r.columns.clone(),
                    table: r.table.clone(),
                    place: r.place.clone(),
                    to: r.to.clone(),
                    unlogged: false,
                })
                .collect(),
            triggers: shape.triggers.clone(),
            referred_by: (shape.referred_by.iter())
                .map(|r| Reference {
                    columns: r.columns.clone(),
                    table: r.table.clone(),
                    place: r.place.clone(),
                    to: r.to.clone(),
                    unlogged: false,
                })
                .collect(),
        },
    }
}

/// Reads a divergent row.
///
/// # Errors
/// What keeps it from being used.
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
    let cells = |mut row: Map<String, Json>, whole: &[String]| -> Result<Vec<Value>, Unusable> {
        layout
            .columns
            .iter()
            .map(|c| {
                let json =
                    row.remove(&c.name).ok_or_else(|| format!("a row lacks column {}", c.name))?;
                parse_value(&json, whole.contains(&c.name))
                    .ok_or_else(|| format!("column {} holds no value keen writes", c.name))
            })
            .collect()
    };
    let mut versions = Vec::new();
    for version in row.versions {
        let cells = version.row.map(|map| cells(map, &version.whole_numbers)).transpose()?;
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
        if let (Some(map), [node]) = (version.row, &ids(&version.nodes)?[..]) {
            outside.push((*node, Arc::new(cells(map, &version.whole_numbers)?)));
        }
    }
    let key_cell = |i: &usize| {
        let name = &layout.columns[*i].name;
        let json = row.key.get(name).ok_or_else(|| format!("a key lacks column {name}"))?;
        parse_value(json, row.key_whole_numbers.contains(name))
            .ok_or_else(|| format!("key column {name} holds no value keen writes"))
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

/// A value as keen writes it to JSON (`docs/json.md`). `whole_number` says of a text that it spells one.
#[must_use]
pub fn parse_value(json: &Json, whole_number: bool) -> Option<Value> {
    let decode = |text: &Json| BASE64.decode(text.as_str()?).ok();
    Some(match json {
        Json::Null => Value::Null,
        Json::Bool(v) => Value::Bool(*v),
        Json::String(text) if whole_number => Value::Int(text.parse().ok()?),
        Json::String(text) => Value::text(text),
        Json::Number(n) => match n.as_i64() {
            Some(v) => Value::Int(v.into()),
            None => Value::Float(n.as_f64()?),
        },
        Json::Object(map) => {
            let (name, inner) = map.iter().next().filter(|_| map.len() == 1)?;
            match name.as_str() {
                "int" => Value::Int(inner.as_str()?.parse().ok()?),
                "bytes" => Value::Bytes(decode(inner)?),
                "text_bytes" => Value::Text(decode(inner)?),
                "uuid" => Value::Uuid(parse_uuid(inner.as_str()?)?),
                "float" => Value::Float(match inner.as_str()? {
                    "Infinity" => f64::INFINITY,
                    "-Infinity" => f64::NEG_INFINITY,
                    "NaN" => f64::NAN,
                    _ => return None,
                }),
                "decimal" => Value::Decimal(
                    Decimal::written(inner.as_str()?)
                        .or_else(|_| Decimal::parse(inner.as_str().unwrap_or_default()))
                        .ok()?,
                ),
                "date" => Value::Date(calendar::parse_date(inner.as_str()?)?),
                "time" => Value::Time(calendar::parse_time(inner.as_str()?)?),
                "timestamp" => Value::Timestamp(calendar::parse_timestamp(inner.as_str()?)?.0),
                "local_timestamp" => {
                    Value::LocalTimestamp(calendar::parse_timestamp(inner.as_str()?)?.0)
                }
                "json" => Value::Json(inner.as_str()?.to_owned()),
                _ => return None,
            }
        }
        Json::Array(_) => return None,
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn values_survive_the_document(v in prop_oneof![
            Just(Value::Null),
            any::<i64>().prop_map(|v| Value::Int(v.into())),
            any::<f64>().prop_filter("NaN is not equal to itself", |v| !v.is_nan()).prop_map(Value::Float),
            any::<String>().prop_map(|v| Value::text(&v)),
            any::<Vec<u8>>().prop_map(Value::Text),
            any::<Vec<u8>>().prop_map(Value::Bytes),
            any::<[u8; 16]>().prop_map(Value::Uuid),
            (-4_000_000i64..4_000_000).prop_map(Value::Date),
            (-3_000_000_000_000i64..3_000_000_000_000).prop_map(Value::Time),
            (-9_000_000_000_000_000i64..90_000_000_000_000_000).prop_map(Value::Timestamp),
            (-9_000_000_000_000_000i64..90_000_000_000_000_000).prop_map(Value::LocalTimestamp),
            Just(Value::LocalTimestamp(i64::MAX)),
            "[0-9]{1,20}".prop_map(|v| Value::text(&v)),
        ]) {
            let (json, whole) = value(&v);
            let text = serde_json::to_string(&json).unwrap();
            let back = parse_value(&serde_json::from_str(&text).unwrap(), whole).unwrap();
            prop_assert_eq!(back, v);
        }
    }
}
