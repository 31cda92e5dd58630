//! Guarded statements, in the SQL of the engine that holds the table.
//!
//! A statement is kept in pieces, so that it can be written with bound values
//! (for a driver) or with literals (for a script) and mean the same. Rows are
//! matched exactly: the kind of each value and, for text, its bytes.

use crate::row::conversion::is_whole;
use std::fmt::{self, Write as _};
use std::sync::Arc;

use crate::plan::{Guarded, LocalTable, by_value};
use crate::row::batch::Layout;
use crate::row::conversion::CommonKind;
use crate::row::schema::{ColumnShape, Family, TableShape};
use crate::topology::Engine;
use crate::value::Value;

/// A statement, in pieces.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Statement<'v>(Vec<Piece<'v>>);

#[derive(Debug, Clone, PartialEq)]
enum Piece<'v> {
    Sql(String),
    Value(Box<Operand<'v>>),
    /// In a script: the condition that nothing has failed so far.
    Armed(Engine),
}

/// A value and what it is compared with or assigned to.
#[derive(Debug, Clone, PartialEq)]
struct Operand<'v> {
    engine: Engine,
    value: &'v Value,
    column: Option<Arc<ColumnShape>>,
}

/// The condition under which the statements of a script still do anything. In SQLite the table is
/// made in the script's transaction, so it goes when that is rolled back, and whatever follows fails
/// instead of being carried out alone. PostgreSQL refuses everything after an error by itself.
fn armed(engine: Engine) -> &'static str {
    match engine {
        Engine::Sqlite => " AND EXISTS (SELECT 1 FROM temp.keen_guard)",
        Engine::MariaDb => " AND @keen_ok = 1",
        Engine::Postgres => "",
    }
}

impl<'v> Statement<'v> {
    fn sql(&mut self, text: &str) -> &mut Self {
        match self.0.last_mut() {
            Some(Piece::Sql(last)) => last.push_str(text),
            _ => self.0.push(Piece::Sql(text.to_owned())),
        }
        self
    }

    fn armed(mut self, engine: Engine) -> Self {
        self.0.push(Piece::Armed(engine));
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
    pub fn bound(&self) -> (String, Vec<&'v Value>) {
        let mut sql = String::new();
        let mut values = Vec::new();
        for piece in &self.0 {
            match piece {
                Piece::Sql(text) => sql.push_str(text),
                Piece::Value(place) => {
                    values.push(place.value);
                    let column = place.column.as_deref();
                    sql.push_str(&place.engine.dialect().placeholder(
                        values.len(),
                        place.value,
                        column,
                    ));
                }
                Piece::Armed(_) => {}
            }
        }
        (sql, values)
    }

    /// Writes it with literals, for a script.
    ///
    /// # Errors
    /// Those of the writer.
    pub fn write_literal(&self, out: &mut dyn fmt::Write) -> fmt::Result {
        for piece in &self.0 {
            match piece {
                Piece::Sql(text) => out.write_str(text)?,
                Piece::Value(place) => {
                    let column = place.column.as_deref();
                    place.engine.dialect().write_literal(out, place.value, column)?;
                }
                Piece::Armed(engine) => out.write_str(armed(*engine))?,
            }
        }
        Ok(())
    }

    /// With literals, for a session of its own: it rests on nothing that a script keeps.
    #[must_use]
    pub fn literal(&self) -> String {
        let mut out = String::new();
        for piece in &self.0 {
            let written = match piece {
                Piece::Sql(text) => out.write_str(text),
                Piece::Value(place) => {
                    let column = place.column.as_deref();
                    place.engine.dialect().write_literal(&mut out, place.value, column)
                }
                Piece::Armed(_) => Ok(()),
            };
            debug_assert!(written.is_ok(), "a string takes all that is written to it");
        }
        out
    }

    /// A mark that its text does not contain, made of this word and a number.
    pub(crate) fn mark(&self, word: &str) -> String {
        let has = |mark: &str| {
            self.0.iter().any(|piece| match piece {
                Piece::Sql(text) => text.contains(mark),
                Piece::Value(place) => match place.value {
                    Value::Text(bytes) => bytes.windows(mark.len()).any(|w| w == mark.as_bytes()),
                    Value::Json(text) => text.contains(mark),
                    // No other kind of value is spelled with that sign.
                    _ => false,
                },
                Piece::Armed(_) => false,
            })
        };
        let marks = (0..).map(|n| format!("${word}{n}$"));
        marks.into_iter().find(|mark| !has(mark)).unwrap_or_default()
    }
}

/// A name by which the rowid of a table can be had.
#[must_use]
pub fn rowid_name(shape: &TableShape) -> Option<&'static str> {
    ["_rowid_", "rowid", "oid"].into_iter().find(|name| shape.column(name).is_none())
}

