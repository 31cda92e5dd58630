//! Conflicts in exported journals, and in the stand-in's, through the built program.

use crate::common::Folder;
use crate::common::conflicts::one;
use serde_json::Value as Json;

const TOPOLOGY: &str = "name = \"huts\"\n\
    [node.valley]\nat = \"sqlite:valley.db\"\njournal = \"valley.ndjson\"\nwrites = true\n\
    [node.saddle]\nat = \"sqlite:saddle.db\"\njournal = \"saddle.ndjson\"\nwrites = true\n\
    [set.stays]\ntables = [\"stay\"]\n[[link]]\nmesh = [\"valley\", \"saddle\"]\ncarries = [\"stays\"]\n";

const TABLES: &str = r#""tables": {"stay": {"columns": ["id", "bed", "note"], "key": ["id"]}}"#;

fn update(origin: &str, number: u64, time: &str, bed: i64) -> String {
    format!(
        r#"{{"origin": "{origin}", "number": {number}, "time": "{time}", "changes": [{{"table": "stay", "op": "update", "before": {{"id": 7, "bed": 1}}, "after": {{"id": 7, "bed": {bed}}}}}]}}"#
    )
}

/// Both nodes write the same row before they hear of each other.
fn raced(since: &str) -> (String, String) {
    let head = |node: &str| {
        format!(
            "{{\"keen\": \"journal\", \"version\": 2, \"node\": \"{node}\"{since}, {TABLES}}}\n"
        )
    };
    // By the clocks, the valley wrote an hour after the saddle.
    let (valley, saddle) = (
        update("valley", 5, "2026-09-25T09:00:00Z", 3),
        update("saddle", 9, "2026-09-25T08:00:00Z", 4),
    );
    (
        format!("{}{valley}\n{saddle}\n", head("valley")),
        format!("{}{saddle}\n{valley}\n", head("saddle")),
    )
}

fn folder(since: &str) -> Folder {
    let folder = Folder::new(TOPOLOGY);
    let (valley, saddle) = raced(since);
    std::fs::write(folder.path("valley.ndjson"), valley).unwrap();
    std::fs::write(folder.path("saddle.ndjson"), saddle).unwrap();
    folder
}

const JSON: [&str; 3] = ["conflicts", "--format", "json"];

#[test]
fn stores_that_keen_cannot_read_are_judged_by_their_exported_journals() {
    let folder = folder(", \"since\": {}");
    let run = folder.keen(&JSON);
    assert_eq!(run.code, 1, "{run:?}");
    let found = one(&run, "update-update");
    assert_eq!((&found["proven"], &found["standing"]), (&true.into(), &"not all read".into()));
    assert_eq!(run.json()["complete"], false);
    assert_eq!(found["writes"][0]["fate"], "unknown", "nobody could be asked what is there now");

    // With the rows at hand it says what came of it.
    for (node, bed) in [("valley", 4), ("saddle", 3)] {
        folder.sql(
            &format!("{node}.db"),
            &format!("CREATE TABLE stay (id INTEGER PRIMARY KEY, bed INTEGER, note TEXT); INSERT INTO stay VALUES (7, {bed}, NULL);"),
        );
    }
    let run = folder.keen(&JSON);
    let found = one(&run, "update-update");
    assert_eq!(
        (&found["standing"], &run.json()["complete"]),
        (&"settled apart".into(), &true.into())
    );
    assert_eq!(found["won_by"], serde_json::json!(["last-come"]));
    let text = folder.keen(&["conflicts", "--table", "stay", "--key", "7"]);
    for part in [
        "The life of stay id 7: 2 writes",
        "had not seen",
        "bed 1 \u{2192} 3",
        "saddle's at valley; valley's at saddle",
    ] {
        assert!(text.out.contains(part), "{part:?} in\n{}", text.out);
    }
    let lines = folder.keen(&["conflicts", "--format", "ndjson"]).lines("conflicts-line");
    assert_eq!(lines.len(), 3);
    assert_eq!(lines[1]["conflict"]["kind"], "update-update");
    assert_eq!(lines[2]["summary"]["conflicts"], 1);
}

