//! The network: nodes, their applications, and the replicator between them.

mod links;
mod replicate;

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use keen_core::topology::{Address, NodeId, ProblemLevel, SetId, Topology};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rusqlite::types::Value as Cell;
use rusqlite::{Connection, Transaction, TransactionBehavior};

use crate::carry;
use crate::journal::{self, ChangeKind, JournalRow, LabTransaction, Recorded};
use crate::truth::{LabFault, PlantedFault};

/// Why the network could not do what it was told.
#[derive(Debug, thiserror::Error)]
pub enum LabError {
    /// The folder or a file in it.
    #[error("{path}: {error}")]
    File {
        /// The file or folder that could not be used.
        path: PathBuf,
        /// The system's message.
        error: std::io::Error,
    },
    /// SQLite.
    #[error("stand-in node {node}: {error}")]
    Sqlite {
        /// On which node.
        node: String,
        /// SQLite's message.
        error: rusqlite::Error,
    },
    /// The topology text.
    #[error("the topology cannot be used: {0}")]
    Topology(String),
    /// A name that the topology does not have.
    #[error("there is no {0}")]
    Unknown(String),
    /// A node that takes no writes of applications.
    #[error("{0} takes no writes of applications")]
    Closed(String),
}

/// A change that an application makes to one row.
#[derive(Debug, Clone)]
pub enum Change {
    /// Adds a row.
    Insert(&'static str, JournalRow),
    /// Changes cells of the row with this key.
    Update(&'static str, JournalRow, JournalRow),
    /// Takes out the row with this key.
    Delete(&'static str, JournalRow),
}

/// A transaction by the node that made it and its position there.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Tx {
    /// The node that made it.
    pub origin: String,
    /// Its position in that node's journal.
    pub position: i64,
}

impl std::fmt::Display for Tx {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}/{}", self.origin, self.position)
    }
}

/// How likely each arriving transaction meets with an accident, 0 to 1.
#[derive(Debug, Clone, Copy, Default)]
pub struct Chances {
    /// It never arrives at that node.
    pub lose: f64,
    /// It is applied twice.
    pub double: f64,
    /// It is overtaken by later ones.
    pub overtake: f64,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum StandInState {
    Running,
    Paused,
    Cut,
}

impl StandInState {
    fn name(self) -> &'static str {
        match self {
            Self::Running => "running",
            Self::Paused => "paused",
            Self::Cut => "cut",
        }
    }
}

/// Transactions that a link carries in one step, unless it is slowed.
const PER_STEP: i64 = 500;

/// 2026-09-25T06:00:00Z, and a minute.
const BEGINS: i64 = 1_790_316_000_000_000;
const STEP_LASTS: i64 = 60_000_000;

/// A link as the replicator runs it.
#[derive(Debug)]
struct LinkRun {
    from: NodeId,
    to: NodeId,
    /// Its number at the receiver.
    number: i64,
    /// The sets that travel over it.
    carries: Vec<SetId>,
    read_to: i64,
    state: StandInState,
    delay_steps: i64,
    /// It says that it runs and carries nothing.
    stuck: bool,
    /// It is not there any more, though the file has it.
    detached: bool,
    /// Transactions that it carries in one step at most.
    per_step: i64,
    /// Overtaken transactions with the step at which they are let through.
    held: Vec<(i64, LabTransaction)>,
}

/// The network.
#[derive(Debug)]
pub struct Lab {
    folder: PathBuf,
    topology: Topology,
    connections: Vec<Connection>,
    links: Vec<LinkRun>,
    keys: BTreeMap<String, Vec<String>>,
    step: i64,
    /// By how much the clock of each node is off, in microseconds.
    clocks: Vec<i64>,
    rng: ChaCha8Rng,
    chances: Chances,
    to_lose: BTreeSet<(NodeId, Tx)>,
    to_double: BTreeSet<(NodeId, Tx)>,
    to_overtake: BTreeSet<(NodeId, Tx)>,
    /// Already decided, so that every path into a node decides alike.
    decided: BTreeSet<(NodeId, Tx)>,
    truth: Vec<PlantedFault>,
}

