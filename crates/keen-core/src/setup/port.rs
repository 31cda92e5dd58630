//! What changing a node's set-up needs from the node.

use std::fmt;

use super::{SetupChange, Subject};
use crate::fault::ReadFault;

/// The password by which a node follows another. It is never printed.
#[derive(Clone)]
pub struct LinkPassword(String);

impl LinkPassword {
    /// Takes a password.
    #[must_use]
    pub fn new(text: String) -> Self {
        Self(text)
    }

    /// Its text, for the statement that makes a link.
    #[must_use]
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for LinkPassword {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("LinkPassword(…)")
    }
}

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

    /// Makes a link, switched off, with the password of its source.
    ///
    /// # Errors
    /// As [`ChangeSetup::change`].
    fn make_link(
        &mut self,
        change: &SetupChange,
        _password: Option<&LinkPassword>,
    ) -> Result<(), ReadFault> {
        Err(ReadFault::not_told(format!("keen makes no links here: {}", change.subject)))
    }
}