/// Writes the statements for one table on one node.
pub(crate) struct TableSql<'a> {
    pub(crate) local: &'a LocalTable,
    pub(crate) layout: &'a Layout,
}

impl TableSql<'_> {
    fn engine(&self) -> Engine {
        self.local.engine
    }

    fn name(&self) -> String {
        let quoted = |name: &String| self.engine().dialect().quoted(name);
        match &self.local.shape.qualified[..] {
            [] => quoted(&self.local.name),
            parts => parts.iter().map(quoted).collect::<Vec<_>>().join("."),
        }
    }

    /// The table as its rows are read, changed and deleted: without those of tables that inherit from it.
    fn table(&self) -> String {
        let only = if self.local.shape.heirs.is_empty() { "" } else { "ONLY " };
        format!("{only}{}", self.name())
    }

    fn column(&self, i: usize) -> String {
        self.engine().dialect().quoted(&self.local.columns[i])
    }

    fn shape(&self, i: usize) -> Option<&ColumnShape> {
        self.local.shape.column(&self.local.columns[i])
    }

    /// Columns that can be written: generated ones follow by themselves.
    fn written(&self) -> impl Iterator<Item = usize> + '_ {
        self.layout.shown.iter().copied().filter(|i| !self.shape(*i).is_some_and(|c| c.generated))
    }

    fn value<'s, 'v>(
        &self,
        out: &'s mut Statement<'v>,
        i: usize,
        value: &'v Value,
    ) -> &'s mut Statement<'v> {
        let column = self.local.column_of(i);
        let place = Operand { engine: self.engine(), value, column };
        out.0.push(Piece::Value(Box::new(place)));
        out
    }

    /// `column IS value`, minding the kind and the bytes.
    fn matches<'v>(&self, out: &mut Statement<'v>, i: usize, value: &'v Value) {
        // The condition is asked for with a mark where the value goes, whatever form that takes.
        const MARK: &str = "\u{1}";
        let column = self.column(i);
        let Some(shape) = self.shape(i).filter(|_| *value != Value::Null) else {
            out.sql(&format!("{column} IS NULL"));
            return;
        };
        let exact = self.layout.columns[i].reading.kind == CommonKind::AsStored;
        let condition = self.engine().dialect().matches(&column, shape, MARK, exact);
        let mut parts = condition.split(MARK);
        out.sql(parts.next().unwrap_or_default());
        for part in parts {
            self.value(out, i, value).sql(part);
        }
        if self.engine() == Engine::Sqlite {
            let kinds = match value {
                Value::Int(_) | Value::Float(_) if by_value(self.layout, i) => {
                    "IN ('integer', 'real')"
                }
                Value::Int(_) | Value::Bool(_) => "= 'integer'",
                Value::Float(_) => "= 'real'",
                Value::Bytes(_) => "= 'blob'",
                _ => "= 'text'",
            };
            out.sql(&format!(" AND typeof({column}) {kinds}"));
        }
    }

    fn all_match<'v>(
        &self,
        columns: impl Iterator<Item = usize>,
        row: &'v [Value],
    ) -> Statement<'v> {
        let mut terms: Vec<Statement<'v>> = Vec::new();
        if self.engine() != Engine::Sqlite && !self.layout.key.is_empty() {
            // As the engine itself compares keys: that is what an index can find.
            terms.push(self.key_of(row));
        }
        // What was compared of a cell is not always all of it; the guard then has less to go by.
        terms.extend(columns.filter(|i| self.is_whole(*i)).map(|i| {
            let mut term = Statement::default();
            self.matches(&mut term, i, &row[i]);
            term
        }));
        conjunction(&terms)
    }

    fn is_whole(&self, i: usize) -> bool {
        let family = self.shape(i).map(|column| column.family);
        family.is_none_or(|family| is_whole(&self.layout.columns[i].reading, family))
    }

    fn whole_row<'v>(&self, row: &'v [Value]) -> Statement<'v> {
        // The key first: that is what an index can find. Servers compare it by themselves before;
        // only a text may then still be another.
        let lax = |i: &usize| {
            self.engine() == Engine::Sqlite
                || self.shape(*i).is_none_or(|c| matches!(c.family, Family::Text | Family::Json))
        };
        let key = self.layout.key.iter().copied().filter(|i| self.written().any(|w| w == *i));
        let key = key.filter(lax);
        let rest = self.written().filter(|i| !self.layout.key.contains(i));
        self.all_match(key.chain(rest), row)
    }

    /// Keys are equal when the engine would not let both stand: to SQLite 1 and 1.0 are one key.
    fn key_of<'v>(&self, row: &'v [Value]) -> Statement<'v> {
        let mut out = Statement::default();
        let equals = if self.engine() == Engine::Sqlite { "COLLATE BINARY IS" } else { "=" };
        for (n, i) in self.layout.key.iter().enumerate() {
            if n > 0 {
                out.sql(" AND ");
            }
            out.sql(&format!("{} {equals} ", self.column(*i)));
            self.value(&mut out, *i, &row[*i]);
        }
        out
    }

    fn count_where<'v>(&self, condition: &Statement<'v>) -> Statement<'v> {
        let mut out = Statement::default();
        out.sql(&format!("SELECT count(*) FROM {} WHERE ", self.table())).add(condition);
        out
    }

    /// The count as a condition's operand; MariaDB reads the table it writes to only at one remove.
    fn held<'v>(&self, count: &Statement<'v>) -> Statement<'v> {
        let mut out = Statement::default();
        if self.engine() == Engine::MariaDb {
            out.sql("(SELECT * FROM (").add(count).sql(") AS held)");
        } else {
            out.sql("(").add(count).sql(")");
        }
        out
    }

    /// For each reference that a write touches, counts one if a row would refer to nothing afterwards. Each with
    /// what is said then.
    pub(crate) fn orphans<'v>(
        &self,
        before: Option<&'v [Value]>,
        after: Option<&'v [Value]>,
    ) -> Vec<(Statement<'v>, String)> {
        let shape = &self.local.shape;
        let mut found = Vec::new();
        let cells = |row: Option<&'v [Value]>,
                     names: &[String]|
         -> Option<Vec<(usize, &'v Value)>> {
            let cell = |name: &String| {
                let at = self.local.columns.iter().position(|c| c.eq_ignore_ascii_case(name))?;
                let value = row?.get(at).filter(|value| **value != Value::Null)?;
                Some((at, value))
            };
            names.iter().map(cell).collect()
        };
        let touched = |ours: &[String], row: Option<&'v [Value]>, other: Option<&'v [Value]>| {
            let held = cells(row, ours)?;
            let moved = cells(other, ours)
                .is_none_or(|cells| !cells.iter().zip(&held).all(|((_, a), (_, b))| a.same_as(b)));
            moved.then_some(held)
        };
        let mut check = |child: (&str, &[String]),
                         parent: (&str, &[String]),
                         values: &[(usize, &'v Value)],
                         say: String| {
            let mut out = Statement::default();
            let where_all = |out: &mut Statement<'v>, names: &[String]| {
                for (n, (name, (at, value))) in names.iter().zip(values).enumerate() {
                    let and = if n > 0 { " AND " } else { "" };
                    out.sql(&format!("{and}{} = ", self.engine().dialect().quoted(name)));
                    self.value(out, *at, value);
                }
            };
            out.sql(&format!("SELECT count(*) FROM (SELECT 1 AS one) AS once WHERE EXISTS (SELECT 1 FROM {} WHERE ", child.0));
            where_all(&mut out, child.1);
            out.sql(&format!(") AND NOT EXISTS (SELECT 1 FROM {} WHERE ", parent.0));
            where_all(&mut out, parent.1);
            out.sql(")");
            found.push((out, say));
        };
        let name = self.name();
        for reference in shape.referred_by.iter().filter(|reference| !reference.place.is_empty()) {
            if let Some(values) = touched(&reference.to, before, after) {
                let say = format!("rows of {} refer to it", reference.table);
                check((&reference.place, &reference.columns), (&name, &reference.to), &values, say);
            }
        }
        for reference in shape.references.iter().filter(|reference| !reference.place.is_empty()) {
            if let Some(values) = touched(&reference.columns, after, before) {
                let say = format!("what it refers to in {} is not there", reference.table);
                check((&name, &reference.columns), (&reference.place, &reference.to), &values, say);
            }
        }
        found
    }

    pub(crate) fn update<'v>(&self, before: &'v [Value], after: &'v [Value]) -> Guarded<'v> {
        let mut statement = Statement::default();
        statement.sql(&format!("UPDATE {} SET ", self.table()));
        let mut named: Vec<&str> = Vec::new();
        for i in self.written().filter(|i| !before[*i].same_as(&after[*i])) {
            let comma = if named.is_empty() { "" } else { ", " };
            statement.sql(&format!("{comma}{} = ", self.column(i)));
            self.value(&mut statement, i, &after[i]);
            named.push(&self.local.columns[i]);
        }
        // Columns that the engine would set to the moment stay as they are, those that no set carries, too.
        let columns = self.local.shape.columns.iter().filter(|column| column.bumped);
        for column in columns.filter(|column| !named.contains(&&column.name[..])) {
            let name = self.engine().dialect().quoted(&column.name);
            statement.sql(&format!(", {name} = {name}"));
        }
        let row = self.whole_row(before);
        statement.sql(" WHERE ").add(&row);
        self.one_row(statement, &row)
    }

    pub(crate) fn delete<'v>(&self, before: &'v [Value]) -> Guarded<'v> {
        let row = self.whole_row(before);
        let mut statement = Statement::default();
        statement.sql(&format!("DELETE FROM {} WHERE ", self.table())).add(&row);
        self.one_row(statement, &row)
    }

    fn one_row<'v>(&self, statement: Statement<'v>, row: &Statement<'v>) -> Guarded<'v> {
        Guarded {
            statement: statement.armed(self.engine()),
            changes: 1,
            guard: self.count_where(row),
            expected: 1,
            condition: "the row still reads as it did".to_owned(),
        }
    }

    /// `INSERT INTO table (columns)`, and the values.
    fn insertion<'v>(&self, row: &'v [Value]) -> (String, Statement<'v>) {
        let columns: Vec<String> = self.written().map(|i| self.column(i)).collect();
        let mut values = Statement::default();
        for (n, i) in self.written().enumerate() {
            values.sql(if n > 0 { ", " } else { "" });
            self.value(&mut values, i, &row[i]);
        }
        // An identity that PostgreSQL always makes itself is written as the other nodes have it.
        let over = if self.engine() == Engine::Postgres { " OVERRIDING SYSTEM VALUE" } else { "" };
        (format!("INSERT INTO {} ({}){over} ", self.name(), columns.join(", ")), values)
    }

    pub(crate) fn insert<'v>(&self, after: &'v [Value]) -> Guarded<'v> {
        let key = self.key_of(after);
        let (into, values) = self.insertion(after);
        let mut statement = Statement::default();
        statement.sql(&into).sql("SELECT ").add(&values);
        statement.sql(if self.engine() == Engine::MariaDb { " FROM DUAL" } else { "" });
        statement
            .sql(&format!(" WHERE NOT EXISTS (SELECT 1 FROM {} WHERE ", self.table()))
            .add(&key)
            .sql(")");
        Guarded {
            statement: statement.armed(self.engine()),
            changes: 1,
            guard: self.count_where(&key),
            expected: 0,
            condition: "there is still no row with this key".to_owned(),
        }
    }

    /// Adds `copies` of a row that is its own key and is there `there` times.
    pub(crate) fn add_copies<'v>(&self, row: &'v [Value], there: u64, copies: u64) -> Guarded<'v> {
        let count = self.count_where(&self.whole_row(row));
        let (into, values) = self.insertion(row);
        let mut statement = Statement::default();
        statement.sql(&into);
        if copies > 1 {
            statement.sql(&format!(
                "WITH RECURSIVE copies (n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM copies WHERE n < {copies}) "
            ));
        }
        let from = match (copies > 1, self.engine()) {
            (true, _) => " FROM copies",
            (false, Engine::MariaDb) => " FROM DUAL",
            (false, _) => "",
        };
        statement.sql("SELECT ").add(&values).sql(from);
        statement.sql(" WHERE ").add(&self.held(&count)).sql(&format!(" = {there}"));
        Self::counted(statement.armed(self.engine()), count, there, copies)
    }

    /// Takes out `copies` of a row that is its own key and is there `there` times.
    pub(crate) fn drop_copies<'v>(&self, row: &'v [Value], there: u64, copies: u64) -> Guarded<'v> {
        let same = self.whole_row(row);
        let count = self.count_where(&same);
        let table = self.table();
        let mut statement = Statement::default();
        if self.engine() == Engine::MariaDb {
            statement.sql(&format!("DELETE FROM {table} WHERE ")).add(&same);
            statement.sql(" AND ").add(&self.held(&count)).sql(&format!(" = {there}"));
            statement = statement.armed(self.engine());
            statement.sql(&format!(" LIMIT {copies}"));
            return Self::counted(statement, count, there, copies);
        }
        let place = match self.engine() {
            Engine::Sqlite => rowid_name(&self.local.shape).unwrap_or("rowid"),
            // Partitions each count their own. MariaDB deletes up to a number of rows by itself.
            Engine::Postgres | Engine::MariaDb => "(tableoid, ctid)",
        };
        let chosen = place.trim_matches(['(', ')']);
        statement
            .sql(&format!(
                "DELETE FROM {table} WHERE {place} IN (SELECT {chosen} FROM {table} WHERE "
            ))
            .add(&same)
            .sql(&format!(" LIMIT {copies}) AND "))
            .add(&self.held(&count))
            .sql(&format!(" = {there}"));
        Self::counted(statement.armed(self.engine()), count, there, copies)
    }

    fn counted<'v>(
        statement: Statement<'v>,
        guard: Statement<'v>,
        there: u64,
        changes: u64,
    ) -> Guarded<'v> {
        Guarded {
            statement,
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

fn conjunction<'v>(terms: &[Statement<'v>]) -> Statement<'v> {
    let mut out = Statement::default();
    let parts: Vec<Statement<'v>> = if terms.len() <= FLAT {
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
