//! Plans that are carried out on real servers, by an account that may do no more than it needs.

use std::collections::BTreeSet;
use std::process::Output;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use keen_testkit::{Server, ServerKind, links};
use mysql::prelude::Queryable as _;

use super::servers::{Network, PATIENCE};
use super::{Run, node_name};

/// The account that writes.
pub const MENDER: (&str, &str) = ("keen_mend", "lab-mender");

/// Gives each server an account that may do what mending takes, and the topology file its name.
pub fn accounts(network: &Network) {
    let path = network.folder.path("keen.toml");
    let mut text = std::fs::read_to_string(&path).unwrap();
    for (i, server) in network.servers.iter().enumerate() {
        account(server);
        text.push_str(&format!(
            "[node.{}.mend]\nuser = \"{}\"\npassword = {{ env = \"KEEN_TEST_MEND\" }}\n",
            node_name(i),
            MENDER.0
        ));
    }
    std::fs::write(path, text).unwrap();
}

fn account(server: &Server) {
    let (user, password) = MENDER;
    if server.engine().is_postgres() {
        server
            .run(&format!(
                "CREATE ROLE {user} LOGIN PASSWORD '{password}';\n\
                 GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA public TO {user};\n\
                 GRANT SET ON PARAMETER session_replication_role TO {user};\n\
                 GRANT EXECUTE ON FUNCTION pg_replication_origin_create(text), pg_replication_origin_session_setup(text), \
                 pg_replication_origin_xact_setup(pg_lsn, timestamptz), pg_replication_origin_progress(text, boolean) TO {user}"
            ))
            .unwrap();
    } else {
        server
            .run(&format!(
                "SET SESSION sql_log_bin = 0;\nCREATE USER {user}@'%' IDENTIFIED BY '{password}';\n\
                 GRANT SELECT, INSERT, UPDATE, DELETE, CREATE ON huts.* TO {user}@'%';\n\
                 GRANT BINLOG ADMIN ON *.* TO {user}@'%'"
            ))
            .unwrap();
    }
}

/// The built program, with the passwords of both accounts.
pub fn keen(network: &Network, args: &[&str]) -> Run {
    let output = command(network, args).output().unwrap();
    run_of(&output)
}

pub fn command(network: &Network, args: &[&str]) -> assert_cmd::Command {
    let mut command = network.folder.command(args);
    command.env("KEEN_TEST", keen_testkit::CHECKER.1).env("KEEN_TEST_MEND", MENDER.1);
    command
}

/// The program at work, heard by nobody.
pub fn spawn(network: &Network, args: &[&str]) -> std::process::Child {
    std::process::Command::new(env!("CARGO_BIN_EXE_keen"))
        .args(args)
        .current_dir(network.folder.root())
        .env("KEEN_TEST", keen_testkit::CHECKER.1)
        .env("KEEN_TEST_MEND", MENDER.1)
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap()
}

/// Runs the program where no file of it can grow beyond so many blocks of 512 bytes: a full disk.
pub fn on_a_small_disk(folder: &std::path::Path, blocks: usize, args: &[&str]) -> Run {
    let limited = format!("trap '' XFSZ; ulimit -f {blocks}; exec \"$@\"");
    let output = std::process::Command::new("sh")
        .args(["-c", &limited, "sh", env!("CARGO_BIN_EXE_keen")])
        .args(args)
        .current_dir(folder)
        .env("KEEN_TEST", keen_testkit::CHECKER.1)
        .env("KEEN_TEST_MEND", MENDER.1)
        .output()
        .unwrap();
    run_of(&output)
}

pub fn run_of(output: &Output) -> Run {
    Run {
        code: output.status.code().unwrap_or(-1),
        out: String::from_utf8_lossy(&output.stdout).into_owned(),
        err: String::from_utf8_lossy(&output.stderr).into_owned(),
    }
}

/// The rows of a query, as the server itself prints them.
pub fn dump(server: &Server, sql: &str) -> String {
    if server.engine().is_postgres() {
        let sql = format!("SELECT coalesce(string_agg(t::text, E'\\n'), '') FROM ({sql}) AS t");
        return server.postgres().unwrap().query_one(&sql, &[]).unwrap().get(0);
    }
    let rows: Vec<mysql::Row> = server.mariadb().unwrap().query(sql).unwrap();
    // Not as they are debugged: that cuts them.
    let told = |row: mysql::Row| {
        let cells: Vec<String> = row.unwrap().iter().map(|cell| cell.as_sql(true)).collect();
        format!("({})\n", cells.join(", "))
    };
    rows.into_iter().map(told).collect()
}

