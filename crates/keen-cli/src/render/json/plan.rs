//! A plan as JSON, written step by step from where its rows are. `docs/json.md` describes it.

use std::io::{self, Write};

use jiff::Timestamp;
use keen_core::fault::ReadFault;
use keen_core::plan::sql::statement::Statement;
use keen_core::plan::{Choice, Guarded, Question, Step};
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;
use serde::ser::{Serialize, SerializeMap, Serializer};
use serde_json::{Map, Value as Json, json};

use crate::app::plan::Planned;
use crate::render::json::divergent_row::{CellJson, Each, RowJson};
use keen_wire::Envelope;

/// Writes the whole plan as one document.
pub(crate) fn document(
    topology: &Topology,
    planned: &Planned,
    mut out: &mut dyn Write,
) -> io::Result<()> {
    serde_json::to_writer_pretty(&mut out, &PlanJson { topology, planned })?;
    out.write_all(b"\n")
}

/// Writes the plan as one object per line.
pub(crate) fn lines(
    topology: &Topology,
    planned: &Planned,
    mut out: &mut dyn Write,
) -> io::Result<()> {
    let mut start = head(topology, planned);
    start.shift_insert(0, "kind".to_owned(), Json::from("start"));
    serde_json::to_writer(&mut out, &start)?;
    out.write_all(b"\n")?;
    for (at, step) in planned.plan.steps().enumerate() {
        let step = step.map_err(io::Error::other)?;
        let step = StepJson { topology, number: at + 1, step, kind: Some("step") };
        serde_json::to_writer(&mut out, &step)?;
        out.write_all(b"\n")?;
    }
    for question in planned.plan.questions() {
        let question = question.map_err(io::Error::other)?;
        let question = QuestionJson { topology, question, kind: Some("question") };
        serde_json::to_writer(&mut out, &question)?;
        out.write_all(b"\n")?;
    }
    Ok(())
}

fn head(topology: &Topology, planned: &Planned) -> Map<String, Json> {
    let head = Envelope::new("plan", &topology.name, &Timestamp::now()).with(json!({
        "audited": planned.audited,
        "complete": planned.complete,
        "interrupted": planned.interrupted,
        "notes": planned.plan.notes,
        "summary": {
            "steps": planned.plan.step_count(),
            "questions": planned.plan.question_count(),
        },
    }));
    match head {
        Json::Object(map) => map,
        _ => Map::new(),
    }
}

struct PlanJson<'a> {
    topology: &'a Topology,
    planned: &'a Planned,
}

impl Serialize for PlanJson<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let topology = self.topology;
        let mut map = to.serialize_map(None)?;
        for (name, json) in head(topology, self.planned) {
            map.serialize_entry(&name, &json)?;
        }
        let plan = &self.planned.plan;
        let steps = plan.steps().enumerate().map(|(at, step)| {
            MadeJson(step.map(|step| StepJson { topology, number: at + 1, step, kind: None }))
        });
        map.serialize_entry("steps", &Each::new(steps))?;
        let questions = plan.questions().map(|question| {
            MadeJson(question.map(|question| QuestionJson { topology, question, kind: None }))
        });
        map.serialize_entry("questions", &Each::new(questions))?;
        map.end()
    }
}

/// What is made only now, and may fail.
struct MadeJson<T>(Result<T, ReadFault>);

impl<T: Serialize> Serialize for MadeJson<T> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        match &self.0 {
            Ok(made) => made.serialize(to),
            Err(fault) => Err(serde::ser::Error::custom(fault)),
        }
    }
}

struct StepJson<'a> {
    topology: &'a Topology,
    number: usize,
    step: Step,
    kind: Option<&'static str>,
}

impl Serialize for StepJson<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let Self { topology, number, step, kind } = self;
        let (write, undo) = step.write_and_undo();
        let changes = step.changes();
        let key = named(&step.key);
        let mut map = to.serialize_map(None)?;
        if let Some(kind) = kind {
            map.serialize_entry("kind", kind)?;
        }
        map.serialize_entry("step", number)?;
        map.serialize_entry("node", &topology.nodes[step.node].name)?;
        map.serialize_entry("loses", &step.loses)?;
        map.serialize_entry("set", &topology.sets[step.set].name)?;
        map.serialize_entry("table", &step.table)?;
        map.serialize_entry("key", &key)?;
        map.serialize_entry("key_whole_numbers", &key.whole_numbers())?;
        map.serialize_entry("action", step.action.name())?;
        let copies = step.copies.map(|(before, after)| json!({"before": before, "after": after}));
        map.serialize_entry("copies", &copies)?;
        map.serialize_entry("reason", &step.reason)?;
        let before = changes.iter().map(|(name, before, _)| Some((*name, (*before)?)));
        side(&mut map, ("before", "before_whole_numbers"), before.collect())?;
        let after = changes.iter().map(|(name, _, after)| Some((*name, (*after)?)));
        side(&mut map, ("after", "after_whole_numbers"), after.collect())?;
        map.serialize_entry("guard", &GuardJson(&write))?;
        map.serialize_entry("statement", &WriteJson(&write))?;
        map.serialize_entry("undo", &UndoJson(&undo))?;
        map.serialize_entry("replicates_onward", &step.onward)?;
        map.end()
    }
}

