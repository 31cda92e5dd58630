//! `keen plan --take-apart` and `keen mend`: links are taken apart on real servers, and what is left is looked at by the
//! servers' own means.

use crate::common::Run;
use crate::common::mending::{self, MENDER, accounts, dump, keen, while_all_write};
use crate::common::servers::{Network, PATIENCE};
use keen_testkit::{Server, ServerKind, links};

/// What taking links apart needs beside the rights for rows.
fn more_rights(network: &Network) {
    let user = MENDER.0;
    for server in &network.servers {
        let grants = if server.engine().is_postgres() {
            format!("ALTER ROLE {user} SUPERUSER")
        } else {
            format!(
                "SET SESSION sql_log_bin = 0;\nGRANT DROP ON huts.* TO {user}@'%';\n\
                 GRANT REPLICATION SLAVE ADMIN, SLAVE MONITOR, RELOAD ON *.* TO {user}@'%'"
            )
        };
        server.run(&grants).unwrap();
    }
}

fn mesh() -> Network {
    let network = Network::mariadb_mesh();
    accounts(&network);
    more_rights(&network);
    network
}

fn peers(count: usize) -> Network {
    let network = mending::peers(count);
    more_rights(&network);
    network
}

/// A plan in the file `apart.plan`, with these words in what is printed.
fn plan(network: &Network, args: &[&str], said: &[&str]) -> Run {
    let _ = std::fs::remove_file(network.folder.path("apart.plan.undo")); // of another plan
    let run = keen(network, &[&["plan", "--save", "apart.plan", "--take-apart"], args].concat());
    assert_eq!(run.code, 1, "{run:?}");
    for line in said {
        assert!(run.out.contains(line), "{line}: {}", run.out);
    }
    run
}

fn mend(network: &Network, args: &[&str], code: i32, said: &[&str]) -> Run {
    let run = keen(network, &[&["mend", "apart.plan"], args].concat());
    assert_eq!(run.code, code, "{run:?}");
    for line in said {
        assert!(run.out.contains(line) || run.err.contains(line), "{line}: {run:?}");
    }
    run
}

/// What a query finds, a line for each row, without what a row is printed in.
fn lines(server: &Server, sql: &str) -> Vec<String> {
    let plain = |line: &str| line.trim_matches(|c| "()'\"".contains(c)).to_owned();
    dump(server, sql).lines().map(plain).collect()
}

/// The connections of a MariaDB server, or the subscriptions of a PostgreSQL server.
fn followed(server: &Server) -> Vec<String> {
    use mysql::prelude::Queryable as _;
    if server.engine().is_postgres() {
        return lines(server, "SELECT subname FROM pg_subscription ORDER BY 1");
    }
    let rows: Vec<mysql::Row> = server.mariadb().unwrap().query("SHOW ALL SLAVES STATUS").unwrap();
    rows.iter().map(|row| row.get("Connection_name").unwrap()).collect()
}

fn slots(server: &Server) -> Vec<String> {
    lines(server, "SELECT slot_name FROM pg_replication_slots ORDER BY 1")
}

/// Subscriptions, publications, slots and origins of a PostgreSQL server.
fn traces(server: &Server) -> [Vec<String>; 4] {
    [
        followed(server),
        lines(server, "SELECT pubname FROM pg_publication ORDER BY 1"),
        slots(server),
        lines(server, "SELECT roname FROM pg_replication_origin ORDER BY 1"),
    ]
}

fn guest(server: &Server, id: u64) -> Vec<String> {
    lines(server, &format!("SELECT name FROM guest WHERE id = {id}"))
}

