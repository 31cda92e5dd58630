//! The contract of every adapter: in memory, SQLite, PostgreSQL 15 and 18, MariaDB.

use std::cell::Cell;
use std::path::Path;
use std::sync::Arc;

use keen_core::fault::ReadFault;
use keen_core::ports::{ReadRows, TableRequest};
use keen_core::row::batch::{Column, Layout, RowWriter};
use keen_core::row::conversion::Conversion;
use keen_core::row::digest::{Digest, DigestFunction};
use keen_core::row::encoding;
use keen_core::row::schema::ColumnShape;
use keen_core::row::selection::{RowKeys, RowSelection, finds_by_value, is_findable};
use keen_core::value::Value;
use keen_core::value::calendar::parse_timestamp;
use keen_core::value::decimal::Decimal;
use keen_testkit::typed::{ColumnKind, Host, Typed};
use proptest::prelude::*;
use tempfile::TempDir;

/// One row as it was delivered.
#[derive(Debug, Clone, PartialEq)]
struct Delivered {
    key: Vec<u8>,
    row: Vec<Value>,
    digest: Digest,
    outside: bool,
    identified: bool,
}

/// The same table behind every adapter.
fn everywhere(table: &Typed, check: impl Fn(Host, &mut dyn ReadRows, &Path)) {
    let folder = TempDir::new().unwrap();
    for host in Host::ALL {
        check(host, &mut *table.put(host, folder.path()), folder.path());
    }
    table.drop_everywhere();
}

/// Columns in declared order, so that rows read as they were written.
fn layout(table: &Typed) -> Layout {
    let reading = |kind: ColumnKind| match kind {
        // SQLite has fewer kinds than the others; the audit finds the common one.
        ColumnKind::Bool | ColumnKind::Decimal => keen_core::row::conversion::CommonKind::Number,
        ColumnKind::Date => keen_core::row::conversion::CommonKind::Date,
        ColumnKind::Time => keen_core::row::conversion::CommonKind::Time,
        ColumnKind::Local => keen_core::row::conversion::CommonKind::Local(None),
        ColumnKind::Moment => keen_core::row::conversion::CommonKind::Local(
            keen_core::value::zone::Zone::named("UTC"),
        ),
        ColumnKind::Uuid => keen_core::row::conversion::CommonKind::Uuid,
        ColumnKind::Json => keen_core::row::conversion::CommonKind::Json,
        _ => keen_core::row::conversion::CommonKind::AsStored,
    };
    let column = |(name, kind): &(String, ColumnKind)| Column {
        name: name.clone(),
        reading: Conversion { kind: reading(*kind), ..Conversion::default() },
    };
    let at = |name: &String| table.columns.iter().position(|(n, _)| n == name).unwrap();
    Layout {
        columns: table.columns.iter().map(column).collect(),
        key: table.key.iter().map(at).collect(),
        shown: (0..table.columns.len()).collect(),
    }
}

/// The rows that are asked for by these values of these columns; none where one of them cannot be asked for so.
fn read_by(
    table: &Typed,
    node: &mut dyn ReadRows,
    (layout, columns): (&Layout, &[&str]),
    keys: &[Vec<Value>],
) -> Option<Vec<Vec<Value>>> {
    let shape = node.shape(&table.name).unwrap();
    let found: Vec<_> = columns.iter().map(|name| shape.column(name).unwrap().clone()).collect();
    let reading = |name: &str| &layout.columns.iter().find(|c| c.name == name).unwrap().reading;
    let by_value = |c: &ColumnShape| finds_by_value(reading(&c.name), c.family);
    if !found.iter().all(by_value) || !keys.iter().all(|key| is_findable(key)) {
        return None;
    }
    let keys = Arc::new(RowKeys { columns: found, keys: keys.into() });
    let request = TableRequest { rows: RowSelection::Keys(keys), ..request(table, None, false) };
    let writer = RowWriter::new(layout.clone(), DigestFunction::Xxh3, 64);
    let mut rows = Vec::new();
    node.read(&request, writer, &mut |batch| {
        rows.extend(
            (0..batch.len()).map(|at| encoding::read_row(batch.get(at).unwrap().row).unwrap()),
        );
        Some(batch)
    })
    .unwrap();
    rows.sort_by_key(|row| format!("{:?}", row[0]));
    Some(rows)
}

