//! Repairs that make no new differences: triggers, columns that change by themselves, tables that roll nothing back.

use crate::common::Folder;
use crate::common::servers::{Network, topology};
use keen_testkit::{ServerKind, ServerLab, Settings};
use mysql::prelude::Queryable;

const RIGHT: &str = "[authority]\ndefault = \"a\"\n[[link]]";

/// Two MariaDB servers with the same statements run on both, b's then changed by more of them.
fn pair(tables: &str, both: &str, of_b: &str) -> Network {
    let network = Network::alike(&[ServerKind::MariaDb, ServerKind::MariaDb]);
    network.replace("\"guest\", \"stay\"", tables);
    network.replace("[[link]]", RIGHT);
    for server in &network.servers {
        server.run("GRANT TRIGGER ON *.* TO keen@'%'").unwrap();
        server.run(both).unwrap();
    }
    network.servers[1].run(of_b).unwrap();
    network
}

fn texts(network: &Network, sql: &str) -> Vec<Vec<String>> {
    let of = |server: &keen_testkit::Server| {
        let rows: Vec<mysql::Row> = server.mariadb().unwrap().query(sql).unwrap();
        rows.into_iter()
            .map(|row| {
                let cells = row.unwrap().iter().map(|v| v.as_sql(true)).collect::<Vec<_>>();
                cells.join(",").replace('\'', "")
            })
            .collect()
    };
    network.servers.iter().map(of).collect()
}

#[test]
fn columns_that_follow_the_clock_stay_as_they_are() {
    let network = pair(
        "\"hut\", \"part\"",
        "CREATE TABLE hut (id int PRIMARY KEY, beds int, changed timestamp(6) NOT NULL DEFAULT '2020-01-01' ON UPDATE CURRENT_TIMESTAMP(6));\n\
         INSERT INTO hut (id, beds) VALUES (1, 4);\n\
         CREATE TABLE part (id int PRIMARY KEY, beds int, changed datetime NULL ON UPDATE CURRENT_TIMESTAMP);\nINSERT INTO part VALUES (1, 4, '2020-01-01')",
        "UPDATE hut SET beds = 5, changed = changed;\nUPDATE part SET beds = 5, changed = changed",
    );
    // Of one table the set does not even carry the column.
    network.replace("[set.stays]", "[compare.part]\nchanged = \"ignore\"\n[set.stays]");
    let run = network.keen(&["plan", "--format", "sql", "--output", "repair"]);
    assert_eq!(run.code, 1, "{run:?}");
    let run = network.run_script(1, "repair/b.repair.sql");
    assert_eq!(run.code, 0, "{run:?}");
    for table in ["hut", "part"] {
        let both = texts(&network, &format!("SELECT * FROM {table}"));
        assert_eq!(both[0], both[1], "{table}");
    }
    assert_eq!(network.keen(&["audit"]).code, 0);
}

