//! `keen history`: what the ledger holds.

use std::io::Write as _;

use anyhow::{Context, Result, bail};
use keen_core::topology::Topology;
use keen_run::ledger::{Accepted, DayThen, Kept, Ledger, LinkThen, TableThen};

use super::flow::{Shown, shown};
use crate::app;
use crate::args::{HistoryArgs, HistoryFormat};
use crate::exit::Exit;
use crate::output::CANNOT;
use crate::render::text::history;
use crate::terminal::Terminal;

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

pub(crate) fn run(args: &HistoryArgs, terminal: Terminal) -> Result<Exit> {
    let loaded = app::topology_file::topology(&args.topology, terminal)?;
    let topology = &loaded.topology;
    let of = args.of.as_deref().map(|of| wanted(topology, of)).transpose()?;
    let path = args.ledger.clone().unwrap_or_else(|| app::run_log::beside(&args.topology));
    if !path.exists() {
        bail!(
            "there is no ledger {}: keen flow, audit and preflight make it, unless they are run with --no-ledger",
            path.display()
        );
    }
    let cannot = || format!("cannot use the ledger {}", path.display());
    let ledger = Ledger::open_to_read(&path).with_context(cannot)?;
    let name = &topology.name;
    let found = match of {
        None => Found::Runs(ledger.runs(name, args.last).with_context(cannot)?),
        Some(Wanted::Link(from, to)) => {
            let then = ledger.link(name, (&from, &to), args.last).with_context(cannot)?;
            Found::Link(format!("{from} -> {to}"), then)
        }
        Some(Wanted::Table(table)) => {
            let then = ledger.table(name, &table, args.last).with_context(cannot)?;
            let days = ledger.conflicts_by_day(name, &table, args.last).with_context(cannot)?;
            let accepted = ledger.accepted(name).with_context(cannot)?.into_values();
            let accepted = accepted.filter(|accepted| accepted.table == table).collect();
            Found::Table(table, then, days, accepted)
        }
    };
    let text = match args.format {
        HistoryFormat::Text => history::text(name, found, terminal.columns),
        HistoryFormat::Json => history::json(name, found)?,
        HistoryFormat::Csv => history::csv(found)?,
    };
    let mut out = terminal.stdout();
    out.write_all(text.as_bytes()).context(CANNOT)?;
    out.flush().context(CANNOT)?;
    Ok(Exit::Agree)
}

enum Wanted {
    Link(String, String),
    Table(String),
}

fn wanted(topology: &Topology, of: &str) -> Result<Wanted> {
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
