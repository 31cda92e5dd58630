//! Journals as files: what any system wrote, exported line by line as JSON (`docs/journal.md`).

mod lines;
mod told;

use std::collections::BTreeMap;
use std::fs::File;
use std::io::BufReader;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use keen_core::fault::ReadFault;
use keen_core::history::journal::{
    Begin, Entry, Head, Id, JournalPosition, RowChange, RowOp, ShapeChange, Since, Stream, Writer,
};
use keen_core::ports::ReadJournal;
use keen_core::row::schema::{ColumnShape, TableShape};
use keen_core::value::Value;
use keen_core::value::calendar;
use keen_wire::journal::{JournalChange, JournalHeader, JournalOp, JournalTable};
use keen_wire::{Cells, VERSION, parse_value};
use serde::Deserialize;

use lines::{Last, Line, Lines};
use told::LineTransaction;

/// A journal that was exported to a file.
#[derive(Debug)]
pub struct FileJournal {
    path: PathBuf,
    header: JournalHeader,
    lines: Lines,
    /// Where reading goes on from.
    from: Option<JournalPosition>,
    ended: Option<JournalPosition>,
}

impl FileJournal {
    /// Opens a file and reads its first line.
    ///
    /// # Errors
    /// [`ReadFault`] when there is no such file, or it is no journal.
    pub fn open(path: &Path) -> Result<Self, ReadFault> {
        let file = File::open(path).map_err(|error| {
            ReadFault::new(
                format!("the journal {} cannot be opened: {error}", path.display()),
                "correct journal = \"...\" of the node in the topology file; the path is relative to that file",
            )
        })?;
        let file = BufReader::with_capacity(256 << 10, file);
        let mut lines = Lines::of(file);
        let first = match lines.next() {
            Ok(Some(Line::Whole(line))) => line.to_owned(),
            _ => String::new(),
        };
        let refused = |why: String| {
            ReadFault::new(
                format!("{} is not a journal that keen can read: {why}", path.display()),
                "docs/journal.md describes the format",
            )
        };
        let header: JournalHeader = serde_json::from_str(&first)
            .map_err(|error| refused(format!("its first line: {error}")))?;
        if header.keen != "journal" {
            return Err(refused(format!("it is a document of the kind \"{}\"", header.keen)));
        }
        if header.version != VERSION {
            return Err(refused(format!(
                "it has version {}, but this keen reads version {VERSION}",
                header.version
            )));
        }
        Ok(Self { path: path.to_owned(), header, lines, from: None, ended: None })
    }

    /// The shapes of tables that the file tells of.
    #[must_use]
    pub fn shapes(&self) -> BTreeMap<String, TableShape> {
        let shape = |table: &JournalTable| TableShape {
            columns: (table.columns.iter())
                .map(|name| ColumnShape { name: name.clone(), ..ColumnShape::default() })
                .collect(),
            key: table.key.clone(),
            unique: table.unique.clone(),
            ..TableShape::default()
        };
        self.header.tables.iter().map(|(name, table)| (name.clone(), shape(table))).collect()
    }

    fn wrong(&self, why: &str) -> ReadFault {
        ReadFault::new(
            format!("line {} of {}: {why}", self.lines.number(), self.path.display()),
            "docs/journal.md describes the format; everything before that line was read",
        )
    }
}

impl ReadJournal for FileJournal {
    fn head(&mut self) -> Result<Head, ReadFault> {
        let head =
            Head::nothing_known("journal file".to_owned(), Some(Arc::from(&self.header.node[..])));
        let writer =
            |origin: &String| Writer { origin: Arc::from(&origin[..]), stream: Stream::Count };
        let since = match &self.header.since {
            Some(up_to) => Since::After(
                up_to.iter().map(|(origin, number)| (writer(origin), *number)).collect(),
            ),
            // From the first of its own transactions that it holds.
            None => Since::Unclear(self.first_of_its_own()?),
        };
        Ok(Head { since, ..head })
    }

    /// From after the line that was read last, which must still stand where it stood.
    fn go_on(&mut self, from: &JournalPosition) -> Result<bool, ReadFault> {
        let mut parts = from.at.split(' ').map(str::parse::<u64>);
        let (Some(Ok(lines)), Some(Ok(begins)), Some(Ok(length)), Some(Ok(digest))) =
            (parts.next(), parts.next(), parts.next(), parts.next())
        else {
            return Ok(false);
        };
        let last = Last { begins, length, digest };
        let there = self.lines.go_on(lines, last);
        if there.map_err(|error| self.wrong(&error.to_string()))? {
            self.from = Some(from.clone());
            return Ok(true);
        }
        Ok(false)
    }

    fn ended(&self) -> Option<JournalPosition> {
        self.ended.clone()
    }

