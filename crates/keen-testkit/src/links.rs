//! Links between servers of a lab.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use mysql::prelude::Queryable;

use crate::instance::Server;
use crate::{CARRIER, DATABASE, ServerFault};

/// MariaDB: `to` applies what `from` writes and passes on.
///
/// # Errors
/// [`ServerFault`] when a server refuses.
pub fn follow(to: &Server, from: &Server, connection: &str) -> Result<(), ServerFault> {
    let mut client = to.mariadb()?;
    client.query_drop(format!(
        "CHANGE MASTER '{connection}' TO MASTER_HOST='127.0.0.1', MASTER_PORT={}, MASTER_USER='{}', \
         MASTER_PASSWORD='{}', MASTER_USE_GTID=slave_pos, MASTER_CONNECT_RETRY=1, MASTER_HEARTBEAT_PERIOD=1",
        from.port(),
        CARRIER.0,
        CARRIER.1
    ))?;
    client.query_drop(format!("START SLAVE '{connection}'"))?;
    Ok(())
}

/// MariaDB: starts all that was stopped. A stop in the middle of a duplicate leaves a counter behind that makes the
/// server leave out the first transaction that it gets.
///
/// # Errors
/// As [`follow`].
pub fn mariadb_start_all(server: &Server) -> Result<(), ServerFault> {
    let mut client = server.mariadb()?;
    let connections: Vec<mysql::Row> = client.query("SHOW ALL SLAVES STATUS")?;
    for connection in connections {
        let name: Option<String> = connection.get("Connection_name");
        let name = name.unwrap_or_default().replace('\'', "''");
        let runs: Option<String> = connection.get("Slave_SQL_Running");
        if runs.as_deref() == Some("No") {
            client.query_drop(format!(
                "SET SESSION default_master_connection = '{name}', GLOBAL sql_slave_skip_counter = 0"
            ))?;
        }
    }
    client.query_drop("START ALL SLAVES")?;
    Ok(())
}

/// MariaDB: each follows each. The connection to server number i is called `m` and i.
///
/// # Errors
/// As [`follow`].
pub fn mariadb_mesh(servers: &[Server]) -> Result<(), ServerFault> {
    for (i, to) in servers.iter().enumerate() {
        for (j, from) in servers.iter().enumerate().filter(|(j, _)| *j != i) {
            follow(to, from, &format!("m{j}"))?;
        }
    }
    Ok(())
}

/// MariaDB: each follows the one before it, the first the last.
///
/// # Errors
/// As [`follow`].
pub fn mariadb_ring(servers: &[Server]) -> Result<(), ServerFault> {
    for (i, to) in servers.iter().enumerate() {
        let before = (i + servers.len() - 1) % servers.len();
        follow(to, &servers[before], &format!("m{before}"))?;
    }
    Ok(())
}

/// MariaDB: waits until no server lacks a transaction that another has, and until all of them can be read. A
/// transaction stands in a server's log a moment before its rows are there for others; the position of its applier
/// moves after that.
///
/// # Errors
/// [`ServerFault`] when that takes longer than `patience`.
pub fn mariadb_settled(servers: &[Server], patience: Duration) -> Result<(), ServerFault> {
    let mut clients = servers.iter().map(Server::mariadb).collect::<Result<Vec<_>, _>>()?;
    until(patience, "the MariaDB servers do not catch up with each other", || {
        let mut logs = Vec::new();
        for client in &mut clients {
            let (log, applied, own): (String, String, u64) = client
                .query_first("SELECT @@gtid_binlog_pos, @@gtid_slave_pos, @@server_id")?
                .unwrap_or_default();
            let (log, applied) = (last_transactions(&log), last_transactions(&applied));
            let readable = log.iter().all(|(domain, (server, sequence))| {
                *server == own || applied.get(domain).is_some_and(|(_, by_now)| by_now >= sequence)
            });
            if !readable {
                return Ok(false);
            }
            logs.push(log);
        }
        Ok(logs.windows(2).all(|pair| pair[0] == pair[1]))
    })
}

