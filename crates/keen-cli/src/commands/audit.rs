//! `keen audit`.

use keen_run::ledger::RunRecord;
use std::io::Write as _;

use anyhow::{Context, Result};

use crate::app;
use crate::app::output::{CANNOT, Needed, Output};
use crate::app::run_log::RunLog;
use crate::app::scope::AuditScope;
use crate::app::stop::Stop;
use crate::args::{AuditArgs, AuditFormat};
use crate::exit::Exit;
use crate::render::json::audit::{Framing, JsonSink};
use crate::render::text;
use crate::render::text::audit::TextSink;
use crate::terminal::Terminal;

/// Divergent rows that the text shows per table unless told otherwise.
pub(crate) const ROWS_SHOWN: u64 = 10;

pub(crate) fn run(args: &AuditArgs, terminal: Terminal) -> Result<Exit> {
    let loaded = app::topology_file::topology(&args.scope.topology, terminal)?;
    let scope = AuditScope::new(&loaded.topology, &args.scope)?;
    let mut out = Output::open(
        args.output.as_deref(),
        terminal.stdout(),
        &Needed::of(&loaded, &args.scope.topology, args.ledger.ledger.as_deref()),
    )?;
    let stop = Stop::on_signal();
    let totals = match args.format {
        AuditFormat::Text => {
            let mut sink = TextSink::new(args.show.unwrap_or(ROWS_SHOWN));
            let totals = app::audit::run(&loaded, &scope, &mut sink, &stop, terminal.progress)?;
            let columns = terminal.columns.filter(|_| args.output.is_none());
            let mut text = text::audit::write(&loaded.topology, &sink, &totals, columns);
            if args.output.is_some() && !terminal.colors_files() {
                text = anstream::adapter::strip_str(&text).to_string();
            }
            out.write_all(text.as_bytes()).context(CANNOT)?;
            totals
        }
        AuditFormat::Json | AuditFormat::Ndjson => {
            let shape =
                if args.format == AuditFormat::Json { Framing::Document } else { Framing::Lines };
            let limit = args.show.unwrap_or(u64::MAX);
            let left_out = scope.left_out(&loaded.topology);
            let mut sink =
                JsonSink::new(&loaded.topology, scope.function, left_out, limit, shape, out);
            let totals = app::audit::run(&loaded, &scope, &mut sink, &stop, terminal.progress)?;
            out = sink.finish(&totals).context("cannot write the result")?;
            totals
        }
    };
    out.finish()?;
    let keeping = RunLog::new(&args.ledger, &args.scope.topology);
    let times = (totals.started, totals.took);
    let record = RunRecord { audited: totals.audited.clone(), ..RunRecord::default() };
    keeping.keep(&loaded, "audit", times, (totals.exit(), &totals.summary()), &record);
    Ok(totals.exit())
}
