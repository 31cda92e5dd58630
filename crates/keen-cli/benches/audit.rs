//! How long an audit takes, against the floor: a bare scan of the same files.
//!
//! `cargo bench --bench audit` makes two files of a million rows of about 100
//! bytes, differing in 100 rows, and prints medians of five runs. The floor
//! steps through the table in key order and touches every column of every row,
//! in this process; the audit is the built program as a whole, start to end.
//! Floor and audit take turns, so that a machine whose speed drifts drifts for
//! both. Timings are printed and never judged.

#![allow(clippy::print_stdout, missing_docs, reason = "a benchmark prints its figures")]

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use nix::sys::resource::{UsageWho, getrusage};
use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags};
use tempfile::TempDir;

const ROWS: u64 = 1_000_000;
const RUNS: usize = 5;

/// One kind of table, and the order in which it is read.
struct Case {
    name: &'static str,
    table: &'static str,
    order: &'static str,
    end: &'static str,
}

const CASES: [Case; 4] = [
    Case {
        name: "integer key",
        table: "id INTEGER PRIMARY KEY, name TEXT, note TEXT, price REAL, bed INTEGER, night TEXT",
        order: "id",
        end: "",
    },
    Case {
        name: "composite key, WITHOUT ROWID",
        table: "id INTEGER, name TEXT, note TEXT, price REAL, bed INTEGER, night TEXT, PRIMARY KEY (id, name)",
        order: "id, name",
        end: " WITHOUT ROWID",
    },
    Case {
        name: "text key",
        table: "id INTEGER, name TEXT PRIMARY KEY NOT NULL, note TEXT, price REAL, bed INTEGER, night TEXT",
        order: "name",
        end: "",
    },
    Case {
        name: "no key",
        table: "id INTEGER, name TEXT, note TEXT, price REAL, bed INTEGER, night TEXT",
        order: "rowid",
        end: "",
    },
];

fn main() {
    println!(
        "{ROWS} rows of about 100 bytes on each of two nodes, 100 rows differ; medians of {RUNS} runs\n"
    );
    println!(
        "{:<30} {:>10} {:>10} {:>10} {:>14} {:>14} {:>10}",
        "", "one scan", "two scans", "audit", "audit / one", "audit / two", "peak MiB"
    );
    for case in &CASES {
        run(case);
    }
    println!(
        "\n\"one scan\" is the slower of the two files alone, \"two scans\" one file after the other."
    );
    println!(
        "The peak is the largest process so far. Without a key the rows have to be sorted, which the bare scan does not do."
    );
}

fn run(case: &Case) {
    let folder = TempDir::new().expect("a folder for the files");
    for (file, seed) in [("a.db", 0), ("b.db", 100)] {
        make(&folder.path().join(file), case, seed);
    }
    let topology = "name = \"bench\"\n[node.a]\nat = \"sqlite:a.db\"\nwrites = true\n[node.b]\nat = \"sqlite:b.db\"\nwrites = true\n\
        [set.s]\ntables = [\"stay\"]\n[[link]]\nmesh = [\"a\", \"b\"]\ncarries = [\"s\"]\n";
    std::fs::write(folder.path().join("keen.toml"), topology).expect("the topology file");
    let (mut one, mut two, mut audit) = (Vec::new(), Vec::new(), Vec::new());
    let mut one_ratio = Vec::new();
    let mut two_ratio = Vec::new();
    for counted in 0..=RUNS {
        let a = scan(&folder.path().join("a.db"), case);
        let b = scan(&folder.path().join("b.db"), case);
        let whole = keen(folder.path());
        if counted == 0 {
            continue; // warms the page cache
        }
        one.push(a.max(b));
        two.push(a + b);
        audit.push(whole);
        one_ratio.push(whole.as_secs_f64() / a.max(b).as_secs_f64());
        two_ratio.push(whole.as_secs_f64() / (a + b).as_secs_f64());
    }
    let peak = getrusage(UsageWho::RUSAGE_CHILDREN).map_or(0, |usage| usage.max_rss());
    println!(
        "{:<30} {:>8.3} s {:>8.3} s {:>8.3} s {:>14.2} {:>14.2} {:>10.1}",
        case.name,
        median(&mut one).as_secs_f64(),
        median(&mut two).as_secs_f64(),
        median(&mut audit).as_secs_f64(),
        median_of(&mut one_ratio),
        median_of(&mut two_ratio),
        peak as f64 / 1024.0
    );
}

fn make(path: &Path, case: &Case, differing: u64) {
    let connection = Connection::open(path).expect("a new file");
    connection
        .execute_batch(&format!(
            "PRAGMA journal_mode = WAL; PRAGMA synchronous = OFF; CREATE TABLE stay ({}){};
             WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {ROWS})
             INSERT INTO stay SELECT i, printf('guest %08d', i * 7919 % 1000003), printf('note about a stay, number %020d', i), i * 0.25,
                iif(i % 5, i % 40, NULL), '2026-07-01T12:00:00Z' FROM n;
             UPDATE stay SET price = price + 1 WHERE id % {ROWS} < {differing};",
            case.table, case.end
        ))
        .expect("the rows");
}

/// Steps through the table and touches every column of every row.
fn scan(path: &Path, case: &Case) -> Duration {
    let start = Instant::now();
    let connection =
        Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY).expect("the file");
    let mut statement = connection
        .prepare(&format!("SELECT * FROM stay ORDER BY {}", case.order))
        .expect("the scan");
    let columns = statement.column_count();
    let mut rows = statement.query([]).expect("the scan");
    let mut touched = 0usize;
    while let Some(row) = rows.next().expect("a row") {
        for i in 0..columns {
            touched += match row.get_ref(i).expect("a column") {
                ValueRef::Null => 1,
                ValueRef::Integer(v) => v as usize & 7,
                ValueRef::Real(v) => v as usize & 7,
                ValueRef::Text(v) | ValueRef::Blob(v) => v.len(),
            };
        }
    }
    std::hint::black_box(touched);
    start.elapsed()
}

fn keen(folder: &Path) -> Duration {
    let start = Instant::now();
    let status = Command::new(env!("CARGO_BIN_EXE_keen"))
        .args(["audit", "--format", "json"])
        .current_dir(folder)
        .stdout(Stdio::null())
        .status()
        .expect("keen runs");
    assert_eq!(status.code(), Some(1), "the files differ");
    start.elapsed()
}

fn median(runs: &mut [Duration]) -> Duration {
    runs.sort();
    runs[runs.len() / 2]
}

fn median_of(ratios: &mut [f64]) -> f64 {
    ratios.sort_by(f64::total_cmp);
    ratios[ratios.len() / 2]
}
