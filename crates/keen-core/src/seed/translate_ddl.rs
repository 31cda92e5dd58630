//! The tables of one node, declared anew for a node of any engine.
//!
//! A property that cannot be carried faithfully is named in a comment at its column, with the choice made instead.
//! Foreign keys come last, so that tables may refer to each other in any order.

use std::fmt::Write as _;

use crate::engine::mariadb;
use crate::row::schema::{ColumnShape, MadeOf, OwnType, Reference, TableShape};
use crate::topology::Engine;

/// Advice for a column that counts by itself.
const COUNTS: &str =
    "numbers its rows itself: give each node that is written to its own increment and offset";

/// A table to declare: the name it is to have, and its shape where it is now.
pub type TableToDeclare<'a> = (&'a str, &'a TableShape);

/// The statements that declare `tables`, which are `from` one engine, `to` another or the same.
#[must_use]
pub fn derive(from: Engine, tables: &[TableToDeclare<'_>], to: Engine) -> String {
    let mut out = String::new();
    for (name, schema) in schemas(tables, to) {
        let _ = writeln!(out, "CREATE SCHEMA IF NOT EXISTS {schema}; -- for {name}\n");
    }
    for made in types(from, tables, to) {
        let _ = writeln!(out, "{made}\n");
    }
    let places = places(tables, to);
    for (place, (name, shape)) in places.iter().zip(tables) {
        let renamed = name.contains('.')
            && to != Engine::Postgres
            && *place != to.dialect().quoted(bare(name));
        if renamed {
            let _ = writeln!(
                out,
                "-- {}: several of these tables are called {}, so it is {place} here; keen.toml says so under [node.NAME.names]",
                comment(name),
                comment(bare(name))
            );
        }
        out.push_str(
            &Declaration { name, place, shape, from, to, all: (tables, &places) }.create(),
        );
        out.push('\n');
    }
    if to != Engine::Sqlite {
        for (place, (name, shape)) in places.iter().zip(tables) {
            for reference in references(shape, (tables, &places), to) {
                let _ = match reference {
                    Ok(key) => writeln!(out, "ALTER TABLE {place} ADD {key};"),
                    Err(note) => writeln!(out, "-- {}: {note}", comment(name)),
                };
            }
        }
    }
    out
}

/// The new names of tables, quoted. A dot in a table's name separates it from its schema on servers; where schemas are
/// dropped, and two tables would then share a name, their schemas become a part of it.
fn places(tables: &[TableToDeclare<'_>], to: Engine) -> Vec<String> {
    let shared = |name: &str| {
        let same = |(other, _): &&TableToDeclare<'_>| bare(other).eq_ignore_ascii_case(bare(name));
        tables.iter().filter(same).count() > 1
    };
    let place = |(name, _): &TableToDeclare<'_>| match name.split_once('.') {
        Some((schema, table)) if to == Engine::Postgres => {
            format!("{}.{}", to.dialect().quoted(schema), to.dialect().quoted(table))
        }
        Some((schema, table)) if shared(name) => to.dialect().quoted(&format!("{schema}_{table}")),
        Some((_, table)) => to.dialect().quoted(table),
        None => to.dialect().quoted(name),
    };
    tables.iter().map(place).collect()
}

/// Nothing in a comment may end it.
fn comment(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}

fn schemas<'a>(tables: &[TableToDeclare<'a>], to: Engine) -> Vec<(&'a str, String)> {
    let mut found: Vec<(&str, String)> = Vec::new();
    for (name, _) in tables {
        if let Some((schema, _)) = name.split_once('.').filter(|_| to == Engine::Postgres) {
            let schema = to.dialect().quoted(schema);
            if !found.iter().any(|(_, known)| *known == schema) {
                found.push((name, schema));
            }
        }
    }
    found
}

