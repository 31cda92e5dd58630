//! The topology file, from disk, with its problems shown where they stand.

use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Level as Title, Renderer, Snippet};
use anyhow::{Context, Result};
use keen_core::topology::{self, Level, Problem, Topology};

use crate::terminal::{Terminal, complain};

/// A topology and where it was found.
#[derive(Debug)]
pub(crate) struct Loaded {
    pub(crate) topology: Topology,
    /// The folder that relative paths in it start at.
    pub(crate) base: PathBuf,
}

/// Reads a topology file. Problems go to standard error; errors end the run.
pub(crate) fn topology(path: &Path, terminal: Terminal) -> Result<Loaded> {
    let text = fs::read_to_string(path).with_context(|| {
        let hint = if path.exists() {
            "name the topology file with --topology"
        } else {
            "write one with keen init, or name it with --topology"
        };
        format!("cannot read {}: {hint}", path.display())
    })?;
    let (topology, problems) = topology::read(&text);
    for problem in &problems {
        complain(&render(problem, &text, path, terminal));
    }
    let Some(topology) = topology else {
        let errors = problems.iter().filter(|problem| problem.level == Level::Error).count();
        anyhow::bail!(
            "{} cannot be used: {errors} error{}, nothing was read",
            path.display(),
            if errors == 1 { "" } else { "s" }
        );
    };
    let base = path.parent().unwrap_or(Path::new("")).to_owned();
    Ok(Loaded { topology, base })
}

fn render(problem: &Problem, text: &str, path: &Path, terminal: Terminal) -> String {
    let title = match problem.level {
        Level::Error => Title::ERROR,
        Level::Warning => Title::WARNING,
    };
    let name = path.display().to_string();
    let message = crate::safe::lines(&problem.message);
    let group = title.primary_title(message.as_str());
    let group = match &problem.span {
        Some(span) => {
            let span = span.start.min(text.len())..span.end.min(text.len());
            let snippet = Snippet::source(text)
                .path(name.as_str())
                .annotation(AnnotationKind::Primary.span(span));
            group.element(snippet)
        }
        None => group.element(annotate_snippets::Origin::path(name.as_str())),
    };
    let renderer = if terminal.colors_errors() { Renderer::styled() } else { Renderer::plain() };
    let mut out = renderer.decor_style(DecorStyle::Ascii).render(&[group]).clone();
    if let Some(help) = &problem.help {
        let mut lines = help.lines();
        let _ = write!(out, "\n  help: {}", lines.next().unwrap_or_default());
        for line in lines {
            let _ = write!(out, "\n        {line}");
        }
    }
    out.push('\n');
    out
}
