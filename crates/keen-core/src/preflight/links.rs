//! Links: what the file declares against what the nodes know of.

use super::legend::{
    Area, CARRIED_OTHERWISE, DELAY_DIFFERS, LEADER_ELSEWHERE, LINK_ABSENT, LINK_DOWN, LINK_LOOP,
    LINK_ONE_WAY, LINK_STRAY, NEVER_COPIED, RELAY_STARVED, SLOT_UNREAD, SOURCE_UNREACHED,
    TABLE_NOT_CARRIED, VOTERS,
};
use super::look::{Facts, Half, Incoming, Means, Publication, Published};
use super::{Desk, Finding, Level, Reaches};
use crate::topology::{Address, ColumnChoice, Link, NodeId, Topology};

/// A link that a node knows of, and where it comes from.
struct Known<'a> {
    to: NodeId,
    from: Option<NodeId>,
    link: &'a Incoming,
}

pub(super) fn examine(desk: &mut Desk<'_>) {
    let mut known = Vec::new();
    for (node, facts) in desk.nodes() {
        let what = "what brings changes to it";
        if let Some(incoming) = desk.seen(Area::Links, node, what, &facts.incoming) {
            for link in incoming {
                let from = source_of(desk, node, link);
                known.push(Known { to: node, from, link });
            }
        }
    }
    declared(desk, &known);
    for link in &known {
        running(desk, link);
        undeclared(desk, link);
        carried(desk, link);
        delayed(desk, link);
    }
    loops(desk, &known);
    starved(desk, &known);
    slots(desk, &known);
    leader(desk, &known);
}

/// The node of the topology that a link comes from.
pub(super) fn source_of(desk: &Desk<'_>, to: NodeId, link: &Incoming) -> Option<NodeId> {
    let topology = desk.topology;
    let others = || (0..topology.nodes.len()).filter(|node| *node != to);
    let source = &link.source;
    if link.means == Means::StandIn {
        return source.id.as_ref().and_then(|name| topology.node(name));
    }
    // By its own name first: an address may be seen from here otherwise than from there.
    if let Some(id) = &source.id {
        let mut named = others().filter(|node| {
            desk.facts(*node).is_some_and(|f| f.identity.ids.get("server_id") == Some(id))
        });
        if let (Some(node), None) = (named.next(), named.next()) {
            return Some(node);
        }
    }
    if let Some(address) = &source.address {
        let at = others().find(|node| has_address(desk, *node, address));
        if at.is_some() {
            return at;
        }
    }
    let slot = source.slot.as_ref()?;
    let has_slot = |node: &NodeId| {
        let slots = desk.facts(*node).map(|facts| &facts.slots);
        matches!(slots, Some(Ok(slots)) if slots.iter().any(|s| s.name == *slot && here(s, desk, *node)))
    };
    // The same name at two sources: it is the one that also has the publications.
    let candidates: Vec<NodeId> = others().filter(has_slot).collect();
    let publishes = |node: &&NodeId| match desk.facts(**node).map(|facts| &facts.publications) {
        Some(Ok(publications)) => {
            link.publications.iter().all(|name| publications.iter().any(|p| p.name == *name))
        }
        _ => false,
    };
    match &candidates[..] {
        [one] => Some(*one),
        many => many.iter().find(publishes).copied(),
    }
}

fn here(slot: &super::look::Slot, desk: &Desk<'_>, node: NodeId) -> bool {
    match (&slot.database, &desk.topology.nodes[node].at) {
        (Some(database), Address::Server(server)) => *database == server.database,
        _ => true,
    }
}

fn has_address(desk: &Desk<'_>, node: NodeId, (host, port): &(String, u16)) -> bool {
    let loopback = |host: &str| {
        host == "localhost"
            || host.is_empty()
            || host.starts_with('/')
            || host.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback())
    };
    desk.topology.nodes[node].addresses().any(|address| match address {
        Address::Server(server) => {
            server.port == *port
                && (server.host.eq_ignore_ascii_case(host)
                    || (loopback(host) && loopback(&server.host)))
        }
        Address::Sqlite(_) => false,
    })
}

/// Whether the state of links that lead to a node can be seen at all.
fn tells(desk: &Desk<'_>, node: NodeId) -> bool {
    desk.facts(node).is_some_and(|facts| facts.incoming.is_ok())
}