/// Types and collations of PostgreSQL's users, from PostgreSQL to PostgreSQL.
fn types(from: Engine, tables: &[TableToDeclare<'_>], to: Engine) -> Vec<String> {
    let mut made: Vec<(&str, String)> = Vec::new();
    if from != Engine::Postgres || to != Engine::Postgres {
        return Vec::new();
    }
    let columns = tables.iter().flat_map(|(_, shape)| &shape.columns);
    for OwnType { name, made_of } in columns.flat_map(|column| &column.own_types) {
        let sql = match made_of {
            MadeOf::Extension(extension) => {
                format!("CREATE EXTENSION IF NOT EXISTS {};", to.dialect().quoted(extension))
            }
            MadeOf::Enum(labels) => {
                let labels: Vec<String> = labels.iter().map(|label| text(label)).collect();
                format!("CREATE TYPE {name} AS ENUM ({});", labels.join(", "))
            }
            MadeOf::Composite(fields) => {
                let fields: Vec<String> =
                    fields.iter().map(|(field, of)| format!("{field} {of}")).collect();
                format!("CREATE TYPE {name} AS ({});", fields.join(", "))
            }
            MadeOf::Domain { of, collation, not_null, default, checks } => {
                let mut sql = format!("CREATE DOMAIN {name} AS {of}");
                if let Some(collation) = collation {
                    let _ = write!(sql, " COLLATE {collation}");
                }
                if let Some(default) = default {
                    let _ = write!(sql, " DEFAULT {default}");
                }
                if *not_null {
                    sql.push_str(" NOT NULL");
                }
                for check in checks {
                    let _ = write!(sql, " {check}");
                }
                sql + ";"
            }
            MadeOf::Collation { provider, locale, deterministic } => format!(
                "CREATE COLLATION {name} (provider = {provider}, locale = {}{});",
                text(locale),
                if *deterministic { "" } else { ", deterministic = false" }
            ),
        };
        let known = |(other, statement): &(&str, String)| other == name || *statement == sql;
        if !made.iter().any(known) {
            made.push((name, sql));
        }
    }
    let mut all: Vec<String> = Vec::new();
    for (name, sql) in made {
        // Of a name with a schema the schema comes first; an extension makes its types where it is.
        let schema = name.rsplit_once('.').filter(|_| !sql.starts_with("CREATE EXTENSION"));
        if let Some((schema, _)) = schema {
            let sql = format!("CREATE SCHEMA IF NOT EXISTS {schema};");
            if !all.contains(&sql) {
                all.push(sql);
            }
        }
        all.push(sql);
    }
    all
}

fn text(value: &str) -> String {
    format!("'{}'", value.replace('\'', "''"))
}

struct Declaration<'a> {
    name: &'a str,
    /// Its new name, quoted.
    place: &'a str,
    /// All tables that are declared, and what they are to be called.
    all: (&'a [TableToDeclare<'a>], &'a [String]),
    shape: &'a TableShape,
    from: Engine,
    to: Engine,
}

