//! Settings of SQLite files.

use crate::observe::node::NodeFacts;
use crate::preflight::legend::{Area, NOT_READ_ONLY};
use crate::preflight::{CheckContext, Finding, Severity};
use crate::topology::NodeId;

pub(crate) fn examine(checks: &mut CheckContext<'_>, node: NodeId, facts: &NodeFacts) {
    let Some(settings) = checks.seen(Area::Settings, node, "its settings", &facts.settings) else {
        return;
    };
    let is_writer = checks.topology.nodes[node].writes;
    if !is_writer && settings.get("others_may_write").is_some_and(|v| v == "yes") {
        checks.find(
            Finding::new(
                &NOT_READ_ONLY,
                Severity::Note,
                [node],
                "every account on this machine can write to the file, but the topology says that no application writes here",
            )
            .advise(Some(node), "remove write permission from all accounts but the one that replicates"),
        );
    }
}
