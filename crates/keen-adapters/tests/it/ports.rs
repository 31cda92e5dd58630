//! The contract of the ports beside rows: every adapter that has one keeps it. On a file of the stand-in network, on
//! PostgreSQL 15 and 18, and on MariaDB.

use std::ops::ControlFlow;
use std::sync::Arc;
use std::time::{Duration, Instant};

use keen_adapters::adapter::Site;
use keen_adapters::server::Password;
use keen_core::engine::service_tables::{self, Stage};
use keen_core::fault::FaultKind;
use keen_core::history::journal::{Begin, Entry, Head, Id, JOURNAL_SLOT, JournalPosition, RowOp};
use keen_core::observe::node::TableState;
use keen_core::plan::port::{BatchMark, WriteFault, WriteSteps};
use keen_core::plan::{LocalTable, SharedColumns, Step, StepParts};
use keen_core::ports::{InspectionRequest, JournalNeeds, LookAtLinks, ReadJournal, WriteOrigin};
use keen_core::row::batch::{Column, Layout};
use keen_core::row::conversion::{CommonKind, Conversion, Normalization};
use keen_core::row::selection::RowKeys;
use keen_core::topology::Engine;
use keen_core::value::Value;
use keen_testkit::{CHECKER, DATABASE};

use crate::place::{Place, Write};

#[test]
fn a_node_tells_how_it_is_set_up() {
    for place in Place::all("inspected") {
        let engine = place.engine();
        place.write(Write::Insert(1, "one"));
        let tables = [("stay", place.table), ("none", "no_such_table")];
        let asked = InspectionRequest {
            tables: tables.map(|(set, local)| (set.to_owned(), local.to_owned())).into(),
            writes: true,
            mends: false,
            receives: false,
        };
        let mut node = place.with(|adapter, site| adapter.inspect(site)).unwrap();
        let facts = node.look(&asked);
        drop(node); // its session holds on to the tables that it read
        assert_eq!(facts.engine, engine);
        assert!(!facts.about.is_empty() && !facts.standby, "{engine:?}");
        // Its shapes are those by which rows are read.
        let shape =
            place.with(|adapter, site| adapter.rows(site)).unwrap().shape(place.table).unwrap();
        let table = facts.tables["stay"].as_ref().unwrap().there().unwrap();
        assert_eq!((&table.shape, &table.any_rows), (&shape, &Ok(true)), "{engine:?}");
        let missing = facts.tables["none"].as_ref().unwrap();
        let TableState::Missing(found, advice) = missing else { panic!("{missing:?}") };
        assert!(found.contains("no_such_table") && !advice.is_empty(), "{engine:?}: {found}");
        assert!(facts.all_tables.unwrap().contains(&place.table.to_owned()), "{engine:?}");
        assert!(facts.settings.is_ok() && facts.clock.is_ok(), "{engine:?}");
        assert_eq!(facts.incoming.unwrap_or_default().len(), 0, "{engine:?}");
        // It is the same database each time, and with its row gone the table is empty.
        place.write(Write::Delete(1));
        let again = place.with(|adapter, site| adapter.inspect(site)).unwrap().look(&asked);
        assert_eq!(again.identity, facts.identity, "{engine:?}");
        assert!(facts.identity.database.is_some(), "{engine:?}");
        let table = again.tables["stay"].as_ref().unwrap().there().unwrap();
        assert_eq!(table.any_rows, Ok(false), "{engine:?}");
        place.end();
    }
}

