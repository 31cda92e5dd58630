//! Answers to the questions of a plan: as options, in the lines of a saved plan, or typed on a terminal.

use std::io::{BufRead, BufReader, Write};
use std::path::Path;

use anyhow::{Context, Result, bail};
use keen_core::plan::answer::{Answer, AnswerEffect, AnswerFault, Answered};
use keen_core::plan::{Choice, ChoiceContent, Plan, Question};
use keen_core::topology::Topology;
use keen_core::value::Value;
use keen_wire::parse_value;
use keen_wire::plan::{AnswerDocument, PlanLine};

use crate::numbers::counted;
use crate::safe;

/// Answers, each with what it is for.
pub(crate) type GivenAnswers = Vec<(Answered, Answer)>;

/// Reads answers that were given as options.
pub(crate) fn from_options(topology: &Topology, options: &[String]) -> Result<GivenAnswers> {
    let given = |option: &String| {
        let (question, choice) = option
            .split_once('=')
            .with_context(|| format!("--answer {}: write QUESTION=CHOICE", safe::text(option)))?;
        let is_table = topology.sets.iter().any(|set| set.tables.iter().any(|t| t == question));
        let answered = match question {
            "all" => Answered::All,
            table if is_table => Answered::Table(table.to_owned()),
            id => Answered::Question(id.to_owned()),
        };
        let answer = answer_of(topology, choice)
            .with_context(|| format!("--answer {}", safe::text(option)))?;
        if matches!(answer, Answer::Cells(_)) && !matches!(answered, Answered::Question(_)) {
            bail!("--answer {}: cells are for one question", safe::text(option));
        }
        Ok((answered, answer))
    };
    options.iter().map(given).collect()
}

/// Reads those that somebody wrote into the questions of a saved plan.
pub(crate) fn from_plan(topology: &Topology, path: &Path) -> Result<GivenAnswers> {
    let shown = path.display();
    let file = std::fs::File::open(path).with_context(|| format!("cannot read {shown}"))?;
    let mut answers = Vec::new();
    for (line, number) in BufReader::new(file).lines().zip(1..) {
        let line = line.with_context(|| format!("cannot read {shown}"))?;
        let read: PlanLine = serde_json::from_str(&line)
            .with_context(|| format!("{shown}, line {number}: it is no line of a plan"))?;
        let PlanLine::Question(question) = read else { continue };
        let answer = match question.answer {
            None => continue,
            Some(AnswerDocument::Word(word)) => answer_of(topology, &word),
            Some(AnswerDocument::Cells(cells)) => cells_of(cells.0),
        };
        let answer = answer.with_context(|| format!("{shown}, line {number}"))?;
        answers.push((Answered::Question(question.id), answer));
    }
    if answers.is_empty() {
        bail!("{shown} has no answers: write \"answer\": \"NODE\" into the lines of its questions");
    }
    Ok(answers)
}

fn answer_of(topology: &Topology, choice: &str) -> Result<Answer> {
    if choice.trim_start().starts_with('{') {
        let cells = serde_json::from_str(choice).context("the cells are no JSON")?;
        return cells_of(cells);
    }
    match choice {
        "lost" => Ok(Answer::Lost),
        "merge" => Ok(Answer::Merge),
        name => topology.node(name).map(Answer::Node).with_context(|| {
            format!("{} is neither a node nor lost, merge, or cells", safe::text(name))
        }),
    }
}

fn cells_of(cells: serde_json::Map<String, serde_json::Value>) -> Result<Answer> {
    let cell = |(name, json): (String, serde_json::Value)| -> Result<(String, Value)> {
        let value = parse_value(&json).with_context(|| {
            format!("column {} holds no value that keen writes", safe::text(&name))
        })?;
        Ok((name, value))
    };
    Ok(Answer::Cells(cells.into_iter().map(cell).collect::<Result<_>>()?))
}

/// Makes the plan again with answers. Says of those that answer several questions what they come to.
pub(crate) fn apply(plan: Plan, given: &[(Answered, Answer)]) -> Result<Plan> {
    if given.is_empty() {
        return Ok(plan);
    }
    let (mut plan, effects) = match plan.answered(given) {
        Ok(done) => done,
        Err(AnswerFault::Unfit(why)) => bail!("{why}"),
        Err(AnswerFault::Rows(fault)) => return Err(fault.into()),
    };
    for ((answered, _), effect) in given.iter().zip(&effects) {
        let what = match answered {
            Answered::Question(_) => continue,
            Answered::Table(table) => format!("questions about {table}"),
            Answered::All => "questions".to_owned(),
        };
        plan.notes.push(effect_in_words(&what, effect));
    }
    Ok(plan)
}

fn effect_in_words(what: &str, effect: &AnswerEffect) -> String {
    let mut text =
        format!("the answer to all {what} decides {}", counted(effect.decides, "row", "rows"));
    let losses: Vec<String> = (effect.losses.iter())
        .map(|(loss, rows)| format!("{loss} ({})", counted(*rows, "row", "rows")))
        .collect();
    if !losses.is_empty() {
        text.push_str(&format!("; lost: {}", losses.join("; ")));
    }
    if effect.last_copies > 0 {
        text.push_str(&format!(
            "; {} left open, because the only copy would be lost",
            counted(effect.last_copies, "is", "are")
        ));
    }
    if effect.unfit > 0 {
        text.push_str(&format!("; {} cannot be answered so", effect.unfit));
    }
    text
}

/// Asks the questions of a plan one by one. `show` writes a question as the plan shows it.
pub(crate) fn ask(
    topology: &Topology,
    plan: &Plan,
    show: &dyn Fn(&Question) -> String,
    from: &mut dyn BufRead,
    out: &mut dyn Write,
) -> Result<GivenAnswers> {
    let mut answers = Vec::new();
    for question in plan.questions() {
        let question = question?;
        if question.choices.is_empty() {
            continue;
        }
        write!(out, "{}", show(&question))?;
        for (choice, number) in question.choices.iter().zip(1..) {
            writeln!(out, "       {number}: {}", choice_in_words(topology, choice))?;
        }
        loop {
            write!(out, "       Which? (a number; empty leaves it open, q ends) ")?;
            out.flush()?;
            let mut line = String::new();
            if from.read_line(&mut line)? == 0 || line.trim() == "q" {
                return Ok(answers);
            }
            if line.trim().is_empty() {
                break;
            }
            let chosen = line.trim().parse::<usize>().ok().and_then(|n| n.checked_sub(1));
            let Some(choice) = chosen.and_then(|at| question.choices.get(at)) else { continue };
            let answer = match choice.content {
                ChoiceContent::Merged => Answer::Merge,
                ChoiceContent::Lost => Answer::Lost,
                ChoiceContent::Held => match choice.nodes.first() {
                    Some(node) => Answer::Node(*node),
                    None => continue,
                },
            };
            answers.push((Answered::Question(question.id(topology)), answer));
            break;
        }
    }
    Ok(answers)
}

fn choice_in_words(topology: &Topology, choice: &Choice) -> String {
    match choice.content {
        ChoiceContent::Merged => "what each side changed".to_owned(),
        ChoiceContent::Lost => "what was lost".to_owned(),
        ChoiceContent::Held => {
            let names: Vec<&str> =
                choice.nodes.iter().map(|node| &topology.nodes[*node].name[..]).collect();
            names.join(", ")
        }
    }
}