#[test]
fn rows_are_found_by_values_of_every_kind() {
    let of_kind = |kind| -> Vec<Value> {
        match kind {
            ColumnKind::Bool => [true, false].map(Value::Bool).into(),
            ColumnKind::Int => vec![int(0), int(i64::MAX), int(i64::MIN), int(-1)],
            ColumnKind::Decimal => ["1.50", "100", "-0.000001"]
                .map(|text| Value::Decimal(Decimal::parse(text).unwrap()))
                .into(),
            ColumnKind::Double => [0.1, f64::MAX, 5e-324, -1e15, 3.0].map(Value::Float).into(),
            ColumnKind::Text => {
                let texts =
                    ["", "NULL", "a ", "a", "A", "it's \\ \"", "Łódź \u{1f600} e\u{301}", "\n\t"];
                texts.map(Value::text).into()
            }
            ColumnKind::Bytes => vec![Value::Bytes(vec![]), Value::Bytes(vec![0, 255, 39])],
            ColumnKind::Date => vec![Value::Date(0), Value::Date(-354_285), Value::Date(2_932_896)],
            ColumnKind::Time => vec![Value::Time(0), Value::Time(86_399_999_999)],
            ColumnKind::Local => ["1000-01-01 00:00:00", "9999-12-31 23:59:59.999999"]
                .map(|text| Value::LocalTimestamp(at(text)))
                .into(),
            ColumnKind::Moment => vec![Value::Timestamp(at("2026-07-01 10:00:00.25"))],
            ColumnKind::Uuid => vec![Value::Uuid([0xa7; 16]), Value::Uuid([0; 16])],
            ColumnKind::Json => vec![Value::Json("[1]".into())],
        }
    };
    let asked = Cell::new(0);
    for kind in ColumnKind::ALL {
        let rows = of_kind(kind).into_iter().enumerate();
        let rows = rows.map(|(at, value)| vec![int(at as i64), value]).collect();
        let table = Typed::new(&[("id", ColumnKind::Int), ("v", kind)], &["id"], rows);
        everywhere(&table, |host, node, _| {
            // As an audit does, by what it read: among unlike nodes, and among those of one engine.
            let among_unlike = layout(&table);
            let mut as_stored = among_unlike.clone();
            as_stored.columns.iter_mut().for_each(|column| column.reading = Conversion::default());
            for layout in [among_unlike, as_stored] {
                for (row, columns) in rows_of(read_as(&table, &layout, node, None, 64).unwrap())
                    .iter()
                    .flat_map(|row| [(row, &["v"][..]), (row, &["v", "id"])])
                {
                    let key = columns.iter().map(|c| row[usize::from(*c == "v")].clone()).collect();
                    let asked_for = read_by(&table, node, (&layout, columns), &[key]);
                    let Some(found) = asked_for else { continue };
                    assert!(found.contains(row), "{host:?} {kind:?}: {row:?} is not in {found:?}");
                    // Texts that the engine takes for one may come along.
                    let alone = found.len() == 1 || kind == ColumnKind::Text;
                    assert!(alone, "{host:?} {kind:?}: {found:?}");
                    asked.set(asked.get() + 1);
                }
            }
        });
    }
    assert!(asked.get() > 400, "{asked:?}");
}

#[test]
fn many_keys_are_asked_for_at_once_and_none_yields_no_row() {
    let rows = (0..500).map(|i| vec![int(i), Value::text(&format!("row {i}"))]).collect();
    let table = Typed::new(&[("id", ColumnKind::Int), ("v", ColumnKind::Text)], &["id"], rows);
    everywhere(&table, |host, node, _| {
        let keys: Vec<Vec<Value>> = (0..200).map(|i| vec![int(i * 5)]).collect();
        let found = read_by(&table, node, (&layout(&table), &["id"]), &keys).unwrap();
        assert_eq!(found.len(), 100, "{host:?}");
        assert_eq!(
            read_by(&table, node, (&layout(&table), &["id"]), &[]).unwrap().len(),
            0,
            "{host:?}"
        );
        assert_eq!(read(&table, node, None, 64).unwrap().len(), 500, "{host:?}");
    });
}

