//! Causality against the truth: random histories whose every write knows what its node had applied.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on should say where")]

use std::collections::{BTreeMap, BTreeSet};

use keen_core::history::happened_before::{
    Arrivals, Chain, Deed, History, Reach, Saw, Span, Start, Write, chains,
};
use keen_core::topology::NodeId;
use proptest::prelude::*;

/// The events in a network, step by step.
#[derive(Debug, Clone)]
enum Event {
    /// A node writes.
    Write(NodeId, Deed),
    /// So many entries of the journal of one travel to another, over the link of that number.
    Carry(usize, usize),
    /// The next entry that a link would carry is skipped at its receiver.
    Skip(usize),
    /// The next entry of a link is put aside, and carried later.
    PutAside(usize),
    /// What was put aside is carried.
    LetThrough(usize),
}

type Id = (NodeId, u64);

/// The truth: what each node applied in which order, and what each write's node had applied before it.
#[derive(Debug, Default)]
struct Truth {
    journals: Vec<Vec<Id>>,
    saw: BTreeMap<Id, BTreeSet<Id>>,
    deeds: BTreeMap<Id, Deed>,
    /// By write when it was made; every clock of the network is right.
    made: BTreeMap<Id, i64>,
}

fn run(nodes: usize, links: &[(NodeId, NodeId)], events: &[Event]) -> Truth {
    let mut truth = Truth { journals: vec![Vec::new(); nodes], ..Truth::default() };
    let mut read_to = vec![0; links.len()];
    let mut aside: Vec<Vec<Id>> = vec![Vec::new(); links.len()];
    let mut skipped: BTreeSet<(NodeId, Id)> = BTreeSet::new();
    let mut counters = vec![0; nodes];
    for (time, event) in events.iter().enumerate() {
        match event {
            Event::Write(node, deed) => {
                let node = node % nodes;
                counters[node] += 1;
                let id = (node, counters[node]);
                truth.saw.insert(id, truth.journals[node].iter().copied().collect());
                truth.deeds.insert(id, *deed);
                truth.made.insert(id, i64::try_from(time).unwrap());
                truth.journals[node].push(id);
            }
            Event::Carry(link, count) => {
                let link = link % links.len();
                for _ in 0..*count {
                    let Some(id) = truth.journals[links[link].0].get(read_to[link]).copied() else {
                        break;
                    };
                    read_to[link] += 1;
                    arrive(&mut truth, &skipped, links[link].1, id);
                }
            }
            Event::Skip(link) | Event::PutAside(link) => {
                let at = link % links.len();
                let Some(id) = truth.journals[links[at].0].get(read_to[at]).copied() else {
                    continue;
                };
                read_to[at] += 1;
                match event {
                    Event::Skip(_) => _ = skipped.insert((links[at].1, id)),
                    _ => aside[at].push(id),
                }
            }
            Event::LetThrough(link) => {
                let link = link % links.len();
                for id in std::mem::take(&mut aside[link]) {
                    arrive(&mut truth, &skipped, links[link].1, id);
                }
            }
        }
    }
    truth
}

fn arrive(truth: &mut Truth, skipped: &BTreeSet<(NodeId, Id)>, node: NodeId, id: Id) {
    if !truth.journals[node].contains(&id) && !skipped.contains(&(node, id)) {
        truth.journals[node].push(id);
    }
}

impl Truth {
    /// The journals as keen would read them: the writes, and how far they reach. Of each journal the first entries are
    /// cut off; of those in `dark` nothing is read.
    fn seen(
        &self,
        cut: &[usize],
        dark: &[NodeId],
        (knows_start, in_order): (bool, bool),
    ) -> (History, Vec<Write>) {
        let mut history = History {
            writers: (0..self.journals.len()).map(Some).collect(),
            window: 1_000_000,
            ..History::default()
        };
        let mut orders: BTreeMap<Id, Vec<(NodeId, u64)>> = BTreeMap::new();
        for (node, journal) in self.journals.iter().enumerate() {
            if dark.contains(&node) {
                continue;
            }
            let (gone, kept) = journal.split_at(cut[node].min(journal.len()));
            for (order, id) in kept.iter().enumerate() {
                let order = u64::try_from(gone.len() + order).unwrap();
                orders.entry(*id).or_default().push((node, order));
            }
            let mut reach =
                Reach { spans: BTreeMap::new(), complete: gone.is_empty() || knows_start };
            for writer in 0..self.journals.len() {
                let of = |list: &[Id]| {
                    list.iter().filter(|(w, _)| *w == writer).map(|(_, p)| *p).collect::<Vec<_>>()
                };
                let (before, inside) = (of(gone), of(kept));
                let start = match knows_start || gone.is_empty() {
                    true => Start::UpTo(before.iter().copied().max().unwrap_or(0)),
                    // From the first one that is there on, where things go in order; else nothing is promised.
                    false if in_order => {
                        Start::Unclear(inside.iter().copied().min().unwrap_or(u64::MAX))
                    }
                    false => Start::Unclear(u64::MAX),
                };
                let span = Span {
                    start,
                    last: inside.iter().copied().max(),
                    applied: None,
                    done: None,
                    arrivals: Arrivals::default(),
                    besides: BTreeMap::new(),
                };
                reach.spans.insert(u16::try_from(writer).unwrap(), span);
            }
            history.journals.insert(node, reach);
        }
        let mut writes: Vec<Write> = orders
            .into_iter()
            .map(|(id, orders)| Write {
                writer: u16::try_from(id.0).unwrap(),
                place: id.1,
                made: Some(self.made[&id]),
                orders,
                deed: self.deeds[&id],
            })
            .collect();
        writes.retain(|write| !history.is_later(write));
        (history, writes)
    }

