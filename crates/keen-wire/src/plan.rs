//! A plan: the document, its lines, and how they are written step by step from where the rows are.

use std::collections::BTreeMap;
use std::sync::Arc;

use keen_core::audit::merge::Version;
use keen_core::fault::ReadFault;
use keen_core::plan::{Choice, Question, Step, same_row};
use keen_core::topology::Topology;
use keen_core::value::Value;
use serde::ser::{SerializeMap, Serializer};
use serde::{Deserialize, Serialize};

use crate::audit::TableStart;
use crate::envelope::{Ending, Envelope};
use crate::setup::{
    CheckStepDocument, CopyStepDocument, HandStepDocument, SetupStepDocument, WaitStepDocument,
};
use crate::value::{Cells, CellsWriter, WriteEach};

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
    /// The last line of a plan. One without it is not whole.
    Summary(PlanSummary),
    /// After a way back: a batch of steps that was made, or was about to be kept.
    Batch(BatchDocument),
}

/// A batch of steps, as it is kept beside the way back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct BatchDocument {
    /// The run that made it, by when it began: in seconds since 1970.
    pub run: u32,
    /// Its number, from 1; later runs go on counting.
    pub batch: u64,
    /// Where.
    pub node: String,
    /// Its standing.
    pub state: BatchState,
    /// The numbers of its steps.
    pub steps: Vec<u64>,
    /// The number of its transaction on the node, where the engine tells later what became of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub transaction: Option<String>,
    /// Of a copy, where links go on from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub moment: Option<MomentDocument>,
}

/// How far writers had come at the moment of a copy.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct MomentDocument {
    /// In the log of the source; where positions name their writers (MariaDB), of all writers.
    pub own: String,
    /// By link of the source, in the log of the node that it follows (PostgreSQL).
    pub others: BTreeMap<String, String>,
    /// The links were set to go on from there: since then they may have.
    #[serde(default)]
    pub is_set: bool,
}

/// The standing of a batch.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum BatchState {
    /// It is about to be kept: whether it was, the node knows.
    Ready,
    /// It was kept.
    Done,
    /// It was not kept.
    Dropped,
    /// It is about to be taken back: whether it was, the node knows.
    Undoing,
    /// It was kept and then taken back.
    Undone,
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
    /// The nodes that were read for it.
    pub read: Vec<String>,
    /// The text of the topology file, in a digest: 32 hexadecimal digits.
    pub topology_digest: String,
    /// The topology file as it has to read once the plan is carried out, where that is not as it reads now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub topology_after: Option<String>,
    /// Of the way back of a plan, the plan: 32 hexadecimal digits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub undoes: Option<String>,
    /// The tables that steps write to: how their rows were compared, and their shapes.
    pub tables: Vec<TableStart>,
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

/// A step, by its kind.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "act", rename_all = "snake_case")]
pub enum StepDocument {
    /// A row that is written.
    Row(RowStepDocument),
    /// A setting that is changed.
    Setting(SetupStepDocument),
    /// A table that is changed.
    Shape(SetupStepDocument),
    /// A link, or what its source publishes, that is changed.
    Link(SetupStepDocument),
    /// Something that a person does.
    ByHand(HandStepDocument),
    /// What the source of a link had written is waited for.
    Wait(WaitStepDocument),
    /// Tables that are copied from another node.
    Copy(CopyStepDocument),
    /// The proof: the same look once more, without what the plan mends.
    Check(CheckStepDocument),
}

impl StepDocument {
    /// Its number, from 1.
    #[must_use]
    pub fn number(&self) -> u64 {
        match self {
            Self::Row(row) => row.step,
            Self::Setting(step) | Self::Shape(step) | Self::Link(step) => step.step,
            Self::ByHand(step) => step.step,
            Self::Wait(step) => step.step,
            Self::Copy(step) => step.step,
            Self::Check(step) => step.step,
        }
    }
}

/// The kinds of steps.
pub const ACTS: [&str; 8] = [ROW, "setting", "shape", "link", "by_hand", "wait", "copy", "check"];

/// One write on one node.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct RowStepDocument {
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
    /// Of a write that is made in two, the number of the other half: neither is made without the other.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub half_of: Option<u64>,
    /// Why this is right.
    pub reason: String,
    /// The row as it is; null where there is none.
    pub before: Option<Cells>,
    /// The row as it will be; null where there will be none.
    pub after: Option<Cells>,
    /// The condition under which it may run: what each node has to hold, the node itself among them.
    pub guard: Vec<GuardDocument>,
    /// Whether other nodes take over what it writes, in a sentence.
    pub replicates_onward: String,
}

/// The kind of act of a step that writes a row.
pub const ROW: &str = "row";

/// How often a row that is its own key is there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct CopyCounts {
    /// Before the step.
    pub before: u64,
    /// After it.
    pub after: u64,
}

/// What nodes have to hold of a row for a step to run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct GuardDocument {
    /// The nodes.
    pub nodes: Vec<String>,
    /// The row: the step's "before" or "after", or cells of its own; null for none.
    pub row: Option<GuardRow>,
    /// How often a row that is its own key is there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub count: Option<u64>,
}

/// A row of a guard.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(untagged)]
pub enum GuardRow {
    /// The one that the step itself tells: "before" or "after".
    Side(Side),
    /// Another one.
    Cells(Cells),
}

/// A row that a step tells.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum Side {
    /// As it is.
    Before,
    /// As it will be.
    After,
}

