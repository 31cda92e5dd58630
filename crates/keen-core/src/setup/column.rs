//! How a column is declared, as a state that can be read, compared and spelled.

use std::fmt;

use crate::engine::types;
use crate::row::schema::ColumnShape;
use crate::topology::Engine;

/// A column's declaration: only what can be said of it in full.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ColumnDefinition {
    declared: String,
    collation: Option<String>,
    not_null: bool,
    default: Option<String>,
}

impl ColumnDefinition {
    /// The declaration of a column; none of one that the engine computes, counts or sets, or that needs types which
    /// somebody made, or whose default is more than a value.
    #[must_use]
    pub fn of(column: &ColumnShape) -> Option<Self> {
        let plain = !column.generated && !column.counted && !column.bumped && !column.says_more.0;
        let definition = Self {
            declared: column.declared.clone(),
            collation: column.collation.clone(),
            not_null: column.not_null,
            default: column.default.clone(),
        };
        (plain && column.own_types.is_empty() && definition.is_sayable()).then_some(definition)
    }

    /// The declaration of a text that [`fmt::Display`] wrote; none if it is none, or says more than a declaration.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let (text, default) = match text.split_once(", default ") {
            Some((text, default)) => (text, Some(default.to_owned())),
            None => (text, None),
        };
        let (text, not_null) = match text.strip_suffix(", not null") {
            Some(text) => (text, true),
            None => (text.strip_suffix(", null")?, false),
        };
        let (declared, collation) = match text.split_once(", collation ") {
            Some((declared, collation)) => (declared.to_owned(), Some(collation.to_owned())),
            None => (text.to_owned(), None),
        };
        let definition = Self { declared, collation, not_null, default };
        definition.is_sayable().then_some(definition)
    }

    /// Whether each part is what it should be and nothing besides: it may come from a file that somebody edited.
    fn is_sayable(&self) -> bool {
        let typed = |c: char| c.is_ascii_alphanumeric() || "_ (),".contains(c);
        let named = |c: char| c.is_ascii_alphanumeric() || c == '_' || c == '-';
        let declared = !self.declared.is_empty()
            && self.declared.chars().all(typed)
            && !self.declared.contains(", ");
        let collation =
            self.collation.as_deref().is_none_or(|c| !c.is_empty() && c.chars().all(named));
        declared && collation && self.default.as_deref().is_none_or(is_value)
    }

    /// A row can be inserted without naming it, and rows that are there need no value of somebody's choice.
    #[must_use]
    pub fn is_optional(&self) -> bool {
        !self.not_null || self.default.is_some()
    }

    /// The declared type.
    #[must_use]
    pub fn declared(&self) -> &str {
        &self.declared
    }

    /// The same with the type of another.
    #[must_use]
    pub fn typed_as(&self, other: &Self) -> Self {
        Self { declared: other.declared.clone(), ..self.clone() }
    }

    /// The character set of its collation, as MariaDB's collations begin with it; none if it has none.
    #[must_use]
    pub fn character_set(&self) -> Option<&str> {
        self.collation.as_deref().and_then(|collation| collation.split('_').next())
    }

    /// The value of a row that does not name it.
    #[must_use]
    pub fn default(&self) -> Option<&str> {
        self.default.as_deref()
    }

    /// The same, and refusing NULL or not.
    #[must_use]
    pub fn refusing_null(&self, not_null: bool) -> Self {
        Self { not_null, ..self.clone() }
    }

    /// The same with the default of another.
    #[must_use]
    pub fn defaulting_as(&self, other: &Self) -> Self {
        Self { default: other.default.clone(), ..self.clone() }
    }

    /// The same with the collation of another.
    #[must_use]
    pub fn collated_as(&self, other: &Self) -> Self {
        Self { collation: other.collation.clone(), ..self.clone() }
    }

    /// The same with all in which two others differ, as the second has it.
    #[must_use]
    pub fn changed_like(&self, before: &Self, after: &Self) -> Self {
        let mut changed = self.clone();
        if before.declared != after.declared {
            changed = changed.typed_as(after);
        }
        if before.collation != after.collation {
            changed = changed.collated_as(after);
        }
        if before.not_null != after.not_null {
            changed = changed.refusing_null(after.not_null);
        }
        if before.default != after.default {
            changed = changed.defaulting_as(after);
        }
        changed
    }

    /// The clauses by which PostgreSQL turns a column from one declaration to another; none if they are the same.
    #[must_use]
    pub fn alterations(column: &str, before: &Self, after: &Self) -> Vec<String> {
        let mut clauses = Vec::new();
        if (&before.declared, &before.collation) != (&after.declared, &after.collation) {
            // Without one the type's own collation comes back.
            let collation = match (&before.collation, &after.collation) {
                (None, None) => String::new(),
                (_, Some(collation)) => {
                    format!(" COLLATE {}", Engine::Postgres.dialect().quoted(collation))
                }
                (Some(_), None) => " COLLATE \"default\"".to_owned(),
            };
            clauses.push(format!("ALTER COLUMN {column} TYPE {}{collation}", after.declared));
        }
        if before.default != after.default {
            clauses.push(match &after.default {
                Some(default) => format!("ALTER COLUMN {column} SET DEFAULT {default}"),
                None => format!("ALTER COLUMN {column} DROP DEFAULT"),
            });
        }
        if before.not_null != after.not_null {
            let word = if after.not_null { "SET" } else { "DROP" };
            clauses.push(format!("ALTER COLUMN {column} {word} NOT NULL"));
        }
        clauses
    }

    /// As it stands in a statement.
    #[must_use]
    pub fn sql(&self, engine: Engine) -> String {
        let mut text = self.declared.clone();
        if let Some(collation) = &self.collation {
            let collation = match engine {
                Engine::Postgres => engine.dialect().quoted(collation),
                Engine::MariaDb | Engine::Sqlite => collation.clone(),
            };
            text.push_str(&format!(" COLLATE {collation}"));
        }
        text.push_str(if self.not_null { " NOT NULL" } else { " NULL" });
        if let Some(default) = &self.default {
            text.push_str(&format!(" DEFAULT {default}"));
        }
        text
    }
}

