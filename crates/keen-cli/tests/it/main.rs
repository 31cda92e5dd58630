//! The built program, run on files and on real servers.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod advice;
mod audit;
mod bad_input;
mod catalogue;
mod chains;
mod closed;
mod common;
mod conflicts_files;
mod conflicts_mariadb;
mod conflicts_pglogical;
mod conflicts_postgres;
mod demo;
mod derive;
mod documents;
mod faults;
mod fences;
mod flow_mariadb;
mod flow_postgres;
mod in_use;
mod ledger;
mod memory;
mod mend_files;
mod mend_races;
mod mend_servers;
mod one_value;
mod plan;
mod preflight_mariadb;
mod preflight_postgres;
mod probe;
mod random;
mod readme;
mod replication;
mod round_trip;
mod safe_files;
mod safe_plans;
mod seeding;
mod shape;
mod stopped;
mod streaming;
mod threads;
mod tls;
mod topology;
mod unlike;
mod wrong;
