//! The states of a link, and what each of them means.

/// How a link is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum LinkState {
    /// The receiver stopped on an error that needs a hand.
    Broken,
    /// Behind, and nothing is applied.
    Stalled,
    /// The receiver does not reach its source.
    Cut,
    /// Declared, and the nodes know of none.
    Absent,
    /// Behind by more than the limit, and applying.
    Trailing,
    /// Switched off on purpose.
    Paused,
    /// Known to the nodes, and not declared.
    Stray,
    /// One end could not be looked at.
    Dark,
    /// The receiver applies what its source writes, within the limit.
    Flowing,
    /// Nothing new, and nothing missing.
    Idle,
}

impl LinkState {
    /// All of them, the worst first.
    pub const ALL: [Self; 10] = [
        Self::Broken,
        Self::Stalled,
        Self::Cut,
        Self::Absent,
        Self::Trailing,
        Self::Paused,
        Self::Stray,
        Self::Dark,
        Self::Flowing,
        Self::Idle,
    ];

    /// Its name in results.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Broken => "broken",
            Self::Stalled => "stalled",
            Self::Cut => "cut",
            Self::Absent => "absent",
            Self::Trailing => "trailing",
            Self::Paused => "paused",
            Self::Stray => "stray",
            Self::Dark => "dark",
            Self::Flowing => "flowing",
            Self::Idle => "idle",
        }
    }

    /// The state of that name.
    #[must_use]
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|state| state.name() == name)
    }

    /// Whether a link in this state needs nobody.
    #[must_use]
    pub fn is_well(self) -> bool {
        matches!(self, Self::Flowing | Self::Idle)
    }

    /// Its meaning.
    #[must_use]
    pub fn meaning(self) -> &'static str {
        match self {
            Self::Broken => {
                "The receiver stopped on an error, or fails on it again and again, and will not get past it on its own."
            }
            Self::Stalled => {
                "The receiver is behind, both ends answer, and nothing was applied between the two looks. A configured delay is not a stall."
            }
            Self::Cut => {
                "keen reaches both ends, but the receiver does not reach its source or keeps trying to."
            }
            Self::Absent => {
                "The file declares the link, or a table that it carries, but it does not exist on the nodes: the copy no longer follows."
            }
            Self::Trailing => {
                "The receiver is behind by more than the limit and is applying; the backlog is draining, growing or steady."
            }
            Self::Paused => "The link, or half of it, was switched off. There is no error.",
            Self::Stray => {
                "A link, or a slot that nobody reads, exists on the nodes but not in the file."
            }
            Self::Dark => {
                "keen could not read one of its ends, or nothing there shows the link. Nothing is claimed."
            }
            Self::Flowing => {
                "Between the two looks the receiver applied what its source had written, within the limit."
            }
            Self::Idle => {
                "The source wrote nothing new and the receiver has everything. Silence is not a stall."
            }
        }
    }

    /// From what it is decided.
    #[must_use]
    pub fn decided(self) -> &'static str {
        match self {
            Self::Broken => {
                "MariaDB: one half of the connection has stopped with an error number. PostgreSQL: the count of failures rose between the looks, the subscription disabled itself, or the log that it needs is gone."
            }
            Self::Stalled => {
                "The receiver has not reached its source's position of the first look, its own position did not move, and it was not seen working."
            }
            Self::Cut => {
                "The receiver says that it is connecting, or has no worker, and its count of failures does not rise."
            }
            Self::Absent => {
                "The receiver answered, and none of the sources it follows is this one."
            }
            Self::Trailing => {
                "The receiver has not reached its source's position of the first look, its own position moved, and it is later than `trailing` under [limits]."
            }
            Self::Paused => "The receiver, or its applier, is stopped without an error.",
            Self::Stray => {
                "A receiver follows a source from which no link in the file leads, or nobody reads a slot."
            }
            Self::Dark => {
                "No answer within --connect-timeout, or the account is not allowed to look."
            }
            Self::Flowing => {
                "The receiver has reached its source's position of the first look, and something moved."
            }
            Self::Idle => "Neither end moved, and the receiver has what its source has.",
        }
    }

    /// Its remedy.
    #[must_use]
    pub fn remedy(self) -> &'static str {
        match self {
            Self::Broken => {
                "Read the error, find the row with keen audit, repair it, and start the link again. Skipping the write loses it."
            }
            Self::Stalled => {
                "Check what it waits for. keen flow LINK names the session that holds the lock."
            }
            Self::Cut => {
                "Check the network, the source's address, and the account and password that the receiver uses."
            }
            Self::Absent => "Set the link up again, or remove it from the file.",
            Self::Trailing => {
                "Draining: wait for the time shown. Growing: find out what the applier spends its time on, or write less."
            }
            Self::Paused => "Switch it on again once the person who paused it is done.",
            Self::Stray => "Declare it, or remove it: a slot that nobody reads fills the disk.",
            Self::Dark => "keen preflight says how far keen gets to the node.",
            Self::Flowing | Self::Idle => "Nothing.",
        }
    }
}
