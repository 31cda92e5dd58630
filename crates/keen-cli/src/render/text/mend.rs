//! A plan that is carried out, for people: what will be done, and what became of it.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use keen_core::plan::sql::script::Direction;
use keen_core::topology::{NodeId, Topology};
use keen_core::value::text::text_of;
use keen_run::mend::plan_file::StepCounts;
use keen_run::mend::setup::{HandWork, SetupTally};
use keen_run::mend::{LeftOut, LeftOutOf, NodeTally, Proof};

use super::style::{BAD, GOOD, HEADING, QUIET, UNKNOWN, hanging, styled};
use crate::app::mend::{MendOutcome, ReadyPlan};
use crate::numbers::counted;
use crate::safe;

/// Left-out steps that are shown with their reasons.
const SHOWN: usize = 20;

/// What will be done where, as whom, and what is lost.
pub(crate) fn intention(topology: &Topology, ready: &ReadyPlan, dry_run: bool) -> String {
    let mut out = String::new();
    let undo = ready.direction == Direction::Undo;
    if ready.counts.is_empty() {
        let done = if undo { "taken back" } else { "made" };
        let _ = writeln!(out, "keen: no step is left to be {done}");
        return out;
    }
    if ready.counts.values().all(StepCounts::is_idle) {
        let _ = writeln!(out, "keen: no step is left to be made: it only looks once more");
        return out;
    }
    let will = match (dry_run, undo) {
        (true, _) => "will try, and keep nothing:",
        (false, true) => "will take back:",
        (false, false) if ready.changes_setup() => "will carry out, node by node:",
        (false, false) => "will write:",
    };
    let _ = writeln!(out, "keen {will}");
    for (node, counts) in &ready.counts {
        let todo = kinds(counts);
        if todo.is_empty() {
            continue; // it is only looked at
        }
        let writer = match ready.writers.get(node) {
            Some(Ok(about)) if !about.is_empty() => format!(", {}", safe::text(about)),
            Some(Err(_)) if counts.all_can_wait() => {
                ", once it can be reached; the rest is done without it".to_owned()
            }
            _ => String::new(),
        };
        let name = &topology.nodes[*node].name;
        let _ = writeln!(out, "  {name}: {todo}{writer}");
        for (table, losses) in losses(counts) {
            let _ = writeln!(out, "    loses of {}: {}", safe::text(table), safe::text(&losses));
        }
        for loss in &counts.setup_losses {
            let _ = writeln!(out, "    loses: {}", safe::text(loss));
        }
    }
    let before = ready.made_before();
    if before > 0 && !undo {
        let steps = counted(before, "step was", "steps were");
        let _ = writeln!(out, "{steps} made by an earlier run of this plan.");
    }
    if ready.plan.questions > 0 {
        let questions = counted(ready.plan.questions, "question is", "questions are");
        let _ = writeln!(out, "{questions} left open by the plan: those rows stay as they are.");
    }
    if !dry_run && !undo && ready.only_copies() {
        let path = safe::text(&ready.aside.display().to_string());
        let _ =
            writeln!(out, "What only the receiver holds is kept in {path}, which can put it back.");
    } else if !dry_run && !undo && ready.is_for_good() {
        let _ = writeln!(out, "Nothing of that can be taken back.");
    } else if !dry_run && !undo {
        let path = safe::text(&ready.undo_path.display().to_string());
        let _ = writeln!(out, "What is overwritten is kept in {path}, which can take it back.");
    }
    if undo && ready.plan.start.tables.is_empty() {
        let _ = writeln!(out, "What was done by hand is not taken back.");
    }
    out
}

fn kinds(counts: &StepCounts) -> String {
    let kinds =
        [(counts.inserts, "insert"), (counts.updates, "update"), (counts.deletes, "delete")];
    let mut kinds: Vec<String> = (kinds.iter())
        .filter(|(count, _)| *count > 0)
        .map(|(count, kind)| format!("{kind} {}", counted(*count, "row", "rows")))
        .collect();
    if counts.copies > 0 {
        kinds.push("fill its tables from another node".to_owned());
    }
    if counts.changes > 0 {
        let values = counted(counts.changes, "value", "values");
        kinds.push(match counts.for_good {
            0 => format!("change {values} of its set-up"),
            all if all == counts.changes => format!("change {values} of its set-up, for good"),
            some => format!("change {values} of its set-up, {some} of them for good"),
        });
    }
    if counts.by_hand > 0 {
        kinds.push(format!("{} by hand", counted(counts.by_hand, "thing", "things")));
    }
    kinds.join(", ")
}

