//! One audit is enough: what is on its way is no divergence, and what is settled is.

use crate::common::Folder;
use crate::common::servers::{Network, PATIENCE, under_load};
use keen_testkit::{Server, ServerKind, links};
use serde_json::Value as Json;

/// Audits in a row while everybody writes.
const AUDITS: usize = 20;

/// Guests and stays that only one peer writes: number i of n.
fn own_rows(server: &Server, i: usize, n: usize) {
    let numbers: Vec<String> = (0..120)
        .map(|k| 1000 + k * n + i)
        .map(|id| format!("({id}, {id}, 'Saddle Refuge', 1, 20.5, '2026-07-01', NULL)"))
        .collect();
    server.run(&format!("INSERT INTO stay VALUES {}", numbers.join(", "))).unwrap();
}

/// The endless work of the application of peer i of n: it changes one of its stays; a guest comes and goes.
fn load(server: &Server, i: usize, n: usize) -> Vec<String> {
    let pick = if server.engine().is_postgres() {
        format!("WHERE id = (SELECT 1000 + {n} * floor(random() * 120)::int + {i})")
    } else {
        format!("WHERE id >= 1000 AND MOD(id - 1000, {n}) = {i} ORDER BY RAND() LIMIT 1")
    };
    let guest = if server.engine().is_postgres() {
        format!(
            "WITH gone AS (DELETE FROM guest WHERE id BETWEEN {0} AND {0} + 900 AND random() < 0.3) \
             INSERT INTO guest SELECT {0} + floor(random() * 900)::int, 'Passing', false ON CONFLICT DO NOTHING",
            10_000 * (i + 1)
        )
    } else {
        format!(
            "REPLACE INTO guest VALUES ({} + FLOOR(RAND() * 900), CONCAT('Passing ', RAND()), false)",
            10_000 * (i + 1)
        )
    };
    vec![format!("UPDATE stay SET beds = beds + 1, price = price + 0.25 {pick}"), guest]
}

/// Audits again and again under load; each must find exactly these rows, by table and key.
fn each_audit_finds(network: &Network, expected: &[(&str, i64)]) {
    let count = network.servers.len();
    let load: Vec<(&Server, String)> = network
        .servers
        .iter()
        .enumerate()
        .flat_map(|(i, server)| load(server, i, count).into_iter().map(move |sql| (server, sql)))
        .collect();
    let mut healed = 0;
    under_load(&load, || {
        for audit in 0..AUDITS {
            let run = network.keen(&["audit", "--no-ledger", "--format", "json"]);
            let json = run.json();
            let found: Vec<(&str, i64)> = json["tables"]
                .as_array()
                .unwrap()
                .iter()
                .flat_map(|table| {
                    let rows = table["divergent"].as_array().unwrap().iter();
                    rows.map(|row| {
                        (table["table"].as_str().unwrap(), row["key"]["id"].as_i64().unwrap())
                    })
                })
                .collect();
            assert_eq!(found, expected, "audit {audit}: {json:#}");
            assert_eq!(json["summary"]["divergent_rows"], expected.len(), "{json:#}");
            // Rows written without an end may still be moving when patience is over; they are no finding.
            let wanted = if !expected.is_empty() { vec![1] } else { vec![0, 3] };
            assert!(wanted.contains(&run.code), "audit {audit}: {run:?}");
            healed += json["summary"]["healed_rows"].as_u64().unwrap();
        }
    });
    assert!(healed > 0, "nothing was ever on its way: the load was none");
}

#[test]
fn under_load_a_healthy_mariadb_mesh_never_diverges_and_what_was_planted_is_always_found() {
    let mesh = Network::mariadb_mesh();
    for (i, server) in mesh.servers.iter().enumerate() {
        own_rows(server, i, 3);
    }
    links::mariadb_settled(&mesh.servers, PATIENCE).unwrap();
    each_audit_finds(&mesh, &[]);
    let unlogged = |i: usize, sql: &str| {
        mesh.servers[i].run(&format!("SET SESSION sql_log_bin = 0; {sql}")).unwrap();
    };
    unlogged(0, "UPDATE guest SET name = 'Changed past the log' WHERE id = 2");
    unlogged(1, "DELETE FROM stay WHERE id = 3");
    unlogged(
        2,
        "INSERT INTO stay SELECT 999, guest_id, hut, beds, price, arrives, booked_at FROM stay WHERE id = 1",
    );
    each_audit_finds(&mesh, &[("guest", 2), ("stay", 3), ("stay", 999)]);
}

