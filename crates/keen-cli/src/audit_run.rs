//! Running an audit for the commands that need one.

use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Result, bail};
use jiff::Timestamp;
use keen_core::compare::DivergentRow;
use keen_core::digest::DigestFunction;
use keen_core::expectation::{Nodes, bit};
use keen_core::ports::{LookAtNode, ReadFault, ReadRows};
use keen_core::topology::{Address, Engine, Node, NodeId, Secret, Server, Topology};
use keen_nodes::audit::{
    self, AuditRequest, AuditSink, NodeOutcome, Rate, TableHead, TableOutcome, Verdict,
};
use keen_nodes::mariadb::MariaDbNode;
use keen_nodes::postgres::PostgresNode;
use keen_nodes::server::{Access, Password};
use keen_nodes::sqlite::{self, SqliteNode};

use crate::args::ScopeArgs;
use crate::exit::Exit;
use crate::load::Loaded;
use crate::progress::Progress;

/// What of a topology is to be audited, checked against it.
#[derive(Debug, Clone)]
pub(crate) struct Scope {
    pub(crate) nodes: Nodes,
    pub(crate) tables: Vec<String>,
    pub(crate) function: DigestFunction,
    pub(crate) wait: Duration,
    pub(crate) silence: Duration,
    pub(crate) rate: Option<Rate>,
    pub(crate) threads: usize,
}

impl Scope {
    /// Everything, in the usual way.
    pub(crate) fn whole() -> Self {
        Self {
            nodes: !0,
            tables: Vec::new(),
            function: DigestFunction::default(),
            wait: Duration::from_secs(5),
            silence: Duration::from_secs(30),
            rate: None,
            threads: 1,
        }
    }

    /// Checks what was asked for.
    pub(crate) fn new(topology: &Topology, args: &ScopeArgs) -> Result<Self> {
        Ok(Self {
            function: args.digest.into(),
            wait: args.wait,
            silence: args.silence,
            rate: args.rate,
            threads: args.threads.into(),
            ..Self::chosen(topology, &args.nodes, &args.tables)?
        })
    }

    /// These nodes and tables, or all, in the usual way.
    pub(crate) fn chosen(topology: &Topology, nodes: &[String], tables: &[String]) -> Result<Self> {
        let mut chosen = 0;
        for name in nodes {
            let Some(node) = topology.node(name) else {
                let known: Vec<&str> = topology.nodes.iter().map(|n| &n.name[..]).collect();
                bail!(
                    "there is no node {} in the topology; it has {}",
                    crate::safe::text(name),
                    known.join(", ")
                );
            };
            chosen |= bit(node);
        }
        let known: Vec<&String> = topology.sets.iter().flat_map(|set| &set.tables).collect();
        if let Some(unknown) = tables.iter().find(|table| !known.contains(table)) {
            bail!("no set has a table {}; they have {}", crate::safe::text(unknown), names(&known));
        }
        Ok(Self {
            nodes: if chosen == 0 { !0 } else { chosen },
            tables: tables.to_vec(),
            ..Self::whole()
        })
    }

    /// The nodes that the topology has and the scope leaves out.
    pub(crate) fn left_out(&self, topology: &Topology) -> Vec<String> {
        (0..topology.nodes.len())
            .filter(|n| self.nodes & bit(*n) == 0)
            .map(|n| topology.nodes[n].name.clone())
            .collect()
    }
}

fn names(known: &[&String]) -> String {
    let mut known: Vec<&str> = known.iter().map(|name| &name[..]).collect();
    known.sort_unstable();
    known.dedup();
    crate::safe::text(&known.join(", "))
}

/// What an audit comes to as a whole.
#[derive(Debug, Clone)]
pub(crate) struct Totals {
    pub(crate) started: Timestamp,
    pub(crate) took: Duration,
    pub(crate) nodes: BTreeMap<NodeId, NodeOutcome>,
    pub(crate) left_out: Vec<String>,
    pub(crate) agree: u64,
    pub(crate) diverge: u64,
    pub(crate) unread: u64,
    pub(crate) rows: u64,
    pub(crate) divergent: u64,
    /// Tables that were not read on every node that carries them, as (set, table).
    pub(crate) incomplete: u64,
    pub(crate) stopped: bool,
}

impl Totals {
    /// Everything that was asked for was read to its end.
    pub(crate) fn complete(&self) -> bool {
        !self.stopped && self.incomplete == 0
    }

    /// Tables looked at.
    pub(crate) fn tables(&self) -> u64 {
        self.agree + self.diverge + self.unread
    }

    /// The exit code.
    pub(crate) fn exit(&self) -> Exit {
        if self.stopped {
            Exit::Interrupted
        } else if self.divergent > 0 {
            Exit::Found
        } else if self.complete() {
            Exit::Agree
        } else {
            Exit::Incomplete
        }
    }
}

