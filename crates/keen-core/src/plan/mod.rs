//! From divergent rows to a plan: steps in order, each with a guard and a way back.
//!
//! Three laws hold for all of it. No step or script may lose data when it is followed to the letter, on
//! any node: what cannot be made safe is a question. A claim is no stronger than its evidence. Commands
//! agree with each other: what one sends the reader to, the other shows.
//!
//! A plan is a value. Making one decides nothing that the authority rules do
//! not decide, changes nothing, and can be thrown away. [`decide`] picks the
//! right version or says why it cannot, [`sql`] writes the statements as
//! [`dialect`] spells them for each engine,
//! [`order`] puts the steps of a node in an order that its keys bear,
//! [`script`] writes them as one file per node, [`stopped`] makes way for the
//! writes at which links stopped.

pub mod alike;
pub mod decide;
pub mod dialect;
mod onward;
pub mod order;
pub mod raced;
pub mod script;
pub mod sql;
mod step;
pub mod stopped;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, OnceLock};

use crate::compare::{DivergentRow, Version};
use crate::expectation::{Expectation, Nodes, bit, members};
use crate::reading::CommonKind;
use crate::rows::Layout;
use crate::shape::{ColumnShape, Family, TableShape, Trigger};
use crate::topology::{Engine, NodeId, SetId, Topology};
use crate::value::Value;
use decide::Decision;
use raced::{Evidence, OfRow};
pub use step::{Action, CellChange, Guarded, Step};

/// One table of one set as an audit found it.
#[derive(Debug, Clone, PartialEq)]
pub struct AuditedTable {
    /// The set.
    pub set: SetId,
    /// The table, as the set names it.
    pub table: String,
    /// What was compared.
    pub layout: Arc<Layout>,
    /// The nodes that were compared.
    pub nodes: BTreeMap<NodeId, Arc<LocalTable>>,
    /// The nodes that should have been compared and were not, or not to the end.
    pub unread: Nodes,
    /// What was found.
    pub divergent: Vec<DivergentRow>,
    /// Rows that differ while a link still owes a write of them.
    pub unsettled: Vec<DivergentRow>,
}

/// A table on one node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LocalTable {
    /// The engine that holds it.
    pub engine: Engine,
    /// Its name there.
    pub name: String,
    /// What the columns of the layout are called there, in canonical order.
    pub columns: Vec<String>,
    /// Its shape there.
    pub shape: TableShape,
    /// The columns of the layout once more: the statements of all steps share them.
    pub shared: SharedColumns,
}

/// Columns that many statements share.
#[derive(Debug, Clone, Default)]
pub struct SharedColumns(OnceLock<Vec<Option<Arc<ColumnShape>>>>);

impl PartialEq for SharedColumns {
    /// They follow from the rest.
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl Eq for SharedColumns {}

impl LocalTable {
    /// The column that a column of the layout is here.
    fn column_of(&self, place: usize) -> Option<Arc<ColumnShape>> {
        let column = |name: &String| self.shape.column(name).cloned().map(Arc::new);
        let columns = self.shared.0.get_or_init(|| self.columns.iter().map(column).collect());
        columns.get(place).cloned().flatten()
    }
}

/// A plan.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Plan {
    /// What to do, in order, node by node.
    pub steps: Vec<Step>,
    /// What only a person can decide.
    pub questions: Vec<Question>,
    /// What to know before carrying it out.
    pub notes: Vec<String>,
}

/// What only a person can decide.
#[derive(Debug, Clone, PartialEq)]
pub struct Question {
    /// The set.
    pub set: SetId,
    /// The table, as the set names it.
    pub table: String,
    /// Which row.
    pub key: Vec<(String, Value)>,
    /// Why the rules do not decide it.
    pub why: String,
    /// What could be done, and what each would lose.
    pub choices: Vec<Choice>,
}

