//! What happens to a plan while it is carried out: sources that change, runs that are killed, servers that go away.

use std::time::{Duration, Instant};

use crate::common::mending::{MENDER, accounts, dump, keen, spawn};
use crate::common::servers::{Network, PATIENCE};
use keen_testkit::{Server, links};
use mysql::prelude::Queryable as _;

const STAYS: &str = "SELECT * FROM stay ORDER BY id";

/// With node a right: rows 1500 and 2000 are everywhere, then gone from b past the log. The plan puts them back there,
/// 1500 first.
fn rows_are_gone_from_b(network: &Network, leave_log: &str, settle: &dyn Fn()) {
    accounts(network);
    let toml = network.folder.path("keen.toml");
    let text = std::fs::read_to_string(&toml).unwrap();
    std::fs::write(&toml, text + "[authority]\ndefault = \"a\"\n").unwrap();
    let rows = "INSERT INTO stay VALUES (1500, 1, 'Col', 2, 20, '2026-07-09', NULL), (2000, 1, 'Col', 2, 20, '2026-07-09', NULL)";
    network.servers[0].run(rows).unwrap();
    settle();
    network.servers[1].run(&format!("{leave_log}DELETE FROM stay WHERE id >= 1500")).unwrap();
    let plan = keen(network, &["plan", "--save", "repair.plan"]);
    assert_eq!(plan.code, 1, "{plan:?}");
    assert!(plan.out.contains("2. insert stay (stays), id 2000"), "{plan:?}");
}

fn holds(server: &Server, id: u64) -> bool {
    !dump(server, &format!("SELECT id FROM stay WHERE id = {id}")).is_empty()
}

/// The row dies at its source before the plan is carried out, and no word of that has come to b.
fn a_row_that_died_before_is_left_out(network: &Network, cut: &dyn Fn(), mend: &dyn Fn()) {
    cut();
    network.servers[0].run("DELETE FROM stay WHERE id = 2000").unwrap();
    let run = keen(network, &["mend", "repair.plan", "--yes"]);
    // It is nowhere by now where keen looks: there is nothing to write.
    assert_eq!(run.code, 0, "{run:?}");
    assert!(
        run.out.contains("b: 1 row written, 1 alike by now on the nodes of the plan"),
        "{run:?}"
    );
    assert!(!holds(&network.servers[1], 2000));
    mend();
    assert!(network.servers.iter().all(|server| !holds(server, 2000)));
}

