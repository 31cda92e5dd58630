//! `keen flow` on real MariaDB servers: whole, and with each fault really caused.

use crate::common::flow::{link, node, states};
use crate::common::servers::{Network, PATIENCE, STAYS, under_load};
use keen_testkit::{Server, ServerKind, ServerLab, Settings, huts, links};
use mysql::prelude::Queryable;

const ONE_WAY: &str = "[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"stays\"]\n";
const BUSY: &str = "UPDATE stay SET beds = beds + 1 WHERE id = 1";

fn servers(lab: &ServerLab, count: u32) -> Vec<Server> {
    (1..=count)
        .map(|id| {
            let settings = Settings { server_id: Some(id), ..Settings::default() };
            lab.start_with(&format!("m{id}"), ServerKind::MariaDb, &settings).unwrap()
        })
        .collect()
}

/// b follows a over a connection called "from a".
fn one_way() -> Network {
    let lab = ServerLab::new().unwrap();
    let two = servers(&lab, 2);
    links::follow(&two[1], &two[0], "from a").unwrap();
    huts::tables(&two[0]).unwrap();
    huts::rows(&two[0]).unwrap();
    links::mariadb_settled(&two, PATIENCE).unwrap();
    let network = Network::new(lab, two, &format!("{STAYS}{ONE_WAY}"));
    network.is_not_written_to("b");
    network
}

/// A guest more, written at a.
fn write(network: &Network, id: u32) {
    let insert = format!("INSERT INTO guest VALUES ({id}, 'Guest {id}', true)");
    network.servers[0].run(&insert).unwrap();
}

#[test]
fn a_quiet_mesh_is_idle_and_a_busy_one_flows() {
    let mesh = Network::mariadb_mesh();
    let (code, json) = mesh.flow();
    assert_eq!(states(&json).len(), 6);
    assert!(states(&json).iter().all(|state| state.starts_with("idle")), "{json:#}");
    assert_eq!((code, json["complete"].as_bool()), (0, Some(true)));
    // Caught up and silent, for as long as it has been: still no stall.
    let (code, _) = mesh.flow();
    assert_eq!(code, 0);
    // Each node lacks nothing of the other two.
    let applied = json["applied"].as_array().unwrap();
    assert_eq!(applied.len(), 6, "{json:#}");
    assert!(applied.iter().all(|a| a["lacks"] == 0), "{json:#}");
    for name in ["a", "b", "c"] {
        assert_eq!(node(&json, name)["wrote"]["transactions"], 0);
        assert_eq!(node(&json, name)["role"], "peer");
        let statements = node(&json, name)["statements"].as_u64().unwrap();
        assert!((1..=4).contains(&statements), "{statements} statements");
    }
    let load = [(&mesh.servers[0], BUSY.to_owned())];
    let (code, json) = under_load(&load, || mesh.flow());
    assert_eq!(code, 0, "{json:#}");
    assert_eq!(link(&json, "a", "b")["state"], "flowing");
    assert_eq!(link(&json, "a", "c")["state"], "flowing");
    assert_eq!(link(&json, "b", "a")["state"], "idle", "a needs to be sent nothing of its own");
    assert!(node(&json, "a")["wrote"]["transactions"].as_u64().unwrap() > 3, "{json:#}");
    assert_eq!(node(&json, "b")["wrote"]["transactions"], 0);
    assert_eq!(node(&json, "c")["changed"]["stays"]["between_looks"], true);
}

