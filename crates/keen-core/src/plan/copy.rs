//! Copying tables from one node to another: what such a step does, and what it needs from both nodes.
//!
//! The source is read as of one moment, and it is known how far each writer had come in it. The receiver takes all
//! tables in one transaction, so it is as it was or as its source was at that moment, never between the two. Its links
//! are off meanwhile, and go on from that moment: nothing is missing, and nothing comes twice.

use std::collections::BTreeMap;

use super::port::{BatchMark, WriteSteps};
use crate::fault::ReadFault;
use crate::observe::position::{self, Position};
use crate::row::schema::TableShape;
use crate::topology::NodeId;

/// The copy of tables from one node to another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TableCopy {
    /// The source.
    pub from: NodeId,
    /// The tables.
    pub tables: Vec<CopiedTable>,
    /// Every link that brings changes to the receiver: they go on from the moment of the copy.
    pub links: Vec<CopiedLink>,
    /// Nobody follows the receiver yet: what it wrote before is not waited for.
    pub new_writer: bool,
}

/// A table that is copied.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CopiedTable {
    /// Its name, as the sets call it.
    pub table: String,
    /// The columns that are copied: all that the engine does not compute itself.
    pub columns: Vec<String>,
}

/// A link of the receiver of a copy.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CopiedLink {
    /// Its name on the receiver.
    pub link: String,
    /// Its source.
    pub from: NodeId,
    /// Its switch before the copy, on or off; one that stopped at something is on.
    pub is: String,
    /// The slot at its source, where the engine has such.
    pub slot: Option<CopiedSlot>,
}

/// The slot of a link.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CopiedSlot {
    /// Its name.
    pub name: String,
    /// It still has the log that it needs. One that has not is made anew.
    pub usable: bool,
    /// Where the link does not come from the source of the copy: how that source itself follows the same node.
    pub through: Option<SourceFollows>,
}

/// How the source of a copy follows another node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SourceFollows {
    /// Its link.
    pub link: String,
    /// The slot of that link at the other node.
    pub slot: String,
}

impl CopiedLink {
    /// It can go on from where it stood if nothing is copied.
    #[must_use]
    pub fn can_go_on(&self) -> bool {
        self.slot.as_ref().is_none_or(|slot| slot.usable)
    }
}

/// The columns that are copied between two tables of one engine.
///
/// # Errors
/// The first thing in which they differ, such that a value might not fit.
pub fn copied_columns(source: &TableShape, receiver: &TableShape) -> Result<Vec<String>, String> {
    let kept = |shape: &TableShape| -> BTreeMap<String, String> {
        let columns = shape.columns.iter().filter(|column| !column.generated);
        columns.map(|column| (column.name.clone(), column.declared.to_ascii_lowercase())).collect()
    };
    let (there, here) = (kept(source), kept(receiver));
    for (name, declared) in &there {
        match here.get(name) {
            None => return Err(format!("the receiver has no column {name}")),
            Some(other) if other != declared => {
                return Err(format!(
                    "column {name} is {declared} at the source and {other} at the receiver"
                ));
            }
            Some(_) => {}
        }
    }
    match here.keys().find(|name| !there.contains_key(*name)) {
        Some(name) => Err(format!("the source has no column {name}")),
        None => Ok(there.into_keys().collect()),
    }
}

/// Where the links of a MariaDB server go on after a copy: of each domain where the source had come, and as before of
/// those that the source knows nothing of. None where one of the texts is no such position.
#[must_use]
pub fn place_after(now: &str, moment: &str) -> Option<String> {
    let (now, moment) = (position::gtids(now).ok()?, position::gtids(moment).ok()?);
    let (Position::Gtid(mut parts), Position::Gtid(of_source)) = (now, moment) else { return None };
    parts.extend(of_source);
    Some(Position::Gtid(parts).to_string())
}

/// Rows of one table in the form in which an engine hands them to itself.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RowChunk {
    /// How many.
    pub rows: u64,
    /// The rows.
    pub bytes: Vec<u8>,
}

/// How far writers had come at the moment of a copy.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CopyMoment {
    /// In the source's own log; where positions name their writers (MariaDB), of all writers.
    pub own: String,
    /// By link of the source, in the log of the node that it follows (PostgreSQL).
    pub others: BTreeMap<String, String>,
}

/// Takes rows as they are read.
pub type DeliverRows<'a> = dyn FnMut(RowChunk) -> Result<(), ReadFault> + 'a;

