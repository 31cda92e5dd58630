//! `keen conflicts`.

use std::io::Write as _;

use anyhow::{Context, Result, bail};

use super::for_people;
use crate::args::{AuditFormat, ConflictsArgs};
use crate::audit_run::{Scope, Stop};
use crate::conflicts_run::{self, Asked};
use crate::exit::Exit;
use crate::keeping::Keeping;
use crate::load;
use crate::output::{CANNOT, Output};
use crate::render::{conflicts_json, conflicts_text};
use crate::terminal::Terminal;

/// Conflicts that the text shows unless told otherwise.
pub(crate) const SHOWN: usize = 10;

pub(crate) fn run(args: &ConflictsArgs, terminal: Terminal) -> Result<Exit> {
    let loaded = load::topology(&args.topology, terminal)?;
    let topology = &loaded.topology;
    let chosen = Scope::chosen(topology, &args.nodes, &args.tables)?;
    if args.key.is_some() && args.tables.len() > 1 {
        bail!("--key is the key of a row of one table: name one --table");
    }
    let asked = Asked {
        nodes: chosen.nodes,
        left_out: chosen.left_out(topology),
        tables: chosen.tables,
        key: args.key.as_deref().map(key).transpose()?,
        kinds: args.kinds.clone(),
        lost_only: args.lost_only,
        since: args.since.clone(),
        until: args.until.clone(),
        wait: args.wait,
        silence: args.silence,
        reader: args.reader,
    };
    let mut out = Output::open(args.output.as_deref(), terminal.stdout())?;
    let keeping = Keeping::new(&args.ledger, &args.topology);
    let outcome = conflicts_run::run(&loaded, &asked, &Stop::on_signal());
    let text = match args.format {
        AuditFormat::Json => {
            conflicts_json::document(topology, &outcome, args.show.unwrap_or(usize::MAX))?
        }
        AuditFormat::Ndjson => {
            conflicts_json::lines(topology, &outcome, args.show.unwrap_or(usize::MAX))?
        }
        AuditFormat::Text => for_people(args.output.as_deref(), terminal, |columns| {
            conflicts_text::write(topology, &asked, &outcome, args.show.unwrap_or(SHOWN), columns)
        }),
    };
    out.write_all(text.as_bytes()).context(CANNOT)?;
    out.finish()?;
    let times = (outcome.started, outcome.took);
    keeping.keep(&loaded, "conflicts", times, (outcome.exit(), &outcome.summary()), |_| Ok(()));
    Ok(outcome.exit())
}

/// The cells of a key, separated by commas; one with a comma in it stands in quotes (RFC 4180).
fn key(text: &str) -> Result<Vec<String>> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(text.as_bytes());
    let record = reader.records().next().context("--key names no cells")?;
    let record = record.context(
        "--key cannot be read: put a cell with a comma or a quote in it in double quotes",
    )?;
    Ok(record.iter().map(str::to_owned).collect())
}
