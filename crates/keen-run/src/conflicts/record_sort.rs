//! Records put into order by the thing that was written to: in memory while they are few, then in files.
//!
//! Each journal is read once. Of every write a record of fixed size says what was written to, by whom, and
//! where it stands in the journal; records are sorted in runs and merged, so that the writes of one row
//! come together whichever journals they stand in. What was written is kept apart, and read again only for
//! the few writes that collide.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::io::{self, BufReader, BufWriter, Read, Seek, SeekFrom, Write};

use keen_core::conflict::Content;
use keen_core::history::happened_before::Deed;
use keen_core::row::encoding;
use keen_core::value::Value;
use tempfile::SpooledTempFile;

/// One write of one thing, as one journal has it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct WriteRecord {
    /// A token of the thing that was written to.
    pub(super) thing: u128,
    /// Who numbers the transaction, and its number.
    pub(super) writer: u16,
    pub(super) place: u64,
    /// Whose journal it is.
    pub(super) node: u8,
    /// The transaction's place in it, and the change's in the transaction.
    pub(super) order: u64,
    pub(super) number: u32,
    /// When it was made; `NO_TIME` if the journal does not tell.
    pub(super) made: i64,
    pub(super) table: u16,
    /// Of a value that must be unique: which list of columns, from 1; 0 for a row.
    pub(super) unique: u16,
    pub(super) deed: u8,
    /// Of a value that must be unique: which row took it.
    pub(super) row: u64,
    /// A token of the contents: above for which cells the journal tells, below for what they hold.
    pub(super) gist: u64,
    /// Where its content is kept; `NO_CONTENT` if it is not.
    pub(super) content: u64,
}

pub(super) const NO_TIME: i64 = i64::MIN;
pub(super) const NO_CONTENT: u64 = u64::MAX;

/// Bytes of a record.
pub(super) const RECORD_SIZE: usize = 16 + 2 + 8 + 1 + 8 + 4 + 8 + 2 + 2 + 1 + 8 + 8 + 8;

impl WriteRecord {
    pub(super) fn to_bytes(self) -> [u8; RECORD_SIZE] {
        let mut bytes = [0; RECORD_SIZE];
        let mut rest = &mut bytes[..];
        let mut put = |part: &[u8]| {
            let (here, after) = std::mem::take(&mut rest).split_at_mut(part.len());
            here.copy_from_slice(part);
            rest = after;
        };
        put(&self.thing.to_be_bytes());
        put(&self.writer.to_be_bytes());
        put(&self.place.to_be_bytes());
        put(&[self.node]);
        put(&self.order.to_be_bytes());
        put(&self.number.to_be_bytes());
        put(&self.made.to_be_bytes());
        put(&self.table.to_be_bytes());
        put(&self.unique.to_be_bytes());
        put(&[self.deed]);
        put(&self.row.to_be_bytes());
        put(&self.gist.to_be_bytes());
        put(&self.content.to_be_bytes());
        bytes
    }

    pub(super) fn from_bytes(bytes: &[u8; RECORD_SIZE]) -> Self {
        let mut at = 0;
        fn take<const N: usize>(bytes: &[u8; RECORD_SIZE], at: &mut usize) -> [u8; N] {
            let mut part = [0; N];
            part.copy_from_slice(&bytes[*at..*at + N]);
            *at += N;
            part
        }
        Self {
            thing: u128::from_be_bytes(take(bytes, &mut at)),
            writer: u16::from_be_bytes(take(bytes, &mut at)),
            place: u64::from_be_bytes(take(bytes, &mut at)),
            node: take::<1>(bytes, &mut at)[0],
            order: u64::from_be_bytes(take(bytes, &mut at)),
            number: u32::from_be_bytes(take(bytes, &mut at)),
            made: i64::from_be_bytes(take(bytes, &mut at)),
            table: u16::from_be_bytes(take(bytes, &mut at)),
            unique: u16::from_be_bytes(take(bytes, &mut at)),
            deed: take::<1>(bytes, &mut at)[0],
            row: u64::from_be_bytes(take(bytes, &mut at)),
            gist: u64::from_be_bytes(take(bytes, &mut at)),
            content: u64::from_be_bytes(take(bytes, &mut at)),
        }
    }

    pub(super) fn deed(&self) -> Deed {
        match self.deed {
            0 => Deed::Insert,
            1 => Deed::Update,
            2 => Deed::Delete,
            3 => Deed::Take,
            _ => Deed::Refer,
        }
    }
}

pub(super) fn deed_number(deed: Deed) -> u8 {
    match deed {
        Deed::Insert => 0,
        Deed::Update => 1,
        Deed::Delete => 2,
        Deed::Take => 3,
        Deed::Refer => 4,
    }
}

