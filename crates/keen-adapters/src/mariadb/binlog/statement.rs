//! Statements in the log that change the shape of a table.

/// A statement that changes the shape of tables, and which.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Reshapes {
    /// Schema, where it is named, and table.
    pub(super) tables: Vec<(Option<String>, String)>,
}

/// The tables whose shape a statement changes, if it does.
pub(super) fn reshapes(sql: &str) -> Option<Reshapes> {
    let tokens = tokens(sql);
    let word = |at: usize| match tokens.get(at) {
        Some(Token::Word(word)) => word.to_ascii_uppercase(),
        _ => String::new(),
    };
    let first_of = |from: usize, wanted: &[&str]| {
        (from..tokens.len()).find(|at| wanted.contains(&&word(*at)[..]))
    };
    let mut at = match &word(0)[..] {
        "ALTER" | "DROP" | "TRUNCATE" | "RENAME" => first_of(1, &["TABLE", "INDEX"])?,
        "CREATE" => first_of(1, &["TABLE", "INDEX", "UNIQUE"])?,
        _ => return None,
    };
    if word(at) == "UNIQUE" {
        at = first_of(at, &["INDEX"])?;
    }
    if word(at) == "INDEX" {
        at = first_of(at, &["ON"])?;
    }
    at += 1;
    let mut tables = Vec::new();
    loop {
        while matches!(&word(at)[..], "IF" | "NOT" | "EXISTS" | "ONLINE" | "IGNORE") {
            at += 1;
        }
        let name = |at: usize| match tokens.get(at) {
            Some(Token::Word(name) | Token::Quoted(name)) => Some(name.clone()),
            _ => None,
        };
        let first = name(at)?;
        if tokens.get(at + 1) == Some(&Token::Sign('.')) {
            tables.push((Some(first), name(at + 2)?));
            at += 3;
        } else {
            tables.push((None, first));
            at += 1;
        }
        // RENAME TABLE a TO b, c TO d; DROP TABLE a, b.
        match (tokens.get(at), &word(0)[..]) {
            (Some(Token::Sign(',')), "DROP" | "RENAME") => at += 1,
            (Some(Token::Word(to)), "RENAME") if to.eq_ignore_ascii_case("TO") => at += 1,
            _ => break,
        }
    }
    Some(Reshapes { tables })
}

/// Whether a statement writes rows.
pub(super) fn writes(sql: &str) -> bool {
    let first = tokens(sql).into_iter().next();
    matches!(first, Some(Token::Word(word)) if matches!(
        &word.to_ascii_uppercase()[..],
        "INSERT" | "UPDATE" | "DELETE" | "REPLACE" | "LOAD" | "WITH"
    ))
}

/// The end that a statement in the log makes, or makes possible.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum End {
    /// A place to roll back to.
    Savepoint(String),
    /// A rollback: to a savepoint, or of everything.
    RollBack(Option<String>),
    Commit,
    XaCommit,
    XaRollBack,
}

