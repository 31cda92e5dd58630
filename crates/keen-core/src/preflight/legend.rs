//! Every check by its name: what it looks for, why that matters, what to do.

/// The area of a check, in the order in which an engineer mends things: nothing further down can be trusted before
/// what is above it is right.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Area {
    /// Getting to the node.
    Reach,
    /// The rights of the account.
    Rights,
    /// Telling nodes apart.
    Identity,
    /// How servers are set.
    Settings,
    /// Whose clock is off.
    Clocks,
    /// Tables, columns, keys.
    Shape,
    /// The links, and where they carry changes.
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
    /// Its area.
    pub area: Area,
    /// Its meaning when it is found.
    pub meaning: &'static str,
    /// Why that matters.
    pub why: &'static str,
    /// Its remedy.
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
        "keen cannot connect to the node.",
        "Nothing is known about a node that cannot be read, and its peers may not reach it either.",
        "The message says which step failed: the host name, the port or the login. Each has its own remedy.";
    Reach OTHER_ADDRESS "other-address":
        "The node answered, but not at its first address.",
        "Clients of the second address work; those that still use the first one do not.",
        "Fix the first address, or remove it from the file.";

    Rights RIGHT_MISSING "right-missing":
        "The account lacks a right that one of keen's commands needs.",
        "That command will fail, or leave out what the account may not see.",
        "Run the grant shown, as an administrator of that server.";
    Rights RIGHT_EXCESS "right-excess":
        "The account has far more rights than keen needs.",
        "Whoever gets hold of its password can change or drop data. keen only reads.",
        "Create a separate account for keen with the rights that `preflight` asks for, and use it.";

    Rights PASSWORD_EXPOSED "password-exposed":
        "Users other than its owner can read the file that holds the account's password.",
        "Anyone who can read it can log in as this account.",
        "Restrict it to its owner: chmod 600, on the machine where keen runs.";
    Rights TLS_UNVERIFIED "tls-unverified":
        "The server's certificate is not checked.",
        "Anyone on the path between keen and the server can pose as the server and read the password.",
        "Name the certificate authority: tls = { ca = \"FILE\" }.";

    Identity SAME_DATABASE "same-database":
        "Two nodes in the file are the same database under two addresses.",
        "A database compared with itself always agrees: nothing is checked.",
        "Correct the address of one of them.";
    Identity SAME_SERVER_ID "same-server-id":
        "Two servers that exchange changes share one server id.",
        "A server discards changes that carry its own id, and a source disconnects one of two receivers that share an id: changes are lost without an error.",
        "Give each server its own id, in its configuration file as well, and restart its links.";
    Identity SAME_DOMAIN "same-domain":
        "Two servers that applications write to number their transactions in the same domain.",
        "Their numbers collide: positions cannot be compared, and a receiver mistakes one server's transaction for the other's and skips it.",
        "Give each of these servers its own domain.";
    Identity SLOT_SHARED "slot-shared":
        "Two subscriptions read the same slot.",
        "A slot delivers each change once: each subscriber gets only some of them.",
        "Give each subscription its own slot and copy the tables again.";
    Identity PORT_CLAIMED "port-claimed":
        "Two services on one machine claim the same port.",
        "Which one a client reaches depends on the address it uses and on which one started first.",
        "Move one of them to another port.";

    Settings LOG_OFF "log-off":
        "A server that must send changes keeps no log to send them from.",
        "Nothing written there will ever be sent.",
        "Switch the log on; this needs a restart.";
    Settings LOG_FORMAT "log-format":
        "The log does not always record rows.",
        "A statement that runs again on another server can have a different result, and the log does not show which rows it changed.",
        "Log rows. Connected sessions keep the old format until they reconnect.";
    Settings LOG_IMAGES "log-images":
        "The log records only part of each changed row.",
        "What a lost or conflicting write replaced is not known, and a receiver cannot notice that its own row was different.",
        "Log whole rows.";
    Settings LOG_METADATA "log-metadata":
        "The log does not record the names of columns and whether numbers are signed.",
        "Its readers must guess from the tables as they are now; once a table's shape has changed, the guess is wrong.",
        "Log full metadata.";
    Settings RECEIVED_NOT_LOGGED "received-not-logged":
        "A server does not log the changes that it receives.",
        "It passes nothing on, so nodes further down get nothing, and its journal does not show what it applied.",
        "Log received changes; this needs a restart.";
    Settings DUPLICATES "duplicates-not-ignored":
        "A server that receives each change over several paths does not skip those it already has.",
        "It applies them again and stops at the first insert: replication breaks on duplicate keys that are not real.",
        "Ignore duplicates.";
    Settings ERRORS_SKIPPED "errors-skipped":
        "A receiver silently skips errors.",
        "Every skipped error leaves a difference that is reported nowhere and stands in no journal.",
        "Make it stop at errors, then run an audit: what was skipped so far stays different.";
    Settings LOG_LEVEL "log-level":
        "The log does not record what this kind of replication needs.",
        "The links that the file declares cannot be set up, or will not start again.",
        "Raise the level; this needs a restart.";
    Settings ROOM_FOR_LINKS "room-for-links":
        "The server's limits leave no room for all the links that the file declares.",
        "The last links to start stay down, or an initial copy never starts, with nothing but a line in the server's log.",
        "Raise the limit; this needs a restart.";
    Settings COMMIT_TIMES "commit-times-off":
        "The server does not record when and where rows were last written.",
        "With several writers it is impossible to tell later which write came last, and from where.",
        "Switch it on; this needs a restart, and only later writes are recorded.";
    Settings LOG_KEPT "log-kept-briefly":
        "The log is purged after a short time, whether or not every receiver has read it.",
        "A node that was down for longer cannot catch up and must be copied again.",
        "Keep it longer than your longest outage.";
    Settings COUNTERS_COLLIDE "counters-collide":
        "Two nodes that applications write to generate the same numbers for new keys.",
        "Two different rows get the same key: one of them is lost, or replication breaks on a duplicate key.",
        "Set the increment of each writer to at least the number of writers and give each its own offset, or use random keys.";
    Settings ZONES_DIFFER "zones-differ":
        "Nodes that exchange changes are in different time zones.",
        "Times taken from the server's clock, and times without a zone, mean different moments on each node.",
        "Set all of them to the same zone, preferably UTC.";
    Settings TEXTS_DIFFER "texts-differ":
        "Nodes that exchange changes store text in different character sets.",
        "A character that only one of them can store breaks the link or is replaced.",
        "Use a Unicode character set on all of them.";
    Settings NOT_READ_ONLY "not-read-only":
        "A node that no application should write to accepts writes.",
        "A single stray write there makes the copies diverge, and nothing brings them together again.",
        "Make it read-only; replication still gets through.";
    Settings WRITER_CLOSED "writer-closed":
        "A node that applications should write to refuses writes.",
        "Writes meant for it fail, or go elsewhere.",
        "Find out who made it read-only, and why, before you change it: perhaps because the node is behind.";
    Settings MODES_DIFFER "modes-differ":
        "Nodes that exchange changes have different SQL modes.",
        "One node rejects or truncates a value that another stores unchanged: the same statement leaves different rows.",
        "Set the same sql_mode on all of them, and have applications reconnect.";
    Settings LOSSY_CONVERSION "lossy-conversion":
        "A receiver may truncate values that do not fit its columns.",
        "Such values are silently truncated or rounded, and the copies diverge.",
        "Make the columns the same, then forbid it.";
    Settings EVENTS_RUN "events-run":
        "Scheduled events run on several nodes that exchange changes.",
        "Each node runs them itself, and the writes of each reach the others: the work is done twice, or collides.",
        "Let one node run them; on the others, disable the scheduler or the events.";
    Settings REFERENCES_OFF "references-off":
        "A server does not check foreign keys.",
        "It accepts rows without parents, which other nodes refuse: the link stops.",
        "Switch the checks on. Existing rows are not checked again: look for rows without parents.";
    Settings SLOT_TIMES_OUT "slot-times-out":
        "The server invalidates a slot that nobody has read for a while.",
        "A node that was down for longer cannot catch up and must be copied again.",
        "Keep slots longer than your longest outage, and watch the disk.";
    Settings SILENCE_NOTICED_LATE "silence-noticed-late":
        "A receiver takes long to notice that its source has gone silent.",
        "During all that time the link looks healthy and up to date.",
        "Lower the limit to a few heartbeat intervals.";

    Clocks CLOCK_OFF "clock-off":
        "A node's clock is off by more than the file's limit.",
        "Times of writes from different nodes cannot be compared, so \"latest wins\" picks the wrong one.",
        "Synchronise the machine's clock.";

    Shape TABLE_MISSING "table-missing":
        "A table of a set does not exist, or the account may not see it.",
        "The first change that arrives for it stops the link; until then the node lacks all of its rows.",
        "Create it with the shape it has on the other nodes, or remove it from the set.";
    Shape TABLE_SURPLUS "table-surplus":
        "Some tables are in no set and do not exist on every node.",
        "They are not replicated and not compared. That may be intended.",
        "Add them to a set if they should be the same everywhere.";
    Shape COLUMN_MISSING "column-missing":
        "A column that other nodes have is missing.",
        "Changes that contain it cannot be applied unchanged.",
        "Add it, or exclude it from the set.";
    Shape COLUMN_SURPLUS "column-surplus":
        "A column exists that other nodes lack.",
        "Replicated rows bring no value for it; without a default they cannot be applied at all.",
        "Drop it, give it a default, or add it everywhere.";
    Shape COLUMN_ORDER "column-order":
        "The columns are the same, in a different order.",
        "Where changes are applied by position and not by name, values end up in the wrong columns. Two peers that each add a column at the same time end up like this.",
        "Give the columns the same order on all nodes, while nothing is written.";
    Shape COLUMN_TYPE "column-type":
        "A column has a different type.",
        "One node may refuse, truncate or round a value of the other, and values can be compared only as far as both types can express them.",
        "Declare it the same everywhere, with the wider type.";
    Shape COLUMN_NULL "column-null":
        "A column allows NULL on one node and not on another.",
        "The first NULL that arrives where it is not allowed stops the link.",
        "Declare it the same everywhere.";
    Shape COLUMN_DEFAULT "column-default":
        "A column has a different default.",
        "The same insert stores different rows, depending on the node that an application runs it on. The copies themselves stay the same.",
        "Declare it the same everywhere.";
    Shape COLUMN_COLLATION "column-collation":
        "A text column has a different collation.",
        "Two keys on one node can be the same key on another: an insert that one accepts the other refuses. Order and comparisons differ.",
        "Declare it the same everywhere.";
    Shape COLUMN_GENERATED "column-generated":
        "A column is computed on one node and stored on another.",
        "Changes that contain a value for it cannot be applied where it is computed.",
        "Declare it the same everywhere, or exclude it from the set.";
    Shape KEY_DIFFERS "key-differs":
        "The key consists of different columns.",
        "A change finds its row by the key: it changes a different row, several, or none.",
        "Give the table the same key everywhere.";
    Shape KEY_MISSING "key-missing":
        "A table has no key.",
        "Changes cannot be applied by key: slowly at best, not at all at worst. Equal rows cannot be told apart.",
        "Give it a primary key with the same values on every node: if each node numbers its rows itself, the same row gets a different number on each.";
    Shape ROW_IDENTITY "row-identity":
        "Changes to the table's rows do not identify them.",
        "As soon as the table is published, the server refuses to update and delete its rows.",
        "Give it a primary key with the same values on every node (if each node numbers its rows itself, they differ), or declare what identifies a row.";
    Shape UNIQUE_DIFFERS "unique-differs":
        "A combination of columns must be unique on one node and not on another.",
        "A row that one node accepts is refused by the other and stops the link.",
        "Declare it the same everywhere.";
    Shape REFERENCE_DIFFERS "reference-differs":
        "A foreign key exists on one node and not on another.",
        "One node refuses a row without its parent, the other keeps it.",
        "Declare it the same everywhere.";
    Shape TRIGGER_AGAIN "trigger-again":
        "A trigger fires on rows that replication applies.",
        "If it fires at the source too, its writes there are replicated as well, and here they happen a second time. If it does not, it writes what no other node has.",
        "Make it fire for applications only.";

    Shape CHECKS_DIFFER "checks-differ":
        "A check constraint exists on some nodes only.",
        "A row that one node accepts is refused by another, and the link stops there.",
        "Declare the same constraints on all of them.";
    Shape ROLLS_NOTHING_BACK "rolls-nothing-back":
        "A table's storage engine has no transactions.",
        "A change that fails midway stays half done, and is then applied again from the start.",
        "Keep replicated tables in InnoDB.";

    Links UPDATES_REFUSED "updates-refused":
        "A publication leaves out columns that identify its rows, or filters by columns that do not.",
        "The server refuses every update and delete on the table, for every application.",
        "Publish the columns that identify a row, or identify rows as a whole (REPLICA IDENTITY FULL).";
    Links LINK_ABSENT "link-absent":
        "The file declares a link that does not exist on the nodes.",
        "Writes at its source never arrive.",
        "Set it up, or remove it from the file.";
    Links LINK_ONE_WAY "link-one-way":
        "Of two nodes that should exchange changes, only one receives them.",
        "One node has everything, the other lacks what the first one writes, and each looks healthy on its own.",
        "Make both copies equal, then set up the missing direction.";
    Links LINK_STRAY "link-stray":
        "A node receives changes over a link that the file does not declare.",
        "Rows arrive from an undocumented source: copies change without the knowledge of the people in charge.",
        "Add it to the file, or remove the link.";
    Links LINK_LOOP "link-loop":
        "Changes travel in a circle back to their origin.",
        "Each is applied again at its origin and sent on again: inserts stop at duplicate keys, updates circulate forever.",
        "Make links carry only their source's own writes.";
    Links LINK_DOWN "link-down":
        "A link exists but does not run.",
        "Nothing arrives over this link.",
        "Fix what the message says, then start it.";
    Links SOURCE_UNREACHED "source-unreached":
        "A node cannot reach the source of one of its links.",
        "keen may reach both nodes, but changes travel directly between them: nothing arrives over this link.",
        "Check the path between the two: address, port, firewall, password of the replication account.";
    Links TABLE_NOT_CARRIED "table-not-carried":
        "A link does not carry a table that the file says it carries.",
        "Everything looks healthy, but the table's rows never arrive.",
        "Add the table to the link.";
    Links CARRIED_OTHERWISE "carried-otherwise":
        "A link does not carry the rows or columns of a table that the file says.",
        "The receiver has rows or columns that it should not have, or lacks some that it should have.",
        "Give the link the filter and columns of the file, or the file those of the link.";
    Links RELAY_STARVED "relay-starved":
        "A link carries only its source's own writes, but nodes further down also need what the source receives.",
        "Changes from further up reach the relay and go no further.",
        "Make the link carry everything, or link the last node to the writers directly.";
    Links SLOT_UNREAD "slot-unread":
        "Nobody reads a slot.",
        "The server keeps log for it until the disk is full.",
        "Find out whose it was. If its reader is gone for good, drop it.";
    Links LOG_HELD_BACK "log-held-back":
        "The server keeps a lot of log for a slot.",
        "The log grows until the slot is read again, or until the disk is full and the server stops; if its size is limited, the slot becomes useless.",
        "Get its reader going again or, if the reader is gone for good, drop the slot. Check the free disk space yourself: servers do not report it.";
    Links NEVER_COPIED "never-copied":
        "The rows that existed before the link was set up were never copied.",
        "Only later changes arrive: the copy lacks every row that has not changed since.",
        "Copy the table, then audit it. If it was filled in some other way, an audit shows whether the rows are the same.";
    Links DELAY_DIFFERS "delay-differs":
        "The delay of a link is not the one in the file.",
        "A copy that should be late repeats every mistake at once; a copy that should not be late always is.",
        "Set the delay from the file, or correct the file.";
    Links LEADER_ELSEWHERE "leader-elsewhere":
        "The node that leads is not the one that the file has applications write to.",
        "Applications write to a node that refuses their writes, or to one whose writes go nowhere.",
        "If the lead was handed over on purpose, correct the file; if not, hand it back.";
    Links VOTERS "voters":
        "The nodes that could take over the lead are an even number, or not a majority.",
        "If an even number splits in half, neither half can decide; without a majority no node may lead.",
        "Bring back the missing nodes, or add a member that only votes.";
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
