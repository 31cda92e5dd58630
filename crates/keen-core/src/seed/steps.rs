//! The steps by which a node is seeded from another so that nothing is lost on any node.
//!
//! Overwriting a node is a write like any other: it travels over every way out of the node, and what was
//! written there before and has not been delivered yet is gone. So the steps first stop the writing, let
//! every way out deliver (a fence), and cut it; what only the node holds is kept in a file; and every way out
//! goes on from a place behind the overwriting. A way in goes on from the moment of the copy. Where the
//! topology leaves a case in which that is not enough, no step that overwrites is given, and the reason is.

use std::collections::BTreeMap;

use super::join::Joining;
use crate::observe::node::{
    Incoming, NodeFacts, NodeInspection, ReplicationKind, TableLook, skip_nothing,
};
use crate::preflight::{CheckContext, Report, links};
use crate::topology::{Address, ColumnChoice, Engine, NodeId, Topology};

/// One step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SeedStep {
    /// Where; none if it is done beside the nodes.
    pub node: Option<NodeId>,
    /// The kind of step.
    pub kind: StepKind,
    /// A sentence, a statement or a command.
    pub what: String,
}

/// The kind of a step.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StepKind {
    /// A sentence for people.
    Words,
    /// A statement for the node's own client.
    Sql,
    /// A command for a shell.
    Shell,
}

/// A link that a node knows of.
#[derive(Clone, Copy)]
struct KnownLink<'a> {
    to: NodeId,
    from: Option<NodeId>,
    link: &'a Incoming,
}

struct Seeding<'a> {
    topology: &'a Topology,
    desk: CheckContext<'a>,
    joining: &'a Joining,
    known: Vec<KnownLink<'a>>,
    steps: Vec<SeedStep>,
}

/// The steps, or why there are none.
pub(crate) fn steps(
    topology: &Topology,
    looks: &BTreeMap<NodeId, NodeInspection>,
    joining: &Joining,
    there: &NodeFacts,
    source: &NodeFacts,
) -> Vec<SeedStep> {
    let desk = CheckContext { topology, looks, report: Report::default() };
    let known = links::known(&desk);
    let known = known.into_iter().map(|(to, link, from)| KnownLink { to, from, link }).collect();
    let mut seeding = Seeding { topology, desk, joining, known, steps: Vec::new() };
    seeding.keep(there);
    match seeding.hazard(there, source, true) {
        Some(hazard) => seeding.words(
            None,
            format!("no step that overwrites {} is given: {hazard}", seeding.name(joining.node)),
        ),
        None => seeding.seed(there, source),
    }
    seeding.steps
}

/// A link that a node knows of: where it leads, where it comes from as far as that is known, and what the receiver
/// tells of it.
pub(crate) type FoundLink = (NodeId, Option<NodeId>, Incoming);

/// The links that are known, as far as nodes could be looked at.
pub(crate) fn found_links(
    topology: &Topology,
    looks: &BTreeMap<NodeId, NodeInspection>,
) -> Vec<FoundLink> {
    let desk = CheckContext { topology, looks, report: Report::default() };
    links::known(&desk).into_iter().map(|(to, link, from)| (to, from, link.clone())).collect()
}

/// What stands in the way of copying the tables of the common sets from a node to another while links carry on, if
/// anything does; and the links that are known.
pub(crate) fn hazard_of_copy(
    topology: &Topology,
    looks: &BTreeMap<NodeId, NodeInspection>,
    (node, there): (NodeId, &NodeFacts),
    (from, source): (NodeId, &NodeFacts),
) -> (Option<String>, Vec<FoundLink>) {
    let desk = CheckContext { topology, looks, report: Report::default() };
    let links = links::known(&desk);
    let found = links.iter().map(|(to, link, from)| (*to, *from, (*link).clone())).collect();
    let known = links.into_iter().map(|(to, link, from)| KnownLink { to, from, link }).collect();
    let joining = Joining {
        node,
        from,
        rows: Vec::new(),
        tables: Ok(Vec::new()),
        users: Ok(Vec::new()),
        log: Err(crate::fault::ReadFault::not_told("it was not asked for".to_owned())),
        steps: Vec::new(),
    };
    let seeding = Seeding { topology, desk, joining: &joining, known, steps: Vec::new() };
    let hazard = seeding.hazard(there, source, false);
    let hazard = hazard.or_else(|| {
        let others: Vec<NodeId> =
            seeding.desk.receivers(node).into_iter().filter(|id| seeding.only_by_way_of(*id)).collect();
        (!others.is_empty()).then(|| {
            format!(
                "what others write gets to {} only by way of {}: what {} passes over with the copy would never get there",
                seeding.desk.names(&others),
                seeding.name(node),
                seeding.name(node)
            )
        })
    });
    (hazard, found)
}

