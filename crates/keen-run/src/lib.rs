//! Adapters: how the rows of real nodes reach the core, and the audit that drives them.
//!
//! - [`sqlite`]: SQLite files, read-only, one transaction each.
//! - [`postgres`]: PostgreSQL servers, by binary COPY in one transaction.
//! - [`mariadb`]: MariaDB servers, by their binary protocol in one snapshot.
//! - [`server`]: what servers have in common: passwords, TLS, limits.
//! - [`memory`]: tables in memory, for tests and as the plainest example of an adapter.
//! - [`audit`]: one thread per node, bounded channels, one comparison.
//! - [`preflight`]: one thread per node looks around.
//! - [`links`]: one connection per node looks at its links, again and again.
//! - [`probe`]: a marked row is written here and watched for there.
//! - [`conflicts`]: every journal is read, and writes that collide are judged.
//! - [`journal_file`]: journals that were exported to files.
//! - [`rows_aside`]: divergent rows on disk until a plan asks for them.
//! - [`rows_by_key`]: some rows of a table, looked at once more.
//! - [`ledger`]: the file in which runs keep what they saw.

pub mod audit;
pub mod conflicts;
pub mod ledger;
pub mod links;
pub mod opener;
pub mod owed;
pub mod preflight;
pub mod probe;
pub mod rows_by_key;
pub mod spool;
pub mod tables;

use keen_core::fault::ReadFault;

/// What a node comes to when the thread that worked on it fell over: nothing is claimed of it.
#[must_use]
pub fn fell_over(doing: &str) -> ReadFault {
    ReadFault::new(
        format!("{doing} failed inside keen"),
        "this is a defect of keen: please report it",
    )
}
