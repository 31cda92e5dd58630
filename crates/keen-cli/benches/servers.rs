//! How long reading and auditing take over servers and files, against the
//! floor: what the engine itself needs to hand over the same rows.
//!
//! `cargo bench --bench servers` starts private servers, fills them with rows
//! of about 100 bytes and prints medians of five runs; `-- sqlite`, `-- postgresql` and `-- mariadb` run only those; `-- large` also runs
//! through 10 thousand to 10 million rows and shows the peak of memory. Floor
//! and keen take turns, so that a machine whose speed drifts drifts for both.
//! Timings are printed beside what they should be and never judged.

#![allow(clippy::print_stdout, missing_docs, reason = "a benchmark prints its figures")]

use keen_core::row::selection::RowSelection;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use keen_adapters::mariadb::MariaDbNode;
use keen_adapters::postgres::PostgresNode;
use keen_adapters::server::Access;
use keen_adapters::sqlite::{Options, SqliteNode};
use keen_core::ports::{ReadRows, TableRequest};
use keen_core::row::batch::{Column, Layout, RowWriter};
use keen_core::row::conversion::Conversion;
use keen_core::row::digest::DigestFunction;
use keen_core::topology::{Engine as Kind, ServerAddress};
use keen_testkit::{ADMIN, CHECKER, DATABASE, Server, ServerKind, ServerLab};
use mysql::prelude::Queryable;
use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags};
use tempfile::TempDir;

const RUNS: usize = 5;
const ROWS: u64 = 2_000_000;
const COLUMNS: [&str; 6] = ["id", "name", "note", "price", "bed", "night"];

fn main() {
    let arguments: Vec<String> = std::env::args().collect();
    let asked = |word: &str| arguments.iter().any(|argument| argument == word);
    let engines = ["sqlite", "postgresql", "mariadb"];
    let all = !engines.iter().any(|engine| asked(engine));
    println!("{ROWS} rows of about 100 bytes, integer key; medians of {RUNS} runs\n");
    println!("{:<58} {:>9} {:>9} {:>7}   wanted", "", "floor", "keen", "ratio");
    for (engine, bench) in engines.into_iter().zip([sqlite as fn(), postgres, mariadb]) {
        if all || asked(engine) {
            bench();
        }
    }
    if asked("large") {
        growth();
    }
}

/// Runs both in turn; prints the medians and the median of the ratios.
fn against(
    what: &str,
    wanted: &str,
    floor: &mut dyn FnMut() -> Duration,
    keen: &mut dyn FnMut() -> Duration,
) {
    let (mut floors, mut keens, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
    for counted in 0..=RUNS {
        let (below, above) = (floor(), keen());
        if counted > 0 {
            // The first warms caches.
            ratios.push(above.as_secs_f64() / below.as_secs_f64());
            floors.push(below);
            keens.push(above);
        }
    }
    ratios.sort_by(f64::total_cmp);
    println!(
        "{what:<58} {:>7.3} s {:>7.3} s {:>7.2}   {wanted}",
        median(&mut floors).as_secs_f64(),
        median(&mut keens).as_secs_f64(),
        ratios[ratios.len() / 2]
    );
}

fn median(runs: &mut [Duration]) -> Duration {
    runs.sort();
    runs[runs.len() / 2]
}

fn timed(work: impl FnOnce()) -> Duration {
    let start = Instant::now();
    work();
    start.elapsed()
}

fn run(command: &mut Command) {
    let status = command.stdout(Stdio::null()).status().expect("the program runs");
    assert!(status.success(), "{command:?}");
}

/// Reads a table through the adapter, encodes and digests it, and throws the batches away.
fn read(node: &mut dyn ReadRows) {
    let mut names = COLUMNS.map(str::to_owned).to_vec();
    names.sort();
    let column = |name: &String| Column { name: name.clone(), reading: Conversion::default() };
    let layout = Layout {
        columns: names.iter().map(column).collect(),
        key: names.iter().position(|name| name == "id").into_iter().collect(),
        shown: (0..names.len()).collect(),
    };
    let request = TableRequest {
        table: "stay".to_owned(),
        columns: names,
        filter: None,
        ordered: true,
        rows: RowSelection::All,
    };
    let mut rows = 0;
    node.read(&request, RowWriter::new(layout, DigestFunction::Xxh3, 256 << 10), &mut |batch| {
        rows += batch.len() as u64;
        Some(batch)
    })
    .expect("the table is read");
    assert_eq!(rows, ROWS);
}

fn topology(folder: &Path, nodes: &[(&str, String)]) {
    let mut text = String::from("name = \"bench\"\n");
    for (name, address) in nodes {
        text.push_str(&format!("[node.{name}]\nat = \"{address}\"\nwrites = true\n"));
        if !address.starts_with("sqlite:") {
            text.push_str("password = { env = \"KEEN_BENCH\" }\n");
        }
    }
    text.push_str(
        "[set.s]\ntables = [\"stay\"]\n[[link]]\nmesh = [\"a\", \"b\"]\ncarries = [\"s\"]\n",
    );
    std::fs::write(folder.join("keen.toml"), text).expect("the topology file");
}

/// Audits, and returns the most memory that keen took, in KiB, as far as looks in between saw it.
fn audit(folder: &Path, code: i32) -> u64 {
    let mut process = Command::new(env!("CARGO_BIN_EXE_keen"))
        .args(["audit", "--format", "json"])
        .env("KEEN_BENCH", CHECKER.1)
        .current_dir(folder)
        .stdout(Stdio::null())
        .spawn()
        .expect("keen runs");
    let path = format!("/proc/{}/status", process.id());
    let mut peak = 0;
    loop {
        let status = std::fs::read_to_string(&path).unwrap_or_default();
        let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let number = line.and_then(|line| line.trim().trim_end_matches(" kB").parse().ok());
        peak = peak.max(number.unwrap_or(0));
        if let Some(status) = process.try_wait().expect("keen ends") {
            assert_eq!(status.code(), Some(code));
            return peak;
        }
        std::thread::sleep(Duration::from_millis(5));
    }
}

fn audit_only(folder: &Path, code: i32) {
    assert!(audit(folder, code) > 0);
}

// ---- SQLite ----

fn file(path: &Path, rows: u64) {
    let connection = Connection::open(path).expect("a new file");
    connection
        .execute_batch(&format!(
            "PRAGMA journal_mode = WAL; PRAGMA synchronous = OFF;
             CREATE TABLE stay (id INTEGER PRIMARY KEY, name TEXT, note TEXT, price REAL, bed INTEGER, night TEXT);
             WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {rows})
             INSERT INTO stay SELECT i, printf('guest %08d', i * 7919 % 1000003), printf('note about a stay, number %020d', i), i * 0.25,
                iif(i % 5, i % 40, NULL), '2026-07-01T12:00:00Z' FROM n;"
        ))
        .expect("the rows");
}

