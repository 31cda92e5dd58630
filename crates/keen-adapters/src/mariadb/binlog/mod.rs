//! The binary log as a journal, read over the replication protocol.
//!
//! Keen reads as number 0, which the server takes for a reader that is no replica: it throws nobody out,
//! is kept in no list, and stops nothing. The log is read from the first file that is still there to where
//! it ends, and the connection is closed.
//!
//! Events are taken apart here, byte by byte: the library frames them, but knows neither MariaDB's own ones
//! nor all its types. The forms are those of the server's `log_event.h` and `field.cc`.

mod aside;
mod bytes;
mod cells;
mod compressed;
mod opening;
mod rows;
mod statement;
mod table;

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap};
use std::ops::ControlFlow;
use std::sync::Arc;

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::history::journal::{
    Begin, Entry, Head, Id, JournalPosition, ShapeChange, Since, Stream, Writer,
};
use keen_core::ports::ReadJournal;
use keen_core::row::schema::TableShape;
use mysql::BinlogStream;

use super::connect::MariaDbSession;
use super::shape;
use crate::server::Access;
use aside::Aside;
use bytes::{BadEvent, EventBytes};
use cells::ColumnDecoder;
use opening::{may_not, next_file, nobody_else_reads_as, settings, stream};
use statement::End;
use table::TableMap;

/// MariaDB's log of what was written, as far as it still has it.
pub struct MariaDbJournal {
    access: Access,
    stream: BinlogStream,
    head: Head,
    tables: Vec<WantedTable>,
    /// The event before the first transaction, which belongs to it.
    held: Option<RawEvent>,
    reader: u32,
    /// The file that is being read, and where the last event in it ends.
    file: (String, u32),
    /// The order of the transaction that an earlier run read last; it is passed over.
    passing: Option<u64>,
    ended: Option<JournalPosition>,
}

impl std::fmt::Debug for MariaDbJournal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("MariaDbJournal").field("head", &self.head).finish_non_exhaustive()
    }
}

/// Why what was put aside cannot be handed on.
enum Replay {
    Read(ReadFault),
    Kept(std::io::Error),
}

impl From<std::io::Error> for Replay {
    fn from(error: std::io::Error) -> Self {
        Self::Kept(error)
    }
}

fn cannot_keep(error: &std::io::Error) -> ReadFault {
    ReadFault::new(
        format!("what was read cannot be stored: {error}"),
        "free some space for temporary files, or read fewer tables with --table",
    )
}

/// Its kind, its time in seconds, the server that made it, and its bytes.
type RawEvent = (u8, u32, u32, Vec<u8>);

/// Where a transaction begins in the log: the file, the place in it, and the transaction.
struct Spot {
    file: String,
    at: u32,
    id: Id,
}

impl Spot {
    fn mark(&self, order: u64) -> JournalPosition {
        JournalPosition { order, at: format!("{} {} {}", self.file, self.at, self.id) }
    }
}

/// A table that is wanted.
struct WantedTable {
    /// As the sets name it.
    name: Arc<str>,
    /// Database and table, as the log names them.
    place: (String, String),
    shape: TableShape,
    takes: HashMap<String, super::decode::Take>,
}

mod event {
    pub(super) const QUERY: u8 = 2;
    pub(super) const ROTATE: u8 = 4;
    pub(super) const INCIDENT: u8 = 26;
    pub(super) const TABLE_MAP: u8 = 19;
    pub(super) const WRITE: u8 = 23;
    pub(super) const UPDATE: u8 = 24;
    pub(super) const DELETE: u8 = 25;
    pub(super) const GTID: u8 = 162;
    pub(super) const GTID_LIST: u8 = 163;
    pub(super) const XID: u8 = 16;
    pub(super) const XA_PREPARE: u8 = 38;
    pub(super) const QUERY_COMPRESSED: u8 = 165;
    pub(super) const WRITE_COMPRESSED: u8 = 166;
    pub(super) const UPDATE_COMPRESSED: u8 = 167;
    pub(super) const DELETE_COMPRESSED: u8 = 168;
}

