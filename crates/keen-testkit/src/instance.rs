//! One server of a lab: its data folder, its port and its process.

use std::collections::BTreeSet;
use std::fs;
use std::net::{Ipv4Addr, TcpListener};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

use crate::template::{self, ServerKind};
use crate::{ADMIN, CHECKER, DATABASE, ServerFault, io};

/// Settings beside those that every server of a lab has.
#[derive(Debug, Clone, Default)]
pub struct Settings {
    /// As the server's own settings file spells them.
    pub lines: Vec<String>,
    /// MariaDB: its server id and the domain of its transactions; 1 unless said otherwise.
    pub server_id: Option<u32>,
    /// By how many seconds its clock is wrong.
    pub clock: i64,
}

/// A server that was started.
#[derive(Debug)]
pub struct Server {
    folder: PathBuf,
    engine: ServerKind,
    port: u16,
    clock: i64,
    process: Option<Child>,
}

/// A server that is not up after this long will not come up.
const PATIENCE: Duration = Duration::from_secs(60);

impl Server {
    pub(super) fn create(
        folder: &Path,
        engine: ServerKind,
        settings: &Settings,
    ) -> Result<Self, ServerFault> {
        let template = template::data(engine)?;
        fs::create_dir_all(folder).map_err(io("make the folder of a server"))?;
        template::run(
            Command::new("cp")
                .args(["-a", "--reflink=auto"])
                .arg(&template)
                .arg(folder.join("data")),
        )?;
        // Between finding a free port and using it, somebody else may have come.
        for _ in 0..3 {
            let mut server = Self::over(folder, engine, settings)?;
            match server.start() {
                Err(ServerFault::Server(said)) if said.contains("already in use") => {}
                done => return done.map(|()| server),
            }
        }
        Err(ServerFault::Server("no free port stays free".to_owned()))
    }

    pub(super) fn create_standby(
        folder: &Path,
        of: &Self,
        settings: &Settings,
    ) -> Result<Self, ServerFault> {
        fs::create_dir_all(folder).map_err(io("make the folder of a server"))?;
        let data = folder.join("data");
        let mut client = of.postgres()?;
        // The checkpoint of this backup would remove log that a standby which is there already still reads.
        client.batch_execute("ALTER SYSTEM SET wal_keep_size = '128MB'")?;
        client.batch_execute("SELECT pg_reload_conf()")?;
        // A low-level base backup: the files are copied between these two calls, in one session.
        client.batch_execute("CHECKPOINT; SELECT pg_backup_start('standby', true)")?;
        template::run(Command::new("cp").arg("-a").arg(of.folder.join("data")).arg(&data))?;
        let label: String =
            client.query_one("SELECT labelfile FROM pg_backup_stop(false)", &[])?.get(0);
        drop(fs::remove_file(data.join("postmaster.pid")));
        for (file, text) in [("backup_label", &label[..]), ("standby.signal", "")] {
            fs::write(data.join(file), text).map_err(io("prepare a standby"))?;
        }
        let mut server = Self::over(folder, of.engine, settings)?;
        server.start()?;
        Ok(server)
    }

    /// A server over the folder `data` in `folder`, not yet started.
    pub(super) fn over(
        folder: &Path,
        engine: ServerKind,
        settings: &Settings,
    ) -> Result<Self, ServerFault> {
        let (folder_of, clock) = (folder.to_owned(), settings.clock);
        let server = Self { folder: folder_of, engine, port: free_port()?, clock, process: None };
        fs::write(folder.join("server.conf"), server.configuration(settings))
            .map_err(io("write the settings of a server"))?;
        template::hand_over(engine, folder)?;
        Ok(server)
    }

