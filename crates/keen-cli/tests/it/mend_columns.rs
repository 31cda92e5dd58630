//! Columns that a preflight finds wrong, planned and mended on real servers while all write, and looked at by the
//! servers' own means.

use crate::common::mending::{MENDER, accounts, dump, keen};
use crate::common::preflight::printed;
use crate::common::servers::{Network, PATIENCE, under_load};
use crate::mend_setup::{more_rights, plan};
use keen_testkit::{Server, ServerKind, links};

/// How columns of stay are declared, by the server's own words.
const COLUMNS: &str = "SELECT column_name, data_type, character_maximum_length, is_nullable, column_default, collation_name FROM information_schema.columns \
    WHERE table_name = 'stay' AND table_schema IN ('huts', 'public') ORDER BY ordinal_position";

/// Past the log of a MariaDB server.
fn alone(server: &Server, sql: &str) {
    server.run(&format!("SET SESSION sql_log_bin = 0; {sql}")).unwrap();
}

#[test]
fn columns_of_a_mariadb_mesh_are_mended_while_all_write() {
    let network = Network::mariadb_mesh();
    accounts(&network);
    more_rights(&network);
    let [a, b, c] = &network.servers[..] else { unreachable!() };
    // b is narrower, and lacks a column in the middle.
    for server in [a, c] {
        alone(
            server,
            "ALTER TABLE stay ADD COLUMN `warden's note` varchar(60) NOT NULL DEFAULT 'it''s fine' AFTER beds",
        );
    }
    alone(b, "ALTER TABLE stay MODIFY hut varchar(40) NOT NULL");
    let before = dump(b, COLUMNS);
    assert_ne!(before, dump(a, COLUMNS));
    a.run(&format!("UPDATE stay SET hut = '{}' WHERE id = 1", "h".repeat(120))).unwrap();
    network.until("broken a>b");
    let load = [(a, "UPDATE stay SET price = price + 1 WHERE id = 2".to_owned())];
    let run = under_load(&load, || {
        let run = plan(&network, "shape,link", "shapes.plan");
        for line in [
            "add column warden's note of stay: varchar(60), collation utf8mb4_general_ci, not null, default 'it''s fine'",
            "column hut of stay: varchar(40), collation utf8mb4_general_ci, not null -> varchar(200)",
            "link on b: link m0: on, but does not apply -> on",
            "wait until b has what a had written",
        ] {
            assert!(run.out.contains(line), "{line}: {}", run.out);
        }
        keen(&network, &["mend", "shapes.plan", "--yes"])
    });
    assert_eq!(run.code, 0, "{run:?}");
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    let now = dump(b, COLUMNS);
    assert_eq!(now, dump(a, COLUMNS));
    let stays = |server| dump(server, "SELECT * FROM stay ORDER BY id");
    assert!(stays(b).contains(&"h".repeat(120)));
    assert_eq!(stays(b), stays(a));
    // What would cut a value is not taken back, nor a column into which somebody wrote since.
    a.run("UPDATE stay SET `warden's note` = 'wood is low' WHERE id = 3").unwrap();
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    let run = keen(&network, &["mend", "--undo", "shapes.plan.undo", "--yes"]);
    assert_eq!(run.code, 1, "{run:?}");
    for line in ["Data too long for column 'hut'", "values in column warden's note of stay is yes"]
    {
        assert!(run.out.contains(line), "{line}: {run:?}");
    }
    assert_eq!((now, stays(b)), (dump(b, COLUMNS), stays(a)));
    a.run("UPDATE stay SET `warden's note` = DEFAULT, hut = 'Saddle Refuge'").unwrap();
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    let run = keen(&network, &["mend", "--undo", "shapes.plan.undo", "--yes"]);
    assert_eq!((run.code, dump(b, COLUMNS)), (0, before), "{run:?}");
    // What a declaration does not say would be gone with the change.
    for more in ["COMMENT 'as on the sign'", "CHECK (hut <> '')", "DEFAULT 'a' INVISIBLE"] {
        alone(b, &format!("ALTER TABLE stay MODIFY hut varchar(40) NOT NULL {more}"));
        let run = keen(&network, &["plan", "--kind", "shape", "--finding", "column-type"]);
        assert_eq!(run.code, 1, "{run:?}");
        assert!(run.out.contains("because a person has to decide: column-type"), "{run:?}");
        let said = keen(&network, &["preflight", "--shape"]).out;
        let why = "declare it by hand: on b column hut has a comment, a rule or a property";
        assert!(said.contains(why) && !said.contains("MODIFY"), "{more}: {said}");
    }
    // Nor is a column moved that some servers would declare otherwise; those that can be are.
    for (server, place) in [(a, "AFTER hut"), (b, "AFTER price"), (c, "AFTER hut")] {
        alone(server, &format!("ALTER TABLE stay ADD COLUMN seen timestamp NOT NULL {place}"));
    }
    let said = keen(&network, &["preflight", "--shape"]).out;
    let why = "by hand, as keen cannot say all of how these columns are declared (SHOW CREATE TABLE does): move seen behind hut";
    assert!(said.contains(why) && !said.contains("MODIFY"), "{said}");
}

