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

use std::cmp::Reverse;
use std::collections::{BTreeMap, BinaryHeap, HashMap, HashSet};

use super::alike::OfNode;
use super::step::Part;
use super::{Action, AuditedTable, LocalTable, Step};
use crate::value::{Value, ValueRef};

type Token = Vec<u8>;

/// What ties a step to others on its node.
#[derive(Debug, Clone, PartialEq, Default)]
pub(super) struct Ties {
    takes: Vec<Token>,
    /// Those of them that no two rows may hold, whatever else stands in them.
    takes_alone: Vec<Token>,
    frees: Vec<Token>,
    provides: Vec<Token>,
    needs: Vec<Token>,
    removes: Vec<Token>,
    leaves: Vec<Token>,
    /// For an update in place: the same as a deletion and an insertion, if that loses nothing.
    in_two: bool,
}

/// The ties of one step.
pub(super) fn ties(
    local: &LocalTable,
    before: Option<&Vec<Value>>,
    after: Option<&Vec<Value>>,
    multiset: bool,
    alike: &OfNode,
) -> Ties {
    let cell = |row: &Vec<Value>, name: &str| -> Option<Value> {
        let at = local.columns.iter().position(|column| column.eq_ignore_ascii_case(name))?;
        row.get(at).cloned()
    };
    let token = |row: Option<&Vec<Value>>,
                 table: &str,
                 names: &[String],
                 values_of: &[String]|
     -> Option<Token> {
        let row = row?;
        let mut token = fold_name(table).into_bytes();
        for (name, source) in names.iter().zip(values_of) {
            let value = cell(row, source).filter(|value| *value != Value::Null)?;
            token.push(0);
            token.extend_from_slice(fold_name(name).as_bytes());
            token.push(0);
            let known = alike.get(&(table.to_owned(), name.clone()));
            match (known, &value) {
                (Some(groups), Value::Text(text)) if groups.contains_key(text) => {
                    crate::order::put_key(&mut token, ValueRef::Int(groups[text].into()));
                }
                _ => crate::order::put_key(&mut token, folded(&value).as_ref()),
            }
        }
        Some(token)
    };
    let shape = &local.shape;
    let mut unique: Vec<&Vec<String>> = shape.unique.iter().collect();
    if !shape.key.is_empty() {
        unique.push(&shape.key);
    }
    let mut ties = Ties::default();
    for names in unique {
        let (old, new) =
            (token(before, &local.name, names, names), token(after, &local.name, names, names));
        if old != new {
            ties.frees.extend(old.clone());
            ties.takes.extend(new.clone());
            if !shape.unique_in_part.contains(names) {
                ties.takes_alone.extend(new.clone());
            }
            // Anybody may refer to a unique key.
            ties.removes.extend(old);
            ties.provides.extend(new);
        }
    }
    for reference in &shape.references {
        let to = &reference.to;
        let (old, new) = (
            token(before, &reference.table, to, &reference.columns),
            token(after, &reference.table, to, &reference.columns),
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

/// Rows of a node that stay as they are although others hold them otherwise: what they hold, what they refer to,
/// and what would be there if they were.
#[derive(Debug, Default)]
pub(super) struct Unmoved {
    holds: HashSet<Token>,
    refers: HashSet<Token>,
    lacks: HashSet<Token>,
    /// What more than one step would put there.
    taken_twice: HashSet<Token>,
}

impl Unmoved {
    /// A row that stays.
    pub(super) fn row(&mut self, ties: Ties) {
        self.holds.extend(ties.takes);
        self.refers.extend(ties.needs);
    }

    /// A row that others hold and that does not come.
    pub(super) fn missing(&mut self, ties: Ties) {
        self.lacks.extend(ties.provides);
    }

    /// Values that more than one of these steps would put there.
    pub(super) fn taken_twice<'s>(&mut self, steps: impl Iterator<Item = &'s Step>) {
        let mut taken: HashSet<&Token> = HashSet::new();
        for token in steps.flat_map(|step| &step.ties.takes_alone) {
            if !taken.insert(token) {
                self.taken_twice.insert(token.clone());
            }
        }
    }

    /// Why a step cannot be carried out beside them, if so. Then what it would have changed stays, too.
    pub(super) fn stands_against(&mut self, step: &Step) -> Option<&'static str> {
        let ties = &step.ties;
        let any = |tokens: &[Token], of: &HashSet<Token>| tokens.iter().any(|t| of.contains(t));
        let why = if any(&ties.takes_alone, &self.taken_twice) {
            "two rows would hold one value there that must be unique"
        } else if any(&ties.takes, &self.holds) {
            "a value that must be unique is still held there by a row that is asked about"
        } else if any(&ties.removes, &self.refers) {
            "a row that refers to it stays there: it would be left without its parent"
        } else if any(&ties.needs, &self.lacks) {
            "the row that it refers to is asked about: it would be there without its parent"
        } else {
            return None;
        };
        self.holds.extend(ties.frees.iter().cloned());
        self.refers.extend(ties.leaves.iter().cloned());
        self.lacks.extend(ties.provides.iter().cloned());
        Some(why)
    }
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

/// Puts steps in order, node by node. Returns also the steps for which there is no order.
pub(super) fn arrange(
    steps: Vec<Step>,
    depths: &BTreeMap<String, usize>,
) -> (Vec<Step>, Vec<Step>) {
    let mut by_node: BTreeMap<usize, Vec<Step>> = BTreeMap::new();
    for step in steps {
        by_node.entry(step.node).or_default().push(step);
    }
    let (mut arranged, mut stuck) = (Vec::new(), Vec::new());
    for steps in by_node.into_values() {
        arrange_node(steps, depths, &mut arranged, &mut stuck);
    }
    (arranged, stuck)
}

type Rank = (Action, usize, usize);

fn rank(step: &Step, at: usize, depths: &BTreeMap<String, usize>) -> Rank {
    let depth = depths.get(&fold_name(&step.table)).copied().unwrap_or(0);
    let depth = if step.action == Action::Delete { usize::MAX - depth } else { depth };
    (step.action, depth, at)
}

fn arrange_node(
    steps: Vec<Step>,
    depths: &BTreeMap<String, usize>,
    arranged: &mut Vec<Step>,
    stuck: &mut Vec<Step>,
) {
    let mut after: Vec<Vec<usize>> = vec![Vec::new(); steps.len()];
    let mut waits_for = vec![0usize; steps.len()];
    tie(&steps, |t| &t.frees, |t| &t.takes, &mut after, &mut waits_for);
    tie(&steps, |t| &t.provides, |t| &t.needs, &mut after, &mut waits_for);
    tie(&steps, |t| &t.leaves, |t| &t.removes, &mut after, &mut waits_for);

    let mut free: BinaryHeap<Reverse<Rank>> = (0..steps.len())
        .filter(|i| waits_for[*i] == 0)
        .map(|i| Reverse(rank(&steps[i], i, depths)))
        .collect();
    let mut waiting: std::collections::BTreeSet<Rank> = (0..steps.len())
        .filter(|i| waits_for[*i] > 0)
        .map(|i| rank(&steps[i], i, depths))
        .collect();
    let mut steps: Vec<Option<Step>> = steps.into_iter().map(Some).collect();
    let mut put_back: HashMap<usize, Step> = HashMap::new();
    loop {
        let at = if let Some(Reverse((_, _, at))) = free.pop() {
            let step = put_back.remove(&at).or_else(|| steps[at].take());
            arranged.extend(step);
            at
        } else {
            // A ring. An update that can be made in two opens it; without one, the node's own
            // deferred checks have to bear the order.
            let first = waiting
                .iter()
                .find(|(_, _, at)| steps[*at].as_ref().is_some_and(|s| s.ties.in_two));
            let Some(chosen) = first.or_else(|| waiting.first()).copied() else {
                break;
            };
            let at = chosen.2;
            let Some(step) = steps[at].take() else {
                waiting.remove(&chosen);
                continue;
            };
            match step.ties.in_two {
                true => {
                    let (out, back) = split(&step);
                    arranged.push(out);
                    put_back.insert(at, back);
                }
                false if step.ties.takes.is_empty() => {
                    waiting.remove(&chosen);
                    arranged.push(step);
                }
                false => {
                    waiting.remove(&chosen);
                    stuck.push(step);
                }
            }
            at
        };
        for next in std::mem::take(&mut after[at]) {
            waits_for[next] -= 1;
            let open = steps[next].as_ref().or_else(|| put_back.get(&next));
            if let (0, Some(step)) = (waits_for[next], open) {
                let as_waiting = steps[next]
                    .as_ref()
                    .map_or_else(|| rank_of(&waiting, next), |s| Some(rank(s, next, depths)));
                if let Some(rank) = as_waiting {
                    waiting.remove(&rank);
                }
                free.push(Reverse(rank(step, next, depths)));
            }
        }
    }
}

fn rank_of(waiting: &std::collections::BTreeSet<Rank>, at: usize) -> Option<Rank> {
    waiting.iter().find(|(_, _, other)| *other == at).copied()
}

/// Adds an edge from every step that has a token in `first` to every other that has it in `then`.
fn tie(
    steps: &[Step],
    first: impl Fn(&Ties) -> &Vec<Token>,
    then: impl Fn(&Ties) -> &Vec<Token>,
    after: &mut [Vec<usize>],
    waits_for: &mut [usize],
) {
    let mut by_token: HashMap<&Token, Vec<usize>> = HashMap::new();
    for (i, step) in steps.iter().enumerate() {
        for token in first(&step.ties) {
            by_token.entry(token).or_default().push(i);
        }
    }
    for (i, step) in steps.iter().enumerate() {
        for token in then(&step.ties) {
            for earlier in
                by_token.get(token).into_iter().flatten().filter(|earlier| **earlier != i)
            {
                after[*earlier].push(i);
                waits_for[i] += 1;
            }
        }
    }
}

fn split(step: &Step) -> (Step, Step) {
    let half = |action, part, word: &str| Step {
        action,
        reason: format!("{}; {word}, because rows exchange a unique value", step.reason),
        ties: Ties::default(),
        made_from: step.made_from.only(part),
        ..step.clone()
    };
    (
        half(Action::Delete, Part::Out, "taken out first"),
        half(Action::Insert, Part::Back, "put back changed"),
    )
}
