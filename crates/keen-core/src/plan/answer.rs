//! Answers to questions: what a person decided, held against the versions that the question was asked about.
//!
//! A question has a name that is made of its row and of all versions of it. An answer to it holds for those versions
//! and for no others: once one of them changes, the name is another one.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::judge::Treatment;
use super::listed::{Asked, Plan, RowAt, StepSource};
use super::{AuditedTable, ChoiceContent, FoundRows, Question};
use crate::audit::merge::{DivergentRow, Version};
use crate::fault::ReadFault;
use crate::row::batch::Layout;
use crate::row::digest::DigestFunction;
use crate::row::key_order::put_key;
use crate::topology::{NodeId, Topology};
use crate::value::Value;
use crate::value::calendar::{parse_date, parse_time, parse_timestamp};
use crate::value::decimal::Decimal;
use crate::value::text::parse_uuid;

/// The decision of a person.
#[derive(Debug, Clone, PartialEq)]
pub enum Answer {
    /// What this node holds.
    Node(NodeId),
    /// What was lost.
    Lost,
    /// What each side changed.
    Merge,
    /// These cells; the others as all versions have them.
    Cells(Vec<(String, Value)>),
}

/// What an answer is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answered {
    /// The question of this name.
    Question(String),
    /// All questions of this table, as the sets name it.
    Table(String),
    /// All questions.
    All,
}

/// What answers come to.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Answers(BTreeMap<(u32, u32), RightVersion>);

/// The version that is right by an answer.
#[derive(Debug, Clone, PartialEq)]
enum RightVersion {
    /// One that nodes hold.
    Held(usize),
    /// One that none of them holds; none if the row is to go.
    Made(Option<Arc<Vec<Value>>>),
}

/// The effect of an answer to several questions.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AnswerEffect {
    /// How many questions it decides.
    pub decides: u64,
    /// What is lost by it, and in how many rows.
    pub losses: BTreeMap<String, u64>,
    /// Rows that it leaves open: nobody else holds what would be lost.
    pub last_copies: u64,
    /// Questions that it cannot answer.
    pub unfit: u64,
}

impl Question {
    /// Its name: of its row and of all versions that nodes hold of it.
    #[must_use]
    pub fn id(&self, topology: &Topology) -> String {
        let mut bytes = Vec::new();
        let mut put = |part: &[u8]| {
            bytes.extend((part.len() as u64).to_be_bytes());
            bytes.extend(part);
        };
        put(topology.sets[self.set].name.as_bytes());
        put(self.table.as_bytes());
        let cells = |cells: &[(String, Value)]| {
            let mut token = Vec::new();
            for (name, value) in cells {
                token.extend((name.len() as u64).to_be_bytes());
                token.extend(name.as_bytes());
                put_key(&mut token, value.as_ref());
            }
            token
        };
        put(&cells(&self.key));
        for choice in self.choices.iter().filter(|choice| choice.content != ChoiceContent::Merged) {
            let mut nodes: Vec<&str> =
                choice.nodes.iter().map(|node| &topology.nodes[*node].name[..]).collect();
            nodes.sort_unstable();
            put(nodes.join(",").as_bytes());
            put(&choice.row.as_deref().map(cells).unwrap_or_default());
            put(&choice.copies.unwrap_or(u64::from(choice.row.is_some())).to_be_bytes());
        }
        // Among a million questions two share one once in five hundred times.
        format!("{:012x}", DigestFunction::Xxh3.digest(&bytes).0 & 0xffff_ffff_ffff)
    }
}

impl Answers {
    /// Adds to a row the version that an answer made.
    pub(super) fn complete(&self, place: RowAt, row: &mut DivergentRow) {
        if let Some(RightVersion::Made(cells)) = self.0.get(&(place.table, place.row)) {
            let count = u64::from(cells.is_some());
            row.versions.push(Version { nodes: Vec::new(), row: cells.clone(), count });
        }
    }

    /// The version that is right by an answer.
    pub(super) fn version(&self, place: RowAt, row: &DivergentRow) -> Option<usize> {
        match self.0.get(&(place.table, place.row))? {
            RightVersion::Held(version) => Some(*version),
            RightVersion::Made(_) => Some(row.versions.len() - 1),
        }
    }
}

/// Why an answer cannot be taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AnswerFault {
    /// It does not fit its question, for this reason.
    Unfit(String),
    /// A row that was found cannot be read back.
    Rows(ReadFault),
}

impl From<ReadFault> for AnswerFault {
    fn from(fault: ReadFault) -> Self {
        Self::Rows(fault)
    }
}

