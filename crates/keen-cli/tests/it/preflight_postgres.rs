//! `keen preflight` on real PostgreSQL servers: whole, and with each fault really made.

use crate::common::preflight::{bad, findings, first, printed, statements};
use crate::common::servers::{Network, PATIENCE, STAYS};
use keen_testkit::{Server, ServerKind, ServerLab, Settings, huts, links};

const NOTHING: [&str; 0] = [];

/// A publisher with one subscriber that has everything of stays.
fn publisher(copied: bool) -> Network {
    let lab = ServerLab::new().unwrap();
    let servers =
        lab.start_all(&[("a", ServerKind::Postgres15), ("b", ServerKind::Postgres15)]).unwrap();
    for server in &servers {
        huts::tables(server).unwrap();
    }
    huts::rows(&servers[0]).unwrap();
    links::publish(&servers[0], "stays", "guest, stay").unwrap();
    let options = if copied { "copy_data = true" } else { "copy_data = false" };
    links::subscribe(&servers[1], &servers[0], "from_a", "stays", options).unwrap();
    links::postgres_settled(&servers, PATIENCE).unwrap();
    let rest = format!("{STAYS}[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"stays\"]\n");
    let network = Network::new(lab, servers, &rest);
    network.is_not_written_to("b");
    network
}

fn until_found(network: &Network, expected: &[&str]) {
    let mut last = None;
    let found = links::until(PATIENCE, "it is not found", || {
        let run = last.insert(network.keen(&["preflight", "--format", "json"]));
        Ok(bad(run) == expected)
    });
    let logs = || {
        network.servers.iter().map(keen_testkit::Server::log).collect::<Vec<_>>().join("\n---\n")
    };
    assert!(found.is_ok(), "not found: {expected:?}, but {last:?}\n{}", logs());
}

fn check(network: &Network, expected: &[&str]) -> crate::common::Run {
    let run = network.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), expected, "{}", run.out);
    run
}

#[test]
fn healthy_peers_publisher_and_standby_have_nothing_to_mend() {
    let peers = Network::postgres_peers();
    let run = check(&peers, &NOTHING);
    assert_eq!((run.code, run.json()["complete"].as_bool()), (0, Some(true)), "{run:?}");
    assert_eq!(run.json()["reaches"].as_array().unwrap().len(), 2);

    let run = check(&publisher(true), &NOTHING);
    assert_eq!(run.code, 0);

    let standby = with_standby();
    let run = check(&standby, &NOTHING);
    assert_eq!(run.json()["nodes"][1]["standby"], true);
    assert!(!run.out.contains("voters"), "a primary and its standby do not vote: {}", run.out);
}

/// A primary and a standby that streams from it.
fn with_standby() -> Network {
    let lab = ServerLab::new().unwrap();
    let a = lab.start("a", ServerKind::Postgres15).unwrap();
    huts::tables(&a).unwrap();
    huts::rows(&a).unwrap();
    let b = lab.standby("b", &a, &[]).unwrap();
    links::until(PATIENCE, "the standby does not stream", || {
        let sql = "SELECT count(*) FROM pg_stat_replication WHERE state = 'streaming'";
        Ok(a.postgres()?.query_one(sql, &[])?.get::<_, i64>(0) == 1)
    })
    .unwrap();
    let rest = format!("{STAYS}[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"stays\"]\n");
    let network = Network::new(lab, vec![a, b], &rest);
    network.is_not_written_to("b");
    network
}

#[test]
fn a_leader_that_is_not_the_one_the_file_wants() {
    let mut network = with_standby();
    // The file wants the standby to be written to.
    network.replace("writes = false", "writes = true");
    let run = network.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), ["stop leader-elsewhere b"], "{}", run.out);
    assert!(
        first(&run, "leader-elsewhere")["found"].as_str().unwrap().contains("a leads"),
        "{}",
        run.out
    );
    network.is_not_written_to("b");
    // A delay on purpose that the file does not know.
    network.servers[1].restart_with(&["recovery_min_apply_delay = '1h'"]).unwrap();
    until_found(&network, &["warn delay-differs a,b"]);
    network.replace("carries = [\"stays\"]", "carries = [\"stays\"]\ndelay = \"1h\"");
    check(&network, &NOTHING);
    network.replace("\ndelay = \"1h\"", "");
    let run = network.keen(&["preflight", "--format", "json"]);
    for (_, statement) in printed(&run, "delay-differs") {
        network.servers[1].run_in("postgres", &statement).unwrap();
    }
    until_found(&network, &NOTHING);
    // The leader is gone: nobody has a majority. Then the standby was promoted.
    network.servers[0].kill();
    let run = network.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), ["stop unreachable a", "stop source-unreached a,b"], "{}", run.out);
    network.servers[0].start().unwrap();
    network.servers[1].run_in("postgres", "SELECT pg_promote()").unwrap();
    let run = network.keen(&["preflight", "--format", "json"]);
    assert!(bad(&run).contains(&"stop link-absent a,b".to_owned()), "{}", run.out);
}

