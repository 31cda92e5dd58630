//! Preparations before journals are read: what tables look like, who calls himself what, whose slots are whose, and
//! whether a run can go on from an earlier one.

use std::collections::BTreeMap;
use std::sync::Arc;

use keen_core::fault::ReadFault;
use keen_core::history::journal::{Head, Since};
use keen_core::row::schema::TableShape;
use keen_core::topology::{NodeId, Topology};

use super::NodeRead;
use super::resume::{self, Carried};
use crate::conflicts::ConflictsRequest;
use crate::fan_out::fan_out;
use crate::opener::Journal;
use crate::tables::{self, Left, SetTable};

/// The journals that can be read, and the tables to look for in them.
pub(super) struct OpenJournals {
    /// The tables that are looked at.
    pub(super) tables: Vec<SetTable>,
    /// Tables that are not, and why.
    pub(super) left: Vec<Left>,
    /// By node how opening it went.
    pub(super) nodes: BTreeMap<NodeId, NodeRead>,
    /// A token of the topology and the tables.
    pub(super) fits: String,
    /// The head of each journal, as of where it is read from.
    pub(super) heads: BTreeMap<NodeId, Head>,
    /// The same as of its beginning.
    pub(super) whole_heads: BTreeMap<NodeId, Head>,
    pub(super) journals: BTreeMap<NodeId, Journal>,
    /// Who calls himself what.
    pub(super) known: BTreeMap<Arc<str>, NodeId>,
    /// The state of an earlier run, if this one goes on from there.
    pub(super) earlier: Option<Carried>,
}

/// Opens everything, and makes journals go on from where an earlier run got to if all can.
pub(super) fn all(request: &ConflictsRequest<'_>) -> OpenJournals {
    let topology = request.topology;
    let (shapes, mut nodes) = shapes(request);
    let (tables, left) = tables::tables(topology, request.tables, &shapes);
    let (mut heads, mut journals) = open(request, &tables, &mut nodes);
    let fits = resume::fits(topology, &tables);
    let mut earlier = request.earlier.clone().filter(|earlier| earlier.suits(&fits, &heads));
    if let Some(from) = &earlier
        && !go_on(from, &mut journals)
    {
        // What was asked to go on is of no use any more.
        earlier = None;
        (heads, journals) = open(request, &tables, &mut nodes);
    }
    resolve(topology, &heads, &mut journals);
    let mut known = identities(topology, &heads);
    // A node whose journal cannot be read may still have said who it is.
    for (node, report) in &nodes {
        if let Some(identity) = &report.identity {
            known.entry(Arc::from(&identity[..])).or_insert(*node);
        }
    }
    for (node, other, name) in twins(topology, &heads) {
        let reason = ReadFault::new(
            format!(
                "it calls itself {name}, and so does {other}: their writes cannot be told apart"
            ),
            "give each node its own identity (keen preflight says how)",
        );
        journals.remove(&node);
        nodes.entry(node).or_default().fault = Some(reason);
    }
    let whole_heads = heads.clone();
    if let Some(earlier) = &earlier {
        for (node, head) in &mut heads {
            *head = earlier.head(*node, head);
        }
    }
    OpenJournals { tables, left, nodes, fits, heads, whole_heads, journals, known, earlier }
}

/// Makes all journals go on from where an earlier run got to; false if one of them cannot.
fn go_on(earlier: &Carried, journals: &mut BTreeMap<NodeId, Journal>) -> bool {
    let journals = journals.iter_mut().map(|(node, journal)| (*node, journal));
    let going = fan_out(journals, READING, |node, journal| match earlier.mark(node) {
        Some(mark) => journal.go_on(&mark).unwrap_or_else(|fault| {
            tracing::debug!(node, %fault, "cannot go on");
            false
        }),
        None => false,
    });
    going.into_iter().all(|(_, goes_on)| goes_on.unwrap_or(false))
}

/// The shapes of the wanted tables, from every node that answers, and how asking went.
fn shapes(
    request: &ConflictsRequest<'_>,
) -> (BTreeMap<NodeId, BTreeMap<String, TableShape>>, BTreeMap<NodeId, NodeRead>) {
    let nodes = request.nodes.iter().filter(|node| *node < request.topology.nodes.len());
    let asked = fan_out(nodes.map(|node| (node, ())), READING, |node, ()| ask(request, node));
    let (mut shapes, mut nodes) = (BTreeMap::new(), BTreeMap::<NodeId, NodeRead>::new());
    for (node, asked) in asked {
        let report = nodes.entry(node).or_default();
        match asked {
            Ok(Ok((identity, of_node))) => {
                report.identity = identity;
                shapes.insert(node, of_node);
            }
            Ok(Err(fault)) => {
                report.rows_fault = Some(fault);
                let exported = (request.exported)(node);
                if !exported.is_empty() {
                    shapes.insert(node, exported);
                }
            }
            Err(fault) => report.rows_fault = Some(fault),
        }
    }
    (shapes, nodes)
}

/// A node's own name, if it says one, and the shapes of its tables.
type Said = (Option<String>, BTreeMap<String, TableShape>);

fn ask(request: &ConflictsRequest<'_>, node: NodeId) -> Result<Said, ReadFault> {
    let mut reader = (request.open)(node)?;
    let identity = reader.calls_itself();
    let mut shapes = BTreeMap::new();
    for (name, local) in names(request.topology, node) {
        match reader.shape(&local) {
            Ok(shape) => drop(shapes.insert(name, shape)),
            Err(fault) if fault.is_interrupted() => return Err(fault),
            Err(fault) => tracing::debug!(node, name, %fault, "no shape"),
        }
    }
    Ok((identity, shapes))
}

