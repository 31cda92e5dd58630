//! MariaDB servers as an adapter.

use keen_core::fault::ReadFault;
use keen_core::plan::copy::{GiveCopy, TakeCopy};
use keen_core::plan::port::WriteSteps;
use keen_core::ports::{JournalNeeds, LookAtLinks, LookAtNode, ReadJournal, ReadRows, WriteProbe};
use keen_core::setup::port::ChangeSetup;
use keen_core::topology::Engine;

use super::{
    MariaDbGiver, MariaDbJournal, MariaDbLinks, MariaDbNode, MariaDbProbe, MariaDbSetup,
    MariaDbTaker, MariaDbWriter,
};
use crate::adapter::{Adapter, Site};

/// MariaDB servers.
#[derive(Debug, Clone, Copy)]
pub struct MariaDbAdapter;

impl Adapter for MariaDbAdapter {
    fn engine(&self) -> Engine {
        Engine::MariaDb
    }

    fn rows(&self, site: &Site<'_>) -> Result<Box<dyn ReadRows>, ReadFault> {
        Ok(Box::new(MariaDbNode::open(&site.access()?)?))
    }

    fn inspect(&self, site: &Site<'_>) -> Result<Box<dyn LookAtNode>, ReadFault> {
        Ok(Box::new(MariaDbNode::open(&site.access()?)?))
    }

    fn links(&self, site: &Site<'_>) -> Result<Box<dyn LookAtLinks + Send>, ReadFault> {
        Ok(Box::new(MariaDbLinks::open(&site.access()?, site.heartbeat)?))
    }

    fn write(&self, site: &Site<'_>) -> Result<Box<dyn WriteSteps>, ReadFault> {
        Ok(Box::new(MariaDbWriter::open(&site.access()?)?))
    }

    fn give(&self, site: &Site<'_>) -> Result<Box<dyn GiveCopy + Send>, ReadFault> {
        Ok(Box::new(MariaDbGiver::new(site.access()?)))
    }

    fn take(&self, site: &Site<'_>) -> Result<Box<dyn TakeCopy>, ReadFault> {
        Ok(Box::new(MariaDbTaker::open(&site.access()?)?))
    }

    fn setup(&self, site: &Site<'_>) -> Result<Box<dyn ChangeSetup>, ReadFault> {
        Ok(Box::new(MariaDbSetup::open(&site.access()?)?))
    }

    fn probe(&self, site: &Site<'_>, table: &str) -> Result<Box<dyn WriteProbe + Send>, ReadFault> {
        Ok(Box::new(MariaDbProbe::open(&site.access()?, site.node.name_of(table))?))
    }

    fn journal(
        &self,
        site: &Site<'_>,
        tables: &[(String, String)],
    ) -> Result<Box<dyn ReadJournal + Send>, ReadFault> {
        Ok(Box::new(MariaDbJournal::open(&site.access()?, tables, site.reader)?))
    }

    fn journal_needs(&self, site: &Site<'_>, _: &[String]) -> Result<JournalNeeds, ReadFault> {
        super::journal_needs(&site.access()?)
    }

    fn account(&self, site: &Site<'_>) -> Result<Option<String>, ReadFault> {
        super::account(&site.access()?).map(Some)
    }
}
