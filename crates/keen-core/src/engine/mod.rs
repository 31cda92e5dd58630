//! Engines: how each spells SQL, what its types hold, and the tables that keen keeps on a server.
//!
//! - [`dialect`]: the trait of an engine's SQL; `sqlite`, `postgres` and `mariadb` are the engines.
//! - [`types`]: types as they carry over from one engine to another.
//! - [`selection`]: conditions for some rows of a table.
//! - [`service_tables`]: the tables that keen keeps on a server.

pub mod dialect;
pub mod mariadb;
pub mod postgres;
pub mod selection;
pub mod service_tables;
mod sqlite;
pub mod types;
