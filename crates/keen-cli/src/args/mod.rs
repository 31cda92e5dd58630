//! Arguments, as typed.

use std::path::PathBuf;
use std::time::Duration;

use clap::{ArgAction, Args, Parser, Subcommand, ValueEnum};
use keen_core::conflict::ConflictKind;
use keen_core::observe::position::Position;
use keen_core::row::digest::DigestFunction;
use keen_core::topology::Engine;
use keen_run::audit::Rate;

// Groups of options in the help.
const LOOK_AT: &str = "What to look at";
const TIME: &str = "How long to wait";
const OUTPUT: &str = "What to write";

/// Check multi-master, peer-to-peer and publish-subscribe topologies for divergence.
///
/// keen only reads. It opens nodes read-only. Four commands write, and say so first: `mend` (the steps of a plan),
/// `probe` (a row that it takes away again), `flow --beat` (a row per node) and `demo` (files of its own).
#[derive(Debug, Parser)]
#[command(name = "keen", version, max_term_width = 100, disable_help_subcommand = true)]
#[command(after_long_help = "\
Exit codes:
  0    everything was checked and all agree
  1    something was found
  2    the request or a file is wrong
  3    not everything could be checked, and nothing was found in what was
  130  interrupted")]
pub(crate) struct Cli {
    /// The command.
    #[command(subcommand)]
    pub(crate) command: Command,

    /// When to use colours.
    #[arg(long, global = true, value_enum, default_value_t, value_name = "WHEN", help_heading = OUTPUT)]
    pub(crate) color: Color,

    /// Say more about what is done, on standard error; twice for everything.
    #[arg(long, short, global = true, action = ArgAction::Count, help_heading = OUTPUT)]
    pub(crate) verbose: u8,
}

/// When to use colours.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub(crate) enum Color {
    /// On a terminal, unless NO_COLOR is set.
    #[default]
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Write a topology file to start from.
    Init(InitArgs),
    /// Check whether the topology is fit to replicate: nodes, rights, settings, clocks, tables, links.
    Preflight(PreflightArgs),
    /// Show the state of every link: whether it carries, how late it is, and why not.
    Flow(FlowArgs),
    /// Compare every row on all nodes.
    Audit(AuditArgs),
    /// Find writes that raced, and lost writes, in the nodes' journals.
    Conflicts(ConflictsArgs),
    /// Plan the repair of divergent rows, step by step. Changes nothing.
    Plan(PlanArgs),
    /// Carry out a plan, or take it back: row by row, each guarded, out of replication. Writes to nodes.
    Mend(MendArgs),
    /// Write a marked row at each written node and watch it arrive everywhere; or wait for a node to catch up.
    Probe(ProbeArgs),
    /// Show earlier runs, or how a link or a table did over time.
    History(HistoryArgs),
    /// Explain what keen prints: checks, states of links, kinds of conflicts, words.
    Explain(ExplainArgs),
    /// Make a network of refuge huts that went wrong, audit it and plan its repair.
    Demo(DemoArgs),
    /// Print shell completions, or write the man pages.
    Completions(CompletionsArgs),
}

#[derive(Debug, Args)]
pub(crate) struct InitArgs {
    /// The shape of the topology.
    #[arg(value_enum)]
    pub(crate) shape: InitShape,

    /// Where to write it. A file that is there is never overwritten.
    #[arg(long, short, value_name = "FILE", default_value = "keen.toml", help_heading = OUTPUT)]
    pub(crate) output: PathBuf,
}

/// Shapes that `init` knows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum InitShape {
    /// Peers that all write, each linked to each.
    Mesh,
    /// Peers that all write, each linked to the next.
    Ring,
    /// One publisher, several subscribers.
    Star,
    /// Several sites that flow into one hub.
    Hub,
    /// A publisher, a relay that passes on, and a subscriber behind it.
    Chain,
}

/// Which nodes and tables, and how they are read.
#[derive(Debug, Args)]
pub(crate) struct ScopeArgs {
    /// The topology file.
    #[arg(long, short, value_name = "FILE", default_value = "keen.toml", help_heading = LOOK_AT)]
    pub(crate) topology: PathBuf,

    /// Only these nodes (repeat, or separate by commas).
    #[arg(long = "node", short, value_name = "NODE", value_delimiter = ',', help_heading = LOOK_AT)]
    pub(crate) nodes: Vec<String>,

