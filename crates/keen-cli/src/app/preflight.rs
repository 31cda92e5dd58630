//! Running a preflight for the commands that need one.

use keen_core::fault::FaultKind;
use keen_core::topology::node_set::NodeSet;
use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result, bail};
use jiff::Timestamp;
use keen_core::audit::merge::{DivergentRow, RowStanding, Version};
use keen_core::observe::node::{NodeInspection, Observed};
use keen_core::preflight::{self, PreflightScope, Report, Severity};
use keen_core::seed::join::{self, JoinComparison, Joining};
use keen_core::topology::{Link, NodeId};
use keen_run::audit::{AuditSink, TableHead, TableOutcome};
use keen_run::preflight as looking;

use crate::app;
use crate::app::open_node::NodeOpener;
use crate::app::stop::Stop;
use crate::app::topology_file::Loaded;
use crate::exit::Exit;

/// A request for a preflight, checked against the topology.
#[derive(Debug, Clone)]
pub(crate) struct PreflightRequest {
    pub(crate) nodes: NodeSet,
    pub(crate) left_out: Vec<String>,
    pub(crate) tables: Vec<String>,
    pub(crate) wait: Duration,
    pub(crate) scope: PreflightScope,
}

/// The result of a run.
pub(crate) struct PreflightOutcome {
    pub(crate) started: Timestamp,
    pub(crate) took: Duration,
    pub(crate) looks: BTreeMap<NodeId, NodeInspection>,
    pub(crate) report: Report,
    pub(crate) left_out: Vec<String>,
}

impl PreflightOutcome {
    /// The exit code: notes are no findings.
    pub(crate) fn exit(&self) -> Exit {
        match self.report.worst() {
            Some(Severity::Stop | Severity::Warn) => Exit::Found,
            _ if !self.report.unseen.is_empty() => Exit::Incomplete,
            _ => Exit::Agree,
        }
    }
}

/// Looks at nodes.
pub(crate) fn look(
    loaded: &Loaded,
    nodes: NodeSet,
    tables: &[String],
    wait: Duration,
    stop: &Stop,
) -> BTreeMap<NodeId, NodeInspection> {
    let opener = NodeOpener::new(loaded, wait, wait, stop);
    let open = |node: NodeId, address: &_| opener.look_in(node, address);
    looking::look(&looking::InspectRequest {
        topology: &loaded.topology,
        nodes,
        tables,
        open: &open,
        wait,
    })
}

/// Looks at the nodes and judges.
pub(crate) fn run(
    loaded: &Loaded,
    asked: &PreflightRequest,
    stop: &Stop,
) -> Result<PreflightOutcome> {
    let started = Timestamp::now();
    let clock = Instant::now();
    let looks = look(loaded, asked.nodes, &asked.tables, asked.wait, stop);
    let exposed = crate::app::topology_file::exposed(loaded);
    let report = preflight::examine(&loaded.topology, &looks, asked.scope, &exposed);
    Ok(PreflightOutcome {
        started,
        took: clock.elapsed(),
        looks,
        report,
        left_out: asked.left_out.clone(),
    })
}

/// A node that is to join, checked against the topology.
pub(crate) struct Join<'a> {
    pub(crate) node: NodeId,
    pub(crate) from: NodeId,
    pub(crate) since: Option<&'a str>,
    pub(crate) wait: Duration,
}

/// Looks at a node that is to join and at its source, and compares their rows.
pub(crate) fn join(loaded: &Loaded, asked: &Join<'_>, stop: &Stop) -> Result<(Joining, Duration)> {
    let clock = Instant::now();
    let (node, from) = (asked.node, asked.from);
    // Who reads from the node that is overwritten only they themselves can tell.
    let looks = look(loaded, NodeSet::ALL, &[], asked.wait, stop);
    let facts = |id: NodeId| {
        let look = &looks[&id];
        let fault = || look.attempts.iter().find_map(|attempt| attempt.fault.as_ref());
        look.facts.as_deref().with_context(|| {
            let why = fault().map_or("it did not answer".to_owned(), ToString::to_string);
            format!("{} cannot be read: {why}", loaded.topology.nodes[id].name)
        })
    };
    let (there, source) = (facts(node)?, facts(from)?);
    let rows = compared(loaded, asked, stop)?;
    let opener = NodeOpener::new(loaded, asked.wait, asked.wait, stop);
    let open = |node: NodeId, address: &_| opener.look_in(node, address);
    let request = looking::InspectRequest {
        topology: &loaded.topology,
        nodes: NodeSet::of(from),
        tables: &[],
        open: &open,
        wait: asked.wait,
    };
    let log = looking::log_reach(&request, from, asked.since);
    if let Err(fault) = &log
        && fault.kind == FaultKind::Position
    {
        bail!("--snapshot: {fault}");
    }
    let joining = join::join(&loaded.topology, &looks, (node, there), (from, source), rows, log);
    Ok((joining, clock.elapsed()))
}

