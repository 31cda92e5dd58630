//! Faults of a node: what happened, of which kind it is, and what to do about it.

use crate::row::batch::RowFault;

/// Advice for when a port takes no connections.
pub const NOBODY_LISTENS: &str =
    "no server listens there: start it, or correct the host and port of the node's address";

/// Advice for when a name means nothing.
pub const NO_HOST: &str = "there is no such host: correct the node's address";

/// Why a node, or one table of it, could not be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{what}{}{advice}", if advice.is_empty() { "" } else { ": " })]
pub struct ReadFault {
    /// The attempt and what came back. No row contents, no secrets.
    pub what: String,
    /// The remedy; empty where nothing helps.
    pub advice: String,
    /// The kind of fault.
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
    /// The node does not tell, though it was asked.
    NotTold,
    /// The table is shaped otherwise than on the other nodes.
    Unlike,
    /// No other node has the table to compare with.
    Alone,
    /// The position that was given is none of this engine.
    Position,
    /// It was told to stop.
    Interrupted,
}

impl FaultKind {
    /// All of them.
    pub const ALL: [Self; 16] = [
        Self::Other,
        Self::NoHost,
        Self::Refused,
        Self::NoAnswer,
        Self::Password,
        Self::NoDatabase,
        Self::NotAllowed,
        Self::Tls,
        Self::Full,
        Self::NoTable,
        Self::NotSupported,
        Self::NotTold,
        Self::Unlike,
        Self::Alone,
        Self::Position,
        Self::Interrupted,
    ];

    /// Nobody answered at all. Whoever refuses somebody is there.
    #[must_use]
    pub fn is_silence(self) -> bool {
        matches!(self, Self::NoHost | Self::Refused | Self::NoAnswer)
    }

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
            Self::NotTold => "not_told",
            Self::Unlike => "unlike",
            Self::Alone => "alone",
            Self::Position => "no_position",
            Self::Interrupted => "interrupted",
        }
    }
}

impl ReadFault {
    /// Something is wrong.
    #[must_use]
    pub fn new(what: impl Into<String>, advice: impl Into<String>) -> Self {
        Self { what: what.into(), advice: advice.into(), kind: FaultKind::Other }
    }

    /// Of this kind.
    #[must_use]
    pub fn of(mut self, kind: FaultKind) -> Self {
        self.kind = kind;
        self
    }

    /// The fault of a node, by its name.
    #[must_use]
    pub fn at(mut self, node: &str) -> Self {
        self.what = format!("{node}: {}", self.what);
        self
    }

    /// Something that a node does not tell.
    #[must_use]
    pub fn not_told(what: impl Into<String>) -> Self {
        Self::new(what, "").of(FaultKind::NotTold)
    }

    /// Whether it ended because it was told to, not because something is wrong.
    #[must_use]
    pub fn is_interrupted(&self) -> bool {
        self.kind == FaultKind::Interrupted
    }

    /// It was told to stop.
    #[must_use]
    pub fn interrupted() -> Self {
        Self {
            what: "interrupted".to_owned(),
            advice: "run it again".to_owned(),
            kind: FaultKind::Interrupted,
        }
    }
}

impl From<RowFault> for ReadFault {
    fn from(fault: RowFault) -> Self {
        Self::new(fault.to_string(), "check the node's own integrity before anything else")
    }
}
