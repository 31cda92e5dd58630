//! The lead of a stand-in network is handed over while its guests ring, and the network is taken apart. What came of it
//! is looked at in the files themselves.

use std::fs;
use std::process::{Command, Stdio};
use std::time::Duration;

use keen_lab::handover::Handover;
use rusqlite::Connection;
use rusqlite::types::Value as Cell;

use crate::common::{Folder, Run};

const OFFICES: [&str; 3] = ["valley", "saddle", "cirque"];
const AT: [&str; 2] = ["--topology", "net/keen.toml"];

fn keen(folder: &Folder, args: &[&str]) -> Run {
    folder.keen(&[args, &AT].concat())
}

/// The rows of a query on the file of an office, cells parted by spaces.
fn rows(folder: &Folder, office: &str, sql: &str) -> Vec<String> {
    let connection = Connection::open(folder.path(&format!("net/{office}.db"))).unwrap();
    let mut statement = connection.prepare(sql).unwrap();
    let columns = statement.column_count();
    let row = |row: &rusqlite::Row<'_>| {
        let cells = (0..columns).map(|at| match row.get_unwrap::<_, Cell>(at) {
            Cell::Integer(number) => number.to_string(),
            Cell::Text(text) => text,
            other => format!("{other:?}"),
        });
        Ok(cells.collect::<Vec<_>>().join(" "))
    };
    statement.query_map([], row).unwrap().map(Result::unwrap).collect()
}

/// Starts the program again and again, and kills it, later each time, until it comes to its end.
fn killed_until_it_ends(folder: &Folder, plan: &str) -> usize {
    for (kills, wait) in (30..).step_by(60).enumerate() {
        let mut child = Command::new(env!("CARGO_BIN_EXE_keen"))
            .args([&["mend", plan, "--yes"], &AT[..]].concat())
            .current_dir(folder.root())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(wait));
        if child.try_wait().unwrap().is_some() {
            return kills;
        }
        child.kill().unwrap();
        child.wait().unwrap();
    }
    unreachable!("it comes to its end")
}

/// All have every guest who rang, and applied each once.
fn nothing_is_lost(folder: &Folder, scene: &Handover) {
    let all: Vec<String> = (1..=scene.rang()).map(|id| format!("{id} guest {id}")).collect();
    for office in OFFICES {
        assert_eq!(rows(folder, office, "SELECT id, name FROM guest ORDER BY id"), all, "{office}");
        let twice = "SELECT origin, origin_position FROM keen_lab_transaction JOIN keen_lab_change USING (position) \
            GROUP BY origin, origin_position, number HAVING count(*) > 1";
        assert_eq!(rows(folder, office, twice), Vec::<String>::new(), "{office}");
    }
}

#[test]
fn the_lead_of_the_stand_in_moves_and_comes_back_though_the_program_is_killed() {
    let folder = Folder::new("");
    let mut scene = Handover::begin(&folder.path("net"), 7).unwrap();
    for (node, other) in [("saddle", "valley"), ("valley", "saddle")] {
        let (plan, after) = (format!("{node}.plan"), format!("{node}.plan.toml"));
        let kills = scene
            .run_while(|| {
                let run = keen(&folder, &["plan", "--promote", node, "--save", &plan]);
                assert_eq!(run.code, 1, "{run:?}");
                assert!(!run.out.contains("password"), "{}", run.out);
                killed_until_it_ends(&folder, &plan)
            })
            .unwrap();
        assert!(kills > 1, "{kills}");
        let source = "SELECT source, state FROM keen_lab_link";
        let setting = "SELECT value FROM keen_lab_setting WHERE name = 'read_only'";
        for office in OFFICES {
            let (link, closed) = match office {
                lead if lead == node => (vec![], "OFF"),
                _ => (vec![format!("{node} running")], "ON"),
            };
            assert_eq!(rows(&folder, office, source), link, "{office} after {node}");
            assert_eq!(rows(&folder, office, setting), [closed], "{office} after {node}");
        }
        fs::copy(folder.path(&after), folder.path("net/keen.toml")).unwrap();
        let run = scene.run_while(|| keen(&folder, &["mend", &plan, "--yes"])).unwrap();
        assert_eq!(run.code, 0, "{run:?}");
        let proven = format!("compared on {node} and {other}: they agree");
        assert!(run.out.contains(&proven), "{}", run.out);
        nothing_is_lost(&folder, &scene);
        let flow = scene.run_while(|| keen(&folder, &["flow", "--interval", "1s"])).unwrap();
        assert_eq!(flow.code, 0, "{flow:?}");
    }
}

