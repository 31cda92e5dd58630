//! Rows that differ while somebody writes: when the looks behind fences prove that they are settled.

use keen_core::row::selection::RowKeys;
use keen_core::topology::node_set::NodeSet;
use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering};
use std::time::Duration;

use keen_adapters::memory::MemoryNode;
use keen_core::audit::merge::{DivergentRow, RowStanding};
use keen_core::fault::ReadFault;
use keen_core::links::fence::{Fence, Stillness};
use keen_core::observe::links::{Inflow, LinkSnapshot, Observation, Observations, Outlet};
use keen_core::observe::node::{ChangeSource, Incoming, ReplicationKind, Slot, WorkerState};
use keen_core::observe::position::Position;
use keen_core::ports::{LookAtLinks, ReadRows, TableRequest};
use keen_core::row::batch::{Batch, RowWriter};
use keen_core::row::digest::DigestFunction;
use keen_core::row::schema::TableShape;
use keen_core::topology::{Address, Engine, ServerAddress, Topology};
use keen_core::value::Value;
use keen_run::audit::recheck::{self, Fencing};
use keen_run::audit::{AuditRequest, AuditSink, Standings, TableHead, TableOutcome};
use keen_testkit::tables::UntypedTable;

/// A link from a to b.
fn topology() -> Topology {
    keen_testkit::tables::topology(&[("a", true), ("b", true)], &[(0, 1)])
}

fn snapshot() -> LinkSnapshot {
    LinkSnapshot {
        engine: Engine::Postgres,
        about: String::new(),
        standby: false,
        closed: None,
        cluster: false,
        server_id: None,
        domain: None,
        database: None,
        position: Ok(Position::Lsn(0)),
        stamp: None,
        flushed: None,
        unsafe_for: 0,
        origins: None,
        own: None,
        touched: BTreeMap::new(),
        inflows: Ok(Vec::new()),
        outlets: Ok(Vec::new()),
        published: Ok(Vec::new()),
        beats: BTreeMap::new(),
        asked: 0,
    }
}

/// A node whose log is longer at each look.
struct Busy<'a>(&'a AtomicU64);

impl LookAtLinks for Busy<'_> {
    fn look_at_links(&mut self, _: &[(String, String)]) -> Result<LinkSnapshot, ReadFault> {
        let at = self.0.fetch_add(1, Ordering::Relaxed);
        Ok(LinkSnapshot { position: Ok(Position::Lsn(at)), ..snapshot() })
    }
}

/// The writers that rows tell of.
#[derive(Clone, Copy)]
enum Mark {
    None,
    Same,
    Another,
    /// Row 2 stays as it is, and row 3 is written again and again.
    SameAndAnother,
}

struct Marked {
    rows: MemoryNode,
    mark: Mark,
    asked: &'static AtomicU64,
    read: &'static AtomicU64,
}

impl ReadRows for Marked {
    fn about(&self) -> String {
        self.rows.about()
    }
    fn shape(&mut self, table: &str) -> Result<TableShape, ReadFault> {
        self.rows.shape(table)
    }
    fn row_marks(&mut self, _: &[String], rows: &RowKeys) -> Result<Vec<Option<u64>>, ReadFault> {
        let asked = self.asked.fetch_add(1, Ordering::Relaxed);
        assert_eq!(rows.columns[0].name, "id");
        let mark = |key: &Vec<Value>| match (self.mark, &key[0]) {
            (Mark::None, _) => None,
            (Mark::Same, _) | (Mark::SameAndAnother, Value::Int(2)) => Some(7),
            (Mark::Another | Mark::SameAndAnother, _) => Some(asked),
        };
        Ok(rows.keys.iter().map(mark).collect())
    }
    fn read(
        &mut self,
        request: &TableRequest,
        writer: RowWriter,
        deliver: &mut dyn FnMut(Batch) -> Option<Batch>,
    ) -> Result<(), ReadFault> {
        self.read.fetch_add(1, Ordering::Relaxed);
        self.rows.read(request, writer, deliver)
    }
}

#[derive(Default)]
struct Outcome {
    standings: Option<Standings>,
    in_any_order: bool,
    /// The rows that were handed out, in order.
    told: Vec<String>,
}

