//! Runs over the nodes of a topology: what is read from each, side by side, and what becomes of it. Runs know ports,
//! and no adapter.
//!
//! - [`opener`]: how a run opens a node, without knowing what kind it is.
//! - [`fan_out`]: work for several nodes side by side.
//! - [`tables`]: the tables of the sets as the nodes have them.
//! - [`audit`]: one thread per node, bounded channels, one comparison.
//! - [`rows_by_key`]: some rows of a table, looked at once more.
//! - [`preflight`]: each node is looked at, step by step.
//! - [`links`]: one connection per node looks at its links, again and again.
//! - [`probe`]: a marked row is written here and watched for there.
//! - [`conflicts`]: every journal is read, and writes that collide are judged.
//! - [`owed`]: the writes that a receiver lacks.
//! - [`spool`]: rows on disk until they are asked for.
//! - [`mend`]: a plan is carried out, batch by batch, or taken back.
//! - [`ledger`]: what runs keep of what they found.

pub mod audit;
pub mod conflicts;
pub mod fan_out;
pub mod ledger;
pub mod links;
pub mod mend;
pub mod opener;
pub mod owed;
pub mod preflight;
pub mod probe;
pub mod rows_by_key;
pub mod spool;
pub mod tables;
