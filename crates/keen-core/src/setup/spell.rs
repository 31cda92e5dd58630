//! How an engine changes a value of its set-up.

use super::column::ColumnDefinition;
use super::column_order::{self, ColumnMove};
use super::port::LinkPassword;
use super::{
    EMPTY, IDLE, INDEX, LinkLogin, LinkWay, NewLink, NewSubscription, OFF, ON, SetupChange, Subject,
};
use crate::links::passing_over::{set_place, skip_commit};
use crate::observe::node::{in_quotes, skip_nothing};
use crate::observe::position::{self, Position};
use crate::topology::Engine;

/// The statements of a change, in order.
///
/// # Errors
/// Why this engine cannot make it.
pub fn statements(engine: Engine, change: &SetupChange) -> Result<Vec<String>, String> {
    let spelled = match engine {
        Engine::MariaDb => mariadb(change),
        Engine::Postgres => postgres(change),
        Engine::Sqlite => stand_in(change),
    };
    spelled.ok_or_else(|| format!("{} cannot be changed on {}", change.subject, engine.name()))
}

/// The statements as they are printed, each to be run as it stands: what must not be run apart is one of them.
///
/// # Errors
/// As [`statements`].
pub fn printed(engine: Engine, change: &SetupChange) -> Result<Vec<String>, String> {
    let statements = statements(engine, change)?;
    // Whoever ran the second alone would send it to all others.
    Ok(match (engine, &change.subject) {
        (
            Engine::MariaDb,
            Subject::Column { .. } | Subject::ColumnOrder { .. } | Subject::ServiceTable { .. },
        ) => {
            vec![statements.join("; ")]
        }
        _ => statements,
    })
}

/// A setting's name as it stands in a statement: what is none is not spelled.
fn setting(name: &str) -> Option<&str> {
    let fits = |c: char| c.is_ascii_alphanumeric() || c == '_' || c == '.';
    (!name.is_empty() && name.chars().all(fits)).then_some(name)
}

/// A setting's value: a number and a switch as they are, anything else in quotes.
fn value(value: &str) -> String {
    let number = !value.is_empty() && value.chars().all(|c| c.is_ascii_digit());
    let switch = ["on", "off"].iter().any(|word| value.eq_ignore_ascii_case(word));
    if number || switch { value.to_owned() } else { in_quotes(value) }
}

/// The kinds of writes that a publication sends which keen makes.
pub const ALL_KINDS: &str = "insert, update, delete, truncate";

fn is_made(change: &SetupChange, new: &NewLink) -> bool {
    change.before.is_none() && change.after == Some(new.state())
}

/// The statement that makes a link, with its password; as it is printed without.
///
/// # Errors
/// Why this engine has no such link.
pub fn making_link(
    engine: Engine,
    new: &NewLink,
    password: Option<&LinkPassword>,
) -> Result<String, String> {
    let made = match engine {
        Engine::MariaDb => mariadb_link(new, Some(password)).and_then(|mut all| all.pop()),
        Engine::Postgres => postgres_link(new, Some(password)),
        Engine::Sqlite => stand_in_link(new),
    };
    made.ok_or_else(|| format!("link {} cannot be made on {}", new.link, engine.name()))
}

/// What stands for a password that is not told.
const NOT_TOLD: &str = "...";

#[expect(clippy::option_option, reason = "no password is told, and there is none")]
fn mariadb_link(new: &NewLink, password: Option<Option<&LinkPassword>>) -> Option<Vec<String>> {
    let LinkWay::Connection(LinkLogin { host, port, user, tls }) = &new.way else { return None };
    let password = match password {
        None => NOT_TOLD.to_owned(),
        Some(password) => in_quotes(password.map_or("", LinkPassword::reveal)),
    };
    let tls = if *tls { ", MASTER_SSL = 1" } else { "" };
    Some(vec![format!(
        "CHANGE MASTER {} TO MASTER_HOST = {}, MASTER_PORT = {port}, MASTER_USER = {}, MASTER_PASSWORD = {password}{tls}, MASTER_USE_GTID = slave_pos",
        in_quotes(&new.link),
        in_quotes(host),
        in_quotes(user)
    )])
}

