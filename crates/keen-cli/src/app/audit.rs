//! Running an audit for the commands that need one.

use super::scope::AuditScope;
use super::stop::Stop;
use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::time::{Duration, Instant};

use anyhow::{Result, bail};
use jiff::Timestamp;
use keen_core::audit::merge::{DivergentRow, RowStanding};
use keen_core::topology::{NodeId, Topology};
use keen_run::audit::recheck::{self, Fencing};
use keen_run::audit::{
    self, AuditRequest, AuditSink, NodeOutcome, TableHead, TableOutcome, Verdict,
};
use keen_run::ledger::Audited;

use crate::app::open_node::NodeOpener;
use crate::app::topology_file::Loaded;
use crate::exit::Exit;
use crate::numbers::counted;
use crate::progress::Progress;

/// The result of a whole audit.
#[derive(Debug, Clone)]
pub(crate) struct Totals {
    pub(crate) started: Timestamp,
    pub(crate) took: Duration,
    pub(crate) nodes: BTreeMap<NodeId, NodeOutcome>,
    pub(crate) left_out: Vec<String>,
    pub(crate) agree: u64,
    pub(crate) diverge: u64,
    pub(crate) unread: u64,
    pub(crate) rows: u64,
    pub(crate) divergent: u64,
    /// Tables in which rows differ, none of them settled.
    pub(crate) unsettled: u64,
    /// Rows that differ while something was on its way.
    pub(crate) in_flight: u64,
    /// Rows that were being written to.
    pub(crate) moving: u64,
    /// Rows that were equal when looked at again.
    pub(crate) healed: u64,
    /// Tables that were not read on every node that carries them, as (set, table).
    pub(crate) incomplete: u64,
    pub(crate) stopped: bool,
    /// Why it could not be brought to its end.
    pub(crate) broken: Option<String>,
    /// Links that stood still, as (from, to).
    pub(crate) standing_still: Vec<(NodeId, NodeId)>,
    /// The result of each table, as the ledger keeps it.
    pub(crate) audited: Vec<Audited>,
}

impl Totals {
    /// The links that stood still, in a sentence; none if there are none.
    pub(crate) fn standing_still(&self, topology: &Topology) -> Option<String> {
        let name = |node: &NodeId| &topology.nodes[*node].name;
        let links: Vec<String> = (self.standing_still.iter())
            .map(|(from, to)| format!("{} -> {}", name(from), name(to)))
            .collect();
        let (stand, sources) =
            if links.len() == 1 { ("stands", "its source") } else { ("stand", "their sources") };
        (!links.is_empty()).then(|| {
            format!(
                "{} {stand} still: what is written at {sources} does not arrive. keen flow says why.",
                links.join(", ")
            )
        })
    }

    /// The tables that nodes keep and no set has, in a sentence; none if there are none.
    pub(crate) fn in_no_set(&self, topology: &Topology) -> Option<String> {
        const NAMED: usize = 3;
        let mut tables: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
        for (node, outcome) in &self.nodes {
            for table in outcome.in_no_set.iter().flatten() {
                tables.entry(table).or_default().push(&topology.nodes[*node].name);
            }
        }
        let mut names: Vec<String> = (tables.iter().take(NAMED))
            .map(|(table, nodes)| format!("{table} on {}", nodes.join(", ")))
            .collect();
        if tables.len() > NAMED {
            names.push(format!("{} more", tables.len() - NAMED));
        }
        let (are, were) = if tables.len() == 1 { ("is", "it was") } else { ("are", "they were") };
        (!tables.is_empty()).then(|| {
            format!(
                "{} {are} in no set, so {were} not compared: {}.",
                counted(tables.len() as u64, "table", "tables"),
                names.join("; ")
            )
        })
    }

    /// The same, unless it could not be brought to its end: for whoever has written nothing yet.
    pub(crate) fn unbroken(self) -> Result<Self> {
        match self.broken {
            Some(why) => bail!(why),
            None => Ok(self),
        }
    }

    /// Everything that was asked for was read to its end, and no row is unsettled.
    pub(crate) fn complete(&self) -> bool {
        !self.stopped
            && self.broken.is_none()
            && self.incomplete == 0
            && self.in_flight + self.moving == 0
    }

    /// Tables looked at.
    pub(crate) fn tables(&self) -> u64 {
        self.agree + self.diverge + self.unread + self.unsettled
    }

    /// The result in a sentence.
    pub(crate) fn summary(&self) -> String {
        let mut parts = vec![format!("{} of {} tables agree", self.agree, self.tables())];
        for (count, what) in [
            (self.divergent, "divergent"),
            (self.in_flight, "in flight"),
            (self.moving, "moving"),
            (self.healed, "healed"),
        ] {
            if count > 0 {
                parts.push(format!("{count} {what}"));
            }
        }
        if self.incomplete > 0 {
            parts.push(format!("{} not read everywhere", self.incomplete));
        }
        if self.stopped || self.broken.is_some() {
            parts.push("stopped before the end".to_owned());
        }
        parts.join(", ")
    }

    /// The exit code.
    pub(crate) fn exit(&self) -> Exit {
        if self.stopped {
            Exit::Interrupted
        } else if self.divergent > 0 {
            Exit::Found
        } else if self.complete() {
            Exit::Agree
        } else {
            Exit::Incomplete
        }
    }
}

