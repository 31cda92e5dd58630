//! A folder with a topology and its files, and the built program run in it.

#![allow(
    dead_code,
    unreachable_pub,
    missing_docs,
    clippy::unwrap_used,
    reason = "each test uses its part"
)]

pub mod conflicts;
pub mod flow;
pub mod mending;
pub mod preflight;
pub mod printed;
pub mod schema;
pub mod servers;

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use assert_cmd::Command;
use rusqlite::Connection;
use serde_json::Value as Json;
use tempfile::TempDir;

pub use keen_testkit::rounds;

pub struct Folder {
    dir: TempDir,
}

/// The result of a run.
#[derive(Debug)]
pub struct Run {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl Run {
    /// The document that it wrote, held against its schema.
    pub fn json(&self) -> Json {
        let json: Json =
            serde_json::from_str(&self.out).unwrap_or_else(|e| panic!("{e}: {self:?}"));
        if let Some(kind) = json["keen"].as_str() {
            schema::check(kind, &json);
        }
        json
    }

    /// The lines that it wrote, each held against the schema of lines of this kind.
    pub fn lines(&self, kind: &str) -> Vec<Json> {
        let line = |line: &str| {
            let json = serde_json::from_str(line).unwrap_or_else(|e| panic!("{e}: {line}"));
            schema::check(kind, &json);
            json
        };
        self.out.lines().map(line).collect()
    }
}

impl Folder {
    /// A folder with a `keen.toml`.
    pub fn new(topology: &str) -> Self {
        let dir = TempDir::new().unwrap();
        fs::write(dir.path().join("keen.toml"), topology).unwrap();
        Self { dir }
    }

    /// Peers `a`, `b`, … that all write, in one mesh, with one set of these tables.
    pub fn mesh(nodes: usize, tables: &[&str], extra: &str) -> Self {
        Self::new(&mesh_text(nodes, tables, extra))
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    pub fn root(&self) -> &Path {
        self.dir.path()
    }

    /// Runs SQL in a file, making it if need be.
    pub fn sql(&self, file: &str, sql: &str) -> &Self {
        let connection = Connection::open(self.path(file)).unwrap();
        connection.execute_batch(sql).unwrap_or_else(|e| panic!("{file}: {e}: {sql}"));
        self
    }

    /// The same SQL in several files.
    pub fn sql_all(&self, files: &[&str], sql: &str) -> &Self {
        for file in files {
            self.sql(file, sql);
        }
        self
    }

    pub fn keen(&self, args: &[&str]) -> Run {
        let output = self.command(args).output().unwrap();
        Run {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8(output.stdout).unwrap(),
            err: String::from_utf8(output.stderr).unwrap(),
        }
    }

    pub fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_keen"));
        command.args(args).current_dir(self.root()).env_remove("NO_COLOR");
        command
    }

    pub fn audit_json(&self) -> (i32, Json) {
        let run = self.keen(&["audit", "--format", "json"]);
        (run.code, run.json())
    }

    /// Every file below the folder with its bytes, but for the ledger.
    pub fn snapshot(&self) -> BTreeMap<PathBuf, Vec<u8>> {
        let mut files = BTreeMap::new();
        let mut folders = vec![self.root().to_owned()];
        while let Some(folder) = folders.pop() {
            for entry in fs::read_dir(folder).unwrap() {
                let path = entry.unwrap().path();
                if path.is_dir() {
                    folders.push(path);
                } else if path.extension().is_none_or(|extension| extension != "ledger") {
                    files.insert(path.clone(), fs::read(&path).unwrap());
                }
            }
        }
        files
    }
}

pub fn mesh_text(nodes: usize, tables: &[&str], extra: &str) -> String {
    let names: Vec<String> = (0..nodes).map(node_name).collect();
    let mut text = String::from("name = \"test\"\n");
    for name in &names {
        text.push_str(&format!("[node.{name}]\nat = \"sqlite:{name}.db\"\nwrites = true\n"));
    }
    let quoted = |list: &[String]| {
        list.iter().map(|n| serde_json::to_string(n).unwrap()).collect::<Vec<_>>().join(", ")
    };
    let tables: Vec<String> = tables.iter().map(|t| (*t).to_owned()).collect();
    text.push_str(&format!(
        "[set.s]\ntables = [{}]\n[[link]]\nmesh = [{}]\ncarries = [\"s\"]\n{extra}\n",
        quoted(&tables),
        quoted(&names)
    ));
    text
}

/// a, b, …, z, n26, n27, …
pub fn node_name(i: usize) -> String {
    if i < 26 { char::from(b'a' + i as u8).to_string() } else { format!("n{i}") }
}

/// The first table of an audit.
pub fn table(json: &Json, at: usize) -> &Json {
    &json["tables"][at]
}

/// A fault in a document: what happened, and what to do.
pub fn told(fault: &Json) -> String {
    let text = |member: &str| fault[member].as_str().unwrap_or_else(|| panic!("{fault:#}"));
    format!("{}: {}", text("what"), text("advice"))
}