#[test]
fn links_as_they_are_against_links_as_they_should_be() {
    let network = Network::postgres_peers();
    let (a, b) = (&network.servers[0], &network.servers[1]);
    // Switched off; then one direction gone, its slot left behind at the source.
    b.run("ALTER SUBSCRIPTION from_0_to_1 DISABLE").unwrap();
    let run = check(&network, &["stop link-down a,b"]);
    assert_eq!(
        statements(&run),
        [("b".to_owned(), "ALTER SUBSCRIPTION \"from_0_to_1\" ENABLE".to_owned())]
    );
    b.run(&statements(&run)[0].1).unwrap();
    until_found(&network, &NOTHING);
    b.run("ALTER SUBSCRIPTION from_0_to_1 DISABLE;\nALTER SUBSCRIPTION from_0_to_1 SET (slot_name = NONE);\nDROP SUBSCRIPTION from_0_to_1")
        .unwrap();
    until_found(&network, &["stop link-one-way a,b", "warn slot-unread a"]);
    let run = network.keen(&["preflight", "--format", "json"]);
    assert!(
        first(&run, "slot-unread")["found"].as_str().unwrap().contains("from_0_to_1"),
        "{}",
        run.out
    );
    let todo = first(&run, "slot-unread")["todo"][0]["advice"].as_str().unwrap().to_owned();
    let (_, statement) = todo.split_once("has not fetched: ").unwrap();
    a.run(statement).unwrap();
    links::subscribe(b, a, "from_0_to_1", "peers", "origin = none, copy_data = false").unwrap();
    until_found(&network, &NOTHING);
    // Both pass on what they were sent: it goes round. What is said to run mends it.
    for (server, name) in [(a, "from_1_to_0"), (b, "from_0_to_1")] {
        server.run(&format!("ALTER SUBSCRIPTION {name} SET (origin = any)")).unwrap();
    }
    let run = check(&network, &["stop link-loop a,b"]);
    for (node, statement) in statements(&run) {
        let server = if node == "a" { a } else { b };
        server.run(&statement).unwrap();
    }
    until_found(&network, &NOTHING);
    // A duplicate key: the applier stops at it again and again.
    a.run("ALTER SUBSCRIPTION from_1_to_0 DISABLE").unwrap();
    b.run("ALTER SUBSCRIPTION from_0_to_1 DISABLE").unwrap();
    for server in [a, b] {
        server.run("INSERT INTO guest VALUES (90, 'Ida Marmot', true)").unwrap();
    }
    b.run("ALTER SUBSCRIPTION from_0_to_1 ENABLE").unwrap();
    links::until(PATIENCE, "the applier does not stumble", || {
        let run = network.keen(&["preflight", "--format", "json"]);
        let again = |f: &str| f.contains("keeps stopping on an error");
        let findings = run.json()["findings"].as_array().unwrap().clone();
        Ok(findings.iter().any(|f| again(f["found"].as_str().unwrap())))
    })
    .unwrap();
}

#[test]
fn a_source_that_cannot_be_looked_at_is_not_said_to_be_absent() {
    let mut network = Network::postgres_peers();
    // Left out, or down: whose slot b reads only a could tell.
    let run = network.keen(&["preflight", "--node", "b", "--format", "json"]);
    assert_eq!((bad(&run).len(), run.code), (0, 3), "{}", run.out);
    let unseen = run.json()["could_not_look"][0].clone();
    assert!(
        unseen["fault"]["what"].as_str().unwrap().contains("from_0_to_1 may be it"),
        "{unseen}"
    );
    network.servers[0].kill();
    links::until(PATIENCE, "it does not notice", || {
        let run = network.keen(&["preflight", "--format", "json"]);
        Ok(bad(&run) == ["stop unreachable a", "stop source-unreached b"])
    })
    .unwrap();
}

