//! Colours, never the only sign of anything.

use anstyle::{AnsiColor, Style};
use keen_nodes::audit::Verdict;

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
    match verdict {
        Verdict::Agrees => ("agrees", GOOD),
        Verdict::Diverges => ("diverges", BAD),
        Verdict::Unread => ("unread", UNKNOWN),
    }
}

/// "1 row", "2 rows".
pub(crate) fn counted(count: u64, one: &str, many: &str) -> String {
    format!("{count} {}", if count == 1 { one } else { many })
}