#[test]
fn columns_of_postgresql_peers_are_mended_while_all_write() {
    let network = Network::postgres_peers();
    accounts(&network);
    more_rights(&network);
    let [a, b] = &network.servers[..] else { unreachable!() };
    a.run("ALTER TABLE stay ADD COLUMN \"warden's note\" text NOT NULL DEFAULT 'it''s fine';\nALTER TABLE stay ALTER COLUMN beds TYPE bigint").unwrap();
    let before = dump(b, COLUMNS);
    a.run("UPDATE stay SET beds = 3000000000 WHERE id = 1").unwrap();
    network.until("broken a>b");
    let load = [(a, "UPDATE stay SET price = price + 1 WHERE id = 2".to_owned())];
    let run = under_load(&load, || {
        let run = plan(&network, "shape", "shapes.plan");
        for line in [
            "add column warden's note of stay: text, not null, default 'it''s fine'::text",
            "column beds of stay: integer, not null -> bigint, not null",
        ] {
            assert!(run.out.contains(line), "{line}: {}", run.out);
        }
        keen(&network, &["mend", "shapes.plan", "--yes"])
    });
    assert_eq!(run.code, 0, "{run:?}");
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    let now = dump(b, COLUMNS);
    assert_eq!(now, dump(a, COLUMNS));
    let stays = |server| dump(server, "SELECT * FROM stay ORDER BY id");
    assert!(stays(b).contains("3000000000"));
    assert_eq!(stays(b), stays(a));
    a.run("UPDATE stay SET \"warden's note\" = 'wood is low' WHERE id = 3").unwrap();
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    let run = keen(&network, &["mend", "--undo", "shapes.plan.undo", "--yes"]);
    assert_eq!(run.code, 1, "{run:?}");
    for line in ["integer out of range", "values in column warden's note of stay is yes"] {
        assert!(run.out.contains(line), "{line}: {run:?}");
    }
    assert_eq!((now, stays(b)), (dump(b, COLUMNS), stays(a)));
    a.run("UPDATE stay SET beds = 2, \"warden's note\" = DEFAULT").unwrap();
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    let run = keen(&network, &["mend", "--undo", "shapes.plan.undo", "--yes"]);
    assert_eq!((run.code, dump(b, COLUMNS)), (0, before), "{run:?}");
    columns_at_which_a_subscription_switched_itself_off(&network);
}