#[test]
fn what_is_stopped_by_hand_is_paused_and_what_is_not_there_is_absent() {
    let network = one_way();
    let b = &network.servers[1];
    b.run("STOP SLAVE 'from a' SQL_THREAD").unwrap();
    write(&network, 100);
    let (code, json) = network.flow();
    let found = link(&json, "a", "b");
    assert_eq!((code, states(&json)), (1, vec!["paused a>b".to_owned()]), "{json:#}");
    assert_eq!(found["reason"], "applying is switched off; it still receives");
    assert_eq!((found["behind"].as_u64(), found["unit"].as_str()), (Some(1), Some("transactions")));
    assert_eq!(found["next"]["what"], "START SLAVE 'from a'");
    b.run("START SLAVE 'from a'").unwrap();
    network.until("idle a>b");
    b.run("STOP SLAVE 'from a' IO_THREAD").unwrap();
    write(&network, 101);
    let (_, json) = network.flow();
    assert_eq!(states(&json), ["paused a>b"]);
    assert_eq!(link(&json, "a", "b")["reason"], "receiving is switched off");
    b.run("STOP SLAVE 'from a'").unwrap();
    assert_eq!(
        link(&network.flow().1, "a", "b")["reason"],
        "both receiving and applying are switched off"
    );
    assert_eq!(node(&json, "b")["role"], "subscriber");
    // Taken away altogether: the file still has it.
    b.run("RESET SLAVE 'from a' ALL").unwrap();
    let (code, json) = network.flow();
    assert_eq!((code, states(&json)), (1, vec!["absent a>b".to_owned()]));
    assert_eq!(link(&json, "a", "b")["reason"], "b follows nobody");
    assert_eq!(node(&json, "b")["role"], "detached subscriber: follows nobody");
    // And the other way round: a link that the file does not have.
    links::follow(&network.servers[0], b, "from b").unwrap();
    links::follow(b, &network.servers[0], "from a").unwrap();
    let json = network.until("idle a>b");
    assert_eq!(states(&json), ["idle a>b", "stray b>a"]);
    assert!(
        link(&json, "b", "a")["reason"]
            .as_str()
            .unwrap()
            .contains("the file declares no such link")
    );
}

#[test]
fn an_error_on_a_row_is_broken_and_names_the_write() {
    let network = one_way();
    network.servers[1]
        .run("SET SESSION sql_log_bin = 0; INSERT INTO guest VALUES (100, 'Somebody else', false)")
        .unwrap();
    write(&network, 100);
    write(&network, 101);
    let json = network.until("broken a>b");
    let found = link(&json, "a", "b");
    assert_eq!(found["error"]["code"], 1062, "{found:#}");
    assert!(
        found["error"]["message"].as_str().unwrap().contains("Duplicate entry '100'"),
        "{found:#}"
    );
    assert!(found["error"]["at"].as_str().unwrap().starts_with("bin.00000"), "{found:#}");
    assert!(
        found["reason"].as_str().unwrap().starts_with("the applier stopped, at bin."),
        "{found:#}"
    );
    assert_eq!(found["behind"], 2);
    let run = network.keen(&["flow", "a:b", "--interval", "1s", "--no-ledger"]);
    for part in ["broken", "Duplicate entry '100'", "applier stands still", "2 transactions"] {
        assert!(run.out.contains(part), "{part:?} in {}", run.out);
    }
    // An update of a row that is not there.
    network.servers[1]
        .run("SET SESSION sql_log_bin = 0; DELETE FROM guest WHERE id IN (2, 100)")
        .unwrap();
    network.servers[1].run("START SLAVE 'from a'").unwrap();
    network.until("idle a>b");
    network.servers[0].run("UPDATE guest SET member = true WHERE id = 2").unwrap();
    let json = network.until("broken a>b");
    assert_eq!(link(&json, "a", "b")["error"]["code"], 1032);
}