#[test]
fn a_node_of_a_mariadb_mesh_is_taken_out_while_the_others_write() {
    let network = mesh();
    let c = &network.servers[2];
    c.run("INSERT INTO guest VALUES (9001, 'Last of c', true)").unwrap();
    for server in &network.servers {
        let table = "SET SESSION sql_log_bin = 0;\nCREATE TABLE keen_mended (run varchar(40), batch int) ENGINE = InnoDB";
        server.run(table).unwrap();
    }
    let ((), taken) = while_all_write(&network.servers[..2], || {
        let said = [
            "wait until c has what a had written, at most 60 s",
            "link on c: take away link m0",
            "guard  server_id on a is 1",
            "link on b: take away link m2",
            "undo   none: it would have to be set up anew, from a copy of the tables",
            "by hand: take a -> c, b -> c, c -> a, c -> b out of the topology file",
            "note table keen_mended on c stays (--remove service-table takes it away)",
            "note stop first what writes to c:",
        ];
        plan(&network, &["c"], &said);
        let said = "shape on c: take away table keen_mended";
        let run = plan(&network, &["c", "--remove", "service-table"], &[said]);
        assert!(!run.out.contains("between nodes that stay"), "{run:?}");
        let before: Vec<Vec<String>> = network.servers.iter().map(followed).collect();
        mend(&network, &["--dry-run"], 0, &["5 changes could be made"]);
        assert_eq!(before, network.servers.iter().map(followed).collect::<Vec<_>>());
        // A run that was killed in the middle of a step: the connection is off, and still there.
        mend(&network, &["--step", "1..2", "--yes"], 0, &["Nothing of that can be taken back."]);
        let undo = network.folder.path("apart.plan.undo");
        let kept = std::fs::read_to_string(&undo).unwrap();
        let ready = kept.find("\"state\":\"ready\"").unwrap();
        let end = ready + kept[ready..].find('\n').unwrap() + 1;
        std::fs::write(&undo, &kept[..end]).unwrap();
        links::follow(c, &network.servers[0], "m0").unwrap();
        c.run("STOP SLAVE 'm0'").unwrap();
        let run = mend(&network, &["--yes"], 0, &["4 changes made", "c: 2 changes made"]);
        assert!(!run.out.contains("take back"), "{run:?}");
    });
    let left: Vec<Vec<String>> = network.servers.iter().map(followed).collect();
    assert_eq!(left, [vec!["m1"], vec!["m0"], vec![]]);
    links::mariadb_settled(&network.servers[..2], PATIENCE).unwrap();
    for server in &network.servers[..2] {
        assert_eq!(guest(server, 9001), ["Last of c"]);
        let there = lines(server, "SELECT count(*) FROM guest WHERE id >= 10000");
        assert_eq!(there, [taken.len().to_string()]);
        assert_eq!(lines(server, "SHOW TABLES LIKE 'keen%'"), ["keen_mended"]);
    }
    assert_eq!(lines(c, "SHOW TABLES LIKE 'keen%'"), [""; 0]);
    // What was asked of a person is all that is left to find.
    let absent = |run: &Run| run.out.contains("link-absent");
    assert!(absent(&network.keen(&["preflight"])));
    network.replace("mesh = [\"a\", \"b\", \"c\"]", "mesh = [\"a\", \"b\"]");
    let run = network.keen(&["preflight"]);
    assert!(!absent(&run) && !run.out.contains("link-stray"), "{run:?}");
}

