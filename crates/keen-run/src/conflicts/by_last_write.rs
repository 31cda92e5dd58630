//! Where journals cannot be read, rows themselves may tell when and where they were last written. That is
//! asked of rows that differ, and used for what it can tell.

use keen_core::row::selection::RowKeys;
use keen_core::topology::node_set::NodeSet;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::ops::ControlFlow;
use std::sync::Arc;

use keen_core::audit::merge::DivergentRow;
use keen_core::conflict::{
    ByRows, Conflict, ConflictKind, ConflictStanding, Content, CurrentRow, Doubt, Fate, LastWrite,
    RowNow, Thing, WinningRule, Written, by_rows,
};
use keen_core::fault::ReadFault;
use keen_core::history::happened_before::Deed;
use keen_core::history::journal::{Id, Stream, Writer};
use keen_core::plan::{AuditedTable, WrittenTimes};
use keen_core::ports::{LastWritten, TellLastWrites, WriteOrigin};
use keen_core::row::digest::DigestFunction;
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;

use super::open::{READING, Slots, sources};
use super::read_rows::WantedRows;
use super::resolve::Settle;
use super::{MOST_JUDGED, NodeRead, OpenLastWrites};
use crate::audit::{self, AuditRequest, AuditSink, TableHead, TableOutcome};
use crate::fan_out::fan_out;
use crate::tables::{SetTable, thing};

/// A node whose rows can be asked on a thread of its own.
pub type LastWrites = Box<dyn TellLastWrites + Send>;

/// So many rows are asked at once.
const AT_ONCE: usize = 200;

/// The outcome of asking rows for their last writes.
#[derive(Default)]
pub(super) struct ByLastWrites {
    /// Of rows that no journal told a conflict of.
    pub(super) conflicts: Vec<Conflict>,
    /// Rows beyond the number that is judged.
    pub(super) more: u64,
    /// Remarks on nodes.
    pub(super) notes: Vec<(NodeId, String)>,
    /// Why rows of nodes could not be read.
    pub(super) unread: BTreeMap<NodeId, ReadFault>,
}

/// Looks for what raced among rows that differ, in tables of which a node has no journal that could be read, and
/// proves by rows what journals left open in the conflicts that are `known`.
pub(super) fn look(
    settle: &Settle<'_>,
    nodes: &BTreeMap<NodeId, NodeRead>,
    known: &mut [Conflict],
) -> ByLastWrites {
    let mut told = ByLastWrites::default();
    let Some(open) = settle.request.last_writes else { return told };
    let topology = settle.request.topology;
    let lacking = nodes.iter().filter(|(_, node)| !node.read && node.rows_fault.is_none());
    let lacking = lacking.map(|(node, _)| *node).collect::<NodeSet>();
    let wanted: Vec<usize> = (0..settle.tables.len())
        .filter(|table| settle.tables[*table].expectation.carriers().meets(lacking))
        .collect();
    if wanted.is_empty() || (settle.request.stop)() {
        return told;
    }
    let carriers =
        wanted.iter().fold(NodeSet::EMPTY, |all, t| all | settle.tables[*t].expectation.carriers());
    let Some(mut asked) = LastWriteSources::open(topology, carriers & settle.request.nodes, open)
    else {
        return told;
    };
    let refused = asked.refused.iter().filter(|(node, _)| lacking.contains(**node));
    told.notes.extend(refused.map(|(node, fault)| (*node, fault.to_string())));
    if !asked.nodes().meets(lacking) || asked.telling.len() < 2 {
        return told;
    }
    let (differing, more) = differing(settle, &wanted);
    told.more = more;
    let window = settle.history.window;
    let mut judged: BTreeMap<NodeId, u64> = BTreeMap::new();
    for (number, keys) in differing {
        let table = &settle.tables[number];
        let rows: HashMap<u128, Vec<Value>> =
            keys.into_iter().map(|key| (thing(number, None, &key), key)).collect();
        let wanted: WantedRows = [(number, rows)].into();
        let ask = |asked: &mut LastWriteSources| asked.of_table(table, &wanted[&number]);
        // What is the same before and after was so at one moment on all nodes.
        let before = ask(&mut asked);
        let (held, unread) = settle.held(&wanted);
        told.unread.extend(unread);
        let after = ask(&mut asked);
        for (row, key) in &wanted[&number] {
            let last_written: BTreeMap<NodeId, &LastWritten> = (after.iter())
                .filter_map(|(node, rows)| Some((*node, rows.get(row)?)))
                .filter(|(node, told)| {
                    let earlier = before.get(node).and_then(|rows| rows.get(row));
                    earlier.is_some_and(|earlier| {
                        (earlier.made, &earlier.came) == (told.made, &told.came)
                    })
                })
                .collect();
            let last =
                last_written.iter().map(|(node, told)| (*node, asked.last(*node, told))).collect();
            let now = settle.row_now((number, *row, key.clone()), &held);
            let Some(of_row) = by_rows(&last, window).filter(|_| differs(&now)) else { continue };
            let youngest = last_written.values().map(|told| told.age).min().unwrap_or(i64::MAX);
            for node in last_written.keys().filter(|node| lacking.contains(**node)) {
                *judged.entry(*node).or_insert(0) += 1;
            }
            let same = |conflict: &&mut Conflict| {
                conflict.table == number
                    && matches!(&conflict.thing, Thing::Row(other) if thing(number, None, other) == *row)
            };
            match known.iter_mut().chain(&mut told.conflicts).find(same) {
                Some(conflict) => bear_out(conflict, &of_row),
                None => {
                    let standing = match youngest < window && !arrived(&of_row) {
                        true => ConflictStanding::InFlight,
                        false => ConflictStanding::Apart,
                    };
                    let conflict = conflict(topology, table, now, &of_row, standing);
                    told.conflicts.push(conflict);
                }
            }
        }
    }
    for (node, count) in judged {
        let rows = if count == 1 { "1 row that differs was" } else { "rows that differ were" };
        let number = if count == 1 { String::new() } else { format!("{count} ") };
        told.notes.push((node, format!(
            "{number}{rows} judged by the last write of each row, which is all that is known without a journal: it does not show what was overwritten, deleted or lost"
        )));
    }
    told
}

