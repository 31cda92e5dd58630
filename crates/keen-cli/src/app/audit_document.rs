//! An audit that was written as JSON, as a plan takes it: its rows are put aside as they come.

use std::io::Read;

use anyhow::{Context, Result, bail};
use keen_core::plan::AuditedTable;
use keen_core::row::batch::Layout;
use keen_core::topology::Topology;
use keen_core::topology::node_set::NodeSet;
use keen_run::spool::rows_aside::RowsAside;
use keen_wire::audit::{TableStart, audited_table};
use keen_wire::{ByNode, ColumnDocument, DivergentDocument, FaultDocument, TakeAudit, Unusable};

use crate::safe;

/// An audit as a plan takes it from its document.
#[derive(Default)]
pub(crate) struct AuditRead {
    pub(crate) started: String,
    /// It read everything it should have, and all that it found is listed.
    pub(crate) complete: bool,
    pub(crate) tables: Vec<AuditedTable>,
    /// Notes on rows that are not listed.
    pub(crate) notes: Vec<String>,
    /// Rows beyond the limit.
    pub(crate) over: u64,
    /// The nodes that it compared.
    pub(crate) nodes: NodeSet,
}

/// Reads one; of its rows no more than `limit`.
///
/// # Errors
/// The file is something else, or holds something that cannot be.
pub(crate) fn read(
    topology: &Topology,
    shown: &str,
    file: impl Read,
    limit: u64,
) -> Result<AuditRead> {
    let mut taker = TableTaker {
        topology,
        left: limit,
        read: AuditRead::default(),
        listed: Listed::default(),
        wrong: None,
    };
    let head = keen_wire::read_audit(file, &mut taker).with_context(|| {
        format!("{shown} is not a complete audit: make it with keen audit --format json --output {shown}")
    })?;
    if head.keen != "audit" {
        bail!("{shown} is a keen {}, not an audit", safe::text(&head.keen));
    }
    if head.version != keen_wire::VERSION {
        bail!(
            "{shown} has version {}, but this keen reads version {}: make it again",
            head.version,
            keen_wire::VERSION
        );
    }
    if head.topology != topology.name {
        bail!(
            "{shown} is an audit of \"{}\", but the topology file is for \"{}\"",
            safe::text(&head.topology),
            safe::text(&topology.name)
        );
    }
    let TableTaker { read, wrong, .. } = taker;
    if let Some(wrong) = wrong {
        bail!("{shown}: {}", safe::text(&wrong));
    }
    let complete = head.complete && read.notes.is_empty() && read.over == 0;
    Ok(AuditRead { started: head.started, complete, ..read })
}

/// Takes the tables of an audit.
struct TableTaker<'a> {
    topology: &'a Topology,
    /// How many more rows are taken.
    left: u64,
    read: AuditRead,
    /// The rows of the table at hand.
    listed: Listed,
    /// The first thing that cannot be.
    wrong: Option<Unusable>,
}

/// The rows of a table.
#[derive(Default)]
struct Listed {
    /// By what they are read, if that can be.
    layout: Option<Result<Layout, Unusable>>,
    rows: RowsAside,
    count: u64,
    wrong: Option<Unusable>,
}

impl TakeAudit for TableTaker<'_> {
    fn rows(&mut self, columns: &[ColumnDocument], key: &[String]) {
        let layout = Some(keen_wire::layout(columns, key));
        self.listed = Listed { layout, ..Listed::default() };
    }

    fn wants_row(&mut self) -> bool {
        let wanted = self.left > 0;
        if !wanted {
            self.read.over += 1;
            self.listed.count += 1;
        }
        wanted
    }

    fn row(&mut self, row: DivergentDocument) {
        self.listed.count += 1;
        self.left -= 1;
        let Some(Ok(layout)) = &self.listed.layout else { return };
        let row = keen_wire::divergent_row(self.topology, layout, row);
        let rows = &mut self.listed.rows;
        let kept = row.and_then(|row| rows.push(&row).map_err(|error| error.to_string()));
        if let Err(wrong) = kept {
            self.listed.wrong.get_or_insert(wrong);
        }
    }

    fn table(&mut self, table: TableStart, unread: &ByNode<FaultDocument>, total: u64) {
        if let Err(wrong) = self.take(table, unread, total) {
            self.wrong.get_or_insert(wrong);
        }
    }
}

impl TableTaker<'_> {
    /// Takes a table that was read to its end.
    fn take(
        &mut self,
        table: TableStart,
        unread: &ByNode<FaultDocument>,
        total: u64,
    ) -> Result<(), Unusable> {
        let Listed { layout, rows, count, wrong } = std::mem::take(&mut self.listed);
        if count < total {
            self.read.notes.push(format!(
                "the audit lists {count} of {total} divergent rows of {}: make it without --show for a whole plan",
                table.table
            ));
        }
        if table.columns.is_empty() {
            return Ok(()); // nothing of it could be compared
        }
        let place = format!("table {} of set {}", table.table, table.set);
        let layout = layout.unwrap_or_else(|| keen_wire::layout(&table.columns, &table.key));
        let layout = layout.map_err(|e| format!("{place}: {e}"))?;
        if let Some(wrong) = wrong {
            return Err(format!("{place}: {wrong}"));
        }
        let rows =
            rows.into_rows().map_err(|e| format!("{place}: rows cannot be stored ({e}): temporary files need space in the folder that TMPDIR names"))?;
        let table = audited_table(self.topology, table, unread, layout, rows)?;
        self.read.nodes |= table.nodes.keys().collect();
        self.read.tables.push(table);
        Ok(())
    }
}
