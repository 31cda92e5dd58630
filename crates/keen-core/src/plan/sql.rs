//! Guarded statements in SQLite's SQL.
//!
//! A statement is kept in pieces, so that it can be written with bound values
//! (for a driver) or with literals (for a script) and mean the same. Rows are
//! matched exactly: the kind of each value and, for text, its bytes.

use std::fmt::Write as _;

use super::{Guarded, LocalTable, by_value};
use crate::rows::Layout;
use crate::shape::TableShape;
use crate::value::Value;

/// A statement, in pieces.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Statement(Vec<Piece>);

#[derive(Debug, Clone, PartialEq)]
enum Piece {
    Sql(String),
    Value(Value),
    /// In a script: the condition that nothing has failed so far.
    Armed,
}

/// The condition under which the statements of a script still do anything: the
/// table is made in the script's transaction, so it goes when that is rolled
/// back, and whatever follows fails instead of being carried out alone.
pub(super) const ARMED: &str = "EXISTS (SELECT 1 FROM temp.keen_guard)";

impl Statement {
    fn sql(&mut self, text: &str) -> &mut Self {
        match self.0.last_mut() {
            Some(Piece::Sql(last)) => last.push_str(text),
            _ => self.0.push(Piece::Sql(text.to_owned())),
        }
        self
    }

    fn value(&mut self, value: &Value) -> &mut Self {
        self.0.push(Piece::Value(value.clone()));
        self
    }

    fn armed(mut self) -> Self {
        self.0.push(Piece::Armed);
        self
    }

    fn add(&mut self, other: &Self) -> &mut Self {
        for piece in &other.0 {
            match piece {
                Piece::Sql(text) => drop(self.sql(text)),
                piece => self.0.push(piece.clone()),
            }
        }
        self
    }

    /// With numbered places, and the values to bind to them.
    #[must_use]
    pub fn bound(&self) -> (String, Vec<Value>) {
        let mut sql = String::new();
        let mut values = Vec::new();
        for piece in &self.0 {
            match piece {
                Piece::Sql(text) => sql.push_str(text),
                Piece::Value(value) => {
                    values.push(value.clone());
                    let _ = write!(sql, "?{}", values.len());
                }
                Piece::Armed => {}
            }
        }
        (sql, values)
    }

    /// With literals, for a script.
    #[must_use]
    pub fn literal(&self) -> String {
        let mut sql = String::new();
        for piece in &self.0 {
            match piece {
                Piece::Sql(text) => sql.push_str(text),
                Piece::Value(value) => sql.push_str(&literal(value)),
                Piece::Armed => {
                    let _ = write!(sql, " AND {ARMED}");
                }
            }
        }
        sql
    }
}

/// Quotes a name: in double quotes, those inside doubled.
#[must_use]
pub fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A value as a SQLite literal. Control characters are spelled out, so that a
/// script stays readable and no terminal or tool acts on them.
#[must_use]
pub fn literal(value: &Value) -> String {
    match value {
        Value::Null => "NULL".to_owned(),
        Value::Bool(v) => i32::from(*v).to_string(),
        Value::Int(v) => int_literal(*v),
        Value::Float(v) if v.is_infinite() => if *v > 0.0 { "9e999" } else { "-9e999" }.to_owned(),
        Value::Float(v) => format!("{v:?}"),
        Value::Text(bytes) => match std::str::from_utf8(bytes) {
            Ok(text) => text_literal(text),
            Err(_) => format!("CAST({} AS TEXT)", bytes_literal(bytes)),
        },
        Value::Bytes(bytes) => bytes_literal(bytes),
        Value::Decimal(v) => text_literal(v.as_str()),
        Value::Json(v) => text_literal(v),
        Value::Uuid(v) => bytes_literal(v),
        Value::Date(v) | Value::Time(v) | Value::Timestamp(v) | Value::LocalTimestamp(v) => {
            v.to_string()
        }
    }
}

/// The smallest integer has no literal of its own: its digits without the sign are too large for one.
fn int_literal(v: i128) -> String {
    if v == i128::from(i64::MIN) { format!("({} - 1)", v + 1) } else { v.to_string() }
}

fn bytes_literal(bytes: &[u8]) -> String {
    let mut out = String::from("x'");
    for byte in bytes {
        let _ = write!(out, "{byte:02x}");
    }
    out.push('\'');
    out
}

