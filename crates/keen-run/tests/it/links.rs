//! The states of links over the stand-in network, at moments that the test decides.

use keen_core::topology::node_set::NodeSet;
use std::path::Path;

use keen_adapters::sqlite::{Options, SqliteLinks};
use keen_core::links::fence::{Fence, rounds};
use keen_core::links::{Flow, LinkFlow, LinkState, Looks, Memory, Trend, judge};
use keen_core::observe::links::{Observations, marks};
use keen_core::topology::{Address, NodeId};
use keen_lab::{Change, Lab};
use keen_run::links::{NodeConnections, Watched};
use rusqlite::types::Value as Cell;
use tempfile::TempDir;

const MESH: &str = r#"name = "mesh"
[node.a]
at = "sqlite:a.db"
writes = true
[node.b]
at = "sqlite:b.db"
writes = true
[node.board]
at = "sqlite:board.db"
[set.all]
tables = ["t"]
[[link]]
mesh = ["a", "b"]
carries = ["all"]
[[link]]
from = "b"
to = "board"
carries = ["all"]
[limits]
trailing = "5s"
"#;

const ALL: NodeSet = NodeSet::ALL;
const SECOND: i64 = 1_000_000;

struct Net {
    _dir: TempDir,
    lab: Lab,
    /// One step of the network takes a second.
    now: i64,
    next: i64,
}

impl Net {
    fn new() -> Self {
        let dir = TempDir::new().unwrap();
        let schema = |_: &str| "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT);".to_owned();
        let lab = Lab::create(dir.path(), MESH, schema, 1).unwrap();
        Self { _dir: dir, lab, now: 0, next: 0 }
    }

    fn write(&mut self, node: &str, count: i64) {
        for _ in 0..count {
            self.next += 1;
            let cells = vec![
                ("id".to_owned(), Cell::Integer(self.next)),
                ("v".to_owned(), Cell::Text("x".into())),
            ];
            self.lab.write(node, &[Change::Insert("t", cells)]).unwrap();
        }
    }

    fn steps(&mut self, count: i64) {
        for _ in 0..count {
            self.lab.step().unwrap();
            self.now += SECOND;
        }
    }

    fn look(&self) -> Observations {
        let folder: &Path = self.lab.folder();
        let topology = self.lab.topology();
        let open = |node: NodeId| {
            let node = &topology.nodes[node];
            let Address::Sqlite(path) = &node.at else { panic!() };
            let links =
                SqliteLinks::new(folder.join(path), node.name.clone(), true, Options::default());
            Ok(Box::new(links) as Watched)
        };
        let (_, mut observations) = NodeConnections::begin(topology, ALL, &open);
        observations.values_mut().for_each(|observation| observation.at = self.now);
        observations
    }

    fn judged(&self, before: &Observations, memory: &Memory) -> Flow {
        let (before, now) = (marks(before), self.look());
        judge(self.lab.topology(), Looks { before: &before, now: &now, memory })
    }

    /// Looks, lets something happen for five seconds, looks again.
    fn flow(&mut self, between: impl FnOnce(&mut Self)) -> Flow {
        let before = self.look();
        between(self);
        self.judged(&before, &Memory::default())
    }

    fn link<'a>(&self, flow: &'a Flow, from: &str, to: &str) -> &'a LinkFlow {
        let node = |name: &str| self.lab.topology().node(name);
        flow.links.iter().find(|link| (link.from, link.to) == (node(from), node(to))).unwrap()
    }

    fn states(&self, flow: &Flow) -> Vec<LinkState> {
        [("a", "b"), ("b", "a"), ("b", "board")].map(|(f, t)| self.link(flow, f, t).state).to_vec()
    }
}