impl Lab {
    /// Makes a network in an empty folder: the topology file, and a SQLite file
    /// per node with the schema that `schema` gives for it.
    ///
    /// # Errors
    /// [`LabError`] when the folder, the topology or a schema is not usable.
    pub fn create(
        folder: &Path,
        topology_text: &str,
        schema: impl Fn(&str) -> String,
        seed: u64,
    ) -> Result<Self, LabError> {
        let (topology, problems) = keen_core::topology::read(topology_text);
        let topology = topology.ok_or_else(|| {
            let errors = problems
                .iter()
                .filter(|p| p.level == ProblemLevel::Error)
                .map(|p| p.message.clone());
            LabError::Topology(errors.collect::<Vec<_>>().join("; "))
        })?;
        let file_error = |path: &Path, error| LabError::File { path: path.to_owned(), error };
        fs::create_dir_all(folder).map_err(|error| file_error(folder, error))?;
        let file = folder.join("keen.toml");
        fs::write(&file, topology_text).map_err(|error| file_error(&file, error))?;

        let mut connections = Vec::new();
        for node in &topology.nodes {
            let Address::Sqlite(path) = &node.at else {
                return Err(LabError::Topology(format!("node {} is no SQLite file", node.name)));
            };
            let path = folder.join(path);
            if let Some(parent) = path.parent() {
                fs::create_dir_all(parent).map_err(|error| file_error(parent, error))?;
            }
            let connection =
                open(&path, &schema(&node.name)).map_err(|error| sqlite(&node.name, error))?;
            connections.push(connection);
        }
        let mut lab = Self {
            folder: folder.to_owned(),
            links: (0..)
                .zip(&topology.links)
                .map(|(number, link)| LinkRun {
                    carries: link.carries.clone(),
                    ..LinkRun::begin(link.from, link.to, number)
                })
                .collect(),
            clocks: vec![0; topology.nodes.len()],
            topology,
            connections,
            keys: BTreeMap::new(),
            step: 0,
            rng: ChaCha8Rng::seed_from_u64(seed),
            chances: Chances::default(),
            to_lose: BTreeSet::new(),
            to_double: BTreeSet::new(),
            to_overtake: BTreeSet::new(),
            decided: BTreeSet::new(),
            truth: Vec::new(),
        };
        lab.find_keys()?;
        for link in 0..lab.links.len() {
            lab.note_link(link)?;
        }
        Ok(lab)
    }

    /// The topology it runs.
    #[must_use]
    pub fn topology(&self) -> &Topology {
        &self.topology
    }

    /// The folder it lives in.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The faults that were made on purpose, so far.
    #[must_use]
    pub fn truth(&self) -> &[PlantedFault] {
        &self.truth
    }

    /// A random number below `end`, from the network's seed.
    pub fn random(&mut self, end: u64) -> u64 {
        self.rng.random_range(0..end)
    }

    /// Sets how likely accidents are from now on.
    pub fn set_chances(&mut self, chances: Chances) {
        self.chances = chances;
    }

    // ---- applications ----

