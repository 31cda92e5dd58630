//! What only the receiver of a copy holds, kept before it is overwritten: as a plan of row steps, so that any of it can be
//! put back by the same command.

use std::fs::File;
use std::io::{self, BufReader, BufWriter, Write};
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use keen_core::audit::merge::{DivergentRow, Version};
use keen_core::fault::ReadFault;
use keen_core::plan::WrittenTimes;
use keen_core::plan::copy::TableCopy;
use keen_core::plan::{AuditedTable, FoundRows, LocalTable, SharedColumns, Step, StepParts};
use keen_core::topology::node_set::NodeSet;
use keen_core::topology::{NodeId, Topology};
use keen_wire::plan::{PlanLine, PlanStart, PlanSummary, PlannedNode, StepWriter};
use keen_wire::{Ending, Envelope, plan_table};

use super::MendRequest;
use crate::audit::{self, AuditRequest, AuditSink, TableHead, TableOutcome, WantedKeys};

/// Writes what `node` holds of the tables and `from` does not, to a file beside the plan. None if there is nothing.
///
/// # Errors
/// [`ReadFault`] when one of them cannot be read to its end, or the file cannot be written.
pub(super) fn keep(
    request: &MendRequest<'_>,
    node: NodeId,
    from: NodeId,
    copy: &TableCopy,
) -> Result<Option<(u64, PathBuf)>, ReadFault> {
    let path = request.aside.to_owned();
    let cannot = |error: &io::Error| {
        ReadFault::new(
            format!("cannot write {}: {error}", path.display()),
            "it needs a folder with room that this account can write to",
        )
    };
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let file = || tempfile::Builder::new().prefix(".keen-").suffix(".part").tempfile_in(folder);
    let mut steps = file().map_err(|error| cannot(&error))?;
    let tables: Vec<String> = copy.tables.iter().map(|copied| copied.table.clone()).collect();
    let started = Timestamp::now();
    let keys = WantedKeys::new();
    let nodes = NodeSet::of(node) | NodeSet::of(from);
    let audit = AuditRequest { nodes, ..request.look(&keys, &tables) };
    let mut sink = AsideSink {
        topology: request.topology,
        node,
        from,
        out: BufWriter::new(steps.as_file().try_clone().map_err(|error| cannot(&error))?),
        tables: Vec::new(),
        open: None,
        rows: 0,
        wrong: None,
    };
    let outcome = audit::run(&audit, &mut sink);
    if let Some(wrong) = sink.wrong {
        return Err(wrong);
    }
    if outcome.stopped {
        return Err(ReadFault::interrupted());
    }
    if let Some(broken) = outcome.broken {
        return Err(ReadFault::new(
            format!("what only it holds cannot be told: {broken}"),
            "try again",
        ));
    }
    let AsideSink { rows, tables: found, mut out, .. } = sink;
    out.flush().map_err(|error| cannot(&error))?;
    drop(out);
    if rows == 0 {
        return Ok(None);
    }
    let name = |node: NodeId| request.topology.nodes[node].name.clone();
    let planned = vec![PlannedNode { node: name(node), steps: rows }];
    let summary = PlanSummary { steps: rows, questions: 0 };
    let start = PlanStart {
        envelope: Envelope::new("plan", &request.topology.name, &started, planned),
        ending: Ending::new(std::time::Duration::ZERO, true),
        audited: started.to_string(),
        interrupted: false,
        read: vec![name(node), name(from)],
        topology_digest: request.topology_digest.to_owned(),
        topology_after: None,
        undoes: None,
        tables: found.iter().map(|table| plan_table(request.topology, table)).collect(),
        notes: vec![format!(
            "what {} held when it was filled from {}: keen mend puts rows back that nobody has written since",
            name(node),
            name(from)
        )],
        summary,
    };
    let mut whole = file().map_err(|error| cannot(&error))?;
    let written = write_whole(whole.as_file_mut(), steps.as_file_mut(), start, summary);
    written.map_err(|error| cannot(&error))?;
    // What an earlier try kept is kept, too.
    let mut path = path.clone();
    for number in 2.. {
        match whole.persist_noclobber(&path) {
            Ok(_) => break,
            Err(error) if error.error.kind() == io::ErrorKind::AlreadyExists && number < 1000 => {
                whole = error.file;
                let mut name = request.aside.as_os_str().to_owned();
                name.push(format!(".{number}"));
                path = name.into();
            }
            Err(error) => return Err(cannot(&error.error)),
        }
    }
    Ok(Some((rows, path)))
}

fn write_whole(
    whole: &mut File,
    steps: &mut File,
    start: PlanStart,
    summary: PlanSummary,
) -> io::Result<()> {
    use std::io::{Seek as _, SeekFrom};
    let mut out = BufWriter::new(&mut *whole);
    let line = |out: &mut BufWriter<&mut File>, line: &PlanLine| {
        serde_json::to_writer(&mut *out, line)?;
        out.write_all(b"\n")
    };
    line(&mut out, &PlanLine::Start(start))?;
    steps.seek(SeekFrom::Start(0))?;
    io::copy(&mut BufReader::new(steps), &mut out)?;
    line(&mut out, &PlanLine::Summary(summary))?;
    out.flush()?;
    drop(out);
    whole.sync_all()
}

