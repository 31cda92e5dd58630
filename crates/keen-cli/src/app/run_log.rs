//! The ledger beside the topology file: opened for a run, written at its end, never needed for its answer.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use keen_core::links::Memory;
use keen_core::observe::links::{Marks, Micros};
use keen_core::topology::Topology;
use keen_run::conflicts::Carried;
use keen_run::ledger::sqlite::SqliteLedger;
use keen_run::ledger::{Accepted, Ledger as _, LedgerFault, LedgerRun, Proof, RunRecord};

use crate::app::topology_file::Loaded;
use crate::args::LedgerArgs;
use crate::exit::Exit;

/// Where a run keeps what it saw, if anywhere.
#[derive(Debug)]
pub(crate) struct RunLog {
    path: Option<PathBuf>,
}

/// The ledger of a topology file: beside it, by its name.
pub(crate) fn beside(topology: &Path) -> PathBuf {
    topology.with_extension("ledger")
}

/// The results of earlier searches for conflicts.
#[derive(Debug, Default)]
pub(crate) struct EarlierConflicts {
    /// When the last one was that read everything.
    pub(crate) at: Option<Micros>,
    /// The state it handed on.
    pub(crate) handed_on: Option<Carried>,
    /// The names of the conflicts that were ever found; none if nobody has looked for any.
    pub(crate) known: Option<BTreeSet<String>>,
    /// Its conflicts that were accepted, by name.
    pub(crate) accepted: BTreeMap<String, Accepted>,
    /// Proofs of writes that were made lately.
    pub(crate) proofs: Vec<Proof>,
}

/// For so long what was proven is held against what journals still tell: what is older is history.
const PROVEN_FOR: i64 = 30 * 24 * 3_600_000_000;

impl RunLog {
    /// As the arguments say.
    pub(crate) fn new(args: &LedgerArgs, topology: &Path) -> Self {
        let path = args.ledger.clone().unwrap_or_else(|| beside(topology));
        Self { path: (!args.no_ledger).then_some(path) }
    }

    /// Beside a topology file.
    pub(crate) fn beside(topology: &Path) -> Self {
        Self { path: Some(beside(topology)) }
    }

    /// The last looks, and what else earlier runs tell.
    pub(crate) fn remembered(&self, topology: &Topology) -> (Marks, Memory) {
        let read = |path: &PathBuf| -> Result<(Marks, Memory), LedgerFault> {
            let ledger = SqliteLedger::open_to_read(path)?;
            Ok((ledger.marks(topology)?, ledger.memory(topology)?))
        };
        let Some(path) = self.path.as_ref().filter(|path| path.exists()) else {
            return Default::default();
        };
        read(path).unwrap_or_else(|fault| {
            say(path, &fault, "earlier runs are not remembered");
            Default::default()
        })
    }

    /// How far the journals were read by runs over certain nodes and tables, when, and the names of the
    /// conflicts that any run found.
    pub(crate) fn judged(&self, topology: &Topology, scope: &str) -> EarlierConflicts {
        let read = |path: &PathBuf| -> Result<EarlierConflicts, LedgerFault> {
            let ledger = SqliteLedger::open_to_read(path)?;
            let read = ledger.journals_read(&topology.name, scope)?;
            let read = read.and_then(|(at, state)| Some((at, Carried::from_bytes(&state)?)));
            let (at, handed_on) = read.unzip();
            let accepted = ledger.accepted(&topology.name)?;
            let since = Timestamp::now().as_microsecond() - PROVEN_FOR;
            let proofs = ledger.proofs(&topology.name, since)?;
            Ok(EarlierConflicts {
                at,
                handed_on,
                known: ledger.raced(&topology.name)?,
                accepted,
                proofs,
            })
        };
        let Some(path) = self.path.as_ref().filter(|path| path.exists()) else {
            return EarlierConflicts::default();
        };
        read(path).unwrap_or_else(|fault| {
            say(path, &fault, "the journals are read from their beginning");
            EarlierConflicts::default()
        })
    }

    /// Accepts a conflict as it was found last; nothing if the ledger has none of that number.
    pub(crate) fn accept(
        &self,
        topology: &Topology,
        id: &str,
        because: &str,
    ) -> anyhow::Result<Option<Accepted>> {
        use anyhow::Context as _;
        let path = self
            .path
            .as_ref()
            .context("accepted conflicts are kept in the ledger: leave out --no-ledger")?;
        let cannot = || format!("cannot use the ledger {}", path.display());
        if !path.exists() {
            return Ok(None);
        }
        let now = Timestamp::now().as_microsecond();
        let mut ledger = SqliteLedger::open(path).with_context(cannot)?;
        ledger.accept(&topology.name, id, because, now).with_context(cannot)
    }

    /// Whether runs are kept at all.
    pub(crate) fn is_kept(&self) -> bool {
        self.path.is_some()
    }

    /// Keeps a run.
    pub(crate) fn keep(
        &self,
        loaded: &Loaded,
        command: &str,
        (started, took): (Timestamp, Duration),
        (exit, summary): (Exit, &str),
        record: &RunRecord,
    ) {
        let Some(path) = &self.path else { return };
        let run = LedgerRun {
            command,
            topology: &loaded.topology.name,
            started: started.as_microsecond(),
            took,
            exit: exit.code(),
            summary,
        };
        let kept = SqliteLedger::open(path).and_then(|mut ledger| ledger.keep(&run, record));
        if let Err(fault) = kept {
            say(path, &fault, "this run is not recorded");
        }
    }
}

fn say(path: &Path, fault: &LedgerFault, then: &str) {
    tracing::warn!(
        "the ledger {} cannot be used ({}): {then}; name another with --ledger, or use --no-ledger",
        path.display(),
        crate::safe::text(&fault.to_string())
    );
}
