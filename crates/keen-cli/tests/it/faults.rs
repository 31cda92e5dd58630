//! Faults of servers: each a clear message within the limits, and the rest is checked.

use crate::common::told;
use std::io::{BufRead as _, BufReader};
use std::time::{Duration, Instant};

use crate::common::servers::{Network, PATIENCE, STAYS, mesh_of};
use crate::common::{Folder, Run};
use keen_testkit::{ServerKind, ServerLab, Settings, huts, links};
use mysql::prelude::Queryable;
use serde_json::Value as Json;

const THREE: [ServerKind; 3] =
    [ServerKind::MariaDb, ServerKind::Postgres15, ServerKind::Postgres18];

fn replace(folder: &Folder, from: &str, to: &str) {
    let path = folder.path("keen.toml");
    let text = std::fs::read_to_string(&path).unwrap();
    assert!(text.contains(from), "{text}");
    std::fs::write(path, text.replacen(from, to, 1)).unwrap();
}

/// The node is not read, for this reason; the others are compared and agree.
fn others_agree(run: &Run, node: &str, said: &[&str]) -> Json {
    assert_eq!(run.code, 3, "{run:?}");
    let found = run.json();
    let mut reasons = found["nodes"][node]["fault"].to_string();
    for table in found["tables"].as_array().unwrap() {
        reasons += &table["unread"][node].to_string();
        let nodes = table["rows"].as_object().map_or(0, serde_json::Map::len);
        assert!(nodes >= 2 && table["divergent_total"] == 0, "{table}");
    }
    for word in said {
        assert!(reasons.contains(word), "{word}: {reasons}");
    }
    found
}

fn audit(network: &Network) -> Run {
    network.keen(&["audit", "--format", "json", "--connect-timeout", "4s", "--idle-timeout", "8s"])
}

#[test]
fn a_server_that_does_not_let_keen_in() {
    let network = Network::alike(&THREE);
    for (i, node) in ["a", "b", "c"].into_iter().enumerate() {
        let address = network.servers[i].address();
        let place = network.address(i);
        for (wrong, said) in [
            (address.replace("/huts", "/marmots"), "marmots"),
            (address.replace("keen@", "nobody@"), "nobody"),
            (
                address.replace(&network.servers[i].port().to_string(), "9"),
                "no server listens there",
            ),
            (address.replace("127.0.0.1", "hut.invalid"), "there is no such host"),
        ] {
            replace(&network.folder, &address, &wrong);
            let off = if wrong.contains("invalid") { "\"\ntls = \"off" } else { "" };
            replace(&network.folder, &wrong, &format!("{wrong}{off}"));
            others_agree(&audit(&network), node, &[said]);
            replace(&network.folder, &format!("{wrong}{off}"), &address);
        }
        replace(
            &network.folder,
            &format!("{address}\"\npassword = {{ env = \"KEEN_TEST\" }}"),
            &format!("{address}\"\npassword = {{ env = \"KEEN_UNSET\" }}"),
        );
        others_agree(&audit(&network), node, &["KEEN_UNSET", "not set"]);
        std::fs::write(network.folder.path("secret"), "edelweiss\n").unwrap();
        replace(&network.folder, "env = \"KEEN_UNSET\"", "file = \"secret\"");
        let run = audit(&network);
        others_agree(&run, node, &[&place, "correct the password"]);
        assert!(!format!("{run:?}").contains("edelweiss"));
        std::fs::write(network.folder.path("secret"), format!("{}\n", keen_testkit::CHECKER.1))
            .unwrap();
        assert_eq!(audit(&network).code, 0);
        replace(&network.folder, "file = \"secret\"", "env = \"KEEN_TEST\"");
    }
}

