//! Which of the links that nodes know of is which of the file's, and what is missing on either side.

use crate::fault::ReadFault;
use std::collections::BTreeMap;
use std::time::Duration;

use super::{LinkFlow, LinkState, Looks, state};
use crate::history::journal::is_journal_slot;
use crate::observe::filter::{domain_left_out, left_out};
use crate::observe::links::{Inflow, LinkSnapshot, Micros, Outlet};
use crate::observe::node::{Incoming, Observed, ReplicationKind, Slot, WorkerState};
use crate::observe::position::Position;
use crate::observe::source::{self, SourceHints};
use crate::topology::{Address, Engine, NodeId, Topology};
use crate::units;

/// An inflow and where it comes from.
pub(super) struct SourcedInflow<'a> {
    pub(super) to: NodeId,
    pub(super) from: Option<NodeId>,
    pub(super) inflow: &'a Inflow,
    /// The slot that it reads at its source.
    pub(super) outlet: Option<&'a Outlet>,
}

pub(super) fn snapshot<'a>(looks: Looks<'a>, node: NodeId) -> Option<&'a LinkSnapshot> {
    looks.now.get(&node).and_then(|observation| observation.snapshot())
}

pub(super) fn pair(topology: &Topology, looks: Looks<'_>) -> Vec<LinkFlow> {
    let known = known(topology, looks);
    let mut links = Vec::new();
    let mut pairs: Vec<(NodeId, NodeId)> = Vec::new();
    for link in &topology.links {
        let ends = (link.from, link.to);
        // What was left out on request is not missed.
        let asked = looks.now.contains_key(&link.from) && looks.now.contains_key(&link.to);
        if asked && !pairs.contains(&ends) {
            pairs.push(ends);
        }
    }
    for (from, to) in &pairs {
        let mut carried: Vec<&SourcedInflow<'_>> =
            known.iter().filter(|k| k.to == *to && k.from == Some(*from)).collect();
        carried.sort_by(|a, b| a.inflow.link.name.cmp(&b.inflow.link.name));
        if let Some(reason) = dark(topology, looks, (*from, *to)) {
            if let Some(link) = by_heartbeat(topology, looks, (*from, *to)) {
                links.push(link);
                continue;
            }
            let inflow = carried.first().map(|k| k.inflow);
            links.push(unseen(looks, (*from, *to), reason, inflow));
            continue;
        }
        let in_a_cluster =
            |node: &NodeId| snapshot(looks, *node).is_some_and(|snapshot| snapshot.cluster);
        if let (true, Some(member)) =
            (carried.is_empty(), [*from, *to].into_iter().find(|node| in_a_cluster(node)))
        {
            let name = &topology.nodes[member].name;
            let reason = format!(
                "{name} is a member of a synchronous cluster, which keen does not check yet"
            );
            links.push(unseen(looks, (*from, *to), reason, None));
            continue;
        }
        if carried.is_empty() {
            links.push(absent(topology, looks, (*from, *to), &known));
            continue;
        }
        for known in &carried {
            links.push(state::decide(topology, looks, known));
        }
        links.extend(uncarried(topology, looks, (*from, *to), &carried));
        links.extend(filtered(topology, looks, (*from, *to), &carried));
    }
    links.extend(strays(topology, looks, &known));
    links
}

