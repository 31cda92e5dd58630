//! Links: from the ways of writing them to one entry per direction and pair.

use std::ops::Range;

use toml::Spanned;
use toml::de::DeTable;

use super::pieces::{Item, PieceReader, nearest};
use super::{Link, NodeId, SetId, Topology};

impl PieceReader {
    pub(super) fn links(&mut self, document: &DeTable<'_>, topology: &mut Topology) {
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
        self.known_keys(table, "link", &["mesh", "ring", "both", "from", "to", "carries", "delay"]);
        let given: Vec<&str> =
            SHAPES.into_iter().filter(|shape| table.contains_key(*shape)).collect();
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
        let delay = table.get("delay").and_then(|item| self.duration(item, "delay"));
        for (from, to) in pairs {
            self.places.links.push(place.clone());
            topology.links.push(Link { from, to, carries: carries.clone(), delay });
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
                        format!("the link leads from \"{}\" to itself", topology.nodes[*node].name),
                        Some("name it in only one of from and to".to_owned()),
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
        let span = table.get(shape).map_or_else(|| place.clone(), Spanned::span);
        let written = table
            .get(shape)
            .and_then(|item| item.get_ref().as_array())
            .map_or(1, |list| list.len());
        if written < 2 || (shape == "both" && written != 2) {
            self.error(
                Some(span),
                format!(
                    "{shape} joins {} nodes, this names {written}",
                    if shape == "both" { "two" } else { "two or more" }
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
        let known: Vec<&str> = topology.nodes.iter().map(|node| &node.name[..]).collect();
        self.known_names(item, key, "names node", &known, |name| {
            format!("declare it: [node.{name}] with at = \"sqlite:{name}.db\"")
        })
    }

    /// The places in `known` of the names that an item lists; each at most once.
    fn known_names(
        &mut self,
        item: &Item<'_>,
        key: &str,
        verb: &str,
        known: &[&str],
        declare: impl Fn(&str) -> String,
    ) -> Vec<usize> {
        let mut found = Vec::new();
        for (name, span) in self.strings(item, key) {
            match known.iter().position(|candidate| *candidate == name) {
                Some(at) if found.contains(&at) => {
                    let message = format!("the link {verb} \"{name}\" twice");
                    self.error(Some(span), message, Some("name it once".to_owned()));
                }
                Some(at) => found.push(at),
                None => {
                    let help =
                        nearest(&name, known.iter().copied()).unwrap_or_else(|| declare(&name));
                    let message =
                        format!("the link {verb} \"{name}\", which the file does not declare");
                    self.error(Some(span), message, Some(help));
                }
            }
        }
        found
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
        let known: Vec<&str> = topology.sets.iter().map(|set| &set.name[..]).collect();
        let carries = self.known_names(item, "carries", "carries set", &known, |name| {
            format!("declare it: [set.{name}] with tables = [...]")
        });
        if carries.is_empty() && item.get_ref().as_array().is_some_and(|list| list.is_empty()) {
            self.error(
                Some(item.span()),
                "the link carries nothing".to_owned(),
                Some("name the table sets that travel over it".to_owned()),
            );
        }
        carries
    }
}

fn list_of(table: &DeTable<'_>, shapes: &[&str], extra: &str) -> String {
    let mut given: Vec<&str> =
        shapes.iter().copied().filter(|shape| table.contains_key(*shape)).collect();
    if table.contains_key(extra) {
        given.push(extra);
    }
    given.join(", ")
}
