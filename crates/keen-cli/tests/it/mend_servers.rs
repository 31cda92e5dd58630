//! Plans carried out on real servers, while others write.

use crate::common::mending::{accounts, dump, keen, on_a_small_disk};
use crate::common::servers::{Network, PATIENCE, under_load};
use keen_testkit::{Server, ServerKind, links};

/// So many rows are made to differ; the long run makes ten thousand.
fn rows() -> u64 {
    if std::env::var_os("KEEN_LONG").is_some() { 10_000 } else { 700 }
}

const FIRST: u64 = 1000;
const STAYS: &str = "SELECT * FROM stay ORDER BY id";

/// Stays from number 1000 on.
fn insert(count: u64, series: &str) -> String {
    format!(
        "INSERT INTO stay SELECT {FIRST} + n, 1 + n % 3, 'Saddle Refuge', 1 + n % 5, 40 + n % 7, '2026-07-01', NULL FROM {}",
        series.replace("COUNT", &count.to_string())
    )
}

/// Statements that part a server from the others: a third of the rows each changed, gone, and added.
fn apart(count: u64) -> [String; 3] {
    let last = FIRST + count;
    [
        format!(
            "UPDATE stay SET beds = beds + 1 WHERE id BETWEEN {FIRST} AND {last} AND id % 3 = 0"
        ),
        format!("DELETE FROM stay WHERE id BETWEEN {FIRST} AND {last} AND id % 3 = 1"),
        format!(
            "INSERT INTO stay SELECT id + 100000, guest_id, 'Bothy \"no 7\"', beds, price, arrives, NULL FROM stay WHERE id BETWEEN {FIRST} AND {last} AND id % 3 = 2"
        ),
    ]
}

/// Inserts, updates and deletes of other rows, at one server.
fn load(server: usize) -> String {
    let id = 900_000 + server;
    format!(
        "INSERT INTO stay VALUES ({id}, 1, 'Cirque Hut', 1, 10, '2026-07-09', NULL); \
         UPDATE stay SET beds = beds + 1 WHERE id = {id}; DELETE FROM stay WHERE id = {id}; \
         UPDATE stay SET price = price + 1 WHERE id = {}",
        1 + server
    )
}

