//! A plan, for people.

use keen_core::history::journal::RowOp;
use std::fmt::Write as _;
use std::path::Path;

use keen_core::fault::ReadFault;
use keen_core::plan::sql::statement::Statement;
use keen_core::plan::{Choice, ChoiceContent, Guarded, Question, Step};
use keen_core::topology::{NodeId, SetId, Topology};
use keen_core::value::Value;

use super::style::{BAD, GOOD, HEADING, QUIET, UNKNOWN, hanging, styled};
use crate::app::plan::{Planned, Scripts};
use crate::numbers::counted;
use crate::safe;

/// Writes a plan: the steps of each node in order, then the questions. Of steps about rows and of questions there can
/// be many; the others are few, and whoever carries them out wants to have read each.
pub(crate) fn write(
    topology: &Topology,
    planned: &Planned,
    (show, show_setup): (usize, usize),
    columns: Option<usize>,
) -> Result<String, ReadFault> {
    let mut out = heading(topology, planned);
    let plan = &planned.plan;
    let said = plan.onward();
    // What all steps say about replicating onward, if they say the same.
    let onward = said.first().filter(|_| said.len() == 1);
    if let Some(onward) = onward {
        let _ = writeln!(
            out,
            "{} {}",
            styled(QUIET, "Would these writes replicate onward?"),
            safe::text(onward)
        );
    }
    let mut left = show;
    for steps in plan.nodes() {
        if left == 0 {
            break;
        }
        let name = &topology.nodes[steps.node].name;
        let count = counted(steps.len() as u64, "step", "steps");
        let _ = writeln!(out, "\n{}: {count}", styled(HEADING, name));
        for (number, step) in steps.numbered_in_plan().take(left) {
            write_step(&mut out, topology, number, &step?, (onward.is_none(), columns));
        }
        left = left.saturating_sub(steps.len());
    }
    if plan.step_count() > show {
        let more = (plan.step_count() - show) as u64;
        let _ = writeln!(
            out,
            "\n… and {} (--show N shows more, --format json has all)",
            counted(more, "more step", "more steps")
        );
    }
    super::plan_setup::write(&mut out, topology, planned, show_setup, columns);
    for question in plan.questions().take(show) {
        write_question(&mut out, topology, &question?, columns);
    }
    if plan.question_count() > show {
        let more = (plan.question_count() - show) as u64;
        let _ = writeln!(out, "\n… and {}", counted(more, "more question", "more questions"));
    }
    notes(&mut out, planned);
    Ok(out)
}

/// How to go on from a plan; `with` names the topology file, where that is needed.
pub(crate) fn next(
    planned: &Planned,
    saved: Option<&Path>,
    after: Option<&Path>,
    with: &str,
) -> String {
    let plan = &planned.plan;
    let mut out = String::new();
    if plan.step_count() + planned.setup.steps.len() > 0 {
        let how = match saved {
            Some(path) => format!("keen mend {}{with}", safe::typed(path)),
            None => format!("the same command with --save FILE, then keen mend FILE{with}"),
        };
        let _ = writeln!(out, "{} {how}", styled(QUIET, "To carry it out:"));
        if let Some(path) = after {
            let label = styled(QUIET, "The topology file as it has to read then:");
            let _ = writeln!(out, "{label} {}", safe::typed(path));
        }
    }
    if plan.question_count() > 0 {
        let how = "the same command with --answer QUESTION=NODE, or with --ask";
        let _ = writeln!(out, "{} {how}", styled(QUIET, "To answer:"));
    }
    if out.is_empty() { out } else { format!("\n{out}") }
}

