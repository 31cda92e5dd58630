//! Conflicts: every journal is read once, side by side; what was written to the same thing is brought
//! together and judged; then the rows that collided are read where they are now.
//!
//! Memory does not grow with the journals: records are sorted in runs that go to files, and the writes of
//! one thing are judged by themselves. Contents are kept apart and read again for the few that collide.

mod contents;
mod gather;
mod spill;
mod tables;

use std::collections::BTreeMap;
use std::io;
use std::sync::Arc;

use keen_core::causality::{Chain, Deed, History, Saw, Write, WriterId, chains};
use keen_core::conflict::{
    Case, Conflict, Content, Fate, Kind, Now, RowNow, Standing, Thing, Written, judge,
};
use keen_core::expectation::{Nodes, bit, members};
use keen_core::flow::look::Micros;
use keen_core::journal::{Head, Id, ReadJournal, Since, Writer};
use keen_core::ports::{ReadFault, ReadRows};
use keen_core::shape::TableShape;
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;

use contents::{Held, Wanted};
use gather::{Read, Reshaped, Shared};
use spill::{Contents, NO_CONTENT, NO_TIME, Record};
pub use tables::{Left, Table};

/// A journal that can be read on a thread of its own.
pub type Journal = Box<dyn ReadJournal + Send>;

/// Opens a node to read its rows.
pub type OpenRows<'a> = dyn Fn(NodeId) -> Result<Box<dyn ReadRows>, ReadFault> + Sync + 'a;

/// Opens a node's journal. The tables are named as the sets do, and as the node does.
pub type OpenJournal<'a> =
    dyn Fn(NodeId, &[(String, String)]) -> Result<Journal, ReadFault> + Sync + 'a;

/// What is to be judged.
pub struct Request<'a> {
    /// The topology.
    pub topology: &'a Topology,
    /// Only these nodes are read.
    pub nodes: Nodes,
    /// Only these tables, by the names the sets use; empty means all.
    pub tables: &'a [String],
    /// A row whose whole life is wanted: its table, and its key as text, cell by cell.
    pub life: Option<(&'a str, &'a [String])>,
    /// Opens a node to read its rows.
    pub open: &'a OpenRows<'a>,
    /// Opens a node's journal.
    pub journal: &'a OpenJournal<'a>,
    /// The shapes of tables that a node's exported journal tells of; asked where the node itself tells none.
    pub exported: &'a (dyn Fn(NodeId) -> BTreeMap<String, TableShape> + Sync),
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
    pub life: Option<Life>,
    /// Transactions that two journals tell differently: their numbers were given out twice.
    pub reused: Vec<Id>,
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
    /// How many transactions it holds, and how many writes to the tables that were looked at.
    pub transactions: u64,
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
pub struct Life {
    /// Number of the table.
    pub table: usize,
    /// The row, and what every node holds of it.
    pub row: RowNow,
    /// Its writes; of very many the last.
    pub writes: Vec<Lived>,
    /// How many there are in all.
    pub count: usize,
    /// Pairs of those, by number, of which neither had seen the other.
    pub unseen: Vec<(usize, usize)>,
}

