//! Tables, their columns and keys, and the rows in them.

use std::collections::{HashMap, HashSet};
use std::fmt;
use std::sync::Arc;

use foldhash::quality::RandomState;
use gossip_protocol::system::{PresenceRow, SystemRow};

use crate::canonical::{Canonical, Encoder};
use crate::value::{Type, Value};

/// A row: one value per column, in the table's column order.
pub type Row = Arc<[Value]>;

/// The values of the key columns, in key order.
pub type Key = Arc<[Value]>;

/// Something for each of some keys. Looked up for every change of a row, so hashed as quickly as keys that others choose allow.
pub type ByKey<T> = HashMap<Key, T, RandomState>;

/// Some keys, hashed like [`ByKey`].
pub type KeySet = HashSet<Key, RandomState>;

/// The schema of Gossip's own tables.
pub const SYSTEM_SCHEMA: &str = gossip_protocol::system::SCHEMA;

/// Gossip's own table of who is present where.
pub const PRESENCE: &str = PresenceRow::SHAPE.name;

/// The stream of row changes, which everybody may read.
pub const ROW_CHANGES: &str = "row_changes";

/// The source that topics belong to. Its positions are local to each instance: events have no global order.
pub const TOPIC_SOURCE: &str = "topics";

/// A table's full name. Tables of a source without schemas have an empty `schema`.
#[derive(Clone, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct TableName {
    /// The schema, or empty.
    pub schema: Arc<str>,
    /// The table's own name.
    pub name: Arc<str>,
}

impl TableName {
    /// A table of a source without schemas.
    pub fn plain(name: &str) -> TableName {
        TableName { schema: "".into(), name: name.into() }
    }

    /// Reads a name as it is shown: `table` or `schema.table`.
    pub fn parse(text: &str) -> TableName {
        match text.split_once('.') {
            Some((schema, name)) => TableName { schema: schema.into(), name: name.into() },
            None => TableName::plain(text),
        }
    }

    /// One of Gossip's own tables.
    pub fn system(name: &str) -> TableName {
        TableName { schema: SYSTEM_SCHEMA.into(), name: name.into() }
    }

    /// Whether this is the stream of row changes.
    pub fn is_row_changes(&self) -> bool {
        self.is_system() && &*self.name == ROW_CHANGES
    }

    /// Whether this is one of Gossip's own tables.
    pub fn is_system(&self) -> bool {
        &*self.schema == SYSTEM_SCHEMA
    }
}

impl fmt::Display for TableName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.schema.is_empty() { f.write_str(&self.name) } else { write!(f, "{}.{}", self.schema, self.name) }
    }
}

impl fmt::Debug for TableName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}")
    }
}

/// One column of a table.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Column {
    /// Its name, as the database has it.
    pub name: Arc<str>,
    /// Its type.
    pub ty: Type,
}

/// A table as the engine knows it.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Table {
    /// Full name.
    pub name: TableName,
    /// Its source; `gossip` for system tables.
    pub source: Arc<str>,
    /// Columns in the order of [`Row`].
    pub columns: Vec<Column>,
    /// Indices of the key columns, in key order. Empty: the table has no key and its feeds only add.
    pub key: Vec<usize>,
    /// Whether changes carry the old row.
    pub old_values: bool,
    /// Changes when all rows may have been replaced without a change for each: the table was recreated, rewritten
    /// or reassembled. 0 if the source detects that in another way.
    pub incarnation: u64,
}

impl Table {
    /// Finds a column: by its exact name, else, unless it was `quoted`, ignoring ASCII case.
    pub fn column(&self, name: &str, quoted: bool) -> Option<usize> {
        let exact = self.columns.iter().position(|c| &*c.name == name);
        exact.or_else(|| {
            (!quoted).then(|| self.columns.iter().position(|c| c.name.eq_ignore_ascii_case(name))).flatten()
        })
    }

    /// The key of a row of this table.
    pub fn key_of(&self, row: &[Value]) -> Key {
        self.key.iter().map(|&i| row[i].clone()).collect()
    }

    /// Whether it says how Gossip itself does. Presence does not, which is about people, nor does the stream of row changes.
    pub fn is_of_operators(&self) -> bool {
        &*self.source == SYSTEM_SCHEMA && &*self.name.name != PRESENCE
    }

