//! Everything that servers of all kinds have in common: who logs in, over what, and how long an answer may take.

#![cfg_attr(
    not(feature = "servers"),
    allow(dead_code, reason = "what only adapters of servers use")
)]

use std::fmt;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::observe::links::Micros;
use keen_core::row::schema::TableShape;
use keen_core::setup::column::ColumnDefinition;
use keen_core::setup::port::LinkPassword;
use keen_core::setup::{SetupChange, Subject, spell};
use keen_core::topology::{Engine, ServerAddress, Tls};

/// Advice for when a certificate cannot be checked.
pub(crate) const UNKNOWN_AUTHORITY: &str = "name the authority that signed it, tls = { ca = \"FILE\" }, and reach the server by a name in the certificate";
/// Advice for when a server will not protect the connection.
pub(crate) const NO_TLS: &str = "the server offers no TLS: set it up there, or use tls = \"off\" if nobody can listen on the network path";
/// Advice for when a server asks for a password and there is none.
pub(crate) const NO_PASSWORD: &str =
    "name the place of the password: password = { env = \"NAME\" } or { file = \"PATH\" }";

/// A password, kept out of debug output.
#[derive(Clone, PartialEq, Eq)]
pub struct Password(String);

impl Password {
    /// Takes a password.
    #[must_use]
    pub fn new(text: String) -> Self {
        Self(text)
    }

    pub(crate) fn reveal(&self) -> &str {
        &self.0
    }
}

/// The statement that makes a link.
pub(crate) fn made(
    engine: Engine,
    change: &SetupChange,
    password: Option<&LinkPassword>,
) -> Result<String, ReadFault> {
    let statement = match (&change.subject, &change.before) {
        (Subject::NewLink(new), None) if change.after == Some(new.state()) => {
            spell::making_link(engine, new, password)
        }
        (other, _) => Err(format!("{other} is no link that is made")),
    };
    statement.map_err(|why| ReadFault::new(why, "plan again"))
}

impl From<Password> for LinkPassword {
    fn from(password: Password) -> Self {
        Self::new(password.0)
    }
}

impl fmt::Debug for Password {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Password(…)")
    }
}

/// How to get to a server, and how long that may take.
#[derive(Debug, Clone)]
pub struct Access {
    /// Where it is.
    pub server: ServerAddress,
    /// The password of its account, if it needs one.
    pub password: Option<Password>,
    /// How the connection is protected.
    pub tls: Tls,
    /// The folder that relative paths of certificates start at.
    pub base: PathBuf,
    /// How long to wait for a connection to be ready, and for locks.
    pub wait: Duration,
    /// A server that sends nothing for so long while it owes an answer is given up.
    pub silence: Duration,
    /// Raised to stop whatever is being read.
    pub stop: Arc<AtomicBool>,
}

impl Access {
    /// A server on the way to which nothing can listen, reached in the usual way.
    #[must_use]
    pub fn plain(server: ServerAddress, password: Option<&str>) -> Self {
        Self {
            server,
            password: password.map(|text| Password::new(text.to_owned())),
            tls: Tls::default(),
            base: PathBuf::new(),
            wait: Duration::from_secs(5),
            silence: Duration::from_secs(30),
            stop: Arc::default(),
        }
    }

    /// Whether the connection is to be protected.
    #[must_use]
    pub fn wants_tls(&self) -> bool {
        self.tls.on.unwrap_or_else(|| !self.server.is_loopback())
    }

    /// `host:port`, for messages.
    #[must_use]
    pub fn shown(&self) -> String {
        let host = &self.server.host;
        let host = if host.contains(':') { format!("[{host}]") } else { host.clone() };
        format!("{host}:{}", self.server.port)
    }

    pub(crate) fn path(&self, path: &str) -> PathBuf {
        self.base.join(path)
    }

    pub(crate) fn stopped(&self) -> bool {
        self.stop.load(std::sync::atomic::Ordering::Relaxed)
    }

    /// It took longer than it may.
    pub(crate) fn silent(&self, doing: &str) -> ReadFault {
        let limit = if doing.starts_with("connect") { self.wait } else { self.silence };
        ReadFault::new(
            format!("{} did not answer within {limit:?} when asked to {doing}", self.shown()),
            "the machine or the server may be frozen or overloaded: check it, or allow more time with --connect-timeout and --idle-timeout",
        )
        .of(FaultKind::NoAnswer)
    }
}

/// The probe does more than read: of a refusal, the right that is lacking; of a table that is not there, how it comes.
pub(crate) fn explain(fault: ReadFault, right: &str, user: &str) -> ReadFault {
    let advice = match fault.kind {
        FaultKind::NotAllowed => format!(
            "{user} lacks the right to {right}: keen probe --ddl prints the table and its grants, for an account that may run them"
        ),
        FaultKind::NoTable => {
            "create the table: keen probe --ddl prints how, --create does it".to_owned()
        }
        _ => return fault,
    };
    ReadFault { advice, ..fault }
}

/// The same of the table of heartbeats.
pub(crate) fn explain_heartbeat(fault: ReadFault, user: &str) -> ReadFault {
    match fault.kind {
        FaultKind::NotAllowed => {
            let advice = format!("grant {user} SELECT, INSERT and UPDATE on the table");
            ReadFault { advice, ..fault }
        }
        _ => fault,
    }
}

/// The present moment by our own clock.
pub(crate) fn now() -> Micros {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_micros()).unwrap_or(i64::MAX)
}

/// How a column is declared; none if there is no such column.
///
/// # Errors
/// [`ReadFault`] when its declaration says more than a plan can.
pub(crate) fn column_state(shape: &TableShape, column: &str) -> Result<Option<String>, ReadFault> {
    let Some(column) = shape.column(column) else { return Ok(None) };
    match ColumnDefinition::of(column) {
        Some(definition) => Ok(Some(definition.to_string())),
        None => Err(ReadFault::new(
            format!("column {} is declared as more than a plan can say", column.name),
            "change it by hand",
        )),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_password_is_in_no_debug_output() {
        assert_eq!(format!("{:?}", Password::new("edelweiss".to_owned())), "Password(…)");
    }
}
