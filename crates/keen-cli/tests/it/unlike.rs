//! Nodes that call things otherwise, declare them otherwise, or are to be compared otherwise.

use std::fs;

use crate::common::Folder;
use crate::common::servers::{Network, topology};
use keen_testkit::{ServerKind, ServerLab};

/// The same bookings as four nodes hold them, each in its own way.
fn bookings() -> Network {
    let lab = ServerLab::new().unwrap();
    let wanted =
        [("m", ServerKind::MariaDb), ("p", ServerKind::Postgres15), ("q", ServerKind::Postgres18)];
    let servers = lab.start_all(&wanted).unwrap();
    servers[0]
        .run(
            "CREATE TABLE stay (id int unsigned PRIMARY KEY, guest varchar(40) CHARACTER SET latin1, price decimal(9,4), \
             arrives datetime(3), code binary(16), note varchar(40), seen timestamp(6) NULL);\n\
             INSERT INTO stay VALUES (1, 'Åse Söderberg', 84.1250, '2026-07-01 12:00:00.123', x'000102030405060708090a0b0c0d0e0f', 'by phone', '2026-07-01 10:00:00');\n",
        )
        .unwrap();
    servers[1]
        .run(
            "CREATE SCHEMA bookings;\n\
             CREATE TABLE bookings.overnight (number bigint PRIMARY KEY, guest_name text, price double precision, \
             arrives timestamptz, code uuid, note text, seen timestamptz);\n\
             INSERT INTO bookings.overnight VALUES (1, '  åse söderberg ', 84.13, '2026-07-01 12:00:00.123456+02', \
             '00010203-0405-0607-0809-0a0b0c0d0e0f', 'by mail', '2026-07-01 12:00:00+02');\n",
        )
        .unwrap();
    servers[2]
        .run(
            "CREATE TABLE \"Stay\" (id int NOT NULL UNIQUE, guest varchar(40), price numeric, arrives timestamp, code text, note text, seen timestamptz);\n\
             INSERT INTO \"Stay\" VALUES (1, 'Åse Söderberg', 84.125, '2026-07-01 12:00:00.1239', \
             '000102030405060708090A0B0C0D0E0F', NULL, '2026-07-01 10:00:00Z');\n",
        )
        .unwrap();
    let rest = r#"
[node.d]
at = "sqlite:d.db"
writes = true

[node.b.names]
stay = "bookings.overnight"
"stay.id" = "number"
"stay.guest" = "guest_name"

[node.c.names]
stay = "Stay"

[set.s]
tables = ["stay"]

[compare.stay]
guest = ["trim", "fold"]
price = "round 2"
note = "ignore"

[[link]]
mesh = ["a", "b", "c", "d"]
carries = ["s"]
"#;
    let folder = Folder::new(&topology(&servers, rest).replacen(
        "name =",
        "zone = \"Europe/Vienna\"\nname =",
        1,
    ));
    folder.sql(
        "d.db",
        "CREATE TABLE stay (id INTEGER PRIMARY KEY, guest TEXT, price REAL, arrives TEXT, code BLOB, note TEXT, seen TIMESTAMP);
         INSERT INTO stay VALUES (1, 'ÅSE SÖDERBERG', 84.1256, '2026-07-01T12:00:00.123', x'000102030405060708090a0b0c0d0e0f', 'x', '2026-07-01 10:00:00Z')",
    );
    Network { servers, folder, lab }
}

#[test]
fn four_ways_to_hold_one_booking_are_one_booking() {
    let network = bookings();
    let run = network.keen(&["audit"]);
    assert_eq!(run.code, 0, "{run:?}");
    for said in [
        "column guest is compared with trim, fold (keen.toml)",
        "values are compared as local time in Europe/Vienna",
        "keeps 3 digits of a second",
        "values are compared as UUIDs",
        "compared with round 2",
    ] {
        assert!(
            run.out.replace("\n       ", "").replace('\n', " ").contains(said)
                || run.out.contains(said),
            "{said}: {}",
            run.out
        );
    }
    let run = network.keen(&["audit", "--format", "json"]);
    let columns = run.json()["tables"][0]["columns"].clone();
    assert!(!columns.to_string().contains("\"note\""), "{columns}");
    let named = |name: &str| {
        columns.as_array().unwrap().iter().find(|c| c["name"] == name).unwrap().clone()
    };
    assert_eq!(named("arrives")["zone"], "Europe/Vienna");
    assert_eq!(named("guest")["treatment"], serde_json::json!(["trim", "fold"]));
}

#[test]
fn what_is_compared_in_part_is_never_written() {
    let network = bookings();
    network.servers[1].run("UPDATE bookings.overnight SET guest_name = 'Bero'").unwrap();
    let path = network.folder.path("keen.toml");
    let text = fs::read_to_string(&path).unwrap() + "\n[authority]\ndefault = \"a\"\n";
    fs::write(&path, &text).unwrap();
    let run = network.keen(&["audit", "--format", "json", "--output", "audit.json"]);
    assert_eq!(run.code, 1, "{run:?}");
    for args in
        [&["plan", "--format", "json"][..], &["plan", "--format", "json", "--audit", "audit.json"]]
    {
        let run = network.keen(args);
        assert_eq!(run.code, 1, "{run:?}");
        let plan = run.json();
        assert_eq!(
            (&plan["summary"]["steps"], &plan["summary"]["questions"]),
            (&0.into(), &1.into()),
            "{plan}"
        );
        assert!(
            plan["questions"][0]["why"]
                .as_str()
                .unwrap()
                .contains("compared in part only (trim, fold)"),
            "{plan}"
        );
    }
    // A column that is compared whole is written, beside those that are not.
    network.servers[1].run("UPDATE bookings.overnight SET guest_name = 'åse söderberg', code = '00000000-0000-0000-0000-000000000001'").unwrap();
    let run = network.keen(&["plan", "--format", "sql", "--output", "plan"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert_eq!(network.run_script(1, "plan/b.repair.sql").code, 0);
    assert_eq!(network.keen(&["audit"]).code, 0);
}

#[test]
fn what_cannot_be_compared_is_refused_by_name() {
    let network = bookings();
    let path = network.folder.path("keen.toml");
    let text = fs::read_to_string(&path).unwrap();
    fs::write(&path, text.replace("zone = \"Europe/Vienna\"\n", "")).unwrap();
    let run = network.keen(&["audit"]);
    assert_eq!(run.code, 3, "{run:?}");
    assert!(run.out.contains("name the zone of times without one in keen.toml"), "{}", run.out);
    fs::write(&path, &text).unwrap();
    network.servers[0].run("ALTER TABLE stay MODIFY code int").unwrap_err();
    network.servers[0].run("ALTER TABLE stay DROP code, ADD code date").unwrap();
    let run = network.keen(&["audit", "--node", "a,b"]);
    assert!(
        run.out.contains("column code is") && run.out.contains("cannot be compared"),
        "{}",
        run.out
    );
    // Without its alias the column is another, and an alias that names nothing is told.
    fs::write(
        &path,
        text.replace("\"stay.guest\" = \"guest_name\"", "\"stay.guest\" = \"visitor\""),
    )
    .unwrap();
    let run = network.keen(&["audit"]);
    assert!(run.out.contains("has no column visitor"), "{}", run.out);
}
