//! `keen audit`, as built, on files.

use std::collections::BTreeMap;

use crate::common::{Folder, mesh_text, node_name, table};
use serde::Deserialize;
use serde_json::json;

/// The documented shape, written down again: what a reader may rely on.
#[derive(Debug, Deserialize)]
struct Audit {
    keen: String,
    version: u32,
    complete: bool,
    tables: Vec<Table>,
    summary: Summary,
}

#[derive(Debug, Deserialize)]
struct Table {
    table: String,
    set: String,
    verdict: String,
    rows: BTreeMap<String, u64>,
    divergent_total: u64,
    divergent: Vec<Row>,
}

#[derive(Debug, Deserialize)]
struct Row {
    key: serde_json::Map<String, serde_json::Value>,
    columns: Vec<String>,
    versions: Vec<Version>,
}

#[derive(Debug, Deserialize)]
struct Version {
    nodes: Vec<String>,
    row: Option<serde_json::Map<String, serde_json::Value>>,
}

#[derive(Debug, Deserialize)]
struct Summary {
    tables: u64,
    diverge: u64,
    divergent_rows: u64,
}

const GUESTS: &str = "CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT, beds INTEGER);
    INSERT INTO guest VALUES (1, 'Aina', 2), (2, 'Bero', 1), (3, 'Cilia', 4);";

fn three_with_guests() -> Folder {
    let folder = Folder::mesh(3, &["guest"], "");
    folder.sql_all(&["a.db", "b.db", "c.db"], GUESTS);
    folder
}