    fn configuration(&self, settings: &Settings) -> String {
        let (folder, port) = (self.folder.display(), self.port);
        let mut lines: Vec<String> = if self.engine.is_postgres() {
            let fixed = "listen_addresses = '127.0.0.1'\nfsync = off\nfull_page_writes = off\nshared_buffers = 64MB\n\
                max_connections = 60\nwal_level = logical\ntrack_commit_timestamp = on\nmax_replication_slots = 20\n\
                max_wal_senders = 20\nmax_worker_processes = 30\nmax_logical_replication_workers = 12\n\
                wal_retrieve_retry_interval = 500ms\nwal_receiver_status_interval = 1s\nwal_writer_delay = 10ms\n\
                dynamic_shared_memory_type = mmap\ntimezone = 'UTC'";
            let mut lines: Vec<String> = fixed.lines().map(str::to_owned).collect();
            lines.push(format!("port = {port}"));
            lines.push(format!("unix_socket_directories = '{folder}'"));
            lines
        } else {
            let fixed = "bind-address=127.0.0.1\nskip-name-resolve\nlog_bin=bin\nlog_slave_updates=ON\nbinlog_format=ROW\n\
                binlog_row_image=FULL\nbinlog_row_metadata=FULL\nslave_net_timeout=10\ninnodb_log_file_size=16M\n\
                innodb_buffer_pool_size=64M\ninnodb_flush_log_at_trx_commit=2\nsync_binlog=0\ngtid_ignore_duplicates=ON\n\
                performance_schema=OFF\ncharacter-set-server=utf8mb4";
            let mut lines = vec!["[mariadbd]".to_owned()];
            lines.extend(fixed.lines().map(str::to_owned));
            lines.push(format!("datadir={folder}/data"));
            // A server that starts clears away what it takes for its own leftovers there.
            lines.push(format!("tmpdir={folder}"));
            lines.push(format!("socket={folder}/sock"));
            lines.push(format!("pid-file={folder}/mariadb.pid"));
            lines.push(format!("port={port}"));
            let id = settings.server_id.unwrap_or(1);
            lines.push(format!("server_id={id}"));
            lines.push(format!("gtid_domain_id={id}"));
            if template::is_root() {
                lines.push("user=root".to_owned());
            }
            lines
        };
        lines.extend(settings.lines.iter().cloned());
        lines.join("\n") + "\n"
    }

    /// The kind of server.
    #[must_use]
    pub fn engine(&self) -> ServerKind {
        self.engine
    }

    /// The loopback port it listens on.
    #[must_use]
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Its folder: `data`, `server.conf`, `server.log`.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Its address for keen, in the lab's database, as the account that may only read.
    #[must_use]
    pub fn address(&self) -> String {
        let scheme = if self.engine.is_postgres() { "postgres" } else { "mariadb" };
        format!("{scheme}://{}@127.0.0.1:{}/{DATABASE}", CHECKER.0, self.port)
    }

    /// Its log so far.
    #[must_use]
    pub fn log(&self) -> String {
        fs::read_to_string(self.folder.join("server.log")).unwrap_or_default()
    }