/// Steps through the table and touches every column of every row.
fn scan(path: &Path) {
    let connection =
        Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY).expect("the file");
    let mut statement = connection.prepare("SELECT * FROM stay ORDER BY id").expect("the scan");
    let mut rows = statement.query([]).expect("the scan");
    let mut touched = 0usize;
    while let Some(row) = rows.next().expect("a row") {
        for i in 0..COLUMNS.len() {
            touched += match row.get_ref(i).expect("a column") {
                ValueRef::Null => 1,
                ValueRef::Integer(v) => v as usize & 7,
                ValueRef::Real(v) => v as usize & 7,
                ValueRef::Text(v) | ValueRef::Blob(v) => v.len(),
            };
        }
    }
    std::hint::black_box(touched);
}

/// The comparison of two attached files that people write by hand: how many rows of the one the other has not alike.
fn join(left: &str, right: &str) -> String {
    let same: Vec<String> = COLUMNS.iter().map(|c| format!("l.{c} IS r.{c}")).collect();
    format!(
        "SELECT count(*) FROM {left}.stay AS l LEFT JOIN {right}.stay AS r ON r.id = l.id WHERE NOT ({})",
        same.join(" AND ")
    )
}

const BOTH_WAYS: [(&str, &str); 2] = [("main", "other"), ("other", "main")];

/// The join both ways in the SQLite that keen is built with.
fn attached(a: &Path, b: &Path) {
    let connection =
        Connection::open_with_flags(a, OpenFlags::SQLITE_OPEN_READ_ONLY).expect("the file");
    connection.execute("ATTACH ?1 AS other", [b.to_string_lossy()]).expect("the other file");
    for (left, right) in BOTH_WAYS {
        let _: i64 =
            connection.query_row(&join(left, right), [], |row| row.get(0)).expect("the join");
    }
}

/// The join both ways in the machine's own `sqlite3`.
fn attached_in_the_shell(a: &Path, b: &Path) {
    let mut command = Command::new("sqlite3");
    command.args(["-bail", "-readonly"]).arg(a);
    command.arg(format!("ATTACH '{}' AS other", b.display()));
    command.args(BOTH_WAYS.map(|(left, right)| join(left, right)));
    run(&mut command);
}

