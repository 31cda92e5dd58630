//! A session: connected within limits, settings pinned, one snapshot.

use super::queries;
use std::sync::mpsc;
use std::time::Duration;

use keen_core::fault::ReadFault;
use mysql::prelude::{FromRow, Queryable};
use mysql::{ClientIdentity, Conn, OptsBuilder, Params, SslOpts};

use super::fault;
use super::look::Grant;
use crate::server::Access;

pub(super) struct MariaDbSession {
    pub(super) connection: Conn,
    access: Access,
    /// Why the connection is of no use any more: it was lost, fell silent, or has a result half
    /// read, whose rest would be taken for the answer to the next question.
    pub(super) given_up: Option<ReadFault>,
    /// Its grants, once somebody asked.
    grants: Option<Vec<Grant>>,
    /// Whether the server is a member of a cluster, once somebody asked.
    cluster: Option<bool>,
}

impl MariaDbSession {
    /// Logs in and fixes the moment as of which the server is read.
    pub(super) fn open(access: &Access) -> Result<Self, ReadFault> {
        let mut session = Self::connect(access)?;
        let lock = access.wait.as_secs().max(1);
        session.prepare(&[
            "SET NAMES utf8mb4",
            "SET SESSION time_zone = '+00:00'",
            "SET SESSION sql_mode = 'ANSI_QUOTES,PIPES_AS_CONCAT,NO_BACKSLASH_ESCAPES'",
            &format!("SET SESSION lock_wait_timeout = {lock}, innodb_lock_wait_timeout = {lock}"),
            // A slower node may keep this one waiting; the server would hang up on a reader that pauses.
            "SET SESSION net_write_timeout = 86400, wait_timeout = 86400",
            "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ",
            "SET SESSION TRANSACTION READ ONLY",
            "START TRANSACTION WITH CONSISTENT SNAPSHOT",
        ])?;
        Ok(session)
    }

    /// Logs in to look at what changes from moment to moment.
    pub(super) fn open_to_look(access: &Access) -> Result<Self, ReadFault> {
        let mut session = Self::connect(access)?;
        let lock = access.wait.as_secs().max(1);
        session.prepare(&[&format!(
            "SET NAMES utf8mb4, SESSION time_zone = '+00:00', SESSION lock_wait_timeout = {lock}, \
             SESSION sql_mode = 'ANSI_QUOTES,PIPES_AS_CONCAT,NO_BACKSLASH_ESCAPES', SESSION tx_read_only = 1"
        )])?;
        Ok(session)
    }

    /// Logs in to write, each statement for itself.
    pub(super) fn open_to_write(access: &Access) -> Result<Self, ReadFault> {
        let mut session = Self::connect(access)?;
        let lock = access.wait.as_secs().max(1);
        session.prepare(&[&format!(
            "SET NAMES utf8mb4, SESSION lock_wait_timeout = {lock}, SESSION innodb_lock_wait_timeout = {lock}"
        )])?;
        Ok(session)
    }

    fn connect(access: &Access) -> Result<Self, ReadFault> {
        let options = options(access)?;
        // The limit of the library begins anew with each read; this one holds for the whole handshake.
        let (say, connected) = mpsc::sync_channel(1);
        std::thread::Builder::new()
            .name("connect".to_owned())
            .spawn(move || drop(say.send(Conn::new(options))))
            .map_err(|error| {
                ReadFault::new(format!("cannot start a connection: {error}"), "free some memory")
            })?;
        let began = std::time::Instant::now();
        let connection = loop {
            match connected.recv_timeout(Duration::from_millis(100)) {
                Ok(connection) => {
                    break connection.map_err(|error| fault::connecting(access, &error))?;
                }
                Err(_) if access.stopped() => return Err(ReadFault::interrupted()),
                Err(_) if began.elapsed() >= access.wait => return Err(access.silent("connect")),
                Err(_) => {}
            }
        };
        Ok(Self { connection, access: access.clone(), given_up: None, grants: None, cluster: None })
    }

    fn prepare(&mut self, statements: &[&str]) -> Result<(), ReadFault> {
        for statement in statements {
            let done = self.connection.query_drop(statement);
            done.map_err(|error| fault::explain(&self.access, "prepare the session", &error))?;
        }
        Ok(())
    }

    /// Where in the binary log the snapshot stands; none without a log.
    pub(super) fn moment(&mut self) -> Option<Vec<(String, String)>> {
        let sql = queries::SNAPSHOT_POSITION;
        let found: Vec<(String, String)> = self.connection.query(sql).ok()?;
        found.iter().any(|(_, value)| !matches!(&value[..], "" | "0")).then_some(found)
    }