#[test]
fn a_link_of_mariadb_whose_source_is_dead_takes_nothing_with_it_that_is_nowhere_else() {
    let mut network = mesh();
    // What b has fetched and not applied, and who knows where else it is.
    for receiver in &network.servers[1..] {
        receiver.run("STOP SLAVE 'm0' SQL_THREAD").unwrap();
    }
    network.servers[1].run("STOP SLAVE 'm2'").unwrap();
    network.servers[0].run("INSERT INTO guest VALUES (9001, 'Last of a', true)").unwrap();
    links::until(PATIENCE, "b does not fetch", || {
        let mut b = network.servers[1].mariadb()?;
        let row: mysql::Row =
            mysql::prelude::Queryable::query_first(&mut b, "SHOW SLAVE 'm0' STATUS")?.unwrap();
        let text = |name: &str| row.get::<Option<String>, _>(name).flatten();
        Ok(text("Read_Master_Log_Pos") != text("Exec_Master_Log_Pos"))
    })
    .unwrap();
    // While it is there, its rows are, too.
    let off = "what a wrote and b has not applied, as the link is stopped: it stays on a alone, and keen audit shows it";
    let guards = [
        "guard  what link m0 has fetched and not applied on b is 1-1-",
        "guard  having all of 1-1-",
    ];
    let run = plan(&network, &["a:b"], &[off, guards[0], guards[1]]);
    assert!(!run.out.contains("wait until"), "{run:?}");
    network.servers[0].kill();
    let away = "127.0.0.1";
    mend(&network, &["--yes"], 3, &["not to its end on b", away]);
    assert_eq!(followed(&network.servers[1]), ["m0", "m2"]);
    let lost = "what a wrote and had not sent to b: nobody can tell while a is away";
    let guard = "guard  what link m0 has fetched and not applied on b is not there";
    plan(&network, &["a:b"], &[lost, guard]);
    let why = "what link m0 has fetched and not applied is 1-1-";
    mend(&network, &["--yes"], 1, &[why, "keen plan --take-apart b/m0"]);
    assert_eq!(followed(&network.servers[1]), ["m0", "m2"]);
    network.servers[1].run("START SLAVE 'm0' SQL_THREAD").unwrap();
    links::until(PATIENCE, "b does not apply", || Ok(!guest(&network.servers[1], 9001).is_empty()))
        .unwrap();
    mend(&network, &["--yes"], 0, &["1 change made"]);
    assert_eq!(followed(&network.servers[1]), ["m2"]);
    let gone = keen(&network, &["plan", "--take-apart", "a:b"]);
    assert_eq!(gone.code, 2, "{gone:?}");
    assert!(gone.err.contains("b knows of no link from a"), "{gone:?}");
    let away = keen(&network, &["plan", "--take-apart", "c:a"]);
    assert!(
        away.err.contains("a could not be looked at, and its links are taken apart there"),
        "{away:?}"
    );
    // It comes back as it was before: what c has fetched of it is on c alone, for all that it says.
    network.servers[0].start().unwrap();
    let older = "STOP ALL SLAVES;\nRESET MASTER;\nSET GLOBAL gtid_slave_pos = ''";
    network.servers[0].run(older).unwrap();
    plan(&network, &["a:c"], &[guards[1]]);
    let why = "is not there, and the plan expects yes: plan again";
    mend(&network, &["--yes"], 1, &["having all of 1-1-", why]);
    assert!(followed(&network.servers[2]).contains(&"m0".to_owned()));
}

#[test]
fn a_peer_of_postgresql_is_taken_out_with_all_that_is_left() {
    let network = peers(3);
    let c = &network.servers[2];
    c.run("SELECT pg_replication_origin_create('keen_repair')").unwrap();
    c.run("INSERT INTO guest VALUES (9001, 'Last of c', true)").unwrap();
    let ((), taken) = while_all_write(&network.servers[..2], || {
        let said = [
            "note publication peers on c stays (--remove publication takes it away)",
            "note replication origin keen_repair on c stays (--remove origin takes it away)",
            "check: a preflight no longer finds slot-unread",
        ];
        plan(&network, &["c"], &said);
        let said = [
            "link on c: take away publication peers",
            "link on c: take away replication origin keen_repair",
            "loses  the marks of batches",
        ];
        plan(&network, &["c", "--remove", "publication", "--remove", "origin"], &said);
        mend(&network, &["--dry-run"], 0, &["10 changes could be made"]);
        mend(&network, &["--yes"], 0, &["10 changes made", "a preflight no longer finds"]);
    });
    assert_eq!(traces(c), [const { Vec::<String>::new() }; 4]);
    assert_eq!(followed(&network.servers[0]), ["from_1_to_0"]);
    assert_eq!(slots(&network.servers[0]), ["from_0_to_1"]);
    assert_eq!(followed(&network.servers[1]), ["from_0_to_1"]);
    links::postgres_settled(&network.servers[..2], PATIENCE).unwrap();
    for server in &network.servers[..2] {
        assert_eq!(guest(server, 9001), ["Last of c"]);
        let there = lines(server, "SELECT count(*) FROM guest WHERE id >= 10000");
        assert_eq!(there, [taken.len().to_string()]);
    }
    network.replace("mesh = [\"a\", \"b\", \"c\"]", "mesh = [\"a\", \"b\"]");
    let run = network.keen(&["preflight"]);
    let stray = ["link-absent", "link-stray", "slot-unread"];
    assert!(!stray.iter().any(|check| run.out.contains(check)), "{run:?}");
}

