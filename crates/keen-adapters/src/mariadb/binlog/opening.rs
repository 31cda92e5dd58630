//! Settings of a server that have to be known before its log is read, and beginning to read it.

use super::super::queries;
use std::collections::BTreeMap;
use std::sync::Arc;

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::history::journal::Head;
use keen_core::observe::position::Position;
use mysql::binlog::BinlogChecksumAlg;
use mysql::{BinlogDumpFlags, BinlogRequest, BinlogStream};

use crate::mariadb::connect::MariaDbSession;
use crate::mariadb::fault;
use crate::server::Access;

/// The file that a rotation names: after a place of eight bytes, and before a checksum that the library does
/// not know of yet where the log only begins.
pub(super) fn next_file(rotation: &mysql::binlog::events::Event) -> String {
    /// The CRC-32 of anything that ends in its own checksum.
    const RESIDUE: u32 = 0x2144_df1c;
    let data = rotation.data();
    let sum = rotation.calc_checksum(BinlogChecksumAlg::BINLOG_CHECKSUM_ALG_CRC32);
    let end = if sum == RESIDUE { data.len().saturating_sub(4) } else { data.len() };
    String::from_utf8_lossy(data.get(8..end).unwrap_or_default()).into_owned()
}

/// Begins to read the log: from a place in a file, or where no file is named from the first.
pub(super) fn stream(
    mut session: MariaDbSession,
    reader: u32,
    file: &str,
    at: u64,
) -> Result<BinlogStream, ReadFault> {
    let access = session.access().clone();
    let capability = "SET @mariadb_slave_capability = 4";
    session.rows::<mysql::Row>("begin to read the log", capability, ())?;
    let request = BinlogRequest::new(reader)
        .with_filename(file.as_bytes())
        .with_pos(at)
        .with_flags(BinlogDumpFlags::BINLOG_DUMP_NON_BLOCK);
    let stream = session.into_connection().get_binlog_stream(request);
    stream.map_err(|error| may_not(&access, &error))
}

/// The server's settings for its log, and whether the log has the writes of others.
pub(super) fn settings(session: &mut MariaDbSession) -> Result<(Head, bool), ReadFault> {
    let shown = session.access().shown();
    type LogSettings = (String, u64, String, Option<u64>, u64, Option<String>);
    let rows: Vec<LogSettings> = session.rows("inspect its log", queries::BINARY_LOG, ())?;
    let Some((version, logs, format, others, id, applied)) = rows.into_iter().next() else {
        return Err(ReadFault::new(
            format!("{shown} says nothing about its log"),
            "check the account",
        ));
    };
    if !version.contains("MariaDB") {
        return Err(ReadFault::new(
            format!("{shown} is MySQL, whose log keen does not read"),
            "export what was written to a file of the format in docs/journal.md, and name it as the node's journal",
        ));
    }
    if logs == 0 {
        return Err(ReadFault::new(
            format!("{shown} keeps no binary log"),
            "set log_bin, and later writes can be judged",
        ));
    }
    let mut notes = Vec::new();
    if format != "ROW" {
        notes.push(format!(
            "binlog_format is {format}: statements in the log do not identify rows, and are not judged"
        ));
    }
    let others = others.unwrap_or(0) != 0;
    if !others {
        notes.push("log_slave_updates is off: its log does not show what arrived here, so none of its writes is proven to have raced".to_owned());
    }
    let version = version.split('-').next().unwrap_or_default();
    let about = format!("mariadb {version} binary log");
    let head = Head::nothing_known(about, Some(Arc::from(id.to_string())));
    Ok((Head { notes, done: done(&applied.unwrap_or_default()), ..head }, others))
}

/// By server up to which number all that it wrote was applied here; of one that wrote in several domains that
/// cannot be said in one number.
fn done(position: &str) -> BTreeMap<Arc<str>, u64> {
    let Ok(Position::Gtid(domains)) = keen_core::observe::position::gtids(position) else {
        return BTreeMap::new();
    };
    let mut done: BTreeMap<Arc<str>, u64> = BTreeMap::new();
    let mut several = Vec::new();
    for (server, number) in domains.into_values() {
        let server: Arc<str> = Arc::from(server.to_string());
        if done.insert(Arc::clone(&server), number).is_some() {
            several.push(server);
        }
    }
    done.retain(|server, _| !several.contains(server));
    done
}

/// A reader that takes a replica's number throws that replica out.
pub(super) fn nobody_else_reads_as(
    session: &mut MariaDbSession,
    reader: u32,
) -> Result<(), ReadFault> {
    let mut taken: Vec<u64> = session.rows("look who reads its log", queries::SERVER_ID, ())?;
    let hosts: Result<Vec<mysql::Row>, ReadFault> =
        session.rows("look who reads its log", queries::FOLLOWERS, ());
    let hosts = hosts.map_err(|fault| ReadFault {
        advice: format!(
            "leave out --reader, or grant the account REPLICATION MASTER ADMIN, so that keen can see whether {reader} is taken"
        ),
        ..fault
    })?;
    taken.extend(hosts.iter().filter_map(|row| row.get::<u64, _>(0)));
    let masters: Vec<mysql::Row> = session.rows("look whom it follows", queries::LINKS, ())?;
    taken.extend(
        masters.iter().filter_map(|row| row.get::<Option<u64>, _>("Master_Server_Id").flatten()),
    );
    if taken.contains(&u64::from(reader)) {
        return Err(ReadFault::new(
            format!(
                "reader number {reader} is taken: reading the log under it would disconnect a replica"
            ),
            "leave out --reader, or choose a number that no server has",
        ));
    }
    Ok(())
}

pub(super) fn may_not(access: &Access, error: &mysql::Error) -> ReadFault {
    let fault = fault::explain(access, "read the binary log", error);
    match error {
        mysql::Error::MySqlError(said) if matches!(said.code, 1227 | 1045 | 1044) => ReadFault {
            advice: "run the statements that `keen conflicts --ddl` prints for it".to_owned(),
            kind: FaultKind::NotAllowed,
            ..fault
        },
        _ => fault,
    }
}
