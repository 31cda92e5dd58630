//! Which rows of a table are wanted.

use std::sync::Arc;

use super::batch::Layout;
use super::conversion::CommonKind;
use super::schema::{ColumnShape, Family, TableShape};
use crate::row::conversion::Conversion;
use crate::row::conversion::Normalization;
use crate::value::Value;

/// Which rows of a table are wanted.
#[derive(Debug, Clone, PartialEq, Default)]
pub enum RowSelection {
    /// All of them.
    #[default]
    All,
    /// Those of a segment.
    Segment(Segment),
    /// Those with these keys, and perhaps some more.
    Keys(Arc<RowKeys>),
}

/// A stretch of a table by the first column of its key, which is a whole number. What is no number
/// belongs to the first segment if nothing, else to the last.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Segment {
    /// From here on; from the beginning if none.
    pub from: Option<i64>,
    /// Up to here and not including it; to the end if none.
    pub before: Option<i64>,
}

impl Segment {
    /// Segments of equal width that together are everything.
    #[must_use]
    pub fn split(least: i64, greatest: i64, parts: usize) -> Vec<Self> {
        let (low, span) = (i128::from(least), i128::from(greatest) - i128::from(least));
        let parts = parts.max(1);
        let bound = |part: usize| i64::try_from(low + span * part as i128 / parts as i128).ok();
        (0..parts)
            .map(|part| Self {
                from: if part == 0 { None } else { bound(part) },
                before: if part + 1 == parts { None } else { bound(part + 1) },
            })
            .collect()
    }

    /// Whether a row whose key begins with this value belongs to it.
    #[must_use]
    pub fn has(&self, first: &Value) -> bool {
        match first {
            Value::Null => self.from.is_none(),
            Value::Int(v) => {
                self.from.is_none_or(|from| *v >= i128::from(from))
                    && self.before.is_none_or(|before| *v < i128::from(before))
            }
            _ => self.before.is_none(),
        }
    }
}

/// Whole keys of rows, as one node keeps them.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct RowKeys {
    /// The columns of the key on that node, in its order.
    pub columns: Vec<ColumnShape>,
    /// The keys: of each row a value for each of those columns. Nodes share them.
    pub keys: Arc<[Vec<Value>]>,
}

impl RowKeys {
    /// Keys of a table's layout, as the node with this shape and these names of its columns keeps them; none where
    /// they cannot be asked for by their values.
    #[must_use]
    pub fn of(
        layout: &Layout,
        shape: &TableShape,
        local_columns: &[String],
        keys: impl Into<Arc<[Vec<Value>]>>,
    ) -> Option<Self> {
        let keys = keys.into();
        let column = |at: &usize| shape.column(local_columns.get(*at)?).cloned();
        let columns: Vec<ColumnShape> = layout.key.iter().map(column).collect::<Option<_>>()?;
        let found = |(at, column): (&usize, &ColumnShape)| {
            finds_by_value(&layout.columns[*at].reading, column.family)
        };
        let all = layout.key.iter().zip(&columns).all(found) && keys.iter().all(|k| is_findable(k));
        (all && !columns.is_empty()).then_some(Self { columns, keys })
    }

    /// The same in pieces of at most so many keys.
    pub fn in_pieces(&self, most: usize) -> impl Iterator<Item = Self> + '_ {
        self.keys
            .chunks(most.max(1))
            .map(|keys| Self { columns: self.columns.clone(), keys: keys.into() })
    }
}

/// Whether a column of a key can be asked for by its value: what was compared is what a node with this family
/// keeps, and the engine's own equality finds at least that.
#[must_use]
pub fn finds_by_value(reading: &Conversion, family: Family) -> bool {
    use Family as F;
    let as_it_is = match &reading.kind {
        CommonKind::AsStored | CommonKind::ByValue => {
            !matches!(family, F::Opaque | F::Json | F::Single | F::Bits)
        }
        CommonKind::Exact => matches!(family, F::Integer | F::Decimal),
        CommonKind::Number => matches!(family, F::Integer | F::Real),
        CommonKind::Text => family == F::Text,
        CommonKind::Bytes => family == F::Bytes,
        CommonKind::Date => family == F::Date,
        CommonKind::Time => family == F::Time,
        CommonKind::Local(_) => family == F::LocalTimestamp,
        CommonKind::Uuid => family == F::Uuid,
        CommonKind::Single | CommonKind::Json => false,
    };
    as_it_is && reading.fraction.is_none() && reading.treatment == Normalization::default()
}

/// Whether a key can be asked for by its values: it has no NULL, which equals nothing, no NaN, and no text that is
/// not valid, which engines keep in their own encodings.
#[must_use]
pub fn is_findable(key: &[Value]) -> bool {
    let findable = |value: &Value| match value {
        Value::Null => false,
        Value::Float(v) => !v.is_nan(),
        Value::Text(text) => std::str::from_utf8(text).is_ok(),
        _ => true,
    };
    !key.is_empty() && key.iter().all(findable)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn every_key_is_in_exactly_one_segment(
            a in any::<i64>(), b in any::<i64>(), parts in 1usize..9, key in any::<i64>(),
        ) {
            let segments = Segment::split(a.min(b), a.max(b), parts);
            let in_segments = |first: &Value| segments.iter().filter(|s| s.has(first)).count();
            prop_assert_eq!(in_segments(&Value::Int(key.into())), 1);
            prop_assert_eq!(in_segments(&Value::Null), 1);
            prop_assert_eq!(in_segments(&Value::text("no number")), 1);
        }
    }
}