impl AuditSink for Outcome {
    fn in_any_order(&self) -> bool {
        self.in_any_order
    }
    fn waiting(&mut self, _: &TableHead<'_>, rows: u64) -> ControlFlow<()> {
        self.tell(format!("{rows} waiting"))
    }
    fn settled(&mut self, _: &TableHead<'_>, row: DivergentRow) -> ControlFlow<()> {
        self.tell(format!("settled {:?}", row.key))
    }
    fn table(&mut self, _: &TableHead<'_>) -> ControlFlow<()> {
        self.tell("table".to_owned())
    }
    fn divergent(&mut self, row: DivergentRow) -> ControlFlow<()> {
        self.tell(format!("divergent {:?}", row.key))
    }
    fn unsettled(&mut self, row: DivergentRow, standing: RowStanding) -> ControlFlow<()> {
        self.tell(format!("{} {:?}", standing.name(), row.key))
    }
    fn table_done(&mut self, outcome: &TableOutcome) -> ControlFlow<()> {
        self.standings = Some(outcome.standings.clone());
        self.tell("done".to_owned())
    }
}

impl Outcome {
    fn tell(&mut self, what: String) -> ControlFlow<()> {
        self.told.push(what);
        ControlFlow::Continue(())
    }
}

/// Row 2 is at a and not at b, whenever one looks. How often the rows were read, and what they came to.
fn audit(mark: Mark) -> (u64, Standings) {
    let (looks, outcome) = audit_of(mark, &[1, 2], false);
    (looks, outcome.standings.unwrap())
}

/// At a are these rows, at b only the first.
fn audit_of(mark: Mark, ids: &[i64], in_any_order: bool) -> (u64, Outcome) {
    let row = |id: i64| vec![Value::Int(id.into()), Value::Text("Saddle Refuge".into())];
    let rows = [ids.iter().map(|id| row(*id)).collect::<Vec<_>>(), vec![row(1)]];
    let counter = || -> &'static AtomicU64 { Box::leak(Box::default()) };
    let (asked, read, position) = (counter(), counter(), counter());
    let open = |node: usize| -> Result<Box<dyn ReadRows>, ReadFault> {
        let rows = UntypedTable::new(&["id", "hut"], &["id"], rows[node].clone()).in_memory();
        Ok(Box::new(Marked { rows, mark, asked, read }))
    };
    let topology = topology();
    let request = AuditRequest {
        topology: &topology,
        nodes: NodeSet::ALL,
        tables: &[],
        only: &BTreeMap::new(),
        function: DigestFunction::Xxh3,
        rate: None,
        threads: 1,
        open: &open,
        stop: &|| false,
    };
    let fencing = Fencing {
        watch: &|_| Ok(Box::new(Busy(position)) as Box<dyn LookAtLinks + Send>),
        patience: Duration::from_secs(2),
        settle: None,
        journal: &|_, _| Err(ReadFault::new("there is no journal", "none is needed")),
    };
    let mut outcome = Outcome { in_any_order, ..Outcome::default() };
    recheck::run(&request, &fencing, &mut outcome);
    (read.load(Ordering::Relaxed) / 2, outcome)
}

#[test]
fn settled_rows_leave_before_their_table_where_that_is_wanted() {
    let settled_row = "[Int(2)]";
    let moving = format!("{} [Int(3)]", RowStanding::Moving.name());
    let (_, outcome) = audit_of(Mark::SameAndAnother, &[1, 2, 3], true);
    let settled = format!("settled {settled_row}");
    assert_eq!(outcome.told, ["2 waiting", &settled, "table", &moving, "done"]);
    assert_eq!(outcome.standings.unwrap().settled, 1);

    let (_, outcome) = audit_of(Mark::SameAndAnother, &[1, 2, 3], false);
    let divergent = format!("divergent {settled_row}");
    assert_eq!(outcome.told, ["table", &divergent, &moving, "done"]);

    let (_, outcome) = audit_of(Mark::Same, &[1, 2], true);
    assert_eq!(outcome.told, ["1 waiting", "table", &divergent, "done"]);

    let (_, outcome) = audit_of(Mark::Same, &[1], true);
    assert_eq!(outcome.told, ["table", "done"]);
}

#[test]
fn a_row_that_nobody_wrote_between_two_fences_is_settled() {
    let (looks, standings) = audit(Mark::Same);
    assert_eq!((looks, standings.settled), (3, 1), "{standings:?}");
}

