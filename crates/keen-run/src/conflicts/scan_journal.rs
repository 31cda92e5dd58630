//! Reading one journal into records.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::ops::ControlFlow;
use std::sync::{Arc, Mutex, PoisonError};

use keen_core::conflict::Content;
use keen_core::fault::ReadFault;
use keen_core::history::happened_before::{Arrivals, Besides, Deed, Reach, Span, Start, WriterId};
use keen_core::history::journal::{
    Begin, Entry, Head, JournalPosition, RowChange, RowOp, Since, Stream, Writer,
};
use keen_core::ports::ReadJournal;
use keen_core::row::batch::Column;
use keen_core::row::digest::DigestFunction;
use keen_core::row::encoding;
use keen_core::topology::NodeId;
use keen_core::value::Value;
use keen_core::value::text::text_of;
use serde::{Deserialize, Serialize};

use super::record_sort::{Gathered, NO_CONTENT, NO_TIME, WriteRecord, deed_number};
use super::resume::ResumeState;
use crate::tables::{Refers, SetTable, thing};

/// The state that all journals share while they are read side by side.
pub(super) struct Shared<'a> {
    pub(super) tables: &'a [SetTable],
    /// Which node calls itself what.
    pub(super) identities: BTreeMap<Arc<str>, NodeId>,
    pub(super) heads: &'a BTreeMap<NodeId, Head>,
    writers: Mutex<Vec<Writer>>,
    /// A row whose whole life is wanted: the table's number and the texts of its key.
    life: Option<(usize, Vec<String>)>,
    /// The token of it, once it was met.
    met: Mutex<Option<u128>>,
    pub(super) stop: &'a (dyn Fn() -> bool + Sync),
}

impl<'a> Shared<'a> {
    pub(super) fn new(
        tables: &'a [SetTable],
        identities: BTreeMap<Arc<str>, NodeId>,
        heads: &'a BTreeMap<NodeId, Head>,
        life: Option<(usize, Vec<String>)>,
        writers: Vec<Writer>,
        stop: &'a (dyn Fn() -> bool + Sync),
    ) -> Self {
        let (writers, met) = (Mutex::new(writers), Mutex::default());
        Self { tables, identities, heads, writers, life, met, stop }
    }

