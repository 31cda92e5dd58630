//! The load of a link: tables, rows and columns against those of the sets.

use super::{CheckContext, Finding, ResolvedInflow, Severity, declared_as, source_of};
use crate::observe::node::{
    Incoming, Publication, Published, ReplicationKind, TableLook, WorkerState,
};
use crate::preflight::legend::{
    Area, CARRIED_OTHERWISE, NEVER_COPIED, TABLE_NOT_CARRIED, UPDATES_REFUSED,
};
use crate::preflight::names_rows_whole;
use crate::preflight::settings::mariadb;
use crate::setup::{Reach, SetupChange, Subject, YES};
use crate::topology::{ColumnChoice, Engine, Link, NodeId};

/// Whether a table that one node calls `full` (schema and name) is the one that the file calls `local`.
fn same_table(full: &str, local: &str) -> bool {
    full == local
        || full.strip_prefix("public.").is_some_and(|name| name == local)
        || (!local.contains('.') && full.rsplit_once('.').is_some_and(|(_, name)| name == local))
}

pub(super) fn carried(checks: &mut CheckContext<'_>, known: &ResolvedInflow<'_>) {
    let topology = checks.topology;
    let Some(from) = known.from else { return };
    // Several subscriptions may carry the sets of one link between them: what any of them takes is taken.
    let beside = match checks.facts(known.to).map(|facts| &facts.incoming) {
        Some(Ok(incoming)) => incoming
            .iter()
            .filter(|other| source_of(checks, known.to, other) == Some(from))
            .collect(),
        _ => vec![known.link],
    };
    if !beside.first().is_some_and(|first| std::ptr::eq(*first, known.link)) {
        return; // judged with the first of them
    }
    if known.link.means != ReplicationKind::Subscription {
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
                (any_rows(checks, from, table), any_rows(checks, known.to, table))
                    == (Some(true), Some(false))
            })
            .collect();
        empty.sort();
        empty.dedup();
        never_copied(checks, known, from, &empty);
    }
    if known.link.means == ReplicationKind::BinaryLog {
        mariadb::carried(checks, known.to, from, &beside);
    }
    if known.link.means != ReplicationKind::Subscription {
        return;
    }
    let Some(source) = checks.facts(from) else { return };
    let what = "what it publishes";
    let Some(publications) = checks.seen(Area::Links, from, what, &source.publications) else {
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
            checks.looked(Area::Links);
            let named = table_carried(checks, known, &beside, &taken, (from, set, table));
            uncopied.extend(named.map(|named| (table.clone(), named)));
        }
    }
    uncopied.sort();
    uncopied.dedup();
    never_copied(checks, known, from, &uncopied);
    for publication in taken.iter().filter(|publication| !publication.leaves_out.is_empty()) {
        checks.find(
            Finding::new(
                &CARRIED_OTHERWISE,
                Severity::Warn,
                [from, known.to],
                format!(
                    "publication {} on {} leaves out every {}",
                    publication.name,
                    checks.name(from),
                    publication.leaves_out.join(", every ")
                ),
            )
            .on_links(vec![(from, known.to)])
            .want(
                from,
                Engine::Postgres,
                Reach::Kept,
                SetupChange::to(
                    Subject::PublishedKinds { publication: publication.name.clone() },
                    &publication.publishing_all().join(", "),
                ),
            )
            .advise(
                None,
                "what was left out until then stays different: keen audit shows it, and keen plan what would repair it",
            ),
        );
    }
}

