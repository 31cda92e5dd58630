//! The demo, from end to end, and what follows from it.

use std::fs;

use crate::common::Folder;

#[test]
fn the_demo_shows_the_whole_way_and_the_commands_it_names_work() {
    let folder = Folder::new("");
    let run = folder.keen(&["demo", "--dir", "huts"]);
    assert_eq!((run.code, run.err.as_str()), (0, ""), "{run:?}");
    for part in [
        "stalled   cirque -> saddle",
        "trailing  valley -> archive",
        "draining, ",
        "idle      valley -> board-east",
        "absent    valley -> board-west",
        "detached subscriber: follows nobody",
        "arrived: weather of valley just now",
        "keen preflight",
        "warn  trigger-again  weather_reading on archive",
        "…, phone, note on valley and saddle; …, note, phone on cirque",
        "keen audit",
        "keen conflicts",
        "hut 'cirque', bed 2, night '2026-09-27'",
        "settled alike, 1 write lost",
        "valley's bed 4",
        "keen plan",
        "15 divergent rows in 5 of 8 tables",
        "note = ''",
        "(no row)",
        "a row without a key",
        "outside the set's filter on valley",
        "?",
        "more than half",
        "keen mend",
        "Proof: 15 rows that were written, compared on every node that was read for the plan: they agree.",
        "keen audit: All agree.",
        "read_only: OFF -> ON",
        "compared on saddle and valley: they agree",
        "280 guests rang by now. As SQLite itself counts them: valley 280, saddle 280, cirque 280.",
        "As SQLite itself counts them: 0 links are left",
    ] {
        assert!(run.out.contains(part), "{part:?} in\n{}", run.out);
    }
    assert!(!run.out.contains("given out twice"), "{}", run.out);
    let mut commands: Vec<Vec<&str>> = run
        .out
        .lines()
        .filter_map(|line| line.trim().strip_prefix("keen "))
        .filter(|line| line.contains("--topology"))
        .map(|line| line.split_whitespace().collect())
        .collect();
    assert_eq!(commands.len(), 12);
    // Mended, there is less to see for the others.
    commands.sort_by_key(|command| command[0] == "mend");
    for mut command in commands {
        if command[0] == "mend" {
            command.push("--yes"); // there is nobody to ask
        }
        let run = folder.keen(&command);
        let code = if ["history", "mend"].contains(&command[0]) { 0 } else { 1 };
        let said = if command[0] == "mend" { "" } else { run.err.as_str() };
        assert_eq!((run.code, said), (code, ""), "{command:?}: {run:?}");
    }
    for file in [
        "huts/truth.json",
        "huts/boards/east.db",
        "audit.json",
        "repair/saddle.repair.sql",
        "repair/saddle.undo.sql",
    ] {
        assert!(folder.path(file).is_file(), "{file}");
    }
}

#[test]
fn repaired_the_huts_agree_but_for_what_was_asked() {
    let folder = Folder::new("");
    folder.keen(&["demo", "--dir", "huts"]);
    folder.keen(&["plan", "--topology", "huts/keen.toml", "--format", "sql", "--output", "repair"]);
    for (node, file) in [
        ("saddle", "saddle"),
        ("board-east", "boards/east"),
        ("board-west", "boards/west"),
        ("archive", "archive"),
    ] {
        let script = fs::read_to_string(folder.path(&format!("repair/{node}.repair.sql"))).unwrap();
        folder.sql(&format!("huts/{file}.db"), &script);
    }
    let run = folder.keen(&["audit", "--topology", "huts/keen.toml"]);
    assert!(run.out.contains("9 divergent rows in 4 of 8 tables"), "{}", run.out);
    assert!(run.out.contains("phone differs"), "{}", run.out);
}

#[test]
fn the_same_seed_tells_the_same_story() {
    let folder = Folder::new("");
    for (dir, seed) in [("one", "7"), ("two", "7"), ("three", "8")] {
        assert_eq!(folder.keen(&["demo", "--dir", dir, "--seed", seed]).code, 0);
    }
    let balances = |dir: &str| {
        let json = folder
            .keen(&["audit", "--topology", &format!("{dir}/keen.toml"), "--format", "json"])
            .json();
        json["tables"]
            .as_array()
            .unwrap()
            .iter()
            .map(|t| t["balances"].to_string())
            .collect::<Vec<_>>()
    };
    assert_eq!(balances("one"), balances("two"));
    assert_ne!(balances("one"), balances("three"));
}

#[test]
fn a_folder_that_is_not_empty_is_left_as_it_is() {
    let folder = Folder::new("");
    fs::create_dir(folder.path("mine")).unwrap();
    fs::write(folder.path("mine/keep"), "").unwrap();
    let run = folder.keen(&["demo", "--dir", "mine"]);
    assert_eq!(run.code, 2);
    assert!(run.err.contains("left untouched"), "{}", run.err);
    assert_eq!(fs::read_dir(folder.path("mine")).unwrap().count(), 1);
    assert_eq!(folder.keen(&["demo", "--dir", "keen.toml"]).code, 2, "a file is no folder");
}

#[test]
fn without_a_folder_it_names_a_fresh_one() {
    let folder = Folder::new("");
    let output = folder.command(&["demo"]).env("TMPDIR", folder.root()).output().unwrap();
    assert_eq!(output.status.code(), Some(0));
    let made: Vec<_> = fs::read_dir(folder.root())
        .unwrap()
        .map(|e| e.unwrap().file_name())
        .filter(|n| n.to_string_lossy().starts_with("keen-demo-"))
        .collect();
    assert_eq!(made.len(), 1);
    assert!(String::from_utf8_lossy(&output.stdout).contains(&*made[0].to_string_lossy()));
}

#[test]
fn completions_and_man_pages_are_made() {
    let folder = Folder::new("");
    for shell in ["bash", "zsh", "fish", "powershell", "elvish"] {
        let run = folder.keen(&["completions", shell]);
        assert!(run.code == 0 && run.out.contains("audit"), "{shell}");
    }
    assert_eq!(folder.keen(&["completions", "--man", "man"]).code, 0);
    for page in
        ["keen", "keen-audit", "keen-flow", "keen-plan", "keen-probe", "keen-init", "keen-demo"]
    {
        let text = fs::read_to_string(folder.path(&format!("man/{page}.1"))).unwrap();
        assert!(text.contains(".TH") && text.contains(".SH SYNOPSIS"), "{page}");
    }
}
