//! Running a look at the links for the commands that need one.

use keen_core::topology::node_set::NodeSet;
use keen_run::ledger::RunRecord;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use keen_core::links::fence::Fence;
use keen_core::links::{self, Flow, Lateness, LinkFlow, LinkState, Looks};
use keen_core::observe;
use keen_core::observe::links::{Marks, Observations};
use keen_core::observe::node::ReplicationKind;
use keen_core::topology::NodeId;
use keen_run::links::{NodeConnections, wait_until};
use keen_run::owed;

use crate::app::open_node::NodeOpener;
use crate::app::run_log::RunLog;
use crate::app::stop::Stop;
use crate::app::topology_file::Loaded;
use crate::exit::Exit;

/// A request for a search, checked against the topology.
#[derive(Debug, Clone)]
pub(crate) struct LinksRequest {
    pub(crate) nodes: NodeSet,
    pub(crate) left_out: Vec<String>,
    /// From the first look to the second.
    pub(crate) between: Duration,
    pub(crate) wait: Duration,
    /// Whether heartbeats are written before each look.
    pub(crate) beat: bool,
}

/// The result of a run.
pub(crate) struct FlowOutcome {
    pub(crate) started: Timestamp,
    pub(crate) took: Duration,
    /// The first look, which the second is held against.
    pub(crate) before: Marks,
    pub(crate) observations: Observations,
    pub(crate) flow: Flow,
    /// From the first look to the second; none if the first was that of an earlier run.
    pub(crate) between: Option<Duration>,
    pub(crate) left_out: Vec<String>,
    pub(crate) stopped: bool,
}

impl FlowOutcome {
    /// Whether every link could be judged.
    pub(crate) fn complete(&self) -> bool {
        !self.stopped && self.flow.links.iter().all(|link| link.state != LinkState::Dark)
    }

    /// The exit code.
    pub(crate) fn exit(&self) -> Exit {
        let found = |state: LinkState| !state.is_well() && state != LinkState::Dark;
        if self.stopped {
            Exit::Interrupted
        } else if self.flow.links.iter().any(|link| found(link.state))
            || !self.flow.writing.is_empty()
        {
            Exit::Found
        } else if self.complete() {
            Exit::Agree
        } else {
            Exit::Incomplete
        }
    }

    /// How many links are in a state.
    pub(crate) fn count(&self, state: LinkState) -> usize {
        self.flow.links.iter().filter(|link| link.state == state).count()
    }

    /// The result in a sentence.
    pub(crate) fn summary(&self) -> String {
        let counts: Vec<String> = LinkState::ALL
            .into_iter()
            .filter(|state| self.count(*state) > 0)
            .map(|state| format!("{} {}", self.count(state), state.name()))
            .collect();
        let counts = if counts.is_empty() { "no links".to_owned() } else { counts.join(", ") };
        if self.stopped { format!("{counts}, stopped before the second look") } else { counts }
    }
}

/// Sets the rows of the nodes that are written to, each at itself, to now.
fn beat(loaded: &Loaded, asked: &LinksRequest, opener: &NodeOpener<'_>) {
    let Some(table) = loaded.topology.heartbeat.as_ref().filter(|_| asked.beat) else { return };
    std::thread::scope(|scope| {
        for (id, node) in loaded.topology.nodes.iter().enumerate() {
            if node.writes && asked.nodes.contains(id) {
                scope.spawn(move || {
                    let written = opener.probe(id, table).and_then(|mut at| at.beat(&node.name));
                    if let Err(fault) = written {
                        tracing::warn!(
                            "no heartbeat of {}: {}",
                            node.name,
                            crate::safe::text(&fault.to_string())
                        );
                    }
                });
            }
        }
    });
}

