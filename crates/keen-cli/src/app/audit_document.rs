//! An audit that was written as JSON, read table by table and row by row: its rows are put aside as they come.

use std::cell::RefCell;
use std::fmt;
use std::io::Read;

use anyhow::{Context, Result, bail};
use keen_core::plan::AuditedTable;
use keen_core::row::batch::Layout;
use keen_core::topology::Topology;
use keen_run::spool::rows_aside::RowsAside;
use serde::de::{
    Deserialize, DeserializeSeed, Deserializer, Error as _, IgnoredAny, MapAccess, SeqAccess,
    Visitor,
};

use crate::safe;
use keen_wire::{ColumnDocument, DivergentDocument, TableDocument};

/// What a plan takes from such a file.
#[derive(Default)]
pub(crate) struct AuditRead {
    pub(crate) started: String,
    /// It read everything it should have, and all that it found is listed.
    pub(crate) complete: bool,
    pub(crate) tables: Vec<AuditedTable>,
    /// What is not listed, in words.
    pub(crate) notes: Vec<String>,
    /// Rows beyond the limit.
    pub(crate) over: u64,
}

/// Reads one; of its rows no more than `limit`.
///
/// # Errors
/// What the file is instead, or what in it cannot be.
pub(crate) fn read(
    topology: &Topology,
    shown: &str,
    file: impl Read,
    limit: u64,
) -> Result<AuditRead> {
    let reading = RefCell::new(Reading { left: limit, ..Reading::default() });
    let whole = Whole { topology, reading: &reading };
    let mut json = serde_json::Deserializer::from_reader(file);
    let head = whole.deserialize(&mut json).and_then(|head| json.end().map(|()| head));
    let head = head.with_context(|| {
        format!("{shown} is no whole audit: make it with keen audit --format json --output {shown}")
    })?;
    if head.keen != "audit" {
        bail!("{shown} is a keen {}, not an audit", safe::text(&head.keen));
    }
    if head.version != keen_wire::VERSION {
        bail!(
            "{shown} has version {}, this keen reads version {}: make it again",
            head.version,
            keen_wire::VERSION
        );
    }
    if head.topology != topology.name {
        bail!(
            "{shown} is an audit of \"{}\", the topology file is of \"{}\"",
            safe::text(&head.topology),
            safe::text(&topology.name)
        );
    }
    let Reading { read, wrong, .. } = reading.into_inner();
    if let Some(wrong) = wrong {
        bail!("{shown}: {}", safe::text(&wrong));
    }
    let complete = head.complete && read.notes.is_empty() && read.over == 0;
    Ok(AuditRead { started: head.started, complete, ..read })
}

/// What a file says of itself.
struct Head {
    keen: String,
    version: u32,
    topology: String,
    started: String,
    complete: bool,
}

#[derive(Default)]
struct Reading {
    read: AuditRead,
    /// How many more rows are taken.
    left: u64,
    /// The first thing that cannot be.
    wrong: Option<String>,
}

/// Reads the whole file.
#[derive(Clone, Copy)]
struct Whole<'a> {
    topology: &'a Topology,
    reading: &'a RefCell<Reading>,
}

impl<'de> DeserializeSeed<'de> for Whole<'_> {
    type Value = Head;

    fn deserialize<D: Deserializer<'de>>(self, from: D) -> Result<Head, D::Error> {
        from.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for Whole<'_> {
    type Value = Head;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an audit")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Head, A::Error> {
        let (mut keen, mut version, mut topology) = (None, None, None);
        let (mut started, mut complete, mut tables) = (None, None, None);
        while let Some(name) = map.next_key::<String>()? {
            match &*name {
                "keen" => keen = Some(map.next_value()?),
                "version" => version = Some(map.next_value()?),
                "topology" => topology = Some(map.next_value()?),
                "started" => started = Some(map.next_value()?),
                "complete" => complete = Some(map.next_value()?),
                "tables" => tables = Some(map.next_value_seed(Each(OneTable(self)))?),
                _ => drop(map.next_value::<IgnoredAny>()?),
            }
        }
        tables.ok_or_else(|| A::Error::missing_field("tables"))?;
        Ok(Head {
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
struct Each<S>(S);

impl<'de, S: DeserializeSeed<'de, Value = ()> + Copy> DeserializeSeed<'de> for Each<S> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, from: D) -> Result<(), D::Error> {
        from.deserialize_seq(self)
    }
}

impl<'de, S: DeserializeSeed<'de, Value = ()> + Copy> Visitor<'de> for Each<S> {
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
struct OneTable<'a>(Whole<'a>);

