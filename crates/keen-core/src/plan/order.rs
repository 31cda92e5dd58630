//! An order of steps that the keys of a node bear.
//!
//! By default parents are inserted before children, then rows are updated,
//! then children are deleted before parents. Row by row, ties come before the
//! default: a value that must be unique is freed before it is taken, a row
//! that others refer to is there before they do and goes after they have let
//! go. The order is a topological one (A. B. Kahn, "Topological sorting of
//! large networks", CACM 5, 1962), the default rank deciding among the free.
//! Updates that exchange unique values form a ring; one of them is then made
//! as a deletion and, at its end, an insertion.
//!
//! Values are told apart by 64 bits of a digest: two that are taken for one cost an
//! ordering that was not needed, or a question, and never the other way round.

use crate::history::journal::RowOp;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, BinaryHeap};

use super::alike::GroupsOfNode;
use super::step::UpdatePart;
use super::{AuditedTable, LocalTable};
use crate::row::digest::DigestFunction;
use crate::topology::NodeId;
use crate::value::{Value, ValueRef};

/// The ties of a change of a row to others on its node: digests of values that must be unique, or that others refer
/// to.
#[derive(Debug, Clone, PartialEq, Default)]
pub(super) struct Ties {
    /// Unique values that are there no more.
    pub(super) gone: Vec<u64>,
    /// Unique values that come, and whether no two rows may hold them, whatever else stands in them.
    pub(super) come: Vec<(u64, bool)>,
    /// The values that it refers to from now on.
    pub(super) needs: Vec<u64>,
    /// The values that it refers to no more.
    pub(super) leaves: Vec<u64>,
    /// For an update in place: the same as a deletion and an insertion, if that loses nothing.
    pub(super) in_two: bool,
}

/// The ties of a change on a node.
pub(super) fn ties(
    node: NodeId,
    local: &LocalTable,
    (before, after): (Option<&Vec<Value>>, Option<&Vec<Value>>),
    multiset: bool,
    alike: &GroupsOfNode,
) -> Ties {
    let cell = |row: &Vec<Value>, name: &str| -> Option<Value> {
        let at = local.columns.iter().position(|column| column.eq_ignore_ascii_case(name))?;
        row.get(at).cloned()
    };
    let digest = |row: Option<&Vec<Value>>,
                  table: &str,
                  names: &[String],
                  values_of: &[String]|
     -> Option<u64> {
        let row = row?;
        let mut token = vec![u8::try_from(node).unwrap_or(u8::MAX)];
        token.extend_from_slice(fold_name(table).as_bytes());
        for (name, source) in names.iter().zip(values_of) {
            let value = cell(row, source).filter(|value| *value != Value::Null)?;
            token.push(0);
            token.extend_from_slice(fold_name(name).as_bytes());
            token.push(0);
            let known = alike.get(&(table.to_owned(), name.clone()));
            match (known, &value) {
                (Some(groups), Value::Text(text)) if groups.contains_key(text) => {
                    crate::row::key_order::put_key(&mut token, ValueRef::Int(groups[text].into()));
                }
                _ => crate::row::key_order::put_key(&mut token, folded(&value).as_ref()),
            }
        }
        #[expect(clippy::cast_possible_truncation, reason = "half of it is enough")]
        Some(DigestFunction::Xxh3.digest(&token).0 as u64)
    };
    let shape = &local.shape;
    let mut unique: Vec<&Vec<String>> = shape.unique.iter().collect();
    if !shape.key.is_empty() && !unique.contains(&&shape.key) {
        unique.push(&shape.key);
    }
    let mut ties = Ties::default();
    for names in unique {
        let (old, new) =
            (digest(before, &local.name, names, names), digest(after, &local.name, names, names));
        if old != new {
            ties.gone.extend(old);
            ties.come.extend(new.map(|new| (new, !shape.unique_in_part.contains(names))));
        }
    }
    for reference in &shape.references {
        let to = &reference.to;
        let (old, new) = (
            digest(before, &reference.table, to, &reference.columns),
            digest(after, &reference.table, to, &reference.columns),
        );
        if old != new {
            ties.leaves.extend(old);
            ties.needs.extend(new);
        }
    }
    let carried =
        |name: &String| local.columns.iter().any(|column| column.eq_ignore_ascii_case(name));
    // Between the halves the row is gone: for good, where nothing rolls that back. And each half is a write of
    // its own, which triggers of its own may fire on.
    let fires = |on: &str| shape.firing.iter().any(|trigger| trigger.on.iter().any(|o| o == on));
    ties.in_two = before.is_some()
        && after.is_some()
        && !multiset
        && shape.columns.iter().all(|column| carried(&column.name))
        && shape.not_transactional.is_none()
        && !fires("insert")
        && !fires("delete");
    ties
}

