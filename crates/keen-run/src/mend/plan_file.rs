//! A plan on disk: read once from end to end before anything is done, and then step by step. Its steps are not kept.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, BufRead as _, BufReader, Seek as _, SeekFrom};
use std::path::{Path, PathBuf};

use keen_core::fault::ReadFault;
use keen_core::history::journal::RowOp;
use keen_core::plan::setup_steps::{SetupAct, SetupStep};
use keen_core::plan::{AuditedTable, Step};
use keen_core::row::digest::DigestFunction;
use keen_core::setup::{SetupChange, Subject};
use keen_core::topology::{NodeId, Topology};
use keen_wire::plan::{ACTS, BatchDocument, PlanLine, PlanStart, StepDocument};
use keen_wire::{VERSION, plan_step, plan_tables, setup_step};

use super::step_numbers::StepNumbers;

/// A plan that was checked from end to end.
#[derive(Debug)]
pub struct PlanFile {
    path: PathBuf,
    reader: BufReader<File>,
    /// Its beginning.
    pub start: PlanStart,
    /// The tables that its steps write to, without rows.
    pub tables: Vec<AuditedTable>,
    steps: Vec<StepPlace>,
    /// The steps that are not about rows: there are few.
    setup: Vec<SetupStep>,
    /// Tables, and what steps lose of them.
    losses: Vec<(String, String)>,
    /// How many questions it leaves open.
    pub questions: u64,
    /// Its identity: 32 hexadecimal digits.
    pub digest: String,
    /// Of a way back, the batches that were made.
    pub batches: Vec<BatchDocument>,
}

/// Where a step stands.
#[derive(Debug, Clone, Copy)]
struct StepPlace {
    offset: u64,
    number: u64,
    node: u8,
    what: PlacedKind,
    /// What is lost by it, among the losses of the plan.
    loss: Option<u32>,
}

/// The kind of a step that stands in a plan.
#[derive(Debug, Clone, Copy)]
enum PlacedKind {
    Row(RowOp),
    /// Its place among those that are not about rows.
    Setup(u32),
}

/// How many steps there are of each kind.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct StepCounts {
    /// Rows that are put there.
    pub inserts: u64,
    /// Rows that are changed.
    pub updates: u64,
    /// Rows that are taken away.
    pub deletes: u64,
    /// By table what is lost, and by how many steps.
    pub losses: BTreeMap<(String, String), u64>,
    /// Values of the set-up that are changed.
    pub changes: u64,
    /// Those of them that have no way back.
    pub for_good: u64,
    /// Those of them that can also be made when the node is back: slots of links that are gone.
    pub can_wait: u64,
    /// The losses by them.
    pub setup_losses: Vec<String>,
    /// Tables that are copied from another node, by steps.
    pub copies: u64,
    /// Things that a person does.
    pub by_hand: u64,
}

impl StepCounts {
    /// Nothing is written, and nothing is left to a person.
    #[must_use]
    pub fn is_idle(&self) -> bool {
        self.inserts + self.updates + self.deletes + self.changes + self.copies + self.by_hand == 0
    }

    /// All that is written can also be written when the node is back.
    #[must_use]
    pub fn all_can_wait(&self) -> bool {
        self.changes == self.can_wait
            && self.inserts + self.updates + self.deletes + self.copies == 0
    }
}

/// Nothing but this step itself rests on it: its node may be away until then.
fn can_wait(step: &SetupStep) -> bool {
    let drops_slot = |change: &SetupChange| {
        matches!(change.subject, Subject::Slot { .. }) && change.after.is_none()
    };
    !step.depends_on.is_empty()
        && matches!(&step.act, SetupAct::Change(change) if drops_slot(change))
}

/// A step of a plan.
#[derive(Debug, Clone)]
pub struct NumberedStep {
    /// Its number in the plan.
    pub number: u64,
    /// Of a write that is made in two, the number of the other half.
    pub half_of: Option<u64>,
    /// The step.
    pub step: Step,
}