#[test]
fn under_load_healthy_postgresql_peers_never_diverge_and_what_was_planted_is_always_found() {
    let peers = Network::postgres_peers();
    for (i, server) in peers.servers.iter().enumerate() {
        own_rows(server, i, 2);
    }
    links::postgres_settled(&peers.servers, PATIENCE).unwrap();
    each_audit_finds(&peers, &[]);
    // With an origin of its own a write is not passed on.
    let unlogged = |i: usize, sql: &str| {
        let mut client = peers.servers[i].postgres().unwrap();
        let setup = "SELECT pg_replication_origin_create('by hand') WHERE NOT EXISTS (SELECT 1 FROM pg_replication_origin WHERE roname = 'by hand'); \
                     SELECT pg_replication_origin_session_setup('by hand')";
        client.batch_execute(setup).unwrap();
        client.batch_execute(sql).unwrap();
    };
    unlogged(0, "UPDATE guest SET name = 'Changed past the log' WHERE id = 2");
    unlogged(1, "DELETE FROM stay WHERE id = 3");
    unlogged(
        0,
        "INSERT INTO stay SELECT 999, guest_id, hut, beds, price, arrives, booked_at FROM stay WHERE id = 1",
    );
    each_audit_finds(&peers, &[("guest", 2), ("stay", 3), ("stay", 999)]);
}

fn table<'a>(json: &'a Json, name: &str) -> &'a Json {
    json["tables"].as_array().unwrap().iter().find(|table| table["table"] == name).unwrap()
}

#[test]
fn behind_a_link_that_stands_still_rows_are_in_flight_and_the_link_is_named() {
    let mesh = Network::mariadb_mesh();
    // c no longer applies what a writes; b does, and does not pass it on to c either.
    mesh.servers[2].run("STOP ALL SLAVES").unwrap();
    mesh.servers[0].run("UPDATE guest SET name = 'On its way' WHERE id = 1").unwrap();
    mesh.servers[1]
        .run("SET SESSION sql_log_bin = 0; UPDATE guest SET name = 'Only here' WHERE id = 2")
        .unwrap();
    links::mariadb_settled(&mesh.servers[..2], PATIENCE).unwrap();
    let began = std::time::Instant::now();
    let run = mesh.keen(&["audit", "--no-ledger", "--format", "json"]);
    // It stands still: there is nothing to be patient for.
    assert!(began.elapsed() < std::time::Duration::from_secs(25), "{:?}", began.elapsed());
    let json = run.json();
    let guest = table(&json, "guest");
    assert_eq!(run.code, 1, "what differs between a and b does not wait for c: {json:#}");
    assert_eq!(guest["standings"]["settled"], 1, "{guest:#}");
    assert_eq!(guest["divergent"][0]["key"]["id"], 2);
    assert_eq!(guest["standings"]["in_flight"], 1);
    assert_eq!(guest["unsettled"][0]["key"]["id"], 1);
    assert_eq!(guest["unsettled"][0]["standing"], "in_flight");
    let waiting: Vec<&str> = guest["standings"]["waiting_for"]
        .as_array()
        .unwrap()
        .iter()
        .map(|w| w.as_str().unwrap())
        .collect();
    // The account may not read the log that tells what they owe: that is said, too.
    assert_eq!(waiting.len(), 4, "{waiting:?}");
    assert!(waiting[2..].iter().all(|why| why.contains("keen conflicts --ddl")), "{waiting:?}");
    assert_eq!(
        waiting[..2],
        [
            "a -> c has not passed the fence: it lacks 1 transactions, and stands still",
            "b -> c has not passed the fence: it lacks 1 transactions, and stands still"
        ]
        .map(|text| text.replace("1 transactions", "1 transaction"))
    );
    assert_eq!(json["complete"], false);
    let text = mesh.keen(&["audit", "--no-ledger"]).out;
    assert!(text.contains("not settled: 1 in flight"), "{text}");
    // Without the other row nothing is found, and not everything is known.
    mesh.servers[1]
        .run("SET SESSION sql_log_bin = 0; UPDATE guest SET name = 'Anton O''Ridge' WHERE id = 2")
        .unwrap();
    let run = mesh.keen(&["audit", "--no-ledger", "--format", "json"]);
    assert_eq!(run.code, 3, "{run:?}");
    assert_eq!(table(&run.json(), "guest")["verdict"], "unsettled");
    // The plan plans for nothing that is under way.
    let plan = mesh.keen(&["plan", "--format", "json"]).json();
    assert_eq!(plan["steps"].as_array().unwrap().len(), 0, "{plan:#}");
    assert_eq!(plan["complete"], false);
    links::mariadb_start_all(&mesh.servers[2]).unwrap();
    links::mariadb_settled(&mesh.servers, PATIENCE).unwrap();
    assert_eq!(mesh.keen(&["audit", "--no-ledger"]).code, 0);
}

