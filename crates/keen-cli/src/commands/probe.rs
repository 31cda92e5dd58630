//! `keen probe`.

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::topology::node_set::NodeSet;
use keen_run::ledger::RunRecord;
use std::collections::BTreeMap;
use std::io::Write as _;
use std::time::{Duration, Instant};

use anyhow::{Context, Result, bail};
use jiff::Timestamp;
use keen_core::engine::service_tables::{self as core, reached};
use keen_core::links::fence::{Fence, Passing, Stillness};
use keen_core::links::{self, LinkFlow, Looks, Memory};
use keen_core::observe;
use keen_core::observe::links::Observations;
use keen_core::observe::position::Position;
use keen_core::topology::{Address, Engine, NodeId, Topology};
use keen_run::fan_out::fan_out;
use keen_run::links::{NodeConnections, wait_until};
use keen_run::probe::{self, ProbeRequest};

use crate::app;
use crate::app::open_node::NodeOpener;
use crate::app::output::CANNOT;
use crate::app::run_log::RunLog;
use crate::app::scope::AuditScope;
use crate::app::stop::Stop;
use crate::app::topology_file::Loaded;
use crate::args::{ProbeArgs, ReportFormat};
use crate::exit::Exit;
use crate::render::json;
use crate::render::text::probe as render;
use crate::terminal::{Terminal, complain};

pub(crate) fn run(args: &ProbeArgs, terminal: Terminal) -> Result<Exit> {
    let loaded = app::topology_file::topology(&args.topology, terminal)?;
    let stop = Stop::on_signal();
    let (text, exit) = if args.seen.is_some() || args.now {
        wait(args, &loaded, &stop)?
    } else if args.ddl {
        (ddl(args, &loaded, &stop)?, Exit::Agree)
    } else {
        write(args, &loaded, terminal, &stop)?
    };
    let mut out = terminal.stdout();
    out.write_all(text.as_bytes()).context(CANNOT)?;
    out.flush().context(CANNOT)?;
    Ok(exit)
}

fn node(topology: &Topology, name: &str) -> Result<NodeId> {
    AuditScope::chosen(topology, &[name.to_owned()], &[])?;
    topology.node(name).context("the node is known")
}

/// Nodes that the table travels over.
fn carriers(topology: &Topology, table: &str) -> Result<Vec<NodeId>> {
    let sets = core::sets(topology, table);
    if sets.is_empty() {
        bail!(
            "no set carries the table {0}: add \"{0}\" to the tables of one; keen probe --ddl --table {0} says how to create it",
            crate::safe::text(table)
        );
    }
    let mut carriers: Vec<NodeId> =
        sets.into_iter().flat_map(|set| topology.carriers(set)).collect();
    carriers.sort_unstable();
    carriers.dedup();
    Ok(carriers)
}

fn ddl(args: &ProbeArgs, loaded: &Loaded, stop: &Stop) -> Result<String> {
    let topology = &loaded.topology;
    let opener = NodeOpener::new(loaded, args.wait, args.wait, stop);
    // Before it is in a set it can already be created: everywhere.
    let carriers =
        carriers(topology, &args.table).unwrap_or_else(|_| (0..topology.nodes.len()).collect());
    let mut text = String::new();
    for node in carriers {
        let named = &topology.nodes[node];
        let engine = named.at.engine();
        let local = named.name_of(&args.table);
        text.push_str(&format!("-- on {}\n{};\n", named.name, core::create(engine, local)));
        let account = match &named.at {
            Address::Server(server) if server.engine == Engine::MariaDb => {
                let account = opener.account(node);
                account.with_context(|| format!("on node {}", named.name))?.unwrap_or_default()
            }
            Address::Server(server) => server.user.clone(),
            Address::Sqlite(_) => String::new(),
        };
        for line in core::and_then(engine, local, &account) {
            let end = if line.starts_with("--") { "" } else { ";" };
            text.push_str(&format!("{line}{end}\n"));
        }
    }
    Ok(crate::safe::lines(&text))
}