/// Everything that brings changes to a node that answered, put to its source.
fn known<'a>(topology: &Topology, looks: Looks<'a>) -> Vec<SourcedInflow<'a>> {
    let slots: BTreeMap<NodeId, Vec<Slot>> = told(looks, |snapshot| {
        let outlets = snapshot.outlets.as_deref().unwrap_or_default();
        outlets.iter().map(|outlet| outlet.slot.clone()).collect()
    });
    let published: BTreeMap<NodeId, Vec<String>> = told(looks, |snapshot| {
        let published = snapshot.published.as_deref().unwrap_or_default();
        published.iter().map(|(publication, _)| publication.clone()).collect()
    });
    let told = |node: NodeId| {
        let snapshot = snapshot(looks, node)?;
        Some(SourceHints {
            server_id: snapshot.server_id.as_deref(),
            slots: slots.get(&node).map(Vec::as_slice).unwrap_or_default(),
            publications: published.get(&node).map(Vec::as_slice),
        })
    };
    let mut known: Vec<SourcedInflow<'_>> = Vec::new();
    for (to, observation) in looks.now {
        let Some(Ok(inflows)) = observation.snapshot().map(|snapshot| &snapshot.inflows) else {
            continue;
        };
        for inflow in inflows {
            let from = source::source_of(topology, *to, &inflow.link, &told);
            known.push(SourcedInflow { to: *to, from, inflow, outlet: None });
        }
    }
    place_the_rest(topology, looks, &mut known);
    for known in &mut known {
        let outlets =
            known.from.and_then(|from| snapshot(looks, from)).map(|snapshot| &snapshot.outlets);
        let slot = known.inflow.link.source.slot.as_deref();
        known.outlet = match outlets {
            Some(Ok(outlets)) => outlets.iter().find(|o| Some(&o.slot.name[..]) == slot),
            _ => None,
        };
    }
    known
}

/// Everything that brings changes to a node that answered, and its ends as far as they can be told.
pub(super) fn incoming<'a>(
    topology: &Topology,
    looks: Looks<'a>,
) -> Vec<((Option<NodeId>, NodeId), &'a Incoming)> {
    let known = known(topology, looks);
    known.into_iter().map(|known| ((known.from, known.to), &known.inflow.link)).collect()
}

fn told<T>(looks: Looks<'_>, of: impl Fn(&LinkSnapshot) -> T) -> BTreeMap<NodeId, T> {
    let snapshot =
        looks.now.iter().filter_map(|(node, observation)| Some((*node, observation.snapshot()?)));
    snapshot.map(|(node, snapshot)| (node, of(snapshot))).collect()
}

/// One link that could not be put to a source, at a node that misses exactly one: it is that one. So a
/// subscription is known whose source is down, or has lost its slot.
fn place_the_rest(topology: &Topology, looks: Looks<'_>, known: &mut [SourcedInflow<'_>]) {
    for to in looks.now.keys().copied() {
        let unplaced: Vec<usize> =
            (0..known.len()).filter(|i| known[*i].to == to && known[*i].from.is_none()).collect();
        if was_promoted(looks, to) {
            continue; // what it subscribes to it has from its primary, which it followed in another way
        }
        let mut missed: Vec<NodeId> = topology
            .links
            .iter()
            .filter(|link| link.to == to)
            .map(|link| link.from)
            .filter(|from| !known.iter().any(|k| k.to == to && k.from == Some(*from)))
            .filter(|from| topology.nodes[*from].at.engine() == topology.nodes[to].at.engine())
            .collect();
        missed.dedup();
        if let ([one], [from]) = (&unplaced[..], &missed[..])
            && known[*one].inflow.link.means.source_counts()
        {
            known[*one].from = Some(*from);
        }
    }
}

/// The part of its source's log that a receiver has applied.
#[derive(Debug, Clone)]
pub(super) struct Applied {
    pub(super) position: Position,
    /// The domain that it writes itself.
    pub(super) own: Option<u32>,
    /// It stands still until somebody does something.
    pub(super) stopped: bool,
    pub(super) inflow: Box<Inflow>,
}

