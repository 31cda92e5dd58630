//! The links that lead to a file of the stand-in network.

use super::queries;
use std::collections::BTreeMap;
use std::path::PathBuf;

use keen_core::fault::ReadFault;
use keen_core::observe::links::{Inflow, LinkSnapshot, Own, Touched};
use keen_core::observe::node::Observed;
use keen_core::observe::position::Position;
use keen_core::ports::LookAtLinks;
use keen_core::topology::Engine;

use super::look::incoming;
use super::{Options, SqliteNode};

/// A SQLite file, opened anew for each look so that each sees what is there then.
#[derive(Debug)]
pub struct SqliteLinks {
    path: PathBuf,
    /// The name of the node in the topology.
    name: String,
    receives: bool,
    /// The table of heartbeats, if there is to be one.
    beats: Option<String>,
    options: Options,
}

impl SqliteLinks {
    /// A file, by what the topology calls it and whether links lead to it.
    #[must_use]
    pub fn new(path: PathBuf, name: String, receives: bool, options: Options) -> Self {
        Self { path, name, receives, beats: None, options }
    }

    /// Heartbeats are read from this table.
    #[must_use]
    pub fn with_beats(self, table: Option<&str>) -> Self {
        Self { beats: table.map(str::to_owned), ..self }
    }
}

impl LookAtLinks for SqliteLinks {
    fn look_at_links(&mut self, tables: &[(String, String)]) -> Result<LinkSnapshot, ReadFault> {
        let node = SqliteNode::open(&self.path, &self.options)?;
        let position = node.journal_position();
        let mut snapshot = LinkSnapshot {
            cluster: false,
            engine: Engine::Sqlite,
            about: keen_core::ports::ReadRows::about(&node),
            standby: false,
            closed: None,
            server_id: None,
            domain: None,
            database: None,
            origins: None,
            own: None,
            touched: BTreeMap::new(),
            inflows: node.inflows(self.receives),
            outlets: Ok(Vec::new()),
            published: Ok(Vec::new()),
            stamp: Some(self.stamp()),
            flushed: None,
            unsafe_for: 0,
            beats: self.beats.as_deref().map(|table| node.beats(table)).unwrap_or_default(),
            asked: 3 + u32::from(self.beats.is_some()),
            position: position.map(Position::Count),
        };
        if snapshot.position.is_ok() {
            node.journal(&self.name, tables, &mut snapshot)
                .map_err(|error| super::fault::explain(&self.path, "read its journal", &error))?;
        }
        Ok(snapshot)
    }
}

impl SqliteLinks {
    /// Sizes and times of the file and of what SQLite keeps beside it.
    fn stamp(&self) -> String {
        let of = |suffix: &str| {
            let mut path = self.path.as_os_str().to_owned();
            path.push(suffix);
            std::fs::metadata(path).map(|found| (found.len(), found.modified().ok()))
        };
        ["", "-wal", "-journal"].map(|suffix| format!("{:?}", of(suffix).ok())).join(" ")
    }
}

impl SqliteNode {
    fn journal_position(&self) -> Observed<u64> {
        let sql = queries::LAB_POSITION;
        let found = self.connection.query_row(sql, [], |row| row.get::<_, i64>(0));
        let nothing = "SQLite does not record what is written to a file";
        found.map(i64::unsigned_abs).map_err(|_| ReadFault::not_told(nothing))
    }

    /// The table of heartbeats; nothing if it is not there.
    fn beats(&self, table: &str) -> BTreeMap<String, i64> {
        let sql = format!("SELECT node, beat FROM {}", super::quoted(table));
        let read = || {
            let mut statement = self.connection.prepare(&sql)?;
            let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
            rows.collect::<rusqlite::Result<_>>()
        };
        read().unwrap_or_default()
    }

    /// Who wrote what of the journal. It is read by its indexes, from the end.
    fn journal(
        &self,
        name: &str,
        tables: &[(String, String)],
        snapshot: &mut LinkSnapshot,
    ) -> rusqlite::Result<()> {
        let mut statement = self.connection.prepare(queries::LAB_ORIGINS)?;
        let found: BTreeMap<String, u64> = statement
            .query_map([], |row| Ok((row.get(0)?, row.get::<_, i64>(1)?.unsigned_abs())))?
            .collect::<rusqlite::Result<_>>()?;
        let own: i64 =
            self.connection.query_row(queries::LAB_OWN_WRITES, [name], |row| row.get(0))?;
        snapshot.asked += 2;
        snapshot.own = Some(Own::Count(own.unsigned_abs()));
        snapshot.origins = Some(Position::Origins(found));
        // The last thousand changes are enough to tell two looks apart.
        let mut last = self.connection.prepare(queries::LAB_LAST_CHANGES)?;
        let last: BTreeMap<String, i64> =
            last.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?.collect::<Result<_, _>>()?;
        snapshot.asked += 1;
        for (table, _) in tables {
            let count = last.get(table).copied().unwrap_or(0).unsigned_abs();
            snapshot.touched.insert(table.clone(), Touched { count, ..Touched::default() });
        }
        Ok(())
    }

    fn inflows(&self, receives: bool) -> Observed<Vec<Inflow>> {
        let links = incoming(&self.connection, receives)?;
        let read_to = |name: &str| {
            let sql = queries::LAB_READ_TO;
            self.connection.query_row(sql, [name], |row| row.get::<_, i64>(0)).ok()
        };
        let inflow = |link: keen_core::observe::node::Incoming| {
            let at = read_to(&link.name).map(|at| Position::Count(at.unsigned_abs()));
            Inflow { received: at.clone(), applied: at, ..Inflow::of(link) }
        };
        Ok(links.into_iter().map(inflow).collect())
    }
}
