//! From divergent rows to a plan: steps in order, each with a guard and a way back.
//!
//! Three laws hold for all of it. No step or script may lose data when it is followed to the letter, on
//! any node: what cannot be made safe is a question. A claim is no stronger than its evidence. Commands
//! agree with each other: what one sends the reader to, the other shows.
//!
//! A plan is a value. Making one decides nothing that the authority rules do
//! not decide, changes nothing, and can be thrown away. It keeps no rows: of each
//! step it knows the row that it is made from and makes it again when it is wanted
//! ([`listed`]), so that a plan of very many steps takes little memory.
//!
//! [`decide`] picks the right version or says why it cannot, [`judge`] turns that
//! into steps or a question, [`sql`] writes the statements as [`dialect`] spells them
//! for each engine, [`hold_back`] finds steps that cannot stand beside what is left as
//! it is, [`order`] puts the steps of a node in an order that its keys bear,
//! [`script`] writes them as one file per node, [`stopped`] makes way for the
//! writes at which links stopped. [`setup_steps`] does the same for settings, tables
//! and links that a preflight found wrong, [`seeding`] for a node that is filled from another by a [`copy`],
//! [`linking`] for links that are made, [`apart`] for those that are taken apart, and
//! [`promoting`] for a lead that is handed over.

pub mod alike;
pub mod answer;
pub mod apart;
pub mod copy;
pub mod decide;
pub mod evidence;
mod found;
mod hold_back;
mod judge;
pub mod linking;
mod listed;
mod make;
mod onward;
pub mod order;
pub mod port;
pub mod promoting;
pub mod seeding;
pub mod setup_steps;
pub mod sql;
mod step;
pub mod stopped;

use crate::topology::node_set::NodeSet;
use std::collections::BTreeMap;
use std::sync::{Arc, OnceLock};

use crate::audit::merge::DivergentRow;
use crate::row::batch::Layout;
use crate::row::conversion::CommonKind;
use crate::row::schema::{ColumnShape, TableShape};
use crate::topology::{Engine, NodeId, SetId};
use crate::value::Value;
pub use found::{FoundRows, KeepRows, WrittenTimes};
pub use listed::{NodeSteps, Plan};
pub use make::make;
pub use step::{CellChange, Guarded, Step, StepParts, same_row};

/// One table of one set as an audit found it.
#[derive(Debug, Clone)]
pub struct AuditedTable {
    /// The set.
    pub set: SetId,
    /// The table, as the set names it.
    pub table: String,
    /// The compared columns.
    pub layout: Arc<Layout>,
    /// The nodes that were compared.
    pub nodes: BTreeMap<NodeId, Arc<LocalTable>>,
    /// The nodes that should have been compared and were not, or not to the end.
    pub unread: NodeSet,
    /// The finding.
    pub divergent: FoundRows,
    /// When what nodes hold of those rows was written, where rows or nodes tell.
    pub written: WrittenTimes,
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
    /// The columns of the layout by their names there, in canonical order.
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
    /// The table and what keeps it, if that rolls nothing back.
    fn kept_by(&self) -> Option<String> {
        let storage = self.shape.not_transactional.as_ref()?;
        Some(format!("{} ({storage})", self.name))
    }

    /// The column that a column of the layout is here.
    fn column_of(&self, place: usize) -> Option<Arc<ColumnShape>> {
        let column = |name: &String| self.shape.column(name).cloned().map(Arc::new);
        let columns = self.shared.0.get_or_init(|| self.columns.iter().map(column).collect());
        columns.get(place).cloned().flatten()
    }
}

/// The questions that only a person can decide.
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
    /// The choices, and the loss that each would bring.
    pub choices: Vec<Choice>,
}

/// One answer to a question.
#[derive(Debug, Clone, PartialEq)]
pub struct Choice {
    /// What would be kept.
    pub content: ChoiceContent,
    /// The nodes that hold that; none if nobody does.
    pub nodes: Vec<NodeId>,
    /// That content; none means no row.
    pub row: Option<Vec<(String, Value)>>,
    /// For a row that is its own key: how often it would be there.
    pub copies: Option<u64>,
    /// The loss.
    pub loses: String,
}

/// What a choice would keep.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ChoiceContent {
    /// What nodes hold.
    Held,
    /// What was lost.
    Lost,
    /// What each side changed, where each changed other columns.
    Merged,
}

impl ChoiceContent {
    /// Its name in results.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Held => "held",
            Self::Lost => "lost",
            Self::Merged => "merged",
        }
    }
}

fn named(layout: &Layout, cells: &[Value]) -> Vec<(String, Value)> {
    layout
        .shown
        .iter()
        .filter_map(|i| Some((layout.columns[*i].name.clone(), cells.get(*i)?.clone())))
        .collect()
}

/// The cells that name the row: its key, or all of it.
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
        crate::row::key_order::put_key(&mut token, value.as_ref());
    }
    token
}

/// Whether numbers of a column match by value, whatever kind the node stores.
fn by_value(layout: &Layout, column: usize) -> bool {
    layout.columns[column].reading.kind == CommonKind::Number
}