fn heading(topology: &Topology, planned: &Planned) -> String {
    let plan = &planned.plan;
    let mut out = String::new();
    let name = styled(HEADING, &safe::text(&topology.name));
    let when = safe::text(planned.audited.split(['.', 'Z']).next().unwrap_or_default())
        .replace('T', " ")
        + " UTC";
    let from = if planned.with_rows { "audit" } else { "preflight" };
    if plan.is_empty() && planned.setup.steps.is_empty() {
        let word = match (planned.complete, planned.with_rows) {
            (false, true) => styled(UNKNOWN, "nothing to repair in what was read"),
            (false, false) => styled(UNKNOWN, "nothing that a step can do in what was read"),
            (true, false) if !planned.setup.notes.is_empty() => {
                styled(UNKNOWN, "nothing that a step can do")
            }
            (true, _) => styled(GOOD, "nothing to do"),
        };
        let _ = writeln!(out, "Plan for {name}, from the {from} of {when}: {word}.");
        return out;
    }
    let mut nodes: Vec<NodeId> = plan.nodes().map(|of| of.node).collect();
    nodes.extend(planned.setup.steps.iter().map(|step| step.node));
    nodes.sort_unstable();
    nodes.dedup();
    let _ = writeln!(
        out,
        "Plan for {name}, from the {from} of {when}: {} on {}, {}. Nothing has been changed.",
        counted((plan.step_count() + planned.setup.steps.len()) as u64, "step", "steps"),
        counted(nodes.len() as u64, "node", "nodes"),
        counted(plan.question_count() as u64, "question", "questions"),
    );
    out
}

fn row_of(topology: &Topology, set: SetId, table: &str, key: &[(String, Value)]) -> String {
    let set = safe::text(&topology.sets[set].name);
    format!("{} ({set}), {}", safe::text(table), row_name(key))
}

fn row_name(key: &[(String, Value)]) -> String {
    key.iter()
        .map(|(name, value)| format!("{} {}", safe::text(name), safe::value(value)))
        .collect::<Vec<_>>()
        .join(", ")
}

/// One named line of a step or a question.
pub(super) fn field(out: &mut String, name: &str, text: &str, columns: Option<usize>) {
    let lead = format!("       {} ", styled(QUIET, &format!("{name:<6}")));
    out.push_str(&hanging(&lead, text, columns));
}

fn write_step(
    out: &mut String,
    topology: &Topology,
    number: usize,
    step: &Step,
    (say_onward, columns): (bool, Option<usize>),
) {
    let word = match step.op {
        RowOp::Delete => styled(BAD, step.op.name()),
        _ => step.op.name().to_owned(),
    };
    let row = row_of(topology, step.set, &step.table, &step.key);
    out.push_str(&hanging(&format!("  {number}. "), &format!("{word} {row}"), columns));
    field(out, "change", &change(step), columns);
    field(out, "why", &safe::text(&step.reason), columns);
    if let Some(lost) = &step.loses {
        let node = &topology.nodes[step.node].name;
        field(out, "loses", &safe::text(&format!("{lost} as {node} has it")), columns);
    }
    let (write, back) = step.write_and_undo();
    field(out, "guard", &safe::text(&write.condition), columns);
    let (sql, values) = bound(&write.statement);
    field(out, "sql", &sql, columns);
    field(out, "with", &values, columns);
    field(out, "undo", &undo(step, &back), columns);
    if say_onward {
        field(out, "onward", &safe::text(&step.onward), columns);
    }
}

/// The effect of a step on its row, in words.
fn change(step: &Step) -> String {
    if let Some((before, after)) = step.copies {
        return format!("equal rows: {before} -> {after}");
    }
    let in_key = |column: &str| step.key.iter().any(|(name, _)| name == column);
    let changes = step.changes();
    let cells = changes.iter().filter_map(|(column, before, after)| match (before, after) {
        (Some(before), Some(after)) => {
            let shown = safe::values_apart(&[before, after]);
            Some(format!("{}: {} -> {}", safe::text(column), shown[0], shown[1]))
        }
        (Some(_), None) | (None, Some(_)) if in_key(column) => None,
        (Some(value), None) | (None, Some(value)) => {
            Some(format!("{} = {}", safe::text(column), safe::value(value)))
        }
        (None, None) => None,
    });
    let text = cells.collect::<Vec<_>>().join(", ");
    if text.is_empty() { "the key is the whole row".to_owned() } else { text }
}

/// The way back, in words; scripts and JSON hold its statement.
fn undo(step: &Step, back: &Guarded<'_>) -> String {
    let what = match step.op {
        _ if step.copies.is_some() => "the copies as before".to_owned(),
        RowOp::Insert => "delete the row again".to_owned(),
        RowOp::Delete => "insert the row again".to_owned(),
        RowOp::Update => {
            let changes = step.changes();
            let back = changes.iter().filter_map(|(column, before, _)| {
                Some(format!("{} back to {}", safe::text(column), safe::value(before.as_ref()?)))
            });
            back.collect::<Vec<_>>().join(", ")
        }
    };
    format!("{what}, if {}", safe::text(&back.condition))
}

