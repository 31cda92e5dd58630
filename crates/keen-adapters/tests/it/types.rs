//! Every type of PostgreSQL and MariaDB, as it reaches the core.

use keen_adapters::mariadb::MariaDbJournal;
use keen_adapters::postgres::PostgresJournal;
use keen_adapters::server::Access;
use keen_core::history::journal::Entry;
use keen_core::ports::ReadJournal;
use keen_core::ports::{ReadRows, TableRequest};
use keen_core::row::batch::{Column, Layout, RowWriter};
use keen_core::row::conversion::Conversion;
use keen_core::row::digest::DigestFunction;
use keen_core::row::encoding;
use keen_core::row::schema::Family;
use keen_core::row::selection::RowSelection;
use keen_core::value::Value;
use keen_core::value::calendar::{self, parse_timestamp};
use keen_core::value::decimal::Decimal;
use keen_testkit::typed::{access, connect, server};
use keen_testkit::{CHECKER, Server, ServerKind};

/// All rows of a table, all columns, in the order of the table.
fn rows(node: &mut dyn ReadRows, table: &str) -> Vec<Vec<Value>> {
    let shape = node.shape(table).unwrap();
    let names: Vec<String> = shape.columns.iter().map(|c| c.name.clone()).collect();
    let column = |name: &String| Column { name: name.clone(), reading: Conversion::default() };
    let layout = Layout {
        columns: names.iter().map(column).collect(),
        key: vec![],
        shown: (0..names.len()).collect(),
    };
    let request = TableRequest {
        table: table.to_owned(),
        columns: names,
        filter: None,
        ordered: false,
        rows: RowSelection::All,
    };
    let mut all = Vec::new();
    node.read(&request, RowWriter::new(layout, DigestFunction::Xxh3, 1 << 16), &mut |batch| {
        all.extend(
            (0..batch.len()).map(|at| encoding::read_row(batch.get(at).unwrap().row).unwrap()),
        );
        Some(batch)
    })
    .unwrap();
    all
}

fn text(text: &str) -> Value {
    Value::text(text)
}

fn decimal(text: &str) -> Value {
    Value::Decimal(Decimal::written(text).unwrap())
}

fn at(text: &str) -> i64 {
    parse_timestamp(text).unwrap().0
}

/// One test at a time has the server's slot.
static LOG: std::sync::Mutex<()> = std::sync::Mutex::new(());

/// Types that logs hold in a form in which they are not read from tables.
const UNTOLD: &[&str] = &["money"];

fn begin_log(engine: ServerKind, server: &Server, table: &str) {
    if engine.is_postgres() {
        server
            .run(&format!(
                "CREATE PUBLICATION keen_journal FOR TABLE {table};\nSELECT pg_create_logical_replication_slot('keen_journal', 'pgoutput')"
            ))
            .unwrap();
    }
}

fn end_log(engine: ServerKind, server: &Server) {
    if engine.is_postgres() {
        server
            .run("SELECT pg_drop_replication_slot('keen_journal');\nDROP PUBLICATION keen_journal")
            .unwrap();
    }
}

/// The checking account, which may read logs from now on.
fn reader(server: &Server) -> Access {
    let grant = match server.engine().is_postgres() {
        true => format!("ALTER ROLE {} REPLICATION", CHECKER.0),
        false => format!("GRANT REPLICATION SLAVE ON *.* TO '{}'@'%'", CHECKER.0),
    };
    server.run(&grant).unwrap();
    access(server)
}

/// The states of rows in the server's log, in the order in which they were written.
fn log(engine: ServerKind, server: &Server, table: &str) -> Vec<Vec<Option<Value>>> {
    let tables = [(table.to_owned(), table.to_owned())];
    let mut journal: Box<dyn ReadJournal> = match engine.is_postgres() {
        true => Box::new(PostgresJournal::open(&reader(server), "a", &tables).unwrap()),
        false => Box::new(MariaDbJournal::open(&reader(server), &tables, 0).unwrap()),
    };
    let mut rows = Vec::new();
    journal
        .read(&mut |entry| {
            if let Entry::Row(change) = entry {
                rows.extend(change.after);
            }
            std::ops::ControlFlow::Continue(())
        })
        .unwrap();
    rows
}

/// A declaration, a value as SQL writes it, its family and how it reaches the core.
type Case = (&'static str, &'static str, Family, Value);

