//! `keen conflicts`.

use keen_run::ledger::{JournalsRead, RunRecord};
use std::io::Write as _;

use anyhow::{Context, Result, bail};

use keen_core::history::journal::JOURNAL_SLOT;
use keen_core::ports::{JournalNeeds, JournalSetup, PublishableTable};
use keen_core::topology::{Address, Engine, Topology};
use keen_run::conflicts::Found;

use super::for_people;
use crate::app;
use crate::app::conflicts::SearchRequest;
use crate::app::open_node::NodeOpener;
use crate::app::output::{CANNOT, Needed, Output};
use crate::app::run_log::RunLog;
use crate::app::scope::AuditScope;
use crate::app::stop::Stop;
use crate::app::topology_file::Loaded;
use crate::args::{AuditFormat, ConflictsArgs};
use crate::exit::Exit;
use crate::numbers::counted;
use crate::render::{json, text};
use crate::safe;
use crate::terminal::Terminal;

/// Conflicts that the text shows unless told otherwise.
pub(crate) const SHOWN: usize = 10;

pub(crate) fn run(args: &ConflictsArgs, terminal: Terminal) -> Result<Exit> {
    let loaded = app::topology_file::topology(&args.topology, terminal)?;
    let topology = &loaded.topology;
    let excluded = excluded(topology, args);
    let chosen =
        AuditScope::chosen(topology, &args.nodes, &args.tables)?.without(topology, &excluded)?;
    if args.key.is_some() && args.tables.len() > 1 {
        bail!("--key is the key of a row of one table: name one --table");
    }
    if let (Some(id), Some(because)) = (&args.accept, &args.because) {
        return accept(&loaded, args, (id, because), terminal);
    }
    if args.ddl {
        return ddl(&loaded, &chosen, args, terminal);
    }
    let asked = SearchRequest {
        nodes: chosen.nodes,
        left_out: chosen.left_out(topology),
        tables: chosen.tables,
        key: args.key.as_deref().map(key).transpose()?,
        differing: Vec::new(),
        kinds: args.kinds.clone(),
        lost_only: args.lost_only,
        since: args.since.clone(),
        until: args.until.clone(),
        wait: args.wait,
        silence: args.silence,
        reader: args.reader,
        only_new: args.new,
        journals_only: args.journals_only,
    };
    let mut out = Output::open(
        args.output.as_deref(),
        terminal.stdout(),
        &Needed::of(&loaded, &args.topology, args.ledger.ledger.as_deref()),
    )?;
    let keeping = RunLog::new(&args.ledger, &args.topology);
    let scope = scope_of(args, &excluded);
    let mut judged = keeping.judged(topology, &scope);
    // The whole life of a row is only in the whole journals.
    if args.whole || args.key.is_some() {
        judged.handed_on = None;
    }
    let goes_on = args.key.is_none() && keeping.is_kept();
    let stop = Stop::on_signal();
    let mut outcome = app::conflicts::run(&loaded, &asked, judged, goes_on, &stop);
    if !outcome.found.stopped {
        stop.at_once();
    }
    if let (Some(key), Some(table)) = (&asked.key, asked.tables.first()) {
        fits(key, table, &outcome.found)?;
    }
    let handed_on = outcome.found.handed_on.take();
    let text = match args.format {
        AuditFormat::Json => {
            json::conflicts::document(topology, &outcome, args.show.unwrap_or(usize::MAX))?
        }
        AuditFormat::Ndjson => {
            json::conflicts::lines(topology, &outcome, args.show.unwrap_or(usize::MAX))?
        }
        AuditFormat::Text => for_people(args.output.as_deref(), terminal, |columns| {
            text::conflicts::write(topology, &asked, &outcome, args.show.unwrap_or(SHOWN), columns)
        }),
    };
    out.write_all(text.as_bytes()).context(CANNOT)?;
    out.finish()?;
    let times = (outcome.started, outcome.took);
    let kept = app::conflicts::to_keep(&outcome);
    let proofs = match keeping.is_kept() {
        true => crate::app::proven::to_keep(
            &outcome.found,
            &outcome.proven,
            outcome.started.as_microsecond(),
            |conflict| {
                let document = json::conflicts::one(topology, &outcome, conflict);
                let document = serde_json::to_string(&document).unwrap_or_default();
                (text::conflicts::told(topology, &outcome, conflict), document)
            },
        ),
        false => Vec::new(),
    };
    let handed_on = handed_on.and_then(|handed_on| handed_on.to_bytes().ok());
    let record = RunRecord {
        journals_read: handed_on.map(|handed_on| JournalsRead { scope, handed_on }),
        proofs,
        conflicts: kept,
        ..RunRecord::default()
    };
    keeping.keep(&loaded, "conflicts", times, (outcome.exit(), &outcome.summary()), &record);
    Ok(outcome.exit())
}

