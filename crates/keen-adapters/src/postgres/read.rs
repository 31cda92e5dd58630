//! One pass over one table, by binary COPY.

use keen_core::engine::selection::condition;
use keen_core::topology::Engine;
use std::ops::Range;

use futures_util::{FutureExt, StreamExt};
use keen_core::fault::ReadFault;
use keen_core::ports::TableRequest;
use keen_core::row::batch::{Batch, RowFault, RowWriter};
use keen_core::row::conversion::CommonKind;
use keen_core::value::{Value, ValueRef};

use super::connect::{self, PostgresSession};
use super::decode::{self, Malformed};
use super::quoted;
use super::shape::{LocalColumn, PostgresLayout};
use super::types::Codec;

pub(super) struct PostgresTableRead<'a> {
    pub(super) session: &'a PostgresSession,
    pub(super) local: &'a PostgresLayout,
    pub(super) request: &'a TableRequest,
}

/// The beginning of a COPY in binary format: signature, flags, length of an extension.
const HEADER: &[u8] = b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0";

/// One column of the result.
enum Field {
    /// Taken as it comes.
    Borrowed(Codec),
    /// Made into a value first; the second is where among those of its row.
    Made(Codec, usize),
}

impl PostgresTableRead<'_> {
    pub(super) fn run(
        &self,
        mut writer: RowWriter,
        deliver: &mut dyn FnMut(Batch) -> Option<Batch>,
    ) -> Result<(), ReadFault> {
        if !self.request.ordered {
            writer = writer.in_any_order();
        }
        let columns = self.columns()?;
        let mut made = 0;
        let by_number = |i: usize| {
            let reading = writer.layout().columns.get(i).map(|column| &column.reading.kind);
            matches!(reading, Some(CommonKind::Exact | CommonKind::Number | CommonKind::Single))
        };
        let fields: Vec<Field> = columns
            .iter()
            .enumerate()
            .map(|(i, column)| match &column.codec {
                Codec::ServerText if column.is_money => Codec::Numeric,
                Codec::Bit if by_number(i) => Codec::BitNumber,
                codec => codec.clone(),
            })
            .map(|codec| {
                if is_borrowed(&codec) {
                    return Field::Borrowed(codec);
                }
                made += 1;
                Field::Made(codec, made - 1)
            })
            .collect();
        let doing = match &self.request.filter {
            None => format!("read table {}", self.request.table),
            Some(filter) => format!("read table {} where {}", self.request.table, filter.trim()),
        };
        let sql = self.copy(&columns);
        let mut rows = PostgresRow { fields, made: vec![Value::Null; made], cells: Vec::new() };
        let filtered = self.request.filter.is_some();
        let access = self.session.access();
        let mut stream = Box::pin(self.session.copy_out(&doing, &sql)?);
        let read = self.session.block_on(async {
            let mut begun = false;
            loop {
                // Nearly always the next row is here already; a timer for each would cost more than the row.
                let next = match stream.next().now_or_never() {
                    Some(next) => next,
                    None => connect::waited(access, access.silence, &doing, stream.next())
                        .await
                        .map_err(TableReadError::Silent)?,
                };
                let Some(message) = next else {
                    return Ok(true);
                };
                let message = message.map_err(TableReadError::Server)?;
                let mut at = 0;
                if !begun {
                    message.strip_prefix(HEADER).ok_or(TableReadError::Malformed)?;
                    at = HEADER.len();
                    begun = true;
                }
                while rows.take(&message, &mut at)? {
                    let outside = filtered && rows.outside(&message);
                    if writer.push(outside, |i| rows.cell(&message, i))? {
                        if access.stopped() {
                            return Err(TableReadError::Fault(ReadFault::interrupted()));
                        }
                        let Some(spent) = deliver(writer.take()) else {
                            return Ok(false);
                        };
                        writer.reuse(spent);
                    }
                }
            }
        });
        drop(stream);
        match read {
            Ok(true) => {
                deliver(writer.take());
                Ok(())
            }
            Ok(false) => Ok(()),
            Err(TableReadError::Fault(fault)) => Err(fault),
            Err(TableReadError::Silent(fault)) => Err(self.session.give_up(fault)),
            Err(TableReadError::Server(error)) => Err(self.session.failed(&doing, &error)),
            Err(TableReadError::Malformed) => Err(ReadFault::new(
                format!(
                    "{} sent a row of {} that its types do not describe",
                    access.shown(),
                    self.request.table
                ),
                "run this again; should it stay so, please report it with the declaration of the table",
            )),
        }
    }

    fn columns(&self) -> Result<Vec<&LocalColumn>, ReadFault> {
        let find = |name: &String| {
            self.local.columns.iter().find(|column| column.name == *name).ok_or_else(|| {
                ReadFault::new(
                    format!("{} has no column {name}", self.request.table),
                    "correct the set",
                )
            })
        };
        self.request.columns.iter().map(find).collect()
    }

    fn copy(&self, columns: &[&LocalColumn]) -> String {
        let mut selected: Vec<String> = columns.iter().map(|column| expression(column)).collect();
        if let Some(filter) = &self.request.filter {
            // On lines of its own, so that a comment in the filter ends where the filter ends.
            selected.push(format!("((\n{filter}\n) IS NOT TRUE)"));
        }
        let mut sql = format!("SELECT {} FROM {}", selected.join(", "), self.local.name);
        let first = self.local.key.first().map(String::as_str);
        if let Some(condition) = condition(Engine::Postgres, &self.request.rows, first, false) {
            sql.push_str(&format!(" WHERE {condition}"));
        }
        if self.request.ordered && !self.local.key.is_empty() {
            let key: Vec<String> = self.local.key.iter().map(|name| quoted(name)).collect();
            sql.push_str(&format!(" ORDER BY {}", key.join(", ")));
        }
        format!("COPY ({sql}) TO STDOUT (FORMAT binary)")
    }
}

