//! The core against naive oracles and fixed vectors.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod causality;
mod compare;
mod digest_vectors;
mod owed;