#[test]
fn locks_stall_and_their_holders_are_named_where_the_account_may_see_them() {
    let network = one_way();
    let b = &network.servers[1];
    let mut holder = b.mariadb().unwrap();
    let session: u64 = holder.query_first("SELECT CONNECTION_ID()").unwrap().unwrap();

    holder.query_drop("FLUSH TABLES WITH READ LOCK").unwrap();
    write(&network, 100);
    let json = network.until("stalled a>b");
    assert_eq!(
        link(&json, "a", "b")["waits_for"]["what"],
        "a global read lock or a backup",
        "{json:#}"
    );
    assert_eq!(link(&json, "a", "b")["waits_for"]["fault"]["what"], "the account lacks PROCESS");
    holder.query_drop("UNLOCK TABLES").unwrap();
    network.until("idle a>b");

    holder.query_drop("LOCK TABLES guest READ").unwrap();
    write(&network, 101);
    let json = network.until("stalled a>b");
    assert_eq!(link(&json, "a", "b")["waits_for"]["what"], "a table lock", "{json:#}");
    holder.query_drop("UNLOCK TABLES").unwrap();
    network.until("idle a>b");

    b.run("GRANT PROCESS ON *.* TO keen@'%'").unwrap();
    holder.query_drop("BEGIN").unwrap();
    holder.query_drop("UPDATE guest SET name = 'Held' WHERE id = 1").unwrap();
    network.servers[0].run("UPDATE guest SET name = 'Wanted' WHERE id = 1").unwrap();
    let json = network.until("stalled a>b");
    let found = link(&json, "a", "b");
    assert_eq!(found["waits_for"]["what"], "a row of guest", "{json:#}");
    assert_eq!(found["waits_for"]["holders"][0]["session"], session, "{json:#}");
    assert_eq!(found["next"]["what"], format!("let it finish, or: KILL {session}"));
    assert!(found["late_seconds"].as_f64().unwrap() >= 1.0, "{found:#}");
    let (_, statement) = found["next"]["what"].as_str().unwrap().split_once("or: ").unwrap();
    b.run(statement).unwrap();
    network.until("idle a>b");
}

#[test]
fn a_delay_on_purpose_is_no_stall() {
    let network = one_way();
    network.replace("carries = [\"stays\"]\n", "carries = [\"stays\"]\ndelay = \"1h\"\n");
    network.servers[1]
        .run("STOP SLAVE 'from a'; CHANGE MASTER 'from a' TO MASTER_DELAY = 3600; START SLAVE 'from a'")
        .unwrap();
    write(&network, 100);
    let json = network.until("flowing a>b");
    let found = link(&json, "a", "b");
    assert!(found["reason"].as_str().unwrap().contains("late on purpose"), "{found:#}");
    assert_eq!(found["delay_seconds"], 3600.0);
    assert_eq!(found["behind"], 1);
    assert_eq!(network.flow().0, 0, "what is meant to be late is well");
}

#[test]
fn a_receiver_that_does_not_reach_its_source_is_cut() {
    let network = one_way();
    let b = &network.servers[1];
    let right = network.servers[0].port();
    let change = |what: &str| {
        b.run(&format!(
            "STOP SLAVE 'from a'; CHANGE MASTER 'from a' TO {what}; START SLAVE 'from a'"
        ))
        .unwrap();
    };
    change("MASTER_PASSWORD = 'wrong'");
    let json = network.until("cut a>b");
    let found = link(&json, "a", "b");
    assert_eq!(found["error"]["code"], 1045, "{found:#}");
    assert!(found["next"]["what"].as_str().unwrap().contains("MASTER_PASSWORD"), "{found:#}");
    change(&format!("MASTER_PASSWORD = '{}'", keen_testkit::CARRIER.1));
    network.until("idle a>b");
    // Nobody listens at the address that b has of a.
    let deaf = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = deaf.local_addr().unwrap().port();
    drop(deaf);
    change(&format!("MASTER_PORT = {port}"));
    let json = network.until("cut a>b");
    assert_eq!(link(&json, "a", "b")["error"]["code"], 2003, "{json:#}");
    assert_eq!(network.flow().0, 1);
    change(&format!("MASTER_PORT = {right}"));
    network.until("idle a>b");
}

