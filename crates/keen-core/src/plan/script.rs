//! The steps of one node as a script that a person can review and run.
//!
//! A script runs whole or not at all, whatever runs it: each write names the
//! row it expects, a check after it rolls everything back when the write did
//! not meet that row, and after a rollback the table that all further writes
//! ask for is gone, so that they fail rather than being carried out alone.

use super::sql::literal;
use super::{Guarded, Step};
use crate::topology::Topology;
use crate::value::Value;

/// Which way a script goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Direction {
    /// Carries the plan out.
    Repair,
    /// Takes it back.
    Undo,
}

/// Writes the script for one node: its steps in order, or their undos in reverse.
#[must_use]
pub fn write(topology: &Topology, steps: &[&Step], title: &str, direction: Direction) -> String {
    let mut out = String::new();
    let mut say = |line: &str| {
        out.push_str(line);
        out.push('\n');
    };
    say(&format!("-- {}", one_line(title)));
    say("-- Review it, then run it once against this node's file, for example:");
    say("--   sqlite3 -bail FILE < THIS_SCRIPT");
    say("-- It runs whole or not at all. If the row of a step is no longer what the audit saw,");
    say("-- the step's check fails (\"CHECK constraint failed\"), everything is rolled back and");
    say("-- the rest of the script fails without doing anything.");
    say("PRAGMA foreign_keys = OFF; -- rows come in an order that needs no cascades");
    say("BEGIN IMMEDIATE;");
    say(
        "CREATE TEMP TABLE keen_guard (step INTEGER PRIMARY KEY, changed INTEGER NOT NULL, expected INTEGER NOT NULL,",
    );
    say(
        "    CONSTRAINT \"the row of this step is no longer what the audit saw\" CHECK (changed = expected));",
    );
    say("INSERT INTO temp.keen_guard VALUES (0, 0, 0);");
    let numbered: Vec<(usize, &&Step)> = match direction {
        Direction::Repair => steps.iter().enumerate().collect(),
        Direction::Undo => steps.iter().enumerate().rev().collect(),
    };
    for (i, step) in numbered {
        let guarded = if direction == Direction::Repair { &step.write } else { &step.undo };
        let set = &topology.sets[step.set].name;
        let verb = if direction == Direction::Repair { "" } else { "undo of " };
        say("");
        say(&format!(
            "-- step {}: {verb}{} in {} (set {set}), {}",
            i + 1,
            step.action.name(),
            one_line(&step.table),
            key_in_words(&step.key)
        ));
        if direction == Direction::Repair {
            say(&format!("-- {}", one_line(&step.reason)));
            for line in changes_in_words(step) {
                say(&format!("--   {line}"));
            }
        }
        say(FORGET);
        say(&format!("{};", guarded.statement.literal()));
        say(&check(i + 1, guarded));
    }
    say("");
    say("COMMIT;");
    say("DROP TABLE temp.keen_guard;");
    out
}

/// Makes `changes()` zero, so that a write that cannot be prepared is not taken for the one before it.
const FORGET: &str = "DELETE FROM temp.keen_guard WHERE step < 0;";

fn changes_in_words(step: &Step) -> Vec<String> {
    if let Some((before, after)) = step.copies {
        return vec![format!("equal rows: {before} -> {after}")];
    }
    let changes = step.changes.iter().map(|(column, before, after)| match (before, after) {
        (Some(before), Some(after)) => {
            format!(
                "{}: {} -> {}",
                one_line(column),
                short(&literal(before)),
                short(&literal(after))
            )
        }
        (cell, other) => {
            let value = cell.as_ref().or(other.as_ref()).map_or_else(String::new, literal);
            format!("{}: {}", one_line(column), short(&value))
        }
    });
    changes.collect()
}

fn check(number: usize, guarded: &Guarded) -> String {
    format!(
        "INSERT OR ROLLBACK INTO temp.keen_guard VALUES ({number}, changes(), {});",
        guarded.changes
    )
}

fn key_in_words(key: &[(String, Value)]) -> String {
    let cells: Vec<String> = key
        .iter()
        .map(|(name, value)| format!("{} {}", one_line(name), short(&literal(value))))
        .collect();
    cells.join(", ")
}

/// A comment ends with its line, so nothing in it may begin another.
fn one_line(text: &str) -> String {
    text.chars()
        .map(|c| if c.is_control() || matches!(c, '\u{2028}' | '\u{2029}') { ' ' } else { c })
        .collect()
}

const LONGEST: usize = 60;

fn short(text: &str) -> String {
    if text.chars().count() <= LONGEST {
        return text.to_owned();
    }
    let kept: String = text.chars().take(LONGEST).collect();
    format!("{kept}…")
}
