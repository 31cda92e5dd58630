//! Exit codes, the same for every command. The README has this table too.

use std::process::ExitCode;

/// The result of a run of keen as a whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Exit {
    /// 0: everything was checked and all agree.
    Agree,
    /// 1: something was found.
    Found,
    /// 2: the request or the file is wrong.
    Wrong,
    /// 3: not everything could be checked, and nothing was found in what was.
    Incomplete,
    /// 130: interrupted before the end.
    Interrupted,
}

impl Exit {
    /// The number.
    pub(crate) fn code(self) -> u8 {
        match self {
            Self::Agree => 0,
            Self::Found => 1,
            Self::Wrong => 2,
            Self::Incomplete => 3,
            Self::Interrupted => 130,
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.code())
    }
}
