//! What became of a plan, for programs.

use anyhow::Result;
use keen_core::plan::sql::script::Direction;
use keen_core::topology::Topology;
use keen_run::mend::NodeTally;
use keen_wire::mend::{LeftOutDocument, MendDocument, MendedNode, ProofDocument};
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
            fault: fault(mended.faults.get(node)),
        }
    };
    let left_out = mended.left_out.iter().map(|left| LeftOutDocument {
        step: left.number,
        node: topology.nodes[left.node].name.clone(),
        table: left.table.clone(),
        key: cells(left.key.iter().map(|(name, value)| (&name[..], value))),
        why: left.why.clone(),
        taken_back: left.taken_back,
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
        proof: mended.proof.as_ref().map(|proof| ProofDocument {
            rows: proof.rows,
            divergent: proof.divergent,
            unsettled: proof.unsettled,
            complete: proof.complete,
        }),
    };
    pretty(&document)
}
