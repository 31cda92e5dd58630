//! Carrying out a plan, or taking it back: the plan is checked, the undo file made, the nodes opened.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use anyhow::{Context, Result, bail};
use jiff::Timestamp;
use keen_core::fault::ReadFault;
use keen_core::plan::setup_steps::{SetupAct, SetupStep};
use keen_core::plan::sql::script::Direction;
use keen_core::setup::{SetupChange, Subject};
use keen_core::topology::node_set::NodeSet;
use keen_core::topology::{NodeId, Topology};
use keen_run::audit::recheck::Fencing;
use keen_run::mend::plan_file::{PlanFile, StepCounts};
use keen_run::mend::undo_file::UndoFile;
use keen_run::mend::{self, MendRequest, Mended};

use crate::app::open_node::NodeOpener;
use crate::app::output::Needed;
use crate::app::plan_setup;
use crate::app::scope::AuditScope;
use crate::app::stop::Stop;
use crate::app::topology_file::Loaded;
use crate::args::MendArgs;
use crate::exit::Exit;

/// A plan that was checked and can be carried out, or taken back.
pub(crate) struct ReadyPlan {
    pub(crate) plan: PlanFile,
    pub(crate) direction: Direction,
    /// The undo file that an earlier run of the same plan left, or that is taken back by.
    undo: Option<UndoFile>,
    /// Where the undo file is, or is to be.
    pub(crate) undo_path: PathBuf,
    /// The file for what only the receiver of a copy held.
    pub(crate) aside: PathBuf,
    /// When the audit behind the plan began.
    pub(crate) planned: Option<Timestamp>,
    nodes: NodeSet,
    steps: (u64, u64),
    /// By node what there is to do.
    pub(crate) counts: BTreeMap<NodeId, StepCounts>,
    /// By node as whom it is written, or why it cannot be.
    pub(crate) writers: BTreeMap<NodeId, Result<String, ReadFault>>,
}

/// The result of a run.
pub(crate) struct MendOutcome {
    pub(crate) started: Timestamp,
    pub(crate) took: Duration,
    pub(crate) direction: Direction,
    pub(crate) dry_run: bool,
    pub(crate) mended: Mended,
    pub(crate) undo_path: PathBuf,
    /// The nodes that the plan fills, each after its source.
    pub(crate) seeds: Vec<(NodeId, NodeId)>,
    /// The links that the plan takes apart, or makes, as `--take-apart` names them.
    pub(crate) apart: Vec<String>,
    /// The links that it makes, as `--link` names them.
    pub(crate) made: Vec<String>,
    /// The node that is to lead.
    pub(crate) promotes: Option<String>,
    /// Some of it can be taken back.
    pub(crate) has_a_way_back: bool,
    /// The topology file as it has to read then, where the plan's maker put it.
    pub(crate) topology_file: Option<PathBuf>,
    /// The names of all nodes.
    pub(crate) names: Vec<String>,
    /// By node as whom it was written.
    pub(crate) writers: BTreeMap<NodeId, String>,
}

impl MendOutcome {
    /// Every step was tried, and every row that was written was read again.
    pub(crate) fn complete(&self) -> bool {
        let mended = &self.mended;
        let read = mended.proof.as_ref().is_none_or(|proof| proof.complete && proof.unsettled == 0);
        let read =
            read && mended.alike.iter().all(|(.., proof)| proof.complete && proof.unsettled == 0);
        let looked = mended.findings_left.as_ref().is_none_or(Result::is_ok);
        !mended.stopped && mended.broken.is_none() && mended.faults.is_empty() && read && looked
    }

    /// Something is left for a person, or is still found.
    pub(crate) fn is_open(&self) -> bool {
        let mended = &self.mended;
        let found = mended
            .findings_left
            .as_ref()
            .is_some_and(|left| left.as_ref().is_ok_and(|found| !found.findings.is_empty()));
        found || mended.by_hand.iter().any(|work| work.is_done == Some(false))
    }

    /// The exit code.
    pub(crate) fn exit(&self) -> Exit {
        let mended = &self.mended;
        let proofs = mended.proof.iter().chain(mended.alike.iter().map(|(.., proof)| proof));
        let differ = proofs.map(|proof| proof.divergent).sum::<u64>() > 0;
        if mended.stopped {
            Exit::Interrupted
        } else if mended.left() > 0 || differ || self.is_open() {
            Exit::Found
        } else if self.complete() {
            Exit::Agree
        } else {
            Exit::Incomplete
        }
    }
}

