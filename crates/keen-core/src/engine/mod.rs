//! Engines: how each spells SQL, what its types hold, and the tables that keen keeps on a server.

pub mod dialect;
pub mod selection;
pub mod service_tables;
pub mod types;
