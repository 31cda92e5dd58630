//! Arrows of import point one way: between crates, between the folders of a crate, and nowhere in a circle.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// The crates, and which of them each may import. What only tests use is not looked at.
const CRATES: [(&str, &[&str]); 7] = [
    ("keen_core", &[]),
    ("keen_wire", &["keen_core"]),
    ("keen_adapters", &["keen_wire", "keen_core"]),
    ("keen_run", &["keen_wire", "keen_core"]),
    ("keen_lab", &["keen_core"]),
    ("keen_testkit", &["keen_adapters", "keen_core"]),
    ("keen_cli", &["keen_run", "keen_adapters", "keen_wire", "keen_lab", "keen_core"]),
];

/// Folders and files of a crate: arrows point down each list only.
const FLOORS: [(&str, &[&str]); 4] = [
    (
        "keen_core",
        &[
            "plan",
            "seed",
            "preflight",
            "setup",
            "links",
            "conflict",
            "ports",
            "audit",
            "history",
            "observe",
            "engine",
            "topology",
            "fault",
            "row",
            "value",
            "glossary",
            "units",
        ],
    ),
    (
        "keen_run",
        &[
            "conflicts",
            "mend",
            "audit",
            "preflight",
            "probe",
            "owed",
            "links",
            "tables",
            "ledger",
            "rows_by_key",
            "spool",
            "opener",
            "fan_out",
        ],
    ),
    (
        "keen_adapters",
        &["sqlite", "postgres", "mariadb", "files", "memory", "adapter", "tls", "server", "cells"],
    ),
    (
        "keen_cli",
        &["commands", "render", "app", "progress", "terminal", "args", "safe", "numbers", "exit"],
    ),
];

/// A source file: the crate and the modules that lead to it, and what it imports.
struct Source {
    module: Vec<String>,
    imports: Vec<Vec<String>>,
}

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().to_owned()
}

fn files(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            files(&path, found);
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            found.push(path);
        }
    }
}

/// The modules that lead to a file below `src`.
fn module(crate_name: &str, below: &Path) -> Vec<String> {
    let mut module = vec![crate_name.to_owned()];
    let parts: Vec<&str> = below.iter().map(|part| part.to_str().unwrap()).collect();
    let (file, folders) = parts.split_last().unwrap();
    module.extend(folders.iter().map(|folder| (*folder).to_owned()));
    if !["lib.rs", "main.rs", "mod.rs"].contains(file) {
        module.push(file.trim_end_matches(".rs").to_owned());
    }
    module
}

fn sources() -> Vec<Source> {
    let mut sources = Vec::new();
    for (name, _) in CRATES {
        let src = root().join(name.replace('_', "-")).join("src");
        let mut found = Vec::new();
        files(&src, &mut found);
        for path in found {
            let below = path.strip_prefix(&src).unwrap();
            if below.starts_with("bin") {
                continue;
            }
            let module = module(name, below);
            let imports = imports(&module, &fs::read_to_string(&path).unwrap());
            sources.push(Source { module, imports });
        }
    }
    sources
}

/// The text without its comments, its texts in quotes, and its tests.
fn code(text: &str) -> String {
    let text = text.split("#[cfg(test)]\nmod tests").next().unwrap();
    let mut code = String::new();
    for line in text.lines() {
        let mut in_quotes = false;
        let mut before = ' ';
        for (at, c) in line.char_indices() {
            if !in_quotes && line[at..].starts_with("//") {
                break;
            }
            if c == '"' && before != '\\' && before != '\'' {
                in_quotes = !in_quotes;
            } else if !in_quotes {
                code.push(c);
            }
            before = c;
        }
        code.push('\n');
    }
    code
}