    /// The application at a node makes one transaction.
    ///
    /// # Errors
    /// [`LabError`] when the node refuses it; nothing of it is kept then.
    pub fn write(&mut self, node: &str, changes: &[Change]) -> Result<Tx, LabError> {
        let id = self.id(node)?;
        let step = self.step;
        let clock = self.clock(id);
        let names = &self.topology.nodes[id];
        let keys = &self.keys;
        let transaction = begin(&mut self.connections[id]).map_err(|error| sqlite(node, error))?;
        if links::is_closed(&transaction).map_err(|error| sqlite(node, error))? {
            return Err(LabError::Closed(node.to_owned()));
        }
        let made = || -> rusqlite::Result<i64> {
            let position = journal::enter(&transaction, None, node, (step, clock), step)?;
            for (number, change) in changes.iter().enumerate() {
                let (table, kind, identity, new) = match change {
                    Change::Insert(table, row) => (*table, ChangeKind::Insert, None, Some(row)),
                    Change::Update(table, key, cells) => {
                        (*table, ChangeKind::Update, Some(key), Some(cells))
                    }
                    Change::Delete(table, key) => (*table, ChangeKind::Delete, Some(key), None),
                };
                let local = names.name_of(table);
                let key = keys.get(table).map_or(&[][..], Vec::as_slice);
                let before = identity
                    .map(|row| carry::find(&transaction, local, key, row))
                    .transpose()?
                    .flatten();
                let after = match (&before, new) {
                    (Some(before), Some(cells)) => Some(merged(before, cells)),
                    (None, Some(row)) if kind == ChangeKind::Insert => Some(row.clone()),
                    _ => None,
                };
                let recorded = Recorded {
                    number: i64::try_from(number).unwrap_or(i64::MAX),
                    table: table.to_owned(),
                    kind,
                    before,
                    after,
                };
                if recorded.before.is_none() && recorded.after.is_none() {
                    continue; // an update or delete that met no row wrote nothing
                }
                carry::apply(&transaction, local, key, &recorded)?;
                journal::enter_change(&transaction, position, &recorded)?;
            }
            Ok(position)
        };
        let position = made().map_err(|error| sqlite(node, error))?;
        transaction.commit().map_err(|error| sqlite(node, error))?;
        Ok(Tx { origin: node.to_owned(), position })
    }

    /// Keeps applications from writing to a node, or lets them.
    ///
    /// # Errors
    /// [`LabError`] when there is no such node, or its file refuses.
    pub fn set_closed(&mut self, node: &str, closed: bool) -> Result<(), LabError> {
        let id = self.id(node)?;
        let value = if closed { "ON" } else { "OFF" };
        self.connections[id]
            .execute("UPDATE keen_lab_setting SET value = ?1 WHERE name = 'read_only'", [value])
            .map(drop)
            .map_err(|error| sqlite(node, error))
    }

    /// The number that a question to a node's file has for an answer.
    ///
    /// # Errors
    /// [`LabError`] when there is no such node, or its file refuses.
    pub fn count(&self, node: &str, sql: &str) -> Result<u64, LabError> {
        let found = self.connections[self.id(node)?].query_row(sql, [], |row| row.get(0));
        found.map(i64::unsigned_abs).map_err(|error| sqlite(node, error))
    }

    /// The clock of a node: steps take a minute, and the first one begins at six in the morning.
    fn clock(&self, node: NodeId) -> i64 {
        BEGINS + self.step * STEP_LASTS + self.clocks[node]
    }

    /// Sets the clock of a node wrong by so many seconds.
    ///
    /// # Errors
    /// [`LabError::Unknown`] when there is no such node.
    pub fn set_clock(&mut self, node: &str, seconds: i64) -> Result<(), LabError> {
        let id = self.id(node)?;
        self.clocks[id] = seconds * 1_000_000;
        self.record(LabFault::Misset, node, format!("by {seconds} s"));
        Ok(())
    }

    /// Several nodes write before they hear of each other.
    ///
    /// # Errors
    /// [`LabError`] when a node refuses its write.
    pub fn race(&mut self, writes: &[(&str, Change)]) -> Result<Vec<Tx>, LabError> {
        let mut made = Vec::new();
        for (node, change) in writes {
            let tx = self.write(node, std::slice::from_ref(change))?;
            self.record(LabFault::Raced, node, tx.to_string());
            made.push(tx);
        }
        Ok(made)
    }

    /// Somebody changes a node's file past the application, so that nothing is journalled.
    ///
    /// # Errors
    /// [`LabError`] when SQLite refuses the statement.
    pub fn tamper(&mut self, node: &str, sql: &str) -> Result<(), LabError> {
        let id = self.id(node)?;
        self.connections[id].execute_batch(sql).map_err(|error| sqlite(node, error))?;
        self.record(LabFault::Tampered, node, sql.to_owned());
        Ok(())
    }

    // ---- faults ----

    /// Switches the links from one node to another off.
    ///
    /// # Errors
    /// [`LabError::Unknown`] when no link leads there.
    pub fn pause(&mut self, from: &str, to: &str) -> Result<(), LabError> {
        self.switch(from, to, StandInState::Paused, Some(LabFault::Paused))
    }

