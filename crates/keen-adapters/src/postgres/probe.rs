//! Writing a probe's row to a PostgreSQL server, and looking for it.

use keen_core::engine::service_tables::{Stage, create};
use keen_core::fault::ReadFault;
use keen_core::ports::WriteProbe;
use keen_core::topology::Engine;

use super::connect::PostgresSession;
use super::quoted;
use crate::server::Access;
use crate::server::{explain, explain_heartbeat};

/// A PostgreSQL server at which a probe is written.
pub struct PostgresProbe {
    session: PostgresSession,
    user: String,
    /// The table as the topology names it, and quoted.
    named: String,
    table: String,
}

impl std::fmt::Debug for PostgresProbe {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PostgresProbe").field("table", &self.table).finish_non_exhaustive()
    }
}

impl PostgresProbe {
    /// Logs in; `table` is what the server calls it.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be reached in time, or refuses.
    pub fn open(access: &Access, table: &str) -> Result<Self, ReadFault> {
        let parts: Vec<String> = table.split('.').map(quoted).collect();
        let user = access.server.user.clone();
        let session = PostgresSession::open_to_write(access)?;
        Ok(Self { session, user, named: table.to_owned(), table: parts.join(".") })
    }

    fn lacking(&self, fault: ReadFault, right: &str) -> ReadFault {
        explain(fault, right, &self.user)
    }
}

impl WriteProbe for PostgresProbe {
    fn create(&mut self) -> Result<(), ReadFault> {
        let statement = &create(Engine::Postgres, &self.named);
        let done = self.session.rows("create the probe table", statement, &[]);
        done.map(drop).map_err(|fault| self.lacking(fault, "create tables in that schema"))
    }

    fn write(&mut self, id: &str, node: &str, stage: Stage) -> Result<(), ReadFault> {
        let (table, doing) = (&self.table, "write the probe's row");
        let mark = stage.mark().unwrap_or_default();
        let done = match stage {
            Stage::Insert => self.session.rows(
                doing,
                &format!("INSERT INTO {table} (id, node, stage) VALUES ($1, $2, $3)"),
                &[&id, &node, &mark],
            ),
            Stage::Update => self.session.rows(
                doing,
                &format!("UPDATE {table} SET stage = $1 WHERE id = $2"),
                &[&mark, &id],
            ),
            Stage::Delete => {
                self.session.rows(doing, &format!("DELETE FROM {table} WHERE id = $1"), &[&id])
            }
        };
        done.map(drop)
            .map_err(|fault| self.lacking(fault, &format!("{} rows of the table", stage.name())))
    }

    fn beat(&mut self, node: &str) -> Result<(), ReadFault> {
        let sql = format!(
            "INSERT INTO {} (node, beat) VALUES ($1, clock_timestamp()) ON CONFLICT (node) DO UPDATE SET beat = excluded.beat",
            self.table
        );
        let done = self.session.rows("write the heartbeat", &sql, &[&node]);
        done.map(drop).map_err(|fault| explain_heartbeat(fault, &self.user))
    }

    fn ids(&mut self) -> Result<Vec<String>, ReadFault> {
        let sql = format!("SELECT id FROM {} LIMIT 1000", self.table);
        let rows = self.session.rows("look for rows of other runs", &sql, &[]);
        let rows = rows.map_err(|fault| self.lacking(fault, "read the table"))?;
        Ok(rows.iter().map(|row| row.get(0)).collect())
    }

    fn find(&mut self, id: &str) -> Result<Option<String>, ReadFault> {
        let sql = format!("SELECT stage FROM {} WHERE id = $1", self.table);
        let rows = self.session.rows("look for the probe's row", &sql, &[&id]);
        let rows = rows.map_err(|fault| self.lacking(fault, "read the table"))?;
        Ok(rows.first().map(|row| row.get(0)))
    }
}
