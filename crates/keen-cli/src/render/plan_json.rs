//! A plan as JSON. `docs/json.md` describes it.

use anyhow::Result;
use jiff::Timestamp;
use keen_core::plan::sql::Statement;
use keen_core::plan::{CellChange, Guarded, Question, Step};
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;
use serde_json::{Map, Value as Json, json};

use crate::commands::plan::Planned;
use crate::wire::{self, VERSION};

/// The whole plan as one document.
pub(crate) fn document(topology: &Topology, planned: &Planned) -> Result<String> {
    let mut document = head(topology, planned);
    let steps =
        planned.plan.steps.iter().enumerate().map(|(i, s)| step(topology, i + 1, s)).collect();
    let questions = planned.plan.questions.iter().map(|q| question(topology, q)).collect();
    document.insert("steps".to_owned(), Json::Array(steps));
    document.insert("questions".to_owned(), Json::Array(questions));
    Ok(serde_json::to_string_pretty(&document)? + "\n")
}

/// The plan as one object per line.
pub(crate) fn lines(topology: &Topology, planned: &Planned) -> Result<String> {
    let mut out = String::new();
    let mut line = |kind: &str, mut object: Map<String, Json>| -> Result<()> {
        object.shift_insert(0, "kind".to_owned(), Json::from(kind));
        out.push_str(&serde_json::to_string(&object)?);
        out.push('\n');
        Ok(())
    };
    line("start", head(topology, planned))?;
    for (i, s) in planned.plan.steps.iter().enumerate() {
        line("step", object(step(topology, i + 1, s)))?;
    }
    for q in &planned.plan.questions {
        line("question", object(question(topology, q)))?;
    }
    Ok(out)
}

fn object(json: Json) -> Map<String, Json> {
    match json {
        Json::Object(map) => map,
        _ => Map::new(),
    }
}

fn head(topology: &Topology, planned: &Planned) -> Map<String, Json> {
    object(json!({
        "keen": "plan",
        "version": VERSION,
        "topology": topology.name,
        "made": Timestamp::now().to_string(),
        "audited": planned.audited,
        "complete": planned.complete,
        "interrupted": planned.interrupted,
        "notes": planned.plan.notes,
        "summary": {
            "steps": planned.plan.steps.len(),
            "questions": planned.plan.questions.len(),
        },
    }))
}

fn cells(cells: &[(String, Value)]) -> (Json, Vec<String>) {
    let (map, whole) = wire::record(cells.iter().map(|(name, value)| (&name[..], value)));
    (Json::Object(map), whole)
}

/// A whole number that a double cannot hold is a string, and its place is listed.
fn statement(statement: &Statement) -> Json {
    let (sql, values) = statement.bound();
    let written: Vec<(Json, bool)> = values.iter().map(wire::value).collect();
    let whole: Vec<usize> =
        written.iter().enumerate().filter(|(_, (_, whole))| *whole).map(|(i, _)| i + 1).collect();
    let mut out = json!({"sql": sql, "values": written.into_iter().map(|(json, _)| json).collect::<Vec<_>>()});
    if !whole.is_empty() {
        out["whole_numbers"] = json!(whole);
    }
    out
}

fn guarded(guarded: &Guarded) -> (Json, Json) {
    let guard = json!({
        "condition": guarded.condition,
        "query": statement(&guarded.guard),
        "must_yield": guarded.expected,
    });
    let mut write = statement(&guarded.statement);
    write["rows_changed"] = json!(guarded.changes);
    (write, guard)
}

fn step(topology: &Topology, number: usize, step: &Step) -> Json {
    let (write, undo) = step.write_and_undo();
    let ((write, guard), (undo, undo_guard)) = (guarded(&write), guarded(&undo));
    let changes = step.changes();
    let (key, key_whole) = cells(&step.key);
    let side = |pick: fn(&CellChange) -> Option<Value>| {
        let found: Option<Vec<(String, Value)>> =
            changes.iter().map(|c| Some((c.0.clone(), pick(c)?))).collect();
        found.map_or((Json::Null, Vec::new()), |found| cells(&found))
    };
    let (before, before_whole) = side(|c| c.1.clone());
    let (after, after_whole) = side(|c| c.2.clone());
    json!({
        "step": number,
        "node": topology.nodes[step.node].name,
        "loses": step.loses,
        "set": topology.sets[step.set].name,
        "table": step.table,
        "key": key,
        "key_whole_numbers": key_whole,
        "action": step.action.name(),
        "copies": step.copies.map(|(before, after)| json!({"before": before, "after": after})),
        "reason": step.reason,
        "before": before,
        "before_whole_numbers": before_whole,
        "after": after,
        "after_whole_numbers": after_whole,
        "guard": guard,
        "statement": write,
        "undo": {"guard": undo_guard, "statement": undo},
        "replicates_onward": step.onward,
    })
}

fn question(topology: &Topology, question: &Question) -> Json {
    let names = |nodes: &[NodeId]| {
        nodes.iter().map(|node| topology.nodes[*node].name.clone()).collect::<Vec<_>>()
    };
    let (key, key_whole) = cells(&question.key);
    let choices: Vec<Json> = question
        .choices
        .iter()
        .map(|choice| {
            let (row, whole) = choice.row.as_ref().map_or((Json::Null, Vec::new()), |row| cells(row));
            json!({"nodes": names(&choice.nodes), "row": row, "whole_numbers": whole, "copies": choice.copies, "loses": choice.loses})
        })
        .collect();
    json!({
        "set": topology.sets[question.set].name,
        "table": question.table,
        "key": key,
        "key_whole_numbers": key_whole,
        "why": question.why,
        "choices": choices,
    })
}
