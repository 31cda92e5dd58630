//! Flow: is every link carrying, how late, why not.
//!
//! Each link gets one [`LinkState`], decided from two looks and never from one number: where the source
//! was at the first look is a mark that the receiver has passed at the second, or has not. Not having
//! passed it, it moved or stood still; standing still, it waits for something, was switched off, or
//! stopped at an error. What could not be seen stays `dark`, and nothing is claimed of it.
//!
//! - [`look`]: what adapters bring.
//! - [`legend`]: the states.
//! - [`fence`]: whether nodes have passed a mark.
//! - [`onward`]: where what a repair writes goes on to.
//! - [`owed`]: what a link that stands still has not brought.

pub mod fence;
pub mod legend;
mod match_links;
mod nodes;
pub mod onward;
pub mod owed;
pub mod passing_over;
pub(crate) mod state;

use crate::fault::ReadFault;
use std::collections::BTreeMap;
use std::time::Duration;

use crate::observe::node::ReplicationKind;
use crate::observe::position::{Gap, Position};
use crate::topology::{NodeId, Topology};

use crate::observe::links::{Holder, Inflow, Marks, Micros, Observations, ReceiverError};
pub use legend::LinkState;

/// The result of two looks at the links.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Flow {
    /// The links, in the order of the file; what the file does not declare comes last.
    pub links: Vec<LinkFlow>,
    /// The nodes.
    pub nodes: BTreeMap<NodeId, NodeFlow>,
    /// Notes on who writes.
    pub writing: Vec<WriterRemark>,
    /// Who has applied how much of whose writes: by node and origin, what the node lacks.
    pub applied: BTreeMap<(NodeId, NodeId), Gap>,
}

/// One link.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinkFlow {
    /// Where it comes from; none if that could not be told.
    pub from: Option<NodeId>,
    /// Where it leads; none for a slot that nobody reads.
    pub to: Option<NodeId>,
    /// Its name on the node that knows of it.
    pub name: Option<String>,
    /// By what means it works.
    pub means: Option<ReplicationKind>,
    /// Only these tables are meant, not all that it carries.
    pub tables: Vec<String>,
    /// How it is.
    pub state: LinkState,
    /// Why it is so, in a few words.
    pub reason: String,
    /// The writes that the receiver lacks.
    pub gap: Option<Gap>,
    /// How late the receiver is, a delay on purpose not counted.
    pub late: Option<Lateness>,
    /// How late it is on purpose.
    pub delay: Option<Duration>,
    /// Whither the backlog goes.
    pub trend: Option<Trend>,
    /// When both ends were last looked at; none if they never were.
    pub seen: Option<Micros>,
    /// How far the source's log had come.
    pub written: Option<Position>,
    /// How far the receiver had applied it.
    pub applied: Option<Position>,
    /// Whether anything of it was applied between the looks.
    pub moved: bool,
    /// Whether a sign of life came between the looks.
    pub heartbeat: bool,
    /// The receiver's own account of it, for showing it in full.
    pub inflow: Option<Box<Inflow>>,
    /// The next thing to do, and on which node.
    pub next: Option<(Option<NodeId>, String)>,
    /// The first transaction that the receiver lacks, where the source's journal told it.
    pub first_owed: Option<FirstOwed>,
    /// Why the source's journal could not tell it, if so.
    pub first_unread: Option<ReadFault>,
}

/// The first transaction that a receiver lacks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FirstOwed {
    /// Its name.
    pub transaction: String,
    /// When it was committed where it was made, by that node's clock.
    pub committed_at: Option<Micros>,
    /// Its writes to tables of the sets, each as "update of guest id 7"; of very many the first.
    pub writes: Vec<String>,
    /// How many there are.
    pub count: u64,
}

impl FirstOwed {
    /// Its writes to tables of the sets in a few words.
    #[must_use]
    pub fn words(&self) -> String {
        /// As many are named.
        const NAMED: usize = 3;
        let mut named: Vec<&str> = self.writes.iter().take(NAMED).map(String::as_str).collect();
        let more = (self.count as usize).saturating_sub(named.len());
        let rest = match more {
            0 => String::new(),
            1 => "1 write more".to_owned(),
            more => format!("{more} writes more"),
        };
        if more > 0 {
            named.push(&rest);
        }
        format!("{} (transaction {})", named.join(", "), self.transaction)
    }
}

/// How late a receiver is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Lateness {
    /// The time.
    pub by: Duration,
    /// It is at least that.
    pub at_least: bool,
}

