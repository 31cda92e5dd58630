//! Every command that keen prints is run by a test: a walk over the checks of the legend, and over the sources.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use crate::common::printed::{CHECKS_WITH_COMMANDS, CHECKS_WITHOUT, NOT_AS_IT_STANDS, RUN};
use keen_core::preflight::legend::CHECKS;

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().to_owned()
}

/// The body of a test, named as "file: test".
fn body(name: &str) -> String {
    let (file, test) = name.split_once(": ").unwrap_or_else(|| panic!("{name}"));
    let path = crates().join(format!("keen-cli/tests/it/{file}.rs"));
    let text = fs::read_to_string(&path).unwrap_or_else(|error| panic!("{name}: {error}"));
    let (_, rest) = text
        .split_once(&format!("#[test]\nfn {test}()"))
        .unwrap_or_else(|| panic!("there is no test {name}"));
    rest.split("\n}\n").next().unwrap().to_owned()
}

/// Runs something on a server or a file that was taken out of what keen printed.
fn runs_what_is_printed(name: &str) -> bool {
    const WAYS: [&str; 12] = [
        ".run(&statement",
        ".run(statement",
        ".run(&printed",
        ".run(&steps",
        ".run(&statements",
        ".run(line",
        ".run(next)",
        ".run(&next)",
        "slots(&network)",
        "carry_out(",
        "run_script",
        "run_printed",
    ];
    const MORE: [&str; 15] = [
        "by_hand(&",
        "grants_are_enough(",
        "a_standby_is_promoted(",
        "run_ddl(",
        "mend(&peers",
        "mend(&network",
        "round_trip(",
        "quiet(&statement",
        ".run(&format!(\"SELECT",
        ".run(&wanted",
        ".run(found",
        "execute_batch(&",
        "network.servers[at].run(",
        ".run_in(\"postgres\", &statement)",
        "&[\"mend\", \"--undo\"",
    ];
    let body = body(name);
    WAYS.iter().chain(&MORE).any(|way| body.contains(way))
}

#[test]
fn every_check_with_a_command_has_a_test_that_runs_it() {
    let with: BTreeSet<&str> = CHECKS_WITH_COMMANDS.iter().map(|(check, _)| *check).collect();
    let without: BTreeSet<&str> = CHECKS_WITHOUT.iter().map(|(check, _)| *check).collect();
    assert_eq!(with.intersection(&without).next(), None);
    for check in CHECKS {
        assert!(
            with.contains(check.name) || without.contains(check.name),
            "{} stands in no list: name the test that runs what it prints, or why it prints nothing",
            check.name
        );
    }
    let known = |name: &&str| CHECKS.iter().any(|check| check.name == *name);
    assert!(with.iter().chain(&without).all(known), "a check that is gone");
    for (check, test) in CHECKS_WITH_COMMANDS {
        assert!(runs_what_is_printed(test), "{check}: {test} runs nothing that was printed");
    }
}

#[test]
fn every_statement_in_the_sources_has_a_test_that_runs_it() {
    let mut used: BTreeSet<&str> = BTreeSet::new();
    let mut unnamed = Vec::new();
    for literal in statements() {
        let lists = RUN.iter().chain(NOT_AS_IT_STANDS);
        let mut found = lists.filter(|(begins, _)| literal.starts_with(begins)).peekable();
        if found.peek().is_none() {
            unnamed.push(literal.clone());
        }
        used.extend(found.map(|(begins, _)| *begins));
    }
    assert!(unnamed.is_empty(), "no test is named that runs these: {unnamed:#?}");
    for (begins, _) in RUN {
        assert!(used.contains(begins), "no source prints {begins:?} any more");
    }
    let idle = |(_, test): &&(&str, &str)| !runs_what_is_printed(test);
    let idle: Vec<_> = RUN.iter().filter(idle).collect();
    assert!(idle.is_empty(), "these tests run nothing that was printed: {idle:#?}");
    for (begins, why) in NOT_AS_IT_STANDS {
        assert!(used.contains(begins) && !why.is_empty(), "no source has {begins:?} any more");
    }
}

