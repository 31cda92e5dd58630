//! The debt of a link, against a plain list of the transactions that its receiver has not applied.

use std::collections::BTreeMap;
use std::sync::Arc;

use keen_core::history::journal::{Begin, Entry, Id, RowChange, RowOp, Stream, Writer};
use keen_core::links::owed::{OwedTable, OwedWrites};
use keen_core::observe::position::Position;
use keen_core::row::batch::{Column, Layout};
use keen_core::row::conversion::Conversion;
use keen_core::value::Value;
use proptest::prelude::*;

fn table() -> OwedTable {
    let columns = ["id", "n"];
    let column = |name: &&str| Column { name: (*name).to_owned(), reading: Conversion::default() };
    OwedTable {
        name: "stay".to_owned(),
        layout: Layout {
            columns: columns.iter().map(column).collect(),
            key: vec![0],
            shown: vec![0, 1],
        },
        columns: columns.iter().map(|name| (*name).to_owned()).collect(),
    }
}

/// A transaction: its domain, and the keys that it writes.
type Made = (u32, Vec<i8>);

fn entries(made: &[Made]) -> Vec<(u32, u64, Vec<Entry>)> {
    let mut numbers: BTreeMap<u32, u64> = BTreeMap::new();
    let names: Arc<[String]> = ["id".to_owned(), "n".to_owned()].into();
    let mut order = 0;
    made.iter()
        .map(|(domain, keys)| {
            let number = numbers.entry(*domain).or_insert(0);
            *number += 1;
            order += 1;
            let writer =
                Writer { origin: Arc::from(domain.to_string()), stream: Stream::Domain(*domain) };
            let id = Id { writer, place: *number };
            let mut entries = vec![Entry::Begin(Begin { order, id, made: Some(7), commit: None })];
            entries.extend(keys.iter().map(|key| {
                let row = vec![Some(Value::Int(i128::from(*key))), Some(Value::Int(1))];
                Entry::Row(RowChange {
                    table: Arc::from("stay"),
                    columns: Arc::clone(&names),
                    before: None,
                    after: Some(row),
                    act: RowOp::Insert,
                })
            }));
            (*domain, *number, entries)
        })
        .collect()
}

proptest! {
    #[test]
    fn exactly_what_is_behind_the_position_is_owed(
        made in prop::collection::vec((0u32..3, prop::collection::vec(any::<i8>(), 0..4)), 0..20),
        applied in prop::collection::vec(0u64..8, 3),
        own in prop::option::of(0u32..3),
    ) {
        let domains = applied.iter().enumerate().map(|(d, n)| (d as u32, (d as u32, *n)));
        let mut owed = OwedWrites::behind(Position::Gtid(domains.collect()), own, "a", false);
        let tables = [table()];
        let entries = entries(&made);
        let mut lacking: Vec<i8> = Vec::new();
        let mut first = None;
        for ((domain, number, of), (_, keys)) in entries.iter().zip(&made) {
            of.iter().for_each(|entry| owed.take(entry, &tables));
            // What the receiver made itself is not brought back to it.
            if own != Some(*domain) && *number > applied[*domain as usize] {
                lacking.extend(keys);
                if first.is_none() && !keys.is_empty() {
                    first = Some((*number, *domain, keys.len() as u64));
                }
            }
        }
        owed.finish();
        for key in i8::MIN..=i8::MAX {
            let is = owed.may_write("stay", &[Value::Int(i128::from(key))]);
            prop_assert_eq!(is, lacking.contains(&key), "{}", key);
        }
        prop_assert_eq!(owed.writes, lacking.len() as u64);
        let found = owed.first.as_ref().map(|first| {
            let Stream::Domain(domain) = first.id.writer.stream else { unreachable!() };
            (first.id.place, domain, first.count)
        });
        prop_assert_eq!(found, first);
    }
}
