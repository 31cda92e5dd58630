//! The words of keen's own that stand on its screens beside the names of checks, states and kinds of conflicts.

/// A word and what it means.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Term {
    /// The word, as screens have it.
    pub word: &'static str,
    /// Its meaning.
    pub meaning: &'static str,
}

/// The term of that name; dashes stand for spaces.
#[must_use]
pub fn term(word: &str) -> Option<&'static Term> {
    let word = word.replace('-', " ");
    GLOSSARY.iter().find(|term| term.word.eq_ignore_ascii_case(&word))
}

macro_rules! glossary {
    ($($word:literal: $meaning:literal;)*) => {
        /// Every term, by the alphabet.
        pub const GLOSSARY: &[Term] = &[$(Term { word: $word, meaning: $meaning },)*];
    };
}

glossary! {
    "agrees": "Of a table: every node that should hold its rows holds the same, in everything that was compared.";
    "authority": "The file's rule for which copy is right where they differ: a node, the majority, the latest write, or ask, which means that a person decides.";
    "backlog": "What a receiver has not applied yet. It is draining, growing or steady.";
    "balance": "The number of rows that a table, or a part of it, has on one node, and the sum of their digests.";
    "behind": "How much of its source's log a receiver has not applied: transactions, or bytes of log.";
    "dark": "keen could not read a node, or nothing there shows the link. Nothing is claimed.";
    "digest": "A number of 128 bits that stands for a row. Rows with equal digests are taken to be equal.";
    "divergent": "Of a row: nodes that should hold the same contents do not, and nothing in transit will change that.";
    "diverges": "Of a table: at least one of its rows is divergent.";
    "draining": "Of a backlog: it shrinks. The time beside it is how long that takes at this rate.";
    "fence": "A record of how far every node had written at one moment. A node passes it once it has applied all of that. Rows that differ are read again behind a fence.";
    "growing": "Of a backlog: it grows. The receiver falls further behind.";
    "guard": "The condition under which a step may run: the row is still as the audit saw it. If it is not, the whole script changes nothing.";
    "healed": "Of a row: it differed at first and was equal when it was read again, behind a fence. Of a conflict: a later write that had seen every side settled it.";
    "heartbeat": "A row for each node, which that node sets to the current time: its copies show how late a link is.";
    "in flight": "Of a row: it differs, and a node has not yet applied what others wrote earlier. Of a conflict: one of its writes has not arrived everywhere.";
    "journal": "The writes of one node in the order in which it applied them, each with its origin: MariaDB's binary log, PostgreSQL's log through a slot, or an exported file.";
    "late": "The age of the first write that a receiver lacks; `at least` where it is not known when that was made.";
    "ledger": "The file beside the topology in which keen records its runs, positions, findings and conflicts. keen history reads it.";
    "lost write": "A write that a concurrent write replaced: no node holds it, and no later write had seen it.";
    "moving": "Of a row: it differs, and it had changed each time it was read again. It is being written to.";
    "note": "A finding that is worth knowing; it does not change the exit code.";
    "onward": "Whether a step's write would replicate from its node to others.";
    "origin": "The node where a write was first made.";
    "patience": "How long rows that differ are read again before they are reported as unsettled.";
    "possible": "Of a conflict: it may be that neither write had seen the other, but nothing proves it.";
    "probe": "A row that keen writes on one node and looks for on all others, to see what arrives and how long it takes.";
    "proven": "Of a conflict: the order of the journals shows that neither write had seen the other. No clock is involved.";
    "question": "A decision that a plan leaves to a person, with what each answer keeps and loses.";
    "repair": "A write made by a plan's script or by keen mend. PostgreSQL's log records it under the origin keen_repair; it never counts as a conflicting write.";
    "reused": "A number that two journals give to different transactions: it was assigned twice, as happens after a log was started over.";
    "set": "A named list of tables, with an optional row filter and choice of columns, that links carry.";
    "settled": "Of a row: every node has applied what was written earlier, nothing changed meanwhile, and it still differs.";
    "standing": "Of a row that differs: settled, in flight, moving or healed. Of a conflict: its outcome so far.";
    "standing still": "Of a link: it is stopped, switched off or absent; waiting does not help.";
    "steady": "Of a backlog: it stays the same.";
    "step": "One write on one node in a plan, with its guard and its undo.";
    "stop": "A finding that keeps replication from working, or loses data.";
    "topology": "The file that declares nodes, table sets and links: what should be.";
    "undo": "The script or statement that reverts a repair, as long as nobody has written to those rows since.";
    "unread": "Of a table: it could not be read on every node; the copies that were read do not differ. Of a conflict: not every node could be read.";
    "unsettled": "Of a table: rows differ, and all of them are in flight or moving.";
    "voters": "The nodes that decide by majority which of them leads.";
    "warn": "A finding that sooner or later makes copies diverge or repairs fail.";
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn terms_are_in_order_and_found() {
        assert!(GLOSSARY.is_sorted_by_key(|term| term.word));
        assert_eq!(term("in-flight").map(|term| term.word), Some("in flight"));
        assert_eq!(term("avalanche"), None);
    }
}