#[test]
fn quiet_is_idle_and_what_is_applied_between_the_looks_flows() {
    let mut net = Net::new();
    net.write("a", 3);
    net.steps(5);
    let flow = net.flow(|net| net.steps(5));
    assert_eq!(net.states(&flow), [LinkState::Idle; 3]);
    assert!(flow.writing.is_empty());
    let flow = net.flow(|net| {
        net.write("a", 2);
        net.steps(5);
    });
    assert_eq!(net.states(&flow), [LinkState::Flowing, LinkState::Flowing, LinkState::Flowing]);
    // Lost and overtaken transactions are no business of the link: it carries. The audit finds them.
    net.write("a", 1);
    let tx = keen_lab::Tx { origin: "a".to_owned(), position: 6 };
    net.lab.lose(&tx, "b").unwrap();
    net.write("a", 2);
    let held_up = keen_lab::Tx { origin: "a".to_owned(), position: 7 };
    net.lab.overtake(&held_up, "b").unwrap();
    net.steps(5);
    let flow = net.flow(|net| net.steps(5));
    assert_eq!(net.states(&flow), [LinkState::Idle; 3]);
}

#[test]
fn cut_one_way_paused_and_stuck_are_told_apart() {
    let mut net = Net::new();
    net.write("a", 1);
    net.steps(5);
    net.lab.cut("a", "b").unwrap();
    let flow = net.flow(|net| {
        net.write("a", 2);
        net.steps(5);
    });
    assert_eq!(net.states(&flow), [LinkState::Cut, LinkState::Idle, LinkState::Idle]);
    assert_eq!(net.link(&flow, "a", "b").gap.unwrap().size(), 2);
    net.lab.resume("a", "b").unwrap();
    net.lab.pause("b", "board").unwrap();
    net.steps(5);
    let flow = net.flow(|net| net.steps(5));
    assert_eq!(net.states(&flow), [LinkState::Idle, LinkState::Idle, LinkState::Paused]);
    net.lab.resume("b", "board").unwrap();
    net.steps(5);
    // It says that it runs. Nothing is missing yet: no stall.
    net.lab.stick("a", "b").unwrap();
    let flow = net.flow(|net| net.steps(5));
    assert_eq!(net.states(&flow), [LinkState::Idle; 3]);
    net.write("a", 4);
    let flow = net.flow(|net| net.steps(5));
    assert_eq!(net.states(&flow), [LinkState::Stalled, LinkState::Idle, LinkState::Idle]);
    assert_eq!(net.link(&flow, "a", "b").reason, "nothing was applied in 5.0 s");
    net.lab.resume("a", "b").unwrap();
    net.lab.detach("b", "board").unwrap();
    net.steps(5);
    let flow = net.flow(|net| net.steps(5));
    assert_eq!(net.states(&flow), [LinkState::Idle, LinkState::Idle, LinkState::Absent]);
    let board = net.lab.topology().node("board").unwrap();
    assert_eq!(flow.nodes[&board].role, "detached subscriber: follows nobody");
}

#[test]
fn a_backlog_drains_within_a_factor_of_two_of_the_estimate() {
    for (backlog, rate) in [(200, 4), (500, 10), (1000, 7)] {
        let mut net = Net::new();
        net.lab.slow("b", "board", rate).unwrap();
        net.write("b", backlog);
        net.steps(1);
        let flow = net.flow(|net| net.steps(5));
        let link = net.link(&flow, "b", "board");
        assert_eq!(link.state, LinkState::Trailing, "{link:?}");
        let Some(Trend::Draining(estimate)) = link.trend else { panic!("{link:?}") };
        let began = net.now;
        while net
            .link(&net.judged(&net.look(), &Memory::default()), "b", "board")
            .gap
            .unwrap()
            .size()
            > 0
        {
            net.steps(1);
        }
        let took = (net.now - began) as f64 / SECOND as f64;
        let estimate = estimate.as_secs_f64();
        assert!(estimate <= took * 2.0 && took <= estimate * 2.0, "{estimate} s and {took} s");
    }
}

#[test]
fn a_backlog_that_grows_is_told_and_earlier_looks_tell_how_late_it_is() {
    let mut net = Net::new();
    net.lab.slow("b", "board", 2).unwrap();
    net.write("b", 100);
    let flow = net.flow(|net| {
        net.write("b", 40);
        net.steps(5);
    });
    let link = net.link(&flow, "b", "board");
    assert_eq!((link.state, link.trend), (LinkState::Trailing, Some(Trend::Growing)), "{link:?}");
    // An hour ago somebody saw the source at 100 already.
    let b = net.lab.topology().node("b").unwrap();
    let position = keen_core::observe::position::Position::Count(100);
    let memory = Memory {
        positions: [(b, vec![(net.now - 3600 * SECOND, position)])].into(),
        ..Memory::default()
    };
    let before = net.look();
    net.steps(5);
    let flow = net.judged(&before, &memory);
    let late = net.link(&flow, "b", "board").late.unwrap();
    assert_eq!((late.by.as_secs(), late.at_least), (3605, true));
}

