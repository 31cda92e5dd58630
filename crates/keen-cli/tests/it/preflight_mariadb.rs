//! `keen preflight` on real MariaDB servers: whole, and with each fault really made.

use crate::common::Folder;
use crate::common::preflight::{bad, findings, first, printed, statements};
use crate::common::servers::{Network, PATIENCE, mesh_of};
use keen_testkit::{Server, ServerKind, ServerLab, Settings, huts, links};

/// Servers of a lab with these lines in their settings, one after the other, not linked.
fn servers(lab: &ServerLab, lines: &[&[&str]]) -> Vec<Server> {
    (1..)
        .zip(lines)
        .map(|(id, lines)| {
            let lines = lines.iter().map(|line| (*line).to_owned()).collect();
            let settings = Settings { server_id: Some(id), lines, ..Settings::default() };
            lab.start_with(&format!("m{id}"), ServerKind::MariaDb, &settings).unwrap()
        })
        .collect()
}

fn filled(servers: &[Server]) {
    huts::tables(&servers[0]).unwrap();
    huts::rows(&servers[0]).unwrap();
    links::mariadb_settled(servers, PATIENCE).unwrap();
}

const PAIR: &str = "[[link]]\nboth = [\"a\", \"b\"]\ncarries = [\"stays\"]\n";

fn pair(lines: &[&[&str]]) -> Network {
    let lab = ServerLab::new().unwrap();
    let servers = servers(&lab, lines);
    links::mariadb_mesh(&servers).unwrap();
    filled(&servers);
    Network::new(lab, servers, &format!("{}{PAIR}", crate::common::servers::STAYS))
}

#[test]
fn a_healthy_mesh_ring_and_one_way_link_have_nothing_to_mend() {
    let mesh = Network::mariadb_mesh();
    let run = mesh.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), [] as [String; 0], "{}", run.out);
    assert_eq!(run.code, 0, "{run:?}");
    let json = run.json();
    assert_eq!(json["complete"], true);
    assert_eq!(json["reaches"].as_array().unwrap().len(), 6);
    assert!(json["reaches"].as_array().unwrap().iter().all(|r| r["reaches"] == "yes"), "{json}");
    for node in json["nodes"].as_array().unwrap() {
        // The same machine: its clock is ours.
        assert!(node["clock"]["ahead_seconds"].as_f64().unwrap().abs() < 0.1, "{node}");
    }

    let lab = ServerLab::new().unwrap();
    let ring = servers(&lab, &[&[], &[], &[]]);
    links::mariadb_ring(&ring).unwrap();
    filled(&ring);
    let ring = Network::new(lab, ring, &mesh_of(3).replace("mesh", "ring"));
    let run = ring.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), [] as [String; 0], "{}", run.out);

    let lab = ServerLab::new().unwrap();
    let two = servers(&lab, &[&[], &["read_only=ON"]]);
    links::follow(&two[1], &two[0], "from_a").unwrap();
    filled(&two);
    let text = format!(
        "{}[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"stays\"]\n",
        crate::common::servers::STAYS
    );
    let one_way = Network::new(lab, two, &text);
    one_way.is_not_written_to("b");
    let run = one_way.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), [] as [String; 0], "{}", run.out);
    // Opened to writes, it is told at once.
    one_way.servers[1].run("SET GLOBAL read_only = OFF").unwrap();
    let run = one_way.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), ["warn not-read-only b"], "{}", run.out);
    assert_eq!(run.code, 1);
    for (_, statement) in printed(&run, "not-read-only") {
        one_way.servers[1].run(&statement).unwrap();
    }
    let run = one_way.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), [] as [String; 0], "{}", run.out);
    // A delay on purpose that the file does not know, and one that the servers do not.
    one_way.servers[1]
        .run("STOP SLAVE 'from_a';\nCHANGE MASTER 'from_a' TO MASTER_DELAY = 3600;\nSTART SLAVE 'from_a';\nSET GLOBAL read_only = ON")
        .unwrap();
    let run = one_way.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), ["warn delay-differs a,b"], "{}", run.out);
    let steps = printed(&run, "delay-differs");
    let steps: Vec<&str> = steps.iter().map(|(_, statement)| &statement[..]).collect();
    one_way.servers[1].run(&steps.join(";\n")).unwrap();
    let run = one_way.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), [] as [String; 0], "{}", run.out);
    one_way.servers[1]
        .run("STOP SLAVE 'from_a';\nCHANGE MASTER 'from_a' TO MASTER_DELAY = 3600;\nSTART SLAVE 'from_a'")
        .unwrap();
    one_way.replace("carries = [\"stays\"]", "carries = [\"stays\"]\ndelay = \"1h\"");
    let run = one_way.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), [] as [String; 0], "{}", run.out);
}

