//! Filters of a receiver, by which it leaves out a part of what its source writes.

use super::node::Filter;

/// By which filter all that is written in a domain is left out, if it is.
pub(crate) fn domain_left_out(filters: &[Filter], domain: &str) -> Option<String> {
    let rule =
        |name: &str| filters.iter().find(|filter| filter.rule == name && !filter.of.is_empty());
    let said = |filter: &Filter| format!("{} = ({})", filter.rule, filter.of.join(", "));
    if let Some(only) = rule("DO_DOMAIN_IDS") {
        return (!only.of.iter().any(|of| of == domain)).then(|| said(only));
    }
    rule("IGNORE_DOMAIN_IDS").filter(|f| f.of.iter().any(|of| of == domain)).map(said)
}

/// By which filter a table is left out, if it is. The order of rules is that of the server: databases
/// first, then tables; whoever names what to do leaves out the rest.
pub(crate) fn left_out(filters: &[Filter], database: &str, table: &str) -> Option<String> {
    let rule = |name: &str| filters.iter().find(|f| f.rule == name && !f.of.is_empty());
    let full = format!("{database}.{table}");
    let said = |filter: &Filter| {
        format!("{} = {}", filter.rule.to_ascii_lowercase(), filter.of.join(", "))
    };
    let is = |name: &String| name.eq_ignore_ascii_case(&full);
    let like =
        |pattern: &String| matches_like(&pattern.to_ascii_lowercase(), &full.to_ascii_lowercase());
    if let Some(only) = rule("Replicate_Do_DB") {
        if !only.of.iter().any(|name| name.eq_ignore_ascii_case(database)) {
            return Some(said(only));
        }
    } else if let Some(ignored) = rule("Replicate_Ignore_DB")
        && ignored.of.iter().any(|name| name.eq_ignore_ascii_case(database))
    {
        return Some(said(ignored));
    }
    let only = [rule("Replicate_Do_Table"), rule("Replicate_Wild_Do_Table")];
    if only[0].is_some_and(|f| f.of.iter().any(is))
        || only[1].is_some_and(|f| f.of.iter().any(like))
    {
        return None;
    }
    if let Some(ignored) = rule("Replicate_Ignore_Table").filter(|f| f.of.iter().any(is)) {
        return Some(said(ignored));
    }
    if let Some(ignored) = rule("Replicate_Wild_Ignore_Table").filter(|f| f.of.iter().any(like)) {
        return Some(said(ignored));
    }
    only.into_iter().flatten().next().map(said)
}

/// SQL's LIKE: `%` is anything, `_` one character, a backslash takes the next as it is.
fn matches_like(pattern: &str, text: &str) -> bool {
    let mut rest = pattern.chars();
    match rest.next() {
        None => text.is_empty(),
        Some('%') => (0..=text.len())
            .any(|at| text.is_char_boundary(at) && matches_like(rest.as_str(), &text[at..])),
        Some('_') => {
            text.chars().next().is_some_and(|c| matches_like(rest.as_str(), &text[c.len_utf8()..]))
        }
        Some(first) => {
            let wanted = if first == '\\' { rest.next().unwrap_or(first) } else { first };
            text.strip_prefix(wanted).is_some_and(|text| matches_like(rest.as_str(), text))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn filter(rule: &str, of: &[&str]) -> Filter {
        Filter { rule: rule.to_owned(), of: of.iter().map(|name| (*name).to_owned()).collect() }
    }

    #[test]
    fn filters_leave_out_what_the_server_leaves_out() {
        let out = |filters: &[Filter]| left_out(filters, "huts", "stay").is_some();
        assert!(!out(&[]));
        assert!(out(&[filter("Replicate_Do_DB", &["other"])]));
        assert!(!out(&[filter("Replicate_Do_DB", &["other", "huts"])]));
        assert!(out(&[filter("Replicate_Ignore_Table", &["huts.stay"])]));
        assert!(out(&[filter("Replicate_Do_Table", &["huts.guest"])]));
        assert!(!out(&[filter("Replicate_Do_Table", &["huts.guest", "huts.stay"])]));
        assert!(out(&[filter("Replicate_Wild_Ignore_Table", &["huts.st%"])]));
        assert!(!out(&[filter("Replicate_Wild_Ignore_Table", &["huts.st_"])]));
        assert!(!out(&[filter("Replicate_Wild_Do_Table", &["huts.s\\tay"])]));
    }
}