impl MariaDbJournal {
    /// Logs in and begins to read the log. `tables` are named as the sets do, and as the node does.
    /// `reader` is the number to read as; 0 is that of nobody.
    ///
    /// # Errors
    /// [`ReadFault`] when the server cannot be reached, refuses, or keeps no log that tells rows.
    pub fn open(
        access: &Access,
        tables: &[(String, String)],
        reader: u32,
    ) -> Result<Self, ReadFault> {
        let mut session = MariaDbSession::open_to_look(access)?;
        let mut known = Vec::new();
        for (name, local) in tables {
            match shape::look(&mut session, local) {
                Ok((shape, described)) => known.push(WantedTable {
                    name: Arc::from(&name[..]),
                    place: (
                        shape.qualified.first().cloned().unwrap_or_default(),
                        shape.qualified.get(1).cloned().unwrap_or_default(),
                    ),
                    takes: described.columns.into_iter().collect(),
                    shape,
                }),
                Err(fault) if fault.kind == FaultKind::NoTable => {}
                Err(fault) => return Err(fault),
            }
        }
        let (head, foreign) = settings(&mut session)?;
        if reader != 0 {
            nobody_else_reads_as(&mut session, reader)?;
        }
        let mut journal = Self {
            access: access.clone(),
            stream: stream(session, reader, "", 4)?,
            head,
            tables: known,
            held: None,
            reader,
            file: (String::new(), 4),
            passing: None,
            ended: None,
        };
        journal.find_beginning(foreign)?;
        Ok(journal)
    }

    /// Reads up to the first transaction: what comes before says what had been applied before.
    fn find_beginning(&mut self, foreign: bool) -> Result<(), ReadFault> {
        while let Some(event) = self.next()? {
            let (kind, _, _, data) = &event;
            match *kind {
                event::GTID_LIST => {
                    let list = gtid_list(data)
                        .map_err(|BadEvent| self.torn("the list of what came before"))?;
                    self.head.since = Since::After(list);
                }
                event::GTID => {
                    self.held = Some(event);
                    break;
                }
                _ => {}
            }
        }
        if !foreign {
            self.head.own_only = true;
        }
        Ok(())
    }

    /// The next event: its kind, time, the server that made it, and its bytes.
    fn next(&mut self) -> Result<Option<RawEvent>, ReadFault> {
        if let Some(held) = self.held.take() {
            return Ok(Some(held));
        }
        match self.stream.next() {
            None => Ok(None),
            Some(Ok(event)) => {
                let header = event.header();
                if header.event_type_raw() == event::ROTATE {
                    self.file = (next_file(&event), 4);
                } else if header.log_pos() != 0 {
                    self.file.1 = header.log_pos().saturating_sub(header.event_size());
                }
                let about = (header.event_type_raw(), header.timestamp(), header.server_id());
                Ok(Some((about.0, about.1, about.2, event.data().to_vec())))
            }
            Some(Err(error)) => Err(may_not(&self.access, &error)),
        }
    }

    fn torn(&self, what: &str) -> ReadFault {
        ReadFault::new(
            format!("{what} in the log of {} cannot be decoded", self.access.shown()),
            "check the log with mariadb-binlog --verify-binlog-checksum; if it is sound, please report it",
        )
    }
}

/// How many there are, then of each its domain, its server and its number.
fn gtid_list(data: &[u8]) -> Result<BTreeMap<Writer, u64>, BadEvent> {
    let mut from = EventBytes(data);
    let count = from.little(4)? & 0x0fff_ffff;
    let mut list = BTreeMap::new();
    for _ in 0..count {
        let (domain, server, place) = (from.little(4)?, from.little(4)?, from.little(8)?);
        let domain = u32::try_from(domain).map_err(|_| BadEvent)?;
        list.insert(writer(domain, &server.to_string()), place);
    }
    Ok(list)
}

fn writer(domain: u32, server: &str) -> Writer {
    Writer { origin: Arc::from(server), stream: Stream::Domain(domain) }
}

impl ReadJournal for MariaDbJournal {
    fn head(&mut self) -> Result<Head, ReadFault> {
        Ok(self.head.clone())
    }

    /// From the transaction that was read last, which must still stand where it stood.
    fn go_on(&mut self, from: &JournalPosition) -> Result<bool, ReadFault> {
        let mut parts = from.at.splitn(3, ' ');
        let (Some(file), Some(at), Some(id)) = (parts.next(), parts.next(), parts.next()) else {
            return Ok(false);
        };
        let session = MariaDbSession::open_to_look(&self.access)?;
        self.stream = stream(session, self.reader, file, at.parse().unwrap_or(4))?;
        (self.file, self.held) = ((file.to_owned(), 4), None);
        while let Some(event) = self.next()? {
            if event.0 == event::GTID {
                let found = gtid(&event.3, event.2).map_err(|BadEvent| self.torn(GTID))?;
                self.passing = Some(from.order);
                self.held = Some(event);
                return Ok(found.to_string() == id);
            }
        }
        Ok(false)
    }

    fn ended(&self) -> Option<JournalPosition> {
        self.ended.clone()
    }