/// Puts each case into a column of its own and reads them all back, and a row of NULLs.
fn check(engine: ServerKind, table: &str, before: &str, cases: &[Case]) {
    let server = server(engine);
    let _alone = LOG.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    if !before.is_empty() {
        server.run(before).unwrap();
    }
    let columns: Vec<String> =
        cases.iter().enumerate().map(|(i, (declared, ..))| format!("c{i} {declared}")).collect();
    let values: Vec<&str> = cases.iter().map(|(_, sql, ..)| *sql).collect();
    let null = if engine.is_postgres() { "" } else { " ROW_FORMAT=DYNAMIC" };
    server.run(&format!("CREATE TABLE {table} ({}){null}", columns.join(", "))).unwrap();
    begin_log(engine, server, table);
    server.run(&format!("INSERT INTO {table} VALUES ({})", values.join(", "))).unwrap();
    let mut node = connect(server);
    let shape = node.shape(table).unwrap();
    let found = rows(&mut *node, table);
    for (i, (declared, sql, family, expected)) in cases.iter().enumerate() {
        assert_eq!(shape.columns[i].family, *family, "{declared}");
        let same = match (&found[0][i], expected) {
            (Value::Float(a), Value::Float(b)) => a == b || a.is_nan() && b.is_nan(),
            (a, b) => a == b,
        };
        assert!(same, "{engine:?} {declared} {sql}: {:?}, expected {expected:?}", found[0][i]);
    }
    let logged = log(engine, server, table);
    assert_eq!(logged.len(), 1);
    let mut untold = Vec::new();
    for (i, (declared, sql, ..)) in cases.iter().enumerate() {
        match &logged[0][i] {
            None => untold.push(*declared),
            Some(value) => assert!(
                value.same_as(&found[0][i]),
                "{engine:?} {declared} {sql}: {value:?} in the log"
            ),
        }
    }
    let expected: Vec<&str> = (cases.iter().map(|(declared, ..)| *declared))
        .filter(|declared| match engine.is_postgres() {
            true => UNTOLD.contains(declared),
            false => declared.contains(" AS ("),
        })
        .collect();
    assert_eq!(untold, expected, "{engine:?}");
    drop(node); // whose transaction holds the table
    end_log(engine, server);
    server.run(&format!("DROP TABLE {table}")).unwrap();
}

