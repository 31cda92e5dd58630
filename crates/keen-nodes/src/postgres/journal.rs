//! PostgreSQL's log as a journal, through a logical slot that is only ever peeked at.
//!
//! The slot and its publication have to be there before what is to be judged is written; keen prints the
//! statements and creates nothing. Peeking moves nothing on: each time all that the slot holds is read
//! again, and it goes on holding it until somebody drops it.
//!
//! The messages are those of the plugin `pgoutput` ("Logical Replication Message Formats" in PostgreSQL's
//! documentation). A transaction is named by the node that made it and the end of its commit in that node's
//! log, by which its receivers know it too.

use std::collections::{BTreeMap, HashMap};
use std::io::{Read as _, Seek as _, SeekFrom, Write as _};
use std::ops::ControlFlow;
use std::sync::Arc;

use futures_util::{FutureExt, StreamExt};
use keen_core::journal::{
    Act, Begin, Entry, Head, Id, JOURNAL_SLOT, Mark, ReadJournal, RowChange, ShapeChange, Since,
    Stream, Writer,
};
use keen_core::ports::{FaultKind, ReadFault};
use keen_core::position::Position;
use keen_core::value::Value;
use tempfile::SpooledTempFile;

use super::connect::{self, Session};
use super::shape::{self, Local};
use super::types::{Codec, Types};
use super::{decode, origins};
use crate::server::Access;

/// PostgreSQL counts microseconds from 2000-01-01.
const EPOCH: i64 = 946_684_800_000_000;

/// What a slot holds of a PostgreSQL server's log.
pub struct PostgresJournal {
    session: Session,
    types: Types,
    /// What the topology calls the node.
    name: Arc<str>,
    head: Head,
    tables: Vec<Known>,
    /// By the name of a replication origin the slot that it reads.
    slots: HashMap<String, String>,
    /// By slot, what the node is called that has it.
    sources: BTreeMap<String, Arc<str>>,
    /// From where on the slot holds the log.
    held_from: u64,
    /// What was read by an earlier run is passed over.
    from: Option<Mark>,
    ended: Option<Mark>,
}

impl std::fmt::Debug for PostgresJournal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PostgresJournal").field("head", &self.head).finish_non_exhaustive()
    }
}

struct Known {
    /// As the sets name it.
    name: Arc<str>,
    /// Schema and table.
    place: (String, String),
    local: Local,
    /// The columns as they are now.
    columns: Vec<String>,
}

/// A table that could be published to keen's slot: its name, quoted, and whether PostgreSQL would go on
/// taking updates of it, which it refuses where nothing identifies a published row.
///
/// # Errors
/// [`ReadFault`] when the server cannot be reached, or lacks a table.
pub fn publishable(access: &Access, tables: &[String]) -> Result<Vec<(String, bool)>, ReadFault> {
    let session = Session::open_to_look(access)?;
    let types = Types::load(&session)?;
    let mut found = Vec::new();
    for table in tables {
        let (shape, _) = shape::look(&session, &types, table)?;
        let place: Vec<String> = shape.qualified.iter().map(|part| super::quoted(part)).collect();
        let name = place.join(".");
        let rows = session.rows(
            "look how rows are identified",
            "SELECT c.relreplident = 'f' OR EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = c.oid \
             AND (i.indisprimary AND c.relreplident = 'd' OR i.indisreplident)) FROM pg_class c WHERE c.oid = $1::text::regclass",
            &[&name],
        )?;
        found.push((name, rows.first().is_some_and(|row| row.get(0))));
    }
    Ok(found)
}

impl PostgresJournal {
    /// Logs in and looks at the slot. `tables` are named as the sets do, and as the node does.
    ///
    /// # Errors
    /// [`ReadFault`] when the server cannot be reached, or there is no slot to read from.
    pub fn open(
        access: &Access,
        name: &str,
        tables: &[(String, String)],
    ) -> Result<Self, ReadFault> {
        let session = Session::open_to_look(access)?;
        let types = Types::load(&session)?;
        let mut known = Vec::new();
        for (set_name, local_name) in tables {
            match shape::look(&session, &types, local_name) {
                Ok((shape, local)) => known.push(Known {
                    name: Arc::from(&set_name[..]),
                    place: (
                        shape.qualified.first().cloned().unwrap_or_default(),
                        shape.qualified.get(1).cloned().unwrap_or_default(),
                    ),
                    columns: shape.columns.iter().map(|column| column.name.clone()).collect(),
                    local,
                }),
                Err(fault) if fault.kind == FaultKind::NoTable => {}
                Err(fault) => return Err(fault),
            }
        }
        let mut journal = Self {
            session,
            types,
            name: Arc::from(name),
            head: Head::nothing_known(String::new(), Some(Arc::from(name))),
            tables: known,
            slots: HashMap::new(),
            sources: BTreeMap::new(),
            held_from: 0,
            from: None,
            ended: None,
        };
        journal.look()?;
        Ok(journal)
    }