/// A subscription that is switched off at the first error stays so until somebody switches it on.
fn columns_at_which_a_subscription_switched_itself_off(network: &Network) {
    let [a, b] = &network.servers[..] else { unreachable!() };
    b.run("ALTER SUBSCRIPTION from_0_to_1 SET (disable_on_error = true)").unwrap();
    b.run(&format!("ALTER ROLE {} SUPERUSER", MENDER.0)).unwrap();
    a.run("UPDATE stay SET beds = 3000000000 WHERE id = 1").unwrap();
    network.until("broken a>b");
    let said = keen(network, &["preflight"]).out;
    let advised =
        "once what is found of its tables is mended, ALTER SUBSCRIPTION \"from_0_to_1\" ENABLE";
    assert!(said.contains(advised), "{said}");
    let run = plan(network, "shape,link", "off.plan");
    for line in ["link on b: link from_0_to_1: off -> on", "wait until b has what a had written"] {
        assert!(run.out.contains(line), "{line}: {}", run.out);
    }
    let run = keen(network, &["mend", "off.plan", "--yes"]);
    assert_eq!(run.code, 0, "{run:?}");
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    let stays = |server| dump(server, "SELECT * FROM stay ORDER BY id");
    assert!(stays(b).contains("3000000000"));
    assert_eq!((stays(b), dump(b, COLUMNS)), (stays(a), dump(a, COLUMNS)));
}