#[test]
fn every_type_of_postgresql() {
    let before = "CREATE TYPE mood AS ENUM ('calm', 'storm \"x\"');\n\
        CREATE DOMAIN altitude AS integer CHECK (VALUE > -500);\n\
        CREATE DOMAIN peak AS altitude;\n\
        CREATE TYPE place AS (name text, height altitude, seen date);\n\
        CREATE TYPE span AS RANGE (subtype = numeric)";
    let moment = at("2026-07-01 10:00:00.25");
    let cases: Vec<Case> = vec![
        ("smallint", "-32768", Family::Integer, Value::Int(-32768)),
        ("integer", "2147483647", Family::Integer, Value::Int(2_147_483_647)),
        ("oid", "4294967295", Family::Integer, Value::Int(4_294_967_295)),
        ("boolean", "true", Family::Boolean, Value::Bool(true)),
        ("real", "0.1", Family::Single, Value::Float(f64::from(0.1f32))),
        ("double precision", "'-Infinity'", Family::Real, Value::Float(f64::NEG_INFINITY)),
        ("double precision", "'NaN'", Family::Real, Value::Float(f64::NAN)),
        ("numeric", "'NaN'", Family::Decimal, Value::Float(f64::NAN)),
        ("numeric", "'Infinity'", Family::Decimal, Value::Float(f64::INFINITY)),
        ("numeric", "-0.00012000", Family::Decimal, decimal("-0.00012000")),
        (
            "numeric",
            "123456789012345678901234567890.5",
            Family::Decimal,
            decimal("123456789012345678901234567890.5"),
        ),
        ("numeric(20,2)", "100000000", Family::Decimal, decimal("100000000.00")),
        ("numeric", "0.00", Family::Decimal, decimal("0.00")),
        ("numeric(10,5)", "1234.5", Family::Decimal, decimal("1234.50000")),
        ("money", "'-1234.50'", Family::Decimal, decimal("-1234.50")),
        ("varchar(9)", "'a  '", Family::Text, text("a  ")),
        ("char(5)", "'a'", Family::Text, text("a")),
        ("bpchar", "'a  '", Family::Text, text("a  ")),
        ("\"char\"", "'x'", Family::Text, text("x")),
        ("\"char\"", "''", Family::Text, text("")),
        ("refcursor", "'c'", Family::Text, text("c")),
        ("txid_snapshot", "'10:20:10,14'", Family::Text, text("10:20:10,14")),
        ("name", "'pg'", Family::Text, text("pg")),
        ("bytea", "'\\x00ff'", Family::Bytes, Value::Bytes(vec![0, 255])),
        ("date", "'infinity'", Family::Date, Value::Date(calendar::INFINITY)),
        ("date", "'0044-03-15 BC'", Family::Date, Value::Date(calendar::days(-43, 3, 15))),
        ("time", "'24:00'", Family::Time, Value::Time(calendar::DAY)),
        ("timetz", "'12:30:00.5+05:45'", Family::Text, text("12:30:00.5+05:45")),
        (
            "timestamp",
            "'-infinity'",
            Family::LocalTimestamp,
            Value::LocalTimestamp(calendar::MINUS_INFINITY),
        ),
        (
            "timestamp",
            "'294276-12-31 23:59:59.999999'",
            Family::LocalTimestamp,
            text("294276-12-31 23:59:59.999999"),
        ),
        (
            "timestamp",
            "'4713-01-01 00:00:00 BC'",
            Family::LocalTimestamp,
            Value::LocalTimestamp(calendar::days(-4712, 1, 1) * calendar::DAY),
        ),
        (
            "timestamptz",
            "'294270-01-01 00:00+00'",
            Family::Timestamp,
            text("294270-01-01 00:00:00+00"),
        ),
        ("timestamptz", "'infinity'", Family::Timestamp, Value::Timestamp(calendar::INFINITY)),
        ("double precision", "'-0'", Family::Real, Value::Float(-0.0)),
        (
            "timestamp(3)",
            "'2026-07-01 10:00:00.25'",
            Family::LocalTimestamp,
            Value::LocalTimestamp(moment),
        ),
        ("timestamptz", "'2026-07-01 12:00:00.25+02'", Family::Timestamp, Value::Timestamp(moment)),
        ("interval", "'1 year 2 mons -3 days 04:05:06.7'", Family::Text, text("P1Y2M-3DT4H5M6.7S")),
        ("interval", "'0'", Family::Text, text("PT0S")),
        (
            "uuid",
            "'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'",
            Family::Uuid,
            Value::Uuid([
                0xa0, 0xee, 0xbc, 0x99, 0x9c, 0x0b, 0x4e, 0xf8, 0xbb, 0x6d, 0x6b, 0xb9, 0xbd, 0x38,
                0x0a, 0x11,
            ]),
        ),
        (
            "json",
            "'{\"b\" : 1.0, \"a\":[]}'",
            Family::Json,
            Value::Json("{\"b\" : 1.0, \"a\":[]}".into()),
        ),
        (
            "jsonb",
            "'{\"b\": 1.0, \"a\":[]}'",
            Family::Json,
            Value::Json("{\"a\": [], \"b\": 1.0}".into()),
        ),
        ("integer[]", "'{1,NULL,3}'", Family::Text, text("{1,NULL,3}")),
        ("integer[]", "'[0:1]={7,8}'", Family::Text, text("[0:1]={7,8}")),
        ("integer[]", "'{}'", Family::Text, text("{}")),
        (
            "text[]",
            "ARRAY[ARRAY['a b','null'],ARRAY['','q\"\\']]",
            Family::Text,
            text("{{\"a b\",\"null\"},{\"\",\"q\\\"\\\\\"}}"),
        ),
        ("numeric[]", "'{1.50,-0.10}'", Family::Text, text("{1.50,-0.10}")),
        (
            "timestamptz[]",
            "'{2026-07-01 12:00+02}'",
            Family::Text,
            text("{\"2026-07-01 10:00:00+00\"}"),
        ),
        ("boolean[]", "'{t,f}'", Family::Text, text("{t,f}")),
        ("int4range", "'(1,5]'", Family::Text, text("[2,6)")),
        ("numrange", "'[1.50,)'", Family::Text, text("[1.50,)")),
        ("daterange", "'empty'", Family::Text, text("empty")),
        ("span", "'(,2.0]'", Family::Text, text("(,2.0]")),
        ("int4multirange", "'{[1,2),[5,7)}'", Family::Text, text("{[1,2),[5,7)}")),
        ("mood", "'storm \"x\"'", Family::Text, text("storm \"x\"")),
        (
            "mood[]",
            "ARRAY['calm'::mood, 'storm \"x\"']",
            Family::Text,
            text("{calm,\"storm \\\"x\\\"\"}"),
        ),
        ("altitude", "2500", Family::Integer, Value::Int(2500)),
        ("peak", "4000", Family::Integer, Value::Int(4000)),
        (
            "place",
            "ROW('Col, east', 2500, '2026-07-01')",
            Family::Text,
            text("(\"Col, east\",2500,2026-07-01)"),
        ),
        ("place[]", "ARRAY[ROW('Col', NULL, NULL)::place]", Family::Text, text("{\"(Col,,)\"}")),
        ("inet", "'10.1.2.3/8'", Family::Text, text("10.1.2.3/8")),
        ("inet", "'2001:db8::1'", Family::Text, text("2001:db8::1")),
        ("cidr", "'10.0.0.0/8'", Family::Text, text("10.0.0.0/8")),
        ("macaddr", "'08:00:2b:01:02:03'", Family::Text, text("08:00:2b:01:02:03")),
        ("macaddr8", "'08:00:2b:01:02:03:04:05'", Family::Text, text("08:00:2b:01:02:03:04:05")),
        ("bit(3)", "B'101'", Family::Bits, text("101")),
        ("varbit", "B''", Family::Bits, text("")),
        ("xml", "'<a>b</a>'", Family::Text, text("<a>b</a>")),
        ("point", "'(1.5,2)'", Family::Text, text("(1.5,2)")),
        ("tsvector", "'snow ice'", Family::Text, text("'ice' 'snow'")),
        ("pg_lsn", "'0/16B3748'", Family::Text, text("0/16B3748")),
        ("point[]", "'{\"(1,2)\"}'", Family::Text, text("{\"(1,2)\"}")),
        ("jsonb[]", "ARRAY['{\"a\": 1.0}'::jsonb]", Family::Text, text("{\"{\\\"a\\\": 1.0}\"}")),
    ];
    for engine in [ServerKind::Postgres15, ServerKind::Postgres18] {
        check(engine, "every_type", before, &cases);
    }
}

