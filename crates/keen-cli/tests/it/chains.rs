//! Repairs at a node that passes on what it receives: what they write travels on to the next.

use crate::common::conflicts::slots;
use crate::common::servers::{Network, PATIENCE, STAYS, topology};
use keen_testkit::{Server, ServerKind, links};

/// From a to b to c, each passing on all that it has.
fn chain(engines: &[ServerKind]) -> Network {
    let network = Network::alike(engines);
    for (i, from) in network.servers.iter().take(2).enumerate() {
        links::publish(from, "onward", "guest, stay").unwrap();
        let name = format!("hop_{i}");
        links::subscribe(&network.servers[i + 1], from, &name, "onward", "copy_data = false")
            .unwrap();
    }
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    let links = "[authority]\ndefault = \"a\"\n[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"stays\"]\n\
                 [[link]]\nfrom = \"b\"\nto = \"c\"\ncarries = [\"stays\"]\n";
    let text = topology(&network.servers, &format!("{STAYS}{links}"));
    std::fs::write(network.folder.path("keen.toml"), text).unwrap();
    network.is_not_written_to("b");
    network.is_not_written_to("c");
    network
}

/// The rows as the server itself tells them.
fn rows(server: &Server) -> Vec<String> {
    let mut client = server.postgres().unwrap();
    let sql = "SELECT 'guest' || g::text FROM guest g UNION ALL SELECT 'stay' || s::text FROM stay s ORDER BY 1";
    client.query(sql, &[]).unwrap().iter().map(|row| row.get(0)).collect()
}

fn failures(server: &Server) -> i64 {
    let mut client = server.postgres().unwrap();
    let sql = "SELECT coalesce(sum(apply_error_count), 0)::int8 FROM pg_stat_subscription_stats";
    client.query_one(sql, &[]).unwrap().get(0)
}

#[test]
fn what_a_relay_passes_on_is_repaired_once() {
    let network = chain(&[ServerKind::Postgres15, ServerKind::Postgres15, ServerKind::Postgres18]);
    let [a, b, c] = &network.servers[..] else { unreachable!() };
    let settled = || links::postgres_settled(&network.servers, PATIENCE).unwrap();
    b.run("DELETE FROM stay WHERE id = 1").unwrap();
    b.run("UPDATE stay SET beds = beds + 3 WHERE id = 2").unwrap();
    b.run("INSERT INTO guest (id, name, member) VALUES (900, 'Nobody', false)").unwrap();
    settled();
    let before = rows(b);
    assert_eq!(before, rows(c));
    assert_ne!(before, rows(a));
    let plan = network.keen(&["plan", "--format", "json"]).json();
    let steps = plan["steps"].as_array().unwrap();
    assert!(steps.iter().all(|step| step["node"] == "b"), "{plan:#}");
    assert_eq!((steps.len(), plan["questions"].as_array().unwrap().len()), (3, 0), "{plan:#}");
    let text = network.keen(&["plan"]).out;
    assert!(text.contains("yes: c receives what is written here"), "{text}");
    assert!(text.contains("3 rows of c will be repaired by what the steps of b write"), "{text}");
    let run = network.keen(&["plan", "--format", "sql", "--output", "repair"]);
    assert_eq!(run.code, 1, "{run:?}");
    let run = network.run_script(1, "repair/b.repair.sql");
    assert_eq!(run.code, 0, "{run:?}");
    settled();
    assert_eq!(rows(b), rows(a));
    assert_eq!(rows(c), rows(a));
    assert_eq!(network.keen(&["audit"]).code, 0);
    assert_eq!([failures(b), failures(c)], [0, 0]);
    // The way back goes the same way.
    let run = network.run_script(1, "repair/b.undo.sql");
    assert_eq!(run.code, 0, "{run:?}");
    settled();
    assert_eq!(rows(b), before);
    assert_eq!(rows(c), before);
    assert_eq!([failures(b), failures(c)], [0, 0]);
}

