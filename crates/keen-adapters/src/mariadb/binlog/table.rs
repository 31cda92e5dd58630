//! The event that says how the rows after it are laid out.

use super::bytes::{BadEvent, BytesResult, EventBytes, bit};

/// The layout of a table's rows, as the log has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct TableMap {
    pub(super) id: u64,
    pub(super) schema: String,
    pub(super) table: String,
    pub(super) columns: Vec<Logged>,
    /// The log names the columns.
    pub(super) named: bool,
    /// The log says which numbers have no sign.
    pub(super) signed: bool,
}

/// A column, as the log has it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(super) struct Logged {
    /// The number of its type; of what is stored as a string, the real one.
    pub(super) kind: u8,
    /// Further details of its type.
    pub(super) meta: u16,
    pub(super) name: String,
    pub(super) unsigned: bool,
    /// The number of its collation, if it holds text.
    pub(super) collation: Option<u64>,
    /// Of an enumeration or a set.
    pub(super) labels: Vec<String>,
}

pub(super) mod kind {
    pub(in crate::mariadb) const DECIMAL: u8 = 0;
    pub(in crate::mariadb) const TINY: u8 = 1;
    pub(in crate::mariadb) const SHORT: u8 = 2;
    pub(in crate::mariadb) const LONG: u8 = 3;
    pub(in crate::mariadb) const FLOAT: u8 = 4;
    pub(in crate::mariadb) const DOUBLE: u8 = 5;
    pub(in crate::mariadb) const TIMESTAMP: u8 = 7;
    pub(in crate::mariadb) const LONGLONG: u8 = 8;
    pub(in crate::mariadb) const INT24: u8 = 9;
    pub(in crate::mariadb) const DATE: u8 = 10;
    pub(in crate::mariadb) const TIME: u8 = 11;
    pub(in crate::mariadb) const DATETIME: u8 = 12;
    pub(in crate::mariadb) const YEAR: u8 = 13;
    pub(in crate::mariadb) const VARCHAR: u8 = 15;
    pub(in crate::mariadb) const BIT: u8 = 16;
    pub(in crate::mariadb) const TIMESTAMP2: u8 = 17;
    pub(in crate::mariadb) const DATETIME2: u8 = 18;
    pub(in crate::mariadb) const TIME2: u8 = 19;
    pub(in crate::mariadb) const BLOB_COMPRESSED: u8 = 140;
    pub(in crate::mariadb) const VARCHAR_COMPRESSED: u8 = 141;
    pub(in crate::mariadb) const NEWDECIMAL: u8 = 246;
    pub(in crate::mariadb) const ENUM: u8 = 247;
    pub(in crate::mariadb) const SET: u8 = 248;
    pub(in crate::mariadb) const BLOB: u8 = 252;
    pub(in crate::mariadb) const VAR_STRING: u8 = 253;
    pub(in crate::mariadb) const STRING: u8 = 254;
    pub(in crate::mariadb) const GEOMETRY: u8 = 255;
}

impl Logged {
    fn is_number(&self) -> bool {
        matches!(
            self.kind,
            kind::DECIMAL
                | kind::TINY
                | kind::SHORT
                | kind::LONG
                | kind::FLOAT
                | kind::DOUBLE
                | kind::LONGLONG
                | kind::INT24
                | kind::YEAR
                | kind::NEWDECIMAL
        )
    }

    fn is_text(&self) -> bool {
        matches!(
            self.kind,
            kind::VARCHAR
                | kind::VAR_STRING
                | kind::STRING
                | kind::BLOB
                | kind::BLOB_COMPRESSED
                | kind::VARCHAR_COMPRESSED
        )
    }
}