#[test]
fn writers_are_told_and_what_changed_since() {
    let mut net = Net::new();
    let flow = net.flow(|net| {
        net.write("board", 2);
        net.steps(5);
    });
    assert_eq!(flow.writing.len(), 1, "{:?}", flow.writing);
    assert_eq!(
        flow.writing[0].found,
        "board was written to between the looks (2 transactions), but the file says that applications do not write there"
    );
    // Yesterday a was the only one that was written to.
    let memory = Memory { writers: vec![0], ..Memory::default() };
    let before = net.look();
    net.write("b", 1);
    net.steps(5);
    let flow = net.judged(&before, &memory);
    assert_eq!(flow.writing[0].found, "the writer changed: a was written to before, b is now");
}

#[test]
fn a_site_that_falls_silent_is_told() {
    let mut net = Net::new();
    let [b, board] = ["b", "board"].map(|name| net.lab.topology().node(name).unwrap());
    net.now = 3600 * SECOND;
    // It used to bring something every minute at least, and the last came twenty minutes ago.
    let last = (net.now - 1200 * SECOND, std::time::Duration::from_secs(60));
    let memory = Memory { arrivals: [((b, board), last)].into(), ..Memory::default() };
    let before = net.look();
    let silent = net.judged(&before, &memory);
    assert_eq!(
        silent.writing[0].found,
        "nothing from b has arrived at board for 20 min; it was never silent for longer than 60 s before"
    );
    net.write("b", 1);
    net.steps(2);
    assert_eq!(net.judged(&before, &memory).writing, []);
    // A minute of silence is nothing unusual.
    let usual = (net.now - 60 * SECOND, std::time::Duration::from_secs(60));
    let memory = Memory { arrivals: [((b, board), usual)].into(), ..Memory::default() };
    let before = net.look();
    assert_eq!(net.judged(&before, &memory).writing, []);
}

#[test]
fn a_fence_is_passed_by_those_who_have_applied_what_was_written_before_it() {
    let mut net = Net::new();
    let topology = net.lab.topology().clone();
    let [a, b, board] = ["a", "b", "board"].map(|name| topology.node(name).unwrap());
    assert_eq!(rounds(&topology), 2, "what a writes comes to the board by way of b");
    net.lab.pause("b", "board").unwrap();
    net.write("a", 3);
    let fence = Fence::at(&net.look());
    let passing = fence.passing(&topology, &net.look());
    assert!(
        passing.waiting.contains_key(&(a, b)) && passing.passed.contains(&(b, a)),
        "{passing:?}"
    );
    assert_eq!(passing.lagging(&topology, false), [b, board].iter().collect());
    assert!(passing.worth_waiting());
    net.steps(2);
    let passing = fence.passing(&topology, &net.look());
    assert!(passing.passed.contains(&(a, b)), "{passing:?}");
    // The board stands still where it was: b's journal has grown by what a wrote.
    let second = Fence::at(&net.look());
    let passing = second.passing(&topology, &net.look());
    assert!(passing.waiting[&(b, board)].stopped && !passing.worth_waiting(), "{passing:?}");
    assert_eq!(passing.lagging(&topology, false), NodeSet::of(board));
    net.lab.resume("b", "board").unwrap();
    net.steps(2);
    let passing = second.passing(&topology, &net.look());
    assert!(
        passing.waiting.is_empty() && passing.lagging(&topology, false).is_empty(),
        "{passing:?}"
    );
    assert!(!fence.stands_as(&second) && Fence::at(&net.look()).stands_as(&Fence::at(&net.look())));
    // A link that was taken away brings nothing more: nobody waits for it.
    net.lab.detach("b", "board").unwrap();
    net.write("b", 1);
    net.steps(2);
    let passing = Fence::at(&net.look()).passing(&topology, &net.look());
    assert!(passing.absent.contains(&(b, board)) && passing.lagging(&topology, false).is_empty());
}
