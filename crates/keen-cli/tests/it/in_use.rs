//! Nodes in use: read as of one moment, never disturbed, whatever happens to keen.

use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use crate::common::Folder;
use rusqlite::Connection;

const ROWS: &str =
    "CREATE TABLE account (id INTEGER PRIMARY KEY, balance INTEGER NOT NULL, pad TEXT);
    WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 60000)
    INSERT INTO account SELECT i, 100, hex(zeroblob(20)) FROM n;";

fn two_files(journal: &str) -> Folder {
    let folder = Folder::mesh(2, &["account"], "");
    folder.sql_all(
        &["a.db", "b.db"],
        &format!("PRAGMA journal_mode = {journal}; PRAGMA synchronous = OFF; {ROWS}"),
    );
    folder
}

#[test]
fn quiet_files_are_left_without_a_trace() {
    for journal in ["WAL", "DELETE", "TRUNCATE"] {
        let folder = two_files(journal);
        let before = folder.snapshot();
        assert_eq!(folder.keen(&["audit"]).code, 0, "{journal}");
        assert_eq!(folder.keen(&["plan"]).code, 0, "{journal}");
        assert_eq!(folder.snapshot(), before, "{journal}");
    }
}

/// Moves money between two far rows of both files alike, so that any one moment
/// of a file has the same total; torn reads would not.
fn transfer(connection: &Connection, n: u32) {
    connection
        .execute_batch(&format!(
            "PRAGMA synchronous = OFF; BEGIN IMMEDIATE;
             UPDATE account SET balance = balance - 1 WHERE id = {};
             UPDATE account SET balance = balance + 1 WHERE id = {}; COMMIT",
            1 + n % 30000,
            60000 - n % 30000
        ))
        .unwrap();
}

/// Lets the writer stop, also when the audits failed their test.
struct Done<'a>(&'a AtomicBool);

impl Drop for Done<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// Audits the two files some times; each audit is complete and saw each file at one moment.
fn audits_see_one_moment(folder: &Folder, times: u32) {
    for _ in 0..times {
        let run = folder.keen(&["audit", "--format", "json"]);
        let json = run.json();
        assert_eq!(json["complete"], serde_json::json!(true), "{json}");
        assert!(run.code == 0 || run.code == 1, "the two files are read at two moments");
        let rows = json["tables"][0]["divergent"].as_array().unwrap();
        let balance = |row: &serde_json::Value, node: &str| {
            let version =
                row["versions"].as_array().unwrap().iter().find(|v| v["nodes"][0] == node).unwrap();
            version["row"]["balance"].as_i64().unwrap()
        };
        let difference: i64 = rows.iter().map(|row| balance(row, "a") - balance(row, "b")).sum();
        assert_eq!(difference, 0, "each file has the same total at any one moment");
        assert_eq!(json["tables"][0]["rows"], serde_json::json!({"a": 60000, "b": 60000}));
    }
}

#[test]
fn a_file_with_a_writer_at_work_is_read_as_of_one_moment() {
    let folder = two_files("WAL");
    let done = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let writer = scope.spawn(|| {
            let connections = ["a.db", "b.db"].map(|f| Connection::open(folder.path(f)).unwrap());
            let mut writes = 0u32;
            let mut longest = Duration::ZERO;
            while !done.load(Ordering::Relaxed) || writes < 50 {
                for connection in &connections {
                    let start = Instant::now();
                    transfer(connection, writes);
                    longest = longest.max(start.elapsed());
                }
                writes += 1;
            }
            longest
        });
        let finished = Done(&done);
        audits_see_one_moment(&folder, 5);
        drop(finished);
        let longest = writer.join().unwrap();
        assert!(longest < Duration::from_secs(5), "no write waited for the audit's lock");
    });
    // The writer has gone and both files hold the same again.
    assert_eq!(folder.keen(&["audit"]).code, 0);
}

#[test]
fn writers_that_come_and_go_neither_wait_nor_keep_the_file_from_being_read() {
    let folder = two_files("WAL");
    let done = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let writer = scope.spawn(|| {
            let mut writes = 0u32;
            while !done.load(Ordering::Relaxed) || writes < 20 {
                for file in ["a.db", "b.db"] {
                    // Opened and closed for each write: mostly nobody has the file open.
                    let connection = Connection::open(folder.path(file)).unwrap();
                    connection.busy_timeout(Duration::from_secs(5)).unwrap();
                    transfer(&connection, writes);
                }
                writes += 1;
                std::thread::sleep(Duration::from_millis(5 + u64::from(writes % 7)));
            }
        });
        let finished = Done(&done);
        audits_see_one_moment(&folder, 10);
        drop(finished);
        writer.join().unwrap();
    });
    assert_eq!(folder.keen(&["audit"]).code, 0);
}

fn start(folder: &Folder) -> Child {
    Command::new(env!("CARGO_BIN_EXE_keen"))
        .args(["audit", "--format", "json", "--output", "audit.json"])
        .current_dir(folder.root())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap()
}

fn signal(child: &Child, name: &str) {
    Command::new("kill").args([&format!("-{name}"), &child.id().to_string()]).status().unwrap();
}

#[test]
fn killing_keen_at_any_time_leaves_the_nodes_as_they_were() {
    let folder = two_files("WAL");
    let before = folder.snapshot();
    for wait in [0, 2, 5, 10, 20, 40] {
        let mut child = start(&folder);
        std::thread::sleep(Duration::from_millis(wait));
        signal(&child, "KILL");
        child.wait().unwrap();
        for (path, bytes) in &before {
            assert_eq!(&std::fs::read(path).unwrap(), bytes, "{}", path.display());
        }
        let databases = |name: &str| folder.path(name).exists();
        assert!(!databases("a.db-wal") && !databases("a.db-shm"));
    }
    assert_eq!(folder.keen(&["audit"]).code, 0, "and nothing is locked");
}

#[test]
fn an_interrupted_audit_says_so_and_ends_at_once() {
    let folder = Folder::mesh(2, &["account"], "");
    // A filter that takes for ever: the interruption has to reach into the engine.
    let text = crate::common::mesh_text(2, &["account"], "").replace(
        "tables = [\"account\"]",
        "tables = [\"account\"]\nwhere = \"(WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT count(*) FROM n) > 0\"",
    );
    std::fs::write(folder.path("keen.toml"), text).unwrap();
    folder.sql_all(
        &["a.db", "b.db"],
        "CREATE TABLE account (id INTEGER PRIMARY KEY); INSERT INTO account VALUES (1)",
    );
    for name in ["INT", "TERM"] {
        let mut child = start(&folder);
        std::thread::sleep(Duration::from_millis(1000));
        signal(&child, name);
        let begun = Instant::now();
        let status = child.wait().unwrap();
        assert!(begun.elapsed() < Duration::from_secs(10));
        assert_eq!(status.code(), Some(130), "{name}");
        let json: serde_json::Value =
            serde_json::from_slice(&std::fs::read(folder.path("audit.json")).unwrap()).unwrap();
        assert_eq!(
            (&json["complete"], &json["interrupted"]),
            (&false.into(), &true.into()),
            "{json}"
        );
        assert_eq!(json["tables"][0]["verdict"], "unread");
    }
}
