//! Writing a marked row at each writer in turn, and watching for it everywhere.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use keen_core::engine::service_tables::{self, Stage, reached};
use keen_core::fault::ReadFault;
use keen_core::ports::WriteProbe;
use keen_core::topology::{NodeId, Topology};

/// A node at which the row can be written and looked for.
pub type Probed = Box<dyn WriteProbe + Send>;

/// A request for a probe.
pub struct ProbeRequest<'a> {
    /// The topology.
    pub topology: &'a Topology,
    /// The table, as the sets name it.
    pub table: &'a str,
    /// The writers, in order.
    pub writers: &'a [NodeId],
    /// For how long each stage is waited for.
    pub limit: Duration,
    /// When this run began, in microseconds since 1970.
    pub began: i64,
    /// Asked now and then; true ends the probe, which then still cleans up.
    pub stop: &'a dyn Fn() -> bool,
}

/// The journey of one writer's row.
#[derive(Debug, Clone, Default)]
pub struct Journey {
    /// Why it could not be written.
    pub fault: Option<ReadFault>,
    /// By node and stage, how long it took to be seen there; none if it never was.
    pub arrived: BTreeMap<(NodeId, Stage), Option<Duration>>,
    /// Nodes that could not be looked at, and why.
    pub unseen: BTreeMap<NodeId, ReadFault>,
    /// Nodes where the row still was when everything was over.
    pub left_over: Vec<NodeId>,
}

/// A row of a run that did not take it away itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftBehind {
    /// Its id.
    pub id: String,
    /// When its run began, in microseconds since 1970.
    pub began: i64,
    /// Where it is, or was.
    pub on: Vec<NodeId>,
    /// It was taken away where it had been made, and goes from everywhere with that. Else it may be of a run that
    /// is still at work, or stands where it was not made.
    pub taken_away: bool,
}

/// A run that began so long ago is not at work any more, in microseconds.
const OVER: i64 = 10 * 60 * 1_000_000;

/// Looks for rows that earlier runs left behind, and takes away those of runs that are over; `before` is told of
/// each of these first.
#[must_use]
pub fn left_behind(
    request: &ProbeRequest<'_>,
    nodes: &mut BTreeMap<NodeId, Result<Probed, ReadFault>>,
    before: &dyn Fn(&LeftBehind, NodeId),
) -> Vec<LeftBehind> {
    let mut found: BTreeMap<String, LeftBehind> = BTreeMap::new();
    for (node, there) in nodes.iter_mut() {
        let Ok(there) = there else { continue };
        // What cannot be read now is told when the row is written.
        for id in there.ids().unwrap_or_default() {
            let Some((began, _)) = service_tables::read_id(&id) else { continue };
            let row = found.entry(id.clone()).or_insert(LeftBehind {
                id,
                began,
                on: Vec::new(),
                taken_away: false,
            });
            row.on.push(*node);
        }
    }
    let mut found: Vec<LeftBehind> = found.into_values().collect();
    for row in found.iter_mut().filter(|row| row.began < request.began - OVER) {
        let name = service_tables::read_id(&row.id).map_or("", |(_, writer)| writer);
        let writer = request.topology.nodes.iter().position(|node| node.name == name);
        let writer = writer.filter(|writer| row.on.contains(writer));
        let taken = writer.map(|writer| {
            before(row, writer);
            at(nodes, writer).and_then(|there| there.write(&row.id, name, Stage::Delete))
        });
        row.taken_away = matches!(taken, Some(Ok(())));
    }
    found
}

/// From one look for the row to the next: first often, then less so.
const SOONEST: Duration = Duration::from_millis(2);
const SLOWEST: Duration = Duration::from_millis(100);
/// For how long what was taken away is watched to go everywhere, when the run was cut short.
const GOING: Duration = Duration::from_secs(2);