/// One answer to a question.
#[derive(Debug, Clone, PartialEq)]
pub struct Choice {
    /// The nodes whose content would be kept; none if it is that of a lost write, which nobody holds.
    pub nodes: Vec<NodeId>,
    /// That content; none means no row.
    pub row: Option<Vec<(String, Value)>>,
    /// For a row that is its own key: how often it would be there.
    pub copies: Option<u64>,
    /// What would be lost.
    pub loses: String,
}

/// Makes a plan from what an audit found and what else is known.
#[must_use]
pub fn make(topology: &Topology, tables: &[AuditedTable], evidence: &Evidence) -> Plan {
    let mut maker = Maker {
        topology,
        evidence,
        plan: Plan::default(),
        taken: BTreeSet::new(),
        later: BTreeMap::new(),
    };
    for table in tables {
        let expectation = Expectation::of_set(topology, table.set);
        for row in &table.divergent {
            maker.row(table, &expectation, row);
        }
    }
    maker.stopped(tables);
    maker.hold_back(tables);
    maker.notes(tables);
    let depths = order::depths(tables);
    let Maker { mut plan, .. } = maker;
    let (steps, stuck) = order::arrange(std::mem::take(&mut plan.steps), &depths);
    plan.steps = steps;
    for step in stuck {
        plan.questions.push(Question {
            why: "rows exchange a unique value, and taking one out would lose columns that the set does not carry".to_owned(),
            set: step.set,
            table: step.table,
            key: step.key,
            choices: Vec::new(),
        });
    }
    let chosen = |question: &&Question| tables.iter().any(|table| table.table == question.table);
    plan.questions.extend(evidence.lost.iter().filter(chosen).cloned());
    plan
}

struct Maker<'a> {
    topology: &'a Topology,
    evidence: &'a Evidence,
    plan: Plan,
    /// Rows that already have a step: node, local table, key.
    taken: BTreeSet<(NodeId, String, Vec<u8>)>,
    /// Rows put off, by table, because another set's step changes their source first.
    later: BTreeMap<String, u64>,
}

