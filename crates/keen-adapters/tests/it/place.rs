//! A node that ports are opened on.

use std::cell::RefCell;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use keen_adapters::adapter::{Adapter, Site};
use keen_adapters::adapter_of;
use keen_adapters::server::Password;
use keen_core::topology::{self, Engine, Topology};
use keen_lab::{Change, Lab};
use keen_testkit::typed::server;
use keen_testkit::{CHECKER, DATABASE, Server};
use rusqlite::types::Value as Cell;
use tempfile::TempDir;

/// A write of an application.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Write {
    Insert(i64, &'static str),
    Update(i64, &'static str),
    Delete(i64),
}

/// A node that applications write to, with one table: `id` and `v`.
pub(crate) struct Place {
    pub(crate) table: &'static str,
    pub(crate) topology: Topology,
    pub(crate) folder: TempDir,
    pub(crate) lab: Option<RefCell<Lab>>,
    pub(crate) server: Option<&'static Server>,
}

impl Place {
    /// One of each kind.
    pub(crate) fn all(table: &'static str) -> Vec<Self> {
        let servers = keen_testkit::ServerKind::ALL.into_iter().map(|engine| Some(server(engine)));
        std::iter::once(None).chain(servers).map(|server| Self::of(table, server)).collect()
    }

    pub(crate) fn of(table: &'static str, server: Option<&'static Server>) -> Self {
        let folder = TempDir::new().unwrap();
        let at = server.map_or("sqlite:a.db".to_owned(), Server::address);
        let text = format!(
            "name = \"huts\"\n[node.a]\nat = \"{at}\"\nwrites = true\n[node.b]\nat = \"sqlite:b.db\"\n\
             [set.s]\ntables = [\"{table}\"]\n[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"s\"]\n"
        );
        let create = format!("CREATE TABLE {table} (id bigint PRIMARY KEY, v varchar(50))");
        let file_create = create.replace("bigint", "INTEGER") + ";";
        let lab = match server {
            None => Some(Lab::create(folder.path(), &text, |_| file_create.clone(), 1).unwrap()),
            Some(server) => {
                server.run(&create).unwrap();
                server.run(&Self::grant(server, "SELECT", table)).unwrap();
                None
            }
        };
        let topology = topology::read(&text).0.unwrap();
        Self { table, topology, folder, lab: lab.map(RefCell::new), server }
    }

    pub(crate) fn grant(server: &Server, rights: &str, table: &str) -> String {
        match server.engine().is_postgres() {
            true => format!("GRANT {rights} ON {table} TO {}", CHECKER.0),
            false => format!("GRANT {rights} ON {DATABASE}.{table} TO '{}'@'%'", CHECKER.0),
        }
    }

    pub(crate) fn engine(&self) -> Engine {
        self.topology.nodes[0].at.engine()
    }

    /// Opens a port with the site of the node.
    pub(crate) fn with<R>(&self, open: impl FnOnce(&dyn Adapter, &Site<'_>) -> R) -> R {
        let node = &self.topology.nodes[0];
        let password = || Ok(Some(Password::new(CHECKER.1.to_owned())));
        let site = Site {
            node,
            address: &node.at,
            base: self.folder.path(),
            user: None,
            password: &password,
            wait: Duration::from_secs(5),
            silence: Duration::from_secs(20),
            cache_kib: 2000,
            reader: 0,
            heartbeat: None,
            receives: false,
            stop: Arc::new(AtomicBool::new(false)),
        };
        open(adapter_of(self.engine()).unwrap(), &site)
    }

    pub(crate) fn write(&self, write: Write) {
        let table = self.table;
        if let Some(lab) = &self.lab {
            let id = |id: i64| vec![("id".to_owned(), Cell::Integer(id))];
            let v = |v: &str| vec![("v".to_owned(), Cell::Text(v.to_owned()))];
            let change = match write {
                Write::Insert(key, text) => Change::Insert(table, [id(key), v(text)].concat()),
                Write::Update(key, text) => Change::Update(table, id(key), v(text)),
                Write::Delete(key) => Change::Delete(table, id(key)),
            };
            lab.borrow_mut().write("a", &[change]).unwrap();
        }
        if let Some(server) = self.server {
            let sql = match write {
                Write::Insert(id, v) => format!("INSERT INTO {table} VALUES ({id}, '{v}')"),
                Write::Update(id, v) => format!("UPDATE {table} SET v = '{v}' WHERE id = {id}"),
                Write::Delete(id) => format!("DELETE FROM {table} WHERE id = {id}"),
            };
            server.run(&sql).unwrap();
        }
    }

    pub(crate) fn names(&self) -> Vec<(String, String)> {
        vec![(self.table.to_owned(), self.table.to_owned())]
    }

    pub(crate) fn end(self) {
        if let Some(server) = self.server {
            server.run(&format!("DROP TABLE {}", self.table)).unwrap();
        }
    }
}
