//! Passing over the transaction at which a link stopped: exactly that one, or nothing.

use super::fence::Waiting;
use super::owed::OwedTransaction;
use crate::history::journal::Stream;
use crate::observe::links::Inflow;
use crate::observe::node::{Incoming, ReplicationKind, WorkerState, in_quotes, skip_nothing};
use crate::observe::position::Position;
use crate::topology::{Engine, Link, NodeId, SetId, Topology};

/// How a receiver passes over exactly one transaction, and goes on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PassingOver {
    /// PostgreSQL: the server itself passes over the one whose commit stands there in the source's log.
    Commit {
        /// The subscription.
        link: String,
        /// Where the commit stands.
        commit: String,
        /// The subscription is switched off.
        enable: bool,
    },
    /// MariaDB: the position that all links of the server have in common is set behind it.
    Place {
        /// The domain of the transaction.
        domain: u32,
        /// What was applied last of that domain.
        before: String,
        /// The transaction.
        after: String,
        /// The links of the server that are not switched off.
        links: Vec<String>,
    },
}

impl PassingOver {
    /// The statements, on the receiver.
    #[must_use]
    pub fn statements(&self) -> Vec<String> {
        match self {
            Self::Commit { link, commit, enable } => skip_commit(link, commit, *enable),
            Self::Place { before, after, links, .. } => {
                let stop = links.iter().map(|link| format!("STOP SLAVE {}", in_quotes(link)));
                let start = links.iter().flat_map(|link| {
                    [skip_nothing(link), format!("START SLAVE {}", in_quotes(link))]
                });
                stop.chain(set_place(before, after)).chain(start).collect()
            }
        }
    }
}

/// PostgreSQL passes over the transaction that ends there, and over no other.
#[must_use]
pub fn skip_commit(link: &str, commit: &str, enable: bool) -> Vec<String> {
    let name = Engine::Postgres.dialect().quoted(link);
    let mut statements =
        vec![format!("ALTER SUBSCRIPTION {name} SKIP (lsn = {})", in_quotes(commit))];
    if enable {
        statements.push(format!("ALTER SUBSCRIPTION {name} ENABLE"));
    }
    statements
}

/// What is not at the place before stays where it is. In two statements: MariaDB 10.11 ends with a crash when one both
/// reads the position and sets it.
#[must_use]
pub fn set_place(before: &str, after: &str) -> [String; 3] {
    [
        // A list that is cut would take positions away.
        "SET SESSION group_concat_max_len = 1000000".to_owned(),
        format!(
            "SET @position = (SELECT GROUP_CONCAT(IF(kept.gtid = '{before}', '{after}', kept.gtid)) \
             FROM JSON_TABLE(CONCAT('[\"', REPLACE(@@GLOBAL.gtid_slave_pos, ',', '\",\"'), '\"]'), \
             '$[*]' COLUMNS (gtid VARCHAR(100) PATH '$')) AS kept)"
        ),
        "SET GLOBAL gtid_slave_pos = @position".to_owned(),
    ]
}

impl Waiting {
    /// How the receiver passes over exactly this transaction of the source; none if that cannot be made sure of. `source` is how far the source has written, `beside` are all links of the
    /// receiver.
    #[must_use]
    pub fn passing_over(
        &self,
        first: &OwedTransaction,
        source: &Position,
        beside: &[Inflow],
    ) -> Option<PassingOver> {
        let id = &first.id;
        let link = &self.inflow.link;
        match (link.means, &id.writer.stream) {
            (ReplicationKind::Subscription, _) => Some(PassingOver::Commit {
                link: link.name.clone(),
                commit: Position::Lsn(first.commit?).to_string(),
                enable: link.receiving == WorkerState::Stopped,
            }),
            (ReplicationKind::BinaryLog, Stream::Domain(domain)) => {
                let (Position::Gtid(applied), Position::Gtid(source)) = (&self.applied, source)
                else {
                    return None;
                };
                let (server, number) = applied.get(domain)?;
                // What it stopped at may write to tables of no set, and then the first that is known is another. It
                // is that one if nothing else is lacking before it: nothing of its domain, and no other domain.
                let lacking = |(other, (_, at)): (&u32, &(u32, u64))| {
                    other != domain
                        && Some(*other) != self.own
                        && applied.get(other).is_none_or(|(_, have)| have < at)
                };
                (number + 1 == id.place && !source.iter().any(lacking)).then(|| {
                    let before = format!("{domain}-{server}-{number}");
                    let after = format!("{domain}-{}-{}", id.writer.origin, id.place);
                    let links = running(link, beside);
                    PassingOver::Place { domain: *domain, before, after, links }
                })
            }
            _ => None,
        }
    }
}

