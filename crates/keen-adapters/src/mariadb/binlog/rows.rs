//! Row events: whose rows they are, and the cells in them.

use std::ops::ControlFlow;
use std::sync::Arc;

use keen_core::fault::ReadFault;
use keen_core::history::journal::{Entry, RowChange, RowOp};
use keen_core::row::schema::labels_of;
use keen_core::value::Value;

use super::super::decode::Take;
use super::bytes::{BadEvent, EventBytes, bit};
use super::cells::{self, ColumnDecoder, Form};
use super::table::{self, Logged, TableMap, kind};
use super::{LogReading, MappedTable, MariaDbJournal, WantedTable, event};

impl MariaDbJournal {
    pub(super) fn rows(
        &self,
        reading: &mut LogReading,
        kind: u8,
        data: &[u8],
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, ReadFault> {
        let table::RowsEvent { table, told, mut rows } =
            table::rows(data, kind == event::UPDATE).map_err(|BadEvent| self.torn("rows"))?;
        let mapped = match reading.maps.get(&table) {
            Some(Ok(mapped)) => mapped.clone(),
            Some(Err(table)) => {
                if let Some((_, _, count)) = reading.skipped.get_mut(table) {
                    *count += 1;
                }
                return Ok(ControlFlow::Continue(()));
            }
            None => return Ok(ControlFlow::Continue(())),
        };
        // In a table that rolls nothing back it stays.
        if reading.undone && self.tables[mapped.table].shape.not_transactional.is_none() {
            return Ok(ControlFlow::Continue(()));
        }
        let act = match kind {
            event::WRITE => RowOp::Insert,
            event::UPDATE => RowOp::Update,
            _ => RowOp::Delete,
        };
        while !rows.0.is_empty() {
            let mut side = |told: &[bool]| row(&mapped.columns, told, &mut rows);
            let decoded = match act {
                RowOp::Insert => side(&told[0]).map(|after| (None, Some(after))),
                RowOp::Delete => side(&told[0]).map(|before| (Some(before), None)),
                RowOp::Update => {
                    side(&told[0]).and_then(|before| Ok((Some(before), Some(side(&told[1])?))))
                }
            };
            let known = &self.tables[mapped.table];
            let Ok((before, mut after)) = decoded else {
                let fault = self.torn(&format!("a row of {}", known.name));
                reading.maps.insert(table, Err(Arc::clone(&known.name)));
                reading.skipped.insert(Arc::clone(&known.name), (fault.what, fault.advice, 1));
                return Ok(ControlFlow::Continue(()));
            };
            // What an update leaves out is as it was.
            if let (Some(before), Some(after)) = (&before, &mut after) {
                for (old, new) in before.iter().zip(after) {
                    if new.is_none() {
                        new.clone_from(old);
                    }
                }
            }
            let change = RowChange {
                table: Arc::clone(&known.name),
                columns: Arc::clone(&mapped.names),
                before,
                after,
                act,
            };
            if each(Entry::Row(change)).is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
        Ok(ControlFlow::Continue(()))
    }

    /// Which of the wanted tables this is.
    pub(super) fn known(&self, map: &TableMap) -> Option<usize> {
        self.tables
            .iter()
            .position(|known| known.place.0 == map.schema && known.place.1 == map.table)
    }

    /// How the rows of a table are decoded; none if it is not wanted.
    pub(super) fn mapped(
        &self,
        reading: &mut LogReading,
        map: TableMap,
    ) -> Result<Option<MappedTable>, ReadFault> {
        // Under another number it is still the same; most maps differ in their names already.
        let same = |(known, _): &&(TableMap, MappedTable)| {
            let place = |map: &TableMap| (map.named, map.signed);
            known.table == map.table
                && known.schema == map.schema
                && place(known) == place(&map)
                && known.columns == map.columns
        };
        if let Some((_, mapped)) = reading.layouts.iter().find(same) {
            return Ok(Some(mapped.clone()));
        }
        let Some(table) = self.known(&map) else { return Ok(None) };
        let known = &self.tables[table];
        let names = self.names(known, &map)?;
        let columns: Result<Vec<ColumnDecoder>, ReadFault> = map
            .columns
            .iter()
            .zip(&names)
            .map(|(logged, name)| self.column(known, &map, logged, name))
            .collect();
        let mapped = MappedTable { table, columns: columns?.into(), names: names.into() };
        reading.layouts.push((map, mapped.clone()));
        Ok(Some(mapped))
    }

    /// The names of the columns: from the log, or from the table where that cannot be wrong.
    fn names(&self, known: &WantedTable, map: &TableMap) -> Result<Vec<String>, ReadFault> {
        if map.named {
            return Ok(map.columns.iter().map(|column| column.name.clone()).collect());
        }
        let now = &known.shape.columns;
        if now.len() != map.columns.len() {
            return Err(ReadFault::new(
                format!(
                    "the log of {} does not name the columns of {}; the table had {} of them then and has {} now",
                    self.access.shown(),
                    known.name,
                    map.columns.len(),
                    now.len()
                ),
                "SET GLOBAL binlog_row_metadata = FULL, and later writes can be judged",
            ));
        }
        Ok(now.iter().map(|column| column.name.clone()).collect())
    }

    fn column(
        &self,
        known: &WantedTable,
        map: &TableMap,
        logged: &Logged,
        name: &str,
    ) -> Result<ColumnDecoder, ReadFault> {
        let refused = |what: String, advice: &str| {
            Err(ReadFault::new(
                format!("column {name} of {} on {} {what}", known.name, self.access.shown()),
                advice,
            ))
        };
        let shape = known.shape.column(name);
        let declared = shape.map_or(String::new(), |column| column.declared.to_ascii_lowercase());
        let mut logged = logged.clone();
        if !map.signed {
            logged.unsigned = declared.contains("unsigned");
        }
        if logged.labels.is_empty() && matches!(logged.kind, kind::ENUM | kind::SET) {
            logged.labels = labels_of(shape.map_or("", |column| &column.declared));
        }
        let take = known.takes.get(name).copied().unwrap_or_else(|| guessed(&logged));
        let form = match &declared[..] {
            _ if shape.is_some_and(|column| column.generated) => Form::Generated,
            "uuid" => Form::Uuid,
            "inet4" => Form::Inet4,
            "inet6" => Form::Inet6,
            fixed if fixed.starts_with("binary(") => {
                let length = fixed.trim_start_matches("binary(").trim_end_matches(')').parse();
                Form::Fixed(length.unwrap_or(0))
            }
            _ if take == Take::Text || take == Take::Json => {
                let collation = shape.and_then(|column| column.collation.as_deref());
                let charset = collation.map_or("utf8mb4", |c| c.split('_').next().unwrap_or(c));
                match cells::form_of(charset) {
                    Some(form) if !matches!(logged.kind, kind::ENUM | kind::SET) => form,
                    Some(_) => Form::Plain,
                    None => {
                        return refused(
                            format!(
                                "is in the character set {charset}, which keen does not read from a log"
                            ),
                            "leave the table out with --exclude, or export what was written (docs/journal.md)",
                        );
                    }
                }
            }
            _ => Form::Plain,
        };
        Ok(ColumnDecoder { name: name.to_owned(), logged, take, form })
    }
}

/// How cells of a column are taken that the table has no more.
fn guessed(logged: &Logged) -> Take {
    match logged.kind {
        kind::NEWDECIMAL => Take::Decimal,
        kind::DATE => Take::Date,
        kind::DATETIME | kind::DATETIME2 => Take::Local,
        kind::TIMESTAMP | kind::TIMESTAMP2 => Take::Moment,
        kind::TIME | kind::TIME2 => Take::Time,
        kind::BIT => Take::Bits(u32::from(logged.meta & 0xff) + u32::from(logged.meta >> 8) * 8),
        kind::ENUM | kind::SET => Take::Text,
        kind::STRING
        | kind::VARCHAR
        | kind::VAR_STRING
        | kind::BLOB
        | kind::GEOMETRY
        | kind::VARCHAR_COMPRESSED
        | kind::BLOB_COMPRESSED => {
            // Collation 63 is that of bytes.
            if logged.collation == Some(63) { Take::Bytes } else { Take::Text }
        }
        _ => Take::Number,
    }
}

fn row(
    columns: &[ColumnDecoder],
    told: &[bool],
    from: &mut EventBytes<'_>,
) -> Result<Vec<Option<Value>>, BadEvent> {
    let count = told.iter().filter(|told| **told).count();
    let nulls = from.take(count.div_ceil(8))?;
    let mut at = 0;
    let mut cells = Vec::with_capacity(columns.len());
    for (column, told) in columns.iter().zip(told) {
        if !told {
            cells.push(None);
            continue;
        }
        let null = bit(nulls, at);
        at += 1;
        cells.push(match null {
            true if column.form == Form::Generated => None,
            true => Some(Value::Null),
            false => cells::take(column, from)?,
        });
    }
    Ok(cells)
}
