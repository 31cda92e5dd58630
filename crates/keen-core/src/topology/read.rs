//! From the text of a `keen.toml` to a topology, collecting every problem on the way.

use std::collections::BTreeMap;
use std::ops::Range;

use toml::Spanned;
use toml::de::DeTable;
use url::Url;

use super::check;
use super::pieces::{Item, PieceReader, nearest};
use super::{
    Address, Authority, AuthorityRule, ColumnChoice, Limits, LinkAccount, MOST_NODES, Node, NodeId,
    Problem, ProblemLevel, Secret, TableSet, Topology, WriteAccount,
};
use crate::row::conversion::Normalization;
use crate::units::read_size;
use crate::value::zone::Zone;

/// Reads and checks a topology file.
///
/// The topology is there exactly when no problem is an error. Problems come in
/// the order of the text.
#[must_use]
pub fn read(text: &str) -> (Option<Topology>, Vec<Problem>) {
    let (document, faults) = DeTable::parse_recoverable(text);
    let mut reader = PieceReader::default();
    for fault in faults {
        reader.error(fault.span(), fault.message().to_owned(), None);
    }
    let topology = reader.problems.is_empty().then(|| reader.topology(document.get_ref()));
    let mut problems = reader.problems;
    problems.sort_by_key(|problem| problem.span.as_ref().map_or(usize::MAX, |span| span.start));
    if problems.iter().any(|problem| problem.level == ProblemLevel::Error) {
        // What looks unintended may be no more than the consequence of an error.
        problems.retain(|problem| problem.level == ProblemLevel::Error);
        return (None, problems);
    }
    (topology, problems)
}

const WORDS_OF_AUTHORITY: [(&str, AuthorityRule); 4] = [
    ("majority", AuthorityRule::Majority),
    ("latest", AuthorityRule::Latest),
    ("home", AuthorityRule::Home),
    ("ask", AuthorityRule::Ask),
];

impl PieceReader {
    fn topology(&mut self, document: &DeTable<'_>) -> Topology {
        self.known_keys(
            document,
            "the file",
            &[
                "name",
                "zone",
                "heartbeat",
                "node",
                "set",
                "link",
                "limits",
                "authority",
                "compare",
                "unique",
                "conflicts",
            ],
        );
        let name = document.get("name").and_then(|item| self.string(item, "name"));
        let nodes = self.nodes(document);
        let mut topology = Topology {
            name: name.map_or_else(|| "topology".to_owned(), |(name, _)| name),
            nodes,
            sets: Vec::new(),
            links: Vec::new(),
            limits: Limits::default(),
            authority: Authority::default(),
            compare: BTreeMap::new(),
            unique: BTreeMap::new(),
            not_judged: Vec::new(),
            zone: document.get("zone").and_then(|item| self.zone(item)),
            heartbeat: document
                .get("heartbeat")
                .and_then(|item| self.string(item, "heartbeat"))
                .map(|(table, _)| table),
        };
        if self.too_large {
            return topology;
        }
        topology.sets = self.sets(document);
        self.column_names(&mut topology);
        if let Some(unique) = self.subtable(document, "unique") {
            topology.unique = self.unique(unique);
        }
        if let Some(conflicts) = self.subtable(document, "conflicts") {
            topology.not_judged = self.not_judged(conflicts);
        }
        if let Some(compare) = self.subtable(document, "compare") {
            topology.compare = self.compare(compare);
        }
        self.links(document, &mut topology);
        if let Some(limits) = self.subtable(document, "limits") {
            topology.limits = self.limits(limits);
        }
        if let Some(authority) = self.subtable(document, "authority") {
            topology.authority = self.authority(authority, &topology);
        }
        check::across(self, &topology);
        topology
    }

    // ---- nodes ----

