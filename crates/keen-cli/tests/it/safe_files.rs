//! Files that keen writes and reads: nothing that somebody needs is replaced, nothing hangs, no secret is shown, and a
//! failure inside is never taken for fine.

use std::fs;
use std::io::Read as _;
use std::os::unix::fs::{FileTypeExt as _, PermissionsExt as _, symlink};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::common::Folder;

fn huts() -> Folder {
    let folder = Folder::mesh(2, &["hut"], "");
    folder.sql_all(
        &["a.db", "b.db"],
        "CREATE TABLE hut (id INTEGER PRIMARY KEY, beds INTEGER); INSERT INTO hut VALUES (1, 4)",
    );
    folder.sql("b.db", "UPDATE hut SET beds = 5");
    folder
}

#[test]
fn a_result_never_takes_the_place_of_what_the_topology_needs() {
    let folder = huts();
    assert_eq!(folder.keen(&["audit"]).code, 1);
    fs::hard_link(folder.path("a.db"), folder.path("other.db")).unwrap();
    symlink("b.db", folder.path("link")).unwrap();
    let before = folder.snapshot();
    let ledger = fs::read(folder.path("keen.ledger")).unwrap();
    for place in ["a.db", "b.db-wal", "keen.toml", "keen.ledger", "other.db", "link"] {
        for args in [
            &["audit"][..],
            &["plan"],
            &["conflicts"],
            &["flow", "--interval", "0s"],
            &["preflight"],
        ] {
            let run = folder.keen(&[args, &["--output", place]].concat());
            assert_eq!(run.code, 2, "{place} {args:?}: {run:?}");
            assert!(run.err.contains("name another file for --output"), "{run:?}");
        }
    }
    assert_eq!(folder.snapshot(), before);
    assert_eq!(fs::read(folder.path("keen.ledger")).unwrap(), ledger);
}