    /// Read only this table (repeat for more).
    #[arg(long = "table", value_name = "TABLE", help_heading = LOOK_AT)]
    pub(crate) tables: Vec<String>,

    /// Leave this table out (repeat for more).
    #[arg(long, value_name = "TABLE", conflicts_with = "tables", help_heading = LOOK_AT)]
    pub(crate) exclude: Vec<String>,

    /// The digest by which rows are compared.
    #[arg(long, value_enum, default_value_t, value_name = "FUNCTION")]
    pub(crate) digest: DigestChoice,

    /// How long to wait for a lock, and for a connection.
    #[arg(long = "connect-timeout", value_name = "DURATION", default_value = "5s", value_parser = duration, help_heading = TIME)]
    pub(crate) wait: Duration,

    /// Give up on a server that sends nothing for this long while an answer is due.
    #[arg(long = "idle-timeout", value_name = "DURATION", default_value = "30s", value_parser = duration, help_heading = TIME)]
    pub(crate) silence: Duration,

    /// For up to this long, read rows that differ again, once every node has applied what was written before; 0s
    /// counts what differs at the first look.
    #[arg(long, value_name = "DURATION", default_value = "30s", value_parser = duration, help_heading = TIME)]
    pub(crate) patience: Duration,

    /// Read segments of a table over this many sessions in parallel, where a node has cores to spare.
    #[arg(long, value_name = "N", default_value = "1", value_parser = clap::value_parser!(u8).range(1..=32))]
    pub(crate) threads: u8,

    /// Read no faster than this from each node: rows or bytes a second, like 50000rows or 20MiB.
    #[arg(long, value_name = "RATE", value_parser = rate)]
    pub(crate) rate: Option<Rate>,
}

fn rate(text: &str) -> Result<Rate, String> {
    let text = text.trim().trim_end_matches("/s");
    let number =
        |digits: &str| digits.trim().replace('_', "").parse::<u64>().ok().filter(|n| *n > 0);
    let rows = text.strip_suffix("rows").map(|digits| number(digits).map(Rate::Rows));
    let bytes = || keen_core::units::read_size(text).map(Rate::Bytes);
    rows.unwrap_or_else(bytes).ok_or_else(|| {
        "write rows or bytes a second, such as 50000rows, 500KiB or 20MiB".to_owned()
    })
}

fn duration(text: &str) -> Result<Duration, String> {
    // Longer waits than this do not fit into what servers and files take.
    const LONGEST: Duration = Duration::from_secs(7 * 86_400);
    let found = humantime::parse_duration(text)
        .map_err(|_| "write a number and a unit, such as 500ms, 5s or 1m".to_owned())?;
    if found > LONGEST { Err("seven days (7d) is the longest".to_owned()) } else { Ok(found) }
}

/// Digest functions.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub(crate) enum DigestChoice {
    /// XXH3, 128 bits: the fastest; not cryptographic.
    #[default]
    Xxh3,
    /// MD5, which servers can compute too.
    Md5,
    /// BLAKE3, 128 bits of it: cryptographic.
    Blake3,
}

