//! Work for several nodes side by side.

use keen_core::fault::ReadFault;
use keen_core::topology::NodeId;

/// Works for each node on a thread of its own, waits for all of them, and answers in their order. A thread that falls
/// over takes only its own node with it: the fault says what it was `doing`.
pub fn fan_out<W: Send, T: Send>(
    nodes: impl IntoIterator<Item = (NodeId, W)>,
    doing: &str,
    work: impl Fn(NodeId, W) -> T + Sync,
) -> Vec<(NodeId, Result<T, ReadFault>)> {
    std::thread::scope(|scope| {
        let work = &work;
        let threads: Vec<_> = (nodes.into_iter())
            .map(|(node, with)| (node, scope.spawn(move || work(node, with))))
            .collect();
        let joined = threads.into_iter();
        joined.map(|(node, thread)| (node, thread.join().map_err(|_| fell_over(doing)))).collect()
    })
}

/// The fault of a node whose thread fell over: nothing is claimed of it.
pub(crate) fn fell_over(doing: &str) -> ReadFault {
    ReadFault::new(
        format!("{doing} failed inside keen"),
        "this is a defect of keen: please report it",
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_thread_that_falls_over_takes_only_its_node() {
        let done = fan_out([(2, 20), (0, 0), (1, 10)], "dividing", |node, number| {
            assert!(number != 0, "falls over");
            node + number
        });
        let told: Vec<(NodeId, Option<usize>)> =
            done.iter().map(|(node, done)| (*node, done.as_ref().ok().copied())).collect();
        assert_eq!(told, [(2, Some(22)), (0, None), (1, Some(11))]);
        assert!(done[1].1.as_ref().is_err_and(|fault| fault.what == "dividing failed inside keen"));
    }
}