    fn read(&mut self, each: &mut dyn FnMut(Entry) -> ControlFlow<()>) -> Result<(), ReadFault> {
        let mut reading = LogReading::default();
        if let Some(order) = self.passing.take() {
            reading.order = order.saturating_sub(1);
            let mut silent = |_| ControlFlow::Continue(());
            while let Some(event) = self.next()? {
                if event.0 == event::GTID && reading.order == order {
                    self.held = Some(event);
                    break;
                }
                let _ = self.standing(&mut reading, &event, &mut silent)?;
            }
            let _ = self.flush(&mut reading, &mut silent)?;
            (reading.statements, reading.skipped) = (0, BTreeMap::new());
        }
        while let Some(event) = self.next()? {
            if self.standing(&mut reading, &event, each)?.is_break() {
                return Ok(());
            }
        }
        if self.flush(&mut reading, each)?.is_break() {
            return Ok(());
        }
        // What is prepared may be committed later, and would have to be known then.
        let spot = reading.spot.take().filter(|_| reading.prepared.is_empty());
        self.ended = spot.map(|spot| spot.mark(reading.order));
        reading.unread(&self.access.shown()).map_or(Ok(()), Err)
    }
}

/// The state of reading a log.
#[derive(Default)]
struct LogReading {
    order: u64,
    /// By the log's number of the table: which one it is, and how its cells are decoded; or the name of one whose
    /// rows cannot be read.
    maps: HashMap<u64, Result<MappedTable, Arc<str>>>,
    /// Layouts that were worked out before.
    layouts: Vec<(TableMap, MappedTable)>,
    writers: HashMap<(u32, u32), Writer>,
    /// Writes that are logged as statements, which name no rows.
    statements: u64,
    /// Times that something was lost before it was logged.
    incidents: u64,
    /// Where the last transaction begins.
    spot: Option<Spot>,
    /// Changes of the transaction at hand that may still be rolled back; none while each stands at once.
    aside: Option<Aside>,
    /// The name under which the transaction at hand is prepared.
    preparing: Option<Vec<u8>>,
    /// The name under which the one that the transaction at hand ends was prepared.
    ending: Option<Vec<u8>>,
    /// By name what is prepared, and neither committed nor rolled back yet.
    prepared: HashMap<Vec<u8>, Aside>,
    /// Transactions that end one which was prepared before the log begins.
    unknown_ends: u64,
    /// The part that is replayed was rolled back.
    undone: bool,
    /// By table why its rows cannot be read, and how many were passed over.
    skipped: BTreeMap<Arc<str>, (String, String, u64)>,
}

impl LogReading {
    /// The first thing that could not be read though the rest was; none if everything could.
    fn unread(&self, shown: &str) -> Option<ReadFault> {
        if let Some((table, (what, advice, count))) = self.skipped.iter().next() {
            let others: Vec<&str> = self.skipped.keys().skip(1).map(|table| &**table).collect();
            let others = match others.is_empty() {
                true => String::new(),
                false => format!("; nor can those of {}", others.join(", ")),
            };
            let times = if *count == 1 { "write" } else { "writes" };
            return Some(ReadFault::new(
                format!(
                    "{count} {times} to {table} cannot be read: {what}{others} (everything else was read)"
                ),
                advice.clone(),
            ));
        }
        if self.unknown_ends > 0 {
            return Some(ReadFault::new(
                format!(
                    "{} prepared before the log of {shown} begins ended in it: what was written is not known (everything else was read)",
                    if self.unknown_ends == 1 { "1 transaction" } else { "transactions" }
                ),
                "judge only what came after: begin with --since",
            ));
        }
        if self.incidents > 0 {
            return Some(ReadFault::new(
                format!(
                    "the log of {shown} has {} in it: something was lost before it was logged (everything else was read)",
                    if self.incidents == 1 { "an incident" } else { "incidents" }
                ),
                "read the server's error log, and run an audit: no journal shows what was lost there",
            ));
        }
        (self.statements > 0).then(|| {
            let writes = match self.statements {
                1 => format!("1 write in the log of {shown} is logged as a statement"),
                count => format!("{count} writes in the log of {shown} are logged as statements"),
            };
            ReadFault::new(
                format!("{writes}, and statements do not identify rows (the others were read)"),
                "SET GLOBAL binlog_format = ROW, and later writes can be judged",
            )
        })
    }
}

