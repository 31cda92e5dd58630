//! The steps of one node as a script that a person can review and run.
//!
//! A script runs whole or not at all, whatever runs it: each write names the
//! row it expects, and a check after it sees to it that nothing is kept when the
//! write did not meet that row. In SQLite the check rolls back, and the table
//! that all further writes ask for is then gone, so that they fail rather than
//! being carried out alone. PostgreSQL refuses the rest of a failed transaction
//! itself. MariaDB goes on after an error if its client does, so each write asks
//! for a variable that the check clears, and the end commits only if it is set.

use std::fmt;

use crate::fault::ReadFault;
use crate::plan::{Guarded, NodeSteps, Step};
use crate::topology::{Engine, Topology};
use crate::value::Value;

/// Which way a script goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Direction {
    /// Carries the plan out.
    Repair,
    /// Takes it back.
    Undo,
}

/// Why a script could not be written.
#[derive(Debug, Clone)]
pub enum ScriptFault {
    /// The writer failed.
    Writer,
    /// A row that was found could not be read back.
    Rows(ReadFault),
}

impl From<fmt::Error> for ScriptFault {
    fn from(_: fmt::Error) -> Self {
        Self::Writer
    }
}

impl From<ReadFault> for ScriptFault {
    fn from(fault: ReadFault) -> Self {
        Self::Rows(fault)
    }
}

/// Writes the script for one node: its steps in order, or their undos in reverse.
///
/// # Errors
/// [`ScriptFault`] when the writer fails, or a row cannot be read back.
pub fn write(
    topology: &Topology,
    steps: &NodeSteps<'_>,
    title: &str,
    direction: Direction,
    out: &mut dyn fmt::Write,
) -> Result<(), ScriptFault> {
    let engine = topology.nodes[steps.node].at.engine();
    writeln!(out, "-- {}", one_line(title))?;
    let kept: Vec<String> = steps.not_rolled_back().into_iter().collect();
    if !kept.is_empty() {
        writeln!(
            out,
            "-- {} have no transactions: their steps, each of them guarded, stay done when a later one fails.",
            one_line(&kept.join(", "))
        )?;
    }
    out.write_str(before(engine))?;
    match direction {
        Direction::Repair => {
            for (number, step) in steps.numbered() {
                write_step(topology, (number, &step?), direction, out)?;
            }
            references(engine, steps, out)?;
        }
        Direction::Undo => {
            for (number, step) in steps.numbered().rev() {
                write_step(topology, (number, &step?), direction, out)?;
            }
        }
    }
    out.write_str("\n")?;
    Ok(out.write_str(after(engine))?)
}

fn write_step(
    topology: &Topology,
    (number, step): (usize, &Step),
    direction: Direction,
    out: &mut dyn fmt::Write,
) -> fmt::Result {
    let (write, undo) = step.write_and_undo();
    let repairs = direction == Direction::Repair;
    let set = &topology.sets[step.set].name;
    writeln!(
        out,
        "\n-- step {number}: {}{} in {} (set {set}), {}",
        if repairs { "" } else { "undo of " },
        step.op.name(),
        one_line(&step.table),
        key_in_words(&step.key)
    )?;
    if repairs {
        writeln!(out, "-- {}", one_line(&step.reason))?;
        if let Some(lost) = &step.loses {
            writeln!(out, "-- loses {} here; the undo script has it", one_line(lost))?;
        }
        for line in changes_in_words(step) {
            writeln!(out, "--   {line}")?;
        }
    }
    let engine = topology.nodes[step.node].at.engine();
    guarded_write(engine, number, if repairs { &write } else { &undo }, out)
}

/// Looks, before anything is kept, whether each reference that a step touched still leads somewhere: nothing
/// else does while foreign keys are off.
fn references(
    engine: Engine,
    steps: &NodeSteps<'_>,
    out: &mut dyn fmt::Write,
) -> Result<(), ScriptFault> {
    if engine == Engine::Sqlite {
        // Its own check knows all references; more must not lead nowhere than before.
        return Ok(writeln!(
            out,
            "\n-- no reference leads nowhere that did not before\n\
             INSERT OR ROLLBACK INTO temp.keen_guard SELECT {}, max(0, (SELECT count(*) FROM pragma_foreign_key_check) - expected), 0 \
             FROM temp.keen_guard WHERE step = -1;",
            steps.len() + 1
        )?);
    }
    let mut any = false;
    for (number, step) in steps.with_references() {
        let step = step?;
        for (query, say) in step.references() {
            if !std::mem::replace(&mut any, true) {
                writeln!(out, "\n-- no reference that a step touched leads nowhere")?;
            }
            match engine {
                Engine::Postgres => {
                    let mark = query.mark("reference");
                    let say = format!("step {number}: {say}");
                    let say = say.replace('\'', "''").replace('%', "%%");
                    write!(out, "DO {mark} BEGIN IF (")?;
                    query.write_literal(out)?;
                    writeln!(out, ") > 0 THEN RAISE EXCEPTION '{say}'; END IF; END {mark};")?;
                }
                Engine::MariaDb => {
                    write!(out, "SET @keen_ok = (@keen_ok = 1 AND (")?;
                    query.write_literal(out)?;
                    writeln!(out, ") = 0);")?;
                }
                Engine::Sqlite => {} // its own check stands above
            }
        }
    }
    Ok(())
}

