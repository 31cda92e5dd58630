//! An audit as JSON, written as it is found, so that no number of divergent
//! rows has to fit in memory. `docs/json.md` describes both formats.

use std::collections::{BTreeMap, HashMap};
use std::io::{self, Write};
use std::ops::ControlFlow;

use jiff::Timestamp;
use keen_core::audit::merge::{DivergentRow, RowStanding};
use keen_core::row::batch::Layout;
use keen_core::row::digest::DigestFunction;
use keen_core::topology::{NodeId, SetId, Topology};
use keen_run::audit::{AuditSink, NodeOutcome, TableHead, TableOutcome};
use keen_wire::audit::{
    AuditEnd, AuditLine, AuditStart, AuditSummary, AuditedNode, StandingCounts, TableEnd,
    TableLine, TableStart, WaitingTable,
};
use keen_wire::{ByNode, DivergentWriter, Ending, Envelope, FaultDocument, LinkEnds, LinkRows};
use serde::Serialize;
use serde_json::Value as Json;

use crate::app::audit::Totals;

/// One document, or one object per line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Framing {
    Document,
    Lines,
}

/// Writes an audit while it runs.
pub(crate) struct JsonSink<'a, W: Write> {
    topology: &'a Topology,
    function: DigestFunction,
    left_out: Vec<String>,
    limit: u64,
    shape: Framing,
    out: W,
    started: Timestamp,
    layout: Option<Layout>,
    /// The table at hand and its set.
    names: (String, String),
    /// The beginning of the table at hand, before its rows.
    table: Option<TableStart>,
    tables: u64,
    /// Divergent rows of this table that were listed.
    rows: u64,
    /// Of tables that have not begun yet, how many of their divergent rows were listed.
    listed_before: HashMap<(SetId, String), u64>,
    /// Rows of this table that were listed as not settled.
    unsettled: u64,
    failed: Option<io::Error>,
}

impl<'a, W: Write> JsonSink<'a, W> {
    pub(crate) fn new(
        topology: &'a Topology,
        function: DigestFunction,
        left_out: Vec<String>,
        limit: u64,
        shape: Framing,
        out: W,
    ) -> Self {
        Self {
            topology,
            function,
            left_out,
            limit,
            shape,
            out,
            started: Timestamp::now(),
            layout: None,
            names: Default::default(),
            table: None,
            tables: 0,
            rows: 0,
            listed_before: HashMap::new(),
            unsettled: 0,
            failed: None,
        }
    }

    /// Ends the document and gives the writer back.
    pub(crate) fn finish(mut self, totals: &Totals) -> io::Result<W> {
        let name = |node: &NodeId| self.topology.nodes[*node].name.clone();
        let still = totals.standing_still.iter();
        let end = AuditEnd {
            ending: Ending::new(totals.took, totals.complete()),
            interrupted: totals.stopped,
            broken: totals.broken.clone(),
            links_standing_still: still
                .map(|(from, to)| LinkEnds { from: name(from), to: name(to) })
                .collect(),
            summary: AuditSummary {
                tables: totals.tables(),
                agree: totals.agree,
                diverge: totals.diverge,
                unread: totals.unread,
                unsettled: totals.unsettled,
                incomplete_tables: totals.incomplete,
                rows: totals.rows,
                divergent_rows: totals.divergent,
                in_flight_rows: totals.in_flight,
                moving_rows: totals.moving,
                healed_rows: totals.healed,
            },
        };
        match self.shape {
            Framing::Document => {
                self.put("\n],\n");
                self.members(&end);
                self.put("\n}\n");
            }
            Framing::Lines => self.line(&AuditLine::Summary(end)),
        }
        if let Some(error) = self.failed.take() {
            return Err(error);
        }
        Ok(self.out)
    }

    fn put(&mut self, text: &str) {
        if self.failed.is_none()
            && let Err(error) = self.out.write_all(text.as_bytes())
        {
            self.failed = Some(error);
        }
    }