    fn look(&mut self) -> Result<(), ReadFault> {
        let shown = self.session.access().shown();
        let doing = "look at its slots";
        let rows = self.session.rows(
            doing,
            "SELECT slot_name::text, plugin::text, database = current_database(), coalesce(wal_status, ''), \
             coalesce(confirmed_flush_lsn, restart_lsn)::text, current_setting('server_version') \
             FROM pg_replication_slots WHERE slot_type = 'logical'",
            &[],
        )?;
        let mut found = None;
        for row in &rows {
            let (slot, plugin): (&str, Option<&str>) = (row.get(0), row.get(1));
            if slot == JOURNAL_SLOT {
                found = Some((
                    plugin,
                    row.get::<_, Option<bool>>(2),
                    row.get::<_, &str>(3),
                    row.get::<_, Option<&str>>(4),
                    row.get::<_, &str>(5),
                ));
            } else {
                self.head.slots.push(slot.to_owned());
            }
        }
        let create = "run the statements that `keen conflicts --ddl` prints; what is written from then on can be judged";
        let Some((plugin, here, status, from, version)) = found else {
            return Err(ReadFault::new(
                format!("{shown} has no slot {JOURNAL_SLOT} to read its log through"),
                create,
            ));
        };
        if plugin != Some("pgoutput") || here != Some(true) {
            return Err(ReadFault::new(
                format!(
                    "the slot {JOURNAL_SLOT} on {shown} is of another database, or not of the plugin pgoutput"
                ),
                format!("drop it and create it anew: {create}"),
            ));
        }
        if status == "lost" {
            return Err(ReadFault::new(
                format!("the log that the slot {JOURNAL_SLOT} on {shown} should hold is lost"),
                format!("SELECT pg_drop_replication_slot('{JOURNAL_SLOT}'), then {create}"),
            ));
        }
        let version = version.split_whitespace().next().unwrap_or(version);
        self.head.about = format!("postgresql {version}, slot {JOURNAL_SLOT}");
        self.held_from = from.map_or(0, lsn);
        self.head.since = Since::Unclear(self.held_from);
        self.publication(&shown)?;
        self.identities()?;
        let (slots, unseen) = origins::receives(&self.session)?;
        self.slots = slots;
        self.head.notes.extend(unseen);
        self.head.follows = self.slots.values().cloned().collect();
        Ok(())
    }

    /// A table that the publication lacks would seem never to be written.
    fn publication(&self, shown: &str) -> Result<(), ReadFault> {
        let rows = self.session.rows(
            "look at its publication",
            "SELECT schemaname::text, tablename::text FROM pg_publication_tables WHERE pubname = $1",
            &[&JOURNAL_SLOT],
        )?;
        let published: Vec<(String, String)> =
            rows.iter().map(|row| (row.get(0), row.get(1))).collect();
        let missing: Vec<String> = (self.tables.iter())
            .filter(|known| !published.contains(&known.place))
            .map(|known| {
                format!("{}.{}", super::quoted(&known.place.0), super::quoted(&known.place.1))
            })
            .collect();
        if missing.is_empty() {
            return Ok(());
        }
        Err(ReadFault::new(
            format!(
                "the publication {JOURNAL_SLOT} on {shown} does not have {}",
                missing.join(", ")
            ),
            match published.is_empty() {
                true => "run the statements that `keen conflicts --ddl` prints".to_owned(),
                false => format!(
                    "ALTER PUBLICATION {JOURNAL_SLOT} ADD TABLE {}; what is written from then on can be judged, or leave the table out with --table",
                    missing.join(", ")
                ),
            },
        ))
    }