    fn concurrent(&self, one: &Write, other: &Write) -> bool {
        let id = |write: &Write| (usize::from(write.writer), write.place);
        let (a, b) = (id(one), id(other));
        a != b && !self.saw[&a].contains(&b) && !self.saw[&b].contains(&a)
    }

    /// The chains by looking at every pair, as lists of indices.
    fn chains(&self, writes: &[Write]) -> Vec<Vec<usize>> {
        let mut chain: Vec<usize> = (0..writes.len()).collect();
        for i in 0..writes.len() {
            for j in 0..i {
                if writes[i].deed.clashes_with(writes[j].deed)
                    && self.concurrent(&writes[i], &writes[j])
                {
                    let (a, b) = (chain[i], chain[j]);
                    chain.iter_mut().filter(|of| **of == a).for_each(|of| *of = b);
                }
            }
        }
        let mut by_chain: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
        for (write, chain) in chain.into_iter().enumerate() {
            by_chain.entry(chain).or_default().push(write);
        }
        let mut chains: Vec<_> = by_chain.into_values().filter(|chain| chain.len() > 1).collect();
        chains.sort();
        chains
    }
}

fn deed() -> impl Strategy<Value = Deed> {
    prop_oneof![
        2 => Just(Deed::Insert), 5 => Just(Deed::Update), 2 => Just(Deed::Delete), 2 => Just(Deed::Refer),
    ]
}

fn event() -> impl Strategy<Value = Event> {
    prop_oneof![
        5 => (0usize..6, deed()).prop_map(|(node, deed)| Event::Write(node, deed)),
        8 => (0usize..40, 1usize..4).prop_map(|(link, count)| Event::Carry(link, count)),
        1 => (0usize..40).prop_map(Event::Skip),
        1 => (0usize..40).prop_map(Event::PutAside),
        1 => (0usize..40).prop_map(Event::LetThrough),
    ]
}

/// Meshes, rings, and chains over relays, of three to six nodes.
fn network() -> impl Strategy<Value = (usize, Vec<(NodeId, NodeId)>)> {
    (3usize..=6, 0u8..4).prop_map(|(nodes, shape)| {
        let all = (0..nodes).flat_map(|a| (0..nodes).map(move |b| (a, b))).filter(|(a, b)| a != b);
        let links = match shape {
            0 => all.collect(),
            1 => (0..nodes).map(|n| (n, (n + 1) % nodes)).collect(),
            2 => all.filter(|(a, b)| a.abs_diff(*b) == 1).collect(),
            _ => (1..nodes).map(|n| (n, 0)).collect(),
        };
        (nodes, links)
    })
}