    /// Makes the receiver unable to reach its source.
    ///
    /// # Errors
    /// [`LabError::Unknown`] when no link leads there.
    pub fn cut(&mut self, from: &str, to: &str) -> Result<(), LabError> {
        self.switch(from, to, StandInState::Cut, Some(LabFault::Cut))
    }

    /// Lets links run again that were paused, cut, stuck, slowed or detached.
    ///
    /// # Errors
    /// [`LabError::Unknown`] when no link leads there.
    pub fn resume(&mut self, from: &str, to: &str) -> Result<(), LabError> {
        for link in self.links_between(from, to)? {
            let run = &mut self.links[link];
            (run.stuck, run.detached, run.per_step) = (false, false, PER_STEP);
        }
        self.switch(from, to, StandInState::Running, None)
    }

    /// Makes links say that they run, and carry nothing.
    ///
    /// # Errors
    /// [`LabError::Unknown`] when no link leads there.
    pub fn stick(&mut self, from: &str, to: &str) -> Result<(), LabError> {
        for link in self.links_between(from, to)? {
            self.links[link].stuck = true;
        }
        self.record(LabFault::Stuck, to, format!("from {from}"));
        Ok(())
    }

    /// Makes links carry so few transactions in a step.
    ///
    /// # Errors
    /// [`LabError::Unknown`] when no link leads there.
    pub fn slow(&mut self, from: &str, to: &str, per_step: u32) -> Result<(), LabError> {
        for link in self.links_between(from, to)? {
            self.links[link].per_step = i64::from(per_step);
        }
        self.record(LabFault::Slowed, to, format!("from {from} to {per_step} transactions a step"));
        Ok(())
    }

    /// Takes links away: the receiver forgets them, and the file still has them.
    ///
    /// # Errors
    /// [`LabError`] when no link leads there, or the receiver cannot be written.
    pub fn detach(&mut self, from: &str, to: &str) -> Result<(), LabError> {
        for link in self.links_between(from, to)? {
            self.links[link].detached = true;
            let LinkRun { to: receiver, number, .. } = self.links[link];
            self.connections[receiver]
                .execute("DELETE FROM keen_lab_link WHERE link = ?1", [number])
                .map_err(|error| sqlite(&self.topology.nodes[receiver].name, error))?;
        }
        self.record(LabFault::Detached, to, format!("from {from}"));
        Ok(())
    }

    /// Makes the links from one node to another late by so many steps.
    ///
    /// # Errors
    /// [`LabError::Unknown`] when no link leads there.
    pub fn delay(&mut self, from: &str, to: &str, steps: u32) -> Result<(), LabError> {
        for link in self.links_between(from, to)? {
            self.links[link].delay_steps = i64::from(steps);
        }
        self.record(LabFault::Delayed, to, format!("from {from} by {steps} steps"));
        Ok(())
    }

    /// This transaction will never arrive at that node, by whatever path.
    ///
    /// # Errors
    /// [`LabError::Unknown`] when there is no such node.
    pub fn lose(&mut self, tx: &Tx, at: &str) -> Result<(), LabError> {
        let id = self.id(at)?;
        self.to_lose.insert((id, tx.clone()));
        self.record(LabFault::Lost, at, tx.to_string());
        Ok(())
    }

    /// This transaction will be applied twice at that node.
    ///
    /// # Errors
    /// [`LabError::Unknown`] when there is no such node.
    pub fn double(&mut self, tx: &Tx, at: &str) -> Result<(), LabError> {
        let id = self.id(at)?;
        self.to_double.insert((id, tx.clone()));
        self.record(LabFault::Doubled, at, tx.to_string());
        Ok(())
    }

    /// This transaction will be held back at that node until later ones have overtaken it.
    ///
    /// # Errors
    /// [`LabError::Unknown`] when there is no such node.
    pub fn overtake(&mut self, tx: &Tx, at: &str) -> Result<(), LabError> {
        let id = self.id(at)?;
        self.to_overtake.insert((id, tx.clone()));
        self.record(LabFault::Overtaken, at, tx.to_string());
        Ok(())
    }