fn request(table: &Typed, filter: Option<&str>, ordered: bool) -> TableRequest {
    TableRequest {
        table: table.name.clone(),
        columns: table.columns.iter().map(|(name, _)| name.clone()).collect(),
        filter: filter.map(str::to_owned),
        ordered,
        rows: RowSelection::All,
    }
}

/// All rows; in key order, whether or not the node delivers them so.
fn read(
    table: &Typed,
    node: &mut dyn ReadRows,
    filter: Option<&str>,
    batch_bytes: usize,
) -> Result<Vec<Delivered>, ReadFault> {
    read_as(table, &layout(table), node, filter, batch_bytes)
}

fn read_as(
    table: &Typed,
    layout: &Layout,
    node: &mut dyn ReadRows,
    filter: Option<&str>,
    batch_bytes: usize,
) -> Result<Vec<Delivered>, ReadFault> {
    let ordered = node.shape(&table.name)?.unordered.is_none() && !table.key.is_empty();
    let writer = RowWriter::new(layout.clone(), DigestFunction::Xxh3, batch_bytes);
    let mut all = Vec::new();
    node.read(&request(table, filter, ordered), writer, &mut |batch| {
        for at in 0..batch.len() {
            let row = batch.get(at).unwrap();
            all.push(Delivered {
                key: row.key.to_vec(),
                row: encoding::read_row(row.row).unwrap(),
                digest: row.digest,
                outside: row.outside,
                identified: row.identified,
            });
        }
        Some(batch)
    })?;
    if !ordered {
        all.sort_by(|a, b| a.key.cmp(&b.key).then(a.digest.cmp(&b.digest)));
    }
    Ok(all)
}

fn rows_of(delivered: Vec<Delivered>) -> Vec<Vec<Value>> {
    delivered.into_iter().map(|d| d.row).collect()
}

fn int(v: i64) -> Value {
    Value::Int(v.into())
}

fn at(text: &str) -> i64 {
    parse_timestamp(text).unwrap().0
}

/// A table of one value column, and what comes back of it as the common kind says it.
fn comes_back(kind: ColumnKind, values: &[Value], expected: &[Value]) {
    let number = |values: &[Value]| -> Vec<Vec<Value>> {
        values.iter().enumerate().map(|(i, v)| vec![int(i as i64), v.clone()]).collect()
    };
    let table = Typed::new(&[("id", ColumnKind::Int), ("v", kind)], &["id"], number(values));
    everywhere(&table, |host, node, _| {
        let found = rows_of(read(&table, node, None, 64).unwrap());
        assert_eq!(found, number(expected), "{host:?}");
    });
}

#[test]
fn every_kind_of_value_comes_back_as_it_is() {
    let same = |kind, values: Vec<Value>| comes_back(kind, &values, &values);
    same(ColumnKind::Int, vec![Value::Null, int(0), int(i64::MAX), int(i64::MIN)]);
    same(ColumnKind::Double, [0.1, f64::MAX, 5e-324, -1e15].map(Value::Float).into());
    same(
        ColumnKind::Text,
        ["", "NULL", "a ", "Łódź \u{1f600} e\u{301}", "\u{ffff}"].map(Value::text).into(),
    );
    same(ColumnKind::Bytes, vec![Value::Null, Value::Bytes(vec![]), Value::Bytes(vec![0, 255, 0])]);
    same(
        ColumnKind::Date,
        vec![Value::Null, Value::Date(0), Value::Date(-354_285), Value::Date(2_932_896)],
    );
    same(ColumnKind::Time, vec![Value::Time(0), Value::Time(86_399_999_999)]);
    let local = ["1000-01-01 00:00:00", "9999-12-31 23:59:59.999999"];
    same(ColumnKind::Local, local.map(|text| Value::LocalTimestamp(at(text))).into());
    same(ColumnKind::Uuid, vec![Value::Null, Value::Uuid([0xa7; 16])]);
    same(
        ColumnKind::Json,
        vec![Value::Null, Value::Json("{\"a\":[1.5,null]}".into()), Value::Json("\"x\"".into())],
    );
    let moment = at("2026-07-01 10:00:00.25");
    let moments = [Value::Timestamp(moment)];
    comes_back(ColumnKind::Moment, &moments, &[Value::LocalTimestamp(moment)]);
    comes_back(ColumnKind::Bool, &[Value::Bool(true), Value::Bool(false)], &[int(1), int(0)]);
    let decimals =
        ["1.50", "100", "-0.000001"].map(|text| Value::Decimal(Decimal::parse(text).unwrap()));
    comes_back(
        ColumnKind::Decimal,
        &decimals,
        &[Value::Float(1.5), int(100), Value::Float(-0.000001)],
    );
}

