//! PostgreSQL servers as an adapter.

use keen_core::fault::ReadFault;
use keen_core::plan::copy::{GiveCopy, TakeCopy};
use keen_core::plan::port::WriteSteps;
use keen_core::ports::{
    JournalNeeds, LookAtLinks, LookAtNode, ReadJournal, ReadRows, TellLastWrites, WriteProbe,
};
use keen_core::setup::port::ChangeSetup;
use keen_core::topology::Engine;

use super::{
    PostgresGiver, PostgresJournal, PostgresLastWrites, PostgresLinks, PostgresNode, PostgresProbe,
    PostgresSetup, PostgresTaker, PostgresWriter, journal_setup,
};
use crate::adapter::{Adapter, Site};

/// PostgreSQL servers.
#[derive(Debug, Clone, Copy)]
pub struct PostgresAdapter;

impl Adapter for PostgresAdapter {
    fn engine(&self) -> Engine {
        Engine::Postgres
    }

    fn rows(&self, site: &Site<'_>) -> Result<Box<dyn ReadRows>, ReadFault> {
        Ok(Box::new(PostgresNode::open(&site.access()?)?))
    }

    fn inspect(&self, site: &Site<'_>) -> Result<Box<dyn LookAtNode>, ReadFault> {
        Ok(Box::new(PostgresNode::open(&site.access()?)?))
    }

    fn links(&self, site: &Site<'_>) -> Result<Box<dyn LookAtLinks + Send>, ReadFault> {
        Ok(Box::new(PostgresLinks::open(&site.access()?, site.heartbeat)?))
    }

    fn write(&self, site: &Site<'_>) -> Result<Box<dyn WriteSteps>, ReadFault> {
        Ok(Box::new(PostgresWriter::open(&site.access()?)?))
    }

    fn give(&self, site: &Site<'_>) -> Result<Box<dyn GiveCopy + Send>, ReadFault> {
        Ok(Box::new(PostgresGiver::new(site.access()?)))
    }

    fn take(&self, site: &Site<'_>) -> Result<Box<dyn TakeCopy>, ReadFault> {
        Ok(Box::new(PostgresTaker::open(&site.access()?)?))
    }

    fn setup(&self, site: &Site<'_>) -> Result<Box<dyn ChangeSetup>, ReadFault> {
        Ok(Box::new(PostgresSetup::open(&site.access()?)?))
    }

    fn probe(&self, site: &Site<'_>, table: &str) -> Result<Box<dyn WriteProbe + Send>, ReadFault> {
        Ok(Box::new(PostgresProbe::open(&site.access()?, site.node.name_of(table))?))
    }

    fn journal(
        &self,
        site: &Site<'_>,
        tables: &[(String, String)],
    ) -> Result<Box<dyn ReadJournal + Send>, ReadFault> {
        Ok(Box::new(PostgresJournal::open(&site.access()?, &site.node.name, tables)?))
    }

    fn journal_needs(&self, site: &Site<'_>, tables: &[String]) -> Result<JournalNeeds, ReadFault> {
        journal_setup(&site.access()?, tables).map(JournalNeeds::Slot)
    }

    fn last_writes(&self, site: &Site<'_>) -> Result<Box<dyn TellLastWrites + Send>, ReadFault> {
        Ok(Box::new(PostgresLastWrites::open(&site.access()?)?))
    }
}
