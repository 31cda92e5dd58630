//! Real servers, a topology over them, and the built program.

use std::path::Path;
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};

use keen_testkit::{CHECKER, Server, ServerKind, ServerLab, Settings, huts, links};

use mysql::prelude::Queryable;

use super::{Folder, Run};

pub const PATIENCE: std::time::Duration = std::time::Duration::from_secs(60);

/// Servers and the folder of their topology file.
pub struct Network {
    pub servers: Vec<Server>,
    pub folder: Folder,
    // Last, so that servers end before their folder goes.
    pub lab: ServerLab,
}

pub const STAYS: &str = "[set.stays]\ntables = [\"guest\", \"stay\"]\n";

/// The text of `keen.toml`: these servers as nodes a, b, c, …, and the rest.
pub fn topology(servers: &[Server], rest: &str) -> String {
    let mut text = String::from("name = \"refuge-huts\"\n");
    for (i, server) in servers.iter().enumerate() {
        text.push_str(&format!(
            "[node.{}]\nat = \"{}\"\npassword = {{ env = \"KEEN_TEST\" }}\nwrites = true\n",
            super::node_name(i),
            server.address()
        ));
    }
    text + rest
}

pub fn mesh_of(count: usize) -> String {
    let names: Vec<String> = (0..count).map(|i| format!("\"{}\"", super::node_name(i))).collect();
    format!("{STAYS}[[link]]\nmesh = [{}]\ncarries = [\"stays\"]\n", names.join(", "))
}

impl Network {
    pub fn new(lab: ServerLab, servers: Vec<Server>, rest: &str) -> Self {
        let folder = Folder::new(&topology(&servers, rest));
        Self { servers, folder, lab }
    }

    /// Servers with the same rows, not linked; the topology says that they are a mesh.
    pub fn alike(engines: &[ServerKind]) -> Self {
        let lab = ServerLab::new().unwrap();
        let names = ["valley", "saddle", "cirque", "col"];
        let wanted: Vec<_> = names.into_iter().zip(engines.iter().copied()).collect();
        let servers = lab.start_all(&wanted).unwrap();
        for server in &servers {
            huts::tables(server).unwrap();
            huts::rows(server).unwrap();
        }
        Self::new(lab, servers, &mesh_of(engines.len()))
    }

    /// Three MariaDB servers, each following each, with the rows of the huts.
    pub fn mariadb_mesh() -> Self {
        Self::mariadb_mesh_with(&[])
    }

    /// The same, with these lines in their settings.
    pub fn mariadb_mesh_with(more: &[&str]) -> Self {
        let lines: Vec<String> = more.iter().map(|line| (*line).to_owned()).collect();
        let lab = ServerLab::new().unwrap();
        let servers: Vec<Server> = (1..=3)
            .map(|id| {
                let settings =
                    Settings { server_id: Some(id), lines: lines.clone(), ..Settings::default() };
                lab.start_with(&format!("m{id}"), ServerKind::MariaDb, &settings).unwrap()
            })
            .collect();
        links::mariadb_mesh(&servers).unwrap();
        huts::tables(&servers[0]).unwrap();
        huts::rows(&servers[0]).unwrap();
        // Not every log tells what arrived: the rows do.
        let rows = |server: &Server| -> Option<u64> {
            let sql = "SELECT count(*) FROM trail_notice";
            server.mariadb().ok()?.query_first(sql).ok()?
        };
        let all = rows(&servers[0]);
        links::until(PATIENCE, "the rows do not arrive", || {
            Ok(servers.iter().all(|server| rows(server) == all))
        })
        .unwrap();
        if more.is_empty() {
            links::mariadb_settled(&servers, PATIENCE).unwrap();
        }
        Self::new(lab, servers, &mesh_of(3))
    }

    /// Two PostgreSQL 18 servers that take what the other wrote itself.
    pub fn postgres_peers() -> Self {
        let network = Self::alike(&[ServerKind::Postgres18, ServerKind::Postgres18]);
        links::postgres_peers(&network.servers, "guest, stay").unwrap();
        links::postgres_settled(&network.servers, PATIENCE).unwrap();
        network
    }

