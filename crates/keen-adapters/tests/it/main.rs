//! Adapters against real servers and files.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod binlog;
mod contract;
mod last_writes;
mod ports;
mod sqlite;
mod types;