#[test]
fn equal_nodes_agree() {
    let folder = three_with_guests();
    let run = folder.keen(&["audit"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert!(run.out.contains("All agree.") && run.out.contains("3 on a, b, c"), "{}", run.out);
    assert_eq!(run.err, "", "nothing but the result without a terminal");
}

#[test]
fn tables_that_went_unread_for_one_cause_are_not_listed_one_by_one() {
    let tables: Vec<String> = (0..9).map(|i| format!("hut_{i}")).collect();
    let names: Vec<&str> = tables.iter().map(String::as_str).collect();
    let folder = Folder::mesh(2, &names, "");
    let all: String =
        tables.iter().map(|t| format!("CREATE TABLE {t} (id INTEGER PRIMARY KEY);")).collect();
    folder.sql("a.db", &all);
    let run = folder.keen(&["audit"]);
    assert_eq!(run.code, 3, "{run:?}");
    assert!(run.out.contains("7 more tables like the last"), "{}", run.out);
    assert_eq!(run.out.matches("hut_").count(), 2, "{}", run.out);
    assert_eq!(run.out.matches("b.db").count(), 1, "{}", run.out);
    // As long as b is there, each of them is named.
    folder.sql("b.db", &all);
    assert_eq!(folder.keen(&["audit"]).out.matches("hut_").count(), 9);
}

#[test]
fn the_document_says_who_holds_what() {
    let folder = three_with_guests();
    folder.sql("b.db", "UPDATE guest SET beds = 3 WHERE id = 1; DELETE FROM guest WHERE id = 3");
    let run = folder.keen(&["audit", "--format", "json"]);
    assert_eq!(run.code, 1);
    let audit: Audit = serde_json::from_str(&run.out).unwrap();
    assert_eq!((audit.keen.as_str(), audit.version, audit.complete), ("audit", 2, true));
    assert_eq!(
        (audit.summary.tables, audit.summary.diverge, audit.summary.divergent_rows),
        (1, 1, 2)
    );
    let table = &audit.tables[0];
    assert_eq!(
        (table.table.as_str(), table.set.as_str(), table.verdict.as_str()),
        ("guest", "s", "diverges")
    );
    assert_eq!(table.rows, [("a".into(), 3), ("b".into(), 2), ("c".into(), 3)].into());
    assert_eq!(table.divergent_total, 2);
    let [changed, missing] = &table.divergent[..] else { panic!("{table:?}") };
    assert_eq!((&changed.key["id"], &changed.columns[..]), (&json!(1), &["beds".to_owned()][..]));
    assert_eq!(changed.versions[0].nodes, ["a", "c"]);
    assert_eq!(changed.versions[1].row.as_ref().unwrap()["beds"], json!(3));
    assert_eq!(missing.versions[1].nodes, ["b"]);
    assert!(missing.versions[1].row.is_none());
}

#[test]
fn lines_are_one_object_each_as_they_are_found() {
    let folder = three_with_guests();
    folder.sql("c.db", "DELETE FROM guest WHERE id = 2");
    let run = folder.keen(&["audit", "--format", "ndjson"]);
    let lines = run.lines("audit-line");
    let kinds: Vec<&str> = lines.iter().map(|line| line["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["start", "waiting", "divergent", "table", "summary"]);
    assert_eq!(lines[1], json!({"kind": "waiting", "table": "guest", "set": "s", "rows": 1}));
    assert_eq!(lines[2]["key"]["id"], json!(2));
    assert_eq!(lines[4]["complete"], json!(true));
}

#[test]
fn values_that_print_alike_are_still_different() {
    let pairs = [
        ("1", "'1'"),
        ("NULL", "''"),
        ("'x'", "x'78'"),
        ("1", "1.0"),
        ("'é'", "'e\u{301}'"),
        ("0.1", "0.1000000000000000055"),
    ];
    for (i, (left, right)) in pairs.into_iter().enumerate() {
        let folder = Folder::mesh(2, &["t"], "");
        let make = |v: &str| {
            format!("CREATE TABLE t (id INTEGER PRIMARY KEY, v); INSERT INTO t VALUES (1, {v})")
        };
        folder.sql("a.db", &make(left)).sql("b.db", &make(right));
        let (code, json) = folder.audit_json();
        let expected = if i == pairs.len() - 1 { 0 } else { 1 }; // the last two are one double
        assert_eq!(code, expected, "{left} beside {right}: {json}");
    }
}

#[test]
fn minus_zero_is_zero_and_infinities_are_values() {
    let folder = Folder::mesh(2, &["t"], "");
    let make = |v: &str| {
        format!(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, v); INSERT INTO t VALUES (1, {v}), (2, 9e999), (3, -9e999)"
        )
    };
    folder.sql("a.db", &make("0.0")).sql("b.db", &make("-0.0"));
    assert_eq!(folder.audit_json().0, 0);
    folder.sql("b.db", "UPDATE t SET v = 9e999 WHERE id = 3");
    let (code, json) = folder.audit_json();
    assert_eq!(code, 1);
    assert_eq!(
        table(&json, 0)["divergent"][0]["versions"][0]["row"]["v"],
        json!({"float": "-Infinity"})
    );
}

#[test]
fn bytes_wide_numbers_and_broken_text_are_written_as_documented() {
    let folder = Folder::mesh(2, &["t"], "");
    folder.sql_all(&["a.db", "b.db"], "CREATE TABLE t (id INTEGER PRIMARY KEY, v)");
    folder.sql("a.db", "INSERT INTO t VALUES (1, x'00ff'), (2, 9007199254740993), (3, CAST(x'61ff' AS TEXT)), (9007199254740995, 0)");
    let (code, json) = folder.audit_json();
    assert_eq!(code, 1);
    let rows: Vec<_> = table(&json, 0)["divergent"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| &row["versions"][0])
        .collect();
    assert_eq!(rows[0]["row"]["v"], json!({"bytes": "AP8="}));
    assert_eq!(rows[1]["row"]["v"], json!({"int": "9007199254740993"}));
    assert_eq!(rows[2]["row"]["v"], json!({"text_bytes": "Yf8="}));
    let key = &table(&json, 0)["divergent"][3]["key"];
    assert_eq!(key["id"], json!({"int": "9007199254740995"}));
    let text = folder.keen(&["audit"]).out;
    assert!(text.contains("v = text x'61ff'") && text.contains("v = x'00ff'"), "{text}");
}

#[test]
fn a_terminal_is_never_told_what_to_do() {
    let folder = Folder::mesh(2, &["t\u{1b}[31m"], "");
    folder.sql_all(
        &["a.db", "b.db"],
        "CREATE TABLE \"t\u{1b}[31m\" (id INTEGER PRIMARY KEY, \"c\u{202e}\")",
    );
    folder.sql("a.db", "INSERT INTO \"t\u{1b}[31m\" VALUES (1, 'x\u{1b}]0;gotcha\u{7}\r\n')");
    for args in [&["audit", "--color", "never"][..], &["plan", "--color", "never"]] {
        let run = folder.keen(args);
        assert_eq!(run.code, 1, "{run:?}");
        let acting = |c: char| (c.is_control() && c != '\n') || c == '\u{202e}';
        assert!(!run.out.chars().any(acting) && !run.err.chars().any(acting), "{run:?}");
    }
}

#[test]
fn names_of_any_kind_work() {
    let names =
        ["order", "Übernachtung", "a \"b\" c", "it's", "山小屋", "semi;colon", "--", "SELECT"];
    for name in names {
        let folder = Folder::mesh(3, &[], "");
        std::fs::write(
            folder.path("keen.toml"),
            mesh_text(3, &[name], "[authority]\ndefault = \"a\""),
        )
        .unwrap();
        let quoted = format!("\"{}\"", name.replace('"', "\"\""));
        let make = format!(
            "CREATE TABLE {quoted} ({quoted} TEXT PRIMARY KEY, \"group \"\" by\" TEXT, [from] INTEGER UNIQUE);
             INSERT INTO {quoted} VALUES ('x', 'y', 1), ('ü ''', NULL, 2);"
        );
        folder.sql_all(&["a.db", "b.db", "c.db"], &make);
        assert_eq!(folder.audit_json().0, 0, "{name}");
        folder.sql(
            "b.db",
            &format!("UPDATE {quoted} SET \"group \"\" by\" = 'changed' WHERE {quoted} = 'ü '''"),
        );
        let (code, json) = folder.audit_json();
        assert_eq!(code, 1, "{name}");
        assert_eq!(table(&json, 0)["divergent"][0]["columns"], json!(["group \" by"]));
        let run = folder.keen(&["plan", "--format", "sql", "--output", "out"]);
        assert_eq!(run.code, 1, "{name}: {run:?}");
        folder.sql("b.db", &std::fs::read_to_string(folder.path("out/b.repair.sql")).unwrap());
        assert_eq!(folder.audit_json().0, 0, "{name}: repaired");
    }
}

#[test]
fn a_hub_is_held_against_each_site_on_its_own_rows() {
    let folder = Folder::new(
        "name = \"hub\"
        [node.north]
        at = \"sqlite:a.db\"
        writes = true
        [node.south]
        at = \"sqlite:b.db\"
        writes = true
        [node.archive]
        at = \"sqlite:c.db\"
        [set.w]
        tables = [\"reading\"]
        [[link]]
        from = [\"north\", \"south\"]
        to = \"archive\"
        carries = [\"w\"]",
    );
    let make = "CREATE TABLE reading (hut TEXT, hour INTEGER, t REAL, PRIMARY KEY (hut, hour)) WITHOUT ROWID;";
    folder.sql_all(&["a.db", "b.db", "c.db"], make);
    folder.sql_all(&["a.db", "c.db"], "INSERT INTO reading VALUES ('n', 1, 0.5), ('n', 2, 0.5)");
    folder.sql_all(&["b.db", "c.db"], "INSERT INTO reading VALUES ('s', 1, 1.5)");
    assert_eq!(folder.audit_json().0, 0, "each site's rows are expected there and at the hub");
    folder
        .sql("c.db", "DELETE FROM reading WHERE hut = 's'; INSERT INTO reading VALUES ('x', 9, 0)");
    folder.sql("b.db", "INSERT INTO reading VALUES ('n', 2, 7.5)");
    let (code, json) = folder.audit_json();
    assert_eq!(code, 1);
    let nodes: Vec<String> = table(&json, 0)["divergent"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| {
            row["versions"].as_array().unwrap().iter().map(|v| v["nodes"].to_string()).collect()
        })
        .collect();
    assert_eq!(
        nodes,
        [
            r#"["north","archive"]["south"]"#, // two sites collide at the hub
            r#"["south"]["archive"]"#,         // the hub lacks it, and north has no part in it
            r#"["north","south"]["archive"]"#, // surplus at the hub
        ]
    );
}

const PUBLISHED: &str = "name = \"boards\"
    [node.office]
    at = \"sqlite:a.db\"
    writes = true
    [node.board]
    at = \"sqlite:b.db\"
    [set.n]
    tables = [\"notice\"]
    where = \"published = 1 -- only these\"
    without = [\"draft\"]
    [[link]]
    from = \"office\"
    to = \"board\"
    carries = [\"n\"]
    [authority]
    default = \"office\"";

#[test]
fn a_filtered_subscriber_agrees_under_its_filter_and_columns() {
    let folder = Folder::new(PUBLISHED);
    folder.sql("a.db", "CREATE TABLE notice (id INTEGER PRIMARY KEY, published, txt, draft); INSERT INTO notice VALUES (1, 1, 'open', 'd'), (2, 0, 'closed', NULL), (3, NULL, 'x', NULL)");
    folder.sql("b.db", "CREATE TABLE notice (txt, published, id INTEGER PRIMARY KEY); INSERT INTO notice VALUES ('open', 1, 1)");
    let (code, json) = folder.audit_json();
    assert_eq!(code, 0, "{json}");
    assert_eq!(table(&json, 0)["rows"], json!({"office": 1, "board": 1}));
    // A row that is there and hidden by the filter is told from one that is not there.
    folder.sql("b.db", "UPDATE notice SET published = 0");
    let (code, json) = folder.audit_json();
    assert_eq!(code, 1);
    let row = &table(&json, 0)["divergent"][0];
    assert_eq!(row["versions"][1], json!({"nodes": ["board"], "row": null}));
    assert_eq!(row["outside_filter"][0]["row"]["published"], json!(0));
    // And its repair changes it rather than colliding with it.
    folder.keen(&["plan", "--format", "sql", "--output", "out"]);
    folder.sql("b.db", &std::fs::read_to_string(folder.path("out/board.repair.sql")).unwrap());
    assert_eq!(folder.audit_json().0, 0);
}

#[test]
fn rows_without_a_key_are_counted() {
    let folder = Folder::mesh(3, &["line"], "[authority]\ndefault = \"a\"");
    folder.sql_all(
        &["a.db", "b.db", "c.db"],
        "CREATE TABLE line (day, txt); INSERT INTO line VALUES (1, 'x'), (1, 'x'), (NULL, 'y')",
    );
    assert_eq!(folder.audit_json().0, 0);
    folder.sql("b.db", "INSERT INTO line VALUES (1, 'x'), (1, 'x')");
    folder.sql("c.db", "DELETE FROM line WHERE day IS NULL");
    let (_, json) = folder.audit_json();
    let rows = table(&json, 0)["divergent"].as_array().unwrap();
    let counts = |row: &serde_json::Value| {
        row["versions"]
            .as_array()
            .unwrap()
            .iter()
            .map(|v| v["count"].as_u64().unwrap())
            .collect::<Vec<_>>()
    };
    assert_eq!(rows.iter().map(counts).collect::<Vec<_>>(), [vec![1, 0], vec![2, 4]]);
    assert_eq!(rows[1]["key"], json!({"day": 1, "txt": "x"}));
    folder.keen(&["plan", "--format", "sql", "--output", "out"]);
    for node in ["b", "c"] {
        folder.sql(
            &format!("{node}.db"),
            &std::fs::read_to_string(folder.path(&format!("out/{node}.repair.sql"))).unwrap(),
        );
    }
    assert_eq!(folder.audit_json().0, 0);
}

#[test]
fn text_says_how_many_more_there_are() {
    let folder = three_with_guests();
    folder.sql("a.db", "WITH RECURSIVE n (i) AS (SELECT 10 UNION ALL SELECT i + 1 FROM n WHERE i < 40) INSERT INTO guest SELECT i, 'x', 0 FROM n");
    let run = folder.keen(&["audit"]);
    assert!(
        run.out.contains("31 divergent rows")
            && run.out.contains("… and 21 more\n")
            && run.out.contains("21 of them are not shown: --show N"),
        "{}",
        run.out
    );
    let run = folder.keen(&["audit", "--show", "31"]);
    assert!(!run.out.contains("not shown"), "{}", run.out);
    let json = folder.keen(&["audit", "--format", "json", "--show", "2"]).json();
    assert_eq!(table(&json, 0)["divergent"].as_array().unwrap().len(), 2);
    assert_eq!(table(&json, 0)["divergent_total"], json!(31));
}

#[test]
fn nodes_and_tables_can_be_chosen() {
    let folder = Folder::mesh(3, &["guest", "bed"], "");
    folder.sql_all(
        &["a.db", "b.db", "c.db"],
        &format!("{GUESTS} CREATE TABLE bed (id INTEGER PRIMARY KEY);"),
    );
    folder.sql("c.db", "DELETE FROM guest");
    folder.sql("b.db", "INSERT INTO bed VALUES (1)");
    let run = folder.keen(&["audit", "--node", "a,b", "--table", "guest"]);
    assert_eq!(run.code, 0, "{run:?}");
    assert!(run.out.contains("Left out on request: c"), "{}", run.out);
    assert_eq!(folder.keen(&["audit", "--node", "a", "--node", "b"]).code, 1);
    for (args, word) in [
        (&["audit", "--node", "z,a"][..], "z"),
        (&["audit", "--table", "marmot"], "marmot"),
        (&["audit", "--node", "a"], "two"),
    ] {
        let run = folder.keen(args);
        assert_eq!(run.code, 2, "{run:?}");
        assert!(run.err.contains(word), "{}", run.err);
    }
}

#[test]
fn numbers_declared_differently_are_compared_by_value() {
    let folder = Folder::mesh(3, &["t"], "[authority]\ndefault = \"a\"");
    folder.sql(
        "a.db",
        "CREATE TABLE t (id INTEGER PRIMARY KEY, v REAL); INSERT INTO t VALUES (1, 5), (2, 7.5)",
    );
    folder.sql(
        "b.db",
        "CREATE TABLE t (id INTEGER PRIMARY KEY, v INTEGER); INSERT INTO t VALUES (1, 5), (2, 7.5)",
    );
    folder.sql(
        "c.db",
        "CREATE TABLE t (id INTEGER PRIMARY KEY, v NUMERIC); INSERT INTO t VALUES (1, 6), (2, 7.5)",
    );
    let (code, json) = folder.audit_json();
    assert_eq!(code, 1);
    assert_eq!(table(&json, 0)["divergent_total"], json!(1));
    assert_eq!(table(&json, 0)["columns"][1], json!({"name": "v", "compared": "as_number"}));
    assert!(folder.keen(&["audit"]).out.contains("REAL on a"));
    folder.keen(&["plan", "--format", "sql", "--output", "out"]);
    folder.sql("c.db", &std::fs::read_to_string(folder.path("out/c.repair.sql")).unwrap());
    assert_eq!(folder.audit_json().0, 0);
}

#[test]
fn text_encodings_do_not_matter() {
    let folder = Folder::mesh(3, &["t"], "");
    let make = |encoding: &str| {
        format!(
            "PRAGMA encoding = '{encoding}'; CREATE TABLE t (k TEXT PRIMARY KEY, v TEXT);
             INSERT INTO t VALUES ('z', 'é'), ('Ā', '😀'), ('', 'a'), ('\u{ff5e}', 'b'), ('😀', 'c')"
        )
    };
    folder
        .sql("a.db", &make("UTF-8"))
        .sql("b.db", &make("UTF-16le"))
        .sql("c.db", &make("UTF-16be"));
    let (code, json) = folder.audit_json();
    assert_eq!(code, 0, "{json}");
}

#[test]
fn fifty_nodes_are_compared_at_once() {
    let folder = Folder::mesh(50, &["guest"], "");
    for i in 0..50 {
        folder.sql(&format!("{}.db", node_name(i)), GUESTS);
    }
    assert_eq!(folder.audit_json().0, 0);
    folder.sql("n41.db", "UPDATE guest SET name = 'Zita' WHERE id = 2");
    let (code, json) = folder.audit_json();
    assert_eq!(code, 1);
    let versions = &table(&json, 0)["divergent"][0]["versions"];
    assert_eq!(versions[0]["nodes"].as_array().unwrap().len(), 49);
    assert_eq!(versions[1]["nodes"], json!(["n41"]));
}

#[test]
fn every_kind_of_key_is_merged_in_order() {
    for key in [
        "id INTEGER PRIMARY KEY",
        "id TEXT PRIMARY KEY",
        "id BLOB PRIMARY KEY",
        "id REAL PRIMARY KEY",
        "id TEXT PRIMARY KEY COLLATE NOCASE",
        "id INTEGER PRIMARY KEY DESC",
        "id PRIMARY KEY",
    ] {
        for end in ["", " WITHOUT ROWID"] {
            let folder = Folder::mesh(2, &["t"], "");
            let fill = format!(
                "CREATE TABLE t ({key}, v INTEGER){end};
                 WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 500)
                 INSERT INTO t SELECT (i * 7919) % 503, i FROM n;"
            );
            folder
                .sql_all(&["a.db", "b.db"], &fill)
                .sql("b.db", "DELETE FROM t WHERE v = 250; UPDATE t SET v = -1 WHERE v = 100");
            let (code, json) = folder.audit_json();
            assert_eq!(code, 1, "{key}{end}: {json}");
            assert_eq!(table(&json, 0)["divergent_total"], json!(2), "{key}{end}");
        }
    }
}

#[test]
fn a_node_may_call_a_table_otherwise() {
    let names = "[node.b.names]\n\"guest list\" = \"visitors\"\n[authority]\ndefault = \"a\"";
    let folder = Folder::mesh(2, &["guest list"], names);
    folder.sql("a.db", "CREATE TABLE \"guest list\" (id INTEGER PRIMARY KEY, n); INSERT INTO \"guest list\" VALUES (1, 1)");
    folder.sql(
        "b.db",
        "CREATE TABLE visitors (id INTEGER PRIMARY KEY, n); INSERT INTO visitors VALUES (1, 2)",
    );
    let (code, json) = folder.audit_json();
    assert_eq!((code, &table(&json, 0)["table"]), (1, &json!("guest list")));
    folder.keen(&["plan", "--format", "sql", "--output", "out"]);
    folder.sql("b.db", &std::fs::read_to_string(folder.path("out/b.repair.sql")).unwrap());
    assert_eq!(folder.audit_json().0, 0);
}

#[test]
fn sixty_four_nodes_are_the_most() {
    let folder = Folder::mesh(64, &["guest"], "");
    for i in 0..64 {
        folder.sql(&format!("{}.db", node_name(i)), GUESTS);
    }
    assert_eq!(folder.audit_json().0, 0);
    std::fs::write(folder.path("keen.toml"), mesh_text(65, &["guest"], "")).unwrap();
    let run = folder.keen(&["audit"]);
    assert!(run.code == 2 && run.err.contains("up to 64"), "{run:?}");
}

#[test]
fn tables_of_many_columns_and_generated_ones_are_mended_too() {
    let folder = Folder::mesh(2, &["wide", "made"], "[authority]\ndefault = \"a\"");
    let columns: Vec<String> = (0..1200).map(|i| format!("c{i}")).collect();
    let wide = format!(
        "CREATE TABLE wide (id INTEGER PRIMARY KEY, {}); INSERT INTO wide (id, c7) VALUES (1, 1);",
        columns.join(", ")
    );
    let made = "CREATE TABLE made (id INTEGER PRIMARY KEY, n INTEGER, twice INTEGER AS (n * 2) STORED, v ANY) STRICT; INSERT INTO made (id, n, v) VALUES (1, 5, 'x');";
    folder.sql_all(&["a.db", "b.db"], &format!("{wide}{made}"));
    folder.sql("b.db", "UPDATE wide SET c1100 = 'wrong'; UPDATE made SET n = 6; INSERT INTO made (id, n, v) VALUES (2, 1, 1.5)");
    let (_, json) = folder.audit_json();
    assert_eq!(table(&json, 1)["divergent"][0]["columns"], json!(["n", "twice"]));
    folder.keen(&["plan", "--format", "sql", "--output", "out"]);
    folder.sql("b.db", &std::fs::read_to_string(folder.path("out/b.repair.sql")).unwrap());
    assert_eq!(folder.audit_json().0, 0);
    folder.sql("b.db", &std::fs::read_to_string(folder.path("out/b.undo.sql")).unwrap());
    assert_eq!(table(&folder.audit_json().1, 1)["divergent_total"], json!(2));
}
