//! Tables, their columns and keys, and the rows in them.

use std::collections::HashMap;
use std::fmt;
use std::sync::Arc;

use crate::value::{Type, Value};

/// A row: one value per column, in the table's column order.
pub type Row = Arc<[Value]>;

/// The values of the key columns, in key order.
pub type Key = Arc<[Value]>;

/// The schema of Gossip's own tables.
pub const SYSTEM_SCHEMA: &str = "gossip";

/// A table's full name. Tables of a source without schemas have an empty `schema`.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
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

    /// One of Gossip's own tables.
    pub fn system(name: &str) -> TableName {
        TableName { schema: SYSTEM_SCHEMA.into(), name: name.into() }
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
    /// The source that it belongs to; `gossip` for system tables.
    pub source: Arc<str>,
    /// Columns in the order of [`Row`].
    pub columns: Vec<Column>,
    /// Indices of the key columns, in key order. Empty: the table has no key and its feeds only add.
    pub key: Vec<usize>,
    /// Whether changes bring the row as it was before.
    pub old_values: bool,
}

impl Table {
    /// Finds a column: by its exact name, else, unless it was `quoted`, without regard to ASCII case.
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

    /// All columns.
    pub fn all_columns(&self) -> ColumnSet {
        (0..self.columns.len()).collect()
    }
}

/// All tables that queries can name.
#[derive(Clone, Debug, Default)]
pub struct Catalog {
    tables: HashMap<TableName, Arc<Table>>,
}

impl Catalog {
    /// Adds a table or puts a new description in the place of an old one.
    pub fn put(&mut self, table: Arc<Table>) {
        self.tables.insert(table.name.clone(), table);
    }

    /// Forgets a table.
    pub fn remove(&mut self, name: &TableName) -> Option<Arc<Table>> {
        self.tables.remove(name)
    }

    /// The table of this exact name.
    pub fn get(&self, name: &TableName) -> Option<&Arc<Table>> {
        self.tables.get(name)
    }

    /// Finds a table by the words of a query: exact first, then, unless `quoted`, without regard to ASCII case.
    pub fn find(&self, schema: Option<&str>, name: &str, quoted: bool) -> Option<&Arc<Table>> {
        let schema = schema.unwrap_or("");
        let exact = TableName { schema: schema.into(), name: name.into() };
        self.tables.get(&exact).or_else(|| {
            if quoted {
                return None;
            }
            self.tables
                .values()
                .find(|t| t.name.schema.eq_ignore_ascii_case(schema) && t.name.name.eq_ignore_ascii_case(name))
        })
    }

    /// All tables, in no particular order.
    pub fn iter(&self) -> impl Iterator<Item = &Arc<Table>> {
        self.tables.values()
    }
}

/// A set of columns of one table.
#[derive(Clone, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ColumnSet {
    // Bit i of word i / 64; no trailing zero words, so that equal sets compare equal.
    words: Vec<u64>,
}

impl ColumnSet {
    /// Whether column `i` is in the set.
    pub fn contains(&self, i: usize) -> bool {
        self.words.get(i / 64).is_some_and(|w| w >> (i % 64) & 1 == 1)
    }

    /// Adds column `i`.
    pub fn insert(&mut self, i: usize) {
        if self.words.len() <= i / 64 {
            self.words.resize(i / 64 + 1, 0);
        }
        self.words[i / 64] |= 1 << (i % 64);
    }

    /// Adds all columns of `other`.
    pub fn union_with(&mut self, other: &ColumnSet) {
        if self.words.len() < other.words.len() {
            self.words.resize(other.words.len(), 0);
        }
        for (a, b) in self.words.iter_mut().zip(&other.words) {
            *a |= b;
        }
    }

    /// Whether all of `other` is in this set.
    pub fn covers(&self, other: &ColumnSet) -> bool {
        other.words.iter().enumerate().all(|(i, w)| w & !self.words.get(i).copied().unwrap_or(0) == 0)
    }

    /// The columns in the set, ascending.
    pub fn iter(&self) -> impl Iterator<Item = usize> + '_ {
        let bits = |(i, w): (usize, &u64)| {
            let w = *w;
            (0..64).filter(move |b| w >> b & 1 == 1).map(move |b| i * 64 + b)
        };
        self.words.iter().enumerate().flat_map(bits)
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
