//! Evidence of writes that raced, where a plan needs it: which divergent rows stem from them, which version was
//! written last, and what nobody holds any more.

use std::collections::BTreeMap;

use super::alike::Alike;
use super::stopped::StoppedLink;
use super::{Choice, ChoiceContent, Question};
use crate::conflict::{Conflict, ConflictStanding, CurrentRow, Fate, Thing, Written};
use crate::links::onward::Onward;
use crate::observe::links::Micros;
use crate::row::batch::Layout;
use crate::row::encoding;
use crate::topology::{NodeId, SetId, Topology};
use crate::value::Value;
use crate::value::calendar::timestamp_text;

/// A table whose conflicts were judged.
#[derive(Debug, Clone, Copy)]
pub struct JudgedTable<'a> {
    /// The set.
    pub set: SetId,
    /// The table, as the set names it.
    pub name: &'a str,
    /// Its columns, as far as they are known.
    pub layout: &'a Layout,
}

/// The evidence of conflicts for a plan.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Evidence {
    rows: BTreeMap<(String, Vec<u8>), OfRow>,
    /// Writes that are lost although the nodes agree, offered back.
    pub lost: Vec<Question>,
    /// Links that stopped at a row.
    pub stopped: Vec<StoppedLink>,
    /// Where what a step writes goes on to.
    pub onward: Onward,
    /// Which texts nodes take for one value.
    pub alike: Alike,
}

/// The evidence of conflicts on one row.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct OfRow {
    /// The conflict that it comes from, in a sentence; none if no conflict is known.
    pub words: Option<String>,
    /// By node, when what it holds was written, by the clock of whoever wrote it.
    pub written: BTreeMap<NodeId, Micros>,
    /// The columns that racing writes changed, where it is proven that each writer changed other ones.
    pub changed: Option<BTreeMap<usize, ChangedCell>>,
}

/// A cell that one of racing writers changed.
#[derive(Debug, Clone, PartialEq)]
pub struct ChangedCell {
    /// As all of them found it.
    pub before: Value,
    /// As it left it.
    pub after: Value,
}

impl Evidence {
    /// Adds that nodes hold of a row what no journal wrote: by node which columns and what they hold, or none where
    /// the row is there and should not be, or the other way round.
    pub fn add_past_the_log(
        &mut self,
        topology: &Topology,
        table: &JudgedTable<'_>,
        key: &[Value],
        nodes: &[(NodeId, Vec<(usize, Value)>)],
    ) {
        let held = |(node, cells): &(NodeId, Vec<(usize, Value)>)| {
            let name = &topology.nodes[*node].name;
            let cell = |(at, value): &(usize, Value)| {
                format!(
                    "{} {}",
                    table.layout.columns[*at].name,
                    super::sql::script::in_words(value)
                )
            };
            match &cells[..] {
                [] => format!("{name} holds what no journal wrote"),
                cells => format!(
                    "{name} holds {}, which no journal wrote",
                    cells.iter().map(cell).collect::<Vec<_>>().join(", ")
                ),
            }
        };
        let held: Vec<String> = nodes.iter().map(held).collect();
        let past =
            format!("{}: changed past the log, or since the journals were read", held.join("; "));
        let of_row =
            self.rows.entry((table.name.to_owned(), encoding::row_bytes(key))).or_default();
        of_row.words = Some(match of_row.words.take() {
            Some(words) => format!("{words}; {past}"),
            None => past,
        });
    }

    /// The evidence on a row, by its key.
    #[must_use]
    pub fn of(&self, table: &str, key: &[Value]) -> Option<&OfRow> {
        if self.rows.is_empty() {
            return None;
        }
        self.rows.get(&(table.to_owned(), encoding::row_bytes(key)))
    }
}