impl From<DigestChoice> for DigestFunction {
    fn from(digest: DigestChoice) -> Self {
        match digest {
            DigestChoice::Xxh3 => Self::Xxh3,
            DigestChoice::Md5 => Self::Md5,
            DigestChoice::Blake3 => Self::Blake3,
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct PreflightArgs {
    /// The topology file.
    #[arg(long, short, value_name = "FILE", default_value = "keen.toml", help_heading = LOOK_AT)]
    pub(crate) topology: PathBuf,

    /// Only these nodes (repeat, or separate by commas).
    #[arg(long = "node", short, value_name = "NODE", value_delimiter = ',', help_heading = LOOK_AT)]
    pub(crate) nodes: Vec<String>,

    /// Look only at this table (repeat for more).
    #[arg(long = "table", value_name = "TABLE", help_heading = LOOK_AT)]
    pub(crate) tables: Vec<String>,

    /// Leave this table out (repeat for more).
    #[arg(long, value_name = "TABLE", conflicts_with = "tables", help_heading = LOOK_AT)]
    pub(crate) exclude: Vec<String>,

    /// Look only at the tables: columns, their order and types, keys, triggers.
    #[arg(long, help_heading = LOOK_AT)]
    pub(crate) shape: bool,

    /// Show each finding in full, also those that are alike.
    #[arg(long, help_heading = LOOK_AT)]
    pub(crate) all: bool,

    /// Print the statements that declare the tables of this node anew, for the engine named by --for.
    #[arg(long, value_name = "NODE", requires = "engine", conflicts_with_all = ["nodes", "shape", "join", "format"])]
    pub(crate) derive: Option<String>,

    /// The engine to declare them for.
    #[arg(long = "for", id = "engine", value_enum, value_name = "ENGINE", requires = "derive")]
    pub(crate) engine: Option<EngineName>,

    /// Say what overwriting this node would lose, and how to seed it from the node named by --from.
    #[arg(long, value_name = "NODE", requires = "from", conflicts_with_all = ["nodes", "shape"])]
    pub(crate) join: Option<String>,

    /// The node to seed from.
    #[arg(long, value_name = "NODE", requires = "join")]
    pub(crate) from: Option<String>,

    /// With --join: the position that a snapshot was taken at; is there log enough to start from it?
    #[arg(long = "snapshot", value_name = "POSITION", requires = "join", help_heading = LOOK_AT)]
    pub(crate) since: Option<String>,

    /// How long each step to a node may take: its name, its port, its login, an answer.
    #[arg(long = "connect-timeout", value_name = "DURATION", default_value = "5s", value_parser = duration, help_heading = TIME)]
    pub(crate) wait: Duration,

    #[command(flatten)]
    pub(crate) ledger: LedgerArgs,

    /// How the result is written.
    #[arg(long, short, value_enum, default_value_t, value_name = "FORMAT", help_heading = OUTPUT)]
    pub(crate) format: ReportFormat,

    /// Write the result to a file instead of standard output.
    #[arg(long, short, value_name = "FILE", help_heading = OUTPUT)]
    pub(crate) output: Option<PathBuf>,
}

/// Formats of a report.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub(crate) enum ReportFormat {
    /// For people.
    #[default]
    Text,
    /// One JSON document (docs/json.md).
    Json,
}

/// Engines that tables can be declared for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum EngineName {
    /// PostgreSQL.
    Postgresql,
    /// MariaDB.
    Mariadb,
    /// SQLite.
    Sqlite,
}

impl From<EngineName> for Engine {
    fn from(name: EngineName) -> Self {
        match name {
            EngineName::Postgresql => Self::Postgres,
            EngineName::Mariadb => Self::MariaDb,
            EngineName::Sqlite => Self::Sqlite,
        }
    }
}

/// Where a run keeps what it saw.
#[derive(Debug, Args)]
pub(crate) struct LedgerArgs {
    /// The file in which keen keeps what this run saw [default: beside the topology file, ending in .ledger].
    #[arg(long, value_name = "FILE", conflicts_with = "no_ledger", help_heading = OUTPUT)]
    pub(crate) ledger: Option<PathBuf>,

    /// Neither keep what this run saw, nor use what earlier runs kept.
    #[arg(long, help_heading = OUTPUT)]
    pub(crate) no_ledger: bool,
}

#[derive(Debug, Args)]
pub(crate) struct FlowArgs {
    /// Show only the links of this node in full, or only one link, written FROM:TO.
    #[arg(value_name = "NODE|FROM:TO")]
    pub(crate) shown: Option<String>,

    /// The topology file.
    #[arg(long, short, value_name = "FILE", default_value = "keen.toml", help_heading = LOOK_AT)]
    pub(crate) topology: PathBuf,

    /// Only these nodes (repeat, or separate by commas).
    #[arg(long = "node", short, value_name = "NODE", value_delimiter = ',', help_heading = LOOK_AT)]
    pub(crate) nodes: Vec<String>,

    /// Before the first look and before the second set each written node's row in the table of heartbeats
    /// to now: the only thing that this command writes.
    #[arg(long, conflicts_with = "ddl")]
    pub(crate) beat: bool,

    /// Print the statements that create the table of heartbeats, for each node, and do nothing.
    #[arg(long)]
    pub(crate) ddl: bool,

    /// From the first look to the second; 0s looks once and holds it against the ledger's last look.
    #[arg(long = "interval", value_name = "DURATION", default_value = "5s", value_parser = duration, help_heading = TIME)]
    pub(crate) between: Duration,

