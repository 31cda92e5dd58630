//! The topology file as it has to read once a lead was handed over; what is not about that stays as its author wrote it.

use anyhow::{Context, Result, bail};
use keen_core::topology::{self, Topology};
use toml_edit::{DocumentMut, TableLike, Value};

/// The file with another lead, and what it says then. A lead that is lost follows nobody until it is back: what the
/// others hold has to be judged without it.
///
/// # Errors
/// Why it has to be changed by hand.
pub(crate) fn handed_over(
    text: &str,
    lead: &str,
    node: &str,
    is_lost: bool,
) -> Result<(String, Topology)> {
    let by_hand = "the topology file cannot be changed for this: keen edits links that are written with from and to";
    let mut document: DocumentMut = text.parse().context("the topology file cannot be read")?;
    let nodes = document.get_mut("node").and_then(|item| item.as_table_like_mut());
    let nodes = nodes.context("the topology file has no nodes")?;
    for (name, writes) in [(lead, false), (node, true)] {
        let table = nodes.get_mut(name).and_then(|item| item.as_table_like_mut());
        let table = table.with_context(|| format!("the topology file has no node {name}"))?;
        match table.get_mut("writes").and_then(|item| item.as_value_mut()) {
            Some(value) => put(value, writes.into()),
            None => drop(table.insert("writes", toml_edit::value(writes))),
        }
    }
    let links = document.get_mut("link").context("the topology file has no links")?;
    let tables: Vec<&mut dyn TableLike> = if let Some(tables) = links.as_array_of_tables_mut() {
        tables.iter_mut().map(|table| table as &mut dyn TableLike).collect()
    } else if let Some(array) = links.as_array_mut() {
        let inline = array.iter_mut().filter_map(|value| value.as_inline_table_mut());
        inline.map(|table| table as &mut dyn TableLike).collect()
    } else {
        bail!("{by_hand}");
    };
    for table in tables {
        let Some(from) = table.get_mut("from").and_then(|item| item.as_value_mut()) else {
            continue;
        };
        match names(from)[..] {
            [one] if one == lead => {}
            ref several if several.contains(&lead) => bail!("{by_hand}, and from one node"),
            _ => continue,
        }
        swap(from, lead, node);
        match table.get_mut("to").and_then(|item| item.as_value_mut()) {
            // Alone it has nobody else to be declared beside.
            Some(Value::Array(to)) if is_lost && to.len() > 1 => {
                to.retain(|name| name.as_str() != Some(node));
            }
            Some(to) => swap(to, node, lead),
            None => {}
        }
    }
    let after = document.to_string();
    match topology::read(&after) {
        (Some(topology), _) => Ok((after, topology)),
        (None, problems) => {
            let why = problems.first().map(|problem| problem.message.clone()).unwrap_or_default();
            bail!("the topology file would be wrong with {node} as the lead: {why}")
        }
    }
}

/// The names that a value holds: one, or a list.
fn names(value: &Value) -> Vec<&str> {
    match value {
        Value::Array(list) => list.iter().filter_map(Value::as_str).collect(),
        one => one.as_str().into_iter().collect(),
    }
}

/// Puts a name in the place of another.
fn swap(value: &mut Value, old: &str, new: &str) {
    match value {
        Value::Array(list) => list.iter_mut().for_each(|value| swap(value, old, new)),
        one if one.as_str() == Some(old) => put(one, new.into()),
        _ => {}
    }
}

/// Changes a value and leaves the space and the comment around it.
fn put(value: &mut Value, new: Value) {
    let around = value.decor().clone();
    *value = new;
    *value.decor_mut() = around;
}

#[cfg(test)]
mod tests {
    use super::*;

    const BEFORE: &str = "name = \"huts\" # of the cooperative\n\n[node.valley]\nat = \"sqlite:v.db\"\nwrites = true # the office\n\
        [node.saddle]\nat = \"sqlite:s.db\"\n[node.board]\nat = \"sqlite:b.db\"\n[set.all]\ntables = [\"stay\"]\n\
        # everybody takes the stays\n[[link]]\nfrom = \"valley\"\nto = [\"saddle\", \"board\"] # both\ncarries = [\"all\"]\n";

    #[test]
    fn the_lead_changes_and_the_rest_stays_as_it_was_written() {
        let (after, topology) = handed_over(BEFORE, "valley", "saddle", false).unwrap();
        let wanted = BEFORE
            .replace("writes = true # the office", "writes = false # the office")
            .replace("at = \"sqlite:s.db\"\n", "at = \"sqlite:s.db\"\nwrites = true\n")
            .replace("from = \"valley\"", "from = \"saddle\"")
            .replace("[\"saddle\", \"board\"] # both", "[\"valley\", \"board\"] # both");
        assert_eq!(after, wanted);
        let outline = "written to: saddle; links: saddle -> board (all); saddle -> valley (all)";
        assert_eq!(topology.outline(), outline);
        // Handed back it says what it said.
        let (back, topology) = handed_over(&after, "saddle", "valley", false).unwrap();
        let (before, _) = topology::read(BEFORE);
        assert_eq!(Some(topology), before);
        assert!(back.contains("writes = true # the office"), "{back}");
        // A lost one is declared to follow nobody, unless nobody else is there.
        let (_, topology) = handed_over(BEFORE, "valley", "saddle", true).unwrap();
        assert_eq!(topology.outline(), "written to: saddle; links: saddle -> board (all)");
        let two = BEFORE.replace("[\"saddle\", \"board\"]", "\"saddle\"");
        let (_, topology) = handed_over(&two, "valley", "saddle", true).unwrap();
        assert_eq!(topology.outline(), "written to: saddle; links: saddle -> valley (all)");
    }

    #[test]
    fn links_that_are_written_otherwise_are_for_a_person() {
        let inline = BEFORE.replace(
            "[[link]]\nfrom = \"valley\"\nto = [\"saddle\", \"board\"] # both\ncarries = [\"all\"]\n",
            "",
        );
        let inline = format!(
            "link = [{{ from = [\"valley\"], to = \"saddle\", carries = [\"all\"] }}]\n{inline}"
        );
        let (after, _) = handed_over(&inline, "valley", "saddle", false).unwrap();
        assert!(after.contains("{ from = [\"saddle\"], to = \"valley\", carries"), "{after}");
        let several = BEFORE.replace("from = \"valley\"", "from = [\"valley\", \"saddle\"]");
        let several = several.replace("[\"saddle\", \"board\"]", "\"board\"");
        let why = handed_over(&several, "valley", "saddle", false).unwrap_err().to_string();
        assert!(why.contains("from one node"), "{why}");
    }
}
