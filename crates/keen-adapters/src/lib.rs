//! Adapters: how nodes of each engine, and files, reach the core. Each module implements the ports of `keen_core::ports` that its kind of node has.
//!
//! - [`adapter`]: what an adapter is; [`ADAPTERS`] has one for each engine.
//! - [`sqlite`]: SQLite files, read-only, one transaction each.
//! - [`postgres`]: PostgreSQL servers, by binary COPY in one transaction.
//! - [`mariadb`]: MariaDB servers, by their binary protocol in one snapshot.
//! - [`files`]: journals that were exported to files.
//! - [`memory`]: tables in memory, for tests and as the plainest example of an adapter.
//! - [`server`]: what servers have in common: passwords, TLS, limits.

pub mod adapter;
mod cells;
pub mod files;
#[cfg(feature = "servers")]
pub mod mariadb;
pub mod memory;
#[cfg(feature = "servers")]
pub mod postgres;
pub mod server;
pub mod sqlite;
#[cfg(feature = "servers")]
mod tls;

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::topology::Engine;

/// The adapters, one for each engine. Another engine is one more line.
pub static ADAPTERS: &[&dyn adapter::Adapter] = &[
    &sqlite::SqliteAdapter,
    #[cfg(feature = "servers")]
    &postgres::PostgresAdapter,
    #[cfg(feature = "servers")]
    &mariadb::MariaDbAdapter,
];

/// The adapter of an engine.
///
/// # Errors
/// [`ReadFault`] when there is none.
pub fn adapter_of(engine: Engine) -> Result<&'static dyn adapter::Adapter, ReadFault> {
    let found = ADAPTERS.iter().copied().find(|adapter| adapter.engine() == engine);
    found.ok_or_else(|| {
        ReadFault::new(
            format!("this keen was built without the adapter of {}", engine.name()),
            "build keen without --no-default-features",
        )
        .of(FaultKind::NotSupported)
    })
}