fn fold_name(name: &str) -> String {
    name.to_ascii_lowercase()
}

/// Under a lax collation, where the node was not asked: being too careful only costs an ordering.
fn folded(value: &Value) -> Value {
    match value {
        Value::Text(text) => Value::Text(text.trim_ascii_end().to_ascii_lowercase()),
        other => other.clone(),
    }
}

/// How deep each table stands below the tables it refers to; 0 refers to none.
pub(super) fn depths(tables: &[AuditedTable]) -> BTreeMap<String, usize> {
    let mut parents: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for local in tables.iter().flat_map(|table| table.nodes.values()) {
        let of = parents.entry(fold_name(&local.name)).or_default();
        of.extend(local.shape.references.iter().map(|reference| fold_name(&reference.table)));
    }
    let mut depths: BTreeMap<String, usize> =
        parents.keys().map(|table| (table.clone(), 0)).collect();
    for _ in 0..parents.len() {
        for (table, of) in &parents {
            let deepest = of
                .iter()
                .filter(|parent| *parent != table)
                .filter_map(|parent| depths.get(parent))
                .max();
            if let Some(deepest) = deepest.map(|depth| (depth + 1).min(parents.len())) {
                depths.insert(table.clone(), deepest);
            }
        }
    }
    let mut by_name = depths.clone();
    for table in tables {
        let depth =
            table.nodes.values().filter_map(|local| depths.get(&fold_name(&local.name))).max();
        by_name.insert(fold_name(&table.table), depth.copied().unwrap_or(0));
    }
    by_name
}

/// How deep a table stands.
pub(super) fn depth(depths: &BTreeMap<String, usize>, table: &str) -> u32 {
    let depth = depths.get(&fold_name(table)).copied().unwrap_or(0);
    u32::try_from(depth).unwrap_or(u32::MAX)
}

/// The facts that the order of a step hangs on.
#[derive(Debug, Clone, Copy)]
pub(super) struct StepFacts {
    pub(super) node: u8,
    pub(super) op: RowOp,
    /// How deep its table stands below those it refers to.
    pub(super) depth: u32,
    /// It can be made in two.
    pub(super) in_two: bool,
    /// It puts a unique value there.
    pub(super) takes: bool,
}

/// A step by its number, and what of it is made.
pub(super) type Made = (u32, UpdatePart);

/// Among the free the least comes first.
type Rank = u64;

fn rank(step: &StepFacts, at: u32) -> Rank {
    const DEEPEST: u64 = (1 << 30) - 1;
    let depth = u64::from(step.depth).min(DEEPEST);
    let depth = if step.op == RowOp::Delete { DEEPEST - depth } else { depth };
    (step.op as u64) << 62 | depth << 32 | u64::from(at)
}

