//! Conflicts: every journal is read once, side by side; what was written to the same thing is brought
//! together and judged; then the rows that collided are read where they are now.
//!
//! Memory does not grow with the journals: records are sorted in runs that go to files, and the writes of
//! one thing are judged by themselves. Contents are kept apart and read again for the few that collide.

mod by_last_write;
mod detect;
mod open;
mod read_rows;
mod record_sort;
mod relays;
mod resolve;
mod resume;
mod scan_journal;

use crate::fan_out::fan_out;
use crate::opener::{Journal, OpenJournal, OpenRows};
use crate::tables::{Left, SetTable, thing};
use keen_core::topology::node_set::NodeSet;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use keen_core::conflict::{Conflict, Content, CurrentRow, RowNow, Thing, keep_shown_rules};
use keen_core::history::happened_before::{Deed, History, Write, WriterId};
use keen_core::history::journal::{Head, Id, Stream, Writer};

use keen_core::fault::ReadFault;
use keen_core::observe::links::Micros;

use keen_core::row::schema::TableShape;
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;

pub use by_last_write::{LastWriteSources, LastWrites, written};
use detect::{Candidate, Judging, Reshaping, reshaping};
use open::{OpenJournals, READING};
use record_sort::Contents;
use relays::Relays;
use resolve::{Settle, Settled};
pub use resume::Carried;
use resume::{HandingOn, JournalProgress, Rest, StoredRecords};
use scan_journal::{Read, Reshaped, Shared};

/// Opens a node to ask its rows for their last writes; none where its rows do not tell.
pub type OpenLastWrites<'a> = dyn Fn(NodeId) -> Result<Option<LastWrites>, ReadFault> + Sync + 'a;

/// A request for conflicts.
pub struct ConflictsRequest<'a> {
    /// The topology.
    pub topology: &'a Topology,
    /// Only these nodes are read.
    pub nodes: NodeSet,
    /// Only these tables, by the names the sets use; empty means all.
    pub tables: &'a [String],
    /// A row whose whole life is wanted: its table, and its key as text, cell by cell.
    pub life: Option<(&'a str, &'a [String])>,
    /// Rows that differ, by table and key: of them is wanted who holds what no journal wrote.
    pub differing: &'a [(String, Vec<Value>)],
    /// Opens a node to read its rows.
    pub open: &'a OpenRows<'a>,
    /// Opens a node's journal.
    pub journal: &'a OpenJournal<'a>,
    /// Opens a node to ask its rows for their last writes, where no journal can be read; none where rows are
    /// not to be asked at all.
    pub last_writes: Option<&'a OpenLastWrites<'a>>,
    /// The shapes of tables that a node's exported journal tells of; asked where the node itself tells none.
    pub exported: &'a (dyn Fn(NodeId) -> BTreeMap<String, TableShape> + Sync),
    /// The state of an earlier run: where it can, this one goes on from there.
    pub earlier: Option<Carried>,
    /// Whether something is to be handed on to the next run.
    pub hand_on: bool,
    /// Asked now and then; true ends it early.
    pub stop: &'a (dyn Fn() -> bool + Sync),
}

/// Its standing.
#[derive(Debug, Clone, Default)]
pub struct Found {
    /// The conflicts, the worst first.
    pub conflicts: Vec<Conflict>,
    /// Those that were found beyond the number that is judged.
    pub more: u64,
    /// The tables that were looked at.
    pub tables: Vec<SetTable>,
    /// Tables that were not, and why.
    pub left: Vec<Left>,
    /// By node what was read.
    pub nodes: BTreeMap<NodeId, NodeRead>,
    /// It was stopped before its end.
    pub stopped: bool,
    /// Why what was read could not be kept or put into order.
    pub broken: Option<String>,
    /// The life of the row that was asked for; none if no journal knows it.
    pub life: Option<RowHistory>,
    /// Of the rows that differ those of which a node holds what no journal wrote.
    pub past_the_log: Vec<PastTheLog>,
    /// Transactions that two journals tell differently: their numbers were given out twice.
    pub reused: Vec<Id>,
    /// It went on from what an earlier run had handed on.
    pub went_on: bool,
    /// The state for the next run; none where it could not read everything, or it would be too much.
    pub handed_on: Option<Carried>,
}

