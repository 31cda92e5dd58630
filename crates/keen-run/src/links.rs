//! Looking at the links of every node side by side, twice.

use std::collections::BTreeMap;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use keen_core::fault::ReadFault;
use keen_core::observe::links::{Micros, Observation, Observations};
use keen_core::ports::LookAtLinks;
use keen_core::topology::placement::{Nodes, bit};
use keen_core::topology::{NodeId, Topology};

/// A node whose links can be looked at.
pub type Watched = Box<dyn LookAtLinks + Send>;

/// Opens a node at the first of its addresses that answers.
pub type Opener<'a> = dyn Fn(NodeId) -> Result<Watched, ReadFault> + Sync + 'a;

/// The connections over which nodes are looked at, each kept from look to look.
pub struct Watch<'a> {
    topology: &'a Topology,
    nodes: BTreeMap<NodeId, Result<Watched, ReadFault>>,
}

impl std::fmt::Debug for Watch<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Watch").field("nodes", &self.nodes.keys()).finish_non_exhaustive()
    }
}

/// How often a wait looks at the stop flag.
const TICK: Duration = Duration::from_millis(20);

impl<'a> Watch<'a> {
    /// Takes the first look, at all nodes at once. One that does not answer keeps the others waiting no
    /// longer than the opener lets it, and is not asked again.
    #[must_use]
    pub fn begin(topology: &'a Topology, nodes: Nodes, open: &Opener<'_>) -> (Self, Observations) {
        let looked = std::thread::scope(|scope| {
            let looking: Vec<_> = (0..topology.nodes.len())
                .filter(|node| nodes & bit(*node) != 0)
                .map(|node| (node, scope.spawn(move || enter(topology, node, open))))
                .collect();
            let mut looked = Vec::new();
            for (node, thread) in looking {
                looked.push((node, thread.join().unwrap_or_else(|_| fell_over())));
            }
            looked
        });
        let mut watch = Self { topology, nodes: BTreeMap::new() };
        let mut sights = Observations::new();
        for (node, (connection, sight)) in looked {
            watch.nodes.insert(node, connection);
            sights.insert(node, sight);
        }
        (watch, sights)
    }

    /// Looks again at those that answered before.
    #[must_use]
    pub fn again(&mut self) -> Observations {
        let tables: BTreeMap<NodeId, Vec<(String, String)>> =
            self.nodes.keys().map(|node| (*node, tables(self.topology, *node))).collect();
        let looked: Vec<(NodeId, Observation)> = std::thread::scope(|scope| {
            let looking: Vec<_> = self
                .nodes
                .iter_mut()
                .map(|(node, connection)| {
                    let tables = &tables[node];
                    let looking = scope.spawn(move || match connection {
                        Ok(connection) => look(connection, tables),
                        Err(fault) => Observation { at: now(), heard: Err(fault.clone()) },
                    });
                    (*node, looking)
                })
                .collect();
            let mut looked = Vec::new();
            for (node, thread) in looking {
                looked.push((node, thread.join().unwrap_or_else(|_| fell_over().1)));
            }
            looked
        });
        for (node, sight) in &looked {
            if let Err(fault) = &sight.heard {
                self.nodes.insert(*node, Err(fault.clone()));
            }
        }
        looked.into_iter().collect()
    }
}

fn enter(
    topology: &Topology,
    node: NodeId,
    open: &Opener<'_>,
) -> (Result<Watched, ReadFault>, Observation) {
    match open(node) {
        Ok(mut connection) => {
            let sight = look(&mut connection, &tables(topology, node));
            let kept = match &sight.heard {
                Ok(_) => Ok(connection),
                Err(fault) => Err(fault.clone()),
            };
            (kept, sight)
        }
        Err(fault) => (Err(fault.clone()), Observation { at: now(), heard: Err(fault) }),
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
    let heard = connection.look_at_links(tables).map(Box::new);
    Observation { at: began, heard }
}

fn fell_over() -> (Result<Watched, ReadFault>, Observation) {
    let fault = crate::fell_over("looking at it");
    (Err(fault.clone()), Observation { at: now(), heard: Err(fault) })
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
