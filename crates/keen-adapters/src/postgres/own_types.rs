//! Types and collations that somebody made on the server: what has to be there before a column can be declared.

use super::queries;
use keen_core::fault::ReadFault;
use keen_core::row::schema::{MadeOf, OwnType};

use super::connect::PostgresSession;

/// Objects that initdb makes have numbers below this one.
const FIRST_OWN: u32 = 16_384;

// What it is called where the locale stands differs between versions.
/// The types and collations that a column needs, in the order in which they are to be made.
pub(super) fn needed(
    session: &PostgresSession,
    type_oid: u32,
    collation: Option<u32>,
) -> Result<Vec<OwnType>, ReadFault> {
    let mut found = Vec::new();
    if let Some(collation) = collation {
        of_collation(session, collation, &mut found)?;
    }
    of_type(session, type_oid, &mut found)?;
    Ok(found)
}

fn add(found: &mut Vec<OwnType>, name: String, made_of: MadeOf) {
    if !found.iter().any(|known| known.name == name) {
        found.push(OwnType { name, made_of });
    }
}

fn of_collation(
    session: &PostgresSession,
    oid: u32,
    found: &mut Vec<OwnType>,
) -> Result<(), ReadFault> {
    if oid < FIRST_OWN {
        return Ok(());
    }
    let rows = session.rows("inspect a collation", queries::COLLATION, &[&oid])?;
    let Some(row) = rows.first() else { return Ok(()) };
    let made_of = match row.get::<_, Option<String>>(4) {
        Some(extension) => MadeOf::Extension(extension),
        None => MadeOf::Collation {
            provider: match row.get::<_, &str>(1) {
                "i" => "icu",
                "b" => "builtin",
                _ => "libc",
            }
            .to_owned(),
            deterministic: row.get(2),
            locale: row.get::<_, Option<String>>(3).unwrap_or_default(),
        },
    };
    add(found, row.get(0), made_of);
    Ok(())
}

fn of_type(session: &PostgresSession, oid: u32, found: &mut Vec<OwnType>) -> Result<(), ReadFault> {
    if oid < FIRST_OWN {
        return Ok(());
    }
    let rows = session.rows("inspect a type", queries::TYPE, &[&oid])?;
    let Some(row) = rows.first() else { return Ok(()) };
    let name: String = row.get(0);
    if found.iter().any(|known| known.name == name) {
        return Ok(());
    }
    if let Some(extension) = row.get::<_, Option<String>>(7) {
        add(found, name, MadeOf::Extension(extension));
        return Ok(());
    }
    let element: u32 = row.get(2);
    match row.get::<_, &str>(1) {
        "e" => add(found, name, MadeOf::Enum(row.get(10))),
        "d" => {
            of_type(session, row.get(3), found)?;
            let mut collation = None;
            if let Some(oid) = row.get::<_, Option<u32>>(8) {
                of_collation(session, oid, found)?;
                let sql = queries::COLLATION_NAME;
                let rows = session.rows("inspect a collation", sql, &[&oid])?;
                collation = rows.first().map(|row| row.get(0));
            }
            let domain = MadeOf::Domain {
                of: row.get(4),
                collation,
                not_null: row.get(5),
                default: row.get(6),
                checks: row.get(9),
            };
            add(found, name, domain);
        }
        "c" => {
            let rows =
                session.rows("inspect a type", queries::FIELDS, &[&row.get::<_, u32>(11)])?;
            let mut fields = Vec::new();
            for field in rows {
                of_type(session, field.get(1), found)?;
                fields.push((field.get(0), field.get(2)));
            }
            add(found, name, MadeOf::Composite(fields));
        }
        _ if element != 0 => of_type(session, element, found)?,
        _ => {}
    }
    Ok(())
}