/// The tables that are left out: those that the file leaves out too, unless some are asked for by name.
fn excluded(topology: &Topology, args: &ConflictsArgs) -> Vec<String> {
    let by_file = topology.not_judged.iter().filter(|_| args.tables.is_empty());
    args.exclude.iter().chain(by_file).cloned().collect()
}

/// The nodes and tables that were asked for, as the ledger tells runs apart; nothing where all were.
fn scope_of(args: &ConflictsArgs, excluded: &[String]) -> String {
    let sorted = |names: &[String]| {
        let mut names = names.to_vec();
        names.sort();
        names.dedup();
        names
    };
    match (&args.nodes[..], &args.tables[..], excluded) {
        ([], [], []) => String::new(),
        (nodes, tables, []) => serde_json::json!([sorted(nodes), sorted(tables)]).to_string(),
        (nodes, _, excluded) => {
            serde_json::json!([sorted(nodes), [], sorted(excluded)]).to_string()
        }
    }
}

/// Accepts a conflict.
fn accept(
    loaded: &Loaded,
    args: &ConflictsArgs,
    (id, because): (&str, &str),
    terminal: Terminal,
) -> Result<Exit> {
    let keeping = RunLog::new(&args.ledger, &args.topology);
    if because.trim().is_empty() {
        bail!("--because is empty: its readers will want to know why");
    }
    let Some(accepted) = keeping.accept(&loaded.topology, id, because)? else {
        bail!(
            "the ledger has no conflict {}: keen conflicts shows the ids of those it found",
            crate::safe::text(id)
        );
    };
    let mut out = terminal.stdout();
    let text = format!(
        "{id} is accepted as it is, {}, with {} lost: {}\n",
        accepted.standing,
        crate::numbers::counted(accepted.lost, "write", "writes"),
        crate::safe::text(&accepted.name)
    );
    out.write_all(text.as_bytes()).context(CANNOT)?;
    out.flush().context(CANNOT)?;
    Ok(Exit::Agree)
}

/// Prints what lets keen read journals.
fn ddl(
    loaded: &Loaded,
    chosen: &AuditScope,
    args: &ConflictsArgs,
    terminal: Terminal,
) -> Result<Exit> {
    let topology = &loaded.topology;
    let opener = NodeOpener::new(loaded, args.wait, args.silence, &Stop::on_signal());
    let judged = RunLog::new(&args.ledger, &args.topology)
        .judged(topology, &scope_of(args, &excluded(topology, args)));
    let mut text = String::new();
    for (id, node) in topology.nodes.iter().enumerate().filter(|(id, _)| chosen.nodes.contains(*id))
    {
        if !matches!(node.at, Address::Server(_)) {
            continue;
        }
        text.push_str(&format!("-- on {}\n", node.name));
        let mut tables: Vec<String> = Vec::new();
        for (set, content) in topology.sets.iter().enumerate() {
            if topology.carriers(set).contains(&id) {
                let wanted = content
                    .tables
                    .iter()
                    .filter(|t| chosen.tables.is_empty() || chosen.tables.contains(t));
                tables.extend(wanted.map(|table| node.name_of(table).to_owned()));
            }
        }
        tables.sort();
        tables.dedup();
        let setup =
            opener.journal_needs(id, &tables).with_context(|| format!("on node {}", node.name))?;
        let at = judged.handed_on.as_ref().and_then(|handed_on| handed_on.ended_at(id));
        text.push_str(&match setup {
            JournalNeeds::Nothing => String::new(),
            JournalNeeds::Rights { lacking, .. } if lacking.is_empty() => NOTHING_LACKS.to_owned(),
            JournalNeeds::Rights { account, lacking } => {
                let grants: Vec<String> = (lacking.iter())
                    .map(|right| format!("GRANT {right} ON *.* TO {account};\n"))
                    .collect();
                // Out of the log: where it is behind already, it need not carry this, too.
                format!(
                    "SET SESSION sql_log_bin = 0;\n{}SET SESSION sql_log_bin = 1;\n",
                    grants.concat()
                )
            }
            JournalNeeds::Slot(setup) => postgres_ddl(&setup, at),
        });
    }
    let mut out = terminal.stdout();
    out.write_all(safe::lines(&text).as_bytes()).context(CANNOT)?;
    out.flush().context(CANNOT)?;
    Ok(Exit::Agree)
}