/// How far each receiver has applied each of its sources' logs, by the links that the nodes know of.
pub(super) fn applied(
    topology: &Topology,
    observations: &crate::observe::links::Observations,
    stillness: &super::fence::Stillness,
) -> BTreeMap<(NodeId, NodeId), Observed<Applied>> {
    let (before, memory) = (crate::observe::links::Marks::new(), super::Memory::default());
    let looks = Looks { before: &before, now: observations, memory: &memory };
    let mut found: BTreeMap<(NodeId, NodeId), Observed<Applied>> = BTreeMap::new();
    for known in known(topology, looks) {
        let Some(from) = known.from else { continue };
        let (Some(source), Some(receiver)) = (snapshot(looks, from), snapshot(looks, known.to))
        else {
            continue;
        };
        let position = if known.inflow.link.means.source_counts() {
            known.outlet.and_then(|outlet| match &source.flushed {
                Some(flushed) if stillness.sender_rests(from, source, outlet) => {
                    Some(flushed.clone())
                }
                _ => outlet.confirmed.clone(),
            })
        } else {
            known.inflow.applied.clone()
        };
        let own = receiver.domain.filter(|own| source.domain != Some(*own));
        let link = &known.inflow.link;
        let stopped =
            link.receiving == WorkerState::Stopped || link.applying == WorkerState::Stopped;
        let one = position
            .map(|position| {
                let inflow = Box::new(known.inflow.clone());
                Applied { position, own, stopped, inflow }
            })
            .ok_or_else(|| {
                let name = &known.inflow.link.name;
                ReadFault::not_told(format!("{name} does not report its position"))
            });
        // Of several that share the work the one furthest behind counts.
        let slowest = match (found.remove(&(from, known.to)), one) {
            (None, one) => one,
            (Some(Err(fault)), _) | (_, Err(fault)) => Err(fault),
            (Some(Ok(a)), Ok(b)) => Ok(if a.position.has(&b.position) { b } else { a }),
        };
        found.insert((from, known.to), slowest);
    }
    for (node, observation) in observations {
        let Err(fault) = (match &observation.snapshot {
            Ok(snapshot) => snapshot.inflows.as_ref().map(|_| ()).map_err(Clone::clone),
            Err(fault) => Err(fault.clone()),
        }) else {
            continue;
        };
        for link in topology.links.iter().filter(|link| link.to == *node) {
            // A server that has one position for all of its links tells it though their status blocks.
            let by_all =
                observation.snapshot().filter(|snapshot| snapshot.engine == Engine::MariaDb);
            let applied = by_all.and_then(|receiver| {
                let source = snapshot(looks, link.from)?;
                Some(Applied {
                    position: receiver.origins.clone()?,
                    own: receiver.domain.filter(|own| source.domain != Some(*own)),
                    stopped: false,
                    inflow: Box::new(Inflow::of(Incoming::unknown(ReplicationKind::BinaryLog))),
                })
            });
            let known = found.entry((link.from, link.to));
            known.or_insert_with(|| {
                applied.ok_or_else(|| fault.clone().at(&topology.nodes[*node].name))
            });
        }
    }
    found
}

/// Why nothing can be claimed of a link.
fn dark(topology: &Topology, looks: Looks<'_>, (from, to): (NodeId, NodeId)) -> Option<String> {
    let mut reasons = Vec::new();
    for node in [from, to] {
        if let Some(Err(fault)) = looks.now.get(&node).map(|observation| &observation.snapshot) {
            reasons.push(format!("{}: {}", topology.nodes[node].name, fault.what));
        }
    }
    if !reasons.is_empty() {
        return Some(reasons.join("; "));
    }
    let receiver = snapshot(looks, to)?;
    if topology.nodes[from].at.engine() != topology.nodes[to].at.engine() {
        return Some(
            "servers of different kinds know nothing of what carries rows between them".to_owned(),
        );
    }
    let fault = receiver.inflows.as_ref().err()?;
    Some(format!("{}: {}", topology.nodes[to].name, fault.what))
}

/// How a link is of which nothing tells but the sign of life of its source, where it has come.
fn by_heartbeat(
    topology: &Topology,
    looks: Looks<'_>,
    (from, to): (NodeId, NodeId),
) -> Option<LinkFlow> {
    let name = &topology.nodes[from].name;
    let made = *snapshot(looks, from)?.beats.get(name)?;
    let came = *snapshot(looks, to)?.beats.get(name)?;
    let before = |node: NodeId| looks.before.get(&node)?.beats.get(name).copied();
    let (mark, came_before) = (before(from)?, before(to)?);
    let micros = |micros: Micros| Duration::from_micros(u64::try_from(micros).unwrap_or(0));
    let late = micros(made - came);
    let carried = topology.links.iter().filter(|link| (link.from, link.to) == (from, to));
    let delay = carried.map(|link| link.delay).max().flatten();
    let excess = late.saturating_sub(delay.unwrap_or_default());
    let limits = topology.limits;
    let moved = came != came_before;
    let (state, reason) = if came >= mark && (moved || made > mark) {
        (LinkState::Flowing, "the heartbeat that its source had at the first look has arrived")
    } else if came >= mark {
        (LinkState::Idle, "its source's last heartbeat has arrived, and there is no newer one")
    } else if moved && excess <= limits.trailing {
        (LinkState::Flowing, "heartbeats arrive within the limit")
    } else if moved {
        (LinkState::Trailing, "heartbeats arrive late")
    } else if excess <= limits.trailing && delay.is_some() {
        (LinkState::Flowing, "late on purpose")
    } else {
        (
            LinkState::Stalled,
            "its source's newest heartbeat has not arrived, and none arrived between the looks",
        )
    };
    let mut link = blank((Some(from), Some(to)), state, reason.to_owned());
    link.seen = seen(looks, Some(from), Some(to));
    link.late = (!excess.is_zero() && !state.is_well())
        .then_some(super::Lateness { by: excess, at_least: false });
    link.delay = delay;
    (link.moved, link.heartbeat) = (moved, moved);
    if state == LinkState::Stalled || state == LinkState::Trailing {
        let next = "check what carries rows between the two: neither of them knows about it";
        link.next = Some((None, next.to_owned()));
    }
    Some(link)
}

