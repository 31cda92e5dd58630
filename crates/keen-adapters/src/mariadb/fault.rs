//! MariaDB's errors, as an engineer reads them.

use std::io::ErrorKind;

use keen_core::fault::{FaultKind, ReadFault};
use mysql::Error;

use crate::server::{Access, NO_TLS, UNKNOWN_AUTHORITY};
use keen_core::fault::{NO_HOST, NOBODY_LISTENS};

fn timed_out(error: &Error) -> bool {
    let would_wait =
        |io: &std::io::Error| matches!(io.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut);
    match error {
        Error::IoError(io) => would_wait(io),
        // The same, met inside a packet; the driver keeps the cause to itself but for its text.
        Error::CodecError(codec) => {
            let text = codec.to_string();
            text.contains("temporarily unavailable") || text.contains("timed out")
        }
        _ => false,
    }
}

/// Logging in failed.
pub(super) fn connecting(access: &Access, error: &Error) -> ReadFault {
    let shown = access.shown();
    let (user, database) = (&access.server.user, &access.server.database);
    if timed_out(error) {
        return access.silent("connect");
    }
    if let Error::MySqlError(said) = error {
        let advice = match said.code {
            1045 | 1698 => {
                "correct the password that the topology file points to: password = { env = ... } or { file = ... }"
            }
            1044 => "grant the account SELECT in that database",
            1049 => "correct the database in the node's address",
            1130 => "create the account for the host that keen runs on",
            1040 | 1203 | 1226 => {
                "all connections are in use: try again, or allow this account more"
            }
            1053 | 1927 => "the server is stopping: try again when it is up",
            _ => "read the server's own log",
        };
        let kind = match said.code {
            1045 | 1698 => FaultKind::Password,
            1049 => FaultKind::NoDatabase,
            1044 | 1130 => FaultKind::NotAllowed,
            1040 | 1203 | 1226 => FaultKind::Full,
            _ => FaultKind::Other,
        };
        return ReadFault::new(
            format!("{shown} refused {user} for database {database}: {}", said.message),
            advice,
        )
        .of(kind);
    }
    let cause = cause(error);
    let lower = cause.to_ascii_lowercase();
    let (kind, advice) = if lower.contains("refused") {
        (FaultKind::Refused, NOBODY_LISTENS)
    } else if lower.contains("lookup") || lower.contains("resolve") || lower.contains("not known") {
        (FaultKind::NoHost, NO_HOST)
    } else if lower.contains("certificate") || lower.contains("unknownissuer") {
        (FaultKind::Tls, UNKNOWN_AUTHORITY)
    } else if lower.contains("tls") || lower.contains("ssl") {
        (FaultKind::Tls, NO_TLS)
    } else {
        (FaultKind::Other, "check the address and the network path to it")
    };
    ReadFault::new(format!("could not connect to {shown} as {user}: {cause}"), advice).of(kind)
}

/// The message without the library's own words around it.
fn cause(error: &Error) -> String {
    match error {
        Error::IoError(error) => error.to_string(),
        Error::DriverError(error) => error.to_string(),
        Error::TlsError(error) => error.to_string(),
        Error::CodecError(_) => "it ended in the middle of an answer".to_owned(),
        other => other.to_string(),
    }
}

/// A statement failed.
pub(super) fn explain(access: &Access, doing: &str, error: &Error) -> ReadFault {
    let shown = access.shown();
    let user = &access.server.user;
    if timed_out(error) {
        return access.silent(doing);
    }
    let Error::MySqlError(said) = error else {
        return ReadFault::new(
            format!("lost the connection to {shown} when asked to {doing}: {}", cause(error)),
            "check that the server is up, read its log, then run this again",
        );
    };
    let advice = match said.code {
        1142 | 1143 | 1044 => format!("grant {user} SELECT on the table: keen preflight prints the statement"),
        1146 | 1051 => "the table was dropped or renamed meanwhile: correct the set, or run this again".to_owned(),
        1412 => "its shape was changed meanwhile: run this again".to_owned(),
        1205 | 1099 | 1100 => {
            "another session holds the table locked: try again when it is done, or wait longer with --connect-timeout".to_owned()
        }
        1969 | 3024 => format!("the account's max_statement_time is too short to read this table: ALTER USER {user} WITH MAX_STATEMENT_TIME 0"),
        1317 => "it was cancelled on the server: run this again".to_owned(),
        1053 | 1927 => "the server was stopped: run this again when it is up".to_owned(),
        1021 | 1114 | 3 | 28 => "the server has no space left for this: free some".to_owned(),
        1034 | 1194 | 126..=145 => "the server's data is damaged: CHECK TABLE before anything else".to_owned(),
        1054 | 1064 | 1305 => "correct the set's row filter, or the node's columns".to_owned(),
        _ => "read the server's own log".to_owned(),
    };
    let kind = match said.code {
        1142 | 1143 | 1044 | 1227 => FaultKind::NotAllowed,
        1146 | 1051 => FaultKind::NoTable,
        _ => FaultKind::Other,
    };
    ReadFault::new(format!("{shown} could not {doing}: {}", said.message), advice).of(kind)
}
