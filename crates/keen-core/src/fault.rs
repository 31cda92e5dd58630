//! What goes wrong with a node: what happened, of which kind it is, and what to do about it.

use crate::row::batch::RowFault;

/// What to do when a port takes no connections.
pub const NOBODY_LISTENS: &str =
    "no server listens there: start it, or correct the host and port of the node's address";

/// What to do when a name means nothing.
pub const NO_HOST: &str = "there is no such host: correct the node's address";

/// Why a node, or one table of it, could not be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{what}: {advice}")]
pub struct ReadFault {
    /// What was tried and what came back. No row contents, no secrets.
    pub what: String,
    /// What to do about it.
    pub advice: String,
    /// It ended because it was told to, not because something is wrong.
    pub interrupted: bool,
    /// What kind of fault it is.
    pub kind: FaultKind,
}

/// Kinds of faults that call for different remedies.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum FaultKind {
    /// None of the others.
    #[default]
    Other,
    /// No such host.
    NoHost,
    /// Nothing listens there.
    Refused,
    /// Nothing was answered in time.
    NoAnswer,
    /// The password is wrong, or missing.
    Password,
    /// There is no such database.
    NoDatabase,
    /// The account is not allowed to.
    NotAllowed,
    /// The protected connection could not be made.
    Tls,
    /// All connections are taken.
    Full,
    /// There is no such table, or it is no table.
    NoTable,
    /// The adapter has no such port.
    NotSupported,
}

impl FaultKind {
    /// Its name in results.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Other => "other",
            Self::NoHost => "no_such_host",
            Self::Refused => "refused",
            Self::NoAnswer => "no_answer",
            Self::Password => "wrong_password",
            Self::NoDatabase => "no_such_database",
            Self::NotAllowed => "not_allowed",
            Self::Tls => "tls",
            Self::Full => "full",
            Self::NoTable => "no_table",
            Self::NotSupported => "not_supported",
        }
    }
}

impl ReadFault {
    /// Something is wrong.
    #[must_use]
    pub fn new(what: impl Into<String>, advice: impl Into<String>) -> Self {
        Self {
            what: what.into(),
            advice: advice.into(),
            interrupted: false,
            kind: FaultKind::Other,
        }
    }

    /// Of this kind.
    #[must_use]
    pub fn of(mut self, kind: FaultKind) -> Self {
        self.kind = kind;
        self
    }

    /// It was told to stop.
    #[must_use]
    pub fn interrupted() -> Self {
        Self {
            what: "interrupted".to_owned(),
            advice: "run it again".to_owned(),
            interrupted: true,
            kind: FaultKind::Other,
        }
    }
}

impl From<RowFault> for ReadFault {
    fn from(fault: RowFault) -> Self {
        Self::new(fault.to_string(), "check the node's own integrity before anything else")
    }
}