/// How a receiver takes up a table that is published. With a first copy only where there is nothing yet
/// that the copy could collide with or double, and nobody else puts rows there.
fn taken_up(
    checks: &CheckContext<'_>,
    finding: Finding,
    known: &ResolvedInflow<'_>,
    table: &str,
) -> Finding {
    let topology = checks.topology;
    let to = known.to;
    let fed_by_others =
        topology.links.iter().any(|link| link.to == to && Some(link.from) != known.from);
    let free =
        any_rows(checks, to, table) == Some(false) && !topology.nodes[to].writes && !fed_by_others;
    let local = named_parts(checks, to, table);
    let link = known.link.name.clone();
    let subject = Subject::SubscribedTable { link, table: local, copy: free };
    let change = SetupChange::to(subject, YES);
    if free {
        return finding.want(to, Engine::Postgres, Reach::Kept, change);
    }
    let receiver = checks.name(to);
    let why = match any_rows(checks, to, table) {
        Some(true) => format!(
            "{receiver} already has rows of {table}, and copying them would fail or duplicate them"
        ),
        Some(false) => {
            format!(
                "other nodes write {table} on {receiver} too, and a copy could collide with those writes"
            )
        }
        None => format!("it is not known whether {receiver} already has rows of {table}"),
    };
    finding
        .will(format!("without an initial copy: {why}"))
        .want(to, Engine::Postgres, Reach::Kept, change)
        .advise(
            None,
            format!("then keen audit --table {table} shows what still differs, and keen plan what would repair it"),
        )
}

/// Returns what the receiver calls the table, if it took it up without copying it.
fn table_carried(
    checks: &mut CheckContext<'_>,
    known: &ResolvedInflow<'_>,
    beside: &[&Incoming],
    taken: &[&Publication],
    (from, set, table): (NodeId, usize, &str),
) -> Option<String> {
    let topology = checks.topology;
    let (source, receiver) = (&topology.nodes[from], &topology.nodes[known.to]);
    let links = vec![(from, known.to)];
    let there = source.name_of(table);
    let published: Vec<(&Publication, &Published)> = taken
        .iter()
        .flat_map(|p| p.tables.iter().map(move |t| (*p, t)))
        .filter(|(_, published)| same_table(&published.table, there))
        .collect();
    let Some((publication, entry)) = published.first() else {
        let found = format!("{} does not publish {there} to {}", source.name, receiver.name);
        let finding = Finding::new(&TABLE_NOT_CARRIED, Severity::Stop, [from, known.to], found)
            .of_table(table)
            .on_links(links);
        let look =
            checks.facts(from).and_then(|facts| facts.tables.get(table)?.as_ref().ok()?.there());
        let unnamed =
            look.is_none_or(|look| look.named_by.as_deref().is_none_or(|by| by == "nothing"));
        let finding = match (taken, look) {
            (_, Some(_)) if unnamed => finding.advise(
                Some(from),
                format!("give {there} a primary key first: once a table without one is published, the server refuses every update and delete of it"),
            ),
            ([publication], Some(look)) => {
                let (publication, table_there) =
                    (publication.name.clone(), look.shape.qualified.clone());
                let subject = Subject::PublishedTable { publication, table: table_there };
                let change = SetupChange::to(subject, YES);
                let finding = finding.want(from, Engine::Postgres, Reach::Kept, change);
                taken_up(checks, finding, known, table)
            }
            _ => finding.advise(
                Some(from),
                format!("add {there} to one of the publications that {} subscribes to, then run keen preflight again: the next step depends on the rows that are there", receiver.name),
            ),
        };
        checks.find(finding);
        return None;
    };
    let here = receiver.name_of(table);
    let list = beside.iter().filter_map(|link| link.tables.as_ref()).flatten();
    let mut entries = list.filter(|taken| same_table(&taken.table, here)).peekable();
    if entries.peek().is_none() && beside.iter().all(|link| link.tables.is_some()) {
        let found = format!(
            "{} publishes {there}, but {} does not subscribe to it yet",
            source.name, receiver.name
        );
        let finding = Finding::new(&TABLE_NOT_CARRIED, Severity::Stop, [from, known.to], found)
            .of_table(table)
            .on_links(links.clone());
        checks.find(taken_up(checks, finding, known, table));
    }
    let uncopied = entries.find(|entry| entry.ready && !entry.copied).map(|e| e.table.clone());
    refused(checks, known, (from, table), publication, entry);
    parts(checks, known, (from, set, table), publication, entry);
    uncopied
}