#[test]
fn settings_that_replication_needs_are_told_with_value_need_and_command() {
    let network = pair(&[&[], &[]]);
    let settings = [
        ("binlog_format = MIXED", "warn log-format a"),
        ("binlog_format = STATEMENT", "stop log-format a"),
        ("binlog_row_image = MINIMAL", "warn log-images a"),
        ("binlog_row_metadata = NO_LOG", "warn log-metadata a"),
        ("slave_exec_mode = IDEMPOTENT", "warn errors-skipped a"),
        ("binlog_expire_logs_seconds = 3600", "warn log-kept-briefly a"),
        ("time_zone = '+02:00'", "warn zones-differ b,a"),
    ];
    for (setting, expected) in settings {
        network.servers[0].run(&format!("SET GLOBAL {setting}")).unwrap();
        let run = network.keen(&["preflight", "--format", "json"]);
        let mut words: Vec<&str> = expected.split(' ').collect();
        if words[1] == "zones-differ" {
            words[2] = "a,b";
        }
        assert_eq!(bad(&run), [words.join(" ")], "{setting}: {}", run.out);
        // What it says to run mends it.
        let told = statements(&run);
        if words[1] == "zones-differ" {
            network.servers[0].run("SET GLOBAL time_zone = 'SYSTEM'").unwrap();
        } else {
            assert_eq!(told.len(), 1, "{told:?}");
            network.servers[0].run(&told[0].1).unwrap();
        }
        assert_eq!(
            bad(&network.keen(&["preflight", "--format", "json"])),
            [] as [String; 0],
            "{setting}"
        );
    }
    // One that is refused while links run; the mesh goes on as before.
    let mesh = Network::mariadb_mesh();
    let a = &mesh.servers[0];
    a.run("STOP ALL SLAVES;\nSET GLOBAL gtid_ignore_duplicates = OFF").unwrap();
    links::mariadb_start_all(a).unwrap();
    let run = mesh.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), ["stop duplicates-not-ignored a"], "{}", run.out);
    let steps = printed(&run, "duplicates-not-ignored");
    let steps: Vec<&str> = steps.iter().map(|(_, statement)| &statement[..]).collect();
    a.run(&steps.join(";\n")).unwrap();
    links::mariadb_settled(&mesh.servers, PATIENCE).unwrap();
    let run = mesh.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), [] as [String; 0], "{}", run.out);
    network.servers[0].run("SET GLOBAL slave_net_timeout = 60").unwrap();
    let run = network.keen(&["preflight", "--format", "json"]);
    assert!(findings(&run).contains(&"note silence-noticed-late a".to_owned()), "{}", run.out);
    for (_, statement) in printed(&run, "silence-noticed-late") {
        network.servers[0].run(&statement).unwrap();
    }
    let run = network.keen(&["preflight", "--format", "json"]);
    assert!(!findings(&run).contains(&"note silence-noticed-late a".to_owned()), "{}", run.out);
    network.servers[0].run("ALTER DATABASE huts CHARACTER SET latin1").unwrap();
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    network.servers[1]
        .run("SET SESSION sql_log_bin = 0;\nALTER DATABASE huts CHARACTER SET utf8mb4")
        .unwrap();
    let run = network.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), ["warn texts-differ a,b"], "{}", run.out);
}