#[test]
fn a_log_that_is_gone_is_broken() {
    let network = one_way();
    let (a, b) = (&network.servers[0], &network.servers[1]);
    b.run("STOP SLAVE 'from a'").unwrap();
    write(&network, 100);
    a.run("FLUSH BINARY LOGS").unwrap();
    write(&network, 101);
    a.run("FLUSH BINARY LOGS").unwrap();
    let mut client = a.mariadb().unwrap();
    links::until(PATIENCE, "the old log is not purged", || {
        client.query_drop("PURGE BINARY LOGS BEFORE NOW() + INTERVAL 1 DAY")?;
        let logs: Vec<(String, u64)> = client.query("SHOW BINARY LOGS")?;
        Ok(logs.len() == 1)
    })
    .unwrap();
    b.run("START SLAVE 'from a'").unwrap();
    let json = network.until("broken a>b");
    let found = link(&json, "a", "b");
    assert_eq!(found["error"]["code"], 1236, "{found:#}");
    assert!(found["next"]["what"].as_str().unwrap().contains("keen preflight --join b --from a"));
}

#[test]
fn frozen_and_dead_servers_are_dark_and_keep_nobody_waiting() {
    let mut mesh = Network::mariadb_mesh();
    mesh.servers[1].freeze();
    let began = std::time::Instant::now();
    let (code, json) = mesh.flow();
    let took = began.elapsed();
    mesh.servers[1].thaw();
    let mut found = states(&json);
    found.sort();
    assert_eq!(found, ["dark a>b", "dark b>a", "dark b>c", "dark c>b", "idle a>c", "idle c>a"]);
    assert_eq!(code, 3, "nothing was found, and not everything could be looked at");
    // Frozen, it costs the limit on connecting (2 s), and nothing beyond it.
    assert!(took < std::time::Duration::from_secs(20), "{took:?}");
    assert_eq!(link(&json, "b", "c")["seen"], serde_json::Value::Null);
    assert!(link(&json, "b", "c")["reason"].as_str().unwrap().starts_with("b: "));
    mesh.until("idle b>c");

    // Dead: its receivers say what they see, and keen claims nothing.
    mesh.servers[1].kill();
    let json = mesh.until("dark b>c");
    assert_eq!(node(&json, "b")["answered"], false);
    let (code, json) = mesh.flow();
    assert_eq!(code, 3, "{json:#}");
}

#[test]
fn with_one_server_frozen_and_one_dead_the_rest_is_shown() {
    let lab = ServerLab::new().unwrap();
    let four = servers(&lab, 4);
    links::mariadb_mesh(&four).unwrap();
    huts::tables(&four[0]).unwrap();
    links::mariadb_settled(&four, PATIENCE).unwrap();
    let mut mesh = Network::new(lab, four, &crate::common::servers::mesh_of(4));
    mesh.servers[2].kill();
    mesh.servers[3].freeze();
    let began = std::time::Instant::now();
    let (code, json) = mesh.flow();
    let took = began.elapsed();
    mesh.servers[3].thaw();
    let (dark, rest): (Vec<String>, Vec<String>) =
        states(&json).into_iter().partition(|state| state.starts_with("dark"));
    assert_eq!((code, dark.len()), (3, 10), "{json:#}");
    assert_eq!(rest, ["idle a>b", "idle b>a"]);
    for (name, answered) in [("a", true), ("b", true), ("c", false), ("d", false)] {
        assert_eq!(node(&json, name)["answered"], answered);
    }
    assert!(took < std::time::Duration::from_secs(20), "{took:?}");
}

#[test]
fn a_look_costs_the_server_a_few_light_statements() {
    let mesh = Network::mariadb_mesh();
    let mut client = mesh.servers[0].mariadb().unwrap();
    client.query_drop("SET GLOBAL log_output = 'TABLE'").unwrap();
    client.query_drop("SET GLOBAL general_log = ON").unwrap();
    let (_, json) = mesh.flow();
    client.query_drop("SET GLOBAL general_log = OFF").unwrap();
    let sent: Vec<String> = client
        .query("SELECT CONVERT(argument USING utf8mb4) FROM mysql.general_log WHERE user_host LIKE 'keen%' AND command_type IN ('Query', 'Execute')")
        .unwrap();
    let counted = node(&json, "a")["statements"].as_u64().unwrap() as usize;
    // Two looks, and what two new sessions have to set: the links' state, that may wait behind a
    // row's lock, is asked over one of its own.
    let looks: Vec<&String> = sent.iter().filter(|sql| !sql.starts_with("SET ")).collect();
    let asked_by_the_driver =
        looks.iter().filter(|sql| sql.contains("@@max_allowed_packet")).count();
    assert_eq!(looks.len() - asked_by_the_driver, 2 * counted, "{sent:#?}");
    assert!(sent.len() <= 2 * counted + 4, "{sent:#?}");
    // No table of the application is read.
    assert!(
        sent.iter().all(|sql| !sql.contains("FROM guest") && !sql.contains("FROM `huts`")),
        "{sent:#?}"
    );
}