/// Records of one journal are kept in memory up to so many.
const IN_MEMORY: usize = 160_000;
/// Contents of one journal are kept in memory up to this many bytes.
const CONTENT_IN_MEMORY: usize = 8 << 20;

/// The records of one journal.
pub(super) struct Gathered {
    records: Vec<WriteRecord>,
    runs: Vec<SpooledTempFile>,
    contents: BufWriter<SpooledTempFile>,
    written: u64,
}

impl Gathered {
    pub(super) fn new() -> Self {
        Self {
            records: Vec::new(),
            runs: Vec::new(),
            contents: BufWriter::with_capacity(64 << 10, SpooledTempFile::new(CONTENT_IN_MEMORY)),
            written: 0,
        }
    }

    pub(super) fn push(&mut self, record: WriteRecord) -> io::Result<()> {
        if self.records.len() == IN_MEMORY {
            self.records.sort_unstable();
            let mut file = BufWriter::new(SpooledTempFile::new(0));
            for record in self.records.drain(..) {
                file.write_all(&record.to_bytes())?;
            }
            self.runs.push(file.into_inner().map_err(io::IntoInnerError::into_error)?);
        }
        self.records.push(record);
        Ok(())
    }

    /// Keeps what was written, and says where.
    pub(super) fn keep(&mut self, content: &Content) -> io::Result<u64> {
        let at = self.written;
        for side in [&content.before, &content.after] {
            let bytes = side.as_ref().map(|cells| side_bytes(cells));
            let length =
                bytes.as_ref().map_or(u32::MAX, |bytes| u32::try_from(bytes.len()).unwrap_or(0));
            self.contents.write_all(&length.to_be_bytes())?;
            self.contents.write_all(bytes.as_deref().unwrap_or_default())?;
            self.written += 4 + bytes.map_or(0, |bytes| bytes.len() as u64);
        }
        Ok(at)
    }

    /// Takes in what an earlier run handed on: records, and the bytes that begin with what each wrote.
    pub(super) fn push_again(
        &mut self,
        records: Vec<(WriteRecord, Option<&[u8]>)>,
    ) -> io::Result<()> {
        for (mut record, content) in records {
            record.content = match content {
                Some(bytes) => self.keep_again(bytes)?,
                None => NO_CONTENT,
            };
            self.push(record)?;
        }
        Ok(())
    }

    /// Keeps what an earlier run had kept, and says where: the bytes begin with it.
    fn keep_again(&mut self, bytes: &[u8]) -> io::Result<u64> {
        let at = self.written;
        let mut rest = bytes;
        for _ in 0..2 {
            let (length, after) = rest.split_first_chunk().ok_or(io::ErrorKind::InvalidData)?;
            let length = match u32::from_be_bytes(*length) {
                u32::MAX => 0,
                length => length as usize,
            };
            rest = after.get(length..).ok_or(io::ErrorKind::InvalidData)?;
        }
        let told = &bytes[..bytes.len() - rest.len()];
        self.contents.write_all(told)?;
        self.written += told.len() as u64;
        Ok(at)
    }

    /// Ends the gathering.
    pub(super) fn finish(mut self) -> io::Result<(Runs, Contents)> {
        self.records.sort_unstable();
        let mut runs = Vec::new();
        for mut file in self.runs {
            file.seek(SeekFrom::Start(0))?;
            runs.push(RecordRun::File(BufReader::with_capacity(64 << 10, file)));
        }
        runs.push(RecordRun::Memory(self.records.into_iter()));
        let file = self.contents.into_inner().map_err(io::IntoInnerError::into_error)?;
        Ok((Runs(runs), Contents { file }))
    }
}

/// Which cells are told, then those.
fn side_bytes(cells: &[Option<Value>]) -> Vec<u8> {
    let mut bytes = vec![0; cells.len().div_ceil(8)];
    for (at, _) in cells.iter().enumerate().filter(|(_, cell)| cell.is_some()) {
        bytes[at / 8] |= 1 << (at % 8);
    }
    encoding::begin_row(&mut bytes);
    for value in cells.iter().flatten() {
        encoding::put_cell(&mut bytes, value.as_ref());
    }
    bytes
}

/// The contents of the writes of one journal.
pub(super) struct Contents {
    file: SpooledTempFile,
}

impl Contents {
    /// Reads again what was kept, of a table with so many columns.
    pub(super) fn read(&mut self, at: u64, columns: usize) -> io::Result<Content> {
        self.file.seek(SeekFrom::Start(at))?;
        Ok(Content { before: self.side(columns)?, after: self.side(columns)? })
    }

    /// Appends what was kept, as it was kept.
    pub(super) fn copy(&mut self, at: u64, to: &mut Vec<u8>) -> io::Result<()> {
        self.file.seek(SeekFrom::Start(at))?;
        for _ in 0..2 {
            let mut length = [0; 4];
            self.file.read_exact(&mut length)?;
            to.extend(length);
            let length = u32::from_be_bytes(length);
            if length != u32::MAX {
                let from = to.len();
                to.resize(from + length as usize, 0);
                self.file.read_exact(&mut to[from..])?;
            }
        }
        Ok(())
    }

