//! Colours, never the only sign of anything.

use anstyle::{AnsiColor, Style};
use comfy_table::presets::NOTHING;
use comfy_table::{Cell, ContentArrangement, Table};
use keen_core::topology::{Node, NodeId, Topology};
use keen_run::audit::Verdict;

pub(crate) const HEADING: Style = Style::new().bold();
pub(crate) const QUIET: Style = Style::new().dimmed();
pub(crate) const GOOD: Style = AnsiColor::Green.on_default();
pub(crate) const BAD: Style = AnsiColor::Red.on_default().bold();
pub(crate) const UNKNOWN: Style = AnsiColor::Yellow.on_default();

/// A text in a style.
pub(crate) fn styled(style: Style, text: &str) -> String {
    format!("{style}{text}{style:#}")
}

/// The word for a verdict, and its colour.
pub(crate) fn verdict(verdict: Verdict) -> (&'static str, Style) {
    let style = match verdict {
        Verdict::Agrees => GOOD,
        Verdict::Diverges => BAD,
        Verdict::Unread | Verdict::Unsettled => UNKNOWN,
    };
    (verdict.name(), style)
}

/// A line that continues below its own text where the terminal is too narrow for it.
/// Where lines go to a file or another program they stay whole.
pub(crate) fn hanging(lead: &str, text: &str, columns: Option<usize>) -> String {
    let Some(columns) = columns else {
        return format!("{lead}{text}\n");
    };
    let indent = " ".repeat(textwrap::core::display_width(lead));
    let options = textwrap::Options::new(columns.max(indent.len() + 20))
        .initial_indent(lead)
        .subsequent_indent(&indent)
        .word_splitter(textwrap::WordSplitter::NoHyphenation);
    textwrap::fill(text, options) + "\n"
}

/// Columns that a list of nodes may take before the rest is only counted.
const LIST_WIDTH: usize = 44;

/// The names of nodes; of many only the first, and how many more.
pub(crate) fn nodes(topology: &Topology, nodes: &[NodeId]) -> String {
    let mut list = String::new();
    for (i, node) in nodes.iter().enumerate() {
        let name = &topology.nodes[*node].name;
        let rest = nodes.len() - i;
        if i > 0 && rest > 1 && list.len() + name.len() > LIST_WIDTH {
            return format!("{list} and {rest} more");
        }
        list.push_str(if i > 0 { ", " } else { "" });
        list.push_str(name);
    }
    list
}

/// With a capital, unless it begins with the name of a node or a table, with a setting or the like.
pub(crate) fn capital(topology: &Topology, text: &str) -> String {
    let word: String = text.chars().take_while(|c| !c.is_whitespace()).collect();
    let word = word.trim_end_matches([':', ',']);
    let of_nodes = |node: &Node| node.name == word || node.names.values().any(|name| name == word);
    let is_name = topology.nodes.iter().any(of_nodes)
        || topology.sets.iter().any(|set| set.name == word || set.tables.iter().any(|t| t == word));
    let is_word = word.chars().all(|c| c.is_ascii_lowercase());
    if is_name || !is_word { text.to_owned() } else { capital_first(text) }
}

/// With a capital.
pub(crate) fn capital_first(text: &str) -> String {
    let mut chars = text.chars();
    let first = chars.next().map(|first| first.to_uppercase().collect::<String>());
    first.unwrap_or_default() + chars.as_str()
}

/// Columns of tables where there is no terminal to fit them to.
const WIDTH_ELSEWHERE: u16 = 140;

/// A table with these headings, as wide as the terminal.
pub(crate) fn table(columns: Option<usize>, heading: &[&str]) -> Table {
    let width = columns.and_then(|columns| u16::try_from(columns).ok()).unwrap_or(WIDTH_ELSEWHERE);
    let mut table = Table::new();
    table.load_style(NOTHING).set_content_arrangement(ContentArrangement::Dynamic).set_width(width);
    table.set_header(heading.iter().map(|text| Cell::new(styled(QUIET, text))));
    table
}

/// The lines of a table, without what nobody sees at their ends.
pub(crate) fn finished(table: &Table) -> String {
    table.lines().map(|line| line.trim_end().to_owned() + "\n").collect()
}