#[expect(clippy::option_option, reason = "no password is told, and there is none")]
fn postgres_link(new: &NewLink, password: Option<Option<&LinkPassword>>) -> Option<String> {
    let LinkWay::Subscription(LinkLogin { host, port, user, tls }, subscription) = &new.way else {
        return None;
    };
    let NewSubscription { database, publication, slot, origin } = subscription;
    let quoted = |name: &str| Engine::Postgres.dialect().quoted(name);
    // As libpq reads it: in quotes, with a backslash before quotes and backslashes.
    let part = |text: &str| format!("'{}'", text.replace('\\', "\\\\").replace('\'', "\\'"));
    let mut to =
        format!("host={} port={port} dbname={} user={}", part(host), part(database), part(user));
    match password {
        None => to.push_str(&format!(" password={NOT_TOLD}")),
        Some(Some(password)) => to.push_str(&format!(" password={}", part(password.reveal()))),
        Some(None) => {}
    }
    if *tls {
        to.push_str(" sslmode=require");
    }
    let origin = match origin.as_deref() {
        None => String::new(),
        Some(origin @ ("none" | "any")) => format!(", origin = {origin}"),
        Some(_) => return None,
    };
    Some(format!(
        "CREATE SUBSCRIPTION {} CONNECTION {} PUBLICATION {} WITH (enabled = false, create_slot = false, slot_name = {}, copy_data = false{origin})",
        quoted(&new.link),
        in_quotes(&to),
        quoted(publication),
        in_quotes(slot)
    ))
}

/// Nothing brings it again.
fn is_taken_away(change: &SetupChange) -> bool {
    change.before.is_some() && change.after.is_none()
}

fn is_empty_table_taken_away(change: &SetupChange) -> bool {
    change.before.as_deref() == Some(EMPTY) && change.after.is_none()
}

fn is_idle_slot_taken_away(change: &SetupChange) -> bool {
    let before = change.before.as_deref().and_then(|before| before.split(' ').next());
    before == Some(IDLE) && change.after.is_none()
}

fn qualified(engine: Engine, table: &[String]) -> String {
    let quoted = |part: &String| engine.dialect().quoted(part);
    table.iter().map(quoted).collect::<Vec<_>>().join(".")
}

/// Its step is kept: where nodes share the numbers out, each stays with its own.
fn raise_counter(table: &[String], column: &str) -> String {
    let named = qualified(Engine::Postgres, table);
    let quoted = Engine::Postgres.dialect().quoted(column);
    format!(
        "SELECT setval(s.seqrelid::regclass, l.at + (m.most - l.at) / s.seqincrement * s.seqincrement, true) \
         FROM pg_sequence AS s, (SELECT max({quoted})::int8 AS most FROM {named}) AS m, \
         LATERAL (SELECT coalesce(pg_sequence_last_value(s.seqrelid), s.seqstart) AS at) AS l \
         WHERE s.seqrelid = pg_get_serial_sequence({}, {})::regclass AND s.seqincrement > 0 AND m.most >= l.at",
        in_quotes(&named),
        in_quotes(column)
    )
}

fn drop_slot(slot: &str) -> String {
    format!(
        "SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE slot_name = {}",
        in_quotes(slot)
    )
}

/// Out of the binary log: each node gets its own.
fn mariadb_column(change: &SetupChange) -> Option<Vec<String>> {
    let quoted = |name: &str| Engine::MariaDb.dialect().quoted(name);
    let (table, column, place) = match &change.subject {
        Subject::Column { table, column, after } => (table, column, after),
        Subject::ColumnOrder { table, moved } => {
            let (before, after) = (change.before.as_deref()?, change.after.as_deref()?);
            let moves: Vec<String> = column_order::moves(before, after, moved)?
                .into_iter()
                .map(|ColumnMove { column, declared, behind }| {
                    let place = behind.map_or_else(
                        || "FIRST".to_owned(),
                        |behind| format!("AFTER {}", quoted(&behind)),
                    );
                    format!("MODIFY {} {} {place}", quoted(&column), declared.sql(Engine::MariaDb))
                })
                .collect();
            return Some(alone(STRICTLY, table, &moves.join(", ")));
        }
        _ => return None,
    };
    let sides = (declared(&change.before)?, declared(&change.after)?);
    let strictly = if matches!(sides, (Some(_), Some(_))) { STRICTLY } else { &[] };
    let what = match &sides {
        (None, Some(after)) => {
            let place = place.as_ref().map(|place| format!(" AFTER {}", quoted(place)));
            let definition = after.sql(Engine::MariaDb);
            format!("ADD COLUMN {} {definition}{}", quoted(column), place.unwrap_or_default())
        }
        (Some(_), None) => format!("DROP COLUMN {}", quoted(column)),
        (Some(_), Some(after)) => {
            format!("MODIFY {} {}", quoted(column), after.sql(Engine::MariaDb))
        }
        (None, None) => return None,
    };
    Some(alone(strictly, table, &what))
}

