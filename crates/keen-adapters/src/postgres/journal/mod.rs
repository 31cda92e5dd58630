//! PostgreSQL's log as a journal, through a logical slot that is only ever peeked at.
//!
//! The slot and its publication have to be there before what is to be judged is written; keen prints the
//! statements and creates nothing. Peeking moves nothing on: each time all that the slot holds is read
//! again, and it goes on holding it until somebody drops it.
//!
//! The messages are those of the plugin `pgoutput` ("Logical Replication Message Formats" in PostgreSQL's
//! documentation). A transaction is named by the node that made it and the end of its commit in that node's
//! log, by which its receivers know it too.

mod came_later;
mod message;
mod reading;
mod setup;

use super::queries;
use std::collections::{BTreeMap, HashMap};
use std::ops::ControlFlow;
use std::sync::Arc;

use futures_util::{FutureExt, StreamExt};
use keen_core::fault::{FaultKind, ReadFault};
use keen_core::history::journal::{
    Entry, Head, JOURNAL_SLOT, JournalPosition, Since, is_journal_slot,
};
use keen_core::observe::position::Position;
use keen_core::ports::ReadJournal;
use keen_core::units::few;

use tokio_postgres::error::SqlState;

use super::connect::{self, PostgresSession};
use super::origins;
use super::shape::{self, PostgresLayout};
use super::types::Types;
use crate::server::Access;
use reading::StreamDecoder;
pub(crate) use setup::journal_setup;

/// A PostgreSQL server's log, as far as a slot holds it.
pub struct PostgresJournal {
    session: PostgresSession,
    types: Types,
    /// The name of the node in the topology.
    name: Arc<str>,
    head: Head,
    /// The slot that is peeked through.
    slot: String,
    tables: Vec<LoggedTable>,
    /// By the name of a replication origin the slot that it reads.
    slots: HashMap<String, String>,
    /// By a partition, schema and name, the table that it is a part of.
    leaves: HashMap<(String, String), (String, String)>,
    /// By slot, what the node is called that has it.
    sources: BTreeMap<String, Arc<str>>,
    /// From where on the slot holds the log.
    held_from: u64,
    /// Where reading goes on: everything before it is passed over.
    from: Option<JournalPosition>,
    ended: Option<JournalPosition>,
}

impl std::fmt::Debug for PostgresJournal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PostgresJournal").field("head", &self.head).finish_non_exhaustive()
    }
}

struct LoggedTable {
    /// As the sets name it.
    name: Arc<str>,
    /// Schema and table.
    place: (String, String),
    local: PostgresLayout,
    /// The columns as they are now.
    columns: Vec<String>,
}

impl PostgresJournal {
    /// Logs in and looks at the slot. `tables` are named as the sets do, and as the node does.
    ///
    /// # Errors
    /// [`ReadFault`] when the server cannot be reached, or there is no slot to read from.
    pub fn open(
        access: &Access,
        name: &str,
        tables: &[(String, String)],
    ) -> Result<Self, ReadFault> {
        let session = PostgresSession::open_to_look(access)?;
        let types = Types::load(&session)?;
        let mut known = Vec::new();
        for (set_name, local_name) in tables {
            match shape::look(&session, &types, local_name) {
                Ok((shape, local)) => known.push(LoggedTable {
                    name: Arc::from(&set_name[..]),
                    place: (
                        shape.qualified.first().cloned().unwrap_or_default(),
                        shape.qualified.get(1).cloned().unwrap_or_default(),
                    ),
                    columns: shape.columns.iter().map(|column| column.name.clone()).collect(),
                    local,
                }),
                Err(fault) if fault.kind == FaultKind::NoTable => {}
                Err(fault) => return Err(fault),
            }
        }
        let mut journal = Self {
            session,
            types,
            name: Arc::from(name),
            head: Head::nothing_known(String::new(), Some(Arc::from(name))),
            slot: String::new(),
            tables: known,
            slots: HashMap::new(),
            leaves: HashMap::new(),
            sources: BTreeMap::new(),
            held_from: 0,
            from: None,
            ended: None,
        };
        journal.look()?;
        Ok(journal)
    }