fn blank(ends: (Option<NodeId>, Option<NodeId>), state: LinkState, reason: String) -> LinkFlow {
    LinkFlow {
        from: ends.0,
        to: ends.1,
        name: None,
        means: None,
        tables: Vec::new(),
        state,
        reason,
        gap: None,
        late: None,
        delay: None,
        trend: None,
        seen: None,
        written: None,
        applied: None,
        moved: false,
        heartbeat: false,
        inflow: None,
        next: None,
        first_owed: None,
        first_unread: None,
    }
}

fn unseen(
    looks: Looks<'_>,
    (from, to): (NodeId, NodeId),
    reason: String,
    inflow: Option<&Inflow>,
) -> LinkFlow {
    let mut link = blank((Some(from), Some(to)), LinkState::Dark, reason);
    // What the receiver itself tells is no claim of ours, and often says more than silence.
    if let Some(inflow) = inflow {
        link.name = Some(inflow.link.name.clone());
        link.means = Some(inflow.link.means);
        if inflow.link.receiving == WorkerState::Tries {
            let trouble = inflow.trouble.as_ref().map(super::trouble_text);
            let said = trouble.unwrap_or_else(|| "it does not say why".to_owned());
            link.reason.push_str(&format!("; the receiver does not reach it either ({said})"));
        }
        link.inflow = Some(Box::new(inflow.clone()));
    }
    let blind = [from, to]
        .into_iter()
        .find(|node| looks.now.get(node).is_some_and(|observation| observation.snapshot.is_err()));
    if let Some(Err(fault)) = blind.and_then(|node| looks.now.get(&node)).map(|s| &s.snapshot) {
        link.next = Some((blind, fault.advice.clone()));
    }
    link
}

/// When both ends were looked at: the earlier of the two.
pub(super) fn seen(looks: Looks<'_>, from: Option<NodeId>, to: Option<NodeId>) -> Option<Micros> {
    let at = |node: NodeId| {
        let observation = looks.now.get(&node)?;
        observation.snapshot().map(|_| observation.at)
    };
    match (from.and_then(at), to.and_then(at)) {
        (Some(from), Some(to)) => Some(from.min(to)),
        (one, other) => one.or(other),
    }
}

/// Whether a node was a standby at an earlier run and is none any more.
fn was_promoted(looks: Looks<'_>, node: NodeId) -> bool {
    let now = snapshot(looks, node);
    looks.memory.standbys.contains(&node) && now.is_some_and(|snapshot| !snapshot.standby)
}