#[test]
fn zero_keeps_its_sign_where_the_engine_keeps_it() {
    let rows = vec![vec![int(1), Value::Float(-0.0)]];
    let table = Typed::new(&[("id", ColumnKind::Int), ("v", ColumnKind::Double)], &["id"], rows);
    everywhere(&table, |host, node, _| {
        let row = read(&table, node, None, 64).unwrap().remove(0).row;
        let signed = matches!(row[1], Value::Float(v) if v.is_sign_negative());
        let keeps = match host {
            Host::Memory => true,
            Host::Sqlite => false,
            Host::Server(engine) => engine.is_postgres(),
        };
        assert_eq!(signed, keeps, "{host:?}");
    });
}

#[test]
fn rows_without_a_key_all_come_and_are_not_identified() {
    let row = |v: i64, t: &str| vec![int(v), Value::text(t)];
    let rows = vec![row(2, "x"), row(1, "x"), row(2, "x"), vec![Value::Null, Value::Null]];
    let table = Typed::new(&[("a", ColumnKind::Int), ("b", ColumnKind::Text)], &[], rows);
    everywhere(&table, |host, node, _| {
        let found = read(&table, node, None, 64).unwrap();
        assert!(found.iter().all(|d| !d.identified), "{host:?}");
        let expected = [vec![Value::Null, Value::Null], row(1, "x"), row(2, "x"), row(2, "x")];
        assert_eq!(rows_of(found), expected, "{host:?}");
    });
}

#[test]
fn an_empty_table_has_no_rows() {
    let table = Typed::new(&[("id", ColumnKind::Int)], &["id"], vec![]);
    everywhere(&table, |host, node, _| {
        assert_eq!(read(&table, node, None, 64).unwrap(), [], "{host:?}");
        assert_eq!(node.estimate(&table.name).unwrap_or(0), 0, "{host:?}");
    });
}

#[test]
fn what_is_not_there_is_named() {
    let table = Typed::new(&[("id", ColumnKind::Int)], &["id"], vec![vec![int(1)]]);
    everywhere(&table, |host, node, _| {
        let fault = node.shape("marmots").unwrap_err();
        assert!(fault.what.contains("marmots") && !fault.advice.is_empty(), "{host:?}: {fault}");
        // One table that cannot be read costs nothing else.
        assert_eq!(read(&table, node, None, 64).unwrap().len(), 1, "{host:?}");
    });
}

#[test]
fn a_view_is_refused_with_a_reason() {
    let table = Typed::new(&[("id", ColumnKind::Int)], &["id"], vec![vec![int(1)]]);
    let folder = TempDir::new().unwrap();
    let view = format!("view_of_{}", table.name);
    // Tables in memory have no views.
    for host in Host::ALL.into_iter().filter(|host| *host != Host::Memory) {
        table.make(host, folder.path());
        let sql = format!("CREATE VIEW {view} AS SELECT * FROM {}", table.name);
        table.run(host, folder.path(), &sql);
        let fault = table.open(host, folder.path()).shape(&view).unwrap_err();
        assert!(fault.what.contains("is a view"), "{host:?}: {fault}");
        table.run(host, folder.path(), &format!("DROP VIEW {view}"));
    }
    table.drop_everywhere();
}

