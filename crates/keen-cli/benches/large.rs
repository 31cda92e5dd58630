//! Memory for things that are large in an unusual way: very long cells, transactions of very many changes, plans of
//! very many steps, very many small tables.
//!
//! `cargo bench --bench large` runs every case in a process of its own, so that the peak of one is not hidden
//! behind that of another. Figures are printed and never judged.

#![allow(clippy::print_stdout, missing_docs, reason = "a benchmark prints its figures")]

use std::fmt::Write as _;
use std::io::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use nix::sys::resource::{UsageWho, getrusage};
use rusqlite::Connection;
use tempfile::TempDir;

const CELL: usize = 200 << 20;
const CHANGES: u64 = 1_000_000;
const TABLES: usize = 2000;

/// Name of a case, and what it does in a folder.
type Case = (&'static str, fn(&Path));

const CASES: [Case; 17] = [
    ("audit, one cell of 200 MiB differs between two nodes", |folder| {
        cells(folder);
        keen(folder, &["audit", "--no-ledger"]);
    }),
    ("the same, as JSON", |folder| {
        cells(folder);
        keen(folder, &["audit", "--no-ledger", "--format", "json"]);
    }),
    ("plan of the same", |folder| {
        cells(folder);
        keen(folder, &["plan"]);
    }),
    ("plan of the same, as scripts", |folder| {
        cells(folder);
        keen(folder, &["plan", "--format", "sql", "--output", "scripts"]);
    }),
    ("plan of 100 000 steps, 3 narrow columns", |folder| {
        rows(folder, 100_000, 3, 8);
        keen(folder, &["plan", "--limit", "1000000"]);
    }),
    ("plan of a million steps, 3 narrow columns", |folder| {
        rows(folder, 1_000_000, 3, 8);
        keen(folder, &["plan", "--limit", "1000000"]);
    }),
    ("the same, as JSON", |folder| {
        rows(folder, 1_000_000, 3, 8);
        keen(folder, &["plan", "--limit", "1000000", "--format", "json"]);
    }),
    ("the same, as scripts", |folder| {
        rows(folder, 1_000_000, 3, 8);
        keen(folder, &["plan", "--limit", "1000000", "--format", "sql", "--output", "scripts"]);
    }),
    ("the same, from the audit as JSON", |folder| {
        rows(folder, 1_000_000, 3, 8);
        keen(folder, &["audit", "--no-ledger", "--format", "json", "--output", "audit.json"]);
        keen(folder, &["plan", "--limit", "1000000", "--audit", "audit.json"]);
    }),
    ("plan of a million questions, 3 narrow columns", |folder| {
        rows(folder, 1_000_000, 3, 8);
        let text = std::fs::read_to_string(folder.join("keen.toml")).expect("the topology file");
        let text = text.replace("default = \"a\"", "default = \"ask\"");
        std::fs::write(folder.join("keen.toml"), text).expect("the topology file");
        keen(folder, &["plan", "--limit", "1000000"]);
    }),
    (
        "plan of a million insertions, half of them of children of the others, by text keys",
        |folder| {
            families(folder, 500_000);
            keen(folder, &["plan", "--limit", "1000000"]);
        },
    ),
    ("plan of a million steps, of which each two exchange a unique value", |folder| {
        exchanged(folder, 1_000_000);
        keen(folder, &["plan", "--limit", "1000000"]);
    }),
    ("plan of 100 000 steps, 40 columns of 60 bytes", |folder| {
        rows(folder, 100_000, 40, 60);
        keen(folder, &["plan", "--limit", "1000000"]);
    }),
    ("conflicts, one transaction of a million changes in two exported journals", |folder| {
        journals(folder);
        keen(folder, &["conflicts", "--no-ledger"]);
    }),
    (
        "conflicts, 50 000 transactions in two exported journals, a table of 3 columns beside",
        |folder| {
            beside(folder, 3);
            keen(folder, &["conflicts", "--no-ledger"]);
        },
    ),
    ("the same, a table of 900 columns beside, which none of them touches", |folder| {
        beside(folder, 900);
        keen(folder, &["conflicts", "--no-ledger"]);
    }),
    ("audit of 2000 tables of two rows, two nodes", |folder| {
        tables(folder);
        keen(folder, &["audit", "--no-ledger"]);
    }),
];

fn main() {
    if let Some(case) = std::env::args().skip(1).find_map(|arg| arg.parse::<usize>().ok()) {
        let folder = TempDir::new().expect("a folder");
        return CASES[case].1(folder.path());
    }
    println!("{:<75} {:>10} {:>10}", "", "time", "peak MiB");
    for case in 0..CASES.len() {
        let own = std::env::current_exe().expect("this program");
        let status = Command::new(own).arg(case.to_string()).status();
        assert!(status.expect("it runs").success());
    }
}

fn keen(folder: &Path, args: &[&str]) {
    let began = Instant::now();
    let status = Command::new(env!("CARGO_BIN_EXE_keen"))
        .args(args)
        .current_dir(folder)
        .stdout(Stdio::null())
        .status()
        .expect("keen runs");
    assert!(matches!(status.code(), Some(0 | 1 | 3)), "{status}");
    say(began.elapsed());
}

fn say(took: Duration) {
    let number = std::env::args().skip(1).find_map(|arg| arg.parse::<usize>().ok());
    let peak = getrusage(UsageWho::RUSAGE_CHILDREN).map_or(0, |usage| usage.max_rss());
    println!(
        "{:<75} {:>8.2} s {:>10.1}",
        number.map_or("", |number| CASES[number].0),
        took.as_secs_f64(),
        peak as f64 / 1024.0
    );
}

fn topology(folder: &Path, tables: &[String], journals: bool) {
    let mut text = String::from("name = \"bench\"\n");
    for node in ["a", "b"] {
        let _ = writeln!(text, "[node.{node}]\nat = \"sqlite:{node}.db\"\nwrites = true");
        if journals {
            let _ = writeln!(text, "journal = \"{node}.ndjson\"");
        }
    }
    let names: Vec<String> = tables.iter().map(|table| format!("\"{table}\"")).collect();
    let _ = write!(
        text,
        "[set.s]\ntables = [{}]\n[authority]\ndefault = \"a\"\n[[link]]\nmesh = [\"a\", \"b\"]\ncarries = [\"s\"]\n",
        names.join(", ")
    );
    std::fs::write(folder.join("keen.toml"), text).expect("the topology file");
}

fn files(folder: &Path, sql: impl Fn(u32) -> String) {
    for (number, node) in (0..).zip(["a", "b"]) {
        let connection = Connection::open(folder.join(format!("{node}.db"))).expect("a new file");
        let sql = format!("PRAGMA synchronous = OFF; BEGIN; {}; COMMIT", sql(number));
        connection.execute_batch(&sql).expect("the rows");
    }
}

fn cells(folder: &Path) {
    topology(folder, &["photo".to_owned()], false);
    files(folder, |_| "CREATE TABLE photo (id INTEGER PRIMARY KEY, picture BLOB)".to_owned());
    for (byte, node) in (0..).zip(["a", "b"]) {
        let connection = Connection::open(folder.join(format!("{node}.db"))).expect("the file");
        let picture = vec![byte; CELL];
        connection.execute("INSERT INTO photo VALUES (1, ?1)", [picture]).expect("the row");
    }
}

fn rows(folder: &Path, rows: u64, columns: usize, width: usize) {
    topology(folder, &["stay".to_owned()], false);
    let names: Vec<String> = (0..columns).map(|n| format!("c{n} TEXT")).collect();
    let cells: Vec<String> =
        (0..columns).map(|n| format!("printf('%0{width}d', i + {n})")).collect();
    files(folder, |number| {
        format!(
            "CREATE TABLE stay (id INTEGER PRIMARY KEY, beds INTEGER, {});
             WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {rows})
             INSERT INTO stay SELECT i, {number}, {} FROM n",
            names.join(", "),
            cells.join(", ")
        )
    });
}

