//! PostgreSQL servers as nodes.
//!
//! Everything is read in one REPEATABLE READ READ ONLY transaction, so as of
//! one moment, by `COPY (SELECT ...) TO STDOUT (FORMAT binary)`: values arrive
//! in the server's binary form and no setting of the session can print them
//! otherwise. Each statement has a savepoint, so that a table that cannot be
//! read costs that table and not the node.

mod adapter;
mod connect;
mod copy;
mod decode;
mod fault;
mod journal;
mod last_writes;
mod links;
mod look;
mod origins;
mod own_types;
mod probe;
mod queries;
mod read;
mod replication;
mod setup;
mod shape;
mod types;
mod write;

use keen_core::engine::selection::{any_of, each_key};
use keen_core::row::selection::RowKeys;
use keen_core::topology::Engine;
use std::collections::HashMap;

use keen_core::fault::ReadFault;
use keen_core::ports::{ReadRows, TableRequest};
use keen_core::row::batch::{Batch, RowWriter};
use keen_core::row::schema::TableShape;

use crate::server::Access;
pub use adapter::PostgresAdapter;
use connect::PostgresSession;
pub use copy::{PostgresGiver, PostgresTaker};
pub use journal::PostgresJournal;
pub(crate) use journal::journal_setup;
pub use last_writes::PostgresLastWrites;
pub use links::PostgresLinks;
pub use probe::PostgresProbe;
pub use setup::PostgresSetup;
pub use write::PostgresWriter;

/// Older ones lack columns of the catalogue that are asked for here.
const OLDEST: i32 = 15;

/// A PostgreSQL server, fixed at one moment.
pub struct PostgresNode {
    session: PostgresSession,
    about: String,
    major: u32,
    types: types::Types,
    tables: HashMap<String, shape::PostgresLayout>,
}

impl std::fmt::Debug for PostgresNode {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PostgresNode").field("about", &self.about).finish_non_exhaustive()
    }
}

impl PostgresNode {
    /// Logs in and fixes the moment as of which the server is read.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be reached in time, or refuses.
    pub fn open(access: &Access) -> Result<Self, ReadFault> {
        Self::over(PostgresSession::open(access, None)?, access)
    }

    fn over(session: PostgresSession, access: &Access) -> Result<Self, ReadFault> {
        let row = session.one(queries::ABOUT)?;
        let (version, encoding): (&str, &str) = (row.get(0), row.get(1));
        let major: i32 = row.get(2);
        if major < OLDEST {
            return Err(ReadFault::new(
                format!("{} is PostgreSQL {major}", access.shown()),
                format!("keen reads PostgreSQL {OLDEST} and newer: leave the node out with --node"),
            ));
        }
        let version = version.split_whitespace().next().unwrap_or(version);
        let standby = if session.is_standby() { ", standby" } else { "" };
        let secured = if access.wants_tls() { ", tls" } else { "" };
        let about = format!("postgresql {version}, {encoding}{standby}{secured}");
        let types = types::Types::load(&session)?;
        Ok(Self { session, about, major: major.unsigned_abs(), types, tables: HashMap::new() })
    }
}

impl ReadRows for PostgresNode {
    fn about(&self) -> String {
        self.about.clone()
    }

    fn shape(&mut self, table: &str) -> Result<TableShape, ReadFault> {
        let (shape, local) = shape::look(&self.session, &self.types, table)?;
        self.tables.insert(table.to_owned(), local);
        Ok(shape)
    }

    fn estimate(&mut self, table: &str) -> Option<u64> {
        let local = self.tables.get(table)?;
        shape::estimate(&self.session, local)
    }

    fn key_bounds(&mut self, table: &str) -> Option<(i64, i64)> {
        shape::bounds(&self.session, self.tables.get(table)?)
    }

    fn other_tables(&mut self, named: &[String]) -> Result<Option<Vec<String>>, ReadFault> {
        shape::others(&self.session, named).map(Some)
    }

    fn alike(
        &mut self,
        table: &str,
        column: &str,
        texts: &[String],
    ) -> Result<Option<Vec<u64>>, ReadFault> {
        let shape = self.shape(table)?;
        let (Some(known), Some(local)) = (shape.column(column), self.tables.get(table)) else {
            return Ok(None);
        };
        // An empty reading of the column itself lends the others its collation.
        let sql = format!(
            "SELECT q.rank FROM (SELECT x.at, dense_rank() OVER (ORDER BY x.value) AS rank FROM ( \
             SELECT {} AS value, 0::int8 AS at FROM {} WHERE false UNION ALL \
             SELECT t.value::{}, t.at FROM unnest($1::text[]) WITH ORDINALITY t(value, at)) x) q ORDER BY q.at",
            quoted(&known.name),
            local.name,
            known.declared
        );
        let rows = self.session.rows("ask what it takes for one value", &sql, &[&texts])?;
        Ok(Some(rows.iter().map(|row| row.get::<_, i64>(0).unsigned_abs()).collect()))
    }

    /// The transaction that wrote the row.
    fn row_marks(
        &mut self,
        table: &[String],
        rows: &RowKeys,
    ) -> Result<Vec<Option<u64>>, ReadFault> {
        let conditions = each_key(Engine::Postgres, rows);
        let name: Vec<String> = table.iter().map(|part| quoted(part)).collect();
        let sql = format!(
            "SELECT {}, r.xmin::text::int8 FROM {} r WHERE {}",
            last_writes::which(&conditions),
            name.join("."),
            any_of(&conditions)
        );
        let rows = self.session.rows("ask who wrote rows", &sql, &[])?;
        let mut marks = vec![None; conditions.len()];
        for row in rows {
            let at = usize::try_from(row.get::<_, i32>(0)).unwrap_or(usize::MAX);
            if let Some(mark) = marks.get_mut(at) {
                // Of several rows that are meant together each counts.
                let one = row.get::<_, i64>(1).unsigned_abs();
                *mark = Some(mark.map_or(one, |all: u64| (all << 32) ^ one));
            }
        }
        Ok(marks)
    }

    fn twins(&mut self, count: usize) -> Vec<Box<dyn ReadRows + Send>> {
        let mut twins: Vec<Box<dyn ReadRows + Send>> = Vec::new();
        let snapshot = match self.session.export_snapshot() {
            Ok(snapshot) => snapshot,
            Err(fault) => {
                tracing::info!(%fault, "one session alone");
                return twins;
            }
        };
        let access = self.session.access().clone();
        while twins.len() < count {
            let twin = PostgresSession::open(&access, Some(&snapshot));
            match twin.and_then(|session| Self::over(session, &access)) {
                Ok(twin) => twins.push(Box::new(twin)),
                Err(fault) => {
                    tracing::info!(%fault, "no further session for {}", access.shown());
                    break;
                }
            }
        }
        twins
    }

    fn read(
        &mut self,
        request: &TableRequest,
        writer: RowWriter,
        deliver: &mut dyn FnMut(Batch) -> Option<Batch>,
    ) -> Result<(), ReadFault> {
        if !self.tables.contains_key(&request.table) {
            self.shape(&request.table)?;
        }
        let local = &self.tables[&request.table];
        read::PostgresTableRead { session: &self.session, local, request }.run(writer, deliver)
    }
}

/// Quotes a name for PostgreSQL.
#[must_use]
pub fn quoted(name: &str) -> String {
    keen_core::topology::Engine::Postgres.dialect().quoted(name)
}
