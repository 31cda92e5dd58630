//! `keen mend`.

use std::io::{BufRead as _, IsTerminal as _, Write as _};

use anyhow::{Result, bail};
use keen_core::plan::sql::script::Direction;
use keen_run::ledger::RunRecord;
use keen_run::mend::plan_file::StepCounts;

use crate::app;
use crate::app::mend::ReadyPlan;
use crate::app::output::{Needed, Output};
use crate::app::run_log::RunLog;
use crate::app::stop::Stop;
use crate::args::{MendArgs, ReportFormat};
use crate::commands::for_people;
use crate::exit::Exit;
use crate::render::{json, text};
use crate::terminal::{Terminal, complain};

pub(crate) fn run(args: &MendArgs, terminal: Terminal) -> Result<Exit> {
    let loaded = app::topology_file::topology(&args.topology, terminal)?;
    let topology = &loaded.topology;
    let needed = Needed::of(&loaded, &args.topology, args.ledger.ledger.as_deref());
    let mut out = Output::open(args.output.as_deref(), terminal.stdout(), &needed)?;
    let stop = Stop::on_signal();
    let ready = ReadyPlan::read(&loaded, args, &stop)?;
    complain(text::mend::intention(topology, &ready, args.dry_run).trim_end());
    let can_wait = |node| ready.counts.get(node).is_some_and(StepCounts::all_can_wait);
    let mut needed = ready.writers.iter().filter(|(node, _)| !can_wait(node));
    if let Some((node, fault)) =
        needed.find_map(|(node, writer)| Some((node, writer.as_ref().err()?)))
    {
        complain(&format!(
            "keen: {} cannot be written to: {}; nothing was done. Leave it out with --node, or mend that first",
            topology.nodes[*node].name,
            crate::safe::text(&fault.to_string())
        ));
        return Ok(Exit::Incomplete);
    }
    if !ready.counts.is_empty() && !args.dry_run && !args.yes && !may_go_on()? {
        complain("keen: nothing was done");
        return Ok(Exit::Interrupted);
    }
    let outcome = ready.carry_out(&loaded, args, &stop)?;
    stop.at_once();
    let exit = outcome.exit();
    if !outcome.dry_run {
        let log = RunLog::new(&args.ledger, &args.topology);
        let command = if outcome.direction == Direction::Undo { "mend --undo" } else { "mend" };
        let summary = text::mend::summary(topology, &outcome);
        let times = (outcome.started, outcome.took);
        log.keep(&loaded, command, times, (exit, &summary), &RunRecord::default());
    }
    let text = match args.format {
        ReportFormat::Json => json::mend::write(topology, &outcome)?,
        ReportFormat::Text => for_people(args.output.as_deref(), terminal, |columns| {
            let with = crate::safe::with_topology(&args.topology);
            text::mend::write(topology, &outcome, &with, columns)
        }),
    };
    out.write_all(text.as_bytes())?;
    out.finish()?;
    Ok(exit)
}

/// Asks on a terminal whether to go on.
fn may_go_on() -> Result<bool> {
    let stdin = std::io::stdin();
    if !stdin.is_terminal() {
        bail!("nobody can be asked here: --yes goes on without, --dry-run only tries");
    }
    let mut asked = anstream::stderr();
    write!(asked, "Go on? [y/N] ")?;
    asked.flush()?;
    let mut answer = String::new();
    stdin.lock().read_line(&mut answer)?;
    Ok(matches!(answer.trim().to_ascii_lowercase().as_str(), "y" | "yes"))
}
