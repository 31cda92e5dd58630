//! The ledger's notes on runs, a link or a table.

use anyhow::{Result, bail};
use keen_core::topology::Topology;
use keen_run::ledger::{Accepted, DayThen, Ledger, LedgerFault, LinkThen, RunThen, TableThen};

use super::selection::{Shown, shown};

/// The answer of a look into the ledger.
pub(crate) enum HistoryAnswer {
    /// Runs.
    Runs(Vec<RunThen>),
    /// A link, by its ends.
    Link((String, String), Vec<LinkThen>),
    /// A table.
    /// With the conflicts of it, day by day.
    /// And those of them that were accepted.
    Table(String, Vec<TableThen>, Vec<DayThen>, Vec<Accepted>),
}

/// Looks it up: runs where nothing is named; the last so many.
pub(crate) fn look_up(
    ledger: &dyn Ledger,
    name: &str,
    of: Option<HistoryRequest>,
    last: u32,
) -> Result<HistoryAnswer, LedgerFault> {
    Ok(match of {
        None => HistoryAnswer::Runs(ledger.runs(name, last)?),
        Some(HistoryRequest::Link(from, to)) => {
            let then = ledger.link(name, (&from, &to), last)?;
            HistoryAnswer::Link((from, to), then)
        }
        Some(HistoryRequest::Table(table)) => {
            let then = ledger.table(name, &table, last)?;
            let days = ledger.conflicts_by_day(name, &table, last)?;
            let accepted = ledger.accepted(name)?.into_values();
            let accepted = accepted.filter(|accepted| accepted.table == table).collect();
            HistoryAnswer::Table(table, then, days, accepted)
        }
    })
}

pub(crate) enum HistoryRequest {
    Link(String, String),
    Table(String),
}

pub(crate) fn wanted(topology: &Topology, of: &str) -> Result<HistoryRequest> {
    if topology.sets.iter().any(|set| set.tables.iter().any(|table| table == of)) {
        return Ok(HistoryRequest::Table(of.to_owned()));
    }
    let name = |node: usize| topology.nodes[node].name.clone();
    match shown(topology, of) {
        Ok(Shown::Link(from, to)) => Ok(HistoryRequest::Link(name(from), name(to))),
        Ok(Shown::Node(node)) => {
            let links: Vec<String> = topology
                .links
                .iter()
                .filter(|link| link.from == node || link.to == node)
                .map(|link| format!("{}:{}", name(link.from), name(link.to)))
                .collect();
            bail!("{of} is a node; name one of its links: {}", links.join(", "))
        }
        Err(_) => bail!(
            "the topology has no link and no table {}: a link is written FROM:TO",
            crate::safe::text(of)
        ),
    }
}