/// How long a server may be silent while tables are copied.
const COPY_SILENCE: Duration = Duration::from_secs(6 * 3600);

/// The file for what only the receiver of a copy held.
pub(crate) fn aside_path(args: &MendArgs, undo: &Path) -> PathBuf {
    let mut name = args.plan.as_deref().unwrap_or(undo).as_os_str().to_owned();
    name.push(".aside");
    name.into()
}

/// The file that takes a plan back, unless it is called otherwise.
fn undo_path(args: &MendArgs, plan: &Path) -> PathBuf {
    args.undo_file.clone().unwrap_or_else(|| {
        let mut name = plan.as_os_str().to_owned();
        name.push(".undo");
        name.into()
    })
}

impl ReadyPlan {
    /// Reads and checks a plan, and asks the nodes that it writes to whether they can be written.
    pub(crate) fn read(loaded: &Loaded, args: &MendArgs, stop: &Stop) -> Result<Self> {
        let topology = &loaded.topology;
        let scope = AuditScope::chosen(topology, &args.nodes, &[])?;
        let needed = Needed::of(loaded, &args.topology, args.ledger.ledger.as_deref());
        let (plan, direction, undo, undo_path) = match (&args.plan, &args.undo) {
            (_, Some(path)) => {
                let (undo, plan) = UndoFile::resume(path, topology)?;
                (plan, Direction::Undo, Some(undo), path.clone())
            }
            (Some(path), None) => {
                let plan = PlanFile::open(path, topology)?;
                if plan.start.undoes.is_some() {
                    bail!("{0} takes a plan back: keen mend --undo {0}", path.display());
                }
                let undo_path = undo_path(args, path);
                if let Some(what) = needed.is(&undo_path) {
                    bail!("{} is {what}: name another file with --undo-file", undo_path.display());
                }
                let undo = earlier_undo(loaded, &plan, &undo_path, args.dry_run)?;
                (plan, Direction::Repair, undo, undo_path)
            }
            (None, None) => bail!("name a plan, or an undo file with --undo"),
        };
        // It is as old as the audit that it rests on.
        let times = [&plan.start.envelope.started, &plan.start.audited];
        let times = times.map(|time| time.parse::<Timestamp>().ok());
        let planned = times.into_iter().collect::<Option<Vec<_>>>();
        let planned = planned.and_then(|times| times.into_iter().min());
        let mut ready = Self {
            plan,
            direction,
            undo,
            aside: aside_path(args, &undo_path),
            undo_path,
            planned,
            nodes: scope.nodes,
            steps: args.steps.unwrap_or((1, u64::MAX)),
            counts: BTreeMap::new(),
            writers: BTreeMap::new(),
        };
        // What it made besides, such as slots, was made for the moment at which it was closed.
        let was_taken_back = ready.undo.as_ref().is_some_and(|undo| undo.was_taken_back);
        if direction == Direction::Repair && was_taken_back && ready.promotes().is_some() {
            let (apart, _) = ready.links(topology);
            let apart: String = apart
                .iter()
                .map(|link| format!(" --take-apart {}", crate::safe::typed(link.as_ref())))
                .collect();
            bail!(
                "the plan was taken back, and does not begin again: keen plan{apart}{}, and then plan again",
                crate::safe::with_topology(&args.topology)
            );
        }
        // What an earlier run has only to finish is no decision any more.
        let finishes = ready
            .undo
            .as_ref()
            .is_some_and(|undo| undo.unsure.as_ref().is_some_and(|batch| batch.moment.is_some()));
        if direction == Direction::Repair && !args.even_if_stale && !finishes {
            ready.is_fresh(loaded)?;
        }
        ready.counts = ready.plan.counts(&|number, node| ready.is_left(number, node));
        let opener = NodeOpener::new(loaded, args.wait, args.silence, stop);
        let writer = |(node, counts): (&NodeId, &StepCounts)| {
            let rows = counts.inserts + counts.updates + counts.deletes + counts.copies > 0;
            let about = match rows {
                // It is only looked at.
                _ if counts.is_idle() => Ok(String::new()),
                true => opener.write(*node).map(|writer| writer.about()),
                false => opener.setup(*node).map(|setup| setup.about()),
            };
            (*node, about)
        };
        ready.writers = ready.counts.iter().map(writer).collect();
        Ok(ready)
    }

