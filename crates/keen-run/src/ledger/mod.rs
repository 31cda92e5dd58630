//! The ledger: where runs keep what they saw. It is never needed for an answer.
//!
//! [`Ledger`] is the port: commands keep a [`RunRecord`] and ask questions, and know no more of what holds them. Behind it
//! are a file ([`sqlite`]) and memory ([`memory`]), which is also the plain reading of what the file must do.

mod kept;
pub mod memory;
mod record;
pub mod sqlite;

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use keen_core::links::Memory;
use keen_core::observe::links::{Baseline, Marks, Micros, SlotAnew};
use keen_core::topology::{Role, Topology};

pub use kept::{
    Accepted, DayThen, LinkThen, NodeThen, Proof, RunThen, SlotThen, TableThen, conflict_id,
};
pub use record::{
    Audited, JournalsRead, KeptFinding, KeptLink, KeptLook, LedgerRun, Raced, RunRecord,
};

/// Runs that are kept of one topology; older ones go.
const RUNS_KEPT: u32 = 20_000;
/// Earlier looks at a source that are remembered: enough for a day of looks every minute.
const LOOKS_REMEMBERED: u32 = 1500;
/// Times at which a site was seen to arrive that its pauses are told from.
const ARRIVALS: u32 = 200;
/// Runs that slots are looked for in; further back nobody asks.
const RUNS_LOOKED_AT: u32 = 2000;
/// Of so many conflicts at most it is looked up what earlier runs proved.
const MOST_PROOFS: u32 = 20_000;