#[test]
fn tables_that_no_name_means_are_told() {
    let folder = TempDir::new().unwrap();
    let (view, own): (String, String) =
        ["view_beside", "keen_lab_own"].map(|name| format!("{name}_{}", std::process::id())).into();
    for name in ["a \"quoted\" name", "x.y", "Größe"] {
        let mut table = Typed::new(&[("id", ColumnKind::Int)], &["id"], vec![vec![int(1)]]);
        table.name = format!("keen_{} {name}", table.name);
        for host in Host::ALL {
            table.make(host, folder.path());
            // Neither a view, nor what keen made for itself, nor what is the engine's own.
            table.run(host, folder.path(), &format!("CREATE VIEW {view} AS SELECT 1 AS one"));
            table.run(host, folder.path(), &format!("CREATE TABLE {own} (id int)"));
            let mut node = table.open(host, folder.path());
            let mut others = |named: &[&str]| {
                let named: Vec<String> = named.iter().map(ToString::to_string).collect();
                node.other_tables(&named).unwrap().unwrap()
            };
            let all = others(&[]);
            assert!(all.contains(&table.name), "{host:?}");
            assert!(!others(&["marmots", &table.name]).contains(&table.name), "{host:?}");
            let hidden = ["pg_class", "user", "tables", "sqlite_schema", &view, &own];
            assert!(!all.iter().any(|other| hidden.contains(&&other[..])), "{host:?}: {all:?}");
            drop(node);
            table.run(host, folder.path(), &format!("DROP VIEW {view}"));
            table.run(host, folder.path(), &format!("DROP TABLE {own}"));
        }
        table.drop_everywhere();
    }
}

#[test]
fn a_reader_that_has_gone_ends_the_reading() {
    let rows = (0..1000).map(|i| vec![int(i)]).collect();
    let table = Typed::new(&[("id", ColumnKind::Int)], &["id"], rows);
    everywhere(&table, |host, node, _| {
        let mut batches = 0;
        let writer = RowWriter::new(layout(&table), DigestFunction::Xxh3, 64);
        node.read(&request(&table, None, true), writer, &mut |_| {
            batches += 1;
            None
        })
        .unwrap();
        assert_eq!(batches, 1, "{host:?}");
    });
}

#[test]
fn rows_outside_the_filter_come_marked() {
    let rows =
        (0..10).map(|i| vec![int(i), if i == 3 { Value::Null } else { int(i % 2) }]).collect();
    let table =
        Typed::new(&[("id", ColumnKind::Int), ("published", ColumnKind::Int)], &["id"], rows);
    everywhere(&table, |host, node, _| {
        if host == Host::Memory {
            return; // has no SQL to filter by
        }
        let filter = "published = 1 -- as the boards see it";
        let found = read(&table, node, Some(filter), 64).unwrap();
        let inside: Vec<&Value> = found.iter().filter(|d| !d.outside).map(|d| &d.row[0]).collect();
        assert_eq!(inside, [&int(1), &int(5), &int(7), &int(9)], "{host:?}");
        assert_eq!(found.len(), 10, "{host:?}");
        let fault = read(&table, node, Some("\"marmots\" = 1"), 64).unwrap_err();
        assert!(
            fault.what.contains("marmots") && fault.advice.contains("filter"),
            "{host:?}: {fault}"
        );
        assert_eq!(read(&table, node, None, 64).unwrap().len(), 10, "{host:?}");
    });
}

#[test]
fn names_of_any_kind_work() {
    for name in
        ["order", "a \"quoted\" name", "back`tick", "it's", "ski hut", "x.y", "Größe", "%s;--"]
    {
        let mut table = Typed::new(
            &[("id", ColumnKind::Int), (name, ColumnKind::Text)],
            &["id"],
            vec![vec![int(1), Value::text("v")]],
        );
        table.name = format!("{} {name}", table.name);
        everywhere(&table, |host, node, _| {
            assert_eq!(
                read(&table, node, None, 64).unwrap()[0].row[1],
                Value::text("v"),
                "{host:?} {name}"
            );
        });
    }
}

#[test]
fn a_unique_key_that_refuses_null_serves_where_there_is_no_primary_one() {
    let rows = (0..20).rev().map(|i| vec![int(i), int(i * 2)]).collect();
    let mut table = Typed::new(&[("v", ColumnKind::Int), ("id", ColumnKind::Int)], &["id"], rows);
    table.only_unique = true;
    everywhere(&table, |host, node, _| {
        assert_eq!(node.shape(&table.name).unwrap().key, ["id"], "{host:?}");
        let found = read(&table, node, None, 64).unwrap();
        assert!(found.is_sorted_by_key(|d| d.key.clone()) && found.iter().all(|d| d.identified));
        assert_eq!(found.len(), 20, "{host:?}");
    });
}