#[test]
fn tables_of_postgresql_that_are_more_than_one() {
    for engine in [ServerKind::Postgres15, ServerKind::Postgres18] {
        let server = server(engine);
        server
            .run(
                "CREATE SCHEMA \"the huts\";\n\
                 CREATE TABLE \"the huts\".reading (station int, taken int, warm int GENERATED ALWAYS AS (taken * 2) STORED, PRIMARY KEY (station, taken)) PARTITION BY LIST (station);\n\
                 CREATE TABLE \"the huts\".r1 PARTITION OF \"the huts\".reading FOR VALUES IN (1);\n\
                 CREATE TABLE \"the huts\".r2 PARTITION OF \"the huts\".reading DEFAULT;\n\
                 INSERT INTO \"the huts\".reading VALUES (2, 5), (1, 9), (1, 3);\n\
                 CREATE TABLE shelter (id int PRIMARY KEY);\n\
                 CREATE TABLE winter_shelter () INHERITS (shelter);\n\
                 INSERT INTO shelter VALUES (1);\n\
                 INSERT INTO winter_shelter VALUES (2)",
            )
            .unwrap();
        let mut node = connect(server);
        let shape = node.shape("the huts.reading").unwrap();
        assert_eq!((shape.key.len(), &shape.unordered), (2, &None));
        assert!(shape.columns[2].generated && shape.columns[2].optional);
        let cells = |row: &[i128]| row.iter().map(|v| Value::Int(*v)).collect::<Vec<_>>();
        let mut found = rows(&mut *node, "the huts.reading");
        found.sort_by_key(|row| format!("{row:?}"));
        assert_eq!(found, [cells(&[1, 3, 6]), cells(&[1, 9, 18]), cells(&[2, 5, 10])]);
        assert_eq!(node.shape("shelter").unwrap().heirs, ["winter_shelter"]);
        assert_eq!(rows(&mut *node, "shelter").len(), 1, "heirs are tables of their own");
        node.shape("winter_shelter").unwrap();
        assert_eq!(rows(&mut *node, "winter_shelter").len(), 1);
        // A foreign table and a materialized view hold nothing that replicates.
        server.run("CREATE MATERIALIZED VIEW seen AS SELECT 1 AS id").unwrap();
        assert!(connect(server).shape("seen").unwrap_err().what.contains("materialized view"));
    }
}

