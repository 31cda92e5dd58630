//! The nodes and tables that a run is about, and how it reads them.

use keen_core::topology::node_set::NodeSet;
use std::time::Duration;

use anyhow::{Result, bail};
use keen_core::row::digest::DigestFunction;
use keen_core::topology::Topology;
use keen_run::audit::Rate;

use crate::args::ScopeArgs;

/// The part of a topology that is to be audited, checked against it.
#[derive(Debug, Clone)]
pub(crate) struct AuditScope {
    pub(crate) nodes: NodeSet,
    pub(crate) tables: Vec<String>,
    pub(crate) function: DigestFunction,
    pub(crate) wait: Duration,
    pub(crate) silence: Duration,
    pub(crate) rate: Option<Rate>,
    pub(crate) threads: usize,
    /// For how long rows that differ are looked at again.
    pub(crate) patience: Duration,
    /// Tables that are left out.
    pub(crate) excluded: Vec<String>,
}

impl AuditScope {
    /// Everything, in the usual way.
    pub(crate) fn whole() -> Self {
        Self {
            nodes: NodeSet::ALL,
            tables: Vec::new(),
            function: DigestFunction::default(),
            wait: Duration::from_secs(5),
            silence: Duration::from_secs(30),
            rate: None,
            threads: 1,
            patience: Duration::from_secs(30),
            excluded: Vec::new(),
        }
    }

    /// Checks what was asked for.
    pub(crate) fn new(topology: &Topology, args: &ScopeArgs) -> Result<Self> {
        Ok(Self {
            function: args.digest.into(),
            wait: args.wait,
            silence: args.silence,
            rate: args.rate,
            threads: args.threads.into(),
            patience: args.patience,
            ..Self::chosen(topology, &args.nodes, &args.tables)?.without(topology, &args.exclude)?
        })
    }

    /// These nodes and tables, or all, in the usual way.
    pub(crate) fn chosen(topology: &Topology, nodes: &[String], tables: &[String]) -> Result<Self> {
        let mut chosen = NodeSet::EMPTY;
        for name in nodes {
            let Some(node) = topology.node(name) else {
                let known: Vec<&str> = topology.nodes.iter().map(|n| &n.name[..]).collect();
                bail!(
                    "there is no node {} in the topology; it has {}",
                    crate::safe::text(name),
                    known.join(", ")
                );
            };
            chosen.insert(node);
        }
        let known: Vec<&String> = topology.sets.iter().flat_map(|set| &set.tables).collect();
        if let Some(unknown) = tables.iter().find(|table| !known.contains(table)) {
            bail!("no set has a table {}; they have {}", crate::safe::text(unknown), names(&known));
        }
        Ok(Self {
            nodes: if chosen.is_empty() { NodeSet::ALL } else { chosen },
            tables: tables.to_vec(),
            ..Self::whole()
        })
    }

    /// The same without these tables.
    pub(crate) fn without(mut self, topology: &Topology, tables: &[String]) -> Result<Self> {
        if tables.is_empty() {
            return Ok(self);
        }
        Self::chosen(topology, &[], tables)?;
        let known = topology.sets.iter().flat_map(|set| &set.tables);
        self.tables = known.filter(|table| !tables.contains(table)).cloned().collect();
        self.tables.sort();
        self.tables.dedup();
        if self.tables.is_empty() {
            bail!("every table of the sets is excluded: nothing is left to read");
        }
        self.excluded = tables.to_vec();
        Ok(self)
    }

    /// The parts of the topology that the scope leaves out: nodes by their names, tables with that word before.
    pub(crate) fn left_out(&self, topology: &Topology) -> Vec<String> {
        let nodes = (0..topology.nodes.len())
            .filter(|n| !self.nodes.contains(*n))
            .map(|n| topology.nodes[n].name.clone());
        nodes.chain(self.excluded.iter().map(|table| format!("table {table}"))).collect()
    }
}

fn names(known: &[&String]) -> String {
    let mut known: Vec<&str> = known.iter().map(|name| &name[..]).collect();
    known.sort_unstable();
    known.dedup();
    crate::safe::text(&known.join(", "))
}
