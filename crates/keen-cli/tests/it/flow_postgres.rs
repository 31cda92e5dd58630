//! `keen flow` on real PostgreSQL servers: whole, and with each fault really caused.

use crate::common::flow::{link, node, states};
use crate::common::servers::{Network, PATIENCE, STAYS, under_load};
use keen_testkit::{Server, ServerKind, ServerLab, huts, links};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

const ONE_WAY: &str = "[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"stays\"]\n";
const BUSY: &str = "UPDATE stay SET beds = beds + 1 WHERE id = 1";

/// b subscribes to a's guests and stays.
fn one_way(engine: ServerKind, options: &str) -> Network {
    let lab = ServerLab::new().unwrap();
    let two = lab.start_all(&[("a", engine), ("b", engine)]).unwrap();
    two.iter().for_each(|server| huts::tables(server).unwrap());
    huts::rows(&two[0]).unwrap();
    links::publish(&two[0], "stays", "guest, stay").unwrap();
    links::subscribe(&two[1], &two[0], "from_a", "stays", options).unwrap();
    links::postgres_settled(&two, PATIENCE).unwrap();
    let network = Network::new(lab, two, &format!("{STAYS}{ONE_WAY}"));
    network.is_not_written_to("b");
    network
}

/// A primary and a standby that streams from it.
fn with_standby() -> Network {
    let lab = ServerLab::new().unwrap();
    let a = lab.start("a", ServerKind::Postgres15).unwrap();
    huts::tables(&a).unwrap();
    huts::rows(&a).unwrap();
    let b = lab.standby("b", &a, &["max_standby_streaming_delay = -1"]).unwrap();
    let network = Network::new(lab, vec![a, b], &format!("{STAYS}{ONE_WAY}"));
    network.is_not_written_to("b");
    network.until("idle a>b");
    network
}

/// A guest more, written at a.
fn write(network: &Network, id: u32) {
    let insert = format!("INSERT INTO guest VALUES ({id}, 'Guest {id}', true)");
    network.servers[0].run(&insert).unwrap();
}

fn number(server: &Server, sql: &str) -> i32 {
    server.postgres().unwrap().query_one(sql, &[]).unwrap().get(0)
}

/// Stops one process of a server where it is, until dropped.
struct Frozen(Pid);

impl Frozen {
    fn new(server: &Server, sql: &str) -> Self {
        let process = Pid::from_raw(number(server, sql));
        kill(process, Signal::SIGSTOP).unwrap();
        Self(process)
    }
}

impl Drop for Frozen {
    fn drop(&mut self) {
        kill(self.0, Signal::SIGCONT).unwrap();
    }
}

#[test]
fn quiet_links_are_idle_and_busy_ones_flow() {
    let peers = Network::postgres_peers();
    peers.until("idle a>b");
    let json = peers.until("idle b>a");
    assert_eq!(states(&json).len(), 2);
    assert_eq!(peers.flow().0, 0);
    let statements = node(&json, "a")["statements"].as_u64().unwrap();
    assert!((1..=7).contains(&statements), "{statements} statements");
    let load = [(&peers.servers[0], BUSY.to_owned())];
    let (code, json) = under_load(&load, || peers.slow_flow());
    assert_eq!(code, 0, "{json:#}");
    assert_eq!(states(&json), ["flowing a>b", "idle b>a"], "{json:#}");
    assert_eq!(node(&json, "a")["wrote"]["seen"], true);
    assert_eq!(node(&json, "a")["changed"]["stays"]["between_looks"], true);

    let one_way = one_way(ServerKind::Postgres15, "copy_data = true");
    one_way.until("idle a>b");
    let load = [(&one_way.servers[0], BUSY.to_owned())];
    let (code, json) = under_load(&load, || one_way.slow_flow());
    assert_eq!((code, states(&json)), (0, vec!["flowing a>b".to_owned()]), "{json:#}");
    let run = one_way.keen(&["flow", "b", "--interval", "1s", "--no-ledger"]);
    assert!(run.out.contains("subscription from_a") && !run.out.contains("worker"), "{}", run.out);
}