#[test]
fn what_a_subscription_carries_against_the_sets() {
    let network = publisher(true);
    let (a, b) = (&network.servers[0], &network.servers[1]);
    // A table is added to the set and not to the publication; then not taken up; then without a copy.
    network.replace("\"guest\", \"stay\"", "\"guest\", \"stay\", \"trail_notice\"");
    let run = check(&network, &["stop table-not-carried a,b"]);
    a.run(&statements(&run)[0].1).unwrap();
    let run = check(&network, &["stop table-not-carried a,b"]);
    assert_eq!(
        statements(&run),
        [("b".to_owned(), "ALTER SUBSCRIPTION \"from_a\" REFRESH PUBLICATION".to_owned())]
    );
    b.run("ALTER SUBSCRIPTION from_a REFRESH PUBLICATION WITH (copy_data = false)").unwrap();
    until_found(&network, &["warn never-copied a,b"]);
    // Rows, columns and kinds of writes that the file knows nothing of.
    a.run("ALTER PUBLICATION stays SET TABLE guest WHERE (member), stay (id, guest_id, hut, beds, price, arrives), trail_notice").unwrap();
    a.run("ALTER PUBLICATION stays SET (publish = 'insert, update')").unwrap();
    a.run("ALTER TABLE guest REPLICA IDENTITY FULL").unwrap();
    let run = network.keen(&["preflight", "--format", "json"]);
    let found: Vec<String> = run.json()["findings"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|f| f["check"] == "carried-otherwise")
        .map(|f| f["found"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(found.len(), 3, "{found:?}");
    for (said, of) in
        found.iter().zip(["only where member", "without booked_at", "leaves out every delete"])
    {
        assert!(said.contains(of), "{said}");
    }
    let kinds = "SELECT pubinsert AND pubupdate AND pubdelete AND NOT pubtruncate FROM pg_publication WHERE pubname = 'stays'";
    for (_, statement) in printed(&run, "carried-otherwise") {
        a.run(&statement).unwrap();
    }
    assert!(a.postgres().unwrap().query_one(kinds, &[]).unwrap().get::<_, bool>(0));
    // The other way round: the file has a filter, the publication none.
    a.run("ALTER PUBLICATION stays SET TABLE guest, stay, trail_notice").unwrap();
    network.replace("[[link]]", "[set.notices]\ntables = [\"trail_notice\"]\nwhere = \"published = 1\"\nwithout = [\"draft_note\"]\n[[link]]");
    network.replace(", \"trail_notice\"]\n[set", "]\n[set");
    network.replace("carries = [\"stays\"]", "carries = [\"stays\", \"notices\"]");
    let run = network.keen(&["preflight", "--format", "json"]);
    let said: Vec<String> =
        findings(&run).into_iter().filter(|f| f.contains("carried-otherwise")).collect();
    assert_eq!(said.len(), 2, "{}", run.out);
    // The same filter and columns in the server's own spelling are the same.
    a.run("CREATE UNIQUE INDEX by_state ON trail_notice (id, published)").unwrap();
    a.run("ALTER TABLE trail_notice REPLICA IDENTITY USING INDEX by_state").unwrap();
    a.run("ALTER PUBLICATION stays SET TABLE guest, stay, trail_notice (id, hut, body, published) WHERE (published = 1)").unwrap();
    check(&network, &["warn never-copied a,b"]);
}

#[test]
fn copies_that_were_never_made_and_links_that_nobody_declared() {
    let network = publisher(false);
    check(&network, &["warn never-copied a,b"]);
    network.replace("[[link]]\nfrom = \"a\"\nto = \"b\"", "[[link]]\nfrom = \"b\"\nto = \"a\"");
    let run = network.keen(&["preflight", "--format", "json"]);
    let found = bad(&run);
    assert!(found.contains(&"warn link-stray a,b".to_owned()), "{found:?}");
    assert!(found.contains(&"stop link-absent b,a".to_owned()), "{found:?}");
}

#[test]
fn a_relay_that_passes_nothing_on() {
    let lab = ServerLab::new().unwrap();
    let engine = ServerKind::Postgres18;
    let servers = lab.start_all(&[("a", engine), ("b", engine), ("c", engine)]).unwrap();
    for server in &servers {
        huts::tables(server).unwrap();
        huts::rows(server).unwrap();
    }
    for (i, server) in servers[..2].iter().enumerate() {
        links::publish(server, "onward", "guest, stay").unwrap();
        let options = "origin = none, copy_data = false";
        links::subscribe(&servers[i + 1], server, &format!("hop_{i}"), "onward", options).unwrap();
    }
    links::postgres_settled(&servers, PATIENCE).unwrap();
    let hop = |from: &str, to: &str| {
        format!("[[link]]\nfrom = \"{from}\"\nto = \"{to}\"\ncarries = [\"stays\"]\n")
    };
    let network = Network::new(lab, servers, &format!("{STAYS}{}{}", hop("a", "b"), hop("b", "c")));
    for node in ["b", "c"] {
        network.is_not_written_to(node);
    }
    let run = check(&network, &["stop relay-starved b,c"]);
    network.servers[2].run(&statements(&run)[0].1).unwrap();
    until_found(&network, &NOTHING);
}

#[test]
fn two_subscriptions_that_read_one_slot() {
    let lab = ServerLab::new().unwrap();
    let engine = ServerKind::Postgres15;
    let servers = lab.start_all(&[("a", engine), ("b", engine), ("c", engine)]).unwrap();
    for server in &servers {
        huts::tables(server).unwrap();
        huts::rows(server).unwrap();
    }
    links::publish(&servers[0], "stays", "guest, stay").unwrap();
    let options = "copy_data = false, slot_name = 'shared'";
    links::subscribe(&servers[1], &servers[0], "to_b", "stays", options).unwrap();
    let options = "copy_data = false, slot_name = 'shared', create_slot = false";
    links::subscribe(&servers[2], &servers[0], "to_c", "stays", options).unwrap();
    let rest =
        format!("{STAYS}[[link]]\nfrom = \"a\"\nto = [\"b\", \"c\"]\ncarries = [\"stays\"]\n");
    let network = Network::new(lab, servers, &rest);
    let run = network.keen(&["preflight", "--format", "json"]);
    assert!(bad(&run).contains(&"stop slot-shared b,c".to_owned()), "{}", run.out);
}

#[test]
fn settings_that_take_a_restart() {
    let mut network = publisher(true);
    network.servers[1].run("ALTER SUBSCRIPTION from_a DISABLE;\nALTER SUBSCRIPTION from_a SET (slot_name = NONE);\nDROP SUBSCRIPTION from_a").unwrap();
    network.servers[0].run("SELECT pg_drop_replication_slot('from_a')").unwrap();
    network.servers[0]
        .restart_with(&[
            "wal_level = replica",
            "max_wal_senders = 0",
            "max_replication_slots = 0",
            "max_slot_wal_keep_size = 64MB",
        ])
        .unwrap();
    network.servers[1]
        .restart_with(&[
            "max_logical_replication_workers = 0",
            "max_worker_processes = 1",
            "timezone = 'Europe/Vienna'",
        ])
        .unwrap();
    check(
        &network,
        &[
            "stop log-level a",
            "stop room-for-links a",
            "stop room-for-links a",
            "stop room-for-links b",
            "stop room-for-links b",
            "stop link-absent a,b",
            "warn log-kept-briefly a",
            "warn zones-differ a,b",
        ],
    );
    // What is printed is run, and after a restart the settings are no finding any more.
    let run = network.keen(&["preflight", "--format", "json"]);
    for (node, statement) in statements(&run) {
        let server = &network.servers[usize::from(node == "b")];
        server.run(&statement).unwrap_or_else(|error| panic!("{node}: {statement}: {error}"));
    }
    for server in &mut network.servers {
        server.restart_with(&[]).unwrap();
    }
    until_found(&network, &["stop link-absent a,b", "warn zones-differ a,b"]);
    let mut peers = Network::postgres_peers();
    peers.servers[0].restart_with(&["track_commit_timestamp = off"]).unwrap();
    until_found(&peers, &["warn commit-times-off a"]);
    for (_, statement) in statements(&peers.keen(&["preflight", "--format", "json"])) {
        peers.servers[0].run(&statement).unwrap();
    }
    peers.servers[0].restart_with(&[]).unwrap();
    until_found(&peers, &NOTHING);
}

#[test]
fn an_account_is_told_what_it_lacks_and_what_it_has_too_much_of() {
    let network = Network::postgres_peers();
    let a = &network.servers[0];
    a.run("REVOKE pg_monitor, pg_read_all_data FROM keen;\nGRANT SELECT ON guest TO keen").unwrap();
    let run = network.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), ["stop right-missing a", "warn right-missing a"], "{}", run.out);
    assert_eq!(run.json()["complete"], false);
    // Notes, too: what reads journals and writes repairs.
    for (_, statement) in printed(&run, "right-missing") {
        a.run(&statement.replace("; ", ";\n")).unwrap();
    }
    check(&network, &NOTHING);
    a.run("ALTER TABLE stay ENABLE ROW LEVEL SECURITY").unwrap();
    let run = check(&network, &["stop right-missing a"]);
    a.run(&statements(&run)[0].1).unwrap();
    check(&network, &NOTHING);
    a.run("ALTER ROLE keen SUPERUSER").unwrap();
    let run = check(&network, &NOTHING);
    assert!(
        first(&run, "right-excess")["found"].as_str().unwrap().contains("SUPERUSER"),
        "{}",
        run.out
    );
}