    fn nodes(&mut self, document: &DeTable<'_>) -> Vec<Node> {
        let Some(tables) = self.subtable(document, "node") else {
            self.error(
                None,
                "the file declares no nodes".to_owned(),
                Some(
                    "add at least two, each like:\n[node.valley]\nat = \"sqlite:valley.db\""
                        .to_owned(),
                ),
            );
            return Vec::new();
        };
        if let Some((key, _)) = tables.iter().nth(MOST_NODES) {
            // Before anything else is read: a file that was made by mistake may have millions.
            self.error(
                Some(key.span()),
                format!("{} nodes; keen compares up to {MOST_NODES} at once", tables.len()),
                Some("split the topology into several files".to_owned()),
            );
            self.too_large = true;
            return Vec::new();
        }
        let mut nodes = Vec::new();
        for (key, item) in tables {
            let name: &str = key.get_ref();
            let Some(table) = self.table(item, &format!("node.{name}")) else {
                continue;
            };
            self.check_name(name, key.span(), "node");
            if WORDS_OF_AUTHORITY.iter().any(|(word, _)| *word == name) {
                self.error(
                    Some(key.span()),
                    format!(
                        "a node cannot be called \"{name}\": under [authority] that word is a rule"
                    ),
                    Some("give the node another name".to_owned()),
                );
            }
            self.places.nodes.push(key.span());
            let node = self.node(nodes.len(), name, key.span(), table);
            nodes.push(node);
        }
        nodes
    }

    fn node(&mut self, id: NodeId, name: &str, place: Range<usize>, table: &DeTable<'_>) -> Node {
        self.known_keys(
            table,
            &format!("node.{name}"),
            &["at", "password", "mend", "replication", "tls", "writes", "journal", "names"],
        );
        let mut also_at = Vec::new();
        let at = match table.get("at") {
            Some(item) => {
                self.places.addresses.push(item.span());
                let list = self.strings(item, "at");
                let mut addresses: Vec<Option<Address>> =
                    list.into_iter().map(|(text, span)| self.address(&text, span)).collect();
                let first = if addresses.is_empty() { None } else { addresses.remove(0) };
                also_at = addresses.into_iter().flatten().collect();
                if let Some(first) = &first
                    && also_at.iter().any(|other| {
                        other.engine() != first.engine() || matches!(other, Address::Sqlite(_))
                    })
                {
                    self.error(
                        Some(item.span()),
                        format!("the addresses of node \"{name}\" are not those of one server"),
                        Some(
                            "list several only for one server that can be reached in several ways"
                                .to_owned(),
                        ),
                    );
                }
                first
            }
            None => {
                self.places.addresses.push(place.clone());
                self.error(
                    Some(place),
                    format!("node \"{name}\" does not say where it is"),
                    Some(format!("add: at = \"sqlite:{name}.db\"")),
                );
                None
            }
        };
        let mut names = BTreeMap::new();
        if let Some(table) = self.subtable(table, "names") {
            for (key, item) in table {
                if let Some((local, _)) = self.string(item, key.get_ref()) {
                    self.places.names.push((id, (key.get_ref().to_string(), key.span())));
                    names.insert(key.get_ref().to_string(), local);
                }
            }
        }
        let replication = self
            .subtable(table, "replication")
            .and_then(|t| self.link_account(name, at.as_ref(), t));
        Node {
            name: name.to_owned(),
            replication,
            at: at.unwrap_or_else(|| Address::Sqlite(String::new())),
            also_at,
            password: self.subtable(table, "password").and_then(|t| self.secret(t)),
            mend: self.subtable(table, "mend").and_then(|t| self.write_account(name, t)),
            tls: table.get("tls").and_then(|item| self.tls(item)).unwrap_or_default(),
            writes: table
                .get("writes")
                .and_then(|item| self.boolean(item, "writes"))
                .unwrap_or(false),
            journal: table
                .get("journal")
                .and_then(|item| self.string(item, "journal"))
                .map(|(path, _)| path),
            names,
            column_names: BTreeMap::new(),
        }
    }

    /// `[node.X.mend]`: the account that carries plans out.
    fn write_account(&mut self, node: &str, table: &DeTable<'_>) -> Option<WriteAccount> {
        self.known_keys(table, &format!("node.{node}.mend"), &["user", "password"]);
        let Some(user) = table.get("user") else {
            let place = table.iter().next().map(|(key, _)| key.span());
            self.error(
                place,
                format!("node.{node}.mend does not say which account it is"),
                Some("add: user = \"keen_mend\"".to_owned()),
            );
            return None;
        };
        let (user, _) = self.string(user, "user")?;
        let password = self.subtable(table, "password").and_then(|t| self.secret(t));
        Some(WriteAccount { user, password })
    }

