//! `keen preflight --join`: its steps are run to the letter on real servers that both were written to, and
//! nothing is lost on any node.

use std::process::Command;

use crate::common::servers::{Network, PATIENCE, STAYS};
use keen_testkit::{ADMIN, CARRIER, Server, ServerKind, ServerLab, Settings, huts, links};
use mysql::prelude::Queryable;
use serde_json::Value as Json;

/// Every row of a server's table, as the server prints it.
fn rows(server: &Server, table: &str) -> Vec<String> {
    if server.engine().is_postgres() {
        let sql = format!("SELECT t::text FROM {table} t ORDER BY 1");
        let rows = server.postgres().unwrap().query(&sql, &[]).unwrap();
        return rows.iter().map(|row| row.get(0)).collect();
    }
    let sql = format!("SELECT * FROM {table} ORDER BY 1");
    let rows: Vec<mysql::Row> = server.mariadb().unwrap().query(&sql).unwrap();
    let cells = |row: mysql::Row| row.unwrap().iter().map(|v| v.as_sql(true)).collect::<Vec<_>>();
    rows.into_iter().map(|row| cells(row).join(", ")).collect()
}

/// An administrator who logs in as the printed commands do, over the network.
fn let_in(servers: &[Server]) {
    for server in servers {
        let admin = format!("'{}'@'%' IDENTIFIED BY '{}'", ADMIN.0, ADMIN.1);
        server.run(&format!("SET SESSION sql_log_bin = 0;\nGRANT ALL ON *.* TO {admin}")).unwrap();
    }
}

fn joined(network: &Network) -> Json {
    let run = network.keen(&["preflight", "--join", "b", "--from", "a", "--format", "json"]);
    assert!(run.code <= 1, "{run:?}");
    run.json()
}

/// Carries out the steps as an engineer would; `each` is told of every one before it is done.
fn carry_out(network: &Network, steps: &Json, mut each: impl FnMut(&str)) {
    let server = |step: &Json| {
        let name = step["node"].as_str()?;
        Some(&network.servers[usize::from(name.as_bytes()[0] - b'a')])
    };
    let home = network.folder.root();
    std::fs::write(
        home.join(".my.cnf"),
        format!("[client]\nuser={}\npassword={}\n", ADMIN.0, ADMIN.1),
    )
    .unwrap();
    let keen = std::path::Path::new(env!("CARGO_BIN_EXE_keen")).parent().unwrap();
    let path = format!("{}:{}", keen.display(), std::env::var("PATH").unwrap());
    for step in steps.as_array().unwrap() {
        if let Some(sql) = step["run"].as_str() {
            each(sql);
            let sql = sql.replace("USER", CARRIER.0).replace("PASSWORD", CARRIER.1);
            let again = sql.starts_with("DO ");
            links::until(PATIENCE, &format!("never done: {sql}"), || {
                match server(step).unwrap().run(&sql) {
                    Ok(()) => Ok(true),
                    Err(_) if again => Ok(false),
                    Err(error) => panic!("{sql}: {error}"),
                }
            })
            .unwrap();
        } else if let Some(command) = step["shell"].as_str() {
            each(command);
            let run = || {
                Command::new("bash")
                    .args(["-o", "pipefail", "-c", command])
                    .current_dir(home)
                    .env("HOME", home)
                    .env("PATH", &path)
                    .env("KEEN_TEST", keen_testkit::CHECKER.1)
                    .env("PGUSER", ADMIN.0)
                    .env("PGPASSWORD", ADMIN.1)
                    .output()
                    .unwrap()
            };
            let mut output = run();
            // On a busy machine a look may not be whole: then it is taken again.
            let began = std::time::Instant::now();
            while output.status.code() == Some(3) && began.elapsed() < PATIENCE {
                output = run();
            }
            // What keen finds is its exit code; a fence has to be passed.
            let found = command.starts_with("keen audit") || command == "keen preflight";
            let fine = output.status.success() || (found && output.status.code() == Some(1));
            assert!(fine, "{command}: {output:?}");
        } else {
            each(step["advice"].as_str().unwrap());
        }
    }
}

fn alike(network: &Network, tables: &[&str], what: &str) {
    let all = |table: &str| -> Vec<Vec<String>> {
        network.servers.iter().map(|server| rows(server, table)).collect()
    };
    links::until(PATIENCE, what, || {
        Ok(tables.iter().all(|table| all(table).windows(2).all(|pair| pair[0] == pair[1])))
    })
    .unwrap_or_else(|e| panic!("{e}: {:?}", tables.iter().map(|t| all(t)).collect::<Vec<_>>()));
}

