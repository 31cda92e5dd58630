//! Copying tables between MariaDB servers: the source in one snapshot whose position in all domains is known, the receiver
//! in one transaction out of its binary log.

use std::collections::{BTreeMap, HashMap};

use keen_core::fault::ReadFault;
use keen_core::observe::position::{self, Position};
use keen_core::plan::copy::{CopyMoment, DeliverRows, GiveCopy, RowChunk, TakeCopy};
use keen_core::plan::port::{BatchMark, WriteSteps};
use mysql::Value as Cell;
use mysql::prelude::Queryable;

use super::connect::{MariaDbSession, failed};
use super::decode::Take;
use super::shape::{self, MariaDbLayout};
use super::write::MariaDbWriter;
use super::{queries, quoted};
use crate::cells::{self, CellKind, Cells};
use crate::server::Access;

/// A MariaDB server whose tables are copied.
pub struct MariaDbGiver {
    access: Access,
    /// The snapshot, once the moment is fixed.
    session: Option<MariaDbSession>,
}

impl std::fmt::Debug for MariaDbGiver {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("MariaDbGiver").finish_non_exhaustive()
    }
}

impl MariaDbGiver {
    /// Remembers where; it logs in when the moment is fixed.
    #[must_use]
    pub fn new(access: Access) -> Self {
        Self { access, session: None }
    }
}

/// What was applied of all domains, as of the snapshot: it commits with what was applied.
fn applied(session: &mut MariaDbSession) -> Result<Position, ReadFault> {
    let any: Vec<String> =
        session.rows("read its position", "SELECT @@GLOBAL.gtid_slave_pos", ())?;
    if any.iter().all(|position| position.trim().is_empty()) {
        return Ok(Position::Gtid(BTreeMap::new()));
    }
    let engines: Vec<String> =
        session.rows("look how it keeps its position", queries::POSITION_ENGINES, ())?;
    if let Some(engine) = engines.iter().find(|engine| *engine != "InnoDB") {
        return Err(ReadFault::new(
            format!(
                "it keeps what it has applied in a table of {engine}, which does not belong to the moment of a snapshot"
            ),
            "ALTER TABLE mysql.gtid_slave_pos ENGINE = InnoDB, with its links switched off",
        ));
    }
    let rows: Vec<(u32, u32, u64)> = session
        .rows("read what it has applied, as of the copy", queries::APPLIED_AT_SNAPSHOT, ())
        .map_err(|fault| ReadFault {
            advice: "the account that carries plans out needs SELECT on mysql.gtid_slave_pos there"
                .to_owned(),
            ..fault
        })?;
    let parts = rows.into_iter().map(|(domain, server, at)| (domain, (server, at)));
    Ok(Position::Gtid(parts.collect()))
}

impl GiveCopy for MariaDbGiver {
    fn moment(&mut self, _tables: &[String]) -> Result<CopyMoment, ReadFault> {
        let mut session = MariaDbSession::open(&self.access)?;
        session.run("let it take its time", NO_TIME_LIMITS)?;
        let unknown = |what: String| {
            ReadFault::new(
                format!("{} does not tell the position of a snapshot: {what}", self.access.shown()),
                "it needs a binary log, and the account BINLOG MONITOR",
            )
        };
        let log = session.moment().ok_or_else(|| unknown("it keeps no binary log".to_owned()))?;
        let value = |name: &str| {
            log.iter().find(|(of, _)| of.eq_ignore_ascii_case(name)).map(|(_, value)| value.clone())
        };
        let place = value("Binlog_snapshot_file").zip(value("Binlog_snapshot_position"));
        let (file, at) = place.ok_or_else(|| unknown("it names no file".to_owned()))?;
        let at: u64 = at.parse().map_err(|_| unknown(format!("{at} is no place in a file")))?;
        let found: Vec<Option<String>> = session.rows(
            "read the position of the copy",
            "SELECT BINLOG_GTID_POS(?, ?)",
            (file, at),
        )?;
        let logged = found.into_iter().flatten().next();
        let logged = logged.ok_or_else(|| unknown("its log has no such place".to_owned()))?;
        let logged = position::gtids(&logged).map_err(|error| unknown(error.to_string()))?;
        let moment = logged.with(&applied(&mut session)?);
        self.session = Some(session);
        let own = moment.ok_or_else(|| unknown("it is none".to_owned()))?.to_string();
        Ok(CopyMoment { own, others: BTreeMap::new() })
    }