#[test]
fn what_fails_at_a_row_is_broken_and_what_is_disabled_is_paused() {
    let network = one_way(ServerKind::Postgres15, "copy_data = true");
    let b = &network.servers[1];
    b.run("ALTER SUBSCRIPTION from_a DISABLE").unwrap();
    write(&network, 100);
    let json = network.until("paused a>b");
    assert_eq!(link(&json, "a", "b")["reason"], "the subscription is disabled");
    assert_eq!(link(&json, "a", "b")["next"]["what"], "ALTER SUBSCRIPTION \"from_a\" ENABLE");
    assert!(link(&json, "a", "b")["behind"].as_u64().unwrap() > 0, "{json:#}");
    let next = link(&json, "a", "b")["next"]["what"].as_str().unwrap().to_owned();
    b.run(&next).unwrap();
    network.until("idle a>b");
    // The same key on both.
    b.run("INSERT INTO guest VALUES (101, 'Somebody else', false)").unwrap();
    write(&network, 101);
    let json = network.until("broken a>b");
    let found = link(&json, "a", "b");
    assert!(found["reason"].as_str().unwrap().starts_with("it failed "), "{found:#}");
    assert!(found["reason"].as_str().unwrap().contains("at the write after 0/"), "{found:#}");
    assert!(found["failures"].as_u64().unwrap() > 0);
    b.run("DELETE FROM guest WHERE id = 101").unwrap();
    network.until("idle a>b");
    // A column that is gone.
    b.run("ALTER TABLE guest DROP COLUMN member").unwrap();
    write(&network, 102);
    network.until("broken a>b");
    b.run("ALTER TABLE guest ADD COLUMN member boolean").unwrap();
    network.until("idle a>b");
    // By its own rule it gives up at the first error.
    b.run("ALTER SUBSCRIPTION from_a SET (disable_on_error = true)").unwrap();
    b.run("INSERT INTO guest VALUES (103, 'Somebody else', false)").unwrap();
    write(&network, 103);
    links::until(PATIENCE, "it does not switch itself off", || {
        Ok(number(b, "SELECT count(*)::int FROM pg_subscription WHERE NOT subenabled") == 1)
    })
    .unwrap();
    let json = network.until("broken a>b");
    let reason = link(&json, "a", "b")["reason"].as_str().unwrap();
    assert!(reason.starts_with("it disabled itself on an error"), "{reason}");
}

#[test]
fn a_receiver_that_does_not_reach_its_source_is_cut() {
    let network = one_way(ServerKind::Postgres15, "copy_data = true");
    let (a, b) = (&network.servers[0], &network.servers[1]);
    let connect = |password: &str| {
        let sql = format!(
            "ALTER SUBSCRIPTION from_a CONNECTION 'host=127.0.0.1 port={} dbname=huts user=carrier password={password}'",
            a.port()
        );
        b.run(&sql).unwrap();
    };
    a.run("ALTER ROLE carrier PASSWORD 'another'").unwrap();
    connect("wrong");
    write(&network, 100);
    let json = network.until("cut a>b");
    assert!(
        link(&json, "a", "b")["reason"]
            .as_str()
            .unwrap()
            .starts_with("no worker is connected to a")
    );
    assert_eq!(network.flow().0, 1);
    connect("another");
    network.until("idle a>b");
}