/// Plants what differs on a node, plans with node a right, mends while all write, and looks at the servers themselves.
fn mended_under_load(network: &Network, leave_log: &str, settle: impl Fn(&[Server])) {
    accounts(network);
    let toml = network.folder.path("keen.toml");
    let text = std::fs::read_to_string(&toml).unwrap();
    std::fs::write(&toml, text + "[authority]\ndefault = \"a\"\n").unwrap();
    let count = rows();
    let last = network.servers.len() - 1;
    for server in [1, last] {
        let planted = apart(count).join("; ");
        network.servers[server].run(&format!("{leave_log}{planted}")).unwrap();
        if last == 1 {
            break;
        }
    }
    let before: Vec<String> = network.servers.iter().map(|server| dump(server, STAYS)).collect();
    assert_ne!(before[0], before[1]);

    let plan = keen(network, &["plan", "--save", "repair.plan"]);
    assert_eq!(plan.code, 1, "{plan:?}");
    // Nothing of it goes to where others read; nobody else writes yet.
    watch(network, true);
    let positions = || -> Vec<String> { network.servers.iter().map(position).collect() };
    let then = positions();
    let run = keen(network, &["mend", "repair.plan", "--dry-run", "--format", "json"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert_eq!(before, network.servers.iter().map(|s| dump(s, STAYS)).collect::<Vec<_>>());
    let tried: u64 =
        run.json()["nodes"].as_array().unwrap().iter().map(|n| n["made"].as_u64().unwrap()).sum();
    let run = keen(network, &["mend", "repair.plan", "--yes", "--format", "json"]);
    assert_eq!(run.code, 0, "{run:?}");
    let made: u64 =
        run.json()["nodes"].as_array().unwrap().iter().map(|n| n["made"].as_u64().unwrap()).sum();
    assert_eq!(made, tried);
    assert_eq!(run.json()["proof"]["divergent"], 0, "{run:?}");
    assert_eq!(positions(), then, "what was mended went to the log");
    watch(network, false);
    let mended: Vec<String> = network.servers.iter().map(|server| dump(server, STAYS)).collect();
    assert!(mended.iter().all(|rows| *rows == before[0]));

    // Taken back it is as it was, row for row; and can be mended once more, while all write.
    let run = keen(network, &["mend", "--undo", "repair.plan.undo", "--yes"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert_eq!(before, network.servers.iter().map(|s| dump(s, STAYS)).collect::<Vec<_>>());
    while_the_disk_fills_up(network, &before);
    let all: Vec<(&Server, String)> =
        network.servers.iter().enumerate().map(|(i, server)| (server, load(i))).collect();
    under_load(&all, || {
        let plan = keen(network, &["plan", "--save", "again.plan"]);
        assert_eq!(plan.code, 1, "{plan:?}");
        let run = keen(network, &["mend", "again.plan", "--yes", "--format", "json"]);
        assert_eq!(run.code, 0, "{run:?}");
    });
    settle(&network.servers);
    let rows: Vec<String> = network.servers.iter().map(|server| dump(server, STAYS)).collect();
    assert!(rows.iter().all(|of| *of == rows[0]), "the servers' own rows differ");
    assert_eq!(keen(network, &["audit"]).code, 0);
}

/// The disk of keen is full, at first from the beginning and then later and later: every run goes on behind the one
/// before it, and what the way back needs is there.
fn while_the_disk_fills_up(network: &Network, before: &[String]) {
    let plan = keen(network, &["plan", "--save", "full.plan"]);
    assert_eq!(plan.code, 1, "{plan:?}");
    let mend = ["mend", "full.plan", "--yes", "--batch", "50"];
    let rows = || network.servers.iter().map(|server| dump(server, STAYS)).collect::<Vec<_>>();
    let run = on_a_small_disk(network.folder.root(), 4, &mend);
    assert_eq!((run.code, &run.out[..]), (2, ""), "{run:?}");
    assert!(run.err.contains("cannot write full.plan.undo: File too large"), "{run:?}");
    assert_eq!(rows(), before);
    // Before the first write it is about as long as the one of the same rows before; then come lines of batches.
    let long = network.folder.path("repair.plan.undo").metadata().unwrap().len();
    let (mut blocks, mut stopped) = (usize::try_from(long / 512).unwrap() * 9 / 10, 0);
    loop {
        let run = on_a_small_disk(network.folder.root(), blocks, &mend);
        if run.code == 0 {
            break;
        }
        stopped += usize::from(run.code == 3);
        assert!([2, 3].contains(&run.code), "{blocks}: {run:?}");
        assert!(format!("{run:?}").contains("File too large"), "{blocks}: {run:?}");
        blocks += 3;
    }
    assert!(stopped > 0);
    assert!(rows().iter().all(|rows| *rows == before[0]));
    let run = keen(network, &["mend", "--undo", "full.plan.undo", "--yes"]);
    assert_eq!((run.code, &rows()[..]), (0, before), "{run:?}");
}

/// A slot that nobody reads tells what others would get. While it is there, nobody has read everything.
fn watch(network: &Network, is_there: bool) {
    let make = [
        "CREATE PUBLICATION watch FOR TABLE stay",
        "SELECT pg_create_logical_replication_slot('watch', 'pgoutput')",
    ];
    let take_away = ["SELECT pg_drop_replication_slot('watch')", "DROP PUBLICATION watch"];
    for server in network.servers.iter().filter(|server| server.engine().is_postgres()) {
        for sql in if is_there { make } else { take_away } {
            server.run(sql).unwrap();
        }
    }
}

/// What of a server's log others would take: on MariaDB where it stands, on PostgreSQL the rows that a receiver with
/// `origin = none` gets.
fn position(server: &Server) -> String {
    if server.engine().is_postgres() {
        let sql = "SELECT count(*) FROM pg_logical_slot_peek_binary_changes('watch', NULL, NULL, 'proto_version', '4', 'publication_names', 'watch', 'origin', 'none') \
            WHERE get_byte(data, 0) IN (ascii('I'), ascii('U'), ascii('D'))";
        return dump(server, sql);
    }
    dump(server, "SELECT @@gtid_binlog_pos")
}

#[test]
fn a_mariadb_mesh_is_mended_while_all_write() {
    let network = Network::mariadb_mesh();
    network.servers[0].run(&insert(rows(), "(SELECT seq AS n FROM seq_1_to_COUNT) AS s")).unwrap();
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    mended_under_load(&network, "SET SESSION sql_log_bin = 0; ", |servers| {
        links::mariadb_settled(servers, PATIENCE).unwrap();
    });
}

#[test]
fn postgresql_peers_are_mended_while_both_write() {
    let network = Network::postgres_peers();
    network.servers[0].run(&insert(rows(), "generate_series(1, COUNT) AS s (n)")).unwrap();
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    let leave_log = "SELECT pg_replication_origin_create('elsewhere'); SELECT pg_replication_origin_session_setup('elsewhere'); ";
    mended_under_load(&network, leave_log, |servers| {
        links::postgres_settled(servers, PATIENCE).unwrap();
    });
}

/// Preflight says what the account that mends lacks; with the grants that it prints, and no other right, it mends.
fn grants_are_enough(network: &Network, login: &str) {
    let path = network.folder.path("keen.toml");
    let mut text = std::fs::read_to_string(&path).unwrap();
    for (i, server) in network.servers.iter().enumerate() {
        server.run(login).unwrap();
        let name = crate::common::node_name(i);
        text.push_str(&format!(
            "[node.{name}.mend]\nuser = \"keen_mend\"\npassword = {{ env = \"KEEN_TEST_MEND\" }}\n"
        ));
    }
    std::fs::write(&path, text + "[authority]\ndefault = \"a\"\n").unwrap();
    let lacking = |run: &crate::common::Run| {
        let json = run.json();
        let findings = json["findings"].as_array().unwrap().iter();
        let of = findings
            .filter(|f| f["check"] == "right-missing" && f.to_string().contains("keen_mend"));
        of.count()
    };
    let run = keen(network, &["preflight", "--format", "json"]);
    assert_ne!(lacking(&run), 0, "{run:?}");
    assert!(run.out.contains("the account keen_mend may not write repairs"), "{run:?}");
    for (node, statement) in crate::common::preflight::printed(&run, "right-missing") {
        if statement.contains("keen_mend") {
            let at = usize::from(node.as_bytes()[0] - b'a');
            network.servers[at].run(&statement).unwrap();
        }
    }
    let run = keen(network, &["preflight", "--format", "json"]);
    assert_eq!(lacking(&run), 0, "{run:?}");
    let plan = keen(network, &["plan", "--save", "repair.plan"]);
    assert_eq!(plan.code, 1, "{plan:?}");
    let run = keen(network, &["mend", "repair.plan", "--yes"]);
    assert_eq!(run.code, 0, "{run:?}");
    let of: Vec<String> = network.servers.iter().map(|server| dump(server, STAYS)).collect();
    assert!(of.iter().all(|rows| *rows == of[0]));
}

#[test]
fn the_grants_that_preflight_prints_are_what_mending_takes() {
    let network = Network::mariadb_mesh();
    let parted = "SET SESSION sql_log_bin = 0; UPDATE stay SET beds = 9 WHERE id = 1; DELETE FROM stay WHERE id = 2";
    network.servers[1].run(parted).unwrap();
    // Whoever may not use a database at all cannot log in to it.
    grants_are_enough(
        &network,
        "SET SESSION sql_log_bin = 0; CREATE USER keen_mend@'%' IDENTIFIED BY 'lab-mender'; GRANT SELECT ON huts.guest TO keen_mend@'%'",
    );
    let network = Network::alike(&[ServerKind::Postgres15, ServerKind::Postgres18]);
    network.servers[1]
        .run("UPDATE stay SET beds = 9 WHERE id = 1; DELETE FROM stay WHERE id = 2")
        .unwrap();
    grants_are_enough(&network, "CREATE ROLE keen_mend LOGIN PASSWORD 'lab-mender'");
}

#[test]
fn what_rolls_nothing_back_is_written_row_by_row_and_taken_back() {
    let network = Network::alike(&[ServerKind::MariaDb, ServerKind::MariaDb]);
    accounts(&network);
    let path = network.folder.path("keen.toml");
    let text = std::fs::read_to_string(&path).unwrap();
    std::fs::write(&path, text + "[authority]\ndefault = \"a\"\n").unwrap();
    let b = &network.servers[1];
    b.run("ALTER TABLE stay ENGINE = MyISAM; UPDATE stay SET beds = 9 WHERE id = 1; DELETE FROM stay WHERE id = 2; UPDATE guest SET name = 'x' WHERE id = 3").unwrap();
    let before = dump(b, STAYS);
    assert_eq!(keen(&network, &["plan", "--save", "r.plan"]).code, 1);
    let run = keen(&network, &["mend", "r.plan", "--dry-run"]);
    assert_eq!((run.code, dump(b, STAYS)), (0, before.clone()), "{run:?}");
    let run = keen(&network, &["mend", "r.plan", "--yes", "--format", "json"]);
    assert_eq!((run.code, run.json()["nodes"][0]["made"].as_u64()), (0, Some(3)), "{run:?}");
    assert_eq!(dump(b, STAYS), dump(&network.servers[0], STAYS));
    // Killed after the row was written and before anybody could say so: it is known all the same.
    let undo = network.folder.path("r.plan.undo");
    let text = std::fs::read_to_string(&undo).unwrap();
    let lines: Vec<&str> = text.lines().collect();
    let of = |state: &str| {
        let is = |line: &&&str| line.contains("\"batch\"") && line.contains(state);
        lines.iter().filter(is).count()
    };
    assert_eq!((of("ready"), of("done")), (3, 3), "{text}");
    let last = lines.iter().rposition(|line| line.contains("\"done\"")).unwrap();
    std::fs::write(&undo, lines[..last].join("\n") + "\n{\"kind\":\"ba").unwrap();
    let run = keen(&network, &["mend", "r.plan", "--yes", "--format", "json"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert_eq!(run.json()["nodes"][0]["made_before"], 3, "{run:?}");
    let run = keen(&network, &["mend", "--undo", "r.plan.undo", "--yes"]);
    assert_eq!((run.code, dump(b, STAYS)), (0, before), "{run:?}");
}
