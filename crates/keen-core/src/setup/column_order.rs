//! The order of a table's columns, as a state that can be read, compared and spelled.

use std::collections::BTreeMap;

use super::column::ColumnDefinition;
use crate::topology::Engine;

/// A column on its way to another place, and all that has to be said of it so that it stays as it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ColumnMove {
    /// Its name.
    pub column: String,
    /// How it is declared.
    pub declared: ColumnDefinition,
    /// The column that it comes to stand behind; none where it becomes the first.
    pub behind: Option<String>,
}

/// Names in an order, as one text: a name that is more than a word is in quotes.
#[must_use]
pub fn told(columns: &[&str]) -> String {
    let word = |name: &str| {
        !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
    };
    let name = |name: &&str| match word(name) {
        true => (*name).to_owned(),
        false => Engine::MariaDb.dialect().quoted(name),
    };
    columns.iter().map(name).collect::<Vec<_>>().join(", ")
}

/// The names of a text that [`told`] wrote; none if it is none.
fn parse(text: &str) -> Option<Vec<String>> {
    let mut names = Vec::new();
    let mut rest = text;
    loop {
        let name = if let Some(quoted) = rest.strip_prefix('`') {
            let mut name = String::new();
            rest = quoted;
            loop {
                let (part, after) = rest.split_once('`')?;
                name.push_str(part);
                match after.strip_prefix('`') {
                    Some(after) => {
                        name.push('`');
                        rest = after;
                    }
                    None => {
                        rest = after;
                        break name;
                    }
                }
            }
        } else {
            let end = rest.find(',').unwrap_or(rest.len());
            let (name, after) = rest.split_at(end);
            rest = after;
            name.to_owned()
        };
        if name.is_empty() {
            return None;
        }
        names.push(name);
        match rest.strip_prefix(", ") {
            Some(after) => rest = after,
            None => break,
        }
    }
    // Whatever it was, it says nothing else.
    let known: Vec<&str> = names.iter().map(String::as_str).collect();
    (rest.is_empty() && told(&known) == text).then_some(names)
}

/// The moves that bring the columns of a table from one order into another, one after the other; none if what may be
/// moved is not enough, or is not said in full, or the columns are not the same.
#[must_use]
pub fn moves(
    before: &str,
    after: &str,
    moved: &BTreeMap<String, String>,
) -> Option<Vec<ColumnMove>> {
    let (before, after) = (parse(before)?, parse(after)?);
    let staying = |order: &[String]| -> Vec<String> {
        order.iter().filter(|name| !moved.contains_key(*name)).cloned().collect()
    };
    let sorted = |order: &[String]| {
        let mut order = order.to_vec();
        order.sort();
        order
    };
    let known = sorted(&before);
    if known != sorted(&after)
        || known.windows(2).any(|pair| pair[0] == pair[1])
        || staying(&before) != staying(&after)
        || moved.is_empty()
        || !moved.keys().all(|column| known.contains(column))
    {
        return None;
    }
    let places = after.iter().enumerate().filter(|(_, name)| moved.contains_key(*name));
    let step = |(at, column): (usize, &String)| {
        let declared = ColumnDefinition::parse(&moved[column])?;
        let behind = at.checked_sub(1).map(|at| after[at].clone());
        Some(ColumnMove { column: column.clone(), declared, behind })
    };
    places.map(step).collect()
}

/// The order of a table's columns with those of a list in the order of the list, and which ones are moved for it, as few
/// as can be: what is not moved is a longest run of columns that come in the right order already.
#[must_use]
pub fn arranged(columns: &[String], wanted: &[String]) -> (Vec<String>, Vec<String>) {
    let wanted: Vec<&String> = wanted.iter().filter(|name| columns.contains(name)).collect();
    let places: Vec<usize> =
        columns.iter().filter_map(|own| wanted.iter().position(|name| *name == own)).collect();
    let staying = longest_rising(&places);
    let (mut order, mut moved) = (columns.to_vec(), Vec::new());
    for (at, name) in wanted.iter().enumerate().filter(|(at, _)| !staying.contains(at)) {
        order.retain(|known| known != *name);
        let place = match at.checked_sub(1) {
            Some(before) => order.iter().position(|known| known == wanted[before]).map(|at| at + 1),
            None => order.iter().position(|known| wanted.contains(&known)),
        };
        order.insert(place.unwrap_or(order.len()), (*name).clone());
        moved.push((*name).clone());
    }
    (order, moved)
}