    fn side(&mut self, columns: usize) -> io::Result<Option<Vec<Option<Value>>>> {
        let mut length = [0; 4];
        self.file.read_exact(&mut length)?;
        let length = u32::from_be_bytes(length);
        if length == u32::MAX {
            return Ok(None);
        }
        let mut bytes = vec![0; length as usize];
        self.file.read_exact(&mut bytes)?;
        let (told, row) =
            bytes.split_at_checked(columns.div_ceil(8)).ok_or(io::ErrorKind::InvalidData)?;
        let values = encoding::read_row(row)
            .map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error))?;
        let mut values = values.into_iter();
        let is_told = |at: usize| told[at / 8] & (1 << (at % 8)) != 0;
        Ok(Some((0..columns).map(|at| is_told(at).then(|| values.next()).flatten()).collect()))
    }
}

enum RecordRun {
    Memory(std::vec::IntoIter<WriteRecord>),
    File(BufReader<SpooledTempFile>),
}

impl RecordRun {
    fn next(&mut self) -> io::Result<Option<WriteRecord>> {
        match self {
            Self::Memory(records) => Ok(records.next()),
            Self::File(file) => {
                let mut bytes = [0; RECORD_SIZE];
                match file.read_exact(&mut bytes) {
                    Ok(()) => Ok(Some(WriteRecord::from_bytes(&bytes))),
                    Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => Ok(None),
                    Err(error) => Err(error),
                }
            }
        }
    }
}

/// Sorted records of one journal.
pub(super) struct Runs(Vec<RecordRun>);

/// Hands out the records of all journals, those of one thing together.
pub(super) fn by_thing(
    journals: Vec<Runs>,
    each: &mut dyn FnMut(&mut [WriteRecord]) -> io::Result<bool>,
) -> io::Result<()> {
    let mut runs: Vec<RecordRun> = journals.into_iter().flat_map(|runs| runs.0).collect();
    let mut heads = BinaryHeap::new();
    for (at, run) in runs.iter_mut().enumerate() {
        heads.extend(run.next()?.map(|record| Reverse((record, at))));
    }
    let mut group: Vec<WriteRecord> = Vec::new();
    while let Some(Reverse((record, at))) = heads.pop() {
        heads.extend(runs[at].next()?.map(|record| Reverse((record, at))));
        if group.first().is_some_and(|first| first.thing != record.thing) {
            if !each(&mut group)? {
                return Ok(());
            }
            group.clear();
        }
        group.push(record);
    }
    if !group.is_empty() {
        each(&mut group)?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn record(thing: u128, place: u64) -> WriteRecord {
        WriteRecord {
            thing,
            writer: 3,
            place,
            node: 2,
            order: place + 7,
            number: 9,
            made: -5,
            table: 4,
            unique: 1,
            deed: 2,
            row: 11,
            gist: 77,
            content: NO_CONTENT,
        }
    }

    proptest! {
        #[test]
        fn records_survive_the_file(thing in any::<u128>(), place in any::<u32>()) {
            let record = record(thing, place.into());
            prop_assert_eq!(WriteRecord::from_bytes(&record.to_bytes()), record);
        }
    }

    #[test]
    fn contents_are_read_back_with_what_is_not_told() {
        let content = Content {
            before: None,
            after: Some(vec![Some(Value::Int(1)), None, Some(Value::Null), Some(Value::text("é"))]),
        };
        let mut gathered = Gathered::new();
        let nothing = gathered.keep(&Content::default()).expect("kept");
        let at = gathered.keep(&content).expect("kept");
        let (_, mut contents) = gathered.finish().expect("finished");
        assert_eq!(contents.read(at, 4).expect("read"), content);
        assert_eq!(contents.read(nothing, 4).expect("read"), Content::default());
    }

    #[test]
    fn more_than_fits_into_memory_comes_out_in_order() {
        let mut gathered = Gathered::new();
        let count = IN_MEMORY as u64 * 2 + 5;
        for place in 0..count {
            gathered.push(record(u128::from(place * 7919 % 1000), place)).expect("kept");
        }
        let (runs, _) = gathered.finish().expect("finished");
        let (mut things, mut records) = (Vec::new(), 0);
        by_thing(vec![runs], &mut |group| {
            assert!(group.iter().all(|record| record.thing == group[0].thing));
            assert!(group.is_sorted());
            things.push(group[0].thing);
            records += group.len() as u64;
            Ok(true)
        })
        .expect("merged");
        assert!(things.is_sorted() && things.len() == 1000);
        assert_eq!(records, count);
    }
}
