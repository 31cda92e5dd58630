//! The reader and its small pieces: what it collects, and how it takes single values.

use std::ops::Range;
use std::time::Duration;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::{NodeId, Problem, ProblemLevel};

pub(super) type Item<'a> = Spanned<DeValue<'a>>;
/// A name with the place it was written.
pub(super) type Located<T> = (T, Range<usize>);

/// Where the parts of the topology stand in the text, for the checks across them.
#[derive(Default)]
pub(super) struct Places {
    pub(super) nodes: Vec<Range<usize>>,
    pub(super) addresses: Vec<Range<usize>>,
    pub(super) sets: Vec<Range<usize>>,
    /// Place of each entry of `Topology::links`.
    pub(super) links: Vec<Range<usize>>,
    pub(super) authority: Vec<Located<String>>,
    pub(super) compare: Vec<Located<String>>,
    pub(super) unique: Vec<Located<String>>,
    pub(super) not_judged: Vec<Located<String>>,
    pub(super) names: Vec<(NodeId, Located<String>)>,
}

#[derive(Default)]
pub(super) struct PieceReader {
    pub(super) problems: Vec<Problem>,
    pub(super) places: Places,
    /// More nodes than keen compares: the rest of the file was not read.
    pub(super) too_large: bool,
}

impl PieceReader {
    pub(super) fn error(
        &mut self,
        span: Option<Range<usize>>,
        message: String,
        help: Option<String>,
    ) {
        self.problems.push(Problem { level: ProblemLevel::Error, span, message, help });
    }

    pub(super) fn warn(
        &mut self,
        span: Option<Range<usize>>,
        message: String,
        help: Option<String>,
    ) {
        self.problems.push(Problem { level: ProblemLevel::Warning, span, message, help });
    }

    pub(super) fn places(&self) -> &Places {
        &self.places
    }

    pub(super) fn known_keys(&mut self, table: &DeTable<'_>, what: &str, known: &[&str]) {
        for key in table.keys() {
            let name: &str = key.get_ref();
            if !known.contains(&name) {
                let help = nearest(name, known.iter().copied())
                    .unwrap_or_else(|| format!("known here: {}", known.join(", ")));
                self.error(
                    Some(key.span()),
                    format!("unknown key \"{name}\" in {what}"),
                    Some(help),
                );
            }
        }
    }

    /// Names of nodes and sets end up in file names, scripts and columns of output.
    pub(super) fn check_name(&mut self, name: &str, span: Range<usize>, what: &str) {
        let sound = name.chars().all(|c| c.is_alphanumeric() || "-_.".contains(c));
        if name.is_empty() || !sound || name.starts_with(['-', '.']) {
            self.error(
                Some(span),
                format!("\"{}\" cannot be the name of a {what}", name.escape_debug()),
                Some(
                    "use letters, digits, '-', '_' and '.', beginning with a letter or digit"
                        .to_owned(),
                ),
            );
        }
    }

    pub(super) fn wrong_kind(&mut self, item: &Item<'_>, key: &str, expected: &str) {
        let found = item.get_ref().type_str();
        self.error(
            Some(item.span()),
            format!("{key} must be {expected}, but is of type {found}"),
            None,
        );
    }

    pub(super) fn subtable<'a, 'i>(
        &mut self,
        table: &'a DeTable<'i>,
        key: &str,
    ) -> Option<&'a DeTable<'i>> {
        let item = table.get(key)?;
        self.table(item, key)
    }

    pub(super) fn table<'a, 'i>(
        &mut self,
        item: &'a Item<'i>,
        key: &str,
    ) -> Option<&'a DeTable<'i>> {
        let table = item.get_ref().as_table();
        if table.is_none() {
            self.wrong_kind(item, key, "a table");
        }
        table
    }

    pub(super) fn string(&mut self, item: &Item<'_>, key: &str) -> Option<Located<String>> {
        let text = item.get_ref().as_str();
        if text.is_none() {
            self.wrong_kind(item, key, "a string");
        }
        text.map(|text| (text.to_owned(), item.span()))
    }

    /// A string or a list of strings.
    pub(super) fn strings(&mut self, item: &Item<'_>, key: &str) -> Vec<Located<String>> {
        match item.get_ref().as_array() {
            Some(list) => list.iter().filter_map(|item| self.string(item, key)).collect(),
            None if item.get_ref().is_str() => self.string(item, key).into_iter().collect(),
            None => {
                self.wrong_kind(item, key, "a list of strings");
                Vec::new()
            }
        }
    }

    pub(super) fn plain_strings(&mut self, item: &Item<'_>, key: &str) -> Vec<String> {
        self.strings(item, key).into_iter().map(|(text, _)| text).collect()
    }

    pub(super) fn boolean(&mut self, item: &Item<'_>, key: &str) -> Option<bool> {
        let value = item.get_ref().as_bool();
        if value.is_none() {
            self.wrong_kind(item, key, "true or false");
        }
        value
    }

    pub(super) fn duration(&mut self, item: &Item<'_>, key: &str) -> Option<Duration> {
        let (text, span) = self.string(item, key)?;
        let duration = humantime::parse_duration(&text);
        if duration.is_err() {
            self.error(
                Some(span),
                format!("{key} = \"{text}\" is not a length of time"),
                Some(
                    "write a number and a unit: \"500ms\", \"30s\", \"2m\", \"1h 30m\"".to_owned(),
                ),
            );
        }
        duration.ok()
    }
}

/// "did you mean", when one of the known words is near enough to be the one meant.
pub(super) fn nearest<'a>(word: &str, known: impl Iterator<Item = &'a str>) -> Option<String> {
    known
        .map(|candidate| (strsim::osa_distance(word, candidate), candidate))
        .filter(|(distance, candidate)| *distance <= 1 + candidate.chars().count() / 4)
        .min()
        .map(|(_, candidate)| format!("did you mean \"{candidate}\"?"))
}