    fn look(&mut self) -> Result<(), ReadFault> {
        let shown = self.session.access().shown();
        let doing = "inspect its slots";
        let rows = self.session.rows(doing, queries::SLOT_STATE, &[])?;
        let mut found = None;
        for row in &rows {
            let (slot, plugin): (&str, Option<&str>) = (row.get(0), row.get(1));
            if is_journal_slot(slot) {
                // Those of other databases are nobody's business here. Of two the one with the number counts.
                if row.get::<_, Option<bool>>(2) != Some(true) {
                    continue;
                }
                slot.clone_into(&mut self.slot);
                found = Some((
                    plugin,
                    row.get::<_, &str>(3),
                    row.get::<_, Option<&str>>(4),
                    row.get::<_, &str>(5),
                ));
            } else {
                self.head.slots.push(slot.to_owned());
                // What a subscriber skipped moves nothing at its own side; that it is done with it, it tells here.
                if let (Some(true), Some(at)) = (row.get(2), row.get::<_, Option<&str>>(4)) {
                    self.head.confirmed.insert(slot.to_owned(), lsn(at));
                }
            }
        }
        let create =
            "run the statements that `keen conflicts --ddl` prints; later writes can be judged";
        let Some((plugin, status, from, version)) = found else {
            return Err(ReadFault::new(
                format!("{shown} has no slot for keen to read its log through"),
                create,
            ));
        };
        let slot = &self.slot;
        if plugin != Some("pgoutput") {
            return Err(ReadFault::new(
                format!(
                    "the slot {slot} on {shown} is not of the plugin pgoutput, so keen did not make it"
                ),
                "find out whose it is: keen needs that name for a slot of its own",
            ));
        }
        if status == "lost" {
            return Err(ReadFault::new(
                format!("the log that the slot {slot} on {shown} should hold is lost"),
                format!(
                    "SELECT pg_drop_replication_slot('{slot}'), which holds nothing any more; then {create}"
                ),
            ));
        }
        let version = version.split_whitespace().next().unwrap_or(version);
        self.head.about = format!("postgresql {version}, slot {slot}");
        self.held_from = from.map_or(0, lsn);
        self.head.since = Since::Unclear(self.held_from);
        self.leaves()?;
        self.publication(&shown)?;
        self.came_later()?;
        self.identities()?;
        self.emptied_in_part()?;
        let (slots, unseen) = origins::receives(&self.session)?;
        self.slots = slots;
        self.head.notes.extend(unseen);
        self.head.follows = self.slots.values().cloned().collect();
        Ok(())
    }

    /// The log tells writes by the partition unless the publication says by the root; what was logged before it
    /// said so stays as it is.
    fn leaves(&mut self) -> Result<(), ReadFault> {
        let rows = self.session.rows("look at partitions", queries::PARTITIONS, &[])?;
        let place = |row: &tokio_postgres::Row, at: usize| (row.get(at), row.get(at + 1));
        self.leaves = rows.iter().map(|row| (place(row, 0), place(row, 2))).collect();
        Ok(())
    }

    /// Which of the wanted tables is written where the log names this one.
    fn known(&self, place: &(String, String)) -> Option<usize> {
        let root = self.leaves.get(place).unwrap_or(place);
        let known =
            |wanted: &(String, String)| self.tables.iter().position(|known| known.place == *wanted);
        known(place).or_else(|| known(root))
    }

    /// A table that the publication lacks would seem never to be written.
    fn publication(&self, shown: &str) -> Result<(), ReadFault> {
        let rows = self.session.rows(
            "inspect its publication",
            queries::PUBLISHED_TABLES,
            &[&JOURNAL_SLOT],
        )?;
        let published: Vec<(String, String)> =
            rows.iter().map(|row| (row.get(0), row.get(1))).collect();
        let has = |known: &LoggedTable| {
            let is =
                |place: &(String, String)| self.leaves.get(place).unwrap_or(place) == &known.place;
            published.contains(&known.place) || published.iter().any(is)
        };
        let missing: Vec<String> = (self.tables.iter())
            .filter(|known| !has(known))
            .map(|known| {
                format!("{}.{}", super::quoted(&known.place.0), super::quoted(&known.place.1))
            })
            .collect();
        if missing.is_empty() {
            return Ok(());
        }
        Err(ReadFault::new(
            format!(
                "the publication {JOURNAL_SLOT} on {shown} does not have {}",
                missing.join(", ")
            ),
            match published.is_empty() {
                true => "run the statements that `keen conflicts --ddl` prints".to_owned(),
                // A table without a key is not for it: the server would refuse to change its rows.
                false => "run what `keen conflicts --ddl` prints, and later writes can be judged; exclude a table that it leaves out with --exclude"
                    .to_owned(),
            },
        ))
    }

    /// Where writes are told by the root of a partitioned table, that a partition was emptied is told by nobody.
    fn emptied_in_part(&mut self) -> Result<(), ReadFault> {
        let via_root =
            self.session.rows("inspect its publication", queries::VIA_ROOT, &[&JOURNAL_SLOT])?;
        let of = |known: &&LoggedTable| self.leaves.values().any(|root| *root == known.place);
        let names: Vec<&str> = self.tables.iter().filter(of).map(|known| &*known.name).collect();
        if via_root.first().is_some_and(|row| row.get(0)) && !names.is_empty() {
            self.head.notes.push(format!(
                "no log shows that a partition of {} was emptied, detached or dropped: rows removed in that way are not judged",
                few(&names)
            ));
        }
        Ok(())
    }