/// One write of a row's life.
#[derive(Debug, Clone)]
pub struct Lived {
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
pub fn run(request: &Request<'_>) -> Found {
    let topology = request.topology;
    let mut found = Found::default();
    let shapes = shapes(request, &mut found);
    let (tables, left) = tables::tables(topology, request.tables, &shapes);
    (found.tables, found.left) = (tables, left);
    let (heads, mut journals) = open(request, &mut found);
    resolve(topology, &heads, &mut journals);
    let mut known = identities(topology, &heads);
    // A node whose journal cannot be read may still have said who it is.
    for (node, report) in &found.nodes {
        if let Some(identity) = &report.identity {
            known.entry(Arc::from(&identity[..])).or_insert(*node);
        }
    }
    for (node, other, name) in twins(topology, &heads) {
        let reason = ReadFault::new(
            format!(
                "it calls itself {name}, and so does {other}: nobody can tell their writes apart"
            ),
            "give each node an identity of its own (keen preflight says how)",
        );
        journals.remove(&node);
        found.nodes.entry(node).or_default().fault = Some(reason);
    }
    let tables = std::mem::take(&mut found.tables);
    let life = request.life.and_then(|(table, key)| {
        Some((tables.iter().position(|known| known.name == table)?, key.to_vec()))
    });
    let shared = Shared::new(&tables, known, &heads, life, request.stop);
    let mut reads: BTreeMap<NodeId, Read> = std::thread::scope(|scope| {
        let reading: Vec<_> = journals
            .iter_mut()
            .map(|(node, journal)| {
                let shared = &shared;
                (*node, scope.spawn(move || gather::read(shared, *node, journal.as_mut())))
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
    });
    let writers = shared.writers();
    for (node, read) in &reads {
        let report = found.nodes.entry(*node).or_default();
        report.read = true;
        report.fault.clone_from(&read.fault);
        (report.transactions, report.writes, report.times) =
            (read.transactions, read.writes, read.times);
        for (table, count) in &read.unknown_rows {
            let name = &tables[*table].name;
            report.notes.push(format!("of {count} writes to {name} it does not tell the key"));
        }
    }
    let journals_reach =
        reads.keys().map(|node| (*node, gather::reach(*node, &heads[node], &writers, &reads)));
    let history = History {
        journals: journals_reach.collect(),
        writers: writers.iter().map(|writer| shared.node_of(writer)).collect(),
        window: window(topology),
    };
    let reshaped: Vec<Reshaped> =
        reads.values_mut().flat_map(|read| std::mem::take(&mut read.shapes)).collect();
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
    let mut judging = Judging {
        request,
        tables: &tables,
        history: &history,
        wanted: shared.met(),
        life: None,
        shapes: reshaping(&history, &writers, &reshaped),
        candidates: Vec::new(),
        more: 0,
        reused: Vec::new(),
    };
    let merged = spill::by_thing(sorted, &mut |records| {
        judging.group(records);
        Ok(!(request.stop)())
    });
    if let Err(error) = merged {
        found.broken = Some(error.to_string());
    }
    found.more = judging.more;
    found.reused =
        judging.reused.iter().map(|(writer, place)| id(&writers, *writer, *place)).collect();
    let Judging { candidates, shapes: reshapings, life, .. } = judging;
    let identities: BTreeMap<NodeId, String> = heads
        .iter()
        .filter_map(|(node, head)| Some((*node, head.identity.as_ref()?.to_string())))
        .collect();
    let settle =
        Settle { request, tables: &tables, history: &history, writers: &writers, identities };
    if let Err(error) = settle.all(candidates, life, kept, &mut found) {
        found.broken = Some(error.to_string());
    }
    settle.shapes(&reshapings, &mut found);
    found.conflicts.sort_by_cached_key(|conflict| {
        let key = match &conflict.thing {
            Thing::Row(key) | Thing::Unique(_, key) => keen_core::canonical::row_bytes(key),
            Thing::Shape => Vec::new(),
        };
        (conflict.rank(), conflict.table, key)
    });
    found.stopped = (request.stop)();
    found.tables = tables;
    found
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

/// The shapes of the wanted tables, from every node that answers.
fn shapes(
    request: &Request<'_>,
    found: &mut Found,
) -> BTreeMap<NodeId, BTreeMap<String, TableShape>> {
    let topology = request.topology;
    let asked = std::thread::scope(|scope| {
        let asking: Vec<_> = members(request.nodes)
            .filter(|node| *node < topology.nodes.len())
            .map(|node| (node, scope.spawn(move || ask(request, node))))
            .collect();
        asking.into_iter().map(|(node, asked)| (node, asked.join())).collect::<Vec<_>>()
    });
    let mut shapes = BTreeMap::new();
    for (node, asked) in asked {
        let report = found.nodes.entry(node).or_default();
        match asked {
            Ok(Ok((identity, of_node))) => {
                report.identity = identity;
                shapes.insert(node, of_node);
            }
            Ok(Err(fault)) => {
                report.rows_fault = Some(fault);
                let exported = (request.exported)(node);
                if !exported.is_empty() {
                    shapes.insert(node, exported);
                }
            }
            Err(_) => report.rows_fault = Some(fell_over()),
        }
    }
    shapes
}

/// What a node calls itself, if it says, and the shapes of its tables.
type Said = (Option<String>, BTreeMap<String, TableShape>);

fn ask(request: &Request<'_>, node: NodeId) -> Result<Said, ReadFault> {
    let mut reader = (request.open)(node)?;
    let identity = reader.calls_itself();
    let mut shapes = BTreeMap::new();
    for (name, local) in names(request.topology, node) {
        match reader.shape(&local) {
            Ok(shape) => drop(shapes.insert(name, shape)),
            Err(fault) if fault.interrupted => return Err(fault),
            Err(fault) => tracing::debug!(node, name, %fault, "no shape"),
        }
    }
    Ok((identity, shapes))
}

/// The tables of the sets that a node carries: as the sets name them, and as it does.
fn names(topology: &Topology, node: NodeId) -> Vec<(String, String)> {
    let mut names: Vec<(String, String)> = Vec::new();
    for (set, content) in topology.sets.iter().enumerate() {
        if topology.carriers(set).contains(&node) {
            for table in &content.tables {
                if !names.iter().any(|(known, _)| known == table) {
                    names.push((table.clone(), topology.nodes[node].name_of(table).to_owned()));
                }
            }
        }
    }
    names
}

fn fell_over() -> ReadFault {
    ReadFault::new("reading it fell over", "this is a defect of keen: please report it")
}

/// Opens the journals, side by side.
fn open(
    request: &Request<'_>,
    found: &mut Found,
) -> (BTreeMap<NodeId, Head>, BTreeMap<NodeId, Journal>) {
    let tables = &found.tables;
    let opened = std::thread::scope(|scope| {
        let opening: Vec<_> = found
            .nodes
            .keys()
            .map(|node| {
                let mut names = names(request.topology, *node);
                names.retain(|(name, _)| tables.iter().any(|table| table.name == *name));
                let open = move || -> Result<(Head, Journal), ReadFault> {
                    let mut journal = (request.journal)(*node, &names)?;
                    Ok((journal.head()?, journal))
                };
                (*node, scope.spawn(open))
            })
            .collect();
        opening.into_iter().map(|(node, opened)| (node, opened.join())).collect::<Vec<_>>()
    });
    let (mut heads, mut journals) = (BTreeMap::new(), BTreeMap::new());
    for (node, opened) in opened {
        let report = found.nodes.entry(node).or_default();
        match opened {
            Ok(Ok((head, journal))) => {
                report.about.clone_from(&head.about);
                report.identity =
                    head.identity.as_ref().map(ToString::to_string).or(report.identity.take());
                report.notes.clone_from(&head.notes);
                report.complete = matches!(head.since, Since::After(_));
                heads.insert(node, head);
                journals.insert(node, journal);
            }
            Ok(Err(fault)) => report.fault = Some(fault),
            Err(_) => report.fault = Some(fell_over()),
        }
    }
    (heads, journals)
}

/// Tells each journal whose slots its node follows. Where a slot is found nowhere, and of the nodes that feed
/// it one alone did not answer, it is that one's.
fn resolve(
    topology: &Topology,
    heads: &BTreeMap<NodeId, Head>,
    journals: &mut BTreeMap<NodeId, Journal>,
) {
    for (node, journal) in journals {
        let name = |other: NodeId| -> Arc<str> { Arc::from(&topology.nodes[other].name[..]) };
        let mut sources = BTreeMap::new();
        let mut silent: Vec<NodeId> =
            topology.links.iter().filter(|link| link.to == *node).map(|link| link.from).collect();
        silent.retain(|other| !heads.contains_key(other));
        silent.sort_unstable();
        silent.dedup();
        let unknown = |slot: &str| {
            !heads.iter().any(|(other, head)| other != node && head.slots.iter().any(|s| s == slot))
        };
        for slot in &heads[node].follows {
            let having: Vec<NodeId> = heads
                .iter()
                .filter(|(other, head)| *other != node && head.slots.contains(slot))
                .map(|(other, _)| *other)
                .collect();
            let source = match (&having[..], &silent[..]) {
                ([one], _) => Some(*one),
                ([], [one]) if heads[node].follows.iter().filter(|s| unknown(s)).count() == 1 => {
                    Some(*one)
                }
                _ => None,
            };
            sources.extend(source.map(|source| (slot.clone(), name(source))));
        }
        journal.resolve(&sources);
    }
}

/// Who calls himself what: what journals say, and the names in the topology for those that say nothing.
fn identities(topology: &Topology, heads: &BTreeMap<NodeId, Head>) -> BTreeMap<Arc<str>, NodeId> {
    let by_name =
        topology.nodes.iter().enumerate().map(|(id, node)| (Arc::from(&node.name[..]), id));
    let mut identities: BTreeMap<Arc<str>, NodeId> = by_name.collect();
    let said =
        heads.iter().filter_map(|(node, head)| Some((Arc::clone(head.identity.as_ref()?), *node)));
    identities.extend(said);
    identities
}

/// Nodes that call themselves as an earlier one does.
fn twins(topology: &Topology, heads: &BTreeMap<NodeId, Head>) -> Vec<(NodeId, String, String)> {
    let mut twins = Vec::new();
    for (node, head) in heads {
        let Some(identity) = &head.identity else { continue };
        let same =
            heads.range(..*node).find(|(_, other)| other.identity.as_ref() == Some(identity));
        if let Some((other, _)) = same {
            twins.push((*node, topology.nodes[*other].name.clone(), identity.to_string()));
            twins.push((*other, topology.nodes[*node].name.clone(), identity.to_string()));
        }
    }
    twins
}

/// Writes of one thing that collide, before it is known what came of it.
struct Candidate {
    table: usize,
    /// Which list of unique columns, from 1; 0 for a row.
    unique: usize,
    skipped: bool,
    writes: Vec<Write>,
    chain: Chain,
    /// By write of the chain where its content is kept: from the first change of it to the last.
    kept: Vec<Kept>,
}

/// Where what a write wrote is kept.
#[derive(Debug, Clone, Copy)]
struct Kept {
    node: NodeId,
    first: u64,
    last: u64,
    /// The table of what was written, if it is another than the thing's.
    table: usize,
}

/// A change of a table's shape, over all journals.
struct Reshaping {
    table: usize,
    write: Write,
    what: String,
    /// Rows written elsewhere meanwhile, by node.
    rows: BTreeMap<NodeId, u64>,
    proven: bool,
}

fn reshaping(history: &History, writers: &[Writer], changes: &[Reshaped]) -> Vec<Reshaping> {
    debug_assert!(changes.iter().all(|change| usize::from(change.writer) < writers.len()));
    let mut all: BTreeMap<(usize, WriterId, u64), Reshaping> = BTreeMap::new();
    for change in changes {
        let known =
            all.entry((change.table, change.writer, change.place)).or_insert_with(|| Reshaping {
                table: change.table,
                write: Write {
                    writer: change.writer,
                    place: change.place,
                    made: change.made,
                    orders: Vec::new(),
                    deed: Deed::Update,
                },
                what: change.what.clone(),
                rows: BTreeMap::new(),
                proven: true,
            });
        if known.write.order_at(change.node).is_none() {
            known.write.orders.push((change.node, change.order));
        }
    }
    let mut all: Vec<Reshaping> = all.into_values().collect();
    all.retain(|reshaping| !history.is_later(&reshaping.write));
    all
}

struct Judging<'a> {
    request: &'a Request<'a>,
    tables: &'a [Table],
    history: &'a History,
    /// What stands for the row whose life is wanted.
    wanted: Option<u128>,
    life: Option<Candidate>,
    shapes: Vec<Reshaping>,
    candidates: Vec<Candidate>,
    more: u64,
    reused: Vec<(WriterId, u64)>,
}

impl Judging<'_> {
    /// The records of one thing, over all journals.
    fn group(&mut self, records: &[Record]) {
        let table = usize::from(records[0].table);
        let (mut writes, mut kept) = (Vec::new(), Vec::new());
        let mut rows = Vec::new();
        for of_write in records.chunk_by(|a, b| (a.writer, a.place) == (b.writer, b.place)) {
            if writes.len() == MOST_WRITES {
                // What comes after may have raced too: that is counted, and the result is not complete.
                self.more += 1;
                break;
            }
            if let Some((write, place)) = self.write(of_write) {
                rows.push(of_write[0].row);
                writes.push(write);
                kept.push(place);
            }
        }
        let unique = match records[0].deed() {
            Deed::Take => usize::from(records[0].unique),
            _ => 0,
        };
        if unique == 0 {
            self.against_shapes(table, &writes);
        }
        if unique == 0 && self.wanted == Some(records[0].thing) {
            self.life = Some(life(table, &writes, &kept));
        }
        let found = chains(self.history, &writes);
        let in_chain: Vec<usize> = found.iter().flat_map(|chain| chain.writes.clone()).collect();
        for chain in found {
            let mut of_rows: Vec<u64> = chain.writes.iter().map(|at| rows[*at]).collect();
            of_rows.sort_unstable();
            of_rows.dedup();
            // One row that is written twice with one value is no matter of that value.
            if unique == 0 || of_rows.len() > 1 {
                self.keep(table, unique, false, &writes, &chain, &kept);
            }
        }
        if unique == 0 {
            let skipped: Vec<usize> = (0..writes.len())
                .filter(|at| !in_chain.contains(at) && self.is_skipped(table, &writes[*at]))
                .collect();
            if !skipped.is_empty() {
                let count = skipped.len();
                let chain = Chain {
                    writes: skipped,
                    proven: vec![true; count],
                    healed_by: None,
                    seen_later: vec![true; count],
                };
                self.keep(table, 0, true, &writes, &chain, &kept);
            }
        }
    }

    fn keep(
        &mut self,
        table: usize,
        unique: usize,
        skipped: bool,
        writes: &[Write],
        chain: &Chain,
        kept: &[Kept],
    ) {
        if self.candidates.len() == MOST_JUDGED {
            self.more += 1;
            return;
        }
        // By node, and there in the order in which they were made.
        let mut order: Vec<usize> = (0..chain.writes.len()).collect();
        order.sort_by_key(|number| {
            let write = &writes[chain.writes[*number]];
            let node = self.history.node_of(write);
            let own = node.and_then(|node| write.order_at(node));
            (node.is_none(), node, own, write.place)
        });
        let chain = Chain {
            writes: order.iter().map(|number| chain.writes[*number]).collect(),
            proven: order.iter().map(|number| chain.proven[*number]).collect(),
            seen_later: order.iter().map(|number| chain.seen_later[*number]).collect(),
            healed_by: chain.healed_by,
        };
        let kept = chain.writes.iter().map(|at| kept[*at]).collect();
        let candidate = Candidate { table, unique, skipped, writes: writes.to_vec(), chain, kept };
        self.candidates.push(candidate);
    }

    /// One transaction's write of the thing, from what all journals have of it.
    fn write(&mut self, records: &[Record]) -> Option<(Write, Kept)> {
        let first = &records[0];
        let mut orders: Vec<(NodeId, u64)> = Vec::new();
        for record in records {
            let node = NodeId::from(record.node);
            match orders.last_mut() {
                Some((last, order)) if *last == node => *order = (*order).min(record.order),
                _ => orders.push((node, record.order)),
            }
        }
        let times = records.iter().map(|record| record.made).filter(|made| *made != NO_TIME);
        let (earliest, latest) = (times.clone().min(), times.max());
        if earliest != latest
            && !self.reused.contains(&(first.writer, first.place))
            && self.reused.len() < 100
        {
            self.reused.push((first.writer, first.place));
        }
        let own = self.history.writers.get(usize::from(first.writer)).copied().flatten();
        let told = |record: &&Record| record.content != NO_CONTENT;
        let from = records
            .iter()
            .find(|record| told(record) && Some(NodeId::from(record.node)) == own)
            .or_else(|| records.iter().find(told))
            .unwrap_or(first);
        // All that this journal has of the transaction's doings with the thing, in order.
        let doings: Vec<&Record> = records
            .iter()
            .filter(|record| record.node == from.node && record.order == from.order)
            .collect();
        let mut own_doings = doings.iter().filter(|record| record.deed() != Deed::Refer);
        let (Some(begun), Some(ended)) = (own_doings.clone().next(), own_doings.next_back()) else {
            let kept = Kept {
                node: NodeId::from(from.node),
                first: from.content,
                last: from.content,
                table: usize::from(from.unique),
            };
            let write = Write {
                writer: first.writer,
                place: first.place,
                made: earliest,
                orders,
                deed: Deed::Refer,
            };
            return Some((write, kept));
        };
        let deed = match (begun.deed(), ended.deed()) {
            // A row that came and went within one transaction was never there.
            (Deed::Insert, Deed::Delete) => return None,
            (Deed::Insert, Deed::Insert | Deed::Update) => Deed::Insert,
            (_, Deed::Delete) => Deed::Delete,
            (Deed::Take, _) => Deed::Take,
            _ => Deed::Update,
        };
        let write =
            Write { writer: first.writer, place: first.place, made: earliest, orders, deed };
        let kept = Kept {
            node: NodeId::from(from.node),
            first: begun.content,
            last: ended.content,
            table: usize::from(from.table),
        };
        (!self.history.is_later(&write)).then_some((write, kept))
    }

    fn is_skipped(&self, table: usize, write: &Write) -> bool {
        if write.deed == Deed::Refer {
            return false;
        }
        let Some(from) = self.history.node_of(write) else { return false };
        members(tables::reaches(&self.tables[table], from) & self.request.nodes)
            .any(|node| self.history.skipped(node, write))
    }

    /// Counts rows that were written while the shape of their table was changed elsewhere.
    fn against_shapes(&mut self, table: usize, writes: &[Write]) {
        for reshaping in self.shapes.iter_mut().filter(|reshaping| reshaping.table == table) {
            let at = self.history.node_of(&reshaping.write);
            for write in writes.iter().filter(|write| write.deed != Deed::Refer) {
                let Some(node) = self.history.node_of(write).filter(|node| Some(*node) != at)
                else {
                    continue;
                };
                if self.history.concurrent(&reshaping.write, write) == Saw::Yes {
                    *reshaping.rows.entry(node).or_insert(0) += 1;
                }
            }
        }
    }
}

/// The writes of a row that are told, as one candidate.
fn life(table: usize, writes: &[Write], kept: &[Kept]) -> Candidate {
    let mut told: Vec<usize> =
        (0..writes.len()).filter(|at| writes[*at].deed != Deed::Refer).collect();
    let count = told.len();
    // As far as there is one order: by what most journals say, else by the clocks.
    told.sort_by_key(|at| (writes[*at].made, writes[*at].writer, writes[*at].place));
    told.drain(..count.saturating_sub(MOST_LIVED));
    Candidate {
        table,
        unique: 0,
        skipped: false,
        kept: told.iter().map(|at| kept[*at]).collect(),
        chain: Chain {
            proven: vec![false; told.len()],
            seen_later: vec![false; told.len()],
            healed_by: None,
            writes: told,
        },
        writes: writes.to_vec(),
    }
}

/// Turns candidates into conflicts: reads what was written again, and what the nodes hold now.
struct Settle<'a> {
    request: &'a Request<'a>,
    tables: &'a [Table],
    history: &'a History,
    writers: &'a [Writer],
    identities: BTreeMap<NodeId, String>,
}

/// A candidate with the rows that it is about.
struct Told {
    candidate: Candidate,
    contents: Vec<Content>,
    /// The rows it is about: number of the table, what stands for the row, its key.
    rows: Vec<(usize, u128, Vec<Value>)>,
    /// By write of the chain, which of the rows it wrote.
    row_of: Vec<usize>,
    thing: Thing,
}

impl Settle<'_> {
    fn all(
        &self,
        candidates: Vec<Candidate>,
        life: Option<Candidate>,
        mut kept: BTreeMap<NodeId, Contents>,
        found: &mut Found,
    ) -> io::Result<()> {
        let mut wanted = Wanted::new();
        let mut all = Vec::new();
        for candidate in candidates {
            let Some(told) = self.told(candidate, &mut kept)? else { continue };
            for (table, row, key) in &told.rows {
                wanted.entry(*table).or_default().insert(*row, key.clone());
            }
            all.push(told);
        }
        let life = match life {
            Some(life) => self.told(life, &mut kept)?,
            None => None,
        };
        if let Some((table, row, key)) = life.as_ref().and_then(|life| life.rows.first()) {
            wanted.entry(*table).or_default().insert(*row, key.clone());
        }
        let held = self.held(&wanted, found);
        found.life = life.map(|life| self.lived(life, &held));
        for told in all {
            let conflict = self.judged(told, &held);
            // A write that a node skipped is of interest only where that can still be seen.
            if conflict.kind != Kind::Skipped || conflict.standing != Standing::Alike {
                found.conflicts.push(conflict);
            }
        }
        Ok(())
    }