#[test]
fn settings_that_take_a_restart_are_told_too() {
    // Not logging what it was sent: a pair only loses its journal, a ring is cut through.
    let network = pair(&[&["skip-log-slave-updates"], &[]]);
    let run = network.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), ["warn received-not-logged a"], "{}", run.out);

    let lab = ServerLab::new().unwrap();
    let ring = servers(&lab, &[&["skip-log-slave-updates", "slave_skip_errors=1062"], &[], &[]]);
    links::mariadb_ring(&ring).unwrap();
    let ring = Network::new(lab, ring, &mesh_of(3).replace("mesh", "ring"));
    for server in &ring.servers {
        server.run("SET SESSION sql_log_bin = 0;\nCREATE TABLE guest (id int PRIMARY KEY);\nCREATE TABLE stay (id int PRIMARY KEY)").unwrap();
    }
    let run = ring.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), ["stop received-not-logged a", "warn errors-skipped a"], "{}", run.out);

    // No log at all, and duplicates not skipped where each write comes over two paths.
    let lab = ServerLab::new().unwrap();
    let mesh = servers(
        &lab,
        &[&["skip-log-bin", "skip-log-slave-updates"], &["gtid_ignore_duplicates=OFF"], &[]],
    );
    let mesh = Network::new(lab, mesh, &mesh_of(3));
    for server in &mesh.servers {
        huts::tables(server).unwrap();
    }
    let run = mesh.keen(&["preflight", "--format", "json"]);
    let found = bad(&run);
    assert!(found.contains(&"stop log-off a".to_owned()), "{found:?}");
    assert!(found.contains(&"stop duplicates-not-ignored b".to_owned()), "{found:?}");
    // And nobody has linked them.
    assert_eq!(found.iter().filter(|f| f.starts_with("stop link-absent")).count(), 6, "{found:?}");
    assert_eq!(found.len(), 9, "{found:?}");
}

#[test]
fn servers_that_cannot_be_told_apart() {
    let network = pair(&[&[], &[]]);
    network.servers[1].run("SET GLOBAL server_id = 1").unwrap();
    let run = network.keen(&["preflight", "--format", "json"]);
    assert!(bad(&run).contains(&"stop same-server-id a,b".to_owned()), "{}", run.out);
    assert_eq!(statements(&run)[0], ("b".to_owned(), "SET GLOBAL server_id = 2".to_owned()));
    network.servers[1].run(&statements(&run)[0].1).unwrap();
    let run = network.keen(&["preflight", "--format", "json"]);
    assert!(!run.out.contains("same-server-id"), "{}", run.out);
    let domain = |sql: &str| network.servers[1].run(sql).unwrap();
    domain("SET GLOBAL gtid_domain_id = 1");
    let run = network.keen(&["preflight", "--format", "json"]);
    let (node, statement) = printed(&run, "same-domain").remove(0);
    let at = usize::from(node == "b");
    network.servers[at].run(&statement).unwrap();
    let run = network.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), [] as [String; 0], "{}", run.out);
    for server in &network.servers {
        server.run("SET GLOBAL gtid_domain_id = 1").unwrap();
    }
    let run = network.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), ["stop same-domain a,b"], "{}", run.out);

    // Three with one id each get another one.
    let mesh = Network::mariadb_mesh();
    for server in &mesh.servers {
        server.run("SET GLOBAL server_id = 5").unwrap();
    }
    let run = mesh.keen(&["preflight", "--format", "json"]);
    assert_eq!(first(&run, "same-server-id")["nodes"], serde_json::json!(["a", "b", "c"]));
    let told: Vec<_> =
        statements(&run).into_iter().filter(|(_, sql)| sql.contains("server_id")).collect();
    let expected = [("b", "SET GLOBAL server_id = 6"), ("c", "SET GLOBAL server_id = 7")];
    assert_eq!(told, expected.map(|(node, sql)| (node.to_owned(), sql.to_owned())));

    // One database behind two addresses; and two servers that both claim a port of one machine.
    let lab = ServerLab::new().unwrap();
    let first = lab.start("one", ServerKind::MariaDb).unwrap();
    let port = first.port().to_string();
    let settings = Settings {
        server_id: Some(2),
        lines: vec!["bind-address=127.0.0.2".to_owned(), format!("port={port}")],
        ..Settings::default()
    };
    let second = lab.start_with("two", ServerKind::MariaDb, &settings).unwrap();
    for server in [&first, &second] {
        huts::tables(server).unwrap();
    }
    let network = Network::new(lab, vec![first, second], &mesh_of(2));
    let other = format!("127.0.0.1:{}", network.servers[1].port());
    network.replace(&other, &format!("127.0.0.2:{port}"));
    let run = network.keen(&["preflight", "--format", "json"]);
    let found = bad(&run);
    assert!(found.contains(&"warn port-claimed a,b".to_owned()), "{}", run.out);
    network.replace(&format!("127.0.0.2:{port}"), &format!("localhost:{port}"));
    let run = network.keen(&["preflight", "--format", "json"]);
    assert!(bad(&run).contains(&"stop same-database a,b".to_owned()), "{}", run.out);
    assert!(
        !bad(&run).iter().any(|f| f.contains("same-server-id") || f.contains("port-claimed")),
        "{}",
        run.out
    );
}

