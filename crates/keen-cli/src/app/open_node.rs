//! How nodes are opened: addresses, passwords, limits.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use keen_adapters::files::journal::FileJournal;
use keen_adapters::mariadb::{self, MariaDbJournal, MariaDbLinks, MariaDbNode, MariaDbProbe};
use keen_adapters::postgres::{
    self, JournalSetup, PostgresJournal, PostgresLastWrites, PostgresLinks, PostgresNode,
    PostgresProbe,
};
use keen_adapters::server::{Access, Password};
use keen_adapters::sqlite::{self, SqliteJournal, SqliteLinks, SqliteNode, SqliteProbe};
use keen_core::fault::ReadFault;
use keen_core::ports::{LookAtNode, ReadRows};
use keen_core::row::schema::TableShape;
use keen_core::topology::{Address, Engine, Node, NodeId, Secret, Server};
use keen_run::conflicts::LastWrites;
use keen_run::links::Watched;
use keen_run::opener::Journal;
use keen_run::probe::Probed;

use crate::app::stop::Stop;
use crate::app::topology_file::Loaded;

/// Page cache of all SQLite nodes together, in KiB.
const CACHE_KIB: u32 = 16 << 10;

/// Where each SQLite node's file is.
fn paths(loaded: &Loaded) -> Vec<Option<PathBuf>> {
    let path = |address: &Address| match address {
        Address::Sqlite(path) => Some(loaded.base.join(path)),
        Address::Server(_) => None,
    };
    loaded.topology.nodes.iter().map(|node| path(&node.at)).collect()
}

/// More than this is no password.
const LONGEST_PASSWORD: u64 = 64 << 10;

/// Refuses what is no ordinary file: a pipe or a device would be waited for, or never end.
fn ordinary(path: &Path) -> Result<(), ReadFault> {
    match path.metadata() {
        Ok(found) if !found.is_file() && !found.is_dir() => Err(ReadFault::new(
            format!("{} is no ordinary file", path.display()),
            "name the file itself in the topology",
        )),
        _ => Ok(()),
    }
}

/// What a node needs before its journal can be read.
pub(crate) enum JournalDdl {
    /// Its journal is read without more.
    Nothing,
    /// Grants.
    MariaDb(Vec<String>),
    /// A publication, a slot and rights.
    Postgres(JournalSetup),
}

/// How nodes are opened.
pub(crate) struct Doors<'a> {
    loaded: &'a Loaded,
    paths: Vec<Option<PathBuf>>,
    files: sqlite::Options,
    wait: Duration,
    silence: Duration,
    /// The number to read binary logs as.
    reader: u32,
    stop: Arc<AtomicBool>,
}

impl<'a> Doors<'a> {
    pub(crate) fn new(loaded: &'a Loaded, wait: Duration, silence: Duration, stop: &Stop) -> Self {
        let nodes = u32::try_from(loaded.topology.nodes.len()).unwrap_or(1).max(1);
        let files = sqlite::Options {
            lock_wait: wait,
            cache_kib: (CACHE_KIB / nodes).clamp(128, 1024),
            stop: Arc::clone(&stop.0),
        };
        let stop = Arc::clone(&stop.0);
        Self { loaded, paths: paths(loaded), files, wait, silence, reader: 0, stop }
    }

    /// Binary logs are read as this number.
    pub(crate) fn reading_as(self, reader: u32) -> Self {
        Self { reader, ..self }
    }

    /// Opens a node to read its rows, at the first of its addresses that answers.
    pub(crate) fn open(&self, id: NodeId) -> Result<Box<dyn ReadRows>, ReadFault> {
        self.fall_over(id);
        let node = &self.loaded.topology.nodes[id];
        self.at_any(node, |address| -> Result<Box<dyn ReadRows>, ReadFault> {
            match address {
                Address::Sqlite(_) => self.file(id).map(|node| Box::new(node) as _),
                Address::Server(server) => self.access(node, server).and_then(|access| {
                    Ok(match server.engine {
                        Engine::MariaDb => Box::new(MariaDbNode::open(&access)?) as _,
                        Engine::Postgres => Box::new(PostgresNode::open(&access)?) as _,
                        Engine::Sqlite => return Err(no_server(node)),
                    })
                }),
            }
        })
    }

    /// Opens a node at one of its addresses to look around.
    pub(crate) fn look_in(
        &self,
        id: NodeId,
        address: &Address,
    ) -> Result<Box<dyn LookAtNode>, ReadFault> {
        self.fall_over(id);
        let node = &self.loaded.topology.nodes[id];
        let Address::Server(server) = address else {
            return self.opened(id).map(|node| Box::new(node) as _);
        };
        let access = self.access(node, server)?;
        Ok(match server.engine {
            Engine::MariaDb => Box::new(MariaDbNode::open(&access)?),
            Engine::Postgres => Box::new(PostgresNode::open(&access)?),
            Engine::Sqlite => return Err(no_server(node)),
        })
    }

