//! Whom a server receives from, and by which name it knows what came from there.

use std::collections::HashMap;

use keen_core::fault::ReadFault;

use super::connect::Session;

/// The logical slots through which others read this server's log, but for one.
pub(super) fn slots_but(session: &Session, but: &str) -> Result<Vec<String>, ReadFault> {
    let rows = session.rows(
        "look at its slots",
        "SELECT slot_name::text FROM pg_replication_slots WHERE slot_type = 'logical' AND slot_name <> $1",
        &[&but],
    )?;
    Ok(rows.iter().map(|row| row.get(0)).collect())
}

/// By the name of a replication origin the slot, at the other server, that what it names came through; and
/// what could not be seen of that.
pub(super) fn receives(
    session: &Session,
) -> Result<(HashMap<String, String>, Option<String>), ReadFault> {
    let subscriptions = session.rows(
        "look at its subscriptions",
        "SELECT 'pg_' || oid::text, coalesce(subslotname::text, subname::text) FROM pg_subscription \
         WHERE subdbid = (SELECT oid FROM pg_database WHERE datname = current_database())",
        &[],
    )?;
    let mut slots: HashMap<String, String> =
        subscriptions.iter().map(|row| (row.get(0), row.get(1))).collect();
    // Of the extension pglogical an origin is called as the slot is.
    let extension = session.rows(
        "look for pglogical",
        "SELECT 1 FROM pg_extension WHERE extname = 'pglogical'",
        &[],
    )?;
    let mut unseen = None;
    if !extension.is_empty() {
        let sql = "SELECT sub_slot_name::text FROM pglogical.subscription";
        match session.rows("look at what pglogical follows", sql, &[]) {
            Ok(rows) => slots.extend(rows.iter().map(|row| (row.get(0), row.get(0)))),
            Err(fault) => {
                unseen = Some(format!(
                    "whom pglogical follows is not known, so what came from there is nobody's of the topology: {}",
                    fault.what
                ));
            }
        }
    }
    Ok((slots, unseen))
}