impl Plan {
    /// The plan with these answers, and what each of them came to.
    ///
    /// # Errors
    /// [`AnswerFault`] when a question is not there, or an answer is none to it.
    pub fn answered(
        mut self,
        given: &[(Answered, Answer)],
    ) -> Result<(Self, Vec<AnswerEffect>), AnswerFault> {
        let mut effects = vec![AnswerEffect::default(); given.len()];
        let mut known = vec![false; given.len()];
        let mut restored: BTreeMap<usize, Vec<(DivergentRow, RightVersion)>> = BTreeMap::new();
        let mut no_longer_lost: Vec<String> = Vec::new();
        let is_lost = |plan: &Self, id: &String| {
            let basis = &plan.basis;
            basis.evidence.lost.iter().any(|question| question.id(&basis.topology) == *id)
        };
        for at in 0..self.asked.len() {
            let asked = self.asked[at];
            let question = self.question(asked)?;
            let id = question.id(&self.basis.topology);
            let of = |answered: &Answered| match answered {
                Answered::Question(wanted) => *wanted == id,
                Answered::Table(table) => *table == question.table,
                Answered::All => true,
            };
            // The narrowest answer counts, and of equals the last.
            let narrow = |answered: &Answered| match answered {
                Answered::Question(_) => 2,
                Answered::Table(_) => 1,
                Answered::All => 0,
            };
            let found =
                (0..given.len()).filter(|i| of(&given[*i].0)).max_by_key(|i| narrow(&given[*i].0));
            let Some(number) = found else { continue };
            known[number] = true;
            let (answered, answer) = &given[number];
            let alone = matches!(answered, Answered::Question(_));
            let effect = &mut effects[number];
            let right = match asked {
                Asked::Of(StepSource::Row(place)) => self.right_of(place, &question, answer),
                Asked::Of(StepSource::Whole(_)) if is_lost(&self, &id) => {
                    restored_by(&question, answer)
                }
                Asked::Of(StepSource::Whole(_)) => {
                    Err("it is about a link that stopped: it says itself how that goes on"
                        .to_owned())
                }
                Asked::Instead(..) => {
                    Err("it has no choices: what stands in the way comes first".to_owned())
                }
            };
            let right = match right {
                Ok(right) => right,
                Err(why) if alone => {
                    return Err(AnswerFault::Unfit(format!(
                        "question {id} ({}): {why}",
                        question.table
                    )));
                }
                Err(_) => {
                    effect.unfit += 1;
                    continue;
                }
            };
            let (loses, last) = self.losses(asked, &right, &question)?;
            if !alone && last {
                effect.last_copies += 1;
                continue;
            }
            if let Some(why) = self.stands_in_the_way(asked, &right)? {
                if alone {
                    return Err(AnswerFault::Unfit(format!(
                        "question {id} ({}): {why}",
                        question.table
                    )));
                }
                effect.unfit += 1;
                continue;
            }
            effect.decides += 1;
            *effect.losses.entry(loses).or_default() += 1;
            match asked {
                Asked::Of(StepSource::Row(place)) => {
                    self.basis.answers.0.insert((place.table, place.row), right);
                }
                _ if right == RightVersion::Held(0) => no_longer_lost.push(id),
                _ => {
                    let (table, row) = self.restored(&question)?;
                    restored.entry(table).or_default().push((row, right));
                    no_longer_lost.push(id);
                }
            }
        }
        if let Some(number) = known.iter().position(|known| !known) {
            return Err(AnswerFault::Unfit(match &given[number].0 {
                Answered::Question(id) => format!(
                    "there is no question {id}: the row may have changed since, which is another question"
                ),
                Answered::Table(table) => format!("there is no question about {table}"),
                Answered::All => "there are no questions".to_owned(),
            }));
        }
        let topology = self.basis.topology.clone();
        self.basis
            .evidence
            .lost
            .retain(|question| !no_longer_lost.contains(&question.id(&topology)));
        for (table, rows) in restored {
            let of_table = &mut self.basis.tables[table];
            let first = of_table.divergent.len();
            let (rows, right): (Vec<_>, Vec<_>) = rows.into_iter().unzip();
            of_table.divergent = FoundRows::and_more(&of_table.divergent, rows);
            for (at, right) in right.into_iter().enumerate() {
                let place = (super::make::small(table), super::make::small(first + at));
                self.basis.answers.0.insert(place, right);
            }
        }
        // Notes of the making come again.
        let notes = self.notes.split_off(self.made_notes);
        let mut plan = super::make::remake(self.basis)?;
        plan.notes.extend(notes);
        Ok((plan, effects))
    }