#[test]
fn identity_of_rows_and_numbers_for_new_keys() {
    let network = Network::postgres_peers();
    let both = |sql: &str| {
        for server in &network.servers {
            server.run(sql).unwrap();
        }
    };
    both(
        "CREATE TABLE reading (id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, v float8);\nCREATE TABLE line (at timestamptz, said text)",
    );
    both("ALTER PUBLICATION peers ADD TABLE reading, line");
    for (i, j) in [(0, 1), (1, 0)] {
        network.servers[i]
            .run(&format!(
                "ALTER SUBSCRIPTION from_{j}_to_{i} REFRESH PUBLICATION WITH (copy_data = false)"
            ))
            .unwrap();
    }
    network.replace("\"guest\", \"stay\"", "\"guest\", \"stay\", \"reading\", \"line\"");
    let run = network.keen(&["preflight", "--format", "json"]);
    assert_eq!(
        bad(&run),
        [
            "stop counters-collide a,b",
            "stop row-identity a",
            "stop row-identity b",
            "warn key-missing a,b"
        ],
        "{}",
        run.out
    );
    both("ALTER TABLE line REPLICA IDENTITY FULL");
    network.servers[0].run("ALTER SEQUENCE reading_id_seq INCREMENT 2 RESTART 1").unwrap();
    network.servers[1].run("ALTER SEQUENCE reading_id_seq INCREMENT 2 RESTART 2").unwrap();
    // Where a sequence has not counted yet its start tells.
    network.servers[1].run("ALTER SEQUENCE reading_id_seq START 2").unwrap();
    check(&network, &["warn key-missing a,b"]);
}