/// Runs an audit into `sink`, with progress on the terminal.
pub(crate) fn run(
    loaded: &Loaded,
    scope: &AuditScope,
    sink: &mut dyn AuditSink,
    stop: &Stop,
    progress_on_terminal: bool,
) -> Result<Totals> {
    if scope.nodes.len() == 1 {
        bail!("one node alone cannot be compared: name at least two with --node");
    }
    let topology = &loaded.topology;
    let started = Timestamp::now();
    let clock = Instant::now();
    let opener = NodeOpener::new(loaded, scope.wait, scope.silence, stop);
    let open = |node: NodeId| opener.open(node);
    let request = AuditRequest {
        topology,
        nodes: scope.nodes,
        tables: &scope.tables,
        function: scope.function,
        rate: scope.rate,
        threads: scope.threads,
        only: &BTreeMap::new(),
        open: &open,
        stop: &|| stop.raised(),
    };
    // Before a word of a result is written.
    if !audit::compares_anything(&request) {
        bail!("nothing to compare: none of the chosen tables is on two of the chosen nodes");
    }
    let mut counting = ProgressSink {
        topology,
        sink,
        progress: Progress::new(progress_on_terminal),
        totals: Totals {
            started,
            took: Duration::ZERO,
            nodes: BTreeMap::new(),
            left_out: scope.left_out(topology),
            agree: 0,
            diverge: 0,
            unread: 0,
            rows: 0,
            divergent: 0,
            unsettled: 0,
            in_flight: 0,
            moving: 0,
            healed: 0,
            incomplete: 0,
            stopped: false,
            broken: None,
            standing_still: Vec::new(),
            audited: Vec::new(),
        },
    };
    // What is asked of links is light: whoever does not answer it soon is not waited for.
    let light_opener = NodeOpener::new(loaded, scope.wait, scope.wait, stop);
    let fencing = Fencing {
        watch: &|node: NodeId| light_opener.watch(node),
        patience: scope.patience,
        settle: topology.limits.settle,
        journal: &|node, tables| opener.journal(node, tables),
    };
    let outcome = if scope.patience.is_zero() {
        audit::run(&request, &mut counting)
    } else {
        recheck::run(&request, &fencing, &mut counting)
    };
    counting.progress.done();
    let mut totals = counting.totals;
    totals.nodes = outcome.nodes;
    totals.standing_still = outcome.standing_still;
    totals.stopped = stop.raised();
    totals.took = clock.elapsed();
    totals.broken = outcome.broken.map(|error| {
        format!(
            "rows that differ cannot be stored until they are read again ({error}): temporary files need space in the folder that TMPDIR names"
        )
    });
    Ok(totals)
}

/// Counts and draws progress on the way to the sink that was asked for.
struct ProgressSink<'a> {
    topology: &'a Topology,
    sink: &'a mut dyn AuditSink,
    progress: Progress,
    totals: Totals,
}

impl AuditSink for ProgressSink<'_> {
    fn opened(&mut self, nodes: &BTreeMap<NodeId, NodeOutcome>, estimated_keys: u64) {
        for (id, node) in nodes {
            let name = &self.topology.nodes[*id].name;
            match &node.fault {
                Some(fault) => tracing::debug!(node = name, %fault, "not read"),
                None => tracing::debug!(node = name, about = node.about, "opened"),
            }
        }
        self.progress.expect(estimated_keys);
        self.sink.opened(nodes, estimated_keys);
    }

    fn in_any_order(&self) -> bool {
        self.sink.in_any_order()
    }

    fn waiting(&mut self, head: &TableHead<'_>, rows: u64) -> ControlFlow<()> {
        self.sink.waiting(head, rows)
    }

    fn settled(&mut self, head: &TableHead<'_>, row: DivergentRow) -> ControlFlow<()> {
        self.sink.settled(head, row)
    }

    fn table(&mut self, head: &TableHead<'_>) -> ControlFlow<()> {
        self.progress.table(head.table);
        self.totals.audited.push(Audited {
            set: self.topology.sets[head.set].name.clone(),
            table: head.table.to_owned(),
            ..Audited::default()
        });
        self.sink.table(head)
    }

    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        self.sink.divergent(row)
    }

    fn unsettled(&mut self, row: DivergentRow, standing: RowStanding) -> ControlFlow<()> {
        self.sink.unsettled(row, standing)
    }

    fn advanced(&mut self, keys: u64) {
        self.progress.advance(keys);
    }

    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        let count = match outcome.verdict {
            Verdict::Agrees => &mut self.totals.agree,
            Verdict::Diverges => &mut self.totals.diverge,
            Verdict::Unread => &mut self.totals.unread,
            Verdict::Unsettled => &mut self.totals.unsettled,
        };
        *count += 1;
        let rows = outcome.tally.balances.values().map(|balance| balance.rows).sum::<u64>();
        if let Some(audited) = self.totals.audited.last_mut() {
            let standings = &outcome.standings;
            audited.verdict = outcome.verdict.name().to_owned();
            audited.rows = rows;
            audited.divergent = outcome.tally.divergent;
            audited.in_flight = standings.in_flight;
            audited.moving = standings.moving;
            audited.healed = standings.healed;
        }
        self.totals.incomplete += u64::from(!outcome.unread.is_empty());
        self.totals.divergent += outcome.tally.divergent;
        self.totals.in_flight += outcome.standings.in_flight;
        self.totals.moving += outcome.standings.moving;
        self.totals.healed += outcome.standings.healed;
        self.totals.rows += rows;
        self.sink.table_done(outcome)
    }
}
