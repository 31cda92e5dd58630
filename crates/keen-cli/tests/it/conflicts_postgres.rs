//! Conflicts between real PostgreSQL peers, found in their logs through slots that are only peeked at.

use crate::common::conflicts::{Conflicts, one, slots};
use crate::common::servers::{Network, PATIENCE, under_load};
use keen_testkit::{Server, ServerKind, links};

/// Peers whose slots were made with the statements that keen prints.
fn peers() -> Network {
    let network = Network::postgres_peers();
    slots(&network);
    network
}

fn settle(network: &Network) {
    // A slot that is only peeked at never moves: it would be waited for without end.
    for i in 0..network.servers.len() {
        for (j, from) in network.servers.iter().enumerate().filter(|(j, _)| *j != i) {
            let mark: String = from
                .postgres()
                .unwrap()
                .query_one("SELECT pg_current_wal_insert_lsn()::text", &[])
                .unwrap()
                .get(0);
            let sql = format!(
                "SELECT count(*) FROM pg_replication_slots WHERE slot_name = 'from_{j}_to_{i}' AND confirmed_flush_lsn >= '{mark}'"
            );
            links::until(PATIENCE, "the peers do not catch up", || {
                Ok(from.postgres()?.query_one(&sql, &[])?.get::<_, i64>(0) == 1)
            })
            .unwrap();
        }
    }
}

/// Waits until nothing is applied any more: DISABLE returns before the worker has noticed it.
fn stopped(server: &Server, subscription: &str) {
    let sql = format!(
        "SELECT count(*) FROM pg_stat_subscription WHERE subname = '{subscription}' AND pid IS NOT NULL"
    );
    links::until(PATIENCE, "the subscription goes on applying", || {
        Ok(server.postgres()?.query_one(&sql, &[])?.get::<_, i64>(0) == 0)
    })
    .unwrap();
}

fn apart(network: &Network, writes: &[(usize, &str)]) {
    let names = ["from_1_to_0", "from_0_to_1"];
    for (server, name) in network.servers.iter().zip(names) {
        server.run(&format!("ALTER SUBSCRIPTION {name} DISABLE")).unwrap();
    }
    for (server, name) in network.servers.iter().zip(names) {
        stopped(server, name);
    }
    for (server, sql) in writes {
        network.servers[*server].run(sql).unwrap();
    }
    for (server, name) in network.servers.iter().zip(names) {
        server.run(&format!("ALTER SUBSCRIPTION {name} ENABLE")).unwrap();
    }
}

#[test]
fn races_are_found_with_their_kind_and_what_came_of_them() {
    let network = peers();
    let quiet = network.conflicts(&[]);
    assert_eq!(quiet.code, 0, "{quiet:?}");

    apart(
        &network,
        &[
            (0, "UPDATE stay SET beds = 3 WHERE id = 2"),
            (1, "UPDATE stay SET beds = 5 WHERE id = 2"),
        ],
    );
    settle(&network);
    let run = network.conflicts(&[]);
    assert_eq!(run.code, 1, "{run:?}");
    let found = one(&run, "update-update");
    assert_eq!(found["of"]["row"]["id"], 2);
    assert_eq!((&found["proven"], &found["standing"]), (&true.into(), &"settled apart".into()));
    assert_eq!(found["rows"][0]["now"]["a"]["row"]["beds"], 5);
    assert_eq!(found["rows"][0]["now"]["b"]["row"]["beds"], 3);
    assert_eq!(found["writes"].as_array().unwrap().len(), 2);
    assert_eq!(found["writes"][0]["applied_at"], serde_json::json!(["a", "b"]));

    // A write that had seen both sides heals it.
    network.servers[0].run("UPDATE stay SET beds = 8 WHERE id = 2").unwrap();
    settle(&network);
    let run = network.conflicts(&[]);
    assert_eq!(run.code, 0, "{run:?}");
    assert_eq!(one(&run, "update-update")["standing"], "healed");

    // An update meets a row that is gone: nothing says so, and the write is lost.
    apart(
        &network,
        &[
            (0, "DELETE FROM stay WHERE id = 3"),
            (1, "UPDATE stay SET beds = 9 WHERE id = 3"),
            (1, "INSERT INTO guest VALUES (700, 'Elva', true)"),
        ],
    );
    settle(&network);
    let run = network.conflicts(&[]);
    let found = one(&run, "update-delete");
    assert_eq!(
        (&found["proven"], &found["standing"], &found["writes_lost"]),
        (&true.into(), &"settled alike".into(), &1.into())
    );
    let lost = found["writes"].as_array().unwrap().iter().find(|w| w["fate"] == "lost").unwrap();
    assert_eq!((&lost["node"], &lost["after"]["beds"]), (&"b".into(), &9.into()));
    assert_eq!(
        lost["skipped_at"],
        serde_json::json!(["a"]),
        "later writes of b arrived, this one did not"
    );

    // What was read before is passed over, also once the slots have let go of it.
    let none_read = |run: &crate::common::Run| {
        assert!(run.json()["went_on_from"].is_string(), "{run:?}");
        for node in run.json()["nodes"].as_array().unwrap() {
            assert_eq!(node["transactions"], 0, "{node}");
            assert!(node["transactions_before"].as_u64().unwrap() > 3, "{node}");
        }
        assert_eq!(run.conflicts().len(), 2, "{run:?}");
    };
    none_read(&network.conflicts(&[]));
    let ddl = network.keen(&["conflicts", "--ddl"]).out;
    let advance: Vec<&str> = ddl.lines().filter(|line| line.contains("slot_advance")).collect();
    assert_eq!(advance.len(), 2, "{ddl}");
    for (server, line) in network.servers.iter().zip(advance) {
        server.run(line.trim_start_matches("-- ")).unwrap();
    }
    let run = network.keen(&["conflicts", "--format", "json"]);
    none_read(&run);
    apart(
        &network,
        &[
            (0, "UPDATE stay SET beds = 1 WHERE id = 1"),
            (1, "UPDATE stay SET beds = 2 WHERE id = 1"),
        ],
    );
    settle(&network);
    let run = network.keen(&["conflicts", "--new", "--format", "json"]);
    assert_eq!(one(&run, "update-update")["proven"], true, "{run:?}");
    let run = network.keen(&["conflicts", "--whole", "--no-ledger", "--format", "json"]);
    assert_eq!(run.conflicts().len(), 1, "what was let go is not found any more: {run:?}");
}

