//! Steps that cannot stand beside what is left as it is become questions, and so does what depends on them.
//!
//! All ties of all steps lie in one list, sorted by their values. Of a value that one step alone has to do with
//! nothing follows; what is left is gone through once, and again only where a step that is held back changes it.

use std::collections::BTreeSet;

use super::order::Ties;

/// Stands for a row that stays as it is although others hold it otherwise.
pub(super) const STAYS: u32 = u32::MAX;

/// The relation of a step, or of a row that stays, to a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum TieKind {
    /// The step takes it away.
    Gone,
    /// The step puts it there.
    Come,
    /// The same, and no two rows may hold it, whatever else stands in them.
    ComeAlone,
    /// The step makes a row refer to it.
    Needs,
    /// The step makes a row refer to it no more.
    Leaves,
    /// A row that stays holds it.
    Holds,
    /// A row that stays refers to it.
    Refers,
    /// A row that would hold it does not come.
    Lacks,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Tie {
    value: u64,
    step: u32,
    kind: TieKind,
}

/// All ties of the steps of a plan, and of the rows that stay.
#[derive(Debug, Default)]
pub(super) struct AllTies(Vec<Tie>);

/// Why a step is held back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Cause {
    TakenTwice,
    StillHeld,
    StillReferredTo,
    WithoutParent,
}

impl Cause {
    pub(super) fn words(self) -> &'static str {
        match self {
            Self::TakenTwice => "two rows there would have the same unique value",
            Self::StillHeld => "a row that a question is about still has its unique value there",
            Self::StillReferredTo => {
                "a row that refers to it stays there and would lose its parent"
            }
            Self::WithoutParent => {
                "a question is about the row that it refers to: it would be there without its parent"
            }
        }
    }
}

impl AllTies {
    fn add(&mut self, step: u32, kind: TieKind, values: impl IntoIterator<Item = u64>) {
        self.0.extend(values.into_iter().map(|value| Tie { value, step, kind }));
    }

    /// A step.
    pub(super) fn step(&mut self, step: u32, ties: &Ties) {
        self.add(step, TieKind::Gone, ties.gone.iter().copied());
        let alone = |alone: bool| {
            ties.come.iter().filter(move |come| come.1 == alone).map(|(value, _)| *value)
        };
        self.add(step, TieKind::Come, alone(false));
        self.add(step, TieKind::ComeAlone, alone(true));
        self.add(step, TieKind::Needs, ties.needs.iter().copied());
        self.add(step, TieKind::Leaves, ties.leaves.iter().copied());
    }

    /// A row that stays; its ties are those of its insertion.
    pub(super) fn row_that_stays(&mut self, ties: &Ties) {
        self.add(STAYS, TieKind::Holds, ties.come.iter().map(|(value, _)| *value));
        self.add(STAYS, TieKind::Refers, ties.needs.iter().copied());
    }

    /// A row that others hold and that does not come.
    pub(super) fn row_that_is_missing(&mut self, ties: &Ties) {
        self.add(STAYS, TieKind::Lacks, ties.come.iter().map(|(value, _)| *value));
    }

    /// Sorts them, and forgets those from which nothing follows.
    pub(super) fn sort(&mut self) {
        self.0.sort_unstable();
        self.0.dedup();
        let mut kept = 0;
        let mut at = 0;
        while at < self.0.len() {
            let end = at + self.0[at..].partition_point(|tie| tie.value == self.0[at].value);
            if self.0[at..end].iter().any(|tie| tie.step != self.0[at].step) {
                self.0.copy_within(at..end, kept);
                kept += end - at;
            }
            at = end;
        }
        self.0.truncate(kept);
        self.0.shrink_to_fit();
    }

    fn of_value(&self, value: u64) -> &[Tie] {
        let from = self.0.partition_point(|tie| tie.value < value);
        let to = from + self.0[from..].partition_point(|tie| tie.value == value);
        &self.0[from..to]
    }

