//! SQLite files as an adapter.

use std::sync::Arc;

use keen_core::fault::ReadFault;
use keen_core::plan::copy::{GiveCopy, TakeCopy};
use keen_core::plan::port::WriteSteps;
use keen_core::ports::{LookAtLinks, LookAtNode, ReadJournal, ReadRows, WriteProbe};
use keen_core::setup::port::ChangeSetup;
use keen_core::topology::Engine;

use super::{
    Options, SqliteGiver, SqliteJournal, SqliteLinks, SqliteNode, SqliteProbe, SqliteSetup,
    SqliteTaker, SqliteWriter,
};
use crate::adapter::{Adapter, Site};

/// SQLite files.
#[derive(Debug, Clone, Copy)]
pub struct SqliteAdapter;

fn options(site: &Site<'_>) -> Options {
    Options { lock_wait: site.wait, cache_kib: site.cache_kib, stop: Arc::clone(&site.stop) }
}

impl Adapter for SqliteAdapter {
    fn engine(&self) -> Engine {
        Engine::Sqlite
    }

    fn rows(&self, site: &Site<'_>) -> Result<Box<dyn ReadRows>, ReadFault> {
        Ok(Box::new(SqliteNode::open(&site.file()?, &options(site))?))
    }

    fn inspect(&self, site: &Site<'_>) -> Result<Box<dyn LookAtNode>, ReadFault> {
        Ok(Box::new(SqliteNode::open(&site.file()?, &options(site))?))
    }

    fn links(&self, site: &Site<'_>) -> Result<Box<dyn LookAtLinks + Send>, ReadFault> {
        let name = site.node.name.clone();
        let links = SqliteLinks::new(site.file()?, name, site.receives, options(site));
        Ok(Box::new(links.with_beats(site.heartbeat)))
    }

    fn write(&self, site: &Site<'_>) -> Result<Box<dyn WriteSteps>, ReadFault> {
        Ok(Box::new(SqliteWriter::open(&site.file()?, &options(site))?))
    }

    fn setup(&self, site: &Site<'_>) -> Result<Box<dyn ChangeSetup>, ReadFault> {
        Ok(Box::new(SqliteSetup::open(&site.file()?, &site.node.name, &options(site))?))
    }

    fn give(&self, site: &Site<'_>) -> Result<Box<dyn GiveCopy + Send>, ReadFault> {
        Ok(Box::new(SqliteGiver::new(&site.file()?, options(site))))
    }

    fn take(&self, site: &Site<'_>) -> Result<Box<dyn TakeCopy>, ReadFault> {
        Ok(Box::new(SqliteTaker::open(&site.file()?, &options(site))?))
    }

    fn probe(&self, site: &Site<'_>, table: &str) -> Result<Box<dyn WriteProbe + Send>, ReadFault> {
        let names = (table, site.node.name_of(table));
        let probe = SqliteProbe::open(&site.file()?, &site.node.name, names, &options(site))?;
        Ok(Box::new(probe))
    }

    fn journal(
        &self,
        site: &Site<'_>,
        tables: &[(String, String)],
    ) -> Result<Box<dyn ReadJournal + Send>, ReadFault> {
        let names = tables.iter().map(|(name, _)| name.clone());
        let file = site.file()?;
        Ok(Box::new(SqliteJournal::open(&file, &site.node.name, names, &options(site))?))
    }
}