#[test]
fn roles_are_told_as_they_are_and_who_writes_where_nobody_should() {
    let network = one_way();
    let (code, json) = network.flow();
    assert_eq!((code, &json["writing"]), (0, &serde_json::json!([])));
    network.servers[1].run("SET GLOBAL read_only = ON").unwrap();
    assert_eq!(node(&network.flow().1, "b")["role"], "subscriber, read-only (read_only = ON)");
    network.servers[1].run("SET GLOBAL read_only = OFF").unwrap();
    network.servers[0].run("SET GLOBAL read_only = ON").unwrap();
    let json = network.flow().1;
    assert_eq!(node(&json, "a")["role"], "publisher, fell back to read-only (read_only = ON)");
    network.servers[0].run("SET GLOBAL read_only = OFF").unwrap();
    // Somebody writes to b, to which nobody should.
    let load = [(&network.servers[1], BUSY.to_owned())];
    let (code, json) = under_load(&load, || network.flow());
    assert_eq!(code, 1, "{json:#}");
    let found = json["writing"][0]["found"].as_str().unwrap();
    assert!(found.starts_with("b was written to between the looks"), "{found}");
    assert_eq!(states(&json), ["idle a>b"]);
}

#[test]
fn between_unlike_servers_heartbeats_tell_whether_anything_arrives() {
    let network = Network::alike(&[ServerKind::Postgres15, ServerKind::MariaDb]);
    let text = format!("{STAYS}{ONE_WAY}").replace("\"stay\"]", "\"stay\", \"keen_beat\"]");
    let topology = crate::common::servers::topology(&network.servers, &text);
    let topology = topology.replacen("name =", "heartbeat = \"keen_beat\"\nname =", 1);
    std::fs::write(network.folder.path("keen.toml"), topology).unwrap();
    network.is_not_written_to("b");
    let (code, json) = network.flow();
    assert_eq!((code, states(&json)), (3, vec!["dark a>b".to_owned()]), "{json:#}");
    let ddl = network.keen(&["flow", "--ddl"]);
    for (node, server) in ["a", "b"].into_iter().zip(&network.servers) {
        let part = ddl.out.split(&format!("-- on {node}\n")).nth(1).unwrap();
        let part = part.split("-- on ").next().unwrap();
        part.lines()
            .filter(|line| !line.contains("..."))
            .for_each(|line| server.run(line).unwrap());
    }
    let copy = || {
        let beat: Option<String> = network.servers[0]
            .postgres()
            .unwrap()
            .query_opt(
                "SELECT (beat AT TIME ZONE 'UTC')::text FROM keen_beat WHERE node = 'a'",
                &[],
            )
            .unwrap()
            .map(|row| row.get(0));
        if let Some(beat) = beat {
            let mut client = network.servers[1].mariadb().unwrap();
            client.query_drop("SET time_zone = '+00:00'").unwrap();
            client.exec_drop("REPLACE INTO keen_beat VALUES ('a', ?)", (beat,)).unwrap();
        }
    };
    // Something carries rows between the two.
    let over = std::sync::atomic::AtomicBool::new(false);
    let run = std::thread::scope(|scope| {
        scope.spawn(|| {
            while !over.load(std::sync::atomic::Ordering::Relaxed) {
                copy();
                std::thread::sleep(std::time::Duration::from_millis(20));
            }
        });
        network.flow_with(&["--beat"]);
        let run = network.flow_with(&["--beat"]);
        over.store(true, std::sync::atomic::Ordering::Relaxed);
        run
    });
    assert_eq!((run.code, states(&run.json())), (0, vec!["flowing a>b".to_owned()]), "{run:?}");
    assert!(
        run.err.contains("will set the row of a in keen_beat to the current time"),
        "{}",
        run.err
    );
    // Nobody writes: there is nothing new to arrive.
    copy();
    assert_eq!(states(&network.flow().1), ["idle a>b"]);
    // Nothing carries them any more.
    let run = network.flow_with(&["--beat"]);
    let json = run.json();
    assert_eq!((run.code, states(&json)), (1, vec!["stalled a>b".to_owned()]), "{json:#}");
    assert!(link(&json, "a", "b")["late_seconds"].as_f64().unwrap() > 0.0, "{json:#}");
    let run = one_way().keen(&["flow", "--beat"]);
    assert_eq!(run.code, 2, "{run:?}");
    assert!(run.err.contains("names no heartbeat table"), "{}", run.err);
}