#[test]
fn a_frozen_or_dead_server_is_given_up_within_the_limits() {
    let mut network = Network::alike(&THREE);
    for (i, node) in ["a", "b", "c"].into_iter().enumerate() {
        network.servers[i].freeze();
        let began = Instant::now();
        let run = audit(&network);
        assert!(began.elapsed() < Duration::from_secs(10), "{:?}", began.elapsed());
        others_agree(&run, node, &[&network.address(i), "did not answer within"]);
        network.servers[i].thaw();
        assert_eq!(audit(&network).code, 0);

        network.servers[i].kill();
        others_agree(&audit(&network), node, &["no server listens there"]);
        network.servers[i].start().unwrap();
        assert_eq!(audit(&network).code, 0);
    }
}

/// Servers with a table large enough that something can happen while it is read.
fn large(engines: &[ServerKind], rows: u32) -> Network {
    let network = Network::alike(engines);
    for server in &network.servers {
        let text = "repeat('weather ', 20)";
        server
            .run("CREATE TABLE reading (id bigint PRIMARY KEY, note varchar(200) NOT NULL);\n")
            .unwrap();
        let numbers = if server.engine().is_postgres() {
            format!("generate_series(1, {rows}) AS s (seq)")
        } else {
            format!("seq_1_to_{rows}")
        };
        server.run(&format!("INSERT INTO reading SELECT seq, {text} FROM {numbers}")).unwrap();
    }
    replace(&network.folder, STAYS, "[set.stays]\ntables = [\"reading\", \"guest\"]\n");
    network
}

/// Runs an audit, slowly, and does something to a server in the middle of it.
fn meanwhile(network: &mut Network, happens: impl FnOnce(&mut Network)) -> Run {
    let mut command = std::process::Command::new(env!("CARGO_BIN_EXE_keen"));
    command.args([
        "audit",
        "--format",
        "json",
        "--connect-timeout",
        "6s",
        "--idle-timeout",
        "3s",
        "--rate",
        "15000rows",
    ]);
    command.env("KEEN_TEST", keen_testkit::CHECKER.1).current_dir(network.folder.root());
    command.arg("--verbose");
    command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped());
    let mut running = command.spawn().unwrap();
    // However long connecting takes on a busy machine: it says when it reads the large table.
    let mut said = BufReader::new(running.stderr.take().unwrap());
    let mut line = String::new();
    while !line.contains("table reading") {
        line.clear();
        assert!(said.read_line(&mut line).unwrap() > 0, "it ended before it read anything");
    }
    let rest = std::thread::spawn(move || std::io::read_to_string(said).unwrap_or_default());
    std::thread::sleep(Duration::from_millis(800));
    happens(network);
    let output = running.wait_with_output().unwrap();
    Run {
        code: output.status.code().unwrap_or(-1),
        out: String::from_utf8(output.stdout).unwrap(),
        err: rest.join().unwrap(),
    }
}

#[test]
fn a_server_lost_midway_costs_only_what_it_held() {
    let mut network = large(&THREE, 60_000);
    for (i, node) in ["a", "b", "c"].into_iter().enumerate() {
        let run = meanwhile(&mut network, |network| network.servers[i].kill());
        let found = others_agree(&run, node, &["lost the connection"]);
        assert_eq!(found["complete"], false);
        network.servers[i].start().unwrap();
        let run = meanwhile(&mut network, |network| network.servers[i].freeze());
        network.servers[i].thaw();
        others_agree(&run, node, &["did not answer within"]);
    }
}

#[test]
fn a_server_that_freezes_is_waited_for_once_not_table_by_table() {
    let mut network = large(&THREE, 60_000);
    let names: Vec<String> = (0..8).map(|n| format!("\"small{n}\"")).collect();
    for server in &network.servers {
        for n in 0..8 {
            server.run(&format!("CREATE TABLE small{n} (id bigint PRIMARY KEY)")).unwrap();
        }
    }
    let tables = format!("[\"reading\", {}]", names.join(", "));
    replace(&network.folder, "[\"reading\", \"guest\"]", &tables);
    for (i, node) in ["a", "b", "c"].into_iter().enumerate() {
        let began = Instant::now();
        let run = meanwhile(&mut network, |network| network.servers[i].freeze());
        let took = began.elapsed();
        network.servers[i].thaw();
        others_agree(&run, node, &["did not answer within"]);
        // Reading takes four seconds, silence three: eight more of those would be told by this.
        assert!(took < Duration::from_secs(25), "{node}: {took:?}");
    }
}