#[test]
fn a_type_of_an_extension_is_compared_as_its_text() {
    let server = server(ServerKind::Postgres15);
    server.run("CREATE EXTENSION citext;\nCREATE EXTENSION hstore").unwrap();
    server.run("CREATE TABLE ext (id int PRIMARY KEY, c citext, h hstore, hs hstore[])").unwrap();
    server.run("INSERT INTO ext VALUES (1, 'Ada', 'a=>1', ARRAY['b=>2'::hstore])").unwrap();
    let mut node = connect(server);
    let shape = node.shape("ext").unwrap();
    let families: Vec<Family> = shape.columns.iter().map(|c| c.family).collect();
    assert_eq!(families, [Family::Integer, Family::Text, Family::Text, Family::Text]);
    let row = rows(&mut *node, "ext").remove(0);
    assert_eq!(row[1], text("Ada"));
    assert_eq!((&row[2], &row[3]), (&text("\"a\"=>\"1\""), &text("{\"\\\"b\\\"=>\\\"2\\\"\"}")));
    // So is one that the server does not send in binary form.
    server.run("CREATE TABLE acl (id int PRIMARY KEY, a aclitem)").unwrap();
    server.run("INSERT INTO acl VALUES (1, 'keen=r/postgres')").unwrap();
    let mut node = connect(server);
    node.shape("acl").unwrap();
    assert_eq!(rows(&mut *node, "acl")[0][1], text("keen=r/postgres"));
}