/// The row dies at its source after it was read again and before it is written: `hold` makes the write wait until its
/// result is dropped, `waits` tells that it does.
fn a_row_that_dies_meanwhile_is_taken_back(
    network: &Network,
    hold: &dyn Fn() -> Box<dyn std::any::Any>,
    waits: &str,
    arrived: &dyn Fn(),
) {
    let held = hold();
    std::thread::scope(|scope| {
        let run = scope
            .spawn(|| keen(network, &["mend", "repair.plan", "--yes", "--lock-timeout", "60s"]));
        let began = Instant::now();
        while dump(&network.servers[1], waits).is_empty() {
            assert!(!run.is_finished(), "{:?}", run.join().unwrap());
            assert!(began.elapsed() < PATIENCE, "nobody waits");
            // InnoDB tells its locks anew only to whoever has not asked for a while.
            std::thread::sleep(Duration::from_millis(250));
        }
        network.servers[0].run("DELETE FROM stay WHERE id = 2000").unwrap();
        arrived();
        drop(held);
        let run = run.join().unwrap();
        assert_eq!(run.code, 1, "{run:?}");
        assert!(run.out.contains("1 taken back again"), "{run:?}");
        assert!(run.out.contains("the row changed on a while it was written"), "{run:?}");
    });
    assert!(network.servers.iter().all(|server| !holds(server, 2000)));
    assert_eq!(keen(network, &["audit"]).code, 0);
    // Only the other row is left to take back.
    let run = keen(network, &["mend", "--undo", "repair.plan.undo", "--yes"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert!(run.out.contains("b: 1 row taken back"), "{run:?}");
    assert!(network.servers.iter().all(|server| !holds(server, 2000)));
}

/// Waits until each server has applied what the others wrote: what changed nothing where it arrived stands in no log
/// there.
fn applied(network: &Network) {
    links::until(PATIENCE, "the servers do not catch up with each other", || {
        let position = |server: &Server| {
            let position = dump(server, "SELECT @@gtid_current_pos");
            let mut parts: Vec<String> =
                position.split(['"', ',', '\'']).map(str::to_owned).collect();
            parts.sort();
            parts
        };
        let all: Vec<_> = network.servers.iter().map(position).collect();
        Ok(all.windows(2).all(|pair| pair[0] == pair[1]))
    })
    .unwrap();
}

/// A mesh whose appliers pass over rows that are not there.
fn idempotent_mesh() -> Network {
    let network = Network::mariadb_mesh();
    for server in &network.servers {
        server.run("SET GLOBAL slave_exec_mode = 'IDEMPOTENT'").unwrap();
        server.run("STOP ALL SLAVES").unwrap();
        links::mariadb_start_all(server).unwrap();
    }
    network
}

#[test]
fn a_dead_row_stays_dead_on_mariadb() {
    let network = idempotent_mesh();
    let settle = || applied(&network);
    rows_are_gone_from_b(&network, "SET SESSION sql_log_bin = 0; ", &settle);
    let b = &network.servers[1];
    a_row_that_died_before_is_left_out(&network, &|| b.run("STOP ALL SLAVES").unwrap(), &|| {
        links::mariadb_start_all(b).unwrap();
        settle();
    });

    let network = idempotent_mesh();
    let settle = || applied(&network);
    rows_are_gone_from_b(&network, "SET SESSION sql_log_bin = 0; ", &settle);
    let b = &network.servers[1];
    let hold = || -> Box<dyn std::any::Any> {
        let mut client = b.mariadb().unwrap();
        client.query_drop("START TRANSACTION").unwrap();
        client.query_drop("SELECT * FROM stay WHERE id = 1500 FOR UPDATE").unwrap();
        Box::new(client)
    };
    let waits = "SELECT 1 FROM information_schema.INNODB_TRX WHERE trx_state = 'LOCK WAIT'";
    a_row_that_dies_meanwhile_is_taken_back(&network, &hold, waits, &settle);
}

#[test]
fn a_dead_row_stays_dead_on_postgresql() {
    let network = Network::postgres_peers();
    let settle = || links::postgres_settled(&network.servers, PATIENCE).unwrap();
    rows_are_gone_from_b(&network, LEAVE_LOG, &settle);
    let b = &network.servers[1];
    a_row_that_died_before_is_left_out(
        &network,
        &|| b.run("ALTER SUBSCRIPTION from_0_to_1 DISABLE").unwrap(),
        &|| {
            b.run("ALTER SUBSCRIPTION from_0_to_1 ENABLE").unwrap();
            settle();
        },
    );

    let network = Network::postgres_peers();
    let settle = || links::postgres_settled(&network.servers, PATIENCE).unwrap();
    rows_are_gone_from_b(&network, LEAVE_LOG, &settle);
    let b = &network.servers[1];
    let hold = || -> Box<dyn std::any::Any> {
        let mut client = b.postgres().unwrap();
        let row = "INSERT INTO stay VALUES (1500, 1, 'x', 1, 1, '2026-07-09', NULL)";
        client.batch_execute(&format!("BEGIN; {row}")).unwrap();
        Box::new(client)
    };
    let waits =
        "SELECT 1 FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND usename = 'keen_mend'";
    a_row_that_dies_meanwhile_is_taken_back(&network, &hold, waits, &settle);
}

/// How a run is brought to its end.
#[derive(Debug, Clone, Copy)]
enum End {
    Program,
    Connection,
    Server,
}

/// So many rounds; the long run has a hundred of each kind.
fn rounds() -> u64 {
    if std::env::var_os("KEEN_LONG").is_some() { 100 } else { 1 }
}

/// Parts b from a by many rows, mends it, and ends that again and again at random moments: in the end b holds what a
/// holds, and every row was written once.
#[expect(clippy::print_stdout, reason = "the seed and the count are for whoever runs it for long")]
fn killed_and_gone_on_with(
    mut network: Network,
    plant: &dyn Fn(&Server),
    cut: &str,
    written: &dyn Fn(&Server) -> u64,
) {
    accounts(&network);
    let toml = network.folder.path("keen.toml");
    let text = std::fs::read_to_string(&toml).unwrap();
    std::fs::write(&toml, text + "[authority]\ndefault = \"a\"\n").unwrap();
    let seed = std::env::var("PROPTEST_RNG_SEED").ok().and_then(|seed| seed.parse().ok());
    let mut seed: u64 = seed.unwrap_or(7);
    println!("seed {seed}");
    let right = dump(&network.servers[0], STAYS);
    let mut tries = 0;
    for round in 0..rounds() {
        for end in [End::Program, End::Connection, End::Server] {
            plant(&network.servers[1]);
            let plan = keen(&network, &["plan", "--save", "repair.plan"]);
            assert_eq!(plan.code, 1, "{plan:?}");
            let counted = written(&network.servers[1]);
            let mending = ["mend", "repair.plan", "--yes", "--batch", "20"];
            let mut child = spawn(&network, &mending);
            std::thread::sleep(Duration::from_millis(moment(&mut seed)));
            match end {
                End::Program => child.kill().unwrap(),
                End::Connection => drop(dump_if_any(&network.servers[1], cut)),
                End::Server => {
                    network.servers[1].kill();
                    network.servers[1].start().unwrap();
                }
            }
            drop(child.wait());
            let began = Instant::now();
            loop {
                let run = keen(&network, &mending);
                tries += 1;
                if run.code == 0 {
                    break;
                }
                assert!(
                    began.elapsed() < PATIENCE,
                    "round {round}, {end:?}: it does not come to an end: {run:?}"
                );
                std::thread::sleep(Duration::from_millis(100));
            }
            assert_eq!(dump(&network.servers[1], STAYS), right, "round {round}, {end:?}");
            let rows = written(&network.servers[1]) - counted;
            assert_eq!(rows, 450, "round {round}, {end:?}: rows were written twice, or not");
            std::fs::remove_file(network.folder.path("repair.plan.undo")).unwrap();
        }
    }
    println!("{tries} runs went on");
}

/// The answer of a server that may be gone.
fn dump_if_any(server: &Server, sql: &str) -> Option<String> {
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| dump(server, sql))).ok()
}

