//! Values that must be unique, where an engine takes several texts for one, and where rows exchange them.

use crate::common::servers::Network;
use keen_testkit::{Server, ServerKind};
use mysql::prelude::Queryable;

const RIGHT: &str = "[authority]\ndefault = \"a\"\n[[link]]";

/// The answer to a query, in the server's own words.
fn told(server: &Server, sql: &str) -> Vec<String> {
    if server.engine().is_postgres() {
        let rows = server.postgres().unwrap().simple_query(sql).unwrap();
        let text = |message: &postgres::SimpleQueryMessage| match message {
            postgres::SimpleQueryMessage::Row(row) => {
                let cells: Vec<&str> =
                    (0..row.len()).map(|i| row.get(i).unwrap_or("NULL")).collect();
                Some(cells.join("|"))
            }
            _ => None,
        };
        return rows.iter().filter_map(text).collect();
    }
    let rows: Vec<mysql::Row> = server.mariadb().unwrap().query(sql).unwrap();
    let text = |row: mysql::Row| -> Vec<String> {
        row.unwrap().iter().map(|value| value.as_sql(true)).collect()
    };
    rows.into_iter().map(|row| text(row).join("|")).collect()
}

/// Makes b's tables like a's and back again, by scripts alone.
fn there_and_back(network: &Network, tables: &[&str]) {
    let [a, b] = &network.servers[..] else { unreachable!() };
    let all = |server: &Server| -> Vec<Vec<String>> {
        tables
            .iter()
            .map(|table| told(server, &format!("SELECT * FROM {table} ORDER BY 1, 2")))
            .collect()
    };
    let (right, before) = (all(a), all(b));
    assert_ne!(right, before);
    let run = network.keen(&["plan", "--format", "sql", "--output", "repair"]);
    assert_eq!(run.code, 1, "{run:?}");
    let run = network.run_script(1, "repair/b.repair.sql");
    assert_eq!(run.code, 0, "{run:?}");
    assert_eq!(all(b), right);
    assert_eq!(network.keen(&["audit"]).code, 0);
    let run = network.run_script(1, "repair/b.undo.sql");
    assert_eq!(run.code, 0, "{run:?}");
    assert_eq!(all(b), before);
}

fn pair(engine: ServerKind, tables: &str) -> Network {
    let network = Network::alike(&[engine, engine]);
    network.replace("\"guest\", \"stay\"", tables);
    network.replace("[[link]]", RIGHT);
    network
}

#[test]
fn what_mariadb_takes_for_one_value_goes_before_it_comes() {
    let network = pair(ServerKind::MariaDb, "\"hut\", \"warden\", \"spring\"");
    let [a, b] = &network.servers[..] else { unreachable!() };
    for server in [a, b] {
        server
            .run(
                "CREATE TABLE hut (name varchar(40) COLLATE utf8mb4_unicode_ci PRIMARY KEY, beds int);\n\
                 CREATE TABLE warden (id int PRIMARY KEY, name varchar(40) COLLATE utf8mb4_german2_ci UNIQUE);\n\
                 CREATE TABLE spring (name varchar(40) CHARACTER SET latin1 COLLATE latin1_swedish_ci, hut varchar(40), UNIQUE (hut, name), id int PRIMARY KEY);\n",
            )
            .unwrap();
    }
    a.run("INSERT INTO hut VALUES ('Résumé', 1), ('Straße', 2), ('Æon', 3), ('Col  ', 4)").unwrap();
    b.run("INSERT INTO hut VALUES ('Resume', 3), ('Strasse', 4), ('AEON', 5), ('Col', 4)").unwrap();
    a.run("INSERT INTO warden VALUES (1, 'Müller'), (2, 'Maier'), (3, 'Jöst')").unwrap();
    b.run("INSERT INTO warden VALUES (1, 'Maier'), (2, 'Mueller'), (4, 'Joest')").unwrap();
    a.run("INSERT INTO spring VALUES ('Ödes Loch', 'é', 1), ('Quelle', 'x', 2)").unwrap();
    b.run("INSERT INTO spring VALUES ('quelle', 'X', 1), ('ödes loch', 'E', 2)").unwrap();
    there_and_back(&network, &["hut", "warden", "spring"]);
}

