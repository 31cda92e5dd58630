//! `keen plan`.

use crate::app::plan::{Look, from_document, from_nodes, look_for_races, write_scripts};
use crate::app::plan_setup::{self, without_rows};
use std::fs;
use std::io::{IsTerminal as _, Write as _};
use std::path::PathBuf;
use std::time::Duration;

use anyhow::{Context, Result, bail};
use keen_core::plan::{Plan, Question};
use keen_core::setup::SetupKind;
use keen_core::topology::Topology;

use crate::app;
use crate::app::answers::GivenAnswers;
use crate::app::output::{Needed, Output};
use crate::app::run_log::RunLog;
use crate::app::scope::AuditScope;
use crate::app::stop::Stop;
use crate::args::{PlanArgs, PlanFormat, PlanKind};
use crate::exit::Exit;
use crate::render::{json, text};
use crate::terminal::Terminal;

/// Steps and questions that the text shows unless told otherwise.
pub(crate) const STEPS_SHOWN: usize = 20;

/// The remedy where a plan cannot be saved.
const NEEDS_ROOM: &str = "it needs a folder with room that this account can write to";

pub(crate) fn run(args: &PlanArgs, terminal: Terminal) -> Result<Exit> {
    let loaded = app::topology_file::topology(&args.scope.topology, terminal)?;
    let topology = &loaded.topology;
    let mut scope = AuditScope::new(topology, &args.scope)?;
    // Whatever somebody is ready to wait: a plan never writes what a link is still to bring.
    scope.patience = scope.patience.max(Duration::from_millis(1));
    let mut given = app::answers::from_options(topology, &args.answers)?;
    if let Some(path) = &args.answered {
        given.extend(app::answers::from_plan(topology, path)?);
    }
    if args.ask && !std::io::stdin().is_terminal() {
        bail!("nobody can be asked here: --answer and --answers take answers");
    }
    let apart = plan_setup::to_take_apart(topology, &args.take_apart)?;
    let removes = plan_setup::to_remove(&args.remove)?;
    // Nothing beside these is planned.
    let promotion = args.promote.as_ref();
    let promotion = promotion.map(|name| plan_setup::to_promote(&loaded, name)).transpose()?;
    let alone =
        args.seed.is_some() || !apart.is_empty() || !args.link.is_empty() || promotion.is_some();
    let kinds = if alone { Vec::new() } else { setup_kinds(&args.kinds) };
    let links = plan_setup::ends(topology, &args.link)?;
    if let Some((_, node)) = links.first()
        && let Some((from, to)) = links.iter().find(|(from, to)| from != node && to != node)
    {
        let name = |node: usize| &topology.nodes[node].name;
        bail!(
            "{} -> {} is no link of {}, which is filled from the first: plan one node after the other",
            name(*from),
            name(*to),
            name(*node)
        );
    }
    let seed = plan_setup::ends(topology, args.seed.as_slice())?.first().copied();
    let seed = seed.or(links.first().copied());
    if seed.is_some_and(|(from, to)| from == to) {
        bail!("a node cannot be filled from itself");
    }
    plan_setup::known_checks(&args.findings)?;
    let pass_over = plan_setup::ends(topology, &args.pass_over)?;
    if kinds.is_empty() && !args.findings.is_empty() {
        bail!("--finding chooses among settings, tables and links: name one with --kind");
    }
    if (alone || !kinds.is_empty()) && args.format == PlanFormat::Sql {
        bail!(
            "scripts write rows; keen mend carries out the rest, and keen preflight shows its statements"
        );
    }
    let needed = Needed::of(&loaded, &args.scope.topology, None);
    let saved = args.save.as_deref();
    if saved.is_some() && saved == args.output.as_deref() {
        bail!("--save and --output name the same file: the plan needs one of its own");
    }
    let mut target = Target::open(args, terminal, &needed)?;
    let mut saved = saved.map(|path| Output::open_file(path, &needed)).transpose()?;
    // The topology file as it has to read then, ready to be put in its place.
    let topology_path =
        args.save.as_deref().filter(|_| promotion.is_some()).map(app::mend::beside_plan);
    let mut topology_out =
        topology_path.as_ref().map(|path| Output::open_file(path, &needed)).transpose()?;
    let stop = Stop::on_signal();
    let look = look_for_races(&loaded, &scope, &stop);
    let raced: Option<&Look<'_>> = if args.conflicts { Some(&look) } else { None };
    let mut planned = match &args.from {
        _ if alone || !args.kinds.contains(&PlanKind::Row) => without_rows(&loaded, &scope)?,
        Some(path) => from_document(&loaded, &scope, path, args.limit, raced, &stop)?,
        None => from_nodes(&loaded, &scope, args.limit, (raced, &pass_over), &stop, terminal)?,
    };
    planned.plan = answered(topology, planned.plan, args, terminal, given)?;
    if !args.scope.nodes.is_empty() {
        planned.plan.keep_nodes(scope.nodes);
    }
    plan_setup::add_going_on(topology, &mut planned)?;
    if let Some(ends) = seed {
        plan_setup::add_seeding(&loaded, &scope, &mut planned, (ends, &links), &stop)?;
    }
    if !apart.is_empty() {
        plan_setup::add_taking_apart(&loaded, &scope, &mut planned, (&apart, &removes), &stop)?;
    }
    if let Some(promotion) = &promotion {
        let ledger = RunLog::beside(&args.scope.topology);
        let how = (promotion, args.accept_loss.as_deref(), &ledger);
        plan_setup::add_promotion(&loaded, &scope, &mut planned, how, &stop)?;
    }
    if !kinds.is_empty() && !planned.interrupted {
        plan_setup::add(&loaded, &scope, &mut planned, (&kinds, &args.findings), &stop)?;
    }
    // It is on the disk before it is said how it is carried out.
    if let Some((mut out, after)) = topology_out.take().zip(planned.topology_after.as_ref()) {
        let written = out.write_all(after.as_bytes()).map_err(anyhow::Error::from);
        written.and_then(|()| out.finish()).context(format!(
            "cannot save the topology file that comes with the plan: {NEEDS_ROOM}"
        ))?;
    }
    if let Some(mut out) = saved.take() {
        let written = json::plan::lines(topology, &planned, &mut out).map_err(anyhow::Error::from);
        written
            .and_then(|()| out.finish())
            .context(format!("cannot save the plan: {NEEDS_ROOM}"))?;
    }
    match &mut target {
        Target::Stream(out) => {
            let columns = terminal.columns.filter(|_| args.output.is_none());
            match args.format {
                PlanFormat::Json => json::plan::document(topology, &planned, out)?,
                PlanFormat::Ndjson => json::plan::lines(topology, &planned, out)?,
                _ => {
                    let show = (args.show.unwrap_or(STEPS_SHOWN), args.show.unwrap_or(usize::MAX));
                    let mut text = text::plan::write(topology, &planned, show, columns)?;
                    text.push_str(&text::plan::next(
                        &planned,
                        args.save.as_deref(),
                        topology_path.as_deref(),
                        &crate::safe::with_topology(&args.scope.topology),
                    ));
                    let strip = args.output.is_some() && !terminal.colors_files();
                    let text =
                        if strip { anstream::adapter::strip_str(&text).to_string() } else { text };
                    out.write_all(text.as_bytes())?;
                }
            }
        }
        Target::Scripts(folder) => {
            let written = write_scripts(topology, &planned, folder, &needed)?;
            terminal
                .stdout()
                .write_all(text::plan::scripts(topology, &planned, &written).as_bytes())?;
        }
    }
    if let Target::Stream(out) = target {
        out.finish()?;
    }
    Ok(planned.exit())
}