    /// Whether its rows are events of a topic.
    pub fn is_topic(&self) -> bool {
        &*self.source == TOPIC_SOURCE
    }

    /// Whether clients can publish to it.
    pub fn takes_events(&self) -> bool {
        self.is_topic() || self.name == TableName::system(PRESENCE)
    }

    /// All columns.
    pub fn all_columns(&self) -> ColumnSet {
        (0..self.columns.len()).collect()
    }

    /// Identifies the description, equally on every instance. Never 0.
    pub fn identity(&self) -> u64 {
        let mut identity = Encoder::new("table");
        self.encode(&mut identity);
        identity.short_digest().max(1)
    }
}

/// A table with its [`Table::identity`], computed once: every change carries it.
#[derive(Clone, Debug, PartialEq)]
pub struct Identified {
    table: Arc<Table>,
    identity: u64,
}

impl Identified {
    /// Computes the identity.
    pub fn new(table: Arc<Table>) -> Identified {
        Identified { identity: table.identity(), table }
    }

    /// The table.
    pub fn table(&self) -> &Arc<Table> {
        &self.table
    }

    /// Its [`Table::identity`].
    pub fn identity(&self) -> u64 {
        self.identity
    }
}

impl std::ops::Deref for Identified {
    type Target = Table;

    fn deref(&self) -> &Table {
        &self.table
    }
}

/// All tables that queries can name.
#[derive(Clone, Debug, Default)]
pub struct Catalog {
    /// The schema used where none is named; its tables have an empty one.
    pub default_schema: Arc<str>,
    tables: HashMap<TableName, Identified>,
}

impl Catalog {
    /// A catalog without tables.
    pub fn new(default_schema: &str) -> Catalog {
        Catalog { default_schema: default_schema.into(), tables: HashMap::new() }
    }

    /// Adds a table or replaces its description.
    pub fn put(&mut self, table: Arc<Table>) {
        self.tables.insert(table.name.clone(), Identified::new(table));
    }

    /// Removes a table.
    pub fn remove(&mut self, name: &TableName) -> Option<Arc<Table>> {
        self.tables.remove(name).map(|e| e.table)
    }

    /// The table of this exact name.
    pub fn get(&self, name: &TableName) -> Option<&Arc<Table>> {
        self.tables.get(name).map(|e| &e.table)
    }

    /// The [`Table::identity`] of the table of this exact name.
    pub fn identity(&self, name: &TableName) -> Option<u64> {
        self.tables.get(name).map(|e| e.identity)
    }

    /// Finds a table by its name in a query: exact first, then, unless `quoted`, ignoring ASCII case.
    pub fn find(&self, schema: Option<&str>, name: &str, quoted: bool) -> Option<&Arc<Table>> {
        let schema = schema.filter(|s| **s != *self.default_schema).unwrap_or("");
        let exact = TableName { schema: schema.into(), name: name.into() };
        self.get(&exact).or_else(|| {
            if quoted {
                return None;
            }
            self.iter().find(|t| t.name.schema.eq_ignore_ascii_case(schema) && t.name.name.eq_ignore_ascii_case(name))
        })
    }

    /// All tables, in no particular order.
    pub fn iter(&self) -> impl Iterator<Item = &Arc<Table>> {
        self.tables.values().map(|e| &e.table)
    }
}

/// A set of columns of one table or result. Does not allocate for up to 64 columns: every row of a result has one.
#[derive(Clone, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ColumnSet {
    /// Bit i is column i.
    first: u64,
    /// Bit i of word w is column 64 (w + 1) + i; no trailing zero words and never empty, so that equal sets compare
    /// equal.
    #[expect(clippy::box_collection, reason = "a thin pointer: every row of a result has one")]
    rest: Option<Box<Vec<u64>>>,
}

impl ColumnSet {
    fn word(&self, w: usize) -> u64 {
        match (w, &self.rest) {
            (0, _) => self.first,
            (w, Some(rest)) => rest.get(w - 1).copied().unwrap_or(0),
            (_, None) => 0,
        }
    }

    fn words(&self) -> usize {
        1 + self.rest.as_ref().map_or(0, |r| r.len())
    }

