//! Table shapes, as engines describe them.

/// The shape of one table on one node.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct TableShape {
    /// Its columns in declared order.
    pub columns: Vec<ColumnShape>,
    /// The names of the key columns in key order; empty without a key.
    pub key: Vec<String>,
    /// Of columns of the key how many characters count, where that is not all.
    pub key_prefixes: std::collections::BTreeMap<String, u64>,
    /// Column lists that must be unique, the key left out.
    pub unique: Vec<Vec<String>>,
    /// Of these the ones that hold only for some rows, or for a part of the value.
    pub unique_in_part: Vec<Vec<String>>,
    /// Foreign keys.
    pub references: Vec<Reference>,
    /// Foreign keys of other tables, or of its own, that refer to it: `table` is the one that refers,
    /// `columns` are its columns, `to` are ours.
    pub referred_by: Vec<Reference>,
    /// Names of triggers that fire on writes to it.
    pub triggers: Vec<String>,
    /// Those of them that fire on what a script of keen writes, too: no session can switch them off.
    pub firing: Vec<Trigger>,
    /// Why it is not known whether there are any, if so.
    pub firing_unseen: Option<String>,
    /// The storage engine, if it keeps changes when a transaction is rolled back.
    pub not_transactional: Option<String>,
    /// Why keen writes nothing on the node, if so.
    pub untouchable: Option<String>,
    /// Why the node cannot deliver the rows in the key order of [`crate::row::key_order`]
    /// off an index, if so.
    pub unordered: Option<String>,
    /// Schema and name, where the name alone may not be enough.
    pub qualified: Vec<String>,
    /// Tables that inherit from it. Its rows are its own alone; theirs are those of other tables.
    pub heirs: Vec<String>,
    /// How the node stores it, which is no part of its shape.
    pub stored: Beside<StoredTable>,
}

/// Facts that are carried beside others and are no part of them: whatever they are, they make no difference between
/// what carries them.
#[derive(Debug, Clone, Default)]
pub struct Beside<T>(pub T);

impl<T> PartialEq for Beside<T> {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl<T> Eq for Beside<T> {}

/// How a node stores a table.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct StoredTable {
    /// The identity of its parts, another once the table was made anew, emptied or rewritten as a whole; none where
    /// the account may not see it. On servers the numbers of objects and files or of the table, in a file the version
    /// of its schema and the table's first page.
    pub parts: Option<String>,
    /// By column of text, the collation by which the node sorts and compares it.
    pub collations: std::collections::BTreeMap<String, StoredCollation>,
}

/// A collation of a node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredCollation {
    /// Its name, with its provider before where there are several.
    pub name: String,
    /// The version of its rules, where the node tells: two servers sort alike only if it is the same.
    pub version: Option<String>,
}

/// A trigger that fires on single rows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trigger {
    /// Its name.
    pub name: String,
    /// The writes it fires on: insert, update, delete.
    pub on: Vec<String>,
    /// Its body, as the node tells it.
    pub text: String,
}

/// One column on one node.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ColumnShape {
    /// Its name there.
    pub name: String,
    /// Its type as declared; can be empty in SQLite.
    pub declared: String,
    /// The kind that the engine turns written values into.
    pub family: Family,
    /// It refuses NULL.
    pub not_null: bool,
    /// A row can be inserted without naming it.
    pub optional: bool,
    /// The engine computes it.
    pub generated: bool,
    /// Digits of a second that a time or timestamp keeps; none where it keeps microseconds.
    pub fraction: Option<u8>,
    /// The value that it gets where an insert does not name it, as the engine prints that.
    pub default: Option<String>,
    /// How its text sorts and compares, where that is not what the engine does unless told otherwise.
    pub collation: Option<String>,
    /// The engine counts it up.
    pub counted: bool,
    /// Of an enumeration the labels, where the declared type does not spell them.
    pub labels: Vec<String>,
    /// Types and collations that somebody made and that it needs, in the order in which they are to be made.
    pub own_types: Vec<OwnType>,
    /// How it is computed, if the engine computes it.
    pub expression: Option<String>,
    /// An update that does not name it sets it to the moment.
    pub bumped: bool,
    /// It also has a comment, a rule for its values or a property that is told nowhere here, or may have.
    pub says_more: Beside<bool>,
}