#[test]
fn ordered_writes_are_no_conflict_even_within_a_millisecond() {
    let network = peers();
    for round in 0..10 {
        network.servers[round % 2]
            .run(&format!("UPDATE stay SET beds = {round} WHERE id = 2"))
            .unwrap();
        settle(&network);
    }
    let run = network.conflicts(&[]);
    assert_eq!(run.code, 0, "{run:?}");
    assert!(run.conflicts().is_empty(), "{run:?}");

    // Two sessions at once: whether they raced is for the journals to say, and both ends to agree on.
    std::thread::scope(|scope| {
        for (i, server) in network.servers.iter().enumerate() {
            scope.spawn(move || {
                server.run(&format!("UPDATE stay SET beds = {} WHERE id = 1", 20 + i)).unwrap();
            });
        }
    });
    settle(&network);
    let run = network.conflicts(&["--table", "stay"]);
    let beds = |i: usize| -> i32 {
        network.servers[i]
            .postgres()
            .unwrap()
            .query_one("SELECT beds FROM stay WHERE id = 1", &[])
            .unwrap()
            .get(0)
    };
    let raced = run.conflicts().iter().any(|c| c["of"]["row"]["id"] == 1 && c["proven"] == true);
    assert!(raced || beds(0) == beds(1), "the nodes differ, and no race was found: {run:?}");
}

#[test]
fn inserts_that_race_and_shapes_that_change() {
    let network = peers();
    // A log describes a table when it is written: a change of it shows between two writes.
    for server in &network.servers {
        server.run("UPDATE stay SET beds = 4 WHERE id = 3").unwrap();
        settle(&network);
    }
    apart(
        &network,
        &[
            (0, "ALTER TABLE stay ADD COLUMN dog integer"),
            (0, "UPDATE stay SET dog = 1 WHERE id = 1"),
            (1, "ALTER TABLE stay ADD COLUMN cat text"),
            (1, "UPDATE stay SET cat = 'x' WHERE id = 2"),
            (0, "INSERT INTO guest VALUES (900, 'Bero', true)"),
            (1, "INSERT INTO guest VALUES (900, 'Cilia', true)"),
        ],
    );
    let run = network.conflicts(&[]);
    assert_eq!(run.code, 1, "{run:?}");
    let found = one(&run, "shape-shape");
    let said: Vec<&str> = found["writes"]
        .as_array()
        .unwrap()
        .iter()
        .map(|w| w["statement"].as_str().unwrap())
        .collect();
    assert_eq!(said, ["column dog added", "column cat added"]);
    assert_eq!(found["standing"], "settled apart");
    let inserts = one(&run, "insert-insert");
    assert_eq!(inserts["of"]["row"]["id"], 900);
    assert_eq!(inserts["proven"], true, "{inserts}");
}

