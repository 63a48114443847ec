//! What a database needs: what is wrong with it, and what has to be done.

use std::fmt;

use gossip_core::plan::LookUp;

/// What has to be done to a database, in order.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Plan {
    /// SQL.
    pub statements: Vec<String>,
    /// What it means for those who write to the database.
    pub effects: Vec<String>,
}

/// What a rule or a query needs of a table, for `check`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Condition {
    /// The table.
    pub table: gossip_core::schema::TableName,
    /// Columns that decide about rows.
    pub columns: Vec<String>,
    /// Those of them that are compared by order.
    pub ordered: Vec<String>,
    /// The columns by which its rows are found, all of which are needed; empty where all rows are read.
    pub found_by: Vec<(String, LookUp)>,
    /// The column that orders a window, whose first rows are found by that alone.
    pub first_by: Option<String>,
    /// Where the condition stands, to be shown: `the rule in line 12`.
    pub place: String,
}

/// What `check` has found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// Whether it keeps something from working.
    pub blocks: bool,
    /// What it is about: a table's name or the source as a whole.
    pub about: String,
    /// What is wrong and what follows from it.
    pub text: String,
    /// SQL or a command that mends it, if there is one.
    pub fix: Option<String>,
}

impl fmt::Display for Finding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.about, self.text)?;
        match &self.fix {
            Some(fix) => write!(f, "\n    fix: {fix}"),
            None => Ok(()),
        }
    }
}
