//! Rows of engines without types: in memory and in SQLite files of three encodings, any value in any column.

use keen_core::fault::ReadFault;
use keen_core::ports::{ReadRows, TableRequest};
use keen_core::row::batch::{Column, Layout, RowWriter};
use keen_core::row::conversion::Conversion;
use keen_core::row::digest::{Digest, DigestFunction};
use keen_core::row::encoding;
use keen_core::row::selection::RowSelection;
use keen_core::value::Value;
use keen_testkit::tables::{UntypedTable, open};
use proptest::prelude::*;
use tempfile::TempDir;

/// One row as it was delivered.
#[derive(Debug, Clone, PartialEq)]
struct Delivered {
    key: Vec<u8>,
    row: Vec<Value>,
    digest: Digest,
    identified: bool,
}

const KINDS: [&str; 4] = ["memory", "UTF-8", "UTF-16le", "UTF-16be"];

/// The same table behind every adapter.
fn everywhere(table: &UntypedTable, check: impl Fn(&str, &mut dyn ReadRows)) {
    let folder = TempDir::new().unwrap();
    for kind in KINDS {
        if kind == "memory" {
            check(kind, &mut table.in_memory());
        } else {
            let path = table.to_sqlite(&folder.path().join(format!("{kind}.db")), kind);
            check(kind, &mut open(&path));
        }
    }
}

fn layout(table: &UntypedTable) -> Layout {
    let mut names = table.columns.clone();
    names.sort();
    let at = |name: &String| names.iter().position(|n| n == name).unwrap();
    Layout {
        columns: names
            .iter()
            .map(|name| Column { name: name.clone(), reading: Conversion::default() })
            .collect(),
        key: table.key.iter().map(at).collect(),
        shown: table.columns.iter().map(at).collect(),
    }
}

fn read(
    table: &UntypedTable,
    node: &mut dyn ReadRows,
    batch_bytes: usize,
) -> Result<Vec<Delivered>, ReadFault> {
    let layout = layout(table);
    let columns = layout.columns.iter().map(|column| column.name.clone()).collect();
    let request = TableRequest {
        table: "t".to_owned(),
        columns,
        filter: None,
        ordered: true,
        rows: RowSelection::All,
    };
    node.shape("t")?;
    let mut all = Vec::new();
    node.read(&request, RowWriter::new(layout, DigestFunction::Xxh3, batch_bytes), &mut |batch| {
        for at in 0..batch.len() {
            let row = batch.get(at).unwrap();
            all.push(Delivered {
                key: row.key.to_vec(),
                row: encoding::read_row(row.row).unwrap(),
                digest: row.digest,
                identified: row.identified,
            });
        }
        Some(batch)
    })?;
    Ok(all)
}

fn int(v: i64) -> Value {
    Value::Int(v.into())
}

#[test]
fn every_kind_of_value_comes_back_as_it_is() {
    let values = vec![
        Value::Null,
        int(0),
        int(i64::MAX),
        int(i64::MIN),
        Value::Float(0.1),
        Value::Float(f64::INFINITY),
        Value::Float(f64::NEG_INFINITY),
        Value::text(""),
        Value::text("a\0b"),
        Value::text("Łódź 😀 e\u{301}"),
        Value::Bytes(vec![]),
        Value::Bytes(vec![0, 255]),
    ];
    let rows: Vec<Vec<Value>> =
        values.iter().enumerate().map(|(i, v)| vec![int(i as i64), v.clone()]).collect();
    let table = UntypedTable::new(&["id", "v"], &["id"], rows.clone());
    everywhere(&table, |kind, node| {
        let found: Vec<Vec<Value>> =
            read(&table, node, 64).unwrap().into_iter().map(|d| d.row).collect();
        assert_eq!(found, rows, "{kind}");
    });
}

#[test]
fn zero_keeps_its_sign_where_the_engine_keeps_it() {
    let table = UntypedTable::new(&["id", "v"], &["id"], vec![vec![int(1), Value::Float(-0.0)]]);
    everywhere(&table, |kind, node| {
        let row = read(&table, node, 64).unwrap().remove(0).row;
        let signed = matches!(row[1], Value::Float(v) if v.is_sign_negative());
        assert_eq!(signed, kind == "memory", "{kind}");
    });
}

#[test]
fn equal_rows_without_a_key_all_come_next_to_each_other() {
    let row = |v: i64, t: &str| vec![int(v), Value::text(t)];
    let table = UntypedTable::new(
        &["a", "b"],
        &[],
        vec![row(2, "x"), row(1, "x"), row(2, "x"), row(1, "w")],
    );
    everywhere(&table, |kind, node| {
        let found = read(&table, node, 64).unwrap();
        let rows: Vec<Vec<Value>> = found.iter().map(|d| d.row.clone()).collect();
        assert_eq!(rows, [row(1, "w"), row(1, "x"), row(2, "x"), row(2, "x")], "{kind}");
        assert!(found.iter().all(|d| !d.identified), "{kind}");
    });
}

