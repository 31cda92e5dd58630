//! `keen preflight --shape`: tables that are not alike, on files and on real servers, and what that will do.

use crate::common::Folder;
use crate::common::preflight::{bad, findings, first};
use crate::common::servers::{Network, mesh_of};
use keen_testkit::{ServerKind, ServerLab, Settings, links};

const SHAPE: [&str; 4] = ["preflight", "--shape", "--format", "json"];

/// Two servers, the declared tables of which differ as these statements make them.
fn two(engine: ServerKind, tables: &str, a: &str, b: &str) -> Network {
    let lab = ServerLab::new().unwrap();
    let rest = format!(
        "[set.s]\ntables = [{tables}]\n[[link]]\nboth = [\"a\", \"b\"]\ncarries = [\"s\"]\n"
    );
    let mut servers = Vec::new();
    for (id, (name, sql)) in (1..).zip([("a", a), ("b", b)]) {
        let settings = Settings { server_id: Some(id), ..Settings::default() };
        let server = lab.start_with(name, engine, &settings).unwrap();
        server.run(sql).unwrap();
        servers.push(server);
    }
    Network::new(lab, servers, &rest)
}

#[test]
fn postgresql_every_way_in_which_a_table_can_differ() {
    let network = two(
        ServerKind::Postgres15,
        "\"gone\", \"lacks\", \"more\", \"sorted\", \"wide\", \"kind\", \"empty\", \"start\", \"spelled\", \"sum\", \"keyed\", \"once\", \"child\", \"fires\"",
        "CREATE TABLE gone (id int PRIMARY KEY);
         CREATE TABLE lacks (id int PRIMARY KEY, note text);
         CREATE TABLE more (id int PRIMARY KEY);
         CREATE TABLE sorted (id int PRIMARY KEY, x int, y int);
         CREATE TABLE wide (id int PRIMARY KEY, name varchar(200));
         CREATE TABLE kind (id int PRIMARY KEY, v uuid, w point);
         CREATE TABLE empty (id int PRIMARY KEY, v int);
         CREATE TABLE start (id int PRIMARY KEY, v int DEFAULT 1);
         CREATE TABLE spelled (id text COLLATE \"C\" PRIMARY KEY);
         CREATE TABLE sum (id int PRIMARY KEY, v int);
         CREATE TABLE keyed (id int PRIMARY KEY, other int NOT NULL);
         CREATE TABLE once (id int PRIMARY KEY, v int UNIQUE);
         CREATE TABLE child (id int PRIMARY KEY, parent int REFERENCES keyed (id));
         CREATE TABLE fires (id int PRIMARY KEY);
         CREATE TABLE spare (id int)",
        "CREATE TABLE lacks (id int PRIMARY KEY);
         CREATE TABLE more (id int PRIMARY KEY, must int NOT NULL);
         CREATE TABLE sorted (id int PRIMARY KEY, y int, x int);
         CREATE TABLE wide (id int PRIMARY KEY, name varchar(50));
         CREATE TABLE kind (id int PRIMARY KEY, v int, w text);
         CREATE TABLE empty (id int PRIMARY KEY, v int NOT NULL);
         CREATE TABLE start (id int PRIMARY KEY, v int DEFAULT 2);
         CREATE TABLE spelled (id text COLLATE \"POSIX\" PRIMARY KEY);
         CREATE TABLE sum (id int PRIMARY KEY, v int GENERATED ALWAYS AS (id + 1) STORED);
         CREATE TABLE keyed (id int, other int PRIMARY KEY);
         CREATE TABLE once (id int PRIMARY KEY, v int);
         CREATE TABLE child (id int PRIMARY KEY, parent int);
         CREATE TABLE fires (id int PRIMARY KEY);
         CREATE FUNCTION again() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END';
         CREATE TRIGGER twice AFTER INSERT ON fires FOR EACH ROW EXECUTE FUNCTION again();
         ALTER TABLE fires ENABLE ALWAYS TRIGGER twice",
    );
    let run = network.keen(&SHAPE);
    let with_table: Vec<String> = run.json()["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|f| {
            format!(
                "{} {} {}",
                f["level"].as_str().unwrap(),
                f["check"].as_str().unwrap(),
                f["table"].as_str().unwrap_or("-")
            )
        })
        .collect();
    let mut sorted = with_table.clone();
    sorted.sort();
    assert_eq!(
        sorted,
        [
            "note column-default start",
            "note column-order sorted",
            "note reference-differs child",
            "note table-surplus -",
            "stop column-generated sum",
            "stop column-missing lacks",
            "stop column-missing more",
            "stop column-type kind",
            "stop key-differs keyed",
            "stop table-missing gone",
            "warn column-collation spelled",
            "warn column-null empty",
            "warn column-null keyed",
            "warn column-type kind",
            "warn column-type wide",
            "warn trigger-again fires",
            "warn unique-differs once",
        ],
        "{}",
        run.out
    );
    // Each says which link it breaks.
    let breaks = |check: &str| {
        let found = first(&run, check);
        let link = &found["breaks"][0];
        format!("{}-{}", link["from"].as_str().unwrap_or("?"), link["to"].as_str().unwrap_or("?"))
    };
    assert_eq!(breaks("table-missing"), "a-b");
    assert_eq!(breaks("column-generated"), "a-b");
    assert_eq!(breaks("unique-differs"), "b-a");
    assert_eq!(
        first(&run, "column-type")["effect"],
        "values cannot be compared, and hardly replicated"
    );
    let wide = run.json()["findings"]
        .as_array()
        .unwrap()
        .iter()
        .find(|f| f["table"] == "wide")
        .cloned()
        .unwrap();
    assert_eq!(wide["effect"], "from a to b texts of more than 50 characters are refused");
    assert_eq!(wide["breaks"].as_array().unwrap().len(), 1);
    // What it says is what happens: the narrow column refuses, and nothing tells the publisher.
    let (a, b) = (&network.servers[0], &network.servers[1]);
    links::publish(a, "one", "wide").unwrap();
    links::subscribe(b, a, "one", "one", "copy_data = false").unwrap();
    a.run("INSERT INTO wide VALUES (1, repeat('x', 60))").unwrap();
    links::until(crate::common::servers::PATIENCE, "the link does not stop", || {
        let sql = "SELECT apply_error_count FROM pg_stat_subscription_stats";
        Ok(b.postgres()?.query_one(sql, &[])?.get::<_, i64>(0) > 0)
    })
    .unwrap();
}

#[test]
fn mariadb_travels_by_position() {
    let network = two(
        ServerKind::MariaDb,
        "\"middle\", \"last\", \"label\", \"fires\"",
        "CREATE TABLE middle (id int PRIMARY KEY, x int, y int);
         CREATE TABLE last (id int PRIMARY KEY, x int, y int);
         CREATE TABLE label (id int PRIMARY KEY, v enum('bed', 'bunk', 'floor'));
         CREATE TABLE fires (id int PRIMARY KEY)",
        "CREATE TABLE middle (id int PRIMARY KEY, y int);
         CREATE TABLE last (id int PRIMARY KEY, x int);
         CREATE TABLE label (id int PRIMARY KEY, v enum('bed', 'bunk'));
         CREATE TABLE fires (id int PRIMARY KEY);
         CREATE TRIGGER twice AFTER INSERT ON fires FOR EACH ROW SET @seen = 1;
         SET GLOBAL slave_run_triggers_for_rbr = 'YES'",
    );
    // Triggers are only shown to who has the right to make them: until then they are not known to be none.
    let run = network.keen(&SHAPE);
    assert!(!run.out.contains("trigger-again"), "{}", run.out);
    let unseen = run.json()["could_not_look"].clone();
    assert!(unseen[0]["fault"]["what"].as_str().unwrap().contains("lacks TRIGGER"), "{unseen}");
    network.servers[1].run("GRANT TRIGGER ON huts.* TO keen@'%'").unwrap();
    let run = network.keen(&SHAPE);
    assert_eq!(
        bad(&run),
        [
            "stop column-missing b",
            "warn column-missing b",
            "warn column-type a,b",
            "warn trigger-again b"
        ],
        "{}",
        run.out
    );
    assert!(
        first(&run, "column-missing")["effect"].as_str().unwrap().contains("wrong column"),
        "{}",
        run.out
    );
    assert!(
        first(&run, "column-type")["effect"].as_str().unwrap().contains("floor is refused"),
        "{}",
        run.out
    );
}

#[test]
fn a_column_that_only_one_of_three_has_is_a_surplus() {
    let network = Network::mariadb_mesh();
    let extra = "SET SESSION sql_log_bin = 0;\nALTER TABLE stay ADD COLUMN dogs int NOT NULL";
    network.servers[2].run(extra).unwrap();
    let run = network.keen(&SHAPE);
    assert_eq!(bad(&run), ["stop column-surplus c"], "{}", run.out);
    let found = first(&run, "column-surplus");
    assert_eq!(found["found"], "only c has column dogs");
    assert!(found["effect"].as_str().unwrap().contains("it requires one"), "{found}");
}

#[test]
fn unlike_engines_are_told_what_carries_over_and_what_does_not() {
    let lab = ServerLab::new().unwrap();
    let a = lab.start("a", ServerKind::Postgres15).unwrap();
    let b = lab.start("b", ServerKind::MariaDb).unwrap();
    a.run("CREATE TABLE stay (id bigint PRIMARY KEY, name text, member boolean, price numeric, exact double precision, arrives timestamptz, code uuid, extra jsonb)").unwrap();
    b.run("CREATE TABLE stay (id bigint PRIMARY KEY, name longtext, member boolean, price decimal(10,2), exact float, arrives timestamp(3) NULL, code uuid, extra json)").unwrap();
    let rest = mesh_of(2).replace("\"guest\", ", "");
    let network = Network::new(lab, vec![a, b], &rest);
    let run = network.keen(&SHAPE);
    let json = run.json();
    let said: Vec<(String, String)> = json["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|f| {
            let column = f["found"].as_str().unwrap().split(' ').nth(1).unwrap().to_owned();
            (column, f["effect"].as_str().unwrap_or("").to_owned())
        })
        .collect();
    let of =
        |column: &str| said.iter().find(|(c, _)| c == column).map(|(_, effect)| effect.clone());
    assert!(
        of("price").unwrap().contains("from a to b numbers of more than 8 digits before the point"),
        "{said:?}"
    );
    assert!(of("exact").unwrap().contains("rounded to about 7 digits"), "{said:?}");
    let arrives = of("arrives").unwrap();
    assert!(arrives.contains("cut to 3 digits") && arrives.contains("2038"), "{said:?}");
    for same in ["id", "name", "code", "extra"] {
        assert_eq!(of(same), None, "{said:?}");
    }
}

