//! Conflicts, for programs. `docs/json.md` describes both formats.

use anyhow::Result;
use jiff::Timestamp;
use keen_core::conflict::{Conflict, Doubt, Fate, Now, RowNow, Thing, Written};
use keen_core::observe::links::Micros;
use keen_core::topology::placement::{Nodes, members};
use keen_core::topology::{NodeId, Topology};
use keen_core::value::Value;
use keen_run::ledger::{Proof, conflict_id};
use keen_run::tables::Table;
use serde_json::{Map, Value as Json, json};

use crate::app::conflicts::Outcome;
use keen_wire::Envelope;

/// One document.
pub(crate) fn document(topology: &Topology, outcome: &Outcome, show: usize) -> Result<String> {
    let mut document = head(topology, outcome);
    let shown = outcome.found.conflicts.iter().take(show);
    let conflicts: Vec<Json> = shown.map(|conflict| one(topology, outcome, conflict)).collect();
    document["conflicts"] = Json::Array(conflicts);
    document["proven_before"] = outcome.proven.untold.iter().map(|p| proven(outcome, p)).collect();
    document["summary"] = summary(outcome);
    Ok(serde_json::to_string_pretty(&document)? + "\n")
}

/// One object per line: what was read, each conflict, the summary.
pub(crate) fn lines(topology: &Topology, outcome: &Outcome, show: usize) -> Result<String> {
    let mut first = json!({"kind": "conflicts"});
    if let (Some(first), Json::Object(head)) = (first.as_object_mut(), head(topology, outcome)) {
        first.extend(head);
    }
    let mut out = serde_json::to_string(&first)? + "\n";
    for conflict in outcome.found.conflicts.iter().take(show) {
        let line = json!({"kind": "conflict", "conflict": one(topology, outcome, conflict)});
        out.push_str(&serde_json::to_string(&line)?);
        out.push('\n');
    }
    for proof in &outcome.proven.untold {
        let line = json!({"kind": "proven_before", "proven_before": proven(outcome, proof)});
        out.push_str(&serde_json::to_string(&line)?);
        out.push('\n');
    }
    out.push_str(&serde_json::to_string(&json!({"kind": "summary", "summary": summary(outcome)}))?);
    out.push('\n');
    Ok(out)
}

fn head(topology: &Topology, outcome: &Outcome) -> Json {
    let nodes: Vec<Json> = outcome
        .found
        .nodes
        .iter()
        .map(|(node, report)| {
            json!({
                "node": topology.nodes[*node].name,
                "journal": report.about,
                "identity": report.identity,
                "read": report.read,
                "complete": report.complete,
                "transactions": report.transactions,
                "transactions_before": report.earlier,
                "writes": report.writes,
                "from": report.times.and_then(|(from, _)| time(Some(from))),
                "to": report.times.and_then(|(_, to)| time(Some(to))),
                "fault": keen_wire::fault(report.fault.as_ref()),
                "rows_fault": keen_wire::fault(report.rows_fault.as_ref()),
                "notes": report.notes,
            })
        })
        .collect();
    let left: Map<String, Json> =
        outcome.found.left.iter().map(|(table, why)| (table.clone(), json!(why))).collect();
    let past: Vec<Json> = (outcome.past_the_log().iter())
        .map(|(node, columns)| {
            let table = outcome.found.life.as_ref().map(|life| &outcome.found.tables[life.table]);
            let names = columns.iter().filter_map(|at| Some(&table?.layout.columns[*at].name));
            json!({"node": topology.nodes[*node].name, "columns": names.collect::<Vec<_>>()})
        })
        .collect();
    Envelope::new("conflicts", &topology.name, &outcome.started).with(json!({
        "went_on_from": time(outcome.went_on_from),
        "seconds": keen_wire::seconds(outcome.took),
        "complete": outcome.complete(),
        "interrupted": outcome.found.stopped,
        "left_out": outcome.left_out,
        "nodes": nodes,
        "tables_not_judged": left,
        "past_the_log": past,
        "reused": outcome.found.reused.iter().map(ToString::to_string).collect::<Vec<_>>(),
    }))
}

fn summary(outcome: &Outcome) -> Json {
    let mut by = Vec::new();
    for ((table, kind), counts) in crate::app::conflicts::counts(&outcome.found) {
        let standings: Map<String, Json> =
            counts.standings.iter().map(|(s, count)| (s.name().to_owned(), json!(count))).collect();
        by.push(json!({
            "table": outcome.found.tables[table].name,
            "kind": kind.name(),
            "standings": standings,
            "writes_lost": counts.lost,
            "possible_only": counts.possible,
        }));
    }
    json!({
        "conflicts": outcome.found.conflicts.len(),
        "writes_lost": outcome.lost(),
        "proven_before": outcome.proven.untold.len(),
        "not_asked_for": outcome.hidden,
        "not_judged": outcome.found.more,
        "by_table_and_kind": by,
    })
}

/// What an earlier run proved, as it told it.
fn proven(outcome: &Outcome, proof: &Proof) -> Json {
    json!({
        "id": conflict_id(&proof.name),
        "by_run_of": time(Some(proof.seen)),
        "accepted": outcome.is_accepted(proof),
        "conflict": serde_json::from_str::<Json>(&proof.document).unwrap_or_default(),
    })
}

