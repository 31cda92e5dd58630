//! Adapters: how nodes of each engine, and files, reach the core. Each module implements the ports of `keen_core::ports` that its kind of node has.
//!
//! - [`sqlite`]: SQLite files, read-only, one transaction each.
//! - [`postgres`]: PostgreSQL servers, by binary COPY in one transaction.
//! - [`mariadb`]: MariaDB servers, by their binary protocol in one snapshot.
//! - [`files`]: journals that were exported to files.
//! - [`memory`]: tables in memory, for tests and as the plainest example of an adapter.
//! - [`server`]: what servers have in common: passwords, TLS, limits.

pub mod files;
pub mod mariadb;
pub mod memory;
pub mod postgres;
pub mod server;
pub mod sqlite;
