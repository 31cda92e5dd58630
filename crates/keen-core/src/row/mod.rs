//! Rows: the schema of a table, conversion of values, key order, encoding, digests, balances and buckets.

pub mod balance;
pub mod batch;
pub mod buckets;
pub mod conversion;
pub mod digest;
pub mod encoding;
pub mod key_order;
pub mod schema;
pub mod selection;