impl PlanFile {
    /// Opens a plan and reads it from end to end.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be read, was cut short, is of another topology, or holds a step that is none.
    pub fn open(path: &Path, topology: &Topology) -> Result<Self, ReadFault> {
        let file = File::open(path).map_err(|error| {
            ReadFault::new(
                format!("cannot read {}: {error}", path.display()),
                "make a plan with keen plan --save FILE",
            )
        })?;
        let reader = PlanReader { path, topology, line: 0, offset: 0 };
        reader.read(BufReader::new(file))
    }

    /// How many steps it has.
    #[must_use]
    pub fn len(&self) -> usize {
        self.steps.len()
    }

    /// It has no steps.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.steps.is_empty()
    }

    /// The number and the node of a step, from 0.
    #[must_use]
    pub fn place(&self, at: usize) -> Option<(u64, NodeId)> {
        self.steps.get(at).map(|place| (place.number, place.node.into()))
    }

    /// A step that is not about a row, from 0; none of one that is.
    #[must_use]
    pub fn setup(&self, at: usize) -> Option<&SetupStep> {
        match self.steps.get(at)?.what {
            PlacedKind::Row(_) => None,
            PlacedKind::Setup(place) => self.setup.get(place as usize),
        }
    }

    /// By node, the steps that are chosen by number and node.
    #[must_use]
    pub fn counts(&self, chosen: &dyn Fn(u64, NodeId) -> bool) -> BTreeMap<NodeId, StepCounts> {
        let mut counts: BTreeMap<NodeId, StepCounts> = BTreeMap::new();
        for step in self.steps.iter().filter(|step| chosen(step.number, step.node.into())) {
            let of_node = counts.entry(step.node.into()).or_default();
            match step.what {
                PlacedKind::Row(RowOp::Insert) => of_node.inserts += 1,
                PlacedKind::Row(RowOp::Update) => of_node.updates += 1,
                PlacedKind::Row(RowOp::Delete) => of_node.deletes += 1,
                PlacedKind::Setup(at) => match self.setup.get(at as usize).map(|step| &step.act) {
                    Some(SetupAct::Change(_)) => {
                        of_node.changes += 1;
                        let reversed = self.setup[at as usize].reversed();
                        of_node.for_good += u64::from(reversed.is_none());
                        of_node.can_wait += u64::from(can_wait(&self.setup[at as usize]));
                        of_node.setup_losses.extend(self.setup[at as usize].loses.clone());
                    }
                    Some(SetupAct::Copy(_)) => {
                        of_node.copies += 1;
                        of_node.setup_losses.extend(self.setup[at as usize].loses.clone());
                    }
                    Some(SetupAct::ByHand { .. }) => of_node.by_hand += 1,
                    Some(SetupAct::Wait { .. } | SetupAct::Check { .. }) | None => {}
                },
            }
            if let Some(loss) = step.loss.and_then(|loss| self.losses.get(loss as usize)) {
                *of_node.losses.entry(loss.clone()).or_default() += 1;
            }
        }
        counts
    }

    /// A step, from 0.
    ///
    /// # Errors
    /// [`ReadFault`] when the file is no longer what it was.
    pub fn step(&mut self, topology: &Topology, at: usize) -> Result<NumberedStep, ReadFault> {
        let path = self.path.clone();
        let changed = || {
            ReadFault::new(
                format!("{} was changed while it was carried out", path.display()),
                "plan again",
            )
        };
        let place = *self.steps.get(at).ok_or_else(changed)?;
        let mut line = Vec::new();
        let read = self.reader.seek(SeekFrom::Start(place.offset)).and_then(|_| {
            self.reader.read_until(b'\n', &mut line)?;
            Ok(())
        });
        read.map_err(|_| changed())?;
        let Ok(PlanLine::Step(document)) = serde_json::from_slice(&line) else {
            return Err(changed());
        };
        let StepDocument::Row(document) = *document else { return Err(changed()) };
        let (number, half_of) = (document.step, document.half_of);
        let step = plan_step(topology, &self.tables, document).map_err(|_| changed())?;
        if (number, step.node) != (place.number, place.node.into()) {
            return Err(changed());
        }
        Ok(NumberedStep { number, half_of, step })
    }
}

