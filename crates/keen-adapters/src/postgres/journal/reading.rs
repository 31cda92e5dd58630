//! From messages to entries of the journal.

use std::collections::HashMap;
use std::io::{Read as _, Seek as _, SeekFrom, Write as _};
use std::ops::ControlFlow;
use std::sync::Arc;

use keen_core::fault::ReadFault;
use keen_core::history::journal::{
    Begin, Entry, Id, JournalPosition, REPAIR_ORIGIN, RowChange, RowOp, ShapeChange, Stream, Writer,
};
use keen_core::value::Value;
use tempfile::SpooledTempFile;

use super::message::{MessageBytes, Truncated};
use super::{PostgresJournal, lsn};
use crate::postgres::decode;
use crate::postgres::types::Codec;

/// PostgreSQL counts microseconds from 2000-01-01.
const EPOCH: i64 = 946_684_800_000_000;

/// A relation as the log describes it.
pub(super) struct LoggedRelation {
    table: Option<usize>,
    /// Of a partition its name; none where the log names the table itself.
    leaf: Option<String>,
    names: Arc<[String]>,
    kinds: Vec<u32>,
    key: Vec<bool>,
    codecs: Vec<Option<Codec>>,
}

/// Where a transaction that was begun stands.
pub(super) struct TransactionStart {
    /// The beginning of its commit here.
    commit: u64,
    made: i64,
    /// Whom it came from, and the end of its commit there.
    origin: Option<(Arc<str>, u64)>,
    /// A script of keen's made it here.
    repair: bool,
    /// Messages that wait until its name is known.
    waiting: SpooledTempFile,
    count: u64,
    told: bool,
}

pub(super) struct StreamDecoder<'a> {
    journal: &'a PostgresJournal,
    order: u64,
    relations: HashMap<u32, LoggedRelation>,
    begun: Option<TransactionStart>,
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

