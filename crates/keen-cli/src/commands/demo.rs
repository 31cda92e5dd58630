//! `keen demo`: the refuge huts, audited and planned for.

use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::time::Duration;

use anyhow::{Context, Result, bail};
use keen_lab::story::Story;

use super::audit::ROWS_SHOWN;
use crate::app;
use crate::app::preflight::Asked;
use crate::app::run_log::{Judged, RunLog};
use crate::app::scope::Scope;
use crate::app::stop::Stop;
use crate::args::DemoArgs;
use crate::exit::Exit;
use crate::numbers::counted;
use crate::render::text;
use crate::render::text::audit::TextSink;
use crate::render::text::style::{HEADING, styled};
use crate::terminal::Terminal;

/// Steps of the plan that the demo shows; the rest is a command away.
const STEPS_SHOWN: usize = 4;

/// From the first look at the links to the second.
const WATCHED: Duration = Duration::from_secs(2);

pub(crate) fn run(args: &DemoArgs, terminal: Terminal) -> Result<Exit> {
    let folder = folder(args.dir.as_deref())?;
    let mut out = terminal.stdout();
    let stop = Stop::on_signal();
    let step = |number: u8, text: &str| styled(HEADING, &format!("{number}. {text}"));

    writeln!(
        out,
        "{}\n\
         On Friday the network runs, and keen looks at its links twice. Later this shows how it was:\n  \
         keen history cirque:saddle --topology {}\n",
        step(1, "keen flow: is every link carrying, how late, why not"),
        typed(&folder.join("keen.toml"))
    )?;
    let mut story = Story::begin(&folder, args.seed)?;
    let file = folder.join("keen.toml");
    let loaded = app::topology_file::topology(&file, terminal)?;
    let asked = app::links::LinksRequest {
        nodes: !0,
        left_out: Vec::new(),
        between: WATCHED,
        wait: Scope::whole().wait,
        beat: false,
    };
    let keeping = RunLog::beside(&file);
    let looked = story.run_while(|| app::links::run(&loaded, &asked, &keeping, &stop))?;
    writeln!(out, "{}", text::links::write(&loaded.topology, &looked, terminal.columns))?;

    writeln!(out, "{}", step(2, "A network of refuge huts in which things went wrong"))?;
    let deeds = story.end()?;
    writeln!(
        out,
        "Made in {}: three huts that all take bookings, two noticeboards, a weather archive,\n\
         each a SQLite file; keen.toml describes them. The links were mended on Friday night; over the\n\
         weekend more went wrong. In all, {} on purpose\n\
         (truth.json lists them). keen does not look at that list; it looks at the rows.\n",
        folder.display(),
        counted(deeds.len() as u64, "thing went wrong", "things went wrong")
    )?;

    let shown = typed(&file);
    writeln!(
        out,
        "{}\n\
         Most broken replication was broken before the first row moved. By hand:\n  \
         keen preflight --topology {shown}\n",
        step(3, "keen preflight: nodes, rights, settings, clocks, tables, links")
    )?;
    let asked = Asked {
        nodes: !0,
        left_out: Vec::new(),
        tables: Vec::new(),
        wait: Scope::whole().wait,
        scope: keen_core::preflight::Scope { shape: true, only_shape: false },
    };
    let outcome = app::preflight::run(&loaded, &asked, &stop)?;
    writeln!(
        out,
        "{}",
        text::preflight::write(&loaded.topology, &outcome, false, terminal.columns)
    )?;

    writeln!(
        out,
        "{}\n\
         Each node is read once. A row is expected where the links lead: the three huts should hold the\n\
         same, a board what its filter lets through, the archive every hut's readings. By hand:\n  \
         keen audit --topology {shown}\n",
        step(4, "keen audit: every row over all nodes, and who agrees with whom")
    )?;
    let mut sink = TextSink::new(ROWS_SHOWN);
    let totals = app::audit::run(&loaded, &Scope::whole(), &mut sink, &stop, terminal.progress)?
        .unbroken()?;
    writeln!(out, "{}", text::audit::write(&loaded.topology, &sink, &totals, terminal.columns))?;

    writeln!(
        out,
        "{}\n\
         Copies can agree and still have lost somebody's booking. The journals tell which office had not\n\
         heard of the other when it wrote, whatever the clocks say. By hand:\n  \
         keen conflicts --topology {shown}\n",
        step(5, "keen conflicts: which writes raced, who won, whose write was lost")
    )?;
    let asked = app::conflicts::SearchRequest {
        nodes: !0,
        wait: Scope::whole().wait,
        silence: Scope::whole().silence,
        ..app::conflicts::SearchRequest::default()
    };
    let raced = app::conflicts::run(&loaded, &asked, Judged::default(), false, &stop);
    writeln!(
        out,
        "{}",
        text::conflicts::write(
            &loaded.topology,
            &asked,
            &raced,
            super::conflicts::SHOWN,
            terminal.columns
        )
    )?;

    writeln!(
        out,
        "{}\n\
         keen.toml says who is right: most of the huts, for notices the valley. Where that does not\n\
         decide, the plan asks. It is only a plan; nothing is carried out. By hand:\n  \
         keen plan --topology {shown} --conflicts\n",
        step(6, "keen plan: what would put them right, step by step")
    )?;
    let whole = Scope::whole();
    let look = app::plan::look_for_races(&loaded, &whole, &stop);
    let planned = app::plan::from_nodes(&loaded, &whole, u64::MAX, Some(&look), &stop, terminal)?;
    writeln!(
        out,
        "{}",
        text::plan::write(&loaded.topology, &planned, STEPS_SHOWN, terminal.columns)?
    )?;

    writeln!(
        out,
        "{}\n  \
         keen explain trigger-again\n  \
         keen conflicts --topology {shown} --table stay --key 361\n  \
         keen audit --topology {shown} --table stay\n  \
         keen audit --topology {shown} --format json --output audit.json\n  \
         keen plan  --topology {shown} --audit audit.json\n  \
         keen plan  --topology {shown} --format sql --output repair",
        step(7, "Go on from here")
    )?;
    out.flush()?;
    Ok(if totals.stopped { Exit::Interrupted } else { Exit::Agree })
}

/// A path as one types it into a shell.
fn typed(path: &Path) -> String {
    let path = path.display().to_string();
    if path.chars().all(|c| c.is_alphanumeric() || "/._-".contains(c)) {
        path
    } else {
        format!("'{}'", path.replace('\'', "'\\''"))
    }
}

/// The folder to work in: the one named, if it is empty, or a fresh one.
fn folder(named: Option<&Path>) -> Result<PathBuf> {
    let Some(folder) = named else {
        let fresh = tempfile::Builder::new()
            .prefix("keen-demo-")
            .tempdir()
            .context("cannot make a fresh folder: name one with --dir")?;
        return Ok(fresh.keep());
    };
    if folder.exists() && !folder.is_dir() {
        bail!("{} is not a folder: name one with --dir", folder.display());
    }
    if folder.is_dir()
        && fs::read_dir(folder)
            .with_context(|| format!("cannot look into {}", folder.display()))?
            .next()
            .is_some()
    {
        bail!(
            "{} is not empty and is left as it is: name another folder with --dir",
            folder.display()
        );
    }
    fs::create_dir_all(folder)
        .with_context(|| format!("cannot make the folder {}", folder.display()))?;
    Ok(folder.to_owned())
}