    fn give(
        &mut self,
        table: &str,
        columns: &[String],
        deliver: &mut DeliverRows<'_>,
    ) -> Result<(), ReadFault> {
        let access = self.access.clone();
        let session = self.session.as_mut().ok_or_else(ReadFault::interrupted)?;
        session.usable()?;
        let (_, local) = shape::look(session, table)?;
        let takes = takes(&local, table, columns)?;
        let doing = format!("copy table {table}");
        let names: Vec<String> = columns.iter().map(|name| quoted(name)).collect();
        let sql = format!("SELECT {} FROM {}", names.join(", "), local.name);
        let mut rows = match session.connection.exec_iter(sql, ()) {
            Ok(rows) => rows,
            Err(error) => return Err(failed(&access, &mut session.given_up, &doing, &error)),
        };
        let mut chunk = RowChunk::default();
        let mut ended = Ok(());
        for row in rows.by_ref() {
            let row = match row {
                Ok(row) => row,
                Err(error) => {
                    ended = Err(Ok(error));
                    break;
                }
            };
            for (i, take) in takes.iter().enumerate() {
                put(&mut chunk.bytes, *take, row.as_ref(i).unwrap_or(&Cell::NULL));
            }
            chunk.rows += 1;
            if chunk.bytes.len() >= cells::CHUNK
                && let Err(fault) = deliver(std::mem::take(&mut chunk))
            {
                ended = Err(Err(fault));
                break;
            }
        }
        match ended {
            Ok(()) => drop(rows),
            Err(error) => {
                // Dropping it would read all the rest of it first.
                std::mem::forget(rows);
                session.given_up = Some(ReadFault::interrupted());
                return Err(match error {
                    Ok(error) => failed(&access, &mut session.given_up, &doing, &error),
                    Err(fault) => fault,
                });
            }
        }
        match chunk.rows {
            0 => Ok(()),
            _ => deliver(chunk),
        }
    }
}

/// How the columns of a table are taken.
fn takes(local: &MariaDbLayout, table: &str, columns: &[String]) -> Result<Vec<Take>, ReadFault> {
    let take = |name: &String| {
        let found = local.columns.iter().find(|(column, _)| column == name).map(|(_, take)| *take);
        found.ok_or_else(|| ReadFault::new(format!("{table} has no column {name}"), "plan again"))
    };
    columns.iter().map(take).collect()
}

/// Adds a cell as a statement can spell it again.
fn put(out: &mut Vec<u8>, take: Take, cell: &Cell) {
    let text = |out: &mut Vec<u8>, text: String| cells::put(out, CellKind::Text, text.as_bytes());
    let number =
        |out: &mut Vec<u8>, text: String| cells::put(out, CellKind::Number, text.as_bytes());
    match cell {
        Cell::NULL => cells::put(out, CellKind::Null, b""),
        Cell::Int(value) => number(out, value.to_string()),
        Cell::UInt(value) => number(out, value.to_string()),
        // With an exponent it is a double; the shortest text of a single float is that float again.
        Cell::Float(value) => number(out, format!("{value:e}")),
        Cell::Double(value) => number(out, format!("{value:e}")),
        Cell::Bytes(bytes) => {
            let kind = match take {
                Take::Number | Take::Decimal => CellKind::Number,
                Take::Bytes | Take::Bits(_) | Take::BitsNumber => CellKind::Bytes,
                _ => CellKind::Text,
            };
            cells::put(out, kind, bytes);
        }
        Cell::Date(year, month, day, ..) if take == Take::Date => {
            text(out, format!("{year:04}-{month:02}-{day:02}"));
        }
        Cell::Date(year, month, day, hour, minute, second, micros) => text(
            out,
            format!("{year:04}-{month:02}-{day:02} {hour:02}:{minute:02}:{second:02}.{micros:06}"),
        ),
        Cell::Time(negative, days, hours, minutes, seconds, micros) => {
            let sign = if *negative { "-" } else { "" };
            let hours = u64::from(*days) * 24 + u64::from(*hours);
            text(out, format!("{sign}{hours:02}:{minutes:02}:{seconds:02}.{micros:06}"));
        }
    }
}

/// A MariaDB server that takes tables of another over.
#[derive(Debug)]
pub struct MariaDbTaker {
    writer: MariaDbWriter,
    tables: HashMap<String, String>,
}