    /// Ends the network: writes the truth beside the nodes and closes them.
    ///
    /// # Errors
    /// [`LabError`] when a file cannot be written.
    pub fn close(self) -> Result<PathBuf, LabError> {
        let path = self.folder.join("truth.json");
        let text = serde_json::to_string_pretty(&self.truth).unwrap_or_default();
        fs::write(&path, text + "\n")
            .map_err(|error| LabError::File { path: path.clone(), error })?;
        for (node, connection) in self.topology.nodes.iter().zip(self.connections) {
            connection.close().map_err(|(_, error)| sqlite(&node.name, error))?;
        }
        Ok(self.folder)
    }

    // ---- pieces ----

    fn id(&self, node: &str) -> Result<NodeId, LabError> {
        self.topology.node(node).ok_or_else(|| LabError::Unknown(format!("node {node}")))
    }

    fn links_between(&self, from: &str, to: &str) -> Result<Vec<usize>, LabError> {
        let ends = (self.id(from)?, self.id(to)?);
        let found: Vec<usize> = (0..self.links.len())
            .filter(|i| (self.links[*i].from, self.links[*i].to) == ends)
            .collect();
        if found.is_empty() {
            Err(LabError::Unknown(format!("link from {from} to {to}")))
        } else {
            Ok(found)
        }
    }

    fn switch(
        &mut self,
        from: &str,
        to: &str,
        state: StandInState,
        wrong: Option<LabFault>,
    ) -> Result<(), LabError> {
        for link in self.links_between(from, to)? {
            self.links[link].state = state;
            self.note_link(link)?;
        }
        if let Some(wrong) = wrong {
            self.record(wrong, to, format!("from {from}"));
        }
        Ok(())
    }

    fn record(&mut self, what: LabFault, node: &str, of: String) {
        let step = u64::try_from(self.step).unwrap_or(0);
        self.truth.push(PlantedFault { step, what, node: node.to_owned(), of });
    }

    fn find_keys(&mut self) -> Result<(), LabError> {
        for set in 0..self.topology.sets.len() {
            let Some(node) = self.topology.carriers(set).first().copied() else {
                continue;
            };
            for table in &self.topology.sets[set].tables {
                let local = self.topology.nodes[node].name_of(table);
                let key = key_of(&self.connections[node], local)
                    .map_err(|error| sqlite(&self.topology.nodes[node].name, error))?;
                self.keys.insert(table.clone(), key);
            }
        }
        Ok(())
    }
}

fn sqlite(node: &str, error: rusqlite::Error) -> LabError {
    LabError::Sqlite { node: node.to_owned(), error }
}

/// Begins a transaction that writes: somebody else may write to the file, too.
fn begin(connection: &mut Connection) -> rusqlite::Result<Transaction<'_>> {
    connection.transaction_with_behavior(TransactionBehavior::Immediate)
}

fn open(path: &Path, schema: &str) -> rusqlite::Result<Connection> {
    let connection = Connection::open(path)?;
    // The files can be made again, so speed goes before safety against power loss.
    connection.execute_batch(
        "PRAGMA journal_mode = WAL; PRAGMA synchronous = OFF; PRAGMA foreign_keys = OFF;",
    )?;
    connection.set_prepared_statement_cache_capacity(64);
    connection.execute_batch(&format!("BEGIN; {schema} {} COMMIT;", journal::TABLES))?;
    Ok(connection)
}

fn key_of(connection: &Connection, table: &str) -> rusqlite::Result<Vec<String>> {
    let mut statement =
        connection.prepare("SELECT name FROM pragma_table_info(?1) WHERE pk > 0 ORDER BY pk")?;
    statement.query_map([table], |row| row.get(0))?.collect()
}

fn merged(before: &JournalRow, cells: &JournalRow) -> JournalRow {
    let new = |name: &String, old: &Cell| {
        cells
            .iter()
            .find(|(changed, _)| changed == name)
            .map_or_else(|| old.clone(), |(_, cell)| cell.clone())
    };
    before.iter().map(|(name, old)| (name.clone(), new(name, old))).collect()
}