/// The last server and sequence number of each domain in a MariaDB position, `0-1-5,2-3-7`.
fn last_transactions(position: &str) -> BTreeMap<u64, (u64, u64)> {
    let numbers = |part: &str| -> Option<(u64, (u64, u64))> {
        let mut numbers = part.trim().split('-').map(|number| number.parse().ok());
        Some((numbers.next()??, (numbers.next()??, numbers.next()??)))
    };
    position.split(',').filter_map(numbers).collect()
}

/// The text by which a PostgreSQL server subscribes to another.
fn connection(to: &Server) -> String {
    format!(
        "host=127.0.0.1 port={} dbname={DATABASE} user={} password={}",
        to.port(),
        CARRIER.0,
        CARRIER.1
    )
}

/// PostgreSQL: publishes tables, given as SQL lists them after `FOR TABLE`.
///
/// # Errors
/// [`ServerFault`] when the server refuses.
pub fn publish(on: &Server, publication: &str, tables: &str) -> Result<(), ServerFault> {
    on.run(&format!("CREATE PUBLICATION {publication} FOR TABLE {tables}"))
}

/// PostgreSQL: subscribes, with options as SQL lists them after `WITH`.
///
/// # Errors
/// As [`publish`].
pub fn subscribe(
    to: &Server,
    from: &Server,
    subscription: &str,
    publication: &str,
    options: &str,
) -> Result<(), ServerFault> {
    to.run(&format!(
        "CREATE SUBSCRIPTION {subscription} CONNECTION '{}' PUBLICATION {publication} WITH ({options})",
        connection(from)
    ))
}

/// PostgreSQL 18: each takes what the others write themselves, and nothing that they were sent.
///
/// # Errors
/// As [`publish`].
pub fn postgres_peers(servers: &[Server], tables: &str) -> Result<(), ServerFault> {
    for server in servers {
        publish(server, "peers", tables)?;
    }
    for (i, to) in servers.iter().enumerate() {
        for (j, from) in servers.iter().enumerate().filter(|(j, _)| *j != i) {
            subscribe(
                to,
                from,
                &format!("from_{j}_to_{i}"),
                "peers",
                "origin = none, copy_data = false",
            )?;
        }
    }
    Ok(())
}

/// PostgreSQL: waits until every subscriber has confirmed all that these servers have written.
///
/// # Errors
/// [`ServerFault`] when that takes longer than `patience`.
pub fn postgres_settled(publishers: &[Server], patience: Duration) -> Result<(), ServerFault> {
    let mut clients = publishers.iter().map(Server::postgres).collect::<Result<Vec<_>, _>>()?;
    let mut marks: Vec<String> = Vec::new();
    for client in &mut clients {
        marks.push(client.query_one("SELECT pg_current_wal_insert_lsn()::text", &[])?.get(0));
    }
    until(patience, "the subscribers do not catch up", || {
        let mut behind = 0i64;
        for (client, mark) in clients.iter_mut().zip(&marks) {
            let sql = format!(
                "SELECT count(*) FROM pg_replication_slots WHERE slot_type = 'logical' AND \
                 (confirmed_flush_lsn < '{mark}' OR confirmed_flush_lsn IS NULL)"
            );
            behind += client.query_one(&sql, &[])?.get::<_, i64>(0);
            // A subscriber copies what was there before through slots of its own.
            let copying = "SELECT count(*) FROM pg_subscription_rel WHERE srsubstate <> 'r'";
            behind += client.query_one(copying, &[])?.get::<_, i64>(0);
        }
        Ok(behind == 0)
    })
}

/// Asks again until it is so.
///
/// # Errors
/// [`ServerFault`] when asking fails, or with `otherwise` when it takes longer than `patience`.
pub fn until(
    patience: Duration,
    otherwise: &str,
    mut is_so: impl FnMut() -> Result<bool, ServerFault>,
) -> Result<(), ServerFault> {
    let began = Instant::now();
    while !is_so()? {
        if began.elapsed() > patience {
            return Err(ServerFault::Server(otherwise.to_owned()));
        }
        std::thread::sleep(Duration::from_millis(25));
    }
    Ok(())
}
