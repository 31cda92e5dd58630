//! The comparison on its own: streams that break off, stop or lie.

use keen_core::fault::ReadFault;
use keen_core::topology::node_set::NodeSet;
use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::ControlFlow;

use keen_core::audit::merge::{Collect, DivergentRow, Findings, RowStream, Tally, compare};
use keen_core::row::balance::Balance;
use keen_core::row::batch::{Batch, Column, Layout, RowFault, RowWriter};
use keen_core::row::conversion::Conversion;
use keen_core::row::digest::DigestFunction;
use keen_core::topology::NodeId;
use keen_core::topology::placement::Expectation;
use keen_core::value::Value;
use proptest::prelude::*;

fn layout() -> Layout {
    let column = |name: &str| Column { name: name.to_owned(), reading: Conversion::default() };
    Layout { columns: vec![column("id"), column("v")], key: vec![0], shown: vec![0, 1] }
}

fn batches(rows: &[(i128, &str)], batch_bytes: usize) -> Result<Vec<Batch>, RowFault> {
    let mut writer = RowWriter::new(layout(), DigestFunction::Xxh3, batch_bytes);
    let mut batches = Vec::new();
    for (id, v) in rows {
        let row = [Value::Int(*id), Value::text(v)];
        if writer.push::<RowFault>(false, |i| Ok(row[i].as_ref()))? {
            batches.push(writer.take());
        }
    }
    batches.push(writer.take());
    Ok(batches)
}

/// Delivers its batches, then ends or fails.
struct Scripted {
    batches: std::vec::IntoIter<Batch>,
    then: Result<(), ReadFault>,
}

impl RowStream for Scripted {
    fn next_batch(&mut self, _: Batch) -> Result<Option<Batch>, ReadFault> {
        match self.batches.next() {
            Some(batch) => Ok(Some(batch)),
            None => self.then.clone().map(|()| None),
        }
    }
}

fn stream(rows: &[(i128, &str)], then: Result<(), ReadFault>) -> Box<dyn RowStream> {
    stream_in(rows, 40, then)
}

fn stream_in(
    rows: &[(i128, &str)],
    batch_bytes: usize,
    then: Result<(), ReadFault>,
) -> Box<dyn RowStream> {
    Box::new(Scripted { batches: batches(rows, batch_bytes).unwrap().into_iter(), then })
}

fn run(
    edges: &[(NodeId, NodeId)],
    streams: Vec<(NodeId, Box<dyn RowStream>)>,
    findings: &mut dyn Findings,
    stop: &dyn Fn() -> bool,
) -> Tally {
    compare(
        &layout(),
        &Expectation::new(edges.iter().copied(), NodeSet::of(0)),
        streams,
        findings,
        stop,
    )
}

const STAR: [(NodeId, NodeId); 2] = [(0, 1), (0, 2)];

#[test]
fn rows_that_do_not_arrive_in_order_are_refused() {
    for bytes in [1, 1000] {
        assert_eq!(batches(&[(2, "a"), (1, "b")], bytes).unwrap_err(), RowFault::OutOfOrder);
        assert_eq!(batches(&[(1, "a"), (1, "b")], bytes).unwrap_err(), RowFault::KeyTwice);
        assert!(batches(&[(-1, "a"), (0, "b"), (300, "c")], bytes).is_ok());
    }
}

#[test]
fn of_a_node_lost_midway_nothing_more_is_concluded() {
    let all = [(1, "a"), (2, "b"), (3, "c"), (4, "d")];
    let mut found = Collect::default();
    let streams = vec![
        (0, stream(&all, Ok(()))),
        (1, stream(&[(1, "a"), (2, "other")], Err(ReadFault::not_told("the disk is gone")))),
        (2, stream(&[(1, "a"), (2, "b"), (3, "c")], Ok(()))),
    ];
    let tally = run(&STAR, streams, &mut found, &|| false);
    assert_eq!(tally.lost[&1].what, "the disk is gone");
    let keys: Vec<&Value> = found.0.iter().map(|row| &row.key[0]).collect();
    assert_eq!(
        keys,
        [&Value::Int(2), &Value::Int(4)],
        "what it had delivered counts, its silence does not"
    );
    assert_eq!(found.0[1].versions.iter().map(|v| v.nodes.clone()).collect::<Vec<_>>(), [[0], [2]]);
    assert_eq!(tally.unsatisfied, [((0, 1), 1), ((0, 2), 1)].into());
}

