//! From the text of a `keen.toml` to a topology, collecting every problem on the way.

use std::collections::BTreeMap;
use std::ops::Range;
use std::time::Duration;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::check;
use super::{
    Address, Authority, ColumnChoice, Level, Limits, Link, Node, NodeId, Problem, Rule, Secret,
    SetId, TableSet, Topology,
};

/// Reads and checks a topology file.
///
/// The topology is there exactly when no problem is an error. Problems come in
/// the order of the text.
#[must_use]
pub fn read(text: &str) -> (Option<Topology>, Vec<Problem>) {
    let (document, faults) = DeTable::parse_recoverable(text);
    let mut reader = Reader::default();
    for fault in faults {
        reader.error(fault.span(), fault.message().to_owned(), None);
    }
    let topology = reader
        .problems
        .is_empty()
        .then(|| reader.topology(document.get_ref()));
    let mut problems = reader.problems;
    problems.sort_by_key(|problem| problem.span.as_ref().map_or(usize::MAX, |span| span.start));
    if problems.iter().any(|problem| problem.level == Level::Error) {
        // What looks unintended may be no more than the consequence of an error.
        problems.retain(|problem| problem.level == Level::Error);
        return (None, problems);
    }
    (topology, problems)
}

type Item<'a> = Spanned<DeValue<'a>>;
/// A name with the place it was written.
pub(super) type Placed<T> = (T, Range<usize>);

/// Where the parts of the topology stand in the text, for the checks across them.
#[derive(Default)]
pub(super) struct Places {
    pub(super) nodes: Vec<Range<usize>>,
    pub(super) addresses: Vec<Range<usize>>,
    pub(super) sets: Vec<Range<usize>>,
    /// Place of each entry of `Topology::links`.
    pub(super) links: Vec<Range<usize>>,
    pub(super) authority: Vec<Placed<String>>,
    pub(super) names: Vec<(NodeId, Placed<String>)>,
}

#[derive(Default)]
pub(super) struct Reader {
    problems: Vec<Problem>,
    places: Places,
}

const ENGINES: [(&str, &str); 4] = [
    ("postgres://", "postgresql"),
    ("postgresql://", "postgresql"),
    ("mariadb://", "mariadb"),
    ("mysql://", "mysql"),
];

const WORDS_OF_AUTHORITY: [(&str, Rule); 4] = [
    ("majority", Rule::Majority),
    ("latest", Rule::Latest),
    ("home", Rule::Home),
    ("ask", Rule::Ask),
];

impl Reader {
    pub(super) fn error(
        &mut self,
        span: Option<Range<usize>>,
        message: String,
        help: Option<String>,
    ) {
        self.problems.push(Problem {
            level: Level::Error,
            span,
            message,
            help,
        });
    }

    pub(super) fn warn(
        &mut self,
        span: Option<Range<usize>>,
        message: String,
        help: Option<String>,
    ) {
        self.problems.push(Problem {
            level: Level::Warning,
            span,
            message,
            help,
        });
    }

    pub(super) fn places(&self) -> &Places {
        &self.places
    }

