//! Runs over nodes in memory, stand-ins and real servers.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod conflicts;
mod engines;
mod fourth_engine;
mod ledgers;
mod links;
mod looking_again;
mod oracle;
mod plans;
mod untyped;
