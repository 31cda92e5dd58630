//! Rows in any order, put into key order: in memory as long as they fit, else
//! in sorted runs in a temporary file that are merged once at the end
//! (D. E. Knuth, "The Art of Computer Programming", vol. 3, 5.4).
//!
//! The file is anonymous: it has no name that another process could open, and
//! goes when it is closed, however this process ends.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::fs::File;
use std::io::{self, BufWriter, Read, Seek, SeekFrom, Write};

use keen_core::row::batch::{Batch, Row};
use keen_core::row::digest::Digest;

/// Takes rows in any order.
#[derive(Debug)]
pub(crate) struct Sorter {
    current: Batch,
    budget: usize,
    file: Option<File>,
    /// Where each run begins and ends in the file.
    runs: Vec<(u64, u64)>,
}

/// How much of a run is in memory while runs are merged.
const WINDOW: usize = 32 << 10;

impl Sorter {
    /// Keeps about `budget` bytes in memory.
    pub(crate) fn new(budget: usize) -> Self {
        Self { current: Batch::default(), budget, file: None, runs: Vec::new() }
    }

    pub(crate) fn add(&mut self, row: &Row<'_>) -> io::Result<()> {
        self.current.push(row);
        if self.current.bytes() + self.current.len() * 64 >= self.budget {
            self.spill()?;
        }
        Ok(())
    }

    fn spill(&mut self) -> io::Result<()> {
        self.current.sort();
        if self.file.is_none() {
            self.file = Some(tempfile::tempfile()?);
        }
        let Some(file) = &mut self.file else {
            return Ok(());
        };
        let start = file.seek(SeekFrom::End(0))?;
        let mut out = BufWriter::with_capacity(WINDOW, &mut *file);
        for row in (0..self.current.len()).filter_map(|at| self.current.get(at)) {
            for length in [row.key.len(), row.row.len()] {
                let length = u32::try_from(length).map_err(|_| too_long())?;
                out.write_all(&length.to_le_bytes())?;
            }
            out.write_all(&row.digest.0.to_le_bytes())?;
            out.write_all(&[u8::from(row.outside) | u8::from(row.identified) << 1])?;
            out.write_all(row.key)?;
            out.write_all(row.row)?;
        }
        out.flush()?;
        drop(out);
        let end = file.stream_position()?;
        self.runs.push((start, end));
        self.current.clear();
        Ok(())
    }

    /// All rows taken, in key order.
    pub(crate) fn finish(mut self) -> io::Result<Sorted> {
        if !self.runs.is_empty() && !self.current.is_empty() {
            self.spill()?;
        }
        self.current.sort();
        let runs = self.runs.iter().map(|(start, end)| RunReader::new(*start, *end)).collect();
        let mut sorted =
            Sorted { memory: self.current, at: 0, file: self.file, runs, heap: BinaryHeap::new() };
        for run in 0..sorted.runs.len() {
            sorted.refill(run)?;
        }
        Ok(sorted)
    }
}

fn too_long() -> io::Error {
    io::Error::other("a row is longer than 4 GiB")
}

#[derive(Debug, PartialEq, Eq, PartialOrd, Ord)]
struct SortedRow {
    key: Vec<u8>,
    digest: u128,
    row: Vec<u8>,
    flags: u8,
}

/// A run that is being read.
#[derive(Debug)]
struct RunReader {
    next: u64,
    end: u64,
    window: Vec<u8>,
    at: usize,
}

impl RunReader {
    fn new(start: u64, end: u64) -> Self {
        Self { next: start, end, window: Vec::new(), at: 0 }
    }

    /// The next `wanted` bytes, out of the window or the file.
    fn take(&mut self, file: &mut File, wanted: usize) -> io::Result<Vec<u8>> {
        if self.window.len() - self.at < wanted {
            self.window.drain(..self.at);
            self.at = 0;
            let missing = (wanted.saturating_sub(self.window.len())).max(WINDOW) as u64;
            let reading = missing.min(self.end - self.next);
            file.seek(SeekFrom::Start(self.next))?;
            file.take(reading).read_to_end(&mut self.window)?;
            self.next += reading;
        }
        let piece =
            self.window.get(self.at..self.at + wanted).ok_or(io::ErrorKind::UnexpectedEof)?;
        self.at += wanted;
        Ok(piece.to_vec())
    }

    fn next_row(&mut self, file: &mut File) -> io::Result<Option<SortedRow>> {
        if self.next == self.end && self.at == self.window.len() {
            return Ok(None);
        }
        let head = self.take(file, 25)?;
        let number =
            |at: usize| head[at..at + 4].iter().rev().fold(0, |n, b| n << 8 | usize::from(*b));
        let digest = head[8..24].iter().rev().fold(0, |n, b| n << 8 | u128::from(*b));
        let (key, row) = (self.take(file, number(0))?, self.take(file, number(4))?);
        Ok(Some(SortedRow { key, digest, row, flags: head[24] }))
    }
}

/// Rows in key order, to be taken batch by batch.
#[derive(Debug)]
pub(crate) struct Sorted {
    memory: Batch,
    at: usize,
    file: Option<File>,
    runs: Vec<RunReader>,
    heap: BinaryHeap<Reverse<(SortedRow, usize)>>,
}

impl Sorted {
    fn refill(&mut self, run: usize) -> io::Result<()> {
        if let Some(file) = &mut self.file
            && let Some(row) = self.runs[run].next_row(file)?
        {
            self.heap.push(Reverse((row, run)));
        }
        Ok(())
    }

    /// Hands the next row, if there is one, to `each`.
    pub(crate) fn next(&mut self, each: &mut dyn FnMut(&Row<'_>)) -> io::Result<bool> {
        if let Some(Reverse((kept, run))) = self.heap.pop() {
            each(&Row {
                key: &kept.key,
                row: &kept.row,
                digest: Digest(kept.digest),
                outside: kept.flags & 1 != 0,
                identified: kept.flags & 2 != 0,
            });
            self.refill(run)?;
            return Ok(true);
        }
        let Some(row) = self.memory.get(self.at) else {
            return Ok(false);
        };
        each(&row);
        self.at += 1;
        Ok(true)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn rows_come_out_sorted_and_whole(
            rows in prop::collection::vec((prop::collection::vec(any::<u8>(), 0..4), 0usize..50_000, any::<u128>(), any::<bool>()), 0..60),
            budget in 1usize..40_000,
        ) {
            let contents: Vec<(Vec<u8>, Vec<u8>, u128, bool)> =
                rows.into_iter().map(|(key, length, digest, outside)| (key, vec![7; length], digest, outside)).collect();
            let mut sorter = Sorter::new(budget);
            for (key, row, digest, outside) in &contents {
                sorter.add(&Row { key, row, digest: Digest(*digest), outside: *outside, identified: true }).unwrap();
            }
            let mut sorted = sorter.finish().unwrap();
            let mut seen = Vec::new();
            while sorted.next(&mut |row| seen.push((row.key.to_vec(), row.digest.0, row.row.to_vec(), row.outside))).unwrap() {}
            let mut expected: Vec<_> = contents.into_iter().map(|(key, row, digest, outside)| (key, digest, row, outside)).collect();
            expected.sort();
            let mut sorted_again = seen.clone();
            sorted_again.sort();
            prop_assert_eq!(&sorted_again, &expected);
            prop_assert!(seen.is_sorted_by_key(|row| (row.0.clone(), row.1)));
        }
    }
}
