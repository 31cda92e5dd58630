//! The way back of a plan, on disk before the first write. After its end it keeps which batches were made: so it tells
//! what there is to take back, and where an interrupted run goes on.

use std::fs::{File, OpenOptions};
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use keen_core::fault::ReadFault;
use keen_core::plan::setup_steps::SetupAct;
use keen_core::setup::Subject;
use keen_core::topology::Topology;
use keen_wire::plan::{BatchDocument, BatchState, PlanLine, PlanStart, PlanSummary, StepWriter};
use keen_wire::setup_document;

use super::plan_file::PlanFile;
use super::step_numbers::StepNumbers;

/// The way back of a plan, open to keep what is made.
#[derive(Debug)]
pub struct UndoFile {
    path: PathBuf,
    file: File,
    /// The run, by when it began: in seconds since 1970.
    pub run: u32,
    /// The plan, by a part of its digest.
    pub plan: i64,
    /// The number of the last batch.
    pub last_batch: u32,
    /// The steps that were made and not taken back.
    pub made: StepNumbers,
    /// Some of them were taken back.
    pub was_taken_back: bool,
    /// A batch of which nobody has said yet whether it was kept.
    pub unsure: Option<BatchDocument>,
    /// It can no longer be written: nothing more may be done.
    pub broken: bool,
}

/// The failure of the file.
fn cannot(path: &Path, error: &io::Error) -> ReadFault {
    ReadFault::new(
        format!("cannot write {}: {error}", path.display()),
        "it needs a folder with room that this account can write to",
    )
}

impl UndoFile {
    /// Writes the way back of a plan: its steps from the last to the first, each the other way round. Its owner alone
    /// can read it, as it holds rows.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be written, or is there already, or the plan can no longer be read.
    pub fn create(
        path: &Path,
        topology: &Topology,
        plan: &mut PlanFile,
    ) -> Result<Self, ReadFault> {
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let mut temporary = tempfile::Builder::new()
            .prefix(".keen-")
            .suffix(".part")
            .tempfile_in(folder)
            .map_err(|error| cannot(path, &error))?;
        let started = Timestamp::now();
        let steps = plan.len();
        {
            let mut out = BufWriter::new(temporary.as_file_mut());
            let mut start: PlanStart = plan.start.clone();
            start.envelope.started = started.to_string();
            start.undoes = Some(plan.digest.clone());
            start.notes = Vec::new();
            let reversed = |at| plan.setup(at).map(|step| step.reversed().is_some());
            let kept = (0..steps).filter(|at| reversed(*at) != Some(false)).count();
            start.summary = PlanSummary { steps: kept as u64, questions: 0 };
            let mut line = |line: &dyn Fn(&mut dyn Write) -> io::Result<()>| {
                line(&mut out).and_then(|()| out.write_all(b"\n")).map_err(|e| cannot(path, &e))
            };
            let summary = start.summary;
            let start = PlanLine::Start(start);
            line(&|out| Ok(serde_json::to_writer(out, &start)?))?;
            // A receiver lets go of a table only once it is no longer published, and while its link is on.
            let mut lets_go = Vec::new();
            for at in (0..steps).rev() {
                if let Some(step) = plan.setup(at) {
                    let (Some(back), Some((number, _))) = (step.reversed(), plan.place(at)) else {
                        continue; // what a person did, and what was looked at
                    };
                    let subject = match &back.act {
                        SetupAct::Change(change) => Some(&change.subject),
                        _ => None,
                    };
                    let step = setup_document(topology, number, &back);
                    let step = PlanLine::Step(Box::new(step));
                    if matches!(subject, Some(Subject::SubscribedTable { .. })) {
                        lets_go.push(step);
                        continue;
                    }
                    if !matches!(subject, Some(Subject::PublishedTable { .. })) {
                        for step in lets_go.drain(..) {
                            line(&|out| Ok(serde_json::to_writer(out, &step)?))?;
                        }
                    }
                    line(&|out| Ok(serde_json::to_writer(out, &step)?))?;
                    continue;
                }
                for step in lets_go.drain(..) {
                    line(&|out| Ok(serde_json::to_writer(out, &step)?))?;
                }
                let numbered = plan.step(topology, at)?;
                let (number, half_of) = (numbered.number, numbered.half_of);
                let step = numbered.step.reversed();
                let step = StepWriter { topology, number, step, half_of, kind: Some("step") };
                line(&|out| Ok(serde_json::to_writer(out, &step)?))?;
            }
            for step in lets_go {
                line(&|out| Ok(serde_json::to_writer(out, &step)?))?;
            }
            let end = PlanLine::Summary(summary);
            line(&|out| Ok(serde_json::to_writer(out, &end)?))?;
            out.flush().map_err(|error| cannot(path, &error))?;
        }
        temporary.as_file().sync_all().map_err(|error| cannot(path, &error))?;
        temporary.persist_noclobber(path).map_err(|error| cannot(path, &error.error))?;
        sync_folder(folder);
        let mut opened = Self::open(path)?;
        opened.run = u32::try_from(started.as_second()).unwrap_or(u32::MAX);
        opened.plan = part_of(&plan.digest);
        Ok(opened)
    }