#[test]
fn a_table_that_was_emptied_or_made_anew_is_stored_as_another() {
    for place in Place::all("stored") {
        let engine = place.engine();
        let stored = || {
            let mut rows = place.with(|adapter, site| adapter.rows(site)).unwrap();
            let shape = rows.shape(place.table).unwrap();
            (shape.stored.0.clone(), shape)
        };
        place.write(Write::Insert(1, "one"));
        if let (Engine::MariaDb, Some(server)) = (engine, place.server) {
            assert_eq!(
                stored().0.parts,
                None,
                "it is told to those alone who may see all sessions"
            );
            server.run(&format!("GRANT PROCESS ON *.* TO '{}'@'%'", CHECKER.0)).unwrap();
        }
        let (first, shape) = stored();
        assert!(first.parts.is_some(), "{engine:?}");
        let collation = first.collations.get("v");
        assert_eq!(collation.is_some(), engine != Engine::Sqlite, "{engine:?}: {first:?}");
        if engine == Engine::Postgres {
            assert!(collation.unwrap().name.contains(':'), "{collation:?}");
        }
        // A write changes nothing of it.
        place.write(Write::Update(1, "two"));
        assert_eq!(stored().0, first, "{engine:?}");
        if let Some(server) = place.server {
            server.run(&format!("TRUNCATE TABLE {}", place.table)).unwrap();
            let (emptied, same) = stored();
            assert_ne!(emptied.parts, first.parts, "{engine:?}");
            // And it is no part of the shape.
            assert_eq!(same, shape, "{engine:?}");
            if engine == Engine::MariaDb {
                let revoke = format!("REVOKE PROCESS ON *.* FROM '{}'@'%'", CHECKER.0);
                server.run(&revoke).unwrap();
            }
        }
        place.end();
    }
}

#[test]
fn a_log_tells_how_far_it_reaches() {
    for place in Place::all("reached") {
        let engine = place.engine();
        let mut node = place.with(|adapter, site| adapter.inspect(site)).unwrap();
        let Ok(reach) = node.log_reach(None) else {
            assert_eq!(node.log_reach(None).unwrap_err().kind, FaultKind::NotTold, "{engine:?}");
            assert_eq!(engine, Engine::Sqlite);
            continue;
        };
        assert_eq!((&reach.moved, &reach.enough), (&None, &None), "{engine:?}");
        place.write(Write::Insert(1, "one"));
        let mut later = place.with(|adapter, site| adapter.inspect(site)).unwrap();
        let since = later.log_reach(Some(&reach.now)).unwrap();
        assert_ne!(since.now, reach.now, "{engine:?}");
        if since.oldest.is_ok() {
            assert_eq!(since.enough, Some(Ok(true)), "{engine:?}");
            assert!(since.moved.is_some(), "{engine:?}");
        }
        let fault = later.log_reach(Some("yesterday")).unwrap_err();
        assert_eq!(fault.kind, FaultKind::Position, "{engine:?}: {fault}");
        drop((node, later));
        place.end();
    }
}

/// Looks again and again until something is so.
fn until(what: &str, mut so: impl FnMut() -> bool) {
    let began = Instant::now();
    while !so() {
        assert!(began.elapsed() < Duration::from_secs(30), "{what}");
        std::thread::sleep(Duration::from_millis(100));
    }
}

#[test]
fn links_are_looked_at_again_and_again() {
    for place in Place::all("linked") {
        let engine = place.engine();
        let mut node: Box<dyn LookAtLinks + Send> =
            place.with(|adapter, site| adapter.links(site)).unwrap();
        let mut look = || node.look_at_links(&place.names()).unwrap();
        place.write(Write::Insert(1, "one"));
        let first = look();
        assert_eq!(first.engine, engine);
        assert!(first.asked > 0 && !first.standby && !first.about.is_empty(), "{engine:?}");
        assert_eq!(first.inflows.as_ref().map(Vec::len).unwrap_or_default(), 0, "{engine:?}");
        // A look writes nothing, and a write moves the position on.
        let before = look().position.unwrap();
        place.write(Write::Update(1, "two"));
        let mut after = look().position.unwrap();
        until("the position does not move", || {
            after = look().position.unwrap();
            !before.has(&after)
        });
        assert!(after.has(&before), "{engine:?}: {before} {after}");
        // That the table changed is seen, after a while.
        let touched = first.touched.get(place.table).copied();
        let mut turn = 0;
        until("that the table changed is not seen", || {
            turn += 1;
            place.write(Write::Update(1, if turn % 2 == 0 { "even" } else { "odd" }));
            look().touched.get(place.table).copied() != touched
        });
        drop(node);
        place.end();
    }
}

