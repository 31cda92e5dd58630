//! The topology: nodes, table sets, links, and who is right when copies disagree.
//!
//! [`read`] turns the text of a `keen.toml` into a [`Topology`] and a list of
//! [`Problem`]s, each with the place in the text. A topology only comes out
//! when none of the problems is an error. `docs/topology.md` describes the
//! file.

mod check;
mod links;
pub mod node_set;
mod pieces;
pub mod placement;
mod read;
mod server;

use std::collections::BTreeMap;
use std::ops::Range;
use std::time::Duration;

pub use read::read;

use crate::row::conversion::Normalization;
use crate::value::zone::Zone;

/// At most this many nodes: sets of nodes are kept as the bits of one word.
pub const MOST_NODES: usize = 64;

/// Index of a node in [`Topology::nodes`].
pub type NodeId = usize;
/// Index of a table set in [`Topology::sets`].
pub type SetId = usize;

/// A checked topology.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Topology {
    /// The engineer's name for it.
    pub name: String,
    /// The nodes, in the order of the file.
    pub nodes: Vec<Node>,
    /// The table sets, in the order of the file.
    pub sets: Vec<TableSet>,
    /// The links, one per direction and pair.
    pub links: Vec<Link>,
    /// When late is too late.
    pub limits: Limits,
    /// Who is right when copies disagree.
    pub authority: Authority,
    /// How columns are compared, by table and column, where not as they are.
    pub compare: BTreeMap<String, BTreeMap<String, Normalization>>,
    /// Tables of which conflicting writes are not looked for.
    pub not_judged: Vec<String>,
    /// Columns whose values together must be unique, by table: what the applications hold to, whether the
    /// nodes know of it or not.
    pub unique: BTreeMap<String, Vec<Vec<String>>>,
    /// The zone of times that have none, where they stand beside times that have one.
    pub zone: Option<Zone>,
    /// The table in which each node's last sign of life is kept, if there is one.
    pub heartbeat: Option<String>,
}

/// One node: a database that holds a copy.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Node {
    /// Its name in the file; letters, digits, `-`, `_` and `.`.
    pub name: String,
    /// Where it is.
    pub at: Address,
    /// Where else it can be reached: any address that answers will do.
    pub also_at: Vec<Address>,
    /// Where its password is kept; never the password.
    pub password: Option<Secret>,
    /// The account that carries plans out, if that is another one.
    pub mend: Option<WriteAccount>,
    /// How other nodes follow it, where keen is to make their links.
    pub replication: Option<LinkAccount>,
    /// How the connection to it is protected.
    pub tls: Tls,
    /// Whether applications write here.
    pub writes: bool,
    /// The file to which its journal is exported, relative to the topology file; none if keen reads it itself.
    pub journal: Option<String>,
    /// Tables that this node calls otherwise than most: from the common name.
    pub names: BTreeMap<String, String>,
    /// Columns that this node calls otherwise than most: by table (as the sets name it), from the common name.
    pub column_names: BTreeMap<String, BTreeMap<String, String>>,
}

impl Node {
    /// Every address, in the order in which they are tried.
    pub fn addresses(&self) -> impl Iterator<Item = &Address> {
        std::iter::once(&self.at).chain(&self.also_at)
    }

    /// The name that this node gives to `table`.
    #[must_use]
    pub fn name_of<'a>(&'a self, table: &'a str) -> &'a str {
        self.names.get(table).map_or(table, String::as_str)
    }
}

/// Where a node is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Address {
    /// A SQLite file; a relative path is relative to the folder of the topology file.
    Sqlite(String),
    /// A server.
    Server(ServerAddress),
}

impl Address {
    /// The address as it stands in the file.
    #[must_use]
    pub fn text(&self) -> String {
        match self {
            Self::Sqlite(path) => format!("sqlite:{path}"),
            Self::Server(server) => server.text.clone(),
        }
    }

    /// The engine that holds the node.
    #[must_use]
    pub fn engine(&self) -> Engine {
        match self {
            Self::Sqlite(_) => Engine::Sqlite,
            Self::Server(server) => server.engine,
        }
    }
}

/// A server's address, taken apart. It holds no password.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ServerAddress {
    /// The engine that the scheme names.
    pub engine: Engine,
    /// Who logs in.
    pub user: String,
    /// Its host, by name or number.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// The database.
    pub database: String,
    /// The address as written.
    pub text: String,
}