    /// Opens a node, at the first of its addresses that answers, to look at its links again and again.
    pub(crate) fn watch(&self, id: NodeId) -> Result<Watched, ReadFault> {
        self.fall_over(id);
        let topology = &self.loaded.topology;
        let node = &topology.nodes[id];
        let beats = topology.heartbeat.as_deref().map(|table| node.name_of(table));
        self.at_any(node, |address| -> Result<Watched, ReadFault> {
            match address {
                Address::Sqlite(path) => {
                    let receives = topology.links.iter().any(|link| link.to == id);
                    let path = self.loaded.base.join(path);
                    ordinary(&path)?;
                    let (name, files) = (node.name.clone(), self.files.clone());
                    let links = SqliteLinks::new(path, name, receives, files);
                    Ok(Box::new(links.with_beats(beats)))
                }
                Address::Server(server) => self.access(node, server).and_then(|access| {
                    Ok(match server.engine {
                        Engine::MariaDb => Box::new(MariaDbLinks::open(&access, beats)?) as _,
                        Engine::Postgres => Box::new(PostgresLinks::open(&access, beats)?) as _,
                        Engine::Sqlite => return Err(no_server(node)),
                    })
                }),
            }
        })
    }

    /// Opens a node, at the first of its addresses that answers, to write a probe's row.
    pub(crate) fn probe(&self, id: NodeId, table: &str) -> Result<Probed, ReadFault> {
        self.fall_over(id);
        let node = &self.loaded.topology.nodes[id];
        let local = node.name_of(table);
        self.at_any(node, |address| -> Result<Probed, ReadFault> {
            match address {
                Address::Sqlite(path) => {
                    let path = self.loaded.base.join(path);
                    ordinary(&path)?;
                    let opened = SqliteProbe::open(&path, &node.name, (table, local), &self.files);
                    opened.map(|probe| Box::new(probe) as _)
                }
                Address::Server(server) => self.access(node, server).and_then(|access| {
                    Ok(match server.engine {
                        Engine::MariaDb => Box::new(MariaDbProbe::open(&access, local)?) as _,
                        Engine::Postgres => Box::new(PostgresProbe::open(&access, local)?) as _,
                        Engine::Sqlite => return Err(no_server(node)),
                    })
                }),
            }
        })
    }

    /// Opens a node's journal, at the first of its addresses that answers.
    pub(crate) fn journal(
        &self,
        id: NodeId,
        tables: &[(String, String)],
    ) -> Result<Journal, ReadFault> {
        self.fall_over(id);
        let node = &self.loaded.topology.nodes[id];
        if let Some(path) = &node.journal {
            let path = self.loaded.base.join(path);
            ordinary(&path)?;
            return Ok(Box::new(FileJournal::open(&path)?));
        }
        self.at_any(node, |address| -> Result<Journal, ReadFault> {
            match address {
                Address::Sqlite(path) => {
                    let path = self.loaded.base.join(path);
                    ordinary(&path)?;
                    let names = tables.iter().map(|(name, _)| name.clone());
                    let journal = SqliteJournal::open(&path, &node.name, names, &self.files)?;
                    Ok(Box::new(journal))
                }
                Address::Server(server) => self.access(node, server).and_then(|access| {
                    Ok(match server.engine {
                        Engine::MariaDb => {
                            Box::new(MariaDbJournal::open(&access, tables, self.reader)?) as _
                        }
                        Engine::Postgres => {
                            Box::new(PostgresJournal::open(&access, &node.name, tables)?) as _
                        }
                        Engine::Sqlite => return Err(no_server(node)),
                    })
                }),
            }
        })
    }

    /// Opens a node to ask its rows for their last writes, where its rows tell.
    pub(crate) fn last_writes(&self, id: NodeId) -> Result<Option<LastWrites>, ReadFault> {
        let node = &self.loaded.topology.nodes[id];
        self.at_any(node, |address| -> Result<Option<LastWrites>, ReadFault> {
            match address {
                Address::Server(server) if server.engine == Engine::Postgres => {
                    let tells = PostgresLastWrites::open(&self.access(node, server)?)?;
                    Ok(Some(Box::new(tells)))
                }
                _ => Ok(None),
            }
        })
    }

    /// The shapes of tables that the file of a node's journal tells of.
    pub(crate) fn exported_shapes(&self, id: NodeId) -> BTreeMap<String, TableShape> {
        let journal = &self.loaded.topology.nodes[id].journal;
        let file = journal.as_ref().map(|path| FileJournal::open(&self.loaded.base.join(path)));
        file.and_then(Result::ok).map(|file| file.shapes()).unwrap_or_default()
    }

    /// What a server still lacks before its log can be read, as statements; tables are named as it does.
    pub(crate) fn journal_ddl(
        &self,
        id: NodeId,
        tables: &[String],
    ) -> Result<JournalDdl, ReadFault> {
        let node = &self.loaded.topology.nodes[id];
        self.at_any(node, |address| match address {
            Address::Server(server) => self.access(node, server).and_then(|access| {
                Ok(match server.engine {
                    Engine::MariaDb => JournalDdl::MariaDb(mariadb::journal_grants(&access)?),
                    Engine::Postgres => {
                        JournalDdl::Postgres(postgres::journal_setup(&access, tables)?)
                    }
                    Engine::Sqlite => return Err(no_server(node)),
                })
            }),
            Address::Sqlite(_) => Ok(JournalDdl::Nothing),
        })
    }