#[test]
fn files_are_held_against_each_other_and_names_of_the_file_are_used() {
    let folder = Folder::mesh(
        3,
        &["order", "odd name"],
        "[node.c.names]\n\"order\" = \"orders\"\n\"order.sum\" = \"total\"",
    );
    folder.sql_all(&["a.db", "b.db"], "CREATE TABLE \"order\" (id INTEGER PRIMARY KEY, sum REAL); CREATE TABLE \"odd name\" (\"a \"\"key\" TEXT PRIMARY KEY, \"ünï çode\" TEXT)");
    folder.sql("c.db", "CREATE TABLE orders (id INTEGER PRIMARY KEY, total REAL); CREATE TABLE \"odd name\" (\"a \"\"key\" TEXT PRIMARY KEY)");
    let run = folder.keen(&SHAPE);
    assert_eq!(bad(&run), ["stop column-missing c"], "{}", run.out);
    assert_eq!(first(&run, "column-missing")["found"], "column ünï çode is missing on c");
    // A view is no table; one table alone is looked at on request.
    folder.sql("b.db", "DROP TABLE \"odd name\"; CREATE VIEW \"odd name\" AS SELECT 1");
    let run = folder.keen(&SHAPE);
    assert!(bad(&run).contains(&"stop table-missing b".to_owned()), "{}", run.out);
    let run = folder.keen(&["preflight", "--shape", "--table", "order", "--format", "json"]);
    assert_eq!((bad(&run).len(), run.code), (0, 0), "{}", run.out);
    // Nothing was written beside the files.
    assert!(folder.snapshot().keys().all(|path| !path.to_string_lossy().ends_with("-wal")));
    assert_eq!(findings(&folder.keen(&SHAPE)).len(), 2);
}