    fn read(&mut self, each: &mut dyn FnMut(Entry) -> ControlFlow<()>) -> Result<(), ReadFault> {
        let mut names: BTreeMap<String, Arc<str>> = BTreeMap::new();
        let mut columns: BTreeMap<Vec<String>, Arc<[String]>> = BTreeMap::new();
        let mut order = self.from.as_ref().map_or(0, |mark| mark.order);
        loop {
            let parsed = match self.lines.next() {
                Ok(None) => break,
                Ok(Some(Line::Blank)) => continue,
                Ok(Some(Line::Whole(line))) => LineTransaction::whole(line),
                Ok(Some(Line::Long(line))) => LineTransaction::spilled(line),
                Err(error) => Err(error.to_string()),
            };
            let mut transaction = parsed.map_err(|why| self.wrong(&why))?;
            let mut name = |text: &str| -> Arc<str> {
                Arc::clone(names.entry(text.to_owned()).or_insert_with(|| Arc::from(text)))
            };
            let made = match &transaction.time {
                None => None,
                Some(text) => match calendar::parse_timestamp(text) {
                    Some((made, Some(_))) => Some(made),
                    _ => {
                        return Err(self.wrong(
                            "time is not a time with a zone, like \"2026-09-25T08:30:00Z\"",
                        ));
                    }
                },
            };
            order += 1;
            let begin = Begin {
                order,
                id: Id {
                    writer: Writer { origin: name(&transaction.origin), stream: Stream::Count },
                    place: transaction.number,
                },
                made,
                commit: None,
            };
            if each(Entry::Begin(begin)).is_break() {
                return Ok(());
            }
            loop {
                let next = transaction.changes.next().map_err(|why| self.wrong(&why))?;
                let Some(change) = next else { break };
                let table = name(&change.table);
                let entry = if change.op == JournalOp::Shape {
                    let what = change.statement.clone().unwrap_or_else(|| "changed".to_owned());
                    Entry::Shape(ShapeChange { table, what })
                } else {
                    let row = row(&change, table, &mut columns);
                    Entry::Row(row.map_err(|why| self.wrong(&why))?)
                };
                if each(entry).is_break() {
                    return Ok(());
                }
            }
        }
        let (count, Last { begins, length, digest }) = self.lines.read_to();
        self.ended =
            Some(JournalPosition { order, at: format!("{count} {begins} {length} {digest}") });
        Ok(())
    }
}

impl FileJournal {
    /// The number of the first transaction in it that its node made itself.
    fn first_of_its_own(&self) -> Result<u64, ReadFault> {
        #[derive(Deserialize)]
        struct Named {
            origin: String,
            number: u64,
        }
        let mut again = Self::open(&self.path)?;
        // What is wrong with a line is said when it is read.
        while let Ok(Some(line)) = again.lines.next() {
            let named = match line {
                Line::Blank => continue,
                Line::Whole(line) => serde_json::from_str::<Named>(line).ok(),
                Line::Long(mut line) => {
                    let named = serde_json::from_reader(BufReader::new(&mut line)).ok();
                    line.pass_over().ok().and(named)
                }
            };
            if let Some(named) = named.filter(|named| named.origin == self.header.node) {
                return Ok(named.number);
            }
        }
        Ok(u64::MAX)
    }
}

fn row(
    change: &JournalChange,
    table: Arc<str>,
    columns: &mut BTreeMap<Vec<String>, Arc<[String]>>,
) -> Result<RowChange, String> {
    let (act, needed) = match change.op {
        JournalOp::Insert => (RowOp::Insert, &change.after),
        JournalOp::Delete => (RowOp::Delete, &change.before),
        _ => (RowOp::Update, &change.after),
    };
    let Some(needed) = needed else {
        let side = if act == RowOp::Delete { "before" } else { "after" };
        return Err(format!("a change of {table} lacks \"{side}\""));
    };
    let mut names: Vec<String> = needed.0.keys().cloned().collect();
    let more = change.before.iter().chain(&change.after).flat_map(|cells| cells.0.keys());
    for name in more {
        if !names.contains(name) {
            names.push(name.clone());
        }
    }
    let names = columns.entry(names).or_insert_with_key(|names| Arc::from(&names[..]));
    let side = |side: &Option<Cells>| -> Result<Option<Vec<Option<Value>>>, String> {
        let Some(Cells(cells)) = side else { return Ok(None) };
        let cell = |name: &String| match cells.get(name) {
            None => Ok(None),
            Some(json) => match parse_value(json) {
                Some(value) => Ok(Some(value)),
                None => Err(format!("column {name} of {table} does not hold a value: {json}")),
            },
        };
        names.iter().map(cell).collect::<Result<_, _>>().map(Some)
    };
    Ok(RowChange {
        before: side(&change.before)?,
        after: if act == RowOp::Delete { None } else { side(&change.after)? },
        columns: Arc::clone(names),
        table,
        act,
    })
}