    /// How long to wait for a connection, and for an answer.
    #[arg(long = "connect-timeout", value_name = "DURATION", default_value = "5s", value_parser = duration, help_heading = TIME)]
    pub(crate) wait: Duration,

    #[command(flatten)]
    pub(crate) ledger: LedgerArgs,

    /// How the result is written.
    #[arg(long, short, value_enum, default_value_t, value_name = "FORMAT", help_heading = OUTPUT)]
    pub(crate) format: ReportFormat,

    /// Write the result to a file instead of standard output.
    #[arg(long, short, value_name = "FILE", help_heading = OUTPUT)]
    pub(crate) output: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct ProbeArgs {
    /// The topology file.
    #[arg(long, short, value_name = "FILE", default_value = "keen.toml", help_heading = LOOK_AT)]
    pub(crate) topology: PathBuf,

    /// The table for the row; a set of the topology file has to carry it.
    #[arg(long, value_name = "TABLE", default_value = keen_core::engine::service_tables::TABLE, help_heading = LOOK_AT)]
    pub(crate) table: String,

    /// Write only at this node (repeat, or separate by commas); with --seen or --now, whose writes are meant.
    #[arg(long, value_name = "NODE", value_delimiter = ',')]
    pub(crate) from: Vec<String>,

    /// Print the statements that create the table, for each node, and do nothing.
    #[arg(long, conflicts_with_all = ["create", "seen", "now"])]
    pub(crate) ddl: bool,

    /// Create the table where it is missing, before anything is written.
    #[arg(long, conflicts_with_all = ["seen", "now"])]
    pub(crate) create: bool,

    /// Write nothing: wait until the node named by --at has applied everything up to this position.
    #[arg(long, value_name = "POSITION", requires = "at", conflicts_with = "now")]
    pub(crate) seen: Option<String>,

    /// Write nothing: wait until the node named by --at has applied everything that is written by now.
    #[arg(long, requires = "at")]
    pub(crate) now: bool,

    /// The node that is waited for.
    #[arg(long, value_name = "NODE", help_heading = LOOK_AT)]
    pub(crate) at: Option<String>,

    /// How long to wait for each step.
    #[arg(long = "timeout", value_name = "DURATION", default_value = "10s", value_parser = duration, help_heading = TIME)]
    pub(crate) limit: Duration,

    /// How long to wait for a connection, and for an answer.
    #[arg(long = "connect-timeout", value_name = "DURATION", default_value = "5s", value_parser = duration, help_heading = TIME)]
    pub(crate) wait: Duration,

    #[command(flatten)]
    pub(crate) ledger: LedgerArgs,

    /// How the result is written.
    #[arg(long, short, value_enum, default_value_t, value_name = "FORMAT", help_heading = OUTPUT)]
    pub(crate) format: ReportFormat,
}

#[derive(Debug, Args)]
pub(crate) struct HistoryArgs {
    /// A link, written FROM:TO, or a table; all runs if nothing is named.
    #[arg(value_name = "FROM:TO|TABLE")]
    pub(crate) of: Option<String>,

    /// The topology file.
    #[arg(long, short, value_name = "FILE", default_value = "keen.toml", help_heading = LOOK_AT)]
    pub(crate) topology: PathBuf,

    /// The ledger [default: beside the topology file, ending in .ledger].
    #[arg(long, value_name = "FILE", help_heading = OUTPUT)]
    pub(crate) ledger: Option<PathBuf>,

    /// How many of the last runs.
    #[arg(long, value_name = "N", default_value_t = 20, help_heading = LOOK_AT)]
    pub(crate) last: u32,

    /// How the result is written.
    #[arg(long, short, value_enum, default_value_t, value_name = "FORMAT", help_heading = OUTPUT)]
    pub(crate) format: HistoryFormat,
}

/// Formats of a history.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub(crate) enum HistoryFormat {
    /// For people.
    #[default]
    Text,
    /// One JSON document (docs/json.md).
    Json,
    /// Comma-separated values, for spreadsheets (RFC 4180).
    Csv,
}

#[derive(Debug, Args)]
pub(crate) struct ExplainArgs {
    /// The names or words, as results print them; one of several words in quotes or with dashes.
    #[arg(value_name = "NAME")]
    pub(crate) names: Vec<String>,
}

#[derive(Debug, Args)]
pub(crate) struct AuditArgs {
    #[command(flatten)]
    pub(crate) scope: ScopeArgs,