#[test]
fn a_probes_row_comes_changes_and_goes() {
    for place in Place::all("probing") {
        let engine = place.engine();
        let table = "probed";
        let create = service_tables::create(engine, table);
        match (&place.lab, place.server) {
            (Some(lab), _) => lab.borrow_mut().tamper("a", &create).unwrap(),
            (_, Some(server)) => {
                // Without the rights nothing is written, and that is said.
                server.run(&create).unwrap();
                let probe = place.with(|adapter, site| adapter.probe(site, table));
                let refused = probe.and_then(|mut probe| probe.write("x", "a", Stage::Insert));
                assert_eq!(refused.unwrap_err().kind, FaultKind::NotAllowed, "{engine:?}");
                let rights = "SELECT, INSERT, UPDATE, DELETE";
                server.run(&Place::grant(server, rights, table)).unwrap();
            }
            _ => {}
        }
        let id = "keen-1-2 it's \"a\"";
        let mut probe = place.with(|adapter, site| adapter.probe(site, table)).unwrap();
        assert_eq!(probe.find(id).unwrap(), None, "{engine:?}");
        assert_eq!(probe.ids().unwrap(), [] as [&str; 0], "{engine:?}");
        for stage in Stage::ALL {
            probe.write(id, "a", stage).unwrap();
            assert_eq!(probe.find(id).unwrap().as_deref(), stage.mark(), "{engine:?}");
            let mut other = place.with(|adapter, site| adapter.probe(site, table)).unwrap();
            assert_eq!(other.find(id).unwrap().as_deref(), stage.mark(), "{engine:?}");
            let there = if stage.mark().is_some() { vec![id.to_owned()] } else { Vec::new() };
            assert_eq!(other.ids().unwrap(), there, "{engine:?}");
        }
        // What is refused leaves nothing behind.
        probe.write(id, "a", Stage::Insert).unwrap();
        probe.write(id, "b", Stage::Insert).unwrap_err();
        assert_eq!(probe.find(id).unwrap().as_deref(), Some("new"), "{engine:?}");
        assert_eq!(probe.ids().unwrap(), [id], "{engine:?}");
        drop(probe);
        if let Some(server) = place.server {
            server.run(&format!("DROP TABLE {table}")).unwrap();
        }
        place.end();
    }
}

/// The writes that a journal tells of the rows of a table, in order.
fn told(journal: &mut dyn ReadJournal) -> Vec<(Begin, RowOp, Value)> {
    let (mut rows, mut begin) = (Vec::new(), None::<Begin>);
    journal
        .read(&mut |entry| {
            match entry {
                Entry::Begin(next) => {
                    let before = begin.as_ref().map(|begin| begin.order);
                    assert!(before < Some(next.order), "orders ascend: {before:?} {next:?}");
                    begin = Some(next);
                }
                Entry::Row(change) => {
                    let side = change.after.or(change.before).unwrap();
                    let at = change.columns.iter().position(|name| name == "id").unwrap();
                    rows.push((begin.clone().unwrap(), change.act, side[at].clone().unwrap()));
                }
                _ => {}
            }
            ControlFlow::Continue(())
        })
        .unwrap();
    rows
}

/// Makes what reading a node's journal needs; what takes it away again.
fn let_journal_be_read(place: &Place) -> Vec<String> {
    let Some(server) = place.server else { return Vec::new() };
    let tables = [place.table.to_owned()];
    let needs = || place.with(|adapter, site| adapter.journal_needs(site, &tables)).unwrap();
    match needs() {
        JournalNeeds::Nothing => Vec::new(),
        JournalNeeds::Rights { account, lacking } => {
            for right in lacking {
                server.run(&format!("GRANT {right} ON *.* TO {account}")).unwrap();
            }
            let now = needs();
            assert!(
                matches!(&now, JournalNeeds::Rights { lacking, .. } if lacking.is_empty()),
                "{now:?}"
            );
            Vec::new()
        }
        JournalNeeds::Slot(setup) => {
            assert!(setup.slot.is_none() && !setup.published, "{setup:?}");
            let (account, slot) = (CHECKER.0, &setup.slot_name);
            let of_origins = "FUNCTION pg_show_replication_origin_status()";
            for sql in [
                format!("ALTER ROLE {account} REPLICATION"),
                format!("GRANT EXECUTE ON {of_origins} TO {account}"),
                format!(
                    "CREATE PUBLICATION {JOURNAL_SLOT} FOR TABLE {} WITH (publish_via_partition_root = true)",
                    place.table
                ),
                format!("SELECT pg_create_logical_replication_slot('{slot}', 'pgoutput')"),
            ] {
                server.run(&sql).unwrap();
            }
            let JournalNeeds::Slot(now) = needs() else { panic!("another kind of need") };
            assert!(now.slot.is_some() && now.published && now.may_read && now.may_see_origins);
            vec![
                format!("SELECT pg_drop_replication_slot('{slot}')"),
                format!("DROP PUBLICATION {JOURNAL_SLOT}"),
            ]
        }
    }
}

