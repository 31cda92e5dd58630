//! Steps whose writes go on to other nodes: which of those then come right by themselves, and which write
//! would do harm there.
//!
//! A write that goes on is applied as any other write: an insert stops the link where the row is already there, an
//! update or a delete goes through whatever the row holds there. So a step that goes on is taken only where each node
//! that gets it holds what the step's own node holds, or where it changes nothing.

use super::LocalTable;
use super::judge::{Judge, Task};
use crate::links::onward::Reached;
use crate::topology::node_set::NodeSet;
use crate::topology::{Engine, NodeId, SetId};

impl Judge<'_> {
    /// Where a step goes on to.
    pub(super) fn reached(&self, task: &Task<'_>) -> Reached {
        let local = task.table.nodes.get(&task.node);
        local.map_or_else(Reached::default, |local| {
            self.reached_from(local, task.table.set, task.node)
        })
    }

    fn reached_from(&self, local: &LocalTable, set: SetId, node: NodeId) -> Reached {
        self.evidence.onward.reached(self.topology, set, node, &local.shape.qualified)
    }

    /// Leaves out the steps that others bring with them, and says from where to where. `concern` are the nodes of
    /// which it is known what they hold of the row.
    ///
    /// # Errors
    /// Why a step would do harm where it goes on to.
    pub(super) fn spare_what_arrives(
        &self,
        tasks: &mut Vec<Task<'_>>,
        concern: NodeSet,
    ) -> Result<Vec<(NodeId, NodeId)>, String> {
        let mut arriving: Vec<(NodeId, NodeId)> = Vec::new();
        for task in tasks.iter() {
            for node in self.reached(task).nodes() {
                if self.goes_on(task, tasks, node, concern)? {
                    arriving.push((task.node, node));
                }
            }
        }
        let comes = |node: NodeId| arriving.iter().filter(|(_, to)| *to == node).count();
        if let Some(twice) = tasks.iter().find(|task| task.before.is_none() && comes(task.node) > 1)
        {
            return Err(format!(
                "it would reach {} over more than one link, and the second insert would stop one of them",
                self.name(twice.node)
            ));
        }
        tasks.retain(|task| comes(task.node) == 0);
        Ok(arriving)
    }

    fn name(&self, node: NodeId) -> &str {
        &self.topology.nodes[node].name
    }

    /// Whether a step puts another node right, too.
    fn goes_on(
        &self,
        task: &Task<'_>,
        tasks: &[Task<'_>],
        node: NodeId,
        concern: NodeSet,
    ) -> Result<bool, String> {
        let (here, there) = (self.name(task.node), self.name(node));
        if self.reached(task).perhaps.contains(node) {
            return Err(format!(
                "{there} may receive what is written on {here}, and its subscriptions could not be read: plan again when it answers"
            ));
        }
        let unread = task.table.unread.contains(node);
        let other = tasks.iter().find(|other| other.node == node);
        if unread || task.row.outside.iter().any(|(outside, _)| *outside == node) {
            return Err(format!(
                "{there} receives what is written on {here}, and what it holds is {}",
                if unread { "not known" } else { "outside the set's filter" }
            ));
        }
        if other.is_none() && !concern.contains(node) {
            return Ok(false); // the row has no business there
        }
        // Without a task of its own it holds what is right.
        let held = other.map_or(task.after, |other| other.before);
        let multiset = task.row.key.is_empty();
        let same = match (task.before, held) {
            (None, None) => true,
            (Some((a, n)), Some((b, m))) => {
                n == m && a.len() == b.len() && a.iter().zip(b.iter()).all(|(a, b)| a.same_as(b))
            }
            _ => false,
        };
        let updates = task.before.is_some() && task.after.is_some() && !multiset;
        if updates && held.is_none() {
            return Ok(false); // what it does not hold, no update changes
        }
        let uncarried = |local: &LocalTable| {
            let carried =
                |name: &String| local.columns.iter().any(|c| c.eq_ignore_ascii_case(name));
            local.shape.columns.iter().any(|column| !carried(&column.name))
        };
        if !same {
            return Err(format!(
                "{there} receives what is written on {here}, and {}",
                match (task.before, task.after) {
                    (None, _) => "holds the row already: its link would stop there",
                    (_, None) if held.is_none() => "an undo would put the row there, too",
                    (_, None) => "holds something else, which would be deleted",
                    _ if other.is_none() => "is right already: an undo would reach it, too",
                    _ => "holds something else, which would be overwritten and is in no undo",
                }
            ));
        }
        if updates && task.table.nodes.get(&task.node).is_some_and(|local| uncarried(local)) {
            return Err(format!(
                "{there} receives what is written on {here}, with columns that the set leaves out"
            ));
        }
        Ok(true)
    }

    /// Whether what a step writes into a table would replicate onward, in a sentence.
    pub(super) fn onward(&self, local: &LocalTable, set: SetId, node: NodeId) -> String {
        let names = |nodes: NodeSet| {
            let names: Vec<&str> = nodes.iter().map(|node| self.name(node)).collect();
            names.join(", ")
        };
        let receivers = self.topology.edges(set).filter(|(from, _)| *from == node);
        let receivers = receivers.map(|(_, to)| to).collect::<NodeSet>();
        let reached = self.reached_from(local, set, node);
        match local.engine {
            Engine::Sqlite => "no: SQLite itself replicates nothing".to_owned(),
            _ if receivers.is_empty() && reached.is_nobody() => {
                "no: no node of the file receives from here".to_owned()
            }
            Engine::MariaDb => format!(
                "no: the script stays out of the binary log that {} would read (sql_log_bin = 0)",
                names(receivers)
            ),
            Engine::Postgres if !reached.surely.is_empty() => {
                format!("yes: {} receives what is written here", names(reached.surely))
            }
            Engine::Postgres => {
                let unlike = receivers
                    .iter()
                    .filter(|node| self.topology.nodes[*node].at.engine() != local.engine)
                    .collect::<NodeSet>();
                let mut text = match receivers & !unlike {
                    NodeSet::EMPTY => String::new(),
                    alike => format!(
                        "no: nothing carries it to {}, because the script writes under its own origin",
                        names(alike)
                    ),
                };
                if !unlike.is_empty() {
                    let lead = if text.is_empty() { "" } else { "; " };
                    text.push_str(&format!(
                        "{lead}keen cannot see whether the replication to {} carries it",
                        names(unlike)
                    ));
                }
                text
            }
        }
    }
}