/// Losses of one table that are named; of more there is only the number of rows.
const LOSSES_NAMED: usize = 6;

/// By table what a node loses.
fn losses(counts: &StepCounts) -> BTreeMap<&str, String> {
    let mut by_table: BTreeMap<&str, Vec<(&str, u64)>> = BTreeMap::new();
    for ((table, loss), rows) in &counts.losses {
        by_table.entry(table).or_default().push((loss, *rows));
    }
    let told = |(table, mut losses): (_, Vec<(&str, u64)>)| {
        losses.sort_by_key(|(_, rows)| std::cmp::Reverse(*rows));
        let named = losses.iter().take(LOSSES_NAMED);
        let mut parts: Vec<String> = named
            .map(|(loss, rows)| {
                format!("{} ({})", loss.trim_end_matches(','), counted(*rows, "row", "rows"))
            })
            .collect();
        let more: u64 = losses.iter().skip(LOSSES_NAMED).map(|(_, rows)| rows).sum();
        if more > 0 {
            parts.push(format!("other columns ({})", counted(more, "row", "rows")));
        }
        (table, parts.join(", "))
    };
    by_table.into_iter().map(told).collect()
}

/// The result in a sentence, for the ledger.
pub(crate) fn summary(topology: &Topology, outcome: &MendOutcome) -> String {
    let mended = &outcome.mended;
    let made: Vec<String> = (mended.nodes.iter())
        .filter(|(_, tally)| tally.made > 0)
        .map(|(node, tally)| {
            let name = &topology.nodes[*node].name;
            // The account; how it was kept out of replication is no news afterwards.
            let writer = outcome.writers.get(node).filter(|about| about.starts_with("as "));
            let account = writer.and_then(|about| about.split(',').next());
            let account = account.map(|account| format!(" {account}")).unwrap_or_default();
            format!("{} on {name}{account}", counted(tally.made, "row", "rows"))
        })
        .collect();
    let changed: Vec<String> = (mended.setup.iter())
        .filter(|(_, tally)| tally.made > 0)
        .map(|(node, tally)| {
            format!(
                "{} on {}",
                counted(tally.made, "change", "changes"),
                topology.nodes[*node].name
            )
        })
        .collect();
    let mut parts = vec![match (made.is_empty(), outcome.direction) {
        (true, _) if !changed.is_empty() => "wrote no row".to_owned(),
        (true, _) => "nothing was written".to_owned(),
        (false, Direction::Repair) => format!("wrote {}", made.join(", ")),
        (false, Direction::Undo) => format!("took back {}", made.join(", ")),
    }];
    parts.extend(mended.copies.iter().map(|copied| {
        let name = |node: NodeId| &topology.nodes[node].name;
        let rows = counted(copied.rows, "row", "rows");
        format!("copied {rows} from {} to {}", name(copied.from), name(copied.node))
    }));
    if !changed.is_empty() {
        let word = if outcome.direction == Direction::Undo { "took back" } else { "made" };
        parts.push(format!("{word} {}", changed.join(", ")));
    }
    if mended.left() > 0 {
        parts.push(format!("{} left out", mended.left()));
    }
    if let Some(proof) = mended.proof.as_ref().filter(|proof| proof.divergent > 0) {
        parts.push(format!("{} still differ", proof.divergent));
    }
    if outcome.direction == Direction::Undo || leaves_a_way_back(outcome) {
        parts.push(format!("undo file {}", outcome.undo_path.display()));
    }
    parts.join("; ")
}

