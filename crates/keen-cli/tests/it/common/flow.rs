//! The result of a look at the links, in words short enough to compare.

use std::time::Duration;

use serde_json::Value as Json;

use super::Run;
use super::servers::Network;

/// Every link as "state from>to", with the table where only that is meant.
pub fn states(json: &Json) -> Vec<String> {
    let links = json["links"].as_array().unwrap();
    links
        .iter()
        .map(|link| {
            let end = |end: &str| link[end].as_str().unwrap_or("?").to_owned();
            let tables: Vec<&str> =
                link["tables"].as_array().unwrap().iter().map(|t| t.as_str().unwrap()).collect();
            let tables =
                if tables.is_empty() { String::new() } else { format!(" {}", tables.join(",")) };
            format!("{} {}>{}{tables}", link["state"].as_str().unwrap(), end("from"), end("to"))
        })
        .collect()
}

/// The first link from one node to another.
pub fn link<'a>(json: &'a Json, from: &str, to: &str) -> &'a Json {
    let links = json["links"].as_array().unwrap();
    let found = links.iter().find(|link| link["from"] == from && link["to"] == to);
    found.unwrap_or_else(|| panic!("no {from}>{to}: {json:#}"))
}

/// A node of the result.
pub fn node<'a>(json: &'a Json, name: &str) -> &'a Json {
    let nodes = json["nodes"].as_array().unwrap();
    nodes.iter().find(|node| node["node"] == name).unwrap_or_else(|| panic!("no {name}: {json:#}"))
}

impl Network {
    /// Looks at the links, a second apart, keeping nothing.
    pub fn flow(&self) -> (i32, Json) {
        let run = self.flow_with(&[]);
        (run.code, run.json())
    }

    /// As [`Network::flow`], three seconds apart: PostgreSQL counts writes to tables once a second at most.
    pub fn slow_flow(&self) -> (i32, Json) {
        let run = self.looked("3s", &[]);
        (run.code, run.json())
    }

    pub fn flow_with(&self, more: &[&str]) -> Run {
        self.looked("1s", more)
    }

    fn looked(&self, between: &str, more: &[&str]) -> Run {
        let mut args =
            vec!["flow", "--interval", between, "--connect-timeout", "2s", "--no-ledger"];
        args.extend(["--format", "json"]);
        args.extend(more);
        self.keen(&args)
    }

    /// Looks again until a link is as it should be, as long as that may take on a slow machine.
    pub fn until(&self, wanted: &str) -> Json {
        let began = std::time::Instant::now();
        loop {
            let (_, json) = self.flow();
            if states(&json).iter().any(|state| state == wanted) {
                return json;
            }
            assert!(began.elapsed() < Duration::from_secs(60), "never {wanted}: {json:#}");
        }
    }
}