/// The position is one for all links of a server: all of them stand still while it is set.
fn running(stopped: &Incoming, beside: &[Inflow]) -> Vec<String> {
    let running = |link: &&Incoming| {
        (link.receiving, link.applying) != (WorkerState::Stopped, WorkerState::Stopped)
            || link.name == stopped.name
    };
    let links = beside.iter().map(|inflow| &inflow.link);
    let links = links.filter(|link| link.means == ReplicationKind::BinaryLog).filter(running);
    links.map(|link| link.name.clone()).collect()
}

/// Whether nodes behind the receiver get what the source wrote over it alone: they would lack it, too.
#[must_use]
pub fn others_lack_it(topology: &Topology, from: NodeId, to: NodeId) -> bool {
    let behind = topology.links.iter().filter(|link| link.from == to && link.to != from);
    let comes_from_source = |link: &Link, set: &SetId| {
        let direct = topology.links.iter().filter(|l| l.from == from && l.to == link.to);
        direct.into_iter().any(|direct| direct.carries.contains(set))
    };
    behind.into_iter().any(|link| link.carries.iter().any(|set| !comes_from_source(link, set)))
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;
    use std::sync::Arc;

    use super::*;
    use crate::history::journal::{Id, Writer};

    fn waiting(applied: &[(u32, u64)]) -> Waiting {
        Waiting {
            lacks: None,
            stopped: true,
            applied: gtids(applied),
            own: Some(2),
            inflow: Box::new(Inflow::of(Incoming::unknown(ReplicationKind::BinaryLog))),
        }
    }

    fn gtids(parts: &[(u32, u64)]) -> Position {
        let parts = parts.iter().map(|(domain, at)| (*domain, (*domain, *at)));
        Position::Gtid(parts.collect::<BTreeMap<_, _>>())
    }

    fn first(domain: u32, place: u64) -> OwedTransaction {
        let writer =
            Writer { origin: Arc::from(&domain.to_string()[..]), stream: Stream::Domain(domain) };
        let id = Id { writer, place };
        OwedTransaction { id, committed_at: None, commit: None, rows: Vec::new(), count: 0 }
    }

    #[test]
    fn a_transaction_is_passed_over_only_where_it_must_be_the_one_that_is_in_the_way() {
        let told = |applied: &[(u32, u64)], source: &[(u32, u64)]| {
            waiting(applied).passing_over(&first(1, 18), &gtids(source), &[]).is_some()
        };
        assert!(told(&[(1, 17), (3, 5)], &[(1, 20), (3, 5)]));
        // What the receiver wrote itself is not brought back to it.
        assert!(told(&[(1, 17), (2, 9)], &[(1, 20), (2, 10)]));
        // Another of the same domain, or something of another one, may be what is in the way.
        assert!(!told(&[(1, 16)], &[(1, 20)]));
        assert!(!told(&[(1, 17), (3, 5)], &[(1, 20), (3, 6)]));
        assert!(!told(&[(1, 17)], &[(1, 20), (4, 1)]));
        assert!(!told(&[], &[(1, 18)]));
    }
}