impl ServerAddress {
    /// Whether it is on this machine, so that nothing on the way can listen.
    #[must_use]
    pub fn is_loopback(&self) -> bool {
        self.host == "localhost"
            || self.host.parse::<std::net::IpAddr>().is_ok_and(|address| address.is_loopback())
    }
}

/// The engine that holds a node.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub enum Engine {
    /// SQLite.
    #[default]
    Sqlite,
    /// PostgreSQL.
    Postgres,
    /// MariaDB, and servers that speak its protocol.
    MariaDb,
}

impl Engine {
    /// Its name in results.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Sqlite => "sqlite",
            Self::Postgres => "postgresql",
            Self::MariaDb => "mariadb",
        }
    }
}

/// How a connection to a server is protected.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Tls {
    /// Whether it must be; unless said, for every host that is not loopback.
    pub on: Option<bool>,
    /// The server's certificate is not checked: whoever is on the way can be the server.
    pub unverified: bool,
    /// A file with the authorities to trust instead of the system's.
    pub ca: Option<String>,
    /// Files with the client's certificate and its key.
    pub client: Option<(String, String)>,
}

/// Where a secret is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Secret {
    /// In an environment variable.
    Env(String),
    /// In a file.
    File(String),
}

/// An account that may write.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WriteAccount {
    /// Who logs in.
    pub user: String,
    /// Where its password is kept; never the password.
    pub password: Option<Secret>,
}

/// The account by which other nodes follow a node, and where they find it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinkAccount {
    /// Who logs in.
    pub user: String,
    /// Where its password is kept; never the password.
    pub password: Option<Secret>,
    /// The node's host, as the others know it.
    pub host: String,
    /// Its port there.
    pub port: u16,
}

/// A named list of tables that links carry together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TableSet {
    /// Its name in the file.
    pub name: String,
    /// Table names as most nodes have them.
    pub tables: Vec<String>,
    /// The row filter, SQL as the nodes understand it.
    pub filter: Option<String>,
    /// Which columns belong to the set.
    pub columns: ColumnChoice,
}

/// Which columns of its tables a set carries. The key always belongs to it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum ColumnChoice {
    /// All of them.
    #[default]
    All,
    /// These.
    Only(Vec<String>),
    /// All but these.
    Without(Vec<String>),
}

/// One direction between two nodes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Link {
    /// Whose writes travel.
    pub from: NodeId,
    /// Where they are applied.
    pub to: NodeId,
    /// The sets it carries.
    pub carries: Vec<SetId>,
    /// How late it is on purpose.
    pub delay: Option<Duration>,
}

/// When late is too late.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// Behind by more than this is trailing.
    pub trailing: Duration,
    /// Nothing applied for this long, while behind, is stalled.
    pub stalled: Duration,
    /// Clocks may differ by this much.
    pub clock: Duration,
    /// So many bytes of log may be held back for one reader.
    pub held_back: u64,
    /// How late a link may be of which nothing can be told: `trailing`, if the file says it.
    pub settle: Option<Duration>,
    /// A plan older than this is not carried out.
    pub plan: Duration,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            trailing: Duration::from_secs(30),
            stalled: Duration::from_secs(120),
            clock: Duration::from_millis(500),
            held_back: 10_000_000_000,
            settle: None,
            plan: Duration::from_secs(3600),
        }
    }
}

/// Who is right, by table.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Authority {
    /// For tables without a rule of their own.
    pub default: AuthorityRule,
    /// By table.
    pub tables: BTreeMap<String, AuthorityRule>,
    /// By table, or under `default`: the column that says when a row was last written.
    pub written: BTreeMap<String, String>,
}

impl Authority {
    /// Sets the rule for a table, or under `default` that for all others.
    pub(crate) fn set(&mut self, table: &str, rule: AuthorityRule) {
        match table {
            "default" => self.default = rule,
            _ => drop(self.tables.insert(table.to_owned(), rule)),
        }
    }

    /// The column that says when rows of a table were last written, if the file names one.
    #[must_use]
    pub fn written_column(&self, table: &str) -> Option<&str> {
        let of = if self.tables.contains_key(table) { table } else { "default" };
        self.written.get(of).map(String::as_str)
    }

