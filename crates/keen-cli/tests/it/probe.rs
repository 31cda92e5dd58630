//! `keen probe`: a marked row is written, watched for and taken away; and fences by hand.

use crate::common::Folder;
use crate::common::servers::{Network, PATIENCE};
use keen_lab::Lab;
use keen_testkit::{Server, links};
use mysql::prelude::Queryable;
use serde_json::Value as Json;

/// The statements that keen prints for a node, run as its administrator.
fn run_ddl(network: &Network, node: &str, server: &Server) {
    let ddl = network.keen(&["probe", "--ddl"]);
    assert_eq!(ddl.code, 0, "{ddl:?}");
    let part =
        ddl.out.split(&format!("-- on {node}\n")).nth(1).unwrap().split("-- on ").next().unwrap();
    for line in part.lines().filter(|line| !line.starts_with("--")) {
        server.run(line).unwrap_or_else(|error| panic!("{line}: {error}"));
    }
}

fn carry_the_table(network: &Network) {
    network.replace("\"guest\", \"stay\"", "\"guest\", \"stay\", \"keen_probe\"");
}

fn rows(server: &Server) -> i64 {
    let sql = "SELECT count(*) FROM keen_probe";
    if server.engine().is_postgres() {
        server.postgres().unwrap().query_one(sql, &[]).unwrap().get(0)
    } else {
        server.mariadb().unwrap().query_first(sql).unwrap().unwrap()
    }
}

/// "a>b insert" and so on for every write that arrived (or did not).
fn arrivals(json: &Json, arrived: bool) -> Vec<String> {
    let mut found = Vec::new();
    for writer in json["nodes"].as_array().unwrap() {
        for one in writer["arrived"].as_array().unwrap() {
            if one["seconds"].is_null() != arrived {
                let text = |json: &Json| json.as_str().unwrap().to_owned();
                found.push(format!(
                    "{}>{} {}",
                    text(&writer["node"]),
                    text(&one["node"]),
                    text(&one["stage"])
                ));
            }
        }
    }
    found
}

#[test]
fn on_a_mesh_every_write_arrives_and_nothing_stays() {
    let mesh = Network::mariadb_mesh();
    let run = mesh.keen(&["probe"]);
    assert_eq!(run.code, 2);
    assert!(run.err.contains("no set carries the table keen_probe"), "{}", run.err);
    carry_the_table(&mesh);
    for (node, server) in ["a", "b", "c"].into_iter().zip(&mesh.servers) {
        run_ddl(&mesh, node, server);
    }
    links::mariadb_settled(&mesh.servers, PATIENCE).unwrap();
    let run = mesh.keen(&["probe", "--format", "json"]);
    let json = run.json();
    assert_eq!(
        (run.code, json["arrived"].as_u64(), json["missing"].as_u64()),
        (0, Some(18), Some(0)),
        "{json:#}"
    );
    assert!(run.err.contains("will write one row to keen_probe on a"), "said before: {}", run.err);
    assert!(run.err.contains("it is expected on b, c"), "{}", run.err);
    mesh.servers.iter().for_each(|server| assert_eq!(rows(server), 0));
    let text = mesh.keen(&["probe", "--from", "b"]);
    assert!(text.out.contains("Every write arrived everywhere"), "{}", text.out);

    // A run that was killed long ago left its row: it is taken away. One that may be at work keeps its own.
    let young = i64::try_from(
        std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_micros(),
    )
    .unwrap();
    for (id, node) in [
        ("keen-1700000000000000-7 b".to_owned(), 1),
        (format!("keen-{young}-7 a"), 0),
        ("mine".to_owned(), 2),
    ] {
        mesh.servers[node]
            .run(&format!("INSERT INTO keen_probe VALUES ('{id}', 'x', 'new')"))
            .unwrap();
    }
    links::mariadb_settled(&mesh.servers, PATIENCE).unwrap();
    let run = mesh.keen(&["probe", "--from", "a", "--format", "json"]);
    assert!(run.err.contains("will delete the row keen-1700000000000000-7 b"), "{}", run.err);
    let json = run.json();
    let left: Vec<bool> =
        json["left_behind"].as_array().unwrap().iter().map(|r| r["taken_away"] == true).collect();
    assert_eq!(left, [true, false], "{json:#}");
    assert_eq!(json["left_behind"][0]["nodes"], serde_json::json!(["a", "b", "c"]));
    links::mariadb_settled(&mesh.servers, PATIENCE).unwrap();
    mesh.servers.iter().for_each(|server| assert_eq!(rows(server), 2));
    let text = mesh.keen(&["probe", "--from", "a"]).out;
    assert!(text.contains("is left alone") && !text.contains("was killed"), "{text}");
    // What it prints takes away that row alone.
    let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
    let (_, statement) = text.split_once("Later, on a: ").unwrap();
    let (statement, _) = statement.split_once(" Every write").unwrap();
    mesh.servers[0].run(statement).unwrap();
    links::mariadb_settled(&mesh.servers, PATIENCE).unwrap();
    mesh.servers.iter().for_each(|server| assert_eq!(rows(server), 1));
    mesh.servers[0].run("DELETE FROM keen_probe WHERE id = 'mine'").unwrap();
    links::mariadb_settled(&mesh.servers, PATIENCE).unwrap();

    // What does not arrive is told, and where the row still is.
    mesh.servers[2].run("STOP ALL SLAVES").unwrap();
    let run = mesh.keen(&["probe", "--from", "a", "--timeout", "1s", "--format", "json"]);
    let json = run.json();
    assert_eq!(run.code, 1, "{json:#}");
    assert_eq!(arrivals(&json, false), ["a>c insert", "a>c update"]);
    assert!(arrivals(&json, true).contains(&"a>b delete".to_owned()));
    assert_eq!(rows(&mesh.servers[0]), 0);
    links::mariadb_start_all(&mesh.servers[2]).unwrap();
    links::mariadb_settled(&mesh.servers, PATIENCE).unwrap();
    mesh.servers.iter().for_each(|server| assert_eq!(rows(server), 0));

    // Without the right to write nothing is written, and that is said.
    mesh.servers[0].run("REVOKE INSERT ON huts.keen_probe FROM keen@'%'").unwrap();
    links::mariadb_settled(&mesh.servers, PATIENCE).unwrap();
    let run = mesh.keen(&["probe", "--from", "a", "--format", "json"]);
    assert_eq!(run.code, 3, "{run:?}");
    assert!(
        crate::common::told(&run.json()["nodes"][0]["fault"]).contains("write the probe's row"),
        "{run:?}"
    );
}

