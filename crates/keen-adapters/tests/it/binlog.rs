//! MariaDB's binary log as a journal: what was rolled back did not happen, and one table that cannot be read
//! hides no other.

use std::ops::ControlFlow;
use std::sync::Mutex;
use std::time::Duration;

use keen_adapters::mariadb::MariaDbJournal;
use keen_core::fault::ReadFault;
use keen_core::history::journal::{Entry, RowOp};
use keen_core::ports::ReadJournal;
use keen_core::value::Value;
use keen_testkit::typed::{access, server};
use keen_testkit::{CHECKER, Server, ServerKind};

/// A row that was written, by the number of its transaction.
type Written = (u64, RowOp, i128);

/// The rows that the log tells of tables whose first column is a number, and the reason why it does not tell all.
fn told(server: &Server, tables: &[&str]) -> (Vec<Written>, Result<(), ReadFault>) {
    server.run(&format!("GRANT REPLICATION SLAVE ON *.* TO '{}'@'%'", CHECKER.0)).unwrap();
    let names: Vec<(String, String)> =
        tables.iter().map(|table| ((*table).to_owned(), (*table).to_owned())).collect();
    let mut journal = MariaDbJournal::open(&access(server), &names, 0).unwrap();
    let (mut rows, mut at) = (Vec::new(), 0);
    let read = journal.read(&mut |entry| {
        match entry {
            Entry::Begin(begin) => at = begin.id.place,
            Entry::Row(change) => {
                let side = change.after.or(change.before).unwrap();
                let Some(Value::Int(id)) = &side[0] else { panic!("{side:?}") };
                rows.push((at, change.act, *id));
            }
            _ => {}
        }
        ControlFlow::Continue(())
    });
    (rows, read)
}

/// Its numbers are its own, and no other test shifts them meanwhile.
static ALONE: Mutex<()> = Mutex::new(());

fn ids(rows: &[Written]) -> Vec<i128> {
    rows.iter().map(|(_, _, id)| *id).collect()
}

#[test]
fn what_was_rolled_back_is_told_by_nobody() {
    let _alone = ALONE.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    let server = server(ServerKind::MariaDb);
    server
        .run("CREATE TABLE bed (id int PRIMARY KEY, n int);\nCREATE TABLE note (id int PRIMARY KEY) ENGINE = MyISAM")
        .unwrap();
    // In two phases: one that is committed, one that is not, one that stays as it is.
    let phases = |name: &str, id: u32| {
        format!(
            "XA START '{name}';\nINSERT INTO bed VALUES ({id}, 0);\nXA END '{name}';\nXA PREPARE '{name}'"
        )
    };
    server.run(&phases("gone", 1)).unwrap();
    server.run(&phases("come", 2)).unwrap();
    // The server takes a while to let go of what a session that went away had prepared.
    let decide = |sql: &str| {
        let done = || server.run(sql);
        let tried = (0..100).find(|_| {
            let done = done().is_ok();
            if !done {
                std::thread::sleep(Duration::from_millis(100));
            }
            done
        });
        assert!(tried.is_some(), "{sql}: {:?}", server.run(sql));
    };
    decide("XA ROLLBACK 'gone'");
    server.run("INSERT INTO bed VALUES (3, 0)").unwrap();
    decide("XA COMMIT 'come'");
    let (rows, read) = told(server, &["bed", "note"]);
    read.unwrap();
    assert_eq!(ids(&rows), [3, 2], "in the order in which they came to stand: {rows:?}");
    assert!(rows[0].0 < rows[1].0, "{rows:?}");

    // Back to a savepoint, in a transaction that a table which rolls nothing back keeps in the log whole.
    server
        .run(
            "SET SESSION binlog_format = ROW;\nBEGIN;\nINSERT INTO bed VALUES (10, 0);\nSAVEPOINT `a b`;\n\
             INSERT INTO bed VALUES (11, 0);\nINSERT INTO note VALUES (100);\nUPDATE bed SET n = 1 WHERE id = 10;\n\
             ROLLBACK TO `a b`;\nINSERT INTO bed VALUES (12, 0);\nCOMMIT",
        )
        .unwrap();
    server
        .run("BEGIN;\nINSERT INTO bed VALUES (13, 0);\nINSERT INTO note VALUES (101);\nROLLBACK")
        .unwrap();
    // What makes the server keep everything in its log, too.
    server
        .run(
            "BEGIN;\nINSERT INTO bed VALUES (14, 0);\nCREATE TEMPORARY TABLE t (id int);\nSAVEPOINT s;\nINSERT INTO bed VALUES (15, 0);\n\
             ROLLBACK TO s;\nCOMMIT",
        )
        .unwrap();
    let (rows, read) = told(server, &["bed", "note"]);
    read.unwrap();
    let mut found = ids(&rows[2..]);
    found.sort_unstable();
    assert_eq!(found, [10, 12, 14, 100, 101], "{rows:?}");
    assert!(rows.iter().all(|(_, act, _)| *act == RowOp::Insert), "{rows:?}");
    server.run("DROP TABLE bed;\nDROP TABLE note").unwrap();
}

#[test]
fn a_table_that_cannot_be_read_hides_no_other() {
    let _alone = ALONE.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    let server = server(ServerKind::MariaDb);
    server
        .run(
            "CREATE TABLE sealed (id int PRIMARY KEY, c varchar(20) CHARACTER SET swe7);\nCREATE TABLE open (id int PRIMARY KEY);\n\
             INSERT INTO open VALUES (1);\nINSERT INTO sealed VALUES (1, 'a'), (2, 'b');\nINSERT INTO open VALUES (2)",
        )
        .unwrap();
    let (rows, read) = told(server, &["sealed", "open"]);
    assert_eq!(ids(&rows), [1, 2], "{rows:?}");
    let fault = read.unwrap_err();
    assert!(fault.what.contains("to sealed cannot be read: column c of sealed"), "{fault}");
    assert!(fault.advice.contains("--exclude"), "{fault}");
    server.run("DROP TABLE sealed;\nDROP TABLE open").unwrap();
}
