//! Looking for conflicts with the built program.

use serde_json::Value as Json;

use super::Run;
use super::servers::Network;

pub trait Conflicts {
    /// `keen conflicts` as JSON. Where it went on from an earlier run, it must have found what one finds
    /// that reads everything again.
    fn conflicts(&self, args: &[&str]) -> Run;
}

impl Conflicts for Network {
    fn conflicts(&self, args: &[&str]) -> Run {
        let all: Vec<&str> =
            ["conflicts", "--format", "json"].into_iter().chain(args.iter().copied()).collect();
        let run = self.keen(&all);
        // No server of these tests ever began its numbers anew.
        assert_eq!(run.json()["reused"], serde_json::json!([]), "{run:?}");
        let going_on = run.json()["went_on_from"].is_string() && !args.contains(&"--new");
        // Writes may still be on their way from one run to the next.
        let mut tries = if going_on { 5 } else { 0 };
        let mut gone_on = known(&run);
        while tries > 0 {
            let whole = known(&self.keen(&[&all[..], &["--whole", "--no-ledger"]].concat()));
            tries -= 1;
            if gone_on == whole {
                break;
            }
            assert_ne!(tries, 0, "going on found {gone_on:?}, and reading all again {whole:?}");
            std::thread::sleep(std::time::Duration::from_millis(500));
            gone_on = known(&self.keen(&all));
        }
        run
    }
}

/// Its conflicts, whether they are new or not.
fn known(run: &Run) -> Vec<Json> {
    let mut conflicts = run.conflicts();
    for conflict in &mut conflicts {
        conflict["new"] = Json::Null;
    }
    conflicts
}

impl Run {
    /// The conflicts of the document.
    pub fn conflicts(&self) -> Vec<Json> {
        self.json()["conflicts"].as_array().unwrap_or_else(|| panic!("{self:?}")).clone()
    }
}

/// The only conflict of a kind.
pub fn one(run: &Run, kind: &str) -> Json {
    let mut found: Vec<Json> = run.conflicts().into_iter().filter(|c| c["kind"] == kind).collect();
    assert_eq!(found.len(), 1, "{run:?}");
    found.remove(0)
}

/// Makes the slots of PostgreSQL servers with the statements that keen prints.
pub fn slots(network: &Network) {
    let run = network.keen(&["conflicts", "--ddl"]);
    assert_eq!(run.code, 0, "{run:?}");
    for (i, server) in network.servers.iter().enumerate() {
        let name = format!("-- on {}\n", super::node_name(i));
        let (_, rest) = run.out.split_once(&name).unwrap();
        let mine = rest.split("-- on ").next().unwrap();
        server.run(mine).unwrap();
    }
}