fn text_literal(text: &str) -> String {
    let mut parts: Vec<String> = Vec::new();
    let mut plain = String::new();
    let mut codes: Vec<String> = Vec::new();
    let flush_plain = |plain: &mut String, parts: &mut Vec<String>| {
        if !plain.is_empty() {
            parts.push(format!("'{}'", plain.replace('\'', "''")));
            plain.clear();
        }
    };
    let flush_codes = |codes: &mut Vec<String>, parts: &mut Vec<String>| {
        if !codes.is_empty() {
            parts.push(format!("char({})", codes.join(", ")));
            codes.clear();
        }
    };
    for c in text.chars() {
        if spelled_out(c) {
            flush_plain(&mut plain, &mut parts);
            codes.push(u32::from(c).to_string());
        } else {
            flush_codes(&mut codes, &mut parts);
            plain.push(c);
        }
    }
    flush_plain(&mut plain, &mut parts);
    flush_codes(&mut codes, &mut parts);
    match parts.len() {
        0 => "''".to_owned(),
        1 => parts.remove(0),
        _ => format!("({})", parts.join(" || ")),
    }
}

/// Control characters, and those that change the direction or the line of what follows.
fn spelled_out(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}')
}

/// A name by which the rowid of a table can be had.
#[must_use]
pub fn rowid_name(shape: &TableShape) -> Option<&'static str> {
    ["_rowid_", "rowid", "oid"].into_iter().find(|name| shape.column(name).is_none())
}

/// Writes the statements for one table on one node.
pub(super) struct TableSql<'a> {
    pub(super) local: &'a LocalTable,
    pub(super) layout: &'a Layout,
}

impl TableSql<'_> {
    fn table(&self) -> String {
        quoted(&self.local.name)
    }

    fn column(&self, i: usize) -> String {
        quoted(&self.local.columns[i])
    }

    /// Columns that can be written: generated ones follow by themselves.
    fn written(&self) -> impl Iterator<Item = usize> + '_ {
        let generated = |i: &usize| {
            self.local.shape.column(&self.local.columns[*i]).is_some_and(|c| c.generated)
        };
        self.layout.shown.iter().copied().filter(move |i| !generated(i))
    }

    /// `column IS value`, minding the kind and the bytes.
    fn matches(&self, out: &mut Statement, i: usize, value: &Value) {
        let column = self.column(i);
        let kinds = match value {
            Value::Null => {
                out.sql(&format!("{column} IS NULL"));
                return;
            }
            Value::Int(_) | Value::Float(_) if by_value(self.layout, i) => "IN ('integer', 'real')",
            Value::Int(_) | Value::Bool(_) => "= 'integer'",
            Value::Float(_) => "= 'real'",
            Value::Bytes(_) | Value::Uuid(_) => "= 'blob'",
            _ => "= 'text'",
        };
        out.sql(&format!("{column} COLLATE BINARY = "))
            .value(value)
            .sql(&format!(" AND typeof({column}) {kinds}"));
    }

    fn all_match(&self, columns: impl Iterator<Item = usize>, row: &[Value]) -> Statement {
        let terms: Vec<Statement> = columns
            .map(|i| {
                let mut term = Statement::default();
                self.matches(&mut term, i, &row[i]);
                term
            })
            .collect();
        conjunction(&terms)
    }

    fn whole_row(&self, row: &[Value]) -> Statement {
        // The key first: that is what an index can find.
        let key = self.layout.key.iter().copied().filter(|i| self.written().any(|w| w == *i));
        let rest = self.written().filter(|i| !self.layout.key.contains(i));
        self.all_match(key.chain(rest), row)
    }

    /// Keys are equal when SQLite would not let both stand: 1 and 1.0 are one key.
    fn key_of(&self, row: &[Value]) -> Statement {
        let mut out = Statement::default();
        for (n, i) in self.layout.key.iter().enumerate() {
            if n > 0 {
                out.sql(" AND ");
            }
            out.sql(&format!("{} COLLATE BINARY IS ", self.column(*i))).value(&row[*i]);
        }
        out
    }

    fn count_where(&self, condition: &Statement) -> Statement {
        let mut out = Statement::default();
        out.sql(&format!("SELECT count(*) FROM {} WHERE ", self.table())).add(condition);
        out
    }

    pub(super) fn update(&self, before: &[Value], after: &[Value]) -> Guarded {
        let mut statement = Statement::default();
        statement.sql(&format!("UPDATE {} SET ", self.table()));
        for (n, i) in self.written().filter(|i| before[*i] != after[*i]).enumerate() {
            statement
                .sql(&format!("{}{} = ", if n > 0 { ", " } else { "" }, self.column(i)))
                .value(&after[i]);
        }
        let row = self.whole_row(before);
        statement.sql(" WHERE ").add(&row);
        Guarded {
            statement: statement.armed(),
            changes: 1,
            guard: self.count_where(&row),
            expected: 1,
            condition: "the row still reads as it did".to_owned(),
        }
    }

    pub(super) fn delete(&self, before: &[Value]) -> Guarded {
        let row = self.whole_row(before);
        let mut statement = Statement::default();
        statement.sql(&format!("DELETE FROM {} WHERE ", self.table())).add(&row);
        Guarded {
            statement: statement.armed(),
            changes: 1,
            guard: self.count_where(&row),
            expected: 1,
            condition: "the row still reads as it did".to_owned(),
        }
    }

    fn columns_and_values(&self, row: &[Value]) -> (String, Statement) {
        let columns: Vec<String> = self.written().map(|i| self.column(i)).collect();
        let mut values = Statement::default();
        for (n, i) in self.written().enumerate() {
            values.sql(if n > 0 { ", " } else { "" }).value(&row[i]);
        }
        (columns.join(", "), values)
    }

    pub(super) fn insert(&self, after: &[Value]) -> Guarded {
        let key = self.key_of(after);
        let (columns, values) = self.columns_and_values(after);
        let mut statement = Statement::default();
        statement.sql(&format!("INSERT INTO {} ({columns}) SELECT ", self.table())).add(&values);
        statement
            .sql(&format!(" WHERE NOT EXISTS (SELECT 1 FROM {} WHERE ", self.table()))
            .add(&key)
            .sql(")");
        Guarded {
            statement: statement.armed(),
            changes: 1,
            guard: self.count_where(&key),
            expected: 0,
            condition: "there is still no row with this key".to_owned(),
        }
    }

    /// Adds `copies` of a row that is its own key and is there `there` times.
    pub(super) fn add_copies(&self, row: &[Value], there: u64, copies: u64) -> Guarded {
        let count = self.count_where(&self.whole_row(row));
        let (columns, values) = self.columns_and_values(row);
        let mut statement = Statement::default();
        statement.sql(&format!("INSERT INTO {} ({columns}) ", self.table()));
        if copies > 1 {
            statement.sql(&format!(
                "WITH RECURSIVE copies (n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM copies WHERE n < {copies}) "
            ));
        }
        statement.sql("SELECT ").add(&values).sql(if copies > 1 { " FROM copies" } else { "" });
        statement.sql(" WHERE (").add(&count).sql(&format!(") = {there}"));
        Self::counted(statement, count, there, copies)
    }

    /// Takes out `copies` of a row that is its own key and is there `there` times.
    pub(super) fn drop_copies(&self, row: &[Value], there: u64, copies: u64) -> Guarded {
        let same = self.whole_row(row);
        let count = self.count_where(&same);
        let rowid = rowid_name(&self.local.shape).unwrap_or("rowid");
        let mut statement = Statement::default();
        statement.sql(&format!(
            "DELETE FROM {0} WHERE {rowid} IN (SELECT {rowid} FROM {0} WHERE ",
            self.table()
        ));
        statement
            .add(&same)
            .sql(&format!(" LIMIT {copies}) AND ("))
            .add(&count)
            .sql(&format!(") = {there}"));
        Self::counted(statement, count, there, copies)
    }

    fn counted(statement: Statement, guard: Statement, there: u64, changes: u64) -> Guarded {
        Guarded {
            statement: statement.armed(),
            changes,
            guard,
            expected: there,
            condition: format!(
                "the table still holds this row {there} time{}",
                if there == 1 { "" } else { "s" }
            ),
        }
    }
}