#[test]
fn links_as_they_are_against_links_as_they_should_be() {
    let network = Network::mariadb_mesh();
    let check = |expected: &[&str]| {
        let run = network.keen(&["preflight", "--format", "json"]);
        assert_eq!(bad(&run), expected, "{}", run.out);
        run
    };
    let (a, b) = (&network.servers[0], &network.servers[1]);
    // One direction of a pair is gone.
    b.run("STOP SLAVE 'm0';\nRESET SLAVE 'm0' ALL").unwrap();
    let run = check(&["stop link-one-way a,b"]);
    assert_eq!(first(&run, "link-one-way")["breaks"][0]["to"], "b");
    links::follow(b, a, "m0").unwrap();
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    check(&[]);
    // Stopped by hand; and stopped on an error, which is shown.
    b.run("STOP SLAVE 'm0'").unwrap();
    let run = check(&["stop link-down a,b"]);
    assert!(
        first(&run, "link-down")["found"].as_str().unwrap().ends_with("is stopped"),
        "{}",
        run.out
    );
    let steps = printed(&run, "link-down");
    let steps: Vec<&str> = steps.iter().map(|(_, statement)| &statement[..]).collect();
    b.run(&steps.join(";\n")).unwrap();
    check(&[]);
    b.run("SET SESSION sql_log_bin = 0;\nDELETE FROM stay WHERE id = 1").unwrap();
    a.run("UPDATE stay SET beds = 3 WHERE id = 1").unwrap();
    links::until(PATIENCE, "the link does not stop", || {
        let run = network.keen(&["preflight", "--format", "json"]);
        Ok(bad(&run).iter().any(|f| f.starts_with("stop link-down")))
    })
    .unwrap();
    let run = network.keen(&["preflight", "--format", "json"]);
    let found = first(&run, "link-down")["found"].as_str().unwrap().to_owned();
    assert!(found.contains("receives but does not apply") && found.contains("record"), "{found}");
    b.run("INSERT INTO stay VALUES (1, 1, 'Saddle Refuge', 2, 84.00, '2026-07-01', '2026-05-02 07:31:00')").ok();
}