    #[command(flatten)]
    pub(crate) ledger: LedgerArgs,

    /// How the result is written.
    #[arg(long, short, value_enum, default_value_t, value_name = "FORMAT", help_heading = OUTPUT)]
    pub(crate) format: AuditFormat,

    /// Divergent rows to show per table [default: 10 as text, all as json or ndjson].
    #[arg(long, value_name = "N", help_heading = OUTPUT)]
    pub(crate) show: Option<u64>,

    /// Write the result to a file instead of standard output.
    #[arg(long, short, value_name = "FILE", help_heading = OUTPUT)]
    pub(crate) output: Option<PathBuf>,
}

/// Formats of an audit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub(crate) enum AuditFormat {
    /// For people.
    #[default]
    Text,
    /// One JSON document (docs/json.md).
    Json,
    /// One JSON object per line, as they are found.
    Ndjson,
}

#[derive(Debug, Args)]
pub(crate) struct ConflictsArgs {
    /// The topology file.
    #[arg(long, short, value_name = "FILE", default_value = "keen.toml", help_heading = LOOK_AT)]
    pub(crate) topology: PathBuf,

    /// Read only these nodes (repeat, or separate by commas).
    #[arg(long = "node", short, value_name = "NODE", value_delimiter = ',', help_heading = LOOK_AT)]
    pub(crate) nodes: Vec<String>,

    /// Only this table (repeat for more).
    #[arg(long = "table", value_name = "TABLE", help_heading = LOOK_AT)]
    pub(crate) tables: Vec<String>,

    /// Leave this table out (repeat for more).
    #[arg(long, value_name = "TABLE", conflicts_with = "tables", help_heading = LOOK_AT)]
    pub(crate) exclude: Vec<String>,

    /// Print the statements that let keen read the nodes' journals, for each node, and do nothing.
    #[arg(long, conflicts_with_all = ["key", "format", "kinds"])]
    pub(crate) ddl: bool,

    /// Show the whole life of this row of the table named by --table: its key, cells separated by commas; put a
    /// cell that has a comma in double quotes.
    #[arg(long, value_name = "KEY", requires = "tables", help_heading = LOOK_AT)]
    pub(crate) key: Option<String>,

    /// Accept the conflict of this number as it was found last: looked at, and left as it is. The ledger keeps it
    /// with the reason; what comes of it later is told again.
    #[arg(long, value_name = "ID", requires = "because", conflicts_with_all = ["key", "format", "kinds", "ddl"])]
    pub(crate) accept: Option<String>,

    /// Why it is accepted.
    #[arg(long, value_name = "TEXT", requires = "accept")]
    pub(crate) because: Option<String>,

    /// Show only conflicts of this kind (repeat for more).
    #[arg(long = "kind", value_name = "KIND", value_parser = kind, help_heading = LOOK_AT)]
    pub(crate) kinds: Vec<ConflictKind>,

    /// Show only conflicts in which a write is lost.
    #[arg(long, help_heading = LOOK_AT)]
    pub(crate) lost_only: bool,

    /// Show only conflicts with a write made at this time or later, or numbered above this position.
    #[arg(long, value_name = "TIME|POSITION", value_parser = moment, help_heading = LOOK_AT)]
    pub(crate) since: Option<Moment>,

    /// Show only conflicts with a write made at this time or earlier, or numbered up to this position.
    #[arg(long, value_name = "TIME|POSITION", value_parser = moment, help_heading = LOOK_AT)]
    pub(crate) until: Option<Moment>,

    /// Show only conflicts that no earlier run has found.
    #[arg(long, help_heading = LOOK_AT)]
    pub(crate) new: bool,

    /// Read the journals from their beginning again, not from where the last run got to.
    #[arg(long, help_heading = LOOK_AT)]
    pub(crate) whole: bool,

    /// How long to wait for a lock, and for a connection.
    #[arg(long = "connect-timeout", value_name = "DURATION", default_value = "5s", value_parser = duration, help_heading = TIME)]
    pub(crate) wait: Duration,

    /// Give up on a server that sends nothing for this long while an answer is due.
    #[arg(long = "idle-timeout", value_name = "DURATION", default_value = "30s", value_parser = duration, help_heading = TIME)]
    pub(crate) silence: Duration,

