//! Divergent rows kept until it is known what they are: in memory while they are few, then in a file.

use keen_core::row::selection::is_findable;
use keen_core::topology::node_set::NodeSet;
use std::collections::HashMap;
use std::io::{self, BufReader, BufWriter, Read, Seek, SeekFrom, Write};
use std::ops::ControlFlow;
use std::sync::Arc;

use keen_core::audit::merge::{DivergentRow, Version};
use keen_core::row::digest::DigestFunction;
use keen_core::row::encoding;
use keen_core::row::key_order::put_key;
use keen_core::value::Value;
use tempfile::SpooledTempFile;

/// Rows of one table are kept in memory up to this many bytes.
const IN_MEMORY: usize = 1 << 20;

/// Which row it is, and what it was.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Trace {
    /// Its key, or all of it where it is its own key.
    pub(crate) key: u64,
    /// Who held what.
    pub(crate) held: u64,
}

impl Trace {
    pub(crate) fn of(row: &DivergentRow) -> Self {
        let mut key = encoding::row_bytes(&row.key);
        let mut held = Vec::new();
        for version in &row.versions {
            let nodes = version.nodes.iter().collect::<NodeSet>();
            held.extend(nodes.bits().to_be_bytes());
            held.extend(version.count.to_be_bytes());
            if let Some(cells) = &version.row {
                let digest = DigestFunction::default().digest(&encoding::row_bytes(cells));
                if row.key.is_empty() {
                    key.extend(digest.0.to_be_bytes()); // the row is its own key
                }
                held.extend(digest.0.to_be_bytes());
            }
        }
        Self { key: short(&key), held: short(&held) }
    }
}

/// Half of a digest tells a few million rows apart.
fn short(bytes: &[u8]) -> u64 {
    let digest = DigestFunction::default().digest(bytes).0;
    (digest >> 64) as u64 ^ digest as u64
}

/// Rows that were put aside, in the order in which they were found.
#[derive(Debug)]
pub(crate) struct PendingRows {
    file: SpooledTempFile,
    count: u64,
}

impl PendingRows {
    pub(crate) fn new() -> Self {
        Self { file: SpooledTempFile::new(IN_MEMORY), count: 0 }
    }

    pub(crate) fn count(&self) -> u64 {
        self.count
    }

    pub(crate) fn push(&mut self, row: &DivergentRow) -> io::Result<()> {
        self.count += 1;
        let mut out = BufWriter::new(&mut self.file);
        write_row(&mut out, row)?;
        out.flush()
    }