#[test]
fn of_a_source_that_is_away_the_slot_stays_an_open_step() {
    let mut network = peers(3);
    network.servers[0].stop().unwrap();
    let whose = keen(&network, &["plan", "--take-apart", "a:b"]);
    assert_eq!(whose.code, 2, "{whose:?}");
    assert!(whose.err.contains("--take-apart b/from_0_to_1 takes that one apart"), "{whose:?}");
    let said = [
        "what its source wrote and b has not applied: nobody can tell what that is",
        "link on a: take away slot from_0_to_1",
    ];
    plan(&network, &["b/from_0_to_1"], &said);
    let open = "a: change 1 value of its set-up, for good, once it can be reached; the rest is done without it";
    mend(&network, &["--yes"], 3, &[open, "not to its end on a", "The same command goes on"]);
    assert_eq!(followed(&network.servers[1]), ["from_2_to_1"]);
    network.servers[0].start().unwrap();
    assert!(slots(&network.servers[0]).contains(&"from_0_to_1".to_owned()));
    mend(&network, &["--yes"], 0, &["a: 1 change made"]);
    assert_eq!(slots(&network.servers[0]), ["from_0_to_2"]);

    // The other way round: the receiver is dead, and its slots hold back log.
    let mut settled = false;
    network.servers[2].kill();
    while !settled {
        let idle = "SELECT slot_name FROM pg_replication_slots WHERE NOT active";
        settled = lines(&network.servers[0], idle) == ["from_0_to_2"];
    }
    let said = [
        "note c could not be looked at: what leads to it is not in this plan",
        "note slot from_0_to_2 on a stays: nobody reads it now, and who does is not known (--remove slot:from_0_to_2 takes it away)",
    ];
    let run = keen(&network, &["plan", "--take-apart", "c"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert!(said.iter().all(|said| run.out.contains(said)), "{run:?}");
    assert!(run.out.contains("nothing that a step can do in what was read."), "{run:?}");
    let args =
        ["plan", "--take-apart", "c", "--remove", "slot:from_0_to_2", "--save", "apart.plan"];
    std::fs::remove_file(network.folder.path("apart.plan.undo")).unwrap();
    let run = keen(&network, &args);
    let loses = "the log that it keeps for its reader, which may be c: whoever reads it has to be filled anew before it follows a again";
    assert!(run.out.contains(loses), "{run:?}");
    // Somebody came for it in between.
    let read = "SELECT pg_replication_slot_advance('from_0_to_2', pg_current_wal_lsn())";
    network.servers[0].run("INSERT INTO guest VALUES (9002, 'x', true)").unwrap();
    network.servers[0].run(read).unwrap();
    mend(&network, &["--yes"], 1, &["slot from_0_to_2: slot from_0_to_2 is idle at"]);
    assert_eq!(slots(&network.servers[0]), ["from_0_to_2"]);
    std::fs::remove_file(network.folder.path("apart.plan.undo")).unwrap();
    let run = keen(&network, &args);
    assert_eq!(run.code, 1, "{run:?}");
    mend(&network, &["--yes"], 0, &["1 change made"]);
    assert_eq!(slots(&network.servers[0]), [""; 0]);
    network.servers[2].start().unwrap();
}

#[test]
fn two_peers_are_taken_apart_and_nothing_is_left_behind() {
    let network = peers(2);
    let server = &network.servers[0];
    // Somebody from outside reads at a: what he may take stays. What is switched off tells what stays behind.
    server.run("SELECT pg_create_logical_replication_slot('accounts', 'pgoutput')").unwrap();
    network.servers[1].run("ALTER SUBSCRIPTION from_0_to_1 DISABLE").unwrap();
    server.run("INSERT INTO guest VALUES (9001, 'Late', true)").unwrap();
    let remove = ["all", "--remove", "publication", "--remove", "origin"];
    let said = [
        "note publication peers on a stays: whoever reads slot accounts there may take it",
        "note slot accounts on a stays: nobody reads it now",
        "loses  what a wrote and b has not applied, as the link is stopped: it stays on a alone",
    ];
    plan(&network, &remove, &said);
    server.run("SELECT pg_drop_replication_slot('accounts')").unwrap();
    let run = plan(&network, &remove, &["link on a: take away publication peers"]);
    assert!(!run.out.contains("by hand"), "{run:?}");
    // A publication that is another than it was is somebody's.
    network.servers[1].run("ALTER PUBLICATION peers DROP TABLE stay").unwrap();
    mend(&network, &["--yes"], 1, &["publication peers is guest; insert", "plan again"]);
    assert_eq!(traces(server), [const { Vec::<String>::new() }; 4]);
    plan(&network, &remove, &[]);
    mend(&network, &["--yes"], 0, &["1 change made"]);
    assert_eq!(traces(&network.servers[1]), [const { Vec::<String>::new() }; 4]);
    for (server, there) in network.servers.iter().zip([1, 0]) {
        assert_eq!(guest(server, 9001).len(), there);
    }
    let nothing = keen(&network, &["plan", "--take-apart", "all"]);
    assert_eq!(nothing.code, 0, "{nothing:?}");
    // What was asked for and is not there is told.
    let no_slot = keen(&network, &["plan", "--take-apart", "all", "--remove", "slot:gone"]);
    assert_eq!(no_slot.code, 1, "{no_slot:?}");
    assert!(no_slot.out.contains("note no slot gone is dropped"), "{no_slot:?}");
    for (args, said) in [
        (&["--take-apart", "d"][..], "there is no node d: name a link as FROM:TO"),
        (&["--take-apart", "a:a"], "no link leads from a node to itself"),
        (&["--take-apart", "b/x"], "b has no link x"),
        (&["--take-apart", "b", "--remove", "slot"], "--remove takes publication, origin"),
        (&["--remove", "origin"], "--take-apart"),
        (&["--take-apart", "b", "--seed", "a:b"], "cannot be used with"),
    ] {
        let run = keen(&network, &[&["plan"], args].concat());
        assert_eq!((run.code, run.out.as_str()), (2, ""), "{run:?}");
        assert!(run.err.contains(said), "{said}: {run:?}");
    }
}

#[test]
fn of_a_ring_the_plan_says_who_is_cut_off() {
    let network = mesh();
    for (server, other) in network.servers.iter().zip(["m1", "m2", "m0"]) {
        server.run(&format!("STOP SLAVE '{other}'; RESET SLAVE '{other}' ALL")).unwrap();
    }
    network.replace("mesh =", "ring =");
    // What it was sent is passed on before its own link goes.
    let said = [
        "2. link on b: take away link m0",
        "3. wait until c has what b had written",
        "4. link on c: take away link m1",
        "note between nodes that stay, no link brings any more what one writes to the other: a -> c",
    ];
    let run = plan(&network, &["b"], &said);
    assert!(!run.out.contains("c -> a"), "{run:?}");
    let cut = "what one writes to the other: a -> c, b -> a, b -> c";
    let run = plan(&network, &["b:c"], &[]);
    assert!(run.out.contains(cut), "{run:?}");
}

#[test]
fn links_of_files_are_not_made_and_standbys_not_taken_apart() {
    let folder = tempfile::TempDir::new().unwrap();
    let keen = |args: &[&str]| {
        let mut command = assert_cmd::Command::cargo_bin("keen").unwrap();
        mending::run_of(&command.args(args).current_dir(folder.path()).output().unwrap())
    };
    assert_eq!(keen(&["demo", "--dir", "."]).code, 0);
    let run = keen(&["plan", "--link", "valley:saddle"]);
    assert_eq!((run.code, run.out.as_str()), (2, ""), "{run:?}");
    let why = "valley is a file, and keen makes no new links between files";
    assert!(run.err.contains(why), "{run:?}");

    let network = Network::alike(&[ServerKind::Postgres15]);
    let standby = network.lab.standby("b", &network.servers[0], &[]).unwrap();
    let address = standby.address();
    network.replace(
        &keen_set(),
        &format!(
            "[node.b]\nat = \"{address}\"\npassword = {{ env = \"KEEN_TEST\" }}\n{}[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"stays\"]\n",
            crate::common::servers::STAYS
        ),
    );
    let run = network.keen(&["plan", "--take-apart", "a:b"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert!(run.out.contains("keen takes no standby from its primary"), "{run:?}");
}

/// What a topology of one server alone says of sets and links.
fn keen_set() -> String {
    crate::common::servers::mesh_of(1)
}
