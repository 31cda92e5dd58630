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
        let names: Vec<&String> = json.as_object().unwrap().keys().take(4).collect();
        assert_eq!(names, ["keen", "version", "topology", "started"], "{command:?}");
        assert_eq!(json["version"], 2, "{command:?}");
        assert!(json["topology"].is_string() && json["started"].is_string(), "{command:?}");
        assert!(json.get("took_ms").is_none() && json.get("error").is_none(), "{command:?}");
        told += faults(&json);
    }
    assert!(told >= 3, "{told} faults");
}
