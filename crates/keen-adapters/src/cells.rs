//! Rows on their way between two nodes of one engine, as cells one after the other: a kind, a length, and bytes.

use keen_core::plan::copy::RowChunk;

/// Chunks of about this many bytes.
pub(crate) const CHUNK: usize = 256 << 10;

/// The kind of a cell.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum CellKind {
    Null,
    /// A number as text.
    Number,
    /// Text, and whatever is written as text.
    Text,
    Bytes,
}

const KINDS: [CellKind; 4] = [CellKind::Null, CellKind::Number, CellKind::Text, CellKind::Bytes];

/// Adds a cell.
pub(crate) fn put(out: &mut Vec<u8>, kind: CellKind, bytes: &[u8]) {
    let number = KINDS.iter().position(|known| *known == kind).unwrap_or_default();
    out.push(u8::try_from(number).unwrap_or_default());
    out.extend((bytes.len() as u64).to_le_bytes());
    out.extend(bytes);
}

/// The cells of a chunk, in order.
pub(crate) struct Cells<'a> {
    rest: &'a [u8],
}

impl<'a> Cells<'a> {
    pub(crate) fn of(chunk: &'a RowChunk) -> Self {
        Self { rest: &chunk.bytes }
    }
}

impl<'a> Iterator for Cells<'a> {
    type Item = (CellKind, &'a [u8]);

    fn next(&mut self) -> Option<Self::Item> {
        let (kind, rest) = self.rest.split_first()?;
        let (length, rest) = rest.split_first_chunk::<8>()?;
        let (cell, rest) =
            rest.split_at_checked(usize::try_from(u64::from_le_bytes(*length)).ok()?)?;
        self.rest = rest;
        Some((*KINDS.get(usize::from(*kind))?, cell))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_come_back_as_they_were_put() {
        let cells: [(CellKind, &[u8]); 5] = [
            (CellKind::Null, b""),
            (CellKind::Number, b"-1.5e300"),
            (CellKind::Text, "a\tb\n\u{1f3d4}".as_bytes()),
            (CellKind::Text, b""),
            (CellKind::Bytes, &[0, 255, 39, 92]),
        ];
        let mut bytes = Vec::new();
        cells.iter().for_each(|(kind, cell)| put(&mut bytes, *kind, cell));
        let chunk = RowChunk { rows: 1, bytes };
        assert_eq!(Cells::of(&chunk).collect::<Vec<_>>(), cells);
    }
}