fn declared(desk: &mut Desk<'_>, known: &[Known<'_>]) {
    let topology = desk.topology;
    let mut pairs: Vec<(NodeId, NodeId)> = topology.links.iter().map(|l| (l.from, l.to)).collect();
    pairs.dedup();
    let is_known =
        |from: NodeId, to: NodeId| known.iter().any(|k| k.to == to && k.from == Some(from));
    for (from, to) in pairs {
        if !tells(desk, to) {
            continue; // that it cannot be seen is said already
        }
        desk.looked(Area::Links);
        if is_known(from, to) {
            continue;
        }
        let back = topology.links.iter().any(|l| l.from == to && l.to == from);
        let one_way = back && is_known(to, from);
        let (source, receiver) = (desk.name(from), desk.name(to));
        let (check, found) = if one_way {
            (
                &LINK_ONE_WAY,
                format!("{source} receives from {receiver}, and {receiver} does not from {source}"),
            )
        } else {
            (&LINK_ABSENT, format!("{receiver} knows of no link from {source}"))
        };
        let unplaced = known.iter().find(|k| k.to == to && k.from.is_none());
        let mut finding = Finding::new(check, Level::Stop, [from, to], found)
            .on_links(vec![(from, to)])
            .advise(Some(to), how_to_link(desk, from, to));
        if let Some(unplaced) = unplaced {
            finding = finding.will(format!(
                "unless {} {} there, whose source could not be told, is it",
                unplaced.link.means.words(),
                unplaced.link.name
            ));
        }
        desk.find(finding);
    }
}

fn how_to_link(desk: &Desk<'_>, from: NodeId, to: NodeId) -> String {
    let (source, receiver) = (&desk.topology.nodes[from], &desk.topology.nodes[to]);
    let Address::Server(server) = &source.at else {
        return "start what carries rows between these files".to_owned();
    };
    match (source.at.engine(), receiver.at.engine()) {
        (crate::topology::Engine::MariaDb, crate::topology::Engine::MariaDb) => format!(
            "after copying the tables: CHANGE MASTER '{}' TO MASTER_HOST = '{}', MASTER_PORT = {}, MASTER_USE_GTID = slave_pos, \
             MASTER_USER = ..., MASTER_PASSWORD = ...; START SLAVE '{}'",
            source.name, server.host, server.port, source.name
        ),
        (crate::topology::Engine::Postgres, crate::topology::Engine::Postgres) => format!(
            "CREATE SUBSCRIPTION from_{} CONNECTION 'host={} port={} dbname={} ...' PUBLICATION ... (or, for a standby, primary_conninfo)",
            source.name.replace(['-', '.'], "_"),
            server.host,
            server.port,
            server.database
        ),
        _ => "set up what carries rows between these two engines".to_owned(),
    }
}

