//! `keen completions`: shell completions and man pages, made from the command definitions.

use std::fs;
use std::io::Write as _;
use std::path::Path;

use anyhow::{Context, Result};
use clap::CommandFactory as _;

use crate::args::{Cli, CompletionsArgs};
use crate::exit::Exit;
use crate::terminal::Terminal;

pub(crate) fn run(args: &CompletionsArgs, terminal: Terminal) -> Result<Exit> {
    let mut command = Cli::command();
    if let Some(folder) = &args.man {
        fs::create_dir_all(folder)
            .with_context(|| format!("cannot create the folder {}", folder.display()))?;
        command.build();
        man_pages(&command, "keen", folder)?;
    } else if let Some(shell) = args.shell {
        let mut script = Vec::new();
        clap_complete::generate(shell, &mut command, "keen", &mut script);
        terminal.stdout().write_all(&script)?;
    }
    Ok(Exit::Agree)
}

fn man_pages(command: &clap::Command, name: &str, folder: &Path) -> Result<()> {
    let path = folder.join(format!("{name}.1"));
    let mut page = Vec::new();
    clap_mangen::Man::new(command.clone()).title(name).render(&mut page)?;
    fs::write(&path, page).with_context(|| format!("cannot write {}", path.display()))?;
    for subcommand in command.get_subcommands().filter(|c| !c.is_hide_set()) {
        man_pages(subcommand, &format!("{name}-{}", subcommand.get_name()), folder)?;
    }
    Ok(())
}
