//! Every check by its name: what it looks for, why that matters, what to do.

/// What a check is about, in the order in which an engineer mends things: nothing further down can be
/// trusted before what is above it is right.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Area {
    /// Getting to the node.
    Reach,
    /// What the account may do.
    Rights,
    /// Telling nodes apart.
    Identity,
    /// How servers are set.
    Settings,
    /// Whose clock is off.
    Clocks,
    /// Tables, columns, keys.
    Shape,
    /// What carries changes, and whither.
    Links,
}

impl Area {
    /// All of them, in order.
    pub const ALL: [Self; 7] = [
        Self::Reach,
        Self::Rights,
        Self::Identity,
        Self::Settings,
        Self::Clocks,
        Self::Shape,
        Self::Links,
    ];

    /// Its name in results.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Reach => "reach",
            Self::Rights => "rights",
            Self::Identity => "identity",
            Self::Settings => "settings",
            Self::Clocks => "clocks",
            Self::Shape => "shape",
            Self::Links => "links",
        }
    }
}

/// One thing that is looked for.
#[derive(Debug, PartialEq, Eq)]
pub struct Check {
    /// Its stable name.
    pub name: &'static str,
    /// What it is about.
    pub area: Area,
    /// What it means when it is found.
    pub meaning: &'static str,
    /// Why that matters.
    pub why: &'static str,
    /// What to do about it.
    pub remedy: &'static str,
}

/// The check of that name.
#[must_use]
pub fn check(name: &str) -> Option<&'static Check> {
    CHECKS.iter().find(|check| check.name == name)
}

/// The names of checks that somebody may have meant.
#[must_use]
pub fn nearest(name: &str) -> Vec<&'static str> {
    let names = CHECKS.iter().map(|check| check.name);
    names
        .filter(|known| {
            known.contains(name) || strsim::osa_distance(name, known) <= 1 + known.len() / 4
        })
        .collect()
}

macro_rules! legend {
    ($($area:ident $id:ident $name:literal: $meaning:literal, $why:literal, $remedy:literal;)*) => {
        /// Every check, in the order of mending.
        pub const CHECKS: &[Check] = &[$($id),*];
        $(
            #[doc = $meaning]
            pub const $id: Check = Check {
                name: $name,
                area: Area::$area,
                meaning: $meaning,
                why: $why,
                remedy: $remedy,
            };
        )*
    };
}