/// The columns that name rows of a table to subscribers; none if that is not known, or all of them do.
fn naming(look: &TableLook) -> Option<&[String]> {
    match look.named_by.as_deref() {
        None | Some("the key") => Some(&look.shape.key),
        _ => None,
    }
}

/// Columns that a condition names and that name no rows.
fn beside_the_key<'a>(condition: &str, look: &'a TableLook) -> Vec<&'a str> {
    let Some(key) = naming(look) else { return Vec::new() };
    let mut words: Vec<String> = Vec::new();
    for (at, part) in condition.split('\'').enumerate() {
        // Between quotes stand texts.
        if at % 2 == 0 {
            let word = |c: char| !(c.is_alphanumeric() || c == '_' || c == '"');
            words.extend(part.split(word).map(|word| word.trim_matches('"').to_owned()));
        }
    }
    let columns = look.shape.columns.iter().map(|column| &column.name[..]);
    columns
        .filter(|name| words.iter().any(|word| word.eq_ignore_ascii_case(name)))
        .filter(|name| !key.iter().any(|key| key == name))
        .collect()
}

/// Whether updates and deletes of a published table can be sent at all: else the server refuses them.
fn refused(
    checks: &mut CheckContext<'_>,
    known: &ResolvedInflow<'_>,
    (from, table): (NodeId, &str),
    publication: &Publication,
    entry: &Published,
) {
    let sent =
        ["update", "delete"].iter().any(|kind| !publication.leaves_out.iter().any(|k| k == kind));
    let look = checks.facts(from).and_then(|facts| facts.tables.get(table)?.as_ref().ok()?.there());
    let (Some(look), true) = (look, sent) else { return };
    let local = checks.topology.nodes[from].name_of(table).to_owned();
    let place = format!("publication {} on {}", publication.name, checks.name(from));
    let missing: Vec<&String> = match look.named_by.as_deref() {
        Some("the whole row") => {
            look.shape.columns.iter().filter(|c| !c.generated).map(|c| &c.name).collect()
        }
        _ => naming(look).unwrap_or_default().iter().collect(),
    };
    let missing: Vec<&str> =
        missing.into_iter().filter(|name| !entry.columns.contains(name)).map(|n| &n[..]).collect();
    let beside =
        entry.filter.as_deref().map(|filter| beside_the_key(filter, look)).unwrap_or_default();
    let finding = |found: String| {
        Finding::new(&UPDATES_REFUSED, Severity::Stop, [from, known.to], found)
            .of_table(table)
            .on_links(vec![(from, known.to)])
            .will(format!("every update and delete of {local} fails, for applications too"))
    };
    let mut found = Vec::new();
    if !missing.is_empty() {
        let text = format!(
            "{place} carries {local} without {}, which identifies its rows",
            missing.join(", ")
        );
        found.push(finding(text).advise(
            Some(from),
            format!(
                "put {} into the list of columns that {place} carries of {local}",
                missing.join(", ")
            ),
        ));
    }
    if !beside.is_empty() {
        let text = format!(
            "{place} filters rows of {local} by {}, but rows are identified by their key",
            beside.join(", ")
        );
        found.push(names_rows_whole(finding(text), from, look));
    }
    for finding in found {
        checks.find(finding);
    }
}

/// A table as a node calls it, by its schema where that is known.
fn named_parts(checks: &CheckContext<'_>, node: NodeId, table: &str) -> Vec<String> {
    let look = checks.facts(node).and_then(|facts| facts.tables.get(table)?.as_ref().ok()?.there());
    match look {
        Some(look) => look.shape.qualified.clone(),
        None => checks.topology.nodes[node].name_of(table).split('.').map(str::to_owned).collect(),
    }
}

