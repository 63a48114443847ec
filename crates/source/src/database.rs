//! A source's database as any other program uses it: for the workbench, which looks at it and changes rows, and for the
//! demo, whose scenario lives in it. Errors are the database's own.

use serde_json::{Map, Value as Json};

/// What the database says when it refuses.
pub type Result<T> = std::result::Result<T, String>;

/// Rows that can be chosen of a table.
pub(crate) const CHOOSABLE: usize = 200;

/// Longest text that is offered to be changed, in bytes.
pub(crate) const TYPED: usize = 2_000;

/// A column as the database declares it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Column {
    /// Its name.
    pub name: String,
    /// Its declared type.
    pub declared: String,
    /// Whether it must not be NULL.
    pub not_null: bool,
    /// Whether it is part of the key.
    pub key: bool,
    /// The table that it refers to, with the column there.
    pub refers_to: Option<(String, String)>,
}

/// A table as the database has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Inspected {
    /// Its name.
    pub name: String,
    /// Whether the configuration names it.
    pub wanted: bool,
    /// Its columns.
    pub columns: Vec<Column>,
    /// Whether it holds rows of its own, and is no view of others'.
    pub is_table: bool,
    /// Its rows; `None` if there were too many to count in the time.
    pub rows: Option<u64>,
    /// Why it cannot stream, if it cannot.
    pub unfit: Option<Unfit>,
}

/// Why something cannot stream, and what mends it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unfit {
    /// A clause that follows its name.
    pub why: String,
    /// SQL that mends it, where something can; `…` stands for what only its owner knows.
    pub fix: Option<String>,
}

/// The name under which a file's journal mode stands.
pub const JOURNAL_MODE: &str = "journal mode";

/// How something stands on which streaming depends: a publication, a slot, a change log.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Standing {
    /// What it is.
    pub what: String,
    /// How it stands, in a few words.
    pub how: String,
    /// Whether something is wrong with it.
    pub wrong: bool,
}

/// Rows of a table that can be chosen.
#[derive(Clone, Debug, Default)]
pub struct Look {
    /// The rows, by what picks each out: a condition in SQL.
    pub rows: Vec<(String, Map<String, Json>)>,
}

/// How a change made here is recognised in the stream.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KnownBy {
    /// It is in the change log up to here.
    Log(u64),
    /// The database's number for its transaction.
    Transaction(u64),
}

/// What came of a change made here.
#[derive(Clone, Debug)]
pub enum Made {
    /// Committed, and it streams.
    Logged(KnownBy),
    /// Committed, but nothing of it is in the change log: the tables that it changed, and how many rows.
    Unheard(Vec<String>, u64),
    /// Nothing was changed.
    Nothing,
    /// Rolled back, and why.
    Failed(String),
}

/// Runs SQL repeatedly, each time in its own transaction.
pub type Runner = Box<dyn FnMut(&str) -> Result<()>>;

/// A row, as texts.
pub type Cells = Vec<Option<String>>;

/// A database, as any other program uses it.
pub trait Database {
    /// Looks at all tables, and at what looks like one but cannot stream.
    fn inspect(&self) -> Result<Vec<Inspected>>;

    /// How that stands on which streaming depends.
    fn standing(&self) -> Result<Vec<Standing>>;

    /// Some rows of a table, each with the condition that picks it out.
    fn look_at(&self, table: &str) -> Result<Look>;

    /// Runs SQL, and finds out whether its changes stream.
    fn make(&self, sql: &str) -> Made;

    /// Opens the database to run SQL again and again.
    fn runner(&self) -> Result<Runner>;

    /// What it takes to let a table stream no longer.
    fn stop_streaming(&self, table: &str) -> Result<Vec<String>>;

    /// Makes the tables of the demo, from a schema that is written for SQLite; where there are schemas, in one of their
    /// own, which must not be there already, unless an earlier demo has left it.
    fn make_demo(&self, schema: &str) -> Result<()>;

    /// Takes everything of the demo out of a server again. A file goes with its folder.
    fn remove_demo(&self) -> Result<()>;

    /// Connects for the demo. Creates the file if there is none.
    fn store(&self) -> Result<Box<dyn Store>>;
}

/// A connection to the demo's database: SQL in, texts out.
pub trait Store: Send {
    /// Runs statements.
    fn run(&mut self, sql: &str) -> Result<()>;

    /// All rows of a query.
    fn rows(&mut self, sql: &str) -> Result<Vec<Cells>>;

    /// Begins a transaction that will write.
    fn begin(&mut self) -> Result<()>;

    /// A place in the change log at or before which everything in this transaction will stand, and after which nothing
    /// that was committed before it does.
    fn place(&mut self) -> Result<u64>;

    /// SQL that is written for SQLite, in this database's words.
    fn in_dialect(&self, sql: &str) -> String {
        sql.into()
    }

    /// The first row of a query, if there is one.
    fn row(&mut self, sql: &str) -> Result<Option<Cells>> {
        Ok(self.rows(sql)?.into_iter().next())
    }

    /// One number.
    fn number(&mut self, sql: &str) -> Result<i64> {
        let cell = self.row(sql)?.and_then(|r| r.into_iter().next().flatten());
        cell.and_then(|t| t.parse().ok()).ok_or_else(|| format!("no number from {sql}"))
    }
}
