//! The topology file, from disk, with its problems shown where they stand.

use std::fmt::Write as _;
use std::fs;
use std::io::Read as _;
use std::path::{Path, PathBuf};

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Level as Title, Renderer, Snippet};
use anyhow::{Context, Result};
use keen_core::row::digest::DigestFunction;
use keen_core::topology::{self, NodeId, Problem, ProblemLevel, Secret, Topology};

use crate::terminal::{Terminal, complain};

/// A topology and where it was found.
#[derive(Debug)]
pub(crate) struct Loaded {
    pub(crate) topology: Topology,
    /// The folder that relative paths in it start at.
    pub(crate) base: PathBuf,
    /// Its text, in a digest: 32 hexadecimal digits.
    pub(crate) digest: String,
    /// Its text.
    pub(crate) text: String,
}

/// Reads a topology file. Problems go to standard error; errors end the run.
pub(crate) fn topology(path: &Path, terminal: Terminal) -> Result<Loaded> {
    let text = read(path, LONGEST).with_context(|| {
        let hint = if path.exists() {
            "name the topology file with --topology"
        } else {
            "write one with keen init, or name it with --topology"
        };
        format!("cannot read {}: {hint}", path.display())
    })?;
    let (topology, problems) = topology::read(&text);
    let shown = without_secrets(&text);
    for problem in &problems {
        complain(&render(problem, &shown, path, terminal));
    }
    let Some(topology) = topology else {
        let errors = problems.iter().filter(|problem| problem.level == ProblemLevel::Error).count();
        anyhow::bail!(
            "{} cannot be used: {errors} error{}; no node was read",
            path.display(),
            if errors == 1 { "" } else { "s" }
        );
    };
    let base = path.parent().unwrap_or(Path::new("")).to_owned();
    let digest = format!("{:032x}", DigestFunction::Blake3.digest(text.as_bytes()).0);
    let loaded = Loaded { topology, base, digest, text };
    let nodes = &loaded.topology.nodes;
    let named =
        |ids: Vec<NodeId>| ids.iter().map(|id| &nodes[*id].name[..]).collect::<Vec<_>>().join(", ");
    let unverified: Vec<NodeId> = (0..nodes.len()).filter(|id| nodes[*id].tls.unverified).collect();
    if !unverified.is_empty() {
        let names = named(unverified);
        complain(&format!(
            "keen: warning: the certificate of {names} is not checked (tls = \"unverified\")"
        ));
    }
    let exposed = exposed(&loaded);
    if !exposed.is_empty() {
        let names = named(exposed);
        complain(&format!(
            "keen: warning: other users can read the password file of {names}: chmod 600 restricts it to its owner"
        ));
    }
    Ok(loaded)
}

/// A topology file is text of people; more than this is something else.
const LONGEST: u64 = 16 << 20;

/// Reads a file of text, at most so many bytes of it.
pub(crate) fn read(path: &Path, most: u64) -> std::io::Result<String> {
    let mut text = String::new();
    fs::File::open(path)?.take(most + 1).read_to_string(&mut text)?;
    if text.len() as u64 > most {
        return Err(std::io::Error::other(format!("it is longer than {most} bytes")));
    }
    Ok(text)
}

/// The nodes whose password file others than its owner can read.
pub(crate) fn exposed(loaded: &Loaded) -> Vec<NodeId> {
    let readable = |path: &Path| -> bool {
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt as _;
            path.metadata().is_ok_and(|f| f.is_file() && f.permissions().mode() & 0o044 != 0)
        }
        #[cfg(not(unix))]
        {
            let _ = path;
            false
        }
    };
    let nodes = loaded.topology.nodes.iter().enumerate();
    nodes
        .filter(|(_, node)| {
            let mend = node.mend.as_ref().and_then(|account| account.password.as_ref());
            let links = node.replication.as_ref().and_then(|account| account.password.as_ref());
            node.password.iter().chain(mend).chain(links).any(|secret| match secret {
                Secret::File(path) => readable(&loaded.base.join(path)),
                Secret::Env(_) => false,
            })
        })
        .map(|(id, _)| id)
        .collect()
}

/// The text with stars in the place of whatever may be a password, byte for byte.
fn without_secrets(text: &str) -> String {
    let mut bytes = text.as_bytes().to_vec();
    let mut hide = |from: usize, to: usize| {
        for byte in &mut bytes[from..to.max(from)] {
            if *byte != b'\n' {
                *byte = b'*';
            }
        }
    };
    let end_of = |from: usize| {
        let rest = &text[from..];
        from + rest.find(['"', '\'', '\n']).unwrap_or(rest.len())
    };
    // In addresses: what stands between the account and its host, and whatever follows a question mark.
    for (at, _) in text.match_indices("://") {
        let (from, to) = (at + 3, end_of(at + 3));
        let address = &text[from..to];
        let host = address.rfind('@').map_or(from, |at| from + at);
        if let Some(colon) = text[from..host].find(':') {
            hide(from + colon + 1, host);
        }
        if let Some(question) = text[host..to].find('?') {
            hide(host + question + 1, to);
        }
    }
    // Strings under a key that sounds like a secret.
    let mut at = 0;
    for line in text.split_inclusive('\n') {
        if let Some((key, value)) = line.split_once('=') {
            let key = key.to_ascii_lowercase();
            let value_at = at + line.len() - value.len();
            let opens = value.trim_start();
            let from = value_at + value.len() - opens.len();
            if ["pas", "psw", "pwd", "secret", "token"].iter().any(|word| key.contains(word))
                && opens.starts_with(['"', '\''])
            {
                let quotes = ["\"".repeat(3), "\u{27}".repeat(3)]
                    .into_iter()
                    .find(|q| opens.starts_with(&**q));
                let (from, to) = match quotes {
                    Some(q) => {
                        let rest = &text[from + 3..];
                        (from + 3, from + 3 + rest.find(&*q).unwrap_or(rest.len()))
                    }
                    None => {
                        let line_end = at + line.trim_end().len();
                        (from + 1, line_end.max(from + 1))
                    }
                };
                hide(from, to);
            }
        }
        at += line.len();
    }
    // Stars took the place of whole characters, as all of them lay between quotes.
    String::from_utf8_lossy(&bytes).into_owned()
}

fn render(problem: &Problem, text: &str, path: &Path, terminal: Terminal) -> String {
    let title = match problem.level {
        ProblemLevel::Error => Title::ERROR,
        ProblemLevel::Warning => Title::WARNING,
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whatever_may_be_a_password_is_starred_and_nothing_moves() {
        for (text, shown) in [
            ("at = \"postgres://keen:se:cr@t@h/d\"", "at = \"postgres://keen:*******@h/d\""),
            ("at = \"postgres://keen@h/d?password=x\"", "at = \"postgres://keen@h/d?**********\""),
            ("password = \"geh'eim\" # x", "password = \"************"),
            ("pasword = 'a'", "pasword = '**"),
            ("password = { env = \"KEEN\" }", "password = { env = \"KEEN\" }"),
            ("at = \"sqlite:a.db\"", "at = \"sqlite:a.db\""),
        ] {
            assert_eq!(without_secrets(text), shown);
            assert_eq!(without_secrets(text).len(), text.len());
        }
    }
}