#[test]
fn an_applier_that_waits_or_stands_still_is_stalled() {
    let network = one_way(ServerKind::Postgres15, "copy_data = true");
    let (a, b) = (&network.servers[0], &network.servers[1]);
    let mut holder = b.postgres().unwrap();
    let session: i32 = holder.query_one("SELECT pg_backend_pid()", &[]).unwrap().get(0);
    holder.batch_execute("BEGIN; LOCK TABLE guest IN EXCLUSIVE MODE").unwrap();
    write(&network, 100);
    let json = network.until("stalled a>b");
    let found = link(&json, "a", "b");
    assert_eq!(found["waits_for"]["what"], "a table lock on guest", "{found:#}");
    assert_eq!(found["waits_for"]["holders"][0]["session"], session);
    let about = found["waits_for"]["holders"][0]["about"].as_str().unwrap();
    assert!(about.contains("idle in transaction"), "{about}");
    assert_eq!(
        found["next"]["what"],
        format!("let it finish, or: SELECT pg_terminate_backend({session})")
    );
    let (_, statement) = found["next"]["what"].as_str().unwrap().split_once("or: ").unwrap();
    b.run(statement).unwrap();
    network.until("idle a>b");
    let mut holder = b.postgres().unwrap();
    // A row.
    holder.batch_execute("BEGIN; UPDATE guest SET name = 'Held' WHERE id = 1").unwrap();
    a.run("UPDATE guest SET name = 'Wanted' WHERE id = 1").unwrap();
    let json = network.until("stalled a>b");
    assert_eq!(link(&json, "a", "b")["waits_for"]["what"], "a row of guest", "{json:#}");
    holder.batch_execute("ROLLBACK").unwrap();
    network.until("idle a>b");
    // The applier stands still: it was sent, and nobody confirms it.
    let applier = Frozen::new(
        b,
        "SELECT pid FROM pg_stat_subscription WHERE subname = 'from_a' AND relid IS NULL",
    );
    write(&network, 101);
    let json = network.until("stalled a>b");
    let reason = link(&json, "a", "b")["reason"].as_str().unwrap();
    assert!(reason.contains("nothing was applied"), "{reason}");
    drop(applier);
    network.until("idle a>b");
    // The sender stands still: it was not even sent.
    let sender = Frozen::new(a, "SELECT pid FROM pg_stat_replication LIMIT 1");
    write(&network, 102);
    let json = network.until("stalled a>b");
    let reason = link(&json, "a", "b")["reason"].as_str().unwrap();
    assert!(reason.contains("a has not sent it: its sender does not move"), "{reason}");
    drop(sender);
    network.until("idle a>b");
}

#[test]
fn frozen_and_dead_servers_are_dark() {
    let mut network = one_way(ServerKind::Postgres15, "copy_data = true");
    network.servers[1].freeze();
    let (code, json) = network.flow();
    network.servers[1].thaw();
    assert_eq!((code, states(&json)), (3, vec!["dark a>b".to_owned()]), "{json:#}");
    network.until("idle a>b");
    network.servers[0].freeze();
    let (code, json) = network.flow();
    network.servers[0].thaw();
    assert_eq!((code, states(&json)), (3, vec!["dark a>b".to_owned()]), "{json:#}");
    assert!(link(&json, "a", "b")["reason"].as_str().unwrap().starts_with("a: "), "{json:#}");
    network.until("idle a>b");
    network.servers[0].kill();
    let json = network.until("dark a>b");
    // What the receiver itself tells is passed on.
    assert_eq!(link(&json, "a", "b")["name"], "from_a");
    network.servers[0].start().unwrap();
    network.until("idle a>b");
    network.servers[1].kill();
    let (code, json) = network.flow();
    assert_eq!((code, states(&json)), (3, vec!["dark a>b".to_owned()]), "{json:#}");
}

#[test]
fn slots_that_nobody_reads_are_stray_and_logs_that_are_gone_break() {
    let network = one_way(ServerKind::Postgres15, "copy_data = true");
    let a = &network.servers[0];
    a.run("SELECT pg_create_logical_replication_slot('left over', 'pgoutput')").unwrap_err();
    a.run("SELECT pg_create_logical_replication_slot('left_over', 'pgoutput')").unwrap();
    let json = network.until("stray a>?");
    let stray = json["links"].as_array().unwrap().iter().find(|l| l["state"] == "stray").unwrap();
    assert!(
        stray["reason"].as_str().unwrap().starts_with("nobody reads slot left_over on a"),
        "{stray:#}"
    );
    assert!(
        stray["next"]["what"].as_str().unwrap().contains("pg_drop_replication_slot('left_over')")
    );
    a.run("SELECT pg_drop_replication_slot('left_over')").unwrap();
    network.until("idle a>b");
    assert_eq!(network.flow().0, 0);
    // The log that b needs goes while b does not read it.
    network.servers[1].run("ALTER SUBSCRIPTION from_a DISABLE").unwrap();
    network.until("paused a>b");
    a.run("ALTER SYSTEM SET max_slot_wal_keep_size = '1MB'").unwrap();
    a.run("SELECT pg_reload_conf()").unwrap();
    links::until(PATIENCE, "the log is not lost", || {
        a.run("SELECT pg_switch_wal()")?;
        a.run("CREATE TABLE IF NOT EXISTS fill (t text); INSERT INTO fill SELECT repeat('x', 1000) FROM generate_series(1, 5000)")?;
        a.run("CHECKPOINT")?;
        Ok(number(a, "SELECT count(*)::int FROM pg_replication_slots WHERE wal_status = 'lost'") == 1)
    })
    .unwrap();
    network.servers[1].run("ALTER SUBSCRIPTION from_a ENABLE").unwrap();
    let json = network.until("broken a>b");
    let found = link(&json, "a", "b");
    assert_eq!(found["reason"], "the log that slot from_a needs is gone from a");
    assert!(found["next"]["what"].as_str().unwrap().contains("keen preflight --join b --from a"));
    // And then the slot itself.
    a.run("SELECT pg_drop_replication_slot('from_a')").unwrap();
    let json = network.until("broken a>b");
    assert_eq!(link(&json, "a", "b")["reason"], "slot from_a no longer exists on a");
}