#[test]
fn links_that_do_not_reach_that_nobody_declared_and_that_leave_tables_out() {
    let network = pair(&[&[], &[]]);
    let (a, b) = (&network.servers[0], &network.servers[1]);
    let json = || network.keen(&["preflight", "--format", "json"]);
    // The account that replicates has another password now: a still reaches b, b no longer a.
    a.run("SET SESSION sql_log_bin = 0;\nALTER USER carrier@'%' IDENTIFIED BY 'changed'").unwrap();
    b.run("STOP SLAVE 'm0';\nSTART SLAVE 'm0'").unwrap();
    links::until(PATIENCE, "it does not notice", || {
        Ok(bad(&json()) == ["stop source-unreached a,b"])
    })
    .unwrap();
    let run = json();
    let reaches: Vec<String> = run.json()["reaches"]
        .as_array()
        .unwrap()
        .iter()
        .map(|r| {
            format!(
                "{}-{} {}",
                r["node"].as_str().unwrap(),
                r["source"].as_str().unwrap(),
                r["reaches"].as_str().unwrap()
            )
        })
        .collect();
    assert_eq!(reaches, ["a-b yes", "b-a no"]);
    assert!(
        first(&run, "source-unreached")["found"].as_str().unwrap().contains("Access denied"),
        "{}",
        run.out
    );
    a.run("SET SESSION sql_log_bin = 0;\nALTER USER carrier@'%' IDENTIFIED BY 'lab-carrier'")
        .unwrap();
    b.run("STOP SLAVE 'm0';\nSTART SLAVE 'm0'").unwrap();
    links::until(PATIENCE, "it does not come back", || Ok(bad(&json()).is_empty())).unwrap();
    // A table left out by the receiver's own filter.
    b.run("STOP SLAVE 'm0';\nSET SESSION default_master_connection = 'm0';\nSET GLOBAL replicate_ignore_table = 'huts.stay';\nSTART SLAVE 'm0'").unwrap();
    links::until(
        PATIENCE,
        "it does not run",
        || Ok(bad(&json()) == ["stop table-not-carried a,b"]),
    )
    .unwrap();
    assert_eq!(first(&json(), "table-not-carried")["table"], "stay");
    b.run("STOP SLAVE 'm0';\nSET SESSION default_master_connection = 'm0';\nSET GLOBAL replicate_ignore_table = '';\nSTART SLAVE 'm0'").unwrap();
    links::until(PATIENCE, "it does not run", || Ok(bad(&json()).is_empty())).unwrap();
    // A set with a filter, over a link that carries whole tables.
    network.replace(
        "tables = [\"guest\", \"stay\"]",
        "tables = [\"guest\", \"stay\"]\nwhere = \"id < 100\"",
    );
    assert_eq!(bad(&json()), ["warn carried-otherwise b,a", "warn carried-otherwise a,b"]);
    network.replace("\nwhere = \"id < 100\"", "");
    // The file declares only one direction: the other is a stray.
    network.replace("both = [\"a\", \"b\"]", "from = \"a\"\nto = \"b\"");
    assert_eq!(bad(&json()), ["warn link-stray b,a"]);
}

