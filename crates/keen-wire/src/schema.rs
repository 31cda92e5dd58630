//! JSON Schemas of all documents, made from their types.

use std::borrow::Cow;

use keen_core::conflict::{ConflictKind, ConflictStanding};
use keen_core::fault::FaultKind;
use keen_core::links::LinkState;
use keen_core::preflight::legend::Area;
pub use schemars::Schema;
use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, SchemaGenerator, json_schema};

use crate::audit::{AuditDocument, AuditLine};
use crate::conflicts::{ConflictsDocument, ConflictsLine};
use crate::envelope::VERSION;
use crate::history::HistoryDocument;
use crate::journal::JournalLine;
use crate::links::FlowDocument;
use crate::mend::MendDocument;
use crate::plan::{PlanDocument, PlanLine};
use crate::preflight::{JoinDocument, PreflightDocument};
use crate::probe::{FenceDocument, ProbeDocument};
use crate::value::Cells;

/// The schema of each document, by the name of its file without the ending.
#[must_use]
pub fn documents() -> Vec<(&'static str, Schema)> {
    vec![
        document::<AuditDocument>("audit", "keen audit --format json"),
        line::<AuditLine>("audit-line", "A line of keen audit --format ndjson"),
        document::<ConflictsDocument>("conflicts", "keen conflicts --format json"),
        line::<ConflictsLine>("conflicts-line", "A line of keen conflicts --format ndjson"),
        document::<FenceDocument>("fence", "keen probe --now or --seen, --format json"),
        document::<FlowDocument>("flow", "keen flow --format json"),
        document::<HistoryDocument>("history", "keen history --format json"),
        document::<JoinDocument>("join", "keen preflight --join NODE --from NODE --format json"),
        line::<JournalLine>("journal-line", "A line of a journal file"),
        document::<MendDocument>("mend", "keen mend PLAN --format json"),
        document::<PlanDocument>("plan", "keen plan --format json"),
        line::<PlanLine>("plan-line", "A line of keen plan --format ndjson"),
        document::<PreflightDocument>("preflight", "keen preflight --format json"),
        document::<ProbeDocument>("probe", "keen probe --format json"),
    ]
}

fn of<T: JsonSchema>(title: &str) -> Schema {
    let mut schema = SchemaSettings::draft2020_12().into_generator().into_root_schema_for::<T>();
    schema.insert("title".to_owned(), title.into());
    schema
}

/// A document says what it is, and in which version.
fn document<T: JsonSchema>(kind: &'static str, title: &str) -> (&'static str, Schema) {
    let mut schema = of::<T>(title);
    for (member, value) in [("keen", kind.into()), ("version", VERSION.into())] {
        let found = schema.pointer_mut(&format!("/properties/{member}"));
        if let Some(member) = found.and_then(serde_json::Value::as_object_mut) {
            member.insert("const".to_owned(), value);
        }
    }
    (kind, schema)
}

fn line<T: JsonSchema>(name: &'static str, title: &str) -> (&'static str, Schema) {
    (name, of::<T>(title))
}

impl JsonSchema for Cells {
    fn schema_name() -> Cow<'static, str> {
        "Cells".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let cell = generator.subschema_for::<Cell>();
        json_schema!({
            "description": "A row, or a part of one: column to cell, in the order of the table.",
            "type": "object",
            "additionalProperties": cell,
        })
    }
}

/// A cell (`docs/json.md`, Values).
struct Cell;

impl JsonSchema for Cell {
    fn schema_name() -> Cow<'static, str> {
        "Cell".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        /// The kinds of values that JSON has no form of its own for.
        const NAMED: [&str; 11] = [
            "int",
            "float",
            "text_bytes",
            "bytes",
            "decimal",
            "date",
            "time",
            "timestamp",
            "local_timestamp",
            "uuid",
            "json",
        ];
        let text = || json_schema!({"type": "string"});
        let named: serde_json::Map<String, serde_json::Value> =
            NAMED.iter().map(|name| ((*name).to_owned(), text().to_value())).collect();
        json_schema!({
            "description": "A value: as it is, or under the name of its kind.",
            "anyOf": [
                {"type": ["null", "boolean", "number", "string"]},
                {
                    "type": "object",
                    "properties": named,
                    "additionalProperties": false,
                    "minProperties": 1,
                    "maxProperties": 1,
                },
            ],
        })
    }
}

fn one_of<'n>(names: impl IntoIterator<Item = &'n str>) -> Schema {
    let names: Vec<&str> = names.into_iter().collect();
    json_schema!({"type": "string", "enum": names})
}

macro_rules! names {
    ($($name:ident = $names:expr;)*) => {
        $(pub(crate) fn $name(_: &mut SchemaGenerator) -> Schema {
            one_of($names)
        })*
    };
}

names! {
    fault_kind = FaultKind::ALL.map(FaultKind::name);
    link_state = LinkState::ALL.map(LinkState::name);
    conflict_kind = ConflictKind::ALL.map(ConflictKind::name);
    conflict_standing = ConflictStanding::ALL.map(ConflictStanding::name);
    area = Area::ALL.map(Area::name);
    verdict = ["agrees", "diverges", "unread", "unsettled"];
    unsettled = ["in_flight", "moving"];
    row_op = ["insert", "update", "delete"];
    choice_content = ["held", "lost", "merged"];
    deed = ["insert", "update", "delete", "take", "refer", "shape"];
    fate = ["kept", "lost", "unknown"];
    doubt = ["writer_outside", "journal_not_read", "journal_too_short", "last_writes_only"];
    reaches = ["yes", "no", "stopped", "untold"];
    level = ["stop", "warn", "note"];
    unit = ["transactions", "bytes"];
}

pub(crate) fn backlog(_: &mut SchemaGenerator) -> Schema {
    json_schema!({"type": ["string", "null"], "enum": ["draining", "growing", "steady", null]})
}
