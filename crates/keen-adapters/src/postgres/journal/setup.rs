//! The set-up that reading a PostgreSQL node's log still lacks.

use super::super::queries;
use keen_core::fault::ReadFault;
use keen_core::history::journal::{JOURNAL_SLOT, is_journal_slot};
use keen_core::ports::{JournalSetup, PublishableTable};

use crate::postgres::connect::PostgresSession;
use crate::postgres::quoted;
use crate::postgres::shape;
use crate::postgres::types::Types;
use crate::server::Access;

/// Looks at what is there.
///
/// # Errors
/// [`ReadFault`] when the server cannot be reached, or lacks a table.
pub(crate) fn journal_setup(access: &Access, tables: &[String]) -> Result<JournalSetup, ReadFault> {
    let session = PostgresSession::open_to_look(access)?;
    let types = Types::load(&session)?;
    let row = session.one(queries::JOURNAL_ACCOUNT)?;
    let mut setup = JournalSetup {
        account: row.get(0),
        slot: None,
        slot_name: format!("{JOURNAL_SLOT}_{}", row.get::<_, &str>(1)),
        lost: false,
        published: false,
        via_root: false,
        may_read: row.get(2),
        may_see_origins: row.get(3),
        tables: Vec::new(),
    };
    let slots = session.rows("inspect its slots", queries::JOURNAL_SLOT, &[])?;
    for row in slots.iter().filter(|row| is_journal_slot(row.get(0))) {
        setup.slot = Some(row.get(0));
        setup.lost = row.get(1);
    }
    let publication =
        session.rows("inspect its publication", queries::VIA_ROOT, &[&JOURNAL_SLOT])?;
    setup.published = !publication.is_empty();
    setup.via_root = publication.first().is_some_and(|row| row.get(0));
    for table in tables {
        let (shape, _) = shape::look(&session, &types, table)?;
        let place: Vec<String> = shape.qualified.iter().map(|part| quoted(part)).collect();
        let name = place.join(".");
        // Of a partitioned table each partition says for itself how its rows are identified.
        let rows = session.rows(
            "look how rows are identified",
            queries::IS_IDENTIFIED,
            &[&name, &JOURNAL_SLOT],
        )?;
        let found = rows.first();
        setup.tables.push(PublishableTable {
            name: shape.qualified.clone(),
            identified: found.is_some_and(|row| row.get(0)),
            published: found.is_some_and(|row| row.get(1)),
        });
    }
    Ok(setup)
}
