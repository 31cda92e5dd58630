//! `keen explain`: the checks of preflight, the states of a link, conflicts, and keen's own words.

use std::io::Write as _;

use anyhow::{Result, bail};
use keen_core::conflict::{ConflictKind, ConflictStanding};
use keen_core::glossary::{self, GLOSSARY};
use keen_core::links::LinkState;
use keen_core::preflight::legend::{self, Area};

use crate::args::ExplainArgs;
use crate::exit::Exit;
use crate::render::text::style::{HEADING, QUIET, hanging, styled};
use crate::terminal::Terminal;

const KIND: &str = "kind of conflict";
const STANDING: &str = "outcome of a conflict";

const WORD: &str = "word";

/// Prints the legend, or entries of it.
pub(crate) fn run(args: &ExplainArgs, terminal: Terminal) -> Result<Exit> {
    let mut out = terminal.stdout();
    let columns = terminal.columns;
    let text = match args.names.is_empty() {
        true => everything(columns),
        false => {
            // A name that is misspelled is told before anything is printed.
            let entries: Result<Vec<String>> =
                args.names.iter().map(|name| entry(name, columns)).collect();
            entries?.join("\n")
        }
    };
    out.write_all(text.as_bytes())?;
    Ok(Exit::Agree)
}

fn everything(columns: Option<usize>) -> String {
    let mut out = String::new();
    let mut part =
        |title: &str, entries: &mut dyn Iterator<Item = (&'static str, &'static str)>| {
            let entries: Vec<(&str, &str)> = entries.collect();
            let widest = entries.iter().map(|(name, _)| name.len()).max().unwrap_or(0);
            out.push_str(&format!("{}\n", styled(HEADING, title)));
            for (name, meaning) in entries {
                out.push_str(&hanging(&format!("  {name:widest$}  "), meaning, columns));
            }
        };
    let states = LinkState::ALL.into_iter().map(|state| (state.name(), state.meaning()));
    part("states of a link", &mut { states });
    for area in Area::ALL {
        let checks = legend::CHECKS.iter().filter(|check| check.area == area);
        part(area.name(), &mut checks.map(|check| (check.name, check.meaning)));
    }
    let kinds = ConflictKind::ALL.into_iter().map(|kind| (kind.name(), kind.meaning()));
    part("kinds of conflicts", &mut { kinds });
    let standings = ConflictStanding::ALL.into_iter().map(|s| (s.name(), s.meaning()));
    part(STANDING, &mut { standings });
    part("words", &mut GLOSSARY.iter().map(|term| (term.word, term.meaning)));
    out
}

fn entry(name: &str, columns: Option<usize>) -> Result<String> {
    let (kind, lines) = if let Some(state) = LinkState::named(name) {
        let lines = vec![
            ("Means  ", state.meaning()),
            ("From   ", state.decided()),
            ("Do     ", state.remedy()),
        ];
        ("state of a link", lines)
    } else if let Some(check) = legend::check(name) {
        let lines =
            vec![("Means  ", check.meaning), ("Why    ", check.why), ("Do     ", check.remedy)];
        (check.area.name(), lines)
    } else if let Some(kind) = ConflictKind::named(name) {
        let lines =
            vec![("Means  ", kind.meaning()), ("Why    ", kind.why()), ("Do     ", kind.remedy())];
        (KIND, lines)
    } else if let Some(term) = glossary::term(name) {
        // Some words stand for the outcome of a row and of a conflict.
        let of_conflicts = ConflictStanding::named(name)
            .map(|standing| [("From   ", standing.decided()), ("Do     ", standing.remedy())]);
        let lines = [("Means  ", term.meaning)].into_iter();
        (WORD, lines.chain(of_conflicts.into_iter().flatten()).collect())
    } else if let Some(standing) = ConflictStanding::named(name) {
        let lines = vec![
            ("Means  ", standing.meaning()),
            ("From   ", standing.decided()),
            ("Do     ", standing.remedy()),
        ];
        (STANDING, lines)
    } else {
        bail!("there is no check, state, kind or word {}: {}", crate::safe::text(name), near(name));
    };
    let mut out = format!("{}  {}\n", styled(HEADING, name), styled(QUIET, kind));
    for (lead, text) in lines {
        out.push_str(&hanging(lead, text, columns));
    }
    Ok(out)
}

/// The name that somebody may have meant.
fn near(name: &str) -> String {
    let known = (LinkState::ALL.iter().map(|state| state.name()))
        .chain(ConflictKind::ALL.iter().map(|kind| kind.name()))
        .chain(ConflictStanding::ALL.iter().map(|standing| standing.name()))
        .chain(legend::CHECKS.iter().map(|check| check.name))
        .chain(GLOSSARY.iter().map(|term| term.word));
    let slips: Vec<(usize, &str)> = known
        .map(|known| (strsim::osa_distance(name, known), known))
        .filter(|(wrong, _)| *wrong <= 2)
        .collect();
    let near: Vec<&str> = match slips.iter().map(|(wrong, _)| *wrong).min() {
        Some(least) => {
            slips.iter().filter(|(wrong, _)| *wrong == least).map(|(_, known)| *known).collect()
        }
        None => legend::nearest(name),
    };
    match near.is_empty() {
        true => "keen explain lists them all".to_owned(),
        false => format!("did you mean {}?", near.join(" or ")),
    }
}
