//! `keen demo`: the refuge huts, audited and planned for.

mod handover;

use keen_core::topology::node_set::NodeSet;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::Duration;

use anyhow::{Context, Result, bail};
use clap::Parser as _;
use keen_core::plan::Plan;
use keen_core::topology::Topology;
use keen_lab::story::Story;

use crate::app;
use crate::app::mend::ReadyPlan;
use crate::app::output::{Needed, Output};
use crate::app::preflight::PreflightRequest;
use crate::app::run_log::{EarlierConflicts, RunLog};
use crate::app::scope::AuditScope;
use crate::app::stop::Stop;
use crate::app::topology_file::Loaded;
use crate::args::{Cli, Command, DemoArgs};
use crate::commands::audit::ROWS_SHOWN;
use crate::exit::Exit;
use crate::numbers::counted;
use crate::render::text::audit::TextSink;
use crate::render::text::style::{HEADING, styled};
use crate::render::{json, text};
use crate::terminal::Terminal;

/// Steps of the plan that the demo shows; the rest is a command away.
const STEPS_SHOWN: usize = 4;

/// From the first look at the links to the second.
const WATCHED: Duration = Duration::from_secs(2);

pub(crate) fn run(args: &DemoArgs, terminal: Terminal) -> Result<Exit> {
    let folder = folder(args.dir.as_deref())?;
    let file = folder.join("keen.toml");
    let shown = crate::safe::typed(&file);
    let mut tour =
        Tour { out: terminal.stdout(), stop: Stop::on_signal(), terminal, shown, steps: 0 };
    let (loaded, faults) = tour.flow(&folder, args.seed)?;
    tour.network(&folder, faults)?;
    tour.preflight(&loaded)?;
    let stopped = tour.audit(&loaded)?;
    tour.conflicts(&loaded)?;
    tour.plan(&loaded)?;
    tour.mend(&folder)?;
    tour.lead_moves(&folder, args.seed)?;
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
        let with = format!(" --topology {}", self.shown);
        let text = text::preflight::write(&loaded.topology, &outcome, (false, &with), columns);
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
        let (shown, columns) = (crate::commands::conflicts::SHOWN, self.terminal.columns);
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
            app::plan::from_nodes(loaded, &whole, u64::MAX, (Some(&races), &[]), stop, terminal)?;
        let text = text::plan::write(
            &loaded.topology,
            &planned,
            (STEPS_SHOWN, STEPS_SHOWN),
            terminal.columns,
        )?;
        Ok(writeln!(self.out, "{text}")?)
    }

    /// Answers what was asked, and mends a copy of the network.
    fn mend(&mut self, folder: &Path) -> Result<()> {
        let mended = folder.join("mended");
        copy(folder, &mended)?;
        keen_lab::story::follow_preflight(&mended)?;
        let (file, save) = (mended.join("keen.toml"), mended.join("repair.plan"));
        let loaded = app::topology_file::topology(&file, self.terminal)?;
        let (whole, terminal) = (AuditScope::whole(), self.terminal);
        let mut planned =
            app::plan::from_nodes(&loaded, &whole, u64::MAX, (None, &[]), &self.stop, terminal)?;
        let answers = answers(&loaded.topology, &planned.plan)?;
        let options: Vec<String> = answers.iter().map(|a| format!(" --answer {a}")).collect();
        let text = format!(
            "In a copy of the network, whose archive no longer fires its trigger. A person answers: the valley is\n\
             right; what only one office has stays; the reading of a test rig goes. By hand, in the network itself:\n  \
             keen plan --topology {0}{1} --save repair.plan\n  \
             keen mend repair.plan --topology {0}",
            self.shown,
            options.concat()
        );
        self.step("keen mend: the plan, carried out step by step", &text)?;
        let given = app::answers::from_options(&loaded.topology, &answers)?;
        planned.plan = app::answers::apply(planned.plan, &given)?;
        let mut out = Output::open_file(&save, &Needed::default())?;
        json::plan::lines(&loaded.topology, &planned, &mut out)?;
        out.finish()?;
        let carried_out = self.carried_out(&loaded, &file, &save)?;
        writeln!(self.out, "{carried_out}")?;
        let columns = terminal.columns;
        let mut sink = TextSink::new(ROWS_SHOWN);
        let totals = app::audit::run(&loaded, &whole, &mut sink, &self.stop, false)?.unbroken()?;
        let text = text::audit::write(&loaded.topology, &sink, &totals, columns);
        let last = text.trim_end().lines().rev().find(|line| line.contains("agree")).unwrap_or("");
        Ok(writeln!(self.out, "keen audit: {last}\n")?)
    }

    /// Carries a plan out as `keen mend` does, and tells what that says.
    fn carried_out(&self, loaded: &Loaded, file: &Path, save: &Path) -> Result<String> {
        let arguments = [
            "keen",
            "mend",
            &save.display().to_string(),
            "--topology",
            &file.display().to_string(),
            "--yes",
        ]
        .map(str::to_owned);
        let Command::Mend(args) = Cli::try_parse_from(arguments)?.command else {
            bail!("the arguments of keen mend are others by now");
        };
        let ready = ReadyPlan::read(loaded, &args, &self.stop)?;
        let intention = text::mend::intention(&loaded.topology, &ready, false);
        let outcome = ready.carry_out(loaded, &args, &self.stop)?;
        let with = crate::safe::with_topology(file);
        let columns = self.terminal.columns;
        let result = text::mend::write(&loaded.topology, &outcome, &with, columns);
        Ok(format!("{intention}{result}"))
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

/// What a person may answer: the valley is right, what only one office has stays, and what only the archive has goes.
fn answers(topology: &Topology, plan: &Plan) -> Result<Vec<String>> {
    let mut answers = vec!["all=valley".to_owned()];
    for question in plan.questions() {
        let question = question?;
        if question.choices.iter().all(|choice| choice.row.is_some()) {
            continue;
        }
        let holder = question.choices.iter().find(|choice| choice.row.is_some());
        let holder = holder.and_then(|choice| choice.nodes.first());
        let writes = |node: &&usize| topology.nodes[**node].writes;
        let right = holder.filter(writes).map_or("valley", |node| &topology.nodes[*node].name);
        answers.push(format!("{}={right}", question.id(topology)));
    }
    Ok(answers)
}

/// Copies a network: its topology file and its databases.
fn copy(from: &Path, to: &Path) -> Result<()> {
    fs::create_dir_all(to).with_context(|| format!("cannot create {}", to.display()))?;
    for entry in fs::read_dir(from)? {
        let path = entry?.path();
        let Some(name) = path.file_name() else { continue };
        let wanted = path.extension().is_some_and(|e| e == "db" || e == "toml");
        if path.is_dir() && path != *to {
            copy(&path, &to.join(name))?;
        } else if wanted {
            fs::copy(&path, to.join(name))
                .with_context(|| format!("cannot copy {}", path.display()))?;
        }
    }
    Ok(())
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
