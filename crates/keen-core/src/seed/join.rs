//! Before a node is overwritten or seeded: what it holds that its source does not, whether the source's
//! log still reaches back far enough, and what to do in which order. It only says; it does nothing.

use crate::fault::ReadFault;
use std::collections::BTreeMap;

use super::steps::SeedStep;
use crate::observe::log_reach::LogReach;
use crate::observe::node::{NodeFacts, NodeInspection, Observed};
use crate::observe::position::{self, Position};
use crate::topology::{Node, NodeId, Topology};

/// The findings on a node that is to join.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Joining {
    /// The node that joins.
    pub node: NodeId,
    /// Where it is to be seeded from.
    pub from: NodeId,
    /// By table of the sets, what it holds otherwise than its source.
    pub rows: Vec<(String, Observed<JoinComparison>)>,
    /// Tables that only it has.
    pub tables: Observed<Vec<String>>,
    /// Accounts that only it has.
    pub users: Observed<Vec<String>>,
    /// How far the source is, and how far back its log reaches.
    pub log: Observed<LogReach>,
    /// The steps, in order.
    pub steps: Vec<SeedStep>,
}

/// Rows of one table of the joining node against its source's.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct JoinComparison {
    /// Rows that only the joining node holds.
    pub only_here: u64,
    /// Rows that both hold, with other contents.
    pub otherwise: u64,
    /// Rows that only the source holds.
    pub only_there: u64,
    /// Rows that differ while something is on its way.
    pub unsettled: u64,
}

impl Joining {
    /// Whether overwriting the node would lose anything that is known of.
    #[must_use]
    pub fn loses(&self) -> bool {
        let rows = self.rows.iter().filter_map(|(_, held)| held.as_ref().ok());
        rows.clone().any(|held| held.only_here + held.otherwise > 0)
            || self.tables.as_ref().is_ok_and(|tables| !tables.is_empty())
            || self.users.as_ref().is_ok_and(|users| !users.is_empty())
    }

    /// Whether the log no longer reaches back to the position that was given.
    #[must_use]
    pub fn log_is_gone(&self) -> bool {
        self.log.as_ref().is_ok_and(|log| log.enough == Some(Ok(false)))
    }

    /// The parts that could not be looked at.
    #[must_use]
    pub fn unseen(&self) -> Vec<(String, ReadFault)> {
        let mut unseen: Vec<(String, ReadFault)> = Vec::new();
        let mut note = |what: &str, fault: Option<&ReadFault>| {
            unseen.extend(fault.map(|fault| (what.to_owned(), fault.clone())));
        };
        for (table, held) in &self.rows {
            note(&format!("rows of {table}"), held.as_ref().err());
        }
        note("which tables there are", self.tables.as_ref().err());
        note("which accounts there are", self.users.as_ref().err());
        note("the source's log", self.log.as_ref().err());
        if let Ok(log) = &self.log {
            note("how far back the source's log reaches", log.oldest.as_ref().err());
        }
        unseen
    }
}

/// Puts together what looks at the nodes, a comparison of rows and the source's log tell. Of the two nodes
/// there must be facts; the looks at the others say who reads from the one that is overwritten.
#[must_use]
pub fn join(
    topology: &Topology,
    looks: &BTreeMap<NodeId, NodeInspection>,
    (node, there): (NodeId, &NodeFacts),
    (from, source): (NodeId, &NodeFacts),
    rows: Vec<(String, Observed<JoinComparison>)>,
    log: Observed<LogReach>,
) -> Joining {
    let only = |mine: &Observed<Vec<String>>, theirs: &Observed<Vec<String>>| match (mine, theirs) {
        (Ok(mine), Ok(theirs)) => {
            Ok(mine.iter().filter(|name| !theirs.contains(name)).cloned().collect())
        }
        (Err(fault), _) | (_, Err(fault)) => Err(fault.clone()),
    };
    let unlike = there.engine != source.engine;
    let users = if unlike {
        Ok(Vec::new()) // accounts of another kind of server are never carried over
    } else {
        only(&there.users, &source.users)
    };
    let named = |facts: &NodeFacts, of: &Node| -> Observed<Vec<String>> {
        let tables = facts.all_tables.as_ref().map_err(Clone::clone)?;
        Ok(tables.iter().map(|table| common_name(of, table)).collect())
    };
    let nodes = &topology.nodes;
    let mut joining = Joining {
        node,
        from,
        rows,
        tables: only(&named(there, &nodes[node]), &named(source, &nodes[from])),
        users,
        log,
        steps: Vec::new(),
    };
    joining.steps = super::steps::steps(topology, looks, &joining, there, source);
    joining
}

fn common_name(node: &Node, table: &str) -> String {
    let common = node.names.iter().find(|(_, local)| *local == table).map(|(common, _)| common);
    common.cloned().unwrap_or_else(|| table.to_owned())
}

/// How many transactions a MariaDB position is ahead of another, and whether a log that begins at
/// `oldest` has all of them. Positions are lists of domain-server-sequence; a domain that is not named is at 0.
#[must_use]
pub fn gtid_between(since: &str, now: &str, oldest: &str) -> Option<(u64, bool)> {
    let (since, now, oldest) = (gtids(since)?, gtids(now)?, gtids(oldest)?);
    let at = |list: &BTreeMap<u32, u64>, domain: &u32| list.get(domain).copied().unwrap_or(0);
    let moved =
        now.iter().map(|(domain, sequence)| sequence.saturating_sub(at(&since, domain))).sum();
    // What it has not moved on in it needs no log of.
    let enough = now
        .iter()
        .all(|(domain, sequence)| at(&since, domain) >= (*sequence).min(at(&oldest, domain)));
    Some((moved, enough))
}

fn gtids(text: &str) -> Option<BTreeMap<u32, u64>> {
    match position::gtids(text) {
        Ok(Position::Gtid(parts)) => Some(parts.into_iter().map(|(d, (_, at))| (d, at)).collect()),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn positions_are_compared_domain_by_domain() {
        assert_eq!(gtid_between("0-1-5", "0-1-9", ""), Some((4, true)));
        assert_eq!(gtid_between("0-1-5", "0-1-9", "0-1-5"), Some((4, true)));
        assert_eq!(gtid_between("0-1-5", "0-1-9", "0-1-6"), Some((4, false)));
        // Another domain that the snapshot had nothing of, and whose log is gone.
        assert_eq!(gtid_between("0-1-5", "0-1-5,2-2-7", "2-2-3"), Some((7, false)));
        assert_eq!(gtid_between("0-1-5,2-2-7", "0-1-5,2-3-7", "0-1-5,2-3-7"), Some((0, true)));
        assert_eq!(gtid_between("0/16B3748", "0-1-5", ""), None);
    }
}