    pub(super) fn access(&self) -> &Access {
        &self.access
    }

    /// Runs a statement of which nothing comes back.
    pub(super) fn run(&mut self, doing: &str, sql: &str) -> Result<(), ReadFault> {
        self.usable()?;
        let access = self.access.clone();
        let done = self.connection.query_drop(sql);
        done.map_err(|error| failed(&access, &mut self.given_up, doing, &error))
    }

    pub(super) fn rows<T: FromRow>(
        &mut self,
        doing: &str,
        sql: &str,
        values: impl Into<Params>,
    ) -> Result<Vec<T>, ReadFault> {
        self.usable()?;
        let rows = self.connection.exec(sql, values);
        rows.map_err(|error| failed(&self.access, &mut self.given_up, doing, &error))
    }

    /// Whether the account was granted a privilege on a table, as far as it is told.
    pub(super) fn may(&mut self, privilege: &str, database: &str, table: &str) -> bool {
        if self.grants.is_none() {
            let lines: Vec<String> =
                self.rows("inspect its rights", queries::GRANTS, ()).unwrap_or_default();
            self.grants = Some(lines.iter().filter_map(|line| Grant::read(line)).collect());
        }
        let mut grants = self.grants.iter().flatten();
        grants.any(|grant| grant.gives(privilege, database, table))
    }

    /// Whether the server is a member of a synchronous cluster.
    pub(super) fn in_a_cluster(&mut self) -> bool {
        if self.cluster.is_none() {
            let sql = queries::IN_CLUSTER;
            // Servers without such a table are none.
            let found: Vec<String> = self.rows("inspect the server", sql, ()).unwrap_or_default();
            self.cluster = Some(found.iter().any(|value| value == "ON"));
        }
        self.cluster == Some(true)
    }

    /// The account that logged in, as statements name it: the server may know another host than we do.
    pub(super) fn account(&mut self) -> Result<String, ReadFault> {
        let current: Vec<String> = self.rows("inspect the account", queries::ACCOUNT, ())?;
        let current = current.into_iter().next().unwrap_or_default();
        let (user, host) = current.rsplit_once('@').unwrap_or((&current, "%"));
        let text = |part: &str| format!("'{}'", part.replace('\'', "''"));
        Ok(format!("{}@{}", text(user), text(host)))
    }

    /// The connection alone, to be used up.
    pub(super) fn into_connection(self) -> Conn {
        self.connection
    }

    pub(super) fn usable(&self) -> Result<(), ReadFault> {
        self.given_up.clone().map_or(Ok(()), Err)
    }
}

/// Explains an error; one that the server did not send itself ends the use of the connection.
pub(super) fn failed(
    access: &Access,
    given_up: &mut Option<ReadFault>,
    doing: &str,
    error: &mysql::Error,
) -> ReadFault {
    let fault = fault::explain(access, doing, error);
    if !matches!(error, mysql::Error::MySqlError(_)) {
        *given_up = Some(fault.clone());
    }
    fault
}

fn options(access: &Access) -> Result<OptsBuilder, ReadFault> {
    let server = &access.server;
    let mut options = OptsBuilder::new()
        .ip_or_hostname(Some(server.host.clone()))
        .tcp_port(server.port)
        .user(Some(server.user.clone()))
        .pass(access.password.as_ref().map(|password| password.reveal().to_owned()))
        .db_name(Some(server.database.clone()))
        .prefer_socket(false)
        .tcp_connect_timeout(Some(access.wait))
        .read_timeout(Some(access.silence))
        .write_timeout(Some(access.silence))
        .stmt_cache_size(0);
    if access.wants_tls() {
        // Checked here first, so that what is wrong with the files is said in the same words everywhere.
        access.tls_config()?;
        let mut tls = SslOpts::default();
        if let Some(ca) = &access.tls.ca {
            tls = tls.with_root_cert_path(Some(access.path(ca)));
        }
        if let Some((cert, key)) = &access.tls.client {
            tls = tls.with_client_identity(Some(ClientIdentity::new(
                access.path(cert),
                access.path(key),
            )));
        }
        tls = tls
            .with_danger_accept_invalid_certs(access.tls.unverified)
            .with_danger_skip_domain_validation(access.tls.unverified);
        options = options.ssl_opts(tls);
    }
    Ok(options)
}