/// Parents and as many children that only one node has.
fn families(folder: &Path, parents: u64) {
    topology(folder, &["guest".to_owned(), "stay".to_owned()], false);
    files(folder, |number| {
        let rows = if number == 0 { parents } else { 0 };
        format!(
            "CREATE TABLE guest (name TEXT PRIMARY KEY, member INTEGER) WITHOUT ROWID;
             CREATE TABLE stay (code TEXT PRIMARY KEY, guest TEXT REFERENCES guest (name)) WITHOUT ROWID;
             WITH RECURSIVE n (i) AS (SELECT 1 WHERE {rows} > 0 UNION ALL SELECT i + 1 FROM n WHERE i < {rows})
             INSERT INTO guest SELECT printf('Guest %08d', i), 1 FROM n;
             INSERT INTO stay SELECT printf('Stay of %s', name), name FROM guest"
        )
    });
}

/// Rows of which each two hold each other's unique value.
fn exchanged(folder: &Path, rows: u64) {
    topology(folder, &["bed".to_owned()], false);
    files(folder, |number| {
        let code = if number == 0 { "i" } else { "i + 1 - 2 * ((i + 1) % 2)" };
        format!(
            "CREATE TABLE bed (id INTEGER PRIMARY KEY, code INTEGER NOT NULL UNIQUE);
             WITH RECURSIVE n (i) AS (SELECT 2 UNION ALL SELECT i + 1 FROM n WHERE i <= {rows})
             INSERT INTO bed SELECT i, {code} FROM n"
        )
    });
}