#[test]
fn a_source_that_was_lost_makes_nothing_surplus() {
    let mut found = Collect::default();
    let streams = vec![
        (0, stream(&[], Err(ReadFault::not_told("dark")))),
        (1, stream(&[(1, "a")], Ok(()))),
        (2, stream(&[], Ok(()))),
    ];
    let tally = run(&STAR, streams, &mut found, &|| false);
    assert_eq!((found.0.len(), tally.divergent), (0, 0));
}

#[test]
fn it_stops_when_told_and_says_so() {
    let many: Vec<(i128, &str)> = (0..20_000).map(|i| (i, "x")).collect();
    let asked = Cell::new(0);
    let stop = || {
        asked.set(asked.get() + 1);
        asked.get() > 2
    };
    let streams = vec![(0, stream(&many, Ok(()))), (1, stream(&many, Ok(())))];
    let tally = run(&[(0, 1)], streams, &mut Collect::default(), &stop);
    assert!(tally.stopped);
    assert!(tally.balances[&0].rows < 20_000);
}

#[test]
fn whoever_takes_the_findings_can_have_enough() {
    struct First(Vec<DivergentRow>);
    impl Findings for First {
        fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
            self.0.push(row);
            ControlFlow::Break(())
        }
    }
    let mut first = First(Vec::new());
    let streams = vec![(0, stream(&[(1, "a"), (2, "a")], Ok(()))), (1, stream(&[], Ok(())))];
    let tally = run(&[(0, 1)], streams, &mut first, &|| false);
    assert_eq!((first.0.len(), tally.divergent, tally.stopped), (1, 1, true));
}

/// A change that somebody made to a node's copy: to which row, and how.
#[derive(Debug, Clone)]
struct Edit(NodeId, u16, Option<&'static str>);

fn edit() -> impl Strategy<Value = Edit> {
    let what =
        prop_oneof![Just(None), Just(Some("y")), Just(Some("a longer note than the others"))];
    (0usize..3, any::<u16>(), what).prop_map(|(node, at, what)| Edit(node, at, what))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// Stretches that agree are passed over; that must not be seen in any result, wherever batches end.
    #[test]
    fn many_rows_with_few_differences_give_what_row_by_row_gives(
        count in 0i128..4000,
        edits in prop::collection::vec(edit(), 0..12),
        batch_bytes in prop::collection::vec(1usize..30_000, 3),
        lost_after in prop::option::of(0usize..4000),
    ) {
        let base: BTreeMap<i128, &str> = (0..count).map(|i| (i * 2, "x")).collect();
        let mut nodes = vec![base; 3];
        for Edit(node, at, what) in &edits {
            let id = i128::from(*at) % (2 * count + 2);
            match what {
                Some(note) => drop(nodes[*node].insert(id, note)),
                None => drop(nodes[*node].remove(&id)),
            }
        }
        let mut rows: Vec<Vec<(i128, &str)>> =
            nodes.iter().map(|node| node.iter().map(|(id, v)| (*id, *v)).collect()).collect();
        // The last node may be lost after so many rows.
        let fault = lost_after.filter(|after| *after < rows[2].len());
        let end = fault.map(|after| {
            rows[2].truncate(after);
            rows[2].last().map_or(i128::MIN, |(id, _)| *id)
        });
        let streams = rows
            .iter()
            .enumerate()
            .map(|(node, rows)| {
                let then = if node == 2 && fault.is_some() { Err(ReadFault::not_told("gone")) } else { Ok(()) };
                (node, stream_in(rows, batch_bytes[node], then))
            })
            .collect();
        let mut found = Collect::default();
        let tally = run(&STAR, streams, &mut found, &|| false);

        let keys: BTreeSet<i128> = rows.iter().flatten().map(|(id, _)| *id).collect();
        let wanted: Vec<Value> = keys
            .into_iter()
            .filter(|id| {
                let seen = if end.is_some_and(|end| *id > end) { 2 } else { 3 };
                (1..seen).any(|node| nodes[node].get(id) != nodes[0].get(id))
            })
            .map(Value::Int)
            .collect();
        let keys: Vec<Value> = found.0.iter().map(|row| row.key[0].clone()).collect();
        prop_assert_eq!(keys, wanted);
        for (node, rows) in rows.iter().enumerate() {
            let mut balance = Balance::default();
            for batch in batches(rows, 500).unwrap() {
                (0..batch.len()).for_each(|at| balance.credit(batch.get(at).unwrap().digest));
            }
            prop_assert_eq!(tally.balances[&node], balance);
        }
    }
}