/// Why the ledger cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum LedgerFault {
    /// The file or what is in it.
    #[error("{0}")]
    Sqlite(#[from] rusqlite::Error),
    /// A newer keen wrote it.
    #[error("its tables have version {found}, but this keen knows versions up to {known}")]
    Newer {
        /// The version of its tables.
        found: i64,
        /// The newest that this keen knows.
        known: i64,
    },
    /// It is a database of somebody else.
    #[error("it is a database, but not a ledger of keen")]
    NotOurs,
    /// It could not be made.
    #[error("{0}")]
    File(#[from] std::io::Error),
}

/// The ends of a link, by the names of the nodes: from, to.
pub type EndNames<'a> = (&'a str, &'a str);

/// Where runs are kept, of any number of topologies.
pub trait Ledger {
    /// Keeps a run and what it saw: all of it or nothing.
    ///
    /// # Errors
    /// [`LedgerFault`] when it cannot be written.
    fn keep(&mut self, run: &LedgerRun<'_>, record: &RunRecord) -> Result<(), LedgerFault>;

    /// Accepts the conflict of that short name as it was found last; nothing if none has it.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read or written.
    fn accept(
        &mut self,
        topology: &str,
        id: &str,
        because: &str,
        at: Micros,
    ) -> Result<Option<Accepted>, LedgerFault>;

    /// The last runs, the latest first.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn runs(&self, topology: &str, most: u32) -> Result<Vec<RunThen>, LedgerFault>;

    /// The findings of a run.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn findings_of(&self, run: i64) -> Result<Vec<KeptFinding>, LedgerFault>;

    /// How a link went, the latest first.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn link(
        &self,
        topology: &str,
        ends: EndNames<'_>,
        most: u32,
    ) -> Result<Vec<LinkThen>, LedgerFault>;

    /// How a table went, the latest first.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn table(&self, topology: &str, table: &str, most: u32) -> Result<Vec<TableThen>, LedgerFault>;

    /// The conflicts of a table, day by day, the latest first.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn conflicts_by_day(
        &self,
        topology: &str,
        table: &str,
        most: u32,
    ) -> Result<Vec<DayThen>, LedgerFault>;

    /// How far journals were read by runs over certain nodes and tables, and when; nothing if none kept that.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn journals_read(
        &self,
        topology: &str,
        scope: &str,
    ) -> Result<Option<(Micros, Vec<u8>)>, LedgerFault>;

    /// The names of all conflicts that were ever kept; none at all if nobody has looked for any.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn raced(&self, topology: &str) -> Result<Option<BTreeSet<String>>, LedgerFault>;

    /// Accepted conflicts, by their names.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn accepted(&self, topology: &str) -> Result<BTreeMap<String, Accepted>, LedgerFault>;

    /// The proofs of earlier runs on writes that were made since a moment, the latest first.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn proofs(&self, topology: &str, since: Micros) -> Result<Vec<Proof>, LedgerFault>;

    /// The last look at a node that told anything, as a new one is held against it.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn last_look(&self, topology: &str, node: &str) -> Result<Option<Baseline>, LedgerFault>;

    /// The last looks at a node that told anything, the latest first.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn looks(&self, topology: &str, node: &str, most: u32) -> Result<Vec<NodeThen>, LedgerFault>;

    /// By table, when it was last seen to change on a node.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn last_changes(
        &self,
        topology: &str,
        node: &str,
    ) -> Result<BTreeMap<String, Micros>, LedgerFault>;

    /// When a link was last looked at and was not dark.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn last_seen(&self, topology: &str, ends: EndNames<'_>) -> Result<Option<Micros>, LedgerFault>;

    /// When a link was seen to bring something, the latest first.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn arrivals(
        &self,
        topology: &str,
        ends: EndNames<'_>,
        most: u32,
    ) -> Result<Vec<Micros>, LedgerFault>;

    /// Slots at the last runs that the ledger has, by node, by slot, the oldest first.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn slots(&self, topology: &str, runs: u32) -> Result<Vec<SlotThen>, LedgerFault>;

    /// When the last audit of at least so many tables began that found all alike.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn last_agreement(&self, topology: &str, tables: u64) -> Result<Option<Micros>, LedgerFault>;

    /// The nodes that applications wrote to at the last run that saw any writes.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn last_writers(&self, topology: &str) -> Result<Vec<String>, LedgerFault>;

    /// The last looks that were kept, node by node, as what a new look is held against.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn marks(&self, topology: &Topology) -> Result<Marks, LedgerFault> {
        let mut marks = Marks::new();
        for (node, named) in topology.nodes.iter().enumerate() {
            let last = self.last_look(&topology.name, &named.name)?;
            marks.extend(last.map(|last| (node, last)));
        }
        Ok(marks)
    }

    /// The memory of earlier runs, which tells more than two looks can.
    ///
    /// # Errors
    /// [`LedgerFault`] when the ledger cannot be read.
    fn memory(&self, topology: &Topology) -> Result<Memory, LedgerFault> {
        let mut memory = Memory::default();
        let of = &topology.name;
        for (node, named) in topology.nodes.iter().enumerate() {
            let looks = self.looks(of, &named.name, LOOKS_REMEMBERED)?;
            if looks.first().is_some_and(|look| look.standby) {
                memory.standbys.push(node);
            }
            let positions = looks.into_iter().rev();
            let positions = positions.filter_map(|look| Some((look.at, look.position?)));
            memory.positions.insert(node, positions.collect());
            let changed = self.last_changes(of, &named.name)?.into_iter();
            memory.changed.extend(changed.map(|(table, at)| ((node, table), at)));
        }
        for link in &topology.links {
            let ends = (link.from, link.to);
            let names = (&topology.nodes[link.from].name[..], &topology.nodes[link.to].name[..]);
            memory.seen.extend(self.last_seen(of, names)?.map(|seen| (ends, seen)));
            if topology.role(link.to) == Role::Hub {
                let seen = self.arrivals(of, names, ARRIVALS)?;
                // The longest pause between two such times.
                let longest = seen.windows(2).map(|pair| pair[0] - pair[1]).max();
                let pause = Duration::from_micros(longest.unwrap_or(0).max(0).unsigned_abs());
                memory.arrivals.extend(seen.first().map(|last| (ends, (*last, pause))));
            }
        }
        memory.anew = slots_anew(topology, &self.slots(of, RUNS_LOOKED_AT)?);
        let tables: BTreeSet<(usize, &String)> = (topology.sets.iter().enumerate())
            .flat_map(|(set, content)| content.tables.iter().map(move |table| (set, table)))
            .collect();
        if let Some(agreed) = self.last_agreement(of, tables.len() as u64)? {
            memory.anew.retain(|_, anew| anew.found > agreed);
        }
        let writers = self.last_writers(of)?;
        memory.writers = writers.iter().filter_map(|name| topology.node(name)).collect();
        Ok(memory)
    }
}

/// The slots that were made anew from one run to a later one, by node and name.
fn slots_anew(
    topology: &Topology,
    slots: &[SlotThen],
) -> BTreeMap<(keen_core::topology::NodeId, String), SlotAnew> {
    let mut anew = BTreeMap::new();
    for pair in slots.windows(2) {
        let [then, now] = pair else { continue };
        if (&then.node, &then.slot) != (&now.node, &now.slot) {
            continue;
        }
        let Some(node) = topology.node(&now.node) else { continue };
        let told = SlotAnew::told(
            (&then.confirmed, then.prepared, then.counted_since.as_deref()),
            (now.prepared, now.counted_since.as_deref()),
            (then.at, now.at),
        );
        anew.extend(told.map(|told| ((node, now.slot.clone()), told)));
    }
    anew
}