/// Terms that go into one flat chain; SQLite nests a chain one level per term and refuses more
/// than a thousand levels, which a table with very many columns would reach.
const FLAT: usize = 100;

fn conjunction(terms: &[Statement]) -> Statement {
    let mut out = Statement::default();
    let parts: Vec<Statement> = if terms.len() <= FLAT {
        terms.to_vec()
    } else {
        terms.chunks(FLAT).map(conjunction).collect()
    };
    let nested = terms.len() > FLAT;
    for (n, part) in parts.iter().enumerate() {
        out.sql(if n > 0 { " AND " } else { "" });
        out.sql(if nested { "(" } else { "" }).add(part).sql(if nested { ")" } else { "" });
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn literals_are_safe_whatever_the_text_holds() {
        assert_eq!(literal(&Value::text("it's")), "'it''s'");
        assert_eq!(
            literal(&Value::text("a\0b\n\u{1b}[2J")),
            "('a' || char(0) || 'b' || char(10, 27) || '[2J')"
        );
        assert_eq!(literal(&Value::text("")), "''");
        assert_eq!(literal(&Value::text("\u{202e}")), "char(8238)");
        assert_eq!(literal(&Value::Text(vec![0xff])), "CAST(x'ff' AS TEXT)");
        assert_eq!(literal(&Value::Int(i64::MIN.into())), "(-9223372036854775807 - 1)");
        assert_eq!(literal(&Value::Float(f64::NEG_INFINITY)), "-9e999");
        assert_eq!(literal(&Value::Float(2.0)), "2.0");
        assert_eq!(quoted("a\"b"), "\"a\"\"b\"");
    }
}