/// Whether nodes hold different rows.
fn differs(row: &RowNow) -> bool {
    let mut rows = row.now.values().filter_map(|now| match now {
        CurrentRow::Row(cells) => Some(cells),
        CurrentRow::NoRow | CurrentRow::Unread(_) => None,
    });
    let first = rows.next();
    rows.any(|other| Some(other) != first)
}

/// Whether every node has applied each of the writes: it holds it, or had made it.
fn arrived(of_row: &ByRows) -> bool {
    let has = |(node, held): (&NodeId, &usize), at: usize| {
        *held == at || of_row.writes[at].by == Some(*node)
    };
    (0..of_row.writes.len()).all(|at| of_row.held.iter().all(|of_node| has(of_node, at)))
}

/// Proves by rows what journals left open.
fn bear_out(conflict: &mut Conflict, of_row: &ByRows) {
    for (write, proven) in of_row.writes.iter().zip(&of_row.proven).filter(|(_, proven)| **proven) {
        for known in &mut conflict.writes {
            if known.node == write.by && known.made == Some(write.made) {
                known.proven = *proven;
            }
        }
    }
    if conflict.writes.iter().filter(|write| write.proven).count() > 1 {
        (conflict.proven, conflict.doubt) = (true, None);
    }
}

fn conflict(
    topology: &Topology,
    table: &SetTable,
    row: RowNow,
    of_row: &ByRows,
    standing: ConflictStanding,
) -> Conflict {
    let contents: Vec<&Vec<Value>> = (row.now.values())
        .filter_map(|now| match now {
            CurrentRow::Row(cells) => Some(cells),
            CurrentRow::NoRow | CurrentRow::Unread(_) => None,
        })
        .collect();
    let same = |at: usize| contents.windows(2).all(|pair| pair[0][at].same_as(&pair[1][at]));
    let writes = of_row.writes.iter().enumerate().map(|(number, write)| {
        let holders: Vec<NodeId> = of_row
            .held
            .iter()
            .filter(|(_, held)| **held == number)
            .map(|(node, _)| *node)
            .collect();
        let cells = holders.iter().find_map(|node| match row.now.get(node) {
            Some(CurrentRow::Row(cells)) => Some(cells),
            _ => None,
        });
        // Which cells it changed is not known: those are told that are not the same everywhere.
        let told = |cells: &Vec<Value>| {
            let cell = |(at, value): (usize, &Value)| {
                (!same(at) || table.layout.key.contains(&at)).then(|| value.clone())
            };
            cells.iter().enumerate().map(cell).collect::<Vec<_>>()
        };
        let origin = write.by.map_or("somebody else", |node| &topology.nodes[node].name[..]);
        Written {
            id: Id {
                writer: Writer { origin: Arc::from(origin), stream: Stream::Time },
                place: u64::try_from(write.made).unwrap_or(0),
            },
            node: write.by,
            made: Some(write.made),
            deed: Deed::Update,
            applied: holders.iter().collect::<NodeSet>(),
            skipped: NodeSet::EMPTY,
            proven: of_row.proven[number],
            content: Content { before: None, after: cells.map(told) },
            row: 0,
            fate: Fate::Kept,
            statement: None,
        }
    });
    let writes: Vec<Written> = writes.collect();
    let proven = of_row.proven.contains(&true);
    let swapped = of_row.writes.iter().enumerate().all(|(number, write)| {
        write.by.is_some_and(|by| of_row.held.get(&by).is_some_and(|held| *held != number))
    });
    Conflict {
        kind: ConflictKind::LastWrites,
        table: row.table,
        thing: Thing::Row(row.key.clone()),
        proven,
        doubt: (!proven).then_some(Doubt::LastOnly),
        count: writes.len(),
        writes,
        unseen: of_row.unseen.clone(),
        standing,
        healed_by: None,
        held: of_row.held.clone(),
        // Where nobody holds his own, the other's came last.
        rules: if swapped { vec![WinningRule::LastCome] } else { Vec::new() },
        counted: false,
        counted_alike: Vec::new(),
        breaks: Vec::new(),
        rows: vec![row],
    }
}