    /// The account as a MariaDB server knows it, for statements that name it.
    pub(crate) fn account(&self, id: NodeId) -> Result<Option<String>, ReadFault> {
        let node = &self.loaded.topology.nodes[id];
        self.at_any(node, |address| match address {
            Address::Server(server) if server.engine == Engine::MariaDb => {
                let access = self.access(node, server)?;
                mariadb::account(&access).map(Some)
            }
            _ => Ok(None),
        })
    }

    /// Fails inside, where a test wants to see what comes of that. Nothing in a release.
    fn fall_over(&self, id: NodeId) {
        let name = &self.loaded.topology.nodes[id].name;
        let wanted = cfg!(debug_assertions)
            && std::env::var_os("KEEN_FALL_OVER_AT").is_some_and(|node| node == name.as_str());
        assert!(!wanted, "asked to fall over at {name}");
    }

    /// At the first of a node's addresses that answers.
    fn at_any<T>(
        &self,
        node: &Node,
        open: impl Fn(&Address) -> Result<T, ReadFault>,
    ) -> Result<T, ReadFault> {
        let mut first = None;
        for address in node.addresses() {
            match open(address) {
                Err(fault) if !fault.interrupted => {
                    tracing::debug!(node = node.name, %fault, "not there");
                    first.get_or_insert(fault);
                }
                other => return other,
            }
        }
        Err(first.unwrap_or_else(ReadFault::interrupted))
    }

    fn access(&self, node: &Node, server: &Server) -> Result<Access, ReadFault> {
        let access = Access {
            server: server.clone(),
            password: self.password(node)?,
            tls: node.tls.clone(),
            base: self.loaded.base.clone(),
            wait: self.wait,
            silence: self.silence,
            stop: Arc::clone(&self.stop),
        };
        tracing::debug!(node = node.name, address = access.shown(), "connecting");
        Ok(access)
    }

    /// A file that no other node has too: two names for one file would always agree with each other.
    fn file(&self, id: NodeId) -> Result<SqliteNode, ReadFault> {
        let Some(path) = &self.paths[id] else {
            return Err(ReadFault::new(
                "the node is no file",
                "this is a defect of keen: please report it",
            ));
        };
        // By a link or a mount one file has several names.
        let ours = crate::app::output::identity(path);
        let same = |other: &Option<PathBuf>| {
            let theirs = other.as_ref().and_then(|path| crate::app::output::identity(path));
            ours.is_some() && theirs == ours
        };
        let nodes = &self.loaded.topology.nodes;
        if let Some(twin) = self.paths.iter().take(id).position(same) {
            return Err(ReadFault::new(
                format!("{} is the same file as that of node {}", path.display(), nodes[twin].name),
                "give each node its own file",
            ));
        }
        self.opened(id)
    }

    fn opened(&self, id: NodeId) -> Result<SqliteNode, ReadFault> {
        let name = &self.loaded.topology.nodes[id].name;
        let Some(path) = &self.paths[id] else {
            return Err(ReadFault::new(
                "the node is no file",
                "this is a defect of keen: please report it",
            ));
        };
        tracing::debug!(node = name, path = %path.display(), "opening");
        ordinary(path)?;
        SqliteNode::open(path, &self.files)
    }

    /// What a password file holds. It can be a pipe that somebody still has to write to: for that it is
    /// waited as long as for a server.
    fn password_in(&self, path: &Path) -> std::io::Result<String> {
        let (say, said) = std::sync::mpsc::channel();
        let path = path.to_owned();
        std::thread::spawn(move || {
            drop(say.send(crate::app::topology_file::read(&path, LONGEST_PASSWORD)));
        });
        said.recv_timeout(self.wait)
            .unwrap_or_else(|_| Err(std::io::Error::other("nothing came from it within --wait")))
    }

    /// The password of a node's account, from where the topology file says it is.
    fn password(&self, node: &Node) -> Result<Option<Password>, ReadFault> {
        let text = match &node.password {
            None => return Ok(None),
            Some(Secret::Env(name)) => std::env::var(name).map_err(|_| {
                ReadFault::new(
                    format!("its password should be in the environment variable {name}, which is not set"),
                    format!("set it for this command, or correct password = {{ env = \"{name}\" }}"),
                )
            })?,
            Some(Secret::File(path)) => {
                let path = self.loaded.base.join(path);
                self.password_in(&path).map_err(|error| {
                    ReadFault::new(
                        format!("its password should be in {}: {error}", path.display()),
                        "put it there, readable by this account only, or correct password = { file = ... }",
                    )
                })?
            }
        };
        // Editors and echo end a file with a line break, which is no part of the password.
        let text = text.strip_suffix('\n').map_or(&text[..], |t| t.strip_suffix('\r').unwrap_or(t));
        Ok(Some(Password::new(text.to_owned())))
    }
}

/// A file has no server that could be asked.
fn no_server(node: &Node) -> ReadFault {
    ReadFault::new(format!("{} is a file, and no server", node.name), "correct its address")
}