    /// `[node.X.replication]`: how others follow the node.
    fn link_account(
        &mut self,
        node: &str,
        at: Option<&Address>,
        table: &DeTable<'_>,
    ) -> Option<LinkAccount> {
        let place = table.iter().next().map(|(key, _)| key.span());
        let name = format!("node.{node}.replication");
        self.known_keys(table, &name, &["user", "password", "at"]);
        let Some(Address::Server(server)) = at else {
            let help = "take it out".to_owned();
            self.error(place, format!("{name}: nobody logs in to follow a file"), Some(help));
            return None;
        };
        let Some(user) = table.get("user") else {
            let help = "add: user = \"carrier\"".to_owned();
            self.error(place, format!("{name} does not say which account it is"), Some(help));
            return None;
        };
        let (user, _) = self.string(user, "user")?;
        let password = self.subtable(table, "password").and_then(|t| self.secret(t));
        let (mut host, mut port) = (server.host.clone(), server.port);
        if let Some(item) = table.get("at") {
            let (text, span) = self.string(item, "at")?;
            let url = Url::parse(&format!("node://{text}")).ok().filter(|url| {
                url.username().is_empty() && url.password().is_none() && url.path().is_empty()
            });
            let Some(named) = url.as_ref().and_then(Url::host_str).filter(|host| !host.is_empty())
            else {
                let help = "write it as \"HOST:PORT\"".to_owned();
                self.error(Some(span), format!("{name}: this is no host and port"), Some(help));
                return None;
            };
            named.trim_matches(['[', ']']).clone_into(&mut host);
            port = url.as_ref().and_then(Url::port).unwrap_or(port);
        }
        Some(LinkAccount { user, password, host, port })
    }

    /// Under `names`, `"stay.guest"` is column guest of table stay, unless a set has a table of that name.
    fn column_names(&mut self, topology: &mut Topology) {
        let tables: Vec<&String> = topology.sets.iter().flat_map(|set| &set.tables).collect();
        for (id, node) in topology.nodes.iter_mut().enumerate() {
            for (name, local) in std::mem::take(&mut node.names) {
                match name.rsplit_once('.') {
                    Some((table, column))
                        if !tables.contains(&&name) && tables.iter().any(|t| *t == table) =>
                    {
                        let columns = node.column_names.entry(table.to_owned()).or_default();
                        columns.insert(column.to_owned(), local);
                        self.places
                            .names
                            .retain(|(of, (written, _))| *of != id || *written != name);
                    }
                    _ => drop(node.names.insert(name, local)),
                }
            }
        }
    }

    fn zone(&mut self, item: &Item<'_>) -> Option<Zone> {
        let (name, span) = self.string(item, "zone")?;
        let zone = Zone::named(&name);
        if zone.is_none() {
            self.error(
                Some(span),
                format!("there is no time zone \"{name}\""),
                Some(
                    "use a name of the IANA database, such as \"Europe/Vienna\" or \"UTC\""
                        .to_owned(),
                ),
            );
        }
        zone
    }

    /// `[compare.TABLE]`: `column = "trim"` or `column = ["trim", "fold"]`.
    fn compare(
        &mut self,
        tables: &DeTable<'_>,
    ) -> BTreeMap<String, BTreeMap<String, Normalization>> {
        let mut found = BTreeMap::new();
        for (key, item) in tables {
            let name: &str = key.get_ref();
            let Some(columns) = self.table(item, &format!("compare.{name}")) else { continue };
            self.places.compare.push((name.to_owned(), key.span()));
            let mut treatments: BTreeMap<String, Normalization> = BTreeMap::new();
            for (column, item) in columns {
                let treatment = treatments.entry(column.get_ref().to_string()).or_default();
                for (word, span) in self.strings(item, column.get_ref()) {
                    if !treatment.add(&word) {
                        let help = "use \"ignore\", \"text\", \"trim\", \"fold\" or \"round 2\", or a list of them";
                        let message = format!("\"{word}\" is not a way to compare a column");
                        self.error(Some(span), message, Some(help.to_owned()));
                    }
                }
            }
            found.insert(name.to_owned(), treatments);
        }
        found
    }