fn running(desk: &mut Desk<'_>, known: &Known<'_>) {
    let Known { to, from, link } = known;
    let reaches = match link.receiving {
        Half::Runs => Reaches::Yes,
        Half::Tries => Reaches::No,
        Half::Stopped => Reaches::Stopped,
        Half::Untold => Reaches::Untold,
    };
    if let Some(from) = from {
        let best = desk.report.reaches.entry((*to, *from)).or_insert(reaches);
        if reaches == Reaches::Yes {
            *best = reaches;
        }
    }
    desk.looked(Area::Links);
    let links: Vec<_> = from.iter().map(|from| (*from, *to)).collect();
    let nodes: Vec<NodeId> = from.iter().copied().chain([*to]).collect();
    let (means, name, receiver) = (link.means.words(), &link.name, desk.name(*to));
    let source = from.map_or_else(|| "its source".to_owned(), |from| desk.name(from).to_owned());
    let said = link.error.as_ref().map(|error| format!(": {error}")).unwrap_or_default();
    // A subscription tells no more than that its applier is gone again and again. If it has failed and
    // its source is there, it is the rows that it stumbles over.
    let failures = link.failures.unwrap_or(0);
    let there = from.is_some_and(|from| desk.facts(from).is_some());
    if link.means == Means::Subscription && link.receiving == Half::Tries && there && failures > 0 {
        if let Some(from) = from {
            desk.report.reaches.insert((*to, *from), Reaches::Untold);
        }
        let found = format!(
            "{means} {name} on {receiver}, from {source}, stops at an error again and again ({failures} times so far)"
        );
        desk.find(
            Finding::new(&LINK_DOWN, Level::Stop, nodes, found)
                .on_links(links)
                .advise(Some(*to), "the server's log has the error and the row it stopped at"),
        );
        return;
    }
    if link.receiving == Half::Tries {
        let found = format!("{receiver} does not reach {source} ({means} {name}){said}");
        desk.find(
            Finding::new(&SOURCE_UNREACHED, Level::Stop, nodes, found).on_links(links).advise(
                Some(*to),
                "try the source's address from that machine with the account that replicates",
            ),
        );
        return;
    }
    let stopped = match (link.receiving, link.applying) {
        (Half::Stopped, Half::Stopped) => "is stopped",
        (Half::Stopped, _) => "does not fetch",
        (_, Half::Stopped) => "fetches and does not apply",
        (_, Half::Tries) => "stops at an error again and again",
        _ => return,
    };
    let found = format!("{means} {name} on {receiver}, from {source}, {stopped}{said}");
    let finding = Finding::new(&LINK_DOWN, Level::Stop, nodes, found).on_links(links);
    desk.find(match link.means {
        Means::BinaryLog => finding.run(*to, format!("START SLAVE '{}'", name.replace('\'', "''"))),
        Means::Subscription => {
            finding.run(*to, format!("ALTER SUBSCRIPTION \"{}\" ENABLE", name.replace('"', "\"\"")))
        }
        Means::Streaming | Means::StandIn => finding,
    });
}

fn undeclared(desk: &mut Desk<'_>, known: &Known<'_>) {
    let declared = known
        .from
        .is_some_and(|from| desk.topology.links.iter().any(|l| l.from == from && l.to == known.to));
    if declared {
        return;
    }
    let Known { to, from, link } = known;
    let unplaced = desk
        .topology
        .links
        .iter()
        .any(|l| l.to == *to && !desk.report.reaches.contains_key(&(*to, l.from)));
    let address = link.source.address.as_ref().map(|(host, port)| format!("{host}:{port}"));
    let means = link.means.words();
    let found = match (from, address) {
        (Some(from), _) => format!(
            "{} receives from {} over {means} {}, and the file declares no such link",
            desk.name(*to),
            desk.name(*from),
            link.name
        ),
        (None, Some(address)) => format!(
            "{} receives from {address} over {means} {}, and no node of the file is there",
            desk.name(*to),
            link.name
        ),
        (None, None) => format!(
            "{} receives over {means} {}, and where from cannot be told",
            desk.name(*to),
            link.name
        ),
    };
    let nodes: Vec<NodeId> = from.iter().copied().chain([*to]).collect();
    let level = if from.is_none() && unplaced { Level::Note } else { Level::Warn };
    desk.find(Finding::new(&LINK_STRAY, level, nodes, found));
}

/// The declared links that a known one stands for.
fn declared_as<'a>(topology: &'a Topology, known: &Known<'_>) -> impl Iterator<Item = &'a Link> {
    let (from, to) = (known.from, known.to);
    topology.links.iter().filter(move |link| Some(link.from) == from && link.to == to)
}

/// Whether a table that one node calls `full` (schema and name) is the one that the file calls `local`.
fn same_table(full: &str, local: &str) -> bool {
    full == local
        || full.strip_prefix("public.").is_some_and(|name| name == local)
        || (!local.contains('.') && full.rsplit_once('.').is_some_and(|(_, name)| name == local))
}