#[test]
fn a_table_that_cannot_be_judged_is_left_out_in_the_file() {
    let folder = folder(", \"since\": {}");
    let with = |rest: &str| {
        let text = TOPOLOGY.replace("[\"stay\"]", "[\"stay\", \"line\"]");
        std::fs::write(folder.path("keen.toml"), format!("{text}{rest}")).unwrap();
    };
    for (node, bed) in [("valley", 4), ("saddle", 4)] {
        folder.sql(
            &format!("{node}.db"),
            &format!("CREATE TABLE stay (id INTEGER PRIMARY KEY, bed INTEGER, note TEXT); INSERT INTO stay VALUES (7, {bed}, NULL); CREATE TABLE line (txt TEXT)"),
        );
    }
    // The journals say nothing of lines: as long as they are asked for, the answer is never whole.
    with("");
    for _ in 0..2 {
        let run = folder.keen(&["conflicts", "--new"]);
        assert!(run.out.contains("line"), "{run:?}");
        assert_eq!(folder.keen(&JSON).json()["complete"], false);
    }
    let run = folder.keen(&["conflicts", "--new"]);
    assert!(run.out.contains("list them under exclude in [conflicts]"), "{run:?}");
    assert_eq!(run.code, 3);
    with("[conflicts]\nexclude = \"line\"\n");
    let run = folder.keen(&JSON);
    assert_eq!((run.code, &run.json()["complete"]), (1, &true.into()), "{run:?}");
    assert_eq!(run.json()["left_out"], serde_json::json!(["table line"]), "{run:?}");
    assert_eq!(folder.keen(&["conflicts", "--new"]).code, 0);
    // Who names it looks at it all the same; and a plan does not ask its journal either.
    assert_eq!(folder.keen(&["conflicts", "--table", "line"]).code, 3);
    assert_eq!(folder.keen(&["plan", "--conflicts"]).err, "");
    with("[conflicts]\nexclude = [\"stay\", \"line\"]\n");
    let run = folder.keen(&JSON);
    assert_eq!(run.code, 2);
    assert!(run.err.contains("every table is excluded"), "{run:?}");
    with("[conflicts]\nexclude = [\"lines\"]\n");
    let run = folder.keen(&JSON);
    assert_eq!(run.code, 2);
    assert!(
        run.err.contains("no set has a table \"lines\"") && run.err.contains("\"line\""),
        "{run:?}"
    );
}

#[test]
fn what_is_asked_for_is_shown_and_the_rest_is_counted() {
    let folder = folder(", \"since\": {}");
    for (args, shown) in [
        (&["--kind", "update-update"][..], 1),
        (&["--kind", "insert-insert"], 0),
        (&["--lost-only"], 0),
        (&["--since", "2026-09-25T08:30:00Z"], 1),
        (&["--since", "2026-09-26"], 0),
        (&["--until", "2026-09-25T08:30:00Z"], 1),
        (&["--until", "2026-09-24"], 0),
        (&["--since", "valley:4"], 1),
        (&["--since", "valley:5,saddle:9"], 0),
        (&["--until", "valley:4,saddle:8"], 0),
        (&["--table", "stay", "--key", "7"], 1),
        (&["--table", "stay", "--key", "8"], 0),
        (&["--table", "stay", "--key", "\"7,1\""], 0),
    ] {
        let all: Vec<&str> = JSON.iter().chain(args).copied().collect();
        let run = folder.keen(&all);
        assert_eq!(run.conflicts().len(), shown, "{args:?} {run:?}");
        assert_eq!(run.json()["summary"]["not_asked_for"], 1 - shown, "{args:?}");
    }
    for (args, said) in [
        (&["--kind", "fight"][..], "there is insert-insert, update-delete"),
        (&["--since", "yesterday"], "write a time in UTC like"),
        (&["--key", "7"], "--table"),
        (&["--table", "stay", "--key", "7,1"], "a key of stay has 1 cell (id), but --key names 2"),
        (&["--table", "stay", "--key", "7,1", "--format", "json"], "in double quotes"),
        (&["--table", "stays"], "no set has a table stays"),
        (&["--node", "peak"], "there is no node peak"),
    ] {
        let all: Vec<&str> = ["conflicts"].iter().chain(args).copied().collect();
        let run = folder.keen(&all);
        assert!(run.code == 2 && run.err.contains(said), "{args:?} {run:?}");
    }
}