#[test]
fn a_right_that_is_missing_is_named() {
    let network = Network::alike(&THREE);
    let mut client = network.servers[0].mariadb().unwrap();
    client.query_drop("REVOKE SELECT ON *.* FROM keen").unwrap();
    client.query_drop("GRANT SELECT ON huts.guest TO keen").unwrap();
    network.servers[1].run("REVOKE pg_read_all_data FROM keen").unwrap();
    network.servers[1].run("GRANT SELECT ON guest TO keen").unwrap();
    network.servers[2].run("ALTER TABLE stay ENABLE ROW LEVEL SECURITY").unwrap();
    let run = audit(&network);
    assert_eq!(run.code, 3, "{run:?}");
    let found = run.json();
    assert_eq!(found["tables"][0]["verdict"], "agrees", "{found}");
    let unread = &found["tables"][1]["unread"];
    assert!(told(&unread["a"]).contains("grant keen SELECT on it"), "{unread}");
    assert!(
        told(&unread["b"]).contains("GRANT SELECT ON \"public\".\"stay\" TO \"keen\""),
        "{unread}"
    );
    // Row security would hide rows without a word.
    let run = network.keen(&["audit", "--node", "b,c", "--format", "json"]);
    assert!(!run.out.contains("\"agrees\",\n  \"stay\""), "{run:?}");
    network.servers[1].run("GRANT SELECT ON stay TO keen").unwrap();
    let run = network.keen(&["audit", "--node", "b,c", "--format", "json"]);
    assert!(told(&run.json()["tables"][1]["unread"]["c"]).contains("BYPASSRLS"), "{run:?}");
}

#[test]
fn limits_of_the_server_are_told_from_failures() {
    // More than connections hold while nobody reads them: else the servers would be done with it at once.
    let network =
        large(&[ServerKind::MariaDb, ServerKind::Postgres15, ServerKind::Postgres18], 250_000);
    network.servers[0]
        .mariadb()
        .unwrap()
        .query_drop("ALTER USER keen WITH MAX_STATEMENT_TIME 0.5")
        .unwrap();
    network.servers[1].run("ALTER ROLE keen SET statement_timeout = '500ms'").unwrap();
    let run = network.keen(&["audit", "--format", "json", "--rate", "20000rows"]);
    let found = run.json();
    let unread = &found["tables"][0]["unread"];
    assert!(told(&unread["a"]).contains("max_statement_time"), "{found}");
    assert!(told(&unread["b"]).contains("statement_timeout"), "{found}");
    // Small tables are read all the same.
    assert_eq!(found["tables"][1]["verdict"], "agrees", "{found}");
    network.servers[0]
        .mariadb()
        .unwrap()
        .query_drop("ALTER USER keen WITH MAX_STATEMENT_TIME 0")
        .unwrap();
    network.servers[1].run("ALTER ROLE keen RESET statement_timeout").unwrap();

    // A table that somebody holds locked.
    let mut holder = network.servers[1].postgres().unwrap();
    holder.batch_execute("BEGIN; LOCK TABLE reading").unwrap();
    let mut other = network.servers[0].mariadb().unwrap();
    other.query_drop("LOCK TABLES reading WRITE").unwrap();
    let began = Instant::now();
    let run = audit(&network);
    assert!(began.elapsed() < Duration::from_secs(20));
    let found = run.json();
    let unread = &found["tables"][0]["unread"];
    for node in ["a", "b"] {
        assert!(told(&unread[node]).contains("holds the table locked"), "{node}: {found}");
    }
}