#[test]
fn every_type_of_mariadb() {
    let moment = at("2026-07-01 10:00:00.25");
    let cases: Vec<Case> = vec![
        ("tinyint(1)", "true", Family::Integer, Value::Int(1)),
        ("tinyint unsigned", "255", Family::Integer, Value::Int(255)),
        ("mediumint", "-8388608", Family::Integer, Value::Int(-8_388_608)),
        (
            "bigint unsigned",
            "18446744073709551615",
            Family::Integer,
            Value::Int(18_446_744_073_709_551_615),
        ),
        ("year", "2026", Family::Integer, Value::Int(2026)),
        (
            "decimal(65,30)",
            "-0.100000000000000000000000000001",
            Family::Decimal,
            decimal("-0.100000000000000000000000000001"),
        ),
        ("decimal(10,0) unsigned zerofill", "42", Family::Decimal, decimal("42")),
        ("float", "0.1", Family::Single, Value::Float(f64::from(0.1f32))),
        ("double", "1e300", Family::Real, Value::Float(1e300)),
        ("bit(10)", "b'1000000001'", Family::Bits, text("1000000001")),
        ("bit(1)", "1", Family::Bits, text("1")),
        ("bit(64)", "x'8000000000000001'", Family::Bits, text(&format!("1{}1", "0".repeat(62)))),
        ("char(5)", "'a  '", Family::Text, text("a")),
        ("varchar(9)", "'a  '", Family::Text, text("a  ")),
        ("varchar(9) CHARACTER SET latin1", "'é€'", Family::Text, text("é€")),
        ("varchar(9) CHARACTER SET utf16", "'\u{1f3d4}'", Family::Text, text("\u{1f3d4}")),
        ("varchar(9) CHARACTER SET cp932", "'雪'", Family::Text, text("雪")),
        ("text CHARACTER SET koi8r", "'Снег'", Family::Text, text("Снег")),
        ("longtext", "REPEAT('x', 70000)", Family::Text, text(&"x".repeat(70_000))),
        ("binary(4)", "x'00ff'", Family::Bytes, Value::Bytes(vec![0, 255, 0, 0])),
        ("varbinary(4)", "x'ff00'", Family::Bytes, Value::Bytes(vec![255, 0])),
        ("blob", "''", Family::Bytes, Value::Bytes(vec![])),
        ("date", "'0000-00-00'", Family::Date, text("0000-00-00")),
        ("date", "'2026-00-15'", Family::Date, text("2026-00-15")),
        ("date", "'9999-12-31'", Family::Date, Value::Date(2_932_896)),
        (
            "time(6)",
            "'-838:59:59.999999'",
            Family::Time,
            Value::Time(-(838 * 3600 + 3599) * 1_000_000 - 999_999),
        ),
        ("time", "'100:00:00'", Family::Time, Value::Time(360_000_000_000)),
        (
            "datetime(6)",
            "'2026-07-01 10:00:00.25'",
            Family::LocalTimestamp,
            Value::LocalTimestamp(moment),
        ),
        ("datetime", "'0000-00-00 00:00:00'", Family::LocalTimestamp, text("0000-00-00 00:00:00")),
        (
            "timestamp(6) NULL",
            "'2026-07-01 12:00:00.25'",
            Family::Timestamp,
            Value::Timestamp(moment),
        ),
        ("enum('calm','storm')", "'storm'", Family::Text, text("storm")),
        ("enum('calm','storm') CHARACTER SET latin1", "1", Family::Text, text("calm")),
        ("set('a','b','c')", "'c,a'", Family::Text, text("a,c")),
        (
            "json",
            "'{\"b\" : 1.0, \"a\":[]}'",
            Family::Json,
            Value::Json("{\"b\" : 1.0, \"a\":[]}".into()),
        ),
        (
            "uuid",
            "'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a00'",
            Family::Uuid,
            Value::Uuid([
                0xa0, 0xee, 0xbc, 0x99, 0x9c, 0x0b, 0x4e, 0xf8, 0xbb, 0x6d, 0x6b, 0xb9, 0xbd, 0x38,
                0x0a, 0x00,
            ]),
        ),
        ("inet6", "'2001:db8::'", Family::Text, text("2001:db8::")),
        ("inet4", "'10.0.0.0'", Family::Text, text("10.0.0.0")),
        (
            "point",
            "POINT(1, 0)",
            Family::Bytes,
            Value::Bytes(
                [&[0, 0, 0, 0, 1, 1, 0, 0, 0][..], &1f64.to_le_bytes(), &0f64.to_le_bytes()]
                    .concat(),
            ),
        ),
        ("int AS (1 + 1) STORED", "DEFAULT", Family::Integer, Value::Int(2)),
        ("int AS (2 + 1) VIRTUAL", "DEFAULT", Family::Integer, Value::Int(3)),
    ];
    // The zone and the mode of whoever writes are no matter to the reader.
    let server = server(ServerKind::MariaDb);
    server.run("SET GLOBAL sql_mode = '';\nSET GLOBAL time_zone = '+02:00'").unwrap();
    check(ServerKind::MariaDb, "every_type", "", &cases);
    server.run("SET GLOBAL time_zone = 'SYSTEM'").unwrap();
}

/// Edges of what the log keeps in forms of its own, row by row.
#[test]
fn mariadbs_log_tells_rows_as_the_table_does() {
    let server = server(ServerKind::MariaDb);
    let _alone = LOG.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    // Also where the log tells neither names nor signs nor labels.
    for metadata in ["FULL", "MINIMAL", "NO_LOG"] {
        server.run(&format!("SET GLOBAL binlog_row_metadata = {metadata}")).unwrap();
        edges(server, metadata);
    }
    // A table that has other columns now than the log had then, whose names it does not tell.
    server
        .run("CREATE TABLE grown (id int PRIMARY KEY);\nINSERT INTO grown VALUES (1);\nALTER TABLE grown ADD COLUMN more int")
        .unwrap();
    let tables = [("grown".to_owned(), "grown".to_owned())];
    let mut journal = MariaDbJournal::open(&reader(server), &tables, 0).unwrap();
    let fault = journal.read(&mut |_| std::ops::ControlFlow::Continue(())).unwrap_err();
    assert!(fault.what.contains("1 of them then and has 2 now"), "{fault}");
    assert!(fault.advice.contains("binlog_row_metadata = FULL"), "{fault}");
    server.run("DROP TABLE grown;\nSET GLOBAL binlog_row_metadata = FULL").unwrap();
    pressed(server);
}