/// A statement, and the values bound to it, safe to look at.
fn bound(statement: &Statement<'_>) -> (String, String) {
    let (sql, values) = statement.bound();
    let mark = if sql.contains("$1") { '$' } else { '?' };
    let values = values
        .iter()
        .enumerate()
        .map(|(i, value)| format!("{}{} = {}", mark, i + 1, safe::value(value)));
    (safe::text(&sql), values.collect::<Vec<_>>().join(", "))
}

/// Writes one question.
pub(crate) fn question(topology: &Topology, question: &Question, columns: Option<usize>) -> String {
    let mut out = String::new();
    write_question(&mut out, topology, question, columns);
    out
}

fn write_question(
    out: &mut String,
    topology: &Topology,
    question: &Question,
    columns: Option<usize>,
) {
    let row = row_of(topology, question.set, &question.table, &question.key);
    out.push('\n');
    let id = question.id(topology);
    let lead = format!("{} {} ", styled(UNKNOWN, "?"), styled(QUIET, &id));
    out.push_str(&hanging(&lead, &row, columns));
    field(out, "why", &safe::text(&question.why), columns);
    for choice in &question.choices {
        let holds = if choice.nodes.len() == 1 { "holds" } else { "hold" };
        let nodes = super::style::nodes(topology, &choice.nodes);
        let content = choice_text(question, choice);
        let kept = match choice.content {
            ChoiceContent::Lost => format!("what was lost: {content}"),
            ChoiceContent::Merged => format!("what each side changed (merge): {content}"),
            ChoiceContent::Held => format!("what {nodes} {holds}: {content}"),
        };
        field(out, "keep", &kept, columns);
        field(
            out,
            "",
            &format!("{} {}", styled(QUIET, "loses"), safe::text(&choice.loses)),
            columns,
        );
    }
}

/// The cells in which the choices differ, or the whole row.
fn choice_text(question: &Question, choice: &Choice) -> String {
    if let Some(copies) = choice.copies {
        return counted(copies, "such row", "such rows");
    }
    let Some(row) = &choice.row else {
        return "(no row)".to_owned();
    };
    let rows: Vec<&Vec<(String, Value)>> =
        question.choices.iter().filter_map(|choice| choice.row.as_ref()).collect();
    let differs = |i: usize| rows.iter().any(|other| other.get(i) != row.get(i));
    let any = (0..row.len()).any(differs);
    let in_key = |name: &String| question.key.iter().any(|(key, _)| key == name);
    let cells = row
        .iter()
        .enumerate()
        .filter(|(i, (name, _))| if any { differs(*i) } else { !in_key(name) });
    cells
        .map(|(_, (name, value))| format!("{} = {}", safe::text(name), safe::value(value)))
        .collect::<Vec<_>>()
        .join(", ")
}

fn notes(out: &mut String, planned: &Planned) {
    let notes = || planned.plan.notes.iter().chain(&planned.setup.notes);
    if notes().next().is_some() {
        out.push('\n');
    }
    for note in notes() {
        let _ = writeln!(out, "{} {}", styled(UNKNOWN, "note"), safe::text(note));
    }
    if !planned.complete {
        let from = if planned.with_rows { "audit" } else { "preflight" };
        let _ = writeln!(
            out,
            "\n{} the {from} behind this plan did not read everything.",
            styled(UNKNOWN, "Incomplete:")
        );
    }
}

/// The scripts that were written, and how to use them.
pub(crate) fn scripts(topology: &Topology, planned: &Planned, written: &[Scripts]) -> String {
    let mut out = heading(topology, planned);
    for scripts in written {
        let _ = writeln!(
            out,
            "  {}: {}\n    repair {}\n    undo   {}",
            styled(HEADING, &topology.nodes[scripts.node].name),
            counted(scripts.steps, "step", "steps"),
            scripts.repair.display(),
            scripts.undo.display()
        );
    }
    if planned.plan.question_count() > 0 {
        let count = counted(planned.plan.question_count() as u64, "question is", "questions are");
        let _ = writeln!(out, "{count} in no script: keen plan shows what to decide.");
    }
    notes(&mut out, planned);
    out
}
