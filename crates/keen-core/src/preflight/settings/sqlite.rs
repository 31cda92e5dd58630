//! Settings of SQLite files.

use crate::observe::node::NodeFacts;
use crate::preflight::legend::{Area, NOT_READ_ONLY};
use crate::preflight::{CheckContext, Finding, Level};
use crate::topology::NodeId;

pub(crate) fn examine(desk: &mut CheckContext<'_>, node: NodeId, facts: &NodeFacts) {
    let Some(settings) = desk.seen(Area::Settings, node, "its settings", &facts.settings) else {
        return;
    };
    let is_writer = desk.topology.nodes[node].writes;
    if !is_writer && settings.get("others_may_write").is_some_and(|v| v == "yes") {
        desk.find(
            Finding::new(
                &NOT_READ_ONLY,
                Level::Note,
                [node],
                "the file can be written to by every account of this machine, and the topology says that no application writes here",
            )
            .advise(Some(node), "take the right to write away from accounts other than the one that replicates"),
        );
    }
}
