//! SQLite's errors, as an engineer reads them.

use std::path::Path;

use keen_core::fault::ReadFault;
use rusqlite::ErrorCode;
use rusqlite::ffi;

/// Turns an error of SQLite into what was tried, what came back and what to do.
pub(super) fn explain(path: &Path, tried: &str, error: &rusqlite::Error) -> ReadFault {
    let shown = path.display();
    let (cause, message) = match error {
        rusqlite::Error::SqliteFailure(cause, message) => (cause, message.clone()),
        rusqlite::Error::SqlInputError { error: cause, msg, .. } => (cause, Some(msg.clone())),
        other => {
            let what = format!("could not {tried} in {shown}: {other}");
            return ReadFault::new(what, "check the name and the SQL");
        }
    };
    let advice = match cause.code {
        ErrorCode::OperationInterrupted => return ReadFault::interrupted(),
        ErrorCode::NotADatabase => {
            "it is not a SQLite database, or it is encrypted: correct the node's address"
        }
        ErrorCode::DatabaseCorrupt => {
            "the file is damaged: run PRAGMA integrity_check on it and restore or reseed it"
        }
        ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked => {
            "another process holds it locked: try again when that writer is done, or wait longer with --connect-timeout"
        }
        ErrorCode::ReadOnly if cause.extended_code == ffi::SQLITE_READONLY_ROLLBACK => {
            "a writer crashed and left a journal to roll back: let its own application open the file once"
        }
        ErrorCode::CannotOpen | ErrorCode::ReadOnly => {
            "let this account read the file, and (WAL mode) its folder, where SQLite keeps the -wal and -shm files"
        }
        ErrorCode::PermissionDenied => "let this account read the file",
        ErrorCode::SystemIoFailure => {
            "the disk did not return the data: check the disk and the system log"
        }
        ErrorCode::DiskFull => {
            "no room for temporary files: free some, or point SQLITE_TMPDIR elsewhere"
        }
        ErrorCode::OutOfMemory | ErrorCode::TooBig => "a value is too large to be read here",
        _ => "check the name and the SQL against the node's schema",
    };
    let message = message.unwrap_or_else(|| ffi::code_to_str(cause.extended_code).to_owned());
    ReadFault::new(format!("could not {tried} in {shown}: {message}"), advice)
}
