//! The findings of a preflight, in words short enough to compare.

use serde_json::Value as Json;

use super::Run;

fn all(run: &Run) -> Vec<Json> {
    let found = run.json()["findings"].as_array().unwrap().clone();
    for finding in &found {
        let check = finding["check"].as_str().unwrap();
        for todo in finding["todo"].as_array().unwrap() {
            // Whoever goes on in the same session must have what he writes replicated again.
            let sql = todo["run"].as_str().unwrap_or_default();
            assert_eq!(sql.contains("sql_log_bin = 0"), sql.contains("sql_log_bin = 1"), "{sql}");
        }
        let runs = finding["todo"].as_array().unwrap().iter().any(|todo| todo["run"].is_string());
        assert!(
            !runs || super::printed::CHECKS_WITH_COMMANDS.iter().any(|(known, _)| *known == check),
            "{check} prints a command, and no test is named that runs it: {finding:#}"
        );
    }
    found
}

fn short(finding: &Json) -> String {
    let nodes: Vec<&str> =
        finding["nodes"].as_array().unwrap().iter().map(|node| node.as_str().unwrap()).collect();
    format!(
        "{} {} {}",
        finding["level"].as_str().unwrap(),
        finding["check"].as_str().unwrap(),
        nodes.join(",")
    )
}

/// Every finding as "level check nodes".
pub fn findings(run: &Run) -> Vec<String> {
    all(run).iter().map(short).collect()
}

/// The findings that are more than a note.
pub fn bad(run: &Run) -> Vec<String> {
    findings(run).into_iter().filter(|finding| !finding.starts_with("note ")).collect()
}

/// The first finding of a check.
pub fn first(run: &Run, check: &str) -> Json {
    let found = all(run).into_iter().find(|finding| finding["check"] == check);
    found.unwrap_or_else(|| panic!("no {check}: {}", run.out))
}

/// The statements to run, with their nodes, that mend what is more than a note.
pub fn statements(run: &Run) -> Vec<(String, String)> {
    let mut statements = Vec::new();
    for finding in all(run).iter().filter(|finding| finding["level"] != "note") {
        for todo in finding["todo"].as_array().unwrap() {
            let Some(statement) = todo["run"].as_str() else { continue };
            for node in todo["nodes"].as_array().unwrap() {
                statements.push((node.as_str().unwrap().to_owned(), statement.to_owned()));
            }
        }
    }
    statements
}

/// The statements that one check says to run, notes included.
pub fn printed(run: &Run, check: &str) -> Vec<(String, String)> {
    let mut statements = Vec::new();
    for finding in all(run).iter().filter(|finding| finding["check"] == check) {
        for todo in finding["todo"].as_array().unwrap() {
            let Some(statement) = todo["run"].as_str() else { continue };
            for node in todo["nodes"].as_array().unwrap() {
                statements.push((node.as_str().unwrap().to_owned(), statement.to_owned()));
            }
        }
    }
    assert!(!statements.is_empty(), "{check} prints nothing to run: {}", run.out);
    statements
}
