//! A line of a journal: a transaction, its changes in memory while they are few, else in a file.

use std::fmt;
use std::io::{BufReader, BufWriter, Seek as _, SeekFrom, Write as _};
use std::vec;

use keen_wire::journal::{JournalChange, JournalTransaction};
use serde::de::{DeserializeSeed, MapAccess, SeqAccess, Visitor};
use tempfile::SpooledTempFile;

use super::lines::LongLine;

/// One transaction.
pub(super) struct LineTransaction {
    pub(super) origin: String,
    pub(super) number: u64,
    pub(super) time: Option<String>,
    pub(super) changes: Changes,
}

/// The changes of a transaction, in order.
pub(super) enum Changes {
    Few(vec::IntoIter<JournalChange>),
    Spilled(Box<serde_json::StreamDeserializer<'static, Spilled, JournalChange>>),
}

type Spilled = serde_json::de::IoRead<BufReader<SpooledTempFile>>;

/// Changes in a file are kept in memory up to this many bytes.
const IN_MEMORY: usize = 4 << 20;

impl LineTransaction {
    pub(super) fn whole(line: &str) -> Result<Self, String> {
        let told: JournalTransaction =
            serde_json::from_str(line).map_err(|error| error.to_string())?;
        let JournalTransaction { origin, number, time, changes } = told;
        Ok(Self { origin, number, time, changes: Changes::Few(changes.into_iter()) })
    }

    /// Of a long line: the changes may come before it is known whose they are.
    pub(super) fn spilled(mut line: LongLine<'_>) -> Result<Self, String> {
        let mut from = serde_json::Deserializer::from_reader(BufReader::new(&mut line));
        let told = LongTransaction.deserialize(&mut from);
        let told = told.and_then(|told| from.end().map(|()| told));
        let mut told = told.map_err(|error| error.to_string())?;
        drop(from);
        line.pass_over().map_err(|error| error.to_string())?;
        told.changes.seek(SeekFrom::Start(0)).map_err(|error| error.to_string())?;
        let changes = serde_json::Deserializer::from_reader(BufReader::new(told.changes));
        Ok(Self {
            origin: told.origin,
            number: told.number,
            time: told.time,
            changes: Changes::Spilled(Box::new(changes.into_iter())),
        })
    }
}

impl Changes {
    pub(super) fn next(&mut self) -> Result<Option<JournalChange>, String> {
        match self {
            Self::Few(changes) => Ok(changes.next()),
            Self::Spilled(changes) => changes.next().transpose().map_err(|error| error.to_string()),
        }
    }
}

struct LongTransaction;

struct Long {
    origin: String,
    number: u64,
    time: Option<String>,
    changes: SpooledTempFile,
}

impl<'de> DeserializeSeed<'de> for LongTransaction {
    type Value = Long;

    fn deserialize<D: serde::Deserializer<'de>>(self, from: D) -> Result<Long, D::Error> {
        from.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for LongTransaction {
    type Value = Long;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a transaction")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Long, A::Error> {
        use serde::de::Error as _;
        let (mut origin, mut number, mut time, mut changes) = (None, None, None, None);
        while let Some(key) = map.next_key::<String>()? {
            match &key[..] {
                "origin" if origin.is_none() => origin = Some(map.next_value()?),
                "number" if number.is_none() => number = Some(map.next_value()?),
                "time" if time.is_none() => time = Some(map.next_value::<Option<String>>()?),
                "changes" if changes.is_none() => changes = Some(map.next_value_seed(Spill)?),
                "origin" | "number" | "time" | "changes" => {
                    return Err(A::Error::custom(format!("duplicate field `{key}`")));
                }
                _ => {
                    let known = &["origin", "number", "time", "changes"];
                    return Err(A::Error::unknown_field(&key, known));
                }
            }
        }
        Ok(Long {
            origin: origin.ok_or_else(|| A::Error::missing_field("origin"))?,
            number: number.ok_or_else(|| A::Error::missing_field("number"))?,
            time: time.flatten(),
            changes: changes.unwrap_or_else(|| SpooledTempFile::new(0)),
        })
    }
}

struct Spill;

impl<'de> DeserializeSeed<'de> for Spill {
    type Value = SpooledTempFile;

    fn deserialize<D: serde::Deserializer<'de>>(self, from: D) -> Result<Self::Value, D::Error> {
        from.deserialize_seq(self)
    }
}

impl<'de> Visitor<'de> for Spill {
    type Value = SpooledTempFile;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a list of changes")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Self::Value, A::Error> {
        use serde::de::Error as _;
        let mut file = BufWriter::new(SpooledTempFile::new(IN_MEMORY));
        while let Some(change) = seq.next_element::<JournalChange>()? {
            let kept = serde_json::to_writer(&mut file, &change).map_err(std::io::Error::from);
            let kept = kept.and_then(|()| file.write_all(b"\n"));
            kept.map_err(|error| A::Error::custom(format!("it cannot be stored: {error}")))?;
        }
        file.into_inner().map_err(|error| A::Error::custom(format!("it cannot be stored: {error}")))
    }
}