fn before(engine: Engine) -> &'static str {
    match engine {
        Engine::Sqlite => {
            "\
-- Review it, then run it once against this node's file, for example:
--   sqlite3 -bail FILE < THIS_SCRIPT
-- It runs whole or not at all. If the row of a step is no longer what the audit saw,
-- the step's check fails (\"CHECK constraint failed\"), everything is rolled back and
-- the rest of the script fails without doing anything.
PRAGMA foreign_keys = OFF; -- rows come in an order that needs no cascades
BEGIN IMMEDIATE;
CREATE TEMP TABLE keen_guard (step INTEGER PRIMARY KEY, changed INTEGER NOT NULL, expected INTEGER NOT NULL,
    CONSTRAINT \"the row of this step is no longer what the audit saw\" CHECK (changed = expected));
INSERT INTO temp.keen_guard VALUES (0, 0, 0);
INSERT INTO temp.keen_guard SELECT -1, count(*), count(*) FROM pragma_foreign_key_check;
"
        }
        Engine::Postgres => {
            "\
-- Review it, then run it once in this node's database, as a superuser, for example:
--   psql -v ON_ERROR_STOP=1 -d DATABASE -f THIS_SCRIPT
-- It runs whole or not at all. If the row of a step is no longer what the audit saw, the step
-- fails, and PostgreSQL does nothing of the rest and keeps nothing of what was done.
-- It writes as replication itself does: no triggers, no cascades, and under an origin of its
-- own: subscriptions that take only what a node itself wrote do not carry it on. Do not drop the
-- origin keen_repair afterwards: its number would be given to another, and old log be read as his.
BEGIN;
SET LOCAL standard_conforming_strings = on;
SET LOCAL TimeZone = 'UTC';
SET LOCAL DateStyle = 'ISO, YMD';
SET LOCAL IntervalStyle = 'iso_8601';
SET LOCAL extra_float_digits = 3;
SET LOCAL bytea_output = 'hex';
SET LOCAL xmloption = 'content';
SET LOCAL row_security = off;
SET LOCAL session_replication_role = replica;
SELECT pg_replication_origin_create('keen_repair')
    WHERE NOT EXISTS (SELECT 1 FROM pg_replication_origin WHERE roname = 'keen_repair');
SELECT pg_replication_origin_session_setup('keen_repair');
-- Without it the log would say that this was written in the year 2000.
SELECT pg_replication_origin_xact_setup(pg_current_wal_insert_lsn(), clock_timestamp());
"
        }
        Engine::MariaDb => {
            "\
-- Review it, then run it once in this node's database, with the right BINLOG ADMIN, for example:
--   mariadb DATABASE < THIS_SCRIPT
-- It runs whole or not at all. If the row of a step is no longer what the audit saw, nothing
-- after that step does anything, and everything is rolled back at the end.
-- It stays out of the binary log, so that no other server carries it on.
SET NAMES utf8mb4;
SET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_AUTO_VALUE_ON_ZERO,ANSI_QUOTES,PIPES_AS_CONCAT,NO_BACKSLASH_ESCAPES';
SET SESSION time_zone = '+00:00', foreign_key_checks = 0;
SET SESSION sql_log_bin = 0;
-- In a synchronous cluster nothing keeps a write on its node: there nothing is done at all.
SET @keen_ok = (@@SESSION.sql_log_bin = 0 AND NOT EXISTS (SELECT 1 FROM information_schema.GLOBAL_VARIABLES
    WHERE VARIABLE_NAME = 'WSREP_ON' AND VARIABLE_VALUE = 'ON')), @keen_step = 0;
START TRANSACTION;
"
        }
    }
}