/// Else a value that does not fit is cut, and a NULL becomes something else, where it should be refused.
const STRICTLY: &[&str] =
    &["SET SESSION sql_mode = CONCAT_WS(',', NULLIF(@@sql_mode, ''), 'STRICT_ALL_TABLES')"];

/// A change of a MariaDB table on this node alone.
fn alone(first: &[&str], table: &[String], what: &str) -> Vec<String> {
    let named = qualified(Engine::MariaDb, table);
    let mut statements: Vec<String> = first.iter().map(|&statement| statement.to_owned()).collect();
    statements.push("SET SESSION sql_log_bin = 0".to_owned());
    statements.push(format!("ALTER TABLE {named} {what}"));
    statements.push("SET SESSION sql_log_bin = 1".to_owned());
    statements
}

/// The declaration that a state says; none inside if there is no such column.
#[expect(clippy::option_option, reason = "no declaration, and one that cannot be said")]
fn declared(state: &Option<String>) -> Option<Option<ColumnDefinition>> {
    match state {
        None => Some(None),
        Some(state) => ColumnDefinition::parse(state).map(Some),
    }
}

fn mariadb(change: &SetupChange) -> Option<Vec<String>> {
    match &change.subject {
        Subject::Column { .. } | Subject::ColumnOrder { .. } => return mariadb_column(change),
        Subject::Link { link } => {
            let link = in_quotes(link);
            return is_taken_away(change)
                .then(|| vec![format!("STOP SLAVE {link}"), format!("RESET SLAVE {link} ALL")]);
        }
        Subject::NewLink(new) => {
            return is_made(change, new).then(|| mariadb_link(new, None)).flatten();
        }
        Subject::ServiceTable { table } => {
            let named = qualified(Engine::MariaDb, table);
            // Each node has its own.
            return is_empty_table_taken_away(change).then(|| {
                vec![
                    "SET SESSION sql_log_bin = 0".to_owned(),
                    format!("DROP TABLE {named}"),
                    "SET SESSION sql_log_bin = 1".to_owned(),
                ]
            });
        }
        _ => {}
    }
    let after = change.after.as_deref()?;
    let core = match &change.subject {
        Subject::Setting { name } => {
            vec![format!("SET GLOBAL {} = {}", setting(name)?, value(after))]
        }
        Subject::LinkSwitch { link } => return Some(switched(link, after)),
        Subject::OwnPosition { link } => {
            vec![format!("CHANGE MASTER {} TO MASTER_DEMOTE_TO_SLAVE = 1", in_quotes(link))]
        }
        Subject::AppliedOfDomain { domain, stops } => {
            let (before, after) = (change.before.as_deref()?, after);
            if ![before, after].iter().all(|gtid| is_of_domain(gtid, *domain)) {
                return None;
            }
            let stop = stops.iter().map(|link| stop_slave(link));
            let start = stops.iter().flat_map(|link| started(link));
            stop.chain(set_place(before, after)).chain(start).collect()
        }
        Subject::AppliedPosition { .. } => {
            position::gtids(after).ok()?;
            vec![format!("SET GLOBAL gtid_slave_pos = {}", in_quotes(after))]
        }
        Subject::LinkDelay { link } => {
            let seconds: u64 = after.parse().ok()?;
            vec![format!("CHANGE MASTER {} TO MASTER_DELAY = {seconds}", in_quotes(link))]
        }
        _ => return None,
    };
    // What is refused while a connection runs, and what a connection that was switched off must not skip.
    let mut statements: Vec<String> = Vec::new();
    statements.extend(change.pauses.iter().map(|link| stop_slave(link)));
    statements.extend(core);
    statements.extend(change.pauses.iter().flat_map(|link| started(link)));
    Some(statements)
}

/// In the tables by which the stand-in's replicator is told what to do.
fn stand_in(change: &SetupChange) -> Option<Vec<String>> {
    let after = change.after.as_deref();
    let statement = match &change.subject {
        Subject::Setting { name } if name == "read_only" => {
            let to = ["ON", "OFF"].into_iter().find(|to| Some(*to) == after)?;
            format!("UPDATE keen_lab_setting SET value = '{to}' WHERE name = 'read_only'")
        }
        Subject::LinkSwitch { link } => {
            let state = match after? {
                ON => "running",
                OFF => "paused",
                _ => return None,
            };
            format!(
                "UPDATE keen_lab_link SET state = '{state}' WHERE link = {}",
                stand_in_number(link)?
            )
        }
        Subject::Link { link } if is_taken_away(change) => {
            format!("DELETE FROM keen_lab_link WHERE link = {}", stand_in_number(link)?)
        }
        Subject::NewLink(new) if is_made(change, new) => stand_in_link(new)?,
        _ => return None,
    };
    Some(vec![statement])
}