fn number_in(rank: Rank) -> u32 {
    u32::try_from(rank & u64::from(u32::MAX)).unwrap_or(u32::MAX)
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum VisitState {
    Waiting,
    /// Its row is taken out, and to be put back.
    Out,
    Done,
}

/// Puts steps in order, node by node. `steps` tells of each what its place hangs on, none if it is not made after
/// all; `edges` which step comes before which, those beyond the steps being no steps but places where edges meet.
/// Returns also the steps for which there is no order.
pub(super) fn arrange(
    steps: &[Option<StepFacts>],
    mut edges: Vec<(u32, u32)>,
) -> (Vec<Made>, Vec<u32>) {
    edges.sort_unstable();
    let numbers = edges.iter().map(|(first, then)| (*first).max(*then) as usize + 1).max();
    let mut waits_for = vec![0u32; numbers.unwrap_or(0).max(steps.len())];
    edges.iter().for_each(|(_, then)| waits_for[*then as usize] += 1);
    let mut state = vec![VisitState::Waiting; steps.len()];
    let mut of_node: BTreeMap<u8, Vec<u32>> = BTreeMap::new();
    for (at, step) in (0u32..).zip(steps) {
        if let Some(step) = step {
            of_node.entry(step.node).or_default().push(at);
        }
    }
    let (mut arranged, mut stuck) = (Vec::new(), Vec::new());
    for numbers in of_node.into_values() {
        let step = |at: u32| steps[at as usize].as_ref();
        let ranked = |at: u32| step(at).map(|step| rank(step, at));
        let mut free: BinaryHeap<Reverse<Rank>> = BinaryHeap::new();
        let mut waiting: BTreeSet<Rank> = BTreeSet::new();
        let mut can_be_split: BTreeSet<Rank> = BTreeSet::new();
        for at in numbers {
            let Some(rank) = ranked(at) else { continue };
            if waits_for[at as usize] == 0 {
                free.push(Reverse(rank));
            } else {
                waiting.insert(rank);
                if step(at).is_some_and(|step| step.in_two) {
                    can_be_split.insert(rank);
                }
            }
        }
        loop {
            let (at, lets_go) = if let Some(Reverse(rank)) = free.pop() {
                let at = number_in(rank);
                let back = state[at as usize] == VisitState::Out;
                state[at as usize] = VisitState::Done;
                arranged.push((at, if back { UpdatePart::Back } else { UpdatePart::Whole }));
                (at, !back)
            } else {
                // A ring. An update that can be made in two opens it; without one, the node's own
                // deferred checks have to bear the order.
                let first = can_be_split.first().or_else(|| waiting.first());
                let Some(rank) = first.copied() else { break };
                waiting.remove(&rank);
                let split = can_be_split.remove(&rank);
                let at = number_in(rank);
                state[at as usize] = if split { VisitState::Out } else { VisitState::Done };
                match (split, step(at).is_some_and(|step| step.takes)) {
                    (true, _) => arranged.push((at, UpdatePart::Out)),
                    (false, false) => arranged.push((at, UpdatePart::Whole)),
                    (false, true) => stuck.push(at),
                }
                (at, true)
            };
            if !lets_go {
                continue; // whoever waited for it went on when its row was taken out
            }
            let mut let_go = vec![at];
            while let Some(first) = let_go.pop() {
                let from = edges.partition_point(|(other, _)| *other < first);
                for (_, next) in edges[from..].iter().take_while(|(other, _)| *other == first) {
                    let waits = &mut waits_for[*next as usize];
                    *waits -= 1;
                    if *waits > 0 {
                        continue;
                    }
                    if *next as usize >= steps.len() {
                        let_go.push(*next);
                        continue;
                    }
                    let (Some(placed), false) =
                        (step(*next), state[*next as usize] == VisitState::Done)
                    else {
                        continue;
                    };
                    let own = rank(placed, *next);
                    waiting.remove(&own);
                    can_be_split.remove(&own);
                    // What is put back goes among the insertions.
                    let back = StepFacts { op: RowOp::Insert, ..*placed };
                    let out = state[*next as usize] == VisitState::Out;
                    free.push(Reverse(rank(if out { &back } else { placed }, *next)));
                }
            }
        }
    }
    (arranged, stuck)
}