/// Six servers of three kinds, in pairs, all healthy.
#[test]
fn six_healthy_nodes() {
    let lab = ServerLab::new().unwrap();
    let mut servers: Vec<Server> = lab
        .start_all(&[
            ("a", ServerKind::Postgres18),
            ("b", ServerKind::Postgres18),
            ("c", ServerKind::Postgres15),
            ("d", ServerKind::Postgres15),
        ])
        .unwrap();
    for (id, name) in [(1, "e"), (2, "f")] {
        let settings = Settings { server_id: Some(id), ..Settings::default() };
        servers.push(lab.start_with(name, ServerKind::MariaDb, &settings).unwrap());
    }
    for server in &servers[..4] {
        huts::tables(server).unwrap();
    }
    huts::rows(&servers[2]).unwrap();
    links::postgres_peers(&servers[..2], "guest, stay").unwrap();
    links::publish(&servers[2], "stays", "guest, stay").unwrap();
    links::subscribe(&servers[3], &servers[2], "from_c", "stays", "copy_data = true").unwrap();
    links::mariadb_mesh(&servers[4..]).unwrap();
    huts::tables(&servers[4]).unwrap();
    links::mariadb_settled(&servers[4..], PATIENCE).unwrap();
    links::postgres_settled(&servers[..4], PATIENCE).unwrap();
    let pair =
        |a: &str, b: &str| format!("[[link]]\nboth = [\"{a}\", \"{b}\"]\ncarries = [\"stays\"]\n");
    let rest = format!(
        "{STAYS}{}{}[[link]]\nfrom = \"c\"\nto = \"d\"\ncarries = [\"stays\"]\n",
        pair("a", "b"),
        pair("e", "f")
    );
    let mut network = Network::new(lab, servers, &rest);
    network.is_not_written_to("d");
    let run = check(&network, &NOTHING);
    println!("six healthy nodes: {} s", run.json()["seconds"]);
    // One that is dead, and one that takes connections and never answers: the others are looked at all the same.
    network.servers[4].kill();
    network.servers[0].freeze();
    let run = network.keen(&["preflight", "--format", "json", "--connect-timeout", "3s"]);
    let found = bad(&run);
    assert!(found.contains(&"stop unreachable a".to_owned()), "{found:?}");
    assert!(found.contains(&"stop unreachable e".to_owned()), "{found:?}");
    let json = run.json();
    let kind = |node: usize| json["nodes"][node]["attempts"][0]["fault"]["kind"].clone();
    assert_eq!((kind(0), kind(4)), ("no_answer".into(), "refused".into()), "{json}");
    assert!(json["nodes"][0]["attempts"][0]["passed"]["port"].is_object(), "{json}");
    for node in [1, 2, 3, 5] {
        assert_eq!(json["nodes"][node]["answered"], true);
    }
    println!("with one dead and one frozen: {} s", json["seconds"]);
    network.servers[0].thaw();
}

