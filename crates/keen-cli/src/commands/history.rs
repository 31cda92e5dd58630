//! `keen history`: what the ledger holds.

use jiff::Timestamp;
use std::io::Write as _;

use anyhow::{Context, Result, bail};
use keen_run::ledger::sqlite::SqliteLedger;

use crate::app;
use crate::app::history::{look_up, wanted};
use crate::app::output::CANNOT;
use crate::args::{HistoryArgs, HistoryFormat};
use crate::exit::Exit;
use crate::render::{csv, json, text};
use crate::terminal::Terminal;

pub(crate) fn run(args: &HistoryArgs, terminal: Terminal) -> Result<Exit> {
    let started = Timestamp::now();
    let loaded = app::topology_file::topology(&args.topology, terminal)?;
    let topology = &loaded.topology;
    let of = args.of.as_deref().map(|of| wanted(topology, of)).transpose()?;
    let path = args.ledger.clone().unwrap_or_else(|| app::run_log::beside(&args.topology));
    if !path.exists() {
        bail!(
            "there is no ledger {}: keen flow, audit and preflight create it, unless they run with --no-ledger",
            path.display()
        );
    }
    let cannot = || format!("cannot use the ledger {}", path.display());
    let ledger = SqliteLedger::open_to_read(&path).with_context(cannot)?;
    let name = &topology.name;
    let found = look_up(&ledger, name, of, args.last).with_context(cannot)?;
    let shown = match args.format {
        HistoryFormat::Text => text::history::text(name, found, terminal.columns),
        HistoryFormat::Json => json::history::write(name, found, started)?,
        HistoryFormat::Csv => csv::history(found)?,
    };
    let mut out = terminal.stdout();
    out.write_all(shown.as_bytes()).context(CANNOT)?;
    out.flush().context(CANNOT)?;
    Ok(Exit::Agree)
}
