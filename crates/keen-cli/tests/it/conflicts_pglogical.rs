//! Conflicts between real PostgreSQL peers whose extension pglogical brings each what the other wrote.

use crate::common::conflicts::{Conflicts, one, slots};
use crate::common::servers::{Network, PATIENCE};
use keen_testkit::{Server, links};

/// Two peers, with the slots that keen prints.
struct Pglogical {
    network: Network,
    /// How many guests have marked that everything before them arrived.
    marks: std::cell::Cell<i64>,
}

impl Pglogical {
    fn new(rule: &str) -> Self {
        let network =
            Network::pglogical_peers(&[&format!("pglogical.conflict_resolution = '{rule}'")]);
        for name in ["idle a>b", "idle b>a"] {
            network.until(name);
        }
        for server in &network.servers {
            server.run("GRANT USAGE ON SCHEMA pglogical TO keen;\nGRANT SELECT ON ALL TABLES IN SCHEMA pglogical TO keen").unwrap();
        }
        slots(&network);
        let peers = Self { network, marks: std::cell::Cell::new(0) };
        // What is written first after the slots were made might have arrived before: nothing is proven of it.
        peers.settle();
        peers
    }

    /// Writes a guest on each side, and waits until both have both.
    fn settle(&self) {
        self.mark();
        self.arrived();
    }

    fn mark(&self) {
        let marks = self.marks.get();
        for (server, id) in self.network.servers.iter().zip([7000 + marks, 7001 + marks]) {
            server.run(&format!("INSERT INTO guest VALUES ({id}, 'Guest {id}', true)")).unwrap();
        }
        self.marks.set(marks + 2);
    }

    fn arrived(&self) {
        let marks = |server: &Server| -> i64 {
            let sql = "SELECT count(*) FROM guest WHERE id >= 7000";
            server.postgres().unwrap().query_one(sql, &[]).unwrap().get(0)
        };
        links::until(PATIENCE, "the peers do not catch up", || {
            Ok(self.network.servers.iter().all(|server| marks(server) == self.marks.get()))
        })
        .unwrap();
    }

    /// What each is told while neither hears of the other.
    fn apart(&self, writes: &[(usize, &str)]) {
        let switch = |what: &str| {
            for (server, name) in self.network.servers.iter().zip(["from_b", "from_a"]) {
                server
                    .run(&format!("SELECT pglogical.alter_subscription_{what}('{name}', true)"))
                    .unwrap();
            }
        };
        switch("disable");
        for (server, sql) in writes {
            self.network.servers[*server].run(sql).unwrap();
        }
        self.mark();
        switch("enable");
    }
}

/// The treatment by pglogical of a row that both wrote, by its rules.
fn with_pglogical(rule: &str, came_of_it: &str, won_by: &str, lost: u64) {
    let peers = Pglogical::new(rule);
    peers.apart(&[
        (0, "UPDATE stay SET beds = 3 WHERE id IN (2, 3)"),
        (1, "UPDATE stay SET beds = 5 WHERE id IN (2, 3)"),
    ]);
    peers.arrived();
    let run = peers.network.conflicts(&[]);
    assert_eq!(run.code, 1, "{run:?}");
    // What one conflict alone would show is no rule yet.
    assert_eq!(run.conflicts().len(), 2, "{run:?}");
    for found in run.conflicts() {
        assert_eq!(
            (&found["kind"], &found["proven"], &found["standing"]),
            (&"update-update".into(), &true.into(), &came_of_it.into()),
            "{run:?}"
        );
        assert!(found["won_by"].as_array().unwrap().contains(&won_by.into()), "{found}");
        assert_eq!(found["writes_lost"], lost, "{found}");
        assert!(
            found["writes"].as_array().unwrap().iter().all(|write| write["node"].is_string()),
            "{found}"
        );
    }
}

#[test]
fn pglogical_that_takes_whatever_comes_swaps_the_values() {
    with_pglogical("apply_remote", "settled apart", "last-come", 0);
}

#[test]
fn pglogical_that_takes_the_later_update_loses_the_other() {
    with_pglogical("last_update_wins", "settled alike", "later-time", 1);
}

#[test]
fn pglogical_in_order_and_every_other_way_to_race() {
    let peers = Pglogical::new("apply_remote");
    let network = &peers.network;
    network.replace("[[link]]", "[unique]\nguest = [[\"name\"]]\n[[link]]");
    for round in 0..8 {
        network.servers[round % 2]
            .run(&format!("UPDATE stay SET beds = {round} WHERE id = 1"))
            .unwrap();
        peers.settle();
    }
    let run = network.conflicts(&[]);
    assert_eq!((run.code, run.conflicts().len()), (0, 0), "{run:?}");

    peers.apart(&[
        (0, "INSERT INTO guest VALUES (900, 'Bero', true)"),
        (1, "INSERT INTO guest VALUES (900, 'Cilia', true)"),
        (0, "DELETE FROM stay WHERE id = 3"),
        (1, "UPDATE stay SET beds = 9 WHERE id = 3"),
        (0, "INSERT INTO guest VALUES (901, 'Gisla', true)"),
        (1, "INSERT INTO guest VALUES (902, 'Gisla', true)"),
    ]);
    peers.arrived();
    let run = network.conflicts(&[]);
    assert_eq!((run.code, run.conflicts().len()), (1, 3), "{run:?}");
    let of = |kind: &str| {
        let found = one(&run, kind);
        assert_eq!(found["proven"], true, "{found}");
        (found["standing"].as_str().unwrap().to_owned(), found["writes_lost"].as_u64().unwrap())
    };
    assert_eq!(of("insert-insert"), ("settled apart".to_owned(), 0));
    assert_eq!(of("update-delete"), ("settled alike".to_owned(), 1));
    assert_eq!(of("unique-value"), ("settled against the rules".to_owned(), 0));

    // It carries no change of shape: the links stop at the first row with the new column.
    peers.apart(&[
        (0, "ALTER TABLE stay ADD COLUMN dog integer"),
        (0, "UPDATE stay SET dog = 1 WHERE id = 1"),
        (1, "ALTER TABLE stay ADD COLUMN cat text"),
        (1, "UPDATE stay SET cat = 'x' WHERE id = 2"),
    ]);
    let run = network.conflicts(&["--kind", "shape-shape"]);
    let found = one(&run, "shape-shape");
    assert_eq!((&found["table"], &found["standing"]), (&"stay".into(), &"settled apart".into()));
}
