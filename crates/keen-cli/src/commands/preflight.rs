//! `keen preflight`.

use jiff::Timestamp;
use std::io::Write as _;

use anyhow::{Context, Result, bail};
use keen_core::observe::node::TableState;
use keen_core::preflight::{PreflightScope, Severity};
use keen_core::topology::{Engine, NodeId, Topology};
use keen_run::ledger::{KeptFinding, RunRecord};

use super::for_people;
use crate::app;
use crate::app::output::{CANNOT, Needed, Output};
use crate::app::preflight::{PreflightOutcome, PreflightRequest};
use crate::app::run_log::RunLog;
use crate::app::scope::AuditScope;
use crate::app::stop::Stop;
use crate::app::topology_file::Loaded;
use crate::args::{PreflightArgs, ReportFormat};
use crate::exit::Exit;
use crate::render::{json, text};
use crate::terminal::{Terminal, complain};

pub(crate) fn run(args: &PreflightArgs, terminal: Terminal) -> Result<Exit> {
    let loaded = app::topology_file::topology(&args.topology, terminal)?;
    if let Some(node) = &args.derive {
        return derive(args, &loaded, node, terminal);
    }
    if let (Some(node), Some(from)) = (&args.join, &args.from) {
        return join(args, &loaded, (node, from), terminal);
    }
    let chosen = AuditScope::chosen(&loaded.topology, &args.nodes, &args.tables)?
        .without(&loaded.topology, &args.exclude)?;
    let asked = PreflightRequest {
        nodes: chosen.nodes,
        left_out: chosen.left_out(&loaded.topology),
        tables: chosen.tables,
        wait: args.wait,
        scope: PreflightScope { shape: true, only_shape: args.shape },
    };
    let mut out = Output::open(
        args.output.as_deref(),
        terminal.stdout(),
        &Needed::of(&loaded, &args.topology, args.ledger.ledger.as_deref()),
    )?;
    let outcome = app::preflight::run(&loaded, &asked, &Stop::on_signal())?;
    let text = match args.format {
        ReportFormat::Json => json::preflight::write(&loaded.topology, &outcome)?,
        ReportFormat::Text => for_people(args.output.as_deref(), terminal, |columns| {
            let with = crate::safe::with_topology(&args.topology);
            text::preflight::write(&loaded.topology, &outcome, (args.all, &with), columns)
        }),
    };
    out.write_all(text.as_bytes()).context(CANNOT)?;
    out.finish()?;
    keep(args, &loaded, &outcome);
    Ok(outcome.exit())
}

/// Keeps what was found.
fn keep(args: &PreflightArgs, loaded: &Loaded, outcome: &PreflightOutcome) {
    let topology = &loaded.topology;
    let report = &outcome.report;
    let found: Vec<KeptFinding> = report
        .findings
        .iter()
        .map(|finding| {
            let nodes: Vec<&str> =
                finding.nodes.iter().map(|node| &topology.nodes[*node].name[..]).collect();
            KeptFinding {
                level: finding.level.name().to_owned(),
                name: finding.check.name.to_owned(),
                nodes: nodes.join(","),
                found: finding.found.clone(),
            }
        })
        .collect();
    let counts =
        [(Severity::Stop, "stops"), (Severity::Warn, "warnings"), (Severity::Note, "notes")];
    let counts: Vec<String> =
        counts.into_iter().map(|(level, name)| format!("{} {name}", report.count(level))).collect();
    let summary =
        format!("{}, {} checks could not be made", counts.join(", "), report.unseen.len());
    let keeping = RunLog::new(&args.ledger, &args.topology);
    let times = (outcome.started, outcome.took);
    let record = RunRecord { findings: found, ..RunRecord::default() };
    keeping.keep(loaded, "preflight", times, (outcome.exit(), &summary), &record);
}

/// The one node of that name.
fn named(topology: &Topology, name: &String) -> Result<NodeId> {
    AuditScope::chosen(topology, std::slice::from_ref(name), &[])?;
    topology.node(name).context("the node is known")
}

