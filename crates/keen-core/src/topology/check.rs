//! The checks that need the whole file.

use super::pieces::{PieceReader, nearest};
use super::{Address, Topology};

pub(super) fn across(reader: &mut PieceReader, topology: &Topology) {
    same_address(reader, topology);
    if !topology.links.is_empty() {
        nodes_without_links(reader, topology);
        sets_without_links(reader, topology);
    }
    twice_linked(reader, topology);
    names_of_tables(reader, topology);
}

/// The same file by another spelling: `./a.db` and `a.db`.
fn plain_address(address: &Address) -> String {
    match address {
        Address::Sqlite(path) => {
            let mut parts: Vec<&str> = Vec::new();
            for part in path.split('/') {
                match part {
                    "." => {}
                    "" if !parts.is_empty() => {}
                    ".." if parts.last().is_some_and(|last| !matches!(*last, ".." | "")) => {
                        parts.pop();
                    }
                    other => parts.push(other),
                }
            }
            parts.join("/")
        }
        Address::Server(server) => {
            format!("{}:{}/{}", server.host.to_ascii_lowercase(), server.port, server.database)
        }
    }
}

fn same_address(reader: &mut PieceReader, topology: &Topology) {
    for (i, node) in topology.nodes.iter().enumerate() {
        let address = plain_address(&node.at);
        let earlier = topology.nodes[..i].iter().find(|other| plain_address(&other.at) == address);
        if let (Some(earlier), false) = (earlier, address.is_empty()) {
            let span = reader.places().addresses[i].clone();
            reader.error(
                Some(span),
                format!("nodes \"{}\" and \"{}\" have the same address", earlier.name, node.name),
                Some(
                    "a database compared with itself always agrees: give each node its own"
                        .to_owned(),
                ),
            );
        }
    }
}

fn nodes_without_links(reader: &mut PieceReader, topology: &Topology) {
    for (i, node) in topology.nodes.iter().enumerate() {
        if !topology.links.iter().any(|link| link.from == i || link.to == i) {
            let span = reader.places().nodes[i].clone();
            reader.warn(
                Some(span),
                format!(
                    "no link leads to or from node \"{}\": nothing there will be checked",
                    node.name
                ),
                Some("name it in a [[link]], or take the node out".to_owned()),
            );
        }
    }
}

fn sets_without_links(reader: &mut PieceReader, topology: &Topology) {
    for (i, set) in topology.sets.iter().enumerate() {
        if topology.edges(i).next().is_none() {
            let span = reader.places().sets[i].clone();
            reader.warn(
                Some(span),
                format!("no link carries set \"{}\": its tables will not be checked", set.name),
                Some(
                    "name it in the carries = [...] of a [[link]], or take the set out".to_owned(),
                ),
            );
        }
    }
}

fn twice_linked(reader: &mut PieceReader, topology: &Topology) {
    let mut told = Vec::new();
    for (i, link) in topology.links.iter().enumerate() {
        for earlier in &topology.links[..i] {
            let shared = link.carries.iter().find(|set| earlier.carries.contains(set));
            if let (Some(set), true) = (shared, (earlier.from, earlier.to) == (link.from, link.to))
            {
                let span = reader.places().links[i].clone();
                if told.contains(&span) {
                    continue;
                }
                told.push(span.clone());
                reader.warn(
                    Some(span),
                    format!(
                        "set \"{}\" is carried from \"{}\" to \"{}\" by two links",
                        topology.sets[*set].name,
                        topology.nodes[link.from].name,
                        topology.nodes[link.to].name
                    ),
                    Some("one is enough, unless each write really is sent twice".to_owned()),
                );
            }
        }
    }
}

/// Tables named under `[authority]` and `[node.X.names]` must be tables of a set.
fn names_of_tables(reader: &mut PieceReader, topology: &Topology) {
    let tables: Vec<&str> =
        topology.sets.iter().flat_map(|set| set.tables.iter().map(String::as_str)).collect();
    let mut wrong: Vec<_> = reader.places().authority.clone();
    wrong.extend(reader.places().compare.iter().cloned());
    wrong.extend(reader.places().unique.iter().cloned());
    wrong.extend(reader.places().not_judged.iter().cloned());
    wrong.extend(reader.places().names.iter().map(|(_, place)| place.clone()));
    wrong.retain(|(name, _)| !tables.contains(&name.as_str()));
    let judged = tables.iter().any(|table| !topology.not_judged.iter().any(|left| left == table));
    if let (Some((_, span)), false, true) =
        (reader.places().not_judged.first().cloned(), judged, wrong.is_empty())
    {
        reader.error(
            Some(span),
            "every table is excluded under [conflicts]".to_owned(),
            Some("exclude only tables that cannot be judged".to_owned()),
        );
    }
    for (name, span) in wrong {
        let help = nearest(&name, tables.iter().copied()).unwrap_or_else(|| {
            "name a table as it stands in the tables = [...] of a set".to_owned()
        });
        reader.error(Some(span), format!("no set has a table \"{name}\""), Some(help));
    }
}
