//! The README is true: its first session runs as written, and its tables match the program.

use std::fs;

use crate::common::Folder;

const README: &str = include_str!("../../../../README.md");
const RUNNING: &str = include_str!("../../../../docs/running.md");

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
                        let arguments: Vec<&str> = line.split_whitespace().skip(1).collect();
                        let run = folder.keen(&arguments);
                        codes.push(run.code);
                        last = run.out;
                    }
                }
            }
        }
    }
    assert_eq!(codes, [1, 1, 0, 0]);
}

#[test]
fn every_command_is_in_its_table_and_exit_codes_and_options_are_those_of_the_program() {
    let folder = Folder::new("");
    let help = folder.keen(&["--help"]).out;
    let commands = help.split("Commands:").nth(1).unwrap().split("\n\n").next().unwrap();
    // What continues below a line stands further in.
    let names = commands.lines().filter(|line| line.len() > 2 && !line[2..].starts_with(' '));
    for line in names {
        let command = line.split_whitespace().next().unwrap();
        let row = |mark: &str| README.contains(&format!("{mark}`keen {command}"));
        assert!(command == "help" || row("| [") || row("| "), "{command} is not in the table");
    }
    for code in ["0", "1", "2", "3", "130"] {
        assert!(
            RUNNING.contains(&format!("| {code} |")) && help.contains(&format!("  {code} ")),
            "exit code {code}"
        );
    }
    let mut rows = 0;
    for row in RUNNING.lines().filter(|line| line.starts_with("| `--")) {
        let cells: Vec<&str> = row.trim_matches('|').split(" | ").collect();
        let option = cells[0].trim().trim_start_matches('`').split([' ', '`']).next().unwrap();
        for command in ["preflight", "flow", "probe", "audit", "conflicts", "plan"] {
            let named = cells[1].contains(command)
                || (cells[1].starts_with("all") && !cells[1].contains(&format!(" {command}")));
            let has = folder.keen(&[command, "--help"]).out.contains(option);
            assert!(!named || has, "keen {command} has no {option}");
        }
        rows += 1;
    }
    assert!(rows > 8, "{rows}");
}

#[test]
fn the_readme_links_every_picture() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let pictures = fs::read_dir(root.join("docs/screenshots")).unwrap();
    let names: Vec<String> =
        pictures.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    assert!((10..20).contains(&names.len()), "{names:?}");
    for name in names {
        assert!(README.contains(&format!("](docs/screenshots/{name})")), "{name} is not linked");
    }
}

#[test]
fn the_readme_is_short() {
    assert!(README.lines().count() <= 132, "{}", README.lines().count());
    let wide: Vec<&str> = README.lines().filter(|line| line.chars().count() > 120).collect();
    assert!(wide.is_empty(), "{wide:#?}");
}

#[test]
fn files_that_documents_link_to_are_there() {
    let mut links = 0;
    for (document, text) in documents() {
        let folder = std::path::Path::new(&document).parent().unwrap();
        let prose = text.split("\n```").step_by(2);
        for part in prose.flat_map(|prose| prose.split("](").skip(1)) {
            let target = part.split([')', '#']).next().unwrap();
            if !target.starts_with("http") && !target.is_empty() {
                assert!(folder.join(target).exists(), "{document}: {target}");
                links += 1;
            }
        }
    }
    assert!(links > 50, "{links}");
}

/// The README and the documents, by name.
fn documents() -> Vec<(String, String)> {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let in_docs = fs::read_dir(root.join("docs")).unwrap().map(|entry| entry.unwrap().path());
    let pages = in_docs.filter(|path| path.extension().is_some_and(|end| end == "md"));
    let all = pages.chain([root.join("README.md"), root.join("CONTRIBUTING.md")]);
    all.map(|path| (path.display().to_string(), fs::read_to_string(&path).unwrap())).collect()
}