#[test]
fn what_would_do_harm_further_on_is_asked() {
    let network = chain(&[ServerKind::Postgres18, ServerKind::Postgres18, ServerKind::Postgres18]);
    let [a, b, c] = &network.servers[..] else { unreachable!() };
    // Lost on the relay alone: put back there, it would come to c a second time and stop the link.
    b.run("DELETE FROM stay WHERE id = 1").unwrap();
    b.run("UPDATE stay SET beds = beds + 3 WHERE id = 2").unwrap();
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    c.run(
        "INSERT INTO stay VALUES (1, 1, 'Saddle Refuge', 2, 84.00, '2026-07-01', '2026-05-02 07:31:00')",
    )
    .unwrap();
    c.run("UPDATE stay SET beds = beds - 3 WHERE id = 2").unwrap();
    // Lost on the last alone: nobody gets it from there.
    c.run("DELETE FROM stay WHERE id = 3").unwrap();
    let plan = network.keen(&["plan", "--format", "json"]).json();
    let why: Vec<&str> = (plan["questions"].as_array().unwrap().iter())
        .map(|question| question["why"].as_str().unwrap())
        .collect();
    assert_eq!(why.len(), 2, "{plan:#}");
    assert!(why[0].contains("its link would stop there"), "{why:?}");
    assert!(why[1].contains("an undo would reach it, too"), "{why:?}");
    let steps = plan["steps"].as_array().unwrap();
    assert_eq!((steps.len(), &steps[0]["node"]), (1, &"c".into()), "{plan:#}");
    // Of a receiver that does not answer nothing is taken for granted.
    c.freeze();
    let plan = network
        .keen(&["plan", "--node", "a,b", "--connect-timeout", "2s", "--format", "json"])
        .json();
    c.thaw();
    assert_eq!(plan["steps"], serde_json::json!([]), "{plan:#}");
    assert_eq!(plan["questions"].as_array().unwrap().len(), 2, "{plan:#}");
    // What takes only the relay's own writes takes no repair.
    c.run("ALTER SUBSCRIPTION hop_1 SET (origin = none)").unwrap();
    let plan = network.keen(&["plan", "--format", "json"]).json();
    assert_eq!(plan["questions"].as_array().unwrap().len(), 0, "{plan:#}");
    let run = network.keen(&["plan", "--format", "sql", "--output", "repair"]);
    assert_eq!(run.code, 1, "{run:?}");
    for (i, node) in [(1, "b"), (2, "c")] {
        let run = network.run_script(i, &format!("repair/{node}.repair.sql"));
        assert_eq!(run.code, 0, "{run:?}");
    }
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    assert_eq!((rows(b), rows(c)), (rows(a), rows(a)));
    assert_eq!([failures(b), failures(c)], [0, 0]);
}

#[test]
fn repairs_are_known_in_journals_and_race_with_nobody() {
    let network = chain(&[ServerKind::Postgres18, ServerKind::Postgres18, ServerKind::Postgres18]);
    let [a, b, c] = &network.servers[..] else { unreachable!() };
    slots(&network);
    a.run("UPDATE stay SET beds = 2 WHERE id = 1").unwrap();
    settled_past(&network);
    b.run("UPDATE stay SET beds = 7 WHERE id = 1").unwrap();
    settled_past(&network);
    let run = network.keen(&["plan", "--format", "sql", "--output", "repair"]);
    assert_eq!(run.code, 1, "{run:?}");
    let run = network.run_script(1, "repair/b.repair.sql");
    assert_eq!(run.code, 0, "{run:?}");
    // By the server's own word it was written just now, under a name that stays.
    let sql = "SELECT w.timestamp > now() - interval '1 hour' AND o.roname = 'keen_repair' \
               FROM pg_replication_origin o, pg_last_committed_xact() l, \
               LATERAL pg_xact_commit_timestamp_origin(l.xid) w WHERE o.roident = w.roident";
    assert!(b.postgres().unwrap().query_one(sql, &[]).unwrap().get::<_, bool>(0));
    settled_past(&network);
    a.run("UPDATE stay SET beds = 4 WHERE id = 1").unwrap();
    settled_past(&network);
    assert_eq!((rows(b), rows(c)), (rows(a), rows(a)));
    let run = network.keen(&["conflicts"]);
    assert!(!run.out.contains("repair") && !run.out.contains("2000-01-01"), "{run:?}");
    let life = network.keen(&["conflicts", "--table", "stay", "--key", "1"]);
    assert!(life.out.contains("(a repair)") && !life.out.contains("2000-01-01"), "{life:?}");
}

/// Waits until the next has all that each has written; slots that are only peeked at never move.
fn settled_past(network: &Network) {
    for (i, from) in network.servers.iter().take(2).enumerate() {
        let mut client = from.postgres().unwrap();
        let mark: String =
            client.query_one("SELECT pg_current_wal_insert_lsn()::text", &[]).unwrap().get(0);
        let sql = format!(
            "SELECT count(*) FROM pg_replication_slots WHERE slot_name = 'hop_{i}' AND confirmed_flush_lsn >= '{mark}'"
        );
        links::until(PATIENCE, "the chain does not catch up", || {
            Ok(client.query_one(&sql, &[])?.get::<_, i64>(0) == 1)
        })
        .unwrap();
    }
}
