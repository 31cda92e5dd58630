//! Exit codes, the same for every command. The README has this table too.

use std::process::ExitCode;

/// What a run of keen comes to.
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

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(match exit {
            Exit::Agree => 0,
            Exit::Found => 1,
            Exit::Wrong => 2,
            Exit::Incomplete => 3,
            Exit::Interrupted => 130,
        })
    }
}
