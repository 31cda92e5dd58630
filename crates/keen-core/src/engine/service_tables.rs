//! A probe: one marked row that is written at a writer, and watched for at every node that should hold it.
//!
//! Whether a set-up carries writes is best told by a write. The row goes into a table of its own, which the
//! engineer creates; it is changed and taken away again, so that all three kinds of writes are seen to
//! travel, and nothing of it stays.

use crate::topology::{Engine, NodeId, SetId, Topology};

/// The name of the table, unless the engineer calls it otherwise.
pub const TABLE: &str = "keen_probe";

/// The table in which the batches of a run that carries a plan out leave their marks, where the engine has no place of
/// its own for that.
pub const MARKS: &str = "keen_mended";

/// The writes to the row, in order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Stage {
    /// It is inserted.
    Insert,
    /// It is updated.
    Update,
    /// It is deleted.
    Delete,
}

impl Stage {
    /// All of them, in order.
    pub const ALL: [Self; 3] = [Self::Insert, Self::Update, Self::Delete];

    /// Its name in results.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Insert => "insert",
            Self::Update => "update",
            Self::Delete => "delete",
        }
    }

    /// The value of the row's `stage` column after it; none when the row is gone.
    #[must_use]
    pub fn mark(self) -> Option<&'static str> {
        match self {
            Self::Insert => Some("new"),
            Self::Update => Some("changed"),
            Self::Delete => None,
        }
    }
}

/// The id of a row: when its run began, in microseconds since 1970, which process it is, and who writes it.
#[must_use]
pub fn id(began: i64, process: u32, writer: &str) -> String {
    format!("keen-{began}-{process} {writer}")
}

/// The parts of an id: when the run began, and who wrote the row; none if it is no id of keen's.
#[must_use]
pub fn read_id(id: &str) -> Option<(i64, &str)> {
    let (mark, writer) = id.strip_prefix("keen-")?.split_once(' ')?;
    Some((mark.split_once('-')?.0.parse().ok()?, writer))
}

/// A statement that creates the table, as one part or two of its name.
#[must_use]
pub fn create(engine: Engine, table: &str) -> String {
    let (name, text) = (qualified(engine, table), engine.dialect().key_text());
    format!(
        "CREATE TABLE IF NOT EXISTS {name} (id {text} NOT NULL PRIMARY KEY, node {text} NOT NULL, stage {text} NOT NULL)"
    )
}

/// Further statements for a node before the table travels, and may be written.
#[must_use]
///
/// `account` is the one that logs in, as the engine's statements name it.
pub fn and_then(engine: Engine, table: &str, account: &str) -> Vec<String> {
    let name = qualified(engine, table);
    match engine {
        Engine::Sqlite => Vec::new(),
        Engine::MariaDb => vec![format!(
            "SET SESSION sql_log_bin = 0; GRANT SELECT, INSERT, UPDATE, DELETE ON {name} TO {account}; SET SESSION sql_log_bin = 1"
        )],
        Engine::Postgres => vec![
            format!(
                "GRANT SELECT, INSERT, UPDATE, DELETE ON {name} TO {}",
                engine.dialect().quoted(account)
            ),
            "-- then add it to the publication of each sender, and let each receiver refresh with copy_data = false: keen preflight prints the statements".to_owned(),
        ],
    }
}

/// A statement that creates the table of heartbeats: a row per node, and when it last wrote it.
#[must_use]
pub fn create_heartbeat(engine: Engine, table: &str) -> String {
    let (name, dialect) = (qualified(engine, table), engine.dialect());
    let (text, time) = (dialect.key_text(), dialect.heartbeat_time());
    format!("CREATE TABLE IF NOT EXISTS {name} (node {text} NOT NULL PRIMARY KEY, beat {time})")
}

/// A table's name of one part or two, each in quotes.
fn qualified(engine: Engine, table: &str) -> String {
    let parts: Vec<String> = table.split('.').map(|part| engine.dialect().quoted(part)).collect();
    parts.join(".")
}

/// The sets that carry a table.
#[must_use]
pub fn sets(topology: &Topology, table: &str) -> Vec<SetId> {
    let has = |set: &SetId| topology.sets[*set].tables.iter().any(|name| name == table);
    (0..topology.sets.len()).filter(has).collect()
}

/// The nodes to which a write of a table at a node is to come, over however many links, itself left out.
#[must_use]
pub fn reached(topology: &Topology, table: &str, writer: NodeId) -> Vec<NodeId> {
    let sets = sets(topology, table);
    let mut reached = vec![writer];
    let mut at = 0;
    while let Some(node) = reached.get(at).copied() {
        at += 1;
        for link in topology.links.iter().filter(|link| link.from == node) {
            if link.carries.iter().any(|set| sets.contains(set)) && !reached.contains(&link.to) {
                reached.push(link.to);
            }
        }
    }
    let mut reached = reached.split_off(1);
    reached.sort_unstable();
    reached
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_write_is_expected_where_links_lead_that_carry_the_table() {
        let text = "name = \"n\"\n[node.a]\nat = \"sqlite:a\"\nwrites = true\n[node.b]\nat = \"sqlite:b\"\n[node.c]\nat = \"sqlite:c\"\n\
                    [node.d]\nat = \"sqlite:d\"\n[set.p]\ntables = [\"keen_probe\"]\n[set.q]\ntables = [\"q\"]\n\
                    [[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"p\"]\n[[link]]\nfrom = \"b\"\nto = \"c\"\ncarries = [\"p\", \"q\"]\n\
                    [[link]]\nfrom = \"a\"\nto = \"d\"\ncarries = [\"q\"]\n";
        let topology = crate::topology::read(text).0.unwrap();
        assert_eq!(reached(&topology, "keen_probe", 0), [1, 2]);
        assert_eq!(reached(&topology, "keen_probe", 1), [2]);
        assert_eq!(reached(&topology, "q", 0), [3]);
        assert_eq!(reached(&topology, "nothing", 0), [] as [usize; 0]);
    }

    #[test]
    fn ids_tell_when_and_whose() {
        assert_eq!(read_id(&id(17, 4, "a b")), Some((17, "a b")));
        for other in ["", "keen-17", "keen-x-1 a", "mine-17-1 a"] {
            assert_eq!(read_id(other), None);
        }
    }

    #[test]
    fn names_are_quoted_for_the_engine() {
        assert!(create(Engine::MariaDb, "a b").contains("`a b` (id varchar(100)"));
        assert!(create(Engine::Postgres, "s.p\"q").contains("\"s\".\"p\"\"q\" (id text"));
        assert!(and_then(Engine::MariaDb, "t", "'o''neil'@'%'")[0].contains("TO 'o''neil'@'%'"));
    }
}