#[test]
fn without_slots_rows_tell_what_they_can() {
    let network = Network::postgres_peers();
    apart(
        &network,
        &[
            (0, "UPDATE stay SET beds = 3 WHERE id = 2"),
            (1, "UPDATE stay SET beds = 5 WHERE id = 2"),
            // Both say the same: nothing is lost by it, and nothing differs.
            (0, "UPDATE stay SET beds = 7 WHERE id = 1"),
            (1, "UPDATE stay SET beds = 7 WHERE id = 1"),
        ],
    );
    settle(&network);
    let run = network.conflicts(&[]);
    assert_eq!(run.code, 1, "{run:?}");
    assert_eq!(run.conflicts().len(), 1, "{run:?}");
    let found = one(&run, "last-writes");
    assert_eq!(found["of"]["row"]["id"], 2);
    assert_eq!((&found["proven"], &found["standing"]), (&true.into(), &"settled apart".into()));
    assert_eq!(found["won_by"], serde_json::json!(["last-come"]));
    let holder = |write: &str| found["writes"][usize::from(write == "b")]["applied_at"].clone();
    assert_eq!(found["writes"][0]["node"], "a");
    assert_eq!((holder("a"), holder("b")), (serde_json::json!(["b"]), serde_json::json!(["a"])));
    assert_eq!(found["writes"][0]["after"], serde_json::json!({"id": 2, "beds": 3}));
    let notes = run.json()["nodes"][0]["notes"].to_string();
    assert!(notes.contains("last write of each row"), "{notes}");
    assert_eq!(run.json()["complete"], false, "journals would tell more");

    // A plan asks the rows, too, where the latest is right.
    network.replace("[[link]]", "[authority]\ndefault = \"latest\"\n[[link]]");
    let plan = network.keen(&["plan", "--format", "json"]).json();
    let step = &plan["steps"][0];
    assert_eq!((&step["node"], &step["key"]["id"]), (&"b".into(), &2.into()), "{plan}");
    assert!(step["reason"].as_str().unwrap().starts_with("it was written last, at 20"), "{plan}");
    assert_eq!(plan["questions"].as_array().unwrap().len(), 0, "{plan}");
    let run = network.conflicts(&["--journals-only"]);
    assert_eq!((run.code, run.conflicts().len()), (3, 0), "{run:?}");

    // One side has a journal: it knows of a race and cannot prove it, and the rows can.
    let ddl = network.keen(&["conflicts", "--ddl", "--node", "a"]).out;
    network.servers[0].run(&ddl).unwrap();
    apart(
        &network,
        &[
            (0, "UPDATE stay SET beds = 13 WHERE id = 3"),
            (1, "UPDATE stay SET beds = 15 WHERE id = 3"),
        ],
    );
    settle(&network);
    let possible = network.conflicts(&["--journals-only"]);
    assert_eq!(one(&possible, "update-update")["proven"], false, "{possible:?}");
    let run = network.conflicts(&[]);
    let proven = one(&run, "update-update");
    assert_eq!((&proven["of"]["row"]["id"], &proven["proven"]), (&3.into(), &true.into()));
    assert_eq!(one(&run, "last-writes")["of"]["row"]["id"], 2, "older than the slot");

    // Neither has the other's yet: it is on its way, and only possible.
    for (server, name) in network.servers.iter().zip(["from_1_to_0", "from_0_to_1"]) {
        server.run(&format!("ALTER SUBSCRIPTION {name} DISABLE")).unwrap();
    }
    network.servers[0].run("UPDATE guest SET name = 'Aina' WHERE id = 1").unwrap();
    network.servers[1].run("UPDATE guest SET name = 'Brit' WHERE id = 1").unwrap();
    network.servers[0]
        .run("SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE slot_name LIKE 'keen_journal_%'")
        .unwrap();
    let run = network.conflicts(&["--table", "guest"]);
    let found = one(&run, "last-writes");
    assert_eq!((&found["proven"], &found["standing"]), (&false.into(), &"in flight".into()));
    assert_eq!(found["doubt"]["why"], "last_writes_only");
    let text = network.keen(&["conflicts", "--table", "guest"]).out;
    assert!(text.contains("times alone prove nothing"), "{text}");
}

