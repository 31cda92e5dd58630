//! How long it takes to fill a node from another, against the engines' own tools: `COPY` piped from one `psql` into
//! another, and a dump piped into the client.
//!
//! `cargo bench --bench seeding` starts private servers and prints medians of three runs, of rows of about 100 bytes, of
//! narrow and of wide ones, and of many small tables; `-- postgresql` and `-- mariadb` run only those. Floor and keen take
//! turns and begin with empty tables. What keen takes is all of `keen mend`: the copy, and the proof that all rows of
//! both agree. Timings are printed beside what they should be and never judged.

#![allow(clippy::print_stdout, missing_docs, reason = "a benchmark prints its figures")]

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use keen_testkit::{ADMIN, DATABASE, Server, ServerKind, ServerLab};
use tempfile::TempDir;

const RUNS: usize = 3;

/// Rows of a kind, in so many tables.
struct Load {
    what: &'static str,
    tables: usize,
    rows: u64,
    /// Declarations beside the key, and their values by `i`, for both engines.
    columns: &'static str,
    values: &'static str,
}

const LOADS: [Load; 4] = [
    Load {
        what: "2 000 000 rows of about 100 bytes",
        tables: 1,
        rows: 2_000_000,
        columns: "name varchar(60), note varchar(100), price numeric(12,2), bed integer",
        values: "concat('guest ', i), concat('note about a stay, number ', i, ', and what the warden said'), i * 0.25, i % 40",
    },
    Load {
        what: "2 000 000 narrow rows",
        tables: 1,
        rows: 2_000_000,
        columns: "bed integer",
        values: "i % 40",
    },
    Load {
        what: "100 000 rows of about 2 kB",
        tables: 1,
        rows: 100_000,
        columns: "note text",
        values: "repeat(concat('note ', i, ' '), 200)",
    },
    Load {
        what: "200 tables of 2 000 rows",
        tables: 200,
        rows: 2_000,
        columns: "name varchar(60), bed integer",
        values: "concat('guest ', i), i % 40",
    },
];

fn main() {
    let arguments: Vec<String> = std::env::args().collect();
    let asked = |word: &str| arguments.iter().any(|argument| argument == word);
    let all = !["postgresql", "mariadb"].iter().any(|engine| asked(engine));
    println!("medians of {RUNS} runs\n");
    println!("{:<46} {:>9} {:>9} {:>7} {:>9}   wanted", "", "floor", "keen", "ratio", "memory");
    for (name, kind, wanted) in [
        ("postgresql", ServerKind::Postgres18, "<= 2.00"),
        ("mariadb", ServerKind::MariaDb, "<= 1.30"),
    ] {
        if all || asked(name) {
            for load in &LOADS {
                bench(kind, load, wanted);
            }
        }
    }
}

fn table(number: usize) -> String {
    format!("stay_{number}")
}

fn bench(kind: ServerKind, load: &Load, wanted: &str) {
    let lab = ServerLab::new().expect("a folder");
    let servers = lab.start_all(&[("a", kind), ("b", kind)]).expect("two servers");
    let (a, b) = (&servers[0], &servers[1]);
    for number in 0..load.tables {
        let table = table(number);
        for server in &servers {
            let sql = format!("CREATE TABLE {table} (id bigint PRIMARY KEY, {})", load.columns);
            server.run(&sql).expect("a table");
        }
        let numbers = match kind.is_postgres() {
            true => {
                format!("(SELECT i FROM generate_series(1::bigint, {}) AS n (i)) AS n", load.rows)
            }
            false => format!("(SELECT seq AS i FROM seq_1_to_{}) AS n", load.rows),
        };
        a.run(&format!("INSERT INTO {table} SELECT i, {} FROM {numbers}", load.values))
            .expect("rows");
    }
    let folder = TempDir::new().expect("a folder");
    topology(folder.path(), &servers, load.tables);
    let (mut floors, mut keens, mut ratios, mut memory) = (Vec::new(), Vec::new(), Vec::new(), 0);
    for _ in 0..RUNS {
        empty(b, load.tables);
        let floor = timed(|| piped(kind, a, b, load.tables));
        empty(b, load.tables);
        drop(std::fs::remove_file(folder.path().join("seed.plan.undo")));
        assert_eq!(keen(folder.path(), &["plan", "--seed", "a:b", "--save", "seed.plan"]).0, 1);
        let began = Instant::now();
        let (code, peak) = keen(folder.path(), &["mend", "seed.plan", "--yes"]);
        let took = began.elapsed();
        assert_eq!(code, 0);
        memory = memory.max(peak);
        ratios.push(took.as_secs_f64() / floor.as_secs_f64());
        floors.push(floor);
        keens.push(took);
    }
    ratios.sort_by(f64::total_cmp);
    let name = if kind.is_postgres() { "postgresql" } else { "mariadb" };
    println!(
        "{:<46} {:>7.2} s {:>7.2} s {:>7.2} {:>5} MiB   {wanted}",
        format!("{name}, {}", load.what),
        median(&mut floors).as_secs_f64(),
        median(&mut keens).as_secs_f64(),
        ratios[ratios.len() / 2],
        memory / 1024
    );
}