/// A moment within a run, in milliseconds: by the linear congruential generator of Knuth's MMIX.
fn moment(seed: &mut u64) -> u64 {
    *seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
    (*seed >> 33) % 900
}

/// 450 rows more on all nodes.
fn more_rows(series: &str) -> String {
    format!(
        "INSERT INTO stay SELECT 1000 + n, 1 + n % 3, 'Saddle Refuge', 1 + n % 5, 40 + n % 7, '2026-07-01', NULL FROM {series}"
    )
}

/// On PostgreSQL: what follows is written under an origin that peers do not take.
const LEAVE_LOG: &str = "SELECT pg_replication_origin_create('elsewhere') \
    WHERE NOT EXISTS (SELECT 1 FROM pg_replication_origin WHERE roname = 'elsewhere'); \
    SELECT pg_replication_origin_session_setup('elsewhere'); ";

/// What parts a server from the others in 450 rows.
const PART: &str = "UPDATE stay SET beds = beds + 1 WHERE id > 1000 AND id % 3 = 0; \
    INSERT INTO stay SELECT id + 100000, guest_id, hut, beds, price, arrives, NULL FROM stay WHERE id > 1000 AND id % 3 = 2; \
    DELETE FROM stay WHERE id > 1000 AND id < 100000 AND id % 3 = 1";

#[test]
fn killed_at_any_moment_on_mariadb_it_goes_on() {
    let network = Network::mariadb_mesh();
    network.servers[0].run(&more_rows("(SELECT seq AS n FROM seq_1_to_450) AS s")).unwrap();
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    let plant = |b: &Server| b.run(&format!("SET SESSION sql_log_bin = 0; {PART}")).unwrap();
    // One statement cannot end the sessions of others on MariaDB: this one tells which they are.
    let cut = "KILL USER keen_mend@'%'";
    // Counted by the server itself, in the transactions of the writes: what is not kept does not count.
    let b = &network.servers[1];
    b.run("SET SESSION sql_log_bin = 0; CREATE TABLE written (n INT) ENGINE = InnoDB").unwrap();
    for event in ["INSERT", "UPDATE", "DELETE"] {
        b.run(&format!(
            "SET SESSION sql_log_bin = 0; CREATE TRIGGER count_{event} AFTER {event} ON stay FOR EACH ROW INSERT INTO written VALUES (1)"
        ))
        .unwrap();
    }
    let written = |b: &Server| {
        let count = b.mariadb().unwrap().query_first("SELECT count(*) FROM huts.written");
        count.unwrap().unwrap_or(0)
    };
    killed_and_gone_on_with(network, &plant, cut, &written);
}

