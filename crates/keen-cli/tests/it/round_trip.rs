//! Values of every type, planted on one node, planned, repaired by the script, and taken back: what counts is the
//! engine's own text of the row on both nodes, not keen's audit.

use crate::common::servers::Network;
use keen_testkit::{Server, ServerKind};
use mysql::prelude::Queryable;

/// A type, and two of its values that the engine tells apart.
type Pair = (&'static str, &'static str, &'static str);

const POSTGRES: &[Pair] = &[
    ("smallint", "-32768", "32767"),
    ("bigint", "-9223372036854775808", "9223372036854775807"),
    ("oid", "0", "4294967295"),
    ("boolean", "true", "false"),
    ("real", "'-0'", "'0'"),
    ("real", "'1e-45'", "'NaN'"),
    ("double precision", "'-0'", "'0'"),
    ("double precision", "'5e-324'", "'-Infinity'"),
    ("numeric", "1.5", "1.50"),
    ("numeric", "'NaN'", "'-Infinity'"),
    ("numeric", "123456789012345678901234567890.123456789012345678901", "0.000"),
    ("numeric(8,2)", "84.50", "84.51"),
    ("money", "'-1234.50'", "'0'"),
    ("text", "E'a\\nb\\\\\\'\\u2028'", "''"),
    ("varchar(9)", "'a  '", "'a'"),
    ("char(5)", "'a'", "'b'"),
    ("bpchar", "'a  '", "'a'"),
    ("\"char\"", "''", "'x'"),
    ("name", "'pg'", "'Ludwig''s'"),
    ("bytea", "'\\x00ff'", "''"),
    ("date", "'4713-01-01 BC'", "'5874897-12-31'"),
    ("date", "'infinity'", "'-infinity'"),
    ("time", "'24:00'", "'00:00:00.000001'"),
    ("timetz", "'12:30:00.5+05:45'", "'12:30:00.5+05:46'"),
    ("timestamp", "'294276-12-31 23:59:59.999999'", "'infinity'"),
    ("timestamp", "'4713-01-01 00:00:00 BC'", "'-infinity'"),
    ("timestamptz", "'294276-12-31 23:59:59.999999+00'", "'294247-01-10 04:00:54.775806+00'"),
    ("timestamptz", "'2026-07-01 12:00:00.25+02'", "'2026-07-01 12:00:00.250001+02'"),
    ("interval", "'1 day'", "'24:00:00'"),
    ("interval", "'1 mon'", "'30 days'"),
    ("uuid", "'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'", "'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a12'"),
    ("json", "'{\"a\":1,\"a\":2}'", "'{\"a\":2}'"),
    ("json", "'{\"a\": 1}'", "'{\"a\":1}'"),
    ("json", "'123456789.123456789012345'", "'123456789.12345679'"),
    ("jsonb", "'123456789.123456789012345'", "'123456789.12345679'"),
    ("jsonb", "'[1.1]'", "'[1.10]'"),
    ("jsonb", "'{\"n\": 1.10000000000000000001}'", "'{\"n\": 1.1}'"),
    ("jsonpath", "'$.a'", "'$.b'"),
    ("numeric[]", "'{1.50,-0.10}'", "'{1.5,-0.1}'"),
    ("text[]", "'{}'", "ARRAY['a b',NULL,'q\"\\']"),
    ("json[]", "ARRAY['{\"a\": 1}'::json]", "ARRAY['{\"a\":1}'::json]"),
    ("numrange", "'[1.50,)'", "'[1.5,)'"),
    ("int4multirange", "'{[1,2),[5,7)}'", "'{}'"),
    ("nummultirange", "'{[1.0,2.0]}'", "'{[1,2]}'"),
    ("mood", "'storm \"x\"'", "'calm'"),
    ("altitude", "2500", "-1"),
    ("place", "ROW('Col, east', 2500.0)", "ROW('Col, east', 2500)"),
    ("inet", "'10.1.2.3/8'", "'10.1.2.3'"),
    ("inet", "'2001:db8::1'", "'2001:db8::1/64'"),
    ("cidr", "'10.0.0.0/8'", "'10.0.0.0/9'"),
    ("macaddr8", "'08:00:2b:01:02:03:04:05'", "'08:00:2b:01:02:03:04:06'"),
    ("bit(3)", "B'101'", "B'100'"),
    ("varbit", "B''", "B'0'"),
    ("xml", "'<a>b</a>'", "'<a >b</a>'"),
    ("point", "'(1.5,2)'", "'(1.5,3)'"),
    ("box", "'(1,1),(0,0)'", "'(2,0.5),(0,0)'"),
    ("polygon", "'((0,0),(1,1),(1,0))'", "'((1,1),(0,0),(1,0))'"),
    ("tsvector", "'snow ice'", "'snow:1A'"),
    ("tsquery", "'a & b'", "'a | b'"),
    ("pg_lsn", "'0/16B3748'", "'0/16B3749'"),
    ("txid_snapshot", "'10:20:10,14'", "'10:20:'"),
    ("refcursor", "'c'", "''"),
    ("hstore", "'a=>1, b=>NULL'", "'a=>1'"),
    ("citext", "'Ada'", "'ada'"),
    ("hstore[]", "ARRAY['b=>2'::hstore]", "ARRAY['b=>3'::hstore]"),
];

const MARIADB: &[Pair] = &[
    ("tinyint(1)", "1", "0"),
    ("bigint unsigned", "18446744073709551615", "0"),
    ("year", "2026", "0"),
    ("decimal(65,30)", "-0.100000000000000000000000000001", "0"),
    ("decimal(10,0) unsigned zerofill", "42", "43"),
    ("float", "0.1", "0.100000024"),
    ("double", "1.7976931348623157e308", "5e-324"),
    ("bit(10)", "b'1000000001'", "b'0'"),
    ("char(5)", "'a'", "'A'"),
    ("varchar(9)", "'a  '", "'a'"),
    ("varchar(9) CHARACTER SET latin1", "'é€'", "'e'"),
    ("varchar(9) CHARACTER SET utf16", "'\u{1f3d4}'", "''"),
    ("varchar(9) COLLATE utf8mb4_nopad_bin", "'a '", "'a'"),
    ("longtext", "REPEAT('x', 70000)", "'it''s \\\\ a\\nb'"),
    ("binary(4)", "x'00ff'", "x'00'"),
    ("varbinary(4)", "x'ff00'", "x'ff'"),
    ("blob", "''", "x'00'"),
    ("date", "'0000-00-00'", "'2026-00-15'"),
    ("date", "'9999-12-31'", "'1000-01-01'"),
    ("time(6)", "'-838:59:59.999999'", "'838:59:59'"),
    ("datetime(6)", "'2026-07-01 10:00:00.25'", "'0000-00-00 00:00:00'"),
    ("timestamp(6) NULL", "'2026-07-01 12:00:00.25'", "'1970-01-01 00:00:01'"),
    ("enum('calm','storm')", "'storm'", "'calm'"),
    // Its error value, which reads as '', beside a '' that is declared.
    ("enum('','calm')", "0", "'calm'"),
    ("set('a','b','c')", "'c,a'", "''"),
    ("json", "'{\"a\":1,\"a\":2}'", "'{\"a\":2}'"),
    ("json", "'{\"a\": 1}'", "'{\"a\":1}'"),
    ("json", "'1.10000000000000000001'", "'1.1'"),
    ("uuid", "'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'", "'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a12'"),
    ("inet6", "'2001:db8::1'", "'::'"),
    ("inet4", "'10.1.2.3'", "'0.0.0.0'"),
];

/// The row of each table, as the engine itself spells it.
fn texts(server: &Server, cases: &[Pair]) -> Vec<Option<String>> {
    let table = |i: usize| format!("t{i}");
    if server.engine().is_postgres() {
        let mut client = server.postgres().unwrap();
        return (0..cases.len())
            .map(|i| {
                // By the type's own output function, which a cast to text is not for every type.
                let sql = format!(
                    "SELECT string_agg(format('%s', t), '|' ORDER BY id) FROM {} t",
                    table(i)
                );
                client.query_one(&sql, &[]).unwrap().get(0)
            })
            .collect();
    }
    let mut client = server.mariadb().unwrap();
    let text = |i: usize| {
        let sql = format!(
            "SELECT GROUP_CONCAT(id, ':', HEX(v), ':', v ORDER BY id SEPARATOR '|') FROM {}",
            table(i)
        );
        client
            .query_first::<Option<Vec<u8>>, _>(sql)
            .unwrap()
            .unwrap()
            .map(|text| format!("{text:?}"))
    };
    (0..cases.len()).map(text).collect()
}

fn round_trip(engine: ServerKind, before: &str, cases: &[Pair]) {
    let network = Network::alike(&[engine, engine]);
    let mariadb = !engine.is_postgres();
    for (server, which) in network.servers.iter().zip([0, 1]) {
        let mut sql = String::from(before);
        if mariadb {
            sql.push_str("SET SESSION sql_mode = 'NO_ENGINE_SUBSTITUTION', time_zone = '+00:00', group_concat_max_len = 1000000;\n");
        }
        for (i, (declared, one, other)) in cases.iter().enumerate() {
            let value = [one, other][which];
            sql.push_str(&format!(
                "CREATE TABLE t{i} (id int PRIMARY KEY, v {declared});\nINSERT INTO t{i} VALUES (1, {value});\n"
            ));
            // And a row that only the first has.
            if which == 0 {
                sql.push_str(&format!("INSERT INTO t{i} VALUES (2, {other});\n"));
            }
        }
        server.run(&sql).unwrap_or_else(|e| panic!("{engine:?}: {e}"));
    }
    let tables: Vec<String> = (0..cases.len()).map(|i| format!("\"t{i}\"")).collect();
    network.replace("\"guest\", \"stay\"", &tables.join(", "));
    network.replace("[[link]]", "[authority]\ndefault = \"a\"\n[[link]]");
    let (a, b) = (&network.servers[0], &network.servers[1]);
    let held = texts(b, cases);
    let right = texts(a, cases);
    for (i, case) in cases.iter().enumerate() {
        assert_ne!(held[i], right[i], "the engine tells them apart: {case:?}");
    }
    // Each difference is found.
    let audit = network.keen(&["audit", "--format", "json"]);
    let json = audit.json();
    for (i, case) in cases.iter().enumerate() {
        let table =
            json["tables"].as_array().unwrap().iter().find(|t| t["table"] == format!("t{i}"));
        let rows = table.unwrap()["divergent"].as_array().map_or(0, Vec::len);
        assert_eq!(rows, 2, "{engine:?} {case:?}: {table:#?}");
    }
    std::fs::write(network.folder.path("audit.json"), &audit.out).unwrap();
    for (folder, more) in [("direct", &[][..]), ("kept", &["--audit", "audit.json"][..])] {
        let args = [&["plan", "--format", "sql", "--output", folder][..], more].concat();
        let plan = network.keen(&args);
        let asked = network.keen(&[&["plan", "--format", "json"][..], more].concat()).json();
        assert_eq!(
            asked["questions"].as_array().unwrap().len(),
            0,
            "{engine:?}: {:#}",
            asked["questions"]
        );
        let run = network.run_script(1, &format!("{folder}/b.repair.sql"));
        let step = run.err.split("step ").nth(1).and_then(|rest| rest.split(':').next());
        let script =
            std::fs::read_to_string(network.folder.path(&format!("{folder}/b.repair.sql")))
                .unwrap();
        let failed = step.and_then(|step| script.split(&format!("-- step {step}:")).nth(1));
        let failed = failed.and_then(|rest| rest.split("-- step ").next()).unwrap_or_default();
        assert_eq!(run.code, 0, "{engine:?}: {plan:?} {run:?} {failed}");
        let now = texts(b, cases);
        for (i, case) in cases.iter().enumerate() {
            assert_eq!(now[i], right[i], "{engine:?} {case:?}");
        }
        assert_eq!(network.keen(&["audit"]).code, 0);
        // And back again.
        let run = network.run_script(1, &format!("{folder}/b.undo.sql"));
        assert_eq!(run.code, 0, "{engine:?}: {run:?}");
        assert_eq!(texts(b, cases), held, "{engine:?}");
    }
    assert_eq!(texts(a, cases), right, "nothing was done to the other");
}

const TYPES: &str = "CREATE EXTENSION hstore;\nCREATE EXTENSION citext;\nCREATE TYPE mood AS ENUM ('calm', 'storm \"x\"');\n\
    CREATE DOMAIN altitude AS integer CHECK (VALUE > -500);\nCREATE TYPE place AS (name text, height numeric);\n";

#[test]
fn values_of_postgresql_15_come_back_as_they_were() {
    round_trip(ServerKind::Postgres15, TYPES, POSTGRES);
}

#[test]
fn values_of_postgresql_18_come_back_as_they_were() {
    let without = TYPES.replace("CREATE EXTENSION hstore;\nCREATE EXTENSION citext;\n", "");
    let cases: Vec<Pair> = POSTGRES
        .iter()
        .filter(|(declared, ..)| !declared.starts_with("hstore") && *declared != "citext")
        .copied()
        .collect();
    round_trip(ServerKind::Postgres18, &without, &cases);
}

#[test]
fn values_of_mariadb_come_back_as_they_were() {
    round_trip(ServerKind::MariaDb, "", MARIADB);
}

#[test]
fn what_no_strict_session_can_write_is_asked_about() {
    let network = Network::alike(&[ServerKind::MariaDb, ServerKind::MariaDb]);
    let (a, b) = (&network.servers[0], &network.servers[1]);
    for (server, first, second) in [(a, "0", "'calm'"), (b, "'calm'", "0")] {
        // Neither label is an empty text, whatever quotes they hold.
        server
            .run(&format!(
                "SET SESSION sql_mode = '';\n\
                 CREATE TABLE notice (id int PRIMARY KEY, bed int, v enum('calm','x'',''','storm'));\n\
                 INSERT INTO notice VALUES (1, 1, {first}), (2, 1, {second}), (3, 1, 0)"
            ))
            .unwrap();
    }
    network.replace("\"guest\", \"stay\"", "\"notice\"");
    b.run("UPDATE notice SET bed = 2 WHERE id = 3").unwrap();
    network.replace("[[link]]", "[authority]\ndefault = \"a\"\n[[link]]");
    let plan = network.keen(&["plan", "--format", "json"]).json();
    let questions = plan["questions"].as_array().unwrap();
    let why = |id: i64| {
        let of_row = questions.iter().find(|q| q["key"]["id"] == id);
        of_row.unwrap_or_else(|| panic!("{id}: {plan:#}"))["why"].as_str().unwrap().to_owned()
    };
    assert!(why(1).contains("has no such label"), "{plan:#}");
    assert!(why(2).contains("an undo could not write again"), "{plan:#}");
    // A cell that stays as it is keeps nobody from the rest of the row.
    let steps = plan["steps"].as_array().unwrap();
    assert_eq!((steps.len(), &steps[0]["key"]["id"]), (1, &serde_json::json!(3)));
    network.keen(&["plan", "--format", "sql", "--output", "repair"]);
    let run = network.run_script(1, "repair/b.repair.sql");
    assert_eq!(run.code, 0, "{run:?}");
    let mut client = b.mariadb().unwrap();
    let now: Vec<(i64, i64)> = client.query("SELECT bed, v + 0 FROM notice WHERE id = 3").unwrap();
    assert_eq!(now, [(1, 0)]);
    let undone = network.run_script(1, "repair/b.undo.sql");
    assert_eq!(undone.code, 0, "{undone:?}");
}