/// The reading of one node.
#[derive(Debug, Clone, Default)]
pub struct NodeRead {
    /// The kind of journal.
    pub about: String,
    /// The node's own name as an origin.
    pub identity: Option<String>,
    /// Why the journal could not be read, or not to its end.
    pub fault: Option<ReadFault>,
    /// Why the node's rows could not be read.
    pub rows_fault: Option<ReadFault>,
    /// Reasons why the journal does not tell everything.
    pub notes: Vec<String>,
    /// How many transactions were read, and how many writes to the tables that were looked at.
    pub transactions: u64,
    /// How many transactions an earlier run had read, from where this one went on.
    pub earlier: u64,
    /// Writes to those tables.
    pub writes: u64,
    /// The times of the first and the last, by the clocks of those who made them.
    pub times: Option<(Micros, Micros)>,
    /// The journal begins where the node did, or tells what was there before.
    pub complete: bool,
    /// It was opened and read.
    pub read: bool,
}

/// Every write of one row, over all nodes.
#[derive(Debug, Clone, Default)]
pub struct RowHistory {
    /// Number of the table.
    pub table: usize,
    /// The row, and what every node holds of it.
    pub row: RowNow,
    /// Its writes; of very many the last.
    pub writes: Vec<RowEvent>,
    /// How many there are in all.
    pub count: usize,
    /// Pairs of those, by number, of which neither had seen the other.
    pub unseen: Vec<(usize, usize)>,
}

impl RowHistory {
    /// Nodes that hold something else than the last write left that they applied, with the columns in which they do;
    /// no columns where the row is there and should not be, or the other way round. Whatever wrote it stands in no
    /// journal, or came after that was read.
    #[must_use]
    pub fn past_the_log(&self) -> Vec<(NodeId, Vec<usize>)> {
        let of = |(node, now): (&NodeId, &CurrentRow)| {
            let applied = self.writes.iter().filter(|l| l.write.deed != Deed::Refer);
            let applied = applied.filter_map(|l| Some((l.write.order_at(*node)?, l)));
            let (_, last) = applied.max_by_key(|(order, _)| *order)?;
            let past = match (last.write.deed, now) {
                (_, CurrentRow::Unread(_)) | (Deed::Delete, CurrentRow::NoRow) => None,
                (Deed::Delete, CurrentRow::Row(_)) | (_, CurrentRow::NoRow) => Some(Vec::new()),
                (_, CurrentRow::Row(cells)) => {
                    let after = last.content.after.as_ref()?;
                    let other = |at: &usize| {
                        let told = after.get(*at).and_then(Option::as_ref);
                        told.is_some_and(|told| !told.same_as(&cells[*at]))
                    };
                    let columns: Vec<usize> = (0..cells.len()).filter(other).collect();
                    (!columns.is_empty()).then_some(columns)
                }
            };
            past.map(|columns| (*node, columns))
        };
        self.row.now.iter().filter_map(of).collect()
    }
}

/// A row of which nodes hold what no journal wrote.
#[derive(Debug, Clone, PartialEq)]
pub struct PastTheLog {
    /// Its table's number.
    pub table: usize,
    /// Its key.
    pub key: Vec<Value>,
    /// Those nodes, and what they hold in which columns; no columns where the row is there and should not be, or the
    /// other way round.
    pub nodes: Vec<(NodeId, Vec<(usize, Value)>)>,
}

/// One write of a row's life.
#[derive(Debug, Clone)]
pub struct RowEvent {
    /// Its transaction.
    pub id: Id,
    /// Where it was made.
    pub node: Option<NodeId>,
    /// The write, its time, and where it stands in each journal.
    pub write: Write,
    /// The cells before and after it.
    pub content: Content,
}

/// Writes that are told of one row's life.
const MOST_LIVED: usize = 200;

/// Conflicts that are judged; more are only counted.
const MOST_JUDGED: usize = 20_000;
/// Writes of one thing that are judged together.
const MOST_WRITES: usize = 200_000;

