//! The commands: arguments become a request, a request becomes calls, a result becomes a rendering.

pub(crate) mod audit;
mod completions;
mod demo;
mod init;
pub(crate) mod plan;

use std::process::ExitCode;

use clap::Parser;
use tracing_subscriber::EnvFilter;
use tracing_subscriber::filter::LevelFilter;

use crate::args::{Cli, Command};
use crate::exit::Exit;
use crate::output;
use crate::terminal::{Terminal, complain};

/// Runs what the arguments ask for.
pub(crate) fn run() -> ExitCode {
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) => {
            // Help and the version go to standard output and are a success.
            let wrong = error.use_stderr();
            drop(error.print());
            return if wrong { Exit::Wrong.into() } else { Exit::Agree.into() };
        }
    };
    let terminal = Terminal::look(cli.color);
    log(cli.verbose, terminal);
    let result = match cli.command {
        Command::Init(args) => init::run(&args, terminal),
        Command::Audit(args) => audit::run(&args, terminal),
        Command::Plan(args) => plan::run(&args, terminal),
        Command::Demo(args) => demo::run(&args, terminal),
        Command::Completions(args) => completions::run(&args, terminal),
    };
    match result {
        Ok(exit) => exit.into(),
        Err(error) if output::is_broken_pipe(&error) => Exit::Agree.into(),
        Err(error) => {
            complain(&format!("keen: {}", crate::safe::lines(&format!("{error:#}"))));
            Exit::Wrong.into()
        }
    }
}

fn log(verbose: u8, terminal: Terminal) {
    let level = match verbose {
        0 => LevelFilter::WARN,
        1 => LevelFilter::DEBUG,
        _ => LevelFilter::TRACE,
    };
    let filter = EnvFilter::builder()
        .with_default_directive(level.into())
        .with_env_var("KEEN_LOG")
        .from_env_lossy();
    drop(
        tracing_subscriber::fmt()
            .with_env_filter(filter)
            .with_ansi(terminal.colors_errors())
            .with_writer(std::io::stderr)
            .without_time()
            .try_init(),
    );
}