#[test]
fn what_a_mariadb_peer_declares_otherwise_is_made_as_most_have_it() {
    let network = Network::mariadb_mesh();
    accounts(&network);
    more_rights(&network);
    let [a, b, c] = &network.servers[..] else { unreachable!() };
    for server in [a, c] {
        alone(
            server,
            "ALTER TABLE stay ADD COLUMN `warden's note` varchar(60) NOT NULL DEFAULT 'none' AFTER beds, ADD COLUMN skis int NOT NULL DEFAULT 7 AFTER `warden's note`, ADD COLUMN dogs int NULL DEFAULT 0 AFTER skis",
        );
    }
    alone(
        b,
        "ALTER TABLE stay ADD COLUMN dogs int NOT NULL DEFAULT 0 AFTER beds, ADD COLUMN skis int NULL DEFAULT 7 AFTER dogs, ADD COLUMN `warden's note` varchar(40) COLLATE utf8mb4_bin NULL DEFAULT 'nothing' AFTER skis",
    );
    let before = dump(b, COLUMNS);
    // Links go by the order of columns: the first row that arrives stops one.
    c.run("UPDATE stay SET price = price + 1 WHERE id = 1").unwrap();
    network.until("broken c>b");
    let load = [(c, "UPDATE stay SET price = price + 1 WHERE id = 2".to_owned())];
    let run = under_load(&load, || {
        let run = plan(&network, "shape,link", "alike.plan");
        for line in [
            "the order of columns of stay: id, guest_id, hut, beds, dogs, skis, `warden's note`, price, arrives, booked_at -> id, guest_id, hut, beds, `warden's note`, skis, dogs, price, arrives, booked_at",
            "column warden's note of stay: varchar(40), collation utf8mb4_bin, null, default 'nothing' -> varchar(60), collation utf8mb4_general_ci, not null, default 'none'",
            "column skis of stay: int(11), null, default 7 -> int(11), not null, default 7",
            "column dogs of stay: int(11), not null, default 0 -> int(11), null, default 0",
        ] {
            assert!(run.out.contains(line), "{line}: {}", run.out);
        }
        keen(&network, &["mend", "alike.plan", "--yes"])
    });
    assert_eq!(run.code, 0, "{run:?}");
    a.run("UPDATE stay SET skis = 1, dogs = NULL").unwrap();
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    assert_eq!(dump(b, COLUMNS), dump(a, COLUMNS));
    let stays = |server| {
        dump(
            server,
            "SELECT id, hut, beds, skis, dogs, `warden's note`, price FROM stay ORDER BY id",
        )
    };
    assert_eq!(stays(b), stays(a));
    // What a node holds by then is refused by the way back, and nothing is made of it.
    let run = keen(&network, &["mend", "--undo", "alike.plan.undo", "--yes"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert!(run.out.contains("Data truncated for column 'dogs'"), "{run:?}");
    assert_eq!(stays(b), stays(a));
    alone(b, "UPDATE stay SET dogs = 2");
    let run = keen(&network, &["mend", "--undo", "alike.plan.undo", "--yes"]);
    assert_eq!((run.code, dump(b, COLUMNS)), (0, before), "{run:?}");
}

#[test]
fn what_a_postgresql_node_declares_otherwise_is_made_as_most_have_it() {
    let network =
        Network::alike(&[ServerKind::Postgres15, ServerKind::Postgres18, ServerKind::Postgres15]);
    accounts(&network);
    let b = &network.servers[1];
    for server in &network.servers {
        server.run(&format!("ALTER TABLE stay OWNER TO {}", MENDER.0)).unwrap();
        server
            .run("ALTER TABLE stay ADD COLUMN note varchar(60) COLLATE \"C\" NOT NULL DEFAULT 'none', ADD COLUMN dogs int NULL DEFAULT 0")
            .unwrap();
    }
    let right = dump(b, COLUMNS);
    b.run("ALTER TABLE stay ALTER COLUMN note TYPE varchar(40) COLLATE \"POSIX\", ALTER COLUMN note DROP NOT NULL, ALTER COLUMN note SET DEFAULT 'nothing', ALTER COLUMN dogs SET NOT NULL, ALTER COLUMN dogs DROP DEFAULT")
        .unwrap();
    let wrong = dump(b, COLUMNS);
    let checks = ["column-type", "column-null", "column-collation", "column-default"];
    // As it is printed.
    let found = keen(&network, &["preflight", "--shape", "--format", "json"]);
    for check in checks {
        for (node, statement) in printed(&found, check) {
            assert_eq!(node, "b");
            b.run(&statement).unwrap();
        }
    }
    assert_eq!(dump(b, COLUMNS), right);
    // And as it is planned: each property alone, and all of them in one step.
    let undo = |file: &str| {
        let run = keen(&network, &["mend", "--undo", file, "--yes"]);
        assert_eq!((run.code, dump(b, COLUMNS)), (0, wrong.clone()), "{run:?}");
    };
    b.run("ALTER TABLE stay ALTER COLUMN note TYPE varchar(40) COLLATE \"POSIX\", ALTER COLUMN note DROP NOT NULL, ALTER COLUMN note SET DEFAULT 'nothing', ALTER COLUMN dogs SET NOT NULL, ALTER COLUMN dogs DROP DEFAULT")
        .unwrap();
    assert_eq!(dump(b, COLUMNS), wrong);
    for (finding, line) in [
        (
            checks[1],
            "column note of stay: character varying(40), collation POSIX, null, default 'nothing'::character varying -> character varying(40), collation POSIX, not null, default 'nothing'::character varying",
        ),
        (checks[3], "column dogs of stay: integer, not null -> integer, not null, default 0"),
    ] {
        let file = format!("{finding}.plan");
        let run =
            keen(&network, &["plan", "--kind", "shape", "--finding", finding, "--save", &file]);
        assert!(run.out.contains(line), "{line}: {}", run.out);
        let run = keen(&network, &["mend", &file, "--yes"]);
        assert_eq!(run.code, 0, "{run:?}");
        assert_ne!(dump(b, COLUMNS), wrong);
        undo(&format!("{file}.undo"));
    }
    let run = keen(
        &network,
        &["plan", "--kind", "shape", "--finding", &checks.join(","), "--save", "all.plan"],
    );
    let line = "column note of stay: character varying(40), collation POSIX, null, default 'nothing'::character varying -> character varying(60), collation C, not null, default 'none'::character varying";
    assert!(run.out.contains(line), "{line}: {}", run.out);
    let run = keen(&network, &["mend", "all.plan", "--yes"]);
    assert_eq!((run.code, dump(b, COLUMNS)), (0, right), "{run:?}");
    // A row without a value is in the way: it stays, and so does the column.
    undo("all.plan.undo");
    b.run("UPDATE stay SET note = NULL WHERE id = 1").unwrap();
    let run = keen(
        &network,
        &["plan", "--kind", "shape", "--finding", "column-null", "--save", "null.plan"],
    );
    assert_eq!(run.code, 1, "{run:?}");
    let run = keen(&network, &["mend", "null.plan", "--yes"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert!(run.out.contains("contains null values"), "{run:?}");
    assert_eq!(dump(b, "SELECT count(*) FROM stay WHERE note IS NULL"), "(1)");
}