/// The kinds that are not about rows.
fn setup_kinds(kinds: &[PlanKind]) -> Vec<SetupKind> {
    let kind = |kind: &PlanKind| match kind {
        PlanKind::Row => None,
        PlanKind::Setting => Some(SetupKind::Setting),
        PlanKind::Shape => Some(SetupKind::Shape),
        PlanKind::Link => Some(SetupKind::Link),
    };
    kinds.iter().filter_map(kind).collect()
}

/// The plan with the answers that were given, or that are asked for now.
fn answered(
    topology: &Topology,
    plan: Plan,
    args: &PlanArgs,
    terminal: Terminal,
    mut given: GivenAnswers,
) -> Result<Plan> {
    if args.ask {
        let show = |question: &Question| text::plan::question(topology, question, terminal.columns);
        let (from, out) = (&mut std::io::stdin().lock(), &mut anstream::stderr());
        given = app::answers::ask(topology, &plan, &show, from, out)?;
    }
    app::answers::apply(plan, &given)
}

enum Target {
    Stream(Output),
    Scripts(PathBuf),
}

impl Target {
    fn open(args: &PlanArgs, terminal: Terminal, needed: &Needed) -> Result<Self> {
        if args.format != PlanFormat::Sql {
            let out = Output::open(args.output.as_deref(), terminal.stdout(), needed)?;
            return Ok(Self::Stream(out));
        }
        let Some(folder) = &args.output else {
            bail!(
                "there is one script per node, so that none is run on the wrong node: name a folder with --output"
            );
        };
        fs::create_dir_all(folder)
            .with_context(|| format!("cannot create the folder {}", folder.display()))?;
        Ok(Self::Scripts(folder.clone()))
    }
}