#[test]
fn a_file_that_does_not_say_where_it_begins_proves_what_it_can() {
    // Each has its own first transaction, and what the other wrote comes after it.
    let folder = folder("");
    let run = folder.keen(&JSON);
    assert_eq!(one(&run, "update-update")["proven"], true, "both stand in both files");
    // Without the saddle's file nobody knows what the saddle had seen. Two hours later, by the clocks, it had.
    std::fs::remove_file(folder.path("saddle.ndjson")).unwrap();
    let (valley, _) = raced("");
    let write = |time: &str| {
        std::fs::write(folder.path("valley.ndjson"), valley.replace("T09:00:00Z", time)).unwrap();
    };
    write("T06:00:00Z");
    assert_eq!(folder.keen(&JSON).conflicts().len(), 0);
    // Had they been a second apart, it would be possible that it had not.
    write("T07:59:59Z");
    let found = one(&folder.keen(&JSON), "update-update");
    assert_eq!(found["proven"], false);
    assert_eq!(found["doubt"], serde_json::json!({"why": "journal_not_read", "node": "saddle"}));
}

#[test]
fn files_that_are_wrong_say_where() {
    let folder = folder(", \"since\": {}");
    let (valley, _) = raced(", \"since\": {}");
    let fault = |text: &str| -> String {
        std::fs::write(folder.path("valley.ndjson"), text).unwrap();
        let run = folder.keen(&JSON);
        assert_ne!(run.code, 0, "{run:?}");
        run.json()["nodes"][0]["fault"]["what"]
            .as_str()
            .unwrap_or_else(|| panic!("{run:?}"))
            .to_owned()
    };
    assert!(fault("").contains("is not a journal that keen can read"));
    assert!(fault(&valley.replace("\"version\": 2", "\"version\": 9")).contains("has version 9"));
    assert!(
        fault(&valley.replace("\"keen\": \"journal\"", "\"keen\": \"audit\""))
            .contains("of the kind \"audit\"")
    );
    assert!(fault(&valley.replace("\"number\": 9", "\"nummer\": 9")).contains("line 3 of"));
    assert!(
        fault(&valley.replace("2026-09-25T08:00:00Z", "today"))
            .contains("time is not a time with a zone")
    );
    assert!(
        fault(&valley.replace("\"bed\": 4", "\"bed\": [4]"))
            .contains("column bed of stay does not hold a value")
    );
    // A line that is torn costs what comes after it.
    let torn = &valley[..valley.len() - 40];
    assert!(fault(torn).contains("line 3 of"));
    assert_eq!(folder.keen(&JSON).json()["nodes"][0]["transactions"], 1);
    // A log that was begun anew gives old numbers out again.
    let again = valley.clone() + &update("valley", 2, "2026-09-25T10:00:00Z", 8) + "\n";
    assert!(fault(&again).contains("its own numbers go back"));
}

#[test]
fn a_number_given_out_twice_is_told() {
    let folder = folder(", \"since\": {}");
    let (valley, _) = raced(", \"since\": {}");
    // Of one transaction logs may tell different seconds.
    let later = valley.replace("T08:00:00Z", "T08:00:07Z");
    std::fs::write(folder.path("valley.ndjson"), &later).unwrap();
    assert_eq!(folder.keen(&JSON).json()["reused"], serde_json::json!([]));
    // What it wrote is its own.
    let other = valley.replace("\"bed\": 4", "\"bed\": 77");
    assert_ne!(other, valley);
    std::fs::write(folder.path("valley.ndjson"), other).unwrap();
    let run = folder.keen(&JSON);
    assert_eq!(run.json()["reused"], serde_json::json!(["saddle/9"]));
}

