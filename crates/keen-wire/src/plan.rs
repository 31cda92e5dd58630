//! A plan: the document, its lines, and how they are written step by step from where the rows are.

use keen_core::fault::ReadFault;
use keen_core::plan::sql::statement::Statement;
use keen_core::plan::{Choice, Guarded, Question, Step};
use keen_core::topology::Topology;
use serde::ser::{SerializeMap, Serializer};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use crate::envelope::{Ending, Envelope};
use crate::value::{CellWriter, Cells, CellsWriter, WriteEach};

/// A plan as one document.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PlanDocument {
    /// Its beginning.
    #[serde(flatten)]
    pub start: PlanStart,
    /// The steps in order, node by node.
    pub steps: Vec<StepDocument>,
    /// The questions that only a person can decide.
    pub questions: Vec<QuestionDocument>,
}

/// A line of a plan.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum PlanLine {
    /// The first line.
    Start(PlanStart),
    /// A step.
    Step(Box<StepDocument>),
    /// The questions that only a person can decide.
    Question(QuestionDocument),
    /// The last line. A stream without it is not whole.
    Summary(PlanSummary),
}

/// The beginning, before the steps.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PlanStart {
    /// The envelope. Its nodes are those that steps write to.
    #[serde(flatten)]
    pub envelope: Envelope<PlannedNode>,
    /// The ending that every document has. It is complete if the audit behind it was, and all its divergent rows are
    /// in the plan.
    #[serde(flatten)]
    pub ending: Ending,
    /// When the audit behind it began, UTC.
    pub audited: String,
    /// It was stopped before its end.
    pub interrupted: bool,
    /// Notes to know before it is carried out.
    pub notes: Vec<String>,
    /// How much there is.
    pub summary: PlanSummary,
}

/// A node that steps write to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PlannedNode {
    /// Its name.
    pub node: String,
    /// How many steps write to it.
    pub steps: u64,
}

/// How much there is in a plan.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PlanSummary {
    /// How many steps.
    pub steps: u64,
    /// How many questions.
    pub questions: u64,
}

/// One write on one node.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct StepDocument {
    /// Its number, from 1.
    pub step: u64,
    /// Where.
    pub node: String,
    /// The loss of the node; null if nothing is lost.
    pub loses: Option<String>,
    /// For which set.
    pub set: String,
    /// The table, as the set names it.
    pub table: String,
    /// The cells of the row's key; the whole row where it is its own key.
    pub key: Cells,
    /// The effect on the row.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::row_op"))]
    pub op: String,
    /// Of a row that is its own key, how often it is there.
    pub copies: Option<CopyCounts>,
    /// Why this is right.
    pub reason: String,
    /// The cells that change, or the row, as they are; null where there is no row.
    pub before: Option<Cells>,
    /// The same as they will be.
    pub after: Option<Cells>,
    /// The condition under which it may run.
    pub guard: GuardDocument,
    /// The write.
    pub statement: WriteDocument,
    /// The way back.
    pub undo: UndoDocument,
    /// Whether other nodes take over what it writes, in a sentence.
    pub replicates_onward: String,
}

/// How often a row that is its own key is there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct CopyCounts {
    /// Before the step.
    pub before: u64,
    /// After it.
    pub after: u64,
}

/// The condition under which a statement may run, in the transaction that runs it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct GuardDocument {
    /// In words.
    pub condition: String,
    /// The query that tells.
    pub query: StatementDocument,
    /// The number that the query must yield.
    pub must_yield: u64,
}

/// A statement and what is bound to it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct StatementDocument {
    /// SQL, with places for values in the manner of its engine: `?1`, `$1`, `?`.
    pub sql: String,
    /// The values, in the order of their places.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::cell_list"))]
    pub values: Vec<Json>,
}

/// A statement that writes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct WriteDocument {
    /// The statement.
    #[serde(flatten)]
    pub statement: StatementDocument,
    /// How many rows it must change.
    pub rows_changed: u64,
}

/// The way back of a step.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct UndoDocument {
    /// The condition under which it may run.
    pub guard: GuardDocument,
    /// The write.
    pub statement: WriteDocument,
}

/// The questions that only a person can decide.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct QuestionDocument {
    /// For which set.
    pub set: String,
    /// The table, as the set names it.
    pub table: String,
    /// The cells of the row's key; the whole row where it is its own key.
    pub key: Cells,
    /// Why the rules do not decide it.
    pub why: String,
    /// The choices.
    pub choices: Vec<ChoiceDocument>,
}

/// One answer to a question.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ChoiceDocument {
    /// The nodes whose content would be kept; none for that of a lost write, which nobody holds.
    pub nodes: Vec<String>,
    /// That content; null means no row.
    pub row: Option<Cells>,
    /// Of a row that is its own key, how often it would be there.
    pub copies: Option<u64>,
    /// The loss.
    pub loses: String,
}

/// Writes a plan as [`PlanDocument`] reads it.
pub struct PlanWriter<'a, S, Q> {
    /// The topology.
    pub topology: &'a Topology,
    /// Its beginning.
    pub start: PlanStart,
    /// Its steps, each read when it is written.
    pub steps: S,
    /// Its questions, each read when it is written.
    pub questions: Q,
}

impl<S, Q> Serialize for PlanWriter<'_, S, Q>
where
    S: Iterator<Item = Result<Step, ReadFault>> + Clone,
    Q: Iterator<Item = Result<Question, ReadFault>> + Clone,
{
    fn serialize<To: Serializer>(&self, to: To) -> Result<To::Ok, To::Error> {
        #[derive(Serialize)]
        struct Parts<'a, S: Serialize, Q: Serialize> {
            #[serde(flatten)]
            start: &'a PlanStart,
            steps: S,
            questions: Q,
        }
        let topology = self.topology;
        let steps = self.steps.clone().zip(1..).map(|(step, number)| {
            Deferred(step.map(|step| StepWriter { topology, number, step, kind: None }))
        });
        let questions = self.questions.clone().map(|question| {
            Deferred(question.map(|question| QuestionWriter { topology, question, kind: None }))
        });
        let parts =
            Parts { start: &self.start, steps: WriteEach(steps), questions: WriteEach(questions) };
        parts.serialize(to)
    }
}