impl<'a> Seeding<'a> {
    /// A receiver of the node gets the writes of some other node only through it.
    fn only_by_way_of(&self, receiver: NodeId) -> bool {
        let node = self.joining.node;
        let feeds =
            |from: NodeId| self.topology.links.iter().any(|l| (l.from, l.to) == (from, receiver));
        (0..self.topology.nodes.len()).any(|origin| {
            origin != receiver
                && origin != node
                && self.topology.nodes[origin].writes
                && self.desk.sends_to(origin, node)
                && !feeds(origin)
        })
    }

    fn name(&self, node: NodeId) -> &'a str {
        &self.topology.nodes[node].name
    }

    fn add(&mut self, node: Option<NodeId>, kind: StepKind, what: impl Into<String>) {
        self.steps.push(SeedStep { node, kind, what: what.into() });
    }

    fn words(&mut self, node: Option<NodeId>, what: impl Into<String>) {
        self.add(node, StepKind::Words, what);
    }

    fn sql(&mut self, node: NodeId, what: impl Into<String>) {
        self.add(Some(node), StepKind::Sql, what);
    }

    fn shell(&mut self, node: Option<NodeId>, what: impl Into<String>) {
        self.add(node, StepKind::Shell, what);
    }

    /// Keeps the things that only the node holds, in files that can be put back.
    fn keep(&mut self, there: &NodeFacts) {
        let (node, from) = (self.joining.node, self.joining.from);
        let (joins, seeds) = (self.name(node), self.name(from));
        if !self.joining.loses() {
            return;
        }
        self.words(None, format!("save what only {joins} has"));
        self.shell(
            None,
            format!("keen audit --node {joins},{seeds} --format json --output before.json"),
        );
        let (host, port, database) = address(self.topology, node);
        let backup = match there.engine {
            Engine::MariaDb => format!(
                "mariadb-dump --single-transaction --host {host} --port {port} --databases {database} > before.sql"
            ),
            // A file for each table, to be put back with \copy ... FROM.
            Engine::Postgres => {
                let copy = |(full, spelled): &(String, String)| {
                    let file = format!("before.{}.copy", full.replace('/', "_"));
                    let copy = format!("\\copy {spelled} TO {}", sql_text(&file));
                    format!(" -c {}", shell_word(&copy))
                };
                let copies: String = self.tables(there).iter().map(copy).collect();
                format!(
                    "psql --host {host} --port {port} --dbname {} -v ON_ERROR_STOP=1{copies}",
                    shell_word(&database)
                )
            }
            Engine::Sqlite => {
                format!("sqlite3 {} \"VACUUM INTO 'before.db'\"", shell_word(&database))
            }
        };
        self.shell(Some(node), backup);
        self.words(
            None,
            "decide with its authors what of that should be written again, at the source, by its application",
        );
    }

    /// The sets that both nodes carry.
    fn sets(&self) -> Vec<usize> {
        let both = [self.joining.node, self.joining.from];
        let carries = |set: &usize| {
            let carriers = self.topology.carriers(*set);
            both.iter().all(|node| carriers.contains(node))
        };
        (0..self.topology.sets.len()).filter(carries).collect()
    }

    /// The loss or damage that these steps would bring if they were given for this topology.
    fn hazard(&self, there: &NodeFacts, source: &NodeFacts, by_tools: bool) -> Option<String> {
        let topology = self.topology;
        let (node, from) = (self.joining.node, self.joining.from);
        let (joins, seeds) = (self.name(node), self.name(from));
        if let Some(unseen) =
            (0..topology.nodes.len()).find(|other| self.desk.facts(*other).is_none())
        {
            return Some(format!(
                "{} could not be read, so it is not known whether it reads from {joins}",
                self.name(unseen)
            ));
        }
        for (other, facts) in self.desk.nodes() {
            // A file never tells; whoever copies rows of it knows that.
            let untold = facts.engine == Engine::Sqlite && !by_tools;
            if let Err(reason) =
                facts.incoming.as_ref().map_err(|reason| (!untold).then_some(reason))
                && let Some(reason) = reason
            {
                return Some(format!(
                    "the sources of {} could not be read ({reason})",
                    self.name(other)
                ));
            }
        }
        if self
            .known
            .iter()
            .any(|k| k.from.is_none() && k.to != node && k.link.means != ReplicationKind::StandIn)
        {
            return Some(
                "a link was found whose source is unknown, and it may read from there".to_owned(),
            );
        }
        if there.standby && source.engine == there.engine {
            return None; // it holds nothing of its own and is copied whole
        }
        let sets = self.sets();
        if sets.is_empty() {
            return Some(format!("no table set leads to both {joins} and {seeds}"));
        }
        for set in &sets {
            let set = &topology.sets[*set];
            if set.filter.is_some() || set.columns != ColumnChoice::All {
                return Some(format!(
                    "set {} carries only some rows or columns, and the rest of what the tables of {joins} hold is in no copy from {seeds}; keen plan repairs the differences row by row",
                    set.name
                ));
            }
        }
        // Whatever is to be on the node has to be at the source, too.
        let origins = topology.nodes.iter().enumerate().filter(|(id, other)| {
            other.writes && *id != from && (*id == node || self.desk.sends_to(*id, node))
        });
        for (origin, other) in origins {
            if !self.desk.sends_to(origin, from) {
                return Some(format!(
                    "what {} writes belongs on {joins} but does not reach {seeds}; keen plan repairs the differences row by row",
                    other.name
                ));
            }
        }
        let tables = sets.iter().flat_map(|set| &topology.sets[*set].tables);
        for table in tables {
            let look = |facts: &'_ NodeFacts| {
                facts.tables.get(table).and_then(|t| t.as_ref().ok()?.there()).is_some()
            };
            if !look(there) || !look(source) {
                return Some(format!(
                    "{table} could not be read on both {joins} and {seeds}; keen preflight says why"
                ));
            }
            if by_tools
                && topology.nodes[node].name_of(table) != topology.nodes[from].name_of(table)
                && there.engine == source.engine
                && there.engine != Engine::Sqlite
            {
                return Some(format!(
                    "{table} has a different name on {joins} than on {seeds}, so a copy would not end up in it"
                ));
            }
        }
        match (source.engine, there.engine) {
            (Engine::Postgres, Engine::Postgres) => self.postgres_hazard(there),
            (Engine::Sqlite, Engine::Sqlite) if by_tools => Some(format!(
                "a file is copied as a whole: its tables that {seeds} does not carry to {joins}, and the record of what {joins} sent and received, would be those of {seeds}; keen plan repairs the differences row by row"
            )),
            _ => None,
        }
    }

    fn postgres_hazard(&self, there: &NodeFacts) -> Option<String> {
        let joins = self.name(self.joining.node);
        if self.known.iter().any(|k| k.link.means == ReplicationKind::Pglogical) {
            return Some("keen knows no safe order for subscriptions of pglogical; keen plan repairs the differences row by row".to_owned());
        }
        let slots = match &there.slots {
            Ok(slots) => slots,
            Err(reason) => {
                return Some(format!("the slots of {joins} could not be read ({reason})"));
            }
        };
        let (_, _, database) = address(self.topology, self.joining.node);
        let readers: Vec<&str> = (self.known.iter())
            .filter(|k| k.from == Some(self.joining.node))
            .filter_map(|k| k.link.source.slot.as_deref())
            .collect();
        let stranger = slots.iter().find(|slot| {
            slot.database.as_ref() == Some(&database)
                && !readers.contains(&&slot.name[..])
                && !crate::history::journal::is_journal_slot(&slot.name)
        });
        if let Some(slot) = stranger {
            return Some(format!(
                "slot {} on {joins} belongs to a reader that is not a node in the file, and what is overwritten would reach it",
                slot.name
            ));
        }
        let carried: Vec<String> = self.tables(there).into_iter().map(|(full, _)| full).collect();
        let taken = self.own().into_iter().filter(|k| k.from == Some(self.joining.from));
        let mut taken = taken.flat_map(|k| k.link.tables.as_deref().unwrap_or_default());
        let surplus = taken.find(|taken| !carried.contains(&taken.table));
        surplus.map(|taken| {
            format!(
                "{joins} also subscribes to {}, which is in no set, so its contents were not compared; add it to a set",
                taken.table
            )
        })
    }

    /// The links that bring changes to the node.
    fn own(&self) -> Vec<KnownLink<'a>> {
        self.known.iter().filter(|k| k.to == self.joining.node).copied().collect()
    }

    /// The links that carry changes away from it.
    fn ways_out(&self) -> Vec<KnownLink<'a>> {
        self.known.iter().filter(|k| k.from == Some(self.joining.node)).copied().collect()
    }

    /// Tables of the common sets on a node: schema and name joined, and how a statement names them.
    fn tables(&self, facts: &NodeFacts) -> Vec<(String, String)> {
        let sets = self.sets();
        let names = sets.iter().flat_map(|set| &self.topology.sets[*set].tables);
        let mut tables: Vec<(String, String)> = names
            .filter_map(|table| {
                let look: &TableLook = facts.tables.get(table)?.as_ref().ok()?.there()?;
                let parts = &look.shape.qualified;
                let spelled: Vec<String> =
                    parts.iter().map(|part| facts.engine.dialect().quoted(part)).collect();
                Some((parts.join("."), spelled.join(".")))
            })
            .collect();
        tables.sort();
        tables.dedup();
        tables
    }

    /// Who must not be written to meanwhile, so that no write is between two places: the node itself; and
    /// where somebody gets others' writes only by way of it, or it gets them over ways of their own whose
    /// places are counted apart, all who write.
    fn quiet(&self, there: &NodeFacts) -> Vec<NodeId> {
        let (node, from) = (self.joining.node, self.joining.from);
        let topology = self.topology;
        let writes = |id: &NodeId| topology.nodes[*id].writes;
        let origins: Vec<NodeId> = (0..topology.nodes.len())
            .filter(writes)
            .filter(|id| *id == node || self.desk.sends_to(*id, node))
            .collect();
        let by_way_of_it = self.desk.receivers(node).into_iter().any(|id| self.only_by_way_of(id));
        let counted_apart = there.engine == Engine::Postgres
            && self.desk.sources(node).iter().any(|source| *source != from);
        if by_way_of_it || counted_apart {
            origins
        } else {
            origins.into_iter().filter(|id| *id == node).collect()
        }
    }

    fn seed(&mut self, there: &NodeFacts, source: &NodeFacts) {
        let (node, from) = (self.joining.node, self.joining.from);
        let (joins, seeds) = (self.name(node), self.name(from));
        let quiet = self.quiet(there);
        if !quiet.is_empty() {
            let names: Vec<&str> = quiet.iter().map(|id| self.name(*id)).collect();
            self.words(
                None,
                format!(
                    "keep applications from writing to {} until the last step",
                    names.join(", ")
                ),
            );
        }
        let servers = there.engine != Engine::Sqlite && source.engine == there.engine;
        if servers && !there.standby {
            self.fences(&quiet);
        }
        match (source.engine, there.engine) {
            (Engine::MariaDb, Engine::MariaDb) => self.mariadb(there),
            (Engine::Postgres, Engine::Postgres) if there.standby => self.standby(),
            (Engine::Postgres, Engine::Postgres) => self.postgres(there, source),
            _ => self.by_plan(there),
        }
        if !quiet.is_empty() {
            self.words(None, "let applications write again");
        }
        self.shell(None, "keen preflight");
        self.shell(None, format!("keen audit --node {joins},{seeds}"));
        let others: Vec<&str> = (self.desk.receivers(node).into_iter())
            .filter(|id| *id != from)
            .map(|id| self.name(id))
            .collect();
        if !others.is_empty() {
            self.words(
                None,
                format!(
                    "{} still have what {joins} sent before: keen audit shows what is different now",
                    others.join(", ")
                ),
            );
        }
    }

    /// Everything that was written has to be delivered before anything is cut.
    fn fences(&mut self, quiet: &[NodeId]) {
        let (node, from) = (self.joining.node, self.joining.from);
        let mut fences: Vec<(NodeId, NodeId)> =
            self.ways_out().iter().map(|way| (way.to, node)).collect();
        for origin in quiet.iter().copied().filter(|id| *id != node) {
            // A fence at a node holds for what its own sources wrote, link by link.
            for link in &self.topology.links {
                if link.from == origin || self.desk.sends_to(origin, link.from) {
                    fences.push((link.to, link.from));
                }
            }
        }
        fences.retain(|(at, of)| self.known.iter().any(|k| k.to == *at && k.from == Some(*of)));
        let mut seen: Vec<(NodeId, NodeId)> = Vec::new();
        for fence in fences {
            if !seen.contains(&fence) {
                seen.push(fence);
            }
        }
        // What is passed on needs the fence before it, whichever order they come in: once more round.
        let rounds = if quiet.iter().any(|id| *id != node && *id != from) { 2 } else { 1 };
        for _ in 0..rounds {
            for (at, of) in &seen {
                self.shell(
                    None,
                    format!("keen probe --now --at {} --from {}", self.name(*at), self.name(*of)),
                );
            }
        }
        if !seen.is_empty() {
            self.words(
                None,
                "if one of these does not end with exit code 0, stop here: something has not been delivered yet, and the next steps would lose it",
            );
        }
    }

    fn mariadb(&mut self, there: &NodeFacts) {
        let (node, from) = (self.joining.node, self.joining.from);
        let seeds = self.name(from);
        let (host, port, database) = address(self.topology, from);
        let (own_host, own_port, own_database) = address(self.topology, node);
        for way in self.ways_out() {
            self.sql(way.to, format!("STOP SLAVE {}", sql_text(&way.link.name)));
        }
        self.sql(node, "STOP ALL SLAVES");
        let names: Vec<String> = (self.tables(there).into_iter())
            .map(|(full, _)| full.split_once('.').map_or(full.clone(), |(_, name)| name.to_owned()))
            .map(|name| shell_word(&name))
            .collect();
        self.shell(
            Some(from),
            format!(
                "mariadb-dump --single-transaction --gtid --master-data=2 --host {host} --port {port} {database} {} > seed.sql # it notes the position of its moment",
                names.join(" ")
            ),
        );
        self.shell(
            Some(node),
            format!(
                "(echo 'SET SESSION sql_log_bin = 0;'; cat seed.sql) | mariadb --host {own_host} --port {own_port} {own_database} # nothing of it goes into the binary log"
            ),
        );
        // One position serves all links of a server: other domains keep theirs.
        self.shell(
            Some(node),
            format!(
                "mariadb --host {own_host} --port {own_port} -e \"SET @seed = '$(sed -n \"s/^-- SET GLOBAL gtid_slave_pos='\\([^']*\\)';.*/\\1/p\" seed.sql)'; {KEEP_OTHER_DOMAINS}\""
            ),
        );
        if !self.own().iter().any(|k| k.from == Some(from)) {
            self.sql(
                node,
                format!(
                    "CHANGE MASTER {} TO MASTER_HOST = {}, MASTER_PORT = {port}, MASTER_USE_GTID = slave_pos, MASTER_USER = 'USER', MASTER_PASSWORD = 'PASSWORD'",
                    sql_text(seeds),
                    sql_text(&host)
                ),
            );
        }
        // A stop in the middle of a duplicate would have them leave out the first transaction that they get.
        let own: Vec<String> = self.own().iter().map(|k| skip_nothing(&k.link.name)).collect();
        for own in own {
            self.sql(node, own);
        }
        self.sql(node, "START ALL SLAVES");
        for way in self.ways_out() {
            self.sql(way.to, skip_nothing(&way.link.name));
            self.sql(way.to, format!("START SLAVE {}", sql_text(&way.link.name)));
        }
    }

    fn standby(&mut self) {
        let (node, from) = (self.joining.node, self.joining.from);
        let (host, port, _) = address(self.topology, from);
        let own = self.own();
        let slot = own.iter().find_map(|k| k.link.source.slot.as_deref());
        let slot = slot.map_or_else(
            || format!("--create-slot --slot {}", plain(self.name(node))),
            |slot| format!("--slot {}", shell_word(slot)),
        );
        self.words(Some(node), "stop the server and set its data folder aside");
        self.shell(
            Some(node),
            format!(
                "pg_basebackup --host {host} --port {port} --pgdata DATA --write-recovery-conf {slot} --wal-method stream"
            ),
        );
        self.words(Some(node), "start the server");
    }

    fn postgres(&mut self, there: &NodeFacts, source: &NodeFacts) {
        let (node, from) = (self.joining.node, self.joining.from);
        let name = |link: &Incoming| Engine::Postgres.dialect().quoted(&link.name);
        let (out, own) = (self.ways_out(), self.own());
        for way in &out {
            self.sql(way.to, format!("ALTER SUBSCRIPTION {} DISABLE", name(way.link)));
        }
        let (seeding, others): (Vec<KnownLink<'_>>, Vec<KnownLink<'_>>) =
            own.into_iter().partition(|k| k.from == Some(from));
        for other in &others {
            self.sql(node, format!("ALTER SUBSCRIPTION {} DISABLE", name(other.link)));
        }
        for link in &seeding {
            self.sql(
                node,
                format!(
                    "SELECT subconninfo, subbinary, substream::text FROM pg_subscription WHERE subname = {}",
                    sql_text(&link.link.name)
                ),
            );
            self.words(
                Some(node),
                "note its connection and options: the subscription is created again with them below",
            );
            self.sql(node, format!("DROP SUBSCRIPTION {}", name(link.link)));
        }
        let slots: Vec<String> =
            out.iter().filter_map(|way| way.link.source.slot.as_deref()).map(sql_text).collect();
        let tables: Vec<String> =
            self.tables(there).into_iter().map(|(_, spelled)| spelled).collect();
        let guard = if slots.is_empty() {
            String::new()
        } else {
            format!(
                "IF EXISTS (SELECT 1 FROM pg_replication_slots WHERE active AND slot_name IN ({})) THEN \
                 RAISE EXCEPTION 'somebody still reads from here: wait a moment and run this again'; END IF; ",
                slots.join(", ")
            )
        };
        self.sql(
            node,
            format!("DO $keen$ BEGIN {guard}TRUNCATE {}; END $keen$", tables.join(", ")),
        );
        let publications = self.publications(source, &seeding);
        let (host, port, database) = address(self.topology, from);
        for (n, (names, own_only)) in publications.iter().enumerate() {
            let subscription = seeding.get(n).map_or_else(
                || Engine::Postgres.dialect().quoted(&format!("from_{}", plain(self.name(from)))),
                |link| name(link.link),
            );
            let origin = if *own_only { ", origin = none" } else { "" };
            self.sql(
                node,
                format!(
                    "CREATE SUBSCRIPTION {subscription} CONNECTION 'host={host} port={port} dbname={database} user=USER password=PASSWORD' PUBLICATION {names} WITH (copy_data = true{origin})"
                ),
            );
        }
        self.sql(
            node,
            "DO $keen$ BEGIN IF EXISTS (SELECT 1 FROM pg_subscription_rel WHERE srsubstate <> 'r') THEN \
             RAISE EXCEPTION 'it is still copying: wait a moment and run this again'; END IF; END $keen$",
        );
        if !slots.is_empty() {
            self.words(Some(node), "its readers continue after all of that; what was written before has been delivered");
            self.sql(node, "CHECKPOINT");
            for slot in &slots {
                self.sql(
                    node,
                    format!("SELECT pg_replication_slot_advance({slot}, pg_current_wal_lsn())"),
                );
            }
        }
        for way in &out {
            self.sql(way.to, format!("ALTER SUBSCRIPTION {} ENABLE", name(way.link)));
        }
        for other in &others {
            self.sql(node, format!("ALTER SUBSCRIPTION {} ENABLE", name(other.link)));
        }
        let back = self.topology.links.iter().any(|l| (l.from, l.to) == (node, from));
        if back && !out.iter().any(|way| way.to == from) {
            let joins = self.name(node);
            self.words(
                Some(from),
                format!("subscribe to {joins} now, with copy_data = false and origin = none: both have the same rows, and a copy would duplicate them or fail"),
            );
        }
    }

    /// The subscription: publications as a statement lists them, and whether only the source's own writes.
    fn publications(&self, source: &NodeFacts, seeding: &[KnownLink<'_>]) -> Vec<(String, bool)> {
        let spelled = |names: &[String]| {
            let names: Vec<String> =
                names.iter().map(|n| Engine::Postgres.dialect().quoted(n)).collect();
            names.join(", ")
        };
        if !seeding.is_empty() {
            let of = |k: &KnownLink<'_>| (spelled(&k.link.publications), k.link.own_writes_only);
            return seeding.iter().map(of).collect();
        }
        let wanted: Vec<String> = self.tables(source).into_iter().map(|(full, _)| full).collect();
        let carries = |publication: &&crate::observe::node::Publication| {
            publication.tables.iter().any(|table| wanted.contains(&table.table))
        };
        let found: Vec<String> = (source.publications.iter().flatten())
            .filter(carries)
            .map(|publication| publication.name.clone())
            .collect();
        let names = if found.is_empty() { "NAME".to_owned() } else { spelled(&found) };
        let both_ways = self.desk.sends_to(self.joining.node, self.joining.from);
        vec![(names, both_ways)]
    }

    fn by_plan(&mut self, there: &NodeFacts) {
        let (node, from) = (self.joining.node, self.joining.from);
        let (joins, seeds) = (self.name(node), self.name(from));
        self.shell(
            None,
            format!(
                "keen preflight --derive {seeds} --for {} # the tables in {joins}'s own words, for those that it lacks",
                there.engine.name()
            ),
        );
        self.shell(None, format!("keen plan --node {joins},{seeds}"));
        self.words(
            None,
            format!("it plans row by row, with a guard for each; {seeds} must be the authority"),
        );
    }
}

