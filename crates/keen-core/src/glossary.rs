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
    "agrees": "Of a table: every node that should hold its rows holds the same, in all that was compared.";
    "authority": "Who is right where copies differ, by the file: a node, the majority, the latest write, or ask, which means that a person decides.";
    "backlog": "What a receiver has not applied yet, and whither it goes: draining, growing or steady.";
    "balance": "What a table, or a part of it, holds on one node: the number of rows and the sum of their digests.";
    "behind": "How much of its source's log a receiver has not applied: transactions, or bytes of log.";
    "dark": "keen could not look, or nothing there tells of the link. Nothing is claimed.";
    "digest": "A number of 128 bits that stands for a row. Rows with equal digests are taken to be equal.";
    "divergent": "Of a row: nodes that should hold the same hold different contents, and nothing on its way will change that.";
    "diverges": "Of a table: at least one of its rows is divergent.";
    "draining": "A backlog that shrinks; the time beside it is how long that takes at this rate.";
    "fence": "A mark of how far every node had written at one moment. A node has passed it once it has applied all of that. Rows that differ are read again behind one.";
    "growing": "A backlog that grows: the receiver falls back further.";
    "guard": "The condition under which a step may run: that the row is still as the audit saw it. If it does not hold, the whole script changes nothing.";
    "healed": "Of a row: it differed at the first look and was equal at a later one, behind a fence. Of a conflict: a later write that had seen every side settled it.";
    "heartbeat": "A row for each node, set to the present time at that node: its copies tell how late a link is.";
    "in flight": "Of a row: it differs, and a node has not yet applied what others had written before. Of a conflict: one of its writes has not arrived everywhere.";
    "journal": "The writes of one node in the order in which it applied them, each with its origin: MariaDB's binary log, PostgreSQL's log through a slot, or an exported file.";
    "late": "How old the first write is that a receiver lacks. At least so old, where nothing tells when it was made.";
    "ledger": "The file beside the topology in which keen keeps what it saw: runs, positions, findings, conflicts. keen history reads it.";
    "lost write": "A write that a concurrent one replaced: no node holds it, and no later write had seen it.";
    "moving": "Of a row: it differs, and was another each time it was looked at. It is being written to.";
    "note": "Worth knowing; it makes no exit code.";
    "onward": "Whether what a step writes would replicate from its node to others.";
    "origin": "The node where a write was first made.";
    "patience": "For how long rows that differ are looked at again before they are told as unsettled.";
    "possible": "Of a conflict: nothing excludes that neither write had seen the other, and nothing proves it.";
    "probe": "A row that keen writes at one node and looks for at all others: what arrives, and after how long.";
    "proven": "Of a conflict: the order of the journals shows that neither write had seen the other. No clock was asked.";
    "question": "What a plan leaves to a person: what each answer keeps, and what it loses.";
    "repair": "What a script of a plan wrote. PostgreSQL's log keeps it under the origin keen_repair: it races with nobody.";
    "reused": "A number that two journals give to different transactions: it was given out twice, as after a log was begun anew.";
    "set": "A named list of tables, with an optional row filter and choice of columns, that links carry.";
    "settled": "Of a row: every node has applied what was written before, nothing changed, and it still differs.";
    "standing": "What is known of a row that differs: settled, in flight, moving or healed. Of a conflict: what came of it.";
    "standing still": "Of a link: it is stopped, switched off or absent; waiting brings nothing.";
    "steady": "A backlog that stays as it is.";
    "step": "One write on one node that a plan would make, with its guard and its way back.";
    "stop": "A finding that keeps replication from working, or loses data.";
    "topology": "The file that names nodes, table sets and links: what should be.";
    "undo": "The script or statement that puts back what a repair changed, as long as nobody wrote there since.";
    "unread": "Of a table: it could not be read on every node; in what was read nothing differs. Of a conflict: not every node could be read.";
    "unsettled": "Of a table: rows differ, and all of those are in flight or moving.";
    "voters": "The nodes that decide together who leads, where a leader is chosen by majority.";
    "warn": "A finding that makes copies part, or repairs fail, sooner or later.";
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