fn journals(folder: &Path) {
    topology(folder, &["stay".to_owned()], true);
    files(folder, |_| "CREATE TABLE stay (id INTEGER PRIMARY KEY, bed INTEGER)".to_owned());
    for node in ["a", "b"] {
        let file = std::fs::File::create(folder.join(format!("{node}.ndjson"))).expect("a file");
        let mut out = std::io::BufWriter::new(file);
        let mut write = || -> std::io::Result<()> {
            writeln!(
                out,
                r#"{{"keen": "journal", "version": 2, "node": "{node}", "since": {{}}, "tables": {{"stay": {{"columns": ["id", "bed"], "key": ["id"]}}}}}}"#
            )?;
            write!(
                out,
                r#"{{"origin": "a", "number": 5, "time": "2026-09-25T09:00:00Z", "changes": ["#
            )?;
            for id in 0..CHANGES {
                let comma = if id == 0 { "" } else { "," };
                write!(
                    out,
                    r#"{comma}{{"table": "stay", "op": "update", "before": {{"id": {id}, "bed": 1}}, "after": {{"id": {id}, "bed": 3}}}}"#
                )?;
            }
            writeln!(out, "]}}")
        };
        write().expect("the journal");
    }
}

/// Very many transactions of one table, and another table of so many columns that is in the set, too.
fn beside(folder: &Path, columns: usize) {
    const TRANSACTIONS: u64 = 50_000;
    topology(folder, &["stay".to_owned(), "wide".to_owned()], true);
    let names: Vec<String> = (0..columns).map(|n| format!("c{n} TEXT")).collect();
    files(folder, |_| {
        format!(
            "CREATE TABLE stay (id INTEGER PRIMARY KEY, bed INTEGER); CREATE TABLE wide (id INTEGER PRIMARY KEY, {})",
            names.join(", ")
        )
    });
    let all: Vec<String> = (0..columns).map(|n| format!("\"c{n}\"")).collect();
    for node in ["a", "b"] {
        let file = std::fs::File::create(folder.join(format!("{node}.ndjson"))).expect("a file");
        let mut out = std::io::BufWriter::new(file);
        let mut write = || -> std::io::Result<()> {
            writeln!(
                out,
                r#"{{"keen": "journal", "version": 2, "node": "{node}", "since": {{}}, "tables": {{"stay": {{"columns": ["id", "bed"], "key": ["id"]}}, "wide": {{"columns": ["id", {}], "key": ["id"]}}}}}}"#,
                all.join(", ")
            )?;
            for number in 1..=TRANSACTIONS {
                writeln!(
                    out,
                    r#"{{"origin": "a", "number": {number}, "time": "2026-09-25T09:00:00Z", "changes": [{{"table": "stay", "op": "update", "before": {{"id": {number}, "bed": 1}}, "after": {{"id": {number}, "bed": 3}}}}]}}"#
                )?;
            }
            Ok(())
        };
        write().expect("the journal");
    }
}

fn tables(folder: &Path) {
    let names: Vec<String> = (0..TABLES).map(|n| format!("t{n}")).collect();
    topology(folder, &names, false);
    files(folder, |_| {
        let table = |name: &String| {
            format!(
                "CREATE TABLE {name} (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO {name} VALUES (1, 'x'), (2, 'y')"
            )
        };
        names.iter().map(table).collect::<Vec<_>>().join("; ")
    });
}