impl fmt::Display for ColumnDefinition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.declared)?;
        if let Some(collation) = &self.collation {
            write!(f, ", collation {collation}")?;
        }
        f.write_str(if self.not_null { ", not null" } else { ", null" })?;
        match &self.default {
            Some(default) => write!(f, ", default {default}"),
            None => Ok(()),
        }
    }
}

/// A number, a truth value, or a text in quotes, and nothing behind it but the name of a type.
fn is_value(text: &str) -> bool {
    let typed = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || "_ ()".contains(c);
    if let Some(quoted) = text.strip_prefix('\'') {
        // Two quotes are one quote of the text.
        let mut rest = quoted;
        loop {
            let Some(end) = rest.find('\'') else { return false };
            if rest[..end].contains('\\') {
                return false;
            }
            rest = &rest[end + 1..];
            match rest.strip_prefix('\'') {
                Some(more) => rest = more,
                None => break,
            }
        }
        return rest.is_empty()
            || rest
                .strip_prefix("::")
                .is_some_and(|kind| !kind.is_empty() && kind.chars().all(typed));
    }
    let digits = text.strip_prefix('-').unwrap_or(text);
    let number = digits.chars().any(|c| c.is_ascii_digit())
        && digits.chars().all(|c| c.is_ascii_digit() || c == '.');
    number || matches!(text, "true" | "false" | "NULL")
}

/// Whether a column that is declared as one of two types of texts, or of whole numbers, holds all that the other holds,
/// so that the way back is refused by the server where it would cut a value.
#[must_use]
pub fn widens(engine: Engine, from: &ColumnShape, to: &ColumnShape) -> bool {
    let is = |column: &ColumnShape, names: &[&str]| {
        let declared = column.declared.to_ascii_lowercase();
        names.iter().any(|name| {
            declared
                .strip_prefix(name)
                .is_some_and(|rest| rest.is_empty() || rest.starts_with('(') || rest == " unsigned")
        })
    };
    let whole = ["tinyint", "smallint", "mediumint", "int", "integer", "bigint"];
    let texts = ["varchar", "character varying"];
    let alike = (is(from, &whole) && is(to, &whole)) || (is(from, &texts) && is(to, &texts));
    alike && from.declared != to.declared && types::loss(engine, from, engine, to).is_none()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_declaration_is_not_parsed() {
        for right in [
            "varchar(40), null",
            "varchar(40), collation utf8mb4_bin, not null, default 'it''s, default x'",
            "numeric(8,2), not null, default 0.00",
            "character varying(40), null, default 'x'::character varying",
            "int(10) unsigned, not null, default -1",
        ] {
            assert_eq!(
                ColumnDefinition::parse(right).map(|d| d.to_string()).as_deref(),
                Some(right)
            );
        }
        for wrong in [
            "varchar(40)",
            "int; DROP TABLE stay, null",
            "enum('a'), null",
            "int, collation a b, null",
            "int, null, default now()",
            "int, null, default 'a' || 'b'",
            "int, null, default 'a\\'b'",
            "int, null, default 'a'::text; DROP",
            "int, null, default 1 ON UPDATE x",
            ", null",
        ] {
            assert_eq!(ColumnDefinition::parse(wrong), None, "{wrong}");
        }
    }
}