#[test]
fn a_journal_tells_each_write_once_and_goes_on_where_it_ended() {
    for place in Place::all("logged") {
        let engine = place.engine();
        let end = let_journal_be_read(&place);
        let open = || place.with(|adapter, site| adapter.journal(site, &place.names())).unwrap();
        place.write(Write::Insert(1, "one"));
        place.write(Write::Insert(2, "two"));
        place.write(Write::Update(1, "uno"));
        let mut journal = open();
        let head: Head = journal.head().unwrap();
        assert!(!head.about.is_empty(), "{engine:?}");
        let first = told(&mut *journal);
        let ops = |rows: &[(Begin, RowOp, Value)]| -> Vec<(RowOp, Value)> {
            rows.iter().map(|(_, op, id)| (*op, id.clone())).collect()
        };
        let (insert, update, delete) = (RowOp::Insert, RowOp::Update, RowOp::Delete);
        let [one, two] = [1, 2].map(Value::Int);
        let so_far = [(insert, one.clone()), (insert, two.clone()), (update, one)];
        assert_eq!(ops(&first), so_far, "{engine:?}");
        // Each of its own transactions is numbered by the node, in ascending order, and tells when it was made.
        let ids: Vec<&Id> = first.iter().map(|(begin, ..)| &begin.id).collect();
        assert!(ids.is_sorted_by(|a, b| a.writer == b.writer && a.place < b.place), "{ids:?}");
        if let Some(identity) = &head.identity {
            assert_eq!(&ids[0].writer.origin, identity, "{engine:?}");
        }
        assert!(first.iter().all(|(begin, ..)| begin.made.is_some()), "{engine:?}");
        let ended = journal.ended().unwrap();

        // Later it goes on where it ended, and tells what came since; read whole, it tells all alike.
        place.write(Write::Delete(2));
        let mut later = open();
        later.head().unwrap();
        assert!(later.go_on(&ended).unwrap(), "{engine:?}");
        let since = told(&mut *later);
        assert_eq!(ops(&since), [(delete, two)], "{engine:?}");
        assert!(since[0].0.order > first[2].0.order, "{engine:?}");
        let mut whole = open();
        assert_eq!(whole.head().unwrap().identity, head.identity, "{engine:?}");
        let all = told(&mut *whole);
        let id = |rows: &[(Begin, RowOp, Value)]| -> Vec<Id> {
            rows.iter().map(|(begin, ..)| begin.id.clone()).collect()
        };
        assert_eq!(id(&all), [id(&first), id(&since)].concat(), "{engine:?}");

        // Broken off it has not ended, and a place that it does not have is none to go on from.
        let mut broken = open();
        broken.head().unwrap();
        broken.read(&mut |_| ControlFlow::Break(())).unwrap();
        assert_eq!(broken.ended(), None, "{engine:?}");
        let nowhere = JournalPosition { order: 1, at: "nowhere".to_owned() };
        assert!(!open().go_on(&nowhere).unwrap_or(false), "{engine:?}");
        drop((journal, later, whole, broken));
        if let Some(server) = place.server {
            end.iter().for_each(|sql| server.run(sql).unwrap());
        }
        place.end();
    }
}

#[test]
fn rows_tell_their_last_writes_where_the_engine_keeps_them() {
    for place in Place::all("written_last") {
        let engine = place.engine();
        place.write(Write::Insert(1, "one"));
        place.write(Write::Insert(2, "two"));
        place.write(Write::Update(1, "uno"));
        match place.with(|adapter, site| adapter.last_writes(site)) {
            Err(fault) => {
                assert_eq!(fault.kind, FaultKind::NotSupported, "{engine:?}: {fault}");
                assert!(fault.what.contains(engine.name()), "{fault}");
                assert_ne!(engine, Engine::Postgres);
            }
            Ok(mut tells) => {
                let shape = place.with(|adapter, site| adapter.rows(site)).unwrap();
                let shape = { shape }.shape(place.table).unwrap();
                let key = vec![shape.column("id").unwrap().clone()];
                let keys = [1, 2, 3].map(|id| vec![Value::Int(id)]);
                let rows = RowKeys { columns: key, keys: keys.into() };
                let name = ["public".to_owned(), place.table.to_owned()];
                let told = tells.last_writes(&name, &rows).unwrap();
                let [Some(first), Some(second), None] = &told[..] else { panic!("{told:?}") };
                assert!(second.made < first.made, "{told:?}");
                assert_eq!(first.came, WriteOrigin::MadeHere);
                // A copy of what was told stands as long as the row does.
                assert_eq!(
                    tells.last_writes(&name, &rows).unwrap()[1].as_ref().unwrap().made,
                    second.made
                );
            }
        }
        place.end();
    }
}

