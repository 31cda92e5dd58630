//! The types of a PostgreSQL database, as its catalogue describes them.

use std::collections::HashMap;

use keen_core::ports::ReadFault;
use keen_core::shape::Family;

use super::connect::Session;

/// How a value in binary form is taken apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Codec {
    Bool,
    /// Signed, of so many bytes.
    Int(usize),
    /// Unsigned 32 bits.
    Oid,
    Float4,
    Float8,
    Numeric,
    /// The bytes of the text.
    Text,
    /// Text that is padded with spaces which do not count.
    Padded,
    Bytea,
    Date,
    Time,
    TimeTz,
    Timestamp,
    TimestampTz,
    Interval,
    Uuid,
    Json,
    /// JSON after a version byte.
    Jsonb,
    Inet {
        is_cidr: bool,
    },
    Mac,
    Bit,
    /// Bits as the number they spell.
    BitNumber,
    Array(u32),
    Range(u32),
    Multirange(u32),
    Composite,
    /// Not taken apart: the server is asked for its text, which no setting changes any more.
    ServerText,
    /// Not known: its binary form is compared as it is, between equal servers only.
    Raw,
}

#[derive(Debug)]
struct Type {
    name: String,
    codec: Codec,
    /// It can be sent in binary form.
    sendable: bool,
    built_in: bool,
}

/// All types of the database.
#[derive(Debug)]
pub(super) struct Types {
    by_oid: HashMap<u32, Type>,
    /// Types of one name in servers of one major version have one binary form.
    major: String,
}

impl Types {
    pub(super) fn load(session: &Session) -> Result<Self, ReadFault> {
        let doing = "look at its types";
        // A multirange is named by its range: rngmultitypid is there since PostgreSQL 14.
        let rows = session.rows(
            doing,
            "SELECT t.oid, t.typname::text, t.typtype::text, t.typelem, t.typbasetype, coalesce(r.rngsubtype, 0), \
                    coalesce(m.rngtypid, 0), t.typsend <> 0, n.nspname = 'pg_catalog', t.typlen, \
                    EXISTS (SELECT FROM pg_type e WHERE e.oid = t.typelem AND e.typarray = t.oid) \
             FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace \
             LEFT JOIN pg_range r ON r.rngtypid = t.oid LEFT JOIN pg_range m ON m.rngmultitypid = t.oid",
            &[],
        )?;
        let mut by_oid = HashMap::new();
        let mut domains = Vec::new();
        for row in &rows {
            let (oid, name, kind): (u32, &str, &str) = (row.get(0), row.get(1), row.get(2));
            let (element, base, sub, range): (u32, u32, u32, u32) =
                (row.get(3), row.get(4), row.get(5), row.get(6));
            let (sendable, built_in, is_array) = (row.get(7), row.get(8), row.get(10));
            let codec = match kind {
                "e" => Codec::Text,
                "d" => {
                    domains.push((oid, base));
                    Codec::Raw
                }
                "c" => Codec::Composite,
                "r" => Codec::Range(sub),
                "m" => Codec::Multirange(range),
                _ if is_array => Codec::Array(element),
                _ if built_in => built_in_codec(name),
                _ if name == "citext" => Codec::Text,
                _ => Codec::Raw,
            };
            by_oid.insert(oid, Type { name: name.to_owned(), codec, sendable, built_in });
        }
        // A domain is as its base is; domains can be made of domains.
        for _ in 0..domains.len() {
            let mut changed = false;
            for (oid, base) in &domains {
                let codec = by_oid.get(base).map_or(Codec::Raw, |t: &Type| t.codec.clone());
                if let Some(found) = by_oid.get_mut(oid)
                    && found.codec != codec
                {
                    found.codec = codec;
                    changed = true;
                }
            }
            if !changed {
                break;
            }
        }
        let major = session.one("SELECT current_setting('server_version_num')::int / 10000")?;
        Ok(Self { by_oid, major: major.get::<_, i32>(0).to_string() })
    }

    pub(super) fn codec(&self, oid: u32) -> &Codec {
        self.by_oid.get(&oid).map_or(&Codec::Raw, |t| &t.codec)
    }

