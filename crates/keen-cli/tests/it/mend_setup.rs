//! Settings, tables and links that a preflight finds wrong, planned and mended on real servers, and looked at by the
//! servers' own means.

use crate::common::Run;
use crate::common::mending::{MENDER, accounts, dump, keen};
use crate::common::servers::{Network, PATIENCE, under_load};
use keen_testkit::links;

/// What mending settings and links takes beside the rights for rows.
pub(crate) fn more_rights(network: &Network) {
    let user = MENDER.0;
    for server in &network.servers {
        let grants = if server.engine().is_postgres() {
            format!(
                "ALTER TABLE guest OWNER TO {user};\nALTER TABLE stay OWNER TO {user};\nALTER PUBLICATION peers OWNER TO {user};\n\
                 GRANT pg_create_subscription TO {user};\nGRANT CREATE ON DATABASE huts TO {user};\nGRANT ALTER SYSTEM ON PARAMETER max_slot_wal_keep_size, track_commit_timestamp TO {user};\n\
                 GRANT SELECT ON pg_file_settings TO {user};\n\
                 GRANT EXECUTE ON FUNCTION pg_show_all_file_settings(), pg_reload_conf() TO {user}"
            )
        } else {
            format!(
                "SET SESSION sql_log_bin = 0;\nGRANT ALTER ON huts.* TO {user}@'%';\nGRANT BINLOG ADMIN, REPLICATION SLAVE ADMIN, REPLICATION MASTER ADMIN, SLAVE MONITOR, SUPER ON *.* TO {user}@'%'"
            )
        };
        server.run(&grants).unwrap();
    }
}

pub(crate) fn plan(network: &Network, kinds: &str, file: &str) -> Run {
    let run = keen(network, &["plan", "--kind", kinds, "--save", file]);
    assert_eq!(run.code, 1, "{run:?}");
    run
}

fn mended(network: &Network, file: &str) -> serde_json::Value {
    let run = keen(network, &["mend", file, "--yes", "--format", "json"]);
    assert_eq!(run.code, 0, "{run:?}");
    run.json()
}