    /// The token of the row whose life is wanted, if any journal knows it.
    pub(super) fn met(&self) -> Option<u128> {
        *self.met.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn look_for_life(&self, table: usize, row: Option<u128>, key: Option<&Vec<Value>>) {
        let Some((wanted, texts)) = &self.life else { return };
        let (Some(row), Some(key)) = (row, key) else { return };
        let same = *wanted == table
            && key.len() == texts.len()
            && key.iter().zip(texts).all(|(value, text)| text_of(value.as_ref()) == *text);
        if same {
            *self.met.lock().unwrap_or_else(PoisonError::into_inner) = Some(row);
        }
    }

    pub(super) fn writers(&self) -> Vec<Writer> {
        self.writers.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn number_of(&self, writer: &Writer) -> Option<WriterId> {
        let mut writers = self.writers.lock().unwrap_or_else(PoisonError::into_inner);
        let at = writers.iter().position(|known| known == writer).unwrap_or_else(|| {
            writers.push(writer.clone());
            writers.len() - 1
        });
        WriterId::try_from(at).ok()
    }

    pub(super) fn node_of(&self, writer: &Writer) -> Option<NodeId> {
        self.identities.get(&writer.origin).copied()
    }

    /// Whether a transaction stands in the journal of the node that made it, so far as that reaches back.
    pub(super) fn has_own(&self, writer: &Writer, place: u64) -> bool {
        let head = self.node_of(writer).and_then(|node| self.heads.get(&node));
        head.is_some_and(|head| match &head.since {
            Since::After(up_to) => up_to.get(writer).is_none_or(|up_to| place > *up_to),
            Since::Unclear(from) => place >= *from,
        })
    }
}

/// A change of a table's shape, as one journal has it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Reshaped {
    pub(super) table: usize,
    pub(super) node: NodeId,
    pub(super) writer: WriterId,
    pub(super) place: u64,
    pub(super) order: u64,
    pub(super) made: Option<i64>,
    pub(super) what: String,
}

/// The result of reading one journal.
pub(super) struct Read {
    pub(super) gathered: Gathered,
    pub(super) spans: BTreeMap<WriterId, Seen>,
    /// By node whose journal does not say where it begins: the first of this node's own transactions that
    /// was certainly made after that, by writer.
    pub(super) anchors: BTreeMap<(NodeId, WriterId), u64>,
    /// By origin what the node says it has applied.
    pub(super) applied: BTreeMap<Arc<str>, u64>,
    pub(super) shapes: Vec<Reshaped>,
    /// By writer, of what was received from him and passed on: the number here, and his.
    pub(super) passed_on: BTreeMap<WriterId, Arrivals>,
    pub(super) transactions: u64,
    /// Transactions that an earlier run had read.
    pub(super) earlier: u64,
    pub(super) writes: u64,
    /// The time of its first and its last transaction, by the clocks of those who made them.
    pub(super) times: Option<(i64, i64)>,
    /// Writes whose row cannot be told, by table.
    pub(super) unknown_rows: BTreeMap<usize, u64>,
    /// Why it was not read to its end.
    pub(super) fault: Option<ReadFault>,
    /// Where it ended.
    pub(super) ended: Option<JournalPosition>,
}

/// The transactions of one writer in a journal.
#[derive(Debug, Clone)]
pub(super) struct Seen {
    pub(super) first: u64,
    pub(super) last: u64,
    /// Of another node's: which they are, and where they stand.
    pub(super) arrivals: Arrivals,
    /// The status of single ones, as an earlier run knew it.
    pub(super) besides: BTreeMap<u64, Besides>,
}

/// Reads a node's journal to its end, from its beginning or from where an earlier run got to.
pub(super) fn read(
    shared: &Shared<'_>,
    node: NodeId,
    journal: &mut dyn ReadJournal,
    begun: ResumeState<'_>,
) -> Read {
    let mut reading = JournalScan {
        shared,
        node,
        now: None,
        mapped: HashMap::new(),
        after: BTreeSet::new(),
        last_own: begun.last_own,
        told: Vec::new(),
        cells: Vec::new(),
        read: Read {
            gathered: Gathered::new(),
            spans: begun.spans,
            anchors: BTreeMap::new(),
            applied: BTreeMap::new(),
            shapes: begun.shapes,
            passed_on: BTreeMap::new(),
            transactions: 0,
            earlier: begun.transactions,
            writes: 0,
            times: begun.times,
            unknown_rows: begun.unknown_rows,
            fault: None,
            ended: None,
        },
    };
    if let Err(error) = reading.read.gathered.push_again(begun.records) {
        reading.read.fault = Some(cannot_keep(&error));
        return reading.read;
    }
    let mut trouble = None;
    let ended = journal.read(&mut |entry| match reading.take(&entry) {
        Ok(()) if (shared.stop)() => {
            trouble = Some(ReadFault::interrupted());
            ControlFlow::Break(())
        }
        Ok(()) => ControlFlow::Continue(()),
        Err(fault) => {
            trouble = Some(fault);
            ControlFlow::Break(())
        }
    });
    let mut read = reading.read;
    read.fault = trouble.or(ended.err());
    if read.fault.is_none() {
        read.applied = journal.applied();
        read.ended = journal.ended();
    }
    read
}

fn cannot_keep(error: &std::io::Error) -> ReadFault {
    ReadFault::new(
        format!("what was read cannot be stored: {error}"),
        "free some space for temporary files, or read fewer tables with --table",
    )
}

/// The transaction that is being read.
struct OpenTransaction {
    writer: WriterId,
    place: u64,
    order: u64,
    made: i64,
    number: u32,
    keep: bool,
}

/// Where columns stand, and what was looked up, which must not go away while its address stands for it.
struct ColumnPositions {
    _of: (Arc<str>, Arc<[String]>),
    places: Option<(usize, Arc<[Option<usize>]>)>,
}

struct JournalScan<'a> {
    shared: &'a Shared<'a>,
    node: NodeId,
    now: Option<OpenTransaction>,
    /// By table and columns of the journal: the table's number, and where its columns stand.
    mapped: HashMap<(usize, usize), ColumnPositions>,
    /// Nodes of which something was applied here that is certainly in their journals.
    after: BTreeSet<NodeId>,
    last_own: BTreeMap<WriterId, u64>,
    /// Room for what stands for a change.
    told: Vec<u8>,
    cells: Vec<u8>,
    read: Read,
}

