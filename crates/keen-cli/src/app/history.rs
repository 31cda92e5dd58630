//! What the ledger holds of runs, a link or a table.

use anyhow::{Result, bail};
use keen_core::topology::Topology;
use keen_run::ledger::{Accepted, DayThen, Kept, Ledger, LedgerFault, LinkThen, TableThen};

use super::selection::{Shown, shown};

/// What was looked up.
pub(crate) enum Found {
    /// Runs.
    Runs(Vec<Kept>),
    /// A link, as "FROM -> TO".
    Link(String, Vec<LinkThen>),
    /// A table.
    /// With the conflicts of it, day by day.
    /// And those of them that were accepted.
    Table(String, Vec<TableThen>, Vec<DayThen>, Vec<Accepted>),
}

/// Looks it up: runs where nothing is named; the last so many.
pub(crate) fn look_up(
    ledger: &Ledger,
    name: &str,
    of: Option<Wanted>,
    last: u32,
) -> Result<Found, LedgerFault> {
    Ok(match of {
        None => Found::Runs(ledger.runs(name, last)?),
        Some(Wanted::Link(from, to)) => {
            let then = ledger.link(name, (&from, &to), last)?;
            Found::Link(format!("{from} -> {to}"), then)
        }
        Some(Wanted::Table(table)) => {
            let then = ledger.table(name, &table, last)?;
            let days = ledger.conflicts_by_day(name, &table, last)?;
            let accepted = ledger.accepted(name)?.into_values();
            let accepted = accepted.filter(|accepted| accepted.table == table).collect();
            Found::Table(table, then, days, accepted)
        }
    })
}

pub(crate) enum Wanted {
    Link(String, String),
    Table(String),
}

pub(crate) fn wanted(topology: &Topology, of: &str) -> Result<Wanted> {
    if topology.sets.iter().any(|set| set.tables.iter().any(|table| table == of)) {
        return Ok(Wanted::Table(of.to_owned()));
    }
    let name = |node: usize| topology.nodes[node].name.clone();
    match shown(topology, of) {
        Ok(Shown::Link(from, to)) => Ok(Wanted::Link(name(from), name(to))),
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
            "there is neither a link nor a table {} in the topology: a link is written FROM:TO",
            crate::safe::text(of)
        ),
    }
}
