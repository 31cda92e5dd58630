//! Looking at the links of every node side by side, twice.

use keen_core::topology::node_set::NodeSet;
use std::collections::BTreeMap;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use keen_core::fault::ReadFault;
use keen_core::observe::links::{Micros, Observation, Observations};
use keen_core::ports::LookAtLinks;
use keen_core::topology::{NodeId, Topology};

use crate::fan_out::fan_out;

/// A node whose links can be looked at.
pub type Watched = Box<dyn LookAtLinks + Send>;

/// Opens a node at the first of its addresses that answers.
pub type OpenInspection<'a> = dyn Fn(NodeId) -> Result<Watched, ReadFault> + Sync + 'a;

/// The connections over which nodes are looked at, each kept from look to look.
pub struct NodeConnections<'a> {
    topology: &'a Topology,
    nodes: BTreeMap<NodeId, Result<Watched, ReadFault>>,
}

impl std::fmt::Debug for NodeConnections<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("NodeConnections").field("nodes", &self.nodes.keys()).finish_non_exhaustive()
    }
}

/// The work of a node's thread, for when it falls over.
const LOOKING: &str = "looking at it";

/// How often a wait looks at the stop flag.
const TICK: Duration = Duration::from_millis(20);

impl<'a> NodeConnections<'a> {
    /// Takes the first look, at all nodes at once. One that does not answer keeps the others waiting no
    /// longer than the opener lets it, and is not asked again.
    #[must_use]
    pub fn begin(
        topology: &'a Topology,
        nodes: NodeSet,
        open: &OpenInspection<'_>,
    ) -> (Self, Observations) {
        let nodes = (0..topology.nodes.len()).filter(|node| nodes.contains(*node));
        let nodes = nodes.map(|node| (node, ()));
        let looked = fan_out(nodes, LOOKING, |node, ()| enter(topology, node, open));
        let mut watch = Self { topology, nodes: BTreeMap::new() };
        let mut observations = Observations::new();
        for (node, looked) in looked {
            let (connection, observation) = looked.unwrap_or_else(|fault| {
                (Err(fault.clone()), Observation { at: now(), snapshot: Err(fault) })
            });
            watch.nodes.insert(node, connection);
            observations.insert(node, observation);
        }
        (watch, observations)
    }

    /// Looks again at those that answered before.
    #[must_use]
    pub fn again(&mut self) -> Observations {
        let tables: BTreeMap<NodeId, Vec<(String, String)>> =
            self.nodes.keys().map(|node| (*node, tables(self.topology, *node))).collect();
        let nodes = self.nodes.iter_mut().map(|(node, connection)| (*node, connection));
        let looked = fan_out(nodes, LOOKING, |node, connection| match connection {
            Ok(connection) => look(connection, &tables[&node]),
            Err(fault) => Observation { at: now(), snapshot: Err(fault.clone()) },
        });
        let mut observations = Observations::new();
        for (node, looked) in looked {
            let observation =
                looked.unwrap_or_else(|fault| Observation { at: now(), snapshot: Err(fault) });
            if let Err(fault) = &observation.snapshot {
                self.nodes.insert(node, Err(fault.clone()));
            }
            observations.insert(node, observation);
        }
        observations
    }
}

fn enter(
    topology: &Topology,
    node: NodeId,
    open: &OpenInspection<'_>,
) -> (Result<Watched, ReadFault>, Observation) {
    match open(node) {
        Ok(mut connection) => {
            let observation = look(&mut connection, &tables(topology, node));
            let kept = match &observation.snapshot {
                Ok(_) => Ok(connection),
                Err(fault) => Err(fault.clone()),
            };
            (kept, observation)
        }
        Err(fault) => (Err(fault.clone()), Observation { at: now(), snapshot: Err(fault) }),
    }
}

/// The tables of the sets that travel over a node.
fn tables(topology: &Topology, node: NodeId) -> Vec<(String, String)> {
    let mut tables: Vec<(String, String)> = Vec::new();
    for (set, content) in topology.sets.iter().enumerate() {
        if !topology.carriers(set).contains(&node) {
            continue;
        }
        for table in &content.tables {
            if !tables.iter().any(|(known, _)| known == table) {
                let local = topology.nodes[node].name_of(table).to_owned();
                tables.push((table.clone(), local));
            }
        }
    }
    tables
}

fn look(connection: &mut Watched, tables: &[(String, String)]) -> Observation {
    let began = now();
    let snapshot = connection.look_at_links(tables).map(Box::new);
    Observation { at: began, snapshot }
}

/// Waits until so long after a moment, or until it is told to stop; false if it was.
pub fn wait_until(since: Instant, wait: Duration, stop: &dyn Fn() -> bool) -> bool {
    while since.elapsed() < wait {
        if stop() {
            return false;
        }
        std::thread::sleep(TICK.min(wait.saturating_sub(since.elapsed())));
    }
    !stop()
}

/// The present moment by our own clock.
#[must_use]
pub fn now() -> Micros {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_micros()).unwrap_or(i64::MAX)
}
