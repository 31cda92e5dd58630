//! The effect of links on a plan: where writes go on to, and the rows at which links stopped.

use keen_core::topology::node_set::NodeSet;
use std::time::{Duration, Instant};

use keen_core::audit::merge::DivergentRow;
use keen_core::history::journal::RowOp;
use keen_core::links::fence::{Fence, GoingOn, Waiting};
use keen_core::links::onward::Onward;
use keen_core::links::passing_over::others_lack_it;
use keen_core::observe::links::Observations;
use keen_core::observe::node::{ReplicationKind, WorkerState};
use keen_core::plan::AuditedTable;
use keen_core::plan::stopped::StoppedLink;
use keen_core::setup::switch_state;
use keen_core::topology::{Engine, NodeId, Topology};
use keen_core::value::Value;
use keen_run::links::NodeConnections;
use keen_run::{owed, rows_by_key};

use crate::app::open_node::NodeOpener;
use crate::app::scope::AuditScope;
use crate::app::stop::Stop;
use crate::app::topology_file::Loaded;

/// PostgreSQL tries again after five seconds unless it was told otherwise.
const RETRIED_WITHIN: Duration = Duration::from_secs(12);
/// From one look at the links to the next.
const BETWEEN_LOOKS: Duration = Duration::from_millis(500);

/// The effect of links on a plan.
#[derive(Default)]
pub(crate) struct Links {
    /// Those that stopped at a write, and which that is.
    pub(crate) stopped: Vec<StoppedLink>,
    pub(crate) onward: Onward,
}

/// Looks at the links; those that stopped at a write are of interest only where the nodes were audited just now.
pub(crate) fn links(loaded: &Loaded, scope: &AuditScope, audited_now: bool, stop: &Stop) -> Links {
    let topology = &loaded.topology;
    let opener = NodeOpener::new(loaded, scope.wait, scope.silence, stop);
    let open = |node: NodeId| opener.watch(node);
    // Also those that were left out may receive what a step writes.
    let postgres = |node: NodeId| topology.nodes[node].at.engine() == Engine::Postgres;
    let onward = topology.links.iter().filter(|link| postgres(link.from) && postgres(link.to));
    let receivers = onward.fold(scope.nodes, |all, link| all | NodeSet::of(link.to));
    let (mut watch, mut first) = NodeConnections::begin(topology, receivers, &open);
    let onward = Onward::told(topology, &first);
    first.retain(|node, _| scope.nodes.contains(*node));
    let stopped = match audited_now {
        true => stopped_links(topology, &opener, (&mut watch, &first), stop),
        false => Vec::new(),
    };
    Links { stopped, onward }
}