    /// The keys of all rows, if they can be asked for by their values and are at most so many.
    pub(crate) fn keys(&mut self, most: u64) -> io::Result<Option<Vec<Vec<Value>>>> {
        if self.count > most {
            return Ok(None);
        }
        let mut keys = Vec::new();
        self.each(|row| {
            let findable = is_findable(&row.key);
            keys.push(row.key);
            if findable { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
        })?;
        let all = keys.last().is_none_or(|key| is_findable(key));
        Ok(all.then_some(keys))
    }

    /// Hands out the rows in order.
    pub(crate) fn each(
        &mut self,
        mut with: impl FnMut(DivergentRow) -> ControlFlow<()>,
    ) -> io::Result<()> {
        self.file.seek(SeekFrom::Start(0))?;
        let mut file = BufReader::new(&mut self.file);
        for _ in 0..self.count {
            if with(read_row(&mut file)?).is_break() {
                break;
            }
        }
        self.file.seek(SeekFrom::End(0))?;
        Ok(())
    }

    /// The traces that the rows left. A key that diverges among several groups of nodes is one.
    pub(crate) fn traces(&mut self) -> io::Result<HashMap<u64, u64>> {
        let mut traces = HashMap::new();
        self.each(|row| {
            let trace = Trace::of(&row);
            let held: &mut u64 = traces.entry(trace.key).or_default();
            *held = held.wrapping_add(trace.held);
            ControlFlow::Continue(())
        })?;
        Ok(traces)
    }
}

/// Hands out the rows of several, each of which is in the order of the keys, in that order.
pub(crate) fn each_of_all(
    held: &mut [PendingRows],
    mut with: impl FnMut(DivergentRow) -> ControlFlow<()>,
) -> io::Result<()> {
    let count = held.len();
    let mut from = Vec::new();
    for one in held {
        one.file.seek(SeekFrom::Start(0))?;
        from.push((one.count, BufReader::new(&mut one.file)));
    }
    let mut next = |number: usize| -> io::Result<Option<(Vec<u8>, usize, DivergentRow)>> {
        let (left, file) = &mut from[number];
        if *left == 0 {
            return Ok(None);
        }
        *left -= 1;
        let row = read_row(file)?;
        Ok(Some((place(&row), number, row)))
    };
    let mut heads = Vec::new();
    for number in 0..count {
        heads.extend(next(number)?);
    }
    while let Some(at) = (0..heads.len()).min_by(|a, b| heads[*a].0.cmp(&heads[*b].0)) {
        let (_, number, row) = heads.swap_remove(at);
        heads.extend(next(number)?);
        if with(row).is_break() {
            break;
        }
    }
    Ok(())
}

/// Where a row stands among the others of its table.
fn place(row: &DivergentRow) -> Vec<u8> {
    let whole = row.versions.iter().find_map(|version| version.row.as_deref());
    let cells = if row.key.is_empty() { whole } else { Some(&row.key) };
    let mut place = Vec::new();
    cells.into_iter().flatten().for_each(|cell| put_key(&mut place, cell.as_ref()));
    place
}

/// Writes a row, long cells as they are: one can be as large as an engine lets it.
pub(crate) fn write_row(out: &mut impl Write, row: &DivergentRow) -> io::Result<()> {
    fn number(out: &mut impl Write, number: u64) -> io::Result<()> {
        out.write_all(&number.to_be_bytes())
    }
    fn cells(out: &mut impl Write, cells: &[Value]) -> io::Result<()> {
        let mut length = 0;
        let counted: Result<(), io::Error> = encoding::row_pieces(cells, |piece| {
            length += piece.len() as u64;
            Ok(())
        });
        counted?;
        number(out, length)?;
        encoding::row_pieces(cells, |piece| out.write_all(piece))
    }
    cells(out, &row.key)?;
    number(out, row.differing.len() as u64)?;
    for column in &row.differing {
        number(out, *column as u64)?;
    }
    number(out, row.versions.len() as u64)?;
    for version in &row.versions {
        number(out, version.nodes.iter().collect::<NodeSet>().bits())?;
        number(out, version.count)?;
        number(out, u64::from(version.row.is_some()))?;
        if let Some(row) = &version.row {
            cells(out, row)?;
        }
    }
    number(out, row.outside.len() as u64)?;
    for (node, row) in &row.outside {
        number(out, *node as u64)?;
        cells(out, row)?;
    }
    Ok(())
}

pub(crate) fn read_row(from: &mut impl Read) -> io::Result<DivergentRow> {
    fn number(from: &mut impl Read) -> io::Result<u64> {
        let mut bytes = [0; 8];
        from.read_exact(&mut bytes)?;
        Ok(u64::from_be_bytes(bytes))
    }
    fn count(from: &mut impl Read) -> io::Result<usize> {
        usize::try_from(number(from)?).map_err(|_| io::ErrorKind::InvalidData.into())
    }
    fn cells(from: &mut impl Read) -> io::Result<Vec<Value>> {
        let mut row = vec![0; count(from)?];
        from.read_exact(&mut row)?;
        encoding::read_row(&row).map_err(|_| io::ErrorKind::InvalidData.into())
    }
    let key = cells(from)?;
    let differing = (0..count(from)?).map(|_| count(from)).collect::<io::Result<_>>()?;
    let mut versions = Vec::new();
    for _ in 0..count(from)? {
        let (nodes, count) = (NodeSet::from_bits(number(from)?).iter().collect(), number(from)?);
        let row = if number(from)? == 1 { Some(cells(from)?) } else { None };
        versions.push(Version { nodes, row: row.map(Arc::new), count });
    }
    let mut outside = Vec::new();
    for _ in 0..count(from)? {
        outside.push((count(from)?, Arc::new(cells(from)?)));
    }
    Ok(DivergentRow { key, differing, versions, outside })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(id: i128, note: &str) -> DivergentRow {
        let cells = vec![Value::Int(id), Value::Text(note.as_bytes().to_vec()), Value::Null];
        DivergentRow {
            key: vec![Value::Int(id)],
            differing: vec![1],
            versions: vec![
                Version { nodes: vec![0, 5, 63], row: Some(Arc::new(cells.clone())), count: 1 },
                Version { nodes: vec![2], row: None, count: 0 },
            ],
            outside: vec![(2, Arc::new(cells))],
        }
    }

    #[test]
    fn rows_come_back_as_they_were_also_from_a_file() {
        let long = "x".repeat(1000);
        let rows: Vec<DivergentRow> = (0..3000).map(|id| row(id, &long)).collect();
        let mut held = PendingRows::new();
        rows.iter().for_each(|row| held.push(row).unwrap());
        assert_eq!(held.keys(2999).unwrap(), None, "more than are wanted");
        assert_eq!(held.keys(3000).unwrap().unwrap()[2999], [Value::Int(2999)]);
        for _ in 0..2 {
            let mut back = Vec::new();
            held.each(|row| {
                back.push(row);
                ControlFlow::Continue(())
            })
            .unwrap();
            assert_eq!(back, rows);
        }
        assert_eq!(held.traces().unwrap().len(), 3000);
    }

    #[test]
    fn where_one_row_cannot_be_asked_for_by_its_key_none_is() {
        let invalid = Value::Text(vec![0xed, 0xa0, 0x80]);
        let nan = vec![Value::Int(1), Value::Float(f64::NAN)];
        for key in [vec![Value::Null], Vec::new(), nan, vec![invalid]] {
            let mut held = PendingRows::new();
            for key in [vec![Value::Int(1)], key, vec![Value::Int(2)]] {
                held.push(&DivergentRow { key, ..row(1, "") }).unwrap();
            }
            assert_eq!(held.keys(10).unwrap(), None);
        }
    }

    #[test]
    fn rows_that_came_at_different_looks_are_handed_out_in_the_order_of_their_keys() {
        let mut looks = [PendingRows::new(), PendingRows::new(), PendingRows::new()];
        for (look, ids) in looks.iter_mut().zip([&[-5, 3, 900][..], &[], &[1, 4]]) {
            ids.iter().for_each(|id| look.push(&row(*id, "")).unwrap());
        }
        let mut ids = Vec::new();
        each_of_all(&mut looks, |row| {
            ids.extend(row.key);
            ControlFlow::Continue(())
        })
        .unwrap();
        assert_eq!(ids, [-5, 1, 3, 4, 900].map(Value::Int));
    }

    #[test]
    fn a_trace_tells_what_is_another_row_and_what_has_changed() {
        let (one, other) = (Trace::of(&row(1, "a")), Trace::of(&row(2, "a")));
        assert_ne!(one.key, other.key);
        assert_eq!(Trace::of(&row(1, "a")), one);
        let changed = Trace::of(&row(1, "b"));
        assert_eq!(changed.key, one.key);
        assert_ne!(changed.held, one.held);
        // Without a key the content is the key, and what it holds is how often.
        let multiset = |note: &str, count| {
            let mut row = row(1, note);
            row.key.clear();
            row.versions[0].count = count;
            Trace::of(&row)
        };
        assert_eq!(multiset("a", 1).key, multiset("a", 2).key);
        assert_ne!(multiset("a", 1).held, multiset("a", 2).held);
        assert_ne!(multiset("a", 1).key, multiset("b", 1).key);
    }
}