#[test]
fn tables_that_are_not_taken_or_were_never_copied_are_absent() {
    let network = one_way(ServerKind::Postgres15, "copy_data = true");
    network.replace("\"guest\", \"stay\"", "\"guest\", \"stay\", \"trail_notice\"");
    let (code, json) = network.flow();
    assert_eq!(
        (code, states(&json)),
        (1, vec!["idle a>b".to_owned(), "absent a>b trail_notice".to_owned()]),
        "{json:#}"
    );
    let (a, b) = (&network.servers[0], &network.servers[1]);
    a.run("ALTER PUBLICATION stays ADD TABLE trail_notice").unwrap();
    let json = network.until("absent a>b trail_notice");
    let absent = |json: &serde_json::Value| {
        let links = json["links"].as_array().unwrap();
        links.iter().find(|link| link["state"] == "absent").unwrap().clone()
    };
    assert_eq!(
        absent(&json)["reason"],
        "trail_notice is published but not subscribed to: none of its rows travel"
    );
    assert_eq!(
        absent(&json)["next"]["what"],
        "keen preflight --table trail_notice says what to run"
    );
    b.run("ALTER SUBSCRIPTION from_a REFRESH PUBLICATION WITH (copy_data = false)").unwrap();
    let json = network.until("absent a>b trail_notice");
    let reason = absent(&json)["reason"].as_str().unwrap().to_owned();
    assert_eq!(reason, "the rows that were in trail_notice before were never copied: b has none");
    // Copied by hand, it is whole.
    huts::tables(b).unwrap_err();
    b.run("INSERT INTO trail_notice SELECT id, 'h', 'b', 1, NULL FROM generate_series(1, 3) id")
        .unwrap();
    let json = network.until("idle a>b");
    links::until(PATIENCE, "the rows are not counted", || {
        Ok(states(&network.flow().1) == ["idle a>b"])
    })
    .unwrap_or_else(|e| panic!("{e}: {json:#}"));
    // Estimates forget after a crash or a reset; whether a table is empty is looked at.
    b.run("SELECT pg_stat_reset()").unwrap();
    a.run("SELECT pg_stat_reset()").unwrap();
    let (code, json) = network.slow_flow();
    assert_eq!((code, states(&json)), (0, vec!["idle a>b".to_owned()]), "{json:#}");
    // Rows on their way are no such case either.
    for server in [a, b] {
        server
            .run("CREATE TABLE fresh (id int PRIMARY KEY);\nGRANT SELECT ON fresh TO keen")
            .unwrap();
    }
    a.run("ALTER PUBLICATION stays ADD TABLE fresh").unwrap();
    b.run("ALTER SUBSCRIPTION from_a REFRESH PUBLICATION WITH (copy_data = false)").unwrap();
    network.replace("\"trail_notice\"", "\"trail_notice\", \"fresh\"");
    network.until("idle a>b");
    b.run("ALTER SUBSCRIPTION from_a DISABLE").unwrap();
    network.until("paused a>b");
    a.run("INSERT INTO fresh VALUES (1)").unwrap();
    let (_, json) = network.flow();
    assert_eq!(states(&json), ["paused a>b"], "{json:#}");
    let run = network.keen(&["preflight", "--format", "json"]);
    assert!(!run.out.contains("where there are none"), "{}", run.out);
    // Dropped altogether.
    b.run("DROP SUBSCRIPTION from_a").unwrap();
    let (code, json) = network.flow();
    assert_eq!((code, states(&json)), (1, vec!["absent a>b".to_owned()]), "{json:#}");
    assert_eq!(node(&json, "b")["role"], "detached subscriber: follows nobody");
}