    fn topology(&mut self, document: &DeTable<'_>) -> Topology {
        self.known_keys(
            document,
            "the file",
            &["name", "node", "set", "link", "limits", "authority"],
        );
        let name = document
            .get("name")
            .and_then(|item| self.string(item, "name"));
        let nodes = self.nodes(document);
        let sets = self.sets(document);
        let mut topology = Topology {
            name: name.map_or_else(|| "topology".to_owned(), |(name, _)| name),
            nodes,
            sets,
            links: Vec::new(),
            limits: Limits::default(),
            authority: Authority::default(),
        };
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
            &["at", "password", "writes", "names"],
        );
        let at = match table.get("at") {
            Some(item) => {
                self.places.addresses.push(item.span());
                self.string(item, "at")
                    .and_then(|(text, span)| self.address(&text, span))
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
                    self.places
                        .names
                        .push((id, (key.get_ref().to_string(), key.span())));
                    names.insert(key.get_ref().to_string(), local);
                }
            }
        }
        Node {
            name: name.to_owned(),
            at: at.unwrap_or_else(|| Address::Sqlite(String::new())),
            password: self
                .subtable(table, "password")
                .and_then(|t| self.secret(t)),
            writes: table
                .get("writes")
                .and_then(|item| self.boolean(item, "writes"))
                .unwrap_or(false),
            names,
        }
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
        if let Some((scheme, engine)) = ENGINES.iter().find(|(scheme, _)| text.starts_with(scheme))
        {
            let authority = text[scheme.len()..].split(['/', '?']).next().unwrap_or("");
            let account = authority
                .rsplit_once('@')
                .map_or("", |(account, _)| account);
            if account.contains(':') {
                self.error(
                    Some(span),
                    "the address holds a password".to_owned(),
                    Some("keep it out of this file: password = { env = \"NAME\" } or { file = \"path\" }".to_owned()),
                );
                return None;
            }
            return Some(Address::Server {
                engine,
                address: text.to_owned(),
            });
        }
        self.error(
            Some(span),
            format!("\"{text}\" is no address that keen knows"),
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
                    "the password is said to be in two places".to_owned(),
                    Some("keep env or file, not both".to_owned()),
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
        self.known_keys(
            table,
            &format!("set.{name}"),
            &["tables", "where", "columns", "without"],
        );
        let tables = table
            .get("tables")
            .map(|item| self.strings(item, "tables"))
            .unwrap_or_default();
        if tables.is_empty() {
            self.error(
                Some(
                    table
                        .get("tables")
                        .map_or_else(|| place.clone(), Spanned::span),
                ),
                format!("set \"{name}\" names no tables"),
                Some("add: tables = [\"guest\", \"stay\"]".to_owned()),
            );
        }
        for (i, (table, span)) in tables.iter().enumerate() {
            if tables[..i]
                .iter()
                .any(|(earlier, _)| earlier.eq_ignore_ascii_case(table))
            {
                self.error(
                    Some(span.clone()),
                    format!("set \"{name}\" names table \"{table}\" twice"),
                    Some("name it once".to_owned()),
                );
            }
        }
        let filter = table
            .get("where")
            .and_then(|item| self.string(item, "where"));
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

    // ---- links ----

    fn links(&mut self, document: &DeTable<'_>, topology: &mut Topology) {
        let Some(item) = document.get("link") else {
            self.error(
                None,
                "the file declares no links".to_owned(),
                Some("add at least one, like:\n[[link]]\nmesh = [\"valley\", \"saddle\"]\ncarries = [\"stays\"]".to_owned()),
            );
            return;
        };
        let Some(list) = item.get_ref().as_array() else {
            self.error(
                Some(item.span()),
                "links are a list".to_owned(),
                Some("write each under its own [[link]], with two brackets".to_owned()),
            );
            return;
        };
        for item in list {
            if let Some(table) = self.table(item, "link") {
                self.link(item.span(), table, topology);
            }
        }
    }

    fn link(&mut self, place: Range<usize>, table: &DeTable<'_>, topology: &mut Topology) {
        const SHAPES: [&str; 4] = ["mesh", "ring", "both", "from"];
        self.known_keys(
            table,
            "link",
            &["mesh", "ring", "both", "from", "to", "carries", "delay"],
        );
        let given: Vec<&str> = SHAPES
            .into_iter()
            .filter(|shape| table.contains_key(*shape))
            .collect();
        let to_without_from = table.contains_key("to") && !table.contains_key("from");
        if given.len() != 1 || to_without_from {
            self.error(
                Some(place),
                match given.len() {
                    0 => "the link does not say which nodes it joins".to_owned(),
                    _ => format!("the link is described in several ways: {}", list_of(table, &SHAPES, "to")),
                },
                Some("use one of: mesh = [...], ring = [...], both = [a, b], or from = ... with to = ...".to_owned()),
            );
            return;
        }
        let pairs = self.pairs(given[0], &place, table, topology);
        let carries = self.carries(&place, table, topology);
        let delay = table
            .get("delay")
            .and_then(|item| self.duration(item, "delay"));
        for (from, to) in pairs {
            self.places.links.push(place.clone());
            topology.links.push(Link {
                from,
                to,
                carries: carries.clone(),
                delay,
            });
        }
    }

    /// The directed pairs that one `[[link]]` stands for.
    fn pairs(
        &mut self,
        shape: &str,
        place: &Range<usize>,
        table: &DeTable<'_>,
        topology: &Topology,
    ) -> Vec<(NodeId, NodeId)> {
        let nodes = self.link_nodes(table, shape, topology);
        let mut pairs = Vec::new();
        match shape {
            "from" => {
                if !table.contains_key("to") {
                    self.error(
                        Some(place.clone()),
                        "the link says where it comes from, not where it leads".to_owned(),
                        Some("add: to = [\"board-east\"]".to_owned()),
                    );
                }
                let receivers = self.link_nodes(table, "to", topology);
                for from in &nodes {
                    pairs.extend(receivers.iter().map(|to| (*from, *to)));
                }
                if let Some((node, _)) = pairs.iter().find(|(from, to)| from == to) {
                    self.error(
                        Some(place.clone()),
                        format!(
                            "the link leads from \"{}\" to itself",
                            topology.nodes[*node].name
                        ),
                        Some("take it out of from or of to".to_owned()),
                    );
                }
                return pairs;
            }
            "ring" => {
                pairs.extend((0..nodes.len()).map(|i| (nodes[i], nodes[(i + 1) % nodes.len()])));
            }
            _ => {
                for from in &nodes {
                    pairs.extend(nodes.iter().filter(|to| *to != from).map(|to| (*from, *to)));
                }
            }
        }
        let span = table
            .get(shape)
            .map_or_else(|| place.clone(), Spanned::span);
        let written = table
            .get(shape)
            .and_then(|item| item.get_ref().as_array())
            .map_or(1, |list| list.len());
        if written < 2 || (shape == "both" && written != 2) {
            self.error(
                Some(span),
                format!(
                    "{shape} joins {} nodes, this names {written}",
                    if shape == "both" {
                        "two"
                    } else {
                        "two or more"
                    }
                ),
                Some("name each node that the link joins".to_owned()),
            );
        }
        pairs
    }

    fn link_nodes(&mut self, table: &DeTable<'_>, key: &str, topology: &Topology) -> Vec<NodeId> {
        let Some(item) = table.get(key) else {
            return Vec::new();
        };
        let mut nodes = Vec::new();
        for (name, span) in self.strings(item, key) {
            match topology.node(&name) {
                Some(node) if nodes.contains(&node) => {
                    self.error(
                        Some(span),
                        format!("the link names node \"{name}\" twice"),
                        Some("name it once".to_owned()),
                    );
                }
                Some(node) => nodes.push(node),
                None => {
                    let help = nearest(&name, topology.nodes.iter().map(|node| node.name.as_str()))
                        .unwrap_or_else(|| {
                            format!("declare it: [node.{name}] with at = \"sqlite:{name}.db\"")
                        });
                    self.error(
                        Some(span),
                        format!("the link names node \"{name}\", which the file does not declare"),
                        Some(help),
                    );
                }
            }
        }
        nodes
    }

    fn carries(
        &mut self,
        place: &Range<usize>,
        table: &DeTable<'_>,
        topology: &Topology,
    ) -> Vec<SetId> {
        let Some(item) = table.get("carries") else {
            self.error(
                Some(place.clone()),
                "the link does not say what it carries".to_owned(),
                Some("add: carries = [\"stays\"], with the names of table sets".to_owned()),
            );
            return Vec::new();
        };
        let mut carries = Vec::new();
        for (name, span) in self.strings(item, "carries") {
            match topology.sets.iter().position(|set| set.name == name) {
                Some(set) if carries.contains(&set) => {
                    self.error(
                        Some(span),
                        format!("the link carries set \"{name}\" twice"),
                        Some("name it once".to_owned()),
                    );
                }
                Some(set) => carries.push(set),
                None => {
                    let help = nearest(&name, topology.sets.iter().map(|set| set.name.as_str()))
                        .unwrap_or_else(|| format!("declare it: [set.{name}] with tables = [...]"));
                    self.error(
                        Some(span),
                        format!("the link carries set \"{name}\", which the file does not declare"),
                        Some(help),
                    );
                }
            }
        }
        if carries.is_empty()
            && item
                .get_ref()
                .as_array()
                .is_some_and(|list| list.is_empty())
        {
            self.error(
                Some(item.span()),
                "the link carries nothing".to_owned(),
                Some("name the table sets that travel over it".to_owned()),
            );
        }
        carries
    }

    // ---- limits and authority ----

    fn limits(&mut self, table: &DeTable<'_>) -> Limits {
        self.known_keys(table, "limits", &["trailing", "stalled", "clock"]);
        let mut limits = Limits::default();
        for (key, limit) in [
            ("trailing", &mut limits.trailing),
            ("stalled", &mut limits.stalled),
            ("clock", &mut limits.clock),
        ] {
            if let Some(duration) = table.get(key).and_then(|item| self.duration(item, key)) {
                *limit = duration;
            }
        }
        limits
    }

    fn authority(&mut self, table: &DeTable<'_>, topology: &Topology) -> Authority {
        let mut authority = Authority::default();
        for (key, item) in table {
            let Some((word, span)) = self.string(item, key.get_ref()) else {
                continue;
            };
            let rule = WORDS_OF_AUTHORITY
                .iter()
                .find(|(known, _)| *known == word)
                .map(|(_, rule)| *rule)
                .or_else(|| topology.node(&word).map(Rule::Node));
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
            if key.get_ref() == "default" {
                authority.default = rule;
            } else {
                self.places
                    .authority
                    .push((key.get_ref().to_string(), key.span()));
                authority.tables.insert(key.get_ref().to_string(), rule);
            }
        }
        authority
    }

    // ---- pieces ----

    fn known_keys(&mut self, table: &DeTable<'_>, what: &str, known: &[&str]) {
        for key in table.keys() {
            let name: &str = key.get_ref();
            if !known.contains(&name) {
                let help = nearest(name, known.iter().copied())
                    .unwrap_or_else(|| format!("known here: {}", known.join(", ")));
                self.error(
                    Some(key.span()),
                    format!("unknown key \"{name}\" in {what}"),
                    Some(help),
                );
            }
        }
    }

    /// Names of nodes and sets end up in file names, scripts and columns of output.
    fn check_name(&mut self, name: &str, span: Range<usize>, what: &str) {
        let sound = name
            .chars()
            .all(|c| c.is_alphanumeric() || "-_.".contains(c));
        if name.is_empty() || !sound || name.starts_with(['-', '.']) {
            self.error(
                Some(span),
                format!("\"{}\" cannot be the name of a {what}", name.escape_debug()),
                Some(
                    "use letters, digits, '-', '_' and '.', beginning with a letter or digit"
                        .to_owned(),
                ),
            );
        }
    }

    fn wrong_kind(&mut self, item: &Item<'_>, key: &str, expected: &str) {
        let found = item.get_ref().type_str();
        self.error(
            Some(item.span()),
            format!("{key} must be {expected}, this is of type {found}"),
            None,
        );
    }

    fn subtable<'a, 'i>(&mut self, table: &'a DeTable<'i>, key: &str) -> Option<&'a DeTable<'i>> {
        let item = table.get(key)?;
        self.table(item, key)
    }

    fn table<'a, 'i>(&mut self, item: &'a Item<'i>, key: &str) -> Option<&'a DeTable<'i>> {
        let table = item.get_ref().as_table();
        if table.is_none() {
            self.wrong_kind(item, key, "a table");
        }
        table
    }

    fn string(&mut self, item: &Item<'_>, key: &str) -> Option<Placed<String>> {
        let text = item.get_ref().as_str();
        if text.is_none() {
            self.wrong_kind(item, key, "a string");
        }
        text.map(|text| (text.to_owned(), item.span()))
    }

    /// A string or a list of strings.
    fn strings(&mut self, item: &Item<'_>, key: &str) -> Vec<Placed<String>> {
        match item.get_ref().as_array() {
            Some(list) => list
                .iter()
                .filter_map(|item| self.string(item, key))
                .collect(),
            None if item.get_ref().is_str() => self.string(item, key).into_iter().collect(),
            None => {
                self.wrong_kind(item, key, "a list of strings");
                Vec::new()
            }
        }
    }

    fn plain_strings(&mut self, item: &Item<'_>, key: &str) -> Vec<String> {
        self.strings(item, key)
            .into_iter()
            .map(|(text, _)| text)
            .collect()
    }

    fn boolean(&mut self, item: &Item<'_>, key: &str) -> Option<bool> {
        let value = item.get_ref().as_bool();
        if value.is_none() {
            self.wrong_kind(item, key, "true or false");
        }
        value
    }

    fn duration(&mut self, item: &Item<'_>, key: &str) -> Option<Duration> {
        let (text, span) = self.string(item, key)?;
        let duration = humantime::parse_duration(&text);
        if duration.is_err() {
            self.error(
                Some(span),
                format!("{key} = \"{text}\" is no length of time"),
                Some(
                    "write a number and a unit: \"500ms\", \"30s\", \"2m\", \"1h 30m\"".to_owned(),
                ),
            );
        }
        duration.ok()
    }
}

fn list_of(table: &DeTable<'_>, shapes: &[&str], extra: &str) -> String {
    let mut given: Vec<&str> = shapes
        .iter()
        .copied()
        .filter(|shape| table.contains_key(*shape))
        .collect();
    if table.contains_key(extra) {
        given.push(extra);
    }
    given.join(", ")
}

/// "did you mean", when one of the known words is near enough to be the one meant.
pub(super) fn nearest<'a>(word: &str, known: impl Iterator<Item = &'a str>) -> Option<String> {
    known
        .map(|candidate| (strsim::osa_distance(word, candidate), candidate))
        .filter(|(distance, candidate)| *distance <= 1 + candidate.chars().count() / 4)
        .min()
        .map(|(_, candidate)| format!("did you mean \"{candidate}\"?"))
}