    /// The steps that are to be held back, in order, and why. They have to be sorted.
    pub(super) fn held_back(&self) -> Vec<(u32, Cause)> {
        let mut of_step: Vec<(u32, u64, TieKind)> = (self.0.iter())
            .filter(|tie| tie.step != STAYS)
            .map(|tie| (tie.step, tie.value, tie.kind))
            .collect();
        of_step.sort_unstable();
        let ties_of = |step: u32| {
            let from = of_step.partition_point(|(other, ..)| *other < step);
            of_step[from..].iter().take_while(move |(other, ..)| *other == step)
        };
        let mut twice: BTreeSet<u64> = BTreeSet::new();
        let mut staying: BTreeSet<(u64, TieKind)> = BTreeSet::new();
        for ties in self.0.chunk_by(|a, b| a.value == b.value) {
            let value = ties[0].value;
            if ties.iter().filter(|tie| tie.kind == TieKind::ComeAlone).count() > 1 {
                twice.insert(value);
            }
            let stays = ties.iter().filter(|tie| tie.step == STAYS);
            staying.extend(stays.map(|tie| (value, tie.kind)));
        }
        let against = |step: u32, staying: &BTreeSet<(u64, TieKind)>| {
            let any = |kinds: &[TieKind], holds: &dyn Fn(u64) -> bool| {
                ties_of(step).any(|(_, value, kind)| kinds.contains(kind) && holds(*value))
            };
            let comes = [TieKind::Come, TieKind::ComeAlone];
            if any(&[TieKind::ComeAlone], &|value| twice.contains(&value)) {
                Some(Cause::TakenTwice)
            } else if any(&comes, &|value| staying.contains(&(value, TieKind::Holds))) {
                Some(Cause::StillHeld)
            } else if any(&[TieKind::Gone], &|value| staying.contains(&(value, TieKind::Refers))) {
                Some(Cause::StillReferredTo)
            } else if any(&[TieKind::Needs], &|value| staying.contains(&(value, TieKind::Lacks))) {
                Some(Cause::WithoutParent)
            } else {
                None
            }
        };
        let mut to_look_at: BTreeSet<u32> = of_step.iter().map(|(step, ..)| *step).collect();
        let mut held: Vec<(u32, Cause)> = Vec::new();
        let mut is_held: BTreeSet<u32> = BTreeSet::new();
        while let Some(step) = to_look_at.pop_first() {
            let Some(cause) = against(step, &staying) else { continue };
            held.push((step, cause));
            is_held.insert(step);
            // What it would have changed stays, too.
            for (_, value, kind) in ties_of(step) {
                let stays = match kind {
                    TieKind::Gone => TieKind::Holds,
                    TieKind::Leaves => TieKind::Refers,
                    TieKind::Come | TieKind::ComeAlone => TieKind::Lacks,
                    _ => continue,
                };
                if staying.insert((*value, stays)) {
                    let steps = self.of_value(*value).iter().map(|tie| tie.step);
                    to_look_at.extend(steps.filter(|s| *s != STAYS && !is_held.contains(s)));
                }
            }
        }
        held.sort_unstable_by_key(|(step, _)| *step);
        held
    }

    /// Which step comes before which: what frees a value before what takes it, what others refer to before they do,
    /// and what lets go of it before it goes. They have to be sorted. Where many free what many take, they meet at a
    /// number beyond those of the steps.
    pub(super) fn edges(&self, steps: u32, is_made: impl Fn(u32) -> bool) -> Vec<(u32, u32)> {
        const MANY: usize = 64;
        let comes: &[TieKind] = &[TieKind::Come, TieKind::ComeAlone];
        let mut edges = Vec::new();
        let mut meeting = steps;
        for ties in self.0.chunk_by(|a, b| a.value == b.value) {
            let of = |kinds: &[TieKind]| -> Vec<u32> {
                let of = ties.iter().filter(|tie| kinds.contains(&tie.kind));
                of.map(|tie| tie.step).filter(|step| *step != STAYS && is_made(*step)).collect()
            };
            let (gone, come) = (of(&[TieKind::Gone]), of(comes));
            if gone.len() * come.len() > MANY {
                edges.extend(gone.iter().map(|step| (*step, meeting)));
                edges.extend(come.iter().map(|step| (meeting, *step)));
                meeting += 1;
            } else {
                edges.extend(pairs(&gone, &come));
            }
            edges.extend(pairs(&come, &of(&[TieKind::Needs])));
            edges.extend(pairs(&of(&[TieKind::Leaves]), &gone));
        }
        edges
    }
}