#[test]
fn a_standby_is_told_from_one_that_was_promoted() {
    let mut network = with_standby();
    let json = network.flow().1;
    assert_eq!(node(&json, "b")["role"], "standby of a");
    let load = [(&network.servers[0], BUSY.to_owned())];
    let (code, json) = under_load(&load, || network.slow_flow());
    assert_eq!((code, states(&json)), (0, vec!["flowing a>b".to_owned()]), "{json:#}");
    // Replay is paused, then waits for a reader. The primary rested: the age of what was replayed last is not how
    // late it is.
    std::thread::sleep(std::time::Duration::from_secs(3));
    network.servers[1].run("SELECT pg_wal_replay_pause()").unwrap();
    let wrote = std::time::Instant::now();
    write(&network, 150);
    for _ in 0..3 {
        let (_, json) = network.flow();
        let late = link(&json, "a", "b")["late_seconds"].as_f64().unwrap_or(0.0);
        assert!(late <= wrote.elapsed().as_secs_f64(), "{json:#}");
    }
    let json = network.until("paused a>b");
    assert_eq!(link(&json, "a", "b")["reason"], "replay is paused");
    let next = link(&json, "a", "b")["next"]["what"].as_str().unwrap().to_owned();
    network.servers[1].run(&next).unwrap();
    network.until("idle a>b");
    let mut reader = network.servers[1].postgres().unwrap();
    reader.batch_execute("BEGIN ISOLATION LEVEL REPEATABLE READ; SELECT * FROM guest").unwrap();
    network.servers[0].run("LOCK TABLE guest; TRUNCATE guest CASCADE").unwrap();
    let json = network.until("stalled a>b");
    let found = link(&json, "a", "b");
    assert_eq!(found["waits_for"]["what"], "readers of what it is to remove or lock", "{found:#}");
    reader.batch_execute("ROLLBACK").unwrap();
    network.until("idle a>b");
    // Late on purpose.
    network.servers[1].restart_with(&["recovery_min_apply_delay = '1h'"]).unwrap();
    network.replace("carries = [\"stays\"]\n", "carries = [\"stays\"]\ndelay = \"1h\"\n");
    network.servers[0].run("INSERT INTO guest VALUES (200, 'Late', true)").unwrap();
    let json = network.until("flowing a>b");
    assert!(
        link(&json, "a", "b")["reason"].as_str().unwrap().contains("late on purpose"),
        "{json:#}"
    );
    network.servers[1].restart_with(&["recovery_min_apply_delay = '0'"]).unwrap();
    network.until("idle a>b");
    // The ledger remembers what it was.
    assert_eq!(network.keen(&["flow", "--interval", "1s"]).code, 0);
    network.servers[1].run_in("postgres", "SELECT pg_promote()").unwrap();
    let run = network.keen(&["flow", "--interval", "1s", "--format", "json"]);
    let json = run.json();
    assert_eq!((run.code, states(&json)), (1, vec!["absent a>b".to_owned()]), "{json:#}");
    assert_eq!(node(&json, "b")["role"], "promoted, was a standby");
    assert_eq!(link(&json, "a", "b")["reason"], "b was a standby and was promoted");
}

#[test]
fn subscriptions_of_pglogical_are_looked_at_too() {
    let network = Network::pglogical_peers(&[]);
    network.until("idle a>b");
    let json = network.until("idle b>a");
    assert_eq!(link(&json, "a", "b")["means"], "pglogical subscription");
    let load = [(&network.servers[0], BUSY.to_owned())];
    let (_, json) = under_load(&load, || network.slow_flow());
    assert_eq!(link(&json, "a", "b")["state"], "flowing", "{json:#}");
    // A lock, a switch, and a row that is there already.
    network.until("idle a>b");
    let mut holder = network.servers[1].postgres().unwrap();
    holder.batch_execute("BEGIN; LOCK TABLE guest IN EXCLUSIVE MODE").unwrap();
    write(&network, 100);
    let json = network.until("stalled a>b");
    assert_eq!(link(&json, "a", "b")["waits_for"]["what"], "a table lock on guest", "{json:#}");
    holder.batch_execute("ROLLBACK").unwrap();
    network.until("idle a>b");
    network.servers[1].run("SELECT pglogical.alter_subscription_disable('from_a', true)").unwrap();
    let json = network.until("paused a>b");
    let next = link(&json, "a", "b")["next"]["what"].as_str().unwrap();
    network.servers[1].run(next).unwrap();
    network.until("idle a>b");
    // And the audit goes by its fences.
    let run = network.keen(&["audit", "--no-ledger"]);
    assert_eq!(run.code, 0, "{run:?}");
}