#[test]
fn settings_of_a_mariadb_mesh_are_mended_and_taken_back_while_all_write() {
    let network = Network::mariadb_mesh();
    accounts(&network);
    more_rights(&network);
    let wrong = "SET GLOBAL binlog_format = MIXED;\nSET GLOBAL binlog_row_image = MINIMAL;\n\
        SET GLOBAL slave_net_timeout = 3600;\nSET GLOBAL slave_exec_mode = IDEMPOTENT;\n\
        SET GLOBAL binlog_expire_logs_seconds = 3600;\nSTOP ALL SLAVES;\nSET GLOBAL gtid_ignore_duplicates = OFF";
    let a = &network.servers[0];
    a.run(wrong).unwrap();
    links::mariadb_start_all(a).unwrap();
    network.servers[1].run("SET GLOBAL foreign_key_checks = OFF").unwrap();
    let settings = |at: usize| {
        dump(
            &network.servers[at],
            "SELECT @@GLOBAL.binlog_format, @@GLOBAL.binlog_row_image, @@GLOBAL.slave_net_timeout, @@GLOBAL.slave_exec_mode, \
             @@GLOBAL.binlog_expire_logs_seconds, @@GLOBAL.gtid_ignore_duplicates, @@GLOBAL.foreign_key_checks",
        )
    };
    let (right, before) = (settings(2), [settings(0), settings(1)]);
    // The lab keeps its log for ever, keen would for ten days.
    let kept = right.replace("'STRICT', '0'", "'STRICT', '864000'");
    let right = [kept, right];
    assert_ne!(right[0], before[0]);
    let load: Vec<_> = network
        .servers
        .iter()
        .enumerate()
        .map(|(i, server)| {
            (server, format!("UPDATE stay SET price = price + 1 WHERE id = {}", 1 + i))
        })
        .collect();
    let run = under_load(&load, || {
        let run = plan(&network, "setting", "settings.plan");
        for line in [
            "1. setting on a: gtid_ignore_duplicates: OFF -> ON",
            "pauses link m1, which goes on after it",
            "setting on b: foreign_key_checks: OFF -> ON",
            "under [mariadbd] in the configuration file of b: foreign_key_checks = ON",
        ] {
            assert!(run.out.contains(line), "{line}: {}", run.out);
        }
        let tried = keen(&network, &["mend", "settings.plan", "--dry-run"]);
        assert_eq!(tried.code, 0, "{tried:?}");
        assert!(tried.out.contains("7 changes could be made"), "{tried:?}");
        assert_eq!(before, [settings(0), settings(1)]);
        keen(&network, &["mend", "settings.plan", "--yes"])
    });
    assert_eq!(run.code, 0, "{run:?}");
    assert!(run.out.contains("a preflight no longer finds what the plan mends"), "{run:?}");
    assert_eq!(right, [settings(0), settings(1)]);
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    // Again: nothing is left. And as if it had been killed right after the setting, with the links still off.
    let run = keen(&network, &["mend", "settings.plan", "--yes", "--format", "json"]);
    assert_eq!((run.code, &run.json()["nodes"][0]["changes"]["made_before"]), (0, &6.into()));
    let undo = network.folder.path("settings.plan.undo");
    let kept = std::fs::read_to_string(&undo).unwrap();
    let first = kept.find("\"state\":\"ready\"").unwrap();
    let cut = first + kept[first..].find('\n').unwrap() + 1;
    std::fs::write(&undo, &kept[..cut]).unwrap();
    network.servers[0].run("STOP ALL SLAVES").unwrap();
    let run = keen(&network, &["mend", "settings.plan", "--yes", "--format", "json"]);
    let changes = run.json()["nodes"][0]["changes"].clone();
    assert_eq!((&changes["made_before"], &changes["already"]), (&1.into(), &5.into()), "{run:?}");
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();

    std::fs::write(&undo, kept).unwrap();
    // What somebody else set meanwhile is theirs.
    network.servers[1].run("SET GLOBAL foreign_key_checks = OFF").unwrap();
    let run = keen(&network, &["mend", "--undo", "settings.plan.undo", "--yes"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert!(run.out.contains("6 changes taken back"), "{run:?}");
    assert_eq!(before, [settings(0), settings(1)]);
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    network.servers[0].run("SET GLOBAL binlog_format = STATEMENT").unwrap();
    let run = keen(&network, &["mend", "settings.plan", "--yes"]);
    assert_eq!(run.code, 1, "{run:?}");
    let left = "step 2, a binlog_format: binlog_format is STATEMENT, and the plan expects MIXED: plan again";
    assert!(run.out.contains(left), "{run:?}");
    let run = plan(&network, "setting", "again.plan");
    assert!(run.out.contains("setting on a: binlog_format: STATEMENT -> ROW"), "{}", run.out);
    mended(&network, "again.plan");
    assert_eq!(right, [settings(0), settings(1)]);
}

/// What a server says itself of its publications, subscriptions and tables.
fn catalogs(network: &Network, at: usize) -> String {
    let queries = [
        "SELECT pubname, tablename FROM pg_publication_tables ORDER BY 1, 2",
        "SELECT pubname, pubinsert, pubupdate, pubdelete, pubtruncate FROM pg_publication ORDER BY 1",
        "SELECT subname, subenabled, suborigin FROM pg_subscription ORDER BY 1",
        "SELECT srrelid::regclass FROM pg_subscription_rel ORDER BY srrelid::regclass::text",
        "SELECT relname, relreplident FROM pg_class WHERE relname IN ('guest', 'stay') ORDER BY 1",
        "SELECT name, setting FROM pg_file_settings WHERE sourcefile LIKE '%auto.conf' ORDER BY 1",
        "SELECT setconfig FROM pg_db_role_setting WHERE setrole = 0",
    ];
    queries.map(|sql| dump(&network.servers[at], sql)).join("\n")
}

#[test]
fn settings_and_links_of_postgresql_peers_are_mended_and_taken_back() {
    let mut network = Network::postgres_peers();
    network.servers[0].restart_with(&["track_commit_timestamp = off"]).unwrap();
    accounts(&network);
    more_rights(&network);
    let right = [catalogs(&network, 0), catalogs(&network, 1)];
    let [a, b] = [&network.servers[0], &network.servers[1]];
    b.run_in("postgres", "ALTER SYSTEM SET max_slot_wal_keep_size = '64MB'").unwrap();
    b.run("SELECT pg_reload_conf()").unwrap();
    // In the middle of everything: what a publishes and b takes, what b asks for, who may write where.
    a.run("ALTER PUBLICATION peers DROP TABLE stay").unwrap();
    b.run("ALTER SUBSCRIPTION from_0_to_1 REFRESH PUBLICATION").unwrap();
    b.run("ALTER SUBSCRIPTION from_0_to_1 DISABLE").unwrap();
    b.run("ALTER PUBLICATION peers SET (publish = 'insert, update')").unwrap();
    for (server, link) in [(a, "from_1_to_0"), (b, "from_0_to_1")] {
        server.run(&format!("ALTER SUBSCRIPTION {link} SET (origin = any)")).unwrap();
    }
    b.run("ALTER TABLE guest REPLICA IDENTITY NOTHING").unwrap();
    let wrong = [catalogs(&network, 0), catalogs(&network, 1)];
    let run = plan(&network, "setting,shape,link", "setup.plan");
    for line in [
        "setting on a: track_commit_timestamp, as the server keeps it: not there -> on",
        "3. shape on b: what names rows of public.guest: nothing -> full",
        "link on b: add public.stay in subscription from_0_to_1",
        "by hand: restart a",
        "then keen audit --table stay shows what still differs",
    ] {
        assert!(run.out.contains(line), "{line}: {}", run.out);
    }
    // Whoever does not own a subscription may not change it: the rest goes on, and the same plan later.
    let run = keen(&network, &["mend", "setup.plan", "--yes"]);
    assert_eq!(run.code, 1, "{run:?}");
    for line in [
        "must be owner of subscription from_0_to_1",
        "step 9, b public.stay in subscription from_0_to_1: ",
        "a, to do: restart a",
        "link-down: subscription from_0_to_1 on b, from a, is stopped",
    ] {
        assert!(run.out.contains(line), "{line}: {}", run.out);
    }
    for server in &network.servers {
        server.run(&format!("ALTER ROLE {} SUPERUSER", MENDER.0)).unwrap();
    }
    network.servers[0].restart_with(&[]).unwrap();
    let run = keen(&network, &["mend", "setup.plan", "--yes"]);
    assert_eq!(run.code, 0, "{run:?}");
    for line in ["a, done: restart a", "a preflight no longer finds what the plan mends"] {
        assert!(run.out.contains(line), "{line}: {}", run.out);
    }
    let now = [catalogs(&network, 0), catalogs(&network, 1)];
    let (setting, kinds) = ("(track_commit_timestamp,on)", "(peers,t,t,t,t)");
    assert_eq!(now[0], right[0].replace("(stay,d)\n\n", &format!("(stay,d)\n{setting}\n")));
    let as_mended = right[1].replace(kinds, "(peers,t,t,t,f)").replace("(guest,d)", "(guest,f)");
    let as_mended = as_mended.replace("(stay,d)\n\n", "(stay,d)\n(max_slot_wal_keep_size,20GB)\n");
    assert_eq!(now[1], as_mended);
    // What each writes arrives at the other, once.
    for (at, server) in network.servers.iter().enumerate() {
        let stay = format!("(90{at}, 1, 'Cirque Hut', 1, 10, '2026-07-09', NULL)");
        server
            .run(&format!(
                "INSERT INTO stay VALUES {stay}; DELETE FROM guest WHERE id = {}",
                2 + at
            ))
            .unwrap();
    }
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    for server in &network.servers {
        assert_eq!(dump(server, "SELECT count(*) FROM stay WHERE id >= 900"), "(2)");
        assert_eq!(dump(server, "SELECT id FROM guest ORDER BY id"), "(1)");
    }
    let run = keen(&network, &["mend", "--undo", "setup.plan.undo", "--yes"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert_eq!(wrong, [catalogs(&network, 0), catalogs(&network, 1)]);
}

/// A topology in which node a is right.
fn a_is_right(network: &Network) {
    network.replace("[[link]]", "[authority]\ndefault = \"a\"\n[[link]]");
}

#[test]
fn links_of_mariadb_that_stopped_at_rows_go_on_while_all_write() {
    let network = Network::mariadb_mesh();
    crate::common::conflicts::slots(&network);
    accounts(&network);
    more_rights(&network);
    a_is_right(&network);
    let [a, b, c] = &network.servers[..] else { unreachable!() };
    let past_the_log = |server: &keen_testkit::Server, sql: &str| {
        server.run(&format!("SET SESSION sql_log_bin = 0; {sql}")).unwrap();
    };
    // At b a row is in the way (1062); at c one is lacking (1032).
    past_the_log(b, "INSERT INTO guest VALUES (100, 'Somebody else', false)");
    past_the_log(c, "DELETE FROM stay WHERE id = 2");
    a.run(
        "INSERT INTO guest VALUES (100, 'Guest 100', true); UPDATE stay SET beds = 7 WHERE id = 2",
    )
    .unwrap();
    a.run("INSERT INTO guest VALUES (101, 'Guest 101', true)").unwrap();
    network.until("broken a>b");
    network.until("broken a>c");
    let load: Vec<_> = network
        .servers
        .iter()
        .enumerate()
        .map(|(i, server)| {
            (server, format!("UPDATE stay SET price = price + 1 WHERE id = {}", 1 + 2 * (i / 2)))
        })
        .collect();
    let run = under_load(&load[..1], || {
        let plan = keen(&network, &["plan", "--save", "links.plan", "--patience", "3s"]);
        assert_eq!(plan.code, 1, "{plan:?}");
        for line in [
            "link on b: link m0: on, but does not apply -> on",
            "wait until c has what a had written",
            "undo   none: the link would stop again",
        ] {
            assert!(plan.out.contains(line), "{line}: {}", plan.out);
        }
        let tried = keen(&network, &["mend", "links.plan", "--dry-run"]);
        assert_eq!(tried.code, 0, "{tried:?}");
        // Somebody made way at c already: the link goes on all the same.
        past_the_log(
            c,
            "INSERT INTO stay SELECT 2, 2, 'Cirque Hut', 1, 42.50, '2026-07-03', '2026-05-02 18:05:12.25'",
        );
        keen(&network, &["mend", "links.plan", "--yes", "--patience", "3s"])
    });
    assert_eq!(run.code, 0, "{run:?}");
    for line in ["b: 1 row written; 2 changes made", "loses of guest: the row (1 row)"] {
        assert!(format!("{}{}", run.out, run.err).contains(line), "{line}: {run:?}");
    }
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    for table in ["guest", "stay"] {
        let rows = |server| dump(server, &format!("SELECT * FROM {table} ORDER BY id"));
        assert!(network.servers.iter().all(|server| rows(server) == rows(a)), "{table}");
    }
    assert!(dump(b, "SELECT name FROM guest WHERE id = 100").contains("'Guest 100'"));
    // The row that was in the way is kept, and is not put back over the one that came.
    let undo = std::fs::read_to_string(network.folder.path("links.plan.undo")).unwrap();
    assert!(undo.contains("Somebody else"), "{undo}");
    let run = keen(&network, &["mend", "--undo", "links.plan.undo", "--yes"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert!(dump(b, "SELECT name FROM guest WHERE id = 100").contains("'Guest 100'"));

    // The other way on: b does without the transaction, and without no other.
    let run = keen(&network, &["plan", "--pass-over", "a:b", "--patience", "3s"]);
    assert_eq!((run.code, &run.out[..]), (2, ""), "{run:?}");
    assert!(run.err.contains("a -> b did not stop at a write"), "{run:?}");
    past_the_log(b, "INSERT INTO guest VALUES (200, 'Somebody else', false)");
    a.run("INSERT INTO guest VALUES (200, 'Guest 200', true)").unwrap();
    a.run("INSERT INTO guest VALUES (201, 'Guest 201', true)").unwrap();
    network.until("broken a>b");
    let run = under_load(&load[..1], || {
        let args = ["plan", "--pass-over", "a:b", "--save", "over.plan", "--patience", "3s"];
        let plan = keen(&network, &args);
        assert_eq!(plan.code, 1, "{plan:?}");
        for line in [
            "loses  insert into guest id 200, and whatever else",
            "none: nothing brings the transaction again",
        ] {
            assert!(plan.out.contains(line), "{line}: {}", plan.out);
        }
        assert!(!plan.out.contains("delete guest"), "{}", plan.out);
        keen(&network, &["mend", "over.plan", "--yes"])
    });
    assert_eq!(run.code, 0, "{run:?}");
    assert!(run.err.contains("loses: insert into guest id 200"), "{run:?}");
    links::mariadb_settled(&network.servers, PATIENCE).unwrap();
    let guests = |server| dump(server, "SELECT id, name FROM guest WHERE id >= 200");
    assert_eq!(guests(b), "('200', 'Somebody else')\n('201', 'Guest 201')\n");
    assert_eq!(guests(a), guests(c));
}

#[test]
fn subscriptions_that_stopped_at_rows_go_on() {
    let network = Network::postgres_peers();
    crate::common::conflicts::slots(&network);
    accounts(&network);
    more_rights(&network);
    a_is_right(&network);
    let [a, b] = &network.servers[..] else { unreachable!() };
    for server in [a, b] {
        server.run(&format!("ALTER ROLE {} SUPERUSER", MENDER.0)).unwrap();
    }
    b.run("ALTER SUBSCRIPTION from_0_to_1 SET (disable_on_error = true)").unwrap();
    let unsent = |sql: &str| {
        b.run(&format!(
            "SELECT pg_replication_origin_create('test') WHERE NOT EXISTS (SELECT 1 FROM pg_replication_origin WHERE roname = 'test');\n\
             SELECT pg_replication_origin_session_setup('test');\n{sql};\nSELECT pg_replication_origin_session_reset()"
        ))
        .unwrap();
    };
    let stopped = |id: u32| {
        unsent(&format!("INSERT INTO guest VALUES ({id}, 'Somebody else', false)"));
        a.run(&format!("INSERT INTO guest VALUES ({id}, 'Guest', true)")).unwrap();
        a.run(&format!("INSERT INTO guest VALUES ({}, 'Guest', true)", id + 1)).unwrap();
    };
    // One that is switched off at an error, and one that keeps trying.
    for (id, line) in [
        (100, "link on b: link from_0_to_1: off -> on"),
        (110, "wait until b has what a had written"),
    ] {
        stopped(id);
        network.until("broken a>b");
        let plan = keen(&network, &["plan", "--save", &format!("{id}.plan"), "--patience", "3s"]);
        assert_eq!(plan.code, 1, "{plan:?}");
        assert!(plan.out.contains(line), "{line}: {}", plan.out);
        let run = keen(&network, &["mend", &format!("{id}.plan"), "--yes", "--patience", "3s"]);
        assert_eq!(run.code, 0, "{run:?}");
        let guests = |server| dump(server, "SELECT * FROM guest ORDER BY id");
        assert_eq!(guests(a), guests(b));
        assert!(guests(b).contains(&format!("({},Guest,t)", id + 1)), "{}", guests(b));
        b.run("ALTER SUBSCRIPTION from_0_to_1 SET (disable_on_error = false)").unwrap();
    }
    // What is passed over is what was planned, or nothing: of a link that does not even try, no mark stays behind.
    stopped(140);
    network.until("broken a>b");
    let args = ["plan", "--pass-over", "a:b", "--save", "140.plan", "--patience", "3s"];
    assert_eq!(keen(&network, &args).code, 1);
    b.run("ALTER SUBSCRIPTION from_0_to_1 DISABLE").unwrap();
    let run = keen(&network, &["mend", "140.plan", "--yes"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert!(run.out.contains("it was made, and b does not hold it"), "{run:?}");
    let mark = "SELECT subskiplsn FROM pg_subscription";
    assert_eq!(dump(b, mark), "(0/0)");
    b.run("ALTER SUBSCRIPTION from_0_to_1 ENABLE").unwrap();
    network.until("broken a>b");
    let run = keen(&network, &["mend", "140.plan", "--yes"]);
    assert_eq!((run.code, dump(b, mark)), (0, "(0/0)".to_owned()), "{run:?}");
    // The other way on: b does without the transaction; once while it keeps trying, once switched off.
    for id in [150, 160] {
        stopped(id);
        network.until("broken a>b");
        let file = format!("{id}.plan");
        let args = ["plan", "--pass-over", "a:b", "--save", &file, "--patience", "3s"];
        let plan = keen(&network, &args);
        assert_eq!(plan.code, 1, "{plan:?}");
        assert!(plan.out.contains(&format!("loses  insert into guest id {id}")), "{}", plan.out);
        let run = keen(&network, &["mend", &file, "--yes"]);
        assert_eq!(run.code, 0, "{run:?}");
        let guests = dump(b, &format!("SELECT * FROM guest WHERE id >= {id} ORDER BY id"));
        assert_eq!(guests, format!("({id},\"Somebody else\",f)\n({},Guest,t)", id + 1));
        b.run("ALTER SUBSCRIPTION from_0_to_1 SET (disable_on_error = true)").unwrap();
    }
}
