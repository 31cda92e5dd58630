//! The lines of a file, counted. One that is long is read piece by piece.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Seek, SeekFrom};

use xxhash_rust::xxh3::Xxh3;

/// Longer lines are never in memory as a whole.
const LONGEST: u64 = 1 << 20;

/// The lines of a file.
#[derive(Debug)]
pub(super) struct Lines {
    file: BufReader<File>,
    /// How many were read, and where the last one ends.
    count: u64,
    end: u64,
    last: Last,
    line: String,
}

/// The last line that says something: where it begins, how long it is, and what stands for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Last {
    pub(super) begins: u64,
    pub(super) length: u64,
    pub(super) digest: u64,
}

/// One line.
pub(super) enum Line<'a> {
    /// Nothing stands in it.
    Blank,
    /// All of it, without its end.
    Whole(&'a str),
    /// A long one, to be read.
    Long(LongLine<'a>),
}

/// A long line while it is read.
pub(super) struct LongLine<'a> {
    lines: &'a mut Lines,
    /// The part of its beginning that is not handed out yet.
    beginning: io::Cursor<Vec<u8>>,
    begins: u64,
    length: u64,
    hash: Box<Xxh3>,
    ended: bool,
}

fn folded(digest: u128) -> u64 {
    (digest >> 64) as u64 ^ digest as u64
}

fn digest_of(line: &[u8]) -> u64 {
    folded(xxhash_rust::xxh3::xxh3_128(line))
}

impl Lines {
    pub(super) fn of(file: BufReader<File>) -> Self {
        Self { file, count: 0, end: 0, last: Last::default(), line: String::new() }
    }

    /// How many lines were read, and the last that says something.
    pub(super) fn read_to(&self) -> (u64, Last) {
        (self.count, self.last)
    }

    /// The number of the line that was read last.
    pub(super) fn number(&self) -> u64 {
        self.count
    }

    /// Makes the next line the one after so many, of which the last is this one; false if it is another.
    pub(super) fn go_on(&mut self, count: u64, last: Last) -> io::Result<bool> {
        self.file.seek(SeekFrom::Start(last.begins))?;
        let mut hash = Xxh3::new();
        let mut line = self.file.by_ref().take(last.length);
        let mut length = 0;
        loop {
            let some = line.fill_buf()?;
            if some.is_empty() {
                break;
            }
            hash.update(some);
            let count = some.len();
            line.consume(count);
            length += count as u64;
        }
        if length != last.length || folded(hash.digest128()) != last.digest {
            return Ok(false);
        }
        (self.count, self.end, self.last) = (count, last.begins + length, last);
        Ok(true)
    }

    pub(super) fn next(&mut self) -> io::Result<Option<Line<'_>>> {
        let mut bytes = std::mem::take(&mut self.line).into_bytes();
        bytes.clear();
        let read = self.file.by_ref().take(LONGEST).read_until(b'\n', &mut bytes)?;
        if read == 0 {
            return Ok(None);
        }
        self.count += 1;
        let begins = self.end;
        if read as u64 == LONGEST && bytes.last() != Some(&b'\n') {
            return Ok(Some(Line::Long(LongLine {
                lines: self,
                beginning: io::Cursor::new(bytes),
                begins,
                length: 0,
                hash: Box::new(Xxh3::new()),
                ended: false,
            })));
        }
        self.end += read as u64;
        let line = String::from_utf8(bytes);
        self.line =
            line.map_err(|_| io::Error::new(io::ErrorKind::InvalidData, "it is not UTF-8"))?;
        if self.line.trim().is_empty() {
            return Ok(Some(Line::Blank));
        }
        let (length, digest) = (read as u64, digest_of(self.line.as_bytes()));
        self.last = Last { begins, length, digest };
        Ok(Some(Line::Whole(self.line.trim_end_matches(['\n', '\r']))))
    }
}

impl Read for LongLine<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let mut count = self.beginning.read(into)?;
        if count == 0 && !self.ended {
            let some = self.lines.file.fill_buf()?;
            let some = &some[..some.len().min(into.len())];
            let until = some.iter().position(|byte| *byte == b'\n').map(|at| at + 1);
            count = until.unwrap_or(some.len());
            into[..count].copy_from_slice(&some[..count]);
            self.ended = until.is_some() || count == 0;
            self.lines.file.consume(count);
        }
        self.hash.update(&into[..count]);
        self.length += count as u64;
        Ok(count)
    }
}

impl LongLine<'_> {
    /// Reads what is left of it, so that the next line comes next.
    pub(super) fn pass_over(mut self) -> io::Result<()> {
        io::copy(&mut self, &mut io::sink())?;
        let digest = folded(self.hash.digest128());
        self.lines.last = Last { begins: self.begins, length: self.length, digest };
        self.lines.end = self.begins + self.length;
        Ok(())
    }
}
