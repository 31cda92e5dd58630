//! A node or a link, by the name that somebody gave.

use anyhow::{Context, Result, bail};
use keen_core::topology::{NodeId, Topology};

use super::scope::AuditScope;

/// The subject that is to be shown in full.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Shown {
    /// Every link of a node.
    Node(NodeId),
    /// The links from one node to another.
    Link(NodeId, NodeId),
}

/// A node by its name, or a link as `FROM:TO`.
pub(crate) fn shown(topology: &Topology, name: &str) -> Result<Shown> {
    if let Some(node) = topology.node(name) {
        return Ok(Shown::Node(node));
    }
    let ends = name.split_once("->").or_else(|| name.split_once(':'));
    let ends = ends.map(|(from, to)| (from.trim(), to.trim()));
    let Some((from, to)) = ends else {
        let known: Vec<&str> = topology.nodes.iter().map(|node| &node.name[..]).collect();
        bail!(
            "there is no node {}: the topology has {}; a link is written FROM:TO",
            crate::safe::text(name),
            known.join(", ")
        );
    };
    let node = |name: &str| {
        AuditScope::chosen(topology, &[name.to_owned()], &[])?;
        topology.node(name).context("the node is known")
    };
    Ok(Shown::Link(node(from)?, node(to)?))
}
