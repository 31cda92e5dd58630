//! `keen`: check multi-master, peer-to-peer and publish-subscribe topologies for divergence.

mod args;
mod audit_document;
mod audit_run;
mod commands;
mod conflicts_run;
mod doors;
mod exit;
mod flow_run;
mod keeping;
mod load;
mod output;
mod preflight_run;
mod progress;
mod proven;
mod render;
mod safe;
mod terminal;
mod told_rows;
mod wire;

use std::process::ExitCode;

fn main() -> ExitCode {
    commands::run()
}
