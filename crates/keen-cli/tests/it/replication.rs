//! Real replication that goes wrong while every status is healthy, found and mended.

use crate::common::servers::{Network, PATIENCE, STAYS};
use keen_testkit::{ServerKind, ServerLab, huts, links};
use mysql::prelude::Queryable;

/// The swapped values of one row are found; the scripts of the plan, run while replication is on,
/// leave all nodes equal, and they stay so.
fn found_and_mended(network: &Network, expected: &[(&str, &str)], settle: impl Fn()) {
    let run = network.keen(&["audit", "--format", "json"]);
    assert_eq!(run.code, 1, "{run:?}");
    let found = run.json();
    let stay = &found["tables"][1];
    assert_eq!(stay["divergent_total"], 1, "{found}");
    assert_eq!(stay["divergent"][0]["key"]["id"], 2);
    assert_eq!(stay["divergent"][0]["columns"], serde_json::json!(["beds"]));
    for (node, beds) in expected {
        let versions = stay["divergent"][0]["versions"].as_array().unwrap();
        let held =
            versions.iter().find(|v| v["nodes"].as_array().unwrap().contains(&(*node).into()));
        assert_eq!(held.unwrap()["row"]["beds"].to_string(), *beds, "{node}");
    }

    let text = std::fs::read_to_string(network.folder.path("keen.toml")).unwrap();
    std::fs::write(network.folder.path("keen.toml"), text + "[authority]\ndefault = \"a\"\n")
        .unwrap();
    let run = network.keen(&["plan", "--format", "sql", "--output", "plan"]);
    assert_eq!(run.code, 1, "{run:?}");
    let mut scripts = 0;
    for (i, _) in network.servers.iter().enumerate() {
        let script = format!("plan/{}.repair.sql", crate::common::node_name(i));
        if network.folder.path(&script).exists() {
            let run = network.run_script(i, &script);
            assert_eq!(run.code, 0, "{run:?}");
            scripts += 1;
        }
    }
    assert!(scripts > 0);
    for _ in 0..2 {
        let run = network.keen(&["audit"]);
        assert_eq!(run.code, 0, "{run:?}");
        settle(); // nothing that was done comes back to another node
    }

    // Applications go on writing, and it travels.
    network.servers[0].run("UPDATE stay SET beds = 6 WHERE id = 2").unwrap();
    settle();
    let run = network.keen(&["audit"]);
    assert_eq!(run.code, 0, "{run:?}");

    // Run again, the scripts meet other rows than they expect, and do nothing.
    for (i, server) in network.servers.iter().enumerate() {
        let script = format!("plan/{}.repair.sql", crate::common::node_name(i));
        if network.folder.path(&script).exists() {
            let run = network.run_script(i, &script);
            assert_ne!(run.code, 0, "{server:?} {run:?}");
            assert!(run.err.contains("no longer what the audit saw"), "{run:?}");
        }
    }
    settle();
    let run = network.keen(&["audit"]);
    assert_eq!(run.code, 0, "{run:?}");
}

#[test]
fn values_swapped_between_mariadb_peers_are_found_and_mended() {
    let network = Network::mariadb_mesh();
    assert_eq!(network.keen(&["audit"]).code, 0);
    let all = |sql: &str| network.servers.iter().for_each(|server| server.run(sql).unwrap());
    all("STOP ALL SLAVES");
    network.servers[0].run("UPDATE stay SET beds = 3 WHERE id = 2").unwrap();
    network.servers[1].run("UPDATE stay SET beds = 5 WHERE id = 2").unwrap();
    network.servers.iter().for_each(|server| links::mariadb_start_all(server).unwrap());
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();

    // Every status is healthy, once both halves of each connection have begun.
    for server in &network.servers {
        let mut client = server.mariadb().unwrap();
        links::until(PATIENCE, "a connection does not run", || {
            let rows: Vec<mysql::Row> = client.query("SHOW ALL SLAVES STATUS").unwrap();
            assert_eq!(rows.len(), 2);
            let runs = |row: &mysql::Row, half: &str| row.get::<String, _>(half).unwrap() == "Yes";
            let both =
                |row: &mysql::Row| runs(row, "Slave_IO_Running") && runs(row, "Slave_SQL_Running");
            Ok(rows.iter().all(both))
        })
        .unwrap();
    }
    found_and_mended(&network, &[("a", "5"), ("b", "3")], || {
        links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    });
}

#[test]
fn values_swapped_between_postgresql_peers_are_found_and_mended() {
    let network = Network::postgres_peers();
    assert_eq!(network.keen(&["audit"]).code, 0);
    let each = |sql: fn(&str) -> String| {
        network.servers[0].run(&sql("from_1_to_0")).unwrap();
        network.servers[1].run(&sql("from_0_to_1")).unwrap();
    };
    each(|name| format!("ALTER SUBSCRIPTION {name} DISABLE"));
    network.servers[0].run("UPDATE stay SET beds = 3 WHERE id = 2").unwrap();
    network.servers[1].run("UPDATE stay SET beds = 5 WHERE id = 2").unwrap();
    each(|name| format!("ALTER SUBSCRIPTION {name} ENABLE"));
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    for server in &network.servers {
        let sql = "SELECT count(*) FROM pg_stat_subscription WHERE pid IS NOT NULL AND worker_type = 'apply'";
        let workers: i64 = server.postgres().unwrap().query_one(sql, &[]).unwrap().get(0);
        assert_eq!(workers, 1);
    }
    found_and_mended(&network, &[("a", "5"), ("b", "3")], || {
        links::postgres_settled(&network.servers, PATIENCE).unwrap();
    });
}

