//! The README is true: its first session runs as written, and its tables match the program.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod common;

use std::fs;

use common::Folder;

const README: &str = include_str!("../../../README.md");

/// The fenced blocks of a section, as (language, text).
fn blocks(section: &str) -> Vec<(String, String)> {
    let start = README.find(section).unwrap();
    let text = &README[start + section.len()..];
    let text = &text[..text.find("\n## ").unwrap_or(text.len())];
    let mut parts = text.split("```");
    parts.next();
    let mut blocks = Vec::new();
    while let (Some(block), Some(_)) = (parts.next(), parts.next()) {
        let (language, body) = block.split_once('\n').unwrap();
        blocks.push((language.to_owned(), body.to_owned()));
    }
    blocks
}

#[test]
fn the_first_session_runs_as_written() {
    let folder = Folder::new("");
    fs::remove_file(folder.path("keen.toml")).unwrap();
    let mut last = String::new();
    let mut codes = Vec::new();
    for (language, body) in blocks("## A first session of your own") {
        match language.as_str() {
            "toml" => fs::write(folder.path("keen.toml"), body).unwrap(),
            "text" => assert!(last.contains(&body), "{body}\nin\n{last}"),
            _ => {
                for line in body.lines() {
                    if let Some((file, sql)) =
                        line.strip_prefix("sqlite3 ").and_then(|rest| rest.split_once(' '))
                    {
                        folder.sql(file, sql.trim_matches('"'));
                    } else {
                        if codes.len() == 3 {
                            // The session tells to run the script before it audits again.
                            let script =
                                fs::read_to_string(folder.path("repair/south.repair.sql")).unwrap();
                            folder.sql("south.db", &script);
                        }
                        let arguments: Vec<&str> = line.split_whitespace().skip(1).collect();
                        let run = folder.keen(&arguments);
                        codes.push(run.code);
                        last = run.out;
                    }
                }
            }
        }
    }
    assert_eq!(codes, [1, 1, 1, 0]);
}

#[test]
fn every_command_and_option_it_names_exists() {
    let folder = Folder::new("");
    for command in ["init", "audit", "conflicts", "plan", "demo", "completions"] {
        assert!(README.contains(&format!("| `keen {command}")), "{command} is in the table");
        assert_eq!(folder.keen(&[command, "--help"]).code, 0);
    }
    let help = ["audit", "conflicts", "flow", "plan", "preflight"]
        .map(|command| folder.keen(&[command, "--help"]).out)
        .concat();
    for row in README.lines().filter(|line| line.starts_with("| `--")) {
        let option = row.trim_start_matches("| `").split([' ', '`']).next().unwrap();
        assert!(help.contains(option), "{option}");
    }
    let help = folder.keen(&["--help"]).out;
    for code in ["0", "1", "2", "3", "130"] {
        assert!(
            README.contains(&format!("| {code} |")) && help.contains(&format!("  {code} ")),
            "exit code {code}"
        );
    }
}

#[test]
fn files_it_links_to_are_there() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut links = 0;
    for part in README.split("](").skip(1) {
        let target = part.split(')').next().unwrap();
        if !target.starts_with("http") {
            assert!(root.join(target).is_file(), "{target}");
            links += 1;
        }
    }
    assert!(links > 10);
}