/// Reads the journals and judges what they hold.
pub fn run(request: &ConflictsRequest<'_>) -> Found {
    let mut opened = open::all(request);
    let journals = std::mem::take(&mut opened.journals);
    let shared = shared(request, &opened);
    let ScannedJournals { scans, nodes, relays, writers, history } =
        read_all(request, &opened, &shared, journals);
    let readable = nodes.values().all(NodeRead::is_whole) && !nodes.is_empty();
    let search =
        Search { request, opened: &opened, shared: &shared, writers: &writers, history: &history };
    let collisions = search.collide(scans, &relays, readable);
    let outcome = search.settle(collisions, nodes);
    Found {
        went_on: opened.earlier.is_some(),
        tables: opened.tables,
        left: opened.left,
        stopped: (request.stop)(),
        ..outcome
    }
}

/// The state that the readers of all journals share.
fn shared<'a>(request: &'a ConflictsRequest<'_>, opened: &'a OpenJournals) -> Shared<'a> {
    let OpenJournals { tables, heads, known, earlier, .. } = opened;
    let life = request.life.and_then(|(table, key)| {
        Some((tables.iter().position(|known| known.name == table)?, key.to_vec()))
    });
    let writers = earlier.as_ref().map(Carried::writers).unwrap_or_default();
    Shared::new(tables, known.clone(), heads, life, writers, request.stop)
}

/// The journals, read to their ends.
struct ScannedJournals {
    scans: BTreeMap<NodeId, Read>,
    nodes: BTreeMap<NodeId, NodeRead>,
    relays: Relays,
    writers: Vec<Writer>,
    history: History,
}

/// Reads all journals, side by side, and puts together what they tell of who had seen what.
fn read_all(
    request: &ConflictsRequest<'_>,
    opened: &OpenJournals,
    shared: &Shared<'_>,
    mut journals: BTreeMap<NodeId, Journal>,
) -> ScannedJournals {
    let writers = shared.writers();
    let own: Vec<Option<NodeId>> = writers.iter().map(|writer| shared.node_of(writer)).collect();
    let earlier = opened.earlier.as_ref();
    let scan = |node: NodeId, journal: &mut Journal| {
        let is_own = |writer: WriterId| own.get(usize::from(writer)) == Some(&Some(node));
        let begun = earlier.map(|earlier| earlier.begin(node, &is_own));
        scan_journal::read(shared, node, journal.as_mut(), begun.unwrap_or_default())
    };
    let mut nodes = opened.nodes.clone();
    let mut scans = BTreeMap::new();
    let journals = journals.iter_mut().map(|(node, journal)| (*node, journal));
    for (node, scanned) in fan_out(journals, READING, scan) {
        match scanned {
            Ok(scanned) => drop(scans.insert(node, scanned)),
            Err(fault) => nodes.entry(node).or_default().fault = Some(fault),
        }
    }
    let writers = shared.writers();
    let relays = Relays::new(shared, &writers, &mut scans);
    relays.rename(shared, &writers, &mut scans);
    for (node, scan) in &scans {
        nodes.entry(*node).or_default().tell(scan, &opened.tables);
    }
    let heads = &opened.heads;
    let reach = scans.keys().map(|node| {
        let done = done(request.topology, heads, *node);
        (*node, scan_journal::reach(*node, &heads[node], &writers, &scans, &done))
    });
    let history = History {
        journals: reach.collect(),
        writers: writers.iter().map(|writer| shared.node_of(writer)).collect(),
        window: window(request.topology),
    };
    ScannedJournals { scans, nodes, relays, writers, history }
}

/// Writes that collide, before their outcome is known.
struct Collisions {
    candidates: Vec<Candidate>,
    /// The lives of rows that are wanted, by what stands for the row.
    lives: Vec<(u128, Candidate)>,
    reshapings: Vec<Reshaping>,
    /// By node the contents of its writes.
    contents: BTreeMap<NodeId, Contents>,
    more: u64,
    reused: Vec<(WriterId, u64)>,
    handed_on: Option<Carried>,
    broken: Option<String>,
}

/// Everything that is known once the journals were read.
struct Search<'a> {
    request: &'a ConflictsRequest<'a>,
    opened: &'a OpenJournals,
    shared: &'a Shared<'a>,
    writers: &'a [Writer],
    history: &'a History,
}

