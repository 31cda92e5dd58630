//! Transactions that a node received and passed on under a number of its own: their receivers know them by
//! that number, and get to know here who made them.

use std::collections::BTreeMap;

use keen_core::history::happened_before::{Arrivals, WriterId};
use keen_core::history::journal::{Stream, Writer};
use keen_core::topology::NodeId;

use super::record_sort::WriteRecord;
use super::scan_journal::{Read, Seen, Shared};

/// By writer what he passed on: by whose writer, his own number and that one's.
#[derive(Debug, Default)]
pub(super) struct Relays(BTreeMap<WriterId, BTreeMap<WriterId, Arrivals>>);

/// A transaction is passed on at most so often: there are no more nodes.
const MOST_HOPS: usize = 64;

impl Relays {
    /// Of all journals, for those nodes that others receive passed-on transactions from.
    pub(super) fn new(
        shared: &Shared<'_>,
        writers: &[Writer],
        reads: &mut BTreeMap<NodeId, Read>,
    ) -> Self {
        let mut relays = BTreeMap::new();
        for (number, writer) in writers.iter().enumerate().filter(|(_, w)| w.stream == Stream::Lsn)
        {
            let (Ok(number), Some(node)) = (WriterId::try_from(number), shared.node_of(writer))
            else {
                continue;
            };
            let Some(read) = reads.get_mut(&node) else { continue };
            let passed_on = std::mem::take(&mut read.passed_on);
            let is_followed = |(other, read): (&NodeId, &Read)| {
                let of = read.spans.get(&number).filter(|_| *other != node);
                of.is_some_and(|seen| {
                    let places = seen.arrivals.above(0);
                    places
                        .iter()
                        .any(|(place, _)| passed_on.values().any(|p| p.get(*place).is_some()))
                })
            };
            if !passed_on.is_empty() && reads.iter().any(is_followed) {
                relays.insert(number, passed_on);
            }
        }
        Self(relays)
    }

    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Who made a transaction, and its number there.
    fn maker(&self, mut writer: WriterId, mut place: u64) -> (WriterId, u64) {
        for _ in 0..MOST_HOPS {
            let of = self.0.get(&writer).into_iter().flatten();
            match of.filter_map(|(maker, numbers)| Some((*maker, numbers.get(place)?))).next() {
                Some(found) => (writer, place) = found,
                None => break,
            }
        }
        (writer, place)
    }

    /// Gives the transactions that journals have their makers' names.
    pub(super) fn rename(
        &self,
        shared: &Shared<'_>,
        writers: &[Writer],
        reads: &mut BTreeMap<NodeId, Read>,
    ) {
        for (node, read) in reads {
            let mut renamed: BTreeMap<WriterId, Vec<(u64, u64)>> = BTreeMap::new();
            for writer in self.0.keys() {
                let Some(seen) = read.spans.get_mut(writer) else { continue };
                let (mut own, mut first, mut last) =
                    (Arrivals::default(), None::<u64>, None::<u64>);
                for (place, order) in seen.arrivals.above(0) {
                    let (maker, number) = self.maker(*writer, place);
                    if (maker, number) == (*writer, place) {
                        own.push(place, order);
                        (first, last) = (first.or(Some(place)), last.max(Some(place)));
                    } else {
                        renamed.entry(maker).or_default().push((number, order));
                    }
                }
                seen.arrivals = own;
                match (first, last) {
                    (Some(first), Some(last)) => (seen.first, seen.last) = (first, last),
                    _ => drop(read.spans.remove(writer)),
                }
            }
            for (maker, mut arrived) in renamed {
                anchor(shared, writers, *node, read, (maker, &arrived));
                let known = read.spans.get(&maker).map(|seen| seen.arrivals.above(0));
                arrived.extend(known.unwrap_or_default());
                arrived.sort_unstable_by_key(|(_, order)| *order);
                let places = || arrived.iter().map(|(place, _)| *place);
                let (first, last) = (places().min().unwrap_or(0), places().max().unwrap_or(0));
                let mut arrivals = Arrivals::default();
                arrived.iter().for_each(|(place, order)| arrivals.push(*place, *order));
                let besides = BTreeMap::new();
                read.spans.insert(maker, Seen { first, last, arrivals, besides });
            }
            for shape in &mut read.shapes {
                (shape.writer, shape.place) = self.maker(shape.writer, shape.place);
            }
        }
    }

    /// The same for the records of one thing.
    pub(super) fn rename_records(&self, records: &mut [WriteRecord]) {
        if self.is_empty() {
            return;
        }
        for record in records.iter_mut() {
            (record.writer, record.place) = self.maker(record.writer, record.place);
        }
        records.sort_unstable();
    }
}

/// Moves what a node made itself after something had come to it through relays behind the beginning of the maker's
/// journal, if that has the same.
fn anchor(
    shared: &Shared<'_>,
    writers: &[Writer],
    node: NodeId,
    read: &mut Read,
    (maker, arrived): (WriterId, &[(u64, u64)]),
) {
    let Some(writer) = writers.get(usize::from(maker)) else { return };
    let Some(of) = shared.node_of(writer) else { return };
    let known = arrived.iter().filter(|(place, _)| shared.has_own(writer, *place));
    let Some(after) = known.map(|(_, order)| *order).min() else { return };
    for (own, seen) in &read.spans {
        let is_own = writers.get(usize::from(*own)).and_then(|w| shared.node_of(w)) == Some(node);
        let next = seen.arrivals.above(0).into_iter().filter(|(_, order)| is_own && *order > after);
        if let Some(place) = next.map(|(place, _)| place).min() {
            let anchor = read.anchors.entry((of, *own)).or_insert(place);
            *anchor = place.min(*anchor);
        }
    }
}