/// Gathers what conflicts tell; `tables` by the numbers that the conflicts know them by.
#[must_use]
pub fn evidence(
    topology: &Topology,
    tables: &[JudgedTable<'_>],
    conflicts: &[Conflict],
) -> Evidence {
    let mut evidence = Evidence::default();
    for conflict in conflicts {
        let (Thing::Row(key), Some(table)) = (&conflict.thing, tables.get(conflict.table)) else {
            continue;
        };
        let written = conflict
            .held
            .iter()
            .filter_map(|(node, number)| Some((*node, conflict.writes.get(*number)?.made?)));
        let of_row = OfRow {
            words: Some(words(topology, conflict)),
            written: written.collect(),
            changed: changed_apart(conflict),
        };
        evidence.rows.insert((table.name.to_owned(), encoding::row_bytes(key)), of_row);
        let agreed =
            matches!(conflict.standing, ConflictStanding::Alike | ConflictStanding::Healed);
        for write in conflict.writes.iter().filter(|write| agreed && write.fate.is_lost()) {
            evidence.lost.extend(offered_back(topology, table, conflict, key, write));
        }
    }
    evidence
}

/// The columns that racing writes changed, where journals prove that each writer changed other ones.
fn changed_apart(conflict: &Conflict) -> Option<BTreeMap<usize, ChangedCell>> {
    if !conflict.proven || conflict.count > conflict.writes.len() || conflict.rows.len() > 1 {
        return None;
    }
    let mut changed: BTreeMap<NodeId, BTreeMap<usize, ChangedCell>> = BTreeMap::new();
    for write in &conflict.writes {
        let (before, after) = (write.content.before.as_ref()?, write.content.after.as_ref()?);
        let of_node = changed.entry(write.node?).or_default();
        for (at, (before, after)) in before.iter().zip(after).enumerate() {
            let (before, after) = (before.as_ref()?, after.as_ref()?);
            if !before.same_as(after) {
                // Of several writes of one node the first found it, and the last left it.
                let cell = ChangedCell { before: before.clone(), after: after.clone() };
                of_node.entry(at).or_insert(cell).after = after.clone();
            }
        }
    }
    let several = changed.len() > 1;
    let mut all = BTreeMap::new();
    for (at, cell) in changed.into_values().flatten() {
        if all.insert(at, cell).is_some() {
            return None;
        }
    }
    several.then_some(all)
}

fn who(topology: &Topology, write: &Written) -> String {
    let name = write.node.map_or("somebody", |node| &topology.nodes[node].name);
    format!("{name} ({})", write.id)
}

fn words(topology: &Topology, conflict: &Conflict) -> String {
    let writers: Vec<String> = conflict.writes.iter().map(|write| who(topology, write)).collect();
    let possibly = if conflict.proven { "" } else { "possibly " };
    match &writers[..] {
        [one] => format!("it comes from a write of {one} that a node never applied"),
        _ => format!("it comes from writes that {possibly}raced: {}", writers.join(", ")),
    }
}

/// A lost write as a question: leave it, or have it back.
fn offered_back(
    topology: &Topology,
    table: &JudgedTable<'_>,
    conflict: &Conflict,
    key: &[Value],
    write: &Written,
) -> Option<Question> {
    let Fate::Lost(cells) = &write.fate else { return None };
    let name = |column: &usize| table.layout.columns[*column].name.clone();
    let named = |row: &[Value]| -> Vec<(String, Value)> {
        table.layout.shown.iter().filter_map(|at| Some((name(at), row.get(*at)?.clone()))).collect()
    };
    let row = conflict.rows.first()?;
    let holders: Vec<NodeId> = row.now.keys().copied().collect();
    let now = row.now.values().find_map(|now| match now {
        CurrentRow::Row(cells) => Some(cells.clone()),
        CurrentRow::NoRow | CurrentRow::Unread(_) => None,
    });
    let after = write.content.after.as_ref();
    // What the log does not tell stays unknown: it is neither shown nor ever written.
    let back: Option<Vec<Option<Value>>> = after.map(|after| {
        let cell = |at: usize| {
            let written = after.get(at).cloned().flatten();
            let held = now.as_ref().and_then(|now| now.get(at).cloned());
            match cells.contains(&at) {
                true => written.or(held),
                false => held.or(written),
            }
        };
        (0..table.layout.columns.len()).map(cell).collect()
    });
    let untold: Vec<String> = back.as_ref().map_or_else(Vec::new, |back| {
        let shown = table.layout.shown.iter().filter(|at| back[**at].is_none());
        shown.map(name).collect()
    });
    let columns = |none: &str| match cells.is_empty() {
        true => none.to_owned(),
        false => cells.iter().map(name).collect::<Vec<_>>().join(", "),
    };
    let when = write.made.map(|made| format!(", {}Z", timestamp_text(made))).unwrap_or_default();
    let keep = Choice {
        content: ChoiceContent::Held,
        nodes: holders.clone(),
        row: now.as_deref().map(named),
        copies: None,
        loses: format!("{} of {}", columns("the delete"), who(topology, write)),
    };
    let all: Vec<&str> = holders.iter().map(|node| &topology.nodes[*node].name[..]).collect();
    let restore = Choice {
        content: ChoiceContent::Lost,
        // Nobody holds it any more.
        nodes: Vec::new(),
        row: back.as_deref().map(|back| {
            let told = table.layout.shown.iter();
            told.filter_map(|at| Some((name(at), back.get(*at)?.clone()?))).collect()
        }),
        copies: None,
        loses: match (&back, &now) {
            (None, _) => format!("the row on {}", all.join(", ")),
            (_, None) => format!("the deletion on {}", all.join(", ")),
            _ => format!("{} on {}", columns("the row"), all.join(", ")),
        },
    };
    Some(Question {
        set: table.set,
        table: table.name.to_owned(),
        key: table.layout.key.iter().map(name).zip(key.iter().cloned()).collect(),
        why: format!(
            "a write of {}{when} is lost: a concurrent one replaced it, no node holds it, and no later write had seen it{}",
            who(topology, write),
            match &untold[..] {
                [] => String::new(),
                names => format!("; no log shows its {}", names.join(", ")),
            }
        ),
        choices: vec![keep, restore],
    })
}