fn edges(server: &Server, metadata: &str) {
    server
        .run(
            "SET SESSION sql_mode = '';\n\
             CREATE TABLE edges (id int PRIMARY KEY, u bigint unsigned, m mediumint unsigned, d decimal(20,7), s decimal(5,5), \
               t2 time(2), t5 time(5), dt datetime(3), ts timestamp(4) NULL, b3 binary(3), uid uuid, ip inet6, y year, \
               e enum('calm','storm'), w varchar(300) CHARACTER SET utf16, l varchar(90) CHARACTER SET latin1, j json, x longblob, f float);\n\
             INSERT INTO edges (id) VALUES (1);\n\
             INSERT INTO edges VALUES (2, 9223372036854775808, 16777215, -1234567890123.0000001, -0.00001, '-00:00:00.01', '-10:59:59.99999', \
               '1000-01-01 00:00:00.001', '1970-01-01 12:00:01.0001', x'000000', '00000000-0000-0000-0000-000000000000', '::', 1901, '', \
               REPEAT('Źx', 60), 'naïve', 'null', x'', -0.0);\n\
             INSERT INTO edges VALUES (3, 255, 8388608, 9999999999999.9999999, 0.99999, '838:59:59', '00:00:00.00001', \
               '9999-12-31 23:59:59.999', '2038-01-19 03:14:07', x'ff0000', '018f4f4e-7c1a-7abc-8def-0123456789ab', '2001:db8::1', 2155, 'storm', \
               '', CONCAT('a', REPEAT(' ', 3)), '[1, {\"b\": 2.50, \"a\": \"é\"}]', REPEAT(x'00', 70000), 3.4e38);\n\
             INSERT INTO edges VALUES (4, 0, 0, 0, 0, '-00:00:01', '23:00:00', '0000-00-00', '2000-02-29 23:59:59.9999', x'00ff00', \
               'c232ab00-9414-11ec-b3c8-9f6bdeced846', '::ffff:10.0.0.1', 0, 'calm', NULL, NULL, NULL, NULL, 1e-40)",
        )
        .unwrap();
    let mut node = connect(server);
    let held = rows(&mut *node, "edges");
    let logged = log(ServerKind::MariaDb, server, "edges");
    // The log has those of the tables of this name that were dropped, too.
    let logged = &logged[logged.len() - 4..];
    assert_eq!(held.len(), 4);
    for (held, logged) in held.iter().zip(logged) {
        for (i, (held, logged)) in held.iter().zip(logged).enumerate() {
            let logged = logged.as_ref().unwrap();
            assert!(
                logged.same_as(held),
                "{metadata}, column {i}: {logged:?} in the log, {held:?} in the table"
            );
        }
    }
    drop(node);
    server.run("DROP TABLE edges").unwrap();
}

/// Values of compressed columns, and events that the server compressed whole.
fn pressed(server: &Server) {
    server
        .run(
            "CREATE TABLE pressed (id int PRIMARY KEY, c varchar(2000) COMPRESSED, t mediumtext COMPRESSED, b varbinary(300) COMPRESSED, p varchar(2000));\n\
             INSERT INTO pressed VALUES (1, 'snow', 'fog', x'00', 'x'), (2, '', NULL, x'', NULL), \
               (3, REPEAT('Schnee ', 200), REPEAT('Nebel ', 20000), REPEAT(x'00', 300), REPEAT('x', 2000));\n\
             SET GLOBAL log_bin_compress = ON;\nSET SESSION binlog_format = ROW;\n\
             INSERT INTO pressed VALUES (4, REPEAT('Schnee ', 200), REPEAT('Nebel ', 20000), NULL, REPEAT('y', 2000))",
        )
        .unwrap();
    // Sessions take the setting up when they begin.
    server.run("INSERT INTO pressed VALUES (5, REPEAT('Firn ', 200), '', NULL, REPEAT('z', 2000)), (6, '', '', '', '')").unwrap();
    server.run("SET GLOBAL log_bin_compress = OFF").unwrap();
    let mut node = connect(server);
    let held = rows(&mut *node, "pressed");
    let logged = log(ServerKind::MariaDb, server, "pressed");
    assert_eq!((held.len(), logged.len()), (6, 6));
    for (held, logged) in held.iter().zip(&logged) {
        for (i, (held, logged)) in held.iter().zip(logged).enumerate() {
            let logged = logged.as_ref().unwrap();
            assert!(
                logged.same_as(held),
                "column {i}: {logged:?} in the log, {held:?} in the table"
            );
        }
    }
    drop(node);
    server.run("DROP TABLE pressed").unwrap();
}