fn named(cells: &[(String, Value)]) -> RowJson<'_> {
    RowJson(cells.iter().map(|(name, value)| (&name[..], value)).collect())
}

/// The cells of one side, and which of their strings are whole numbers; null where there is no row.
fn side<'a, M: SerializeMap>(
    map: &mut M,
    (name, whole): (&'static str, &'static str),
    cells: Option<Vec<(&'a str, &'a Value)>>,
) -> Result<(), M::Error> {
    let row = cells.map(RowJson);
    map.serialize_entry(name, &row)?;
    map.serialize_entry(whole, &row.as_ref().map(RowJson::whole_numbers).unwrap_or_default())
}

/// A statement and the values bound to it. A whole number that a double cannot hold is a string, and its place is
/// listed.
fn statement<M: SerializeMap>(map: &mut M, statement: &Statement<'_>) -> Result<(), M::Error> {
    let (sql, values) = statement.bound();
    map.serialize_entry("sql", &sql)?;
    map.serialize_entry("values", &Each::new(values.iter().map(|value| CellJson(value))))?;
    let numbers = values.iter().enumerate();
    let numbers = numbers.filter(|(_, v)| matches!(v, Value::Int(_)) && keen_wire::value(v).1);
    let whole: Vec<usize> = numbers.map(|(at, _)| at + 1).collect();
    if !whole.is_empty() {
        map.serialize_entry("whole_numbers", &whole)?;
    }
    Ok(())
}

struct StatementJson<'a>(&'a Statement<'a>);

impl Serialize for StatementJson<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(None)?;
        statement(&mut map, self.0)?;
        map.end()
    }
}

/// The condition under which something may run.
struct GuardJson<'a>(&'a Guarded<'a>);

impl Serialize for GuardJson<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(None)?;
        map.serialize_entry("condition", &self.0.condition)?;
        map.serialize_entry("query", &StatementJson(&self.0.guard))?;
        map.serialize_entry("must_yield", &self.0.expected)?;
        map.end()
    }
}

struct WriteJson<'a>(&'a Guarded<'a>);

impl Serialize for WriteJson<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(None)?;
        statement(&mut map, &self.0.statement)?;
        map.serialize_entry("rows_changed", &self.0.changes)?;
        map.end()
    }
}

struct UndoJson<'a>(&'a Guarded<'a>);

impl Serialize for UndoJson<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(Some(2))?;
        map.serialize_entry("guard", &GuardJson(self.0))?;
        map.serialize_entry("statement", &WriteJson(self.0))?;
        map.end()
    }
}

struct QuestionJson<'a> {
    topology: &'a Topology,
    question: Question,
    kind: Option<&'static str>,
}

impl Serialize for QuestionJson<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let Self { topology, question, kind } = self;
        let key = named(&question.key);
        let mut map = to.serialize_map(None)?;
        if let Some(kind) = kind {
            map.serialize_entry("kind", kind)?;
        }
        map.serialize_entry("set", &topology.sets[question.set].name)?;
        map.serialize_entry("table", &question.table)?;
        map.serialize_entry("key", &key)?;
        map.serialize_entry("key_whole_numbers", &key.whole_numbers())?;
        map.serialize_entry("why", &question.why)?;
        let choices = question.choices.iter().map(|choice| ChoiceJson { topology, choice });
        map.serialize_entry("choices", &Each::new(choices))?;
        map.end()
    }
}

struct ChoiceJson<'a> {
    topology: &'a Topology,
    choice: &'a Choice,
}

impl Serialize for ChoiceJson<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let choice = self.choice;
        let name = |node: &NodeId| &self.topology.nodes[*node].name;
        let nodes: Vec<&String> = choice.nodes.iter().map(name).collect();
        let row = choice.row.as_ref().map(|row| named(row));
        let mut map = to.serialize_map(None)?;
        map.serialize_entry("nodes", &nodes)?;
        map.serialize_entry("row", &row)?;
        let whole = row.as_ref().map(RowJson::whole_numbers).unwrap_or_default();
        map.serialize_entry("whole_numbers", &whole)?;
        map.serialize_entry("copies", &choice.copies)?;
        map.serialize_entry("loses", &choice.loses)?;
        map.end()
    }
}