/// It begins with all that its source has: what its receiver has of that already is left out.
fn stand_in_link(new: &NewLink) -> Option<String> {
    let LinkWay::StandIn { carries } = &new.way else { return None };
    let carries: Vec<String> = carries.iter().map(|set| in_quotes(set)).collect();
    Some(format!(
        "INSERT INTO keen_lab_link (link, source, carries, read_to, state, since_step) \
         SELECT {}, {}, json_array({}), 0, 'paused', coalesce(max(applied_step), 0) FROM keen_lab_transaction",
        stand_in_number(&new.link)?,
        in_quotes(&new.from),
        carries.join(", ")
    ))
}

/// Its links have numbers for names.
fn stand_in_number(link: &str) -> Option<u32> {
    link.parse().ok()
}

fn started(link: &str) -> [String; 2] {
    [skip_nothing(link), format!("START SLAVE {}", in_quotes(link))]
}

/// Whether a text is a place in a domain: "1-1-7".
fn is_of_domain(text: &str, domain: u32) -> bool {
    let parts: Vec<&str> = text.split('-').collect();
    let digits = |part: &&str| !part.is_empty() && part.chars().all(|c| c.is_ascii_digit());
    parts.len() == 3 && parts.iter().all(digits) && parts[0] == domain.to_string()
}

fn stop_slave(link: &str) -> String {
    format!("STOP SLAVE {}", in_quotes(link))
}

fn switched(link: &str, to: &str) -> Vec<String> {
    let mut statements = vec![stop_slave(link)];
    if to == ON {
        statements.extend(started(link));
    }
    statements
}