    /// Reads again what the writes of a chain wrote; none if the journals do not tell which row it was.
    fn told(
        &self,
        candidate: Candidate,
        kept: &mut BTreeMap<NodeId, Contents>,
    ) -> io::Result<Option<Told>> {
        let table = &self.tables[candidate.table];
        let mut contents = Vec::new();
        let mut rows: Vec<(usize, u128, Vec<Value>)> = Vec::new();
        let mut row_of = Vec::new();
        let mut thing = None;
        for (at, place) in candidate.chain.writes.iter().zip(&candidate.kept) {
            let deed = candidate.writes[*at].deed;
            let of = if deed == Deed::Refer { place.table } else { candidate.table };
            let columns = self.tables[of].layout.columns.len();
            let mut read = |at: u64| match kept.get_mut(&place.node) {
                Some(contents) if at != NO_CONTENT => contents.read(at, columns),
                _ => Ok(Content::default()),
            };
            let (first, last) = (read(place.first)?, read(place.last)?);
            let mut content = Content { before: first.before, after: last.after };
            match deed {
                // A row that was given a new key is gone under the old one, and new under the new one.
                Deed::Delete => content.after = None,
                Deed::Insert => content.before = None,
                _ => {}
            }
            let side = content.after.as_ref().or(content.before.as_ref());
            let pick = |places: &[usize]| -> Option<Vec<Value>> {
                places.iter().map(|at| side?.get(*at)?.clone()).collect()
            };
            let key = pick(&self.tables[of].layout.key);
            if thing.is_none() {
                thing = match candidate.unique {
                    0 if deed == Deed::Refer => None,
                    0 => key.clone().map(Thing::Row),
                    unique => {
                        let columns = &table.unique[unique - 1];
                        pick(columns).map(|values| Thing::Unique(columns.clone(), values))
                    }
                };
            }
            let Some(key) = key else {
                row_of.push(0);
                contents.push(content);
                continue;
            };
            let row = tables::thing(of, None, &key);
            let known = rows.iter().position(|(_, known, _)| *known == row);
            row_of.push(known.unwrap_or(rows.len()));
            if known.is_none() {
                rows.push((of, row, key));
            }
            contents.push(content);
        }
        let Some(thing) = thing else { return Ok(None) };
        // The row that gives the conflict its name comes first.
        if let Some(first) = rows.iter().position(|(of, _, _)| *of == candidate.table) {
            rows.swap(0, first);
            for row in &mut row_of {
                *row = match *row {
                    0 => first,
                    row if row == first => 0,
                    row => row,
                };
            }
        }
        Ok(Some(Told { candidate, contents, rows, row_of, thing }))
    }

