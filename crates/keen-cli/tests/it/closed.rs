//! The traces of a run in the servers' logs: none. Every session is ended as the protocol has it.

use crate::common::servers::{Network, PATIENCE};
use keen_testkit::{Server, links};
use mysql::prelude::Queryable;

/// Lines of a log that complain of a session that went away without a word.
fn complaints(log: &str) -> Vec<&str> {
    log.lines()
        .filter(|line| {
            ["unexpected EOF", "Connection reset", "Broken pipe", "Aborted connection"]
                .iter()
                .any(|words| line.contains(words))
        })
        .collect()
}

const COMMANDS: [&[&str]; 8] = [
    &["audit", "--no-ledger"],
    &["audit", "--threads", "4", "--no-ledger"],
    &["plan"],
    &["preflight"],
    &["flow", "--interval", "1s", "--no-ledger"],
    &["conflicts", "--no-ledger"],
    &["conflicts", "--ddl"],
    &["preflight", "--derive", "a", "--for", "sqlite"],
];

fn nothing_is_left(network: &Network, sessions: impl Fn(&Server) -> i64) {
    let before: Vec<usize> = network.servers.iter().map(|server| server.log().len()).collect();
    for args in COMMANDS {
        network.keen(args);
    }
    for (server, before) in network.servers.iter().zip(before) {
        // A session that is gone has had its say.
        links::until(PATIENCE, "sessions stay", || Ok(sessions(server) == 0)).unwrap();
        let log = server.log();
        let new = complaints(&log[before..]);
        assert!(new.is_empty(), "{new:#?}");
    }
}

#[test]
fn postgres_sessions_are_ended_in_order() {
    let network = Network::postgres_peers();
    network.servers[1].run("UPDATE stay SET beds = 99 WHERE id = 1").unwrap();
    nothing_is_left(&network, |server| {
        let count = "SELECT count(*) FROM pg_stat_activity WHERE application_name = 'keen'";
        server.postgres().unwrap().query_one(count, &[]).unwrap().get(0)
    });
}

#[test]
fn mariadb_sessions_are_ended_in_order() {
    let network = Network::mariadb_mesh_with(&["log_warnings = 4"]);
    nothing_is_left(&network, |server| {
        let count = "SELECT count(*) FROM information_schema.PROCESSLIST WHERE USER = 'keen'";
        server.mariadb().unwrap().query_first(count).unwrap().unwrap()
    });
}
