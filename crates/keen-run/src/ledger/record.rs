//! The notes that a run keeps.

use std::collections::BTreeMap;
use std::time::Duration;

use keen_core::links::{Flow, Trend};
use keen_core::observe::links::{Baseline, Marks, Micros, Observations};
use keen_core::observe::position::Gap;
use keen_core::topology::{NodeId, Topology};

use super::Proof;

/// A run.
#[derive(Debug, Clone)]
pub struct LedgerRun<'a> {
    /// The command.
    pub command: &'a str,
    /// The name of the topology.
    pub topology: &'a str,
    /// When it began.
    pub started: Micros,
    /// How long it took.
    pub took: Duration,
    /// Its exit code.
    pub exit: u8,
    /// The result in a sentence.
    pub summary: &'a str,
}

/// A table of an audit, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Audited {
    /// The set.
    pub set: String,
    /// The table.
    pub table: String,
    /// The result of a run.
    pub verdict: String,
    /// Rows read on all nodes.
    pub rows: u64,
    /// Rows that are settled and differ.
    pub divergent: u64,
    /// Rows that were still on their way.
    pub in_flight: u64,
    /// Rows that were being written to.
    pub moving: u64,
    /// Rows that were equal at a second look.
    pub healed: u64,
}

/// A conflict, as it is kept: once, however often it is found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Raced {
    /// Its name, by which it is told from others: its kind, its subject, and its first transaction.
    pub name: String,
    /// Its table.
    pub table: String,
    /// Its kind.
    pub kind: String,
    /// Whether it is proven.
    pub proven: bool,
    /// Its standing when it was last seen.
    pub standing: String,
    /// Writes that are lost.
    pub lost: usize,
    /// When its last write was made.
    pub at: Option<Micros>,
}

/// A finding of a run, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptFinding {
    /// How bad it is.
    pub level: String,
    /// The check.
    pub name: String,
    /// The nodes, separated by commas.
    pub nodes: String,
    /// The finding.
    pub found: String,
}

/// A look at a node, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptLook {
    /// The node.
    pub node: String,
    /// When it was looked at.
    pub at: Micros,
    /// Why it told nothing, if so.
    pub fault: Option<String>,
    /// The part that a later look is held against, if it told anything.
    pub baseline: Option<Baseline>,
    /// Applications had written there since the look before.
    pub wrote: bool,
    /// Tables that were seen to change, and when.
    pub changed: BTreeMap<String, Micros>,
}

/// A link, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptLink {
    /// Where it comes from, if that is known.
    pub source: Option<String>,
    /// Where it leads, if that is known.
    pub receiver: Option<String>,
    /// Its name on the node.
    pub name: Option<String>,
    /// The tables that are meant; none means all that it carries.
    pub tables: Vec<String>,
    /// How it is.
    pub state: String,
    /// Why.
    pub reason: String,
    /// The part that it lacks, in `unit`.
    pub gap: Option<u64>,
    /// The unit that is counted.
    pub unit: Option<String>,
    /// How late it is, in milliseconds.
    pub late_ms: Option<i64>,
    /// Whither the backlog goes.
    pub trend: Option<String>,
    /// When the backlog will be gone, in milliseconds.
    pub done_ms: Option<i64>,
    /// Something was applied between the looks.
    pub moved: bool,
    /// When both ends were last looked at.
    pub seen: Option<Micros>,
}

/// How far journals were read by a run over certain nodes and tables.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct JournalsRead {
    /// The nodes and tables, as the ledger tells such runs apart.
    pub scope: String,
    /// The state that the next run goes on from.
    pub handed_on: Vec<u8>,
}

/// The notes that a run keeps besides itself: all of them or none.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RunRecord {
    /// Looks at nodes.
    pub looks: Vec<KeptLook>,
    /// Links.
    pub links: Vec<KeptLink>,
    /// Tables of an audit.
    pub audited: Vec<Audited>,
    /// Findings.
    pub findings: Vec<KeptFinding>,
    /// Conflicts, each kept once: one that was found before is brought up to date, unless this run could not
    /// read what came of it.
    pub conflicts: Vec<Raced>,
    /// Proofs; one that is kept already stays where it says more.
    pub proofs: Vec<Proof>,
    /// How far journals were read, in place of what an earlier run over the same nodes and tables kept.
    pub journals_read: Option<JournalsRead>,
}

impl RunRecord {
    /// A look at the links and what it came to.
    #[must_use]
    pub fn of_flow(
        topology: &Topology,
        before: &Marks,
        observations: &Observations,
        flow: &Flow,
    ) -> Self {
        let name = |node: NodeId| topology.nodes[node].name.clone();
        let looks = observations.iter().map(|(node, observation)| {
            let mark = observation.mark();
            let touched = mark.iter().flat_map(|mark| &mark.touched);
            let changed = touched.filter_map(|(table, count)| {
                let then = before.get(node).and_then(|mark| mark.touched.get(table));
                let moved = then.is_some_and(|then| then != count);
                let told =
                    observation.snapshot().and_then(|snapshot| snapshot.touched.get(table)?.at);
                Some((table.clone(), told.or(moved.then_some(observation.at))?))
            });
            KeptLook {
                node: name(*node),
                at: observation.at,
                fault: observation.snapshot.as_ref().err().map(|fault| fault.what.clone()),
                wrote: flow.nodes.get(node).is_some_and(|flow| {
                    use keen_core::links::Wrote::{Something, Transactions};
                    matches!(flow.wrote, Transactions(1..) | Something)
                }),
                changed: changed.collect(),
                baseline: mark.map(lasting),
            }
        });
        let ms = |time: Duration| i64::try_from(time.as_millis()).unwrap_or(i64::MAX);
        let links = flow.links.iter().map(|link| KeptLink {
            source: link.from.map(name),
            receiver: link.to.map(name),
            name: link.name.clone(),
            tables: link.tables.clone(),
            state: link.state.name().to_owned(),
            reason: link.reason.clone(),
            gap: link.gap.map(Gap::size),
            unit: link.gap.map(|gap| Gap::unit(gap).to_owned()),
            late_ms: link.late.map(|late| ms(late.by)),
            trend: link.trend.map(|trend| Trend::name(trend).to_owned()),
            done_ms: match link.trend {
                Some(Trend::Draining(time)) => Some(ms(time)),
                _ => None,
            },
            moved: link.moved,
            seen: link.seen,
        });
        Self { looks: looks.collect(), links: links.collect(), ..Self::default() }
    }
}

/// The part of a look that is of use to later runs.
fn lasting(look: Baseline) -> Baseline {
    Baseline {
        at: look.at,
        position: look.position,
        own: look.own,
        standby: look.standby,
        touched: look.touched,
        inflows: look.inflows,
        outlets: look.outlets,
        counted_since: look.counted_since,
        ..Baseline::default()
    }
}