fn carried(desk: &mut Desk<'_>, known: &Known<'_>) {
    let topology = desk.topology;
    let Some(from) = known.from else { return };
    // Several subscriptions may carry the sets of one link between them: what any of them takes is taken.
    let beside = match desk.facts(known.to).map(|facts| &facts.incoming) {
        Some(Ok(incoming)) => {
            incoming.iter().filter(|other| source_of(desk, known.to, other) == Some(from)).collect()
        }
        _ => vec![known.link],
    };
    if !beside.first().is_some_and(|first| std::ptr::eq(*first, known.link)) {
        return; // judged with the first of them
    }
    if known.link.means != Means::Subscription {
        let whole = |link: &&Link| {
            let sets = link.carries.iter().map(|set| &topology.sets[*set]);
            sets.clone().all(|set| set.filter.is_none())
        };
        let links: Vec<&Link> = declared_as(topology, known).filter(whole).collect();
        let sets = links.iter().flat_map(|link| &link.carries);
        let tables = sets.flat_map(|set| &topology.sets[*set].tables);
        let named =
            |table: &String| (table.clone(), topology.nodes[from].name_of(table).to_owned());
        let mut empty: Vec<(String, String)> = tables
            .map(named)
            .filter(|(table, _)| {
                (any_rows(desk, from, table), any_rows(desk, known.to, table))
                    == (Some(true), Some(false))
            })
            .collect();
        empty.sort();
        empty.dedup();
        never_copied(desk, known, from, &empty);
    }
    if known.link.means == Means::BinaryLog {
        super::mariadb::carried(desk, known.to, from, &beside);
    }
    if known.link.means != Means::Subscription {
        return;
    }
    let Some(source) = desk.facts(from) else { return };
    let what = "what it publishes";
    let Some(publications) = desk.seen(Area::Links, from, what, &source.publications) else {
        return;
    };
    let taken: Vec<&Publication> = publications
        .iter()
        .filter(|p| beside.iter().any(|link| link.publications.contains(&p.name)))
        .collect();
    let sets: Vec<usize> =
        declared_as(topology, known).flat_map(|link| link.carries.iter().copied()).collect();
    let mut uncopied: Vec<(String, String)> = Vec::new();
    for set in sets {
        for table in &topology.sets[set].tables {
            desk.looked(Area::Links);
            let named = table_carried(desk, known, &beside, &taken, (from, set, table));
            uncopied.extend(named.map(|named| (table.clone(), named)));
        }
    }
    uncopied.sort();
    uncopied.dedup();
    never_copied(desk, known, from, &uncopied);
    for publication in taken.iter().filter(|publication| !publication.leaves_out.is_empty()) {
        desk.find(
            Finding::new(
                &CARRIED_OTHERWISE,
                Level::Warn,
                [from, known.to],
                format!(
                    "publication {} on {} leaves out every {}",
                    publication.name,
                    desk.name(from),
                    publication.leaves_out.join(", every ")
                ),
            )
            .on_links(vec![(from, known.to)])
            .run(
                from,
                format!(
                    "ALTER PUBLICATION \"{}\" SET (publish = 'insert, update, delete, truncate')",
                    publication.name
                ),
            ),
        );
    }
}

/// Returns what the receiver calls the table, if it took it up without copying it.
fn table_carried(
    desk: &mut Desk<'_>,
    known: &Known<'_>,
    beside: &[&Incoming],
    taken: &[&Publication],
    (from, set, table): (NodeId, usize, &str),
) -> Option<String> {
    let topology = desk.topology;
    let (source, receiver) = (&topology.nodes[from], &topology.nodes[known.to]);
    let links = vec![(from, known.to)];
    let there = source.name_of(table);
    let published: Vec<(&Publication, &Published)> = taken
        .iter()
        .flat_map(|p| p.tables.iter().map(move |t| (*p, t)))
        .filter(|(_, published)| same_table(&published.table, there))
        .collect();
    let Some((publication, entry)) = published.first() else {
        let name = taken.first().map_or("...", |p| &p.name);
        let found = format!("{} does not publish {there} to {}", source.name, receiver.name);
        desk.find(
            Finding::new(&TABLE_NOT_CARRIED, Level::Stop, [from, known.to], found)
                .of_table(table)
                .on_links(links)
                .run(from, format!("ALTER PUBLICATION \"{name}\" ADD TABLE {there}"))
                .run(
                    known.to,
                    format!("ALTER SUBSCRIPTION \"{}\" REFRESH PUBLICATION", known.link.name),
                ),
        );
        return None;
    };
    let here = receiver.name_of(table);
    let list = beside.iter().filter_map(|link| link.tables.as_ref()).flatten();
    let mut entries = list.filter(|taken| same_table(&taken.table, here)).peekable();
    if entries.peek().is_none() && beside.iter().all(|link| link.tables.is_some()) {
        let found =
            format!("{} publishes {there}, and {} has not taken it up", source.name, receiver.name);
        desk.find(
            Finding::new(&TABLE_NOT_CARRIED, Level::Stop, [from, known.to], found)
                .of_table(table)
                .on_links(links.clone())
                .run(
                    known.to,
                    format!("ALTER SUBSCRIPTION \"{}\" REFRESH PUBLICATION", known.link.name),
                ),
        );
    }
    let uncopied = entries.find(|entry| entry.ready && !entry.copied).map(|e| e.table.clone());
    parts(desk, known, (from, set, table), publication, entry);
    uncopied
}