    /// Of which tables the log does not tell what rows were before.
    fn identities(&mut self) -> Result<(), ReadFault> {
        let rows = self.session.rows(
            "inspect its tables",
            "SELECT n.nspname::text, c.relname::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
             WHERE c.relkind = 'r' AND c.relreplident <> 'f'",
            &[],
        )?;
        let partly = |known: &&LoggedTable| {
            rows.iter().any(|row| {
                let place = (row.get(0), row.get(1));
                *self.leaves.get(&place).unwrap_or(&place) == known.place
            })
        };
        let names: Vec<&str> =
            self.tables.iter().filter(partly).map(|known| &*known.name).collect();
        if !names.is_empty() {
            self.head.notes.push(format!(
                "its log shows rows of {} as they became, not as they were: which cells an update changed is judged by what others wrote (REPLICA IDENTITY FULL would show it)",
                few(&names)
            ));
        }
        Ok(())
    }
}

fn lsn(text: &str) -> u64 {
    match text.parse() {
        Ok(Position::Lsn(at)) => at,
        _ => 0,
    }
}

impl ReadJournal for PostgresJournal {
    fn head(&mut self) -> Result<Head, ReadFault> {
        Ok(self.head.clone())
    }

    fn resolve(&mut self, sources: &BTreeMap<String, Arc<str>>) {
        self.sources.clone_from(sources);
    }

    /// Rows that were copied when a subscription began count as applied, too.
    fn applied(&mut self) -> BTreeMap<Arc<str>, u64> {
        let rows = self.session.rows("look how far it has applied", queries::APPLIED, &[]);
        let rows = rows.unwrap_or_else(|fault| {
            tracing::debug!(%fault, "how far it has applied is not known");
            Vec::new()
        });
        let of = |row: &tokio_postgres::Row| {
            let slot = self.slots.get(row.get::<_, &str>(0))?;
            let source = self.sources.get(slot)?;
            Some((Arc::clone(source), lsn(row.get::<_, Option<&str>>(1)?)))
        };
        rows.iter().filter_map(of).collect()
    }

    /// The slot hands out everything again each time; what was read before is passed over.
    fn go_on(&mut self, from: &JournalPosition) -> Result<bool, ReadFault> {
        self.from = Some(from.clone());
        Ok(self.held_from != 0 && lsn(&from.at) >= self.held_from)
    }

    fn ended(&self) -> Option<JournalPosition> {
        self.ended.clone()
    }

    fn read(&mut self, each: &mut dyn FnMut(Entry) -> ControlFlow<()>) -> Result<(), ReadFault> {
        let doing = format!("read its log through the slot {}", self.slot);
        let sql = format!(
            "SELECT data FROM pg_logical_slot_peek_binary_changes('{}', NULL, NULL, \
             'proto_version', '1', 'publication_names', '{JOURNAL_SLOT}')",
            self.slot
        );
        let access = self.session.access().clone();
        let mut stream = Box::pin(self.session.stream(&doing, &sql)?);
        let mut reading = StreamDecoder::new(self);
        enum JournalReadError {
            Server(tokio_postgres::Error),
            Fault(ReadFault),
        }
        let done: Result<bool, JournalReadError> = self.session.block_on(async {
            loop {
                let next = match stream.next().now_or_never() {
                    Some(next) => next,
                    None => connect::waited(&access, access.silence, &doing, stream.next())
                        .await
                        .map_err(JournalReadError::Fault)?,
                };
                let Some(row) = next else { break };
                let row = row.map_err(JournalReadError::Server)?;
                let data: &[u8] = row.get(0);
                if reading.message(data, each).map_err(JournalReadError::Fault)?.is_break() {
                    return Ok(false);
                }
            }
            reading.passed().map_err(JournalReadError::Fault)?;
            reading.end(each);
            Ok(true)
        });
        let ended = reading.ended();
        drop(stream);
        match done {
            Ok(whole) => {
                self.ended = ended.filter(|_| whole);
                Ok(())
            }
            Err(JournalReadError::Fault(fault)) => Err(fault),
            Err(JournalReadError::Server(error)) => {
                let mut fault = self.session.failed(&doing, &error);
                if fault.kind == FaultKind::NotAllowed {
                    fault.advice =
                        format!("ALTER ROLE {} REPLICATION", super::quoted(&access.server.user));
                }
                // Decoded as of when it was written, the log knows no publication that came later.
                if error.code() == Some(&SqlState::UNDEFINED_OBJECT) {
                    fault.advice = format!(
                        "the slot holds what was written before the publication was there: SELECT pg_replication_slot_advance('{}', pg_current_wal_lsn()) lets it go of that, \
                         and what is written from then on can be judged; what was written before cannot",
                        self.slot
                    );
                }
                Err(fault)
            }
        }
    }
}
