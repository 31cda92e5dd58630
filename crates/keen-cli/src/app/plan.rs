//! Making a plan, from nodes or from the document of an audit, and writing its scripts.

use keen_core::topology::node_set::NodeSet;
use std::io::{self, BufReader, Write as _};
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};
use std::{fmt, fs};

use anyhow::{Context, Result, bail};
use jiff::Timestamp;
use keen_core::audit::merge::{DivergentRow, RowStanding};
use keen_core::plan::evidence::{Evidence, JudgedTable};
use keen_core::plan::setup_steps::SetupPlan;
use keen_core::plan::sql::script::{Direction, ScriptFault};
use keen_core::plan::stopped::{StoppedLink, to_pass_over};
use keen_core::plan::{
    self, AuditedTable, FoundRows, LocalTable, Plan, SharedColumns, WrittenTimes,
};
use keen_core::topology::{AuthorityRule, NodeId, Topology};
use keen_core::value::Value;
use keen_run::audit::{AuditSink, TableHead, TableOutcome};
use keen_run::conflicts;
use keen_run::spool::rows_aside::RowsAside;

use crate::app;
use crate::app::audit_document;
use crate::app::conflicts::{SearchOutcome, SearchRequest};
use crate::app::open_node::NodeOpener;
use crate::app::output::{Needed, Output};
use crate::app::plan_links::{Links, links, look_at_what_waits};
use crate::app::run_log::EarlierConflicts;
use crate::app::scope::AuditScope;
use crate::app::stop::Stop;
use crate::app::topology_file::Loaded;
use crate::exit::Exit;
use crate::terminal::Terminal;

/// Rows that links hold back, kept in case one of them stopped a link.
const MOST_HELD_BACK: usize = 10_000;

/// A plan and where it comes from.
pub(crate) struct Planned {
    pub(crate) plan: Plan,
    /// Its steps that are not about rows, which come after the others.
    pub(crate) setup: SetupPlan,
    /// Links that stopped at a write when it was made.
    pub(crate) stopped: Vec<StoppedLink>,
    /// Those whose transaction is to be passed over.
    pub(crate) passed: Vec<StoppedLink>,
    pub(crate) started: Timestamp,
    pub(crate) took: Duration,
    /// Nodes and tables that were left out.
    pub(crate) left_out: Vec<String>,
    /// When the audit behind it began.
    pub(crate) audited: String,
    /// Rows were planned for.
    pub(crate) with_rows: bool,
    /// The audit read everything it should have, and all it found is in the plan.
    pub(crate) complete: bool,
    pub(crate) interrupted: bool,
    /// The nodes that were read for it.
    pub(crate) read: NodeSet,
    /// The topology file, in a digest.
    pub(crate) topology_digest: String,
    /// That file as it has to read once the plan is carried out.
    pub(crate) topology_after: Option<String>,
}

impl Planned {
    pub(crate) fn exit(&self) -> Exit {
        if self.interrupted {
            Exit::Interrupted
        } else if !self.plan.is_empty() || !self.setup.steps.is_empty() || self.setup.undecided {
            Exit::Found
        } else if self.complete {
            Exit::Agree
        } else {
            Exit::Incomplete
        }
    }
}

/// Looks for what raced, given what differs.
pub(crate) type Look<'a> = dyn Fn(&[AuditedTable]) -> SearchOutcome + 'a;

/// Looks for what raced, as `plan --conflicts` does.
pub(crate) fn look_for_races<'a>(
    loaded: &'a Loaded,
    scope: &'a AuditScope,
    stop: &'a Stop,
) -> impl Fn(&[AuditedTable]) -> SearchOutcome + 'a {
    let topology = &loaded.topology;
    let carried = topology.sets.iter().flat_map(|set| &set.tables);
    // What the file leaves out is looked at where it was asked for by name.
    let by_name = !scope.tables.is_empty() && scope.excluded.is_empty();
    let judged: Vec<String> = match by_name || topology.not_judged.is_empty() {
        true => scope.tables.clone(),
        false => carried
            .filter(|table| scope.tables.is_empty() || scope.tables.contains(table))
            .filter(|table| !topology.not_judged.contains(table))
            .cloned()
            .collect(),
    };
    move |tables| {
        let asked = SearchRequest {
            nodes: NodeSet::ALL,
            tables: judged.clone(),
            differing: differing(tables),
            wait: scope.wait,
            silence: scope.silence,
            ..SearchRequest::default()
        };
        app::conflicts::run(loaded, &asked, EarlierConflicts::default(), false, stop)
    }
}

/// Rows of which it is asked whether a journal wrote what nodes hold.
const MOST_ASKED_ABOUT: usize = 10_000;

