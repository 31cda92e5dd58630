//! `keen plan --seed` and `keen mend`: nodes are filled from others on real servers while all of them are written to, and
//! looked at by the servers' own means.

use std::collections::BTreeSet;
use std::time::Duration;

use crate::common::mending::{
    MENDER, accounts, dump, filling_rights, keen, killed_and_gone_on_with, peers, spawn,
    while_all_write,
};
use crate::common::servers::{Network, PATIENCE};
use crate::common::{Folder, Run};
use keen_testkit::{Server, ServerKind, links};

const TABLES: [&str; 3] = ["guest", "stay", "trail_notice"];

fn rows(server: &Server) -> Vec<String> {
    let tables = TABLES.iter().take(if server.engine().is_postgres() { 2 } else { 3 });
    tables.map(|table| dump(server, &format!("SELECT * FROM {table} ORDER BY id"))).collect()
}

fn seed(network: &Network, ends: &str, file: &str) -> Run {
    let run = keen(network, &["plan", "--seed", ends, "--save", file]);
    assert_eq!(run.code, 1, "{run:?}");
    run
}

fn settled(network: &Network) {
    match network.servers[0].engine().is_postgres() {
        true => links::postgres_settled(&network.servers, PATIENCE).unwrap(),
        false => links::mariadb_settled(&network.servers, PATIENCE).unwrap(),
    }
}

/// All nodes hold the same, and every guest that a server took is there.
fn all_is_there(network: &Network, taken: &BTreeSet<u64>) {
    settled(network);
    let all: Vec<Vec<String>> = network.servers.iter().map(rows).collect();
    assert!(all.windows(2).all(|pair| pair[0] == pair[1]), "{all:#?}");
    assert!(!taken.is_empty());
    let lines: BTreeSet<u64> = dump(&network.servers[0], "SELECT id FROM guest ORDER BY id")
        .lines()
        .filter_map(|line| line.trim_matches(|c: char| !c.is_ascii_digit()).parse().ok())
        .collect();
    assert_eq!(taken.difference(&lines).collect::<Vec<_>>(), Vec::<&u64>::new());
}

fn mesh() -> Network {
    let network = Network::mariadb_mesh();
    network.replace("[\"guest\", \"stay\"]", "[\"guest\", \"stay\", \"trail_notice\"]");
    accounts(&network);
    filling_rights(&network);
    network
}

/// Writes that no other node gets.
fn alone(server: &Server, sql: &str) {
    let sql = match server.engine().is_postgres() {
        true => format!(
            "SET session_replication_role = replica; SELECT pg_replication_origin_create('past'); SELECT pg_replication_origin_session_setup('past'); \
             {sql}; SELECT pg_replication_origin_session_reset(); SELECT pg_replication_origin_drop('past')"
        ),
        false => format!("SET SESSION sql_log_bin = 0;\n{}", sql.replace("; ", ";\n")),
    };
    server.run(&sql).unwrap();
}

const ONLY_HERE: &str = "DELETE FROM guest WHERE id = 2; UPDATE guest SET name = 'only here' WHERE id = 3; \
    INSERT INTO guest VALUES (900, 'only here', true)";