/// The tables of the sets that a node carries: as the sets name them, and as it does.
fn names(topology: &Topology, node: NodeId) -> Vec<(String, String)> {
    let mut names: Vec<(String, String)> = Vec::new();
    for (set, content) in topology.sets.iter().enumerate() {
        if topology.carriers(set).contains(&node) {
            for table in &content.tables {
                if !names.iter().any(|(known, _)| known == table) {
                    names.push((table.clone(), topology.nodes[node].name_of(table).to_owned()));
                }
            }
        }
    }
    names
}

/// The work of a node's thread, for when it falls over.
pub(super) const READING: &str = "reading it";

/// Opens the journals, side by side, and says of each node how that went.
fn open(
    request: &ConflictsRequest<'_>,
    tables: &[SetTable],
    nodes: &mut BTreeMap<NodeId, NodeRead>,
) -> (BTreeMap<NodeId, Head>, BTreeMap<NodeId, Journal>) {
    let open = |node: NodeId, ()| -> Result<(Head, Journal), ReadFault> {
        let mut names = names(request.topology, node);
        names.retain(|(name, _)| tables.iter().any(|table| table.name == *name));
        let mut journal = (request.journal)(node, &names)?;
        Ok((journal.head()?, journal))
    };
    let opened = fan_out(nodes.keys().map(|node| (*node, ())), READING, open);
    let (mut heads, mut journals) = (BTreeMap::new(), BTreeMap::new());
    for (node, opened) in opened {
        let report = nodes.entry(node).or_default();
        match opened.flatten() {
            Ok((head, journal)) => {
                report.about.clone_from(&head.about);
                report.identity =
                    head.identity.as_ref().map(ToString::to_string).or(report.identity.take());
                report.notes.clone_from(&head.notes);
                report.complete = matches!(head.since, Since::After(_));
                heads.insert(node, head);
                journals.insert(node, journal);
            }
            Err(fault) => report.fault = Some(fault),
        }
    }
    (heads, journals)
}

/// Tells each journal whose slots its node follows. Where a slot is found nowhere, and of the nodes that feed
/// it one alone did not answer, it is that one's.
fn resolve(
    topology: &Topology,
    heads: &BTreeMap<NodeId, Head>,
    journals: &mut BTreeMap<NodeId, Journal>,
) {
    let slots: Slots = (heads.iter())
        .map(|(node, head)| (*node, (head.slots.clone(), head.follows.clone())))
        .collect();
    for (node, journal) in journals {
        let name = |other: NodeId| -> Arc<str> { Arc::from(&topology.nodes[other].name[..]) };
        let sources = sources(topology, &slots, *node);
        let sources = sources.into_iter().map(|(slot, source)| (slot, name(source))).collect();
        journal.resolve(&sources);
    }
}

/// By node the slots that it has, and those of others through which it receives.
pub(super) type Slots = BTreeMap<NodeId, (Vec<String>, Vec<String>)>;

/// By slot that a node follows, whose it is.
pub(super) fn sources(
    topology: &Topology,
    slots: &Slots,
    node: NodeId,
) -> BTreeMap<String, NodeId> {
    let mut silent: Vec<NodeId> =
        topology.links.iter().filter(|link| link.to == node).map(|link| link.from).collect();
    silent.retain(|other| !slots.contains_key(other));
    silent.sort_unstable();
    silent.dedup();
    let having = |slot: &String| -> Vec<NodeId> {
        let others = slots.iter().filter(|(other, _)| **other != node);
        others.filter(|(_, (has, _))| has.contains(slot)).map(|(other, _)| *other).collect()
    };
    let Some((_, follows)) = slots.get(&node) else { return BTreeMap::new() };
    let source = |slot: &String| match (&having(slot)[..], &silent[..]) {
        ([one], _) => Some(*one),
        ([], [one]) if follows.iter().filter(|slot| having(slot).is_empty()).count() == 1 => {
            Some(*one)
        }
        _ => None,
    };
    follows.iter().filter_map(|slot| Some((slot.clone(), source(slot)?))).collect()
}

/// Who calls himself what: what journals say, and the names in the topology for those that say nothing.
fn identities(topology: &Topology, heads: &BTreeMap<NodeId, Head>) -> BTreeMap<Arc<str>, NodeId> {
    let by_name =
        topology.nodes.iter().enumerate().map(|(id, node)| (Arc::from(&node.name[..]), id));
    let mut identities: BTreeMap<Arc<str>, NodeId> = by_name.collect();
    let said =
        heads.iter().filter_map(|(node, head)| Some((Arc::clone(head.identity.as_ref()?), *node)));
    identities.extend(said);
    identities
}

/// Nodes that call themselves as an earlier one does.
fn twins(topology: &Topology, heads: &BTreeMap<NodeId, Head>) -> Vec<(NodeId, String, String)> {
    let mut twins = Vec::new();
    for (node, head) in heads {
        let Some(identity) = &head.identity else { continue };
        let same =
            heads.range(..*node).find(|(_, other)| other.identity.as_ref() == Some(identity));
        if let Some((other, _)) = same {
            twins.push((*node, topology.nodes[*other].name.clone(), identity.to_string()));
            twins.push((*other, topology.nodes[*node].name.clone(), identity.to_string()));
        }
    }
    twins
}