    /// The version that an answer means, of a row that differs.
    fn right_of(
        &self,
        place: RowAt,
        question: &Question,
        answer: &Answer,
    ) -> Result<RightVersion, String> {
        let table = &self.basis.tables[place.table as usize];
        let row = table.divergent.get(place.row as usize).map_err(|fault| fault.to_string())?;
        match answer {
            Answer::Node(node) => {
                let held = row.versions.iter().position(|version| version.nodes.contains(node));
                held.map(RightVersion::Held).ok_or_else(|| {
                    let name = &self.basis.topology.nodes[*node].name;
                    format!("{name} is none of its choices")
                })
            }
            Answer::Lost => Err("nothing of it is lost".to_owned()),
            Answer::Merge => {
                let merged =
                    question.choices.iter().find(|choice| choice.content == ChoiceContent::Merged);
                let merged = merged.and_then(|choice| choice.row.as_ref());
                let merged = merged.ok_or(
                    "it is not proven that each side changed other columns: --conflicts reads the journals",
                )?;
                Ok(RightVersion::Made(Some(Arc::new(in_order(&table.layout, merged)?))))
            }
            Answer::Cells(cells) => {
                let made = with_cells(table, &row, cells)?;
                Ok(RightVersion::Made(Some(Arc::new(made))))
            }
        }
    }

    /// Why an answer cannot be carried out, if so.
    fn stands_in_the_way(
        &mut self,
        asked: Asked,
        right: &RightVersion,
    ) -> Result<Option<String>, ReadFault> {
        let Asked::Of(StepSource::Row(place)) = asked else { return Ok(None) };
        let key = (place.table, place.row);
        let before = self.basis.answers.0.insert(key, right.clone());
        let row = self.basis.row(place)?;
        let table = &self.basis.tables[place.table as usize];
        let expectation = &self.basis.expectations[place.table as usize];
        let why = match self.basis.judge().row(table, expectation, place, &row) {
            Treatment::Open(why) => Some(why),
            Treatment::Right(_) => None,
        };
        match before {
            Some(before) => self.basis.answers.0.insert(key, before),
            None => self.basis.answers.0.remove(&key),
        };
        Ok(why)
    }

    /// What an answer loses, and whether nobody would have it any more.
    fn losses(
        &self,
        asked: Asked,
        right: &RightVersion,
        question: &Question,
    ) -> Result<(String, bool), ReadFault> {
        let Asked::Of(StepSource::Row(place)) = asked else {
            let of = question.choices.iter().find(|choice| {
                (choice.content == ChoiceContent::Lost) == matches!(right, RightVersion::Made(_))
            });
            return Ok((of.map(|choice| choice.loses.clone()).unwrap_or_default(), false));
        };
        let row = self.basis.tables[place.table as usize].divergent.get(place.row as usize)?;
        let after = match right {
            RightVersion::Held(version) => row.versions[*version].row.clone(),
            RightVersion::Made(cells) => cells.clone(),
        };
        let choice = match right {
            RightVersion::Held(version) => {
                let nodes = &row.versions[*version].nodes;
                question.choices.iter().find(|choice| choice.nodes == *nodes)
            }
            RightVersion::Made(_) => None,
        };
        let loses = choice.map_or_else(|| "what differs".to_owned(), |choice| choice.loses.clone());
        let last = after.is_none() && row.versions.iter().any(|version| version.row.is_some());
        Ok((loses, last))
    }

    /// A row on which nodes agree, as one that differs from what was lost.
    fn restored(&self, question: &Question) -> Result<(usize, DivergentRow), AnswerFault> {
        let is = |table: &AuditedTable| table.set == question.set && table.table == question.table;
        let at = self.basis.tables.iter().position(is);
        let unfit = |why: &str| AnswerFault::Unfit(format!("{}: {why}", question.table));
        let at = at.ok_or_else(|| unfit("the table was not read"))?;
        let table = &self.basis.tables[at];
        let held = question.choices.iter().find(|choice| choice.content == ChoiceContent::Held);
        let held = held.ok_or_else(|| unfit("nobody was asked what is there"))?;
        let row = held.row.as_ref().map(|row| in_order(&table.layout, row)).transpose();
        let row = row.map_err(|why| unfit(&why))?;
        let count = u64::from(row.is_some());
        let version = Version { nodes: held.nodes.clone(), row: row.map(Arc::new), count };
        let key = question.key.iter().map(|(_, value)| value.clone()).collect();
        let row = DivergentRow {
            key,
            differing: Vec::new(),
            versions: vec![version],
            outside: Vec::new(),
        };
        Ok((at, row))
    }
}

