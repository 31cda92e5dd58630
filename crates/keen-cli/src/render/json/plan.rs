//! A plan as JSON, written step by step from where its rows are.

use std::io::{self, Write};

use keen_core::topology::Topology;
use keen_wire::plan::{
    PlanLine, PlanStart, PlanSummary, PlanWriter, PlannedNode, QuestionWriter, StepWriter,
};
use keen_wire::plan_table;
use keen_wire::{Ending, Envelope};

use crate::app::plan::Planned;

/// Writes the whole plan as one document.
pub(crate) fn document(
    topology: &Topology,
    planned: &Planned,
    mut out: &mut dyn Write,
) -> io::Result<()> {
    let (steps, questions) = (planned.plan.steps(), planned.plan.questions());
    let halves = planned.plan.halves();
    let plan = PlanWriter { topology, start: start(topology, planned), steps, halves, questions };
    serde_json::to_writer_pretty(&mut out, &plan)?;
    out.write_all(b"\n")
}

/// Writes the plan as one object per line.
pub(crate) fn lines(
    topology: &Topology,
    planned: &Planned,
    mut out: &mut dyn Write,
) -> io::Result<()> {
    let start = start(topology, planned);
    let summary = start.summary;
    let mut line = |json: &dyn Fn(&mut dyn Write) -> serde_json::Result<()>| -> io::Result<()> {
        json(&mut out)?;
        out.write_all(b"\n")
    };
    let start = PlanLine::Start(start);
    line(&|out| serde_json::to_writer(out, &start))?;
    let halves = planned.plan.halves();
    for (step, number) in planned.plan.steps().zip(1..) {
        let step = step.map_err(io::Error::other)?;
        let half_of = halves.get(&number).copied();
        let step = StepWriter { topology, number, step, half_of, kind: Some("step") };
        line(&|out| serde_json::to_writer(out, &step))?;
    }
    for question in planned.plan.questions() {
        let question = question.map_err(io::Error::other)?;
        let question = QuestionWriter { topology, question, kind: Some("question") };
        line(&|out| serde_json::to_writer(out, &question))?;
    }
    let end = PlanLine::Summary(summary);
    line(&|out| serde_json::to_writer(out, &end))
}

fn start(topology: &Topology, planned: &Planned) -> PlanStart {
    let nodes = planned.plan.nodes().map(|of| PlannedNode {
        node: topology.nodes[of.node].name.clone(),
        steps: of.len() as u64,
    });
    PlanStart {
        envelope: Envelope::new("plan", &topology.name, &planned.started, nodes.collect())
            .without(&planned.left_out),
        ending: Ending::new(planned.took, planned.complete),
        audited: planned.audited.clone(),
        interrupted: planned.interrupted,
        read: planned.read.iter().map(|node| topology.nodes[node].name.clone()).collect(),
        topology_digest: planned.topology_digest.clone(),
        undoes: None,
        tables: planned.plan.written().map(|(table, _)| plan_table(topology, table)).collect(),
        notes: planned.plan.notes.clone(),
        summary: PlanSummary {
            steps: planned.plan.step_count() as u64,
            questions: planned.plan.question_count() as u64,
        },
    }
}