#[test]
fn an_account_is_told_what_it_lacks_and_what_it_has_too_much_of() {
    let network = pair(&[&[], &[]]);
    let a = &network.servers[0];
    let json = || network.keen(&["preflight", "--format", "json"]);
    let quiet = |sql: &str| a.run(&format!("SET SESSION sql_log_bin = 0;\n{sql}")).unwrap();
    quiet(
        "REVOKE SELECT, REPLICA MONITOR, BINLOG MONITOR ON *.* FROM keen@'%';\nGRANT SELECT ON huts.guest TO keen@'%'",
    );
    let run = json();
    // The table cannot be told from one that is not there; the status of links cannot be looked at.
    assert_eq!(
        bad(&run),
        ["stop right-missing a", "stop table-missing a", "warn right-missing a"],
        "{}",
        run.out
    );
    let unseen = run.json()["could_not_look"].as_array().unwrap().clone();
    assert!(unseen.iter().any(|u| u["area"] == "links" && u["node"] == "a"), "{unseen:?}");
    assert_eq!(run.json()["complete"], false);
    // The grants it shows are the ones it takes.
    for (node, statement) in statements(&run) {
        if node == "a" && !statement.contains("INSERT") && !statement.contains("BINLOG ADMIN") {
            quiet(&statement);
        }
    }
    let run = json();
    assert_eq!(bad(&run), [] as [String; 0], "{}", run.out);
    quiet("GRANT SUPER, DROP ON *.* TO keen@'%'");
    let run = json();
    let found = first(&run, "right-excess");
    assert!(
        found["found"].as_str().unwrap().contains("DROP on everything, SUPER on everything"),
        "{found}"
    );
}

#[test]
fn numbers_for_new_keys_that_would_collide() {
    let network = pair(&[&[], &[]]);
    network.servers[0]
        .run("CREATE TABLE reading (id bigint AUTO_INCREMENT PRIMARY KEY, v double)")
        .unwrap();
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    network.replace("\"guest\", \"stay\"", "\"guest\", \"stay\", \"reading\"");
    let run = network.keen(&["preflight", "--format", "json"]);
    assert_eq!(bad(&run), ["stop counters-collide a,b"], "{}", run.out);
    for (node, statement) in statements(&run) {
        let server = if node == "a" { 0 } else { 1 };
        network.servers[server].run(&statement).unwrap();
    }
    assert_eq!(bad(&network.keen(&["preflight", "--format", "json"])), [] as [String; 0]);
}

#[test]
fn columns_that_two_peers_added_at_once_are_recognised_and_put_in_order() {
    let network = pair(&[&[], &[]]);
    let (a, b) = (&network.servers[0], &network.servers[1]);
    for server in [a, b] {
        server.run("STOP ALL SLAVES").unwrap();
    }
    a.run("ALTER TABLE stay ADD COLUMN dogs int NOT NULL DEFAULT 0").unwrap();
    b.run("ALTER TABLE stay ADD COLUMN skis int NOT NULL DEFAULT 7").unwrap();
    for server in [a, b] {
        links::mariadb_start_all(server).unwrap();
    }
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    let run = network.keen(&["preflight", "--shape", "--format", "json"]);
    assert_eq!(bad(&run), ["stop column-order a,b"], "{}", run.out);
    let found = first(&run, "column-order");
    let said = found["found"].as_str().unwrap();
    assert!(said.contains("…, dogs, skis on a; …, skis, dogs on b"), "{said}");
    assert!(said.contains("at the same time"), "{said}");
    assert_eq!(found["breaks"].as_array().unwrap().len(), 2);
    // It is no idle warning: a value lands in the wrong column, and every status stays healthy.
    a.run("UPDATE stay SET dogs = 7, skis = 9 WHERE id = 1").unwrap();
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    let mut there = b.mariadb().unwrap();
    let swapped: Option<(i32, i32)> = mysql::prelude::Queryable::query_first(
        &mut there,
        "SELECT dogs, skis FROM stay WHERE id = 1",
    )
    .unwrap();
    assert_eq!(swapped, Some((9, 7)));
    for (node, statement) in statements(&run) {
        assert_eq!(node, "b");
        b.run(&statement.replace("; ", ";\n")).unwrap();
    }
    let run = network.keen(&["preflight", "--shape", "--format", "json"]);
    // Not even a note: defaults and all the rest are as they were.
    assert_eq!(findings(&run), [] as [String; 0], "{}", run.out);
}