/// What one node holds now and is to hold.
struct Task<'a> {
    table: &'a AuditedTable,
    row: &'a DivergentRow,
    node: NodeId,
    before: Option<(&'a Arc<Vec<Value>>, u64)>,
    after: Option<(&'a Arc<Vec<Value>>, u64)>,
    /// The nodes that hold it already.
    holders: &'a [NodeId],
    reason: &'a str,
}

impl Maker<'_> {
    fn row(&mut self, table: &AuditedTable, expectation: &Expectation, row: &DivergentRow) {
        let concern: Nodes = row.versions.iter().flat_map(|v| &v.nodes).fold(0, |m, n| m | bit(*n));
        let token = key_token(table, row);
        let taken = |node: NodeId, local: &str| {
            self.taken.contains(&(node, local.to_owned(), token.clone()))
        };
        if members(concern)
            .any(|node| table.nodes.get(&node).is_some_and(|local| taken(node, &local.name)))
        {
            *self.later.entry(table.table.clone()).or_default() += 1;
            return;
        }
        let of_row = self.evidence.of(&table.table, &row.key);
        let known = |text: String| match of_row {
            Some(OfRow { words: Some(words), .. }) => format!("{text}; {words}"),
            _ => text,
        };
        let decision = decide::decide(self.topology, table, expectation, row, of_row);
        let (version, reason, counted) = match decision {
            Decision::Right { version, reason, counted } => (version, known(reason), counted),
            Decision::Open(why) => return self.ask(table, row, known(why)),
        };
        let right = &row.versions[version];
        let after = right.row.as_ref().map(|cells| (cells, right.count));
        let holders = &right.nodes[..];
        let mut tasks: Vec<Task<'_>> = Vec::new();
        for held in row.versions.iter().filter(|held| !std::ptr::eq(*held, right)) {
            for node in &held.nodes {
                let beyond = row
                    .outside
                    .iter()
                    .find(|(other, _)| other == node)
                    .map(|(_, cells)| (cells, 1));
                let before = held.row.as_ref().map(|cells| (cells, held.count)).or(beyond);
                let node = *node;
                tasks.push(Task { table, row, node, before, after, holders, reason: &reason });
            }
        }
        if after.is_some() {
            // Whoever those nodes feed should hold the row too, and held none until now.
            let fed =
                members(concern).fold(0, |nodes, node| nodes | expectation.reached_from(node));
            for node in members(fed & !concern & !table.unread) {
                let before = None;
                tasks.push(Task { table, row, node, before, after, holders, reason: &reason });
            }
        }
        tasks.retain(|task| {
            !(task.after.is_none() && row.outside.iter().any(|(node, _)| *node == task.node))
        });
        // Most of them holding something else is no reason to take away what nobody else has.
        if counted && let Some(task) = tasks.iter().find(|task| loses(task).is_some()) {
            let lost = loses(task).unwrap_or_default();
            let why = format!(
                "{reason}; but {lost} on {} would be lost, which none of them has",
                self.topology.nodes[task.node].name
            );
            return self.ask(table, row, why);
        }
        if let Some(why) = tasks.iter().find_map(|task| self.obstacle(task)) {
            return self.ask(table, row, why);
        }
        for task in &tasks {
            if let Some(local) = table.nodes.get(&task.node) {
                self.taken.insert((task.node, local.name.clone(), token.clone()));
            }
        }
        let arriving = match self.spare_what_arrives(&mut tasks, concern) {
            Ok(arriving) => arriving,
            Err(why) => {
                for task in &tasks {
                    if let Some(local) = table.nodes.get(&task.node) {
                        self.taken.remove(&(task.node, local.name.clone(), token.clone()));
                    }
                }
                return self.ask(table, row, format!("{reason}; but {why}"));
            }
        };
        for task in tasks {
            if let Some(local) = table.nodes.get(&task.node) {
                let mut step = self.step(local, &task);
                let own = arriving.iter().filter(|(from, _)| *from == task.node);
                step.arrives = own.fold(0, |nodes, (_, to)| nodes | bit(*to));
                self.plan.steps.push(step);
            }
        }
    }

    /// Steps that cannot stand beside what is left as it is become questions, and so does what depends on them.
    fn hold_back(&mut self, tables: &[AuditedTable]) {
        let mut unmoved: BTreeMap<NodeId, order::Unmoved> = BTreeMap::new();
        for table in tables {
            for row in &table.divergent {
                let token = key_token(table, row);
                let contents = || row.versions.iter().filter_map(|version| version.row.as_ref());
                let multiset = row.key.is_empty();
                for version in &row.versions {
                    for node in &version.nodes {
                        let Some(local) = table.nodes.get(node) else { continue };
                        if self.taken.contains(&(*node, local.name.clone(), token.clone())) {
                            continue;
                        }
                        let of_node = unmoved.entry(*node).or_default();
                        let alike = self.evidence.alike.of(*node);
                        let ties = |cells| order::ties(local, None, Some(cells), multiset, alike);
                        match &version.row {
                            Some(cells) => of_node.row(ties(cells)),
                            None => contents().for_each(|cells| of_node.missing(ties(cells))),
                        }
                    }
                }
            }
        }
        for node in self.plan.steps.iter().map(|step| step.node).collect::<BTreeSet<_>>() {
            let steps = self.plan.steps.iter().filter(|step| step.node == node);
            unmoved.entry(node).or_default().taken_twice(steps);
        }
        loop {
            let before = self.plan.steps.len();
            for step in std::mem::take(&mut self.plan.steps) {
                let why = unmoved.get_mut(&step.node).and_then(|rows| rows.stands_against(&step));
                let Some(why) = why else {
                    self.plan.steps.push(step);
                    continue;
                };
                self.plan.questions.push(Question {
                    why: format!(
                        "{} on {}: {why}",
                        step.action.name(),
                        self.topology.nodes[step.node].name
                    ),
                    set: step.set,
                    table: step.table,
                    key: step.key,
                    choices: Vec::new(),
                });
            }
            if self.plan.steps.len() == before {
                return;
            }
        }
    }

    fn ask(&mut self, table: &AuditedTable, row: &DivergentRow, why: String) {
        let choices = row.versions.iter().map(|version| self.choice(table, row, version)).collect();
        let key = key_cells(table, row);
        self.plan.questions.push(Question {
            set: table.set,
            table: table.table.clone(),
            key,
            why,
            choices,
        });
    }

    fn choice(&self, table: &AuditedTable, row: &DivergentRow, kept: &Version) -> Choice {
        let columns: Vec<&str> = table
            .layout
            .shown
            .iter()
            .filter(|i| row.differing.contains(i))
            .map(|i| &table.layout.columns[*i].name[..])
            .collect();
        let mut losses: Vec<(String, Vec<NodeId>)> = Vec::new();
        for other in row.versions.iter().filter(|other| !std::ptr::eq(*other, kept)) {
            let what = match (&other.row, &kept.row) {
                (Some(_), None) => "the row".to_owned(),
                (Some(_), Some(_)) if columns.is_empty() => "the number of equal rows".to_owned(),
                (Some(_), Some(_)) => columns.join(", "),
                // Whether it was ever there, rows do not tell.
                (None, _) => "the deletion, if it was one,".to_owned(),
            };
            match losses.iter_mut().find(|(known, _)| *known == what) {
                Some((_, nodes)) => nodes.extend(&other.nodes),
                None => losses.push((what, other.nodes.clone())),
            }
        }
        let losses = losses.iter().map(|(what, nodes)| format!("{what} on {}", self.names(nodes)));
        Choice {
            nodes: kept.nodes.clone(),
            copies: row.key.is_empty().then_some(kept.count),
            row: kept.row.as_ref().map(|cells| named(&table.layout, cells)),
            loses: losses.collect::<Vec<_>>().join("; "),
        }
    }

    /// Why a node cannot be given what it should hold without losing something, if so.
    fn obstacle(&self, task: &Task<'_>) -> Option<String> {
        let node = &self.topology.nodes[task.node].name;
        let Some(local) = task.table.nodes.get(&task.node) else {
            return Some(format!("{node} was not read, and this row belongs there too"));
        };
        if let Some(why) = &local.shape.untouchable {
            return Some(format!("{node} {why}"));
        }
        let action = match (task.before, task.after) {
            (Some((_, had)), Some((_, wanted))) if task.row.key.is_empty() && wanted > had => {
                Action::Insert
            }
            (Some(_), Some(_)) if task.row.key.is_empty() => Action::Delete,
            (Some(_), Some(_)) => Action::Update,
            (None, _) => Action::Insert,
            (Some(_), None) => Action::Delete,
        };
        let fires = |trigger: &&Trigger| trigger.on.iter().any(|on| on == action.name());
        if let Some(trigger) = local.shape.firing.iter().find(fires) {
            return Some(format!(
                "{} on {node} has a trigger that fires on this {} and would write more than the repair ({}: {}), and no session can switch it off",
                local.name,
                action.name(),
                trigger.name,
                shortened(&trigger.text)
            ));
        }
        let carried = |name: &String| local.columns.iter().any(|c| c.eq_ignore_ascii_case(name));
        let beyond: Vec<&str> =
            local.shape.columns.iter().filter(|c| !carried(&c.name)).map(|c| &c.name[..]).collect();
        if task.after.is_none() && task.before.is_some() && !beyond.is_empty() {
            return Some(format!(
                "deleting the row on {node} would lose {}, which the set does not carry and an undo could not bring back",
                beyond.join(", ")
            ));
        }
        if task.before.is_none() {
            let needed = local.shape.columns.iter().find(|c| !carried(&c.name) && !c.optional);
            if let Some(column) = needed {
                return Some(format!(
                    "{node} needs a value for {} to hold the row, and the set does not carry that column",
                    column.name
                ));
            }
        }
        let multiset = task.row.key.is_empty();
        if multiset
            && task.after.map_or(0, |a| a.1) < task.before.map_or(0, |b| b.1)
            && local.engine == Engine::Sqlite
            && sql::rowid_name(&local.shape).is_none()
        {
            return Some(format!(
                "columns of {} on {node} hide the rowid, so one of several equal rows cannot be picked",
                local.name
            ));
        }
        if let (Some((cells, _)), false) = (task.before, multiset) {
            let goes = |i: usize| task.after.is_none_or(|(after, _)| !after[i].same_as(&cells[i]));
            let column = local.columns.iter().enumerate().find(|(i, name)| {
                let shape = local.shape.column(name);
                shape.is_some_and(|c| dialect::is_error_value(local.engine, c, &cells[*i]))
                    && goes(*i)
            });
            if let Some((_, name)) = column {
                return Some(format!(
                    "{name} on {node} holds the error value of an enumeration, which an undo could not write again"
                ));
            }
        }
        let (after, _) = task.after?;
        let before = task.before.filter(|_| !multiset).map(|(cells, _)| cells);
        let columns =
            task.table.layout.columns.iter().zip(&local.columns).zip(after.iter()).enumerate();
        columns.into_iter().find_map(|(i, ((common, name), value))| {
            let column = local.shape.column(name)?;
            let written = !column.generated && before.is_none_or(|cells| !cells[i].same_as(value));
            if !written {
                return None;
            }
            let unable = dialect::cannot_hold(local.engine, column, value).map(|why| {
                format!(
                    "{node} declares {name} as {} and {why}: it would not keep {} as it is",
                    column.declared,
                    value.kind()
                )
            });
            if unable.is_some() {
                return unable;
            }
            // Compared by value, a JSON text has lost its spelling, which is what engines tell rows by.
            let alike = |holder: &NodeId| {
                task.table.nodes.get(holder).is_some_and(|other| other.engine == local.engine)
            };
            if common.reading.kind == CommonKind::ByValue
                && column.family == Family::Json
                && *value != Value::Null
                && let Some(holder) = task.holders.iter().find(|holder| alike(holder))
            {
                return Some(format!(
                    "{} is compared by value, and {node} would get it in another spelling than {} has it: copy it from there",
                    common.name, self.topology.nodes[*holder].name
                ));
            }
            if !dialect::is_whole(&common.reading, column.family) && *value != Value::Null {
                return Some(format!(
                    "{} is compared in part only ({}), so keen does not know all that {node} should hold",
                    common.name,
                    common.reading.in_words()
                ));
            }
            None
        })
    }

    fn step(&self, local: &Arc<LocalTable>, task: &Task<'_>) -> Step {
        step::of(local, task, self.onward(local, task), self.evidence.alike.of(task.node))
    }

    fn names(&self, nodes: &[NodeId]) -> String {
        nodes.iter().map(|node| &self.topology.nodes[*node].name[..]).collect::<Vec<_>>().join(", ")
    }

    fn notes(&mut self, tables: &[AuditedTable]) {
        let mut notes = BTreeSet::new();
        for step in &self.plan.steps {
            for (id, set) in self.topology.sets.iter().enumerate() {
                let passes_on = self.topology.edges(id).any(|(from, _)| from == step.node);
                if id != step.set && set.tables.contains(&step.table) && passes_on {
                    notes.insert(format!(
                        "{} is also carried by set {}: when these steps are done, audit and plan again for those who get it from {}",
                        step.table, set.name, self.topology.nodes[step.node].name
                    ));
                }
            }
        }
        let mut arriving: BTreeMap<(NodeId, NodeId), u64> = BTreeMap::new();
        for step in &self.plan.steps {
            for to in members(step.arrives) {
                *arriving.entry((step.node, to)).or_default() += 1;
            }
        }
        for ((from, to), rows) in &arriving {
            let (from, to) = (&self.topology.nodes[*from].name, &self.topology.nodes[*to].name);
            notes.insert(format!(
                "{rows} row{} of {to} come right by what the steps of {from} write, which {to} takes over: there is no step for them. Carry out {from}'s steps before {to}'s",
                if *rows == 1 { "" } else { "s" }
            ));
        }
        for (table, rows) in &self.later {
            notes.insert(format!(
                "{rows} divergent row{} of {table} in another set wait until these steps are done: audit and plan again then",
                if *rows == 1 { "" } else { "s" }
            ));
        }
        for table in tables.iter().filter(|table| table.unread != 0) {
            let nodes: Vec<NodeId> = members(table.unread).collect();
            notes.insert(format!(
                "{} was not read completely on {}: what they hold had no say in this plan",
                table.table,
                self.names(&nodes)
            ));
        }
        for table in tables {
            for (node, local) in &table.nodes {
                let here = |step: &&Step| step.node == *node && step.table == table.table;
                if !self.plan.steps.iter().any(|step| here(&step)) {
                    continue;
                }
                let name = &self.topology.nodes[*node].name;
                if let Some(reason) = &local.shape.firing_unseen {
                    notes.insert(format!(
                        "whether a trigger of {} on {name} fires on these steps is not known: {reason}",
                        local.name
                    ));
                }
                if let Some(storage) = &local.shape.not_transactional {
                    notes.insert(format!(
                        "{} on {name} is kept by {storage}, which rolls nothing back: its steps stay done when a later one fails",
                        local.name
                    ));
                }
            }
        }
        self.plan.notes.extend(notes);
    }
}