/// Rows and columns that travel, against those of the set.
fn parts(
    desk: &mut Desk<'_>,
    known: &Known<'_>,
    (from, set, table): (NodeId, usize, &str),
    publication: &Publication,
    entry: &Published,
) {
    let topology = desk.topology;
    let set = &topology.sets[set];
    let (source, receiver) = (&topology.nodes[from].name, &topology.nodes[known.to].name);
    let mut otherwise = |found: String, needed: String| {
        desk.find(
            Finding::new(&CARRIED_OTHERWISE, Level::Warn, [from, known.to], found)
                .of_table(table)
                .on_links(vec![(from, known.to)])
                .needs(needed),
        );
    };
    let place = format!("publication {} of {source} to {receiver}", publication.name);
    match (&set.filter, &entry.filter) {
        (Some(filter), None) => otherwise(
            format!("{table} travels whole in {place}, and set {} has a filter", set.name),
            format!("WHERE ({filter})"),
        ),
        (None, Some(filter)) => otherwise(
            format!(
                "{table} travels only where {filter} in {place}, and set {} has no filter",
                set.name
            ),
            "all rows".to_owned(),
        ),
        (Some(ours), Some(theirs)) if plain(ours) != plain(theirs) => otherwise(
            format!("{table} travels where {theirs} in {place}, and set {} says {ours}", set.name),
            format!("WHERE ({ours})"),
        ),
        _ => {}
    }
    let shape = desk.facts(from).and_then(|facts| facts.tables.get(table)?.as_ref().ok()?.there());
    let Some(shape) = shape.map(|look| &look.shape) else { return };
    let in_set = |name: &String| match &set.columns {
        ColumnChoice::All => true,
        ColumnChoice::Only(list) => list.contains(name) || shape.key.contains(name),
        ColumnChoice::Without(list) => !list.contains(name),
    };
    let wanted: Vec<&String> = shape
        .columns
        .iter()
        .filter(|c| !c.generated)
        .map(|c| &c.name)
        .filter(|n| in_set(n))
        .collect();
    let lacking: Vec<&str> =
        wanted.iter().filter(|n| !entry.columns.contains(n)).map(|n| n.as_str()).collect();
    let surplus: Vec<&str> = entry
        .columns
        .iter()
        .filter(|n| !wanted.contains(n) && shape.column(n).is_none_or(|c| !c.generated))
        .map(String::as_str)
        .collect();
    let mut otherwise = |found: String| {
        let wanted: Vec<&str> = wanted.iter().map(|n| n.as_str()).collect();
        desk.find(
            Finding::new(&CARRIED_OTHERWISE, Level::Warn, [from, known.to], found)
                .of_table(table)
                .on_links(vec![(from, known.to)])
                .needs(wanted.join(", ")),
        );
    };
    if !lacking.is_empty() {
        otherwise(format!("{table} travels without {} in {place}", lacking.join(", ")));
    }
    if !surplus.is_empty() {
        otherwise(format!(
            "{table} travels with {} in {place}, which set {} leaves out",
            surplus.join(", "),
            set.name
        ));
    }
}

/// A condition without what servers add or drop when they print it.
fn plain(condition: &str) -> String {
    let mut text: String =
        condition.chars().filter(|c| !c.is_whitespace() && !"()\"".contains(*c)).collect();
    text.make_ascii_lowercase();
    for cast in ["::text", "::charactervarying", "::bpchar", "::integer", "::bigint", "::numeric"] {
        text = text.replace(cast, "");
    }
    text.replace("<>", "!=")
}

