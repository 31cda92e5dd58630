//! PostgreSQL's errors, as an engineer reads them.

use std::error::Error as _;

use keen_core::fault::{FaultKind, ReadFault};
use tokio_postgres::Error;
use tokio_postgres::error::SqlState;

use crate::server::{Access, NO_PASSWORD, NO_TLS, UNKNOWN_AUTHORITY};
use keen_core::fault::{NO_HOST, NOBODY_LISTENS};

/// Logging in failed.
pub(super) fn connecting(access: &Access, error: &Error) -> ReadFault {
    let shown = access.shown();
    let (user, database) = (&access.server.user, &access.server.database);
    if let Some(said) = error.as_db_error() {
        let advice = match *said.code() {
            SqlState::INVALID_PASSWORD => {
                "correct the password that the topology file points to: password = { env = ... } or { file = ... }"
            }
            SqlState::INVALID_AUTHORIZATION_SPECIFICATION => {
                "create the account, or let it in from here in the server's pg_hba.conf"
            }
            SqlState::INVALID_CATALOG_NAME => "correct the database in the node's address",
            SqlState::INSUFFICIENT_PRIVILEGE => "grant CONNECT on the database to the account",
            SqlState::TOO_MANY_CONNECTIONS => {
                "all connections are in use: try again, or reserve one for this account"
            }
            SqlState::CANNOT_CONNECT_NOW => {
                "the server is starting, stopping or recovering: try again when it is up"
            }
            _ => "read the server's own log",
        };
        let kind = match *said.code() {
            SqlState::INVALID_PASSWORD => FaultKind::Password,
            SqlState::INVALID_CATALOG_NAME => FaultKind::NoDatabase,
            SqlState::INVALID_AUTHORIZATION_SPECIFICATION | SqlState::INSUFFICIENT_PRIVILEGE => {
                FaultKind::NotAllowed
            }
            SqlState::TOO_MANY_CONNECTIONS => FaultKind::Full,
            _ => FaultKind::Other,
        };
        return ReadFault::new(
            format!("{shown} refused {user} for database {database}: {}", said.message()),
            advice,
        )
        .of(kind);
    }
    let cause = deepest(error);
    let lower = cause.to_ascii_lowercase();
    let (kind, advice) = if lower.contains("refused") {
        (FaultKind::Refused, NOBODY_LISTENS)
    } else if lower.contains("lookup") || lower.contains("name") && lower.contains("known") {
        (FaultKind::NoHost, NO_HOST)
    } else if lower.contains("certificate") || lower.contains("unknownissuer") {
        (FaultKind::Tls, UNKNOWN_AUTHORITY)
    } else if lower.contains("tls") {
        (FaultKind::Tls, NO_TLS)
    } else if lower.contains("password missing") {
        (FaultKind::Password, NO_PASSWORD)
    } else {
        (FaultKind::Other, "check the address and the network path to it")
    };
    ReadFault::new(format!("could not connect to {shown} as {user}: {cause}"), advice).of(kind)
}

fn deepest(error: &Error) -> String {
    let mut text = error.to_string();
    let mut source = error.source();
    while let Some(inner) = source {
        text = inner.to_string();
        source = inner.source();
    }
    text
}

/// Advice for when a standby drops a reader.
pub(super) const STANDBY: &str = "a standby cancels reads that conflict with what it must apply, as its log will say: \
    set hot_standby_feedback = on there, raise max_standby_streaming_delay, or read another node";

/// A statement failed.
pub(super) fn explain(access: &Access, doing: &str, error: &Error) -> ReadFault {
    let shown = access.shown();
    let user = &access.server.user;
    let Some(said) = error.as_db_error() else {
        return ReadFault::new(
            format!("lost the connection to {shown} when asked to {doing}: {}", deepest(error)),
            "check that the server is up, read its log, then run this again",
        );
    };
    let mut what = format!("{shown} could not {doing}: {}", said.message());
    if let Some(detail) = said.detail() {
        what.push_str(&format!(" ({detail})"));
    }
    let advice = match *said.code() {
        SqlState::INSUFFICIENT_PRIVILEGE if said.message().contains("row-level security") => {
            format!("row security hides rows from {user}: check with an account that has BYPASSRLS")
        }
        SqlState::INSUFFICIENT_PRIVILEGE => format!("grant {user} the right: GRANT SELECT ON the table, and USAGE on its schema"),
        SqlState::UNDEFINED_TABLE => "the table was dropped or renamed meanwhile: correct the set, or run this again".to_owned(),
        SqlState::LOCK_NOT_AVAILABLE => {
            "another session holds the table locked: try again when it is done, or wait longer with --connect-timeout".to_owned()
        }
        SqlState::QUERY_CANCELED if said.message().contains("statement timeout") => {
            format!("the account's statement_timeout is too short to read this table: ALTER ROLE {user} SET statement_timeout = 0")
        }
        SqlState::QUERY_CANCELED => "it was cancelled on the server: run this again".to_owned(),
        SqlState::T_R_SERIALIZATION_FAILURE => {
STANDBY.to_owned()
        }
        SqlState::ADMIN_SHUTDOWN | SqlState::CRASH_SHUTDOWN => "the server was stopped: run this again when it is up".to_owned(),
        SqlState::DISK_FULL | SqlState::OUT_OF_MEMORY => "the server has no space left for this: free some".to_owned(),
        SqlState::DATA_CORRUPTED | SqlState::INDEX_CORRUPTED => "the server's data is damaged: check it before anything else".to_owned(),
        SqlState::UNDEFINED_COLUMN | SqlState::SYNTAX_ERROR | SqlState::UNDEFINED_FUNCTION => {
            "correct the set's row filter, or the node's columns".to_owned()
        }
        _ => "read the server's own log".to_owned(),
    };
    let kind = match *said.code() {
        SqlState::INSUFFICIENT_PRIVILEGE => FaultKind::NotAllowed,
        SqlState::UNDEFINED_TABLE => FaultKind::NoTable,
        _ => FaultKind::Other,
    };
    ReadFault::new(what, advice).of(kind)
}
