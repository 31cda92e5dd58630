//! Events that are put aside until it is known whether what they tell came to stand.
//!
//! A transaction that is prepared for two phases stands in the log before it is committed or rolled back, and
//! one that wrote to a table that rolls nothing back stands there whole, with everything that was rolled back.

use std::io::{self, Read as _, Seek as _, SeekFrom, Write as _};

use tempfile::SpooledTempFile;

use super::RawEvent;

/// Kept in memory up to this many bytes, then in a file.
const IN_MEMORY: usize = 1 << 20;

/// Events in order, with what was rolled back of them.
#[derive(Debug)]
pub(super) struct Aside {
    file: SpooledTempFile,
    /// Of each event whether it was rolled back.
    undone: Vec<bool>,
    savepoints: Vec<(String, usize)>,
}

impl Aside {
    pub(super) fn new() -> Self {
        let file = SpooledTempFile::new(IN_MEMORY);
        Self { file, undone: Vec::new(), savepoints: Vec::new() }
    }

    pub(super) fn push(&mut self, (kind, time, server, data): &RawEvent) -> io::Result<()> {
        self.undone.push(false);
        let length = u32::try_from(data.len()).map_err(io::Error::other)?;
        self.file.write_all(&[*kind])?;
        for number in [*time, *server, length] {
            self.file.write_all(&number.to_be_bytes())?;
        }
        self.file.write_all(data)
    }

    pub(super) fn savepoint(&mut self, name: String) {
        self.savepoints.push((name, self.undone.len()));
    }

    /// Forgets everything put aside since that savepoint, or everything where none is given.
    pub(super) fn roll_back(&mut self, to: Option<&str>) {
        let at = match to {
            None => Some(0),
            Some(name) => {
                let known = |(of, _): &(String, usize)| of.eq_ignore_ascii_case(name);
                self.savepoints.iter().rposition(known).map(|known| {
                    self.savepoints.truncate(known + 1);
                    self.savepoints[known].1
                })
            }
        };
        if let Some(at) = at {
            self.undone[at..].fill(true);
        }
    }

    /// The events again, each with whether it was rolled back.
    pub(super) fn each<E: From<io::Error>>(
        mut self,
        mut with: impl FnMut(RawEvent, bool) -> Result<bool, E>,
    ) -> Result<(), E> {
        self.file.seek(SeekFrom::Start(0))?;
        let mut from = io::BufReader::new(self.file);
        for undone in self.undone {
            let mut kind = [0];
            from.read_exact(&mut kind)?;
            let mut numbers = [0; 3];
            for number in &mut numbers {
                let mut bytes = [0; 4];
                from.read_exact(&mut bytes)?;
                *number = u32::from_be_bytes(bytes);
            }
            let mut data = vec![0; numbers[2] as usize];
            from.read_exact(&mut data)?;
            if !with((kind[0], numbers[0], numbers[1], data), undone)? {
                break;
            }
        }
        Ok(())
    }
}
