//! The connections over which a MariaDB server follows others.
//!
//! One session without a transaction, kept from look to look. A look is three statements; two more
//! when something waits for a lock, to find who holds it.

use super::queries;
use std::collections::BTreeMap;

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::observe::links::{Holder, Inflow, LinkSnapshot, Own, Touched, Wait};
use keen_core::observe::node::Observed;
use keen_core::observe::position::{self, Position};
use keen_core::ports::LookAtLinks;
use keen_core::topology::Engine;
use mysql::Row;

use super::connect::MariaDbSession;
use super::quoted;
use super::replication::{LinkStatus, inflow, text};
use crate::server::Access;

/// A MariaDB server whose links are looked at.
pub struct MariaDbLinks {
    session: MariaDbSession,
    status: LinkStatus,
    beats: Option<String>,
}

impl std::fmt::Debug for MariaDbLinks {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("MariaDbLinks").finish_non_exhaustive()
    }
}

impl MariaDbLinks {
    /// Logs in. `beats` is the table of signs of life, if there is to be one.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be reached in time, or refuses.
    pub fn open(access: &Access, beats: Option<&str>) -> Result<Self, ReadFault> {
        Ok(Self {
            session: MariaDbSession::open_to_look(access)?,
            status: LinkStatus::of(access),
            beats: beats.map(str::to_owned),
        })
    }

    /// Statements that fail because the server lacks what they ask for cost that answer, nothing else.
    fn seen<T: mysql::prelude::FromRow>(
        &mut self,
        doing: &str,
        sql: &str,
        values: impl Into<mysql::Params>,
    ) -> Result<Observed<Vec<T>>, ReadFault> {
        match self.session.rows(doing, sql, values) {
            Ok(rows) => Ok(Ok(rows)),
            Err(fault) => match &self.session.given_up {
                Some(_) => Err(fault),
                None => Ok(Err(fault)),
            },
        }
    }
}

impl LookAtLinks for MariaDbLinks {
    fn look_at_links(&mut self, tables: &[(String, String)]) -> Result<LinkSnapshot, ReadFault> {
        let mut asked = 1;
        let server: Observed<Vec<Row>> = self.seen("inspect its log", queries::SERVER, ())?;
        let server = server.map(|rows| rows.into_iter().next());
        let Ok(Some(server)) = server else {
            let fault = ReadFault::not_told("keen can read the state of links from MariaDB only");
            return Ok(unknown(fault, asked));
        };
        let number = |name: usize| text_at(&server, name).and_then(|v| v.parse::<u64>().ok());
        let list = |at: usize| position::gtids(&text_at(&server, at).unwrap_or_default());
        let (logged, applied) = (list(5), list(6));
        let logs = number(4).is_some_and(|on| on != 0);
        let domain = number(2).and_then(|domain| u32::try_from(domain).ok());
        let id = number(1).and_then(|id| u32::try_from(id).ok());
        let (here, held) = match (logged, applied) {
            (Ok(logged), Ok(applied)) => {
                let held = held(&logged, &applied, id);
                (logged.with(&applied).ok_or_else(|| ReadFault::not_told("unlike positions")), held)
            }
            (Err(error), _) | (_, Err(error)) => {
                (Err(ReadFault::not_told(error.to_string())), None)
            }
        };
        let version = text_at(&server, 0).unwrap_or_default();
        let version = version.split('-').next().unwrap_or_default().to_owned();
        asked += 1;
        let rows = self.status()?;
        let mut inflows: Observed<Vec<Inflow>> =
            rows.map(|rows| rows.iter().map(|row| inflow(row, held.as_ref())).collect());
        for inflow in inflows.iter_mut().flatten() {
            if let Some(mut what) = inflow.doing.as_deref().and_then(waited_for) {
                asked += 2;
                let holders = self.holders(&mut what)?;
                inflow.wait = Some(Wait { what: what.what(), holders });
            }
        }
        let own = id
            .zip(domain)
            .and_then(|(id, domain)| own(&text_at(&server, 7).unwrap_or_default(), id, domain));
        asked += u32::from(!tables.is_empty());
        let touched = self.touched(tables)?;
        let beats = self.beats()?;
        asked += u32::from(self.beats.is_some());
        Ok(LinkSnapshot {
            engine: Engine::MariaDb,
            about: format!("mariadb {version}"),
            standby: false,
            closed: number(3).is_some_and(|on| on != 0).then(|| "read_only = ON".to_owned()),
            cluster: text_at(&server, 8).as_deref() == Some("ON"),
            server_id: id.map(|id| id.to_string()),
            domain,
            database: None,
            position: if logs { here } else { Err(ReadFault::not_told("it keeps no binary log")) },
            stamp: None,
            flushed: None,
            unsafe_for: 0,
            origins: held,
            own,
            touched,
            inflows,
            outlets: Ok(Vec::new()),
            published: Ok(Vec::new()),
            beats,
            asked,
        })
    }
}