    /// The members of an object, each on a line, without the braces.
    fn members(&mut self, object: &impl Serialize) {
        let lines = serde_json::to_value(object).map(|json| {
            let members = json.as_object().into_iter().flatten();
            members
                .map(|(name, value)| format!("{}: {value}", Json::from(name.as_str())))
                .collect::<Vec<String>>()
        });
        match lines {
            Ok(lines) => self.put(&lines.join(",\n")),
            Err(error) => self.failed = self.failed.take().or(Some(error.into())),
        }
    }

    fn line(&mut self, line: &AuditLine) {
        match serde_json::to_string(line) {
            Ok(line) => self.put(&format!("{line}\n")),
            Err(error) => self.failed = self.failed.take().or(Some(error.into())),
        }
        self.flush();
    }

    /// A line is of use to its reader once it is there.
    fn flush(&mut self) {
        if self.failed.is_none() {
            self.failed = self.out.flush().err();
        }
    }

    /// A row that differs: in a list, or on a line of its own.
    fn row(&mut self, row: &DivergentRow, separator: &str, kind: &str, standing: Option<&str>) {
        let Some(layout) = self.layout.take() else { return };
        let (table, set) = &self.names;
        let mut lead = match self.shape {
            Framing::Document => Vec::new(),
            Framing::Lines => vec![("kind", kind), ("table", &table[..]), ("set", &set[..])],
        };
        lead.extend(standing.map(|standing| ("standing", standing)));
        let json = DivergentWriter { topology: self.topology, layout: &layout, row, lead };
        if self.failed.is_none() {
            let lines = self.shape == Framing::Lines;
            let written = (if lines { Ok(()) } else { self.out.write_all(separator.as_bytes()) })
                .and_then(|()| serde_json::to_writer(&mut self.out, &json).map_err(io::Error::from))
                .and_then(|()| if lines { self.out.write_all(b"\n") } else { Ok(()) });
            self.failed = written.err();
            if lines {
                self.flush();
            }
        }
        self.layout = Some(layout);
    }

    fn flow(&self) -> ControlFlow<()> {
        if self.failed.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }

    fn by_node<T>(&self, values: impl Iterator<Item = (NodeId, T)>) -> ByNode<T> {
        values.map(|(node, value)| (self.topology.nodes[node].name.clone(), value)).collect()
    }

    fn nodes(&self, nodes: &BTreeMap<NodeId, NodeOutcome>) -> Vec<AuditedNode> {
        let time = |at: std::time::SystemTime| Timestamp::try_from(at).ok().map(|t| t.to_string());
        nodes
            .iter()
            .map(|(id, node)| AuditedNode {
                node: self.topology.nodes[*id].name.clone(),
                role: self.topology.role(*id).name().to_owned(),
                about: node.about.clone(),
                read_at: node.read_at.and_then(time),
                in_no_set: node.in_no_set.clone(),
                fault: keen_wire::fault(node.fault.as_ref()),
            })
            .collect()
    }
}

