//! Types and collations that somebody made on the server: what has to be there before a column can be declared.

use keen_core::fault::ReadFault;
use keen_core::row::schema::{MadeOf, OwnType};

use super::connect::Session;

/// What initdb makes has numbers below this one.
const FIRST_OWN: u32 = 16_384;

const TYPE: &str = "SELECT format_type(t.oid, NULL), t.typtype::text, t.typelem, t.typbasetype, \
    format_type(t.typbasetype, t.typtypmod), t.typnotnull, t.typdefault, e.extname::text, \
    CASE WHEN t.typtype = 'd' AND t.typcollation <> b.typcollation THEN t.typcollation END, \
    (SELECT coalesce(array_agg(pg_get_constraintdef(c.oid) ORDER BY c.conname), '{}') FROM pg_constraint c WHERE c.contypid = t.oid AND c.contype = 'c'), \
    (SELECT coalesce(array_agg(v.enumlabel::text ORDER BY v.enumsortorder), '{}') FROM pg_enum v WHERE v.enumtypid = t.oid), t.typrelid \
    FROM pg_type t LEFT JOIN pg_type b ON b.oid = t.typbasetype \
    LEFT JOIN pg_depend d ON d.classid = 'pg_type'::regclass AND d.objid = t.oid AND d.deptype = 'e' \
    LEFT JOIN pg_extension e ON e.oid = d.refobjid WHERE t.oid = $1";

const FIELDS: &str = "SELECT quote_ident(a.attname), a.atttypid, format_type(a.atttypid, a.atttypmod) FROM pg_attribute a \
    WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum";

// What it is called where the locale stands differs between versions.
const COLLATION: &str = "SELECT l.oid::regcollation::text, l.collprovider::text, l.collisdeterministic, \
    coalesce(to_jsonb(l) ->> 'colllocale', to_jsonb(l) ->> 'colliculocale', l.collcollate::text), e.extname::text \
    FROM pg_collation l LEFT JOIN pg_depend d ON d.classid = 'pg_collation'::regclass AND d.objid = l.oid AND d.deptype = 'e' \
    LEFT JOIN pg_extension e ON e.oid = d.refobjid WHERE l.oid = $1";

/// What a column's type and collation need, in the order in which it is to be made.
pub(super) fn needed(
    session: &Session,
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

fn of_collation(session: &Session, oid: u32, found: &mut Vec<OwnType>) -> Result<(), ReadFault> {
    if oid < FIRST_OWN {
        return Ok(());
    }
    let rows = session.rows("look at a collation", COLLATION, &[&oid])?;
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

fn of_type(session: &Session, oid: u32, found: &mut Vec<OwnType>) -> Result<(), ReadFault> {
    if oid < FIRST_OWN {
        return Ok(());
    }
    let rows = session.rows("look at a type", TYPE, &[&oid])?;
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
                let sql = "SELECT $1::oid::regcollation::text";
                let rows = session.rows("look at a collation", sql, &[&oid])?;
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
            let rows = session.rows("look at a type", FIELDS, &[&row.get::<_, u32>(11)])?;
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