/// Without what is only late or lost.
fn orderly(event: &Event) -> bool {
    matches!(event, Event::Write(..) | Event::Carry(..))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4000))]

    #[test]
    fn whole_journals_give_exactly_the_truth(
        (nodes, links) in network(), events in prop::collection::vec(event(), 1..120),
    ) {
        let truth = run(nodes, &links, &events);
        let (history, writes) = truth.seen(&vec![0; nodes], &[], (true, true));
        for one in &writes {
            for other in &writes {
                let saw = match truth.concurrent(one, other) {
                    true => Saw::Yes,
                    false => Saw::No,
                };
                prop_assert_eq!(history.concurrent(one, other), saw, "{:?} {:?}", one, other);
            }
        }
        let found = chains(&history, &writes);
        let members: Vec<Vec<usize>> = found.iter().map(|chain| chain.writes.clone()).collect();
        prop_assert_eq!(members, truth.chains(&writes));
        for chain in &found {
            prop_assert!(chain.proven.iter().all(|proven| *proven), "whole journals leave nothing unclear");
            check_later(&truth, &writes, chain)?;
        }
    }

    #[test]
    fn journals_cut_short_or_missing_prove_nothing_wrong_and_miss_nothing(
        (nodes, links) in network(),
        events in prop::collection::vec(event(), 1..90),
        cut in prop::collection::vec(prop_oneof![Just(0usize), 0usize..12], 6),
        dark in prop::collection::vec(0usize..6, 0..3),
        knows_start in any::<bool>(),
        in_order in any::<bool>(),
    ) {
        // Of skipped writes a start that is one number cannot tell.
        let in_order = knows_start || in_order;
        let events: Vec<Event> = events.into_iter().filter(|event| !in_order || orderly(event)).collect();
        let truth = run(nodes, &links, &events);
        let (history, writes) = truth.seen(&cut, &dark, (knows_start, in_order));
        for one in &writes {
            for other in &writes {
                match history.concurrent(one, other) {
                    Saw::Yes => prop_assert!(truth.concurrent(one, other), "invented: {one:?} {other:?}"),
                    Saw::No => prop_assert!(!truth.concurrent(one, other), "missed: {one:?} {other:?}"),
                    Saw::Unclear => {}
                }
            }
        }
        let found = chains(&history, &writes);
        for real in truth.chains(&writes) {
            prop_assert!(found.iter().any(|chain| real.iter().all(|write| chain.writes.contains(write))));
        }
        for chain in &found {
            for (write, proven) in chain.writes.iter().zip(&chain.proven) {
                let certain = writes.iter().any(|other| {
                    other.deed.clashes_with(writes[*write].deed)
                        && history.concurrent(other, &writes[*write]) == Saw::Yes
                });
                prop_assert_eq!(*proven, certain);
            }
        }
    }
}

/// Who is said to have healed a chain had seen all of it; and whether somebody had seen a write is true.
fn check_later(truth: &Truth, writes: &[Write], chain: &Chain) -> Result<(), TestCaseError> {
    let id = |write: usize| (usize::from(writes[write].writer), writes[write].place);
    let had_seen = |later: usize, write: usize| truth.saw[&id(later)].contains(&id(write));
    let healers: Vec<usize> = (0..writes.len())
        .filter(|later| writes[*later].deed != Deed::Refer && !chain.writes.contains(later))
        .filter(|later| chain.writes.iter().all(|write| had_seen(*later, *write)))
        .collect();
    match chain.healed_by {
        Some(by) => prop_assert!(healers.contains(&by)),
        None => prop_assert!(healers.is_empty(), "{healers:?}"),
    }
    for (write, seen) in chain.writes.iter().zip(&chain.seen_later) {
        let later = (0..writes.len()).filter(|later| writes[*later].deed != Deed::Refer);
        prop_assert_eq!(*seen, later.into_iter().any(|later| had_seen(later, *write)));
    }
    Ok(())
}

#[test]
fn a_row_written_ten_thousand_times_on_each_side_of_a_cut_is_one_chain() {
    let count = 10_000;
    let write = |node: NodeId, place: u64| Write {
        writer: u16::try_from(node).unwrap(),
        place,
        made: None,
        orders: vec![
            (0, place + if node == 0 { 0 } else { count }),
            (1, place + if node == 1 { 0 } else { count }),
        ],
        deed: Deed::Update,
    };
    let writes: Vec<Write> =
        (0..count).flat_map(|place| [write(0, place), write(1, place)]).collect();
    let reach = || Reach { spans: BTreeMap::new(), complete: true };
    let history = History {
        writers: vec![Some(0), Some(1)],
        journals: [(0, reach()), (1, reach())].into(),
        window: 0,
    };
    let found = chains(&history, &writes);
    assert_eq!(found.len(), 1);
    assert_eq!(found[0].writes.len(), writes.len());
}

#[test]
fn a_write_made_after_its_journal_was_read_is_left_for_the_next_look() {
    let span = Span {
        start: Start::UpTo(0),
        last: Some(4),
        applied: None,
        done: None,
        arrivals: Arrivals::default(),
        besides: BTreeMap::new(),
    };
    let reach = Reach { spans: [(0, span)].into(), complete: true };
    let history = History { writers: vec![Some(0)], journals: [(0, reach)].into(), window: 0 };
    let write =
        |place| Write { writer: 0, place, made: None, orders: vec![(1, 9)], deed: Deed::Update };
    assert!(history.is_later(&write(5)));
    assert!(!history.is_later(&write(3)));
}