/// A thing that is read only when it is written, and may fail.
struct Deferred<T>(Result<T, ReadFault>);

impl<T: Serialize> Serialize for Deferred<T> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        match &self.0 {
            Ok(read) => read.serialize(to),
            Err(fault) => Err(serde::ser::Error::custom(fault)),
        }
    }
}

/// Writes a step, as [`StepDocument`] reads it, from where its cells are.
pub struct StepWriter<'a> {
    /// The topology.
    pub topology: &'a Topology,
    /// Its number, from 1.
    pub number: u64,
    /// The step.
    pub step: Step,
    /// The kind of line, if it is one.
    pub kind: Option<&'static str>,
}

impl Serialize for StepWriter<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let Self { topology, number, step, kind } = self;
        let (write, undo) = step.write_and_undo();
        let changes = step.changes();
        let mut map = to.serialize_map(None)?;
        if let Some(kind) = kind {
            map.serialize_entry("kind", kind)?;
        }
        map.serialize_entry("step", number)?;
        map.serialize_entry("node", &topology.nodes[step.node].name)?;
        map.serialize_entry("loses", &step.loses)?;
        map.serialize_entry("set", &topology.sets[step.set].name)?;
        map.serialize_entry("table", &step.table)?;
        map.serialize_entry("key", &CellsWriter::named(&step.key))?;
        map.serialize_entry("op", step.op.name())?;
        let copies = step.copies.map(|(before, after)| CopyCounts { before, after });
        map.serialize_entry("copies", &copies)?;
        map.serialize_entry("reason", &step.reason)?;
        let before = changes.iter().map(|(name, before, _)| Some((*name, (*before)?)));
        map.serialize_entry("before", &before.collect::<Option<Vec<_>>>().map(CellsWriter))?;
        let after = changes.iter().map(|(name, _, after)| Some((*name, (*after)?)));
        map.serialize_entry("after", &after.collect::<Option<Vec<_>>>().map(CellsWriter))?;
        map.serialize_entry("guard", &GuardWriter(&write))?;
        map.serialize_entry("statement", &WriteWriter(&write))?;
        map.serialize_entry("undo", &UndoWriter(&undo))?;
        map.serialize_entry("replicates_onward", &step.onward)?;
        map.end()
    }
}

fn statement<M: SerializeMap>(map: &mut M, statement: &Statement<'_>) -> Result<(), M::Error> {
    let (sql, values) = statement.bound();
    map.serialize_entry("sql", &sql)?;
    map.serialize_entry("values", &WriteEach(values.iter().map(|value| CellWriter(value))))
}

struct StatementWriter<'a>(&'a Statement<'a>);

impl Serialize for StatementWriter<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(None)?;
        statement(&mut map, self.0)?;
        map.end()
    }
}

struct GuardWriter<'a>(&'a Guarded<'a>);

impl Serialize for GuardWriter<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(None)?;
        map.serialize_entry("condition", &self.0.condition)?;
        map.serialize_entry("query", &StatementWriter(&self.0.guard))?;
        map.serialize_entry("must_yield", &self.0.expected)?;
        map.end()
    }
}

struct WriteWriter<'a>(&'a Guarded<'a>);

impl Serialize for WriteWriter<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(None)?;
        statement(&mut map, &self.0.statement)?;
        map.serialize_entry("rows_changed", &self.0.changes)?;
        map.end()
    }
}

struct UndoWriter<'a>(&'a Guarded<'a>);

impl Serialize for UndoWriter<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(Some(2))?;
        map.serialize_entry("guard", &GuardWriter(self.0))?;
        map.serialize_entry("statement", &WriteWriter(self.0))?;
        map.end()
    }
}

/// Writes a question, as [`QuestionDocument`] reads it, from where its cells are.
pub struct QuestionWriter<'a> {
    /// The topology.
    pub topology: &'a Topology,
    /// The question.
    pub question: Question,
    /// The kind of line, if it is one.
    pub kind: Option<&'static str>,
}

impl Serialize for QuestionWriter<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let Self { topology, question, kind } = self;
        let mut map = to.serialize_map(None)?;
        if let Some(kind) = kind {
            map.serialize_entry("kind", kind)?;
        }
        map.serialize_entry("set", &topology.sets[question.set].name)?;
        map.serialize_entry("table", &question.table)?;
        map.serialize_entry("key", &CellsWriter::named(&question.key))?;
        map.serialize_entry("why", &question.why)?;
        let choices = question.choices.iter().map(|choice| ChoiceWriter { topology, choice });
        map.serialize_entry("choices", &WriteEach(choices))?;
        map.end()
    }
}

struct ChoiceWriter<'a> {
    topology: &'a Topology,
    choice: &'a Choice,
}

impl Serialize for ChoiceWriter<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let choice = self.choice;
        let nodes: Vec<&str> =
            choice.nodes.iter().map(|node| &self.topology.nodes[*node].name[..]).collect();
        let row = choice.row.as_ref().map(|row| CellsWriter::named(row));
        let mut map = to.serialize_map(None)?;
        map.serialize_entry("nodes", &nodes)?;
        map.serialize_entry("row", &row)?;
        map.serialize_entry("copies", &choice.copies)?;
        map.serialize_entry("loses", &choice.loses)?;
        map.end()
    }
}