    fn is_fresh(&self, loaded: &Loaded) -> Result<()> {
        let start = &self.plan.start;
        let as_planned = start.topology_after.as_deref().is_some_and(|after| {
            keen_core::topology::read(after).0.as_ref() == Some(&loaded.topology)
        });
        if start.topology_digest != loaded.digest && !as_planned {
            bail!(
                "the topology file was changed since the plan was made: plan again (--even-if-stale carries it out all the same; guards hold)"
            );
        }
        let limit = loaded.topology.limits.plan;
        let planned = self.planned.context("the plan does not say when it was made: plan again")?;
        let age = Timestamp::now().duration_since(planned);
        if age.as_secs() > i64::try_from(limit.as_secs()).unwrap_or(i64::MAX) {
            bail!(
                "the audit behind the plan is {} minutes old, and the limit is {} ([limits] plan): plan again (--even-if-stale carries it out all the same; guards hold)",
                age.as_secs() / 60,
                humantime::format_duration(limit)
            );
        }
        Ok(())
    }

    fn is_chosen(&self, number: u64, node: NodeId) -> bool {
        self.nodes.contains(node) && (self.steps.0..=self.steps.1).contains(&number)
    }

    /// It is chosen, and no earlier run has done it.
    fn is_left(&self, number: u64, node: NodeId) -> bool {
        let made = self.undo.as_ref().is_some_and(|undo| undo.made.contains(number));
        self.is_chosen(number, node) && made == (self.direction == Direction::Undo)
    }

    /// There is more to do than to write rows.
    pub(crate) fn changes_setup(&self) -> bool {
        self.counts.values().any(|counts| counts.changes + counts.by_hand + counts.copies > 0)
    }

    /// Tables are copied, and what is done besides has no way back, either.
    pub(crate) fn only_copies(&self) -> bool {
        self.is_for_good() && self.counts.values().any(|counts| counts.copies > 0)
    }

    /// The nodes that are filled, and from which.
    fn seeds(&self) -> Vec<(NodeId, NodeId)> {
        let steps = (0..self.plan.len()).filter_map(|at| self.plan.setup(at));
        let ends = |step: &SetupStep| match &step.act {
            SetupAct::Copy(copy) => Some((copy.from, step.node)),
            _ => None,
        };
        steps.filter_map(ends).collect()
    }

    /// The links that are taken apart or made, as `--take-apart` names them, and those that are made, as `--link` does.
    fn links(&self, topology: &Topology) -> (Vec<String>, Vec<String>) {
        let (mut apart, mut made) = (Vec::new(), Vec::new());
        let promotes = self.promotes().is_some();
        for step in (0..self.plan.len()).filter_map(|at| self.plan.setup(at)) {
            let SetupAct::Change(SetupChange { subject, .. }) = &step.act else { continue };
            let node = &topology.nodes[step.node].name;
            match subject {
                // Of a lead that was handed over only what is new is taken back.
                Subject::Link { link } if !promotes => apart.push(format!("{node}/{link}")),
                Subject::NewLink(new) => {
                    apart.push(format!("{node}/{}", new.link));
                    made.push(format!("{}:{node}", new.from));
                }
                _ => {}
            }
        }
        (apart, made)
    }

    /// The node that is to lead.
    fn promotes(&self) -> Option<NodeId> {
        let steps = (0..self.plan.len()).filter_map(|at| self.plan.setup(at));
        let is_filed =
            |step: &&SetupStep| step.done().iter().any(|one| one.subject == Subject::TopologyFile);
        steps.filter(is_filed).map(|step| step.node).next()
    }

    /// Nothing that is done has a way back.
    pub(crate) fn is_for_good(&self) -> bool {
        let can_be_undone =
            |of: &StepCounts| of.inserts + of.updates + of.deletes > 0 || of.changes > of.for_good;
        !self.counts.values().any(can_be_undone)
    }

    /// How many steps an earlier run has made.
    pub(crate) fn made_before(&self) -> u64 {
        self.undo.as_ref().map_or(0, |undo| undo.made.count())
    }