pub(crate) fn one(topology: &Topology, outcome: &Outcome, conflict: &Conflict) -> Json {
    let tables = &outcome.found.tables;
    let table = &tables[conflict.table];
    let name = |node: NodeId| topology.nodes[node].name.clone();
    let thing = match &conflict.thing {
        Thing::Row(key) => json!({"row": cells(table, table.layout.key.iter().copied().zip(key))}),
        Thing::Unique(places, values) => {
            json!({"unique": cells(table, places.iter().copied().zip(values))})
        }
        Thing::Shape => json!({"shape": table.name}),
    };
    let doubt = conflict.doubt.map(|doubt| match doubt {
        Doubt::Outsider => json!({"why": "writer_outside", "node": null}),
        Doubt::NoJournal(node) => json!({"why": "journal_not_read", "node": name(node)}),
        Doubt::LastOnly => json!({"why": "last_writes_only", "node": null}),
        Doubt::TooShort(node) => json!({"why": "journal_too_short", "node": name(node)}),
    });
    let held: Map<String, Json> =
        conflict.held.iter().map(|(node, write)| (name(*node), json!(write))).collect();
    let accepted = outcome
        .accepted(conflict)
        .map(|accepted| json!({"because": accepted.because, "at": time(Some(accepted.at))}));
    json!({
        "id": outcome.id(conflict),
        "accepted": accepted,
        "kind": conflict.kind.name(),
        "table": table.name,
        "set": topology.sets[table.set].name,
        "of": thing,
        "new": outcome.is_new(conflict),
        "proven": conflict.proven,
        "doubt": doubt,
        "proven_before": outcome.proof(conflict).map(|proof| proven(outcome, proof)),
        "standing": conflict.standing.name(),
        "harmless": conflict.is_harmless(),
        "writes_lost": conflict.lost(),
        "writes": conflict.writes.iter().map(|write| written(topology, tables, conflict, write)).collect::<Vec<_>>(),
        "writes_in_all": conflict.count,
        "unseen": conflict.unseen,
        "rows": conflict.rows.iter().map(|row| row_now(topology, &tables[row.table], row)).collect::<Vec<_>>(),
        "holds": held,
        "won_by": conflict.rules.iter().map(|rule| rule.name()).collect::<Vec<_>>(),
        "healed_by": conflict.healed_by.as_ref().map(|(id, node)| json!({"transaction": id.to_string(), "node": node.map(name)})),
        "counted_key": conflict.counted,
        "counted_alike": conflict.counted_alike.iter().map(|at| &table.layout.columns[*at].name).collect::<Vec<_>>(),
        "breaks": conflict.breaks.iter().map(|(from, to, rows)| json!({"from": name(*from), "to": name(*to), "rows": rows})).collect::<Vec<_>>(),
    })
}

fn written(topology: &Topology, tables: &[Table], conflict: &Conflict, write: &Written) -> Json {
    let table = &tables[conflict.rows.get(write.row).map_or(conflict.table, |row| row.table)];
    let side = |side: &Option<Vec<Option<Value>>>| {
        side.as_ref().map(|values| {
            let told =
                values.iter().enumerate().filter_map(|(at, value)| Some((at, value.as_ref()?)));
            cells(table, told)
        })
    };
    let nodes =
        |nodes: Nodes| members(nodes).map(|n| topology.nodes[n].name.clone()).collect::<Vec<_>>();
    let lost = match &write.fate {
        Fate::Lost(columns) => Some(
            columns.iter().map(|at| table.layout.columns[*at].name.clone()).collect::<Vec<_>>(),
        ),
        _ => None,
    };
    json!({
        "transaction": write.id.to_string(),
        "node": write.node.map(|node| topology.nodes[node].name.clone()),
        "time": time(write.made),
        "deed": write.deed.name(),
        "table": table.name,
        "row": write.row,
        "statement": write.statement,
        "before": side(&write.content.before),
        "after": side(&write.content.after),
        "applied_at": nodes(write.applied),
        "skipped_at": nodes(write.skipped),
        "proven": write.proven,
        "fate": match write.fate { Fate::Kept => "kept", Fate::Lost(_) => "lost", Fate::Unknown => "unknown" },
        "lost_columns": lost,
    })
}

fn row_now(topology: &Topology, table: &Table, row: &RowNow) -> Json {
    let nodes: Map<String, Json> = row
        .now
        .iter()
        .map(|(node, now)| {
            let held = match now {
                Now::Row(values) => json!({"row": cells(table, values.iter().enumerate())}),
                Now::NoRow => json!({"row": null}),
                Now::Unread(reason) => json!({"unread": reason}),
            };
            (topology.nodes[*node].name.clone(), held)
        })
        .collect();
    let key = cells(table, table.layout.key.iter().copied().zip(&row.key));
    json!({"table": table.name, "key": key, "now": nodes})
}

fn cells<'a>(table: &Table, values: impl Iterator<Item = (usize, &'a Value)>) -> Map<String, Json> {
    let named =
        values.filter_map(|(at, value)| Some((&table.layout.columns.get(at)?.name[..], value)));
    keen_wire::record(named).0
}

fn time(at: Option<Micros>) -> Option<String> {
    Timestamp::from_microsecond(at?).ok().map(|at| at.to_string())
}
