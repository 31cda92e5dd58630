//! Statements that keen tells an engineer to run are run, on the real servers that they were printed for.

use crate::common::flow::{link, states};
use crate::common::preflight::{bad, statements};
use crate::common::servers::{Network, PATIENCE};
use keen_testkit::{CHECKER, Server, links};

fn count(server: &Server, table: &str) -> i64 {
    let sql = format!("SELECT count(*) FROM {table}");
    server.postgres().unwrap().query_one(&sql, &[]).unwrap().get(0)
}

/// Runs what a preflight prints, where it prints it for.
fn run_printed(network: &Network, run: &crate::common::Run) -> Vec<(String, String)> {
    let printed = statements(run);
    for (node, statement) in &printed {
        let server = &network.servers[usize::from(node.as_bytes()[0] - b'a')];
        server.run(&statement.replace("; ", ";\n")).unwrap_or_else(|e| panic!("{statement}: {e}"));
    }
    printed
}

#[test]
fn tables_that_peers_begin_to_carry_are_neither_doubled_nor_stuck() {
    let network = Network::postgres_peers();
    // Both have rows already; of one table no key keeps a copy from doubling them.
    for server in &network.servers {
        server
            .run("CREATE TABLE reading (at int, value int);\nALTER TABLE reading REPLICA IDENTITY FULL;\n\
                  CREATE TABLE \"Hut log\" (id int PRIMARY KEY, text text);\n\
                  INSERT INTO reading VALUES (1, 10), (1, 10), (2, 20);\nINSERT INTO \"Hut log\" VALUES (1, 'snow'), (2, 'sun');\n\
                  GRANT SELECT ON reading, \"Hut log\" TO keen")
            .unwrap();
    }
    network.replace("\"guest\", \"stay\"", "\"guest\", \"stay\", \"reading\", \"Hut log\"");
    let preflight = || network.keen(&["preflight", "--format", "json"]);
    let run = preflight();
    let missing = bad(&run).iter().filter(|f| f.contains("table-not-carried")).count();
    assert_eq!(missing, 4, "{}", run.out);
    let printed = run_printed(&network, &run);
    assert!(printed.iter().any(|(_, sql)| sql.contains("copy_data = false")), "{printed:?}");
    let [a, b] = &network.servers[..] else { unreachable!() };
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    assert!(!bad(&preflight()).iter().any(|f| f.contains("table-not-carried")));
    for server in [a, b] {
        assert_eq!((count(server, "reading"), count(server, "\"Hut log\"")), (3, 2));
    }
    // From now on they travel, both ways.
    a.run("INSERT INTO reading VALUES (3, 30);\nUPDATE \"Hut log\" SET text = 'rain' WHERE id = 1")
        .unwrap();
    b.run("INSERT INTO \"Hut log\" VALUES (3, 'fog')").unwrap();
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    for server in [a, b] {
        assert_eq!((count(server, "reading"), count(server, "\"Hut log\"")), (4, 3));
    }
}

#[test]
fn a_table_without_a_key_is_not_published_before_it_has_one() {
    let network = Network::postgres_peers();
    for server in &network.servers {
        server
            .run("CREATE TABLE reading (at int, value int);\nGRANT SELECT ON reading TO keen")
            .unwrap();
    }
    network.replace("\"guest\", \"stay\"", "\"guest\", \"stay\", \"reading\"");
    let run = network.keen(&["preflight", "--format", "json"]);
    run_printed(&network, &run);
    for server in &network.servers {
        // The server would refuse this if it were published.
        server.run("INSERT INTO reading VALUES (1, 1);\nUPDATE reading SET value = 2").unwrap();
    }
}