pub(super) fn read(data: &[u8]) -> BytesResult<TableMap> {
    let mut from = EventBytes(data);
    let id = from.little(6)?;
    from.take(2)?;
    let mut name = || -> BytesResult<String> {
        let text = from.counted(1)?;
        from.take(1)?;
        Ok(String::from_utf8_lossy(text).into_owned())
    };
    let (schema, table) = (name()?, name()?);
    let count = from.length()?;
    let kinds = from.take(count)?;
    let length = from.length()?;
    let mut metas = EventBytes(from.take(length)?);
    let mut columns = Vec::with_capacity(count);
    for kind in kinds {
        let mut column = Logged { kind: *kind, ..Logged::default() };
        match *kind {
            kind::FLOAT
            | kind::DOUBLE
            | kind::BLOB
            | kind::BLOB_COMPRESSED
            | kind::GEOMETRY
            | kind::TIMESTAMP2
            | kind::DATETIME2
            | kind::TIME2 => column.meta = metas.u8()?.into(),
            kind::VARCHAR | kind::VARCHAR_COMPRESSED | kind::BIT => {
                column.meta = u16::try_from(metas.little(2)?).map_err(|_| BadEvent)?;
            }
            kind::NEWDECIMAL => column.meta = u16::try_from(metas.big(2)?).map_err(|_| BadEvent)?,
            kind::STRING | kind::VAR_STRING | kind::ENUM | kind::SET => {
                let (real, length) = (metas.u8()?, u16::from(metas.u8()?));
                // Lengths above 255 have their upper bits in the number of the type, turned over.
                if real & 0x30 == 0x30 {
                    (column.kind, column.meta) = (real, length);
                } else {
                    column.kind = real | 0x30;
                    column.meta = length | u16::from((real & 0x30) ^ 0x30) << 4;
                }
            }
            _ => {}
        }
        columns.push(column);
    }
    from.take(count.div_ceil(8))?;
    let mut map = TableMap { id, schema, table, columns, named: false, signed: false };
    while !from.0.is_empty() {
        let field = from.u8()?;
        let length = from.length()?;
        map.optional(field, EventBytes(from.take(length)?))?;
    }
    Ok(map)
}

impl TableMap {
    /// Reads the fields that servers add if they are told to.
    fn optional(&mut self, field: u8, mut from: EventBytes<'_>) -> BytesResult<()> {
        match field {
            1 => {
                self.signed = true;
                // One bit for each number, the highest of the first byte being the first.
                let numbers = self.columns.iter_mut().filter(|column| column.is_number());
                for (at, column) in numbers.enumerate() {
                    column.unsigned =
                        from.0.get(at / 8).is_some_and(|byte| byte & (0x80 >> (at % 8)) != 0);
                }
            }
            2 => {
                let usual = from.length()? as u64;
                let mut text: Vec<&mut Logged> =
                    self.columns.iter_mut().filter(|column| column.is_text()).collect();
                text.iter_mut().for_each(|column| column.collation = Some(usual));
                while !from.0.is_empty() {
                    let (at, collation) = (from.length()?, from.length()? as u64);
                    text.get_mut(at).ok_or(BadEvent)?.collation = Some(collation);
                }
            }
            3 => {
                for column in self.columns.iter_mut().filter(|column| column.is_text()) {
                    column.collation = Some(from.length()? as u64);
                }
            }
            4 => {
                self.named = true;
                for column in &mut self.columns {
                    column.name = from.text()?;
                }
            }
            5 | 6 => {
                let wanted = if field == 5 { kind::SET } else { kind::ENUM };
                for column in self.columns.iter_mut().filter(|column| column.kind == wanted) {
                    for _ in 0..from.length()? {
                        column.labels.push(from.text()?);
                    }
                }
            }
            _ => {}
        }
        Ok(())
    }
}

/// A row event: of which table, which cells it tells before and after, and the bytes of its rows.
#[derive(Debug)]
pub(super) struct RowsEvent<'a> {
    pub(super) table: u64,
    /// Which columns are told before, and after.
    pub(super) told: [Vec<bool>; 2],
    pub(super) rows: EventBytes<'a>,
}

/// Takes a row event of the first version apart; `twice` for updates, which tell columns before and after.
pub(super) fn rows(data: &[u8], twice: bool) -> BytesResult<RowsEvent<'_>> {
    let mut from = EventBytes(data);
    let table = from.little(6)?;
    from.take(2)?;
    let count = from.length()?;
    let mut told = || -> BytesResult<Vec<bool>> {
        let bits = from.take(count.div_ceil(8))?;
        Ok((0..count).map(|at| bit(bits, at)).collect())
    };
    let first = told()?;
    let second = if twice { told()? } else { first.clone() };
    Ok(RowsEvent { table, told: [first, second], rows: from })
}