fn pairs<'s>(first: &'s [u32], then: &'s [u32]) -> impl Iterator<Item = (u32, u32)> + 's {
    let of =
        move |before: u32| then.iter().filter(move |t| **t != before).map(move |t| (before, *t));
    first.iter().flat_map(move |before| of(*before))
}

#[cfg(test)]
mod tests {
    use std::collections::{BTreeMap, BTreeSet};

    use proptest::prelude::*;

    use super::*;
    use crate::history::journal::RowOp;
    use crate::plan::order::{self, Made, StepFacts};
    use crate::plan::step::UpdatePart;

    /// A step or a row that stays, with values that are few, so that they meet.
    fn ties() -> impl Strategy<Value = Ties> {
        let some = || prop::collection::btree_set(0u64..12, 0..3);
        (some(), prop::collection::btree_map(0u64..12, any::<bool>(), 0..3), some(), some())
            .prop_map(|(gone, come, needs, leaves)| Ties {
                in_two: !gone.is_empty() && !come.is_empty(),
                gone: gone.difference(&come.keys().copied().collect()).copied().collect(),
                come: come.into_iter().collect(),
                needs: needs.into_iter().collect(),
                leaves: leaves.into_iter().collect(),
            })
    }

    /// The steps that are held back, by plain sets: goes through all steps until nothing changes any more.
    fn held_back_naively(steps: &[Ties], staying: &[Ties], missing: &[Ties]) -> BTreeSet<u32> {
        let come = |ties: &Ties| ties.come.iter().map(|(value, _)| *value).collect::<Vec<_>>();
        let mut holds: BTreeSet<u64> = staying.iter().flat_map(come).collect();
        let mut refers: BTreeSet<u64> = staying.iter().flat_map(|t| t.needs.clone()).collect();
        let mut lacks: BTreeSet<u64> = missing.iter().flat_map(come).collect();
        let mut alone: BTreeMap<u64, u32> = BTreeMap::new();
        for (value, is_alone) in steps.iter().flat_map(|step| &step.come) {
            *alone.entry(*value).or_default() += u32::from(*is_alone);
        }
        let mut held = BTreeSet::new();
        loop {
            let before = held.len();
            for (number, step) in (0u32..).zip(steps) {
                let stands = !step.come.iter().any(|(v, is_alone)| *is_alone && alone[v] > 1)
                    && !step.come.iter().any(|(value, _)| holds.contains(value))
                    && !step.gone.iter().any(|value| refers.contains(value))
                    && !step.needs.iter().any(|value| lacks.contains(value));
                if !stands && held.insert(number) {
                    holds.extend(&step.gone);
                    refers.extend(&step.leaves);
                    lacks.extend(come(step));
                }
            }
            if held.len() == before {
                return held;
            }
        }
    }