#[test]
fn a_node_of_a_mariadb_mesh_is_filled_while_all_are_written_to() {
    let network = mesh();
    let c = &network.servers[2];
    alone(c, ONLY_HERE);
    alone(c, "INSERT INTO trail_notice VALUES (900, 'Saddle Refuge', 'only at c', 1, NULL)");
    // A right that would be lacking once the rows are there is lacking before anything is done.
    c.run(&format!("SET SESSION sql_log_bin = 0;\nREVOKE SUPER ON *.* FROM {}@'%'", MENDER.0))
        .unwrap();
    seed(&network, "a:c", "seed.plan");
    let run = keen(&network, &["mend", "seed.plan", "--yes"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert!(run.out.contains("on c lacks a right for link m0: SUPER ON *.*"), "{run:?}");
    filling_rights(&network);
    // One position stands for the whole server, so nothing else may be on it.
    let held = rows(c);
    let local = |sql: &str| c.run(&format!("SET SESSION sql_log_bin = 0;\n{sql}")).unwrap();
    local("CREATE DATABASE other");
    for how in ["--dry-run", "--yes"] {
        let run = keen(&network, &["mend", "seed.plan", how]);
        assert_eq!(run.code, 1, "{run:?}");
        assert!(run.out.contains("the server also has database other"), "{run:?}");
    }
    local("DROP DATABASE other;\nCREATE TABLE bill (id int PRIMARY KEY)");
    let run = keen(&network, &["plan", "--seed", "a:c"]);
    assert!(
        run.code == 2 && run.err.contains("c also has table bill, which is not copied"),
        "{run:?}"
    );
    local("DROP TABLE bill");
    assert_eq!(held, rows(c));
    std::fs::remove_file(network.folder.path("seed.plan.undo")).unwrap();
    filling_rights(&network);
    let ((), taken) = while_all_write(&network.servers, || {
        seed(&network, "a:c", "seed.plan");
        let tried = keen(&network, &["mend", "seed.plan", "--dry-run"]);
        assert_eq!(tried.code, 0, "{tried:?}");
        let run = keen(&network, &["mend", "seed.plan", "--yes"]);
        assert!(run.out.contains(": 1 change made"), "{run:?}");
    });
    all_is_there(&network, &taken);
    let logged =
        dump(c, "SELECT count(*) FROM information_schema.TABLES WHERE TABLE_NAME = 'keen_mended'");
    assert!(logged.contains('1'));
    // What only c held can be put back, and gets to nobody else.
    let run = keen(&network, &["mend", "seed.plan.aside", "--yes", "--format", "json"]);
    assert_eq!(run.json()["nodes"][0]["made"], 3, "{run:?}");
    assert!(
        dump(c, "SELECT name FROM guest WHERE id IN (3, 900)").matches("only here").count() == 2
    );
}

#[test]
fn peers_of_postgresql_are_filled_while_all_are_written_to() {
    let network = peers(3);
    let b = &network.servers[1];
    alone(b, ONLY_HERE);
    seed(&network, "a:b", "seed.plan");
    for how in ["--dry-run", "--yes"] {
        let run = keen(&network, &["mend", "seed.plan", how]);
        assert_eq!(run.code, 1, "{run:?}");
        let said = "the account that carries plans out on b lacks a right for link from_0_to_1: to own subscription from_0_to_1";
        assert!(run.out.contains(said), "{run:?}");
    }
    filling_rights(&network);
    // Nobody has written since they follow each other.
    std::fs::remove_file(network.folder.path("seed.plan.undo")).unwrap();
    seed(&network, "a:b", "seed.plan");
    let run = keen(&network, &["mend", "seed.plan", "--yes"]);
    assert_eq!(run.code, 0, "{run:?}");
    alone(b, ONLY_HERE);
    let ((), taken) = while_all_write(&network.servers, || {
        seed(&network, "a:b", "seed.plan");
        for file in ["seed.plan.undo", "seed.plan.aside"] {
            std::fs::remove_file(network.folder.path(file)).unwrap();
        }
        let run = keen(&network, &["mend", "seed.plan", "--yes"]);
        assert!(run.out.contains("b: 1 change made"), "{run:?}");
    });
    all_is_there(&network, &taken);
    let run = keen(&network, &["mend", "seed.plan", "--yes"]);
    assert_eq!(run.code, 0, "{run:?}");
    let run = keen(&network, &["mend", "seed.plan.aside", "--yes", "--format", "json"]);
    assert_eq!(run.json()["nodes"][0]["made"], 2, "{run:?}");
}

/// Kills a server while a node is filled, and goes on until the node is.
fn a_server_is_killed(network: &mut Network, at: usize, wait: u64) {
    std::fs::remove_file(network.folder.path("seed.plan.undo")).unwrap();
    alone(&network.servers[1], "DELETE FROM guest WHERE id BETWEEN 1000000 AND 1005000");
    seed(network, "a:b", "seed.plan");
    let mut child = spawn(network, &["mend", "seed.plan", "--yes"]);
    std::thread::sleep(Duration::from_millis(wait));
    network.servers[at].kill();
    network.servers[at].start().unwrap();
    child.wait().unwrap();
    let mut last = None;
    links::until(2 * PATIENCE, "it does not come to its end", || {
        let run = keen(network, &["mend", "seed.plan", "--yes"]);
        let done = run.code == 0;
        last = Some(run);
        Ok(done)
    })
    .unwrap_or_else(|error| panic!("{error}: {last:?}"));
}

/// Guests that are there from the beginning, so that filling a node takes a while.
fn many_guests(network: &Network) {
    let server = &network.servers[0];
    let sql = match server.engine().is_postgres() {
        true => {
            "INSERT INTO guest SELECT n, repeat('Guest ', 20) || n, true FROM generate_series(1000000, 1020000) AS n"
        }
        false => {
            "INSERT INTO guest SELECT seq, CONCAT(REPEAT('Guest ', 20), seq), true FROM seq_1000000_to_1020000"
        }
    };
    server.run(sql).unwrap();
    settled(network);
}

#[test]
fn filling_a_node_goes_on_after_every_kill_and_nothing_is_lost() {
    let each = |mut network: Network| {
        filling_rights(&network);
        many_guests(&network);
        alone(&network.servers[1], "DELETE FROM guest WHERE id BETWEEN 1000000 AND 1010000");
        let (kills, taken) = while_all_write(&network.servers, || {
            seed(&network, "a:b", "seed.plan");
            killed_and_gone_on_with(&network, "seed.plan")
        });
        println!("{kills} kills");
        assert!(kills > 2);
        all_is_there(&network, &taken);
        let run = keen(&network, &["mend", "seed.plan", "--yes", "--format", "json"]);
        assert_eq!(run.json()["nodes"][0]["changes"]["made_before"], 1, "{run:?}");
        let quiet = || Ok(network.servers.iter().all(is_quiet));
        links::until(PATIENCE, "something of it is left", quiet).unwrap();
        let long = std::env::var_os("KEEN_LONG").is_some();
        let receiver = usize::from(network.servers[0].engine().is_postgres());
        for at in if long { vec![0, 1] } else { vec![receiver] } {
            a_server_is_killed(&mut network, at, 700);
            all_is_there(&network, &taken);
        }
    };
    // Mostly they wait: side by side.
    std::thread::scope(|scope| {
        scope.spawn(|| each(mesh()));
        scope.spawn(|| each(peers(2)));
    });
}

/// Nothing is left of the copying: no transaction, no mark, no lock.
fn is_quiet(server: &Server) -> bool {
    match server.engine().is_postgres() {
        true => {
            !dump(server, "SELECT count(*) FROM pg_stat_activity WHERE application_name = 'keen'")
                .contains(|c: char| ('1'..='9').contains(&c))
        }
        false => !dump(server, "SELECT count(*) FROM information_schema.INNODB_TRX")
            .contains(|c: char| ('1'..='9').contains(&c)),
    }
}

#[test]
fn a_node_whose_log_is_gone_is_filled_and_its_links_go_on() {
    // MariaDB: the log that c needs is purged while it is away.
    let network = mesh();
    let (a, c) = (&network.servers[0], &network.servers[2]);
    c.run("STOP ALL SLAVES").unwrap();
    for server in &network.servers[..2] {
        server.run("INSERT INTO guest SELECT 500 + @@server_id, 'while c was away', true").unwrap();
    }
    links::mariadb_settled(&network.servers[..2], PATIENCE).unwrap();
    for server in &network.servers[..2] {
        server.run("FLUSH BINARY LOGS;\nFLUSH BINARY LOGS").unwrap();
        links::until(PATIENCE, "the log is not purged", || {
            let log = dump(server, "SHOW BINARY LOGS");
            let last = log
                .lines()
                .last()
                .unwrap_or_default()
                .split('\'')
                .nth(1)
                .unwrap_or_default()
                .to_owned();
            server.run(&format!("PURGE BINARY LOGS TO '{last}'")).unwrap();
            Ok(dump(server, "SHOW BINARY LOGS").lines().count() == 1)
        })
        .unwrap();
    }
    links::mariadb_start_all(c).unwrap();
    links::until(PATIENCE, "the links do not stop", || {
        Ok(dump(c, "SHOW ALL SLAVES STATUS").matches("1236").count() >= 2)
    })
    .unwrap();
    let ((), taken) = while_all_write(&network.servers, || {
        seed(&network, "a:c", "seed.plan");
        let run = keen(&network, &["mend", "seed.plan", "--yes"]);
        assert!(run.out.contains(": 1 change made"), "{run:?}");
    });
    all_is_there(&network, &taken);
    assert_eq!(
        dump(a, "SELECT count(*) FROM guest WHERE name = 'while c was away'"),
        dump(c, "SELECT 2")
    );

    // PostgreSQL: the slot is lost, and is made anew.
    let network = peers(2);
    filling_rights(&network);
    let (a, b) = (&network.servers[0], &network.servers[1]);
    b.run("ALTER SUBSCRIPTION from_0_to_1 DISABLE").unwrap();
    a.run("ALTER SYSTEM SET max_slot_wal_keep_size = '1MB'").unwrap();
    a.run("SELECT pg_reload_conf()").unwrap();
    a.run("INSERT INTO guest VALUES (500, 'while b was away', true)").unwrap();
    links::until(PATIENCE, "the slot is not lost", || {
        a.run("SELECT pg_switch_wal()")?;
        a.run("INSERT INTO trail_notice SELECT 1 + max(id), 'x', 'x', 0 FROM trail_notice")?;
        a.run("CHECKPOINT")?;
        Ok(dump(a, "SELECT wal_status FROM pg_replication_slots").contains("lost"))
    })
    .unwrap();
    a.run("ALTER SYSTEM RESET max_slot_wal_keep_size").unwrap();
    a.run("SELECT pg_reload_conf()").unwrap();
    b.run("ALTER SUBSCRIPTION from_0_to_1 ENABLE").unwrap();
    // A copy that comes to nothing leaves no slot behind over which the link would go on with a gap.
    let slots = |status: &str| {
        let sql = format!(
            "SELECT count(*) FROM pg_replication_slots WHERE slot_name = 'from_0_to_1' AND wal_status {status}"
        );
        dump(a, &sql).contains('1')
    };
    let hold = a.postgres().map(|mut client| {
        client.batch_execute("BEGIN; LOCK TABLE guest IN ROW EXCLUSIVE MODE").unwrap();
        client
    });
    let run = seed(&network, "a:b", "seed.plan");
    assert!(run.out.contains("slot from_0_to_1 on a is lost, and is made anew"), "{run:?}");
    let run = keen(&network, &["mend", "seed.plan", "--yes", "--lock-timeout", "2s"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert!(run.out.contains("step 1, b copy from a:"), "{run:?}");
    assert!(!slots("<> 'lost'"), "{run:?}");
    assert!(dump(b, "SELECT subenabled FROM pg_subscription").contains('t'));
    drop(hold);
    // The same command tries again.
    let ((), taken) = while_all_write(&network.servers, || {
        let run = keen(&network, &["mend", "seed.plan", "--yes"]);
        assert!(run.out.contains(": 1 change made"), "{run:?}");
    });
    all_is_there(&network, &taken);
}

/// Tables of every kind of column, by engine; the text to be compared is the server's own.
fn every_kind(server: &Server) -> (&'static str, &'static str) {
    match server.engine().is_postgres() {
        true => (
            r#"CREATE TABLE "All Kinds" (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, n numeric, f real, d double precision, t text,
             b bytea, j json, jb jsonb, ts timestamptz, iv interval, u uuid, a int[], r int4range, x xml, bits bit varying,
             twice bigint GENERATED ALWAYS AS (n * 2) STORED, "odd ""name" char(5))"#,
            r#"INSERT INTO "All Kinds" (n, f, d, t, b, j, jb, ts, iv, u, a, r, x, bits, "odd ""name") VALUES
             (1.500, 1.1, 1e300, E'tab\t line\n back\\slash \U0001F3D4', '\x00ff275c', '{"b": 1,   "a": 2}', '{"b": 1}',
             '0044-03-15 12:00:00+00 BC', '1 year 2 days', 'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11', '{1,NULL,3}', '[1,5)', '<a>1</a>', B'101', 'ab'),
             (-7, 'Infinity', '-0', '', '', '[]', '[]', 'infinity', '-1 s', NULL, '{}', 'empty', NULL, B'', ''),
             (NULL, NULL, NULL, E'\\N', NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL)"#,
        ),
        false => (
            "CREATE TABLE `All Kinds` (id bigint AUTO_INCREMENT PRIMARY KEY, n decimal(30,10), f float, d double, t text CHARACTER SET utf8mb4, \
             l varchar(20) CHARACTER SET latin1, b blob, vb varbinary(10), fixed binary(4), j json, ts timestamp(6) NULL, dt datetime(3), da date, \
             ti time(6), y year, bits bit(12), e enum('a','b''c'), st set('x','y'), u uuid, i6 inet6, twice decimal(31,10) AS (n * 2) STORED, \
             `odd ``name` char(5))",
            "INSERT INTO `All Kinds` (n, f, d, t, l, b, vb, fixed, j, ts, dt, da, ti, y, bits, e, st, u, i6, `odd ``name`) VALUES \
             (1.5, 1.1, 1e300, 'tab\\t line\\n back\\\\slash \u{1f3d4} ''', 'd\u{e9}j\u{e0}', x'00ff275c', x'00', x'61', '{\"b\": 1,   \"a\": 2}', '2026-07-01 10:00:00.123456', \
             '1000-01-01 00:00:00.001', '9999-12-31', '-838:59:59', 1901, b'101010101010', 'b''c', 'x,y', 'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11', \
             '2001:db8::1', 'ab'), \
             (-0.0000000001, -3.4e38, -0.0, '', '', '', '', '', 'null', NULL, NULL, NULL, '00:00:00.000001', 2155, b'0', 'a', '', NULL, '::', ''), \
             (NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL)",
        ),
    }
}

#[test]
fn every_kind_of_value_and_name_is_copied_as_it_is_and_counting_goes_on_beyond_it() {
    for engine in [ServerKind::MariaDb, ServerKind::Postgres15] {
        // No links at all: a copy is made of what is there.
        let network = Network::alike(&[engine, engine]);
        let text = "[set.stays]\ntables = [\"guest\", \"stay\", \"trail_notice\", \"All Kinds\", \"no_key\"]\n\
            [[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"stays\"]\n";
        let path = network.folder.path("keen.toml");
        let head = std::fs::read_to_string(&path).unwrap();
        std::fs::write(&path, head[..head.find("[set").unwrap()].to_owned() + text).unwrap();
        network.is_not_written_to("b");
        accounts(&network);
        filling_rights(&network);
        let [a, b] = &network.servers[..] else { panic!("two") };
        for server in [a, b] {
            server.run(every_kind(server).0).unwrap();
            server.run("CREATE TABLE no_key (n int, t varchar(10))").unwrap();
        }
        a.run(every_kind(a).1).unwrap();
        a.run("INSERT INTO no_key VALUES (1, 'x'), (1, 'x'), (NULL, NULL)").unwrap();
        b.run("INSERT INTO no_key VALUES (1, 'x'), (1, 'x'), (1, 'x'), (7, 'only b')").unwrap();
        if engine.is_postgres() {
            for server in [a, b] {
                let grant = format!(
                    "GRANT SELECT ON ALL TABLES IN SCHEMA public TO {}",
                    keen_testkit::CHECKER.0
                );
                server.run(&grant).unwrap();
            }
        }
        let kinds = match engine.is_postgres() {
            true => "SELECT t::text FROM \"All Kinds\" t ORDER BY id",
            false => {
                "SELECT id, n, f + 0e0, d, HEX(t), HEX(l), HEX(b), HEX(vb), HEX(fixed), j, ts, dt, da, ti, y, bits + 0, e, st, u, i6, twice, `odd ``name` FROM `All Kinds` ORDER BY id"
            }
        };
        seed(&network, "a:b", "seed.plan");
        let run = keen(&network, &["mend", "seed.plan", "--yes"]);
        assert_eq!(dump(a, kinds), dump(b, kinds), "{run:?}");
        assert!(run.out.contains("agree"), "{run:?}");
        let no_key = "SELECT * FROM no_key ORDER BY 1, 2";
        assert_eq!(dump(a, no_key), dump(b, no_key));
        // The next row collides with none that was taken.
        let next = match engine.is_postgres() {
            true => "INSERT INTO \"All Kinds\" (t) VALUES ('next')",
            false => "INSERT INTO `All Kinds` (t) VALUES ('next')",
        };
        b.run(next).unwrap();
        let run = keen(&network, &["mend", "seed.plan.aside", "--yes", "--format", "json"]);
        assert_eq!(run.json()["nodes"][0]["made"], 2, "{run:?}");
        assert!(dump(b, "SELECT count(*) FROM no_key WHERE n = 7").contains('1'));
    }
}

/// Two files, one of which holds what the other does.
fn files() -> Folder {
    let folder = Folder::new(
        "name = \"huts\"\n[node.a]\nat = \"sqlite:a.db\"\nwrites = true\n[node.b]\nat = \"sqlite:b.db\"\n\
         [set.all]\ntables = [\"guest\", \"odd \\\"name\"]\n[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"all\"]\n",
    );
    folder.sql_all(
        &["a.db", "b.db"],
        "CREATE TABLE guest (id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT, x, shown TEXT AS (upper(name))); \
         CREATE TABLE \"odd \"\"name\" (t TEXT)",
    );
    folder.sql("a.db", "INSERT INTO guest (id, name, x) VALUES (1, 'Ida', 1.5), (2, NULL, x'00ff'), (9, 'Żleb', 9007199254740993); INSERT INTO \"odd \"\"name\" VALUES ('x'), ('x'), (NULL)");
    folder.sql(
        "b.db",
        "INSERT INTO guest (id, name, x) VALUES (1, 'Other', 1.5), (3, 'only b', 'text')",
    );
    folder
}

#[test]
fn a_file_is_filled_from_another_and_what_only_it_held_can_be_put_back() {
    let folder = files();
    let run = folder.keen(&["plan", "--seed", "a:b", "--save", "seed.plan"]);
    assert_eq!(run.code, 1, "{run:?}");
    for line in [
        "1. fill b from a: guest, odd \"name",
        "loses  what b holds and a does not (of guest 1 only there, 1 otherwise); it is kept in a file first",
        "2. check: all tables of b and a agree",
        "what brings changes to b is not known: stop it before the copy",
    ] {
        assert!(run.out.contains(line), "{line}: {}", run.out);
    }
    let tried = folder.keen(&["mend", "seed.plan", "--dry-run"]);
    assert_eq!(tried.code, 0, "{tried:?}");
    let run = folder.keen(&["mend", "seed.plan", "--yes"]);
    assert_eq!(run.code, 0, "{run:?}");
    for line in [
        "6 rows of 2 tables copied from a to b",
        "2 rows of b that a did not hold so are kept: keen mend seed.plan.aside puts them back",
        "Proof: 6 rows, compared on b and a: they agree.",
    ] {
        assert!(run.out.contains(line), "{line}: {}", run.out);
    }
    assert!(!run.out.contains("--undo"), "nothing is taken back: {run:?}");
    let dump = |file: &str| {
        let sql =
            "SELECT group_concat(id || quote(name) || quote(x) || quote(shown), ';') FROM guest";
        let file = rusqlite::Connection::open(folder.path(file)).unwrap();
        file.query_row(sql, [], |row| row.get::<_, String>(0)).unwrap()
    };
    assert_eq!(dump("a.db"), dump("b.db"));
    let again = folder.keen(&["mend", "seed.plan", "--yes"]);
    assert_eq!(again.code, 0, "{again:?}");
    assert!(again.out.contains("1 made by an earlier run"), "{again:?}");
    let history = folder.keen(&["history"]).out;
    assert!(history.contains("copied 6 rows from a to b"), "{history}");
    let run = folder.keen(&["mend", "seed.plan.aside", "--yes"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert!(
        dump("b.db").contains("3'only b''text'") && dump("b.db").contains("1'Other'"),
        "{}",
        dump("b.db")
    );
    assert!(!dump("a.db").contains("Other"));
    // A second time what an earlier run kept is kept, too.
    for _ in 0..2 {
        folder.sql("b.db", "INSERT INTO guest (name) VALUES ('once more')");
        folder.keen(&["plan", "--seed", "a:b", "--save", "seed.plan"]);
        std::fs::remove_file(folder.path("seed.plan.undo")).unwrap();
        let run = folder.keen(&["mend", "seed.plan", "--yes"]);
        assert_eq!(run.code, 0, "{run:?}");
    }
    assert!(["", ".2", ".3"].iter().all(|n| folder.path(&format!("seed.plan.aside{n}")).exists()));
}

#[test]
fn a_copy_that_would_lose_or_break_something_is_refused_before_anything_is_done() {
    let refused = |edit: &dyn Fn(&Folder), said: &str| {
        let folder = files();
        edit(&folder);
        let before = std::fs::read(folder.path("b.db")).unwrap();
        let run = folder.keen(&["plan", "--seed", "a:b", "--save", "seed.plan"]);
        assert!(run.code == 2 && run.out.is_empty(), "{said}: {run:?}");
        assert!(run.err.contains(said), "{said}: {run:?}");
        assert!(!folder.path("seed.plan").exists());
        assert_eq!(before, std::fs::read(folder.path("b.db")).unwrap());
    };
    let file = |folder: &Folder, from: &str, to: &str| {
        let path = folder.path("keen.toml");
        let text = std::fs::read_to_string(&path).unwrap();
        assert!(text.contains(from));
        std::fs::write(path, text.replace(from, to)).unwrap();
    };
    for (files, sql, said) in [
        (
            &["b.db"][..],
            "ALTER TABLE guest ADD COLUMN phone TEXT",
            "the source has no column phone; keen plan --kind shape",
        ),
        (
            &["b.db"],
            "CREATE TABLE log (t); CREATE TRIGGER seen AFTER INSERT ON guest BEGIN INSERT INTO log VALUES (1); END",
            "trigger seen of guest on b would fire",
        ),
        (
            &["a.db", "b.db"],
            "CREATE TABLE bed (id INTEGER PRIMARY KEY); ALTER TABLE guest ADD COLUMN bed REFERENCES bed (id)",
            "on b guest refers to bed, and only one of them is in the sets",
        ),
        (&["b.db"], "DROP TABLE guest", "guest could not be read on both b and a"),
    ] {
        let edit = |folder: &Folder| {
            folder.sql_all(files, sql);
        };
        refused(&edit, said);
    }
    refused(
        &|folder| file(folder, "[[link]]", "where = \"id > 1\"\n[[link]]"),
        "set all carries only some rows or columns",
    );
    refused(
        &|folder| file(folder, "at = \"sqlite:b.db\"", "at = \"sqlite:b.db\"\nwrites = true"),
        "what b writes belongs on b but does not reach a",
    );
    let folder = files();
    for (ends, said) in [
        ("a:a", "a node cannot be filled from itself"),
        ("a:x", "there is no node x"),
        ("b", "name a link as FROM:TO"),
    ] {
        let run = folder.keen(&["plan", "--seed", ends]);
        assert!(run.code == 2 && run.err.contains(said), "{said}: {run:?}");
    }
    // A table that refers to what is copied is found when it is there.
    folder.sql(
        "b.db",
        "CREATE TABLE stay (guest_id INTEGER REFERENCES guest (id)); INSERT INTO stay VALUES (3)",
    );
    folder.keen(&["plan", "--seed", "a:b", "--save", "seed.plan"]);
    let before = std::fs::read(folder.path("b.db")).unwrap();
    let run = folder.keen(&["mend", "seed.plan", "--yes"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert!(
        run.out.contains("rows of other tables would refer to rows that are not in the copy"),
        "{run:?}"
    );
    assert_eq!(before, std::fs::read(folder.path("b.db")).unwrap());
    folder.sql("b.db", "DROP TABLE stay");
    // What changes between plan and copy is left out.
    std::fs::remove_file(folder.path("seed.plan.undo")).unwrap();
    folder.keen(&["plan", "--seed", "a:b", "--save", "seed.plan"]);
    folder.sql("b.db", "ALTER TABLE guest ADD COLUMN phone TEXT");
    let run = folder.keen(&["mend", "seed.plan", "--yes"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert!(
        run.out.contains(
            "guest is no longer as the plan has it (the source has no column phone): plan again"
        ),
        "{run:?}"
    );
    assert!(run.out.contains("keen plan --seed a:b"), "{run:?}");
}