    /// `[unique]`: `TABLE = ["column", "column"]`, or a list of such lists.
    fn unique(&mut self, tables: &DeTable<'_>) -> BTreeMap<String, Vec<Vec<String>>> {
        let mut found = BTreeMap::new();
        for (key, item) in tables {
            let name: &str = key.get_ref();
            self.places.unique.push((name.to_owned(), key.span()));
            let lists = item
                .get_ref()
                .as_array()
                .filter(|list| list.iter().any(|item| item.get_ref().is_array()));
            let lists: Vec<Vec<String>> = match lists {
                Some(lists) => lists.iter().map(|list| self.plain_strings(list, name)).collect(),
                None => vec![self.plain_strings(item, name)],
            };
            if lists.iter().any(Vec::is_empty) {
                let help = "name the columns: stay = [\"hut\", \"bed\", \"night\"]".to_owned();
                self.error(
                    Some(item.span()),
                    format!("{name} under [unique] names no columns"),
                    Some(help),
                );
            }
            found.insert(name.to_owned(), lists);
        }
        found
    }

    /// `[conflicts]`: tables that are left out of what is judged.
    fn not_judged(&mut self, table: &DeTable<'_>) -> Vec<String> {
        self.known_keys(table, "conflicts", &["exclude"]);
        let Some(item) = table.get("exclude") else { return Vec::new() };
        let tables = self.strings(item, "exclude");
        self.places.not_judged.extend(tables.iter().cloned());
        tables.into_iter().map(|(table, _)| table).collect()
    }

    fn address(&mut self, text: &str, span: Range<usize>) -> Option<Address> {
        if let Some(path) = text.strip_prefix("sqlite:") {
            let path = path.strip_prefix("//").unwrap_or(path);
            if path.is_empty() {
                self.error(
                    Some(span),
                    "the address names no file".to_owned(),
                    Some("write the path after the colon: \"sqlite:folder/file.db\"".to_owned()),
                );
                return None;
            }
            return Some(Address::Sqlite(path.to_owned()));
        }
        let problems = self.problems.len();
        let server = self.server(text, &span);
        if server.is_some() || self.problems.len() > problems {
            return server;
        }
        self.error(
            Some(span),
            format!("\"{text}\" is not an address that keen knows"),
            Some("use sqlite:PATH, postgres://USER@HOST:PORT/DATABASE or mariadb://USER@HOST:PORT/DATABASE".to_owned()),
        );
        None
    }

    fn secret(&mut self, table: &DeTable<'_>) -> Option<Secret> {
        self.known_keys(table, "password", &["env", "file"]);
        let env = table.get("env").and_then(|item| self.string(item, "env"));
        let file = table.get("file").and_then(|item| self.string(item, "file"));
        match (env, file) {
            (Some((name, _)), None) => Some(Secret::Env(name)),
            (None, Some((path, _))) => Some(Secret::File(path)),
            (Some((_, span)), Some(_)) => {
                self.error(
                    Some(span),
                    "two places are named for the password".to_owned(),
                    Some("use env or file, not both".to_owned()),
                );
                None
            }
            (None, None) => None,
        }
    }

    // ---- sets ----

    fn sets(&mut self, document: &DeTable<'_>) -> Vec<TableSet> {
        let Some(tables) = self.subtable(document, "set") else {
            self.error(
                None,
                "the file declares no table sets".to_owned(),
                Some(
                    "add at least one, like:\n[set.stays]\ntables = [\"guest\", \"stay\"]"
                        .to_owned(),
                ),
            );
            return Vec::new();
        };
        let mut sets = Vec::new();
        for (key, item) in tables {
            let name: &str = key.get_ref();
            let Some(table) = self.table(item, &format!("set.{name}")) else {
                continue;
            };
            self.check_name(name, key.span(), "set");
            self.places.sets.push(key.span());
            let set = self.set(name, &key.span(), table);
            sets.push(set);
        }
        sets
    }