fn sqlite() {
    let folder = TempDir::new().expect("a folder");
    let (a, b) = (folder.path().join("a.db"), folder.path().join("b.db"));
    file(&a, ROWS);
    std::fs::copy(&a, &b).expect("a copy");
    topology(folder.path(), &[("a", "sqlite:a.db".to_owned()), ("b", "sqlite:b.db".to_owned())]);
    let mut bare = || timed(|| scan(&a));
    against("sqlite, one node read / bare scan", "<= 1.10", &mut bare, &mut || {
        timed(|| read(&mut SqliteNode::open(&a, &Options::default()).expect("the file")))
    });
    against("sqlite, two nodes audited / bare scan of one", "<= 1.50", &mut bare, &mut || {
        timed(|| audit_only(folder.path(), 0))
    });
    against(
        "sqlite, two nodes audited / attached join both ways",
        "<= 0.50",
        &mut || timed(|| attached(&a, &b)),
        &mut || timed(|| audit_only(folder.path(), 0)),
    );
    if Command::new("sqlite3").arg("--version").stdout(Stdio::null()).status().is_ok() {
        against(
            "sqlite, the same / the join in the sqlite3 at hand",
            "<= 0.50",
            &mut || timed(|| attached_in_the_shell(&a, &b)),
            &mut || timed(|| audit_only(folder.path(), 0)),
        );
    } else {
        println!(
            "sqlite: no sqlite3 here (Debian: apt-get install sqlite3), so its join is not timed"
        );
    }
    let other = TempDir::new().expect("a folder");
    let (c, d) = (other.path().join("a.db"), other.path().join("b.db"));
    std::fs::copy(&a, &c).expect("a copy");
    std::fs::copy(&a, &d).expect("a copy");
    Connection::open(&d)
        .and_then(|c| c.execute("UPDATE stay SET price = price + 1 WHERE id % 20000 = 7", []))
        .expect("scattered changes");
    topology(other.path(), &[("a", "sqlite:a.db".to_owned()), ("b", "sqlite:b.db".to_owned())]);
    against(
        "sqlite, 100 scattered divergent rows / none",
        "<= 1.10",
        &mut || timed(|| audit_only(folder.path(), 0)),
        &mut || timed(|| audit_only(other.path(), 1)),
    );
}

// ---- servers ----

fn access(server: &Server, kind: Kind, database: &str) -> Access {
    let place = ServerAddress {
        engine: kind,
        user: CHECKER.0.to_owned(),
        host: "127.0.0.1".to_owned(),
        port: server.port(),
        database: database.to_owned(),
        text: server.address(),
    };
    Access::plain(place, Some(CHECKER.1))
}

fn fill_postgres(server: &Server, rows: u64) {
    server
        .run(&format!(
            "CREATE TABLE stay (id bigint PRIMARY KEY, name text, note text, price double precision, bed integer, night timestamptz);\n\
             INSERT INTO stay SELECT i, 'guest ' || lpad((i * 7919 % 1000003)::text, 8, '0'), 'note about a stay, number ' || lpad(i::text, 20, '0'), \
             i * 0.25, CASE WHEN i % 5 > 0 THEN i % 40 END, '2026-07-01 12:00:00Z' FROM generate_series(1::bigint, {rows}) AS n (i);\n\
             VACUUM ANALYZE stay"
        ))
        .expect("the rows");
}

/// `COPY` in binary, in key order, to nowhere.
fn copy_out(server: &Server, database: &str) -> Command {
    let mut command = Command::new("psql");
    command.args([
        "-X",
        "-q",
        "-h",
        "127.0.0.1",
        "-U",
        ADMIN.0,
        "-p",
        &server.port().to_string(),
        "-d",
        database,
    ]);
    command.args(["-c", "COPY (SELECT bed, id, name, night, note, price FROM stay ORDER BY id) TO STDOUT (FORMAT binary)"]);
    command.env("PGPASSWORD", ADMIN.1);
    command
}

fn at_once(commands: Vec<Command>) {
    let running: Vec<_> = commands
        .into_iter()
        .map(|mut command| command.stdout(Stdio::null()).spawn().expect("the program runs"))
        .collect();
    for mut process in running {
        assert!(process.wait().expect("it ends").success());
    }
}

fn postgres() {
    let lab = ServerLab::new().expect("a lab");
    for engine in [ServerKind::Postgres15, ServerKind::Postgres18] {
        let server = lab.start(engine.name(), engine).expect("a server");
        fill_postgres(&server, ROWS);
        let name = engine.name();
        against(
            &format!("{name}, one node read / binary COPY in key order"),
            "<= 1.15",
            &mut || timed(|| run(&mut copy_out(&server, DATABASE))),
            &mut || {
                timed(|| {
                    read(
                        &mut PostgresNode::open(&access(&server, Kind::Postgres, DATABASE))
                            .expect("a node"),
                    );
                })
            },
        );
        if engine == ServerKind::Postgres15 {
            // A database to be copied must have no sessions.
            server
                .run_in("postgres", &format!("CREATE DATABASE other TEMPLATE {DATABASE}"))
                .expect("a copy");
            let folder = TempDir::new().expect("a folder");
            let other = server.address().replace(&format!("/{DATABASE}"), "/other");
            topology(folder.path(), &[("a", server.address()), ("b", other)]);
            against(
                &format!("{name}, two nodes audited / two COPYs at once"),
                "",
                &mut || {
                    timed(|| at_once(vec![copy_out(&server, DATABASE), copy_out(&server, "other")]))
                },
                &mut || timed(|| audit_only(folder.path(), 0)),
            );
        }
    }
}

