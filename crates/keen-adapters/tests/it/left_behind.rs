//! What links leave behind on a server is read as it is, and taken away one by one.

use keen_adapters::adapter::Site;
use keen_adapters::server::Password;
use keen_core::setup::port::ChangeSetup;
use keen_core::setup::{EMPTY, FILLED, IDLE, SetupChange, Subject};
use keen_testkit::{DATABASE, Server, ServerKind, ServerLab};

use crate::place::Place;

fn state(setup: &mut dyn ChangeSetup, subject: &Subject) -> Option<String> {
    setup.state(subject).unwrap()
}

/// Takes a value away that reads so, and sees that it is gone.
fn taken_away(setup: &mut dyn ChangeSetup, subject: Subject, is: &str) {
    assert_eq!(state(setup, &subject).as_deref(), Some(is));
    assert_eq!(setup.lacks(&subject).unwrap(), None, "{subject}");
    let before = Some(is.to_owned());
    let change = SetupChange { subject, before, after: None, pauses: Vec::new() };
    setup.change(&change).unwrap();
    assert_eq!(state(setup, &change.subject), None);
}

#[test]
fn what_links_leave_behind_is_read_and_taken_away() {
    // Servers of its own: others look at what the shared ones have of it. They end with the test's process.
    let lab: &ServerLab = Box::leak(Box::new(ServerLab::new().unwrap()));
    for engine in ServerKind::ALL {
        let server: &Server = Box::leak(Box::new(lab.start(engine.name(), engine).unwrap()));
        let place = Place::of("left_behind", Some(server));
        let is_postgres = server.engine().is_postgres();
        server
            .run(&if is_postgres {
                "CREATE ROLE taker LOGIN SUPERUSER PASSWORD 'lab-taker'".to_owned()
            } else {
                format!(
                    "SET SESSION sql_log_bin = 0; CREATE USER taker@'%' IDENTIFIED BY 'lab-taker'; GRANT ALL ON {DATABASE}.* TO taker@'%'; \
                     GRANT BINLOG ADMIN, REPLICATION SLAVE ADMIN, SLAVE MONITOR, RELOAD ON *.* TO taker@'%'"
                )
            })
            .unwrap();
        let password = || Ok(Some(Password::new("lab-taker".to_owned())));
        let mut setup = place.with(|adapter, site| {
            let user = Some("taker");
            adapter.setup(&Site { user, password: &password, ..site.clone() }).unwrap()
        });
        let setup = &mut *setup;
        let link = "l 'x' \"1\"".to_owned();
        let subject = Subject::Link { link: link.clone() };
        assert_eq!(state(setup, &subject), None);
        if is_postgres {
            let quoted = link.replace('"', "\"\"");
            server
                .run(&format!(
                    "CREATE TABLE \"left \"\"b'hind\" (id int PRIMARY KEY, v text);\nCREATE PUBLICATION \"{quoted}\" FOR TABLE \"left \"\"b'hind\" (id) WHERE (id > 5) WITH (publish = 'insert, delete');\n\
                     CREATE SUBSCRIPTION \"{quoted}\" CONNECTION 'host=nowhere.invalid' PUBLICATION p, \"{quoted}\" WITH (connect = false, slot_name = 'gone');\n\
                     SELECT pg_create_logical_replication_slot('s', 'pgoutput');\nSELECT pg_replication_origin_create('o ''1''')"
                ))
                .unwrap();
            // Its source is nowhere to be found, and need not be.
            taken_away(setup, subject, &format!("slot gone of {link}, p"));
            let is = "\"left \"\"b'hind\" (id) where (id > 5); insert, delete";
            taken_away(setup, Subject::Publication { publication: link }, is);
            let slot = Subject::Slot { slot: "s".to_owned() };
            let at = state(setup, &slot).unwrap();
            assert!(at.starts_with(&format!("{IDLE} at 0/")), "{at}");
            taken_away(setup, slot, &at);
            let origin = Subject::Origin { origin: "o '1'".to_owned() };
            taken_away(setup, origin.clone(), "yes");
            setup.change(&SetupChange::to(origin.clone(), "yes")).unwrap();
            taken_away(setup, origin, "yes");
        } else {
            let quoted = link.replace('\'', "''");
            server
                .run(&format!(
                    "CHANGE MASTER '{quoted}' TO MASTER_HOST = 'nowhere.invalid', MASTER_PORT = 3307, MASTER_USER = 'x', MASTER_USE_GTID = slave_pos"
                ))
                .unwrap();
            let fetched = Subject::FetchedChanges { link: link.clone() };
            assert_eq!(state(setup, &fetched), None);
            let delay = Subject::LinkDelay { link };
            assert_eq!(state(setup, &delay).as_deref(), Some("0"));
            setup.change(&SetupChange::to(delay.clone(), "60")).unwrap();
            assert_eq!(state(setup, &delay).as_deref(), Some("60"));
            taken_away(setup, subject, "from nowhere.invalid:3307");
            let held = |position: &str| Subject::HeldPosition { position: position.to_owned() };
            assert_eq!(state(setup, &held("")).as_deref(), Some("yes"));
            assert_eq!(state(setup, &held("77-1-1")), None);
            assert_eq!(state(setup, &held("no position")), None);
            let mine = Subject::ServiceTable { table: vec!["kept_by_keen".to_owned()] };
            assert_eq!(state(setup, &mine), None);
            server
                .run("CREATE TABLE kept_by_keen (run text); INSERT INTO kept_by_keen VALUES ('x')")
                .unwrap();
            assert_eq!(state(setup, &mine).as_deref(), Some(FILLED));
            let before = Some(FILLED.to_owned());
            let change =
                SetupChange { subject: mine.clone(), before, after: None, pauses: Vec::new() };
            assert!(setup.change(&change).is_err(), "a plan is under way there");
            server.run("DELETE FROM kept_by_keen").unwrap();
            taken_away(setup, mine, EMPTY);
        }
    }
}