/// Whether a table holds any row, if that could be seen.
fn any_rows(desk: &Desk<'_>, node: NodeId, table: &str) -> Option<bool> {
    let look = desk.facts(node)?.tables.get(table)?.as_ref().ok()?.there()?;
    look.any_rows.as_ref().ok().copied()
}

/// Tables that a subscription took up without copying what was there before.
fn never_copied(desk: &mut Desk<'_>, known: &Known<'_>, from: NodeId, tables: &[(String, String)]) {
    let rows = |node: NodeId, table: &str| any_rows(desk, node, table);
    let (mut empty, mut filled) = (Vec::new(), Vec::new());
    for (table, named) in tables {
        match (rows(from, table), rows(known.to, table)) {
            (Some(false), _) => {} // there was nothing to copy
            (Some(true), Some(false)) => empty.push(named.as_str()),
            _ => filled.push((table.as_str(), named.as_str())),
        }
    }
    let (source, receiver) = (desk.name(from), desk.name(known.to));
    let links = vec![(from, known.to)];
    if !empty.is_empty() {
        let list = empty.join(", ");
        let found = format!(
            "the rows of {list} were never copied from {source} to {receiver}, where there are none"
        );
        let advice = format!(
            "copy {list} while nothing is written, then audit: keen preflight --join {receiver} --from {source} says how"
        );
        desk.find(
            Finding::new(&NEVER_COPIED, Level::Warn, [from, known.to], found)
                .on_links(links.clone())
                .advise(Some(known.to), advice),
        );
    }
    if !filled.is_empty() {
        let named: Vec<&str> = filled.iter().map(|(_, named)| *named).collect();
        let found = format!(
            "the rows of {} on {receiver} were not copied from {source} by {} {}",
            named.join(", "),
            known.link.means.words(),
            known.link.name
        );
        desk.find(
            Finding::new(&NEVER_COPIED, Level::Note, [from, known.to], found)
                .on_links(links)
                .advise(None, "keen audit shows whether they are the same"),
        );
    }
}

fn delayed(desk: &mut Desk<'_>, known: &Known<'_>) {
    if known.link.means == Means::StandIn {
        return; // the file is where the stand-in has its delays from
    }
    let topology = desk.topology;
    let Some(wanted) = declared_as(topology, known).map(|link| link.delay).max() else { return };
    desk.looked(Area::Links);
    let (wanted, found) = (wanted.unwrap_or_default(), known.link.delay.unwrap_or_default());
    if wanted == found {
        return;
    }
    let from = known.from.unwrap_or(known.to);
    let said = |delay: std::time::Duration| {
        if delay.is_zero() {
            "not late on purpose".to_owned()
        } else {
            format!("late by {delay:?}")
        }
    };
    let finding = Finding::new(
        &DELAY_DIFFERS,
        Level::Warn,
        [from, known.to],
        format!("the link from {} to {} is {}", desk.name(from), desk.name(known.to), said(found)),
    )
    .on_links(vec![(from, known.to)])
    .needs(said(wanted));
    let (name, seconds) = (known.link.name.replace('\'', "''"), wanted.as_secs());
    desk.find(match known.link.means {
        Means::BinaryLog => finding
            .run(known.to, format!("STOP SLAVE '{name}'"))
            .run(known.to, format!("CHANGE MASTER '{name}' TO MASTER_DELAY = {seconds}"))
            .run(known.to, format!("START SLAVE '{name}'")),
        Means::Streaming => finding
            .run(known.to, format!("ALTER SYSTEM SET recovery_min_apply_delay = '{seconds}s'"))
            .run(known.to, "SELECT pg_reload_conf()"),
        Means::Subscription | Means::StandIn => finding.advise(
            Some(known.to),
            "a subscription cannot be late on purpose: take delay out of the file, or make it a standby",
        ),
    });
}

