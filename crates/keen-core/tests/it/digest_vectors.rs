//! The vectors of `docs/digest.md`, which were made by another implementation.

use keen_core::row::balance::Balance;
use keen_core::row::digest::DigestFunction;
use keen_core::row::encoding;
use keen_core::value::Value;
use keen_core::value::decimal::Decimal;
use proptest::prelude::*;
use serde_json::Value as Json;

const SPECIFICATION: &str = include_str!("../../../../docs/digest.md");

fn vectors(block: &str) -> Vec<Json> {
    let start = format!("```{block}\n");
    let from = SPECIFICATION.find(&start).expect("the block is there") + start.len();
    let length = SPECIFICATION[from..].find("```").expect("the block ends");
    SPECIFICATION[from..from + length]
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect()
}

fn hex(text: &str) -> Vec<u8> {
    (0..text.len()).step_by(2).map(|i| u8::from_str_radix(&text[i..i + 2], 16).unwrap()).collect()
}

fn cell(cell: &Json) -> Value {
    let Some(map) = cell.as_object() else {
        return Value::Null;
    };
    let (kind, v) = map.iter().next().unwrap();
    let text = || v.as_str().unwrap();
    let number = || v.as_i64().unwrap();
    match kind.as_str() {
        "bool" => Value::Bool(v.as_bool().unwrap()),
        "int" => Value::Int(text().parse().unwrap()),
        "decimal" => {
            Value::Decimal(Decimal::written(text()).or_else(|_| Decimal::parse(text())).unwrap())
        }
        "float" => Value::Float(text().parse().unwrap()),
        "text" => Value::text(text()),
        "hex_text" => Value::Text(hex(text())),
        "hex" => Value::Bytes(hex(text())),
        "date" => Value::Date(number()),
        "time" => Value::Time(number()),
        "timestamp" => Value::Timestamp(number()),
        "local_timestamp" => Value::LocalTimestamp(number()),
        "uuid" => Value::Uuid(hex(text()).try_into().unwrap()),
        "json" => Value::Json(text().to_owned()),
        other => panic!("no kind {other}"),
    }
}

fn rows() -> Vec<(Vec<Value>, Json)> {
    let row = |v: &Json| v["row"].as_array().unwrap().iter().map(cell).collect();
    vectors("vectors-rows").into_iter().map(|v| (row(&v), v)).collect()
}

#[test]
fn rows_encode_to_the_bytes_and_digests_of_the_specification() {
    let rows = rows();
    assert!(rows.len() > 40, "the vectors were found");
    for (row, vector) in &rows {
        let bytes = encoding::row_bytes(row);
        assert_eq!(bytes, hex(vector["canonical"].as_str().unwrap()), "{vector}");
        for function in DigestFunction::ALL {
            let expected = vector[function.name()].as_str().unwrap();
            assert_eq!(function.digest(&bytes).to_string(), expected, "{vector}");
        }
    }
    for (i, (_, a)) in rows.iter().enumerate() {
        let alike = rows[..i].iter().any(|(_, b)| a["canonical"] == b["canonical"]);
        assert!(!alike, "{a} is unlike all others");
    }
}

#[test]
fn balances_add_up_as_the_specification_says() {
    let rows = rows();
    for vector in vectors("vectors-balances") {
        let mut balance = Balance::default();
        for i in vector["rows"].as_array().unwrap() {
            let (row, _) = &rows[usize::try_from(i.as_u64().unwrap()).unwrap()];
            balance.credit(DigestFunction::Xxh3.digest(&encoding::row_bytes(row)));
        }
        assert_eq!(Some(balance.rows), vector["count"].as_u64());
        assert_eq!(format!("{:032x}", balance.sum), vector["sum"].as_str().unwrap());
    }
}

fn any_value() -> impl Strategy<Value = Value> {
    prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::Bool),
        any::<i128>().prop_map(Value::Int),
        any::<i64>().prop_map(|v| Value::Int(v.into())),
        any::<f64>().prop_map(|v| Value::Float(if v == 0.0 || v.is_nan() { 0.0 } else { v })),
        "-?[0-9]{1,12}(\\.[0-9]{1,12})?"
            .prop_map(|v| Value::Decimal(Decimal::written(&v).unwrap())),
        prop::collection::vec(any::<u8>(), 0..300).prop_map(Value::Text),
        prop::collection::vec(any::<u8>(), 0..300).prop_map(Value::Bytes),
        any::<i64>().prop_map(Value::Date),
        any::<i64>().prop_map(Value::Timestamp),
        any::<[u8; 16]>().prop_map(Value::Uuid),
    ]
}

proptest! {
    #[test]
    fn a_row_can_be_read_back(row in prop::collection::vec(any_value(), 0..8)) {
        let bytes = encoding::row_bytes(&row);
        prop_assert_eq!(&encoding::read_row(&bytes).unwrap(), &row);
        prop_assert_eq!(encoding::cells(&bytes).unwrap().len(), row.len());
    }

    #[test]
    fn bytes_are_equal_exactly_when_the_values_are(
        a in prop::collection::vec(any_value(), 0..4),
        b in prop::collection::vec(any_value(), 0..4),
    ) {
        prop_assert_eq!(encoding::row_bytes(&a) == encoding::row_bytes(&b), a == b);
    }

    #[test]
    fn torn_or_random_bytes_are_refused_and_never_panic(bytes in prop::collection::vec(any::<u8>(), 0..60), keep in 0usize..60) {
        drop(encoding::read_row(&bytes));
        let whole = encoding::row_bytes(&[Value::Text(bytes), Value::Int(7)]);
        let torn = &whole[..keep.min(whole.len() - 1)];
        prop_assert!(encoding::read_row(torn).map_or(true, |row| row.len() < 2));
    }
}