const MARIADB_QUERY: &str = "SELECT bed, id, name, night, note, price FROM stay ORDER BY id";

fn mariadb() {
    let lab = ServerLab::new().expect("a lab");
    let server = lab.start("m", ServerKind::MariaDb).expect("a server");
    let columns = "id bigint PRIMARY KEY, name varchar(40), note varchar(80), price double, bed int, night timestamp(6) NULL";
    server
        .run(&format!("CREATE TABLE stay ({columns}) COLLATE utf8mb4_nopad_bin"))
        .expect("a table");
    server
        .run(&format!(
            "INSERT INTO stay SELECT seq, CONCAT('guest ', LPAD(seq * 7919 % 1000003, 8, '0')), CONCAT('note about a stay, number ', LPAD(seq, 20, '0')), \
             seq * 0.25, IF(seq % 5 > 0, seq % 40, NULL), '2026-07-01 12:00:00' FROM seq_1_to_{ROWS}"
        ))
        .expect("the rows");
    let mut keen = || {
        timed(|| {
            read(
                &mut MariaDbNode::open(&access(&server, Kind::MariaDb, DATABASE)).expect("a node"),
            );
        })
    };
    against(
        "mariadb, one node read / draining the binary protocol",
        "<= 1.15",
        &mut || {
            timed(|| {
                let mut client = server.mariadb_over_tcp().expect("a session");
                let drained = client
                    .exec_iter(MARIADB_QUERY, ())
                    .expect("the query")
                    .filter(Result::is_ok)
                    .count();
                assert_eq!(drained as u64, ROWS);
            })
        },
        &mut keen,
    );
    against(
        "mariadb, one node read / its own client with --quick",
        "<= 0.50",
        &mut || {
            timed(|| {
                let mut command = Command::new("mariadb");
                command.args([
                    "--no-defaults",
                    "--quick",
                    "-h",
                    "127.0.0.1",
                    "-u",
                    CHECKER.0,
                    DATABASE,
                ]);
                command
                    .args(["-P", &server.port().to_string(), "-e", MARIADB_QUERY])
                    .env("MYSQL_PWD", CHECKER.1);
                run(&mut command);
            })
        },
        &mut keen,
    );
}

// ---- growth ----

fn growth() {
    println!("\ntwo equal SQLite nodes, by their rows:");
    for rows in [10_000, 100_000, 1_000_000, 10_000_000] {
        let folder = TempDir::new().expect("a folder");
        let (a, b): (PathBuf, PathBuf) = (folder.path().join("a.db"), folder.path().join("b.db"));
        file(&a, rows);
        std::fs::copy(&a, &b).expect("a copy");
        topology(
            folder.path(),
            &[("a", "sqlite:a.db".to_owned()), ("b", "sqlite:b.db".to_owned())],
        );
        grown(folder.path(), rows, RUNS);
    }
    println!("\ntwo equal PostgreSQL 15 nodes, by their rows:");
    let lab = ServerLab::new().expect("a lab");
    for rows in [10_000, 100_000, 1_000_000, 10_000_000] {
        let server = lab.start(&format!("p{rows}"), ServerKind::Postgres15).expect("a server");
        fill_postgres(&server, rows);
        server
            .run_in("postgres", &format!("CREATE DATABASE other TEMPLATE {DATABASE}"))
            .expect("a copy");
        let folder = TempDir::new().expect("a folder");
        let other = server.address().replace(&format!("/{DATABASE}"), "/other");
        topology(folder.path(), &[("a", server.address()), ("b", other)]);
        grown(folder.path(), rows, 3);
    }
}

fn grown(folder: &Path, rows: u64, times: usize) {
    let (mut runs, mut peak) = (Vec::new(), 0);
    for _ in 0..times {
        runs.push(timed(|| peak = audit(folder, 0).max(peak)));
    }
    let took = median(&mut runs);
    println!(
        "{rows:>10} rows {:>8.3} s {:>8.1} ns a row, peak {:.1} MiB",
        took.as_secs_f64(),
        took.as_nanos() as f64 / rows as f64,
        peak as f64 / 1024.0
    );
}
