//! `keen demo`: the refuge huts, audited and planned for.

use keen_core::topology::node_set::NodeSet;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::Duration;

use anyhow::{Context, Result, bail};
use keen_lab::story::Story;

use super::audit::ROWS_SHOWN;
use crate::app;
use crate::app::preflight::PreflightRequest;
use crate::app::run_log::{EarlierConflicts, RunLog};
use crate::app::scope::AuditScope;
use crate::app::stop::Stop;
use crate::app::topology_file::Loaded;
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
    let file = folder.join("keen.toml");
    let shown = typed(&file);
    let mut tour =
        Tour { out: terminal.stdout(), stop: Stop::on_signal(), terminal, shown, steps: 0 };
    let (loaded, faults) = tour.flow(&folder, args.seed)?;
    tour.network(&folder, faults)?;
    tour.preflight(&loaded)?;
    let stopped = tour.audit(&loaded)?;
    tour.conflicts(&loaded)?;
    tour.plan(&loaded)?;
    tour.where_next()?;
    tour.out.flush()?;
    Ok(if stopped { Exit::Interrupted } else { Exit::Agree })
}

/// A walk through the commands, over the network that the story made.
struct Tour<W> {
    out: W,
    stop: Stop,
    terminal: Terminal,
    /// The topology file as one types it into a shell.
    shown: String,
    /// Steps so far.
    steps: u8,
}

impl<W: Write> Tour<W> {
    /// Begins the next step: its heading, and what is to be known of it.
    fn step(&mut self, heading: &str, text: &str) -> Result<()> {
        self.steps += 1;
        let heading = styled(HEADING, &format!("{}. {heading}", self.steps));
        Ok(writeln!(self.out, "{heading}\n{text}\n")?)
    }

    /// Looks at the links while the network runs; tells how many things then went wrong on purpose.
    fn flow(&mut self, folder: &Path, seed: u64) -> Result<(Loaded, u64)> {
        let text = format!(
            "On Friday the network runs, and keen looks at its links twice. Later this shows how it was:\n  \
             keen history cirque:saddle --topology {}",
            self.shown
        );
        self.step("keen flow: is every link carrying, how late, why not", &text)?;
        let mut story = Story::begin(folder, seed)?;
        let file = folder.join("keen.toml");
        let loaded = app::topology_file::topology(&file, self.terminal)?;
        let request = app::links::LinksRequest {
            nodes: NodeSet::ALL,
            left_out: Vec::new(),
            between: WATCHED,
            wait: AuditScope::whole().wait,
            beat: false,
        };
        let log = RunLog::beside(&file);
        let looked = story.run_while(|| app::links::run(&loaded, &request, &log, &self.stop))?;
        let columns = self.terminal.columns;
        writeln!(self.out, "{}", text::links::write(&loaded.topology, &looked, columns))?;
        Ok((loaded, story.end()?.len() as u64))
    }

    fn network(&mut self, folder: &Path, faults: u64) -> Result<()> {
        let text = format!(
            "Made in {}: three huts that all take bookings, two noticeboards, a weather archive,\n\
             each a SQLite file; keen.toml describes them. The links were mended on Friday night; over the\n\
             weekend more went wrong. In all, {} on purpose\n\
             (truth.json lists them). keen does not look at that list; it looks at the rows.",
            folder.display(),
            counted(faults, "thing went wrong", "things went wrong")
        );
        self.step("A network of refuge huts in which things went wrong", &text)
    }

    fn preflight(&mut self, loaded: &Loaded) -> Result<()> {
        let text = format!(
            "Most broken replication was broken before the first row moved. By hand:\n  \
             keen preflight --topology {}",
            self.shown
        );
        self.step("keen preflight: nodes, rights, settings, clocks, tables, links", &text)?;
        let request = PreflightRequest {
            nodes: NodeSet::ALL,
            left_out: Vec::new(),
            tables: Vec::new(),
            wait: AuditScope::whole().wait,
            scope: keen_core::preflight::PreflightScope { shape: true, only_shape: false },
        };
        let outcome = app::preflight::run(loaded, &request, &self.stop)?;
        let columns = self.terminal.columns;
        let text = text::preflight::write(&loaded.topology, &outcome, false, columns);
        Ok(writeln!(self.out, "{text}")?)
    }