/// A client that runs statements; false if the server refuses one, as it may while tables are locked.
pub fn client(server: &Server) -> Box<dyn FnMut(&str) -> bool> {
    if server.engine().is_postgres() {
        let mut client = server.postgres().unwrap();
        Box::new(move |sql| client.batch_execute(sql).is_ok())
    } else {
        let mut client = server.mariadb().unwrap();
        Box::new(move |sql| client.query_drop(sql).is_ok())
    }
}

/// Does some work while applications write to all of these nodes: new guests, each node with numbers of its own, and a stay that
/// is theirs alone. The guests that the servers took.
pub fn while_all_write<T>(servers: &[Server], work: impl FnOnce() -> T) -> (T, BTreeSet<u64>) {
    let (over, taken) = (AtomicBool::new(false), Mutex::new(BTreeSet::new()));
    let every = servers.len() as u64;
    let done = std::thread::scope(|scope| {
        for (i, server) in servers.iter().enumerate() {
            let (over, taken) = (&over, &taken);
            scope.spawn(move || {
                let mut run = client(server);
                let mut id = 10_000 + i as u64;
                while !over.load(Ordering::Relaxed) {
                    if run(&format!("INSERT INTO guest VALUES ({id}, 'Guest of {i}', true)")) {
                        taken.lock().unwrap().insert(id);
                    }
                    id += every;
                    run(&format!("UPDATE stay SET price = price + 1 WHERE id = {}", i + 1));
                    std::thread::sleep(Duration::from_millis(10));
                }
            });
        }
        let done = std::panic::catch_unwind(std::panic::AssertUnwindSafe(work));
        over.store(true, Ordering::Relaxed);
        done
    });
    (done.unwrap_or_else(|fell| std::panic::resume_unwind(fell)), taken.into_inner().unwrap())
}

/// Kills the program while it fills a node, later each time, until it comes to its end.
pub fn killed_and_gone_on_with(network: &Network, file: &str) -> usize {
    // What is written all the time may differ at every look.
    killed_until(network, file, &[0, 3])
}

/// No plan of these tests takes so many milliseconds, were it made in one go.
const LONGEST_MENDING: u64 = 20_000;

/// The same, until it ends with one of these codes.
pub fn killed_until(network: &Network, file: &str, codes: &[i32]) -> usize {
    let later = if std::env::var_os("KEEN_LONG").is_some() { 40 } else { 600 };
    for (kills, wait) in (40..LONGEST_MENDING).step_by(later).enumerate() {
        let mut child = spawn(network, &["mend", file, "--yes"]);
        std::thread::sleep(Duration::from_millis(wait));
        if let Some(ended) = child.try_wait().unwrap() {
            let code = ended.code().unwrap_or(-1);
            assert!(codes.contains(&code), "after {wait} ms: {ended}");
            return kills;
        }
        child.kill().unwrap();
        child.wait().unwrap();
    }
    let run = keen(network, &["mend", file, "--yes"]);
    panic!("it does not come to its end: {run:?}");
}

/// What filling a node takes beside the rights for rows.
pub fn filling_rights(network: &Network) {
    let user = MENDER.0;
    for server in &network.servers {
        let grants = if server.engine().is_postgres() {
            format!("ALTER ROLE {user} SUPERUSER")
        } else {
            format!(
                "SET SESSION sql_log_bin = 0;\nGRANT TRIGGER ON huts.* TO {user}@'%', keen@'%';\nGRANT SELECT ON mysql.gtid_slave_pos TO {user}@'%';\n\
                 GRANT REPLICATION SLAVE ADMIN, BINLOG MONITOR, SLAVE MONITOR, SHOW DATABASES, SUPER ON *.* TO {user}@'%'"
            )
        };
        server.run(&grants).unwrap();
    }
}

/// PostgreSQL 18 servers of which each takes what the others write themselves, with the accounts that mend.
pub fn peers(count: usize) -> Network {
    let network = Network::alike(&vec![ServerKind::Postgres18; count]);
    links::postgres_peers(&network.servers, "guest, stay").unwrap();
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    accounts(&network);
    network
}