fn expression(column: &LocalColumn) -> String {
    let name = quoted(&column.name);
    match column.codec {
        Codec::ServerText if column.is_money => format!("{name}::numeric"),
        Codec::Inet => format!("abbrev({name})"),
        Codec::ServerText => format!("{name}::text"),
        _ => name,
    }
}

fn is_borrowed(codec: &Codec) -> bool {
    // Some moments have no number of their own and are made into text.
    if matches!(codec, Codec::Timestamp | Codec::TimestampTz) {
        return false;
    }
    // Sixteen zero bytes are a value of every fixed width there is.
    matches!(decode::borrowed(codec, &[0; 16]), Ok(Some(_)))
}

enum TableReadError {
    Fault(ReadFault),
    /// The server owes an answer; nothing else will come of this session.
    Silent(ReadFault),
    Server(tokio_postgres::Error),
    Malformed,
}

impl From<RowFault> for TableReadError {
    fn from(fault: RowFault) -> Self {
        Self::Fault(fault.into())
    }
}

impl From<Malformed> for TableReadError {
    fn from(_: Malformed) -> Self {
        Self::Malformed
    }
}

/// The row at hand.
struct PostgresRow {
    fields: Vec<Field>,
    made: Vec<Value>,
    /// Where each cell is in the message; none for NULL.
    cells: Vec<Option<Range<usize>>>,
}

impl PostgresRow {
    /// Takes the next row of a message; false at its end.
    fn take(&mut self, message: &[u8], at: &mut usize) -> Result<bool, Malformed> {
        if *at == message.len() {
            return Ok(false);
        }
        let count = i16::from_be_bytes(piece(message, at)?);
        if count == -1 {
            return Ok(false); // the end of the data
        }
        self.cells.clear();
        for _ in 0..count {
            let length = i32::from_be_bytes(piece(message, at)?);
            if length == -1 {
                self.cells.push(None);
                continue;
            }
            let end = at.checked_add(usize::try_from(length).map_err(|_| Malformed)?);
            let end = end.filter(|end| *end <= message.len()).ok_or(Malformed)?;
            self.cells.push(Some(*at..end));
            *at = end;
        }
        if self.cells.len() < self.fields.len() {
            return Err(Malformed);
        }
        for (field, cell) in self.fields.iter().zip(&self.cells) {
            if let (Field::Made(codec, place), Some(range)) = (field, cell) {
                self.made[*place] = decode::owned(codec, &message[range.clone()])?;
            }
        }
        Ok(true)
    }

    #[inline]
    fn cell<'a>(&'a self, message: &'a [u8], i: usize) -> Result<ValueRef<'a>, TableReadError> {
        let Some(range) = &self.cells[i] else {
            return Ok(ValueRef::Null);
        };
        match &self.fields[i] {
            Field::Borrowed(codec) => {
                decode::borrowed(codec, &message[range.clone()])?.ok_or(TableReadError::Malformed)
            }
            Field::Made(_, place) => Ok(self.made[*place].as_ref()),
        }
    }

    /// Whether the filter, which comes after the columns, leaves the row out.
    fn outside(&self, message: &[u8]) -> bool {
        matches!(self.cells.last(), Some(Some(range)) if message[range.clone()] == [1])
    }
}

fn piece<const N: usize>(message: &[u8], at: &mut usize) -> Result<[u8; N], Malformed> {
    let piece = message.get(*at..*at + N).and_then(|piece| piece.try_into().ok());
    *at += N;
    piece.ok_or(Malformed)
}
