//! The kinds of conflicts and what can come of them, in words for an engineer.

use super::{Kind, Standing};

impl Kind {
    /// The kind of that name.
    #[must_use]
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }

    /// What it is.
    #[must_use]
    pub fn meaning(self) -> &'static str {
        match self {
            Self::InsertInsert => "Two nodes inserted a row of the same key.",
            Self::UpdateDelete => "A row was written where another node deleted it.",
            Self::Unique => "One value that must be unique was given to rows of two keys.",
            Self::ParentGone => "A row was made to refer to one that another node deleted.",
            Self::UpdateUpdate => "Two nodes changed the same cells of a row.",
            Self::OtherColumns => "Two nodes changed different columns of a row.",
            Self::ShapeShape => "Two nodes changed the shape of one table.",
            Self::ShapeRows => {
                "Rows of a table were written elsewhere while its shape was changed."
            }
            Self::LastWrites => "Nodes hold different writes as the last ones of a row.",
            Self::Skipped => "A node applied later writes of the same origin and never this one.",
            Self::DeleteDelete => "Two nodes deleted the same row.",
        }
    }

    /// How it comes about, or how it is known.
    #[must_use]
    pub fn why(self) -> &'static str {
        match self {
            Self::InsertInsert => {
                "Each checked only its own copy. Where the nodes count keys up by themselves, both gave out the same number; that is said."
            }
            Self::UpdateDelete => {
                "The update finds no row at the one node, the delete takes the newer row at the other; engines differ in what they make of it."
            }
            Self::Unique => {
                "The unique index sees only its own copy. What arrives is refused, replaces the other row, or stands beside it where no index is checked."
            }
            Self::ParentGone => {
                "Foreign keys are checked where a row is written; what replication applies is often not checked again."
            }
            Self::UpdateUpdate => {
                "Where whichever write comes last is kept, the two values end swapped, and every status stays healthy."
            }
            Self::OtherColumns => {
                "Whole rows replicate, so the one side's row replaces the other's, cells that nobody touched there included."
            }
            Self::ShapeShape => {
                "Each side's rows now have another shape than the other expects: the order of columns is enough."
            }
            Self::ShapeRows => {
                "What was written in the old shape is applied to the new one, or the other way round: the links that are named may stop at it."
            }
            Self::LastWrites => {
                "Without a journal a row tells only who wrote it last and when. If each of two nodes holds the other's write as the last one, neither had seen the other's."
            }
            Self::Skipped => {
                "A rule that lets the later write win drops the other one without a word, and so does whoever skips over an error; lost messages look the same."
            }
            Self::DeleteDelete => "The second delete finds nothing to delete.",
        }
    }

    /// What to do about it.
    #[must_use]
    pub fn remedy(self) -> &'static str {
        match self {
            Self::InsertInsert => {
                "Keep one and give the other a new key. Then let each node count in steps of its own, or use keys that no two nodes can make."
            }
            Self::UpdateDelete => {
                "Decide whether the row should be there: keen plan --conflicts says what either choice loses."
            }
            Self::Unique => {
                "Give one of the two another value. Let values that must be unique be given out at one node."
            }
            Self::ParentGone => {
                "Put the parent back, or take away what refers to it: the copies may agree, and then no plan asks. Let only one node delete what others refer to."
            }
            Self::UpdateUpdate | Self::OtherColumns => {
                "keen plan --conflicts shows the versions, offers back what is lost, and says what each choice loses. Let rows that are often written have a home node."
            }
            Self::ShapeShape | Self::ShapeRows => {
                "Bring the shapes together (keen preflight --shape) and look at the links (keen flow). Change shapes at one node, while nobody writes to the table elsewhere."
            }
            Self::LastWrites => {
                "keen plan shows the versions. keen conflicts --ddl prints what lets journals be read from now on."
            }
            Self::Skipped => {
                "keen audit says which copies lack it, and keen plan how to bring it there."
            }
            Self::DeleteDelete => "Nothing.",
        }
    }
}

impl Standing {
    /// The standing of that name; dashes stand for spaces.
    #[must_use]
    pub fn named(name: &str) -> Option<Self> {
        let name = name.replace('-', " ");
        Self::ALL.into_iter().find(|standing| standing.name() == name)
    }

    /// What it is.
    #[must_use]
    pub fn meaning(self) -> &'static str {
        match self {
            Self::Apart => "Nodes that should hold the same do not.",
            Self::Broken => {
                "All hold the same, and it is not what should be: a unique value twice, a row without its parent."
            }
            Self::InFlight => "Some of the writes have not arrived everywhere.",
            Self::Unread => "A node could not be read; the others hold the same.",
            Self::Alike => "All hold the same.",
            Self::Healed => "All hold the same, by a later write that had seen every side.",
        }
    }

    /// How it is decided.
    #[must_use]
    pub fn decided(self) -> &'static str {
        match self {
            Self::Apart | Self::Alike => {
                "The rows that it is about are read on every node that should hold them, and none of its writes is still on its way."
            }
            Self::Broken => {
                "As declared at the nodes, or under [unique] in keen.toml; the rows are read on every node."
            }
            Self::InFlight => {
                "A journal lacks one of the writes, and nothing later of the same origin stands there."
            }
            Self::Unread => "The result says which node, and why.",
            Self::Healed => {
                "A journal has a later write of the row, made where all of them had been applied."
            }
        }
    }

    /// What to do about it.
    #[must_use]
    pub fn remedy(self) -> &'static str {
        match self {
            Self::Apart => {
                "keen plan --conflicts: what would put the copies right, and what each choice loses."
            }
            Self::Broken => {
                "Decide which of the rows is right; keen plan cannot know, for the copies agree."
            }
            Self::InFlight => {
                "Look again once the links have carried them; keen flow says whether they do."
            }
            Self::Unread => "Let that node be read, and ask again.",
            Self::Alike => {
                "Look whether a write is lost: keen conflicts --lost-only. Agreeing copies do not mean that nobody's work is gone."
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
        assert!(Kind::ALL.into_iter().all(|kind| Kind::named(kind.name()) == Some(kind)));
        for standing in Standing::ALL {
            assert_eq!(Standing::named(standing.name()), Some(standing));
            assert_eq!(Standing::named(&standing.name().replace(' ', "-")), Some(standing));
        }
        assert_eq!(Standing::named("settled"), None);
    }
}