/// Rows and columns that travel, against those of the set.
fn parts(
    checks: &mut CheckContext<'_>,
    known: &ResolvedInflow<'_>,
    (from, set, table): (NodeId, usize, &str),
    publication: &Publication,
    entry: &Published,
) {
    let topology = checks.topology;
    let set = &topology.sets[set];
    let (source, receiver) = (&topology.nodes[from].name, &topology.nodes[known.to].name);
    let look = checks.facts(from).and_then(|facts| facts.tables.get(table)?.as_ref().ok()?.there());
    let look = look.cloned();
    let look = look.as_ref();
    let mut otherwise = |found: String, needed: String| {
        checks.find(
            Finding::new(&CARRIED_OTHERWISE, Severity::Warn, [from, known.to], found)
                .of_table(table)
                .on_links(vec![(from, known.to)])
                .needs(needed),
        );
    };
    let place = format!("publication {} of {source} to {receiver}", publication.name);
    // Without that the server would refuse every update.
    let with = match set.filter.as_deref().zip(look) {
        Some((filter, look)) if !beside_the_key(filter, look).is_empty() => {
            ", once the table has REPLICA IDENTITY FULL: without it, the server would refuse updates"
        }
        _ => "",
    };
    match (&set.filter, &entry.filter) {
        (Some(filter), None) => otherwise(
            format!("{place} carries all of {table}, but set {} has a filter", set.name),
            format!("WHERE ({filter}){with}"),
        ),
        (None, Some(filter)) => otherwise(
            format!(
                "{place} carries {table} only where {filter}, but set {} has no filter",
                set.name
            ),
            "all rows".to_owned(),
        ),
        (Some(ours), Some(theirs)) if plain(ours) != plain(theirs) => otherwise(
            format!("{place} carries {table} where {theirs}, but set {} says {ours}", set.name),
            format!("WHERE ({ours}){with}"),
        ),
        _ => {}
    }
    let shape =
        checks.facts(from).and_then(|facts| facts.tables.get(table)?.as_ref().ok()?.there());
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
        checks.find(
            Finding::new(&CARRIED_OTHERWISE, Severity::Warn, [from, known.to], found)
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
fn any_rows(checks: &CheckContext<'_>, node: NodeId, table: &str) -> Option<bool> {
    let look = checks.facts(node)?.tables.get(table)?.as_ref().ok()?.there()?;
    look.any_rows.as_ref().ok().copied()
}

/// Tables that a subscription took up without copying what was there before.
fn never_copied(
    checks: &mut CheckContext<'_>,
    known: &ResolvedInflow<'_>,
    from: NodeId,
    tables: &[(String, String)],
) {
    let rows = |node: NodeId, table: &str| any_rows(checks, node, table);
    let (mut empty, mut filled) = (Vec::new(), Vec::new());
    for (table, named) in tables {
        match (rows(from, table), rows(known.to, table)) {
            (Some(false), _) => {} // there was nothing to copy
            // While it does not run they may be on their way.
            (Some(true), Some(false)) if known.link.receiving == WorkerState::Runs => {
                empty.push(named.as_str());
            }
            _ => filled.push((table.as_str(), named.as_str())),
        }
    }
    let (source, receiver) = (checks.name(from), checks.name(known.to));
    let links = vec![(from, known.to)];
    if !empty.is_empty() {
        let list = empty.join(", ");
        let found = format!(
            "the rows of {list} were never copied from {source} to {receiver}, where there are none"
        );
        checks.find(
            Finding::new(&NEVER_COPIED, Severity::Warn, [from, known.to], found)
                .on_links(links.clone())
                .advise(None, "keen audit shows what is missing, and keen plan what to insert"),
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
        checks.find(
            Finding::new(&NEVER_COPIED, Severity::Note, [from, known.to], found)
                .on_links(links)
                .advise(None, "keen audit shows whether they are the same"),
        );
    }
}