/// The code in a text: between backticks, or on a line of a block of code.
fn code(text: &str) -> impl Iterator<Item = &str> {
    let blocks = text.split("\n```").skip(1).step_by(2).flat_map(str::lines).map(str::trim);
    let prose = text.split("\n```").step_by(2);
    let spans = prose.flat_map(|prose| prose.split('`').skip(1).step_by(2));
    blocks.chain(spans)
}

fn options(text: &str) -> impl Iterator<Item = &str> {
    let ends = |c: char| !(c.is_ascii_lowercase() || c == '-');
    let words = text.split(|c: char| c.is_whitespace() || "`[(|".contains(c));
    let long = words.filter(|word| {
        word.strip_prefix("--")
            .is_some_and(|rest| rest.starts_with(|c: char| c.is_ascii_lowercase()))
    });
    long.map(move |word| word.split(ends).next().unwrap_or(word))
}

#[test]
fn documents_and_help_name_only_commands_and_options_that_there_are() {
    let folder = Folder::new("");
    let help = |command: &str| folder.keen(&[command, "--help"]).out;
    let (mut known, mut looked) = (std::collections::BTreeMap::new(), 0);
    for line in folder.keen(&["--help"]).out.split("Commands:").nth(1).unwrap().lines().skip(1) {
        let Some(command) = line.split_whitespace().next() else { break };
        let text = if command == "help" { String::new() } else { help(command) };
        // An option is declared at the beginning of a line, or behind its short form.
        let declared: std::collections::BTreeSet<String> = (text.lines())
            .filter(|line| line.trim_start().starts_with('-'))
            .filter_map(|line| options(line).next().map(str::to_owned))
            .collect();
        for option in options(&text) {
            assert!(declared.contains(option), "keen {command} --help names {option}");
        }
        known.insert(command.to_owned(), declared);
    }
    for (document, text) in documents() {
        for code in code(&text).filter_map(|code| code.strip_prefix("keen ")) {
            let Some(command) = code.split_whitespace().next() else { continue };
            if command.starts_with('-') || command.starts_with(|c: char| !c.is_ascii_lowercase()) {
                continue;
            }
            let declared = known.get(command);
            let declared = declared.unwrap_or_else(|| panic!("{document}: keen {code}"));
            for option in options(code) {
                assert!(declared.contains(option), "{document}: keen {code}");
                looked += 1;
            }
        }
    }
    assert!(looked > 20, "{looked}");
}

#[test]
fn documents_name_only_files_that_there_are() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let places = [
        "",
        "crates",
        "crates/keen-core/src",
        "crates/keen-wire/src",
        "crates/keen-adapters/src",
        "crates/keen-run/src",
        "crates/keen-lab/src",
        "crates/keen-testkit/src",
        "crates/keen-cli/src",
        "crates/keen-core",
        "crates/keen-wire",
        "crates/keen-adapters",
        "crates/keen-run",
        "crates/keen-lab",
        "crates/keen-testkit",
        "crates/keen-cli",
        "crates/keen-core/tests/it",
        "crates/keen-adapters/tests/it",
        "crates/keen-run/tests/it",
        "crates/keen-lab/tests/it",
        "crates/keen-testkit/tests/it",
        "crates/keen-cli/tests/it",
    ];
    let mut looked = 0;
    for (document, text) in documents() {
        for code in code(&text) {
            let path = |c: char| c.is_ascii_alphanumeric() || "/._-".contains(c);
            let is_ours = code.ends_with(".rs")
                || ["crates/", "docs/", "scripts/"].iter().any(|first| code.starts_with(first));
            if is_ours && code.chars().all(path) {
                let there = places.iter().any(|place| root.join(place).join(code).exists())
                    || source_files(&root).any(|file| file.ends_with(code));
                assert!(there, "{document}: {code}");
                looked += 1;
            }
        }
    }
    assert!(looked > 20, "{looked}");
}

fn source_files(root: &std::path::Path) -> impl Iterator<Item = std::path::PathBuf> {
    let mut folders = vec![root.join("crates")];
    let mut files = Vec::new();
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() { folders.push(path) } else { files.push(path) }
        }
    }
    files.into_iter()
}
