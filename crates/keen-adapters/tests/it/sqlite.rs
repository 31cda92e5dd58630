//! Cases that only SQLite files can have.

use keen_core::row::selection::RowSelection;
use std::path::Path;

use keen_core::fault::ReadFault;
use keen_core::ports::{ReadRows, TableRequest};
use keen_core::row::batch::{Column, Layout, RowWriter};
use keen_core::row::conversion::Conversion;
use keen_core::row::digest::DigestFunction;
use keen_core::row::encoding;
use keen_core::value::Value;
use keen_testkit::tables::open;
use rusqlite::Connection;
use tempfile::TempDir;

fn read(
    node: &mut dyn ReadRows,
    columns: &[String],
    keyed: bool,
) -> Result<Vec<Vec<Value>>, ReadFault> {
    let mut names = columns.to_vec();
    names.sort();
    let layout = Layout {
        columns: names
            .iter()
            .map(|name| Column { name: name.clone(), reading: Conversion::default() })
            .collect(),
        key: if keyed { vec![names.iter().position(|n| n == "k").unwrap()] } else { Vec::new() },
        shown: (0..names.len()).collect(),
    };
    let request = TableRequest {
        table: "t".to_owned(),
        columns: names,
        filter: None,
        ordered: true,
        rows: RowSelection::All,
    };
    let mut rows = Vec::new();
    node.read(&request, RowWriter::new(layout, DigestFunction::Xxh3, 1 << 16), &mut |batch| {
        rows.extend(
            (0..batch.len()).map(|i| encoding::read_row(batch.get(i).unwrap().row).unwrap()),
        );
        Some(batch)
    })?;
    Ok(rows)
}

fn columns(names: &[&str]) -> Vec<String> {
    names.iter().map(|name| (*name).to_owned()).collect()
}

fn make(path: &Path, sql: &str) {
    Connection::open(path).unwrap().execute_batch(sql).unwrap();
}

#[test]
fn a_quiet_file_that_is_changed_meanwhile_is_not_read_rather_than_read_wrongly() {
    let folder = TempDir::new().unwrap();
    let path = folder.path().join("a.db");
    make(
        &path,
        "PRAGMA journal_mode = WAL; CREATE TABLE t (k INTEGER PRIMARY KEY, v); INSERT INTO t VALUES (1, 'x')",
    );
    assert!(!folder.path().join("a.db-wal").exists(), "nobody has it open");
    let mut node = open(&path);
    assert_eq!(node.about(), "sqlite, UTF-8, wal journal");
    assert_eq!(read(&mut node, &columns(&["k", "v"]), true).unwrap().len(), 1);
    make(&path, "INSERT INTO t VALUES (2, 'y')"); // and a checkpoint when it closes
    let fault = read(&mut node, &columns(&["k", "v"]), true).unwrap_err();
    assert!(fault.what.contains("was changed while it was read"), "{fault}");
    assert_eq!(read(&mut open(&path), &columns(&["k", "v"]), true).unwrap().len(), 2);
}

#[test]
fn a_file_in_use_is_read_beside_its_writer_as_of_the_moment_it_was_opened() {
    let folder = TempDir::new().unwrap();
    let path = folder.path().join("a.db");
    let writer = Connection::open(&path).unwrap();
    writer.execute_batch("PRAGMA journal_mode = WAL; CREATE TABLE t (k INTEGER PRIMARY KEY, v); INSERT INTO t VALUES (1, 'x')").unwrap();
    let mut node = open(&path);
    writer.execute_batch("INSERT INTO t VALUES (2, 'y'); PRAGMA wal_checkpoint").unwrap();
    assert_eq!(read(&mut node, &columns(&["k", "v"]), true).unwrap().len(), 1);
}