#[test]
fn a_peer_of_postgres_is_seeded_from_the_other_and_nothing_is_lost_there() {
    let network = Network::postgres_peers();
    let (a, b) = (&network.servers[0], &network.servers[1]);
    // Both were written to, and b holds something that never got to a.
    b.run("INSERT INTO guest VALUES (700, 'Written at b', true)").unwrap();
    a.run("INSERT INTO guest VALUES (701, 'Written at a', true)").unwrap();
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    b.run("SET session_replication_role = replica; SELECT pg_replication_origin_create('past'); SELECT pg_replication_origin_session_setup('past'); \
           INSERT INTO guest VALUES (702, 'only b', true); UPDATE guest SET name = 'Other' WHERE id = 1; \
           SELECT pg_replication_origin_session_reset()").unwrap();
    let held = rows(a, "guest");
    let json = joined(&network);
    assert_eq!(json["loses"], true, "{json:#}");
    // While it is copied the source goes on being written to.
    carry_out(&network, &json["steps"], |step| {
        if step.starts_with("DO $keen$ BEGIN IF EXISTS") && step.contains("TRUNCATE") {
            a.run("INSERT INTO guest VALUES (703, 'Meanwhile', true)").unwrap();
        }
        if step.starts_with("CREATE SUBSCRIPTION") {
            a.run("UPDATE guest SET name = 'Meanwhile, too' WHERE id = 701").unwrap();
        }
    });
    let now = rows(a, "guest");
    assert!(
        held.iter().filter(|row| !row.starts_with("(701,")).all(|row| now.contains(row)),
        "{now:?}"
    );
    assert!(now.iter().any(|row| row.contains("Meanwhile, too")), "{now:?}");
    let kept = std::fs::read_to_string(network.folder.path("before.json")).unwrap();
    assert!(kept.contains("only b"), "{kept}");
    // What only b held can be put back from the file: here into a table beside.
    let copied = std::fs::read_to_string(network.folder.path("before.public.guest.copy")).unwrap();
    assert!(copied.contains("702\tonly b\tt") && copied.contains("1\tOther"), "{copied}");
    // And they exchange writes again.
    a.run("INSERT INTO guest VALUES (710, 'From a', true)").unwrap();
    b.run("INSERT INTO guest VALUES (711, 'From b', true)").unwrap();
    alike(&network, &["guest", "stay"], "the peers do not exchange writes");
    assert!(rows(a, "guest").iter().any(|row| row.contains("From b")));
    let run = network.keen(&["flow", "--interval", "1s", "--format", "json"]);
    assert_eq!(
        crate::common::flow::states(&run.json()).len(),
        2,
        "nothing was set up twice: {run:?}"
    );
}

#[test]
fn a_node_of_a_mariadb_mesh_is_seeded_and_nothing_is_lost_in_the_mesh() {
    let network = Network::mariadb_mesh();
    let [a, b, c] = &network.servers[..] else { unreachable!() };
    let_in(&network.servers);
    b.run("INSERT INTO guest VALUES (700, 'Written at b', true)").unwrap();
    a.run("INSERT INTO guest VALUES (701, 'Written at a', true)").unwrap();
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    b.run("SET SESSION sql_log_bin = 0;\nINSERT INTO guest VALUES (702, 'only b', true);\nUPDATE guest SET name = 'Other' WHERE id = 1").unwrap();
    let json = joined(&network);
    carry_out(&network, &json["steps"], |step| {
        // The others go on being written to, also between what b has and what it gets.
        if step == "STOP ALL SLAVES" {
            a.run("INSERT INTO guest VALUES (703, 'Before the stop', true)").unwrap();
        }
        if step.starts_with("mariadb-dump --single-transaction --gtid") {
            a.run("INSERT INTO guest VALUES (704, 'Before the dump', true)").unwrap();
            c.run("INSERT INTO guest VALUES (705, 'At c', true)").unwrap();
            // What a stop in the middle of a duplicate leaves behind.
            for connection in ["m0", "m2"] {
                b.run(&format!("SET SESSION default_master_connection = '{connection}', GLOBAL sql_slave_skip_counter = 1")).unwrap();
            }
        }
        if step == "START ALL SLAVES" {
            a.run("INSERT INTO guest VALUES (706, 'After the dump', true)").unwrap();
            c.run("UPDATE guest SET name = 'At c, later' WHERE id = 705").unwrap();
        }
    });
    a.run("INSERT INTO guest VALUES (710, 'From a', true)").unwrap();
    b.run("INSERT INTO guest VALUES (711, 'From b', true)").unwrap();
    c.run("INSERT INTO guest VALUES (712, 'From c', true)").unwrap();
    alike(&network, &["guest", "stay"], "the mesh does not exchange writes");
    let now = rows(a, "guest");
    for text in ["Written at b", "Before the stop", "At c, later", "From a", "From b", "From c"] {
        assert!(now.iter().any(|row| row.contains(text)), "{text}: {now:?}");
    }
    assert!(
        std::fs::read_to_string(network.folder.path("before.json")).unwrap().contains("only b")
    );
    assert!(!json.to_string().contains("RESET MASTER"), "{json:#}");
}

