//! Every document begins alike, and every fault in it has the same three members.

use crate::common::Folder;
use serde_json::Value as Json;

/// Checks each member called `fault`, however deep; how many are no null.
fn faults(json: &Json) -> usize {
    match json {
        Json::Array(all) => all.iter().map(faults).sum(),
        Json::Object(members) => members
            .iter()
            .map(|(name, value)| match (&name[..], value) {
                ("fault" | "rows_fault", Json::Null) => 0,
                ("fault" | "rows_fault", fault) => {
                    let names: Vec<&String> = fault.as_object().unwrap().keys().collect();
                    assert_eq!(names, ["kind", "what", "advice"], "{json:#}");
                    1
                }
                (_, value) => faults(value),
            })
            .sum(),
        _ => 0,
    }
}

#[test]
fn documents_begin_alike_and_faults_keep_their_kind() {
    let folder = Folder::new("");
    let made = folder.keen(&["demo", "--dir", "huts"]);
    assert_eq!(made.code, 0, "{made:?}");
    // One node is gone: every command has a fault to tell.
    std::fs::remove_file(folder.path("huts/archive.db")).unwrap();
    let commands: [&[&str]; 9] = [
        &["audit"],
        &["plan"],
        &["preflight"],
        &["preflight", "--join", "saddle", "--from", "cirque"],
        &["flow", "--interval", "0s"],
        &["conflicts"],
        &["history"],
        &["history", "stay"],
        &["probe", "--now", "--at", "saddle", "--timeout", "100ms"],
    ];
    let mut told = 0;
    for command in commands {
        let arguments = [command, &["--topology", "huts/keen.toml", "--format", "json"]].concat();
        let run = folder.keen(&arguments);
        let json = run.json();
        let names: Vec<&String> = json.as_object().unwrap().keys().take(6).collect();
        assert_eq!(
            names,
            ["keen", "version", "topology", "started", "nodes", "left_out"],
            "{command:?}"
        );
        assert_eq!(json["version"], 2, "{command:?}");
        assert!(json["topology"].is_string() && json["started"].is_string(), "{command:?}");
        assert!(json["seconds"].is_number() && json["complete"].is_boolean(), "{command:?}");
        for node in json["nodes"].as_array().unwrap() {
            assert!(node["node"].is_string(), "{command:?}: {node}");
        }
        told += faults(&json);
    }
    assert!(told >= 3, "{told} faults");
}

#[test]
fn every_document_of_the_demo_is_what_its_schema_says() {
    let folder = Folder::new("");
    assert_eq!(folder.keen(&["demo", "--dir", "huts"]).code, 0);
    let all = |command: &[&str], format: &str| {
        let run =
            folder.keen(&[command, &["--topology", "huts/keen.toml", "--format", format]].concat());
        assert!(run.code != 2, "{command:?}: {run:?}");
        run
    };
    // What each command writes, held against its schema as it is read.
    let commands: [(&str, &[&str]); 11] = [
        ("audit", &["audit"]),
        ("plan", &["plan"]),
        ("plan", &["plan", "--conflicts"]),
        ("preflight", &["preflight"]),
        ("join", &["preflight", "--join", "saddle", "--from", "cirque"]),
        ("flow", &["flow", "--interval", "0s"]),
        ("conflicts", &["conflicts"]),
        ("history", &["history"]),
        ("history", &["history", "stay"]),
        ("history", &["history", "saddle:cirque"]),
        ("fence", &["probe", "--now", "--at", "saddle", "--timeout", "100ms"]),
    ];
    for (kind, command) in commands {
        assert_eq!(all(command, "json").json()["keen"], kind, "{command:?}");
    }
    for (kind, command) in [("audit", "audit"), ("plan", "plan"), ("conflicts", "conflicts")] {
        let lines = all(&[command], "ndjson").lines(&format!("{kind}-line"));
        let kinds: Vec<&str> = lines.iter().map(|line| line["kind"].as_str().unwrap()).collect();
        assert_eq!((kinds.first(), kinds.last()), (Some(&"start"), Some(&"summary")), "{kind}");
        assert_eq!(lines[0]["keen"], kind);
    }
}

/// Run with `KEEN_WRITE_SCHEMAS=1` to write them anew.
#[test]
fn the_schemas_in_docs_are_those_of_the_types() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schema");
    let mut names = std::collections::BTreeSet::new();
    for (name, schema) in keen_wire::schema::documents() {
        let file = format!("{name}.json");
        let path = folder.join(&file);
        let text = serde_json::to_string_pretty(&schema).unwrap() + "\n";
        if std::env::var_os("KEEN_WRITE_SCHEMAS").is_some() {
            std::fs::write(&path, &text).unwrap();
        }
        let there = std::fs::read_to_string(&path).unwrap_or_default();
        assert!(there == text, "docs/schema/{file} is not what the types say");
        names.insert(file);
    }
    let there = std::fs::read_dir(&folder).unwrap();
    let there = there.map(|entry| entry.unwrap().file_name().into_string().unwrap());
    assert_eq!(there.collect::<std::collections::BTreeSet<_>>(), names);
}

#[test]
fn schemas_refuse_what_keen_does_not_write() {
    let folder = Folder::mesh(2, &["t"], "");
    folder.sql_all(&["a.db", "b.db"], "CREATE TABLE t (id INTEGER PRIMARY KEY, v)");
    folder.sql("a.db", "INSERT INTO t VALUES (1, 'x')");
    let json = folder.audit_json().1;
    let refused = |change: &dyn Fn(&mut Json)| {
        let mut json = json.clone();
        change(&mut json);
        std::panic::catch_unwind(|| crate::common::schema::check("audit", &json)).is_err()
    };
    assert!(!refused(&|_| ()));
    assert!(refused(&|json| json["complete"] = "yes".into()));
    assert!(refused(&|json| json["tables"][0]["verdict"] = "fine".into()));
    assert!(refused(
        &|json| json["tables"][0]["divergent"][0]["key"]["id"] = serde_json::json!([1])
    ));
    assert!(refused(&|json| json["surplus"] = 1.into()));
    assert!(refused(&|json| drop(json.as_object_mut().unwrap().remove("nodes"))));
}

#[test]
fn every_kind_of_fault_is_documented() {
    let text = include_str!("../../../../docs/json.md");
    for kind in keen_core::fault::FaultKind::ALL {
        let name = format!("`{}`", kind.name());
        assert!(text.contains(&name), "docs/json.md does not name the kind {name}");
    }
}