/// Names the first transaction that a receiver lacks where a link does not carry, and since when it does.
fn name_what_is_lacking(
    loaded: &Loaded,
    asked: &LinksRequest,
    stop: &Stop,
    outcome: &mut FlowOutcome,
) {
    let topology = &loaded.topology;
    let passing = Fence::at(&outcome.observations).passing(topology, &outcome.observations);
    let opener = NodeOpener::new(loaded, asked.wait, asked.wait, stop);
    let began = Instant::now();
    let over = || stop.raised() || began.elapsed() > asked.wait;
    let behind = |link: &&mut LinkFlow| {
        !link.state.is_well()
            && link.state != LinkState::Trailing
            && link.means != Some(ReplicationKind::Streaming)
    };
    std::thread::scope(|scope| {
        for link in outcome.flow.links.iter_mut().filter(behind) {
            let ends = link.from.zip(link.to);
            let Some((ends, waiting)) = ends.and_then(|e| Some((e, passing.waiting.get(&e)?)))
            else {
                continue;
            };
            let (opener, over) = (&opener, &over);
            scope.spawn(move || {
                let open = |node: NodeId| opener.open(node);
                let journal =
                    |node: NodeId, tables: &[(String, String)]| opener.journal(node, tables);
                match owed::first(topology, ends, waiting, &open, &journal, over) {
                    Ok(first) => link.first_owed = first.map(|first| first.told()),
                    Err(why) => link.first_unread = Some(why),
                }
            });
        }
    });
    // The stand-in's times are those of a story, and no measure of how late it is now.
    let by_a_clock = |link: &&mut LinkFlow| link.means != Some(ReplicationKind::StandIn);
    for link in outcome.flow.links.iter_mut().filter(by_a_clock) {
        let since = link.first_owed.as_ref().and_then(|first| first.committed_at);
        let age = since.map(|since| (keen_run::links::now() - since).max(0).unsigned_abs());
        let age = age.map(Duration::from_micros);
        let by = age.map(|age| age.saturating_sub(link.delay.unwrap_or_default()));
        // A clock that lags behind ours would make it later than it is: only what is more than was seen counts.
        if let (Some(by), Some(late)) = (by, link.late.filter(|late| late.at_least))
            && by > late.by
        {
            link.late = Some(Lateness { by, at_least: false });
        }
    }
}

/// Looks twice, or once and into the ledger, and judges.
pub(crate) fn run(
    loaded: &Loaded,
    asked: &LinksRequest,
    keeping: &RunLog,
    stop: &Stop,
) -> FlowOutcome {
    let topology = &loaded.topology;
    let started = Timestamp::now();
    let clock = Instant::now();
    let (remembered, mut memory) = keeping.remembered(topology);
    let opener = NodeOpener::new(loaded, asked.wait, asked.wait, stop);
    beat(loaded, asked, &opener);
    let open = |node: NodeId| opener.watch(node);
    let (mut watch, first) = NodeConnections::begin(topology, asked.nodes, &open);
    let mut outcome = FlowOutcome {
        started,
        took: Duration::ZERO,
        before: observe::links::marks(&first),
        observations: first,
        flow: Flow::default(),
        between: Some(asked.between),
        left_out: asked.left_out.clone(),
        stopped: false,
    };
    if asked.between.is_zero() {
        outcome.between = None;
        outcome.before.clone_from(&remembered);
    } else {
        // Those that answered have been waiting for those that did not.
        let answered =
            outcome.observations.values().filter(|observation| observation.snapshot.is_ok());
        let last = answered.map(|observation| observation.at).max().unwrap_or(0);
        let since = Duration::from_micros((keen_run::links::now() - last).max(0).unsigned_abs());
        let rest = asked.between.saturating_sub(since);
        outcome.stopped = !wait_until(Instant::now(), rest, &|| stop.raised());
        beat(loaded, asked, &opener);
        outcome.observations = watch.again();
    }
    memory.anew.extend(observe::links::slots_anew(&remembered, &outcome.observations));
    let looks = Looks { before: &outcome.before, now: &outcome.observations, memory: &memory };
    outcome.flow = links::judge(topology, looks);
    if !outcome.stopped {
        name_what_is_lacking(loaded, asked, stop, &mut outcome);
    }
    outcome.stopped |= stop.raised();
    outcome.took = clock.elapsed();
    for (node, observation) in &outcome.observations {
        if let Some(snapshot) = observation.snapshot() {
            let name = &topology.nodes[*node].name;
            tracing::debug!(node = name, statements = snapshot.asked, "one look");
        }
    }
    let times = (outcome.started, outcome.took);
    let record =
        RunRecord::of_flow(topology, &outcome.before, &outcome.observations, &outcome.flow);
    keeping.keep(loaded, "flow", times, (outcome.exit(), &outcome.summary()), &record);
    outcome
}
