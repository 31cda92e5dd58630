//! An audit as JSON, written as it is found, so that no number of divergent
//! rows has to fit in memory. `docs/json.md` describes both formats.

use std::collections::{BTreeMap, HashMap};
use std::io::{self, Write};
use std::ops::ControlFlow;

use jiff::Timestamp;
use keen_core::audit::merge::{DivergentRow, Standing};
use keen_core::row::batch::Layout;
use keen_core::row::digest::DigestFunction;
use keen_core::topology::{NodeId, SetId, Topology};
use keen_run::audit::{AuditSink, NodeOutcome, TableHead, TableOutcome};
use serde_json::{Map, Value as Json, json};

use crate::app::audit::Totals;
use crate::render::json::divergent_row::DivergentJson;
use keen_wire::Envelope;

/// One document, or one object per line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Shape {
    Document,
    Lines,
}

/// Writes an audit while it runs.
pub(crate) struct JsonSink<'a, W: Write> {
    topology: &'a Topology,
    function: DigestFunction,
    left_out: Vec<String>,
    limit: u64,
    shape: Shape,
    out: W,
    started: Timestamp,
    layout: Option<Layout>,
    table: Map<String, Json>,
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
        shape: Shape,
        out: W,
    ) -> Self {
        let table = Map::new();
        Self {
            topology,
            function,
            left_out,
            limit,
            shape,
            out,
            started: Timestamp::now(),
            layout: None,
            table,
            tables: 0,
            rows: 0,
            listed_before: HashMap::new(),
            unsettled: 0,
            failed: None,
        }
    }

    /// Ends the document and gives the writer back.
    pub(crate) fn finish(mut self, totals: &Totals) -> io::Result<W> {
        let end = json!({
            "complete": totals.complete(),
            "interrupted": totals.stopped,
            "broken": totals.broken,
            "seconds": keen_wire::seconds(totals.took),
            "links_standing_still": totals.standing_still.iter().map(|(from, to)| {
                json!({"from": self.topology.nodes[*from].name, "to": self.topology.nodes[*to].name})
            }).collect::<Vec<_>>(),
            "summary": {
                "tables": totals.tables(),
                "agree": totals.agree,
                "diverge": totals.diverge,
                "unread": totals.unread,
                "unsettled": totals.unsettled,
                "incomplete_tables": totals.incomplete,
                "rows": totals.rows,
                "divergent_rows": totals.divergent,
                "in_flight_rows": totals.in_flight,
                "moving_rows": totals.moving,
                "healed_rows": totals.healed,
            },
        });
        match self.shape {
            Shape::Document => {
                self.put("\n],\n");
                self.members(&end);
                self.put("\n}\n");
            }
            Shape::Lines => self.line("summary", end),
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
    fn members(&mut self, object: &Json) {
        let lines: Vec<String> = object
            .as_object()
            .into_iter()
            .flatten()
            .map(|(name, value)| format!("{}: {value}", Json::from(name.as_str())))
            .collect();
        self.put(&lines.join(",\n"));
    }

    fn line(&mut self, kind: &str, mut object: Json) {
        if let Some(map) = object.as_object_mut() {
            map.shift_insert(0, "kind".to_owned(), Json::from(kind));
        }
        self.put(&format!("{object}\n"));
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
        let text = |name: &str| self.table.get(name).and_then(Json::as_str).unwrap_or_default();
        let mut lead = match self.shape {
            Shape::Document => Vec::new(),
            Shape::Lines => {
                vec![("kind", kind), ("table", text("table")), ("set", text("set"))]
            }
        };
        lead.extend(standing.map(|standing| ("standing", standing)));
        let json = DivergentJson { topology: self.topology, layout: &layout, row, lead };
        if self.failed.is_none() {
            let lines = self.shape == Shape::Lines;
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

    fn by_name<T: Into<Json>>(&self, values: impl Iterator<Item = (NodeId, T)>) -> Json {
        Json::Object(
            values
                .map(|(node, value)| (self.topology.nodes[node].name.clone(), value.into()))
                .collect(),
        )
    }

    fn nodes(&self, nodes: &BTreeMap<NodeId, NodeOutcome>) -> Vec<Json> {
        let time = |at: std::time::SystemTime| Timestamp::try_from(at).ok().map(|t| t.to_string());
        nodes
            .iter()
            .map(|(id, node)| {
                json!({
                    "node": self.topology.nodes[*id].name,
                    "role": self.topology.role(*id).name(),
                    "about": node.about,
                    "read_at": node.read_at.and_then(time),
                    "in_no_set": node.in_no_set,
                    "fault": keen_wire::fault(node.fault.as_ref()),
                })
            })
            .collect()
    }
}

impl<W: Write> AuditSink for JsonSink<'_, W> {
    fn opened(&mut self, nodes: &BTreeMap<NodeId, NodeOutcome>, _estimated_keys: u64) {
        let head = Envelope::new("audit", &self.topology.name, &self.started).with(json!({
            "digest": self.function.name(),
            "nodes": self.nodes(nodes),
            "left_out": self.left_out,
        }));
        match self.shape {
            Shape::Document => {
                self.put("{\n");
                self.members(&head);
                self.put(",\n\"tables\": [");
            }
            Shape::Lines => self.line("start", head),
        }
    }

    fn in_any_order(&self) -> bool {
        self.shape == Shape::Lines
    }

    fn waiting(&mut self, head: &TableHead<'_>, rows: u64) -> ControlFlow<()> {
        let set = &self.topology.sets[head.set].name;
        self.line("waiting", json!({"table": head.table, "set": set, "rows": rows}));
        self.flow()
    }

    fn settled(&mut self, head: &TableHead<'_>, row: DivergentRow) -> ControlFlow<()> {
        let listed = self.listed_before.entry((head.set, head.table.to_owned())).or_default();
        if *listed < self.limit {
            *listed += 1;
            self.layout = head.layout.cloned();
            let set = Json::from(&self.topology.sets[head.set].name[..]);
            self.table = Map::from_iter([
                ("table".to_owned(), Json::from(head.table)),
                ("set".to_owned(), set),
            ]);
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
        let object = json!({
            "table": head.table,
            "set": self.topology.sets[head.set].name,
            "columns": columns,
            "key": key,
            "notes": head.notes,
            "shapes": shapes,
        });
        self.table = object.as_object().cloned().unwrap_or_default();
        if self.shape == Shape::Document {
            self.put(if self.tables > 0 { ",\n{" } else { "\n{" });
            self.members(&object);
            self.put(",\n\"divergent\": [");
        }
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

    fn unsettled(&mut self, row: DivergentRow, standing: Standing) -> ControlFlow<()> {
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
        let links: Vec<Json> = tally
            .unsatisfied
            .iter()
            .map(|((from, to), rows)| {
                json!({"from": self.topology.nodes[*from].name, "to": self.topology.nodes[*to].name, "rows": rows})
            })
            .collect();
        let end = json!({
            "divergent_total": tally.divergent,
            "divergent_listed": self.rows,
            "verdict": outcome.verdict.name(),
            "standings": {
                "settled": outcome.standings.settled,
                "in_flight": outcome.standings.in_flight,
                "moving": outcome.standings.moving,
                "healed": outcome.standings.healed,
                "waiting_for": outcome.standings.waiting,
            },
            "rows": self.by_name(read().map(|(node, balance)| (*node, balance.rows))),
            "balances": self.by_name(read().map(|(node, balance)| (*node, format!("{:032x}", balance.sum)))),
            "unread": self.by_name(outcome.unread.iter().map(|(node, reason)| (*node, reason.clone()))),
            "unsatisfied_links": links,
        });
        match self.shape {
            Shape::Document => {
                self.put("],\n");
                self.members(&end);
                self.put("}");
            }
            Shape::Lines => {
                let mut object = std::mem::take(&mut self.table);
                object.extend(end.as_object().cloned().unwrap_or_default());
                self.line("table", Json::Object(object));
            }
        }
        self.flow()
    }
}
