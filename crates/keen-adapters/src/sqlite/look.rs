//! The set-up of a SQLite file, and the notes of the stand-in's replicator in it.

use super::queries;
use keen_core::fault::ReadFault;
use std::collections::BTreeMap;

use keen_core::observe::log_reach::LogReach;
use keen_core::observe::node::{
    ChangeSource, Counter, Identity, Incoming, Need, NodeFacts, Observed, ReplicationKind, Right,
    TableLook, TableState, WorkerState,
};
use keen_core::ports::{InspectionRequest, LookAtNode, ReadRows as _};
use keen_core::topology::Engine;
use rusqlite::Connection;

use super::{SqliteNode, quoted};

/// The table in which the stand-in's replicator keeps the links that lead to a node.
const LINKS: &str = "keen_lab_link";

impl LookAtNode for SqliteNode {
    fn look(&mut self, asked: &InspectionRequest) -> NodeFacts {
        NodeFacts {
            engine: Engine::Sqlite,
            about: self.about(),
            major: 0,
            standby: false,
            identity: self.identity(),
            rights: self.rights(),
            excess: Ok(Vec::new()), // a file's rights are those of the system's account
            settings: Ok(self.settings()),
            incoming: incoming(&self.connection, asked.receives),
            slots: Ok(Vec::new()),
            publications: Ok(Vec::new()),
            clock: Ok(None),
            tables: asked
                .tables
                .iter()
                .map(|(table, local)| (table.clone(), self.table(local)))
                .collect(),
            all_tables: self.all_tables(),
            users: Ok(Vec::new()),
        }
    }

    fn log_reach(&mut self, _since: Option<&str>) -> Observed<LogReach> {
        Err(ReadFault::not_told("SQLite keeps no log to start from"))
    }
}

impl SqliteNode {
    fn identity(&self) -> Identity {
        let path = self.path.canonicalize().unwrap_or_else(|_| self.path.clone());
        #[cfg(unix)]
        let database = {
            use std::os::unix::fs::MetadataExt as _;
            // Two names can be links to one file.
            std::fs::metadata(&path).map(|found| format!("file {}:{}", found.dev(), found.ino()))
        };
        #[cfg(not(unix))]
        let database: std::io::Result<String> = Ok(path.display().to_string());
        Identity {
            database: Some(database.unwrap_or_else(|_| path.display().to_string())),
            ..Identity::default()
        }
    }

    fn rights(&self) -> Vec<Right> {
        #[cfg(unix)]
        let writable = nix::unistd::access(&self.path, nix::unistd::AccessFlags::W_OK).is_ok();
        #[cfg(not(unix))]
        let writable = std::fs::metadata(&self.path).is_ok_and(|m| !m.permissions().readonly());
        let shown = self.path.display();
        vec![
            Right {
                need: Need::Tables,
                what: format!("reading {shown}"),
                held: Ok(true),
                grant: String::new(),
            },
            Right {
                need: Need::Repairs,
                what: format!("writing {shown}"),
                held: Ok(writable),
                grant: format!("chmod u+w '{shown}' # as the owner of the file, and of its folder"),
            },
        ]
    }

    fn settings(&self) -> BTreeMap<String, String> {
        let mut settings = BTreeMap::new();
        settings.insert("journal_mode".to_owned(), self.journal_mode.clone());
        settings.insert("encoding".to_owned(), self.encoding.name().to_owned());
        #[cfg(unix)]
        if let Ok(found) = std::fs::metadata(&self.path) {
            use std::os::unix::fs::PermissionsExt as _;
            let open = found.permissions().mode() & 0o002 != 0;
            settings
                .insert("others_may_write".to_owned(), if open { "yes" } else { "no" }.to_owned());
        }
        settings
    }

    fn table(&mut self, local: &str) -> Observed<TableState> {
        let shape = match self.shape(local) {
            Ok(shape) => shape,
            Err(fault) => return TableState::undescribed(fault),
        };
        let sql = format!("SELECT EXISTS (SELECT 1 FROM {})", quoted(local));
        let any_rows = self.connection.query_row(&sql, [], |row| row.get(0));
        let counted = shape.columns.iter().filter(|column| column.counted);
        let counters =
            counted.map(|column| Counter { column: column.name.clone(), step: 1, offset: 0 });
        Ok(TableState::There(Box::new(TableLook {
            any_rows: any_rows
                .map_err(|error| super::fault::explain(&self.path, "look for rows", &error)),
            named_by: None,
            partitioned: false,
            // Whatever carries rows into a file writes them like anybody else.
            replica_triggers: Ok(shape.triggers.clone()),
            counters: counters.collect(),
            checks: Ok(Vec::new()),
            shape,
        })))
    }

    fn all_tables(&self) -> Observed<Vec<String>> {
        let tables = || {
            let mut statement = self.connection.prepare(queries::ALL_TABLES)?;
            statement.query_map([], |row| row.get(0))?.collect::<rusqlite::Result<Vec<String>>>()
        };
        tables().map_err(|error| super::fault::explain(&self.path, "look for tables", &error))
    }
}

/// The replicator's notes of the links that lead to a file.
pub(super) fn incoming(connection: &Connection, receives: bool) -> Observed<Vec<Incoming>> {
    let found =
        connection.prepare(&format!("SELECT link, source, state FROM {LINKS} ORDER BY link"));
    let Ok(mut statement) = found else {
        return if receives {
            Err(ReadFault::not_told("SQLite does not record what replicates to a file"))
        } else {
            Ok(Vec::new())
        };
    };
    let links = statement.query_map([], |row| {
        let state: String = row.get(2)?;
        let (receiving, applying) = match state.as_str() {
            "running" => (WorkerState::Runs, WorkerState::Runs),
            "cut" => (WorkerState::Tries, WorkerState::Runs),
            _ => (WorkerState::Stopped, WorkerState::Stopped),
        };
        Ok(Incoming {
            name: row.get::<_, i64>(0)?.to_string(),
            source: ChangeSource { id: row.get(1)?, ..ChangeSource::default() },
            receiving,
            applying,
            ..Incoming::unknown(ReplicationKind::StandIn)
        })
    });
    links.and_then(Iterator::collect).map_err(|error| ReadFault::not_told(error.to_string()))
}