#[test]
fn a_server_without_a_free_connection_and_one_that_is_slow() {
    let lab = ServerLab::new().unwrap();
    let few = |line: &str| Settings { lines: vec![line.to_owned()], ..Settings::default() };
    let reserved = "max_connections = 10\nsuperuser_reserved_connections = 8\nmax_wal_senders = 0\nwal_level = minimal";
    let servers = vec![
        lab.start_with("m", ServerKind::MariaDb, &few("max_connections=10")).unwrap(),
        lab.start_with("p", ServerKind::Postgres15, &few(reserved)).unwrap(),
        lab.start("q", ServerKind::Postgres18).unwrap(),
        lab.start("r", ServerKind::Postgres15).unwrap(),
    ];
    for server in &servers {
        huts::tables(server).unwrap();
        huts::rows(server).unwrap();
    }
    let network = Network::new(lab, servers, &mesh_of(4));
    let many: Vec<mysql::Conn> =
        (0..30).map_while(|_| network.servers[0].mariadb_over_tcp().ok()).collect();
    let connect = || {
        let server = &network.servers[1];
        let (user, password) = keen_testkit::CHECKER;
        let text = format!(
            "host=127.0.0.1 port={} user={user} password={password} dbname=huts",
            server.port()
        );
        postgres::Client::connect(&text, postgres::NoTls).ok()
    };
    let more: Vec<postgres::Client> = (0..30).map_while(|_| connect()).collect();
    assert!(many.len() >= 2 && more.len() >= 2);
    let run = audit(&network);
    others_agree(&run, "a", &["all connections are in use"]);
    others_agree(&run, "b", &["all connections are in use"]);
    drop((many, more));

    // Answers that come late, but come, are waited for.
    let slow = std::sync::atomic::AtomicBool::new(true);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            while slow.load(std::sync::atomic::Ordering::Relaxed) {
                network.servers.iter().for_each(keen_testkit::Server::freeze);
                std::thread::sleep(Duration::from_millis(400));
                network.servers.iter().for_each(keen_testkit::Server::thaw);
                std::thread::sleep(Duration::from_millis(20));
            }
        });
        let run = audit(&network);
        slow.store(false, std::sync::atomic::Ordering::Relaxed);
        assert_eq!(run.code, 0, "{run:?}");
    });
}

#[test]
fn a_table_dropped_during_the_audit() {
    let mut network =
        large(&[ServerKind::MariaDb, ServerKind::Postgres15, ServerKind::Postgres18], 60_000);
    replace(&network.folder, "[\"reading\", \"guest\"]", "[\"reading\", \"guest\", \"stay\"]");
    let run = meanwhile(&mut network, |network| {
        network.servers.iter().take(2).for_each(|server| server.run("DROP TABLE stay").unwrap());
    });
    assert_eq!(run.code, 3, "{run:?}");
    let found = run.json();
    assert_eq!(found["tables"][1]["verdict"], "agrees");
    let unread = &found["tables"][2]["unread"];
    for node in ["a", "b"] {
        let said = told(&unread[node]);
        assert!(said.contains("run this again"), "{said}");
    }
}

