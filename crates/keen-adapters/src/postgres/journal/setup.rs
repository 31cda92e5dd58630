//! What a PostgreSQL node still lacks before keen can read its log.

use keen_core::fault::ReadFault;
use keen_core::history::journal::{JOURNAL_SLOT, is_journal_slot};
use keen_core::ports::{JournalSetup, PublishableTable};

use crate::postgres::connect::Session;
use crate::postgres::quoted;
use crate::postgres::shape;
use crate::postgres::types::Types;
use crate::server::Access;

/// Looks at what is there.
///
/// # Errors
/// [`ReadFault`] when the server cannot be reached, or lacks a table.
pub(crate) fn journal_setup(access: &Access, tables: &[String]) -> Result<JournalSetup, ReadFault> {
    let session = Session::open_to_look(access)?;
    let types = Types::load(&session)?;
    let row = session.one(
        "SELECT current_user::text, (SELECT oid::text FROM pg_database WHERE datname = current_database()), \
         (SELECT rolreplication OR rolsuper FROM pg_roles WHERE rolname = current_user), \
         has_function_privilege('pg_show_replication_origin_status()', 'EXECUTE')",
    )?;
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
    let slots = session.rows(
        "look at its slots",
        "SELECT slot_name::text, coalesce(wal_status, '') = 'lost' FROM pg_replication_slots \
         WHERE slot_type = 'logical' AND database = current_database() ORDER BY length(slot_name)",
        &[],
    )?;
    for row in slots.iter().filter(|row| is_journal_slot(row.get(0))) {
        setup.slot = Some(row.get(0));
        setup.lost = row.get(1);
    }
    let publication = session.rows(
        "look at its publication",
        "SELECT pubviaroot FROM pg_publication WHERE pubname = $1",
        &[&JOURNAL_SLOT],
    )?;
    setup.published = !publication.is_empty();
    setup.via_root = publication.first().is_some_and(|row| row.get(0));
    for table in tables {
        let (shape, _) = shape::look(&session, &types, table)?;
        let place: Vec<String> = shape.qualified.iter().map(|part| quoted(part)).collect();
        let name = place.join(".");
        // Of a partitioned table each partition says for itself how its rows are identified.
        let rows = session.rows(
            "look how rows are identified",
            "SELECT NOT EXISTS (SELECT 1 FROM (SELECT relid::oid AS oid FROM pg_partition_tree($1::text::regclass) WHERE isleaf UNION SELECT oid FROM pg_class WHERE oid = $1::text::regclass AND relkind <> 'p') t \
                 JOIN pg_class c ON c.oid = t.oid WHERE NOT (c.relreplident = 'f' OR EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = c.oid \
                 AND (i.indisprimary AND c.relreplident = 'd' OR i.indisreplident AND c.relreplident = 'i')))), \
             EXISTS (SELECT 1 FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid \
                 WHERE p.pubname = $2 AND r.prrelid = $1::text::regclass) \
             OR EXISTS (SELECT 1 FROM pg_publication p WHERE p.pubname = $2 AND p.puballtables)",
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
