//! Whom a server receives from, and by which name it knows what came from there.

use super::queries;
use std::collections::HashMap;

use keen_core::fault::ReadFault;

use super::connect::PostgresSession;

/// The logical slots through which others read this server's log, but for one.
pub(super) fn slots_but(session: &PostgresSession, but: &str) -> Result<Vec<String>, ReadFault> {
    let rows = session.rows("inspect its slots", queries::LOGICAL_SLOTS_BUT, &[&but])?;
    Ok(rows.iter().map(|row| row.get(0)).collect())
}

/// By the name of a replication origin the slot, at the other server, that what it names came through; and
/// what could not be seen of that.
pub(super) fn receives(
    session: &PostgresSession,
) -> Result<(HashMap<String, String>, Option<String>), ReadFault> {
    let subscriptions = session.rows("inspect its subscriptions", queries::ORIGINS, &[])?;
    let mut slots: HashMap<String, String> =
        subscriptions.iter().map(|row| (row.get(0), row.get(1))).collect();
    // Of the extension pglogical an origin is called as the slot is.
    let extension = session.rows("look for pglogical", queries::PGLOGICAL_IS_THERE, &[])?;
    let mut unseen = None;
    if !extension.is_empty() {
        let sql = queries::PGLOGICAL_SLOTS;
        match session.rows("inspect what pglogical follows", sql, &[]) {
            Ok(rows) => slots.extend(rows.iter().map(|row| (row.get(0), row.get(0)))),
            Err(fault) => {
                unseen = Some(format!(
                    "the sources of pglogical are not known, so what arrived from them belongs to no node of the topology: {}",
                    fault.what
                ));
            }
        }
    }
    Ok((slots, unseen))
}