/// Sets the position that a dump noted, and keeps those of domains that it knows nothing of. In two statements:
/// MariaDB 10.11 ends with a crash when one both reads the position and sets it.
const KEEP_OTHER_DOMAINS: &str = "SET SESSION group_concat_max_len = 1000000; SET @position = (SELECT CONCAT_WS(',', @seed, GROUP_CONCAT(kept.gtid)) \
    FROM JSON_TABLE(CONCAT('[\\\"', REPLACE(@@GLOBAL.gtid_slave_pos, ',', '\\\",\\\"'), '\\\"]'), \
    '\\$[*]' COLUMNS (gtid VARCHAR(100) PATH '\\$')) AS kept WHERE kept.gtid <> '' \
    AND LOCATE(CONCAT(',', SUBSTRING_INDEX(kept.gtid, '-', 1), '-'), CONCAT(',', @seed)) = 0); SET GLOBAL gtid_slave_pos = @position";

fn address(topology: &Topology, node: NodeId) -> (String, u16, String) {
    match &topology.nodes[node].at {
        Address::Server(server) => (server.host.clone(), server.port, server.database.clone()),
        Address::Sqlite(path) => (String::new(), 0, path.clone()),
    }
}

/// A name that needs no quotes.
fn plain(name: &str) -> String {
    name.replace(['-', '.'], "_").to_ascii_lowercase()
}

/// A text as both servers take it, whatever the session says of backslashes: names hold none that count.
fn sql_text(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

/// A word as a shell takes it.
pub(crate) fn shell_word(text: &str) -> String {
    let harmless = |c: char| c.is_ascii_alphanumeric() || "_-./".contains(c);
    if !text.is_empty() && text.chars().all(harmless) && !text.starts_with('-') {
        return text.to_owned();
    }
    format!("'{}'", text.replace('\'', "'\\''"))
}