fn guarded_write(
    engine: Engine,
    step: usize,
    guarded: &Guarded<'_>,
    out: &mut dyn fmt::Write,
) -> fmt::Result {
    let (statement, changes) = (&guarded.statement, guarded.changes);
    match engine {
        Engine::Sqlite => {
            writeln!(out, "{FORGET}")?;
            statement.write_literal(out)?;
            writeln!(out, ";\n{}", check(step, guarded))
        }
        Engine::Postgres => {
            // Whatever the text of a value is, it must not end the block.
            let mark = statement.mark("step");
            // A table may have a column of that name.
            writeln!(out, "DO {mark} #variable_conflict use_column")?;
            writeln!(out, "DECLARE changed bigint; BEGIN")?;
            statement.write_literal(out)?;
            writeln!(out, ";\nGET DIAGNOSTICS changed = ROW_COUNT;")?;
            writeln!(
                out,
                "IF changed <> {changes} THEN RAISE EXCEPTION 'step {step}: the row is no longer what the audit saw'; END IF;"
            )?;
            writeln!(out, "END {mark};")
        }
        Engine::MariaDb => {
            statement.write_literal(out)?;
            writeln!(out, ";\nSET @keen_ok = (@keen_ok = 1 AND ROW_COUNT() = {changes});")?;
            // On its own: in one SET the other assignment would not be seen.
            writeln!(out, "SET @keen_step = IF(@keen_ok = 1, {step}, @keen_step);")
        }
    }
}

fn after(engine: Engine) -> &'static str {
    match engine {
        Engine::Sqlite => "COMMIT;\nDROP TABLE temp.keen_guard;\n",
        Engine::Postgres => "COMMIT;\nSELECT pg_replication_origin_session_reset();\n",
        Engine::MariaDb => {
            "\
SET @keen_end = IF(@keen_ok = 1, 'COMMIT', 'ROLLBACK');
PREPARE keen_end FROM @keen_end;
EXECUTE keen_end;
SET SESSION sql_log_bin = 1;
SET @keen_end = IF(@keen_ok = 1, 'DO 0', CONCAT('SIGNAL SQLSTATE ''45000'' SET MESSAGE_TEXT = ',
    '''after step ', @keen_step, ' a row was no longer what the audit saw, a reference would lead nowhere, or this is a member of a synchronous cluster: rolled back'''));
PREPARE keen_end FROM @keen_end;
EXECUTE keen_end;
"
        }
    }
}

/// Makes `changes()` zero, so that a write that cannot be prepared is not taken for the one before it.
const FORGET: &str = "DELETE FROM temp.keen_guard WHERE step < -1;";

fn changes_in_words(step: &Step) -> Vec<String> {
    if let Some((before, after)) = step.copies {
        return vec![format!("equal rows: {before} -> {after}")];
    }
    let changes = step.changes();
    let changes = changes.iter().map(|(column, before, after)| match (before, after) {
        (Some(before), Some(after)) => {
            format!(
                "{}: {} -> {}",
                one_line(column),
                short(&literal(before)),
                short(&literal(after))
            )
        }
        (cell, other) => {
            let value = cell.or(*other).map_or_else(String::new, literal);
            format!("{}: {}", one_line(column), short(&value))
        }
    });
    changes.collect()
}

fn check(number: usize, guarded: &Guarded<'_>) -> String {
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

/// A value in a sentence; of a long one the beginning.
pub(crate) fn in_words(value: &Value) -> String {
    short(&literal(value))
}

/// In a comment every engine's values look alike; of a long one the beginning is enough.
fn literal(value: &Value) -> String {
    let begins = match value {
        Value::Bytes(bytes) if bytes.len() > LONGEST => Value::Bytes(bytes[..LONGEST].to_vec()),
        Value::Text(bytes) if bytes.len() > 4 * LONGEST => {
            let whole = |end: &usize| std::str::from_utf8(&bytes[..*end]).is_ok();
            let end = (4 * LONGEST - 3..=4 * LONGEST).rev().find(whole).unwrap_or(4 * LONGEST);
            Value::Text(bytes[..end].to_vec())
        }
        Value::Json(text) if text.len() > 4 * LONGEST => {
            let end = (0..=4 * LONGEST).rev().find(|end| text.is_char_boundary(*end));
            Value::Json(text[..end.unwrap_or(0)].to_owned())
        }
        value => return Engine::Sqlite.dialect().literal(value, None),
    };
    Engine::Sqlite.dialect().literal(&begins, None) + "…"
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