impl<'a> StreamDecoder<'a> {
    pub(super) fn new(journal: &'a PostgresJournal) -> Self {
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
    pub(super) fn passed(&self) -> Result<(), ReadFault> {
        if self.passing || self.last >= self.read_to || self.journal.held_from == self.read_to {
            return Ok(());
        }
        let shown = self.journal.session.access().shown();
        Err(ReadFault::new(
            format!(
                "the log of {shown} does not continue where it was last read: it is a different one"
            ),
            "read it from its beginning with --whole",
        ))
    }

    pub(super) fn ended(&self) -> Option<JournalPosition> {
        let at = self.last.max(self.read_to).max(self.journal.held_from);
        let text = format!("{:X}/{:X}", at >> 32, at & 0xffff_ffff);
        (!self.ahead).then_some(JournalPosition { order: self.order, at: text })
    }

    fn torn(&self, what: &str) -> ReadFault {
        let shown = self.journal.session.access().shown();
        ReadFault::new(
            format!("{what} in the log of {shown} cannot be decoded"),
            "this is a defect of keen: please report it",
        )
    }

    pub(super) fn message(
        &mut self,
        data: &[u8],
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, ReadFault> {
        let mut from = MessageBytes(data);
        let kind = from.u8().map_err(|Truncated| self.torn("a message"))?;
        if self.passing {
            match kind {
                // What a table looked like is needed later.
                b'R' => {
                    let described = self.relation(&mut from);
                    let (number, relation) =
                        described.map_err(|Truncated| self.torn("a relation"))?;
                    self.relations.insert(number, relation);
                }
                b'C' => {
                    self.last = commit_end(&mut from)
                        .map_err(|Truncated| self.torn("the end of a transaction"))?;
                    self.passing = false;
                }
                _ => {}
            }
            return Ok(ControlFlow::Continue(()));
        }
        match kind {
            b'B' => {
                let mut begin = || -> Result<(u64, i64), Truncated> {
                    Ok((from.u64()?, from.u64()?.cast_signed()))
                };
                let (commit, time) =
                    begin().map_err(|Truncated| self.torn("the beginning of a transaction"))?;
                if commit < self.read_to {
                    self.passing = true;
                    return Ok(ControlFlow::Continue(()));
                }
                self.passed()?;
                self.begun = Some(TransactionStart {
                    commit,
                    made: time + EPOCH,
                    origin: None,
                    repair: false,
                    waiting: SpooledTempFile::new(IN_MEMORY),
                    count: 0,
                    told: false,
                });
            }
            b'O' => {
                let mut origin =
                    || -> Result<(u64, String), Truncated> { Ok((from.u64()?, from.text()?)) };
                let (at, name) = origin().map_err(|Truncated| self.torn("an origin"))?;
                if name == REPAIR_ORIGIN {
                    if let Some(begun) = &mut self.begun {
                        begun.origin = Some((Arc::clone(&self.journal.name), begun.commit));
                        begun.repair = true;
                    }
                    return Ok(ControlFlow::Continue(()));
                }
                let slot = self.journal.slots.get(&name).cloned().unwrap_or(name);
                let node = self.journal.sources.get(&slot).cloned();
                let node = node.unwrap_or_else(|| Arc::from(format!("slot {slot}")));
                if let Some(begun) = &mut self.begun {
                    begun.origin = Some((node, at));
                }
            }
            b'C' => {
                let end = commit_end(&mut from)
                    .map_err(|Truncated| self.torn("the end of a transaction"))?;
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
        let stream = if begun.repair { Stream::Repair } else { Stream::Lsn };
        // Scripts once did not say when: then the log has the first moment that it can tell.
        let made = Some(begun.made).filter(|made| !begun.repair || *made > EPOCH);
        let id = Id { writer: Writer { origin, stream }, place };
        let commit = Some(begun.commit);
        each(Entry::Begin(Begin { order: self.order, id, made, commit }))
    }

    fn change(
        &mut self,
        data: &[u8],
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, ReadFault> {
        let mut from = MessageBytes(data);
        let kind = from.u8().map_err(|Truncated| self.torn("a message"))?;
        if kind == b'R' {
            let described =
                self.relation(&mut from).map_err(|Truncated| self.torn("a relation"))?;
            return Ok(self.described(described, each));
        }
        if kind == b'T' {
            let mut tables = || -> Result<Vec<u32>, Truncated> {
                let count = from.u32()?;
                from.u8()?;
                (0..count).map(|_| from.u32()).collect()
            };
            let tables = tables().map_err(|Truncated| self.torn("a truncation"))?;
            for number in tables {
                let table = self.relations.get(&number).and_then(|relation| relation.table);
                let Some(table) = table else { continue };
                let name = Arc::clone(&self.journal.tables[table].name);
                let of = self.relations.get(&number).and_then(|relation| relation.leaf.clone());
                let what = match of {
                    Some(leaf) => format!("TRUNCATE of partition {leaf}"),
                    None => "TRUNCATE".to_owned(),
                };
                if self.tell(each).is_break()
                    || each(Entry::Shape(ShapeChange { table: name, what })).is_break()
                {
                    return Ok(ControlFlow::Break(()));
                }
            }
            return Ok(ControlFlow::Continue(()));
        }
        let number = from.u32().map_err(|Truncated| self.torn("a change"))?;
        let Some(relation) = self.relations.get(&number) else {
            return Err(self.torn("a change of a relation that was not described"));
        };
        let Some(table) = relation.table else { return Ok(ControlFlow::Continue(())) };
        let change = self.row(kind, relation, table, &mut from);
        let change = change.map_err(|Truncated| {
            self.torn(&format!("a row of {}", self.journal.tables[table].name))
        })?;
        if self.tell(each).is_break() {
            return Ok(ControlFlow::Break(()));
        }
        Ok(each(Entry::Row(change)))
    }

    fn row(
        &self,
        kind: u8,
        relation: &LoggedRelation,
        table: usize,
        from: &mut MessageBytes<'_>,
    ) -> Result<RowChange, Truncated> {
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
                _ => return Err(Truncated),
            }
        }
        let act = match kind {
            b'I' => RowOp::Insert,
            b'U' => RowOp::Update,
            _ => RowOp::Delete,
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
        relation: &LoggedRelation,
        from: &mut MessageBytes<'_>,
    ) -> Result<Vec<Option<Value>>, Truncated> {
        let count = usize::from(from.u16()?);
        let mut cells = Vec::with_capacity(count);
        for at in 0..count {
            cells.push(match from.u8()? {
                b'n' => Some(Value::Null),
                b'u' => None,
                // The server's own text, as the table is read.
                b't' => {
                    let bytes = from.counted()?;
                    let codec = relation.codecs.get(at).and_then(Option::as_ref);
                    let text = std::str::from_utf8(bytes).ok();
                    codec.zip(text).and_then(|(codec, text)| decode::from_text(codec, text))
                }
                _ => return Err(Truncated),
            });
        }
        Ok(cells)
    }

    fn relation(&self, from: &mut MessageBytes<'_>) -> Result<(u32, LoggedRelation), Truncated> {
        let number = from.u32()?;
        let (schema, name) = (from.text()?, from.text()?);
        from.u8()?;
        let count = from.u16()?;
        let place = (schema, name);
        let table = self.journal.known(&place);
        let whole = table.is_some_and(|table| self.journal.tables[table].place == place);
        let leaf = (!whole).then_some(place.1);
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
                // How money is written depends on the server's settings.
                Some(local) if local.is_money => None,
                Some(local) => Some(local.codec.clone()),
                None => Some(self.journal.types.codec(kind)),
            };
            names.push(column);
            kinds.push(kind);
            codecs.push(codec);
        }
        Ok((number, LoggedRelation { table, leaf, names: names.into(), kinds, key, codecs }))
    }

    /// A relation is described when it is first written, and again when it was changed since.
    fn described(
        &mut self,
        (number, relation): (u32, LoggedRelation),
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        let mut flow = ControlFlow::Continue(());
        if let (Some(table), Some(old)) = (relation.table, self.relations.get(&number)) {
            let columns = |relation: &LoggedRelation| -> Vec<(String, u32)> {
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
            commit: None,
        };
        let change = ShapeChange {
            table: Arc::clone(&self.journal.tables[table].name),
            what: what.to_owned(),
        };
        each(Entry::Begin(begin))?;
        each(Entry::Shape(change))
    }

    /// Ends the reading. A change of shape after the last write shows in the table as it is now.
    pub(super) fn end(&mut self, each: &mut dyn FnMut(Entry) -> ControlFlow<()>) {
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

/// How two lists of columns differ, in words.
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
fn commit_end(from: &mut MessageBytes<'_>) -> Result<u64, Truncated> {
    from.u8()?;
    from.u64()?;
    from.u64()
}

fn cannot_keep(error: &std::io::Error) -> ReadFault {
    ReadFault::new(
        format!("a transaction cannot be kept while it is read: {error}"),
        "free some space for temporary files",
    )
}
