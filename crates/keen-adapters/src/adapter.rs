//! An adapter: one kind of node, by the engine that an address names, and how each of its ports is opened.
//!
//! A port that an adapter lacks answers "not supported here" with a reason, which every command shows as any other
//! fault of that node. [`crate::ADAPTERS`] is the table of all of them.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::plan::copy::{GiveCopy, TakeCopy};
use keen_core::plan::port::WriteSteps;
use keen_core::ports::{
    JournalNeeds, LookAtLinks, LookAtNode, ReadJournal, ReadRows, TellLastWrites, WriteProbe,
};
use keen_core::setup::port::ChangeSetup;
use keen_core::topology::{Address, Engine, Node, ServerAddress};

use crate::server::{Access, Password};

/// Where a node is opened, as whom, and how long that may take.
#[derive(Clone)]
pub struct Site<'a> {
    /// The node, as the topology has it.
    pub node: &'a Node,
    /// The one of its addresses.
    pub address: &'a Address,
    /// The folder that relative paths start at.
    pub base: &'a Path,
    /// Who logs in, if that is not the account of the address.
    pub user: Option<&'a str>,
    /// Finds the password of its account.
    pub password: &'a dyn Fn() -> Result<Option<Password>, ReadFault>,
    /// How long a connection or a lock is waited for.
    pub wait: Duration,
    /// How long an answer is waited for.
    pub silence: Duration,
    /// Page cache of a file, in KiB.
    pub cache_kib: u32,
    /// The number to read a binary log as; 0 lets the adapter choose.
    pub reader: u32,
    /// The table of heartbeats as the node calls it.
    pub heartbeat: Option<&'a str>,
    /// Whether links lead to the node.
    pub receives: bool,
    /// Raised to stop whatever is being done.
    pub stop: Arc<AtomicBool>,
}

impl Site<'_> {
    /// The server of the address, and how to log in to it.
    ///
    /// # Errors
    /// [`ReadFault`] when the address is no server's, or the password cannot be found.
    pub fn access(&self) -> Result<Access, ReadFault> {
        let Address::Server(server) = self.address else {
            return Err(self.unfit("is a file, not a server"));
        };
        let mut server = ServerAddress::clone(server);
        if let Some(user) = self.user {
            user.clone_into(&mut server.user);
        }
        let access = Access {
            server,
            password: (self.password)()?,
            tls: self.node.tls.clone(),
            base: self.base.to_owned(),
            wait: self.wait,
            silence: self.silence,
            stop: Arc::clone(&self.stop),
        };
        tracing::debug!(node = self.node.name, address = access.shown(), "connecting");
        Ok(access)
    }

    /// The file of the address. What is no ordinary file is refused: a pipe or a device would be waited for, or
    /// never end.
    ///
    /// # Errors
    /// [`ReadFault`] when the address is no file's, or something else is there.
    pub fn file(&self) -> Result<PathBuf, ReadFault> {
        let Address::Sqlite(path) = self.address else {
            return Err(self.unfit("is a server, not a file"));
        };
        let path = self.base.join(path);
        ordinary(&path)?;
        tracing::debug!(node = self.node.name, path = %path.display(), "opening");
        Ok(path)
    }

    fn unfit(&self, why: &str) -> ReadFault {
        ReadFault::new(format!("{} {why}", self.node.name), "correct its address")
    }
}

/// Refuses what is no ordinary file.
///
/// # Errors
/// [`ReadFault`] when something else is there.
pub fn ordinary(path: &Path) -> Result<(), ReadFault> {
    match path.metadata() {
        Ok(found) if !found.is_file() && !found.is_dir() => Err(ReadFault::new(
            format!("{} is not an ordinary file", path.display()),
            "name the file itself in the topology",
        )),
        _ => Ok(()),
    }
}

/// One kind of node. Whatever it does not say is not supported there.
pub trait Adapter: Sync {
    /// The engine of its nodes.
    fn engine(&self) -> Engine;