fn postgres(change: &SetupChange) -> Option<Vec<String>> {
    let quoted = |name: &str| Engine::Postgres.dialect().quoted(name);
    let named = |table: &[String]| qualified(Engine::Postgres, table);
    let after = change.after.as_deref();
    let statement = match &change.subject {
        Subject::Link { link } if is_taken_away(change) => {
            // Its slot is a step of its own: so the source need not be there.
            let link = quoted(link);
            format!(
                "ALTER SUBSCRIPTION {link} DISABLE; ALTER SUBSCRIPTION {link} SET (slot_name = NONE); DROP SUBSCRIPTION {link}"
            )
        }
        Subject::Slot { slot } if is_idle_slot_taken_away(change) => drop_slot(slot),
        Subject::Slot { slot } if change.before.is_none() && after == Some(IDLE) => {
            format!("SELECT pg_create_logical_replication_slot({}, 'pgoutput')", in_quotes(slot))
        }
        Subject::NewLink(new) if is_made(change, new) => postgres_link(new, None)?,
        Subject::Publication { publication } if change.before.is_none() => {
            let kinds = after.filter(|after| *after == ALL_KINDS)?;
            format!(
                "CREATE PUBLICATION {} WITH (publish = {})",
                quoted(publication),
                in_quotes(kinds)
            )
        }
        Subject::Publication { publication } if is_taken_away(change) => {
            format!("DROP PUBLICATION {}", quoted(publication))
        }
        Subject::Counter { table, column } if after.is_some() => raise_counter(table, column),
        Subject::Standby if is_taken_away(change) => "SELECT pg_promote(true, 60)".to_owned(),
        Subject::Origin { origin } => {
            let word = if after.is_some() { "create" } else { "drop" };
            format!("SELECT pg_replication_origin_{word}({})", in_quotes(origin))
        }
        Subject::KeptSetting { name, reload } => {
            let name = setting(name)?;
            let mut statements = vec![match after {
                Some(after) => format!("ALTER SYSTEM SET {name} = {}", value(after)),
                None => format!("ALTER SYSTEM RESET {name}"),
            }];
            statements.extend(reload.then(|| "SELECT pg_reload_conf()".to_owned()));
            return Some(statements);
        }
        Subject::DatabaseSetting { database, name } => {
            let (database, name) = (quoted(database), setting(name)?);
            match after {
                Some(after) => format!("ALTER DATABASE {database} SET {name} = {}", value(after)),
                None => format!("ALTER DATABASE {database} RESET {name}"),
            }
        }
        Subject::LinkSwitch { link } => {
            let word = if after? == ON { "ENABLE" } else { "DISABLE" };
            format!("ALTER SUBSCRIPTION {} {word}", quoted(link))
        }
        Subject::LinkOrigin { link } => {
            let origin = ["none", "any"].into_iter().find(|origin| Some(*origin) == after)?;
            format!("ALTER SUBSCRIPTION {} SET (origin = {origin})", quoted(link))
        }
        Subject::PassedCommit { link, commit, enable } => {
            return Some(match after {
                Some(_) => skip_commit(link, commit, *enable),
                None => vec![format!("ALTER SUBSCRIPTION {} SKIP (lsn = NONE)", quoted(link))],
            });
        }
        Subject::PublishedTable { publication, table } => {
            let word = if after.is_some() { "ADD" } else { "DROP" };
            format!("ALTER PUBLICATION {} {word} TABLE {}", quoted(publication), named(table))
        }
        Subject::PublishedKinds { publication } => {
            format!(
                "ALTER PUBLICATION {} SET (publish = {})",
                quoted(publication),
                in_quotes(after?)
            )
        }
        Subject::SubscribedTable { link, copy, .. } => {
            let copied = if *copy && after.is_some() { "" } else { " WITH (copy_data = false)" };
            format!("ALTER SUBSCRIPTION {} REFRESH PUBLICATION{copied}", quoted(link))
        }
        Subject::Column { table, column, .. } => {
            let (table, name) = (named(table), quoted(column));
            match (declared(&change.before)?, declared(&change.after)?) {
                (None, Some(after)) => {
                    let definition = after.sql(Engine::Postgres);
                    format!("ALTER TABLE {table} ADD COLUMN {name} {definition}")
                }
                (Some(_), None) => format!("ALTER TABLE {table} DROP COLUMN {name}"),
                (Some(before), Some(after)) if before != after => {
                    let clauses = ColumnDefinition::alterations(&name, &before, &after);
                    format!("ALTER TABLE {table} {}", clauses.join(", "))
                }
                _ => return None,
            }
        }
        Subject::SlotPlace { slot } => {
            let drop = drop_slot(slot);
            let slot = in_quotes(slot);
            let Some(to) = after else { return Some(vec![drop]) };
            let Ok(place @ Position::Lsn(bytes)) = to.parse::<Position>() else { return None };
            let mut statements = Vec::new();
            if change.before.is_none() {
                statements.push(drop);
                statements
                    .push(format!("SELECT pg_create_logical_replication_slot({slot}, 'pgoutput')"));
            }
            if bytes > 0 {
                statements.push(format!("SELECT pg_replication_slot_advance({slot}, '{place}')"));
            }
            return Some(statements);
        }
        Subject::RowNames { table } => {
            let by = match after?.split_once(' ') {
                Some((INDEX, index)) => format!("USING INDEX {}", quoted(index)),
                _ => ["DEFAULT", "FULL", "NOTHING"]
                    .into_iter()
                    .find(|word| after.is_some_and(|after| after.eq_ignore_ascii_case(word)))?
                    .to_owned(),
            };
            format!("ALTER TABLE {} REPLICA IDENTITY {by}", named(table))
        }
        Subject::Setting { .. }
        | Subject::LinkDelay { .. }
        | Subject::AppliedOfDomain { .. }
        | Subject::AppliedPosition { .. }
        | Subject::Link { .. }
        | Subject::NewLink(_)
        | Subject::FetchedChanges { .. }
        | Subject::LoggedPosition
        | Subject::HeldPosition { .. }
        | Subject::Taken { .. }
        | Subject::OwnWrites
        | Subject::HeldState { .. }
        | Subject::OwnPosition { .. }
        | Subject::OldSessions { .. }
        | Subject::FencedOff
        | Subject::Answers
        | Subject::Standby
        | Subject::CleanEnd { .. }
        | Subject::StandbyOf
        | Subject::TopologyFile
        | Subject::Counter { .. }
        | Subject::Slot { .. }
        | Subject::Publication { .. }
        | Subject::ServiceTable { .. }
        | Subject::ColumnOrder { .. }
        | Subject::FilledColumn { .. }
        | Subject::TableRows { .. }
        | Subject::NamedRows { .. } => return None,
    };
    Some(vec![statement])
}