#[test]
fn the_document_describes_what_is_read() {
    let document = include_str!("../../../../docs/journal.md");
    let examples: Vec<&str> =
        document.split("```json\n").skip(1).filter_map(|part| part.split("```").next()).collect();
    assert_eq!(examples.len(), 2);
    let folder = Folder::new(TOPOLOGY);
    std::fs::write(folder.path("valley.ndjson"), examples.concat()).unwrap();
    std::fs::write(folder.path("saddle.ndjson"), examples[0].replace("valley", "saddle")).unwrap();
    let run = folder.keen(&JSON);
    assert_eq!(run.json()["nodes"][0]["transactions"], 1, "{run:?}");
    assert_eq!(run.json()["nodes"][0]["fault"], Json::Null);
    for example in examples {
        let example: Json = serde_json::from_str(example).unwrap();
        crate::common::schema::check("journal-line", &example);
    }
}

#[test]
fn the_history_of_a_table_counts_each_conflict_once_by_its_day() {
    let folder = folder(", \"since\": {}");
    for _ in 0..3 {
        assert_eq!(folder.keen(&JSON).code, 1);
    }
    let run = folder.keen(&["history", "stay", "--format", "json"]);
    let days = run.json()["conflicts_by_day"].clone();
    assert_eq!(
        days,
        serde_json::json!([{"day": "2026-09-25", "conflicts": 1, "apart": 0, "writes_lost": 0}])
    );
    let text = folder.keen(&["history", "stay"]);
    assert!(
        text.out.contains("2026-09-25") && text.out.contains("Conflicts, by the day"),
        "{text:?}"
    );
    assert_eq!(folder.keen(&["history"]).out.matches("1 conflict, 1 not all read").count(), 3);

    // A later run that reads fewer nodes knows less, and takes nothing back.
    for (node, bed) in [("valley", 4), ("saddle", 3)] {
        folder.sql(
            &format!("{node}.db"),
            &format!("CREATE TABLE stay (id INTEGER PRIMARY KEY, bed INTEGER, note TEXT); INSERT INTO stay VALUES (7, {bed}, NULL);"),
        );
    }
    let apart = || {
        folder.keen(&["history", "stay", "--format", "json"]).json()["conflicts_by_day"][0]["apart"]
            .clone()
    };
    assert_eq!(folder.keen(&JSON).code, 1);
    assert_eq!(apart(), 1);
    std::fs::remove_file(folder.path("saddle.db")).unwrap();
    assert_eq!(folder.keen(&JSON).code, 1);
    assert_eq!(apart(), 1);
}

