//! `keen explain`: the checks of preflight, the states of a link, and conflicts.

use std::io::Write as _;

use anyhow::{Result, bail};
use keen_core::conflict::{Kind, Standing};
use keen_core::flow::State;
use keen_core::preflight::legend::{self, Area};

use crate::args::ExplainArgs;
use crate::exit::Exit;
use crate::render::style::{HEADING, QUIET, hanging, styled};
use crate::terminal::Terminal;

const KIND: &str = "kind of conflict";
const STANDING: &str = "what came of a conflict";

/// Prints the legend, or one entry of it.
pub(crate) fn run(args: &ExplainArgs, terminal: Terminal) -> Result<Exit> {
    let mut out = terminal.stdout();
    let columns = terminal.columns;
    let Some(name) = &args.name else {
        writeln!(out, "{}", styled(HEADING, "states of a link"))?;
        for state in State::ALL {
            let lead = format!("  {:9}  ", state.name());
            out.write_all(hanging(&lead, state.meaning(), columns).as_bytes())?;
        }
        let widest = legend::CHECKS.iter().map(|check| check.name.len()).max().unwrap_or(0);
        for area in Area::ALL {
            writeln!(out, "{}", styled(HEADING, area.name()))?;
            for check in legend::CHECKS.iter().filter(|check| check.area == area) {
                let lead = format!("  {:widest$}  ", check.name);
                out.write_all(hanging(&lead, check.meaning, columns).as_bytes())?;
            }
        }
        writeln!(out, "{}", styled(HEADING, "kinds of conflicts"))?;
        for kind in Kind::ALL {
            let lead = format!("  {:13}  ", kind.name());
            out.write_all(hanging(&lead, kind.meaning(), columns).as_bytes())?;
        }
        writeln!(out, "{}", styled(HEADING, STANDING))?;
        for standing in Standing::ALL {
            let lead = format!("  {:25}  ", standing.name());
            out.write_all(hanging(&lead, standing.meaning(), columns).as_bytes())?;
        }
        return Ok(Exit::Agree);
    };
    let (kind, lines) = if let Some(state) = State::named(name) {
        let lines = [
            ("Means  ", state.meaning()),
            ("From   ", state.decided()),
            ("Do     ", state.remedy()),
        ];
        ("state of a link", lines)
    } else if let Some(check) = legend::check(name) {
        let lines = [("Means  ", check.meaning), ("Why    ", check.why), ("Do     ", check.remedy)];
        (check.area.name(), lines)
    } else if let Some(kind) = Kind::named(name) {
        let lines =
            [("Means  ", kind.meaning()), ("Why    ", kind.why()), ("Do     ", kind.remedy())];
        (KIND, lines)
    } else if let Some(standing) = Standing::named(name) {
        let lines = [
            ("Means  ", standing.meaning()),
            ("From   ", standing.decided()),
            ("Do     ", standing.remedy()),
        ];
        (STANDING, lines)
    } else {
        let known = (State::ALL.iter().map(|state| state.name()))
            .chain(Kind::ALL.iter().map(|kind| kind.name()))
            .chain(Standing::ALL.iter().map(|standing| standing.name()))
            .chain(legend::CHECKS.iter().map(|check| check.name));
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
        let near = if near.is_empty() {
            "keen explain lists them all".to_owned()
        } else {
            format!("did you mean {}?", near.join(" or "))
        };
        bail!("there is no check, state or kind {}: {near}", crate::safe::text(name));
    };
    writeln!(out, "{}  {}", styled(HEADING, name), styled(QUIET, kind))?;
    for (lead, text) in lines {
        out.write_all(hanging(lead, text, columns).as_bytes())?;
    }
    Ok(Exit::Agree)
}