/// Declares the tables of one node for an engine.
fn derive(
    args: &PreflightArgs,
    loaded: &Loaded,
    node: &String,
    terminal: Terminal,
) -> Result<Exit> {
    let topology = &loaded.topology;
    let id = named(topology, node)?;
    let chosen = AuditScope::chosen(topology, std::slice::from_ref(node), &args.tables)?
        .without(topology, &args.exclude)?;
    let Some(to) = args.engine.map(Engine::from) else {
        bail!("name the target engine with --for")
    };
    let mut out = Output::open(
        args.output.as_deref(),
        terminal.stdout(),
        &Needed::of(loaded, &args.topology, args.ledger.ledger.as_deref()),
    )?;
    let looks =
        app::preflight::look(loaded, chosen.nodes, &args.tables, args.wait, &Stop::on_signal());
    let look = &looks[&id];
    let Some(facts) = &look.facts else {
        let fault = look.attempts.iter().find_map(|attempt| attempt.fault.as_ref());
        bail!(
            "{node} cannot be read: {}",
            fault.map_or("it did not answer".to_owned(), ToString::to_string)
        );
    };
    let mut tables = Vec::new();
    let mut whole = true;
    for (table, seen) in &facts.tables {
        let reason = match seen {
            Ok(TableState::There(look)) => {
                tables.push((&table[..], &look.shape));
                continue;
            }
            Ok(TableState::Missing(found, advice)) => format!("{found}: {advice}"),
            Err(fault) => fault.to_string(),
        };
        whole = false;
        complain(&crate::safe::lines(&format!("keen: table {table} is left out: {reason}")));
    }
    let head = format!(
        "-- {}: the tables of {node} ({}), declared for {}.\n-- Comments say what could not be translated as it is. Read them before you run this.\n\n",
        topology.name,
        facts.about,
        to.name()
    );
    let sql = keen_core::seed::translate_ddl::derive(facts.engine, &tables, to);
    let mut text = format!("{}{sql}", crate::safe::lines(&head));
    if args.output.is_none() && terminal.columns.is_some() {
        text = crate::safe::lines(&text); // a name can hold what a terminal would act on
    }
    out.write_all(text.as_bytes()).context(CANNOT)?;
    out.finish()?;
    Ok(if whole { Exit::Agree } else { Exit::Incomplete })
}

/// Says what a node holds that its source does not, and how to seed it.
fn join(
    args: &PreflightArgs,
    loaded: &Loaded,
    (node, from): (&String, &String),
    terminal: Terminal,
) -> Result<Exit> {
    let topology = &loaded.topology;
    let (id, source) = (named(topology, node)?, named(topology, from)?);
    if id == source {
        bail!("{node} cannot be seeded from itself");
    }
    let mut out = Output::open(
        args.output.as_deref(),
        terminal.stdout(),
        &Needed::of(loaded, &args.topology, args.ledger.ledger.as_deref()),
    )?;
    let asked = app::preflight::Join {
        node: id,
        from: source,
        since: args.since.as_deref(),
        wait: args.wait,
    };
    let started = Timestamp::now();
    let (joining, took) = app::preflight::join(loaded, &asked, &Stop::on_signal())?;
    let text = match args.format {
        ReportFormat::Json => json::preflight::join(topology, &joining, (started, took))?,
        ReportFormat::Text => for_people(args.output.as_deref(), terminal, |columns| {
            let with = &crate::safe::with_topology(&args.topology);
            text::preflight::join(topology, &joining, took, with, columns)
        }),
    };
    out.write_all(text.as_bytes()).context(CANNOT)?;
    out.finish()?;
    Ok(if joining.loses() || joining.log_is_gone() {
        Exit::Found
    } else if joining.unseen().is_empty() {
        Exit::Agree
    } else {
        Exit::Incomplete
    })
}