    /// Of which tables the log does not tell what rows were before.
    fn identities(&mut self) -> Result<(), ReadFault> {
        let rows = self.session.rows(
            "look at its tables",
            "SELECT n.nspname::text, c.relname::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
             WHERE c.relkind IN ('r', 'p') AND c.relreplident <> 'f'",
            &[],
        )?;
        let partly = |known: &&Known| {
            rows.iter().any(|row| {
                (row.get::<_, &str>(0), row.get::<_, &str>(1))
                    == (&known.place.0[..], &known.place.1[..])
            })
        };
        let names: Vec<&str> =
            self.tables.iter().filter(partly).map(|known| &*known.name).collect();
        if !names.is_empty() {
            self.head.notes.push(format!(
                "of {} its log tells rows as they became, not as they were: which cells an update changed is judged by what others wrote (REPLICA IDENTITY FULL would tell)",
                names.join(", ")
            ));
        }
        Ok(())
    }
}

fn lsn(text: &str) -> u64 {
    match text.parse() {
        Ok(Position::Lsn(at)) => at,
        _ => 0,
    }
}

impl ReadJournal for PostgresJournal {
    fn head(&mut self) -> Result<Head, ReadFault> {
        Ok(self.head.clone())
    }

    fn resolve(&mut self, sources: &BTreeMap<String, Arc<str>>) {
        self.sources.clone_from(sources);
    }

    /// What was copied when a subscription began counts as applied, too.
    fn applied(&mut self) -> BTreeMap<Arc<str>, u64> {
        let rows = self.session.rows(
            "look how far it has applied",
            "SELECT o.external_id, greatest(o.remote_lsn, (SELECT max(r.srsublsn) FROM pg_subscription s \
                    JOIN pg_subscription_rel r ON r.srsubid = s.oid WHERE o.external_id = 'pg_' || s.oid::text))::text \
             FROM pg_replication_origin_status o WHERE o.remote_lsn IS NOT NULL",
            &[],
        );
        let rows = rows.unwrap_or_else(|fault| {
            tracing::debug!(%fault, "how far it has applied is not known");
            Vec::new()
        });
        let of = |row: &tokio_postgres::Row| {
            let slot = self.slots.get(row.get::<_, &str>(0))?;
            let source = self.sources.get(slot)?;
            Some((Arc::clone(source), lsn(row.get::<_, Option<&str>>(1)?)))
        };
        rows.iter().filter_map(of).collect()
    }

    /// The slot hands out everything again each time; what was read before is passed over.
    fn go_on(&mut self, from: &Mark) -> Result<bool, ReadFault> {
        self.from = Some(from.clone());
        Ok(self.held_from != 0 && lsn(&from.at) >= self.held_from)
    }

    fn ended(&self) -> Option<Mark> {
        self.ended.clone()
    }

    fn read(&mut self, each: &mut dyn FnMut(Entry) -> ControlFlow<()>) -> Result<(), ReadFault> {
        let doing = format!("read its log through the slot {JOURNAL_SLOT}");
        let sql = format!(
            "SELECT data FROM pg_logical_slot_peek_binary_changes('{JOURNAL_SLOT}', NULL, NULL, \
             'proto_version', '1', 'publication_names', '{JOURNAL_SLOT}', 'binary', 'true')"
        );
        let access = self.session.access().clone();
        let mut stream = Box::pin(self.session.stream(&doing, &sql)?);
        let mut reading = Reading::new(self);
        enum Trouble {
            Server(tokio_postgres::Error),
            Fault(ReadFault),
        }
        let done: Result<(), Trouble> = self.session.block_on(async {
            loop {
                let next = match stream.next().now_or_never() {
                    Some(next) => next,
                    None => connect::waited(&access, access.silence, &doing, stream.next())
                        .await
                        .map_err(Trouble::Fault)?,
                };
                let Some(row) = next else { break };
                let row = row.map_err(Trouble::Server)?;
                let data: &[u8] = row.get(0);
                if reading.message(data, each).map_err(Trouble::Fault)?.is_break() {
                    return Ok(());
                }
            }
            reading.passed().map_err(Trouble::Fault)?;
            reading.end(each);
            Ok(())
        });
        let ended = reading.ended();
        drop(stream);
        match done {
            Ok(()) => {
                self.ended = ended;
                Ok(())
            }
            Err(Trouble::Fault(fault)) => Err(fault),
            Err(Trouble::Server(error)) => {
                let mut fault = self.session.failed(&doing, &error);
                if fault.kind == FaultKind::NotAllowed {
                    fault.advice =
                        format!("ALTER ROLE {} REPLICATION", super::quoted(&access.server.user));
                }
                Err(fault)
            }
        }
    }
}