/// The row that a step writes.
fn row_of(step: &Step) -> String {
    format!("{} {} {} {:?}", step.node, step.set, step.table, step.key)
}

/// Reads a plan from end to end.
struct PlanReader<'a> {
    path: &'a Path,
    topology: &'a Topology,
    line: u64,
    offset: u64,
}

impl PlanReader<'_> {
    fn wrong(&self, what: &str) -> ReadFault {
        ReadFault::new(
            format!("{}, line {}: {what}", self.path.display(), self.line),
            "nothing was done; correct it, or plan again with keen plan --save FILE",
        )
    }

    fn head(&self, line: &[u8]) -> Result<PlanStart, ReadFault> {
        let no_plan = |_| {
            ReadFault::new(
                format!("{} is no plan that can be carried out", self.path.display()),
                "keen plan --save FILE writes one, as does --format ndjson",
            )
        };
        let PlanLine::Start(start) = serde_json::from_slice(line).map_err(no_plan)? else {
            return Err(self.wrong("a plan begins with a line of kind \"start\""));
        };
        let envelope = &start.envelope;
        if envelope.keen != "plan" {
            return Err(self.wrong(&format!("this is a keen {}, not a plan", envelope.keen)));
        }
        if envelope.version != VERSION {
            return Err(self.wrong(&format!(
                "the plan has version {}, but this keen carries out version {VERSION}",
                envelope.version
            )));
        }
        if envelope.topology != self.topology.name {
            return Err(self.wrong(&format!(
                "the plan is of \"{}\", but the topology file is for \"{}\"",
                envelope.topology, self.topology.name
            )));
        }
        Ok(start)
    }

    /// The next line with its end; empty at the end of the file.
    fn next(&mut self, reader: &mut BufReader<File>) -> Result<Vec<u8>, ReadFault> {
        let mut line = Vec::new();
        self.offset += self.line_length(reader, &mut line)?;
        Ok(line)
    }

    /// What stands in a line.
    fn line(&self, line: &[u8]) -> Result<PlanLine, ReadFault> {
        serde_json::from_slice(line).map_err(|error| {
            // Where in a line the fault is helps nobody.
            let text = error.to_string();
            let text = text.split(" at line ").next().unwrap_or_default();
            let json: Option<serde_json::Value> = serde_json::from_slice(line).ok();
            let act = json.as_ref().and_then(|json| json.get("act")?.as_str());
            match act.filter(|act| !ACTS.contains(act)) {
                Some(act) => self
                    .wrong(&format!("it is of the kind \"{act}\", which this keen does not know")),
                None => self.wrong(text),
            }
        })
    }

    fn line_length(
        &mut self,
        reader: &mut BufReader<File>,
        line: &mut Vec<u8>,
    ) -> Result<u64, ReadFault> {
        self.line += 1;
        let read: io::Result<usize> = reader.read_until(b'\n', line);
        read.map(|length| length as u64).map_err(|error| self.wrong(&error.to_string()))
    }

    fn read(mut self, mut reader: BufReader<File>) -> Result<PlanFile, ReadFault> {
        let line = self.next(&mut reader)?;
        let start = self.head(&line)?;
        let tables = plan_tables(self.topology, &start).map_err(|why| self.wrong(&why))?;
        let mut identity = DigestFunction::Blake3.digest(&line).0.to_be_bytes().to_vec();
        let mut steps: Vec<StepPlace> = Vec::new();
        let mut setup: Vec<SetupStep> = Vec::new();
        let mut halves: BTreeMap<u64, (u64, String)> = BTreeMap::new();
        let mut known = StepNumbers::default();
        let mut batches = Vec::new();
        let mut losses: Vec<(String, String)> = Vec::new();
        let mut numbers: BTreeMap<(String, String), usize> = BTreeMap::new();
        let (mut questions, mut whole) = (0, false);
        loop {
            let offset = self.offset;
            let line = self.next(&mut reader)?;
            if line.is_empty() {
                break;
            }
            if whole && !line.ends_with(b"\n") {
                break; // it was being written when the run was killed: it does not count
            }
            match self.line(&line)? {
                PlanLine::Start(_) => return Err(self.wrong("a second beginning")),
                PlanLine::Step(_) | PlanLine::Question(_) | PlanLine::Summary(_) if whole => {
                    return Err(self.wrong("it goes on after its end"));
                }
                PlanLine::Step(document) => {
                    let number = document.number();
                    if !known.insert(number) {
                        return Err(self.wrong(&format!("a second step {number}")));
                    }
                    let wrong = |why: String| self.wrong(&format!("step {number}: {why}"));
                    let document = match *document {
                        StepDocument::Row(document) => document,
                        other => {
                            let (_, step) = setup_step(self.topology, other).map_err(wrong)?;
                            if let Some(later) = step
                                .depends_on
                                .iter()
                                .find(|n| !known.contains(**n) || **n == number)
                            {
                                return Err(wrong(format!(
                                    "it depends on step {later}, which does not come before it"
                                )));
                            }
                            let node = u8::try_from(step.node).unwrap_or(u8::MAX);
                            let place = u32::try_from(setup.len()).unwrap_or(u32::MAX);
                            let what = PlacedKind::Setup(place);
                            steps.push(StepPlace { offset, number, node, what, loss: None });
                            setup.push(step);
                            continue;
                        }
                    };
                    let half_of = document.half_of;
                    let step = plan_step(self.topology, &tables, document).map_err(wrong)?;
                    halves.extend(half_of.map(|other| (number, (other, row_of(&step)))));
                    let loss = step.loses.as_ref().map(|loss| {
                        let loss = (step.table.clone(), loss.clone());
                        let next = losses.len();
                        let number = *numbers.entry(loss.clone()).or_insert(next);
                        if number == next {
                            losses.push(loss);
                        }
                        number
                    });
                    let node = u8::try_from(step.node).unwrap_or(u8::MAX);
                    let loss = loss.and_then(|loss| u32::try_from(loss).ok());
                    let what = PlacedKind::Row(step.op);
                    steps.push(StepPlace { offset, number, node, what, loss });
                }
                PlanLine::Question(_) => questions += 1,
                PlanLine::Summary(_) => whole = true,
                PlanLine::Batch(_) if !whole => return Err(self.wrong("a batch before its end")),
                PlanLine::Batch(batch) => batches.push(batch),
            }
            if batches.is_empty() {
                identity.extend(DigestFunction::Blake3.digest(&line).0.to_be_bytes());
                identity = DigestFunction::Blake3.digest(&identity).0.to_be_bytes().to_vec();
            }
        }
        if !whole {
            return Err(self.wrong("the plan ends here and its end is missing: it was cut short"));
        }
        for (number, (other, row)) in &halves {
            if let Some((back, other_row)) = halves.get(other)
                && back == number
                && other_row != row
            {
                return Err(self.wrong(&format!(
                    "steps {number} and {other} are not the two halves of one write"
                )));
            }
            if halves.get(other).is_none_or(|(back, _)| back != number) {
                return Err(self.wrong(&format!(
                    "step {number} is one half of a write whose other half, step {other}, is missing"
                )));
            }
        }
        let digest = DigestFunction::Blake3.digest(&identity);
        Ok(PlanFile {
            path: self.path.to_owned(),
            reader,
            start,
            tables,
            steps,
            setup,
            losses,
            questions,
            digest: format!("{:032x}", digest.0),
            batches,
        })
    }
}