    /// Carries it out, or takes it back.
    pub(crate) fn carry_out(
        self,
        loaded: &Loaded,
        args: &MendArgs,
        stop: &Stop,
    ) -> Result<MendOutcome> {
        let (started, clock) = (Timestamp::now(), Instant::now());
        let topology = &loaded.topology;
        let (seeds, (apart, made)) = (self.seeds(), self.links(topology));
        let promotes = self.promotes().map(|node| topology.nodes[node].name.clone());
        let has_a_way_back = (0..self.plan.len())
            .filter_map(|at| self.plan.setup(at))
            .any(|step| step.reversed().is_some());
        let topology_file = args.plan.as_ref().and_then(|path| {
            let path = beside_plan(path);
            (promotes.is_some() && path.exists()).then_some(path)
        });
        let Self { mut plan, direction, undo, undo_path, aside, nodes, steps, writers, .. } = self;
        let mut undo = match (undo, args.dry_run) {
            (_, true) => None,
            (Some(undo), false) => Some(undo),
            (None, false) => Some(UndoFile::create(&undo_path, topology, &mut plan)?),
        };
        let opener = NodeOpener::new(loaded, args.wait, args.silence, stop);
        let light_opener = NodeOpener::new(loaded, args.wait, args.wait, stop);
        // A batch that is being written is written to its end.
        let heedless = Stop::default();
        // While a write waits for a lock, the server is silent.
        let silence = args.silence + args.lock_timeout;
        let writing = NodeOpener::new(loaded, args.lock_timeout, silence, &heedless);
        // One statement may empty a whole table.
        let copying = NodeOpener::new(loaded, args.lock_timeout, COPY_SILENCE, &heedless);
        let read: NodeSet = plan.start.read.iter().filter_map(|name| topology.node(name)).collect();
        let fencing = Fencing {
            watch: &|node: NodeId| light_opener.watch(node),
            patience: args.patience,
            settle: topology.limits.settle,
            journal: &|node, tables| opener.journal(node, tables),
        };
        let request = MendRequest {
            topology,
            nodes: read,
            chosen: &|number, node| nodes.contains(node) && (steps.0..=steps.1).contains(&number),
            direction,
            dry_run: args.dry_run,
            batch: args.batch.into(),
            rate: args.rate,
            open: &|node| opener.open(node),
            write: &|node| writing.write(node),
            setup: &|node| writing.setup(node),
            link_password: &|node| opener.link_password(node),
            give: &|node| copying.give(node),
            take: &|node| copying.take(node),
            aside: &aside,
            topology_digest: &loaded.digest,
            fenced: fenced_nodes(topology, &args.fenced)?,
            find_again: &|checks| {
                plan_setup::find_again(loaded, &AuditScope::whole(), checks, stop)
            },
            fencing: &fencing,
            stop: &|| stop.raised(),
        };
        let mended = mend::run(&request, &mut plan, undo.as_mut());
        let wrote =
            |(node, writer): (NodeId, Result<String, ReadFault>)| Some((node, writer.ok()?));
        Ok(MendOutcome {
            started,
            took: clock.elapsed(),
            direction,
            dry_run: args.dry_run,
            mended,
            undo_path,
            seeds,
            apart,
            made,
            promotes,
            has_a_way_back,
            topology_file,
            names: topology.nodes.iter().map(|node| node.name.clone()).collect(),
            writers: writers.into_iter().filter_map(wrote).collect(),
        })
    }
}

/// The undo file that an earlier run of the same plan left.
fn earlier_undo(
    loaded: &Loaded,
    plan: &PlanFile,
    path: &Path,
    dry_run: bool,
) -> Result<Option<UndoFile>> {
    if !path.exists() || dry_run {
        return Ok(None);
    }
    let (undo, earlier) = UndoFile::resume(path, &loaded.topology)?;
    if earlier.start.undoes.as_ref() != Some(&plan.digest) {
        bail!(
            "{} takes another plan back: keep it elsewhere, or name another file with --undo-file",
            path.display()
        );
    }
    Ok(Some(undo))
}

/// The topology file as it has to read once a plan is carried out, beside that plan.
pub(crate) fn beside_plan(plan: &Path) -> PathBuf {
    let mut name = plan.to_owned().into_os_string();
    name.push(".toml");
    PathBuf::from(name)
}

/// The nodes that somebody answers for.
fn fenced_nodes(topology: &Topology, names: &[String]) -> Result<NodeSet> {
    let node = |name: &String| {
        let known = topology.node(name);
        known.with_context(|| format!("there is no node {}", crate::safe::text(name)))
    };
    names.iter().map(node).collect()
}