#[test]
fn killed_at_any_moment_on_postgresql_it_goes_on() {
    let network = Network::postgres_peers();
    network.servers[0].run(&more_rows("generate_series(1, 450) AS s (n)")).unwrap();
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    network.servers[1].run("CREATE PUBLICATION watch FOR TABLE stay").unwrap();
    let slot = "SELECT pg_create_logical_replication_slot('watch', 'pgoutput')";
    network.servers[1].run(slot).unwrap();
    let plant = |b: &Server| {
        // What was counted before is not read again for every count. A slot that is moved on forgets it in a crash.
        b.run("SELECT pg_drop_replication_slot('watch')").unwrap();
        b.run(slot).unwrap();
        b.run(&format!("{LEAVE_LOG}{PART}")).unwrap();
    };
    let cut = "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = 'keen_mend'";
    killed_and_gone_on_with(network, &plant, cut, &rows_in_the_log);
}

/// How many rows were written and kept, as the server's own log tells.
fn rows_in_the_log(server: &Server) -> u64 {
    let sql = "SELECT count(*) FROM pg_logical_slot_peek_binary_changes('watch', NULL, NULL, 'proto_version', '4', 'publication_names', 'watch', 'origin', 'any') \
        WHERE get_byte(data, 0) IN (ascii('I'), ascii('U'), ascii('D'))";
    let count: i64 = server.postgres().unwrap().query_one(sql, &[]).unwrap().get(0);
    u64::try_from(count).unwrap()
}

#[test]
fn while_a_link_trails_or_stalls_nothing_more_is_written() {
    use std::io::BufRead as _;
    let network = Network::postgres_peers();
    network.servers[0].run(&more_rows("generate_series(1, 450) AS s (n)")).unwrap();
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    accounts(&network);
    let toml = network.folder.path("keen.toml");
    let text = std::fs::read_to_string(&toml).unwrap();
    let more = "[authority]\ndefault = \"a\"\n[limits]\ntrailing = \"1s\"\n";
    std::fs::write(&toml, text + more).unwrap();
    let b = &network.servers[1];
    b.run(&format!("{LEAVE_LOG}{PART}")).unwrap();
    assert_eq!(keen(&network, &["plan", "--save", "repair.plan"]).code, 1);
    // Somebody holds a row that the applier of b needs.
    let mut holder = b.postgres().unwrap();
    holder.batch_execute("BEGIN; SELECT * FROM stay WHERE id = 1 FOR UPDATE").unwrap();
    network.servers[0].run("UPDATE stay SET beds = beds + 1 WHERE id = 1").unwrap();
    let mut child = std::process::Command::new(env!("CARGO_BIN_EXE_keen"))
        .args(["mend", "repair.plan", "--yes", "--batch", "20", "--rate", "40"])
        .current_dir(network.folder.root())
        .env("KEEN_TEST", keen_testkit::CHECKER.1)
        .env("KEEN_TEST_MEND", MENDER.1)
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let mut said =
        std::io::BufReader::new(child.stderr.take().unwrap()).lines().map(Result::unwrap);
    let waits =
        said.find(|line| line.contains("-> b is ") && line.contains(": waiting until it is not"));
    assert!(waits.is_some());
    assert_eq!(child.try_wait().unwrap(), None);
    assert_ne!(dump(b, STAYS), dump(&network.servers[0], STAYS));
    holder.batch_execute("ROLLBACK").unwrap();
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(0), "{}", String::from_utf8_lossy(&output.stdout));
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    assert_eq!(dump(b, STAYS), dump(&network.servers[0], STAYS));
}
