//! How long it takes to read journals and judge them, against merely reading the same journals, and how much
//! memory that needs.
//!
//! `cargo bench --bench conflicts` writes two journal files of a million writes each, and fills two MariaDB
//! servers that follow each other; it prints medians of five. `-- large` judges once two files of ten million
//! writes each instead (6 GB in the folder for temporary files). Floor and keen take turns. Timings are
//! printed and never judged.

#![allow(clippy::print_stdout, missing_docs, reason = "a benchmark prints its figures")]

use keen_core::topology::node_set::NodeSet;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::io::{BufWriter, Write as _};
use std::ops::ControlFlow;
use std::path::Path;
use std::time::{Duration, Instant};

use keen_adapters::files::journal::FileJournal;
use keen_adapters::mariadb::{MariaDbJournal, MariaDbNode};
use keen_adapters::server::Access;
use keen_core::fault::ReadFault;
use keen_core::ports::ReadJournal;
use keen_core::ports::ReadRows;
use keen_core::topology::{Address, NodeId, Topology};
use keen_run::conflicts::{self, Carried, ConflictsRequest, Found};
use keen_run::opener::Journal;
use keen_testkit::{CHECKER, Server, ServerKind, ServerLab, Settings, huts, links};

const RUNS: usize = 5;
const WRITES: u64 = 1_000_000;
const MANY_WRITES: u64 = 10_000_000;
/// One write in so many races with one of the other node.
const RACE_EVERY: u64 = 10_000;

fn main() {
    let folder = tempfile::tempdir().expect("a folder");
    if std::env::args().any(|argument| argument == "large") {
        files(folder.path(), MANY_WRITES, 0);
    } else {
        files(folder.path(), WRITES, RUNS);
        mariadb();
    }
}

fn median(mut of: Vec<f64>) -> f64 {
    of.sort_by(f64::total_cmp);
    of[of.len() / 2]
}

fn against(what: &str, writes: u64, floor: &dyn Fn() -> u64, keen: &dyn Fn() -> Found) {
    let (mut floors, mut keens, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
    let mut conflicts = 0;
    for counted in 0..=RUNS {
        let clock = Instant::now();
        assert_eq!(floor(), writes);
        let bare = clock.elapsed().as_secs_f64();
        let clock = Instant::now();
        let found = keen();
        let judged = clock.elapsed().as_secs_f64();
        assert!(found.broken.is_none() && found.nodes.values().all(|node| node.fault.is_none()));
        conflicts = found.conflicts.len();
        if counted > 0 {
            floors.push(bare);
            keens.push(judged);
            ratios.push(judged / bare);
        }
    }
    let (floor, keen) = (median(floors), median(keens));
    #[expect(clippy::cast_precision_loss, reason = "a rate")]
    let rate = writes as f64 / keen / 1000.0;
    println!(
        "{what:<52} read {floor:>6.2} s  judged {keen:>6.2} s  ratio {:>5.2}  {rate:>7.0} thousand writes/s  {conflicts} conflicts",
        median(ratios)
    );
}

/// The most memory this process ever had, in MiB.
fn peak() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
    let kib = line.and_then(|line| line.trim().trim_end_matches(" kB").trim().parse::<u64>().ok());
    kib.unwrap_or(0) / 1024
}

/// Reads journals side by side to nowhere; how many writes they hold.
fn bare(journals: &[&(dyn Fn() -> Box<dyn ReadJournal> + Sync)]) -> u64 {
    std::thread::scope(|scope| {
        let reading: Vec<_> = journals
            .iter()
            .map(|open| {
                scope.spawn(move || {
                    let mut rows = 0;
                    let mut journal = open();
                    let read = journal.read(&mut |entry| {
                        rows +=
                            u64::from(matches!(entry, keen_core::history::journal::Entry::Row(_)));
                        ControlFlow::Continue(())
                    });
                    read.expect("read");
                    rows
                })
            })
            .collect();
        reading.into_iter().map(|thread| thread.join().expect("read")).sum()
    })
}