    /// Where a journal cannot be read, do not compare rows and ask those that differ for their last writes.
    #[arg(long, help_heading = LOOK_AT)]
    pub(crate) journals_only: bool,

    /// Read binary logs of MariaDB as this replica number, where a server does not let number 0 read.
    #[arg(long, value_name = "N", default_value_t = 0)]
    pub(crate) reader: u32,

    #[command(flatten)]
    pub(crate) ledger: LedgerArgs,

    /// How the result is written.
    #[arg(long, short, value_enum, default_value_t, value_name = "FORMAT", help_heading = OUTPUT)]
    pub(crate) format: AuditFormat,

    /// Conflicts to show [default: 10 as text, all as json or ndjson].
    #[arg(long, value_name = "N", help_heading = OUTPUT)]
    pub(crate) show: Option<usize>,

    /// Write the result to a file instead of standard output.
    #[arg(long, short, value_name = "FILE", help_heading = OUTPUT)]
    pub(crate) output: Option<PathBuf>,
}

/// A point in what was written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Moment {
    /// In microseconds since 1970, by the clock of whoever wrote.
    Time(i64),
    /// As journals number.
    Position(Position),
}

fn moment(text: &str) -> Result<Moment, String> {
    if let Ok(time) = text.parse::<jiff::Timestamp>() {
        return Ok(Moment::Time(time.as_microsecond()));
    }
    let civil = text.parse::<jiff::civil::DateTime>().or_else(|_| {
        text.parse::<jiff::civil::Date>()
            .map(|date| date.to_datetime(jiff::civil::Time::midnight()))
    });
    if let Ok(time) = civil.and_then(|time| time.to_zoned(jiff::tz::TimeZone::UTC)) {
        return Ok(Moment::Time(time.timestamp().as_microsecond()));
    }
    text.parse().map(Moment::Position).map_err(|_| {
        "write a time in UTC like 2026-09-25 or 2026-09-25T08:30:00Z, or a position like 1-1-100, 0/16B3748 or valley:100"
            .to_owned()
    })
}

fn kind(text: &str) -> Result<ConflictKind, String> {
    let found = ConflictKind::ALL.into_iter().find(|kind| kind.name() == text);
    found.ok_or_else(|| {
        let names: Vec<&str> = ConflictKind::ALL.into_iter().map(ConflictKind::name).collect();
        format!("there is {}", names.join(", "))
    })
}

#[derive(Debug, Args)]
pub(crate) struct PlanArgs {
    #[command(flatten)]
    pub(crate) scope: ScopeArgs,

    /// Plan from this audit (made with --format json) instead of auditing now; --node then chooses the nodes that
    /// are planned for.
    #[arg(long = "audit", value_name = "AUDIT.json", conflicts_with_all = ["digest", "wait", "tables", "exclude"])]
    pub(crate) from: Option<PathBuf>,

