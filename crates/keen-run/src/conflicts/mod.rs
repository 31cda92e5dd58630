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

use crate::opener::{Journal, OpenJournal, OpenRows};
use crate::tables::{Left, Table, thing};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use keen_core::conflict::{Conflict, Content, Now, RowNow, Thing, keep_shown_rules};
use keen_core::history::happened_before::{Deed, History, Write, WriterId};
use keen_core::history::journal::{Head, Id, Stream, Writer};

use keen_core::fault::ReadFault;
use keen_core::observe::links::Micros;

use keen_core::row::schema::TableShape;
use keen_core::topology::placement::Nodes;
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;

pub use by_last_write::{LastWriteSources, LastWrites, written};
use detect::{Judging, reshaping};
use open::{Opened, fell_over};
use record_sort::Contents;
use relays::Relays;
use resolve::Settle;
pub use resume::Carried;
use resume::{Begun, HandingOn, Held, OfNode, Rest};
use scan_journal::{Read, Reshaped, Shared};

/// Opens a node to ask its rows for their last writes; none where its rows do not tell.
pub type OpenLastWrites<'a> = dyn Fn(NodeId) -> Result<Option<LastWrites>, ReadFault> + Sync + 'a;

/// What is to be judged.
pub struct ConflictsRequest<'a> {
    /// The topology.
    pub topology: &'a Topology,
    /// Only these nodes are read.
    pub nodes: Nodes,
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
    /// What an earlier run handed on: where it can, this one goes on from there.
    pub earlier: Option<Carried>,
    /// Whether something is to be handed on to the next run.
    pub hand_on: bool,
    /// Asked now and then; true ends it early.
    pub stop: &'a (dyn Fn() -> bool + Sync),
}

/// What came of it.
#[derive(Debug, Clone, Default)]
pub struct Found {
    /// The conflicts, the worst first.
    pub conflicts: Vec<Conflict>,
    /// Those that were found beyond the number that is judged.
    pub more: u64,
    /// The tables that were looked at.
    pub tables: Vec<Table>,
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
    /// What it hands on to the next run; none where it could not read everything, or it would be too much.
    pub handed_on: Option<Carried>,
}