impl JournalScan<'_> {
    fn take(&mut self, entry: &Entry) -> Result<(), ReadFault> {
        match entry {
            Entry::Begin(begin) => self.begin(begin),
            Entry::PassedOn(number) => {
                if let Some(now) = &self.now {
                    let of = self.read.passed_on.entry(now.writer).or_default();
                    of.push(*number, now.place);
                }
                Ok(())
            }
            Entry::Row(change) => self.row(change).map_err(|error| cannot_keep(&error)),
            Entry::Shape(change) => {
                let table = self.shared.tables.iter().position(|table| table.name == *change.table);
                if let (Some(table), Some(now)) = (table, &self.now) {
                    self.read.shapes.push(Reshaped {
                        table,
                        node: self.node,
                        writer: now.writer,
                        place: now.place,
                        order: now.order,
                        made: (now.made != NO_TIME).then_some(now.made),
                        what: change.what.clone(),
                    });
                }
                Ok(())
            }
        }
    }

    fn begin(&mut self, begin: &Begin) -> Result<(), ReadFault> {
        let Some(writer) = self.shared.number_of(&begin.id.writer) else {
            return Err(ReadFault::new(
                "more than 65 535 writers are named in the journals",
                "check who writes to these nodes",
            ));
        };
        let place = begin.id.place;
        let of = self.shared.node_of(&begin.id.writer);
        let own = of == Some(self.node);
        if own {
            let last = self.last_own.insert(writer, place);
            if last.is_some_and(|last| last > place) {
                return Err(ReadFault::new(
                    format!(
                        "its own numbers go back: {} comes after a higher one, so the log was started over and old numbers are assigned again",
                        begin.id
                    ),
                    "judge only what came after: begin with --since at the new log's first position",
                ));
            }
            for node in &self.after {
                self.read.anchors.entry((*node, writer)).or_insert(place);
            }
        } else if let Some(node) = of
            && self.shared.has_own(&begin.id.writer, place)
        {
            self.after.insert(node);
        }
        let arrivals = Arrivals::default;
        let seen = self.read.spans.entry(writer).or_insert_with(|| Seen {
            first: place,
            last: place,
            arrivals: arrivals(),
            besides: BTreeMap::new(),
        });
        (seen.first, seen.last) = (seen.first.min(place), seen.last.max(place));
        // Of its own they are needed only where something may have come through relays.
        if !own || begin.id.writer.stream == Stream::Lsn {
            seen.arrivals.push(place, begin.order);
        }
        if let Some(made) = begin.made {
            let (first, last) = self.read.times.unwrap_or((made, made));
            self.read.times = Some((first.min(made), last.max(made)));
        }
        self.read.transactions += 1;
        self.now = Some(OpenTransaction {
            writer,
            place,
            order: begin.order,
            made: begin.made.unwrap_or(NO_TIME),
            number: 0,
            keep: own || !self.shared.has_own(&begin.id.writer, place),
        });
        Ok(())
    }

    /// Takes a change of a row: its contents are kept, and a record of each thing that it wrote.
    fn row(&mut self, change: &RowChange) -> std::io::Result<()> {
        let Some((table, places)) = self.mapped(change) else { return Ok(()) };
        let about = &self.shared.tables[table];
        let content = Content {
            before: compared(about, &change.before, &places),
            after: compared(about, &change.after, &places),
        };
        let Some(now) = &mut self.now else { return Ok(()) };
        now.number += 1;
        self.read.writes += 1;
        let kept = match now.keep {
            true => self.read.gathered.keep(&content)?,
            false => NO_CONTENT,
        };
        let gist = self.gist(&content);
        let key = &about.layout.key;
        let (before, after) = (values(&content.before, key), values(&content.after, key));
        let before_row = before.as_ref().map(|key| thing(table, None, key));
        let after_row = after.as_ref().map(|key| thing(table, None, key));
        self.shared.look_for_life(table, before_row, before.as_ref());
        self.shared.look_for_life(table, after_row, after.as_ref());
        let Some(now) = &self.now else { return Ok(()) };
        let row = after_row.or(before_row).unwrap_or(0);
        let written = WriteRecord {
            thing: row,
            writer: now.writer,
            place: now.place,
            node: u8::try_from(self.node).unwrap_or(u8::MAX),
            order: now.order,
            number: now.number,
            made: now.made,
            table: short(table),
            unique: 0,
            deed: deed_number(Deed::Update),
            row: short_row(row),
            gist,
            content: kept,
        };
        let mut records = of_rows(change.act, before_row, after_row, written);
        if records.is_empty() {
            *self.read.unknown_rows.entry(table).or_insert(0) += 1;
        }
        if change.act != RowOp::Delete {
            records.extend(of_unique_values(about, table, &content, written));
            records.extend(of_references(self.shared.tables, table, change.act, &content, written));
        }
        for record in records {
            self.read.gathered.push(record)?;
        }
        Ok(())
    }

    /// A token of the contents, the same in every journal that tells the same cells. The row before does not count:
    /// where writes raced, each node replaced its own.
    fn gist(&mut self, content: &Content) -> u64 {
        let (mut told, mut cells) =
            (std::mem::take(&mut self.told), std::mem::take(&mut self.cells));
        told.clear();
        cells.clear();
        for cell in content.after.iter().flatten() {
            told.push(u8::from(cell.is_some()));
            if let Some(cell) = cell {
                encoding::put_cell(&mut cells, cell.as_ref());
            }
        }
        let short = |bytes: &[u8]| DigestFunction::default().digest(bytes).0 as u32;
        let gist = u64::from(short(&told)) << 32 | u64::from(short(&cells));
        (self.told, self.cells) = (told, cells);
        gist
    }

    /// Which table a change is of, and where the columns of its layout stand in it.
    fn mapped(&mut self, change: &RowChange) -> Option<(usize, Arc<[Option<usize>]>)> {
        let shape = (change.table.as_ptr() as usize, change.columns.as_ptr() as usize);
        if let Some(known) = self.mapped.get(&shape) {
            return known.places.clone();
        }
        let table = self.shared.tables.iter().position(|table| table.name == *change.table);
        let places = table.map(|table| {
            let about = &self.shared.tables[table];
            let common: Vec<String> = about.layout.columns.iter().map(|c| c.name.clone()).collect();
            let local = about.local_columns.get(&self.node).unwrap_or(&common);
            let place = |name: &String| {
                let exact = change.columns.iter().position(|column| column == name);
                exact.or_else(|| change.columns.iter().position(|c| c.eq_ignore_ascii_case(name)))
            };
            (table, local.iter().map(place).collect())
        });
        let of = (Arc::clone(&change.table), Arc::clone(&change.columns));
        self.mapped.insert(shape, ColumnPositions { _of: of, places: places.clone() });
        places
    }
}