/// The questions that only a person can decide.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct QuestionDocument {
    /// Its name: of the row and of all versions of it. An answer holds for those versions alone.
    pub id: String,
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
    /// A person's answer: a node's name, "lost", "merge", or cells. `keen plan --answers FILE` makes steps of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<AnswerDocument>,
}

/// An answer to a question.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(untagged)]
pub enum AnswerDocument {
    /// A node's name, "lost" or "merge".
    Word(String),
    /// Cells; the others as all versions have them.
    Cells(Cells),
}

/// One answer to a question.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ChoiceDocument {
    /// What would be kept: what nodes hold, what was lost, or what each side changed, put together.
    #[cfg_attr(feature = "schema", schemars(schema_with = "crate::schema::choice_content"))]
    pub content: String,
    /// The nodes that hold it; none if nobody does.
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
    /// Its steps that write rows, each read when it is written.
    pub steps: S,
    /// Its other steps, which come after them.
    pub setup: &'a [StepDocument],
    /// Of those that are made in two, the number of the other half.
    pub halves: BTreeMap<u64, u64>,
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
        let half_of = |number| self.halves.get(&number).copied();
        let steps = self.steps.clone().zip(1..).map(|(step, number)| {
            let half_of = half_of(number);
            let step = step.map(|step| StepWriter { topology, number, step, half_of, kind: None });
            EitherStep::Row(Box::new(Deferred(step)))
        });
        let steps = steps.chain(self.setup.iter().map(EitherStep::Other));
        let questions = self.questions.clone().map(|question| {
            Deferred(question.map(|question| QuestionWriter { topology, question, kind: None }))
        });
        let parts =
            Parts { start: &self.start, steps: WriteEach(steps), questions: WriteEach(questions) };
        parts.serialize(to)
    }
}

/// A step that is read only when it is written, or one that is there.
enum EitherStep<'a> {
    Row(Box<Deferred<StepWriter<'a>>>),
    Other(&'a StepDocument),
}

impl Serialize for EitherStep<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        match self {
            Self::Row(row) => row.serialize(to),
            Self::Other(step) => step.serialize(to),
        }
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

/// Writes a step, as [`RowStepDocument`] reads it, from where its cells are.
pub struct StepWriter<'a> {
    /// The topology.
    pub topology: &'a Topology,
    /// Its number, from 1.
    pub number: u64,
    /// The step.
    pub step: Step,
    /// Of a write that is made in two, the number of the other half.
    pub half_of: Option<u64>,
    /// The kind of line, if it is one.
    pub kind: Option<&'static str>,
}

impl Serialize for StepWriter<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let Self { topology, number, step, half_of, kind } = self;
        let mut map = to.serialize_map(None)?;
        if let Some(kind) = kind {
            map.serialize_entry("kind", kind)?;
        }
        map.serialize_entry("step", number)?;
        map.serialize_entry("act", ROW)?;
        map.serialize_entry("node", &topology.nodes[step.node].name)?;
        map.serialize_entry("loses", &step.loses)?;
        map.serialize_entry("set", &topology.sets[step.set].name)?;
        map.serialize_entry("table", &step.table)?;
        map.serialize_entry("key", &CellsWriter::named(&step.key))?;
        map.serialize_entry("op", step.op.name())?;
        let copies = step.copies.map(|(before, after)| CopyCounts { before, after });
        map.serialize_entry("copies", &copies)?;
        if half_of.is_some() {
            map.serialize_entry("half_of", half_of)?;
        }
        map.serialize_entry("reason", &step.reason)?;
        map.serialize_entry("before", &row_of(step, step.before()))?;
        map.serialize_entry("after", &row_of(step, step.after()))?;
        let guard = step.guard();
        let guard = guard.iter().map(|version| GuardWriter { topology, step, version });
        map.serialize_entry("guard", &WriteEach(guard))?;
        map.serialize_entry("replicates_onward", &step.onward)?;
        map.end()
    }
}

fn row_of<'a>(step: &'a Step, row: Option<&'a Arc<Vec<Value>>>) -> Option<CellsWriter<'a>> {
    row.map(|cells| CellsWriter::row(step.layout(), cells))
}

struct GuardWriter<'a> {
    topology: &'a Topology,
    step: &'a Step,
    version: &'a Version,
}

impl Serialize for GuardWriter<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let Self { topology, step, version } = self;
        let nodes: Vec<&str> =
            version.nodes.iter().map(|node| &topology.nodes[*node].name[..]).collect();
        let row = version.row.as_deref();
        let is = |side: Option<&Arc<Vec<Value>>>| same_row(row, side.map(|side| &**side));
        let mut map = to.serialize_map(None)?;
        map.serialize_entry("nodes", &nodes)?;
        match row {
            None => map.serialize_entry("row", &())?,
            Some(_) if is(step.before()) => map.serialize_entry("row", &Side::Before)?,
            Some(_) if is(step.after()) => map.serialize_entry("row", &Side::After)?,
            Some(cells) => map.serialize_entry("row", &CellsWriter::row(step.layout(), cells))?,
        }
        if step.copies.is_some() {
            map.serialize_entry("count", &version.count)?;
        }
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
        map.serialize_entry("id", &question.id(topology))?;
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
        map.serialize_entry("content", choice.content.name())?;
        map.serialize_entry("nodes", &nodes)?;
        map.serialize_entry("row", &row)?;
        map.serialize_entry("copies", &choice.copies)?;
        map.serialize_entry("loses", &choice.loses)?;
        map.end()
    }
}