#[test]
fn journals_of_two_databases_of_one_cluster_leave_each_other_alone() {
    let network = Network::postgres_peers();
    crate::common::conflicts::slots(&network);
    let [a, b] = &network.servers[..] else { unreachable!() };
    // A second topology over other databases of the same servers, whose log is to be read, too.
    for server in [a, b] {
        server.run_in("postgres", "CREATE DATABASE other").unwrap();
        server
            .run_in("other", "CREATE TABLE guest (id int PRIMARY KEY, name text, member boolean)")
            .unwrap();
        server.run_in("other", "CREATE TABLE stay (id int PRIMARY KEY)").unwrap();
        server.run_in("other", "GRANT SELECT ON guest, stay TO keen").unwrap();
    }
    network.replace("/huts\"", "/other\"");
    let ddl = network.keen(&["conflicts", "--ddl"]);
    assert_eq!(ddl.code, 0, "{ddl:?}");
    for (server, name) in [(a, "-- on a\n"), (b, "-- on b\n")] {
        let mine = ddl.out.split_once(name).unwrap().1.split("-- on ").next().unwrap();
        assert!(!mine.contains("\nSELECT pg_drop"), "{mine}");
        for statement in
            mine.split(";\n").filter(|s| !s.trim().starts_with("--") && !s.trim().is_empty())
        {
            server.run_in("other", statement).unwrap_or_else(|e| panic!("{statement}: {e}"));
        }
    }
    let both = |path: &str| {
        let run = network.keen(&["conflicts", "--no-ledger", "--format", "json", "--node", "a"]);
        assert!(!run.out.contains("no slot"), "{path}: {run:?}");
    };
    both("other");
    // And the first is as it was.
    network.replace("/other\"", "/huts\"");
    both("huts");
    let ddl = network.keen(&["conflicts", "--ddl"]);
    assert!(
        ddl.out.contains("-- nothing is lacking"),
        "what is there is not printed again: {}",
        ddl.out
    );
    // Neither command calls the other database's slot one that nobody reads.
    let run = network.keen(&["preflight", "--format", "json"]);
    assert!(bad(&run).is_empty(), "{}", run.out);
    let run = network.keen(&["flow", "--interval", "1s", "--no-ledger"]);
    assert!(!run.out.contains("nobody reads"), "{}", run.out);
}

#[test]
fn grants_name_the_account_that_logged_in_and_stay_on_their_server() {
    let network = Network::mariadb_mesh();
    for server in &network.servers {
        server
            .run(&format!(
                "SET SESSION sql_log_bin = 0;\nDROP USER keen@'%';\nCREATE USER keen@'127.0.0.1' IDENTIFIED BY '{}';\n\
                 GRANT SELECT ON huts.guest TO keen@'127.0.0.1'",
                CHECKER.1
            ))
            .unwrap();
    }
    let logged = |server: &Server| -> String {
        mysql::prelude::Queryable::query_first(
            &mut server.mariadb().unwrap(),
            "SELECT @@gtid_binlog_pos",
        )
        .unwrap()
        .unwrap()
    };
    let before: Vec<String> = network.servers.iter().map(logged).collect();
    let run = network.keen(&["preflight", "--format", "json"]);
    // Notes, too: what reads journals and writes repairs.
    for finding in run.json()["findings"].as_array().unwrap() {
        for todo in finding["todo"].as_array().unwrap() {
            let Some(statement) = todo["run"].as_str().filter(|s| s.contains("GRANT")) else {
                continue;
            };
            for node in todo["nodes"].as_array().unwrap() {
                let at = usize::from(node.as_str().unwrap().as_bytes()[0] - b'a');
                network.servers[at].run(&statement.replace("; ", ";\n")).unwrap();
            }
        }
    }
    let run = network.keen(&["conflicts", "--ddl"]);
    assert!(run.out.contains("-- nothing is lacking"), "preflight and --ddl agree: {}", run.out);
    let run = network.keen(&["preflight", "--format", "json"]);
    assert!(!run.out.contains("right-missing"), "{}", run.out);
    assert_eq!(network.servers.iter().map(logged).collect::<Vec<_>>(), before, "nothing travels");
    assert_eq!(network.keen(&["conflicts"]).code, 0);
    assert_eq!(network.keen(&["audit"]).code, 0);
}