#[test]
fn an_open_transaction_however_large_is_no_stall() {
    let network = one_way(ServerKind::Postgres15, "copy_data = true");
    network.until("idle a>b");
    // A row of b that nothing on its way will put right.
    network.servers[1].run("UPDATE stay SET beds = 99 WHERE id = 1").unwrap();
    let mut client = network.servers[0].postgres().unwrap();
    let mut open = client.transaction().unwrap();
    let load = |rows: u32| {
        format!(
            "INSERT INTO guest SELECT coalesce((SELECT max(id) FROM guest), 0) + n, repeat('Guest ', 40), true \
             FROM generate_series(1, {rows}) n"
        )
    };
    // After each the log ends elsewhere: mostly in the middle of a record, at the end of a page.
    for rows in [1, 40, 3_000, 7_001] {
        open.execute(&load(rows), &[]).unwrap();
        for _ in 0..2 {
            let (code, json) = network.flow();
            assert_eq!((code, states(&json)), (0, vec!["idle a>b".to_owned()]), "{rows}: {json:#}");
            assert_eq!(json["links"][0]["behind"], 0, "{rows}: {json:#}");
        }
        let run = network.keen(&["audit", "--no-ledger", "--format", "json"]);
        let summary = &run.json()["summary"];
        assert_eq!((run.code, &summary["divergent_rows"]), (1, &1.into()), "{rows}: {}", run.out);
    }
    // While it goes on.
    std::thread::scope(|scope| {
        let (stop, stopped) = std::sync::mpsc::channel::<()>();
        let writing = scope.spawn(move || {
            while stopped.try_recv() == Err(std::sync::mpsc::TryRecvError::Empty) {
                open.execute(&load(2_000), &[]).unwrap();
            }
            open.rollback().unwrap();
        });
        for _ in 0..8 {
            let (code, json) = network.flow();
            assert_eq!(code, 0, "{json:#}");
            let state = json["links"][0]["state"].as_str().unwrap();
            assert!(["idle", "flowing"].contains(&state), "{json:#}");
        }
        stop.send(()).unwrap();
        writing.join().unwrap();
    });
    network.until("idle a>b");
}

#[test]
fn a_commit_that_waits_for_no_disk_is_on_its_way_until_it_is_there() {
    let network = one_way(ServerKind::Postgres15, "copy_data = true");
    network.until("idle a>b");
    let a = &network.servers[0];
    a.run("ALTER SYSTEM SET wal_writer_delay = '2s'").unwrap();
    a.run("SELECT pg_reload_conf()").unwrap();
    let mut client = a.postgres().unwrap();
    client.batch_execute("SET synchronous_commit = off").unwrap();
    for id in 900..904_i64 {
        // It can be read at once, and is sent to nobody before it is on the disk.
        client.execute("INSERT INTO guest VALUES ($1, 'Just arrived', true)", &[&id]).unwrap();
        let run = network.keen(&["audit", "--no-ledger", "--format", "json"]);
        let json = run.json();
        assert_eq!((run.code, &json["summary"]["divergent_rows"]), (0, &0.into()), "{json:#}");
    }
}