#[test]
fn each_way_of_not_getting_in_is_told_apart() {
    let network = Network::alike(&[ServerKind::Postgres15, ServerKind::MariaDb]);
    let (a, b) = (&network.servers[0], &network.servers[1]);
    a.run("CREATE ROLE hidden LOGIN PASSWORD 'x';\nREVOKE CONNECT ON DATABASE huts FROM PUBLIC")
        .unwrap();
    b.run("CREATE USER hidden@'%' IDENTIFIED BY 'x'").unwrap();
    let text = std::fs::read_to_string(network.folder.path("keen.toml")).unwrap();
    let (port_a, port_b) = (a.port(), b.port());
    for (from, to, kind) in [
        ("127.0.0.1:", "no-such-host.invalid:", "no_such_host"),
        (&format!(":{port_a}/")[..], ":1/", "refused"),
        (&format!(":{port_b}/")[..], ":1/", "refused"),
        ("/huts", "/nowhere", "no_such_database"),
        ("://keen@", "://nobody@", "wrong_password"),
        ("://keen@", "://hidden@", "not_allowed"),
    ] {
        let changed = text.replace(from, to);
        std::fs::write(network.folder.path("keen.toml"), &changed).unwrap();
        let password = if to.contains("hidden") { "x" } else { keen_testkit::CHECKER.1 };
        let output = network
            .folder
            .command(&["preflight", "--format", "json", "--connect-timeout", "4s"])
            .env("KEEN_TEST", password)
            .output()
            .unwrap();
        let json: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
        for (node, line) in json["nodes"]
            .as_array()
            .unwrap()
            .iter()
            .zip(changed.lines().filter(|l| l.starts_with("at")))
        {
            if line.contains(to) {
                assert_eq!(node["attempts"][0]["fault"]["kind"], kind, "{to}: {json}");
            }
        }
    }
    // Any address that answers will do, and which one is said.
    let address = b.address();
    let list = format!("[\"{}\", \"{address}\"]", address.replace(&port_b.to_string(), "1"));
    std::fs::write(
        network.folder.path("keen.toml"),
        text.replace(&format!("\"{address}\""), &list),
    )
    .unwrap();
    let run = network.keen(&["preflight", "--format", "json"]);
    let found = first(&run, "other-address");
    assert!(
        found["found"].as_str().unwrap().contains(&format!("answered at {address}")),
        "{found}"
    );
    assert_eq!(
        network.keen(&["audit", "--format", "json"]).code,
        3,
        "a lacks the right to connect"
    );
    a.run("GRANT CONNECT ON DATABASE huts TO PUBLIC").unwrap();
    assert_eq!(network.keen(&["audit"]).code, 0);
    // What carries rows between unlike engines leaves no account in them: that is said, and is not fine.
    let run = network.keen(&["preflight", "--format", "json"]);
    let unseen = run.json()["could_not_look"].as_array().unwrap().clone();
    assert_eq!(unseen.iter().filter(|u| u["area"] == "links").count(), 2, "{}", run.out);
    // What the types of one cannot hold of the other's is all that is left.
    assert!(bad(&run).iter().all(|f| f == "warn column-type a,b"), "{}", run.out);
}

#[test]
fn nothing_is_written() {
    let mut network = Network::postgres_peers();
    network.servers[0].restart_with(&["log_statement = 'all'"]).unwrap();
    until_found(&network, &NOTHING);
    let before = network.servers[0].log().len();
    network.keen(&["preflight"]);
    network.keen(&["preflight", "--join", "b", "--from", "a"]);
    network.keen(&["preflight", "--derive", "a", "--for", "mariadb"]);
    let log = network.servers[0].log()[before..].to_owned();
    let said: Vec<&str> = log
        .lines()
        .filter_map(|line| {
            let (_, said) = line.split_once("LOG:  statement: ").or_else(|| {
                let (_, said) = line.split_once("LOG:  execute ")?;
                said.split_once(": ").map(|(_, said)| ("", said))
            })?;
            Some(said)
        })
        .filter(|said| {
            !said.contains("START_REPLICATION") && !said.contains("pg_catalog.set_config")
        })
        .collect();
    assert!(said.len() > 30, "{log}");
    let reads =
        ["SELECT", "SET", "BEGIN", "SAVEPOINT", "RELEASE", "ROLLBACK", "COPY (SELECT", "WITH"];
    for said in said {
        assert!(reads.iter().any(|word| said.starts_with(word)), "{said}");
        assert!(!said.contains("pg_drop") && !said.contains("pg_create"), "{said}");
    }
}

#[test]
fn one_database_behind_two_addresses_is_no_pair() {
    let lab = ServerLab::new().unwrap();
    let a = lab.start("a", ServerKind::Postgres15).unwrap();
    huts::tables(&a).unwrap();
    let port = a.port();
    let network = Network::new(lab, vec![a], "");
    let text = std::fs::read_to_string(network.folder.path("keen.toml")).unwrap();
    let other = text.replace("name = \"refuge-huts\"\n", "").replace("[node.a]", "[node.b]");
    let other = other.replace(&format!("127.0.0.1:{port}"), &format!("localhost:{port}"));
    let link = format!("{STAYS}[[link]]\nboth = [\"a\", \"b\"]\ncarries = [\"stays\"]\n");
    std::fs::write(network.folder.path("keen.toml"), format!("{text}{other}{link}")).unwrap();
    let run = network.keen(&["preflight", "--format", "json"]);
    assert!(bad(&run).contains(&"stop same-database a,b".to_owned()), "{}", run.out);
}