const NOTHING_LACKS: &str = "-- nothing is lacking\n";

/// The set-up that a PostgreSQL node lacks, as statements. `at` is up to where the ledger has the writes.
fn postgres_ddl(setup: &JournalSetup, at: Option<&str>) -> String {
    let mut text = String::new();
    let quoted = |name: &str| Engine::Postgres.dialect().quoted(name);
    let user = quoted(&setup.account);
    let name_of = |table: &PublishableTable| {
        table.name.iter().map(|part| quoted(part)).collect::<Vec<_>>().join(".")
    };
    for table in setup.tables.iter().filter(|table| !table.identified && !table.published) {
        text.push_str(&format!(
            "-- {} has no primary key: PostgreSQL would refuse to update it if it were published, so it is left out\n",
            name_of(table)
        ));
    }
    let missing: Vec<String> = (setup.tables.iter())
        .filter(|table| table.identified && !table.published)
        .map(name_of)
        .collect();
    let tables = missing.join(", ");
    let mut run = |statement: String| text.push_str(&format!("{statement};\n"));
    match (setup.published, missing.is_empty()) {
        (false, false) => run(format!(
            "CREATE PUBLICATION {JOURNAL_SLOT} FOR TABLE {tables} WITH (publish_via_partition_root = true)"
        )),
        (true, false) => run(format!("ALTER PUBLICATION {JOURNAL_SLOT} ADD TABLE {tables}")),
        _ => {}
    }
    if setup.published && !setup.via_root {
        run(format!("ALTER PUBLICATION {JOURNAL_SLOT} SET (publish_via_partition_root = true)"));
    }
    if let (Some(slot), true) = (&setup.slot, setup.lost) {
        // The log that it should hold is gone: nothing is lost with it.
        run(format!("SELECT pg_drop_replication_slot('{slot}')"));
    }
    let slot = setup.slot.as_ref().filter(|_| !setup.lost);
    if slot.is_none() && (setup.published || !missing.is_empty()) {
        let name = &setup.slot_name;
        run(format!("SELECT pg_create_logical_replication_slot('{name}', 'pgoutput')"));
    }
    if !setup.may_read {
        run(format!("ALTER ROLE {user} REPLICATION"));
    }
    if !setup.may_see_origins {
        run(format!("GRANT EXECUTE ON FUNCTION pg_show_replication_origin_status() TO {user}"));
    }
    if text.is_empty() {
        text.push_str(NOTHING_LACKS);
    }
    let name = slot.unwrap_or(&setup.slot_name);
    text.push_str(&format!(
        "-- the slot holds back log for as long as it is there; when it is no longer needed:\n\
         -- SELECT pg_drop_replication_slot('{name}'); DROP PUBLICATION {JOURNAL_SLOT};\n"
    ));
    if let (Some(at), Some(slot)) = (at, slot) {
        text.push_str(&format!(
            "-- the ledger has what was read up to {at}; the slot can let go of the log before that:\n\
             -- SELECT pg_replication_slot_advance('{slot}', '{at}');\n"
        ));
    }
    text
}

/// Whether a key has as many cells as the table's, which is known once the nodes have told its shape.
fn fits(key: &[String], table: &str, found: &Found) -> Result<()> {
    let Some(about) = found.tables.iter().find(|known| known.name == table) else { return Ok(()) };
    let columns = &about.layout.columns;
    let names: Vec<String> =
        about.layout.key.iter().map(|at| safe::text(&columns[*at].name)).collect();
    if names.len() != key.len() {
        bail!(
            "a key of {} has {} ({}), but --key names {}: separate cells with commas, and put a cell that contains a comma in double quotes",
            safe::text(table),
            counted(names.len() as u64, "cell", "cells"),
            names.join(", "),
            key.len(),
        );
    }
    Ok(())
}

/// The cells of a key, separated by commas; one with a comma in it stands in quotes (RFC 4180).
fn key(text: &str) -> Result<Vec<String>> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(text.as_bytes());
    let record = reader.records().next().context("--key names no cells")?;
    let record = record.context(
        "--key cannot be read: put a cell with a comma or a quote in it in double quotes",
    )?;
    Ok(record.iter().map(str::to_owned).collect())
}
