//! MariaDB servers, and others that speak its protocol, as nodes.
//!
//! Everything is read in one transaction with a consistent snapshot, over the
//! binary protocol, so numbers arrive as numbers. The session's settings are
//! pinned: times come in UTC, text as UTF-8 whatever character set holds it,
//! and a filter means what standard SQL says.

mod adapter;
mod binlog;
mod connect;
mod copy;
mod decode;
mod fault;
mod links;
mod look;
mod probe;
mod queries;
mod read;
mod replication;
mod setup;
mod shape;
mod write;

use keen_core::ports::JournalNeeds;
use std::collections::HashMap;

use keen_core::fault::ReadFault;
use keen_core::ports::{ReadRows, TableRequest};
use keen_core::row::batch::{Batch, RowWriter};
use keen_core::row::schema::TableShape;

use crate::server::Access;
pub use adapter::MariaDbAdapter;
pub use binlog::MariaDbJournal;
use connect::MariaDbSession;
pub use copy::{MariaDbGiver, MariaDbTaker};
pub use links::MariaDbLinks;
pub use probe::MariaDbProbe;
pub use setup::MariaDbSetup;
pub use write::MariaDbWriter;

/// The account that logs in, as the server's statements name it.
///
/// # Errors
/// [`ReadFault`] when the server cannot be reached in time, or refuses.
pub(crate) fn account(access: &Access) -> Result<String, ReadFault> {
    MariaDbSession::open_to_look(access)?.account()
}

/// The rights that the account lacks to read the binary log.
///
/// # Errors
/// As [`account`].
pub(crate) fn journal_needs(access: &Access) -> Result<JournalNeeds, ReadFault> {
    let mut session = MariaDbSession::open_to_look(access)?;
    let account = session.account()?;
    let lines: Vec<String> = session.rows("inspect its rights", queries::GRANTS, ())?;
    let grants: Vec<look::Grant> =
        lines.iter().filter_map(|line| look::Grant::read(line)).collect();
    let lacks = |right: &&str| !grants.iter().any(|grant| grant.gives(right, "*", "*"));
    let lacking = ["REPLICATION SLAVE", "BINLOG MONITOR"].into_iter().filter(lacks).collect();
    Ok(JournalNeeds::Rights { account, lacking })
}

/// A MariaDB server, fixed at one moment.
pub struct MariaDbNode {
    session: MariaDbSession,
    about: String,
    tables: HashMap<String, shape::MariaDbLayout>,
}

impl std::fmt::Debug for MariaDbNode {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("MariaDbNode").field("about", &self.about).finish_non_exhaustive()
    }
}

impl MariaDbNode {
    /// Logs in and fixes the moment as of which the server is read.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be reached in time, or refuses.
    pub fn open(access: &Access) -> Result<Self, ReadFault> {
        Self::over(MariaDbSession::open(access)?, access)
    }

    fn over(mut session: MariaDbSession, access: &Access) -> Result<Self, ReadFault> {
        let version: Vec<(String, bool)> =
            session.rows("inspect the server", queries::ABOUT, ())?;
        let (version, read_only) = version.into_iter().next().unwrap_or_default();
        let product =
            if version.to_ascii_lowercase().contains("mariadb") { "mariadb" } else { "mysql" };
        let number = version.split('-').next().unwrap_or(&version);
        let closed = if read_only { ", read-only" } else { "" };
        let secured = if access.wants_tls() { ", tls" } else { "" };
        let about = format!("{product} {number}{closed}{secured}");
        Ok(Self { session, about, tables: HashMap::new() })
    }
}

impl ReadRows for MariaDbNode {
    fn calls_itself(&mut self) -> Option<String> {
        let ids: Vec<u64> = self.session.rows("look who it is", queries::SERVER_ID, ()).ok()?;
        ids.first().map(ToString::to_string)
    }

    fn about(&self) -> String {
        self.about.clone()
    }

    fn shape(&mut self, table: &str) -> Result<TableShape, ReadFault> {
        let (shape, local) = shape::look(&mut self.session, table)?;
        self.tables.insert(table.to_owned(), local);
        Ok(shape)
    }

    fn estimate(&mut self, table: &str) -> Option<u64> {
        self.tables.get(table)?.estimate
    }

    fn key_bounds(&mut self, table: &str) -> Option<(i64, i64)> {
        let local = self.tables.get(table)?;
        shape::bounds(&mut self.session, local)
    }

    fn other_tables(&mut self, named: &[String]) -> Result<Option<Vec<String>>, ReadFault> {
        shape::others(&mut self.session, named).map(Some)
    }

    fn alike(
        &mut self,
        table: &str,
        column: &str,
        texts: &[String],
    ) -> Result<Option<Vec<u64>>, ReadFault> {
        let shape = self.shape(table)?;
        let collation = shape.column(column).and_then(|known| known.collation.as_deref());
        let Some(collation) = collation
            .filter(|name| name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'_'))
        else {
            return Ok(None);
        };
        let charset = collation.split('_').next().unwrap_or(collation);
        // Sorting looks at the beginning of texts only, unless it is told otherwise.
        let doing = "ask what it takes for one value";
        let _: Vec<mysql::Row> =
            self.session.rows(doing, "SET SESSION max_sort_length = 65536", ())?;
        let sql = format!(
            "SELECT q.`rank` FROM (SELECT t.at, DENSE_RANK() OVER (ORDER BY CONVERT(t.value USING {charset}) COLLATE {collation}) AS `rank` \
             FROM JSON_TABLE(?, '$[*]' COLUMNS (at FOR ORDINALITY, value LONGTEXT CHARACTER SET utf8mb4 PATH '$')) t) q ORDER BY q.at"
        );
        let texts = serde_json::to_string(texts).unwrap_or_default();
        self.session.rows(doing, &sql, (texts,)).map(Some)
    }

    /// MariaDB shares no snapshot between sessions. Two that begin at the same position of the
    /// binary log see the same, so where nothing is written meanwhile this succeeds.
    fn twins(&mut self, count: usize) -> Vec<Box<dyn ReadRows + Send>> {
        const ATTEMPTS: usize = 3;
        let mut twins: Vec<Box<dyn ReadRows + Send>> = Vec::new();
        let access = self.session.access().clone();
        let Some(moment) = self.session.moment() else {
            return twins; // it keeps no binary log
        };
        for _ in 0..count + ATTEMPTS {
            if twins.len() == count {
                break;
            }
            match MariaDbSession::open(&access) {
                Ok(mut twin) => {
                    let same = twin.moment().as_ref() == Some(&moment);
                    if let (true, Ok(twin)) = (same, Self::over(twin, &access)) {
                        twins.push(Box::new(twin));
                    }
                }
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
        read::run(&mut self.session, local, request, writer, deliver)
    }
}

/// Quotes a name for MariaDB.
#[must_use]
pub fn quoted(name: &str) -> String {
    keen_core::topology::Engine::MariaDb.dialect().quoted(name)
}
