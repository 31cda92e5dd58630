//! Writing a probe's row to a MariaDB server, and looking for it.

use keen_core::engine::service_tables::{Stage, create};
use keen_core::fault::ReadFault;
use keen_core::ports::WriteProbe;
use keen_core::topology::Engine;
use mysql::Row;

use super::connect::MariaDbSession;
use super::quoted;
use crate::server::Access;
use crate::server::{explain, explain_heartbeat};

/// A MariaDB server at which a probe is written.
pub struct MariaDbProbe {
    session: MariaDbSession,
    user: String,
    /// The table as the topology names it, and quoted.
    named: String,
    table: String,
}

impl std::fmt::Debug for MariaDbProbe {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("MariaDbProbe").field("table", &self.table).finish_non_exhaustive()
    }
}

impl MariaDbProbe {
    /// Logs in; `table` is what the server calls it.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be reached in time, or refuses.
    pub fn open(access: &Access, table: &str) -> Result<Self, ReadFault> {
        let parts: Vec<String> = table.split('.').map(quoted).collect();
        let user = access.server.user.clone();
        let session = MariaDbSession::open_to_write(access)?;
        Ok(Self { session, user, named: table.to_owned(), table: parts.join(".") })
    }

    fn lacking(&self, fault: ReadFault, right: &str) -> ReadFault {
        explain(fault, right, &self.user)
    }
}

impl WriteProbe for MariaDbProbe {
    fn create(&mut self) -> Result<(), ReadFault> {
        let statement = &create(Engine::MariaDb, &self.named);
        let done: Result<Vec<Row>, ReadFault> =
            self.session.rows("create the probe table", statement, ());
        done.map(drop).map_err(|fault| self.lacking(fault, "create tables in its database"))
    }

    fn write(&mut self, id: &str, node: &str, stage: Stage) -> Result<(), ReadFault> {
        let (table, doing) = (&self.table, "write the probe's row");
        let mark = stage.mark().unwrap_or_default();
        let done: Result<Vec<Row>, ReadFault> = match stage {
            Stage::Insert => self.session.rows(
                doing,
                &format!("INSERT INTO {table} (id, node, stage) VALUES (?, ?, ?)"),
                (id, node, mark),
            ),
            Stage::Update => self.session.rows(
                doing,
                &format!("UPDATE {table} SET stage = ? WHERE id = ?"),
                (mark, id),
            ),
            Stage::Delete => {
                self.session.rows(doing, &format!("DELETE FROM {table} WHERE id = ?"), (id,))
            }
        };
        done.map(drop)
            .map_err(|fault| self.lacking(fault, &format!("{} rows of the table", stage.name())))
    }

    fn beat(&mut self, node: &str) -> Result<(), ReadFault> {
        let sql = format!(
            "INSERT INTO {} (node, beat) VALUES (?, SYSDATE(6)) ON DUPLICATE KEY UPDATE beat = VALUES(beat)",
            self.table
        );
        let done: Result<Vec<Row>, ReadFault> =
            self.session.rows("write the heartbeat", &sql, (node,));
        done.map(drop).map_err(|fault| explain_heartbeat(fault, &self.user))
    }

    fn ids(&mut self) -> Result<Vec<String>, ReadFault> {
        let sql = format!("SELECT id FROM {} LIMIT 1000", self.table);
        let rows = self.session.rows("look for rows of other runs", &sql, ());
        rows.map_err(|fault| self.lacking(fault, "read the table"))
    }

    fn find(&mut self, id: &str) -> Result<Option<String>, ReadFault> {
        let sql = format!("SELECT stage FROM {} WHERE id = ?", self.table);
        let rows: Result<Vec<String>, ReadFault> =
            self.session.rows("look for the probe's row", &sql, (id,));
        let rows = rows.map_err(|fault| self.lacking(fault, "read the table"))?;
        Ok(rows.into_iter().next())
    }
}