/// Set by Ctrl-C; asked by everything that takes long.
#[derive(Debug, Clone, Default)]
pub(crate) struct Stop(Arc<AtomicBool>);

impl Stop {
    /// Listens for Ctrl-C and for requests to end. The second one ends at once.
    pub(crate) fn on_signal() -> Self {
        let stop = Self::default();
        let raised = Arc::clone(&stop.0);
        let listening = ctrlc::set_handler(move || {
            if raised.swap(true, Ordering::Relaxed) {
                std::process::exit(130);
            }
        });
        if let Err(error) = listening {
            tracing::warn!(%error, "cannot listen for Ctrl-C");
        }
        stop
    }

    fn raised(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}

/// Page cache of all SQLite nodes together, in KiB.
const CACHE_KIB: u32 = 16 << 10;

/// Runs an audit into `sink`, with progress on the terminal.
pub(crate) fn run(
    loaded: &Loaded,
    scope: &Scope,
    sink: &mut dyn AuditSink,
    stop: &Stop,
    progress_on_terminal: bool,
) -> Result<Totals> {
    if scope.nodes.count_ones() == 1 {
        bail!("one node alone cannot be compared: name at least two with --node");
    }
    let topology = &loaded.topology;
    let started = Timestamp::now();
    let clock = Instant::now();
    let doors = Doors::new(loaded, scope.wait, scope.silence, stop);
    let open = |node: NodeId| doors.open(node);
    let request = AuditRequest {
        topology,
        nodes: scope.nodes,
        tables: &scope.tables,
        function: scope.function,
        rate: scope.rate,
        threads: scope.threads,
        open: &open,
        stop: &|| stop.raised(),
    };
    let mut counting = Counting {
        topology,
        sink,
        progress: Progress::new(progress_on_terminal),
        totals: Totals {
            started,
            took: Duration::ZERO,
            nodes: BTreeMap::new(),
            left_out: scope.left_out(topology),
            agree: 0,
            diverge: 0,
            unread: 0,
            rows: 0,
            divergent: 0,
            incomplete: 0,
            stopped: false,
        },
    };
    let outcome = audit::run(&request, &mut counting);
    counting.progress.done();
    let mut totals = counting.totals;
    totals.nodes = outcome.nodes;
    totals.stopped = stop.raised();
    totals.took = clock.elapsed();
    if totals.tables() == 0 && !totals.stopped {
        bail!(
            "nothing to compare: no table of the chosen ones is carried by two of the chosen nodes"
        );
    }
    Ok(totals)
}

/// Where each SQLite node's file is.
fn paths(loaded: &Loaded) -> Vec<Option<PathBuf>> {
    let path = |address: &Address| match address {
        Address::Sqlite(path) => Some(loaded.base.join(path)),
        Address::Server(_) => None,
    };
    loaded.topology.nodes.iter().map(|node| path(&node.at)).collect()
}

/// How nodes are opened.
pub(crate) struct Doors<'a> {
    loaded: &'a Loaded,
    paths: Vec<Option<PathBuf>>,
    files: sqlite::Options,
    wait: Duration,
    silence: Duration,
    stop: Arc<AtomicBool>,
}

impl<'a> Doors<'a> {
    pub(crate) fn new(loaded: &'a Loaded, wait: Duration, silence: Duration, stop: &Stop) -> Self {
        let nodes = u32::try_from(loaded.topology.nodes.len()).unwrap_or(1).max(1);
        let files = sqlite::Options {
            lock_wait: wait,
            cache_kib: (CACHE_KIB / nodes).clamp(128, 1024),
            stop: Arc::clone(&stop.0),
        };
        let stop = Arc::clone(&stop.0);
        Self { loaded, paths: paths(loaded), files, wait, silence, stop }
    }

    /// Opens a node to read its rows, at the first of its addresses that answers.
    fn open(&self, id: NodeId) -> Result<Box<dyn ReadRows>, ReadFault> {
        let node = &self.loaded.topology.nodes[id];
        let mut first = None;
        for address in node.addresses() {
            let opened: Result<Box<dyn ReadRows>, ReadFault> = match address {
                Address::Sqlite(_) => self.file(id).map(|node| Box::new(node) as _),
                Address::Server(server) => self.access(node, server).and_then(|access| {
                    Ok(match server.engine {
                        Engine::MariaDb => Box::new(MariaDbNode::open(&access)?) as _,
                        _ => Box::new(PostgresNode::open(&access)?) as _,
                    })
                }),
            };
            match opened {
                Err(fault) if !fault.interrupted => {
                    tracing::debug!(node = node.name, %fault, "not there");
                    first.get_or_insert(fault);
                }
                other => return other,
            }
        }
        Err(first.unwrap_or_else(ReadFault::interrupted))
    }