/// A node whose tables are copied.
pub trait GiveCopy {
    /// Fixes the moment as of which tables are read, with no write of these tables in the middle of it, and says how
    /// far writers had come. Tables are named as the node does.
    ///
    /// # Errors
    /// [`ReadFault`] when the node cannot tell, or others do not let go of the tables in time.
    fn moment(&mut self, tables: &[String]) -> Result<CopyMoment, ReadFault>;

    /// Reads a table as of the moment, in the order of its key where it has one.
    ///
    /// # Errors
    /// [`ReadFault`] when it cannot be read to its end, or `deliver` failed.
    fn give(
        &mut self,
        table: &str,
        columns: &[String],
        deliver: &mut DeliverRows<'_>,
    ) -> Result<(), ReadFault>;
}

/// A node that takes tables of another over, all in one transaction that is kept out of its replication.
pub trait TakeCopy {
    /// The transaction, its mark among it: a batch like those of row steps, without any.
    fn batch(&mut self) -> &mut dyn WriteSteps;

    /// Begins, and keeps all others from writing to these tables until the end. Others still read what was there.
    /// Whether any of them holds a row.
    ///
    /// # Errors
    /// [`ReadFault`] when the node refuses, or others do not let go of the tables in time.
    fn begin(&mut self, mark: BatchMark, tables: &[String]) -> Result<bool, ReadFault>;

    /// Takes all rows out of a table.
    ///
    /// # Errors
    /// [`ReadFault`] when the node refuses.
    fn empty(&mut self, table: &str) -> Result<(), ReadFault>;

    /// Puts rows into a table.
    ///
    /// # Errors
    /// [`ReadFault`] when the node refuses one of them.
    fn take(&mut self, table: &str, columns: &[String], rows: &RowChunk) -> Result<(), ReadFault>;

    /// Moves what counts up the columns of a table beyond the greatest value, so that the next insert collides with no
    /// row that was taken. Counters only rise.
    ///
    /// # Errors
    /// [`ReadFault`] when the node refuses.
    fn raise_counters(&mut self, table: &str) -> Result<(), ReadFault>;

    /// Makes sure of what only the whole can tell, before it is kept.
    ///
    /// # Errors
    /// [`ReadFault`] when it must not be kept.
    fn finish(&mut self) -> Result<(), ReadFault> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::row::schema::ColumnShape;

    #[test]
    fn links_go_on_from_the_moment_and_as_before_in_domains_that_the_source_does_not_know() {
        let place = |now, moment| place_after(now, moment);
        assert_eq!(place("", "0-1-5").as_deref(), Some("0-1-5"));
        // Also back: what came after the moment is not in the copy.
        assert_eq!(place("0-1-9,7-3-2", "0-1-5,2-2-4").as_deref(), Some("0-1-5,2-2-4,7-3-2"));
        assert_eq!(place("0-1-9", "").as_deref(), Some("0-1-9"));
        assert_eq!(place("0-1-9", "0/16B3748"), None);
    }

    fn table(columns: &[(&str, &str, bool)]) -> TableShape {
        let column = |(name, declared, generated): &(&str, &str, bool)| ColumnShape {
            name: (*name).to_owned(),
            declared: (*declared).to_owned(),
            generated: *generated,
            ..ColumnShape::default()
        };
        TableShape { columns: columns.iter().map(column).collect(), ..TableShape::default() }
    }

    #[test]
    fn columns_are_copied_only_into_their_like() {
        let source =
            table(&[("id", "BIGINT", false), ("twice", "bigint", true), ("name", "text", false)]);
        let copied = |columns: &[(&str, &str, bool)]| copied_columns(&source, &table(columns));
        // Whatever the order, and whatever the engine computes.
        let columns = copied(&[("name", "text", false), ("id", "bigint", false)]);
        assert_eq!(columns, Ok(vec!["id".to_owned(), "name".to_owned()]));
        for (columns, said) in [
            (&[("id", "bigint", false)][..], "the receiver has no column name"),
            (
                &[("id", "int", false), ("name", "text", false)],
                "column id is bigint at the source and int",
            ),
            (
                &[("id", "bigint", false), ("name", "text", false), ("age", "int", false)],
                "the source has no column age",
            ),
        ] {
            let why = copied(columns).unwrap_err();
            assert!(why.contains(said), "{why}");
        }
    }
}
