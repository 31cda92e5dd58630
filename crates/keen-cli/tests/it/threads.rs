//! Several sessions side by side find what one finds.

use crate::common::servers::{Network, STAYS};
use crate::common::{Folder, Run};
use keen_testkit::ServerKind;
use serde_json::Value as Json;

/// The findings, without the parts that differ from run to run.
fn tables(run: &Run) -> Json {
    assert_eq!(run.code, 1, "{run:?}");
    run.json()["tables"].clone()
}

const CHANGES: [&str; 3] = [
    "UPDATE reading SET note = 'changed' WHERE id % 9973 = 1",
    "DELETE FROM reading WHERE id IN (1, 15000, 30001, 60000)",
    "INSERT INTO reading VALUES (-5, 'before all'), (9000000000, 'after all')",
];

#[test]
fn segments_of_server_tables_add_up_to_the_whole() {
    let network =
        Network::alike(&[ServerKind::MariaDb, ServerKind::Postgres15, ServerKind::Postgres18]);
    for (server, change) in network.servers.iter().zip(CHANGES) {
        let numbers = if server.engine().is_postgres() {
            "generate_series(1, 60000) AS s (seq)"
        } else {
            "seq_1_to_60000"
        };
        server
            .run(&format!(
                "CREATE TABLE reading (id bigint PRIMARY KEY, note varchar(200) NOT NULL);\n\
                 INSERT INTO reading SELECT seq, 'weather' FROM {numbers};\n{change}"
            ))
            .unwrap();
    }
    let path = network.folder.path("keen.toml");
    let text = std::fs::read_to_string(&path).unwrap();
    std::fs::write(
        path,
        text.replacen(STAYS, "[set.stays]\ntables = [\"reading\", \"guest\"]\n", 1),
    )
    .unwrap();

    let one = network.keen(&["audit", "--format", "json"]);
    let many = network.keen(&["audit", "--format", "json", "--threads", "4", "-v"]);
    assert!(
        many.err.contains("table reading: merged in key order, 4 segments side by side"),
        "{}",
        many.err
    );
    assert!(many.err.contains("table guest: merged in key order\n"), "{}", many.err);
    assert_eq!(tables(&one), tables(&many));
    assert_eq!(one.json()["tables"][0]["divergent_total"], 7 + 3 + 2);
    // Fewer shown is fewer shown, in key order.
    let few = network.keen(&["audit", "--format", "json", "--threads", "4", "--show", "2"]);
    assert_eq!(few.json()["tables"][0]["divergent"][0]["key"]["id"], -5);
    assert_eq!(few.json()["tables"][0]["divergent"][1]["key"]["id"], 1);

    // A server that is written to all the while may not promise one moment to several sessions.
    let writing = std::sync::atomic::AtomicBool::new(true);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let mut client = network.servers[0].mariadb().unwrap();
            let mut n = 100;
            while writing.load(std::sync::atomic::Ordering::Relaxed) {
                n += 1;
                let sql = format!("INSERT INTO trail_notice VALUES ({n}, 'h', 'b', 1, NULL)");
                mysql::prelude::Queryable::query_drop(&mut client, sql).unwrap();
            }
        });
        let run = network.keen(&["audit", "--format", "json", "--threads", "4"]);
        writing.store(false, std::sync::atomic::Ordering::Relaxed);
        assert_eq!(tables(&run), tables(&one));
    });
}

#[test]
fn segments_of_files_add_up_to_the_whole() {
    let folder = Folder::mesh(3, &["reading"], "");
    for (file, change) in ["a.db", "b.db", "c.db"].into_iter().zip(CHANGES) {
        folder.sql(
            file,
            &format!(
                "PRAGMA journal_mode = WAL; CREATE TABLE reading (id INTEGER PRIMARY KEY, note TEXT NOT NULL);
                 WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 60000)
                 INSERT INTO reading SELECT i, 'weather' FROM n; {change}"
            ),
        );
    }
    let one = folder.keen(&["audit", "--format", "json"]);
    let many = folder.keen(&["audit", "--format", "json", "--threads", "3", "-v"]);
    assert!(many.err.contains("3 segments side by side"), "{}", many.err);
    assert_eq!(tables(&one), tables(&many));
}

#[test]
fn a_rate_is_kept() {
    let folder = Folder::mesh(2, &["reading"], "");
    folder.sql_all(
        &["a.db", "b.db"],
        "CREATE TABLE reading (id INTEGER PRIMARY KEY, note TEXT NOT NULL);
         WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20000)
         INSERT INTO reading SELECT i, 'weather' FROM n",
    );
    for rate in ["20000rows", "700kB", "10000rows/s"] {
        let began = std::time::Instant::now();
        assert_eq!(folder.keen(&["audit", "--rate", rate]).code, 0);
        assert!(
            began.elapsed() > std::time::Duration::from_millis(600),
            "{rate}: {:?}",
            began.elapsed()
        );
    }
    for wrong in ["fast", "0rows", "5", "-1MB", "3 furlongs"] {
        let run = folder.keen(&["audit", "--rate", wrong]);
        assert_eq!(run.code, 2, "{run:?}");
    }
}