impl Declaration<'_> {
    fn create(&self) -> String {
        // Each line with what is to be said about it.
        let mut lines: Vec<(String, Vec<String>)> =
            self.shape.columns.iter().map(|column| self.column(column)).collect();
        if !self.shape.key.is_empty() && !self.key_is_rowid() {
            let key: Vec<String> = self.shape.key.iter().map(|name| self.of_index(name)).collect();
            lines.push((format!("PRIMARY KEY ({})", key.join(", ")), Vec::new()));
        }
        let mut notes = Vec::new();
        for unique in &self.shape.unique {
            if self.shape.unique_in_part.contains(unique) {
                notes.push(format!(
                    "({}) is unique there only for some rows, or by part of the value: not translated",
                    unique.join(", ")
                ));
            } else {
                lines.push((format!("UNIQUE ({})", self.list(unique)), Vec::new()));
            }
        }
        if self.to == Engine::Sqlite {
            lines.extend(self.shape.references.iter().map(|reference| {
                let to = self.list(&reference.to);
                let key = format!(
                    "FOREIGN KEY ({}) REFERENCES {}{}",
                    self.list(&reference.columns),
                    target(reference, self.all).map_or_else(
                        || self.to.dialect().quoted(bare(&reference.table)),
                        |(_, place)| place.to_owned()
                    ),
                    if to.is_empty() { String::new() } else { format!(" ({to})") }
                );
                (key, Vec::new())
            }));
        }
        if self.shape.key.is_empty() {
            notes.push("no key: changes to it cannot be applied by key".to_owned());
        }
        for trigger in &self.shape.triggers {
            notes
                .push(format!("trigger {trigger} is not translated: what it writes is replicated"));
        }
        let mut out = String::new();
        for note in notes {
            let _ = writeln!(out, "-- {}: {}", comment(self.name), comment(&note));
        }
        let _ = writeln!(out, "CREATE TABLE {} (", self.place);
        let last = lines.len().saturating_sub(1);
        for (at, (line, said)) in lines.iter().enumerate() {
            let comma = if at < last { "," } else { "" };
            let said: Vec<String> = said.iter().map(|note| comment(note)).collect();
            let said =
                if said.is_empty() { String::new() } else { format!(" -- {}", said.join("; ")) };
            let _ = writeln!(out, "    {line}{comma}{said}");
        }
        out.push_str(match self.to {
            // Texts are the same to it only when their bytes are, as they are to the others.
            Engine::MariaDb if self.from != Engine::MariaDb => {
                ") ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;\n"
            }
            Engine::MariaDb => ") ENGINE = InnoDB CHARACTER SET utf8mb4;\n",
            Engine::Postgres | Engine::Sqlite => ");\n",
        });
        out
    }

    fn list(&self, names: &[String]) -> String {
        let names: Vec<String> = names.iter().map(|name| self.to.dialect().quoted(name)).collect();
        names.join(", ")
    }

    /// A column of the key, with how much of it counts where that is not all.
    fn of_index(&self, name: &String) -> String {
        let prefix = self.shape.key_prefixes.get(name);
        let prefix = prefix.filter(|_| self.from == Engine::MariaDb && self.to == Engine::MariaDb);
        let prefix = prefix.map(|count| format!("({count})")).unwrap_or_default();
        format!("{}{prefix}", self.to.dialect().quoted(name))
    }

    /// If a column stands in a key, for how many of its characters the narrowest of them has room.
    fn room(&self, column: &ColumnShape) -> Option<u64> {
        let is = |name: &&String| name.eq_ignore_ascii_case(&column.name);
        let referring = self.shape.references.iter().map(|reference| &reference.columns);
        let keys = [&self.shape.key].into_iter().chain(&self.shape.unique).chain(referring);
        let of = |key: &Vec<String>| {
            let columns = key.iter().filter_map(|name| self.shape.column(name));
            let kinds =
                columns.map(|column| mariadb::room_taken(&self.from.dialect().type_of(column)));
            let kinds: Vec<Option<u64>> = kinds.collect();
            let fixed: u64 = kinds.iter().flatten().sum();
            let wide = kinds.iter().filter(|takes| takes.is_none()).count().max(1) as u64;
            mariadb::ROOM_OF_KEY.saturating_sub(fixed) / wide
        };
        keys.filter(|key| key.iter().any(|name| is(&name))).map(of).min()
    }

    /// SQLite's own row number serves as a key of one whole number.
    fn key_is_rowid(&self) -> bool {
        let [key] = &self.shape.key[..] else { return false };
        let declared = self
            .shape
            .column(key)
            .map(|c| self.to.dialect().declare(self.from, c, self.room(c)).sql);
        self.to == Engine::Sqlite && declared.is_some_and(|sql| sql.eq_ignore_ascii_case("INTEGER"))
    }

    fn column(&self, column: &ColumnShape) -> (String, Vec<String>) {
        let declared = self.to.dialect().declare(self.from, column, self.room(column));
        let mut notes: Vec<String> = declared.note.into_iter().collect();
        let mut line = format!("{} {}", self.to.dialect().quoted(&column.name), declared.sql);
        let in_key = self.shape.key.iter().any(|name| name.eq_ignore_ascii_case(&column.name));
        if self.from == self.to
            && let Some(collation) = &column.collation
        {
            let name = match self.to {
                Engine::MariaDb => collation.clone(),
                Engine::Postgres | Engine::Sqlite => self.to.dialect().quoted(collation),
            };
            let _ = write!(line, " COLLATE {name}");
        } else if self.from == Engine::MariaDb
            && column.collation.as_ref().is_some_and(|collation| collation.ends_with("_ci"))
            && self.room(column).is_some()
        {
            notes.push("upper and lower case are equal there, but not here".to_owned());
        }
        if let Some(expression) = &column.expression
            && self.from == self.to
        {
            let _ = write!(line, " GENERATED ALWAYS AS ({expression}) STORED");
            return (line, notes);
        }
        if column.generated {
            notes.push(match &column.expression {
                Some(expression) => {
                    format!("computed there as {expression}: here an ordinary column that must be filled")
                }
                None => "computed there: here an ordinary column that must be filled".to_owned(),
            });
        }
        if in_key && self.key_is_rowid() {
            line.push_str(" PRIMARY KEY");
            if column.counted {
                line.push_str(" AUTOINCREMENT");
                notes.push(COUNTS.to_owned());
            }
            return (line, notes);
        }
        if column.not_null || in_key {
            line.push_str(" NOT NULL");
        } else if self.to == Engine::MariaDb {
            line.push_str(" NULL"); // a timestamp would otherwise refuse it on older servers
        }
        if column.counted {
            match self.to {
                Engine::Postgres => line.push_str(" GENERATED BY DEFAULT AS IDENTITY"),
                Engine::MariaDb => line.push_str(" AUTO_INCREMENT"),
                Engine::Sqlite => {}
            }
            notes.push(COUNTS.to_owned());
        } else if let Some(default) = column.default.as_deref().filter(|_| !column.generated) {
            match self.default(default, &declared.sql) {
                Some(default) => {
                    let _ = write!(line, " DEFAULT {default}");
                }
                None => notes.push(format!("default {default} is not translated")),
            }
        }
        (line, notes)
    }

    /// A default in the other engine's words, if it has a plain meaning.
    fn default(&self, default: &str, declared: &str) -> Option<String> {
        if self.from == self.to {
            return Some(match self.to {
                Engine::Sqlite => format!("({default})"),
                Engine::Postgres | Engine::MariaDb => default.to_owned(),
            });
        }
        let lower = default.trim().to_ascii_lowercase();
        let boolean = declared.to_ascii_lowercase().starts_with("bool");
        // PostgreSQL says of what type a literal is.
        let bare = default.trim().split("::").next().unwrap_or_default().trim();
        let bare = bare.strip_prefix('(').and_then(|b| b.strip_suffix(')')).unwrap_or(bare);
        if matches!(
            &lower[..],
            "now()"
                | "current_timestamp"
                | "current_timestamp()"
                | "current_timestamp(6)"
                | "current_timestamp(3)"
        ) {
            return match self.to {
                Engine::MariaDb => {
                    let digits = declared.find('(').map_or("(0)", |at| &declared[at..]);
                    (declared.starts_with("timestamp") || declared.starts_with("datetime"))
                        .then(|| format!("CURRENT_TIMESTAMP{digits}"))
                }
                Engine::Postgres => Some("now()".to_owned()),
                Engine::Sqlite => Some("(strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))".to_owned()),
            };
        }
        match (&lower[..], boolean, self.to) {
            ("true" | "1" | "b'1'", true, Engine::Postgres) => return Some("true".to_owned()),
            ("false" | "0" | "b'0'", true, Engine::Postgres) => return Some("false".to_owned()),
            ("true", _, _) => return Some("1".to_owned()),
            ("false", _, _) => return Some("0".to_owned()),
            _ => {}
        }
        let number = bare.trim_matches('\'');
        let is_number = number.parse::<f64>().is_ok_and(f64::is_finite)
            && number.bytes().all(|b| b.is_ascii_digit() || b"+-.eE".contains(&b));
        let quoted_text = bare.len() >= 2 && bare.starts_with('\'') && bare.ends_with('\'');
        if is_number && !quoted_text {
            return Some(number.to_owned());
        }
        // A text, if nothing but its own quotes stands in it.
        let inside = bare.strip_prefix('\'')?.strip_suffix('\'')?;
        let plain = !inside.replace("''", "").contains(['\'', '\\']);
        let takes =
            |words: &[&str]| words.iter().any(|word| declared.to_ascii_lowercase().contains(word));
        if self.to == Engine::MariaDb && takes(&["longtext", "longblob", "json"]) {
            return plain.then(|| format!("({bare})"));
        }
        plain.then(|| bare.to_owned())
    }
}