fn differing(tables: &[AuditedTable]) -> Vec<(String, Vec<Value>)> {
    let rows = tables.iter().flat_map(|table| {
        // One that cannot be read back is told when the plan is made.
        table.divergent.iter().filter_map(|row| Some((table.table.clone(), row.ok()?.key)))
    });
    rows.filter(|(_, key)| !key.is_empty()).take(MOST_ASKED_ABOUT).collect()
}

/// Audits now and plans from what that finds.
pub(crate) fn from_nodes(
    loaded: &Loaded,
    scope: &AuditScope,
    limit: u64,
    (raced, pass_over): (Option<&Look<'_>>, &[(NodeId, NodeId)]),
    stop: &Stop,
    terminal: Terminal,
) -> Result<Planned> {
    let (started, clock) = (Timestamp::now(), Instant::now());
    let mut sink = PlanInput { left: limit, ..PlanInput::default() };
    let totals = app::audit::run(loaded, scope, &mut sink, stop, terminal.progress)?.unbroken()?;
    let (over, tables) = (sink.over, sink.into_tables()?);
    let raced = raced.filter(|_| !totals.stopped).map(|look| look(&tables));
    let raced = raced.as_ref();
    if !totals.stopped {
        stop.at_once();
    }
    // Also where nothing differs: a link that meets the row it brings stands still all the same.
    let mut links =
        if totals.stopped { Links::default() } else { links(loaded, scope, true, stop) };
    let mut passed = Vec::new();
    for ends in pass_over {
        let of_link = to_pass_over(&loaded.topology, &mut links.stopped, *ends);
        passed.extend(of_link.map_err(anyhow::Error::msg)?);
    }
    let stopped = links.stopped.clone();
    let mut planned = Planned {
        plan: made(loaded, scope, tables, (raced, links), stop)?,
        started,
        took: clock.elapsed(),
        left_out: scope.left_out(&loaded.topology),
        audited: totals.started.to_string(),
        with_rows: true,
        setup: SetupPlan::default(),
        stopped,
        passed,
        complete: totals.complete() && over == 0,
        interrupted: totals.stopped,
        read: totals.nodes.keys().collect(),
        topology_digest: loaded.digest.clone(),
        topology_after: None,
    };
    if over > 0 {
        planned.plan.notes.push(over_the_limit(over, limit));
    }
    planned.plan.notes.extend(totals.standing_still(&loaded.topology));
    planned.plan.notes.extend(totals.in_no_set(&loaded.topology));
    Ok(planned)
}

/// Makes the plan, with what is known of writes that raced, and of when rows were written.
fn made(
    loaded: &Loaded,
    scope: &AuditScope,
    mut tables: Vec<AuditedTable>,
    (raced, links): (Option<&SearchOutcome>, Links),
    stop: &Stop,
) -> Result<Plan> {
    let topology = &loaded.topology;
    let mut evidence = raced.map(|raced| evidence(topology, raced)).unwrap_or_default();
    look_at_what_waits(loaded, scope, &mut tables, &links.stopped, stop);
    evidence.stopped = links.stopped;
    evidence.onward = links.onward;
    ask_when(loaded, scope, &mut tables, stop)?;
    ask_alike(loaded, scope, &tables, stop, &mut evidence)?;
    let mut plan = plan::make(topology, tables, evidence)?;
    let unread: Vec<&str> = (raced.iter().flat_map(|raced| &raced.found.nodes))
        .filter(|(_, node)| node.fault.is_some())
        .map(|(node, _)| &topology.nodes[*node].name[..])
        .collect();
    if !unread.is_empty() {
        plan.notes.push(format!(
            "the journals of {} could not be read: conflicting writes there are not known (keen conflicts says why)",
            unread.join(", ")
        ));
    }
    Ok(plan)
}

/// Asks rows that differ when they were last written, where the latest is right and no column says it.
fn ask_when(
    loaded: &Loaded,
    scope: &AuditScope,
    tables: &mut [AuditedTable],
    stop: &Stop,
) -> Result<()> {
    let authority = &loaded.topology.authority;
    let wanted = |table: &&mut AuditedTable| {
        authority.rule(&table.table) == AuthorityRule::Latest
            && authority.written_column(&table.table).is_none()
            && !table.divergent.is_empty()
    };
    let tables: Vec<&mut AuditedTable> = tables.iter_mut().filter(wanted).collect();
    if tables.is_empty() {
        return Ok(());
    }
    let opener = NodeOpener::new(loaded, scope.wait, scope.silence, stop);
    let nodes = tables.iter().flat_map(|table| table.nodes.keys());
    let nodes = nodes.collect::<NodeSet>();
    let asked = conflicts::LastWriteSources::open(&loaded.topology, nodes, &|node| {
        opener.last_writes(node)
    });
    let Some(mut asked) = asked else { return Ok(()) };
    for table in tables {
        table.written = conflicts::written(&mut asked, table)?;
    }
    Ok(())
}

/// Texts of a column beyond this many bytes are held against each other by a rule of thumb.
const MOST_ASKED: usize = 2 << 20;

/// Asks nodes which texts they take for one value.
fn ask_alike(
    loaded: &Loaded,
    scope: &AuditScope,
    tables: &[AuditedTable],
    stop: &Stop,
    evidence: &mut Evidence,
) -> Result<()> {
    let opener = NodeOpener::new(loaded, scope.wait, scope.silence, stop);
    for (node, places) in plan::alike::to_ask(tables, MOST_ASKED)? {
        let mut open = match opener.open(node) {
            Ok(open) => open,
            Err(fault) => {
                tracing::warn!(%fault, "it is not known which texts are the same value there");
                continue;
            }
        };
        for (place, texts) in places {
            match open.alike(&place.0, &place.1, &texts) {
                Ok(Some(groups)) if groups.len() == texts.len() => {
                    evidence.alike.add(node, place, texts, groups);
                }
                Ok(_) => {}
                Err(fault) => {
                    tracing::warn!(%fault, "it is not known which texts are the same value");
                }
            }
        }
    }
    Ok(())
}

fn evidence(topology: &Topology, raced: &SearchOutcome) -> Evidence {
    let found = &raced.found;
    let judged: Vec<JudgedTable<'_>> = (found.tables.iter())
        .map(|table| JudgedTable { set: table.set, name: &table.name, layout: &table.layout })
        .collect();
    let mut evidence = plan::evidence::evidence(topology, &judged, &found.conflicts);
    for row in &found.past_the_log {
        if let Some(table) = judged.get(row.table) {
            evidence.add_past_the_log(topology, table, &row.key, &row.nodes);
        }
    }
    evidence
}

fn over_the_limit(over: u64, limit: u64) -> String {
    format!(
        "{over} more divergent rows are not in this plan (--limit {limit}): carry it out and plan again, or raise the limit"
    )
}

/// Plans from an audit that was written as JSON.
pub(crate) fn from_document(
    loaded: &Loaded,
    scope: &AuditScope,
    path: &Path,
    limit: u64,
    raced: Option<&Look<'_>>,
    stop: &Stop,
) -> Result<Planned> {
    let (started, clock) = (Timestamp::now(), Instant::now());
    let topology = &loaded.topology;
    let shown = path.display();
    let file = fs::File::open(path).with_context(|| format!("cannot read {shown}"))?;
    let read = audit_document::read(topology, &shown.to_string(), BufReader::new(file), limit)?;
    let raced = raced.map(|look| look(&read.tables));
    let raced = raced.as_ref();
    stop.at_once();
    // Whatever a file holds, it must not end in a fall.
    let links = || links(loaded, scope, false, stop);
    let making = || made(loaded, scope, read.tables, (raced, links()), stop);
    let plan = std::panic::catch_unwind(std::panic::AssertUnwindSafe(making));
    let Ok(plan) = plan else {
        bail!(
            "{shown} holds what no audit finds: make it again with keen audit --format json --output {shown}"
        );
    };
    let mut plan = plan?;
    plan.notes.extend(read.notes);
    if read.over > 0 {
        plan.notes.push(over_the_limit(read.over, limit));
    }
    let passed = Vec::new();
    let stopped = Vec::new(); // links are looked at only with rows that were read just now
    Ok(Planned {
        plan,
        started,
        took: clock.elapsed(),
        left_out: scope.left_out(&loaded.topology),
        audited: read.started,
        with_rows: true,
        setup: SetupPlan::default(),
        stopped,
        passed,
        complete: read.complete,
        interrupted: false,
        read: read.nodes,
        topology_digest: loaded.digest.clone(),
        topology_after: None,
    })
}

/// Keeps what a plan is made from.
#[derive(Default)]
struct PlanInput {
    tables: Vec<(AuditedTable, RowsAside)>,
    /// The table at hand could be compared at all.
    comparable: bool,
    left: u64,
    over: u64,
    /// Rows that links hold back and that were kept.
    held_back: usize,
    /// Why rows could not be put aside.
    failed: Option<io::Error>,
}

impl PlanInput {
    fn into_tables(self) -> Result<Vec<AuditedTable>> {
        let aside = "rows that differ cannot be stored: temporary files need space in the folder that TMPDIR names";
        if let Some(error) = self.failed {
            return Err(error).context(aside);
        }
        let rows = |(table, rows): (AuditedTable, RowsAside)| {
            Ok(AuditedTable { divergent: rows.into_rows().context(aside)?, ..table })
        };
        self.tables.into_iter().map(rows).collect()
    }
}

impl AuditSink for PlanInput {
    fn table(&mut self, head: &TableHead<'_>) -> ControlFlow<()> {
        self.comparable = head.layout.is_some();
        if let Some(layout) = head.layout {
            let local = |(node, columns): (&NodeId, &Vec<String>), name: &str| {
                let shape = head.shapes.get(node).cloned().unwrap_or_default();
                let engine = head.topology.nodes[*node].at.engine();
                let local = LocalTable {
                    engine,
                    name: name.to_owned(),
                    columns: columns.clone(),
                    shape,
                    shared: SharedColumns::default(),
                };
                (*node, Arc::new(local))
            };
            let table = AuditedTable {
                set: head.set,
                table: head.table.to_owned(),
                layout: Arc::new(layout.clone()),
                nodes: head
                    .local_columns
                    .iter()
                    .map(|entry| local(entry, head.local_name(*entry.0)))
                    .collect(),
                unread: NodeSet::EMPTY,
                divergent: FoundRows::default(),
                written: WrittenTimes::default(),
                unsettled: Vec::new(),
            };
            self.tables.push((table, RowsAside::default()));
        }
        ControlFlow::Continue(())
    }

    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        if self.left == 0 {
            self.over += 1;
        } else if let Some((_, rows)) = self.tables.last_mut() {
            self.left -= 1;
            if let Err(error) = rows.push(&row) {
                self.failed = Some(error);
                return ControlFlow::Break(());
            }
        }
        ControlFlow::Continue(())
    }

    /// Keeps a row that a link holds back only where a link may have stopped at it.
    fn unsettled(&mut self, row: DivergentRow, standing: RowStanding) -> ControlFlow<()> {
        if let Some((table, _)) = self.tables.last_mut()
            && standing == RowStanding::InFlight
            && self.held_back < MOST_HELD_BACK
        {
            self.held_back += 1;
            table.unsettled.push(row);
        }
        ControlFlow::Continue(())
    }

    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        if let Some((table, _)) = self.tables.last_mut().filter(|_| self.comparable) {
            table.unread = outcome.unread.keys().collect::<NodeSet>();
        }
        ControlFlow::Continue(())
    }
}

