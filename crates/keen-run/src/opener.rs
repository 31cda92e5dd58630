//! How runs open nodes: functions that the caller brings.

use keen_core::fault::ReadFault;
use keen_core::ports::{ReadJournal, ReadRows};
use keen_core::topology::NodeId;

/// A journal that can be read on a thread of its own.
pub type Journal = Box<dyn ReadJournal + Send>;

/// Opens a node to read its rows.
pub type OpenRows<'a> = dyn Fn(NodeId) -> Result<Box<dyn ReadRows>, ReadFault> + Sync + 'a;

/// Opens a node's journal. The tables are named as the sets do, and as the node does.
pub type OpenJournal<'a> =
    dyn Fn(NodeId, &[(String, String)]) -> Result<Journal, ReadFault> + Sync + 'a;
