//! Every ledger does the same: a file and memory, given the same runs, answer alike.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::time::Duration;

use keen_core::observe::links::{Baseline, InflowMark, Own};
use keen_core::observe::position::Position;
use keen_core::topology::{self, Topology};
use keen_run::ledger::memory::MemoryLedger;
use keen_run::ledger::sqlite::SqliteLedger;
use keen_run::ledger::{
    Audited, JournalsRead, KeptFinding, KeptLink, KeptLook, Ledger, LedgerFault, LedgerRun, Proof,
    Raced, RunRecord, conflict_id,
};
use keen_testkit::rounds;
use proptest::collection::{btree_map, btree_set, vec};
use proptest::option;
use proptest::prelude::*;

const NODES: [&str; 3] = ["valley", "saddle", "hub"];
const TABLES: [&str; 2] = ["stay", "reading"];
const SCOPES: [&str; 2] = ["", "[[\"valley\"],[]]"];
const STANDINGS: [&str; 4] =
    ["settled apart", "settled alike", "not all read", "settled against the rules"];

fn topologies() -> [Topology; 2] {
    ["huts", "other huts"].map(|name| {
        let text = format!(
            "name = \"{name}\"\n\
             [node.valley]\nat = \"sqlite:valley.db\"\nwrites = true\n\
             [node.saddle]\nat = \"sqlite:saddle.db\"\nwrites = true\n\
             [node.hub]\nat = \"sqlite:hub.db\"\n\
             [set.s]\ntables = [\"stay\", \"reading\"]\n\
             [[link]]\nfrom = [\"valley\", \"saddle\"]\nto = \"hub\"\ncarries = [\"s\"]\n"
        );
        topology::read(&text).0.unwrap()
    })
}

/// A run and its record, and the conflict that somebody accepts after it.
#[derive(Debug, Clone)]
struct Round {
    topology: usize,
    command: &'static str,
    started: i64,
    exit: u8,
    record: RunRecord,
    /// Which of the conflicts of this record.
    accept: Option<usize>,
}

fn at() -> impl Strategy<Value = i64> {
    // Few moments, so that some are the same, over several days.
    (0i64..40).prop_map(|n| 1_790_000_000_000_000 + n * 7_200_000_000)
}

fn position() -> impl Strategy<Value = Position> {
    (0u64..20).prop_map(Position::Count)
}

fn pick(from: &'static [&'static str]) -> impl Strategy<Value = String> {
    proptest::sample::select(from).prop_map(str::to_owned)
}

fn look() -> impl Strategy<Value = KeptLook> {
    let numbers = (0u64..9, option::of(0u64..9), any::<u64>());
    let inflow = (option::of(position()), option::of(position()), numbers).prop_map(
        |(applied, received, (progress, failures, heartbeats))| InflowMark {
            applied,
            received,
            failures,
            progress,
            heartbeats,
        },
    );
    let own = prop_oneof![
        (0u64..50).prop_map(Own::Count),
        ("[a-z0-9 ]{0,6}", any::<bool>()).prop_map(|(mark, here)| Own::Last { mark, here }),
    ];
    let slots = btree_map("[ab]", (position(), option::of(0u64..9)), 0..3);
    let told = (
        option::of(position()),
        any::<bool>(),
        option::of(own),
        btree_map("[pq]", inflow, 0..3),
        slots,
        option::of("[12]"),
        btree_map(pick(&TABLES), any::<u64>(), 0..3),
    );
    let baseline = told.prop_map(|(position, standby, own, inflows, outlets, since, touched)| {
        let counted = outlets.keys().filter_map(|slot| Some((slot.clone(), since.clone()?)));
        Baseline {
            position,
            standby,
            own,
            inflows,
            counted_since: counted.collect(),
            outlets,
            touched,
            ..Baseline::default()
        }
    });
    (at(), option::weighted(0.8, baseline), any::<bool>(), option::of(at())).prop_map(
        |(at, baseline, wrote, changed)| {
            let baseline = baseline.map(|told| Baseline { at, ..told });
            let touched = baseline.iter().flat_map(|told| told.touched.keys());
            KeptLook {
                node: String::new(),
                at,
                fault: baseline.is_none().then(|| "it does not answer".to_owned()),
                changed: touched.filter_map(|table| Some((table.clone(), changed?))).collect(),
                wrote,
                baseline,
            }
        },
    )
}

fn looks() -> impl Strategy<Value = Vec<KeptLook>> {
    vec(option::of(look()), NODES.len()).prop_map(|looks| {
        let named = NODES.iter().zip(looks).filter_map(|(node, look)| Some((node, look?)));
        named.map(|(node, look)| KeptLook { node: (*node).to_owned(), ..look }).collect()
    })
}