/// How far a journal reaches, by what it says of itself and what all journals hold. `done` is, by origin, what its
/// node had told others that it needs no more.
pub(super) fn reach(
    node: NodeId,
    head: &Head,
    writers: &[Writer],
    reads: &BTreeMap<NodeId, Read>,
    done: &BTreeMap<Arc<str>, u64>,
) -> Reach {
    let Some(read) = reads.get(&node) else { return Reach::default() };
    let anchors = |writer: WriterId| {
        reads.values().filter_map(move |read| read.anchors.get(&(node, writer)).copied()).min()
    };
    let mut spans = BTreeMap::new();
    for (number, writer) in writers.iter().enumerate() {
        let Ok(number) = WriterId::try_from(number) else { continue };
        let seen = read.spans.get(&number);
        let own = head.identity.as_ref() == Some(&writer.origin);
        let start = match &head.since {
            _ if head.own_only && !own => Start::Unclear(u64::MAX),
            Since::After(up_to) => Start::UpTo(up_to.get(writer).copied().unwrap_or(0)),
            Since::Unclear(from) if own => Start::Unclear(*from),
            Since::Unclear(_) => {
                let first = seen.map(|seen| seen.first);
                Start::Unclear(first.into_iter().chain(anchors(number)).min().unwrap_or(u64::MAX))
            }
        };
        let applied = read.applied.get(&writer.origin).copied();
        let last = seen.map(|seen| seen.last);
        let arrivals = seen.map(|seen| seen.arrivals.clone()).unwrap_or_default();
        let besides = seen.map(|seen| seen.besides.clone()).unwrap_or_default();
        let done = done.get(&writer.origin).copied();
        spans.insert(number, Span { start, last, applied, done, arrivals, besides });
    }
    Reach { spans, complete: matches!(head.since, Since::After(_)) && !head.own_only }
}

