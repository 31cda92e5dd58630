//! Opening a file without leaving a trace beside it.
//!
//! A WAL-mode file that nobody has open has no `-wal` file. Opened in the usual
//! way SQLite would make one, and a `-shm` beside it, and a reader without the
//! right to write could not take them away again. Such a file is opened as one
//! that does not change. It is locked as any reader locks it, so that writers
//! who come meanwhile leave what they write in their `-wal` when they go; and
//! it is watched: should one write so much that it has to be moved into the
//! file, nothing read from then on is used.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use keen_core::fault::ReadFault;
use rusqlite::{Connection, OpenFlags};

/// Opens a file read-only; also returns the watch over one that is taken as unchanging.
pub(super) fn read_only(path: &Path) -> rusqlite::Result<(Connection, Option<UnchangingFile>)> {
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    match UnchangingFile::over_quiet(path) {
        Some(watch) => {
            let connection =
                Connection::open_with_flags(unchanging(path), flags | OpenFlags::SQLITE_OPEN_URI)?;
            Ok((connection, Some(watch)))
        }
        None => Ok((Connection::open_with_flags(path, flags)?, None)),
    }
}

/// The URI that says a file does not change.
fn unchanging(path: &Path) -> String {
    let mut uri = String::from("file:");
    for byte in path.as_os_str().as_encoded_bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'/' | b'.' | b'-' | b'_' => {
                uri.push(char::from(*byte));
            }
            other => uri.push_str(&format!("%{other:02X}")),
        }
    }
    uri.push_str("?immutable=1");
    uri
}

/// A file that is taken as unchanging, and how it was when it was opened.
#[derive(Debug)]
pub(super) struct UnchangingFile {
    file: File,
    path: PathBuf,
    size: u64,
    changed: Option<SystemTime>,
}

impl UnchangingFile {
    /// Whether both found the file as it was at one moment.
    pub(super) fn sees_the_same_as(&self, other: &Self) -> bool {
        (self.size, self.changed) == (other.size, other.changed)
    }
}

/// Takes the lock that every SQLite connection to a WAL file holds for as long as it is open:
/// shared, on the bytes that "File Format for SQLite Databases", section 1.5, sets aside.
#[cfg(unix)]
fn lock_shared(file: &File) -> bool {
    use nix::fcntl::{FcntlArg, fcntl};
    use nix::libc;

    const SHARED_FIRST: i64 = 0x4000_0000 + 2;
    const SHARED_SIZE: i64 = 510;
    let shared = libc::flock {
        l_type: libc::F_RDLCK as libc::c_short,
        l_whence: libc::SEEK_SET as libc::c_short,
        l_start: SHARED_FIRST,
        l_len: SHARED_SIZE,
        l_pid: 0,
    };
    fcntl(file, FcntlArg::F_SETLK(&shared)).is_ok()
}

/// Elsewhere the watch alone has to do.
#[cfg(not(unix))]
fn lock_shared(_file: &File) -> bool {
    true
}

/// Where the header of a database says how it is written and read; 2 and 2 mean WAL.
const VERSIONS_AT: u64 = 18;

impl UnchangingFile {
    /// A watch over a WAL-mode file that nobody has open.
    fn over_quiet(path: &Path) -> Option<Self> {
        let mut file = File::open(path).ok()?;
        let mut versions = [0; 2];
        file.seek(SeekFrom::Start(VERSIONS_AT)).ok()?;
        file.read_exact(&mut versions).ok()?;
        let found = file.metadata().ok()?;
        let mut wal = path.as_os_str().to_owned();
        wal.push("-wal");
        // The lock first: whoever leaves after this cannot move its writes into the file.
        let quiet = versions == [2, 2] && lock_shared(&file) && !Path::new(&wal).exists();
        quiet.then(|| Self {
            file,
            path: path.to_owned(),
            size: found.len(),
            changed: found.modified().ok(),
        })
    }

    /// Makes sure that what was read so far was read from the file as it was.
    pub(super) fn unchanged(&self) -> Result<(), ReadFault> {
        let now = self.file.metadata();
        let same =
            now.is_ok_and(|now| now.len() == self.size && now.modified().ok() == self.changed);
        if same {
            return Ok(());
        }
        Err(ReadFault::new(
            format!("{} was changed while it was read", self.path.display()),
            "a writer opened it meanwhile: run it again; it will then be read alongside that writer",
        ))
    }
}
