//! Proofs of earlier runs, held against the journals now: journals are purged, and then tell less.

use std::collections::{BTreeMap, BTreeSet};

use keen_core::conflict::{Conflict, ConflictKind, ConflictStanding};
use keen_core::observe::links::Micros;
use keen_run::conflicts::Found;
use keen_run::ledger::Proof;

use crate::app::conflicts::{SearchRequest, name_of, thing_of};

/// Conflicts that earlier runs proved and this one does not tell whole.
#[derive(Debug, Default)]
pub(crate) struct Proven {
    /// By the name that a conflict has in this run, as it was proven.
    of: BTreeMap<String, Proof>,
    /// Those that this run did not find at all, because journals do not reach back to them.
    pub(crate) untold: Vec<Proof>,
}

impl Proven {
    /// Holds proofs against what a run found, and marks as proven what was.
    pub(crate) fn held_against(found: &mut Found, proofs: Vec<Proof>) -> Self {
        let mut proven = Self::default();
        let tables = &found.tables;
        let mut now: BTreeMap<(usize, String), Vec<usize>> = BTreeMap::new();
        for (at, conflict) in found.conflicts.iter().enumerate() {
            now.entry((conflict.table, thing_of(conflict))).or_default().push(at);
        }
        for proof in proofs {
            let Some(table) = tables.iter().position(|table| table.name == proof.table) else {
                continue;
            };
            let of_thing = now.get(&(table, proof.thing.clone())).map_or(&[][..], Vec::as_slice);
            let told = |at: &&usize| {
                let ids = ids_of(&found.conflicts[**at]);
                !ids.is_disjoint(&proof.ids) || found.conflicts[**at].count > ids.len()
            };
            match of_thing.iter().find(told) {
                Some(at) => {
                    let conflict = &mut found.conflicts[*at];
                    let whole = ids_of(conflict).is_superset(&proof.ids)
                        || conflict.count > conflict.writes.len();
                    if !(conflict.proven && whole) {
                        let name = name_of(tables, conflict);
                        conflict.proven = true;
                        conflict.doubt = None;
                        proven.of.insert(name, proof);
                    }
                }
                None if does_not_reach(found, &proof) => proven.untold.push(proof),
                None => {}
            }
        }
        proven
    }

    /// Leaves out of what no journal tells what was not asked for.
    pub(crate) fn keep_asked(&mut self, asked: &SearchRequest) {
        let thing = asked.key.as_ref().map(|key| key.join(","));
        self.untold.retain(|proof| {
            !asked.only_new
                && thing.as_ref().is_none_or(|thing| *thing == proof.thing)
                && (asked.kinds.is_empty()
                    || asked.kinds.iter().any(|kind| kind.name() == proof.kind))
                && (!asked.lost_only || proof.lost > 0)
                && asked.since.is_none()
                && asked.until.is_none()
        });
    }

    /// As an earlier run proved a conflict, where this one tells less of it.
    pub(crate) fn of(&self, name: &str) -> Option<&Proof> {
        self.of.get(name)
    }
}

/// Whether what came of it is harmless.
pub(crate) fn is_harmless(proof: &Proof) -> bool {
    let settled = [ConflictStanding::Alike, ConflictStanding::Healed];
    proof.lost == 0 && settled.iter().any(|standing| standing.name() == proof.standing)
}

/// Whether a journal does not reach back to its writes.
fn does_not_reach(found: &Found, proof: &Proof) -> bool {
    let Some((first, _)) = proof.made else { return true };
    found.nodes.values().any(|node| !node.read || may_lack(node.times, first))
}

/// Whether a journal of these times, its first and its last, may lack a write made at another.
///
/// It may also where both are of one moment: MariaDB's logs tell whole seconds.
fn may_lack(times: Option<(Micros, Micros)>, made: Micros) -> bool {
    times.is_none_or(|(first, _)| first >= made)
}

/// The transactions of a conflict, as far as they are listed.
pub(crate) fn ids_of(conflict: &Conflict) -> BTreeSet<String> {
    conflict.writes.iter().map(|write| write.id.to_string()).collect()
}

/// The proofs of a run that are to be kept; `tell` writes a conflict in words and as JSON.
pub(crate) fn to_keep(
    found: &Found,
    proven: &Proven,
    seen: Micros,
    tell: impl Fn(&Conflict) -> (String, String),
) -> Vec<Proof> {
    let keep = |conflict: &Conflict| {
        let name = name_of(&found.tables, conflict);
        if !conflict.proven
            || conflict.kind == ConflictKind::LastWrites
            || proven.of(&name).is_some()
        {
            return None;
        }
        let made = || conflict.writes.iter().filter_map(|write| write.made);
        let (told, document) = tell(conflict);
        Some(Proof {
            name,
            table: found.tables[conflict.table].name.clone(),
            kind: conflict.kind.name().to_owned(),
            thing: thing_of(conflict),
            ids: ids_of(conflict),
            made: made().min().zip(made().max()),
            seen,
            standing: conflict.standing.name().to_owned(),
            lost: conflict.lost() as u64,
            told,
            document,
        })
    };
    found.conflicts.iter().filter_map(keep).collect()
}

#[cfg(test)]
mod tests {
    use super::may_lack;

    #[test]
    fn a_journal_that_begins_in_the_second_of_a_write_may_lack_it() {
        assert!(may_lack(None, 5_000_000));
        assert!(may_lack(Some((6_000_000, 9_000_000)), 5_000_000));
        assert!(may_lack(Some((5_000_000, 9_000_000)), 5_000_000));
        assert!(!may_lack(Some((4_000_000, 9_000_000)), 5_000_000));
    }
}