/// Whither a backlog goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trend {
    /// It shrinks, and at this rate will be gone after so long.
    Draining(Duration),
    /// It grows.
    Growing,
    /// It stays as it is.
    Steady,
}

impl Trend {
    /// Its name in results.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Draining(_) => "draining",
            Self::Growing => "growing",
            Self::Steady => "steady",
        }
    }
}

/// One node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NodeFlow {
    /// When it was looked at.
    pub at: Micros,
    /// Its role as it was found: the role that the file gives it, and what is otherwise.
    pub role: String,
    /// Kind and version in a few words; none if it did not answer.
    pub about: Option<String>,
    /// Why nothing could be seen.
    pub fault: Option<ReadFault>,
    /// How far its log had come.
    pub position: Option<Position>,
    /// The writes of applications there between the looks.
    pub wrote: Wrote,
    /// By table set, when the last change to it was seen here; none if none was ever seen.
    pub changed: BTreeMap<usize, Changed>,
    /// At a hub, by site and table set, when the last change that arrived was made at the site.
    pub arrivals: BTreeMap<(NodeId, usize), Changed>,
    /// The last sign of life that the node's own row tells, in whatever copy it was found.
    pub beat: Option<Micros>,
    /// Statements that one look took.
    pub asked: u32,
    /// By MariaDB domain or origin, how far it has applied.
    pub origins: Option<Position>,
    /// Bytes of log that the slot holds back through which keen reads what was written, if there is one.
    pub journal_slot: Option<u64>,
}

/// When a table set last changed on a node.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Changed {
    /// Between the looks.
    Now,
    /// At this moment.
    At(Micros),
    /// Not between the looks; before that nobody looked.
    Before,
}

/// The writes of applications at a node between two looks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wrote {
    /// Nothing.
    Nothing,
    /// So many transactions.
    Transactions(u64),
    /// Something; how much the engine does not tell.
    Something,
    /// That cannot be seen.
    Unseen,
}

/// Something noteworthy about who writes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WriterRemark {
    /// The node.
    pub node: NodeId,
    /// The finding.
    pub found: String,
}

/// The memory of earlier runs, where somebody kept it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Memory {
    /// Where each node's log had come at earlier looks, oldest first.
    pub positions: BTreeMap<NodeId, Vec<(Micros, Position)>>,
    /// When each table of the sets was last seen to change on a node.
    pub changed: BTreeMap<(NodeId, String), Micros>,
    /// When a link was last looked at, by its ends.
    pub seen: BTreeMap<(NodeId, NodeId), Micros>,
    /// The nodes that applications wrote to at the last run that saw any writes.
    pub writers: Vec<NodeId>,
    /// Slots that were made anew since all copies last agreed, by node and name.
    pub anew: BTreeMap<(NodeId, String), crate::observe::links::SlotAnew>,
    /// The nodes that were standbys when they were last looked at.
    pub standbys: Vec<NodeId>,
    /// By site and hub: when something of the site last arrived, and how long the longest pause before
    /// had been; nothing if there was none yet.
    pub arrivals: BTreeMap<(NodeId, NodeId), (Micros, Duration)>,
}

/// The looks that are held against the topology.
#[derive(Debug, Clone, Copy)]
pub struct Looks<'a> {
    /// Numbers of the first look.
    pub before: &'a Marks,
    /// The second look.
    pub now: &'a Observations,
    /// The memory of earlier runs.
    pub memory: &'a Memory,
}

/// Says how every link is.
#[must_use]
pub fn judge(topology: &Topology, looks: Looks<'_>) -> Flow {
    let mut links = match_links::pair(topology, looks);
    for link in &mut links {
        let ends = link.from.zip(link.to);
        if link.seen.is_none() {
            link.seen = ends.and_then(|ends| looks.memory.seen.get(&ends).copied());
        }
    }
    let (nodes, writing) = nodes::nodes(topology, looks, &links);
    let applied = nodes::applied(topology, looks, &links);
    Flow { links, nodes, writing, applied }
}

/// The session to end, and who it is.
fn holder_text(holder: &Holder) -> String {
    format!("session {} ({})", holder.session, holder.about)
}

/// An error as it reads in a sentence.
fn trouble_text(trouble: &ReceiverError) -> String {
    let code = trouble.code.map(|code| format!("error {code}: ")).unwrap_or_default();
    format!("{code}{}", trouble.message)
}