    /// What every node holds of the wanted rows.
    fn held(&self, wanted: &Wanted, found: &mut Found) -> BTreeMap<NodeId, Held> {
        let topology = self.request.topology;
        let carriers = wanted
            .keys()
            .fold(0, |nodes, table| nodes | self.tables[*table].expectation.carriers());
        let reading: Vec<(NodeId, Result<Held, ReadFault>)> = std::thread::scope(|scope| {
            let reading: Vec<_> = members(carriers & self.request.nodes)
                .map(|node| {
                    let read = move || {
                        let mut reader = (self.request.open)(node)?;
                        Ok(contents::read(topology, self.tables, node, reader.as_mut(), wanted))
                    };
                    (node, scope.spawn(read))
                })
                .collect();
            reading
                .into_iter()
                .map(|(node, read)| (node, read.join().unwrap_or_else(|_| Err(fell_over()))))
                .collect()
        });
        let mut held = BTreeMap::new();
        for (node, read) in reading {
            let of_node = read.unwrap_or_else(|fault| {
                let nothing = Held::nothing(wanted, &fault);
                found.nodes.entry(node).or_default().rows_fault = Some(fault);
                nothing
            });
            held.insert(node, of_node);
        }
        held
    }

    fn lived(&self, told: Told, held: &BTreeMap<NodeId, Held>) -> Life {
        let Told { candidate, contents, rows, .. } = told;
        let writes: Vec<Lived> = (candidate.chain.writes.iter().zip(contents))
            .map(|(at, content)| {
                let write = candidate.writes[*at].clone();
                let node = self.history.node_of(&write);
                Lived { id: id(self.writers, write.writer, write.place), node, write, content }
            })
            .collect();
        let mut unseen = Vec::new();
        for b in 0..writes.len() {
            for a in 0..b {
                if self.history.concurrent(&writes[a].write, &writes[b].write) == Saw::Yes {
                    unseen.push((a, b));
                }
            }
        }
        let count = candidate.writes.iter().filter(|write| write.deed != Deed::Refer).count();
        let row = rows.into_iter().next().map(|row| self.row_now(row, held)).unwrap_or_default();
        Life { table: candidate.table, row, writes, count, unseen }
    }