    /// What is planned: rows that differ, or what a preflight finds wrong with settings, tables or links (repeat, or
    /// separate by commas).
    #[arg(
        long = "kind",
        value_enum,
        value_name = "KIND",
        value_delimiter = ',',
        default_value = "row"
    )]
    pub(crate) kinds: Vec<PlanKind>,

    /// Of what a preflight finds, only these (repeat, or separate by commas).
    #[arg(long = "finding", value_name = "FINDING", value_delimiter = ',')]
    pub(crate) findings: Vec<String>,

    /// Where this link stopped at a transaction, the receiver does without it: the plan says what it lacks then, and
    /// nothing brings that again (repeat for more links).
    #[arg(long, value_name = "FROM:TO", conflicts_with = "from")]
    pub(crate) pass_over: Vec<String>,

    /// Fill node TO from node FROM, whatever it holds: its tables are copied as of one moment, and its links go on from
    /// there. Nothing else is planned.
    #[arg(long, value_name = "FROM:TO", conflicts_with_all = ["from", "kinds", "findings", "pass_over", "conflicts", "answers", "answered", "ask", "nodes", "tables", "exclude"])]
    pub(crate) seed: Option<String>,

    /// Make a link that the file declares and that is not there, and fill node TO from node FROM (repeat for more links
    /// to or from that node, which is filled from the first). Nothing else is planned.
    #[arg(long, value_name = "FROM:TO", conflicts_with_all = ["from", "kinds", "findings", "pass_over", "seed", "take_apart", "conflicts", "answers", "answered", "ask", "nodes", "tables", "exclude"])]
    pub(crate) link: Vec<String>,

    /// Take links apart: one as FROM:TO, one as its node calls it as NODE/LINK, those of a node, or all (repeat for
    /// more). Nothing else is planned.
    #[arg(long, value_name = "LINK", conflicts_with_all = ["from", "kinds", "findings", "pass_over", "seed", "conflicts", "answers", "answered", "ask", "nodes", "tables", "exclude"])]
    pub(crate) take_apart: Vec<String>,

    /// What goes with the links: publication, origin, service-table, or slot:NAME for a slot that no known link reads
    /// (repeat for more). The plan names what stays.
    #[arg(long, value_name = "WHAT", requires = "take_apart")]
    pub(crate) remove: Vec<String>,

    /// Hand the lead over: applications write to this node instead of the one that it follows, and the others follow it.
    /// Nothing else is planned.
    #[arg(long, value_name = "NODE", conflicts_with_all = ["from", "kinds", "findings", "pass_over", "seed", "link", "take_apart", "conflicts", "answers", "answered", "ask", "nodes", "tables", "exclude"])]
    pub(crate) promote: Option<String>,

    /// The lead is away, and whatever it still takes is given up: nobody has to answer for it that it takes no writes.
    #[arg(long, value_name = "LEAD", requires = "promote")]
    pub(crate) accept_loss: Option<String>,

    /// Read the nodes' journals, too: a row that differs names the writes that raced for it, "latest" is
    /// decided by them, and lost writes are offered back.
    #[arg(long)]
    pub(crate) conflicts: bool,

    /// How the plan is written.
    #[arg(long, short, value_enum, default_value_t, value_name = "FORMAT", help_heading = OUTPUT)]
    pub(crate) format: PlanFormat,

    /// Steps and questions to show [default: as text 20 of rows, all others; json and sql always hold all].
    #[arg(long, value_name = "N", help_heading = OUTPUT)]
    pub(crate) show: Option<usize>,

    /// Plan for at most so many divergent rows; the plan says when there were more.
    #[arg(long, value_name = "ROWS", default_value_t = 100_000)]
    pub(crate) limit: u64,

    /// Where to write the plan: a file, or for sql a folder that gets two scripts per node.
    #[arg(long, short, value_name = "PATH", help_heading = OUTPUT)]
    pub(crate) output: Option<PathBuf>,

    /// Answer a question by its name, those of a table, or all: QUESTION=NODE keeps what that node holds, =lost what
    /// was lost, =merge what each side changed, ={"column": cell} these cells (repeat for more). An answer to several
    /// questions never loses a last copy.
    #[arg(long = "answer", value_name = "QUESTION=CHOICE", conflicts_with = "ask")]
    pub(crate) answers: Vec<String>,

    /// Take the answers from the questions of this plan, which somebody filled in.
    #[arg(long = "answers", value_name = "PLAN", conflicts_with = "ask")]
    pub(crate) answered: Option<PathBuf>,

    /// Ask the questions one by one, on the terminal.
    #[arg(long)]
    pub(crate) ask: bool,

    /// Besides, keep the plan in this file, for keen mend.
    #[arg(long, value_name = "FILE", help_heading = OUTPUT)]
    pub(crate) save: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct MendArgs {
    /// The plan, as keen plan saves it.
    #[arg(value_name = "PLAN", required_unless_present = "undo")]
    pub(crate) plan: Option<PathBuf>,

    /// Take back what was written, by the file that was made for that.
    #[arg(long, value_name = "FILE", conflicts_with = "plan")]
    pub(crate) undo: Option<PathBuf>,

    /// The topology file.
    #[arg(long, short, value_name = "FILE", default_value = "keen.toml", help_heading = LOOK_AT)]
    pub(crate) topology: PathBuf,

    /// Only steps of these nodes (repeat, or separate by commas).
    #[arg(long = "node", short, value_name = "NODE", value_delimiter = ',', help_heading = LOOK_AT)]
    pub(crate) nodes: Vec<String>,

    /// Only these steps, by their numbers in the plan: 7, 7..12, 7.. or ..12.
    #[arg(long = "step", value_name = "N..M", value_parser = steps, help_heading = LOOK_AT)]
    pub(crate) steps: Option<(u64, u64)>,

    /// Do not ask before writing.
    #[arg(long, short)]
    pub(crate) yes: bool,

    /// Try everything, keep nothing: checks guards, rights and constraints.
    #[arg(long)]
    pub(crate) dry_run: bool,

    /// Carry out a plan that is older than [limits] plan, or was made with another topology file. Guards hold all the
    /// same.
    #[arg(long)]
    pub(crate) even_if_stale: bool,

    /// This node takes no writes any more and does not come back by itself: you have seen to it. A plan that promotes
    /// another in its place asks for that (repeat, or separate by commas).
    #[arg(long, value_name = "NODE", value_delimiter = ',')]
    pub(crate) fenced: Vec<String>,

    /// The file that can take it back [default: the plan's name and .undo].
    #[arg(long, value_name = "FILE", conflicts_with_all = ["undo", "dry_run"], help_heading = OUTPUT)]
    pub(crate) undo_file: Option<PathBuf>,

    /// Write no faster than so many rows a second.
    #[arg(long, value_name = "ROWS", value_parser = clap::value_parser!(u64).range(1..))]
    pub(crate) rate: Option<u64>,

    /// So many rows at most are written in one transaction.
    #[arg(long, value_name = "ROWS", default_value = "500", value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) batch: u16,

    /// How long to wait for a lock that somebody else holds.
    #[arg(long, value_name = "DURATION", default_value = "5s", value_parser = duration, help_heading = TIME)]
    pub(crate) lock_timeout: Duration,

    /// How long to wait for a connection.
    #[arg(long = "connect-timeout", value_name = "DURATION", default_value = "5s", value_parser = duration, help_heading = TIME)]
    pub(crate) wait: Duration,

    /// Give up on a server that sends nothing for this long while an answer is due.
    #[arg(long = "idle-timeout", value_name = "DURATION", default_value = "30s", value_parser = duration, help_heading = TIME)]
    pub(crate) silence: Duration,

    /// For up to this long, look again at rows that were written, once every node has applied what was written before.
    #[arg(long, value_name = "DURATION", default_value = "30s", value_parser = duration, help_heading = TIME)]
    pub(crate) patience: Duration,

    #[command(flatten)]
    pub(crate) ledger: LedgerArgs,

    /// How the result is written.
    #[arg(long, short, value_enum, default_value_t, value_name = "FORMAT", help_heading = OUTPUT)]
    pub(crate) format: ReportFormat,

    /// Write the result to a file instead of standard output.
    #[arg(long, short, value_name = "FILE", help_heading = OUTPUT)]
    pub(crate) output: Option<PathBuf>,
}