/// Something was made that can be taken back.
fn leaves_a_way_back(outcome: &MendOutcome) -> bool {
    let mended = &outcome.mended;
    let for_good: u64 = mended.setup.values().map(|tally| tally.for_good).sum();
    mended.made() + mended.changed() > mended.copies.len() as u64 + for_good
}

/// Writes what became of a plan.
pub(crate) fn write(
    topology: &Topology,
    outcome: &MendOutcome,
    with: &str,
    columns: Option<usize>,
) -> String {
    let mended = &outcome.mended;
    let mut out = String::new();
    let undo = outcome.direction == Direction::Undo;
    let verb = match (outcome.dry_run, undo) {
        (true, true) => "could be taken back",
        (true, false) => "could be written",
        (false, true) => "taken back",
        (false, false) => "written",
    };
    let done = done(outcome, verb);
    let good = mended.left() == 0 && outcome.complete() && !outcome.is_open();
    let word = styled(if good { GOOD } else { UNKNOWN }, &done);
    let name = styled(HEADING, &safe::text(&topology.name));
    let _ = writeln!(out, "{name}: {word} in {:.1} s", outcome.took.as_secs_f64());
    let nodes: BTreeSet<&NodeId> = mended.nodes.keys().chain(mended.setup.keys()).collect();
    for node in nodes {
        let rows = mended.nodes.get(node).map(|tally| told(tally, verb));
        let setup = mended.setup.get(node).map(|tally| changes(tally, outcome));
        let parts: Vec<String> = rows.into_iter().chain(setup).collect();
        let _ = writeln!(out, "  {}: {}", topology.nodes[*node].name, parts.join("; "));
    }
    for (node, fault) in &mended.faults {
        let name = &topology.nodes[*node].name;
        let lead = format!("  {} {name}: ", styled(BAD, "not to its end on"));
        out.push_str(&hanging(&lead, &safe::text(&fault.to_string()), columns));
    }
    copies(&mut out, topology, outcome, with);
    left_out(&mut out, topology, outcome, columns);
    if let Some(proof) = mended.proof.as_ref().filter(|proof| proof.rows > 0) {
        let rows = counted(proof.rows, "row that was written", "rows that were written");
        let _ =
            writeln!(out, "\n{}", proven(proof, &rows, "on every node that was read for the plan"));
    }
    for (node, other, proof) in &mended.alike {
        let name = |node: NodeId| &topology.nodes[node].name;
        let on = format!("on {} and {}", name(*node), name(*other));
        let _ = writeln!(out, "\n{}", proven(proof, &counted(proof.rows, "row", "rows"), &on));
    }
    by_hand(&mut out, topology, outcome, columns);
    match &mended.findings_left {
        None => {}
        Some(Ok(found)) if found.findings.is_empty() => {
            let said = match found.saw_all {
                true => "a preflight no longer finds what the plan mends.",
                false => {
                    "a preflight no longer finds what the plan mends, as far as it could look (keen preflight says what it could not see)."
                }
            };
            let _ = writeln!(out, "\n{} {said}", styled(GOOD, "Proof:"));
        }
        Some(Ok(found)) => {
            let _ = writeln!(out, "\n{}", styled(UNKNOWN, "Still found by a preflight"));
            for one in &found.findings {
                out.push_str(&hanging("  ", &safe::text(one), columns));
            }
        }
        Some(Err(fault)) => {
            let said = format!("no preflight could be made: {fault}");
            let _ = writeln!(out, "\n{} {}", styled(UNKNOWN, "Proof:"), safe::text(&said));
        }
    }
    if let Some(fault) = &mended.broken {
        let _ = writeln!(out, "\n{} {}", styled(BAD, "stopped:"), safe::text(&fault.to_string()));
    }
    advice(&mut out, outcome, with);
    out
}

/// What was copied, and where what only the receiver held is kept.
fn copies(out: &mut String, topology: &Topology, outcome: &MendOutcome, with: &str) {
    for copied in &outcome.mended.copies {
        let name = |node: NodeId| &topology.nodes[node].name;
        let tables = counted(copied.tables, "table", "tables");
        let rows = counted(copied.rows, "row", "rows");
        let (from, to) = (name(copied.from), name(copied.node));
        let _ = writeln!(out, "  {rows} of {tables} copied from {from} to {to}");
        if let Some((kept, path)) = &copied.aside {
            let kept = counted(*kept, "row", "rows");
            let path = safe::typed(path);
            let _ = writeln!(
                out,
                "  {kept} of {to} that {from} did not hold so are kept: keen mend {path}{with} puts them back"
            );
        }
    }
}