    fn row_now(
        &self,
        (number, row, key): (usize, u128, Vec<Value>),
        held: &BTreeMap<NodeId, Held>,
    ) -> RowNow {
        let carriers = self.tables[number].expectation.carriers();
        let now = members(carriers).map(|node| {
            let left_out = || Now::Unread("it was left out".to_owned());
            (node, held.get(&node).map_or_else(left_out, |held| held.now(number, row)))
        });
        RowNow { table: number, key, now: now.collect() }
    }

    fn judged(&self, told: Told, held: &BTreeMap<NodeId, Held>) -> Conflict {
        let Told { candidate, contents, rows, row_of, thing } = told;
        let table = &self.tables[candidate.table];
        let rows: Vec<RowNow> = rows.into_iter().map(|row| self.row_now(row, held)).collect();
        let ids = candidate.chain.writes.iter().map(|at| {
            let write = &candidate.writes[*at];
            id(self.writers, write.writer, write.place)
        });
        let told = ids.zip(contents).zip(row_of).map(|((id, content), row)| (id, content, row));
        let inserts = |conflict: &Conflict| matches!(conflict.kind, Kind::InsertInsert);
        let mut conflict = judge(Case {
            history: self.history,
            writes: &candidate.writes,
            chain: &candidate.chain,
            told: told.collect(),
            table: candidate.table,
            thing,
            columns: (table.layout.columns.len(), &table.layout.key),
            rows,
            expectation: &table.expectation,
            identities: &self.identities,
        });
        conflict.counted = table.counted && inserts(&conflict);
        if candidate.skipped {
            conflict.kind = Kind::Skipped;
        }
        conflict
    }