#[test]
fn all_that_it_prints_of_its_journal_can_be_run() {
    let network = peers();
    let a = &network.servers[0];
    let both = |sql: &str| network.servers.iter().for_each(|server| server.run(sql).unwrap());
    both(
        "CREATE TABLE reading (id int PRIMARY KEY, snow int);\nGRANT SELECT ON reading TO keen;\n\
         ALTER PUBLICATION keen_journal SET (publish_via_partition_root = false);\nALTER ROLE keen NOREPLICATION;\n\
         REVOKE EXECUTE ON FUNCTION pg_show_replication_origin_status() FROM keen",
    );
    network.replace("\"guest\", \"stay\"", "\"guest\", \"stay\", \"reading\"");
    // A table was added, and rights were taken away.
    let ddl = network.keen(&["conflicts", "--ddl"]).out;
    for part in [
        "ALTER PUBLICATION keen_journal ADD TABLE \"public\".\"reading\"",
        "SET (publish_via_partition_root = true)",
        "ALTER ROLE \"keen\" REPLICATION",
        "GRANT EXECUTE ON FUNCTION pg_show_replication_origin_status() TO \"keen\"",
    ] {
        assert!(ddl.contains(part), "{part}: {ddl}");
    }
    slots(&network);
    assert_eq!(network.conflicts(&[]).code, 0);
    let nothing = network.keen(&["conflicts", "--ddl"]).out;
    assert!(nothing.contains("-- nothing is lacking"), "{nothing}");
    // The log of a slot is lost: it is dropped, and made anew.
    for sql in ["ALTER SYSTEM SET max_slot_wal_keep_size = '1MB'", "SELECT pg_reload_conf()"] {
        a.run(sql).unwrap();
    }
    let lost = "SELECT count(*) FROM pg_replication_slots WHERE slot_name LIKE 'keen_journal%' AND wal_status = 'lost'";
    links::until(PATIENCE, "the slot keeps its log", || {
        for sql in [
            "CREATE TABLE IF NOT EXISTS filler (t text)",
            "INSERT INTO filler VALUES (repeat('x', 100000))",
            "SELECT pg_switch_wal()",
            "CHECKPOINT",
        ] {
            a.run(sql)?;
        }
        Ok(a.postgres()?.query_one(lost, &[])?.get::<_, i64>(0) == 1)
    })
    .unwrap();
    let run = network.conflicts(&[]);
    assert!(crate::common::told(&run.json()["nodes"][0]["fault"]).contains("is lost"), "{run:?}");
    let ddl = network.keen(&["conflicts", "--ddl"]).out;
    assert!(ddl.contains("\nSELECT pg_drop_replication_slot("), "{ddl}");
    slots(&network);
    assert_eq!(network.conflicts(&[]).code, 0);
    // And what is to be run once it is no longer needed.
    let ddl = network.keen(&["conflicts", "--ddl"]).out;
    let ends: Vec<&str> =
        ddl.lines().filter_map(|l| l.strip_prefix("-- SELECT pg_drop_")).collect();
    assert_eq!(ends.len(), 2, "{ddl}");
    for (server, end) in network.servers.iter().zip(ends) {
        server.run(&format!("SELECT pg_drop_{}", end.replace("; ", ";\n"))).unwrap();
    }
    let run = network.conflicts(&["--journals-only"]);
    assert!(
        crate::common::told(&run.json()["nodes"][0]["fault"]).contains("has no slot"),
        "{run:?}"
    );
    slots(&network);
    assert_eq!(network.conflicts(&[]).code, 0);
}

#[test]
fn without_a_slot_or_a_right_it_says_what_to_do() {
    let network = Network::postgres_peers();
    let run = network.conflicts(&[]);
    assert_eq!(run.code, 3, "{run:?}");
    let fault = crate::common::told(&run.json()["nodes"][0]["fault"]);
    assert!(
        fault.contains("no slot for keen to read its log through")
            && fault.contains("keen conflicts --ddl"),
        "{fault}"
    );
    slots(&network);
    assert_eq!(network.conflicts(&[]).code, 0);

    network.servers[0].run("ALTER ROLE keen NOREPLICATION").unwrap();
    let run = network.conflicts(&[]);
    assert_eq!(run.code, 3, "{run:?}");
    assert!(run.out.contains("ALTER ROLE"), "{run:?}");
    network.servers[0].run("ALTER ROLE keen REPLICATION").unwrap();

    // A table that is not published would seem never to be written.
    network.servers[1].run("ALTER PUBLICATION keen_journal DROP TABLE stay").unwrap();
    let run = network.conflicts(&[]);
    assert_eq!(run.code, 3, "{run:?}");
    assert!(run.out.contains("run what `keen conflicts --ddl` prints"), "{run:?}");
}

