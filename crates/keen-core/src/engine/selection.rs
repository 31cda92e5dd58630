//! How each engine is asked for some rows of a table.

use crate::row::selection::{RowKeys, RowSelection, Segment};
use crate::topology::Engine;
use crate::value::Value;

/// A condition that the wanted rows meet, and perhaps some more; none if all are wanted. `first` is the first
/// column of the key; it may be `nullable`.
#[must_use]
pub fn condition(
    engine: Engine,
    rows: &RowSelection,
    first: Option<&str>,
    nullable: bool,
) -> Option<String> {
    match rows {
        RowSelection::All => None,
        RowSelection::Segment(segment) => in_segment(engine, segment, first?, nullable),
        RowSelection::Keys(keys) => Some(any_of(&each_key(engine, keys))),
    }
}

/// Where the column can hold NULL the first segment has to ask for it, which keeps some servers from using an index.
fn in_segment(engine: Engine, segment: &Segment, first: &str, nullable: bool) -> Option<String> {
    let column = engine.dialect().quoted(first);
    match (segment.from, segment.before) {
        (None, None) => None,
        (Some(from), None) => Some(format!("{column} >= {from}")),
        (None, Some(before)) if nullable => {
            Some(format!("({column} < {before} OR {column} IS NULL)"))
        }
        (None, Some(before)) => Some(format!("{column} < {before}")),
        (Some(from), Some(before)) => Some(format!("{column} >= {from} AND {column} < {before}")),
    }
}

/// Of each key a condition that its row meets, and perhaps some more.
#[must_use]
pub fn each_key(engine: Engine, keys: &RowKeys) -> Vec<String> {
    let dialect = engine.dialect();
    let one = |key: &Vec<Value>| {
        if !keys.columns.iter().zip(key).all(|(column, value)| dialect.compares(column, value)) {
            return "(1 = 0)".to_owned();
        }
        let cells = keys.columns.iter().zip(key).map(|(column, value)| {
            let name = dialect.quoted(&column.name);
            format!("{name} = {}", dialect.literal(value, Some(column)))
        });
        format!("({})", cells.collect::<Vec<_>>().join(" AND "))
    };
    keys.keys.iter().map(one).collect()
}

/// A condition that is met where one of these is; none of no rows.
#[must_use]
pub fn any_of(conditions: &[String]) -> String {
    match conditions {
        [] => "1 = 0".to_owned(),
        _ => conditions.join(" OR "),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::row::schema::{ColumnShape, Family};

    fn keys_columns() -> Vec<ColumnShape> {
        let column = |name: &str, family, declared: &str| ColumnShape {
            name: name.to_owned(),
            family,
            declared: declared.to_owned(),
            ..ColumnShape::default()
        };
        vec![column("h\"ut", Family::Text, "text"), column("day", Family::Date, "date")]
    }

    #[test]
    fn keys_of_several_columns_are_spelled_whole() {
        let keys = vec![vec![Value::text("O'Ridge"), Value::Date(0)]];
        let keys = RowKeys { columns: keys_columns(), keys: keys.into() };
        assert_eq!(
            each_key(Engine::Postgres, &keys),
            [r#"("h""ut" = 'O''Ridge' AND "day" = '1970-01-01'::date)"#]
        );
        assert_eq!(any_of(&[]), "1 = 0");
        // What PostgreSQL would refuse to compare is nowhere.
        let keys =
            vec![vec![Value::Int(1), Value::Date(0)], vec![Value::text("a\0"), Value::Date(0)]];
        let nowhere = RowKeys { columns: keys_columns(), keys: keys.into() };
        assert_eq!(each_key(Engine::Postgres, &nowhere), ["(1 = 0)", "(1 = 0)"]);
    }

    #[test]
    fn a_segment_asks_for_nothing_only_where_it_may_be() {
        let segment = |from, before, nullable| {
            let rows = RowSelection::Segment(Segment { from, before });
            condition(Engine::MariaDb, &rows, Some("id"), nullable)
        };
        assert_eq!(segment(None, None, true), None);
        assert_eq!(segment(None, Some(5), true).unwrap(), "(`id` < 5 OR `id` IS NULL)");
        assert_eq!(segment(None, Some(5), false).unwrap(), "`id` < 5");
        assert_eq!(segment(Some(1), Some(5), true).unwrap(), "`id` >= 1 AND `id` < 5");
    }
}