    /// Changes of shape against each other, and against rows that were written meanwhile.
    fn shapes(&self, reshapings: &[Reshaping], found: &mut Found) {
        for table in 0..self.tables.len() {
            let of_table: Vec<&Reshaping> =
                reshapings.iter().filter(|reshaping| reshaping.table == table).collect();
            let writes: Vec<Write> =
                of_table.iter().map(|reshaping| reshaping.write.clone()).collect();
            let found_chains = chains(self.history, &writes);
            for chain in &found_chains {
                let list: Vec<&Reshaping> = chain.writes.iter().map(|at| of_table[*at]).collect();
                found.conflicts.push(self.shape_conflict(Kind::ShapeShape, table, &list, chain));
            }
            for (at, reshaping) in of_table.iter().enumerate().filter(|(_, r)| !r.rows.is_empty()) {
                if found_chains.iter().any(|chain| chain.writes.contains(&at)) {
                    continue;
                }
                let chain = Chain {
                    writes: vec![at],
                    proven: vec![reshaping.proven],
                    healed_by: None,
                    seen_later: vec![true],
                };
                found.conflicts.push(self.shape_conflict(
                    Kind::ShapeRows,
                    table,
                    &[reshaping],
                    &chain,
                ));
            }
        }
    }

    fn shape_conflict(
        &self,
        kind: Kind,
        table: usize,
        list: &[&Reshaping],
        chain: &Chain,
    ) -> Conflict {
        let about = &self.tables[table];
        let shapes: Vec<_> = about
            .shapes
            .values()
            .map(|shape| shape.columns.iter().map(|c| (&c.name, &c.declared)).collect::<Vec<_>>())
            .collect();
        let alike = shapes.windows(2).all(|pair| pair[0] == pair[1]);
        let writes: Vec<Written> = list
            .iter()
            .zip(&chain.proven)
            .map(|(reshaping, proven)| {
                let carriers = about.expectation.carriers();
                let of = |wanted: &dyn Fn(NodeId) -> bool| {
                    members(carriers).filter(|n| wanted(*n)).fold(0, |all, n| all | bit(n))
                };
                Written {
                    id: id(self.writers, reshaping.write.writer, reshaping.write.place),
                    node: self.history.node_of(&reshaping.write),
                    made: reshaping.write.made,
                    deed: Deed::Update,
                    applied: of(&|node| reshaping.write.order_at(node).is_some()),
                    skipped: of(&|node| self.history.skipped(node, &reshaping.write)),
                    proven: *proven,
                    content: Content::default(),
                    row: 0,
                    fate: Fate::Kept,
                    statement: Some(reshaping.what.clone()),
                }
            })
            .collect();
        let mut breaks: BTreeMap<(NodeId, NodeId), u64> = BTreeMap::new();
        for reshaping in list {
            let at = self.history.node_of(&reshaping.write);
            for (from, rows) in &reshaping.rows {
                for (source, receiver) in about.expectation.edges() {
                    if source == from && Some(*receiver) == at {
                        *breaks.entry((*source, *receiver)).or_insert(0) += rows;
                    }
                }
            }
        }
        let missing = about.shapes.len() < members(about.expectation.carriers()).count();
        Conflict {
            kind,
            table,
            thing: Thing::Shape,
            proven: chain.is_proven(),
            doubt: None,
            count: writes.len(),
            unseen: Vec::new(),
            writes,
            rows: Vec::new(),
            standing: match (alike, missing) {
                (false, _) => Standing::Apart,
                (true, true) => Standing::Unread,
                (true, false) => Standing::Alike,
            },
            healed_by: None,
            held: BTreeMap::new(),
            rules: Vec::new(),
            counted: false,
            breaks: breaks.into_iter().map(|((from, to), rows)| (from, to, rows)).collect(),
        }
    }
}