#[test]
fn nothing_but_reads_is_sent() {
    let lab = ServerLab::new().unwrap();
    let postgres =
        Settings { lines: vec!["log_statement = 'all'".to_owned()], ..Settings::default() };
    let servers = vec![
        lab.start("m", ServerKind::MariaDb).unwrap(),
        lab.start_with("p15", ServerKind::Postgres15, &postgres).unwrap(),
        lab.start_with("p18", ServerKind::Postgres18, &postgres).unwrap(),
    ];
    for server in &servers {
        huts::tables(server).unwrap();
        huts::rows(server).unwrap();
    }
    servers[1].run("UPDATE stay SET beds = 7 WHERE id = 1").unwrap();
    let mut client = servers[0].mariadb().unwrap();
    client.query_drop("SET GLOBAL log_output = 'TABLE'").unwrap();
    client.query_drop("SET GLOBAL general_log = ON").unwrap();
    let before: Vec<usize> = servers.iter().map(|server| server.log().len()).collect();
    let network = Network::new(lab, servers, &mesh_of(3));
    assert_eq!(network.keen(&["audit"]).code, 1);
    assert_eq!(network.keen(&["plan"]).code, 1);

    let reads = |statement: &str| {
        let first =
            statement.trim_start().split([' ', ';']).next().unwrap_or("").to_ascii_uppercase();
        ["SELECT", "SET", "SHOW", "BEGIN", "START", "SAVEPOINT", "ROLLBACK", "COPY"]
            .contains(&&first[..])
    };
    let sent: Vec<(String, String)> = client
        .query("SELECT command_type, CONVERT(argument USING utf8mb4) FROM mysql.general_log WHERE user_host LIKE 'keen%'")
        .unwrap();
    let statements: Vec<&String> = sent
        .iter()
        .filter(|(kind, _)| kind == "Query" || kind == "Prepare" || kind == "Execute")
        .map(|(_, s)| s)
        .collect();
    assert!(statements.len() > 20, "{statements:?}");
    statements.iter().for_each(|statement| assert!(reads(statement), "{statement}"));
    for (server, from) in network.servers.iter().zip(before).skip(1) {
        let log = server.log()[from..].to_owned();
        let mut seen = 0;
        for line in log.lines() {
            let Some((_, statement)) = line.split_once("LOG:  ") else { continue };
            let statement = ["statement: ", "execute ", "parse ", "bind "]
                .iter()
                .find_map(|word| statement.strip_prefix(word));
            let Some(statement) = statement else { continue };
            let statement = statement
                .split_once(": ")
                .filter(|(name, _)| !name.contains(' '))
                .map_or(statement, |(_, s)| s);
            seen += 1;
            statement
                .split(';')
                .filter(|s| !s.trim().is_empty())
                .for_each(|s| assert!(reads(s), "{s}"));
            let upper = statement.to_ascii_uppercase();
            assert!(!upper.starts_with("COPY") || upper.contains("TO STDOUT"), "{statement}");
        }
        assert!(seen > 20, "{log}");
    }
}

#[test]
fn a_read_cancelled_on_a_standby() {
    let lab = ServerLab::new().unwrap();
    let primary = lab.start("primary", ServerKind::Postgres15).unwrap();
    huts::tables(&primary).unwrap();
    huts::rows(&primary).unwrap();
    primary.run("CREATE TABLE reading (id bigint PRIMARY KEY, note text);\n").unwrap();
    primary.run("INSERT INTO reading SELECT n, repeat('weather ', 200) FROM generate_series(1, 60000) AS n").unwrap();
    // One gives way to what it has to apply; the other lets its readers finish.
    let hasty = lab.standby("hasty", &primary, &["max_standby_streaming_delay = 200ms"]).unwrap();
    let patient = lab.standby("patient", &primary, &["max_standby_streaming_delay = -1"]).unwrap();
    let servers = vec![patient, hasty];
    let of_both = |sql: &str, expected: i64| {
        links::until(PATIENCE, "a standby does not follow", || {
            let mut same = true;
            for server in &servers {
                same &= server.postgres()?.query_one(sql, &[])?.get::<_, i64>(0) == expected;
            }
            Ok(same)
        })
        .unwrap();
    };
    of_both("SELECT count(*) FROM reading", 60_000);
    let mut network = Network::new(
        lab,
        servers,
        &format!(
            "{}[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"stays\"]\n",
            STAYS.replace("\"stay\"", "\"reading\"")
        ),
    );
    let run = meanwhile(&mut network, |_| {
        primary.run("DELETE FROM reading WHERE id > 100").unwrap();
        primary.run("VACUUM reading").unwrap();
    });
    assert_eq!(run.code, 3, "{run:?}");
    assert!(run.out.contains("hot_standby_feedback"), "{run:?}");
    assert_eq!(run.json()["tables"][0]["verdict"], "agrees");
}