#[test]
fn what_is_alike_in_many_tables_is_said_once() {
    let tables: Vec<String> = (0..9).map(|i| format!("hut_{i}")).collect();
    let names: Vec<&str> = tables.iter().map(String::as_str).collect();
    let folder = crate::common::Folder::mesh(2, &names, "");
    let make = |table: &String| format!("CREATE TABLE {table} (name TEXT);");
    let all: String = tables.iter().map(make).collect();
    // And one of which something else is found.
    folder.sql("a.db", &all.replace("hut_4 (name TEXT)", "hut_4 (name TEXT, beds INTEGER)"));
    folder.sql("b.db", &all);
    let text = folder.keen(&["preflight"]).out;
    assert_eq!(text.matches("key-missing").count(), 1, "{text}");
    assert!(
        text.contains("The same of hut_1, hut_2, hut_3, hut_4 and 4 more (--all shows each)"),
        "{text}"
    );
    assert!(text.contains("hut_4 on") && text.contains("beds"), "{text}");
    let text = folder.keen(&["preflight", "--all"]).out;
    assert_eq!(text.matches("key-missing").count(), 9, "{text}");
    // A sentence does not make another name of a table's.
    let folder = crate::common::Folder::mesh(2, &["guest"], "");
    folder.sql_all(&["a.db", "b.db"], "CREATE TABLE guest (id INTEGER PRIMARY KEY)");
    folder.sql("a.db", "ALTER TABLE guest ADD COLUMN beds INTEGER");
    assert!(!folder.keen(&["preflight"]).out.contains("Guest"));
}