/// The keys of rows that differ, by number of the table, and the count of those beyond the number that is judged.
fn differing(settle: &Settle<'_>, wanted: &[usize]) -> (BTreeMap<usize, Vec<Vec<Value>>>, u64) {
    let names: Vec<String> =
        wanted.iter().map(|table| settle.tables[*table].name.clone()).collect();
    let mut differing = Differing { tables: settle.tables, ..Differing::default() };
    audit::run(
        &AuditRequest {
            topology: settle.request.topology,
            nodes: settle.request.nodes,
            tables: &names,
            only: &BTreeMap::new(),
            function: DigestFunction::default(),
            rate: None,
            threads: 1,
            open: settle.request.open,
            stop: settle.request.stop,
        },
        &mut differing,
    );
    (differing.keys, differing.more)
}

#[derive(Default)]
struct Differing<'a> {
    tables: &'a [SetTable],
    now: Option<usize>,
    keys: BTreeMap<usize, Vec<Vec<Value>>>,
    count: usize,
    more: u64,
}

impl AuditSink for Differing<'_> {
    fn table(&mut self, head: &TableHead<'_>) -> ControlFlow<()> {
        let known = |table: &SetTable| {
            table.name == head.table
                && head.layout.is_some_and(|layout| layout.key == table.layout.key)
        };
        self.now = self.tables.iter().position(known);
        ControlFlow::Continue(())
    }

    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        let rows = row.versions.iter().filter(|version| version.row.is_some()).count();
        let Some(table) = self.now.filter(|_| rows > 1) else { return ControlFlow::Continue(()) };
        if self.count == MOST_JUDGED {
            self.more += 1;
        } else {
            self.count += 1;
            self.keys.entry(table).or_default().push(row.key);
        }
        ControlFlow::Continue(())
    }

    fn table_done(&mut self, _outcome: &TableOutcome) -> ControlFlow<()> {
        ControlFlow::Continue(())
    }
}

/// Nodes whose rows can be asked for their last writes.
pub struct LastWriteSources {
    telling: BTreeMap<NodeId, LastWrites>,
    /// By node and slot that it follows, whose that is.
    sources: BTreeMap<NodeId, BTreeMap<String, NodeId>>,
    refused: BTreeMap<NodeId, ReadFault>,
}

impl std::fmt::Debug for LastWriteSources {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("LastWriteSources").field("nodes", &self.nodes()).finish_non_exhaustive()
    }
}

