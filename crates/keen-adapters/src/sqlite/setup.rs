//! Reading and changing the set-up of a node of the stand-in network: the tables by which its replicator is told what
//! to do. A file outside of such a network has no set-up.

use std::path::Path;

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::setup::port::{ChangeSetup, LinkPassword};
use keen_core::setup::{SetupChange, Subject, YES, spell, switch_state};
use keen_core::topology::Engine;
use rusqlite::{OptionalExtension as _, params};

use super::{Options, SqliteWriter, queries};
use crate::server::made;

/// A node of the stand-in network whose set-up is changed.
#[derive(Debug)]
pub struct SqliteSetup {
    file: SqliteWriter,
    /// The name of the node in the topology.
    name: String,
}

impl SqliteSetup {
    /// Opens a file for writing.
    ///
    /// # Errors
    /// [`ReadFault`] when it is not there, cannot be written, or is no node of a stand-in network.
    pub fn open(path: &Path, name: &str, options: &Options) -> Result<Self, ReadFault> {
        let file = SqliteWriter::open(path, options)?;
        let doing = "look for the stand-in";
        let there: Result<bool, _> =
            file.connection.query_row(queries::LAB_IS_THERE, [], |row| row.get(0));
        if !there.map_err(|error| file.explain(doing, &error))? {
            let nothing =
                "SQLite keeps no set-up, and nothing of a stand-in network is in the file";
            return Err(ReadFault::not_told(nothing).of(FaultKind::NotSupported));
        }
        Ok(Self { file, name: name.to_owned() })
    }

    /// One text of one row; none if there is no row.
    fn text(&self, sql: &str, bound: impl rusqlite::Params) -> Result<Option<String>, ReadFault> {
        let found = self.file.connection.query_row(sql, bound, |row| row.get(0)).optional();
        Ok(found.map_err(|error| self.file.explain("read its set-up", &error))?.flatten())
    }
}

impl ChangeSetup for SqliteSetup {
    fn about(&self) -> String {
        String::new()
    }

    fn state(&mut self, subject: &Subject) -> Result<Option<String>, ReadFault> {
        match subject {
            Subject::NewLink(new) => self.state(&new.there()),
            Subject::Setting { name } => self.text(queries::LAB_SETTING, [name]),
            Subject::LinkSwitch { link } => {
                let state = self.text(queries::LAB_LINK_STATE, [link])?;
                Ok(state.map(|state| match &state[..] {
                    "running" => switch_state(true, true).to_owned(),
                    "cut" => switch_state(false, true).to_owned(),
                    _ => switch_state(false, false).to_owned(),
                }))
            }
            Subject::Link { link } => {
                let source = self.text(queries::LAB_LINK_SOURCE, [link])?;
                Ok(source.map(|source| format!("from {source}")))
            }
            // The place in the journal where the node itself made its last write.
            Subject::OwnWrites => {
                let last = self.text(queries::LAB_LAST_OWN_WRITE, [&self.name])?;
                Ok(last.map(|last| format!("{last} {}", self.name)))
            }
            Subject::HeldState { state } => {
                let Some((position, origin)) = state.split_once(' ') else { return Ok(None) };
                let held = self.text(queries::LAB_HAS_WRITE, params![origin, position])?;
                Ok(held.map(|_| YES.to_owned()))
            }
            other => Err(ReadFault::not_told(format!("the stand-in has no such thing as {other}"))),
        }
    }

    fn change(&mut self, change: &SetupChange) -> Result<(), ReadFault> {
        let statements = spell::statements(Engine::Sqlite, change)
            .map_err(|why| ReadFault::new(why, "plan again"))?;
        statements.iter().try_for_each(|sql| self.file.execute("change its set-up", sql))
    }

    fn make_link(
        &mut self,
        change: &SetupChange,
        password: Option<&LinkPassword>,
    ) -> Result<(), ReadFault> {
        let statement = made(Engine::Sqlite, change, password)?;
        self.file.execute("make a link", &statement)
    }
}
