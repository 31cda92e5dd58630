//! Looking for conflicts with the built program.

use serde_json::Value as Json;

use super::Run;
use super::servers::Network;

pub trait Conflicts {
    /// `keen conflicts` as JSON.
    fn conflicts(&self, args: &[&str]) -> Run;
}

impl Conflicts for Network {
    fn conflicts(&self, args: &[&str]) -> Run {
        let all: Vec<&str> =
            ["conflicts", "--format", "json"].into_iter().chain(args.iter().copied()).collect();
        self.keen(&all)
    }
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
