//! The states of a link, and what each of them means.

/// How a link is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum State {
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

impl State {
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

    /// What it means.
    #[must_use]
    pub fn meaning(self) -> &'static str {
        match self {
            Self::Broken => {
                "The receiver stopped on an error, or fails at it again and again, and will not get past it by itself."
            }
            Self::Stalled => {
                "The receiver is behind, both ends answer, and nothing was applied between the looks. A delay on purpose is not a stall."
            }
            Self::Cut => {
                "keen reaches both ends, and the receiver does not reach its source, or keeps trying."
            }
            Self::Absent => {
                "The file declares the link, or a table that it carries, and the nodes know of none: a copy that no longer follows."
            }
            Self::Trailing => {
                "The receiver is behind by more than the limit and applies: draining, growing or keeping its distance."
            }
            Self::Paused => "Somebody switched the link off, or one half of it. There is no error.",
            Self::Stray => {
                "The nodes know of a link, or of a slot that holds back log, and the file declares none such."
            }
            Self::Dark => {
                "keen could not look at one of its ends, or nothing there tells of the link. Nothing is claimed."
            }
            Self::Flowing => {
                "Between the looks the receiver applied what its source had, within the limit."
            }
            Self::Idle => {
                "The source wrote nothing new and the receiver has everything: silence is not a stall."
            }
        }
    }

    /// From what it is decided.
    #[must_use]
    pub fn decided(self) -> &'static str {
        match self {
            Self::Broken => {
                "MariaDB: a half of the connection stands still with an error number. PostgreSQL: the count of failures rose between the looks, or the subscription switched itself off, or the log it needs is gone."
            }
            Self::Stalled => {
                "The receiver has not passed where its source was at the first look, its own position did not move, and it was not seen at work."
            }
            Self::Cut => {
                "The receiver says that it is connecting, or has no worker, and its count of failures stands still."
            }
            Self::Absent => {
                "The receiver answered, and nothing that it follows leads to that source."
            }
            Self::Trailing => {
                "The receiver has not passed where its source was at the first look, its position moved, and it is later than `trailing` under [limits]."
            }
            Self::Paused => "The receiver, or its applier, is stopped without an error.",
            Self::Stray => {
                "A receiver names a source that no link of the file leads from, or nobody reads a slot."
            }
            Self::Dark => {
                "No answer within --connect-timeout, or the account is not allowed to look."
            }
            Self::Flowing => {
                "The receiver passed where its source was at the first look, and something moved."
            }
            Self::Idle => {
                "Both ends are where they were, and the receiver has what its source has."
            }
        }
    }

    /// What to do about it.
    #[must_use]
    pub fn remedy(self) -> &'static str {
        match self {
            Self::Broken => {
                "Read the error, find the row with keen audit, put it right, start the link again. Skipping the write loses it."
            }
            Self::Stalled => {
                "Look at what it waits for. keen flow LINK names the session that holds the lock."
            }
            Self::Cut => {
                "Look at the network, the source's address, and the account and password that the receiver uses."
            }
            Self::Absent => "Set the link up again, or take it out of the file.",
            Self::Trailing => {
                "Draining: wait for the time that is shown. Growing: find what the applier spends its time on, or write less."
            }
            Self::Paused => "Switch it on again when whoever paused it is done.",
            Self::Stray => "Declare it, or take it away: a slot that nobody reads fills the disk.",
            Self::Dark => "keen preflight says how far keen gets to the node.",
            Self::Flowing | Self::Idle => "Nothing.",
        }
    }
}