const FILES: &str = "name = \"huts\"\n\
    [node.valley]\nat = \"sqlite:valley.db\"\njournal = \"valley.ndjson\"\nwrites = true\n\
    [node.saddle]\nat = \"sqlite:saddle.db\"\njournal = \"saddle.ndjson\"\nwrites = true\n\
    [set.stays]\ntables = [\"stay\"]\n[[link]]\nmesh = [\"valley\", \"saddle\"]\ncarries = [\"stays\"]\n";

fn line(origin: &str, number: u64, row: u64) -> String {
    let mut line = String::new();
    let _ = writeln!(
        line,
        r#"{{"origin": "{origin}", "number": {number}, "time": "2026-09-25T06:52:00Z", "changes": [{{"table": "stay", "op": "update", "before": {{"id": {row}, "bed": 1, "note": "a guest of the {origin}"}}, "after": {{"id": {row}, "bed": {number}, "note": "a guest of the {origin}"}}}}]}}"#
    );
    line
}

/// Judges two files, first once for its memory, then so many times against reading them.
fn files(folder: &Path, writes: u64, runs: usize) {
    std::fs::write(folder.join("keen.toml"), FILES).expect("written");
    for (own, other) in [("valley", "saddle"), ("saddle", "valley")] {
        let file = std::fs::File::create(folder.join(format!("{own}.ndjson"))).expect("a file");
        let mut out = BufWriter::new(file);
        writeln!(out, r#"{{"keen": "journal", "version": 2, "node": "{own}", "since": {{}}, "tables": {{"stay": {{"columns": ["id", "bed", "note"], "key": ["id"]}}}}}}"#).expect("written");
        for number in 1..=writes / 2 {
            // Each writes rows of its own; now and then both write the same one.
            let row = |origin: &str| match (number % RACE_EVERY, origin) {
                (0, _) => number,
                (_, "valley") => 10_000_000 + number,
                _ => 20_000_000 + number,
            };
            out.write_all(line(own, number, row(own)).as_bytes()).expect("written");
            out.write_all(line(other, number, row(other)).as_bytes()).expect("written");
        }
        out.flush().expect("written");
    }
    let topology = keen_core::topology::read(FILES).0.expect("a topology");
    let open = |node: &str| {
        let path = folder.join(format!("{node}.ndjson"));
        move || Box::new(FileJournal::open(&path).expect("a journal")) as Box<dyn ReadJournal>
    };
    let (valley, saddle) = (open("valley"), open("saddle"));
    let judge = || {
        conflicts::run(&ConflictsRequest {
            topology: &topology,
            nodes: NodeSet::from_bits(0b11),
            tables: &[],
            life: None,
            differing: &[],
            open: &|_| Err(ReadFault::new("no rows here", "none are needed")),
            journal: &|node, _| {
                let path = folder.join(format!("{}.ndjson", topology.nodes[node].name));
                Ok(Box::new(FileJournal::open(&path)?) as Journal)
            },
            earlier: None,
            hand_on: false,
            last_writes: None,
            exported: &|node| {
                let path = folder.join(format!("{}.ndjson", topology.nodes[node].name));
                FileJournal::open(&path).map(|file| file.shapes()).unwrap_or_default()
            },
            stop: &|| false,
        })
    };
    let clock = Instant::now();
    let found = judge();
    println!(
        "two files, {writes} writes in each: {} conflicts in {:.1} s, peak of memory {} MiB",
        found.conflicts.len(),
        clock.elapsed().as_secs_f64(),
        peak()
    );
    if runs > 0 {
        let read = || bare(&[&valley, &saddle]);
        against("two files, a million writes in each", writes * 2, &read, &judge);
    }
}

fn access(server: &Server) -> Access {
    let (topology, _) = keen_core::topology::read(&format!(
        "name = \"x\"\n[node.a]\nat = \"{}\"\nwrites = true\n[node.b]\nat = \"sqlite:b\"\n[set.s]\ntables = [\"t\"]\n[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"s\"]\n",
        server.address()
    ));
    let Some(Address::Server(place)) = topology.map(|topology| topology.nodes[0].at.clone()) else {
        panic!("no server at {}", server.address());
    };
    Access::plain(place, Some(CHECKER.1))
}

fn mariadb() {
    let lab = ServerLab::new().expect("a lab");
    let servers: Vec<Server> = (1..=2)
        .map(|id| {
            let settings = Settings { server_id: Some(id), ..Settings::default() };
            lab.start_with(&format!("m{id}"), ServerKind::MariaDb, &settings).expect("a server")
        })
        .collect();
    links::mariadb_mesh(&servers).expect("links");
    huts::tables(&servers[0]).expect("tables");
    let patience = Duration::from_secs(120);
    links::mariadb_settled(&servers, patience).expect("settled");
    let rows = 200_000_u64;
    for (at, server) in servers.iter().enumerate() {
        server
            .run(&format!(
                "SET SESSION sql_log_bin = 0;\nGRANT REPLICATION SLAVE ON *.* TO '{}'@'%'",
                CHECKER.0
            ))
            .expect("granted");
        for part in 0..rows / 2 / 1000 {
            let from = at as u64 * 10_000_000 + part * 1000 + 1;
            server
                .run(&format!("INSERT INTO guest SELECT seq, CONCAT('guest number ', seq), seq % 2 FROM seq_{from}_to_{}", from + 999))
                .expect("rows");
        }
    }
    links::mariadb_settled(&servers, patience).expect("settled");
    let text = format!(
        "name = \"huts\"\n[node.a]\nat = \"{}\"\nwrites = true\n[node.b]\nat = \"{}\"\nwrites = true\n\
         [set.stays]\ntables = [\"guest\"]\n[[link]]\nmesh = [\"a\", \"b\"]\ncarries = [\"stays\"]\n",
        servers[0].address(),
        servers[1].address()
    );
    let topology: Topology = keen_core::topology::read(&text).0.expect("a topology");
    let places: BTreeMap<NodeId, Access> = servers.iter().map(access).enumerate().collect();
    let tables = [("guest".to_owned(), "guest".to_owned())];
    let open = |node: NodeId| {
        let (access, tables) = (places[&node].clone(), tables.clone());
        move || {
            Box::new(MariaDbJournal::open(&access, &tables, 0).expect("a journal"))
                as Box<dyn ReadJournal>
        }
    };
    let (a, b) = (open(0), open(1));
    let judge = |earlier: Option<Carried>, hand_on: bool| {
        conflicts::run(&ConflictsRequest {
            topology: &topology,
            nodes: NodeSet::from_bits(0b11),
            tables: &[],
            life: None,
            differing: &[],
            open: &|node| Ok(Box::new(MariaDbNode::open(&places[&node])?) as Box<dyn ReadRows>),
            journal: &|node, tables| {
                Ok(Box::new(MariaDbJournal::open(&places[&node], tables, 0)?) as Journal)
            },
            last_writes: None,
            exported: &|_| BTreeMap::new(),
            earlier,
            hand_on,
            stop: &|| false,
        })
    };
    let about = "two MariaDB logs, 200 000 rows in each";
    against(about, rows * 2, &|| bare(&[&a, &b]), &|| judge(None, false));
    going_on(about, &judge);
}

/// How long a run takes that goes on from one to which nothing was added.
fn going_on(about: &str, judge: &dyn Fn(Option<Carried>, bool) -> Found) {
    let handed_on = judge(None, true).handed_on.expect("everything was read");
    let bytes = handed_on.to_bytes().expect("written down").len();
    let began = Instant::now();
    let found = judge(Some(handed_on), true);
    assert!(found.went_on && found.nodes.values().all(|node| node.transactions == 0));
    println!("{about}: going on with nothing new {:?}, {bytes} bytes handed on", began.elapsed());
}