#[test]
fn a_later_run_goes_on_where_the_last_got_to() {
    let folder = folder(", \"since\": {}");
    for (node, bed) in [("valley", 4), ("saddle", 3)] {
        folder.sql(
            &format!("{node}.db"),
            &format!("CREATE TABLE stay (id INTEGER PRIMARY KEY, bed INTEGER, note TEXT); INSERT INTO stay VALUES (7, {bed}, NULL);"),
        );
    }
    let read = |run: &crate::common::Run| -> Vec<(u64, u64)> {
        let of = |node: &Json, name: &str| node[name].as_u64().unwrap();
        let nodes = run.json()["nodes"].as_array().unwrap().clone();
        nodes.iter().map(|n| (of(n, "transactions"), of(n, "transactions_before"))).collect()
    };
    let first = folder.keen(&JSON);
    assert_eq!(read(&first), [(2, 0), (2, 0)]);
    assert_eq!(one(&first, "update-update")["new"], serde_json::Value::Null, "nobody had looked");

    // The saddle writes on, and the valley has not heard of it yet; then it writes too.
    let append = |node: &str, line: &str| {
        use std::io::Write as _;
        let path = folder.path(&format!("{node}.ndjson"));
        let mut file = std::fs::OpenOptions::new().append(true).open(path).unwrap();
        writeln!(file, "{line}").unwrap();
    };
    let late = update("saddle", 10, "2026-09-25T10:00:00Z", 5);
    append("saddle", &late);
    let run = folder.keen(&JSON);
    assert_eq!(read(&run), [(0, 2), (1, 2)]);
    assert_eq!(run.conflicts().len(), 1, "nothing new raced: {run:?}");
    let early = update("valley", 6, "2026-09-25T07:00:00Z", 6);
    append("valley", &early);
    append("valley", &late);
    append("saddle", &early);
    let run = folder.keen(&JSON);
    assert_eq!(read(&run), [(2, 2), (1, 3)]);
    let numbers = |run: &crate::common::Run| -> Vec<Vec<String>> {
        let of = |c: &Json| {
            let writes = c["writes"].as_array().unwrap().clone();
            writes.iter().map(|w| w["transaction"].as_str().unwrap().to_owned()).collect()
        };
        run.conflicts().iter().map(of).collect()
    };
    let mut both = numbers(&run);
    both.sort();
    assert_eq!(both, [["valley/5", "saddle/9"], ["valley/6", "saddle/10"]]);
    let text = folder.keen(&["conflicts"]).out;
    assert!(text.contains("Read on from where the run of"), "{text}");
    // What is known is told again, and --new leaves it out.
    assert_eq!(folder.keen(&["conflicts", "--new", "--format", "json"]).conflicts().len(), 0);
    let whole = folder.keen(&["conflicts", "--whole", "--format", "json"]);
    assert_eq!(read(&whole), [(4, 0), (4, 0)]);
    let mut again = numbers(&whole);
    again.sort();
    assert_eq!(again, both);
    // Runs over fewer tables go on from runs over the same.
    let table = ["conflicts", "--format", "json", "--table", "stay"];
    assert_eq!(read(&folder.keen(&table)), [(4, 0), (4, 0)]);
    assert_eq!(read(&folder.keen(&table)), [(0, 4), (0, 4)]);

    // A file that was written anew is read anew, with all the others.
    let path = folder.path("valley.ndjson");
    let text = std::fs::read_to_string(&path).unwrap();
    std::fs::write(&path, text.replace("10:00:00", "10:00:01")).unwrap();
    let run = folder.keen(&JSON);
    assert_eq!(read(&run), [(4, 0), (4, 0)]);
    assert!(run.json()["went_on_from"].is_null());

    // A shape that changed, or another unique list: nothing is gone on from.
    folder.sql("valley.db", "ALTER TABLE stay ADD COLUMN guests INTEGER");
    assert_eq!(read(&folder.keen(&JSON)), [(4, 0), (4, 0)]);
    assert_eq!(folder.keen(&["conflicts", "--no-ledger"]).code, 1);
}

#[test]
fn a_plan_names_what_raced_decides_by_the_latest_and_offers_lost_writes_back() {
    let folder = Folder::new("");
    assert_eq!(folder.keen(&["demo", "--dir", "huts"]).code, 0);
    let plan = |more: &[&str]| -> Json {
        let all: Vec<&str> = ["plan", "--topology", "huts/keen.toml", "--format", "json"]
            .iter()
            .chain(more)
            .copied()
            .collect();
        folder.keen(&all).json()
    };
    let of = |plan: &Json, what: &str, id: i64| -> Vec<Json> {
        let list = plan[what].as_array().unwrap().iter();
        list.filter(|one| one["key"]["id"] == id).cloned().collect()
    };
    // Without the journals nothing is known of it.
    let plain = plan(&[]);
    assert!(!plain.to_string().contains("raced") && of(&plain, "questions", 421).is_empty());
    let told = plan(&["--conflicts"]);
    // Counting would take the bed that saddle alone has: it is asked, and who raced is said.
    let asked = of(&told, "questions", 361).remove(0);
    let why = asked["why"].as_str().unwrap();
    assert!(
        why.contains("it comes from writes that raced: valley (valley/818), saddle (saddle/18);"),
        "{why}"
    );
    let step = of(&told, "steps", 603).remove(0);
    let reason = step["reason"].as_str().unwrap();
    assert!(reason.contains("it comes from a write of cirque (cirque/21"), "{reason}");
    let asked = of(&told, "questions", 101).remove(0);
    assert!(asked["why"].as_str().unwrap().contains("cirque (cirque/18)"), "{asked}");
    // All copies agree on this row, and a write is lost: both contents are offered.
    let lost = of(&told, "questions", 421).remove(0);
    assert!(lost["why"].as_str().unwrap().starts_with("a write of valley (valley/824"), "{lost}");
    let choices = lost["choices"].as_array().unwrap();
    assert_eq!(choices[1]["nodes"], serde_json::json!([]), "nobody holds it any more");
    let text = folder.keen(&["plan", "--topology", "huts/keen.toml", "--conflicts"]);
    assert!(text.out.contains("what was lost: bed = 4, night = '2026-09-29'"), "{}", text.out);
    let content = |at: usize| {
        (&choices[at]["row"]["bed"], &choices[at]["row"]["night"], &choices[at]["row"]["paid on"])
    };
    assert_eq!(content(0), (&12.into(), &"2026-07-06".into(), &"2026-09-26".into()));
    assert_eq!(content(1), (&4.into(), &"2026-09-29".into(), &"2026-09-26".into()));
}