fn write(
    args: &ProbeArgs,
    loaded: &Loaded,
    terminal: Terminal,
    stop: &Stop,
) -> Result<(String, Exit)> {
    let topology = &loaded.topology;
    let started = Timestamp::now();
    let clock = Instant::now();
    let carriers = carriers(topology, &args.table)?;
    let mut writers = Vec::new();
    for name in &args.from {
        let writer = node(topology, name)?;
        if !carriers.contains(&writer) {
            bail!("{name} carries no set with the table {}", crate::safe::text(&args.table));
        }
        writers.push(writer);
    }
    if writers.is_empty() {
        writers = carriers.iter().copied().filter(|node| topology.nodes[*node].writes).collect();
    }
    if writers.is_empty() {
        bail!(
            "applications write to no node that carries {}: name one with --from",
            crate::safe::text(&args.table)
        );
    }
    let names = |nodes: &[NodeId]| {
        let names: Vec<&str> = nodes.iter().map(|node| &topology.nodes[*node].name[..]).collect();
        names.join(", ")
    };
    for writer in &writers {
        let there = reached(topology, &args.table, *writer);
        complain(&format!(
            "keen: will write one row to {} on {}, change it and delete it again; it is expected on {}",
            crate::safe::text(topology.nodes[*writer].name_of(&args.table)),
            topology.nodes[*writer].name,
            if there.is_empty() { "no other node".to_owned() } else { names(&there) }
        ));
    }
    let opener = NodeOpener::new(loaded, args.wait, args.wait, stop);
    let open = |node: NodeId, ()| opener.probe(node, &args.table);
    let opened = fan_out(carriers.iter().map(|node| (*node, ())), "opening it", open);
    let mut nodes: BTreeMap<_, _> =
        opened.into_iter().map(|(node, opened)| (node, opened.flatten())).collect();
    if args.create {
        for (node, opened) in &mut nodes {
            let named = &topology.nodes[*node];
            let statement = core::create(named.at.engine(), named.name_of(&args.table));
            complain(&format!("keen: on {}: {}", named.name, crate::safe::text(&statement)));
            if let Ok(opened) = opened {
                opened
                    .create()
                    .with_context(|| format!("cannot create the table on {}", named.name))?;
            }
        }
    }
    let request = ProbeRequest {
        topology,
        table: &args.table,
        writers: &writers,
        limit: args.limit,
        began: started.as_microsecond(),
        stop: &|| stop.raised(),
    };
    let left_behind = probe::left_behind(&request, &mut nodes, &|row, writer| {
        complain(&format!(
            "keen: will delete the row {} that an earlier run left in {} on {}",
            crate::safe::text(&row.id),
            crate::safe::text(topology.nodes[writer].name_of(&args.table)),
            topology.nodes[writer].name
        ));
    });
    let journeys = probe::run(&request, &mut nodes);
    let outcome = app::probe::ProbeOutcome {
        started,
        took: clock.elapsed(),
        table: args.table.clone(),
        writers,
        journeys,
        left_behind,
        stopped: stop.raised(),
    };
    let text = match args.format {
        ReportFormat::Json => json::probe::write(topology, &outcome)?,
        ReportFormat::Text => render::text(topology, &outcome, terminal.columns),
    };
    let keeping = RunLog::new(&args.ledger, &args.topology);
    let times = (outcome.started, outcome.took);
    keeping.keep(
        loaded,
        "probe",
        times,
        (outcome.exit(), &outcome.summary()),
        &RunRecord::default(),
    );
    Ok((text, outcome.exit()))
}

/// From one look to the next while a node is waited for.
const BETWEEN_LOOKS: Duration = Duration::from_millis(50);

