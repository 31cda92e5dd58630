//! A session: connected within limits, settings pinned, one read-only transaction.

use std::cell::RefCell;
use std::future::Future;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use keen_core::fault::ReadFault;
use tokio::runtime::Runtime;
use tokio_postgres::config::SslMode;
use tokio_postgres::types::ToSql;
use tokio_postgres::{Client, Config, CopyOutStream, NoTls, Row, RowStream, SimpleQueryMessage};
use tokio_postgres_rustls::MakeRustlsConnect;

use super::fault;
use crate::server::Access;

/// The settings of a session, whatever the account's defaults are. Row security that would hide rows from this account
/// is an error rather than a filter.
const SETTINGS: &str = "SET TimeZone = 'UTC'; SET DateStyle = 'ISO, YMD'; SET IntervalStyle = 'iso_8601'; \
    SET extra_float_digits = 3; SET bytea_output = 'hex'; SET xmloption = 'content'; SET row_security = off; \
    SET idle_in_transaction_session_timeout = 0; SET default_transaction_read_only = on; SET jit = off; ";

/// How often a waiting session looks at the stop flag.
const TICK: Duration = Duration::from_millis(200);

pub(super) struct PostgresSession {
    /// Goes before what carries it: its end is what makes the connection take its leave.
    pub(super) client: Client,
    runtime: Carrier,
    access: Access,
    /// The server's message when it ended the connection of its own accord.
    farewell: Farewell,
    /// It replays what a primary writes, and may drop readers that are in the way of that.
    standby: bool,
    /// Everything read belongs to one transaction.
    in_transaction: bool,
    /// Why it was given up: whatever else is asked of it would only wait as long again.
    given_up: RefCell<Option<ReadFault>>,
}

/// The task that carries a connection. It sees it off, too: a connection that is just dropped is a complaint in the
/// server's log.
struct Carrier {
    runtime: Runtime,
    connection: Option<tokio::task::JoinHandle<()>>,
}

impl std::ops::Deref for Carrier {
    type Target = Runtime;

    fn deref(&self) -> &Runtime {
        &self.runtime
    }
}

impl Drop for Carrier {
    fn drop(&mut self) {
        /// Taking leave waits for no answer; only a result half read stands in its way.
        const LEAVE: Duration = Duration::from_millis(100);
        if let Some(connection) = self.connection.take() {
            // Whether it got away in time or not, it is over.
            let _ = self.runtime.block_on(async { tokio::time::timeout(LEAVE, connection).await });
        }
    }
}

type Farewell = Arc<Mutex<Option<tokio_postgres::Error>>>;

/// Carries the connection until its end, and keeps what the server said then.
async fn carry(
    connection: impl Future<Output = Result<(), tokio_postgres::Error>>,
    farewell: Farewell,
) {
    if let (Err(error), Ok(mut kept)) = (connection.await, farewell.lock()) {
        *kept = Some(error);
    }
}

impl PostgresSession {
    /// Connects; to the moment of another session, if its exported snapshot is given.
    pub(super) fn open(access: &Access, snapshot: Option<&str>) -> Result<Self, ReadFault> {
        let mut session = Self::connect(access)?;
        let lock = access.wait.as_millis().max(1);
        session.batch(&format!(
            "{SETTINGS} SET lock_timeout = '{lock}ms'; BEGIN TRANSACTION ISOLATION LEVEL REPEATABLE READ READ ONLY"
        ))?;
        if let Some(snapshot) = snapshot {
            session
                .batch(&format!("SET TRANSACTION SNAPSHOT '{}'", snapshot.replace('\'', "''")))?;
        }
        session.batch(MARK)?;
        session.in_transaction = true;
        session.standby = session.one("SELECT pg_is_in_recovery()")?.get(0);
        Ok(session)
    }

    /// Connects to look at what changes from moment to moment: each statement for itself.
    pub(super) fn open_to_look(access: &Access) -> Result<Self, ReadFault> {
        let session = Self::connect(access)?;
        let lock = access.wait.as_millis().max(1);
        session.batch(&format!("{SETTINGS} SET lock_timeout = '{lock}ms'"))?;
        Ok(session)
    }