fn link() -> impl Strategy<Value = KeptLink> {
    let states = pick(&["flowing", "trailing", "dark", "stalled"]);
    let ends = (option::of(pick(&NODES)), option::of(pick(&NODES)));
    (ends, states, option::of(any::<u64>()), any::<bool>(), option::of(at()), "[a-z]{0,3}")
        .prop_map(|((source, receiver), state, gap, moved, seen, reason)| KeptLink {
            source,
            receiver,
            name: seen.map(|_| "from valley".to_owned()),
            tables: Vec::new(),
            state,
            reason,
            gap,
            unit: gap.map(|_| "bytes".to_owned()),
            late_ms: gap.map(|gap| (gap % 1000) as i64),
            trend: None,
            done_ms: None,
            moved,
            seen,
        })
}

fn conflict() -> impl Strategy<Value = Raced> {
    let of = (pick(&TABLES), pick(&STANDINGS), option::of(at()));
    ("[a-d]", any::<bool>(), 0usize..4, of).prop_map(
        |(name, proven, lost, (table, standing, at))| Raced {
            name,
            table,
            kind: "update-update".to_owned(),
            proven,
            standing,
            lost,
            at,
        },
    )
}

fn proof() -> impl Strategy<Value = Proof> {
    let ids = btree_set("[a-z]{1,3}", 1..4);
    let of = (pick(&STANDINGS), 0u64..4, option::of((at(), at())));
    ("[a-d]", ids, at(), of, "[a-z]{0,4}").prop_map(
        |(name, ids, seen, (standing, lost, made), told)| Proof {
            table: "stay".to_owned(),
            kind: "update-update".to_owned(),
            thing: format!("row {name}"),
            name,
            ids,
            made,
            seen,
            standing,
            lost,
            document: format!("{{\"told\":\"{told}\"}}"),
            told,
        },
    )
}

fn record() -> impl Strategy<Value = RunRecord> {
    let audited =
        (pick(&TABLES), any::<u64>(), 0u64..9).prop_map(|(table, rows, divergent)| Audited {
            set: "s".to_owned(),
            table,
            verdict: "agrees".to_owned(),
            rows,
            divergent,
            in_flight: 1,
            moving: 2,
            healed: 3,
        });
    let finding = ("[a-z]{1,4}", "[a-z ]{0,9}").prop_map(|(name, found)| KeptFinding {
        level: "warn".to_owned(),
        name,
        nodes: "valley, saddle".to_owned(),
        found,
    });
    let read = (pick(&SCOPES), vec(any::<u8>(), 0..6))
        .prop_map(|(scope, handed_on)| JournalsRead { scope, handed_on });
    let parts = (
        looks(),
        vec(link(), 0..4),
        vec(audited, 0..3),
        vec(finding, 0..3),
        vec(conflict(), 0..3),
        vec(proof(), 0..3),
        option::of(read),
    );
    parts.prop_map(|(looks, links, audited, findings, conflicts, proofs, journals_read)| {
        RunRecord { looks, links, audited, findings, conflicts, proofs, journals_read }
    })
}

fn round() -> impl Strategy<Value = Round> {
    let command = proptest::sample::select(&["audit", "flow", "conflicts"][..]);
    (0usize..2, command, at(), 0u8..2, record(), option::of(0usize..3)).prop_map(
        |(topology, command, started, exit, record, accept)| Round {
            topology,
            command,
            started,
            exit,
            record,
            accept,
        },
    )
}

/// Everything that a ledger can be asked, as text.
fn answers(ledger: &dyn Ledger, of: &Topology) -> Result<Vec<String>, LedgerFault> {
    let name = &of.name;
    let mut told = vec![
        format!("{:?}", ledger.runs(name, 4)?),
        format!("{:?}", ledger.raced(name)?),
        format!("{:?}", ledger.accepted(name)?),
        format!("{:?}", ledger.proofs(name, 1_790_000_000_000_000 + 50_000_000_000)?),
        format!("{:?}", ledger.slots(name, 5)?),
        format!("{:?}", [0, 1, 2].map(|tables| ledger.last_agreement(name, tables).unwrap())),
        format!("{:?}", ledger.last_writers(name)?),
        format!("{:?}", ledger.marks(of)?),
        format!("{:?}", ledger.memory(of)?),
    ];
    for run in ledger.runs(name, 100)? {
        told.push(format!("{:?}", ledger.findings_of(run.id)?));
    }
    for scope in SCOPES {
        told.push(format!("{:?}", ledger.journals_read(name, scope)?));
    }
    for table in TABLES {
        told.push(format!("{:?}", ledger.table(name, table, 3)?));
        told.push(format!("{:?}", ledger.conflicts_by_day(name, table, 3)?));
    }
    for node in NODES {
        told.push(format!("{:?}", ledger.last_look(name, node)?));
        told.push(format!("{:?}", ledger.looks(name, node, 3)?));
        told.push(format!("{:?}", ledger.last_changes(name, node)?));
        for other in NODES {
            let ends = (node, other);
            told.push(format!("{:?}", ledger.link(name, ends, 3)?));
            told.push(format!("{:?}", ledger.last_seen(name, ends)?));
            told.push(format!("{:?}", ledger.arrivals(name, ends, 2)?));
        }
    }
    Ok(told)
}

