//! What carrying out a plan needs from a node. It stands with the steps, above the other ports, because it takes them
//! as they are: the adapter spells them.

use super::Step;
use crate::fault::ReadFault;

/// The mark of a batch of steps: it is kept with the batch, or not at all.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct BatchMark {
    /// The run, by when it began: in seconds since 1970. A later run has a greater one.
    pub run: u32,
    /// The plan, by a part of its digest that fits into a whole number of every engine.
    pub plan: i64,
    /// The batch, from 1.
    pub batch: u32,
}

/// Why a write of a step was not made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WriteFault {
    /// The node refuses this write; others may still be made.
    Refused(ReadFault),
    /// Somebody else holds a lock that it needs.
    Locked(ReadFault),
    /// Nothing more can be written to the node.
    Lost(ReadFault),
}

impl WriteFault {
    /// The attempt, what came back, and the remedy.
    #[must_use]
    pub fn fault(&self) -> &ReadFault {
        match self {
            Self::Refused(fault) | Self::Locked(fault) | Self::Lost(fault) => fault,
        }
    }
}

/// A node to which the steps of a plan are written, batch by batch: each in one transaction, kept out of the node's
/// replication, without triggers and cascades where the engine lets it.
pub trait WriteSteps {
    /// The account and how its writes are kept out of replication, in a few words; nothing of a file.
    fn about(&self) -> String;

    /// Begins a batch; without a mark one that is only tried and will be rolled back.
    ///
    /// # Errors
    /// [`ReadFault`] when the node does not let it, or lost it.
    fn begin(&mut self, mark: Option<BatchMark>) -> Result<(), ReadFault>;

    /// Makes the write of a step. How many rows it changed: none if the row is not as the step expects it.
    ///
    /// # Errors
    /// [`WriteFault`]; what the batch wrote before is then gone, and it has to be rolled back.
    fn write(&mut self, step: &Step) -> Result<u64, WriteFault>;

    /// Of steps that were written in this batch, those after which a reference leads nowhere, by their places in the
    /// list, and what is said of each.
    ///
    /// # Errors
    /// [`ReadFault`] when that cannot be asked.
    fn dangling(&mut self, steps: &[&Step]) -> Result<Vec<(usize, String)>, ReadFault>;

    /// The number of the batch's transaction, where the engine tells later what became of it. Asked once the batch is
    /// written.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be asked.
    fn transaction(&mut self) -> Result<Option<String>, ReadFault> {
        Ok(None)
    }

    /// Keeps the batch and its mark.
    ///
    /// # Errors
    /// [`ReadFault`] when it was not kept, or when nobody knows.
    fn commit(&mut self) -> Result<(), ReadFault>;

    /// Forgets the batch.
    ///
    /// # Errors
    /// [`ReadFault`] when the node no longer answers.
    fn roll_back(&mut self) -> Result<(), ReadFault>;

    /// Whether a batch was kept, by its mark and the number of its transaction; none where the node no longer knows.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be asked.
    fn was_kept(
        &mut self,
        mark: BatchMark,
        transaction: Option<&str>,
    ) -> Result<Option<bool>, ReadFault>;

    /// Forgets the marks of a plan that is carried out, of all its runs and batches.
    ///
    /// # Errors
    /// [`ReadFault`] when the node refuses.
    fn forget(&mut self, mark: BatchMark) -> Result<(), ReadFault>;
}