    /// Opens one that is there, to go on or to take back, and reads it.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be read or written, or another run has it.
    pub fn resume(path: &Path, topology: &Topology) -> Result<(Self, PlanFile), ReadFault> {
        let mut opened = Self::open(path)?;
        // Only now nobody else writes to it.
        let plan = PlanFile::open(path, topology)?;
        let Some(of) = &plan.start.undoes else {
            return Err(ReadFault::new(
                format!("{} is a plan, not the way back of one", path.display()),
                "keen mend PLAN carries it out",
            ));
        };
        opened.plan = part_of(of);
        opened.run = u32::try_from(Timestamp::now().as_second()).unwrap_or(u32::MAX);
        for batch in &plan.batches {
            opened.learn(batch.clone());
        }
        Ok((opened, plan))
    }

    fn open(path: &Path) -> Result<Self, ReadFault> {
        let file = OpenOptions::new().read(true).append(true).open(path);
        let file = file.map_err(|error| cannot(path, &error))?;
        if file.try_lock().is_err() {
            return Err(ReadFault::new(
                format!("another keen mend has {} open", path.display()),
                "wait until it is done",
            ));
        }
        ends_with_a_line(&file).map_err(|error| cannot(path, &error))?;
        let path = path.to_owned();
        Ok(Self {
            path,
            file,
            run: 0,
            plan: 0,
            last_batch: 0,
            made: StepNumbers::default(),
            was_taken_back: false,
            unsure: None,
            broken: false,
        })
    }

    /// Takes what became of a batch.
    fn learn(&mut self, batch: BatchDocument) {
        self.last_batch = self.last_batch.max(u32::try_from(batch.batch).unwrap_or(u32::MAX));
        self.unsure = None;
        match batch.state {
            BatchState::Ready | BatchState::Undoing => self.unsure = Some(batch),
            BatchState::Done => {
                for step in &batch.steps {
                    self.made.insert(*step);
                }
            }
            BatchState::Undone => {
                self.was_taken_back = true;
                batch.steps.iter().for_each(|step| self.made.remove(*step));
            }
            BatchState::Dropped => {}
        }
    }

    /// Where it is.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Keeps what became of a batch, and is sure that it is on disk.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be written.
    pub fn keep(&mut self, batch: BatchDocument) -> Result<(), ReadFault> {
        let mut line = serde_json::to_vec(&PlanLine::Batch(batch.clone())).unwrap_or_default();
        line.push(b'\n');
        let written = self.file.write_all(&line).and_then(|()| self.file.sync_data());
        written.map_err(|error| {
            self.broken = true;
            cannot(&self.path, &error)
        })?;
        self.learn(batch);
        Ok(())
    }
}

/// A part of a digest that fits into a whole number.
fn part_of(digest: &str) -> i64 {
    digest.get(..15).and_then(|part| i64::from_str_radix(part, 16).ok()).unwrap_or_default()
}

/// Ends a line that a killed run left in the middle: what comes after stands on lines of its own. Half a line is told
/// from a whole one by its JSON.
fn ends_with_a_line(file: &File) -> io::Result<()> {
    use std::io::{Read as _, Seek as _, SeekFrom};
    let mut file = file;
    let length = file.metadata()?.len();
    if length == 0 {
        return Ok(());
    }
    file.seek(SeekFrom::Start(length - 1))?;
    let mut last = [0];
    file.read_exact(&mut last)?;
    if last != *b"\n" {
        // Back to the last whole line.
        let mut text = Vec::new();
        file.seek(SeekFrom::Start(0))?;
        let tail = length.min(1 << 20);
        file.seek(SeekFrom::Start(length - tail))?;
        file.read_to_end(&mut text)?;
        let cut = text.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
        file.set_len(length - tail + cut as u64)?;
    }
    Ok(())
}

/// A name is on disk once its folder is.
fn sync_folder(folder: &Path) {
    if let Ok(folder) = File::open(folder) {
        drop(folder.sync_all());
    }
}