#[test]
fn publications_that_make_the_server_refuse_updates_are_found() {
    let network = publisher(true);
    let a = &network.servers[0];
    a.run("ALTER PUBLICATION stays SET TABLE guest WHERE (member), stay (guest_id, hut, beds, price, arrives, booked_at)").unwrap();
    let write = |sql: &str| a.run(sql);
    write("UPDATE guest SET name = 'Ida' WHERE id = 1").unwrap_err();
    write("DELETE FROM stay WHERE id = 1").unwrap_err();
    let run = network.keen(&["preflight", "--format", "json"]);
    let found = bad(&run);
    let refused = found.iter().filter(|f| *f == "stop updates-refused a,b").count();
    assert_eq!(refused, 2, "{}", run.out);
    let printed = statements(&run);
    assert!(
        printed.contains(&(
            "a".to_owned(),
            "ALTER TABLE \"public\".\"guest\" REPLICA IDENTITY FULL".to_owned()
        )),
        "{printed:?}"
    );
    for (_, statement) in printed.iter().filter(|(_, sql)| sql.contains("IDENTITY")) {
        a.run(statement).unwrap();
    }
    write("UPDATE guest SET name = 'Ida' WHERE id = 1").unwrap();
    a.run("ALTER PUBLICATION stays SET TABLE guest WHERE (member), stay").unwrap();
    write("DELETE FROM stay WHERE id = 1").unwrap();
    assert!(
        !bad(&network.keen(&["preflight", "--format", "json"]))
            .iter()
            .any(|f| f.contains("updates-refused"))
    );
}

#[test]
fn a_server_that_gives_up_slots_is_found() {
    let peers = Network::postgres_peers();
    let a = &peers.servers[0];
    let reloaded = |sql: &str| {
        a.run(sql).unwrap();
        a.run("SELECT pg_reload_conf()").unwrap();
    };
    reloaded("ALTER SYSTEM SET idle_replication_slot_timeout = '1h'");
    until_found(&peers, &["warn slot-times-out a"]);
    let run = check(&peers, &["warn slot-times-out a"]);
    assert!(run.out.contains("for 3600 s"), "{}", run.out);
    for (_, statement) in statements(&run) {
        a.run(&statement).unwrap();
    }
    until_found(&peers, &NOTHING);
}

#[test]
fn log_that_is_held_back_for_a_reader_is_a_warning_by_its_size() {
    let network = publisher(true);
    let (a, b) = (&network.servers[0], &network.servers[1]);
    network.replace("[[link]]", "[limits]\nheld_back = \"4 MB\"\n[[link]]");
    check(&network, &NOTHING);
    b.run("ALTER SUBSCRIPTION from_a DISABLE").unwrap();
    a.run("INSERT INTO guest SELECT i, repeat('held back ', 100), true FROM generate_series(1000, 8000) i")
        .unwrap();
    let run = check(&network, &["stop link-down a,b", "warn log-held-back a"]);
    let found = first(&run, "log-held-back");
    assert!(found["found"].as_str().unwrap().contains(" MB of log"), "{found:#}");
    // The server keeps no more than so much: then the reader has lost its place.
    network.replace("4 MB", "4 GB");
    a.run("INSERT INTO guest SELECT i, repeat('held back ', 100), true FROM generate_series(10000, 18000) i")
        .unwrap();
    a.run("ALTER SYSTEM SET max_slot_wal_keep_size = '20MB'").unwrap();
    a.run("SELECT pg_reload_conf()").unwrap();
    let held = ["stop link-down a,b", "warn log-kept-briefly a", "warn log-held-back a"];
    links::until(PATIENCE, "the limit is not told", || {
        let mut found = bad(&network.keen(&["preflight", "--format", "json"]));
        found.sort();
        let mut held = held.to_vec();
        held.sort_unstable();
        Ok(found == held)
    })
    .unwrap();
    let run = network.keen(&["preflight", "--format", "json"]);
    let found = first(&run, "log-held-back");
    assert!(
        found["found"].as_str().unwrap().contains("more the server invalidates it"),
        "{found:#}"
    );
}