impl<'de> DeserializeSeed<'de> for OneTable<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, from: D) -> Result<(), D::Error> {
        from.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for OneTable<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a table of an audit")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<(), A::Error> {
        let (mut name, mut set) = (None, None);
        let (mut columns, mut key): (Option<Vec<ColumnDocument>>, Option<Vec<String>>) =
            (None, None);
        let (mut shapes, mut unread, mut total) = (None, None, None);
        let mut rows = None;
        while let Some(field) = map.next_key::<String>()? {
            match &*field {
                "table" => name = Some(map.next_value()?),
                "set" => set = Some(map.next_value()?),
                "columns" => columns = Some(map.next_value()?),
                "key" => key = Some(map.next_value()?),
                "shapes" => shapes = Some(map.next_value()?),
                "unread" => unread = Some(map.next_value()?),
                "divergent_total" => total = Some(map.next_value()?),
                "divergent" => {
                    // As keen writes it, what a row is read by stands before the rows.
                    let layout = match (&columns, &key) {
                        (Some(columns), Some(key)) => Some(keen_wire::layout(columns, key)),
                        _ => None,
                    };
                    rows = Some(match layout {
                        Some(Ok(layout)) => {
                            let aside = RefCell::new(Listed::default());
                            let row = OneRow { of: self.0, layout: &layout, aside: &aside };
                            map.next_value_seed(Each(row))?;
                            Rows::Aside(aside.into_inner())
                        }
                        _ => Rows::Whole(map.next_value()?),
                    });
                }
                _ => drop(map.next_value::<IgnoredAny>()?),
            }
        }
        let table = TableDocument {
            table: name.ok_or_else(|| A::Error::missing_field("table"))?,
            set: set.ok_or_else(|| A::Error::missing_field("set"))?,
            columns: columns.ok_or_else(|| A::Error::missing_field("columns"))?,
            key: key.ok_or_else(|| A::Error::missing_field("key"))?,
            shapes: shapes.ok_or_else(|| A::Error::missing_field("shapes"))?,
            unread: unread.unwrap_or_default(),
        };
        let rows = rows.ok_or_else(|| A::Error::missing_field("divergent"))?;
        let total: u64 = total.ok_or_else(|| A::Error::missing_field("divergent_total"))?;
        if let Err(wrong) = self.0.take(table, rows, total) {
            self.0.reading.borrow_mut().wrong.get_or_insert(wrong);
        }
        Ok(())
    }
}

/// The rows of a table, as they were read.
enum Rows {
    Aside(Listed),
    Whole(Vec<DivergentDocument>),
}

#[derive(Default)]
struct Listed {
    rows: RowsAside,
    listed: u64,
    wrong: Option<String>,
}

impl Whole<'_> {
    /// Takes a table that was read to its end.
    fn take(&self, table: TableDocument, rows: Rows, total: u64) -> Result<(), String> {
        let place = format!("table {} of set {}", table.table, table.set);
        let layout =
            keen_wire::layout(&table.columns, &table.key).map_err(|e| format!("{place}: {e}"));
        let Listed { rows, listed, wrong } = match rows {
            Rows::Aside(listed) => listed,
            Rows::Whole(documents) => {
                let aside = RefCell::new(Listed::default());
                let row = OneRow {
                    of: *self,
                    layout: layout.as_ref().map_err(Clone::clone)?,
                    aside: &aside,
                };
                documents.into_iter().for_each(|document| row.take(document));
                aside.into_inner()
            }
        };
        if listed < total {
            self.reading.borrow_mut().read.notes.push(format!(
                "the audit lists {listed} of {total} divergent rows of {}: make it without --show for a whole plan",
                table.table
            ));
        }
        if table.columns.is_empty() {
            return Ok(()); // nothing of it could be compared
        }
        if let Some(wrong) = wrong {
            return Err(format!("{place}: {wrong}"));
        }
        let rows =
            rows.into_rows().map_err(|e| format!("{place}: rows cannot be put aside ({e}): temporary files need space in the folder that TMPDIR names"))?;
        let table = keen_wire::audited_table(self.topology, table, layout?, rows)?;
        self.reading.borrow_mut().read.tables.push(table);
        Ok(())
    }
}

/// Reads a divergent row.
#[derive(Clone, Copy)]
struct OneRow<'a> {
    of: Whole<'a>,
    layout: &'a Layout,
    aside: &'a RefCell<Listed>,
}

impl<'de> DeserializeSeed<'de> for OneRow<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, from: D) -> Result<(), D::Error> {
        if self.of.reading.borrow().left == 0 {
            IgnoredAny::deserialize(from)?;
            self.of.reading.borrow_mut().read.over += 1;
            self.aside.borrow_mut().listed += 1;
        } else {
            self.take(DivergentDocument::deserialize(from)?);
        }
        Ok(())
    }
}

impl OneRow<'_> {
    fn take(&self, document: DivergentDocument) {
        let mut aside = self.aside.borrow_mut();
        let mut reading = self.of.reading.borrow_mut();
        aside.listed += 1;
        if reading.left == 0 {
            reading.read.over += 1;
            return;
        }
        reading.left -= 1;
        let row = keen_wire::divergent_row(self.of.topology, self.layout, document);
        let kept = row.and_then(|row| aside.rows.push(&row).map_err(|error| error.to_string()));
        if let Err(wrong) = kept {
            aside.wrong.get_or_insert(wrong);
        }
    }
}