/// Probes each writer. The nodes are those that could be opened; what is missing among them is unseen.
#[must_use]
pub fn run(
    request: &ProbeRequest<'_>,
    nodes: &mut BTreeMap<NodeId, Result<Probed, ReadFault>>,
) -> BTreeMap<NodeId, Journey> {
    let mut journeys = BTreeMap::new();
    for writer in request.writers {
        if (request.stop)() {
            break;
        }
        journeys.insert(*writer, one(request, *writer, nodes));
    }
    journeys
}

fn one(
    request: &ProbeRequest<'_>,
    writer: NodeId,
    nodes: &mut BTreeMap<NodeId, Result<Probed, ReadFault>>,
) -> Journey {
    let mut journey = Journey::default();
    let name = &request.topology.nodes[writer].name;
    let id = service_tables::id(request.began, std::process::id(), name);
    let wanted = reached(request.topology, request.table, writer);
    for node in &wanted {
        if let Some(Err(fault)) = nodes.get(node) {
            journey.unseen.insert(*node, fault.clone());
        }
    }
    let mut written = false;
    for stage in Stage::ALL {
        let began = Instant::now();
        match at(nodes, writer).and_then(|there| there.write(&id, name, stage)) {
            Ok(()) => written = true,
            Err(fault) => {
                journey.fault = Some(fault);
                break;
            }
        }
        wait(request, &id, stage, began, &wanted, nodes, &mut journey);
        if (request.stop)() {
            break;
        }
    }
    if written {
        clean_up(&id, name, writer, &wanted, nodes, &mut journey);
    }
    journey
}

fn at(
    nodes: &mut BTreeMap<NodeId, Result<Probed, ReadFault>>,
    node: NodeId,
) -> Result<&mut Probed, ReadFault> {
    match nodes.get_mut(&node) {
        Some(Ok(there)) => Ok(there),
        Some(Err(fault)) => Err(fault.clone()),
        None => Err(ReadFault::new("the node was left out", "name it with --node")),
    }
}

/// Waits until the row is everywhere as a stage leaves it.
fn wait(
    request: &ProbeRequest<'_>,
    id: &str,
    stage: Stage,
    began: Instant,
    wanted: &[NodeId],
    nodes: &mut BTreeMap<NodeId, Result<Probed, ReadFault>>,
    journey: &mut Journey,
) {
    let mut missing: Vec<NodeId> =
        wanted.iter().copied().filter(|node| !journey.unseen.contains_key(node)).collect();
    let mut pause = SOONEST;
    loop {
        missing.retain(|node| match at(nodes, *node).and_then(|there| there.find(id)) {
            Ok(found) if found.as_deref() == stage.mark() => {
                journey.arrived.insert((*node, stage), Some(began.elapsed()));
                false
            }
            Ok(_) => true,
            Err(fault) => {
                journey.unseen.insert(*node, fault);
                false
            }
        });
        if missing.is_empty() || began.elapsed() >= request.limit || (request.stop)() {
            break;
        }
        std::thread::sleep(pause);
        pause = (pause * 2).min(SLOWEST);
    }
    for node in missing {
        journey.arrived.insert((node, stage), None);
    }
}

/// Takes the row away where it was made, whatever happened, and says where it still is.
fn clean_up(
    id: &str,
    name: &str,
    writer: NodeId,
    wanted: &[NodeId],
    nodes: &mut BTreeMap<NodeId, Result<Probed, ReadFault>>,
    journey: &mut Journey,
) {
    let began = Instant::now();
    loop {
        journey.left_over.clear();
        for node in std::iter::once(writer).chain(wanted.iter().copied()) {
            let Ok(there) = at(nodes, node) else { continue };
            if matches!(there.find(id), Ok(Some(_))) {
                if node == writer {
                    drop(there.write(id, name, Stage::Delete));
                }
                journey.left_over.push(node);
            }
        }
        if journey.left_over.is_empty() || began.elapsed() > GOING {
            break;
        }
        std::thread::sleep(SLOWEST);
    }
}
