//! The computation of Keen Ledger.
//!
//! Nothing here opens files or sockets, reads clocks, starts threads or
//! prints; `clippy.toml` beside the manifest enforces it. Callers bring rows,
//! the text of files and the time, and get values back.
//!
//! Arrows point down this list only, which a test of `keen-testkit` holds:
//!
//! - [`plan`]: from divergent rows to steps that put them right.
//! - [`seed`]: how a copy is made, and what it would lose.
//! - [`preflight`]: what nodes tell of their set-up, held against the file and each other.
//! - [`setup`]: values of a node's set-up, and how they are changed.
//! - [`links`]: in which state each link is; fences.
//! - [`conflict`]: writes that had not seen each other, and how they ended.
//! - [`ports`]: the traits by which runs reach nodes.
//! - [`audit`]: from the rows of all nodes to those that diverge.
//! - [`history`]: what nodes wrote, in which order, and which writes had seen which.
//! - [`observe`]: what nodes tell of themselves.
//! - [`engine`]: how each engine spells SQL and what its types hold.
//! - [`topology`]: the file, and who should hold what.
//! - [`fault`]: what goes wrong with a node.
//! - [`row`], [`value`]: rows and what is in them.
//! - [`glossary`], [`units`]: words and amounts, for people.

pub mod audit;
pub mod conflict;
pub mod engine;
pub mod fault;
pub mod glossary;
pub mod history;
pub mod links;
pub mod observe;
pub mod plan;
pub mod ports;
pub mod preflight;
pub mod row;
pub mod seed;
pub mod setup;
pub mod topology;
pub mod units;
pub mod value;
