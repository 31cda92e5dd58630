//! Settings of each engine that replication depends on.

pub(crate) mod mariadb;
pub(crate) mod postgres;
pub(crate) mod sqlite;