#[test]
fn an_empty_table_has_no_rows() {
    let table = UntypedTable::new(&["id"], &["id"], vec![]);
    everywhere(&table, |kind, node| {
        assert_eq!(read(&table, node, 64).unwrap(), [], "{kind}");
    });
}

#[test]
fn a_key_of_nothing_identifies_nothing() {
    let rows = vec![
        vec![Value::Null, int(2)],
        vec![Value::Null, int(1)],
        vec![int(5), int(0)],
        vec![Value::Null, int(1)],
    ];
    let table = UntypedTable::new(&["id", "v"], &["id"], rows);
    everywhere(&table, |kind, node| {
        let found = read(&table, node, 64).unwrap();
        let seen: Vec<(bool, Value)> =
            found.iter().map(|d| (d.identified, d.row[1].clone())).collect();
        assert_eq!(
            seen,
            [(false, int(1)), (false, int(1)), (false, int(2)), (true, int(0))],
            "{kind}"
        );
    });
}

#[test]
fn what_is_not_there_is_named() {
    let table = UntypedTable::new(&["id"], &["id"], vec![]);
    everywhere(&table, |kind, node| {
        let fault = node.shape("marmots").unwrap_err();
        assert!(fault.what.contains("marmots") && !fault.advice.is_empty(), "{kind}: {fault}");
    });
}

#[test]
fn a_reader_that_has_gone_ends_the_reading() {
    let rows = (0..1000).map(|i| vec![int(i)]).collect();
    let table = UntypedTable::new(&["id"], &["id"], rows);
    everywhere(&table, |kind, node| {
        let mut batches = 0;
        let request = TableRequest {
            table: "t".to_owned(),
            columns: vec!["id".to_owned()],
            filter: None,
            ordered: true,
            rows: RowSelection::All,
        };
        node.read(&request, RowWriter::new(layout(&table), DigestFunction::Xxh3, 64), &mut |_| {
            batches += 1;
            None
        })
        .unwrap();
        assert_eq!(batches, 1, "{kind}");
    });
}

/// Values in a key: all kinds, and numbers that are equal across kinds.
fn key_value() -> impl Strategy<Value = Value> {
    prop_oneof![
        (-3i64..4).prop_map(int),
        any::<i64>().prop_map(int),
        (-4i32..4).prop_map(|v| Value::Float(f64::from(v) / 2.0)),
        any::<f64>()
            .prop_filter("SQLite keeps NaN as NULL", |v| !v.is_nan())
            // Nor does it keep the sign of a zero.
            .prop_map(|v| Value::Float(v + 0.0)),
        "[a-bA-B \u{0}é😀\u{ffff}]{0,3}".prop_map(|v| Value::text(&v)),
        any::<String>().prop_map(|v| Value::text(&v)),
        prop::collection::vec(any::<u8>(), 0..3).prop_map(Value::Bytes),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(keen_testkit::rounds(16, 48)))]

    #[test]
    fn all_adapters_deliver_the_same_rows_in_the_same_order(
        keys in prop::collection::vec((key_value(), key_value()), 0..40),
        composite in any::<bool>(),
        without_rowid in any::<bool>(),
        keyed in any::<bool>(),
        batch_bytes in 1usize..400,
    ) {
        let mut seen = std::collections::BTreeSet::new();
        let mut rows = Vec::new();
        for (i, (a, b)) in keys.into_iter().enumerate() {
            let mut token = Vec::new();
            keen_core::row::key_order::put_key(&mut token, a.as_ref());
            if composite {
                keen_core::row::key_order::put_key(&mut token, b.as_ref());
            }
            if !keyed || seen.insert(token) {
                rows.push(vec![a, b, int(i as i64 / 3)]);
            }
        }
        let key: &[&str] = match (keyed, composite) { (false, _) => &[], (true, false) => &["k"], (true, true) => &["k", "j"] };
        let mut table = UntypedTable::new(&["k", "j", "v"], key, rows);
        table.without_rowid = without_rowid && keyed;
        let expected = read(&table, &mut table.in_memory(), batch_bytes).unwrap();
        everywhere(&table, |kind, node| {
            let mut found = read(&table, node, batch_bytes).unwrap();
            // Rows whose keys tie (1 beside 1.0) may come in either order where there is no key.
            let mut expected = expected.clone();
            for list in [&mut found, &mut expected] {
                list.sort_by(|a, b| a.key.cmp(&b.key).then(a.digest.cmp(&b.digest)));
            }
            assert_eq!(found, expected, "{kind}");
        });
    }
}