impl<W: Write> AuditSink for JsonSink<'_, W> {
    fn opened(&mut self, nodes: &BTreeMap<NodeId, NodeOutcome>, _estimated_keys: u64) {
        let start = AuditStart {
            envelope: Envelope::new("audit", &self.topology.name, &self.started, self.nodes(nodes))
                .without(&self.left_out),
            digest: self.function.name().to_owned(),
        };
        match self.shape {
            Framing::Document => {
                self.put("{\n");
                self.members(&start);
                self.put(",\n\"tables\": [");
            }
            Framing::Lines => self.line(&AuditLine::Start(start)),
        }
    }

    fn in_any_order(&self) -> bool {
        self.shape == Framing::Lines
    }

    fn waiting(&mut self, head: &TableHead<'_>, rows: u64) -> ControlFlow<()> {
        let set = self.topology.sets[head.set].name.clone();
        let waiting = WaitingTable { table: head.table.to_owned(), set, rows };
        self.line(&AuditLine::Waiting(waiting));
        self.flow()
    }

    fn settled(&mut self, head: &TableHead<'_>, row: DivergentRow) -> ControlFlow<()> {
        let listed = self.listed_before.entry((head.set, head.table.to_owned())).or_default();
        if *listed < self.limit {
            *listed += 1;
            self.layout = head.layout.cloned();
            self.names = (head.table.to_owned(), self.topology.sets[head.set].name.clone());
            self.row(&row, "", "divergent", None);
        }
        self.flow()
    }

    fn table(&mut self, head: &TableHead<'_>) -> ControlFlow<()> {
        self.layout = head.layout.cloned();
        let before = self.listed_before.remove(&(head.set, head.table.to_owned()));
        (self.rows, self.unsettled) = (before.unwrap_or_default(), 0);
        let (columns, key) = head
            .layout
            .map(|layout| (keen_wire::columns(layout), keen_wire::key(layout)))
            .unwrap_or_default();
        let shapes = keen_wire::shapes(self.topology, head.table, head.shapes, head.local_columns);
        let start = TableStart {
            table: head.table.to_owned(),
            set: self.topology.sets[head.set].name.clone(),
            columns,
            key,
            notes: head.notes.to_vec(),
            shapes,
        };
        self.names = (start.table.clone(), start.set.clone());
        if self.shape == Framing::Document {
            self.put(if self.tables > 0 { ",\n{" } else { "\n{" });
            self.members(&start);
            self.put(",\n\"divergent\": [");
        }
        self.table = Some(start);
        self.tables += 1;
        self.flow()
    }

    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        if self.rows < self.limit {
            let separator = if self.rows > 0 { ",\n" } else { "\n" };
            self.row(&row, separator, "divergent", None);
            self.rows += 1;
        }
        self.flow()
    }

    fn unsettled(&mut self, row: DivergentRow, standing: RowStanding) -> ControlFlow<()> {
        if self.layout.is_some() && self.unsettled < self.limit {
            let separator = if self.unsettled == 0 { "],\n\"unsettled\": [\n" } else { ",\n" };
            self.row(&row, separator, "unsettled", Some(standing.name()));
            self.unsettled += 1;
        }
        self.flow()
    }

    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        let tally = &outcome.tally;
        let read = || tally.balances.iter().filter(|(node, _)| !outcome.unread.contains_key(node));
        let name = |node: &NodeId| self.topology.nodes[*node].name.clone();
        let links = tally.unsatisfied.iter();
        let unread = outcome.unread.iter();
        let end = TableEnd {
            divergent_total: tally.divergent,
            divergent_listed: self.rows,
            verdict: outcome.verdict.name().to_owned(),
            standings: StandingCounts {
                settled: outcome.standings.settled,
                in_flight: outcome.standings.in_flight,
                moving: outcome.standings.moving,
                healed: outcome.standings.healed,
                waiting_for: outcome.standings.waiting.clone(),
            },
            rows: self.by_node(read().map(|(node, balance)| (*node, balance.rows))),
            balances: self
                .by_node(read().map(|(node, balance)| (*node, format!("{:032x}", balance.sum)))),
            unread: self.by_node(unread.map(|(node, fault)| (*node, FaultDocument::from(fault)))),
            unsatisfied_links: links
                .map(|((from, to), rows)| LinkRows { from: name(from), to: name(to), rows: *rows })
                .collect(),
        };
        match self.shape {
            Framing::Document => {
                self.put("],\n");
                self.members(&end);
                self.put("}");
            }
            Framing::Lines => {
                if let Some(start) = self.table.take() {
                    self.line(&AuditLine::Table(Box::new(TableLine { start, end })));
                }
            }
        }
        self.flow()
    }
}