    /// The rule for a table.
    #[must_use]
    pub fn rule(&self, table: &str) -> AuthorityRule {
        *self.tables.get(table).unwrap_or(&self.default)
    }
}

/// How to decide which version of a row is right.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum AuthorityRule {
    /// The version that most of the nodes hold that rows can come from.
    Majority,
    /// The version of this node.
    Node(NodeId),
    /// The latest write. Needs commit times, or a column that says when.
    Latest,
    /// The version of the node where the row was first made. Needs origins.
    Home,
    /// Nobody: every divergent row is a question.
    #[default]
    Ask,
}

impl Topology {
    /// Its writers and its links, in a line.
    #[must_use]
    pub fn outline(&self) -> String {
        let name = |node: NodeId| &self.nodes[node].name[..];
        let writers: Vec<&str> =
            self.nodes.iter().filter(|node| node.writes).map(|node| &node.name[..]).collect();
        let mut links: Vec<String> = self
            .links
            .iter()
            .map(|link| {
                let sets: Vec<&str> =
                    link.carries.iter().map(|set| &self.sets[*set].name[..]).collect();
                format!("{} -> {} ({})", name(link.from), name(link.to), sets.join(", "))
            })
            .collect();
        links.sort();
        format!("written to: {}; links: {}", writers.join(", "), links.join("; "))
    }
}

/// How bad a [`Problem`] is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum ProblemLevel {
    /// The file can be used; something in it is probably not meant so.
    Warning,
    /// The file cannot be used.
    Error,
}

/// Something wrong with the text of a topology file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    /// Error or warning.
    pub level: ProblemLevel,
    /// The bytes of the text it is about.
    pub span: Option<Range<usize>>,
    /// The problem.
    pub message: String,
    /// The remedy.
    pub help: Option<String>,
}

impl Topology {
    /// The node of that name.
    #[must_use]
    pub fn node(&self, name: &str) -> Option<NodeId> {
        self.nodes.iter().position(|node| node.name == name)
    }

    /// The directed pairs of nodes between which a set travels.
    pub fn edges(&self, set: SetId) -> impl Iterator<Item = (NodeId, NodeId)> + '_ {
        self.links
            .iter()
            .filter(move |link| link.carries.contains(&set))
            .map(|link| (link.from, link.to))
    }

    /// The nodes that carry a set: the ends of the links that carry it, in file order.
    #[must_use]
    pub fn carriers(&self, set: SetId) -> Vec<NodeId> {
        let mut nodes: Vec<_> = self.edges(set).flat_map(|(from, to)| [from, to]).collect();
        nodes.sort_unstable();
        nodes.dedup();
        nodes
    }

    /// The role of a node, as its links make it.
    #[must_use]
    pub fn role(&self, node: NodeId) -> Role {
        let sources = self.ends(|link| (link.to == node).then_some(link.from));
        let receivers = self.ends(|link| (link.from == node).then_some(link.to));
        let writers = sources.iter().filter(|source| self.nodes[**source].writes).count();
        if sources.iter().any(|source| receivers.contains(source)) {
            return Role::Peer;
        }
        match (sources.is_empty(), receivers.is_empty(), self.nodes[node].writes) {
            (true, true, _) => Role::Alone,
            (true, false, _) => Role::Publisher,
            (false, _, false) if writers > 1 && receivers.is_empty() => Role::Hub,
            (false, true, _) => Role::Subscriber,
            (false, false, true) => Role::Peer,
            (false, false, false) => Role::Relay,
        }
    }

    fn ends(&self, end: impl Fn(&Link) -> Option<NodeId>) -> Vec<NodeId> {
        let mut nodes: Vec<_> = self.links.iter().filter_map(end).collect();
        nodes.sort_unstable();
        nodes.dedup();
        nodes
    }
}

/// The role of a node, derived from the links.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// Exchanges writes with others.
    Peer,
    /// Only sends.
    Publisher,
    /// Only receives.
    Subscriber,
    /// Receives and passes on without being written to.
    Relay,
    /// Several writers flow into it and nothing flows out.
    Hub,
    /// No link touches it.
    Alone,
}

impl Role {
    /// The word for it.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Peer => "peer",
            Self::Publisher => "publisher",
            Self::Subscriber => "subscriber",
            Self::Relay => "relay",
            Self::Hub => "hub",
            Self::Alone => "alone",
        }
    }
}