    fn set(&mut self, name: &str, place: &Range<usize>, table: &DeTable<'_>) -> TableSet {
        self.known_keys(table, &format!("set.{name}"), &["tables", "where", "columns", "without"]);
        let tables =
            table.get("tables").map(|item| self.strings(item, "tables")).unwrap_or_default();
        if tables.is_empty() {
            self.error(
                Some(table.get("tables").map_or_else(|| place.clone(), Spanned::span)),
                format!("set \"{name}\" names no tables"),
                Some("add: tables = [\"guest\", \"stay\"]".to_owned()),
            );
        }
        for (i, (table, span)) in tables.iter().enumerate() {
            if tables[..i].iter().any(|(earlier, _)| earlier.eq_ignore_ascii_case(table)) {
                self.error(
                    Some(span.clone()),
                    format!("set \"{name}\" names table \"{table}\" twice"),
                    Some("name it once".to_owned()),
                );
            }
        }
        let filter = table.get("where").and_then(|item| self.string(item, "where"));
        if let Some((text, span)) = &filter
            && text.trim().is_empty()
        {
            self.error(
                Some(span.clone()),
                "the row filter is empty".to_owned(),
                Some(
                    "write a condition, such as \"published = 1\", or leave the line out"
                        .to_owned(),
                ),
            );
        }
        let columns = match (table.get("columns"), table.get("without")) {
            (Some(_), Some(without)) => {
                self.error(
                    Some(without.span()),
                    format!("set \"{name}\" has both columns and without"),
                    Some("say which columns travel, or which do not".to_owned()),
                );
                ColumnChoice::All
            }
            (Some(item), None) => ColumnChoice::Only(self.plain_strings(item, "columns")),
            (None, Some(item)) => ColumnChoice::Without(self.plain_strings(item, "without")),
            (None, None) => ColumnChoice::All,
        };
        TableSet {
            name: name.to_owned(),
            tables: tables.into_iter().map(|(table, _)| table).collect(),
            filter: filter.map(|(text, _)| text),
            columns,
        }
    }

    // ---- limits and authority ----

    fn limits(&mut self, table: &DeTable<'_>) -> Limits {
        self.known_keys(table, "limits", &["trailing", "stalled", "clock", "held_back", "plan"]);
        let mut limits = Limits::default();
        for (key, limit) in [
            ("trailing", &mut limits.trailing),
            ("stalled", &mut limits.stalled),
            ("clock", &mut limits.clock),
            ("plan", &mut limits.plan),
        ] {
            if let Some(duration) = table.get(key).and_then(|item| self.duration(item, key)) {
                *limit = duration;
            }
        }
        if let Some((text, span)) =
            table.get("held_back").and_then(|item| self.string(item, "held_back"))
        {
            match read_size(&text) {
                Some(size) => limits.held_back = size,
                None => self.error(
                    Some(span),
                    format!("held_back = \"{text}\" is not an amount of log"),
                    Some("write a number and a unit: \"500 MB\", \"10 GB\"".to_owned()),
                ),
            }
        }
        limits.settle = table.contains_key("trailing").then_some(limits.trailing);
        limits
    }

    fn authority(&mut self, table: &DeTable<'_>, topology: &Topology) -> Authority {
        let mut authority = Authority::default();
        for (key, item) in table {
            if let Some(latest) = item.get_ref().as_table() {
                self.known_keys(latest, &format!("the rule of \"{}\"", key.get_ref()), &["latest"]);
                let column = latest.get("latest").and_then(|item| self.string(item, "latest"));
                if let Some((column, _)) = column {
                    let name = key.get_ref().to_string();
                    if name != "default" {
                        self.places.authority.push((name.clone(), key.span()));
                    }
                    authority.written.insert(name.clone(), column);
                    authority.set(&name, AuthorityRule::Latest);
                } else if latest.is_empty() {
                    self.wrong_kind(item, key.get_ref(), "a rule, or { latest = \"COLUMN\" }");
                }
                continue;
            }
            let Some((word, span)) = self.string(item, key.get_ref()) else {
                continue;
            };
            let rule = WORDS_OF_AUTHORITY
                .iter()
                .find(|(known, _)| *known == word)
                .map(|(_, rule)| *rule)
                .or_else(|| topology.node(&word).map(AuthorityRule::Node));
            let Some(rule) = rule else {
                let words = WORDS_OF_AUTHORITY.iter().map(|(word, _)| *word);
                let nodes = topology.nodes.iter().map(|node| node.name.as_str());
                let help = nearest(&word, words.chain(nodes)).unwrap_or_else(|| {
                    "use a node's name, majority, latest, home or ask".to_owned()
                });
                self.error(
                    Some(span),
                    format!("\"{word}\" is neither a node nor a rule"),
                    Some(help),
                );
                continue;
            };
            if key.get_ref() != "default" {
                self.places.authority.push((key.get_ref().to_string(), key.span()));
            }
            authority.set(key.get_ref(), rule);
        }
        authority
    }
}