/// What a row of the table becomes, by its key.
fn step(place: &Place, id: i64, (before, after): (Option<&str>, Option<&str>)) -> Step {
    let shape = place.with(|adapter, site| adapter.rows(site).unwrap().shape(place.table).unwrap());
    let column = |name: &str| Column {
        name: name.to_owned(),
        reading: Conversion {
            kind: CommonKind::AsStored,
            fraction: None,
            treatment: Normalization::default(),
        },
    };
    let layout =
        Layout { columns: vec![column("id"), column("v")], key: vec![0], shown: vec![0, 1] };
    let local = LocalTable {
        engine: place.engine(),
        name: place.table.to_owned(),
        columns: vec!["id".to_owned(), "v".to_owned()],
        shape,
        shared: SharedColumns::default(),
    };
    let row = |v: &str| Arc::new(vec![Value::Int(id.into()), Value::text(v)]);
    let parts = StepParts {
        node: 0,
        set: 0,
        table: place.table.to_owned(),
        copies: None,
        reason: String::new(),
        loses: None,
        onward: String::new(),
        before: before.map(row),
        after: after.map(row),
        versions: Vec::new(),
    };
    Step::told(parts, Arc::new(local), Arc::new(layout)).unwrap()
}

impl Place {
    /// By the account that may write.
    fn writer(&self) -> Box<dyn WriteSteps> {
        let password = || Ok(Some(Password::new("lab-writer".to_owned())));
        self.with(|adapter, site| {
            let user = Some("step_writer");
            adapter.write(&Site { user, password: &password, ..site.clone() }).unwrap()
        })
    }

    /// The rows of the table, as the node itself tells them.
    pub(crate) fn content(&self) -> Vec<(i64, String)> {
        let sql = format!("SELECT id, v FROM {} ORDER BY id", self.table);
        match self.server {
            None => {
                let file = rusqlite::Connection::open(self.folder.path().join("a.db")).unwrap();
                let mut rows = file.prepare(&sql).unwrap();
                let row = |row: &rusqlite::Row<'_>| Ok((row.get(0)?, row.get(1)?));
                rows.query_map([], row).unwrap().map(Result::unwrap).collect()
            }
            Some(server) if server.engine().is_postgres() => {
                let rows = server.postgres().unwrap().query(&sql, &[]).unwrap();
                rows.iter().map(|row| (row.get(0), row.get(1))).collect()
            }
            Some(server) => {
                use mysql::prelude::Queryable as _;
                server.mariadb().unwrap().query(&sql).unwrap()
            }
        }
    }
}