#[test]
fn a_partitioned_table_is_told_from_its_partitions() {
    let network = publisher(true);
    let (a, b) = (&network.servers[0], &network.servers[1]);
    for server in [a, b] {
        server
            .run(
                "CREATE TABLE \"reading $$\" (id int, snow int) PARTITION BY RANGE (id);\n\
                 CREATE TABLE reading_low PARTITION OF \"reading $$\" FOR VALUES FROM (0) TO (100);\n\
                 CREATE TABLE reading_high PARTITION OF \"reading $$\" FOR VALUES FROM (100) TO (300) PARTITION BY RANGE (id);\n\
                 CREATE TABLE reading_top PARTITION OF reading_high FOR VALUES FROM (100) TO (200);\n\
                 ALTER TABLE reading_low REPLICA IDENTITY FULL;\nGRANT SELECT ON \"reading $$\" TO keen;\n\
                 CREATE TABLE diary (id int PRIMARY KEY);\nGRANT SELECT ON diary TO keen",
            )
            .unwrap();
    }
    network.replace("\"guest\", \"stay\"", "\"guest\", \"stay\", \"reading $$\"");
    // A partition without an identity would have its updates refused: all of them are given one.
    let run = network.keen(&["preflight", "--format", "json"]);
    let found = first(&run, "row-identity");
    assert_eq!(found["nodes"][0], "a", "{found:#}");
    let statement = found["todo"][0]["run"].as_str().unwrap();
    a.run(statement).unwrap_or_else(|error| panic!("{statement}: {error}"));
    a.run("INSERT INTO \"reading $$\" VALUES (1, 10), (150, 20)").unwrap();
    let run = network.keen(&["preflight", "--format", "json"]);
    assert!(!run.out.contains("row-identity"), "{}", run.out);
    // It is published by its partitions, and taken up so; the set names the table.
    for (server, statement) in statements(&run).into_iter().map(|(node, sql)| match &node[..] {
        "a" => (a, sql),
        _ => (b, sql),
    }) {
        server.run(&statement).unwrap_or_else(|error| panic!("{statement}: {error}"));
    }
    let taken = "SELECT count(*) FROM pg_subscription_rel WHERE srsubstate = 'r'";
    links::until(PATIENCE, "the partitions are not taken up", || {
        Ok(b.postgres()?.query_one(taken, &[])?.get::<_, i64>(0) == 4)
    })
    .unwrap();
    until_found(&network, &["warn key-missing a,b"]);
    a.run("UPDATE \"reading $$\" SET snow = snow + 1").unwrap();
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    let audit = network.keen(&["audit"]);
    assert_eq!(audit.code, 0, "{audit:?}");
    // What is in no set is named, and a partition is no table of its own.
    assert!(
        audit.out.contains("2 tables are in no set, so they were not compared: diary on a, b; trail_notice on a, b."),
        "{}",
        audit.out
    );
    let flow = network.keen(&["flow", "--format", "json"]);
    assert_eq!(flow.code, 0, "{}", flow.out);
}

#[test]
fn a_node_that_nobody_writes_is_closed_and_goes_on_receiving() {
    let network = publisher(true);
    let (a, b) = (&network.servers[0], &network.servers[1]);
    let run = check(&network, &NOTHING);
    assert!(findings(&run).contains(&"note not-read-only b".to_owned()), "{}", run.out);
    b.run_in("postgres", "CREATE DATABASE other").unwrap();
    for (_, statement) in printed(&run, "not-read-only") {
        b.run(&statement).unwrap();
    }
    b.run_in("other", "CREATE TABLE diary (id int)").unwrap();
    links::until(PATIENCE, "it stays open", || {
        let run = network.keen(&["preflight", "--format", "json"]);
        Ok(!findings(&run).contains(&"note not-read-only b".to_owned()))
    })
    .unwrap();
    b.run("INSERT INTO guest VALUES (70, 'Stray', true)").unwrap_err();
    // Replication still gets through, also one that has to connect anew.
    a.run("INSERT INTO guest VALUES (71, 'Expected', true)").unwrap();
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    a.run("SELECT pg_terminate_backend(pid) FROM pg_stat_replication").unwrap();
    a.run("UPDATE guest SET name = 'Arrived' WHERE id = 71").unwrap();
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    let audit = network.keen(&["audit"]);
    assert_eq!(audit.code, 0, "{audit:?}");
}

#[test]
fn of_three_that_could_lead_one_is_gone() {
    let mut network = with_standby();
    let c = network.lab.standby("c", &network.servers[0], &[]).unwrap();
    network.servers.push(c);
    let rest =
        format!("{STAYS}[[link]]\nfrom = \"a\"\nto = [\"b\", \"c\"]\ncarries = [\"stays\"]\n");
    let topology = crate::common::servers::topology(&network.servers, &rest);
    std::fs::write(network.folder.path("keen.toml"), topology).unwrap();
    for node in ["b", "c"] {
        network.is_not_written_to(node);
    }
    until_found(&network, &NOTHING);
    network.servers[2].kill();
    until_found(&network, &["stop unreachable c", "warn voters a,b,c"]);
    network.servers[0].kill();
    let run = network.keen(&["preflight", "--format", "json"]);
    assert!(bad(&run).contains(&"stop voters a,b,c".to_owned()), "{}", run.out);
}

#[test]
fn a_sequence_is_no_missing_table() {
    let network = publisher(true);
    for server in &network.servers {
        server.run("CREATE SEQUENCE bill").unwrap();
    }
    network.replace("\"guest\", \"stay\"", "\"guest\", \"stay\", \"bill\"");
    let run = network.keen(&["preflight", "--format", "json"]);
    let found = first(&run, "table-missing");
    assert!(found.to_string().contains("is a sequence"), "{found:#}");
    assert!(!found.to_string().contains("create it"), "{found:#}");
}