/// A server that could be asked nothing.
fn unknown(fault: ReadFault, asked: u32) -> LinkSnapshot {
    LinkSnapshot {
        engine: Engine::MariaDb,
        about: "mysql".to_owned(),
        standby: false,
        closed: None,
        cluster: false,
        server_id: None,
        domain: None,
        database: None,
        position: Err(fault.clone()),
        stamp: None,
        flushed: None,
        unsafe_for: 0,
        origins: None,
        own: None,
        touched: BTreeMap::new(),
        inflows: Err(fault),
        outlets: Ok(Vec::new()),
        published: Ok(Vec::new()),
        beats: BTreeMap::new(),
        asked,
    }
}

fn text_at(row: &Row, at: usize) -> Option<String> {
    text(row.as_ref(at)?)
}

/// The position that can be read on this server: its own writes, and those it applied. A write that it applies stands
/// in its own log before it is committed, and until then nobody sees its rows.
fn held(logged: &Position, applied: &Position, id: Option<u32>) -> Option<Position> {
    let Position::Gtid(logged) = logged else { return None };
    let own = logged.iter().filter(|(_, (server, _))| Some(*server) == id);
    applied.clone().with(&Position::Gtid(own.map(|(domain, at)| (*domain, *at)).collect()))
}

/// The server's own writes: the number of its last transaction in its domain. Where other servers number theirs in the
/// same domain, the numbers between may be theirs, and are no count.
fn own(state: &str, id: u32, domain: u32) -> Option<Own> {
    let mut last = 0u64;
    let mut shared = false;
    for part in state.split(',').map(str::trim).filter(|part| !part.is_empty()) {
        let Ok(Position::Gtid(parts)) = position::gtids(part) else { return None };
        match parts.get(&domain) {
            Some((server, at)) if *server == id => last = *at,
            Some(_) => shared = true,
            None => {}
        }
    }
    Some(if shared {
        Own::Last { mark: format!("{domain}-{id}-{last}"), here: true }
    } else {
        Own::Count(last)
    })
}

/// A lock that an applier waits for.
enum Lock {
    /// All tables of the server.
    Server,
    /// One table.
    Table,
    /// A row of a table.
    Row(String),
}

impl Lock {
    fn what(&self) -> String {
        match self {
            Self::Server => "a global read lock or a backup".to_owned(),
            Self::Table => "a table lock".to_owned(),
            Self::Row(table) if table.is_empty() => "a row".to_owned(),
            Self::Row(table) => format!("a row of {table}"),
        }
    }
}

/// The lock that the words of the applier name. It says to look for a row while it waits for that row.
fn waited_for(doing: &str) -> Option<Lock> {
    if doing.contains("Waiting for backup lock") || doing.contains("global read lock") {
        return Some(Lock::Server);
    }
    if doing.contains("metadata lock") || doing.contains("table level lock") {
        return Some(Lock::Table);
    }
    let (_, rest) = doing.split_once("find_row(")?;
    let table = rest.split_once("on table `").and_then(|(_, name)| name.split_once('`'));
    Some(Lock::Row(table.map(|(name, _)| name.to_owned()).unwrap_or_default()))
}