#[test]
fn steps_are_written_batch_by_batch_and_each_batch_is_known_by_its_mark() {
    for place in Place::all("written") {
        place.write(Write::Insert(1, "one"));
        place.write(Write::Insert(2, "two"));
        place.write(Write::Insert(3, "three"));
        if let Some(server) = place.server {
            // An account that only reads is refused.
            let reads = place.with(|adapter, site| adapter.write(site).map(drop));
            assert!(reads.is_err(), "{:?}", place.engine());
            let account = if server.engine().is_postgres() {
                "CREATE ROLE step_writer LOGIN SUPERUSER PASSWORD 'lab-writer'".to_owned()
            } else {
                format!(
                    "SET SESSION sql_log_bin = 0; CREATE USER step_writer@'%' IDENTIFIED BY 'lab-writer'; \
                     GRANT ALL ON {DATABASE}.* TO step_writer@'%'; GRANT BINLOG ADMIN ON *.* TO step_writer@'%'"
                )
            };
            server.run(&account).unwrap();
        }
        let before = place.content();
        let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap();
        let run = u32::try_from(since.as_secs()).unwrap();
        let mark = |batch| BatchMark { run, plan: 77, batch };
        let mut writer = place.writer();
        let steps = [
            step(&place, 1, (Some("one"), Some("it's \\ \"1\""))),
            step(&place, 2, (Some("two"), None)),
            step(&place, 4, (None, Some("four"))),
            // Another row stands there than the step expects.
            step(&place, 3, (Some("other"), Some("x"))),
            step(&place, 3, (None, Some("x"))),
        ];
        let write = |writer: &mut Box<dyn WriteSteps>| -> Vec<u64> {
            steps.iter().map(|step| writer.write(step).unwrap()).collect()
        };
        // Tried, and rolled back.
        writer.begin(None).unwrap();
        assert_eq!(write(&mut writer), [1, 1, 1, 0, 0], "{:?}", place.engine());
        writer.roll_back().unwrap();
        assert_eq!(place.content(), before);
        writer.begin(Some(mark(1))).unwrap();
        write(&mut writer);
        writer.roll_back().unwrap();
        assert_eq!(place.content(), before);
        assert_eq!(writer.was_kept(mark(1), None).unwrap(), Some(false), "{:?}", place.engine());
        // A session that is lost in the middle keeps nothing, and the next one knows.
        let mut lost = place.writer();
        drop(writer);
        lost.begin(Some(mark(1))).unwrap();
        write(&mut lost);
        let transaction = lost.transaction().unwrap();
        drop(lost);
        let mut writer = place.writer();
        assert_eq!(writer.was_kept(mark(1), transaction.as_deref()).unwrap(), Some(false));
        assert_eq!(place.content(), before);
        // Kept, and known to another session.
        writer.begin(Some(mark(2))).unwrap();
        assert_eq!(write(&mut writer), [1, 1, 1, 0, 0]);
        let transaction = writer.transaction().unwrap();
        writer.commit().unwrap();
        let after =
            vec![(1, "it's \\ \"1\"".to_owned()), (3, "three".to_owned()), (4, "four".to_owned())];
        assert_eq!(place.content(), after, "{:?}", place.engine());
        drop(writer);
        let mut writer = place.writer();
        assert_eq!(
            writer.was_kept(mark(2), transaction.as_deref()).unwrap(),
            Some(true),
            "{:?}",
            place.engine()
        );
        assert_eq!(writer.was_kept(mark(3), None).unwrap(), Some(false), "{:?}", place.engine());
        // A write that the node refuses leaves the others possible.
        let long = "x".repeat(60);
        writer.begin(Some(mark(3))).unwrap();
        let refused = writer.write(&step(&place, 9, (None, Some(&long))));
        match place.engine() {
            Engine::Sqlite => assert_eq!(refused, Ok(1)), // it knows no lengths
            _ => assert!(matches!(refused, Err(WriteFault::Refused(_))), "{refused:?}"),
        }
        writer.roll_back().unwrap();
        // The way back.
        writer.begin(Some(mark(4))).unwrap();
        for step in steps[..3].iter().rev() {
            assert_eq!(writer.write(&step.reversed()).unwrap(), 1);
        }
        writer.commit().unwrap();
        assert_eq!(place.content(), before, "{:?}", place.engine());
        // A later run goes over the marks of an earlier one only where there is no room for both.
        let later = BatchMark { run: run + 5, plan: 78, batch: 1 };
        writer.begin(Some(later)).unwrap();
        assert_eq!(writer.write(&steps[0]).unwrap(), 1);
        writer.commit().unwrap();
        drop(writer);
        let mut writer = place.writer();
        let then = writer.was_kept(mark(4), None).unwrap();
        let earlier = writer.begin(Some(mark(5)));
        if place.engine() == Engine::Postgres {
            assert_eq!(then, None);
            let fault = earlier.unwrap_err();
            assert!(fault.what.contains("has come further than this run may go"), "{fault}");
        } else {
            assert_eq!(then, Some(true));
            earlier.unwrap();
            writer.roll_back().unwrap();
        }
        writer.forget(later).unwrap();
        writer.forget(mark(0)).unwrap();
        if place.engine() != Engine::Postgres {
            assert_eq!(
                writer.was_kept(mark(4), None).unwrap(),
                Some(false),
                "{:?}",
                place.engine()
            );
        }
        drop(writer);
        place.end();
    }
}
