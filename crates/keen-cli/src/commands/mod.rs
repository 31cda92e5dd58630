//! The commands: arguments become a request, a request becomes calls, a result becomes a rendering.

pub(crate) mod audit;
mod completions;
pub(crate) mod conflicts;
mod demo;
mod explain;
pub(crate) mod flow;
pub(crate) mod history;
mod init;
mod mend;
pub(crate) mod plan;
pub(crate) mod preflight;
mod probe;

use std::path::Path;
use std::process::ExitCode;

use clap::Parser;
use tracing_subscriber::Layer as _;
use tracing_subscriber::filter::{LevelFilter, Targets};
use tracing_subscriber::layer::SubscriberExt as _;
use tracing_subscriber::util::SubscriberInitExt as _;

use crate::args::{Cli, Command};
use crate::exit::Exit;
use crate::terminal::{Terminal, complain};

/// Runs what the arguments ask for.
pub(crate) fn run() -> ExitCode {
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) => {
            // Help and the version go to standard output and are a success.
            let wrong = error.use_stderr();
            let text = error.render().to_string();
            // What was typed can hold what a terminal would act on.
            if crate::safe::lines(&text) == text {
                drop(error.print());
            } else {
                complain(&crate::safe::lines(&text));
            }
            return if wrong { Exit::Wrong.into() } else { Exit::Agree.into() };
        }
    };
    let terminal = Terminal::look(cli.color);
    log(cli.verbose, terminal);
    let result = match cli.command {
        Command::Init(args) => init::run(&args, terminal),
        Command::Preflight(args) => preflight::run(&args, terminal),
        Command::Flow(args) => flow::run(&args, terminal),
        Command::Audit(args) => audit::run(&args, terminal),
        Command::Conflicts(args) => conflicts::run(&args, terminal),
        Command::Plan(args) => plan::run(&args, terminal),
        Command::Mend(args) => mend::run(&args, terminal),
        Command::Probe(args) => probe::run(&args, terminal),
        Command::History(args) => history::run(&args, terminal),
        Command::Explain(args) => explain::run(&args, terminal),
        Command::Demo(args) => demo::run(&args, terminal),
        Command::Completions(args) => completions::run(&args, terminal),
    };
    match result {
        Ok(exit) => exit.into(),
        Err(error) => {
            complain(&format!("keen: {}", crate::safe::lines(&format!("{error:#}"))));
            Exit::Wrong.into()
        }
    }
}

/// A text as wide as the terminal, or for a file: without colours unless they were asked for.
fn for_people(
    output: Option<&Path>,
    terminal: Terminal,
    write: impl FnOnce(Option<usize>) -> String,
) -> String {
    let text = write(terminal.columns.filter(|_| output.is_none()));
    if output.is_some() && !terminal.colors_files() {
        anstream::adapter::strip_str(&text).to_string()
    } else {
        text
    }
}

fn log(verbose: u8, terminal: Terminal) {
    // Once: what keen itself does. Twice: also each statement that the drivers send.
    let directives = match verbose {
        0 => "warn",
        1 => "warn,keen=debug,keen_run=debug,keen_adapters=debug",
        _ => "trace",
    };
    let directives = std::env::var("KEEN_LOG").unwrap_or_else(|_| directives.to_owned());
    let filter = directives.parse().unwrap_or_else(|error| {
        complain(&format!("keen: KEEN_LOG: {error}: only warnings are logged"));
        Targets::new().with_default(LevelFilter::WARN)
    });
    let lines = tracing_subscriber::fmt::layer()
        .with_ansi(terminal.colors_errors())
        .with_writer(std::io::stderr)
        .without_time()
        // Once is for people: who says it and how loudly matters to developers.
        .with_target(verbose > 1)
        .with_level(verbose != 1);
    drop(tracing_subscriber::registry().with(lines.with_filter(filter)).try_init());
}