/// The imports of a file, in `use` lines and by whole paths, as absolute paths.
fn imports(module: &[String], text: &str) -> Vec<Vec<String>> {
    let code = code(text);
    let starts = |word: &str| {
        let name = |c: char| c.is_alphanumeric() || c == '_' || c == ':';
        code.match_indices(word)
            .filter(|(at, _)| !code[..*at].ends_with(name))
            .map(|(at, _)| at)
            .collect::<Vec<_>>()
    };
    let mut found = Vec::new();
    let heads = CRATES.iter().map(|(name, _)| *name).chain(["crate", "super", "self"]);
    for head in heads {
        for at in starts(&format!("{head}::")) {
            tree(&code[at..], &mut Vec::new(), &mut found);
        }
    }
    found.into_iter().filter_map(|path| absolute(module, &path)).collect()
}

/// Takes a path apart, with what stands in braces at its end.
fn tree(text: &str, before: &mut Vec<String>, found: &mut Vec<Vec<String>>) {
    let depth = before.len();
    let mut rest = text;
    loop {
        let end = rest.find(|c: char| !(c.is_alphanumeric() || c == '_')).unwrap_or(rest.len());
        if end > 0 {
            before.push(rest[..end].to_owned());
        }
        rest = &rest[end..];
        match rest.strip_prefix("::") {
            Some(more) if more.starts_with('{') => {
                for part in parts(&more[1..]) {
                    tree(part.trim_start(), before, found);
                }
                break;
            }
            Some(more) => rest = more,
            None => {
                found.push(before.clone());
                break;
            }
        }
    }
    before.truncate(depth);
}

/// The text in braces, cut at the commas outside of further braces.
fn parts(text: &str) -> Vec<&str> {
    let (mut depth, mut begins, mut parts) = (0, 0, Vec::new());
    for (at, c) in text.char_indices() {
        match c {
            '{' => depth += 1,
            '}' if depth == 0 => {
                parts.push(&text[begins..at]);
                break;
            }
            '}' => depth -= 1,
            ',' if depth == 0 => {
                parts.push(&text[begins..at]);
                begins = at + 1;
            }
            _ => {}
        }
    }
    parts.retain(|part| !part.trim().is_empty());
    parts
}

fn absolute(module: &[String], path: &[String]) -> Option<Vec<String>> {
    let (head, rest) = path.split_first()?;
    let mut absolute = match head.as_str() {
        "crate" => vec![module[0].clone()],
        "self" => module.to_vec(),
        "super" => {
            let ups = path.iter().take_while(|part| *part == "super").count();
            let mut up = module[..module.len().checked_sub(ups)?].to_vec();
            up.extend(path[ups..].iter().cloned());
            return Some(up);
        }
        name => vec![name.to_owned()],
    };
    absolute.extend(rest.iter().cloned());
    Some(absolute)
}

/// Every arrow that points the wrong way.
fn wrong(sources: &[Source]) -> Vec<String> {
    let mut wrong = Vec::new();
    for source in sources {
        let here = &source.module[0];
        let (_, allowed) = CRATES.iter().find(|(name, _)| name == here).unwrap();
        for import in &source.imports {
            let there = &import[0];
            let arrow = || format!("{} -> {}", source.module.join("::"), import.join("::"));
            if there != here && !allowed.contains(&there.as_str()) {
                wrong.push(arrow());
            }
            let Some((_, floors)) = FLOORS.iter().find(|(name, _)| name == here) else { continue };
            let floor = |module: &[String]| {
                module.get(1).and_then(|name| floors.iter().position(|floor| floor == name))
            };
            if source.module.len() > 1 && floor(&source.module).is_none() {
                wrong.push(format!("{} stands on no floor", source.module.join("::")));
            }
            if there == here && floor(import).is_some_and(|to| Some(to) < floor(&source.module)) {
                wrong.push(arrow());
            }
        }
    }
    wrong.sort();
    wrong.dedup();
    wrong
}