#[test]
fn a_stand_in_is_taken_apart_and_what_does_not_arrive_is_said() {
    let folder = Folder::new("");
    let mut scene = Handover::begin(&folder.path("net"), 7).unwrap();
    folder.sql("net/cirque.db", "UPDATE keen_lab_link SET state = 'paused'");
    let run = keen(&folder, &["plan", "--take-apart", "valley:cirque", "--save", "cirque.plan"]);
    assert!(run.out.contains("what valley wrote and cirque has not applied"), "{}", run.out);
    let run = scene
        .run_while(|| {
            let run = keen(&folder, &["plan", "--take-apart", "all", "--save", "all.plan"]);
            assert_eq!(run.code, 1, "{run:?}");
            keen(&folder, &["mend", "all.plan", "--yes"])
        })
        .unwrap();
    assert_eq!(run.code, 0, "{run:?}");
    for office in OFFICES {
        let left = rows(&folder, office, "SELECT * FROM keen_lab_link");
        assert_eq!(left, Vec::<String>::new(), "{office}");
        let guests = rows(&folder, office, "SELECT count(*) FROM guest");
        assert!(guests[0].parse::<u64>().unwrap() >= 200, "the rows stay: {guests:?}");
    }
    let again = keen(&folder, &["mend", "all.plan", "--yes"]);
    assert_eq!(again.code, 0, "{again:?}");
}

#[test]
fn a_lead_of_the_stand_in_is_not_handed_over_where_something_would_be_lost() {
    let folder = Folder::new("");
    drop(Handover::begin(&folder.path("net"), 7).unwrap());
    let refused = |part: &str| {
        let run = keen(&folder, &["plan", "--promote", "saddle"]);
        assert_eq!(run.code, 2, "{run:?}");
        assert!(run.err.contains(part), "{}", run.err);
    };
    folder.sql("net/saddle.db", "UPDATE keen_lab_link SET state = 'paused'");
    refused("does not bring what valley writes");
    folder.sql("net/saddle.db", "UPDATE keen_lab_link SET state = 'running'");
    let own = "INSERT INTO keen_lab_transaction SELECT max(position) + 1, 'saddle', max(position) + 1, 0, 0, 0 FROM keen_lab_transaction";
    folder.sql("net/saddle.db", own);
    refused("that were made on saddle itself");
    folder.sql("net/saddle.db", "DROP TABLE keen_lab_link; DROP TABLE keen_lab_setting");
    refused("saddle");

    // A plan that was changed by hand.
    let folder = Folder::new("");
    drop(Handover::begin(&folder.path("net"), 7).unwrap());
    let run = keen(&folder, &["plan", "--promote", "saddle", "--save", "lead.plan"]);
    assert_eq!(run.code, 1, "{run:?}");
    let text = fs::read_to_string(folder.path("lead.plan")).unwrap();
    for (right, wrong, why) in [
        ("\"carries\":[\"bookings\"]", "\"carries\":[\"beds\"]", "set beds is not in the topology"),
        ("\"from\":\"saddle\"", "\"from\":\"ridge\"", "node ridge is not in the topology"),
    ] {
        assert!(text.contains(right), "{text}");
        fs::write(folder.path("edited.plan"), text.replace(right, wrong)).unwrap();
        let run = keen(&folder, &["mend", "edited.plan", "--yes"]);
        assert_eq!(run.code, 2, "{run:?}");
        assert!(run.err.contains(why), "{}", run.err);
    }
}

/// Does what a plan says, step by step, in the files; how many statements that were.
fn by_hand(folder: &Folder, plan: &str) -> usize {
    let mut office = "";
    let mut statements = 0;
    for line in plan.lines() {
        // A step begins with its number; what belongs to it stands further in.
        let begins = line.starts_with("  ") && !line.starts_with("     ");
        if begins && line.contains(". wait until ") {
            std::thread::sleep(Duration::from_millis(300));
        } else if begins && let Some((_, step)) = line.split_once(" on ") {
            office = OFFICES.into_iter().find(|o| step.starts_with(*o)).unwrap();
        }
        if let Some(statement) = line.trim().strip_prefix("sql ").map(str::to_owned) {
            let file = Connection::open(folder.path(&format!("net/{office}.db"))).unwrap();
            file.execute_batch(&statement).unwrap();
            statements += 1;
        }
    }
    statements
}

#[test]
fn the_printed_statements_move_the_lead_by_hand() {
    let folder = Folder::new("");
    let mut scene = Handover::begin(&folder.path("net"), 7).unwrap();
    let run = keen(&folder, &["plan", "--promote", "saddle", "--save", "lead.plan"]);
    let statements = scene.run_while(|| by_hand(&folder, &run.out)).unwrap();
    assert_eq!(statements, 8, "{}", run.out);
    nothing_is_lost(&folder, &scene);
    fs::copy(folder.path("lead.plan.toml"), folder.path("net/keen.toml")).unwrap();
    // What was done by hand is not done once more.
    let run = scene.run_while(|| keen(&folder, &["mend", "lead.plan", "--yes"])).unwrap();
    assert_eq!(run.code, 0, "{run:?}");
    assert!(run.out.contains("0 changes made"), "{}", run.out);
    nothing_is_lost(&folder, &scene);
}