    /// Opens a node to read its rows.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be opened, or that is not supported.
    fn rows(&self, _site: &Site<'_>) -> Result<Box<dyn ReadRows>, ReadFault> {
        Err(self.lacks("reading rows"))
    }

    /// Opens a node to look at how it is set up.
    ///
    /// # Errors
    /// As [`Adapter::rows`].
    fn inspect(&self, _site: &Site<'_>) -> Result<Box<dyn LookAtNode>, ReadFault> {
        Err(self.lacks("looking at the set-up"))
    }

    /// Opens a node to look at its links again and again.
    ///
    /// # Errors
    /// As [`Adapter::rows`].
    fn links(&self, _site: &Site<'_>) -> Result<Box<dyn LookAtLinks + Send>, ReadFault> {
        Err(self.lacks("looking at links"))
    }

    /// Opens a node to write a probe's row to `table`, as the sets name it.
    ///
    /// # Errors
    /// As [`Adapter::rows`].
    fn probe(
        &self,
        _site: &Site<'_>,
        _table: &str,
    ) -> Result<Box<dyn WriteProbe + Send>, ReadFault> {
        Err(self.lacks("writing a probe"))
    }

    /// Opens a node to write the steps of a plan to it.
    ///
    /// # Errors
    /// As [`Adapter::rows`].
    fn write(&self, _site: &Site<'_>) -> Result<Box<dyn WriteSteps>, ReadFault> {
        Err(self.lacks("writing steps"))
    }

    /// Opens a node to copy its tables from it.
    ///
    /// # Errors
    /// As [`Adapter::rows`].
    fn give(&self, _site: &Site<'_>) -> Result<Box<dyn GiveCopy + Send>, ReadFault> {
        Err(self.lacks("copying tables from a node"))
    }

    /// Opens a node to copy tables to it.
    ///
    /// # Errors
    /// As [`Adapter::rows`].
    fn take(&self, _site: &Site<'_>) -> Result<Box<dyn TakeCopy>, ReadFault> {
        Err(self.lacks("copying tables to a node"))
    }

    /// Opens a node to read values of its set-up and to change them.
    ///
    /// # Errors
    /// As [`Adapter::rows`].
    fn setup(&self, _site: &Site<'_>) -> Result<Box<dyn ChangeSetup>, ReadFault> {
        Err(self.lacks("changing the set-up"))
    }

    /// Opens a node's journal. The tables are named as the sets do, and as the node does.
    ///
    /// # Errors
    /// As [`Adapter::rows`].
    fn journal(
        &self,
        _site: &Site<'_>,
        _tables: &[(String, String)],
    ) -> Result<Box<dyn ReadJournal + Send>, ReadFault> {
        Err(self.lacks("reading a journal"))
    }

    /// The rights, slot and publication that reading a node's journal still needs; tables are named as it does.
    ///
    /// # Errors
    /// As [`Adapter::rows`].
    fn journal_needs(
        &self,
        _site: &Site<'_>,
        _tables: &[String],
    ) -> Result<JournalNeeds, ReadFault> {
        Ok(JournalNeeds::Nothing)
    }

    /// Opens a node to ask its rows for their last writes.
    ///
    /// # Errors
    /// As [`Adapter::rows`].
    fn last_writes(&self, _site: &Site<'_>) -> Result<Box<dyn TellLastWrites + Send>, ReadFault> {
        Err(self.lacks("asking rows for their last writes"))
    }

    /// The account that logs in, as the engine's statements name it; none where the address tells.
    ///
    /// # Errors
    /// [`ReadFault`] when the node cannot be asked.
    fn account(&self, _site: &Site<'_>) -> Result<Option<String>, ReadFault> {
        Ok(None)
    }

    /// That a port is not there.
    fn lacks(&self, port: &str) -> ReadFault {
        let engine = self.engine().name();
        ReadFault::new(
            format!("{port} is not supported here: the adapter of {engine} has no such port"),
            "leave the node out with --node, or do without",
        )
        .of(FaultKind::NotSupported)
    }
}