impl Search<'_> {
    /// Brings the writes of each thing together, and keeps those that collide.
    fn collide(
        &self,
        mut scans: BTreeMap<NodeId, Read>,
        relays: &Relays,
        readable: bool,
    ) -> Collisions {
        let Search { request, opened, shared, writers, history } = *self;
        let (tables, earlier) = (&opened.tables[..], opened.earlier.as_ref());
        let latest =
            scans.values().filter_map(|scan| Some(scan.times?.1)).max().unwrap_or(i64::MIN);
        let heads = &opened.whole_heads;
        let held = StoredRecords { heads, writers, of: &history.writers, latest };
        let mut reshaped: Vec<Reshaped> =
            scans.values_mut().flat_map(|scan| std::mem::take(&mut scan.shapes)).collect();
        reshaped.retain(|shape| !held.is_forgotten(shape.writer, shape.place, shape.made));
        // What was passed on would have to be known again in the next run.
        let may_hand_on = request.hand_on && relays.is_empty() && readable;
        let progress: Option<BTreeMap<NodeId, JournalProgress>> = match may_hand_on {
            true => (scans.iter())
                .map(|(node, scan)| Some((*node, resume::of_node(scan, &opened.heads[node])?)))
                .collect(),
            false => None,
        };
        let mut broken = None;
        let mut sorted = Vec::new();
        let mut contents: BTreeMap<NodeId, Contents> = BTreeMap::new();
        for (node, scan) in scans {
            match scan.gathered.finish() {
                Ok((runs, of_node)) => {
                    sorted.push(runs);
                    contents.insert(node, of_node);
                }
                Err(error) => broken = Some(error.to_string()),
            }
        }
        let differing = request.differing.iter().filter_map(|(table, key)| {
            let table = tables.iter().position(|known| known.name == *table)?;
            Some(thing(table, None, key))
        });
        let mut judging = Judging {
            request,
            tables,
            history,
            wanted: differing.chain(shared.met()).collect(),
            lives: Vec::new(),
            shapes: reshaping(history, writers, &reshaped, earlier),
            candidates: Vec::new(),
            more: 0,
            reused: earlier.map(Carried::reused).unwrap_or_default(),
            handing_on: progress.is_some().then(HandingOn::default),
            repairs: numbers_of(writers, |stream| stream == Stream::Repair),
            domains: numbers_of(writers, |stream| matches!(stream, Stream::Domain(_))),
            repaired: false,
            held,
        };
        let merged = record_sort::by_thing(sorted, &mut |records| {
            relays.rename_records(records);
            judging.group(records);
            Ok(!(request.stop)())
        });
        broken = merged.err().map(|error| error.to_string()).or(broken);
        let Judging { candidates, shapes: reshapings, lives, handing_on, reused, more, .. } =
            judging;
        let mut handed_on = None;
        if let (Some(progress), Some(handing_on)) = (progress, handing_on)
            && broken.is_none()
            && more == 0
            && !(request.stop)()
        {
            let (fits, reused) = (opened.fits.clone(), reused.clone());
            let rest = Rest { fits, writers, shapes: reshaped, reshapings: &reshapings, reused };
            match resume::hand_on(history, handing_on, progress, &mut contents, rest) {
                Ok(state) => handed_on = state,
                Err(error) => broken = Some(error.to_string()),
            }
        }
        Collisions { candidates, lives, reshapings, contents, more, reused, handed_on, broken }
    }

    /// Reads what the colliding writes wrote and what nodes hold now, and judges them.
    fn settle(&self, collisions: Collisions, mut nodes: BTreeMap<NodeId, NodeRead>) -> Found {
        let Search { request, opened, shared, writers, history } = *self;
        let Collisions { candidates, lives, reshapings, contents, handed_on, .. } = collisions;
        let emptied = reshapings.iter().filter(|reshaping| reshaping.empties());
        let emptied = emptied.map(|r| ((r.table, r.write.writer, r.write.place), r.what.clone()));
        let identities = (opened.heads.iter())
            .filter_map(|(node, head)| Some((*node, head.identity.as_ref()?.to_string())));
        let settle = Settle {
            request,
            tables: &opened.tables,
            history,
            writers,
            identities: identities.collect(),
            emptied: emptied.collect(),
        };
        let (settled, broken) = match settle.all(candidates, (lives, shared.met()), contents) {
            Ok(settled) => (settled, collisions.broken),
            Err(error) => (Settled::default(), Some(error.to_string())),
        };
        for (node, fault) in settled.unread {
            nodes.entry(node).or_default().rows_fault = Some(fault);
        }
        let mut conflicts = settled.conflicts;
        conflicts.extend(settle.shapes(&reshapings));
        let by_last_writes = by_last_write::look(&settle, &nodes, &mut conflicts);
        conflicts.extend(by_last_writes.conflicts);
        for (node, note) in by_last_writes.notes {
            nodes.entry(node).or_default().notes.push(note);
        }
        for (node, fault) in by_last_writes.unread {
            nodes.entry(node).or_default().rows_fault = Some(fault);
        }
        let reused = collisions.reused.iter();
        Found {
            conflicts: in_order(conflicts),
            more: collisions.more + by_last_writes.more,
            nodes,
            broken,
            life: settled.life,
            past_the_log: settled.past_the_log,
            reused: reused.map(|(writer, place)| id(writers, *writer, *place)).collect(),
            handed_on,
            ..Found::default()
        }
    }
}

