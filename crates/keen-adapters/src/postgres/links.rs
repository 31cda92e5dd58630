//! The links of a PostgreSQL server, looked at again and again.
//!
//! One session without a transaction, kept from look to look. A look is six statements; one more for
//! each worker that waits for a lock, to find who holds it.

use super::queries;
use std::collections::BTreeMap;

use keen_core::fault::ReadFault;
use keen_core::observe::links::{Inflow, LinkSnapshot, Own, Touched};
use keen_core::ports::LookAtLinks;
use keen_core::topology::Engine;

use super::connect::PostgresSession;
use super::quoted;
use super::replication::{ReplicationFacts, ReplicationLook, lsn, seen};
use crate::server::Access;

/// A PostgreSQL server whose links are looked at.
pub struct PostgresLinks {
    session: PostgresSession,
    beats: Option<String>,
}

impl std::fmt::Debug for PostgresLinks {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PostgresLinks").finish_non_exhaustive()
    }
}

impl PostgresLinks {
    /// Logs in. `beats` is the table of signs of life, if there is to be one.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be reached in time, or refuses.
    pub fn open(access: &Access, beats: Option<&str>) -> Result<Self, ReadFault> {
        Ok(Self {
            session: PostgresSession::open_to_look(access)?,
            beats: beats.map(str::to_owned),
        })
    }
}

impl LookAtLinks for PostgresLinks {
    fn look_at_links(&mut self, tables: &[(String, String)]) -> Result<LinkSnapshot, ReadFault> {
        let rows = self.session.rows("inspect its log", queries::SERVER, &[])?;
        let server = rows.first().ok_or_else(|| {
            ReadFault::new("the server told nothing of its log", "inspect the server's log")
        })?;
        let version: &str = server.get(0);
        let version = version.split_whitespace().next().unwrap_or(version).to_owned();
        let (major, standby): (i32, bool) = (server.get(1), server.get(2));
        let at = lsn(server.get(4));
        let mut asked = 1;
        let mut look = ReplicationLook {
            session: &self.session,
            major: major.unsigned_abs(),
            standby,
            pglogical: server.get(8),
            locks: true,
            asked: 0,
        };
        let ReplicationFacts { inflows, outlets } = look.facts(at.as_ref())?;
        asked += look.asked;
        let published = seen(&self.session, "inspect what it publishes", queries::PUBLISHED, &[])?;
        asked += 1;
        let closed: Option<&str> = server.get(3);
        let last: Option<String> = server.get(6);
        let mut touched = self.touched(tables)?;
        asked += u32::from(!tables.is_empty()) + u32::from(self.beats.is_some());
        // Only where a subscription took up tables without their rows does anybody ask whether there are any.
        let uncopied = |inflow: &Inflow| {
            let tables = inflow.link.tables.as_deref().unwrap_or_default();
            tables.iter().any(|taken| taken.ready && !taken.copied)
        };
        let takes = inflows.as_ref().is_ok_and(|inflows| inflows.iter().any(uncopied));
        let sends = outlets.as_ref().is_ok_and(|rows| !rows.is_empty());
        if takes || sends {
            asked += 1;
            self.look_for_rows(&mut touched)?;
        }
        let touched = touched.into_iter().map(|(table, (touched, _))| (table, touched)).collect();
        Ok(LinkSnapshot {
            engine: Engine::Postgres,
            about: format!("postgresql {version}"),
            standby,
            closed: (closed == Some("on")).then(|| "default_transaction_read_only = on".to_owned()),
            cluster: false,
            server_id: None,
            domain: None,
            database: server.get(7),
            position: at.ok_or_else(|| ReadFault::not_told("it told no position")),
            stamp: None,
            flushed: lsn(server.get(5)),
            // A commit that does not wait for the disk is written there within three of the writer's rounds.
            unsafe_for: server.get::<_, Option<i64>>(9).unwrap_or(600_000),
            origins: None,
            own: last.map(|last| Own::Last { here: last.ends_with("/0"), mark: last }),
            touched,
            inflows,
            outlets,
            published: published
                .map(|rows| rows.iter().map(|row| (row.get(0), row.get(1))).collect()),
            beats: self.beats()?,
            asked,
        })
    }
}

impl PostgresLinks {
    /// How often the tables were written to, by applications and by replication.
    /// With each comes its quoted name, unless it is locked against being looked into.
    fn touched(
        &self,
        tables: &[(String, String)],
    ) -> Result<BTreeMap<String, (Touched, Option<String>)>, ReadFault> {
        if tables.is_empty() {
            return Ok(BTreeMap::new());
        }
        let names: Vec<&String> = tables.iter().map(|(_, local)| local).collect();
        let rows =
            seen(&self.session, "look whether tables changed", queries::WRITTEN_ROWS, &[&names])?;
        let rows = rows.unwrap_or_default();
        let mut touched = BTreeMap::new();
        for (table, local) in tables {
            let found = rows
                .iter()
                .find(|row| row.get::<_, &str>(0) == local || row.get::<_, &str>(1) == local);
            if let Some(row) = found {
                let count = row.get::<_, Option<i64>>(2).unwrap_or(0).unsigned_abs();
                let touch = Touched { count, at: None, holds: None };
                touched.insert(table.clone(), (touch, row.get(3)));
            }
        }
        Ok(touched)
    }

    /// Looks whether tables hold any row. What cannot be answered stays unknown.
    fn look_for_rows(
        &self,
        touched: &mut BTreeMap<String, (Touched, Option<String>)>,
    ) -> Result<(), ReadFault> {
        let open: Vec<(&mut Touched, &String)> =
            touched.values_mut().filter_map(|(t, name)| Some((t, name.as_ref()?))).collect();
        if open.is_empty() {
            return Ok(());
        }
        let parts: Vec<String> =
            open.iter().map(|(_, name)| format!("EXISTS (SELECT 1 FROM {name})")).collect();
        let sql = format!("SELECT ARRAY[{}]", parts.join(", "));
        let rows = seen(&self.session, "look whether tables hold rows", &sql, &[])?;
        let found: Vec<bool> =
            rows.ok().and_then(|rows| Some(rows.first()?.get(0))).unwrap_or_default();
        for ((touched, _), holds) in open.into_iter().zip(found) {
            touched.holds = Some(holds);
        }
        Ok(())
    }

    /// The table of signs of life.
    fn beats(&self) -> Result<BTreeMap<String, i64>, ReadFault> {
        let Some(table) = &self.beats else { return Ok(BTreeMap::new()) };
        let table: Vec<String> = table.split('.').map(quoted).collect();
        let sql = format!(
            "SELECT node::text, (extract(epoch FROM beat) * 1000000)::int8 FROM {}",
            table.join(".")
        );
        let rows = seen(&self.session, "read the heartbeats", &sql, &[])?;
        Ok(rows.unwrap_or_default().iter().map(|row| (row.get(0), row.get(1))).collect())
    }
}
