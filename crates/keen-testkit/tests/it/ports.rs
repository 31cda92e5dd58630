//! Ports carry data: what is asked through them is spelled by the adapters alone. The one text that is SQL when it
//! goes through is the row filter of a set, as its user wrote it.

use std::fs;
use std::path::Path;

/// A field, or what a variant holds: the type it belongs to, its name, its type, its documentation.
struct Field {
    of: String,
    name: String,
    holds: String,
    about: String,
}

fn source(file: &str) -> String {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../keen-core/src").join(file);
    let text = fs::read_to_string(path).unwrap();
    text.split("#[cfg(test)]").next().unwrap().to_owned()
}

/// The fields of all types that a file declares.
fn fields(file: &str) -> Vec<Field> {
    let text = source(file);
    let (mut of, mut about, mut found) = (None, String::new(), Vec::new());
    for line in text.lines() {
        let code = line.trim();
        if let Some(doc) = code.strip_prefix("///") {
            about.push_str(doc);
            continue;
        }
        if code.starts_with("#[") {
            continue;
        }
        let declares = ["pub struct ", "pub enum "].iter().find_map(|word| code.strip_prefix(word));
        if let Some(rest) = declares.filter(|_| !line.starts_with(' ')) {
            let name = rest.split(|c: char| !c.is_alphanumeric()).next().unwrap();
            of = Some(name.to_owned());
        } else if line == "}" {
            of = None;
        } else if let Some(of) = &of {
            let field = code.trim_start_matches("pub ").trim_end_matches(',');
            let parts = field.split_once(": ").or_else(|| field.split_once('('));
            if let Some((name, holds)) = parts {
                found.push(Field {
                    of: of.clone(),
                    name: name.to_owned(),
                    holds: holds.to_owned(),
                    about: about.clone(),
                });
            }
        }
        about.clear();
    }
    found
}

fn texts(file: &str) -> Vec<Field> {
    let text = |field: &Field| field.holds.contains("String") || field.holds.contains("str");
    fields(file).into_iter().filter(text).collect()
}

fn named(fields: &[Field]) -> Vec<String> {
    fields.iter().map(|field| format!("{}.{}", field.of, field.name)).collect()
}

#[test]
fn of_what_is_asked_through_a_port_only_the_filter_of_a_set_is_sql() {
    let mut asked = texts("ports.rs");
    asked.extend(texts("row/selection.rs"));
    asked.extend(texts("plan/copy.rs"));
    let names = [
        "TableRequest.table",
        "TableRequest.columns",
        "JournalNeeds.account",
        "JournalNeeds.lacking",
        "JournalSetup.account",
        "JournalSetup.slot",
        "JournalSetup.slot_name",
        "PublishableTable.name",
        "WriteOrigin.Through",
        "InspectionRequest.tables",
        "CopiedTable.table",
        "CopiedTable.columns",
        "CopiedLink.link",
        "CopiedLink.is",
        "CopiedSlot.name",
        "SourceFollows.link",
        "SourceFollows.slot",
        "CopyMoment.own",
        "CopyMoment.others",
    ];
    let sql = ["TableRequest.filter"];
    let known = |name: &String| names.contains(&&name[..]) || sql.contains(&&name[..]);
    let found = named(&asked);
    let unknown: Vec<&String> = found.iter().filter(|name| !known(name)).collect();
    assert!(unknown.is_empty(), "is each of these a name, and no SQL? {unknown:?}");
    assert_eq!(found.len(), names.len() + sql.len(), "{found:?}");
    // Nor does a port take a statement or a condition as an argument.
    let text = source("ports.rs") + &source("plan/copy.rs");
    for word in ["statement: &str", "condition: &str", "conditions: &[", "sql: &str"] {
        assert!(!text.contains(word), "{word}");
    }
}

#[test]
fn what_a_server_prints_of_itself_is_told_as_it_is_and_nothing_else_is_sql() {
    let files = [
        "fault.rs",
        "row/schema.rs",
        "observe/node.rs",
        "observe/links.rs",
        "observe/log_reach.rs",
        "history/journal.rs",
    ];
    let spelled = |field: &Field| {
        ["SQL", "statement", "condition", "prints", "computed", "have to meet", "fulfil"]
            .iter()
            .any(|word| field.about.contains(word))
    };
    let mut found: Vec<String> = Vec::new();
    for file in files {
        let told: Vec<Field> = texts(file).into_iter().filter(spelled).collect();
        found.extend(named(&told));
    }
    found.sort();
    // Declarations as the server prints them: how a column is made, what its values have to meet, what a publication
    // lets through, which change of shape a journal tells of. And the grant that is lacking, for people to run. They
    // are shown, compared and declared anew, and never sent back through a port.
    let printed = [
        "ColumnShape.declared",
        "ColumnShape.default",
        "ColumnShape.expression",
        "MadeOf.checks",
        "Published.filter",
        "Reference.place",
        "Right.grant",
        "ShapeChange.what",
        "TableLook.checks",
    ];
    assert_eq!(found, printed);
}