#[test]
fn a_clock_that_is_off_is_told_by_how_much() {
    let lab = ServerLab::new().unwrap();
    let late = Settings { server_id: Some(1), clock: -90, ..Settings::default() };
    let a = lab.start_with("late", ServerKind::MariaDb, &late).unwrap();
    let early = Settings { clock: 7, ..Settings::default() };
    let b = lab.start_with("early", ServerKind::Postgres15, &early).unwrap();
    for server in [&a, &b] {
        huts::tables(server).unwrap();
    }
    let network = Network::new(lab, vec![a, b], &mesh_of(2));
    let run = network.keen(&["preflight", "--format", "json"]);
    let found: Vec<String> = bad(&run).into_iter().filter(|f| f.contains("clock")).collect();
    assert_eq!(found, ["warn clock-off a", "warn clock-off b"], "{}", run.out);
    let nodes = run.json()["nodes"].clone();
    for (node, ahead) in [(0, -90.0), (1, 7.0)] {
        let clock = &nodes[node]["clock"];
        let seconds = |name: &str| clock[name].as_f64().unwrap();
        let off = (seconds("ahead_seconds") - ahead).abs();
        assert!(off <= seconds("uncertain_seconds") + 0.05, "{clock}");
    }
    network.replace("[set.stays]", "[limits]\nclock = \"2m\"\n[set.stays]");
    let run = network.keen(&["preflight", "--format", "json"]);
    assert!(!bad(&run).iter().any(|f| f.contains("clock-off")), "{}", run.out);
}

#[test]
fn clocks_that_are_each_within_the_limit_and_too_far_apart() {
    let lab = ServerLab::new().unwrap();
    let off = |id, clock| Settings { server_id: Some(id), clock, ..Settings::default() };
    let servers: Vec<Server> = [(1, -4), (2, 4)]
        .into_iter()
        .map(|(id, clock)| {
            lab.start_with(&format!("m{id}"), ServerKind::MariaDb, &off(id, clock)).unwrap()
        })
        .collect();
    let network = Network::new(lab, servers, &mesh_of(2));
    network.replace("[set.stays]", "[limits]\nclock = \"6s\"\n[set.stays]");
    let run = network.keen(&["preflight", "--format", "json"]);
    let found: Vec<String> = bad(&run).into_iter().filter(|f| f.contains("clock")).collect();
    assert_eq!(found, ["warn clock-off a,b"], "{}", run.out);
    assert!(
        first(&run, "clock-off")["found"].as_str().unwrap().contains("8.0 s apart"),
        "{}",
        run.out
    );
}

#[test]
fn nothing_is_written() {
    let network = pair(&[&[], &[]]);
    let server = &network.servers[0];
    server.run("SET GLOBAL general_log_file = 'said.log';\nSET GLOBAL general_log = ON").unwrap();
    network.keen(&["preflight"]);
    server.run("SET GLOBAL general_log = OFF").unwrap();
    let log = std::fs::read(server.folder().join("data/said.log")).unwrap();
    let log = String::from_utf8_lossy(&log);
    let said: Vec<&str> = log
        .lines()
        .filter_map(|line| line.split_once("Query\t").or_else(|| line.split_once("Prepare\t")))
        .map(|(_, sql)| sql.trim())
        .collect();
    assert!(said.len() > 10, "{log}");
    for sql in said {
        let word = sql.split_whitespace().next().unwrap_or_default().to_ascii_uppercase();
        let read = ["SELECT", "SHOW", "SET", "START"].contains(&word.as_str());
        assert!(read && !sql.starts_with("SET GLOBAL") || sql.contains("general_log"), "{sql}");
    }
}