fn stopped_links(
    topology: &Topology,
    opener: &NodeOpener<'_>,
    (watch, first_sights): (&mut NodeConnections<'_>, &Observations),
    stop: &Stop,
) -> Vec<StoppedLink> {
    let waiting = |observations: &Observations| {
        Fence::at(observations).passing(topology, observations).waiting
    };
    // One that goes on trying stopped at a write only if it fails again; one look may meet it while it tries.
    let failures = |waiting: &Waiting| waiting.inflow.link.failures.unwrap_or(0);
    let tries = |waiting: &Waiting| {
        let link = &waiting.inflow.link;
        link.means == ReplicationKind::Subscription
            && failures(waiting) > 0
            && link.receiving != WorkerState::Stopped
    };
    let (mut trying, mut stopped): (Vec<_>, Vec<_>) =
        waiting(first_sights).into_iter().partition(|(_, waiting)| tries(waiting));
    stopped.retain(|(_, waiting)| waiting.stopped_at_a_write().is_some());
    let began = Instant::now();
    while !trying.is_empty() && began.elapsed() < RETRIED_WITHIN && !stop.raised() {
        keen_run::links::wait_until(Instant::now(), BETWEEN_LOOKS, &|| stop.raised());
        let now = waiting(&watch.again());
        // What has passed by now did not stop.
        trying.retain(|(link, _)| now.contains_key(link));
        let failed_again = |(link, then): &mut (_, Waiting)| failures(&now[link]) > failures(then);
        stopped.extend(trying.extract_if(.., failed_again));
    }
    let journal = |node: NodeId, tables: &[(String, String)]| opener.journal(node, tables);
    let open = |node: NodeId| opener.open(node);
    let read = |(ends, waiting): ((NodeId, NodeId), Waiting)| {
        let first = owed::first(topology, ends, &waiting, &open, &journal, &|| stop.raised());
        let at = first.unwrap_or_else(|why| {
            tracing::warn!(
                "the write at which {} stopped cannot be read: {}",
                waiting.inflow.link.name,
                crate::safe::text(&why.what)
            );
            None
        });
        let at = at?;
        let beside = first_sights.get(&ends.1).and_then(|observation| observation.snapshot());
        let beside =
            beside.and_then(|snapshot| snapshot.inflows.as_deref().ok()).unwrap_or_default();
        let source = first_sights.get(&ends.0).and_then(|observation| observation.snapshot());
        let source = source.and_then(|snapshot| snapshot.position.as_ref().ok());
        let passing_over = source
            .and_then(|source| waiting.passing_over(&at, source, beside))
            .filter(|_| !others_lack_it(topology, ends.0, ends.1));
        Some(StoppedLink {
            from: ends.0,
            to: ends.1,
            name: waiting.inflow.link.name.clone(),
            switch: {
                let off = |worker| worker == WorkerState::Stopped;
                switch_state(
                    !off(waiting.inflow.link.receiving),
                    !off(waiting.inflow.link.applying),
                )
            },
            at,
            passing_over,
            going_on: waiting
                .stopped_at_a_write()
                .or_else(|| tries(&waiting).then_some(GoingOn::Itself))?,
            needs_rows: waiting.inflow.link.means == ReplicationKind::BinaryLog,
            row_is_missing: waiting.error() == Some(1032),
        })
    };
    stopped.into_iter().filter_map(read).collect()
}

/// Rows that a link stopped at and that are looked at once more.
const MOST_WAITING: usize = 200;

/// Looks at the rows that stopped links wait to insert. One that is there already stands in the way, also where its
/// nodes hold it alike and the audit has nothing to say of it.
pub(crate) fn look_at_what_waits(
    loaded: &Loaded,
    scope: &AuditScope,
    tables: &mut [AuditedTable],
    stopped: &[StoppedLink],
    stop: &Stop,
) {
    let topology = &loaded.topology;
    let opener = NodeOpener::new(loaded, scope.wait, scope.silence, stop);
    for link in stopped {
        for table in tables.iter_mut() {
            let waits = link.at.rows.iter().filter(|write| {
                write.table == table.table && write.act == RowOp::Insert && !write.key.is_empty()
            });
            let mut keys: Vec<Vec<Value>> = waits
                .map(|write| write.key.iter().map(|(_, value)| value.clone()).collect())
                .filter(|key| !table.unsettled.iter().any(|row| row.key == *key))
                .take(MOST_WAITING)
                .collect();
            keys.dedup();
            if keys.is_empty() {
                continue;
            }
            let read = |node: NodeId| {
                let mut reader = opener.open(node)?;
                rows_by_key::read(topology, table, node, &mut *reader, &keys)
            };
            let (there, here) = match (read(link.from), read(link.to)) {
                (Ok(there), Ok(here)) => (there, here),
                (Err(fault), _) | (_, Err(fault)) => {
                    tracing::warn!(%fault, "the rows that a stopped link waits to insert are not known");
                    continue;
                }
            };
            let ends = (link.from, link.to);
            for ((key, there), here) in keys.into_iter().zip(there).zip(here) {
                if here.is_some() {
                    table.unsettled.push(DivergentRow::between(key, ends, (there, here)));
                }
            }
        }
    }
}