/// Words that begin a statement for a server.
const WORDS: [&str; 44] = [
    "ALTER SYSTEM",
    "ALTER DATABASE",
    "ALTER TABLE",
    "ALTER SUBSCRIPTION",
    "ALTER PUBLICATION",
    "ALTER ROLE",
    "ALTER USER",
    "CREATE TABLE",
    "CREATE SUBSCRIPTION",
    "CREATE PUBLICATION",
    "CREATE USER",
    "CREATE ROLE",
    "CREATE TYPE",
    "CREATE DOMAIN",
    "CREATE COLLATION",
    "CREATE EXTENSION",
    "CREATE INDEX",
    "CREATE SCHEMA",
    "DROP TABLE",
    "DROP SUBSCRIPTION",
    "DROP PUBLICATION",
    "START SLAVE",
    "STOP SLAVE",
    "START ALL",
    "STOP ALL",
    "SET GLOBAL",
    "SET SESSION",
    "SET @",
    "CHANGE MASTER",
    "GRANT ",
    "REVOKE ",
    "TRUNCATE",
    "RESET ",
    "KILL ",
    "CHECK TABLE",
    "PURGE ",
    "mariadb-dump ",
    "mariadb --",
    "psql ",
    "sqlite3 ",
    "INSERT ",
    "DELETE FROM",
    "UPDATE {",
    "DO {mark}",
];
const CALLS: [&str; 2] = ["SELECT pg_", "SELECT pglogical."];

/// Sources that print, and those of their texts that name a statement.
fn statements() -> Vec<String> {
    let mut found = Vec::new();
    for (folder, printing) in [
        ("keen-core/src/preflight", true),
        ("keen-core/src/seed", true),
        ("keen-core/src/links", true),
        ("keen-core/src/observe", true),
        ("keen-core/src/plan", true),
        ("keen-core/src/setup", true),
        ("keen-core/src/engine/service_tables.rs", true),
        ("keen-cli/src", true),
        // Their statements are mostly their own; what they print is advice, or a right that is lacking.
        ("keen-adapters/src/mariadb", false),
        ("keen-adapters/src/postgres", false),
    ] {
        for path in sources(&crates().join(folder)) {
            let text = fs::read_to_string(&path).unwrap();
            let text = text.split("#[cfg(test)]").next().unwrap();
            for literal in literals(text) {
                let names = |word: &&'static str| literal.contains(*word);
                let own = [
                    "SELECT ",
                    "INSERT INTO {table}",
                    "INSERT INTO {}",
                    "UPDATE {table}",
                    "DELETE FROM {table}",
                    "SET SESSION",
                    "SET @mariadb_slave_capability",
                    "SHOW ",
                ];
                let rights = [
                    "GRANT ",
                    "GRANT OPTION",
                    " WITH GRANT OPTION",
                    "WITH GRANT OPTION",
                    "CREATE USER",
                ];
                let own = !printing
                    && (own.iter().any(|own| literal.starts_with(own))
                        || rights.contains(&&literal[..]));
                if (WORDS.iter().any(names) || CALLS.iter().any(names)) && !own {
                    found.push(literal);
                }
            }
        }
    }
    assert!(found.len() > 90, "the sources are not where they were: {}", found.len());
    found
}

fn sources(path: &Path) -> Vec<PathBuf> {
    if path.is_file() {
        return vec![path.to_owned()];
    }
    let entries = fs::read_dir(path).unwrap().map(|entry| entry.unwrap().path());
    let mut all: Vec<PathBuf> = entries.flat_map(|entry| sources(&entry)).collect();
    all.retain(|path| path.extension().is_some_and(|extension| extension == "rs"));
    all.sort();
    all
}

/// The texts between double quotes in a source, comments left out.
fn literals(source: &str) -> Vec<String> {
    let code: Vec<&str> =
        source.lines().filter(|line| !line.trim_start().starts_with("//")).collect();
    let code = code.join("\n").replace("'\"'", "''");
    let mut found = Vec::new();
    let mut rest = &code[..];
    while let Some(start) = rest.find('"') {
        let mut end = start + 1;
        while !rest[end..].starts_with('"') {
            end += if rest[end..].starts_with('\\') { 1 } else { 0 };
            end += rest[end..].chars().next().map_or(1, char::len_utf8);
        }
        found.push(rest[start + 1..end].to_owned());
        rest = &rest[end + 1..];
    }
    found
}