fn absent(
    topology: &Topology,
    looks: Looks<'_>,
    (from, to): (NodeId, NodeId),
    known: &[SourcedInflow<'_>],
) -> LinkFlow {
    let name = |node: NodeId| &topology.nodes[node].name;
    let follows: Vec<NodeId> = known.iter().filter(|k| k.to == to).filter_map(|k| k.from).collect();
    let unplaced = known.iter().find(|k| k.to == to && k.from.is_none());
    let promoted = was_promoted(looks, to);
    let mut reason = if promoted {
        format!("{} was a standby and was promoted", name(to))
    } else if follows.is_empty() && unplaced.is_none() {
        format!("{} follows nobody", name(to))
    } else {
        format!("{} does not follow {}", name(to), name(from))
    };
    if let Some(unplaced) = unplaced.filter(|_| !promoted) {
        let link = &unplaced.inflow.link;
        reason.push_str(&format!(
            ", unless it is {} {}, whose source is unknown",
            link.means.words(),
            link.name
        ));
    }
    let mut link = blank((Some(from), Some(to)), LinkState::Absent, reason);
    link.seen = seen(looks, Some(from), Some(to));
    link.next = Some((
        Some(to),
        format!(
            "set it up again: keen preflight --join {} --from {} says how",
            name(to),
            name(from)
        ),
    ));
    link
}

/// The tables that a link is to carry and every connection between its ends leaves out by a filter of its own.
fn filtered(
    topology: &Topology,
    looks: Looks<'_>,
    (from, to): (NodeId, NodeId),
    carried: &[&SourcedInflow<'_>],
) -> Vec<LinkFlow> {
    let by_all = |reason: &dyn Fn(&SourcedInflow<'_>) -> Option<String>| {
        let reasons: Vec<String> = carried.iter().filter_map(|known| reason(known)).collect();
        (reasons.len() == carried.len()).then(|| reasons.join(", "))
    };
    let Address::Server(server) = &topology.nodes[from].at else { return Vec::new() };
    let mut found = Vec::new();
    let domain =
        snapshot(looks, from).and_then(|snapshot| snapshot.domain).map(|domain| domain.to_string());
    let by_domain = domain.and_then(|domain| {
        by_all(&|known| domain_left_out(&known.inflow.link.filters, &domain)).map(|why| {
            (
                format!("all that {} itself writes is left out: {why}", topology.nodes[from].name),
                Vec::new(),
            )
        })
    });
    found.extend(by_domain);
    if found.is_empty() {
        let links = topology.links.iter().filter(|link| (link.from, link.to) == (from, to));
        let sets = links.flat_map(|link| &link.carries);
        let mut tables: Vec<&String> = sets.flat_map(|set| &topology.sets[*set].tables).collect();
        tables.sort_unstable();
        tables.dedup();
        found.extend(tables.into_iter().filter_map(|table| {
            let named = topology.nodes[from].name_of(table);
            let (database, name) = named.split_once('.').unwrap_or((&server.database, named));
            let why = by_all(&|known| left_out(&known.inflow.link.filters, database, name))?;
            Some((format!("{table} is left out: {why}"), vec![table.clone()]))
        }));
    }
    let link = |(reason, tables): (String, Vec<String>)| {
        let mut link = blank((Some(from), Some(to)), LinkState::Absent, reason);
        link.name = carried.first().map(|known| known.inflow.link.name.clone());
        link.means = Some(ReplicationKind::BinaryLog);
        link.tables = tables;
        link.seen = seen(looks, Some(from), Some(to));
        link.next = Some((Some(to), "keen preflight says what to do about it".to_owned()));
        link
    };
    found.into_iter().map(link).collect()
}

/// Tables that a link is to carry and that no subscription between its ends takes, or took without their rows.
fn uncarried(
    topology: &Topology,
    looks: Looks<'_>,
    (from, to): (NodeId, NodeId),
    carried: &[&SourcedInflow<'_>],
) -> Vec<LinkFlow> {
    let taken: Vec<_> = carried.iter().filter_map(|k| k.inflow.link.tables.as_ref()).collect();
    let Some(Ok(published)) = snapshot(looks, from).map(|snapshot| &snapshot.published) else {
        return Vec::new();
    };
    if taken.len() < carried.len() {
        return Vec::new(); // something among them keeps no list
    }
    let links = topology.links.iter().filter(|link| (link.from, link.to) == (from, to));
    let sets = links.flat_map(|link| &link.carries);
    let mut tables: Vec<&String> = sets.flat_map(|set| &topology.sets[*set].tables).collect();
    tables.sort_unstable();
    tables.dedup();
    let publications: Vec<&String> =
        carried.iter().flat_map(|k| &k.inflow.link.publications).collect();
    let subscription = &carried[0].inflow.link.name;
    let quoted = format!("\"{}\"", subscription.replace('"', "\"\""));
    let mut found = Vec::new();
    for table in tables {
        let here = topology.nodes[to].name_of(table);
        let there = topology.nodes[from].name_of(table);
        let known = taken.iter().flat_map(|list| list.iter()).find(|t| same(&t.table, here));
        let offered = published
            .iter()
            .any(|(publication, full)| publications.contains(&publication) && same(full, there));
        // What is to be run depends on the rows that are there already: one place knows that.
        let checked = format!("keen preflight --table {table} says what to run");
        let (reason, next) = match known {
            None if offered => (
                format!("{table} is published but not subscribed to: none of its rows travel"),
                checked,
            ),
            None => {
                (format!("{quoted} does not include {table}: none of its rows travel"), checked)
            }
            Some(taken) if !taken.ready => {
                let failed: u64 = carried.iter().filter_map(|k| k.inflow.copy_failures).sum();
                let (failed, next) = match failed {
                    0 => (String::new(), "wait for it".to_owned()),
                    times => (
                        format!(", and initial copies have failed {times} times so far"),
                        format!(
                            "read the message in {0}'s server log; a copy of rows that {0} holds already fails each time",
                            topology.nodes[to].name
                        ),
                    ),
                };
                (format!("the initial copy of {table} is not complete{failed}"), next)
            }
            Some(taken)
                if !taken.copied && never_came(topology, looks, (from, to), carried, table) =>
            {
                (
                    format!(
                        "the rows that were in {table} before were never copied: {} has none",
                        topology.nodes[to].name
                    ),
                    format!(
                        "keen audit --table {table} shows what is missing, and keen plan what to insert"
                    ),
                )
            }
            Some(_) => continue,
        };
        let mut link = blank((Some(from), Some(to)), LinkState::Absent, reason);
        link.name = Some(subscription.clone());
        link.means = Some(ReplicationKind::Subscription);
        link.tables = vec![table.clone()];
        link.seen = seen(looks, Some(from), Some(to));
        link.next = Some((Some(to), next));
        found.push(link);
    }
    found
}

/// Whether a table held rows at its source at the first look and its receiver, which has passed that, holds none.
/// Rows on their way, and rows that a filter keeps back, are no such case.
fn never_came(
    topology: &Topology,
    looks: Looks<'_>,
    (from, to): (NodeId, NodeId),
    carried: &[&SourcedInflow<'_>],
    table: &String,
) -> bool {
    let Some(then) = looks.before.get(&from) else { return false };
    let mut sets = topology.sets.iter().filter(|set| set.tables.contains(table));
    let passed = |known: &&SourcedInflow<'_>| {
        let confirmed = known.outlet.and_then(|outlet| outlet.confirmed.as_ref());
        confirmed.zip(then.position.as_ref()).is_some_and(|(has, mark)| has.has(mark))
    };
    let holds = snapshot(looks, to).and_then(|snapshot| snapshot.touched.get(table)?.holds);
    then.filled.contains(table)
        && holds == Some(false)
        && sets.all(|set| set.filter.is_none())
        && carried.iter().all(passed)
}

/// Whether a table with its schema is the one that the file calls so.
pub(super) fn same(full: &str, local: &str) -> bool {
    full == local
        || full.strip_prefix("public.").is_some_and(|name| name == local)
        || (!local.contains('.') && full.rsplit_once('.').is_some_and(|(_, name)| name == local))
}

/// Links and slots that the file knows nothing of.
fn strays(topology: &Topology, looks: Looks<'_>, known: &[SourcedInflow<'_>]) -> Vec<LinkFlow> {
    let mut found = stray_inflows(topology, looks, known);
    found.extend(idle_slots(topology, looks, known));
    found
}

/// Nodes that follow what the file does not have them follow.
fn stray_inflows(
    topology: &Topology,
    looks: Looks<'_>,
    known: &[SourcedInflow<'_>],
) -> Vec<LinkFlow> {
    let mut found = Vec::new();
    let declared =
        |from: NodeId, to: NodeId| topology.links.iter().any(|l| l.from == from && l.to == to);
    for k in known {
        if k.from.is_some_and(|from| declared(from, k.to)) {
            continue;
        }
        // The source of an unplaced one may be among those that could not be looked at.
        let hidden = |link: &crate::topology::Link| {
            link.to == k.to
                && looks.now.get(&link.from).is_none_or(|observation| observation.snapshot.is_err())
                && !known.iter().any(|other| other.to == k.to && other.from == Some(link.from))
        };
        if k.from.is_none() && topology.links.iter().any(hidden) {
            continue;
        }
        let link = &k.inflow.link;
        let reason = stray_reason(topology, k);
        let mut stray = blank((k.from, Some(k.to)), LinkState::Stray, reason);
        stray.name = Some(link.name.clone());
        stray.means = Some(link.means);
        stray.seen = seen(looks, k.from, Some(k.to));
        stray.inflow = Some(Box::new(k.inflow.clone()));
        stray.next = Some((Some(k.to), "declare it in keen.toml, or remove it".to_owned()));
        found.push(stray);
    }
    found
}

/// Slots that nobody reads, and that no link of the file could be reading.
fn idle_slots(topology: &Topology, looks: Looks<'_>, known: &[SourcedInflow<'_>]) -> Vec<LinkFlow> {
    let mut found = Vec::new();
    for (node, observation) in looks.now {
        let Some(Ok(outlets)) = observation.snapshot().map(|snapshot| &snapshot.outlets) else {
            continue;
        };
        for outlet in outlets {
            let slot = &outlet.slot;
            let reader = |k: &&SourcedInflow<'_>| {
                k.inflow.link.source.slot.as_deref() == Some(&slot.name)
                    && k.from.is_none_or(|from| from == *node)
            };
            let hidden = |link: &&crate::topology::Link| {
                link.from == *node && looks.now.get(&link.to).is_none_or(|s| s.snapshot.is_err())
            };
            let of_another =
                match (&slot.database, &observation.snapshot().and_then(|h| h.database.clone())) {
                    (Some(slots), Some(ours)) => slots != ours,
                    _ => false,
                };
            // Keen's own is told of with its node, unless the log that it needs is going.
            let is_ours = is_journal_slot(&slot.name)
                && !slot.log.as_deref().is_some_and(|log| matches!(log, "unreserved" | "lost"));
            if slot.active
                || is_ours
                || of_another
                || known.iter().any(|k| reader(&k))
                || topology.links.iter().any(|link| hidden(&link))
            {
                continue;
            }
            found.push(idle_slot(topology, *node, slot, observation.at));
        }
    }
    found
}

/// Nobody reads a slot.
fn idle_slot(topology: &Topology, node: NodeId, slot: &Slot, seen: Micros) -> LinkFlow {
    let held = slot.held_back.map(|bytes| {
        format!(" and holds back {} of log", units::size(bytes.max(0).unsigned_abs()))
    });
    let log = slot.log.as_deref().filter(|log| matches!(*log, "unreserved" | "lost"));
    let log = log.map(|log| format!("; the log it needs is {log}"));
    let reason = format!(
        "nobody reads slot {} on {}: it does not advance{}{}",
        slot.name,
        topology.nodes[node].name,
        held.unwrap_or_default(),
        log.unwrap_or_default()
    );
    let mut stray = blank((Some(node), None), LinkState::Stray, reason);
    stray.name = Some(slot.name.clone());
    stray.seen = Some(seen);
    stray.next = Some((
        Some(node),
        format!(
            "when nobody comes back for it, as whoever does would lose what it has not fetched: SELECT pg_drop_replication_slot('{}')",
            slot.name.replace('\'', "''")
        ),
    ));
    stray
}

fn stray_reason(topology: &Topology, stray: &SourcedInflow<'_>) -> String {
    let link = &stray.inflow.link;
    let (to, means) = (&topology.nodes[stray.to].name, link.means.words());
    let address = link.source.address.as_ref().map(|(host, port)| format!("{host}:{port}"));
    match (stray.from, address) {
        (Some(from), _) => format!(
            "{to} follows {} over {means} {}, but the file declares no such link",
            topology.nodes[from].name, link.name
        ),
        (None, Some(address)) => format!(
            "{to} follows {address} over {means} {}, but no node in the file has that address",
            link.name
        ),
        (None, None) => {
            format!("{to} has {means} {}, whose source is unknown", link.name)
        }
    }
}