/// What an answer to a question about a lost write means.
fn restored_by(question: &Question, answer: &Answer) -> Result<RightVersion, String> {
    match answer {
        Answer::Node(node) => {
            let held = question.choices.iter().find(|choice| choice.nodes.contains(node));
            held.map(|_| RightVersion::Held(0)).ok_or_else(|| "it holds nothing of it".to_owned())
        }
        Answer::Lost => {
            let lost = question.choices.iter().find(|choice| choice.content == ChoiceContent::Lost);
            let lost = lost.ok_or("nothing of it is lost")?;
            let whole = question.choices.iter().find_map(|choice| choice.row.as_ref());
            match (&lost.row, whole) {
                (None, _) => Ok(RightVersion::Made(None)),
                (Some(row), Some(whole)) if row.len() < whole.len() => {
                    Err("no log shows all of it: give the cells by hand".to_owned())
                }
                (Some(row), _) => {
                    // The cells come in the order of the table; canonical order is by name.
                    let mut row = row.clone();
                    row.sort_by(|(a, _), (b, _)| a.as_bytes().cmp(b.as_bytes()));
                    let cells = row.into_iter().map(|(_, value)| value).collect();
                    Ok(RightVersion::Made(Some(Arc::new(cells))))
                }
            }
        }
        Answer::Merge | Answer::Cells(_) => {
            Err("it is answered with a node's name, or with lost".to_owned())
        }
    }
}

/// Cells by name, in the order of the layout.
fn in_order(layout: &Layout, row: &[(String, Value)]) -> Result<Vec<Value>, String> {
    let cell = |column: &crate::row::batch::Column| {
        let cell = row.iter().find(|(name, _)| *name == column.name);
        cell.map(|(_, value)| value.clone()).ok_or_else(|| format!("{} is not known", column.name))
    };
    layout.columns.iter().map(cell).collect()
}

/// A row with these cells, and the others as all versions have them.
fn with_cells(
    table: &AuditedTable,
    row: &DivergentRow,
    cells: &[(String, Value)],
) -> Result<Vec<Value>, String> {
    let layout = &table.layout;
    let held: Vec<&Vec<Value>> =
        row.versions.iter().filter_map(|version| version.row.as_deref()).collect();
    if let Some((name, _)) =
        cells.iter().find(|(name, _)| !layout.columns.iter().any(|column| column.name == *name))
    {
        return Err(format!("{} has no compared column {name}", table.table));
    }
    if row.key.is_empty() {
        return Err("a row without a key is answered with a node's name".to_owned());
    }
    let mut made = Vec::new();
    let mut open = Vec::new();
    for (at, column) in layout.columns.iter().enumerate() {
        let given = cells.iter().find(|(name, _)| *name == column.name).map(|(_, value)| value);
        let samples: Vec<&Value> = held.iter().filter_map(|row| row.get(at)).collect();
        let in_key = layout.key.iter().position(|key| *key == at).and_then(|at| row.key.get(at));
        match (given, in_key) {
            (Some(given), Some(key)) if !like(given, &samples).same_as(key) => {
                return Err(format!("{} is part of the key and cannot change", column.name));
            }
            (_, Some(key)) => made.push(key.clone()),
            (Some(given), None) => made.push(like(given, &samples)),
            (None, None) => match samples.split_first() {
                Some((first, others)) if others.iter().all(|other| other.same_as(first)) => {
                    made.push(Value::clone(first));
                }
                _ => open.push(&column.name[..]),
            },
        }
    }
    match &open[..] {
        [] => Ok(made),
        names => Err(format!("versions differ in {}: say that, too", names.join(", "))),
    }
}

/// A value as it was typed, in the kind that the column has.
fn like(given: &Value, samples: &[&Value]) -> Value {
    let Some(sample) = samples.iter().find(|sample| ***sample != Value::Null) else {
        return given.clone();
    };
    let text = match given {
        Value::Text(bytes) => std::str::from_utf8(bytes).ok(),
        _ => None,
    };
    let made = match (sample, given) {
        (Value::Decimal(_), Value::Int(v)) => {
            Decimal::parse(&v.to_string()).ok().map(Value::Decimal)
        }
        (Value::Decimal(_), Value::Float(v)) => {
            Decimal::parse(&v.to_string()).ok().map(Value::Decimal)
        }
        (Value::Decimal(_), _) => text.and_then(|t| Decimal::parse(t).ok()).map(Value::Decimal),
        #[expect(clippy::cast_precision_loss, reason = "a number that somebody typed")]
        (Value::Float(_), Value::Int(v)) => Some(Value::Float(*v as f64)),
        (Value::Date(_), _) => text.and_then(parse_date).map(Value::Date),
        (Value::Time(_), _) => text.and_then(parse_time).map(Value::Time),
        (Value::Timestamp(_), _) => text.and_then(parse_timestamp).map(|at| Value::Timestamp(at.0)),
        (Value::LocalTimestamp(_), _) => {
            text.and_then(parse_timestamp).map(|at| Value::LocalTimestamp(at.0))
        }
        (Value::Uuid(_), _) => text.and_then(parse_uuid).map(Value::Uuid),
        (Value::Json(_), _) => text.map(|text| Value::Json(text.to_owned())),
        _ => None,
    };
    made.unwrap_or_else(|| given.clone())
}