/// The worst first.
fn in_order(mut conflicts: Vec<Conflict>) -> Vec<Conflict> {
    conflicts.sort_by_cached_key(|conflict| {
        let key = match &conflict.thing {
            Thing::Row(key) | Thing::Unique(_, key) => keen_core::row::encoding::row_bytes(key),
            Thing::Shape => Vec::new(),
        };
        (conflict.rank(), conflict.table, key)
    });
    keep_shown_rules(&mut conflicts);
    conflicts
}

/// The numbers of those who number in a certain way.
fn numbers_of(writers: &[Writer], wanted: impl Fn(Stream) -> bool) -> BTreeSet<WriterId> {
    let numbered = writers.iter().enumerate().filter(|(_, writer)| wanted(writer.stream));
    numbered.filter_map(|(number, _)| WriterId::try_from(number).ok()).collect()
}

/// By origin up to where a node was done with what it wrote, as it says itself, or the sources of its slots were told; of several slots
/// of one source the one furthest behind counts.
fn done(
    topology: &Topology,
    heads: &BTreeMap<NodeId, Head>,
    node: NodeId,
) -> BTreeMap<Arc<str>, u64> {
    let slots: open::Slots = (heads.iter())
        .map(|(node, head)| (*node, (head.slots.clone(), head.follows.clone())))
        .collect();
    let mut done: BTreeMap<Arc<str>, u64> =
        heads.get(&node).map(|head| head.done.clone()).unwrap_or_default();
    for (slot, source) in open::sources(topology, &slots, node) {
        let Some(head) = heads.get(&source) else { continue };
        if let (Some(identity), Some(at)) = (&head.identity, head.confirmed.get(&slot)) {
            let known = done.entry(Arc::clone(identity)).or_insert(*at);
            *known = (*known).min(*at);
        }
    }
    done
}

impl NodeRead {
    /// Tells what was read of its journal.
    fn tell(&mut self, scan: &Read, tables: &[SetTable]) {
        self.read = true;
        self.fault.clone_from(&scan.fault);
        (self.transactions, self.writes, self.times) = (scan.transactions, scan.writes, scan.times);
        self.earlier = scan.earlier;
        for (table, count) in &scan.unknown_rows {
            let name = &tables[*table].name;
            self.notes.push(format!("it does not show the key of {count} writes to {name}"));
        }
    }

    /// Whether its journal and its rows were read, so that another run can go on from here.
    fn is_whole(&self) -> bool {
        self.read && self.fault.is_none() && self.rows_fault.is_none()
    }
}

/// A write made so long after another surely had seen it: the lag that links are allowed, and twice the clock.
fn window(topology: &Topology) -> Micros {
    let delay = topology.links.iter().filter_map(|link| link.delay).max().unwrap_or_default();
    let lag = topology.limits.trailing + delay + topology.limits.clock * 2;
    i64::try_from(lag.as_micros()).unwrap_or(i64::MAX)
}

fn id(writers: &[Writer], writer: WriterId, place: u64) -> Id {
    Id { writer: writers[usize::from(writer)].clone(), place }
}
