//! `keen`: check multi-master, peer-to-peer and publish-subscribe topologies for divergence.

pub(crate) mod app;
mod args;
mod commands;
mod exit;
mod numbers;
mod progress;
mod render;
mod safe;
mod terminal;

use std::process::ExitCode;

fn main() -> ExitCode {
    commands::run()
}