#[test]
fn a_slot_that_was_made_anew_is_no_healthy_link() {
    let network = one_way(ServerKind::Postgres15, "copy_data = true");
    let [a, b] = &network.servers[..] else { unreachable!() };
    for id in 300..303 {
        a.run(&format!("INSERT INTO guest VALUES ({id}, 'Guest {id}', true)")).unwrap();
    }
    network.until("idle a>b");
    let look = || {
        let run = network.keen(&[
            "flow",
            "--interval",
            "2s",
            "--connect-timeout",
            "2s",
            "--format",
            "json",
        ]);
        (run.code, run.json())
    };
    assert_eq!(look().0, 0);
    let slot: String = {
        let sql = "SELECT subslotname::text FROM pg_subscription WHERE subname = 'from_a'";
        b.postgres().unwrap().query_one(sql, &[]).unwrap().get(0)
    };
    b.run("ALTER SUBSCRIPTION from_a DISABLE").unwrap();
    links::until(PATIENCE, "the slot stays in use", || {
        let sql = format!("SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE slot_name = '{slot}' AND NOT active");
        Ok(a.postgres()?.query(&sql, &[])?.len() == 1)
    })
    .unwrap();
    // Written in between, and never sent.
    a.run("INSERT INTO guest VALUES (400, 'Lost', true)").unwrap();
    a.run(&format!("SELECT pg_create_logical_replication_slot('{slot}', 'pgoutput')")).unwrap();
    b.run("ALTER SUBSCRIPTION from_a ENABLE").unwrap();
    network.until("idle a>b");
    let (code, json) = look();
    assert_eq!((code, states(&json)), (1, vec!["broken a>b".to_owned()]), "{json:#}");
    assert!(
        link(&json, "a", "b")["reason"].as_str().unwrap().contains("was created again between"),
        "{json:#}"
    );
    // Not only once.
    assert_eq!(look().0, 1);
    assert_eq!(network.keen(&["audit"]).code, 1);
    assert_eq!(look().0, 1);
    b.run("INSERT INTO guest VALUES (400, 'Lost', true)").unwrap();
    assert_eq!(network.keen(&["audit"]).code, 0);
    let (code, json) = look();
    assert_eq!((code, states(&json)), (0, vec!["idle a>b".to_owned()]), "{json:#}");
}

#[test]
fn a_standby_has_the_subscriptions_of_its_primary_and_follows_it_in_another_way() {
    let lab = ServerLab::new().unwrap();
    let x = lab.start("x", ServerKind::Postgres15).unwrap();
    let a = lab.start("a", ServerKind::Postgres15).unwrap();
    for server in [&x, &a] {
        huts::tables(server).unwrap();
        huts::rows(server).unwrap();
    }
    links::publish(&x, "notices", "trail_notice").unwrap();
    links::subscribe(&a, &x, "from_x", "notices", "copy_data = false").unwrap();
    let b = lab.standby("b", &a, &[]).unwrap();
    // Nodes are called a, b, c in the file: the publisher, the primary, its standby.
    let sets = "[set.stays]\ntables = [\"guest\", \"stay\"]\n[set.notices]\ntables = [\"trail_notice\"]\n\
                [[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"notices\"]\n\
                [[link]]\nfrom = \"b\"\nto = \"c\"\ncarries = [\"notices\", \"stays\"]\n";
    let network = Network::new(lab, vec![x, a, b], sets);
    network.is_not_written_to("c");
    let until = |wanted: &[&str]| {
        links::until(PATIENCE, "the links do not get there", || {
            let json = network.keen(&["flow", "--interval", "1s", "--format", "json"]).json();
            Ok(states(&json) == wanted)
        })
        .unwrap();
    };
    until(&["idle a>b", "idle b>c"]);
    // A standby cannot subscribe, whatever the file wants.
    network.replace("from = \"b\"\nto = \"c\"", "from = \"a\"\nto = \"c\"");
    let run = network.keen(&["preflight"]);
    assert!(!run.out.contains("CREATE SUBSCRIPTION"), "{run:?}");
    assert!(run.out.contains("a standby follows one server only, and cannot subscribe"), "{run:?}");
    network.replace("from = \"a\"\nto = \"c\"", "from = \"b\"\nto = \"c\"");
    assert_eq!(network.keen(&["flow", "--interval", "1s"]).code, 0);
    network.servers[2].run_in("postgres", "SELECT pg_promote()").unwrap();
    let json = network.keen(&["flow", "--interval", "1s", "--format", "json"]).json();
    let found = link(&json, "b", "c");
    assert_eq!(
        (&found["state"], &found["reason"]),
        (&"absent".into(), &"c was a standby and was promoted".into()),
        "{json:#}"
    );
    let run = network.keen(&["preflight"]);
    let told = "c receives through the slots of b, which it follows by the file";
    assert!(run.out.contains(told), "{run:?}");
}