/// Circles in which every link passes on what its source was sent.
fn loops(desk: &mut Desk<'_>, known: &[Known<'_>]) {
    let edges: Vec<(NodeId, NodeId, &str)> = known
        .iter()
        .filter(|k| k.link.means == Means::Subscription && !k.link.own_writes_only)
        .filter_map(|k| Some((k.from?, k.to, &k.link.name[..])))
        .collect();
    let mut found: Vec<Vec<NodeId>> = Vec::new();
    for (start, next, _) in &edges {
        // The shortest way back from the end of this link to its start.
        let mut paths = vec![vec![*start, *next]];
        let mut at = 0;
        while let Some(path) = paths.get(at).cloned() {
            at += 1;
            let last = path[path.len() - 1];
            if last == *start {
                let mut circle: Vec<NodeId> = path[..path.len() - 1].to_vec();
                let least =
                    circle.iter().enumerate().min_by_key(|(_, n)| **n).map_or(0, |(i, _)| i);
                circle.rotate_left(least);
                if !found.contains(&circle) {
                    found.push(circle);
                }
                break;
            }
            for (_, to, _) in edges.iter().filter(|(from, _, _)| *from == last) {
                if *to == *start || !paths.iter().any(|known| known.contains(to)) {
                    let mut longer = path.clone();
                    longer.push(*to);
                    paths.push(longer);
                }
            }
        }
    }
    for circle in found {
        let mut names: Vec<&str> = circle.iter().map(|node| desk.name(*node)).collect();
        names.push(names[0]);
        let links: Vec<(NodeId, NodeId)> =
            (0..circle.len()).map(|i| (circle[i], circle[(i + 1) % circle.len()])).collect();
        let mut finding = Finding::new(
            &LINK_LOOP,
            Level::Stop,
            circle.clone(),
            format!("changes go round: {}", names.join(" -> ")),
        )
        .needs("origin = none on each of these subscriptions")
        .on_links(links.clone());
        for (from, to) in links {
            let name = edges.iter().find(|(f, t, _)| (*f, *t) == (from, to)).map_or("", |e| e.2);
            let major = desk.facts(to).map_or(0, |facts| facts.major);
            finding = if major >= 16 {
                finding.run(
                    to,
                    format!(
                        "ALTER SUBSCRIPTION \"{}\" SET (origin = none)",
                        name.replace('"', "\"\"")
                    ),
                )
            } else {
                finding.advise(Some(to), format!("PostgreSQL {major} cannot tell where a change came from: drop subscription {name}, or move both to 16 or newer"))
            };
        }
        desk.find(finding);
    }
}

/// Links that leave out what their source was sent, though somebody further down needs it.
fn starved(desk: &mut Desk<'_>, known: &[Known<'_>]) {
    for link in known.iter().filter(|k| k.link.own_writes_only) {
        let Some(from) = link.from else { continue };
        let topology = desk.topology;
        let direct = desk.sources(link.to);
        let sets: Vec<usize> =
            declared_as(topology, link).flat_map(|l| l.carries.iter().copied()).collect();
        let behind: Vec<NodeId> = topology
            .links
            .iter()
            .filter(|l| l.to == from && l.from != link.to)
            .filter(|l| l.carries.iter().any(|set| sets.contains(set)))
            .map(|l| l.from)
            .filter(|origin| !direct.contains(origin))
            .collect();
        if behind.is_empty() {
            continue;
        }
        let found = format!(
            "{} gets only what {} itself writes: nothing that {} sends to {} gets there",
            desk.name(link.to),
            desk.name(from),
            desk.names(&behind),
            desk.name(from)
        );
        let name = link.link.name.replace('"', "\"\"");
        desk.find(
            Finding::new(&RELAY_STARVED, Level::Stop, [from, link.to], found)
                .on_links(vec![(from, link.to)])
                .run(link.to, format!("ALTER SUBSCRIPTION \"{name}\" SET (origin = any)")),
        );
    }
}

fn slots(desk: &mut Desk<'_>, known: &[Known<'_>]) {
    for (node, facts) in desk.nodes() {
        let Some(slots) = desk.seen(Area::Links, node, "its slots", &facts.slots) else { continue };
        for slot in slots {
            desk.looked(Area::Links);
            let reader = known.iter().find(|k| {
                k.from == Some(node) && k.link.source.slot.as_deref() == Some(&slot.name)
            });
            let lost = slot.log.as_deref().filter(|log| matches!(*log, "unreserved" | "lost"));
            if slot.active || (reader.is_some() && lost.is_none()) {
                continue;
            }
            let held = slot
                .held_back
                .map(|bytes| format!(", holding back {}", size(bytes)))
                .unwrap_or_default();
            let (level, found) = match (lost, reader) {
                (Some(log), Some(reader)) => (
                    Level::Stop,
                    format!(
                        "the log that slot {} keeps for {} is {log}",
                        slot.name,
                        desk.name(reader.to)
                    ),
                ),
                (Some(log), None) => {
                    (Level::Warn, format!("slot {}, which nobody reads, has {log} log", slot.name))
                }
                (None, _) => (Level::Warn, format!("nobody reads slot {}{held}", slot.name)),
            };
            let name = slot.name.replace('\'', "''");
            desk.find(Finding::new(&SLOT_UNREAD, level, [node], found).advise(
                Some(node),
                format!("when nobody needs it: SELECT pg_drop_replication_slot('{name}')"),
            ));
        }
    }
}

