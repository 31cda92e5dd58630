//! The computation of Keen Ledger.
//!
//! Nothing here opens files or sockets, reads clocks, starts threads or
//! prints; `clippy.toml` beside the manifest enforces it. Callers bring rows,
//! the text of files and the time, and get values back.
//!
//! - [`value`], [`decimal`], [`json`], [`calendar`], [`zone`], [`spelling`]: what nodes hold.
//! - [`reading`], [`agree`]: how values of unlike types are compared, and what of a table can be.
//! - [`canonical`], [`order`], [`digest`], [`balance`]: bytes, key order, digests, sums.
//! - [`topology`], [`expectation`]: the file, and who should hold what.
//! - [`shape`], [`rows`], [`ports`], [`compare`], [`folio`]: from tables to divergent rows.
//! - [`plan`]: from divergent rows to steps that put them right.
//! - [`preflight`]: what nodes tell of themselves, held against the file and each other.
//! - [`journal`], [`causality`], [`conflict`]: what nodes wrote in which order, which writes had seen which, and what came of those that had not.
//! - [`position`], [`flow`], [`probe`]: how far logs have come, and whether every link carries.

pub mod agree;
pub mod balance;
pub mod calendar;
pub mod canonical;
pub mod causality;
pub mod compare;
pub mod conflict;
pub mod decimal;
pub mod digest;
pub mod expectation;
pub mod flow;
pub mod folio;
pub mod glossary;
pub mod journal;
pub mod json;
pub mod order;
pub mod plan;
pub mod ports;
pub mod position;
pub mod preflight;
pub mod probe;
pub mod reading;
pub mod rows;
pub mod shape;
mod source;
pub mod spelling;
pub mod topology;
pub mod units;
pub mod value;
pub mod zone;