#[test]
fn a_filtered_subscriber_is_equal_under_its_filter_and_columns() {
    let lab = ServerLab::new().unwrap();
    let engine = ServerKind::Postgres15;
    let servers =
        lab.start_all(&[("valley", engine), ("saddle", engine), ("cirque", engine)]).unwrap();
    servers.iter().for_each(|server| huts::tables(server).unwrap());
    huts::rows(&servers[0]).unwrap();
    links::publish(&servers[0], "stays", "guest, stay").unwrap();
    let notices = "trail_notice (id, hut, body, published) WHERE (published = 1)";
    // The filter names a column that is no part of the key, so it has to be in the identity.
    servers[0].run("CREATE UNIQUE INDEX by_state ON trail_notice (id, published)").unwrap();
    servers[0].run("ALTER TABLE trail_notice REPLICA IDENTITY USING INDEX by_state").unwrap();
    links::publish(&servers[0], "notices", notices).unwrap();
    links::subscribe(&servers[1], &servers[0], "to_saddle", "stays", "copy_data = true").unwrap();
    links::subscribe(&servers[2], &servers[0], "to_cirque", "notices", "copy_data = true").unwrap();
    links::postgres_settled(&servers, PATIENCE).unwrap();
    let rest = format!(
        "{STAYS}[set.notices]\ntables = [\"trail_notice\"]\nwhere = \"published = 1\"\nwithout = [\"draft_note\"]\n\
         [[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"stays\"]\n\
         [[link]]\nfrom = \"a\"\nto = \"c\"\ncarries = [\"notices\"]\n"
    );
    let network = Network::new(lab, servers, &rest);
    let run = network.keen(&["audit"]);
    assert_eq!(run.code, 0, "{run:?}");

    // More is written, published and taken back; the subscriber follows.
    network.servers[0]
        .run("INSERT INTO trail_notice VALUES (4, 'Cirque Hut', 'Wasps', 1, 'really?'), (5, 'Col', 'Quiet', 0, NULL);\nUPDATE trail_notice SET published = 1 - published WHERE id IN (1, 2);\n")
        .unwrap();
    links::postgres_settled(&network.servers[..1], PATIENCE).unwrap();
    let run = network.keen(&["audit"]);
    assert_eq!(run.code, 0, "{run:?}");

    // What is wrong at the subscriber is found, and what it never should hold is not missed.
    network.servers[2].run("UPDATE trail_notice SET body = 'changed here' WHERE id = 3").unwrap();
    let run = network.keen(&["audit", "--format", "json"]);
    assert_eq!(run.code, 1);
    let found = run.json();
    let table =
        found["tables"].as_array().unwrap().iter().find(|t| t["table"] == "trail_notice").unwrap();
    assert_eq!(
        (table["divergent_total"].as_u64(), &table["divergent"][0]["key"]["id"]),
        (Some(1), &3.into())
    );
}

#[test]
fn three_engines_are_compared_and_mended_from_each_other() {
    let network =
        Network::alike(&[ServerKind::MariaDb, ServerKind::Postgres15, ServerKind::Postgres18]);
    let run = network.keen(&["audit"]);
    assert_eq!(run.code, 0, "{run:?}");
    network.servers[1].run("UPDATE guest SET member = NOT member WHERE id = 2").unwrap();
    network.servers[2].run("DELETE FROM stay WHERE id = 1").unwrap();
    network.servers[0].run("INSERT INTO stay VALUES (9, 1, 'Cöl''s', 2, 10.5, '2026-08-01', '2026-05-02 07:31:00.5')").unwrap();
    let run = network.keen(&["audit"]);
    assert_eq!(run.code, 1, "{run:?}");

    // The majority has it, and each engine takes the values of the others.
    let text = std::fs::read_to_string(network.folder.path("keen.toml")).unwrap();
    std::fs::write(network.folder.path("keen.toml"), text + "[authority]\ndefault = \"a\"\n")
        .unwrap();
    let run = network.keen(&["plan", "--format", "sql", "--output", "plan"]);
    assert_eq!(run.code, 1, "{run:?}");
    for (i, name) in [(1, "b"), (2, "c")] {
        let run = network.run_script(i, &format!("plan/{name}.repair.sql"));
        assert_eq!(run.code, 0, "{run:?}");
    }
    assert_eq!(network.keen(&["audit"]).code, 0);
    for (i, name) in [(1, "b"), (2, "c")] {
        let run = network.run_script(i, &format!("plan/{name}.undo.sql"));
        assert_eq!(run.code, 0, "{run:?}");
    }
    let run = network.keen(&["audit", "--format", "json"]);
    assert_eq!(run.json()["summary"]["divergent_rows"], 3, "{run:?}");
}
