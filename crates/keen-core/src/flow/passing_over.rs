//! Passing over the transaction at which a link stopped: exactly that one, or nothing.

use super::fence::Waiting;
use super::look::Inflow;
use super::owed::OwedTransaction;
use crate::journal::Stream;
use crate::plan::dialect::quoted;
use crate::position::Position;
use crate::preflight::look::{Half, Incoming, Means, in_quotes, skip_nothing};
use crate::topology::{Engine, NodeId, Topology};

impl Waiting {
    /// The statements with which the receiver passes over exactly this transaction of the source, and goes on; none
    /// if that cannot be made sure of. `beside` are all links of the receiver.
    #[must_use]
    pub fn passing_over(&self, first: &OwedTransaction, beside: &[Inflow]) -> Option<Vec<String>> {
        let id = &first.id;
        let link = &self.inflow.link;
        match (link.means, &id.writer.stream) {
            // The server passes over the transaction that ends there, and over no other.
            (Means::Subscription, _) => {
                let commit = first.commit?;
                let name = quoted(Engine::Postgres, &link.name);
                let mut statements = vec![format!(
                    "ALTER SUBSCRIPTION {name} SKIP (lsn = '{}')",
                    Position::Lsn(commit)
                )];
                if link.receiving == Half::Stopped {
                    statements.push(format!("ALTER SUBSCRIPTION {name} ENABLE"));
                }
                Some(statements)
            }
            (Means::BinaryLog, Stream::Domain(domain)) => {
                let Position::Gtid(applied) = &self.applied else { return None };
                let (server, number) = applied.get(domain)?;
                // With another in between, that one would be passed over, too.
                (number + 1 == id.place).then(|| {
                    let before = format!("{domain}-{server}-{number}");
                    let after = format!("{domain}-{}-{}", id.writer.origin, id.place);
                    by_position((&before, &after), link, beside)
                })
            }
            _ => None,
        }
    }
}

/// The position is one for all links of a server: all of them stand still while it is set. What is not at the place
/// before stays where it is. In two statements: MariaDB 10.11 ends with a crash when one both reads the position and
/// sets it.
fn by_position(
    (before, after): (&str, &str),
    stopped: &Incoming,
    beside: &[Inflow],
) -> Vec<String> {
    let running = |link: &&Incoming| {
        (link.receiving, link.applying) != (Half::Stopped, Half::Stopped)
            || link.name == stopped.name
    };
    let links = beside.iter().map(|inflow| &inflow.link);
    let links: Vec<&Incoming> =
        links.filter(|link| link.means == Means::BinaryLog).filter(running).collect();
    let mut statements: Vec<String> =
        links.iter().map(|link| format!("STOP SLAVE {}", in_quotes(&link.name))).collect();
    // A list that is cut would take positions away.
    statements.push("SET SESSION group_concat_max_len = 1000000".to_owned());
    statements.push(format!(
        "SET @position = (SELECT GROUP_CONCAT(IF(kept.gtid = '{before}', '{after}', kept.gtid)) \
         FROM JSON_TABLE(CONCAT('[\"', REPLACE(@@GLOBAL.gtid_slave_pos, ',', '\",\"'), '\"]'), \
         '$[*]' COLUMNS (gtid VARCHAR(100) PATH '$')) AS kept)"
    ));
    statements.push("SET GLOBAL gtid_slave_pos = @position".to_owned());
    for link in links {
        statements.push(skip_nothing(&link.name));
        statements.push(format!("START SLAVE {}", in_quotes(&link.name)));
    }
    statements
}

/// Whether nodes behind the receiver get what the source wrote over it alone: they would lack it, too.
#[must_use]
pub fn others_lack_it(topology: &Topology, from: NodeId, to: NodeId) -> bool {
    let behind = topology.links.iter().filter(|link| link.from == to && link.to != from);
    let from_source = |node: NodeId| topology.links.iter().any(|l| l.from == from && l.to == node);
    behind.into_iter().any(|link| !from_source(link.to))
}