    /// Audits everything; tells whether that was stopped.
    fn audit(&mut self, loaded: &Loaded) -> Result<bool> {
        let text = format!(
            "Each node is read once. A row is expected where the links lead: the three huts should hold the\n\
             same, a board what its filter lets through, the archive every hut's readings. By hand:\n  \
             keen audit --topology {}",
            self.shown
        );
        self.step("keen audit: every row over all nodes, and who agrees with whom", &text)?;
        let mut sink = TextSink::new(ROWS_SHOWN);
        let (whole, Terminal { progress, columns, .. }) = (AuditScope::whole(), self.terminal);
        let totals =
            app::audit::run(loaded, &whole, &mut sink, &self.stop, progress)?.unbroken()?;
        let text = text::audit::write(&loaded.topology, &sink, &totals, columns);
        writeln!(self.out, "{text}")?;
        Ok(totals.stopped)
    }

    fn conflicts(&mut self, loaded: &Loaded) -> Result<()> {
        let text = format!(
            "Copies can agree and still have lost somebody's booking. The journals tell which office had not\n\
             heard of the other when it wrote, whatever the clocks say. By hand:\n  \
             keen conflicts --topology {}",
            self.shown
        );
        self.step("keen conflicts: which writes raced, who won, whose write was lost", &text)?;
        let request = app::conflicts::SearchRequest {
            nodes: NodeSet::ALL,
            wait: AuditScope::whole().wait,
            silence: AuditScope::whole().silence,
            ..app::conflicts::SearchRequest::default()
        };
        let earlier = EarlierConflicts::default();
        let raced = app::conflicts::run(loaded, &request, earlier, false, &self.stop);
        let (shown, columns) = (super::conflicts::SHOWN, self.terminal.columns);
        let text = text::conflicts::write(&loaded.topology, &request, &raced, shown, columns);
        Ok(writeln!(self.out, "{text}")?)
    }

    fn plan(&mut self, loaded: &Loaded) -> Result<()> {
        let text = format!(
            "keen.toml says who is right: most of the huts, for notices the valley. Where that does not\n\
             decide, the plan asks. It is only a plan; nothing is carried out. By hand:\n  \
             keen plan --topology {} --conflicts",
            self.shown
        );
        self.step("keen plan: what would put them right, step by step", &text)?;
        let (whole, stop, terminal) = (AuditScope::whole(), &self.stop, self.terminal);
        let races = app::plan::look_for_races(loaded, &whole, stop);
        let planned =
            app::plan::from_nodes(loaded, &whole, u64::MAX, Some(&races), stop, terminal)?;
        let text = text::plan::write(&loaded.topology, &planned, STEPS_SHOWN, terminal.columns)?;
        Ok(writeln!(self.out, "{text}")?)
    }

    fn where_next(&mut self) -> Result<()> {
        self.steps += 1;
        let heading = styled(HEADING, &format!("{}. Go on from here", self.steps));
        let shown = &self.shown;
        Ok(writeln!(
            self.out,
            "{heading}\n  \
             keen explain trigger-again\n  \
             keen conflicts --topology {shown} --table stay --key 361\n  \
             keen audit --topology {shown} --table stay\n  \
             keen audit --topology {shown} --format json --output audit.json\n  \
             keen plan  --topology {shown} --audit audit.json\n  \
             keen plan  --topology {shown} --format sql --output repair"
        )?)
    }
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
            .context("cannot create a new folder: name one with --dir")?;
        return Ok(fresh.keep());
    };
    if folder.exists() && !folder.is_dir() {
        bail!("{} is not a folder: name one with --dir", folder.display());
    }
    if folder.is_dir()
        && fs::read_dir(folder)
            .with_context(|| format!("cannot read the folder {}", folder.display()))?
            .next()
            .is_some()
    {
        bail!(
            "{} is not empty and is left untouched: name another folder with --dir",
            folder.display()
        );
    }
    fs::create_dir_all(folder)
        .with_context(|| format!("cannot create the folder {}", folder.display()))?;
    Ok(folder.to_owned())
}
