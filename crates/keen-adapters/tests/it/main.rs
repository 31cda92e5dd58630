//! Adapters against real servers and files.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod binlog;
mod contract;
mod last_writes;
mod left_behind;
mod place;
mod ports;
mod servers;
mod sqlite;
mod stand_in;
mod types;