#[test]
fn a_column_says_which_version_was_written_last() {
    let folder = Folder::new(TOPOLOGY);
    let topology = std::fs::read_to_string(folder.path("keen.toml")).unwrap();
    let rule = |rule: &str| {
        std::fs::write(folder.path("keen.toml"), format!("{topology}[authority]\n{rule}\n"))
            .unwrap();
    };
    for (node, rows) in [
        (
            "valley",
            "(1, 10, '2026-09-25 09:00:00'), (2, 20, '2026-09-25'), (3, 30, NULL), (4, 40, '2026-09-25T08:00:00Z')",
        ),
        (
            "saddle",
            "(1, 11, '2026-09-25 10:00:00'), (2, 21, '2026-09-25'), (3, 31, '2026-09-25'), (5, 50, 'x')",
        ),
    ] {
        folder.sql(
            &format!("{node}.db"),
            &format!("CREATE TABLE stay (id INTEGER PRIMARY KEY, bed INTEGER, at TEXT); INSERT INTO stay VALUES {rows};"),
        );
    }
    rule("stay = { latest = \"At\" }");
    let run = folder.keen(&["plan", "--format", "json"]);
    let plan = run.json();
    let step = &plan["steps"][0];
    assert_eq!((&step["node"], &step["key"]["id"]), (&"valley".into(), &1.into()), "{run:?}");
    assert_eq!(step["reason"], "its \"At\" is the latest, 2026-09-25 10:00:00");
    assert_eq!(plan["steps"].as_array().unwrap().len(), 1);
    let asked: Vec<&str> =
        plan["questions"].as_array().unwrap().iter().map(|q| q["why"].as_str().unwrap()).collect();
    assert!(asked[0].ends_with("several versions have the same value there"), "{asked:?}");
    assert!(asked[1].ends_with("not every version has a time or a number there"), "{asked:?}");
    assert!(asked[2].contains("does not say when it was deleted"), "{asked:?}");

    // As a default, and a number that grows.
    rule("default = { latest = \"bed\" }");
    let plan = folder.keen(&["plan", "--format", "json"]).json();
    let nodes: Vec<&str> =
        plan["steps"].as_array().unwrap().iter().map(|s| s["node"].as_str().unwrap()).collect();
    assert_eq!(nodes, ["valley"; 3], "the saddle's numbers are higher");
    rule("default = { latest = \"height\" }");
    let plan = folder.keen(&["plan", "--format", "json"]).json();
    assert!(plan["questions"][0]["why"].as_str().unwrap().contains("column is not compared"));
    for (wrong, said) in [
        ("stay = { latest = 3 }", "latest must be a string"),
        ("stay = { last = \"at\" }", "unknown key \"last\""),
        ("stay = {}", "a rule, or { latest ="),
        ("stays = { latest = \"at\" }", "no set has a table \"stays\""),
    ] {
        rule(wrong);
        let run = folder.keen(&["plan"]);
        assert!(run.code == 2 && run.err.contains(said), "{wrong}: {run:?}");
    }
}