    /// The codec for a whole column: as [`Types::codec`], unless something inside is not known.
    pub(super) fn of_column(&self, oid: u32) -> Codec {
        let codec = self.codec(oid).clone();
        match &codec {
            Codec::Array(_) | Codec::Range(_) | Codec::Multirange(_)
                if !self.known_inside(oid, 8) =>
            {
                if self.all_built_in(oid, 8) {
                    Codec::ServerText
                } else {
                    Codec::Raw
                }
            }
            _ => codec,
        }
    }

    /// Whether everything that a value of this type is made of can be taken apart.
    fn known_inside(&self, oid: u32, depth: usize) -> bool {
        match self.codec(oid) {
            Codec::Raw | Codec::ServerText => false,
            Codec::Array(inner) | Codec::Range(inner) | Codec::Multirange(inner) => {
                depth > 0 && self.known_inside(*inner, depth - 1)
            }
            _ => true,
        }
    }

    fn all_built_in(&self, oid: u32, depth: usize) -> bool {
        let built_in = self.by_oid.get(&oid).is_some_and(|t| t.built_in);
        match self.codec(oid) {
            Codec::Array(inner) | Codec::Range(inner) | Codec::Multirange(inner) => {
                built_in && depth > 0 && self.all_built_in(*inner, depth - 1)
            }
            _ => built_in,
        }
    }

    pub(super) fn is_sendable(&self, oid: u32) -> bool {
        self.by_oid.get(&oid).is_some_and(|t| t.sendable)
    }

    /// What a column of raw values is declared as, so that only equal servers pair it.
    pub(super) fn raw_name(&self, oid: u32) -> String {
        let name = self.by_oid.get(&oid).map_or("?", |t| &t.name);
        format!("{name} of postgresql {}", self.major)
    }
}

fn built_in_codec(name: &str) -> Codec {
    match name {
        "bool" => Codec::Bool,
        "int2" => Codec::Int(2),
        "int4" => Codec::Int(4),
        "int8" => Codec::Int(8),
        "oid" | "xid" | "cid" => Codec::Oid,
        "float4" => Codec::Float4,
        "float8" => Codec::Float8,
        "numeric" => Codec::Numeric,
        "text" | "varchar" | "name" | "char" => Codec::Text,
        "bpchar" => Codec::Padded,
        "bytea" => Codec::Bytea,
        "date" => Codec::Date,
        "time" => Codec::Time,
        "timetz" => Codec::TimeTz,
        "timestamp" => Codec::Timestamp,
        "timestamptz" => Codec::TimestampTz,
        "interval" => Codec::Interval,
        "uuid" => Codec::Uuid,
        "json" => Codec::Json,
        "jsonb" => Codec::Jsonb,
        "inet" => Codec::Inet { is_cidr: false },
        "cidr" => Codec::Inet { is_cidr: true },
        "macaddr" | "macaddr8" => Codec::Mac,
        "bit" | "varbit" => Codec::Bit,
        // Money, XML, points, text search, object names, log positions and the rest.
        _ => Codec::ServerText,
    }
}

impl Codec {
    /// What values of a column so taken are.
    pub(super) fn family(&self, is_money: bool) -> Family {
        match self {
            Self::Bool => Family::Boolean,
            Self::Int(_) | Self::Oid => Family::Integer,
            Self::Float4 => Family::Single,
            Self::Float8 => Family::Real,
            Self::Numeric => Family::Decimal,
            Self::ServerText if is_money => Family::Decimal,
            Self::Bytea => Family::Bytes,
            Self::Date => Family::Date,
            Self::Time => Family::Time,
            Self::Timestamp => Family::LocalTimestamp,
            Self::TimestampTz => Family::Timestamp,
            Self::Uuid => Family::Uuid,
            Self::Json | Self::Jsonb => Family::Json,
            Self::Bit => Family::Bits,
            Self::Raw => Family::Opaque,
            _ => Family::Text,
        }
    }

    /// Whether PostgreSQL sorts keys of this kind as [`keen_core::order`] does; text depends on its collation.
    pub(super) fn sorts_alike(&self) -> bool {
        matches!(
            self,
            Self::Bool
                | Self::Int(_)
                | Self::Oid
                | Self::Float4
                | Self::Float8
                | Self::Bytea
                | Self::Date
                | Self::Time
                | Self::Timestamp
                | Self::TimestampTz
                | Self::Uuid
        )
    }
}