impl LastWriteSources {
    /// Opens the nodes, side by side; none if the rows of no node tell anything.
    #[must_use]
    pub fn open(topology: &Topology, nodes: NodeSet, open: &OpenLastWrites<'_>) -> Option<Self> {
        let opened = fan_out(nodes.iter().map(|node| (node, ())), READING, |node, ()| open(node));
        let (mut telling, mut refused) = (BTreeMap::new(), BTreeMap::new());
        for (node, opened) in opened {
            match opened.flatten() {
                Ok(Some(tells)) => drop(telling.insert(node, tells)),
                Ok(None) => {}
                Err(fault) => drop(refused.insert(node, fault)),
            }
        }
        let slots: Slots =
            telling.iter().map(|(node, tells)| (*node, (tells.slots(), tells.follows()))).collect();
        let sources =
            telling.keys().map(|node| (*node, sources(topology, &slots, *node))).collect();
        (!telling.is_empty() || !refused.is_empty()).then_some(Self { telling, sources, refused })
    }

    fn nodes(&self) -> NodeSet {
        self.telling.keys().collect::<NodeSet>()
    }

    fn last(&self, node: NodeId, told: &LastWritten) -> LastWrite {
        let by = match &told.came {
            WriteOrigin::MadeHere => Some(node),
            WriteOrigin::Through(slot) => {
                self.sources.get(&node).and_then(|of| of.get(slot)).copied()
            }
            WriteOrigin::Unknown => None,
        };
        LastWrite { by, made: told.made }
    }

    /// By node the last writes of wanted rows.
    fn of_table(
        &mut self,
        table: &SetTable,
        wanted: &HashMap<u128, Vec<Value>>,
    ) -> BTreeMap<NodeId, HashMap<u128, LastWritten>> {
        let mut found = BTreeMap::new();
        for (node, tells) in &mut self.telling {
            let (Some(columns), Some(shape)) =
                (table.local_columns.get(node), table.shapes.get(node))
            else {
                continue;
            };
            let rows: Vec<(&u128, &Vec<Value>)> = wanted.iter().collect();
            let of_node: &mut HashMap<u128, LastWritten> = found.entry(*node).or_default();
            for rows in rows.chunks(AT_ONCE) {
                let keys: Vec<Vec<Value>> = rows.iter().map(|(_, key)| (*key).clone()).collect();
                let Some(keys) = RowKeys::of(&table.layout, shape, columns, keys) else { break };
                match tells.last_writes(&shape.qualified, &keys) {
                    Ok(told) => of_node.extend(
                        rows.iter().zip(told).filter_map(|((row, _), told)| Some((**row, told?))),
                    ),
                    Err(fault) => {
                        tracing::debug!(node, %fault, "rows do not tell their last writes");
                        break;
                    }
                }
            }
        }
        found
    }
}

/// When rows of an audited table that differ were last written, by the clocks of those who wrote.
///
/// # Errors
/// [`ReadFault`] when a row that was found cannot be read back.
pub fn written(
    asked: &mut LastWriteSources,
    table: &AuditedTable,
) -> Result<WrittenTimes, ReadFault> {
    let mut written = WrittenTimes::default();
    if table.layout.key.is_empty() {
        return Ok(written);
    }
    let mut silent = BTreeSet::new();
    for from in (0..table.divergent.len()).step_by(AT_ONCE) {
        let to = table.divergent.len().min(from + AT_ONCE);
        let rows: Vec<DivergentRow> =
            (from..to).map(|at| table.divergent.get(at)).collect::<Result<_, _>>()?;
        for (node, tells) in &mut asked.telling {
            let Some(local) = table.nodes.get(node).filter(|_| !silent.contains(node)) else {
                continue;
            };
            let keys: Vec<Vec<Value>> = rows.iter().map(|row| row.key.clone()).collect();
            let keys = RowKeys::of(&table.layout, &local.shape, &local.columns, keys);
            let Some(keys) = keys else { continue };
            match tells.last_writes(&local.shape.qualified, &keys) {
                Ok(told) => {
                    for (at, told) in (from..).zip(told) {
                        if let Some(told) = told {
                            written.add(*node, at, told.made);
                        }
                    }
                }
                Err(fault) => {
                    tracing::debug!(node, %fault, "rows do not tell their last writes");
                    silent.insert(*node);
                }
            }
        }
    }
    Ok(written)
}