#[test]
fn peeking_moves_nothing_on_and_flow_and_preflight_know_the_slot() {
    let network = peers();
    let at = || -> String {
        let sql = "SELECT confirmed_flush_lsn::text FROM pg_replication_slots WHERE slot_name LIKE 'keen_journal_%'";
        network.servers[0].postgres().unwrap().query_one(sql, &[]).unwrap().get(0)
    };
    let before = at();
    network.servers[0].run("UPDATE stay SET beds = 3 WHERE id = 2").unwrap();
    settle(&network);
    for _ in 0..3 {
        let run = network.conflicts(&[]).json();
        let of = |name: &str| run["nodes"][0][name].as_u64().unwrap();
        assert_eq!(of("transactions") + of("transactions_before"), 1);
    }
    assert_eq!(at(), before);
    // Nobody leaves it behind unnoticed, and it is nobody's fault.
    let run = network.keen(&["flow", "--interval", "1s"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert!(
        run.out.contains("the slot through which keen reads what was written holds back"),
        "{run:?}"
    );
    let run = network.keen(&["preflight", "--format", "json"]);
    let findings = run.json()["findings"].as_array().unwrap().clone();
    let of_slot: Vec<_> =
        findings.iter().filter(|f| f.to_string().contains("keen_journal")).collect();
    assert_eq!(of_slot.len(), 2, "{findings:?}");
    assert!(of_slot.iter().all(|finding| finding["level"] == "note"), "{of_slot:?}");
}

#[test]
fn runs_that_go_on_while_both_write_find_what_one_finds_in_the_end() {
    let network = peers();
    let load: Vec<(&Server, String)> = (network.servers.iter())
        .map(|server| {
            // One row at a time: two in one transaction, in whatever order, and the applier may deadlock with it.
            let sql = "UPDATE stay SET beds = (random() * 1000)::int WHERE id = (SELECT 1 + random()::int)";
            (server, sql.to_owned())
        })
        .collect();
    let keen = |args: &[&str]| network.keen(&[&["conflicts", "--format", "json"], args].concat());
    let mut went_on = 0;
    under_load(&load, || {
        for run in 0..6 {
            // Whether the load races is luck. These two do: neither link carries until both are written.
            if run == 2 {
                apart(
                    &network,
                    &[
                        (0, "UPDATE stay SET beds = 3 WHERE id = 3"),
                        (1, "UPDATE stay SET beds = 5 WHERE id = 3"),
                    ],
                );
            }
            let run = keen(&[]);
            went_on += u32::from(run.json()["went_on_from"].is_string());
            std::thread::sleep(std::time::Duration::from_millis(300));
        }
    });
    assert_eq!(went_on, 5, "every run but the first goes on");
    settle(&network);
    // Held against reading everything again, as always.
    let run = network.conflicts(&[]);
    assert!(run.json()["went_on_from"].is_string());
    let planted: Vec<_> =
        run.conflicts().into_iter().filter(|c| c["of"]["row"]["id"] == 3).collect();
    assert_eq!(planted.len(), 1, "{run:?}");
    assert_eq!(
        (&planted[0]["kind"], &planted[0]["proven"]),
        (&"update-update".into(), &true.into()),
        "{run:?}"
    );
}

#[test]
fn a_unique_value_a_child_without_its_parent_and_a_number_given_twice() {
    let network = peers();
    network.replace("[[link]]", "[unique]\nguest = [[\"name\"]]\n[[link]]");
    for server in &network.servers {
        server
            .run(
                "ALTER TABLE stay ADD FOREIGN KEY (guest_id) REFERENCES guest (id);\n\
                 CREATE SEQUENCE numbers OWNED BY guest.id START 500;\n\
                 ALTER TABLE guest ALTER id SET DEFAULT nextval('numbers')",
            )
            .unwrap();
    }
    network.servers[0].run("INSERT INTO guest VALUES (50, 'Fenn', true)").unwrap();
    settle(&network);
    apart(
        &network,
        &[
            (0, "INSERT INTO guest VALUES (901, 'Gisla', true)"),
            (1, "INSERT INTO guest VALUES (902, 'Gisla', true)"),
            (0, "DELETE FROM guest WHERE id = 50"),
            (1, "INSERT INTO stay VALUES (77, 50, 'Col Bivouac', 1, 12.5, '2026-09-01', NULL)"),
        ],
    );
    settle(&network);
    let run = network.conflicts(&[]);
    assert_eq!(run.code, 1, "{run:?}");
    let found = one(&run, "unique-value");
    assert_eq!(found["of"]["unique"]["name"], "Gisla");
    assert_eq!(
        (&found["proven"], &found["standing"]),
        (&true.into(), &"settled against the rules".into())
    );
    assert_eq!(found["rows"].as_array().unwrap().len(), 2);
    // What is applied is not checked against what it refers to.
    let found = one(&run, "parent-gone");
    assert_eq!(
        (&found["of"]["row"]["id"], &found["proven"], &found["standing"]),
        (&50.into(), &true.into(), &"settled against the rules".into())
    );

    // Each counts by itself: the second insert of one number stops the link, and both are told.
    apart(
        &network,
        &[
            (0, "INSERT INTO guest (name, member) VALUES ('Bero', true)"),
            (1, "INSERT INTO guest (name, member) VALUES ('Cilia', false)"),
        ],
    );
    let run = network.conflicts(&["--kind", "insert-insert"]);
    let found = one(&run, "insert-insert");
    assert_eq!((&found["of"]["row"]["id"], &found["proven"]), (&500.into(), &true.into()));
    assert_eq!(found["counted_key"], true);
}

#[test]
fn relays_that_pass_on_what_they_received_are_seen_through() {
    let network =
        Network::alike(&[ServerKind::Postgres18, ServerKind::Postgres18, ServerKind::Postgres18]);
    // Each takes all that the one before it has, whoever made it.
    for (to, from) in [(1, 0), (2, 1)] {
        let (to, from) = (&network.servers[to], &network.servers[from]);
        links::publish(from, "all_of_it", "guest, stay").unwrap();
        let name = format!("to_{}", to.port());
        links::subscribe(to, from, &name, "all_of_it", "copy_data = false, origin = any").unwrap();
    }
    let text = std::fs::read_to_string(network.folder.path("keen.toml")).unwrap();
    let (nodes, _) = text.split_once("[set.").unwrap();
    let links = "[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"stays\"]\n\
                 [[link]]\nfrom = \"b\"\nto = \"c\"\ncarries = [\"stays\"]\n";
    let stays = crate::common::servers::STAYS;
    std::fs::write(network.folder.path("keen.toml"), format!("{nodes}{stays}{links}")).unwrap();
    slots(&network);
    let beds = |node: usize, id: i32| -> i32 {
        let sql = format!("SELECT beds FROM stay WHERE id = {id}");
        network.servers[node].postgres().unwrap().query_one(&sql, &[]).unwrap().get(0)
    };
    let until = |node: usize, id: i32, wanted: i32| {
        links::until(PATIENCE, "it does not arrive", || Ok(beds(node, id) == wanted)).unwrap();
    };
    // One after the other: what the last writes had come over two hops before.
    network.servers[0].run("UPDATE stay SET beds = 31 WHERE id = 3").unwrap();
    until(2, 3, 31);
    network.servers[2].run("UPDATE stay SET beds = 32 WHERE id = 3").unwrap();
    let run = network.conflicts(&[]);
    assert!(run.conflicts().iter().all(|c| c["of"]["row"]["id"] != 3), "{run:?}");

    // The last one hears nothing while the first writes.
    let name = format!("to_{}", network.servers[2].port());
    network.servers[2].run(&format!("ALTER SUBSCRIPTION {name} DISABLE")).unwrap();
    network.servers[0].run("UPDATE stay SET beds = 11 WHERE id = 2").unwrap();
    network.servers[2].run("UPDATE stay SET beds = 12 WHERE id = 2").unwrap();
    network.servers[2].run(&format!("ALTER SUBSCRIPTION {name} ENABLE")).unwrap();
    until(2, 2, 11);
    let run = network.conflicts(&[]);
    let found = run.conflicts().into_iter().find(|c| c["of"]["row"]["id"] == 2).unwrap();
    assert_eq!(
        (&found["kind"], &found["proven"]),
        (&"update-update".into(), &true.into()),
        "{found}"
    );
    let writes = found["writes"].as_array().unwrap();
    assert_eq!(writes.len(), 2, "{found}");
    assert_eq!(
        (&writes[0]["node"], &writes[0]["applied_at"]),
        (&"a".into(), &serde_json::json!(["a", "b", "c"]))
    );
    assert_eq!((&writes[1]["node"], &writes[1]["fate"]), (&"c".into(), &"lost".into()));
}

#[test]
fn emptying_a_table_is_a_write_of_every_row() {
    let network = peers();
    apart(&network, &[(0, "TRUNCATE guest"), (1, "INSERT INTO guest VALUES (50, 'Late', true)")]);
    settle(&network);
    let run = network.conflicts(&[]);
    let found = one(&run, "update-delete");
    assert_eq!(
        (&found["of"]["row"]["id"], &found["proven"]),
        (&50.into(), &true.into()),
        "{found:#}"
    );
    assert_eq!(found["standing"], "settled apart", "{found:#}");
    assert!(found["writes"].to_string().contains("TRUNCATE"), "{found:#}");
}

#[test]
fn a_slot_of_an_older_server_that_was_there_before_its_publication() {
    let lab = keen_testkit::ServerLab::new().unwrap();
    let servers =
        lab.start_all(&[("a", ServerKind::Postgres15), ("b", ServerKind::Postgres15)]).unwrap();
    for server in &servers {
        keen_testkit::huts::tables(server).unwrap();
        keen_testkit::huts::rows(server).unwrap();
        server
            .run("SELECT pg_create_logical_replication_slot('keen_journal', 'pgoutput')")
            .unwrap();
    }
    let rest = format!(
        "{}[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"stays\"]\n",
        crate::common::servers::STAYS
    );
    let network = Network::new(lab, servers, &rest);
    network.servers[0].run("UPDATE guest SET name = 'Before' WHERE id = 1").unwrap();
    slots(&network);
    network.servers[0].run("UPDATE guest SET name = 'Ida A.' WHERE id = 2").unwrap();
    // The older server refuses to tell what was written before the publication: it is let go of, as keen says.
    let run = network.conflicts(&[]);
    assert_eq!(run.code, 3, "{run:?}");
    let fault = crate::common::told(&run.json()["nodes"][0]["fault"]);
    let (_, advice) = fault.split_once("SELECT ").unwrap_or_else(|| panic!("{fault}"));
    let (statement, _) = advice.split_once(" lets it go").unwrap();
    network.servers[0].run(&format!("SELECT {statement}")).unwrap();
    network.servers[0].run("UPDATE guest SET name = 'Ida B.' WHERE id = 2").unwrap();
    let run = network.conflicts(&[]);
    let node = &run.json()["nodes"][0];
    assert_eq!((&node["fault"], &node["writes"]), (&serde_json::Value::Null, &1.into()), "{run:?}");
}

#[test]
fn of_a_table_that_came_later_it_says_that_nothing_is_known_from_before() {
    let network = peers();
    network.servers[0].run("UPDATE guest SET name = 'Before' WHERE id = 1").unwrap();
    settle(&network);
    let note = "from before it came into the publication keen_journal, at 20";
    let run = network.keen(&["conflicts", "--no-ledger"]);
    assert!(!run.out.contains("its log shows nothing of"), "{}", run.out);
    let b = &network.servers[1];
    b.run("ALTER PUBLICATION keen_journal DROP TABLE stay").unwrap();
    b.run("UPDATE stay SET beds = 2 WHERE id = 1").unwrap();
    b.run("ALTER PUBLICATION keen_journal ADD TABLE stay").unwrap();
    let run = network.keen(&["conflicts", "--no-ledger"]);
    assert!(run.out.contains(&format!("b: its log shows nothing of stay {note}")), "{}", run.out);
    // Once it has let go of that, there is nothing to say any more.
    b.run("UPDATE stay SET beds = 3 WHERE id = 1").unwrap();
    b.run("SELECT pg_replication_slot_advance(slot_name, pg_current_wal_lsn()) FROM pg_replication_slots WHERE slot_name LIKE 'keen_journal%'").unwrap();
    let run = network.keen(&["conflicts", "--no-ledger"]);
    assert!(!run.out.contains("its log shows nothing of"), "{}", run.out);
}

#[test]
fn partitions_are_written_as_the_table_they_are_parts_of() {
    let network = peers();
    let both = |sql: &str| network.servers.iter().for_each(|server| server.run(sql).unwrap());
    both(
        "CREATE TABLE reading (id int PRIMARY KEY, snow int) PARTITION BY RANGE (id);\n\
         CREATE TABLE reading_low PARTITION OF reading FOR VALUES FROM (0) TO (100);\n\
         CREATE TABLE reading_high PARTITION OF reading FOR VALUES FROM (100) TO (200);\n\
         GRANT SELECT ON reading TO keen;\nALTER TABLE reading_low REPLICA IDENTITY FULL;\n\
         ALTER TABLE reading_high REPLICA IDENTITY FULL;\nINSERT INTO reading VALUES (1, 10), (2, 20), (101, 30);\n\
         ALTER PUBLICATION peers ADD TABLE reading",
    );
    for (server, name) in network.servers.iter().zip(["from_1_to_0", "from_0_to_1"]) {
        server
            .run(&format!("ALTER SUBSCRIPTION {name} REFRESH PUBLICATION WITH (copy_data = false)"))
            .unwrap();
    }
    network.replace("\"guest\", \"stay\"", "\"guest\", \"stay\", \"reading\"");
    // As it was once made: the log tells the partitions.
    both(
        "ALTER PUBLICATION keen_journal SET (publish_via_partition_root = false);\nALTER PUBLICATION keen_journal ADD TABLE reading",
    );
    let race = |id: u32| {
        let (one, other) = (
            format!("UPDATE reading SET snow = 3 WHERE id = {id}"),
            format!("UPDATE reading SET snow = 5 WHERE id = {id}"),
        );
        apart(&network, &[(0, &one), (1, &other)]);
        settle(&network);
    };
    race(1);
    let run = network.conflicts(&[]);
    assert_eq!(one(&run, "update-update")["of"]["row"]["id"], 1, "{run:?}");
    // Now by their root; what was logged before is still known.
    both("ALTER PUBLICATION keen_journal SET (publish_via_partition_root = true)");
    race(101);
    let run = network.conflicts(&["--whole"]);
    let mut found: Vec<i64> =
        run.conflicts().iter().map(|c| c["of"]["row"]["id"].as_i64().unwrap()).collect();
    found.sort_unstable();
    assert_eq!(found, [1, 101], "{run:?}");
    assert!(run.json().to_string().contains("a partition of reading was emptied"), "{run:?}");
    assert!(!run.json().to_string().contains("of guest, stay, reading its log"), "{run:?}");
    assert!(run.conflicts().iter().all(|c| c["proven"] == true), "{run:?}");
}

#[test]
fn a_long_value_that_the_log_does_not_tell_is_never_offered_back_as_nothing() {
    let network = peers();
    let both = |sql: &str| network.servers.iter().for_each(|server| server.run(sql).unwrap());
    both(
        "ALTER TABLE guest REPLICA IDENTITY DEFAULT;\nALTER TABLE guest ALTER COLUMN name SET STORAGE EXTERNAL",
    );
    network.servers[0]
        .run("INSERT INTO guest VALUES (60, repeat('A name as long as a valley ', 400), true)")
        .unwrap();
    settle(&network);
    // The update is lost to the delete, and the log tells nothing of the long name that it left alone.
    apart(
        &network,
        &[
            (0, "DELETE FROM guest WHERE id = 60"),
            (1, "UPDATE guest SET member = false WHERE id = 60"),
        ],
    );
    settle(&network);
    let found = one(&network.conflicts(&[]), "update-delete");
    assert_eq!(
        (&found["standing"], &found["writes_lost"]),
        (&"settled alike".into(), &1.into()),
        "{found:#}"
    );
    let plan = network.keen(&["plan", "--conflicts", "--format", "json"]);
    let json = plan.json();
    assert_eq!(json["steps"].as_array().unwrap().len(), 0, "{json:#}");
    let question = &json["questions"][0];
    assert_eq!(question["key"]["id"], 60, "{json:#}");
    for choice in question["choices"].as_array().unwrap() {
        if let Some(row) = choice["row"].as_object() {
            assert!(row.get("name").is_none_or(|name| !name.is_null()), "{question:#}");
        }
    }
    assert!(question.to_string().contains("name"), "what is not known is named: {question:#}");
}

#[test]
fn an_update_that_changes_nothing_is_no_conflict_and_counting_is_one() {
    let network = peers();
    for server in &network.servers {
        server.run("ALTER TABLE guest REPLICA IDENTITY FULL").unwrap();
    }
    // Of stays the log does not tell what they were before: the write before tells it.
    network.servers[0].run("UPDATE stay SET beds = 5 WHERE id = 2").unwrap();
    settle(&network);
    apart(
        &network,
        &[
            (0, "UPDATE guest SET name = name WHERE id = 1"),
            (1, "UPDATE guest SET name = 'Ida M.' WHERE id = 1"),
            (0, "UPDATE stay SET beds = beds + 1 WHERE id = 2"),
            (1, "UPDATE stay SET beds = beds + 1 WHERE id = 2"),
        ],
    );
    settle(&network);
    let guest = network.conflicts(&["--table", "guest"]);
    assert_eq!((guest.code, guest.conflicts().len()), (0, 0), "{guest:?}");
    let life = network.keen(&["conflicts", "--table", "stay", "--key", "2"]).out;
    assert_eq!(life.matches("beds 5 \u{2192} 6").count(), 2, "{life}");
    assert!(life.contains("the log does not show which of these it changed"), "{life}");
}
