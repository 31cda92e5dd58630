//! How nodes are opened: addresses, passwords, limits. The engine of an address finds its adapter.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use keen_adapters::adapter::{Adapter, Site, ordinary};
use keen_adapters::files::journal::FileJournal;
use keen_adapters::server::Password;
use keen_core::fault::{FaultKind, ReadFault};
use keen_core::observe::log_reach::LogReach;
use keen_core::observe::node::{Need, NodeFacts, Observed, Right};
use keen_core::plan::copy::{GiveCopy, TakeCopy};
use keen_core::plan::port::WriteSteps;
use keen_core::ports::{InspectionRequest, JournalNeeds, LookAtNode, ReadRows};
use keen_core::row::schema::TableShape;
use keen_core::setup::port::{ChangeSetup, LinkPassword};
use keen_core::topology::{Address, NodeId, Secret};
use keen_run::conflicts::LastWrites;
use keen_run::links::Watched;
use keen_run::opener::Journal;
use keen_run::probe::Probed;

use crate::app::stop::Stop;
use crate::app::topology_file::Loaded;

/// Page cache of all files together, in KiB.
const CACHE_KIB: u32 = 16 << 10;

/// A node of which one account reads and another carries plans out.
struct WithMender {
    reader: Box<dyn LookAtNode>,
    mender: Result<Box<dyn LookAtNode>, ReadFault>,
}

impl LookAtNode for WithMender {
    /// What is needed for repairs is told of the account that makes them.
    fn look(&mut self, asked: &InspectionRequest) -> NodeFacts {
        let mut facts = self.reader.look(asked);
        let asked = InspectionRequest { mends: true, ..asked.clone() };
        match &mut self.mender {
            Ok(mender) => {
                let theirs = mender.look(&asked).rights.into_iter();
                let needed =
                    theirs.filter(|right| [Need::Repairs, Need::Tables].contains(&right.need));
                facts.rights.retain(|right| right.need != Need::Repairs);
                facts.rights.extend(needed.map(|right| Right { need: Need::Repairs, ..right }));
            }
            Err(fault) => {
                for right in facts.rights.iter_mut().filter(|right| right.need == Need::Repairs) {
                    right.held = Err(fault.clone());
                }
            }
        }
        facts
    }

    fn log_reach(&mut self, since: Option<&str>) -> Observed<LogReach> {
        self.reader.log_reach(since)
    }
}

/// More than this is no password.
const LONGEST_PASSWORD: u64 = 64 << 10;

/// Opens nodes.
pub(crate) struct NodeOpener<'a> {
    loaded: &'a Loaded,
    /// Where each node's file is, of those that are one.
    paths: Vec<Option<PathBuf>>,
    wait: Duration,
    silence: Duration,
    /// The number to read binary logs as.
    reader: u32,
    stop: Arc<AtomicBool>,
}

impl<'a> NodeOpener<'a> {
    pub(crate) fn new(loaded: &'a Loaded, wait: Duration, silence: Duration, stop: &Stop) -> Self {
        let path = |address: &Address| match address {
            Address::Sqlite(path) => Some(loaded.base.join(path)),
            Address::Server(_) => None,
        };
        let paths = loaded.topology.nodes.iter().map(|node| path(&node.at)).collect();
        Self { loaded, paths, wait, silence, reader: 0, stop: Arc::clone(&stop.0) }
    }

    /// Binary logs are read as this number.
    pub(crate) fn reading_as(self, reader: u32) -> Self {
        Self { reader, ..self }
    }

    /// Opens a node to read its rows, at the first of its addresses that answers.
    pub(crate) fn open(&self, id: NodeId) -> Result<Box<dyn ReadRows>, ReadFault> {
        self.fall_over(id);
        self.not_a_twin(id)?;
        self.at_any(id, |adapter, site| adapter.rows(site))
    }

    /// Opens a node at one of its addresses to look around.
    pub(crate) fn look_in(
        &self,
        id: NodeId,
        address: &Address,
    ) -> Result<Box<dyn LookAtNode>, ReadFault> {
        self.fall_over(id);
        let mend = self.loaded.topology.nodes[id].mend.as_ref();
        self.at(id, address, |adapter, site| {
            let reader = adapter.inspect(site)?;
            let Some(account) = mend else { return Ok(reader) };
            let password = || self.password(account.password.as_ref());
            let user = Some(&account.user[..]);
            let mender = adapter.inspect(&Site { user, password: &password, ..site.clone() });
            Ok(Box::new(WithMender { reader, mender }))
        })
    }

    /// Opens a node, at the first of its addresses that answers, to look at its links again and again.
    pub(crate) fn watch(&self, id: NodeId) -> Result<Watched, ReadFault> {
        self.fall_over(id);
        self.at_any(id, |adapter, site| adapter.links(site))
    }