#[test]
fn in_a_ring_each_follows_the_one_before() {
    let lab = ServerLab::new().unwrap();
    let ring = servers(&lab, 3);
    links::mariadb_ring(&ring).unwrap();
    huts::tables(&ring[0]).unwrap();
    huts::rows(&ring[0]).unwrap();
    links::mariadb_settled(&ring, PATIENCE).unwrap();
    let ring = Network::new(lab, ring, &crate::common::servers::mesh_of(3).replace("mesh", "ring"));
    let (code, json) = ring.flow();
    assert_eq!(
        (code, states(&json)),
        (0, ["idle a>b", "idle b>c", "idle c>a"].map(str::to_owned).to_vec()),
        "{json:#}"
    );
    // Broken at one place, what the others write does not come round.
    ring.servers[1].run("STOP ALL SLAVES").unwrap();
    write(&ring, 100);
    let json = ring.until("paused a>b");
    assert_eq!(states(&json), ["paused a>b", "idle b>c", "idle c>a"]);
    let lacks = |node: &str, origin: &str| {
        let applied = json["applied"].as_array().unwrap();
        applied.iter().find(|a| a["node"] == node && a["origin"] == origin).unwrap()["lacks"]
            .as_u64()
    };
    assert_eq!((lacks("b", "a"), lacks("c", "a"), lacks("a", "c")), (Some(1), Some(1), Some(0)));
}

#[test]
fn a_connection_that_would_leave_out_a_transaction_is_told_and_started_without() {
    let network = one_way();
    let b = &network.servers[1];
    // What STOP SLAVE in the middle of a duplicate leaves behind, in a mesh with gtid_ignore_duplicates.
    b.run("STOP SLAVE 'from a';\nSET SESSION default_master_connection = 'from a', GLOBAL sql_slave_skip_counter = 1")
        .unwrap();
    write(&network, 300);
    let (_, json) = network.flow();
    let found = link(&json, "a", "b");
    assert_eq!(
        found["reason"],
        "both receiving and applying are switched off; if it is just started, it skips the first transaction (Skip_Counter 1)"
    );
    let run = network.keen(&["preflight", "--format", "json"]);
    let steps = crate::common::preflight::statements(&run);
    let starts: Vec<&str> = steps.iter().map(|(_, sql)| &sql[..]).collect();
    let wanted = [
        "SET SESSION default_master_connection = 'from a', GLOBAL sql_slave_skip_counter = 0",
        "START SLAVE 'from a'",
    ];
    assert_eq!(starts[..2], wanted, "{run:?}");
    assert_eq!(found["next"]["what"], wanted.join("; "));
    b.run(&wanted.join(";\n")).unwrap();
    network.until("idle a>b");
    let arrived: Option<u32> =
        b.mariadb().unwrap().query_first("SELECT count(*) FROM guest WHERE id = 300").unwrap();
    assert_eq!(arrived, Some(1));
}
