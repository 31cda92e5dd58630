//! Divergent rows put aside until a plan asks for them, one by one: in memory while they are few, then in a file
//! that has no name.

use std::fs::File;
use std::io::{self, BufReader, BufWriter, Read, Write};
use std::os::unix::fs::FileExt;
use std::sync::Arc;

use keen_core::audit::merge::DivergentRow;
use keen_core::fault::ReadFault;
use keen_core::plan::{FoundRows, KeepRows};
use tempfile::{SpooledData, SpooledTempFile};

use crate::spool::pending_rows::{read_row, write_row};

/// Rows of one table are kept in memory up to this many bytes.
const IN_MEMORY: usize = 4 << 20;

/// Takes rows in the order in which they are found.
#[derive(Debug)]
pub struct RowsAside {
    out: CountingWriter<BufWriter<SpooledTempFile>>,
    /// Where each row ends.
    ends: Vec<u64>,
}

impl Default for RowsAside {
    fn default() -> Self {
        let out = BufWriter::new(SpooledTempFile::new(IN_MEMORY));
        Self { out: CountingWriter { out, written: 0 }, ends: Vec::new() }
    }
}

impl RowsAside {
    /// Puts a row behind the others.
    ///
    /// # Errors
    /// Those of a temporary file.
    pub fn push(&mut self, row: &DivergentRow) -> io::Result<()> {
        write_row(&mut self.out, row)?;
        self.ends.push(self.out.written);
        Ok(())
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// There are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    /// All of them, to be read.
    ///
    /// # Errors
    /// Those of a temporary file.
    pub fn into_rows(self) -> io::Result<FoundRows> {
        let file = self.out.out.into_inner().map_err(io::IntoInnerError::into_error)?;
        let kept = match file.into_inner() {
            SpooledData::InMemory(bytes) => Kept::Memory(bytes.into_inner()),
            SpooledData::OnDisk(file) => Kept::File(file),
        };
        Ok(FoundRows::kept(Arc::new(RowsAtRest { kept, ends: self.ends })))
    }
}

/// Counts what is written.
#[derive(Debug)]
struct CountingWriter<W> {
    out: W,
    written: u64,
}

impl<W: Write> Write for CountingWriter<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let taken = self.out.write(bytes)?;
        self.written += taken as u64;
        Ok(taken)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

#[derive(Debug)]
enum Kept {
    Memory(Vec<u8>),
    File(File),
}

#[derive(Debug)]
struct RowsAtRest {
    kept: Kept,
    ends: Vec<u64>,
}

impl RowsAtRest {
    fn read(&self, at: usize) -> io::Result<DivergentRow> {
        let missing = || io::Error::from(io::ErrorKind::UnexpectedEof);
        let to = *self.ends.get(at).ok_or_else(missing)?;
        let from = at.checked_sub(1).map_or(0, |before| self.ends[before]);
        match &self.kept {
            Kept::Memory(bytes) => {
                let place = |at: u64| usize::try_from(at).map_err(|_| missing());
                let bytes = bytes.get(place(from)?..place(to)?).ok_or_else(missing)?;
                read_row(&mut &*bytes)
            }
            Kept::File(file) => {
                let length = usize::try_from(to - from).unwrap_or(usize::MAX);
                // A long row is not held a second time.
                let at_once = length.min(64 << 10);
                read_row(&mut BufReader::with_capacity(at_once, FilePart { file, from, to }))
            }
        }
    }
}

impl KeepRows for RowsAtRest {
    fn count(&self) -> usize {
        self.ends.len()
    }

    fn row(&self, at: usize) -> Result<DivergentRow, ReadFault> {
        self.read(at).map_err(|error| {
            ReadFault::new(
                format!("a row stored in a temporary file cannot be read back: {error}"),
                "check the disk that TMPDIR names, and run it again",
            )
        })
    }
}

/// A part of a file.
struct FilePart<'a> {
    file: &'a File,
    from: u64,
    to: u64,
}

impl Read for FilePart<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let left = usize::try_from(self.to - self.from).unwrap_or(usize::MAX);
        let most = into.len().min(left);
        let read = self.file.read_at(&mut into[..most], self.from)?;
        self.from += read as u64;
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use keen_core::audit::merge::Version;
    use keen_core::value::Value;

    use super::*;

    #[test]
    fn rows_are_read_in_any_order_as_they_were_put_aside() {
        for width in [3, 3000] {
            let row = |id: i128| {
                let cells = vec![Value::Int(id), Value::Text("x".repeat(width).into())];
                DivergentRow {
                    key: vec![Value::Int(id)],
                    differing: vec![1],
                    versions: vec![
                        Version { nodes: vec![0, 63], row: Some(Arc::new(cells)), count: 1 },
                        Version { nodes: vec![2], row: None, count: 0 },
                    ],
                    outside: Vec::new(),
                }
            };
            let mut aside = RowsAside::default();
            (0..3000).for_each(|id| aside.push(&row(id)).unwrap());
            let rows = aside.into_rows().unwrap();
            assert_eq!(rows.len(), 3000);
            for at in [2999, 0, 1500, 1, 1500] {
                assert_eq!(rows.get(at).unwrap(), row(at as i128));
            }
            assert!(rows.get(3000).is_err());
        }
    }
}