/// What a node holds now and will not hold any more, in a few words; none if nothing is lost.
fn loses(task: &Task<'_>) -> Option<String> {
    let layout = &task.table.layout;
    match (task.before, task.after) {
        (None, _) => None,
        (Some(_), None) => Some("the row".to_owned()),
        (Some((_, had)), Some((_, wanted))) if task.row.key.is_empty() => {
            match had.checked_sub(wanted) {
                None | Some(0) => None,
                Some(1) => Some("one of equal rows".to_owned()),
                Some(copies) => Some(format!("{copies} of equal rows")),
            }
        }
        (Some((before, _)), Some((after, _))) => {
            // Where there was nothing, nothing is lost.
            let replaced = layout
                .shown
                .iter()
                .filter(|i| before[**i] != Value::Null && !before[**i].same_as(&after[**i]));
            let names: Vec<&str> = replaced.map(|i| &layout.columns[*i].name[..]).collect();
            (!names.is_empty()).then(|| names.join(", "))
        }
    }
}

/// A text on one line, cut where it gets long.
fn shortened(text: &str) -> String {
    let line = text.split_whitespace().collect::<Vec<_>>().join(" ");
    let kept: String = line.chars().take(120).collect();
    if kept.len() < line.len() { format!("{kept}...") } else { kept }
}

fn named(layout: &Layout, cells: &[Value]) -> Vec<(String, Value)> {
    layout
        .shown
        .iter()
        .filter_map(|i| Some((layout.columns[*i].name.clone(), cells.get(*i)?.clone())))
        .collect()
}

/// What names the row: its key, or all of it.
fn key_cells(table: &AuditedTable, row: &DivergentRow) -> Vec<(String, Value)> {
    if row.key.is_empty() {
        let whole = row.versions.iter().find_map(|version| version.row.as_ref());
        return whole.map(|cells| named(&table.layout, cells)).unwrap_or_default();
    }
    table
        .layout
        .key
        .iter()
        .zip(&row.key)
        .map(|(i, value)| (table.layout.columns[*i].name.clone(), value.clone()))
        .collect()
}

fn key_token(table: &AuditedTable, row: &DivergentRow) -> Vec<u8> {
    let mut token = Vec::new();
    for (_, value) in key_cells(table, row) {
        crate::order::put_key(&mut token, value.as_ref());
    }
    token
}

/// Whether numbers of a column match by value, whatever kind the node stores.
fn by_value(layout: &Layout, column: usize) -> bool {
    layout.columns[column].reading.kind == CommonKind::Number
}
