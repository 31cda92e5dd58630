//! What changing a node's set-up needs from the node.

use super::{SetupChange, Subject};
use crate::fault::ReadFault;

/// A node whose set-up is read and changed, value by value.
pub trait ChangeSetup {
    /// The account, in a few words; nothing of a file.
    fn about(&self) -> String;

    /// The state of a value; none where there is none.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be read, or is none of this engine.
    fn state(&mut self, subject: &Subject) -> Result<Option<String>, ReadFault>;

    /// The right that the account lacks to change a value, where that can be told without trying.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be asked.
    fn lacks(&mut self, _subject: &Subject) -> Result<Option<String>, ReadFault> {
        Ok(None)
    }

    /// Makes a change. What it did not get to is seen by reading again.
    ///
    /// # Errors
    /// [`ReadFault`] when the node refuses, or nobody knows.
    fn change(&mut self, change: &SetupChange) -> Result<(), ReadFault>;
}