    /// Takes the first of all that wait for nobody, again and again.
    fn arranged_naively(steps: &[Ties], placed: &[StepFacts]) -> (Vec<Made>, Vec<u32>) {
        let numbers = || 0..u32::try_from(steps.len()).unwrap();
        let before = |first: u32, then: u32| {
            let (first, then) = (&steps[first as usize], &steps[then as usize]);
            let comes = |ties: &Ties, value: u64| ties.come.iter().any(|(v, _)| *v == value);
            first.gone.iter().any(|value| comes(then, *value))
                || then.needs.iter().any(|value| comes(first, *value))
                || then.gone.iter().any(|value| first.leaves.contains(value))
        };
        let place = |number: u32, out: bool| {
            let StepFacts { op, depth, .. } = placed[number as usize];
            let op = if out { RowOp::Insert } else { op };
            let depth = i64::from(depth);
            (op, if op == RowOp::Delete { -depth } else { depth }, number)
        };
        let (mut arranged, mut stuck) = (Vec::new(), Vec::new());
        let mut left: BTreeSet<u32> = numbers().collect();
        let mut out: BTreeSet<u32> = BTreeSet::new();
        let mut let_go: BTreeSet<u32> = BTreeSet::new();
        while !left.is_empty() {
            let waits = |number: u32| {
                numbers().any(|o| o != number && !let_go.contains(&o) && before(o, number))
            };
            let free = left.iter().copied().filter(|number| !waits(*number));
            if let Some(first) = free.min_by_key(|number| place(*number, out.contains(number))) {
                left.remove(&first);
                let_go.insert(first);
                let back = out.remove(&first);
                arranged.push((first, if back { UpdatePart::Back } else { UpdatePart::Whole }));
                continue;
            }
            let inside = left.iter().copied().filter(|number| !out.contains(number));
            let in_two = inside.clone().filter(|number| placed[*number as usize].in_two);
            let by_place = |number: &u32| place(*number, false);
            let chosen = in_two.min_by_key(by_place).or_else(|| inside.min_by_key(by_place));
            let chosen = chosen.unwrap();
            let_go.insert(chosen);
            if placed[chosen as usize].in_two {
                out.insert(chosen);
                arranged.push((chosen, UpdatePart::Out));
            } else {
                left.remove(&chosen);
                match placed[chosen as usize].takes {
                    true => stuck.push(chosen),
                    false => arranged.push((chosen, UpdatePart::Whole)),
                }
            }
        }
        (arranged, stuck)
    }

    proptest! {
        #[test]
        fn what_cannot_stand_is_held_back_and_the_rest_is_put_in_order(
            steps in prop::collection::vec((ties(), 0u32..3, any::<bool>()), 0..14),
            staying in prop::collection::vec(ties(), 0..2),
            missing in prop::collection::vec(ties(), 0..2),
        ) {
            let of_steps: Vec<Ties> = steps.iter().map(|(ties, ..)| ties.clone()).collect();
            let mut all = AllTies::default();
            (0u32..).zip(&of_steps).for_each(|(number, ties)| all.step(number, ties));
            staying.iter().for_each(|ties| all.row_that_stays(ties));
            missing.iter().for_each(|ties| all.row_that_is_missing(ties));
            all.sort();
            let held: BTreeSet<u32> = all.held_back().into_iter().map(|(step, _)| step).collect();
            prop_assert_eq!(held, held_back_naively(&of_steps, &staying, &missing));

            let placed: Vec<StepFacts> = steps.iter().map(|(ties, depth, can_be_split)| StepFacts {
                node: 0,
                op: match (ties.gone.is_empty(), ties.come.is_empty()) {
                    (true, _) => RowOp::Insert,
                    (false, true) => RowOp::Delete,
                    (false, false) => RowOp::Update,
                },
                depth: *depth,
                in_two: ties.in_two && *can_be_split,
                takes: !ties.come.is_empty(),
            }).collect();
            let each: Vec<Option<StepFacts>> = placed.iter().copied().map(Some).collect();
            let edges = all.edges(u32::try_from(steps.len()).unwrap(), |_| true);
            prop_assert_eq!(order::arrange(&each, edges), arranged_naively(&of_steps, &placed));
        }
    }

    /// One value of an index over a part of the rows, freed by many rows and taken by many.
    #[test]
    fn where_many_free_what_many_take_all_of_them_come_in_order() {
        let mut all = AllTies::default();
        let mut each = Vec::new();
        for number in 0..600 {
            let goes = number % 2 == 1;
            let ties = Ties {
                gone: if goes { vec![7] } else { Vec::new() },
                come: if goes { Vec::new() } else { vec![(7, false)] },
                ..Ties::default()
            };
            all.step(number, &ties);
            let op = if goes { RowOp::Delete } else { RowOp::Insert };
            each.push(Some(StepFacts { node: 0, op, depth: 0, in_two: false, takes: !goes }));
        }
        all.sort();
        let edges = all.edges(600, |_| true);
        assert_eq!(edges.len(), 600);
        let (order, stuck) = order::arrange(&each, edges);
        let deletes = order.iter().take_while(|(number, _)| number % 2 == 1).count();
        assert_eq!((order.len(), deletes, stuck.len()), (600, 300, 0));
    }
}