#[test]
fn the_legend_knows_every_check_and_a_wrong_name_is_helped() {
    let folder = Folder::mesh(2, &["t"], "");
    let list = folder.keen(&["explain"]);
    assert_eq!(list.code, 0);
    let one = folder.keen(&["explain", "column-order"]);
    assert!(
        one.out.starts_with("column-order  shape\nMeans  The columns are the same"),
        "{}",
        one.out
    );
    let state = folder.keen(&["explain", "stalled"]);
    assert!(
        state.out.starts_with("stalled  state of a link\nMeans  The receiver is behind"),
        "{}",
        state.out
    );
    for (name, of) in [
        ("other-columns", "kind of conflict"),
        ("settled apart", "outcome of a conflict"),
        ("settled-apart", "outcome of a conflict"),
    ] {
        let one = folder.keen(&["explain", name]);
        assert!(one.code == 0 && one.out.starts_with(&format!("{name}  {of}\nMeans")), "{one:?}");
    }
    // Several at once, and every word that audits, looks and plans print beside those.
    let several = folder.keen(&["explain", "fence", "in flight", "stalled"]);
    assert_eq!((several.code, several.out.matches("Means").count()), (0, 3), "{several:?}");
    for word in [
        "agrees",
        "diverges",
        "unread",
        "unsettled",
        "settled",
        "in-flight",
        "moving",
        "healed",
        "divergent",
        "fence",
        "standing",
        "standing still",
        "behind",
        "late",
        "backlog",
        "draining",
        "growing",
        "steady",
        "stop",
        "warn",
        "note",
        "guard",
        "undo",
        "onward",
        "question",
        "step",
        "authority",
        "balance",
        "digest",
        "journal",
        "origin",
        "ledger",
        "lost write",
        "proven",
        "possible",
        "reused",
        "probe",
        "heartbeat",
        "patience",
        "set",
        "topology",
        "voters",
    ] {
        let one = folder.keen(&["explain", word]);
        assert!(one.code == 0 && one.out.contains("Means"), "{word}: {one:?}");
    }
    let both = folder.keen(&["explain", "in flight"]).out;
    assert!(both.contains("Of a row:") && both.contains("Do     Run keen again"), "{both}");
    for (slip, meant) in [
        ("staled", "did you mean stalled?"),
        ("update-updat", "did you mean update-update?"),
        ("setled apart", "did you mean settled apart?"),
        ("type", "did you mean column-type?"),
        ("avalanche", "keen explain lists them all"),
    ] {
        let err = folder.keen(&["explain", slip]).err;
        assert!(err.contains(meant), "{err}");
    }
    let wrong = folder.keen(&["explain", "colum-order"]);
    assert_eq!(wrong.code, 2);
    assert!(wrong.err.contains("did you mean column-order?"), "{}", wrong.err);
    // The document has every check in the words of the program.
    let document = |name: &str| {
        let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs");
        std::fs::read_to_string(format!("{folder}/{name}")).unwrap()
    };
    let document = document("preflight.md")
        + &document("flow.md")
        + &document("conflicts.md")
        + &document("words.md");
    let checks: Vec<(&str, &str)> = list
        .out
        .lines()
        .filter_map(|line| line.strip_prefix("  ")?.split_once("  "))
        .map(|(name, meaning)| (name, meaning.trim()))
        .collect();
    assert!(checks.len() > 40, "{}", list.out);
    for (name, meaning) in checks {
        assert!(document.contains(&format!("| `{name}` | {meaning} |")), "{name}: {meaning}");
    }
}

#[test]
fn bad_requests_are_refused() {
    let folder = Folder::mesh(2, &["t"], "");
    let run = folder.keen(&["preflight", "--node", "z"]);
    assert_eq!(run.code, 2);
    assert!(run.err.contains("there is no node z"), "{}", run.err);
    let run = folder.keen(&["preflight", "--table", "z"]);
    assert!(run.err.contains("no set has a table z"), "{}", run.err);
    // Files that are not there are found, not an error of the request.
    let run = folder.keen(&["preflight", "--format", "json"]);
    assert_eq!(
        (run.code, bad(&run)),
        (1, vec!["stop unreachable a".to_owned(), "stop unreachable b".to_owned()])
    );
}