/// Circles between folders that lie beside each other in one folder.
fn circles(sources: &[Source]) -> Vec<String> {
    let modules: BTreeSet<&[String]> = sources.iter().map(|source| &source.module[..]).collect();
    let is_folder =
        |path: &[String]| modules.iter().any(|m| m.len() > path.len() && m.starts_with(path));
    let mut arrows: BTreeMap<Vec<String>, BTreeSet<Vec<String>>> = BTreeMap::new();
    for source in sources {
        for import in &source.imports {
            let alike = source.module.iter().zip(import).take_while(|(a, b)| a == b).count();
            if alike == 0 || alike >= source.module.len() || alike >= import.len() {
                continue;
            }
            let (from, to) = (&source.module[..=alike], &import[..=alike]);
            if is_folder(from) && is_folder(to) {
                arrows.entry(from.to_vec()).or_default().insert(to.to_vec());
            }
        }
    }
    let mut found = Vec::new();
    for start in arrows.keys() {
        let (mut reached, mut next) = (BTreeSet::new(), vec![start]);
        while let Some(folder) = next.pop() {
            for to in arrows.get(folder).into_iter().flatten() {
                if reached.insert(to) {
                    next.push(to);
                }
            }
        }
        if reached.contains(start) {
            found.push(start.join("::"));
        }
    }
    found
}

#[test]
fn arrows_point_down_and_close_no_circle() {
    let sources = sources();
    let imports: usize = sources.iter().map(|source| source.imports.len()).sum();
    assert!(sources.len() > 150 && imports > 1000, "{} files, {imports} imports", sources.len());
    assert_eq!(wrong(&sources), Vec::<String>::new());
    assert_eq!(circles(&sources), Vec::<String>::new());
}

fn of(module: &str, text: &str) -> Source {
    let module: Vec<String> = module.split("::").map(str::to_owned).collect();
    let imports = imports(&module, text);
    Source { module, imports }
}

#[test]
fn an_arrow_that_is_turned_is_found() {
    let found = |module: &str, text: &str| wrong(&[of(module, text)]);
    assert!(found("keen_core::plan::make", "use crate::row::{batch::Batch, digest};").is_empty());
    assert_eq!(
        found("keen_core::row::batch", "use crate::{value::Value, plan::make};"),
        ["keen_core::row::batch -> keen_core::plan::make"]
    );
    assert_eq!(
        found("keen_core::row::batch", "fn f() { super::super::audit::merge::compare() }"),
        ["keen_core::row::batch -> keen_core::audit::merge::compare"]
    );
    assert_eq!(
        found("keen_run::audit", "use keen_adapters::sqlite;"),
        ["keen_run::audit -> keen_adapters::sqlite"]
    );
    assert_eq!(
        found("keen_cli::app::audit", "use crate::render::text;"),
        ["keen_cli::app::audit -> keen_cli::render::text"]
    );
    assert_eq!(
        found("keen_core::new_room", "use crate::value::Value;"),
        ["keen_core::new_room stands on no floor"]
    );
    assert!(
        found("keen_core::row::batch", "// use crate::plan;\nlet a = \"crate::plan::b\";")
            .is_empty()
    );
}

#[test]
fn a_circle_is_found() {
    let two = [
        of("keen_run::audit::a", "use crate::spool::b;"),
        of("keen_run::spool::b", "use crate::audit::a::A;"),
    ];
    assert_eq!(circles(&two), ["keen_run::audit", "keen_run::spool"]);
    assert!(circles(&two[..1]).is_empty());
}

#[test]
fn manifests_name_what_arrows_allow() {
    for (name, allowed) in CRATES {
        let path = root().join(name.replace('_', "-")).join("Cargo.toml");
        let text = fs::read_to_string(path).unwrap();
        let section = text.split("\n[dependencies]").nth(1).unwrap_or_default();
        let section = section.split("\n[").next().unwrap();
        for line in section.lines().filter(|line| line.starts_with("keen-")) {
            let dependency = line.split(['.', ' ']).next().unwrap().replace('-', "_");
            assert!(allowed.contains(&dependency.as_str()), "{name} depends on {dependency}");
        }
    }
}
