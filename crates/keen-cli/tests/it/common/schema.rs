//! Holds what keen writes against the schemas of its documents, and against their types.

use std::collections::HashMap;
use std::sync::LazyLock;

use jsonschema::Validator;
use keen_wire::audit::{AuditDocument, AuditLine};
use keen_wire::conflicts::{ConflictsDocument, ConflictsLine};
use keen_wire::history::HistoryDocument;
use keen_wire::journal::JournalLine;
use keen_wire::links::FlowDocument;
use keen_wire::mend::MendDocument;
use keen_wire::plan::{PlanDocument, PlanLine};
use keen_wire::preflight::{JoinDocument, PreflightDocument};
use keen_wire::probe::{FenceDocument, ProbeDocument};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value as Json;

static VALIDATORS: LazyLock<HashMap<&str, Validator>> = LazyLock::new(|| {
    let made = |schema: keen_wire::schema::Schema| {
        jsonschema::draft202012::new(schema.as_value()).expect("a schema")
    };
    keen_wire::schema::documents().into_iter().map(|(name, s)| (name, made(s))).collect()
});

/// Checks a document or a line: its schema takes it, and its type keeps every member of it.
pub fn check(name: &str, json: &Json) {
    let validator = VALIDATORS.get(name).unwrap_or_else(|| panic!("no schema of {name}"));
    if let Err(error) = validator.validate(json) {
        panic!("{name}: {error} at {}: {json:#}", error.instance_path());
    }
    match name {
        "audit" => round::<AuditDocument>(json),
        "audit-line" => round::<AuditLine>(json),
        "conflicts" => round::<ConflictsDocument>(json),
        "conflicts-line" => round::<ConflictsLine>(json),
        "fence" => round::<FenceDocument>(json),
        "flow" => round::<FlowDocument>(json),
        "history" => round::<HistoryDocument>(json),
        "join" => round::<JoinDocument>(json),
        "journal-line" => round::<JournalLine>(json),
        "mend" => round::<MendDocument>(json),
        "plan" => round::<PlanDocument>(json),
        "plan-line" => round::<PlanLine>(json),
        "preflight" => round::<PreflightDocument>(json),
        "probe" => round::<ProbeDocument>(json),
        _ => panic!("no type of {name}"),
    }
}

fn round<T: DeserializeOwned + Serialize>(json: &Json) {
    let read: T = serde_json::from_value(json.clone()).unwrap_or_else(|e| panic!("{e}: {json:#}"));
    let again = serde_json::to_value(&read).unwrap();
    assert!(again == *json, "{json:#}\nbecame\n{again:#}");
}