    /// Two PostgreSQL 15 servers whose extension pglogical brings each what the other wrote itself; with
    /// these lines in their settings.
    pub fn pglogical_peers(more: &[&str]) -> Self {
        let lab = ServerLab::new().unwrap();
        let mut lines = vec!["shared_preload_libraries = 'pglogical'".to_owned()];
        lines.extend(more.iter().map(|line| (*line).to_owned()));
        let settings = Settings { lines, ..Settings::default() };
        let start = |name: &str| lab.start_with(name, ServerKind::Postgres15, &settings).unwrap();
        let two = vec![start("a"), start("b")];
        let admin = keen_testkit::ADMIN;
        let at = |server: &Server| {
            format!(
                "host=127.0.0.1 port={} dbname=huts user={} password={}",
                server.port(),
                admin.0,
                admin.1
            )
        };
        let all_tables =
            "SELECT pglogical.replication_set_add_all_tables('default', ARRAY['public'])";
        for (server, name) in two.iter().zip(["a", "b"]) {
            huts::tables(server).unwrap();
            huts::rows(server).unwrap();
            server.run("CREATE EXTENSION pglogical").unwrap();
            server
                .run(&format!("SELECT pglogical.create_node('{name}', '{}')", at(server)))
                .unwrap();
            server.run(all_tables).unwrap();
        }
        for (to, from, name) in [(1, 0, "from_a"), (0, 1, "from_b")] {
            let sql = format!(
                "SELECT pglogical.create_subscription('{name}', '{}', ARRAY['default'], false, false, '{{}}')",
                at(&two[from])
            );
            two[to].run(&sql).unwrap();
        }
        let links = "[[link]]\nboth = [\"a\", \"b\"]\ncarries = [\"stays\"]\n";
        Self::new(lab, two, &format!("{STAYS}{links}"))
    }

    /// Changes the topology file.
    pub fn replace(&self, from: &str, to: &str) {
        let path = self.folder.path("keen.toml");
        let text = std::fs::read_to_string(&path).unwrap();
        assert!(text.contains(from), "{from} in {text}");
        std::fs::write(path, text.replace(from, to)).unwrap();
    }

    /// Says in the topology file that no application writes to a node.
    pub fn is_not_written_to(&self, node: &str) {
        let path = self.folder.path("keen.toml");
        let text = std::fs::read_to_string(&path).unwrap();
        let (before, after) = text.split_once(&format!("[node.{node}]")).unwrap();
        let after = after.replacen("writes = true", "writes = false", 1);
        std::fs::write(path, format!("{before}[node.{node}]{after}")).unwrap();
    }

    pub fn keen(&self, args: &[&str]) -> Run {
        let output = self.folder.command(args).env("KEEN_TEST", CHECKER.1).output().unwrap();
        Run {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8(output.stdout).unwrap(),
            err: String::from_utf8(output.stderr).unwrap(),
        }
    }

    pub fn address(&self, i: usize) -> String {
        format!("127.0.0.1:{}", self.servers[i].port())
    }

    /// Runs a script as the engineer would: with the server's own client.
    pub fn run_script(&self, i: usize, script: &str) -> Run {
        run_script(&self.servers[i], &self.folder.path(script))
    }
}

/// Runs a script as the engineer would: with the server's own client.
pub fn run_script(server: &Server, path: &Path) -> Run {
    let mut command = if server.engine().is_postgres() {
        let mut command = Command::new("psql");
        command.args(["-X", "-q", "-v", "ON_ERROR_STOP=1", "-h", "127.0.0.1", "-U", "postgres"]);
        command.args(["-d", "huts", "-p", &server.port().to_string(), "-f"]).arg(path);
        command.env("PGPASSWORD", keen_testkit::ADMIN.1);
        command
    } else {
        let mut command = Command::new("mariadb");
        command.arg("--no-defaults").arg(format!("--socket={}/sock", server.folder().display()));
        command.args(["-u", "root", "huts"]).stdin(std::fs::File::open(path).unwrap());
        command
    };
    let output = command.output().unwrap();
    Run {
        code: output.status.code().unwrap_or(-1),
        out: String::from_utf8_lossy(&output.stdout).into_owned(),
        err: String::from_utf8_lossy(&output.stderr).into_owned(),
    }
}

/// Raises a flag also when the test falls over.
struct Done<'a>(&'a AtomicBool);

impl Drop for Done<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// Does some work while statements keep running on servers, each about fifty times a second.
pub fn under_load<T>(load: &[(&Server, String)], work: impl FnOnce() -> T) -> T {
    let over = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let _done = Done(&over);
        let (say, running) = std::sync::mpsc::channel();
        for (server, statement) in load {
            let (over, say) = (&over, say.clone());
            scope.spawn(move || {
                let mut run: Box<dyn FnMut()> = if server.engine().is_postgres() {
                    let mut client = server.postgres().unwrap();
                    Box::new(move || client.batch_execute(statement).unwrap())
                } else {
                    let mut client = server.mariadb().unwrap();
                    Box::new(move || client.query_drop(statement).unwrap())
                };
                run();
                say.send(()).unwrap();
                while !over.load(Ordering::Relaxed) {
                    std::thread::sleep(std::time::Duration::from_millis(20));
                    run();
                }
            });
        }
        load.iter().for_each(|_| running.recv().unwrap());
        work()
    })
}