/// Rows are taken as the source has them, also where a rule of the table is younger than they are.
const SETTINGS: &str = "SET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_AUTO_VALUE_ON_ZERO,ANSI_QUOTES,PIPES_AS_CONCAT,NO_BACKSLASH_ESCAPES,ALLOW_INVALID_DATES', SESSION check_constraint_checks = 0";

/// Only then emptying a table locks the gaps between its rows, too.
const LOCKS_GAPS: &str = "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ";

/// A transaction lasts as long as it takes, whatever the server allows.
const NO_TIME_LIMITS: &str = "SET SESSION max_statement_time = 0, SESSION idle_transaction_timeout = 0, \
    SESSION idle_readonly_transaction_timeout = 0, SESSION idle_write_transaction_timeout = 0";

impl MariaDbTaker {
    /// Logs in.
    ///
    /// # Errors
    /// As [`MariaDbWriter::open`].
    pub fn open(access: &Access) -> Result<Self, ReadFault> {
        let mut writer = MariaDbWriter::open(access)?;
        for statement in [SETTINGS, LOCKS_GAPS, NO_TIME_LIMITS] {
            writer.session.run("prepare the session", statement)?;
        }
        Ok(Self { writer, tables: HashMap::new() })
    }

    /// A table's name as statements spell it.
    fn named(&mut self, table: &str) -> Result<String, ReadFault> {
        if let Some(name) = self.tables.get(table) {
            return Ok(name.clone());
        }
        let (_, local) = shape::look(&mut self.writer.session, table)?;
        self.tables.insert(table.to_owned(), local.name.clone());
        Ok(local.name)
    }
}

impl TakeCopy for MariaDbTaker {
    fn batch(&mut self) -> &mut dyn WriteSteps {
        &mut self.writer
    }

    /// Taking all rows out locks every gap between them, too: nobody can insert before the end. What was there can
    /// still be read.
    fn begin(&mut self, mark: BatchMark, tables: &[String]) -> Result<bool, ReadFault> {
        let names: Result<Vec<String>, ReadFault> =
            tables.iter().map(|table| self.named(table)).collect();
        self.writer.begin(Some(mark))?;
        let mut held = 0;
        for name in names? {
            self.writer.session.run("lock and empty a table", &format!("DELETE FROM {name}"))?;
            held += self.writer.session.connection.affected_rows();
        }
        Ok(held > 0)
    }

    fn empty(&mut self, _table: &str) -> Result<(), ReadFault> {
        Ok(()) // it is, from the beginning on
    }

    fn take(&mut self, table: &str, columns: &[String], rows: &RowChunk) -> Result<(), ReadFault> {
        let names: Vec<String> = columns.iter().map(|name| quoted(name)).collect();
        let head = format!("INSERT INTO {} ({}) VALUES ", self.named(table)?, names.join(", "));
        let mut sql = Vec::with_capacity(head.len() + rows.bytes.len() * 2);
        sql.extend(head.as_bytes());
        for (at, (kind, cell)) in Cells::of(rows).enumerate() {
            sql.extend(match at % columns.len() {
                0 if at == 0 => &b"("[..],
                0 => b"),(",
                _ => b",",
            });
            spell(&mut sql, kind, cell);
        }
        sql.push(b')');
        let sql = String::from_utf8(sql).map_err(|_| {
            ReadFault::new(format!("a text of {table} is no text"), "mend it at the source first")
        })?;
        self.writer.session.usable()?;
        let access = self.writer.session.access().clone();
        let session = &mut self.writer.session;
        session.connection.query_drop(sql).map_err(|error| {
            failed(&access, &mut session.given_up, "put rows into a table", &error)
        })
    }

    /// The server does that itself when a row names its number.
    fn raise_counters(&mut self, _table: &str) -> Result<(), ReadFault> {
        Ok(())
    }
}

/// A cell as a statement spells it, where a backslash is one.
fn spell(sql: &mut Vec<u8>, kind: CellKind, cell: &[u8]) {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    match kind {
        CellKind::Null => sql.extend(b"NULL"),
        CellKind::Number => sql.extend(cell),
        CellKind::Text => {
            sql.push(b'\'');
            for byte in cell {
                if *byte == b'\'' {
                    sql.push(b'\'');
                }
                sql.push(*byte);
            }
            sql.push(b'\'');
        }
        CellKind::Bytes => {
            sql.extend(b"x'");
            for byte in cell {
                sql.push(DIGITS[usize::from(byte >> 4)]);
                sql.push(DIGITS[usize::from(byte & 15)]);
            }
            sql.push(b'\'');
        }
    }
}