#[test]
fn a_copy_that_no_longer_follows_is_waited_for_by_nobody() {
    let network = Network::alike(&[ServerKind::Postgres15, ServerKind::Postgres15]);
    network.servers[0].run("UPDATE guest SET name = 'Newer' WHERE id = 1").unwrap();
    let run = network.keen(&["audit", "--no-ledger", "--format", "json"]);
    assert_eq!(
        (run.code, table(&run.json(), "guest")["standings"]["settled"].as_u64()),
        (1, Some(1)),
        "{run:?}"
    );
}

/// Files of which nothing tells how far they are.
fn files(extra: &str) -> Folder {
    let folder = Folder::mesh(2, &["t"], extra);
    folder.sql_all(
        &["a.db", "b.db"],
        "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'x'), (2, 'y')",
    );
    folder.sql("b.db", "UPDATE t SET v = 'z' WHERE id = 2");
    folder
}

#[test]
fn where_nothing_tells_the_limit_of_the_file_is_the_time_to_settle() {
    // Without a limit nothing is expected to be late.
    let run = files("").keen(&["audit", "--no-ledger"]);
    assert_eq!(run.code, 1, "{run:?}");
    // With one it is waited for: a writer brings the row meanwhile.
    let folder = files("[limits]\ntrailing = \"4s\"");
    let path = folder.path("b.db");
    let late = std::thread::spawn(move || {
        std::thread::sleep(std::time::Duration::from_secs(1));
        rusqlite::Connection::open(path)
            .unwrap()
            .execute("UPDATE t SET v = 'y' WHERE id = 2", [])
            .unwrap();
    });
    let run = folder.keen(&["audit", "--no-ledger", "--format", "json"]);
    late.join().unwrap();
    let json = run.json();
    assert_eq!((run.code, json["summary"]["healed_rows"].as_u64()), (0, Some(1)), "{json:#}");
    // Impatient, it says so; with no patience at all it counts what it saw.
    folder.sql("b.db", "UPDATE t SET v = 'w' WHERE id = 2");
    let run = folder.keen(&["audit", "--no-ledger", "--patience", "500ms", "--format", "json"]);
    let json = run.json();
    assert_eq!(
        (run.code, table(&json, "t")["standings"]["in_flight"].as_u64()),
        (3, Some(1)),
        "{json:#}"
    );
    let why = table(&json, "t")["standings"]["waiting_for"][0].as_str().unwrap();
    assert!(why.starts_with("a -> b may need more time than there was"), "{why}");
    let run = folder.keen(&["audit", "--no-ledger", "--patience", "0s"]);
    assert_eq!(run.code, 1, "{run:?}");
    // Patient enough, it is settled.
    let run = folder.keen(&["audit", "--no-ledger", "--patience", "10s", "--format", "json"]);
    let json = run.json();
    assert_eq!(
        (run.code, table(&json, "t")["standings"]["settled"].as_u64()),
        (1, Some(1)),
        "{json:#}"
    );
}

#[test]
fn a_node_that_is_down_keeps_nobody_waiting() {
    let mut mesh = Network::mariadb_mesh();
    mesh.replace("[[link]]", "[limits]\ntrailing = \"30s\"\n[[link]]");
    mesh.servers[1]
        .run("SET SESSION sql_log_bin = 0; UPDATE guest SET name = 'Only here' WHERE id = 2")
        .unwrap();
    mesh.servers[2].kill();
    let began = std::time::Instant::now();
    let run = mesh.keen(&["audit", "--no-ledger", "--format", "json"]);
    assert!(began.elapsed() < std::time::Duration::from_secs(20), "{:?}", began.elapsed());
    let json = run.json();
    assert_eq!(
        (run.code, table(&json, "guest")["standings"]["settled"].as_u64()),
        (1, Some(1)),
        "{json:#}"
    );
    let run = mesh.keen(&["probe", "--now", "--at", "a", "--timeout", "1s"]);
    assert_eq!(run.code, 3, "{run:?}");
    assert!(run.out.contains("untold: of c -> a"), "{}", run.out);
}