#[test]
fn what_is_written_while_it_is_read_belongs_to_a_later_moment() {
    const ROWS: i64 = 4000;
    let rows = (0..ROWS).map(|i| vec![int(i), Value::text(&format!("row {i}"))]).collect();
    let table = Typed::new(&[("id", ColumnKind::Int), ("v", ColumnKind::Text)], &["id"], rows);
    let folder = TempDir::new().unwrap();
    for host in Host::ALL {
        table.make(host, folder.path());
        // In the other mode SQLite itself lets nobody write while somebody reads. An application has the file open.
        let file = rusqlite::Connection::open(folder.path().join(format!("{}.db", table.name)));
        if host == Host::Sqlite {
            let file = file.as_ref().unwrap();
            file.execute_batch("PRAGMA journal_mode = WAL").unwrap();
            file.execute_batch(&format!("UPDATE {} SET v = v", table.name)).unwrap();
            assert!(folder.path().join(format!("{}.db-wal", table.name)).exists());
        }
        let mut node = table.open(host, folder.path());
        let shape = node.shape(&table.name).unwrap();
        let ordered = shape.unordered.is_none();
        let writer = RowWriter::new(layout(&table), DigestFunction::Xxh3, 200);
        let (mut read_so_far, mut batches) = (0, 0);
        node.read(&request(&table, None, ordered), writer, &mut |batch| {
            batches += 1;
            read_so_far += batch.len();
            // In the middle of it others delete, change and add rows, before and behind where it is.
            if batches == 2 {
                assert!(read_so_far < 1000, "{host:?}");
                let writes = [
                    format!("DELETE FROM {} WHERE id IN (0, {})", table.name, ROWS - 1),
                    format!(
                        "UPDATE {} SET v = 'changed' WHERE id IN (1, {})",
                        table.name,
                        ROWS - 2
                    ),
                    format!("INSERT INTO {} VALUES (-1, 'new'), ({ROWS}, 'new')", table.name),
                ];
                let write = || writes.iter().for_each(|sql| table.run(host, folder.path(), sql));
                std::thread::scope(|scope| scope.spawn(write).join().unwrap());
            }
            Some(batch)
        })
        .unwrap();
        assert!(batches > 10, "{host:?}");
        assert_eq!(read_so_far as i64, ROWS, "{host:?}");
        // Read again by the same session it is as it was; another one sees what came.
        let again = read(&table, &mut *node, None, 500).unwrap();
        let as_it_was: Vec<Vec<Value>> = again.iter().map(|row| row.row.clone()).collect();
        assert_eq!(as_it_was, table.rows, "{host:?}");
        if host != Host::Memory {
            let now = read(&table, &mut *table.open(host, folder.path()), None, 500).unwrap();
            let edges =
                |rows: &[Delivered]| [rows[0].row.clone(), rows[rows.len() - 1].row.clone()];
            let new = |id: i64| vec![int(id), Value::text("new")];
            assert_eq!(edges(&now), [new(-1), new(ROWS)], "{host:?}");
            assert_eq!(now.len() as i64, ROWS, "{host:?}");
        }
    }
    table.drop_everywhere();
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    #[test]
    fn all_adapters_deliver_the_same_rows_in_the_same_order(
        keys in prop::collection::btree_set((any::<i64>(), "[a-bA-B \u{1}é\u{1f600}]{0,3}"), 0..60),
        by_text in any::<bool>(),
        batch_bytes in 1usize..400,
    ) {
        let rows: Vec<Vec<Value>> =
            keys.iter().enumerate().map(|(i, (a, b))| vec![int(*a), Value::text(b), int(i as i64)]).collect();
        let key: &[&str] = if by_text { &["b", "a"] } else { &["a", "b"] };
        let table = Typed::new(&[("a", ColumnKind::Int), ("b", ColumnKind::Text), ("v", ColumnKind::Int)], key, rows);
        let expected = read(&table, &mut table.in_memory(), None, batch_bytes).unwrap();
        everywhere(&table, |host, node, _| {
            assert_eq!(read(&table, node, None, batch_bytes).unwrap(), expected, "{host:?}");
        });
    }
}