#[test]
fn the_version_that_was_written_last_is_right_where_the_file_says_so() {
    let folder = folder(", \"since\": {}");
    let text = std::fs::read_to_string(folder.path("keen.toml")).unwrap();
    std::fs::write(folder.path("keen.toml"), text + "[authority]\ndefault = \"latest\"\n").unwrap();
    for (node, bed) in [("valley", 4), ("saddle", 3)] {
        folder.sql(
            &format!("{node}.db"),
            &format!("CREATE TABLE stay (id INTEGER PRIMARY KEY, bed INTEGER, note TEXT); INSERT INTO stay VALUES (7, {bed}, NULL);"),
        );
    }
    let open = folder.keen(&["plan", "--format", "json"]).json();
    assert_eq!(open["steps"].as_array().unwrap().len(), 0);
    assert!(open["questions"][0]["why"].as_str().unwrap().contains("--conflicts"), "{open}");
    // The valley wrote an hour after the saddle, by their clocks, and the saddle holds that.
    let decided = folder.keen(&["plan", "--conflicts", "--format", "json"]).json();
    assert_eq!(decided["questions"].as_array().unwrap().len(), 0, "{decided}");
    let step = &decided["steps"][0];
    assert_eq!(step["node"], "valley");
    assert!(
        step["reason"]
            .as_str()
            .unwrap()
            .starts_with("it was written last, at 2026-09-25 09:00:00Z"),
        "{step}"
    );
}

#[test]
fn what_was_looked_at_and_accepted_is_told_apart_until_more_comes_of_it() {
    let folder = folder(", \"since\": {}");
    for (node, bed) in [("valley", 3), ("saddle", 3)] {
        folder.sql(
            &format!("{node}.db"),
            &format!("CREATE TABLE stay (id INTEGER PRIMARY KEY, bed INTEGER, note TEXT); INSERT INTO stay VALUES (7, {bed}, NULL);"),
        );
    }
    let run = folder.keen(&JSON);
    let found = one(&run, "update-update");
    assert_eq!((run.code, &found["writes_lost"], &found["accepted"]), (1, &1.into(), &Json::Null));
    let id = found["id"].as_str().unwrap().to_owned();
    assert!(folder.keen(&["conflicts"]).out.contains(&format!("[{id}]")));
    // Not without a reason, and not what was never found.
    assert_eq!(folder.keen(&["conflicts", "--accept", &id]).code, 2);
    assert_eq!(folder.keen(&["conflicts", "--accept", &id, "--because", " "]).code, 2);
    assert_eq!(folder.keen(&["conflicts", "--accept", "00000000", "--because", "why not"]).code, 2);
    let accepted = folder.keen(&["conflicts", "--accept", &id, "--because", "the guest was asked"]);
    assert_eq!(accepted.code, 0, "{accepted:?}");
    let run = folder.keen(&JSON);
    let found = one(&run, "update-update");
    assert_eq!(
        (run.code, &found["accepted"]["because"]),
        (0, &"the guest was asked".into()),
        "{run:?}"
    );
    assert_eq!(folder.keen(&["conflicts", "--new"]).code, 0);
    let text = folder.keen(&["conflicts"]).out;
    assert!(text.contains("the guest was asked") && text.contains("1 accepted"), "{text}");
    let history = folder.keen(&["history", "stay"]).out;
    assert!(history.contains(&id) && history.contains("the guest was asked"), "{history}");
    // The copies part: that was accepted by nobody.
    folder.sql("saddle.db", "UPDATE stay SET bed = 9");
    let run = folder.keen(&JSON);
    let found = one(&run, "update-update");
    assert_eq!((run.code, &found["accepted"]), (1, &Json::Null), "{run:?}");
}