    /// Opens a node, at the first of its addresses that answers, to write a probe's row.
    pub(crate) fn probe(&self, id: NodeId, table: &str) -> Result<Probed, ReadFault> {
        self.fall_over(id);
        self.at_any(id, |adapter, site| adapter.probe(site, table))
    }

    /// Opens a node, at the first of its addresses that answers, to write steps to it.
    pub(crate) fn write(&self, id: NodeId) -> Result<Box<dyn WriteSteps>, ReadFault> {
        self.fall_over(id);
        self.not_a_twin(id)?;
        self.as_mender(id, |adapter, site| adapter.write(site))
    }

    /// Opens a node, at the first of its addresses that answers, to read and change its set-up.
    pub(crate) fn setup(&self, id: NodeId) -> Result<Box<dyn ChangeSetup>, ReadFault> {
        self.fall_over(id);
        self.as_mender(id, |adapter, site| adapter.setup(site))
    }

    /// Opens a node, at the first of its addresses that answers, to copy its tables from it.
    pub(crate) fn give(&self, id: NodeId) -> Result<Box<dyn GiveCopy + Send>, ReadFault> {
        self.fall_over(id);
        self.as_mender(id, |adapter, site| adapter.give(site))
    }

    /// Opens a node, at the first of its addresses that answers, to copy tables to it.
    pub(crate) fn take(&self, id: NodeId) -> Result<Box<dyn TakeCopy>, ReadFault> {
        self.fall_over(id);
        self.not_a_twin(id)?;
        self.as_mender(id, |adapter, site| adapter.take(site))
    }