/// Whether a statement ends a transaction or a part of it.
pub(super) fn ends(sql: &str) -> Option<End> {
    // Almost no statement does, and those are short.
    let starts = |word: &str| sql.get(..word.len()).is_some_and(|s| s.eq_ignore_ascii_case(word));
    if !["SAVEPOINT", "ROLLBACK", "COMMIT", "XA"].into_iter().any(starts) {
        return None;
    }
    let tokens = tokens(sql);
    let word = |at: usize| match tokens.get(at) {
        Some(Token::Word(word)) => word.to_ascii_uppercase(),
        _ => String::new(),
    };
    let name = |at: usize| match tokens.get(at) {
        Some(Token::Word(name) | Token::Quoted(name)) => Some(name.clone()),
        _ => None,
    };
    match (&word(0)[..], &word(1)[..]) {
        ("SAVEPOINT", _) => name(1).map(End::Savepoint),
        ("ROLLBACK", "TO") if word(2) == "SAVEPOINT" => name(3).map(|to| End::RollBack(Some(to))),
        ("ROLLBACK", "TO") => name(2).map(|to| End::RollBack(Some(to))),
        ("ROLLBACK", _) => Some(End::RollBack(None)),
        ("COMMIT", _) => Some(End::Commit),
        ("XA", "COMMIT") => Some(End::XaCommit),
        ("XA", "ROLLBACK") => Some(End::XaRollBack),
        _ => None,
    }
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Token {
    Word(String),
    Quoted(String),
    Sign(char),
}

/// The beginning of a statement in words, without comments; what follows the first parenthesis is of no interest.
fn tokens(sql: &str) -> Vec<Token> {
    let mut tokens = Vec::new();
    let mut rest = sql;
    while let Some(first) = rest.chars().next() {
        let skip = |end: &str| rest.find(end).map_or(rest.len(), |at| at + end.len());
        if rest.starts_with("/*") {
            rest = &rest[skip("*/")..];
        } else if rest.starts_with("--") || first == '#' {
            rest = &rest[skip("\n")..];
        } else if matches!(first, '`' | '"') {
            let (name, after) = quoted(&rest[1..], first);
            tokens.push(Token::Quoted(name));
            rest = after;
        } else if first.is_alphanumeric() || matches!(first, '_' | '$') || !first.is_ascii() {
            let end = rest
                .find(|c: char| !(c.is_alphanumeric() || matches!(c, '_' | '$') || !c.is_ascii()))
                .unwrap_or(rest.len());
            tokens.push(Token::Word(rest[..end].to_owned()));
            rest = &rest[end..];
        } else if first == '(' {
            break;
        } else {
            if !first.is_whitespace() {
                tokens.push(Token::Sign(first));
            }
            rest = &rest[first.len_utf8()..];
        }
    }
    tokens
}

/// A quoted name, in which the quote stands twice, and what follows it.
fn quoted(text: &str, quote: char) -> (String, &str) {
    let mut name = String::new();
    let mut chars = text.char_indices().peekable();
    while let Some((at, c)) = chars.next() {
        if c != quote {
            name.push(c);
        } else if chars.next_if(|(_, next)| *next == quote).is_some() {
            name.push(quote);
        } else {
            return (name, &text[at + 1..]);
        }
    }
    (name, "")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(sql: &str) -> Option<Vec<String>> {
        let found = reshapes(sql)?;
        let text = |(schema, table): (Option<String>, String)| match schema {
            Some(schema) => format!("{schema}.{table}"),
            None => table,
        };
        Some(found.tables.into_iter().map(text).collect())
    }

    #[test]
    fn the_table_of_a_statement_is_found() {
        for (sql, table) in [
            ("ALTER TABLE stay ADD COLUMN note TEXT", "stay"),
            ("/* by hand */ alter online table if exists `a ``b` drop column c", "a `b"),
            ("ALTER TABLE huts.`stay` -- why\n ADD x INT", "huts.stay"),
            ("CREATE UNIQUE INDEX i ON stay (bed)", "stay"),
            ("CREATE TABLE IF NOT EXISTS \"bed\" (hut TEXT)", "bed"),
            ("DROP INDEX i ON stay", "stay"),
            ("TRUNCATE TABLE stay", "stay"),
            ("CREATE OR REPLACE TABLE stay (id INT)", "stay"),
        ] {
            assert_eq!(names(sql), Some(vec![table.to_owned()]), "{sql}");
        }
        assert_eq!(names("RENAME TABLE a TO b, c TO d").expect("found"), ["a", "b", "c", "d"]);
        assert_eq!(names("DROP TABLE `a`,`b` /* generated */").expect("found"), ["a", "b"]);
    }

    #[test]
    fn statements_that_write_rows_are_told() {
        for sql in
            ["INSERT INTO a VALUES (1)", "/* x */ update a set b = 1", "replace into a values (1)"]
        {
            assert!(writes(sql), "{sql}");
        }
        for sql in ["BEGIN", "COMMIT", "CREATE USER a", "ALTER TABLE a ADD b INT", ""] {
            assert!(!writes(sql), "{sql}");
        }
    }

    #[test]
    fn what_a_statement_ends_is_told() {
        let name = |name: &str| name.to_owned();
        for (sql, end) in [
            ("SAVEPOINT `a``b`", End::Savepoint(name("a`b"))),
            ("ROLLBACK TO `a`", End::RollBack(Some(name("a")))),
            ("rollback to savepoint a", End::RollBack(Some(name("a")))),
            ("ROLLBACK", End::RollBack(None)),
            ("COMMIT", End::Commit),
            ("XA COMMIT X'61',X'',1", End::XaCommit),
            ("XA ROLLBACK X'61',X'',1", End::XaRollBack),
        ] {
            assert_eq!(ends(sql), Some(end), "{sql}");
        }
        for sql in
            ["BEGIN", "XA START X'61'", "XA END X'61'", "INSERT INTO a VALUES ('COMMIT')", ""]
        {
            assert_eq!(ends(sql), None, "{sql}");
        }
    }

    #[test]
    fn other_statements_change_no_table() {
        for sql in [
            "CREATE USER a",
            "GRANT SELECT ON huts.* TO a",
            "BEGIN",
            "INSERT INTO a VALUES (1)",
            "",
        ] {
            assert_eq!(names(sql), None, "{sql}");
        }
    }
}
