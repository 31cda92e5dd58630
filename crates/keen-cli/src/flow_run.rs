//! Running a look at the links for the commands that need one.

use std::time::{Duration, Instant};

use jiff::Timestamp;
use keen_core::expectation::{Nodes, bit};
use keen_core::flow::look::{self, Marks, Sights};
use keen_core::flow::{self, Flow, Looks, State};
use keen_core::topology::NodeId;
use keen_nodes::flow::{Watch, wait_until};

use crate::audit_run::Stop;
use crate::doors::Doors;
use crate::exit::Exit;
use crate::keeping::Keeping;
use crate::load::Loaded;

/// What was asked for, checked against the topology.
#[derive(Debug, Clone)]
pub(crate) struct Asked {
    pub(crate) nodes: Nodes,
    pub(crate) left_out: Vec<String>,
    /// From the first look to the second.
    pub(crate) between: Duration,
    pub(crate) wait: Duration,
    /// Whether heartbeats are written before each look.
    pub(crate) beat: bool,
}

/// What it came to.
pub(crate) struct Outcome {
    pub(crate) started: Timestamp,
    pub(crate) took: Duration,
    /// What the second look is held against.
    pub(crate) before: Marks,
    pub(crate) sights: Sights,
    pub(crate) flow: Flow,
    /// From the first look to the second; none if the first was that of an earlier run.
    pub(crate) between: Option<Duration>,
    pub(crate) left_out: Vec<String>,
    pub(crate) stopped: bool,
}

impl Outcome {
    /// Whether every link could be judged.
    pub(crate) fn complete(&self) -> bool {
        !self.stopped && self.flow.links.iter().all(|link| link.state != State::Dark)
    }

    /// The exit code.
    pub(crate) fn exit(&self) -> Exit {
        let found = |state: State| !state.is_well() && state != State::Dark;
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
    pub(crate) fn count(&self, state: State) -> usize {
        self.flow.links.iter().filter(|link| link.state == state).count()
    }

    /// What it came to, in a sentence.
    pub(crate) fn summary(&self) -> String {
        let counts: Vec<String> = State::ALL
            .into_iter()
            .filter(|state| self.count(*state) > 0)
            .map(|state| format!("{} {}", self.count(state), state.name()))
            .collect();
        if counts.is_empty() { "no links".to_owned() } else { counts.join(", ") }
    }
}

/// Sets the rows of the nodes that are written to, each at itself, to now.
fn beat(loaded: &Loaded, asked: &Asked, doors: &Doors<'_>) {
    let Some(table) = loaded.topology.heartbeat.as_ref().filter(|_| asked.beat) else { return };
    std::thread::scope(|scope| {
        for (id, node) in loaded.topology.nodes.iter().enumerate() {
            if node.writes && asked.nodes & bit(id) != 0 {
                scope.spawn(move || {
                    let written = doors.probe(id, table).and_then(|mut at| at.beat(&node.name));
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

/// Looks twice, or once and into the ledger, and judges.
pub(crate) fn run(loaded: &Loaded, asked: &Asked, keeping: &Keeping, stop: &Stop) -> Outcome {
    let topology = &loaded.topology;
    let started = Timestamp::now();
    let clock = Instant::now();
    let (remembered, memory) = keeping.remembered(topology);
    let doors = Doors::new(loaded, asked.wait, asked.wait, stop);
    beat(loaded, asked, &doors);
    let open = |node: NodeId| doors.watch(node);
    let (mut watch, first) = Watch::begin(topology, asked.nodes, &open);
    let mut outcome = Outcome {
        started,
        took: Duration::ZERO,
        before: look::marks(&first),
        sights: first,
        flow: Flow::default(),
        between: Some(asked.between),
        left_out: asked.left_out.clone(),
        stopped: false,
    };
    if asked.between.is_zero() {
        outcome.between = None;
        outcome.before = remembered;
    } else {
        // Those that answered have been waiting for those that did not.
        let answered = outcome.sights.values().filter(|sight| sight.heard.is_ok());
        let last = answered.map(|sight| sight.at).max().unwrap_or(0);
        let since = Duration::from_micros((keen_nodes::flow::now() - last).max(0).unsigned_abs());
        let rest = asked.between.saturating_sub(since);
        outcome.stopped = !wait_until(Instant::now(), rest, &|| stop.raised());
        beat(loaded, asked, &doors);
        outcome.sights = watch.again();
    }
    let looks = Looks { before: &outcome.before, now: &outcome.sights, memory: &memory };
    outcome.flow = flow::judge(topology, looks);
    outcome.stopped |= stop.raised();
    outcome.took = clock.elapsed();
    for (node, sight) in &outcome.sights {
        if let Some(heard) = sight.heard() {
            let name = &topology.nodes[*node].name;
            tracing::debug!(node = name, statements = heard.asked, "one look");
        }
    }
    let times = (outcome.started, outcome.took);
    keeping.keep(loaded, "flow", times, (outcome.exit(), &outcome.summary()), |record| {
        record.flow(topology, &outcome.before, &outcome.sights, &outcome.flow)
    });
    outcome
}
