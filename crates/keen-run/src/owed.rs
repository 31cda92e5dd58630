//! Reading what a link that stands still owes, from its source's journal.

use std::collections::BTreeMap;
use std::ops::ControlFlow;

use keen_core::fault::ReadFault;
use keen_core::links::fence::Waiting;
use keen_core::links::owed::{OwedTable, OwedTransaction, OwedWrites};
use keen_core::topology::{NodeId, Topology};

use crate::opener::{OpenJournal, OpenRows};

/// Reads what the receiver of a link lacks of these tables.
///
/// # Errors
/// Why that cannot be told.
pub fn read(
    topology: &Topology,
    from: NodeId,
    waiting: &Waiting,
    tables: &[OwedTable],
    journal: &OpenJournal<'_>,
    stop: &(dyn Fn() -> bool + Sync),
) -> Result<OwedWrites, ReadFault> {
    let source = &topology.nodes[from];
    if source.journal.is_some() {
        return Err(of_a_file(&source.name));
    }
    let names: Vec<(String, String)> = (tables.iter())
        .map(|table| (table.name.clone(), source.name_of(&table.name).to_owned()))
        .collect();
    let told = |fault: ReadFault| fault.at(&source.name);
    let own_only = waiting.inflow.link.own_writes_only;
    let mut owed = OwedWrites::behind(waiting.applied.clone(), waiting.own, &source.name, own_only);
    let all = |_: &OwedWrites| false;
    take(&mut owed, from, (&names, tables), journal, (&all, stop)).map_err(told)?;
    Ok(owed)
}

/// A journal that cannot be held against what a node says now.
fn of_a_file(source: &str) -> ReadFault {
    ReadFault::not_told(format!(
        "{source}'s journal is a file, which may be older than what it lacks"
    ))
}

/// Reads the first transaction that the receiver of a link lacks; none if it wrote to no table of the sets that
/// both carry.
///
/// # Errors
/// Why that cannot be told.
pub fn first(
    topology: &Topology,
    (from, to): (NodeId, NodeId),
    waiting: &Waiting,
    open: &OpenRows<'_>,
    journal: &OpenJournal<'_>,
    stop: &(dyn Fn() -> bool + Sync),
) -> Result<Option<OwedTransaction>, ReadFault> {
    let source = &topology.nodes[from];
    if source.journal.is_some() {
        return Err(of_a_file(&source.name));
    }
    let told = |fault: ReadFault| fault.at(&source.name);
    let carried: Vec<String> = (topology.sets.iter().enumerate())
        .filter(|(set, _)| [from, to].iter().all(|node| topology.carriers(*set).contains(node)))
        .flat_map(|(_, content)| content.tables.iter().cloned())
        .collect();
    let mut reader = open(from).map_err(told)?;
    let mut shapes = BTreeMap::new();
    for table in &carried {
        if let Ok(shape) = reader.shape(source.name_of(table)) {
            shapes.insert(table.clone(), shape);
        }
    }
    drop(reader);
    let (tables, _) = crate::tables::tables(topology, &carried, &BTreeMap::from([(from, shapes)]));
    let tables: Vec<OwedTable> = (tables.into_iter())
        .filter_map(|mut table| {
            let columns = table.local_columns.remove(&from)?;
            Some(OwedTable { name: table.name, layout: table.layout, columns })
        })
        .collect();
    let names: Vec<(String, String)> = (tables.iter())
        .map(|table| (table.name.clone(), source.name_of(&table.name).to_owned()))
        .collect();
    let own_only = waiting.inflow.link.own_writes_only;
    let mut owed = OwedWrites::behind(waiting.applied.clone(), waiting.own, &source.name, own_only);
    let found = |owed: &OwedWrites| owed.is_past_the_first();
    take(&mut owed, from, (&names, &tables), journal, (&found, stop)).map_err(told)?;
    Ok(owed.first)
}

/// Whether what was read is enough.
type Enough = dyn Fn(&OwedWrites) -> bool;

/// Takes what a journal tells until `enough` or its end.
fn take(
    owed: &mut OwedWrites,
    from: NodeId,
    (names, tables): (&[(String, String)], &[OwedTable]),
    journal: &OpenJournal<'_>,
    (enough, stop): (&Enough, &(dyn Fn() -> bool + Sync)),
) -> Result<(), ReadFault> {
    let mut journal = journal(from, names)?;
    let head = journal.head()?;
    if !owed.is_told_by(&head) {
        return Err(ReadFault::new("its journal does not reach back to what is lacking", ""));
    }
    journal.read(&mut |entry| {
        owed.take(&entry, tables);
        if enough(owed) || stop() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    })?;
    if stop() && !enough(owed) {
        return Err(ReadFault::interrupted());
    }
    owed.finish();
    Ok(())
}
