//! Conflicts on a real mesh of MariaDB servers, found in their binary logs.

use crate::common::conflicts::{Conflicts, one};
use crate::common::servers::{Network, PATIENCE, under_load};
use keen_testkit::{Server, ServerKind, links};
use mysql::prelude::Queryable;

/// What each server is told while none hears of the others; then they hear of each other.
fn apart(network: &Network, writes: &[(usize, &str)]) {
    let all = |sql: &str| network.servers.iter().for_each(|server| server.run(sql).unwrap());
    all("STOP ALL SLAVES");
    for (server, sql) in writes {
        network.servers[*server].run(sql).unwrap();
    }
    network.servers.iter().for_each(|server| links::mariadb_start_all(server).unwrap());
}

/// A mesh whose logs the account may read.
fn mesh() -> Network {
    let network = Network::mariadb_mesh();
    grant(&network);
    network
}

fn grant(network: &Network) {
    for server in &network.servers {
        server
            .run("SET SESSION sql_log_bin = 0;\nGRANT REPLICATION SLAVE ON *.* TO 'keen'@'%'")
            .unwrap();
    }
}

/// Waits until a query has the same answer on every server.
fn until_all_say(network: &Network, sql: &str, answer: &str) {
    let began = std::time::Instant::now();
    let said = |server: &keen_testkit::Server| -> Option<String> {
        server.mariadb().unwrap().query_first(sql).unwrap()
    };
    while !network.servers.iter().all(|server| said(server).as_deref() == Some(answer)) {
        assert!(began.elapsed() < PATIENCE, "{sql} is not {answer}");
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
}

fn settle(network: &Network) {
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
}

#[test]
fn races_are_found_with_their_kind_and_what_came_of_them() {
    let network = mesh();
    let quiet = network.conflicts(&[]);
    assert_eq!(quiet.code, 0, "{quiet:?}");
    assert_eq!(quiet.conflicts().len(), 0);

    // The values end swapped, while every status is healthy.
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
    assert_eq!(found["proven"], true);
    assert_eq!(found["standing"], "settled apart");
    assert_eq!(found["rows"][0]["now"]["a"]["row"]["beds"], 5);
    assert_eq!(found["rows"][0]["now"]["b"]["row"]["beds"], 3);
    assert_eq!(found["won_by"], serde_json::json!(["last-come"]));
    let writes = found["writes"].as_array().unwrap();
    assert_eq!((&writes[0]["node"], &writes[1]["node"]), (&"a".into(), &"b".into()));
    assert_eq!(writes[0]["transaction"].as_str().unwrap().split('-').next(), Some("1"));

    // A write that had seen both sides heals it.
    network.servers[2].run("UPDATE stay SET beds = 8 WHERE id = 2").unwrap();
    settle(&network);
    let run = network.conflicts(&[]);
    assert_eq!(run.code, 0, "{run:?}");
    let found = one(&run, "update-update");
    assert_eq!(found["standing"], "healed");
    assert_eq!(found["writes_lost"], 0);

    // Different columns: each side's whole row replaces the other's.
    apart(
        &network,
        &[
            (0, "UPDATE guest SET name = 'Aina' WHERE id = 1"),
            (1, "UPDATE guest SET member = false WHERE id = 1"),
        ],
    );
    settle(&network);
    let run = network.conflicts(&["--kind", "other-columns"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert_eq!(one(&run, "other-columns")["standing"], "settled apart");

    // Nothing was written since: nothing is read but the last transaction, and nothing is new.
    let run = network.conflicts(&[]);

    for node in run.json()["nodes"].as_array().unwrap() {
        assert_eq!(node["transactions"], 0, "{node}");
        assert!(node["transactions_before"].as_u64().unwrap() > 3, "{node}");
    }
    assert_eq!(run.conflicts().len(), 2);
    assert!(run.conflicts().iter().all(|conflict| conflict["new"] == false));
    let run = network.conflicts(&["--new"]);
    assert_eq!((run.code, run.conflicts().len()), (0, 0), "{run:?}");

    // A new file is gone over to; a log that was purged in between is read from its new beginning.
    network.servers[0].run("FLUSH BINARY LOGS").unwrap();
    apart(
        &network,
        &[
            (0, "UPDATE stay SET beds = 3 WHERE id = 1"),
            (1, "UPDATE stay SET beds = 5 WHERE id = 1"),
        ],
    );
    settle(&network);
    let run = network.conflicts(&["--new"]);
    assert!(run.json()["went_on_from"].is_string(), "{run:?}");
    assert_eq!(run.conflicts().len(), 1, "{run:?}");
    assert_eq!(one(&run, "update-update")["of"]["row"]["id"], 1);
    purge(&network.servers[..1]);
    let run = network.conflicts(&[]);
    assert!(run.json()["went_on_from"].is_null(), "{run:?}");
}

#[test]
fn ordered_writes_are_no_conflict() {
    let network = mesh();
    for round in 0..12 {
        let server = &network.servers[round % 3];
        server.run(&format!("UPDATE stay SET beds = {round} WHERE id = 2")).unwrap();
        settle(&network);
    }
    let run = network.conflicts(&[]);
    assert_eq!(run.code, 0, "{run:?}");
    assert_eq!(run.conflicts().len(), 0, "{run:?}");
    assert_eq!(run.json()["complete"], true);
}

#[test]
fn inserts_and_deletes_that_race() {
    let network = mesh();
    // A delete that meets an updated row applies silently; the update then finds no row.
    network
        .servers
        .iter()
        .for_each(|server| server.run("SET GLOBAL slave_exec_mode = IDEMPOTENT").unwrap());
    apart(
        &network,
        &[
            (0, "DELETE FROM stay WHERE id = 3"),
            (1, "UPDATE stay SET beds = 9 WHERE id = 3"),
            (1, "INSERT INTO guest VALUES (700, 'Elva', true)"),
        ],
    );
    until_all_say(
        &network,
        "SELECT (SELECT count(*) FROM stay WHERE id = 3) * 10 + (SELECT count(*) FROM guest WHERE id = 700)",
        "1",
    );
    let run = network.conflicts(&[]);
    let found = one(&run, "update-delete");
    assert_eq!(found["of"]["row"]["id"], 3);
    assert_eq!(found["proven"], true);
    assert_eq!(found["standing"], "settled alike");
    assert_eq!(found["writes_lost"], 1);
    let lost = found["writes"].as_array().unwrap().iter().find(|w| w["fate"] == "lost").unwrap();
    assert_eq!((&lost["node"], &lost["after"]["beds"]), (&"b".into(), &9.into()));

    apart(
        &network,
        &[
            (0, "INSERT INTO guest VALUES (900, 'Bero', true)"),
            (1, "INSERT INTO guest VALUES (900, 'Cilia', false)"),
        ],
    );
    until_all_say(&network, "SELECT count(*) FROM guest WHERE id = 900", "1");
    std::thread::sleep(std::time::Duration::from_millis(500));
    let run = network.conflicts(&["--kind", "insert-insert"]);
    let found = one(&run, "insert-insert");
    assert_eq!(found["of"]["row"]["id"], 900);
    assert_eq!(found["proven"], true);
}

#[test]
fn clocks_that_are_wrong_change_nothing() {
    let network = mesh();
    apart(
        &network,
        &[
            (
                0,
                "SET SESSION timestamp = UNIX_TIMESTAMP() - 3600;\nUPDATE stay SET beds = 3 WHERE id = 2",
            ),
            (
                1,
                "SET SESSION timestamp = UNIX_TIMESTAMP() + 3600;\nUPDATE stay SET beds = 5 WHERE id = 2",
            ),
        ],
    );
    settle(&network);
    let run = network.conflicts(&[]);
    let found = one(&run, "update-update");
    assert_eq!((&found["proven"], &found["standing"]), (&true.into(), &"settled apart".into()));

    // One after the other, the later one by a clock that is an hour behind.
    network.servers[0].run("SET SESSION timestamp = UNIX_TIMESTAMP() + 3600;\nUPDATE stay SET beds = 6 WHERE id = 1").unwrap();
    settle(&network);
    network.servers[1].run("SET SESSION timestamp = UNIX_TIMESTAMP() - 3600;\nUPDATE stay SET beds = 7 WHERE id = 1").unwrap();
    settle(&network);
    let run = network.conflicts(&["--table", "stay", "--key", "1"]);
    assert_eq!(run.conflicts().len(), 0, "{run:?}");
}

#[test]
fn shapes_that_change_on_two_sides() {
    let network = mesh();
    apart(
        &network,
        &[
            (0, "ALTER TABLE stay ADD COLUMN dog INT"),
            (0, "INSERT INTO guest VALUES (800, 'Dario', true)"),
            (1, "UPDATE stay SET beds = 4 WHERE id = 1"),
            (1, "ALTER TABLE stay ADD COLUMN cat TEXT"),
        ],
    );
    settle(&network);
    let run = network.conflicts(&[]);
    let found = one(&run, "shape-shape");
    assert_eq!(found["table"], "stay");
    assert_eq!(found["standing"], "settled apart", "the columns came in two orders");
    let statements: Vec<&str> = found["writes"]
        .as_array()
        .unwrap()
        .iter()
        .map(|w| w["statement"].as_str().unwrap())
        .collect();
    assert_eq!(
        statements,
        ["ALTER TABLE stay ADD COLUMN dog INT", "ALTER TABLE stay ADD COLUMN cat TEXT"]
    );
    assert_eq!(found["breaks"], serde_json::json!([{"from": "b", "to": "a", "rows": 1}]));
}

#[test]
fn a_journal_that_cannot_be_read_costs_its_proofs_and_no_more() {
    let network = mesh();
    apart(
        &network,
        &[
            (0, "UPDATE stay SET beds = 3 WHERE id = 2"),
            (1, "UPDATE stay SET beds = 5 WHERE id = 2"),
            (1, "UPDATE stay SET beds = 5 WHERE id = 1"),
            (2, "UPDATE stay SET beds = 6 WHERE id = 1"),
        ],
    );
    settle(&network);
    assert_eq!(network.conflicts(&[]).conflicts().len(), 2);

    // Without the right to read logs.
    network.servers[0]
        .run("SET SESSION sql_log_bin = 0;\nREVOKE REPLICATION SLAVE ON *.* FROM 'keen'@'%'")
        .unwrap();
    let run = network.conflicts(&["--no-ledger"]);
    assert_eq!(run.code, 1, "{run:?}");
    let json = run.json();
    assert_eq!(json["complete"], false);
    let fault = crate::common::told(&json["nodes"][0]["fault"]);
    assert!(fault.contains("keen conflicts --ddl"), "{fault}");
    assert!(network.keen(&["conflicts", "--ddl"]).out.contains("GRANT REPLICATION SLAVE"));
    let of = |id: i64| {
        let found = run.conflicts().into_iter().find(|c| c["of"]["row"]["id"] == id);
        found.unwrap_or_else(|| panic!("no conflict of {id}: {run:?}"))
    };
    assert_eq!(of(1)["proven"], true, "b and c tell that by themselves");
    assert_eq!(of(2)["proven"], false);
    assert_eq!(of(2)["doubt"], serde_json::json!({"why": "journal_not_read", "node": "a"}));
    // What an earlier run proved stays proven.
    let kept = network.conflicts(&[]);
    let second = kept.conflicts().into_iter().find(|c| c["of"]["row"]["id"] == 2).unwrap();
    assert_eq!((&second["proven"], &second["doubt"]), (&true.into(), &serde_json::Value::Null));
    assert_eq!(second["proven_before"]["conflict"]["writes"][0]["proven"], true, "{second:#}");
    network.servers[0]
        .run("SET SESSION sql_log_bin = 0;\nGRANT REPLICATION SLAVE ON *.* TO 'keen'@'%'")
        .unwrap();

    // A log that no longer reaches back tells by its list of what came before; a write is still in the others'.
    let began = std::time::Instant::now();
    loop {
        // A file that a replica still reads is kept.
        network.servers[0].run("FLUSH BINARY LOGS").unwrap();
        let mut client = network.servers[0].mariadb().unwrap();
        let files: Vec<mysql::Row> = client.query("SHOW BINARY LOGS").unwrap();
        let last: String = files.last().unwrap().get(0).unwrap();
        network.servers[0].run(&format!("PURGE BINARY LOGS TO '{last}'")).unwrap();
        let files: Vec<mysql::Row> = client.query("SHOW BINARY LOGS").unwrap();
        if files.len() == 1 {
            break;
        }
        assert!(began.elapsed() < PATIENCE, "the log is not purged");
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    let run = network.conflicts(&["--no-ledger"]);
    let of = |id: i64| run.conflicts().into_iter().find(|c| c["of"]["row"]["id"] == id);
    assert_eq!(of(1).unwrap()["proven"], true);
    assert_eq!(of(2).unwrap()["proven"], false, "{run:?}");
    assert_eq!(
        of(2).unwrap()["doubt"],
        serde_json::json!({"why": "journal_too_short", "node": "a"})
    );
}

/// Purges all logs but those that are written.
fn purge(servers: &[Server]) {
    for server in servers {
        server.run("FLUSH BINARY LOGS").unwrap();
        // Replicas hold a file until they have read on.
        links::until(PATIENCE, "the log is not purged", || {
            let mut session = server.mariadb()?;
            let logs: Vec<mysql::Row> = session.query("SHOW BINARY LOGS")?;
            let last: String = logs.last().unwrap().get(0).unwrap();
            session.query_drop(format!("PURGE BINARY LOGS TO '{last}'"))?;
            Ok(logs.len() == 1)
        })
        .unwrap();
    }
}

#[test]
fn what_was_proven_stays_proven_when_logs_are_purged() {
    let network = mesh();
    // What changes nothing where it arrives stands in no log there: no value comes twice.
    let both = |row: u32, beds: u32| {
        apart(
            &network,
            &[
                (0, &format!("UPDATE stay SET beds = {beds} WHERE id = {row}")),
                (1, &format!("UPDATE stay SET beds = {} WHERE id = {row}", beds + 1)),
            ],
        );
        settle(&network);
    };
    both(1, 11);
    both(2, 11);
    let first = network.conflicts(&[]);
    let of = |run: &crate::common::Run, row: i64| {
        let found = run.conflicts();
        found.into_iter().find(|c| c["of"]["row"]["id"] == row).unwrap_or_default()
    };
    assert_eq!((&of(&first, 1)["proven"], &of(&first, 2)["proven"]), (&true.into(), &true.into()));
    let accepted = of(&first, 1)["id"].as_str().unwrap().to_owned();
    let run = network.keen(&["conflicts", "--accept", &accepted, "--because", "seen to"]);
    assert_eq!(run.code, 0, "{run:?}");
    purge(&network.servers);
    // Nothing of it stands in a log; the second row is raced for once more.
    both(2, 21);
    let run = network.conflicts(&["--whole"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert_eq!(of(&run, 1), serde_json::Value::Null);
    let before = run.json()["proven_before"].clone();
    let of_before = |row: i64| {
        let found =
            before.as_array().unwrap().iter().find(|p| p["conflict"]["of"]["row"]["id"] == row);
        found.unwrap_or_else(|| panic!("{run:?}")).clone()
    };
    for (row, is_accepted) in [(1, true), (2, false)] {
        let (then, now) = (of(&first, row), of_before(row));
        assert_eq!(now["conflict"]["writes"], then["writes"]);
        assert_eq!(now["conflict"]["proven"], true);
        assert_eq!((&now["id"], &now["accepted"]), (&then["id"], &is_accepted.into()));
    }
    assert_eq!(of(&run, 2)["proven"], true);
    assert_ne!(of(&run, 2)["id"], of(&first, 2)["id"]);
    let text = network.keen(&["conflicts", "--whole"]).out;
    assert!(text.contains("2 conflicts that earlier runs proved"), "{text}");
    assert!(text.contains("Neither a nor b had seen the other's."), "{text}");
    println!("{text}");
    // Without what the ledger keeps nobody says more than the logs do.
    let bare = network.conflicts(&["--whole", "--no-ledger"]);
    assert_eq!(bare.json()["proven_before"], serde_json::json!([]));
}

#[test]
fn no_replica_is_thrown_out_and_nothing_is_written() {
    let network = mesh();
    let states = || {
        let mut states = Vec::new();
        for server in &network.servers {
            let rows: Vec<mysql::Row> =
                server.mariadb().unwrap().query("SHOW ALL SLAVES STATUS").unwrap();
            for row in rows {
                let text = |name: &str| row.get::<Option<String>, _>(name).unwrap();
                states.push((text("Slave_IO_Running"), text("Last_IO_Error")));
            }
        }
        states
    };
    let before = states();
    for _ in 0..3 {
        assert_eq!(network.conflicts(&[]).code, 0);
    }
    assert_eq!(states(), before);
    assert!(before.iter().all(|(io, _)| io.as_deref() == Some("Yes")));
    // Without the right to see who reads already, a number is not tried.
    let run = network.conflicts(&["--reader", "4711"]);
    assert_eq!(run.code, 3, "{run:?}");
    assert!(run.out.contains("grant the account REPLICATION MASTER ADMIN"), "{run:?}");
    for server in &network.servers {
        server
            .run(
                "SET SESSION sql_log_bin = 0;\nGRANT REPLICATION MASTER ADMIN ON *.* TO 'keen'@'%'",
            )
            .unwrap();
    }
    // A number that a replica has is refused, and so is the server's own.
    for taken in ["2", "1"] {
        let run = network.conflicts(&["--reader", taken]);
        assert_eq!(run.code, 3, "{run:?}");
        let json = run.json();
        let fault = crate::common::told(&json["nodes"][0]["fault"]);
        assert!(fault.contains(&format!("reader number {taken} is taken")), "{fault}");
    }
    assert_eq!(network.conflicts(&["--reader", "4711"]).code, 0);
    assert_eq!(states(), before);
    assert_eq!(network.servers[0].engine(), ServerKind::MariaDb);
}

#[test]
fn a_unique_value_given_twice_and_a_child_without_its_parent() {
    let network = mesh();
    network.servers[0]
        .run("ALTER TABLE guest ADD UNIQUE (name);\nALTER TABLE stay ADD FOREIGN KEY (guest_id) REFERENCES guest (id);\nINSERT INTO guest VALUES (50, 'Fenn', true)")
        .unwrap();
    settle(&network);
    network
        .servers
        .iter()
        .for_each(|server| server.run("SET GLOBAL slave_exec_mode = IDEMPOTENT").unwrap());
    apart(
        &network,
        &[
            (0, "INSERT INTO guest VALUES (901, 'Gisla', true)"),
            (1, "INSERT INTO guest VALUES (902, 'Gisla', true)"),
        ],
    );
    // Each replaces the other's row by its own, so that each server has the other's guest.
    let began = std::time::Instant::now();
    let found = loop {
        let run = network.conflicts(&["--kind", "unique-value"]);
        let found = one(&run, "unique-value");
        if found["standing"] != "in flight" || began.elapsed() > PATIENCE {
            break found;
        }
        std::thread::sleep(std::time::Duration::from_millis(100));
    };
    assert_eq!(found["of"]["unique"]["name"], "Gisla");
    assert_eq!((&found["proven"], &found["standing"]), (&true.into(), &"settled apart".into()));
    assert_eq!(found["rows"].as_array().unwrap().len(), 2);

    apart(
        &network,
        &[
            (0, "DELETE FROM guest WHERE id = 50"),
            (1, "INSERT INTO stay VALUES (77, 50, 'Col Bivouac', 1, 12.5, '2026-09-01', NULL)"),
        ],
    );
    let run = network.conflicts(&["--kind", "parent-gone"]);
    let found = one(&run, "parent-gone");
    assert_eq!((&found["of"]["row"]["id"], &found["proven"]), (&50.into(), &true.into()));
    let deeds: Vec<&str> =
        found["writes"].as_array().unwrap().iter().map(|w| w["op"].as_str().unwrap()).collect();
    assert_eq!(deeds, ["delete", "refer"]);
}

/// The transactions in a server's log, in its order, as the server itself lists them.
fn logged(server: &Server) -> Vec<String> {
    let mut session = server.mariadb().unwrap();
    let files: Vec<mysql::Row> = session.query("SHOW BINARY LOGS").unwrap();
    let mut all = Vec::new();
    for file in files {
        let file: String = file.get(0).unwrap();
        let events: Vec<mysql::Row> =
            session.query(format!("SHOW BINLOG EVENTS IN '{file}'")).unwrap();
        let begun = events.iter().filter(|event| event.get::<String, _>(2).unwrap() == "Gtid");
        all.extend(begun.map(|event| {
            event.get::<String, _>(5).unwrap().rsplit(' ').next().unwrap().to_owned()
        }));
    }
    all
}

/// By looking at every pair: which of the last transactions had not been applied where the other was made.
fn raced(network: &Network, before: &[String]) -> Vec<Vec<String>> {
    let logs: Vec<Vec<String>> = network.servers.iter().map(logged).collect();
    let all: Vec<&String> = logs[0].iter().filter(|id| !before.contains(id)).collect();
    let maker = |id: &str| -> usize { id.split('-').nth(1).unwrap().parse::<usize>().unwrap() - 1 };
    let comes_first = |log: &[String], one: &String, other: &String| {
        let at = |id: &String| log.iter().position(|of| of == id).unwrap();
        at(one) < at(other)
    };
    let mut chains: Vec<Vec<String>> = all.iter().map(|id| vec![(*id).clone()]).collect();
    for one in &all {
        for other in &all {
            if maker(one) != maker(other)
                && comes_first(&logs[maker(one)], one, other)
                && comes_first(&logs[maker(other)], other, one)
            {
                let of = |chains: &[Vec<String>], id: &String| {
                    chains.iter().position(|chain| chain.contains(id)).unwrap()
                };
                let (a, b) = (of(&chains, one), of(&chains, other));
                if a != b {
                    let joined = std::mem::take(&mut chains[b]);
                    chains[a].extend(joined);
                }
            }
        }
    }
    chains.retain(|chain| chain.len() > 1);
    chains.iter_mut().for_each(|chain| chain.sort());
    chains.sort();
    chains
}

#[test]
fn races_of_a_millisecond_are_told_from_writes_that_just_came_in_time() {
    let network = mesh();
    let before = logged(&network.servers[0]);
    // Whether the writes below race is luck; these do.
    apart(
        &network,
        &[
            (0, "UPDATE stay SET beds = 1001 WHERE id = 2"),
            (1, "UPDATE stay SET beds = 1002 WHERE id = 2"),
        ],
    );
    settle(&network);
    // From here on nothing is stopped; each server is written to as soon as the one before it has answered, or a little later.
    for round in 0..40_u64 {
        std::thread::scope(|scope| {
            for (i, server) in network.servers.iter().enumerate() {
                scope.spawn(move || {
                    let mut session = server.mariadb().unwrap();
                    let wait = (i as u64 + round) % 3 * (round % 8) * 500;
                    std::thread::sleep(std::time::Duration::from_micros(wait));
                    session
                        .query_drop(format!(
                            "UPDATE stay SET beds = {} WHERE id = 2",
                            round * 3 + i as u64
                        ))
                        .unwrap();
                });
            }
        });
    }
    settle(&network);
    let raced = raced(&network, &before);
    assert!(!raced.is_empty(), "two writes that had not seen each other, and no race");
    let run = network.conflicts(&["--kind", "update-update"]);
    let mut found: Vec<Vec<String>> = (run.conflicts().iter())
        .map(|conflict| {
            assert_eq!(conflict["proven"], true, "{conflict}");
            let writes = conflict["writes"].as_array().unwrap().iter();
            let mut ids: Vec<String> =
                writes.map(|w| w["transaction"].as_str().unwrap().to_owned()).collect();
            ids.sort();
            ids
        })
        .collect();
    found.sort();
    assert_eq!(found, raced);
}

#[test]
fn runs_that_go_on_while_all_write_find_what_one_finds_in_the_end() {
    let network = mesh();
    let load: Vec<(&Server, String)> = (network.servers.iter())
        .map(|server| {
            let sql =
                "UPDATE stay SET beds = FLOOR(RAND() * 1000) WHERE id = 1 + FLOOR(RAND() * 2)";
            (server, sql.to_owned())
        })
        .collect();
    let keen = |args: &[&str]| network.keen(&[&["conflicts", "--format", "json"], args].concat());
    let mut went_on = 0;
    under_load(&load, || {
        for run in 0..6 {
            // Whether the load races is luck. These two do: no link carries until both are written.
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
fn counters_that_gave_out_one_number_twice() {
    let network = mesh();
    for server in &network.servers {
        server
            .run("SET SESSION sql_log_bin = 0;\nALTER TABLE guest MODIFY id bigint NOT NULL AUTO_INCREMENT;\nALTER TABLE guest AUTO_INCREMENT = 500;\nSET GLOBAL slave_exec_mode = IDEMPOTENT")
            .unwrap();
    }
    apart(
        &network,
        &[
            (0, "INSERT INTO guest (name, member) VALUES ('Bero', true)"),
            (1, "INSERT INTO guest (name, member) VALUES ('Cilia', false)"),
            (1, "INSERT INTO stay VALUES (78, 1, 'Col Bivouac', 1, 12.5, '2026-09-01', NULL)"),
        ],
    );
    until_all_say(&network, "SELECT count(*) FROM stay WHERE id = 78", "1");
    let run = network.conflicts(&["--kind", "insert-insert"]);
    let found = one(&run, "insert-insert");
    assert_eq!((&found["of"]["row"]["id"], &found["proven"]), (&500.into(), &true.into()));
    assert_eq!(found["counted_key"], true);
    let text = network.keen(&["conflicts", "--kind", "insert-insert"]).out;
    assert!(text.contains("both used the same number"), "{text}");
}

#[test]
fn a_log_without_what_arrived_proves_nothing() {
    let network = Network::mariadb_mesh_with(&["log_slave_updates = OFF"]);
    grant(&network);
    apart(
        &network,
        &[
            (0, "UPDATE stay SET beds = 3 WHERE id = 2"),
            (1, "UPDATE stay SET beds = 5 WHERE id = 2"),
        ],
    );
    until_all_say(&network, "SELECT beds IN (3, 5) FROM stay WHERE id = 2", "1");
    let run = network.conflicts(&[]);
    let found = one(&run, "update-update");
    assert_eq!((&found["of"]["row"]["id"], &found["proven"]), (&2.into(), &false.into()));
    assert!(found["doubt"]["why"] == "journal_too_short", "{found}");
    let notes = run.json()["nodes"][0]["notes"].to_string();
    assert!(notes.contains("log_slave_updates is off"), "{notes}");
}

#[test]
fn what_is_logged_as_a_statement_does_not_pass_for_nothing() {
    let network = mesh();
    network.servers[0]
        .run("SET SESSION binlog_format = STATEMENT;\nUPDATE stay SET beds = 3 WHERE id = 2")
        .unwrap();
    settle(&network);
    let run = network.conflicts(&[]);
    assert_eq!(run.code, 3, "{run:?}");
    let fault = crate::common::told(&run.json()["nodes"][0]["fault"]);
    assert!(
        fault.contains("1 write in the log") && fault.contains("binlog_format = ROW"),
        "{fault}"
    );
}

#[test]
fn emptying_a_table_is_a_write_of_every_row() {
    let network = mesh();
    apart(
        &network,
        &[
            (0, "TRUNCATE TABLE trail_notice"),
            (1, "INSERT INTO trail_notice VALUES (50, 'Cirque Hut', 'Ladder gone', 1, NULL)"),
        ],
    );
    network.replace("\"guest\", \"stay\"", "\"guest\", \"stay\", \"trail_notice\"");
    settle(&network);
    let run = network.conflicts(&[]);
    let found = one(&run, "update-delete");
    assert_eq!(
        (&found["of"]["row"]["id"], &found["proven"]),
        (&50.into(), &true.into()),
        "{found:#}"
    );
    assert_eq!(found["standing"], "settled apart", "{found:#}");
    let text = found["writes"].to_string();
    assert!(text.contains("TRUNCATE TABLE trail_notice"), "{found:#}");
    // Written after it had come, it is no conflict.
    network.servers[1]
        .run("INSERT INTO trail_notice VALUES (51, 'Cirque Hut', 'Ladder back', 1, NULL)")
        .unwrap();
    settle(&network);
    assert_eq!(network.conflicts(&[]).conflicts().len(), 1);
}

#[test]
fn what_goes_with_its_parent_below_the_log_is_told() {
    let network = mesh();
    network.servers[0]
        .run("ALTER TABLE stay ADD CONSTRAINT of_guest FOREIGN KEY (guest_id) REFERENCES guest (id) ON DELETE CASCADE")
        .unwrap();
    settle(&network);
    let run = network.keen(&["conflicts"]);
    assert!(!run.out.contains("No conflicts. Every write had seen"), "{}", run.out);
    assert!(
        run.out.contains("rows of stay also change together with those they refer to"),
        "{}",
        run.out
    );
    apart(
        &network,
        &[(0, "DELETE FROM guest WHERE id = 3"), (1, "UPDATE stay SET beds = 9 WHERE id = 3")],
    );
    // The row is gone at a, and nothing in its log says so.
    let run = network.conflicts(&[]);
    let found = one(&run, "parent-gone");
    assert_eq!(found["of"]["row"]["id"], 3, "{found:#}");
}

#[test]
fn what_no_journal_wrote_is_named_as_such() {
    let network = mesh();
    network.servers[0].run("UPDATE stay SET beds = 3 WHERE id = 2").unwrap();
    settle(&network);
    let life = || network.keen(&["conflicts", "--table", "stay", "--key", "2", "--no-ledger"]);
    let run = life();
    assert_eq!(run.code, 0, "{run:?}");
    assert!(!run.out.contains("past the log"), "{}", run.out);
    network.servers[1]
        .run("SET SESSION sql_log_bin = 0;\nUPDATE stay SET price = 7066.51 WHERE id = 2")
        .unwrap();
    network.servers[2].run("SET SESSION sql_log_bin = 0;\nDELETE FROM stay WHERE id = 2").unwrap();
    let run = life();
    assert_eq!(run.code, 1, "{run:?}");
    for part in [
        "b holds price 7066.51, which no journal wrote",
        "c holds no such row, but no journal deleted it there",
        "2 nodes hold what no journal wrote",
    ] {
        assert!(run.out.contains(part), "{part:?} in {}", run.out);
    }
    assert!(!run.out.contains("Every write had seen"), "{}", run.out);
    let json =
        network.keen(&["conflicts", "--table", "stay", "--key", "2", "--format", "json"]).json();
    assert_eq!(
        json["past_the_log"],
        serde_json::json!([{"node": "b", "columns": ["price"]}, {"node": "c", "columns": []}])
    );
    let kept = network.keen(&["history"]).out;
    assert!(kept.contains("2 nodes hold what no journal wrote"), "{kept}");
    // A plan says so too, where it may read journals.
    let plan = network.keen(&["plan", "--conflicts", "--format", "json"]).json();
    let why = plan["questions"][0]["why"].as_str().unwrap().to_owned();
    for part in ["b holds price 7066.51, which no journal wrote", "c holds what no journal wrote"] {
        assert!(why.contains(part), "{part:?} in {why}");
    }
}

#[test]
fn what_an_applier_replaces_nobody_deleted() {
    let network = mesh();
    network.servers[0].run("ALTER TABLE guest ADD UNIQUE (name)").unwrap();
    settle(&network);
    for server in &network.servers {
        server.run("SET GLOBAL slave_exec_mode = IDEMPOTENT").unwrap();
    }
    apart(
        &network,
        &[
            (0, "INSERT INTO guest VALUES (801, 'Twin', true)"),
            (1, "INSERT INTO guest VALUES (802, 'Twin', false)"),
            (0, "INSERT INTO guest VALUES (900, 'Bero', true)"),
            (1, "INSERT INTO guest VALUES (900, 'Cilia', false)"),
        ],
    );
    settle(&network);
    // The applier's own log has a delete under the other's number.
    let mut client = network.servers[1].mariadb().unwrap();
    let files: Vec<mysql::Row> = client.query("SHOW BINARY LOGS").unwrap();
    let file: String = files.last().unwrap().get(0).unwrap();
    let events: Vec<mysql::Row> = client.query(format!("SHOW BINLOG EVENTS IN '{file}'")).unwrap();
    let kinds: Vec<String> = events.iter().map(|event| event.get(2).unwrap()).collect();
    assert!(kinds.iter().any(|kind| kind.starts_with("Delete_rows")), "{kinds:?}");
    let run = network.conflicts(&[]);
    assert_eq!(one(&run, "unique-value")["proven"], true);
    for conflict in run.conflicts() {
        let writes = conflict["writes"].as_array().unwrap();
        assert!(writes.iter().all(|write| write["op"] != "delete"), "{conflict:#}");
    }
}

#[test]
fn partial_images_say_which_columns_can_have_changed() {
    for image in ["MINIMAL", "NOBLOB"] {
        let network = mesh();
        for server in &network.servers {
            server.run(&format!("SET GLOBAL binlog_row_image = {image}")).unwrap();
        }
        apart(
            &network,
            &[
                (0, "UPDATE guest SET name = 'Aina' WHERE id = 1"),
                (1, "UPDATE guest SET member = false WHERE id = 1"),
                (0, "UPDATE stay SET beds = 8 WHERE id = 2"),
                (1, "UPDATE stay SET beds = 9, price = 7 WHERE id = 2"),
            ],
        );
        settle(&network);
        let run = network.conflicts(&[]);
        assert_eq!(one(&run, "other-columns")["of"]["row"]["id"], 1, "{image}");
        assert_eq!(one(&run, "update-update")["of"]["row"]["id"], 2, "{image}");
        let text = network.keen(&["conflicts", "--whole"]).out;
        assert!(!text.contains("which of these it changed"), "{text}");
        assert!(text.contains("beds"), "{text}");
    }
}

#[test]
fn counting_on_both_sides_loses_one() {
    let network = mesh();
    apart(
        &network,
        &[
            (0, "UPDATE stay SET beds = beds + 1 WHERE id = 2"),
            (1, "UPDATE stay SET beds = beds + 1 WHERE id = 2"),
            // The same text on both sides takes nothing from anybody.
            (0, "UPDATE guest SET name = 'Ida M.' WHERE id = 1"),
            (1, "UPDATE guest SET name = 'Ida M.' WHERE id = 1"),
        ],
    );
    until_all_say(&network, "SELECT beds FROM stay WHERE id = 2", "2");
    settle_applied(&network);
    let run = network.conflicts(&["--table", "stay"]);
    assert_eq!(run.code, 1, "{run:?}");
    let found = &run.conflicts()[0];
    assert_eq!(found["counted_alike"], serde_json::json!(["beds"]), "{found:#}");
    assert_eq!(found["harmless"], false);
    let text = network.keen(&["conflicts", "--whole"]).out;
    assert!(
        text.contains("if it is a counter (beds = beds + 1), one of the two is lost"),
        "{text}"
    );
    let run = network.conflicts(&["--table", "guest"]);
    assert_eq!(run.code, 0, "{:#}", run.json()["conflicts"]);
}

/// Waits until every server has applied what the others wrote: what changes nothing where it comes stands in no
/// log there.
fn settle_applied(network: &Network) {
    links::until(PATIENCE, "the servers do not catch up with each other", || {
        let mut positions = Vec::new();
        for server in &network.servers {
            let sql = "SELECT @@gtid_current_pos";
            let position: Option<String> = server.mariadb()?.query_first(sql)?;
            let position = position.unwrap_or_default();
            let mut parts: Vec<String> = position.split(',').map(str::to_owned).collect();
            parts.sort();
            positions.push(parts);
        }
        Ok(positions.windows(2).all(|pair| pair[0] == pair[1]))
    })
    .unwrap();
}