#[test]
fn a_file_among_servers_is_looked_at_as_a_file() {
    // Nothing tells what carries rows between a server and a file, and that is said.
    let lab = ServerLab::new().unwrap();
    let server = lab.start("m1", ServerKind::MariaDb).unwrap();
    huts::tables(&server).unwrap();
    let folder = Folder::new(&crate::common::servers::topology(
        &[server],
        &format!(
            "[node.b]\nat = \"sqlite:b.db\"\n{}[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"stays\"]\n",
            crate::common::servers::STAYS
        ),
    ));
    folder.sql(
        "b.db",
        "CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT NOT NULL, member BOOLEAN NOT NULL)",
    );
    drop(lab);
    let run = folder.keen(&["preflight", "--format", "json"]);
    assert!(bad(&run).contains(&"stop table-missing b".to_owned()), "{}", run.out);
    assert!(bad(&run).contains(&"stop unreachable a".to_owned()), "{}", run.out);
    let unseen = run.json()["could_not_look"].clone();
    assert!(
        unseen[0]["fault"]["what"].as_str().unwrap().contains("SQLite does not record"),
        "{unseen}"
    );
}

#[test]
fn settings_that_make_writes_fail_or_part_are_found() {
    let network = pair(&[&["event_scheduler = ON"], &["event_scheduler = ON"]]);
    let (a, b) = (&network.servers[0], &network.servers[1]);
    assert_eq!(bad(&network.keen(&["preflight", "--format", "json"])), [] as [String; 0]);
    let unlogged = |server: &Server, sql: &str| {
        server.run(&format!("SET SESSION sql_log_bin = 0;\n{sql}")).unwrap();
    };
    b.run("SET GLOBAL read_only = ON;\nSET GLOBAL foreign_key_checks = OFF;\nSET GLOBAL sql_mode = 'ANSI_QUOTES'").unwrap();
    b.run("STOP ALL SLAVES;\nSET GLOBAL slave_type_conversions = 'ALL_LOSSY';\nSTART ALL SLAVES")
        .unwrap();
    for server in [a, b] {
        unlogged(
            server,
            "CREATE EVENT tidy ON SCHEDULE EVERY 1 DAY DO DELETE FROM trail_notice WHERE id < 0;\nGRANT EVENT ON huts.* TO keen@'%'",
        );
    }
    unlogged(a, "ALTER TABLE stay ADD CONSTRAINT some_beds CHECK (beds > 0)");
    unlogged(b, "ALTER TABLE guest ENGINE = MyISAM");
    let run = network.keen(&["preflight", "--format", "json"]);
    let mut found = bad(&run);
    found.sort();
    assert_eq!(
        found,
        [
            "stop writer-closed b",
            "warn checks-differ a,b",
            "warn events-run a,b",
            "warn lossy-conversion b",
            "warn modes-differ a,b",
            "warn references-off b",
            "warn rolls-nothing-back b",
        ],
        "{}",
        run.out
    );
    // What is printed is run, and what it was for is gone.
    let printed = statements(&run);
    assert_eq!(printed, [("b".to_owned(), "SET GLOBAL foreign_key_checks = ON".to_owned())]);
    b.run(&printed[0].1).unwrap();
    assert!(
        !bad(&network.keen(&["preflight", "--format", "json"]))
            .iter()
            .any(|f| f.contains("references-off"))
    );

    // What is left out by the domain of its writer.
    let domain: u64 = {
        use mysql::prelude::Queryable;
        a.mariadb().unwrap().query_first("SELECT @@gtid_domain_id").unwrap().unwrap()
    };
    b.run(&format!(
        "STOP SLAVE 'm0';\nCHANGE MASTER 'm0' TO IGNORE_DOMAIN_IDS = ({domain});\nSTART SLAVE 'm0'"
    ))
    .unwrap();
    let run = network.keen(&["preflight", "--format", "json"]);
    let found = first(&run, "table-not-carried");
    assert!(
        found["found"].as_str().unwrap().contains(&format!("IGNORE_DOMAIN_IDS = ({domain})")),
        "{found:#}"
    );
    let flow = network.keen(&["flow", "--interval", "1s", "--no-ledger"]);
    assert!(!flow.out.contains("Every link carries"), "{}", flow.out);
    assert!(flow.out.contains("IGNORE_DOMAIN_IDS"), "{}", flow.out);
}