/// Marks of a transaction in the event that begins it (`Gtid_log_event` in the server's `log_event.h`).
mod flag {
    pub(super) const GROUP_COMMIT: u8 = 2;
    pub(super) const TRANSACTIONAL: u8 = 4;
    pub(super) const PREPARED: u8 = 64;
    pub(super) const COMPLETED: u8 = 128;
}

/// The marks of a transaction, and the name under which it is or was prepared.
fn marks(data: &[u8]) -> Result<(u8, Option<Vec<u8>>), BadEvent> {
    let mut from = EventBytes(data);
    from.take(12)?;
    let flags = from.u8()?;
    if flags & flag::GROUP_COMMIT != 0 {
        from.take(8)?;
    }
    if flags & (flag::PREPARED | flag::COMPLETED) == 0 {
        return Ok((flags, None));
    }
    let (format, global, branch) = (from.take(4)?, from.u8()?, from.u8()?);
    let name = from.take(usize::from(global) + usize::from(branch))?;
    Ok((flags, Some([format, &[global], name].concat())))
}

const GTID: &str = "a transaction's number";

/// The name of a transaction, from the event that begins it.
fn gtid(data: &[u8], server: u32) -> Result<Id, BadEvent> {
    let mut from = EventBytes(data);
    let (place, domain) = (from.little(8)?, from.little(4)?);
    let domain = u32::try_from(domain).unwrap_or(u32::MAX);
    Ok(Id { writer: writer(domain, &server.to_string()), place })
}

#[derive(Clone)]
struct MappedTable {
    table: usize,
    columns: Arc<[ColumnDecoder]>,
    names: Arc<[String]>,
}

impl MariaDbJournal {
    /// Takes an event, and hands on what is known to stand.
    fn standing(
        &self,
        reading: &mut LogReading,
        event: &RawEvent,
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, ReadFault> {
        let (kind, time, server, data) = event;
        match *kind {
            event::GTID => {
                if self.flush(reading, each)?.is_break() {
                    return Ok(ControlFlow::Break(()));
                }
                let (flags, name) = marks(data).map_err(|BadEvent| self.torn(GTID))?;
                let prepares = flags & flag::PREPARED != 0;
                reading.preparing = name.clone().filter(|_| prepares);
                reading.ending = name.filter(|_| !prepares);
                // One that wrote to no table which rolls nothing back stands in the log only once it is committed.
                if prepares || flags & flag::TRANSACTIONAL == 0 {
                    reading.aside = Some(Aside::new());
                }
            }
            event::QUERY | event::QUERY_COMPRESSED => {
                let data = self.whole(*kind, data)?;
                let (_, sql) = query(&data).map_err(|BadEvent| self.torn("a statement"))?;
                match (statement::ends(&sql), reading.ending.take()) {
                    (Some(End::Savepoint(name)), _) => {
                        reading.aside.get_or_insert_with(Aside::new).savepoint(name);
                        return Ok(ControlFlow::Continue(()));
                    }
                    (Some(End::RollBack(to)), _) => {
                        if let Some(aside) = &mut reading.aside {
                            aside.roll_back(to.as_deref());
                        }
                        return Ok(ControlFlow::Continue(()));
                    }
                    (Some(End::XaCommit), Some(name)) => {
                        reading.aside = reading.prepared.remove(&name);
                        reading.unknown_ends += u64::from(reading.aside.is_none());
                        return self.flush(reading, each);
                    }
                    (Some(End::XaRollBack), Some(name)) => {
                        reading.prepared.remove(&name);
                        return Ok(ControlFlow::Continue(()));
                    }
                    (Some(End::Commit), _) => return self.flush(reading, each),
                    (_, ending) => reading.ending = ending,
                }
            }
            event::XID => return self.flush(reading, each),
            event::XA_PREPARE => {
                if let (Some(name), Some(aside)) = (reading.preparing.take(), reading.aside.take())
                {
                    reading.prepared.insert(name, aside);
                }
                return Ok(ControlFlow::Continue(()));
            }
            _ => {}
        }
        if *kind != event::GTID
            && let Some(aside) = &mut reading.aside
        {
            aside.push(event).map_err(|error| cannot_keep(&error))?;
            return Ok(ControlFlow::Continue(()));
        }
        self.event(reading, (*kind, *time, *server), data, each)
    }

    /// Hands on what was put aside: of what was rolled back that which stays in tables that roll nothing back.
    fn flush(
        &self,
        reading: &mut LogReading,
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, ReadFault> {
        let Some(aside) = reading.aside.take() else { return Ok(ControlFlow::Continue(())) };
        let mut flow = ControlFlow::Continue(());
        let replayed = aside.each(|(kind, time, server, data), undone| {
            reading.undone = undone;
            flow = self.event(reading, (kind, time, server), &data, each).map_err(Replay::Read)?;
            Ok(flow.is_continue())
        });
        reading.undone = false;
        match replayed {
            Ok(()) => Ok(flow),
            Err(Replay::Read(fault)) => Err(fault),
            Err(Replay::Kept(error)) => Err(cannot_keep(&error)),
        }
    }

    /// The bytes of an event as they would be without compression.
    fn whole<'a>(&self, kind: u8, data: &'a [u8]) -> Result<Cow<'a, [u8]>, ReadFault> {
        let whole = match kind {
            event::QUERY_COMPRESSED => compressed::query(data),
            event::WRITE_COMPRESSED | event::DELETE_COMPRESSED => compressed::rows(data, false),
            event::UPDATE_COMPRESSED => compressed::rows(data, true),
            _ => return Ok(Cow::Borrowed(data)),
        };
        whole.map(Cow::Owned).map_err(|BadEvent| self.torn("a compressed event"))
    }