/// One node's two scripts.
pub(crate) struct Scripts {
    pub(crate) node: NodeId,
    pub(crate) steps: u64,
    pub(crate) repair: PathBuf,
    pub(crate) undo: PathBuf,
}

/// A script while it is written.
struct Script<'a> {
    out: &'a mut Output,
    /// Why nothing more was taken.
    failed: Option<io::Error>,
}

impl fmt::Write for Script<'_> {
    fn write_str(&mut self, text: &str) -> fmt::Result {
        self.out.write_all(text.as_bytes()).map_err(|error| {
            self.failed = Some(error);
            fmt::Error
        })
    }
}

pub(crate) fn write_scripts(
    topology: &Topology,
    planned: &Planned,
    folder: &Path,
    needed: &Needed,
) -> Result<Vec<Scripts>> {
    let mut written = Vec::new();
    for steps in planned.plan.nodes() {
        let node = &topology.nodes[steps.node];
        let put = |suffix: &str, title: String, direction| -> Result<PathBuf> {
            let path = folder.join(format!("{}.{suffix}.sql", node.name));
            let mut out = Output::open(Some(&path), Box::new(std::io::sink()), needed)?;
            let mut script = Script { out: &mut out, failed: None };
            let done = plan::sql::script::write(topology, &steps, &title, direction, &mut script);
            if let Some(error) = script.failed {
                return Err(error.into());
            }
            match done {
                Err(ScriptFault::Rows(fault)) => return Err(fault.into()),
                Err(ScriptFault::Writer) => bail!("{} cannot be written", path.display()),
                Ok(()) => out.finish()?,
            }
            Ok(path)
        };
        let count = steps.len();
        let of = format!(
            "of {} for node {}, from the audit of {}; written {}",
            topology.name,
            node.name,
            planned.audited,
            Timestamp::now()
        );
        written.push(Scripts {
            node: steps.node,
            steps: count as u64,
            repair: put("repair", format!("Repair {of}; steps: {count}"), Direction::Repair)?,
            undo: put("undo", format!("Undo of the repair {of}; steps: {count}"), Direction::Undo)?,
        });
    }
    Ok(written)
}