/// Bytes in a unit that reads well.
fn size(bytes: i64) -> String {
    #[expect(clippy::cast_precision_loss, reason = "for reading")]
    let bytes = bytes as f64;
    match bytes {
        ..1e4 => format!("{bytes} bytes"),
        ..1e7 => format!("{:.0} KB", bytes / 1e3),
        ..1e10 => format!("{:.0} MB", bytes / 1e6),
        _ => format!("{:.0} GB", bytes / 1e9),
    }
}

/// Who leads, where one leads and the others stand by.
fn leader(desk: &mut Desk<'_>, known: &[Known<'_>]) {
    let topology = desk.topology;
    for (node, facts) in desk.nodes() {
        if topology.nodes[node].writes && facts.standby {
            let leads = known.iter().find(|k| k.to == node && k.link.means == Means::Streaming);
            let leads = leads.and_then(|k| k.from).map(|n| format!(": {} leads", desk.name(n)));
            let found = format!(
                "the file says that applications write to {}, and it is a standby{}",
                desk.name(node),
                leads.unwrap_or_default()
            );
            desk.find(
                Finding::new(&LEADER_ELSEWHERE, Level::Stop, [node], found)
                    .run(node, "SELECT pg_promote()"),
            );
        }
    }
    let standbys = |facts: &Facts| facts.standby;
    if !desk.nodes().iter().any(|(_, facts)| standbys(facts)) {
        return;
    }
    // Whoever exchanges nothing but the leader's log can take over from it.
    let mut members: Vec<NodeId> = Vec::new();
    for (node, facts) in desk.nodes().into_iter().filter(|(_, facts)| facts.standby) {
        let _ = facts;
        members.push(node);
        members.extend(desk.sources(node));
    }
    for (node, facts) in desk.nodes() {
        let follows = desk.sources(node).iter().any(|source| members.contains(source));
        if follows
            && !facts.standby
            && !topology.nodes[node].writes
            && facts
                .incoming
                .as_ref()
                .is_ok_and(|incoming| incoming.iter().all(|l| l.means == Means::Streaming))
        {
            members.push(node);
            let found = format!(
                "{} takes writes of its own, and the file has it follow {}: it was promoted, or never was a standby",
                desk.name(node),
                desk.names(&desk.sources(node))
            );
            desk.find(Finding::new(&LEADER_ELSEWHERE, Level::Stop, [node], found));
        }
    }
    let mut declared: Vec<NodeId> = members
        .iter()
        .flat_map(|n| {
            let mut all = desk.receivers(*n);
            all.push(*n);
            all
        })
        .collect();
    declared.sort_unstable();
    declared.dedup();
    desk.looked(Area::Links);
    let there = declared.iter().filter(|node| desk.facts(**node).is_some()).count();
    let gone: Vec<NodeId> =
        declared.iter().copied().filter(|node| desk.facts(*node).is_none()).collect();
    let (level, found) = if there * 2 <= declared.len() {
        (
            Level::Stop,
            format!("only {there} of {} that could lead are there: no majority", declared.len()),
        )
    } else if there.is_multiple_of(2) && !gone.is_empty() {
        (
            Level::Warn,
            format!(
                "without {}, {there} remain that could lead: an even number",
                desk.names(&gone)
            ),
        )
    } else if there.is_multiple_of(2) {
        (Level::Note, format!("{there} nodes could lead: an even number"))
    } else {
        return;
    };
    desk.find(
        Finding::new(&VOTERS, level, declared, found).needs("an odd number, and more than half"),
    );
}
