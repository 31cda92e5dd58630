//! Adapters: how the rows of real nodes reach the core, and the audit that drives them.
//!
//! - [`sqlite`]: SQLite files, read-only, one transaction each.
//! - [`memory`]: tables in memory, for tests and as the plainest example of an adapter.
//! - [`audit`]: one thread per node, bounded channels, one comparison.

pub mod audit;
pub mod memory;
pub mod sqlite;