/// A longest part of a list of different numbers that rises.
fn longest_rising(numbers: &[usize]) -> Vec<usize> {
    // Of each number the longest part that ends with it.
    let mut ending: Vec<Vec<usize>> = Vec::new();
    for (at, number) in numbers.iter().enumerate() {
        let before = (0..at).filter(|before| numbers[*before] < *number).map(|at| &ending[at]);
        let mut longest = before.max_by_key(|part| part.len()).cloned().unwrap_or_default();
        longest.push(*number);
        ending.push(longest);
    }
    ending.into_iter().max_by_key(Vec::len).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn names(text: &str) -> Vec<String> {
        text.split_whitespace().map(str::to_owned).collect()
    }

    #[test]
    fn what_is_no_order_is_not_parsed() {
        for right in ["id", "id, `warden's note`, beds", "`a``b`, `a, b`"] {
            let parsed = parse(right).unwrap();
            let parsed: Vec<&str> = parsed.iter().map(String::as_str).collect();
            assert_eq!(told(&parsed), right);
        }
        for wrong in ["", "id,", "id, ", "id,beds", "a b", "`id`", "`a b", "id; DROP", ", id"] {
            assert_eq!(parse(wrong), None, "{wrong}");
        }
    }

    #[test]
    fn only_what_is_said_in_full_is_moved() {
        let moved = |all: &[(&str, &str)]| -> BTreeMap<String, String> {
            all.iter().map(|(name, how)| ((*name).to_owned(), (*how).to_owned())).collect()
        };
        let skis = moved(&[("skis", "int(11), null")]);
        let all = moves("id, dogs, skis", "id, skis, dogs", &skis).unwrap();
        assert_eq!((&all[0].column[..], all[0].behind.as_deref()), ("skis", Some("id")));
        assert_eq!(moves("skis, id", "id, skis", &skis).unwrap()[0].behind.as_deref(), Some("id"));
        assert_eq!(moves("id, skis", "skis, id", &skis).unwrap()[0].behind, None);
        for (before, after, moved) in [
            ("id, dogs, skis", "skis, id", &skis),
            ("id, dogs, skis", "dogs, id, skis", &skis),
            ("id, skis, skis", "id, skis, skis", &skis),
            ("id, skis", "skis, id", &moved(&[])),
            ("id, skis", "skis, id", &moved(&[("skis", "int; DROP TABLE stay, null")])),
            ("id, skis", "skis, id", &moved(&[("skis", "int, null"), ("beds", "int, null")])),
        ] {
            assert_eq!(moves(before, after, moved), None, "{before} -> {after}");
        }
    }

    proptest! {
        #[test]
        fn any_order_is_arranged_and_nothing_else_is_moved(
            columns in Just(names("a b c d e f g")).prop_shuffle(),
            wanted in Just(names("a b c d e f g")).prop_shuffle(),
            shared in 0usize..8,
        ) {
            let wanted = &wanted[..shared];
            let (order, moved) = arranged(&columns, wanted);
            let of = |all: &[String], keep: &dyn Fn(&String) -> bool| -> Vec<String> {
                all.iter().filter(|name| keep(name)).cloned().collect()
            };
            prop_assert_eq!(of(&order, &|name| wanted.contains(name)), wanted.to_vec());
            prop_assert_eq!(
                of(&order, &|name| !moved.contains(name)),
                of(&columns, &|name| !moved.contains(name))
            );
            // Fewer moves would not do: no larger part of the columns comes in the right order as it is.
            let rises = |part: &[String]| {
                let place = |name: &String| wanted.iter().position(|known| known == name);
                part.windows(2).all(|pair| place(&pair[0]) < place(&pair[1]))
            };
            let shared = of(&columns, &|name| wanted.contains(name));
            let most = (0..1u32 << shared.len())
                .map(|some| {
                    let taken = (0..shared.len()).filter(|at| some & (1 << at) != 0);
                    taken.map(|at| shared[at].clone()).collect::<Vec<_>>()
                })
                .filter(|part| rises(part))
                .map(|part| part.len())
                .max();
            prop_assert_eq!(Some(shared.len() - moved.len()), most);
        }

        /// The engine takes the columns that are moved out, and puts each behind the one it names.
        #[test]
        fn the_moves_lead_to_the_order(
            columns in Just(names("a b c d e f")).prop_shuffle(),
            wanted in Just(names("a b c d e f")).prop_shuffle(),
        ) {
            let (order, moved) = arranged(&columns, &wanted);
            let text = |all: &[String]| told(&all.iter().map(String::as_str).collect::<Vec<_>>());
            let declared: BTreeMap<String, String> =
                moved.iter().map(|name| (name.clone(), "int, null".to_owned())).collect();
            prop_assume!(!moved.is_empty());
            for (from, to) in [(&columns, &order), (&order, &columns)] {
                let mut now: Vec<String> =
                    from.iter().filter(|name| !moved.contains(name)).cloned().collect();
                for step in moves(&text(from), &text(to), &declared).unwrap() {
                    let at = step.behind.map_or(0, |behind| {
                        now.iter().position(|name| *name == behind).unwrap() + 1
                    });
                    now.insert(at, step.column);
                }
                prop_assert_eq!(&now, to);
            }
        }
    }
}