#[test]
fn more_writes_of_one_thing_than_are_judged_is_never_none() {
    use std::fmt::Write as _;
    // One more than keen judges together.
    const WRITES: u64 = 200_001;
    let folder = folder(", \"since\": {}");
    let mut lines = format!(
        "{{\"keen\": \"journal\", \"version\": 2, \"node\": \"valley\", \"since\": {{}}, {TABLES}}}\n"
    );
    for number in 1..=WRITES {
        writeln!(lines, "{}", update("valley", number, "2026-09-25T09:00:00Z", 3)).unwrap();
    }
    std::fs::write(folder.path("valley.ndjson"), lines).unwrap();
    let head = format!(
        "{{\"keen\": \"journal\", \"version\": 2, \"node\": \"saddle\", \"since\": {{}}, {TABLES}}}\n"
    );
    std::fs::write(folder.path("saddle.ndjson"), head).unwrap();
    for node in ["valley", "saddle"] {
        folder.sql(
            &format!("{node}.db"),
            "CREATE TABLE stay (id INTEGER PRIMARY KEY, bed INTEGER, note TEXT); INSERT INTO stay VALUES (7, 3, NULL);",
        );
    }
    let run = folder.keen(&["conflicts"]);
    assert_eq!(run.code, 3, "{run:?}");
    assert!(!run.out.contains("Every write had seen"), "{}", run.out);
    assert!(run.out.contains("No conflicts in what was judged."), "{}", run.out);
    assert!(run.out.contains("1 case was not judged"), "{}", run.out);
    let kept = folder.keen(&["history"]).out;
    assert!(kept.contains("no conflicts in what was judged"), "{kept}");
}

#[test]
fn a_transaction_of_very_many_changes_is_judged_as_a_small_one() {
    let folder = folder(", \"since\": {}");
    folder.sql_all(
        &["valley.db", "saddle.db"],
        "CREATE TABLE stay (id INTEGER PRIMARY KEY, bed INTEGER, note TEXT); INSERT INTO stay VALUES (7, 4, NULL)",
    );
    let small = folder.keen(&JSON);
    // The same writes among some thirty thousand others, and said before it is known whose they are.
    let many = |text: &str| {
        let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
        for line in &mut lines[1..] {
            let told: Json = serde_json::from_str(line).unwrap();
            let first = told["number"].as_u64().unwrap() * 100_000;
            let mut changes: Vec<String> = (0..30_000)
                .map(|n| {
                    format!(
                        r#"{{"table": "stay", "op": "insert", "after": {{"id": {}, "bed": 1}}}}"#,
                        first + n
                    )
                })
                .collect();
            changes.extend(told["changes"].as_array().unwrap().iter().map(Json::to_string));
            *line = format!(
                r#"{{"changes": [{}], "origin": {}, "number": {}, "time": {}}}"#,
                changes.join(", "),
                told["origin"],
                told["number"],
                told["time"]
            );
        }
        lines.join("\n") + "\n"
    };
    let files = ["valley.ndjson", "saddle.ndjson"].map(|file| folder.path(file));
    for file in &files {
        let text = std::fs::read_to_string(file).unwrap();
        std::fs::write(file, many(&text)).unwrap();
    }
    let large = folder.keen(&[&JSON[..], &["--whole"]].concat());
    let told = |run: &crate::common::Run| {
        let mut found = one(run, "update-update");
        found["new"] = Json::Null;
        found
    };
    assert_eq!(told(&large), told(&small));
    assert_eq!(large.json()["nodes"][0]["writes"], 60_002);
    // It is gone on from, and what is broken in a long line is said.
    let again = folder.keen(&JSON);
    assert_eq!(again.json()["nodes"][0]["transactions"], 0, "{again:?}");
    assert_eq!(told(&again), told(&small));
    let text = std::fs::read_to_string(&files[0]).unwrap();
    std::fs::write(
        &files[0],
        text.replacen(
            "\"op\": \"insert\", \"after\": {\"id\": 529999",
            "\"op\": \"put\", \"after\": {\"id\": 529999",
            1,
        ),
    )
    .unwrap();
    let broken = folder.keen(&[&JSON[..], &["--whole"]].concat()).json();
    let fault = crate::common::told(&broken["nodes"][0]["fault"]);
    assert!(fault.contains("line 2 of") && fault.contains("unknown variant `put`"), "{fault}");
}
