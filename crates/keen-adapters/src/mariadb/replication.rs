//! The connections over which a MariaDB server follows others: what flow and preflight look at alike.

use super::queries;
use std::time::Duration;

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::observe::links::{Inflow, ReceiverError};
use keen_core::observe::node::{ChangeSource, Filter, Incoming, ReplicationKind, WorkerState};
use keen_core::observe::position::{self, Position};
use mysql::Row;

use super::connect::MariaDbSession;
use crate::server::Access;

/// The status of all connections, asked over a session of its own: it can block as long as an applier waits for a
/// lock.
pub(super) struct LinkStatus {
    /// Given up sooner than others.
    access: Access,
    session: Option<MariaDbSession>,
}

impl LinkStatus {
    /// That of a server.
    pub(super) fn of(access: &Access) -> Self {
        let silence = (access.wait / 2).max(Duration::from_millis(500)).min(access.silence);
        Self { access: Access { silence, ..access.clone() }, session: None }
    }

    /// A line for each connection.
    ///
    /// # Errors
    /// [`ReadFault`]; of the kind [`FaultKind::NoAnswer`] where the status blocks.
    pub(super) fn rows(&mut self) -> Result<Vec<Row>, ReadFault> {
        let mut session = match self.session.take() {
            Some(session) => session,
            None => MariaDbSession::open_to_look(&self.access)?,
        };
        let rows = session.rows("inspect what it follows", queries::LINKS, ());
        match rows {
            Err(fault) if fault.kind == FaultKind::NoAnswer => {
                let what =
                    "the status of its links blocks, as it does while an applier waits for a lock";
                Err(ReadFault::not_told(what).of(FaultKind::NoAnswer))
            }
            rows => {
                self.session = session.given_up.is_none().then_some(session);
                rows
            }
        }
    }
}

/// A cell of a status as text; numbers may come as numbers.
pub(super) fn text(value: &mysql::Value) -> Option<String> {
    match value {
        mysql::Value::Bytes(bytes) => Some(String::from_utf8_lossy(bytes).into_owned()),
        mysql::Value::Int(number) => Some(number.to_string()),
        mysql::Value::UInt(number) => Some(number.to_string()),
        _ => None,
    }
}

/// A cell of the status of connections, by its name.
pub(super) fn cell(row: &Row, name: &str) -> Option<String> {
    row.get_opt::<mysql::Value, _>(name)?.ok().and_then(|value| text(&value))
}

/// One line of the status of connections.
pub(super) fn connection(row: &Row) -> Incoming {
    let text = |name: &str| cell(row, name);
    let number = |name: &str| text(name).and_then(|v| v.parse::<u64>().ok()).unwrap_or(0);
    let receiving = match text("Slave_IO_Running").as_deref() {
        Some("Yes") => WorkerState::Runs,
        Some("Connecting" | "Preparing") => WorkerState::Tries,
        _ => WorkerState::Stopped,
    };
    let applying = match text("Slave_SQL_Running").as_deref() {
        Some("Yes") => WorkerState::Runs,
        _ => WorkerState::Stopped,
    };
    let said = |message: &str| text(message).filter(|text| !text.is_empty());
    let error = said("Last_SQL_Error").or_else(|| said("Last_IO_Error"));
    let rules = [
        "Replicate_Do_DB",
        "Replicate_Ignore_DB",
        "Replicate_Do_Table",
        "Replicate_Ignore_Table",
        "Replicate_Wild_Do_Table",
        "Replicate_Wild_Ignore_Table",
    ];
    let filters = rules.into_iter().filter_map(|rule| {
        let of: Vec<String> = text(rule)?
            .split(',')
            .map(|name| name.trim().to_owned())
            .filter(|name| !name.is_empty())
            .collect();
        (!of.is_empty()).then(|| Filter { rule: rule.to_owned(), of })
    });
    let domains = [
        ("Replicate_Do_Domain_Ids", "DO_DOMAIN_IDS"),
        ("Replicate_Ignore_Domain_Ids", "IGNORE_DOMAIN_IDS"),
    ];
    let domains = domains.into_iter().filter_map(|(column, rule)| {
        let of: Vec<String> = text(column)?
            .split(',')
            .map(|domain| domain.trim().to_owned())
            .filter(|domain| !domain.is_empty())
            .collect();
        (!of.is_empty()).then(|| Filter { rule: rule.to_owned(), of })
    });
    let id = number("Master_Server_Id");
    Incoming {
        name: text("Connection_name").unwrap_or_default(),
        means: ReplicationKind::BinaryLog,
        source: ChangeSource {
            address: text("Master_Host")
                .zip(u16::try_from(number("Master_Port")).ok())
                .filter(|(host, _)| !host.is_empty()),
            id: (id > 0).then(|| id.to_string()),
            slot: None,
        },
        receiving,
        applying,
        error,
        error_number: Some(number("Last_SQL_Errno")).filter(|number| *number > 0),
        failures: None,
        delay: Some(Duration::from_secs(number("SQL_Delay"))).filter(|delay| !delay.is_zero()),
        filters: filters.chain(domains).collect(),
        own_writes_only: false,
        skips: text("Skip_Counter").and_then(|count| count.parse().ok()),
        publications: Vec::new(),
        tables: None,
    }
}

/// One line of the status of connections, as far as it changes from look to look.
pub(super) fn inflow(row: &Row, here: Option<&Position>) -> Inflow {
    let link = connection(row);
    let get = |name: &str| row.get_opt::<mysql::Value, _>(name)?.ok().and_then(|v| text(&v));
    let number = |name: &str| get(name).and_then(|value| value.parse::<u64>().ok());
    let said = |name: &str| get(name).filter(|value| !value.is_empty());
    let (sql_code, io_code) = (number("Last_SQL_Errno"), number("Last_IO_Errno"));
    let place = said("Relay_Master_Log_File")
        .zip(number("Exec_Master_Log_Pos"))
        .map(|(file, at)| format!("{file}:{at}"));
    let trouble = match (sql_code, io_code) {
        (Some(code @ 1..), _) => Some(ReceiverError {
            code: Some(code),
            message: said("Last_SQL_Error").unwrap_or_default(),
            at: place,
        }),
        (_, Some(code @ 1..)) => Some(ReceiverError {
            code: Some(code),
            message: said("Last_IO_Error").unwrap_or_default(),
            at: None,
        }),
        _ => None,
    };
    let trouble = trouble
        .filter(|_| link.receiving != WorkerState::Runs || link.applying != WorkerState::Runs);
    let delayed = number("SQL_Remaining_Delay").filter(|_| link.delay.is_some());
    Inflow {
        received: said("Gtid_IO_Pos").and_then(|text| position::gtids(&text).ok()),
        applied: here.cloned(),
        late: number("Seconds_Behind_Master").map(Duration::from_secs),
        waits_on_purpose: delayed.map(Duration::from_secs),
        doing: said("Slave_SQL_Running_State"),
        busy: false,
        progress: number("Exec_Master_Log_Pos").unwrap_or(0)
            + number("Executed_log_entries").unwrap_or(0),
        trouble,
        heartbeats: number("Slave_received_heartbeats").unwrap_or(0)
            + number("Read_Master_Log_Pos").unwrap_or(0),
        retries_every: number("Connect_Retry").map(Duration::from_secs),
        ..Inflow::of(link)
    }
}