legend! {
    Reach UNREACHABLE "unreachable":
        "keen cannot get into the node.",
        "Nothing can be said about a node that nobody can look at, and its peers may not reach it either.",
        "The message says which step failed: the name, the port, or letting the account in. Each has a remedy of its own.";
    Reach OTHER_ADDRESS "other-address":
        "The node answered, but not at its first address.",
        "What answers at the second address works today; whatever still uses the first does not.",
        "Mend the first address, or take it out of the file.";

    Rights RIGHT_MISSING "right-missing":
        "The account lacks a right that a command of keen needs.",
        "That command will fail, or leave out what it may not see.",
        "Run the grant that is shown, as an administrator of that server.";
    Rights RIGHT_EXCESS "right-excess":
        "The account may do far more than keen needs.",
        "Whoever gets hold of its password can change or drop data. keen only reads.",
        "Make an account of its own for keen with the rights that `preflight` asks for, and use that.";

    Rights PASSWORD_EXPOSED "password-exposed":
        "Others than its owner can read the file that holds the account's password.",
        "Whoever can read it can log in as this account.",
        "Keep it to its owner: chmod 600, on the machine that keen runs on.";
    Rights TLS_UNVERIFIED "tls-unverified":
        "The server's certificate is not checked.",
        "Whoever sits between keen and the server can pass for it, and gets the password.",
        "Give the certificate authority with tls = { ca = \"FILE\" }.";

    Identity SAME_DATABASE "same-database":
        "Two nodes of the file are one and the same database, under two addresses.",
        "A copy compared with itself always agrees: nothing is being checked.",
        "Correct the address of one of them.";
    Identity SAME_SERVER_ID "same-server-id":
        "Two servers that exchange changes have the same server id.",
        "A server throws away changes that carry its own id, and a source hangs up on one of two receivers with the same id: changes are lost without an error.",
        "Give each server an id of its own, in its settings file too, and restart its links.";
    Identity SAME_DOMAIN "same-domain":
        "Two servers that are written to number their transactions in the same domain.",
        "Their numbers collide: positions cannot be compared, and a receiver takes one's transaction for the other's and skips it.",
        "Give each server that is written to a domain of its own.";
    Identity SLOT_SHARED "slot-shared":
        "Two subscriptions read one and the same slot.",
        "A slot hands each change out once: either subscriber gets only part of them.",
        "Give each subscription a slot of its own and copy the tables anew.";
    Identity PORT_CLAIMED "port-claimed":
        "Two services on one machine claim the same port.",
        "Which of them a client gets depends on the address it uses and on which started first.",
        "Give one of them another port.";

    Settings LOG_OFF "log-off":
        "A server that has to send changes keeps no log to send them from.",
        "Nothing it writes will ever leave it.",
        "Switch the log on; that takes a restart.";
    Settings LOG_FORMAT "log-format":
        "The log does not hold rows, or not always.",
        "A statement run again elsewhere can have another result, and nothing can tell which rows it changed.",
        "Have rows logged. Sessions that are connected keep the old format until they connect again.";
    Settings LOG_IMAGES "log-images":
        "The log holds only part of each changed row.",
        "What a lost or conflicting write replaced cannot be told, and a receiver cannot notice that its row was another one.",
        "Have whole rows logged.";
    Settings LOG_METADATA "log-metadata":
        "The log does not name columns and does not say whether numbers are signed.",
        "Whoever reads it has to guess from the tables as they are now; after a change of shape the guess is wrong.",
        "Have full metadata logged.";
    Settings RECEIVED_NOT_LOGGED "received-not-logged":
        "A server does not log the changes that it was sent.",
        "It passes nothing on, so whatever is behind it starves; and its journal cannot show what it applied.",
        "Have received changes logged; that takes a restart.";
    Settings DUPLICATES "duplicates-not-ignored":
        "A server that gets each change over several paths does not skip those it has had.",
        "It applies them again, and stops at the first insert: replication breaks on false duplicate keys.",
        "Have duplicates ignored.";
    Settings ERRORS_SKIPPED "errors-skipped":
        "A receiver skips errors without a word.",
        "Each one skipped is a difference that nobody is told of, and no journal has.",
        "Have it stop at errors, then audit: what was skipped so far stays different.";
    Settings LOG_LEVEL "log-level":
        "The log does not hold what this kind of replication needs.",
        "The links that the file declares cannot be set up, or will not start again.",
        "Raise the level; that takes a restart.";
    Settings ROOM_FOR_LINKS "room-for-links":
        "There is not enough room for all the links that the file declares.",
        "The last ones to start stay down, or a first copy never gets its turn, with no more than a line in the server's log.",
        "Raise the limit; that takes a restart.";
    Settings COMMIT_TIMES "commit-times-off":
        "The server does not keep when and where rows were last written.",
        "With several writers nobody can tell afterwards which write came last and from where.",
        "Switch it on; that takes a restart, and only writes from then on are told apart.";
    Settings LOG_KEPT "log-kept-briefly":
        "Log is thrown away after a short while, whether or not everybody has had it.",
        "A copy that was away for longer cannot catch up and has to be copied anew.",
        "Keep it for longer than your longest outage.";
    Settings COUNTERS_COLLIDE "counters-collide":
        "Two nodes that are written to hand out the same numbers for new keys.",
        "Two different rows get one key: one of them is lost, or replication breaks on a duplicate key.",
        "Give each writer a step of at least the number of writers and an offset of its own, or use random keys.";
    Settings ZONES_DIFFER "zones-differ":
        "Nodes that exchange changes are in different time zones.",
        "What applications write by the server's clock, and times without a zone, mean different moments on each.",
        "Set them alike, best to UTC.";
    Settings TEXTS_DIFFER "texts-differ":
        "Nodes that exchange changes store text in different character sets.",
        "A character that one can store and the other cannot breaks the link or is replaced.",
        "Use a Unicode character set on all of them.";
    Settings NOT_READ_ONLY "not-read-only":
        "A node that nobody should write to can be written to.",
        "One stray write there is enough for copies to part, and nothing will bring them together again.",
        "Close it to writes; replication still gets through.";
    Settings WRITER_CLOSED "writer-closed":
        "A node that applications are to write to refuses writes.",
        "What is meant to be written there fails, or goes somewhere else.",
        "Find out who closed it and why before you open it: a node may be kept closed because it is behind.";
    Settings MODES_DIFFER "modes-differ":
        "Nodes that exchange changes take values by different modes.",
        "One of them refuses or cuts a value that another takes as it is: the same statement leaves different rows.",
        "Set sql_mode alike on all of them, and let applications connect anew.";
    Settings LOSSY_CONVERSION "lossy-conversion":
        "A receiver may cut values that do not fit its columns.",
        "What it cannot hold is cut or rounded without a word, and the copies part.",
        "Make the columns alike, then forbid it.";
    Settings EVENTS_RUN "events-run":
        "Scheduled events run on several nodes that exchange changes.",
        "Each of them writes by itself, and what each writes reaches the others: the work is done twice, or collides.",
        "Let one node run them; on the others switch the scheduler off, or the events.";
    Settings REFERENCES_OFF "references-off":
        "A server does not check foreign keys.",
        "Rows without their parents are taken there, and other nodes refuse them: the link stops.",
        "Have them checked. What was taken meanwhile is not checked again: look for rows without parents.";
    Settings SLOT_TIMES_OUT "slot-times-out":
        "A slot that nobody reads for a while is made useless by the server itself.",
        "A copy that was away for longer cannot catch up and has to be copied anew.",
        "Have it kept for longer than your longest outage, and watch the disk.";
    Settings SILENCE_NOTICED_LATE "silence-noticed-late":
        "It takes long until a receiver notices that its source has fallen silent.",
        "All that time the link looks healthy and up to date.",
        "Lower the limit to a few times the interval of heartbeats.";

    Clocks CLOCK_OFF "clock-off":
        "A node's clock is off by more than the file's limit.",
        "Times of writes from different nodes cannot be compared, so \"latest wins\" picks the wrong one.",
        "Have the machine synchronise its clock.";

    Shape TABLE_MISSING "table-missing":
        "A table of a set is not there, or not for this account.",
        "The first change to it that arrives stops the link; until then the node lacks all of its rows.",
        "Create it with the shape that the others have, or take it out of the set.";
    Shape TABLE_SURPLUS "table-surplus":
        "There are tables that no set names and that not every node has.",
        "Nothing carries them and nothing compares them. That may be meant so.",
        "Add them to a set if they are to be the same everywhere.";
    Shape COLUMN_MISSING "column-missing":
        "A column that other nodes have is missing.",
        "Changes that name it cannot be applied as they are.",
        "Add it, or leave it out of the set.";
    Shape COLUMN_SURPLUS "column-surplus":
        "A column that other nodes lack.",
        "Rows that arrive do not fill it; without a default they cannot be applied at all.",
        "Take it away, give it a default, or add it everywhere.";
    Shape COLUMN_ORDER "column-order":
        "The same columns, in another order.",
        "Where changes travel by position and not by name, values land in the wrong columns. Two peers that each added a column at the same time end up like this.",
        "Put the columns into one order on all nodes while nothing is being written.";
    Shape COLUMN_TYPE "column-type":
        "A column has another type.",
        "A value that one holds the other may refuse, cut off or round; and values can only be compared in what both can say.",
        "Declare it alike, with the wider of the types.";
    Shape COLUMN_NULL "column-null":
        "A column takes NULL on one node and refuses it on another.",
        "The first NULL that arrives where it is refused stops the link.",
        "Declare it alike.";
    Shape COLUMN_DEFAULT "column-default":
        "A column has another default.",
        "The same insert, made by an application on one node or the other, stores different rows. Copies still stay alike.",
        "Declare it alike.";
    Shape COLUMN_COLLATION "column-collation":
        "A text column is collated in another way.",
        "What is one key to one node can be two to another: an insert that one takes the other refuses. Order and comparisons differ.",
        "Declare it alike.";
    Shape COLUMN_GENERATED "column-generated":
        "A column is computed on one node and stored on another.",
        "Changes that bring a value for it cannot be applied where it is computed.",
        "Declare it alike, or leave it out of the set.";
    Shape KEY_DIFFERS "key-differs":
        "The key is made of other columns.",
        "A change finds its row by the key: it changes another row, several, or none.",
        "Give the table the same key everywhere.";
    Shape KEY_MISSING "key-missing":
        "A table has no key.",
        "Changes to it cannot be applied by key (slowly at best, not at all at worst), and equal rows cannot be told apart.",
        "Give it a primary key, with the same values on every node: one that each node counts up for itself numbers the same row differently on each.";
    Shape ROW_IDENTITY "row-identity":
        "Changes to the table's rows do not say which rows they are.",
        "As soon as the table is published, the server refuses updates and deletes of it.",
        "Give it a primary key, with the same values on every node (counted up by each for itself they differ), or say what identifies a row.";
    Shape UNIQUE_DIFFERS "unique-differs":
        "A combination of columns must be unique on one node and need not be on another.",
        "A row that one node takes is refused by the other, and stops the link.",
        "Declare it alike.";
    Shape REFERENCE_DIFFERS "reference-differs":
        "A foreign key is there on one node and not on another.",
        "A row without its parent is refused by one and kept by the other.",
        "Declare it alike.";
    Shape TRIGGER_AGAIN "trigger-again":
        "A trigger fires on rows that replication applies.",
        "Where it has fired at the source too, what it wrote there is replicated as well, and here it does the same a second time. Where it has not, it writes what no other node has.",
        "Have it fire for applications only.";

    Shape CHECKS_DIFFER "checks-differ":
        "A rule for values is there on some nodes only.",
        "A row that one node takes is refused by another, and the link stops there.",
        "Put the same rules on all of them.";
    Shape ROLLS_NOTHING_BACK "rolls-nothing-back":
        "A table is kept by an engine that rolls nothing back.",
        "A change that fails midway stays half done, and is applied again from its beginning.",
        "Keep replicated tables in InnoDB.";

    Links UPDATES_REFUSED "updates-refused":
        "A publication leaves out what names its rows, or picks rows by other columns.",
        "The server refuses every update and delete of the table, to every application.",
        "Have the publication carry the columns that name the row, or name rows whole (REPLICA IDENTITY FULL).";
    Links LINK_ABSENT "link-absent":
        "The file declares a link that the nodes know nothing of.",
        "What is written at its source never arrives.",
        "Set it up, or take it out of the file.";
    Links LINK_ONE_WAY "link-one-way":
        "Of a pair that should exchange changes only one direction is there.",
        "One node has everything, the other lacks what the first one writes, and each looks healthy by itself.",
        "Set up the missing direction, after making both copies equal.";
    Links LINK_STRAY "link-stray":
        "A node receives changes over a link that the file does not declare.",
        "Rows come from somewhere nobody wrote down: copies change behind the back of whoever looks after them.",
        "Add it to the file, or take it down.";
    Links LINK_LOOP "link-loop":
        "Changes travel in a circle back to where they came from.",
        "Each one is applied again at its origin, and sent on again: inserts stop on duplicate keys, updates go round for ever.",
        "Have links carry only what their source itself wrote.";
    Links LINK_DOWN "link-down":
        "A link is set up and does not run.",
        "Nothing arrives over it.",
        "Mend what its message says, then start it.";
    Links SOURCE_UNREACHED "source-unreached":
        "A node does not reach the source of one of its links.",
        "keen may reach both, but changes travel from node to node: nothing arrives over this link.",
        "Look at the way between the two: address, port, firewall, password of the account that replicates.";
    Links TABLE_NOT_CARRIED "table-not-carried":
        "A link does not carry a table that the file says it carries.",
        "Everything looks healthy, and the table's rows never arrive.",
        "Add the table to what the link carries.";
    Links CARRIED_OTHERWISE "carried-otherwise":
        "A link carries other rows or columns of a table than the file says.",
        "The receiver gets what it should not have, or lacks what it should.",
        "Make the link's filter and columns those of the file, or the other way round.";
    Links RELAY_STARVED "relay-starved":
        "A link carries only what its source wrote itself, and what is behind it needs what the source was sent.",
        "Changes made further up arrive at the relay and go no further.",
        "Have the link carry everything, or link the last node to the writers.";
    Links SLOT_UNREAD "slot-unread":
        "A slot that nobody reads.",
        "It holds back log until the disk is full.",
        "Find out whose it was. If nobody comes back for it, drop it.";
    Links LOG_HELD_BACK "log-held-back":
        "The server keeps much log for a slot.",
        "It grows until its reader gets on, or the disk is full and the server stops; with a limit on it, the reader loses its place.",
        "Have its reader get on, or, when nobody comes back for it, drop it. What the disk has left is for you to see: servers do not tell it.";
    Links NEVER_COPIED "never-copied":
        "The rows that were there before the link was set up were never copied.",
        "Only what changes from now on arrives: the copy stays short of all that did not change.",
        "Copy the table, then audit it. If it was filled by other means, an audit shows whether they are the same.";
    Links DELAY_DIFFERS "delay-differs":
        "A link is late on purpose by another time than the file says.",
        "A copy meant to be late catches up with every mistake at once; one not meant to be late never does.",
        "Set the delay that the file says, or correct the file.";
    Links LEADER_ELSEWHERE "leader-elsewhere":
        "The node that leads is not the one that the file wants to be written to.",
        "Applications write to a node that refuses them, or to one whose writes go nowhere.",
        "Correct the file if the lead was handed over on purpose, or hand it back.";
    Links VOTERS "voters":
        "Of the nodes that could take over the lead, no odd number remains, or no majority.",
        "With an even number, half of them cut off from the other half cannot decide; without a majority nobody may lead.",
        "Bring back what is missing, or add a member that only votes.";
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_stable_words_and_come_once_in_the_order_of_mending() {
        for (i, check) in CHECKS.iter().enumerate() {
            assert!(
                check.name.bytes().all(|b| b.is_ascii_lowercase() || b == b'-'),
                "{}",
                check.name
            );
            assert!(CHECKS[..i].iter().all(|other| other.name != check.name), "{}", check.name);
            for text in [check.meaning, check.why, check.remedy] {
                assert!(text.ends_with('.') && text.len() > 10, "{}: {text}", check.name);
            }
        }
        assert!(CHECKS.is_sorted_by_key(|check| check.area));
    }
}