#[test]
fn a_node_of_a_mariadb_ring_is_seeded_and_the_one_behind_it_misses_nothing() {
    let lab = ServerLab::new().unwrap();
    let servers: Vec<Server> = (1..=3)
        .map(|id| {
            let settings = Settings { server_id: Some(id), ..Settings::default() };
            lab.start_with(&format!("r{id}"), ServerKind::MariaDb, &settings).unwrap()
        })
        .collect();
    links::mariadb_ring(&servers).unwrap();
    huts::tables(&servers[0]).unwrap();
    huts::rows(&servers[0]).unwrap();
    links::mariadb_settled(&servers, PATIENCE).unwrap();
    let_in(&servers);
    let ring = format!("{STAYS}[[link]]\nring = [\"a\", \"b\", \"c\"]\ncarries = [\"stays\"]\n");
    let network = Network::new(lab, servers, &ring);
    let [a, b, c] = &network.servers[..] else { unreachable!() };
    b.run("SET SESSION sql_log_bin = 0;\nINSERT INTO guest VALUES (702, 'only b', true)").unwrap();
    let json = joined(&network);
    // The steps say who is not written to until the last: until then nobody does here.
    assert!(
        json["steps"].to_string().contains("keep applications from writing to a, b, c"),
        "{json:#}"
    );
    a.run("INSERT INTO guest VALUES (703, 'Just before', true)").unwrap();
    c.run("INSERT INTO guest VALUES (704, 'Just before, at c', true)").unwrap();
    carry_out(&network, &json["steps"], |_| {});
    a.run("INSERT INTO guest VALUES (710, 'From a', true)").unwrap();
    b.run("INSERT INTO guest VALUES (711, 'From b', true)").unwrap();
    c.run("INSERT INTO guest VALUES (712, 'From c', true)").unwrap();
    alike(&network, &["guest", "stay"], "the ring does not exchange writes");
    let now = rows(c, "guest");
    for text in ["Just before'", "Just before, at c", "From a", "From b", "From c"] {
        assert!(now.iter().any(|row| row.contains(text)), "{text}: {now:?}");
    }
}

#[test]
fn a_node_whose_writes_the_source_lacks_is_not_overwritten() {
    let network = Network::mariadb_mesh();
    // b gathers from a and c, and a never hears of c.
    network.replace("mesh = [\"a\", \"b\", \"c\"]", "from = [\"a\", \"c\"]\nto = [\"b\"]");
    let json = joined(&network);
    let text = json["steps"].to_string();
    assert!(text.contains("no step that overwrites b is given"), "{text}");
    assert!(!text.contains("sql_log_bin") && !text.contains("gtid_slave_pos"), "{text}");
}

/// A copy of a whole file takes away what the sets do not carry, and the account of what was sent.
#[test]
fn a_file_is_not_overwritten_whole() {
    let folder = crate::common::Folder::new("");
    assert_eq!(folder.keen(&["demo", "--dir", "huts"]).code, 0);
    for node in ["saddle", "board-west", "archive"] {
        let args =
            ["preflight", "--topology", "huts/keen.toml", "--join", node, "--from", "valley"];
        let run = folder.keen(&args);
        assert!(run.out.contains("no step that overwrites"), "{node}: {}", run.out);
        assert!(
            !run.out.contains(".restore") && !run.out.contains("seed.db"),
            "{node}: {}",
            run.out
        );
        // What only it holds is kept first: the copy is whole.
        let (_, kept) = run.out.split_once("sqlite3 ").unwrap();
        let (file, rest) = kept.split_once(" \"").unwrap();
        let (sql, _) = rest.split_once('"').unwrap();
        let copy = folder.path(&format!("before-{node}.db"));
        let sql = sql.replace("before.db", copy.to_str().unwrap());
        let of_node = rusqlite::Connection::open(folder.path(&format!("huts/{file}"))).unwrap();
        of_node.execute_batch(&sql).unwrap();
        let copied = rusqlite::Connection::open(copy).unwrap();
        let count = |of: &rusqlite::Connection| -> i64 {
            let tables = "SELECT count(*) FROM sqlite_schema";
            of.query_row(tables, [], |row| row.get(0)).unwrap()
        };
        assert!(count(&of_node) > 3, "{node}");
        assert_eq!(count(&of_node), count(&copied), "{node}");
        let whole = copied.query_row("PRAGMA integrity_check", [], |row| row.get::<_, String>(0));
        assert_eq!(whole.unwrap(), "ok", "{node}");
    }
}