fn steps(text: &str) -> Result<(u64, u64), String> {
    let number = |text: &str, none: u64| match text.trim() {
        "" => Some(none),
        text => text.parse().ok(),
    };
    let range = match text.split_once("..") {
        Some((from, to)) => number(from, 1).zip(number(to, u64::MAX)),
        None => text.trim().parse().ok().map(|step: u64| (step, step)),
    };
    range.filter(|(from, to)| from <= to).ok_or_else(|| "write 7, 7..12, 7.. or ..12".to_owned())
}

/// Kinds of steps that can be planned.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum PlanKind {
    /// Rows that differ.
    Row,
    /// Settings of servers.
    Setting,
    /// Tables.
    Shape,
    /// Links, and what their sources publish.
    Link,
}

/// Formats of a plan.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub(crate) enum PlanFormat {
    /// For people.
    #[default]
    Text,
    /// One JSON document (docs/json.md).
    Json,
    /// One JSON object per line.
    Ndjson,
    /// One script per node to review and run, and one to undo it.
    Sql,
}

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// The folder to make it in; it must be empty or not exist yet [default: a fresh one].
    #[arg(long, short, value_name = "DIR")]
    pub(crate) dir: Option<PathBuf>,

    /// The seed of the story; the same seed makes the same rows.
    #[arg(long, value_name = "N", default_value_t = 7)]
    pub(crate) seed: u64,
}

#[derive(Debug, Args)]
pub(crate) struct CompletionsArgs {
    /// The shell to complete for.
    #[arg(value_enum, required_unless_present = "man")]
    pub(crate) shell: Option<clap_complete::Shell>,

    /// Write the man pages into this folder instead.
    #[arg(long, value_name = "DIR", conflicts_with = "shell")]
    pub(crate) man: Option<PathBuf>,
}