/// Waits until a node has applied what others had written.
fn wait(args: &ProbeArgs, loaded: &Loaded, stop: &Stop) -> Result<(String, Exit)> {
    let topology = &loaded.topology;
    let at = node(topology, args.at.as_deref().unwrap_or_default())?;
    let mut sources: Vec<NodeId> =
        topology.links.iter().filter(|link| link.to == at).map(|link| link.from).collect();
    sources.sort_unstable();
    sources.dedup();
    let names = |nodes: &[NodeId]| {
        let names: Vec<&str> = nodes.iter().map(|node| &topology.nodes[*node].name[..]).collect();
        names.join(", ")
    };
    let name = &topology.nodes[at].name;
    if sources.is_empty() {
        bail!("no link leads to {name}: there is nothing to wait for");
    }
    if !args.from.is_empty() {
        let all = sources.clone();
        sources.clear();
        for from in &args.from {
            let source = node(topology, from)?;
            if !all.contains(&source) {
                bail!("no link leads from {from} to {name}; it follows {}", names(&all));
            }
            sources.push(source);
        }
    }
    if args.seen.is_some() && sources.len() > 1 {
        bail!("{name} follows {}: say with --from whose position this is", names(&sources));
    }
    let nodes: NodeSet =
        sources.iter().fold(NodeSet::of(at), |nodes, node| nodes | NodeSet::of(*node));
    let opener = NodeOpener::new(loaded, args.wait, args.wait, stop);
    let open = |node: NodeId| opener.watch(node);
    let (started, clock) = (Timestamp::now(), Instant::now());
    let (mut watch, first) = NodeConnections::begin(topology, nodes, &open);
    let fence = match &args.seen {
        Some(position) => {
            let position: Position =
                position.parse().map_err(|error| anyhow::anyhow!("--seen: {error}"))?;
            let now = Fence::at(&first);
            if let Some(now) = now.of(sources[0])
                && now.compare(&position).is_none()
            {
                bail!("--seen: {} has positions of another kind: it is at {now}", names(&sources));
            }
            Fence::with([(sources[0], position)].into())
        }
        None => Fence::at(&first),
    };
    let mut observations = first.clone();
    let mut stillness = Stillness::default();
    loop {
        stillness.see(&observations);
        let mut passing = fence.passing_since(topology, &observations, &stillness);
        let ours = |link: &(NodeId, NodeId)| link.1 == at && sources.contains(&link.0);
        passing.waiting.retain(|link, _| ours(link));
        passing.untold.retain(|link, _| ours(link));
        passing.absent.retain(ours);
        for link in std::mem::take(&mut passing.dark).into_iter().filter(ours) {
            let fault = |node: NodeId| observations.get(&node)?.snapshot.as_ref().err();
            let why = fault(link.0).or_else(|| fault(link.1));
            let silent = || ReadFault::not_told("it does not answer").of(FaultKind::NoAnswer);
            let why = why.cloned().unwrap_or_else(silent);
            passing.untold.insert(link, why);
        }
        let done = passing.waiting.is_empty();
        if done || clock.elapsed() >= args.limit || stop.raised() {
            let link = links(topology, &first, &observations, at, &sources);
            let waited = app::probe::Waited {
                started,
                at,
                sources: &sources,
                fence: &fence,
                passing: &passing,
                links: &link,
                took: clock.elapsed(),
                stopped: stop.raised(),
            };
            let text = match args.format {
                ReportFormat::Json => json::probe::waited(topology, &waited)?,
                ReportFormat::Text => render::waited(topology, &waited),
            };
            return Ok((text, exit(&passing, stop)));
        }
        wait_until(Instant::now(), BETWEEN_LOOKS, &|| stop.raised());
        observations = watch.again();
    }
}

fn exit(passing: &Passing, stop: &Stop) -> Exit {
    if stop.raised() {
        Exit::Interrupted
    } else if !passing.waiting.is_empty() || !passing.absent.is_empty() {
        Exit::Found
    } else if !passing.untold.is_empty() {
        Exit::Incomplete
    } else {
        Exit::Agree
    }
}

/// How the links are over which the node is waited for.
fn links(
    topology: &Topology,
    first: &Observations,
    last: &Observations,
    at: NodeId,
    sources: &[NodeId],
) -> Vec<LinkFlow> {
    let (before, memory) = (observe::links::marks(first), Memory::default());
    let flow = links::judge(topology, Looks { before: &before, now: last, memory: &memory });
    let ours = |link: &LinkFlow| {
        link.to == Some(at) && link.from.is_some_and(|from| sources.contains(&from))
    };
    flow.links.into_iter().filter(ours).collect()
}