/// A relation as the log describes it.
struct Relation {
    table: Option<usize>,
    names: Arc<[String]>,
    kinds: Vec<u32>,
    key: Vec<bool>,
    codecs: Vec<Option<Codec>>,
}

/// Where a transaction that was begun stands.
struct Begun {
    /// The beginning of its commit here.
    commit: u64,
    made: i64,
    /// Whom it came from, and the end of its commit there.
    origin: Option<(Arc<str>, u64)>,
    /// Messages that wait until its name is known.
    waiting: SpooledTempFile,
    count: u64,
    told: bool,
}

struct Reading<'a> {
    journal: &'a PostgresJournal,
    order: u64,
    relations: HashMap<u32, Relation>,
    begun: Option<Begun>,
    last: u64,
    /// Commits that end here or before were read by an earlier run.
    read_to: u64,
    /// The transaction that is being passed over is one of those.
    passing: bool,
    /// Something was told that the log itself does not have yet.
    ahead: bool,
}

/// Messages of one transaction are kept in memory up to this many bytes.
const IN_MEMORY: usize = 4 << 20;

struct Torn;

impl<'a> Reading<'a> {
    fn new(journal: &'a PostgresJournal) -> Self {
        let from = journal.from.as_ref();
        Self {
            journal,
            order: from.map_or(0, |mark| mark.order),
            relations: HashMap::new(),
            begun: None,
            last: 0,
            read_to: from.map_or(0, |mark| lsn(&mark.at)),
            passing: false,
            ahead: false,
        }
    }

    /// Whether what was passed over ended where the earlier run had.
    fn passed(&self) -> Result<(), ReadFault> {
        if self.passing || self.last >= self.read_to || self.journal.held_from == self.read_to {
            return Ok(());
        }
        let shown = self.journal.session.access().shown();
        Err(ReadFault::new(
            format!(
                "the log of {shown} does not go on from where it was read to: it is another one"
            ),
            "read it from its beginning with --whole",
        ))
    }

    fn ended(&self) -> Option<Mark> {
        let at = self.last.max(self.read_to).max(self.journal.held_from);
        let text = format!("{:X}/{:X}", at >> 32, at & 0xffff_ffff);
        (!self.ahead).then_some(Mark { order: self.order, at: text })
    }

    fn torn(&self, what: &str) -> ReadFault {
        let shown = self.journal.session.access().shown();
        ReadFault::new(
            format!("{what} in the log of {shown} cannot be taken apart"),
            "this is a defect of keen: please report it",
        )
    }

