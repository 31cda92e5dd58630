//! Values of a server's set-up are read as they are, and turned from one state to another.

use keen_adapters::adapter::Site;
use keen_adapters::server::Password;
use keen_core::setup::port::ChangeSetup;
use keen_core::setup::{SetupChange, Subject};
use keen_testkit::{CHECKER, DATABASE};

use crate::place::{Place, Write};

#[test]
fn values_of_a_set_up_are_read_and_turned_from_one_state_to_another() {
    for place in Place::all("turned") {
        let Some(server) = place.server else {
            continue; // it has a set-up of another kind: crate::stand_in
        };
        let is_postgres = server.engine().is_postgres();
        server
            .run(&if is_postgres {
                "CREATE ROLE turner LOGIN SUPERUSER PASSWORD 'lab-turner'".to_owned()
            } else {
                format!(
                    "SET SESSION sql_log_bin = 0; CREATE USER turner@'%' IDENTIFIED BY 'lab-turner'; \
                     GRANT ALL ON {DATABASE}.* TO turner@'%'; GRANT BINLOG ADMIN ON *.* TO turner@'%'"
                )
            })
            .unwrap();
        let open = |user: &'static str, password: &'static str| {
            let password = move || Ok(Some(Password::new(password.to_owned())));
            place.with(|adapter, site| {
                let user = Some(user);
                adapter.setup(&Site { user, password: &password, ..site.clone() }).unwrap()
            })
        };
        let mut setup = open("turner", "lab-turner");
        let (table, column) = (vec![place.table.to_owned()], "warden's \"note\"".to_owned());
        let after = (!is_postgres).then(|| "id".to_owned());
        let subject = Subject::Column { table: table.clone(), column: column.clone(), after };
        let filled = Subject::FilledColumn { table, column };
        let (narrow, wide) = match is_postgres {
            true => ("integer, null, default 7", "bigint, null, default 7"),
            false => ("int(11), null, default 7", "bigint(20), null, default 7"),
        };
        let change = |before: Option<&str>, after: Option<&str>| SetupChange {
            subject: subject.clone(),
            before: before.map(str::to_owned),
            after: after.map(str::to_owned),
            pauses: Vec::new(),
        };
        let turns = [(None, Some(narrow)), (Some(narrow), Some(wide)), (Some(wide), None)];
        // An account that only reads sees the state, and changes nothing.
        let mut reads = open(CHECKER.0, CHECKER.1);
        assert_eq!(reads.state(&subject).unwrap(), None);
        assert!(reads.change(&change(None, Some(narrow))).is_err(), "{:?}", place.engine());
        place.write(Write::Insert(1, "one"));
        for (before, after) in turns {
            assert_eq!(setup.state(&subject).unwrap().as_deref(), before, "{:?}", place.engine());
            setup.change(&change(before, after)).unwrap();
            assert_eq!(setup.state(&subject).unwrap().as_deref(), after, "{:?}", place.engine());
            if after.is_some() {
                // Rows have the default: nobody has written into it.
                assert_eq!(setup.state(&filled).unwrap(), None, "{:?}", place.engine());
            }
        }
        column_properties(&mut *setup, place.table, is_postgres);
        // What says more than a state is not made, and what the engine has not is not read.
        let more = "int; DROP TABLE turned, null";
        assert!(setup.change(&change(None, Some(more))).is_err());
        let other = match is_postgres {
            true => Subject::LinkDelay { link: "x".to_owned() },
            false => Subject::LinkOrigin { link: "x".to_owned() },
        };
        assert!(setup.state(&other).is_err(), "{:?}", place.engine());
        let link = Subject::LinkSwitch { link: "no 'such' \"link\"".to_owned() };
        assert_eq!(setup.state(&link).unwrap_or(None), None, "{:?}", place.engine());
        assert_eq!(place.content(), [(1, "one".to_owned())]);
    }
}

/// Every property of a column there and back, and a MariaDB table's columns in another order.
fn column_properties(setup: &mut dyn ChangeSetup, table: &str, is_postgres: bool) {
    let (table, column) = (vec![table.to_owned()], "sign`s \"text\"".to_owned());
    let subject = Subject::Column { table: table.clone(), column: column.clone(), after: None };
    let states: &[&str] = match is_postgres {
        true => &[
            "character varying(20), collation C, null, default 'x'::character varying",
            "character varying(40), collation C, null, default 'x'::character varying",
            "character varying(40), collation C, not null, default 'x'::character varying",
            "character varying(40), collation POSIX, not null, default 'y'::character varying",
            "character varying(40), not null",
            "character varying(60), null, default 'it''s'::character varying",
        ],
        false => &[
            "varchar(20), collation utf8mb4_bin, null, default 'x'",
            "varchar(40), collation utf8mb4_bin, null, default 'x'",
            "varchar(40), collation utf8mb4_bin, not null, default 'x'",
            "varchar(40), collation utf8mb4_general_ci, not null, default 'y'",
            "varchar(40), collation utf8mb4_general_ci, not null",
            "varchar(60), collation utf8mb4_unicode_ci, null, default 'it''s'",
        ],
    };
    let there: Vec<Option<&str>> =
        [None].into_iter().chain(states.iter().copied().map(Some)).collect();
    let back = there.iter().rev().skip(1).copied();
    let mut now = None;
    for state in there.iter().skip(1).copied().chain(back) {
        let change = SetupChange {
            subject: subject.clone(),
            before: now,
            after: state.map(str::to_owned),
            pauses: Vec::new(),
        };
        setup.change(&change).unwrap();
        assert_eq!(setup.state(&subject).unwrap(), change.after, "{change}");
        now = change.after;
    }
    if is_postgres {
        return;
    }
    setup.change(&SetupChange::to(subject.clone(), states[0])).unwrap();
    let moved = [(column, states[0].to_owned())].into();
    let order = Subject::ColumnOrder { table, moved };
    let before = setup.state(&order).unwrap();
    let (first, rest) = before.as_deref().unwrap().rsplit_once(", ").unwrap();
    let after = Some(format!("{rest}, {first}"));
    let change = SetupChange { subject: order.clone(), before, after, pauses: Vec::new() };
    for change in [change.clone(), change.reversed()] {
        setup.change(&change).unwrap();
        assert_eq!(setup.state(&order).unwrap(), change.after);
        assert_eq!(setup.state(&subject).unwrap().as_deref(), Some(states[0]));
    }
    // Declared otherwise by now, the move would take that back.
    setup
        .change(&SetupChange {
            before: Some(states[0].to_owned()),
            ..SetupChange::to(subject.clone(), states[1])
        })
        .unwrap();
    assert!(setup.state(&order).is_err());
    let gone = SetupChange { before: Some(states[1].to_owned()), ..SetupChange::to(subject, "") };
    setup.change(&SetupChange { after: None, ..gone }).unwrap();
}