    /// Starts it and waits until it answers.
    ///
    /// # Errors
    /// [`ServerFault`] with the end of its log when it does not come up.
    pub fn start(&mut self) -> Result<(), ServerFault> {
        let log = fs::OpenOptions::new()
            .create(true)
            .append(true)
            .open(self.folder.join("server.log"))
            .map_err(io("make the log of a server"))?;
        let also = log.try_clone().map_err(io("share the log of a server"))?;
        let settings = self.folder.join("server.conf");
        let mut command = if self.engine.is_postgres() {
            let mut command = self.program("postgres")?;
            command.arg("-D").arg(self.folder.join("data"));
            command.arg("-c").arg(format!("config_file={}", settings.display()));
            let data = self.folder.join("data");
            command.arg("-c").arg(format!("hba_file={}/pg_hba.conf", data.display()));
            command.arg("-c").arg(format!("ident_file={}/pg_ident.conf", data.display()));
            command
        } else {
            let mut command = self.program("mariadbd")?;
            command.arg(format!("--defaults-file={}", settings.display()));
            command
        };
        let process = command
            // Where it looks for certificates of its own when it follows another, and may look.
            .env("HOME", &self.folder)
            .process_group(0)
            .stdin(Stdio::null())
            .stdout(log)
            .stderr(also)
            .spawn()
            .map_err(io("start a server"))?;
        fs::write(self.folder.join("lab.pid"), process.id().to_string())
            .map_err(io("note the process of a server"))?;
        self.process = Some(process);
        let began = Instant::now();
        loop {
            let ended = self.process.as_mut().is_some_and(|p| !matches!(p.try_wait(), Ok(None)));
            if ended || began.elapsed() > PATIENCE {
                let log = self.log();
                let tail: Vec<&str> = log.lines().rev().take(8).collect();
                return Err(ServerFault::Server(format!(
                    "{} did not come up: {}",
                    self.engine.name(),
                    tail.into_iter().rev().collect::<Vec<_>>().join(" | ")
                )));
            }
            if self.answers() {
                return Ok(());
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// A program of the server, run as who it wants to be run by and with the clock it is to see.
    fn program(&self, name: &str) -> Result<Command, ServerFault> {
        let program = self.engine.program(name)?;
        if self.clock == 0 {
            return Ok(template::command(self.engine, &program));
        }
        let mut command = template::command(self.engine, Path::new("/usr/bin/env"));
        command.arg(format!("LD_PRELOAD={}", wrong_clock()?.display()));
        command.arg(format!("FAKETIME={:+}s", self.clock)).arg("DONT_FAKE_MONOTONIC=1");
        command.arg(program);
        Ok(command)
    }

    fn answers(&self) -> bool {
        if self.engine.is_postgres() {
            self.postgres_in("postgres").is_ok()
        } else {
            self.mariadb_in("mysql").is_ok()
        }
    }

    /// A connection as the administrator, in the lab's database. For PostgreSQL.
    ///
    /// # Errors
    /// [`ServerFault`] when it does not answer.
    pub fn postgres(&self) -> Result<postgres::Client, ServerFault> {
        self.postgres_in(DATABASE)
    }

    pub(super) fn postgres_in(&self, database: &str) -> Result<postgres::Client, ServerFault> {
        Ok(postgres::Config::new()
            .host("127.0.0.1")
            .port(self.port)
            .user(ADMIN.0)
            .password(ADMIN.1)
            .dbname(database)
            .connect_timeout(Duration::from_secs(5))
            .connect(postgres::NoTls)?)
    }

    /// A connection as the administrator, in the lab's database. For MariaDB.
    ///
    /// # Errors
    /// [`ServerFault`] when it does not answer.
    pub fn mariadb(&self) -> Result<mysql::Conn, ServerFault> {
        self.mariadb_in(DATABASE)
    }

    pub(super) fn mariadb_in(&self, database: &str) -> Result<mysql::Conn, ServerFault> {
        let options = mysql::OptsBuilder::new()
            .socket(Some(self.folder.join("sock").display().to_string()))
            .user(Some("root"))
            .db_name(Some(database));
        Ok(mysql::Conn::new(options)?)
    }

    /// A connection as the account that may only read, over TCP as clients far away come. For MariaDB.
    ///
    /// # Errors
    /// [`ServerFault`] when it does not answer.
    pub fn mariadb_over_tcp(&self) -> Result<mysql::Conn, ServerFault> {
        let options = mysql::OptsBuilder::new()
            .ip_or_hostname(Some("127.0.0.1"))
            .tcp_port(self.port)
            .prefer_socket(false)
            .user(Some(CHECKER.0))
            .pass(Some(CHECKER.1))
            .db_name(Some(DATABASE));
        Ok(mysql::Conn::new(options)?)
    }

    /// As [`Server::run`], in another database. For PostgreSQL.
    ///
    /// # Errors
    /// As [`Server::run`].
    pub fn run_in(&self, database: &str, statement: &str) -> Result<(), ServerFault> {
        Ok(self.postgres_in(database)?.batch_execute(statement)?)
    }

    /// Runs statements, separated by semicolons at the ends of lines, as the administrator.
    ///
    /// # Errors
    /// [`ServerFault`] with the first statement that fails.
    pub fn run(&self, statements: &str) -> Result<(), ServerFault> {
        if self.engine.is_postgres() {
            let mut client = self.postgres()?;
            for statement in statements.split(";\n").map(str::trim).filter(|s| !s.is_empty()) {
                client.batch_execute(statement)?;
            }
            return Ok(());
        }
        let mut client = self.mariadb()?;
        for statement in statements.split(";\n").map(str::trim).filter(|s| !s.is_empty()) {
            mysql::prelude::Queryable::query_drop(&mut client, statement)?;
        }
        Ok(())
    }

    /// Adds lines to its settings file and starts it anew.
    ///
    /// # Errors
    /// As [`Server::start`].
    pub fn restart_with(&mut self, lines: &[&str]) -> Result<(), ServerFault> {
        let path = self.folder.join("server.conf");
        let mut text = fs::read_to_string(&path).map_err(io("read the settings of a server"))?;
        for line in lines {
            text.push_str(line);
            text.push('\n');
        }
        self.stop()?;
        fs::write(&path, text).map_err(io("write the settings of a server"))?;
        self.start()
    }

    /// Ends it in order, keeping its data.
    ///
    /// # Errors
    /// [`ServerFault`] when it does not end.
    pub fn stop(&mut self) -> Result<(), ServerFault> {
        let signal = if self.engine.is_postgres() { Signal::SIGINT } else { Signal::SIGTERM };
        self.thaw();
        self.end(signal, PATIENCE)
    }

    /// Kills it, as a power cut would.
    pub fn kill(&mut self) {
        self.everyone(Signal::SIGKILL);
        drop(self.end(Signal::SIGKILL, PATIENCE));
    }

    /// Stops all of its processes where they are: connections stay, nothing answers.
    pub fn freeze(&self) {
        self.everyone(Signal::SIGSTOP);
    }

    /// Lets it go on after [`Server::freeze`].
    pub fn thaw(&self) {
        self.everyone(Signal::SIGCONT);
    }

    fn end(&mut self, signal: Signal, patience: Duration) -> Result<(), ServerFault> {
        let Some(mut process) = self.process.take() else {
            return Ok(());
        };
        signal_to(process.id(), signal);
        let began = Instant::now();
        while matches!(process.try_wait(), Ok(None)) {
            if began.elapsed() > patience {
                self.process = Some(process);
                return Err(ServerFault::Server(format!("{} does not end", self.engine.name())));
            }
            std::thread::sleep(Duration::from_millis(10));
        }
        drop(fs::remove_file(self.folder.join("lab.pid")));
        Ok(())
    }

    fn everyone(&self, signal: Signal) {
        if let Some(process) = &self.process {
            children(process.id()).into_iter().for_each(|child| signal_to(child, signal));
            signal_to(process.id(), signal);
        }
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.thaw();
        // An immediate end of its own accord leaves no shared memory behind; a kill would.
        let gentle = if self.engine.is_postgres() { Signal::SIGQUIT } else { Signal::SIGKILL };
        if self.end(gentle, Duration::from_secs(3)).is_err() {
            self.kill();
        }
    }
}

fn signal_to(process: u32, signal: Signal) {
    if let Ok(process) = i32::try_from(process) {
        let _gone_already = kill(Pid::from_raw(process), signal);
    }
}

/// The library that makes a process see another time.
fn wrong_clock() -> Result<PathBuf, ServerFault> {
    let found = fs::read_dir("/usr/lib").into_iter().flatten().filter_map(|entry| {
        let library = entry.ok()?.path().join("faketime/libfaketimeMT.so.1");
        library.exists().then_some(library)
    });
    found.into_iter().next().ok_or_else(|| ServerFault::Missing("libfaketime".to_owned()))
}

/// The processes that a process started, from the table of processes.
fn children(parent: u32) -> Vec<u32> {
    let Ok(table) = fs::read_dir("/proc") else {
        return Vec::new();
    };
    let processes = table.filter_map(|entry| entry.ok()?.file_name().to_str()?.parse::<u32>().ok());
    processes
        .filter(|process| {
            let Ok(stat) = fs::read_to_string(format!("/proc/{process}/stat")) else {
                return false;
            };
            // The name in brackets may hold anything; the state and the parent come after it.
            let after = stat.rsplit_once(')').map_or("", |(_, after)| after);
            after.split_whitespace().nth(1).is_some_and(|field| field == parent.to_string())
        })
        .collect()
}

/// Ports that servers of this process were given. A port is free until its server is up: another one that took it
/// meanwhile would answer in its place.
static GIVEN: Mutex<BTreeSet<u16>> = Mutex::new(BTreeSet::new());

/// A loopback port that nobody has right now, and that no other server of this process is given. It lies below those
/// that a system gives to outgoing connections, and each process begins elsewhere.
fn free_port() -> Result<u16, ServerFault> {
    const PORTS: std::ops::Range<u16> = 12_000..32_000;
    let mut given = GIVEN.lock().unwrap_or_else(PoisonError::into_inner);
    let first = std::process::id() % u32::from(PORTS.end - PORTS.start) * 97;
    for next in 0..u32::from(PORTS.end - PORTS.start) {
        let place = (first + next) % u32::from(PORTS.end - PORTS.start);
        let port = PORTS.start + u16::try_from(place).unwrap_or_default();
        if given.insert(port) && TcpListener::bind((Ipv4Addr::LOCALHOST, port)).is_ok() {
            return Ok(port);
        }
    }
    Err(ServerFault::Server("every port is taken".to_owned()))
}