/// The table at hand, on both nodes.
struct OpenTable {
    table: AuditedTable,
    local: Arc<LocalTable>,
}

/// Writes a step for each row that only the receiver holds, or holds otherwise.
struct AsideSink<'a> {
    topology: &'a Topology,
    node: NodeId,
    from: NodeId,
    out: BufWriter<File>,
    tables: Vec<AuditedTable>,
    open: Option<OpenTable>,
    rows: u64,
    wrong: Option<ReadFault>,
}

impl AsideSink<'_> {
    /// The step that puts the receiver's row back in place of the source's.
    fn step(&self, open: &OpenTable, row: &DivergentRow) -> Option<Result<Step, String>> {
        let held = |node: NodeId| row.versions.iter().find(|version| version.nodes.contains(&node));
        let row_of = |version: Option<&Version>| version.and_then(|v| v.row.clone());
        let count_of = |version: Option<&Version>| match version {
            Some(version) if version.row.is_some() => version.count,
            _ => 0,
        };
        let (here, there) = (held(self.node), held(self.from));
        let kept = row_of(here)?;
        let copies = row.key.is_empty().then(|| (count_of(there), count_of(here)));
        if copies.is_some_and(|(there, here)| here <= there) {
            return None;
        }
        let topology = self.topology;
        let (node, from) = (&topology.nodes[self.node].name, &topology.nodes[self.from].name);
        let before = row_of(there);
        let parts = StepParts {
            node: self.node,
            set: open.table.set,
            table: open.table.table.clone(),
            copies,
            reason: format!("{node} held this before it was filled from {from}"),
            loses: None,
            onward: "no: it is written on this node alone".to_owned(),
            versions: vec![Version {
                nodes: vec![self.node, self.from],
                row: before.clone(),
                count: count_of(there),
            }],
            before,
            after: Some(kept),
        };
        Some(Step::told(parts, Arc::clone(&open.local), Arc::clone(&open.table.layout)))
    }
}

impl AuditSink for AsideSink<'_> {
    fn table(&mut self, head: &TableHead<'_>) -> ControlFlow<()> {
        self.open = None;
        if self.tables.iter().any(|known| known.table == head.table) {
            return ControlFlow::Continue(()); // for another set it is the same table
        }
        let Some(layout) = head.layout else {
            self.wrong = Some(ReadFault::new(
                format!(
                    "{} of the two nodes cannot be compared: {}",
                    head.table,
                    head.notes.join("; ")
                ),
                "keen audit says more",
            ));
            return ControlFlow::Break(());
        };
        let local = |node: NodeId, columns: &Vec<String>| {
            Arc::new(LocalTable {
                engine: head.topology.nodes[node].at.engine(),
                name: head.local_name(node).to_owned(),
                columns: columns.clone(),
                shape: head.shapes.get(&node).cloned().unwrap_or_default(),
                shared: SharedColumns::default(),
            })
        };
        let nodes = head.local_columns.iter().map(|(node, columns)| (*node, local(*node, columns)));
        let table = AuditedTable {
            set: head.set,
            table: head.table.to_owned(),
            layout: Arc::new(layout.clone()),
            nodes: nodes.collect(),
            unread: NodeSet::EMPTY,
            divergent: FoundRows::default(),
            written: WrittenTimes::default(),
            unsettled: Vec::new(),
        };
        if let Some(local) = table.nodes.get(&self.node).cloned() {
            self.open = Some(OpenTable { table: table.clone(), local });
        }
        self.tables.push(table);
        ControlFlow::Continue(())
    }

    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        let Some(open) = &self.open else { return ControlFlow::Continue(()) };
        let step = match self.step(open, &row) {
            None => return ControlFlow::Continue(()),
            Some(Ok(step)) => step,
            Some(Err(why)) => {
                let what = format!("a row of {} cannot be kept: {why}", open.table.table);
                self.wrong = Some(ReadFault::new(what, "try again"));
                return ControlFlow::Break(());
            }
        };
        self.rows += 1;
        let (topology, number) = (self.topology, self.rows);
        let step = StepWriter { topology, number, step, half_of: None, kind: Some("step") };
        let written = serde_json::to_writer(&mut self.out, &step).map_err(io::Error::from);
        if let Err(error) = written.and_then(|()| self.out.write_all(b"\n")) {
            self.wrong = Some(ReadFault::new(
                format!("what only it holds cannot be kept: {error}"),
                "it needs a folder with room",
            ));
            return ControlFlow::Break(());
        }
        ControlFlow::Continue(())
    }

    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        if let Some(fault) = outcome.unread.values().next() {
            self.wrong = Some(fault.clone());
            return ControlFlow::Break(());
        }
        ControlFlow::Continue(())
    }
}
