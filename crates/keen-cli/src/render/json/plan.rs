//! A plan as JSON, written step by step from where its rows are.

use std::io::{self, Write};

use std::collections::BTreeMap;

use keen_core::topology::{NodeId, Topology};
use keen_wire::plan::{
    PlanLine, PlanStart, PlanSummary, PlanWriter, PlannedNode, QuestionWriter, StepDocument,
    StepWriter,
};
use keen_wire::{Ending, Envelope};
use keen_wire::{plan_table, setup_document};

use crate::app::plan::Planned;

/// Writes the whole plan as one document.
pub(crate) fn document(
    topology: &Topology,
    planned: &Planned,
    mut out: &mut dyn Write,
) -> io::Result<()> {
    let (steps, questions) = (planned.plan.steps(), planned.plan.questions());
    let halves = planned.plan.halves();
    let setup: Vec<StepDocument> = setup(topology, planned).collect();
    let start = start(topology, planned);
    let plan = PlanWriter { topology, start, steps, setup: &setup, halves, questions };
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
    for step in setup(topology, planned) {
        let step = PlanLine::Step(Box::new(step));
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

/// The steps that are not about rows; their numbers go on after those that are.
fn setup<'a>(
    topology: &'a Topology,
    planned: &'a Planned,
) -> impl Iterator<Item = StepDocument> + 'a {
    let rows = planned.plan.step_count() as u64;
    let steps = planned.setup.steps.iter().zip(rows + 1..);
    steps.map(move |(step, number)| setup_document(topology, number, step))
}

fn start(topology: &Topology, planned: &Planned) -> PlanStart {
    let mut steps: BTreeMap<NodeId, u64> = BTreeMap::new();
    for of in planned.plan.nodes() {
        *steps.entry(of.node).or_default() += of.len() as u64;
    }
    for step in &planned.setup.steps {
        *steps.entry(step.node).or_default() += 1;
    }
    let nodes = steps
        .into_iter()
        .map(|(node, steps)| PlannedNode { node: topology.nodes[node].name.clone(), steps });
    PlanStart {
        envelope: Envelope::new("plan", &topology.name, &planned.started, nodes.collect())
            .without(&planned.left_out),
        ending: Ending::new(planned.took, planned.complete),
        audited: planned.audited.clone(),
        interrupted: planned.interrupted,
        read: planned.read.iter().map(|node| topology.nodes[node].name.clone()).collect(),
        topology_digest: planned.topology_digest.clone(),
        topology_after: planned.topology_after.clone(),
        undoes: None,
        tables: planned.plan.written().map(|(table, _)| plan_table(topology, table)).collect(),
        notes: planned.plan.notes.iter().chain(&planned.setup.notes).cloned().collect(),
        summary: PlanSummary {
            steps: (planned.plan.step_count() + planned.setup.steps.len()) as u64,
            questions: planned.plan.question_count() as u64,
        },
    }
}
