//! What became of a plan, for programs.

use anyhow::Result;
use keen_core::plan::sql::script::Direction;
use keen_core::topology::Topology;
use keen_run::mend::setup::SetupTally;
use keen_run::mend::{LeftOutOf, NodeTally, Proof};
use keen_wire::mend::{
    AlikeDocument, ChangeCounts, CopiedRowsDocument, HandWorkDocument, LeftOutDocument,
    MendDocument, MendedNode, ProofDocument,
};
use keen_wire::{Ending, Envelope, cells, fault};

use super::pretty;
use crate::app::mend::MendOutcome;

/// Writes it as one document.
pub(crate) fn write(topology: &Topology, outcome: &MendOutcome) -> Result<String> {
    let mended = &outcome.mended;
    let node = |(node, wrote): (&usize, &String)| {
        let tally = mended.nodes.get(node).cloned().unwrap_or_default();
        let NodeTally { made, made_before, already, left_out, taken_back } = tally;
        MendedNode {
            node: topology.nodes[*node].name.clone(),
            wrote: wrote.clone(),
            made,
            made_before,
            already,
            not_made: left_out,
            taken_back,
            changes: mended.setup.get(node).map(changes).unwrap_or_default(),
            fault: fault(mended.faults.get(node)),
        }
    };
    let left_out = mended.left_out.iter().map(|left| {
        let (table, key, subject) = match &left.of {
            LeftOutOf::Row { table, key } => {
                let key = cells(key.iter().map(|(name, value)| (&name[..], value)));
                (Some(table.clone()), Some(key), None)
            }
            LeftOutOf::Setup(subject) => (None, None, Some(subject.clone())),
        };
        LeftOutDocument {
            step: left.number,
            node: topology.nodes[left.node].name.clone(),
            table,
            key,
            subject,
            why: left.why.clone(),
            taken_back: left.taken_back,
        }
    });
    let copies = mended.copies.iter().map(|copied| CopiedRowsDocument {
        step: copied.number,
        node: topology.nodes[copied.node].name.clone(),
        from: topology.nodes[copied.from].name.clone(),
        tables: copied.tables,
        rows: copied.rows,
        kept_rows: copied.aside.as_ref().map_or(0, |(rows, _)| *rows),
        kept_file: copied.aside.as_ref().map(|(_, path)| path.display().to_string()),
    });
    let alike = mended.alike.iter().map(|(node, other, of)| AlikeDocument {
        node: topology.nodes[*node].name.clone(),
        other: topology.nodes[*other].name.clone(),
        proof: proof(of),
    });
    let by_hand = mended.by_hand.iter().map(|work| HandWorkDocument {
        step: work.number,
        node: topology.nodes[work.node].name.clone(),
        what: work.what.clone(),
        done: work.is_done,
        reads: work.reads.clone(),
    });
    let nodes = outcome.writers.iter().map(node).collect();
    let document = MendDocument {
        envelope: Envelope::new("mend", &topology.name, &outcome.started, nodes),
        ending: Ending::new(outcome.took, outcome.complete()),
        dry_run: outcome.dry_run,
        undo: outcome.direction == Direction::Undo,
        interrupted: mended.stopped,
        broken: fault(mended.broken.as_ref()),
        undo_file: (!outcome.dry_run).then(|| outcome.undo_path.display().to_string()),
        not_made: left_out.collect(),
        copies: copies.collect(),
        by_hand: by_hand.collect(),
        findings_left: mended
            .findings_left
            .as_ref()
            .and_then(|left| Some(left.as_ref().ok()?.findings.clone())),
        proof: mended.proof.as_ref().map(proof),
        alike: alike.collect(),
    };
    pretty(&document)
}

fn proof(proof: &Proof) -> ProofDocument {
    let Proof { rows, divergent, unsettled, complete } = *proof;
    ProofDocument { rows, divergent, unsettled, complete }
}

fn changes(tally: &SetupTally) -> ChangeCounts {
    let SetupTally { made, made_before, already, left_out, for_good } = *tally;
    ChangeCounts { made, made_before, already, not_made: left_out, for_good }
}