/// What was read of one node.
#[derive(Debug, Clone, Default)]
pub struct NodeRead {
    /// What kind of journal it is.
    pub about: String,
    /// What the node calls itself as an origin.
    pub identity: Option<String>,
    /// Why the journal could not be read, or not to its end.
    pub fault: Option<ReadFault>,
    /// Why the node's rows could not be read.
    pub rows_fault: Option<ReadFault>,
    /// What keeps the journal from telling everything.
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
        let of = |(node, now): (&NodeId, &Now)| {
            let applied = self.writes.iter().filter(|l| l.write.deed != Deed::Refer);
            let applied = applied.filter_map(|l| Some((l.write.order_at(*node)?, l)));
            let (_, last) = applied.max_by_key(|(order, _)| *order)?;
            let past = match (last.write.deed, now) {
                (_, Now::Unread(_)) | (Deed::Delete, Now::NoRow) => None,
                (Deed::Delete, Now::Row(_)) | (_, Now::NoRow) => Some(Vec::new()),
                (_, Now::Row(cells)) => {
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
    /// What it did, when, and where it stands in each journal.
    pub write: Write,
    /// What it found and what it left.
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
    let topology = request.topology;
    let mut found = Found::default();
    let Opened { fits, heads, whole_heads, mut journals, known, earlier } =
        open::all(request, &mut found);
    let tables = std::mem::take(&mut found.tables);
    let life = request.life.and_then(|(table, key)| {
        Some((tables.iter().position(|known| known.name == table)?, key.to_vec()))
    });
    found.went_on = earlier.is_some();
    let earlier = earlier.as_ref();
    let writers = earlier.map(Carried::writers).unwrap_or_default();
    let shared = Shared::new(&tables, known, &heads, life, writers, request.stop);
    let mut reads = read_all(&shared, &mut journals, earlier, &mut found);
    let writers = shared.writers();
    let relays = Relays::new(&shared, &writers, &mut reads);
    relays.rename(&shared, &writers, &mut reads);
    tell(&reads, &tables, &mut found);
    let journals_reach = reads.keys().map(|node| {
        let done = done(topology, &heads, *node);
        (*node, scan_journal::reach(*node, &heads[node], &writers, &reads, &done))
    });
    let history = History {
        journals: journals_reach.collect(),
        writers: writers.iter().map(|writer| shared.node_of(writer)).collect(),
        window: window(topology),
    };
    let latest = reads.values().filter_map(|read| Some(read.times?.1)).max().unwrap_or(i64::MIN);
    let held = Held { heads: &whole_heads, writers: &writers, of: &history.writers, latest };
    let mut reshaped: Vec<Reshaped> =
        reads.values_mut().flat_map(|read| std::mem::take(&mut read.shapes)).collect();
    reshaped.retain(|shape| !held.is_forgotten(shape.writer, shape.place, shape.made));
    // What was passed on would have to be known again in the next run.
    let may_hand_on = request.hand_on && relays.is_empty() && found.can_hand_on();
    let handed_on: Option<BTreeMap<NodeId, OfNode>> = match may_hand_on {
        true => reads
            .iter()
            .map(|(node, read)| Some((*node, resume::of_node(read, &heads[node])?)))
            .collect(),
        false => None,
    };
    let mut sorted = Vec::new();
    let mut kept: BTreeMap<NodeId, Contents> = BTreeMap::new();
    for (node, read) in reads {
        match read.gathered.finish() {
            Ok((runs, contents)) => {
                sorted.push(runs);
                kept.insert(node, contents);
            }
            Err(error) => found.broken = Some(error.to_string()),
        }
    }
    let differing = request.differing.iter().filter_map(|(table, key)| {
        let table = tables.iter().position(|known| known.name == *table)?;
        Some(thing(table, None, key))
    });
    let mut judging = Judging {
        request,
        tables: &tables,
        history: &history,
        wanted: differing.chain(shared.met()).collect(),
        lives: Vec::new(),
        shapes: reshaping(&history, &writers, &reshaped, earlier),
        candidates: Vec::new(),
        more: 0,
        reused: earlier.map(Carried::reused).unwrap_or_default(),
        handing_on: handed_on.is_some().then(HandingOn::default),
        repairs: numbers_of(&writers, |stream| stream == Stream::Repair),
        domains: numbers_of(&writers, |stream| matches!(stream, Stream::Domain(_))),
        repaired: false,
        held,
    };
    let merged = record_sort::by_thing(sorted, &mut |records| {
        relays.rename_records(records);
        judging.group(records);
        Ok(!(request.stop)())
    });
    if let Err(error) = merged {
        found.broken = Some(error.to_string());
    }
    found.more = judging.more;
    found.reused =
        judging.reused.iter().map(|(writer, place)| id(&writers, *writer, *place)).collect();
    let Judging { candidates, shapes: reshapings, lives, handing_on, reused, .. } = judging;
    if let (Some(nodes), Some(handing_on)) = (handed_on, handing_on)
        && found.broken.is_none()
        && found.more == 0
        && !(request.stop)()
    {
        let rest =
            Rest { fits, writers: &writers, shapes: reshaped, reshapings: &reshapings, reused };
        match resume::hand_on(&history, handing_on, nodes, &mut kept, rest) {
            Ok(handed_on) => found.handed_on = handed_on,
            Err(error) => found.broken = Some(error.to_string()),
        }
    }
    let identities: BTreeMap<NodeId, String> = heads
        .iter()
        .filter_map(|(node, head)| Some((*node, head.identity.as_ref()?.to_string())))
        .collect();
    let emptied = reshapings.iter().filter(|reshaping| reshaping.empties());
    let emptied = emptied.map(|r| ((r.table, r.write.writer, r.write.place), r.what.clone()));
    let settle = Settle {
        request,
        tables: &tables,
        history: &history,
        writers: &writers,
        identities,
        emptied: emptied.collect(),
    };
    if let Err(error) = settle.all(candidates, (lives, shared.met()), kept, &mut found) {
        found.broken = Some(error.to_string());
    }
    settle.shapes(&reshapings, &mut found);
    by_last_write::look(&settle, &mut found);
    found.conflicts.sort_by_cached_key(|conflict| {
        let key = match &conflict.thing {
            Thing::Row(key) | Thing::Unique(_, key) => keen_core::row::encoding::row_bytes(key),
            Thing::Shape => Vec::new(),
        };
        (conflict.rank(), conflict.table, key)
    });
    keep_shown_rules(&mut found.conflicts);
    found.stopped = (request.stop)();
    found.tables = tables;
    found
}

/// Reads all journals, side by side.
fn read_all(
    shared: &Shared<'_>,
    journals: &mut BTreeMap<NodeId, Journal>,
    earlier: Option<&Carried>,
    found: &mut Found,
) -> BTreeMap<NodeId, Read> {
    let writers = shared.writers();
    let own: Vec<Option<NodeId>> = writers.iter().map(|writer| shared.node_of(writer)).collect();
    std::thread::scope(|scope| {
        let reading: Vec<_> = journals
            .iter_mut()
            .map(|(node, journal)| {
                let own = &own;
                let is_own =
                    move |writer: WriterId| own.get(usize::from(writer)) == Some(&Some(*node));
                let read = move || {
                    let begun = earlier.map_or_else(Begun::default, |e| e.begin(*node, &is_own));
                    scan_journal::read(shared, *node, journal.as_mut(), begun)
                };
                (*node, scope.spawn(read))
            })
            .collect();
        let mut reads = BTreeMap::new();
        for (node, read) in reading {
            match read.join() {
                Ok(read) => drop(reads.insert(node, read)),
                Err(_) => found.nodes.entry(node).or_default().fault = Some(fell_over()),
            }
        }
        reads
    })
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

/// Tells what was read of each node.
fn tell(reads: &BTreeMap<NodeId, Read>, tables: &[Table], found: &mut Found) {
    for (node, read) in reads {
        let report = found.nodes.entry(*node).or_default();
        report.read = true;
        report.fault.clone_from(&read.fault);
        (report.transactions, report.writes, report.times) =
            (read.transactions, read.writes, read.times);
        report.earlier = read.earlier;
        for (table, count) in &read.unknown_rows {
            let name = &tables[*table].name;
            report.notes.push(format!("of {count} writes to {name} it does not tell the key"));
        }
    }
}

impl Found {
    /// Whether everything was read, so that another run can go on from here.
    fn can_hand_on(&self) -> bool {
        let whole =
            |node: &NodeRead| node.read && node.fault.is_none() && node.rows_fault.is_none();
        !self.nodes.is_empty() && self.nodes.values().all(whole)
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
