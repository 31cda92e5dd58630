//! Private servers.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod arrows;
mod ports;
mod servers;
