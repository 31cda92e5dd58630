//! `keen flow`.

use std::io::Write as _;

use anyhow::{Context, Result, bail};
use keen_core::expectation::bit;
use keen_core::topology::{NodeId, Topology};

use super::for_people;
use crate::args::{FlowArgs, ReportFormat};
use crate::audit_run::{Scope, Stop};
use crate::exit::Exit;
use crate::flow_run::{self, Asked};
use crate::keeping::Keeping;
use crate::load;
use crate::output::{CANNOT, Output};
use crate::render::{flow_json, flow_text};
use crate::terminal::Terminal;

pub(crate) fn run(args: &FlowArgs, terminal: Terminal) -> Result<Exit> {
    let loaded = load::topology(&args.topology, terminal)?;
    let topology = &loaded.topology;
    let mut chosen = Scope::chosen(topology, &args.nodes, &[])?;
    let shown = args.shown.as_deref().map(|name| shown(topology, name)).transpose()?;
    if let Some(Shown::Link(from, to)) = shown
        && args.nodes.is_empty()
    {
        chosen.nodes = bit(from) | bit(to);
    }
    let asked = Asked {
        nodes: chosen.nodes,
        left_out: if shown.is_some() { Vec::new() } else { chosen.left_out(topology) },
        between: args.between,
        wait: args.wait,
    };
    let mut out = Output::open(args.output.as_deref(), terminal.stdout())?;
    let keeping = Keeping::new(&args.ledger, &args.topology);
    let outcome = flow_run::run(&loaded, &asked, &keeping, &Stop::on_signal());
    let text = match args.format {
        ReportFormat::Json => flow_json::write(topology, &outcome)?,
        ReportFormat::Text => for_people(args.output.as_deref(), terminal, |columns| match shown {
            Some(shown) => flow_text::in_full(topology, &outcome, shown, columns),
            None => flow_text::write(topology, &outcome, columns),
        }),
    };
    out.write_all(text.as_bytes()).context(CANNOT)?;
    out.finish()?;
    Ok(outcome.exit())
}

/// What is to be shown in full.
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
        Scope::chosen(topology, &[name.to_owned()], &[])?;
        topology.node(name).context("the node was there a moment ago")
    };
    Ok(Shown::Link(node(from)?, node(to)?))
}