impl MariaDbLinks {
    /// The status of all connections, or why it is not told. The rest of the look goes on.
    fn status(&mut self) -> Result<Observed<Vec<Row>>, ReadFault> {
        match self.status.rows() {
            Ok(rows) => Ok(Ok(rows)),
            Err(fault) if fault.is_interrupted() => Err(fault),
            Err(fault) if fault.kind == FaultKind::NoAnswer => {
                let holders = match self.holders(&mut Lock::Row(String::new()))? {
                    Ok(holders) if holders.is_empty() => {
                        "; its holder could not be seen".to_owned()
                    }
                    Ok(holders) => {
                        let of: Vec<String> = (holders.iter())
                            .map(|holder| format!("session {} ({})", holder.session, holder.about))
                            .collect();
                        format!("; a row lock is held by {}", of.join(" and "))
                    }
                    Err(fault) => format!("; its holder cannot be seen: {}", fault.what),
                };
                let what = format!("{}; the server itself answers{holders}", fault.what);
                Ok(Err(ReadFault { what, ..fault }))
            }
            Err(fault) => Ok(Err(fault)),
        }
    }

    /// Sessions that hold what an applier waits for, as far as the account may see others' sessions.
    fn holders(&mut self, lock: &mut Lock) -> Result<Observed<Vec<Holder>>, ReadFault> {
        let sql = match &*lock {
            Lock::Row(_) => queries::ROW_LOCK_HOLDERS,
            // Which session holds such a lock only a plugin tells that few servers have.
            Lock::Table | Lock::Server => queries::TABLE_LOCK_HOLDERS,
        };
        // The server's own sessions are shown to those alone who may see the sessions of others.
        let may: Observed<Vec<u64>> =
            self.seen("inspect its sessions", queries::SEEN_WORKERS, ())?;
        if !may.is_ok_and(|rows| rows.first().is_some_and(|count| *count > 0)) {
            let fault = ReadFault::not_told("the account lacks PROCESS");
            return Ok(Err(fault.of(FaultKind::NotAllowed)));
        }
        type MariaDbSession = (u64, String, String, String, i64, Option<String>);
        let found: Observed<Vec<MariaDbSession>> =
            self.seen("inspect who holds a lock", sql, ())?;
        if let (Lock::Row(table), Ok(rows)) = (&mut *lock, &found)
            && let Some(full) = rows.iter().find_map(|row| row.5.as_ref())
        {
            // Quoted, in whichever way the session asked for.
            let quotes: &[char] = &['`', '"'];
            let after = quotes.iter().find_map(|q| Some(full.rsplit_once(&format!("{q}.{q}"))?.1));
            *table = after.unwrap_or(full).trim_matches(quotes).to_owned();
        }
        Ok(match found {
            Ok(rows) => Ok(rows
                .into_iter()
                .map(|(session, user, host, command, time, _)| Holder {
                    session,
                    about: format!(
                        "{user} from {}, {} for {time} s",
                        host.split(':').next().unwrap_or(&host),
                        command.to_lowercase()
                    ),
                })
                .collect()),
            Err(_) => Err(ReadFault::not_told(
                "the plugin metadata_lock_info is not installed, and without it the server does not tell",
            )),
        })
    }