/// The labels of a declared type `enum('a','b''c')`.
#[must_use]
pub fn labels_of(declared: &str) -> Vec<String> {
    let mut labels = Vec::new();
    let mut rest = declared;
    while let Some(start) = rest.find('\'') {
        let mut label = String::new();
        let mut chars = rest[start + 1..].char_indices().peekable();
        let mut end = rest.len();
        while let Some((at, c)) = chars.next() {
            if c == '\'' && chars.next_if(|(_, next)| *next == '\'').is_none() {
                end = start + 1 + at + 1;
                break;
            }
            label.push(c);
        }
        labels.push(label);
        rest = &rest[end.min(rest.len())..];
    }
    labels
}

/// A type or a collation that somebody made on a server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OwnType {
    /// As a declaration names it, quoted and with its schema where that is needed.
    pub name: String,
    /// Its meaning.
    pub made_of: MadeOf,
}

/// The definition of a type or a collation of somebody's own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MadeOf {
    /// One of these labels.
    Enum(Vec<String>),
    /// Another type, with rules of its own.
    Domain {
        /// The other type.
        of: String,
        /// How its text sorts, where that is not as the other type's.
        collation: Option<String>,
        /// It refuses NULL.
        not_null: bool,
        /// The value where nothing is said.
        default: Option<String>,
        /// The conditions that values have to meet.
        checks: Vec<String>,
    },
    /// Fields, by name and type.
    Composite(Vec<(String, String)>),
    /// It comes with this extension.
    Extension(String),
    /// A collation.
    Collation {
        /// Who provides it.
        provider: String,
        /// Of which locale.
        locale: String,
        /// Equal texts have equal bytes.
        deterministic: bool,
    },
}

impl ColumnShape {
    /// Its type as declared, and of a domain what that is made of.
    #[must_use]
    pub fn based_on(&self) -> &str {
        let mut declared = &self.declared[..];
        // Of domains over domains each names the next.
        for _ in 0..=self.own_types.len() {
            let own = self.own_types.iter().find(|own| own.name == declared);
            let Some(OwnType { made_of: MadeOf::Domain { of, .. }, .. }) = own else { break };
            declared = of;
        }
        declared
    }
}

/// The kind that a column turns the values written to it into.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub enum Family {
    /// Stores values as they come.
    #[default]
    Any,
    /// Whole numbers; others where they do not fit.
    Integer,
    /// Whole numbers where nothing is lost, else floats.
    Numeric,
    /// Floats.
    Real,
    /// Text; in SQLite numbers become their text.
    Text,
    /// True or false.
    Boolean,
    /// 4-byte floats.
    Single,
    /// Exact decimals.
    Decimal,
    /// Strings of bits.
    Bits,
    /// Bytes.
    Bytes,
    /// Dates.
    Date,
    /// Times of day.
    Time,
    /// Timestamps with a zone.
    Timestamp,
    /// Timestamps without a zone.
    LocalTimestamp,
    /// UUIDs.
    Uuid,
    /// JSON.
    Json,
    /// Something that only the same type of the same engine can be compared with.
    Opaque,
}

/// A foreign key.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Reference {
    /// The referring columns.
    pub columns: Vec<String>,
    /// The table referred to.
    pub table: String,
    /// The other table as a statement names it, quoted and with its schema; empty where that is not needed.
    pub place: String,
    /// The columns referred to.
    pub to: Vec<String>,
    /// The engine changes or deletes referring rows with those referred to, and tells it in no log.
    pub unlogged: bool,
}

impl TableShape {
    /// The column of that name, found as engines find it: exactly, else without regard to ASCII case.
    #[must_use]
    pub fn column(&self, name: &str) -> Option<&ColumnShape> {
        self.columns
            .iter()
            .find(|column| column.name == name)
            .or_else(|| self.columns.iter().find(|column| column.name.eq_ignore_ascii_case(name)))
    }
}

/// Of several unique keys whose columns refuse NULL, the one that serves where there is no primary
/// key: with the fewest columns, then the first by name, so that nodes choose alike. Empty if none.
#[must_use]
pub fn unique_as_key<'a>(unique: impl Iterator<Item = &'a Vec<String>>) -> Vec<String> {
    unique.min_by_key(|list| (list.len(), (*list).clone())).cloned().unwrap_or_default()
}