#[test]
fn what_would_fire_a_trigger_is_asked() {
    let network = pair(
        "\"hut\", \"log\"",
        "CREATE TABLE hut (id int PRIMARY KEY, beds int);\nINSERT INTO hut VALUES (1, 4), (2, 2);\n\
         CREATE TABLE log (id int AUTO_INCREMENT PRIMARY KEY, what varchar(20))",
        "UPDATE hut SET beds = 5 WHERE id = 1;\nDELETE FROM hut WHERE id = 2;\n\
         CREATE TRIGGER cap BEFORE UPDATE ON hut FOR EACH ROW SET NEW.beds = 9;\n\
         CREATE TRIGGER noted AFTER UPDATE ON hut FOR EACH ROW INSERT INTO log (what) VALUES ('changed')",
    );
    let plan = network.keen(&["plan", "--format", "json"]).json();
    let asked = plan["questions"].as_array().unwrap();
    assert_eq!(asked.len(), 1, "{plan:#}");
    let why = asked[0]["why"].as_str().unwrap();
    assert!(why.contains("BEFORE UPDATE SET NEW.beds = 9"), "{why}");
    // An insert fires none of them.
    assert_eq!(plan["steps"][0]["op"], "insert", "{plan:#}");
    let run = network.keen(&["plan", "--format", "sql", "--output", "repair"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert_eq!(network.run_script(1, "repair/b.repair.sql").code, 0);
    assert_eq!(texts(&network, "SELECT count(*) FROM log"), [["0"], ["0"]]);
    assert_eq!(texts(&network, "SELECT beds FROM hut ORDER BY id"), [["4", "2"], ["5", "2"]]);
    // The same from an audit that was kept.
    let audit = network.keen(&["audit", "--format", "json", "--output", "audit.json"]);
    assert_eq!(audit.code, 1, "{audit:?}");
    let kept = network.keen(&["plan", "--audit", "audit.json", "--format", "json"]).json();
    assert_eq!(kept["questions"][0]["why"], plan["questions"][0]["why"]);
    // Whoever may not see triggers is told so.
    network.servers[1].run("REVOKE TRIGGER ON *.* FROM keen@'%'").unwrap();
    let plan = network.keen(&["plan"]);
    assert!(
        plan.out.contains("whether a trigger of hut on b fires on these steps is not known"),
        "{plan:?}"
    );
}

#[test]
fn a_trigger_of_a_file_or_one_that_fires_for_replication_is_asked_about_too() {
    let folder = Folder::mesh(2, &["hut"], "[authority]\ndefault = \"a\"");
    folder.sql_all(
        &["a.db", "b.db"],
        "CREATE TABLE hut (id INTEGER PRIMARY KEY, beds INTEGER); INSERT INTO hut VALUES (1, 4)",
    );
    folder.sql("b.db", "UPDATE hut SET beds = 5; CREATE TRIGGER cap AFTER UPDATE OF beds ON hut BEGIN UPDATE hut SET beds = 9 WHERE id = NEW.id; END");
    let plan = folder.keen(&["plan", "--format", "json"]).json();
    assert!(
        plan["questions"][0]["why"].as_str().unwrap().contains("cap: CREATE TRIGGER cap"),
        "{plan:#}"
    );

    let network = Network::alike(&[ServerKind::Postgres18, ServerKind::Postgres18]);
    network.replace("[[link]]", RIGHT);
    let b = &network.servers[1];
    b.run("UPDATE stay SET beds = 5 WHERE id = 1").unwrap();
    b.run("CREATE FUNCTION cap() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN NEW.beds = 9; RETURN NEW; END'").unwrap();
    b.run("CREATE TRIGGER cap BEFORE UPDATE ON stay FOR EACH ROW EXECUTE FUNCTION cap()").unwrap();
    // An ordinary one does not fire in a script.
    let plan = network.keen(&["plan", "--format", "json"]).json();
    assert_eq!(
        (plan["steps"].as_array().unwrap().len(), plan["questions"].as_array().unwrap().len()),
        (1, 0)
    );
    b.run("ALTER TABLE stay ENABLE ALWAYS TRIGGER cap").unwrap();
    let plan = network.keen(&["plan", "--format", "json"]).json();
    assert_eq!(
        (plan["steps"].as_array().unwrap().len(), plan["questions"].as_array().unwrap().len()),
        (0, 1)
    );
}

#[test]
fn what_rolls_nothing_back_is_said_and_each_of_its_steps_is_safe() {
    let network = pair(
        "\"hut\", \"bed\"",
        "CREATE TABLE hut (id int PRIMARY KEY, name varchar(20) UNIQUE) ENGINE = Aria;\nINSERT INTO hut VALUES (1, 'Col'), (2, 'Pass'), (3, 'Top');\n\
         CREATE TABLE bed (id int PRIMARY KEY, hut int) ENGINE = InnoDB;\nINSERT INTO bed VALUES (1, 1)",
        "UPDATE hut SET name = 'x' WHERE id = 1;\nUPDATE hut SET name = 'Col' WHERE id = 2;\nUPDATE hut SET name = 'Pass' WHERE id = 1;\n\
         DELETE FROM hut WHERE id = 3;\nUPDATE bed SET hut = 2",
    );
    let run = network.keen(&["plan", "--format", "sql", "--output", "repair"]);
    assert_eq!(run.code, 1, "{run:?}");
    let script = std::fs::read_to_string(network.folder.path("repair/b.repair.sql")).unwrap();
    assert!(script.contains("hut (Aria) have no transactions"), "{script}");
    // Two names that are exchanged would take a row out in between: that is asked.
    let plan = network.keen(&["plan", "--format", "json"]).json();
    assert_eq!(plan["questions"].as_array().unwrap().len(), 1, "{plan:#}");
    // A step that fails after others leaves whole rows.
    network.servers[1].run("UPDATE bed SET hut = 7").unwrap();
    assert_ne!(network.run_script(1, "repair/b.repair.sql").code, 0);
    let names = texts(&network, "SELECT name FROM hut ORDER BY id");
    assert!(names[1].len() >= 2 && !names[1].contains(&"x".to_owned()), "{names:?}");
}

#[test]
fn a_member_of_a_synchronous_cluster_is_neither_repaired_nor_judged() {
    let lab = ServerLab::new().unwrap();
    let provider = ["/usr/lib/galera/libgalera_smm.so", "/usr/lib64/galera/libgalera_smm.so"]
        .into_iter()
        .find(|path| std::path::Path::new(path).exists())
        .expect("galera comes with MariaDB's packages");
    // A cluster of one, which listens on a port of its own.
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let lines = vec![
        "wsrep_on = ON".to_owned(),
        format!("wsrep_provider = {provider}"),
        "wsrep_cluster_address = gcomm://".to_owned(),
        format!(
            "wsrep_provider_options = \"gmcast.listen_addr=tcp://127.0.0.1:{port}; ist.recv_addr=127.0.0.1\""
        ),
        "innodb_autoinc_lock_mode = 2".to_owned(),
        "binlog_format = ROW".to_owned(),
    ];
    let settings = |id, lines| Settings { server_id: Some(id), lines, ..Settings::default() };
    let a = lab.start_with("a", ServerKind::MariaDb, &settings(1, Vec::new())).unwrap();
    let b = lab.start_with("b", ServerKind::MariaDb, &settings(2, lines)).unwrap();
    let servers = vec![a, b];
    for (server, beds) in servers.iter().zip([4, 5]) {
        server.run(&format!("CREATE TABLE hut (id int PRIMARY KEY, beds int);\nINSERT INTO hut VALUES (1, {beds})")).unwrap();
    }
    let rest = "[set.huts]\ntables = [\"hut\"]\n[authority]\ndefault = \"a\"\n[[link]]\nboth = [\"a\", \"b\"]\ncarries = [\"huts\"]\n";
    let text = topology(&servers, rest);
    let network = Network::new(lab, servers, rest);
    let plan = network.keen(&["plan", "--format", "json"]).json();
    assert_eq!(plan["steps"].as_array().unwrap().len(), 0, "{plan:#}");
    let why = plan["questions"][0]["why"].as_str().unwrap();
    assert!(why.contains("b is a member of a synchronous cluster"), "{why}");
    let run = network.keen(&["flow", "--interval", "1s", "--no-ledger"]);
    assert!(
        run.out.contains("a member of a synchronous cluster, which keen does not check yet"),
        "{run:?}"
    );
    let run = network.keen(&["preflight"]);
    assert!(
        run.out.contains("a member of a synchronous cluster, which keen does not check yet"),
        "{run:?}"
    );
    assert!(!run.out.contains("CHANGE MASTER"), "{run:?}");
    // A script that was made for another server does nothing there.
    std::fs::write(
        network.folder.path("keen.toml"),
        text.replace("default = \"a\"", "default = \"b\""),
    )
    .unwrap();
    let run = network.keen(&["plan", "--format", "sql", "--output", "repair"]);
    assert_eq!(run.code, 1, "{run:?}");
    network.servers[1].run("UPDATE hut SET beds = 4").unwrap();
    let run = network.run_script(1, "repair/a.repair.sql");
    assert!(run.code != 0 && run.err.contains("synchronous cluster"), "{run:?}");
    assert_eq!(texts(&network, "SELECT beds FROM hut"), [["4"], ["4"]]);
}

/// guest 1 is gone at a, which is right, and a stay of hers is on b alone.
const HURT: (&str, &str) = ("DELETE FROM guest WHERE id = 1", "INSERT INTO stay VALUES (50, 1)");

#[test]
fn no_parent_goes_from_under_a_row() {
    for engine in [ServerKind::Postgres18, ServerKind::MariaDb] {
        let network = Network::alike(&[engine, engine]);
        network.replace("\"guest\", \"stay\"", "\"person\", \"night\"");
        network.replace("[[link]]", "[authority]\nperson = \"a\"\nnight = \"ask\"\n[[link]]");
        for server in &network.servers {
            server.run("CREATE TABLE person (id int PRIMARY KEY);\nCREATE TABLE night (id int PRIMARY KEY, person int REFERENCES person (id));\n\
                        CREATE TABLE unlisted (id int PRIMARY KEY, person int REFERENCES person (id));\n\
                        INSERT INTO person VALUES (1), (2), (3);\nINSERT INTO night VALUES (2, 2)").unwrap();
        }
        let [a, b] = &network.servers[..] else { unreachable!() };
        a.run("DELETE FROM person WHERE id = 1").unwrap();
        b.run("INSERT INTO night VALUES (50, 1)").unwrap();
        // The child is asked about: so is the parent.
        let plan = network.keen(&["plan", "--format", "json"]).json();
        assert_eq!(plan["steps"].as_array().unwrap().len(), 0, "{engine:?}: {plan:#}");
        let why = plan["questions"].to_string();
        assert!(why.contains("a row that refers to it stays there"), "{engine:?}: {why}");
        // A row of a table that no set carries is found by the script, which then keeps nothing.
        b.run("DELETE FROM night WHERE id = 50;\nINSERT INTO unlisted VALUES (9, 1)").unwrap();
        a.run("INSERT INTO person VALUES (4)").unwrap();
        let run = network.keen(&["plan", "--format", "sql", "--output", "repair"]);
        assert_eq!(run.code, 1, "{run:?}");
        let run = network.run_script(1, "repair/b.repair.sql");
        assert_ne!(run.code, 0, "{engine:?}: {run:?}");
        let count = |sql: &str| -> i64 {
            if engine.is_postgres() {
                b.postgres().unwrap().query_one(sql, &[]).unwrap().get(0)
            } else {
                b.mariadb().unwrap().query_first(sql).unwrap().unwrap()
            }
        };
        assert_eq!(count("SELECT count(*) FROM person"), 3, "{engine:?}: whole or not at all");
        b.run("DELETE FROM unlisted").unwrap();
        assert_eq!(network.run_script(1, "repair/b.repair.sql").code, 0);
        assert_eq!(count("SELECT count(*) FROM person WHERE id IN (2, 3, 4)"), 3);
    }
    let folder = Folder::mesh(2, &["guest"], "[authority]\ndefault = \"a\"");
    let both = "CREATE TABLE guest (id INTEGER PRIMARY KEY); CREATE TABLE stay (id INTEGER PRIMARY KEY, guest REFERENCES guest); INSERT INTO guest VALUES (1), (2)";
    folder.sql_all(&["a.db", "b.db"], both);
    folder.sql("a.db", HURT.0).sql("b.db", HURT.1);
    assert_eq!(folder.keen(&["plan", "--format", "sql", "--output", "repair"]).code, 1);
    let script = std::fs::read_to_string(folder.path("repair/b.repair.sql")).unwrap();
    let connection = rusqlite::Connection::open(folder.path("b.db")).unwrap();
    let failed = connection.execute_batch(&script);
    assert!(failed.is_err(), "a stay would be left without its guest");
    let guests: i64 = connection.query_row("SELECT count(*) FROM guest", [], |r| r.get(0)).unwrap();
    assert_eq!(guests, 2);
}