#[test]
fn interrupted_it_takes_its_row_away() {
    let mesh = Network::mariadb_mesh();
    carry_the_table(&mesh);
    for (node, server) in ["a", "b", "c"].into_iter().zip(&mesh.servers) {
        run_ddl(&mesh, node, server);
    }
    links::mariadb_settled(&mesh.servers, PATIENCE).unwrap();
    mesh.servers[2].run("STOP ALL SLAVES").unwrap();
    let keen = std::process::Command::new(env!("CARGO_BIN_EXE_keen"))
        .args(["probe", "--from", "a", "--timeout", "50s", "--no-ledger"])
        .current_dir(mesh.folder.root())
        .env("KEEN_TEST", keen_testkit::CHECKER.1)
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    links::until(PATIENCE, "no row is written", || Ok(rows(&mesh.servers[0]) == 1)).unwrap();
    let id = nix::unistd::Pid::from_raw(i32::try_from(keen.id()).unwrap());
    nix::sys::signal::kill(id, nix::sys::signal::Signal::SIGINT).unwrap();
    let output = keen.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(130), "{output:?}");
    assert_eq!((rows(&mesh.servers[0]), rows(&mesh.servers[1])), (0, 0));
}

#[test]
fn postgresql_peers_are_probed_and_waited_for() {
    let peers = Network::postgres_peers();
    carry_the_table(&peers);
    let before = peers.keen(&["probe", "--from", "a", "--timeout", "1s"]);
    assert!(before.out.contains("keen probe --ddl prints how"), "{before:?}");
    for (node, server) in ["a", "b"].into_iter().zip(&peers.servers) {
        run_ddl(&peers, node, server);
        server.run("ALTER PUBLICATION peers ADD TABLE keen_probe").unwrap();
    }
    peers.servers[1]
        .run("ALTER SUBSCRIPTION from_0_to_1 REFRESH PUBLICATION WITH (copy_data = false)")
        .unwrap();
    // a does not take it yet: one way arrives, the other does not.
    let run = peers.keen(&["probe", "--timeout", "2s", "--format", "json"]);
    let json = run.json();
    assert_eq!(run.code, 1, "{json:#}");
    assert_eq!(arrivals(&json, false), ["b>a insert", "b>a update"]);
    peers.servers[0]
        .run("ALTER SUBSCRIPTION from_1_to_0 REFRESH PUBLICATION WITH (copy_data = false)")
        .unwrap();
    links::postgres_settled(&peers.servers, PATIENCE).unwrap();
    let run = peers.keen(&["probe", "--format", "json"]);
    assert_eq!((run.code, run.json()["arrived"].as_u64()), (0, Some(6)), "{run:?}");

    // Who may read may not write yet; the right that is lacking is the one that is named.
    peers.servers[0].run("REVOKE UPDATE ON keen_probe FROM keen").unwrap();
    let run = peers.keen(&["probe", "--from", "a", "--timeout", "2s"]);
    assert!(run.out.contains("keen lacks the right to update rows of the table"), "{run:?}");
    assert!(!run.out.contains("GRANT SELECT"), "{run:?}");
    assert_eq!((run.code, rows(&peers.servers[0])), (3, 0), "{run:?}");
    peers.servers[0].run("GRANT UPDATE ON keen_probe TO keen").unwrap();

    // Fences by hand.
    let run = peers.keen(&["probe", "--now", "--at", "b"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert!(run.out.starts_with("passed: b has applied what a had written at 0/"), "{}", run.out);
    peers.servers[1].run("ALTER SUBSCRIPTION from_0_to_1 DISABLE").unwrap();
    peers.servers[0].run("UPDATE guest SET member = NOT member WHERE id = 1").unwrap();
    let run = peers.keen(&["probe", "--now", "--at", "b", "--timeout", "1s"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert!(run.out.contains("the link is paused: the subscription is disabled"), "{}", run.out);
    let position: String = peers.servers[0]
        .postgres()
        .unwrap()
        .query_one("SELECT pg_current_wal_lsn()::text", &[])
        .unwrap()
        .get(0);
    let run = peers.keen(&[
        "probe",
        "--seen",
        &position,
        "--at",
        "b",
        "--timeout",
        "1s",
        "--format",
        "json",
    ]);
    assert_eq!((run.code, run.json()["links"][0]["passed"].as_bool()), (1, Some(false)), "{run:?}");
    peers.servers[1].run("ALTER SUBSCRIPTION from_0_to_1 ENABLE").unwrap();
    let run = peers.keen(&["probe", "--seen", &position, "--at", "b", "--timeout", "30s"]);
    assert_eq!(run.code, 0, "{run:?}");
    for (args, said) in [
        (vec!["--seen", "1-1-5", "--at", "b"], "has positions of another kind"),
        (vec!["--seen", "x", "--at", "b"], "is not a position"),
        (vec!["--now", "--at", "z"], "there is no node z"),
        (vec!["--now", "--at", "b", "--from", "b"], "no link leads from b to b"),
    ] {
        let mut all = vec!["probe"];
        all.extend(args);
        let run = peers.keen(&all);
        assert_eq!(run.code, 2, "{run:?}");
        assert!(run.err.contains(said), "{said}: {}", run.err);
    }
}

#[test]
fn on_the_stand_in_a_probe_travels_like_any_write() {
    let text = crate::common::mesh_text(3, &["keen_probe"], "");
    let folder = Folder::new("");
    let schema = |_: &str| {
        "CREATE TABLE keen_probe (id TEXT NOT NULL PRIMARY KEY, node TEXT NOT NULL, stage TEXT NOT NULL);".to_owned()
    };
    let mut lab = Lab::create(&folder.path("net"), &text, schema, 1).unwrap();
    let over = std::sync::atomic::AtomicBool::new(false);
    let run = std::thread::scope(|scope| {
        scope.spawn(|| {
            while !over.load(std::sync::atomic::Ordering::Relaxed) {
                lab.step().unwrap();
                std::thread::sleep(std::time::Duration::from_millis(5));
            }
        });
        let run = folder.keen(&["probe", "--topology", "net/keen.toml", "--format", "json"]);
        over.store(true, std::sync::atomic::Ordering::Relaxed);
        run
    });
    let json = run.json();
    assert_eq!((run.code, json["arrived"].as_u64()), (0, Some(18)), "{json:#}");
    // With nobody to carry it, it does not arrive, and is taken away again.
    let run =
        folder.keen(&["probe", "--topology", "net/keen.toml", "--timeout", "100ms", "--from", "a"]);
    assert_eq!(run.code, 1, "{run:?}");
    let connection = rusqlite::Connection::open(folder.path("net/a.db")).unwrap();
    let left: i64 =
        connection.query_row("SELECT count(*) FROM keen_probe", [], |row| row.get(0)).unwrap();
    assert_eq!(left, 0);
}