fn topology(folder: &Path, servers: &[Server], tables: usize) {
    let mut text = String::from("name = \"bench\"\n");
    for (name, server) in ["a", "b"].into_iter().zip(servers) {
        let at = server.address();
        let writes = if name == "a" { "writes = true\n" } else { "" };
        text.push_str(&format!(
            "[node.{name}]\nat = \"{at}\"\npassword = {{ env = \"KEEN_BENCH\" }}\n{writes}\
             [node.{name}.mend]\nuser = \"{}\"\npassword = {{ env = \"KEEN_BENCH_ADMIN\" }}\n",
            ADMIN.0
        ));
    }
    let names: Vec<String> = (0..tables).map(|number| format!("\"{}\"", table(number))).collect();
    text.push_str(&format!(
        "[set.s]\ntables = [{}]\n[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"s\"]\n",
        names.join(", ")
    ));
    std::fs::write(folder.join("keen.toml"), text).expect("the topology file");
    for server in servers {
        let grant = match server.engine().is_postgres() {
            true => format!(
                "GRANT SELECT ON ALL TABLES IN SCHEMA public TO {}",
                keen_testkit::CHECKER.0
            ),
            false => format!("GRANT TRIGGER ON *.* TO {}@'%'", keen_testkit::CHECKER.0),
        };
        server.run(&grant).expect("a right");
        if !server.engine().is_postgres() {
            let all = format!("GRANT ALL ON *.* TO '{}'@'%' IDENTIFIED BY '{}'", ADMIN.0, ADMIN.1);
            server.run(&all).expect("an account");
        }
    }
}

fn empty(server: &Server, tables: usize) {
    for number in 0..tables {
        server.run(&format!("TRUNCATE {}", table(number))).expect("an empty table");
    }
}

fn piped(kind: ServerKind, a: &Server, b: &Server, tables: usize) {
    let names: Vec<String> = (0..tables).map(table).collect();
    let command = match kind.is_postgres() {
        true => {
            let psql = |server: &Server| {
                format!("psql -X -q -h 127.0.0.1 -U {} -p {} -d {DATABASE}", ADMIN.0, server.port())
            };
            let copies: Vec<String> = names
                .iter()
                .map(|name| {
                    format!(
                        "{} -c 'COPY {name} TO STDOUT' | {} -c 'COPY {name} FROM STDIN'",
                        psql(a),
                        psql(b)
                    )
                })
                .collect();
            copies.join(" && ")
        }
        false => {
            let at = |server: &Server| format!("-h 127.0.0.1 -P {} -u {}", server.port(), ADMIN.0);
            format!(
                "(echo 'SET SESSION sql_log_bin = 0;'; mariadb-dump {} --single-transaction --no-create-info --skip-triggers {DATABASE} {}) | mariadb {} {DATABASE}",
                at(a),
                names.join(" "),
                at(b)
            )
        }
    };
    let status = Command::new("bash")
        .args(["-o", "pipefail", "-c", &command])
        .env("PGPASSWORD", ADMIN.1)
        .env("MYSQL_PWD", ADMIN.1)
        .stdout(Stdio::null())
        .status()
        .expect("the programs run");
    assert!(status.success(), "{command}");
}

/// The exit code, and the most memory that was seen, in KiB.
fn keen(folder: &Path, args: &[&str]) -> (i32, u64) {
    let mut process = Command::new(env!("CARGO_BIN_EXE_keen"))
        .args(args)
        .env("KEEN_BENCH", keen_testkit::CHECKER.1)
        .env("KEEN_BENCH_ADMIN", ADMIN.1)
        .current_dir(folder)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
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
            return (status.code().unwrap_or(-1), peak);
        }
        std::thread::sleep(Duration::from_millis(5));
    }
}

fn timed(work: impl FnOnce()) -> Duration {
    let start = Instant::now();
    work();
    start.elapsed()
}

fn median(runs: &mut [Duration]) -> Duration {
    runs.sort();
    runs[runs.len() / 2]
}