#[test]
fn devices_and_pipes_are_written_to_links_followed_and_results_kept_private() {
    let folder = huts();
    let run = folder.keen(&["audit", "--output", "/dev/null"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert!(fs::metadata("/dev/null").unwrap().file_type().is_char_device());
    let pipe = folder.path("pipe");
    assert!(Command::new("mkfifo").arg(&pipe).status().unwrap().success());
    let reader = {
        let pipe = pipe.clone();
        std::thread::spawn(move || {
            let mut text = String::new();
            fs::File::open(pipe).unwrap().read_to_string(&mut text).unwrap();
            text
        })
    };
    let run = folder.keen(&["audit", "--format", "json", "--output", "pipe"]);
    assert_eq!(run.code, 1, "{run:?}");
    assert!(reader.join().unwrap().contains("\"divergent\""));
    assert!(fs::metadata(&pipe).unwrap().file_type().is_fifo());
    symlink("elsewhere.json", folder.path("link")).unwrap();
    assert_eq!(folder.keen(&["audit", "--format", "json", "--output", "link"]).code, 1);
    assert!(fs::symlink_metadata(folder.path("link")).unwrap().file_type().is_symlink());
    let mode = fs::metadata(folder.path("elsewhere.json")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o600, "results hold rows");
}

#[test]
fn what_a_killed_run_left_is_cleared_and_nothing_else() {
    let folder = huts();
    fs::write(folder.path(".keen-AbC123.part"), "half").unwrap();
    fs::write(folder.path(".keen-mine.part"), "a person's").unwrap();
    let held = fs::File::create(folder.path(".keen-ZzZ999.part")).unwrap();
    held.lock().unwrap();
    assert_eq!(folder.keen(&["audit", "--output", "result"]).code, 1);
    assert!(!folder.path(".keen-AbC123.part").exists());
    assert!(folder.path(".keen-mine.part").exists());
    assert!(folder.path(".keen-ZzZ999.part").exists(), "another run is at work on it");
}

#[test]
fn one_file_under_two_names_agrees_with_nobody() {
    let folder = huts();
    fs::remove_file(folder.path("b.db")).unwrap();
    fs::hard_link(folder.path("a.db"), folder.path("b.db")).unwrap();
    let run = folder.keen(&["audit"]);
    assert_eq!(run.code, 3, "{run:?}");
    assert!(run.out.contains("is the same file as that of node a"), "{run:?}");
}

#[test]
fn a_worker_that_falls_over_is_a_fault_of_its_node() {
    let folder = Folder::mesh(2, &["hut", "keen_probe"], "");
    folder.sql_all(&["a.db", "b.db"], "CREATE TABLE hut (id INTEGER PRIMARY KEY, beds INTEGER); CREATE TABLE keen_probe (id TEXT PRIMARY KEY, stage INTEGER)");
    for args in [
        &["audit"][..],
        &["plan"],
        &["flow", "--interval", "0s"],
        &["conflicts"],
        &["probe", "--timeout", "1s"],
        &["audit", "--threads", "2"],
    ] {
        let output = folder.command(args).env("KEEN_FALL_OVER_AT", "b").output().unwrap();
        let run = format!("{args:?}: {output:?}");
        assert_eq!(output.status.code(), Some(3), "{run}");
        assert!(
            String::from_utf8_lossy(&output.stderr).contains("asked to fall over at b"),
            "{run}"
        );
    }
    // Of a preflight an unreachable node is a stop.
    let output = folder.command(&["preflight"]).env("KEEN_FALL_OVER_AT", "b").output().unwrap();
    let out = String::from_utf8(output.stdout).unwrap();
    assert_eq!(output.status.code(), Some(1), "{out}");
    let out = out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(out.contains("ooking at it failed inside keen"), "{out}");
}

#[test]
fn limits_beyond_what_can_be_waited_for_are_refused() {
    let folder = huts();
    for args in [
        ["audit", "--connect-timeout", "25d"],
        ["preflight", "--connect-timeout", "25d"],
        ["flow", "--interval", "9000000h"],
    ] {
        let run = folder.keen(&args);
        assert!(run.code == 2 && run.err.contains("seven days (7d) is the longest"), "{run:?}");
    }
    assert_eq!(folder.keen(&["audit", "--connect-timeout", "7d"]).code, 1);
}

#[test]
fn pipes_and_devices_in_the_topology_are_not_waited_for() {
    let folder = huts();
    let pipe = folder.path("pipe");
    assert!(Command::new("mkfifo").arg(&pipe).status().unwrap().success());
    let text = fs::read_to_string(folder.path("keen.toml")).unwrap();
    let began = Instant::now();
    fs::write(folder.path("keen.toml"), text.replace("sqlite:b.db", "sqlite:pipe")).unwrap();
    let run = folder.keen(&["audit", "--connect-timeout", "1s"]);
    assert!(run.code == 3 && run.out.contains("is not an ordinary file"), "{run:?}");
    let journal =
        text.replace("at = \"sqlite:b.db\"\n", "at = \"sqlite:b.db\"\njournal = \"pipe\"\n");
    fs::write(folder.path("keen.toml"), journal).unwrap();
    let run = folder.keen(&["conflicts", "--connect-timeout", "1s"]);
    assert!(run.code == 3 && run.out.contains("is not an ordinary file"), "{run:?}");
    let password = text.replace(
        "at = \"sqlite:b.db\"\n",
        "at = \"postgres://keen@127.0.0.1:1/huts\"\npassword = { file = \"pipe\" }\n",
    );
    fs::write(folder.path("keen.toml"), password).unwrap();
    let run = folder.keen(&["audit", "--connect-timeout", "1s"]);
    assert!(
        run.code == 3 && run.out.contains("it sent nothing within --connect-timeout"),
        "{run:?}"
    );
    assert!(began.elapsed() < Duration::from_secs(20), "nothing hangs");
    let run = folder.keen(&["audit", "--topology", "/dev/zero"]);
    assert!(run.code == 2 && run.err.contains("cannot read /dev/zero"), "{run:?}");
}

#[test]
fn no_message_shows_a_secret() {
    for (line, secret) in [
        ("at = \"postgres://keen:geheim@h/d\"", "geheim"),
        ("at = \"mariadb://keen@h/d?password=geheim\"", "geheim"),
        ("at = \"postgres://keen@h/d\"\npassword = \"geheim\"", "geheim"),
        ("at = \"postgres://keen:ge@heim@h:x/d\"", "heim"),
        ("at = \"postgres://keen@h/d\"\npasswort = \"geheim\"", "geheim"),
        ("at = \"postgres://keen@h/d\"\npassword = \"geheim", "geheim"),
    ] {
        let folder = Folder::new(&format!(
            "name = \"n\"\n[node.a]\n{line}\n[node.b]\nat = \"sqlite:b.db\"\n"
        ));
        let run = folder.keen(&["audit"]);
        assert_eq!(run.code, 2, "{run:?}");
        assert!(!run.err.contains(secret) && !run.out.contains(secret), "{line}: {run:?}");
    }
    let folder = Folder::new(
        "name = \"n\"\n[node.a]\nat = \"postgres://keen@127.0.0.1:1/d\"\ntls = \"unverified\"\npassword = { file = \"secret\" }\n\
         [node.b]\nat = \"sqlite:b.db\"\n[set.s]\ntables = [\"hut\"]\n[[link]]\nboth = [\"a\", \"b\"]\ncarries = [\"s\"]\n",
    );
    fs::write(folder.path("secret"), "geheim").unwrap();
    fs::set_permissions(folder.path("secret"), fs::Permissions::from_mode(0o644)).unwrap();
    let run = folder.keen(&["audit", "--connect-timeout", "1s"]);
    assert!(run.err.contains("the certificate of a is not checked"), "{run:?}");
    assert!(run.err.contains("other users can read the password file of a"), "{run:?}");
    let run = folder.keen(&["preflight", "--connect-timeout", "1s"]);
    assert!(run.out.contains("tls-unverified") && run.out.contains("password-exposed"), "{run:?}");
    fs::set_permissions(folder.path("secret"), fs::Permissions::from_mode(0o600)).unwrap();
    assert!(!folder.keen(&["audit", "--connect-timeout", "1s"]).err.contains("password file"));
}

#[test]
fn the_exit_code_is_what_was_found_also_where_nobody_reads_to_the_end() {
    let folder = huts();
    for i in 2..2000 {
        folder.sql("b.db", &format!("INSERT INTO hut VALUES ({i}, {i})"));
    }
    for args in [&["audit", "--format", "json"][..], &["plan"], &["audit", "--show", "5000"]] {
        let mut child = Command::new(env!("CARGO_BIN_EXE_keen"))
            .args(args)
            .current_dir(folder.root())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        drop(child.stdout.take());
        assert_eq!(child.wait().unwrap().code(), Some(1), "{args:?}");
    }
    // Where there is no room for it, that is an error.
    let full = fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
    let status = Command::new(env!("CARGO_BIN_EXE_keen"))
        .args(["conflicts", "--ddl"])
        .current_dir(folder.root())
        .stdout(full)
        .stderr(Stdio::null())
        .status()
        .unwrap();
    assert_ne!(status.code(), Some(1));
}

#[test]
fn an_audit_file_with_impossible_contents_is_refused_in_words() {
    let folder = huts();
    assert_eq!(folder.keen(&["audit", "--format", "json", "--output", "audit.json"]).code, 1);
    let audit: serde_json::Value =
        serde_json::from_str(&fs::read_to_string(folder.path("audit.json")).unwrap()).unwrap();
    let damage: [&dyn Fn(&mut serde_json::Value); 5] = [
        &|row| row["versions"][0]["row"] = serde_json::Value::Null,
        &|row| row["versions"] = serde_json::json!([row["versions"][0], row["versions"][0]]),
        &|row| {
            row["versions"][0]["row"] = serde_json::Value::Null;
            row["versions"][1]["row"] = serde_json::Value::Null;
        },
        &|row| {
            row["versions"][0]["nodes"] = serde_json::json!([]);
        },
        &|row| row["versions"][0]["count"] = 0.into(),
    ];
    for (i, damage) in damage.iter().enumerate() {
        let mut damaged = audit.clone();
        damage(&mut damaged["tables"][0]["divergent"][0]);
        fs::write(folder.path("damaged.json"), damaged.to_string()).unwrap();
        let run = folder.keen(&["plan", "--audit", "damaged.json"]);
        assert!(!run.err.contains("panicked"), "{i}: {run:?}");
        assert!(run.code == 2 || i == 0, "{i}: {run:?}");
    }
}

#[test]
fn what_was_typed_does_not_reach_the_terminal_as_it_is() {
    let folder = huts();
    let run = folder.keen(&["audit", "--no-such\u{202e}option"]);
    assert_eq!(run.code, 2);
    assert!(!run.err.contains('\u{202e}'), "{run:?}");
}
