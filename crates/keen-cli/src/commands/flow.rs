//! `keen flow`.

use keen_core::topology::node_set::NodeSet;
use std::io::Write as _;

use anyhow::{Context, Result};
use keen_core::engine::service_tables::{and_then, create_heartbeat};
use keen_core::topology::{Address, Topology};

use super::for_people;
use crate::app;
use crate::app::links::LinksRequest;
use crate::app::output::{CANNOT, Needed, Output};
use crate::app::run_log::RunLog;
use crate::app::scope::AuditScope;
use crate::app::selection::{Shown, shown};
use crate::app::stop::Stop;
use crate::args::{FlowArgs, ReportFormat};
use crate::exit::Exit;
use crate::render::{json, text};
use crate::terminal::{Terminal, complain};

pub(crate) fn run(args: &FlowArgs, terminal: Terminal) -> Result<Exit> {
    let loaded = app::topology_file::topology(&args.topology, terminal)?;
    let topology = &loaded.topology;
    if args.ddl {
        return ddl(topology, terminal);
    }
    if args.beat {
        say_beats(topology)?;
    }
    let mut chosen = AuditScope::chosen(topology, &args.nodes, &[])?;
    let shown = args.shown.as_deref().map(|name| shown(topology, name)).transpose()?;
    if let Some(Shown::Link(from, to)) = shown
        && args.nodes.is_empty()
    {
        chosen.nodes = NodeSet::of(from) | NodeSet::of(to);
    }
    let asked = LinksRequest {
        nodes: chosen.nodes,
        left_out: if shown.is_some() { Vec::new() } else { chosen.left_out(topology) },
        between: args.between,
        wait: args.wait,
        beat: args.beat,
    };
    let mut out = Output::open(
        args.output.as_deref(),
        terminal.stdout(),
        &Needed::of(&loaded, &args.topology, args.ledger.ledger.as_deref()),
    )?;
    let keeping = RunLog::new(&args.ledger, &args.topology);
    let outcome = app::links::run(&loaded, &asked, &keeping, &Stop::on_signal());
    let text = match args.format {
        ReportFormat::Json => json::links::write(topology, &outcome)?,
        ReportFormat::Text => for_people(args.output.as_deref(), terminal, |columns| match shown {
            Some(shown) => text::links::in_full(topology, &outcome, shown, columns),
            None => text::links::write(topology, &outcome, columns),
        }),
    };
    out.write_all(text.as_bytes()).context(CANNOT)?;
    out.finish()?;
    Ok(outcome.exit())
}

fn heartbeat(topology: &Topology) -> Result<&str> {
    topology.heartbeat.as_deref().context(
        "the topology file names no heartbeat table: add heartbeat = \"keen_beat\" above its first [table], and add the table to a set",
    )
}

/// Prints the statements that create the table of heartbeats.
fn ddl(topology: &Topology, terminal: Terminal) -> Result<Exit> {
    let table = topology.heartbeat.as_deref().unwrap_or("keen_beat");
    let mut text = String::new();
    for node in &topology.nodes {
        let (engine, local) = (node.at.engine(), node.name_of(table));
        text.push_str(&format!("-- on {}\n{};\n", node.name, create_heartbeat(engine, local)));
        let account = match &node.at {
            Address::Server(server) => &server.user,
            Address::Sqlite(_) => "",
        };
        for line in and_then(engine, local, account) {
            text.push_str(&format!("{line};\n"));
        }
    }
    let mut out = terminal.stdout();
    out.write_all(crate::safe::lines(&text).as_bytes()).context(CANNOT)?;
    out.flush().context(CANNOT)?;
    Ok(Exit::Agree)
}

/// Says what will be written.
fn say_beats(topology: &Topology) -> Result<()> {
    let table = heartbeat(topology)?;
    let nodes: Vec<&str> =
        topology.nodes.iter().filter(|node| node.writes).map(|node| &node.name[..]).collect();
    complain(&format!(
        "keen: will set the row of {} in {} to the current time, each on its own node",
        nodes.join(", "),
        crate::safe::text(table)
    ));
    Ok(())
}