#[test]
fn what_postgresql_takes_for_one_value_goes_before_it_comes() {
    let network = pair(ServerKind::Postgres15, "\"hut\", \"warden\", \"bell\"");
    let [a, b] = &network.servers[..] else { unreachable!() };
    for server in [a, b] {
        server
            .run(
                "CREATE EXTENSION citext;\n\
                 CREATE COLLATION plain (provider = icu, locale = 'und-u-ks-level1', deterministic = false);\n\
                 CREATE TABLE hut (id int PRIMARY KEY, name text COLLATE plain UNIQUE);\n\
                 CREATE TABLE warden (name citext PRIMARY KEY, beds int);\n\
                 CREATE TABLE bell (id int PRIMARY KEY, name text, rings boolean);\n\
                 CREATE UNIQUE INDEX ON bell (name) WHERE rings;\n\
                 GRANT SELECT ON ALL TABLES IN SCHEMA public TO keen;\n",
            )
            .unwrap();
    }
    a.run("INSERT INTO hut VALUES (1, 'Résumé'), (2, 'Maier')").unwrap();
    b.run("INSERT INTO hut VALUES (1, 'maier'), (3, 'resume')").unwrap();
    a.run("INSERT INTO warden VALUES ('ÉMILE', 1), ('Ida', 2)").unwrap();
    b.run("INSERT INTO warden VALUES ('émile', 1), ('IDA', 2)").unwrap();
    // One value may stand in rows of which only one has to hold it alone.
    a.run("INSERT INTO bell VALUES (1, 'big', true), (2, 'big', false)").unwrap();
    b.run("INSERT INTO bell VALUES (1, 'old', true), (2, 'small', false)").unwrap();
    there_and_back(&network, &["hut", "warden", "bell"]);
}

#[test]
fn two_rows_that_would_hold_one_value_are_asked_about() {
    for engine in [ServerKind::MariaDb, ServerKind::Postgres18] {
        let network = Network::alike(&[engine, engine, engine]);
        network.replace("\"guest\", \"stay\"", "\"bunk\"");
        let latest = "[authority]\nbunk = { latest = \"changed\" }\n[[link]]";
        network.replace("[[link]]", latest);
        let rows = [
            "(1, 'window', 5), (2, 'door', 1), (3, 'attic', 9), (4, 'stove', 9)",
            "(1, 'door', 2), (2, 'window', 6), (3, 'stove', 1), (4, 'attic', 1)",
            "(1, 'shelf', 1), (2, 'beam', 1), (3, 'attic', 9), (4, 'stove', 9)",
        ];
        for (server, rows) in network.servers.iter().zip(rows) {
            server
                .run(
                    "CREATE TABLE bunk (id int PRIMARY KEY, place varchar(20) UNIQUE, changed int)",
                )
                .unwrap();
            server.run(&format!("INSERT INTO bunk VALUES {rows}")).unwrap();
            if engine.is_postgres() {
                server.run("GRANT SELECT ON bunk TO keen").unwrap();
            }
        }
        let plan = network.keen(&["plan", "--format", "json"]).json();
        let asked = plan["questions"].as_array().unwrap();
        let why: Vec<&str> = asked.iter().map(|q| q["why"].as_str().unwrap()).collect();
        assert!(
            !asked.is_empty() && asked.iter().all(|q| q["key"]["id"].as_i64().unwrap() < 3),
            "{plan:#}"
        );
        assert!(
            why.iter().any(|why| why.contains("two rows there would have the same unique value")),
            "{why:?}"
        );
        // The two that exchange theirs are put right.
        let run = network.keen(&["plan", "--format", "sql", "--output", "repair"]);
        assert_eq!(run.code, 1, "{run:?}");
        let run = network.run_script(1, "repair/b.repair.sql");
        assert_eq!(run.code, 0, "{run:?}");
        let sql = "SELECT id, place FROM bunk WHERE id > 2 ORDER BY id";
        assert_eq!(told(&network.servers[1], sql), told(&network.servers[0], sql));
        assert!(!network.folder.path("repair/c.repair.sql").exists());
    }
}
