//! The types of a PostgreSQL database, as its catalogue describes them.

use super::queries;
use std::collections::HashMap;

use keen_core::fault::ReadFault;
use keen_core::row::schema::Family;

use super::connect::PostgresSession;

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
    Timestamp,
    TimestampTz,
    Uuid,
    Json,
    /// JSON after a version byte.
    Jsonb,
    Bit,
    /// Bits as the number they spell.
    BitNumber,
    /// An address, whose cast to text says more than the server prints.
    Inet,
    /// Not taken apart: the server is asked for its text, which no setting changes any more.
    ServerText,
}

/// All types of the database.
#[derive(Debug)]
pub(super) struct Types {
    by_oid: HashMap<u32, Codec>,
}

impl Types {
    pub(super) fn load(session: &PostgresSession) -> Result<Self, ReadFault> {
        let doing = "inspect its types";
        let rows = session.rows(doing, queries::TYPES, &[])?;
        let mut by_oid: HashMap<u32, Codec> = HashMap::new();
        let mut domains = Vec::new();
        for row in &rows {
            let (oid, name, kind): (u32, &str, &str) = (row.get(0), row.get(1), row.get(2));
            let codec = match kind {
                "e" => Codec::Text,
                "d" => {
                    domains.push((oid, row.get::<_, u32>(3)));
                    Codec::ServerText
                }
                "b" if row.get(4) => built_in_codec(name),
                _ if name == "citext" => Codec::Text,
                // Arrays, ranges, composites, and what extensions brought.
                _ => Codec::ServerText,
            };
            by_oid.insert(oid, codec);
        }
        // A domain is as its base is; domains can be made of domains.
        for _ in 0..domains.len() {
            let mut changed = false;
            for (oid, base) in &domains {
                let codec = by_oid.get(base).cloned().unwrap_or(Codec::ServerText);
                if let Some(found) = by_oid.get_mut(oid)
                    && *found != codec
                {
                    *found = codec;
                    changed = true;
                }
            }
            if !changed {
                break;
            }
        }
        Ok(Self { by_oid })
    }

    pub(super) fn codec(&self, oid: u32) -> Codec {
        self.by_oid.get(&oid).cloned().unwrap_or(Codec::ServerText)
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
        "text" | "varchar" | "name" => Codec::Text,
        "bpchar" => Codec::Padded,
        "bytea" => Codec::Bytea,
        "date" => Codec::Date,
        "time" => Codec::Time,
        "timestamp" => Codec::Timestamp,
        "timestamptz" => Codec::TimestampTz,
        "uuid" => Codec::Uuid,
        "inet" => Codec::Inet,
        "json" => Codec::Json,
        "jsonb" => Codec::Jsonb,
        "bit" | "varbit" => Codec::Bit,
        // Money, intervals, addresses, XML, points, text search, object names, log positions and the rest.
        _ => Codec::ServerText,
    }
}

impl Codec {
    /// The family of the values of a column that is read so.
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
            _ => Family::Text,
        }
    }

    /// Whether PostgreSQL sorts keys of this kind as [`keen_core::row::key_order`] does; text depends on its collation.
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