    fn set_word(&mut self, w: usize, to: u64) {
        if w == 0 {
            self.first = to;
            return;
        }
        let mut rest = self.rest.take().unwrap_or_default();
        if rest.len() < w {
            rest.resize(w, 0);
        }
        rest[w - 1] = to;
        while rest.last() == Some(&0) {
            rest.pop();
        }
        self.rest = (!rest.is_empty()).then_some(rest);
    }

    /// Whether column `i` is in the set.
    pub fn contains(&self, i: usize) -> bool {
        self.word(i / 64) >> (i % 64) & 1 == 1
    }

    /// Adds column `i`.
    pub fn insert(&mut self, i: usize) {
        match i {
            0..64 => self.first |= 1 << i,
            _ => self.set_word(i / 64, self.word(i / 64) | 1 << (i % 64)),
        }
    }

    /// Whether a column is in both.
    pub fn meets(&self, other: &ColumnSet) -> bool {
        self.first & other.first != 0 || (1..self.words()).any(|w| self.word(w) & other.word(w) != 0)
    }

    /// Whether no column is in it.
    pub fn is_empty(&self) -> bool {
        self.first == 0 && self.rest.is_none()
    }

    /// Removes all columns of `other`.
    pub fn remove_all(&mut self, other: &ColumnSet) {
        (0..self.words()).rev().for_each(|w| self.set_word(w, self.word(w) & !other.word(w)));
    }

    /// Adds all columns of `other`.
    pub fn union_with(&mut self, other: &ColumnSet) {
        (0..other.words()).for_each(|w| self.set_word(w, self.word(w) | other.word(w)));
    }

    /// Whether all of `other` is in this set.
    pub fn covers(&self, other: &ColumnSet) -> bool {
        (0..other.words()).all(|w| other.word(w) & !self.word(w) == 0)
    }

    /// The columns in the set, ascending.
    pub fn iter(&self) -> impl Iterator<Item = usize> + '_ {
        let some = |word: u64| (word != 0).then_some(word);
        // Each bit is taken from the word in turn, the lowest first.
        let left = move |w: usize| std::iter::successors(some(self.word(w)), move |word| some(word & (word - 1)));
        (0..self.words()).flat_map(move |w| left(w).map(move |word| w * 64 + word.trailing_zeros() as usize))
    }
}

impl FromIterator<usize> for ColumnSet {
    fn from_iter<I: IntoIterator<Item = usize>>(columns: I) -> Self {
        let mut set = ColumnSet::default();
        columns.into_iter().for_each(|i| set.insert(i));
        set
    }
}

impl fmt::Debug for ColumnSet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_set().entries(self.iter()).finish()
    }
}

impl Canonical for TableName {
    fn encode(&self, to: &mut Encoder) {
        to.text(&self.schema);
        to.text(&self.name);
    }
}

impl Canonical for Column {
    fn encode(&self, to: &mut Encoder) {
        to.text(&self.name);
        self.ty.encode(to);
    }
}

impl Canonical for ColumnSet {
    fn encode(&self, to: &mut Encoder) {
        to.list(&self.iter().collect::<Vec<usize>>());
    }
}

impl Canonical for Table {
    fn encode(&self, to: &mut Encoder) {
        self.name.encode(to);
        to.text(&self.source);
        to.list(&self.columns);
        to.list(&self.key);
        to.tag(u8::from(self.old_values));
        to.number(self.incarnation);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sets_of_many_columns_are_sets() {
        let of = |columns: &[usize]| columns.iter().copied().collect::<ColumnSet>();
        let mut set = of(&[0, 63, 64, 200]);
        assert_eq!(set.iter().collect::<Vec<_>>(), [0, 63, 64, 200]);
        assert!(set.covers(&of(&[63, 200])) && !set.covers(&of(&[1])) && !of(&[0]).covers(&set));
        set.remove_all(&of(&[63, 64, 200, 300]));
        assert_eq!(set, of(&[0]), "equal whatever was in it before");
        set.union_with(&of(&[129]));
        assert_eq!(set, of(&[129, 0]));
        set.remove_all(&of(&[0, 129]));
        assert!(set.is_empty() && set == ColumnSet::default());
    }
}
