//! Memory is bounded whatever the size of the tables and the number of findings.
//! The test runs itself in a process of its own, so that only its runs of keen are measured.

use crate::common::Folder;
use nix::sys::resource::{UsageWho, getrusage};
use serde_json::json;

/// The most memory that any run of keen in this process has taken, in MiB.
fn peak() -> f64 {
    getrusage(UsageWho::RUSAGE_CHILDREN).unwrap().max_rss() as f64 / 1024.0
}

/// Set in the process that measures.
const ALONE: &str = "KEEN_TEST_ALONE";

#[test]
fn a_million_rows_on_each_of_two_nodes_take_less_than_64_mib() {
    if std::env::var_os(ALONE).is_none() {
        let name = "memory::a_million_rows_on_each_of_two_nodes_take_less_than_64_mib";
        let mut alone = std::process::Command::new(std::env::current_exe().unwrap());
        alone.args(["--exact", name, "--nocapture"]).env(ALONE, "1");
        let output = alone.output().unwrap();
        let said = String::from_utf8_lossy(&output.stdout);
        assert!(output.status.success(), "{said}{}", String::from_utf8_lossy(&output.stderr));
        assert!(said.contains("1 passed"), "{said}");
        return;
    }
    let folder = Folder::mesh(2, &["stay"], "");
    let fill = "PRAGMA journal_mode = WAL; PRAGMA synchronous = OFF;
        CREATE TABLE stay (id INTEGER PRIMARY KEY, name TEXT, note TEXT, price REAL, bed INTEGER, night TEXT);
        WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 1000000)
        INSERT INTO stay SELECT i, 'guest ' || i, 'note about a stay, number ' || i * 1000003, i * 0.25, iif(i % 5, i, NULL), '2026-07-01T12:00:00Z' FROM n;";
    folder.sql("a.db", fill);
    std::fs::copy(folder.path("a.db"), folder.path("b.db")).unwrap();
    let (code, json) = folder.audit_json();
    assert_eq!((code, &json["summary"]["rows"]), (0, &json!(2_000_000)));
    assert!(peak() < 64.0, "{} MiB", peak());

    // Every row divergent, every one of them in the document.
    folder.sql(
        "b.db",
        "UPDATE stay SET price = price + 1 WHERE id <= 400000; DELETE FROM stay WHERE id > 900000",
    );
    let run = folder.keen(&["audit", "--format", "json", "--output", "audit.json"]);
    assert_eq!(run.code, 1);
    let written = std::fs::metadata(folder.path("audit.json")).unwrap().len();
    assert!(written > 64 << 20, "{written} bytes of findings");
    assert_eq!(folder.keen(&["audit"]).code, 1);
    assert!(peak() < 64.0, "{} MiB", peak());
}