/// What was done, in a few words.
fn done(outcome: &MendOutcome, verb: &str) -> String {
    let mended = &outcome.mended;
    let mut parts = Vec::new();
    if !mended.nodes.is_empty() || mended.setup.is_empty() && mended.by_hand.is_empty() {
        parts.push(format!("{} {verb}", counted(mended.made(), "row", "rows")));
    }
    if !mended.setup.is_empty() || !mended.by_hand.is_empty() {
        let changes = counted(mended.changed(), "change", "changes");
        parts.push(format!("{changes} {}", change_verb(outcome)));
    }
    parts.join(", ")
}

fn change_verb(outcome: &MendOutcome) -> &'static str {
    match (outcome.dry_run, outcome.direction) {
        (true, Direction::Repair) => "could be made",
        (true, Direction::Undo) => "could be taken back",
        (false, Direction::Repair) => "made",
        (false, Direction::Undo) => "taken back",
    }
}

fn changes(tally: &SetupTally, outcome: &MendOutcome) -> String {
    let made = counted(tally.made, "change", "changes");
    let mut parts = vec![format!("{made} {}", change_verb(outcome))];
    for (count, what) in [
        (tally.made_before, "made by an earlier run"),
        (tally.already, "not needed any more"),
        (tally.left_out, "left out"),
    ] {
        if count > 0 {
            parts.push(format!("{} {what}", crate::numbers::grouped(count)));
        }
    }
    parts.join(", ")
}

fn by_hand(out: &mut String, topology: &Topology, outcome: &MendOutcome, columns: Option<usize>) {
    let work = &outcome.mended.by_hand;
    if work.is_empty() {
        return;
    }
    let _ = writeln!(out, "\n{}", styled(HEADING, "By hand"));
    for HandWork { number, node, what, is_done, reads } in work {
        let word = match is_done {
            Some(true) => styled(GOOD, "done"),
            Some(false) => styled(UNKNOWN, "to do"),
            None => styled(UNKNOWN, "to do, if it was not done"),
        };
        let lead = format!("  step {number}, {}, {word}: ", topology.nodes[*node].name);
        let now = reads.as_ref().map(|reads| format!(" (now: {reads})")).unwrap_or_default();
        out.push_str(&hanging(&lead, &safe::text(&format!("{what}{now}")), columns));
    }
    if work.iter().any(|work| work.is_done == Some(false)) && !outcome.dry_run {
        if let Some(path) = &outcome.topology_file {
            let said = format!("The topology file as it has to read then: {}", safe::typed(path));
            let _ = writeln!(out, "{}", styled(QUIET, &said));
        }
        let _ =
            writeln!(out, "{}", styled(QUIET, "Then the same command goes on, and looks again."));
    }
}

fn told(tally: &NodeTally, verb: &str) -> String {
    let mut parts = vec![format!("{} {verb}", counted(tally.made, "row", "rows"))];
    for (count, what) in [
        (tally.made_before, "written by an earlier run"),
        (tally.already, "alike by now on the nodes of the plan"),
        (tally.left_out, "left out"),
        (tally.taken_back, "taken back again"),
    ] {
        if count > 0 {
            parts.push(format!("{} {what}", crate::numbers::grouped(count)));
        }
    }
    parts.join(", ")
}