    /// Opens a node at one of its addresses to look around.
    pub(crate) fn look_in(
        &self,
        id: NodeId,
        address: &Address,
    ) -> Result<Box<dyn LookAtNode>, ReadFault> {
        let node = &self.loaded.topology.nodes[id];
        let Address::Server(server) = address else {
            return self.opened(id).map(|node| Box::new(node) as _);
        };
        let access = self.access(node, server)?;
        Ok(match server.engine {
            Engine::MariaDb => Box::new(MariaDbNode::open(&access)?),
            _ => Box::new(PostgresNode::open(&access)?),
        })
    }

    fn access(&self, node: &Node, server: &Server) -> Result<Access, ReadFault> {
        let access = Access {
            server: server.clone(),
            password: self.password(node)?,
            tls: node.tls.clone(),
            base: self.loaded.base.clone(),
            wait: self.wait,
            silence: self.silence,
            stop: Arc::clone(&self.stop),
        };
        tracing::debug!(node = node.name, address = access.shown(), "connecting");
        Ok(access)
    }

    /// A file that no other node has too: two names for one file would always agree with each other.
    fn file(&self, id: NodeId) -> Result<SqliteNode, ReadFault> {
        let Some(path) = &self.paths[id] else {
            return Err(ReadFault::new(
                "the node is no file",
                "this is a defect of keen: please report it",
            ));
        };
        let same = |other: &Option<PathBuf>| {
            let (a, b) = (path.canonicalize(), other.as_ref().map(|p| p.canonicalize()));
            matches!((a, b), (Ok(a), Some(Ok(b))) if a == b)
        };
        let nodes = &self.loaded.topology.nodes;
        if let Some(twin) = self.paths.iter().take(id).position(same) {
            return Err(ReadFault::new(
                format!("{} is the same file as that of node {}", path.display(), nodes[twin].name),
                "give each node its own file",
            ));
        }
        self.opened(id)
    }

    fn opened(&self, id: NodeId) -> Result<SqliteNode, ReadFault> {
        let name = &self.loaded.topology.nodes[id].name;
        let Some(path) = &self.paths[id] else {
            return Err(ReadFault::new(
                "the node is no file",
                "this is a defect of keen: please report it",
            ));
        };
        tracing::debug!(node = name, path = %path.display(), "opening");
        SqliteNode::open(path, &self.files)
    }

    /// The password of a node's account, from where the topology file says it is.
    fn password(&self, node: &Node) -> Result<Option<Password>, ReadFault> {
        let text = match &node.password {
            None => return Ok(None),
            Some(Secret::Env(name)) => std::env::var(name).map_err(|_| {
                ReadFault::new(
                    format!("its password should be in the environment variable {name}, which is not set"),
                    format!("set it for this command, or correct password = {{ env = \"{name}\" }}"),
                )
            })?,
            Some(Secret::File(path)) => {
                let path = self.loaded.base.join(path);
                std::fs::read_to_string(&path).map_err(|error| {
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

/// Counts and draws progress on the way to the sink that was asked for.
struct Counting<'a> {
    topology: &'a Topology,
    sink: &'a mut dyn AuditSink,
    progress: Progress,
    totals: Totals,
}

impl AuditSink for Counting<'_> {
    fn opened(&mut self, nodes: &BTreeMap<NodeId, NodeOutcome>, estimated_keys: u64) {
        for (id, node) in nodes {
            let name = &self.topology.nodes[*id].name;
            match &node.fault {
                Some(fault) => tracing::debug!(node = name, %fault, "not read"),
                None => tracing::debug!(node = name, about = node.about, "opened"),
            }
        }
        self.progress.expect(estimated_keys);
        self.sink.opened(nodes, estimated_keys);
    }

    fn table(&mut self, head: &TableHead<'_>) -> ControlFlow<()> {
        self.progress.table(head.table);
        self.sink.table(head)
    }

    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        self.sink.divergent(row)
    }

    fn advanced(&mut self, keys: u64) {
        self.progress.advance(keys);
    }

    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        let count = match outcome.verdict {
            Verdict::Agrees => &mut self.totals.agree,
            Verdict::Diverges => &mut self.totals.diverge,
            Verdict::Unread => &mut self.totals.unread,
        };
        *count += 1;
        self.totals.incomplete += u64::from(!outcome.unread.is_empty());
        self.totals.divergent += outcome.tally.divergent;
        self.totals.rows +=
            outcome.tally.balances.values().map(|balance| balance.rows).sum::<u64>();
        self.sink.table_done(outcome)
    }
}