fn bare(name: &str) -> &str {
    name.rsplit_once('.').map_or(name, |(_, name)| name)
}

/// The table that a key refers to, if it is declared, and what it is to be called.
fn target<'a>(
    reference: &Reference,
    (tables, places): (&'a [TableToDeclare<'a>], &'a [String]),
) -> Option<(&'a TableShape, &'a str)> {
    // The server puts quotes only where they are needed.
    let exact = |(_, shape): &TableToDeclare<'_>| {
        let quoted: Vec<String> =
            shape.qualified.iter().map(|part| Engine::Postgres.dialect().quoted(part)).collect();
        let is = |place: &str| quoted.join(".") == place || shape.qualified.join(".") == place;
        !shape.qualified.is_empty() && is(&reference.place)
    };
    let named = |(name, shape): &TableToDeclare<'_>| {
        bare(name) == reference.table
            || shape.qualified.last().is_some_and(|own| *own == reference.table)
    };
    let at = tables.iter().position(exact).or_else(|| tables.iter().position(named))?;
    Some((tables[at].1, &places[at][..]))
}

/// Foreign keys as clauses; one that leads out of what is declared only as a note.
fn references(
    shape: &TableShape,
    all: (&[TableToDeclare<'_>], &[String]),
    to: Engine,
) -> Vec<Result<String, String>> {
    let list = |names: &[String]| {
        names.iter().map(|name| to.dialect().quoted(name)).collect::<Vec<_>>().join(", ")
    };
    let clause = |reference: &Reference| {
        let Some((target, place)) = target(reference, all) else {
            return Err(format!(
                "refers to {} by ({}), which is not declared here",
                reference.table,
                reference.columns.join(", ")
            ));
        };
        let columns = if reference.to.is_empty() { &target.key } else { &reference.to };
        Ok(format!(
            "FOREIGN KEY ({}) REFERENCES {place} ({})",
            list(&reference.columns),
            list(columns)
        ))
    };
    shape.references.iter().map(clause).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::row::schema::Family;

    #[test]
    fn no_name_and_no_note_gets_out_of_its_place() {
        let column = ColumnShape {
            name: "a`b\"c\n".to_owned(),
            declared: "point".to_owned(),
            family: Family::Opaque,
            default: Some("'x\n'::text".to_owned()),
            ..ColumnShape::default()
        };
        let shape = TableShape {
            columns: vec![column],
            triggers: vec!["t\nDROP TABLE guest;".to_owned()],
            ..TableShape::default()
        };
        for to in [Engine::Sqlite, Engine::Postgres, Engine::MariaDb] {
            let sql = derive(Engine::Postgres, &[("order \"by\"", &shape)], to);
            assert!(!sql.lines().any(|line| line.starts_with("DROP")), "{sql}");
            let quoted = match to {
                Engine::MariaDb => "CREATE TABLE `order \"by\"` (\n    `a``b\"c\n`",
                _ => "CREATE TABLE \"order \"\"by\"\"\" (\n    \"a`b\"\"c\n\"",
            };
            assert!(sql.contains(quoted), "{sql}");
        }
    }
}
