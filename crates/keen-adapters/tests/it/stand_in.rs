//! The set-up of a node of the stand-in network is read as it is, and turned.

use keen_core::fault::FaultKind;
use keen_core::setup::{LinkWay, NewLink, OFF, ON, SetupChange, Subject};
use rusqlite::Connection;

use crate::place::{Place, Write};

#[test]
fn links_and_settings_of_the_stand_in_are_read_and_turned() {
    let place = Place::of("turned", None);
    place.write(Write::Insert(1, "one"));
    let mut setup = place.with(|adapter, site| adapter.setup(site).unwrap());
    let setting = Subject::Setting { name: "read_only".to_owned() };
    for (before, after) in [("OFF", "ON"), ("ON", "OFF")] {
        assert_eq!(setup.state(&setting).unwrap().as_deref(), Some(before));
        setup.change(&SetupChange::to(setting.clone(), after)).unwrap();
        assert_eq!(setup.state(&setting).unwrap().as_deref(), Some(after));
    }
    let way = LinkWay::StandIn { carries: vec!["it's \"s\"".to_owned()] };
    let new = NewLink { link: "3".to_owned(), from: "b'c".to_owned(), way };
    let subject = Subject::NewLink(Box::new(new.clone()));
    assert_eq!(setup.state(&subject).unwrap(), None);
    let change = SetupChange::to(subject, &new.state());
    setup.make_link(&change, None).unwrap();
    assert!(setup.make_link(&change, None).is_err(), "there is one of that number");
    let link = new.there();
    assert_eq!(setup.state(&link).unwrap().as_deref(), Some("from b'c"));
    let file = Connection::open(place.folder.path().join("a.db")).unwrap();
    let kept = |sql: &str| file.query_row(sql, [], |row| row.get::<_, String>(0)).unwrap();
    assert_eq!(kept("SELECT json_extract(carries, '$[0]') FROM keen_lab_link"), "it's \"s\"");
    let switch = Subject::LinkSwitch { link: "3".to_owned() };
    for to in [ON, OFF] {
        setup.change(&SetupChange::to(switch.clone(), to)).unwrap();
        assert_eq!(setup.state(&switch).unwrap().as_deref(), Some(to));
    }
    file.execute("UPDATE keen_lab_link SET state = 'cut'", []).unwrap();
    assert_eq!(setup.state(&switch).unwrap().as_deref(), Some("on, but does not fetch"));
    let away = |link: &str| SetupChange {
        subject: Subject::Link { link: link.to_owned() },
        before: Some("from b'c".to_owned()),
        after: None,
        pauses: Vec::new(),
    };
    // What is no number is no link of it.
    assert!(setup.change(&away("3 OR 1")).is_err());
    setup.change(&away("3")).unwrap();
    assert_eq!(setup.state(&link).unwrap(), None);
    // What the node wrote itself, and whether another has it.
    assert_eq!(setup.state(&Subject::OwnWrites).unwrap().as_deref(), Some("1 a"));
    for (state, held) in [("1 a", Some("yes")), ("2 a", None), ("1 b", None), ("", None)] {
        let subject = Subject::HeldState { state: state.to_owned() };
        assert_eq!(setup.state(&subject).unwrap().as_deref(), held, "{state}");
    }
    let slot = Subject::Slot { slot: "s".to_owned() };
    assert_eq!(setup.state(&slot).unwrap_err().kind, FaultKind::NotTold);

    // A file outside of such a network.
    file.execute_batch("DROP TABLE keen_lab_setting").unwrap();
    let opened = place.with(|adapter, site| adapter.setup(site).map(drop));
    assert_eq!(opened.unwrap_err().kind, FaultKind::NotSupported);
}
