//! Reads the document of an audit piece by piece: neither its tables nor their rows have to fit in memory.

use std::cell::RefCell;
use std::fmt;
use std::io::Read;

use serde::Deserialize;
use serde::de::{
    DeserializeSeed, Deserializer, Error as _, IgnoredAny, MapAccess, SeqAccess, Visitor,
};

use crate::audit::TableStart;
use crate::divergent_row::DivergentDocument;
use crate::envelope::{ByNode, FaultDocument};
use crate::shape::ColumnDocument;

/// Takes an audit while it is read.
pub trait TakeAudit {
    /// Rows of a table follow, compared by these columns and this key.
    fn rows(&mut self, columns: &[ColumnDocument], key: &[String]);

    /// Whether another row is wanted. Those that are not are passed over.
    fn wants_row(&mut self) -> bool;

    /// A divergent row of the table.
    fn row(&mut self, row: DivergentDocument);

    /// The end of the table: what it is, why nodes were not read, and how many divergent rows the audit found.
    fn table(&mut self, table: TableStart, unread: &ByNode<FaultDocument>, total: u64);
}

/// A document's word on itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AuditHead {
    /// The kind of document.
    pub keen: String,
    /// The version of the format.
    pub version: u32,
    /// The name of the topology.
    pub topology: String,
    /// When the audit began.
    pub started: String,
    /// Everything that was asked for could be looked at.
    pub complete: bool,
}

/// Reads a document to its end.
///
/// # Errors
/// An error in the JSON, or a member that it lacks.
pub fn read_audit(from: impl Read, into: &mut dyn TakeAudit) -> serde_json::Result<AuditHead> {
    let into = RefCell::new(into);
    let mut json = serde_json::Deserializer::from_reader(from);
    let head = Whole(&into).deserialize(&mut json)?;
    json.end()?;
    Ok(head)
}

type Taker<'a, 't> = &'a RefCell<&'t mut dyn TakeAudit>;

/// Reads the whole document.
#[derive(Clone, Copy)]
struct Whole<'a, 't>(Taker<'a, 't>);

impl<'de> DeserializeSeed<'de> for Whole<'_, '_> {
    type Value = AuditHead;

    fn deserialize<D: Deserializer<'de>>(self, from: D) -> Result<AuditHead, D::Error> {
        from.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for Whole<'_, '_> {
    type Value = AuditHead;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an audit")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<AuditHead, A::Error> {
        let (mut keen, mut version, mut topology) = (None, None, None);
        let (mut started, mut complete, mut tables) = (None, None, None);
        while let Some(name) = map.next_key::<String>()? {
            match &*name {
                "keen" => keen = Some(map.next_value()?),
                "version" => version = Some(map.next_value()?),
                "topology" => topology = Some(map.next_value()?),
                "started" => started = Some(map.next_value()?),
                "complete" => complete = Some(map.next_value()?),
                "tables" => tables = Some(map.next_value_seed(ReadEach(OneTable(self.0)))?),
                _ => drop(map.next_value::<IgnoredAny>()?),
            }
        }
        tables.ok_or_else(|| A::Error::missing_field("tables"))?;
        Ok(AuditHead {
            keen: keen.ok_or_else(|| A::Error::missing_field("keen"))?,
            version: version.ok_or_else(|| A::Error::missing_field("version"))?,
            topology: topology.ok_or_else(|| A::Error::missing_field("topology"))?,
            started: started.ok_or_else(|| A::Error::missing_field("started"))?,
            complete: complete.ok_or_else(|| A::Error::missing_field("complete"))?,
        })
    }
}

/// Reads a list, one after the other, and keeps nothing.
#[derive(Clone, Copy)]
struct ReadEach<S>(S);

impl<'de, S: DeserializeSeed<'de, Value = ()> + Copy> DeserializeSeed<'de> for ReadEach<S> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, from: D) -> Result<(), D::Error> {
        from.deserialize_seq(self)
    }
}

impl<'de, S: DeserializeSeed<'de, Value = ()> + Copy> Visitor<'de> for ReadEach<S> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a list")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<(), A::Error> {
        while list.next_element_seed(self.0)?.is_some() {}
        Ok(())
    }
}

/// Reads a table.
#[derive(Clone, Copy)]
struct OneTable<'a, 't>(Taker<'a, 't>);

impl<'de> DeserializeSeed<'de> for OneTable<'_, '_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, from: D) -> Result<(), D::Error> {
        from.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for OneTable<'_, '_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a table of an audit")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<(), A::Error> {
        let (mut table, mut set, mut shapes) = (None, None, None);
        let (mut columns, mut key): (Option<Vec<ColumnDocument>>, Option<Vec<String>>) =
            (None, None);
        let (mut notes, mut unread, mut total) = (None, None, None);
        // Rows that stand before what they are read by.
        let mut early: Option<Vec<DivergentDocument>> = None;
        let mut rows = false;
        while let Some(field) = map.next_key::<String>()? {
            match &*field {
                "table" => table = Some(map.next_value()?),
                "set" => set = Some(map.next_value()?),
                "columns" => columns = Some(map.next_value()?),
                "key" => key = Some(map.next_value()?),
                "notes" => notes = Some(map.next_value()?),
                "shapes" => shapes = Some(map.next_value()?),
                "unread" => unread = Some(map.next_value()?),
                "divergent_total" => total = Some(map.next_value()?),
                "divergent" => {
                    rows = true;
                    match (&columns, &key) {
                        // As keen writes it.
                        (Some(columns), Some(key)) => {
                            self.0.borrow_mut().rows(columns, key);
                            map.next_value_seed(ReadEach(OneRow(self.0)))?;
                        }
                        _ => early = Some(map.next_value()?),
                    }
                }
                _ => drop(map.next_value::<IgnoredAny>()?),
            }
        }
        let start = TableStart {
            table: table.ok_or_else(|| A::Error::missing_field("table"))?,
            set: set.ok_or_else(|| A::Error::missing_field("set"))?,
            columns: columns.ok_or_else(|| A::Error::missing_field("columns"))?,
            key: key.ok_or_else(|| A::Error::missing_field("key"))?,
            notes: notes.unwrap_or_default(),
            shapes: shapes.ok_or_else(|| A::Error::missing_field("shapes"))?,
        };
        if !rows {
            return Err(A::Error::missing_field("divergent"));
        }
        let total: u64 = total.ok_or_else(|| A::Error::missing_field("divergent_total"))?;
        let mut into = self.0.borrow_mut();
        if let Some(early) = early {
            into.rows(&start.columns, &start.key);
            for row in early {
                if into.wants_row() {
                    into.row(row);
                }
            }
        }
        into.table(start, &unread.unwrap_or_default(), total);
        Ok(())
    }
}

/// Reads a divergent row.
#[derive(Clone, Copy)]
struct OneRow<'a, 't>(Taker<'a, 't>);

impl<'de> DeserializeSeed<'de> for OneRow<'_, '_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, from: D) -> Result<(), D::Error> {
        let wanted = self.0.borrow_mut().wants_row();
        if wanted {
            let row = DivergentDocument::deserialize(from)?;
            self.0.borrow_mut().row(row);
        } else {
            IgnoredAny::deserialize(from)?;
        }
        Ok(())
    }
}
