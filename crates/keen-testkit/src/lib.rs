//! The lab of servers: private PostgreSQL and MariaDB instances on free
//! loopback ports, in a temporary folder, linked as a test needs them.
//!
//! An instance is a copy of a template that is made once per machine, so a few
//! of them start in about a second. They can be stopped, killed, frozen and
//! thawed. Everything goes when the [`ServerLab`] is dropped, and also when the
//! process that made it dies without dropping it: a watching shell then ends
//! the servers and removes the folder.
//!
//! - [`instance`]: one server and its process.
//! - [`template`]: where the programs are, and the data folder that copies are made of.
//! - [`links`]: meshes, rings, peers, publishers and subscribers.
//! - [`wrong`]: the same in half-done and wrong ways.
//! - [`huts`]: the tables of the refuge huts on such servers.

pub mod huts;
pub mod instance;
pub mod links;
pub mod random;
pub mod tables;
pub mod template;
pub mod typed;
pub mod wrong;

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

pub use instance::{Server, Settings};
pub use template::ServerKind;

/// The account that administers every server of a lab, and its password.
pub const ADMIN: (&str, &str) = ("postgres", "lab-admin");
/// The account that keen checks with: it may read and nothing else.
pub const CHECKER: (&str, &str) = ("keen", "lab-checker");
/// The account by which servers replicate from each other.
pub const CARRIER: (&str, &str) = ("carrier", "lab-carrier");
/// The database on every server.
pub const DATABASE: &str = "huts";

/// Something of the lab did not work.
#[derive(Debug, thiserror::Error)]
pub enum ServerFault {
    /// A program that the lab runs is not installed.
    #[error("{0} is not installed: run ./scripts/lab-servers")]
    Missing(String),
    /// A file or a process.
    #[error("{0}: {1}")]
    Io(String, #[source] std::io::Error),
    /// A server did not do what it was asked.
    #[error("{0}")]
    Server(String),
    /// A statement failed on PostgreSQL.
    #[error("PostgreSQL: {0:?}")]
    Postgres(#[from] postgres::Error),
    /// A statement failed on MariaDB.
    #[error("MariaDB: {0}")]
    MariaDb(#[from] mysql::Error),
}

pub(crate) fn io(what: impl Into<String>) -> impl FnOnce(std::io::Error) -> ServerFault {
    let what = what.into();
    move |error| ServerFault::Io(what, error)
}

/// A folder of servers.
#[derive(Debug)]
pub struct ServerLab {
    root: PathBuf,
    watcher: Child,
}

/// Ends the servers of a lab whose process has gone: its standard input closes when that happens.
const WATCHER: &str = r#"
cat > /dev/null
each() { for f in "$1"/*/lab.pid; do [ -f "$f" ] && pid=$(cat "$f") && pkill "$2" -P "$pid"; kill "$2" "$pid" 2> /dev/null; done; }
each "$1" -CONT; each "$1" -QUIT; sleep 0.3; each "$1" -KILL
rm -rf "$1"
"#;

impl ServerLab {
    /// An empty lab in a temporary folder.
    ///
    /// # Errors
    /// [`ServerFault`] when the folder or the watcher cannot be made.
    pub fn new() -> Result<Self, ServerFault> {
        let root = tempfile::Builder::new()
            .prefix("keen-lab-")
            .tempdir_in(place())
            .map_err(io("make a folder for servers"))?
            .keep();
        // Servers that refuse to run as root run as another user, who has to get in.
        fs::set_permissions(&root, fs::Permissions::from_mode(0o755)).map_err(io("open folder"))?;
        let watcher = Command::new("/bin/sh")
            .args(["-c", WATCHER, "sh"])
            .arg(&root)
            .process_group(0)
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .map_err(io("start the watcher"))?;
        Ok(Self { root, watcher })
    }

    /// The folder of the lab.
    #[must_use]
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Starts a server called `name`.
    ///
    /// # Errors
    /// [`ServerFault`] when it is not installed or does not come up.
    pub fn start(&self, name: &str, engine: ServerKind) -> Result<Server, ServerFault> {
        self.start_with(name, engine, &Settings::default())
    }

    /// Starts a server with settings of its own.
    ///
    /// # Errors
    /// As [`ServerLab::start`].
    pub fn start_with(
        &self,
        name: &str,
        engine: ServerKind,
        settings: &Settings,
    ) -> Result<Server, ServerFault> {
        Server::create(&self.root.join(name), engine, settings)
    }

    /// PostgreSQL: starts a standby that streams from a server.
    ///
    /// # Errors
    /// As [`ServerLab::start`].
    pub fn standby(&self, name: &str, of: &Server, lines: &[&str]) -> Result<Server, ServerFault> {
        let mut lines: Vec<String> = lines.iter().map(|line| (*line).to_owned()).collect();
        lines.push(format!(
            "primary_conninfo = 'host=127.0.0.1 port={} user={} password={}'",
            of.port(),
            CARRIER.0,
            CARRIER.1
        ));
        let settings = Settings { lines, ..Settings::default() };
        Server::create_standby(&self.root.join(name), of, &settings)
    }

    /// Starts several servers side by side.
    ///
    /// # Errors
    /// As [`ServerLab::start`].
    pub fn start_all(&self, wanted: &[(&str, ServerKind)]) -> Result<Vec<Server>, ServerFault> {
        std::thread::scope(|scope| {
            let starting: Vec<_> = wanted
                .iter()
                .map(|(name, engine)| scope.spawn(|| self.start(name, *engine)))
                .collect();
            starting
                .into_iter()
                .map(|thread| {
                    thread.join().unwrap_or_else(|_| {
                        Err(ServerFault::Server("starting a server fell over".to_owned()))
                    })
                })
                .collect()
        })
    }
}

/// The folder that labs are made in. Servers write a lot that nobody reads again, so that is memory where it has room
/// for a lab; paths of sockets must be short.
fn place() -> &'static Path {
    const MEMORY: &str = "/dev/shm";
    const ROOM: u64 = 4 << 30;
    let room = nix::sys::statvfs::statvfs(MEMORY)
        .map_or(0, |at| at.blocks_available() * at.fragment_size());
    Path::new(if room >= ROOM { MEMORY } else { "/tmp" })
}

impl Drop for ServerLab {
    fn drop(&mut self) {
        // Closing its input tells the watcher; waiting for it leaves nothing behind.
        drop(self.watcher.stdin.take());
        drop(self.watcher.wait());
    }
}

/// How often something random is done: a few times in each run of the tests, many times in the long run
/// (`scripts/long`, which sets `KEEN_LONG`).
#[must_use]
pub fn rounds(few: u32, many: u32) -> u32 {
    if std::env::var_os("KEEN_LONG").is_some() { many } else { few }
}