    fn event(
        &self,
        reading: &mut LogReading,
        (kind, time, server): (u8, u32, u32),
        data: &[u8],
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, ReadFault> {
        let torn = |what: &'static str| move |BadEvent| self.torn(what);
        match kind {
            event::GTID => {
                let mut id = gtid(data, server).map_err(torn(GTID))?;
                let Stream::Domain(domain) = id.writer.stream else { return Err(self.torn(GTID)) };
                // One name for all that a writer wrote.
                id.writer = reading.writers.entry((domain, server)).or_insert(id.writer).clone();
                reading.order += 1;
                let (file, at) = self.file.clone();
                reading.spot = Some(Spot { file, at, id: id.clone() });
                return Ok(each(Entry::Begin(Begin {
                    order: reading.order,
                    id,
                    made: Some(i64::from(time) * 1_000_000),
                    commit: None,
                })));
            }
            event::TABLE_MAP => {
                let map = table::read(data).map_err(torn("the layout of a table"))?;
                let id = map.id;
                let name = self.known(&map).map(|table| Arc::clone(&self.tables[table].name));
                match (self.mapped(reading, map), name) {
                    (Ok(Some(mapped)), _) => drop(reading.maps.insert(id, Ok(mapped))),
                    (Err(fault), Some(name)) => {
                        reading.maps.insert(id, Err(Arc::clone(&name)));
                        reading.skipped.entry(name).or_insert((fault.what, fault.advice, 0));
                    }
                    (Ok(None), _) => drop(reading.maps.remove(&id)),
                    (Err(fault), None) => return Err(fault),
                }
            }
            event::WRITE | event::UPDATE | event::DELETE => {
                return self.rows(reading, kind, data, each);
            }
            event::WRITE_COMPRESSED..=event::DELETE_COMPRESSED => {
                let plain = kind - event::WRITE_COMPRESSED + event::WRITE;
                return self.rows(reading, plain, &self.whole(kind, data)?, each);
            }
            event::QUERY | event::QUERY_COMPRESSED if !reading.undone => {
                let data = self.whole(kind, data)?;
                let (schema, sql) = query(&data).map_err(torn("a statement"))?;
                let Some(found) = statement::reshapes(&sql) else {
                    let here = self.tables.iter().any(|known| known.place.0 == schema);
                    reading.statements += u64::from(here && statement::writes(&sql));
                    return Ok(ControlFlow::Continue(()));
                };
                for (of, table) in found.tables {
                    let of = of.as_deref().unwrap_or(&schema);
                    let known = self
                        .tables
                        .iter()
                        .find(|known| known.place.0 == of && known.place.1 == table);
                    if let Some(known) = known
                        && each(Entry::Shape(ShapeChange {
                            table: Arc::clone(&known.name),
                            what: sql.clone(),
                        }))
                        .is_break()
                    {
                        return Ok(ControlFlow::Break(()));
                    }
                }
            }
            event::INCIDENT => reading.incidents += 1,
            _ => {}
        }
        Ok(ControlFlow::Continue(()))
    }
}

/// The database a statement ran in, and its text.
fn query(data: &[u8]) -> Result<(String, String), BadEvent> {
    let mut from = EventBytes(data);
    from.take(8)?;
    let schema = usize::from(from.u8()?);
    from.take(2)?;
    let variables = usize::try_from(from.little(2)?).map_err(|_| BadEvent)?;
    from.take(variables)?;
    let schema = String::from_utf8_lossy(from.take(schema)?).into_owned();
    from.take(1)?;
    Ok((schema, String::from_utf8_lossy(from.0).into_owned()))
}