    /// As the account that carries plans out.
    fn as_mender<T>(
        &self,
        id: NodeId,
        open: impl Fn(&dyn Adapter, &Site<'_>) -> Result<T, ReadFault>,
    ) -> Result<T, ReadFault> {
        let account = self.loaded.topology.nodes[id].mend.as_ref();
        self.at_any(id, |adapter, site| match account {
            None => open(adapter, site),
            Some(account) => {
                let password = || self.password(account.password.as_ref());
                let user = Some(&account.user[..]);
                open(adapter, &Site { user, password: &password, ..site.clone() })
            }
        })
    }

    /// Opens a node's journal, at the first of its addresses that answers.
    pub(crate) fn journal(
        &self,
        id: NodeId,
        tables: &[(String, String)],
    ) -> Result<Journal, ReadFault> {
        self.fall_over(id);
        if let Some(path) = &self.loaded.topology.nodes[id].journal {
            let path = self.loaded.base.join(path);
            ordinary(&path)?;
            return Ok(Box::new(FileJournal::open(&path)?));
        }
        self.at_any(id, |adapter, site| adapter.journal(site, tables))
    }

    /// Opens a node to ask its rows for their last writes; none where its rows do not tell.
    pub(crate) fn last_writes(&self, id: NodeId) -> Result<Option<LastWrites>, ReadFault> {
        match self.at_any(id, |adapter, site| adapter.last_writes(site)) {
            Err(fault) if fault.kind == FaultKind::NotSupported => Ok(None),
            opened => opened.map(Some),
        }
    }

    /// The shapes of tables that the file of a node's journal tells of.
    pub(crate) fn exported_shapes(&self, id: NodeId) -> BTreeMap<String, TableShape> {
        let journal = &self.loaded.topology.nodes[id].journal;
        let file = journal.as_ref().map(|path| FileJournal::open(&self.loaded.base.join(path)));
        file.and_then(Result::ok).map(|file| file.shapes()).unwrap_or_default()
    }

    /// The rights, slot and publication that reading a node's journal still needs; tables are named as it does.
    pub(crate) fn journal_needs(
        &self,
        id: NodeId,
        tables: &[String],
    ) -> Result<JournalNeeds, ReadFault> {
        self.at_any(id, |adapter, site| adapter.journal_needs(site, tables))
    }

    /// The account that logs in, where the engine's statements name it otherwise than the address does.
    pub(crate) fn account(&self, id: NodeId) -> Result<Option<String>, ReadFault> {
        self.at_any(id, |adapter, site| adapter.account(site))
    }

    /// Fails inside, where a test wants to see what comes of that. Nothing in a release.
    fn fall_over(&self, id: NodeId) {
        let name = &self.loaded.topology.nodes[id].name;
        let wanted = cfg!(debug_assertions)
            && std::env::var_os("KEEN_FALL_OVER_AT").is_some_and(|node| node == name.as_str());
        assert!(!wanted, "asked to fall over at {name}");
    }

    /// With the adapter of an address.
    fn at<T>(
        &self,
        id: NodeId,
        address: &Address,
        open: impl Fn(&dyn Adapter, &Site<'_>) -> Result<T, ReadFault>,
    ) -> Result<T, ReadFault> {
        let topology = &self.loaded.topology;
        let node = &topology.nodes[id];
        let nodes = u32::try_from(topology.nodes.len()).unwrap_or(1).max(1);
        let site = Site {
            node,
            address,
            base: &self.loaded.base,
            user: None,
            password: &|| self.password(node.password.as_ref()),
            wait: self.wait,
            silence: self.silence,
            cache_kib: (CACHE_KIB / nodes).clamp(128, 1024),
            reader: self.reader,
            heartbeat: topology.heartbeat.as_deref().map(|table| node.name_of(table)),
            receives: topology.links.iter().any(|link| link.to == id),
            stop: Arc::clone(&self.stop),
        };
        open(keen_adapters::adapter_of(address.engine())?, &site)
    }

    /// At the first of a node's addresses that answers.
    fn at_any<T>(
        &self,
        id: NodeId,
        open: impl Fn(&dyn Adapter, &Site<'_>) -> Result<T, ReadFault>,
    ) -> Result<T, ReadFault> {
        let node = &self.loaded.topology.nodes[id];
        let mut told: Option<ReadFault> = None;
        for address in node.addresses() {
            match self.at(id, address, &open) {
                Err(fault) if !fault.is_interrupted() => {
                    tracing::debug!(node = node.name, %fault, "not there");
                    // Of several the one that answered says more.
                    if told
                        .as_ref()
                        .is_none_or(|told| told.kind.is_silence() && !fault.kind.is_silence())
                    {
                        told = Some(fault);
                    }
                }
                other => return other,
            }
        }
        Err(told.unwrap_or_else(ReadFault::interrupted))
    }

    /// A file that no other node has too: two names for one file would always agree with each other.
    fn not_a_twin(&self, id: NodeId) -> Result<(), ReadFault> {
        let Some(path) = &self.paths[id] else { return Ok(()) };
        // By a link or a mount one file has several names.
        let ours = crate::app::output::identity(path);
        let same = |other: &Option<PathBuf>| {
            let theirs = other.as_ref().and_then(|path| crate::app::output::identity(path));
            ours.is_some() && theirs == ours
        };
        let nodes = &self.loaded.topology.nodes;
        match self.paths.iter().take(id).position(same) {
            None => Ok(()),
            Some(twin) => Err(ReadFault::new(
                format!("{} is the same file as that of node {}", path.display(), nodes[twin].name),
                "give each node its own file",
            )),
        }
    }

    /// The password in a file. It can be a pipe that somebody still has to write to: for that it is waited as long as
    /// for a server.
    fn password_in(&self, path: &Path) -> std::io::Result<String> {
        let (say, said) = std::sync::mpsc::channel();
        let path = path.to_owned();
        std::thread::spawn(move || {
            drop(say.send(crate::app::topology_file::read(&path, LONGEST_PASSWORD)));
        });
        said.recv_timeout(self.wait).unwrap_or_else(|_| {
            Err(std::io::Error::other("it sent nothing within --connect-timeout"))
        })
    }

    /// The password by which others follow a node, if it has one.
    pub(crate) fn link_password(&self, id: NodeId) -> Result<Option<LinkPassword>, ReadFault> {
        let node = &self.loaded.topology.nodes[id];
        let secret = node.replication.as_ref().and_then(|account| account.password.as_ref());
        let password = self.password(secret)?;
        Ok(password.map(LinkPassword::from))
    }

    /// The password of an account, from where the topology file says it is.
    fn password(&self, secret: Option<&Secret>) -> Result<Option<Password>, ReadFault> {
        let text = match secret {
            None => return Ok(None),
            Some(Secret::Env(name)) => std::env::var(name).map_err(|_| {
                ReadFault::new(
                    format!("its password should be in the environment variable {name}, which is not set"),
                    format!("set it for this command, or correct password = {{ env = \"{name}\" }}"),
                )
            })?,
            Some(Secret::File(path)) => {
                let path = self.loaded.base.join(path);
                self.password_in(&path).map_err(|error| {
                    ReadFault::new(
                        format!("its password should be in {}: {error}", path.display()),
                        "put it there, readable by this account only, or correct password = { file = ... }",
                    )
                })?
            }
        };
        // Editors and echo end a file with a line break, which is no part of the password.
        let text = text.strip_suffix('\n').map_or(&text[..], |t| t.strip_suffix('\r').unwrap_or(t));
        Ok(Some(Password::new(text.to_owned())))
    }
}