    /// Connects to write, each statement for itself.
    pub(super) fn open_to_write(access: &Access) -> Result<Self, ReadFault> {
        let session = Self::connect(access)?;
        let lock = access.wait.as_millis().max(1);
        session.batch(&format!("SET lock_timeout = '{lock}ms'"))?;
        Ok(session)
    }

    /// Logs in to carry out a plan: a node that applications are kept from is repaired all the same.
    ///
    /// # Errors
    /// As [`PostgresSession::open_to_write`].
    pub(super) fn open_to_mend(access: &Access) -> Result<Self, ReadFault> {
        let session = Self::open_to_write(access)?;
        session.batch("SET default_transaction_read_only = off")?;
        Ok(session)
    }

    fn connect(access: &Access) -> Result<Self, ReadFault> {
        let runtime = tokio::runtime::Builder::new_current_thread()
            .enable_io()
            .enable_time()
            .build()
            .map_err(|error| {
                ReadFault::new(
                    format!("cannot start a connection: {error}"),
                    "free some memory or file handles",
                )
            })?;
        let server = &access.server;
        let mut config = Config::new();
        config
            .host(&server.host)
            .port(server.port)
            .user(&server.user)
            .dbname(&server.database)
            .application_name("keen")
            .connect_timeout(access.wait)
            .keepalives_idle(Duration::from_secs(30));
        if let Some(password) = &access.password {
            config.password(password.reveal());
        }
        // The library's own limit ends with the TCP handshake; this one holds for all of it.
        let farewell = Farewell::default();
        let (client, connection) = if access.wants_tls() {
            config.ssl_mode(SslMode::Require);
            let tls = MakeRustlsConnect::new(access.tls_config()?);
            let connecting = config.connect(tls);
            let (client, connection) =
                within(&runtime, access, access.wait, "connect", connecting)?
                    .map_err(|error| fault::connecting(access, &error))?;
            (client, runtime.spawn(carry(connection, Arc::clone(&farewell))))
        } else {
            config.ssl_mode(SslMode::Disable);
            let connecting = config.connect(NoTls);
            let (client, connection) =
                within(&runtime, access, access.wait, "connect", connecting)?
                    .map_err(|error| fault::connecting(access, &error))?;
            (client, runtime.spawn(carry(connection, Arc::clone(&farewell))))
        };
        Ok(Self {
            client,
            runtime: Carrier { runtime, connection: Some(connection) },
            access: access.clone(),
            farewell,
            standby: false,
            in_transaction: false,
            given_up: RefCell::default(),
        })
    }

    pub(super) fn is_standby(&self) -> bool {
        self.standby
    }

    pub(super) fn access(&self) -> &Access {
        &self.access
    }

    fn batch(&self, sql: &str) -> Result<(), ReadFault> {
        let done = self.within("prepare the session", self.client.batch_execute(sql))?;
        done.map_err(|error| fault::explain(&self.access, "prepare the session", &error))
    }

    /// The name by which other sessions can take over the moment of this one.
    pub(super) fn export_snapshot(&self) -> Result<String, ReadFault> {
        // A savepoint makes a subtransaction, out of which nothing can be exported.
        self.batch("RELEASE SAVEPOINT keen")?;
        let snapshot = self.one("SELECT pg_export_snapshot()").map(|row| row.get(0));
        self.batch(MARK)?;
        snapshot
    }

    /// The rows of a small query.
    pub(super) fn rows(
        &self,
        doing: &str,
        sql: &str,
        values: &[&(dyn tokio_postgres::types::ToSql + Sync)],
    ) -> Result<Vec<Row>, ReadFault> {
        let rows = self.within(doing, self.client.query(sql, values))?;
        rows.map_err(|error| self.failed(doing, &error))
    }

    /// The one row of a small query.
    pub(super) fn one(&self, sql: &str) -> Result<Row, ReadFault> {
        let doing = "inspect the server";
        let row = self.within(doing, self.client.query_one(sql, &[]))?;
        row.map_err(|error| self.failed(doing, &error))
    }

