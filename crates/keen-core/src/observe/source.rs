//! Which node of the topology a link comes from, as far as the looks tell.

use crate::observe::node::{ChangeSource, Incoming, ReplicationKind, Slot};
use crate::topology::{Address, NodeId, Topology};

/// Hints by which a node is known for a source.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct SourceHints<'a> {
    /// Its MariaDB server id.
    pub(crate) server_id: Option<&'a str>,
    /// Whether a slot that some receiver reads is here.
    pub(crate) slots: &'a [Slot],
    /// Its publications; none if they could not be seen.
    pub(crate) publications: Option<&'a [String]>,
}

/// The node that a link which leads to `to` comes from.
pub(crate) fn source_of<'a>(
    topology: &Topology,
    to: NodeId,
    link: &Incoming,
    told: &(dyn Fn(NodeId) -> Option<SourceHints<'a>> + '_),
) -> Option<NodeId> {
    let others = || (0..topology.nodes.len()).filter(|node| *node != to);
    let source: &ChangeSource = &link.source;
    if link.means == ReplicationKind::StandIn {
        return source.id.as_ref().and_then(|name| topology.node(name));
    }
    // By its own name first: an address may be seen from here otherwise than from there.
    if let Some(id) = &source.id {
        let mut named =
            others().filter(|node| told(*node).is_some_and(|told| told.server_id == Some(id)));
        if let (Some(node), None) = (named.next(), named.next()) {
            return Some(node);
        }
    }
    if let Some(address) = &source.address {
        let at = others().find(|node| has_address(topology, *node, address));
        if at.is_some() {
            return at;
        }
    }
    let slot = source.slot.as_ref()?;
    let has_slot = |node: &NodeId| {
        let slots = told(*node).map_or(&[][..], |told| told.slots);
        slots.iter().any(|s| s.name == *slot && here(s, topology, *node))
    };
    // The same name at two sources: it is the one that also has the publications.
    let candidates: Vec<NodeId> = others().filter(has_slot).collect();
    let publishes = |node: &&NodeId| match told(**node).and_then(|told| told.publications) {
        Some(publications) => link.publications.iter().all(|name| publications.contains(name)),
        None => false,
    };
    match &candidates[..] {
        [one] => Some(*one),
        many => many.iter().find(publishes).copied(),
    }
}

fn here(slot: &Slot, topology: &Topology, node: NodeId) -> bool {
    match (&slot.database, &topology.nodes[node].at) {
        (Some(database), Address::Server(server)) => *database == server.database,
        _ => true,
    }
}

fn has_address(topology: &Topology, node: NodeId, (host, port): &(String, u16)) -> bool {
    let loopback = |host: &str| {
        host == "localhost"
            || host.is_empty()
            || host.starts_with('/')
            || host.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback())
    };
    topology.nodes[node].addresses().any(|address| match address {
        Address::Server(server) => {
            server.port == *port
                && (server.host.eq_ignore_ascii_case(host)
                    || (loopback(host) && loopback(&server.host)))
        }
        Address::Sqlite(_) => false,
    })
}
