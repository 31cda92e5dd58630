//! `keen preflight` and `keen explain`.

use std::io::Write as _;

use anyhow::{Context, Result, bail};
use keen_core::preflight::Scope as What;
use keen_core::preflight::legend::{self, Area};

use crate::args::{ExplainArgs, PreflightArgs, ReportFormat};
use crate::audit_run::{Scope, Stop};
use crate::exit::Exit;
use crate::load;
use crate::output::{CANNOT, Output};
use crate::preflight_run::{self, Asked};
use crate::render::style::{HEADING, QUIET, hanging, styled};
use crate::render::{preflight_json, preflight_text};
use crate::terminal::Terminal;

pub(crate) fn run(args: &PreflightArgs, terminal: Terminal) -> Result<Exit> {
    let loaded = load::topology(&args.topology, terminal)?;
    let chosen = Scope::chosen(&loaded.topology, &args.nodes, &args.tables)?;
    let asked = Asked {
        nodes: chosen.nodes,
        left_out: chosen.left_out(&loaded.topology),
        tables: args.tables.clone(),
        wait: args.wait,
        scope: What { shape: true, only_shape: args.shape },
    };
    let mut out = Output::open(args.output.as_deref(), terminal.stdout())?;
    let outcome = preflight_run::run(&loaded, &asked, &Stop::on_signal())?;
    let text = match args.format {
        ReportFormat::Json => preflight_json::write(&loaded.topology, &outcome)?,
        ReportFormat::Text => {
            let columns = terminal.columns.filter(|_| args.output.is_none());
            let text = preflight_text::write(&loaded.topology, &outcome, columns);
            if args.output.is_some() && !terminal.colors_files() {
                anstream::adapter::strip_str(&text).to_string()
            } else {
                text
            }
        }
    };
    out.write_all(text.as_bytes()).context(CANNOT)?;
    out.finish()?;
    Ok(outcome.exit())
}

/// Prints the legend, or one entry of it.
pub(crate) fn explain(args: &ExplainArgs, terminal: Terminal) -> Result<Exit> {
    let mut out = terminal.stdout();
    let Some(name) = &args.check else {
        let widest = legend::CHECKS.iter().map(|check| check.name.len()).max().unwrap_or(0);
        for area in Area::ALL {
            writeln!(out, "{}", styled(HEADING, area.name()))?;
            for check in legend::CHECKS.iter().filter(|check| check.area == area) {
                let lead = format!("  {:widest$}  ", check.name);
                out.write_all(hanging(&lead, check.meaning, terminal.columns).as_bytes())?;
            }
        }
        return Ok(Exit::Agree);
    };
    let Some(check) = legend::check(name) else {
        let near = legend::nearest(name);
        let near = if near.is_empty() {
            "keen explain lists them all".to_owned()
        } else {
            format!("did you mean {}?", near.join(" or "))
        };
        bail!("there is no check {}: {near}", crate::safe::text(name));
    };
    writeln!(out, "{}  {}", styled(HEADING, check.name), styled(QUIET, check.area.name()))?;
    for (lead, text) in
        [("Means  ", check.meaning), ("Why    ", check.why), ("Do     ", check.remedy)]
    {
        out.write_all(hanging(lead, text, terminal.columns).as_bytes())?;
    }
    Ok(Exit::Agree)
}