#[test]
fn a_row_that_was_written_between_any_two_looks_is_moving_though_it_looks_the_same() {
    let (looks, standings) = audit(Mark::Another);
    assert!(looks > 5, "{looks}");
    assert_eq!((standings.settled, standings.moving), (0, 1), "{standings:?}");
}

#[test]
fn where_rows_do_not_tell_who_wrote_them_they_are_looked_at_more_often() {
    let (looks, standings) = audit(Mark::None);
    assert_eq!((looks, standings.settled), (5, 1), "{standings:?}");
}

/// A subscription from a to b. The log of a is safe up to the end of a page, and b has confirmed a little less.
struct Sender {
    topology: Topology,
    now: AtomicI64,
    answered: i64,
    position: u64,
    flushed: u64,
    confirmed: u64,
}

impl Sender {
    const PAGE: u64 = 8192;

    fn new() -> Self {
        let (now, end) = (AtomicI64::new(1_000_000), 4 * Self::PAGE);
        let mut topology = topology();
        for node in &mut topology.nodes {
            node.at = Address::Server(ServerAddress {
                engine: Engine::Postgres,
                user: "keen".to_owned(),
                host: node.name.clone(),
                port: 5432,
                database: "huts".to_owned(),
                text: format!("postgresql://keen@{}/huts", node.name),
            });
        }
        Self { topology, now, answered: 1, position: end + 24, flushed: end, confirmed: end - 200 }
    }

    /// A second later.
    fn look(&self) -> Observations {
        let at = self.now.fetch_add(1_000_000, Ordering::Relaxed);
        let lsn = |at: u64| Some(Position::Lsn(at));
        let slot = Slot {
            name: "from_a".to_owned(),
            database: None,
            active: true,
            held_back: None,
            room: None,
            log: None,
        };
        let outlet = Outlet {
            slot,
            confirmed: lsn(self.confirmed),
            sent: lsn(self.confirmed),
            answered_at: Some(self.answered),
            prepared: None,
            counted_since: None,
        };
        let a = LinkSnapshot {
            position: Ok(Position::Lsn(self.position)),
            flushed: lsn(self.flushed),
            unsafe_for: 600_000,
            outlets: Ok(vec![outlet]),
            ..snapshot()
        };
        let mut link = Incoming::unknown(ReplicationKind::Subscription);
        link.receiving = WorkerState::Runs;
        link.applying = WorkerState::Runs;
        link.source = ChangeSource { slot: Some("from_a".to_owned()), ..ChangeSource::default() };
        let b = LinkSnapshot { inflows: Ok(vec![Inflow::of(link)]), ..snapshot() };
        [a, b]
            .into_iter()
            .map(|snapshot| Observation { at, snapshot: Ok(Box::new(snapshot)) })
            .enumerate()
            .collect()
    }

    fn has_passed(&self, fence: &Fence, stillness: &mut Stillness) -> bool {
        let observations = self.look();
        stillness.see(&observations);
        fence.passing_since(&self.topology, &observations, stillness).passed.contains(&(0, 1))
    }
}

#[test]
fn a_sender_rests_once_it_has_looked_at_what_is_on_the_disk_and_found_nothing_whole() {
    let mut sender = Sender::new();
    let fence = Fence::at(&sender.look());
    let mut stillness = Stillness::default();
    // It may not be awake yet: what it has not sent can hold a commit.
    assert!(!sender.has_passed(&fence, &mut stillness));
    assert!(!sender.has_passed(&fence, &mut stillness));
    sender.answered += 1;
    assert!(sender.has_passed(&fence, &mut stillness));
    // From the next page on it all begins anew.
    sender.flushed += Sender::PAGE;
    sender.position += Sender::PAGE;
    sender.confirmed += Sender::PAGE;
    sender.answered += 1;
    let fence = Fence::at(&sender.look());
    assert!(!sender.has_passed(&fence, &mut stillness));
}

#[test]
fn what_is_not_on_the_disk_is_no_commit_once_a_commit_had_the_time_to_come_there() {
    let mut sender = Sender::new();
    sender.flushed -= 100;
    sender.confirmed = sender.flushed;
    let fence = Fence::at(&sender.look());
    let mut stillness = Stillness::default();
    assert!(!sender.has_passed(&fence, &mut stillness), "it can have been seen already");
    assert!(sender.has_passed(&fence, &mut stillness));
}