#[test]
fn unpaired_surrogates_stay_apart_and_mean_the_same_from_either_end() {
    let folder = TempDir::new().unwrap();
    let mut seen = Vec::new();
    for (encoding, bytes) in [
        ("UTF-16le", ["00d8", "01d8", "00dc", "3dd800de"]),
        ("UTF-16be", ["d800", "d801", "dc00", "d83dde00"]),
    ] {
        let path = folder.path().join(encoding);
        let values: Vec<String> =
            bytes.iter().map(|hex| format!("(CAST(x'{hex}' AS TEXT))")).collect();
        make(
            &path,
            &format!(
                "PRAGMA encoding = '{encoding}'; CREATE TABLE t (k TEXT PRIMARY KEY NOT NULL); INSERT INTO t VALUES {}",
                values.join(", ")
            ),
        );
        let mut node = open(&path);
        assert!(node.about().contains(encoding));
        seen.push(read(&mut node, &columns(&["k"]), true).unwrap());
    }
    assert_eq!(seen[0], seen[1]);
    assert_eq!(seen[0].len(), 4);
    assert!(seen[0].contains(&vec![Value::text("😀")]));
}

#[test]
fn more_columns_than_a_function_takes_are_ordered_all_the_same() {
    let folder = TempDir::new().unwrap();
    let path = folder.path().join("a.db");
    let names: Vec<String> = (0..150).map(|i| format!("c{i:03}")).collect();
    let row = |last: &str| format!("({}, '{last}')", vec!["'x'"; 149].join(", "));
    make(
        &path,
        &format!(
            "PRAGMA encoding = 'UTF-16le'; CREATE TABLE t ({}); INSERT INTO t VALUES {}, {}, {}",
            names.join(", "),
            row("b"),
            row("c"),
            row("a")
        ),
    );
    let rows = read(&mut open(&path), &names, false).unwrap();
    let last: Vec<&Value> = rows.iter().map(|row| &row[149]).collect();
    assert_eq!(last, [&Value::text("a"), &Value::text("b"), &Value::text("c")]);
}

#[test]
fn shapes_have_what_a_plan_needs() {
    let folder = TempDir::new().unwrap();
    let path = folder.path().join("a.db");
    make(
        &path,
        "CREATE TABLE parent (x, y, PRIMARY KEY (y, x));
         CREATE TABLE t (k INTEGER PRIMARY KEY, a TEXT NOT NULL UNIQUE, b REAL DEFAULT 1, c AS (b + 1), d, e,
            FOREIGN KEY (d, e) REFERENCES parent);
         CREATE TRIGGER audit AFTER INSERT ON t BEGIN SELECT 1; END",
    );
    let shape = open(&path).shape("T").unwrap();
    assert_eq!(shape.key, ["k"]);
    assert_eq!(shape.unique, [["a"]]);
    assert_eq!(shape.triggers, ["audit"]);
    assert_eq!(
        (&shape.references[0].table[..], &shape.references[0].to[..]),
        ("parent", &["y".to_owned(), "x".to_owned()][..])
    );
    let optional: Vec<bool> = shape.columns.iter().map(|c| c.optional).collect();
    assert_eq!(optional, [true, false, true, true, true, true]);
    assert!(shape.columns[3].generated);
}

#[test]
fn rows_come_in_order_in_batches_whether_sqlite_walks_an_index_or_has_to_sort() {
    let folder = TempDir::new().unwrap();
    let path = folder.path().join("a.db");
    let rows = "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 9000)
         INSERT INTO t SELECT char(65 + i % 60) || i, i, hex(zeroblob(40)) FROM n;";
    let mut seen = Vec::new();
    for collation in ["BINARY", "NOCASE"] {
        make(
            &path,
            &format!(
                "DROP TABLE IF EXISTS t; CREATE TABLE t (k TEXT PRIMARY KEY COLLATE {collation}, n, v); {rows}"
            ),
        );
        let read = read(&mut open(&path), &columns(&["k", "n", "v"]), true).unwrap();
        assert_eq!(read.len(), 9000);
        let key = |row: &Vec<Value>| match &row[0] {
            Value::Text(bytes) => bytes.clone(),
            other => panic!("{other:?} is no text"),
        };
        assert!(read.is_sorted_by_key(key), "{collation}");
        seen.push(read);
    }
    assert!(seen[0] == seen[1], "the same rows in the same order");
}
