//! The stand-in network: SQLite nodes with applications that write and a
//! replicator that carries changes over the links of a topology.
//!
//! It is small and honest about its faults: it can be paused, delayed, cut,
//! made to lose, duplicate or reorder a change and to let two nodes write the
//! same row at once, and it records the truth of what it did wrong. It runs in
//! steps, without sleeping, and the same seed gives the same files.
//!
//! - [`network`]: the network itself.
//! - [`journal`]: what each node applied, in which order, from which origin.
//! - [`truth`]: what went wrong on purpose.
//! - [`story`]: the demo's refuge huts.
//! - `servers` (a feature): real PostgreSQL and MariaDB servers, started for a test and gone after it.

mod carry;
pub mod handover;
pub mod journal;
pub mod network;
pub mod story;
pub mod truth;

pub use network::{Change, Lab, LabError, Tx};