    /// What comes of statements that are sent as they are.
    pub(super) fn simple(
        &self,
        doing: &str,
        sql: &str,
    ) -> Result<Result<Vec<SimpleQueryMessage>, tokio_postgres::Error>, ReadFault> {
        self.within(doing, self.client.simple_query(sql))
    }

    pub(super) fn copy_out(&self, doing: &str, sql: &str) -> Result<CopyOutStream, ReadFault> {
        let stream = self.within(doing, self.client.copy_out(sql))?;
        stream.map_err(|error| self.failed(doing, &error))
    }

    /// The rows of a query, as they come.
    pub(super) fn stream(&self, doing: &str, sql: &str) -> Result<RowStream, ReadFault> {
        let none: [&(dyn ToSql + Sync); 0] = [];
        let stream = self.within(doing, self.client.query_raw(sql, none))?;
        stream.map_err(|error| self.failed(doing, &error))
    }

    /// Explains an error, and goes back to before it so that the session can go on.
    pub(super) fn failed(&self, doing: &str, error: &tokio_postgres::Error) -> ReadFault {
        if error.is_closed() {
            // The reason came on the connection itself, and may still be on its way through it.
            self.runtime.block_on(async { tokio::time::sleep(TICK).await });
            let said = self.farewell.lock().ok().and_then(|mut kept| kept.take());
            let mut fault = fault::explain(&self.access, doing, said.as_ref().unwrap_or(error));
            let in_words = said.is_some_and(|error| error.as_db_error().is_some());
            if self.standby && !in_words {
                // A server that ends a session while it is sending cannot say why any more.
                fault.advice = fault::STANDBY.to_owned();
            }
            return self.give_up(fault);
        }
        if self.in_transaction {
            let back = self.within(doing, self.client.batch_execute(BACK));
            tracing::trace!(?back, "back to the savepoint");
        }
        fault::explain(&self.access, doing, error)
    }

    /// Waits for an answer as long as the server may be silent.
    pub(super) fn within<T>(
        &self,
        doing: &str,
        answer: impl Future<Output = T>,
    ) -> Result<T, ReadFault> {
        self.usable()?;
        within(&self.runtime, &self.access, self.access.silence, doing, answer)
            .map_err(|fault| self.give_up(fault))
    }

    /// Remembers that nothing more can be had from this session.
    pub(super) fn give_up(&self, fault: ReadFault) -> ReadFault {
        *self.given_up.borrow_mut() = Some(fault.clone());
        fault
    }

    pub(super) fn is_given_up(&self) -> bool {
        self.given_up.borrow().is_some()
    }

    fn usable(&self) -> Result<(), ReadFault> {
        self.given_up.borrow().clone().map_or(Ok(()), Err)
    }

    pub(super) fn block_on<T>(&self, work: impl Future<Output = T>) -> T {
        self.runtime.block_on(work)
    }
}

const MARK: &str = "SAVEPOINT keen";
const BACK: &str = "ROLLBACK TO SAVEPOINT keen";

fn within<T>(
    runtime: &Runtime,
    access: &Access,
    limit: Duration,
    doing: &str,
    answer: impl Future<Output = T>,
) -> Result<T, ReadFault> {
    runtime.block_on(waited(access, limit, doing, answer))
}

/// Waits for an answer up to a limit, looking at the stop flag now and then.
pub(super) async fn waited<T>(
    access: &Access,
    limit: Duration,
    doing: &str,
    answer: impl Future<Output = T>,
) -> Result<T, ReadFault> {
    let mut answer = std::pin::pin!(answer);
    let began = Instant::now();
    loop {
        if let Ok(answer) = tokio::time::timeout(TICK.min(limit), &mut answer).await {
            return Ok(answer);
        }
        if access.stopped() {
            return Err(ReadFault::interrupted());
        }
        if began.elapsed() >= limit {
            return Err(access.silent(doing));
        }
    }
}