    fn message(
        &mut self,
        data: &[u8],
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, ReadFault> {
        let mut from = Message(data);
        let kind = from.u8().map_err(|Torn| self.torn("a message"))?;
        if self.passing {
            match kind {
                // What a table looked like is needed later.
                b'R' => {
                    let described = self.relation(&mut from);
                    let (number, relation) = described.map_err(|Torn| self.torn("a relation"))?;
                    self.relations.insert(number, relation);
                }
                b'C' => {
                    self.last = commit_end(&mut from)
                        .map_err(|Torn| self.torn("the end of a transaction"))?;
                    self.passing = false;
                }
                _ => {}
            }
            return Ok(ControlFlow::Continue(()));
        }
        match kind {
            b'B' => {
                let mut begin =
                    || -> Result<(u64, i64), Torn> { Ok((from.u64()?, from.u64()?.cast_signed())) };
                let (commit, time) =
                    begin().map_err(|Torn| self.torn("the beginning of a transaction"))?;
                if commit < self.read_to {
                    self.passing = true;
                    return Ok(ControlFlow::Continue(()));
                }
                self.passed()?;
                self.begun = Some(Begun {
                    commit,
                    made: time + EPOCH,
                    origin: None,
                    waiting: SpooledTempFile::new(IN_MEMORY),
                    count: 0,
                    told: false,
                });
            }
            b'O' => {
                let mut origin =
                    || -> Result<(u64, String), Torn> { Ok((from.u64()?, from.text()?)) };
                let (at, name) = origin().map_err(|Torn| self.torn("an origin"))?;
                let slot = self.journal.slots.get(&name).cloned().unwrap_or(name);
                let node = self.journal.sources.get(&slot).cloned();
                let node = node.unwrap_or_else(|| Arc::from(format!("slot {slot}")));
                if let Some(begun) = &mut self.begun {
                    begun.origin = Some((node, at));
                }
            }
            b'C' => {
                let end =
                    commit_end(&mut from).map_err(|Torn| self.torn("the end of a transaction"))?;
                return self.commit(end, each);
            }
            b'R' | b'I' | b'U' | b'D' | b'T' => {
                // What came from elsewhere has its name already; what was made here gets it with its end.
                let known = self.begun.as_ref().is_some_and(|begun| begun.origin.is_some());
                if known {
                    return self.change(data, each);
                }
                if let Some(begun) = &mut self.begun {
                    let length = u32::try_from(data.len()).unwrap_or(u32::MAX);
                    let kept = begun.waiting.write_all(&length.to_be_bytes());
                    let kept = kept.and_then(|()| begun.waiting.write_all(data));
                    begun.count += 1;
                    kept.map_err(|error| cannot_keep(&error))?;
                }
            }
            _ => {}
        }
        Ok(ControlFlow::Continue(()))
    }

    fn commit(
        &mut self,
        end: u64,
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, ReadFault> {
        let Some(mut begun) = self.begun.take() else { return Ok(ControlFlow::Continue(())) };
        self.last = end;
        if begun.origin.is_some() {
            // Subscriptions that take everything know it by its place in this log.
            return Ok(match begun.told {
                true => each(Entry::PassedOn(end)),
                false => ControlFlow::Continue(()),
            });
        }
        begun.origin = Some((Arc::clone(&self.journal.name), end));
        let mut waiting = std::mem::replace(&mut begun.waiting, SpooledTempFile::new(0));
        let count = begun.count;
        self.begun = Some(begun);
        let mut message = Vec::new();
        waiting.seek(SeekFrom::Start(0)).map_err(|error| cannot_keep(&error))?;
        let mut waiting = std::io::BufReader::new(waiting);
        for _ in 0..count {
            let mut length = [0; 4];
            waiting.read_exact(&mut length).map_err(|error| cannot_keep(&error))?;
            message.resize(u32::from_be_bytes(length) as usize, 0);
            waiting.read_exact(&mut message).map_err(|error| cannot_keep(&error))?;
            if self.change(&message, each)?.is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
        self.begun = None;
        Ok(ControlFlow::Continue(()))
    }

    /// Tells that a transaction begins, once.
    fn tell(&mut self, each: &mut dyn FnMut(Entry) -> ControlFlow<()>) -> ControlFlow<()> {
        let Some(begun) = self.begun.as_mut().filter(|begun| !begun.told) else {
            return ControlFlow::Continue(());
        };
        begun.told = true;
        self.order += 1;
        let Some((origin, place)) = begun.origin.clone() else { return ControlFlow::Continue(()) };
        each(Entry::Begin(Begin {
            order: self.order,
            id: Id { writer: Writer { origin, stream: Stream::Lsn }, place },
            made: Some(begun.made),
        }))
    }

    fn change(
        &mut self,
        data: &[u8],
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, ReadFault> {
        let mut from = Message(data);
        let kind = from.u8().map_err(|Torn| self.torn("a message"))?;
        if kind == b'R' {
            let described = self.relation(&mut from).map_err(|Torn| self.torn("a relation"))?;
            return Ok(self.described(described, each));
        }
        if kind == b'T' {
            let mut tables = || -> Result<Vec<u32>, Torn> {
                let count = from.u32()?;
                from.u8()?;
                (0..count).map(|_| from.u32()).collect()
            };
            let tables = tables().map_err(|Torn| self.torn("a truncation"))?;
            for number in tables {
                let table = self.relations.get(&number).and_then(|relation| relation.table);
                let Some(table) = table else { continue };
                let name = Arc::clone(&self.journal.tables[table].name);
                if self.tell(each).is_break()
                    || each(Entry::Shape(ShapeChange { table: name, what: "TRUNCATE".to_owned() }))
                        .is_break()
                {
                    return Ok(ControlFlow::Break(()));
                }
            }
            return Ok(ControlFlow::Continue(()));
        }
        let number = from.u32().map_err(|Torn| self.torn("a change"))?;
        let Some(relation) = self.relations.get(&number) else {
            return Err(self.torn("a change of a relation that was not described"));
        };
        let Some(table) = relation.table else { return Ok(ControlFlow::Continue(())) };
        let change = self.row(kind, relation, table, &mut from);
        let change = change
            .map_err(|Torn| self.torn(&format!("a row of {}", self.journal.tables[table].name)))?;
        if self.tell(each).is_break() {
            return Ok(ControlFlow::Break(()));
        }
        Ok(each(Entry::Row(change)))
    }

    fn row(
        &self,
        kind: u8,
        relation: &Relation,
        table: usize,
        from: &mut Message<'_>,
    ) -> Result<RowChange, Torn> {
        let (mut before, mut after) = (None, None);
        while !from.0.is_empty() {
            match from.u8()? {
                // Only the key, the rest being sent as nothing.
                b'K' => {
                    let mut cells = self.tuple(relation, from)?;
                    for (cell, key) in cells.iter_mut().zip(&relation.key) {
                        if !key {
                            *cell = None;
                        }
                    }
                    before = Some(cells);
                }
                b'O' => before = Some(self.tuple(relation, from)?),
                b'N' => after = Some(self.tuple(relation, from)?),
                _ => return Err(Torn),
            }
        }
        let act = match kind {
            b'I' => Act::Insert,
            b'U' => Act::Update,
            _ => Act::Delete,
        };
        // Long values that were not changed are not sent again.
        if let (Some(before), Some(after)) = (&before, &mut after) {
            for (old, new) in before.iter().zip(after) {
                if new.is_none() {
                    new.clone_from(old);
                }
            }
        }
        Ok(RowChange {
            table: Arc::clone(&self.journal.tables[table].name),
            columns: Arc::clone(&relation.names),
            before,
            after,
            act,
        })
    }

    fn tuple(
        &self,
        relation: &Relation,
        from: &mut Message<'_>,
    ) -> Result<Vec<Option<Value>>, Torn> {
        let count = usize::from(from.u16()?);
        let mut cells = Vec::with_capacity(count);
        for at in 0..count {
            cells.push(match from.u8()? {
                b'n' => Some(Value::Null),
                b'u' => None,
                b't' => {
                    from.counted()?;
                    None
                }
                b'b' => {
                    let bytes = from.counted()?;
                    match relation.codecs.get(at).and_then(Option::as_ref) {
                        Some(codec) => Some(
                            decode::owned(&self.journal.types, codec, bytes).map_err(|_| Torn)?,
                        ),
                        None => None,
                    }
                }
                _ => return Err(Torn),
            });
        }
        Ok(cells)
    }

    fn relation(&self, from: &mut Message<'_>) -> Result<(u32, Relation), Torn> {
        let number = from.u32()?;
        let (schema, name) = (from.text()?, from.text()?);
        from.u8()?;
        let count = from.u16()?;
        let table = self
            .journal
            .tables
            .iter()
            .position(|known| known.place == (schema.clone(), name.clone()));
        let (mut names, mut kinds, mut key, mut codecs) =
            (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        for _ in 0..count {
            key.push(from.u8()? & 1 != 0);
            let column = from.text()?;
            let kind = from.u32()?;
            from.u32()?;
            let local = table.and_then(|table| {
                self.journal.tables[table].local.columns.iter().find(|local| local.name == column)
            });
            let codec = match local {
                // Read from the table as text, which the log does not have.
                Some(local) if local.codec == Codec::ServerText => None,
                Some(local) => Some(local.codec.clone()),
                None => Some(self.journal.types.of_column(kind))
                    .filter(|codec| *codec != Codec::ServerText),
            };
            names.push(column);
            kinds.push(kind);
            codecs.push(codec);
        }
        Ok((number, Relation { table, names: names.into(), kinds, key, codecs }))
    }

    /// A relation is described when it is first written, and again when it was changed since.
    fn described(
        &mut self,
        (number, relation): (u32, Relation),
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        let mut flow = ControlFlow::Continue(());
        if let (Some(table), Some(old)) = (relation.table, self.relations.get(&number)) {
            let columns = |relation: &Relation| -> Vec<(String, u32)> {
                relation.names.iter().cloned().zip(relation.kinds.iter().copied()).collect()
            };
            let (before, now) = (columns(old), columns(&relation));
            if before != now && self.begun.as_ref().is_some_and(|begun| !begun.told) {
                let at = self.begun.as_ref().map_or(self.last, |begun| begun.commit);
                let made = self.begun.as_ref().map(|begun| begun.made);
                let names = |list: &[(String, u32)]| {
                    list.iter().map(|(name, _)| name.clone()).collect::<Vec<_>>()
                };
                flow = self.reshaped(table, at, made, &differ(&names(&before), &names(&now)), each);
            }
        }
        self.relations.insert(number, relation);
        flow
    }

    /// Tells that a table was changed here at some time before a place in the log.
    fn reshaped(
        &mut self,
        table: usize,
        place: u64,
        made: Option<i64>,
        what: &str,
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        self.order += 1;
        let begin = Begin {
            order: self.order,
            id: Id {
                writer: Writer { origin: Arc::clone(&self.journal.name), stream: Stream::Lsn },
                place,
            },
            made,
        };
        let change = ShapeChange {
            table: Arc::clone(&self.journal.tables[table].name),
            what: what.to_owned(),
        };
        each(Entry::Begin(begin))?;
        each(Entry::Shape(change))
    }

    /// What was changed after the last write shows in the table as it is now.
    fn end(&mut self, each: &mut dyn FnMut(Entry) -> ControlFlow<()>) {
        let described: Vec<(usize, Vec<String>)> = self
            .relations
            .values()
            .filter_map(|relation| Some((relation.table?, relation.names.to_vec())))
            .collect();
        for (table, before) in described {
            let now = self.journal.tables[table].columns.clone();
            self.ahead |= before != now;
            if before != now
                && self
                    .reshaped(table, self.last + 1, None, &differ(&before, &now), each)
                    .is_break()
            {
                return;
            }
        }
    }
}

/// What became of the columns.
fn differ(before: &[String], now: &[String]) -> String {
    let added =
        now.iter().filter(|name| !before.contains(name)).map(|name| format!("column {name} added"));
    let gone = before
        .iter()
        .filter(|name| !now.contains(name))
        .map(|name| format!("column {name} dropped"));
    let parts: Vec<String> = added.chain(gone).collect();
    if parts.is_empty() { "columns changed in type or order".to_owned() } else { parts.join(", ") }
}

/// Where a commit ends, from the message that says so.
fn commit_end(from: &mut Message<'_>) -> Result<u64, Torn> {
    from.u8()?;
    from.u64()?;
    from.u64()
}

fn cannot_keep(error: &std::io::Error) -> ReadFault {
    ReadFault::new(
        format!("a transaction cannot be kept while it is read: {error}"),
        "free some space where temporary files go",
    )
}

/// Takes numbers off the front of a message, the greatest byte first.
struct Message<'a>(&'a [u8]);

impl<'a> Message<'a> {
    fn take(&mut self, count: usize) -> Result<&'a [u8], Torn> {
        let (front, rest) = self.0.split_at_checked(count).ok_or(Torn)?;
        self.0 = rest;
        Ok(front)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], Torn> {
        self.take(N)?.try_into().map_err(|_| Torn)
    }

    fn u8(&mut self) -> Result<u8, Torn> {
        Ok(self.array::<1>()?[0])
    }

    fn u16(&mut self) -> Result<u16, Torn> {
        self.array().map(u16::from_be_bytes)
    }

    fn u32(&mut self) -> Result<u32, Torn> {
        self.array().map(u32::from_be_bytes)
    }

    fn u64(&mut self) -> Result<u64, Torn> {
        self.array().map(u64::from_be_bytes)
    }

    /// Text up to a zero.
    fn text(&mut self) -> Result<String, Torn> {
        let end = self.0.iter().position(|byte| *byte == 0).ok_or(Torn)?;
        let text = String::from_utf8_lossy(self.take(end)?).into_owned();
        self.take(1)?;
        Ok(text)
    }

    fn counted(&mut self) -> Result<&'a [u8], Torn> {
        let length = self.u32()? as usize;
        self.take(length)
    }
}