fn play(ledger: &mut dyn Ledger, rounds: &[Round], of: &[Topology; 2]) -> Vec<Vec<String>> {
    let mut told = Vec::new();
    for round in rounds {
        let topology = &of[round.topology];
        let run = LedgerRun {
            command: round.command,
            topology: &topology.name,
            started: round.started,
            took: Duration::from_millis(1500),
            exit: round.exit,
            summary: "as expected",
        };
        ledger.keep(&run, &round.record).unwrap();
        let conflict = round.accept.and_then(|at| round.record.conflicts.get(at));
        let id = conflict.map_or("0".to_owned(), |conflict| conflict_id(&conflict.name));
        let accepted = ledger.accept(&topology.name, &id, "both are right", 7).unwrap();
        told.push(vec![format!("{accepted:?}")]);
        told.extend(of.iter().map(|topology| answers(ledger, topology).unwrap()));
    }
    told
}

fn file(folder: &Path) -> SqliteLedger {
    SqliteLedger::open(&folder.join("keen.ledger")).unwrap()
}

#[test]
fn a_file_and_memory_answer_alike() {
    let of = topologies();
    let config = ProptestConfig::with_cases(rounds(40, 2000));
    proptest!(config, |(rounds in vec(round(), 1..9), kept in 2u32..6)| {
        let folder = tempfile::tempdir().unwrap();
        let mut file = file(folder.path()).keeping(kept);
        let mut memory = MemoryLedger::default().keeping(kept);
        let (of_file, of_memory) =
            (play(&mut file, &rounds, &of), play(&mut memory, &rounds, &of));
        for (file, memory) in of_file.iter().zip(&of_memory) {
            prop_assert_eq!(file, memory);
        }
        // Read again by another keen, it says the same.
        drop(file);
        let again = SqliteLedger::open_to_read(&folder.path().join("keen.ledger")).unwrap();
        for topology in &of {
            prop_assert_eq!(answers(&again, topology).unwrap(), answers(&memory, topology).unwrap());
        }
    });
}

#[test]
fn an_empty_ledger_knows_nothing() {
    let of = topologies();
    let folder = tempfile::tempdir().unwrap();
    let told = answers(&file(folder.path()), &of[0]).unwrap();
    assert_eq!(told, answers(&MemoryLedger::default(), &of[0]).unwrap());
    let ledger = MemoryLedger::default();
    assert!(ledger.runs("huts", 9).unwrap().is_empty());
    assert_eq!(ledger.raced("huts").unwrap(), None);
    assert_eq!(ledger.marks(&of[0]).unwrap(), BTreeMap::new());
    assert_eq!(ledger.accepted("huts").unwrap(), BTreeMap::new());
}

#[test]
fn a_conflict_is_kept_once_and_what_was_not_read_takes_nothing_back() {
    let folder = tempfile::tempdir().unwrap();
    let ledgers: [Box<dyn Ledger>; 2] =
        [Box::new(file(folder.path())), Box::new(MemoryLedger::default())];
    for mut ledger in ledgers {
        let run = |started| LedgerRun {
            command: "conflicts",
            topology: "huts",
            started,
            took: Duration::ZERO,
            exit: 1,
            summary: "",
        };
        let of = |standing: &str, lost| RunRecord {
            conflicts: vec![Raced {
                name: "one".to_owned(),
                table: "stay".to_owned(),
                kind: "update-update".to_owned(),
                proven: true,
                standing: standing.to_owned(),
                lost,
                at: Some(1_790_000_000_000_000),
            }],
            ..RunRecord::default()
        };
        ledger.keep(&run(1), &of("settled apart", 2)).unwrap();
        ledger.keep(&run(2), &of("not all read", 0)).unwrap();
        assert_eq!(ledger.raced("huts").unwrap(), Some(BTreeSet::from(["one".to_owned()])));
        assert_eq!(ledger.raced("other").unwrap(), None);
        let day = &ledger.conflicts_by_day("huts", "stay", 9).unwrap()[0];
        assert_eq!((day.conflicts, day.apart, day.lost), (1, 1, 2));
        let id = conflict_id("one");
        let accepted = ledger.accept("huts", &id, "as it should be", 5).unwrap().unwrap();
        assert_eq!((&accepted.standing[..], accepted.lost), ("settled apart", 2));
        assert_eq!(ledger.accept("other", &id, "", 5).unwrap(), None);
        assert_eq!(ledger.runs("huts", 9).unwrap().len(), 2);
    }
}
