//! The kinds of conflicts and what can come of them, in words for an engineer.

use super::{ConflictKind, ConflictStanding};

impl ConflictKind {
    /// The kind of that name.
    #[must_use]
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }

    /// Its meaning.
    #[must_use]
    pub fn meaning(self) -> &'static str {
        match self {
            Self::InsertInsert => "Two nodes inserted a row with the same key.",
            Self::UpdateDelete => "One node wrote a row that another node deleted.",
            Self::Unique => "Rows with two different keys got the same unique value.",
            Self::ParentGone => {
                "One node made a row refer to another row that a second node deleted."
            }
            Self::UpdateUpdate => "Two nodes changed the same cells of a row.",
            Self::OtherColumns => "Two nodes changed different columns of a row.",
            Self::ShapeShape => "Two nodes changed the shape of one table.",
            Self::ShapeRows => "Other nodes wrote rows of a table while its shape was changed.",
            Self::LastWrites => "For one row, nodes hold different last writes.",
            Self::Skipped => "A node applied later writes of the same origin but never this one.",
            Self::DeleteDelete => "Two nodes deleted the same row.",
        }
    }

    /// How it comes about, or how it is known.
    #[must_use]
    pub fn why(self) -> &'static str {
        match self {
            Self::InsertInsert => {
                "Each node checked only its own copy. Where nodes number their rows themselves, both used the same number; the result says so."
            }
            Self::UpdateDelete => {
                "The update finds no row on one node, and the delete removes the newer row on the other; engines handle this differently."
            }
            Self::Unique => {
                "The unique index sees only its own copy. The row that arrives is refused, replaces the other one, or stands beside it where no index is checked."
            }
            Self::ParentGone => {
                "Foreign keys are checked where a row is written; rows that replication applies are often not checked again."
            }
            Self::UpdateUpdate => {
                "Where each node keeps whatever arrives last, the two values end up swapped, and every status stays healthy."
            }
            Self::OtherColumns => {
                "Whole rows replicate, so one side's row replaces the other's, including cells that it did not change."
            }
            Self::ShapeShape => {
                "Each side's rows no longer have the shape that the other expects: a different order of columns is enough."
            }
            Self::ShapeRows => {
                "Rows written in the old shape are applied to the new one, or the other way round: the links named may stop there."
            }
            Self::LastWrites => {
                "Without a journal, a row shows only who wrote it last, and when. If each of two nodes holds the other's write as the last one, neither had seen the other's."
            }
            Self::Skipped => {
                "A rule that lets the later write win drops the other one silently, and so does skipping an error; lost messages look the same."
            }
            Self::DeleteDelete => "The second delete finds nothing to delete.",
        }
    }

    /// Its remedy.
    #[must_use]
    pub fn remedy(self) -> &'static str {
        match self {
            Self::InsertInsert => {
                "Keep one and give the other a new key. Then give each node its own number sequence, or use keys that no two nodes can generate."
            }
            Self::UpdateDelete => {
                "Decide whether the row should exist: keen plan --conflicts says what either choice loses."
            }
            Self::Unique => {
                "Give one of the two another value. Let a single node assign unique values."
            }
            Self::ParentGone => {
                "Restore the parent, or remove what refers to it. If the copies agree, no plan will ask. Let a single node delete rows that others refer to."
            }
            Self::UpdateUpdate | Self::OtherColumns => {
                "keen plan --conflicts shows the versions, offers to restore what was lost, and says what each choice loses. Give rows that are often written a home node."
            }
            Self::ShapeShape | Self::ShapeRows => {
                "Make the shapes the same (keen preflight --shape) and check the links (keen flow). Change shapes on one node, while nobody writes to the table elsewhere."
            }
            Self::LastWrites => {
                "keen plan shows the versions. keen conflicts --ddl prints what is needed to read journals from now on."
            }
            Self::Skipped => {
                "keen audit shows which copies lack it, and keen plan how to restore it there."
            }
            Self::DeleteDelete => "Nothing.",
        }
    }
}

impl ConflictStanding {
    /// The standing of that name; dashes stand for spaces.
    #[must_use]
    pub fn named(name: &str) -> Option<Self> {
        let name = name.replace('-', " ");
        Self::ALL.into_iter().find(|standing| standing.name() == name)
    }

    /// Its meaning.
    #[must_use]
    pub fn meaning(self) -> &'static str {
        match self {
            Self::Apart => "Nodes that should hold the same rows do not.",
            Self::Broken => {
                "All nodes hold the same, but it breaks a rule: a unique value twice, or a row without its parent."
            }
            Self::InFlight => "Some of the writes have not arrived everywhere.",
            Self::Unread => "A node could not be read; the others hold the same.",
            Self::Alike => "All nodes hold the same.",
            Self::Healed => {
                "All nodes hold the same, through a later write that had seen every side."
            }
        }
    }

    /// How it is decided.
    #[must_use]
    pub fn decided(self) -> &'static str {
        match self {
            Self::Apart | Self::Alike => {
                "Its rows were read on every node that should hold them, and none of its writes is still in transit."
            }
            Self::Broken => {
                "By what the nodes declare, or by [unique] in keen.toml; the rows were read on every node."
            }
            Self::InFlight => {
                "A journal lacks one of the writes and has nothing later of the same origin."
            }
            Self::Unread => "The result says which node, and why.",
            Self::Healed => {
                "A journal has a later write of the row, made on a node that had applied all of them."
            }
        }
    }

    /// Its remedy.
    #[must_use]
    pub fn remedy(self) -> &'static str {
        match self {
            Self::Apart => {
                "keen plan --conflicts shows what would repair the copies, and what each choice loses."
            }
            Self::Broken => {
                "Decide which row is right; keen plan cannot know, since the copies agree."
            }
            Self::InFlight => {
                "Run keen again once the links have carried them; keen flow says whether they do."
            }
            Self::Unread => "Make that node readable, and run keen again.",
            Self::Alike => {
                "Check for lost writes with keen conflicts --lost-only. Copies can agree although somebody's work is lost."
            }
            Self::Healed => "Nothing.",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_found_again() {
        assert!(
            ConflictKind::ALL
                .into_iter()
                .all(|kind| ConflictKind::named(kind.name()) == Some(kind))
        );
        for standing in ConflictStanding::ALL {
            assert_eq!(ConflictStanding::named(standing.name()), Some(standing));
            assert_eq!(ConflictStanding::named(&standing.name().replace(' ', "-")), Some(standing));
        }
        assert_eq!(ConflictStanding::named("settled"), None);
    }
}