fn left_out(out: &mut String, topology: &Topology, outcome: &MendOutcome, columns: Option<usize>) {
    let mended = &outcome.mended;
    if mended.left_out.is_empty() {
        return;
    }
    let _ = writeln!(out, "\n{}", styled(HEADING, "Left out"));
    for left in mended.left_out.iter().take(SHOWN) {
        let LeftOut { number, node, of, why, .. } = left;
        let of = match of {
            LeftOutOf::Row { table, key } => {
                let key: Vec<String> = (key.iter())
                    .map(|(name, value)| format!("{name} {}", text_of(value.as_ref())))
                    .collect();
                format!("{table}, {}", key.join(", "))
            }
            LeftOutOf::Setup(subject) => subject.clone(),
        };
        let name = &topology.nodes[*node].name;
        let lead = format!("  step {number}, {name} {}: ", safe::text(&of));
        out.push_str(&hanging(&lead, &safe::text(why), columns));
    }
    let more = mended.left().saturating_sub(SHOWN.min(mended.left_out.len()) as u64);
    if more > 0 {
        let _ = writeln!(out, "  … and {} (--format json has them)", counted(more, "more", "more"));
    }
}

fn proven(proof: &Proof, rows: &str, on: &str) -> String {
    if proof.divergent + proof.unsettled == 0 && proof.complete {
        return format!("{} {rows}, compared {on}: they agree.", styled(GOOD, "Proof:"));
    }
    let mut parts = Vec::new();
    if proof.divergent > 0 {
        parts.push(format!("{} still differ", crate::numbers::grouped(proof.divergent)));
    }
    if proof.unsettled > 0 {
        parts.push(format!(
            "{} differ while something is on its way",
            crate::numbers::grouped(proof.unsettled)
        ));
    }
    if !proof.complete {
        parts.push("not every node could be read".to_owned());
    }
    format!("{} of {rows}: {}.", styled(UNKNOWN, "Proof:"), parts.join(", "))
}

fn advice(out: &mut String, outcome: &MendOutcome, with: &str) {
    let mended = &outcome.mended;
    let path = safe::typed(&outcome.undo_path);
    let mut say = |text: String| {
        let _ = writeln!(out, "{}", styled(QUIET, &text));
    };
    let undo = outcome.direction == Direction::Undo;
    if outcome.dry_run {
        return say("Nothing was kept. Without --dry-run it is.".to_owned());
    }
    if mended.stopped || mended.broken.is_some() || !mended.faults.is_empty() {
        say("The same command goes on where this one ended: nothing is written twice.".to_owned());
    } else if mended.left() > 0 && !undo {
        let rows = mended.left_out.iter().any(|left| matches!(left.of, LeftOutOf::Row { .. }));
        let name = |node: NodeId| &outcome.names[node];
        let link = |link: &String| format!(" --take-apart {}", safe::typed(link.as_ref()));
        let kinds = match outcome.seeds.first() {
            _ if let Some(node) = &outcome.promotes => {
                let apart: String = outcome.apart.iter().map(link).collect();
                format!("{apart}{with}, and then keen plan --promote {node}")
            }
            _ if rows => String::new(),
            _ if !outcome.made.is_empty() => {
                let made: String =
                    outcome.made.iter().map(|link| format!(" --link {link}")).collect();
                let apart: String = outcome.apart.iter().map(link).collect();
                format!("{apart}{with}, and then keen plan{made}")
            }
            Some((from, to)) => format!(" --seed {}:{}", name(*from), name(*to)),
            None if outcome.apart.is_empty() => " --kind setting,shape,link".to_owned(),
            None => outcome.apart.iter().map(link).collect(),
        };
        let again = !outcome.seeds.is_empty() || !outcome.apart.is_empty();
        if outcome.promotes.is_some() && outcome.apart.is_empty() {
            return say("The same command tries again.".to_owned());
        }
        say(match !again || rows {
            true => format!("What was left out is planned anew: keen plan{kinds}{with}"),
            false => format!(
                "The same command tries again; where it says to plan again: keen plan{kinds}{with}"
            ),
        });
    }
    // A lead that an earlier run has closed is still closed.
    let leaves_one = match (&outcome.promotes, mended.left()) {
        (Some(_), 0) => false,
        (Some(_), _) => {
            let made = mended.setup.values().any(|tally| tally.made + tally.made_before > 0);
            made && outcome.has_a_way_back
        }
        (None, _) => leaves_a_way_back(outcome),
    };
    if !undo && leaves_one {
        say(format!("To take back what was written: keen mend --undo {path}{with}"));
    }
}
