//! `keen plan --link` and `keen mend`: links that the file declares are made on real servers while their sources are
//! written to, and looked at by the servers' own means.

use std::collections::BTreeSet;

use crate::common::Run;
use crate::common::mending::{
    accounts, dump, filling_rights, keen, killed_and_gone_on_with, peers, while_all_write,
};
use crate::common::servers::{Network, PATIENCE, STAYS};
use keen_testkit::{CARRIER, Server, ServerKind, links};

/// The file with the password by which nodes follow each other.
const SECRET: &str = "carrier's \"secret\"";

/// What making links takes beside the rights for rows, and by which account nodes follow each other.
pub(crate) fn more_rights(network: &Network) {
    let path = network.folder.path("keen.toml");
    let mut text = std::fs::read_to_string(&path).unwrap();
    let secret = network.folder.path(SECRET);
    std::fs::write(&secret, CARRIER.1).unwrap();
    std::fs::set_permissions(&secret, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    filling_rights(network);
    for (i, server) in network.servers.iter().enumerate() {
        text.push_str(&format!(
            "[node.{}.replication]\nuser = \"{}\"\npassword = {{ file = {:?} }}\nat = \"127.0.0.1:{}\"\n",
            crate::common::node_name(i),
            CARRIER.0,
            SECRET,
            server.port()
        ));
    }
    std::fs::write(path, text).unwrap();
}

fn plan(network: &Network, links: &[&str], said: &[&str]) -> Run {
    let links: Vec<&str> = links.iter().flat_map(|link| ["--link", link]).collect();
    let run = keen(network, &[&["plan", "--save", "link.plan"], &links[..]].concat());
    assert_eq!(run.code, 1, "{run:?}");
    for line in said {
        assert!(run.out.contains(line), "{line}: {}", run.out);
    }
    run
}

fn mend(network: &Network, args: &[&str]) -> Run {
    let run = keen(network, &[&["mend", "link.plan"], args].concat());
    assert_eq!(run.code, 0, "{run:?}");
    run
}

/// No password is told, nor kept in a file but the one where it is.
fn nothing_is_told(network: &Network, runs: &[Run]) {
    for run in runs {
        assert!(!run.out.contains(CARRIER.1) && !run.err.contains(CARRIER.1), "{run:?}");
    }
    for file in ["link.plan", "link.plan.undo", "link.plan.aside"] {
        let text = std::fs::read_to_string(network.folder.path(file)).unwrap_or_default();
        assert!(!text.contains(CARRIER.1), "{file}");
    }
}

/// The nodes hold the same, and every guest that a server took is there.
fn all_is_there(servers: &[Server], taken: &BTreeSet<u64>) {
    let rows = |server: &Server| {
        ["guest", "stay"].map(|table| dump(server, &format!("SELECT * FROM {table} ORDER BY id")))
    };
    links::until(PATIENCE, "they do not come to hold the same", || {
        Ok(servers[1..].iter().all(|server| rows(server) == rows(&servers[0])))
    })
    .unwrap();
    let count = dump(&servers[0], "SELECT count(*) FROM guest WHERE id >= 10000");
    assert!(count.contains(&taken.len().to_string()) && !taken.is_empty(), "{count}");
}

#[test]
fn a_node_comes_to_a_mariadb_mesh_while_it_is_written_to() {
    let network = Network::mariadb_mesh();
    network.replace(
        "[[link]]\nmesh = [\"a\", \"b\", \"c\"]\ncarries = [\"stays\"]\n",
        "[[link]]\nboth = [\"a\", \"b\"]\ncarries = [\"stays\"]\n[[link]]\nfrom = [\"a\", \"b\"]\nto = \"c\"\ncarries = [\"stays\"]\n",
    );
    network.replace("[\"guest\", \"stay\"]", "[\"guest\", \"stay\", \"trail_notice\"]");
    network.is_not_written_to("c");
    for (server, names) in network.servers.iter().zip([&["m2"][..], &["m2"], &["m0", "m1"]]) {
        for name in names {
            server.run(&format!("STOP SLAVE '{name}'; RESET SLAVE '{name}' ALL")).unwrap();
        }
    }
    let c = &network.servers[2];
    c.run("RESET MASTER;\nSET GLOBAL gtid_slave_pos = '';\nSET SESSION sql_log_bin = 0;\nDELETE FROM stay WHERE id % 3 = 0;\nINSERT INTO guest VALUES (9001, 'Nobody else''s', true)").unwrap();
    accounts(&network);
    more_rights(&network);
    let (runs, taken) = while_all_write(&network.servers[..2], || {
        let said = [
            "link on c: make link a from a, switched off",
            "MASTER_PASSWORD = ...",
            "fill c from a: guest, stay, trail_notice",
            "loses  what c holds and a does not",
        ];
        let planned = plan(&network, &["a:c", "b:c"], &said);
        let tried = mend(&network, &["--dry-run"]);
        let mended = mend(&network, &["--yes"]);
        [planned, tried, mended]
    });
    nothing_is_told(&network, &runs);
    assert!(
        runs[2].err.contains("What only the receiver holds is kept in link.plan.aside"),
        "{runs:?}"
    );
    links::mariadb_settled(&network.servers[..2], PATIENCE).unwrap();
    all_is_there(&network.servers, &taken);
    let run = network.keen(&["preflight"]);
    assert!(!run.out.contains("link-absent"), "{run:?}");
}

fn refused(network: &Network, args: &[&str], said: &str) {
    let run = keen(network, &[&["plan"], args].concat());
    assert_eq!((run.code, run.out.as_str()), (2, ""), "{run:?}");
    assert!(run.err.contains(said), "{said}: {run:?}");
}

fn subscriber(kind: ServerKind) {
    let network = Network::alike(&[kind; 2]);
    network.replace("mesh = [\"a\", \"b\"]", "from = \"a\"\nto = \"b\"");
    network.is_not_written_to("b");
    network.servers[1].run("DELETE FROM stay; DELETE FROM guest").unwrap();
    accounts(&network);
    let unknown = "by which account others follow a is not known: write [node.a.replication]";
    refused(&network, &["--link", "a:b"], unknown);
    more_rights(&network);
    refused(&network, &["--link", "b:a"], "the topology file declares no link from b to a");
    let (runs, taken) = while_all_write(&network.servers[..1], || {
        let said = [
            "link on a: make publication from_a: insert, update, delete, truncate",
            "link on a: add public.stay in publication from_a",
            "link on b: make link b_from_a from a, switched off",
            "password=...",
            "fill b from a: guest, stay",
        ];
        let planned = plan(&network, &["a:b"], &said);
        let tried = mend(&network, &["--dry-run"]);
        let mended = mend(&network, &["--yes"]);
        [planned, tried, mended]
    });
    nothing_is_told(&network, &runs);
    all_is_there(&network.servers, &taken);
    let run = network.keen(&["preflight"]);
    assert!(!run.out.contains("link-absent"), "{run:?}");
    refused(&network, &["--link", "a:b"], "b follows a already, by b_from_a");
    // What the link rests on is not taken from under it.
    let undo = keen(&network, &["mend", "--undo", "link.plan.undo", "--yes"]);
    assert!(undo.err.contains("keen: no step is left to be taken back"), "{undo:?}");
    let published =
        "SELECT tablename FROM pg_publication_tables WHERE pubname = 'from_a' ORDER BY 1";
    assert_eq!(dump(&network.servers[0], published), "(guest)\n(stay)");
    // And apart again, with all that was made for it.
    let args = ["plan", "--take-apart", "a:b", "--remove", "publication", "--save", "apart.plan"];
    assert_eq!(keen(&network, &args).code, 1);
    let run = keen(&network, &["mend", "apart.plan", "--yes"]);
    assert_eq!(run.code, 0, "{run:?}");
    for (server, sql) in [
        (0, "SELECT pubname FROM pg_publication"),
        (0, "SELECT slot_name FROM pg_replication_slots"),
        (1, "SELECT subname FROM pg_subscription"),
    ] {
        assert_eq!(dump(&network.servers[server], sql), "", "{sql}");
    }
}

#[test]
fn what_would_go_round_or_begin_nowhere_is_refused() {
    let network = Network::alike(&[ServerKind::Postgres15; 2]);
    accounts(&network);
    more_rights(&network);
    let begins = "b is written to, and a does not follow it: make both links together, --link a:b --link b:a";
    refused(&network, &["--link", "a:b"], begins);
    network.is_not_written_to("b");
    refused(
        &network,
        &["--link", "a:b"],
        "two subscriptions would send every write round and round",
    );
    refused(
        &network,
        &["--link", "a:b", "--link", "b:a"],
        "would send every write round and round",
    );
    let alike = Network::alike(&[ServerKind::MariaDb; 2]);
    accounts(&alike);
    more_rights(&alike);
    let same = "a and b both have server_id 1, and each leaves out what the other writes";
    refused(&alike, &["--link", "a:b", "--link", "b:a"], same);
    // A password that is none: nothing is copied, and the rest is as it was.
    network.replace("mesh = [\"a\", \"b\"]", "from = \"a\"\nto = \"b\"");
    plan(&network, &["a:b"], &[]);
    std::fs::write(network.folder.path(SECRET), "wrong").unwrap();
    let run = keen(&network, &["mend", "link.plan", "--yes"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert!(run.out.contains("password authentication failed"), "{run:?}");
    assert!(
        run.out.contains("step 5, b copy from a: step 4, which has to be done before it, is not"),
        "{run:?}"
    );
    let again = "keen plan --take-apart b/b_from_a, and then keen plan --link a:b";
    assert!(run.out.contains(again), "{run:?}");
    assert_eq!(dump(&network.servers[0], "SELECT slot_name FROM pg_replication_slots"), "");
    std::fs::write(network.folder.path(SECRET), CARRIER.1).unwrap();
    mend(&network, &["--yes"]);
}

#[test]
fn a_subscriber_of_postgresql_15_is_made_while_its_publisher_is_written_to() {
    subscriber(ServerKind::Postgres15);
}

#[test]
fn a_subscriber_of_postgresql_18_is_made_while_its_publisher_is_written_to() {
    subscriber(ServerKind::Postgres18);
}

/// Takes c out of a mesh of three, as if it had never been there, and parts its rows from the others'.
fn c_is_new(network: &Network) {
    let c = &network.servers[2];
    if c.engine().is_postgres() {
        for (to, from) in [(0, 2), (1, 2), (2, 0), (2, 1)] {
            network.servers[to].run(&format!("DROP SUBSCRIPTION from_{from}_to_{to}")).unwrap();
        }
        c.run("DROP PUBLICATION peers; DELETE FROM stay WHERE id % 3 = 0; INSERT INTO guest VALUES (9001, 'Nobody else''s', true)").unwrap();
        return;
    }
    for (server, names) in network.servers.iter().zip([&["m2"][..], &["m2"], &["m0", "m1"]]) {
        for name in names {
            server.run(&format!("STOP SLAVE '{name}'; RESET SLAVE '{name}' ALL")).unwrap();
        }
    }
    c.run("DELETE FROM stay WHERE id % 3 = 0; INSERT INTO guest VALUES (9001, 'Nobody else''s', true)").unwrap();
    // Its own writes would go to all others.
    let lacks = "the log of c has writes that a lacks, and the link would bring them: if nobody wants them, empty that log first";
    let new = ["--link", "a:c", "--link", "b:c", "--link", "c:a", "--link", "c:b"];
    refused(network, &new, lacks);
    c.run("RESET MASTER;\nSET GLOBAL gtid_slave_pos = ''").unwrap();
}

/// A third node comes to two that are written to, and is written to from then on.
fn a_third_peer(network: &Network) {
    let all = ["a:c", "b:c", "c:a", "c:b"];
    let said = [
        "link on c: make link",
        "link on a: make link",
        "link on b: make link",
        "fill c from a: guest, stay",
        "wait until a has what c had written",
        "note let applications write to c only when all is done",
    ];
    let ((), mut taken) = while_all_write(&network.servers[..2], || {
        let planned = plan(network, &all, &said);
        assert!(!planned.out.contains("from_c_2"), "one publication does for both: {planned:?}");
        let tried = mend(network, &["--dry-run"]);
        let kills = killed_and_gone_on_with(network, "link.plan");
        assert!(kills > 1, "{kills}");
        let mended = mend(network, &["--yes"]);
        nothing_is_told(network, &[planned, tried, mended]);
    });
    let ((), more) = while_all_write(&network.servers[2..], || {
        std::thread::sleep(std::time::Duration::from_millis(500));
    });
    // Both counted from the same number, and what c inserts is there already.
    assert!(more.is_disjoint(&taken), "{more:?}");
    taken.extend(more);
    for (at, server) in network.servers.iter().enumerate() {
        let id = 9100 + at;
        server.run(&format!("INSERT INTO guest VALUES ({id}, 'From {at}', true)")).unwrap();
    }
    all_is_there(&network.servers, &taken);
    for (at, server) in network.servers.iter().enumerate() {
        let nine = dump(server, "SELECT id FROM guest WHERE id BETWEEN 9000 AND 9999 ORDER BY id");
        let ids: Vec<String> = nine
            .lines()
            .map(|line| line.trim_matches(['(', ')']).trim_matches('\'').to_owned())
            .collect();
        assert_eq!(ids, ["9100", "9101", "9102"], "{at}");
    }
    let run = network.keen(&["preflight"]);
    assert!(!run.out.contains("link-absent") && !run.out.contains("slot-unread"), "{run:?}");
}

#[test]
fn a_third_peer_comes_to_two_of_mariadb() {
    let network = Network::mariadb_mesh();
    network.replace("[\"guest\", \"stay\"]", "[\"guest\", \"stay\", \"trail_notice\"]");
    accounts(&network);
    more_rights(&network);
    c_is_new(&network);
    a_third_peer(&network);
}

#[test]
fn a_third_peer_comes_to_two_of_postgresql() {
    let network = peers(3);
    more_rights(&network);
    c_is_new(&network);
    a_third_peer(&network);
}

/// A node that only followed comes to be followed: nothing is copied, nothing goes round, nothing is lost.
fn turned_back(network: &Network, said: &[&str]) {
    let [a, b] = &network.servers[..] else { unreachable!() };
    let ((), taken) = while_all_write(&network.servers[..1], || {
        let run = plan(network, &["b:a"], said);
        assert!(!run.out.contains("copy "), "{run:?}");
        let dry = mend(network, &["--dry-run"]);
        mend(network, &["--yes"]);
        nothing_is_told(network, &[run, dry]);
        b.run("INSERT INTO guest VALUES (9001, 'The first at b', true)").unwrap();
        links::until(PATIENCE, "what b writes does not arrive", || {
            Ok(dump(a, "SELECT name FROM guest WHERE id = 9001").contains("The first at b"))
        })
        .unwrap();
    });
    let (_, more) = while_all_write(&network.servers, || {
        std::thread::sleep(std::time::Duration::from_millis(300));
    });
    let all: BTreeSet<u64> = taken.union(&more).copied().collect();
    all_is_there(&network.servers, &all);
    let run = keen(network, &["flow", "--interval", "1s", "--no-ledger"]);
    assert_eq!(run.code, 0, "{run:?}");
}

#[test]
fn a_link_of_mariadb_is_given_its_way_back() {
    let network = Network::mariadb_mesh();
    network.servers[0]
        .run("STOP ALL SLAVES;\nRESET SLAVE 'm1' ALL;\nRESET SLAVE 'm2' ALL")
        .unwrap();
    let mut network = network;
    network.servers[1].run("STOP SLAVE 'm2';\nRESET SLAVE 'm2' ALL").unwrap();
    network.servers.truncate(2);
    let rest = format!("{STAYS}[[link]]\nboth = [\"a\", \"b\"]\ncarries = [\"stays\"]\n");
    let topology = crate::common::servers::topology(&network.servers, &rest);
    std::fs::write(network.folder.path("keen.toml"), topology).unwrap();
    accounts(&network);
    more_rights(&network);
    let said = [
        "link on a: make link b from b, switched off",
        "guard  what the server wrote itself on b is not there",
        "note nothing is copied: b follows a, and has nothing that a lacks",
    ];
    turned_back(&network, &said);
}

#[test]
fn a_subscription_is_given_its_way_back() {
    let network = Network::alike(&[ServerKind::Postgres18, ServerKind::Postgres18]);
    links::publish(&network.servers[0], "from_a", "guest, stay").unwrap();
    links::subscribe(
        &network.servers[1],
        &network.servers[0],
        "b_from_a",
        "from_a",
        "copy_data = false",
    )
    .unwrap();
    links::postgres_settled(&network.servers, PATIENCE).unwrap();
    accounts(&network);
    more_rights(&network);
    network.servers[1].run("UPDATE guest SET name = 'Changed at b' WHERE id = 1").unwrap();
    let run = keen(&network, &["plan", "--link", "b:a"]);
    assert!(run.code == 2 && run.err.contains("guest is not the same on both"), "{run:?}");
    network.servers[1].run("UPDATE guest SET name = 'Ida Marmot' WHERE id = 1").unwrap();
    let said = [
        "link on b: the origin that b_from_a asks for: any -> none",
        "undo   none: with any, writes would go round and round",
        "link on b: make slot a_from_b",
    ];
    turned_back(&network, &said);
}