/// The rows of both, table by table, as if one link led from the source to the node.
fn compared(
    loaded: &Loaded,
    asked: &Join<'_>,
    stop: &Stop,
) -> Result<Vec<(String, Observed<JoinComparison>)>> {
    let mut pair = Loaded {
        topology: loaded.topology.clone(),
        base: loaded.base.clone(),
        digest: loaded.digest.clone(),
        text: loaded.text.clone(),
    };
    let topology = &mut pair.topology;
    let carried = |set: usize| {
        let carriers = loaded.topology.carriers(set);
        carriers.contains(&asked.node) || carriers.contains(&asked.from)
    };
    topology.links = vec![Link {
        from: asked.from,
        to: asked.node,
        carries: (0..topology.sets.len()).filter(|set| carried(*set)).collect(),
        delay: None,
    }];
    topology.nodes[asked.from].writes = true;
    topology.nodes[asked.node].writes = false;
    let scope = app::scope::AuditScope {
        nodes: NodeSet::of(asked.node) | NodeSet::of(asked.from),
        wait: asked.wait,
        patience: Duration::ZERO, // no link between the two is meant to carry anything yet
        ..app::scope::AuditScope::whole()
    };
    let mut counting = HolderCounts { node: asked.node, from: asked.from, tables: Vec::new() };
    app::audit::run(&pair, &scope, &mut counting, stop, false)?.unbroken()?;
    Ok(counting.tables)
}

/// The rows of both, table by table, as their links leave them: what is on its way is no difference.
pub(crate) fn compared_behind_links(
    loaded: &Loaded,
    (node, from): (NodeId, NodeId),
    scope: &app::scope::AuditScope,
    stop: &Stop,
) -> Result<Vec<(String, Observed<JoinComparison>)>> {
    // What others have not passed on yet can be told only if they are looked at, too.
    let scope = app::scope::AuditScope { nodes: NodeSet::ALL, ..scope.clone() };
    let mut counting = HolderCounts { node, from, tables: Vec::new() };
    app::audit::run(loaded, &scope, &mut counting, stop, false)?.unbroken()?;
    Ok(counting.tables)
}

/// Counts who holds what of each table.
struct HolderCounts {
    node: NodeId,
    from: NodeId,
    tables: Vec<(String, Observed<JoinComparison>)>,
}

impl HolderCounts {
    /// Both have the same, whatever others have.
    fn is_alike(&self, row: &DivergentRow) -> bool {
        let both = |nodes: &[NodeId]| nodes.contains(&self.node) && nodes.contains(&self.from);
        row.versions.iter().any(|version| both(&version.nodes))
    }
}

impl AuditSink for HolderCounts {
    fn table(&mut self, head: &TableHead<'_>) -> ControlFlow<()> {
        // A table of several sets is compared once for each of them.
        let sets = &head.topology.sets;
        let several =
            sets.iter().filter(|set| set.tables.iter().any(|t| t == head.table)).count() > 1;
        let name = if several {
            format!("{} ({})", head.table, sets[head.set].name)
        } else {
            head.table.to_owned()
        };
        self.tables.push((name, Ok(JoinComparison::default())));
        ControlFlow::Continue(())
    }

    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        if self.is_alike(&row) {
            return ControlFlow::Continue(());
        }
        let count = |node: NodeId| {
            let held = row.versions.iter().filter(|v| v.row.is_some() && v.nodes.contains(&node));
            held.map(|version| version.count).sum::<u64>()
        };
        let (here, there) = (count(self.node), count(self.from));
        if let Some((_, Ok(held))) = self.tables.last_mut() {
            match (here, there) {
                (0, there) => held.only_there += there,
                (here, 0) => held.only_here += here,
                // Rows without a key are counted: what one has more of.
                (1, 1) => held.otherwise += 1,
                (here, there) => {
                    held.only_here += here.saturating_sub(there);
                    held.only_there += there.saturating_sub(here);
                }
            }
        }
        ControlFlow::Continue(())
    }

    fn unsettled(&mut self, row: DivergentRow, _: RowStanding) -> ControlFlow<()> {
        // What only its source holds yet is no loss.
        let holds =
            |version: &&Version| version.row.is_some() && version.nodes.contains(&self.node);
        let differs = !self.is_alike(&row) && row.versions.iter().any(|v| holds(&v));
        if let Some((_, Ok(held))) = self.tables.last_mut() {
            held.unsettled += u64::from(differs);
        }
        ControlFlow::Continue(())
    }

    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        let fault = [self.node, self.from].iter().find_map(|node| outcome.unread.get(node));
        if let (Some((_, held)), Some(fault)) = (self.tables.last_mut(), fault) {
            *held = Err(fault.clone());
        }
        ControlFlow::Continue(())
    }
}
