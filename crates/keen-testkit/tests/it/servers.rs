//! The lab of servers itself: it starts, links, breaks and cleans up.

use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use keen_testkit::{ServerKind, ServerLab, Settings, huts, links};
use mysql::prelude::Queryable;
use tempfile::TempDir;

const PATIENCE: Duration = Duration::from_secs(60);

/// Whether a process of that number is running, and is no zombie.
fn runs(process: &str) -> bool {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
    stat.rsplit_once(") ").is_some_and(|(_, rest)| !rest.starts_with('Z'))
}

fn processes(root: &Path) -> Vec<String> {
    let folders = std::fs::read_dir(root).unwrap();
    folders
        .filter_map(|f| std::fs::read_to_string(f.unwrap().path().join("lab.pid")).ok())
        .collect()
}

#[test]
fn servers_are_stopped_killed_frozen_and_thawed() {
    let lab = ServerLab::new().unwrap();
    for engine in ServerKind::ALL {
        let mut server = lab.start(engine.name(), engine).unwrap();
        huts::tables(&server).unwrap();
        huts::rows(&server).unwrap();
        let count = |server: &keen_testkit::Server| -> i64 {
            let sql = "SELECT count(*) FROM stay";
            if engine.is_postgres() {
                server.postgres().unwrap().query_one(sql, &[]).unwrap().get(0)
            } else {
                server.mariadb().unwrap().query_first(sql).unwrap().unwrap()
            }
        };
        server.freeze();
        let port = server.port();
        let stream = std::net::TcpStream::connect(("127.0.0.1", port)).unwrap();
        stream.set_read_timeout(Some(Duration::from_millis(300))).unwrap();
        let answer = std::io::Read::read(&mut &stream, &mut [0]);
        assert!(answer.is_err(), "a frozen server accepts and says nothing: {answer:?}");
        server.thaw();
        assert_eq!(count(&server), 3);
        server.kill();
        assert!(std::net::TcpStream::connect(("127.0.0.1", port)).is_err());
        server.start().unwrap();
        assert_eq!(count(&server), 3, "{engine:?}");
        server.stop().unwrap();
        server.start().unwrap();
        assert_eq!(count(&server), 3, "{engine:?}");
    }
}

#[test]
fn a_ring_carries_everywhere() {
    let lab = ServerLab::new().unwrap();
    let start = |id: u32| {
        let settings = Settings { server_id: Some(id), ..Settings::default() };
        lab.start_with(&format!("r{id}"), ServerKind::MariaDb, &settings).unwrap()
    };
    let ring: Vec<_> = (1..=3).map(start).collect();
    links::mariadb_ring(&ring).unwrap();
    huts::tables(&ring[0]).unwrap();
    links::mariadb_settled(&ring, PATIENCE).unwrap();
    huts::rows(&ring[1]).unwrap();
    ring[2].run("INSERT INTO guest VALUES (9, 'Gero', true)").unwrap();
    links::mariadb_settled(&ring, PATIENCE).unwrap();
    for server in &ring {
        let mut client = server.mariadb().unwrap();
        let guests: Vec<i64> = client.query("SELECT id FROM guest ORDER BY id").unwrap();
        assert_eq!(guests, [1, 2, 3, 9]);
    }
}

fn lab_program(shape: &str, folder: &Path) -> (Child, PathBuf) {
    let mut child = Command::new(env!("CARGO_BIN_EXE_keen-lab"))
        .args([shape, "--output"])
        .arg(folder)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let lines = BufReader::new(child.stdout.take().unwrap()).lines();
    let said: Vec<String> = lines.map(Result::unwrap).take(4).collect();
    let root =
        said.join("\n").split("logs are in ").nth(1).unwrap().split(';').next().unwrap().to_owned();
    (child, root.into())
}

#[test]
fn the_program_writes_a_topology_and_cleans_up() {
    for shape in ["mesh", "ring", "peers", "publisher", "mixed"] {
        let folder = TempDir::new().unwrap();
        let (mut child, root) = lab_program(shape, folder.path());
        let text = std::fs::read_to_string(folder.path().join("keen.toml")).unwrap();
        let (topology, problems) = keen_core::topology::read(&text);
        assert!(topology.is_some() && problems.is_empty(), "{shape}: {problems:?}");
        let servers = processes(&root);
        assert!(servers.len() >= 2 && servers.iter().all(|process| runs(process)));
        child.stdin.take().unwrap().write_all(b"\n").unwrap();
        assert!(child.wait().unwrap().success());
        assert!(!root.exists() && !folder.path().join("keen.toml").exists());
        assert!(!servers.iter().any(|process| runs(process)), "{shape}");
    }
}

#[test]
fn a_lab_whose_process_is_killed_leaves_nothing() {
    let folder = TempDir::new().unwrap();
    let (mut child, root) = lab_program("mixed", folder.path());
    let servers = processes(&root);
    assert_eq!(servers.len(), 3);
    child.kill().unwrap();
    child.wait().unwrap();
    links::until(PATIENCE, "the servers outlive their lab", || {
        Ok(!root.exists() && !servers.iter().any(|process| runs(process)))
    })
    .unwrap();
}
