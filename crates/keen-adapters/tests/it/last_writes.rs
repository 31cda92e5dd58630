//! The last writes of rows of a PostgreSQL server: who wrote them, and when.

use keen_adapters::postgres::PostgresLastWrites;
use keen_core::ports::{TellLastWrites, WriteOrigin};
use keen_core::row::selection::RowKeys;
use keen_core::value::Value;
use keen_testkit::ServerKind;
use keen_testkit::typed::{access, connect, server};

#[test]
fn each_row_tells_its_own_write_whatever_its_columns_are_called() {
    let server = server(ServerKind::Postgres18);
    server
        .run(
            "CREATE TABLE \"turn of\" (\"timestamp\" int, roident text, xmin_ int, PRIMARY KEY (\"timestamp\", roident)); \
             GRANT SELECT ON \"turn of\" TO keen; \
             INSERT INTO \"turn of\" VALUES (1, 'it''s', 0), (2, '', 0)",
        )
        .unwrap();
    server.run("UPDATE \"turn of\" SET xmin_ = 1 WHERE \"timestamp\" = 2").unwrap();
    let table = ["public".to_owned(), "turn of".to_owned()];
    let shape = connect(server).shape("turn of").unwrap();
    let columns = shape.key.iter().map(|name| shape.column(name).unwrap().clone()).collect();
    let key = |number: i64, text: &str| vec![Value::Int(number.into()), Value::text(text)];
    let rows = RowKeys { columns, keys: [key(3, ""), key(2, ""), key(1, "it's")].into() };
    let mut tells = PostgresLastWrites::open(&access(server)).unwrap();
    let told = tells.last_writes(&table, &rows).unwrap();
    let [None, Some(second), Some(first)] = &told[..] else { panic!("{told:?}") };
    assert!(first.made < second.made, "{told:?}");
    assert_eq!((&first.came, &second.came), (&WriteOrigin::MadeHere, &WriteOrigin::MadeHere));

    // The marks of rows: another after each write, also one that changes nothing; each look is of its own moment.
    let marks = || connect(server).row_marks(&table, &rows).unwrap();
    let before = marks();
    assert_eq!(marks(), before);
    let [None, Some(_), Some(_)] = &before[..] else { panic!("{before:?}") };
    server.run("UPDATE \"turn of\" SET xmin_ = 1 WHERE \"timestamp\" = 2").unwrap();
    let after = marks();
    assert_ne!(after[1], before[1]);
    assert_eq!((after[0], after[2]), (None, before[2]));
    server.run("DROP TABLE \"turn of\"").unwrap();
}