#[test]
fn healthy_subscriptions_of_pglogical_are_not_called_absent() {
    let network = Network::pglogical_peers(&[]);
    network.servers.iter().for_each(|server| {
        server.run("GRANT USAGE ON SCHEMA pglogical TO keen;\nGRANT SELECT ON ALL TABLES IN SCHEMA pglogical TO keen").unwrap();
    });
    links::until(PATIENCE, "never found whole", || {
        let run = network.keen(&["preflight", "--format", "json"]);
        assert!(!run.out.contains("CREATE SUBSCRIPTION"), "{}", run.out);
        let json = run.json();
        // A start-up of a moment may still call a link stopped; an unread one is not whole.
        Ok(json["could_not_look"].as_array().is_some_and(Vec::is_empty)
            && json["looked_at"]["links"].as_u64() > Some(0)
            && bad(&run).iter().all(|finding| !finding.contains("link-")))
    })
    .unwrap();
}

#[test]
fn a_row_lock_on_a_node_of_a_mesh_hides_no_node() {
    let network = Network::mariadb_mesh();
    let [a, b, _] = &network.servers[..] else { unreachable!() };
    let mut holder = b.mariadb().unwrap();
    mysql::prelude::Queryable::query_drop(&mut holder, "BEGIN").unwrap();
    mysql::prelude::Queryable::query_drop(&mut holder, "UPDATE stay SET beds = 9 WHERE id = 1")
        .unwrap();
    a.run("UPDATE stay SET beds = 3 WHERE id = 1").unwrap();
    for round in 0..crate::common::rounds(3, 20) {
        let run = network.flow_with(&[]);
        let json = run.json();
        for node in json["nodes"].as_array().unwrap() {
            assert!(node["fault"].is_null(), "{json:#}");
        }
        assert!(!run.out.contains("may be frozen"), "{json:#}");
        // What leads elsewhere is as well as ever.
        for (from, to) in [("a", "c"), ("c", "a"), ("b", "a"), ("b", "c")] {
            assert_eq!(link(&json, from, to)["state"], "idle", "{json:#}");
        }
        // The row is on its way and nowhere else than that.
        let audit = network.keen(&[
            "audit",
            "--no-ledger",
            "--patience",
            "2s",
            "--connect-timeout",
            "3s",
            "--format",
            "json",
        ]);
        assert_eq!(audit.json()["summary"]["divergent_rows"], 0, "{}", audit.out);
        assert_eq!(audit.code, 3, "{}", audit.out);
        if round > 2 {
            continue;
        }
        let run = network.keen(&["preflight", "--connect-timeout", "3s", "--format", "json"]);
        let lacking = bad(&run).iter().any(|finding| finding.contains("right-missing"));
        assert!(!lacking, "a right that the account has is not asked for: {}", run.out);
    }
    mysql::prelude::Queryable::query_drop(&mut holder, "ROLLBACK").unwrap();
}

#[test]
fn a_bulk_load_on_a_node_of_a_mesh_is_no_fault() {
    let network = Network::mariadb_mesh();
    let mut loader = network.servers[0].mariadb().unwrap();
    mysql::prelude::Queryable::query_drop(&mut loader, "BEGIN").unwrap();
    for round in 0..crate::common::rounds(2, 20) {
        // It goes on for as long as it is looked at.
        let from = 1000 + round * 20_000;
        let load = format!(
            "INSERT INTO guest SELECT {from} + seq, REPEAT('Guest ', 30), true FROM seq_1_to_20000"
        );
        mysql::prelude::Queryable::query_drop(&mut loader, load).unwrap();
        let (code, json) = network.flow();
        assert_eq!(code, 0, "{json:#}");
        assert!(states(&json).iter().all(|state| state.starts_with("idle")), "{json:#}");
        let audit = network.keen(&["audit", "--no-ledger", "--format", "json"]);
        assert_eq!(
            (audit.code, &audit.json()["summary"]["divergent_rows"]),
            (0, &0.into()),
            "{}",
            audit.out
        );
    }
    mysql::prelude::Queryable::query_drop(&mut loader, "COMMIT").unwrap();
    // What is on its way now is told as such, and arrives.
    for _ in 0..crate::common::rounds(1, 5) {
        let audit = network.keen(&["audit", "--no-ledger", "--format", "json"]);
        assert_eq!(audit.json()["summary"]["divergent_rows"], 0, "{}", audit.out);
    }
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    assert_eq!(network.keen(&["audit", "--no-ledger"]).code, 0);
}