/// One side of a change, by columns of the layout, as it is compared; nothing where the journal does not tell it.
fn compared(
    about: &SetTable,
    side: &Option<Vec<Option<Value>>>,
    places: &[Option<usize>],
) -> Option<Vec<Option<Value>>> {
    let cells = side.as_ref()?;
    let columns = about.layout.columns.iter().zip(places);
    let cell = |(column, at): (&Column, &Option<usize>)| {
        let cell = cells.get((*at)?)?.as_ref()?;
        Some(column.reading.take(cell.as_ref()).as_ref().to_value())
    };
    Some(columns.map(cell).collect())
}

/// The values of some columns, if all are told.
fn values(side: &Option<Vec<Option<Value>>>, columns: &[usize]) -> Option<Vec<Value>> {
    let cells = side.as_ref()?;
    columns.iter().map(|at| cells.get(*at).cloned().flatten()).collect()
}

fn short(number: usize) -> u16 {
    u16::try_from(number).unwrap_or(u16::MAX)
}

fn short_row(row: u128) -> u64 {
    (row >> 64) as u64 ^ row as u64
}

/// The rows that a change wrote; none where the journal does not tell which.
fn of_rows(
    act: RowOp,
    before: Option<u128>,
    after: Option<u128>,
    written: WriteRecord,
) -> Vec<WriteRecord> {
    let record = |row: u128, deed: Deed| WriteRecord {
        thing: row,
        row: short_row(row),
        deed: deed_number(deed),
        ..written
    };
    match (act, before, after) {
        (RowOp::Insert, _, Some(row)) => vec![record(row, Deed::Insert)],
        (RowOp::Delete, Some(row), _) => vec![record(row, Deed::Delete)],
        // A row under a new key is gone under the old one.
        (RowOp::Update, Some(old), Some(new)) if old != new => {
            vec![record(old, Deed::Delete), record(new, Deed::Insert)]
        }
        (RowOp::Update, _, Some(row)) | (_, Some(row), None) => vec![record(row, Deed::Update)],
        _ => Vec::new(),
    }
}

/// The values that must be unique and that a change gave to its row.
fn of_unique_values<'a>(
    about: &'a SetTable,
    table: usize,
    content: &'a Content,
    written: WriteRecord,
) -> impl Iterator<Item = WriteRecord> + 'a {
    about.unique.iter().enumerate().filter_map(move |(at, columns)| {
        let given = values(&content.after, columns)?;
        let same = values(&content.before, columns)
            .is_some_and(|old| old.iter().zip(&given).all(|(old, new)| old.same_as(new)));
        (!same && !given.contains(&Value::Null)).then(|| WriteRecord {
            thing: thing(table, Some(at), &given),
            deed: deed_number(Deed::Take),
            unique: short(at + 1),
            ..written
        })
    })
}

/// The rows that a change made its row refer to.
fn of_references<'a>(
    tables: &'a [SetTable],
    table: usize,
    act: RowOp,
    content: &'a Content,
    written: WriteRecord,
) -> impl Iterator<Item = WriteRecord> + 'a {
    tables[table].refers.iter().filter_map(move |Refers { parent, columns, unlogged }| {
        let referred = values(&content.after, columns)?;
        // What an update referred to before is not always told; then it is taken to be the same.
        // Whatever is written to a row that goes with its parent meets the parent's end.
        let is_new = match (act, values(&content.before, columns)) {
            (RowOp::Insert, _) => true,
            _ if *unlogged => true,
            (_, Some(old)) => !old.iter().zip(&referred).all(|(old, new)| old.same_as(new)),
            (_, None) => false,
        };
        let layout = &tables[*parent].layout;
        let compared = |(at, value): (&usize, &Value)| {
            layout.columns[*at].reading.take(value.as_ref()).as_ref().to_value()
        };
        (is_new && !referred.contains(&Value::Null)).then(|| {
            let key: Vec<Value> = layout.key.iter().zip(&referred).map(compared).collect();
            WriteRecord {
                thing: thing(*parent, None, &key),
                deed: deed_number(Deed::Refer),
                table: short(*parent),
                unique: short(table),
                ..written
            }
        })
    })
}