    /// When the tables were last written to.
    fn touched(
        &mut self,
        tables: &[(String, String)],
    ) -> Result<BTreeMap<String, Touched>, ReadFault> {
        if tables.is_empty() {
            return Ok(BTreeMap::new());
        }
        let database = self.session.access().server.database.clone();
        let places: Vec<(String, String)> = tables
            .iter()
            .map(|(_, local)| match local.split_once('.') {
                Some((database, table)) => (database.to_owned(), table.to_owned()),
                None => (database.clone(), local.clone()),
            })
            .collect();
        let marks = vec!["(TABLE_SCHEMA = ? AND TABLE_NAME = ?)"; places.len()].join(" OR ");
        let sql = format!(
            "SELECT TABLE_SCHEMA, TABLE_NAME, CAST(UNIX_TIMESTAMP(UPDATE_TIME) AS UNSIGNED) \
             FROM information_schema.TABLES WHERE {marks}"
        );
        let values: Vec<mysql::Value> =
            places.iter().flat_map(|(d, t)| [d.as_str().into(), t.as_str().into()]).collect();
        let rows: Observed<Vec<(String, String, Option<u64>)>> =
            self.seen("look when tables changed", &sql, mysql::Params::Positional(values))?;
        let rows = rows.unwrap_or_default();
        let mut touched = BTreeMap::new();
        for ((table, _), place) in tables.iter().zip(&places) {
            let found = rows.iter().find(|(d, t, _)| *d == place.0 && *t == place.1);
            let Some((_, _, at)) = found else { continue };
            // The server forgets it when it starts.
            let seconds = at.unwrap_or(0);
            let at = i64::try_from(seconds).ok().filter(|at| *at > 0);
            touched.insert(
                table.clone(),
                Touched { count: seconds, at: at.map(|at| at * 1_000_000), holds: None },
            );
        }
        Ok(touched)
    }

    /// The table of signs of life.
    fn beats(&mut self) -> Result<BTreeMap<String, i64>, ReadFault> {
        let Some(table) = &self.beats else { return Ok(BTreeMap::new()) };
        let table: Vec<String> = table.split('.').map(quoted).collect();
        let sql = format!(
            "SELECT node, CAST(ROUND(UNIX_TIMESTAMP(beat) * 1000000) AS SIGNED) FROM {}",
            table.join(".")
        );
        let rows: Observed<Vec<(String, i64)>> = self.seen("read the heartbeats", &sql, ())?;
        Ok(rows.unwrap_or_default().into_iter().collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_an_applier_waits_for_is_read_from_its_words() {
        let what = |doing: &str| waited_for(doing).map(|lock| lock.what());
        assert_eq!(
            what("Waiting for backup lock").as_deref(),
            Some("a global read lock or a backup")
        );
        assert_eq!(what("Waiting for table metadata lock").as_deref(), Some("a table lock"));
        let row = "Update_rows_log_event::find_row(42) on table `stay`";
        assert_eq!(what(row).as_deref(), Some("a row of stay"));
        assert_eq!(what("Slave has read all relay log; waiting for more updates"), None);
    }

    #[test]
    fn what_is_logged_and_not_committed_yet_is_not_held() {
        let gtids = |text: &str| position::gtids(text).unwrap();
        let held = |logged: &str, applied: &str| {
            held(&gtids(logged), &gtids(applied), Some(2)).map(|position| position.to_string())
        };
        // 1-1-17 is being applied: it is in this server's log, and its rows are not there yet.
        assert_eq!(held("1-1-17,2-2-5", "1-1-16"), Some("1-1-16,2-2-5".to_owned()));
        // In a domain that all share its own writes count, and those of others once they are applied.
        assert_eq!(held("0-2-18", "0-1-17"), Some("0-2-18".to_owned()));
        assert_eq!(held("0-1-19", "0-1-17"), Some("0-1-17".to_owned()));
    }

    #[test]
    fn own_writes_are_counted_only_in_a_domain_of_ones_own() {
        assert_eq!(own("1-1-17,2-2-5", 1, 1), Some(Own::Count(17)));
        assert_eq!(own("", 1, 1), Some(Own::Count(0)));
        let shared = own("0-1-17,0-2-18", 1, 0);
        assert_eq!(shared, Some(Own::Last { mark: "0-1-17".to_owned(), here: true }));
    }
}
